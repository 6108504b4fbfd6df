//! An open database, the same for every relational engine.

use marktwice_core::Value;
use marktwice_core::archive::Archive;
use marktwice_core::change::Setting;
use marktwice_core::finding::{Code, Finding};
use marktwice_core::hash::{Fingerprint, HashKey, RowHash};
use marktwice_core::param::Bound;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::side::SideWrite;
use marktwice_core::steps::{Touch, Touches};
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{Column, NamedBy, Target};
use marktwice_core::triggered::Triggered;
use marktwice_core::witness::Left;
use marktwice_port::{
    Batch, ChangeSource, EngineError, FoundSink, Plan, Reach, RowSink, Session, SheetRows, SheetTable,
    Stopper, Told, Tx, Viewing, Watch,
};
use marktwice_sql::compose::table_name;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::step::Brought;

use crate::detail::Detail;
use crate::disclosure::{self, Hidden};
use crate::driver::Driver;
use crate::held::stream_plainly;
use crate::insight;
use crate::shell::{Tabled, forms};
use crate::statement::detail;
use crate::transaction::Transaction;
use crate::view::View;
use crate::{along, archive, asked, sheet, through, ties, triggered, witness};

/// An open database of a relational engine.
pub struct Opened<D> {
    driver: D,
    database: DatabaseId,
    notes: Vec<String>,
    named_by: NamedBy,
    /// What is hidden, and whether the named columns are closed already over those that are computed from them.
    hidden: Hidden,
    closed: bool,
    /// Settings that a change makes, in words.
    set_up: Vec<String>,
}

impl<D: Driver> Opened<D> {
    /// One over this connection; `notes` is what happened on opening it.
    pub fn new(driver: D, database: DatabaseId, notes: Vec<String>) -> Self {
        Opened {
            driver,
            database,
            notes,
            named_by: NamedBy::default(),
            hidden: Hidden::default(),
            closed: false,
            set_up: Vec::new(),
        }
    }

    /// What is hidden here, with all columns that are computed from hidden ones.
    fn closed(&mut self) -> Result<&Hidden, EngineError> {
        if !std::mem::replace(&mut self.closed, true) && !self.hidden.columns.is_empty() {
            self.hidden.columns = disclosure::closed(&mut self.driver, &self.hidden.columns)?;
        }
        Ok(&self.hidden)
    }

    /// The target with the name that was said for its rows, and what is hidden of them.
    fn named(&mut self, mut target: Target) -> Target {
        if let Some(wrong) = self.named_by.apply(&mut target)
            && !self.notes.contains(&wrong)
        {
            self.notes.push(wrong);
        }
        self.hidden.columns.apply_to_named(&mut target, self.hidden.key);
        target
    }
}

/// What putting rows back reaches.
pub(crate) fn reach_of<D: Driver>(driver: &mut D, batch: &Batch) -> Result<Reach, EngineError> {
    let (side, back) = driver.restore_reach(batch)?;
    let table = driver.described(&batch.target.schema, &batch.target.table)?;
    let keys = driver.foreign_keys(&table)?;
    let graph = along::of_batch(driver, &table, &keys, batch)?;
    let along = graph.as_ref().map(|graph| graph.along()).unwrap_or_default();
    let fired = match &graph {
        Some(graph) => triggered::of_graph(driver, graph)?,
        None => Vec::new(),
    };
    Ok(Reach { side, back, along, fired })
}

/// The columns of a table in order, quoted.
fn columns<T: Tabled>(table: &T) -> String {
    let names = table.target().columns.iter().map(|c| T::LANGUAGE.quoted(&c.name));
    names.collect::<Vec<_>>().join(", ")
}

/// A query for the number of rows that a statement matches: each once, however many rows a join gives for it, and no more
/// than it takes.
fn count<T: Tabled>(detail: &Detail<T>) -> Result<String, EngineError> {
    let step = &detail.step;
    if step.sources.is_none() && step.tail.is_none() {
        return Ok(step.query("count(*)", Ask::default()));
    }
    let visible = T::LANGUAGE.quoted(&step.table.visible().text);
    let identity = detail.table.identity();
    let own = identity.iter().enumerate().map(|(at, (_, own))| format!("{visible}.{own} AS marktwice_k{at}"));
    let own = own.collect::<Vec<_>>().join(", ");
    if own.is_empty() {
        return Err(EngineError::Other("without a key the rows of a join cannot be counted".to_owned()));
    }
    let distinct = if step.sources.is_some() { "DISTINCT " } else { "" };
    let rows = step.query(&format!("{distinct}{own}"), Ask::default());
    Ok(format!("SELECT count(*) FROM (\n{rows}\n) AS marktwice_rows"))
}

impl<D: Driver> Session for Opened<D> {
    fn database(&self) -> &DatabaseId {
        &self.database
    }

    fn obey(&mut self, watch: &Watch) {
        self.driver.obey(watch);
    }

    fn name_by(&mut self, names: &NamedBy) {
        self.named_by.clone_from(names);
    }

