//! Rotation orders: no flips, tangents kept, few keys added; over random curves, every order to every other.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Interpolation, Key, Side, Tangent};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{
    AngleTolerance, Conversion, ConversionCache, Converted, EulerPath, Knot, RotationOrder, RotationPath,
    SegmentKind, ToleranceScale, angle_between, convert, rates_from_velocity, to_vector,
};
use nimble_curve_curves::time::Ticks;
use nimble_curve_testing::{RATE, rotation_of, steps};
use proptest::prelude::*;

const FRAME: f64 = 705_600_000.0 / 24.0;

fn angles(curves: &[Curve; 3], time: f64, side: Side) -> DVec3 {
    DVec3::from_array(curves.each_ref().map(|curve| curve.value_on(time, side).unwrap_or(0.0)))
}

fn any_order() -> impl Strategy<Value = RotationOrder> {
    prop::sample::select(RotationOrder::ALL.to_vec())
}

/// What one key of one channel is like.
#[derive(Clone, Debug)]
struct Shape {
    step: f64,
    hold: bool,
    linear: bool,
    broken: Option<(f64, f64)>,
    handles: Option<(f64, f64)>,
    turns: i32,
    pole: Option<bool>,
}

fn any_shape() -> impl Strategy<Value = Shape> {
    (
        -1.0..1.0_f64,
        prop::bool::weighted(0.06),
        prop::bool::weighted(0.08),
        prop::option::weighted(0.1, (-3.0..3.0_f64, -3.0..3.0_f64)),
        prop::option::weighted(0.1, (0.1..0.5_f64, 0.1..0.5_f64)),
        prop_oneof![30 => Just(0), 1 => Just(1), 1 => Just(-2)],
        prop::option::weighted(0.06, any::<bool>()),
    )
        .prop_map(|(step, hold, linear, broken, handles, turns, pole)| Shape {
            step,
            hold,
            linear,
            broken,
            handles,
            turns,
            pole,
        })
}

/// Three channels of 2 to 40 keys, one at each shared time, with everything an animator may have done to them.
fn authored() -> impl Strategy<Value = (RotationOrder, [Curve; 3])> {
    let keys = prop::collection::vec((3..20_i64, any_shape(), any_shape(), any_shape()), 2..40);
    (any_order(), 0.1..1.6_f64, keys).prop_map(|(order, swing, keys)| {
        let mut frame = 0;
        let mut channels: [Vec<Key>; 3] = Default::default();
        let mut offsets = [0.0; 3];
        for (gap, x, y, z) in keys {
            frame += gap;
            for (axis, shape) in [x, y, z].into_iter().enumerate() {
                offsets[axis] += f64::from(shape.turns) * std::f64::consts::TAU;
                let mut value = offsets[axis] + swing * shape.step;
                if let (Some(up), true) = (shape.pole, axis == order.middle()) {
                    value = std::f64::consts::FRAC_PI_2 * if up { 1.0 } else { -1.0 };
                }
                let mut key = Key::new(RATE.ticks(frame), value);
                if let Some((a, b)) = shape.broken {
                    key = key.with_slopes(a * swing, b * swing);
                }
                if let Some((a, b)) = shape.handles {
                    let handle = |part: f64, slope: f64| {
                        let dt = part * gap as f64 * FRAME;
                        Tangent::handle(dt, slope * dt / 705_600_000.0)
                    };
                    (key.tangent_in, key.tangent_out) = (handle(a, shape.step), handle(b, shape.step));
                }
                key.interpolation = match (shape.hold, shape.linear) {
                    (true, _) => Interpolation::Hold,
                    (_, true) => Interpolation::Linear,
                    _ => Interpolation::Cubic,
                };
                channels[axis].push(key);
            }
        }
        (order, channels.map(|keys| Curve::new(keys).unwrap()))
    })
}

fn converted(from: RotationOrder, curves: &[Curve; 3], to: RotationOrder, tolerance: f64) -> Converted {
    converted_with(from, curves, to, tolerance.into(), Some(Handles::Plain))
}

fn converted_with(
    from: RotationOrder,
    curves: &[Curve; 3],
    order: RotationOrder,
    tolerance: AngleTolerance<'_>,
    handles: Option<Handles>,
) -> Converted {
    let path = EulerPath::new(from, curves, DVec3::ZERO);
    let knots = path.knots(None);
    let start = angles(curves, knots[0].time.as_f64(), Side::Right);
    convert(&path, &knots, &Conversion { handles, ..Conversion::new(order, tolerance, RATE, start) })
}

