//! Sums of curves, exact on the union of their keys.

use super::{Behaviour, Curve, Interpolation, Key, Segment, Side, Tangent, Ticks};

/// `offset + Σ factor·curve`, exactly; `None` where it is not a plain cubic on the union of the keys: where weighted
/// handles differ, a curve has a gap, or the curves do unlike things outside their keys.
///
/// The sum of plain cubic curves is a plain cubic curve on the union of their keys, with a jump where a hold ends.
/// Curves without keys count as zero.
pub fn combine(parts: &[(f64, &Curve)], offset: f64) -> Option<Curve> {
    let parts: Vec<(f64, Curve)> = parts
        .iter()
        .filter(|(_, curve)| !curve.is_empty())
        .map(|(factor, curve)| (*factor, curve.unrolled()))
        .collect();
    match parts.as_slice() {
        [] => return Some(Curve::constant(Ticks::ZERO, offset)),
        // In a gap what lies under the curve shows through, which the sum does not know.
        [(factor, only)] if only.has_gaps() && (*factor, offset) != (1.0, 0.0) => return None,
        [(factor, only)] => return Some(only.affine(*factor, offset)),
        _ => {}
    }
    let (before, after) = outside(&parts)?;
    let mut times: Vec<Ticks> =
        parts.iter().flat_map(|(_, curve)| curve.keys().iter().map(|key| key.time)).collect();
    times.sort_unstable();
    times.dedup();
    let sum = |of: &dyn Fn(&Curve) -> Option<f64>| -> Option<f64> {
        parts.iter().try_fold(0.0, |sum, (factor, curve)| Some(sum + factor * of(curve)?))
    };
    let mut keys: Vec<Key> = Vec::with_capacity(times.len());
    for (index, &time) in times.iter().enumerate() {
        let t = time.as_f64();
        let value = offset + sum(&|curve| curve.value_on(t, Side::Right))?;
        let left = offset + sum(&|curve| curve.value_on(t, Side::Left))?;
        let slope = |side| sum(&|curve: &Curve| curve.slope_on(t, side));
        let (slope_in, slope_out) = (slope(Side::Left)?, slope(Side::Right)?);
        let mut key = Key::new(time, value);
        // A jump only where some part has one: sums differ by rounding otherwise.
        if parts.iter().any(|(_, curve)| curve.value_on(t, Side::Left) != curve.value_on(t, Side::Right)) {
            key.value_before = (left != value).then_some(left);
        }
        key.tangent_in = Tangent::slope(slope_in);
        key.tangent_out = Tangent::slope(slope_out);
        let smooth = parts.iter().all(|(_, curve)| {
            curve.slope_on(t, Side::Left) == curve.slope_on(t, Side::Right)
                || curve.keys().iter().any(|k| k.time == time && k.joined)
        });
        key.joined = smooth && (slope_in - slope_out).abs() <= 1e-9 * (1.0 + slope_in.abs());
        if let Some(next) = times.get(index + 1) {
            key.interpolation = way(&parts, time, *next)?;
        }
        keys.push(key);
    }
    Curve::new(keys).ok().map(|curve| curve.with_behaviours(before, after))
}

/// How the sum gets from one union time to the next.
fn way(parts: &[(f64, Curve)], from: Ticks, to: Ticks) -> Option<Interpolation> {
    let mut found = Interpolation::Hold;
    for (_, curve) in parts {
        let keys = curve.keys();
        let after = keys.partition_point(|key| key.time <= from);
        if after == 0 || after == keys.len() {
            // Held outside its keys, or else the behaviours are alike and all keys share their range.
            continue;
        }
        debug_assert!(keys[after].time >= to);
        let part = match Segment::between(&keys[after - 1], &keys[after]) {
            Segment::None | Segment::Weighted(_) => return None,
            Segment::Hold(_) => Interpolation::Hold,
            Segment::Plain(_) => keys[after - 1].interpolation,
        };
        found = match (found, part) {
            (_, Interpolation::Cubic) | (Interpolation::Cubic, _) => Interpolation::Cubic,
            (Interpolation::Hold, Interpolation::Hold) => Interpolation::Hold,
            _ => Interpolation::Linear,
        };
    }
    Some(found)
}

/// What the sum does outside its keys, where that is one of the things a curve can do.
fn outside(parts: &[(f64, Curve)]) -> Option<(Behaviour, Behaviour)> {
    if parts.iter().all(|(_, curve)| curve.is_held_outside()) {
        return Some((Behaviour::Held, Behaviour::Held));
    }
    let (_, first) = parts.first()?;
    let alike = parts.iter().all(|(_, curve)| {
        curve.before == first.before && curve.after == first.after && curve.range() == first.range()
    });
    let sums = |behaviour: Behaviour| !matches!(behaviour, Behaviour::Sloped(_) | Behaviour::None);
    (alike && sums(first.before) && sums(first.after)).then_some((first.before, first.after))
}
