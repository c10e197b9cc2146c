//! Bramble as an animator keyed it: every controller, both layer modes, face controls; z up, with a namespace.

use std::collections::HashMap;

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_core::angle;
use nimble_curve_core::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind,
    Samples, StackEntry, TcbCurve, TcbKey, TcbKeys, Weight,
};
use nimble_curve_core::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, InnerLoop, Interpolation, Key, Tangent, TangentMode,
};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{
    Clip, Layer, LayerMode, Marker, NodeSet, RotationMixing, Scene, Take, Target, Track,
};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::{Quantity, Value};

use crate::otter::BONES;
use crate::shapes::{turn, wave};

const RATE: FrameRate = FrameRate::FPS_24;
const NAMESPACE: &str = "courier:";

/// The take: bramble greets a customer, lifts a letter, and hands it over.
///
/// # Panics
/// Never: parents are added first and keys are in order.
pub fn scene() -> Scene {
    let (rig, ids) = rig();
    let on = |name: &str, property: &str, controller: Controller| Track {
        target: Target { rig: 0, node: ids[name], property: property.into() },
        controller,
    };
    let range = |first, last| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let take = Take {
        name: "greet".into(),
        folder: Some("post office/counter".into()),
        range: range(1, 97),
        clips: vec![
            Clip { name: "greet".into(), range: range(1, 49), note: None },
            Clip {
                name: "hand_over".into(),
                range: range(49, 97),
                note: Some("letter leaves the hand at 81".into()),
            },
        ],
        markers: vec![
            Marker { time: RATE.ticks(13), name: "bell".into() },
            Marker { time: RATE.ticks(81), name: "letter".into() },
        ],
        layers: vec![base(&on), breathing(&on), look(&on), reach(&on), old_arm(&on)],
    };
    let set = |name: &str, patterns: &[&str]| NodeSet {
        name: name.into(),
        patterns: patterns.iter().map(|p| (*p).to_owned()).collect(),
    };
    Scene {
        rate: RATE,
        space: Space::CENTIMETRES_Z_UP,
        rigs: vec![rig],
        sets: vec![set("arms", &["courier:*arm_?", "courier:hand_?"]), set("tail", &["courier:tail_*"])],
        constraints: Vec::new(),
        takes: vec![take],
    }
}

/// The otter's bones with z up, facing -y, below a root, and a node with face controls.
fn rig() -> (Rig, HashMap<&'static str, NodeId>) {
    let mut rig = Rig::new("bramble");
    let mut ids: HashMap<&'static str, NodeId> = HashMap::new();
    let root = Node::new(format!("{NAMESPACE}root"), NodeKind::Root, DVec3::ZERO, RotationOrder::Xyz);
    let root = rig.add(None, root).expect("a root needs no parent");
    ids.insert("root", root);
    for (name, parent, [x, y, z]) in BONES {
        let order = match *name {
            "hips" => RotationOrder::Zxy,
            name if name.contains("arm") => RotationOrder::Yzx,
            name if name.starts_with("shin") => RotationOrder::Xzy,
            _ => RotationOrder::Xyz,
        };
        let kind = if name.ends_with("_end") { NodeKind::End } else { NodeKind::Joint };
        let mut node = Node::new(format!("{NAMESPACE}{name}"), kind, DVec3::new(*x, 0.0 - *z, *y), order);
        if kind == NodeKind::Joint {
            node.locked = vec!["scale".into()];
        }
        let parent = parent.map_or(root, |parent| ids[parent]);
        ids.insert(name, rig.add(Some(parent), node).expect("parents are listed first"));
    }
    let mut face = Node::new(
        format!("{NAMESPACE}face"),
        NodeKind::Control,
        DVec3::new(0.0, -14.0, 4.0),
        RotationOrder::Xyz,
    );
    let scalar = |name: &str, min, max, quantity| Attribute {
        name: name.into(),
        kind: AttributeKind::Number { default: 0.0, min: Some(min), max: Some(max), quantity },
    };
    face.attributes = vec![
        scalar("smile", -1.0, 1.0, Quantity::Number),
        scalar("blink", 0.0, 1.0, Quantity::Number),
        scalar("whiskers", -1.0, 1.0, Quantity::Number),
        scalar("jaw", 0.0, angle::radians(40.0), Quantity::Angle),
        Attribute {
            name: "gaze".into(),
            kind: AttributeKind::Vector { default: DVec3::new(0.0, -100.0, 0.0), quantity: Quantity::Length },
        },
        Attribute { name: "letter".into(), kind: AttributeKind::Switch { default: false } },
        Attribute {
            name: "mood".into(),
            kind: AttributeKind::Choice {
                options: ["calm", "eager", "worried"].map(str::to_owned).to_vec(),
                default: "calm".into(),
            },
        },
        Attribute { name: "line".into(), kind: AttributeKind::Text { default: String::new() } },
    ];
    let face = rig.add(Some(ids["head"]), face).expect("the head is there");
    ids.insert("face", face);
    (rig, ids)
}

