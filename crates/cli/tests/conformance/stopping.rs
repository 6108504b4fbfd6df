//! Stopping: the first Ctrl-C is obeyed in previews too, and on the server; the second ends the program; a server that has
//! gone silent is not waited for beyond its limit.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::{COOP, PROGRAM, each};
use marktwice_testkit::Scene;
use marktwice_testkit::servers::{Brand, start};
use marktwice_testkit::sql::Db;
use marktwice_testkit::stage::On;

fn signal(pid: &str, name: &str) {
    let done = Command::new("kill").args([&format!("-{name}"), pid]).status().unwrap();
    assert!(done.success(), "kill -{name} {pid}");
    // A signal is on its way when `kill` returns: threads that run elsewhere still answer until the first of them has seen it.
    let since = Instant::now();
    while name == "STOP" && !stands_still(pid) {
        assert!(since.elapsed() < Duration::from_secs(20), "{pid} does not stop");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Whether every thread of a process is stopped, by the kernel's own record of it.
fn stands_still(pid: &str) -> bool {
    let threads = std::fs::read_dir(format!("/proc/{pid}/task")).unwrap();
    threads.map(|thread| std::fs::read_to_string(thread.unwrap().path().join("stat"))).all(|stat| {
        // The name before the state is in parentheses and may hold anything.
        stat.is_ok_and(|stat| {
            stat.rsplit_once(')').is_some_and(|(_, rest)| rest.trim_start().starts_with('T'))
        })
    })
}

/// Its exit status, when it ends within a time that no stop should take.
fn ends(child: &mut Child) -> Option<i32> {
    let since = Instant::now();
    loop {
        if let Some(status) = child.try_wait().unwrap() {
            return status.code();
        }
        assert!(since.elapsed() < Duration::from_secs(40), "it does not stop");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn spawn(scene: &Scene, args: &[&str]) -> Child {
    scene.command().args(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

#[test]
fn a_preview_is_stopped_on_the_server_too() {
    each(|stage| {
        let slow = stage.by(
            "(WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900000000) SELECT count(*) FROM n) > 0",
            "(SELECT count(*) FROM generate_series(1, 900000000)) > 0",
            match stage.is_mysql() {
                true => "(SELECT count(*) FROM information_schema.COLLATIONS a, information_schema.COLLATIONS b, information_schema.COLLATIONS c, \
                    information_schema.COLLATIONS d WHERE a.ID + b.ID + c.ID > d.ID) > 0",
                false => "(SELECT count(*) FROM seq_1_to_900000000 a JOIN seq_1_to_100 b) > 0",
            },
        );
        let sql = format!("UPDATE keeper SET region = 'x' WHERE keeper_id = 1 AND {slow}");
        let mut child = spawn(&stage.scene, &["preview", "--sql", &sql]);
        std::thread::sleep(Duration::from_millis(1200));
        signal(&child.id().to_string(), "INT");
        assert_eq!(ends(&mut child), Some(6), "{:?}", stage.on);
        let busy = match stage.on {
            On::Sqlite => return,
            On::Postgres => {
                "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'marktwice' AND state = 'active' AND datname = current_database()"
            }
            On::Maria => {
                "SELECT count(*) FROM information_schema.PROCESSLIST WHERE DB = database() AND INFO LIKE '%900000000%' AND ID <> connection_id()"
            }
        };
        let since = Instant::now();
        while !stage.value(busy).contains('0') {
            assert!(since.elapsed() < Duration::from_secs(20), "its query goes on");
            std::thread::sleep(Duration::from_millis(100));
        }
        stage.there_and_back("UPDATE keeper SET region = 'x' WHERE keeper_id = 1", "1");
    });
}

#[test]
fn a_server_that_has_gone_silent() {
    for brand in [Brand::Postgres, Brand::Maria] {
        let options: &[&str] = if brand == Brand::Maria { &["--skip-networking"] } else { &[] };
        let Some(server) = start(brand, options) else { continue };
        let url = server.database();
        let scene = Scene::on(PROGRAM, &url);
        let mut db = Db::open(&url);
        db.run(COOP);
        let before = db.dump();
        let sql = "UPDATE keeper SET region = 'x' WHERE keeper_id = 1";
        for limit in [true, false] {
            let mut args = vec!["apply", "--sql", sql, "--hold", "--wait", "1"];
            if limit {
                args.extend(["--time-limit", "1"]);
            }
            let mut open = scene.terminal(&args);
            open.wait_for("is open");
            let pid = match brand {
                Brand::Postgres => db.value("SELECT pid FROM pg_stat_activity WHERE application_name = 'marktwice' AND state LIKE 'idle in%'"),
                Brand::Maria | Brand::Mysql => server.pid(),
            };
            let pid: String = pid.chars().filter(char::is_ascii_digit).collect();
            signal(&pid, "STOP");
            open.write("y\n");
            if !limit {
                // Without a limit a person decides: once asks, twice ends.
                std::thread::sleep(Duration::from_millis(500));
                open.write("\u{3}");
                std::thread::sleep(Duration::from_millis(500));
                open.write("\u{3}");
            }
            let (status, said) = open.end();
            signal(&pid, "CONT");
            assert!(matches!(status, Some(1 | 6)), "{brand:?} {limit} {status:?} {said}");
            if limit {
                assert!(said.contains("silent") || said.contains("lost"), "{said}");
            }
            let since = Instant::now();
            while db.dump() != before {
                assert!(since.elapsed() < Duration::from_secs(20), "it was rolled back");
                std::thread::sleep(Duration::from_millis(100));
            }
            scene.run(&["settle"]).expect(0);
            scene.run(&["history"]).expect(0).says("rolled back").says_not("committed");
        }
    }
}
