//! Scales that go into lengths: nothing moves in the world, whatever is on it.

use glam::DVec3;
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_ops::unscale::{UnscaleError, unscaled};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::judge::{Limits, judge};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, Rig, SCALE, ScaleInheritance, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;

const LIMITS: Limits = Limits { angle: 1e-6, length: 1e-6, number: 1e-6, ..Limits::NONE };

/// The scene with even scales at rest on some of its nodes.
fn scaled(mut scene: Scene, sizes: &[f64]) -> Scene {
    let mut next = sizes.iter().copied().cycle();
    for rig in &mut scene.rigs {
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
        for id in ids {
            let size = next.next().unwrap();
            for op in rig.node_mut(id).unwrap().transform.iter_mut().filter(|op| op.name == SCALE) {
                op.value = OpValue::Scale(DVec3::splat(size));
            }
        }
    }
    scene
}

/// The places of all nodes, and where their axes point.
fn posed(scene: &Scene, take: &Take, time: f64) -> Vec<[DVec3; 4]> {
    let mut all = Vec::new();
    for rig in 0..scene.rigs.len() {
        let mut pose = Pose::default();
        Evaluator::new(scene, Some(take), rig).unwrap().pose_at(time, &mut pose);
        all.extend(pose.world.iter().map(|world| {
            let axis = |index: usize| world.matrix3.col(index).normalize_or_zero();
            [world.translation, axis(0), axis(1), axis(2)]
        }));
    }
    all
}

proptest! {
    #[test]
    fn nothing_moves(
        scene in any_scene(Contents::ALL),
        sizes in prop::collection::vec(prop::sample::select(vec![1.0, 0.01, 0.5, 2.0, 100.0]), 7),
    ) {
        let source = scaled(scene, &sizes);
        let Some(made) = unscaled(&source).unwrap() else { return Ok(()) };
        prop_assert_eq!(made.ledger.entries.len(), source.takes.iter().map(|take| take.tracks().count()).sum::<usize>());
        for (then, now) in source.takes.iter().zip(&made.scene.takes) {
            for part in 0..=8 {
                let (first, last) = (then.range.first.as_f64(), then.range.last.as_f64());
                let time = first + (last - first) * f64::from(part) / 8.0;
                let (then, now) = (posed(&source, then, time), posed(&made.scene, now, time));
                let size = then.iter().map(|node| node[0].length()).fold(1.0, f64::max);
                for (then, now) in then.iter().zip(&now) {
                    prop_assert!(then[0].distance(now[0]) <= 1e-9 * size, "{} {}", then[0], now[0]);
                    for axis in 1..4 {
                        prop_assert!(then[axis].distance(now[axis]) <= 1e-6, "{} {}", then[axis], now[axis]);
                    }
                }
            }
        }
        let verdict = judge(&source, &made.scene, &made.claim, LIMITS, 1.0);
        prop_assert!(verdict.beyond().is_none(), "{:?}", verdict.beyond().map(|(judged, ..)| &judged.channel));
        // Even ones are gone, but for those that have to stay, and a note says so.
        let stays = made.ledger.notes.iter().any(|note| note.contains("does not inherit"));
        let stacked = source.takes.iter().flat_map(Take::tracks).any(|(_, track)| {
            track.target.property == SCALE && matches!(track.controller, Controller::Stack(_))
        });
        let is_left = made.scene.rigs.iter().flat_map(|rig| rig.nodes()).any(|(_, node)| {
            let view = node.canonical();
            view.is_some_and(|view| view.scale == DVec3::splat(view.scale.x) && view.scale.x != 1.0)
        });
        prop_assert!(!is_left || stays || stacked);
    }
}

/// A rig that stands at a hundredth, and a joint below it that moves.
fn armature() -> Scene {
    let node = |name: &str, at| Node::new(name, NodeKind::Joint, at, RotationOrder::Xyz);
    let mut rig = Rig::new("figure");
    let top = rig.add(None, node("armature", DVec3::X)).unwrap();
    let hips = rig.add(Some(top), node("hips", DVec3::new(0.0, 95.0, 0.0))).unwrap();
    rig.add(Some(hips), node("spine", DVec3::new(0.0, 12.0, 0.0))).unwrap();
    let curves = [3.0, 4.0, 5.0].map(|far| Curve::through(RATE, [(0, 0.0), (24, far)]).unwrap());
    let moves = Track {
        target: Target::new(0, hips, TRANSLATION),
        controller: Controller::Components(curves.into()),
    };
    let range = TimeRange::new(RATE.ticks(0), RATE.ticks(24));
    let take = Take::new("walk", range, vec![Layer::base(vec![moves])]);
    scaled(Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take), &[0.01, 1.0, 1.0])
}

#[test]
fn lengths_are_a_hundredth_and_keys_stay() {
    let source = armature();
    let made = unscaled(&source).unwrap().unwrap();
    let [hips, spine] = [1, 2].map(|at| made.scene.rigs[0].nodes().nth(at).unwrap().1.rest().translation.y);
    assert!((hips - 0.95).abs() < 1e-12 && (spine - 0.12).abs() < 1e-12);
    let Controller::Components(curves) = &made.scene.takes[0].layers[0].tracks[0].controller else {
        panic!()
    };
    let ends: Vec<f64> = curves.iter().map(|curve| curve.keys().last().unwrap().value).collect();
    assert!(ends.iter().zip([0.03, 0.04, 0.05]).all(|(end, expected)| (end - expected).abs() < 1e-12));
    assert!(unscaled(&made.scene).unwrap().is_none());
}

/// The claim is not made of the result: a length that was forgotten, or a scale that stayed, is found.
#[test]
fn what_was_forgotten_is_found() {
    let source = armature();
    let made = unscaled(&source).unwrap().unwrap();
    let spine = made.scene.rigs[0].nodes().nth(2).unwrap().0;
    let mut short = made.scene.clone();
    for op in &mut short.rigs[0].node_mut(spine).unwrap().transform {
        if let OpValue::Translate(v) = &mut op.value {
            *v *= 100.0;
        }
    }
    let mut still_scaled = made.scene.clone();
    let top = still_scaled.rigs[0].nodes().next().unwrap().0;
    for op in still_scaled.rigs[0].node_mut(top).unwrap().transform.iter_mut().filter(|op| op.name == SCALE) {
        op.value = OpValue::Scale(DVec3::splat(0.01));
    }
    let mut unmoved = made.scene.clone();
    unmoved.takes[0].layers[0].tracks.clear();
    for wrong in [short, still_scaled, unmoved] {
        assert!(judge(&source, &wrong, &made.claim, LIMITS, 1.0).beyond().is_some());
    }
}

#[test]
fn scales_that_have_to_stay_are_named() {
    let mut source = armature();
    let spine = source.rigs[0].nodes().nth(2).unwrap().0;
    source.rigs[0].node_mut(spine).unwrap().inherits = ScaleInheritance::PositionOnly;
    assert!(unscaled(&source).unwrap().is_none(), "there is nothing that could go");
    let mut uneven = armature();
    let top = uneven.rigs[0].nodes().next().unwrap().0;
    for op in uneven.rigs[0].node_mut(top).unwrap().transform.iter_mut().filter(|op| op.name == SCALE) {
        op.value = OpValue::Scale(DVec3::new(0.01, 0.02, 0.01));
    }
    assert!(unscaled(&uneven).unwrap().is_none());
    assert!(UnscaleError::Constraints.to_string().contains("sample the joints first"));
}
