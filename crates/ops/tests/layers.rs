//! Layers: how they mix, and what flattening and splitting keep.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Key};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, from_vector};
use nimble_curve_curves::value::Value;
use nimble_curve_ops::layers::{
    FlattenOptions, LayerSettings, LayersError, SplitOptions, flatten, set, split,
};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, StackEntry, Weight};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::scene::{Layer, LayerMode, RotationMixing, Scene, Track};
use nimble_curve_testing::{Handles, RATE, any_curve, scene, span, steps, track, values};
use proptest::prelude::*;

fn layer(name: &str, mode: LayerMode, weight: Weight, tracks: Vec<Track>) -> Layer {
    Layer { name: name.into(), mode, rotations: RotationMixing::Angles, weight, muted: false, tracks }
}

fn constant(value: f64) -> Curve {
    Curve::constant(RATE.ticks(0), value)
}

fn degrees(keys: &[(i64, f64)]) -> Curve {
    let key = |&(frame, degrees): &(i64, f64)| Key::new(RATE.ticks(frame), f64::to_radians(degrees));
    Curve::new(keys.iter().map(key).collect()).unwrap()
}

fn euler(order: RotationOrder, curves: [Curve; 3]) -> Controller {
    Controller::Euler(EulerCurves { order, curves })
}

fn number(value: &Value) -> f64 {
    let Value::Number(number) = value else { panic!("{value:?}") };
    *number
}

fn any_mode() -> impl Strategy<Value = LayerMode> {
    prop::sample::select(vec![LayerMode::Additive, LayerMode::Override])
}

fn all(scene: &Scene, property: &str) -> Vec<Value> {
    values(scene, property, steps(-12, 90))
}

