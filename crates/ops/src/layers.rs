//! Layers: written together, taken apart, and set.

use std::collections::HashSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Discrete, DiscreteCurve, Side, Ticks};
use nimble_curve_curves::rotation::{Knot, RotationPath};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, PropertySampler};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};
use rayon::prelude::*;
use thiserror::Error;

use super::Tolerance;
use super::channel::{Bookkeeper, count};
use super::conversion::{
    ConversionContext, ConvertedController, Grid, NotConvertible, refitted_numbers, refitted_rotation,
    sampled,
};
use super::linear::{Sums, with_constants};
use super::sampled_function::{SampledFunction, union_times};

/// Why layers cannot be changed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum LayersError {
    /// No layer of that name.
    #[error("there is no layer '{0}'")]
    NoLayer(String),
    /// A layer of that name is there already.
    #[error("there is a layer '{0}' already: give another name")]
    Taken(String),
    /// A layer that stays lies between others that are to become one.
    #[error(
        "layer '{stays}' lies under '{layer}' on {channel}, and the two cannot be swapped: flatten '{stays}' as well"
    )]
    Between {
        /// The one that stays.
        stays: String,
        /// The one above it.
        layer: String,
        /// Where.
        channel: String,
    },
    /// The other scene has no take to compare with.
    #[error("the other file has no take '{0}' to take the difference from")]
    NoTake(String),
    /// A weight that is not finite.
    #[error("a weight must be a finite number")]
    Weight,
    /// A controller cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// Values that have no sum.
    #[error("{channel}: {why}")]
    NotConvertible {
        /// Where.
        channel: String,
        /// Why.
        why: NotConvertible,
    },
}

/// How to flatten.
#[derive(Clone, Debug, Default)]
pub struct FlattenOptions {
    /// The layers to write onto the base; all where there are none.
    pub only: Vec<String>,
    /// How far the result may be from the layers where it cannot be exact.
    pub tolerance: Tolerance,
}

/// Writes layers onto the base layer of each take.
///
/// Exact on the union of the keys where the values are sums of curves: numbers and angles of one order with constant
/// weights. Elsewhere (scale, animated weights, quaternion layers, unlike handles or behaviours outside the keys)
/// refitted within the tolerance; sampled where samples are among them. Layers that do not count are left out.
///
/// # Errors
/// See [`LayersError`].
pub fn flatten(scene: &Scene, options: &FlattenOptions) -> Result<(Scene, Ledger), LayersError> {
    for name in &options.only {
        if !scene.takes.iter().flat_map(|take| &take.layers).any(|layer| layer.name == *name) {
            return Err(LayersError::NoLayer(name.clone()));
        }
    }
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        let is_chosen = |(index, layer): (usize, &Layer)| {
            index == 0 || options.only.is_empty() || options.only.contains(&layer.name)
        };
        let chosen: Vec<bool> = take.layers.iter().enumerate().map(is_chosen).collect();
        if take.layers.is_empty() {
            continue;
        }
        let job = Flatten::new(scene, take, &addresses, &chosen, options);
        let targets = job.targets();
        let done: Vec<(Vec<Entry>, Option<Track>)> =
            targets.par_iter().map(|target| job.property(target)).collect::<Result<_, _>>()?;
        let mut base = Layer::base(Vec::new());
        base.name.clone_from(&take.layers[0].name);
        for (entries, track) in done {
            ledger.entries.extend(entries);
            base.tracks.extend(track);
        }
        let rest = take.layers.iter().zip(&chosen).filter(|(_, chosen)| !**chosen).map(|(layer, _)| layer);
        out.layers = std::iter::once(base).chain(rest.cloned()).collect();
    }
    Ok((result, ledger))
}

struct Flatten<'a> {
    scene: &'a Scene,
    take: &'a Take,
    addresses: &'a Addresses,
    chosen: &'a [bool],
    /// The take with nothing but the chosen layers.
    part: Take,
    options: &'a FlattenOptions,
}

