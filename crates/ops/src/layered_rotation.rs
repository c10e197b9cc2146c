//! Layers that mix angles one by one mean something in their order only: here they are given another order, or constant
//! rotations around them, so that the whole turns as before.

use std::cell::RefCell;
use std::collections::BTreeSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Cursor, Curve, Refit, Ticks, refit};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{
    AngleTolerance, Between, Conversion, ConversionCache, RotationOrder, ToleranceScale, angle_between,
    convert, nearest_euler, quat_from_euler,
};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, EulerCurves, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, PropertySampler, Sampler};
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::rig::{OpValue, Rig};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};

use super::linear::Sums;
use super::sampled_function::{SampledFunction, union_times};

/// What becomes of a rotation: `before · R · after`, in an order, within a tolerance.
#[derive(Clone, Copy, Debug)]
pub(super) struct Change<'a> {
    pub order: RotationOrder,
    pub before: DQuat,
    pub after: DQuat,
    pub tolerance: AngleTolerance<'a>,
    pub handles: Option<Handles>,
    /// What came of the same tracks before, by their places among those that turn the node.
    pub cache: Option<&'a ConversionCache>,
}

/// One rotation on all layers of some takes, as it was and as it will be.
pub(super) struct LayeredRotation<'a> {
    old: Scene,
    new: Scene,
    from: Target,
    onto: Target,
    change: Change<'a>,
}

