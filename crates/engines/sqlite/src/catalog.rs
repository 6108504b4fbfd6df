//! The catalogue: a table's columns, keys, foreign keys and definition.

use std::collections::{BTreeMap, HashMap};

use marktwice_core::hash;
use marktwice_core::survey::{OfView, TableSummary};
use marktwice_core::table::{Column, Key, KeyKind, Target, naming};
use marktwice_port::EngineError;
use marktwice_relational::driver::{Listed, Viewed};
use marktwice_relational::reach::ForeignKey;
use marktwice_sql::statement::pins::UniqueKey;
use rusqlite::Connection;

use crate::definition::{generated_expression, silent_conflict_clause};
use crate::error::engine;
use crate::names::quoted;
use crate::probe::{self, Act};

/// What a name in the database is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Sort {
    Table,
    View,
    Virtual,
    Shadow,
    /// One of SQLite's own tables.
    System,
}

/// A table with everything that a plan needs to know.
#[derive(Debug, Clone)]
pub(crate) struct Table {
    pub(crate) target: Target,
    pub(crate) strict: bool,
    /// The name under which the row identity can be read; `None` without one (WITHOUT ROWID, or all names taken).
    pub(crate) row: Option<String>,
    /// The column that is the row identity (INTEGER PRIMARY KEY).
    pub(crate) row_column: Option<usize>,
    pub(crate) keys: Vec<UniqueKey>,
    /// Collations by column.
    pub(crate) collations: Vec<String>,
    /// Expressions of generated columns by column.
    pub(crate) generated: Vec<Option<String>>,
    /// Whether triggers, conditions or foreign keys stand in its definition.
    pub(crate) doubtful: bool,
    /// A conflict clause in the definition that skips or deletes rows without a word.
    pub(crate) conflict_clause: Option<String>,
}

/// What a row of the list of tables says: its name, what it is, whether it has no row identity and whether it is strict.
fn in_list(row: &rusqlite::Row<'_>) -> rusqlite::Result<(String, Sort, bool, bool)> {
    let (name, kind): (String, String) = (row.get(0)?, row.get(1)?);
    let sort = match kind.as_str() {
        "view" => Sort::View,
        "virtual" => Sort::Virtual,
        "shadow" => Sort::Shadow,
        _ if name.to_ascii_lowercase().starts_with("sqlite_") => Sort::System,
        _ => Sort::Table,
    };
    Ok((name, sort, row.get(2)?, row.get(3)?))
}

/// Looks a name up; gives it as the catalogue writes it.
pub(crate) fn find(
    connection: &Connection,
    name: &str,
) -> Result<Option<(String, Sort, bool, bool)>, EngineError> {
    let sql = "SELECT name, type, wr, strict FROM pragma_table_list(?1) WHERE schema = 'main'";
    let mut statement = connection.prepare_cached(sql).map_err(engine)?;
    match statement.query_row([name], in_list) {
        Ok(found) => Ok(Some(found)),
        Err(rusqlite::Error::QueryReturnedNoRows) => Ok(None),
        Err(error) => Err(engine(error)),
    }
}

/// All names of one sort, in order.
pub(crate) fn names(connection: &Connection, wanted: &[Sort]) -> Result<Vec<String>, EngineError> {
    let all = everything(connection)?;
    Ok(all.into_iter().filter(|(_, sort, ..)| wanted.contains(sort)).map(|(name, ..)| name).collect())
}

/// The whole list of tables, in order.
fn everything(connection: &Connection) -> Result<Vec<(String, Sort, bool, bool)>, EngineError> {
    let sql = "SELECT name, type, wr, strict FROM pragma_table_list WHERE schema = 'main' ORDER BY name";
    let mut statement = connection.prepare_cached(sql).map_err(engine)?;
    let all = statement.query_map([], in_list).map_err(engine)?;
    all.collect::<rusqlite::Result<_>>().map_err(engine)
}

struct RawColumn {
    column: Column,
    key_place: usize,
}

/// What tells a table's rows apart.
struct Told {
    columns: Vec<Column>,
    key: Key,
    keys: Vec<UniqueKey>,
    row: Option<String>,
    row_column: Option<usize>,
}