impl<'a> Flatten<'a> {
    fn new(
        scene: &'a Scene,
        take: &'a Take,
        addresses: &'a Addresses,
        chosen: &'a [bool],
        options: &'a FlattenOptions,
    ) -> Flatten<'a> {
        let layers = take.layers.iter().zip(chosen).filter(|(_, chosen)| **chosen);
        let part = Take { layers: layers.map(|(layer, _)| layer.clone()).collect(), ..take.clone() };
        Flatten { scene, take, addresses, chosen, part, options }
    }

    /// The properties on which some chosen layer has a track, in order of their first tracks.
    fn targets(&self) -> Vec<Target> {
        let mut seen = HashSet::new();
        let tracks = self.take.tracks().filter(|(layer, _)| self.chosen[*layer]);
        tracks.map(|(_, track)| track.target.clone()).filter(|target| seen.insert(target.clone())).collect()
    }

    fn property(&self, target: &Target) -> Result<(Vec<Entry>, Option<Track>), LayersError> {
        let books = Bookkeeper { addresses: self.addresses, take: self.take };
        let on: Vec<(usize, &Track)> =
            self.take.tracks().filter(|(_, track)| track.target == *target).collect();
        let counts = |layer: usize| self.take.layers[layer].is_active();
        let mut entries = Vec::new();
        for &(layer, track) in on.iter().filter(|(layer, _)| self.chosen[*layer] && !counts(*layer)) {
            let why =
                if self.take.layers[layer].muted { "the layer is muted" } else { "the layer has weight 0" };
            entries.push(books.changed(layer, track, Fate::LeftOut, 0, None, why));
        }
        self.check_between(target, &on)?;
        let active: Vec<(usize, &Track)> =
            on.iter().filter(|(layer, _)| self.chosen[*layer] && counts(*layer)).copied().collect();
        let is_plain = |layer: usize| {
            let layer = &self.take.layers[layer];
            layer.mode == LayerMode::Override && layer.weight.constant() == Some(1.0)
        };
        match active.as_slice() {
            [] => return Ok((entries, None)),
            [(layer, track)] if is_plain(*layer) => {
                entries.push(books.kept(*layer, track));
                return Ok((entries, Some((*track).clone())));
            }
            _ => {}
        }
        let changed = self.flattened(target, &active)?;
        let after = count(&Track { target: target.clone(), controller: changed.controller.clone() });
        let error = changed.error.map(|error| error.in_frames(self.scene.rate));
        let names: Vec<&str> =
            active.iter().map(|(layer, _)| self.take.layers[*layer].name.as_str()).collect();
        let note = match names.as_slice() {
            [only] => format!("from {only}"),
            several => format!("{} as one", several.join(" + ")),
        };
        let (layer, track) = active[0];
        let before = active.iter().map(|(_, track)| count(track)).sum();
        let entry = books.changed(layer, track, changed.fate, after, error, note);
        entries.push(Entry { before, ..entry });
        let is_empty =
            changed.controller.value_count() == 0 && !matches!(changed.controller, Controller::Constant(_));
        let track = Track { target: target.clone(), controller: changed.controller };
        Ok((entries, (!is_empty).then_some(track)))
    }

    /// Refuses where a layer that stays lies under one that goes down, unless the two add up in any order.
    fn check_between(&self, target: &Target, on: &[(usize, &Track)]) -> Result<(), LayersError> {
        let kind = self.scene.rigs[target.rig].property_kind(target.node, &target.property);
        let adds_up = |layer: &Layer| {
            layer.mode == LayerMode::Additive
                && (kind != Some(PropertyKind::Rotation) || layer.rotations == RotationMixing::Angles)
        };
        let active = |layer: usize| self.take.layers[layer].is_active();
        for &(stays, _) in on.iter().filter(|(layer, _)| !self.chosen[*layer] && active(*layer)) {
            for &(above, _) in
                on.iter().filter(|(layer, _)| self.chosen[*layer] && *layer > stays && active(*layer))
            {
                let (stays, above) = (&self.take.layers[stays], &self.take.layers[above]);
                if !(adds_up(stays) && adds_up(above)) {
                    return Err(LayersError::Between {
                        stays: stays.name.clone(),
                        layer: above.name.clone(),
                        channel: self.addresses.property(target),
                    });
                }
            }
        }
        Ok(())
    }

    fn flattened(
        &self,
        target: &Target,
        active: &[(usize, &Track)],
    ) -> Result<ConvertedController, LayersError> {
        let rig = &self.scene.rigs[target.rig];
        let missing = || EvaluateError::Missing(target.property.clone());
        let kind = rig.property_kind(target.node, &target.property).ok_or_else(missing)?;
        let rest = rig.rest_value(target.node, &target.property).ok_or_else(missing)?;
        let sums = Sums::of_layers(self.scene, &self.part, target);
        if let Some(sums) = &sums
            && let Some(controller) = as_controller(sums, &rest, self.take.range.first)
        {
            return Ok(ConvertedController { controller, fate: Fate::Exact, error: None });
        }
        let sampler = PropertySampler::new(self.scene, &self.part, target)?;
        let trace = SampledFunction::of_property(sampler);
        let weights = active.iter().map(|(layer, _)| &self.take.layers[*layer].weight);
        let weight_times = weights.clone().flat_map(|weight| weight.key_times(self.take.range));
        let controllers = || active.iter().map(|(_, track)| &track.controller);
        let mut times = union_times(controllers(), weight_times, self.take.range);
        let tolerance = self.options.tolerance.of(kind.quantity(), &self.scene.space);
        let range = controllers().filter_map(Controller::range).fold(self.take.range, |a, b| a.union(b));
        let setting = ConversionContext { kind, rest, tolerance, rate: self.scene.rate, range };
        if kind == PropertyKind::Discrete {
            return Ok(self.switches(
                &trace,
                &times,
                weights.clone().any(|weight| matches!(weight, Weight::Curve(_))),
            ));
        }
        let densest = controllers()
            .filter_map(Controller::samples)
            .max_by(|a, b| a.rate.fps().total_cmp(&b.rate.fps()));
        let failed = |why| LayersError::NotConvertible { channel: self.addresses.property(target), why };
        if let Some(samples) = densest {
            let grid = Grid::of(Some(samples), samples.rate);
            return sampled(&trace, grid, range, &setting).map_err(failed);
        }
        if kind == PropertyKind::Matrix {
            return sampled(&trace, Grid::whole(self.scene.rate), range, &setting).map_err(failed);
        }
        if times.is_empty() {
            times.push(self.take.range.first);
        }
        if kind == PropertyKind::Rotation {
            let start = match (trace.value(times[0].as_f64()), &setting.rest) {
                (Value::Euler { order, angles }, Value::Euler { order: rest, .. }) if order == *rest => {
                    angles
                }
                (_, Value::Euler { angles, .. }) => *angles,
                _ => DVec3::ZERO,
            };
            return Ok(refitted_rotation(&trace, &trace.knots(&times), start, &setting));
        }
        refitted_numbers(&trace, &times, &setting, sums.as_ref()).map_err(failed)
    }

    /// Values that only hold: a key wherever another one comes up.
    fn switches(&self, trace: &SampledFunction<'_>, times: &[Ticks], by_frame: bool) -> ConvertedController {
        let mut times = times.to_vec();
        if by_frame {
            let rate = self.scene.rate;
            let frames =
                rate.frame(self.take.range.first).ceil() as i64..=rate.frame(self.take.range.last) as i64;
            times.extend(frames.map(|frame| rate.ticks(frame)));
            times.sort_unstable();
            times.dedup();
        }
        let at = |time: Ticks| match trace.value(time.as_f64()) {
            Value::Discrete(value) => Some(value),
            _ => None,
        };
        let mut keys: Vec<(Ticks, Discrete)> = Vec::new();
        let mut last: Option<Ticks> = None;
        for time in times {
            let Some(value) = at(time) else { continue };
            if keys.last().is_none_or(|(_, held)| *held != value) {
                // A weight passes half between frames: the tick at which it does is sought.
                let mut found = time;
                if let (true, Some(mut before)) = (by_frame, last) {
                    while found.0 - before.0 > 1 {
                        let middle = Ticks(before.0 + (found.0 - before.0) / 2);
                        if at(middle).as_ref() == Some(&value) { found = middle } else { before = middle }
                    }
                }
                keys.push((found, value));
            }
            last = Some(time);
        }
        let curve = DiscreteCurve::new(keys).expect("the times are in order");
        ConvertedController { controller: Controller::Discrete(curve), fate: Fate::Exact, error: None }
    }
}

