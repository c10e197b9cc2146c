//! `clips`: named ranges listed, found, cut out and put together.

mod names;

use std::collections::{BTreeMap, HashSet};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::address::matches;
use nimble_curve_core::judge::{Claim, Clock, Scope, Verdict};
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::clips::{
    Found, JoinOptions, Summary, added, cut, find, join, joined, summaries, taken, transplanted,
};
use nimble_curve_core::ops::retime::{shifted, stretched};
use nimble_curve_core::ops::select::{SelectError, Selection, select};
use nimble_curve_core::scene::{Clip, Scene, Take};
use nimble_curve_core::similar::similar;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::sheet::{SheetFormat, read_clip_list, sheet_text};
use serde::Serialize;
use serde_json::{Value, json};

use crate::args::{
    Clips, ClipsAction, ClipsAdd, ClipsExtract, ClipsFind, ClipsJoin, ClipsName, ClipsSheet, ClipsShift,
    ClipsSplit, ClipsStretch, ClipsTrim, Start,
};
use crate::failure::Failure;
use crate::files::{self, InputArgs, Output, OverArgs};
use crate::gate::{self, Beside, EXACT, Held, Origin, Promise};
use crate::named::{Named, safe, stem};
use crate::pattern::{Hole, Pattern};
use crate::report::{self, amount, counted, degrees, frame, print_json};
use crate::step::{Shelf, Step, Worked, between_files, say_warnings};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

pub fn run(args: &Clips) -> Result<(), Failure> {
    match &args.action {
        None => list(args),
        Some(ClipsAction::Find(args)) => run_find(args),
        Some(ClipsAction::Name(args)) => noted(args, &args.file, args.input, &args.output.of(&args.file)),
        Some(ClipsAction::Split(args)) => run_split(args),
        Some(ClipsAction::Join(args)) => run_join(args),
        Some(ClipsAction::Sheet(args)) => run_sheet(args),
        Some(ClipsAction::Rename(args)) => names::run_rename(args),
        Some(ClipsAction::Shift(args)) => noted(args, &args.file, args.input, &args.output.of(&args.file)),
        Some(ClipsAction::Trim(args)) => run_trim(args),
        Some(ClipsAction::Stretch(args)) => noted(args, &args.file, args.input, &args.output.of(&args.file)),
        Some(ClipsAction::Add(args)) => run_add(args),
        Some(ClipsAction::Extract(args)) => {
            noted(args, &args.library, args.input, &args.output.of(&args.library))
        }
    }
}

fn all_summaries(scene: &Scene) -> Result<Vec<Summary>, Failure> {
    let mut all = Vec::new();
    for take in &scene.takes {
        all.extend(summaries(scene, take)?);
    }
    Ok(all)
}

fn no_take(file: &Path) -> Failure {
    Failure::new(format!("{}: there is no take, and so no clip", file.display()))
}

fn list(args: &Clips) -> Result<(), Failure> {
    let Some(file) = &args.file else { return Err(Failure::new("name a file whose clips to list")) };
    let scene = files::read(file, args.input)?.scene;
    if scene.takes.is_empty() {
        return Err(no_take(file));
    }
    let all = all_summaries(&scene)?;
    let mut out = Report::out();
    if args.json {
        let rows: Vec<Value> = all.iter().map(|summary| as_json(&scene, summary)).collect();
        return Ok(print_json(&mut out, &rows)?);
    }
    let title = Style::Strong.paint(&file.display().to_string());
    let takes = counted(scene.takes.len(), "take");
    writeln!(out, "{title}  {takes}, {} at {} fps", counted(all.len(), "clip"), scene.rate)?;
    table(&scene, &all).print(&mut out)?;
    Ok(())
}

