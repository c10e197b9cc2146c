//! `convert`: format to format, in another space or at another rate, in part or whole.

use std::borrow::Cow;
use std::path::Path;

use nimble_curve_core::judge::{Sampling, Scope};
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::budget::affordable;
use nimble_curve_core::ops::controllers::{ConvertOptions, convert_controllers};
use nimble_curve_core::ops::conversion::ControllerType;
use nimble_curve_core::ops::nodes::Thinned;
use nimble_curve_core::ops::profile::fit;
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::ops::unscale::{Unscaled, unscaled};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_formats::profile::read_profile;
use nimble_curve_formats::table::{Columns, TableTimes};
use nimble_curve_formats::{Format, Saving, output_format};

use crate::args::{Controllers, Convert};
use crate::failure::Failure;
use crate::files::{self, Output, Written};
use crate::gate::{self, Origin, Promise};
use crate::nodes::promised;
use crate::report::{self, LedgerJson};
use crate::step::{Closeness, SceneCache, Stated, Step, StepOutput};
use crate::terminal::Report;

impl Step for Convert {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let worked = worked_on(scene, file, self)?;
        let promise = worked.promise(self, scene);
        Ok(StepOutput {
            promise: Some(promise),
            ..StepOutput::new(worked.scene.into_owned(), worked.ledger.unwrap_or_default())
        })
    }

    fn stated(&self) -> Result<Stated, Failure> {
        let by_options = Stated { unit: self.to_unit.is_some(), up: self.to_up.is_some() };
        let profile = self.profile.as_ref().map(|path| read_profile(path)).transpose()?;
        Ok(profile.as_ref().map_or(by_options, |profile| by_options.or(Stated::by(profile))))
    }
}

pub fn run(args: &Convert) -> Result<(), Failure> {
    let path = args.output.as_ref().or(args.out.as_ref()).unwrap_or(&args.file);
    let output = Output::new(path.clone(), args.over);
    output.check(&[&args.file])?;
    for (is_set, option, formats, fits) in [
        (args.skeletons, "--skeletons", "USD (.usda, .usdc, .usdz)", Format::is_usd as fn(Format) -> bool),
        (args.over_asset.is_some(), "--over-asset", "USD layers (.usda, .usdc)", |format| {
            matches!(format, Format::Usda | Format::Usdc)
        }),
        (args.matrices, "--matrices", "COLLADA (.dae)", |format| format == Format::Collada),
        (args.times.is_some(), "--times", "tables (.csv)", |format| format == Format::Csv),
        (args.buffer_beside, "--buffer-beside", "glTF as text (.gltf)", |format| format == Format::Gltf),
    ] {
        if is_set && !fits(output_format(path)?) {
            let file = path.display();
            return Err(Failure::new(format!("{file}: {option} is for {formats} only")));
        }
    }
    let source = source(args)?;
    let stated = args.stated()?;
    let saving = Saving {
        tolerance: args.tolerance,
        without_extra: args.without_extra,
        skeletons: args.skeletons,
        matrices: args.matrices,
        over: args.over_asset.as_deref(),
        buffer_beside: args.buffer_beside,
        keep_unit: stated.unit,
        keep_up: stated.up,
        times: args.times.map_or(TableTimes::Frames, TableTimes::from),
        keep_start: args.keep_start,
        base: Some(&args.file),
    };
    let (scene, ledger, written) = made(args, &source, &output, saving)?;
    // What writing has to say was said when it was written.
    let notes = ledger.as_ref().map_or(Vec::new(), |ledger| ledger.notes.clone());
    let mut ledger = match ledger {
        Some(ledger) => ledger.followed_by(written.ledger),
        None => written.ledger,
    };
    written.verdict.settle(&mut ledger, &source);
    let json = LedgerJson::new(&ledger, &scene.space);
    if let Some(path) = &args.ledger {
        let mut bytes = Vec::new();
        report::print_json(&mut bytes, &json)?;
        nimble_curve_formats::write_bytes(&bytes, path)?;
    }
    let mut out = Report::beside(path);
    if args.json {
        return Ok(report::print_json(&mut out, &json)?);
    }
    let arrow = format!("{} → {}", args.file.display(), path.display());
    report::head(&mut out, &arrow, &gate::outcome(&ledger, &written.verdict, &scene))?;
    if !ledger.entries.is_empty() {
        report::print_fates(&mut out, &ledger, &scene.space)?;
    }
    report::print_remarks(&mut out, &notes)?;
    report::print_noted(&mut out, &ledger, if args.controllers.is_some() { usize::MAX } else { 6 })?;
    Ok(report::close(&mut out, &gate::closing(&written.verdict, &scene))?)
}

