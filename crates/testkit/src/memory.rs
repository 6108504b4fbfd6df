//! A fourth engine, for tests: documents in memory, with criteria and assignments on fields. It knows no SQL, and shows that
//! nothing above the port does either.
//!
//! A step is one JSON object: `{"update": "hive", "where": {"apiary": 3}, "set": {"queen": "red"}}` or
//! `{"delete": "hive", "where": {…}}`. A criterion compares one field with a value, or, as `{"over": n}`, with a number. An
//! assigned value is a value, `{"of": field}` or `{"plus": [field, n]}`. Steps follow one another; what stands in
//! `/* … */` between them is a comment.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError};

use marktwice_core::finding::{Code, Finding, TextPlace};
use marktwice_core::hash::{self, Fingerprint, RowHash};
use marktwice_core::mark::{Foreseen, HeldRow, Label, Parts, StepKind};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::side::SideWrite;
use marktwice_core::steps::{Touch, Touches};
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Declared, Survey, TableSummary};
use marktwice_core::table::{Column, Extent, Key, KeyKind, Pin, Target};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Image, Value};
use marktwice_port::{
    Batch, Broken, ChangeSource, CommitOutcome, Composed, Cut, Draft, Engine, EngineError, FoundSink, Hold,
    Intent, Keep, KeepSink, Language, Limits, Matched, PairSink, Plan, Reach, RowSink, Session, Settings,
    Stopper, Tx, Uncomposed, Viewing, Watch, Which, Work,
};
use serde_json::Value as Json;

/// One collection: the names of its fields, the first of them its key, and its documents.
#[derive(Debug, Clone, Default)]
struct Collection {
    fields: Vec<String>,
    rows: BTreeMap<i64, Vec<Value>>,
}

/// What a database holds.
#[derive(Debug, Clone, Default)]
struct Store {
    collections: BTreeMap<String, Collection>,
    /// Counts commits: a transaction that began before the last one is refused.
    version: u64,
    /// Numbers of transactions that committed.
    committed: Vec<u64>,
    begun: u64,
}

type Shared = Arc<Mutex<Store>>;

/// All databases of the process, by address.
static ALL: LazyLock<Mutex<BTreeMap<String, Shared>>> = LazyLock::new(Mutex::default);

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn other(what: impl Into<String>) -> EngineError {
    EngineError::Other(what.into())
}

/// Makes a collection in the database of an address: fields, of which the first is the key, and documents.
pub fn fill(address: &str, name: &str, fields: &[&str], rows: &[&[Value]]) {
    let shared = lock(&ALL).entry(address.to_owned()).or_default().clone();
    let key = |row: &[Value]| if let Some(Value::Int(n)) = row.first() { *n } else { 0 };
    let collection = Collection {
        fields: fields.iter().map(|f| (*f).to_owned()).collect(),
        rows: rows.iter().map(|row| (key(row), row.to_vec())).collect(),
    };
    lock(&shared).collections.insert(name.to_owned(), collection);
}

/// Sets one field of one document, as somebody else would.
pub fn poke(address: &str, name: &str, key: i64, field: usize, value: Value) {
    let shared = lock(&ALL).entry(address.to_owned()).or_default().clone();
    let mut store = lock(&shared);
    store.version += 1;
    if let Some(cell) =
        store.collections.get_mut(name).and_then(|c| c.rows.get_mut(&key)).and_then(|row| row.get_mut(field))
    {
        *cell = value;
    }
}

/// Every document of a database.
pub fn dump(address: &str) -> Vec<String> {
    let shared = lock(&ALL).entry(address.to_owned()).or_default().clone();
    let store = lock(&shared);
    let each = store.collections.iter();
    each.flat_map(|(name, c)| c.rows.values().map(move |row| format!("{name} {row:?}"))).collect()
}

/// The engine.
pub struct Memory;

impl Engine for Memory {
    fn language(&self) -> &dyn Language {
        &Criteria
    }