fn table(scene: &Scene, all: &[Summary]) -> Table {
    let mut table = Table::new(&[
        ("clip", Align::Left),
        ("take", Align::Left),
        ("first", Align::Right),
        ("last", Align::Right),
        ("frames", Align::Right),
        ("seconds", Align::Right),
        ("keys", Align::Right),
        ("tracks move", Align::Right),
        ("travels", Align::Right),
        ("turns", Align::Right),
        ("loops", Align::Left),
    ]);
    for summary in all {
        let rate = scene.rate;
        let is_whole = summary.name == summary.take;
        let take = if is_whole { String::new() } else { summary.take.clone() };
        table.row([
            summary.name.clone(),
            take,
            frame(rate.frame(summary.range.first)),
            frame(rate.frame(summary.range.last)),
            summary.range.frames(rate).to_string(),
            format!("{:.2}", summary.range.seconds()),
            summary.keys.to_string(),
            summary.moving.to_string(),
            amount(summary.travel.distance, Quantity::Length, &scene.space),
            degrees(summary.travel.turn),
            loops(summary),
        ]);
    }
    table.without_empty_columns()
}

/// Whether a clip loops, and how far it is from that.
fn loops(summary: &Summary) -> String {
    let ends = &summary.travel.ends;
    if ends.is_loop() {
        return "yes".into();
    }
    if ends.reach < 1e-6 {
        return "stands still".into();
    }
    if ends.angle > 12_f64.to_radians() || ends.angle > 0.3 * ends.reach {
        return "no".into();
    }
    match ends.angle > nimble_curve_core::ops::travel::Ends::MEET {
        true => format!("nearly: {:.2} deg apart at {}", ends.angle.to_degrees(), ends.node),
        false => format!("nearly: {:.0} deg/s faster at {}", ends.speed.to_degrees(), ends.speed_node),
    }
}

fn as_json(scene: &Scene, summary: &Summary) -> Value {
    let (travel, ends) = (&summary.travel, &summary.travel.ends);
    let metres = scene.space.metres_per_unit;
    json!({
        "name": summary.name,
        "take": summary.take,
        "first": scene.rate.frame(summary.range.first),
        "last": scene.rate.frame(summary.range.last),
        "frames": summary.range.frames(scene.rate),
        "seconds": summary.range.seconds(),
        "keys": summary.keys,
        "moving_tracks": summary.moving,
        "loops": ends.is_loop(),
        "ends_apart_deg": ends.angle.to_degrees(),
        "ends_speed_deg_s": ends.speed.to_degrees(),
        "travel_m": travel.distance * metres,
        "way_m": travel.way * metres,
        "turn_deg": travel.turn.to_degrees(),
        "climb_m": travel.climb * metres,
        "note": summary.note,
    })
}

/// The takes that a name means; all where none is given.
fn takes_named<'a>(scene: &'a Scene, wanted: Option<&str>, file: &Path) -> Result<Vec<&'a Take>, Failure> {
    let Some(name) = wanted else { return Ok(scene.takes.iter().collect()) };
    let found: Vec<&Take> = scene.takes.iter().filter(|take| take.name == name).collect();
    if found.is_empty() {
        return Err(Failure::unknown("take", name, scene.takes.iter().map(|take| take.name.as_str()), file));
    }
    Ok(found)
}

