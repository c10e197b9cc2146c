//! Carrying controllers of every type between rigs that rest otherwise: world rotations relative to rest agree.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Curve, Key};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, from_vector};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::carry::{Carried, CarryOptions, NameMap, carry};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, StackEntry, TcbCurve,
    TcbKey, TcbKeys, Weight,
};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{Node, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

/// Two nodes, the second with a constant rotation before its own, and what animates them.
fn scene(order: RotationOrder, rests: [DQuat; 2], controllers: Option<[Controller; 2]>) -> Scene {
    let mut rig = Rig::new("rig");
    let mut parent = None;
    let mut ids = Vec::new();
    for (name, rest) in ["upper", "lower"].into_iter().zip(rests) {
        let node = Node::new(name, NodeKind::Joint, DVec3::new(0.0, 2.0, 0.0), order);
        let id = rig.add(parent, node.with_before(OpValue::Orient(rest))).unwrap();
        ids.push(id);
        parent = Some(id);
    }
    let takes = controllers.map(|controllers| {
        let tracks = ids.iter().zip(controllers).map(|(&node, controller)| Track {
            target: Target { rig: 0, node, property: "rotation".into() },
            controller,
        });
        Take {
            name: "take".into(),
            folder: None,
            range: TimeRange::new(RATE.ticks(0), RATE.ticks(48)),
            clips: Vec::new(),
            markers: Vec::new(),
            layers: vec![Layer::base(tracks.collect())],
        }
    });
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: takes.into_iter().collect(),
    }
}

fn curve(keys: &[(i64, f64)]) -> Curve {
    Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect()).unwrap()
}

fn euler(order: RotationOrder) -> Controller {
    let curves = [
        curve(&[(0, 0.0), (20, 0.7), (48, -0.2)]),
        curve(&[(0, 0.3), (30, -0.4), (48, 0.3)]),
        curve(&[(0, 0.0), (48, 0.9)]),
    ];
    Controller::Euler(EulerCurves { order, curves })
}

fn quaternions(way: QuaternionInterpolation) -> Controller {
    let key = |(frame, v): (i64, [f64; 3])| QuaternionKey {
        time: RATE.ticks(frame),
        value: from_vector(DVec3::from(v)),
        interpolation: way,
        tangent_in: DVec4::new(0.2, -0.1, 0.0, 0.0),
        tangent_out: DVec4::new(0.2, -0.1, 0.0, 0.0),
    };
    let keys = [(0, [0.0; 3]), (15, [0.4, 0.3, 0.0]), (32, [-0.2, 0.6, 0.3]), (48, [0.1, 0.0, -0.4])];
    Controller::Quaternion(QuaternionCurve {
        keys: keys.map(key).to_vec(),
        before: Behaviour::Held,
        after: Behaviour::Held,
    })
}

fn tcb() -> Controller {
    let key = |(frame, v): (i64, [f64; 3])| TcbKey {
        time: RATE.ticks(frame),
        value: from_vector(DVec3::from(v)),
        tension: 0.2,
        continuity: -0.1,
        bias: 0.3,
        ease_in: 0.2,
        ease_out: 0.1,
    };
    let keys = [(0, [0.0; 3]), (20, [0.5, -0.3, 0.2]), (48, [0.0, 0.4, 0.1])].map(key);
    Controller::Tcb(TcbCurve {
        keys: TcbKeys::Rotation(keys.to_vec()),
        before: Behaviour::Held,
        after: Behaviour::Held,
    })
}

fn stack(order: RotationOrder) -> Controller {
    let entry = |name: &str, weight: f64| StackEntry {
        name: name.into(),
        weight: Weight::Constant(weight),
        controller: euler(order),
    };
    Controller::Stack(vec![entry("first", 0.5), entry("second", 0.3)])
}

/// World rotations relative to rest of both nodes, at each half frame.
fn relative(scene: &Scene) -> Vec<[DQuat; 2]> {
    let mut rest = Pose::default();
    Evaluator::new(scene, None, 0).unwrap().pose_at(0.0, &mut rest);
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    (0..=96)
        .map(|half| {
            evaluator.pose_at(f64::from(half) * 0.5 * RATE.ticks_per_frame(), &mut pose);
            [0, 1].map(|node| pose.world_rotation[node] * rest.world_rotation[node].conjugate())
        })
        .collect()
}

fn carried(source: &Scene, target: &Scene) -> Carried {
    let tolerance = Tolerance { angle: 0.05_f64.to_radians(), ..Tolerance::default() };
    let options = CarryOptions { tolerance, scale: Some(1.0), ..CarryOptions::default() };
    carry(source, target, &NameMap::default(), &options).unwrap()
}

