//! What single arguments are read as, and words as a shell takes them.

use marktwice_core::Code;
use marktwice_run::Show;

/// `COLUMN=VALUE`.
pub(super) fn said(text: &str) -> Result<(String, String), String> {
    let both = text.split_once('=').filter(|(column, _)| !column.trim().is_empty());
    let (column, value) = both.ok_or("write COLUMN=VALUE, without blanks around the equals sign")?;
    Ok((column.trim().to_owned(), value.to_owned()))
}

pub(super) fn given(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((name.trim().to_owned(), value.to_owned()))
}

pub(super) fn code(text: &str) -> Result<Code, String> {
    text.parse().map_err(|()| {
        let all: Vec<&str> = Code::ALL.iter().map(|c| c.as_str()).collect();
        match marktwice_core::near::nearest(text, all.iter().copied()) {
            Some(near) => format!("there is no such finding; did you mean {near}?"),
            None => format!("there is no such finding; there are: {}", all.join(", ")),
        }
    })
}

pub(super) fn show(text: &str) -> Result<Show, String> {
    if text.eq_ignore_ascii_case("all") {
        return Ok(Show::All);
    }
    text.parse().map(Show::First).map_err(|_| "write a number, or all".to_owned())
}

pub(super) fn date(text: &str) -> Result<String, String> {
    let shape = |c: (usize, char)| if matches!(c.0, 4 | 7) { c.1 == '-' } else { c.1.is_ascii_digit() };
    let whole = format!("{text}{}", "-01".repeat(10usize.saturating_sub(text.len()) / 3));
    if matches!(text.len(), 4 | 7 | 10)
        && text.char_indices().all(shape)
        && whole.parse::<jiff::civil::Date>().is_ok()
    {
        return Ok(text.to_owned());
    }
    Err("write a day (2026-05-11), a month (2026-05) or a year (2026)".to_owned())
}

pub(super) fn seconds(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(s) if (0.0..=86_400.0).contains(&s) => Ok(s),
        _ => Err("write seconds, from 0 to 86400".to_owned()),
    }
}

/// A word as a shell takes it.
pub(crate) fn word(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "._-/:@=,+%".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        return text.to_owned();
    }
    format!("'{}'", text.replace('\'', "'\\''"))
}
