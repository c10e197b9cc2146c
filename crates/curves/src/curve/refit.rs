//! Refitting: plain cubic keys that follow any function within a tolerance, as few as greedily longest pieces need.

use super::{Curve, Interpolation, Key, Side, Tangent, TangentShape, Ticks};
use crate::search::longest;
use crate::time::{FrameRate, TICKS_PER_SECOND};

/// How to refit.
#[derive(Clone, Copy, Debug)]
pub struct Refit {
    /// The largest difference in value.
    pub tolerance: f64,
    /// Where a rate is given, added keys stand on its whole frames as far as that can be.
    pub rate: Option<FrameRate>,
}

/// Where less than this part of what a piece covers is left to the end, the piece ends too close to it.
const CLOSE: f64 = 0.1;

/// Instants within a piece at which it is compared with the function.
const CHECKS: i64 = 24;

/// A curve through a function with keys at `knots` (in order of time) and more where they are needed; also how many
/// were added, and the largest difference found.
///
/// `value` gives the value at an instant from the right, `at` value and slope (per second) on one side of it; slopes are
/// asked for only where keys may stand. Between knots the function has to be smooth; it is compared at two dozen instants
/// a piece, so that a wiggle far finer than a piece can be missed.
pub fn refit(
    knots: &[Ticks],
    value: impl Fn(f64) -> f64,
    at: impl Fn(f64, Side) -> (f64, f64),
    options: Refit,
) -> (Curve, usize, f64) {
    let mut keys: Vec<Key> = Vec::with_capacity(knots.len());
    let (mut added, mut largest) = (0, 0.0_f64);
    let Some(&first) = knots.first() else { return (Curve::default(), 0, 0.0) };
    keys.push(knot(&at, first));
    for pair in knots.windows(2) {
        let end = knot(&at, pair[1]);
        if stands_still(pair[0], pair[1], &value) {
            let last = keys.len() - 1;
            keys[last].interpolation = Interpolation::Hold;
            keys.push(end);
            continue;
        }
        loop {
            let last = keys.len() - 1;
            let start = keys[last];
            let (error, reaches) = error_of(&start, &end, &value, options.tolerance);
            if reaches {
                largest = largest.max(error);
                break;
            }
            let key = match farthest(&start, &end, &value, &at, options) {
                Some(key) => key,
                // Where not even a tick fits, the function is all but vertical: a straight line goes up it.
                None => {
                    let straight = Key { interpolation: Interpolation::Linear, ..start };
                    keys[last] = straight;
                    match farthest(&straight, &end, &value, &at, options) {
                        Some(key) => key,
                        None if end.time.0 - start.time.0 > 1 => knot(&at, Ticks(start.time.0 + 1)),
                        None => {
                            largest = largest.max(error_of(&straight, &end, &value, f64::INFINITY).0);
                            break;
                        }
                    }
                }
            };
            largest = largest.max(error_of(&keys[last], &key, &value, f64::INFINITY).0);
            keys.push(key);
            added += 1;
        }
        keys.push(end);
    }
    (Curve::new(keys).unwrap_or_default(), added, largest)
}

/// Whether the function has one value from an instant up to another.
fn stands_still(from: Ticks, to: Ticks, value: &impl Fn(f64) -> f64) -> bool {
    let (start, gap) = (from.as_f64(), (to - from).as_f64());
    let first = value(start);
    (1..CHECKS).all(|index| value(start + gap * index as f64 / CHECKS as f64) == first)
}

fn knot(at: &impl Fn(f64, Side) -> (f64, f64), time: Ticks) -> Key {
    let (left, right) = (at(time.as_f64(), Side::Left), at(time.as_f64(), Side::Right));
    let finite = |slope: f64| if slope.is_finite() { slope } else { 0.0 };
    let (slope_in, slope_out) = (finite(left.1), finite(right.1));
    let mut key = Key::new(time, right.0).with_slopes(slope_in, slope_out);
    key.joined = (slope_in - slope_out).abs() <= 1e-9 * (1.0 + slope_in.abs());
    key.value_before = ((left.0 - right.0).abs() > 1e-12 * (1.0 + right.0.abs())).then_some(left.0);
    key
}

/// The largest difference along a piece, and whether it is within the tolerance; stops where it is not.
fn error_of(from: &Key, to: &Key, value: &impl Fn(f64) -> f64, tolerance: f64) -> (f64, bool) {
    let segment = super::Segment::between(from, to);
    let (start, gap) = (from.time.as_f64(), (to.time - from.time).as_f64());
    let mut largest = 0.0_f64;
    // From the middle outwards, where the error is largest first.
    for step in 0..CHECKS - 1 {
        let index = CHECKS / 2 + if step % 2 == 0 { step / 2 } else { -(step + 1) / 2 };
        let time = start + gap * index as f64 / CHECKS as f64;
        largest = largest.max((segment.value(time).unwrap_or(0.0) - value(time)).abs());
        if largest > tolerance {
            return (largest, false);
        }
    }
    (largest, true)
}

