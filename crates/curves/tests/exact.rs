//! What is exact is exact: renamed axes, ranges of numbers, stretches of a tolerance, where weighted pieces are steep.

use std::f64::consts::{FRAC_PI_2, PI, TAU};

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Key, Side, Tangent, combine};
use nimble_curve_curves::rotation::{
    AngleTolerance, RotationOrder, ToleranceScale, angle_between, exact_way,
};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::NumberRange;
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::{Handles, RATE, any_behaviour, any_curve, rotation_of, steps};
use proptest::prelude::*;

fn any_order() -> impl Strategy<Value = RotationOrder> {
    prop::sample::select(RotationOrder::ALL.to_vec())
}

fn any_angles() -> impl Strategy<Value = [f64; 3]> {
    prop::array::uniform3(-7.0..7.0_f64)
}

/// Quarter turns one after the other: all 24 rotations that permute the axes.
fn quarter_turns(turns: &[usize]) -> DQuat {
    turns.iter().fold(DQuat::IDENTITY, |q, axis| q * DQuat::from_axis_angle(DVec3::AXES[*axis], FRAC_PI_2))
}

static WAYS: Refusals = Refusals::at_most(0.9);

proptest! {
    #[test]
    fn an_exact_way_is_the_same_rotation(
        (from, to) in (any_order(), any_order()),
        (before, after) in (prop::collection::vec(0..3_usize, 0..4), prop::collection::vec(0..3_usize, 0..4)),
        (outer, inner) in (-4.0..4.0_f64, -4.0..4.0_f64),
        held in prop::array::uniform3(prop::option::weighted(0.3, prop_oneof![Just(0.0), -3.0..3.0_f64])),
        turns in any_angles(),
    ) {
        let (a, _, c) = from.axes();
        // What the outermost and the innermost turn can take up may be any angle.
        let before = quarter_turns(&before) * DQuat::from_axis_angle(DVec3::AXES[a], outer);
        let after = DQuat::from_axis_angle(DVec3::AXES[c], inner) * quarter_turns(&after);
        WAYS.begin();
        let Some(way) = exact_way(from, held, before, after, to) else { return WAYS.refused() };
        let angles: [f64; 3] = std::array::from_fn(|axis| held[axis].unwrap_or(turns[axis]));
        let wanted = before * rotation_of(from, (angles).into()) * after;
        let found = rotation_of(to, (way.angles(angles)).into());
        prop_assert!(angle_between(wanted, found) < 1e-7, "{way:?}: {}", angle_between(wanted, found));
        // Curves go the same way as numbers, key by key.
        let curves = angles.map(|angle| Curve::through(RATE, [(0, angle), (10, angle + 1.0)]).unwrap());
        let made = way.curves(&curves).map(|curve| curve.keys()[1].value);
        let ends = way.angles(angles.map(|angle| angle + 1.0));
        prop_assert!((0..3).all(|axis| (made[axis] - ends[axis]).abs() < 1e-12), "{made:?} {ends:?}");
        // Turns of a whole are left aside, and right angles are so to the bit.
        prop_assert!(way.offset.iter().all(|offset| offset.abs() <= PI + 6.0), "{way:?}");
        let is_same = way.angles(turns) == turns && way.axis == [0, 1, 2];
        prop_assert_eq!(way.is_identity(), is_same);
    }

    #[test]
    fn axes_that_are_renamed_by_quarter_turns_have_offsets_of_right_angles_to_the_bit(
        order in any_order(),
        (before, to) in (prop::collection::vec(0..3_usize, 0..4), any_order()),
    ) {
        let quarter = quarter_turns(&before);
        if let Some(way) = exact_way(order, [None; 3], quarter, DQuat::IDENTITY, to) {
            for offset in way.offset {
                prop_assert!([0.0, FRAC_PI_2, PI, -FRAC_PI_2, -PI].contains(&offset), "{way:?}");
            }
        }
    }

    #[test]
    fn where_a_weighted_piece_is_steep_is_said(
        (rise, gap) in (-9.0..9.0_f64, 4..20_i64),
        (from, round) in (-3..3_i64, 0..3_i64),
        outside in any_behaviour(),
    ) {
        prop_assume!(rise.abs() > 0.5);
        let length = gap as f64 * RATE.ticks_per_frame();
        let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value);
        let flat = |tangent| Key { tangent_out: tangent, tangent_in: tangent, ..key(from, 0.0) };
        let plain = Curve::new(vec![flat(Tangent::slope(0.0)), Key { tangent_in: Tangent::slope(0.0), ..key(from + gap, rise) }]).unwrap();
        let whole = TimeRange::new(RATE.ticks(from - 3 * gap), RATE.ticks(from + 4 * gap));
        prop_assert!(plain.steep_times(whole).is_empty(), "plain slopes go up at their own pace");
        // Handles as long as the gap leave all of the way to its middle.
        let long = Tangent::handle(length, 0.0);
        let steep = Curve::new(vec![flat(long), Key { tangent_in: long, ..key(from + gap, rise) }]).unwrap();
        let own = steep.steep_times(TimeRange::new(RATE.ticks(from), RATE.ticks(from + gap)));
        let middle = RATE.ticks(from).as_f64() + 0.5 * length;
        prop_assert!(own.iter().any(|time| (time - middle).abs() < 0.01 * length), "{own:?} has not {middle}");
        prop_assert!(own.iter().all(|time| RATE.ticks(from).as_f64() < *time && *time < RATE.ticks(from + gap).as_f64()));
        // Loops are steep again in each round.
        let looped = steep.with_behaviours(outside, outside).steep_times(whole);
        let again = middle + round as f64 * length;
        let is_there = looped.iter().any(|time| (time - again).abs() < 0.01 * length);
        prop_assert_eq!(is_there, round == 0 || outside.is_loop(), "{:?}: {:?} and {}", outside, looped, again);
    }

    #[test]
    fn points_are_joined_by_lines_that_go_on(points in prop::collection::vec((0.1..3.0_f64, -5.0..5.0_f64), 2..6), at in -4.0..12.0_f64) {
        let mut x = 0.0;
        let points: Vec<(f64, f64)> = points.into_iter().map(|(step, y)| { x += step; (x, y) }).collect();
        let range = NumberRange::Points(points.clone());
        for (x, y) in &points {
            prop_assert!((range.value(*x) - y).abs() < 1e-12);
        }
        let line = |((a, b), (c, d)): ((f64, f64), (f64, f64))| b + (d - b) / (c - a) * (at - a);
        let last = points.len() - 1;
        let wanted = match points.iter().position(|(x, _)| at < *x) {
            Some(0) => line((points[0], points[1])),
            Some(next) => line((points[next - 1], points[next])),
            None => line((points[last - 1], points[last])),
        };
        prop_assert!((range.value(at) - wanted).abs() < 1e-9 * (1.0 + wanted.abs()));
    }

    #[test]
    fn a_tolerance_has_the_factor_of_the_stretch(first in -50.0..50.0_f64, length in 0.5..20.0_f64, factors in prop::collection::vec(0.1..1.0_f64, 1..6), place in -1.0..7.0_f64) {
        let scale = ToleranceScale::new(first, length, factors.clone());
        let index = (place.floor().max(0.0) as usize).min(factors.len() - 1);
        let time = first + place * length;
        prop_assume!((place - place.round()).abs() > 1e-6);
        prop_assert_eq!((scale.stretch(time), scale.at(time)), (index, factors[index]));
        prop_assert_eq!(scale.within(first - 1.0, time).len(), index + 1);
        let tolerance = AngleTolerance { angle: 0.2, scale: Some(&scale) };
        let half = tolerance.scaled(0.5);
        prop_assert_eq!((half.angle, half.factor(time)), (0.1, factors[index]));
    }

    #[test]
    fn a_sum_is_smooth_where_its_parts_are_and_has_corners_where_they_have_them(
        (a, b) in (any_curve(Handles::Plain), any_curve(Handles::Plain)),
    ) {
        let Some(sum) = combine(&[(1.0, &a), (-2.0, &b)], 0.5) else { return Ok(()) };
        for key in sum.keys().iter().filter(|key| key.joined) {
            let slope = |curve: &Curve, side| curve.slope_on(key.time.as_f64(), side).unwrap_or(0.0);
            let (left, right) = (slope(&sum, Side::Left), slope(&sum, Side::Right));
            prop_assert!((left - right).abs() < 1e-6 * (1.0 + left.abs()), "joined, with a corner: {left} {right}");
        }
        // Two joined parts make a joined sum.
        for time in a.keys().iter().filter(|key| key.joined).map(|key| key.time) {
            let smooth = |curve: &Curve| {
                let slope = |side| curve.slope_on(time.as_f64(), side);
                slope(Side::Left) == slope(Side::Right)
            };
            let key = sum.keys().iter().find(|key| key.time == time);
            if let Some(key) = key.filter(|_| smooth(&a) && smooth(&b)) {
                prop_assert!(key.joined, "{:?}", key.time);
            }
        }
    }

    #[test]
    fn frames_and_ticks_round_to_the_nearest_on_both_sides_of_zero(frame in -5000..5000_i64, per in 1..5_u32) {
        let rate = FrameRate::new(24_000 * per, 1001).unwrap();
        let exact = i128::from(frame) * 705_600_000 * 1001;
        let ticks = i128::from(rate.ticks(frame).0) * i128::from(24_000 * per);
        prop_assert!((ticks - exact).abs() * 2 <= i128::from(24_000 * per), "{frame}");
        prop_assert_eq!(rate.ticks(-frame).0, -rate.ticks(frame).0);
    }
}

