//! Days and times that are set by the engine's own clock, or moved by so much: `day=today`, `day+=7d`; and numbers that are
//! added to.

use marktwice_core::table::Column;
use marktwice_port::{Days, Uncomposed};

use super::values::{is_number, literal};
use super::wrong;
use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;

/// What stands behind a declared type where a text column was seen to hold nothing but days, or days with times.
const IN_TEXT: &str = " in text";

/// What is done to a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Op {
    /// It is set.
    Set,
    /// Something is added.
    Add,
    /// Something is taken off.
    Subtract,
}

/// What a column holds, as far as days and times are concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Day,
    Moment,
    Zoned,
    Time,
}

fn kind(column: &Column) -> Option<Kind> {
    let declared = column.declared.trim().to_ascii_lowercase();
    if class(&declared) != Class::Moment {
        return None;
    }
    let zoned = declared.contains("with time zone") || declared.starts_with("timestamptz");
    Some(match declared.split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default() {
        "date" => Kind::Day,
        "time" | "timetz" => Kind::Time,
        _ if zoned => Kind::Zoned,
        _ => Kind::Moment,
    })
}

/// What is assigned to a column.
///
/// # Errors
/// Where the column cannot hold it, or nothing can be added to it.
pub(super) fn assigned(
    language: Language,
    column: &Column,
    op: Op,
    typed: &str,
) -> Result<String, Uncomposed> {
    if op == Op::Set {
        return match clock(language, column, typed) {
            Some(expression) => expression,
            None => literal(language, column, typed),
        };
    }
    if column.generated {
        return literal(language, column, typed);
    }
    let (name, sign) = (language.name(&column.name), if op == Op::Add { "+" } else { "-" });
    let digits = typed.strip_prefix('-').unwrap_or(typed);
    match (class(&column.declared), kind(column)) {
        (_, Some(kind)) => shifted(language, column, kind, (sign, typed)),
        (Class::Number, _) if is_number(digits) => Ok(format!("{name} {sign} {typed}")),
        (Class::Other, _) if language == Language::Sqlite && is_number(digits) => {
            Ok(format!("{name} {sign} {typed}"))
        }
        (Class::Number, _) => Err(wrong(
            format!("{} holds {}, and {typed} is no number", column.name, column.declared),
            format!("write {}{sign}=1.5", column.name),
        )),
        _ => Err(wrong(
            format!("{} holds no numbers and not only days, so nothing can be added to it", column.name),
            format!("write the new value: {}=VALUE", column.name),
        )),
    }
}

/// `now` and `today` of a column of days or times.
fn clock(language: Language, column: &Column, typed: &str) -> Option<Result<String, Uncomposed>> {
    let today = match typed {
        "today" => true,
        "now" => false,
        _ => return None,
    };
    let kind = kind(column).filter(|_| !column.generated)?;
    let in_text = column.declared.ends_with(IN_TEXT);
    let expression = match (language, kind) {
        (_, Kind::Time) if today => {
            let what = format!("{} holds times, and today is a day", column.name);
            return Some(Err(wrong(what, format!("write {}=now", column.name))));
        }
        (Language::Postgres, Kind::Day) if in_text => "CAST(CURRENT_DATE AS text)",
        (Language::Postgres, Kind::Moment) if in_text && today => {
            "to_char(CURRENT_DATE, 'YYYY-MM-DD HH24:MI:SS')"
        }
        (Language::Postgres, Kind::Moment) if in_text => "to_char(LOCALTIMESTAMP, 'YYYY-MM-DD HH24:MI:SS')",
        (Language::Sqlite, Kind::Moment | Kind::Zoned) if today => "CURRENT_DATE || ' 00:00:00'",
        (_, Kind::Day) => "CURRENT_DATE",
        (_, Kind::Moment | Kind::Zoned) if today => "CURRENT_DATE",
        (Language::Postgres, Kind::Moment) => "LOCALTIMESTAMP",
        (_, Kind::Moment | Kind::Zoned) => "CURRENT_TIMESTAMP",
        (Language::Postgres, Kind::Time) => "LOCALTIME",
        (_, Kind::Time) => "CURRENT_TIME",
    };
    Some(Ok(expression.to_owned()))
}

