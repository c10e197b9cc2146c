//! Recovery: the keys of random authored curves come back from their bakes.

use nimble_curve_curves::curve::{Curve, Interpolation, Key, Side, Tangent, TangentMode};
use nimble_curve_curves::fit::{
    ErrorBound, FittedKey, Handles, Interval, Origin, Unbaked, fit, precision_of, recover, unbaked,
};
use nimble_curve_curves::time::Ticks;
use nimble_curve_testing::RATE;

/// A small generator of its own, so that the figures are the same every time.
struct Lcg(u64);

impl Lcg {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1_u64 << 53) as f64
    }

    fn chance(&mut self, part: f64) -> bool {
        self.next() < part
    }
}

/// A curve of 2 to 40 keys with everything that leaves a trace: joined and broken tangents, lines, holds, jumps. Gaps are
/// at least `shortest` frames, and one more before a jump.
fn authored(lcg: &mut Lcg, shortest: i64) -> Curve {
    let count = 2 + (lcg.next() * 39.0) as usize;
    let mut keys: Vec<Key> = Vec::new();
    let mut frame = 0;
    for index in 0..count {
        let after_hold = keys.last().is_some_and(|key: &Key| key.interpolation == Interpolation::Hold);
        let jumps = after_hold || lcg.chance(0.08);
        if index > 0 {
            frame += shortest + i64::from(jumps) + (lcg.next() * lcg.next() * 24.0) as i64;
        }
        let mut key = Key::new(RATE.ticks(frame), (lcg.next() - 0.5) * 100.0);
        if jumps && !after_hold && index > 0 {
            key.value_before = Some((lcg.next() - 0.5) * 100.0);
        }
        let slope = |lcg: &mut Lcg| (lcg.next() - 0.5) * 200.0;
        key = match lcg.next() {
            p if p < 0.5 => key,
            p if p < 0.75 => key.with_slope(slope(lcg)),
            _ => key.with_slopes(slope(lcg), slope(lcg)),
        };
        key.interpolation = match lcg.next() {
            p if p < 0.74 => Interpolation::Cubic,
            p if p < 0.87 => Interpolation::Linear,
            _ => Interpolation::Hold,
        };
        keys.push(key);
    }
    Curve::new(keys).unwrap()
}

/// The same curve in another time: most keys lie between frames.
fn retimed(curve: &Curve, stretch: f64) -> Curve {
    let slower = |tangent: Tangent| match tangent.mode {
        TangentMode::Free => Tangent::slope(tangent.slope_per_second() / stretch),
        _ => tangent,
    };
    let key = |key: &Key| Key {
        time: Ticks((key.time.as_f64() * stretch).round() as i64),
        tangent_in: slower(key.tangent_in),
        tangent_out: slower(key.tangent_out),
        ..*key
    };
    Curve::new(curve.keys().iter().map(key).collect()).unwrap()
}

fn baked(curve: &Curve) -> Vec<f64> {
    let last = RATE.frame(curve.keys().last().unwrap().time).floor() as i64;
    (0..=last).map(|frame| curve.value_at(RATE.ticks(frame).as_f64()).unwrap()).collect()
}

#[derive(Debug, Default)]
struct Tally {
    keys: usize,
    found: usize,
    extra: usize,
    off: usize,
}

/// Counts the keys that come back at their times, with the values and slopes that they had.
fn count(curve: &Curve, found: &[FittedKey], tally: &mut Tally) {
    let frame = |key: &Key| RATE.frame(key.time);
    let is_at = |f: &FittedKey, key: &Key| (f.at - frame(key)).abs() < 1e-4;
    let values = curve.keys().iter().flat_map(|key| [key.value, key.left_value()]);
    let (low, high) = values.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
    let span = high - low;
    // Between frames, nothing in the samples tells when it was that a value jumped, or the last key was reached.
    let is_told = |index: usize| {
        let key = &curve.keys()[index];
        let jumps = key.value_before.is_some()
            || index > 0 && curve.keys()[index - 1].interpolation == Interpolation::Hold;
        frame(key).fract() == 0.0 || !(jumps || index + 1 == curve.keys().len())
    };
    tally.keys += (0..curve.keys().len()).filter(|&index| is_told(index)).count();
    let is_there = |f: &&FittedKey| {
        (curve.keys().iter().enumerate())
            .any(|(index, key)| is_at(f, key) || !is_told(index) && (f.at - frame(key)).abs() < 1.0)
    };
    tally.extra += found.iter().filter(|f| !is_there(f)).count();
    for (index, key) in curve.keys().iter().enumerate().filter(|(index, _)| is_told(*index)) {
        let Some(back) = found.iter().find(|f| is_at(f, key)) else { continue };
        tally.found += 1;
        let gap_after = curve.keys().get(index + 1).map_or(1.0, |next| frame(next) - frame(key));
        let gap_before = index.checked_sub(1).map_or(1.0, |before| frame(key) - frame(&curve.keys()[before]));
        // Slopes of the curve at its keys, in value a frame; holds have none to give back.
        let slope = |side| curve.slope_on(key.time.as_f64(), side).unwrap() / 24.0;
        let held_before = index > 0 && curve.keys()[index - 1].interpolation == Interpolation::Hold;
        let is_last = index + 1 == curve.keys().len();
        let out_is_right = is_last
            || key.interpolation == Interpolation::Hold
            || (back.slope_out - slope(Side::Right)).abs() * gap_after <= 1e-6 * span;
        let in_is_right = index == 0
            || held_before
            || (back.slope_in - slope(Side::Left)).abs() * gap_before <= 1e-6 * span;
        let before = if held_before { None } else { key.value_before };
        let value_is_right = (back.value - key.value).abs() <= 1e-6 * span
            && (back.before.unwrap_or(back.value) - before.unwrap_or(key.value)).abs() <= 1e-6 * span;
        let way_is_right = is_last
            || (key.interpolation == back.interpolation)
            // A straight cubic is a line, and a flat one may be anything.
            || back.interpolation == Interpolation::Linear && key.interpolation == Interpolation::Cubic;
        tally.off += usize::from(!(out_is_right && in_is_right && value_is_right && way_is_right));
    }
}

