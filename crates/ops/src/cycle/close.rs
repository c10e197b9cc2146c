//! The ends of a range made to meet.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{
    Behaviour, Curve, Interpolation, Key, Side, Splice, Tangent, TangentMode, combine,
};
use nimble_curve_curves::rotation::{angle_between, nearest_turn, quat_from_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::scene::{Scene, Target};

use super::{Closing, CycleError, CycleOptions, RootMotionChannels, chosen};
use crate::channel::{count, property};
use crate::conversion::{ConversionContext, NotConvertible};
use crate::mixing::curves_that_mix;

/// Makes the ends of a range meet, in value and in slope: by a correction spread over its last stretch, or by the last key alone. What carries the body along stays as it is. The ledger says how far each channel was moved.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::cycle::{Closing, CycleOptions, close};
/// use nimble_curve_ops::Tolerance;
///
/// // A sway that ends two hundredths of a turn beside where it began.
/// let angles = curves([&[(0, 0.0), (24, 0.0)], &[(0, 0.0), (12, 0.3), (24, 0.12)], &[(0, 0.0), (24, 0.0)]]);
/// let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yxz, curves: angles });
/// let sway = take("sway", 24, vec![track(ROTATION, controller)]);
/// let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
///
/// // What is missing comes in over the last ten frames.
/// let (closed, _) = close(&scene(sway), &Closing::over(rate.ticks(10)), &options)?;
/// let Controller::Euler(euler) = &closed.takes[0].layers[0].tracks[0].controller else { panic!() };
/// assert!((at(&euler.curves[1], 24) - at(&euler.curves[1], 0)).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`CycleError`].
pub fn close(
    scene: &Scene,
    closing: &Closing,
    options: &CycleOptions,
) -> Result<(Scene, Ledger), CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let over = Ticks(closing.over.0.clamp(0, (range.last - range.first).0));
    let going = RootMotionChannels::of(scene, take)?;
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (at, layer) in take.layers.iter().enumerate() {
        for (place, track) in layer.tracks.iter().enumerate() {
            let Some((kind, rest)) = property(scene, take, at, track) else { continue };
            let channel = addresses.property(&track.target);
            let tolerance = options.tolerance.of(kind.quantity(), &scene.space);
            let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range: take.range };
            let mut made = track.controller.clone();
            let is_meant = closing.takes(&channel);
            if is_meant
                && matches!(made, Controller::Tcb(_) | Controller::Stack(_) | Controller::Procedural(_))
            {
                let cannot = |why: NotConvertible| CycleError::Cannot {
                    channel: channel.clone(),
                    why: why.to_string(),
                };
                made = curves_that_mix(take, at, &track.target, &made, &setting).map_err(cannot)?.controller;
            }
            let closer = Closer { range, written: take.range, over, going: &going, target: &track.target };
            let moved =
                if is_meant { closer.close(&mut made, &setting).filter(|moved| *moved > 0.0) } else { None };
            let error = moved.map(|moved| {
                let mut error = MeasuredError::none(kind.quantity());
                error.take(moved, scene.rate.frame(range.last));
                error
            });
            let own = &mut result.takes[index].layers[at].tracks[place];
            if moved.is_some() {
                own.controller = made;
            }
            ledger.entries.push(Entry {
                take: take.name.clone(),
                layer: layer.name.clone(),
                channel,
                to: None,
                target: Some(track.target.clone()),
                // What was moved is not what it was, by as much as is said.
                fate: if moved.is_some() { Fate::Refitted } else { Fate::Kept },
                error,
                before: count(track),
                after: count(own),
                note: if moved.is_some() { "moved so that the ends meet".into() } else { String::new() },
            });
        }
    }
    Ok((result, ledger))
}

/// Closes the controllers of one track.
pub(super) struct Closer<'a> {
    pub(super) range: TimeRange,
    /// Where what moves outside its keys is written out.
    pub(super) written: TimeRange,
    pub(super) over: Ticks,
    pub(super) going: &'a RootMotionChannels,
    pub(super) target: &'a Target,
}

