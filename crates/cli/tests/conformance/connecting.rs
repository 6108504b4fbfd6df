//! Connecting: encryption with certificates that are checked, passwords from every place they may be kept in, and
//! errors that say what is missing and never show a secret.

use crate::{COOP, PROGRAM};
use marktwice_testkit::servers::{Brand, Guarded, guarded, skipped, start};
use marktwice_testkit::sql::Db;
use marktwice_testkit::stage::{On, Stage};
use marktwice_testkit::{Answer, Scene, finished};

const SQL: &str = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 2";
const PASSWORD: &str = "h0ney@comb";

struct Party {
    guarded: Guarded,
    scene: Scene,
    database: String,
}

fn party(brand: Brand) -> Option<Party> {
    let guarded = guarded(brand)?;
    let url = guarded.server.database();
    let mut db = Db::open(&url);
    db.run(COOP);
    let database = url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
    db.run(&match brand {
        Brand::Postgres => format!("CREATE ROLE ann LOGIN PASSWORD '{PASSWORD}'; GRANT ALL ON ALL TABLES IN SCHEMA public TO ann;"),
        Brand::Maria | Brand::Mysql => format!("CREATE USER ann@'%' IDENTIFIED BY '{PASSWORD}' REQUIRE SSL;\nGRANT ALL ON {database}.* TO ann@'%';"),
    });
    Some(Party { guarded, scene: Scene::empty(PROGRAM), database })
}

impl Party {
    fn scheme(&self) -> &'static str {
        if self.guarded.server.brand == Brand::Postgres { "postgres" } else { "mysql" }
    }

    fn preview(&self, who: &str, host: &str, more: &str, environment: &[(&str, &str)]) -> Answer {
        let url = format!("{}://{who}@{host}/{}{more}", self.scheme(), self.database);
        let mut command = self.scene.command();
        command.args(["preview", "--sql", SQL, "--on", &url]).envs(environment.iter().copied());
        let answer = finished(&mut command);
        answer.says_not("h0ney").says_not("wr0ng")
    }
}

#[test]
fn encrypted_and_checked() {
    for brand in [Brand::Postgres, Brand::Maria] {
        let Some(p) = party(brand) else { continue };
        let (named, unnamed, ca) = (&p.guarded.named, &p.guarded.unnamed, p.guarded.ca.display());
        let who = format!("ann:{}", PASSWORD.replace('@', "%40"));
        p.preview(&who, named, &format!("?tls=verify&ca={ca}"), &[]).expect(0).says("Moor → Fell");
        p.preview(&who, named, "?tls=verify", &[]).expect(1).says("certificate").says("ca=FILE");
        p.preview(&who, unnamed, &format!("?tls=verify&ca={ca}"), &[]).expect(1).says("certificate");
        p.preview(&who, unnamed, "?tls=unchecked", &[]).expect(0);
        p.preview(&who, named, "?tls=off", &[]).expect(1).says("?tls=verify");
        let empty = p.scene.write("empty.pem", "");
        p.preview(&who, named, &format!("?tls=verify&ca={}", empty.display()), &[])
            .expect(1)
            .says("there is none in it");
        p.preview(&who, named, "?tls=maybe", &[]).expect(2).says("tls=verify");
        p.preview(&who, named, "?colour=red", &[]).expect(2).says("not known");
    }
}