fn worst(source: &Scene, result: &Scene) -> f64 {
    let pairs = relative(source).into_iter().zip(relative(result));
    let angles = pairs.flat_map(|(a, b)| [angle_between(a[0], b[0]), angle_between(a[1], b[1])]);
    angles.fold(0.0, f64::max).to_degrees()
}

#[test]
fn every_type_of_controller_carries_between_rigs_that_rest_otherwise() {
    use QuaternionInterpolation::{Cubic, Slerp, Squad};
    let from = RotationOrder::Xyz;
    let rests = [DQuat::from_rotation_z(0.4), DQuat::from_rotation_x(-0.7)];
    let other = [DQuat::from_rotation_y(1.1), DQuat::from_rotation_z(0.3) * DQuat::from_rotation_x(0.5)];
    for (name, controller, stays_exact) in [
        ("euler", euler(from), false),
        ("slerp", quaternions(Slerp), true),
        ("squad", quaternions(Squad), true),
        ("cubic", quaternions(Cubic), true),
        ("tcb", tcb(), true),
        ("stack", stack(from), false),
    ] {
        let source = scene(from, rests, Some([controller.clone(), controller.clone()]));
        let result = carried(&source, &scene(RotationOrder::Zxy, other, None));
        let off = worst(&source, &result.scene);
        assert!(off <= if stays_exact { 1e-9 } else { 0.05 }, "{name}: {off}");
        assert!(result.world_error.largest.to_degrees() <= 0.05);
        for (entry, (_, track)) in result.ledger.entries.iter().zip(result.scene.takes[0].tracks()) {
            assert_ne!(entry.fate, Fate::LeftOut, "{name}: {}", entry.note);
            let is_same_type = track.controller.type_name() == controller.type_name();
            assert_eq!(is_same_type, name != "stack", "{name} became {}", track.controller.type_name());
        }
    }
}

#[test]
fn rests_that_differ_by_right_angles_keep_every_key_and_tangent() {
    use std::f64::consts::FRAC_PI_2;
    let from = RotationOrder::Xyz;
    let rests = [DQuat::IDENTITY, DQuat::IDENTITY];
    let source = scene(from, rests, Some([euler(from), euler(from)]));
    // The same bones with their axes a quarter turn about z: x is the other's y, and y its −x.
    let quarter = DQuat::from_rotation_z(FRAC_PI_2);
    let target = scene(RotationOrder::Yxz, [quarter, DQuat::IDENTITY], None);
    let result = carried(&source, &target);
    assert!(worst(&source, &result.scene) < 1e-9);
    for (entry, (_, track)) in result.ledger.entries.iter().zip(result.scene.takes[0].tracks()) {
        assert_eq!(entry.fate, Fate::Exact, "{}", entry.note);
        assert_eq!((entry.before, entry.after), (8, 8));
        let Controller::Euler(made) = &track.controller else { panic!() };
        let Controller::Euler(own) = euler(from) else { panic!() };
        // What turned about x turns about −y or y now, by the same keys and slopes.
        for (key, was) in made.curves[1].keys().iter().zip(own.curves[0].keys()) {
            assert_eq!(key.time, was.time);
            assert!((key.value.abs() - was.value.abs()).abs() < 1e-12);
            let slope = |key: &Key| key.tangent_out.slope_per_second().abs();
            assert!((slope(key) - slope(was)).abs() < 1e-12);
        }
    }
}

#[test]
fn carrying_there_and_back_is_the_identity_where_it_is_exact() {
    let from = RotationOrder::Xyz;
    let plain = [DQuat::IDENTITY, DQuat::IDENTITY];
    let quarter = DQuat::from_rotation_y(std::f64::consts::FRAC_PI_2);
    let source = scene(from, plain, Some([euler(from), quaternions(QuaternionInterpolation::Squad)]));
    let out = carried(&source, &scene(RotationOrder::Zyx, [quarter, DQuat::IDENTITY], None));
    let back = carried(&out.scene, &scene(from, plain, None));
    assert!(worst(&source, &back.scene) < 1e-9);
    let keys =
        |scene: &Scene| scene.takes[0].tracks().map(|(_, t)| t.controller.key_count()).collect::<Vec<_>>();
    assert_eq!(keys(&source), keys(&back.scene));
    let Controller::Euler(first) = &back.scene.takes[0].layers[0].tracks[0].controller else { panic!() };
    let Controller::Euler(was) = euler(from) else { panic!() };
    for (a, b) in first.curves.iter().zip(&was.curves) {
        for (x, y) in a.keys().iter().zip(b.keys()) {
            assert_eq!(x.time, y.time);
            assert!((x.value - y.value).abs() < 1e-12, "{} {}", x.value, y.value);
        }
    }
}
