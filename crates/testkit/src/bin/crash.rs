//! Ends itself in the middle of an attempt: `crash FOLDER apply|undo book|engine N`. A test starts it, and looks at
//! what is left.

use std::path::PathBuf;

use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{apply_once, undo_once, with};

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [folder, what, where_, at] = args.as_slice() else { panic!("crash FOLDER apply|undo book|engine N") };
    let deadly = Fuse::deadly(at.parse().expect("a number"));
    let (book, engine) = match where_.as_str() {
        "book" => (deadly, Fuse::at(0)),
        _ => (Fuse::at(0), deadly),
    };
    let attempt = if what == "apply" { apply_once } else { undo_once };
    let outcome = with(&PathBuf::from(folder), &book, &engine, false, attempt);
    println!("{:?}", outcome.map(|o| o.end));
}
