//! Composing a statement from a table, a key and values, as `set` and `draft` need it. What a person typed becomes a
//! literal of the column's type, or is refused; it never becomes part of the statement's grammar.

use marktwice_core::Value;
use marktwice_core::table::{Column, KeyKind, Target};
use marktwice_port::{Composed, Draft, Uncomposed, Which, Work};

use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;
use crate::text::in_parentheses;
use marktwice_core::near::nearest;

pub mod merge;
mod moments;
mod values;

pub use moments::days;
use moments::{Op, assigned};

use values::literal;
pub use values::{typed, was};

fn wrong(message: impl Into<String>, hint: impl Into<String>) -> Uncomposed {
    Uncomposed { message: message.into(), hint: hint.into() }
}

/// A name of a table as it is typed, `schema.table` or `table`, quotes left out.
pub fn table_name(typed: &str) -> (Option<String>, String) {
    let bare = |part: &str| part.trim_matches(['"', '`', '[', ']']).to_owned();
    match typed.split_once('.') {
        Some((schema, table)) if !schema.is_empty() && !table.is_empty() => (Some(bare(schema)), bare(table)),
        _ => (None, bare(typed)),
    }
}

/// The table as it is written in a composed statement.
fn table(language: Language, target: &Target, schema_said: bool) -> String {
    let name = language.name(&target.table);
    // A SQLite file is one schema.
    if schema_said && language != Language::Sqlite {
        format!("{}.{name}", language.name(&target.schema))
    } else {
        name
    }
}

/// `INSERT INTO table (columns) VALUES …`, with values as they were typed.
///
/// # Errors
/// Where a column cannot hold one.
pub fn incoming(
    language: Language,
    (target, schema): (&Target, bool),
    columns: &[usize],
    rows: &[Vec<String>],
) -> Result<String, Uncomposed> {
    let columns: Vec<&Column> = columns.iter().filter_map(|at| target.columns.get(*at)).collect();
    let names: Vec<String> = columns.iter().map(|column| language.name(&column.name)).collect();
    let mut lines = Vec::new();
    for row in rows {
        let values = columns.iter().zip(row).map(|(column, typed)| literal(language, column, typed));
        lines.push(format!("({})", values.collect::<Result<Vec<_>, _>>()?.join(", ")));
    }
    let own = table(language, target, schema);
    Ok(format!("INSERT INTO {own} ({})\nVALUES {}", names.join(", "), lines.join(",\n       ")))
}

/// `column=value`, split and looked up.
///
/// # Errors
/// Where there is no such column, or no equals sign.
fn pair<'t, 'a>(target: &'t Target, typed: &'a str) -> Result<(&'t Column, &'a str), Uncomposed> {
    let (name, value) = typed.split_once('=').ok_or_else(|| {
        wrong(format!("{typed} has no equals sign"), "write COLUMN=VALUE, without blanks around it")
    })?;
    let at = target.position(name.trim()).ok_or_else(|| {
        let (message, hint) = target.no_column(name.trim());
        wrong(message, hint)
    })?;
    let column = target.columns.get(at).ok_or_else(|| wrong("no such column", "look at the table"))?;
    Ok((column, value))
}

/// A condition for about one in `nth` of the rows that meet another, by a key that is one whole number; and its column.
pub fn sample(
    language: Language,
    target: &Target,
    condition: Option<&str>,
    nth: u64,
) -> Option<(String, String)> {
    let [key] = target.key.names.as_slice() else { return None };
    let declared = target.position(key).and_then(|at| target.columns.get(at)).map(|c| c.declared.as_str());
    let whole = match declared {
        Some(declared) => declared.to_ascii_lowercase().contains("int"),
        None => identity(target).is_some(),
    };
    let own = format!("{} % {nth} = 0", language.name(key));
    let both = condition.map_or_else(|| own.clone(), |other| format!("{} AND {own}", in_parentheses(other)));
    whole.then(|| (both, key.clone()))
}

/// `column=value`, `column+=value` or `column-=value`, split and looked up.
fn assignment<'t, 'a>(target: &'t Target, typed: &'a str) -> Result<(&'t Column, Op, &'a str), Uncomposed> {
    if let Some((name, value)) =
        typed.split_once('=').filter(|(name, _)| target.position(name.trim()).is_none())
    {
        for (sign, op) in [('+', Op::Add), ('-', Op::Subtract)] {
            let column = name.trim().strip_suffix(sign).and_then(|name| target.position(name.trim()));
            if let Some(column) = column.and_then(|at| target.columns.get(at)) {
                return Ok((column, op, value));
            }
        }
    }
    pair(target, typed).map(|(column, value)| (column, Op::Set, value))
}

