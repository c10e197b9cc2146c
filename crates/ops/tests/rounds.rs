//! Loops written out: what carries the body goes on along the ground, whichever way it was made to stand, on all layers.

use std::f64::consts::TAU;

use glam::DVec3;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::bake::{BakeOptions, bake};
use nimble_curve_ops::cycle::{CycleOptions, extend};
use nimble_curve_ops::travel::travel;
use nimble_curve_scene::controller::{Controller, Weight};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, LayerMode, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

use crate::timeline::{lines, range, scene, turns};

/// A figure made for another up axis, stood up by the node above its hips: turned at rest, or by a track.
#[test]
fn rounds_of_a_figure_that_was_stood_up_go_on_along_the_ground() {
    for (turned, is_at_rest) in [(-0.25, true), (-0.25, false), (0.25, true), (0.0, true)] {
        let mut rig = Rig::new("figure");
        let mut stand = Node::new("armature", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
        if is_at_rest && let OpValue::Rotate { angles, .. } = &mut stand.transform[1].value {
            angles.x = turned * TAU;
        }
        let stand = rig.add(None, stand).unwrap();
        let order = if turned == 0.0 { RotationOrder::Xzy } else { RotationOrder::Xyz };
        let hips = rig.add(Some(stand), Node::new("hips", NodeKind::Joint, DVec3::ZERO, order)).unwrap();
        // In the world a step of 1.4 ahead, a bob of 0.1, and a turn of a tenth of a round to the left.
        let (ahead, bob) = (lines(&[(0, 0.7), (24, 2.1)]), lines(&[(0, 0.9), (12, 1.0), (24, 0.9)]));
        let still = lines(&[(0, 0.3)]);
        let turn = [(0, 0.0), (24, 0.1 * TAU)];
        let (places, angles) = match turned {
            // Its own z is up, and its own y points back.
            at if at < 0.0 => {
                ([still.clone(), ahead.affine(-1.0, 0.0), bob], [&[(0, 0.0)][..], &[(0, 0.0)], &turn])
            }
            // Its own z is down.
            at if at > 0.0 => (
                [still.clone(), ahead, bob.affine(-1.0, 0.0)],
                [&[(0, 0.0)][..], &[(0, 0.0)], &[(0, 0.0), (24, -0.1 * TAU)]],
            ),
            _ => ([still.clone(), bob, ahead], [&[(0, 0.0)][..], &turn, &[(0, 0.0)]]),
        };
        let mut tracks = vec![
            Track {
                target: Target::new(0, hips, TRANSLATION),
                controller: Controller::Components(places.to_vec()),
            },
            Track { target: Target::new(0, hips, ROTATION), controller: turns(order, angles) },
        ];
        if !is_at_rest {
            let controller = turns(RotationOrder::Xyz, [&[(0, turned * TAU)], &[(0, 0.0)], &[(0, 0.0)]]);
            tracks.push(Track { target: Target::new(0, stand, ROTATION), controller });
        }
        let take = Take::new("walk", range(0, 24), vec![Layer::base(tracks)]);
        let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take);
        let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
        for scene in [bake(&scene, &BakeOptions::default()).0, scene] {
            let (long, _) = extend(&scene, 3, &options).unwrap();
            let kinds = |scene: &Scene| {
                let tracks = scene.takes[0].tracks().map(|(_, track)| track.controller.samples().is_some());
                tracks.collect::<Vec<_>>()
            };
            assert_eq!(kinds(&long), kinds(&scene), "what was sampled stays so, and nothing else is");
            let whole = travel(&long, &long.takes[0], long.takes[0].range).unwrap();
            // Three chords of 1.4, each a tenth of a round further.
            let angle = 0.1 * TAU;
            let chord = 1.4 * (1.0 + 2.0 * angle.cos());
            let seen = (whole.distance, whole.turn, whole.height_change);
            assert!(
                (seen.0 - chord).abs() < 1e-6 && (seen.1 - 3.0 * angle).abs() < 1e-6 && seen.2.abs() < 1e-6,
                "{turned}, at rest {is_at_rest}: {seen:?} for {chord}"
            );
            let one = travel(&scene, &scene.takes[0], range(0, 24)).unwrap();
            assert!(
                (whole.path_length - 3.0 * one.path_length).abs() < 1e-6,
                "no way is gone between rounds"
            );
        }
    }
}

