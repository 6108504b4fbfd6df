//! Trouble that ends a command before it has a result, and how it is told.

use marktwice_change::ChangeError;
use marktwice_core::TextPlace;
use marktwice_core::finding::Paste;
use marktwice_network::address::without_secrets_in;
use marktwice_run::Failure;

use crate::exit;

/// One clear error: what is wrong, where, what to do, and the exit status.
#[derive(Debug, Clone)]
pub(crate) struct Trouble {
    pub(crate) message: Box<str>,
    /// The database it is about, once that is known.
    pub(crate) on: Option<Box<str>>,
    pub(crate) file: Option<Box<str>>,
    pub(crate) place: Option<Box<TextPlace>>,
    pub(crate) hint: Option<String>,
    /// What to write instead, ready to be pasted.
    pub(crate) paste: Option<Box<Paste>>,
    pub(crate) code: Option<&'static str>,
    pub(crate) status: u8,
}

impl Trouble {
    /// A request that cannot be meant.
    pub(crate) fn usage(message: impl Into<String>, hint: impl Into<String>) -> Trouble {
        Trouble {
            message: message.into().into(),
            on: None,
            file: None,
            place: None,
            hint: Some(hint.into()),
            paste: None,
            code: None,
            status: exit::USAGE,
        }
    }

    /// With its place.
    pub(crate) fn at(mut self, file: String, place: TextPlace) -> Trouble {
        self.file = Some(file.into_boxed_str());
        self.place = Some(Box::new(place));
        self
    }

    /// As it may be shown: what might be an address is without its password, in whatever it was typed.
    pub(crate) fn without_secrets(self) -> Trouble {
        let cut = |text: &str| without_secrets_in(text);
        Trouble {
            message: cut(&self.message).into(),
            on: self.on.map(|on| cut(&on).into()),
            file: self.file.map(|file| cut(&file).into()),
            hint: self.hint.map(|hint| cut(&hint)),
            ..self
        }
    }

    /// With the database that it is about.
    pub(crate) fn on(self, shown: &str) -> Trouble {
        Trouble { on: Some(shown.into()), ..self }
    }

    /// With the commands in it complete (see [`crate::printed::complete`]).
    pub(crate) fn complete(self, on: &str) -> Trouble {
        let complete = |text: &str| crate::printed::complete(text, on);
        Trouble { message: complete(&self.message).into(), hint: self.hint.as_deref().map(complete), ..self }
    }

    /// What is wrong with a change file.
    pub(crate) fn change(error: ChangeError, file: &str) -> Trouble {
        let trouble = Trouble::usage(error.message, error.hint);
        match error.place {
            Some(place) => trouble.at(file.to_owned(), place),
            None => trouble,
        }
    }

    /// A failure of a use case; `file` names the text that places are in.
    pub(crate) fn failure(failure: &Failure, file: &str) -> Trouble {
        let finding = failure.finding();
        let hint = match failure {
            Failure::Usage { hint, .. } => Some(hint.clone()),
            Failure::Unsettled { .. } => Some("run `marktwice settle`".to_owned()),
            _ => finding.map(|f| f.remedy().to_owned()).or_else(|| engine_hint(failure)),
        };
        Trouble {
            message: failure.to_string().into(),
            on: None,
            file: finding.and_then(|f| f.place.as_ref()).map(|_| file.into()),
            place: finding.and_then(|f| f.place.clone()).map(Box::new),
            hint,
            paste: finding.and_then(|f| f.paste.clone()),
            code: finding.map(|f| f.code.as_str()),
            status: exit::of_failure(failure),
        }
    }
}

fn engine_hint(failure: &Failure) -> Option<String> {
    use marktwice_port::{Constraint, EngineError, LogErrorKind, Overtaken, Unusable};
    let hint = match failure {
        Failure::Engine(error) => match error {
            EngineError::Unusable(Unusable::Missing, _) => "check the address of the database",
            EngineError::Unusable(Unusable::Address, _) => "correct the address",
            EngineError::Unusable(Unusable::NotADatabase, _) => "name a SQLite database file with --on",
            EngineError::Unusable(Unusable::ReadOnly, _) => {
                "it must be writable for you: a file and its folder, or on a server the primary"
            }
            EngineError::Unusable(Unusable::Locked, _) => {
                "try again when the other process has finished, or wait longer with --wait SECONDS"
            }
            // These are one engine's own words; the others enforce foreign keys for everybody.
            EngineError::Constraint(broken)
                if broken.message.starts_with("FOREIGN KEY constraint failed") =>
            {
                "foreign keys are enforced here, though SQLite leaves them off by default: see to the other rows first"
            }
            EngineError::Constraint(broken) if broken.kind == Constraint::ForeignKey => {
                "see to the other rows first: the parent that is named, or the children that refer to this row"
            }
            EngineError::Constraint(_) => "correct the statement, or the rows it runs into",
            EngineError::Unusable(Unusable::Denied, _) => {
                "ask the owner of the database for what is missing, or use another user"
            }
            EngineError::Overtaken(Overtaken::Rows, _) => "look at the preview again",
            EngineError::Unusable(Unusable::NoSpace, _) => "make room and try again",
            EngineError::Overtaken(Overtaken::Transaction, _) => "look at the triggers of the table",
            _ => return None,
        },
        Failure::Log(error) => match error.kind {
            LogErrorKind::Io | LogErrorKind::NoSpace => {
                "name a folder that can be written with --logbook DIR"
            }
            LogErrorKind::Damaged => "do not rely on this file; keep a copy of it",
            LogErrorKind::Newer => "use the newer marktwice that wrote it",
            LogErrorKind::NotFound => "`marktwice history` and `marktwice preview` show what there is",
            LogErrorKind::Key => {
                "name the right key_file under [logbook] in marktwice.toml; marktwice key FILE makes a new one for new runs"
            }
            LogErrorKind::Busy | LogErrorKind::Ambiguous => return None,
        },
        _ => return None,
    };
    Some(hint.to_owned())
}