fn tallied(shortest: i64, curves: usize, seed: u64, tail: usize, stretch: f64) -> Tally {
    let mut lcg = Lcg(seed);
    let mut tally = Tally::default();
    for _ in 0..curves {
        let curve = retimed(&authored(&mut lcg, shortest), stretch);
        let mut samples = baked(&curve);
        samples.extend(vec![samples[samples.len() - 1]; tail]);
        let Unbaked { keys, .. } =
            unbaked(&samples, precision_of(&samples, 1.0), ErrorBound::even(0.1), &[], Handles::Plain);
        // Where the last key is held to the end of the samples, one at that end says nothing more.
        let extra = keys.iter().filter(|key| key.at == (samples.len() - 1) as f64).count();
        let keys = &keys[..keys.len() - if tail > 0 { extra } else { 0 }];
        count(&curve, keys, &mut tally);
    }
    tally
}

/// Prints the figures of docs/methods.md: `cargo test -p nimble-curve-curves recovery:: -- --nocapture`.
#[test]
fn keys_of_two_thousand_authored_curves_come_back() {
    // A tail is a hold after the last key, too short to be a piece by itself.
    let whole = [(4, 0), (3, 0), (2, 0), (4, 1), (4, 2), (4, 3), (4, 20)]
        .map(|(shortest, tail)| (shortest, tail, 1.0));
    let retimed = [(6, 0, 0.9), (6, 0, 1.07), (6, 0, 1.5)];
    for (shortest, tail, stretch) in whole.into_iter().chain(retimed) {
        let tally = tallied(shortest, 2000, shortest as u64, tail, stretch);
        let part = |count: usize| 100.0 * count as f64 / tally.keys as f64;
        println!(
            "| {shortest} | {tail} | {stretch} | {} | {:.2}% | {:.2}% | {:.2}% |",
            tally.keys,
            part(tally.found),
            part(tally.extra),
            part(tally.off)
        );
        if stretch != 1.0 {
            assert!(part(tally.found) >= 92.0 && part(tally.off) <= 1.0, "{tally:?}");
        } else if shortest == 4 {
            assert!(part(tally.found) >= 99.0 && part(tally.extra) <= 1.0, "{tally:?}");
            assert!(part(tally.off) <= 1.0, "{tally:?}");
        }
    }
}

/// A curve of weighted handles of many lengths, joined or broken, within ±40 degrees.
fn weighted(lcg: &mut Lcg) -> Curve {
    let count = 2 + (lcg.next() * 39.0) as usize;
    let mut frame = 0;
    let mut gaps = vec![0];
    gaps.extend((1..count).map(|_| 4 + (lcg.next() * lcg.next() * 24.0) as i64));
    let mut keys = Vec::new();
    for index in 0..count {
        frame += gaps[index];
        let before = *gaps.get(index).unwrap_or(&8) as f64;
        let after = *gaps.get(index + 1).unwrap_or(&8) as f64;
        let slope = |lcg: &mut Lcg| (lcg.next() - 0.5) * 8.0;
        let joined = slope(lcg);
        let (into, out) = if lcg.chance(0.7) { (joined, joined) } else { (slope(lcg), slope(lcg)) };
        let mut handle = |gap: f64, slope: f64| {
            let frames = gap * (0.12 + 0.5 * lcg.next());
            Tangent::handle(frames * RATE.ticks_per_frame(), slope * frames)
        };
        let (tangent_in, tangent_out) = (handle(before, into), handle(after, out));
        let value = (lcg.next() - 0.5) * 80.0;
        keys.push(Key { tangent_in, tangent_out, joined: into == out, ..Key::new(RATE.ticks(frame), value) });
    }
    Curve::new(keys).unwrap()
}

