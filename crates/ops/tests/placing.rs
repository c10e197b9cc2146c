//! Random takes placed onto random takes: inside the range it is the one, outside the other, and nothing else moves.

use std::collections::HashSet;
use std::f64::consts::{PI, TAU};

use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::rotation::{RotationOrder, angle_between};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_ops::place::{PlaceOptions, Placement, place};
use nimble_curve_ops::select::{Selection, select};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::scene::{Layer, Scene, Take, Target};
use nimble_curve_testing::motion::cases;
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::scenes::{Contents, any_scene};
use nimble_curve_testing::{RATE, scene, track};
use proptest::prelude::*;

use crate::THOUSANDTH;

pub(crate) const FIRST: i64 = 12;
pub(crate) const LAST: i64 = 26;
pub(crate) const EASE: i64 = 3;

/// A scene whose first take is to get another: a range of its last one.
pub(crate) fn case() -> impl Strategy<Value = (Scene, Take)> {
    let contents = Contents { outside: true, ..Contents::SIMPLE };
    any_scene(contents).prop_map(|scene| {
        let range = TimeRange::new(RATE.ticks(FIRST), RATE.ticks(LAST));
        let selection = Selection { range: Some(range), tolerance: THOUSANDTH, ..Selection::default() };
        let cut = select(&scene, &selection).unwrap().0.takes.pop().unwrap();
        (scene, Take { name: "new".into(), range, ..cut })
    })
}

fn placed(scene: &Scene, new: &Take, placement: Placement) -> Option<Scene> {
    let options = PlaceOptions {
        placement,
        onto: Some(scene.takes[0].name.clone()),
        ease: RATE.ticks(EASE),
        tolerance: THOUSANDTH,
    };
    place(scene, new, &options).ok().map(|(scene, _)| scene)
}

fn targets(take: &Take) -> HashSet<Target> {
    take.tracks().map(|(_, track)| track.target.clone()).collect()
}

/// Whether a property has one value in two takes, at one time each.
fn same(scene: &Scene, target: &Target, a: (&Take, f64), b: (&Take, f64)) -> Result<(), TestCaseError> {
    let value =
        |(take, time): (&Take, f64)| PropertySampler::new(scene, take, target).unwrap().value_at(time);
    let (first, second) = (value(a), value(b));
    let is_same = match (&first, &second) {
        (Value::Discrete(first), Value::Discrete(second)) => first == second,
        _ => match (first.rotation(), second.rotation()) {
            (Some(first), Some(second)) => angle_between(first, second) <= 2.5e-3,
            _ => {
                let numbers = |value: &Value| value.numbers().unwrap_or_default();
                let pairs = numbers(&first).into_iter().zip(numbers(&second));
                // Units of the scene may be centimetres, and feet.
                pairs.into_iter().all(|(a, b)| (a - b).abs() <= 2.5e-3 / scene.space.metres_per_unit.min(1.0))
            }
        },
    };
    let frame = |time: f64| time / RATE.ticks_per_frame();
    prop_assert!(is_same, "{target:?}: {first:?} at {} is {second:?} at {}", frame(a.1), frame(b.1));
    Ok(())
}

/// Times of the takes that are no whole frames, as curves may jump on those, from one frame to another.
fn within(first: i64, last: i64) -> impl Iterator<Item = f64> {
    (first * 2..last * 2).map(|half| (half as f64 + 0.4) * 0.5 * RATE.ticks_per_frame())
}

fn outside() -> impl Iterator<Item = f64> {
    within(0, FIRST - EASE - 1).chain(within(LAST + EASE + 1, 40))
}

fn controllers<'a>(take: &'a Take, target: &'a Target) -> impl Iterator<Item = &'a Controller> {
    take.tracks().filter(move |(_, track)| track.target == *target).map(|(_, track)| &track.controller)
}

/// When a property has a key in any of its curves.
fn key_times(take: &Take, target: &Target) -> HashSet<Ticks> {
    let all = TimeRange::new(RATE.ticks(-1000), RATE.ticks(1000));
    controllers(take, target).flat_map(|controller| controller.key_times(all)).collect()
}

