//! Tests on the built program, in temporary folders. Each file is about one subject.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

mod bad_days;
mod change_file;
mod configuration;
mod death;
mod documents;
mod findings;
mod form;
mod guarded;
mod handover;
mod history;
mod moved;
mod older;
mod preview;
mod question;
mod report;
mod round_trip;
mod screens;
mod secrets;
mod undo;

use marktwice_testkit::Scene;

/// The program under test.
const PROGRAM: &str = env!("CARGO_BIN_EXE_marktwice");

fn demo() -> Scene {
    Scene::demo(PROGRAM)
}

fn scene(script: &str) -> Scene {
    Scene::with(PROGRAM, script)
}