/// The scene that is converted.
fn source(args: &Convert) -> Result<Scene, Failure> {
    let Some(names) = &args.columns else { return Ok(files::read(&args.file, args.input)?.scene) };
    let columns = Columns::read(names)?;
    files::read_table(&args.file, &columns, args.input).map(|loaded| loaded.scene)
}

/// Works on a scene and writes it, closer where the judge finds it farther off than it may be.
fn made<'a>(
    args: &Convert,
    source: &'a Scene,
    output: &Output,
    saving: Saving<'_>,
) -> Result<(Cow<'a, Scene>, Option<Ledger>, Written), Failure> {
    let mut closeness = Closeness::ASKED;
    loop {
        let closer = Convert { tolerance: args.tolerance.times(closeness.factor), ..args.clone() };
        let worked = worked_on(source, &args.file, &closer)?;
        // What is promised is what was asked for.
        let promise = worked.promise(args, source);
        let Worked { scene, mut ledger, unscaled, .. } = worked;
        let origin = Some(Origin { source, promise: &promise });
        // Meshes were made for the rig as it was scaled.
        let base = saving.base.filter(|_| unscaled.is_none());
        if base.is_none() && is_written_into_its_like(&args.file, &output.path) {
            let why = "nothing but the rig and its motion is in it: meshes are made for the rig as it was";
            ledger.get_or_insert_default().notes.push(why.to_owned());
        }
        let saving = Saving { tolerance: closer.tolerance, base, ..saving };
        let prepared = output.prepare(&scene, (&saving, &args.tolerance), origin)?;
        if !closeness.tighten(prepared.tightening()) {
            let written = output.finish(prepared, &scene)?;
            return Ok((scene, ledger, written));
        }
    }
}

/// Whether a file is written into another of its format, of which what is not read stays.
fn is_written_into_its_like(file: &Path, output: &Path) -> bool {
    let of = |path: &Path| output_format(path).ok();
    let is_gltf = |format| matches!(format, Some(Format::Glb | Format::Gltf));
    let is_collada = |format| format == Some(Format::Collada);
    is_gltf(of(file)) && is_gltf(of(output)) || is_collada(of(file)) && is_collada(of(output))
}

/// What was done to a scene before it is written.
struct Worked<'a> {
    /// The scene with some of its nodes, where not all were asked for; the rest was done to that.
    thinned: Option<Thinned>,
    /// The scene without even scales, where these were to go; the rest was done to that.
    unscaled: Option<Unscaled>,
    /// The very source where nothing was done.
    scene: Cow<'a, Scene>,
    /// None where nothing was done.
    ledger: Option<Ledger>,
}

impl Worked<'_> {
    /// What is promised of it, in terms of the source.
    fn promise(&self, args: &Convert, source: &Scene) -> Promise {
        Promise { whole_world: args.world, ..self.promised(args, source) }
    }

    fn promised(&self, args: &Convert, source: &Scene) -> Promise {
        let ledger = self.ledger.as_ref();
        if let Some(unscaled) = &self.unscaled {
            let first = Promise::of(unscaled.claim.clone(), args.tolerance, Scope::Everything);
            let next = promise(args, &unscaled.scene, &self.scene, ledger);
            let (scope, sampling) = (next.scope, next.claim.sampling);
            let takes_chosen = next.claim.takes_chosen;
            let mut whole = Promise { scope, tolerance: args.tolerance, ..first.then(&next) };
            (whole.claim.sampling, whole.claim.takes_chosen) = (sampling, takes_chosen);
            return whole;
        }
        let Some(thinned) = &self.thinned else { return promise(args, source, &self.scene, ledger) };
        let first = promised(source, thinned, args.tolerance);
        let (world, next) = (first.world, promise(args, &thinned.scene, &self.scene, ledger));
        let sampling = next.claim.sampling;
        let mut whole = Promise { world, tolerance: args.tolerance, ..first.then(&next) };
        whole.claim.sampling = sampling;
        whole
    }
}