/// The clips that are found, each with its take and a name.
fn proposed(args: &ClipsFind, scene: &Scene, file: &Path) -> Result<Vec<(String, String, Found)>, Failure> {
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

fn run_find(args: &ClipsFind) -> Result<(), Failure> {
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
fn name_for(take: &Take, clip: &Found, index: usize) -> String {
    let same = take.clips.iter().find(|own| own.range == clip.range).map(|own| own.name.clone());
    let marker =
        || take.markers.iter().find(|marker| marker.time == clip.range.first).map(|m| m.name.clone());
    same.or_else(marker).unwrap_or_else(|| format!("clip_{:02}", index + 1))
}

fn write_found(
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
        let text = sheet_text(&["name", "first", "last", "take", "note"], &rows, format);
        return Ok(nimble_curve_formats::write_bytes(text.as_bytes(), path)?);
    }
    let output = Output::new(path.to_owned(), OverArgs::default());
    output.check(&[&args.file])?;
    let named = with_clips(scene, found);
    let promise = unmoved(scene, &named);
    output.write(&named, &args.file, Some(Origin { source: scene, promise: &promise }))?;
    Ok(())
}

/// Nothing but clips, markers and names was changed.
fn unmoved(source: &Scene, result: &Scene) -> Promise {
    Promise { scope: Scope::MotionAlone, ..Promise::timed(source, result, &[]) }
}

/// The scene with proposed clips in place of its own.
fn with_clips(scene: &Scene, found: &[(String, String, Found)]) -> Scene {
    let mut scene = scene.clone();
    for take in &mut scene.takes {
        let own = found.iter().filter(|(name, ..)| *name == take.name);
        let clips: Vec<Clip> =
            own.map(|(_, name, clip)| Clip { name: name.clone(), range: clip.range, note: None }).collect();
        if !clips.is_empty() {
            take.clips = clips;
        }
    }
    scene
}

impl Step for ClipsFind {
    fn work(&self, scene: &Scene, file: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let found = proposed(self, scene, file)?;
        let note = format!("{} found", counted(found.len(), "clip"));
        let named = with_clips(scene, &found);
        let promise = Some(unmoved(scene, &named));
        Ok(Worked { promise, ..Worked::new(named, Ledger { notes: vec![note], ..Ledger::default() }) })
    }
}

/// A frame as a JSON number: whole where it is.
fn number(frame: f64) -> Value {
    if (frame - frame.round()).abs() < 1e-6 { json!(frame.round() as i64) } else { json!(frame) }
}

impl Step for ClipsName {
    fn work(&self, scene: &Scene, file: &Path, _: &Shelf) -> Result<Worked, Failure> {
        if scene.takes.is_empty() {
            return Err(no_take(file));
        }
        let listed = read_clip_list(&self.list)?;
        let rate = scene.rate;
        let mut made: Vec<Vec<Clip>> = vec![Vec::new(); scene.takes.len()];
        for clip in &listed {
            let index = take_index(scene, clip.take.as_ref().or(self.take.as_ref()), file)?;
            let range = TimeRange::new(rate.ticks_at(clip.first), rate.ticks_at(clip.last));
            let take = &scene.takes[index];
            let own = take.key_range().map_or(take.range, |keys| keys.union(take.range));
            if !(own.contains(range.first) && own.contains(range.last)) {
                return Err(Failure::new(format!(
                    "{}: clip '{}' is {}:{}, take '{}' {}:{}",
                    self.list.display(),
                    clip.name,
                    frame(clip.first),
                    frame(clip.last),
                    take.name,
                    frame(rate.frame(own.first)),
                    frame(rate.frame(own.last))
                )));
            }
            made[index].push(Clip { name: clip.name.clone(), range, note: clip.note.clone() });
        }
        let mut result = scene.clone();
        for (take, clips) in result.takes.iter_mut().zip(made) {
            if !clips.is_empty() {
                take.clips = clips;
            }
        }
        let mut worked = Worked::new(result, Ledger::default());
        worked.ledger.notes.push(format!("{} named", counted(listed.len(), "clip")));
        Ok(worked)
    }
}

/// The take that is meant, which has to be named where there are several.
fn take_index(scene: &Scene, wanted: Option<&String>, file: &Path) -> Result<usize, Failure> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    match wanted {
        Some(name) => {
            let found = scene.takes.iter().position(|take| take.name == *name);
            found.ok_or_else(|| Failure::unknown("take", name, names(), file))
        }
        None if scene.takes.len() == 1 => Ok(0),
        None if scene.takes.is_empty() => Err(no_take(file)),
        None => {
            let all = names().collect::<Vec<_>>().join(", ");
            Err(Failure::new(format!("there are several takes: name one with --take: {all}")))
        }
    }
}

/// Does a step between two files, and says in one line what it noted.
fn noted(step: &impl Step, file: &Path, input: InputArgs, output: &Output) -> Result<(), Failure> {
    let (_, worked) = between_files(step, file, input, output)?;
    let notes: Vec<&str> = worked.ledger.notes.iter().map(String::as_str).collect();
    done(&output.path, &report::listed(&notes, 6))?;
    say_warnings(&worked);
    Ok(())
}

/// One line that says what was written.
fn done(output: &Path, said: &str) -> Result<(), Failure> {
    let mut out = Report::beside(output);
    writeln!(out, "{}  {said}", Style::Strong.paint(&output.display().to_string()))?;
    Ok(())
}

#[derive(Serialize)]
struct WrittenJson {
    file: String,
    clip: String,
    take: String,
    first: f64,
    last: f64,
    frames: i64,
    keys: usize,
}

