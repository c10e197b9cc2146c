//! A file a clip.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use nimble_curve_core::address::matches;
use nimble_curve_core::judge::Verdict;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::clips::cut;
use nimble_curve_core::ops::select::SelectError;
use nimble_curve_core::scene::{Clip, Scene, Take};
use nimble_curve_core::time::FrameRate;
use serde::Serialize;

use super::no_take;
use crate::args::{ClipsSplit, Start};
use crate::failure::Failure;
use crate::files::{self, Output, OverArgs};
use crate::gate::{self, Origin, Promise};
use crate::named::{Named, safe, safe_folder, stem};
use crate::pattern::{Hole, Pattern};
use crate::report::{self, counted, frame, print_json};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

#[derive(Serialize)]
pub(super) struct WrittenJson {
    pub(super) file: String,
    pub(super) clip: String,
    pub(super) take: String,
    pub(super) first: f64,
    pub(super) last: f64,
    pub(super) frames: i64,
    pub(super) keys: usize,
}

pub(super) fn run_split(args: &ClipsSplit) -> Result<(), Failure> {
    let loaded = files::read(&args.file, args.input)?;
    if loaded.scene.takes.is_empty() {
        return Err(no_take(&args.file));
    }
    let mut thinned = args.nodes.work(&loaded.scene, &args.file, args.tolerance)?;
    if let Some(promise) = thinned.promise.take() {
        thinned.close(&loaded.scene, &promise, args.accept)?;
    }
    let scene = &thinned.scene;
    let jobs = chosen_clips(scene, args, &args.file)?;
    let paths = file_names(args, scene.rate, &jobs)?;
    for folder in paths.iter().filter_map(|path| path.parent()) {
        std::fs::create_dir_all(folder).map_err(|error| {
            Failure::new(format!("{}: the folder cannot be made: {error}", folder.display()))
        })?;
    }
    let lost = markers_between(scene, &jobs);
    if !lost.is_empty() {
        let lost: Vec<&str> = lost.iter().map(String::as_str).collect();
        terminal::remark(&format!(
            "{}: markers that lie in no clip are left out: {}",
            args.file.display(),
            report::listed(&lost, 6)
        ));
    }
    let mut written = Vec::new();
    let mut whole: Option<Verdict> = None;
    for ((take, clip), path) in jobs.iter().zip(&paths) {
        let (part, ledger) = cut_out(scene, take, clip, args)?;
        let promise = promise(scene, take, &part, clip, (args, &ledger));
        let origin = Some(Origin { source: scene, promise: &promise });
        let over = OverArgs { replace: args.replace, accept: args.accept };
        let verdict = Output::new(path.clone(), over).write(&part, &args.file, origin)?.verdict;
        match &mut whole {
            Some(whole) => whole.take_in(verdict),
            None => whole = Some(verdict),
        }
        let own = &part.takes[0];
        written.push(WrittenJson {
            file: path.display().to_string(),
            clip: clip.name.clone(),
            take: take.name.clone(),
            first: part.rate.frame(own.range.first),
            last: part.rate.frame(own.range.last),
            frames: own.range.frames(part.rate),
            keys: own.value_count(),
        });
    }
    let mut out = Report::out();
    if args.json {
        return Ok(print_json(&mut out, &written)?);
    }
    let title = format!("{} → {}", args.file.display(), args.output.display());
    let off = whole.as_ref().and_then(|verdict| gate::distance(verdict, scene));
    let off = off.map_or(String::new(), |off| format!("; {off}"));
    report::head(&mut out, &title, &(Style::Good, format!("{}{off}", counted(written.len(), "file"))))?;
    let mut table = Table::new(&[
        ("clip", Align::Left),
        ("file", Align::Left),
        ("first", Align::Right),
        ("last", Align::Right),
        ("frames", Align::Right),
        ("keys", Align::Right),
    ]);
    for row in &written {
        table.row([
            row.clip.clone(),
            row.file.clone(),
            frame(row.first),
            frame(row.last),
            row.frames.to_string(),
            row.keys.to_string(),
        ]);
    }
    table.print(&mut out)?;
    report::print_remarks(&mut out, &thinned.ledger.notes)?;
    report::close(&mut out, &thinned.closing)?;
    if let Some(verdict) = &whole {
        report::close(&mut out, &gate::closing(verdict, scene))?;
    }
    Ok(())
}

/// One clip as a scene of its own.
pub(super) fn cut_out(
    scene: &Scene,
    take: &Take,
    clip: &Clip,
    args: &ClipsSplit,
) -> Result<(Scene, Ledger), SelectError> {
    let start = match args.start {
        Start::Keep => None,
        Start::At(frame) => Some(frame),
    };
    cut(scene, take, clip, start, args.tolerance)
}

/// That a clip is a part of its take; what the cut says it left out is so.
pub(super) fn promise(
    scene: &Scene,
    take: &Take,
    part: &Scene,
    clip: &Clip,
    (args, ledger): (&ClipsSplit, &Ledger),
) -> Promise {
    let index = position(scene, take);
    let mut promise = Promise::part(scene, index, part, clip, args.tolerance);
    // The cut speaks of the clip, the claim of the take that it is from.
    promise.claim = promise.claim.excusing_take(scene, index, ledger);
    promise
}

