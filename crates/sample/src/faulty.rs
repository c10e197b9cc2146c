//! A file handed over in a hurry: one of each fault that a check looks for.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, EulerCurves, Weight};
use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig, TransformOp};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Clip, Layer, LayerMode, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_core::value::Quantity;

use crate::otter::BONES;

const RATE: FrameRate = FrameRate::FPS_24;

fn time(frame: f64) -> Ticks {
    RATE.ticks_at(frame)
}

fn range(first: f64, last: f64) -> TimeRange {
    TimeRange::new(time(first), time(last))
}

/// A curve of straight lines through frames and values.
fn line(points: &[(f64, f64)]) -> Curve {
    let key =
        |&(frame, value): &(f64, f64)| Key::new(time(frame), value).with_interpolation(Interpolation::Linear);
    Curve::new(points.iter().map(key).collect()).expect("frames increase")
}

/// Turns about one axis, in degrees.
fn turns(axis: usize, points: &[(f64, f64)]) -> Controller {
    let points: Vec<(f64, f64)> =
        points.iter().map(|&(frame, degrees)| (frame, angle::radians(degrees))).collect();
    let mut curves = [Curve::default(), Curve::default(), Curve::default()];
    curves[axis] = line(&points);
    Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves })
}

fn rig() -> (Rig, HashMap<String, NodeId>) {
    let mut rig = Rig::new("bramble");
    let mut ids: HashMap<String, NodeId> = HashMap::new();
    for (name, parent, at) in BONES {
        let kind = if name.ends_with("_end") { NodeKind::End } else { NodeKind::Joint };
        let node = Node::new(format!("courier:{name}"), kind, DVec3::from_array(*at), RotationOrder::Xyz);
        let id = rig.add(parent.map(|parent| ids[parent]), node).expect("parents are listed first");
        ids.insert((*name).to_owned(), id);
    }
    let scaled = |name: &str, scale: [f64; 3]| {
        let mut node = Node::new(name, NodeKind::Joint, DVec3::new(0.0, 5.0, 0.0), RotationOrder::Xyz);
        node.transform.retain(|op| op.name != "scale");
        let value = OpValue::Scale(DVec3::from_array(scale));
        node.transform.push(TransformOp { name: "scale".into(), value, inverse: false });
        node
    };
    let chest = Some(ids["chest"]);
    for node in [
        scaled("courier:satchel", [1.2, 1.2, 1.2]),
        scaled("courier:lantern", [-1.0, 1.0, 1.0]),
        Node::new("courier:strap", NodeKind::Joint, DVec3::X, RotationOrder::Xyz),
        Node::new("old:buckle", NodeKind::Joint, DVec3::Y, RotationOrder::Xyz),
    ] {
        let name = node.name.rsplit(':').next().unwrap_or_default().to_owned();
        ids.insert(name, rig.add(chest, node).expect("the chest is there"));
    }
    let second = Node::new("courier:strap", NodeKind::Joint, DVec3::X, RotationOrder::Xyz);
    rig.add(Some(ids["hips"]), second).expect("the hips are there");
    if let Some(head) = rig.node_mut(ids["head"]) {
        head.attributes = vec![Attribute {
            name: "smile".into(),
            kind: AttributeKind::Number {
                default: 0.0,
                min: Some(0.0),
                max: Some(1.0),
                quantity: Quantity::Number,
            },
        }];
    }
    if let Some(chest) = rig.node_mut(ids["chest"]) {
        chest.locked = vec!["translation".into()];
    }
    (rig, ids)
}

