//! Faults put into right results: the judge or the inventory names every one.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Quantity;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::bake::{BakeOptions, bake};
use nimble_curve_ops::controllers::{ConvertOptions, convert_controllers};
use nimble_curve_ops::conversion::ControllerType;
use nimble_curve_ops::layers::{FlattenOptions, flatten};
use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
use nimble_curve_ops::retime::shifted;
use nimble_curve_ops::select::{Selection, select};
use nimble_curve_ops::space::in_space;
use nimble_curve_ops::unbake::{UnbakeOptions, unbake};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
    Weight,
};
use nimble_curve_scene::judge::{Claim, Limits, Sampling, Scope, inventory, judge};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::rig::{Attribute, AttributeKind, Node, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{
    Clip, Layer, LayerMode, Marker, NodeSet, RotationMixing, Scene, Take, Target, Track,
};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

const LAST: i64 = 24;

fn curve(values: &[f64]) -> Curve {
    let step = LAST / (values.len() as i64 - 1);
    let key =
        |(index, value): (usize, &f64)| Key::new(RATE.ticks(index as i64 * step), *value).with_slope(0.0);
    Curve::new(values.iter().enumerate().map(key).collect()).unwrap()
}

fn euler(order: RotationOrder, values: [&[f64]; 3]) -> Controller {
    Controller::Euler(EulerCurves { order, curves: values.map(curve) })
}

/// Two rigs of which everything matters: layers that add, one that is muted, numbers, switches, samples and turns.
fn whole() -> Scene {
    let joint = |name: &str, x: f64, order| Node::new(name, NodeKind::Joint, DVec3::new(x, 1.0, 0.0), order);
    let mut bramble = Rig::new("bramble");
    let hips = bramble.add(None, joint("hips", 0.0, RotationOrder::Xyz)).unwrap();
    let mut arm = joint("arm", 0.3, RotationOrder::Zyx);
    arm.bind = Some(DAffine3::from_translation(DVec3::new(0.3, 2.0, 0.0)));
    let bend = AttributeKind::Number { default: 0.0, min: None, max: None, quantity: Quantity::Number };
    arm.attributes.push(Attribute { name: "bend".into(), kind: bend });
    arm.attributes.push(Attribute { name: "grip".into(), kind: AttributeKind::Switch { default: false } });
    let arm = bramble.add(Some(hips), arm).unwrap();
    let mut cart = Rig::new("cart");
    let body = cart.add(None, joint("body", 2.0, RotationOrder::Yxz)).unwrap();
    let wheel = cart.add(Some(body), joint("wheel", 0.5, RotationOrder::Xyz)).unwrap();
    let track = |rig, node, property: &str, controller| Track {
        target: Target { rig, node, property: property.into() },
        controller,
    };
    let key = |frame: i64, turn: f64| QuaternionKey {
        time: RATE.ticks(frame),
        value: DQuat::from_rotation_y(turn),
        interpolation: QuaternionInterpolation::Slerp,
        tangent_in: glam::DVec4::ZERO,
        tangent_out: glam::DVec4::ZERO,
    };
    let keys = vec![key(0, 0.2), key(12, 1.4), key(LAST, -0.3)];
    let turning = QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held };
    let rows = (0..=LAST).flat_map(|frame| [0.1 * frame as f64, 0.5, (frame as f64 * 0.3).sin()]);
    let samples =
        Samples { start: RATE.ticks(0), rate: RATE, kind: SampleKind::Vector, values: rows.collect() };
    let switches = vec![(RATE.ticks(0), Discrete::Switch(false)), (RATE.ticks(10), Discrete::Switch(true))];
    let base = Layer::base(vec![
        track(
            0,
            hips,
            "translation",
            Controller::Components(vec![
                curve(&[0.0, 0.8, 0.3]),
                curve(&[1.0, 1.2, 0.9]),
                curve(&[0.0, 0.4]),
            ]),
        ),
        track(
            0,
            hips,
            "scale",
            Controller::Components(vec![curve(&[1.0, 1.3]), curve(&[1.0, 0.8]), curve(&[1.0, 1.1])]),
        ),
        track(
            0,
            arm,
            "rotation",
            euler(RotationOrder::Zyx, [&[0.1, 0.9, -0.4], &[0.0, 0.5], &[0.3, -0.7, 0.2]]),
        ),
        track(0, arm, "bend", Controller::Components(vec![curve(&[0.0, 1.0, 0.25])])),
        track(0, arm, "grip", Controller::Discrete(DiscreteCurve::new(switches).unwrap())),
        track(1, body, "rotation", Controller::Quaternion(turning)),
        track(1, body, "translation", Controller::Samples(samples)),
        track(1, wheel, "rotation", euler(RotationOrder::Xyz, [&[0.0, 12.0], &[0.0, 0.1], &[0.2, 0.0]])),
    ]);
    let layer = |name: &str, mode, muted, tracks| Layer {
        name: name.into(),
        mode,
        rotations: RotationMixing::Angles,
        weight: Weight::Constant(0.5),
        muted,
        tracks,
    };
    let added = layer(
        "added",
        LayerMode::Additive,
        false,
        vec![
            track(
                0,
                hips,
                "translation",
                Controller::Components(vec![curve(&[0.0, 0.4]), curve(&[0.1, 0.0]), curve(&[0.0, -0.2])]),
            ),
            track(0, arm, "rotation", euler(RotationOrder::Zyx, [&[0.0, 0.4], &[0.2, 0.0], &[0.0, 0.3]])),
        ],
    );
    let muted = layer(
        "old",
        LayerMode::Override,
        true,
        vec![track(0, arm, "bend", Controller::Components(vec![curve(&[1.0, 0.0])]))],
    );
    let take = Take {
        name: "walk".into(),
        folder: None,
        range: TimeRange::new(RATE.ticks(0), RATE.ticks(LAST)),
        clips: vec![Clip {
            name: "step".into(),
            range: TimeRange::new(RATE.ticks(0), RATE.ticks(12)),
            note: Some("left".into()),
        }],
        markers: vec![Marker { time: RATE.ticks(6), name: "footfall".into() }],
        layers: vec![base, added, muted],
    };
    let rest = Take { name: "rest".into(), markers: Vec::new(), clips: Vec::new(), ..take.clone() };
    let set = NodeSet { name: "arms".into(), patterns: vec!["arm*".into()] };
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![bramble, cart],
        sets: vec![set],
        constraints: Vec::new(),
        takes: vec![take, rest],
    }
}