/// When a property has a key in all of its curves.
fn shared_times(take: &Take, target: &Target) -> HashSet<Ticks> {
    let mut times = key_times(take, target);
    for curve in controllers(take, target).flat_map(Controller::curves) {
        times.retain(|time| curve.keys().iter().any(|key| key.time == *time));
    }
    times
}

proptest! {
    #![proptest_config(cases(60))]

    #[test]
    fn what_is_placed_replaces_its_range_in_its_channels_and_nothing_else((scene, new) in case()) {
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Some(result) = placed(&scene, &new, Placement::Overwrite) else { return CASES.refused() };
        let (old, made) = (&scene.takes[0], &result.takes[0]);
        let own = targets(&new);
        for target in own.union(&targets(old)) {
            let is_placed = own.contains(target);
            for time in within(FIRST, LAST) {
                same(&result, target, (if is_placed { &new } else { old }, time), (made, time))?;
            }
            for time in outside().filter(|_| targets(old).contains(target)) {
                same(&result, target, (old, time), (made, time))?;
            }
        }
    }

    #[test]
    fn keys_of_both_stay_where_they_do_not_meet((scene, new) in case()) {
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Some(result) = placed(&scene, &new, Placement::Merge) else { return CASES.refused() };
        let (old, made) = (&scene.takes[0], &result.takes[0]);
        let own = targets(&new);
        let is_free = |target: &Target| {
            controllers(old, target).flat_map(Controller::curves).all(|curve| curve.is_empty() || curve.is_held_outside())
        };
        for target in targets(old).iter().filter(|target| is_free(target)) {
            let theirs = key_times(&new, target);
            for time in shared_times(old, target).difference(&theirs) {
                same(&result, target, (old, time.as_f64()), (made, time.as_f64()))?;
            }
        }
        for target in &own {
            for time in shared_times(&new, target) {
                same(&result, target, (&new, time.as_f64()), (made, time.as_f64()))?;
            }
        }
    }

    #[test]
    fn filling_leaves_what_has_keys_alone((scene, new) in case()) {
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Some(result) = placed(&scene, &new, Placement::Unkeyed) else { return CASES.refused() };
        let (old, made) = (&scene.takes[0], &result.takes[0]);
        for target in &targets(old) {
            let own = |take: &Take| {
                take.tracks().filter(|(_, track)| track.target == *target).map(|(_, t)| t.clone()).collect::<Vec<_>>()
            };
            let has_all = own(old).iter().any(|track| (0..3).all(|part| track.controller.drives(part)));
            if has_all {
                prop_assert!(own(old) == own(made), "{target:?}");
            }
        }
    }

    #[test]
    fn a_gap_opens_and_all_that_comes_later_moves((scene, new) in case()) {
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Some(result) = placed(&scene, &new, Placement::Ripple) else { return CASES.refused() };
        let (old, made) = (&scene.takes[0], &result.takes[0]);
        let by = RATE.ticks(LAST - FIRST + 1).as_f64();
        for target in &targets(old) {
            // What goes on outside its keys as before is no later thing.
            let held = old.tracks().filter(|(_, track)| track.target == *target).all(|(_, track)| {
                track.controller.curves().iter().all(|curve| curve.is_empty() || curve.is_held_outside())
            });
            for time in within(FIRST + EASE + 1, 40).filter(|_| held) {
                same(&result, target, (old, time), (made, time + by))?;
            }
        }
        for marker in &old.markers {
            let later = marker.time >= RATE.ticks(FIRST);
            let time = if later { marker.time + RATE.ticks(LAST - FIRST + 1) } else { marker.time };
            prop_assert!(made.markers.iter().any(|made| (&made.name, made.time) == (&marker.name, time)));
        }
    }

    #[test]
    fn a_layer_counts_in_its_range_alone((scene, new) in case()) {
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Some(result) = placed(&scene, &new, Placement::Layer("new".into())) else { return CASES.refused() };
        let (old, made) = (&scene.takes[0], &result.takes[0]);
        prop_assert_eq!(made.layers.len(), old.layers.len() + new.layers.len());
        for target in &targets(&new) {
            for time in within(FIRST, LAST) {
                same(&result, target, (&new, time), (made, time))?;
            }
            for time in outside().filter(|_| targets(old).contains(target)) {
                same(&result, target, (old, time), (made, time))?;
            }
        }
    }
}

