//! Numbers and moments in sentences: the one place for plural forms.

/// A number in groups of three: `3 204`.
pub fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

/// `one` for one, `many` for any other number.
pub fn either<'a>(n: u64, one: &'a str, many: &'a str) -> &'a str {
    if n == 1 { one } else { many }
}

/// So many things of a kind whose plural ends in s: `1 row`, `2 rows`.
pub fn of(n: u64, thing: &str) -> String {
    format!("{} {thing}{}", number(n), either(n, "", "s"))
}

/// `1 row`, `2 rows`.
pub fn rows(n: u64) -> String {
    of(n, "row")
}

/// A moment for people: `2026-05-11 08:30 UTC`.
pub fn moment(rfc3339: &str) -> String {
    let (day, time) = rfc3339.split_once('T').unwrap_or((rfc3339, ""));
    format!("{day} {} UTC", time.get(..5).unwrap_or(time))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_is_one_and_many_are_grouped() {
        assert_eq!([rows(0), rows(1), rows(1_204_000)], ["0 rows", "1 row", "1 204 000 rows"]);
        assert_eq!(moment("2026-05-11T08:30:59Z"), "2026-05-11 08:30 UTC");
        assert_eq!([either(1, "is", "are"), either(0, "is", "are")], ["is", "are"]);
    }
}
