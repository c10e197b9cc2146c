//! Two sides of a comparison, and how far their values are apart.

use glam::{DQuat, DVec3};
use nimble_curve_curves::fit::Offset;
use nimble_curve_curves::rotation::{angle_between, to_vector};

/// Two sides of a comparison, each a function of the result's time in ticks.
pub trait Sides {
    /// What they give.
    type Value: Clone;
    /// The source's value, as it should be in the result.
    fn source(&mut self, time: f64) -> Self::Value;
    /// The result's value.
    fn result(&mut self, time: f64) -> Self::Value;
    /// How far two values are apart.
    fn apart(&self, source: &Self::Value, result: &Self::Value) -> f64;
    /// Whether what happens between two times may be over within a small part of that.
    fn is_delicate(&mut self, _from: f64, _to: f64) -> bool {
        false
    }
    /// The value part of the way from one to another, straight or along the great arc.
    fn between(&self, from: &Self::Value, to: &Self::Value, part: f64) -> Self::Value;
    /// A value as seen from another one, in the unit that they are apart in: a difference, for turns the rotation vector as
    /// far as it is told apart. `None` where values have no such components.
    fn offset(&self, _base: &Self::Value, _value: &Self::Value) -> Option<Offset> {
        None
    }
    /// Whether a value is one motion: a turn is, of a place each component by itself.
    fn is_one(&self) -> bool {
        false
    }
}

/// The angle between two rotations, nothing at all between equal ones, and infinite where one is none.
pub fn turned(a: DQuat, b: DQuat) -> f64 {
    match a == b {
        true => 0.0,
        false if a.is_finite() && b.is_finite() => angle_between(a, b),
        false => f64::INFINITY,
    }
}

/// A place beside another one, as the components that the readings between samples are formed of.
pub fn components(offset: DVec3) -> Offset {
    let [x, y, z] = offset.to_array();
    [x, y, z, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]
}

/// A turn as seen from another one; `None` where it is so far round that it may as well be the other way round.
pub fn turn_from(base: DQuat, turn: DQuat) -> Option<Offset> {
    const ROUND: f64 = 2.5;
    let vector = to_vector(base.conjugate() * turn);
    (vector.length() < ROUND).then(|| components(vector))
}

/// The largest of some numbers, infinite where one of them is none.
pub fn largest(numbers: impl Iterator<Item = f64>) -> f64 {
    numbers.fold(0.0, |most, number| if number.is_nan() { f64::INFINITY } else { most.max(number) })
}
