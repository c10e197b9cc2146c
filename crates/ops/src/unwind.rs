//! Unwind: Euler channels that flip between neighbouring keys are put on one continuous path.
//!
//! Behind a flip the same rotation stands on the other branch of angles, (θa+π, π−θb, θc+π), or whole turns away. Both
//! are exact on keys and tangents, so that nothing changes but the frame in which the channels jumped.

use std::f64::consts::{FRAC_PI_2, PI, TAU};

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Key, Side, Tangent, TangentMode, TangentShape, Ticks};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, nearest_euler, quat_from_euler};
use nimble_curve_curves::time::FrameRate;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::ledger::{Fate, Ledger};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Track};

use super::channel::{count, each_track, property};
use super::reorder::{ReorderError, chosen_or_all};

/// Keys farther apart than this many frames may hold a true turn between them.
const NEIGHBOURS: f64 = 1.5;

/// Repairs the flips of all Euler curves and samples on the rotations of the nodes that patterns name; all where there
/// are none.
///
/// A flip is a step of more than a right angle in some channel from one key to another at most a frame and a half
/// later, or in a jump, where the rotation itself turns by less than half of it. A channel that goes on at such a
/// speed turns truly, and stays.
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
/// use nimble_curve_ops::unwind::unwind;
///
/// // A reader that gives angles of one turn only leaps from 170 to -170 degrees.
/// let degrees = [(0, 150.0), (8, 170.0), (9, -170.0), (16, -150.0)].map(|(frame, angle): (i64, f64)| (frame, angle.to_radians()));
/// let angles = curves([&degrees, &[(0, 0.0)], &[(0, 0.0)]]);
/// let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yxz, curves: angles });
/// let turn = take("turn", 16, vec![track(ROTATION, controller)]);
///
/// let (unwound, _) = unwind(&scene(turn), &[])?;
/// let Controller::Euler(euler) = &unwound.takes[0].layers[0].tracks[0].controller else { panic!() };
/// let last = euler.curves[0].keys().last().unwrap().value.to_degrees();
/// assert!((last - 210.0).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// [`ReorderError::NothingChosen`].
pub fn unwind(scene: &Scene, only: &[String]) -> Result<(Scene, Ledger), ReorderError> {
    let addresses = Addresses::new(scene);
    let chosen = chosen_or_all(scene, only)?;
    Ok(each_track(scene, &addresses, |books, layer, track| {
        let node = (track.target.rig, track.target.node);
        if track.target.property != ROTATION || !chosen.contains(&node) {
            return (Some(track.clone()), None);
        }
        let rest = match property(scene, books.take, layer, track) {
            Some((_, Value::Euler { angles, .. })) => angles,
            _ => DVec3::ZERO,
        };
        let unwound = match &track.controller {
            Controller::Euler(euler) => {
                curves(euler, rest, scene.rate).map(|(euler, flips)| (Controller::Euler(euler), flips))
            }
            Controller::Samples(samples) => match samples.kind {
                SampleKind::Euler(order) => self::samples(order, samples, scene.rate)
                    .map(|(samples, flips)| (Controller::Samples(samples), flips)),
                _ => None,
            },
            _ => None,
        };
        let Some((controller, flips)) = unwound else {
            return (Some(track.clone()), Some(books.kept(layer, track)));
        };
        let new = Track { target: track.target.clone(), controller };
        let entry = books.changed(layer, track, Fate::Exact, count(&new), None, named(&flips));
        (Some(new), Some(entry))
    }))
}

/// The frames at which a controller flips; `rest` are the angles of channels without keys.
pub(super) fn flips(controller: &Controller, rest: DVec3, rate: FrameRate) -> Vec<f64> {
    let unwound = match controller {
        Controller::Euler(euler) => curves(euler, rest, rate).map(|(_, flips)| flips),
        Controller::Samples(own) => match own.kind {
            SampleKind::Euler(order) => samples(order, own, rate).map(|(_, flips)| flips),
            _ => None,
        },
        _ => None,
    };
    unwound.unwrap_or_default()
}

/// Where the flips were, the first few by frame.
fn named(flips: &[f64]) -> String {
    if let [one] = flips {
        return format!("one flip at frame {one:.0}");
    }
    let frames: Vec<String> = flips.iter().take(6).map(|flip| format!("{flip:.0}")).collect();
    let more = if flips.len() > 6 { ", …" } else { "" };
    format!("{} flips at frames {}{more}", flips.len(), frames.join(", "))
}

