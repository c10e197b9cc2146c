//! Clips proposed in a long take.

use std::io::Write;
use std::path::Path;

use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::clips::{Found, find};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_formats::sheet::{SheetFormat, sheet_text};
use serde_json::{Value, json};

use super::{no_take, number, takes_named, unmoved, with_clips};
use crate::args::ClipsFind;
use crate::failure::Failure;
use crate::files::{self, Output, OverArgs};
use crate::gate::Origin;
use crate::report::{self, counted, frame, print_json};
use crate::step::{SceneCache, Step, StepOutput};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

/// The clips that are found, each with its take and a name.
pub(super) fn proposed(
    args: &ClipsFind,
    scene: &Scene,
    file: &Path,
) -> Result<Vec<(String, String, Found)>, Failure> {
    if scene.takes.is_empty() {
        return Err(no_take(file));
    }
    let mut found = Vec::new();
    for take in takes_named(scene, args.take.as_deref(), file)? {
        for (index, clip) in find(scene, take)?.into_iter().enumerate() {
            found.push((take.name.clone(), name_for(take, &clip, index), clip));
        }
    }
    Ok(found)
}

pub(super) fn run_find(args: &ClipsFind) -> Result<(), Failure> {
    let scene = files::read(&args.file, args.input)?.scene;
    let found = proposed(args, &scene, &args.file)?;
    if let Some(path) = &args.output {
        write_found(args, path, &scene, &found)?;
    }
    let mut out = args.output.as_deref().map_or_else(Report::out, Report::beside);
    if args.json {
        let row = |(take, name, clip): &(String, String, Found)| {
            json!({
                "name": name,
                "take": take,
                "first": scene.rate.frame(clip.range.first),
                "last": scene.rate.frame(clip.range.last),
                "frames": clip.range.frames(scene.rate),
                "ends_because": clip.why,
                "first_pose_again_at": clip.returns,
            })
        };
        return Ok(print_json(&mut out, &found.iter().map(row).collect::<Vec<_>>())?);
    }
    let title = Style::Strong.paint(&args.file.display().to_string());
    writeln!(out, "{title}  {} found at {} fps", counted(found.len(), "clip"), scene.rate)?;
    let mut table = Table::new(&[
        ("clip", Align::Left),
        ("take", Align::Left),
        ("first", Align::Right),
        ("last", Align::Right),
        ("frames", Align::Right),
        ("ends because", Align::Left),
        ("first pose again at", Align::Left),
    ]);
    for (take, name, clip) in &found {
        let returns: Vec<String> = clip.returns.iter().map(|at| frame(*at)).collect();
        let returns: Vec<&str> = returns.iter().map(String::as_str).collect();
        table.row([
            name.clone(),
            take.clone(),
            frame(scene.rate.frame(clip.range.first)),
            frame(scene.rate.frame(clip.range.last)),
            clip.range.frames(scene.rate).to_string(),
            clip.why.to_owned(),
            report::listed(&returns, 6),
        ]);
    }
    table.without_empty_columns().print(&mut out)?;
    if args.output.is_none() && !found.is_empty() {
        let hint = "-o LIST.csv writes a list to be edited, for clips name --list";
        writeln!(out, "  {}", Style::Faint.paint(hint))?;
    }
    Ok(())
}

/// The name of the clip that is there already, or of a marker at its start, else a number.
pub(super) fn name_for(take: &Take, clip: &Found, index: usize) -> String {
    let same = take.clips.iter().find(|own| own.range == clip.range).map(|own| own.name.clone());
    let marker =
        || take.markers.iter().find(|marker| marker.time == clip.range.first).map(|m| m.name.clone());
    same.or_else(marker).unwrap_or_else(|| format!("clip_{:02}", index + 1))
}

pub(super) fn write_found(
    args: &ClipsFind,
    path: &Path,
    scene: &Scene,
    found: &[(String, String, Found)],
) -> Result<(), Failure> {
    if let Some(format) = SheetFormat::of(path) {
        let row = |(take, name, clip): &(String, String, Found)| {
            let frame = |time| number(scene.rate.frame(time));
            vec![json!(name), frame(clip.range.first), frame(clip.range.last), json!(take), json!("")]
        };
        let rows: Vec<Vec<Value>> = found.iter().map(row).collect();
        let text = sheet_text(&["name", "first", "last", "take", "note"], &rows, format, false);
        return Ok(nimble_curve_formats::write_bytes(text.as_bytes(), path)?);
    }
    let output = Output::new(path.to_owned(), OverArgs::default());
    output.check(&[&args.file])?;
    let named = with_clips(scene, found);
    let promise = unmoved(scene, &named);
    output.write(&named, &args.file, Some(Origin { source: scene, promise: &promise }))?;
    Ok(())
}

impl Step for ClipsFind {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let found = proposed(self, scene, file)?;
        let note = format!("{} found", counted(found.len(), "clip"));
        let named = with_clips(scene, &found);
        let promise = Some(unmoved(scene, &named));
        Ok(StepOutput {
            promise,
            ..StepOutput::new(named, Ledger { notes: vec![note], ..Ledger::default() })
        })
    }
}