/// Reads what tells a table's rows apart.
fn told(connection: &Connection, table: &str, without_rowid: bool) -> Result<Told, EngineError> {
    let raw = columns(connection, table).map_err(engine)?;
    let indexes = indexes(connection, table).map_err(engine)?;
    let columns: Vec<Column> = raw.iter().map(|r| r.column.clone()).collect();
    let mut primary: Vec<(usize, usize)> =
        raw.iter().enumerate().filter(|(_, r)| r.key_place > 0).map(|(at, r)| (r.key_place, at)).collect();
    primary.sort_unstable();
    let primary: Vec<usize> = primary.into_iter().map(|(_, at)| at).collect();
    let not_null = |at: &usize| columns.get(*at).is_some_and(|c| c.not_null);
    let row_column = match primary.as_slice() {
        // An INTEGER PRIMARY KEY is the row identity itself exactly when it needs no index of its own.
        [only] if !without_rowid && !indexes.iter().any(|i| i.primary) => Some(*only),
        _ => None,
    };
    let row = if without_rowid {
        None
    } else {
        let free = |n: &&str| !columns.iter().any(|c| c.name.eq_ignore_ascii_case(n));
        let alias = row_column.and_then(|at| columns.get(at)).map(|c| c.name.clone());
        ["rowid", "_rowid_", "oid"].iter().copied().find(free).map(str::to_owned).or(alias)
    };
    let mut keys: Vec<UniqueKey> = indexes
        .iter()
        .filter(|i| !i.primary)
        .map(|i| UniqueKey { primary: false, columns: i.columns.clone() })
        .collect();
    if !primary.is_empty() {
        keys.push(UniqueKey { primary: true, columns: primary.clone() });
    }
    let named = |kind: KeyKind, columns_of: &[usize]| Key {
        kind,
        names: columns_of.iter().filter_map(|&at| columns.get(at)).map(|c| c.name.clone()).collect(),
        columns: columns_of.to_vec(),
    };
    let unique =
        indexes.iter().find(|i| !i.primary && !i.columns.is_empty() && i.columns.iter().all(not_null));
    // A key that is declared and may hold NULL, as all but integer ones may here, is one while no row does.
    let holds_null = |columns_of: &[usize]| -> Result<bool, EngineError> {
        let open: Vec<String> = columns_of
            .iter()
            .filter_map(|&at| columns.get(at))
            .filter(|c| !c.not_null)
            .map(|c| {
                format!("EXISTS (SELECT 1 FROM main.{} WHERE {} IS NULL)", quoted(table), quoted(&c.name))
            })
            .collect();
        if open.is_empty() {
            return Ok(false);
        }
        connection.query_row(&format!("SELECT {}", open.join(" OR ")), [], |row| row.get(0)).map_err(engine)
    };
    let key = if without_rowid || row_column.is_some() || (!primary.is_empty() && !holds_null(&primary)?) {
        named(KeyKind::Primary, &primary)
    } else if let Some(index) = unique {
        named(KeyKind::Unique, &index.columns)
    } else if let Some(row) = &row {
        Key { kind: KeyKind::RowIdentity, names: vec![row.clone()], columns: Vec::new() }
    } else {
        return Err(EngineError::Other(format!(
            "{table} has no key that tells its rows apart, and columns of its own hide the row identity"
        )));
    };
    Ok(Told { columns, key, keys, row, row_column })
}

/// All tables and views, in order.
pub(crate) fn listed(connection: &Connection) -> Result<Vec<Listed>, EngineError> {
    let mut all = Vec::new();
    for (table, sort, without_rowid, _) in everything(connection)? {
        let view = sort == Sort::View;
        let (columns, key) = match sort {
            Sort::Table => match told(connection, &table, without_rowid) {
                Ok(told) => (told.columns.len(), told.key.names),
                Err(_) => continue,
            },
            // A view may name what is no longer there: it is listed all the same.
            Sort::View => (columns(connection, &table).map_or(0, |all| all.len()), Vec::new()),
            Sort::Virtual | Sort::Shadow | Sort::System => continue,
        };
        let from = format!("main.{}", quoted(&table));
        all.push(Listed { about: TableSummary { table, rows: None, key, columns, view }, from });
    }
    Ok(all)
}

/// The view of a name, where it stands for one.
pub(crate) fn viewed(connection: &mut Connection, name: &str) -> Result<Option<Viewed<Table>>, EngineError> {
    let Some((view, Sort::View, ..)) = find(connection, name)? else { return Ok(None) };
    let columns: Vec<Column> =
        columns(connection, &view).map_err(engine)?.into_iter().map(|raw| raw.column).collect();
    let from = format!("main.{}", quoted(&view));
    let mut reads: Vec<String> = Vec::new();
    for deed in probe::acts(connection, &format!("SELECT * FROM {from}")).map_err(engine)? {
        if let Act::Read { table, .. } = deed.act
            && !table.eq_ignore_ascii_case(&view)
            && matches!(find(connection, &table)?, Some((_, Sort::Table | Sort::Virtual, ..)))
            && !reads.contains(&table)
        {
            reads.push(table);
        }
    }
    let texts = definitions(connection, &view).map_err(engine)?;
    let definition = texts.first().cloned().unwrap_or_default();
    let key = Key { kind: KeyKind::WholeRow, names: Vec::new(), columns: Vec::new() };
    let table = Table {
        strict: false,
        row: None,
        row_column: None,
        keys: Vec::new(),
        collations: Vec::new(),
        generated: vec![None; columns.len()],
        doubtful: false,
        conflict_clause: None,
        target: Target {
            table: view,
            schema: "main".to_owned(),
            columns,
            key,
            definition: hash::texts([definition.as_str()]),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        },
    };
    Ok(Some(Viewed { table, of: OfView { definition, reads } }))
}

