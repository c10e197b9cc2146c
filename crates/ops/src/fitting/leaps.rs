//! Frames within which a rotation turns so far that a fit to frames does not tell where it goes: a motion that was held and goes on
//! elsewhere, a pop. These are converted directly, with keys of their own between the two frames.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::rotation::{
    AngleTolerance, Conversion, RotationOrder, angle_between, convert, quat_from_euler,
};
use nimble_curve_curves::time::{FrameRate, Ticks};
use nimble_curve_curves::value::Value;

use crate::sampled_function::SampledFunction;

/// What turns farther than this from one frame to the next leaps, in radians.
pub(crate) const LEAP: f64 = 1.0_f64.to_radians();

/// The most of the frames that may be leaps, one of so many: a motion that is as fast throughout is fitted to parts of frames.
const RARE: usize = 16;

/// The part of the tolerance that is for the way between the two frames.
const PART: f64 = 0.25;

/// Whether a rotation leaps from one frame to the next.
pub(super) fn leaps_over(from: DQuat, to: DQuat) -> bool {
    angle_between(from, to) > LEAP
}

/// The first frames of leaps, counted from the start of a range, in order.
#[derive(Clone, Debug)]
pub(super) struct Leaps {
    start: Ticks,
    rate: FrameRate,
    frames: Vec<i64>,
}

impl Leaps {
    pub(super) fn none(start: Ticks, rate: FrameRate) -> Leaps {
        Leaps { start, rate, frames: Vec::new() }
    }

    fn ends(&self, frame: i64) -> [Ticks; 2] {
        [frame, frame + 1].map(|frame| self.start + self.rate.ticks(frame))
    }

    /// Takes in frames of which a fit is far off, if all of them are leaps and few among so many; whether it did.
    pub(super) fn take(&mut self, far: &[i64], count: i64, is_leap: impl Fn(f64, f64) -> bool) -> bool {
        let leaps = |frame: &i64| {
            let [from, to] = self.ends(*frame).map(Ticks::as_f64);
            is_leap(from, to)
        };
        let is_new = |frame: &i64| !self.frames.contains(frame);
        let fits = (self.frames.len() + far.len()) * RARE <= count as usize + RARE;
        if far.is_empty() || !fits || !far.iter().all(|frame| is_new(frame) && leaps(frame)) {
            return false;
        }
        self.frames.extend(far);
        self.frames.sort_unstable();
        true
    }

    /// The times at which keys have to stand, beside others.
    pub(super) fn times(&self, keep: &[Ticks]) -> Vec<Ticks> {
        let own = self.frames.iter().flat_map(|frame| self.ends(*frame));
        let mut times: Vec<Ticks> = keep.iter().copied().chain(own).collect();
        times.sort_unstable();
        times.dedup();
        times
    }

    /// Fitted curves with the ways of the leaps put in; `None` where these do not meet them.
    pub(super) fn put_into(
        &self,
        mut curves: [Curve; 3],
        rotation: &impl Fn(f64) -> DQuat,
        (order, tolerance): (RotationOrder, AngleTolerance<'_>),
    ) -> Option<[Curve; 3]> {
        for &frame in &self.frames {
            let [from, to] = self.ends(frame);
            let path = SampledFunction::of_function(|time| Value::Quaternion(rotation(time)));
            let at = |time: Ticks| {
                let angles = curves.each_ref().map(|curve| curve.value_at(time.as_f64()).unwrap_or(0.0));
                DVec3::from_array(angles)
            };
            let fitted = [at(from), at(to)];
            let conversion = Conversion::new(order, tolerance.scaled(PART), self.rate, fitted[0]);
            let way = convert(&path, &path.knots(&[from, to]), &conversion).curves;
            let ends = [from, to].map(|time| {
                DVec3::from_array(way.each_ref().map(|curve| curve.value_at(time.as_f64()).unwrap_or(0.0)))
            });
            // The same angles, not a turn more or the other reading of them.
            let meets = |(own, other): (&DVec3, &DVec3)| {
                let apart = angle_between(quat_from_euler(order, *own), quat_from_euler(order, *other));
                (*own - *other).abs().max_element() < LEAP.max(4.0 * apart)
            };
            if !fitted.iter().zip(&ends).all(meets) {
                return None;
            }
            let off = [fitted[0] - ends[0], fitted[1] - ends[1]];
            for (axis, curve) in curves.iter_mut().enumerate() {
                let offs = off.map(|off| off[axis]);
                *curve = spliced(std::mem::take(curve), way[axis].keys(), offs)?;
            }
        }
        Some(curves)
    }
}

/// A curve with a way from one of its keys to the next, moved to meet these.
fn spliced(curve: Curve, way: &[Key], [off, off_at_end]: [f64; 2]) -> Option<Curve> {
    let [begin, inner @ .., end] = way else { return None };
    let mut keys = curve.into_keys();
    let at = keys.iter().position(|key| key.time == begin.time)?;
    if keys.get(at + 1)?.time != end.time {
        return None;
    }
    keys[at] =
        Key { tangent_out: begin.tangent_out, interpolation: begin.interpolation, joined: false, ..keys[at] };
    keys[at + 1] = Key { tangent_in: end.tangent_in, joined: false, ..keys[at + 1] };
    let length = (end.time - begin.time).as_f64();
    let moved = |key: &Key| {
        let part = (key.time - begin.time).as_f64() / length;
        let by = off + (off_at_end - off) * part;
        let value_before = key.value_before.map(|value| value + by);
        Key { value: key.value + by, value_before, fitted: true, added: false, ..*key }
    };
    keys.splice(at + 1..at + 1, inner.iter().map(moved));
    Curve::new(keys).ok()
}
