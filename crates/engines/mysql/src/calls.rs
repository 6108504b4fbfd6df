//! What routines and triggers do in the end, as far as this user may see them.

use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, SideHow};
use marktwice_relational::foresee::Trigger;
use marktwice_relational::walk::{Body, Catalogue, Reached, Start, walk};
use marktwice_sql::Language;
use marktwice_sql::statement::routine::{self, Routine, Verb, Written};

use crate::catalog::{Fires, Table, cell, readable};
use crate::client::{My, TextRow, literal};
use crate::grants::Grants;
use crate::natives::{of_mysql, of_shapes};

/// Functions of the server's own that do more than give a value: locks of the session's, numbers that are taken, and
/// functions that wait.
const ACTS: &[&str] = &[
    "get_lock",
    "release_lock",
    "release_all_locks",
    "nextval",
    "setval",
    "sleep",
    "master_pos_wait",
    "source_pos_wait",
    "wait_for_executed_gtid_set",
    "wait_until_sql_thread_after_gtids",
    "master_gtid_wait",
    "spider_direct_sql",
    "spider_bg_direct_sql",
    "spider_copy_tables",
    "spider_flush_table_mon_cache",
];

/// The catalogue, asked on the way through routines and triggers.
pub(crate) struct Asking<'m> {
    pub(crate) my: &'m mut My,
    pub(crate) grants: &'m Grants,
    /// The database of names without one.
    pub(crate) schema: &'m str,
}

/// Whether a name is a function, or another word before a parenthesis, of the server's own. Older servers cannot tell;
/// there every name counts as one.
fn native(my: &mut My, name: &str) -> bool {
    if of_shapes(name) {
        return true;
    }
    if my.traits.mysql {
        // No list of it can be asked; what is loaded may be called anything else.
        let known = of_mysql(name);
        let word = format!(
            "SELECT EXISTS (SELECT 1 FROM information_schema.KEYWORDS WHERE WORD = {})",
            literal(name)
        );
        return known || my.one(&word).map_or(true, |answer| answer.as_deref() != Some("0"));
    }
    let sql = format!(
        "SELECT EXISTS (SELECT 1 FROM information_schema.SQL_FUNCTIONS WHERE FUNCTION = {0}) \
         OR EXISTS (SELECT 1 FROM information_schema.KEYWORDS WHERE WORD = {0})",
        literal(name)
    );
    my.one(&sql).map_or(true, |answer| answer.as_deref() != Some("0"))
}

impl Asking<'_> {
    /// Users' routines of a name.
    pub(crate) fn stored(&mut self, name: &str) -> Result<Vec<Body>, EngineError> {
        let rows = self.my.rows(&format!(
            "SELECT ROUTINE_NAME, ROUTINE_DEFINITION, IS_DETERMINISTIC = 'YES' AND SQL_DATA_ACCESS IN \
             ('NO SQL', 'CONTAINS SQL'), SQL_MODE FROM information_schema.ROUTINES WHERE ROUTINE_NAME = {} ORDER BY ROUTINE_SCHEMA",
            literal(name)
        ))?;
        Ok(rows
            .iter()
            .map(|row| Body {
                name: cell(row, 0).to_owned(),
                text: row.get(1).cloned().flatten().and_then(|text| readable(&text, cell(row, 3))),
                acts: false,
                volatile: cell(row, 2) != "1",
            })
            .collect())
    }
}