/// Keys that cannot stand among others are refused, each for its reason, and nothing else is.
#[test]
fn what_cannot_stand_among_keys_is_refused_for_its_reason() {
    let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value);
    let curve = || Curve::new(vec![key(10, 0.1), key(40, 0.3)]).unwrap();
    let turns =
        |order| Controller::Euler(EulerCurves { order, curves: [curve(), Curve::default(), curve()] });
    let samples = Controller::Samples(Samples {
        rate: RATE,
        start: RATE.ticks(0),
        kind: SampleKind::Euler(RotationOrder::Xyz),
        values: vec![0.0; 3 * 61],
    });
    let layer = |name: &str, controller: Controller, muted: bool| Layer {
        name: name.into(),
        muted,
        ..Layer::base(vec![track("rotation", controller)])
    };
    let xyz = || turns(RotationOrder::Xyz);
    let merged = |layers: Vec<Layer>, new: Controller| {
        let scene = scene(layers);
        let range = TimeRange::new(RATE.ticks(20), RATE.ticks(30));
        let new = Take {
            name: "new".into(),
            range,
            layers: vec![layer("base", new, false)],
            ..scene.takes[0].clone()
        };
        let options = PlaceOptions {
            placement: Placement::Merge,
            onto: None,
            ease: RATE.ticks(1),
            tolerance: THOUSANDTH,
        };
        place(&scene, &new, &options).map_err(|why| why.to_string())
    };
    let cases = [
        (vec![layer("base", xyz(), false)], xyz(), None),
        (vec![layer("base", xyz(), false)], turns(RotationOrder::Zxy), None),
        (vec![layer("base", samples.clone(), false)], xyz(), Some("the target's samples are no keys")),
        (vec![layer("base", xyz(), false)], samples, Some("the new take's samples are no keys")),
        (
            vec![layer("base", xyz(), false), layer("up", xyz(), false)],
            xyz(),
            Some("moves it too, and keys of a sum cannot stay"),
        ),
        (vec![layer("base", xyz(), false), layer("up", xyz(), true)], xyz(), None),
    ];
    for (index, (layers, new, refusal)) in cases.into_iter().enumerate() {
        match (merged(layers, new), refusal) {
            (Err(why), Some(refusal)) => assert!(why.contains(refusal), "{index}: {why}"),
            (Ok(_), None) => {}
            (Ok(_), Some(refusal)) => panic!("{index}: not refused: {refusal}"),
            (Err(why), None) => panic!("{index}: {why}"),
        }
    }
}

