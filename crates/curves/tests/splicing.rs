//! A stretch of one curve in another, and keys of two curves on one.

use std::f64::consts::TAU;

use nimble_curve_curves::curve::{Curve, Interpolation, Key, Side, Splice};
use nimble_curve_curves::time::Ticks;
use nimble_curve_testing::{Handles, RATE, any_behaviour, any_curve, span, steps};
use proptest::prelude::*;

use crate::curves::{FRAME, near, range};

proptest! {
    #[test]
    fn a_spliced_curve_is_the_new_one_inside_and_the_old_one_beyond_the_seams(
        (old, new) in (any_curve(Handles::Any), any_curve(Handles::Any)),
        outside in any_behaviour(),
        (first, length, seam) in (-5..30_i64, 0..30_i64, 0..6_i64),
        (is_before, is_after) in (any::<bool>(), any::<bool>()),
        (is_angle, whole_turns) in (any::<bool>(), -2..3_i32),
    ) {
        let new = new.affine(1.0, f64::from(whole_turns) * TAU);
        let stretch = range(first, first + length);
        let of = range(if is_before { first - 20 } else { first }, first + length + if is_after { 20 } else { 0 });
        let how = Splice { range: stretch, of, seam: RATE.ticks(seam), rest: 0.0, is_angle };
        let old = old.with_behaviours(outside, outside);
        let spliced = old.spliced(&new, &how);
        let tolerance = 1e-5 * (span(&old) + span(&new) + 20.0);
        let same = |found: f64, expected: f64| match is_angle {
            true => ((found - expected) - ((found - expected) / TAU).round() * TAU).abs() <= tolerance,
            false => (found - expected).abs() <= tolerance,
        };
        for time in steps(first, first + length).map(|time| time.clamp(stretch.first.as_f64(), stretch.last.as_f64())) {
            let is_edge = time == stretch.first.as_f64() || time == stretch.last.as_f64();
            let (found, expected) = (spliced.value_on(time, Side::Right).unwrap(), new.value_on(time, Side::Right).unwrap());
            // At the last frame the curve may leap, and before the first one it may have another value.
            prop_assert!(same(found, expected) || is_edge, "frame {}: {found} {expected}", time / FRAME);
        }
        let beyond = |from: i64, to: i64| steps(from, to).map(move |time| time.clamp(RATE.ticks(from).as_f64(), RATE.ticks(to).as_f64()));
        let before = is_before.then(|| beyond(first - 20, first - seam));
        let after = is_after.then(|| beyond(first + length + seam, first + length + 20));
        for time in before.into_iter().flatten().chain(after.into_iter().flatten()) {
            let is_edge = [first - seam, first + length + seam].iter().any(|edge| time == RATE.ticks(*edge).as_f64());
            let (found, expected) = (spliced.value_at(time).unwrap(), old.value_at(time).unwrap());
            prop_assert!(same(found, expected) || is_edge, "frame {}: {found} {expected}", time / FRAME);
        }
        if is_angle && is_before {
            let (start, was) = (spliced.value_at(stretch.first.as_f64()).unwrap(), old.value_at(stretch.first.as_f64()).unwrap());
            prop_assert!((start - was).abs() <= 0.5 * TAU + tolerance, "the nearest turn: {start} {was}");
        }
    }

    #[test]
    fn seams_keep_the_slopes_at_both_ends_and_do_not_leap(
        (old, new) in (any_curve(Handles::Plain), any_curve(Handles::Plain)),
        (first, length, seam) in (0..20_i64, 2..20_i64, 1..6_i64),
    ) {
        let smooth = |curve: Curve| {
            let keys = curve.into_keys().into_iter().map(|key| Key { interpolation: Interpolation::Cubic, value_before: None, ..key });
            Curve::new(keys.collect()).unwrap()
        };
        let (old, new) = (smooth(old), smooth(new));
        let how = Splice { range: range(first, first + length), of: range(-60, 80), seam: RATE.ticks(seam), rest: 0.0, is_angle: false };
        let spliced = old.spliced(&new, &how);
        for time in steps(-60, 80) {
            let (left, right) = (spliced.value_on(time, Side::Left), spliced.value_on(time, Side::Right));
            prop_assert!(near(left, right, 1e-6 * (span(&old) + span(&new))), "leaps at frame {}", time / FRAME);
        }
        let slopes = |curve: &Curve, frame, side| curve.slope_on(RATE.ticks(frame).as_f64(), side);
        let tolerance = 1e-5 * (span(&old) + span(&new)) * 24.0;
        for (frame, of, beside) in [
            (first - seam, &old, Side::Left),
            (first, &new, Side::Right),
            (first + length, &new, Side::Left),
            (first + length + seam, &old, Side::Right),
        ] {
            // Where the two meet already there is no seam.
            let meets = near(old.value_at(RATE.ticks(first).as_f64()), new.value_at(RATE.ticks(first).as_f64()), 1e-6)
                || near(old.value_at(RATE.ticks(first + length).as_f64()), new.value_at(RATE.ticks(first + length).as_f64()), 1e-6);
            prop_assert!(meets || near(slopes(&spliced, frame, beside), slopes(of, frame, beside), tolerance), "frame {frame}");
            // Both sides of a seam's ends go the same way, unless the curve had a corner there.
            let corner = old.keys().iter().chain(new.keys()).any(|key| key.time == RATE.ticks(frame));
            let is_outer = frame < first || frame > first + length;
            let (left, right) = (slopes(&spliced, frame, Side::Left), slopes(&spliced, frame, Side::Right));
            let held = of.range().is_none_or(|own| !own.contains(RATE.ticks(frame)));
            prop_assert!(meets || corner || held || !is_outer || near(left, right, tolerance), "a corner at frame {frame}");
        }
    }

    #[test]
    fn keys_away_from_a_seam_keep_their_kind_of_tangent(old in any_curve(Handles::Plain), gap in 1..10_i64) {
        let last = old.keys().last().unwrap().time;
        let first = RATE.nearest_frame(last) + gap;
        let new = Curve::through(RATE, [(first, 3.0), (first + 5, 4.0)]).unwrap();
        let how = Splice { range: range(first, first + 5), of: range(-60, first + 40), seam: RATE.ticks(1), rest: 0.0, is_angle: false };
        let spliced = old.spliced(&new, &how);
        let inner = old.keys().len() - 1;
        for (own, was) in spliced.keys()[..inner].iter().zip(&old.keys()[..inner]).skip(1) {
            prop_assert_eq!(own, was);
        }
    }

    #[test]
    fn a_merged_curve_has_the_keys_of_both_and_is_the_old_one_beyond_them(
        (old, new) in (any_curve(Handles::Any), any_curve(Handles::Any)),
        outside in any_behaviour(),
        (shift, is_angle, whole_turns) in (-30..30_i64, any::<bool>(), -2..3_i32),
    ) {
        let new = new.shifted(RATE.ticks(shift)).affine(1.0, f64::from(whole_turns) * TAU);
        let old = old.with_behaviours(outside, outside);
        let of = range(-60, 120);
        let merged = old.merged(&new, of, is_angle);
        let old = if outside.is_loop() { old.written_out(of) } else { old };
        let same = |found: f64, expected: f64, tolerance: f64| match is_angle {
            true => ((found - expected) - ((found - expected) / TAU).round() * TAU).abs() <= tolerance,
            false => (found - expected).abs() <= tolerance,
        };
        let is_new = |time: Ticks| new.keys().iter().any(|key| key.time == time);
        let stay = old.keys().iter().filter(|key| !is_new(key.time));
        prop_assert_eq!(merged.keys().len(), new.keys().len() + stay.clone().count());
        for (key, of) in new.keys().iter().map(|key| (key, &new)).chain(stay.map(|key| (key, &old))) {
            let time = key.time.as_f64();
            let own = merged.keys().iter().find(|own| own.time == key.time);
            prop_assert!(own.is_some_and(|own| own.interpolation == key.interpolation));
            prop_assert!(same(merged.value_at(time).unwrap(), key.value, 1e-9 * (1.0 + key.value.abs())), "frame {}", time / FRAME);
            // A curve's own slope at a key, where a piece begins that is a curve still.
            let is_inner = of.keys().last().is_some_and(|last| last.time > key.time) && key.interpolation == Interpolation::Cubic;
            let (found, expected) = (key_slope(&merged, key.time), key_slope(of, key.time));
            prop_assert!(!is_inner || !expected.is_finite() || near(Some(found), Some(expected), 1e-9 * (1.0 + expected.abs())), "frame {}: {found} {expected}", time / FRAME);
        }
        let (begin, end) = (new.keys()[0].time, new.keys().last().unwrap().time);
        let tolerance = 1e-6 * (span(&old) + span(&new) + 20.0);
        if let Some(last) = old.keys().iter().rfind(|key| key.time < begin) {
            for time in steps(-60, 120).filter(|time| *time < last.time.as_f64()) {
                prop_assert!(same(merged.value_at(time).unwrap(), old.value_at(time).unwrap(), tolerance), "frame {}", time / FRAME);
            }
        }
        if let Some(first) = old.keys().iter().find(|key| key.time > end) {
            for time in steps(-60, 120).filter(|time| *time > first.time.as_f64()) {
                prop_assert!(same(merged.value_at(time).unwrap(), old.value_at(time).unwrap(), tolerance), "frame {}", time / FRAME);
            }
        }
        if is_angle {
            let there = old.value_at(begin.as_f64()).unwrap();
            prop_assert!((merged.value_at(begin.as_f64()).unwrap() - there).abs() <= 0.5 * TAU + tolerance, "the nearest turn");
        }
    }
}

