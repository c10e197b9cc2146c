//! A text file a source: when and where it was done, and what came of it.

use std::path::Path;

use crate::batch::{Outcome, Record};
use crate::failure::Failure;
use crate::files::make_folder;

/// Writes what came of a source to a file below a folder, named like the source.
pub fn write_log(folder: &Path, record: &Record) -> Result<(), Failure> {
    // A source may lie above the recipe, or anywhere: its log lies below the folder all the same.
    let parts = Path::new(&record.source).components().filter_map(|part| match part {
        std::path::Component::Normal(part) => part.to_str(),
        std::path::Component::ParentDir => Some("_"),
        _ => None,
    });
    let path = folder.join(parts.collect::<Vec<_>>().join("/") + ".log");
    if let Some(folder) = path.parent() {
        make_folder(folder)?;
    }
    Ok(nimble_curve_formats::write_bytes_only(text(record).as_bytes(), &path)?)
}

fn text(record: &Record) -> String {
    let mut lines = vec![format!("source    {}", record.source)];
    let state = match record.outcome {
        Outcome::Done => "done",
        Outcome::Begun => "begun",
        Outcome::Failed => "failed; it would again, from the same contents",
        Outcome::Hindered | Outcome::Blocked => "failed; the next run tries again",
    };
    lines.push(format!("state     {state}"));
    lines.push(format!("error     {}", record.error.as_deref().unwrap_or("none")));
    let origin = &record.origin;
    lines.push(format!("date      {}, {:.2} s", origin.date, record.seconds));
    let job = origin.job.as_ref().map_or(String::new(), |job| format!(", job {job}"));
    lines.push(format!("machine   {}, process {}{job}", origin.machine, origin.process));
    lines.push(format!("program   nimble-curve {}", record.program));
    lines.extend(record.inputs.iter().map(|(name, contents)| format!("read      {name}  {contents}")));
    for made in &record.outputs {
        let part = made.part().map_or(String::new(), |part| format!("  {part}"));
        let keys = match made.is_animation {
            true => format!("  {} keys and samples became {}", made.before, made.after),
            false => String::new(),
        };
        lines.push(format!("written   {}{part}{keys}", made.file));
        let errors = [("deg", made.rotation_deg), ("mm", made.position_mm), ("as number", made.number)];
        for (unit, error) in errors.into_iter().filter_map(|(unit, error)| Some((unit, error?))) {
            lines.push(format!("error of  at most {error:.6} {unit}"));
        }
        lines.extend(made.left_out.iter().map(|left| format!("left out  {}: {}", left.channel, left.why)));
        lines.extend(made.warnings.iter().map(|warning| format!("look at   {warning}")));
        lines.extend(made.notes.iter().map(|note| format!("note      {note}")));
    }
    lines.push(String::new());
    lines.join("\n")
}
