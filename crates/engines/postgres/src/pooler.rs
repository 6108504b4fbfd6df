//! Whether a pooler stands before the server that hands its sessions out by the transaction or statement.
//!
//! Through such a one a second connection is given the very session that the first is not using just now, or another one
//! for each transaction. A server by itself, and a pooler that keeps sessions, never do either. Settings that nobody of
//! ours has made are another sign: another client has left them behind.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};
use std::thread::JoinHandle;

use marktwice_network::Address;
use marktwice_port::EngineError;
use marktwice_relational::driver::Driver;

use crate::client::Pg;
use crate::open::connect;
use crate::sending::pooled;

// What is left out above every pooler gives back to each client as it was, or we make ourselves.

/// Addresses that were found to lead to sessions of their own, in this process.
static DIRECT: Mutex<Option<HashSet<String>>> = Mutex::new(None);

/// Asks for the names of settings that nobody of ours has made, and no server makes by itself.
pub(crate) const LEFT: &str = "SELECT pg_catalog.string_agg(name, ', ' ORDER BY name) FROM pg_catalog.pg_settings WHERE source = 'session' AND name NOT IN \
                ('lock_timeout', 'statement_timeout', 'idle_in_transaction_session_timeout', 'client_min_messages', \
                 'application_name', 'client_encoding', 'DateStyle', 'TimeZone', 'IntervalStyle', \
                 'standard_conforming_strings', 'transaction_isolation', 'transaction_read_only', 'transaction_deferrable')";

/// A second connection, on its way; `None` where one has shown already that the address leads to sessions of its own.
pub(crate) struct Second(Option<Way>);

/// How a second connection is made: beside the first or, where the system gives no thread, after it.
enum Way {
    Beside(JoinHandle<Option<Pg>>),
    After(Box<Address>),
}

/// Sets out for a second connection, while the first, which has been let in, is asked about itself.
pub(crate) fn second(address: &Address) -> Second {
    if with_direct(|direct| direct.contains(&name(address))) {
        return Second(None);
    }
    let own = address.clone();
    let begun = std::thread::Builder::new().spawn(move || connect(&own, &mut Vec::new()).ok());
    Second(Some(match begun {
        Ok(beside) => Way::Beside(beside),
        Err(_) => Way::After(Box::new(address.clone())),
    }))
}

fn name(address: &Address) -> String {
    format!("{:?} {:?} {} {}", address.host, address.user, address.port, address.database)
}

fn with_direct<R>(work: impl FnOnce(&mut HashSet<String>) -> R) -> R {
    let mut direct = DIRECT.lock().unwrap_or_else(PoisonError::into_inner);
    work(direct.get_or_insert_with(HashSet::new))
}

/// Refuses a pooler. `pg` has been looked through once, which found these settings of another client's, and is in no transaction.
pub(crate) fn refuse(
    pg: &mut Pg,
    address: &Address,
    second: Second,
    left: Option<&str>,
) -> Result<(), EngineError> {
    if let Some(names) = left {
        return Err(pooled(&format!("another client's settings are in force here: {names}")));
    }
    let Some(second) = second.0 else { return Ok(()) };
    // Only what is in no transaction is handed out to others.
    pg.settle()?;
    // Where no second connection is to be had (a limit of one, say), every transaction still looks at its session.
    let made = match second {
        Way::Beside(beside) => beside.join().ok().flatten(),
        Way::After(address) => connect(&address, &mut Vec::new()).ok(),
    };
    let Some(mut second) = made else { return Ok(()) };
    for last in [false, true] {
        second.looking(Pg::settle)?;
        if second.backend.is_some() && second.backend == pg.backend {
            return Err(pooled("two connections share one session of the server"));
        }
        if !last {
            second.settle()?;
        }
    }
    with_direct(|direct| direct.insert(name(address)));
    Ok(())
}
