//! What the server did not compile, in words that help: where, and what may have been meant.

use marktwice_core::TextPlace;
use marktwice_core::finding::{Code, Finding};
use marktwice_port::EngineError;
use marktwice_relational::unknown::{syntax, unknown_name};
use marktwice_sql::Language;
use marktwice_sql::refuse::derived::in_derived_tables;
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::tables::tables_for;
use marktwice_sql::text::tokenize;

use crate::catalog::{known_columns, known_tables};
use crate::client::My;
use crate::error::{code, engine, message};

pub(crate) const LANGUAGE: Language = Language::Mysql;

pub(crate) fn refused(finding: Finding) -> EngineError {
    EngineError::Refused(Box::new(finding))
}

/// The text between single quotes behind `before`.
fn quoted_after<'a>(said: &'a str, before: &str) -> Option<&'a str> {
    let rest = said.split_once(before)?.1;
    rest.strip_prefix('\'')?.split('\'').next()
}

/// Says what the server did not compile, where, and what may have been meant.
pub(crate) fn compile_error(my: &mut My, source: &str, statement: Slice, error: mysql::Error) -> EngineError {
    let said = message(&error);
    let tokens = tokenize(source, LANGUAGE.dialect()).unwrap_or_default();
    let place = |name: &str| {
        let last = name.rsplit('.').next().unwrap_or(name);
        let token = tokens.iter().find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(last)));
        token.map_or((statement.start, statement.end), |t| (t.slice.start, t.slice.end))
    };
    match code(&error) {
        Some(1054) => {
            let name = quoted_after(&said, "column ").unwrap_or("").to_owned();
            let own = known_columns(my, &tables_for(source, LANGUAGE, &name));
            refused(unknown_name((LANGUAGE, source), place(&name), "column", &name, &own))
        }
        Some(1146 | 1109) => {
            let full = quoted_after(&said, "Table ").or_else(|| quoted_after(&said, "table ")).unwrap_or("");
            let name = full.rsplit('.').next().unwrap_or(full).to_owned();
            let known = known_tables(my);
            refused(unknown_name((LANGUAGE, source), place(&name), "table", &name, &known))
        }
        Some(1305 | 1630) => {
            let full = said.strip_prefix("FUNCTION ").and_then(|rest| rest.split(' ').next()).unwrap_or("");
            let name = full.rsplit('.').next().unwrap_or(full);
            let at = place(name);
            refused(unknown_name((LANGUAGE, source), at, "function", name, &[]))
        }
        Some(1064 | 1149) => {
            // The server quotes the text from the place on that it did not understand.
            let near = said
                .split_once("near '")
                .and_then(|(_, rest)| rest.rsplit_once("' at line "))
                .map_or("", |(n, _)| n);
            let text = statement.of(source);
            let start = text.rfind(near).filter(|_| !near.is_empty()).map(|at| statement.start + at);
            let (at, word) = match start {
                Some(start) => {
                    let token = tokens.iter().find(|t| t.slice.end > start && !t.is_blank());
                    let end = token.map_or(start + 1, |t| t.slice.end);
                    ((start, end), source.get(start..end))
                }
                None => ((statement.end, statement.end), None),
            };
            let said = match word {
                Some(word) => format!("the statement is not understood from {word} on"),
                None => "the statement ends too early".to_owned(),
            };
            EngineError::Refused(Box::new(syntax(source, statement, LANGUAGE, at, &said)))
        }
        Some(1288 | 1471 | 1348) => refused(
            Finding::new(Code::AView, said)
                .at(TextPlace::in_source(source, statement.start, statement.end))
                .hint("write the change for a base table"),
        ),
        Some(1052) => {
            let name = quoted_after(&said, "Column ").unwrap_or("").to_owned();
            let at = place(&name);
            refused(
                Finding::new(Code::AmbiguousName, format!("{name} is a column of several of these tables"))
                    .at(TextPlace::in_source(source, at.0, at.1))
                    .hint(format!("write the table or its alias before it: table.{name}")),
            )
        }
        Some(1093) => {
            let table = quoted_after(&said, "target table ").unwrap_or("").to_owned();
            let finding = Finding::new(
                Code::NotUnderstood,
                format!("MySQL reads no table in a statement that writes it: {table}"),
            )
            .at(TextPlace::in_source(source, statement.start, statement.end));
            refused(match in_derived_tables(source, statement) {
                Some(paste) => finding.hint("put what reads it into a derived table:").paste(paste),
                None => finding
                    .hint("put what reads it into a derived table: (SELECT … FROM (SELECT … ) AS again)"),
            })
        }
        Some(1060 | 1110 | 1111 | 1136 | 1222 | 1241 | 1242 | 1582 | 1583 | 1584) => {
            EngineError::Refused(Box::new(
                Finding::new(Code::NotUnderstood, said)
                    .at(TextPlace::in_source(source, statement.start, statement.end))
                    .hint("correct the statement"),
            ))
        }
        _ => engine(error),
    }
}