fn key(frame: i64, value: f64) -> Key {
    Key::new(RATE.ticks(frame), value)
}

fn curve(keys: Vec<Key>) -> Curve {
    Curve::new(keys).expect("the keys are in order")
}

fn degrees(keys: &[(i64, f64)]) -> Curve {
    curve(keys.iter().map(|&(frame, degrees)| key(frame, angle::radians(degrees))).collect())
}

fn euler(order: RotationOrder, x: Curve, y: Curve, z: Curve) -> Controller {
    Controller::Euler(EulerCurves { order, curves: [x, y, z] })
}

fn none() -> Curve {
    Curve::default()
}

type On<'a> = &'a dyn Fn(&str, &str, Controller) -> Track;

fn base(on: On<'_>) -> Layer {
    let still = |value: f64| Curve::constant(RATE.ticks(1), value);
    let height = curve(vec![
        key(1, 34.0),
        key(13, 32.6),
        Key {
            tangent_out: Tangent { mode: TangentMode::Flat, ..Tangent::handle(3.5e8, 0.0) },
            ..key(25, 34.2)
        },
        Key {
            tangent_in: Tangent::handle(2.5e8, -0.4),
            tangent_out: Tangent::handle(1.5e8, 0.3),
            ..key(61, 33.1)
        },
        key(97, 34.0),
    ]);
    let forward = curve(vec![
        key(1, 0.0).with_interpolation(Interpolation::Hold),
        key(49, 0.0).with_slopes(0.0, -6.0),
        key(73, -8.5).with_slope(0.0),
    ]);
    let travel = StackEntry {
        name: "travel".into(),
        weight: Weight::FULL,
        controller: Controller::Components(vec![
            still(0.0),
            curve(vec![key(1, 0.0).with_interpolation(Interpolation::Linear), key(97, -40.0)]),
            still(0.0),
        ]),
    };
    let in_place = StackEntry {
        name: "in place".into(),
        weight: Weight::Constant(0.0),
        controller: Controller::Components(vec![
            still(0.0),
            curve(vec![key(1, 0.0).with_interpolation(Interpolation::Linear), key(97, 40.0)]),
            still(0.0),
        ]),
    };
    let tail_sway =
        curve(vec![key(1, 0.0), key(9, angle::radians(9.0)), key(17, angle::radians(-9.0)), key(25, 0.0)])
            .with_behaviours(Behaviour::LoopOffset, Behaviour::LoopOffset);
    let mut tap = degrees(&[(1, 0.0), (5, 0.0), (8, -14.0), (11, 0.0), (60, 0.0)]);
    let pattern =
        InnerLoop { start: RATE.ticks(5), end: RATE.ticks(11), before: 0, after: 3, value_offset: 0.0 };
    tap.set_inner_loop(Some(pattern)).expect("a key stands at frame 5");
    let blink = curve(vec![
        key(1, 0.0),
        key(30, 0.0).with_interpolation(Interpolation::Linear),
        key(32, 1.0).with_interpolation(Interpolation::Linear),
        key(35, 0.0),
        Key { value_before: Some(0.0), ..key(70, 0.35) },
        key(97, 0.0),
    ]);
    let mut layer = Layer::base(vec![
        on("root", "translation", Controller::Stack(vec![travel, in_place])),
        on("hips", "translation", Controller::Components(vec![still(0.0), forward, height])),
        on(
            "hips",
            "rotation",
            euler(
                RotationOrder::Zxy,
                degrees(&[(1, 0.0), (25, 6.0), (97, 0.0)]),
                none(),
                degrees(&[(1, 4.0), (37, -9.0), (73, -9.0), (97, 4.0)]),
            ),
        ),
        on("spine_02", "rotation", Controller::Tcb(tcb_rotation())),
        on("head", "rotation", Controller::Quaternion(nod())),
        on("arm_l", "rotation", euler(RotationOrder::Yzx, none(), degrees(&[(1, 64.0), (97, 64.0)]), none())),
        on(
            "arm_r",
            "rotation",
            euler(
                RotationOrder::Yzx,
                degrees(&[(1, 0.0), (15, 25.0), (49, 0.0)]),
                degrees(&[(1, -64.0), (13, 12.0), (19, 34.0), (25, 8.0), (31, 34.0), (43, -64.0)]),
                degrees(&[(1, 8.0), (13, 20.0), (43, 8.0)]),
            ),
        ),
        on(
            "forearm_r",
            "rotation",
            Controller::Constant(Value::Euler {
                order: RotationOrder::Yzx,
                angles: DVec3::new(0.0, 0.0, angle::radians(30.0)),
            }),
        ),
        on("tail_01", "rotation", euler(RotationOrder::Xyz, none(), none(), tail_sway)),
        on("tail_03", "rotation", Controller::Samples(tail_samples())),
        on("toes_r", "rotation", euler(RotationOrder::Xyz, tap, none(), none())),
        on("face", "smile", Controller::Tcb(tcb_smile())),
        on("face", "blink", Controller::Components(vec![blink])),
        on("face", "gaze", Controller::Tcb(tcb_gaze())),
        on(
            "face",
            "jaw",
            Controller::Components(vec![degrees(&[(1, 0.0), (14, 12.0), (18, 3.0), (22, 14.0), (28, 0.0)])]),
        ),
        on(
            "face",
            "whiskers",
            Controller::Procedural(Procedural {
                kind: "expression".into(),
                text: "0.2 * sin(9 * time) * (1 - blink)".into(),
                sampled: Some(Box::new(Controller::Samples(whisker_samples()))),
            }),
        ),
        on(
            "face",
            "letter",
            discrete(&[
                (1, Discrete::Switch(false)),
                (55, Discrete::Switch(true)),
                (81, Discrete::Switch(false)),
            ]),
        ),
        on(
            "face",
            "mood",
            discrete(&[(1, Discrete::Choice("calm".into())), (13, Discrete::Choice("eager".into()))]),
        ),
        on(
            "face",
            "line",
            discrete(&[
                (1, Discrete::Text(String::new())),
                (14, Discrete::Text("Good morning!".into())),
                (40, Discrete::Text(String::new())),
            ]),
        ),
    ]);
    layer.name = "body".into();
    layer
}

