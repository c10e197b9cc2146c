//! Curves: values by an independent way, and edits that are exact or keep their bound.

use nimble_curve_curves::curve::{
    Behaviour, Cursor, Curve, EditError, InnerLoop, Interpolation, Key, Refit, Side, Tangent, TangentMode,
    combine,
};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_testing::{Handles, RATE, any_behaviour, any_curve, independent, span, steps};
use proptest::prelude::*;

pub const FRAME: f64 = 705_600_000.0 / 24.0;

pub fn near(a: Option<f64>, b: Option<f64>, tolerance: f64) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => (a - b).abs() <= tolerance,
        (a, b) => a.is_none() && b.is_none(),
    }
}

/// Whether two curves have the same values on both sides of every 1/16 frame, to a tolerance.
fn assert_same(a: &Curve, b: &Curve, frames: (i64, i64), tolerance: f64) -> Result<(), TestCaseError> {
    for time in steps(frames.0, frames.1) {
        for side in [Side::Left, Side::Right] {
            let (x, y) = (a.value_on(time, side), b.value_on(time, side));
            prop_assert!(near(x, y, tolerance), "frame {} {side:?}: {x:?} {y:?}", time / FRAME);
        }
    }
    Ok(())
}

pub fn range(first: i64, last: i64) -> TimeRange {
    TimeRange::new(RATE.ticks(first), RATE.ticks(last))
}

/// The curve with its jumps left out and straight lines for its holds.
fn without_jumps(curve: &Curve) -> Curve {
    let plain = |key: &Key| match key.interpolation {
        Interpolation::Hold => Key { value_before: None, interpolation: Interpolation::Linear, ..*key },
        _ => Key { value_before: None, ..*key },
    };
    Curve::new(curve.keys().iter().map(plain).collect()).unwrap()
}