/// The scene.
///
/// # Panics
/// Never: parents are added first and keys are in order.
pub fn scene() -> Scene {
    let (rig, ids) = rig();
    let mut crate_rig = Rig::new("parcel");
    let parcel = crate_rig
        .add(None, Node::new("parcel", NodeKind::Root, DVec3::ZERO, RotationOrder::Xyz))
        .expect("a root needs no parent");
    let on = |name: &str, property: &str, controller: Controller| Track {
        target: Target { rig: 0, node: ids[name], property: property.into() },
        controller,
    };
    let vector = |x: Curve, y: Curve, z: Curve| Controller::Components(vec![x, y, z]);
    let still = |value: f64| line(&[(1.0, value)]);
    let every_frame: Vec<(f64, f64)> =
        (1..=96).map(|frame| (f64::from(frame), 12.0 * libm::sin(f64::from(frame) * 0.3))).collect();
    let flipping: Vec<(f64, f64)> =
        [(1.0, 150.0), (2.0, 160.0), (3.0, 170.0), (4.0, -180.0), (5.0, -170.0), (96.0, -160.0)].to_vec();
    let tracks = vec![
        // Fast at first, then a drift under feet that stand.
        on(
            "hips",
            "translation",
            vector(still(0.0), still(34.0), line(&[(1.0, 0.0), (13.0, 18.0), (96.0, 24.0)])),
        ),
        on("arm_r", "rotation", turns(0, &flipping)),
        on(
            "neck",
            "rotation",
            turns(2, &[(1.0, 150.0), (20.0, 160.0), (40.0, 170.0), (50.0, -170.0), (96.0, -160.0)]),
        ),
        on("head", "rotation", turns(1, &[(1.0, 0.0), (40.0, 12.0), (40.3, 12.5), (96.0, 0.0)])),
        on("head", "smile", Controller::Components(vec![line(&[(1.0, 0.0), (30.0, 1.4), (96.0, 0.2)])])),
        on("hand_r", "rotation", turns(0, &[(1.0, 0.0), (96.0, 10.0), (131.0, 40.0)])),
        on("chest", "translation", vector(line(&[(1.0, 0.0), (96.0, 1.0)]), still(10.0), still(0.5))),
        on("spine_01", "scale", vector(line(&[(1.0, 1.0), (96.0, 1.3)]), still(1.0), still(1.0))),
        on("shoulder_l", "rotation", two_axes()),
        on("tail_01", "rotation", turns(1, &every_frame)),
        on("tail_02", "rotation", turns(1, &[(1.0, 5.0), (48.0, 5.0), (96.0, 5.0)])),
        on("head_end", "rotation", turns(0, &[(1.0, 0.0), (96.0, 20.0)])),
        Track {
            target: Target { rig: 1, node: parcel, property: "translation".into() },
            controller: vector(line(&[(7.0, 0.0), (80.0, 30.0)]), still(0.0), still(0.0)),
        },
    ];
    let layer = |name: &str, weight: f64, muted: bool| Layer {
        name: name.into(),
        mode: LayerMode::Additive,
        weight: Weight::Constant(weight),
        muted,
        ..Layer::base(vec![on("tail_03", "rotation", turns(1, &[(1.0, 0.0), (96.0, 9.0)]))])
    };
    let take = |name: &str, last: f64, layers: Vec<Layer>| Take {
        name: name.into(),
        folder: None,
        range: range(1.0, last),
        clips: Vec::new(),
        markers: Vec::new(),
        layers,
    };
    let swing = |end: f64| on("arm_l", "rotation", turns(0, &[(1.0, 0.0), (12.0, 40.0), (24.0, end)]));
    let mut rush = take(
        "rush",
        96.0,
        vec![Layer::base(tracks), layer("second pass", 0.6, false), layer("old pass", 1.0, true)],
    );
    rush.clips = vec![Clip { name: "turn_in".into(), range: range(90.0, 120.0), note: None }];
    Scene {
        rate: RATE,
        space: Space::CENTIMETRES_Y_UP,
        rigs: vec![rig, crate_rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![
            rush,
            take("sway", 24.0, vec![Layer::base(vec![swing(0.4)])]),
            take("stop", 60.0, vec![Layer::base(vec![swing(40.0)])]),
            take("blank", 24.0, vec![Layer::base(Vec::new())]),
        ],
    }
}

/// A shoulder that comes to within a degree of the pole of its order.
fn two_axes() -> Controller {
    let degrees = |points: &[(f64, f64)]| {
        line(&points.iter().map(|&(frame, value)| (frame, angle::radians(value))).collect::<Vec<_>>())
    };
    Controller::Euler(EulerCurves {
        order: RotationOrder::Xyz,
        curves: [
            degrees(&[(1.0, 0.0), (96.0, 20.0)]),
            degrees(&[(1.0, 10.0), (48.0, 89.5), (96.0, 10.0)]),
            Curve::default(),
        ],
    })
}
