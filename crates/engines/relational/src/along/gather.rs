//! Which rows are taken along, and what becomes of each: gathered in held tables, wave by wave, from the step's own rows on.
//! The real rows are still as they were, so that the engine itself compares keys as it does when it acts.

use marktwice_core::along::{AlongCount, number};
use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::dialect::ours::{IS_WANTED, ROW, THERE, WAVE, before, wanted};
use marktwice_sql::statement::routine::{Verb, Written};

use super::{Act, Action, Edge, From, Graph, Node, not_among, row_of};
use crate::driver::Driver;
use crate::held::Held;
use crate::layout::{Layout, flagged};
use crate::shell::Tabled;

/// Waves after which the engines themselves have long given up.
const MOST_WAVES: usize = 100_000;

/// Rows of one table that are taken along, held.
#[derive(Debug)]
pub struct Gathered<T: Tabled> {
    /// The rows.
    pub held: Held<T>,
    /// How many.
    pub count: AlongCount,
    /// Whether a row may have been reached on more ways than one.
    pub again: bool,
}

/// Makes the held tables of a graph, while that is allowed.
///
/// # Errors
/// What the engine says.
pub fn define<D: Driver>(driver: &mut D, graph: &Graph<D::Table>, step: usize) -> Result<(), EngineError> {
    for (nth, node) in graph.nodes.iter().enumerate() {
        let table = &node.table;
        let known = node.known.iter().map(|at| format!("{} {}", wanted(*at), table.stored(*at)));
        let mut columns = flagged(table, D::Table::COUNTED, None, known);
        columns.push(format!("{WAVE} {}", D::Table::WHOLE));
        columns.extend(driver.behind());
        driver.define(table, number(step, nth), &columns)?;
    }
    Ok(())
}

/// Gathers the rows that the held rows of a step take along.
///
/// # Errors
/// What the engine says.
pub fn gather<D: Driver>(
    driver: &mut D,
    graph: &Graph<D::Table>,
    root: &Held<D::Table>,
    lock: bool,
) -> Result<Vec<Gathered<D::Table>>, EngineError> {
    let gathering = Gathering { graph, root, lock };
    let mut wave = 0;
    // What the step's own rows reach are rows of the first wave, and so on.
    while !graph.edges.is_empty() {
        let mut reached = 0;
        for edge in graph.edges.iter().filter(|edge| (wave == 0) == (edge.from == From::Step)) {
            for sql in gathering.statements(edge, wave) {
                reached += driver.execute(&sql)?;
            }
        }
        if reached == 0 {
            break;
        }
        wave += 1;
        if wave > MOST_WAVES {
            return Err(EngineError::Other("foreign keys' actions go round without an end".to_owned()));
        }
    }
    let mut all = Vec::new();
    for (nth, node) in graph.nodes.iter().enumerate() {
        let number = number(root.layout.step, nth);
        let name = node.table.held_name(number);
        driver.loaded(&name, true)?;
        let counted = driver
            .question(&format!("SELECT count(*), count(CASE WHEN {IS_WANTED} THEN 1 END) FROM {name}"))?;
        let written = counted.count(0, 1);
        let count = AlongCount { deleted: counted.count(0, 0).saturating_sub(written), written };
        let layout = Layout {
            step: number,
            target: node.along.target.clone(),
            kind: node.along.kind,
            row: node.table.row_identity().is_some(),
            flags: true,
            rest: None,
            moving: node.along.foreseen.iter().map(|f| f.column).collect(),
            after: node.known.iter().map(|at| (*at, wanted(*at))).collect(),
        };
        all.push(Gathered { held: Held::new(layout, &node.table), count, again: node.again });
    }
    Ok(all)
}

struct Gathering<'a, T: Tabled> {
    graph: &'a Graph<T>,
    root: &'a Held<T>,
    lock: bool,
}

