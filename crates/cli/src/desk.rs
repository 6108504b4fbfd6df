//! The database that a command is about, with its logbook, and the change that it is given.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::Duration;

use marktwice_change::More;
use marktwice_change::params::{Expected, give, is_name};
use marktwice_change::sheets::SheetBlock;
use marktwice_core::TextPlace;
use marktwice_core::asked::{QueryCheck, Wanted, Wants};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::secret::Secrets;
use marktwice_core::sheet::Sheet;
use marktwice_core::table::NamedBy;
use marktwice_core::{Change, Code, Terms};
use marktwice_logbook::{FileKey, ReadReceipts, Shelf};
use marktwice_network::address::without_secrets;
use marktwice_port::{Engine, Intent, Language, Limits, LogError, Logbook};
use marktwice_run::{Chosen, Context, Failure, forget, forgettable, history};

use crate::ambient::Real;
use crate::args::{ChangeArgs, Common};
use crate::config::{Config, Named};
use crate::csv_file;
use crate::engines::{self, Kind};
use crate::guard::{Guard, time};
use crate::out::keep_out;
use crate::place;
use crate::report::Trouble;

/// Seconds that a lock is waited for where nothing is said.
const WAIT: f64 = 5.0;

/// The surroundings of a command, and the database that it is about.
pub(crate) struct Desk {
    address: String,
    /// The address without its secrets.
    pub(crate) shown: String,
    pub(crate) engine: &'static dyn Engine,
    pub(crate) root: std::path::PathBuf,
    pub(crate) ambient: Real,
    pub(crate) waits: Limits,
    named_by: NamedBy,
    /// What guards the database.
    pub(crate) guard: Option<Guard>,
    /// The table in which each run leaves a row, where there is to be one.
    pub(crate) witness: Option<String>,
    /// How long rows of runs are kept, where that is limited.
    keep: Option<Duration>,
    /// What snapshots are encrypted for.
    pub(crate) key: Option<Result<FileKey, LogError>>,
    /// Columns whose values are never shown.
    hide: HiddenColumns,
    /// Rows that one run may match there at most.
    pub(crate) most_rows: Option<u64>,
    /// Receipts that this command has read.
    read: ReadReceipts,
}

impl Desk {
    /// Finds the database and its logbook.
    pub(crate) fn find(common: &Common) -> Result<Desk, Trouble> {
        Desk::configured(common).map(|(desk, ..)| desk)
    }

    /// The same with the configuration, and what it says of the database.
    pub(crate) fn configured(common: &Common) -> Result<(Desk, Config, Option<Named>), Trouble> {
        let here = std::env::current_dir().map_err(|e| {
            Trouble::usage(format!("the current folder cannot be read: {e}"), "go to another folder")
        })?;
        let config = Config::nearest(&here)?;
        let (address, named) = place::address(common, &config)?;
        let mut desk = Desk::at(address, place::logbook(common, &config)?, common)?;
        let named = named.or_else(|| place::opened_as(&desk.address, &config, desk.waits));
        if let Some(named) = &named {
            // What is said on the line comes before what the file says.
            if let Some(wait) = named.said.wait.filter(|_| common.wait.is_none()) {
                desk.waits.lock = Duration::from_secs_f64(wait);
            }
            if let Some(limit) = named.said.time_limit.filter(|_| common.time_limit.is_none()) {
                desk.waits.statement = Some(Duration::from_secs_f64(limit));
            }
            desk.guard = Guard::of(named);
            desk.most_rows = named.said.most_rows;
            desk.witness.clone_from(&named.said.witness);
            desk.hide = HiddenColumns::of(&named.said.hide);
        }
        (desk.named_by, desk.keep) = (config.named_by(), config.keep());
        desk.key = config.key_file().map(|file| FileKey::read(&file));
        Ok((desk, config, named))
    }

