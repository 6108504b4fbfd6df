//! Foreign keys' actions: which rows of other tables a statement takes along.

use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::Language;
use marktwice_sql::statement::routine::{Verb, Written};

use marktwice_core::survey::Reference;

use marktwice_sql::dialect::ours::before;

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ForeignKey {
    /// The table that refers, as it is shown.
    pub child: String,
    /// The same, quoted, to stand in a statement.
    pub child_sql: String,
    /// Its columns.
    pub child_columns: Vec<String>,
    /// The table that is referred to, as it is shown.
    pub parent: String,
    /// Its schema and its name, as the catalogue has them.
    pub parent_name: (String, String),
    /// Its columns.
    pub parent_columns: Vec<String>,
    /// The action in capitals: `CASCADE`, `SET NULL`, `SET DEFAULT`, `RESTRICT`, `NO ACTION`.
    pub on_update: String,
    /// The same for a DELETE.
    pub on_delete: String,
    /// Whether this user may read the table that refers.
    pub readable: bool,
    /// The schema and the name of the table that refers, as the catalogue has them.
    pub child_target: (String, String),
    /// The table that is referred to, quoted, to stand in a statement.
    pub parent_sql: String,
    /// Whether this user may read the table that is referred to.
    pub parent_readable: bool,
    /// Whether the engine vouches that every row has its parent.
    pub enforced: bool,
    /// The columns that ON DELETE SET NULL or SET DEFAULT names, where it does: it is then only those that it sets.
    pub sets: Vec<String>,
}

impl ForeignKey {
    /// Whether it refers to this table.
    pub fn leads_to(&self, target: &Target) -> bool {
        self.parent_name.0 == target.schema && self.parent_name.1 == target.table
    }

    /// Whether it is this table's own.
    pub fn is_of(&self, target: &Target) -> bool {
        self.child_target.0 == target.schema && self.child_target.1 == target.table
    }

    /// The same for people.
    pub fn reference(&self) -> Reference {
        Reference {
            child: self.child.clone(),
            child_columns: self.child_columns.clone(),
            parent: self.parent.clone(),
            parent_columns: self.parent_columns.clone(),
            on_update: self.on_update.clone(),
            on_delete: self.on_delete.clone(),
        }
    }
}

/// How rows are compared and counted.
pub struct Counter<'a> {
    /// The language.
    pub language: Language,
    /// The held table, as it stands in a statement.
    pub held: &'a str,
    /// What tells a row of the target from another: columns of the held table, and the target's own.
    pub identity: &'a [(String, String)],
    /// Runs a statement that gives one number.
    pub count: &'a mut dyn FnMut(&str) -> Result<u64, EngineError>,
    /// What follows from an action that writes a table, beyond foreign keys: its triggers.
    pub further: &'a mut dyn FnMut(&Written) -> Result<Vec<SideWrite>, EngineError>,
}

pub(crate) fn acts(action: &str) -> bool {
    ["CASCADE", "SET NULL", "SET DEFAULT"].contains(&action)
}

/// The statement's own columns that it may change, each with the name of its after-value in the held table where it is
/// known.
pub type Assigned = [(usize, Option<String>)];

/// Counts the rows that foreign keys' actions would write, from the held rows; keys without any are left out. What such
/// rows take along in turn is named, to any depth.
///
/// # Errors
/// When the engine fails.
pub fn count_actions(
    counter: &mut Counter<'_>,
    keys: &[ForeignKey],
    target: &Target,
    kind: StepKind,
    assigned: &Assigned,
) -> Result<Vec<SideWrite>, EngineError> {
    let mut all: Vec<SideWrite> = Vec::new();
    for key in keys.iter().filter(|k| k.leads_to(target)) {
        let (word, action) = match kind {
            StepKind::Delete => ("DELETE", &key.on_delete),
            StepKind::Update => ("UPDATE", &key.on_update),
            StepKind::Insert => continue,
        };
        let parents: Vec<usize> = key.parent_columns.iter().filter_map(|c| target.position(c)).collect();
        let touched = kind == StepKind::Delete
            || assigned.iter().any(|(at, _)| parents.contains(at))
            || (!key.readable && parents.is_empty());
        if !touched || !acts(action) {
            continue;
        }
        let how = SideHow::ForeignKey(format!("ON {word} {action}"));
        // What this user may not read cannot be counted, and may be there.
        let rows = if key.readable && parents.len() == key.child_columns.len() {
            let sql = children(counter, key, &parents, kind, assigned);
            Some((counter.count)(&sql)?)
        } else {
            None
        };
        if rows == Some(0) {
            continue;
        }
        all.push(SideWrite::new(key.child.clone(), how, rows));
        let removes = kind == StepKind::Delete && action == "CASCADE";
        let changed = if removes { Vec::new() } else { key.child_columns.clone() };
        further(counter, keys, key, removes, &changed, &mut all)?;
    }
    Ok(all)
}

