//! The same stories on SQLite, PostgreSQL and MariaDB, played with the built program: what one engine promises, all do.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

mod again;
mod aimed;
mod along;
mod archived;
mod asked;
mod checks;
mod cluster;
mod compare;
mod connecting;
mod constraints;
mod exact;
mod given;
mod handed;
mod hidden;
mod inserted;
mod joined;
mod keys;
mod looking;
mod moved;
mod offered;
mod pooled;
mod put_back;
mod races;
mod reckoned;
mod refused;
mod rehearse;
mod said;
mod secret;
mod settling;
mod sheets;
mod shipped;
mod side_effects;
mod steps;
mod stopping;
mod taken;
mod traces;
mod triggered;
mod types;
mod unseen;
mod way_back;

use marktwice_testkit::stage::{On, Stage};

const PROGRAM: &str = env!("CARGO_BIN_EXE_marktwice");

/// Keepers and hives, alike on every engine.
const COOP: &str = "
CREATE TABLE keeper (keeper_id integer PRIMARY KEY, name varchar(40) NOT NULL, email varchar(60) UNIQUE, region varchar(20));
CREATE TABLE hive (hive_id integer PRIMARY KEY, keeper_id integer NOT NULL, kilos decimal(8,2), note varchar(60), FOREIGN KEY (keeper_id) REFERENCES keeper (keeper_id));
INSERT INTO keeper VALUES (1, 'Ada', 'ada@x.example', 'Dale'), (2, 'Bram', NULL, 'Moor'), (3, 'Orla', 'orla@x.example', 'Moor'), (4, 'Tam', 'tam@x.example', NULL);
INSERT INTO hive VALUES (10, 1, 12.5, NULL), (11, 1, 0, ''), (12, 3, 99.99, 'it''s'), (13, 3, NULL, ' x ');
";

/// On one engine, where it is there.
fn only(on: On, story: impl Fn(&Stage)) {
    if let Some(stage) = Stage::on(on, PROGRAM) {
        stage.run(COOP);
        story(&stage);
    }
}

fn each(story: impl Fn(&Stage)) {
    Stage::each(PROGRAM, |stage| {
        stage.run(COOP);
        story(stage);
    });
}
