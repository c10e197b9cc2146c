//! One job: a source through all steps, and its files written whole.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::ErrorKind;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use clap::Parser as _;
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::clips::keys_of;
use nimble_curve_core::ops::profile::fit;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::profile::read_profile;
use nimble_curve_formats::{FormatError, Loaded, Saving, encoded, output_format, write_bytes_by};

use super::plan::{Job, Plan};
use super::recipe::{Kind, Recipe, Stage};
use super::record::{Digest, LeftOut, Made, Outcome, Record, Records, digest, digest_of_file, temporary};
use crate::args::{Cli, ClipsAction, ClipsSplit, Command};
use crate::commands::clips::pieces;
use crate::failure::Failure;
use crate::gate::{self, Origin, Promise};
use crate::named::{Named, safe};
use crate::pattern::{Hole, Pattern};
use crate::report::{LedgerJson, print_json};
use crate::sheet;
use crate::step::{SceneCache, Stated, StepOutput};

/// Whether files are replaced that are there and not as a run wrote them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Overwrite {
    Never,
    Always,
}

/// All that jobs share.
pub struct JobRunner<'a> {
    recipe: &'a Recipe,
    plan: &'a Plan<'a>,
    records: &'a Records,
    shelf: SceneCache,
    overwrite: Overwrite,
    /// The files of this run, with the sources that they are made from.
    claims: Mutex<HashMap<String, String>>,
    is_full: AtomicBool,
}

/// Why a job has no result.
enum JobError {
    /// What was read; it would be the same again.
    Contents(Failure),
    /// Where it was to be written, or that it could not be read: next time may be better.
    Place(Failure),
}

impl From<Failure> for JobError {
    fn from(failure: Failure) -> JobError {
        match failure {
            Failure::Format(FormatError::Read { .. } | FormatError::Write { .. }) => JobError::Place(failure),
            failure => JobError::Contents(failure),
        }
    }
}

impl From<FormatError> for JobError {
    fn from(error: FormatError) -> JobError {
        JobError::from(Failure::from(error))
    }
}

/// A scene on its way.
struct Item {
    take: Option<String>,
    clip: Option<String>,
    /// Keys and samples in the source.
    before: usize,
    worked: StepOutput,
    /// What the last steps that promise something began with.
    origin: Option<Arc<Scene>>,
    /// What became of everything in steps before these, judged already.
    done: Ledger,
}

/// A file to be written.
struct Product {
    made: Made,
    bytes: Vec<u8>,
}