impl<'a> LayeredRotation<'a> {
    /// For the rotation `from` of a scene that becomes `onto` of a rig, on these takes.
    pub fn new(
        scene: &Scene,
        takes: &[Take],
        from: &Target,
        (rig, onto): (&Rig, &Target),
        change: Change<'a>,
    ) -> LayeredRotation<'a> {
        let alone = |rig: &Rig, target: &Target, with_tracks: bool| {
            let mut rigs = vec![Rig::default(); target.rig];
            rigs.push(rig.only(target.node));
            let is_own = |track: &Track| with_tracks && track.target == *target;
            let takes = takes.iter().map(|take| crate::channel::with_tracks(take, is_own));
            Scene {
                rate: scene.rate,
                space: scene.space,
                rigs,
                sets: Vec::new(),
                constraints: Vec::new(),
                takes: takes.collect(),
            }
        };
        let old = alone(&scene.rigs[from.rig], from, true);
        let new = alone(rig, onto, false);
        LayeredRotation { old, new, from: from.clone(), onto: onto.clone(), change }
    }

    /// The same with another rotation at rest in the result.
    pub fn resting(mut self, rest: OpValue) -> LayeredRotation<'a> {
        let node = self.new.rigs[self.onto.rig].node_mut(self.onto.node);
        let ops = node.map(|node| &mut node.transform);
        for op in ops.into_iter().flatten().filter(|op| op.name == self.onto.property) {
            op.value = rest;
        }
        self
    }

    /// Says what a layer of the result holds; layers have to be given from the bottom up.
    pub fn put(&mut self, take: usize, layer: usize, controller: Controller) {
        self.new.takes[take].layers[layer].tracks = vec![Track { target: self.onto.clone(), controller }];
    }

    fn track(&self, take: usize, layer: usize) -> Result<&Track, String> {
        self.old.takes[take].layers[layer].tracks.first().ok_or_else(|| "the layer has no such track".into())
    }

    /// Whether the angles of a layer really meet angles of the same order under it.
    pub fn is_mixed(&self, take: usize, layer: usize) -> bool {
        let old = &self.old.takes[take];
        let Ok(track) = self.track(take, layer) else { return false };
        if !mixes_angles(&old.layers[layer], layer) {
            return false;
        }
        let below = below(old, layer);
        let Ok(mut under) = PropertySampler::new(&self.old, &below, &self.from) else { return false };
        let time = track.controller.range().map_or(old.range.first, |range| range.first).as_f64();
        let order = match &track.controller {
            Controller::Euler(euler) => Some(euler.order),
            Controller::Constant(Value::Euler { order, .. }) => Some(*order),
            _ => None,
        };
        matches!(under.value_at(time), Value::Euler { order: own, .. } if Some(own) == order)
    }

    /// The controller of a layer that mixes: its angles in the result are what is lacking from those under it to those of
    /// the whole, by its weight. Also how that was done.
    pub fn mixed(&self, take: usize, layer: usize) -> Result<(Controller, &'static str), String> {
        let (old, new) = (&self.old.takes[take], &self.new.takes[take]);
        let index = layer;
        let layer = &old.layers[index];
        if layer.weight.constant().is_none() {
            return self.faded(take, index);
        }
        let weight = nominal_weight(layer);
        // The whole as it is with this layer on top, at its full strength.
        let mut stack = old.layers[..=index].to_vec();
        stack[index] = Layer { weight: Weight::Constant(weight), muted: false, ..stack[index].clone() };
        let whole = Take { layers: stack, ..old.clone() };
        let under = below(new, index);
        let sums = Sums::of_layers(&self.new, &under, &self.onto)
            .filter(|sums| sums.order == Some(self.change.order))
            .ok_or_else(|| {
                format!("layer '{}' mixes its angles with what is no sum of curves", layer.name)
            })?;
        let failed = |error: EvaluateError| error.to_string();
        let trace = SampledFunction::of_property(
            PropertySampler::new(&self.old, &whole, &self.from).map_err(failed)?,
        );
        let times = key_times(&whole.layers, old.range);
        let Some(&first) = times.first() else { return Err("nothing on it has keys".into()) };
        let mut near = PropertySampler::new(&self.new, &under, &self.onto).map_err(failed)?;
        let start = angles(near.value_at(first.as_f64()));
        let converted = self.converted(trace, &times, start, 0.5);
        let curves: Option<Vec<Curve>> = converted
            .iter()
            .zip(&sums.numbers)
            .map(|(curve, under)| {
                let lacking = under.lacking_to(curve, weight, layer.mode == LayerMode::Override)?;
                Some(lacking.thinned())
            })
            .collect();
        let curves =
            curves.ok_or_else(|| format!("layer '{}' has angles that do not add up exactly", layer.name))?;
        let [x, y, z] = <[Curve; 3]>::try_from(curves).map_err(|_| "three angles".to_owned())?;
        let controller = Controller::Euler(EulerCurves { order: self.change.order, curves: [x, y, z] });
        Ok((controller, "mixes its angles: converted so that the whole turns as before"))
    }

    /// The whole in the result's order, within a part of the tolerance.
    fn converted(&self, trace: SampledFunction<'_>, times: &[Ticks], start: DVec3, part: f64) -> [Curve; 3] {
        let knots = trace.knots(times);
        let path = Between { path: trace, before: self.change.before, after: self.change.after };
        let tolerance = self.change.tolerance.scaled(part);
        let conversion = Conversion::new(self.change.order, tolerance, self.old.rate, start);
        convert(&path, &knots, &conversion).curves
    }

    /// The same for a layer whose weight is animated: what is lacking is a function of time, refitted. Where the layer
    /// hardly counts, it is looked at as if it counted a little, which is where its angles lead to.
    fn faded(&self, take: usize, index: usize) -> Result<(Controller, &'static str), String> {
        let (old, new) = (&self.old.takes[take], &self.new.takes[take]);
        let layer = &old.layers[index];
        let track = self.track(take, index)?;
        let (old_under, new_under) = (below(old, index), below(new, index));
        let failed = |error: EvaluateError| error.to_string();
        let rest = self.old.rigs[self.from.rig].rest_value(self.from.node, &self.from.property);
        let rest = rest.ok_or("it has no rotation at rest")?;
        let replaces = layer.mode == LayerMode::Override;
        let at_rest = if replaces { rest.clone() } else { zeroed(&rest) };
        let own_order = match &at_rest {
            Value::Euler { order, .. } => *order,
            _ => return Err("it turns by quaternions".into()),
        };
        let under = PropertySampler::new(&self.old, &old_under, &self.from).map_err(failed)?;
        let over = Sampler::new(&track.controller, PropertyKind::Rotation, at_rest)
            .map_err(|why| format!("a {why} controller has no order to change"))?;
        let (under, over) = (RefCell::new(under), RefCell::new(over));
        let under = |time: f64| angles(under.borrow_mut().value_at(time));
        let new_under = PropertySampler::new(&self.new, &new_under, &self.onto).map_err(failed)?;
        let new_under = RefCell::new(new_under);
        let new_under = |time: f64| angles(new_under.borrow_mut().value_at(time));
        let order = self.change.order;
        let turned = |angles: DVec3, near: DVec3| {
            let rotation = self.change.before * quat_from_euler(own_order, angles) * self.change.after;
            nearest_euler(order, rotation, near)
        };
        let own = track.controller.key_times(old.range);
        let mut times = own.clone();
        times.extend(key_times(&old.layers[..=index], old.range));
        times.sort_unstable();
        times.dedup();
        // What the angles under it are off already counts by one over the weight.
        let off = |time: f64| {
            let near = new_under(time);
            (turned(under(time), near) - near).abs().max_element()
        };
        let parts = |pair: &[Ticks]| {
            let (from, to) = (pair[0].as_f64(), pair[1].as_f64());
            [0.25, 0.5, 0.75].map(|part| from + (to - from) * part)
        };
        let most = times.windows(2).flat_map(parts).map(off).fold(0.0, f64::max);
        let least = (most / MOST_MADE_UP).clamp(1e-4, 0.05);
        let weight = |time: f64| {
            let weight = layer.weight.at(time);
            if weight.abs() < least { least.copysign(weight) } else { weight }
        };
        let whole = |time: f64| {
            let (u, v) = (under(time), angles(over.borrow_mut().value_at(time)));
            u + weight(time) * if replaces { v - u } else { v }
        };
        let start = times.first().map_or(DVec3::ZERO, |time| new_under(time.as_f64()));
        let path =
            SampledFunction::of_function(|time| Value::Euler { order: own_order, angles: whole(time) });
        let converted = self.converted(path, &times, start, 0.5);
        let mut cursors = converted.each_ref().map(Cursor::new);
        let lacking = SampledFunction::of_function(|time| {
            let u = new_under(time);
            let near =
                DVec3::from_array(cursors.each_mut().map(|cursor| cursor.value_at(time).unwrap_or(0.0)));
            let lacking = (turned(whole(time), near) - u) / weight(time);
            let angles = if replaces { lacking + u } else { lacking };
            Value::Euler { order, angles }
        });
        // As a rotation of its own, the three angles with common keys; as numbers, where it comes by other angles so.
        let scale = self.by_weight(layer, times.first().zip(times.last()));
        let tolerance = AngleTolerance { angle: 0.85 * self.change.tolerance.angle, scale: scale.as_ref() };
        // Keys of what lies under it and of its weight leave bends in it that need keys seldom only.
        let spans = spans(&layer.weight, &times, &own);
        let made = [spans, times.clone()].into_iter().map(|times| {
            let start = times.first().map_or(DVec3::ZERO, |time| angles(lacking.value(time.as_f64())));
            let plain = Conversion::new(order, tolerance, self.old.rate, start);
            let conversion = Conversion { handles: self.change.handles, ..plain };
            convert(&lacking, &lacking.knots(&times), &conversion).curves
        });
        let is_alike = |made: &[Curve; 3]| {
            times.iter().filter(|time| layer.weight.at(time.as_f64()).abs() >= 0.05).all(|time| {
                let wanted = angles(lacking.value(time.as_f64()));
                (0..3).all(|axis| {
                    let value = made[axis].value_at(time.as_f64());
                    value.is_some_and(|v| (v - wanted[axis]).abs() < 0.1)
                })
            })
        };
        let keys = |made: &[Curve; 3]| made.iter().map(|curve| curve.keys().len()).max();
        let curves: [Curve; 3] = if let Some(made) = made.filter(is_alike).min_by_key(keys) {
            made
        } else {
            // Half of the tolerance for the three angles together, at full weight.
            let closest = tolerance.scale.map_or(1.0, ToleranceScale::least);
            let share = 0.5 * self.change.tolerance.angle * closest / 3_f64.sqrt();
            let options = Refit { tolerance: share, rate: Some(self.old.rate) };
            std::array::from_fn(|axis| {
                let value = |time| lacking.component(axis, time);
                refit(&times, value, |time, side| lacking.number(axis, time, side), options).0.thinned()
            })
        };
        let controller = Controller::Euler(EulerCurves { order, curves });
        Ok((controller, "mixes its angles and fades: refitted so that the whole turns as before"))
    }

    /// How far the angles of a layer may be off, as factors of the tolerance of the whole: the less it counts, the more.
    fn by_weight(&self, layer: &Layer, range: Option<(&Ticks, &Ticks)>) -> Option<ToleranceScale> {
        let (first, last) = range?;
        let frame = self.old.rate.ticks_per_frame();
        let factor = |time: f64| {
            self.change.tolerance.factor(time) / layer.weight.at(time).abs().max(COUNTS_FOR_LITTLE)
        };
        let frames = ((last.as_f64() - first.as_f64()) / frame).ceil() as usize + 1;
        let least = |index: usize| {
            let part = |part: usize| factor(first.as_f64() + (index as f64 + part as f64 / 4.0) * frame);
            (0..=4).map(part).fold(f64::INFINITY, f64::min)
        };
        Some(ToleranceScale::new(first.as_f64(), frame, (0..frames).map(least).collect()))
    }

    /// How far the whole of a take is from what it was, and whether that is within the tolerance everywhere; `None` where
    /// no layer of it mixes angles.
    pub fn error(&self, take: usize) -> Result<Option<(MeasuredError, bool)>, String> {
        let (old, new) = (&self.old.takes[take], &self.new.takes[take]);
        let mixes = (old.layers.iter().enumerate())
            .any(|(index, layer)| !layer.tracks.is_empty() && mixes_angles(layer, index));
        if !mixes {
            return Ok(None);
        }
        let failed = |error: EvaluateError| error.to_string();
        let mut before = PropertySampler::new(&self.old, old, &self.from).map_err(failed)?;
        let mut after = PropertySampler::new(&self.new, new, &self.onto).map_err(failed)?;
        let range = old.key_range().map_or(old.range, |keys: TimeRange| keys.union(old.range));
        let step = self.old.rate.ticks_per_frame() / 16.0;
        let (mut error, mut is_within) = (MeasuredError::none(Quantity::Angle), true);
        let tolerance = self.change.tolerance;
        for index in 0..=((range.last - range.first).as_f64() / step) as usize {
            let time = range.first.as_f64() + index as f64 * step;
            if let (Some(a), Some(b)) = (before.value_at(time).rotation(), after.value_at(time).rotation()) {
                let expected = self.change.before * a * self.change.after;
                let angle = angle_between(expected, b);
                error.take(angle, time / self.old.rate.ticks_per_frame());
                is_within &= angle <= tolerance.angle * tolerance.factor(time);
            }
        }
        Ok(Some((error, is_within)))
    }

    /// What all layers of a take come to, written on one layer in the result's order.
    pub fn whole(&self, take: usize) -> Result<(EulerCurves, MeasuredError), String> {
        let old = &self.old.takes[take];
        let failed = |error: EvaluateError| error.to_string();
        let sampler = PropertySampler::new(&self.old, old, &self.from).map_err(failed)?;
        let times = key_times(&old.layers, old.range);
        let Some(&first) = times.first() else { return Err("nothing on it has keys".into()) };
        let trace = SampledFunction::of_property(sampler);
        let start = angles(trace.value(first.as_f64()));
        let knots = trace.knots(&times);
        let Change { order, before, after, tolerance, handles, .. } = self.change;
        let path = Between { path: trace, before, after };
        let conversion = Conversion { handles, ..Conversion::new(order, tolerance, self.old.rate, start) };
        let made = convert(&path, &knots, &conversion);
        Ok((EulerCurves { order, curves: made.curves }, made.error.in_frames(self.old.rate)))
    }
}