proptest! {
    #[test]
    fn values_agree_with_an_independent_root_finder(curve in any_curve(Handles::Any)) {
        // Steep places of weighted curves are as ill-conditioned as mathematics makes them, hence not 1e-12 here:
        // the segments' own tests hold them to that where the conditioning is known.
        let tolerance = 1e-6 * span(&curve);
        let plain = curve.keys().iter().all(|key| key.tangent_in.length().or(key.tangent_out.length()).is_none());
        let tolerance = if plain { 1e-12 * span(&curve) } else { tolerance };
        for time in steps(-6, 110) {
            for side in [Side::Left, Side::Right] {
                let (found, expected) = (curve.value_on(time, side).unwrap(), independent(&curve, time, side));
                prop_assert!((found - expected).abs() <= tolerance, "frame {} {side:?}: {found} {expected}", time / FRAME);
            }
        }
    }

    #[test]
    fn slopes_on_both_sides_are_differences_of_values(curve in any_curve(Handles::Plain), outside in any_behaviour()) {
        let curve = curve.with_behaviours(outside, outside);
        for time in steps(-20, 60).step_by(5) {
            let h = FRAME / 4096.0;
            let at = |t: f64| curve.value_at(t).unwrap();
            let seconds = h / 705_600_000.0;
            let right = (-3.0 * at(time) + 4.0 * at(time + h) - at(time + 2.0 * h)) / (2.0 * seconds);
            let found = curve.slope_on(time, Side::Right).unwrap();
            prop_assert!((found - right).abs() < 1e-3 * (10.0 + found.abs()), "{} {found} {right}", time / FRAME);
            let left_value = curve.value_on(time, Side::Left).unwrap();
            let left = (3.0 * left_value - 4.0 * at(time - h) + at(time - 2.0 * h)) / (2.0 * seconds);
            let found = curve.slope_on(time, Side::Left).unwrap();
            prop_assert!((found - left).abs() < 1e-3 * (10.0 + found.abs()), "{} {found} {left}", time / FRAME);
        }
    }

    #[test]
    fn a_cursor_gives_the_same_values_in_any_order(
        curve in any_curve(Handles::Any), outside in any_behaviour(), order in prop::collection::vec(-400..1200_i64, 40),
        per_frame in 1..40_i64
    ) {
        let curve = curve.with_behaviours(outside, outside);
        let mut cursor = Cursor::new(&curve);
        for step in order {
            let time = step as f64 * FRAME / 16.0;
            prop_assert_eq!(cursor.value_at(time), curve.value_at(time));
        }
        let mut filled = vec![0.0; 100 * per_frame as usize];
        let step = FRAME / per_frame as f64;
        Cursor::new(&curve).fill(-20.0 * FRAME, step, f64::NAN, &mut filled);
        for (index, &value) in filled.iter().enumerate() {
            let time = -20.0 * FRAME + index as f64 * step;
            let expected = curve.value_at(time).unwrap();
            prop_assert!((value - expected).abs() < 1e-9 * span(&curve), "{} {value} {expected}", time / FRAME);
        }
    }

    #[test]
    fn a_loop_joins_its_repeats(curve in any_curve(Handles::Any), turn in -4..4_i64, part in 0.0..1.0_f64) {
        let own = curve.range().unwrap();
        let (start, period) = (own.first.as_f64(), (own.last - own.first).as_f64());
        let climb = curve.keys().last().unwrap().value - curve.keys()[0].value;
        let inside = start + part * period;
        let far = inside + turn as f64 * period;
        let tolerance = 1e-7 * span(&curve);
        let value = |behaviour, time| curve.clone().with_behaviours(behaviour, behaviour).value_at(time).unwrap();
        let expected = curve.value_at(inside).unwrap();
        // At jumps and ends a rounded time may fall on the other side.
        prop_assume!(curve.keys().iter().all(|key| (key.time.as_f64() - inside).abs() > 1.0));
        prop_assert!((value(Behaviour::Loop, far) - expected).abs() < tolerance);
        prop_assert!((value(Behaviour::LoopOffset, far) - expected - turn as f64 * climb).abs() < tolerance);
        let mirrored = start + 2.0 * turn as f64 * period - part * period;
        prop_assert!((value(Behaviour::LoopOscillate, mirrored) - expected).abs() < tolerance);
    }

    #[test]
    fn inserting_a_key_changes_no_value(
        curve in any_curve(Handles::Any), outside in any_behaviour(), part in -0.4..1.4_f64
    ) {
        let curve = curve.with_behaviours(outside, outside);
        let own = curve.range().unwrap();
        let time = own.first + Ticks((part * (own.last - own.first).as_f64()) as i64);
        let mut with_key = curve.clone();
        match with_key.insert_key(time) {
            Ok(index) => {
                prop_assert_eq!(with_key.keys().len(), curve.keys().len() + 1);
                prop_assert_eq!(with_key.keys()[index].time, time);
            }
            Err(EditError::Taken) => prop_assert!(curve.keys().iter().any(|key| key.time == time)),
            Err(EditError::InLoop) => prop_assert!(outside.is_loop() && !own.contains(time)),
            Err(other) => panic!("{other}"),
        }
        // A steep weighted segment turns a rounding of time into one of value.
        assert_same(&curve, &with_key, (-60, 160), 1e-7 * span(&curve))?;
    }

    #[test]
    fn edits_undo_each_other(
        curve in any_curve(Handles::Any), outside in any_behaviour(), by in -90..90_i64, factor in 1..6_i64,
        gain in prop_oneof![-3.0..-0.2_f64, 0.2..3.0_f64], offset in -9.0..9.0_f64
    ) {
        let curve = curve.with_behaviours(outside, outside);
        prop_assert_eq!(&curve.shifted(RATE.ticks(by)).shifted(-RATE.ticks(by)), &curve);
        let stretched = curve.stretched(RATE.ticks(by), factor as f64).unwrap();
        let back = stretched.stretched(RATE.ticks(by), 1.0 / factor as f64).unwrap();
        assert_same(&curve, &back, (-30, 130), 1e-7 * span(&curve))?;
        assert_same(&curve, &curve.affine(gain, offset).affine(1.0 / gain, -offset / gain), (-30, 130), 1e-9 * span(&curve))?;
        let twice = curve.reversed(RATE.ticks(by)).reversed(RATE.ticks(by));
        for time in steps(-30, 130) {
            // Except at the instants of jumps.
            if curve.keys().iter().all(|key| key.time.as_f64() != time) && outside == Behaviour::Held {
                prop_assert!(near(curve.value_at(time), twice.value_at(time), 1e-9 * span(&curve)));
            }
        }
    }

    #[test]
    fn stretching_and_reversing_move_values_in_time(
        curve in any_curve(Handles::Any), about in -20..20_i64, factor in 1..5_i64
    ) {
        let stretched = curve.stretched(RATE.ticks(about), factor as f64).unwrap();
        let reversed = curve.reversed(RATE.ticks(about));
        let about = about as f64 * FRAME;
        for time in steps(-6, 110) {
            if curve.keys().iter().any(|key| key.time.as_f64() == time) {
                continue;
            }
            let expected = curve.value_at(time);
            prop_assert!(near(stretched.value_at(about + (time - about) * factor as f64), expected, 1e-7 * span(&curve)));
            prop_assert!(near(reversed.value_at(2.0 * about - time), expected, 1e-7 * span(&curve)));
        }
    }

    #[test]
    fn what_comes_of_an_edit_is_the_same_curve_when_it_is_made_anew(
        curve in any_curve(Handles::Any), outside in (any_behaviour(), any_behaviour()),
        edit in 0..12_u8, first in -5..20_i64, length in 1..30_i64, slope in -3.0..3.0_f64,
    ) {
        let curve = curve.with_behaviours(outside.0, outside.1);
        let part = range(first, first + length);
        let made = match edit {
            0 => curve.shifted(RATE.ticks(first)),
            1 => curve.reversed(RATE.ticks(first)),
            2 => curve.affine(slope, 1.5),
            3 => curve.plus_line(slope, RATE.ticks(first)),
            4 => curve.trimmed(part),
            5 => curve.written_out(part),
            6 => curve.trimmed(part).with_ends(range(first - 3, first + length + 3)),
            7 => curve.weighted(),
            8 => curve.thinned(),
            9 => curve.without_added(),
            10 => {
                let mut more = curve.clone();
                let _ = more.insert_key(RATE.ticks(first));
                more
            }
            _ => curve.joined(&curve.shifted(RATE.ticks(200))).unwrap_or(curve),
        };
        // Automatic tangents come to the same again, wherever their neighbours went.
        let again = Curve::new(made.keys().to_vec()).unwrap().with_behaviours(made.before, made.after);
        assert_same(&made, &again, (-60, 120), 1e-9)?;
    }

    #[test]
    fn trimmed_parts_have_the_values_and_join_to_the_whole(
        curve in any_curve(Handles::Any), outside in any_behaviour(), cut in 3..30_i64
    ) {
        let curve = curve.with_behaviours(outside, outside);
        let (whole, first, second) = (range(-30, 60), range(-30, cut), range(cut, 60));
        let trimmed = curve.trimmed(whole);
        let within = trimmed.range().unwrap();
        prop_assert!(whole.contains(within.first) && whole.contains(within.last));
        let tolerance = 1e-6 * span(&curve) * 40.0;
        for time in steps(-30, 60) {
            prop_assert!(near(trimmed.value_at(time), curve.value_at(time), tolerance),
                "frame {}: {:?} {:?}", time / FRAME, trimmed.value_at(time), curve.value_at(time));
        }
        let joined = curve.trimmed(first).joined(&curve.trimmed(second)).unwrap();
        for time in steps(-30, 60) {
            prop_assert!(near(joined.value_at(time), curve.value_at(time), tolerance), "frame {}", time / FRAME);
        }
    }

    #[test]
    fn snapped_keys_stand_on_frames_and_the_change_is_within_what_is_said(curve in any_curve(Handles::Plain)) {
        let odd = FrameRate::FPS_30;
        let (snapped, change) = curve.snapped(odd);
        prop_assert!(snapped.keys().iter().all(|key| odd.whole_frame(key.time).is_some()));
        for (before, after) in curve.keys().iter().zip(snapped.keys()).filter(|_| curve.keys().len() == snapped.keys().len()) {
            prop_assert!((before.time - after.time).as_f64().abs() <= 0.5 * odd.ticks_per_frame() + 1.0);
            let moved = (curve.value_at(after.time.as_f64()).unwrap() - after.value).abs();
            prop_assert!(moved <= change + 1e-12 || before.time == after.time);
        }
    }

    #[test]
    fn plain_slopes_stay_within_the_tolerance_of_weighted_handles(
        curve in any_curve(Handles::Any), tolerance in 0.001..0.5_f64
    ) {
        let (plain, added, error) = curve.plain(Refit { tolerance, rate: None });
        prop_assert!(plain.keys().iter().all(|key| key.tangent_in.length().or(key.tangent_out.length()).is_none()
            || key.interpolation != Interpolation::Cubic));
        prop_assert_eq!(plain.keys().len(), curve.keys().len() + added);
        // Not where the curve is all but vertical: there a tick is too long for any bound.
        let vertical = curve.keys().windows(2).any(|pair| {
            let gap = (pair[1].time - pair[0].time).as_f64();
            let (a, b) = (pair[0].tangent_out.handle_in_gap(gap).0 / gap, pair[1].tangent_in.handle_in_gap(gap).0 / gap);
            a < 0.05 || b < 0.05 || a + b - (a * b).sqrt() > 0.95
        });
        prop_assume!(!vertical);
        prop_assert!(error <= tolerance, "{error} {tolerance}");
        // Within a piece the error is looked at in two dozen places; between them it can be a little larger.
        assert_same(&curve, &plain, (-6, 110), 1.1 * tolerance + 1e-9)?;
        let (back, more, _) = plain.weighted().plain(Refit { tolerance, rate: None });
        prop_assert_eq!(more, 0, "handles of a third are plain already");
        assert_same(&plain, &back, (-6, 110), 1e-9 * span(&curve))?;
    }

    #[test]
    fn a_straight_clock_is_exact_and_a_curved_one_keeps_its_bound(
        curve in any_curve(Handles::Plain), start in 0..10_i64, speed in 1..4_i64, slope in 0.3..1.7_f64
    ) {
        let clock_key = |frame: i64, plays: f64| Key::new(RATE.ticks(frame), plays * FRAME);
        let end = start + 24 * speed;
        let straight = Curve::new(vec![
            clock_key(0, start as f64).with_interpolation(Interpolation::Linear), clock_key(24, end as f64),
        ]).unwrap();
        let (result, error) = curve.retimed(&straight, Refit { tolerance: 0.01, rate: None });
        prop_assert_eq!(error, 0.0);
        for time in steps(0, 24) {
            let plays = start as f64 * FRAME + time * speed as f64;
            if curve.keys().iter().all(|key| (key.time.as_f64() - plays).abs() > 1e3) {
                let expected = curve.value_at(plays);
                prop_assert!(near(result.value_at(time), expected, 1e-6 * span(&curve)), "frame {}", time / FRAME);
            }
        }
        // A jump stays a jump, at an instant that is rounded to a tick: the same curve without.
        let curve = without_jumps(&curve);
        let per_second = slope * 705_600_000.0 * speed as f64;
        let curved = Curve::new(vec![
            clock_key(0, start as f64).with_slope(per_second), clock_key(24, end as f64).with_slope(per_second),
        ]).unwrap();
        let (result, error) = curve.retimed(&curved, Refit { tolerance: 0.01, rate: None });
        prop_assert!(error <= 0.01, "{error}");
        for time in steps(0, 24) {
            let expected = curve.value_at(curved.value_at(time).unwrap());
            prop_assert!(near(result.value_at(time), expected, 0.0125), "frame {}", time / FRAME);
        }
    }

    #[test]
    fn sums_of_plain_cubics_are_exact_on_the_union_of_keys(
        a in any_curve(Handles::Plain), b in any_curve(Handles::Plain), c in any_curve(Handles::Plain),
        factors in prop::array::uniform3(-2.0..2.0_f64), offset in -5.0..5.0_f64
    ) {
        let parts = [(factors[0], &a), (factors[1], &b), (factors[2], &c)];
        let sum = combine(&parts, offset).unwrap();
        for curve in [&a, &b, &c] {
            for key in curve.keys() {
                prop_assert!(sum.keys().binary_search_by_key(&key.time, |k| k.time).is_ok());
            }
        }
        for time in steps(-10, 110) {
            for side in [Side::Left, Side::Right] {
                let expected = offset + parts.iter().map(|(f, curve)| f * curve.value_on(time, side).unwrap()).sum::<f64>();
                let found = sum.value_on(time, side).unwrap();
                prop_assert!((found - expected).abs() < 1e-10 * (span(&a) + span(&b) + span(&c)),
                    "frame {} {side:?}: {found} {expected}", time / FRAME);
            }
        }
    }

    #[test]
    fn a_filled_curve_shows_what_rests_below_in_each_gap_of_each_round(
        curve in any_curve(Handles::Any), outside in (any_behaviour(), any_behaviour()), rest in -9.0..9.0_f64,
        gaps in prop::collection::vec(any::<bool>(), 9), rounds in (0..3_u32, 0..3_u32), offset in -2.0..2.0_f64,
        none_outside in (any::<bool>(), any::<bool>()),
    ) {
        let mut keys = curve.keys().to_vec();
        for (key, is_gap) in keys.iter_mut().zip(&gaps) {
            key.interpolation = if *is_gap { Interpolation::None } else { key.interpolation };
        }
        let or_none = |behaviour, is_none| if is_none { Behaviour::None } else { behaviour };
        let mut gapped = Curve::new(keys.clone()).unwrap()
            .with_behaviours(or_none(outside.0, none_outside.0), or_none(outside.1, none_outside.1));
        if keys.len() > 3 {
            let (start, end) = (keys[1].time, keys[2].time);
            let inner = InnerLoop { start, end, before: rounds.0, after: rounds.1, value_offset: offset };
            // One that reaches beyond the keys is none.
            gapped.set_inner_loop(Some(inner)).or_else(|_| gapped.set_inner_loop(None)).unwrap();
        }
        let goes_on = [gapped.before, gapped.after].contains(&Behaviour::LoopOffset) && gapped.has_gaps();
        prop_assert_eq!(gapped.filled(rest).is_none(), goes_on);
        let whole = range(-40, 120);
        let written = gapped.written_out(whole).filled(rest).unwrap();
        for filled in [written].into_iter().chain(gapped.filled(rest)) {
            prop_assert!(!filled.has_gaps());
            for time in steps(-40, 120) {
                let expected = gapped.value_at(time).unwrap_or(rest);
                let found = filled.value_at(time);
                prop_assert!(near(found, Some(expected), 1e-5 * (span(&gapped) + rest.abs())),
                    "frame {}: {found:?} {expected}", time / FRAME);
            }
        }
    }

    #[test]
    fn a_written_out_loop_has_the_values_of_the_loop(curve in any_curve(Handles::Any), outside in any_behaviour()) {
        let looped = curve.with_behaviours(outside, outside);
        let written = looped.written_out(range(-40, 120));
        for time in steps(-40, 120).filter(|time| time.abs() > 0.0) {
            prop_assert!(near(written.value_at(time), looped.value_at(time), 1e-5 * span(&looped)),
                "frame {}: {:?} {:?}", time / FRAME, written.value_at(time), looped.value_at(time));
        }
    }

    #[test]
    fn an_inner_loop_goes_along_where_the_curve_is_shifted_or_stretched(
        curve in any_curve(Handles::Plain),
        (first, last) in (any::<prop::sample::Index>(), any::<prop::sample::Index>()),
        (by, rounds, offset) in (-30..30_i64, 1..3_u32, -2.0..2.0_f64),
    ) {
        // Room for the rounds: a key far behind.
        let mut keys = curve.into_keys();
        let (a, b) = (first.index(keys.len() - 1), last.index(keys.len() - 1));
        let inner = InnerLoop { start: keys[a.min(b)].time, end: keys[a.max(b) + 1].time, before: 0, after: rounds, value_offset: offset };
        keys.push(Key::new(RATE.ticks(600), 1.0));
        let mut looped = Curve::new(keys).unwrap();
        looped.set_inner_loop(Some(inner)).unwrap();
        let shifted = looped.shifted(RATE.ticks(by));
        for time in steps(-10, 90) {
            let moved = shifted.value_at(time + RATE.ticks(by).as_f64());
            prop_assert!(near(looped.value_at(time), moved, 1e-9 * span(&looped)), "frame {}", time / FRAME);
        }
    }

    #[test]
    fn weighted_handles_everywhere_are_the_same_curve(curve in any_curve(Handles::Any)) {
        let weighted = curve.weighted();
        let last = weighted.keys().len() - 1;
        for (index, key) in weighted.keys().iter().enumerate() {
            prop_assert!(index == 0 || key.tangent_in.length().is_some(), "{:?}", key);
            prop_assert!(index == last || key.tangent_out.length().is_some(), "{:?}", key);
        }
        assert_same(&curve, &weighted, (-5, 90), 1e-6 * span(&curve))?;
    }
}