impl<'a> JobRunner<'a> {
    pub fn new(
        recipe: &'a Recipe,
        plan: &'a Plan<'a>,
        records: &'a Records,
        overwrite: Overwrite,
    ) -> JobRunner<'a> {
        JobRunner {
            recipe,
            plan,
            records,
            shelf: SceneCache::that_keeps(),
            overwrite,
            claims: Mutex::default(),
            is_full: AtomicBool::new(false),
        }
    }

    /// Does a job, and says what came of it. What will be the same again is in the job's record, too.
    pub fn work(&self, job: &Job) -> Record {
        let start = Instant::now();
        let mut record = Record {
            source: job.source.clone(),
            outcome: Outcome::Begun,
            program: env!("CARGO_PKG_VERSION").to_owned(),
            steps: job.steps.clone(),
            inputs: job.inputs.clone(),
            outputs: Vec::new(),
            earlier: job
                .record
                .iter()
                .flat_map(Record::written)
                .map(|(f, c)| (f.to_owned(), c.clone()))
                .collect(),
            error: None,
            seconds: 0.0,
        };
        let made = self.made(job);
        let result = made.and_then(|products| self.write(job, products, &mut record, start));
        if let Err(trouble) = result {
            record.outcome = Outcome::Failed;
            record.outputs.clear();
            record.seconds = start.elapsed().as_secs_f64();
            record.error = Some(match &trouble {
                JobError::Contents(failure) | JobError::Place(failure) => failure.to_string(),
            });
            if matches!(trouble, JobError::Contents(_)) {
                self.keep_earlier(&mut record);
                // A record that cannot be written is no worse than none: the job is done again.
                let _ = self.records.write(&job.id, &record);
            }
        }
        record
    }

    /// Leaves of the earlier files those that are there and that nothing has replaced.
    fn keep_earlier(&self, record: &mut Record) {
        let outputs: HashSet<&str> = record.outputs.iter().map(|made| made.file.as_str()).collect();
        let is_there = |file: &str| !outputs.contains(file) && self.recipe.resolved(file).is_file();
        let mut seen = HashSet::new();
        record
            .earlier
            .retain(|(file, contents)| is_there(file) && seen.insert((file.clone(), contents.clone())));
    }

    /// The files of a job.
    fn made(&self, job: &Job) -> Result<Vec<Product>, JobError> {
        let loaded = nimble_curve_formats::read(&job.path, self.recipe.input.assumed())?;
        let loaded = Loaded { scene: sheet::attached(loaded.scene, &job.path), ..loaded };
        let before = loaded.scene.takes.iter().map(Take::value_count).sum();
        let output = &self.recipe.output;
        let is_split = |stage: &Arc<Stage>| matches!(stage.kind, Kind::Split(_));
        // How many keys a part had is looked up in the source.
        let parts = output.has(Hole::Clip) || output.has(Hole::Take) || job.stages.iter().any(is_split);
        let source = if parts { loaded.scene.takes.clone() } else { Vec::new() };
        let mut first = StepOutput::new(loaded.scene, Ledger::default());
        first.ledger.notes.extend(loaded.notes);
        first.warnings.extend(loaded.mended);
        let mut items = vec![Item {
            take: None,
            clip: None,
            before,
            worked: first,
            origin: None,
            done: Ledger::default(),
        }];
        let mut rig = None;
        for stage in &job.stages {
            // A rig or map that cannot be read now may be read next time.
            let failed = |failure: Failure| {
                let said = Failure::new(format!("{}: {failure}", stage.name));
                match JobError::from(failure) {
                    JobError::Contents(_) => JobError::Contents(said),
                    JobError::Place(_) => JobError::Place(said),
                }
            };
            items = match &stage.kind {
                Kind::Work(step) => {
                    let work = |item: Item| {
                        let more = step.work(&item.worked.scene, &job.path, &self.shelf).map_err(failed)?;
                        item.followed_by(more).map_err(failed)
                    };
                    items.into_iter().map(work).collect::<Result<Vec<Item>, JobError>>()?
                }
                Kind::Split(args) if args.nodes.is_everything() => {
                    split(items, args, &source, &job.path).map_err(failed)?
                }
                Kind::Split(args) => {
                    let thin = |item: Item| {
                        let more = args.nodes.work(&item.worked.scene, &job.path, args.tolerance);
                        item.followed_by(more.map_err(failed)?).map_err(failed)
                    };
                    let items = items.into_iter().map(thin).collect::<Result<Vec<Item>, JobError>>()?;
                    split(items, args, &source, &job.path).map_err(failed)?
                }
            };
            rig = stage.rig.clone().or(rig);
        }
        if output.has(Hole::Clip) && items.iter().all(|item| item.clip.is_none()) {
            items = split(items, &plain_split()?, &source, &job.path)?;
        }
        if output.has(Hole::Take) {
            items = items.into_iter().flat_map(|item| by_take(item, &source)).collect();
        }
        let mut products = Vec::new();
        for (index, item) in items.into_iter().enumerate() {
            products.extend(self.products(job, (index, item), rig.as_deref().unwrap_or(&job.path))?);
        }
        let mut names = HashSet::new();
        match products.iter().find(|product| !names.insert(product.made.file.as_str())) {
            Some(twice) => {
                let file = &twice.made.file;
                Err(Failure::new(format!(
                    "two results would be written to {file}: put {{take}} and {{clip}} into its name"
                ))
                .into())
            }
            None => Ok(products),
        }
    }

    /// The files that a scene becomes: the animation, its ledger, and pictures.
    fn products(
        &self,
        job: &Job,
        (index, item): (usize, Item),
        base: &Path,
    ) -> Result<Vec<Product>, JobError> {
        let Item { take, clip, before, worked, origin, done } = item;
        let StepOutput {
            mut scene,
            mut ledger,
            warnings,
            pictures,
            mut promise,
            joins,
            closing: earlier,
            ..
        } = worked;
        let mut stated = job.stated()?;
        if let Some((_, path)) = &self.recipe.profile {
            let profile = read_profile(path)?;
            stated = stated.or(Stated::by(&profile));
            let (fitted, more) = fit(&scene, &profile, &self.recipe.tolerance).map_err(Failure::from)?;
            let mut next = Promise::same(&scene, &fitted, self.recipe.tolerance);
            next.claim = next.claim.excusing(&scene, &more);
            promise = promise.map(|promise| promise.then(&next));
            scene = fitted;
            ledger = ledger.followed_by(more);
        }
        let range = scene.takes.first().map(|take| take.range);
        let part = Named {
            scene: "",
            folder: "",
            take: take.as_deref().unwrap_or(""),
            clip: clip.as_deref().unwrap_or(""),
            range,
            rate: scene.rate,
            index,
        };
        let named = |pattern: &Pattern| {
            pattern.path(|hole| if hole.is_of_contents() { safe(&part.fill(hole)) } else { job.fill(hole) })
        };
        let file = named(&self.recipe.output);
        let path = self.recipe.resolved(&file);
        let saving = Saving {
            tolerance: self.recipe.tolerance,
            without_extra: self.recipe.without_extra,
            skeletons: self.recipe.skeletons,
            keep_unit: stated.unit,
            keep_up: stated.up,
            base: Some(base),
            ..Saving::default()
        };
        let made = encoded(&scene, output_format(&path)?, &path, &saving)?;
        let origin = origin.as_deref().zip(promise.as_ref());
        let origin = origin.map(|(source, promise)| Origin { source, promise });
        let verdict = gate::judged(&made, &scene, &path, (&saving, &saving.tolerance), origin)?;
        let source = origin.map_or(&scene, |origin| origin.source);
        if let Some(why) = gate::refusal(&verdict, &scene) {
            return Err(Failure::new(why).into());
        }
        let closing = gate::closing(&verdict, &scene);
        let (bytes, more) = (made.bytes, made.ledger);
        // What other programs find in the file.
        let after = more.entries.iter().map(|entry| entry.after).sum();
        let mut ledger = joined(ledger, more);
        if origin.is_some() {
            joins.settle(&verdict, &mut ledger, source, &scene);
        }
        let mut ledger = joined(done, ledger);
        ledger.notes.extend(earlier.into_iter().chain(closing.into_iter().skip(1)).map(|(_, line)| line));
        let beside = |file: String, bytes: Vec<u8>| Product {
            made: Made {
                file,
                contents: digest(&bytes),
                is_animation: false,
                take: take.clone(),
                clip: clip.clone(),
                before: 0,
                after: 0,
                rotation_deg: None,
                position_mm: None,
                number: None,
                left_out: Vec::new(),
                warnings: Vec::new(),
                notes: Vec::new(),
            },
            bytes,
        };
        let mut products = Vec::new();
        if let Some(pattern) = &self.recipe.ledger {
            let mut bytes = Vec::new();
            print_json(&mut bytes, &LedgerJson::new(&ledger, &scene.space)).map_err(Failure::from)?;
            products.push(beside(named(pattern), bytes));
        }
        for (path, bytes) in pictures {
            let own = path.strip_prefix(self.recipe.folder()).unwrap_or(&path);
            products.push(beside(own.to_string_lossy().into_owned(), bytes));
        }
        let error = |quantity, factor: f64| ledger.error(quantity).map(|error| error.largest * factor);
        let left_out = ledger.entries.iter().filter(|entry| entry.fate == Fate::LeftOut);
        let made = Made {
            contents: digest(&bytes),
            file,
            is_animation: true,
            take: take.clone(),
            clip: clip.clone(),
            before,
            after,
            rotation_deg: error(Quantity::Angle, 1_f64.to_degrees()),
            position_mm: error(Quantity::Length, scene.space.metres_per_unit * 1000.0),
            number: error(Quantity::Number, 1.0),
            left_out: left_out.map(|e| LeftOut { channel: e.channel.clone(), why: e.note.clone() }).collect(),
            warnings,
            notes: ledger.notes,
        };
        products.insert(0, Product { made, bytes });
        Ok(products)
    }

    /// Writes the files of a job, each whole or not at all, and its record before and after.
    fn write(
        &self,
        job: &Job,
        products: Vec<Product>,
        record: &mut Record,
        start: Instant,
    ) -> Result<(), JobError> {
        let mut to_write = Vec::new();
        for product in &products {
            let path = self.recipe.resolved(&product.made.file);
            self.claim(job, &product.made.file)?;
            let there = digest_of_file(&path);
            if there.as_ref() == Some(&product.made.contents) {
                continue;
            }
            if there.is_some_and(|there| !self.is_ours(&product.made.file, &there))
                && self.overwrite == Overwrite::Never
            {
                return Err(JobError::Place(Failure::new(format!(
                    "{} is there and is not as a run wrote it: --replace writes over it",
                    path.display()
                ))));
            }
            to_write.push((path, &product.bytes));
        }
        record.outputs = products.iter().map(|product| product.made.clone()).collect();
        record.seconds = start.elapsed().as_secs_f64();
        self.records.write(&job.id, record).map_err(JobError::Place)?;
        for (path, bytes) in to_write {
            if let Some(folder) = path.parent() {
                fs::create_dir_all(folder).map_err(|error| {
                    JobError::Place(Failure::new(format!(
                        "{}: the folder cannot be made: {error}",
                        folder.display()
                    )))
                })?;
            }
            write_bytes_by(bytes, &path, Some(&temporary(&job.id))).map_err(|error| self.unwritten(error))?;
        }
        record.outcome = Outcome::Done;
        self.keep_earlier(record);
        record.seconds = start.elapsed().as_secs_f64();
        self.records.write(&job.id, record).map_err(JobError::Place)
    }

    /// Why an output was not written; on a full disk, no other will be.
    fn unwritten(&self, error: FormatError) -> JobError {
        let FormatError::Write { source, .. } = error else { return JobError::Place(Failure::from(error)) };
        if source.kind() == ErrorKind::StorageFull {
            self.is_full.store(true, Ordering::SeqCst);
        }
        JobError::Place(Failure::new(format!("its output cannot be written: {source}")))
    }

    /// Whether there is no more room to write.
    pub fn is_full(&self) -> bool {
        self.is_full.load(Ordering::SeqCst)
    }

    /// Takes a file for a job; refused where it is a source, or another job's.
    fn claim(&self, job: &Job, file: &str) -> Result<(), JobError> {
        let refused = |text: String| Err(JobError::Contents(Failure::new(text)));
        if self.plan.sources.contains(file) {
            return refused(format!("it would be written over the source {file}"));
        }
        let mut claims = self.claims.lock().unwrap_or_else(PoisonError::into_inner);
        let other = claims.get(file).map(String::as_str).or_else(|| self.plan.maker_besides(job, file));
        if let Some(other) = other.filter(|other| *other != job.source) {
            return refused(format!(
                "{file} is written from {other} already: put {{folder}} or {{stem}} into its name"
            ));
        }
        claims.insert(file.to_owned(), job.source.clone());
        Ok(())
    }

    /// Whether a file's contents are what a run wrote there.
    fn is_ours(&self, file: &str, contents: &Digest) -> bool {
        self.plan.written.get(file).is_some_and(|written| written.contents.contains(contents))
    }
}

