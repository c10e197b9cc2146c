//! Properties of clips, root motion and cycles on random curves.

use glam::DVec3;
use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation, Key, Side};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::clips::{JoinOptions, cut, join};
use nimble_curve_ops::cycle::{Closing, CycleOptions, close, extend};
use nimble_curve_ops::root::{RootOptions, lift, lifted, pin, restore};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::judge::{Limits, judge};
use nimble_curve_scene::rig::{Node, NodeKind, Rig};
use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::{Handles, RATE, any_curve, scene, span, steps};
use proptest::prelude::*;

const FRAMES: i64 = 60;

/// A curve from frame 0 to 60: what lies outside is cut off, and both ends have keys.
fn whole(curve: &Curve) -> Curve {
    let range = TimeRange::new(RATE.ticks(0), RATE.ticks(FRAMES));
    let mut keys = curve.trimmed(range).into_keys();
    let end = |frame| Key::new(RATE.ticks(frame), 0.5).with_slope(0.0);
    if keys[0].time > RATE.ticks(0) {
        keys.insert(0, end(0));
    }
    if keys[keys.len() - 1].time < RATE.ticks(FRAMES) {
        keys.push(end(FRAMES));
    }
    let plain = keys.into_iter().map(|key| Key { added: false, ..key });
    let mut curve = Curve::new(plain.collect()).unwrap();
    (curve.before, curve.after) = (Behaviour::Held, Behaviour::Held);
    curve
}

fn smile(curve: Curve) -> Scene {
    let mut made = scene(vec![Layer::base(Vec::new())]);
    let node = made.rigs[0].nodes().next().unwrap().0;
    let target = Target { rig: 0, node, property: "smile".into() };
    made.takes[0].layers[0].tracks = vec![Track { target, controller: Controller::Components(vec![curve]) }];
    made
}

fn curve_of(scene: &Scene) -> &Curve {
    &scene.takes[0].layers[0].tracks[0].controller.curves()[0]
}

fn near(a: f64, b: f64, scale: f64) -> bool {
    (a - b).abs() <= 1e-9 * scale
}