    fn open(&self, address: &str, intent: Intent, _: Limits) -> Result<Box<dyn Session>, EngineError> {
        let shared = lock(&ALL).get(address).cloned();
        let shared = shared.ok_or_else(|| EngineError::missing(format!("there is no {address}")))?;
        let database = DatabaseId {
            engine: "documents".to_owned(),
            version: "1".to_owned(),
            name: address.to_owned(),
            identity: address.to_owned(),
            formerly: Vec::new(),
        };
        Ok(Box::new(Open { shared, database, intent, hide: None }))
    }
}

/// The language of criteria and assignments.
struct Criteria;

impl Language for Criteria {
    fn cut(&self, text: &str) -> Result<Cut, TextPlace> {
        let mut cut = Cut::default();
        let mut at = 0;
        loop {
            let rest = text.get(at..).unwrap_or_default();
            at += rest.len() - rest.trim_start().len();
            let rest = text.get(at..).unwrap_or_default();
            if rest.is_empty() {
                return Ok(cut);
            }
            if rest.starts_with("/*") {
                let end = rest.find("*/").ok_or_else(|| TextPlace::in_source(text, at, at + 2))?;
                cut.comments.push(at + 2..at + end);
                at += end + 2;
                continue;
            }
            let mut values = serde_json::Deserializer::from_str(rest).into_iter::<Json>();
            let read = values.next().is_some_and(|value| value.is_ok());
            // What cannot be read is one step, and refused as that.
            let length = if read { values.byte_offset() } else { rest.len() };
            cut.steps.push(at..at + length);
            at += length;
        }
    }

    fn compose(&self, draft: &Draft<'_>) -> Result<Composed, Uncomposed> {
        let wrong =
            |what: &str| Uncomposed { message: what.to_owned(), hint: "name it otherwise".to_owned() };
        let pair = |typed: &str| -> Option<(String, Json)> {
            let (name, value) = typed.split_once('=')?;
            Some((name.to_owned(), serde_json::from_str(value).unwrap_or_else(|_| value.into())))
        };
        let key = draft.target.key.names.first().cloned().unwrap_or_default();
        let criteria: Json = match draft.rows {
            Which::All => Json::Object(serde_json::Map::new()),
            Which::Condition(text) => serde_json::from_str(text).map_err(|_| wrong("it is no criterion"))?,
            Which::Typed { key: typed, .. } => {
                let value = serde_json::from_str(typed).map_err(|_| wrong("it is no key"))?;
                Json::Object([(key, value)].into_iter().collect())
            }
            Which::Row { key: values, .. } => {
                let value = values.first().map_or(Json::Null, Value::to_json);
                Json::Object([(key, value)].into_iter().collect())
            }
        };
        let mut step = serde_json::Map::new();
        let name: Json = draft.target.table.as_str().into();
        match draft.work {
            Work::Delete => drop(step.insert("delete".to_owned(), name)),
            Work::Set(typed) => {
                let sets: Option<serde_json::Map<_, _>> = typed.iter().map(|typed| pair(typed)).collect();
                step.insert("update".to_owned(), name);
                step.insert(
                    "set".to_owned(),
                    Json::Object(sets.ok_or_else(|| wrong("it has no equals sign"))?),
                );
            }
            Work::SetEach => return Err(wrong("say what is to be set")),
        }
        step.insert("where".to_owned(), criteria.clone());
        let one = matches!(draft.rows, Which::Typed { .. } | Which::Row { .. });
        let text = Json::Object(step).to_string();
        Ok(Composed { text, condition: Some(criteria.to_string()), rows: one.then_some(1) })
    }

    fn table_name(&self, typed: &str) -> (Option<String>, String) {
        (None, typed.to_owned())
    }

    fn comment(&self, lines: &[String]) -> String {
        format!("/*\n{}\n*/\n", lines.join("\n"))
    }

    fn end(&self) -> &'static str {
        ""
    }
}

/// A step, read.
#[derive(Debug)]
struct Step {
    criteria: Vec<(usize, Json)>,
    sets: Vec<(usize, Json)>,
}