/// Units of time: as they are typed, in the engines' words, whether they are parts of a day, and how many there are at most in
/// the calendar of all engines, which ends with the year 9999.
const UNITS: &[(&str, &str, bool, i64)] = &[
    ("d", "day", false, 3_652_059),
    ("w", "week", false, 521_722),
    ("mo", "month", false, 119_988),
    ("y", "year", false, 9_999),
    ("h", "hour", true, 1_000_000),
    ("min", "minute", true, 1_000_000),
    ("s", "second", true, 1_000_000),
];

fn shifted(
    language: Language,
    column: &Column,
    kind: Kind,
    (sign, typed): (&str, &str),
) -> Result<String, Uncomposed> {
    let digits = typed.chars().take_while(char::is_ascii_digit).count();
    let (number, unit) = typed.split_at(digits);
    let known = UNITS.iter().find(|(short, ..)| *short == unit.trim());
    // What is no number of this machine is too many as well.
    let beyond = |most: i64| !number.is_empty() && number.parse::<i64>().map_or(true, |n| n > most);
    if let Some((_, unit, _, most)) = known.filter(|(.., most)| beyond(*most)) {
        let what = format!("{typed} is more than can be added to a day: at most {most} {unit}s");
        return Err(wrong(what, format!("write the new value: {}=VALUE", column.name)));
    }
    let amount: Option<i64> = number.parse().ok();
    let (Some(&(_, unit, part, _)), Some(amount)) = (known, amount) else {
        let what = format!("{typed} is no span of time");
        let hint = format!("write {}{sign}=7d: a whole number and d, w, mo, y, h, min or s", column.name);
        return Err(wrong(what, hint));
    };
    if (kind == Kind::Day && part) || (kind == Kind::Time && !part) {
        let holds = if part { "days, and has no times" } else { "times, and has no days" };
        let hint = if part { "d, w, mo or y" } else { "h, min or s" };
        return Err(wrong(format!("{} holds {holds}", column.name), format!("move it by {hint}")));
    }
    let name = language.name(&column.name);
    let in_text = column.declared.ends_with(IN_TEXT);
    let (unit, amount) = if unit == "week" { ("day", amount * 7) } else { (unit, amount) };
    Ok(match language {
        Language::Sqlite => {
            let function = match kind {
                Kind::Day => "date",
                Kind::Moment | Kind::Zoned => "datetime",
                Kind::Time => "time",
            };
            format!("{function}({name}, '{sign}{amount} {unit}s')")
        }
        Language::Postgres => {
            let own = match kind {
                Kind::Day if in_text => format!("CAST({name} AS date)"),
                Kind::Moment if in_text => format!("CAST({name} AS timestamp)"),
                _ => name,
            };
            let moved = match (kind, unit) {
                (Kind::Day, "day") => format!("{own} {sign} {amount}"),
                (Kind::Day, _) => format!("CAST({own} {sign} INTERVAL '{amount} {unit}' AS date)"),
                _ => format!("{own} {sign} INTERVAL '{amount} {unit}'"),
            };
            match kind {
                Kind::Day if in_text => format!("CAST({moved} AS text)"),
                Kind::Moment if in_text => format!("to_char({moved}, 'YYYY-MM-DD HH24:MI:SS')"),
                _ => moved,
            }
        }
        Language::Mysql => {
            let own = match kind {
                Kind::Day if in_text => format!("CAST({name} AS date)"),
                Kind::Moment if in_text => format!("CAST({name} AS datetime)"),
                _ => name,
            };
            format!("{own} {sign} INTERVAL {amount} {}", unit.to_ascii_uppercase())
        }
    })
}

