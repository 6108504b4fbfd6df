//! Hash rules, written once. A mark taken today must mean the same next year, so these rules are part of the
//! on-disk format: a change here is a new format version (see `docs/FORMAT.md`), and golden tests hold them.
//!
//! A value is fed to the hash as one tag byte, the length of its content as eight little-endian bytes, and the
//! content. Lengths come first, so that no two lists of values feed the same bytes.

use std::hash::{BuildHasher, RandomState};
use std::sync::OnceLock;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_128_with_seed;

use crate::value::{Value, pseudonym};

/// A hash of one row (or of some columns of it): the first eight bytes of its full hash.
///
/// It serves to find *which* row moved after two [`Fingerprint`]s were seen to differ, never to decide equality
/// of whole marks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, PartialOrd, Ord)]
pub struct ShortHash(pub u64);

/// A key for hashes of what could be guessed: without it nobody can try values out.
#[derive(Clone, Copy, PartialEq, Eq, Default)]
pub struct HashKey(pub [u8; 32]);

impl std::fmt::Debug for HashKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("HashKey")
    }
}

/// How rows are hashed. Hashes that were not made alike say nothing about each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Hashing {
    /// With BLAKE3: marks of version 1 and 2.
    #[default]
    Plain,
    /// With XXH3 of 128 bits under a seed, which tells rows apart as well and costs a fifth: marks since version 3, each of which
    /// says its seed.
    Seeded(u64),
    /// With BLAKE3 under a key, where nobody may be able to try values out.
    Keyed(HashKey),
}

/// A seed that nobody can know beforehand.
pub fn fresh_seed() -> u64 {
    RandomState::new().hash_one(0)
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
        RowHash::by(Hashing::Plain, buffer, values)
    }

    /// The same, hashed in some way. One of 128 bits is the lower half.
    pub fn by<'a>(
        hashing: Hashing,
        buffer: &mut Vec<u8>,
        values: impl IntoIterator<Item = &'a Value>,
    ) -> Self {
        buffer.clear();
        for value in values {
            feed(buffer, value);
        }
        match hashing {
            Hashing::Plain => RowHash(*blake3::hash(buffer).as_bytes()),
            Hashing::Keyed(HashKey(key)) => RowHash(*blake3::keyed_hash(&key, buffer).as_bytes()),
            Hashing::Seeded(seed) => {
                let mut bytes = [0u8; 32];
                let half = xxh3_128_with_seed(buffer, seed).to_le_bytes();
                bytes.iter_mut().zip(half).for_each(|(byte, of)| *byte = of);
                RowHash(bytes)
            }
        }
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
        Value::Pseudonym(number) => part(4, pseudonym(*number).as_bytes()),
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

/// What rows hold, put together in a sum that no order changes, for comparing what one process has seen with what it sees again.
/// It is quick, under a seed that is another one in each process, and never kept: two of them are equal where, and only where,
/// the same rows were added, each as often.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tally {
    rows: u64,
    sum: u128,
}

/// The seed of each [`Tally`] here: nobody can choose rows beforehand that are taken for others.
fn seed() -> u64 {
    static SEED: OnceLock<u64> = OnceLock::new();
    *SEED.get_or_init(fresh_seed)
}

impl Tally {
    /// Adds a row of `values`, with a buffer that is used again.
    pub fn add<'a>(&mut self, buffer: &mut Vec<u8>, values: impl IntoIterator<Item = &'a Value>) {
        buffer.clear();
        for value in values {
            feed(buffer, value);
        }
        self.rows = self.rows.wrapping_add(1);
        self.sum = self.sum.wrapping_add(xxh3_128_with_seed(buffer, seed()));
    }
}

/// What some values of a row hold, for comparing it with what the same process sees of them again; as a [`Tally`], quick and never
/// kept. Two numbers, as every engine has a type for those.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Sum(pub i64, pub i64);

impl Sum {
    /// Of `values`, with a buffer that is used again.
    pub fn of<'a>(buffer: &mut Vec<u8>, values: impl IntoIterator<Item = &'a Value>) -> Sum {
        buffer.clear();
        for value in values {
            feed(buffer, value);
        }
        let [a, b, c, d, e, f, g, h, rest @ ..] = xxh3_128_with_seed(buffer, seed()).to_le_bytes();
        Sum(i64::from_le_bytes([a, b, c, d, e, f, g, h]), i64::from_le_bytes(rest))
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
        let seeded = |seed| RowHash::by(Hashing::Seeded(seed), &mut Vec::new(), &sample());
        assert_eq!(format!("{:016x}", seeded(1).short().0), "27d3587dac3e2ff7");
        assert_ne!(seeded(1).short(), seeded(2).short());
        let mut fingerprint = Fingerprint::default();
        fingerprint.add(&seeded(1));
        assert_eq!(
            fingerprint.to_text(),
            "1:000000000000000000000000000000003c0c900b3a16071727d3587dac3e2ff7"
        );
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
        let tally = |rows: &[i64]| {
            let mut tally = Tally::default();
            rows.iter().for_each(|row| tally.add(&mut Vec::new(), [&Value::Int(*row)]));
            tally
        };
        assert_eq!(tally(&[1, 2, 1]), tally(&[1, 1, 2]));
        assert_ne!(tally(&[1, 2]), tally(&[1, 1, 2]));
        assert_ne!(tally(&[1, 1, 2]), tally(&[1, 2, 2]));
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
