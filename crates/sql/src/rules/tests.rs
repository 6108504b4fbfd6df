//! Tests of the rules on statements of SQLite's dialect.

use marktwice_core::table::{Column, Key, KeyKind, Target};
use marktwice_core::{Code, Finding};

use super::{Facts, look};
use crate::dialect::language::Language;
use crate::statement::pins::{UniqueKey, pin};
use crate::statement::slicing::understand;

fn findings(statement: &str) -> Vec<Finding> {
    let column =
        |name: &str| Column { name: name.into(), declared: String::new(), generated: false, not_null: false };
    let target = Target {
        table: "keeper".into(),
        schema: "main".into(),
        columns: ["keeper_id", "name", "region"].map(column).to_vec(),
        key: Key { kind: KeyKind::Primary, names: vec!["keeper_id".into()], columns: vec![0] },
        definition: String::new(),
        naming: Some(1),
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    };
    let step = understand(statement, Language::Sqlite).unwrap_or_else(|f| panic!("{statement}: {f:?}"));
    let keys = [UniqueKey { primary: true, columns: vec![0] }];
    let pin = pin(&step, &target, &keys, &["rowid"]);
    look(Facts { step: &step, target: &target, pin: &pin, keys: &keys, counted: &[] })
}

fn has(statement: &str, code: Code) -> bool {
    findings(statement).iter().any(|f| f.code == code)
}

#[test]
fn filters_that_keep_nothing_out() {
    for filter in [
        "1=1",
        "true",
        "1",
        "TRUE AND 1",
        "region = region",
        "keeper.region = region",
        "name = 'x' OR 1 = 1",
        "(1 = 1) AND (2 > 1)",
        "NOT 1 = 2",
        "'a' = 'a'",
        "region IS region",
        "NOT false",
        "keeper_id >= keeper_id",
        "region IN ('Moor', region)",
        "-1 < 0",
        "5 BETWEEN 1 AND 9 OR 1",
        "0 OR 2",
    ] {
        assert!(has(&format!("DELETE FROM keeper WHERE {filter}"), Code::AlwaysTrue), "{filter}");
    }
    for filter in [
        "1=0",
        "region = name",
        "region = 'region'",
        "name = 'x' AND 1 = 1",
        "keeper_id = 1 OR 1 = 2",
        "NOT true",
        "region <> region",
        "other.region = region",
        "'1'",
        "region",
        "NOT region = region",
    ] {
        assert!(!has(&format!("DELETE FROM keeper WHERE {filter}"), Code::AlwaysTrue), "{filter}");
    }
}

#[test]
fn comparisons_with_null() {
    for (statement, column) in [
        ("DELETE FROM keeper WHERE region = NULL", 33),
        ("DELETE FROM keeper WHERE NULL <> region", 26),
        ("DELETE FROM keeper WHERE a = 1 AND (b != null)", 39),
        ("DELETE FROM keeper WHERE a NOT IN (1, NULL)", 39),
        ("UPDATE keeper SET a = CASE WHEN b = NULL THEN 1 END WHERE keeper_id = 1", 35),
    ] {
        let found = findings(statement);
        let finding =
            found.iter().find(|f| f.code == Code::NullCompare).unwrap_or_else(|| panic!("{statement}"));
        assert_eq!(finding.place.as_ref().unwrap().column, column, "{statement}");
    }
    for statement in [
        "UPDATE keeper SET region = NULL WHERE keeper_id = 1",
        "DELETE FROM keeper WHERE region IS NULL OR name IS NOT NULL",
        "DELETE FROM keeper WHERE coalesce(region, NULL) = 'x'",
        "DELETE FROM keeper WHERE region = 'NULL'",
    ] {
        assert!(!has(statement, Code::NullCompare), "{statement}");
    }
}

#[test]
fn the_others() {
    assert!(has("DELETE FROM keeper", Code::NoFilter));
    assert!(!has("DELETE FROM keeper WHERE 0", Code::NoFilter));
    assert!(has("UPDATE keeper SET KEEPER_ID = 5 WHERE keeper_id = 4", Code::KeyChange));
    assert!(!has("UPDATE keeper SET region = keeper_id WHERE keeper_id = 4", Code::KeyChange));
    assert!(has("DELETE FROM keeper WHERE region = 'Moor'", Code::NotUnique));
    assert!(!has("DELETE FROM keeper WHERE keeper_id IN (3, 4)", Code::NotUnique));
    assert!(has("DELETE FROM keeper WHERE random() > 0", Code::VolatileFilter));
    assert!(!has("DELETE FROM keeper WHERE day < date('now')", Code::VolatileFilter));
}

#[test]
fn what_a_second_run_would_do() {
    for (value, repeats) in [
        ("region || 'x'", true),
        ("substr(region, 2)", true),
        ("date(region, '+1 day')", true),
        ("printf('%s!', coalesce(region, ''))", true),
        ("-region", true),
        ("upper(region)", false),
        ("coalesce(region, name)", false),
        ("CAST(region AS INT)", false),
        ("region COLLATE NOCASE", false),
        ("CASE WHEN region = 'x' THEN 'y' END", false),
        ("(SELECT max(k.region) FROM keeper AS k)", false),
        ("name || 'x'", false),
    ] {
        let statement = format!("UPDATE keeper SET region = {value} WHERE keeper_id = 1");
        assert_eq!(has(&statement, Code::Repeats), repeats, "{value}");
    }
    assert!(has("UPDATE keeper SET region = name WHERE region = 'x'", Code::MovesFilter));
}

#[test]
fn a_second_target_needs_a_link() {
    for (rest, stopped) in [
        ("keeper AS k WHERE k.region = 'x'", true),
        ("keeper AS k, other AS o WHERE k.region = o.region", true),
        ("keeper AS k WHERE k.keeper_id = keeper.keeper_id + 1", false),
        ("keeper AS k WHERE lower(k.region) = lower(keeper.region)", false),
        ("keeper AS k, other AS o WHERE k.region = o.region AND o.name = keeper.name", false),
        ("other AS k WHERE k.region = 'x'", false),
    ] {
        let statement = format!("UPDATE keeper SET name = 'x' FROM {rest}");
        assert_eq!(has(&statement, Code::TargetAgain), stopped, "{rest}");
    }
}