/// One that stands askew is refused: what of its places goes on cannot be told.
#[test]
fn rounds_of_a_figure_that_stands_askew_are_refused() {
    let z = lines(&[(0, 0.0), (24, 1.4)]);
    let places = Controller::Components(vec![lines(&[(0, 0.0)]), lines(&[(0, 1.0)]), z]);
    let mut scene = scene(vec![(0, TRANSLATION, places)], 24);
    let ids: Vec<NodeId> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
    let mut askew = Node::new("set", NodeKind::Locator, DVec3::ZERO, RotationOrder::Xyz);
    if let OpValue::Rotate { angles, .. } = &mut askew.transform[1].value {
        angles.x = 0.3;
    }
    scene.rigs[0].insert_above(ids[0], askew).unwrap();
    let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
    let refused = extend(&scene, 3, &options).unwrap_err().to_string();
    assert!(refused.contains("none of its axes is upright"), "{refused}");
    assert!(extend(&scene, 1, &options).is_ok(), "a single round goes nowhere else");
}

/// Where rounds turn, what layers add turns along with the rest; what they replace, or add in part of the time, is refused.
#[test]
fn layers_turn_along_where_rounds_turn() {
    let turn = turns(RotationOrder::Xzy, [&[(0, 0.0)], &[(0, 0.0), (24, 0.1 * TAU)], &[(0, 0.0)]]);
    let places = |keys: [&[(i64, f64)]; 3]| Controller::Components(keys.map(lines).to_vec());
    let base = places([&[(0, 0.4), (24, 0.9)], &[(0, 1.0)], &[(0, 0.2), (24, 1.6)]]);
    let added = places([&[(0, 0.1), (12, 0.3), (24, 0.1)], &[(0, 0.0)], &[(0, 0.0), (24, 0.5)]]);
    let mut scene = scene(vec![(0, TRANSLATION, base), (0, ROTATION, turn)], 24);
    let hips = scene.rigs[0].nodes().next().unwrap().0;
    // The order in which its turn acts last.
    scene.rigs[0].node_mut(hips).unwrap().transform[1].value =
        OpValue::Rotate { order: RotationOrder::Xzy, angles: DVec3::ZERO };
    let over = |mode, weight, muted| {
        let track = Track { target: Target::new(0, hips, TRANSLATION), controller: added.clone() };
        Layer { name: "sway".into(), mode, weight, muted, ..Layer::base(vec![track]) }
    };
    let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
    let extended = |layer: Layer| {
        let mut layered = scene.clone();
        layered.takes[0].layers.push(layer);
        extend(&layered, 3, &options).map(|(long, _)| (layered, long)).map_err(|why| why.to_string())
    };
    let fading = || Weight::Curve(lines(&[(0, 0.0), (24, 1.0)]));
    for (mode, weight, muted) in [
        (LayerMode::Additive, Weight::FULL, false),
        (LayerMode::Additive, Weight::Constant(0.5), false),
        (LayerMode::Override, Weight::FULL, true),
    ] {
        let (short, long) = extended(over(mode, weight, muted)).unwrap();
        let place = |scene: &Scene, frame: f64| {
            let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
            let mut pose = Pose::default();
            evaluator.pose_at(frame * RATE.ticks_per_frame(), &mut pose);
            pose.world[0].translation
        };
        let start = place(&short, 0.0);
        let mut begins = start;
        for round in 0..3 {
            let turned = glam::DQuat::from_rotation_y(0.1 * TAU * f64::from(round));
            for half in 0..48 {
                let frame = f64::from(half) / 2.0 + 0.25;
                let way = place(&short, frame) - start;
                let (found, wanted) = (place(&long, frame + 24.0 * f64::from(round)), begins + turned * way);
                assert!(
                    found.abs_diff_eq(wanted, 1e-9),
                    "{mode:?} muted {muted}: {found} for {wanted} at {frame} of {round}"
                );
            }
            begins += turned * (place(&short, 24.0) - start);
        }
    }
    for (mode, weight) in [(LayerMode::Override, Weight::FULL), (LayerMode::Additive, fading())] {
        let why = extended(over(mode, weight, false)).unwrap_err();
        assert!(why.contains("flatten first"), "{why}");
    }
}