/// Describes a table.
pub(crate) fn describe(connection: &Connection, name: &str) -> Result<Table, EngineError> {
    let missing = || EngineError::missing(format!("there is no table {name}"));
    let (table, sort, without_rowid, strict) = find(connection, name)?.ok_or_else(missing)?;
    if sort != Sort::Table {
        return Err(EngineError::Other(format!("{table} is not an ordinary table")));
    }
    let Told { columns, key, keys, row, row_column } = told(connection, &table, without_rowid)?;
    let texts = definitions(connection, &table).map_err(engine)?;
    let create = texts.first().cloned().unwrap_or_default();
    let generated = columns
        .iter()
        .map(|c| if c.generated { generated_expression(&create, &c.name) } else { None })
        .collect();
    let collations = columns
        .iter()
        .map(|c| {
            let about = connection.column_metadata(Some("main"), table.as_str(), c.name.as_str());
            let collation =
                about.ok().and_then(|(_, collation, ..)| collation.map(|c| c.to_string_lossy().into_owned()));
            collation.unwrap_or_else(|| "BINARY".to_owned())
        })
        .collect();
    let conflict_clause = silent_conflict_clause(&create);
    let doubtful = texts.iter().any(|text| {
        let text = text.to_ascii_lowercase();
        text.contains("check")
            || text.contains("references")
            || text.trim_start().starts_with("create trigger")
            || text.contains(" trigger ")
    });
    let naming = naming(&table, &columns, &key);
    let definition = hash::texts(texts.iter().map(String::as_str));
    let target = Target {
        table,
        schema: "main".to_owned(),
        columns,
        key,
        definition,
        naming,
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    };
    Ok(Table { target, strict, row, row_column, keys, collations, generated, doubtful, conflict_clause })
}

fn columns(connection: &Connection, table: &str) -> rusqlite::Result<Vec<RawColumn>> {
    let mut statement = connection.prepare_cached(
        "SELECT name, type, \"notnull\", pk, hidden FROM pragma_table_xinfo(?1, 'main') ORDER BY cid",
    )?;
    statement
        .query_map([table], |row| {
            let hidden: i64 = row.get(4)?;
            Ok(RawColumn {
                column: Column {
                    name: row.get(0)?,
                    declared: row.get(1)?,
                    generated: hidden == 2 || hidden == 3,
                    not_null: row.get(2)?,
                },
                key_place: usize::from(row.get::<_, u16>(3)?),
            })
        })?
        .collect()
}

struct Index {
    primary: bool,
    columns: Vec<usize>,
}