    /// A desk for a database and a logbook that are known already.
    pub(crate) fn at(address: String, root: std::path::PathBuf, common: &Common) -> Result<Desk, Trouble> {
        let Kind { engine, .. } = engines::of(&address)
            .ok_or_else(|| Trouble::usage("there is no engine for this address", "name another with --on"))?;
        if open_to_all(&root) {
            crate::out::tell(&format!(
                "note: everybody on this machine can write into the logbook {0}, and so forge what it proves; to keep it \
                 yours: chmod o-w {1}\n",
                root.display(),
                crate::args::word(&root.display().to_string())
            ));
        }
        let waits = Limits {
            lock: Duration::from_secs_f64(common.wait.unwrap_or(WAIT)),
            statement: common.time_limit.map(Duration::from_secs_f64),
        };
        let (shown, ambient) = (without_secrets(&address), Real::new());
        Ok(Desk {
            shown,
            engine,
            address,
            root,
            ambient,
            waits,
            named_by: NamedBy::default(),
            guard: None,
            keep: None,
            key: None,
            hide: HiddenColumns::default(),
            witness: None,
            most_rows: None,
            read: ReadReceipts::default(),
        })
    }

    /// Forgets the rows of runs that are older than they are to be kept; of one whose outcome is not known nothing is removed.
    pub(crate) fn forget_old(&self) {
        let Some(keep) = self.keep else { return };
        let Ok(before) = jiff::Timestamp::now().checked_sub(keep) else { return };
        let before = before.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
        let done = self.with(|context| {
            let session = context.open(Intent::Read)?;
            let book = (context.book)(session.database())?;
            drop(session);
            let mut entries = history(&*book)?;
            entries.retain(|entry| entry.receipt.state.is_final());
            let old = forgettable(&entries, &Chosen::Before(before))?;
            if !old.is_empty() {
                forget(context, &old)?;
            }
            Ok::<_, Failure>(old.len() as u64)
        });
        let kept = time(keep);
        match done {
            Ok(0) => {}
            Ok(n) => crate::out::tell(&format!(
                "note: the rows of {} older than {kept} were forgotten, as marktwice.toml says; the receipts stay\n",
                marktwice_core::words::of(n, "run")
            )),
            // What stays too long is in the way of nothing.
            Err(error) => crate::out::tell(&format!("note: old rows could not be forgotten: {error}\n")),
        }
    }

    /// Hands the context to `work`.
    pub(crate) fn with<T>(&self, work: impl FnOnce(&Context<'_>) -> T) -> T {
        let book = |database: &DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
            Ok(Box::new(
                Shelf::open(&self.root, database)?
                    .sharing(&self.read)
                    .encrypting(self.key.clone())
                    .hiding(&self.hide),
            ))
        };
        let user = user();
        let context = Context {
            engine: self.engine,
            address: &self.address,
            book: &book,
            ambient: &self.ambient,
            waits: self.waits,
            named_by: &self.named_by,
            hide: &self.hide,
            witness: self.witness.as_deref(),
            user,
        };
        let result = work(&context);
        self.ambient.quiet();
        result
    }
}

/// Who is at work, as the system says.
pub(crate) fn user() -> Option<String> {
    std::env::var("USER").or_else(|_| std::env::var("USERNAME")).ok()
}

/// A check as it is said on the line: `SELECT … = VALUE`.
fn quick_check(text: &str, language: &dyn Language) -> Result<QueryCheck, Trouble> {
    let form = "write \"SELECT count(*) FROM batch WHERE price_per_kg > 40 = 0\": a query, an equals sign, and a number, a text in single \
                quotes, true or false";
    let no = |what: &str| Trouble::usage(format!("--check \"{text}\" {what}"), form);
    let (sql, value) =
        language.equation(text).ok_or_else(|| no("has no equals sign with a value behind it"))?;
    let quoted = value.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
    let wanted = match (quoted, value.to_ascii_lowercase().as_str()) {
        (Some(text), _) => Wanted::Text(text.replace("''", "'")),
        (None, "true") => Wanted::Truth(true),
        (None, "false") => Wanted::Truth(false),
        (None, "null") => {
            return Err(no("compares with NULL, which nothing is equal to; ask whether it IS NULL"));
        }
        (None, number) => Wanted::Number(
            serde_json::from_str(number).map_err(|_| no("has no value behind the last equals sign"))?,
        ),
    };
    Ok(QueryCheck { name: None, sql, wants: Wants::Gives(wanted), hidden: false })
}

/// Whether anybody may put files into a folder, or take others' away.
#[cfg(unix)]
fn open_to_all(folder: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    std::fs::metadata(folder).is_ok_and(|about| about.permissions().mode() & 0o1002 == 0o002)
}

#[cfg(not(unix))]
fn open_to_all(_: &Path) -> bool {
    false
}

/// The text of a change and what it is called in messages.
pub(crate) struct Text {
    pub(crate) text: String,
    pub(crate) name: String,
    /// The real path of the file.
    pub(crate) origin: Option<String>,
}

