//! The catalogue: a table's columns, types, keys, triggers, foreign keys and definition.

use marktwice_core::hash;
use marktwice_core::table::{Column, Target, naming};
use marktwice_port::{EngineError, Unusable};
use marktwice_relational::foresee::Extra;
use marktwice_relational::layout::choose_key;
use marktwice_relational::reach::ForeignKey;
use marktwice_sql::Language;
use marktwice_sql::dialect::ours::held;
use marktwice_sql::statement::pins::UniqueKey;
use marktwice_sql::statement::routine::without_ansi_quotes;

use crate::client::{My, TextRow, literal};
use crate::error::{code, engine};
use crate::values::Form;

/// A column's type.
#[derive(Debug, Clone)]
pub(crate) struct Type {
    /// As declared, with character set and collation, ready to stand in a definition.
    pub(crate) declared: String,
    /// A type that holds the same values and takes little of a row's room.
    pub(crate) roomy: String,
    /// The kind of type, in lower case.
    pub(crate) kind: String,
    pub(crate) form: Form,
    /// The text of its default.
    pub(crate) default: Option<String>,
    pub(crate) auto: bool,
    /// Whether neither `*` nor a list that is left out means it.
    pub(crate) invisible: bool,
}

/// A relation that a name stands for.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    pub(crate) schema: String,
    pub(crate) table: String,
    /// `BASE TABLE`, `VIEW`, `SYSTEM VERSIONED`, `SYSTEM VIEW`, `SEQUENCE`.
    pub(crate) sort: String,
    pub(crate) engine: String,
    pub(crate) partitioned: bool,
}

/// A table with everything that a plan needs to know.
#[derive(Debug, Clone)]
pub(crate) struct Table {
    pub(crate) target: Target,
    /// Quoted, with its schema.
    pub(crate) name: String,
    /// As foreign keys name it.
    pub(crate) shown: String,
    pub(crate) types: Vec<Type>,
    pub(crate) extras: Vec<Extra>,
    pub(crate) keys: Vec<UniqueKey>,
    pub(crate) partitioned: bool,
    /// Whether its definition may speak of checks.
    pub(crate) checked: bool,
    /// In the order in which they fire.
    pub(crate) triggers: Vec<Fires>,
}

/// A trigger, as the server wrote it.
#[derive(Debug, Clone)]
pub(crate) struct Fires {
    pub(crate) name: String,
    /// `BEFORE` or `AFTER`.
    pub(crate) timing: String,
    /// `INSERT`, `UPDATE` or `DELETE`.
    pub(crate) event: String,
    /// What it does, as everybody reads it; `None` where it is cut into words in another way than here.
    pub(crate) text: Option<String>,
}

/// The text of a routine or trigger that was made under a SQL mode, as everybody reads it; `None` where that cannot be told.
pub(crate) fn readable(text: &str, mode: &str) -> Option<String> {
    if mode.contains("NO_BACKSLASH_ESCAPES") && text.contains('\\') {
        return None;
    }
    // `||` is another thing under PIPES_AS_CONCAT, and writes nothing under either.
    if mode.contains("ANSI_QUOTES") { without_ansi_quotes(text) } else { Some(text.to_owned()) }
}

/// An expression of a definition, which the server writes by the mode of the session that asks; as it is where nobody can read it.
/// MySQL escapes it once more.
pub(crate) fn expression(my: &My, text: &str) -> String {
    let text = if my.traits.mysql { unescaped(text) } else { text.to_owned() };
    readable(&text, &my.own.0).unwrap_or(text)
}

/// A text of MySQL's catalogue without what it puts before quotes and backslashes.
fn unescaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut escaped = false;
    for c in text.chars() {
        match c {
            '\\' if !escaped => escaped = true,
            c => {
                if escaped && !matches!(c, '\'' | '\\' | '"' | '`') {
                    out.push('\\');
                }
                out.push(c);
                escaped = false;
            }
        }
    }
    out
}

