//! The dock crane: an arm that reaches for a hook control, a cab that goes with another one, a drum that turns as the hook
//! rises, a lamp that looks at the parcel, and a switch to keys of the arm's own.

use glam::DVec3;
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::angle;
use nimble_curve_core::constraint::{
    Aim, Channel, Constraint, ConstraintKind, Couple, EndTurn, Follow, Limb, Roll, RollAxes, Setting, Source,
    StretchBy, Towards,
};
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Clip, Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::Quantity;

const RATE: FrameRate = FrameRate::FPS_24;

/// The crane's nodes.
struct Nodes {
    cab: NodeId,
    boom: NodeId,
    jib: NodeId,
    hook: NodeId,
    drum: NodeId,
    lamp: NodeId,
    cable: NodeId,
    cab_ctrl: NodeId,
    hook_ctrl: NodeId,
    elbow_ctrl: NodeId,
    parcel: NodeId,
}

fn rig() -> (Rig, Nodes) {
    let mut rig = Rig::new("crane");
    let mut add = |name: &str, parent, kind, at: [f64; 3], order| {
        let mut node = Node::new(name, kind, DVec3::from_array(at), order);
        if name == "hook_ctrl" {
            let number = |default| AttributeKind::Number {
                default,
                min: Some(0.0),
                max: Some(1.0),
                quantity: Quantity::Number,
            };
            node.attributes.push(Attribute { name: "reach".into(), kind: number(1.0) });
        }
        rig.add(parent, node).expect("parents are added first")
    };
    use NodeKind::{Control, Joint, Root};
    use RotationOrder::{Xyz, Yxz, Zxy, Zyx};
    let quay = add("quay", None, Root, [0.0, 0.0, 0.0], Xyz);
    let cab = add("cab", Some(quay), Joint, [0.0, 210.0, 0.0], Yxz);
    let boom = add("boom", Some(cab), Joint, [40.0, 30.0, 0.0], Zyx);
    let jib = add("jib", Some(boom), Joint, [150.0, 190.0, 0.0], Zyx);
    let hook = add("hook", Some(jib), Joint, [190.0, -130.0, 0.0], Zxy);
    let cable = add("cable", Some(jib), Joint, [95.0, -65.0, 0.0], Xyz);
    let drum = add("drum", Some(cab), Joint, [-45.0, 25.0, 0.0], Xyz);
    let lamp = add("lamp", Some(cab), Joint, [30.0, 55.0, 20.0], Xyz);
    let dock_ctrl = add("dock_ctrl", None, Control, [0.0, 0.0, 0.0], Xyz);
    let cab_ctrl = add("cab_ctrl", Some(dock_ctrl), Control, [0.0, 210.0, 0.0], Yxz);
    let hook_ctrl = add("hook_ctrl", Some(dock_ctrl), Control, [380.0, 300.0, 0.0], Zxy);
    let elbow_ctrl = add("elbow_ctrl", Some(cab_ctrl), Control, [120.0, 420.0, 0.0], Xyz);
    let parcel = add("parcel_ctrl", Some(dock_ctrl), Control, [420.0, 20.0, 60.0], Xyz);
    let nodes = Nodes { cab, boom, jib, hook, drum, lamp, cable, cab_ctrl, hook_ctrl, elbow_ctrl, parcel };
    (rig, nodes)
}

fn constraints(nodes: &Nodes) -> Vec<Constraint> {
    let at = |node: NodeId| -> NodeRef { (0, node) };
    let full = || Setting::Constant(1.0);
    let source = |node: NodeId| Source { node: at(node), weight: full(), offset: None };
    let one = |name: &str, node: NodeId, weight: Setting, kind| Constraint {
        name: name.into(),
        node: at(node),
        weight,
        kind,
    };
    let reach = || Target::new(0, nodes.hook_ctrl, "reach");
    let follow = Follow {
        sources: vec![source(nodes.cab_ctrl)],
        translation: [true; 3],
        rotation: [true; 3],
        scale: [false; 3],
    };
    let limb = Limb {
        lower: at(nodes.jib),
        end: at(nodes.hook),
        goal: source(nodes.hook_ctrl),
        pole: Some(Towards::Node(at(nodes.elbow_ctrl))),
        bends_other: false,
        hinge: None,
        stretch: Setting::Constant(0.0),
        stretch_by: StretchBy::Translation,
        slack: 0.02,
        end_turn: EndTurn::Goal,
        twist: Setting::Constant(0.0),
        lengths: [full(), full()],
    };
    let aim = Aim {
        axis: DVec3::Z,
        at: at(nodes.parcel),
        up: Some((DVec3::Y, Towards::Direction(DVec3::Y, None))),
    };
    let channel = |node: NodeId, property: &str, component| Channel {
        target: Target::new(0, node, property),
        component,
    };
    // The drum turns once in 80 cm of cable.
    let couple = Couple {
        channel: channel(nodes.drum, ROTATION, 0),
        from: channel(nodes.hook_ctrl, TRANSLATION, 1),
        points: vec![(0.0, angle::radians(1350.0)), (300.0, 0.0), (500.0, angle::radians(-900.0))],
    };
    let roll = Roll {
        source: at(nodes.hook),
        fraction: Setting::Constant(0.5),
        axes: Some(RollAxes::both(DVec3::Y)),
    };
    vec![
        one("cab", nodes.cab, full(), ConstraintKind::Follow(follow)),
        one("arm", nodes.boom, Setting::Attribute(reach()), ConstraintKind::Limb(Box::new(limb))),
        one("lamp", nodes.lamp, full(), ConstraintKind::Aim(aim)),
        one("drum", nodes.drum, full(), ConstraintKind::Couple(couple)),
        one("cable", nodes.cable, full(), ConstraintKind::Roll(roll)),
    ]
}