    fn hide(&mut self, columns: &HiddenColumns, key: HashKey) {
        (self.hidden.columns, self.hidden.key, self.closed) = (columns.clone(), key, false);
    }

    fn bind(&mut self, values: &[Bound]) -> Result<(), EngineError> {
        let secret = values.iter().filter(|value| value.secret).map(|value| value.name.clone());
        self.hidden.secrets.extend(secret);
        values.iter().try_for_each(|value| self.driver.bind(value.clone()))
    }

    fn set_up(&mut self, settings: &[Setting]) -> Result<(), EngineError> {
        let refused = |message: String, hint: String| {
            EngineError::Refused(Box::new(Finding::new(Code::NotUnderstood, message).hint(hint)))
        };
        for setting in settings {
            let known = D::SETTINGS.iter().find(|known| known.eq_ignore_ascii_case(&setting.name));
            let Some(known) = known else {
                let message = format!("[session] says {}, which a change may not set here", setting.name);
                let hint = match D::SETTINGS {
                    [] => "leave it out: this engine has no setting of a session that bears on what a statement means".to_owned(),
                    all => format!("it may set {}", all.join(", ")),
                };
                return Err(refused(message, hint));
            };
            self.driver.set(known, &setting.value).map_err(|error| {
                let message = format!("[session] says {setting}, which the engine does not take: {}", error);
                refused(message, "write a value that it knows".to_owned())
            })?;
            self.set_up.push(format!("{setting}, as the change says"));
        }
        Ok(())
    }

    fn column(
        &mut self,
        schema: Option<&str>,
        table: &str,
        column: &str,
    ) -> Result<Option<Column>, EngineError> {
        self.driver.looking(|driver| sheet::column(driver, schema, table, column))
    }

    fn spread(&mut self, table: &SheetTable, rows: &mut SheetRows<'_>) -> Result<u64, EngineError> {
        sheet::spread(&mut self.driver, table, rows)
    }

    fn notes(&self) -> &[String] {
        &self.notes
    }

    fn rest(&mut self) -> Result<(), EngineError> {
        self.driver.rest()
    }