impl Step {
    fn matches(&self, row: &[Value]) -> bool {
        self.criteria.iter().all(|(at, wanted)| {
            let held = row.get(*at).unwrap_or(&Value::Null);
            match (wanted.get("over").and_then(Json::as_i64), held) {
                (Some(least), Value::Int(n)) => *n > least,
                (Some(_), _) => false,
                (None, _) => held.to_json() == *wanted,
            }
        })
    }

    fn after(&self, row: &[Value], fields: &[String]) -> Vec<Value> {
        let field = |name: &Json| {
            let at = fields.iter().position(|f| Some(f.as_str()) == name.as_str());
            at.and_then(|at| row.get(at)).cloned().unwrap_or(Value::Null)
        };
        let mut after = row.to_vec();
        for (at, value) in &self.sets {
            let made = match (value.get("of"), value.get("plus").and_then(Json::as_array)) {
                (Some(name), _) => field(name),
                (None, Some(terms)) => {
                    match (terms.first().map(field), terms.get(1).and_then(Json::as_i64)) {
                        (Some(Value::Int(n)), Some(more)) => Value::Int(n + more),
                        _ => Value::Null,
                    }
                }
                (None, None) => serde_json::from_value(value.clone()).unwrap_or(Value::Null),
            };
            if let Some(cell) = after.get_mut(*at) {
                *cell = made;
            }
        }
        after
    }

    /// Fields that are read.
    fn reads(&self, fields: &[String]) -> Vec<usize> {
        let named = |value: &Json| {
            let name = value.get("of").or_else(|| value.get("plus")?.get(0))?.as_str()?.to_owned();
            fields.iter().position(|f| *f == name)
        };
        let own = self.criteria.iter().map(|(at, _)| *at);
        own.chain(self.sets.iter().filter_map(|(_, value)| named(value))).collect()
    }
}

fn target(name: &str, collection: &Collection) -> Target {
    let column = |f: &String| Column {
        name: f.clone(),
        declared: "any".to_owned(),
        generated: false,
        not_null: false,
    };
    let key = collection.fields.iter().take(1).cloned().collect();
    Target {
        table: name.to_owned(),
        schema: String::new(),
        columns: collection.fields.iter().map(column).collect(),
        key: Key { kind: KeyKind::Primary, names: key, columns: vec![0] },
        definition: hash::texts(collection.fields.iter().map(String::as_str)),
        naming: None,
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    }
}

struct Open {
    shared: Shared,
    database: DatabaseId,
    intent: Intent,
    hide: Option<(HiddenColumns, hash::HashKey)>,
}

impl Open {
    fn collection(&self, name: &str) -> Result<Collection, EngineError> {
        let found = lock(&self.shared).collections.get(name).cloned();
        found.ok_or_else(|| EngineError::missing(format!("there is no collection {name}")))
    }
}

/// Rows that are held: each with what it was and what it becomes.
type Rows = Vec<HeldRow>;

fn held(step: &Step, kind: StepKind, collection: &Collection) -> Rows {
    let matched = collection.rows.values().filter(|row| step.matches(row));
    let row = |(ordinal, row): (i64, &Vec<Value>)| {
        let before = row.clone();
        let image = match kind {
            StepKind::Delete => Image::Delete { before },
            _ => Image::Update { after: step.after(row, &collection.fields), before },
        };
        HeldRow { ordinal, key: row.iter().take(1).cloned().collect(), image, rest: None }
    };
    (1..).zip(matched).map(row).collect()
}

fn about(rows: &Rows, collection: &Collection) -> Matched {
    Matched {
        matched: rows.len() as u64,
        total: Extent::exact(collection.rows.len() as u64),
        side: Vec::new(),
        along: Vec::new(),
        many: None,
        back: WayBack::default(),
        fires: false,
    }
}

fn hand_over(rows: Option<&Rows>, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
    let rows = rows.ok_or_else(|| other("no rows are held"))?;
    rows.iter().try_for_each(|row| sink(row).map_err(EngineError::Sink))
}

fn detail(plan: &Plan) -> Result<&Step, EngineError> {
    plan.detail.downcast_ref().ok_or_else(|| other("the plan is another engine's"))
}

