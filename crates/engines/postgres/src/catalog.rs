//! The catalogue: a table's columns, types, keys, triggers, foreign keys and definition.

use marktwice_core::hash;
use marktwice_core::mark::StepKind;
use marktwice_core::table::{Column, Key, KeyKind, Target, naming};
use marktwice_port::EngineError;
use marktwice_relational::foresee::{Extra, Trigger};
use marktwice_relational::layout::choose_key;
use marktwice_relational::reach::ForeignKey;
use marktwice_relational::walk::Body;
use marktwice_sql::Language;
use marktwice_sql::statement::pins::UniqueKey;
use marktwice_sql::statement::routine::{self, Routine};

use crate::client::{Pg, TextRow};
use crate::copy::{Form, quoted};

/// A column's type.
#[derive(Debug, Clone)]
pub(crate) struct Type {
    /// As declared, ready to stand in a definition.
    pub(crate) declared: String,
    /// What a domain stands on; the same as declared for other types.
    pub(crate) base: String,
    pub(crate) form: Form,
    /// Its collation, quoted, where the type has one.
    pub(crate) collation: Option<String>,
    /// The expression of its default.
    pub(crate) default: Option<String>,
    /// Whether only the server gives its values (GENERATED ALWAYS AS IDENTITY).
    pub(crate) identity_always: bool,
    /// Whether DEFAULT takes the next number of the column's own.
    pub(crate) identity: bool,
}

/// What a relation is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Sort {
    Table,
    Partitioned,
    View,
    /// A view whose rows are kept.
    Materialized,
    Foreign,
    Other,
}

/// A relation that a name stands for.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    pub(crate) oid: String,
    pub(crate) sort: Sort,
    pub(crate) schema: String,
    pub(crate) table: String,
    /// Row security keeps rows from this role.
    pub(crate) hides_rows: bool,
    /// The events of its rewrite rules: 2 is UPDATE, 3 INSERT, 4 DELETE.
    pub(crate) rules: String,
    /// Other tables inherit from it.
    pub(crate) has_children: bool,
    /// As the server writes its name under the settings that it was looked up with.
    pub(crate) shown: String,
}

/// A table with everything that a plan needs to know.
#[derive(Debug, Clone)]
pub(crate) struct Table {
    /// Whether triggers or conditions stand in its definition.
    pub(crate) doubtful: bool,
    pub(crate) target: Target,
    pub(crate) oid: String,
    /// As it stands after FROM: quoted, with its schema, children left out.
    pub(crate) from: String,
    /// Quoted, with its schema.
    pub(crate) name: String,
    /// As foreign keys name it.
    pub(crate) shown: String,
    pub(crate) types: Vec<Type>,
    pub(crate) extras: Vec<Extra>,
    pub(crate) keys: Vec<UniqueKey>,
    /// For each of the keys the operators by which its columns are equal, by schema: the search path has no say in it.
    pub(crate) operators: Vec<Vec<String>>,
    /// Those of the target's key.
    pub(crate) equals: Vec<String>,
    /// A member of the partition tree that is another server's, with that server.
    pub(crate) foreign: Option<(String, String)>,
}

/// A name in double quotes.
pub(crate) fn ident(name: &str) -> String {
    Language::Postgres.quoted(name)
}

pub(crate) fn cell(row: &TextRow, at: usize) -> &str {
    row.get(at).and_then(Option::as_deref).unwrap_or("")
}

pub(crate) fn yes(row: &TextRow, at: usize) -> bool {
    cell(row, at) == "t"
}

/// A name as `to_regclass` takes it.
fn regclass(schema: Option<&str>, table: &str) -> String {
    let schema = schema.map_or(String::new(), |schema| format!("{}.", ident(schema)));
    format!("pg_catalog.to_regclass({})", quoted(&format!("{schema}{}", ident(table))))
}

/// Asks what a name stands for.
fn found_as(regclass: &str) -> String {
    format!(
        "SELECT c.oid, c.relkind, n.nspname, c.relname, c.relrowsecurity AND pg_catalog.row_security_active(c.oid), \
         (SELECT coalesce(pg_catalog.string_agg(r.ev_type::text, ''), '') FROM pg_catalog.pg_rewrite r WHERE r.ev_class = c.oid AND r.rulename <> '_RETURN'), \
         EXISTS (SELECT 1 FROM pg_catalog.pg_inherits i WHERE i.inhparent = c.oid), c.oid::pg_catalog.regclass::text \
         FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = {regclass}"
    )
}

