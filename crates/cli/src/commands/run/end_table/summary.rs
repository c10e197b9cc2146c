//! The table as a file, several of which become one.

use std::path::Path;

use nimble_curve_formats::sheet::{SheetFormat, sheet_text};
use serde_json::{Value, json};

use super::EndTable;
use super::row::Told;
use crate::failure::Failure;

/// A file for the table.
pub struct Summary<'a> {
    pub(super) path: &'a Path,
    pub(super) format: SheetFormat,
}

impl<'a> Summary<'a> {
    pub fn new(path: &'a Path) -> Result<Summary<'a>, Failure> {
        let format = SheetFormat::of(path)
            .ok_or_else(|| Failure::new(format!("{}: summaries are .md, .csv or .json", path.display())))?;
        Ok(Summary { path, format })
    }

    pub fn write(&self, table: &EndTable) -> Result<(), Failure> {
        let headings = [
            "file",
            "clip",
            "output",
            "state",
            "keys_before",
            "keys_after",
            "rotation_deg",
            "position_mm",
            "number",
            "left_out",
            "to_look_at",
            "seconds",
            "machine",
            "worker",
            "date",
            "program",
        ];
        let rounded = |value: Option<f64>| value.map(|value| (value * 1e6).round() / 1e6);
        let mut rows = Vec::new();
        for row in &table.rows {
            let seconds = json!(rounded(row.seconds()));
            let told = row.told.as_ref();
            let by = |of: fn(&Told) -> String| json!(told.map(of));
            let by = [
                by(|told| told.origin.machine.clone()),
                by(|told| told.origin.worker()),
                by(|told| told.origin.date.clone()),
                by(|told| told.program.clone()),
            ];
            let mut is_empty = true;
            for made in row.made() {
                is_empty = false;
                let left_out: Vec<&str> = made.left_out.iter().map(|left| left.channel.as_str()).collect();
                let mut cells = vec![
                    json!(row.source),
                    json!(made.part()),
                    json!(made.file),
                    json!(row.state.name()),
                    json!(made.before),
                    json!(made.after),
                    json!(rounded(made.rotation_deg)),
                    json!(rounded(made.position_mm)),
                    json!(rounded(made.number)),
                    json!(left_out.join(", ")),
                    json!(made.warnings.join("; ")),
                    seconds.clone(),
                ];
                cells.extend(by.iter().cloned());
                rows.push(cells);
            }
            if is_empty {
                let said = row.error().map_or_else(|| row.why.join("; "), str::to_owned);
                let mut cells = vec![Value::Null; headings.len()];
                cells[0] = json!(row.source);
                cells[3] = json!(row.state.name());
                cells[10] = json!(said);
                cells[11] = seconds;
                cells.splice(12.., by);
                rows.push(cells);
            }
        }
        let text = sheet_text(&headings, &rows, self.format, false);
        Ok(nimble_curve_formats::write_bytes(text.as_bytes(), self.path)?)
    }
}
