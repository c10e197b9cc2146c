//! Curves whose keys a fit chose, fitted anew to a rotation that they are converted to, as angles or as quaternion keys.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Cursor, Curve, Interpolation, Key, Side};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{
    AngleTolerance, KeyedRotation, RotationOrder, RotationPath, angle_between, nearest_euler, quat_from_euler,
};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::controller::{Controller, EulerCurves, QuaternionCurve, SampleKind, Samples};
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::scene::PropertyKind;

use super::Fitting;
use super::leaps::{Leaps, leaps_over};

/// Keys that stay where they are when a rotation is fitted anew, within the range of all.
pub(crate) struct Kept {
    pub range: TimeRange,
    pub times: Vec<Ticks>,
    /// How many keys three curves have that have them wherever one of these has: more are no use.
    pub most: usize,
}

/// What stays of angles whose keys a fit chose: these are free to move. `None` where few were fitted, or where values leap.
pub(crate) fn kept_keys(euler: &EulerCurves) -> Option<Kept> {
    kept_of(&[euler])
}

/// The same of several rotations that one is made of.
pub(crate) fn kept_of(all: &[&EulerCurves]) -> Option<Kept> {
    let curves = || all.iter().flat_map(|euler| &euler.curves);
    let keys = || curves().flat_map(Curve::keys);
    let is_plain = |key: &Key| {
        key.value_before.is_none()
            && matches!(key.interpolation, Interpolation::Cubic | Interpolation::Linear)
    };
    let fitted = keys().filter(|key| key.fitted).count();
    if 2 * fitted < keys().count() || !keys().all(is_plain) {
        return None;
    }
    let range = curves().filter_map(Curve::range).reduce(TimeRange::union)?;
    let set = |key: &&Key| !key.fitted && !key.added;
    // A curve's ends are keys anyway.
    let inner = |key: &&Key| range.first < key.time && key.time < range.last;
    let mut all: Vec<Ticks> = keys().map(|key| key.time).collect();
    all.sort_unstable();
    all.dedup();
    let times = keys().filter(set).filter(inner).map(|key| key.time).collect();
    Some(Kept { range, times, most: 3 * all.len() })
}

/// A rotation fitted anew.
pub(crate) struct Refitted {
    pub curves: [Curve; 3],
    /// At eighths of frames; its place is in ticks.
    pub error: MeasuredError,
}

/// Where a rotation is looked at from one frame to the next.
const LOOKS: i64 = 8;
/// So many samples a frame it is fitted to; more where fewer leave it too far off between them. At last frames are converted directly
/// that are too far off, whatever they turn by, where these are few.
const SAMPLES: [(usize, bool); 3] = [(1, false), (4, false), (1, true)];
/// Where it is so many times too far off between samples, a closer fit to these is no help.
const FAR: f64 = 1.5;
/// How often it is fitted closer, at most.
const TRIES: usize = 16;
/// After half of them what is too far off is aimed at so much closer each time: what changes here changes elsewhere, too.
const FIRMER: f64 = 0.97;
/// It is fitted closer for so many frames to both sides of where it is too far off.
const AROUND: usize = 2;

/// How far off a fit may be at each sample so that it is not too far off between them.
struct Room {
    samples: Vec<f64>,
    /// The part that is left of that next.
    parts: Vec<f64>,
    /// Samples a frame.
    stride: usize,
    /// The part of what is allowed that is aimed at where more was used up.
    aim: f64,
    tries: usize,
}

impl Room {
    fn new(samples: Vec<f64>, stride: usize) -> Room {
        Room { parts: vec![1.0; samples.len()], samples, stride, aim: 0.99, tries: 0 }
    }

    /// Takes in what part of what is allowed a fit uses up at a look.
    fn look(&mut self, look: i64, used: f64) {
        if used > 1.0 {
            let frame = (look / LOOKS) as usize;
            let from = frame.saturating_sub(AROUND) * self.stride;
            let to = ((frame + 1 + AROUND) * self.stride).min(self.parts.len() - 1);
            self.parts[from..=to].iter_mut().for_each(|part| *part = part.min(self.aim / used));
        }
    }

    /// Leaves less where too much was used up.
    fn shrink(&mut self) {
        self.samples.iter_mut().zip(&self.parts).for_each(|(room, part)| *room *= part);
        self.parts.fill(1.0);
        self.tries += 1;
        if 2 * self.tries > TRIES {
            self.aim *= FIRMER;
        }
    }
}

/// Quaternion keys through a rotation, fitted to it at frames and held to the tolerance between them. `None` where that
/// cannot be.
pub(crate) fn refit_as_quaternions(
    rotation: impl Fn(f64) -> DQuat,
    rate: FrameRate,
    tolerance: f64,
    kept: &Kept,
) -> Option<(QuaternionCurve, MeasuredError)> {
    let range = kept.range;
    let count = frames_of(range, rate, &kept.times)?;
    let values =
        (0..=count).flat_map(|frame| rotation((range.first + rate.ticks(frame)).as_f64()).to_array());
    let samples =
        Samples { start: range.first, rate, kind: SampleKind::Quaternion, values: values.collect() };
    let fitting = Fitting::new(&samples, PropertyKind::Rotation, RotationOrder::Xyz, None, tolerance)?;
    let mut fitting = fitting.by_components();
    for _ in 0..TRIES {
        let Controller::Quaternion(curve) = fitting.free(&kept.times, Handles::Plain).controller else {
            return None;
        };
        let keyed = KeyedRotation::new(&curve);
        let error = largest((range.first, rate), count, tolerance, |at| {
            angle_between(rotation(at), keyed.rotation(at, Side::Right))
        });
        let used = error.largest / tolerance;
        if used <= 1.0 {
            return Some((curve, error));
        }
        if used > FAR {
            return None;
        }
        fitting.tolerance *= 0.99 / used;
    }
    None
}