/// The rows that a key names: conditions, one for each key.
///
/// `418`, or `hive_id=3,season=2026`, or a unique column by name; several keys, separated by commas or, where columns
/// are named, by semicolons, only where `several` says that they are meant.
///
/// # Errors
/// Where that is no key of the table, or names several rows unasked.
fn key(
    language: Language,
    target: &Target,
    keys: &[Vec<String>],
    typed: &str,
    several: bool,
) -> Result<Vec<String>, Uncomposed> {
    let names = target.key.names.as_slice();
    let identity = |name: &str| identity(target).is_some_and(|own| own.eq_ignore_ascii_case(name));
    let named = typed
        .split_once('=')
        .is_some_and(|(name, _)| target.position(name.trim()).is_some() || identity(name.trim()));
    let declared = !target.key.columns.is_empty();
    if !named {
        let rows: Vec<&str> = if several { typed.split(';').collect() } else { vec![typed] };
        let whole = |row: &&str| row.split(',').count() == names.len();
        if names.len() > 1 && declared && rows.iter().all(whole) {
            // The values of the key in its order, as a preview shows it.
            return rows
                .into_iter()
                .map(|row| {
                    let pairs = names.iter().zip(row.split(','));
                    let named: Vec<String> =
                        pairs.map(|(name, value)| format!("{name}={}", value.trim())).collect();
                    one_row(language, target, keys, &named.join(","))
                })
                .collect();
        }
        let [only] = names else {
            let example: Vec<String> = names.iter().map(|n| format!("{n}=…")).collect();
            let hint = match names.is_empty() || !declared {
                true => {
                    "give the table a key, or write a change with a filter that you have looked at".to_owned()
                }
                false => {
                    format!("write {}, or the values in this order with commas between", example.join(","))
                }
            };
            return Err(wrong(format!("{} has no key of one column", target.table), hint));
        };
        if !declared {
            return Err(wrong(
                format!("{} has no key: its rows have a number that nobody declared ({only})", target.table),
                format!(
                    "write {only}={typed} if that is the number that marktwice look shows, or name columns"
                ),
            ));
        }
        let column = target.position(only).and_then(|at| target.columns.get(at));
        let column = column.ok_or_else(|| wrong("the key is no column", "look at the table"))?;
        let values: Vec<&str> = if several { typed.split(',').collect() } else { vec![typed] };
        if !several && typed.contains(',') && class(&column.declared) == Class::Number {
            return Err(wrong(
                format!("{typed} names several rows, and one is meant unless you say so"),
                "add --several to write all of them",
            ));
        }
        return values
            .iter()
            .map(|value| Ok(format!("{} = {}", language.name(only), own(language, column, value.trim())?)))
            .collect();
    }
    let rows: Vec<&str> = if several { typed.split(';').collect() } else { vec![typed] };
    rows.into_iter().map(|row| one_row(language, target, keys, row)).collect()
}

/// The name of the number by which the engine tells rows of a table apart that declares no key.
fn identity(target: &Target) -> Option<&str> {
    let own = target.key.kind == KeyKind::RowIdentity && target.key.columns.is_empty();
    target.key.names.first().filter(|_| own).map(String::as_str)
}

fn own(language: Language, column: &Column, value: &str) -> Result<String, Uncomposed> {
    let literal = literal(language, column, value)?;
    if ["NULL", "DEFAULT"].contains(&literal.as_str()) {
        return Err(wrong(format!("{value} is no key"), "write the value of the key"));
    }
    Ok(literal)
}

fn one_row(
    language: Language,
    target: &Target,
    keys: &[Vec<String>],
    typed: &str,
) -> Result<String, Uncomposed> {
    if let (Some(own), Some((name, value))) = (identity(target), typed.split_once('='))
        && own.eq_ignore_ascii_case(name.trim())
    {
        let number = value.trim().parse::<i64>();
        let number = number.map_err(|_| wrong(format!("{own} is a whole number"), "write that number"))?;
        return Ok(format!("{} = {number}", language.name(own)));
    }
    let mut named: Vec<&str> = Vec::new();
    let mut terms = Vec::new();
    for part in parts(target, typed) {
        let (column, value) = pair(target, part)?;
        named.push(&column.name);
        terms.push(format!("{} = {}", language.name(&column.name), own(language, column, value)?));
    }
    let whole = |columns: &[String]| columns.iter().all(|c| named.iter().any(|n| n == c));
    if keys.iter().any(|columns| !columns.is_empty() && whole(columns)) {
        return Ok(terms.join(" AND "));
    }
    let all: Vec<String> = keys.iter().map(|columns| columns.join(" and ")).collect();
    let hint = if all.is_empty() {
        "the table declares none: write a change with a filter that you have looked at".to_owned()
    } else {
        format!("what pins one row: {}", all.join(", or "))
    };
    Err(wrong(format!("{} is no whole key of {}", named.join(" and "), target.table), hint))
}

