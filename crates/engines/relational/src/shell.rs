//! A connection to a relational engine, as what is written once for all of them drives it.

use marktwice_core::Value;
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::{EngineError, PairSink, Plan, SheetTable};
use marktwice_sql::dialect::ours::{ROW, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::statement::pins::UniqueKey;
use marktwice_sql::{Language, Step};

use crate::finder::Found;
use crate::held::Held;

/// How a statement writes a table by the rows of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Joining {
    /// `UPDATE … FROM`, `DELETE … USING`; an INSERT gives numbers that the engine would give too.
    From,
    /// `UPDATE … JOIN`, `DELETE t FROM … JOIN`.
    Join,
    /// `UPDATE … FROM`, `DELETE … WHERE key IN (…)`; a conflict clause of the table's definition, which might delete another
    /// row or skip this one, is overridden by ABORT.
    In,
}

/// A table, as an engine's catalogue knows it.
pub trait Tabled: Clone + std::fmt::Debug + 'static {
    /// How a column's values come from the engine.
    type Form: Copy + std::fmt::Debug;

    /// What the engine remembers of a plan beside what all do.
    type Own: std::fmt::Debug + 'static;

    /// The language.
    const LANGUAGE: Language;
    /// The engine's name.
    const ENGINE: &str;
    /// How rows that are put back are joined with those that are held.
    const JOINING: Joining;
    /// Whether rows are written in the order that a statement asks for.
    const IN_ORDER: bool = false;
    /// The type of the number of a row that is put back, of its flags.
    const NUMBERED: (&str, &str);
    /// The type of the number of a row that is held, which the engine counts itself.
    const COUNTED: &str;
    /// The type of a whole number.
    const WHOLE: &str;
    /// How rows are locked that a query reads, where it must say so.
    const LOCKS: &str = "";
    /// Whether NO ACTION is another thing than RESTRICT.
    const NO_ACTION_WAITS: bool = true;
    /// Whether what a foreign key's action does waits for the end of the statement, where rows that it would write are gone.
    const ACTIONS_WAIT: bool = false;
    /// Whether RESTRICT is looked at as soon as a row is written, though others of the statement are still to come.
    const RESTRICTS_AT_ONCE: bool = true;
    /// Whether rows of a table without a key are found again that the statement wrote, though only the run knows some of their
    /// values.
    const TELLS_WRITTEN: bool = false;
    /// Whether foreign keys' actions set off triggers.
    const ACTIONS_FIRE: bool = true;
    /// Columns that a table, and an answer, has at most.
    const MOST_COLUMNS: usize;
    /// How a whole number comes, and a truth.
    const NUMBER: Self::Form;
    /// See [`Tabled::NUMBER`].
    const TRUTH: Self::Form;

    /// What the rest of the program sees of it.
    fn target(&self) -> &Target;

    /// It, as it stands behind FROM where only its own rows are meant.
    fn from(&self) -> String;

    /// It, as it stands behind INSERT INTO.
    fn inserted_name(&self) -> String {
        self.from()
    }

    /// It, as foreign keys name it.
    fn shown(&self) -> &str;

    /// From now on its rows are told by this key: the one of a run, where it is not always the same one.
    fn tell_by(&mut self, key: &Key);

    /// What tells its rows whatever comes in: another key where the declared one may hold NULL and the engine has its own.
    fn lasting_key(&self) -> Key {
        self.target().key.clone()
    }

    /// Its declared keys.
    fn keys(&self) -> &[UniqueKey];

    /// A type for what a column holds, in a table of held rows.
    fn roomy(&self, column: usize) -> String;

    /// A type that makes of a value what the column would hold.
    fn stored(&self, column: usize) -> String {
        self.roomy(column)
    }

    /// A type for what a sheet's column holds that is used like this one; what it is assigned to makes of it what it does of any
    /// value.
    fn sheet_type(&self, column: usize) -> String {
        self.roomy(column)
    }

    /// A type for what a sheet's column holds that is like no other.
    fn kind_type(kind: ParamKind) -> &'static str;

    /// Definitions of keys of a sheet's table, where the engine does not find rows of a join without them.
    fn sheet_keys(_: &SheetTable) -> Vec<String> {
        Vec::new()
    }

    /// The name of a column, quoted.
    fn column(&self, at: usize) -> String {
        self.target().columns.get(at).map_or_else(|| "NULL".to_owned(), |c| Self::LANGUAGE.quoted(&c.name))
    }

    /// Whether DEFAULT takes the next number of the column's own.
    fn counts(&self, _column: usize) -> bool {
        false
    }

    /// Whether an UPDATE may write the column back.
    fn writable(&self, column: usize) -> bool {
        self.target().columns.get(column).is_some_and(|c| !c.generated)
    }

    /// Whether its definition leaves doubt that rows can be put back as they were: triggers, conditions, foreign keys that rows may break
    /// already.
    fn leaves_doubt(&self) -> bool;

    /// Whether neither `*` nor a list of columns that is left out means a column.
    fn is_invisible(&self, _column: usize) -> bool {
        false
    }

    /// The expression that a generated column is computed by, where it can be read.
    fn generated_as(&self, _column: usize) -> Option<&str> {
        None
    }

    /// An assigned expression as the column would hold it.
    fn computed(&self, _column: usize, expression: &str) -> String {
        // The line break ends a comment that the user's text may end in.
        format!("({expression}\n)")
    }

    /// A flag of a row that is put back.
    fn flag(flag: bool) -> Value {
        Value::Int(i64::from(flag))
    }

    /// What tells a row that is put back, beside its key: definitions of columns.
    fn beside(&self) -> Vec<String> {
        self.row_identity().map(|_| ROW.to_string()).into_iter().collect()
    }

    /// What stands in [`Tabled::beside`] for a row of this key.
    fn beside_of(&self, key: &[Value], _: Option<&Found>) -> Vec<Value> {
        let by_row = self.target().key.kind == KeyKind::RowIdentity;
        let row = || key.first().filter(|_| by_row).cloned().unwrap_or(Value::Null);
        self.row_identity().map(|_| row()).into_iter().collect()
    }

    /// What tells a row of the target that is held: a column of the held table, and the target's own, for each part.
    fn identity(&self) -> Vec<(String, String)> {
        let target = self.target();
        if let Some(row) = self.row_identity().filter(|_| target.key.kind == KeyKind::RowIdentity) {
            return vec![(ROW.to_string(), Self::LANGUAGE.quoted(row))];
        }
        let key = target.key.columns.iter().zip(&target.key.names);
        key.map(|(&at, name)| (before(at), Self::LANGUAGE.quoted(name))).collect()
    }

    /// What the held row `h` holds in a column that a step leaves alone, compared as the column itself is.
    fn kept(&self, column: usize) -> String {
        format!("h.{}", before(column))
    }

    /// How the values of a column come.
    fn form(&self, column: usize) -> Self::Form;

    /// How the column of the key at `nth` is compared with another value.
    fn equals(&self, nth: usize) -> &str;

    /// The held table of a step, as it stands in a statement.
    fn held_name(&self, step: usize) -> String;

    /// An error about the held table in the user's own words: it is one that the statement itself would meet.
    fn in_user_words(&self, error: EngineError, _: usize) -> EngineError {
        error
    }

    /// The name of the engine's own row identity, where it has one that is held.
    fn row_identity(&self) -> Option<&str> {
        None
    }

    /// What stands behind the verb so that a broken constraint is an error, whatever the definition says of it. What statements of
    /// triggers say of theirs is overridden by it, so it stands only where it has to.
    fn or_abort(&self) -> &'static str {
        ""
    }

    /// The column that the row identity is, where it is one: assigning it changes both.
    fn row_column(&self) -> Option<usize> {
        None
    }
}