/// What becomes of the angles from some instant on: `sign·θ + offset` for each channel.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Branch {
    order: RotationOrder,
    is_other: bool,
    turns: DVec3,
}

impl Branch {
    fn sign(&self, axis: usize) -> f64 {
        if self.is_other && axis == self.order.middle() { -1.0 } else { 1.0 }
    }

    fn offset(&self, axis: usize) -> f64 {
        self.turns[axis] + if self.is_other { PI } else { 0.0 }
    }

    fn of(&self, angles: DVec3) -> DVec3 {
        DVec3::from_array([0, 1, 2].map(|axis| self.sign(axis) * angles[axis] + self.offset(axis)))
    }

    /// The branch on which some angles lie at others that stand for the same rotation.
    fn leading(order: RotationOrder, angles: DVec3, to: DVec3) -> Option<Branch> {
        [false, true].into_iter().find_map(|is_other| {
            let plain = Branch { order, is_other, turns: DVec3::ZERO };
            let turns = (to - plain.of(angles)) / TAU;
            let whole = turns.round();
            ((turns - whole).abs().max_element() < 1e-6).then_some(Branch { turns: whole * TAU, ..plain })
        })
    }
}

/// The branch behind a step, if the step is a flip.
///
/// `from` are angles already on their branch, `last_step` the step before at the same pace.
fn flip(branch: Branch, from: DVec3, raw: DVec3, last_step: Option<DVec3>) -> Option<Branch> {
    let to = branch.of(raw);
    let step = (to - from).abs().max_element();
    if step <= FRAC_PI_2 {
        return None;
    }
    let rotation = quat_from_euler(branch.order, to);
    let turned = angle_between(quat_from_euler(branch.order, from), rotation);
    let goes_on = last_step.is_some_and(|last| (to - from - last).abs().max_element() < 0.25 * step);
    if turned >= 0.5 * step || goes_on {
        return None;
    }
    let nearest = nearest_euler(branch.order, rotation, from);
    if (nearest - from).abs().max_element() >= 0.5 * step {
        return None;
    }
    Branch::leading(branch.order, raw, nearest)
}

/// Euler curves without flips, and the frames at which they were; `None` where there are none.
fn curves(euler: &EulerCurves, rest: DVec3, rate: FrameRate) -> Option<(EulerCurves, Vec<f64>)> {
    let source = euler.curves.each_ref().map(Curve::unrolled);
    let mut times: Vec<Ticks> =
        source.iter().flat_map(|curve| curve.keys().iter().map(|key| key.time)).collect();
    times.sort_unstable();
    times.dedup();
    let angles = |time: Ticks, side: Side| {
        DVec3::from_array(
            [0, 1, 2].map(|axis| source[axis].value_on(time.as_f64(), side).unwrap_or(rest[axis])),
        )
    };
    // The branch on each side of each key.
    let start = Branch { order: euler.order, is_other: false, turns: DVec3::ZERO };
    let mut sides: Vec<(Branch, Branch)> = Vec::with_capacity(times.len());
    let mut flips = Vec::new();
    let mut branch = start;
    let mut last_step = None;
    for (index, &time) in times.iter().enumerate() {
        if let Some(before) = index.checked_sub(1).map(|index| times[index]) {
            let from = branch.of(angles(before, Side::Right));
            let raw = angles(time, Side::Left);
            let close = (time - before).as_f64() <= NEIGHBOURS * rate.ticks_per_frame();
            if close && let Some(other) = flip(branch, from, raw, last_step) {
                branch = other;
                flips.push(rate.frame(time));
            }
            last_step = close.then(|| branch.of(raw) - from);
        }
        let left = branch;
        let (before, after) = (branch.of(angles(time, Side::Left)), angles(time, Side::Right));
        if let Some(other) = flip(branch, before, after, None) {
            branch = other;
            flips.push(rate.frame(time));
        }
        sides.push((left, branch));
    }
    if flips.is_empty() {
        return None;
    }
    let mut made = source;
    for (axis, curve) in made.iter_mut().enumerate() {
        *curve = on_branches(curve, axis, &times, &sides, rest[axis]);
    }
    Some((EulerCurves { order: euler.order, curves: made }, flips))
}

