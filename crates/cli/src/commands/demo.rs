//! `demo`: makes the demo database in a folder of its own and walks through one full example, saying what it does
//! and why between the steps. Everything it shows is the output of the real commands' code.

use std::path::Path;

use marktwice_core::{Change, Fingerprint};
use marktwice_demo::Engine as On;
use marktwice_network::address::without_password;
use marktwice_port::Intent;
use marktwice_run::{
    Agreement, Answer, ApplyOptions, Context, Failure, Question, RunOutcome, Show, Shown, Talk, UndoOptions,
    apply, history, preview, undo,
};

use crate::args::{ChangeArgs, Common};
use crate::config::Config;
use crate::desk::{Desk, Text};
use crate::engines;
use crate::human::{BOLD, DIM, GOOD, styled};
use crate::out::print;
use crate::report::Trouble;
use crate::{exit, human};

/// What the demo's schema (PostgreSQL) or database (MariaDB) is called on a server.
const NAME: &str = "heathermoor";

/// Makes the demo and walks through it.
pub(crate) fn run(common: &Common, folder: &Path) -> Result<u8, Trouble> {
    // An address in the environment is not taken for the wish to make something there.
    let server = common.on.as_deref().filter(|_| common.on_is_said).map(server_at).transpose()?;
    let (address, language) = make(folder, server)?;
    let desk = Desk::at(address, folder.join("logbook"), common)?;
    let place = match language {
        On::Sqlite => format!("{}/coop.db", folder.display()),
        On::Postgres => format!("the schema {NAME}"),
        On::Maria => format!("the database {NAME}"),
    };
    let walk = desk.with(|context| Walk { context, folder, verbose: common.verbose, language, place }.all());
    walk.map_err(|failure| Trouble::failure(&failure, "the demo").on(&desk.shown))
}

/// A server that was named to make the demo on: its address and language.
fn server_at(on: &str) -> Result<(String, On), Trouble> {
    let here = std::env::current_dir().unwrap_or_default();
    let address = Config::nearest(&here)?.database(on)?.map_or_else(|| on.to_owned(), |named| named.address);
    match engines::of(&address).map(|kind| kind.demo) {
        Some(language @ (On::Postgres | On::Maria)) => Ok((address, language)),
        _ => Err(Trouble::usage(
            "--on names a server here; a SQLite demo is made in its folder",
            "leave --on out, or write --on postgres://USER@HOST/DATABASE or --on mysql://USER@HOST",
        )),
    }
}

/// Makes the database, and the folder with the configuration and the change files. Gives the database's address.
fn make(folder: &Path, server: Option<(String, On)>) -> Result<(String, On), Trouble> {
    let shown = folder.display();
    if folder.read_dir().is_ok_and(|mut entries| entries.next().is_some()) || folder.is_file() {
        let hint = format!(
            "name another folder (marktwice demo OTHER), or remove {shown} if it is no longer needed"
        );
        return Err(Trouble::usage(format!("{shown} is there already, and is not written into"), hint));
    }
    let failed = |what: String, hint: &str| Trouble { status: exit::FAILED, ..Trouble::usage(what, hint) };
    let writable = "name a folder that can be written";
    let language = server.as_ref().map_or(On::Sqlite, |(_, language)| *language);
    let rows = marktwice_demo::tables();
    let (definitions, after) = marktwice_demo::schema(language);
    let there = "remove what is there if it is an old demo, or name another database";
    let all = (definitions, rows.as_slice(), after);
    let on_server = server.as_ref().map(|(address, kind)| engines::make_demo(*kind, address, NAME, all));
    let on_server = on_server.transpose().map_err(|e| failed(e, there))?;
    let changes = folder.join("changes");
    std::fs::create_dir_all(&changes)
        .map_err(|e| failed(format!("cannot make {}: {e}", changes.display()), writable))?;
    let write = |path: &Path, text: &str| {
        std::fs::write(path, text)
            .map_err(|e| failed(format!("cannot write {}: {e}", path.display()), writable))
    };
    for (name, text) in marktwice_demo::changes(language) {
        write(&changes.join(name), text)?;
    }
    let (address, on) = match on_server {
        Some(address) => {
            let on = without_password(&address);
            (address, on)
        }
        None => {
            let path = folder.join("coop.db");
            let path = path.display().to_string();
            engines::make_demo(language, &path, NAME, all).map_err(|e| failed(e, writable))?;
            (path, "coop.db".to_owned())
        }
    };
    write(
        &folder.join("marktwice.toml"),
        &format!(
            "# Commands started in this folder mean this database.\non = {on:?}\nlogbook = \"logbook\"\n"
        ),
    )?;
    Ok((address, language))
}