/// Looks a name up, by the search path where no schema is named.
pub(crate) fn find(pg: &mut Pg, schema: Option<&str>, table: &str) -> Result<Option<Found>, EngineError> {
    let rows = pg.rows(&found_as(&regclass(schema, table)))?;
    Ok(found(&rows))
}

fn found(rows: &[TextRow]) -> Option<Found> {
    rows.first().map(|row| {
        let system = ["pg_catalog", "information_schema"].contains(&cell(row, 2));
        let sort = match cell(row, 1) {
            _ if system => Sort::Other,
            "r" => Sort::Table,
            "p" => Sort::Partitioned,
            "v" => Sort::View,
            "m" => Sort::Materialized,
            "f" => Sort::Foreign,
            _ => Sort::Other,
        };
        Found {
            oid: cell(row, 0).to_owned(),
            sort,
            schema: cell(row, 2).to_owned(),
            table: cell(row, 3).to_owned(),
            hides_rows: yes(row, 4),
            rules: cell(row, 5).to_owned(),
            has_children: yes(row, 6) && sort == Sort::Table,
            shown: cell(row, 7).to_owned(),
        }
    })
}

/// Describes a table.
pub(crate) fn describe(pg: &mut Pg, schema: &str, name: &str) -> Result<Table, EngineError> {
    let missing = || EngineError::missing(format!("there is no table {name}"));
    let written = |f: &Found| matches!(f.sort, Sort::Table | Sort::Partitioned);
    if schema.is_empty() {
        let found = find(pg, None, name)?.filter(written).ok_or_else(missing)?;
        return describe_found(pg, &found);
    }
    let regclass = regclass(Some(schema), name);
    // It is looked up under the settings that are in force, and read under pinned ones, in one message.
    pg.pins_first();
    pg.canonical(|pg| {
        let (turn, [columns, keys, rest]) = (pg.turn(), about(&format!("{regclass}::pg_catalog.oid")));
        let all = [found_as(&regclass), format!("{turn}{columns}"), keys, rest];
        let mut answers = pg.several(&all.each_ref().map(String::as_str))?.into_iter();
        let mut answer = || answers.next().unwrap_or_default();
        let found = found(&answer()).filter(written).ok_or_else(missing)?;
        described(pg, &found, [answer(), answer(), answer()])
    })
}

/// Describes a relation that was found.
pub(crate) fn describe_found(pg: &mut Pg, found: &Found) -> Result<Table, EngineError> {
    // Definitions read the same whatever the session's time zone, date style and search path are.
    pg.canonical(|pg| {
        let mut answers = pg.several(&about(&found.oid).each_ref().map(String::as_str))?.into_iter();
        let mut answer = || answers.next().unwrap_or_default();
        described(pg, found, [answer(), answer(), answer()])
    })
}

/// A query's beginning that gives, as `down`, a table with those that it inherits from or is a partition of, and all below them.
pub(crate) fn family(oid: &str) -> String {
    format!(
        "WITH RECURSIVE up(oid) AS (SELECT {oid} UNION SELECT i.inhparent FROM up JOIN pg_catalog.pg_inherits i ON i.inhrelid = up.oid), \
         down(oid) AS (SELECT oid FROM up UNION SELECT i.inhrelid FROM down JOIN pg_catalog.pg_inherits i ON i.inhparent = down.oid)"
    )
}

