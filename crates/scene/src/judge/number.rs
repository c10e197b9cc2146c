//! The values of an attribute on both sides.

use glam::{DAffine3, DVec3};
use nimble_curve_curves::fit::Offset;
use nimble_curve_curves::rotation::along_arc;
use nimble_curve_curves::value::{Quantity, Value};

use super::means::Amount;
use super::scenes::Scenes;
use super::sides::{Sides, components, largest, turn_from, turned};
use crate::evaluate::ChannelSampler;
use crate::scene::PropertyKind;
use crate::space::AxisMap;

/// The values of an attribute on both sides.
pub struct Number<'a> {
    pub scenes: &'a Scenes<'a>,
    pub map: &'a AxisMap,
    /// The function that it is of the source's, where it is not the same.
    pub then: Option<&'a Amount>,
    pub kind: PropertyKind,
    pub source: ChannelSampler<'a>,
    pub result: ChannelSampler<'a>,
}

impl Number<'_> {
    /// A value of the source said in other axes and units.
    fn mapped(&self, map: &AxisMap, value: Value) -> Value {
        match (self.kind, value) {
            (PropertyKind::Number(Quantity::Length), Value::Number(v)) => Value::Number(v * map.scale),
            (PropertyKind::Vector(Quantity::Length), Value::Vector(v)) => Value::Vector(map.length(v)),
            (PropertyKind::Scale, Value::Vector(v)) => Value::Vector(map.unsigned(v)),
            (PropertyKind::Matrix, Value::Matrix(m)) => {
                let mapped = map.affine(DAffine3::from_mat4(*m));
                Value::Matrix(Box::new(mapped.into()))
            }
            (PropertyKind::Rotation, value) => match value.rotation() {
                Some(rotation) => Value::Quaternion(map.rotation(rotation)),
                None => value,
            },
            (_, value) => value,
        }
    }
}

impl Sides for Number<'_> {
    type Value = Value;

    fn source(&mut self, time: f64) -> Value {
        let value = self.source.value_at(self.scenes.span.clock.source_at(time));
        let value = self.mapped(self.map, value);
        match (self.then, value) {
            (Some(amount), Value::Number(v)) => {
                self.mapped(&amount.out, Value::Number(amount.range.value(v)))
            }
            (Some(amount), value) => self.mapped(&amount.out, value),
            (None, value) => value,
        }
    }

    fn result(&mut self, time: f64) -> Value {
        self.result.value_at(time)
    }

    fn apart(&self, source: &Value, result: &Value) -> f64 {
        match (source, result) {
            (Value::Number(a), Value::Number(b)) => (a - b).abs(),
            (Value::Vector(a), Value::Vector(b)) => (*a - *b).length(),
            (Value::Discrete(a), Value::Discrete(b)) if a == b => 0.0,
            (Value::Matrix(a), Value::Matrix(b)) => {
                let apart = a.to_cols_array().into_iter().zip(b.to_cols_array()).map(|(a, b)| (a - b).abs());
                largest(apart)
            }
            // Nothing lies between two choices: one that is another is as far off as can be.
            (a, b) => a.rotation().zip(b.rotation()).map_or(f64::INFINITY, |(a, b)| turned(a, b)),
        }
    }

    fn between(&self, from: &Value, to: &Value, part: f64) -> Value {
        match (from, to) {
            (Value::Number(a), Value::Number(b)) => Value::Number(a + (b - a) * part),
            (Value::Vector(a), Value::Vector(b)) => Value::Vector(a.lerp(*b, part)),
            (a, b) => match (a.rotation(), b.rotation()) {
                (Some(from), Some(to)) => Value::Quaternion(along_arc(from, to, part)),
                _ => a.clone(),
            },
        }
    }

    fn offset(&self, base: &Value, value: &Value) -> Option<Offset> {
        match (base, value) {
            (Value::Number(base), Value::Number(value)) => {
                Some(components(DVec3::new(value - base, 0.0, 0.0)))
            }
            (Value::Vector(base), Value::Vector(value)) => Some(components(*value - *base)),
            (base, value) => turn_from(base.rotation()?, value.rotation()?),
        }
    }

    fn is_one(&self) -> bool {
        self.kind == PropertyKind::Rotation
    }
}