/// Sums as a controller, exactly; `None` where some sum is no curve of ours.
fn as_controller(sums: &Sums, rest: &Value, start: Ticks) -> Option<Controller> {
    let mut curves: Vec<Curve> = sums.numbers.iter().map(|number| number.curve()).collect::<Option<_>>()?;
    let offsets: Vec<f64> = sums.numbers.iter().map(|number| number.offset).collect();
    let numbers = match (sums.order, rest) {
        (Some(order), Value::Euler { order: own, .. }) if order != *own => None,
        _ => rest.numbers(),
    };
    with_constants(&mut curves, &offsets, numbers.as_deref(), start);
    Some(match sums.order {
        Some(order) => {
            let curves: [Curve; 3] = std::array::from_fn(|axis| std::mem::take(&mut curves[axis]));
            Controller::Euler(EulerCurves { order, curves })
        }
        None => Controller::Components(curves),
    })
}

/// How to take a difference.
#[derive(Clone, Debug)]
pub struct SplitOptions {
    /// The new layer's name.
    pub name: String,
    /// How far the result may be from the other take where it cannot be exact.
    pub tolerance: Tolerance,
}

/// Adds the difference between each take and that of another scene (of the same name, or the only one) as a new
/// additive layer: with it on top, the take moves as the other one does.
///
/// Differences of sums of curves are exact, with keys only where something differs; the rest is refitted. Rotations
/// mix by component where all of them are exact that way, else by quaternion.
///
/// # Errors
/// See [`LayersError`].
pub fn split(scene: &Scene, other: &Scene, options: &SplitOptions) -> Result<(Scene, Ledger), LayersError> {
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        if take.layers.iter().any(|layer| layer.name == options.name) {
            return Err(LayersError::Taken(options.name.clone()));
        }
        let same_name = other.takes.iter().find(|theirs| theirs.name == take.name);
        let theirs = match (same_name, scene.takes.as_slice(), other.takes.as_slice()) {
            (Some(theirs), _, _) | (None, [_], [theirs]) => theirs,
            _ => return Err(LayersError::NoTake(take.name.clone())),
        };
        let job = Split { scene, other, take, theirs, addresses: Addresses::new(scene), options };
        out.layers.push(job.layer(&mut ledger)?);
    }
    Ok((result, ledger))
}