/// Asks for the columns, the keys and the rest of a definition.
fn about(oid: &str) -> [String; 3] {
    let family = family(&format!("{oid}::pg_catalog.oid"));
    let columns = format!(
        "SELECT a.attnum, a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod), base.oid, \
         pg_catalog.format_type(base.oid, base.typmod), a.attnotnull, a.attgenerated, a.attidentity, \
         pg_catalog.pg_get_expr(d.adbin, d.adrelid), \
         (SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.collname) FROM pg_catalog.pg_collation c \
          JOIN pg_catalog.pg_namespace n ON n.oid = c.collnamespace WHERE c.oid = a.attcollation), \
         ({family} SELECT pg_catalog.string_agg(n.nspname || E'\\x1f' || f.relname, E'\\x1e' ORDER BY f.oid) FROM down \
          JOIN pg_catalog.pg_class f ON f.oid = down.oid JOIN pg_catalog.pg_namespace n ON n.oid = f.relnamespace \
          WHERE f.oid <> {oid} AND (f.relispartition OR f.relkind = 'p')) \
         FROM pg_catalog.pg_attribute a LEFT JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum \
         CROSS JOIN LATERAL (WITH RECURSIVE b AS (\
          SELECT t.oid, a.atttypmod AS typmod, t.typtype, t.typbasetype, t.typtypmod, 0 AS depth \
          FROM pg_catalog.pg_type t WHERE t.oid = a.atttypid \
          UNION ALL SELECT t.oid, b.typtypmod, t.typtype, t.typbasetype, t.typtypmod, depth + 1 \
          FROM b JOIN pg_catalog.pg_type t ON t.oid = b.typbasetype WHERE b.typtype = 'd') \
          SELECT b.oid, b.typmod FROM b ORDER BY depth DESC LIMIT 1) base \
         WHERE a.attrelid = {oid} AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"
    );
    [columns, keys_of(oid), rest_of(oid)]
}

fn described(
    pg: &mut Pg,
    found: &Found,
    [mut raw, key_rows, rest]: [Vec<TextRow>; 3],
) -> Result<Table, EngineError> {
    let oid = &found.oid;
    let family = raw.first().map_or("", |row| cell(row, 10)).split('\u{1e}');
    let family: Vec<(String, String)> = family
        .filter_map(|name| name.split_once('\u{1f}'))
        .map(|(s, t)| (s.to_owned(), t.to_owned()))
        .collect();
    // What it shares rows with is no part of how it is defined.
    raw.iter_mut().for_each(|row| row.truncate(10));
    let numbers: Vec<&str> = raw.iter().map(|row| cell(row, 0)).collect();
    let mut columns = Vec::new();
    let mut types = Vec::new();
    let mut extras = Vec::new();
    let own_schema = [format!("{}.", found.schema), format!("{}.", ident(&found.schema))];
    let own = |text: &str| {
        own_schema.iter().find_map(|own| text.strip_prefix(own.as_str())).unwrap_or(text).to_owned()
    };
    for row in &raw {
        let generated = !cell(row, 6).is_empty();
        let expression = row.get(8).cloned().flatten();
        columns.push(Column {
            name: cell(row, 1).to_owned(),
            // People read a type of the table's own schema without it.
            declared: own(cell(row, 2)),
            generated,
            not_null: yes(row, 5),
        });
        extras.push(Extra { generated: expression.clone().filter(|_| generated), moves: None });
        types.push(Type {
            declared: cell(row, 2).to_owned(),
            base: cell(row, 4).to_owned(),
            form: Form::of(cell(row, 3)),
            collation: row.get(9).cloned().flatten(),
            default: expression.filter(|_| !generated),
            identity_always: cell(row, 7) == "a",
            identity: !cell(row, 7).is_empty(),
        });
    }
    let (keys, operators): (Vec<_>, Vec<_>) = keys(&key_rows, &numbers).into_iter().unzip();
    let key = choose_key(&columns, &keys);
    let equals = equals(&keys, &operators, &key);
    let foreign = match found.sort {
        Sort::Partitioned => foreign_member(pg, oid)?,
        _ => None,
    };
    let doubtful = rest.iter().any(|row| {
        let text = cell(row, 0);
        ["CREATE TRIGGER", "CREATE CONSTRAINT TRIGGER", "CHECK", "EXCLUDE"]
            .iter()
            .any(|begins| text.starts_with(begins))
            || text.contains("NOT VALID")
    });
    let definition = definition(&raw, &rest, foreign.as_ref());
    let naming = naming(&found.table, &columns, &key);
    let name = format!("{}.{}", ident(&found.schema), ident(&found.table));
    let from = if found.sort == Sort::Table { format!("ONLY {name}") } else { name.clone() };
    Ok(Table {
        target: Target {
            table: found.table.clone(),
            schema: found.schema.clone(),
            columns,
            key,
            definition,
            naming,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family,
        },
        oid: oid.clone(),
        from,
        name,
        shown: found.shown.clone(),
        types,
        extras,
        keys,
        operators,
        equals,
        foreign,
        doubtful,
    })
}

