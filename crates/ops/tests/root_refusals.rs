//! Root motion that cannot be changed exactly is refused, each time for its reason, and nothing else is.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_ops::root::{RootError, RootOptions, centre, lift, pin};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, Weight};
use nimble_curve_scene::rig::{Node, NodeId, OpValue, ROTATION, Rig, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{Layer, LayerMode, RotationMixing};
use nimble_curve_scene::space::UpAxis;
use nimble_curve_testing::RATE;

use crate::carriers::{ENDS, going, joint, lines, options, places, scene, take, track};

/// What rests turned or scaled is refused, each for what it is; a turn of the hips by themselves is none of that.
#[test]
fn what_rests_turned_is_refused() {
    let figure = |change: fn(&mut Node), at: usize| {
        let mut rig = Rig::new("figure");
        let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
        let hips = rig.add(Some(root), joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
        change(rig.node_mut([root, hips][at]).unwrap());
        let source = scene(rig, UpAxis::Y, vec![track(hips, TRANSLATION, going(false))]);
        lift(&source, &options()).map(|_| ())
    };
    let refused = |done: Result<(), RootError>| match done {
        Err(RootError::RestsTurned(_)) => true,
        Ok(()) => false,
        Err(other) => panic!("{other}"),
    };
    fn turned(node: &mut Node) {
        if let OpValue::Rotate { angles, .. } = &mut node.transform[1].value {
            angles.x = 0.3;
        }
    }
    fn scaled(node: &mut Node) {
        node.transform.iter_mut().for_each(|op| {
            if let OpValue::Scale(scale) = &mut op.value {
                scale.y = 1.5;
            }
        });
    }
    fn before(node: &mut Node) {
        let value = OpValue::Orient(DQuat::from_rotation_z(0.2));
        node.transform.insert(1, TransformOp { name: "before".into(), value, inverse: false });
    }
    for (what, change, at, wanted) in [
        ("a root that is turned", turned as fn(&mut Node), 0, true),
        ("hips that are turned by their own angles", turned, 1, false),
        ("a scaled root", scaled, 0, true),
        ("scaled hips", scaled, 1, true),
        ("hips with a turn before their own", before, 1, true),
        ("a root with one", before, 0, true),
        ("nothing of that", |_| {}, 0, false),
    ] {
        assert_eq!(refused(figure(change, at)), wanted, "{what}");
    }
}

/// Layers that cannot be moved exactly are refused, each for its reason; a layer that only adds is not.
#[test]
fn layers_that_do_not_add_up_are_refused() {
    type Change = fn(&mut [Layer], NodeId, NodeId);
    let refusal = |change: Change, root_moves: bool| {
        let mut rig = Rig::new("figure");
        let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
        let hips = rig.add(Some(root), joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
        let still = |value: f64| lines(&[(ENDS.0, value), (ENDS.1, value)]);
        let turning =
            |order| Controller::Euler(EulerCurves { order, curves: [still(0.1), still(0.2), still(0.0)] });
        let mut base =
            vec![track(hips, TRANSLATION, going(false)), track(hips, ROTATION, turning(RotationOrder::Xzy))];
        if root_moves {
            base.push(track(root, TRANSLATION, going(false)));
        }
        let over =
            vec![track(hips, TRANSLATION, going(false)), track(hips, ROTATION, turning(RotationOrder::Xzy))];
        let added = Layer { name: "sway".into(), mode: LayerMode::Additive, ..Layer::base(over) };
        let mut layers = vec![Layer::base(base), added];
        change(&mut layers, root, hips);
        let mut source = scene(rig, UpAxis::Y, Vec::new());
        source.takes = vec![take(layers)];
        lift(&source, &options()).map(|_| ()).map_err(|why| why.to_string())
    };
    let cases: [(&str, Change, bool, &str); 6] = [
        ("it adds", |_, _, _| {}, false, ""),
        (
            "wholes",
            |layers, _, _| layers[1].rotations = RotationMixing::Quaternions,
            false,
            "mixes rotations as wholes",
        ),
        (
            "another order",
            |layers, _, hips| {
                let curves = [lines(&[(ENDS.0, 0.1)]), lines(&[(ENDS.0, 0.1)]), lines(&[(ENDS.0, 0.1)])];
                let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yzx, curves });
                layers[1].tracks[1] = track(hips, ROTATION, controller);
            },
            false,
            "mixes rotations as wholes",
        ),
        (
            "a base that counts in part",
            |layers, _, _| layers[0].weight = Weight::Constant(0.5),
            false,
            "does not count in full",
        ),
        (
            "one of both is replaced",
            |layers, _, _| layers[1].mode = LayerMode::Override,
            true,
            "replaces one of it",
        ),
        (
            "a root that turns",
            |layers, root, _| {
                let curves = [lines(&[(ENDS.0, 0.0), (ENDS.1, 0.1)]), Curve::default(), Curve::default()];
                let controller = Controller::Euler(EulerCurves { order: RotationOrder::Xzy, curves });
                layers[0].tracks.push(track(root, ROTATION, controller));
            },
            false,
            "turns or grows by itself",
        ),
    ];
    for (what, change, root_moves, wanted) in cases {
        match refusal(change, root_moves) {
            Ok(()) => assert_eq!(wanted, "", "{what} is not refused"),
            Err(why) => assert!(!wanted.is_empty() && why.contains(wanted), "{what}: {why}"),
        }
    }
}

/// A constant speed and a turn do not go together, and where nothing turns they need not.
#[test]
fn a_steady_speed_is_refused_where_something_turns() {
    let steady = |turn: Controller, samples_turn: bool| {
        let mut rig = Rig::new("figure");
        let hips = rig.add(None, joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
        let source = scene(
            rig,
            UpAxis::Y,
            vec![track(hips, TRANSLATION, going(samples_turn)), track(hips, ROTATION, turn)],
        );
        let options = RootOptions { steady: true, ..options() };
        (lift(&source, &options).err(), pin(&source, &options).err())
    };
    let angles = |keys: &[(i64, f64)]| {
        let curves = [lines(&[(ENDS.0, 0.0), (ENDS.1, 0.4)]), lines(keys), lines(&[(ENDS.0, 0.0)])];
        Controller::Euler(EulerCurves { order: RotationOrder::Xzy, curves })
    };
    let rows = |by: f64| {
        let values =
            (0..25).flat_map(|row| [0.01 * f64::from(row), 0.3 + by * f64::from(row), 0.0]).collect();
        let kind = SampleKind::Euler(RotationOrder::Xzy);
        Controller::Samples(Samples { start: RATE.ticks(ENDS.0), rate: RATE, kind, values })
    };
    let refused = (Some(RootError::SteadyTurns), Some(RootError::SteadyTurns));
    assert_eq!(steady(angles(&[(ENDS.0, 0.0), (ENDS.1, 0.2)]), false), refused);
    assert_eq!(steady(angles(&[(ENDS.0, 0.2), (ENDS.1, 0.2)]), false), (None, None));
    assert_eq!(steady(rows(0.01), true), refused);
    assert_eq!(steady(rows(0.0), true), (None, None));
}

/// Where what is above a node turns or grows, its own axes are not those of the ground.
#[test]
fn below_what_turns_nothing_has_a_place_of_its_own() {
    let mut rig = Rig::new("figure");
    let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
    let hips = rig.add(Some(root), joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
    let turning = lines(&[(ENDS.0, 0.0), (ENDS.1, 0.4)]);
    let grows = places([turning.affine(1.0, 1.0), turning.affine(1.0, 1.0), turning.affine(1.0, 1.0)]);
    let curves = [Curve::default(), turning, Curve::default()];
    let turns = Controller::Euler(EulerCurves { order: RotationOrder::Xzy, curves });
    for (property, controller) in [(ROTATION, turns), (SCALE, grows)] {
        let tracks = vec![track(hips, TRANSLATION, going(false)), track(root, property, controller)];
        let source = scene(rig.clone(), UpAxis::Y, tracks);
        let options = RootOptions { node: Some("hips".into()), ..options() };
        let refused = RootError::RootTurns("root".into());
        assert_eq!(lift(&source, &options).unwrap_err(), refused);
        assert_eq!(pin(&source, &options).unwrap_err(), refused);
        assert_eq!(centre(&source, "hips", true).unwrap_err(), refused);
    }
}
