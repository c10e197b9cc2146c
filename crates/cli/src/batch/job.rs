//! One job: a source through all steps.

use std::collections::{BTreeMap, HashSet};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::profile::fit;
use nimble_curve_core::scene::Take;
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::profile::read_profile;
use nimble_curve_formats::{Loaded, Saving, encoded, output_format};

use super::item::{Item, by_take, joined, plain_split, split};
use super::origin::Origin as Worker;
use super::plan::{Job, Plan};
use super::recipe::{Kind, Recipe, Stage};
use super::record::{LeftOut, Made, Outcome, Record, digest};
use super::writer::{JobError, Overwrite, Product, Writer, sweep};
use crate::failure::Failure;
use crate::gate::{self, InWorld, Origin, Promise};
use crate::named::{Named, safe};
use crate::pattern::{Hole, Pattern};
use crate::report::{LedgerJson, print_json};
use crate::sheet;
use crate::step::{BoxedStep, Closeness, SceneCache, Stated, StepOutput};

/// All that jobs share.
pub struct JobRunner<'a> {
    recipe: &'a Recipe,
    plan: &'a Plan<'a>,
    shelf: SceneCache,
    writer: Writer<'a>,
}

/// A job with its steps, ready to be done.
struct Order<'a> {
    job: &'a Job<'a>,
    /// Where its source is.
    path: &'a Path,
    stages: &'a [Arc<Stage>],
}

impl Order<'_> {
    /// Which of unit and up axis its steps were told.
    fn stated(&self) -> Result<Stated, Failure> {
        let steps = self.stages.iter().filter_map(|stage| match &stage.kind {
            Kind::Work(step) => Some(step),
            Kind::Split(_) => None,
        });
        steps.map(|step| step.stated()).try_fold(Stated::default(), |all, own| Ok(all.or(own?)))
    }
}

/// How closely a job is done: the first time as it is asked for, then closer, as far as the judge found it off.
struct Attempt {
    closeness: Closeness,
    /// What the judge would have it tightened by.
    tightening: Option<f64>,
    /// What was promised the first time of each scene, which is what was asked for.
    promised: Vec<Option<(Tolerance, Option<InWorld>)>>,
    /// How many scenes came by in this attempt.
    seen: usize,
}

impl Default for Attempt {
    fn default() -> Attempt {
        Attempt { closeness: Closeness::ASKED, tightening: None, promised: Vec::new(), seen: 0 }
    }
}

impl Attempt {
    fn begin(&mut self) {
        self.seen = 0;
    }

    /// Whether it is worth another one, which is tightened.
    fn goes_on(&mut self) -> bool {
        self.closeness.tighten(self.tightening.take())
    }

    /// Holds what was done closer to what was promised the first time.
    fn settle(&mut self, more: &mut StepOutput) {
        let own = more.promise.as_ref().map(|promise| (promise.tolerance, promise.world));
        if self.seen == self.promised.len() {
            self.promised.push(own);
        } else if let (Some(promise), Some(Some((tolerance, world)))) =
            (&mut more.promise, self.promised.get(self.seen))
        {
            (promise.tolerance, promise.world) = (*tolerance, *world);
        }
        self.seen += 1;
    }
}

/// The same step with its tolerances times a factor, where it can.
fn closer(stage: &Stage, factor: f64) -> Option<BoxedStep> {
    match &stage.kind {
        Kind::Work(step) => step.closer(factor),
        Kind::Split(_) => None,
    }
}

