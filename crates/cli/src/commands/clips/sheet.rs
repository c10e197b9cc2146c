//! The list that is handed over.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use nimble_curve_core::ops::clips::Summary;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::similar::similar;
use nimble_curve_formats::sheet::{SheetFormat, sheet_text};
use serde_json::{Value, json};

use super::{all_summaries, done, number};
use crate::args::ClipsSheet;
use crate::failure::Failure;
use crate::files::{self};
use crate::named::Named;
use crate::report::counted;

pub(super) const COLUMNS: [&str; 17] = [
    "name", "file", "take", "first", "last", "frames", "seconds", "rate", "keys", "moving", "loops", "jump",
    "travel", "way", "turn", "climb", "note",
];

/// The rows of one sheet.
#[derive(Default)]
pub(super) struct Sheet {
    pub(super) rows: Vec<Vec<Value>>,
    pub(super) files: usize,
}

impl Sheet {
    pub(super) fn write(&self, headings: &[&str], path: &Path, keeps_formulas: bool) -> Result<(), Failure> {
        let text = sheet_text(headings, &self.rows, sheet_format(path)?, keeps_formulas);
        Ok(nimble_curve_formats::write_bytes(text.as_bytes(), path)?)
    }
}

pub(super) fn sheet_format(path: &Path) -> Result<SheetFormat, Failure> {
    SheetFormat::of(path)
        .ok_or_else(|| Failure::new(format!("{}: sheets are .csv, .json or .md", path.display())))
}

pub(super) fn run_sheet(args: &ClipsSheet) -> Result<(), Failure> {
    sheet_format(&args.output)?;
    args.markers.as_deref().map(sheet_format).transpose()?;
    for column in &args.columns {
        if !COLUMNS.contains(&column.as_str()) {
            let hint = similar(column, COLUMNS.into_iter())
                .map_or_else(|| COLUMNS.join(", "), |name| format!("did you mean '{name}'?"));
            return Err(Failure::new(format!("there is no column '{column}': {hint}")));
        }
    }
    // A sheet for each name: one for all files, or one a file where the name is made of its parts.
    let (mut sheets, mut markers) = (BTreeMap::<PathBuf, Sheet>::new(), BTreeMap::<PathBuf, Sheet>::new());
    for file in &args.files {
        let scene = files::read(file, args.input)?.scene;
        let named = Named::of(file, None, scene.rate);
        let sheet = sheets.entry(named.path(&args.output)?).or_default();
        sheet.files += 1;
        for summary in all_summaries(&scene)? {
            sheet.rows.push(args.columns.iter().map(|column| cell(column, file, &scene, &summary)).collect());
        }
        let Some(path) = &args.markers else { continue };
        let sheet = markers.entry(named.path(path)?).or_default();
        for take in &scene.takes {
            sheet.rows.extend(take.markers.iter().map(|marker| {
                let at = number(scene.rate.frame(marker.time));
                vec![json!(marker.name), json!(file.display().to_string()), json!(take.name), at]
            }));
        }
    }
    if let Some(path) = sheets.keys().find(|path| markers.contains_key(*path)) {
        return Err(Failure::new(format!("{}: is the sheet of clips and of markers", path.display())));
    }
    let headings: Vec<&str> = args.columns.iter().map(String::as_str).collect();
    for (path, sheet) in &sheets {
        sheet.write(&headings, path, args.formulas)?;
    }
    for (path, sheet) in &markers {
        sheet.write(&["marker", "file", "take", "frame"], path, args.formulas)?;
    }
    for (path, sheet) in &sheets {
        done(path, &format!("{} of {}", counted(sheet.rows.len(), "clip"), counted(sheet.files, "file")))?;
    }
    Ok(())
}

pub(super) fn cell(column: &str, file: &Path, scene: &Scene, summary: &Summary) -> Value {
    let (travel, metres) = (&summary.travel, scene.space.metres_per_unit);
    // To a tenth of a millimetre or a hundredth of a degree.
    let metres_of = |length: f64| json!((length * metres * 1e4).round() / 1e4);
    let degrees_of = |angle: f64| json!((angle.to_degrees() * 100.0).round() / 100.0 + 0.0);
    match column {
        "name" => json!(summary.name),
        "file" => json!(file.display().to_string()),
        "take" => json!(summary.take),
        "first" => number(scene.rate.frame(summary.range.first)),
        "last" => number(scene.rate.frame(summary.range.last)),
        "frames" => json!(summary.range.frames(scene.rate)),
        "seconds" => json!((summary.range.seconds() * 1e4).round() / 1e4),
        "rate" => json!(scene.rate.to_string()),
        "keys" => json!(summary.keys),
        "moving" => json!(summary.moving),
        "loops" => json!(travel.ends.is_loop()),
        "jump" => degrees_of(travel.ends.angle),
        "travel" => metres_of(travel.distance),
        "way" => metres_of(travel.path_length),
        "turn" => degrees_of(travel.turn),
        "climb" => metres_of(travel.height_change),
        _ => summary.note.as_ref().map_or(Value::Null, |note| json!(note)),
    }
}
