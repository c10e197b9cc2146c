//! Layers written together.

use std::collections::HashSet;

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Discrete, DiscreteCurve, Ticks};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, PropertySampler};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};
use rayon::prelude::*;

use super::LayersError;
use crate::Tolerance;
use crate::channel::{Bookkeeper, count};
use crate::conversion::{
    ConversionContext, ConvertedController, Grid, refitted_numbers, refitted_rotation, sampled,
};
use crate::linear::{Sums, with_constants};
use crate::sampled_function::{SampledFunction, union_times};

/// How to flatten.
#[derive(Clone, Debug, Default)]
pub struct FlattenOptions {
    /// The layers to write onto the base; all where there are none.
    pub only: Vec<String>,
    /// The addresses of the channels that go onto the base; all where there are none. The others stay on their layers.
    pub channels: Vec<String>,
    /// How far the result may be from the layers where it cannot be exact.
    pub tolerance: Tolerance,
}

/// Writes layers onto the base layer of each take.
///
/// Exact on the union of the keys where the values are sums of curves: numbers and angles of one order with constant
/// weights. Elsewhere (scale, animated weights, quaternion layers, unlike handles or behaviours outside the keys)
/// refitted within the tolerance; sampled where samples are among them. Layers that do not count are left out.
///
/// ```
/// # use glam::DVec3;
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, Weight};
/// # use nimble_curve_scene::ledger::Fate;
/// # use nimble_curve_scene::rig::{Node, NodeKind, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Layer, LayerMode, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// use nimble_curve_ops::layers::{FlattenOptions, flatten};
///
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("otter");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, DVec3::Y, RotationOrder::Xyz)).unwrap();
/// let height = |values: [(i64, f64); 2]| -> Result<Track, Box<dyn std::error::Error>> {
///     let curves = vec![Curve::default(), Curve::through(rate, values)?, Curve::default()];
///     Ok(Track { target: Target::new(0, hips, TRANSLATION), controller: Controller::Components(curves) })
/// };
/// // Breathing on top of a walk, at half its weight: sums of curves, so that the keys of both stand in the result.
/// let walk = Layer::base(vec![height([(0, 1.0), (24, 1.2)])?]);
/// let breath = Layer {
///     name: "breath".to_owned(),
///     mode: LayerMode::Additive,
///     weight: Weight::Constant(0.5),
///     ..Layer::base(vec![height([(6, 0.0), (18, 0.1)])?])
/// };
/// # let take = Take::new("walk", TimeRange::new(rate.ticks(0), rate.ticks(24)), vec![walk, breath]);
/// # let scene = Scene::new(rate, Space::METRES_Y_UP).with_rig(rig).with_take(take);
/// let (flat, ledger) = flatten(&scene, &FlattenOptions::default())?;
/// assert_eq!((flat.takes[0].layers.len(), ledger.entries[0].fate), (1, Fate::Exact));
/// assert_eq!(flat.takes[0].layers[0].tracks[0].controller.key_count(), 4);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
        let is_meant = |target: &Target| {
            options.channels.is_empty() || options.channels.contains(&addresses.property(target))
        };
        let mut targets = job.targets();
        targets.retain(is_meant);
        // Of several errors the first one in order is told, whichever is found first.
        let done: Vec<Result<(Vec<Entry>, Option<Track>), _>> =
            targets.par_iter().map(|target| job.property(target)).collect();
        let done: Vec<(Vec<Entry>, Option<Track>)> = done.into_iter().collect::<Result<_, _>>()?;
        let mut base = Layer::base(Vec::new());
        base.name.clone_from(&take.layers[0].name);
        for (entries, track) in done {
            ledger.entries.extend(entries);
            base.tracks.extend(track);
        }
        // What is not meant stays where it is.
        let stays = |layer: &Layer| -> Vec<Track> {
            layer.tracks.iter().filter(|track| !is_meant(&track.target)).cloned().collect()
        };
        let books = Bookkeeper { addresses: &addresses, take };
        for (layer, track) in
            take.tracks().filter(|(layer, track)| chosen[*layer] && !is_meant(&track.target))
        {
            ledger.entries.push(books.kept(layer, track));
        }
        let own = &take.layers[0];
        let is_plain =
            own.is_active() && own.mode == LayerMode::Override && own.weight.constant() == Some(1.0);
        let left = stays(own);
        if is_plain {
            base.tracks.extend(left);
        } else if !left.is_empty() {
            // What stays on a base that counts in part goes on doing so, above the new one.
            base.name = format!("{} flat", own.name);
        }
        let from = usize::from(is_plain);
        let rest = take.layers.iter().zip(&chosen).skip(from).filter_map(|(layer, chosen)| {
            let layer = match chosen {
                true => Layer {
                    tracks: stays(layer),
                    weight: layer.weight.clone(),
                    name: layer.name.clone(),
                    ..*layer
                },
                false => layer.clone(),
            };
            (!chosen || !layer.tracks.is_empty()).then_some(layer)
        });
        out.layers = std::iter::once(base).chain(rest).collect();
    }
    Ok((result, ledger))
}

pub(super) struct Flatten<'a> {
    pub(super) scene: &'a Scene,
    pub(super) take: &'a Take,
    pub(super) addresses: &'a Addresses,
    pub(super) chosen: &'a [bool],
    /// The take with nothing but the chosen layers.
    pub(super) part: Take,
    pub(super) options: &'a FlattenOptions,
}

impl<'a> Flatten<'a> {
    pub(super) fn new(
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
    pub(super) fn targets(&self) -> Vec<Target> {
        let mut seen = HashSet::new();
        let tracks = self.take.tracks().filter(|(layer, _)| self.chosen[*layer]);
        tracks.map(|(_, track)| track.target.clone()).filter(|target| seen.insert(target.clone())).collect()
    }

    pub(super) fn property(&self, target: &Target) -> Result<(Vec<Entry>, Option<Track>), LayersError> {
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
    pub(super) fn check_between(&self, target: &Target, on: &[(usize, &Track)]) -> Result<(), LayersError> {
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

    pub(super) fn flattened(
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
    pub(super) fn switches(
        &self,
        trace: &SampledFunction<'_>,
        times: &[Ticks],
        by_frame: bool,
    ) -> ConvertedController {
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
pub(super) fn as_controller(sums: &Sums, rest: &Value, start: Ticks) -> Option<Controller> {
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
