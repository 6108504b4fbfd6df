//! The columns of the held table and the select list that fills it, for both servers: before-values, then for an UPDATE
//! the foreseen after-values under the target's own column names, so that generated columns are computed from them.

use marktwice_core::mark::{Label, StepKind};
use marktwice_port::Plan;

use marktwice_sql::dialect::ours::before;

/// What an engine knows of one column of the target.
#[derive(Debug, Clone)]
pub struct Slot {
    /// Its name, quoted.
    pub name: String,
    /// A type that holds what the column holds before.
    pub held: String,
    /// The column's own type with its collation: what assignment makes of a value is then what the server would store.
    pub own: String,
    /// What stands behind the own type where an after-value goes: whether NULL is taken.
    pub null: &'static str,
    /// The same where rows come in: NULL is kept there, to be told, unless the session has another value stored for it.
    pub comes: &'static str,
    /// The expression of a generated column.
    pub generated: Option<String>,
    /// Whether the server computes the column, known expression or not.
    pub is_generated: bool,
}

/// Columns of the held table, what fills them, and which after-values it has.
#[derive(Debug, Clone, Default)]
pub struct Recipe {
    /// Definitions.
    pub columns: Vec<String>,
    /// Names that are filled.
    pub insert: Vec<String>,
    /// What fills them.
    pub select: Vec<String>,
    /// Columns with an after-value, and its name.
    pub after: Vec<(usize, String)>,
}

impl Recipe {
    /// A recipe that has one column so far, which fills itself: the ordinal.
    pub fn new(ordinal: String) -> Recipe {
        Recipe { columns: vec![ordinal], ..Recipe::default() }
    }

    /// Adds a column that is filled.
    pub fn put(&mut self, name: &str, definition: &str, select: String) {
        self.columns.push(format!("{name} {definition}"));
        self.insert.push(name.to_owned());
        self.select.push(select);
    }

    /// Adds what the target holds before, and, for an UPDATE, what is foreseen. `visible` is the target's name in the
    /// statement; `values` are the assigned expressions that can be told beforehand. With `in_order` the row starts as
    /// it is, and the assignments are run on it afterwards.
    pub fn images(
        &mut self,
        plan: &Plan,
        visible: &str,
        slots: &[Slot],
        values: &[(usize, String)],
        in_order: bool,
    ) {
        for (at, slot) in slots.iter().enumerate() {
            self.put(&before(at), &slot.held, format!("{visible}.{}", slot.name));
        }
        if plan.kind != StepKind::Update {
            return;
        }
        let derives = plan.foreseen.iter().any(|f| f.derived && f.label != Label::Unknown);
        for (at, slot) in slots.iter().enumerate() {
            let known = plan.foreseen.iter().any(|f| f.column == at && f.label != Label::Unknown);
            let value = values.iter().find(|(column, _)| *column == at).map(|(_, expression)| expression);
            let as_it_is = format!("{visible}.{}", slot.name);
            match (&slot.generated, known, value) {
                (Some(expression), true, _) => {
                    let (name, own) = (&slot.name, &slot.own);
                    self.columns.push(format!("{name} {own} GENERATED ALWAYS AS ({expression}) STORED"));
                    self.after.push((at, name.clone()));
                }
                (None, true, Some(expression)) => {
                    // The line break ends a comment that the user's text may end in.
                    let start = if in_order { as_it_is } else { format!("({expression}\n)") };
                    self.put(&slot.name, &format!("{}{}", slot.own, slot.null), start);
                    self.after.push((at, slot.name.clone()));
                }
                // What generated columns and later assignments read must be there under its own name.
                (None, ..) if (derives || in_order) && !slot.is_generated => {
                    self.put(&slot.name, &format!("{} NULL", slot.own), as_it_is);
                }
                _ => {}
            }
        }
    }
}
