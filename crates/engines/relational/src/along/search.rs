//! Which tables foreign keys' actions reach, and what may become of their rows, from the catalogue alone.

use std::collections::BTreeSet;

use marktwice_core::along::Along;
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::EngineError;

use super::{Act, Action, Edge, From, Graph, Node};
use crate::driver::Driver;
use crate::layout::fits;
use crate::reach::{ForeignKey, acts};
use crate::shell::Tabled;

/// A table while it is found out what may become of its rows.
struct Reached<T> {
    name: (String, String),
    table: T,
    deletes: bool,
    writes: BTreeSet<usize>,
    /// Those of them whose values only the run can tell.
    unknown: BTreeSet<usize>,
    /// Foreign keys that lead to it, by position.
    keys: BTreeSet<usize>,
}

impl<T> Reached<T> {
    fn size(&self) -> [usize; 4] {
        [usize::from(self.deletes), self.writes.len(), self.unknown.len(), self.keys.len()]
    }
}

/// What may become of the rows of a table that is referred to.
struct Source {
    from: From,
    target: Target,
    deletes: bool,
    writes: BTreeSet<usize>,
    unknown: BTreeSet<usize>,
}

/// What is being found out.
struct Search<'d, D: Driver> {
    driver: &'d mut D,
    root: Source,
    keys: Vec<ForeignKey>,
    all: Vec<Reached<D::Table>>,
    edges: Vec<(usize, Edge)>,
}

/// Which tables rows are taken along of, from the catalogue alone; `None` where not all of them can be held: then they are
/// counted and named. `assigned` are the columns of the step, and whether their values are known.
///
/// # Errors
/// What the engine says.
pub fn graph<D: Driver>(
    driver: &mut D,
    keys: &[ForeignKey],
    table: &D::Table,
    kind: StepKind,
    assigned: &[(usize, bool)],
) -> Result<Option<Graph<D::Table>>, EngineError> {
    let root = Source {
        from: From::Step,
        target: table.target().clone(),
        deletes: kind == StepKind::Delete,
        writes: assigned.iter().map(|(at, _)| *at).collect(),
        unknown: assigned.iter().filter(|(_, known)| !known).map(|(at, _)| *at).collect(),
    };
    let mut search = Search { driver, root, keys: keys.to_vec(), all: Vec::new(), edges: Vec::new() };
    // What may become of rows of one table decides what may become of those of the next, until nothing is added.
    loop {
        let mut more = false;
        let mut at = 0;
        while let Some(key) = search.keys.get(at).cloned() {
            for source in search.sources(&key) {
                match search.reach(at, &key, &source)? {
                    Some(added) => more |= added,
                    None => return Ok(None),
                }
            }
            at += 1;
        }
        if !more {
            return search.complete();
        }
    }
}

