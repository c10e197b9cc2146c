//! Numbers that steer constraints: settings read from attributes, and couples.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Discrete;
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::value::Value;

use super::{EvaluateError, PropertySampler};
use crate::address::Addresses;
use crate::constraint::{Couple, Setting};
use crate::scene::{Layer, Scene, Take, Target, Track};

/// How many couples may lead to one another.
const MOST_COUPLED: usize = 64;

/// A setting over time.
#[derive(Debug)]
pub(super) enum SettingSampler<'a> {
    Constant(f64),
    Number { of: Box<PropertySampler<'a>>, remaining: bool },
    Is { of: Box<PropertySampler<'a>>, option: &'a str },
}

impl<'a> SettingSampler<'a> {
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        setting: &'a Setting,
        depth: usize,
    ) -> Result<SettingSampler<'a>, EvaluateError> {
        let sampler = |target: &'a Target| property(scene, take, target, depth).map(Box::new);
        Ok(match setting {
            Setting::Constant(number) => SettingSampler::Constant(*number),
            Setting::Attribute(target) => SettingSampler::Number { of: sampler(target)?, remaining: false },
            Setting::Remaining(target) => SettingSampler::Number { of: sampler(target)?, remaining: true },
            Setting::Is(target, option) => SettingSampler::Is { of: sampler(target)?, option },
        })
    }

    /// The number at a time in ticks.
    pub fn at(&mut self, time: f64) -> f64 {
        match self {
            SettingSampler::Constant(number) => *number,
            SettingSampler::Number { of, remaining } => {
                let number = match of.value_at(time) {
                    Value::Number(number) => number,
                    Value::Discrete(Discrete::Switch(on)) => f64::from(u8::from(on)),
                    // Validation lets no other attribute through.
                    _ => 0.0,
                };
                if *remaining { 1.0 - number } else { number }
            }
            SettingSampler::Is { of, option } => match of.value_at(time) {
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
) -> Result<PropertySampler<'a>, EvaluateError> {
    let tracks: Vec<(&Layer, &Track)> = (take.into_iter().flat_map(Take::active_tracks))
        .filter(|(_, track)| track.target == *target)
        .collect();
    PropertySampler::of_tracks(scene, target, &tracks, take.map(|take| take.range))?
        .with_couples(scene, take, target, depth)
}

/// What one couple adds to a property.
#[derive(Debug)]
pub(super) struct Coupled<'a> {
    couple: &'a Couple,
    weight: SettingSampler<'a>,
    from: Box<PropertySampler<'a>>,
}

impl<'a> Coupled<'a> {
    /// All couples onto a property.
    pub fn onto(
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
                weight: SettingSampler::new(scene, take, &constraint.weight, depth + 1)?,
                from: Box::new(property(scene, take, &couple.from.target, depth + 1)?),
            });
        }
        Ok(coupled)
    }

    /// A value with what the couple adds to it at a time in ticks.
    pub fn added_to(&mut self, value: Value, rest: &Value, time: f64) -> Value {
        let from = number(&self.from.value_at(time), self.from.rest(), self.couple.from.component);
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
