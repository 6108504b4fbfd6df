//! Column affinity, by the rules of <https://sqlite.org/datatype3.html#determination_of_column_affinity>.

/// A type name that has the affinity of a declared type. The declared text itself may hold anything, so it is
/// never pasted into a definition of ours. STRICT tables have six types only, and those are kept.
pub(crate) fn type_name(declared: &str, strict: bool) -> &'static str {
    let upper = declared.to_ascii_uppercase();
    if strict {
        return match upper.as_str() {
            "INT" | "INTEGER" => "INTEGER",
            "REAL" => "REAL",
            "TEXT" => "TEXT",
            "BLOB" => "BLOB",
            _ => "ANY",
        };
    }
    let has = |part: &str| upper.contains(part);
    if has("INT") {
        "INT"
    } else if has("CHAR") || has("CLOB") || has("TEXT") {
        "TEXT"
    } else if upper.is_empty() || has("BLOB") {
        "BLOB"
    } else if has("REAL") || has("FLOA") || has("DOUB") {
        "REAL"
    } else {
        "NUM"
    }
}

#[cfg(test)]
mod tests {
    use super::type_name;

    #[test]
    fn rules_in_order() {
        for (declared, name) in [
            ("BIGINT", "INT"),
            ("CHARINT", "INT"),
            ("VARCHAR(20)", "TEXT"),
            ("", "BLOB"),
            ("DOUBLE PRECISION", "REAL"),
            ("FLOATING POINT", "INT"),
            ("DECIMAL(10,2)", "NUM"),
            ("DATE", "NUM"),
        ] {
            assert_eq!(type_name(declared, false), name, "{declared}");
        }
        assert_eq!(type_name("any", true), "ANY");
        assert_eq!(type_name("ANY", false), "NUM");
    }
}
