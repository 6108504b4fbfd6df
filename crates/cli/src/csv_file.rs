//! Spreadsheets that are read: CSV as offices write it. What separates cells, whether a comma stands before the decimals and how
//! days are written is told by the change file, or guessed from the first lines; the preview says which it was.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};

use csv::{Reader, ReaderBuilder, StringRecord};
use marktwice_change::sheets::SheetBlock;
use marktwice_core::hash::Running;
use marktwice_core::sheet::{Days, Form, Sheet, plain_number};
use marktwice_port::SheetLines;

use crate::report::Trouble;

/// Bytes of the beginning that are looked at for what separates cells.
const BEGINNING: usize = 64 * 1024;
/// Lines that are looked at for how numbers and days are written.
const SAMPLE: usize = 500;

/// The mark that some programs put before UTF-8.
const MARK: &[u8] = b"\xef\xbb\xbf";

fn wrong(path: &Path, what: impl std::fmt::Display, hint: &str) -> Trouble {
    Trouble::usage(format!("{}: {what}", path.display()), hint)
}

/// What a sheet is, once its file was read through.
pub(crate) fn look(name: &str, path: &Path, block: &SheetBlock) -> Result<Sheet, Trouble> {
    let unreadable = |e: std::io::Error| {
        Trouble::usage(format!("{} cannot be read: {e}", path.display()), "name a CSV file")
    };
    let mut file = File::open(path).map_err(unreadable)?;
    let mut beginning = vec![0; BEGINNING];
    let mut got = 0;
    loop {
        let read = file.read(beginning.get_mut(got..).unwrap_or_default()).map_err(unreadable)?;
        got += read;
        if read == 0 || got == BEGINNING {
            break;
        }
    }
    beginning.truncate(got);
    if beginning.starts_with(b"\xff\xfe") || beginning.starts_with(b"\xfe\xff") || beginning.contains(&0) {
        return Err(wrong(path, "it is no UTF-8 text", "save it as CSV in UTF-8"));
    }
    let separator = match block.separator {
        Some(separator) => separator,
        None => separator_of(&beginning),
    };
    let whole = std::fs::canonicalize(path).map_err(unreadable)?;
    let more = behind(&whole).map_err(unreadable)?;
    let close = "close the quote; a quote inside a cell is written twice";
    quotes(&whole, separator).map_err(unreadable)?.map_err(|what| wrong(path, what, close))?;
    let mut records = open(&whole, separator).map_err(unreadable)?;
    let save = "save it again as CSV in UTF-8, with the names of the columns in the first line";
    let head = records.headers().map_err(|e| wrong(path, in_words(&e, more), save))?.clone();
    let columns = names(&head).map_err(|what| wrong(path, what, save))?;
    let mut guess = Guess::default();
    let mut lines = 0;
    let mut record = StringRecord::new();
    while records.read_record(&mut record).map_err(|e| wrong(path, in_words(&e, more), save))? {
        if lines < SAMPLE as u64 {
            record.iter().for_each(|cell| guess.cell(cell));
        }
        lines += 1;
    }
    let decimal_comma = match block.decimal {
        Some(',') => true,
        Some('.') => false,
        Some(other) => return Err(wrong(path, format!("decimal = \"{other}\""), "say \",\" or \".\"")),
        None => guess
            .decimal_comma()
            .map_err(|what| wrong(path, what, "say it: [sheet.NAME] decimal = \",\" or \".\""))?,
    };
    let days = match block.days {
        Some(days) => days,
        None => guess
            .days()
            .map_err(|what| wrong(path, what, "say it: [sheet.NAME] days = \"day-month-year\""))?,
    };
    let form = Form { separator, decimal_comma, days, null: block.null.clone() };
    let mut types = BTreeMap::new();
    for (column, kind) in &block.types {
        if !columns.iter().any(|c| c == column) {
            return Err(wrong(path, format!("it has no column {column}, whose type is said"), save));
        }
        types.insert(column.clone(), *kind);
    }
    let hash = hash(&whole).map_err(unreadable)?;
    let file = whole.display().to_string();
    Ok(Sheet { name: name.to_owned(), file, hash, form, columns, types, lines })
}

fn hash(path: &Path) -> std::io::Result<String> {
    let (mut file, mut hash, mut buffer) = (File::open(path)?, Running::default(), vec![0; 128 * 1024]);
    loop {
        let got = file.read(&mut buffer)?;
        if got == 0 {
            return Ok(hash.finish());
        }
        hash.add(buffer.get(..got).unwrap_or_default());
    }
}

fn open(path: &Path, separator: char) -> std::io::Result<Reader<Box<dyn Read>>> {
    let mut file = BufReader::new(File::open(path)?);
    let mut first = [0; 3];
    let mut got = 0;
    while got < 3 {
        match file.read(first.get_mut(got..).unwrap_or_default())? {
            0 => break,
            n => got += n,
        }
    }
    let first = first.get(..got).unwrap_or_default();
    let own = if first == MARK { Vec::new() } else { first.to_vec() };
    let whole: Box<dyn Read> = Box::new(std::io::Cursor::new(own).chain(file));
    let separator = u8::try_from(separator).unwrap_or(b',');
    Ok(ReaderBuilder::new().delimiter(separator).from_reader(whole))
}

