//! Commands as steps: what they make of a scene, whichever file it came from and goes to.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use nimble_curve_core::judge::Verdict;
use nimble_curve_core::ledger::{Ledger, MeasuredError};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::profile::Profile;
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::Saving;

use crate::failure::Failure;
use crate::files::{self, InputArgs, Output, Written};
use crate::gate::{self, Origin, Promise};
use crate::sheet;
use crate::terminal::Line;
use crate::terminal::{self, Style};

/// How the errors that the judge finds are joined to what a ledger says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Joins {
    /// The ledger names properties of the scene that the promise is in terms of.
    #[default]
    BySource,
    /// It names properties of the result, and the promise is in terms of another scene.
    ByResult,
    /// They are in it: it was judged before, in terms of another scene.
    Already,
}

impl Joins {
    /// Puts errors into a ledger.
    pub fn settle(self, verdict: &Verdict, ledger: &mut Ledger, source: &Scene, result: &Scene) {
        match self {
            Joins::BySource => verdict.settle(ledger, source),
            Joins::ByResult => verdict.settle_by_result(ledger, result),
            Joins::Already => {}
        }
    }
}

/// What a step made of a scene.
#[derive(Clone, Debug)]
pub struct StepOutput {
    pub scene: Scene,
    pub ledger: Ledger,
    /// What a person should look at, beside what the ledger says was left out.
    pub warnings: Vec<String>,
    /// Files that were made beside the scene: pictures, by their path.
    pub pictures: Vec<(PathBuf, Vec<u8>)>,
    /// What it should be, along which it is judged.
    pub promise: Option<Promise>,
    /// What that is in terms of, where it is not the scene that was worked on.
    pub origin: Option<Scene>,
    /// How errors are joined to the ledger.
    pub joins: Joins,
    /// How far it is off in the world, in place and in turn, where that is promised.
    pub in_world: [Option<MeasuredError>; 2],
    /// What came of it, in a few words, once it was written.
    pub outcome: Line,
    /// What the judge found, in sentences, once it was written.
    pub closing: Vec<Line>,
}

impl StepOutput {
    /// The same motion as a scene, within a tolerance; what the ledger says was left out is so.
    pub fn same(source: &Scene, scene: Scene, ledger: Ledger, tolerance: Tolerance) -> StepOutput {
        let mut promise = Promise::same(source, &scene, tolerance);
        promise.claim = promise.claim.excusing(source, &ledger);
        StepOutput { promise: Some(promise), ..StepOutput::new(scene, ledger) }
    }

    /// What came of a step that promises the same of what another one made, in terms of what that was made of.
    pub fn after(self, first: Promise, ledger: &Ledger) -> StepOutput {
        let world = first.world;
        let promise = self.promise.map(|promise| Promise { world, ..first.then(&promise) });
        StepOutput { promise, ledger: ledger.clone().followed_by(self.ledger), ..self }
    }

    /// The very scene, which was only looked at.
    pub fn unchanged(scene: &Scene) -> StepOutput {
        let promise = Promise::timed(scene, scene, &[]);
        StepOutput { promise: Some(promise), ..StepOutput::new(scene.clone(), Ledger::default()) }
    }

    /// Takes in what the judge found: its errors, and its closing words.
    pub fn settle(&mut self, source: &Scene, written: &Written) {
        if self.promise.is_some() {
            self.joins.settle(&written.verdict, &mut self.ledger, source, &self.scene);
            let verdict = &written.verdict;
            if self.promise.as_ref().is_some_and(|promise| promise.world.is_some()) {
                let error = |found: &Option<(MeasuredError, String)>| found.as_ref().map(|(error, _)| *error);
                self.in_world = [error(&verdict.world), error(&verdict.world_turn)];
            }
            self.outcome = gate::outcome(&self.ledger, verdict, &self.scene);
            self.closing.extend(gate::closing(verdict, &self.scene));
        }
    }

    /// Judges what was done so far, without a file: its errors and closing words are taken in. Beyond a limit it fails,
    /// unless that `is_accepted`.
    pub fn close(&mut self, source: &Scene, promise: &Promise, is_accepted: bool) -> Result<(), Failure> {
        self.close_by(&gate::judged_scene(&self.scene, Origin { source, promise }), source, is_accepted)
    }

    /// The same where it was judged already.
    pub fn close_by(&mut self, verdict: &Verdict, source: &Scene, is_accepted: bool) -> Result<(), Failure> {
        if let Some(why) =
            gate::refusal(verdict, &self.scene, self.promise.as_ref().and_then(|promise| promise.remedy))
                .filter(|_| !is_accepted)
        {
            return Err(Failure::new(why));
        }
        self.joins.settle(verdict, &mut self.ledger, source, &self.scene);
        self.closing.extend(gate::closing(verdict, &self.scene).into_iter().skip(1));
        Ok(())
    }

    pub fn new(scene: Scene, ledger: Ledger) -> StepOutput {
        StepOutput {
            scene,
            ledger,
            warnings: Vec::new(),
            pictures: Vec::new(),
            promise: None,
            origin: None,
            joins: Joins::BySource,
            in_world: [None, None],
            outcome: (Style::Good, "written".to_owned()),
            closing: Vec::new(),
        }
    }
}