/// The same motion, but for what was not selected; exactly the same where nothing is done to it.
fn promise(args: &Convert, source: &Scene, result: &Scene, ledger: Option<&Ledger>) -> Promise {
    let exact = Tolerance { angle: 1e-9, length: 1e-9, number: 1e-9 };
    let Some(ledger) = ledger else { return Promise::same(source, result, exact) };
    let mut promise = Promise::same(source, result, args.tolerance);
    promise.claim = promise.claim.excusing(source, ledger);
    promise.claim.takes_chosen = !args.take.is_empty();
    if args.profile.is_some() {
        promise.scope = Scope::AllButLayers;
        // What a profile wants as samples is the same where these are.
        promise.claim.sampling = Sampling::Result;
    }
    if args.controllers == Some(Controllers::Samples) {
        promise.claim.sampling = Sampling::Result;
    }
    promise
}

/// What is done to the scene before it is written, in order; no ledger where nothing is.
fn worked_on<'a>(source: &'a Scene, file: &Path, args: &Convert) -> Result<Worked<'a>, Failure> {
    // What is fitted where nodes go leaves room for the rest.
    let thinned = args.nodes.thinned(source, file, args.tolerance.times(0.5))?;
    let unscaled = match args.unscale {
        true => unscaled(source).map_err(|error| Failure::new(format!("{}: {error}", file.display())))?,
        false => None,
    };
    let begun = (thinned.as_ref().map(|thinned| (&thinned.scene, &thinned.ledger)))
        .or(unscaled.as_ref().map(|unscaled| (&unscaled.scene, &unscaled.ledger)));
    let mut scene = match begun {
        Some((scene, _)) => Cow::Owned(scene.clone()),
        None => Cow::Borrowed(source),
    };
    let mut ledger: Option<Ledger> = begun.map(|(_, ledger)| ledger.clone());
    if args.unscale && unscaled.is_none() {
        let why = "no node is scaled evenly at rest, and hands that on: no length changed";
        ledger.get_or_insert_default().notes.push(why.to_owned());
    }
    let take_in = |ledger: &mut Option<Ledger>, more: Ledger| {
        *ledger = Some(match ledger.take() {
            Some(ledger) => ledger.followed_by(more),
            None => more,
        });
    };
    let chosen = args.choice.channels(&scene, &args.file)?;
    let selects = !args.take.is_empty() || !chosen.is_empty() && args.controllers.is_none();
    if selects || args.frames.is_some() {
        let range = args
            .frames
            .map(|(first, last)| TimeRange::new(scene.rate.ticks_at(first), scene.rate.ticks_at(last)));
        let only = if args.controllers.is_none() { chosen.clone() } else { Vec::new() };
        let selection = Selection { takes: args.take.clone(), only, range, tolerance: args.tolerance };
        let (part, more) = select(&scene, &selection)?;
        scene = Cow::Owned(part);
        take_in(&mut ledger, more);
    }
    if let Some(form) = args.controllers {
        let form = match form {
            Controllers::Curves => ControllerType::Curves,
            Controllers::Quaternions => ControllerType::Quaternion,
            Controllers::Constant => ControllerType::Constant,
            Controllers::Samples => ControllerType::Samples(scene.rate),
        };
        let options = ConvertOptions { form, only: chosen, tolerance: args.tolerance };
        if matches!(form, ControllerType::Samples(_)) {
            affordable(&scene, None, scene.rate)?;
        }
        let (changed, more) = convert_controllers(&scene, &options);
        scene = Cow::Owned(changed);
        take_in(&mut ledger, more);
    }
    let space = Space {
        metres_per_unit: args.to_unit.unwrap_or(scene.space.metres_per_unit),
        up: args.to_up.unwrap_or(scene.space.up),
        ..scene.space
    };
    if space != scene.space {
        let (moved, more) = in_space(&scene, &space);
        let factor = scene.space.metres_per_unit / space.metres_per_unit;
        ledger = ledger.map(|ledger| ledger.with_lengths_scaled(factor));
        scene = Cow::Owned(moved);
        take_in(&mut ledger, more);
    }
    if let Some(rate) = args.to_rate.filter(|rate| *rate != scene.rate) {
        scene.to_mut().rate = rate;
    }
    if let Some(path) = &args.profile {
        let profile = read_profile(path)?;
        let (fitted, more) = fit(&scene, &profile, &args.tolerance)?;
        scene = Cow::Owned(fitted);
        take_in(&mut ledger, more);
    }
    Ok(Worked { thinned, unscaled, scene, ledger })
}
