//! Tests of the slices.

use super::*;

/// Assigned columns and their value.
type Sets = Vec<(Vec<String>, String)>;

fn parts(source: &str) -> (String, Option<String>, Sets) {
    let step = understand(source, Language::Sqlite).unwrap_or_else(|f| panic!("{source}: {f:?}"));
    let sets = step
        .assignments
        .iter()
        .map(|a| (a.columns.iter().map(|c| c.text.clone()).collect(), step.text(a.value).to_owned()))
        .collect();
    (
        step.text(step.table.slice).to_owned(),
        step.filter.as_ref().map(|f| step.text(f.slice).to_owned()),
        sets,
    )
}

fn one(source: &str) -> (String, String) {
    let (table, filter, _) = parts(source);
    (table, filter.unwrap_or_default())
}

#[test]
fn filters_are_verbatim() {
    for (source, table, filter) in [
        ("DELETE FROM sale WHERE id=1", "sale", "id=1"),
        ("delete from main.\"sale\" as s where s.id = 1 -- end", "main.\"sale\" as s", "s.id = 1"),
        ("UPDATE keeper SET a = 1 WHERE a IS DISTINCT FROM 2 OR b", "keeper", "a IS DISTINCT FROM 2 OR b"),
        ("UPDATE k SET a = b IS NOT DISTINCT FROM c WHERE x", "k", "x"),
        ("UPDATE k INDEXED BY i SET a = 1 WHERE x = 'WHERE'", "k INDEXED BY i", "x = 'WHERE'"),
        ("UPDATE k NOT INDEXED SET a=1 WHERE [x y] NOTNULL", "k NOT INDEXED", "[x y] NOTNULL"),
        (
            "DELETE FROM k WHERE id IN (SELECT id FROM s WHERE q ORDER BY 1 LIMIT 3)",
            "k",
            "id IN (SELECT id FROM s WHERE q ORDER BY 1 LIMIT 3)",
        ),
        ("DELETE FROM k WHERE a /* WHERE b */ = 'ö' ;\n-- done\n", "k", "a /* WHERE b */ = 'ö'"),
        ("WITH q(x) AS (SELECT 1 UNION DELETE) DELETE FROM k WHERE id IN q", "k", "id IN q"),
        ("DELETE FROM k WHERE CASE WHEN a THEN b END", "k", "CASE WHEN a THEN b END"),
    ] {
        assert_eq!(one(source), (table.to_owned(), filter.to_owned()), "{source}");
    }
}

#[test]
fn assignments_are_split() {
    let (_, _, sets) = parts(
        "UPDATE k SET a = max(1, 2), \"b c\"= (SELECT x, y FROM t WHERE z), (d, e) = (f(1,2), 'x,y') WHERE id = 1",
    );
    assert_eq!(sets[0], (vec!["a".to_owned()], "max(1, 2)".to_owned()));
    assert_eq!(sets[1], (vec!["b c".to_owned()], "(SELECT x, y FROM t WHERE z)".to_owned()));
    assert_eq!(sets[2].0, ["d", "e"]);
    let step = understand("UPDATE k SET (d, e) = (f(1,2), 'x,y'), (g, h) = (SELECT 1, 2)", Language::Sqlite)
        .unwrap();
    let split: Vec<_> = step.assignments[0].parts.as_ref().unwrap().iter().map(|s| step.text(*s)).collect();
    assert_eq!(split, ["f(1,2)", "'x,y'"]);
    assert_eq!(step.assignments[1].parts, None);
}

#[test]
fn what_sqlite_takes_is_parsed() {
    for filter in [
        "note ISNULL",
        "(SELECT x) ISNULL",
        "note NOTNULL",
        "note NOT NULL",
        "a NOT GLOB 'x*'",
        "a GLOB 'x*' AND b",
        "a IS NOT 5",
        "a IS 'x' AND b = 2",
        "a IS b",
        "a IS NOT NULL",
        "a IS NOT DISTINCT FROM 3",
        "a << 1 = 2",
        "(a,b) IN ((1,2),(3,4))",
        "a->>'$.x' = 1",
        "a IN ()",
        "a == 1",
        "a = x'00ff'",
        "a LIKE 'x' ESCAPE '\\'",
        "a = 'it''s' COLLATE NOCASE",
        "EXISTS (SELECT 1 FROM b WHERE b.x = k.x)",
    ] {
        let step = understand(&format!("DELETE FROM k WHERE {filter}"), Language::Sqlite).unwrap();
        let parsed = step.filter.as_ref().unwrap();
        assert!(parsed.parsed.is_some(), "{filter}");
        assert_eq!(step.text(parsed.slice), filter);
    }
}

