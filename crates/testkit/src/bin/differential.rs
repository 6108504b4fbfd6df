//! Long runs of the differential tester: `differential sqlite|postgres|maria|mysql FROM COUNT [FOLDER]`. A folder in memory makes it faster.
//! `differential veiled-sqlite|veiled-postgres|veiled-maria|veiled-mysql FROM COUNT PROGRAM` runs the built program over hidden columns.

use marktwice_testkit::differential;
use marktwice_testkit::stage::On;

fn main() {
    let mut args = std::env::args().skip(1);
    let number = |text: Option<String>, default: u64| text.and_then(|t| t.parse().ok()).unwrap_or(default);
    let engine = args.next().unwrap_or_default();
    let veiled = engine.starts_with("veiled-");
    let on = match engine.trim_start_matches("veiled-") {
        "postgres" => On::Postgres,
        "maria" => On::Maria,
        "mysql" => {
            marktwice_testkit::servers::choose_mysql();
            On::Maria
        }
        _ => On::Sqlite,
    };
    let (from, count) = (number(args.next(), 0), number(args.next(), 20_000));
    if veiled {
        let program = args.next().expect("the built program");
        println!("{on:?}, hidden columns: {:?}", differential::veiled::run(on, &program, from, count));
        return;
    }
    let folder = args.next().map_or_else(std::env::temp_dir, Into::into).join("marktwice-differential");
    std::fs::create_dir_all(&folder).expect("a folder");
    println!(
        "{on:?}, seeds {from} to {}: {:?}",
        from + count - 1,
        differential::run(on, &folder, from, count)
    );
}
