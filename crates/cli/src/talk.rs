//! Asking a person at a terminal, with Ctrl-C and a deadline.

use std::cell::Cell;
use std::io::{IsTerminal, Write};
use std::time::{Duration, Instant};

use marktwice_run::{Answer, Question, Shown, Talk};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::ambient::{Real, interrupted};
use crate::human;

/// How long the question inside the open transaction waits.
const HOLD: Duration = Duration::from_secs(60);
/// How often an open question looks whether Ctrl-C was pressed.
const TICK: Timespec = Timespec { tv_sec: 0, tv_nsec: 100_000_000 };

/// Shows with `show` and asks on standard error.
pub(crate) struct Terminal<'a> {
    pub(crate) show: &'a mut dyn FnMut(&Shown<'_>),
    pub(crate) ambient: &'a Real,
    /// What is to be typed in place of yes, where the database is guarded.
    pub(crate) name: Option<&'a str>,
    /// Set where somebody wants to edit the change first; `None` where it is in no file.
    pub(crate) edits: Option<&'a Cell<bool>>,
}

/// What else may be answered than yes and no.
enum More<'a> {
    /// Nothing.
    No,
    /// To see all rows that there are, to be told what the answers do, and, where that is to be, to edit.
    Some { all: &'a dyn Fn() -> String, edits: Option<&'a Cell<bool>> },
}

impl Talk for Terminal<'_> {
    fn show(&mut self, shown: &Shown<'_>) {
        self.ambient.quiet();
        (self.show)(shown);
    }

    fn tell(&mut self, text: &str) {
        self.ambient.quiet();
        crate::out::tell(&format!("note: {}\n", human::one_line(text)));
    }

    fn ask(&mut self, question: &Question<'_>) -> Answer {
        self.ambient.quiet();
        match question {
            Question::Before(shown) => {
                let all = || match shown {
                    Shown::Change(preview) => human::preview(preview, false),
                    Shown::Undo(preview) => human::undo(preview, false),
                };
                let more = More::Some { all: &all, edits: self.edits };
                ask(&human::question(shown), self.name, None, &more)
            }
            Question::Inside { run, matched, changed } => {
                let text = human::question_inside(run, *matched, *changed);
                ask(&text, self.name, Some(Instant::now() + HOLD), &More::No)
            }
        }
    }
}

/// Asks something that has nothing to do with a run.
pub(crate) fn ask_plainly(text: &str) -> Answer {
    ask(text, None, None, &More::No)
}

fn ask(text: &str, name: Option<&str>, deadline: Option<Instant>, more: &More<'_>) -> Answer {
    if !std::io::stdin().is_terminal() {
        return Answer::NobodyThere;
    }
    let mut err = anstream::stderr();
    if let More::Some { edits, .. } = more {
        let words = if edits.is_some() {
            "all, edit and help are answers too"
        } else {
            "all and help are answers too"
        };
        let _ = writeln!(err, "{}", human::styled(human::DIM, words));
    }
    let _ = prompt(&mut err, text, name);
    let answer = loop {
        let typed = match read_line(deadline) {
            Ok(typed) => typed,
            Err(answer) => break answer,
        };
        match (typed.trim(), more) {
            (typed, _) if name == Some(typed) => break Answer::Yes,
            (typed, _) if name.is_none() && ["y", "yes"].contains(&typed.to_ascii_lowercase().as_str()) => {
                break Answer::Yes;
            }
            ("all", More::Some { all, .. }) => crate::out::print(&format!("\n{}\n", all())),
            ("help", More::Some { edits, .. }) => {
                let _ = writeln!(err, "{}", human::fit(&answers(name, edits.is_some())));
            }
            ("edit", More::Some { edits: Some(edits), .. }) => {
                edits.set(true);
                return Answer::No;
            }
            _ => break Answer::No,
        }
        let _ = prompt(&mut err, text, name);
    };
    if answer != Answer::Yes && answer != Answer::No {
        let _ = writeln!(err);
    }
    answer
}

fn prompt(err: &mut impl Write, text: &str, name: Option<&str>) -> std::io::Result<()> {
    match name {
        None => write!(err, "{} [y/N] ", human::fit(text)),
        Some(name) => {
            let text = human::fit(text);
            write!(err, "{text}\nThe database is guarded: type its name, {name}, to go on: ")
        }
    }?;
    err.flush()
}

/// What the answers do.
fn answers(name: Option<&str>, edits: bool) -> String {
    let yes = name.map_or("yes (or y)".to_owned(), |name| format!("{name} (the name of the database)"));
    let mut all = format!(
        "  {yes}: it is done, in one transaction that commits only if everything turns out as shown\n  all: show every row, up to {}\n",
        human::number(crate::html::MOST as u64)
    );
    if edits {
        all.push_str("  edit: open the change in your editor, preview it again, and ask again\n");
    }
    all.push_str("  help: this\n  anything else: nothing is begun");
    all
}

/// A line that somebody types, or why there is none.
fn read_line(deadline: Option<Instant>) -> Result<String, Answer> {
    let stdin = std::io::stdin();
    loop {
        if interrupted() {
            return Err(Answer::Interrupted);
        }
        if deadline.is_some_and(|d| Instant::now() >= d) {
            return Err(Answer::TooLate);
        }
        let mut fds = [PollFd::new(&stdin, PollFlags::IN)];
        match poll(&mut fds, Some(&TICK)) {
            Ok(0) | Err(rustix::io::Errno::INTR) => {}
            Ok(_) => break,
            Err(_) => return Err(Answer::NobodyThere),
        }
    }
    let mut line = String::new();
    match stdin.read_line(&mut line) {
        Ok(0) | Err(_) => Err(Answer::NobodyThere),
        Ok(_) => Ok(line),
    }
}