impl Item {
    /// The item after one more step. What is promised is judged from the first step on, once it is written; a step that
    /// promises more than that all is the same begins anew, and what came before it is judged now.
    fn followed_by(mut self, mut more: StepOutput) -> Result<Item, Failure> {
        let promise = more.promise.take();
        let so_far = self.origin.take().zip(self.worked.promise.take());
        let (origin, promise) = match (so_far, promise) {
            (Some((origin, first)), Some(next)) if next.can_follow() && more.origin.is_none() => {
                more.joins = self.worked.joins;
                (Some(origin), Some(first.then(&next)))
            }
            (so_far, next) => {
                if let Some((origin, first)) = so_far {
                    self.worked.close(&origin, &first, false)?;
                }
                let ledger = std::mem::take(&mut self.worked.ledger);
                self.done = joined(self.done, ledger);
                let began = more.origin.take();
                let began = || began.unwrap_or_else(|| self.worked.scene.clone());
                let origin = next.is_some().then(|| Arc::new(began()));
                // Errors of positions are in units of the scene.
                let factor = self.worked.scene.space.metres_per_unit / more.scene.space.metres_per_unit;
                self.done = self.done.with_lengths_scaled(factor);
                (origin, next)
            }
        };
        let worked = StepOutput { promise, ..followed(self.worked, more) };
        Ok(Item { take: self.take, clip: self.clip, before: self.before, worked, origin, done: self.done })
    }
}