fn run_split(args: &ClipsSplit) -> Result<(), Failure> {
    let loaded = files::read(&args.file, args.input)?;
    let scene = &loaded.scene;
    if scene.takes.is_empty() {
        return Err(no_take(&args.file));
    }
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
    if let Some(verdict) = &whole {
        report::close(&mut out, &gate::closing(verdict, scene))?;
    }
    Ok(())
}

/// One clip as a scene of its own.
fn cut_out(
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
fn promise(
    scene: &Scene,
    take: &Take,
    part: &Scene,
    clip: &Clip,
    (args, ledger): (&ClipsSplit, &Ledger),
) -> Promise {
    let index = scene.takes.iter().position(|own| std::ptr::eq(own, take)).unwrap_or(0);
    let mut promise = Promise::part(scene, index, part, clip, args.tolerance);
    // The cut speaks of the clip, the claim of the take that it is from.
    let mut said = ledger.clone();
    said.entries.iter_mut().for_each(|entry| entry.take.clone_from(&take.name));
    promise.claim = promise.claim.excusing(scene, &said);
    promise
}

/// Markers that lie in none of the clips that are cut out, with their frames.
fn markers_between(scene: &Scene, jobs: &[(&Take, Clip)]) -> Vec<String> {
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
        Ok(Piece { take: take.name.clone(), clip, scene: part, ledger, promise })
    };
    chosen_clips(scene, args, file)?.into_iter().map(piece).collect()
}

/// The clips to write; a take without clips is one.
fn chosen_clips<'a>(
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

fn file_names(args: &ClipsSplit, rate: FrameRate, jobs: &[(&Take, Clip)]) -> Result<Vec<PathBuf>, Failure> {
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
    let pattern = Pattern::parse(name, &Hole::ALL).map_err(Failure::new)?;
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
            Hole::Folder => part.fill(hole),
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

fn run_join(args: &ClipsJoin) -> Result<(), Failure> {
    let inputs: Vec<&Path> = args.files.iter().map(PathBuf::as_path).collect();
    let output = args.output.of(&args.files[0]);
    output.check(&inputs)?;
    let scenes = inputs
        .iter()
        .map(|path| Ok(files::read(path, args.input)?.scene))
        .collect::<Result<Vec<Scene>, Failure>>()?;
    let options = JoinOptions {
        name: args.name.clone(),
        gap: args.gap,
        start: args.start,
        go_on: args.go_on,
        tolerance: args.tolerance,
    };
    let (scene, ledger) = join(&scenes, &options)?;
    let mut claims = joined(&scenes, &scene, &options).into_iter();
    let excused = |(at, claim): (usize, Claim)| claim.excusing(&scenes[at], &ledger);
    let first = claims.next().map(excused).unwrap_or_else(Claim::nothing);
    let beside = |(at, claim): (usize, Claim)| Beside {
        source: Arc::new(scenes[at].clone()),
        claim: excused((at, claim)),
        scope: None,
        held: Held::ToLimits,
    };
    let beside = claims.map(beside).collect();
    let promise = Promise { beside, ..Promise::of(first, args.tolerance, Scope::Nothing) };
    let origin = Origin { source: &scenes[0], promise: &promise };
    let verdict = output.write(&scene, &args.files[0], Some(origin))?.verdict;
    let mut out = Report::beside(&output.path);
    let title = format!("{} → {}", counted(args.files.len(), "file"), output.path.display());
    report::head(&mut out, &title, &gate::outcome(&ledger, &verdict, &scene))?;
    table(&scene, &all_summaries(&scene)?).print(&mut out)?;
    report::print_left_out(&mut out, &ledger)?;
    Ok(report::close(&mut out, &gate::closing(&verdict, &scene))?)
}

const COLUMNS: [&str; 17] = [
    "name", "file", "take", "first", "last", "frames", "seconds", "rate", "keys", "moving", "loops", "jump",
    "travel", "way", "turn", "climb", "note",
];

/// The rows of one sheet.
#[derive(Default)]
struct Sheet {
    rows: Vec<Vec<Value>>,
    files: usize,
}

impl Sheet {
    fn write(&self, headings: &[&str], path: &Path) -> Result<(), Failure> {
        let format = sheet_format(path)?;
        Ok(nimble_curve_formats::write_bytes(sheet_text(headings, &self.rows, format).as_bytes(), path)?)
    }
}

fn sheet_format(path: &Path) -> Result<SheetFormat, Failure> {
    SheetFormat::of(path)
        .ok_or_else(|| Failure::new(format!("{}: sheets are .csv, .json or .md", path.display())))
}

fn run_sheet(args: &ClipsSheet) -> Result<(), Failure> {
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
        sheet.write(&headings, path)?;
    }
    for (path, sheet) in &markers {
        sheet.write(&["marker", "file", "take", "frame"], path)?;
    }
    for (path, sheet) in &sheets {
        done(path, &format!("{} of {}", counted(sheet.rows.len(), "clip"), counted(sheet.files, "file")))?;
    }
    Ok(())
}