#[test]
fn refusals_say_what_and_where() {
    for (source, code, line, column) in [
        ("", Code::NotAChange, 1, 1),
        ("-- nothing\n", Code::NotAChange, 1, 1),
        ("\nSELECT 1", Code::NotAChange, 2, 1),
        ("WITH q AS (DELETE) SELECT 1", Code::NotAChange, 1, 20),
        ("UPDAET k SET a = 1", Code::NotAChange, 1, 1),
        ("DELETE FROM k;\n DROP TABLE k", Code::SeveralStatements, 2, 2),
        ("UPDATE OR REPLACE k SET a = 1", Code::NotUnderstood, 1, 8),
        ("UPDATE k JOIN s ON s.x = k.x SET a = 1", Code::NotUnderstood, 1, 10),
        ("DELETE FROM k WHERE a\nRETURNING abs(acts(id))", Code::NotUnderstood, 2, 1),
        ("UPDATE k SET a = 1 FROM s WHERE a LIMIT 1", Code::NotUnderstood, 1, 35),
        ("DELETE FROM k WHERE a = ?1", Code::NotUnderstood, 1, 25),
        ("DELETE FROM k WHERE a = 'x", Code::NotUnderstood, 1, 25),
        ("DELETE FROM k \0 WHERE a = 1", Code::NotUnderstood, 1, 15),
    ] {
        let finding = understand(source, Language::Sqlite).unwrap_err();
        assert_eq!(finding.code, code, "{source}");
        let place =
            finding.place.clone().unwrap_or(TextPlace { line: 1, column: 1, length: 1, text: String::new() });
        assert_eq!((place.line, place.column), (line, column), "{source}: {}", finding.message);
    }
}

#[test]
fn set_is_a_list_of_columns_and_values() {
    let text = set_as_values("INSERT INTO k SET a = 1, `b c` = concat('x', a)");
    assert_eq!(text.as_deref(), Some("INSERT INTO k (a, `b c`) VALUES (1, concat('x', a));"));
    for other in [
        "INSERT INTO k (a) VALUES (1)",
        "INSERT INTO k SET a = 1 ON DUPLICATE KEY UPDATE a = 2",
        "INSERT IGNORE INTO k SET a = 1",
        "UPDATE k SET a = 1",
    ] {
        assert_eq!(set_as_values(other), None, "{other}");
    }
}

/// The row query's FROM, and the names of joined tables.
fn joined(source: &str, language: Language) -> (String, Vec<String>) {
    let mut has =
        |of: &Source, column: &str| of.table.as_ref().is_some_and(|t| t.text == "k") && column == "own";
    let step = understand_with(source, language, &mut has).unwrap_or_else(|f| panic!("{source}: {f:?}"));
    let names = step.sources.iter().flat_map(|s| &s.tables);
    let names = names.map(|t| t.visible().map_or("-".to_owned(), |v| v.text.clone())).collect();
    (step.from_list().split_whitespace().collect::<Vec<_>>().join(" "), names)
}

#[test]
fn joined_tables_are_listed() {
    use Language::{Mysql, Postgres, Sqlite};
    for (language, source, from, names) in [
        (Sqlite, "UPDATE k SET a = s.x FROM s WHERE s.i = k.i", "k, s", "s"),
        (
            Sqlite,
            "UPDATE k AS t SET a = 1 FROM main.s AS x JOIN (SELECT 1, 2) q ON q.i = x.i",
            "k AS t, ( main.s AS x JOIN (SELECT 1, 2) q ON q.i = x.i )",
            "x q",
        ),
        (
            Sqlite,
            "UPDATE k SET a = 1 FROM json_each('[1,2]') AS j, s WHERE 1",
            "k, ( json_each('[1,2]') AS j, s )",
            "j s",
        ),
        (
            Postgres,
            "UPDATE ONLY k SET a = ARRAY[1,2], b = 3 FROM s LEFT JOIN (u CROSS JOIN v) USING (i, j), w x(a,b) WHERE t",
            "ONLY k, s LEFT JOIN (u CROSS JOIN v) USING (i, j), w x(a,b)",
            "s u v x",
        ),
        (
            Postgres,
            "UPDATE k SET a = 1 FROM LATERAL (SELECT 1) l, unnest(ARRAY[1,2]) WITH ORDINALITY AS n(v, o) WHERE t",
            "k, LATERAL (SELECT 1) l, unnest(ARRAY[1,2]) WITH ORDINALITY AS n(v, o)",
            "l n",
        ),
        (
            Postgres,
            "DELETE FROM public.k AS t USING ONLY s, u WHERE t.i = s.i",
            "public.k AS t, ONLY s, u",
            "s u",
        ),
        (
            Mysql,
            "UPDATE k JOIN s ON s.i = k.i AND f(s.x, k.y) SET k.own = 1",
            "k JOIN s ON s.i = k.i AND f(s.x, k.y)",
            "k s",
        ),
        (Mysql, "UPDATE s, `k` t SET t.own = s.x, `t`.`b` := 2 WHERE t.i = s.i", "s, `k` t", "s t"),
        (
            Mysql,
            "UPDATE k LEFT JOIN (SELECT i, max(d) FROM u GROUP BY i) AS m USING (i) SET own = m.d",
            "k LEFT JOIN (SELECT i, max(d) FROM u GROUP BY i) AS m USING (i)",
            "k m",
        ),
        (
            Mysql,
            "DELETE t.* FROM k AS t JOIN s FORCE INDEX (x) ON s.i = t.i WHERE s.x",
            "k AS t JOIN s FORCE INDEX (x) ON s.i = t.i",
            "t s",
        ),
        (
            Mysql,
            "DELETE FROM a.k USING a.k INNER JOIN s USING (i) WHERE s.x",
            "a.k INNER JOIN s USING (i)",
            "k s",
        ),
        (Mysql, "UPDATE k SET own = 1 WHERE i = 2", "k", ""),
    ] {
        let expected = (from.to_owned(), names.split_whitespace().map(str::to_owned).collect::<Vec<_>>());
        assert_eq!(joined(source, language), expected, "{source}");
    }
}

