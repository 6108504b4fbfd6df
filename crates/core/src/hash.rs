//! Hash rules, written once. A mark taken today must mean the same next year, so these rules are part of the
//! on-disk format: a change here is a new format version (see `docs/FORMAT.md`), and golden tests hold them.
//!
//! A value is fed to BLAKE3 as one tag byte, the length of its content as eight little-endian bytes, and the
//! content. Lengths come first, so that no two lists of values feed the same bytes.

use serde::{Deserialize, Serialize};

use crate::value::Value;

/// A hash of one row (or of some columns of it): the first eight bytes of BLAKE3.
///
/// It serves to find *which* row moved after two [`Fingerprint`]s were seen to differ, never to decide equality
/// of whole marks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, PartialOrd, Ord)]
pub struct ShortHash(pub u64);

/// A key for hashes of what could be guessed: without it nobody can try values out.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct HashKey(pub [u8; 32]);

impl std::fmt::Debug for HashKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("HashKey")
    }
}

/// The full hash of one row, from which both the short form and the fingerprint are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RowHash([u8; 32]);

impl RowHash {
    /// The hash of `values` in order.
    pub fn of<'a>(values: impl IntoIterator<Item = &'a Value>) -> Self {
        RowHash::with(&mut Vec::with_capacity(256), values)
    }

    /// The same, with a buffer that is used again: rows come by the million.
    pub fn with<'a>(buffer: &mut Vec<u8>, values: impl IntoIterator<Item = &'a Value>) -> Self {
        RowHash::under(None, buffer, values)
    }

    /// The same under a key, where there is one: then nobody without it can try values out.
    pub fn under<'a>(
        key: Option<&HashKey>,
        buffer: &mut Vec<u8>,
        values: impl IntoIterator<Item = &'a Value>,
    ) -> Self {
        buffer.clear();
        for value in values {
            feed(buffer, value);
        }
        let hash = match key {
            None => blake3::hash(buffer),
            Some(HashKey(key)) => blake3::keyed_hash(key, buffer),
        };
        RowHash(*hash.as_bytes())
    }

    /// The first eight bytes, little-endian.
    pub fn short(&self) -> ShortHash {
        let mut first = [0u8; 8];
        first.copy_from_slice(self.0.first_chunk::<8>().unwrap_or(&[0; 8]));
        ShortHash(u64::from_le_bytes(first))
    }
}

/// The hash of a text under a key, in hexadecimal digits.
pub fn keyed_text(HashKey(key): &HashKey, text: &str) -> String {
    blake3::keyed_hash(key, text.as_bytes()).to_hex().to_string()
}

fn feed(into: &mut Vec<u8>, value: &Value) {
    let mut part = |tag: u8, content: &[u8]| {
        into.push(tag);
        into.extend_from_slice(&(content.len() as u64).to_le_bytes());
        into.extend_from_slice(content);
    };
    match value {
        Value::Null => part(0, &[]),
        Value::Bool(b) => part(1, &[u8::from(*b)]),
        Value::Int(i) => part(2, &i.to_le_bytes()),
        Value::Real(r) => part(3, &r.to_bits().to_le_bytes()),
        Value::Text(s) => part(4, s.as_bytes()),
        Value::TextBytes(b) => part(4, b),
        Value::Bytes(b) => part(5, b),
        Value::Decimal(d) => part(6, d.as_bytes()),
    }
}

/// A fingerprint of a set of rows that does not depend on their order: how many there are and the sum of their
/// full hashes, modulo 2^256. A multiset of rows has exactly one fingerprint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Fingerprint {
    rows: u64,
    sum: [u64; 4],
}

impl Fingerprint {
    /// Adds one row.
    pub fn add(&mut self, row: &RowHash) {
        self.rows = self.rows.wrapping_add(1);
        let mut carry = 0u64;
        for (lane, bytes) in self.sum.iter_mut().zip(row.0.chunks_exact(8)) {
            let mut eight = [0u8; 8];
            eight.copy_from_slice(bytes);
            let (a, over_a) = lane.overflowing_add(u64::from_le_bytes(eight));
            let (b, over_b) = a.overflowing_add(carry);
            *lane = b;
            carry = u64::from(over_a) + u64::from(over_b);
        }
    }

    /// Whether none was added.
    pub fn is_empty(&self) -> bool {
        self.rows == 0
    }

