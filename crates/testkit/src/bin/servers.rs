//! `servers`: starts private PostgreSQL and MariaDB servers, prints the address of an empty database on each, and keeps
//! them until its standard input ends.

use std::io::Read;

use marktwice_testkit::servers::all;

fn main() {
    for server in all() {
        println!("{}", server.database());
    }
    let _ = std::io::stdin().read_to_end(&mut Vec::new());
}