    fn may_write(&mut self) -> Result<bool, EngineError> {
        self.driver.may_write(&self.database)
    }

    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        let mut plan = through::plan(&mut self.driver, source, allow, earlier)?;
        ties::settle(&mut self.driver, &mut plan)?;
        along::settle(&mut self.driver, &mut plan)?;
        triggered::settle(&mut self.driver, &mut plan)?;
        // What a mark covers was settled before: it is the same whatever is shown.
        let hidden = self.closed()?.clone();
        plan.target = self.named(plan.target);
        disclosure::follow(&mut self.driver, &mut plan, &hidden)?;
        let detail = detail::<D::Table>(&plan)?;
        plan.doubt = detail.table.leaves_doubt()
            || detail.fires.for_rows
            || detail.fires.for_statement
            || !plan.along.is_empty()
            || !plan.triggered.is_empty();
        let along = plan.along.iter_mut().map(|along| &mut along.target);
        let fired = plan.triggered.iter_mut().filter_map(|table| table.target.as_mut().ok());
        along.chain(fired).for_each(|target| hidden.columns.apply_to_named(target, hidden.key));
        Ok(plan)
    }

    fn conceal(&mut self, plan: &mut Plan, also: &[(String, String)]) -> Result<(), EngineError> {
        let mut hidden = self.closed()?.clone();
        hidden.columns = hidden.columns.and(also.iter().cloned());
        disclosure::follow(&mut self.driver, plan, &hidden)
    }

    fn shown_name(&mut self, typed: &str) -> Result<Option<String>, EngineError> {
        let (schema, table) = table_name(typed);
        let found = self.driver.looking(|driver| driver.named(schema.as_deref(), &table));
        Ok(found.ok().map(|table| table.shown().to_owned()))
    }

    fn discloses(&mut self, query: &str, also: &[(String, String)]) -> Result<bool, EngineError> {
        let mut hidden = self.closed()?.clone();
        hidden.columns = hidden.columns.and(also.iter().cloned());
        Ok(disclosure::discloses(&mut self.driver, query, &hidden))
    }

    fn view(&mut self, plans: &[&Plan], work: &mut Viewing<'_>) -> Result<(), EngineError> {
        self.driver.viewing(plans, &mut |driver| work(&mut View::new(driver, plans)))
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        let mut touches = self.driver.looking(|driver| driver.touches(plan))?;
        touches.writes.extend(plan.archive.iter().map(|archive| Touch::rows(&archive.target.table)));
        Ok(touches)
    }

    fn archive(&mut self, plan: &mut Plan, table: &str, make: bool) -> Result<(), EngineError> {
        match self.driver.looking(|driver| archive::settle(driver, plan, table))? {
            true => {}
            false if make => archive::promise(&mut self.driver, plan, table)?,
            false => return Err(archive::missing(&mut self.driver, plan, table)?),
        }
        let hidden = self.closed()?;
        if let Some(archive) = &mut plan.archive {
            hidden.columns.apply_to_named(&mut archive.target, hidden.key);
        }
        Ok(())
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        archive::make(&mut self.driver, archive, held, there)
    }

    fn copy_database(&mut self, file: &str, told: &mut Told<'_>) -> Result<u64, EngineError> {
        self.driver.copy_database(file, told)
    }

    fn reads(&mut self, query: &str) -> Result<Touches, EngineError> {
        self.driver.looking(|driver| asked::reads(driver, query))
    }

    fn matched_rows(
        &mut self,
        plan: &Plan,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        let detail = detail::<D::Table>(plan)?;
        if let Some(inserted) = &detail.step.inserted {
            let rows = match &inserted.brought {
                Brought::Defaults => return Ok(1),
                Brought::Rows(rows) => return Ok(rows.len() as u64),
                Brought::Query(_) => detail.step.text(inserted.source),
            };
            let with = detail.step.with.map_or("", |with| detail.step.text(with));
            let sql = format!("{with}\nSELECT count(*) FROM (\n{rows}\n) AS marktwice_rows");
            return self.driver.peeking(|driver| driver.number(&sql));
        }
        self.driver.peeking(|driver| {
            stream_plainly(driver, plan, detail, limit, sink)?;
            driver.number(&count(detail)?)
        })
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        let (named_by, hidden) = (self.named_by.clone(), self.closed()?.clone());
        let named = |target: &mut Target| {
            named_by.apply(target);
            hidden.columns.apply_to_named(target, hidden.key);
        };
        self.driver.looking(|driver| insight::study(driver, plan, wish, &named))
    }

    fn view_rows(
        &mut self,
        schema: Option<&str>,
        view: &str,
        statement: &str,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        insight::view_rows(&mut self.driver, (schema, view), statement, limit, sink)
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        self.driver.looking(insight::tables)
    }

    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        let mut survey = self.driver.looking(|driver| insight::survey(driver, schema, table))?;
        let hidden = self.closed()?.clone();
        survey.target = self.named(survey.target);
        if survey.view.is_some() {
            disclosure::hide_in_view(&mut self.driver, &mut survey.target, &hidden)?;
        }
        Ok(survey)
    }

    fn was_left(&mut self, table: &str, id: &str) -> Result<Option<bool>, EngineError> {
        witness::was_left(&mut self.driver, table, id)
    }

    fn left(&mut self, table: &str, most: u32) -> Result<Vec<Left>, EngineError> {
        witness::left(&mut self.driver, table, most)
    }

    fn table_to_leave_in(&mut self, table: &str, make: bool) -> Result<String, EngineError> {
        witness::table(&mut self.driver, table, make)
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        self.driver.outcome(token)
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        self.closed()?;
        let target = self.driver.looking(|driver| Ok(driver.described(schema, table)?.target().clone()))?;
        Ok(self.named(target))
    }

    fn first_rows(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        self.driver.looking(|driver| {
            let table = driver.described(&target.schema, &target.table)?;
            let keys: Vec<String> = target.key.names.iter().map(|k| D::Table::LANGUAGE.quoted(k)).collect();
            let order =
                if keys.is_empty() { String::new() } else { format!(" ORDER BY {}", keys.join(", ")) };
            let sql = format!("SELECT {} FROM {}{order} LIMIT {limit}", columns(&table), table.from());
            let mut all = Vec::new();
            driver.pinned(|driver| {
                driver.each(&sql, &forms(&table), &mut |row| {
                    all.push(row);
                    Ok(())
                })
            })?;
            Ok(all)
        })
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        self.driver.look_up(target, source, sink)
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        self.driver.looking(|driver| reach_of(driver, batch))
    }

    fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        self.driver.looking(|driver| triggered::which(driver, written, known, own, true))
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        self.driver.looking(|driver| {
            let mut all = Vec::new();
            for (schema, name) in driver.names(true)? {
                let table = driver.described(&schema, &name)?;
                // A row's own number is part of it where nothing else tells it.
                let row = table.identity().into_iter().map(|(_, own)| own);
                let row =
                    row.filter(|_| table.target().key.columns.is_empty() && table.row_identity().is_some());
                let mut forms = forms(&table);
                let mut list: Vec<String> = row.collect();
                forms.extend(list.iter().map(|_| D::Table::NUMBER));
                list.push(columns(&table));
                let sql = format!("SELECT {} FROM {}", list.join(", "), table.from());
                let mut fingerprint = Fingerprint::default();
                driver.pinned(|driver| {
                    driver.each(&sql, &forms, &mut |row| {
                        fingerprint.add(&RowHash::of(&row));
                        Ok(())
                    })
                })?;
                all.push((name, fingerprint));
            }
            Ok(all)
        })
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        let mut tx = Transaction::begin(&mut self.driver, stop)?;
        tx.say(self.set_up.clone());
        Ok(Box::new(tx))
    }
}
