//! Values that stand for `:name`. Statements that fill a table, make a view or are copied take no parameters of the protocol's
//! own; so each value is bound into a setting of the transaction's, and read from there with its type. It never stands in a text.

use std::borrow::Cow;

use marktwice_core::Value;
use marktwice_core::finding::{Code, Finding, TextPlace};
use marktwice_core::param::{Bound, BoundAs, ParamKind};
use marktwice_port::EngineError;
use marktwice_relational::params::{keep, text};
use marktwice_sql::Language;
use marktwice_sql::query::placeholders::{Replaced, placeholders, replaced};
use postgres::types::Type;

use crate::client::Pg;
use crate::error::engine;

/// The setting of a parameter.
fn setting(name: &str) -> String {
    format!("marktwice.param_{name}")
}

/// The type that a value is read with.
fn type_of(bound: &Bound) -> String {
    match &bound.of {
        BoundAs::Column(declared) => declared.clone(),
        BoundAs::Kind(kind) => match kind {
            ParamKind::Text => "text",
            // A whole number in a text is of the smallest type that holds it.
            ParamKind::Integer => match bound.value {
                Value::Int(n) if i32::try_from(n).is_err() => "bigint",
                _ => "integer",
            },
            ParamKind::Decimal => "numeric",
            ParamKind::Real => "double precision",
            ParamKind::Boolean => "boolean",
            ParamKind::Date => "date",
            ParamKind::Time => "time",
            ParamKind::Moment => "timestamp",
        }
        .to_owned(),
    }
}

impl Pg {
    /// From now on `:name` stands for this value.
    pub(crate) fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        if self.inside {
            self.settle()?;
            self.set_param(&value)?;
        }
        keep(&mut self.params, value);
        Ok(())
    }

    fn set_param(&mut self, bound: &Bound) -> Result<(), EngineError> {
        let Some(text) = text(&bound.value) else { return Ok(()) };
        let setting = setting(&bound.name);
        self.client
            .execute("SELECT pg_catalog.set_config($1, $2, true)", &[&setting, &text])
            .map(|_| ())
            .map_err(engine)
    }

    /// Binds all values anew: they are the transaction's.
    pub(crate) fn set_params(&mut self) -> Result<(), EngineError> {
        for bound in self.params.clone() {
            self.settle()?;
            self.set_param(&bound)?;
        }
        Ok(())
    }

    /// Lets the server say which types the texts among the values have in a statement, as it would of texts that are written
    /// there in quotes.
    pub(crate) fn type_params(&mut self, sql: &str) -> Result<(), EngineError> {
        let texts: Vec<String> = self
            .params
            .iter()
            .filter(|bound| bound.of == BoundAs::Kind(ParamKind::Text))
            .map(|bound| bound.name.clone())
            .collect();
        let mut marked: Vec<String> = Vec::new();
        let numbered = replaced(sql, Language::Postgres, &mut |name| {
            if !texts.iter().any(|text| text == name) {
                return None;
            }
            let at = marked.iter().position(|known| known == name).unwrap_or_else(|| {
                marked.push(name.to_owned());
                marked.len() - 1
            });
            Some(format!("${}", at + 1))
        });
        let Some(numbered) = numbered else { return Ok(()) };
        let rest = self.sent(&numbered.text).into_owned();
        self.later("SAVEPOINT marktwice_typed");
        self.settle()?;
        let types: Option<Vec<u32>> =
            self.client.prepare(&rest).ok().map(|s| s.params().iter().map(Type::oid).collect());
        self.later("ROLLBACK TO SAVEPOINT marktwice_typed; RELEASE SAVEPOINT marktwice_typed");
        // What is wrong with it is told when it is compiled.
        for (name, of) in marked.iter().zip(types.into_iter().flatten()) {
            let said = self.one(&format!("SELECT pg_catalog.format_type({of}, NULL)"))?;
            let Some(said) = said else { continue };
            self.fits(sql, name, &said)?;
            if let Some(bound) = self.params.iter_mut().find(|bound| bound.name == *name) {
                bound.of = BoundAs::Column(said);
            }
        }
        Ok(())
    }

    /// Refuses a value that the server does not take as what it would have to be, where it stands first.
    fn fits(&mut self, sql: &str, name: &str, of: &str) -> Result<(), EngineError> {
        self.later("SAVEPOINT marktwice_fits");
        let tried = self
            .one(&format!("SELECT (pg_catalog.current_setting('{}', true)::{of}) IS NULL", setting(name)));
        self.later("ROLLBACK TO SAVEPOINT marktwice_fits; RELEASE SAVEPOINT marktwice_fits");
        let null = self.params.iter().any(|bound| bound.name == name && bound.value.is_null());
        let said = match tried {
            Ok(_) => return Ok(()),
            Err(EngineError::Interrupted) => return Err(EngineError::Interrupted),
            Err(said) => said,
        };
        if null {
            return Ok(());
        }
        let first = placeholders(sql, Language::Postgres).into_iter().find(|(_, found)| found == name);
        let finding =
            Finding::new(Code::NotUnderstood, format!(":{name} is to be of type {of} here: {said}"));
        let finding = match first {
            Some((range, _)) => finding.at(TextPlace::in_source(sql, range.start, range.end)),
            None => finding,
        };
        Err(EngineError::Refused(Box::new(
            finding.hint(format!("give a value that is one: --with {name}=VALUE")),
        )))
    }

    /// A text as it is sent; `None` where that is the very same.
    pub(crate) fn with_params(&self, sql: &str) -> Option<Replaced> {
        if self.params.is_empty() {
            return None;
        }
        replaced(sql, Language::Postgres, &mut |name| {
            let bound = self.params.iter().find(|bound| bound.name == name)?;
            let of = type_of(bound);
            Some(match text(&bound.value) {
                None => format!("(NULL::{of})"),
                Some(_) => format!("(pg_catalog.current_setting('{}')::{of})", setting(name)),
            })
        })
    }

    /// The same, as a text in any case.
    pub(crate) fn sent<'s>(&self, sql: &'s str) -> Cow<'s, str> {
        self.with_params(sql).map_or(Cow::Borrowed(sql), |replaced| Cow::Owned(replaced.text))
    }
}
