//! What must not be seen: values of secret parameters, and the columns that they are assigned to. A column is hidden in every
//! row that is shown; a text that comes from elsewhere (an engine's message) has the values taken out.

use serde_json::Value as Json;

use crate::cell::CellDiff;
use crate::hash::HashKey;
use crate::image::Image;
use crate::param::Param;
use crate::sheet::text;
use crate::table::Target;
use crate::value::Value;
pub use crate::veil::{AGAIN, CHANGED, HIDDEN, Veil};

/// The fewest characters that a secret has: fewer could not be told from any other text.
pub const SHORTEST: usize = 4;

/// Values that must not be seen.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Secrets {
    /// Each as it may be written, the longest first.
    texts: Vec<String>,
}

impl std::fmt::Debug for Secrets {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Secrets({})", self.texts.len())
    }
}

impl Secrets {
    /// Those of the secret parameters.
    pub fn of(params: &[Param]) -> Secrets {
        let mut texts = Vec::new();
        for plain in params.iter().filter(|param| param.secret).filter_map(|param| text(&param.value)) {
            let json = Json::String(plain.clone()).to_string();
            let literal = plain.replace('\'', "''");
            let json =
                json.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(&json).to_owned();
            texts.extend([json, plain.replace('\\', "\\\\"), literal, plain]);
        }
        texts.retain(|text| text.chars().count() >= SHORTEST);
        texts.sort_by(|a, b| b.len().cmp(&a.len()).then_with(|| a.cmp(b)));
        texts.dedup();
        Secrets { texts }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }

    /// A text without them.
    pub fn scrub(&self, text: &str) -> String {
        self.texts.iter().fold(text.to_owned(), |text, secret| match text.contains(secret.as_str()) {
            true => text.replace(secret.as_str(), HIDDEN),
            false => text,
        })
    }

    /// A document without them: in its texts and, where a number is one, in its numbers.
    pub fn scrub_document(&self, document: &mut Json) {
        match document {
            Json::String(text) => *text = self.scrub(text),
            Json::Number(number) if self.texts.contains(&number.to_string()) => {
                *document = Json::String(HIDDEN.to_owned());
            }
            Json::Array(all) => all.iter_mut().for_each(|one| self.scrub_document(one)),
            Json::Object(all) => all.values_mut().for_each(|one| self.scrub_document(one)),
            Json::Null | Json::Bool(_) | Json::Number(_) => {}
        }
    }
}

/// Columns whose values are never shown, as somebody has said: `table.column`, or with the schema in front. Letters of either case
/// are the same.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HiddenColumns(Vec<(String, String)>);

impl HiddenColumns {
    /// Those that are named so; what names no column is left out.
    pub fn of(names: &[String]) -> HiddenColumns {
        let parts = names.iter().filter_map(|name| name.rsplit_once('.'));
        HiddenColumns(parts.map(|(table, column)| (table.to_owned(), column.to_owned())).collect())
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The same, and these too: table and column.
    #[must_use]
    pub fn and(&self, more: impl IntoIterator<Item = (String, String)>) -> HiddenColumns {
        let mut all = self.clone();
        for one in more {
            if !all.0.contains(&one) {
                all.0.push(one);
            }
        }
        all
    }

    /// The tables and columns, as they were named.
    pub fn named(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(table, column)| (table.as_str(), column.as_str()))
    }

    /// Whether a column of a table of this bare name is among them, in whatever schema.
    pub fn has(&self, table: &str, column: &str) -> bool {
        let mut of_table = self.of_table(table);
        of_table.any(|own| own.eq_ignore_ascii_case(column))
    }

    /// The hidden columns of a table of this bare name, in whatever schema.
    pub fn of_table<'s>(&'s self, table: &'s str) -> impl Iterator<Item = &'s str> {
        let bare = |name: &'s str| name.rsplit('.').next().unwrap_or(name);
        let own = self.0.iter().filter(move |(of, _)| bare(of).eq_ignore_ascii_case(table));
        own.map(|(_, column)| column.as_str())
    }

    /// The names of the columns, of whatever table.
    pub fn names(&self) -> Vec<String> {
        self.0.iter().map(|(_, column)| column.clone()).collect()
    }

