//! Tokens with byte ranges in the source they came from.

pub mod slices;
pub mod tables;

use marktwice_core::finding::TextPlace;
use sqlparser::dialect::Dialect;
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer, Whitespace};

use crate::dialect::language::Language;
use crate::text::slices::Slice;

/// One token and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Tok {
    /// The token as the parser's tokenizer sees it.
    pub token: TokenWithSpan,
    /// Its bytes in the source.
    pub slice: Slice,
}

impl Tok {
    /// Whether it is white space or a comment.
    pub fn is_blank(&self) -> bool {
        matches!(self.token.token, Token::Whitespace(_))
    }

    /// The text of a block comment, without its delimiters.
    pub fn block_comment(&self) -> Option<&str> {
        match &self.token.token {
            Token::Whitespace(Whitespace::MultiLineComment(text)) => Some(text),
            _ => None,
        }
    }

    /// Whether it is the given keyword, unquoted, in any letter case.
    pub fn is_word(&self, word: &str) -> bool {
        matches!(&self.token.token, Token::Word(w) if w.quote_style.is_none() && w.value.eq_ignore_ascii_case(word))
    }

    /// Whether it is one of the given keywords.
    pub fn is_any(&self, words: &[&str]) -> bool {
        words.iter().any(|w| self.is_word(w))
    }

    /// Whether it is the given token.
    pub fn is(&self, token: &Token) -> bool {
        self.token.token == *token
    }

    /// The unquoted word in lower case.
    pub fn word(&self) -> Option<String> {
        match &self.token.token {
            Token::Word(w) if w.quote_style.is_none() => Some(w.value.to_ascii_lowercase()),
            _ => None,
        }
    }

    /// The name it stands for: a word, quoted or not, or a text in single quotes where the engine takes that.
    pub fn name(&self) -> Option<&str> {
        match &self.token.token {
            Token::Word(w) => Some(&w.value),
            Token::SingleQuotedString(s) => Some(s),
            _ => None,
        }
    }

    /// A form that is the same for any layout and letter case: what makes two statements "the same".
    pub fn normal(&self) -> String {
        match &self.token.token {
            Token::Word(w) if w.quote_style.is_none() => w.value.to_ascii_lowercase(),
            Token::Word(w) => format!("\"{}\"", w.value),
            other => other.to_string(),
        }
    }
}

/// A text that cannot even be cut into tokens.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct TokenError {
    /// What is wrong.
    pub message: String,
    /// Where.
    pub place: TextPlace,
}

/// All words and quoted names of a text; keywords are among them.
pub fn names(text: &str, language: Language) -> Vec<String> {
    let tokens = tokenize(text, language.dialect()).unwrap_or_default();
    tokens.iter().filter_map(|t| t.name().map(str::to_owned)).collect()
}

/// Names with another one before them, each pair once: `a.b` gives both, `a.b.c` the pairs in it.
pub fn qualified_names(text: &str, language: Language) -> Vec<(String, String)> {
    let tokens = tokenize(text, language.dialect()).unwrap_or_default();
    let tokens: Vec<_> = tokens.iter().filter(|t| !t.is_blank()).collect();
    let mut all = Vec::new();
    for three in tokens.windows(3) {
        if let [first, dot, second] = three
            && dot.is(&Token::Period)
            && let (Some(first), Some(second)) = (first.name(), second.name())
        {
            let pair = (first.to_owned(), second.to_owned());
            if !all.contains(&pair) {
                all.push(pair);
            }
        }
    }
    all
}

/// A condition in parentheses; a comment at its end would swallow what follows.
pub fn in_parentheses(condition: &str) -> String {
    let end = if condition.contains("--") || condition.contains('#') { "\n" } else { "" };
    format!("({condition}{end})")
}

