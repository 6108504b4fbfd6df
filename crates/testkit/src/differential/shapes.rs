//! Statements of other shapes than one table with a filter: joins, WITH, row values, ORDER BY and LIMIT.

use fastrand::Rng;

use crate::stage::On;

/// What a statement is made from.
pub(super) struct Parts<'a> {
    pub(super) on: On,
    /// Columns of t that hold numbers, texts, and all that can be assigned.
    pub(super) ints: &'a [String],
    pub(super) texts: &'a [String],
    /// A column to assign with an expression over columns of t.
    pub(super) set: (String, String),
    /// A condition over columns of t.
    pub(super) filter: String,
    /// What rows can be ordered by so that none are equal, where there is such a thing.
    pub(super) order: Option<&'a str>,
}

fn pick<'a, T: ?Sized>(dice: &mut Rng, from: &[&'a T]) -> &'a T {
    from[dice.usize(..from.len())]
}

fn one<'a>(dice: &mut Rng, from: &'a [String]) -> Option<&'a String> {
    if from.is_empty() { None } else { from.get(dice.usize(..from.len())) }
}

/// Makes a statement, when the columns allow for the shape that was drawn.
pub(super) fn statement(dice: &mut Rng, parts: &Parts<'_>) -> Option<String> {
    let Parts { on, ints, texts, set: (column, value), filter, order } = parts;
    let (int, text) = (one(dice, ints)?, one(dice, texts));
    let more = if dice.bool() { format!(" AND ({filter})") } else { String::new() };
    let link = match (dice.u32(..4), text) {
        (0, Some(text)) => format!("x.b = t.{text}"),
        (1, _) => format!("x.a >= t.{int}"),
        _ => format!("x.a = t.{int}"),
    };
    // What the join gives: a column of the source, or an expression over the target's own.
    let (to, given) = match (dice.u32(..4), text) {
        (0, Some(text)) => (text.clone(), "x.b".to_owned()),
        (1, _) => (int.clone(), "x.a".to_owned()),
        (2, _) => (int.clone(), format!("x.a + t.{int}")),
        _ => (column.clone(), value.clone()),
    };
    let source = pick(
        dice,
        &[
            "u AS x",
            "u x",
            "(SELECT a, b FROM u WHERE a IS NOT NULL) AS x",
            "u AS x JOIN u AS y ON y.a = x.a",
        ],
    );
    let own = pick(dice, &["t", "t"]);
    let shape = dice.u32(..11);
    if *on == On::Maria {
        let join = pick(dice, &["JOIN", "LEFT JOIN", "INNER JOIN", "STRAIGHT_JOIN"]);
        let source = pick(dice, &["u AS x", "u x", "(SELECT a, b FROM u WHERE a IS NOT NULL) AS x"]);
        return Some(match shape {
            0 | 1 => format!("UPDATE {own} {join} {source} ON {link} SET t.{to} = {given} WHERE 1 = 1{more}"),
            2 => format!("UPDATE {source}, t SET {to} = {given} WHERE {link}{more}"),
            3 => format!("DELETE t FROM t JOIN {source} ON {link} WHERE 1 = 1{more}"),
            4 => format!("DELETE FROM t USING t, {source} WHERE {link}{more}"),
            5 => format!("DELETE t.* FROM {source} RIGHT JOIN t ON {link} WHERE x.a IS NULL{more}"),
            6 => format!("UPDATE t JOIN t AS s ON s.{int} = t.{int} SET t.{int} = s.{int} + 1"),
            7 => format!("DELETE t FROM t JOIN t AS s ON s.{int} = t.{int} AND s.{int} > 0"),
            8 => format!(
                "UPDATE t SET {column} = {value} WHERE (({filter})) ORDER BY {} LIMIT {}",
                (*order)?,
                dice.u32(..4)
            ),
            9 => format!("DELETE FROM t WHERE {filter} ORDER BY {} DESC LIMIT 2", (*order)?),
            _ => format!(
                "UPDATE t SET {column} = {value} WHERE ({int}, {}) IN (SELECT a, b FROM u){more}",
                text?
            ),
        });
    }
    let with = "WITH q AS (SELECT a, b FROM u WHERE a IS NOT NULL)";
    Some(match shape {
        0 | 1 => format!("UPDATE t SET {to} = {given} FROM {source} WHERE {link}{more}"),
        2 => format!("{with} UPDATE t SET {to} = {given} FROM q AS x WHERE {link}{more}"),
        3 => format!("{with} UPDATE t SET {column} = {value} WHERE {int} IN (SELECT a FROM q){more}"),
        4 => format!("{with} DELETE FROM t WHERE EXISTS (SELECT 1 FROM q AS x WHERE {link}){more}"),
        5 if *on == On::Postgres => format!("DELETE FROM t USING {source} WHERE {link}{more}"),
        5 => format!("DELETE FROM t WHERE ({int}, {}) IN (SELECT a, b FROM u){more}", text?),
        6 => format!("UPDATE t SET {int} = s.{int} FROM t AS s WHERE s.{int} = t.{int}"),
        7 => format!(
            "UPDATE t SET ({int}, {}) = (SELECT a, b FROM u AS x WHERE {link} ORDER BY a, b LIMIT 1) WHERE {filter}",
            text.filter(|t| *t != int)?
        ),
        8 => format!(
            "UPDATE t SET ({int}, {}) = ({int}, upper({})) WHERE {filter}",
            text.filter(|t| *t != int)?,
            text?
        ),
        9 => format!("UPDATE t SET ({int}) = (SELECT max(x.a) FROM u AS x WHERE {link}) WHERE {filter}"),
        _ => format!("UPDATE t AS o SET {int} = x.a FROM {source} WHERE x.a = o.{int}"),
    })
}

/// What throws dice.
pub(super) trait Throwing {
    /// The dice.
    fn dice(&mut self) -> &mut Rng;

    /// Whether a throw of so many sides falls on one of them.
    fn one_in(&mut self, n: u32) -> bool {
        self.dice().u32(..n) == 0
    }

    /// One of these.
    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.dice().usize(..from.len())]
    }
}

/// What makes statements about the table `t`.
pub(super) trait Making: Throwing {
    /// A condition over its columns.
    fn condition(&mut self) -> String;
    /// A column and what it becomes.
    fn assignment(&mut self) -> String;
}

/// Steps behind the first, on any of the tables; mostly none.
pub(super) fn steps_behind(maker: &mut impl Making, script: &str) -> Vec<String> {
    let steps = match maker.dice().u32(..12) {
        0..6 => 0,
        6..9 => 1,
        9 | 10 => 2,
        _ => 3,
    };
    let kid = script.contains("CREATE TABLE kid");
    let mut step = || match maker.dice().u32(..8) {
        0 => {
            let value = pick(maker.dice(), &["'b'", "'A'", "NULL"]);
            format!("UPDATE u SET b = {value} WHERE a = {}", maker.dice().u32(..3))
        }
        1 => format!("DELETE FROM u WHERE a = {}", maker.dice().u32(..3)),
        2 if kid => format!("DELETE FROM kid WHERE p = {}", maker.dice().u32(..6)),
        3 if kid => format!("UPDATE kid SET p = NULL WHERE id = {}", maker.dice().u32(..4)),
        4 | 5 => format!("DELETE FROM t WHERE {}", maker.condition()),
        _ => {
            let assignment = maker.assignment();
            format!("UPDATE t SET {assignment} WHERE {}", maker.condition())
        }
    };
    (0..steps).map(|_| step()).collect()
}