    /// The names of the tables, without schemas.
    pub fn tables(&self) -> Vec<String> {
        self.0.iter().map(|(table, _)| table.rsplit('.').next().unwrap_or(table).to_owned()).collect()
    }

    /// Those of them that are columns of a table.
    fn positions(&self, target: &Target) -> Vec<usize> {
        let whole = format!("{}.{}", target.schema, target.table);
        let of =
            |table: &str| table.eq_ignore_ascii_case(&target.table) || table.eq_ignore_ascii_case(&whole);
        let named = self.0.iter().filter(|(table, _)| of(table));
        named.filter_map(|(_, column)| target.position(column)).collect()
    }

    /// Hides just them in a table; rows are then identified by numbers that are made under `key` where their key is hidden.
    pub fn apply_to_named(&self, target: &mut Target, key: HashKey) {
        let columns = self.positions(target);
        if !columns.is_empty() {
            target.hide(columns);
            target.veil = Veil(Some(key));
        }
    }

    /// The same where nobody can be asked what generated columns are made of: all of them may show what is hidden, and are hidden too.
    pub fn apply(&self, target: &mut Target, key: HashKey) {
        let mut columns = self.positions(target);
        if columns.is_empty() {
            return;
        }
        let derived = target.columns.iter().enumerate().filter(|(_, column)| column.generated);
        columns.extend(derived.map(|(at, _)| at));
        target.hide(columns);
        target.veil = Veil(Some(key));
    }
}

/// Whether a name as it is written (`new.kilos`, in quotes or not) is that of one of these columns.
pub fn names_one(columns: &[String], name: &str) -> bool {
    let bare = name.rsplit('.').next().unwrap_or(name).trim_matches(['"', '`']);
    columns.iter().any(|column| column.eq_ignore_ascii_case(bare))
}

/// What stands for the value of a hidden column, beside those that were told of the same row before it.
pub fn stands_for(value: &Value, earlier: &[&Value]) -> Value {
    let mut different: Vec<&Value> = Vec::new();
    for one in earlier {
        if !different.contains(one) {
            different.push(one);
        }
    }
    let at = different.iter().position(|one| *one == value).unwrap_or(different.len());
    Value::Text([HIDDEN, CHANGED].get(at).copied().unwrap_or(AGAIN).to_owned().into())
}

/// Images of one row, each `None` where there is no row, with its hidden columns hidden: what differs still does.
pub fn hide_rows<const N: usize>(target: &Target, rows: [Option<Vec<Value>>; N]) -> [Option<Vec<Value>>; N] {
    if target.hidden.is_empty() {
        return rows;
    }
    let mut hidden = rows.clone();
    for &column in &target.hidden {
        let mut told: Vec<&Value> = Vec::new();
        for (row, place) in rows.iter().zip(&mut hidden) {
            let Some(value) = row.as_ref().and_then(|row| row.get(column)) else { continue };
            if let Some(cell) = place.as_mut().and_then(|row| row.get_mut(column)) {
                *cell = stands_for(value, &told);
            }
            told.push(value);
        }
    }
    // Where its key is hidden, a row is told by a number in its place.
    let number = target.key.columns.iter().copied().find(|at| target.hidden.contains(at));
    for (row, place) in rows.iter().zip(&mut hidden) {
        let (Some(at), Some(row), Some(place)) = (number, row, place) else { continue };
        let key: Vec<Value> = target.key.columns.iter().filter_map(|at| row.get(*at).cloned()).collect();
        if let (Some(cell), Some(number)) = (place.get_mut(at), target.shown_key(&key).into_iter().next()) {
            *cell = number;
        }
    }
    hidden
}

/// The image of a row with its hidden columns hidden.
pub fn hide_image(target: &Target, image: Image) -> Image {
    if target.hidden.is_empty() {
        return image;
    }
    let rows = [image.before(), image.after()].map(|row| row.map(<[Value]>::to_vec));
    let [before, after] = hide_rows(target, rows);
    Image::of(before, after).unwrap_or(image)
}