proptest! {
    #[test]
    fn flattening_sums_of_plain_curves_is_exact_and_keeps_their_keys(
        curves in prop::collection::vec(any_curve(Handles::Plain), 9), weights in prop::array::uniform3(-0.5..1.5_f64),
        modes in prop::array::uniform3(any_mode()), is_full in any::<bool>()
    ) {
        let layers: Vec<Layer> = (0..3).map(|index| {
            let [x, y, z] = [0, 1, 2].map(|axis| curves[index * 3 + axis].clone());
            let weight = if is_full && index == 0 { 1.0 } else { weights[index] };
            layer(&format!("l{index}"), modes[index], Weight::Constant(weight), vec![
                track("smile", Controller::Components(vec![x.clone()])),
                track("translation", Controller::Components(vec![x.clone(), Curve::default(), z.clone()])),
                track("rotation", euler(RotationOrder::Xyz, [x, y, z])),
            ])
        }).collect();
        let before = scene(layers);
        let (after, ledger) = flatten(&before, &FlattenOptions::default()).unwrap();
        prop_assert_eq!(after.takes[0].layers.len(), 1);
        prop_assert!(ledger.entries.iter().all(|entry| matches!(entry.fate, Fate::Exact | Fate::Kept)), "{:?}", ledger);
        let size: f64 = curves.iter().map(span).sum();
        for property in ["smile", "translation", "rotation"] {
            for (a, b) in all(&before, property).into_iter().zip(all(&after, property)) {
                let (a, b) = (a.numbers().unwrap(), b.numbers().unwrap());
                prop_assert!(a.iter().zip(&b).all(|(a, b)| (a - b).abs() < 1e-11 * size), "{property}: {a:?} {b:?}");
            }
        }
    }

    #[test]
    fn flattening_anything_else_keeps_the_bound_that_it_says(
        base in any_curve(Handles::Plain), over in any_curve(Handles::Any), weight in any_curve(Handles::Plain),
        mode in any_mode(), by_quaternion in any::<bool>()
    ) {
        // Smooth and gentle: what jumps or turns by many turns has tests of its own.
        let smooth = |curve: &Curve, size: f64| {
            let keys = curve.keys().iter().map(|key| Key::new(key.time, key.value * size));
            Curve::new(keys.collect()).unwrap()
        };
        let (base, over) = (smooth(&base, 0.1), smooth(&over, 0.1));
        let weight = Weight::Curve(smooth(&weight, 0.05).affine(1.0, 0.5));
        let mut top = layer("top", mode, weight, vec![
            track("smile", Controller::Components(vec![over.clone()])),
            track("scale", Controller::Components(vec![over.affine(0.2, 1.5), constant(1.0), constant(2.0)])),
            track("rotation", euler(RotationOrder::Zyx, [over.clone(), constant(0.3), base.clone()])),
        ]);
        top.rotations = if by_quaternion { RotationMixing::Quaternions } else { RotationMixing::Angles };
        let before = scene(vec![Layer::base(vec![
            track("smile", Controller::Components(vec![base.clone()])),
            track("scale", Controller::Components(vec![base.affine(0.2, 2.0), constant(1.0), constant(1.0)])),
            track("rotation", euler(RotationOrder::Xyz, [base.clone(), over.clone(), constant(0.1)])),
        ]), top]);
        let options = FlattenOptions::default();
        let (after, ledger) = flatten(&before, &options).unwrap();
        for (property, tolerance) in [("smile", 0.001), ("scale", 0.001), ("rotation", 0.1_f64.to_radians())] {
            let worst = all(&before, property).into_iter().zip(all(&after, property)).map(|(a, b)| {
                match (a.rotation(), b.rotation()) {
                    (Some(a), Some(b)) => angle_between(a, b),
                    _ => {
                        let (a, b) = (a.numbers().unwrap(), b.numbers().unwrap());
                        a.iter().zip(&b).map(|(a, b)| (a - b) * (a - b)).sum::<f64>().sqrt()
                    }
                }
            }).fold(0.0, f64::max);
            prop_assert!(worst <= 1.02 * tolerance, "{property}: {worst}");
            let entry = ledger.entries.iter().find(|entry| entry.channel.ends_with(property)).unwrap();
            prop_assert_eq!(entry.fate, Fate::Refitted);
            let said = entry.error.unwrap().largest;
// It is measured where the path moves fast in finer steps than here, too.
            prop_assert!(said >= worst - 0.02 * tolerance, "{property}: said {said}, is {worst}");
        }
    }

    #[test]
    fn the_difference_as_a_layer_gives_the_other_take(
        base in any_curve(Handles::Plain), fixed in any_curve(Handles::Plain), by_quaternion in any::<bool>()
    ) {
        let order = if by_quaternion { RotationOrder::Yzx } else { RotationOrder::Xyz };
        let gentle = |curve: &Curve| {
            let keys = curve.keys().iter().map(|key| Key::new(key.time, key.value * 0.1));
            Curve::new(keys.collect()).unwrap()
        };
        let (a, b) = (gentle(&base), gentle(&fixed));
        let with = |first: &Curve, rotation: Controller| scene(vec![Layer::base(vec![
            track("smile", Controller::Components(vec![first.clone()])),
            track("translation", Controller::Components(vec![first.clone(), a.clone(), Curve::default()])),
            track("rotation", rotation),
        ])]);
        let ours = with(&base, euler(RotationOrder::Xyz, [a.clone(), constant(0.2), b.clone()]));
        let theirs = with(&fixed, euler(order, [a.clone(), b.clone(), b.clone()]));
        let options = SplitOptions { name: "fix".into(), only: Vec::new(), tolerance: Default::default() };
        let (result, ledger) = split(&ours, &theirs, &options).unwrap();
        let fix = result.takes[0].layers.last().unwrap();
        prop_assert_eq!(fix.rotations == RotationMixing::Quaternions, by_quaternion);
        let size = span(&base) + span(&fixed);
        for (property, tolerance) in [("smile", 1e-11 * size), ("translation", 1e-11 * size)] {
            for (a, b) in all(&result, property).into_iter().zip(all(&theirs, property)) {
                let (a, b) = (a.numbers().unwrap(), b.numbers().unwrap());
                prop_assert!(a.iter().zip(&b).all(|(a, b)| (a - b).abs() < tolerance), "{property} {a:?} {b:?}");
            }
        }
        // A conversion measures its error at sixteenths of frames, so it is the same here.
        let tolerance = if by_quaternion { 0.1_f64.to_radians() } else { 1e-9 };
        for (a, b) in all(&result, "rotation").into_iter().zip(all(&theirs, "rotation")) {
            let angle = angle_between(a.rotation().unwrap(), b.rotation().unwrap());
            prop_assert!(angle <= tolerance, "{angle} {ledger:?}");
        }
    }
}

#[test]
fn layers_mix_as_their_formulas_say() {
    let half = Weight::Constant(0.5);
    let scalar = |value| vec![track("smile", Controller::Components(vec![constant(value)]))];
    let scale = |value| {
        vec![track("scale", Controller::Components(vec![constant(value), constant(1.0), constant(1.0)]))]
    };
    let mixed = |mode, base: Vec<Track>, over: Vec<Track>, property: &str| {
        let scene = scene(vec![Layer::base(base), layer("top", mode, half.clone(), over)]);
        values(&scene, property, std::iter::once(0.0)).remove(0)
    };
    assert_eq!(number(&mixed(LayerMode::Additive, scalar(2.0), scalar(3.0), "smile")), 3.5);
    assert_eq!(number(&mixed(LayerMode::Override, scalar(2.0), scalar(3.0), "smile")), 2.5);
    // Nothing under an additive layer: it adds to the value at rest, 0.25.
    assert_eq!(number(&mixed(LayerMode::Additive, vec![], scalar(3.0), "smile")), 1.75);
    // Scale multiplies: 2 · √9.
    let Value::Vector(v) = mixed(LayerMode::Additive, scale(2.0), scale(9.0), "scale") else { panic!() };
    assert!(v.abs_diff_eq(DVec3::new(6.0, 1.0, 1.0), 1e-15), "{v}");
}