/// The operators of a key among those that are declared.
pub(crate) fn equals(keys: &[UniqueKey], operators: &[Vec<String>], key: &Key) -> Vec<String> {
    let primary = key.kind == KeyKind::Primary;
    let chosen = keys.iter().position(|k| k.columns == key.columns && k.primary == primary);
    chosen.and_then(|at| operators.get(at).cloned()).unwrap_or_default()
}

/// A member of a partition tree whose rows are another server's, whatever its depth, and that server.
fn foreign_member(pg: &mut Pg, oid: &str) -> Result<Option<(String, String)>, EngineError> {
    let rows = pg.rows(&format!(
        "SELECT n.nspname || '.' || c.relname, s.srvname FROM pg_catalog.pg_partition_tree({oid}) p \
         JOIN pg_catalog.pg_foreign_table f ON f.ftrelid = p.relid JOIN pg_catalog.pg_foreign_server s ON s.oid = f.ftserver \
         JOIN pg_catalog.pg_class c ON c.oid = p.relid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace ORDER BY p.level, 1 LIMIT 1"
    ))?;
    Ok(rows.first().map(|row| (cell(row, 0).to_owned(), cell(row, 1).to_owned())))
}

/// Unique keys over plain columns of the whole table that are checked at once, the primary one first; each with the
/// operators by which its index compares.
fn keys_of(oid: &str) -> String {
    format!(
        "SELECT indisprimary, (SELECT pg_catalog.string_agg(k.n::text, ' ' ORDER BY k.o) FROM pg_catalog.unnest(indkey) \
         WITH ORDINALITY AS k(n, o) WHERE k.o <= indnkeyatts), \
         (SELECT pg_catalog.string_agg('OPERATOR(' || pg_catalog.quote_ident(n.nspname) || '.' || o.oprname || ')', ' ' ORDER BY k.o) \
          FROM pg_catalog.unnest(indclass) WITH ORDINALITY AS k(class, o) JOIN pg_catalog.pg_opclass c ON c.oid = k.class \
          JOIN pg_catalog.pg_amop a ON a.amopfamily = c.opcfamily AND a.amopstrategy = 3 AND a.amoplefttype = c.opcintype \
          AND a.amoprighttype = c.opcintype JOIN pg_catalog.pg_operator o ON o.oid = a.amopopr \
          JOIN pg_catalog.pg_namespace n ON n.oid = o.oprnamespace WHERE k.o <= indnkeyatts) \
         FROM pg_catalog.pg_index WHERE indrelid = {oid} AND indisunique \
         AND indisvalid AND indimmediate AND indpred IS NULL AND indexprs IS NULL \
         ORDER BY NOT indisprimary, indnkeyatts, indexrelid"
    )
}

fn keys(rows: &[TextRow], numbers: &[&str]) -> Vec<(UniqueKey, Vec<String>)> {
    let position = |number: &str| numbers.iter().position(|n| *n == number);
    rows.iter()
        .filter_map(|row| {
            let columns = cell(row, 1).split(' ').map(position).collect::<Option<Vec<usize>>>()?;
            let equals: Vec<String> = cell(row, 2).split(' ').map(str::to_owned).collect();
            Some((UniqueKey { primary: yes(row, 0), columns }, equals))
        })
        .collect()
}

/// Asks for what bears on what a statement means here, beyond the columns.
fn rest_of(oid: &str) -> String {
    format!(
        "SELECT pg_catalog.pg_get_constraintdef(oid) AS text FROM pg_catalog.pg_constraint WHERE conrelid = {oid} \
         UNION ALL SELECT pg_catalog.pg_get_indexdef(indexrelid) FROM pg_catalog.pg_index WHERE indrelid = {oid} \
         UNION ALL SELECT pg_catalog.pg_get_triggerdef(t.oid) || t.tgenabled::text || p.prosrc FROM pg_catalog.pg_trigger t \
         JOIN pg_catalog.pg_proc p ON p.oid = t.tgfoid WHERE t.tgrelid = {oid} AND NOT t.tgisinternal \
         UNION ALL SELECT pg_catalog.pg_get_ruledef(oid) FROM pg_catalog.pg_rewrite WHERE ev_class = {oid} \
         UNION ALL SELECT pg_catalog.pg_get_partkeydef({oid}) ORDER BY text"
    )
}