/// Names what is written on from a child that an action writes.
fn further(
    counter: &mut Counter<'_>,
    keys: &[ForeignKey],
    from: &ForeignKey,
    removes: bool,
    changed: &[String],
    all: &mut Vec<SideWrite>,
) -> Result<(), EngineError> {
    let verb = if removes { Verb::Delete } else { Verb::Update };
    let written = Written { schema: None, table: from.child.clone(), verb, columns: changed.to_vec() };
    let add = |write: SideWrite, all: &mut Vec<SideWrite>| {
        let known = all.iter().any(|w| w.table == write.table && w.how == write.how);
        if !known {
            all.push(write);
        }
        !known
    };
    for write in (counter.further)(&written)? {
        add(write, all);
    }
    for key in keys.iter().filter(|k| k.parent == from.child) {
        let action = if removes { &key.on_delete } else { &key.on_update };
        let touched = removes || key.parent_columns.iter().any(|c| changed.contains(c));
        if !touched || !acts(action) {
            continue;
        }
        let word = if removes { "DELETE" } else { "UPDATE" };
        let how = SideHow::ForeignKey(format!("ON {word} {action}"));
        if add(SideWrite::new(key.child.clone(), how, None), all) {
            let removes = removes && action == "CASCADE";
            let changed = if removes { Vec::new() } else { key.child_columns.clone() };
            further(counter, keys, key, removes, &changed, all)?;
        }
    }
    Ok(())
}

/// Columns that say to what other row a row belongs: a preview shows them, with what they mean.
pub fn referring(keys: &[ForeignKey], target: &Target) -> Vec<usize> {
    let own = keys.iter().filter(|k| k.is_of(target));
    own.filter_map(|k| match k.child_columns.as_slice() {
        [only] => target.position(only),
        _ => None,
    })
    .collect()
}

/// Whether a statement sets off an action of a foreign key of the target onto itself.
pub fn onto_itself<'k>(
    keys: &'k [ForeignKey],
    target: &Target,
    kind: StepKind,
    assigned: &[usize],
) -> Vec<&'k ForeignKey> {
    let of = |key: &&ForeignKey| {
        let touched =
            key.parent_columns.iter().any(|c| target.position(c).is_some_and(|at| assigned.contains(&at)));
        let action = if kind == StepKind::Delete { &key.on_delete } else { &key.on_update };
        key.leads_to(target)
            && key.child == key.parent
            && acts(action)
            && (kind == StepKind::Delete || touched)
    };
    keys.iter().filter(of).collect()
}

/// A key that cascades onto the row itself changes columns that the statement does not name: only the run can tell them.
pub fn foresee_own_cascade(
    foreseen: &mut Vec<Foreseen>,
    keys: &[ForeignKey],
    target: &Target,
    kind: StepKind,
) {
    let assigned: Vec<usize> = foreseen.iter().map(|f| f.column).collect();
    for key in onto_itself(keys, target, kind, &assigned).into_iter().filter(|_| kind == StepKind::Update) {
        for column in key.child_columns.iter().filter_map(|c| target.position(c)) {
            let why = Some(format!("the foreign key's ON UPDATE {} may set it", key.on_update));
            match foreseen.iter_mut().find(|f| f.column == column) {
                Some(known) => (known.label, known.why) = (Label::Unknown, why),
                None => foreseen.push(Foreseen { column, label: Label::Unknown, derived: true, why }),
            }
        }
    }
    foreseen.sort_by_key(|f| f.column);
}

/// Counts child rows of the held rows; for an UPDATE only of those whose parent key becomes another. Rows of the target
/// itself that are held anyway are no side effect; those that a cascade onto itself reaches are counted to the end.
fn children(
    counter: &Counter<'_>,
    key: &ForeignKey,
    parents: &[usize],
    kind: StepKind,
    assigned: &Assigned,
) -> String {
    let language = counter.language;
    let changes: Vec<String> = assigned
        .iter()
        .filter(|(at, _)| parents.contains(at))
        .map(|(at, after)| match after {
            Some(after) => language.differs(&format!("h.{}", before(*at)), &format!("h.{after}")),
            None => "1 = 1".to_owned(),
        })
        .collect();
    let changes = if kind == StepKind::Delete || changes.is_empty() {
        "1 = 1".to_owned()
    } else {
        changes.join(" OR ")
    };
    let (held, child) = (counter.held, &key.child_sql);
    let itself = key.child == key.parent;
    let columns = |of: &dyn Fn(usize) -> String| (0..parents.len()).map(of).collect::<Vec<_>>();
    let links = columns(&|n| {
        let column = key.child_columns.get(n).map_or(String::new(), |c| language.quoted(c));
        format!("c.{column} = r.marktwice_k{n}")
    })
    .join(" AND ");
    let names = columns(&|n| format!("marktwice_k{n}")).join(", ");
    let start = parents.iter().map(|at| format!("h.{}", before(*at))).collect::<Vec<_>>().join(", ");
    let mut reached = format!("SELECT {start} FROM {held} AS h WHERE ({changes})");
    if itself && kind == StepKind::Delete && key.on_delete == "CASCADE" {
        let on = columns(&|n| {
            let column = key.parent_columns.get(n).map_or(String::new(), |c| language.quoted(c));
            format!("c.{column}")
        })
        .join(", ");
        reached.push_str(&format!(" UNION SELECT {on} FROM marktwice_r AS r JOIN {child} AS c ON {links}"));
    }
    let mut sql = format!(
        "WITH RECURSIVE marktwice_r({names}) AS ({reached}) SELECT count(*) FROM marktwice_r AS r JOIN {child} AS c ON {links}"
    );
    if itself && !counter.identity.is_empty() {
        let same: Vec<String> =
            counter.identity.iter().map(|(own, name)| format!("o.{own} = c.{name}")).collect();
        sql.push_str(&format!(" WHERE NOT EXISTS (SELECT 1 FROM {held} AS o WHERE {})", same.join(" AND ")));
    }
    sql
}