/// `a=1,b=x,y` at the commas that a column's name and an equals sign follow.
fn parts<'a>(target: &Target, typed: &'a str) -> Vec<&'a str> {
    let mut starts = vec![0];
    for (at, _) in typed.match_indices(',') {
        let next = typed.get(at + 1..).and_then(|rest| rest.split_once('=')).map(|(name, _)| name.trim());
        if next.is_some_and(|name| target.position(name).is_some()) {
            starts.push(at + 1);
        }
    }
    let ends = starts.iter().skip(1).map(|s| s - 1).chain([typed.len()]);
    starts.iter().zip(ends).filter_map(|(start, end)| typed.get(*start..end)).collect()
}

/// Writes a plain statement.
///
/// # Errors
/// Where what was typed names no row or no column, or does not fit.
pub fn compose(language: Language, draft: &Draft<'_>) -> Result<Composed, Uncomposed> {
    let Draft { target, schema, work, rows } = *draft;
    let (condition, count) = match rows {
        Which::All => (None, None),
        Which::Condition(condition) => (Some(condition.to_owned()), None),
        Which::Typed { key: typed, keys, several } => {
            let rows = key(language, target, keys, typed, several)?;
            // Values of the key alone stand in one list.
            let list = match target.key.names.as_slice() {
                [only] if rows.len() > 1 && !typed.contains('=') => {
                    let name = language.name(only);
                    let values = rows.iter().map(|row| row.strip_prefix(&format!("{name} = ")));
                    let values: Option<Vec<&str>> = values.collect();
                    values.map(|values| format!("{name} IN ({})", values.join(", ")))
                }
                _ => None,
            };
            (Some(list.unwrap_or_else(|| any_of(&rows))), Some(rows.len() as u64))
        }
        Which::Row { key, row } => one_of(language, target, key, row),
    };
    let table = table(language, target, schema);
    let place = condition.as_ref().map_or(String::new(), |c| format!("\n WHERE {c}"));
    let text = match work {
        Work::Delete => format!("DELETE FROM {table}{place}"),
        Work::Set(typed) => {
            let mut sets = Vec::new();
            for typed in typed {
                let (column, op, value) = assignment(target, typed)?;
                let value = assigned(language, column, op, value)?;
                sets.push(format!("{} = {value}", language.name(&column.name)));
            }
            format!("UPDATE {table}\n   SET {}{place}", sets.join(",\n       "))
        }
        Work::SetEach => {
            let free = target.columns.iter().enumerate();
            let free = free.filter(|(at, c)| !c.generated && !target.key.columns.contains(at));
            let sets: Vec<String> = free.map(|(_, c)| format!("{0} = {0}", language.name(&c.name))).collect();
            format!("UPDATE {table}\n   SET {}{place}", sets.join(",\n       "))
        }
    };
    Ok(Composed { text, condition, rows: count })
}

/// The condition that one row meets: its key, and where it has none what names it. How many rows that are is known of a
/// key only.
fn one_of(
    language: Language,
    target: &Target,
    key: &[Value],
    row: &[Value],
) -> (Option<String>, Option<u64>) {
    let names = target.key.names.iter().map(|k| language.name(k));
    let values = key.iter().map(|v| language.literal(v));
    let terms: Option<Vec<String>> =
        names.zip(values).map(|(name, value)| Some(format!("{name} = {}", value?))).collect();
    if let Some(terms) = terms.filter(|t| !t.is_empty()) {
        return (Some(terms.join(" AND ")), Some(1));
    }
    // Without a key there is only what the row holds.
    let near = nearest("name", target.columns.iter().map(|c| c.name.as_str()));
    let column = near.or_else(|| target.columns.first().map(|c| c.name.as_str())).unwrap_or("");
    let at = target.position(column).unwrap_or(0);
    let term = match row.get(at) {
        Some(value) if !value.is_null() => language.literal(value).map(|v| format!("= {v}")),
        _ => None,
    };
    let term = term.unwrap_or_else(|| "IS NULL".to_owned());
    (Some(format!("{} {term}", language.name(column))), None)
}

