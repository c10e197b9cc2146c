//! Sheets for people and scripts: rows of texts and numbers as CSV, JSON or Markdown; and lists of clips read from CSV.

use std::borrow::Cow;
use std::path::Path;

use nimble_curve_core::address::{is_formula, visible};
use serde_json::{Map, Value};

use crate::error::{Fault, FormatError};

/// How a sheet is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SheetFormat {
    /// Comma-separated values with a heading.
    Csv,
    /// A list of objects.
    Json,
    /// A table in Markdown.
    Markdown,
}

impl SheetFormat {
    /// The format that a file's ending names; `None` where it names none.
    pub fn of(path: &Path) -> Option<SheetFormat> {
        let ending = path.extension()?.to_str()?.to_ascii_lowercase();
        match ending.as_str() {
            "csv" => Some(SheetFormat::Csv),
            "json" => Some(SheetFormat::Json),
            "md" => Some(SheetFormat::Markdown),
            _ => None,
        }
    }
}

/// A text as a spreadsheet shows it: one that it would take for a formula begins with an apostrophe.
pub fn neutral(text: &str) -> Cow<'_, str> {
    // One that begins so already gets another, so that each comes back as it was.
    let stands = text.trim_start_matches('\'');
    if is_formula(stands) { Cow::Owned(format!("'{text}")) } else { Cow::Borrowed(text) }
}

/// What [`neutral`] was made of.
pub fn as_it_was(text: &str) -> &str {
    match text.strip_prefix('\'') {
        Some(rest) if is_formula(rest.trim_start_matches('\'')) => rest,
        _ => text,
    }
}

/// The text of a sheet: rows have a value for each heading; in CSV, `keeps_formulas` leaves texts that a spreadsheet would
/// take for formulas as they are.
pub fn sheet_text(
    headings: &[&str],
    rows: &[Vec<Value>],
    format: SheetFormat,
    keeps_formulas: bool,
) -> String {
    let plain = |value: &Value| match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Bool(yes) => if *yes { "yes" } else { "no" }.to_owned(),
        other => other.to_string(),
    };
    // Numbers may begin with a minus sign.
    let cell = |value: &Value| match value {
        Value::String(text) if !keeps_formulas => neutral(text).into_owned(),
        other => plain(other),
    };
    match format {
        SheetFormat::Csv => {
            let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
            let lines = std::iter::once(headings.iter().map(|heading| (*heading).to_owned()).collect())
                .chain(rows.iter().map(|row| row.iter().map(cell).collect::<Vec<String>>()));
            lines.for_each(|line| writer.write_record(line).expect("memory takes rows of any length"));
            let bytes = writer.into_inner().expect("memory takes everything");
            String::from_utf8(bytes).expect("rows are texts")
        }
        SheetFormat::Json => {
            let object = |row: &Vec<Value>| -> Value {
                let pairs = headings.iter().map(|heading| (*heading).to_owned()).zip(row.iter().cloned());
                Value::Object(pairs.collect::<Map<_, _>>())
            };
            let all: Vec<Value> = rows.iter().map(object).collect();
            serde_json::to_string_pretty(&all).expect("values are JSON") + "\n"
        }
        SheetFormat::Markdown => {
            let escaped = |text: String| visible(&text.replace('\n', " ").replace('|', "\\|")).into_owned();
            let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
            let mut text = line(headings.iter().map(|heading| (*heading).to_owned()).collect());
            let sides = (0..headings.len()).map(|column| {
                let numbers = rows.iter().all(|row| row[column].is_number() || row[column].is_null());
                if numbers { "---:" } else { "---" }.to_owned()
            });
            text.push_str(&line(sides.collect()));
            for row in rows {
                text.push_str(&line(row.iter().map(|value| escaped(plain(value))).collect()));
            }
            text
        }
    }
}

/// A clip as a list names it: frames, both included.
#[derive(Clone, Debug, PartialEq)]
pub struct ListedClip {
    /// The name.
    pub name: String,
    /// The first frame.
    pub first: f64,
    /// The last frame.
    pub last: f64,
    /// Anything to be handed on with it.
    pub note: Option<String>,
    /// The take, where the list says one.
    pub take: Option<String>,
}

/// Reads a list of clips: a CSV file with the columns `name`, `first`, `last`, and perhaps `take` and `note`; others are
/// passed over.
///
/// # Errors
/// With the line on which something is wrong, see [`FormatError`].
pub fn read_clip_list(path: &Path) -> Result<Vec<ListedClip>, FormatError> {
    let text = std::fs::read_to_string(path)
        .map_err(|source| FormatError::Read { path: path.to_owned(), source })?;
    parse_clip_list(&text).map_err(|fault| fault.in_file(path))
}