/// Everything that bears on what a statement means here, hashed.
fn definition(columns: &[TextRow], rest: &[TextRow], foreign: Option<&(String, String)>) -> String {
    let mut texts: Vec<String> = columns
        .iter()
        .map(|row| (1..row.len()).map(|at| cell(row, at)).collect::<Vec<_>>().join("\u{1f}"))
        .collect();
    texts.extend(rest.iter().map(|row| cell(row, 0).to_owned()));
    texts.extend(foreign.iter().flat_map(|(member, server)| [member.clone(), server.clone()]));
    hash::texts(texts.iter().map(String::as_str))
}

/// Trigger functions of the server's own.
const OWN_TRIGGERS: [&str; 3] = [
    "suppress_redundant_updates_trigger",
    "tsvector_update_trigger_byid",
    "tsvector_update_trigger_bycolumn",
];

/// The triggers that a statement of this kind fires; `assigned` are the columns in its SET.
pub(crate) fn triggers(
    pg: &mut Pg,
    table: &Table,
    kind: StepKind,
    assigned: &[usize],
) -> Result<Vec<Trigger>, EngineError> {
    let oid = &table.oid;
    let rows = pg.rows(&format!(
        "SELECT DISTINCT t.tgname, t.tgtype, l.lanname, p.prosrc, \
         (SELECT pg_catalog.string_agg(a.attname, E'\\x1f') FROM pg_catalog.unnest(t.tgattr) AS k(n) \
          JOIN pg_catalog.pg_attribute a ON a.attrelid = t.tgrelid AND a.attnum = k.n) \
         FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_proc p ON p.oid = t.tgfoid JOIN pg_catalog.pg_language l ON l.oid = p.prolang \
         WHERE NOT t.tgisinternal AND t.tgenabled IN ('O', 'A') \
         AND (t.tgrelid = {oid} OR t.tgrelid IN (SELECT relid FROM pg_catalog.pg_partition_tree({oid}))) ORDER BY 1"
    ))?;
    // Bits of tgtype, as in src/include/catalog/pg_trigger.h.
    const ROW: u32 = 1;
    const BEFORE: u32 = 2;
    let event = match kind {
        StepKind::Insert => 4,
        StepKind::Delete => 8,
        StepKind::Update => 16,
    };
    let mut all = Vec::new();
    for row in &rows {
        let bits: u32 = cell(row, 1).parse().unwrap_or(u32::MAX);
        let only: Vec<usize> =
            cell(row, 4).split('\u{1f}').filter_map(|c| table.target.position(c)).collect();
        let fires = bits & event != 0 && (only.is_empty() || only.iter().any(|c| assigned.contains(c)));
        if !fires {
            continue;
        }
        let text = ["plpgsql", "sql"].contains(&cell(row, 2)).then(|| cell(row, 3).to_owned());
        let routine =
            text.as_deref().map_or_else(Routine::unknown, |text| routine::read(text, Language::Postgres));
        // The server's own triggers do no more than change or skip the row.
        let own = cell(row, 2) == "internal" && OWN_TRIGGERS.contains(&cell(row, 3));
        let text = if own { Some(String::new()) } else { text };
        let name = cell(row, 0).to_owned();
        all.push(Trigger {
            name: name.clone(),
            before: bits & ROW != 0 && bits & BEFORE != 0,
            for_statement: bits & ROW == 0,
            routine,
            body: Body { name, text, acts: false, volatile: true },
        });
    }
    Ok(all)
}