/// One channel on its branches.
fn on_branches(curve: &Curve, axis: usize, times: &[Ticks], sides: &[(Branch, Branch)], rest: f64) -> Curve {
    let map = |branch: &Branch| (branch.sign(axis), branch.offset(axis));
    if sides.iter().all(|(left, right)| map(left) == (1.0, 0.0) && map(right) == (1.0, 0.0)) {
        return curve.clone();
    }
    let mut curve = if curve.is_empty() { Curve::constant(times[0], rest) } else { curve.clone() };
    // A key on both sides of each change, exact; in a gap there is no value to keep.
    for index in 0..times.len() {
        let changes_here = map(&sides[index].0) != map(&sides[index].1);
        let changed_before = index > 0 && map(&sides[index - 1].1) != map(&sides[index].0);
        if changes_here || changed_before {
            curve.ensure_key(times[index]);
        }
        if changed_before {
            curve.ensure_key(times[index - 1]);
        }
    }
    let (before, after) = (curve.before, curve.after);
    let source = curve.into_keys();
    let mut keys: Vec<Key> = Vec::with_capacity(source.len());
    let mut flipped_into = Vec::new();
    for key in &source {
        let index = times.partition_point(|&time| time <= key.time).max(1) - 1;
        let (left, right) =
            if times[index] == key.time { sides[index] } else { (sides[index].1, sides[index].1) };
        let ((sign_in, offset_in), (sign_out, offset_out)) = (map(&left), map(&right));
        let left_value = sign_in * key.left_value() + offset_in;
        let value = sign_out * key.value + offset_out;
        if index > 0 && times[index] == key.time && map(&sides[index - 1].1) != map(&left) {
            flipped_into.push(keys.len());
        }
        let is_jump = key.value_before.is_some() || map(&left) != map(&right);
        keys.push(Key {
            value,
            value_before: (is_jump && (left_value - value).abs() > 1e-12).then_some(left_value),
            tangent_in: scaled(key.tangent_in, sign_in),
            tangent_out: scaled(key.tangent_out, sign_out),
            ..*key
        });
    }
    for index in flipped_into {
        straighten(&source, &mut keys, index);
    }
    Curve::new(keys).map(|curve| curve.with_behaviours(before, after)).unwrap_or_default()
}

fn scaled(tangent: Tangent, sign: f64) -> Tangent {
    let shape = match tangent.shape {
        TangentShape::Slope(slope) => TangentShape::Slope(sign * slope),
        TangentShape::Handle { dt, dv } => TangentShape::Handle { dt, dv: sign * dv },
    };
    Tangent { shape, ..tangent }
}

/// Tangents that pointed along the flip between two keys go along the straight way that is left.
fn straighten(source: &[Key], keys: &mut [Key], index: usize) {
    let Some(before) = index.checked_sub(1) else { return };
    let seconds = (keys[index].time - keys[before].time).seconds();
    let raw = (source[index].left_value() - source[before].value) / seconds;
    let now = (keys[index].left_value() - keys[before].value) / seconds;
    let mend = |tangent: Tangent| {
        let slope = tangent.slope_per_second();
        // Automatic tangents come from neighbours on both sides, a half of the flip at the least.
        let is_of_flip = (slope.abs() - raw.abs()).abs() < slope.abs() || slope.abs() > 0.4 * raw.abs();
        if tangent.mode == TangentMode::Free && is_of_flip && slope.abs() > 2.0 * now.abs() {
            tangent.turned_to(now)
        } else {
            tangent
        }
    };
    keys[before].tangent_out = mend(keys[before].tangent_out);
    keys[index].tangent_in = mend(keys[index].tangent_in);
    // The other sides of the same keys, where an automatic or joined tangent had been drawn along.
    if keys[before].joined {
        keys[before].tangent_in = mend(keys[before].tangent_in);
    }
    if keys[index].joined {
        keys[index].tangent_out = mend(keys[index].tangent_out);
    }
}

/// Euler samples without flips, and the frames at which they were; `None` where there are none.
fn samples(order: RotationOrder, samples: &Samples, rate: FrameRate) -> Option<(Samples, Vec<f64>)> {
    let mut branch = Branch { order, is_other: false, turns: DVec3::ZERO };
    let mut last: Option<DVec3> = None;
    let mut last_step = None;
    let mut flips = Vec::new();
    let mut values = Vec::with_capacity(samples.values.len());
    for index in 0..samples.len() {
        let raw = DVec3::from_slice(samples.row(index));
        if let Some(from) = last
            && let Some(other) = flip(branch, from, raw, last_step)
        {
            branch = other;
            flips.push(rate.frame(samples.time(index)));
        }
        let next = branch.of(raw);
        last_step = last.map(|last| next - last);
        last = Some(next);
        values.extend(next.to_array());
    }
    (!flips.is_empty()).then(|| (Samples { values, ..samples.clone() }, flips))
}