fn cell(column: &str, file: &Path, scene: &Scene, summary: &Summary) -> Value {
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
        "way" => metres_of(travel.way),
        "turn" => degrees_of(travel.turn),
        "climb" => metres_of(travel.climb),
        _ => summary.note.as_ref().map_or(Value::Null, |note| json!(note)),
    }
}

impl Step for ClipsShift {
    fn work(&self, source: &Scene, file: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let mut scene = source.clone();
        let mut clocks = vec![Clock::SAME; source.takes.len()];
        for pattern in &self.take {
            if !scene.takes.iter().any(|take| matches(pattern, &take.name)) {
                let names = scene.takes.iter().map(|take| take.name.as_str());
                return Err(Failure::unknown("take", pattern, names, file));
            }
        }
        let rate = scene.rate;
        let mut notes = Vec::new();
        for (take, clock) in scene.takes.iter_mut().zip(&mut clocks) {
            if self.take.is_empty() || self.take.iter().any(|pattern| matches(pattern, &take.name)) {
                *clock = Clock::shifted(take.range.first, rate.ticks_at(self.to));
                let by = rate.ticks_at(self.to) - take.range.first;
                *take = shifted(take, by);
                notes.push(format!("'{}' shifted by {} frames", take.name, frame(rate.frame(by))));
            }
        }
        let promise = Promise::timed(source, &scene, &clocks);
        Ok(Worked { promise: Some(promise), ..Worked::new(scene, Ledger { notes, ..Ledger::default() }) })
    }
}

impl Step for ClipsTrim {
    fn work(&self, scene: &Scene, _: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let mut result = Scene { takes: Vec::new(), ..scene.clone() };
        let mut ledger = Ledger::default();
        for take in &scene.takes {
            if take.key_range().is_none() {
                result.takes.push(take.clone());
                continue;
            }
            let alone = Scene { takes: vec![take.clone()], ..scene.clone() };
            let selection =
                Selection { range: Some(take.range), tolerance: self.tolerance, ..Selection::default() };
            let (part, more) = select(&alone, &selection)?;
            result.takes.extend(part.takes);
            ledger.extend(more);
        }
        let mut worked = Worked::same(scene, result, ledger, self.tolerance);
        if let Some(promise) = &mut worked.promise {
            promise.scope = Scope::MotionAlone;
        }
        Ok(worked)
    }
}

fn run_trim(args: &ClipsTrim) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, worked) = between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &worked.outcome)?;
    report::print_fates(&mut out, &worked.ledger, &scene.space)?;
    Ok(report::close(&mut out, &worked.closing)?)
}

impl Step for ClipsStretch {
    fn work(&self, scene: &Scene, file: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let index = take_index(scene, self.take.as_ref(), file)?;
        let mut result = scene.clone();
        let take = &mut result.takes[index];
        let was = take.range.frames(scene.rate);
        *take = stretched(take, self.to_frames, scene.rate)?;
        let note = format!("'{}' has {} frames now, for {was}", take.name, self.to_frames);
        let (old, new) = (scene.takes[index].range, take.range);
        let mut clocks = vec![Clock::SAME; scene.takes.len()];
        let speed = (old.last - old.first).as_f64() / (new.last - new.first).as_f64();
        clocks[index] = Clock { result: new.first, source: old.first, speed };
        let promise = Promise::timed(scene, &result, &clocks);
        let ledger = Ledger { notes: vec![note], ..Ledger::default() };
        Ok(Worked { promise: Some(promise), ..Worked::new(result, ledger) })
    }
}

