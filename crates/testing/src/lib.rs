//! What the tests share: random curves and scenes, an evaluation of curves that shares nothing with the one under test, and whether
//! scenes move alike.
#![allow(missing_docs, reason = "names of what tests draw say what it is")]

pub mod dice;
pub mod motion;
pub mod refusals;
pub mod scenes;

use glam::{DQuat, DVec3, EulerRot};
use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation, Key, Side, Tangent, TangentMode};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, Ticks};
use proptest::prelude::*;

pub const RATE: FrameRate = FrameRate::FPS_24;

/// Times at which curves are looked at: 1/16 frames over a range of frames.
pub fn steps(first: i64, last: i64) -> impl Iterator<Item = f64> + Clone {
    (first * 16..=last * 16).map(|step| step as f64 * RATE.ticks_per_frame() / 16.0)
}

#[derive(Clone, Copy, Debug)]
pub enum Handles {
    /// Slopes only: plain cubics.
    Plain,
    /// Weighted ones, too.
    Any,
}

fn any_tangent(handles: Handles) -> impl Strategy<Value = Tangent> {
    let slope = (-40.0..40.0_f64).prop_map(Tangent::slope);
    let mode = prop::sample::select(vec![
        TangentMode::Auto,
        TangentMode::AutoNoOvershoot,
        TangentMode::Flat,
        TangentMode::Linear,
    ])
    .prop_map(Tangent::of_mode);
    let handle = (0.0..9.0_f64, -4.0..4.0_f64)
        .prop_map(|(frames, rise)| Tangent::handle(frames * RATE.ticks_per_frame(), rise));
    match handles {
        Handles::Plain => prop_oneof![slope, mode].boxed(),
        Handles::Any => prop_oneof![slope, mode, handle].boxed(),
    }
}

fn any_way() -> impl Strategy<Value = Interpolation> {
    prop_oneof![
        4 => Just(Interpolation::Cubic),
        1 => Just(Interpolation::Linear),
        1 => Just(Interpolation::Hold),
    ]
}

fn any_key(handles: Handles) -> impl Strategy<Value = (i64, Key)> {
    (
        1..12_i64,
        -10.0..10.0_f64,
        prop::option::weighted(0.15, -10.0..10.0_f64),
        any_way(),
        any_tangent(handles),
        any_tangent(handles),
    )
        .prop_map(|(gap, value, value_before, interpolation, tangent_in, tangent_out)| {
            let key =
                Key { value_before, interpolation, tangent_in, tangent_out, ..Key::new(Ticks(0), value) };
            (gap, key)
        })
}

pub fn any_behaviour() -> impl Strategy<Value = Behaviour> {
    prop_oneof![
        Just(Behaviour::Held),
        Just(Behaviour::Linear),
        (-5.0..5.0_f64).prop_map(Behaviour::Sloped),
        Just(Behaviour::LoopOffset),
        Just(Behaviour::Loop),
        Just(Behaviour::LoopOscillate),
    ]
}

/// Curves of 2 to 9 keys that start within a few frames of frame 0, held outside.
pub fn any_curve(handles: Handles) -> impl Strategy<Value = Curve> {
    (-5..5_i64, prop::collection::vec(any_key(handles), 2..9)).prop_map(|(start, keys)| {
        let mut frame = start;
        let placed = keys.into_iter().map(|(gap, key)| {
            frame += gap;
            Key { time: RATE.ticks(frame), ..key }
        });
        Curve::new(placed.collect()).unwrap()
    })
}

/// The value among the keys, by bisection on the Bézier's control points in time and value.
pub fn independent(curve: &Curve, time: f64, side: Side) -> f64 {
    let keys = curve.keys();
    let after = match side {
        Side::Right => keys.partition_point(|key| key.time.as_f64() <= time),
        Side::Left => keys.partition_point(|key| key.time.as_f64() < time),
    };
    if after == 0 {
        return keys[0].left_value();
    }
    let Some(to) = keys.get(after) else { return keys[after - 1].value };
    let from = &keys[after - 1];
    let (start, gap) = (from.time.as_f64(), (to.time - from.time).as_f64());
    let (first, last) = (from.value, to.left_value());
    match from.interpolation {
        Interpolation::Hold => return first,
        Interpolation::Linear => return first + (last - first) * (time - start) / gap,
        _ => {}
    }
    let (mut out, mut into) = (from.tangent_out.handle_in_gap(gap), to.tangent_in.handle_in_gap(gap));
    // Time runs backwards where a + b − √(ab) > 1; the handles shrink together until it does not.
    let (a, b) = (out.0 / gap, into.0 / gap);
    let reach = (a + b - (a * b).sqrt()).max(1.0);
    out = (out.0 / reach, out.1 / reach);
    into = (into.0 / reach, into.1 / reach);
    let bezier = |p: [f64; 4], s: f64| {
        let mix = |x: f64, y: f64| x + (y - x) * s;
        let (q0, q1, q2) = (mix(p[0], p[1]), mix(p[1], p[2]), mix(p[2], p[3]));
        mix(mix(q0, q1), mix(q1, q2))
    };
    let times = [0.0, out.0, gap - into.0, gap];
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..100 {
        let middle = 0.5 * (low + high);
        if bezier(times, middle) < time - start { low = middle } else { high = middle }
    }
    bezier([first, first + out.1, last - into.1, last], 0.5 * (low + high))
}

