//! Properties with what is coupled to them, and the numbers that steer constraints.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Discrete;
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::value::Value;

use super::{EvaluateError, PropertySampler};
use crate::address::Addresses;
use crate::constraint::{Couple, Setting};
use crate::scene::{Layer, PropertyKind, Scene, Take, Target, Track};

/// How many couples may lead to one another.
const MOST_COUPLED: usize = 64;

/// Evaluates one property with its layers and what couples add to it.
#[derive(Debug)]
pub struct CoupledSampler<'a> {
    own: PropertySampler<'a>,
    coupled: Vec<Coupled<'a>>,
}

impl<'a> CoupledSampler<'a> {
    /// A sampler of a property; without a take it rests.
    ///
    /// # Errors
    /// As [`PropertySampler::new`], and where couples go in a circle.
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        target: &Target,
    ) -> Result<CoupledSampler<'a>, EvaluateError> {
        property(scene, take, target, 0)
    }

    /// The same with some tracks on the property, which are all that it has.
    pub(super) fn of_tracks(
        (scene, take): (&'a Scene, Option<&'a Take>),
        target: &Target,
        tracks: &[(&'a Layer, &'a Track)],
        depth: usize,
    ) -> Result<CoupledSampler<'a>, EvaluateError> {
        let own = PropertySampler::of_tracks(scene, target, tracks, take.map(|take| take.range))?;
        Ok(CoupledSampler { own, coupled: Coupled::onto(scene, take, target, depth)? })
    }

    /// The kind of the property.
    pub fn kind(&self) -> PropertyKind {
        self.own.kind()
    }

    /// Adds on which piece of its curve each of the couples is at a time in ticks, with those that lead to it: where one of them comes to
    /// another piece, the value has a corner.
    pub fn pieces_at(&mut self, time: f64, pieces: &mut Vec<usize>) {
        for coupled in &mut self.coupled {
            pieces.push(coupled.couple.piece(coupled.driven_by(time)));
            coupled.from.pieces_at(time, pieces);
        }
    }

    /// The value at a time in ticks.
    pub fn value_at(&mut self, time: f64) -> Value {
        let own = self.own.value_at(time);
        let rest = self.own.rest();
        self.coupled.iter_mut().fold(own, |value, coupled| coupled.added_to(value, rest, time))
    }
}

/// A setting over time: a number, or what is read from an attribute.
#[derive(Debug)]
pub struct SettingSampler<'a> {
    source: Source<'a>,
}

#[derive(Debug)]
enum Source<'a> {
    Constant(f64),
    Number { of: Box<CoupledSampler<'a>>, remaining: bool },
    Is { of: Box<CoupledSampler<'a>>, option: &'a str },
}

impl<'a> SettingSampler<'a> {
    /// A sampler of a setting; without a take its attribute rests.
    ///
    /// # Errors
    /// As [`CoupledSampler::new`].
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        setting: &'a Setting,
    ) -> Result<SettingSampler<'a>, EvaluateError> {
        SettingSampler::at_depth(scene, take, setting, 0)
    }

    fn at_depth(
        scene: &'a Scene,
        take: Option<&'a Take>,
        setting: &'a Setting,
        depth: usize,
    ) -> Result<SettingSampler<'a>, EvaluateError> {
        let sampler = |target: &'a Target| property(scene, take, target, depth).map(Box::new);
        let source = match setting {
            Setting::Constant(number) => Source::Constant(*number),
            Setting::Attribute(target) => Source::Number { of: sampler(target)?, remaining: false },
            Setting::Remaining(target) => Source::Number { of: sampler(target)?, remaining: true },
            Setting::Is(target, option) => Source::Is { of: sampler(target)?, option },
        };
        Ok(SettingSampler { source })
    }

    /// The number at a time in ticks.
    pub fn at(&mut self, time: f64) -> f64 {
        match &mut self.source {
            Source::Constant(number) => *number,
            Source::Number { of, remaining } => {
                let number = match of.value_at(time) {
                    Value::Number(number) => number,
                    Value::Discrete(Discrete::Switch(on)) => f64::from(u8::from(on)),
                    // Validation lets no other attribute through.
                    _ => 0.0,
                };
                if *remaining { 1.0 - number } else { number }
            }
            Source::Is { of, option } => match of.value_at(time) {
                Value::Discrete(Discrete::Choice(now)) => f64::from(u8::from(now == *option)),
                _ => 0.0,
            },
        }
    }
}