fn curve(keys: &[(i64, f64)]) -> Curve {
    Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect()).unwrap()
}

#[test]
fn tangents_follow_their_neighbours_and_free_ones_stay() {
    let mut keys: Vec<Key> =
        [(0, 0.0), (10, 4.0), (20, 0.0), (30, 9.0)].map(|(f, v)| Key::new(RATE.ticks(f), v)).to_vec();
    keys[2] = keys[2].with_slope(7.0);
    let mut edited = Curve::new(keys).unwrap();
    let slope = |curve: &Curve, index: usize| curve.keys()[index].tangent_out.slope_per_second();
    assert_eq!(slope(&edited, 1), 0.0);
    edited.move_key(0, RATE.ticks(0), 10.0).unwrap();
    assert!((slope(&edited, 1) - -10.0 / 20.0 * 24.0).abs() < 1e-12, "{}", slope(&edited, 1));
    assert_eq!(slope(&edited, 2), 7.0);
    edited.delete_key(0).unwrap();
    assert!((slope(&edited, 0) - -4.0 / 10.0 * 24.0).abs() < 1e-12);
    assert_eq!(edited.move_key(0, RATE.ticks(20), 1.0), Err(EditError::Order));
    assert_eq!(edited.delete_key(7), Err(EditError::NoKey(7)));
}

