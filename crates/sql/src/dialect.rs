//! What differs between the languages: quoting, folding, classes of values, what changes from one call to the next, the names of
//! our own columns.

pub mod classes;
pub mod language;
pub mod ours;
pub mod volatile;
