//! `clips`: named ranges listed, found, cut out and put together.

mod find;
mod join;
mod library;
mod list;
mod name;
mod sheet;
mod split;
mod time;
use self::find::run_find;
use self::join::run_join;
use self::library::run_add;
use self::list::list;
use self::sheet::run_sheet;
pub use self::split::pieces;
use self::split::run_split;
use self::time::run_trim;

mod names;

use std::io::Write;
use std::path::Path;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ops::clips::{Found, Summary, summaries};
use nimble_curve_core::scene::{Clip, Scene, Take};
use serde_json::{Value, json};

use crate::args::{Clips, ClipsAction};
use crate::failure::Failure;
use crate::files::{InputArgs, Output};
use crate::gate::Promise;
use crate::report::{self};
use crate::step::{Step, between_files, say_warnings};
use crate::terminal::{Report, Style};

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
        Some(ClipsAction::Range(args)) => noted(args, &args.file, args.input, &args.output.of(&args.file)),
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

/// The takes that a name means; all where none is given.
fn takes_named<'a>(scene: &'a Scene, wanted: Option<&str>, file: &Path) -> Result<Vec<&'a Take>, Failure> {
    let Some(name) = wanted else { return Ok(scene.takes.iter().collect()) };
    let found: Vec<&Take> = scene.takes.iter().filter(|take| take.name == name).collect();
    if found.is_empty() {
        return Err(Failure::unknown("take", name, scene.takes.iter().map(|take| take.name.as_str()), file));
    }
    Ok(found)
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

/// A frame as a JSON number: whole where it is.
fn number(frame: f64) -> Value {
    if (frame - frame.round()).abs() < 1e-6 { json!(frame.round() as i64) } else { json!(frame) }
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