/// The instants at which layers that count have keys, or their weights have, where they move the rotation.
fn key_times(layers: &[Layer], range: TimeRange) -> Vec<Ticks> {
    let counts = |layer: &&Layer| layer.is_active() && !layer.tracks.is_empty();
    let active: Vec<&Layer> = layers.iter().filter(counts).collect();
    let weights = active.iter().flat_map(|layer| layer.weight.key_times(range));
    let tracks = active.iter().flat_map(|layer| &layer.tracks);
    union_times(tracks.map(|track| &track.controller), weights, range)
}

/// The most by which an angle of a layer may change, in radians, to make up for what is off under it.
const MOST_MADE_UP: f64 = 0.02;

/// The weight below which what a layer holds hardly matters.
const COUNTS_FOR_LITTLE: f64 = 0.01;

/// A layer's own key times with the first and the last of all times around which it counts at all.
fn spans(weight: &Weight, times: &[Ticks], own: &[Ticks]) -> Vec<Ticks> {
    let counts = |pair: &[Ticks]| {
        let (from, to) = (pair[0].as_f64(), pair[1].as_f64());
        (0..=8).any(|part| weight.at(from + (to - from) * f64::from(part) / 8.0) != 0.0)
    };
    let first = times.windows(2).find(|pair| counts(pair)).map(|pair| pair[0]);
    let last = times.windows(2).rfind(|pair| counts(pair)).map(|pair| pair[1]);
    let all: BTreeSet<Ticks> = own.iter().copied().chain(first).chain(last).collect();
    all.into_iter().collect()
}

