//! What the engines that are servers share: addresses with passwords kept out of sight, encrypted connections, asking
//! a server to stop, the layout of held rows, what can be foreseen of a statement, and foreign keys' actions.
//!
//! Nothing here speaks a protocol; it knows SQL only in so far as both servers write it alike.

pub mod address;
pub mod foresee;
pub mod layout;
pub mod links;
pub mod password;
pub mod putting;
pub mod reach;
pub mod recipe;
pub mod statement;
pub mod tls;
pub mod unknown;
pub mod walk;
pub mod watch;
pub mod way_back;

pub use address::{Address, Host};
pub use layout::Layout;
