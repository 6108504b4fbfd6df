//! What a column holds, on every engine: of more rows than are to be read a sample is, and it says which.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on is to fail")]

use marktwice_core::Value;
use marktwice_run::{target, values};
use marktwice_testkit::attempt::Ground;

#[test]
fn a_sample_says_what_it_is_of() {
    for ground in Ground::all() {
        ground.healthy(|context| {
            let t = target(context, None, "t").unwrap().seen;
            let read = |condition: Option<&str>, most: u64| {
                let names = ["a".to_owned()];
                let found = values(context, &t, &names, condition, most).unwrap().seen;
                let held: Vec<Value> = found.groups.into_iter().flat_map(|group| group.values).collect();
                (found.matched, found.read, found.every, held)
            };
            let numbers = |all: &[i64]| all.iter().copied().map(Value::Int).collect::<Vec<_>>();
            assert_eq!(read(None, 3), (3, 3, None, numbers(&[1, 2, 3])));
            // Every second row by key, however the condition is made.
            let every = Some((2, "id".to_owned()));
            assert_eq!(read(None, 2), (3, 1, every.clone(), numbers(&[2])));
            assert_eq!(read(Some("id = 1 OR id >= 2 -- all"), 2), (3, 1, every, numbers(&[2])));
            assert_eq!(read(Some("a < 3"), 2), (2, 2, None, numbers(&[1, 2])));
        });
    }
}
