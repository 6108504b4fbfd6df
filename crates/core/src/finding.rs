//! Findings: what was noticed about a step. The list of codes lives here and nowhere else.

use serde::{Deserialize, Serialize};

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Worth knowing.
    Note,
    /// Probably not what was meant.
    Warn,
    /// Refused unless allowed by its code.
    Stop,
}

/// A place in the user's own text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TextPlace {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// How many characters to underline, at least 1.
    pub length: usize,
    /// The text of that line.
    pub text: String,
}

impl TextPlace {
    /// The place of the bytes `start..end` of `source`; the end is cut at the end of the line.
    pub fn in_source(source: &str, start: usize, end: usize) -> TextPlace {
        let start = floor_char(source, start.min(source.len()));
        let before = source.get(..start).unwrap_or("");
        let line_start = before.rfind('\n').map_or(0, |n| n + 1);
        let rest = source.get(line_start..).unwrap_or("");
        let text = rest.split('\n').next().unwrap_or("").trim_end_matches('\r');
        let column = source.get(line_start..start).unwrap_or("").chars().count() + 1;
        let line_end = line_start + text.len();
        let end = floor_char(source, end.clamp(start, line_end.max(start)));
        let length = source.get(start..end).unwrap_or("").chars().count().max(1);
        TextPlace { line: before.matches('\n').count() + 1, column, length, text: text.to_owned() }
    }

    /// The same place in what stands behind `prefix`; `None` for a place in the prefix itself.
    pub fn behind(&self, prefix: &str) -> Option<TextPlace> {
        let lines = prefix.matches('\n').count();
        let line = self.line.checked_sub(lines).filter(|line| *line > 0)?;
        let last = prefix.rsplit('\n').next().unwrap_or("").chars().count();
        let shift = if line == 1 { last } else { 0 };
        let column = self.column.checked_sub(shift).filter(|column| *column > 0)?;
        Some(TextPlace { line, column, length: self.length, text: self.text.chars().skip(shift).collect() })
    }

    /// Shows the line of `source`, of which the text that the place was found in has other statements blanked out, byte by
    /// byte.
    pub fn line_from(&mut self, source: &str) {
        let Some(line) = source.split('\n').nth(self.line - 1) else { return };
        let bytes: usize = self.text.chars().take(self.column - 1).map(char::len_utf8).sum();
        if let Some(ahead) = line.get(..bytes) {
            self.column = ahead.chars().count() + 1;
        }
        self.text = line.trim_end_matches('\r').to_owned();
    }
}

fn floor_char(source: &str, mut at: usize) -> usize {
    while at > 0 && !source.is_char_boundary(at) {
        at -= 1;
    }
    at
}

macro_rules! codes {
    ($($variant:ident $text:literal $level:ident $meaning:literal $todo:literal;)*) => {
        /// The code of a finding.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum Code { $(#[doc = $meaning] $variant,)* }

        impl Code {
            /// Every code there is.
            pub const ALL: &'static [Code] = &[$(Code::$variant),*];

            /// The code as it is written on the command line and in files.
            pub fn as_str(self) -> &'static str {
                match self { $(Code::$variant => $text,)* }
            }

            /// The level of the finding.
            pub fn level(self) -> Level {
                match self { $(Code::$variant => Level::$level,)* }
            }

            /// One sentence: why it is said.
            pub fn meaning(self) -> &'static str {
                match self { $(Code::$variant => $meaning,)* }
            }

            /// One sentence: what to do.
            pub fn remedy(self) -> &'static str {
                match self { $(Code::$variant => $todo,)* }
            }
        }
    };
}