/// The largest angle at eighths of so many frames from a time on, and between them where that may be more than is allowed: one track
/// that is a hair beyond it would have all of them fitted closer.
fn largest(
    (first, rate): (Ticks, FrameRate),
    frames: i64,
    allowed: f64,
    off: impl Fn(f64) -> f64,
) -> MeasuredError {
    let mut error = MeasuredError::none(Quantity::Angle);
    let step = rate.ticks_per_frame() / LOOKS as f64;
    let mut before = [0.0; 2];
    for look in 0..=frames * LOOKS {
        let at = first.as_f64() + look as f64 * step;
        let angle = off(at);
        error.take(angle, at);
        if let Some(part) =
            top(before, angle).filter(|(_, top)| look > 1 && *top > allowed).map(|(part, _)| part)
        {
            let at = at + (part - 1.0) * step;
            error.take(off(at), at);
        }
        before = [before[1], angle];
    }
    error
}

/// Where the parabola through three values in a row is highest, in steps after the second, which is the largest of them, and how high.
fn top([first, middle]: [f64; 2], last: f64) -> Option<(f64, f64)> {
    let bend = 2.0 * middle - first - last;
    let is_top = middle >= first && middle >= last && bend > 0.0;
    is_top.then(|| (0.5 * (last - first) / bend, middle + (last - first).powi(2) / (8.0 * bend)))
}

/// How many frames a range has, if it and all that is kept begin and end on frames.
fn frames_of(range: TimeRange, rate: FrameRate, keep: &[Ticks]) -> Option<i64> {
    let count = rate.frame(range.last - range.first).round() as i64;
    let on_frames = |time: Ticks| rate.ticks(rate.nearest_frame(time - range.first)) == time - range.first;
    (count >= 1 && on_frames(range.last) && keep.iter().all(|&time| on_frames(time))).then_some(count)
}

/// Curves of an order through a rotation, fitted to it at the frames of a rate from the range's start on, and held to the
/// tolerance between them, too; what is kept has keys. `None` where that cannot be.
pub(crate) fn refit_rotation(
    rotation: impl Fn(f64) -> DQuat,
    rate: FrameRate,
    (order, start): (RotationOrder, DVec3),
    tolerance: AngleTolerance<'_>,
    kept: &Kept,
) -> Option<Refitted> {
    let (range, keep) = (kept.range, &kept.times);
    let count = frames_of(range, rate, keep)?;
    let allowed = |time: f64| tolerance.angle * tolerance.factor(time);
    let mut leaps = Leaps::none(range.first, rate);
    for (stride, any) in SAMPLES {
        let dense = FrameRate::new(rate.numerator().checked_mul(stride as u32)?, rate.denominator())?;
        let times: Vec<f64> =
            (0..=count * stride as i64).map(|sample| (range.first + dense.ticks(sample)).as_f64()).collect();
        let mut near = start;
        let mut values = Vec::with_capacity(3 * times.len());
        for &time in &times {
            near = nearest_euler(order, rotation(time), near);
            values.extend(near.to_array());
        }
        let samples = Samples { start: range.first, rate: dense, kind: SampleKind::Euler(order), values };
        let fitting = Fitting::new(&samples, PropertyKind::Rotation, order, None, tolerance.angle)?;
        let mut fitting = Fitting { stride, ..fitting };
        // Between samples the curves may lie farther from the rotation than at them.
        let mut room = Room::new(times.iter().map(|&time| allowed(time)).collect(), stride);
        for _ in 0..TRIES {
            fitting.confine(room.samples.clone());
            let Controller::Euler(fitted) = fitting.free(&leaps.times(keep), Handles::Plain).controller
            else {
                return None;
            };
            let Some(curves) = leaps.put_into(fitted.curves, &rotation, (order, tolerance)) else { break };
            let mut cursors = curves.each_ref().map(Cursor::new);
            let mut far: Vec<i64> = Vec::new();
            let (mut error, mut used) = (MeasuredError::none(Quantity::Angle), 0.0_f64);
            for look in 0..=count * LOOKS {
                let at = range.first.as_f64() + look as f64 * rate.ticks_per_frame() / LOOKS as f64;
                let angles = cursors.each_mut().map(|cursor| cursor.value_at(at).unwrap_or(0.0));
                let off = angle_between(rotation(at), quat_from_euler(order, DVec3::from_array(angles)));
                error.take(off, at);
                let part = off / allowed(at);
                used = used.max(part);
                room.look(look, part);
                if part > FAR && look % LOOKS != 0 && far.last() != Some(&(look / LOOKS)) {
                    far.push(look / LOOKS);
                }
            }
            if used <= 1.0 {
                if curves.iter().map(|curve| curve.keys().len()).sum::<usize>() > kept.most {
                    break;
                }
                return Some(Refitted { curves, error });
            }
            if used > FAR {
                // Between these frames it is converted directly, and all is fitted once more.
                if stride == 1
                    && leaps.take(&far, count, |from, to| any || leaps_over(rotation(from), rotation(to)))
                {
                    room = Room::new(times.iter().map(|&time| allowed(time)).collect(), stride);
                    continue;
                }
                break;
            }
            room.shrink();
        }
    }
    None
}