/// Of the two ways to say the same turns the one is taken whose angles are near those that are there, however many whole turns these are
/// on, so that what lies between keys of both does not go round.
#[test]
fn turns_are_said_as_those_they_come_among() {
    let order = RotationOrder::Xyz;
    let (_, middle, _) = order.axes();
    let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value).with_slope(0.0);
    let curves = |frames: [i64; 2], values: [[f64; 2]; 3]| {
        let curve = |values: [f64; 2]| {
            Curve::new(vec![key(frames[0], values[0]), key(frames[1], values[1])]).unwrap()
        };
        Controller::Euler(EulerCurves { order, curves: values.map(curve) })
    };
    let angles = [[0.3, 0.5], [0.4, 0.2], [-0.6, -0.2]];
    for turns in [[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, -2.0], [3.0, 0.0, 1.0]] {
        for other in [false, true] {
            let there = std::array::from_fn(|axis| angles[axis].map(|angle| angle + turns[axis] * TAU));
            let said = |axis: usize, angle: f64| match (other, axis == middle) {
                (false, _) => angle,
                (true, true) => PI - angle,
                (true, false) => angle + PI,
            };
            let near = |axis: usize| {
                [0.35, 0.28][..].iter().map(move |part| angles[axis][0] + 0.1 * part).collect::<Vec<_>>()
            };
            let new = std::array::from_fn(|axis| [said(axis, near(axis)[0]), said(axis, near(axis)[1])]);
            let scene = scene(vec![Layer::base(vec![track("rotation", curves([0, 40], there))])]);
            let range = TimeRange::new(RATE.ticks(18), RATE.ticks(24));
            let layers = vec![Layer::base(vec![track("rotation", curves([18, 24], new))])];
            let new = Take { name: "new".into(), range, layers, ..scene.takes[0].clone() };
            for placement in [Placement::Merge, Placement::Overwrite] {
                let options = PlaceOptions {
                    placement: placement.clone(),
                    onto: None,
                    ease: RATE.ticks(3),
                    tolerance: THOUSANDTH,
                };
                let (result, _) = place(&scene, &new, &options).unwrap();
                let made = result.takes[0].layers[0].tracks[0].controller.curves();
                for (axis, curve) in made.iter().enumerate() {
                    for half in 0..=80 {
                        let angle = curve.value_at(f64::from(half) * 0.5 * RATE.ticks_per_frame()).unwrap();
                        let off = angle - turns[axis] * TAU;
                        assert!(
                            off.abs() < 1.0,
                            "{placement:?} {turns:?} {other}: axis {axis} at {off} from there"
                        );
                    }
                }
            }
        }
    }
}

/// Angles of another order than the node's become its own where keys come among them: all three keep keys where there were any, so that
/// nothing swings in from far away, before the new keys or behind them.
#[test]
fn angles_of_another_order_stay_as_they_were_beside_new_keys() {
    let key = |frame: i64, value: f64| Key::new(RATE.ticks(frame), value).with_slope(0.0);
    let curve = |keys: &[(i64, f64)]| {
        Curve::new(keys.iter().map(|(frame, value)| key(*frame, *value)).collect()).unwrap()
    };
    let early = [(2, 0.1), (6, 0.4), (10, 0.2), (30, 0.3), (36, -0.2), (40, 0.1)];
    // Without a turn about z both orders have the same angles, so that the third one rests.
    for (first, last) in [(16, 22), (12, 28)] {
        let there = EulerCurves {
            order: RotationOrder::Zxy,
            curves: [curve(&early), curve(&early), Curve::default()],
        };
        let scene = scene(vec![Layer::base(vec![track("rotation", Controller::Euler(there))])]);
        let own =
            scene.rigs[0].rest_value(scene.takes[0].layers[0].tracks[0].target.node, "rotation").unwrap();
        assert_ne!(own.order(), Some(RotationOrder::Zxy), "the node has another order");
        let range = TimeRange::new(RATE.ticks(first), RATE.ticks(last));
        let turns = [
            curve(&[(first, 0.2), (last, 0.3)]),
            curve(&[(first, 0.9), (last, 0.8)]),
            curve(&[(first, -0.9), (last, 0.7)]),
        ];
        let new = EulerCurves { order: RotationOrder::Xyz, curves: turns };
        let layers = vec![Layer::base(vec![track("rotation", Controller::Euler(new))])];
        let new = Take { name: "new".into(), range, layers, ..scene.takes[0].clone() };
        let options = PlaceOptions {
            placement: Placement::Merge,
            onto: None,
            ease: RATE.ticks(1),
            tolerance: THOUSANDTH,
        };
        let (result, _) = place(&scene, &new, &options).unwrap();
        let target = &scene.takes[0].layers[0].tracks[0].target;
        let turn = |scene: &Scene, half: i32| {
            let mut sampler = PropertySampler::new(scene, &scene.takes[0], target).unwrap();
            sampler.value_at(f64::from(half) * 0.5 * RATE.ticks_per_frame()).rotation().unwrap()
        };
        for half in (0..=20).chain(60..=80) {
            let off = turn(&result, half).angle_between(turn(&scene, half));
            assert!(off < 2.5e-3, "{first} to {last}: {off} at {}", f64::from(half) / 2.0);
        }
    }
}