#[test]
fn passwords() {
    for brand in [Brand::Postgres, Brand::Maria] {
        let Some(p) = party(brand) else { continue };
        let (named, tls) = (p.guarded.named.clone(), "?tls=unchecked");
        let wrong = p.preview("ann:wr0ng", &named, tls, &[]).expect(1);
        wrong.says("ann");
        p.preview("ann", &named, tls, &[]).expect(1);
        p.preview("nobody:wr0ng", &named, tls, &[]).expect(1);
        p.preview("ann", &named, "?tls=unchecked&password-env=HIVE", &[("HIVE", PASSWORD)]).expect(0);
        p.preview("ann", &named, "?tls=unchecked&password-env=HIVE", &[]).expect(1).says("HIVE");
        let variable = if brand == Brand::Postgres { "PGPASSWORD" } else { "MYSQL_PWD" };
        p.preview("ann", &named, tls, &[(variable, PASSWORD)]).expect(0);
        let (file, text) = match brand {
            Brand::Postgres => (".pgpass", format!("{named}:*:*:ann:{PASSWORD}\n")),
            Brand::Maria | Brand::Mysql => (".my.cnf", format!("[client]\npassword = \"{PASSWORD}\"\n")),
        };
        let path = p.scene.write(file, text);
        set_mode(&path, 0o644);
        p.preview("ann", &named, tls, &[]).expect(1);
        set_mode(&path, 0o600);
        p.preview("ann", &named, tls, &[]).expect(0);
        // Nothing secret in what is kept.
        let url = format!(
            "{}://ann:{}@{named}/{}?tls=unchecked",
            p.scheme(),
            PASSWORD.replace('@', "%40"),
            p.database
        );
        p.scene
            .run(&["apply", "--sql", SQL, "--rows", "1", "--yes", "--on", &url])
            .expect(0)
            .says_not("h0ney");
        p.scene.run(&["receipt", "--verbose", "--on", &url]).expect(0).says_not("h0ney");
        let found =
            finished(std::process::Command::new("grep").args(["-rlaE", "h0ney"]).arg(p.scene.path("book")));
        assert_eq!(found.out, "", "the logbook holds no password");
    }
}