proptest! {
    #[test]
    fn cut_in_three_and_joined_a_curve_is_what_it_was(
        curve in any_curve(Handles::Plain),
        a in 1..40_i64,
        length in 1..15_i64,
    ) {
        let curve = whole(&curve);
        let source = smile(curve.clone());
        let tolerance = Tolerance::default();
        let edges = [(0, a), (a + 1, a + length), (a + length + 1, FRAMES)];
        let parts: Vec<Scene> = edges
            .iter()
            .enumerate()
            .map(|(index, &(first, last))| {
                let range = TimeRange::new(RATE.ticks(first), RATE.ticks(last));
                let clip = Clip { name: format!("part {index}"), range, note: None };
                cut(&source, &source.takes[0], &clip, Some(1.0), tolerance).unwrap().0
            })
            .collect();
        for (part, (first, last)) in parts.iter().zip(edges) {
            // Each part has the values of the whole, and no key outside.
            let own = curve_of(part);
            let keys = own.range().unwrap();
            prop_assert!(RATE.frame(keys.first) >= 1.0 && RATE.frame(keys.last) <= (last - first + 1) as f64);
            for time in steps(first, last) {
                let there = own.value_at(time + RATE.ticks(1 - first).as_f64()).unwrap();
                prop_assert!(near(there, curve.value_at(time).unwrap(), span(&curve)), "at {}", time);
            }
        }
        let options = JoinOptions { name: "take".into(), gap: 0, start: Some(0.0), go_on: false, tolerance };
        let (joined, _) = join(&parts, &options).unwrap();
        let again = curve_of(&joined);
        // A jump onto the first frame of a part belongs to neither: what leads up to it is not known any more.
        let jumps = |frame: i64| {
            curve.keys().iter().any(|key| key.time == RATE.ticks(frame) && key.value_before.is_some())
        };
        let lost: Vec<i64> = [a + 1, a + length + 1].into_iter().filter(|edge| jumps(*edge)).collect();
        let is_lost = |time: f64| {
            let frame = time / RATE.ticks_per_frame();
            lost.iter().any(|edge| frame > (edge - 1) as f64 && frame < *edge as f64)
        };
        for time in steps(0, FRAMES).filter(|time| !is_lost(*time)) {
            prop_assert!(near(again.value_at(time).unwrap(), curve.value_at(time).unwrap(), span(&curve)));
        }
        // The keys that cutting put in are gone again.
        let times = |curve: &Curve| curve.keys().iter().map(|key| key.time).collect::<Vec<_>>();
        if lost.is_empty() {
            prop_assert_eq!(times(again), times(&curve));
        }
    }

    #[test]
    fn a_line_is_added_exactly(curve in any_curve(Handles::Any), slope in -9.0..9.0_f64, about in -50..50_i64) {
        let tilted = curve.plus_line(slope, RATE.ticks(about));
        let range = curve.range().unwrap();
        let frame = |time| RATE.frame(time) as i64;
        for time in steps(frame(range.first), frame(range.last)) {
            for side in [Side::Left, Side::Right] {
                if time <= range.first.as_f64() || time >= range.last.as_f64() {
                    continue;
                }
                let line = slope * (time - RATE.ticks(about).as_f64()) / 705_600_000.0;
                let (own, made) = (curve.value_on(time, side).unwrap(), tilted.value_on(time, side).unwrap());
                prop_assert!(near(own + line, made, span(&curve) + 100.0 * slope.abs()), "{} {}", own + line, made);
            }
        }
        prop_assert_eq!(curve.keys().len(), tilted.keys().len());
    }

    #[test]
    fn keys_at_both_ends_of_a_range_change_no_value(curve in any_curve(Handles::Any), more in 1..20_i64) {
        let own = curve.range().unwrap();
        let range = TimeRange::new(own.first - RATE.ticks(more), own.last + RATE.ticks(more));
        let longer = curve.with_ends(range);
        prop_assert_eq!(longer.range(), Some(range));
        let frame = |time| RATE.frame(time) as i64;
        for time in steps(frame(range.first), frame(range.last)) {
            let there = longer.value_at(time).unwrap();
            prop_assert!(near(there, curve.value_at(time).unwrap(), span(&curve)), "at {}", time);
        }
    }

    #[test]
    fn closed_any_curve_meets_in_value_and_slope(curve in any_curve(Handles::Any), over in 0..40_i64) {
        let curve = whole(&curve);
        let source = smile(curve.clone());
        let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
        let (closed, _) = close(&source, &Closing::over(RATE.ticks(over)), &options).unwrap();
        let own = curve_of(&closed);
        let (first, last) = (RATE.ticks(0).as_f64(), RATE.ticks(FRAMES).as_f64());
        if !curve.is_constant() {
            let way = own.keys()[own.keys().len() - 2].interpolation;
            // A held value steps at the last key.
            let side = if way == Interpolation::Hold { Side::Right } else { Side::Left };
            prop_assert_eq!(own.value_on(first, Side::Right), own.value_on(last, side));
            if way == Interpolation::Cubic && own.keys()[0].interpolation == Interpolation::Cubic {
                let slope = |time, side| own.slope_on(time, side).unwrap();
                let (a, b) = (slope(first, Side::Right), slope(last, Side::Left));
                // Handles of no length have no slope to agree with.
                prop_assert!((a - b).abs() <= 1e-6 * (1.0 + a.abs()) || a.abs() > 1e6 || b.abs() > 1e6, "{} {}", a, b);
            }
        }
        // Before the correction nothing changes, up to the key that ends it.
        let begin = (FRAMES - over).min(curve.keys()[curve.keys().len() - 2].time.0 / RATE.ticks(1).0);
        for time in steps(0, begin.max(0)).filter(|time| *time < RATE.ticks(begin).as_f64()) {
            prop_assert!(near(own.value_at(time).unwrap(), curve.value_at(time).unwrap(), span(&curve)));
        }
    }

    #[test]
    fn written_out_each_round_is_the_first(curve in any_curve(Handles::Any), times in 1..5_u32) {
        let curve = whole(&curve);
        let source = smile(curve.clone());
        let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
        let (long, _) = extend(&source, times, &options).unwrap();
        let own = curve_of(&long);
        let period = RATE.ticks(FRAMES).as_f64();
        for round in 0..times {
            for time in steps(0, FRAMES).filter(|time| *time > 0.0 && *time < period) {
                let there = own.value_at(time + f64::from(round) * period).unwrap();
                prop_assert!(near(there, curve.value_at(time).unwrap(), span(&curve)), "round {}", round);
            }
        }
        let range = TimeRange::new(Ticks(0), Ticks(RATE.ticks(FRAMES).0 * i64::from(times)));
        prop_assert_eq!(long.takes[0].range, range);
    }

    #[test]
    fn lifted_and_pinned_any_walk_is_what_it_was(
        places in prop::collection::vec(any_curve(Handles::Any), 3),
        turns in prop::collection::vec(any_curve(Handles::Plain), 3),
        order in prop::sample::select(vec![RotationOrder::Xzy, RotationOrder::Zxy]),
        z_up in any::<bool>(),
        options in (any::<bool>(), any::<bool>()),
    ) {
        // The turn about the up axis acts last: all of it is exact.
        let order = match (z_up, order) {
            (true, RotationOrder::Xzy) => RotationOrder::Xyz,
            (true, _) => RotationOrder::Yxz,
            (false, order) => order,
        };
        let walk = walker(&places, &turns, order, z_up);
        let options = RootOptions { turn: options.0, height: options.1, ..RootOptions::default() };
        let (result, ledger) = lift(&walk, &options).unwrap();
        let claim = lifted(&walk, &result, &ledger, &options).unwrap();
        let scale: f64 = places.iter().map(span).sum();
        let limits = Limits { world: 1e-11 * scale, world_turn: 1e-9, ..Limits::NONE };
        let verdict = judge(&walk, &result, &claim, limits, 1.0);
        prop_assert!(verdict.world.is_some() && verdict.world_turn.is_some());
        prop_assert!(verdict.world_beyond().is_none(), "{:?}", verdict.world_beyond());
        let (pinned, _) = pin(&walk, &options).unwrap();
        prop_assert_ne!(&pinned, &walk);
        prop_assert_eq!(restore(&pinned).unwrap().0, walk);
    }
}