impl<D: Driver> Search<'_, D> {
    /// Whose rows a foreign key refers to, of those that are written.
    fn sources(&self, key: &ForeignKey) -> Vec<Source> {
        let mut all = Vec::new();
        let root = &self.root;
        if key.leads_to(&root.target) {
            all.push(Source {
                target: root.target.clone(),
                writes: root.writes.clone(),
                unknown: root.unknown.clone(),
                ..*root
            });
        }
        let nodes = self.all.iter().enumerate().filter(|(_, node)| node.name == key.parent_name);
        all.extend(nodes.map(|(at, node)| Source {
            from: From::Node(at),
            target: node.table.target().clone(),
            deletes: node.deletes,
            writes: node.writes.clone(),
            unknown: node.unknown.clone(),
        }));
        all
    }

    /// Goes along one key; `None` where what it leads to cannot be held, else whether anything was added.
    fn reach(&mut self, at: usize, key: &ForeignKey, source: &Source) -> Result<Option<bool>, EngineError> {
        let parents: Vec<usize> =
            key.parent_columns.iter().filter_map(|c| source.target.position(c)).collect();
        let unseen = parents.len() != key.child_columns.len() || !key.readable;
        let moving: Vec<usize> = parents.iter().copied().filter(|p| source.writes.contains(p)).collect();
        let moves = !moving.is_empty() || (unseen && !source.writes.is_empty());
        let on_delete = source.deletes && acts(&key.on_delete);
        let on_update = moves && acts(&key.on_update);
        if !on_delete && !on_update {
            return Ok(Some(false));
        }
        if unseen {
            return Ok(None);
        }
        let mut added = false;
        let to = match self.all.iter().position(|node| node.name == key.child_target) {
            Some(to) => to,
            None => {
                let (schema, name) = &key.child_target;
                let Ok(table) = self.driver.described(schema, name) else { return Ok(None) };
                // Keys onto tables of another schema are not always among those that are known already.
                if *schema != self.root.target.schema {
                    let further = self.driver.foreign_keys(&table)?;
                    let further: Vec<_> = further.into_iter().filter(|k| !self.keys.contains(k)).collect();
                    self.keys.extend(further);
                }
                self.all.push(Reached {
                    name: key.child_target.clone(),
                    table,
                    deletes: false,
                    writes: BTreeSet::new(),
                    unknown: BTreeSet::new(),
                    keys: BTreeSet::new(),
                });
                added = true;
                self.all.len() - 1
            }
        };
        let known = self.edges.iter().any(|(of, e)| (*of, e.from, e.to) == (at, source.from, to));
        if !known {
            let Some(edge) = self.edge(key, source, to)? else { return Ok(None) };
            self.edges.push((at, edge));
            added = true;
        }
        let edge = self.edges.iter_mut().find(|(of, e)| (*of, e.from, e.to) == (at, source.from, to));
        let (Some((_, edge)), Some(node)) = (edge, self.all.get_mut(to)) else { return Ok(None) };
        let before = node.size();
        node.keys.insert(at);
        if let Some(action) = edge.on_delete.as_mut().filter(|_| on_delete) {
            node.take(action, false);
        }
        if let Some(action) = edge.on_update.as_mut().filter(|_| on_update) {
            // Where nobody knows whether, and to what, a key changes, nobody knows what follows.
            node.take(action, moving.iter().any(|at| source.unknown.contains(at)));
        }
        Ok(Some(added || before != node.size()))
    }

    /// The edge of a key; `None` where its columns are not all seen.
    fn edge(&mut self, key: &ForeignKey, source: &Source, to: usize) -> Result<Option<Edge>, EngineError> {
        let Some(table) = self.all.get(to).map(|node| node.table.clone()) else { return Ok(None) };
        let child = table.target();
        let pairs = key.parent_columns.iter().zip(&key.child_columns);
        let pairs = pairs.filter_map(|(p, c)| Some((source.target.position(p)?, child.position(c)?)));
        let columns: Vec<(usize, usize)> = pairs.collect();
        if columns.len() != key.child_columns.len() {
            return Ok(None);
        }
        let refers: Vec<usize> = columns.iter().map(|(_, child)| *child).collect();
        // Some engines let the columns be named that go.
        let named: Vec<usize> = key.sets.iter().filter_map(|c| child.position(c)).collect();
        let named = if named.is_empty() { refers.clone() } else { named };
        let driver = &mut *self.driver;
        let mut action = |(when, how): (&str, &str), sets: Vec<usize>, cascade: Act| {
            let act = match how {
                "CASCADE" => cascade,
                "SET NULL" => Act::Null,
                "SET DEFAULT" => {
                    let defaults = driver.declared(&table)?.defaults;
                    let of = |at: &usize| literal(defaults.get(*at).cloned().flatten());
                    Act::Default(sets.iter().map(of).collect())
                }
                _ => return Ok::<_, EngineError>(None),
            };
            Ok(Some(Action { act, sets, live: false, words: format!("{when} {how}") }))
        };
        let on_delete = action(("ON DELETE", &key.on_delete), named, Act::Delete)?;
        let on_update = action(("ON UPDATE", &key.on_update), refers, Act::Follow)?;
        Ok(Some(Edge { from: source.from, to, columns, on_delete, on_update }))
    }

    /// The graph of what was reached, in an order that rows can be brought back in.
    fn complete(self) -> Result<Option<Graph<D::Table>>, EngineError> {
        let order = parents_first(&self.keys, &self.all);
        let place = |at: usize| order.iter().position(|o| *o == at).unwrap_or(at);
        let moved = |(_, edge): (usize, Edge)| Edge {
            from: match edge.from {
                From::Step => From::Step,
                From::Node(at) => From::Node(place(at)),
            },
            to: place(edge.to),
            ..edge
        };
        let edges: Vec<Edge> = self.edges.into_iter().map(moved).collect();
        let mut all: Vec<Option<Reached<D::Table>>> = self.all.into_iter().map(Some).collect();
        let mut nodes = Vec::new();
        for at in &order {
            let Some(reached) = all.get_mut(*at).and_then(Option::take) else { continue };
            let into: Vec<&Edge> = edges.iter().filter(|edge| edge.to == nodes.len()).collect();
            let Some(node) = node(self.driver, reached, &into)? else { return Ok(None) };
            nodes.push(node);
        }
        Ok(Some(Graph { nodes, edges }))
    }
}

impl<T> Reached<T> {
    /// An action can be set off that sets columns of it, or takes its rows away; `unsure` where nobody knows to what.
    fn take(&mut self, action: &mut Action, unsure: bool) {
        action.live = true;
        if action.act == Act::Delete {
            self.deletes = true;
            return;
        }
        self.writes.extend(&action.sets);
        for (nth, at) in action.sets.iter().enumerate() {
            let open =
                matches!(&action.act, Act::Default(values) if values.get(nth).is_none_or(Option::is_none));
            if open || unsure {
                self.unknown.insert(*at);
            }
        }
    }
}