/// Rows that are written, as a part of a statement: `h`, and the real ones beside them, `p`.
struct Writing<'a> {
    from: String,
    /// What each column becomes, where that is known.
    after: &'a dyn Fn(usize) -> Option<String>,
    /// Whether a column may become something else.
    moves: &'a dyn Fn(usize) -> bool,
}

impl<T: Tabled> Gathering<'_, T> {
    /// The held table of the rows of a node.
    fn name(&self, nth: usize, node: &Node<T>) -> String {
        node.table.held_name(number(self.root.layout.step, nth))
    }

    /// The statements that gather what one key reaches from rows of a wave.
    fn statements(&self, edge: &Edge, wave: usize) -> Vec<String> {
        let Some(to) = self.graph.nodes.get(edge.to) else { return Vec::new() };
        let mut all = Vec::new();
        match edge.from {
            From::Step => {
                let layout = &self.root.layout;
                let after = |at: usize| {
                    let known = layout.after.iter().find(|(column, _)| *column == at);
                    known.map(|(_, name)| format!("h.{name}"))
                };
                let moves = |at: usize| layout.moving.contains(&at);
                let (goes, stays) = if layout.flags {
                    (
                        Some(format!("h.{THERE} AND NOT h.{IS_WANTED}")),
                        Some(format!("h.{THERE} AND h.{IS_WANTED}")),
                    )
                } else {
                    let any = || Some("1 = 1".to_owned());
                    if layout.kind == StepKind::Delete { (any(), None) } else { (None, any()) }
                };
                let written = Writing {
                    from: joined(&self.root.table, &self.root.name(), edge),
                    after: &after,
                    moves: &moves,
                };
                self.reach(&mut all, (edge, to, wave), &written, (goes, stays));
            }
            From::Node(at) => {
                let Some(node) = self.graph.nodes.get(at) else { return Vec::new() };
                let after = |at: usize| node.known.contains(&at).then(|| format!("h.{}", wanted(at)));
                let moves = |at: usize| node.along.foreseen.iter().any(|f| f.column == at && !f.derived);
                let name = self.name(at, node);
                let goes = format!("NOT h.{IS_WANTED} AND h.{WAVE} = {wave}");
                let stays = format!("h.{IS_WANTED} AND h.{WAVE} = {wave}");
                let written =
                    Writing { from: joined(&node.table, &name, edge), after: &after, moves: &moves };
                self.reach(&mut all, (edge, to, wave), &written, (Some(goes), Some(stays)));
            }
        }
        all
    }

    fn reach(
        &self,
        all: &mut Vec<String>,
        (edge, to, wave): (&Edge, &Node<T>, usize),
        written: &Writing<'_>,
        (goes, stays): (Option<String>, Option<String>),
    ) {
        if let (Some(goes), Some(action)) = (goes, edge.on_delete.as_ref().filter(|action| action.live)) {
            self.acting(all, (edge, to, wave), written, action, &goes);
        }
        let moving: Vec<usize> =
            edge.columns.iter().map(|(p, _)| *p).filter(|p| (written.moves)(*p)).collect();
        let action = edge.on_update.as_ref().filter(|action| action.live && !moving.is_empty());
        let (Some(stays), Some(action)) = (stays, action) else { return };
        let parent = self.parent(edge);
        let changes = moving.iter().map(|at| match (written.after)(*at) {
            Some(after) => T::LANGUAGE.differs(&format!("p.{}", parent.column(*at)), &after),
            None => "1 = 1".to_owned(),
        });
        let changes = changes.collect::<Vec<_>>().join(" OR ");
        self.acting(all, (edge, to, wave), written, action, &format!("{stays} AND ({changes})"));
    }

    fn parent(&self, edge: &Edge) -> &T {
        match edge.from {
            From::Step => &self.root.table,
            From::Node(at) => self.graph.nodes.get(at).map_or(&self.root.table, |node| &node.table),
        }
    }

    /// The statements of one action: rows that come in, and, where they may be there already, what becomes of those.
    fn acting(
        &self,
        all: &mut Vec<String>,
        (edge, to, wave): (&Edge, &Node<T>, usize),
        written: &Writing<'_>,
        Action { act, sets, .. }: &Action,
        condition: &str,
    ) {
        let (table, next) = (&to.table, wave + 1);
        let name = self.name(edge.to, to);
        let parent = self.parent(edge);
        let on =
            edge.columns.iter().map(|(p, c)| format!("p.{} = c.{}", parent.column(*p), table.column(*c)));
        let on = on.collect::<Vec<_>>().join(" AND ");
        let from = format!("{} JOIN {} AS c ON {on}", written.from, table.from());
        let value = |at: usize| -> String {
            let nth = sets.iter().position(|column| *column == at);
            let given = match (act, nth) {
                (_, None) | (Act::Delete, _) => None,
                (Act::Null, Some(_)) => Some("NULL".to_owned()),
                (Act::Default(values), Some(nth)) => values.get(nth).cloned().flatten(),
                (Act::Follow, Some(_)) => {
                    let parent = edge.columns.iter().find(|(_, c)| *c == at).map(|(p, _)| *p);
                    parent.filter(|p| (written.moves)(*p)).and_then(|p| (written.after)(p))
                }
            };
            given.map_or_else(|| format!("c.{}", table.column(at)), |given| table.computed(at, &given))
        };
        let stays = *act != Act::Delete;
        let identity = table.identity();
        let own: Vec<String> = identity.iter().map(|(_, own)| own.clone()).collect();
        if to.again {
            // What is held already came on another way.
            let held: Vec<String> = identity.iter().map(|(held, _)| held.clone()).collect();
            let which = format!(
                "{} IN (SELECT {} FROM {from} WHERE {condition})",
                row_of(&name, &held),
                own.iter().map(|own| format!("c.{own}")).collect::<Vec<_>>().join(", "),
            );
            if stays {
                for at in sets.iter().filter(|at| to.known.contains(at)) {
                    let same: Vec<String> =
                        identity.iter().map(|(held, own)| format!("c.{own} = {name}.{held}")).collect();
                    let one = format!(
                        "(SELECT {} FROM {from} WHERE {condition} AND {})",
                        value(*at),
                        same.join(" AND ")
                    );
                    let one = if *act == Act::Follow { one } else { value(*at) };
                    let differs = T::LANGUAGE.differs(&format!("{name}.{}", wanted(*at)), &one);
                    // What goes in the end may be set on the way: that alone may be refused.
                    all.push(format!(
                        "UPDATE {name} SET {} = {one}, {WAVE} = CASE WHEN {IS_WANTED} THEN {next} ELSE {WAVE} END \
                         WHERE {which} AND {differs}",
                        wanted(*at)
                    ));
                }
            } else {
                all.push(format!(
                    "UPDATE {name} SET {IS_WANTED} = FALSE, {WAVE} = {next} WHERE {IS_WANTED} AND {which}"
                ));
            }
        }
        let mut names: Vec<String> = Vec::new();
        let mut values: Vec<String> = Vec::new();
        let mut put = |name: String, value: String| {
            names.push(name);
            values.push(value);
        };
        if let Some(row) = table.row_identity() {
            put(ROW.to_string(), format!("c.{}", T::LANGUAGE.quoted(row)));
        }
        let columns = 0..table.target().columns.len();
        let befores: Vec<String> = columns.clone().map(before).collect();
        for (held, own) in
            identity.iter().filter(|(held, _)| !befores.contains(held) && *held != ROW.to_string())
        {
            put(held.clone(), format!("c.{own}"));
        }
        columns.for_each(|at| put(before(at), format!("c.{}", table.column(at))));
        to.known.iter().for_each(|at| put(wanted(*at), value(*at)));
        put(THERE.to_string(), "TRUE".to_owned());
        put(IS_WANTED.to_string(), if stays { "TRUE" } else { "FALSE" }.to_owned());
        put(WAVE.to_string(), next.to_string());
        let mut conditions = vec![condition.to_owned()];
        if to.again {
            conditions.push(not_among::<T>(&name, &identity));
        }
        if to.along.target.same_table(&self.root.layout.target) {
            conditions.push(not_among::<T>(&self.root.name(), &self.root.table.identity()));
        }
        let order: Vec<String> = own.iter().map(|own| format!("c.{own}")).collect();
        let order = if order.is_empty() { String::new() } else { format!(" ORDER BY {}", order.join(", ")) };
        all.push(format!(
            "INSERT INTO {name} ({}) SELECT {} FROM {from} WHERE {}{order} {}",
            names.join(", "),
            values.join(", "),
            conditions.join(" AND "),
            if self.lock { T::LOCKS } else { "" }
        ));
    }
}