#[test]
fn odd_lists_of_tables_are_refused() {
    for (language, source) in [
        (Language::Mysql, "UPDATE k FOR PORTION OF p FROM '2026-01-01' TO '2026-02-01' SET a = 1"),
        (Language::Mysql, "DELETE k FROM k JOIN"),
        (Language::Mysql, "UPDATE k JOIN s ON s.i = k.i SET a = 1"),
        (Language::Postgres, "UPDATE k SET a = 1 FROM s FOR UPDATE WHERE k.i = s.i"),
        (Language::Postgres, "DELETE FROM k USING"),
    ] {
        assert!(understand(source, language).is_err(), "{source}");
    }
}

#[test]
fn several_written_tables_come_apart() {
    for (source, steps) in [
        (
            "UPDATE a JOIN b ON a.i = b.i SET a.x = 1, b.y = 2, a.z = 3 WHERE a.q",
            "UPDATE a JOIN b ON a.i = b.i SET a.x = 1, a.z = 3 WHERE a.q;\nUPDATE a JOIN b ON a.i = b.i SET b.y = 2 WHERE a.q;",
        ),
        (
            "DELETE a.*, b.* FROM a JOIN b ON a.i = b.i WHERE a.q",
            "DELETE a FROM a JOIN b ON a.i = b.i WHERE a.q;\nDELETE b FROM a JOIN b ON a.i = b.i WHERE a.q;",
        ),
    ] {
        let finding = understand(source, Language::Mysql).unwrap_err();
        assert_eq!(
            (finding.code, finding.paste.as_ref().map(|p| &*p.text)),
            (Code::SeveralTables, Some(steps))
        );
    }
}

#[test]
fn order_and_limit_of_one_table() {
    let step = understand("DELETE FROM k WHERE a ORDER BY b DESC, f(c, d) LIMIT 3", Language::Mysql).unwrap();
    let tail = step.tail.as_ref().unwrap();
    let terms: Vec<_> = tail.order.iter().map(|s| step.text(*s)).collect();
    assert_eq!((terms.as_slice(), step.text(tail.limit.unwrap())), (&["b DESC", "f(c, d)"][..], "3"));
    assert_eq!(step.text(step.filter.as_ref().unwrap().slice), "a");
}

#[test]
fn sameness_is_by_tokens() {
    let hash = |s: &str| understand(s, Language::Sqlite).unwrap().token_hash;
    let first = hash("UPDATE keeper SET region = 'Moor' WHERE id = 8");
    assert_eq!(first, hash("update Keeper /* again */\n set region='Moor'\nwhere id=8 ;"));
    assert_ne!(first, hash("UPDATE keeper SET region = 'moor' WHERE id = 8"));
    assert_ne!(first, hash("UPDATE keeper SET region = 'Moor' WHERE id = 9"));
}

#[test]
fn subqueries_are_found_outermost() {
    let step = understand(
        "UPDATE k SET a = 1 + (SELECT max(x) FROM s WHERE y IN (SELECT 2)) * (3 - (SELECT 4))",
        Language::Sqlite,
    )
    .unwrap();
    let found: Vec<_> =
        subqueries(&step, step.assignments[0].value).into_iter().map(|s| step.text(s)).collect();
    assert_eq!(found, ["(SELECT max(x) FROM s WHERE y IN (SELECT 2))", "(SELECT 4)"]);
}

#[test]
fn literals() {
    for (value, literal) in [
        ("'Moor'", true),
        ("-1.5", true),
        ("NULL", true),
        ("x'00'", true),
        ("'a' || region", false),
        ("region", false),
        ("1 + 1", false),
        ("(SELECT 1)", false),
        ("CURRENT_DATE", false),
    ] {
        let step = understand(&format!("UPDATE k SET a = {value}"), Language::Sqlite).unwrap();
        assert_eq!(is_literal(&step, step.assignments[0].value), literal, "{value}");
    }
}

#[test]
fn long_and_deep_texts_end() {
    let chain = (0..5_000).map(|i| format!("a = {i}")).collect::<Vec<_>>().join(" OR ");
    let run = move || {
        let step = understand(&format!("DELETE FROM k WHERE {chain}"), Language::Sqlite).unwrap();
        assert!(step.filter.unwrap().parsed.is_some());
        let deep = format!("DELETE FROM k WHERE {}1{}", "(".repeat(400), ")".repeat(400));
        assert!(understand(&deep, Language::Sqlite).unwrap().filter.is_some());
    };
    std::thread::Builder::new().stack_size(64 << 20).spawn(run).unwrap().join().unwrap();
}