/// One table of the graph; `None` where its rows cannot be held.
fn node<D: Driver>(
    driver: &mut D,
    reached: Reached<D::Table>,
    into: &[&Edge],
) -> Result<Option<Node<D::Table>>, EngineError> {
    let Reached { mut table, writes, unknown, keys, .. } = reached;
    // A key that may become NULL tells no row any more; the engine's own row identity does.
    let target = table.target();
    let null = |at: &usize| {
        // The column that the identity is refuses NULL, whatever its definition says.
        let refuses = target.columns.get(*at).is_none_or(|c| c.not_null) || table.row_column() == Some(*at);
        writes.contains(at) && !refuses
    };
    if let Some(row) = table.row_identity().filter(|_| target.key.columns.iter().any(null)) {
        let key = Key { kind: KeyKind::RowIdentity, names: vec![row.to_owned()], columns: Vec::new() };
        table.tell_by(&key);
    }
    let (target, again) = (table.target().clone(), keys.len() > 1);
    let known: Vec<usize> = writes.difference(&unknown).copied().collect();
    let fires = D::Table::ACTIONS_FIRE && !writes.is_empty() && !driver.declared(&table)?.triggers.is_empty();
    let mut foreseen = Vec::new();
    for (at, column) in target.columns.iter().enumerate() {
        let set = writes.contains(&at);
        let why = match set {
            true if unknown.contains(&at) => "only the run can tell what it follows",
            true if !fires => "",
            false if column.generated && !writes.is_empty() => "it is computed from what the action sets",
            _ if fires => "a trigger may set it",
            _ => continue,
        };
        let (label, why) =
            if why.is_empty() { (Label::Exact, None) } else { (Label::Unknown, Some(why.to_owned())) };
        foreseen.push(Foreseen { column: at, label, derived: !set, why });
    }
    // A row is paired with itself by its key, which must then be known; or by its contents, and all of them.
    let by_contents = target.key.kind == KeyKind::WholeRow && table.row_identity().is_none();
    let lost = table.row_identity().is_none() && target.key.columns.iter().any(|at| unknown.contains(at));
    let mut follows: Vec<usize> = writes.iter().copied().collect();
    for action in into.iter().flat_map(|edge| edge.live()) {
        if !matches!(action.act, Act::Follow | Act::Delete) {
            follows.retain(|at| !action.sets.contains(at));
        }
    }
    let some = |n: usize| n > 0 && n < writes.len();
    let mixed = by_contents && some(follows.len());
    let doubled = again && table.identity().is_empty();
    let unsure = by_contents && foreseen.iter().any(|f| f.label == Label::Unknown);
    let width = target.columns.len() + known.len();
    let too_wide = fits(&target.table, width, D::Table::MOST_COLUMNS, D::Table::ENGINE).is_err();
    if lost || mixed || doubled || unsure || too_wide {
        return Ok(None);
    }
    let kind = if writes.is_empty() { StepKind::Delete } else { StepKind::Update };
    let along = Along { target, kind, foreseen, follows };
    Ok(Some(Node { table, known, along, again }))
}

/// Positions of tables so that what is referred to comes first, as far as the keys have an order.
fn parents_first<T: Tabled>(keys: &[ForeignKey], all: &[Reached<T>]) -> Vec<usize> {
    let mut left: Vec<usize> = (0..all.len()).collect();
    let mut order = Vec::new();
    while !left.is_empty() {
        let name = |at: usize| all.get(at).map(|n| &n.name);
        let waits = |at: usize| {
            keys.iter().any(|key| {
                Some(&key.child_target) == name(at)
                    && key.parent_name != key.child_target
                    && left.iter().any(|other| Some(&key.parent_name) == name(*other))
            })
        };
        // Where keys go round nobody comes first.
        let next = left.iter().position(|at| !waits(*at)).unwrap_or(0);
        order.push(left.remove(next));
    }
    order
}

/// A default that is written out: it is the same for every row, and whoever asks. `None` for any other.
fn literal(default: Option<String>) -> Option<String> {
    let Some(text) = default else { return Some("NULL".to_owned()) };
    let bare = text.trim();
    let value = bare.split_once("::").map_or(bare, |(value, _)| value).trim();
    let quoted = value.len() >= 2
        && value.starts_with('\'')
        && value.ends_with('\'')
        && !value.get(1..value.len() - 1).unwrap_or_default().contains(['\'', '\\']);
    let number = value.parse::<f64>().is_ok_and(f64::is_finite)
        && value.bytes().all(|b| b.is_ascii_digit() || b == b'.' || b == b'-');
    (quoted || number || value.eq_ignore_ascii_case("null")).then(|| value.to_owned())
}

#[cfg(test)]
mod tests {
    use super::literal;

    #[test]
    fn defaults_that_are_written_out() {
        let of = |text: &str| literal(Some(text.to_owned()));
        assert_eq!(literal(None).as_deref(), Some("NULL"));
        assert_eq!(of("7").as_deref(), Some("7"));
        assert_eq!(of("'moor'::character varying").as_deref(), Some("'moor'"));
        for unknown in ["nextval('s'::regclass)", "now()", "1 + 1", "'it''s'", "inf"] {
            assert_eq!(of(unknown), None, "{unknown}");
        }
    }
}
