//! An understood statement: its slices, what it assigns, what pins its rows, and what a routine's text says.

pub mod assigned;
pub mod pins;
pub mod routine;
pub mod slicing;
pub mod step;
pub mod terms;
