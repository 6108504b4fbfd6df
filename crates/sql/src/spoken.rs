//! What the rest of the program asks of a language without knowing it: where the steps of a text are, and plain statements.

use marktwice_core::finding::TextPlace;
use marktwice_port::{self as port, Composed, Cut, Draft, Uncomposed};

use crate::compose;
use crate::dialect::language::Language;
use crate::statement::slicing::{AROUND, main_verb};
use crate::text::{Tok, statements, tokenize};

impl port::Language for Language {
    fn cut(&self, text: &str) -> Result<Cut, TextPlace> {
        let tokens = tokenize(text, self.dialect()).map_err(|error| error.place)?;
        let inside = |t: &Tok| {
            let comment = t.block_comment()?;
            let start = t.slice.start + 2;
            Some(start..start + comment.len())
        };
        let comments = tokens.iter().filter_map(inside).collect();
        let all: Vec<Vec<&Tok>> = statements(&tokens)
            .into_iter()
            .map(|part| part.iter().filter(|t| !t.is_blank()).collect())
            .collect();
        // Should one of them be none that a change may hold, the text is refused as a whole, with what to leave out.
        let odd = |words: &Vec<&Tok>| main_verb(words).is_none_or(|verb| verb.is_any(AROUND));
        let range = |words: &Vec<&Tok>| Some(words.first()?.slice.start..words.last()?.slice.end);
        if all.iter().any(odd) {
            let whole = all.first().zip(all.last());
            let whole =
                whole.and_then(|(first, last)| Some(first.first()?.slice.start..last.last()?.slice.end));
            return Ok(Cut { comments, steps: whole.into_iter().collect() });
        }
        Ok(Cut { comments, steps: all.iter().filter_map(range).collect() })
    }

    fn compose(&self, draft: &Draft<'_>) -> Result<Composed, Uncomposed> {
        compose::compose(*self, draft)
    }

    fn table_name(&self, typed: &str) -> (Option<String>, String) {
        compose::table_name(typed)
    }

    fn comment(&self, lines: &[String]) -> String {
        lines
            .iter()
            .map(|line| format!("-- {}", line.replace(['\n', '\r'], " ")).trim_end().to_owned() + "\n")
            .collect()
    }

    fn end(&self) -> &'static str {
        ";"
    }
}