fn run_add(args: &ClipsAdd) -> Result<(), Failure> {
    let output = args.output.of(&args.library);
    output.check(
        &args.files.iter().map(PathBuf::as_path).chain([args.library.as_path()]).collect::<Vec<_>>(),
    )?;
    let mut library = files::read(&args.library, args.input)?.scene;
    let before = library.clone();
    let mut sources = Vec::new();
    let mut ledger = Ledger::default();
    let mut names = Vec::new();
    for file in &args.files {
        let scene = files::read(file, args.input)?.scene;
        if scene.takes.is_empty() {
            return Err(no_take(file));
        }
        for take in &scene.takes {
            let (mut own, more) = transplanted(take, &scene, &library);
            if own.tracks().next().is_none() {
                return Err(Failure::new(format!(
                    "{}: no node of take '{}' is in the library: carry brings it onto another rig",
                    file.display(),
                    take.name
                )));
            }
            ledger.extend(more);
            own.folder = args.folder.clone().or(own.folder);
            let taken = |name: &str| library.takes.iter().any(|t| t.name == name && t.folder == own.folder);
            if taken(&own.name) {
                return Err(Failure::new(format!(
                    "{}: the library has a take '{}' there already: give another --folder, or clips rename",
                    file.display(),
                    own.name
                )));
            }
            names.push(own.name.clone());
            library.takes.push(own);
        }
        sources.push((library.takes.len() - scene.takes.len(), scene));
    }
    let promise = filled(&before, &library, sources, &ledger);
    output.write(&library, &args.library, Some(Origin { source: &before, promise: &promise }))?;
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    done(&output.path, &format!("added {}", report::listed(&names, 8)))?;
    report::print_left_out(&mut Report::beside(&output.path), &ledger)?;
    Ok(())
}

/// A library holds what it held, and the takes of other scenes from some positions on.
fn filled(before: &Scene, library: &Scene, sources: Vec<(usize, Scene)>, ledger: &Ledger) -> Promise {
    let mut promise = Promise::timed(before, library, &[]);
    promise.claim.spans.retain(|span| span.source == span.result);
    let beside = |(at, scene): (usize, Scene)| Beside {
        claim: added(&scene, library, at).excusing(&scene, ledger),
        source: Arc::new(scene),
        scope: None,
        held: Held::ToLimits,
    };
    promise.beside = sources.into_iter().map(beside).collect();
    promise
}

impl Step for ClipsExtract {
    fn work(&self, scene: &Scene, file: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let full = |take: &Take| match &take.folder {
            Some(folder) => format!("{folder}/{}", take.name),
            None => take.name.clone(),
        };
        let is_meant =
            |take: &Take, pattern: &String| matches(pattern, &take.name) || matches(pattern, &full(take));
        for pattern in &self.takes {
            if !scene.takes.iter().any(|take| is_meant(take, pattern)) {
                let names: Vec<String> = scene.takes.iter().flat_map(|t| [t.name.clone(), full(t)]).collect();
                return Err(Failure::unknown("take", pattern, names.iter().map(String::as_str), file));
            }
        }
        let mut result = scene.clone();
        result.takes.retain(|take| self.takes.iter().any(|pattern| is_meant(take, pattern)));
        let stays = |(index, take): (usize, &Take)| {
            self.takes.iter().any(|pattern| is_meant(take, pattern)).then_some(index)
        };
        let kept: Vec<usize> = scene.takes.iter().enumerate().filter_map(stays).collect();
        let claim = taken(scene, &result, &kept);
        let note = format!("{} of {}", counted(result.takes.len(), "take"), scene.takes.len());
        let mut worked = Worked::new(result, Ledger { notes: vec![note], ..Ledger::default() });
        worked.promise = Some(Promise::of(claim, EXACT, Scope::Everything));
        if worked.scene.takes.len() > 1 {
            let warning = "formats that hold one take get the first; clips split writes a file each";
            worked.warnings.push(warning.to_owned());
        }
        Ok(worked)
    }
}
