//! Expected counts: `12`, `1-20`, `1+`, `0-20`, `all`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// How many rows the user expects a step to match, or to change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Expect {
    /// From the first number to the second, both included; `None` for no upper bound.
    Range(u64, Option<u64>),
    /// Every row of the table, on purpose.
    All,
}

/// Why a text is not an expected count.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not an expected count; write a number (12), a range (1-20), a least number (1+) or all")]
pub struct NotAnExpectation(pub String);

impl Expect {
    /// Whether `count` rows meet the expectation; `total` is how many rows the table has.
    pub fn met(self, count: u64, total: u64) -> bool {
        match self {
            Expect::Range(least, most) => count >= least && most.is_none_or(|most| count <= most),
            Expect::All => count == total,
        }
    }

    /// Whether matching no row at all is within the expectation.
    pub fn allows_none(self) -> bool {
        matches!(self, Expect::Range(0, _))
    }
}

impl FromStr for Expect {
    type Err = NotAnExpectation;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let bad = || NotAnExpectation(text.to_owned());
        let number = |part: &str| {
            let digits = part.trim();
            let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
            if plain { digits.parse::<u64>().map_err(|_| bad()) } else { Err(bad()) }
        };
        let trimmed = text.trim();
        if trimmed.eq_ignore_ascii_case("all") {
            return Ok(Expect::All);
        }
        if let Some(least) = trimmed.strip_suffix('+') {
            return Ok(Expect::Range(number(least)?, None));
        }
        match trimmed.split_once('-') {
            Some((least, most)) => {
                let (least, most) = (number(least)?, number(most)?);
                if least > most { Err(bad()) } else { Ok(Expect::Range(least, Some(most))) }
            }
            None => number(trimmed).map(|n| Expect::Range(n, Some(n))),
        }
    }
}

impl TryFrom<String> for Expect {
    type Error = NotAnExpectation;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Expect> for String {
    fn from(expect: Expect) -> String {
        expect.to_string()
    }
}

impl fmt::Display for Expect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Expect::All => f.write_str("all"),
            Expect::Range(least, None) => write!(f, "{least}+"),
            Expect::Range(least, Some(most)) if least == most => write!(f, "{least}"),
            Expect::Range(least, Some(most)) => write!(f, "{least}-{most}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms() {
        for (text, count, met) in [
            ("12", 12, true),
            ("12", 11, false),
            ("1-20", 0, false),
            ("1-20", 20, true),
            ("1+", 999, true),
            ("0-20", 0, true),
            ("all", 50, true),
            ("ALL", 49, false),
        ] {
            assert_eq!(text.parse::<Expect>().unwrap().met(count, 50), met, "{text} {count}");
        }
        for text in ["", "-", "1-", "-1", "2-1", "x", "1,5", "+1", "1 2", "99999999999999999999"] {
            assert!(text.parse::<Expect>().is_err(), "{text}");
        }
    }

    #[test]
    fn reads_back_what_it_writes() {
        for text in ["12", "1-20", "1+", "all"] {
            assert_eq!(text.parse::<Expect>().unwrap().to_string(), text);
        }
    }
}