/// Reads the change that the arguments name; `None` when they name none.
pub(crate) fn read_text(args: &ChangeArgs) -> Result<Option<Text>, Trouble> {
    if let Some(sql) = &args.sql {
        return Ok(Some(Text::of_line(sql)));
    }
    args.file.as_deref().map(Text::of_file).transpose()
}

impl Text {
    /// What stands on the command line.
    pub(crate) fn of_line(sql: &str) -> Text {
        Text { text: sql.to_owned(), name: "--sql".to_owned(), origin: None }
    }

    /// The change that it is; `allow` is let pass besides what it says itself.
    pub(crate) fn change(&self, language: &dyn Language, allow: &[Code]) -> Result<(Change, More), Trouble> {
        let read = marktwice_change::read_whole(&self.text, language);
        let (mut change, more) = read.map_err(|e| Trouble::change(e, &self.name))?;
        change.origin.clone_from(&self.origin);
        change.allow.extend(allow);
        Ok((change, more))
    }

    /// What stands in a file; `-` is standard input.
    pub(crate) fn of_file(path: &Path) -> Result<Text, Trouble> {
        if crate::handover::is_one(path) {
            return Err(Trouble::usage(
                format!("{} holds a change that was previewed elsewhere", path.display()),
                format!("`{}` previews it again, and asks", crate::printed::apply_handed(path, "")),
            ));
        }
        if path.as_os_str() == "-" {
            let mut bytes = Vec::new();
            std::io::stdin().read_to_end(&mut bytes).map_err(|e| {
                Trouble::usage(format!("standard input cannot be read: {e}"), "pipe the change in")
            })?;
            let text = utf8(bytes, "standard input")?;
            return Ok(Text { text, name: "standard input".to_owned(), origin: None });
        }
        let name = path.display().to_string();
        let bytes = std::fs::read(path).map_err(|error| unreadable(path, &error))?;
        let origin = std::fs::canonicalize(path).ok().map(|real| real.display().to_string());
        Ok(Text { text: utf8(bytes, &name)?, name, origin })
    }
}

fn unreadable(path: &Path, error: &std::io::Error) -> Trouble {
    let shown = path.display();
    match error.kind() {
        std::io::ErrorKind::NotFound => {
            let text = path.to_string_lossy();
            let statement =
                ["update ", "delete ", "with "].iter().any(|w| text.to_lowercase().starts_with(w));
            let hint = if statement {
                "to give the statement itself, write --sql"
            } else {
                "check the path of the change file"
            };
            Trouble::usage(format!("there is no file {shown}"), hint)
        }
        _ => Trouble::usage(format!("{shown} cannot be read: {error}"), "name a change file"),
    }
}

fn utf8(bytes: Vec<u8>, name: &str) -> Result<String, Trouble> {
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(at).filter(|b| **b == b'\n').count() + 1;
        Trouble::usage(format!("{name} is not UTF-8 text: line {line}, byte {at}"), "save it as UTF-8")
    })
}

/// Gives the parameters of a change their values; what an earlier step keeps needs none.
pub(crate) fn give_params(
    change: &mut Change,
    (wanted, given): (&[Expected], &[(String, Option<String>)]),
    language: &dyn Language,
    file: &str,
) -> Result<(), Trouble> {
    let kept: Vec<String> = change.steps.iter().filter_map(|step| step.terms.keep.clone()).collect();
    let in_text = language.placeholders(&change.source);
    let checks = change.checks.iter().map(|check| check.sql.as_str());
    let each = change.steps.iter().flat_map(|step| &step.terms.each).map(|check| check.each.as_str());
    let in_checks = checks.chain(each).flat_map(|text| language.placeholders(text)).map(|(_, name)| name);
    let mut used: Vec<String> = Vec::new();
    for name in in_text.iter().map(|(_, name)| name.clone()).chain(in_checks) {
        if !kept.contains(&name) && !used.contains(&name) {
            used.push(name);
        }
    }
    change.params = give(wanted, given, &used).map_err(|(message, hint)| {
        let missing = message.strip_prefix(':').map(|rest| rest.split(' ').next().unwrap_or_default());
        let place = in_text.iter().find(|(_, name)| Some(name.as_str()) == missing).map(|(range, _)| range);
        let place = place.map(|range| TextPlace::in_source(&change.source, range.start, range.end));
        let trouble = Trouble::usage(message, hint);
        match place {
            Some(place) => trouble.at(file.to_owned(), place),
            None => trouble,
        }
    })?;
    keep_out(Secrets::of(&change.params));
    Ok(())
}

