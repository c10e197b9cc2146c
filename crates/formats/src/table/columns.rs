//! Other names for the columns of a table: what a device calls them, and what they are.

use std::collections::BTreeMap;
use std::path::Path;

use super::cells::{delimiter, without_head};
use crate::error::{Fault, FormatError};

/// Column names of a table, each with the name that it is read by; `-` leaves a column aside.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Columns(BTreeMap<String, String>);

impl Columns {
    /// Reads a TOML file of lines `"name in the table" = "what it is"`.
    ///
    /// # Errors
    /// With the line that is wrong.
    pub fn read(path: &Path) -> Result<Columns, FormatError> {
        let failed = |source| FormatError::Read { path: path.to_owned(), source };
        let text = std::fs::read_to_string(path).map_err(failed)?;
        let found = toml::from_str::<BTreeMap<String, String>>(&text);
        found.map(Columns).map_err(|error| {
            let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
            let said = error.message().lines().next().unwrap_or_default().to_owned();
            Fault::on_line(line, format!("{said}: write \"column\" = \"what it is\"")).in_file(path)
        })
    }

    /// A table with its columns called so.
    ///
    /// # Errors
    /// Where the table lacks one that there is a name for.
    pub fn renamed(&self, table: &str) -> Result<String, Fault> {
        let (head, rest) = without_head(table);
        let separator = delimiter(rest);
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator)
            .has_headers(false)
            .flexible(true)
            .from_reader(rest.as_bytes());
        let mut row = csv::StringRecord::new();
        let cannot = || Fault::on_line(1, "the row of names cannot be read: check its quotes");
        reader.read_record(&mut row).map_err(|_| cannot())?;
        let end = reader.position().byte() as usize;
        let has = |name: &String| row.iter().any(|cell| cell.trim() == name);
        if let Some(missing) = self.0.keys().find(|name| !has(name)) {
            let some: Vec<&str> = row.iter().take(8).map(str::trim).collect();
            return Err(Fault::on_line(
                1,
                format!("there is no column '{missing}': they are {}", some.join(", ")),
            ));
        }
        let mut writer = csv::WriterBuilder::new().delimiter(separator).from_writer(Vec::new());
        let names = row.iter().map(|cell| self.0.get(cell.trim()).map_or(cell, String::as_str));
        writer.write_record(names).map_err(|_| cannot())?;
        let names = writer.into_inner().map_err(|_| cannot())?;
        Ok(format!("{head}{}{}", String::from_utf8_lossy(&names), &rest[end..]))
    }
}
