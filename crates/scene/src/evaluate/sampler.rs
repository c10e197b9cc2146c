//! Values of one controller, and of one property under all its layers.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Cursor, Curve, DiscreteCurve, Side};
use nimble_curve_curves::rotation::{KeyedRotation, RotationOrder, nearest_vector, quat_from_euler};
use nimble_curve_curves::tcb::Clock;
use nimble_curve_curves::time::{TICKS_PER_SECOND, TimeRange};
use nimble_curve_curves::value::Value;

use super::{EvaluateError, mix};
use crate::address::Addresses;
use crate::controller::{Controller, SampleKind, Samples, StackEntry, TcbKeys, Weight};
use crate::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};

/// Evaluates one controller; fastest at times in ascending order.
#[derive(Debug)]
pub struct Sampler<'a> {
    rest: Value,
    range: Option<TimeRange>,
    source: Source<'a>,
}

#[derive(Debug)]
enum Source<'a> {
    Constant(&'a Value),
    Components(Vec<Cursor<'a>>),
    Euler(RotationOrder, Box<[Cursor<'a>; 3]>),
    Keyed(KeyedRotation),
    Eased(Vec<Curve>, Option<Clock>),
    Samples(&'a Samples),
    Discrete(&'a DiscreteCurve),
    Stack(Value, Vec<Blend<'a>>),
}

impl<'a> Sampler<'a> {
    /// A sampler of a controller on a property of some kind; `rest` fills in where it has no value.
    ///
    /// # Errors
    /// The controller's type, where it cannot be evaluated: procedural ones without samples.
    pub fn new(
        controller: &'a Controller,
        kind: PropertyKind,
        rest: Value,
    ) -> Result<Sampler<'a>, &'static str> {
        let source = match controller {
            Controller::Constant(value) => Source::Constant(value),
            Controller::Components(curves) => Source::Components(curves.iter().map(Cursor::new).collect()),
            Controller::Euler(euler) => {
                Source::Euler(euler.order, Box::new(euler.curves.each_ref().map(Cursor::new)))
            }
            Controller::Quaternion(curve) => Source::Keyed(KeyedRotation::new(curve)),
            Controller::Tcb(curve) => match (&curve.keys, curve.numbers()) {
                (TcbKeys::Rotation(keys), _) => {
                    Source::Keyed(KeyedRotation::of_tcb(keys, curve.before, curve.after))
                }
                (_, Some(numbers)) => Source::Eased(numbers.curves, numbers.clock),
                (_, None) => return Err(controller.type_name()),
            },
            Controller::Samples(samples) => Source::Samples(samples),
            Controller::Discrete(curve) => Source::Discrete(curve),
            Controller::Stack(entries) => stack(entries, kind, &rest)?,
            Controller::Procedural(procedural) => {
                let Some(sampled) = &procedural.sampled else { return Err(controller.type_name()) };
                return Sampler::new(sampled, kind, rest);
            }
        };
        Ok(Sampler { rest, range: controller.range(), source })
    }

    /// A sampler of one track by itself, whatever lies under its layer; `None` where it cannot be evaluated.
    pub fn of_track(scene: &Scene, take: &Take, layer: usize, track: &'a Track) -> Option<Sampler<'a>> {
        let rig = scene.rigs.get(track.target.rig)?;
        let kind = rig.property_kind(track.target.node, &track.target.property)?;
        let rest = rig.rest_value(track.target.node, &track.target.property)?;
        let rest = match take.layers.get(layer)?.mode {
            LayerMode::Override => rest,
            LayerMode::Additive => mix::neutral(kind, &rest),
        };
        Sampler::new(&track.controller, kind, rest).ok()
    }

    /// From the first to the last key or sample; `None` where there is none.
    pub(super) fn range(&self) -> Option<TimeRange> {
        self.range
    }

    /// The value at a time in ticks.
    pub fn value_at(&mut self, time: f64) -> Value {
        match &mut self.source {
            Source::Constant(value) => (*value).clone(),
            Source::Components(cursors) => {
                components(&self.rest, |index, rest| cursors[index].value_at(time).unwrap_or(rest))
            }
            Source::Euler(order, cursors) => {
                let rest = match &self.rest {
                    Value::Euler { order: rest_order, angles } if rest_order == order => *angles,
                    _ => DVec3::ZERO,
                };
                let mut angles = rest;
                for (axis, cursor) in cursors.iter_mut().enumerate() {
                    angles[axis] = cursor.value_at(time).unwrap_or(rest[axis]);
                }
                Value::Euler { order: *order, angles }
            }
            Source::Keyed(keyed) => {
                keyed.rotation_on(time, Side::Right).map_or_else(|| self.rest.clone(), Value::Quaternion)
            }
            Source::Eased(curves, clock) => {
                let plays = clock.as_ref().map_or(time, |clock| clock.plays(time));
                components(&self.rest, |index, rest| {
                    curves.get(index).and_then(|curve| curve.value_at(plays)).unwrap_or(rest)
                })
            }
            Source::Samples(samples) => sample(samples, time).unwrap_or_else(|| self.rest.clone()),
            Source::Discrete(curve) => {
                curve.value_at(time).map_or_else(|| self.rest.clone(), |value| Value::Discrete(value.clone()))
            }
            Source::Stack(base, blends) => {
                blends.iter_mut().fold(base.clone(), |value, blend| blend.on(value, time))
            }
        }
    }
}

/// Entries add up, scale factors multiply; angles of one order add up one by one, other rotations multiply.
///
/// A component to which no entry gives a value stays at rest.
fn stack<'a>(
    entries: &'a [StackEntry],
    kind: PropertyKind,
    rest: &Value,
) -> Result<Source<'a>, &'static str> {
    let nothing = mix::neutral(kind, rest);
    let driven = |component: usize| entries.iter().any(|entry| entry.controller.drives(component));
    let base = match (&nothing, rest) {
        (Value::Number(nothing), Value::Number(rest)) => {
            Value::Number(if driven(0) { *nothing } else { *rest })
        }
        (Value::Vector(nothing), Value::Vector(rest)) => {
            let at = |axis: usize| if driven(axis) { nothing[axis] } else { rest[axis] };
            Value::Vector(DVec3::new(at(0), at(1), at(2)))
        }
        (Value::Euler { order, .. }, Value::Euler { angles: rest, .. }) => {
            let at = |axis: usize| if driven(axis) { 0.0 } else { rest[axis] };
            Value::Euler { order: *order, angles: DVec3::new(at(0), at(1), at(2)) }
        }
        _ => nothing.clone(),
    };
    let mut blends = Vec::with_capacity(entries.len());
    for entry in entries {
        let sampler = Sampler::new(&entry.controller, kind, nothing.clone())?;
        blends.push(Blend::new(kind, LayerMode::Additive, RotationMixing::Angles, &entry.weight, sampler));
    }
    follow_turns(&base, &mut blends, None);
    Ok(Source::Stack(base, blends))
}

fn components(rest: &Value, mut at: impl FnMut(usize, f64) -> f64) -> Value {
    match rest {
        Value::Number(rest) => Value::Number(at(0, *rest)),
        Value::Vector(rest) => Value::Vector(DVec3::new(at(0, rest.x), at(1, rest.y), at(2, rest.z))),
        Value::Euler { order, angles: rest } => {
            Value::Euler { order: *order, angles: DVec3::new(at(0, rest.x), at(1, rest.y), at(2, rest.z)) }
        }
        Value::Quaternion(rest) => Value::Quaternion(
            DQuat::from_xyzw(at(0, rest.x), at(1, rest.y), at(2, rest.z), at(3, rest.w)).normalize(),
        ),
        Value::Matrix(rest) => {
            let mut numbers = rest.to_cols_array();
            for (index, number) in numbers.iter_mut().enumerate() {
                *number = at(index, *number);
            }
            Value::Matrix(Box::new(glam::DMat4::from_cols_array(&numbers)))
        }
        Value::Discrete(_) => rest.clone(),
    }
}

/// Samples between their instants: numbers on straight lines, rotations on great arcs; held outside.
fn sample(samples: &Samples, time: f64) -> Option<Value> {
    if samples.is_empty() {
        return None;
    }
    let (index, part) = samples.locate(time);
    let from = samples.row(index);
    let to = if part > 0.0 { samples.row(index + 1) } else { from };
    let at = |i: usize| from[i] + (to[i] - from[i]) * part;
    let vector = || DVec3::new(at(0), at(1), at(2));
    Some(match samples.kind {
        SampleKind::Number => Value::Number(at(0)),
        SampleKind::Vector => Value::Vector(vector()),
        SampleKind::Euler(order) if part == 0.0 => Value::Euler { order, angles: vector() },
        SampleKind::Euler(order) => {
            let angles = |row: &[f64]| DVec3::from_slice(row);
            let quat = |row: &[f64]| nimble_curve_curves::rotation::quat_from_euler(order, angles(row));
            let between = nimble_curve_curves::rotation::along_arc(quat(from), quat(to), part);
            Value::Euler {
                order,
                angles: nimble_curve_curves::rotation::nearest_euler(order, between, vector()),
            }
        }
        SampleKind::Quaternion => {
            let quat = |row: &[f64]| DQuat::from_xyzw(row[0], row[1], row[2], row[3]).normalize();
            Value::Quaternion(nimble_curve_curves::rotation::along_arc(quat(from), quat(to), part))
        }
        SampleKind::Matrix => Value::Matrix(Box::new(glam::DMat4::from_cols_array(&std::array::from_fn(at)))),
    })
}

/// Evaluates one property of a take under all layers that count.
#[derive(Debug)]
pub struct PropertySampler<'a> {
    rest: Value,
    kind: PropertyKind,
    layers: Vec<Blend<'a>>,
}

impl<'a> PropertySampler<'a> {
    /// A sampler of a property, by its own controllers alone.
    ///
    /// # Errors
    /// Where the property does not exist or a controller on it cannot be evaluated.
    pub fn new(
        scene: &'a Scene,
        take: &'a Take,
        target: &Target,
    ) -> Result<PropertySampler<'a>, EvaluateError> {
        let tracks: Vec<(&Layer, &Track)> =
            take.active_tracks().filter(|(_, track)| track.target == *target).collect();
        PropertySampler::of_tracks(scene, target, &tracks, Some(take.range))
    }

    /// A sampler of a property with some tracks on it, in order of their layers, all of which count; rotations are followed
    /// within their keys and the range.
    pub fn of_tracks(
        scene: &Scene,
        target: &Target,
        tracks: &[(&'a Layer, &'a Track)],
        range: Option<TimeRange>,
    ) -> Result<PropertySampler<'a>, EvaluateError> {
        let rig = scene.rigs.get(target.rig);
        let found = rig.and_then(|rig| {
            Some((
                rig.property_kind(target.node, &target.property)?,
                rig.rest_value(target.node, &target.property)?,
            ))
        });
        let Some((kind, rest)) = found else { return Err(EvaluateError::Missing(target.property.clone())) };
        let mut layers = Vec::with_capacity(tracks.len());
        for (layer, track) in tracks {
            let channel = || Addresses::new(scene).property(target);
            let neutral = match layer.mode {
                LayerMode::Override => rest.clone(),
                LayerMode::Additive => mix::neutral(kind, &rest),
            };
            let sampler = Sampler::new(&track.controller, kind, neutral)
                .map_err(|controller| EvaluateError::Unsupported { channel: channel(), controller })?;
            layers.push(Blend::new(kind, layer.mode, layer.rotations, &layer.weight, sampler));
        }
        follow_turns(&rest, &mut layers, range);
        Ok(PropertySampler { rest, kind, layers })
    }

    /// Whether any layer animates the property.
    pub fn is_driven(&self) -> bool {
        !self.layers.is_empty()
    }

    /// The value where nothing drives it.
    pub(super) fn rest(&self) -> &Value {
        &self.rest
    }

    /// The kind of the property.
    pub fn kind(&self) -> PropertyKind {
        self.kind
    }

    /// The value at a time in ticks, all layers counted.
    pub fn value_at(&mut self, time: f64) -> Value {
        match self.layers.as_mut_slice() {
            // What lies under it does not matter.
            [only] if only.replaces() => only.sampler.value_at(time),
            layers => layers.iter_mut().fold(self.rest.clone(), |value, layer| layer.on(value, time)),
        }
    }
}

/// What joins the value under it, and how.
#[derive(Debug)]
struct Blend<'a> {
    kind: PropertyKind,
    mode: LayerMode,
    rotations: RotationMixing,
    weight: &'a Weight,
    sampler: Sampler<'a>,
    /// For rotations of which a part counts: how far round they are.
    winding: Option<Winding>,
}

impl<'a> Blend<'a> {
    fn new(
        kind: PropertyKind,
        mode: LayerMode,
        rotations: RotationMixing,
        weight: &'a Weight,
        sampler: Sampler<'a>,
    ) -> Blend<'a> {
        Blend { kind, mode, rotations, weight, sampler, winding: None }
    }

    /// Whether nothing is left of what lies under it, ever.
    fn replaces(&self) -> bool {
        self.mode == LayerMode::Override && self.weight.constant() == Some(1.0)
    }

    /// The value with this on top of `under`, at a time in ticks.
    fn on(&mut self, under: Value, time: f64) -> Value {
        let weight = self.weight.at(time);
        if weight == 0.0 {
            return under;
        }
        let over = self.sampler.value_at(time);
        let reference = self.winding.as_ref().map(|winding| winding.at(time));
        mix::layered(self.kind, self.mode, self.rotations, under, over, weight, reference)
    }
}

/// Makes blends ready that take a part of a rotation: follows how far round the rotations are.
///
/// `base` is what lies under the lowest of them.
fn follow_turns(base: &Value, blends: &mut [Blend<'_>], range: Option<TimeRange>) {
    for index in 0..blends.len() {
        let (below, from_here) = blends.split_at_mut(index);
        let blend = &mut from_here[0];
        let is_partial = blend.kind == PropertyKind::Rotation
            && !matches!(blend.weight.constant(), Some(weight) if weight == 0.0 || weight == 1.0);
        let range = match (range, blend.sampler.range()) {
            (Some(a), Some(b)) => Some(a.union(b)),
            (a, b) => a.or(b),
        };
        if let Some(range) = range.filter(|_| is_partial) {
            blend.winding = Winding::follow(blend, range, |time| {
                below.iter_mut().fold(base.clone(), |value, blend| blend.on(value, time))
            });
        }
    }
}

/// How far round a rotation is over time, as rotation vectors along its continuous branch at a fine step.
#[derive(Debug)]
struct Winding {
    start: f64,
    vectors: Vec<DVec3>,
}

/// Ticks between the vectors.
const STEP: f64 = TICKS_PER_SECOND as f64 / 240.0;

/// The most vectors that are followed: more than an hour.
const MOST: usize = 1 << 20;

impl Winding {
    /// `None` where angles are mixed one by one, which needs no branch.
    fn follow(
        blend: &mut Blend<'_>,
        range: TimeRange,
        mut under: impl FnMut(f64) -> Value,
    ) -> Option<Winding> {
        let start = range.first.as_f64();
        let count = (((range.last - range.first).as_f64() / STEP).ceil() as usize + 2).min(MOST);
        let mut vectors: Vec<DVec3> = Vec::with_capacity(count);
        for index in 0..count {
            let time = start + index as f64 * STEP;
            let over = blend.sampler.value_at(time);
            let under = under(time);
            if blend.rotations == RotationMixing::Angles && mix::same_order(&under, &over) {
                return None;
            }
            let turn = mix::turn(blend.mode, &under, &over)?;
            let near = match vectors.last() {
                Some(last) => *last,
                None => first_branch(blend.mode, &over),
            };
            vectors.push(nearest_vector(turn, near));
        }
        Some(Winding { start, vectors })
    }

    fn at(&self, time: f64) -> DVec3 {
        let index = ((time - self.start) / STEP).round().clamp(0.0, (self.vectors.len() - 1) as f64);
        self.vectors[index as usize]
    }
}

/// The branch at the start: Euler angles turned up from zero tell how far round they are.
fn first_branch(mode: LayerMode, over: &Value) -> DVec3 {
    let (LayerMode::Additive, Value::Euler { order, angles }) = (mode, over) else { return DVec3::ZERO };
    const STEPS: u32 = 128;
    (1..=STEPS).fold(DVec3::ZERO, |last, step| {
        nearest_vector(quat_from_euler(*order, *angles * (f64::from(step) / f64::from(STEPS))), last)
    })
}