/// The values that the line gives: itself, in files, and NULL.
pub(crate) fn given(
    with: &[(String, String)],
    files: &[(String, String)],
    null: &[String],
) -> Result<Vec<(String, Option<String>)>, Trouble> {
    let mut all: Vec<(String, Option<String>)> =
        with.iter().map(|(name, value)| (name.clone(), Some(value.clone()))).collect();
    for (name, file) in files {
        let text = Text::of_file(Path::new(file))?.text;
        let text = text.strip_suffix('\n').map_or(&*text, |text| text.strip_suffix('\r').unwrap_or(text));
        all.push((name.clone(), Some(text.to_owned())));
    }
    all.extend(null.iter().map(|name| (name.clone(), None)));
    Ok(all)
}

/// The sheets of a change: those of its text, and those of the line, which names the file of one that the text describes.
fn sheets(text: &Text, args: &ChangeArgs, more: &More) -> Result<Vec<Sheet>, Trouble> {
    let mut all = Vec::new();
    for (name, block) in &more.sheets {
        let line = args.sheet.iter().find(|(named, _)| named == name).map(|(_, file)| PathBuf::from(file));
        let beside = text.origin.as_deref().and_then(|origin| Path::new(origin).parent());
        let own =
            block.file.as_ref().map(|file| beside.map_or_else(|| PathBuf::from(file), |at| at.join(file)));
        let Some(path) = line.or(own) else {
            let hint = format!("name it: --sheet {name}=FILE.csv, or file = in [sheet.{name}]");
            return Err(Trouble::usage(format!("the sheet {name} has no file"), hint));
        };
        all.push(csv_file::look(name, &path, block)?);
    }
    for (name, file) in &args.sheet {
        if more.sheets.contains_key(name) {
            continue;
        }
        if !is_name(name) {
            return Err(Trouble::usage(
                format!("{name} is no name for a sheet"),
                "write letters, digits and _",
            ));
        }
        if all.iter().any(|sheet: &Sheet| sheet.name == *name) {
            return Err(Trouble::usage(format!("two files are given for the sheet {name}"), "give one"));
        }
        all.push(csv_file::look(name, Path::new(file), &SheetBlock::default())?);
    }
    Ok(all)
}

/// A change from its text, with what the command line adds to it; `checks` are those of a mark, where it comes from one: a
/// check that was said on the line of the preview holds as well as one in its text.
pub(crate) fn change_of(
    text: &Text,
    args: &ChangeArgs,
    language: &dyn Language,
    checks: Vec<QueryCheck>,
) -> Result<Change, Trouble> {
    let (mut change, more) = text.change(language, &args.allow)?;
    let counts = args.rows.is_some() || args.changes.is_some();
    for step in &mut change.steps {
        step.terms.also_writes.extend(args.also_writes.iter().cloned());
    }
    if counts && change.steps.len() > 1 {
        return Err(Trouble::usage(
            format!(
                "there are {} steps, and --rows or --changes does not say which one is meant",
                change.steps.len()
            ),
            "say rows = N in a block before each step: /* marktwice step … */",
        ));
    }
    for check in &args.check {
        change.checks.push(quick_check(check, language)?);
    }
    let unsaid = checks.into_iter().filter(|check| !change.checks.contains(check)).collect::<Vec<_>>();
    change.checks.extend(unsaid);
    let given = given(&args.with, &args.with_file, &args.with_null)?;
    give_params(&mut change, (&more.params, &given), language, &text.name)?;
    change.sheets = sheets(text, args, &more)?;
    if args.make_archive && (0..change.steps.len()).all(|at| change.terms(at).archive_to.is_none()) {
        return Err(Trouble::usage(
            "--make-archive makes the table that archive_to names, and no step says archive_to",
            "leave it out, or say archive_to = \"TABLE\" in the block before the DELETE",
        ));
    }
    change.make_archive = args.make_archive;
    (change.again, change.quick) = (args.again, args.quick);
    change.shown = args.columns.iter().map(|name| name.trim().to_owned()).collect();
    let terms = change.terms(0);
    let line = Terms { rows: args.rows, changes: args.changes, ..Terms::default() };
    Ok(if counts { change.with(terms.under(line)) } else { change })
}
