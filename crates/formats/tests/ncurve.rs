//! Our own format: complete, exact, and clear about mistakes.

use std::path::Path;

use nimble_curve_core::controller::{Controller, EulerCurves, Weight};
use nimble_curve_core::curve::{
    AxisSet, Behaviour, Curve, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks,
};
use nimble_curve_core::rig::{Node, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_formats::ncurve::{read, schema, write};
use nimble_curve_formats::{Assume, read_bytes};
use proptest::prelude::*;

const DEMO: &str = include_str!("../../cli/demo/bramble.ncurve");

#[test]
fn the_authored_demo_survives_bit_for_bit() {
    let scene = read(DEMO).unwrap();
    assert_eq!(write(&scene), DEMO);
    assert_eq!(read(&write(&scene)).unwrap(), scene);
}

#[test]
fn the_authored_demo_uses_every_type_of_controller() {
    let scene = read(DEMO).unwrap();
    let mut types: Vec<&str> =
        scene.takes[0].tracks().map(|(_, track)| track.controller.type_name()).collect();
    types.sort_unstable();
    types.dedup();
    assert_eq!(types.len(), 9, "{types:?}");
}

#[test]
fn a_key_is_one_line() {
    let long: Vec<&str> = DEMO.lines().filter(|line| line.len() > 200).collect();
    assert!(long.is_empty(), "{long:?}");
    assert!(DEMO.lines().any(|line| line.trim().starts_with("{\"frame\": 25, \"value\": ")), "{DEMO}");
}

fn any_mode() -> impl Strategy<Value = TangentMode> {
    prop::sample::select(vec![
        TangentMode::Auto,
        TangentMode::AutoNoOvershoot,
        TangentMode::Flat,
        TangentMode::Linear,
        TangentMode::Free,
    ])
}

fn any_tangent() -> impl Strategy<Value = Tangent> {
    (any_mode(), any::<bool>(), 0.0..1e8_f64, -50.0..50.0_f64).prop_map(|(mode, weighted, dt, slope)| {
        Tangent {
            mode,
            shape: if weighted { TangentShape::Handle { dt, dv: slope } } else { TangentShape::Slope(slope) },
        }
    })
}

fn any_key() -> impl Strategy<Value = (i64, Key)> {
    let interpolation = prop::sample::select(vec![
        Interpolation::Hold,
        Interpolation::Linear,
        Interpolation::Cubic,
        Interpolation::None,
    ]);
    let value = -400.0..400.0_f64;
    (
        1..100_000_000_i64,
        value.clone(),
        prop::option::of(value),
        interpolation,
        any_tangent(),
        any_tangent(),
        any::<[bool; 3]>(),
        prop::collection::vec(0..3_usize, 0..3),
    )
        .prop_map(
            |(
                gap,
                value,
                value_before,
                interpolation,
                tangent_in,
                tangent_out,
                [joined, added, fitted],
                axes,
            )| {
                let time = Ticks::ZERO;
                let axes = axes.into_iter().fold(AxisSet::NONE, AxisSet::with);
                let tangents = (tangent_in, tangent_out);
                (
                    gap,
                    Key {
                        value_before,
                        interpolation,
                        tangent_in: tangents.0,
                        tangent_out: tangents.1,
                        joined,
                        added,
                        fitted,
                        axes,
                        ..Key::new(time, value)
                    },
                )
            },
        )
}

fn any_curve() -> impl Strategy<Value = Curve> {
    let behaviour = prop_oneof![
        Just(Behaviour::Held),
        Just(Behaviour::Linear),
        Just(Behaviour::LoopOffset),
        Just(Behaviour::Loop),
        Just(Behaviour::LoopOscillate),
        Just(Behaviour::None),
        (-9.0..9.0_f64).prop_map(Behaviour::Sloped),
    ];
    (prop::collection::vec(any_key(), 0..8), behaviour.clone(), behaviour).prop_map(
        |(keys, before, after)| {
            let mut time = -200_000_000;
            let keys = keys.into_iter().map(|(gap, key)| {
                time += gap;
                Key { time: Ticks(time), ..key }
            });
            Curve::new(keys.collect()).unwrap().with_behaviours(before, after)
        },
    )
}

proptest! {
    #[test]
    fn any_curve_survives_bit_for_bit(
        curves in prop::array::uniform3(any_curve()), weight in any_curve(),
        rate in prop::sample::select(vec!["24", "30000/1001", "120", "1000/13"])
    ) {
        let mut rig = Rig::new("r");
        let node = rig.add(None, Node::new("n", NodeKind::Joint, Default::default(), RotationOrder::Zyx)).unwrap();
        let target = |property: &str| Target { rig: 0, node, property: property.into() };
        let euler = Controller::Euler(EulerCurves { order: RotationOrder::Yzx, curves: curves.clone() });
        let mut layer = Layer::base(vec![
            Track { target: target("rotation"), controller: euler },
            Track { target: target("translation"), controller: Controller::Components(curves.to_vec()) },
        ]);
        layer.weight = Weight::Curve(weight);
        let scene = Scene {
            rate: rate.parse::<FrameRate>().unwrap(),
            space: Space::CENTIMETRES_Z_UP,
            rigs: vec![rig],
            sets: Vec::new(),
            constraints: Vec::new(),
            takes: vec![Take {
                name: "t".into(), folder: None, range: TimeRange::new(Ticks(-7), Ticks(123_456_789)),
                clips: Vec::new(), markers: Vec::new(), layers: vec![layer],
            }],
        };
        let back = read(&write(&scene)).unwrap();
        prop_assert_eq!(&back, &scene);
    }
}

#[test]
fn mistakes_are_named_with_their_place() {
    let broken = |from: &str, to: &str| {
        assert!(DEMO.contains(from), "{from}");
        DEMO.replacen(from, to, 1)
    };
    let line_of = |word: &str| DEMO.lines().position(|line| line.contains(word)).unwrap() + 1;
    for (what, text, place, word) in [
        (
            "an unknown field",
            broken("\"up\"", "\"upp\""),
            format!(":{}:", line_of("\"up\"")),
            "there is no 'upp' here: did you mean 'up'?",
        ),
        (
            "a misspelt key field",
            broken("{\"frame\": 25, \"value\"", "{\"frame\": 25, \"vallue\""),
            format!(":{}:", line_of("{\"frame\": 25, \"value\"")),
            "vallue",
        ),
        (
            "a value that is no number",
            broken("{\"frame\": 25, \"value\": 6", "{\"frame\": 25, \"value\": \"6\""),
            ":".into(),
            "expected a number, found \"6\"",
        ),
        ("a newer version", broken("\"ncurve\": 1", "\"ncurve\": 7"), ":".into(), "newer nimble-curve"),
        (
            "a newer version with new fields",
            broken("\"ncurve\": 1", "\"ncurve\": 2, \"future\": []"),
            ":".into(),
            "newer nimble-curve",
        ),
        (
            "an unknown channel",
            broken("\"courier:head:rotation\"", "\"courier:haed:rotation\""),
            ":".into(),
            "no node 'courier:haed'",
        ),
        (
            "an unknown property",
            broken("\"courier:head:rotation\"", "\"courier:head:rotate\""),
            ":".into(),
            "has no 'rotate'",
        ),
        (
            "keys out of order",
            broken("{\"frame\": 25, \"value\": 6", "{\"frame\": 125, \"value\": 6"),
            ":".into(),
            "not later",
        ),
        (
            "an unknown parent",
            broken("\"parent\": \"courier:hips\"", "\"parent\": \"courier:hip\""),
            ":".into(),
            "no node 'courier:hip'",
        ),
        (
            "an unknown order",
            broken("\"order\": \"zxy\"", "\"order\": \"zxx\""),
            ":".into(),
            "'zxx' is not a rotation order",
        ),
        (
            "a range the wrong way round",
            broken("\"range\": [1, 97]", "\"range\": [97, 1]"),
            ":".into(),
            "ends before it starts",
        ),
        ("text cut off", DEMO[..DEMO.len() / 2].to_owned(), ":".into(), "ends in the middle"),
    ] {
        let error = read_bytes(text.as_bytes(), Path::new("b.ncurve"), Assume::default())
            .expect_err(what)
            .to_string();
        assert!(
            error.starts_with("b.ncurve:") && error.contains(&place) && error.contains(word),
            "{what}: {error}"
        );
        assert_eq!(error.lines().count(), 1, "{what}: {error}");
    }
}

#[test]
fn the_schema_knows_every_field_of_the_demo() {
    let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
    let known = schema.to_string();
    fn fields(value: &serde_json::Value, found: &mut Vec<String>) {
        match value {
            serde_json::Value::Object(map) => {
                for (name, value) in map {
                    if name != "sets" {
                        found.push(name.clone());
                        fields(value, found);
                    }
                }
            }
            serde_json::Value::Array(list) => list.iter().for_each(|value| fields(value, found)),
            _ => {}
        }
    }
    let mut found = Vec::new();
    fields(&serde_json::from_str(DEMO).unwrap(), &mut found);
    for field in found {
        assert!(known.contains(&format!("\"{field}\"")), "{field}");
    }
}
