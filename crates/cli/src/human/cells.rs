//! Values as a terminal may show them: nothing in the data drives the terminal, and what looks alike is told apart.

use marktwice_core::Value;
use marktwice_core::value::pseudonym;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Widest value that is shown whole.
const WIDEST: usize = 48;

/// A value in one line. Texts that could be taken for something else (a number, NULL, nothing) stand in quotes.
pub(crate) fn value(value: &Value) -> String {
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Bool(b) => b.to_string(),
        Value::Int(i) => i.to_string(),
        Value::Real(r) if r.is_finite() => serde_json::json!(r).to_string(),
        Value::Real(r) => if r.is_nan() {
            "NaN"
        } else if *r > 0.0 {
            "Infinity"
        } else {
            "-Infinity"
        }
        .to_owned(),
        Value::Decimal(d) => d.clone().into(),
        Value::Pseudonym(number) => pseudonym(*number),
        Value::Text(text) => shorten(&quote_if_needed(text)),
        Value::TextBytes(bytes) => shorten(&format!("{:?} (not UTF-8)", String::from_utf8_lossy(bytes))),
        Value::Bytes(bytes) => {
            let hex: String = bytes.iter().take(16).map(|b| format!("{b:02x}")).collect();
            if bytes.len() > 16 {
                format!("x'{hex}…' ({} bytes)", bytes.len())
            } else {
                format!("x'{hex}'")
            }
        }
    }
}

/// Several values of a key.
pub(crate) fn key(values: &[Value]) -> String {
    values.iter().map(value).collect::<Vec<_>>().join(", ")
}

fn quote_if_needed(text: &str) -> String {
    let plain = escape(text);
    let confusing = text.is_empty()
        || text.trim() != text
        || text.parse::<f64>().is_ok()
        || text.eq_ignore_ascii_case("null")
        || text.starts_with("x'");
    if confusing { format!("'{plain}'") } else { plain }
}

/// A text that is shortened in the middle where it is long, with nothing invisible in it.
pub(crate) fn shortened(text: &str) -> String {
    escape(&shorten(text))
}

/// Makes control characters, direction marks and characters without width visible.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        if joins(out.chars().next_back(), c, chars.peek().copied()) {
            out.push(c);
            continue;
        }
        let direction = matches!(c, '\u{2028}' | '\u{2029}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{61c}');
        let blank = matches!(c, '\u{2800}' | '\u{3164}' | '\u{ffa0}' | '\u{115f}' | '\u{1160}');
        let invisible =
            blank || c != ' ' && (c.is_control() || c.width().is_none_or(|w| w == 0) && !is_joining(c));
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if direction || invisible => out.push_str(&format!("\\u{{{:x}}}", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

/// What is about to be shown, whole: whatever drives a terminal and is none of our own colours is made visible, so that
/// nothing that was not escaped on the way can do any harm.
pub(crate) fn safe(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        // Most of what is shown is plain.
        let plain = rest.bytes().take_while(|b| (b' '..0x7f).contains(b)).count();
        if let Some((text, more)) = rest.split_at_checked(plain).filter(|_| plain > 0) {
            out.push_str(text);
            rest = more;
            continue;
        }
        if let Some(code) = own_code(rest) {
            rest = rest.get(code.len()..).unwrap_or("");
            out.push_str(&code);
            continue;
        }
        let begins = out.is_empty() || out.ends_with('\n');
        let after = rest.get(c.len_utf8()..).and_then(|rest| rest.chars().next());
        if c == '\n' || (c == super::KEPT && begins) || joins(out.chars().next_back(), c, after) {
            out.push(c);
        } else {
            out.push_str(&escape(c.encode_utf8(&mut [0; 4])));
        }
        rest = rest.get(c.len_utf8()..).unwrap_or("");
    }
    out
}

/// One of our own colours, where a text begins with one: the longest, as one may begin like another.
fn own_code(text: &str) -> Option<String> {
    if !text.starts_with('\u{1b}') {
        return None;
    }
    let codes = super::COLOURS.iter().flat_map(|style| [style.to_string(), format!("{style:#}")]);
    codes.filter(|code| !code.is_empty() && text.starts_with(code.as_str())).max_by_key(String::len)
}

/// The same for a JSON document, in which such characters only stand in texts: there they are written by their numbers.
pub(crate) fn safe_json(text: &str) -> String {
    // Most of what is long is plain.
    if text.bytes().all(|b| b == b'\n' || (b' '..0x7f).contains(&b)) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        let shown = escape(c.encode_utf8(&mut [0; 4]));
        if c != '\n' && shown.starts_with("\\u{") {
            for unit in c.encode_utf16(&mut [0; 2]) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(c);
        }
    }
    out
}