#[test]
fn weighted_keys_come_back_with_their_handles() {
    let mut lcg = Lcg(11);
    let (mut keys, mut found, mut extra, mut handles) = (0, 0, 0, 0);
    for _ in 0..50 {
        let curve = weighted(&mut lcg);
        let samples = baked(&curve);
        let Unbaked { keys: back, .. } =
            unbaked(&samples, precision_of(&samples, 1.0), ErrorBound::even(0.1), &[], Handles::Weighted);
        keys += curve.keys().len();
        let frame = |key: &Key| RATE.nearest_frame(key.time) as f64;
        extra += back.iter().filter(|f| curve.keys().iter().all(|key| frame(key) != f.at)).count();
        for key in curve.keys() {
            let Some(same) = back.iter().find(|f| f.at == frame(key)) else { continue };
            found += 1;
            let out = key.tangent_out.length().unwrap() / RATE.ticks_per_frame();
            handles += usize::from(same.handles.1.is_some_and(|length| (length - out).abs() < 1e-3 * out));
        }
    }
    let part = |count: usize| 100.0 * count as f64 / keys as f64;
    println!(
        "weighted: {keys} keys, {:.1}% found, {:.1}% extra, {:.1}% with their handles",
        part(found),
        part(extra),
        part(handles)
    );
    assert!(part(found) >= 95.0 && part(extra) <= 5.0, "{found} {extra} of {keys}");
}

#[test]
fn rounded_bakes_give_their_keys_back_too() {
    // Six decimals, as exchange files have.
    let mut lcg = Lcg(7);
    let mut tally = Tally::default();
    for _ in 0..300 {
        let curve = authored(&mut lcg, 6);
        let samples: Vec<f64> = baked(&curve).iter().map(|v| (v * 1e6).round() / 1e6).collect();
        let Unbaked { keys, origin, .. } =
            unbaked(&samples, precision_of(&samples, 1.0), ErrorBound::even(0.1), &[], Handles::Plain);
        assert_ne!(origin, Origin::Fitted);
        count(&curve, &keys, &mut tally);
    }
    assert!(tally.found as f64 >= 0.99 * tally.keys as f64, "{tally:?}");
    assert!(tally.extra as f64 <= 0.01 * tally.keys as f64, "{tally:?}");
}

#[test]
fn the_bound_holds_where_nothing_can_be_recovered() {
    let mut lcg = Lcg(3);
    for _ in 0..50 {
        let mut walk = 0.0;
        let samples: Vec<f64> = (0..300)
            .map(|_| {
                walk += lcg.next() - 0.5;
                walk + 0.2 * lcg.next()
            })
            .collect();
        assert_eq!(recover(&samples, precision_of(&samples, 1.0), Handles::Plain), None);
    }
}

/// The value of fitted keys at a sample.
fn value(found: &[FittedKey], at: f64) -> f64 {
    let next = found.partition_point(|key| key.at < at).clamp(1, found.len() - 1);
    let (from, to) = (&found[next - 1], &found[next]);
    let (gap, u) = (to.at - from.at, (at - from.at) / (to.at - from.at));
    match from.interpolation {
        Interpolation::Hold if u < 1.0 => from.value,
        Interpolation::Linear => from.value + u * (to.before.unwrap_or(to.value) - from.value),
        _ if u >= 1.0 => to.value,
        _ => {
            // Hermite's cubic.
            let (end, r) = (to.before.unwrap_or(to.value), 1.0 - u);
            let slopes = u * r * r * gap * from.slope_out - u * u * r * gap * to.slope_in;
            from.value * (1.0 + 2.0 * u) * r * r + end * u * u * (3.0 - 2.0 * u) + slopes
        }
    }
}

#[test]
fn each_sample_keeps_to_its_own_room() {
    let mut lcg = Lcg(77);
    let mut needed = [0; 2];
    for _ in 0..40 {
        let mut at = 0.0;
        let samples: Vec<f64> = (0..160)
            .map(|index| {
                at += (lcg.next() - 0.5) * 0.4;
                at + 3.0 * (f64::from(index) * 0.07).sin()
            })
            .collect();
        // Little room on a stretch in the middle, on one side of some samples none at all.
        let room: Vec<Interval> = (0..160)
            .map(|index| match index {
                60..=99 if index % 7 == 0 => Interval { low: 0.0, high: 0.05 },
                60..=99 => Interval { low: -0.05, high: 0.05 },
                _ => Interval { low: -0.5, high: 0.5 },
            })
            .collect();
        for (by_sample, needed) in [None, Some(room.as_slice())].into_iter().zip(&mut needed) {
            let bound = by_sample.map_or(ErrorBound::even(0.5), |room| ErrorBound::by_sample(0.5, room));
            let found = fit(&samples, bound, &[], Handles::Plain);
            *needed += found.len();
            for (index, sample) in samples.iter().enumerate() {
                let off = value(&found, index as f64) - sample;
                let own = by_sample.map_or(Interval { low: -0.5, high: 0.5 }, |room| room[index]);
                assert!(
                    own.low - 1e-9 <= off && off <= own.high + 1e-9,
                    "sample {index} is off by {off}, of {own:?}"
                );
            }
        }
    }
    // Less room takes more keys; keys where there is plenty are left as few as they were.
    assert!(needed[0] * 2 < needed[1] && needed[1] < needed[0] + 40 * 41, "{needed:?}");
}