/// A fault; whether it could be put in.
type Fault = (&'static str, fn(&mut Scene) -> bool);

fn tracks(scene: &mut Scene) -> impl Iterator<Item = &mut Track> {
    scene.takes[0].layers.iter_mut().flat_map(|layer| &mut layer.tracks)
}

fn track<'a>(scene: &'a mut Scene, rig: usize, property: &str) -> Option<&'a mut Track> {
    tracks(scene).find(|track| track.target.rig == rig && track.target.property == property)
}

/// The curves of the first track of some kind, whatever its type.
fn change_numbers(scene: &mut Scene, rig: usize, property: &str, by: fn(f64) -> f64) -> bool {
    let Some(track) = track(scene, rig, property) else { return false };
    let bent = |curve: &Curve| {
        let keys = curve.keys().iter().map(|key| Key {
            value: by(key.value),
            value_before: key.value_before.map(by),
            ..*key
        });
        // No curve holds what is no number.
        Curve::new(keys.collect()).unwrap_or_else(|_| curve.clone())
    };
    match &mut track.controller {
        Controller::Components(curves) => curves[0] = bent(&curves[0]),
        Controller::Euler(euler) => euler.curves[0] = bent(&euler.curves[0]),
        Controller::Samples(samples) => {
            let width = samples.kind.width();
            samples.values.iter_mut().step_by(width).for_each(|value| *value = by(*value));
        }
        Controller::Quaternion(curve) => {
            curve.keys.iter_mut().for_each(|key| key.value = DQuat::from_rotation_x(by(0.5)) * key.value)
        }
        _ => return false,
    }
    true
}

fn edit_curve(scene: &mut Scene, property: &str, edit: fn(&mut Vec<Key>)) -> bool {
    let Some(track) = track(scene, 0, property) else { return false };
    let curve = match &mut track.controller {
        Controller::Components(curves) => &mut curves[0],
        Controller::Euler(euler) => &mut euler.curves[0],
        _ => return false,
    };
    let mut keys = curve.clone().into_keys();
    edit(&mut keys);
    *curve = Curve::new(keys).unwrap();
    true
}

fn layer_of(scene: &mut Scene, name: &str, edit: fn(&mut Layer)) -> bool {
    let found = scene.takes[0].layers.iter_mut().find(|layer| layer.name == name);
    found.map(edit).is_some()
}

