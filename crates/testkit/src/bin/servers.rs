//! `servers`: starts private PostgreSQL and MariaDB servers, prints the address of an empty database on each, and keeps
//! them until its standard input ends.

use std::io::Read;

use marktwice_testkit::servers::{Server, all, all_that_sync};

fn main() {
    // Tests have nothing to lose in a power cut, so their servers do not sync; a measurement asks for servers that do.
    let sync = std::env::args().any(|argument| argument == "--sync");
    if sync {
        let servers = all_that_sync();
        wait(servers.iter());
    } else {
        wait(all().into_iter());
    }
}

/// Prints the address of an empty database on each server and waits for the end of standard input.
fn wait<'s>(servers: impl Iterator<Item = &'s Server>) {
    for server in servers {
        println!("{}", server.database());
    }
    let _ = std::io::stdin().read_to_end(&mut Vec::new());
}