codes! {
    NoFilter "no-filter" Stop
        "The statement has no WHERE: it would write every row of the table."
        "Add a WHERE, or say rows = \"all\" (--rows all) if every row is meant.";
    AlwaysTrue "always-true" Stop
        "The filter is true for every row that can be compared: it keeps nothing out."
        "Write the condition that tells the rows apart, or say rows = \"all\" if every row is meant.";
    NothingMatched "nothing-matched" Stop
        "No row matches the filter, so nothing would be done, and silently."
        "Look at the values in the table; if no row is a good answer, expect a range from 0 (rows = \"0-20\").";
    UnknownName "unknown-name" Stop
        "The statement names a table or column that is not there."
        "Correct the name.";
    QuotedWord "quoted-word" Stop
        "A word in double quotes is no column here; the engine would silently read it as a text."
        "Use single quotes for a text, or correct the column's name.";
    VolatileFilter "volatile-filter" Stop
        "The filter asks for something that is different at each reading, so no preview can tell which rows it matches."
        "Filter on what the rows hold.";
    UndeclaredWrite "undeclared-write" Stop
        "Rows outside the matched ones would be written, by a trigger or a foreign key's action. What they write is held, and an undo brings it back, unless it says otherwise, with why."
        "Look at what is named; --also-writes TABLE says that it is meant, --allow undeclared-write lets all of it pass.";
    UnmeasuredWrite "unmeasured-write" Stop
        "Something is, or may be, written or done that nobody can measure here, so that neither a rollback nor an undo is promised for it."
        "Look at what is named; let it pass with --allow unmeasured-write.";
    NoColumnList "no-column-list" Stop
        "The statement brings rows in and does not name the columns. Values that are written out go by the table's order, and the columns are shown (a note); of a query's * nobody sees in the text which value goes where, so that stops the change."
        "Read in the preview which value goes where, and name the columns, in the order of the values; or let it pass with --allow no-column-list.";
    InsertsWait "inserts-wait" Note
        "The server does not give back the numbers of rows that come in, so the end of the key is locked: rows of other sessions come into this table only after COMMIT or ROLLBACK."
        "Nothing; do not let an open question (--hold) stand for long.";
    NoArchive "no-archive" Stop
        "The table that archive_to names cannot take the rows as they are, or could not give them back."
        "Give it a column for each of theirs, a default where nothing fills one, and a key; or name another table.";
    NoWayBack "no-way-back" Stop
        "The change could not be taken back afterwards: an undo of it is known to fail."
        "Look at what stands in the way; let it pass with --allow no-way-back.";
    GivenNumber "given-number" Stop
        "The step finds a row by a number that the engine gave it in the rehearsal; numbers that are used up are not given again, so the run finds no row."
        "Keep the number: keep = \"NAME\" in the block of the step that brings the row in, and :NAME in this one.";
    TakenAlready "taken-already" Stop
        "A value that must be unique would be held by two rows, so the database refuses the statement."
        "Leave the row out, write another value, or change the row that holds it first.";
    NullRefused "null-refused" Stop
        "A column that refuses NULL would become NULL, so the database refuses the statement."
        "Leave these rows out, or write a value: coalesce(expression, value).";
    CheckRefused "check-refused" Stop
        "A condition that the table demands of every row would be false, so the database refuses the statement."
        "Leave these rows out, or write a value that keeps the condition.";
    ValueRefused "value-refused" Stop
        "A value that is written, or computed on the way, is none that the database takes: out of range, no date, of another type, a division by zero."
        "Correct the value, or leave out the rows for which it is computed.";
    NoParent "no-parent" Stop
        "A row would refer to one that is not there, so the database refuses the statement."
        "Correct the value, or bring the row in first.";
    HasChildren "has-children" Stop
        "Other rows refer to what would go, or to a key that would change, and hold it there, so the database refuses the statement."
        "Look at the rows that refer, and delete or point them elsewhere first.";
    AlreadySo "already-so" Stop
        "Rows that match hold the new values already, which was said not to be so (already_so)."
        "Leave those rows out, or say already_so = \"allow\".";
    OtherColumns "other-columns" Stop
        "Columns would change that were not among those that may (columns)."
        "Add them to columns, or assign what was meant only.";
    MaySkip "may-skip" Warn
        "A trigger may skip, take away or rewrite matched rows: which of them really change or go only the run can tell."
        "Look at the trigger; every row is verified inside the transaction, and one that is not as it should be rolls it back.";
    RowsDiscarded "rows-discarded" Note
        "The statement gives rows back (RETURNING); they are discarded, since the preview and the receipt show the rows."
        "Nothing; leave RETURNING out if you like.";
    OrForConcat "or-for-concat" Stop
        "Two bars stand where texts seem to be joined, and mean OR here: a truth would be stored, or an error be told."
        "Write concat(a, b); where OR is meant, write OR.";
    AView "a-view" Stop
        "The statement writes a view: which rows of which table that touches is up to the view and its triggers."
        "Write the change for the view's base table.";
    ReadsElsewhere "reads-elsewhere" Note
        "The statement reads rows of another server: what is read there is outside of this transaction and may change while it runs."
        "Make sure that nobody writes there meanwhile.";
    StaysNull "stays-null" Warn
        "A computed value stays NULL where one of its operands is NULL, so these rows are missed."
        "Use coalesce(operand, 0), or leave these rows out on purpose.";
    SeveralStatements "several-statements" Stop
        "There are several statements, and not all of them are steps of a change."
        "Leave out what stands around the changes, such as BEGIN, SELECT and COMMIT.";
    ManySources "many-sources" Stop
        "Several rows of the joined tables match one row of the target and would give it different values: which of them is stored is up to the engine."
        "Join on what is unique, or write a subquery in SET that says which value is meant; this is never let pass.";
    TargetAgain "target-again" Stop
        "The target is joined to itself and nothing links the two, so that one match anywhere matches every row."
        "Leave the second one out, or compare its key with the target's.";
    UnstableLimit "unstable-limit" Stop
        "LIMIT takes other rows another time: nothing in the order decides between the rows that match."
        "Order by the key, or name the rows in the filter.";
    SeveralTables "several-tables" Stop
        "One statement writes several tables."
        "Write one change for each table and apply them one after the other.";
    AmbiguousName "ambiguous-name" Stop
        "A column's name belongs to several of the joined tables, so nobody can tell which one is meant."
        "Write the table or its alias before the column.";
    NotAChange "not-a-change" Stop
        "The statement is no UPDATE, DELETE or INSERT."
        "Write the change as an UPDATE, a DELETE or an INSERT of one table.";
    NotUnderstood "not-understood" Stop
        "A part of the statement is not understood well enough to promise which rows it touches."
        "Write it in the form that is named.";
    AlreadyRun "already-run" Stop
        "The same statement has already been committed on this database."
        "Say --again if a second run is meant.";
    MissingPrivilege "missing-privilege" Warn
        "This user may look at the rows and not write them: a preview works, an application does not."
        "Ask the owner of the table for the privilege, or use another user.";
    NoIdentity "no-identity" Stop
        "The table is published to other servers and has nothing by which they could find the row, so the server refuses to write it."
        "Give the table a primary key or a replica identity, or take it out of the publication; this is never let pass.";
    NullCompare "null-compare" Warn
        "A comparison with NULL is never true, whatever the row holds."
        "Write IS NULL or IS NOT NULL.";
    AndForComma "and-for-comma" Stop
        "AND stands between two assignments, so one column would become the truth of a comparison and the other stays as it is."
        "Separate assignments by commas.";
    AssignedTwice "assigned-twice" Stop
        "One column is assigned twice; only one of the values can be stored."
        "Leave one of the assignments out.";
    EngineColumn "engine-column" Warn
        "The column is filled by the engine itself: computed from others, or numbered."
        "Assign what it is computed from; leave numbering to the engine.";
    ManyValues "many-values" Stop
        "A subquery gives several values where one is wanted; some engines silently take the first they find."
        "Say which one is meant: max(…), or a condition that leaves one row.";
    TwoAnswers "two-answers" Stop
        "The engine finds no row by the filter as it stands, and finds rows by its conditions one after the other: it answers one question in two ways, and a statement with this filter may do what its preview does not show. A run that writes more rows than were marked is rolled back."
        "Write the filter in another way (a subquery as a join, or its value by itself), and look again.";
    HiddenValues "hidden-values" Warn
        "LIMIT 1 without an order hides that there are several different values; any of them may be stored."
        "Say which one is meant: ORDER BY …, max(…), or a condition that leaves one row.";
    SubqueryNone "subquery-none" Warn
        "For some rows the subquery finds nothing, and the column becomes NULL there."
        "Add the subquery's condition to the filter as EXISTS (SELECT …), or write coalesce((SELECT …), column).";
    BecomesNull "becomes-null" Warn
        "A value is lost: a cell that holds something becomes NULL although NULL is not what is assigned."
        "Look at the operands that are NULL; coalesce(operand, …) keeps the rest.";
    Unlike "unlike" Warn
        "The new value is written unlike every other value of its column: other letter case, length, date form or digits."
        "Compare it with what the column holds.";
    Merges "merges" Note
        "Different values become one and cannot be told apart again by the data alone."
        "Make sure that the difference meant nothing; the snapshot keeps it.";
    TooLong "too-long" Warn
        "The new value is longer than the column's declared length."
        "Shorten the value, or change the column's type first.";
    OverHalf "over-half" Warn
        "More than half of the table matches the filter."
        "Make sure that so many are meant.";
    TwinRows "twin-rows" Note
        "Some matched rows are equal in everything but the key, so that only the key tells which is which."
        "Pick the row by its key.";
    Repeats "repeats" Warn
        "A second run would change the rows once more, because the new value starts from the old one."
        "Add a condition that is no longer true afterwards, or run it once; a second run is noticed and stopped.";
    MovesFilter "moves-filter" Note
        "An assigned column stands in the filter, so that the same filter matches other rows afterwards."
        "Look the rows up by their key afterwards.";
    MixedAndOr "mixed-and-or" Warn
        "AND and OR stand side by side without parentheses; AND binds closer, which is seldom how it reads."
        "Write the parentheses.";
    TypeMix "type-mix" Warn
        "A text is compared with a number, or a number with a text; the engine then compares by rules of its own."
        "Compare values of one type.";
    PlainLike "plain-like" Warn
        "LIKE without a wildcard compares the whole value."
        "Write = if the whole value is meant, or put % where anything may stand.";
    LikeAnything "like-anything" Warn
        "The pattern '%' fits everything but NULL."
        "Write IS NOT NULL, or the part that must be there.";
    NotInNull "not-in-null" Warn
        "NOT IN over a subquery that yields NULL is never true, so no row passes."
        "Add … IS NOT NULL inside the subquery, or write NOT EXISTS.";
    NoRollback "no-rollback" Stop
        "What would be written is kept outside of transactions and cannot be rolled back."
        "Move the table to a transactional engine first; this is never let pass.";
    KeyChange "key-change" Warn
        "The key itself is assigned: whoever remembers these rows by their key will not find them."
        "Make sure that nothing outside the database uses the key.";
    NotUnique "not-unique" Note
        "Nothing in the filter pins single rows: it names neither the primary key nor a unique column."
        "Read every row that is listed, or filter by the key.";
    EveryRow "every-row" Warn
        "The filter matches every row of the table."
        "Make sure that all of them are meant.";
}

