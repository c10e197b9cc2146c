//! `layers`: the stack shown, flattened, split and set.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::judge::{Claim, Scope};
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::layers::{
    FlattenOptions, LayerSettings, LayersError, SplitOptions, flatten, set, split,
};
use nimble_curve_core::scene::{Layer, LayerMode, RotationMixing, Scene, Take};
use nimble_curve_core::similar::similar;
use nimble_curve_core::time::TimeRange;
use serde::Serialize;

use crate::args::{Layers, LayersAction, LayersDifference, LayersFlatten, LayersSet, Mode, Rotations};
use crate::failure::Failure;
use crate::files;
use crate::gate::Promise;
use crate::report::{self, LedgerJson, counted, frame, listed};
use crate::step::{BoxedStep, Joins, SceneCache, Step, StepOutput, between_files};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Layers) -> Result<(), Failure> {
    match &args.action {
        None => show(args),
        Some(LayersAction::Flatten(args)) => run_flatten(args),
        Some(LayersAction::Difference(args)) => run_split(args),
        Some(LayersAction::Set(args)) => run_set(args),
    }
}

fn show(args: &Layers) -> Result<(), Failure> {
    let Some(file) = &args.file else { return Err(Failure::new("name a file whose layers to show")) };
    let scene = files::read(file, args.input)?.scene;
    let mut out = Report::out();
    if args.json {
        let takes: Vec<TakeJson<'_>> = scene.takes.iter().map(|take| TakeJson::new(&scene, take)).collect();
        return Ok(report::print_json(&mut out, &takes)?);
    }
    if scene.takes.is_empty() {
        return Err(Failure::new(format!("{}: there is no take, and so no layer", file.display())));
    }
    for take in &scene.takes {
        let first = frame(scene.rate.frame(take.range.first));
        let last = frame(scene.rate.frame(take.range.last));
        let title = format!(
            "take {}: {}, frames {first}:{last} at {} a second",
            take.name,
            counted(take.layers.len(), "layer"),
            scene.rate
        );
        writeln!(out, "{}", Style::Strong.paint(&title))?;
        stack_table(&scene, take).print(&mut out)?;
        writeln!(out, "  {}", Style::Faint.paint("the topmost layer stands first; the last is the base"))?;
    }
    Ok(())
}

fn stack_table(scene: &Scene, take: &Take) -> Table {
    let mut table = Table::new(&[
        ("layer", Align::Left),
        ("mode", Align::Left),
        ("rotations mix", Align::Left),
        ("weight", Align::Right),
        ("tracks", Align::Right),
        ("keys", Align::Right),
        ("samples", Align::Right),
        ("frames", Align::Right),
        ("nodes", Align::Left),
    ]);
    let addresses = Addresses::new(scene);
    for layer in take.layers.iter().rev() {
        let summary = Summary::new(layer);
        let nodes: Vec<&str> = summary.nodes.iter().map(|&node| addresses.node(node)).collect();
        let frames = match summary.range {
            Some(range) => {
                format!("{}:{}", frame(scene.rate.frame(range.first)), frame(scene.rate.frame(range.last)))
            }
            None => String::new(),
        };
        let state = if layer.muted { " (muted)" } else { "" };
        let cells = [
            format!("{}{state}", layer.name),
            mode_name(layer.mode).to_owned(),
            mixing_name(layer.rotations).to_owned(),
            weight_of(scene, layer),
            layer.tracks.len().to_string(),
            summary.keys.to_string(),
            summary.samples.to_string(),
            frames,
            if nodes.len() > 3 { counted(nodes.len(), "node") } else { listed(&nodes, 3) },
        ];
        if layer.is_active() { table.row(cells) } else { table.styled(Style::Warn, cells) }
    }
    table
}

/// What is on a layer.
struct Summary {
    nodes: BTreeSet<(usize, nimble_curve_core::rig::NodeId)>,
    keys: usize,
    samples: usize,
    range: Option<TimeRange>,
}

