//! Values of one controller, and of one property under all its layers.

use glam::{DQuat, DVec3};

use super::{EvaluateError, mix};
use crate::address::Addresses;
use crate::controller::{Controller, SampleKind, Samples, Weight};
use crate::curve::{Cursor, DiscreteCurve};
use crate::rotation::RotationOrder;
use crate::scene::{LayerMode, PropertyKind, RotationMixing, Scene, Take, Target};
use crate::value::Value;

/// Evaluates one controller; fastest at times in ascending order.
#[derive(Debug)]
pub struct Sampler<'a> {
    rest: Value,
    source: Source<'a>,
}

#[derive(Debug)]
enum Source<'a> {
    Constant(&'a Value),
    Components(Vec<Cursor<'a>>),
    Euler(RotationOrder, [Cursor<'a>; 3]),
    Samples(&'a Samples),
    Discrete(&'a DiscreteCurve),
}

impl<'a> Sampler<'a> {
    /// A sampler of a controller; `rest` fills in where it has no value.
    ///
    /// # Errors
    /// The controller's type, where it cannot be evaluated.
    pub fn new(controller: &'a Controller, rest: Value) -> Result<Sampler<'a>, &'static str> {
        let source = match controller {
            Controller::Constant(value) => Source::Constant(value),
            Controller::Components(curves) => Source::Components(curves.iter().map(Cursor::new).collect()),
            Controller::Euler(euler) => Source::Euler(euler.order, euler.curves.each_ref().map(Cursor::new)),
            Controller::Samples(samples) => Source::Samples(samples),
            Controller::Discrete(curve) => Source::Discrete(curve),
            other => return Err(other.type_name()),
        };
        Ok(Sampler { rest, source })
    }

    /// The value at a time in ticks.
    pub fn value_at(&mut self, time: f64) -> Value {
        match &mut self.source {
            Source::Constant(value) => (*value).clone(),
            Source::Components(cursors) => components(cursors, &self.rest, time),
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
            Source::Samples(samples) => sample(samples, time).unwrap_or_else(|| self.rest.clone()),
            Source::Discrete(curve) => {
                curve.value_at(time).map_or_else(|| self.rest.clone(), |value| Value::Discrete(value.clone()))
            }
        }
    }
}

fn components(cursors: &mut [Cursor<'_>], rest: &Value, time: f64) -> Value {
    let mut at = |index: usize, rest: f64| cursors[index].value_at(time).unwrap_or(rest);
    match rest {
        Value::Scalar(rest) => Value::Scalar(at(0, *rest)),
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
            Value::Matrix(glam::DMat4::from_cols_array(&numbers))
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
        SampleKind::Scalar => Value::Scalar(at(0)),
        SampleKind::Vector => Value::Vector(vector()),
        SampleKind::Euler(order) if part == 0.0 => Value::Euler { order, angles: vector() },
        SampleKind::Euler(order) => {
            let angles = |row: &[f64]| DVec3::from_slice(row);
            let quat = |row: &[f64]| crate::rotation::quat_from_euler(order, angles(row));
            let between = quat(from).slerp(quat(to), part);
            Value::Euler { order, angles: crate::rotation::nearest_euler(order, between, vector()) }
        }
        SampleKind::Quaternion => {
            let quat = |row: &[f64]| DQuat::from_xyzw(row[0], row[1], row[2], row[3]).normalize();
            Value::Quaternion(quat(from).slerp(quat(to), part))
        }
        SampleKind::Matrix => Value::Matrix(glam::DMat4::from_cols_array(&std::array::from_fn(at))),
    })
}

/// Evaluates one property of a take under all layers that count.
#[derive(Debug)]
pub struct PropertySampler<'a> {
    rest: Value,
    kind: PropertyKind,
    layers: Vec<LayerSampler<'a>>,
}

#[derive(Debug)]
struct LayerSampler<'a> {
    mode: LayerMode,
    rotations: RotationMixing,
    weight: &'a Weight,
    sampler: Sampler<'a>,
}

impl<'a> PropertySampler<'a> {
    /// A sampler of a property.
    ///
    /// # Errors
    /// Where the property does not exist or a controller on it cannot be evaluated.
    pub fn new(
        scene: &'a Scene,
        take: &'a Take,
        target: &Target,
    ) -> Result<PropertySampler<'a>, EvaluateError> {
        let rig = scene.rigs.get(target.rig);
        let found = rig.and_then(|rig| {
            Some((
                rig.property_kind(target.node, &target.property)?,
                rig.rest_value(target.node, &target.property)?,
            ))
        });
        let Some((kind, rest)) = found else { return Err(EvaluateError::Missing(target.property.clone())) };
        let mut layers = Vec::new();
        for layer in take.layers.iter().filter(|layer| layer.is_active()) {
            for track in layer.tracks.iter().filter(|track| track.target == *target) {
                let channel = || Addresses::new(scene).property(target);
                let neutral = match layer.mode {
                    LayerMode::Override => rest.clone(),
                    LayerMode::Additive => mix::neutral(kind, &rest),
                };
                let sampler = Sampler::new(&track.controller, neutral)
                    .map_err(|controller| EvaluateError::Unsupported { channel: channel(), controller })?;
                layers.push(LayerSampler {
                    mode: layer.mode,
                    rotations: layer.rotations,
                    weight: &layer.weight,
                    sampler,
                });
            }
        }
        Ok(PropertySampler { rest, kind, layers })
    }

    /// Whether any layer animates the property.
    pub fn is_driven(&self) -> bool {
        !self.layers.is_empty()
    }

    /// The kind of the property.
    pub fn kind(&self) -> PropertyKind {
        self.kind
    }

    /// The value at a time in ticks, all layers counted.
    pub fn value_at(&mut self, time: f64) -> Value {
        let mut value = self.rest.clone();
        for layer in &mut self.layers {
            let weight = layer.weight.at(time);
            if weight == 0.0 {
                continue;
            }
            let over = layer.sampler.value_at(time);
            value = mix::layered(self.kind, layer.mode, layer.rotations, value, over, weight);
        }
        value
    }
}