/// Cuts `source` into tokens; together they cover it without a gap.
///
/// # Errors
/// When a quote or a comment is not closed, or a character cannot begin a token.
pub fn tokenize(source: &str, dialect: &dyn Dialect) -> Result<Vec<Tok>, TokenError> {
    let mut cursor = Cursor::new(source);
    let tokens = Tokenizer::new(dialect, source).tokenize_with_location().map_err(|error| {
        let at = cursor.offset(error.location.line, error.location.column);
        TokenError {
            message: sentence(&error.message),
            place: TextPlace::in_source(source, at, source.len().min(at + 1)),
        }
    })?;
    let mut toks: Vec<Tok> = Vec::with_capacity(tokens.len());
    for token in tokens {
        if token.token == Token::EOF {
            continue;
        }
        let start = cursor.offset(token.span.start.line, token.span.start.column);
        if let Some(last) = toks.last_mut() {
            last.slice.end = start;
        }
        toks.push(Tok { token, slice: Slice { start, end: source.len() } });
    }
    Ok(toks)
}

fn sentence(message: &str) -> String {
    let mut chars = message.trim_end_matches('.').chars();
    match chars.next() {
        Some(first) => first.to_lowercase().chain(chars).collect(),
        None => "the text cannot be read".to_owned(),
    }
}

/// Turns the tokenizer's lines and columns (in characters) into bytes. Tokens come in order, so it walks on from
/// the last place instead of counting a long line again for each.
struct Cursor<'a> {
    source: &'a str,
    line: u64,
    column: u64,
    at: usize,
}

impl<'a> Cursor<'a> {
    fn new(source: &'a str) -> Self {
        Cursor { source, line: 1, column: 1, at: 0 }
    }

    fn offset(&mut self, line: u64, column: u64) -> usize {
        if (line, column) < (self.line, self.column) {
            *self = Cursor::new(self.source);
        }
        for c in self.source.get(self.at..).unwrap_or("").chars() {
            if (self.line, self.column) >= (line, column) {
                break;
            }
            self.at += c.len_utf8();
            if c == '\n' {
                self.line += 1;
                self.column = 1;
            } else {
                self.column += 1;
            }
        }
        self.at
    }
}

/// The tokens of a slice, blanks and comments left out.
pub fn within(tokens: &[Tok], slice: Slice) -> Vec<&Tok> {
    // Tokens stand in the order of the text.
    let first = tokens.partition_point(|t| t.slice.start < slice.start);
    let rest = tokens.get(first..).unwrap_or_default();
    rest.iter().take_while(|t| t.slice.end <= slice.end).filter(|t| !t.is_blank()).collect()
}

/// The statements of a text: runs of tokens between semicolons that hold more than blanks and comments.
pub fn statements(tokens: &[Tok]) -> Vec<&[Tok]> {
    tokens.split(|t| t.is(&Token::SemiColon)).filter(|part| part.iter().any(|t| !t.is_blank())).collect()
}

/// The statements of a text, each without the semicolon behind it; the whole text where it cannot be cut.
pub fn split(source: &str, language: crate::Language) -> Vec<String> {
    let Ok(tokens) = tokenize(source, language.dialect()) else { return vec![source.to_owned()] };
    statements(&tokens)
        .into_iter()
        .filter_map(|part| {
            let words: Vec<&Tok> = part.iter().filter(|t| !t.is_blank()).collect();
            Some(words.first()?.slice.to(words.last()?.slice).of(source).to_owned())
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use sqlparser::dialect::SQLiteDialect;

    #[test]
    fn slices_cover_the_source_exactly() {
        let source = "UPDATE keeper -- ümlaut\r\n SET \"näme\" = 'it''s; é', x = x'00ff' /* ; */\n WHERE [a b] = 0x1F;\n";
        let toks = tokenize(source, &SQLiteDialect {}).unwrap();
        let joined: String = toks.iter().map(|t| t.slice.of(source)).collect();
        assert_eq!(joined, source);
        let of = |text: &str| toks.iter().any(|t| t.slice.of(source) == text);
        assert!(of("\"näme\"") && of("'it''s; é'") && of("[a b]"));
        assert_eq!(statements(&toks).len(), 1);
    }

    #[test]
    fn an_open_quote_is_placed() {
        let error = tokenize("UPDATE k\nSET a = 'x", &SQLiteDialect {}).unwrap_err();
        assert_eq!((error.place.line, error.place.column), (2, 9));
    }
}
