//! The parcel cart: wheels that turn many times between two keys, and a weather vane that passes the gimbal pole.

use glam::DVec3;
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Key};
use nimble_curve_core::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Clip, Layer, Marker, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

const RATE: FrameRate = FrameRate::FPS_24;

fn key(frame: i64, value: f64) -> Key {
    Key::new(RATE.ticks(frame), value)
}

fn curve(keys: Vec<Key>) -> Curve {
    Curve::new(keys).expect("the keys are in order")
}

fn angles(keys: &[(i64, f64)]) -> Curve {
    curve(keys.iter().map(|&(frame, degrees)| key(frame, angle::radians(degrees))).collect())
}

/// The cart, rolling 2.1 m along the quay.
///
/// # Panics
/// Never: parents are added first and keys are in order.
pub fn scene() -> Scene {
    let mut rig = Rig::new("cart");
    let mut add = |name: &str, parent, kind, at: [f64; 3], order| {
        rig.add(parent, Node::new(name, kind, DVec3::from_array(at), order)).expect("parents are added first")
    };
    let cart = add("cart", None, NodeKind::Root, [0.0, 0.0, 0.0], RotationOrder::Xyz);
    let bed = add("bed", Some(cart), NodeKind::Joint, [0.0, 42.0, 0.0], RotationOrder::Xyz);
    let mut wheels = Vec::new();
    for (name, x, z) in [
        ("wheel_fl", 26.0, 30.0),
        ("wheel_fr", -26.0, 30.0),
        ("wheel_bl", 26.0, -30.0),
        ("wheel_br", -26.0, -30.0),
    ] {
        wheels.push(add(name, Some(cart), NodeKind::Joint, [x, 11.0, z], RotationOrder::Xyz));
    }
    let mast = add("mast", Some(bed), NodeKind::Joint, [0.0, 30.0, -28.0], RotationOrder::Xyz);
    let vane = add("vane", Some(mast), NodeKind::Joint, [0.0, 24.0, 0.0], RotationOrder::Zxy);
    add("vane_end", Some(vane), NodeKind::End, [0.0, 0.0, 16.0], RotationOrder::Xyz);

    let track = |node: NodeId, property: &str, controller| Track {
        target: Target { rig: 0, node, property: property.into() },
        controller,
    };
    let euler =
        |order, x: Curve, y: Curve, z: Curve| Controller::Euler(EulerCurves { order, curves: [x, y, z] });
    let none = Curve::default;
    let still = |value: f64| Curve::constant(RATE.ticks(1), value);
    // Three turns: 2π · 11 cm · 3 is 207.3 cm.
    let travel = curve(vec![key(1, 0.0).with_slope(0.0), key(73, 207.3).with_slope(0.0)]);
    let mut tracks =
        vec![track(cart, "translation", Controller::Components(vec![still(0.0), still(0.0), travel]))];
    for wheel in wheels {
        let turns = curve(vec![key(1, 0.0).with_slope(0.0), key(73, angle::radians(1080.0)).with_slope(0.0)]);
        tracks.push(track(wheel, "rotation", euler(RotationOrder::Xyz, turns, none(), none())));
    }
    // A gust throws the vane over its top: the middle angle passes 90 degrees.
    let vane_x = angles(&[(1, 0.0), (20, 35.0), (34, 90.0), (46, 132.0), (60, 70.0), (73, 8.0), (96, 0.0)]);
    let vane_y = angles(&[(1, 0.0), (24, 48.0), (34, 70.0), (52, 140.0), (73, 31.0), (96, 12.0)]);
    let vane_z = angles(&[(1, 0.0), (34, -20.0), (60, 24.0), (96, 0.0)]);
    tracks.push(track(vane, "rotation", euler(RotationOrder::Zxy, vane_x, vane_y, vane_z)));
    let rattle = curve(vec![
        key(1, 0.0).with_interpolation(Interpolation::Linear),
        key(4, angle::radians(1.2)).with_interpolation(Interpolation::Linear),
        key(8, angle::radians(-0.9)).with_interpolation(Interpolation::Linear),
        key(12, 0.0),
    ])
    .with_behaviours(Behaviour::Held, Behaviour::LoopOffset);
    tracks.push(track(bed, "rotation", euler(RotationOrder::Xyz, none(), none(), rattle)));

    let range = |first, last| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let take = Take {
        name: "quay".into(),
        folder: None,
        range: range(1, 96),
        clips: vec![
            Clip { name: "roll".into(), range: range(1, 73), note: None },
            Clip { name: "settle".into(), range: range(73, 96), note: Some("vane swings out".into()) },
        ],
        markers: vec![Marker { time: RATE.ticks(34), name: "gust".into() }],
        layers: vec![Layer::base(tracks)],
    };
    Scene {
        rate: RATE,
        space: Space::CENTIMETRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![take],
    }
}
