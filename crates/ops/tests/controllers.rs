//! Controllers turned into each other: docs/controllers.md says which ways are exact, and this says whether it is true.

use std::collections::BTreeMap;

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Key};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, from_vector};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_ops::conversion::{ControllerType, ConversionContext, convert_controller};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind,
    Samples, StackEntry, TcbCurve, TcbKey, TcbKeys, Weight,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::scene::PropertyKind;
use nimble_curve_testing::RATE;

const DOC: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/controllers.md");

fn curve(keys: &[(i64, f64)]) -> Curve {
    Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect()).unwrap()
}

fn wave() -> Curve {
    curve(&[(0, 0.1), (9, 0.8), (17, -0.4), (31, 0.6), (48, 0.0)])
}

fn tcb<V: Copy>(keys: &[(i64, V)], ease: f64) -> Vec<TcbKey<V>> {
    let key = |(index, &(frame, value)): (usize, &(i64, V))| TcbKey {
        time: RATE.ticks(frame),
        value,
        tension: 0.2,
        continuity: 0.1 * index as f64 - 0.2,
        bias: -0.1,
        ease_in: ease,
        ease_out: 0.5 * ease,
    };
    keys.iter().enumerate().map(key).collect()
}

fn tcb_curve(keys: TcbKeys) -> Controller {
    Controller::Tcb(TcbCurve { keys, before: Behaviour::Held, after: Behaviour::Held })
}

fn quaternion_keys(way: QuaternionInterpolation) -> Controller {
    let key = |(frame, v): (i64, [f64; 3])| QuaternionKey {
        time: RATE.ticks(frame),
        value: from_vector(DVec3::from(v)),
        interpolation: way,
        tangent_in: DVec4::new(0.1, 0.0, -0.2, 0.0),
        tangent_out: DVec4::new(0.1, 0.0, -0.2, 0.0),
    };
    let keys = [(0, [0.1, 0.0, 0.0]), (12, [0.5, 0.4, -0.1]), (30, [-0.3, 0.2, 0.6]), (48, [0.0; 3])];
    Controller::Quaternion(QuaternionCurve {
        keys: keys.map(key).to_vec(),
        before: Behaviour::Held,
        after: Behaviour::Held,
    })
}

fn stack(controller: Controller, weight: Weight) -> Controller {
    let entry = |name: &str, weight, controller| StackEntry { name: name.into(), weight, controller };
    Controller::Stack(vec![
        entry("a", weight, controller.clone()),
        entry("b", Weight::Constant(0.25), controller),
    ])
}