/// A view: a copy of what was there.
struct View {
    store: Store,
    held: BTreeMap<usize, Rows>,
}

impl Hold for View {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        let collection = self.store.collections.get(&plan.target.table).ok_or_else(|| other("it is gone"))?;
        let rows = held(detail(plan)?, plan.kind, collection);
        let about = about(&rows, collection);
        self.held.insert(plan.step, rows);
        Ok(about)
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        hand_over(self.held.get(&step), sink)
    }
}

impl Session for Open {
    fn database(&self) -> &DatabaseId {
        &self.database
    }

    fn obey(&mut self, _: &Watch) {}

    fn hide(&mut self, columns: &HiddenColumns, key: hash::HashKey) {
        self.hide = Some((columns.clone(), key));
    }

    fn notes(&self) -> &[String] {
        &[]
    }

    fn plan(&mut self, source: &str, _: &[Code], _: &[Plan]) -> Result<Plan, EngineError> {
        let refuse = |range: &Range<usize>, what: String| {
            let place = TextPlace::in_source(source, range.start, range.end);
            EngineError::Refused(Box::new(Finding::new(Code::NotUnderstood, what).at(place)))
        };
        let steps = Criteria.cut(source).map(|cut| cut.steps).unwrap_or_default();
        let [range] = steps.as_slice() else { return Err(other("there is not exactly one step")) };
        let text = source.get(range.clone()).unwrap_or_default();
        let json: Json = serde_json::from_str(text).map_err(|e| refuse(range, e.to_string()))?;
        let (kind, name) = match (json.get("update"), json.get("delete")) {
            (Some(name), None) => (StepKind::Update, name),
            (None, Some(name)) => (StepKind::Delete, name),
            _ => return Err(refuse(range, "it neither updates nor deletes".to_owned())),
        };
        let name = name.as_str().unwrap_or_default();
        let collection = self.collection(name).map_err(|e| refuse(range, e.to_string()))?;
        let mut target = target(name, &collection);
        if let Some((columns, key)) = &self.hide {
            columns.apply(&mut target, *key);
        }
        let target = target;
        let fields = |part: &str| -> Result<Vec<(usize, Json)>, EngineError> {
            let empty = serde_json::Map::new();
            let all = json.get(part).and_then(Json::as_object).unwrap_or(&empty);
            let one = |(field, value): (&String, &Json)| {
                let at = target.position(field);
                let at = at.ok_or_else(|| refuse(range, format!("{name} has no field {field}")))?;
                Ok((at, value.clone()))
            };
            all.iter().map(one).collect()
        };
        let step = Step { criteria: fields("where")?, sets: fields("set")? };
        let exact = |column| Foreseen { column, label: Label::Exact, derived: false, why: None };
        let mut foreseen: Vec<Foreseen> = step.sets.iter().map(|(at, _)| exact(*at)).collect();
        foreseen.sort_by_key(|f| f.column);
        let mut findings = Vec::new();
        if step.criteria.is_empty() {
            findings
                .push(Finding::new(Code::NoFilter, format!("there is no criterion: all of {name} match")));
        }
        let pinned = step.criteria.iter().any(|(at, _)| *at == 0);
        let reads = step.reads(&collection.fields);
        Ok(Plan {
            doubt: false,
            reads_hidden: false,
            runs_hidden: false,
            counted: false,
            step: 0,
            kind,
            parts: Parts::new(&target, kind, &reads, &foreseen),
            statement: text.to_owned(),
            sent: None,
            statement_hash: hash::texts([json.to_string().as_str()]),
            foreseen,
            reads: step.criteria.iter().map(|(at, _)| *at).collect(),
            assigned: Vec::new(),
            pin: if pinned { Pin::PrimaryKey(target.key.names.clone()) } else { Pin::Nothing },
            findings,
            leave_out: None,
            along: Vec::new(),
            elsewhere: false,
            triggered: Vec::new(),
            archive: None,
            settings: Vec::new(),
            target,
            detail: Box::new(step),
        })
    }