/// The key at the end of the longest piece that fits.
fn farthest(
    from: &Key,
    to: &Key,
    value: &impl Fn(f64) -> f64,
    at: &impl Fn(f64, Side) -> (f64, f64),
    options: Refit,
) -> Option<Key> {
    let reaches = |time: Ticks| {
        // Between knots both sides are alike: the one that looks away from the nearer knot cannot see beyond it.
        let side = if time - from.time < to.time - time { Side::Right } else { Side::Left };
        let key = knot(&|time: f64, _: Side| at(time, side), time);
        error_of(from, &key, value, options.tolerance).1.then_some(key)
    };
    if let Some(rate) = options.rate {
        let first = rate.frame(from.time).floor() as i64 + 1;
        let last = rate.frame(to.time).ceil() as i64 - 1;
        if let Some(key) = longest(first, last, |frame| reaches(rate.ticks(frame))) {
            return Some(key);
        }
        // A frame is too long: as far towards the next one as it goes.
        let limit = if first <= last { rate.ticks(first).0 - 1 } else { to.time.0 - 1 };
        let key = longest(from.time.0 + 1, limit, |tick| reaches(Ticks(tick)))?;
        return Some(apart_from_the_end(from, to, key, reaches));
    }
    let key = longest(from.time.0 + 1, to.time.0 - 1, |tick| reaches(Ticks(tick)))?;
    Some(apart_from_the_end(from, to, key, reaches))
}

/// A key that all but reaches the end of its piece stands halfway instead: two keys a hair apart are hard to edit, and a
/// file that tells times less finely makes one of them.
fn apart_from_the_end(from: &Key, to: &Key, key: Key, reaches: impl Fn(Ticks) -> Option<Key>) -> Key {
    let (done, left) = ((key.time - from.time).as_f64(), (to.time - key.time).as_f64());
    if left >= CLOSE * done {
        return key;
    }
    reaches(Ticks(from.time.0 + (to.time.0 - from.time.0) / 2)).unwrap_or(key)
}

impl Curve {
    /// The curve with plain slopes instead of weighted handles, within a tolerance: exact where handles are a third
    /// of their gap, else with the fewest keys added that greedily longest pieces need. Also how many were added, and
    /// the largest difference found.
    pub fn plain(&self, options: Refit) -> (Curve, usize, f64) {
        let source = self.unrolled();
        let mut keys: Vec<Key> = Vec::with_capacity(source.keys.len());
        let (mut added, mut largest) = (0, 0.0_f64);
        let plain = |tangent: Tangent| match tangent.shape {
            TangentShape::Slope(_) => tangent,
            TangentShape::Handle { .. } => {
                let slope = tangent.slope_per_second();
                Tangent { shape: TangentShape::Slope(if slope.is_finite() { slope } else { 0.0 }), ..tangent }
            }
        };
        for (index, key) in source.keys.iter().enumerate() {
            let mut new =
                Key { tangent_in: plain(key.tangent_in), tangent_out: plain(key.tangent_out), ..*key };
            let before = index.checked_sub(1).map(|i| &source.keys[i]);
            if let Some(before) = before
                && before.interpolation == Interpolation::Cubic
                && let segment @ super::Segment::Weighted(_) = super::Segment::between(before, key)
            {
                let value = |time: f64| segment.value(time).unwrap_or(0.0);
                let at = |time: f64, _| (value(time), segment.slope(time).unwrap_or(0.0));
                let (piece, more, error) = refit(&[before.time, key.time], value, at, options);
                let made = piece.into_keys();
                if let [start, between @ .., end] = made.as_slice() {
                    let last = keys.len() - 1;
                    keys[last].tangent_out = start.tangent_out;
                    keys.extend(between.iter().map(|key| Key { added: true, ..*key }));
                    new.tangent_in = end.tangent_in;
                }
                added += more;
                largest = largest.max(error);
            }
            keys.push(new);
        }
        let made = Curve { keys, before: self.before, after: self.after, inner_loop: None };
        // A key that was put in is a neighbour that automatic tangents beside it do not know.
        (made.with_stale_tangents_freed(), added, largest)
    }

    /// The curve played by another clock: `clock` says in ticks which instant of this curve plays at each time.
    ///
    /// Exact where the clock runs on straight lines or holds, else within the tolerance; also the largest difference
    /// found. The result has keys over the clock's keys and is held outside them.
    pub fn retimed(&self, clock: &Curve, options: Refit) -> (Curve, f64) {
        let clock = clock.unrolled();
        let mut result = Curve::default();
        let mut largest = 0.0_f64;
        for pair in clock.keys.windows(2) {
            let (from, to) = (&pair[0], &pair[1]);
            let (start, end) = (from.value, to.left_value());
            let straight = matches!(from.interpolation, Interpolation::Linear | Interpolation::Hold);
            let part = if straight {
                let end = if from.interpolation == Interpolation::Hold { start } else { end };
                self.played_straight(from.time, to.time, start, end)
            } else {
                let (part, error) = self.played_through(from, to, options);
                largest = largest.max(error);
                part
            };
            if let Ok(longer) = result.joined(&part) {
                result = longer;
            }
        }
        (result, largest)
    }