/// The crane, lifting a parcel from a barge onto the quay.
///
/// # Panics
/// Never: parents are added first and keys are in order.
pub fn scene() -> Scene {
    let (rig, nodes) = rig();
    let curve = |keys: &[(i64, f64)]| {
        Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect())
            .expect("the keys are in order")
    };
    let angles = |keys: &[(i64, f64)]| {
        let keys: Vec<(i64, f64)> =
            keys.iter().map(|&(frame, degrees)| (frame, angle::radians(degrees))).collect();
        curve(&keys)
    };
    let track = |node: NodeId, property: &str, controller| Track {
        target: Target::new(0, node, property),
        controller,
    };
    let euler =
        |order, x: Curve, y: Curve, z: Curve| Controller::Euler(EulerCurves { order, curves: [x, y, z] });
    let none = Curve::default;
    let held = |keys: &[(i64, f64)]| {
        let key = |&(frame, value): &(i64, f64)| {
            Key::new(RATE.ticks(frame), value).with_interpolation(Interpolation::Hold)
        };
        Curve::new(keys.iter().map(key).collect()).expect("the keys are in order")
    };
    let tracks = vec![
        track(
            nodes.cab_ctrl,
            ROTATION,
            euler(
                RotationOrder::Yxz,
                none(),
                angles(&[(1, 0.0), (30, 0.0), (66, -72.0), (96, -72.0)]),
                none(),
            ),
        ),
        track(
            nodes.hook_ctrl,
            TRANSLATION,
            Controller::Components(vec![
                curve(&[(1, 380.0), (30, 420.0), (66, 130.0), (96, 120.0)]),
                curve(&[(1, 300.0), (16, 90.0), (30, 320.0), (66, 330.0), (90, 60.0), (96, 60.0)]),
                curve(&[(1, 0.0), (30, 20.0), (66, 330.0), (96, 340.0)]),
            ]),
        ),
        track(
            nodes.hook_ctrl,
            ROTATION,
            euler(
                RotationOrder::Zxy,
                none(),
                angles(&[(1, 0.0), (30, 15.0), (66, -90.0), (96, -80.0)]),
                none(),
            ),
        ),
        track(nodes.hook_ctrl, "reach", Controller::Components(vec![held(&[(1, 1.0), (96, 1.0)])])),
        track(
            nodes.parcel,
            TRANSLATION,
            Controller::Components(vec![
                curve(&[(1, 420.0), (18, 420.0), (30, 420.0), (66, 130.0), (96, 120.0)]),
                curve(&[(1, 20.0), (18, 20.0), (30, 260.0), (66, 270.0), (90, 5.0)]),
                curve(&[(1, 60.0), (18, 20.0), (30, 20.0), (66, 330.0), (96, 340.0)]),
            ]),
        ),
    ];
    let range = |first, last| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let take = Take {
        clips: vec![
            Clip { name: "lift".into(), range: range(1, 30), note: None },
            Clip { name: "swing".into(), range: range(30, 66), note: None },
            Clip { name: "lower".into(), range: range(66, 96), note: None },
        ],
        ..Take::new("unload", range(1, 96), vec![Layer::base(tracks)])
    };
    let scene = Scene::new(RATE, Space::CENTIMETRES_Y_UP).with_rig(rig).with_take(take);
    Scene { constraints: constraints(&nodes), ..scene }
}