/// A cell that differs, hidden where its column is.
pub fn hide_cell(target: &Target, cell: CellDiff) -> CellDiff {
    if !target.hidden.contains(&cell.column) {
        return cell;
    }
    let after = stands_for(&cell.after, &[&cell.before]);
    CellDiff { before: stands_for(&cell.before, &[]), after, ..cell }
}

/// Words in front of a quoted name, in the messages of engines.
const NAMES: [&str; 15] = [
    "column",
    "columns",
    "constraint",
    "database",
    "domain",
    "field",
    "function",
    "index",
    "key",
    "parameter",
    "relation",
    "schema",
    "table",
    "trigger",
    "type",
];

/// An engine's message without the values that it names: what stands in quotes, but for names, and what is said to be equal to
/// something or contained in a row. Where a value may hold a quote, all up to the last one goes.
pub fn without_values(message: &str) -> String {
    for (start, end) in [("=(", ')'), ("contains (", ')')] {
        if let Some(from) = message.find(start)
            && let Some(to) = message.rfind(end).filter(|to| *to > from)
        {
            let (head, tail) = (message.get(..from + start.len()), message.get(to..));
            let (head, tail) = (head.unwrap_or_default(), tail.unwrap_or_default());
            return format!("{}{HIDDEN}{tail}", without_quoted(head));
        }
    }
    without_quoted(message.trim_end())
}