fn below(take: &Take, layer: usize) -> Take {
    Take { layers: take.layers[..layer].to_vec(), ..take.clone() }
}

fn angles(value: Value) -> DVec3 {
    match value {
        Value::Euler { angles, .. } => angles,
        _ => DVec3::ZERO,
    }
}

/// The rotation that adds nothing, in the order of another.
pub(super) fn zeroed(rest: &Value) -> Value {
    match rest {
        Value::Euler { order, .. } => Value::Euler { order: *order, angles: DVec3::ZERO },
        _ => Value::Quaternion(DQuat::IDENTITY),
    }
}

/// Whether a layer's angles mix one by one with those under it, so that they mean something in their order only.
pub(super) fn mixes_angles(layer: &Layer, index: usize) -> bool {
    let replaces = layer.mode == LayerMode::Override && layer.weight.constant() == Some(1.0);
    let is_alone = index == 0 && layer.mode == LayerMode::Override;
    layer.rotations == RotationMixing::Angles && !replaces && !is_alone
}

/// The weight at which a layer counts most; 1 where it never counts.
fn nominal_weight(layer: &Layer) -> f64 {
    let strongest = match (&layer.weight, layer.weight.constant()) {
        (_, Some(weight)) => weight,
        (Weight::Curve(curve), None) => curve
            .keys()
            .iter()
            .map(|key| key.value)
            .fold(0.0, |a: f64, b| if b.abs() > a.abs() { b } else { a }),
        (Weight::Constant(weight), None) => *weight,
    };
    if strongest == 0.0 { 1.0 } else { strongest }
}