/// How it is found out that a column holds nothing but days; `None` where its type says what it holds.
pub fn days(language: Language, column: &Column) -> Option<Days> {
    let typed = match class(&column.declared) {
        Class::Number => true,
        Class::Moment => language != Language::Sqlite,
        Class::Text | Class::Other => false,
    };
    if typed || (class(&column.declared) == Class::Other && language != Language::Sqlite) {
        return None;
    }
    let name = language.name(&column.name);
    let unlike = |glob: &str, pattern: &str| match language {
        Language::Sqlite => {
            format!("{name} IS NOT NULL AND (typeof({name}) <> 'text' OR {name} NOT GLOB '{glob}')")
        }
        Language::Postgres => format!("{name} IS NOT NULL AND {name} !~ '^{pattern}$'"),
        Language::Mysql => format!("{name} IS NOT NULL AND {name} NOT REGEXP '^{pattern}$'"),
    };
    let digits = |n: usize| "[0-9]".repeat(n);
    let day = format!("{}-{}-{}", digits(4), digits(2), digits(2));
    let time = format!("{}:{}:{}", digits(2), digits(2), digits(2));
    let both = format!("{day} {time}");
    let kinds = [(&day, "date"), (&both, "datetime")];
    let unlike = kinds.map(|(text, kind)| (unlike(text, text), format!("{kind}{IN_TEXT}")));
    // What is no known type is neither a number nor a day to be moved.
    let mixed = format!("mixed {}", column.declared);
    Some(Days { holds: format!("{name} IS NOT NULL"), unlike, mixed })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(name: &str, declared: &str) -> Column {
        Column { name: name.into(), declared: declared.into(), generated: false, not_null: false }
    }

    #[test]
    fn what_is_added_is_the_engines_own_expression() {
        use Language::{Mysql, Postgres, Sqlite};
        for (language, declared, op, typed, expected) in [
            (Postgres, "date", Op::Add, "7d", "x + 7"),
            (Postgres, "date", Op::Subtract, "2w", "x - 14"),
            (Postgres, "date", Op::Add, "1mo", "CAST(x + INTERVAL '1 month' AS date)"),
            (Postgres, "timestamp without time zone", Op::Add, "90min", "x + INTERVAL '90 minute'"),
            (Postgres, "date in text", Op::Add, "7d", "CAST(CAST(x AS date) + 7 AS text)"),
            (Mysql, "datetime", Op::Subtract, "3h", "x - INTERVAL 3 HOUR"),
            (Sqlite, "date in text", Op::Add, "1y", "date(x, '+1 years')"),
            (Sqlite, "datetime in text", Op::Subtract, "7d", "datetime(x, '-7 days')"),
            (Sqlite, "DECIMAL(8,2)", Op::Add, "1.50", "x + 1.50"),
            (Mysql, "int(11)", Op::Subtract, "-3", "x - -3"),
            (Postgres, "date", Op::Set, "today", "CURRENT_DATE"),
            (Postgres, "timestamp with time zone", Op::Set, "now", "CURRENT_TIMESTAMP"),
            (Postgres, "timestamp without time zone", Op::Set, "now", "LOCALTIMESTAMP"),
            (Sqlite, "TEXT", Op::Set, "today", "'today'"),
            (Mysql, "date", Op::Set, "'today'", "'today'"),
        ] {
            let found = assigned(language, &column("x", declared), op, typed).map_err(|e| e.message);
            assert_eq!(found.as_deref(), Ok(expected), "{language:?} {declared} {typed}");
        }
        for (declared, op, typed) in [
            ("date", Op::Add, "7"),
            ("date", Op::Add, "3h"),
            ("time", Op::Add, "3d"),
            ("time", Op::Set, "today"),
            ("int", Op::Add, "x"),
            ("int", Op::Add, "1 OR 1"),
            ("text", Op::Add, "1"),
            ("date", Op::Add, "99999999999d"),
        ] {
            assert!(
                assigned(Language::Postgres, &column("x", declared), op, typed).is_err(),
                "{declared} {typed}"
            );
        }
    }
}