/// The slope with which a key leaves, as it stands in the key.
fn key_slope(curve: &Curve, time: Ticks) -> f64 {
    curve
        .keys()
        .iter()
        .find(|key| key.time == time)
        .map_or(f64::NAN, |key| key.tangent_out.slope_per_second())
}

/// Turns that were said otherwise stay turns: what comes behind new keys that are whole turns on goes on from there, with the values before
/// its jumps.
#[test]
fn keys_among_turns_take_their_jumps_along() {
    let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value).with_slope(0.0);
    let jump = Key { value_before: Some(0.5), ..key(30, 1.0) };
    let own = Curve::new(vec![key(0, 0.0), key(20, 0.2), jump, key(40, 1.2)]).unwrap();
    for turns in [-2.0, 0.0, 1.0, 3.0] {
        // Within the new keys they go round.
        let new = Curve::new(vec![key(5, 0.1), key(25, 0.3 + turns * TAU)]).unwrap();
        let merged = own.merged(&new, range(0, 40), true);
        let at = |frame: i64| merged.keys().iter().find(|key| key.time == RATE.ticks(frame)).unwrap();
        assert_eq!((at(5).value, at(0).value), (0.1, 0.0));
        assert_eq!(at(25).value, 0.3 + turns * TAU);
        let near = |found: f64, wanted: f64| (found - wanted - turns * TAU).abs() < 1e-12;
        assert!(near(at(30).value, 1.0) && near(at(30).value_before.unwrap(), 0.5), "{turns}: {:?}", at(30));
        assert!(near(at(40).value, 1.2), "{turns}: {:?}", at(40));
        // Among new keys, too: those that stay are as many turns on as what goes on around them.
        let new = Curve::new(vec![key(5, turns * TAU + 0.1), key(38, turns * TAU + 0.9)]).unwrap();
        let merged = own.affine(1.0, -turns * TAU).merged(&new, range(0, 40), true);
        let at = |frame: i64| merged.keys().iter().find(|key| key.time == RATE.ticks(frame)).unwrap();
        let (begins, jumps) = (at(5).value, at(30));
        assert!((begins - 0.1 + turns * TAU).abs() < 1e-9, "{turns}: it is said as what is there: {begins}");
        let near = |found: f64, wanted: f64| (found - wanted + turns * TAU).abs() < 1e-9;
        assert!(near(jumps.value, 1.0) && near(jumps.value_before.unwrap(), 0.5), "{turns}: {jumps:?}");
    }
}
