//! How a text is written: its letter case, digits and signs, whatever it says. Texts of one column mostly share one
//! form, and a new value that does not is often a slip.

/// The form of a text: runs of capitals become `A`, of small letters `a`, of other letters `x`; each digit becomes `9`
/// where a date or a number of fixed length may be meant, and runs of more than eight digits one `9+`; signs stand for
/// themselves; blanks at either end are kept.
pub fn form(text: &str) -> String {
    let mut out = String::new();
    let mut digits = 0;
    for c in text.chars() {
        if c.is_numeric() {
            digits += 1;
            match digits {
                1..=8 => out.push('9'),
                9 => out.push('+'),
                _ => {}
            }
            continue;
        }
        digits = 0;
        let sign = if c.is_uppercase() {
            'A'
        } else if c.is_lowercase() {
            'a'
        } else if c.is_alphabetic() {
            'x'
        } else {
            c
        };
        if !(out.ends_with(sign) && sign.is_ascii_alphabetic()) {
            out.push(sign);
        }
    }
    out
}

/// How many forms a column may have and still be said to have some.
const MOST_FORMS: usize = 4;
/// How many values a column must have for their form to mean something.
const LEAST_VALUES: usize = 3;

/// Says how a new value is written unlike all `known` ones, when those share few forms.
pub fn unlike(new: &str, known: &[String]) -> Option<&'static str> {
    if known.len() < LEAST_VALUES || known.iter().any(|k| k == new) {
        return None;
    }
    let mut forms: Vec<String> = known.iter().map(|k| form(k)).collect();
    forms.sort_unstable();
    forms.dedup();
    let own = form(new);
    if forms.contains(&own) || (forms.len() > MOST_FORMS && forms.len() * 4 > known.len()) {
        return None;
    }
    let some = |test: &dyn Fn(&str) -> bool| known.iter().any(|k| test(k));
    let has = |test: fn(char) -> bool| move |text: &str| text.chars().any(test);
    if new != new.trim() && !some(&|k| k != k.trim()) {
        return Some("with blanks at an end");
    }
    let folded = |text: &str| form(text).replace(['A', 'a'], "l");
    let letters = |text: &str| {
        folded(text).chars().fold(String::new(), |mut all, c| {
            if !(c == 'l' && all.ends_with('l')) {
                all.push(c);
            }
            all
        })
    };
    if some(&|k| letters(k) == letters(new)) {
        return Some("in other letter case");
    }
    let close = |text: &str| form(text).split_whitespace().collect::<String>();
    if some(&|k| close(k) == close(new)) {
        return Some("with other blanks");
    }
    let digits = has(char::is_numeric);
    if digits(new) != some(&digits) || digits(new) && known.iter().all(|k| digits(k)) {
        let dates = known.iter().all(|k| form(k).starts_with("9999-99-99"));
        return Some(match (digits(new), dates) {
            (_, true) => "unlike a date of this form",
            (true, _) => "with other digits",
            (false, _) => "without digits",
        });
    }
    // Names of one word and of two live side by side.
    let plain = |text: &str| text.chars().all(|c| c.is_alphabetic() || c == ' ');
    if plain(new) && known.iter().all(|k| plain(k)) { None } else { Some("in another form") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_unlike_the_others() {
        let of = |texts: &[&str]| texts.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
        let regions = of(&["Moor", "Coast", "Hills", "Dale", "Vale"]);
        let dates = of(&["2026-05-01", "2026-05-02", "2025-12-31", "2024-01-01", "2020-02-29"]);
        let codes = of(&["HM-001", "HM-002", "HM-003", "HM-004", "HM-105"]);
        for (new, known, expected) in [
            ("MOOR", &regions, Some("in other letter case")),
            ("Moor ", &regions, Some("with blanks at an end")),
            ("Fell", &regions, None),
            ("Far Fell", &regions, None),
            ("a@b.c", &regions, Some("in another form")),
            ("1.5.2026", &dates, Some("unlike a date of this form")),
            ("2026-5-1", &dates, Some("unlike a date of this form")),
            ("2026-06-01", &dates, None),
            ("hm-006", &codes, Some("in other letter case")),
            ("HM-6", &codes, Some("with other digits")),
            ("HM - 006", &codes, Some("with other blanks")),
            ("HM-777", &codes, None),
            ("x", &of(&["a", "b"]), None),
        ] {
            assert_eq!(unlike(new, known), expected, "{new}");
        }
    }
}