/// One ledger after another, either of which may be empty.
fn joined(first: Ledger, then: Ledger) -> Ledger {
    if first.entries.is_empty() && first.notes.is_empty() { then } else { first.followed_by(then) }
}

/// What came of two steps, one after the other.
fn followed(first: StepOutput, mut then: StepOutput) -> StepOutput {
    // Errors of positions are in units of the scene.
    let factor = first.scene.space.metres_per_unit / then.scene.space.metres_per_unit;
    then.ledger = first.ledger.with_lengths_scaled(factor).followed_by(then.ledger);
    then.warnings.splice(0..0, first.warnings);
    then.closing.splice(0..0, first.closing);
    then.pictures.splice(0..0, first.pictures);
    then
}

/// The split that an output with `{clip}` in its name means where no step says one.
fn plain_split() -> Result<ClipsSplit, Failure> {
    let cli = Cli::try_parse_from(["nimble-curve", "clips", "split", "--output=-", "--", "-"]);
    match cli.map_err(|error| Failure::new(error.to_string()))?.command {
        Some(Command::Clips(clips)) => match clips.action {
            Some(ClipsAction::Split(args)) => Ok(args),
            _ => Err(Failure::new("clips split is no split")),
        },
        _ => Err(Failure::new("clips split is no command of clips")),
    }
}