/// Looks that every quote is closed: the library takes one that is open as if its cell went on to the end of the file.
fn quotes(path: &Path, separator: char) -> std::io::Result<Result<(), String>> {
    #[derive(PartialEq)]
    enum At {
        Start,
        Plain,
        Quoted,
        /// Behind a quote in a quoted cell: it ends there, or another quote stands for one in the text.
        Behind,
    }
    let (mut line, mut opened, mut at) = (1u64, 1u64, At::Start);
    for byte in BufReader::new(File::open(path)?).bytes() {
        let byte = byte?;
        let ends = byte == b'\n' || byte == b'\r' || char::from(byte) == separator;
        at = match (at, byte) {
            (At::Start, b'"') => {
                opened = line;
                At::Quoted
            }
            // The mark before UTF-8 is no part of the first cell.
            (At::Start, byte) if MARK.contains(&byte) && line == 1 => At::Start,
            (At::Quoted, b'"') => At::Behind,
            (At::Behind, b'"') => At::Quoted,
            (At::Quoted, _) => At::Quoted,
            (At::Behind, _) if !ends => {
                return Ok(Err(format!("line {line}: text stands behind the closing quote of a cell")));
            }
            (_, _) if ends => At::Start,
            (_, _) => At::Plain,
        };
        line += u64::from(byte == b'\n');
    }
    Ok(match at {
        At::Quoted => Err(format!("line {opened}: the quote of a cell is not closed")),
        At::Start | At::Plain | At::Behind => Ok(()),
    })
}

/// How many lines more than the library counts: it takes the second of two characters that end a line for a part of the next one.
fn behind(path: &Path) -> std::io::Result<u64> {
    let mut beginning = Vec::new();
    File::open(path)?.take(BEGINNING as u64).read_to_end(&mut beginning)?;
    let end = beginning.iter().position(|b| *b == b'\n').unwrap_or(0);
    Ok(u64::from(end > 0 && beginning.get(end - 1) == Some(&b'\r')))
}

/// The lines of a sheet, from its file, which must be the one that it was.
pub(crate) fn lines(sheet: &Sheet) -> Result<SheetLines, String> {
    let path = PathBuf::from(&sheet.file);
    let unreadable = |e: std::io::Error| format!("{} cannot be read: {e}", sheet.file);
    if hash(&path).map_err(unreadable)? != sheet.hash {
        return Err(format!("{} has changed since it was first read", sheet.file));
    }
    let more = behind(&path).map_err(unreadable)?;
    let records = open(&path, sheet.form.separator).map_err(unreadable)?;
    Ok(Box::new(records.into_records().map(move |record| {
        let record = record.map_err(|e| in_words(&e, more))?;
        let line = record.position().map_or(0, csv::Position::line) + more;
        Ok((line, record.iter().map(str::to_owned).collect()))
    })))
}

/// What is wrong with a file, and in which line.
fn in_words(error: &csv::Error, more: u64) -> String {
    let line = |position: &Option<csv::Position>| {
        position.as_ref().map_or(String::new(), |at| format!("line {}: ", at.line() + more))
    };
    match error.kind() {
        csv::ErrorKind::UnequalLengths { pos, expected_len, len } => {
            format!(
                "{}{len} cells, where the first line names {expected_len} columns (an open quote takes in what follows)",
                line(pos)
            )
        }
        csv::ErrorKind::Utf8 { pos, err } => {
            format!("{}cell {} is no UTF-8 text", line(pos), err.field() + 1)
        }
        _ => error.to_string(),
    }
}

/// What separates cells: what stands most often in the first line, outside of quotes.
fn separator_of(beginning: &[u8]) -> char {
    let text = String::from_utf8_lossy(beginning);
    let mut quoted = false;
    let mut counts = [(',', 0), (';', 0), ('\t', 0), ('|', 0)];
    for c in text.chars() {
        match c {
            '"' => quoted = !quoted,
            '\n' if !quoted => break,
            _ if quoted => {}
            _ => counts.iter_mut().filter(|(sign, _)| *sign == c).for_each(|(_, n)| *n += 1),
        }
    }
    let most = counts.iter().max_by_key(|(_, n)| *n);
    most.filter(|(_, n)| *n > 0).map_or(',', |(sign, _)| *sign)
}

/// The names of columns, blanks around them left out.
fn names(head: &StringRecord) -> Result<Vec<String>, String> {
    let all: Vec<String> = head.iter().map(|name| name.trim().to_owned()).collect();
    if all.iter().all(String::is_empty) {
        return Err("its first line names no columns".to_owned());
    }
    for (at, name) in all.iter().enumerate() {
        if name.is_empty() {
            return Err(format!("column {} has no name", at + 1));
        }
        if all.iter().take(at).any(|other| other.eq_ignore_ascii_case(name)) {
            return Err(format!("two columns are called {name}"));
        }
    }
    Ok(all)
}