const FAULTS: [Fault; 34] = [
    ("a place a tenth of a unit off", |s| change_numbers(s, 0, "translation", |v| v + 0.1)),
    ("a place with another sign", |s| change_numbers(s, 0, "translation", |v| -v - 0.1)),
    ("an angle a fifth of a degree off", |s| change_numbers(s, 0, "rotation", |v| v + 0.0035)),
    ("an angle with another sign", |s| change_numbers(s, 0, "rotation", |v| -v - 0.1)),
    ("a wheel a turn of a degree off", |s| change_numbers(s, 1, "rotation", |v| v + 0.02)),
    ("a factor one part in a hundred off", |s| change_numbers(s, 0, "scale", |v| v * 1.01)),
    ("a number a hundredth off", |s| change_numbers(s, 0, "bend", |v| v + 0.01)),
    ("a prop a tenth of a unit off", |s| change_numbers(s, 1, "translation", |v| v + 0.1)),
    ("a number that is none", |s| {
        change_numbers(s, 1, "translation", |_| f64::MAX * 10.0) && tracks(s).any(|_| true)
    }),
    ("a key a frame late", |s| {
        edit_curve(s, "bend", |keys| {
            if keys.len() > 2 { keys[1].time = keys[1].time + RATE.ticks(1) } else { keys[0].value += 1.0 }
        })
    }),
    ("a key gone", |s| {
        edit_curve(s, "bend", |keys| {
            if keys.len() > 2 {
                keys.remove(1);
            } else {
                keys.clear()
            }
        })
    }),
    ("a hold in place of a curve", |s| {
        edit_curve(s, "bend", |keys| keys[0].interpolation = Interpolation::Hold)
    }),
    ("a line in place of a curve", |s| {
        edit_curve(s, "translation", |keys| keys[0].interpolation = Interpolation::Linear)
    }),
    ("a slope", |s| {
        edit_curve(s, "translation", |keys| *keys.first_mut().unwrap() = keys[0].with_slope(3.0))
    }),
    ("a jump", |s| {
        edit_curve(s, "translation", |keys| {
            let last = keys.len() - 1;
            keys[last].value_before = Some(9.0)
        })
    }),
    ("a gap", |s| edit_curve(s, "bend", |keys| keys[0].interpolation = Interpolation::None)),
    ("a switch the other way", |s| match track(s, 0, "grip") {
        Some(Track { controller, .. }) => {
            *controller = Controller::Discrete(
                DiscreteCurve::new(vec![(RATE.ticks(0), Discrete::Switch(true))]).unwrap(),
            );
            true
        }
        None => false,
    }),
    ("a switch a frame late", |s| match track(s, 0, "grip") {
        Some(Track { controller, .. }) => {
            let keys =
                vec![(RATE.ticks(0), Discrete::Switch(false)), (RATE.ticks(11), Discrete::Switch(true))];
            *controller = Controller::Discrete(DiscreteCurve::new(keys).unwrap());
            true
        }
        None => false,
    }),
    ("a track gone", |s| {
        s.takes[0].layers.iter_mut().any(|layer| {
            let before = layer.tracks.len();
            layer.tracks.retain(|track| track.target.property != "bend");
            before > layer.tracks.len()
        })
    }),
    ("a rig's tracks gone", |s| {
        s.takes[0].layers[0].tracks.retain(|track| track.target.rig == 0);
        true
    }),
    ("tracks on the other rig", |s| {
        let Some(track) = track(s, 0, "translation") else { return false };
        track.target.rig = 1;
        true
    }),
    ("a take a frame late", |s| {
        let range = s.takes[0].range;
        s.takes[0] = shifted(&s.takes[0], RATE.ticks(1));
        s.takes[0].range = range;
        true
    }),
    ("a take gone", |s| {
        s.takes.pop();
        true
    }),
    ("takes in each other's place", |s| {
        let name = s.takes[0].name.clone();
        s.takes[0].name = std::mem::replace(&mut s.takes[1].name, name);
        change_numbers(s, 0, "translation", |v| v + 1.0)
    }),
    ("a layer muted", |s| layer_of(s, "added", |layer| layer.muted = true)),
    ("a layer's weight", |s| layer_of(s, "added", |layer| layer.weight = Weight::Constant(0.6))),
    ("a layer's mode", |s| layer_of(s, "added", |layer| layer.mode = LayerMode::Override)),
    ("a muted layer gone", |s| {
        let before = s.takes[0].layers.len();
        s.takes[0].layers.retain(|layer| layer.name != "old");
        before > s.takes[0].layers.len()
    }),
    ("a muted layer emptied", |s| layer_of(s, "old", |layer| layer.tracks.clear())),
    ("a marker gone", |s| s.takes[0].markers.pop().is_some()),
    ("a clip's note gone", |s| s.takes[0].clips.first_mut().is_some_and(|clip| clip.note.take().is_some())),
    ("a set gone", |s| s.sets.pop().is_some()),
    ("a bind pose gone", |s| {
        let id = s.rigs[0].nodes().last().unwrap().0;
        s.rigs[0].node_mut(id).unwrap().bind.take().is_some()
    }),
    ("a rest place a centimetre off", |s| {
        let id = s.rigs[0].nodes().last().unwrap().0;
        let Some(OpValue::Translate(v)) =
            s.rigs[0].node_mut(id).unwrap().transform.first_mut().map(|op| &mut op.value)
        else {
            return false;
        };
        v.x += 0.01 / s.space.metres_per_unit;
        true
    }),
];

