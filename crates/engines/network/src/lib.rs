//! What engines behind a network share: addresses with passwords kept out of sight, encrypted connections, and asking a
//! server to stop. Nothing here speaks a protocol or knows a query language.

pub mod address;
pub mod encryption;
pub mod password;
#[cfg(feature = "tls")]
pub mod tls;
pub mod watch;

pub use address::{Address, Host};