struct Walk<'a> {
    context: &'a Context<'a>,
    folder: &'a Path,
    verbose: bool,
    language: On,
    /// Where the database is, in words.
    place: String,
}

/// Shows, and answers yes where the walk is meant to go on.
struct Narrator {
    verbose: bool,
}

impl Talk for Narrator {
    fn tell(&mut self, text: &str) {
        print(&format!("note: {text}\n"));
    }

    fn show(&mut self, shown: &Shown<'_>) {
        let text = match shown {
            Shown::Change(preview) => human::preview(preview, self.verbose),
            Shown::Undo(preview) => human::undo(preview, self.verbose),
        };
        print(&format!("{text}\n"));
    }

    fn ask(&mut self, question: &Question<'_>) -> Answer {
        if let Question::Before(shown) = question {
            let by = styled(DIM, "(the demo answers)");
            print(&format!("{} [y/N] {} {by}\n", human::question(shown), styled(BOLD, "y")));
        }
        Answer::Yes
    }
}

impl Walk<'_> {
    fn say(&self, text: &str) {
        print(&format!("\n{}\n", styled(GOOD, text)));
    }

    fn command(&self, text: &str) {
        print(&format!("{} {}\n", styled(DIM, "$"), styled(BOLD, text)));
    }

    fn change(&self, name: &str) -> Result<Change, Failure> {
        let all = marktwice_demo::changes(self.language);
        let text = all.iter().find(|(n, _)| *n == name).map_or("", |(_, text)| *text);
        let lines: String = text.lines().map(|line| format!("  {}\n", styled(DIM, line))).collect();
        print(&format!("{lines}\n"));
        let args = ChangeArgs {
            file: None,
            sql: None,
            rows: None,
            changes: None,
            allow: Vec::new(),
            also_writes: Vec::new(),
            check: Vec::new(),
            with: Vec::new(),
            sheet: Vec::new(),
            with_null: Vec::new(),
            again: false,
            quick: false,
            make_archive: false,
            with_file: Vec::new(),
            show: Show::First(20),
            columns: Vec::new(),
        };
        crate::desk::change_of(
            &Text { text: text.to_owned(), name: name.to_owned(), origin: None },
            &args,
            self.context.engine.language(),
            Vec::new(),
        )
        .map_err(|trouble| Failure::Usage {
            message: trouble.message.into(),
            hint: trouble.hint.unwrap_or_default(),
        })
    }

    fn contents(&self) -> Result<Vec<(String, Fingerprint)>, Failure> {
        let mut session = self.context.open(Intent::Read)?;
        Ok(session.contents()?)
    }

    fn keepers(&self) -> Result<(), Failure> {
        let mut session = self.context.open(Intent::Read)?;
        let target = session.describe("", "keeper")?;
        let rows = session.first_rows(&target, 9)?;
        print(&human::rows_of(&target, &rows));
        Ok(())
    }

    fn applied(&self, name: &str) -> Result<RunOutcome, Failure> {
        let change = self.change(name)?;
        let options = ApplyOptions {
            agreement: Agreement::Ask,
            mark: None,
            hold: false,
            show: Show::First(20),
            copy_database: None,
            keep_copy: None,
            most_rows: None,
            previewed: None,
        };
        let outcome = apply(self.context, &change, &options, &mut Narrator { verbose: self.verbose })?;
        print(&human::outcome(&outcome, &["keeper"], name, ""));
        Ok(outcome)
    }

    fn all(&self) -> Result<u8, Failure> {
        let folder = self.folder.display();
        self.say(&format!(
            "The Heathermoor Honey Co-operative is made up, and so is its database: {} is ready.",
            self.place
        ));
        let before = self.contents()?;
        self.say(
            "1. Look at the rows. Keepers 3 and 5 have moved to the Moor; keeper 8 has always been there.",
        );
        self.keepers()?;
        self.say("2. Preview. It writes nothing: it shows the rows that the filter really matches, and what they become.");
        self.command("marktwice preview changes/region.sql");
        let change = self.change("region.sql")?;
        let seen = preview(self.context, &change, Show::First(20))?;
        print(&format!("{}\n{}", human::preview(&seen, self.verbose), human::next_step(&seen, "")));
        self.say("3. Apply it all the same. The file expects two rows and three match, so nothing is begun.");
        self.command("marktwice apply changes/region.sql");
        let refused = self.applied("region.sql")?;
        self.say("4. The corrected filter leaves out the row that already holds the value. Now the count is right,\n   and the rows are kept, changed, read again one by one, and only then committed.");
        self.command("marktwice apply changes/region_corrected.sql");
        let done = self.applied("region_corrected.sql")?;
        self.say("5. The history knows what was done, and that it can be taken back.");
        self.command("marktwice history");
        self.show_history()?;
        self.say("6. Undo. Every row is first compared with what the run left; then the old values go back by key.");
        let run = done.receipt.as_ref().map(|r| r.run.clone());
        self.command(&format!("marktwice undo {}", run.as_deref().unwrap_or("")));
        let options = UndoOptions {
            run,
            agreement: Agreement::Ask,
            allow: Vec::new(),
            rows: None,
            policy: marktwice_core::undo::Policy::default(),
            only: Vec::new(),
            hold: false,
            show: Show::First(20),
        };
        let back = undo(self.context, &options, &mut Narrator { verbose: self.verbose })?;
        print(&human::outcome(&back, &["keeper"], "the logbook", ""));
        self.say("7. The proof: a fingerprint over every row of every table, now and at the start.");
        let same = self.prove(&before)?;
        let asked = exit::of_end(&refused.end) == exit::NOT_AS_EXPECTED
            && exit::of_end(&done.end) == exit::DONE
            && exit::of_end(&back.end) == exit::DONE;
        self.say("Go on yourself. The next thing to try, with a page to show to somebody else:");
        let there = crate::args::word(&folder.to_string());
        let next = format!("  cd {there}\n  marktwice rehearse changes/price.sql --html price.html\n");
        print(&styled(BOLD, &next));
        self.say("More changes, good and bad ones, for marktwice preview and apply:");
        let all = marktwice_demo::changes(self.language);
        let language = self.context.engine.language();
        for (name, text) in all.iter().skip(2).filter(|(name, _)| name.ends_with(".sql")) {
            let title = marktwice_change::read(text, language).ok().and_then(|change| change.title);
            let title = styled(DIM, &human::one_line(&title.unwrap_or_default()));
            print(&format!("  {:<30}  {title}\n", format!("changes/{name}")));
        }
        Ok(if same && asked { exit::DONE } else { exit::FAILED })
    }

    fn show_history(&self) -> Result<(), Failure> {
        let session = self.context.open(Intent::Read)?;
        let book = (self.context.book)(session.database())?;
        print(&human::history(session.database(), (&history(&*book)?, 0), book.size()?, &[]));
        Ok(())
    }

    fn prove(&self, before: &[(String, Fingerprint)]) -> Result<bool, Failure> {
        let after = self.contents()?;
        let rows: u64 = after.iter().map(|(_, f)| f.rows()).sum();
        let same = before == after.as_slice();
        let verdict =
            if same { "the same as at the start, every one" } else { "NOT the same as at the start" };
        print(&format!("{} tables, {}: {}\n", after.len(), human::rows(rows), styled(BOLD, verdict)));
        if let Some((_, fingerprint)) = after.iter().find(|(name, _)| name == "keeper") {
            print(&format!("  {}\n", styled(DIM, &format!("keeper  {}", fingerprint.to_text()))));
        }
        Ok(same)
    }
}