impl<'a> JobRunner<'a> {
    pub fn new(plan: &'a Plan<'a>, overwrite: Overwrite) -> JobRunner<'a> {
        JobRunner {
            recipe: plan.recipe,
            plan,
            shelf: SceneCache::that_keeps(),
            writer: Writer::new(plan, overwrite),
        }
    }

    /// Whether there is no more room to write.
    pub fn is_full(&self) -> bool {
        self.writer.is_full()
    }

    /// Does a job, and says what came of it, in its record too. An error of the program itself does not end the others.
    pub fn work(&self, job: &Job<'_>) -> Record {
        let start = Instant::now();
        if let Some(begun) = job.record.as_deref().filter(|record| record.outcome == Outcome::Begun) {
            // Whoever began it may have been killed while it wrote.
            sweep(self.plan, begun);
        }
        let fill = |hole| job.source.fill(hole);
        let filled = self.recipe.filled(fill);
        let mut record = Record {
            source: job.source.name.to_string(),
            outcome: Outcome::Begun,
            program: env!("CARGO_PKG_VERSION").to_owned(),
            steps: filled.steps.clone(),
            inputs: self.plan.inputs().of(job.source, &filled),
            outputs: Vec::new(),
            earlier: job
                .record
                .iter()
                .flat_map(|record| record.written())
                .map(|(f, c)| (f.to_owned(), c.clone()))
                .collect(),
            error: None,
            seconds: 0.0,
            origin: Worker::now(),
            stamps: BTreeMap::new(),
        };
        let path = self.recipe.resolved(&job.source.name);
        let result = catch_unwind(AssertUnwindSafe(|| {
            let stages = self.recipe.stages(&filled, fill)?;
            let products = self.made(&Order { job, path: &path, stages })?;
            self.writer.write(job, products, &mut record, start)
        }));
        let result = result.unwrap_or_else(|fault| {
            let why =
                fault.downcast_ref::<String>().map(String::as_str).or(fault.downcast_ref::<&str>().copied());
            let why = why.unwrap_or("no reason given");
            Err(JobError::Blocked(Failure::new(format!(
                "the program failed on this file; please report it with the file: {why}"
            ))))
        });
        if let Err(trouble) = result {
            record.seconds = start.elapsed().as_secs_f64();
            self.writer.write_failure(job, trouble, &mut record);
        }
        record
    }

    /// The files of a job. Where the judge finds one too far off, the last step that can do so works closer, as its command does
    /// between files, and so does the format.
    fn made(&self, order: &Order<'_>) -> Result<Vec<Product>, JobError> {
        let (source, items) = self.opened(order)?;
        let last = order.stages.iter().rposition(|stage| closer(stage, 1.0).is_some()).unwrap_or(0);
        let (before, after) = order.stages.split_at(last);
        let mut attempt = Attempt::default();
        let mut items = Some(self.through(before, items, order, &source, None)?);
        loop {
            let now = match items.take() {
                Some(items) => items,
                None => self.opened(order)?.1,
            };
            // What was only read is read again rather than kept twice.
            let kept = (!before.is_empty()).then(|| now.clone());
            attempt.begin();
            let done = self.through(after, now, order, &source, Some(&mut attempt));
            match done.and_then(|items| self.written(order, items, &source, &mut attempt)) {
                Err(_) if attempt.goes_on() => items = kept,
                result => return result,
            }
        }
    }

    /// The source, with its takes where parts of it are looked up in them.
    fn opened(&self, order: &Order<'_>) -> Result<(Vec<Take>, Vec<Item>), JobError> {
        let loaded = nimble_curve_formats::read(order.path, self.recipe.input.assumed())?;
        let loaded = Loaded { scene: sheet::attached(loaded.scene, order.path), ..loaded };
        let before = loaded.scene.takes.iter().map(Take::value_count).sum();
        let output = &self.recipe.output;
        let is_split = |stage: &Arc<Stage>| matches!(stage.kind, Kind::Split(_));
        // How many keys a part had is looked up in the source.
        let parts = output.has(Hole::Clip) || output.has(Hole::Take) || order.stages.iter().any(is_split);
        let source = if parts { loaded.scene.takes.clone() } else { Vec::new() };
        let mut first = StepOutput::new(loaded.scene, Ledger::default());
        first.ledger.notes.extend(loaded.notes);
        first.warnings.extend(loaded.mended);
        let item =
            Item { take: None, clip: None, before, worked: first, origin: None, done: Ledger::default() };
        Ok((source, vec![item]))
    }

    /// What steps make of scenes; the first of them, in an attempt, as close as that asks for.
    fn through(
        &self,
        stages: &[Arc<Stage>],
        mut items: Vec<Item>,
        order: &Order<'_>,
        source: &[Take],
        mut attempt: Option<&mut Attempt>,
    ) -> Result<Vec<Item>, JobError> {
        for stage in stages {
            // A rig or map that cannot be read now may be read next time.
            let failed = |failure: Failure| {
                let said = Failure::new(format!("{}: {failure}", stage.name));
                match JobError::from(failure) {
                    JobError::Place(_) => JobError::Place(said),
                    _ => JobError::Contents(said),
                }
            };
            let mut asked = attempt.take();
            items = match &stage.kind {
                Kind::Work(step) => {
                    let factor = asked.as_ref().map_or(1.0, |attempt| attempt.closeness.factor);
                    let closer = if factor < 1.0 { closer(stage, factor) } else { None };
                    let step = closer.as_ref().unwrap_or(step);
                    let work = |item: Item| {
                        let mut more =
                            step.work(&item.worked.scene, order.path, &self.shelf).map_err(failed)?;
                        if let Some(attempt) = &mut asked {
                            attempt.settle(&mut more);
                        }
                        item.followed_by(more).map_err(failed)
                    };
                    items.into_iter().map(work).collect::<Result<Vec<Item>, JobError>>()?
                }
                Kind::Split(args) if args.nodes.is_everything() => {
                    split(items, args, source, order.path).map_err(failed)?
                }
                Kind::Split(args) => {
                    let thin = |item: Item| {
                        let more = args.nodes.work(&item.worked.scene, order.path, args.tolerance);
                        item.followed_by(more.map_err(failed)?).map_err(failed)
                    };
                    let items = items.into_iter().map(thin).collect::<Result<Vec<Item>, JobError>>()?;
                    split(items, args, source, order.path).map_err(failed)?
                }
            };
        }
        Ok(items)
    }

    /// The files that scenes become.
    fn written(
        &self,
        order: &Order<'_>,
        mut items: Vec<Item>,
        source: &[Take],
        attempt: &mut Attempt,
    ) -> Result<Vec<Product>, JobError> {
        let output = &self.recipe.output;
        if output.has(Hole::Clip) && items.iter().all(|item| item.clip.is_none()) {
            items = split(items, &plain_split()?, source, order.path)?;
        }
        if output.has(Hole::Take) {
            items = items.into_iter().flat_map(|item| by_take(item, source)).collect();
        }
        let rig = order.stages.iter().rev().find_map(|stage| stage.rig.as_deref());
        let mut products = Vec::new();
        for (index, item) in items.into_iter().enumerate() {
            products.extend(self.products(order, (index, item), rig.unwrap_or(order.path), attempt)?);
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
        order: &Order<'_>,
        (index, item): (usize, Item),
        base: &Path,
        attempt: &mut Attempt,
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
        let mut stated = order.stated()?;
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
            pattern.path(|hole| {
                if hole.is_of_contents() { safe(&part.fill(hole)) } else { order.job.source.fill(hole) }
            })
        };
        let file = named(&self.recipe.output);
        let path = self.recipe.resolved(&file);
        let allowed = self.recipe.tolerance;
        let saving = Saving {
            tolerance: allowed.times(attempt.closeness.factor),
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
        let verdict = gate::judged(&made, &scene, &path, (&saving, &allowed), origin)?;
        let source = origin.map_or(&scene, |origin| origin.source);
        if let Some(why) = gate::refusal(&verdict, &scene, origin.and_then(|origin| origin.promise.remedy)) {
            attempt.tightening = gate::tightening(&verdict);
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
}