/// Reads a list of clips from its text.
///
/// # Errors
/// With the line on which something is wrong.
pub fn parse_clip_list(text: &str) -> Result<Vec<ListedClip>, Fault> {
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).flexible(true).from_reader(text.as_bytes());
    let headings = reader.headers().map_err(|error| Fault::on_line(1, error.to_string()))?.clone();
    let column = |name: &str| headings.iter().position(|heading| heading.eq_ignore_ascii_case(name));
    let needed = |name: &str| {
        column(name).ok_or_else(|| {
            Fault::on_line(1, format!("the list has no column '{name}': its heading is name,first,last"))
        })
    };
    let (name, first, last) = (needed("name")?, needed("first")?, needed("last")?);
    let (take, note) = (column("take"), column("note"));
    let mut clips: Vec<ListedClip> = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| {
            let line = error.position().map_or(1, |position| position.line() as usize);
            Fault::on_line(line, error.to_string())
        })?;
        let line = record.position().map_or(1, |position| position.line() as usize);
        let frame = |column: usize| -> Result<f64, Fault> {
            let text = record.get(column).unwrap_or("");
            let number = text.parse::<f64>().ok().filter(|frame| frame.is_finite());
            number.ok_or_else(|| Fault::on_line(line, format!("'{text}' is not a frame")))
        };
        let text = |column: Option<usize>| {
            column
                .and_then(|column| record.get(column))
                .filter(|text| !text.is_empty())
                .map(|text| as_it_was(text).to_owned())
        };
        let (from, to) = (frame(first)?, frame(last)?);
        if from > to {
            return Err(Fault::on_line(line, format!("the clip ends before it starts: {from} to {to}")));
        }
        let name = text(Some(name)).ok_or_else(|| Fault::on_line(line, "the clip has no name"))?;
        if clips.iter().any(|clip| clip.name == name && clip.take == text(take)) {
            return Err(Fault::on_line(line, format!("there is a clip '{name}' already")));
        }
        clips.push(ListedClip { name, first: from, last: to, note: text(note), take: text(take) });
    }
    if clips.is_empty() {
        return Err(Fault::on_line(1, "the list names no clip"));
    }
    Ok(clips)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sheets_are_written_three_ways() {
        let rows = vec![vec![Value::from("a|b"), Value::from(3), Value::Null, Value::from(true)]];
        let heads = ["name", "first", "note", "loops"];
        assert_eq!(sheet_text(&heads, &rows, SheetFormat::Csv, false), "name,first,note,loops\na|b,3,,yes\n");
        let json: Value = serde_json::from_str(&sheet_text(&heads, &rows, SheetFormat::Json, false)).unwrap();
        assert_eq!(json, serde_json::json!([{"name": "a|b", "first": 3, "note": null, "loops": true}]));
        let markdown = sheet_text(&heads, &rows, SheetFormat::Markdown, false);
        assert_eq!(
            markdown,
            "| name | first | note | loops |\n| --- | ---: | ---: | --- |\n| a\\|b | 3 |  | yes |\n"
        );
    }

    #[test]
    fn texts_that_look_like_formulas_are_texts_and_come_back() {
        for text in ["=1+1", "+x", "-x", "@x", "\tx", "'=x", "''=x", "plain", "'plain", ""] {
            let shown = neutral(text);
            assert!(!is_formula(&shown), "{shown}");
            assert_eq!(as_it_was(&shown), text);
        }
        let rows = vec![vec![Value::from("=cmd|' /C calc'!A0"), Value::from(-3)]];
        let sheet = |keeps| sheet_text(&["name", "first"], &rows, SheetFormat::Csv, keeps);
        assert_eq!(sheet(false), "name,first\n'=cmd|' /C calc'!A0,-3\n");
        assert_eq!(sheet(true), "name,first\n=cmd|' /C calc'!A0,-3\n");
        let clips = parse_clip_list(&format!("{},last\n'=walk,1,24\n", "name,first")).unwrap();
        assert_eq!(clips[0].name, "=walk");
    }

    #[test]
    fn lists_are_read_and_their_mistakes_named_by_line() {
        let clips = parse_clip_list("first,last,name,more\n1,24,walk,x\n30.5,48,run,y\n").unwrap();
        assert_eq!((clips.len(), clips[1].first, clips[1].name.as_str()), (2, 30.5, "run"));
        for (text, said) in [
            ("name,first\na,1\n", "1: the list has no column 'last'"),
            ("name,first,last\na,1,x\n", "2: 'x' is not a frame"),
            ("name,first,last\na,1,9\nb,9,1\n", "3: the clip ends before it starts"),
            ("name,first,last\na,1,9\na,10,19\n", "3: there is a clip 'a' already"),
            ("name,first,last\n,1,9\n", "2: the clip has no name"),
            ("name,first,last\n", "names no clip"),
        ] {
            let error = parse_clip_list(text).unwrap_err().in_file(Path::new("list.csv")).to_string();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