/// All foreign keys of the database; those of partitions are their parents'.
pub(crate) fn foreign_keys(pg: &mut Pg) -> Result<Vec<ForeignKey>, EngineError> {
    let columns = |of: &str, key: &str| {
        format!(
            "(SELECT pg_catalog.string_agg(a.attname, E'\\x1f' ORDER BY k.o) FROM pg_catalog.unnest({key}) WITH ORDINALITY AS k(n, o) \
             JOIN pg_catalog.pg_attribute a ON a.attrelid = {of} AND a.attnum = k.n)"
        )
    };
    let rows = pg.rows(&format!(
        "SELECT conrelid::pg_catalog.regclass::text, {}, confrelid::pg_catalog.regclass::text, {}, confupdtype, confdeltype, \
         (SELECT nspname FROM pg_catalog.pg_namespace n JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid WHERE c.oid = confrelid), \
         (SELECT relname FROM pg_catalog.pg_class WHERE oid = confrelid), \
         (SELECT format('%I.%I', n.nspname, c.relname) FROM pg_catalog.pg_namespace n JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid \
          WHERE c.oid = conrelid), pg_catalog.has_table_privilege(conrelid, 'SELECT'), \
         (SELECT nspname FROM pg_catalog.pg_namespace n JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid WHERE c.oid = conrelid), \
         (SELECT relname FROM pg_catalog.pg_class WHERE oid = conrelid), \
         (SELECT format('%I.%I', n.nspname, c.relname) FROM pg_catalog.pg_namespace n JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid \
          WHERE c.oid = confrelid), pg_catalog.has_table_privilege(confrelid, 'SELECT'), convalidated, {} FROM pg_catalog.pg_constraint AS f WHERE contype = 'f' AND conparentid = 0 ORDER BY 1, conname",
        columns("conrelid", "conkey"),
        columns("confrelid", "confkey"),
        // Older servers have no such column.
        "(SELECT pg_catalog.string_agg(a.attname, E'\\x1f' ORDER BY k.o) FROM pg_catalog.jsonb_array_elements_text(CASE pg_catalog.jsonb_typeof(\
         pg_catalog.to_jsonb(f)->'confdelsetcols') WHEN 'array' THEN pg_catalog.to_jsonb(f)->'confdelsetcols' ELSE '[]' END) \
         WITH ORDINALITY AS k(n, o) JOIN pg_catalog.pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.n::int)",
    ))?;
    let names = |text: &str| text.split('\u{1f}').map(str::to_owned).collect::<Vec<_>>();
    let action = |letter: &str| match letter {
        "c" => "CASCADE",
        "n" => "SET NULL",
        "d" => "SET DEFAULT",
        "r" => "RESTRICT",
        _ => "NO ACTION",
    };
    Ok(rows
        .iter()
        .map(|row| ForeignKey {
            child: cell(row, 0).to_owned(),
            child_sql: cell(row, 8).to_owned(),
            child_columns: names(cell(row, 1)),
            parent: cell(row, 2).to_owned(),
            parent_name: (cell(row, 6).to_owned(), cell(row, 7).to_owned()),
            parent_columns: names(cell(row, 3)),
            on_update: action(cell(row, 4)).to_owned(),
            on_delete: action(cell(row, 5)).to_owned(),
            readable: yes(row, 9),
            child_target: (cell(row, 10).to_owned(), cell(row, 11).to_owned()),
            parent_sql: cell(row, 12).to_owned(),
            parent_readable: yes(row, 13),
            enforced: yes(row, 14),
            sets: names(cell(row, 15)).into_iter().filter(|name| !name.is_empty()).collect(),
        })
        .collect())
}

/// Names of all tables and views that can be meant without a schema, and of their columns where asked.
pub(crate) fn known_tables(pg: &mut Pg) -> Vec<String> {
    let rows = pg.rows(
        "SELECT relname FROM pg_catalog.pg_class WHERE relkind IN ('r', 'p', 'v', 'm', 'f') AND pg_catalog.pg_table_is_visible(oid) \
         AND relnamespace NOT IN ('pg_catalog'::pg_catalog.regnamespace, 'information_schema'::pg_catalog.regnamespace) ORDER BY 1",
    );
    rows.unwrap_or_default().iter().map(|row| cell(row, 0).to_owned()).collect()
}

/// Names of the columns of the tables that are named so.
pub(crate) fn known_columns(pg: &mut Pg, tables: &[String]) -> Vec<String> {
    if tables.is_empty() {
        return Vec::new();
    }
    let list: Vec<String> = tables.iter().map(|t| quoted(t)).collect();
    let filter = format!("c.relname IN ({})", list.join(", "));
    let rows = pg.rows(&format!(
        "SELECT a.attname FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid WHERE {filter} AND a.attnum > 0 \
         AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND c.relnamespace NOT IN \
         ('pg_catalog'::pg_catalog.regnamespace, 'information_schema'::pg_catalog.regnamespace) ORDER BY c.relname, a.attnum LIMIT 2000"
    ));
    rows.unwrap_or_default().iter().map(|row| cell(row, 0).to_owned()).collect()
}