fn key_times(curves: &[Curve; 3]) -> Vec<Ticks> {
    let mut times: Vec<Ticks> = curves.iter().flat_map(|c| c.keys().iter().map(|key| key.time)).collect();
    times.sort_unstable();
    times.dedup();
    times
}

fn last_frame(curves: &[Curve; 3]) -> i64 {
    key_times(curves).last().map_or(0, |time| RATE.nearest_frame(*time))
}

fn any_handles() -> impl Strategy<Value = Option<Handles>> {
    prop::sample::select(vec![Some(Handles::Plain), Some(Handles::Weighted), None])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn handles_are_weighted_by_themselves_where_plain_ones_need_many_keys(
        (from, curves) in authored(), to in any_order(), tolerance in prop::sample::select(vec![0.01_f64, 0.1, 2.0]),
    ) {
        let tolerance = tolerance.to_radians();
        let [plain, weighted, fitting] = [Some(Handles::Plain), Some(Handles::Weighted), None]
            .map(|handles| converted_with(from, &curves, to, tolerance.into(), handles));
        let expected = if 2 * plain.added > key_times(&curves).len() && weighted.added < plain.added {
            &weighted
        } else {
            &plain
        };
        prop_assert_eq!(&fitting.curves, &expected.curves);
        prop_assert_eq!((fitting.added, fitting.plainly), (expected.added, plain.added));
        prop_assert_eq!(fitting.error, expected.error);
    }

    #[test]
    fn every_order_to_every_other_is_within_its_tolerance_and_keeps_all_keys(
        (from, curves) in authored(), tolerance in prop::sample::select(vec![0.01_f64, 0.05, 0.5]),
        handles in any_handles(),
    ) {
        let tolerance = tolerance.to_radians();
        for to in RotationOrder::ALL {
            let result = converted_with(from, &curves, to, tolerance.into(), handles);
            let mut worst = (0.0, 0.0);
            for time in steps(0, last_frame(&curves) + 1) {
                for side in [Side::Left, Side::Right] {
                    let expected = rotation_of(from, angles(&curves, time, side));
                    let found = rotation_of(to, angles(&result.curves, time, side));
                    let error = angle_between(expected, found);
                    if error > worst.0 { worst = (error, time / FRAME); }
                }
            }
            prop_assert!(worst.0 <= tolerance, "{from} to {to}: {}° at frame {}", worst.0.to_degrees(), worst.1);
            // It is measured where the path moves fast in finer steps than here, too.
            prop_assert!(result.error.largest >= worst.0 - 0.02 * tolerance - 1e-9,
                "said {} and is {}", result.error.largest.to_degrees(), worst.0.to_degrees());
            let times = key_times(&result.curves);
            for time in key_times(&curves) {
                prop_assert!(times.binary_search(&time).is_ok(), "{from} to {to}: the key at frame {} is gone", RATE.frame(time));
            }
        }
    }

    #[test]
    fn where_less_is_allowed_the_result_is_closer(
        (from, curves) in authored(), to in any_order(), closer in 0.02..0.5_f64, first in 0_usize..6,
        handles in any_handles(),
    ) {
        let tolerance = 0.5_f64.to_radians();
        let mut factors = vec![1.0; 12];
        factors[first..first + 3].fill(closer);
        let scale = ToleranceScale::new(0.0, 4.0 * FRAME, factors);
        let allowance = AngleTolerance { angle: tolerance, scale: Some(&scale) };
        let result = converted_with(from, &curves, to, allowance, handles);
        for time in steps(0, last_frame(&curves) + 1) {
            let expected = rotation_of(from, angles(&curves, time, Side::Right));
            let error = angle_between(expected, rotation_of(to, angles(&result.curves, time, Side::Right)));
            let allowed = tolerance * scale.at(time);
            prop_assert!(error <= 1.001 * allowed + 1e-9, "{error} of {allowed} at frame {}", time / FRAME);
        }
        // Where handles are chosen by themselves, plain ones may do with the more room, which need more keys.
        if handles.is_some() {
            let even = converted_with(from, &curves, to, tolerance.into(), handles);
            prop_assert!(key_times(&even.curves).len() <= key_times(&result.curves).len() + 1);
        }
    }

    #[test]
    fn what_was_found_before_is_found_again_where_the_tolerance_is_the_same(
        (from, curves) in authored(), to in any_order(), first in 0_usize..9,
        handles in any_handles(),
    ) {
        let path = EulerPath::new(from, &curves, DVec3::ZERO);
        let knots = path.knots(None);
        let start = angles(&curves, knots[0].time.as_f64(), Side::Right);
        let mut scale = ToleranceScale::new(0.0, 4.0 * FRAME, vec![1.0; 12]);
        let cache = ConversionCache::default();
        for place in [None, Some(first), Some(first + 2)] {
            if let Some(place) = place {
                scale.factors_mut()[place] = 0.1;
            }
            let tolerance = AngleTolerance { angle: 0.05_f64.to_radians(), scale: Some(&scale) };
            let anew = Conversion { handles, ..Conversion::new(to, tolerance, RATE, start) };
            let again = Conversion { cache: Some(cache.place(3)), ..anew };
            let (anew, again) = (convert(&path, &knots, &anew), convert(&path, &knots, &again));
            prop_assert_eq!(&anew.curves, &again.curves);
            prop_assert_eq!(anew.error, again.error);
            prop_assert_eq!((anew.added, anew.closest_to_pole), (again.added, again.closest_to_pole));
        }
    }

    /// The outer angles may move by what the rotation turns, divided by the cosine of the middle angle; the middle one
    /// by what it turns. Both by the tolerance more, as the result may lie that far beside. Where the cosine is no
    /// larger than that, nothing bounds the outer angles but half a turn, and the flat way through the pole.
    #[test]
    fn no_channel_moves_faster_than_the_rotation_and_its_closeness_to_the_pole_explain((from, curves) in authored()) {
        let tolerance = 0.05_f64.to_radians();
        for to in RotationOrder::ALL {
            let result = converted(from, &curves, to, tolerance);
            let times: Vec<f64> = steps(0, last_frame(&curves)).collect();
            for pair in times.windows(2) {
                let (a, b) = (angles(&result.curves, pair[0], Side::Right), angles(&result.curves, pair[1], Side::Left));
                let parts = 16;
                let mut turned = 0.0;
                let mut cosine = f64::INFINITY;
                let mut before = rotation_of(from, angles(&curves, pair[0], Side::Right));
                for part in 1..=parts {
                    let u = f64::from(part) / f64::from(parts);
                    let at = pair[0] + (pair[1] - pair[0]) * u;
                    let now = rotation_of(from, angles(&curves, at, if part == parts { Side::Left } else { Side::Right }));
                    turned += angle_between(before, now);
                    before = now;
                    let middle = angles(&result.curves, at, Side::Left)[to.middle()];
                    cosine = cosine.min(middle.cos().abs());
                }
                let reach = turned + 2.0 * tolerance;
                for axis in 0..3 {
                    let moved = (b[axis] - a[axis]).abs();
                    let bound = if axis == to.middle() { reach } else { reach / (cosine - reach).max(0.0) };
                    let bound = if cosine <= 2.0 * reach { f64::max(std::f64::consts::PI, bound.min(10.0)) } else { bound };
                    prop_assert!(moved <= bound + 1e-9,
                        "{from} to {to}, frame {}: {axis} moves {}° of {}°", pair[0] / FRAME, moved.to_degrees(), bound.to_degrees());
                }
            }
        }
    }

    #[test]
    fn tangents_follow_the_angular_velocity_on_each_side((from, curves) in authored(), to in any_order()) {
        let result = converted(from, &curves, to, 0.001);
        let path = EulerPath::new(from, &curves, DVec3::ZERO);
        for time in key_times(&curves) {
            let t = time.as_f64();
            for side in [Side::Left, Side::Right] {
                let there = angles(&result.curves, t, side);
                if there[to.middle()].cos().abs() < 0.05 { continue; }
                let expected = rates_from_velocity(to, there, path.velocity(t, side)).unwrap();
                let found = DVec3::from_array(result.curves.each_ref().map(|c| c.slope_on(t, side).unwrap_or(0.0)));
                let straight = result.curves.iter().any(|curve| curve.keys().windows(2).any(|pair| {
                    pair[0].interpolation == Interpolation::Linear && pair[0].time <= time && time <= pair[1].time
                }));
                // Straight pieces and the world outside the keys have slopes of their own.
                let ends = t == key_times(&curves)[0].as_f64() && side == Side::Left
                    || t == key_times(&curves).last().unwrap().as_f64() && side == Side::Right;
                if straight || ends { continue; }
                prop_assert!(found.abs_diff_eq(expected, 1e-6 * (1.0 + expected.length())), "{found} {expected}");
            }
        }
    }

    #[test]
    fn there_and_back_gives_the_keys_and_slopes_that_were((from, curves) in authored(), to in any_order()) {
        let tolerance = 0.01_f64.to_radians();
        let out = converted(from, &curves, to, tolerance);
        let back = converted(to, &out.curves, from, tolerance);
        let far_from_pole = |time: f64| {
            let near = |curves: &[Curve; 3], order: RotationOrder| {
                angles(curves, time, Side::Right)[order.middle()].cos().abs() < 15_f64.to_radians().sin()
            };
            !near(&curves, from) && !near(&out.curves, to)
        };
        if !steps(0, last_frame(&curves)).all(far_from_pole) { return Ok(()); }
        let holds = curves.iter().flat_map(|curve| curve.keys()).any(|key| key.interpolation == Interpolation::Hold);
        for time in key_times(&curves) {
            let t = time.as_f64();
            for side in [Side::Left, Side::Right] {
                let (a, b) = (angles(&curves, t, side), angles(&back.curves, t, side));
                // Turns across a hold have no path of their own: the other order may show them in another channel.
                let off = if holds { angle_between(rotation_of(from, a), rotation_of(from, b)) } else { (a - b).abs().max_element() };
                prop_assert!(off <= 0.01_f64.to_radians(), "frame {}: {a} {b}", t / FRAME);
            }
        }
        // Weighted handles come back as plain slopes, and need keys for that.
        if curves.iter().flat_map(|curve| curve.keys()).any(|key| key.tangent_in.length().is_some()) { return Ok(()); }
        let (before, after) = (key_times(&curves).len(), key_times(&back.curves).len());
        prop_assert!(after as f64 <= (before as f64 * 1.05).max(before as f64 + 1.0), "{before} {after}");
    }

    #[test]
    fn turns_are_followed_through_all_of_them(
        from in any_order(), to in any_order(), turns in 1..6_i64, axis in 0..3_usize, tilt in prop::array::uniform3(-0.6..0.6_f64)
    ) {
        // One axis spins between two keys an ordinary gap apart, the others gimbal_coupling a little.
        let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value).with_slope(0.0);
        let mut curves: [Curve; 3] = std::array::from_fn(|own| {
            Curve::new(vec![key(0, tilt[own]), key(24, tilt[own] * 0.5)]).unwrap()
        });
        let spun = turns as f64 * std::f64::consts::TAU;
        curves[axis] = Curve::new(vec![key(0, 0.0), key(24, spun)]).unwrap();
        let result = converted(from, &curves, to, 0.05_f64.to_radians());
        let mut followed = 0.0;
        let mut expected = 0.0;
        let times: Vec<f64> = (0..=24 * 64).map(|step| f64::from(step) * FRAME / 64.0).collect();
        for pair in times.windows(2) {
            let turn = |order, curves: &[Curve; 3]| {
                let at = |time| rotation_of(order, angles(curves, time, Side::Right));
                to_vector(at(pair[1]) * at(pair[0]).conjugate()).length()
            };
            followed += turn(to, &result.curves);
            expected += turn(from, &curves);
        }
        prop_assert!((followed - expected).abs() < 0.02 * expected, "{followed} {expected}");
    }

    #[test]
    fn holds_stay_holds(order in any_order(), to in any_order(), poses in prop::collection::vec(prop::array::uniform3(-2.0..2.0_f64), 3..8)) {
        let curves: [Curve; 3] = std::array::from_fn(|axis| {
            let key = |(index, pose): (usize, &[f64; 3])| {
                Key::new(RATE.ticks(index as i64 * 8), pose[axis]).with_interpolation(Interpolation::Hold)
            };
            Curve::new(poses.iter().enumerate().map(key).collect()).unwrap()
        });
        let result = converted(order, &curves, to, 0.01);
        prop_assert_eq!(key_times(&result.curves), key_times(&curves));
        for curve in &result.curves {
            let keys = curve.keys();
            prop_assert!(keys[..keys.len() - 1].iter().all(|key| key.interpolation == Interpolation::Hold) || keys.len() == 1);
        }
        prop_assert!(result.error.largest < 1e-9);
    }
}