impl Closer<'_> {
    /// Makes the ends meet, and says how far anything was moved at most; `None` where nothing can be.
    pub(super) fn close(&self, controller: &mut Controller, setting: &ConversionContext) -> Option<f64> {
        let goes: Vec<bool> = (0..16).map(|c| self.going.goes(self.target, controller, c)).collect();
        let moved = match controller {
            Controller::Components(curves) => {
                let each = curves.iter_mut().enumerate().filter(|(component, _)| !goes[*component]);
                each.map(|(_, curve)| self.curve(curve, false)).fold(0.0, f64::max)
            }
            Controller::Euler(euler) => {
                let each = euler.curves.iter_mut().enumerate().filter(|(component, _)| !goes[*component]);
                each.map(|(_, curve)| self.curve(curve, true)).fold(0.0, f64::max)
            }
            Controller::Quaternion(curve) => self.quaternions(curve, setting),
            Controller::Samples(samples) => self.samples(samples, &goes),
            _ => return None,
        };
        Some(moved)
    }

    pub(super) fn curve(&self, curve: &mut Curve, is_angle: bool) -> f64 {
        if curve.is_empty() || curve.is_constant() {
            return 0.0;
        }
        let TimeRange { first, last } = self.range;
        let at = |curve: &Curve, time: Ticks, side| curve.value_on(time.as_f64(), side).unwrap_or(0.0);
        let slope = |curve: &Curve, time: Ticks, side| curve.slope_on(time.as_f64(), side).unwrap_or(0.0);
        // What loops over the range goes on as it loops then; all else that moves outside its keys stays as it was.
        let loops = curve.range() == Some(self.range) && curve.inner_loop().is_none();
        let (before, after) = match loops {
            true => (curve.before, curve.after),
            false => (Behaviour::Held, Behaviour::Held),
        };
        let whole = curve.range().map_or(self.range, |own| own.union(self.range)).union(self.written);
        let mut cut = if loops { curve.clone() } else { curve.written_out(whole) };
        let start = at(&cut, first, Side::Right);
        // A held value steps at the last key.
        let key_before = cut.keys().iter().rfind(|key| key.time < last);
        let is_held = key_before.is_some_and(|key| key.interpolation == Interpolation::Hold);
        let key_before = key_before.map(|key| key.time);
        let end = at(&cut, last, if is_held { Side::Right } else { Side::Left });
        // The same angle may be whole turns on.
        let wanted = if is_angle { nearest_turn(start, end) } else { start };
        let (step, tilt) = (wanted - end, slope(&cut, first, Side::Right) - slope(&cut, last, Side::Left));
        let jump = if is_held { 0.0 } else { at(&cut, last, Side::Right) - end };
        if step == 0.0 && tilt == 0.0 && jump == 0.0 {
            return 0.0;
        }
        let begin = last - self.over;
        // Keys at both ends, so that what lies outside stays.
        if ![first, begin, last].into_iter().all(|time| cut.ensure_key(time)) {
            // Where it has no value there is nothing to close.
            return 0.0;
        }
        cut = cut.with_ends(self.range);
        let spread = |cut: &Curve| {
            let key = |time, value, slope: f64| Key::new(time, value).with_slope(slope);
            let correction = Curve::new(vec![key(begin, 0.0, 0.0), key(last, step, tilt)]).ok()?;
            let sum = combine(&[(1.0, cut), (1.0, &correction)], 0.0)?;
            let window = TimeRange::new(begin, last);
            let how = Splice {
                range: window,
                of: whole.union(window),
                seam: Ticks::ZERO,
                rest: 0.0,
                is_angle: false,
            };
            Some(cut.spliced(&sum, &how))
        };
        let made = if self.over.0 > 0 && begin < last && !is_held { spread(&cut) } else { None };
        let made = made.unwrap_or_else(|| cut.clone());
        // The last key to the bit: the first value, and its slope.
        let mut keys = made.keys().to_vec();
        let Some(index) = keys.iter().position(|key| key.time == last) else { return 0.0 };
        let outgoing = slope(&made, first, Side::Right);
        // What the old value made of automatic tangents beside it stays.
        for beside in [index.checked_sub(1), Some(index), Some(index + 1)].into_iter().flatten() {
            let Some(key) = keys.get_mut(beside) else { continue };
            for tangent in [&mut key.tangent_in, &mut key.tangent_out] {
                tangent.mode = TangentMode::Free;
            }
        }
        // The last frame belongs to the range; what follows it goes on from there.
        (keys[index].value, keys[index].value_before) = (wanted, None);
        keys[index].tangent_in = Tangent::slope(outgoing);
        keys[index].joined = false;
        let Ok(closed) = Curve::new(keys) else { return 0.0 };
        let closed = closed.with_behaviours(before, after);
        let from = key_before.map_or(begin, |time| begin.min(time));
        let moved = farthest_apart(curve, &closed, TimeRange::new(from, last));
        *curve = closed;
        moved
    }

    /// How much of the correction counts at a time.
    pub(super) fn share(&self, time: Ticks) -> f64 {
        let begin = (self.range.last - self.over).as_f64();
        if time == self.range.last {
            return 1.0;
        }
        if self.over.0 == 0 || time > self.range.last {
            return 0.0;
        }
        let u = ((time.as_f64() - begin) / self.over.as_f64()).clamp(0.0, 1.0);
        u * u * (3.0 - 2.0 * u)
    }

    /// How fast that grows.
    pub(super) fn share_per_second(&self, time: Ticks) -> f64 {
        if self.over.0 == 0 || time > self.range.last {
            return 0.0;
        }
        let begin = (self.range.last - self.over).as_f64();
        let u = ((time.as_f64() - begin) / self.over.as_f64()).clamp(0.0, 1.0);
        6.0 * u * (1.0 - u) / self.over.seconds()
    }

    /// Has samples all over the stretch in which the way to the beginning is spread: beyond its samples a channel is held.
    fn cover(&self, samples: &mut Samples) {
        let step = samples.rate.ticks_per_frame();
        let before = ((samples.start - (self.range.last - self.over)).as_f64() / step).ceil();
        let end = samples.time(samples.len() - 1);
        let behind = ((self.range.last - end).as_f64() / step - 0.5).ceil();
        if before > 0.0 {
            let held = samples.row(0).repeat(before as usize);
            samples.values.splice(0..0, held);
            samples.start = samples.start - samples.rate.ticks(before as i64);
        }
        if behind > 0.0 {
            let held = samples.row(samples.len() - 1).repeat(behind as usize);
            samples.values.extend(held);
        }
    }

    pub(super) fn samples(&self, samples: &mut Samples, goes: &[bool]) -> f64 {
        let width = samples.kind.width();
        if samples.is_empty() {
            return 0.0;
        }
        self.cover(samples);
        let index_of = |time: Ticks| {
            let place = (time - samples.start).as_f64() / samples.rate.ticks_per_frame();
            (place.round().max(0.0) as usize).min(samples.len() - 1)
        };
        let (first, last) = (index_of(self.range.first), index_of(self.range.last));
        let (from, to) = (samples.row(first).to_vec(), samples.row(last).to_vec());
        if samples.kind == SampleKind::Quaternion {
            let q = |row: &[f64]| DQuat::from_slice(row).normalize();
            let by = nimble_curve_curves::rotation::to_vector(q(&from) * q(&to).conjugate());
            for index in first + 1..=last {
                let share = if index == last { 1.0 } else { self.share(samples.time(index)) };
                let row = &mut samples.values[index * width..(index + 1) * width];
                let turned = (nimble_curve_curves::rotation::from_vector(by * share) * q(row)).normalize();
                let near = if turned.dot(q(row)) < 0.0 { -turned } else { turned };
                row.copy_from_slice(&near.to_array());
            }
            return by.length();
        }
        let is_angle = matches!(samples.kind, SampleKind::Euler(_));
        let mut steps: Vec<f64> = (0..width)
            .map(|c| if is_angle { nearest_turn(from[c], to[c]) - to[c] } else { from[c] - to[c] })
            .collect();
        steps.iter_mut().zip(goes).filter(|(_, goes)| **goes).for_each(|(step, _)| *step = 0.0);
        for index in first + 1..=last {
            let share = if index == last { 1.0 } else { self.share(samples.time(index)) };
            for (value, step) in samples.values[index * width..].iter_mut().zip(&steps) {
                *value += step * share;
            }
        }
        match samples.kind {
            SampleKind::Euler(order) => {
                let angles = |row: &[f64]| quat_from_euler(order, DVec3::from_slice(row));
                angle_between(angles(&to), angles(samples.row(last)))
            }
            _ => steps.iter().map(|step| step * step).sum::<f64>().sqrt(),
        }
    }
}

/// How far two curves are apart at most in a stretch, at so many instants and on both sides of its end.
fn farthest_apart(a: &Curve, b: &Curve, stretch: TimeRange) -> f64 {
    const LOOKS: i32 = 64;
    let (first, way) = (stretch.first.as_f64(), (stretch.last - stretch.first).as_f64());
    let inside = (0..LOOKS).map(|look| (first + way * f64::from(look) / f64::from(LOOKS), Side::Right));
    let looks = inside.chain([Side::Left, Side::Right].map(|side| (stretch.last.as_f64(), side)));
    let apart = |(time, side): (f64, Side)| {
        let (a, b) = (a.value_on(time, side), b.value_on(time, side));
        a.zip(b).map_or(0.0, |(a, b)| (a - b).abs())
    };
    looks.map(apart).fold(0.0, f64::max)
}
