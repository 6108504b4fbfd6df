//! Ends itself in the middle of an attempt: `crash FOLDER apply|undo book|engine|file N`. A test starts it, and looks at
//! what is left.

use std::path::PathBuf;

use marktwice_logbook::faults::{self, Fault};
use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{apply_once, undo_once, with};

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [folder, what, where_, at] = args.as_slice() else {
        panic!("crash FOLDER apply|undo book|engine|file N")
    };
    let at = at.parse().expect("a number");
    let (book, engine) = match where_.as_str() {
        "book" => (Fuse::deadly(at), Fuse::at(0)),
        "engine" => (Fuse::at(0), Fuse::deadly(at)),
        _ => {
            faults::arm(Some((at, Fault::Death)));
            (Fuse::at(0), Fuse::at(0))
        }
    };
    let attempt = if what == "apply" { apply_once } else { undo_once };
    let outcome = with(&PathBuf::from(folder), &book, &engine, false, attempt);
    println!("{:?}", outcome.map(|o| o.end));
}