/// A property with its couples, `depth` couples down.
fn property<'a>(
    scene: &'a Scene,
    take: Option<&'a Take>,
    target: &Target,
    depth: usize,
) -> Result<CoupledSampler<'a>, EvaluateError> {
    let tracks: Vec<(&Layer, &Track)> = (take.into_iter().flat_map(Take::active_tracks))
        .filter(|(_, track)| track.target == *target)
        .collect();
    CoupledSampler::of_tracks((scene, take), target, &tracks, depth)
}

/// What one couple adds to a property.
#[derive(Debug)]
struct Coupled<'a> {
    couple: &'a Couple,
    weight: SettingSampler<'a>,
    from: Box<CoupledSampler<'a>>,
}

impl<'a> Coupled<'a> {
    /// All couples onto a property.
    fn onto(
        scene: &'a Scene,
        take: Option<&'a Take>,
        target: &Target,
        depth: usize,
    ) -> Result<Vec<Coupled<'a>>, EvaluateError> {
        let mut coupled = Vec::new();
        if scene.constraints.is_empty() {
            return Ok(coupled);
        }
        for constraint in &scene.constraints {
            let crate::constraint::ConstraintKind::Couple(couple) = &constraint.kind else { continue };
            if couple.channel.target != *target {
                continue;
            }
            if depth >= MOST_COUPLED {
                return Err(EvaluateError::Circle(Addresses::new(scene).property(target)));
            }
            coupled.push(Coupled {
                couple,
                weight: SettingSampler::at_depth(scene, take, &constraint.weight, depth + 1)?,
                from: Box::new(property(scene, take, &couple.from.target, depth + 1)?),
            });
        }
        Ok(coupled)
    }

    /// The number that it goes by at a time in ticks.
    fn driven_by(&mut self, time: f64) -> f64 {
        number(&self.from.value_at(time), self.from.own.rest(), self.couple.from.component)
    }

    /// A value with what the couple adds to it at a time in ticks.
    fn added_to(&mut self, value: Value, rest: &Value, time: f64) -> Value {
        let from = self.driven_by(time);
        let more = self.weight.at(time) * self.couple.at(from);
        let component = self.couple.channel.component;
        match value {
            Value::Number(own) => Value::Number(own + more),
            Value::Vector(own) => Value::Vector(own + DVec3::AXES[component] * more),
            // Angles are those of the node's own order.
            turned @ (Value::Euler { .. } | Value::Quaternion(_)) => {
                let (order, angles) = in_order(&turned, rest);
                Value::Euler { order, angles: angles + DVec3::AXES[component] * more }
            }
            other => other,
        }
    }
}

/// One number of a value; of a rotation an angle of the order at rest.
fn number(value: &Value, rest: &Value, component: usize) -> f64 {
    match value {
        Value::Number(number) => *number,
        Value::Vector(numbers) => numbers[component],
        Value::Euler { .. } | Value::Quaternion(_) => in_order(value, rest).1[component],
        Value::Discrete(Discrete::Switch(on)) => f64::from(u8::from(*on)),
        // Validation lets no other property through.
        _ => 0.0,
    }
}

/// A rotation's angles in the order that its node has at rest; xyz where that rests as a quaternion.
fn in_order(value: &Value, rest: &Value) -> (RotationOrder, DVec3) {
    let (order, near) = match rest {
        Value::Euler { order, angles } => (*order, *angles),
        rest => {
            let turn = rest.rotation().unwrap_or(DQuat::IDENTITY);
            (RotationOrder::Xyz, nearest_euler(RotationOrder::Xyz, turn, DVec3::ZERO))
        }
    };
    match value {
        Value::Euler { order: own, angles } if *own == order => (order, *angles),
        other => (order, other.rotation().map_or(near, |turn| nearest_euler(order, turn, near))),
    }
}