impl Code {
    /// Codes that cannot be let pass: what they are about cannot be proven either way.
    pub const NEVER_ALLOWED: &'static [Code] = &[
        Code::ManySources,
        Code::NoRollback,
        Code::NoIdentity,
        // What the database is known to refuse.
        Code::TakenAlready,
        Code::NullRefused,
        Code::CheckRefused,
        Code::ValueRefused,
        Code::NoParent,
        Code::HasChildren,
        // Refusals of a statement that is not understood, or not taken.
        Code::UnknownName,
        Code::AmbiguousName,
        Code::SeveralStatements,
        Code::SeveralTables,
        Code::NotAChange,
        Code::NotUnderstood,
        Code::AView,
    ];
}

impl std::str::FromStr for Code {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        Code::ALL.iter().copied().find(|c| c.as_str() == text).ok_or(())
    }
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}

/// Something noticed about a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Which finding it is.
    pub code: Code,
    /// How much it weighs here.
    pub level: Level,
    /// What exactly was seen, in one sentence.
    pub message: String,
    /// Where in the user's text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<TextPlace>,
    /// What to do, when something more exact than the code's own remedy can be said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// What to write instead, ready to be pasted; lines of SQL.
    #[serde(flatten, default, skip_serializing_if = "Option::is_none")]
    pub paste: Option<Box<Paste>>,
}