/// How the columns of a table come.
pub fn forms<T: Tabled>(table: &T) -> Vec<T::Form> {
    (0..table.target().columns.len()).map(|at| table.form(at)).collect()
}

/// A connection.
pub trait Shell: Sized {
    /// The engine's tables.
    type Table: Tabled;

    /// Executes one statement that may hold the user's text; gives the engine's own count.
    ///
    /// # Errors
    /// What the engine says.
    fn execute(&mut self, sql: &str) -> Result<u64, EngineError>;

    /// The one number that a query gives.
    ///
    /// # Errors
    /// What the engine says.
    fn number(&mut self, sql: &str) -> Result<u64, EngineError>;

    /// A small question, answered as text.
    ///
    /// # Errors
    /// What the engine says.
    fn question(&mut self, sql: &str) -> Result<Texts, EngineError>;

    /// Hands the rows of a query over, as values in the given forms.
    ///
    /// # Errors
    /// What the engine says, or `give` answers.
    fn each(
        &mut self,
        sql: &str,
        forms: &[<Self::Table as Tabled>::Form],
        give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError>;

    /// What the engine does once the held table of a plan is full, before repeated matches of a join are looked at; gives
    /// the number of rows then.
    ///
    /// # Errors
    /// What the engine says.
    fn filled(&mut self, _: &Plan, _: &Step, _: &Self::Table, matched: u64) -> Result<u64, EngineError> {
        Ok(matched)
    }

    /// Pairs rows that only their contents tell apart.
    ///
    /// # Errors
    /// What the engine says, or the sink does.
    fn pair_without_key(
        &mut self,
        held: &Held<Self::Table>,
        sink: &mut PairSink<'_>,
    ) -> Result<(), EngineError>;
}