fn discrete(keys: &[(i64, Discrete)]) -> Controller {
    let keys = keys.iter().map(|(frame, value)| (RATE.ticks(*frame), value.clone())).collect();
    Controller::Discrete(DiscreteCurve::new(keys).expect("the keys are in order"))
}

fn tcb<V>(
    frame: i64,
    value: V,
    [tension, continuity, bias]: [f64; 3],
    [ease_in, ease_out]: [f64; 2],
) -> TcbKey<V> {
    TcbKey { time: RATE.ticks(frame), value, tension, continuity, bias, ease_in, ease_out }
}

fn tcb_rotation() -> TcbCurve {
    let keys = vec![
        tcb(1, DQuat::IDENTITY, [0.0; 3], [0.0; 2]),
        tcb(25, turn(0, 8.0), [0.3, 0.0, -0.2], [0.0; 2]),
        tcb(61, turn(0, 3.0) * turn(2, -10.0), [0.0, 0.25, 0.0], [0.0; 2]),
        tcb(97, DQuat::IDENTITY, [0.0; 3], [0.0; 2]),
    ];
    TcbCurve { keys: TcbKeys::Rotation(keys), before: Behaviour::Held, after: Behaviour::Held }
}

fn tcb_smile() -> TcbCurve {
    let keys = vec![
        tcb(1, 0.0, [0.0; 3], [0.0; 2]),
        tcb(12, 0.9, [0.5, 0.0, 0.0], [0.4, 0.2]),
        tcb(40, 0.75, [0.0, -0.5, 0.3], [0.0; 2]),
        tcb(97, 0.2, [0.0; 3], [0.0; 2]),
    ];
    TcbCurve { keys: TcbKeys::Number(keys), before: Behaviour::Held, after: Behaviour::Held }
}