/// What to write instead.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Paste {
    /// The text.
    #[serde(rename = "paste")]
    pub text: Box<str>,
    /// How many rows each step of it matches, by the engine's own answer just now; `null` for a step that rests on an
    /// earlier one. Empty until it was asked.
    #[serde(rename = "paste_rows", default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<Option<u64>>,
}

impl Finding {
    /// A finding with the code's own level.
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        Finding { code, level: code.level(), message: message.into(), place: None, hint: None, paste: None }
    }

    /// With its place.
    #[must_use]
    pub fn at(mut self, place: TextPlace) -> Self {
        self.place = Some(place);
        self
    }

    /// With a more exact remedy.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// With what to write instead, ready to be pasted.
    #[must_use]
    pub fn paste(mut self, text: impl Into<String>) -> Self {
        self.paste = Some(Box::new(Paste { text: text.into().into_boxed_str(), rows: Vec::new() }));
        self
    }

    /// What to do about it.
    pub fn remedy(&self) -> &str {
        self.hint.as_deref().unwrap_or_else(|| self.code.remedy())
    }

    /// With another weight than the code's own.
    #[must_use]
    pub fn weighing(mut self, level: Level) -> Self {
        self.level = level;
        self
    }

    /// Whether it is let pass by what was allowed.
    pub fn passes(&self, allowed: &[Code]) -> bool {
        allowed.contains(&self.code) && !Code::NEVER_ALLOWED.contains(&self.code)
    }

    /// Whether it refuses the change, given what was allowed.
    pub fn stops(&self, allowed: &[Code]) -> bool {
        self.level == Level::Stop && !self.passes(allowed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_read_back_and_agree_with_serde() {
        for code in Code::ALL {
            assert_eq!(code.as_str().parse::<Code>(), Ok(*code));
            assert_eq!(serde_json::to_string(code).unwrap(), format!("\"{}\"", code.as_str()));
        }
    }

    #[test]
    fn places_count_characters_and_cut_at_the_line() {
        let source = "UPDATE k\r\n  SET næme = 'ö'\r\nWHERE x";
        let start = source.find("næme").unwrap();
        let place = TextPlace::in_source(source, start, start + "næme".len());
        assert_eq!((place.line, place.column, place.length), (2, 7, 4));
        assert_eq!(place.text, "  SET næme = 'ö'");
        let long = TextPlace::in_source(source, start, source.len());
        assert_eq!(long.length, "næme = 'ö'".chars().count());
        let end = TextPlace::in_source(source, 999, 1000);
        assert_eq!((end.line, end.length), (3, 1));
    }
}