#[test]
fn a_whole_turn_across_a_hold_is_not_lost() {
    let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value);
    let turn = Curve::new(vec![
        key(0, 0.0).with_interpolation(Interpolation::Hold),
        key(10, std::f64::consts::TAU),
        key(20, std::f64::consts::TAU + 0.5),
    ]);
    let gimbal_coupling = Curve::new(vec![key(0, 0.1), key(20, 0.4)]).unwrap();
    let curves = [gimbal_coupling.clone(), turn.unwrap(), gimbal_coupling];
    let result = converted(RotationOrder::Xyz, &curves, RotationOrder::Xyz, 0.001);
    assert!((result.curves[1].value_at(20.0 * FRAME).unwrap() - std::f64::consts::TAU - 0.5).abs() < 1e-9);
}

/// A small generator of its own, so that the figures below are the same every time.
struct Lcg(u64);

impl Lcg {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1_u64 << 53) as f64
    }
}

fn random(lcg: &mut Lcg, swing: f64) -> [Curve; 3] {
    let count = 2 + (lcg.next() * 38.0) as usize;
    let mut frame = 0;
    let times: Vec<i64> = (0..count)
        .map(|_| {
            frame += 4 + (lcg.next() * 16.0) as i64;
            frame
        })
        .collect();
    std::array::from_fn(|_| {
        let key = |&frame: &i64| Key::new(RATE.ticks(frame), (lcg.next() - 0.5) * swing);
        Curve::new(times.iter().map(key).collect()).unwrap()
    })
}