    /// This curve from one instant to another, played between two times.
    fn played_straight(&self, from: Ticks, to: Ticks, start: f64, end: f64) -> Curve {
        let (low, high) = (start.min(end), start.max(end));
        let range = crate::time::TimeRange::new(Ticks(low.round() as i64), Ticks(high.round() as i64));
        let mut part = self.trimmed(range);
        for edge in [range.first, range.last] {
            part.ensure_key(edge);
        }
        if range.first == range.last || part.keys.len() < 2 {
            let value = self.value_at(start).unwrap_or(0.0);
            let keys = [from, to].map(|time| Key::new(time, value).with_slope(0.0));
            return Curve { keys: keys.to_vec(), ..Curve::default() };
        }
        let part =
            if end < start { part.reversed(range.first).shifted(range.last - range.first) } else { part };
        let factor = (to - from).as_f64() / (range.last - range.first).as_f64();
        let mut keys =
            part.shifted(from - range.first).stretched(from, factor).map_or(Vec::new(), Curve::into_keys);
        if let Some(last) = keys.last_mut() {
            last.time = to;
        }
        Curve { keys, ..Curve::default() }
    }

    /// This curve under a cubic clock, refitted; the instants at which its own keys play are knots.
    fn played_through(&self, from: &Key, to: &Key, options: Refit) -> (Curve, f64) {
        let clock = super::Segment::between(from, to);
        let source = self.unrolled();
        let (start, end) = (from.time.as_f64(), to.time.as_f64());
        let plays = |time: f64| clock.value(time).unwrap_or(0.0);
        let mut knots = vec![from.time, to.time];
        // Crossings of each key's instant, found between samples of the clock and then halved down.
        const STEPS: u32 = 256;
        let step = (end - start) / f64::from(STEPS);
        for index in 0..STEPS {
            let (a, b) = (start + step * f64::from(index), start + step * f64::from(index + 1));
            for key in &source.keys {
                let instant = key.time.as_f64();
                let (mut low, mut high) = (a, b);
                if (plays(low) < instant) == (plays(high) < instant) {
                    continue;
                }
                let rises = plays(low) < instant;
                while high - low > 0.5 {
                    let middle = 0.5 * (low + high);
                    if (plays(middle) < instant) == rises { low = middle } else { high = middle }
                }
                knots.push(Ticks(high.round() as i64));
            }
        }
        knots.sort_unstable();
        knots.dedup();
        let at = |time: f64, side: Side| {
            // A quarter of a tick to the side tells at a knot which of the source's segments plays.
            let beside = if side == Side::Left { time - 0.25 } else { time + 0.25 };
            let rate = clock.slope(time).unwrap_or(0.0) / TICKS_PER_SECOND as f64;
            let source_side =
                if (plays(beside) < plays(time)) == (side == Side::Right) { Side::Left } else { Side::Right };
            let value = source.value_on(plays(time), source_side).unwrap_or(0.0);
            (value, source.slope_on(plays(time), source_side).unwrap_or(0.0) * rate)
        };
        let (curve, _, error) = refit(&knots, |time| at(time, Side::Right).0, at, options);
        (curve, error)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Slopes from instants a good way apart see a jump that lies between them, but no key between knots needs those.
    #[test]
    fn a_jump_at_a_knot_costs_no_keys_behind_it() {
        const APART: f64 = 250_000.0;
        let second = TICKS_PER_SECOND as f64;
        let value = |time: f64| if time < 0.0 { 5.0 } else { (3.0 * time / second).sin() };
        let at = |time: f64, side: Side| match side {
            Side::Right => (value(time), (value(time + APART) - value(time)) / APART * second),
            Side::Left => (value(time - 0.25), (value(time - 0.25) - value(time - APART)) / APART * second),
        };
        let options = Refit { tolerance: 1e-3, rate: Some(FrameRate::FPS_24) };
        let frames = [-8, 0, 24].map(|frame| FrameRate::FPS_24.ticks(frame));
        let (curve, added, error) = refit(&frames, value, at, options);
        assert!(added <= 3 && error <= 1e-3, "{added} keys added, {error}");
        assert_eq!(curve.value_at(-1.0), Some(5.0));
        assert!((curve.value_at(0.5 * second).unwrap() - 1.5_f64.sin()).abs() <= 1e-3);
    }
}