/// Of several ways that are exact, the one that renames least is taken.
#[test]
fn a_single_turn_keeps_its_axis_and_its_sign_where_it_can() {
    for from in RotationOrder::ALL {
        for to in RotationOrder::ALL {
            for axis in 0..3 {
                let held: [Option<f64>; 3] = std::array::from_fn(|other| (other != axis).then_some(0.0));
                let way = exact_way(from, held, DQuat::IDENTITY, DQuat::IDENTITY, to).unwrap();
                assert!(way.is_identity(), "{from:?} {to:?} {axis}: {way:?}");
            }
        }
    }
}

#[test]
fn whole_turns_in_constants_are_no_offset() {
    let turn = DQuat::from_rotation_x(TAU - 1e-13);
    let way = exact_way(RotationOrder::Xyz, [None; 3], turn, DQuat::IDENTITY, RotationOrder::Xyz).unwrap();
    assert!(way.is_identity(), "{way:?}");
    let other = exact_way(
        RotationOrder::Xyz,
        [None; 3],
        DQuat::from_rotation_z(0.25),
        DQuat::IDENTITY,
        RotationOrder::Xyz,
    );
    assert!(other.is_none_or(|way| !way.is_identity()), "{other:?}");
}

#[test]
fn a_flat_tangent_is_one_whose_handle_does_not_rise() {
    for (tangent, is_flat) in [
        (Tangent::slope(0.0), true),
        (Tangent::slope(1.0), false),
        (Tangent::handle(100.0, 0.0), true),
        (Tangent::handle(100.0, 2.0), false),
    ] {
        assert_eq!(tangent.is_flat(), is_flat, "{tangent:?}");
    }
}