/// Unique indexes over plain columns of the whole table.
fn indexes(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Index>> {
    let mut list = connection
        .prepare_cached("SELECT name, origin FROM pragma_index_list(?1, 'main') WHERE \"unique\" AND NOT partial ORDER BY seq DESC")?;
    let named: Vec<(String, String)> =
        list.query_map([table], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let mut all = Vec::new();
    for (name, origin) in named {
        let mut statement = connection
            .prepare_cached("SELECT cid FROM pragma_index_xinfo(?1, 'main') WHERE key ORDER BY seqno")?;
        let columns: Vec<i64> =
            statement.query_map([&name], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
        // A negative number is the row identity or an expression.
        if let Ok(columns) = columns.into_iter().map(usize::try_from).collect::<Result<Vec<_>, _>>() {
            all.push(Index { primary: origin == "pk", columns });
        }
    }
    Ok(all)
}

/// The texts that define a table: its own first, then those of its indexes and triggers.
fn definitions(connection: &Connection, table: &str) -> rusqlite::Result<Vec<String>> {
    let mut statement = connection.prepare(
        "SELECT sql FROM main.sqlite_schema WHERE tbl_name = ?1 COLLATE NOCASE AND sql IS NOT NULL \
         ORDER BY type <> 'table', type, name",
    )?;
    statement.query_map([table], |row| row.get(0))?.collect()
}

/// All foreign keys of all tables: one question, however many tables there are.
pub(crate) fn foreign_keys(connection: &Connection) -> Result<Vec<ForeignKey>, EngineError> {
    let tables = names(connection, &[Sort::Table, Sort::View, Sort::Virtual])?;
    let tables: HashMap<String, String> =
        tables.into_iter().map(|name| (name.to_ascii_lowercase(), name)).collect();
    let mut all = declared_keys(connection).map_err(engine)?;
    for key in &mut all {
        // The definition may write the parent's name in other letters.
        if let Some(parent) = tables.get(&key.parent.to_ascii_lowercase()) {
            key.parent_name = ("main".to_owned(), parent.clone());
            key.parent_sql = format!("main.{}", quoted(parent));
            key.parent_readable = true;
            key.parent.clone_from(parent);
        }
        if key.parent_columns.is_empty() {
            // Without named columns the parent's primary key is meant.
            let mut primary: Vec<(usize, String)> = columns(connection, &key.parent)
                .map_err(engine)?
                .into_iter()
                .filter(|c| c.key_place > 0)
                .map(|c| (c.key_place, c.column.name))
                .collect();
            primary.sort();
            key.parent_columns = primary.into_iter().map(|(_, name)| name).collect();
        }
    }
    all.retain(|k| k.parent_columns.len() == k.child_columns.len());
    Ok(all)
}

fn declared_keys(connection: &Connection) -> rusqlite::Result<Vec<ForeignKey>> {
    // Other tables cannot have one: their definitions are not even looked at.
    let mut statement = connection.prepare_cached(
        "SELECT t.name, k.id, k.\"table\", k.\"from\", k.\"to\", k.on_update, k.on_delete \
         FROM main.sqlite_schema AS t JOIN pragma_foreign_key_list(t.name, 'main') AS k \
         WHERE t.type = 'table' AND t.sql LIKE '%references%' ORDER BY t.name, k.id, k.seq",
    )?;
    let mut rows = statement.query([])?;
    let mut all: Vec<(i64, ForeignKey)> = Vec::new();
    while let Some(row) = rows.next()? {
        let (child, id): (String, i64) = (row.get(0)?, row.get(1)?);
        if all.last().is_none_or(|(last, key)| *last != id || key.child != child) {
            let key = ForeignKey {
                child_sql: format!("main.{}", quoted(&child)),
                child_columns: Vec::new(),
                parent: row.get(2)?,
                parent_name: ("main".to_owned(), row.get(2)?),
                parent_columns: Vec::new(),
                on_update: row.get(5)?,
                on_delete: row.get(6)?,
                readable: true,
                child_target: ("main".to_owned(), child.clone()),
                child,
                parent_sql: String::new(),
                parent_readable: false,
                // Off by default on every connection.
                enforced: false,
                sets: Vec::new(),
            };
            all.push((id, key));
        }
        if let Some((_, key)) = all.last_mut() {
            key.child_columns.push(row.get(3)?);
            key.parent_columns.extend(row.get::<_, Option<String>>(4)?);
        }
    }
    Ok(all.into_iter().map(|(_, key)| key).collect())
}

/// Whether any foreign key is looked at only by COMMIT.
pub(crate) fn defers(connection: &Connection) -> Result<bool, EngineError> {
    let sql = "SELECT EXISTS (SELECT 1 FROM main.sqlite_schema WHERE type = 'table' AND sql LIKE '%references%' AND sql LIKE '%deferred%')";
    connection.query_row(sql, [], |row| row.get(0)).map_err(engine)
}

/// How many rows refer to no row, by table and parent.
pub(crate) type Orphans = BTreeMap<(String, String), u64>;

/// The same of some tables.
pub(crate) fn orphans_of(connection: &Connection, tables: &[String]) -> Result<Orphans, EngineError> {
    let mut all = Orphans::new();
    let mut statement = connection
        .prepare("SELECT \"table\", parent, count(*) FROM pragma_foreign_key_check(?1) GROUP BY 1, 2")
        .map_err(engine)?;
    for table in tables {
        let rows = statement
            .query_map([table], |row| Ok(((row.get(0)?, row.get(1)?), row.get::<_, i64>(2)?.unsigned_abs())))
            .map_err(engine)?;
        match rows.collect::<rusqlite::Result<Vec<_>>>() {
            Ok(rows) => all.extend(rows),
            // A key that refers to what is no key of its parent: a statement that needs it fails by itself, and no other.
            Err(error) if error.to_string().starts_with("foreign key mismatch") => {}
            Err(error) => return Err(engine(error)),
        }
    }
    Ok(all)
}

/// How many rows of the whole database refer to no row, by table and parent.
pub(crate) fn orphans(connection: &Connection) -> Result<Orphans, EngineError> {
    let mut children: Vec<String> = foreign_keys(connection)?.into_iter().map(|key| key.child).collect();
    children.sort_unstable();
    children.dedup();
    orphans_of(connection, &children)
}