/// Held rows `h` with the real ones `p` beside them; where nothing tells those, what is held stands for them.
fn joined<T: Tabled>(table: &T, held: &str, edge: &Edge) -> String {
    let identity = table.identity();
    let on: Vec<String> = if identity.is_empty() {
        edge.columns.iter().map(|(p, _)| format!("p.{} = h.{}", table.column(*p), before(*p))).collect()
    } else {
        let same = identity.iter().enumerate();
        same.map(|(nth, (held, own))| format!("p.{own} {} h.{held}", table.equals(nth))).collect()
    };
    format!("{held} AS h JOIN {} AS p ON {}", table.from(), on.join(" AND "))
}

/// What else follows from rows of a node being written, or taken away: its triggers.
///
/// # Errors
/// What the engine says.
pub fn fired_by<D: Driver>(
    driver: &mut D,
    node: &Node<D::Table>,
    verb: Verb,
) -> Result<Vec<SideWrite>, EngineError> {
    let columns = node.along.foreseen.iter().filter(|f| !f.derived).map(|f| f.column);
    let columns: Vec<usize> = if verb == Verb::Delete { Vec::new() } else { columns.collect() };
    let (table, columns) = (node.table.shown().to_owned(), node.along.target.names(&columns));
    driver.further(&Written { schema: None, table, verb, columns })
}