/// Key times that inserting at the middle until it fits would need.
fn by_halving(from: RotationOrder, curves: &[Curve; 3], to: RotationOrder, tolerance: f64) -> usize {
    let path = EulerPath::new(from, curves, DVec3::ZERO);
    let mut times = key_times(curves);
    loop {
        let knots: Vec<Knot> =
            times.iter().map(|&time| Knot { time, leaving: SegmentKind::Moving }).collect();
        // No key is added where any error is allowed, so that this is the plain cubic on the given keys.
        let start = angles(curves, times[0].as_f64(), Side::Right);
        let result = convert(&path, &knots, &Conversion::new(to, 10.0, RATE, start));
        let mut more = Vec::new();
        for pair in times.windows(2) {
            let (first, gap) = (pair[0].as_f64(), (pair[1] - pair[0]).as_f64());
            let worst = (1..64).map(|part| {
                let t = first + gap * f64::from(part) / 64.0;
                let found = rotation_of(to, angles(&result.curves, t, Side::Right));
                angle_between(path.rotation(t, Side::Right), found)
            });
            if worst.fold(0.0, f64::max) > tolerance && gap > FRAME {
                more.push(Ticks((pair[0].0 + pair[1].0) / 2));
            }
        }
        if more.is_empty() {
            return times.len();
        }
        times.extend(more);
        times.sort_unstable();
    }
}