#[test]
fn automatic_tangents_without_overshoot_keep_the_curve_between_its_keys() {
    let flat = |mode| {
        let keys = [(0, 0.0), (10, 0.1), (20, 9.9), (30, 10.0), (31, 10.0)];
        let key = |(f, v)| Key {
            tangent_in: Tangent::of_mode(mode),
            tangent_out: Tangent::of_mode(mode),
            ..Key::new(RATE.ticks(f), v)
        };
        Curve::new(keys.map(key).to_vec()).unwrap()
    };
    let beyond = |curve: &Curve| {
        let pairs = steps(0, 31).map(|t| curve.value_at(t).unwrap()).collect::<Vec<_>>();
        pairs.windows(2).any(|pair| pair[1] < pair[0] - 1e-12)
    };
    assert!(beyond(&flat(TangentMode::Auto)));
    assert!(!beyond(&flat(TangentMode::AutoNoOvershoot)));
}

#[test]
fn gaps_have_no_value_and_what_lies_outside_may_have_none() {
    let keys = vec![
        Key::new(RATE.ticks(0), 1.0),
        Key::new(RATE.ticks(10), 2.0).with_interpolation(Interpolation::None),
        Key::new(RATE.ticks(20), 3.0),
    ];
    let curve = Curve::new(keys).unwrap().with_behaviours(Behaviour::None, Behaviour::None);
    for (frame, expected) in
        [(-1.0, None), (0.0, Some(1.0)), (10.0, None), (15.0, None), (20.0, Some(3.0)), (20.5, None)]
    {
        assert_eq!(curve.value_at(frame * FRAME), expected, "{frame}");
    }
    assert_eq!(curve.value_on(10.0 * FRAME, Side::Left), Some(2.0));
    assert_eq!(curve.clone().insert_key(RATE.ticks(15)), Err(EditError::NoValue));
}