impl Catalogue for Asking<'_> {
    fn language(&self) -> Language {
        Language::Mysql
    }

    fn actions_fire_triggers(&self) -> bool {
        false
    }

    fn identified(&mut self, written: Written) -> Result<Written, EngineError> {
        let schema = written.schema.clone().filter(|schema| schema != self.schema);
        Ok(Written { schema, ..written })
    }

    fn routines(&mut self, name: &str) -> Result<Vec<Body>, EngineError> {
        let unseen = |acts: bool| vec![Body { name: name.to_owned(), text: None, acts, volatile: true }];
        if ACTS.iter().any(|act| act.eq_ignore_ascii_case(name)) {
            return Ok(unseen(true));
        }
        let stored = self.stored(name)?;
        if !stored.is_empty() || native(self.my, name) {
            return Ok(stored);
        }
        // Neither the server's own nor anything that this user may see: a loadable function, or a routine without rights.
        Ok(unseen(false))
    }

    fn triggers_of(&mut self, written: &Written) -> Result<Vec<Body>, EngineError> {
        let schema = written.schema.as_deref().unwrap_or(self.schema);
        if !self.grants.has("TRIGGER", schema, &written.table) {
            let name = format!("a trigger that {} may have (TRIGGER on it is missing)", written.table);
            return Ok(vec![Body { name, text: None, acts: false, volatile: true }]);
        }
        let events = match written.verb {
            Verb::Insert => "'INSERT'",
            Verb::Update => "'UPDATE'",
            Verb::Delete => "'DELETE'",
            Verb::Several => "'INSERT', 'UPDATE', 'DELETE'",
            Verb::Truncate => "''",
        };
        let rows = self.my.rows(&format!(
            "SELECT TRIGGER_NAME, ACTION_STATEMENT, SQL_MODE FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {} \
             AND EVENT_OBJECT_TABLE = {} AND EVENT_MANIPULATION IN ({events}) ORDER BY ACTION_ORDER, TRIGGER_NAME",
            literal(schema),
            literal(&written.table)
        ))?;
        let body = |row: &TextRow| {
            let (name, text) = (cell(row, 0).to_owned(), readable(cell(row, 1), cell(row, 2)));
            Body { name, text, acts: false, volatile: true }
        };
        Ok(rows.iter().map(body).collect())
    }

    fn actions_of(&mut self, written: &Written) -> Result<Vec<(Written, String)>, EngineError> {
        let schema = written.schema.as_deref().unwrap_or(self.schema).to_owned();
        let rows = self.my.rows(&format!(
            "SELECT k.TABLE_SCHEMA, k.TABLE_NAME, r.DELETE_RULE FROM information_schema.KEY_COLUMN_USAGE AS k \
             JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA \
             AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME \
             WHERE k.REFERENCED_TABLE_SCHEMA = {} AND k.REFERENCED_TABLE_NAME = {} AND k.ORDINAL_POSITION = 1 \
             AND r.DELETE_RULE IN ('CASCADE', 'SET NULL') ORDER BY 1, 2",
            literal(&schema),
            literal(&written.table)
        ))?;
        Ok(rows
            .iter()
            .map(|row| {
                let verb = if cell(row, 2) == "CASCADE" { Verb::Delete } else { Verb::Update };
                let schema = (cell(row, 0) != self.schema).then(|| cell(row, 0).to_owned());
                let child = Written { schema, table: cell(row, 1).to_owned(), verb, columns: Vec::new() };
                (child, format!("ON DELETE {}", cell(row, 2)))
            })
            .collect())
    }
}

/// The triggers that a statement on a table fires, and one of which nothing is known where they cannot be seen.
pub(crate) fn triggers(grants: &Grants, table: &Table, kind: StepKind) -> Vec<Trigger> {
    let target = &table.target;
    if !grants.has("TRIGGER", &target.schema, &target.table) {
        let name = "that nobody sees without the TRIGGER privilege".to_owned();
        let body = Body {
            name: format!(
                "a trigger of {table}, if it has one, which needs the TRIGGER privilege to be seen (GRANT TRIGGER ON {schema}.{table})",
                table = target.table,
                schema = target.schema
            ),
            text: None,
            acts: false,
            volatile: true,
        };
        return vec![Trigger { name, before: true, for_statement: false, routine: Routine::unknown(), body }];
    }
    let fired = table.triggers.iter().filter(|fires| fires.event == kind.verb());
    let trigger = |fires: &Fires| {
        let (name, text) = (fires.name.clone(), fires.text.clone());
        let read = |text: &String| routine::read(text, Language::Mysql);
        let routine = text.as_ref().map_or_else(Routine::unknown, read);
        let body = Body { name: name.clone(), text, acts: false, volatile: true };
        Trigger { name, before: fires.timing == "BEFORE", for_statement: false, routine, body }
    };
    fired.map(trigger).collect()
}

/// What triggers, and the functions that a statement calls, do in the end.
pub(crate) fn reached(
    my: &mut My,
    grants: &Grants,
    schema: &str,
    triggers: Vec<Body>,
    functions: &[Body],
) -> Result<Reached, EngineError> {
    let triggers = triggers.into_iter().map(|b| Start::Body(SideHow::Trigger(b.name.clone()), b));
    let functions = functions.iter().map(|b| Start::Body(SideHow::Routine(b.name.clone()), b.clone()));
    walk(&mut Asking { my, grants, schema }, triggers.chain(functions).collect())
}