    fn view(&mut self, _: &[&Plan], work: &mut Viewing<'_>) -> Result<(), EngineError> {
        let store = lock(&self.shared).clone();
        work(&mut View { store, held: BTreeMap::new() })
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        let (name, step) = (&plan.target.table, detail(plan)?);
        let mut touches = Touches::default();
        touches.of_target(name, plan.kind, &plan.target, &plan.foreseen);
        let fields: Vec<String> = plan.target.columns.iter().map(|c| c.name.clone()).collect();
        let read = step.reads(&fields).into_iter().filter_map(|at| fields.get(at));
        touches.reads.extend(read.map(|field| Touch::column(name, field)));
        touches.reads.push(Touch::rows(name));
        Ok(touches)
    }

    fn matched_rows(
        &mut self,
        plan: &Plan,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        let rows = held(detail(plan)?, plan.kind, &self.collection(&plan.target.table)?);
        let most = limit.map_or(rows.len(), |n| usize::try_from(n).unwrap_or(usize::MAX));
        rows.iter().take(most).try_for_each(|row| sink(row).map_err(EngineError::Sink))?;
        Ok(rows.len() as u64)
    }

    fn study(&mut self, _: &Plan, _: &Wish) -> Result<Study, EngineError> {
        Ok(Study::default())
    }

    fn view_rows(
        &mut self,
        _: Option<&str>,
        view: &str,
        _: &str,
        _: Option<u64>,
        _: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        Err(EngineError::missing(format!("there is no view {view}")))
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        let store = lock(&self.shared);
        let one = |(name, c): (&String, &Collection)| TableSummary {
            table: name.clone(),
            rows: Some(c.rows.len() as u64),
            key: c.fields.iter().take(1).cloned().collect(),
            columns: c.fields.len(),
            view: false,
        };
        Ok(store.collections.iter().map(one).collect())
    }

    fn survey(&mut self, _: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        let collection = self.collection(table)?;
        Ok(Survey {
            target: target(table, &collection),
            declared: Declared::default(),
            view: None,
            rows: collection.rows.len() as u64,
            unique_in_fact: Vec::new(),
            skipped: None,
        })
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        let number: Option<u64> = token.parse().ok();
        Ok(number.map(|number| lock(&self.shared).committed.contains(&number)))
    }

    fn describe(&mut self, _: &str, table: &str) -> Result<Target, EngineError> {
        Ok(target(table, &self.collection(table)?))
    }

    fn first_rows(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        Ok(self.collection(&target.table)?.rows.into_values().take(limit as usize).collect())
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let collection = self.collection(&target.table)?;
        while let Some(change) = source().map_err(EngineError::Sink)? {
            let now = find(&collection, &change.key);
            sink(&change, now.map(Vec::as_slice)).map_err(EngineError::Sink)?;
        }
        Ok(())
    }

    fn restore_reach(&mut self, _: &Batch) -> Result<Reach, EngineError> {
        Ok(Reach::default())
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        let store = lock(&self.shared);
        let one = |(name, c): (&String, &Collection)| {
            let mut all = Fingerprint::default();
            c.rows.values().for_each(|row| all.add(&RowHash::of(row)));
            (name.clone(), all)
        };
        Ok(store.collections.iter().map(one).collect())
    }

    fn begin(&mut self, _: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        if self.intent != Intent::Write {
            return Err(EngineError::read_only("this session was opened for reading".to_owned()));
        }
        let mut shared = lock(&self.shared);
        shared.begun += 1;
        let (number, store) = (shared.begun, shared.clone());
        drop(shared);
        Ok(Box::new(Writing { shared: self.shared.clone(), number, store, held: BTreeMap::new() }))
    }
}

fn find<'c>(collection: &'c Collection, key: &[Value]) -> Option<&'c Vec<Value>> {
    let Some(Value::Int(key)) = key.first() else { return None };
    collection.rows.get(key)
}

/// A transaction: it works on a copy, which becomes the database's own when nobody else has committed meanwhile.
struct Writing {
    shared: Shared,
    number: u64,
    store: Store,
    held: BTreeMap<usize, (String, Rows)>,
}