/// Growth on the way out and on the way back over 1,000 random curves, beside halving. Prints the table of docs/methods.md:
/// `cargo test --release -p nimble-curve-curves rotations::growth -- --nocapture`.
#[test]
fn growth_of_key_times_over_a_thousand_random_curves() {
    let mut lcg = Lcg(1);
    let mut lines = Vec::new();
    let (mut all_added, mut all_by_halving) = (0, 0);
    let (mut all_weighted, mut all_plain) = (0, 0);
    // Key times on the way back from weighted curves, and weighted handles that are left.
    let mut weighted_back = (0, 0);
    let (mut back_worst, mut returned, mut of) = (0.0_f64, 0.0, 0.0);
    for swing in [30.0_f64, 90.0] {
        for tolerance in [0.01_f64, 0.05, 0.5] {
            let (mut before, mut ours, mut weighted) = (0, 0, 0);
            // Halving is slow, and every fourth curve is enough for its figure.
            let (mut compared, mut halving, mut start) = (0, 0, 0);
            for index in 0..1000 / 6 + 1 {
                let source = random(&mut lcg, swing.to_radians());
                let from = RotationOrder::ALL[index % 6];
                let to = RotationOrder::ALL[(index / 6 + index + 1) % 6];
                let out = converted(from, &source, to, tolerance.to_radians());
                before += key_times(&source).len();
                ours += key_times(&out.curves).len();
                let tolerance_here = tolerance.to_radians().into();
                let longer = converted_with(from, &source, to, tolerance_here, Some(Handles::Weighted));
                weighted += key_times(&longer.curves).len();
                if index % 4 == 0 {
                    start += key_times(&source).len();
                    compared += key_times(&out.curves).len();
                    halving += by_halving(from, &source, to, tolerance.to_radians());
                }
                let near = |curves: &[Curve; 3], order: RotationOrder| {
                    steps(0, last_frame(&source))
                        .any(|t| angles(curves, t, Side::Right)[order.middle()].cos() < 0.26)
                };
                if tolerance == 0.01 && !near(&source, from) && !near(&out.curves, to) {
                    let back = converted(to, &out.curves, from, tolerance.to_radians());
                    let (was, is) = (key_times(&source).len() as f64, key_times(&back.curves).len() as f64);
                    returned += is;
                    of += was;
                    back_worst = back_worst.max(is / was);
                    let back =
                        converted_with(to, &longer.curves, from, tolerance_here, Some(Handles::Weighted));
                    let keys = || back.curves.iter().flat_map(Curve::keys);
                    weighted_back.0 += key_times(&back.curves).len();
                    weighted_back.1 += keys()
                        .filter(|key| key.tangent_in.length().or(key.tangent_out.length()).is_some())
                        .count();
                }
            }
            lines.push(format!(
                "| {swing:.0}° | {tolerance}° | {:.2} | {:.2} | {:.2} | {:.2} |",
                ours as f64 / before as f64,
                weighted as f64 / before as f64,
                compared as f64 / start as f64,
                halving as f64 / start as f64
            ));
            let (added, added_by_halving) = (compared - start, halving - start);
            // Where one key between two is enough, the middle is as good a place as any.
            assert!(added <= added_by_halving, "{swing} {tolerance}: {added} {added_by_halving}");
            all_weighted += weighted;
            all_plain += ours;
            all_added += added;
            all_by_halving += added_by_halving;
        }
    }
    println!("{}", lines.join("\n"));
    println!("back: {:.4} of the key times at the start, {back_worst:.3} at worst", returned / of);
    assert!(
        all_added as f64 <= 0.8 * all_by_halving as f64,
        "{all_added} added, {all_by_halving} by halving"
    );
    assert!(returned <= 1.05 * of, "{returned} of {of}");
    println!(
        "back from weighted: {} key times of {of}, {} weighted handles",
        weighted_back.0, weighted_back.1
    );
    assert!(weighted_back.0 as f64 <= 1.01 * of && weighted_back.1 as f64 <= 0.01 * of, "{weighted_back:?}");
    assert!(10 * all_weighted <= 7 * all_plain, "{all_weighted} weighted, {all_plain} plain");
}

