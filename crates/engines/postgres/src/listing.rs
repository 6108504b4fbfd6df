//! What is asked of the catalogue for looking: all tables and views, what a view is made of, what a table demands of its rows.

use marktwice_core::survey::{OfView, TableSummary};
use marktwice_port::EngineError;
use marktwice_relational::breaches::{Rules, Unique};
use marktwice_relational::driver::{Listed, Viewed};
use marktwice_sql::Language;
use marktwice_sql::text::qualified_names;

use crate::catalog::{Sort, Table, cell, describe_found, find, yes};
use crate::client::{Pg, TextRow};

/// What a table demands of its rows. Names in it are whole, whatever the search path is.
///
/// To the checks belong the bounds of a partition, a row of a partitioned table finding one, and keys of which all columns or none are NULL
/// (MATCH FULL).
pub(crate) fn rules(pg: &mut Pg, table: &Table) -> Result<Rules, EngineError> {
    let oid = &table.oid;
    let indexes = pg.rows(&format!(
        "SELECT (SELECT pg_catalog.string_agg(pg_catalog.pg_get_indexdef(indexrelid, n, false), E'\\x1f' ORDER BY n) \
         FROM pg_catalog.generate_series(1, indnkeyatts) AS g(n)), pg_catalog.pg_get_expr(indpred, indrelid), NOT indimmediate, \
         CASE WHEN x.oid IS NULL THEN array_to_string(array_fill(CASE WHEN pg_catalog.to_jsonb(i)->>'indnullsnotdistinct' = 'true' \
          THEN 'IS NOT DISTINCT FROM' ELSE '=' END, ARRAY[indnkeyatts::int]), E'\\x1f') \
         ELSE (SELECT pg_catalog.string_agg(format('OPERATOR(%I.%s)', n.nspname, o.oprname), E'\\x1f' ORDER BY k.nth) \
          FROM pg_catalog.unnest(x.conexclop) WITH ORDINALITY AS k(op, nth) JOIN pg_catalog.pg_operator o ON o.oid = k.op \
          JOIN pg_catalog.pg_namespace n ON n.oid = o.oprnamespace) END, pg_catalog.pg_get_constraintdef(x.oid) \
         FROM pg_catalog.pg_index i LEFT JOIN pg_catalog.pg_constraint x ON x.conindid = i.indexrelid AND x.contype = 'x' \
         WHERE indrelid = {oid} AND (indisunique OR x.oid IS NOT NULL) AND indisvalid ORDER BY indexrelid"
    ))?;
    let list = |text: &str| text.split('\u{1f}').map(str::to_owned).collect();
    let unique = indexes.iter().map(|row| Unique {
        terms: list(cell(row, 0)),
        compared: list(cell(row, 3)),
        text: row.get(4).cloned().flatten(),
        only: row.get(1).cloned().flatten(),
        at_the_end: yes(row, 2),
    });
    let checks = pg.rows(&format!(
        "(SELECT pg_catalog.pg_get_expr(conbin, conrelid) FROM pg_catalog.pg_constraint WHERE conrelid = {oid} AND contype = 'c' ORDER BY conname) \
         UNION ALL SELECT pg_catalog.pg_get_partition_constraintdef(oid) FROM pg_catalog.pg_class WHERE oid = {oid} AND relispartition \
         UNION ALL SELECT pg_catalog.string_agg('(' || x.d || ')', ' OR ') FROM (SELECT pg_catalog.pg_get_partition_constraintdef(t.relid) AS d \
          FROM pg_catalog.pg_class c CROSS JOIN LATERAL pg_catalog.pg_partition_tree(c.oid) AS t WHERE c.oid = {oid} AND c.relkind = 'p' \
          AND t.isleaf LIMIT {most} + 1) AS x HAVING count(*) BETWEEN 1 AND {most} AND count(*) = count(x.d) \
         UNION ALL SELECT (SELECT pg_catalog.string_agg(format('((%I IS NULL) = (%I IS NULL))', one.attname, other.attname), ' AND ') \
          FROM pg_catalog.pg_attribute one JOIN pg_catalog.pg_attribute other ON other.attrelid = {oid} AND other.attnum = ANY (k.conkey[2:]) \
          WHERE one.attrelid = {oid} AND one.attnum = k.conkey[1]) \
          FROM pg_catalog.pg_constraint k WHERE k.conrelid = {oid} AND k.contype = 'f' AND k.confmatchtype = 'f' AND pg_catalog.array_length(k.conkey, 1) > 1",
        most = MOST_PARTITIONS
    ))?;
    // A function that is not the server's own may do anything; columns stand there without a table before them.
    let own = |text: &String| qualified_names(text, Language::Postgres).is_empty();
    let role = pg.one("SELECT pg_catalog.current_setting('session_replication_role')")?;
    Ok(Rules {
        unique: unique.filter(|u| u.terms.iter().chain(&u.only).all(own)).collect(),
        not_null: (0..table.target.columns.len())
            .filter(|at| table.target.columns.get(*at).is_some_and(|c| c.not_null))
            .collect(),
        checks: checks
            .iter()
            .map(|row| cell(row, 0).to_owned())
            .filter(|text| !text.is_empty() && own(text))
            .collect(),
        every_check: true,
        references: role.as_deref() != Some("replica"),
    })
}