impl Writing {
    fn collection(&mut self, name: &str) -> Result<&mut Collection, EngineError> {
        self.store.collections.get_mut(name).ok_or_else(|| other(format!("there is no collection {name}")))
    }

    fn of(&self, step: usize) -> Result<&(String, Rows), EngineError> {
        self.held.get(&step).ok_or_else(|| other("no rows are held"))
    }

    /// Writes what each held row becomes.
    fn write(&mut self, step: usize) -> Result<u64, EngineError> {
        let (name, rows) = self.of(step)?.clone();
        let collection = self.collection(&name)?;
        let key = |row: &[Value]| if let Some(Value::Int(n)) = row.first() { *n } else { 0 };
        for row in &rows {
            if let Some(before) = row.image.before() {
                collection.rows.remove(&key(before));
            }
        }
        for after in rows.iter().filter_map(|row| row.image.after()) {
            if collection.rows.insert(key(after), after.to_vec()).is_some() {
                let message = format!("{name} {} is there already", key(after));
                let kind = marktwice_port::Constraint::Unique;
                return Err(EngineError::Constraint(Box::new(Broken::new(kind, message))));
            }
        }
        Ok(rows.len() as u64)
    }
}

impl Hold for Writing {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        let collection = self.collection(&plan.target.table)?;
        let rows = held(detail(plan)?, plan.kind, collection);
        let about = about(&rows, collection);
        self.held.insert(plan.step, (plan.target.table.clone(), rows));
        Ok(about)
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        hand_over(self.held.get(&step).map(|(_, rows)| rows), sink)
    }
}

impl Tx for Writing {
    fn settings(&self) -> Settings {
        Settings { said: vec!["held in memory".to_owned()], warnings: Vec::new() }
    }

    fn hold_rows(
        &mut self,
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Matched, EngineError> {
        let collection = self.collection(&batch.target.table)?;
        let mut rows = Rows::new();
        while let Some(change) = source().map_err(EngineError::Sink)? {
            let now = find(collection, &change.key).cloned();
            let wanted = match sink(&change, now.as_deref()).map_err(EngineError::Sink)? {
                Keep::Hold(wanted) => wanted,
                Keep::Anew(_) => return Err(other("its rows have keys")),
                Keep::Leave => continue,
            };
            let image = Image::of(now, wanted).ok_or_else(|| other("neither there nor wanted"))?;
            rows.push(HeldRow { ordinal: change.ordinal, key: change.key, image, rest: None });
        }
        let about = about(&rows, collection);
        self.held.insert(batch.step, (batch.target.table.clone(), rows));
        Ok(about)
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        self.write(plan.step)
    }

    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError> {
        self.write(batch.step)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let (name, rows) = self.of(step)?.clone();
        let collection = self.collection(&name)?;
        for row in &rows {
            let now = find(collection, row.image.after().unwrap_or(&row.key));
            sink(row, now.map(Vec::as_slice)).map_err(EngineError::Sink)?;
        }
        Ok(())
    }

    fn effects(&mut self, _: usize) -> Result<Vec<SideWrite>, EngineError> {
        Ok(Vec::new())
    }

    fn total(&mut self, step: usize) -> Result<u64, EngineError> {
        let (name, _) = self.of(step)?.clone();
        Ok(self.collection(&name)?.rows.len() as u64)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    fn token(&mut self) -> Option<String> {
        Some(self.number.to_string())
    }

    fn commit(self: Box<Self>) -> CommitOutcome {
        let mut shared = lock(&self.shared);
        if shared.version != self.store.version {
            let moved = EngineError::moved("somebody else has committed meanwhile".to_owned());
            return CommitOutcome::RolledBack(moved);
        }
        shared.collections = self.store.collections;
        shared.version += 1;
        shared.committed.push(self.number);
        CommitOutcome::Committed
    }

    fn rollback(self: Box<Self>) -> Result<(), EngineError> {
        Ok(())
    }
}