#[test]
fn half_of_more_than_half_a_turn_does_not_flip() {
    // The layer turns by 0 to 300 degrees: half of it is 0 to 150, not back from 90 to -30.
    let turning =
        euler(RotationOrder::Xyz, [constant(0.0), constant(0.0), degrees(&[(0, 0.0), (48, 300.0)])]);
    let base = euler(RotationOrder::Xyz, [degrees(&[(0, 40.0)]), constant(0.0), constant(0.0)]);
    for (mode, expected) in [(LayerMode::Additive, 150.0), (LayerMode::Override, f64::NAN)] {
        let mut top = layer("top", mode, Weight::Constant(0.5), vec![track("rotation", turning.clone())]);
        top.rotations = RotationMixing::Quaternions;
        let scene = scene(vec![Layer::base(vec![track("rotation", base.clone())]), top]);
        let path: Vec<DQuat> =
            all(&scene, "rotation").iter().map(|value| value.rotation().unwrap()).collect();
        let largest_step =
            path.windows(2).map(|pair| angle_between(pair[0], pair[1])).fold(0.0, f64::max).to_degrees();
        assert!(largest_step < 1.0, "{mode:?} flips by {largest_step}");
        if expected.is_finite() {
            let base = DQuat::from_rotation_x(40_f64.to_radians());
            let end = base * DQuat::from_rotation_z(f64::to_radians(expected));
            assert!(angle_between(path[60 * 16], end) < 1e-9);
        }
    }
    // The order in which times are asked for does not matter.
    let mut top = layer("top", LayerMode::Additive, Weight::Constant(0.5), vec![track("rotation", turning)]);
    top.rotations = RotationMixing::Quaternions;
    let scene = scene(vec![top]);
    let last = values(&scene, "rotation", std::iter::once(48.0 * RATE.ticks_per_frame())).remove(0);
    assert!(angle_between(last.rotation().unwrap(), from_vector(DVec3::Z * 150_f64.to_radians())) < 1e-9);
}

#[test]
fn a_stack_sums_its_entries_and_switched_off_ones_do_not_count() {
    let travel = |frames: f64| {
        let key = |frame: i64, value: f64| {
            Key::new(RATE.ticks(frame), value)
                .with_interpolation(nimble_curve_curves::curve::Interpolation::Linear)
        };
        Controller::Components(vec![
            Curve::new(vec![key(0, 0.0), key(48, frames)]).unwrap(),
            Curve::default(),
            Curve::default(),
        ])
    };
    let entry = |name: &str, weight: f64, controller| StackEntry {
        name: name.into(),
        weight: Weight::Constant(weight),
        controller,
    };
    let at_end = |back: f64| {
        let stack =
            Controller::Stack(vec![entry("travel", 1.0, travel(40.0)), entry("back", back, travel(-40.0))]);
        let scene = scene(vec![Layer::base(vec![track("translation", stack)])]);
        let Value::Vector(v) =
            values(&scene, "translation", std::iter::once(48.0 * RATE.ticks_per_frame())).remove(0)
        else {
            panic!()
        };
        v
    };
    // What no entry drives stays at rest.
    assert_eq!(at_end(0.0), DVec3::new(40.0, 2.0, 3.0));
    assert_eq!(at_end(1.0), DVec3::new(0.0, 2.0, 3.0));
}

#[test]
fn only_the_named_layers_go_down_and_one_in_between_that_matters_is_named() {
    let scalar = |value| vec![track("smile", Controller::Components(vec![constant(value)]))];
    let base = || Layer::base(scalar(1.0));
    let named = |name: &str, mode, value| layer(name, mode, Weight::Constant(0.5), scalar(value));
    let only = |layers: Vec<Layer>| {
        let before = scene(layers);
        let options = FlattenOptions { only: vec!["top".into()], ..FlattenOptions::default() };
        flatten(&before, &options).map(|(after, _)| {
            assert_eq!(all(&before, "smile"), all(&after, "smile"));
            after.takes[0].layers.iter().map(|layer| layer.name.clone()).collect::<Vec<_>>()
        })
    };
    let swaps =
        only(vec![base(), named("mid", LayerMode::Additive, 2.0), named("top", LayerMode::Additive, 4.0)]);
    assert_eq!(swaps.unwrap(), ["base", "mid"]);
    let stuck =
        only(vec![base(), named("mid", LayerMode::Override, 2.0), named("top", LayerMode::Additive, 4.0)]);
    assert!(matches!(stuck, Err(LayersError::Between { stays, .. }) if stays == "mid"));
    let mut muted = named("mid", LayerMode::Override, 2.0);
    muted.muted = true;
    assert_eq!(only(vec![base(), muted, named("top", LayerMode::Additive, 4.0)]).unwrap(), ["base", "mid"]);
    assert_eq!(only(vec![base()]), Err(LayersError::NoLayer("top".into())));
}