/// Every type of controller on a number and on a rotation, by its name in the table.
fn sources() -> Vec<(&'static str, PropertyKind, Value, Controller)> {
    let number = PropertyKind::Number(Quantity::Number);
    let at_zero = Value::Number(0.0);
    let rotation = Value::Euler { order: RotationOrder::Zxy, angles: DVec3::ZERO };
    let numbers = |values: Vec<f64>, kind| Samples { start: RATE.ticks(0), rate: RATE, kind, values };
    let samples = || {
        let cursor = wave();
        let values = (0..=48).map(|frame| cursor.value_at(RATE.ticks(frame).as_f64()).unwrap()).collect();
        Controller::Samples(numbers(values, SampleKind::Number))
    };
    let rotation_samples = || {
        let path = quaternion_keys(QuaternionInterpolation::Squad);
        let mut sampler =
            Sampler::new(&path, PropertyKind::Rotation, Value::Quaternion(DQuat::IDENTITY)).unwrap();
        let rows = (0..=48).flat_map(|frame| sampler.value_at(RATE.ticks(frame).as_f64()).numbers().unwrap());
        Controller::Samples(numbers(rows.collect(), SampleKind::Quaternion))
    };
    let euler = |order| {
        Controller::Euler(EulerCurves {
            order,
            curves: [wave(), wave().affine(-0.5, 0.2), wave().affine(0.7, 0.0)],
        })
    };
    let fade = || Weight::Curve(curve(&[(0, 0.2), (48, 1.0)]));
    let procedural = |controller| {
        Controller::Procedural(Procedural {
            kind: "expression".into(),
            text: "sin(time)".into(),
            sampled: Some(Box::new(controller)),
        })
    };
    let q = |v: [f64; 3]| from_vector(DVec3::from(v));
    let turns =
        [(0, q([0.0; 3])), (14, q([0.4, 0.3, 0.0])), (33, q([-0.2, 0.5, 0.3])), (48, q([0.1, 0.0, 0.0]))];
    let heights = [(0, 0.0), (14, 0.7), (33, -0.2), (48, 0.1)];
    let of_number = vec![
        ("constant", Controller::Constant(Value::Number(0.5))),
        ("component curves", Controller::Components(vec![wave()])),
        ("tension-continuity-bias", tcb_curve(TcbKeys::Number(tcb(&heights, 0.0)))),
        ("tension-continuity-bias, eased", tcb_curve(TcbKeys::Number(tcb(&heights, 0.4)))),
        ("samples", samples()),
        ("stack, constant weights", stack(Controller::Components(vec![wave()]), Weight::FULL)),
        ("stack, animated weights", stack(Controller::Components(vec![wave()]), fade())),
        ("procedural", procedural(Controller::Components(vec![wave()]))),
    ];
    let of_rotation = vec![
        (
            "constant",
            Controller::Constant(Value::Euler {
                order: RotationOrder::Xyz,
                angles: DVec3::new(0.1, 0.2, 0.3),
            }),
        ),
        ("angle curves", euler(RotationOrder::Zxy)),
        ("angle curves, another order", euler(RotationOrder::Xyz)),
        ("quaternion keys, slerp", quaternion_keys(QuaternionInterpolation::Slerp)),
        ("quaternion keys, squad", quaternion_keys(QuaternionInterpolation::Squad)),
        ("quaternion keys, cubic", quaternion_keys(QuaternionInterpolation::Cubic)),
        ("quaternion keys, step", quaternion_keys(QuaternionInterpolation::Step)),
        ("tension-continuity-bias", tcb_curve(TcbKeys::Rotation(tcb(&turns, 0.0)))),
        ("tension-continuity-bias, eased", tcb_curve(TcbKeys::Rotation(tcb(&turns, 0.4)))),
        ("samples", rotation_samples()),
        ("stack, constant weights", stack(euler(RotationOrder::Zxy), Weight::FULL)),
        ("stack, animated weights", stack(euler(RotationOrder::Zxy), fade())),
        ("procedural", procedural(euler(RotationOrder::Zxy))),
    ];
    let lamp = vec![(RATE.ticks(0), Discrete::Switch(false)), (RATE.ticks(9), Discrete::Switch(true))];
    let lamp = Controller::Discrete(DiscreteCurve::new(lamp).unwrap());
    let off = Value::Discrete(Discrete::Switch(false));
    (of_number.into_iter().map(|(name, c)| (name, number, at_zero.clone(), c)))
        .chain(of_rotation.into_iter().map(|(name, c)| (name, PropertyKind::Rotation, rotation.clone(), c)))
        .chain([("discrete keys", PropertyKind::Discrete, off, lamp)])
        .collect()
}

const TOLERANCE: f64 = 0.001;

fn setting(kind: PropertyKind, rest: &Value) -> ConversionContext {
    let range = TimeRange::new(RATE.ticks(0), RATE.ticks(48));
    ConversionContext { kind, rest: rest.clone(), tolerance: TOLERANCE, rate: RATE, range }
}

/// The largest difference between two controllers at some times.
fn difference(a: &Controller, b: &Controller, kind: PropertyKind, rest: &Value, per_frame: i64) -> f64 {
    let (mut a, mut b) =
        (Sampler::new(a, kind, rest.clone()).unwrap(), Sampler::new(b, kind, rest.clone()).unwrap());
    (0..=48 * per_frame)
        .map(|step| {
            let time = step as f64 * RATE.ticks_per_frame() / per_frame as f64;
            let (x, y) = (a.value_at(time), b.value_at(time));
            match (x.rotation(), y.rotation()) {
                (Some(x), Some(y)) => angle_between(x, y),
                _ => (x.numbers().unwrap()[0] - y.numbers().unwrap()[0]).abs(),
            }
        })
        .fold(0.0, f64::max)
}