struct Split<'a> {
    scene: &'a Scene,
    other: &'a Scene,
    take: &'a Take,
    theirs: &'a Take,
    addresses: Addresses,
    options: &'a SplitOptions,
}

/// A property that both scenes have.
struct Pair {
    ours: Target,
    theirs: Target,
    kind: PropertyKind,
    rest: Value,
}

impl Split<'_> {
    fn layer(&self, ledger: &mut Ledger) -> Result<Layer, LayersError> {
        let mut pairs = Vec::new();
        for pair in self.pairs(ledger) {
            if self.differs(&pair)? {
                pairs.push(pair);
            }
        }
        let exact: Vec<Option<Controller>> = pairs.par_iter().map(|pair| self.exact(pair)).collect();
        let by_component = pairs
            .iter()
            .zip(&exact)
            .all(|(pair, exact)| pair.kind != PropertyKind::Rotation || exact.is_some());
        let rotations = if by_component { RotationMixing::Angles } else { RotationMixing::Quaternions };
        let mut layer = Layer {
            name: self.options.name.clone(),
            mode: LayerMode::Additive,
            rotations,
            weight: Weight::FULL,
            muted: false,
            tracks: Vec::new(),
        };
        for (pair, exact) in pairs.iter().zip(exact) {
            let changed = match exact {
                Some(controller) if pair.kind != PropertyKind::Rotation || by_component => {
                    ConvertedController { controller, fate: Fate::Exact, error: None }
                }
                _ => self.refitted(pair)?,
            };
            let track = Track { target: pair.ours.clone(), controller: changed.controller };
            let error = changed.error.map(|error| error.in_frames(self.scene.rate));
            ledger.entries.push(Entry {
                take: self.take.name.clone(),
                layer: self.options.name.clone(),
                channel: self.addresses.property(&pair.ours),
                to: None,
                target: Some(pair.ours.clone()),
                fate: changed.fate,
                error,
                before: 0,
                after: count(&track),
                note: "the difference".into(),
            });
            layer.tracks.push(track);
        }
        Ok(layer)
    }

    /// The properties that some track of either take is on, by address.
    fn pairs(&self, ledger: &mut Ledger) -> Vec<Pair> {
        let theirs = Addresses::new(self.other);
        let mut found: Vec<(String, Option<Target>, Option<Target>)> = Vec::new();
        let mut seen = HashSet::new();
        for (_, track) in self.take.tracks() {
            let channel = self.addresses.property(&track.target);
            if seen.insert(channel.clone()) {
                let partner = theirs.find_property(&self.other.rigs, &channel).ok();
                found.push((channel, Some(track.target.clone()), partner));
            }
        }
        for (_, track) in self.theirs.tracks() {
            let channel = theirs.property(&track.target);
            if seen.insert(channel.clone()) {
                let ours = self.addresses.find_property(&self.scene.rigs, &channel).ok();
                found.push((channel, ours, Some(track.target.clone())));
            }
        }
        let mut pairs = Vec::new();
        for (channel, ours, theirs) in found {
            let missing = match (ours, theirs) {
                (Some(ours), Some(theirs)) => {
                    let rig = &self.scene.rigs[ours.rig];
                    let kind = rig.property_kind(ours.node, &ours.property);
                    let same =
                        self.other.rigs[theirs.rig].property_kind(theirs.node, &theirs.property) == kind;
                    if let (Some(kind), Some(rest), true) =
                        (kind, rig.rest_value(ours.node, &ours.property), same)
                    {
                        pairs.push(Pair { ours, theirs, kind, rest });
                        continue;
                    }
                    "is of another kind in the other file"
                }
                (Some(_), None) => "is not in the other file",
                _ => "is in the other file only",
            };
            ledger.notes.push(format!("{channel} {missing}: no difference was taken"));
        }
        pairs
    }

    fn traces(&self, pair: &Pair) -> Result<(SampledFunction<'_>, SampledFunction<'_>), EvaluateError> {
        let ours = PropertySampler::new(self.scene, self.take, &pair.ours)?;
        let theirs = PropertySampler::new(self.other, self.theirs, &pair.theirs)?;
        Ok((SampledFunction::of_property(ours), SampledFunction::of_property(theirs)))
    }

    /// The instants at which either side has keys, and those of the weights of its layers.
    fn times(&self, pair: &Pair) -> Vec<Ticks> {
        let range = self.take.range.union(self.theirs.range);
        let of = |take: &'_ Take, target: &Target| -> Vec<Ticks> {
            let mut times = Vec::new();
            for layer in take.layers.iter().filter(|layer| layer.is_active()) {
                let mut on = layer.tracks.iter().filter(|track| track.target == *target).peekable();
                if on.peek().is_some() {
                    times.extend(layer.weight.key_times(range));
                }
                times.extend(on.flat_map(|track| track.controller.key_times(range)));
            }
            times
        };
        let mut times = of(self.take, &pair.ours);
        times.extend(of(self.theirs, &pair.theirs));
        times.extend([range.first, range.last]);
        times.sort_unstable();
        times.dedup();
        times
    }

    /// Whether the two differ at a quarter of a frame or at a key.
    fn differs(&self, pair: &Pair) -> Result<bool, LayersError> {
        let (ours, theirs) = self.traces(pair)?;
        let times = self.times(pair);
        let step = self.scene.rate.ticks_per_frame() / 4.0;
        let (first, last) = (times[0].as_f64(), times[times.len() - 1].as_f64());
        let quarters = (0..=((last - first) / step) as usize).map(|index| first + index as f64 * step);
        Ok(times.iter().map(|time| time.as_f64()).chain(quarters).any(|time| {
            let (a, b) = (ours.value(time), theirs.value(time));
            match (a.numbers(), b.numbers()) {
                (Some(x), Some(y)) if x.len() == y.len() => {
                    let far = x.iter().zip(&y).any(|(x, y)| (x - y).abs() > 1e-9 * (1.0 + x.abs()));
                    match (a.rotation(), b.rotation()) {
                        // Unlike angles may be one rotation.
                        (Some(p), Some(q)) => {
                            far && nimble_curve_curves::rotation::angle_between(p, q) > 1e-9
                        }
                        _ => far,
                    }
                }
                _ => match (a.rotation(), b.rotation()) {
                    (Some(p), Some(q)) => nimble_curve_curves::rotation::angle_between(p, q) > 1e-9,
                    _ => a != b,
                },
            }
        }))
    }

    /// The difference where both sides are sums of curves.
    fn exact(&self, pair: &Pair) -> Option<Controller> {
        if pair.kind == PropertyKind::Discrete {
            return None;
        }
        let ours = Sums::of_layers(self.scene, self.take, &pair.ours)?;
        let theirs = Sums::of_layers(self.other, self.theirs, &pair.theirs)?;
        if pair.kind == PropertyKind::Scale || ours.order != theirs.order {
            return None;
        }
        let numbers: Vec<_> =
            theirs.numbers.into_iter().zip(&ours.numbers).map(|(theirs, ours)| theirs.less(ours)).collect();
        let sums = Sums { order: ours.order, numbers };
        let nothing = nimble_curve_scene::evaluate::neutral(pair.kind, &pair.rest);
        let controller = as_controller(&sums, &nothing, self.take.range.first)?;
        let thin = |curve: Curve| {
            let thinned = curve.thinned().without_still_ends();
            // What is the same on both sides needs no key.
            let is_nothing = matches!(thinned.keys(), [only] if only.value.abs() < 1e-12);
            if is_nothing { Curve::default() } else { thinned }
        };
        Some(match controller {
            Controller::Components(curves) => Controller::Components(curves.into_iter().map(thin).collect()),
            Controller::Euler(euler) => {
                Controller::Euler(EulerCurves { order: euler.order, curves: euler.curves.map(thin) })
            }
            other => other,
        })
    }

    fn refitted(&self, pair: &Pair) -> Result<ConvertedController, LayersError> {
        let (ours, theirs) = self.traces(pair)?;
        let times = self.times(pair);
        let tolerance = self.options.tolerance.of(pair.kind.quantity(), &self.scene.space);
        let nothing = nimble_curve_scene::evaluate::neutral(pair.kind, &pair.rest);
        let range = self.take.range.union(self.theirs.range);
        let setting =
            ConversionContext { kind: pair.kind, rest: nothing, tolerance, rate: self.scene.rate, range };
        match pair.kind {
            PropertyKind::Rotation => {
                let knots = theirs.knots(&times);
                let path = Difference { from: ours, to: theirs };
                // A hold of one side is none of the difference.
                let moving = knots.iter().map(|knot| Knot {
                    leaving: nimble_curve_curves::rotation::SegmentKind::Moving,
                    ..*knot
                });
                Ok(refitted_rotation(&path, &moving.collect::<Vec<_>>(), DVec3::ZERO, &setting))
            }
            PropertyKind::Discrete | PropertyKind::Matrix => {
                // These replace what lies under them.
                let mut keys: Vec<(Ticks, Discrete)> = Vec::new();
                for time in times {
                    if let Value::Discrete(value) = theirs.value(time.as_f64())
                        && keys.last().is_none_or(|(_, last)| *last != value)
                    {
                        keys.push((time, value));
                    }
                }
                let curve = DiscreteCurve::new(keys).expect("the times are in order");
                Ok(ConvertedController {
                    controller: Controller::Discrete(curve),
                    fate: Fate::Exact,
                    error: None,
                })
            }
            kind => {
                let difference = SampledFunction::of_difference(ours, theirs, kind == PropertyKind::Scale);
                refitted_numbers(&difference, &times, &setting, None).map_err(|why| {
                    LayersError::NotConvertible { channel: self.addresses.property(&pair.ours), why }
                })
            }
        }
    }
}

