//! Numbers with all their digits, as an engine writes them: compared and subtracted without rounding.

use std::cmp::Ordering;

/// A number with all its digits: a whole one, and how many of its digits stand behind the point.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Decimal {
    digits: i128,
    scale: u32,
}

impl Decimal {
    /// Reads one; an exponent is taken into account.
    pub(crate) fn of(text: &str) -> Option<Decimal> {
        let (mantissa, exponent) = match text.split_once(['e', 'E']) {
            Some((mantissa, exponent)) => (mantissa, exponent.parse::<i32>().ok()?),
            None => (text, 0),
        };
        let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let plain = part.bytes().all(|b| b.is_ascii_digit());
        let digits: i128 = format!("{whole}{part}").parse().ok().filter(|_| plain)?;
        let scale = i32::try_from(part.len()).ok()?.checked_sub(exponent)?;
        let number = Decimal { digits, scale: u32::try_from(scale.max(0)).ok()? };
        number.widened(u32::try_from((-scale).max(0)).ok()?).map(|n| Decimal { scale: number.scale, ..n })
    }

    /// The same with so many more digits behind the point.
    fn widened(self, by: u32) -> Option<Decimal> {
        let digits = self.digits.checked_mul(10_i128.checked_pow(by)?)?;
        Some(Decimal { digits, scale: self.scale + by })
    }

    fn both(&self, other: &Decimal) -> Option<(i128, i128, u32)> {
        let scale = self.scale.max(other.scale);
        let (a, b) = (self.widened(scale - self.scale)?, other.widened(scale - other.scale)?);
        Some((a.digits, b.digits, scale))
    }

    /// Which is greater; `None` where they are too long to be compared.
    pub(crate) fn order(&self, other: &Decimal) -> Option<Ordering> {
        self.both(other).map(|(a, b, _)| a.cmp(&b))
    }

    /// The difference; `None` where it is too long.
    pub(crate) fn minus(&self, other: &Decimal) -> Option<Decimal> {
        let (a, b, scale) = self.both(other)?;
        Some(Decimal { digits: a.checked_sub(b)?, scale })
    }
}

impl std::fmt::Display for Decimal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let sign = if self.digits < 0 { "-" } else { "" };
        let width = self.scale as usize + 1;
        let digits = format!("{:0>width$}", self.digits.unsigned_abs());
        let (whole, part) = digits.split_at(digits.len() - self.scale as usize);
        let part = part.trim_end_matches('0');
        let point = if part.is_empty() { "" } else { "." };
        write!(f, "{sign}{whole}{point}{part}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_are_kept() {
        let of = |text: &str| Decimal::of(text).unwrap();
        for (a, b, order) in [
            ("1.10", "1.1", Ordering::Equal),
            ("-0.5", "0", Ordering::Less),
            ("5e2", "500.000", Ordering::Equal),
            ("1e-3", "0.0011", Ordering::Less),
            ("9007199254740993", "9007199254740992.9", Ordering::Greater),
        ] {
            assert_eq!(of(a).order(&of(b)), Some(order), "{a} {b}");
        }
        assert_eq!(of("0.1").minus(&of("0.35")).unwrap().to_string(), "-0.25");
        assert_eq!(of("12.50").minus(&of("0.5")).unwrap().to_string(), "12");
        for text in ["", "x", "1.x", "1..2", "NaN", "--1", "1e99999999999", "0x10"] {
            assert!(Decimal::of(text).is_none(), "{text}");
        }
    }
}