/// The word for what becomes of a controller, its claim checked.
fn outcome(
    name: &str,
    kind: PropertyKind,
    rest: &Value,
    controller: &Controller,
    form: ControllerType,
) -> &'static str {
    let Ok(changed) = convert_controller(controller, form, &setting(kind, rest)) else { return "—" };
    // There is nothing between samples to compare with.
    let is_sampled = matches!(form, ControllerType::Samples(_)) || name == "samples";
    let worst = difference(controller, &changed.controller, kind, rest, if is_sampled { 1 } else { 16 });
    let (word, allowed) = match changed.fate {
        Fate::Kept => ("kept", 1e-15),
        Fate::Exact => ("exact", 1e-12),
        Fate::Refitted => ("refitted", TOLERANCE),
        Fate::Sampled => ("sampled", 1e-12),
        Fate::LeftOut | Fate::NotSelected => ("left out", 0.0),
    };
    assert!(worst <= allowed, "{name} to {form:?} is said to be {word}, but off by {worst}");
    if changed.fate == Fate::Refitted {
        let said = changed.error.unwrap().largest;
        assert!(worst <= said * 1.02 + 1e-9, "{name} to {form:?}: said {said}, is {worst}");
        let keys = changed.controller.key_count();
        assert!(keys < 48 * 3 / 2, "{name} to {form:?} has {keys} keys");
    }
    word
}

#[test]
fn the_table_in_the_docs_is_what_happens() {
    let forms = [
        ControllerType::Curves,
        ControllerType::Quaternion,
        ControllerType::Samples(RATE),
        ControllerType::Constant,
    ];
    let mut lines: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (name, kind, rest, controller) in sources() {
        let words: Vec<&str> =
            forms.iter().map(|&form| outcome(name, kind, &rest, &controller, form)).collect();
        let section = if kind == PropertyKind::Rotation { "rotations" } else { "numbers" };
        // Quaternion keys are for rotations only.
        let shown: Vec<&str> = match section {
            "rotations" => words,
            _ => vec![words[0], words[2], words[3]],
        };
        lines.entry(section).or_default().push(format!("| {name} | {} |", shown.join(" | ")));
    }
    let doc = std::fs::read_to_string(DOC).unwrap();
    for (section, lines) in lines {
        let table = lines.join("\n");
        assert!(doc.contains(&table), "docs/controllers.md should say of {section}:\n{table}");
    }
}

#[test]
fn what_never_moves_becomes_a_constant() {
    let number = PropertyKind::Number(Quantity::Number);
    let still = Controller::Components(vec![curve(&[(0, 2.0), (10, 2.0)])]);
    let changed =
        convert_controller(&still, ControllerType::Constant, &setting(number, &Value::Number(0.0))).unwrap();
    assert_eq!((changed.controller, changed.fate), (Controller::Constant(Value::Number(2.0)), Fate::Exact));
    let keys = tcb(&[(0, DQuat::IDENTITY), (20, DQuat::IDENTITY)], 0.3);
    let rest = Value::Euler { order: RotationOrder::Xyz, angles: DVec3::ZERO };
    let changed = convert_controller(
        &tcb_curve(TcbKeys::Rotation(keys)),
        ControllerType::Constant,
        &setting(PropertyKind::Rotation, &rest),
    );
    assert!(matches!(changed.unwrap().controller, Controller::Constant(Value::Quaternion(_))));
}

#[test]
fn quaternion_keys_of_many_turns_keep_them_all() {
    // Five turns in two seconds: no two neighbouring keys may be half a turn apart.
    let spin = EulerCurves {
        order: RotationOrder::Xyz,
        curves: [curve(&[(0, 0.0), (48, 10.0 * std::f64::consts::PI)]), Curve::default(), Curve::default()],
    };
    let rest = Value::Euler { order: RotationOrder::Xyz, angles: DVec3::ZERO };
    let setting = setting(PropertyKind::Rotation, &rest);
    let source = Controller::Euler(spin);
    let made = convert_controller(&source, ControllerType::Quaternion, &setting).unwrap().controller;
    assert!(difference(&source, &made, PropertyKind::Rotation, &rest, 16) <= TOLERANCE);
    let back = convert_controller(&made, ControllerType::Curves, &setting).unwrap().controller;
    let mut sampler = Sampler::new(&back, PropertyKind::Rotation, rest.clone()).unwrap();
    let Value::Euler { angles, .. } = sampler.value_at(RATE.ticks(48).as_f64()) else { panic!() };
    assert!((angles.x - 10.0 * std::f64::consts::PI).abs() < 0.01, "{angles}");
}
