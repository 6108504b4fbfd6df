//! Two steps that bring a table up to what another one says: the UPDATE of what is there, and the INSERT of what is not.

use marktwice_core::near::nearest;
use marktwice_core::table::{Column, Target};
use marktwice_core::words::either;
use marktwice_port::{Merge, Merged, Uncomposed};

use super::{table, wrong};
use crate::dialect::language::Language;

/// Writes the two steps; the first one is missing where there is nothing to update.
///
/// # Errors
/// Where the key is none that both tables have, or they have nothing else in common.
pub fn merge(language: Language, merge: &Merge<'_>) -> Result<Merged, Uncomposed> {
    let Merge { target: (target, target_said), source: (source, source_said), key } = *merge;
    let (own, other) = (table(language, target, target_said), table(language, source, source_said));
    if target.same_table(source) {
        return Err(wrong(
            format!("{own} cannot be brought up to itself"),
            "name another table to read from",
        ));
    }
    let key: Vec<String> = if key.is_empty() { target.key.names.clone() } else { key.to_vec() };
    if key.is_empty() {
        let hint = "say which columns tell that a row is there already: --key a,b";
        return Err(wrong(format!("{own} has no key that tells its rows apart"), hint));
    }
    let column = |of: &Target, name: &str| of.position(name).and_then(|at| of.columns.get(at)).cloned();
    let mut keys: Vec<(Column, Column)> = Vec::new();
    for name in &key {
        let (Some(mine), Some(theirs)) = (column(target, name), column(source, name)) else {
            let of = if column(target, name).is_none() { target } else { source };
            let near = nearest(name, of.columns.iter().map(|c| c.name.as_str()));
            let hint = match near {
                Some(near) => format!("did you mean {near}? Name columns that both have: --key a,b"),
                None => "name columns that both have: --key a,b".to_owned(),
            };
            return Err(wrong(
                format!("{} has no column {name}, and --key needs it in both", of.table),
                hint,
            ));
        };
        keys.push((mine, theirs));
    }
    let is_key = |name: &str| key.iter().any(|k| k.eq_ignore_ascii_case(name));
    // A number that the engine gives, or what tells rows apart by another key, is not carried over.
    let other_key = |at: usize| target.key.columns == [at];
    let both = target
        .columns
        .iter()
        .enumerate()
        .filter(|(at, c)| !c.generated && !is_key(&c.name) && !other_key(*at));
    let both: Vec<(Column, Column)> =
        both.filter_map(|(_, mine)| Some((mine.clone(), column(source, &mine.name)?))).collect();
    let name = |column: &Column| language.name(&column.name);
    let value = |(mine, theirs): &(Column, Column)| {
        let value = format!("{other}.{}", name(theirs));
        // Where the types differ this server asks for a conversion that the others make by themselves.
        match language {
            Language::Postgres if mine.declared != theirs.declared => {
                format!("CAST({value} AS {})", mine.declared)
            }
            _ => value,
        }
    };
    let same = |pair: &(Column, Column)| format!("{own}.{} = {}", name(&pair.0), value(pair));
    let on = keys.iter().map(same).collect::<Vec<_>>().join("\n   AND ");
    let update = (!both.is_empty()).then(|| match language {
        Language::Mysql => {
            let sets: Vec<String> =
                both.iter().map(|p| format!("{own}.{} = {}", name(&p.0), value(p))).collect();
            format!("UPDATE {own}\n  JOIN {other}\n    ON {on}\n   SET {}", sets.join(",\n       "))
        }
        Language::Sqlite | Language::Postgres => {
            let sets: Vec<String> = both.iter().map(|p| format!("{} = {}", name(&p.0), value(p))).collect();
            format!("UPDATE {own}\n   SET {}\n  FROM {other}\n WHERE {on}", sets.join(",\n       "))
        }
    });
    let all: Vec<&(Column, Column)> = keys.iter().chain(&both).collect();
    let names = all.iter().map(|p| name(&p.0)).collect::<Vec<_>>().join(", ");
    let values = all.iter().map(|p| value(p)).collect::<Vec<_>>().join(", ");
    // A row without a value in its key would never be found again, and come in each time.
    let open: Vec<&(Column, Column)> = keys.iter().filter(|(_, theirs)| !theirs.not_null).collect();
    let given: String = open.iter().map(|p| format!("\n   AND {other}.{} IS NOT NULL", name(&p.1))).collect();
    let insert = format!(
        "INSERT INTO {own} ({names})\nSELECT {values}\n  FROM {other}\n WHERE NOT EXISTS (SELECT 1 FROM {own} WHERE {})\
         {given}",
        keys.iter().map(same).collect::<Vec<_>>().join(" AND ")
    );
    let left = |of: &Target, against: &Target| -> Vec<String> {
        let missing = of.columns.iter().filter(|c| column(against, &c.name).is_none());
        missing.map(|c| c.name.clone()).collect()
    };
    let are = either(key.len() as u64, "is", "are");
    let mut said = vec![format!("a row is there already where {} {are} the same", key.join(", "))];
    if !open.is_empty() {
        let names: Vec<&str> = open.iter().map(|(_, theirs)| theirs.name.as_str()).collect();
        said.push(format!("rows of {other} without a value in {} are passed over", names.join(", ")));
    }
    for (of, missing) in [(&own, left(target, source)), (&other, left(source, target))] {
        if !missing.is_empty() {
            said.push(format!("only {of} has {}", missing.join(", ")));
        }
    }
    Ok(Merged { steps: update.into_iter().chain([insert]).collect(), said })
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::table::{Key, KeyKind};

    fn table_of(name: &str, columns: &[(&str, &str)], key: &[&str]) -> Target {
        let one = |(name, declared): &(&str, &str)| Column {
            name: (*name).into(),
            declared: (*declared).into(),
            generated: false,
            not_null: false,
        };
        let columns: Vec<Column> = columns.iter().map(one).collect();
        let at = key.iter().filter_map(|k| columns.iter().position(|c| c.name == *k)).collect();
        Target {
            table: name.into(),
            schema: String::new(),
            key: Key {
                kind: KeyKind::Primary,
                names: key.iter().map(|k| (*k).into()).collect(),
                columns: at,
            },
            columns,
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        }
    }

    #[test]
    fn columns_that_both_have() {
        let target = table_of(
            "hive_season",
            &[("hive_id", "integer"), ("season", "integer"), ("kilos", "numeric(8,2)"), ("note", "text")],
            &["hive_id", "season"],
        );
        let source = table_of(
            "sheet",
            &[("season", "integer"), ("hive_id", "integer"), ("kilos", "text"), ("line", "integer")],
            &[],
        );
        let of = |language, key: &[String]| {
            merge(language, &Merge { target: (&target, false), source: (&source, false), key })
        };
        let done = of(Language::Postgres, &[]).unwrap();
        assert!(done.steps[0].contains("SET kilos = CAST(sheet.kilos AS numeric(8,2))"), "{}", done.steps[0]);
        assert!(
            done.steps[1].starts_with("INSERT INTO hive_season (hive_id, season, kilos)"),
            "{}",
            done.steps[1]
        );
        assert!(done.said.iter().any(|line| line == "only sheet has line"), "{:?}", done.said);
        let mysql = of(Language::Mysql, &[]).unwrap();
        assert!(mysql.steps[0].contains("SET hive_season.kilos = sheet.kilos"), "{}", mysql.steps[0]);
        assert!(
            of(Language::Sqlite, &["line".into()])
                .unwrap_err()
                .message
                .contains("hive_season has no column line")
        );
    }
}