/// Hips and a head, moved by random curves, slow enough to be rotations of a body.
fn walker(places: &[Curve], turns: &[Curve], order: RotationOrder, z_up: bool) -> Scene {
    let mut rig = Rig::new("body");
    let rest = if z_up { DVec3::new(0.0, 0.0, 90.0) } else { DVec3::new(0.0, 90.0, 0.0) };
    let hips = rig.add(None, Node::new("hips", NodeKind::Joint, rest, order)).unwrap();
    rig.add(Some(hips), Node::new("head", NodeKind::Joint, rest * 0.5, RotationOrder::Xyz)).unwrap();
    let on = |property: &str, controller| Track {
        target: Target { rig: 0, node: hips, property: property.into() },
        controller,
    };
    let small: Vec<Curve> = turns.iter().map(|curve| curve.affine(0.1, 0.0)).collect();
    let tracks = vec![
        on("translation", Controller::Components(places.to_vec())),
        on("rotation", Controller::Euler(EulerCurves { order, curves: small.try_into().unwrap() })),
    ];
    let take = Take {
        name: "walk".into(),
        folder: None,
        range: TimeRange::new(RATE.ticks(0), RATE.ticks(FRAMES)),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(tracks)],
    };
    let space = if z_up { Space::CENTIMETRES_Z_UP } else { Space::CENTIMETRES_Y_UP };
    Scene { rate: RATE, space, rigs: vec![rig], sets: Vec::new(), constraints: Vec::new(), takes: vec![take] }
}