fn tcb_gaze() -> TcbCurve {
    let keys = vec![
        tcb(1, DVec3::new(0.0, -100.0, 0.0), [0.0; 3], [0.0; 2]),
        tcb(13, DVec3::new(25.0, -95.0, 12.0), [0.0, 0.0, 0.4], [0.0; 2]),
        tcb(55, DVec3::new(-6.0, -60.0, -20.0), [-0.3, 0.0, 0.0], [0.0; 2]),
        tcb(97, DVec3::new(0.0, -100.0, 0.0), [0.0; 3], [0.0; 2]),
    ];
    TcbCurve { keys: TcbKeys::Vector(keys), before: Behaviour::Held, after: Behaviour::Held }
}

fn nod() -> QuaternionCurve {
    use QuaternionInterpolation::{Cubic, Slerp, Squad, Step};
    let q = |frame, value, interpolation| QuaternionKey {
        time: RATE.ticks(frame),
        value,
        interpolation,
        tangent_in: DVec4::ZERO,
        tangent_out: DVec4::ZERO,
    };
    let mut cubic = q(61, turn(0, 18.0), Cubic);
    cubic.tangent_in = DVec4::new(0.1, 0.0, 0.05, -0.02);
    cubic.tangent_out = cubic.tangent_in;
    QuaternionCurve {
        keys: vec![
            q(1, DQuat::IDENTITY, Slerp),
            q(13, turn(2, 20.0), Squad),
            q(25, turn(2, 12.0) * turn(0, 10.0), Squad),
            q(37, turn(2, 0.0), Step),
            q(49, turn(0, 4.0), Slerp),
            cubic,
            q(85, DQuat::IDENTITY, Slerp),
        ],
        before: Behaviour::Held,
        after: Behaviour::Held,
    }
}

fn tail_samples() -> Samples {
    let mut values = Vec::new();
    for frame in 1..=97 {
        let t = f64::from(frame) / 24.0;
        let angle = |hertz, size: f64, phase| ((size * wave(t, hertz, phase)) * 1e3).round() / 1e3;
        values.extend([angle(0.7, 5.0, 0.3), 0.0, angle(1.0, 11.0, 1.1)].map(angle::radians));
    }
    Samples { start: RATE.ticks(1), rate: RATE, kind: SampleKind::Euler(RotationOrder::Xyz), values }
}