#[test]
fn a_handle_of_no_length_goes_the_way_that_the_curve_takes() {
    let length = 10.0 * RATE.ticks_per_frame();
    for rise in [-3.0, 2.0] {
        let none = Tangent::handle(0.0, 0.0);
        let key = |frame: i64, value: f64| Key {
            tangent_in: none,
            tangent_out: none,
            ..Key::new(RATE.ticks(frame), value)
        };
        let curve = Curve::new(vec![key(0, 0.0), key(10, rise)]).unwrap();
        // Both handles gone, the piece is a straight line: the slope at its ends too.
        let slope = rise / (length / 705_600_000.0);
        for (time, side) in [(0.0, Side::Right), (length, Side::Left)] {
            let found = curve.slope_on(time, side).unwrap();
            assert!((found - slope).abs() < 1e-6 * slope.abs(), "{found} {slope}");
        }
        for time in steps(0, 10) {
            assert!((curve.value_at(time).unwrap() - rise * time / length).abs() < 1e-9);
        }
    }
}

#[test]
fn ticks_are_said_of_a_whole_number_of_frames_only() {
    let rate = FrameRate::FPS_24;
    assert_eq!(rate.whole_frame(rate.ticks(7)), Some(7));
    assert_eq!(rate.whole_frame(Ticks(rate.ticks(7).0 + 1)), None);
}