/// Partitions of which the bounds are looked at together.
const MOST_PARTITIONS: usize = 100;

/// All tables and views on the search path, in order: one question.
pub(crate) fn listed(pg: &mut Pg) -> Result<Vec<Listed>, EngineError> {
    // The key is chosen as `choose_key` does: the primary one, else a unique one whose columns refuse NULL.
    let rows = pg.rows(
        "SELECT c.oid::pg_catalog.regclass::text, c.relkind, format('%I.%I', n.nspname, c.relname), \
         (SELECT count(*) FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), \
         (SELECT pg_catalog.string_agg(a.attname, E'\\x1f' ORDER BY k.o) FROM pg_catalog.unnest(key.columns) WITH ORDINALITY AS k(n, o) \
          JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.n) \
         FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace LEFT JOIN LATERAL (\
          SELECT (i.indkey::int2[])[0:i.indnkeyatts - 1] AS columns FROM pg_catalog.pg_index i WHERE i.indrelid = c.oid AND i.indisunique \
          AND i.indisvalid AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL \
          AND (i.indisprimary OR NOT EXISTS (SELECT 1 FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid \
           AND a.attnum = ANY ((i.indkey::int2[])[0:i.indnkeyatts - 1]) AND NOT a.attnotnull)) \
          ORDER BY NOT i.indisprimary, i.indnkeyatts, i.indexrelid LIMIT 1) AS key ON true \
         WHERE c.relkind IN ('r', 'p', 'v', 'm') AND NOT c.relispartition AND n.nspname = ANY (pg_catalog.current_schemas(false)) \
         ORDER BY c.relname, n.nspname",
    )?;
    let one = |row: &TextRow| {
        let (kind, name) = (cell(row, 1), cell(row, 2));
        let from = if kind == "r" { format!("ONLY {name}") } else { name.to_owned() };
        let key = cell(row, 4).split('\u{1f}').filter(|k| !k.is_empty()).map(str::to_owned).collect();
        let about = TableSummary {
            table: cell(row, 0).to_owned(),
            rows: None,
            key,
            columns: cell(row, 3).parse().unwrap_or(0),
            view: matches!(kind, "v" | "m"),
        };
        Listed { about, from }
    };
    Ok(rows.iter().map(one).collect())
}

/// The view of a name, where it stands for one.
pub(crate) fn viewed(
    pg: &mut Pg,
    schema: Option<&str>,
    name: &str,
) -> Result<Option<Viewed<Table>>, EngineError> {
    let found = find(pg, schema, name)?.filter(|f| matches!(f.sort, Sort::View | Sort::Materialized));
    let Some(found) = found else { return Ok(None) };
    let oid = &found.oid;
    let definition = pg
        .one(&format!("SELECT pg_catalog.pg_get_viewdef({oid}::pg_catalog.oid, true)"))?
        .unwrap_or_default();
    let reads = pg.rows(&format!(
        "SELECT DISTINCT d.refobjid::pg_catalog.regclass::text FROM pg_catalog.pg_rewrite r JOIN pg_catalog.pg_depend d ON d.objid = r.oid \
         AND d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass \
         WHERE r.ev_class = {oid} AND d.refobjid <> r.ev_class ORDER BY 1"
    ))?;
    let of = OfView { definition, reads: reads.iter().map(|row| cell(row, 0).to_owned()).collect() };
    Ok(Some(Viewed { table: describe_found(pg, &found)?, of }))
}