#[test]
fn an_inner_loop_plays_its_pattern_again_and_hides_what_it_covers() {
    let mut tap = curve(&[(0, 0.0), (5, 1.0), (8, -2.0), (11, 1.0), (14, 99.0), (30, 0.0)]);
    let pattern =
        InnerLoop { start: RATE.ticks(5), end: RATE.ticks(11), before: 0, after: 2, value_offset: 0.5 };
    tap.set_inner_loop(Some(pattern)).unwrap();
    for (frame, expected) in [
        (5.0, 1.0),
        (8.0, -2.0),
        (11.0, 1.5),
        (14.0, -1.5),
        (17.0, 2.0),
        (20.0, -1.0),
        (23.0, 2.5),
        (30.0, 0.0),
    ] {
        assert_eq!(tap.value_at(frame * FRAME), Some(expected), "{frame}");
        assert_eq!(Cursor::new(&tap).value_at(frame * FRAME), Some(expected), "{frame}");
    }
    assert!(tap.clone().set_inner_loop(Some(InnerLoop { start: RATE.ticks(6), ..pattern })).is_err());
}

#[test]
fn sums_that_are_no_plain_cubics_are_refused() {
    let plain = curve(&[(0, 0.0), (10, 1.0)]);
    let mut keys = plain.keys().to_vec();
    keys[0].tangent_out = Tangent::handle(FRAME, 3.0);
    let weighted = Curve::new(keys).unwrap();
    assert!(combine(&[(1.0, &plain), (1.0, &weighted)], 0.0).is_none());
    assert!(combine(&[(2.0, &weighted)], 1.0).is_some(), "alone it is only scaled");
    let looped = plain.clone().with_behaviours(Behaviour::Held, Behaviour::LoopOffset);
    assert!(combine(&[(1.0, &plain), (1.0, &looped)], 0.0).is_none());
    let same =
        curve(&[(0, 2.0), (4, 5.0), (10, 1.0)]).with_behaviours(Behaviour::Held, Behaviour::LoopOffset);
    let sum = combine(&[(1.0, &same), (1.0, &looped)], 0.0).unwrap();
    assert_eq!(sum.after, Behaviour::LoopOffset);
}