/// What joins two pictures into one is seen by what it does; anywhere else it is made visible.
fn joins(before: Option<char>, c: char, after: Option<char>) -> bool {
    let picture = |c: char| matches!(c, '\u{1f000}'..='\u{1faff}' | '\u{2600}'..='\u{27bf}' | '\u{2190}'..='\u{21ff}' | '\u{2b00}'..='\u{2bff}' | '\u{fe0f}');
    c == '\u{200d}' && before.is_some_and(picture) && after.is_some_and(picture)
}

/// Accents that join the letter before them are part of ordinary writing.
fn is_joining(c: char) -> bool {
    matches!(c, '\u{300}'..='\u{36f}' | '\u{1ab0}'..='\u{1aff}' | '\u{20d0}'..='\u{20ff}' | '\u{fe00}'..='\u{fe0f}')
}

/// Shortens in the middle and tells the length.
fn shorten(text: &str) -> String {
    if text.width() <= WIDEST {
        return text.to_owned();
    }
    let length = text.chars().count();
    let head: String = text.chars().take(24).collect();
    let tail: String = text.chars().skip(length.saturating_sub(10)).collect();
    format!("{head}…{tail} ({length} chars)")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_that_are_joined_stay_so() {
        let keeper = "Zo\u{eb} \u{1f469}\u{200d}\u{1f33e}";
        assert_eq!(escape(keeper), keeper);
        assert_eq!(safe(keeper), keeper);
        let heart = "\u{2764}\u{fe0f}\u{200d}\u{1f525}";
        assert_eq!(escape(heart), heart);
        // Anywhere else nobody would see it.
        for hidden in
            ["a\u{200d}b", "\u{200d}\u{1f33e}", "\u{1f33e}\u{200d}", "\u{1f33e}\u{200d}\u{200d}\u{1f33e}"]
        {
            assert!(escape(hidden).contains("\\u{200d}") && safe(hidden).contains("\\u{200d}"), "{hidden:?}");
        }
    }

    #[test]
    fn what_looks_alike_is_told_apart() {
        for (v, shown) in [
            (Value::Null, "NULL"),
            (Value::Text("NULL".into()), "'NULL'"),
            (Value::Int(42), "42"),
            (Value::Text("42".into()), "'42'"),
            (Value::Real(42.0), "42.0"),
            (Value::Text("".into()), "''"),
            (Value::Text("Moor ".into()), "'Moor '"),
            (Value::Text("Moor".into()), "Moor"),
            (Value::Bytes(vec![0, 255]), "x'00ff'"),
        ] {
            assert_eq!(value(&v), shown);
        }
    }

    #[test]
    fn data_does_not_drive_the_terminal() {
        assert_eq!(escape("a\u{2800}b"), "a\\u{2800}b");
        let shown = value(&Value::Text("a\u{1b}[31mred\u{202e}\u{200b}\nb\u{7}\0é".into()));
        assert_eq!(shown, "a\\u{1b}[31mred\\u{202e}\\u{200b}\\nb\\u{7}\\u{0}é");
        let own: String =
            super::super::COLOURS.iter().map(|style| super::super::styled(*style, "x")).collect();
        assert_eq!(
            safe(&format!("{own}\n\u{1b}]0;t\u{7}\u{9b}2J\u{2028}é")),
            format!("{own}\n\\u{{1b}}]0;t\\u{{7}}\\u{{9b}}2J\\u{{2028}}é")
        );
        let json = safe_json("{\"a\": \"\u{202e}\u{9b}ö\"}\n");
        assert_eq!(json, "{\"a\": \"\\u202e\\u009bö\"}\n");
        assert!(value(&Value::Text("x".repeat(500).into())).ends_with("(500 chars)"));
    }
}
