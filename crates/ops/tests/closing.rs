//! Random takes made to loop: the ends meet, and nothing moves before the stretch over which the way there is spread.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Curve, Key, Side};
use nimble_curve_curves::rotation::{KeyedRotation, RotationOrder};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_ops::cycle::{Closing, CycleError, CycleOptions, close, extend};
use nimble_curve_ops::travel::travel;
use nimble_curve_scene::controller::{
    Controller, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{Node, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;
use nimble_curve_testing::motion::{between, cases};
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;
use proptest::sample::select as one_of;

use crate::THOUSANDTH;

const FIRST: i64 = 4;
const LAST: i64 = 30;

/// The curves of a track, but those that carry the body along: its places on the ground, and turns, which come round.
fn curves(track: &Track, up: usize) -> Vec<Curve> {
    let all = track.controller.curves().to_vec();
    match (track.target.property.as_str(), &track.controller) {
        ("translation", _) => {
            all.into_iter().enumerate().filter(|(axis, _)| *axis == up).map(|(_, c)| c).collect()
        }
        (_, Controller::Components(_)) => all,
        _ => Vec::new(),
    }
}

proptest! {
    #![proptest_config(cases(80))]

    #[test]
    fn the_ends_meet_and_nothing_moves_before_the_last_stretch(
        scene in any_scene(Contents { all_controllers: true, layers: 2, outside: true, ..Contents::SIMPLE }), over in one_of(vec![0, 3, 8, 26]),
    ) {
        let range = TimeRange::new(RATE.ticks(FIRST), RATE.ticks(LAST));
        let name = scene.takes[0].name.clone();
        let options = CycleOptions { take: Some(name), range: Some(range), tolerance: THOUSANDTH };
        let (closed, ledger) = match close(&scene, &Closing::over(RATE.ticks(over)), &options) {
            // As curves its layers would mix otherwise: that is refused, and another case is drawn.
            Err(CycleError::Cannot { why, .. }) if why.contains("mix") => {
                return Err(TestCaseError::reject("its layers mix"));
            }
            closed => closed.unwrap(),
        };
        let up = scene.space.up.index();
        let tracks = |take: &Take| take.tracks().map(|(_, track)| track.clone()).collect::<Vec<_>>();
        let pairs = tracks(&scene.takes[0]).into_iter().zip(tracks(&closed.takes[0]));
        for ((old, new), entry) in pairs.zip(&ledger.entries) {
            prop_assert_eq!(&old.target, &new.target);
            if entry.fate == Fate::Kept {
                prop_assert!(old == new, "{} is said to be kept", entry.channel);
            }
            for curve in curves(&new, up).iter().filter(|curve| !curve.is_empty()) {
                let at = |frame: i64, side: Side| curve.value_on(RATE.ticks(frame).as_f64(), side).unwrap();
                let (first, last) = (at(FIRST, Side::Right), at(LAST, Side::Right));
                prop_assert!((first - last).abs() < 1e-9, "{}: {first} and {last} in {curve:?}", entry.channel);
            }
            // What is said of how far it moved is what a look at both finds.
            let is_alike = std::mem::discriminant(&old.controller) == std::mem::discriminant(&new.controller);
            if let Some(said) = entry.error.filter(|_| over > 0 && is_alike && !new.controller.curves().is_empty()) {
                let pairs = || old.controller.curves().iter().zip(new.controller.curves());
                let moved = (0..=64 * over).flat_map(|part| {
                    let time = (RATE.ticks(LAST).as_f64() - part as f64 * RATE.ticks_per_frame() / 64.0).max(0.0);
                    pairs().map(move |(old, new)| {
                        let at = |curve: &Curve, side: Side| curve.value_on(time, side).unwrap_or(0.0);
                        (at(new, Side::Left) - at(old, Side::Left)).abs().max((at(new, Side::Right) - at(old, Side::Right)).abs())
                    })
                });
                let most = moved.fold(0.0, f64::max);
                prop_assert!((said.largest - most).abs() <= 0.02 * most + 1e-9, "{}: {} said, {most} seen", entry.channel, said.largest);
            }
            // Where it is spread over nothing the last key alone moves, and the piece before it with it.
            let pairs = old.controller.curves().iter().zip(new.controller.curves());
            // A curve that loops over the range and nothing else loops as the range does then.
            for (old, new) in pairs.filter(|(old, _)| over > 0 && old.range() != Some(range)) {
                for half in 0..2 * (LAST - over) {
                    let time = (half as f64 + 0.4) * 0.5 * RATE.ticks_per_frame();
                    let (was, is) = (old.value_at(time), new.value_at(time));
                    let same = was.unwrap_or(0.0) - is.unwrap_or(0.0);
                    prop_assert!(same.abs() < 1e-9, "{} at frame {}: {was:?} became {is:?}", entry.channel, half as f64 / 2.0);
                }
            }
        }
        // Elsewhere nothing has changed.
        prop_assert!(closed.takes[1..] == scene.takes[1..]);
    }
}

proptest! {
    #![proptest_config(cases(80))]

    #[test]
    fn each_round_of_a_loop_written_out_goes_as_the_first_one(
        scene in any_scene(Contents { all_controllers: true, layers: 2, outside: true, ..Contents::SIMPLE }),
        rounds in 1..4_u32,
    ) {
        let range = TimeRange::new(RATE.ticks(FIRST), RATE.ticks(LAST));
        let name = scene.takes[0].name.clone();
        let options = CycleOptions { take: Some(name), range: Some(range), tolerance: THOUSANDTH };
        // Turns of random orders do not act last where rounds turn: these are refused.
        static CASES: Refusals = Refusals::at_most(0.45);
        CASES.begin();
        let Ok((long, ledger)) = extend(&scene, rounds, &options) else { return CASES.refused() };
        let (old, new) = (&scene.takes[0], &long.takes[0]);
        prop_assert_eq!(new.range.last, RATE.ticks(FIRST + (LAST - FIRST) * i64::from(rounds)));
        let turns = travel(&scene, old, range).unwrap().turn.abs() > 1e-4;
        let numbers = |scene: &Scene, take: &Take, layer: usize, track: &Track, time: f64, by_angle: bool| {
            let value = Sampler::of_track(scene, take, layer, track)?.value_at(time);
            match value.rotation() {
                // What comes round need not come to the same sign.
                Some(q) if !by_angle => Some(vec![q.x * q.w, q.y * q.w, q.z * q.w]),
                _ => value.numbers(),
            }
        };
        for (((layer, track), (_, made)), entry) in old.tracks().zip(new.tracks()).zip(&ledger.entries) {
            prop_assert_eq!(&track.target, &made.target);
            // Samples need not lie on frames; where each round turns, the way turns along.
            if track.controller.samples().is_some() || turns && track.target.property == "translation" {
                continue;
            }
            let by_angle = track.controller.order().is_some() && track.controller.order() == made.controller.order();
            if !by_angle && made.controller.outermost_axis() == Some(scene.space.up.index()) {
                // Its turn may go on, which shows in no other numbers than angles.
                continue;
            }
            let within = if entry.fate == Fate::Refitted { 5e-3 / scene.space.metres_per_unit } else { 1e-6 };
            for round in 0..i64::from(rounds) {
                let by = RATE.ticks((LAST - FIRST) * round).as_f64();
                let mut first: Option<Vec<f64>> = None;
                for time in between(FIRST, LAST) {
                    let was = numbers(&scene, old, layer, track, time, by_angle);
                    let is = numbers(&long, new, layer, made, time + by, by_angle);
                    let (Some(was), Some(is)) = (was, is) else { continue };
                    let apart: Vec<f64> = was.iter().zip(&is).map(|(was, is)| is - was).collect();
                    // What carries the body along goes on from where it was, all else starts over.
                    let goes_on = ["translation", "rotation"].contains(&track.target.property.as_str());
                    let first = first.get_or_insert_with(|| apart.clone());
                    for (apart, first) in apart.iter().zip(first.iter()) {
                        prop_assert!((apart - first).abs() <= within, "{} in round {round}: {apart} {first}", entry.channel);
                        prop_assert!(goes_on || apart.abs() <= within, "{} in round {round}: {apart}", entry.channel);
                    }
                }
            }
        }
    }
}

/// Turns as wholes: nothing moves before the way begins, the ends meet, and where the last piece has tangents they go on at one speed.
#[test]
fn turns_as_wholes_meet_and_nothing_moves_before_the_last_stretch() {
    use QuaternionInterpolation::{Cubic, Slerp, Squad, Step};
    let turn = |x: f64, y: f64| DQuat::from_rotation_y(y) * DQuat::from_rotation_x(x);
    let key = |frame: i64, value: DQuat, interpolation| QuaternionKey {
        time: RATE.ticks(frame),
        value,
        interpolation,
        tangent_in: DVec4::new(0.3, -0.2, 0.1, 0.05),
        tangent_out: DVec4::new(0.2, 0.3, -0.1, 0.02),
    };
    let mut rig = Rig::new("figure");
    let node = Node::new("arm", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    let arm = rig.add(None, node).unwrap();
    // The keys of a loop from 4 to 30: with one at its end, ending before it, going on behind it, and beginning late.
    let lists: [&[i64]; 4] = [&[4, 12, 20, 30], &[4, 13, 19], &[0, 9, 22, 36, 40], &[26, 28, 33]];
    let mut exact = 0;
    for (way, list, over, sign) in [Step, Slerp, Squad, Cubic].into_iter().flat_map(|way| {
        lists.into_iter().flat_map(move |list| {
            [0, 3, 11].into_iter().flat_map(move |over| [1.0, -1.0].map(|sign| (way, list, over, sign)))
        })
    }) {
        let value = |(index, &frame): (usize, &i64)| {
            // The sign of a quaternion is no other turn.
            let sign = if index % 2 == 1 { sign } else { 1.0 };
            key(frame, turn(0.2 + 0.3 * index as f64, 0.5 * (frame as f64 * 0.2).sin()) * sign, way)
        };
        let keys: Vec<QuaternionKey> = list.iter().enumerate().map(value).collect();
        let source = QuaternionCurve { keys, ..QuaternionCurve::default() };
        let target = Target::new(0, arm, "rotation");
        let track = Track { target, controller: Controller::Quaternion(source.clone()) };
        let range = |first: i64, last: i64| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
        let take = Take::new("swing", range(0, 40), vec![Layer::base(vec![track])]);
        let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
        let options = CycleOptions { take: None, range: Some(range(FIRST, LAST)), tolerance: THOUSANDTH };
        let (closed, _) = close(&scene, &Closing::over(RATE.ticks(over)), &options).unwrap();
        let Controller::Quaternion(made) = &closed.takes[0].layers[0].tracks[0].controller else { panic!() };
        let what = format!("{way:?} {list:?} over {over} sign {sign}");
        let (old, new) = (KeyedRotation::new(&source), KeyedRotation::new(made));
        let at = |path: &KeyedRotation, frame: f64, side| {
            path.rotation_on(frame * RATE.ticks_per_frame(), side).unwrap()
        };
        let (first, last) = (at(&new, FIRST as f64, Side::Right), at(&new, LAST as f64, Side::Right));
        assert!(first.angle_between(last) < 1e-7, "{what}: the ends do not meet");
        // Over nothing the piece up to the last key is free, and so is what is held up to it.
        let begins = match over {
            0 => list.iter().copied().filter(|frame| *frame < LAST).max().unwrap(),
            _ => LAST - over,
        };
        for part in 0..begins * 8 {
            let frame = part as f64 / 8.0;
            let off = at(&old, frame, Side::Right).angle_between(at(&new, frame, Side::Right));
            assert!(off < 1.01e-3, "{what}: {off} at {frame}");
            exact += usize::from(off < 1e-7);
        }
        // Behind the loop it is what it was from the next key on.
        if let Some(behind) = list.iter().copied().find(|frame| *frame > LAST) {
            for frame in behind..=40 {
                let off =
                    at(&old, frame as f64, Side::Right).angle_between(at(&new, frame as f64, Side::Right));
                assert!(off < 1.01e-3, "{what}: {off} at {frame}");
            }
        }
        let before_last = made.keys.iter().rfind(|key| key.time < RATE.ticks(LAST)).unwrap();
        if before_last.interpolation == Cubic {
            let speed = |frame: i64, side| new.velocity_on(RATE.ticks(frame).as_f64(), side).unwrap();
            let (leaves, arrives) = (speed(FIRST, Side::Right), speed(LAST, Side::Left));
            assert!(leaves.abs_diff_eq(arrives, 1e-6), "{what}: {leaves} and {arrives}");
        }
        // What does not swing does not begin to.
        let most = |path: &KeyedRotation| {
            (0..8 * 40)
                .map(|part| {
                    at(path, part as f64 / 8.0, Side::Right).angle_between(at(path, 0.0, Side::Right))
                })
                .fold(0.0, f64::max)
        };
        let by = at(&old, FIRST as f64, Side::Right).angle_between(at(&old, LAST as f64, Side::Right));
        assert!(most(&new) <= most(&old) + by + 0.2, "{what}: {} for {}", most(&new), most(&old));
    }
    assert!(exact > 10_000, "{exact}");
}

/// A wheel that goes round once a loop, as keys of turns as wholes: on the way from one round to the next it comes to the other sign of its
/// quaternion, and goes on at one speed.
#[test]
fn a_wheel_goes_on_from_round_to_round() {
    let mut rig = Rig::new("cart");
    rig.add(None, Node::new("body", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let mut node = Node::new("wheel", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    node.transform[1].value = OpValue::Orient(DQuat::IDENTITY);
    let wheel = rig.add(None, node).unwrap();
    for rounds in [1, 2, -1] {
        let key = |part: i64| QuaternionKey {
            time: RATE.ticks(4 + part * 3),
            value: DQuat::from_rotation_x(std::f64::consts::TAU * f64::from(rounds) * part as f64 / 8.0),
            interpolation: QuaternionInterpolation::Slerp,
            tangent_in: DVec4::ZERO,
            tangent_out: DVec4::ZERO,
        };
        let keys = QuaternionCurve { keys: (0..=8).map(key).collect(), ..QuaternionCurve::default() };
        let track =
            Track { target: Target::new(0, wheel, "rotation"), controller: Controller::Quaternion(keys) };
        let range = TimeRange::new(RATE.ticks(4), RATE.ticks(28));
        let take = Take::new("roll", range, vec![Layer::base(vec![track])]);
        let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
        let options = CycleOptions { take: None, range: None, tolerance: THOUSANDTH };
        let (long, _) = extend(&scene, 3, &options).unwrap();
        let Controller::Quaternion(made) = &long.takes[0].layers[0].tracks[0].controller else { panic!() };
        let path = KeyedRotation::new(made);
        let speed = std::f64::consts::TAU * f64::from(rounds);
        for part in 1..3 * 24 * 8 {
            let time = RATE.ticks(4).as_f64() + part as f64 * RATE.ticks_per_frame() / 8.0;
            let velocity = path.velocity_on(time, Side::Right).unwrap();
            assert!(
                velocity.abs_diff_eq(DVec3::X * speed, 0.02 * speed.abs()),
                "{rounds}: {velocity} at {part}"
            );
            let wanted = DQuat::from_rotation_x(speed * part as f64 / (24.0 * 8.0));
            assert!(
                path.rotation_on(time, Side::Right).unwrap().angle_between(wanted) < 2e-3,
                "{rounds}: {part}"
            );
        }
    }
}

/// Keys of turns as wholes along a path with its own speeds: in the last stretch it is that path turned on by the share of the way, at its
/// speed, in between as well.
#[test]
fn turns_as_wholes_go_over_smoothly() {
    let angle = |frame: f64| 0.9 * (frame * 0.11).sin() + 0.01 * frame;
    let per_second = |frame: f64| (0.9 * 0.11 * (frame * 0.11).cos() + 0.01) * 24.0;
    let mut rig = Rig::new("figure");
    let arm = rig.add(None, Node::new("arm", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let key = |frame: i64| {
        let value = DQuat::from_rotation_y(angle(frame as f64));
        let half = 0.5 * per_second(frame as f64);
        let tangent = DVec4::from(DQuat::from_xyzw(0.0, half, 0.0, 0.0) * value);
        let interpolation = QuaternionInterpolation::Cubic;
        QuaternionKey {
            time: RATE.ticks(frame),
            value,
            interpolation,
            tangent_in: tangent,
            tangent_out: tangent,
        }
    };
    let keys = (0..=15).map(|step| key(4 + step * 2)).collect();
    let source = QuaternionCurve { keys, ..QuaternionCurve::default() };
    let track = Track { target: Target::new(0, arm, "rotation"), controller: Controller::Quaternion(source) };
    let range = |first: i64, last: i64| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let take = Take::new("swing", range(FIRST, 34), vec![Layer::base(vec![track])]);
    let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take);
    let options = CycleOptions { take: None, range: Some(range(FIRST, LAST)), tolerance: THOUSANDTH };
    for over in [8, 12, 26] {
        let (closed, _) = close(&scene, &Closing::over(RATE.ticks(over)), &options).unwrap();
        let Controller::Quaternion(made) = &closed.takes[0].layers[0].tracks[0].controller else { panic!() };
        let path = KeyedRotation::new(made);
        let by = angle(FIRST as f64) - angle(LAST as f64);
        // Up to the last key, whose speed is that of the first.
        for eighth in FIRST * 8 + 1..=(LAST - 2) * 8 {
            let frame = eighth as f64 / 8.0;
            let u = ((frame - (LAST - over) as f64) / over as f64).clamp(0.0, 1.0);
            let (share, rate) = (u * u * (3.0 - 2.0 * u), 6.0 * u * (1.0 - u) * 24.0 / over as f64);
            let wanted = DQuat::from_rotation_y(angle(frame) + by * share);
            let time = frame * RATE.ticks_per_frame();
            let off = path.rotation_on(time, Side::Right).unwrap().angle_between(wanted);
            assert!(off < 2e-3, "over {over}: {off} at {frame}");
            let wanted = per_second(frame) + by * rate;
            for side in [Side::Left, Side::Right] {
                let speed = path.velocity_on(time, side).unwrap().y;
                assert!((speed - wanted).abs() < 0.08, "over {over}: {speed} for {wanted} at {frame}");
            }
        }
    }
}

/// A plain curve is moved by a cubic that grows over the last stretch from nothing to the way and the slope that are missing.
#[test]
fn the_way_to_the_beginning_is_one_cubic() {
    let key = |frame: i64, value: f64, slope: f64| Key::new(RATE.ticks(frame), value).with_slope(slope);
    let own =
        Curve::new(vec![key(0, 0.2, 1.5), key(9, 1.0, -0.7), key(24, -0.4, 0.9), key(36, 2.0, 0.3)]).unwrap();
    let mut rig = Rig::new("figure");
    rig.add(None, Node::new("hips", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let arm = rig.add(None, Node::new("arm", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let curves = vec![Curve::constant(RATE.ticks(0), 1.0), own.clone(), Curve::constant(RATE.ticks(0), 1.0)];
    let track = Track { target: Target::new(0, arm, "scale"), controller: Controller::Components(curves) };
    let range = |first: i64, last: i64| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let take = Take::new("swing", range(0, 40), vec![Layer::base(vec![track])]);
    let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take);
    let options = CycleOptions { take: None, range: Some(range(FIRST, LAST)), tolerance: THOUSANDTH };
    let at = |curve: &Curve, frame: f64| curve.value_at(frame * RATE.ticks_per_frame()).unwrap();
    let slope = |curve: &Curve, frame: i64, side| curve.slope_on(RATE.ticks(frame).as_f64(), side).unwrap();
    for over in [5, 12, 26] {
        let (closed, _) = close(&scene, &Closing::over(RATE.ticks(over)), &options).unwrap();
        let made = &closed.takes[0].layers[0].tracks[0].controller.curves()[1];
        let step = at(&own, FIRST as f64) - at(&own, LAST as f64);
        let tilt = slope(&own, FIRST, Side::Right) - slope(&own, LAST, Side::Left);
        let seconds = over as f64 / 24.0;
        for quarter in 0..=LAST * 4 {
            let frame = quarter as f64 / 4.0;
            let u = ((frame - (LAST - over) as f64) / over as f64).max(0.0);
            let wanted =
                at(&own, frame) + step * u * u * (3.0 - 2.0 * u) + tilt * seconds * u * u * (u - 1.0);
            assert!(
                (at(made, frame) - wanted).abs() < 1e-9,
                "over {over}: {} for {wanted} at {frame}",
                at(made, frame)
            );
        }
        assert!((slope(made, LAST, Side::Left) - slope(&own, FIRST, Side::Right)).abs() < 1e-9);
    }
}

/// Samples that end before the loop does, or begin where its last stretch has begun, are held up to there, and moved as others are.
#[test]
fn samples_reach_all_over_the_last_stretch() {
    let mut rig = Rig::new("figure");
    rig.add(None, Node::new("hips", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let arm = rig.add(None, Node::new("arm", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    let over = 8;
    for (first, last) in [(0, 40), (4, 30), (4, 19), (0, 29), (25, 36), (24, 27), (6, 22)] {
        let value = |frame: i64| 0.1 * (frame.clamp(first, last) * frame.clamp(first, last)) as f64;
        let values = (first..=last).flat_map(|frame| [value(frame), 1.0, 1.0]).collect();
        let samples = Samples { start: RATE.ticks(first), rate: RATE, kind: SampleKind::Vector, values };
        let track = Track { target: Target::new(0, arm, "scale"), controller: Controller::Samples(samples) };
        let range = |first: i64, last: i64| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
        let take = Take::new("swing", range(0, 40), vec![Layer::base(vec![track])]);
        let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
        let options = CycleOptions { take: None, range: Some(range(FIRST, LAST)), tolerance: THOUSANDTH };
        let (closed, _) = close(&scene, &Closing::over(RATE.ticks(over)), &options).unwrap();
        let Controller::Samples(made) = &closed.takes[0].layers[0].tracks[0].controller else { panic!() };
        let step = value(FIRST) - value(LAST);
        let row = |frame: i64| {
            let index = ((RATE.ticks(frame) - made.start).as_f64() / RATE.ticks_per_frame()).round();
            made.row(index.clamp(0.0, (made.len() - 1) as f64) as usize)[0]
        };
        for frame in 0..=LAST {
            let u = ((frame - (LAST - over)) as f64 / over as f64).max(0.0);
            let wanted = value(frame) + step * u * u * (3.0 - 2.0 * u);
            assert!(
                (row(frame) - wanted).abs() < 1e-9,
                "{first} to {last}: {} for {wanted} at {frame}",
                row(frame)
            );
        }
        for frame in LAST + 1..=last {
            assert!(
                (row(frame) - value(frame)).abs() < 1e-9,
                "{first} to {last} at {frame}, behind the loop"
            );
        }
    }
}