/// How far the curve goes, handles included: what rounding is measured against.
pub fn span(curve: &Curve) -> f64 {
    let reach = |tangent: &Tangent| match tangent.shape {
        nimble_curve_curves::curve::TangentShape::Slope(slope) => slope.abs(),
        nimble_curve_curves::curve::TangentShape::Handle { dv, .. } => dv.abs(),
    };
    curve.keys().iter().fold(1.0, |span, key| {
        span + key.value.abs() + key.left_value().abs() + reach(&key.tangent_in) + reach(&key.tangent_out)
    })
}

/// A scene of one node, `arm`, with a number `smile` and a switch `lamp`, and one take of frames 0 to 60.
pub fn scene(layers: Vec<nimble_curve_scene::scene::Layer>) -> nimble_curve_scene::scene::Scene {
    use glam::DVec3;
    use nimble_curve_curves::rotation::RotationOrder;
    use nimble_curve_curves::time::TimeRange;
    use nimble_curve_curves::value::Quantity;
    use nimble_curve_scene::rig::{Attribute, AttributeKind, Node, NodeKind, Rig};
    use nimble_curve_scene::scene::{Scene, Take};
    use nimble_curve_scene::space::Space;
    let mut node = Node::new("arm", NodeKind::Joint, DVec3::new(1.0, 2.0, 3.0), RotationOrder::Xyz);
    node.attributes = vec![
        Attribute {
            name: "smile".into(),
            kind: AttributeKind::Number { default: 0.25, min: None, max: None, quantity: Quantity::Number },
        },
        Attribute { name: "lamp".into(), kind: AttributeKind::Switch { default: false } },
    ];
    let mut rig = Rig::new("rig");
    rig.add(None, node).unwrap();
    let take = Take {
        name: "take".into(),
        folder: None,
        range: TimeRange::new(RATE.ticks(0), RATE.ticks(60)),
        clips: Vec::new(),
        markers: Vec::new(),
        layers,
    };
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![take],
    }
}

/// A track on the node of [`scene`].
pub fn track(
    property: &str,
    controller: nimble_curve_scene::controller::Controller,
) -> nimble_curve_scene::scene::Track {
    use nimble_curve_scene::rig::NodeId;
    use nimble_curve_scene::scene::{Target, Track};
    Track { target: Target { rig: 0, node: NodeId(0), property: property.into() }, controller }
}

/// The values of a property of the node of [`scene`] at some times.
pub fn values(
    scene: &nimble_curve_scene::scene::Scene,
    property: &str,
    times: impl Iterator<Item = f64>,
) -> Vec<nimble_curve_curves::value::Value> {
    use nimble_curve_scene::controller::Controller;
    let target = track(property, Controller::Components(Vec::new())).target;
    let mut sampler =
        nimble_curve_scene::evaluate::PropertySampler::new(scene, &scene.takes[0], &target).unwrap();
    times.map(|time| sampler.value_at(time)).collect()
}

/// The rotation of angles by the vector library, which shares nothing with ours.
pub fn rotation_of(order: RotationOrder, angles: DVec3) -> DQuat {
    let (a, b, c) = order.axes();
    let name = match order {
        RotationOrder::Xyz => EulerRot::ZYX,
        RotationOrder::Xzy => EulerRot::YZX,
        RotationOrder::Yxz => EulerRot::ZXY,
        RotationOrder::Yzx => EulerRot::XZY,
        RotationOrder::Zxy => EulerRot::YXZ,
        RotationOrder::Zyx => EulerRot::XYZ,
    };
    DQuat::from_euler(name, angles[a], angles[b], angles[c])
}