fn whisker_samples() -> Samples {
    let values = (1..=97)
        .map(|frame| ((0.2 * wave(f64::from(frame) / 24.0, 1.43, 0.0)) * 1e4).round() / 1e4)
        .collect();
    Samples { start: RATE.ticks(1), rate: RATE, kind: SampleKind::Number, values }
}

fn breathing(on: On<'_>) -> Layer {
    let breath = degrees(&[(1, 0.0), (19, 2.2), (37, 0.0)])
        .with_behaviours(Behaviour::LoopOffset, Behaviour::LoopOffset);
    let swell = curve(vec![key(1, 1.0), key(19, 1.03), key(37, 1.0)])
        .with_behaviours(Behaviour::LoopOffset, Behaviour::LoopOffset);
    let one = || Curve::constant(RATE.ticks(1), 1.0);
    Layer {
        name: "breathing".into(),
        mode: LayerMode::Additive,
        rotations: RotationMixing::Angles,
        weight: Weight::Constant(0.8),
        muted: false,
        tracks: vec![
            on("chest", "rotation", euler(RotationOrder::Xyz, breath, none(), none())),
            on("chest", "scale", Controller::Components(vec![one(), swell, one()])),
            on(
                "hips",
                "translation",
                Controller::Components(vec![
                    none(),
                    none(),
                    curve(vec![key(1, 0.0), key(19, 0.25), key(37, 0.0), key(97, 0.0)]),
                ]),
            ),
        ],
    }
}

fn look(on: On<'_>) -> Layer {
    Layer {
        name: "look".into(),
        mode: LayerMode::Additive,
        rotations: RotationMixing::Quaternions,
        weight: Weight::Curve(curve(vec![
            key(1, 0.0).with_slope(0.0),
            key(49, 1.0).with_slope(0.0),
            key(97, 0.0).with_slope(0.0),
        ])),
        muted: false,
        tracks: vec![
            on(
                "head",
                "rotation",
                euler(
                    RotationOrder::Xyz,
                    none(),
                    none(),
                    degrees(&[(1, 0.0), (41, 24.0), (61, -12.0), (97, 0.0)]),
                ),
            ),
            on(
                "neck",
                "rotation",
                euler(
                    RotationOrder::Xyz,
                    none(),
                    none(),
                    degrees(&[(1, 0.0), (43, 10.0), (63, -5.0), (97, 0.0)]),
                ),
            ),
        ],
    }
}

fn reach(on: On<'_>) -> Layer {
    Layer {
        name: "reach".into(),
        mode: LayerMode::Override,
        rotations: RotationMixing::Angles,
        weight: Weight::Curve(curve(vec![
            key(49, 0.0).with_slope(0.0),
            key(61, 1.0).with_slope(0.0),
            key(85, 1.0).with_slope(0.0),
            key(97, 0.0).with_slope(0.0),
        ])),
        muted: false,
        tracks: vec![
            on(
                "arm_l",
                "rotation",
                euler(
                    RotationOrder::Yzx,
                    degrees(&[(49, 0.0), (65, 18.0)]),
                    degrees(&[(49, 64.0), (65, 22.0), (81, 18.0), (97, 64.0)]),
                    degrees(&[(49, 0.0), (65, -62.0), (81, -70.0), (97, 0.0)]),
                ),
            ),
            on(
                "forearm_l",
                "rotation",
                euler(
                    RotationOrder::Yzx,
                    none(),
                    none(),
                    degrees(&[(49, 0.0), (65, -38.0), (81, -22.0), (97, 0.0)]),
                ),
            ),
        ],
    }
}

fn old_arm(on: On<'_>) -> Layer {
    Layer {
        name: "old arm".into(),
        mode: LayerMode::Override,
        rotations: RotationMixing::Quaternions,
        weight: Weight::FULL,
        muted: true,
        tracks: vec![on(
            "arm_r",
            "rotation",
            euler(RotationOrder::Yzx, none(), degrees(&[(1, -64.0), (20, -20.0), (43, -64.0)]), none()),
        )],
    }
}