/// A scene a clip.
fn split(items: Vec<Item>, args: &ClipsSplit, source: &[Take], path: &Path) -> Result<Vec<Item>, Failure> {
    let mut all = Vec::new();
    for item in items {
        let whole = Arc::new(item.worked.scene.clone());
        for piece in pieces(args, &item.worked.scene, path)? {
            let of_clip = |ledger: &Ledger| {
                let mut ledger = of_take(ledger, &piece.take);
                ledger.entries.iter_mut().for_each(|entry| entry.take.clone_from(&piece.clip.name));
                ledger
            };
            let (ledger, done) = (of_clip(&item.worked.ledger), of_clip(&item.done));
            let (from, promise) = match (&item.origin, &item.worked.promise) {
                (Some(origin), Some(first)) => (Arc::clone(origin), first.then(&piece.promise)),
                _ => (Arc::clone(&whole), piece.promise),
            };
            let worked = StepOutput {
                warnings: item.worked.warnings.clone(),
                promise: Some(promise),
                ..StepOutput::new(piece.scene, ledger.followed_by(piece.ledger))
            };
            // Where the source has this take, its keys in the clip are those that there were.
            let own = source.iter().find(|take| take.name == piece.take);
            let before = own.map_or_else(
                || worked.scene.takes.iter().map(Take::value_count).sum(),
                |take| keys_of(take, piece.clip.range),
            );
            all.push(Item {
                take: Some(piece.take),
                clip: Some(piece.clip.name),
                before,
                worked,
                origin: Some(from),
                done,
            });
        }
        if let Some(first) = all.last_mut() {
            first.worked.pictures.splice(0..0, item.worked.pictures);
        }
    }
    Ok(all)
}

/// A scene a take.
fn by_take(item: Item, source: &[Take]) -> Vec<Item> {
    if item.take.is_some() {
        return vec![item];
    }
    let mut pictures = item.worked.pictures;
    let scene = item.worked.scene;
    let alone = |take: &Take| {
        let own = source.iter().find(|own| own.name == take.name);
        let alone = Scene { takes: vec![take.clone()], ..scene.clone() };
        let promise = item.worked.promise.as_ref().map(|promise| {
            let mut one = Promise::timed(&scene, &alone, &[]);
            // The only take counts as one of another name where a scene has one, too.
            one.claim.spans.retain(|span| scene.takes[span.source].name == take.name);
            one.claim.takes_chosen = true;
            promise.then(&one)
        });
        let worked = StepOutput {
            warnings: item.worked.warnings.clone(),
            pictures: std::mem::take(&mut pictures),
            closing: item.worked.closing.clone(),
            promise,
            ..StepOutput::new(alone, of_take(&item.worked.ledger, &take.name))
        };
        let before = own.map_or(item.before, |own| own.value_count());
        Item {
            take: Some(take.name.clone()),
            clip: None,
            before,
            worked,
            origin: item.origin.clone(),
            done: of_take(&item.done, &take.name),
        }
    };
    scene.takes.iter().map(alone).collect()
}

/// What a ledger says of one take.
fn of_take(ledger: &Ledger, take: &str) -> Ledger {
    let entries = ledger.entries.iter().filter(|entry| entry.take == take).cloned().collect();
    Ledger { entries, notes: ledger.notes.clone() }
}