/// What is gathered, as writes outside the step's own rows, and what those set off in turn.
///
/// # Errors
/// What the engine says.
pub fn side<D: Driver>(
    driver: &mut D,
    graph: &Graph<D::Table>,
    gathered: &[Gathered<D::Table>],
) -> Result<Vec<SideWrite>, EngineError> {
    let mut all: Vec<SideWrite> = Vec::new();
    for (nth, (node, rows)) in graph.nodes.iter().zip(gathered).enumerate() {
        let actions = |goes: bool| {
            let mut words: Vec<&str> = Vec::new();
            for edge in graph.edges.iter().filter(|edge| edge.to == nth) {
                for action in edge.live() {
                    if (action.act == Act::Delete) == goes && !words.contains(&action.words.as_str()) {
                        words.push(&action.words);
                    }
                }
            }
            words.join(", ")
        };
        let counts = [(true, rows.count.deleted, Verb::Delete), (false, rows.count.written, Verb::Update)];
        for (goes, count, verb) in counts.into_iter().filter(|(_, count, _)| *count > 0) {
            let table = node.table.shown().to_owned();
            all.push(SideWrite {
                table,
                how: SideHow::ForeignKey(actions(goes)),
                rows: Some(count),
                held: true,
                unheld: None,
            });
            for write in fired_by(driver, node, verb)? {
                // Keys that lead on are edges of the graph.
                let edge = matches!(write.how, SideHow::ForeignKey(_));
                if !edge && !all.iter().any(|w| w.table == write.table && w.how == write.how) {
                    all.push(write);
                }
            }
        }
    }
    Ok(all)
}