fn any_of(rows: &[String]) -> String {
    match rows {
        [one] => one.clone(),
        many => format!("({})", many.join(") OR (")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::table::Key;

    fn target() -> Target {
        let column = |name: &str, declared: &str| Column {
            name: name.into(),
            declared: declared.into(),
            generated: name == "sum",
            not_null: name == "day",
        };
        Target {
            table: "hive_season".into(),
            schema: "main".into(),
            columns: vec![
                column("hive", "int"),
                column("season", "int"),
                column("tag", "varchar(9)"),
                column("day", "date"),
                column("kilos", "decimal(8,2)"),
                column("sum", "int"),
                column("any", ""),
            ],
            key: Key {
                kind: KeyKind::Primary,
                names: vec!["hive".into(), "season".into()],
                columns: vec![0, 1],
            },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        }
    }

    #[test]
    fn values_become_literals_of_their_type() {
        let target = target();
        let of = |language, typed: &str| {
            let (column, value) = pair(&target, typed).map_err(|e| e.message)?;
            literal(language, column, value).map_err(|e| e.message)
        };
        for (typed, expected) in [
            ("tag=O'Neill", "'O''Neill'"),
            ("tag=", "''"),
            ("tag=NULL", "NULL"),
            ("tag='NULL'", "'NULL'"),
            ("tag=DEFAULT", "DEFAULT"),
            ("tag=a\\b", "'a\\\\b'"),
            ("tag=1; DROP TABLE x", "'1; DROP TABLE x'"),
            ("kilos=-1.50", "-1.50"),
            ("Day=2026-05-11", "'2026-05-11'"),
            ("any=5", "'5'"),
        ] {
            assert_eq!(of(Language::Mysql, typed).as_deref(), Ok(expected), "{typed}");
        }
        assert_eq!(of(Language::Sqlite, "any=5").as_deref(), Ok("5"));
        assert_eq!(of(Language::Sqlite, "any='5'").as_deref(), Ok("'5'"));
        assert_eq!(of(Language::Postgres, "tag=a\\b").as_deref(), Ok("'a\\b'"));
        // Whatever a column holds is typed so that it means the same.
        for (at, value) in [
            (2, Value::Text("O'Neill".into())),
            (2, Value::Text(" a\n'b' ".into())),
            (2, Value::Text("".into())),
            (2, Value::Text("null".into())),
            (2, Value::Text("'".into())),
            (6, Value::Text("5".into())),
            (6, Value::Int(5)),
            (4, Value::Decimal("-1.50".into())),
            (4, Value::Real(2.5)),
            (2, Value::Null),
        ] {
            let column = &target.columns[at];
            let typed = typed(Language::Sqlite, column, &value).unwrap();
            let wanted = Language::Sqlite.literal(&value).unwrap();
            assert_eq!(literal(Language::Sqlite, column, &typed).unwrap(), wanted, "{typed}");
        }
        assert_eq!(super::typed(Language::Sqlite, &target.columns[2], &Value::Text("a\u{1b}".into())), None);
        for typed in
            ["kilos=1,5", "kilos=", "kilos=nan", "kilos=1+1", "day=NULL", "day=", "sum=3", "taag=x", "tag"]
        {
            assert!(of(Language::Mysql, typed).is_err(), "{typed}");
        }
    }

    #[test]
    fn keys_name_their_rows() {
        let keys = [vec!["hive".to_owned(), "season".to_owned()], vec!["tag".to_owned()]];
        let of = |typed: &str, several| {
            key(Language::Sqlite, &target(), &keys, typed, several).map_err(|e| e.message)
        };
        assert_eq!(of("hive=3,season=2026", false).unwrap(), ["hive = 3 AND season = 2026"]);
        assert_eq!(of("tag=a,b", false).unwrap(), ["tag = 'a,b'"]);
        assert_eq!(of("hive=3,season=1;hive=4,season=1", true).unwrap().len(), 2);
        for typed in ["418", "hive=3", "hive=3,season=NULL", "day=2026-01-01"] {
            assert!(of(typed, false).is_err(), "{typed}");
        }
        let mut one = target();
        one.key = Key { kind: KeyKind::Primary, names: vec!["hive".into()], columns: vec![0] };
        let of =
            |typed: &str, several| key(Language::Sqlite, &one, &keys, typed, several).map_err(|e| e.message);
        assert_eq!(of("418", false).unwrap(), ["hive = 418"]);
        assert_eq!(of("3,4", true).unwrap(), ["hive = 3", "hive = 4"]);
        assert!(of("3,4", false).is_err() && of("x", false).is_err() && of("1 OR 1=1", false).is_err());
        one.key = Key { kind: KeyKind::RowIdentity, names: vec!["rowid".into()], columns: vec![] };
        let by_number =
            |typed: &str, several| key(Language::Sqlite, &one, &[], typed, several).map_err(|e| e.message);
        assert_eq!(by_number("rowid=7", false).unwrap(), ["rowid = 7"]);
        assert_eq!(by_number("RowID = 7;rowid=8", true).unwrap().len(), 2);
        assert!(by_number("7", false).is_err() && by_number("rowid=7 OR 1", false).is_err());
    }
}