/// What of a space was said, by an option or a profile.
#[derive(Clone, Copy, Debug, Default)]
pub struct Stated {
    pub unit: bool,
    pub up: bool,
}

impl Stated {
    /// What a profile says.
    pub fn by(profile: &Profile) -> Stated {
        Stated { unit: profile.metres_per_unit.is_some(), up: profile.up.is_some() }
    }

    /// What either says.
    pub fn or(self, other: Stated) -> Stated {
        Stated { unit: self.unit || other.unit, up: self.up || other.up }
    }
}

/// A command that makes one scene of another, between files or in a recipe.
pub trait Step: Sync {
    /// Does it; `file` names the scene in messages, other files come off the shelf.
    fn work(&self, scene: &Scene, file: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure>;

    /// Which of unit and up axis it was told, so that formats that state none are written in them.
    fn stated(&self) -> Result<Stated, Failure> {
        Ok(Stated::default())
    }

    /// The same with its tolerances times a factor, where it has any.
    fn closer(&self, _factor: f64) -> Option<BoxedStep> {
        None
    }
}

/// A step of any kind.
pub type BoxedStep = Box<dyn Step + Send>;

/// How closely something is done: as it is asked for, then closer, as far as the judge finds it off.
#[derive(Clone, Copy, Debug)]
pub struct Closeness {
    /// What tolerances are multiplied by while it is done; what is promised stays.
    pub factor: f64,
    attempts: usize,
    tightening: Option<f64>,
}

impl Closeness {
    /// As it is asked for.
    pub const ASKED: Closeness = Closeness { factor: 1.0, attempts: 1, tightening: None };
    /// How often it is done before its result is refused.
    const ATTEMPTS: usize = 4;
    /// What is farther beyond its limit than the first of these, and comes no nearer than the second from one attempt to the next, stays
    /// where it is however close it is fitted.
    const HOPELESS: (f64, f64) = (3.0, 0.95);

    /// Whether it is worth another attempt, which is then this much closer; see [`crate::gate::tightening`].
    pub fn tighten(&mut self, by: Option<f64>) -> bool {
        let Some(by) = by.filter(|_| self.attempts < Closeness::ATTEMPTS) else { return false };
        let (far, nearer) = Closeness::HOPELESS;
        if by * far < 1.0 && self.tightening.is_some_and(|before| before > by * nearer) {
            return false;
        }
        self.factor *= by;
        self.attempts += 1;
        self.tightening = Some(by);
        true
    }
}

/// Does a step between two files; also gives the scene as it was.
pub fn between_files(
    step: &impl Step,
    file: &Path,
    input: InputArgs,
    output: &Output,
) -> Result<(Scene, StepOutput), Failure> {
    output.check(&[file])?;
    let scene = files::read(file, input)?.scene;
    let shelf = SceneCache::default();
    let mut worked = step.work(&scene, file, &shelf)?;
    let mut saving = Saving { base: Some(file), ..Saving::default() };
    let allowed = saving.tolerance;
    let promised = worked.promise.as_ref().map(|promise| (promise.tolerance, promise.world));
    let mut closeness = Closeness::ASKED;
    let written = loop {
        let source = worked.origin.as_ref().unwrap_or(&scene);
        let origin = worked.promise.as_ref().map(|promise| Origin { source, promise });
        let prepared = output.prepare(&worked.scene, (&saving, &allowed), origin)?;
        let is_again = closeness.tighten(prepared.tightening());
        let Some(closer) = is_again.then(|| step.closer(closeness.factor)).flatten() else {
            break output.finish(prepared, &worked.scene)?;
        };
        saving.tolerance = allowed.times(closeness.factor);
        worked = closer.work(&scene, file, &shelf)?;
        // What was promised is what was asked for.
        if let (Some(promise), Some((tolerance, world))) = (&mut worked.promise, promised) {
            (promise.tolerance, promise.world) = (tolerance, world);
        }
    };
    worked.settle(&scene, &written);
    Ok((scene, worked))
}

/// The other files that steps need, such as target rigs.
#[derive(Default)]
pub struct SceneCache {
    kept: Option<Mutex<HashMap<String, Arc<Scene>>>>,
}

impl SceneCache {
    /// A shelf that keeps what was read, for many scenes that need the same; it says nothing of what had to be assumed.
    pub fn that_keeps() -> SceneCache {
        SceneCache { kept: Some(Mutex::default()) }
    }

    /// The scene of a file.
    pub fn scene(&self, path: &Path, input: InputArgs) -> Result<Arc<Scene>, Failure> {
        let Some(kept) = &self.kept else { return Ok(Arc::new(files::read(path, input)?.scene)) };
        // Whoever else needs the file waits until it is read.
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        let key = format!("{} {input:?}", path.display());
        if let Some(scene) = kept.get(&key) {
            return Ok(Arc::clone(scene));
        }
        let scene = Arc::new(sheet::attached(nimble_curve_formats::read(path, input.assumed())?.scene, path));
        kept.insert(key, Arc::clone(&scene));
        Ok(scene)
    }
}

/// Says the warnings of a step on standard error.
pub fn say_warnings(worked: &StepOutput) {
    for warning in &worked.warnings {
        terminal::remark(warning);
    }
}
