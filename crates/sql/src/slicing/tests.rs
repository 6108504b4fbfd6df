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
        ("INSERT INTO k VALUES (1)", Code::NotAChange, 1, 1),
        ("WITH q AS (DELETE) SELECT 1", Code::NotAChange, 1, 20),
        ("UPDAET k SET a = 1", Code::NotAChange, 1, 1),
        ("DELETE FROM k;\n DROP TABLE k", Code::SeveralStatements, 2, 2),
        ("UPDATE OR REPLACE k SET a = 1", Code::NotUnderstood, 1, 8),
        ("UPDATE k SET a = 1 FROM s WHERE s.x = 1", Code::NotUnderstood, 1, 20),
        ("DELETE FROM k WHERE a\nRETURNING id", Code::NotUnderstood, 2, 1),
        ("DELETE FROM k WHERE a LIMIT 1", Code::NotUnderstood, 1, 23),
        ("DELETE FROM k WHERE a = :x", Code::NotUnderstood, 1, 25),
        ("DELETE FROM k WHERE a = ?1", Code::NotUnderstood, 1, 25),
        ("DELETE FROM k WHERE a = 'x", Code::NotUnderstood, 1, 25),
        ("DELETE FROM k \0 WHERE a = 1", Code::NotUnderstood, 1, 15),
    ] {
        let finding = understand(source, Language::Sqlite).unwrap_err();
        assert_eq!(finding.code, code, "{source}");
        let place =
            finding.place.clone().unwrap_or(Place { line: 1, column: 1, length: 1, text: String::new() });
        assert_eq!((place.line, place.column), (line, column), "{source}: {}", finding.message);
    }
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
