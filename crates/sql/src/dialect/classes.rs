//! What sort of value a declared type holds, as far as comparisons and literals are concerned.

/// A sort of value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Class {
    /// Numbers.
    Number,
    /// Texts.
    Text,
    /// Days and times.
    Moment,
    /// Anything else, or not known.
    Other,
}

/// The sort of a declared type, in any of the languages.
pub fn class(declared: &str) -> Class {
    let lower = declared.trim().to_ascii_lowercase();
    let word: String = lower.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
    if lower.ends_with(']') {
        return Class::Other;
    }
    match word.as_str() {
        "int" | "integer" | "bigint" | "smallint" | "tinyint" | "mediumint" | "int2" | "int4" | "int8"
        | "serial" | "bigserial" | "smallserial" | "real" | "double" | "float" | "float4" | "float8"
        | "decimal" | "dec" | "numeric" | "number" | "money" | "fixed" | "year" => Class::Number,
        "text" | "varchar" | "char" | "character" | "nvarchar" | "nchar" | "clob" | "tinytext"
        | "mediumtext" | "longtext" | "bpchar" | "name" | "citext" => Class::Text,
        "date" | "datetime" | "timestamp" | "timestamptz" | "time" | "timetz" => Class::Moment,
        _ => Class::Other,
    }
}

/// How many characters a declared type holds, where it says so: `varchar(20)`.
pub fn length(declared: &str) -> Option<usize> {
    if class(declared) != Class::Text {
        return None;
    }
    let inner = declared.split_once('(')?.1.split(')').next()?;
    inner.trim().parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declared_types() {
        for (declared, of, room) in [
            ("VARCHAR(20)", Class::Text, Some(20)),
            ("character varying(5)", Class::Text, Some(5)),
            ("DECIMAL(8,2)", Class::Number, None),
            ("bigint unsigned", Class::Number, None),
            ("timestamp without time zone", Class::Moment, None),
            ("text[]", Class::Other, None),
            ("", Class::Other, None),
            ("enum('a')", Class::Other, None),
        ] {
            assert_eq!((class(declared), length(declared)), (of, room), "{declared}");
        }
    }
}
