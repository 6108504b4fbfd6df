//! Ranges of bytes in the user's own text.

/// A range of bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Slice {
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

impl Slice {
    /// The text it covers; empty where it does not fit `source`.
    pub fn of(self, source: &str) -> &str {
        source.get(self.start..self.end).unwrap_or("")
    }

    /// From the start of this one to the end of the other.
    #[must_use]
    pub fn to(self, other: Slice) -> Slice {
        Slice { start: self.start, end: other.end }
    }
}