/// A message without what stands in quotes, but for names.
fn without_quoted(message: &str) -> String {
    let Some((at, quote)) = message.char_indices().find(|(_, c)| ['\'', '"'].contains(c)) else {
        return message.to_owned();
    };
    let (head, rest) = (message.get(..at).unwrap_or_default(), message.get(at + 1..).unwrap_or_default());
    let word = head.trim_end().rsplit([' ', '(']).next().unwrap_or_default().to_lowercase();
    let Some(first) = rest.find(quote) else { return format!("{head}{HIDDEN}") };
    if NAMES.contains(&word.as_str()) {
        let (name, tail) = (rest.get(..first).unwrap_or_default(), rest.get(first + 1..).unwrap_or_default());
        return format!("{head}{quote}{name}{quote}{}", without_quoted(tail));
    }
    // What follows a value: the name of a column or key, or nothing.
    let end = [" for key ", " for column ", " at row "]
        .iter()
        .filter_map(|after| rest.rfind(&format!("{quote}{after}")));
    let end = end.max().or_else(|| rest.rfind(quote)).unwrap_or(first);
    let tail = rest.get(end + 1..).unwrap_or_default();
    format!("{head}{quote}{HIDDEN}{quote}{}", without_quoted(tail))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::param::ParamKind;
    use crate::table::{Column, Key, KeyKind};

    fn secrets(values: &[Value]) -> Secrets {
        let param = |value: &Value| Param {
            name: "s".into(),
            kind: ParamKind::Text,
            value: value.clone(),
            meaning: None,
            secret: true,
        };
        Secrets::of(&values.iter().map(param).collect::<Vec<_>>())
    }

    #[test]
    fn values_are_taken_out_however_they_are_written() {
        let all = secrets(&[Value::Text("it's \"so\"".into()), Value::Int(48_151), Value::Null]);
        for (said, shown) in [
            ("Duplicate entry 'o'neil@x' for key 'email'", "Duplicate entry '(hidden)' for key 'email'"),
            (
                "Incorrect integer value: 'a 'b' for column `s`.`t`.`c` at row 1",
                "Incorrect integer value: '(hidden)' for column `s`.`t`.`c` at row 1",
            ),
            (
                "invalid input syntax for type integer: \"x\"y\"",
                "invalid input syntax for type integer: \"(hidden)\"",
            ),
            (
                "duplicate key value violates unique constraint \"k_e\". Key (email)=(a)b) already exists",
                "duplicate key value violates unique constraint \"k_e\". Key (email)=((hidden)) already exists",
            ),
            (
                "new row for relation \"k\" violates check constraint \"c\". Failing row contains (1, a)",
                "new row for relation \"k\" violates check constraint \"c\". Failing row contains ((hidden))",
            ),
            ("invalid value for \"secret\"", "invalid value for \"(hidden)\""),
            ("Data too long for column 'name' at row 1", "Data too long for column 'name' at row 1"),
            ("UNIQUE constraint failed: keeper.email", "UNIQUE constraint failed: keeper.email"),
        ] {
            assert_eq!(without_values(said), shown);
        }
        assert_eq!(all.scrub("Key (k)=(it's \"so\") exists"), "Key (k)=((hidden)) exists");
        assert_eq!(all.scrub("'it''s \"so\"' and \"it's \\\"so\\\"\""), "'(hidden)' and \"(hidden)\"");
        let mut document = json!({ "n": 48151, "m": 7, "t": ["it's \"so\"", 48151.5] });
        all.scrub_document(&mut document);
        assert_eq!(document, json!({ "n": HIDDEN, "m": 7, "t": [HIDDEN, 48151.5] }));
        assert!(secrets(&[Value::Null]).is_empty());
        assert!(!format!("{all:?}").contains("48151"));
    }

    #[test]
    fn what_differs_still_does() {
        let (a, b, c) = (Value::Int(1), Value::Int(2), Value::Int(3));
        let text = |value: &Value, earlier: &[&Value]| match stands_for(value, earlier) {
            Value::Text(text) => text,
            other => panic!("{other:?}"),
        };
        assert_eq!(text(&a, &[]), HIDDEN);
        assert_eq!(text(&a, &[&a]), HIDDEN);
        assert_eq!(text(&b, &[&a, &a]), CHANGED);
        assert_eq!(text(&a, &[&a, &b]), HIDDEN);
        assert_eq!(text(&b, &[&a, &b]), CHANGED);
        assert_eq!(text(&c, &[&a, &b]), AGAIN);
    }

    fn target(key: &[usize]) -> Target {
        let column = |name: &str| Column {
            name: name.into(),
            declared: String::new(),
            generated: name == "made",
            not_null: false,
        };
        Target {
            table: "Person".into(),
            schema: "main".into(),
            columns: ["email", "year", "name", "made"].map(column).to_vec(),
            key: Key { kind: KeyKind::Primary, names: Vec::new(), columns: key.to_vec() },
            definition: String::new(),
            naming: Some(0),
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Veil::default(),
            family: Vec::new(),
        }
    }

    #[test]
    fn hidden_columns_and_the_numbers_of_rows() {
        let hidden =
            HiddenColumns::of(&["person.EMAIL".to_owned(), "other.name".to_owned(), "odd".to_owned()]);
        let row = |email: &str| {
            vec![Value::Text(email.into()), Value::Int(2026), Value::Text("Ada".into()), Value::Null]
        };
        for key in [&[0][..], &[1, 0], &[1]] {
            let mut own = target(key);
            hidden.apply(&mut own, HashKey([7; 32]));
            assert_eq!((own.hidden.clone(), own.naming), (vec![0, 3], None));
            assert_eq!(own.hides_key(), key.contains(&0));
            let of = |email: &str| key.iter().map(|at| row(email)[*at].clone()).collect::<Vec<_>>();
            let [one, two] = ["a@x", "b@x"].map(|email| own.shown_key(&of(email)));
            assert_eq!(one == two, !key.contains(&0));
            assert_eq!(own.shown_key(&one), one, "what stands for a key stays");
            let once = hide_image(&own, Image::of(Some(row("a@x")), Some(row("b@x"))).unwrap());
            assert_eq!(hide_image(&own, once.clone()), once, "what is hidden stays");
            assert!(!format!("{once:?}").contains("@x"));
            if key.contains(&0) {
                assert_eq!(once.before().unwrap()[0], one[0]);
                // Under another key it is another number.
                let mut other = target(key);
                hidden.apply(&mut other, HashKey([8; 32]));
                assert_ne!(other.shown_key(&of("a@x")), one);
            }
        }
        let mut free = target(&[0]);
        HiddenColumns::of(&["hive.email".to_owned()]).apply(&mut free, HashKey([7; 32]));
        assert_eq!(hide_rows(&free, [Some(row("a@x"))]), [Some(row("a@x"))]);
    }
}