impl Summary {
    fn new(layer: &Layer) -> Summary {
        Summary {
            nodes: layer.tracks.iter().map(|track| (track.target.rig, track.target.node)).collect(),
            keys: layer.tracks.iter().map(|track| track.controller.key_count()).sum(),
            samples: layer.tracks.iter().map(|track| track.controller.sample_count()).sum(),
            range: layer.tracks.iter().filter_map(|track| track.controller.range()).reduce(TimeRange::union),
        }
    }
}

fn mode_name(mode: LayerMode) -> &'static str {
    match mode {
        LayerMode::Additive => "additive",
        LayerMode::Override => "override",
    }
}

fn mixing_name(mixing: RotationMixing) -> &'static str {
    match mixing {
        RotationMixing::Angles => "as angles",
        RotationMixing::Quaternions => "as quaternions",
    }
}

/// The weight in percent; from and to where it is animated.
fn weight_of(scene: &Scene, layer: &Layer) -> String {
    use nimble_curve_core::controller::Weight;
    let percent = |weight: f64| format!("{}%", report::frame((weight * 1e4).round() / 1e2));
    match (&layer.weight, layer.weight.constant()) {
        (_, Some(weight)) => percent(weight),
        (Weight::Curve(curve), None) => {
            let frames = curve.range().map_or(0..=0, |range| {
                scene.rate.nearest_frame(range.first)..=scene.rate.nearest_frame(range.last)
            });
            let values = frames.filter_map(|frame| curve.value_at(scene.rate.ticks(frame).as_f64()));
            let (low, high) =
                values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
            format!("{} to {}", percent(low), percent(high))
        }
        (Weight::Constant(weight), None) => percent(*weight),
    }
}

impl Step for LayersFlatten {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let channels = self.choice.channels(scene, file)?;
        let options = FlattenOptions { only: self.layer.clone(), channels, tolerance: self.tolerance };
        let (result, ledger) = flatten(scene, &options).map_err(|error| suggest(error, scene))?;
        let mut worked = StepOutput::same(scene, result, ledger, self.tolerance);
        if let Some(promise) = &mut worked.promise {
            promise.scope = Scope::AllButLayers;
        }
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        Some(Box::new(LayersFlatten { tolerance: self.tolerance.times(factor), ..self.clone() }))
    }
}

fn run_flatten(args: &LayersFlatten) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, StepOutput { ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    print_ledger(&mut out, &scene, &ledger)?;
    let kept = ledger.count(Fate::Kept);
    if kept > 0 {
        let kept = counted(kept, "track");
        match args.choice.is_everything() {
            true => writeln!(out, "  {kept} on one layer only, and kept")?,
            false => writeln!(out, "  {kept} on one layer only, or not chosen, and kept")?,
        }
    }
    Ok(report::close(&mut out, &closing)?)
}

/// All that was not just kept.
fn print_ledger(out: &mut impl Write, scene: &Scene, ledger: &Ledger) -> Result<(), Failure> {
    let changed = ledger.entries.iter().filter(|entry| entry.fate != Fate::Kept);
    if report::print_entries(out, changed, &scene.space)? == 0 {
        writeln!(out, "  nothing had to change")?;
    }
    report::print_remarks(out, &ledger.notes)?;
    Ok(())
}

