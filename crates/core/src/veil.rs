//! What stands for what is never shown.

use crate::hash::{HashKey, Hashing, RowHash};
use crate::value::Value;

/// What stands for a hidden value.
pub const HIDDEN: &str = "(hidden)";
/// What stands for a hidden value that is another than the one before it.
pub const CHANGED: &str = "(hidden, changed)";
/// What stands for a third one.
pub const AGAIN: &str = "(hidden, changed again)";

/// The key under which rows get the numbers that they are told by where their own key is never shown. It is no part of what a table is:
/// all are equal.
#[derive(Debug, Clone, Copy, Default)]
pub struct Veil(pub Option<HashKey>);

impl Veil {
    /// What stands for a key that is hidden: the same for the same key, wherever it is shown, and itself for what stands for one.
    pub fn key(self, key: &[Value]) -> Vec<Value> {
        if let Some(number) = key.iter().find(|value| matches!(value, Value::Pseudonym(_))) {
            return vec![number.clone()];
        }
        vec![match self.0 {
            None => Value::Text(HIDDEN.into()),
            Some(veil) => {
                let row = RowHash::by(Hashing::Keyed(veil), &mut Vec::new(), key).short();
                let [a, b, c, d, ..] = row.0.to_be_bytes();
                Value::Pseudonym(u32::from_be_bytes([a, b, c, d]))
            }
        }]
    }
}

impl PartialEq for Veil {
    fn eq(&self, _: &Veil) -> bool {
        true
    }
}

impl Eq for Veil {}
