//! Asking a person at a terminal, with Ctrl-C and a deadline.

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
        let (text, deadline) = match question {
            Question::Before(shown) => (human::question(shown), None),
            Question::Inside { run, matched, changed } => {
                (human::question_inside(run, *matched, *changed), Some(Instant::now() + HOLD))
            }
        };
        ask(&text, self.name, deadline)
    }
}

/// Asks something that has nothing to do with a run.
pub(crate) fn ask_plainly(text: &str) -> Answer {
    ask(text, None, None)
}

fn ask(text: &str, name: Option<&str>, deadline: Option<Instant>) -> Answer {
    if !std::io::stdin().is_terminal() {
        return Answer::NobodyThere;
    }
    let mut err = anstream::stderr();
    let _ = match name {
        None => write!(err, "{} [y/N] ", human::fit(text)),
        Some(name) => {
            write!(err, "{}\nThe database is guarded: type its name, {name}, to go on: ", human::fit(text))
        }
    };
    let _ = err.flush();
    let answer = read_answer(name, deadline);
    if answer != Answer::Yes && answer != Answer::No {
        let _ = writeln!(err);
    }
    answer
}

fn read_answer(name: Option<&str>, deadline: Option<Instant>) -> Answer {
    let stdin = std::io::stdin();
    loop {
        if interrupted() {
            return Answer::Interrupted;
        }
        if deadline.is_some_and(|d| Instant::now() >= d) {
            return Answer::TooLate;
        }
        let mut fds = [PollFd::new(&stdin, PollFlags::IN)];
        match poll(&mut fds, Some(&TICK)) {
            Ok(0) | Err(rustix::io::Errno::INTR) => {}
            Ok(_) => break,
            Err(_) => return Answer::NobodyThere,
        }
    }
    let mut line = String::new();
    match stdin.read_line(&mut line) {
        Ok(0) | Err(_) => Answer::NobodyThere,
        Ok(_) if name.is_some_and(|name| line.trim() == name) => Answer::Yes,
        Ok(_) if name.is_none() && ["y", "yes"].contains(&line.trim().to_ascii_lowercase().as_str()) => {
            Answer::Yes
        }
        Ok(_) => Answer::No,
    }
}