#[test]
fn switches_and_samples_flatten_as_what_they_are() {
    let lamp = |keys: &[(i64, bool)]| {
        let keys = keys.iter().map(|&(frame, on)| (RATE.ticks(frame), Discrete::Switch(on))).collect();
        track("lamp", Controller::Discrete(DiscreteCurve::new(keys).unwrap()))
    };
    let samples = Samples {
        start: RATE.ticks(0),
        rate: RATE,
        kind: SampleKind::Number,
        values: (0..=60).map(|frame| f64::from(frame) * 0.1).collect(),
    };
    let fade = Curve::new(vec![Key::new(RATE.ticks(10), 0.0), Key::new(RATE.ticks(20), 1.0)]).unwrap();
    let before = scene(vec![
        Layer::base(vec![lamp(&[(0, false), (30, true)]), track("smile", Controller::Samples(samples))]),
        layer(
            "top",
            LayerMode::Override,
            Weight::Curve(fade),
            vec![
                lamp(&[(0, true), (40, false)]),
                track("smile", Controller::Components(vec![constant(1.0)])),
            ],
        ),
    ]);
    let (after, ledger) = flatten(&before, &FlattenOptions::default()).unwrap();
    let fates: Vec<Fate> = ledger.entries.iter().map(|entry| entry.fate).collect();
    assert_eq!(fates, [Fate::Exact, Fate::Sampled]);
    let frames = || (0..=60).map(|frame| RATE.ticks(frame).as_f64());
    assert_eq!(values(&before, "lamp", frames()), values(&after, "lamp", frames()));
    let pairs = values(&before, "smile", frames()).into_iter().zip(values(&after, "smile", frames()));
    assert!(pairs.into_iter().all(|(a, b)| (number(&a) - number(&b)).abs() < 1e-12));
}

#[test]
fn a_split_touches_only_what_was_changed() {
    let curve = |middle: f64| {
        let keys = [(0, 0.0), (10, 1.0), (20, 2.0), (30, middle), (40, 2.0), (50, 1.0), (60, 0.0)];
        let key = |(frame, value)| Key::new(RATE.ticks(frame), value).with_slope(0.0);
        Curve::new(keys.map(key).to_vec()).unwrap().with_behaviours(Behaviour::Held, Behaviour::Held)
    };
    let with = |middle| {
        scene(vec![Layer::base(vec![
            track("smile", Controller::Components(vec![curve(middle)])),
            track("translation", Controller::Components(vec![curve(3.0), curve(3.0), curve(3.0)])),
        ])])
    };
    let options = SplitOptions { name: "fix".into(), only: Vec::new(), tolerance: Default::default() };
    let (result, _) = split(&with(3.0), &with(5.0), &options).unwrap();
    let fix = &result.takes[0].layers[1];
    assert_eq!((fix.name.as_str(), fix.mode, fix.tracks.len()), ("fix", LayerMode::Additive, 1));
    let keys: Vec<f64> =
        fix.tracks[0].controller.curves()[0].keys().iter().map(|key| RATE.frame(key.time)).collect();
    assert_eq!(keys, [20.0, 30.0, 40.0], "keys only where the difference moves");
    assert!(matches!(split(&result, &with(5.0), &options), Err(LayersError::Taken(_))));
    let (same, ledger) = split(&with(3.0), &with(3.0), &options).unwrap();
    assert!(same.takes[0].layers[1].tracks.is_empty() && ledger.entries.is_empty());
}

#[test]
fn settings_change_what_they_name() {
    let mut scene = scene(vec![Layer::base(vec![]), layer("a", LayerMode::Additive, Weight::FULL, vec![])]);
    let settings = LayerSettings {
        weight: Some(0.5),
        muted: Some(true),
        name: Some("b".into()),
        ..LayerSettings::default()
    };
    assert_eq!(set(&mut scene, "a", &settings), Ok(1));
    let layer = &scene.takes[0].layers[1];
    assert_eq!((layer.name.as_str(), layer.weight.constant(), layer.muted), ("b", Some(0.5), true));
    assert_eq!(layer.mode, LayerMode::Additive);
    assert_eq!(set(&mut scene, "a", &settings), Err(LayersError::NoLayer("a".into())));
    let taken = LayerSettings { name: Some("base".into()), ..LayerSettings::default() };
    assert_eq!(set(&mut scene, "b", &taken), Err(LayersError::Taken("base".into())));
}