#[test]
fn no_curve_is_stretched_by_what_is_no_factor() {
    let ramp = curve(&[(0, 0.0), (10, 1.0)]);
    for factor in [0.0, -0.0, f64::NAN, f64::INFINITY, f64::NEG_INFINITY] {
        assert!(matches!(ramp.stretched(RATE.ticks(0), factor), Err(EditError::Factor)), "{factor}");
    }
    // Keys that would meet are refused, and not lost.
    assert!(curve(&[(0, 0.0), (1, 1.0)]).stretched(RATE.ticks(0), 1e-9).is_err());
    assert_eq!(ramp.stretched(RATE.ticks(0), 2.0).unwrap().keys()[1].time, RATE.ticks(20));
}

/// One key is enough for what never changes; what changes at the keys or outside them keeps more.
#[test]
fn only_what_never_changes_is_thinned_to_one_key() {
    let counts = [
        (curve(&[(0, 2.0), (5, 2.0), (9, 2.0)]), 1),
        (curve(&[(0, 0.0), (5, 1.0), (9, 0.0)]), 3),
        (curve(&[(0, 2.0), (5, 2.0), (9, 2.0)]).with_behaviours(Behaviour::None, Behaviour::Held), 2),
        (curve(&[(0, 0.0), (5, 1.0), (9, 0.0)]).with_behaviours(Behaviour::LoopOffset, Behaviour::None), 3),
    ];
    for (index, (curve, count)) in counts.into_iter().enumerate() {
        let thinned = curve.thinned();
        assert_eq!(thinned.keys().len(), count, "{index}: {thinned:?}");
        for time in steps(-4, 14) {
            assert_eq!(curve.value_at(time), thinned.value_at(time), "{index}: frame {}", time / FRAME);
        }
    }
}