/// A turn about one axis that goes as a root: fast at first, then slower and slower.
struct Root {
    from: f64,
}

impl Root {
    fn angle(&self, time: f64) -> f64 {
        0.6 * ((time - self.from).max(0.0) / FRAME).sqrt()
    }
}

const ABOUT: DVec3 = DVec3::new(0.6, 0.64, 0.48);

impl RotationPath for Root {
    fn rotation(&self, time: f64, _: Side) -> DQuat {
        DQuat::from_axis_angle(ABOUT, self.angle(time))
    }

    fn velocity(&self, time: f64, _: Side) -> DVec3 {
        let seconds = (time - self.from).max(1.0) / 705_600_000.0;
        ABOUT * (0.5 * self.angle(time) / seconds)
    }
}

/// Where keys stand as close as the steps that a path is followed by, their values and slopes are the path's: others would go through all
/// steps, and anywhere between them.
#[test]
fn keys_as_close_as_steps_do_not_swing_between_them() {
    let path = Root { from: 0.17 * FRAME };
    for (first, last) in [(0.43, 1.0), (0.22, 0.9), (0.19, 1.0), (0.18, 1.0), (0.18, 3.0)] {
        let knots = [first, last]
            .map(|frame: f64| Knot { time: Ticks((frame * FRAME) as i64), leaving: SegmentKind::Moving });
        for order in RotationOrder::ALL {
            for tolerance in [1e-4, 1e-5, 1e-6, 1e-7] {
                let made = convert(&path, &knots, &Conversion::new(order, tolerance, RATE, DVec3::ZERO));
                let mut most: f64 = 0.0;
                for part in 0..=2000 {
                    let time = (first + (last - first) * f64::from(part) / 2000.0) * FRAME;
                    let turn = rotation_of(order, angles(&made.curves, time, Side::Right));
                    most = most.max(angle_between(turn, path.rotation(time, Side::Right)));
                }
                // A cubic with the path's own slopes is off by 0.0016 over the steepest step.
                assert!(most < 0.002, "{order:?} {tolerance} to {last}: {most} rad");
            }
        }
    }
}
