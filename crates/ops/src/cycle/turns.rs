//! The ends of turns as wholes made to meet.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Side};
use nimble_curve_curves::rotation::{
    KeyedRotation, Knot, RotationPath, SegmentKind, from_vector, to_quaternion_keys, to_vector,
};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::controller::{QuaternionCurve, QuaternionInterpolation, QuaternionKey};

use super::close::Closer;
use crate::conversion::ConversionContext;

impl Closer<'_> {
    /// Turns the last stretch so that it ends as the range begins, in its speed too where the last piece has tangents. Returns by how
    /// much the end was turned, in radians.
    pub(super) fn quaternions(&self, curve: &mut QuaternionCurve, setting: &ConversionContext) -> f64 {
        let TimeRange { first, last } = self.range;
        let missing = |path: &KeyedRotation| {
            let at = |time: Ticks| path.rotation_on(time.as_f64(), Side::Right).unwrap_or(DQuat::IDENTITY);
            to_vector(at(first) * at(last).conjugate())
        };
        if curve.keys.is_empty() || missing(&KeyedRotation::new(curve)).length() < MEET {
            return 0.0;
        }
        let begin = last - self.over;
        *curve = cut(curve, &[begin, last], self.written.union(self.range), setting);
        let path = KeyedRotation::new(curve);
        let (by, outgoing) = (missing(&path), path.velocity(first.as_f64(), Side::Right));
        for key in &mut curve.keys {
            let share = self.share(key.time);
            if share == 0.0 {
                continue;
            }
            let (value, turn) = (key.value.normalize(), from_vector(by * share));
            // Tangents turn along, and go with the turn as it grows.
            let growing = spin(by * self.share_per_second(key.time), turn * value);
            let per_length = key.value.length().recip();
            let turned =
                |tangent: DVec4| DVec4::from(turn * DQuat::from_vec4(tangent)) * per_length + growing;
            (key.tangent_in, key.tangent_out) = (turned(key.tangent_in), turned(key.tangent_out));
            key.value = (turn * value).normalize();
            if key.time == last {
                key.tangent_in = spin(outgoing, key.value);
            }
        }
        by.length()
    }
}

/// Ends that are apart by less than this, in radians, meet.
const MEET: f64 = 1e-12;

/// The derivative by component of a rotation that turns at an angular velocity in its parent's frame.
fn spin(velocity: DVec3, value: DQuat) -> DVec4 {
    let half = velocity * 0.5;
    DVec4::from(DQuat::from_xyzw(half.x, half.y, half.z, 0.0) * value)
}

/// A curve with keys at some instants. Pieces that hold and arcs are cut where they are; cubics, whose parts are none, and squads are
/// fitted anew from the key before the first of these instants on, within the tolerance. What goes on outside the keys is
/// written out over `written`.
fn cut(
    curve: &QuaternionCurve,
    times: &[Ticks],
    written: TimeRange,
    setting: &ConversionContext,
) -> QuaternionCurve {
    let path = KeyedRotation::new(curve);
    let mut cut = curve.clone();
    // A squad changes with the keys beside its own.
    let first_cut = times.iter().min().copied().unwrap_or(written.first);
    let from = curve.keys.partition_point(|key| key.time <= first_cut).saturating_sub(2);
    let has_squads = curve.keys[from..].iter().any(|key| key.interpolation == QuaternionInterpolation::Squad);
    if !path.moves_outside() && !has_squads && times.iter().all(|time| cut_exactly(&mut cut, &path, *time)) {
        return cut;
    }
    let mut knots = path.knots(Some(written));
    let edges = if path.moves_outside() { [written.first, written.last].to_vec() } else { Vec::new() };
    for &time in times.iter().chain(&edges) {
        if !knots.iter().any(|knot| knot.time == time) {
            let before = knots.iter().rfind(|knot| knot.time < time);
            let leaving = before.map_or(SegmentKind::Holding, |before| before.leaving);
            knots.push(Knot { time, leaving });
            knots.sort_by_key(|knot| knot.time);
        }
    }
    // Keys before the first cut stay, but those of squads, whose shape comes from their neighbours.
    let keys = &curve.keys;
    let is_squad = |index: usize| keys[index].interpolation == QuaternionInterpolation::Squad;
    let mut stay = keys.partition_point(|key| key.time <= first_cut).saturating_sub(1);
    while stay > 0 && is_squad(stay - 1) {
        stay -= 1;
    }
    if path.moves_outside() {
        stay = 0;
    }
    knots.retain(|knot| stay == 0 || knot.time >= keys[stay].time);
    let mut fitted = to_quaternion_keys(&path, &knots, setting.tolerance, setting.rate).curve.keys;
    if stay > 0
        && let Some(seam) = fitted.first_mut()
    {
        // As the cubic before it ends, which is said beside a value of another sign or length.
        let own = &keys[stay];
        seam.tangent_in = own.tangent_in * (own.value.dot(seam.value).signum() / own.value.length());
    }
    let all = keys[..stay].iter().copied().chain(fitted).collect();
    QuaternionCurve { keys: all, before: Behaviour::Held, after: Behaviour::Held }
}

/// Puts a key where it changes nothing; `false` where none can be.
fn cut_exactly(curve: &mut QuaternionCurve, path: &KeyedRotation, time: Ticks) -> bool {
    use QuaternionInterpolation::{Slerp, Step};
    let keys = &mut curve.keys;
    let after = keys.partition_point(|key| key.time < time);
    if keys.get(after).is_some_and(|key| key.time == time) {
        return true;
    }
    let interpolation = match after.checked_sub(1) {
        None => Step,
        Some(before) if after == keys.len() => {
            // It is held from there on, and what leads there does not change.
            keys[before].interpolation = Step;
            Slerp
        }
        Some(before) => match keys[before].interpolation {
            Step => Step,
            Slerp => Slerp,
            _ => return false,
        },
    };
    let value = path.rotation_on(time.as_f64(), Side::Right).unwrap_or(DQuat::IDENTITY);
    let (tangent_in, tangent_out) = (DVec4::ZERO, DVec4::ZERO);
    keys.insert(after, QuaternionKey { time, value, interpolation, tangent_in, tangent_out });
    true
}
