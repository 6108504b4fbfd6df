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
        let number = |value: &&Value| match value {
            Value::Text(text) => {
                text.len() == 9
                    && text.starts_with('#')
                    && text.chars().skip(1).all(|c| c.is_ascii_hexdigit())
            }
            _ => false,
        };
        if let Some(number) = key.iter().find(number) {
            return vec![number.clone()];
        }
        let number = self.0.map_or(HIDDEN.to_owned(), |veil| {
            let row = RowHash::by(Hashing::Keyed(veil), &mut Vec::new(), key).short();
            format!("#{:08x}", row.0 >> 32)
        });
        vec![Value::Text(number.into())]
    }
}

impl PartialEq for Veil {
    fn eq(&self, _: &Veil) -> bool {
        true
    }
}

impl Eq for Veil {}