/// A default as it would be written: MySQL gives the bare value, and says of expressions that they are some.
fn default(my: &My, row: &TextRow, kind: &str) -> Option<String> {
    let text = row.get(6).cloned().flatten()?;
    if !my.traits.mysql {
        return Some(text);
    }
    if cell(row, 4).contains("DEFAULT_GENERATED") {
        return Some(expression(my, &text));
    }
    let written = matches!(kind, "bit") || kind.contains("binary") && text.starts_with("0x");
    Some(if written { text } else { format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''")) })
}

/// Rows about triggers without the modes that these were made under.
fn without_modes(rows: &[TextRow]) -> Vec<TextRow> {
    rows.iter().map(|row| row.iter().take(5).cloned().collect()).collect()
}

/// A name in backticks.
pub(crate) fn ident(name: &str) -> String {
    Language::Mysql.quoted(name)
}

pub(crate) fn cell(row: &TextRow, at: usize) -> &str {
    row.get(at).and_then(Option::as_deref).unwrap_or("")
}

/// Looks a name up, in the connection's database where no schema is named.
pub(crate) fn find(my: &mut My, schema: Option<&str>, table: &str) -> Result<Option<Found>, EngineError> {
    let schema = schema.filter(|s| !s.is_empty()).map_or_else(|| "database()".to_owned(), literal);
    let rows = my.rows(&format!(
        "SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE, ENGINE, CREATE_OPTIONS FROM information_schema.TABLES \
         WHERE TABLE_SCHEMA = {schema} AND TABLE_NAME = {}",
        literal(table)
    ))?;
    Ok(rows.first().map(|row| Found {
        schema: cell(row, 0).to_owned(),
        table: cell(row, 1).to_owned(),
        sort: cell(row, 2).to_owned(),
        engine: cell(row, 3).to_owned(),
        partitioned: cell(row, 4).contains("partitioned"),
    }))
}

/// Describes a table.
pub(crate) fn describe(my: &mut My, schema: &str, name: &str) -> Result<Table, EngineError> {
    let found = find(my, Some(schema), name)?
        .filter(|f| f.sort == "BASE TABLE")
        .ok_or_else(|| EngineError::missing(format!("there is no table {name}")))?;
    describe_found(my, &found)
}

/// Describes a relation that was found. Definitions read the same whatever the session's time zone and SQL mode are.
pub(crate) fn describe_found(my: &mut My, found: &Found) -> Result<Table, EngineError> {
    my.with_pins(|my| described(my, found))
}

fn described(my: &mut My, found: &Found) -> Result<Table, EngineError> {
    let here =
        format!("TABLE_SCHEMA = {} AND TABLE_NAME = {}", literal(&found.schema), literal(&found.table));
    let columns_of = format!(
        "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_TYPE, IS_NULLABLE, EXTRA, GENERATION_EXPRESSION, \
         COLUMN_DEFAULT, CHARACTER_SET_NAME, COLLATION_NAME, DATETIME_PRECISION \
         FROM information_schema.COLUMNS WHERE {here} ORDER BY ORDINAL_POSITION"
    );
    let keys_of = format!(
        "SELECT INDEX_NAME, COLUMN_NAME, SUB_PART FROM information_schema.STATISTICS \
         WHERE {here} AND NON_UNIQUE = 0 ORDER BY INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX"
    );
    let name = format!("{}.{}", ident(&found.schema), ident(&found.table));
    let create = format!("SHOW CREATE TABLE {name}");
    let triggers = format!(
        "SELECT TRIGGER_NAME, ACTION_TIMING, EVENT_MANIPULATION, ACTION_STATEMENT, ACTION_ORDER, SQL_MODE \
         FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {} AND EVENT_OBJECT_TABLE = {} ORDER BY TRIGGER_NAME",
        literal(&found.schema),
        literal(&found.table)
    );
    if let Some(known) = my.described.iter().position(|known| known.table.name == name) {
        // The texts say all that there is to be said: where they are the same, so is the rest.
        let texts = my.several(&[&create, &triggers])?;
        if let Some(known) = my.described.get(known).filter(|known| known.texts == texts) {
            return Ok(known.table.clone());
        }
        my.described.remove(known);
    }
    let mut answers = my.several(&[&columns_of, &keys_of, &create, &triggers])?.into_iter();
    let mut answer = || answers.next().unwrap_or_default();
    let (raw, keys, create, triggers) = (answer(), answer(), answer(), answer());
    let mut columns = Vec::new();
    let mut types = Vec::new();
    let mut extras = Vec::new();
    for row in &raw {
        let extra = cell(row, 4).to_ascii_uppercase();
        let generated = extra.contains("VIRTUAL GENERATED")
            || extra.contains("STORED GENERATED")
            || extra.contains("PERSISTENT");
        columns.push(Column {
            name: cell(row, 0).to_owned(),
            declared: cell(row, 2).to_owned(),
            generated,
            not_null: cell(row, 3) == "NO",
        });
        extras.push(Extra {
            generated: generated.then(|| expression(my, cell(row, 5))),
            moves: extra
                .contains("ON UPDATE")
                .then(|| "the server sets it to the time of the change".to_owned()),
        });
        types.push(type_of(my, row, extra.contains("AUTO_INCREMENT")));
    }
    let keys = unique_keys(&keys.iter().collect::<Vec<_>>(), &columns);
    let key = choose_key(&columns, &keys);
    let naming = naming(&found.table, &columns, &key);
    let target = Target {
        table: found.table.clone(),
        schema: found.schema.clone(),
        columns,
        key,
        definition: definition(&create, &without_modes(&triggers)),
        naming,
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    };
    let shown = shown(my, &found.schema, &found.table);
    let checked = create.iter().any(|row| cell(row, 1).to_ascii_lowercase().contains("check"));
    let fires = in_order(&triggers);
    let partitioned = found.partitioned;
    let table = Table { target, name, shown, types, extras, keys, partitioned, checked, triggers: fires };
    my.described.push(Known { texts: vec![create, triggers], table: table.clone() });
    Ok(table)
}

/// The checks of a table that are asked, by their names; none where servers have none, or list them otherwise.
pub(crate) fn checks(my: &mut My, target: &Target) -> Vec<(String, String)> {
    let (schema, table) = (literal(&target.schema), literal(&target.table));
    let asked = match my.traits.mysql {
        false => format!(
            "SELECT CONSTRAINT_NAME, CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS \
             WHERE CONSTRAINT_SCHEMA = {schema} AND TABLE_NAME = {table} ORDER BY 1"
        ),
        true => format!(
            "SELECT c.CONSTRAINT_NAME, c.CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS AS c \
             JOIN information_schema.TABLE_CONSTRAINTS AS t ON t.CONSTRAINT_SCHEMA = c.CONSTRAINT_SCHEMA \
             AND t.CONSTRAINT_NAME = c.CONSTRAINT_NAME AND t.CONSTRAINT_TYPE = 'CHECK' \
             WHERE t.TABLE_SCHEMA = {schema} AND t.TABLE_NAME = {table} AND t.ENFORCED = 'YES' ORDER BY 1"
        ),
    };
    let rows = my.rows(&asked).unwrap_or_default();
    rows.iter().map(|row| (cell(row, 0).to_owned(), expression(my, cell(row, 1)))).collect()
}

/// Triggers as they fire, of rows in the order of their names.
fn in_order(rows: &[TextRow]) -> Vec<Fires> {
    let mut rows: Vec<&TextRow> = rows.iter().collect();
    rows.sort_by_key(|row| cell(row, 4).parse::<u64>().unwrap_or(0));
    let text = |row: &TextRow, at: usize| cell(row, at).to_owned();
    let fires = |row| Fires {
        name: text(row, 0),
        timing: text(row, 1),
        event: text(row, 2),
        text: readable(cell(row, 3), cell(row, 5)),
    };
    rows.into_iter().map(fires).collect()
}

/// A table as it was described, with what the server wrote of it then.
#[derive(Debug)]
pub(crate) struct Known {
    texts: Vec<Vec<TextRow>>,
    table: Table,
}

fn type_of(my: &My, row: &TextRow, auto: bool) -> Type {
    let kind = cell(row, 1).to_ascii_lowercase();
    let charset = row.get(7).cloned().flatten();
    let collated = match (&charset, cell(row, 8)) {
        (Some(charset), collation) if !collation.is_empty() => {
            format!(" CHARACTER SET {charset} COLLATE {collation}")
        }
        _ => String::new(),
    };
    let roomy = match kind.as_str() {
        "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "json" | "enum" | "set" => {
            format!("longtext{collated}")
        }
        "varbinary" | "binary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => "longblob".to_owned(),
        _ => format!("{}{collated}", cell(row, 2)),
    };
    let default = default(my, row, &kind);
    Type {
        declared: format!("{}{collated}", cell(row, 2)),
        roomy,
        form: Form::of(&kind, cell(row, 9).parse().unwrap_or(0)),
        kind,
        default,
        invisible: cell(row, 4).to_ascii_uppercase().contains("INVISIBLE"),
        auto,
    }
}

/// Unique keys over whole columns, from what the catalogue says in the order of the indexes: index, column, and how much of it.
pub(crate) fn unique_keys(rows: &[&TextRow], columns: &[Column]) -> Vec<UniqueKey> {
    let mut all: Vec<(String, Option<Vec<usize>>)> = Vec::new();
    for row in rows {
        if all.last().is_none_or(|(name, _)| name != cell(row, 0)) {
            all.push((cell(row, 0).to_owned(), Some(Vec::new())));
        }
        let at = columns.iter().position(|c| c.name == cell(row, 1)).filter(|_| cell(row, 2).is_empty());
        if let Some((_, list)) = all.last_mut() {
            // A key over the beginning of a column, or over an expression, tells no whole values apart.
            *list = match (list.take(), at) {
                (Some(mut list), Some(at)) => {
                    list.push(at);
                    Some(list)
                }
                _ => None,
            };
        }
    }
    all.into_iter()
        .filter_map(|(name, columns)| Some(UniqueKey { primary: name == "PRIMARY", columns: columns? }))
        .collect()
}

/// Everything that bears on what a statement means here, hashed.
fn definition(create: &[TextRow], triggers: &[TextRow]) -> String {
    let text = create.first().map_or("", |row| cell(row, 1));
    // The next number is not part of the definition.
    let mut texts: Vec<String> =
        text.split(' ').filter(|word| !word.starts_with("AUTO_INCREMENT=")).map(str::to_owned).collect();
    // Where they stand among each other is not, either.
    texts.extend(triggers.iter().flat_map(|row| row.iter().take(4).flatten().cloned()));
    hash::texts(texts.iter().map(String::as_str))
}

/// A table's name as it is shown: with its schema where that is not the connection's own.
pub(crate) fn shown(my: &My, schema: &str, table: &str) -> String {
    if my.schema == schema { table.to_owned() } else { format!("{schema}.{table}") }
}

/// Asks for the foreign keys of a condition over `KEY_COLUMN_USAGE` as `k` and `REFERENTIAL_CONSTRAINTS` as `r`.
fn keys_where(condition: &str) -> String {
    format!(
        "SELECT k.CONSTRAINT_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.COLUMN_NAME, k.REFERENCED_TABLE_SCHEMA, \
         k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME, r.UPDATE_RULE, r.DELETE_RULE \
         FROM information_schema.KEY_COLUMN_USAGE AS k JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r \
         ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME \
         AND r.TABLE_NAME = k.TABLE_NAME WHERE {condition} \
         AND k.REFERENCED_TABLE_NAME IS NOT NULL ORDER BY 1, 2, 3, k.ORDINAL_POSITION"
    )
}

/// Whether tables of a schema have foreign keys, and whether tables of other schemas have some into it, as the storage engine's
/// own dictionary says at once; where this user may not ask that, both may be so.
fn where_keys_are(my: &mut My, schema: &str) -> (bool, bool) {
    // Other names are written in another way there.
    let plain = schema.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if !my.traits.maria || !plain {
        return (true, true);
    }
    // An underscore in the one stands for any character, and in the other nothing does: rather one question too many.
    let asked = format!(
        "SELECT coalesce(max(FOR_NAME LIKE '{schema}/%'), 0), coalesce(max(REF_NAME LIKE '{schema}/%' \
         AND BINARY SUBSTRING_INDEX(FOR_NAME, '/', 1) <> '{schema}'), 0) FROM information_schema.INNODB_SYS_FOREIGN"
    );
    let told = my.rows(&asked).ok().and_then(|rows| rows.into_iter().next());
    told.map_or((true, true), |row| (cell(&row, 0) != "0", cell(&row, 1) != "0"))
}

/// The foreign keys in and into the target's schema.
pub(crate) fn foreign_keys(my: &mut My, table: &Table) -> Result<Vec<ForeignKey>, EngineError> {
    let schema = &table.target.schema;
    let (within, from_elsewhere) = where_keys_are(my, schema);
    let mut rows = Vec::new();
    let is = format!("= {}", literal(schema));
    // A condition on the schema of the referring table spares the server opening every table that it has.
    if within {
        let of = format!("k.TABLE_SCHEMA {is} AND r.CONSTRAINT_SCHEMA {is}");
        rows.extend(my.rows(&keys_where(&of))?);
    }
    if from_elsewhere {
        let of = format!("k.REFERENCED_TABLE_SCHEMA {is} AND NOT k.TABLE_SCHEMA {is}");
        rows.extend(my.rows(&keys_where(&of))?);
    }
    // In one order, whichever question they answer.
    rows.sort_by(|a, b| a.iter().take(3).cmp(b.iter().take(3)));
    let mut all: Vec<(String, ForeignKey)> = Vec::new();
    for row in &rows {
        let id = format!("{}\u{1f}{}\u{1f}{}", cell(row, 0), cell(row, 1), cell(row, 2));
        if all.last().is_none_or(|(last, _)| *last != id) {
            let key = ForeignKey {
                child: shown(my, cell(row, 0), cell(row, 1)),
                child_sql: format!("{}.{}", ident(cell(row, 0)), ident(cell(row, 1))),
                child_columns: Vec::new(),
                parent: shown(my, cell(row, 4), cell(row, 5)),
                parent_name: (cell(row, 4).to_owned(), cell(row, 5).to_owned()),
                parent_columns: Vec::new(),
                on_update: cell(row, 7).to_owned(),
                on_delete: cell(row, 8).to_owned(),
                readable: true,
                child_target: (cell(row, 0).to_owned(), cell(row, 1).to_owned()),
                parent_sql: format!("{}.{}", ident(cell(row, 4)), ident(cell(row, 5))),
                parent_readable: true,
                // Rows come in unchecked while foreign_key_checks is off.
                enforced: false,
                sets: Vec::new(),
            };
            all.push((id, key));
        }
        if let Some((_, key)) = all.last_mut() {
            key.child_columns.push(cell(row, 3).to_owned());
            key.parent_columns.push(cell(row, 6).to_owned());
        }
    }
    Ok(all.into_iter().map(|(_, key)| key).collect())
}

/// Foreign keys into a table that the storage engine's own dictionary knows and this user may not see.
pub(crate) fn unseen_foreign_keys(
    my: &mut My,
    target: &Target,
    seen: &[ForeignKey],
) -> Result<Vec<ForeignKey>, EngineError> {
    let rows = my.rows(&format!(
        "SELECT FOR_NAME, TYPE FROM information_schema.{} WHERE REF_NAME = CONCAT({}, '/', {}) ORDER BY ID",
        my.traits.foreign_keys,
        literal(&target.schema),
        literal(&target.table)
    ))?;
    let known = |name: &str| seen.iter().any(|k| k.child_sql == name);
    Ok(rows
        .iter()
        .filter_map(|row| {
            let (schema, table) = cell(row, 0).split_once('/')?;
            let child_sql = format!("{}.{}", ident(schema), ident(table));
            // Bits as in storage/innobase/include/dict0mem.h: 1 and 2 when rows go, 4 and 8 when keys change.
            let bits: u32 = cell(row, 1).parse().unwrap_or(0);
            let action = |cascade: u32, null: u32| match (bits & cascade, bits & null) {
                (0, 0) => "NO ACTION".to_owned(),
                (0, _) => "SET NULL".to_owned(),
                _ => "CASCADE".to_owned(),
            };
            (!known(&child_sql)).then(|| ForeignKey {
                child: format!("{schema}.{table}"),
                child_sql,
                child_columns: Vec::new(),
                parent: target.table.clone(),
                parent_name: (target.schema.clone(), target.table.clone()),
                parent_columns: Vec::new(),
                on_update: action(4, 8),
                on_delete: action(1, 2),
                readable: false,
                child_target: (schema.to_owned(), table.to_owned()),
                parent_sql: String::new(),
                parent_readable: false,
                enforced: true,
                sets: Vec::new(),
            })
        })
        .collect())
}

/// Names of the views that can be meant.
pub(crate) fn views(my: &mut My) -> Result<Vec<String>, EngineError> {
    let rows = my.rows("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_TYPE = 'VIEW' AND TABLE_SCHEMA = database()")?;
    Ok(rows.iter().map(|row| cell(row, 0).to_owned()).collect())
}

/// Names of all tables and views that can be meant without a schema.
pub(crate) fn known_tables(my: &mut My) -> Vec<String> {
    let rows = my
        .rows("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = database() ORDER BY 1");
    rows.unwrap_or_default().iter().map(|row| cell(row, 0).to_owned()).collect()
}

/// Names of the columns of the tables that are named so; of all of them without a list.
pub(crate) fn known_columns(my: &mut My, tables: &[String]) -> Vec<String> {
    if tables.is_empty() {
        return Vec::new();
    }
    let list: Vec<String> = tables.iter().map(|t| literal(t)).collect();
    let filter = format!("AND TABLE_NAME IN ({})", list.join(", "));
    let rows = my.rows(&format!(
        "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = database() {filter} \
         ORDER BY TABLE_NAME, ORDINAL_POSITION LIMIT 2000"
    ));
    rows.unwrap_or_default().iter().map(|row| cell(row, 0).to_owned()).collect()
}

/// The held table of a step, as it stands in a statement.
pub(crate) fn held_name(table: &Table, step: usize) -> String {
    format!("{}.{}", ident(&table.target.schema), held(step))
}

/// Why no temporary table can be made.
#[derive(Debug)]
pub(crate) struct NoTemporary {
    pub(crate) why: String,
    /// Whether a right is all that it takes.
    pub(crate) right: bool,
}

/// Why no temporary table can be made in the target's database; `None` where one can.
pub(crate) fn no_temporary(my: &mut My, table: &Table) -> Result<Option<NoTemporary>, EngineError> {
    let name = held_name(table, 0);
    let made = my.run_as_told(&format!(
        "CREATE TEMPORARY TABLE IF NOT EXISTS {name} (x int PRIMARY KEY) ENGINE=InnoDB"
    ));
    let Err(error) = made else {
        return my.later(&format!("DROP TEMPORARY TABLE {name}")).map(|()| None);
    };
    // Not supported yet, no such engine, not compiled in, not of this engine: servers that only speak the protocol.
    if let Some(1235 | 1286 | 1289 | 1031 | 1178) = code(&error) {
        let why = format!("{} has no temporary tables", my.brand);
        return Ok(Some(NoTemporary { why, right: false }));
    }
    match engine(error) {
        EngineError::Unusable(Unusable::ReadOnly, said) => {
            Ok(Some(NoTemporary { why: format!("this server only reads ({said})"), right: false }))
        }
        EngineError::Unusable(Unusable::Denied, _) => {
            let why = format!("CREATE TEMPORARY TABLES on {} is missing", table.target.schema);
            Ok(Some(NoTemporary { why, right: true }))
        }
        error => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn triggers_come_as_they_fire() {
        let row = |name: &str, order: &str| {
            [name, "BEFORE", "UPDATE", "SET NEW.kilos = 1", order].map(|cell| Some(cell.to_owned())).to_vec()
        };
        let rows = [row("first_by_name", "10"), row("second_by_name", "9"), row("third_by_name", "10")];
        let names: Vec<String> = in_order(&rows).into_iter().map(|fires| fires.name).collect();
        assert_eq!(names, ["second_by_name", "first_by_name", "third_by_name"]);
        // What comes of another order is another statement, but no other table.
        let create = [vec![Some("hive".to_owned()), Some("CREATE TABLE hive (…)".to_owned())]];
        let turned = [row("first_by_name", "1"), row("second_by_name", "2"), row("third_by_name", "3")];
        assert_eq!(definition(&create, &rows), definition(&create, &turned));
    }
}
