//! A terminal to run the program in: what it prints is read, what a person would type is written.

use std::io::{Read, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use pty_process::blocking::{Command, Pty, open};

/// The program in a terminal.
pub struct Terminal {
    child: std::process::Child,
    pty: Arc<Pty>,
    seen: Arc<Mutex<String>>,
}

/// Longer than any machine needs; only a hanging program meets it.
const PATIENCE: Duration = Duration::from_secs(120);

impl Terminal {
    pub(crate) fn open(
        program: &Path,
        args: &[&str],
        folder: &Path,
        environment: &[(&'static str, String)],
    ) -> Terminal {
        let (pty, slave) = open().expect("a terminal");
        pty.resize(pty_process::Size::new(40, 120)).expect("sized");
        let mut command = Command::new(program).args(args).current_dir(folder).env_clear();
        for (name, value) in environment {
            command = command.env(name, value);
        }
        let child = command.spawn(slave).expect("the program starts");
        let pty = Arc::new(pty);
        let seen = Arc::new(Mutex::new(String::new()));
        let (reader, into) = (Arc::clone(&pty), Arc::clone(&seen));
        std::thread::spawn(move || {
            let mut buffer = [0u8; 4096];
            // Reading fails when the program has closed its side: that is the end.
            while let Ok(n) = (&*reader).read(&mut buffer) {
                if n == 0 {
                    break;
                }
                into.lock().expect("seen").push_str(&String::from_utf8_lossy(&buffer[..n]));
            }
        });
        Terminal { child, pty, seen }
    }

    /// What was printed so far.
    pub fn seen(&self) -> String {
        self.seen.lock().expect("seen").clone()
    }

    /// Waits until `text` was printed.
    #[track_caller]
    pub fn wait_for(&mut self, text: &str) {
        let until = Instant::now() + PATIENCE;
        while !self.seen().contains(text) {
            assert!(Instant::now() < until, "no {text:?} in\n{}", self.seen());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Types.
    pub fn write(&mut self, text: &str) {
        (&*self.pty).write_all(text.as_bytes()).expect("typed");
    }

    /// Waits for the end and gives the exit status and all that was printed.
    pub fn end(mut self) -> (Option<i32>, String) {
        let until = Instant::now() + PATIENCE;
        loop {
            if let Some(status) = self.child.try_wait().expect("waited") {
                // What was printed last may still be on its way.
                std::thread::sleep(Duration::from_millis(100));
                return (status.code(), self.seen());
            }
            if Instant::now() > until {
                let _ = self.child.kill();
                panic!("it does not end:\n{}", self.seen());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Terminal {
    /// Ends the program as a power cut would: SIGKILL, to its own process only.
    pub fn kill(&mut self) {
        self.child.kill().expect("killed");
    }
}