/// What is said of a result, a sentence each.
fn said(source: &Scene, result: &Scene, claim: &Claim, scope: Scope) -> Vec<String> {
    let tolerance = Tolerance::default();
    let of = |quantity| tolerance.of(quantity, &result.space) * (1.0 + 1e-6);
    let limits = Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        number: of(Quantity::Number),
        ..Limits::NONE
    };
    let verdict = judge(source, result, claim, limits, 1.0);
    let mut all = inventory(source, result, claim, scope);
    all.extend(verdict.missing.clone());
    all.extend(
        verdict
            .beyond()
            .map(|(judged, error, _)| format!("{:?} {:?} {}", judged.part, judged.source, error.largest)),
    );
    all
}

#[test]
fn every_fault_in_a_result_is_named() {
    let source = whole();
    let order = NewOrder::To(RotationOrder::Yzx);
    let reordering =
        ReorderOptions { to: order, only: Vec::new(), tolerance: 0.05_f64.to_radians(), handles: None };
    let samples = BakeOptions::default();
    let curves = ConvertOptions {
        form: ControllerType::Curves,
        only: Vec::new(),
        tolerance: Tolerance::default().times(0.3),
    };
    let finer = Tolerance::default().times(0.3);
    let flattening = FlattenOptions { tolerance: finer, ..FlattenOptions::default() };
    let part = Selection { range: Some(source.takes[0].range), tolerance: finer, ..Selection::default() };
    let unbaking = UnbakeOptions { tolerance: finer, ..UnbakeOptions::default() };
    let unbaked = unbake(&source, &unbaking).unwrap();
    let done: Vec<(&str, (Scene, Ledger), Sampling, Scope)> = vec![
        ("nothing", (source.clone(), Ledger::default()), Sampling::Plain, Scope::Everything),
        ("space", in_space(&source, &Space::CENTIMETRES_Z_UP), Sampling::Plain, Scope::Everything),
        ("reorder", reorder(&source, &reordering).unwrap(), Sampling::Plain, Scope::Everything),
        ("flatten", flatten(&source, &flattening).unwrap(), Sampling::Plain, Scope::AllButLayers),
        ("bake", bake(&source, &samples), Sampling::Result, Scope::Everything),
        ("unbake", (unbaked.scene, unbaked.ledger), Sampling::KeysOfSource, Scope::Everything),
        ("curves", convert_controllers(&source, &curves), Sampling::Plain, Scope::Everything),
        ("select", select(&source, &part).unwrap(), Sampling::Plain, Scope::Everything),
    ];
    let mut count = 0;
    for (name, (result, ledger), sampling, scope) in &done {
        let claim = |result: &Scene| Claim {
            sampling: *sampling,
            ..Claim::same(&source, result).excusing(&source, ledger)
        };
        let right = said(&source, result, &claim(result), *scope);
        assert_eq!(right, Vec::<String>::new(), "{name} by itself");
        let mut own = 0;
        for (fault, put_in) in FAULTS {
            let mut wrong = result.clone();
            if !put_in(&mut wrong) || wrong == *result {
                continue;
            }
            let found = said(&source, &wrong, &claim(&wrong), *scope);
            assert!(!found.is_empty(), "{name}: nobody saw {fault}");
            own += 1;
        }
        // Some faults cannot be put into some results, such as a key gone into samples.
        assert!(own >= 17, "{name}: only {own} faults could be put in");
        count += own;
    }
    assert!(count >= 180, "{count} faults");
}
