//! The JSON form of one row of a mark and of one row of a snapshot.

use marktwice_core::ShortHash;
use marktwice_core::Value;
use marktwice_core::cell::diff;
use marktwice_core::mark::MarkRow;
use marktwice_core::record::Role;
use marktwice_core::table::Target;
use marktwice_core::undo::RowChange;
use marktwice_core::value::{list_from_json, list_to_json};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

/// A row of a mark: `{"k":[418],"r":"…","o":"…","a":"…"}`.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct MarkLine {
    k: Json,
    r: String,
    o: String,
    a: String,
}

impl MarkLine {
    pub(crate) fn of(row: &MarkRow) -> Self {
        MarkLine {
            k: list_to_json(&row.key),
            r: row.related.to_hex(),
            o: row.rest.to_hex(),
            a: row.after.to_hex(),
        }
    }

    pub(crate) fn row(&self) -> Option<MarkRow> {
        Some(MarkRow {
            key: list_from_json(&self.k).ok()?,
            related: ShortHash::from_hex(&self.r)?,
            rest: ShortHash::from_hex(&self.o)?,
            after: ShortHash::from_hex(&self.a)?,
        })
    }
}

/// A row of a snapshot. `after` is null for a row that went, an array for one that came in, else an object of the
/// columns that differ; `before` is null for a row that came in.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RowLine {
    step: u32,
    table: u32,
    role: Role,
    n: i64,
    key: Json,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key_after: Option<Json>,
    before: Json,
    after: Json,
}

impl RowLine {
    pub(crate) fn of(change: &RowChange, target: &Target) -> Self {
        let after = match (&change.before, &change.after) {
            (_, None) => Json::Null,
            (None, Some(row)) => list_to_json(row),
            (Some(before), Some(after)) => {
                let cells = diff(before, after).into_iter();
                Json::Object(
                    cells
                        .filter_map(|c| Some((target.columns.get(c.column)?.name.clone(), c.after.to_json())))
                        .collect::<Map<_, _>>(),
                )
            }
        };
        RowLine {
            step: 0,
            table: 0,
            role: Role::Target,
            n: change.ordinal,
            key: list_to_json(&change.key),
            key_after: change.key_after.as_deref().map(list_to_json),
            before: change.before.as_deref().map_or(Json::Null, list_to_json),
            after,
        }
    }

    /// The row, or what is wrong with the line.
    pub(crate) fn change(&self, target: &Target) -> Result<RowChange, String> {
        if self.step != 0 || self.table != 0 || self.role != Role::Target {
            return Err("it holds rows of a kind that this version does not put back".to_owned());
        }
        let list = |json: &Json| list_from_json(json).map_err(|e| e.to_string());
        let full = |json: &Json| -> Result<Vec<Value>, String> {
            let row = list(json)?;
            if row.len() == target.columns.len() { Ok(row) } else { Err("a row of another width".to_owned()) }
        };
        let before = if self.before.is_null() { None } else { Some(full(&self.before)?) };
        let after = match (&self.after, &before) {
            (Json::Null, _) => None,
            (Json::Array(_), None) => Some(full(&self.after)?),
            (Json::Object(cells), Some(before)) => {
                let mut row = before.clone();
                for (name, json) in cells {
                    let at = target.columns.iter().position(|c| c.name == *name);
                    let cell =
                        at.and_then(|at| row.get_mut(at)).ok_or_else(|| format!("no column {name}"))?;
                    *cell = Value::from_json(json).map_err(|e| e.to_string())?;
                }
                Some(row)
            }
            _ => return Err("before and after do not go together".to_owned()),
        };
        if before.is_none() && after.is_none() {
            return Err("neither before nor after".to_owned());
        }
        let key_after = self.key_after.as_ref().map(list).transpose()?;
        Ok(RowChange { ordinal: self.n, key: list(&self.key)?, key_after, before, after })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::table::{Column, Key, KeyKind};

    #[test]
    fn rows_read_back() {
        let column = |name: &str| Column {
            name: name.into(),
            declared: String::new(),
            generated: false,
            not_null: false,
        };
        let target = Target {
            table: "hive".into(),
            schema: "main".into(),
            columns: vec![column("id"), column("queen")],
            key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
            definition: String::new(),
            naming: None,
        };
        let row = |a: i64, b: Value| Some(vec![Value::Int(a), b]);
        for (before, after, key_after) in [
            (row(1, Value::Null), row(2, Value::Text("red".into())), Some(vec![Value::Int(2)])),
            (row(1, Value::Bytes(vec![0, 255])), row(1, Value::Bytes(vec![0, 255])), None),
            (row(1, Value::Real(f64::INFINITY)), None, None),
            (None, row(1, Value::TextBytes(vec![0xc3])), None),
        ] {
            let change = RowChange { ordinal: 7, key: vec![Value::Int(1)], key_after, before, after };
            let text = serde_json::to_string(&RowLine::of(&change, &target)).unwrap();
            let back: RowLine = serde_json::from_str(&text).unwrap();
            assert_eq!(back.change(&target).unwrap(), change, "{text}");
        }
        let bad = r#"{"step":0,"table":0,"role":"target","n":1,"key":[1],"before":[1],"after":null}"#;
        assert!(serde_json::from_str::<RowLine>(bad).unwrap().change(&target).is_err());
    }
}