/// What the first lines show of numbers and days.
#[derive(Debug, Default)]
struct Guess {
    commas: u64,
    points: u64,
    /// Days with the day first, with the month first, and such as may be either.
    day_first: u64,
    month_first: u64,
    either: u64,
    /// A number whose comma may be a decimal one or stand between thousands, and whether another shows which.
    open: Option<String>,
    grouped: bool,
}

impl Guess {
    fn cell(&mut self, text: &str) {
        let text = text.trim();
        let form = |decimal_comma| Form { separator: ',', decimal_comma, days: Days::Iso, null: None };
        let behind = |sign: char| text.rsplit_once(sign).is_some_and(|(_, rest)| rest.len() != 3);
        if text.contains(',') && plain_number(text, &form(true)).is_some() && behind(',') {
            self.commas += 1;
        } else if text.contains('.') && plain_number(text, &form(false)).is_some() && behind('.') {
            self.points += 1;
        } else if text.matches(',').count() == 1 && plain_number(text, &form(true)).is_some() {
            if text.starts_with("0,") || plain_number(text, &form(false)).is_none() {
                self.commas += 1;
                return;
            }
            self.open.get_or_insert_with(|| text.to_owned());
        } else if text.contains(',') && plain_number(text, &form(false)).is_some() {
            self.grouped = true;
        }
        let parts: Vec<&str> = text.split([' ', 'T']).next().unwrap_or_default().split(['.', '/']).collect();
        if let [a, b, c] = parts.as_slice()
            && c.len() == 4
            && let (Ok(a), Ok(b), Ok(_)) = (a.parse::<u32>(), b.parse::<u32>(), c.parse::<u32>())
        {
            match (a, b) {
                // Points are never written with the month first.
                _ if text.contains('.') => self.day_first += 1,
                (13..=31, 1..=12) => self.day_first += 1,
                (1..=12, 13..=31) => self.month_first += 1,
                (1..=12, 1..=12) => self.either += 1,
                _ => {}
            }
        }
    }

    fn decimal_comma(&self) -> Result<bool, String> {
        match &self.open {
            Some(number) if self.commas + self.points == 0 && !self.grouped => Err(format!(
                "its number {number} can be read in two ways: the comma may be a decimal one, or stand between thousands"
            )),
            _ => Ok(self.commas > 0 && self.points == 0),
        }
    }

    fn days(&self) -> Result<Days, String> {
        match (self.day_first, self.month_first, self.either) {
            (0, 0, 0) => Ok(Days::Iso),
            (0, 0, _) => Err("its days can be read in two ways: day or month first".to_owned()),
            (_, 0, _) => Ok(Days::DayMonthYear),
            (0, _, _) => Ok(Days::MonthDayYear),
            _ => Err("some of its days have the day first, and others the month".to_owned()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(text: &[u8], block: &SheetBlock) -> Result<Sheet, String> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("prices.csv");
        std::fs::write(&path, text).unwrap();
        let found = look("prices", &path, block).map_err(|trouble| trouble.message.to_string());
        if let Ok(sheet) = &found {
            let all: Vec<u64> = lines(sheet).unwrap().map(|line| line.unwrap().0).collect();
            assert_eq!(all.len() as u64, sheet.lines);
            assert_eq!(all.first(), Some(&2));
        }
        found
    }

    #[test]
    fn what_offices_write() {
        let block = SheetBlock::default();
        let of = |text: &str| sheet(text.as_bytes(), &block);
        let german =
            of("\u{feff}id;price;day\r\n1;\"1.234,50\";10.05.2026\r\n2;3,5;\"11.05.2026\"\r\n").unwrap();
        assert_eq!((german.form.separator, german.form.decimal_comma), (';', true));
        assert_eq!((german.form.days, german.lines), (Days::DayMonthYear, 2));
        assert_eq!(german.columns, ["id", "price", "day"]);
        let plain = of("id,note\n1,\"two\nlines, and a comma\"\n2,\n").unwrap();
        assert_eq!((plain.form.separator, plain.form.decimal_comma, plain.lines), (',', false, 2));
        assert_eq!(of("id\tday\n1\t05/13/2026\n").unwrap().form.days, Days::MonthDayYear);
        for (text, says) in [
            (&b"id,a\n1,2,3\n"[..], "line 2: 3 cells"),
            (b"id,a\n1,\"open\n2,b\n", "line 2: the quote of a cell is not closed"),
            (b"id,a\n1,2\n3,\"b\"c\n", "line 3: text stands behind the closing quote"),
            (b"id,id\n", "two columns are called id"),
            (b"id,\n", "column 2 has no name"),
            (b"\xff\xfei\0d\0", "no UTF-8"),
            (b"id,a\n1,\xe4\n", "line 2: cell 2 is no UTF-8"),
            (b"day\n05/06/2026\n", "read in two ways"),
        ] {
            let said = sheet(text, &block).unwrap_err();
            assert!(said.contains(says), "{said}");
        }
        let told = SheetBlock { days: Some(Days::DayMonthYear), ..SheetBlock::default() };
        assert_eq!(sheet(b"day\n05/06/2026\n", &told).unwrap().form.days, Days::DayMonthYear);
    }
}