/// The rotation that leads from one to another, `from⁻¹ · to`.
struct Difference<'a> {
    from: SampledFunction<'a>,
    to: SampledFunction<'a>,
}

impl RotationPath for Difference<'_> {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        self.from.rotation(time, side).conjugate() * self.to.rotation(time, side)
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        self.from.rotation(time, side).conjugate()
            * (self.to.velocity(time, side) - self.from.velocity(time, side))
    }
}

/// What to set on a layer; what is `None` stays.
#[derive(Clone, Debug, Default)]
pub struct LayerSettings {
    /// How much of it counts.
    pub weight: Option<f64>,
    /// Whether it is switched off.
    pub muted: Option<bool>,
    /// How it joins what lies under it.
    pub mode: Option<LayerMode>,
    /// How its rotations do.
    pub rotations: Option<RotationMixing>,
    /// A new name.
    pub name: Option<String>,
}

/// Sets what is given on the layer of a name in every take that has it; returns how many there were.
///
/// # Errors
/// See [`LayersError`].
pub fn set(scene: &mut Scene, layer: &str, settings: &LayerSettings) -> Result<usize, LayersError> {
    if settings.weight.is_some_and(|weight| !weight.is_finite()) {
        return Err(LayersError::Weight);
    }
    let mut found = 0;
    for take in &mut scene.takes {
        let taken = |name: &String| name != layer && take.layers.iter().any(|other| other.name == *name);
        let has = take.layers.iter().any(|other| other.name == layer);
        if let Some(name) = settings.name.as_ref().filter(|name| has && taken(name)) {
            return Err(LayersError::Taken(name.clone()));
        }
        for layer in take.layers.iter_mut().filter(|other| other.name == layer) {
            found += 1;
            if let Some(weight) = settings.weight {
                layer.weight = Weight::Constant(weight);
            }
            layer.muted = settings.muted.unwrap_or(layer.muted);
            layer.mode = settings.mode.unwrap_or(layer.mode);
            layer.rotations = settings.rotations.unwrap_or(layer.rotations);
            if let Some(name) = &settings.name {
                layer.name.clone_from(name);
            }
        }
    }
    if found == 0 { Err(LayersError::NoLayer(layer.to_owned())) } else { Ok(found) }
}
