//! One layer of a take or one entry of a stack, joined to what lies under it.

use glam::DVec3;
use nimble_curve_curves::rotation::{from_vector, nearest_vector, quat_from_euler};
use nimble_curve_curves::time::{TICKS_PER_SECOND, TimeRange};
use nimble_curve_curves::value::Value;

use super::{Sampler, mix};
use crate::controller::Weight;
use crate::scene::{LayerMode, PropertyKind, RotationMixing};

/// What joins the value under it, and how.
#[derive(Debug)]
pub(super) struct Blend<'a> {
    pub kind: PropertyKind,
    pub mode: LayerMode,
    pub rotations: RotationMixing,
    pub weight: &'a Weight,
    pub sampler: Sampler<'a>,
    /// For rotations of which a part counts: how far round they are.
    winding: Option<Winding>,
}

impl<'a> Blend<'a> {
    pub fn new(
        kind: PropertyKind,
        mode: LayerMode,
        rotations: RotationMixing,
        weight: &'a Weight,
        sampler: Sampler<'a>,
    ) -> Blend<'a> {
        Blend { kind, mode, rotations, weight, sampler, winding: None }
    }

    /// Whether nothing is left of what lies under it, ever.
    pub fn replaces(&self) -> bool {
        self.mode == LayerMode::Override && self.weight.constant() == Some(1.0)
    }

    /// The value with this on top of `under`, at a time in ticks.
    pub fn on(&mut self, under: Value, time: f64) -> Value {
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
pub(super) fn follow_turns(base: &Value, blends: &mut [Blend<'_>], range: Option<TimeRange>) {
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

/// A part of a turn; the whole of it is `vector`.
pub(super) fn part_of(vector: DVec3, part: f64) -> glam::DQuat {
    from_vector(vector * part)
}
