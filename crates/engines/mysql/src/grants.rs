//! What this user may see. The server shows only what its user has rights on: a trigger, or a table that refers to the
//! target, that cannot be seen is there all the same.

use marktwice_port::EngineError;

use crate::client::My;

/// Rights on tables that make a table visible, whichever of them it is.
const MAKES_VISIBLE: &[&str] = &[
    "ALL PRIVILEGES",
    "SELECT",
    "INSERT",
    "UPDATE",
    "DELETE",
    "CREATE",
    "DROP",
    "REFERENCES",
    "INDEX",
    "ALTER",
    "CREATE VIEW",
    "SHOW VIEW",
    "TRIGGER",
    "DELETE HISTORY",
    "DELETE VERSIONING ROWS",
];

/// One GRANT.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Grant {
    /// Rights on the whole of it, in capitals.
    rights: Vec<String>,
    /// The database, as a pattern; `None` for all.
    schema: Option<String>,
    /// The table; `None` for all.
    table: Option<String>,
}

/// All rights of this user, those of its roles included.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Grants(Vec<Grant>);

/// Reads the user's rights.
pub(crate) fn grants(my: &mut My) -> Result<Grants, EngineError> {
    // What everybody has too; servers that do not know that say so.
    let both = my.several(&["SHOW GRANTS", "SHOW GRANTS FOR PUBLIC"]);
    let lines = both.or_else(|_| my.several(&["SHOW GRANTS"]))?.concat();
    Ok(Grants(lines.into_iter().filter_map(|row| read(row.first()?.as_deref()?)).collect()))
}

/// Cuts a text at a word that stands outside of backticks and parentheses.
fn cut<'t>(text: &'t str, at: &str) -> Option<(&'t str, &'t str)> {
    let (mut quoted, mut depth) = (false, 0usize);
    for (here, c) in text.char_indices() {
        match c {
            '`' => quoted = !quoted,
            '(' if !quoted => depth += 1,
            ')' if !quoted => depth = depth.saturating_sub(1),
            _ => {}
        }
        if !quoted && depth == 0 && text.get(here..).is_some_and(|rest| rest.starts_with(at)) {
            return Some((text.get(..here)?, text.get(here + at.len()..)?));
        }
    }
    None
}

fn read(line: &str) -> Option<Grant> {
    let (rights, rest) = cut(line.strip_prefix("GRANT ")?, " ON ")?;
    let (object, _) = cut(rest, " TO ")?;
    let object = object.strip_prefix("TABLE ").unwrap_or(object);
    let (schema, table) = cut(object, ".")?;
    let name = |text: &str| (text != "*").then(|| text.trim_matches('`').replace("``", "`"));
    let mut all = Vec::new();
    let mut rest = rights;
    loop {
        let (one, more) = cut(rest, ",").unwrap_or((rest, ""));
        // A right on some columns only is none on the whole.
        if !one.contains('(') {
            all.push(one.trim().to_ascii_uppercase());
        }
        if more.is_empty() {
            break;
        }
        rest = more;
    }
    Some(Grant { rights: all, schema: name(schema), table: name(table) })
}

/// Whether a database's name fits the pattern of a grant: `%` and `_` stand for anything unless escaped.
fn fits(pattern: &[u8], name: &[u8]) -> bool {
    match (pattern, name) {
        ([], []) => true,
        ([b'%', rest @ ..], _) => {
            (0..=name.len()).any(|n| name.get(n..).is_some_and(|tail| fits(rest, tail)))
        }
        ([b'\\', c, rest @ ..], [d, tail @ ..]) => c == d && fits(rest, tail),
        ([b'_', rest @ ..], [_, tail @ ..]) => fits(rest, tail),
        ([c, rest @ ..], [d, tail @ ..]) => c.eq_ignore_ascii_case(d) && fits(rest, tail),
        _ => false,
    }
}

impl Grants {
    fn on<'g>(&'g self, schema: &'g str, table: &'g str) -> impl Iterator<Item = &'g Grant> {
        self.0.iter().filter(move |g| {
            g.schema.as_ref().is_none_or(|s| match g.table {
                None => fits(s.as_bytes(), schema.as_bytes()),
                Some(_) => s == schema,
            }) && g.table.as_ref().is_none_or(|t| t == table)
        })
    }

    /// Whether this user has a right on the whole of a table.
    pub(crate) fn has(&self, right: &str, schema: &str, table: &str) -> bool {
        self.on(schema, table).any(|g| g.rights.iter().any(|r| r == right || r == "ALL PRIVILEGES"))
    }

    /// Whether this user has a right on the server.
    pub(crate) fn global(&self, right: &str) -> bool {
        let global = self.0.iter().filter(|g| g.schema.is_none());
        global.into_iter().any(|g| g.rights.iter().any(|r| r == right || r == "ALL PRIVILEGES"))
    }

    /// Whether all tables of a database can be seen; of all databases without a name.
    pub(crate) fn sees(&self, schema: Option<&str>) -> bool {
        self.0.iter().any(|g| {
            let covers = match (schema, &g.schema) {
                (_, None) => true,
                (Some(name), Some(pattern)) => fits(pattern.as_bytes(), name.as_bytes()),
                (None, Some(_)) => false,
            };
            covers && g.table.is_none() && g.rights.iter().any(|r| MAKES_VISIBLE.contains(&r.as_str()))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(lines: &[&str]) -> Grants {
        Grants(lines.iter().filter_map(|line| read(line)).collect())
    }

    #[test]
    fn rights_are_read_as_the_server_writes_them() {
        let ann = of(&[
            "GRANT `r1` TO `ann`@`localhost`",
            "GRANT USAGE ON *.* TO `ann`@`localhost`",
            "GRANT CREATE TEMPORARY TABLES ON `coop`.* TO `ann`@`localhost`",
            "GRANT SELECT, UPDATE (`note`, `a ON b`), DELETE ON `coop`.`hive` TO `ann`@`localhost`",
        ]);
        assert!(ann.has("SELECT", "coop", "hive") && ann.has("DELETE", "coop", "hive"));
        assert!(!ann.has("UPDATE", "coop", "hive") && !ann.has("SELECT", "coop", "keeper"));
        assert!(!ann.sees(Some("coop")) && !ann.sees(None) && !ann.global("PROCESS"));
        let bea = of(&["GRANT TRIGGER, SELECT ON `co\\_op%`.* TO `bea`@`%` WITH GRANT OPTION"]);
        assert!(bea.has("TRIGGER", "co_op2", "hive") && bea.sees(Some("co_op")));
        assert!(!bea.has("TRIGGER", "coXop", "hive") && !bea.sees(None));
        let root = of(&["GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` WITH GRANT OPTION"]);
        assert!(root.sees(None) && root.global("PROCESS") && root.has("TRIGGER", "a", "b"));
    }
}