impl Step for LayersDifference {
    fn work(&self, scene: &Scene, file: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure> {
        let other = shelf.scene(&self.against, self.input)?;
        // What moves in one of the two alone differs as well.
        let only = match (self.choice.channels(scene, file), self.choice.channels(&other, &self.against)) {
            (Ok(own), Ok(theirs)) => own.into_iter().chain(theirs).collect(),
            (Ok(own), Err(_)) => own,
            (Err(_), Ok(theirs)) => theirs,
            (Err(error), Err(_)) => return Err(error),
        };
        let options = SplitOptions { name: self.name.clone(), only, tolerance: self.tolerance };
        let (result, ledger) = split(scene, &other, &options)?;
        // With the layer on it moves as the other file does; what that has beside motion is its own.
        let claim = Claim { takes_chosen: true, ..Claim::same_by_address(&other, &result) };
        let promise = Promise::of(claim.excusing(&other, &ledger), self.tolerance, Scope::Nothing);
        let other = Some(Scene::clone(&other));
        Ok(StepOutput {
            promise: Some(promise),
            origin: other,
            joins: Joins::ByResult,
            ..StepOutput::new(result, ledger)
        })
    }
}

fn run_split(args: &LayersDifference) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    output.check(&[&args.against])?;
    let (scene, StepOutput { ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} + layer {} → {}", args.file.display(), args.name, output.path.display());
    if ledger.entries.is_empty() {
        let alike = "the two move alike: the layer is empty".to_owned();
        return Ok(report::head(&mut out, &arrow, &(Style::Warn, alike))?);
    }
    report::head(&mut out, &arrow, &outcome)?;
    print_ledger(&mut out, &scene, &ledger)?;
    Ok(report::close(&mut out, &closing)?)
}

impl Step for LayersSet {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let settings = LayerSettings {
            weight: self.weight,
            muted: if self.mute { Some(true) } else { self.unmute.then_some(false) },
            mode: self.mode.map(|mode| match mode {
                Mode::Additive => LayerMode::Additive,
                Mode::Override => LayerMode::Override,
            }),
            rotations: self.rotations.map(|rotations| match rotations {
                Rotations::Angles => RotationMixing::Angles,
                Rotations::Quaternions => RotationMixing::Quaternions,
            }),
            name: self.rename.clone(),
        };
        let mut result = scene.clone();
        set(&mut result, &self.layer, &settings).map_err(|error| suggest(error, scene))?;
        // How it is to look was stated; the file has to be that.
        Ok(StepOutput::new(result, Ledger::default()))
    }
}

fn run_set(args: &LayersSet) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (_, StepOutput { scene, .. }) = between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    let called = args.rename.as_ref().unwrap_or(&args.layer);
    report::head(&mut out, &arrow, &(Style::Good, format!("layer '{called}' is set")))?;
    for take in &scene.takes {
        stack_table(&scene, take).print(&mut out)?;
    }
    Ok(())
}

/// The error with the most similar layer's name, where it names one that is not there.
fn suggest(error: LayersError, scene: &Scene) -> Failure {
    let LayersError::NoLayer(name) = &error else { return Failure::Layers(error) };
    let names = scene.takes.iter().flat_map(|take| &take.layers).map(|layer| layer.name.as_str());
    match similar(name, names) {
        Some(name) => Failure::new(format!("{error} (did you mean '{name}'?)")),
        None => Failure::Layers(error),
    }
}

#[derive(Serialize)]
struct TakeJson<'a> {
    take: &'a str,
    layers: Vec<LayerJson<'a>>,
}

#[derive(Serialize)]
struct LayerJson<'a> {
    name: &'a str,
    mode: &'static str,
    rotations: &'static str,
    /// `null` where the weight is animated.
    weight: Option<f64>,
    muted: bool,
    nodes: Vec<String>,
    tracks: usize,
    keys: usize,
    sampled_values: usize,
    first_frame: Option<f64>,
    last_frame: Option<f64>,
}

impl<'a> TakeJson<'a> {
    fn new(scene: &'a Scene, take: &'a Take) -> TakeJson<'a> {
        let addresses = Addresses::new(scene);
        let layers = take.layers.iter().map(|layer| {
            let summary = Summary::new(layer);
            LayerJson {
                name: &layer.name,
                mode: mode_name(layer.mode),
                rotations: mixing_name(layer.rotations),
                weight: layer.weight.constant(),
                muted: layer.muted,
                nodes: summary.nodes.iter().map(|&node| addresses.node(node).to_owned()).collect(),
                tracks: layer.tracks.len(),
                keys: summary.keys,
                sampled_values: summary.samples,
                first_frame: summary.range.map(|range| scene.rate.frame(range.first)),
                last_frame: summary.range.map(|range| scene.rate.frame(range.last)),
            }
        });
        TakeJson { take: &take.name, layers: layers.collect() }
    }
}