fn set_mode(path: &std::path::Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn passwords_that_are_never_sent() {
    let Some(p) = party(Brand::Maria) else { return };
    let mut db = Db::open(&p.guarded.server.database());
    if let Err(error) = db.execute("INSTALL SONAME 'auth_ed25519'") {
        skipped(&format!("the plugin auth_ed25519 is not installed: {error}"));
        return;
    }
    db.run(&format!(
        "CREATE USER eve@'%' IDENTIFIED VIA ed25519 USING PASSWORD('{PASSWORD}') REQUIRE SSL;\nGRANT ALL ON {}.* TO eve@'%';",
        p.database
    ));
    let tls = "?tls=unchecked&password-env=HIVE";
    p.preview("eve", &p.guarded.named, tls, &[("HIVE", PASSWORD)]).expect(0);
    p.preview("eve", &p.guarded.named, tls, &[("HIVE", "wr0ng")]).expect(1).says("eve");
}

#[test]
fn what_is_not_there() {
    Stage::servers(PROGRAM, |stage| {
        let elsewhere = stage.url.replace("scene_", "no_scene_");
        stage
            .scene
            .run(&["preview", "--sql", SQL, "--on", &elsewhere])
            .expect(1)
            .says("there is no database no_scene_");
        let closed = if stage.on == On::Postgres { "postgres" } else { "mysql" };
        let answer =
            stage.scene.run(&["preview", "--sql", SQL, "--on", &format!("{closed}://ann@127.0.0.1:1/x")]);
        answer.expect(1).says("cannot be reached").says("127.0.0.1:1");
        stage.scene.run(&["preview", "--sql", SQL, "--on", "oracle://ann@h/x"]).expect(2).says("no engine");
    });
}

#[test]
fn privileges_that_are_missing() {
    Stage::servers(PROGRAM, |stage| {
        stage.run(COOP);
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        let role = format!("reader_{name}");
        stage.run(&match stage.on {
            On::Postgres => format!(
                "CREATE ROLE {role} LOGIN; GRANT SELECT ON keeper TO {role}; CREATE ROLE bare_{role} LOGIN; \
                 GRANT SELECT, UPDATE ON keeper TO bare_{role}; REVOKE TEMP ON DATABASE {name} FROM PUBLIC; GRANT TEMP ON DATABASE {name} TO {role};"
            ),
            _ => format!(
                "CREATE USER {role}@localhost;\nGRANT SELECT ON {name}.keeper TO {role}@localhost;\nGRANT CREATE TEMPORARY TABLES, TRIGGER ON {name}.* TO {role}@localhost;\n\
                 CREATE USER bare_{role}@localhost;\nGRANT SELECT, UPDATE, TRIGGER ON {name}.keeper TO bare_{role}@localhost;"
            ),
        });
        let before = stage.dump();
        let user = if stage.on == On::Postgres { "tester@" } else { "root@" };
        let as_role = |who: &str| stage.url.replace(user, &format!("{who}@"));
        // Without UPDATE: a preview works, an application says what is missing.
        let reader = as_role(&role);
        stage.scene.run(&["preview", "--sql", SQL, "--on", &reader]).expect(0).says("Moor → Fell");
        stage
            .scene
            .run(&["apply", "--sql", SQL, "--rows", "1", "--yes", "--on", &reader])
            .expect(1)
            .says("keeper");
        let said = stage.scene.run(&["preview", "--sql", SQL, "--on", &reader]).expect(0);
        said.says("missing-privilege");
        // To take rows away is enough, without the privilege to change them.
        stage.run(stage.by("", &format!("CREATE ROLE cleaner_{role} LOGIN; GRANT SELECT, DELETE ON hive TO cleaner_{role}; GRANT TEMP ON DATABASE {name} TO cleaner_{role};"),
            &format!("CREATE USER cleaner_{role}@localhost;\nGRANT SELECT, DELETE ON {name}.hive TO cleaner_{role}@localhost;\nGRANT CREATE TEMPORARY TABLES, TRIGGER ON {name}.* TO cleaner_{role}@localhost;")));
        let cleaner = as_role(&format!("cleaner_{role}"));
        stage
            .scene
            .run(&[
                "apply",
                "--sql",
                "DELETE FROM hive WHERE hive_id = 10",
                "--rows",
                "1",
                "--yes",
                "--allow",
                "no-way-back",
                "--on",
                &cleaner,
            ])
            .expect(0);
        stage.undo(&[], 0);
        // Without SELECT nothing is shown.
        let hidden =
            stage.scene.run(&["preview", "--sql", "DELETE FROM hive WHERE hive_id = 10", "--on", &reader]);
        assert!(matches!(hidden.status, Some(1 | 3)), "{}", hidden.out);
        hidden.says(stage.by("", "SELECT on hive is missing", "SELECT on the whole of hive is missing"));
        // Without temporary tables: values are computed, and nothing is applied.
        let bare = as_role(&format!("bare_{role}"));
        let preview =
            stage.scene.run(&["preview", "--sql", SQL, "--on", &bare, "--format", "json"]).expect(0);
        assert!(preview.out.contains("computed"), "{}", preview.out);
        stage
            .scene
            .run(&["preview", "--sql", SQL, "--on", &bare])
            .expect(0)
            .says("values are computed, not stored");
        stage
            .scene
            .run(&["apply", "--sql", SQL, "--rows", "1", "--yes", "--on", &bare])
            .expect(1)
            .says("TEMP");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn replicas_are_looked_at_and_not_written() {
    let replica = start(Brand::Maria, &["--read-only=1", "--skip-networking"]);
    if let Some(server) = replica {
        let url = server.database();
        Db::open(&url).run(COOP);
        let scene = Scene::on(PROGRAM, &url);
        scene.run(&["preview", "--sql", SQL]).expect(0).says("Moor → Fell");
        scene.run(&["apply", "--sql", SQL, "--rows", "1", "--yes"]).expect(1).says("only on the primary");
    }
}

#[test]
fn row_security_and_read_only_sessions() {
    let Some(stage) = Stage::on(On::Postgres, PROGRAM) else { return };
    stage.run(COOP);
    let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
    let role = format!("partly_{name}");
    stage.run(&format!(
        "CREATE ROLE {role} LOGIN; GRANT ALL ON keeper, hive TO {role}; ALTER TABLE keeper ENABLE ROW LEVEL SECURITY; \
         CREATE POLICY moor ON keeper USING (region = 'Moor');"
    ));
    let theirs = stage.url.replace("tester@", &format!("{role}@"));
    stage.scene.run(&["preview", "--sql", SQL, "--on", &theirs]).expect(3).says("row security");
    // The owner sees all rows.
    stage.there_and_back(SQL, "1");
    stage.run(&format!("ALTER ROLE {role} SET default_transaction_read_only = on;"));
    let sql = "UPDATE hive SET note = 'x' WHERE hive_id = 10";
    stage.scene.run(&["preview", "--sql", sql, "--on", &theirs]).expect(0);
    stage
        .scene
        .run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--on", &theirs])
        .expect(1)
        .says("read-only");
}