    /// How many rows were added.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// The documented text form: the number of rows, a colon, and 64 hexadecimal digits, most significant first.
    pub fn to_text(&self) -> String {
        let [a, b, c, d] = self.sum;
        format!("{}:{d:016x}{c:016x}{b:016x}{a:016x}", self.rows)
    }

    /// Reads [`Fingerprint::to_text`] back; `None` when it is not one.
    pub fn from_text(text: &str) -> Option<Self> {
        let (rows, hex) = text.split_once(':')?;
        if hex.len() != 64 || !hex.is_ascii() {
            return None;
        }
        let lane = |from: usize| hex.get(from..from + 16).and_then(|part| u64::from_str_radix(part, 16).ok());
        Some(Fingerprint { rows: rows.parse().ok()?, sum: [lane(48)?, lane(32)?, lane(16)?, lane(0)?] })
    }
}

impl Serialize for Fingerprint {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.to_text())
    }
}

impl<'de> Deserialize<'de> for Fingerprint {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Fingerprint::from_text(&text).ok_or_else(|| serde::de::Error::custom("not a fingerprint"))
    }
}

/// The hash of a sequence of texts (tokens, definitions), in hexadecimal.
pub fn texts<'a>(parts: impl IntoIterator<Item = &'a str>) -> String {
    let mut buffer = Vec::new();
    for part in parts {
        feed(&mut buffer, &Value::Text(part.into()));
    }
    blake3::hash(&buffer).to_hex().to_string()
}

/// A hash of bytes that come piece by piece.
#[derive(Debug, Clone, Default)]
pub struct Running(blake3::Hasher);

impl Running {
    /// Adds a piece.
    pub fn add(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The hash of all of them, in hexadecimal.
    pub fn finish(&self) -> String {
        self.0.finalize().to_hex().to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Vec<Value> {
        vec![
            Value::Int(418),
            Value::Text("Bellheather".into()),
            Value::Null,
            Value::Real(12.5),
            Value::Bytes(vec![1, 2]),
            Value::Bool(true),
            Value::Decimal("1.10".into()),
        ]
    }

    /// Golden values: when one of these changes, marks on disk change their meaning. Raise the format version.
    #[test]
    fn golden() {
        assert_eq!(format!("{:016x}", RowHash::of(&sample()).short().0), "8e2d51f01d462572");
        let mut fingerprint = Fingerprint::default();
        fingerprint.add(&RowHash::of(&sample()));
        fingerprint.add(&RowHash::of(&[Value::Null]));
        assert_eq!(
            fingerprint.to_text(),
            "2:e3c378191463646e90fe17522b8193c96c487df71d5d9108e8a08208487d3b0f"
        );
        assert_eq!(
            texts(["update", "keeper"]),
            "eec3fef1b97cfba8edd95f527c7a47587606d7207c84565c7238fb001a6a3386"
        );
    }

    #[test]
    fn order_free_but_multiplicity_counts() {
        let (a, b) = (RowHash::of(&[Value::Int(1)]), RowHash::of(&[Value::Int(2)]));
        let sum = |rows: &[&RowHash]| {
            let mut f = Fingerprint::default();
            rows.iter().for_each(|r| f.add(r));
            f
        };
        assert_eq!(sum(&[&a, &b, &a]), sum(&[&a, &a, &b]));
        assert_ne!(sum(&[&a, &b]), sum(&[&a, &a, &b]));
        assert_ne!(sum(&[&a, &a, &b]), sum(&[&a, &b, &b]));
    }

    #[test]
    fn lengths_keep_neighbours_apart() {
        let of =
            |parts: &[&str]| RowHash::of(&parts.iter().map(|p| Value::Text((*p).into())).collect::<Vec<_>>());
        assert_ne!(of(&["ab", "c"]), of(&["a", "bc"]));
        assert_ne!(of(&["ab"]), of(&["a", "b"]));
        assert_ne!(RowHash::of(&[Value::Text("1".into())]), RowHash::of(&[Value::Int(1)]));
    }

    #[test]
    fn text_form_reads_back() {
        let mut f = Fingerprint::default();
        for i in 0..50 {
            f.add(&RowHash::of(&[Value::Int(i)]));
        }
        assert_eq!(Fingerprint::from_text(&f.to_text()), Some(f));
        assert_eq!(Fingerprint::from_text("2:abc"), None);
    }
}