/// The position of a take in its own scene.
fn position(scene: &Scene, take: &Take) -> usize {
    scene.takes.iter().position(|own| std::ptr::eq(own, take)).unwrap_or(0)
}

/// Markers that lie in none of the clips that are cut out, with their frames.
pub(super) fn markers_between(scene: &Scene, jobs: &[(&Take, Clip)]) -> Vec<String> {
    let mut lost = Vec::new();
    for take in scene.takes.iter().filter(|take| jobs.iter().any(|(own, _)| std::ptr::eq(*own, *take))) {
        let own: Vec<&Clip> =
            jobs.iter().filter(|(of, _)| std::ptr::eq(*of, take)).map(|(_, clip)| clip).collect();
        let outside =
            take.markers.iter().filter(|marker| !own.iter().any(|clip| clip.range.contains(marker.time)));
        lost.extend(
            outside.map(|marker| format!("{} (frame {})", marker.name, frame(scene.rate.frame(marker.time)))),
        );
    }
    lost
}

/// A clip that was cut out of a scene.
pub struct Piece {
    /// The position of the take, and its name.
    pub of: usize,
    pub take: String,
    pub clip: Clip,
    pub scene: Scene,
    pub ledger: Ledger,
    pub promise: Promise,
}

/// The clips of a scene, each by itself; a take without clips is one.
pub fn pieces(args: &ClipsSplit, scene: &Scene, file: &Path) -> Result<Vec<Piece>, Failure> {
    if scene.takes.is_empty() {
        return Err(no_take(file));
    }
    let piece = |(take, clip): (&Take, Clip)| {
        let (part, ledger) = cut_out(scene, take, &clip, args)?;
        let promise = promise(scene, take, &part, &clip, (args, &ledger));
        let of = position(scene, take);
        Ok(Piece { of, take: take.name.clone(), clip, scene: part, ledger, promise })
    };
    chosen_clips(scene, args, file)?.into_iter().map(piece).collect()
}

/// The clips to write; a take without clips is one.
pub(super) fn chosen_clips<'a>(
    scene: &'a Scene,
    args: &ClipsSplit,
    file: &Path,
) -> Result<Vec<(&'a Take, Clip)>, Failure> {
    let mut all: Vec<(&Take, Clip)> = Vec::new();
    for take in &scene.takes {
        match take.clips.is_empty() {
            true => all.push((take, Clip { name: take.name.clone(), range: take.range, note: None })),
            false => all.extend(take.clips.iter().map(|clip| (take, clip.clone()))),
        }
    }
    for pattern in &args.clip {
        if !all.iter().any(|(_, clip)| matches(pattern, &clip.name)) {
            let names = all.iter().map(|(_, clip)| clip.name.as_str());
            return Err(Failure::unknown("clip", pattern, names, file));
        }
    }
    all.retain(|(_, clip)| args.clip.is_empty() || args.clip.iter().any(|p| matches(p, &clip.name)));
    Ok(all)
}

pub(super) fn file_names(
    args: &ClipsSplit,
    rate: FrameRate,
    jobs: &[(&Take, Clip)],
) -> Result<Vec<PathBuf>, Failure> {
    let stem = match stem(&args.file) {
        "" => "scene",
        stem => stem,
    };
    let own_ending = args.file.extension().and_then(|ending| ending.to_str()).unwrap_or("ncurve");
    // An output made of parts is the folder and the name in one.
    let whole = args.output.to_str().filter(|text| text.contains('{'));
    let (folder, name) = match whole {
        Some(text) => (Path::new(""), text),
        None => (args.output.as_path(), args.name.as_str()),
    };
    let pattern = Pattern::parse(name, Hole::ALL).map_err(Failure::new)?;
    let mut taken = HashSet::new();
    let mut paths = Vec::with_capacity(jobs.len());
    for (index, (take, clip)) in jobs.iter().enumerate() {
        let part = Named {
            scene: stem,
            folder: take.folder.as_deref().unwrap_or(""),
            take: &take.name,
            clip: &clip.name,
            range: Some(clip.range),
            rate,
            index,
        };
        let name = pattern.path(|hole| match hole {
            Hole::Folder => safe_folder(&part.fill(hole)),
            Hole::Ending => own_ending.to_owned(),
            hole => safe(&part.fill(hole)),
        });
        let with_ending = match nimble_curve_formats::output_format(Path::new(&name)) {
            Ok(_) => name,
            Err(_) => format!("{name}.{own_ending}"),
        };
        let path = folder.join(&with_ending);
        nimble_curve_formats::output_format(&path)?;
        if !taken.insert(path.clone()) {
            return Err(Failure::new(format!(
                "two clips would be written to {}: put {{take}} and {{clip}} into {}",
                path.display(),
                if whole.is_some() { "--output" } else { "--name" }
            )));
        }
        if path.exists() && !args.replace {
            return Err(Failure::new(format!("{}: is there already: say --replace", path.display())));
        }
        paths.push(path);
    }
    Ok(paths)
}
