//! Root motion of random scenes: what hangs on the hips stays where it was in the world, whatever moves to the root.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::value::Value;
use nimble_curve_ops::root::{RootError, RootOptions, centre, lift, pin, restore};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{Evaluator, Pose, PropertySampler};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{NodeId, OpValue, TransformOp};
use nimble_curve_scene::scene::{Scene, Take, Target};
use nimble_curve_testing::motion::{between, cases, frames};
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;

use crate::THOUSANDTH;

/// A random scene, and one node of its first rig: it and all above it rest unturned, in their own size.
pub(crate) fn any_carried(contents: Contents) -> impl Strategy<Value = (Scene, NodeId)> {
    (any_scene(contents), any::<prop::sample::Index>(), prop::bool::ANY, prop::bool::weighted(0.8)).prop_map(
        |(mut scene, index, turned, still)| {
            let rig = &mut scene.rigs[0];
            let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
            let carrier = ids[index.index(ids.len())];
            let chain: Vec<NodeId> = std::iter::successors(Some(carrier), |id| rig.parent(*id)).collect();
            for &id in &chain {
                let node = rig.node_mut(id).unwrap();
                node.transform
                    .retain(|step| ["translation", "rotation", "scale"].contains(&step.name.as_str()));
                for TransformOp { value, .. } in &mut node.transform {
                    match value {
                        OpValue::Scale(scale) => *scale = DVec3::ONE,
                        OpValue::Rotate { angles, .. } if id != carrier || !turned => *angles = DVec3::ZERO,
                        _ => {}
                    }
                }
            }
            // What grows has another size of travel; a root that turns is refused.
            let is_still = |target: &Target| {
                target.rig == 0
                    && chain.contains(&target.node)
                    && match target.property.as_str() {
                        "scale" => true,
                        "rotation" => still && target.node != carrier,
                        _ => false,
                    }
            };
            for layer in scene.takes.iter_mut().flat_map(|take| &mut take.layers) {
                layer.tracks.retain(|track| !is_still(&track.target));
            }
            (scene, carrier)
        },
    )
}

/// The world transforms and rotations of some nodes of the first rig.
fn places(scene: &Scene, take: &Take, ids: &[NodeId], times: &[f64]) -> Vec<(DAffine3, DQuat)> {
    let mut evaluator = Evaluator::new(scene, Some(take), 0).unwrap();
    let mut pose = Pose::default();
    let mut all = Vec::new();
    for &time in times {
        evaluator.pose_at(time, &mut pose);
        let at = |id: &NodeId| scene.rigs[0].position(*id).unwrap();
        all.extend(ids.iter().map(|id| (pose.world[at(id)], pose.world_rotation[at(id)])));
    }
    all
}

fn value(scene: &Scene, take: &Take, node: NodeId, property: &str, time: f64) -> Value {
    let target = Target { rig: 0, node, property: property.into() };
    PropertySampler::new(scene, take, &target).unwrap().value_at(time)
}

/// How far a node is from where it rests on the ground, and how far it is turned about the up axis beside its rest.
fn travelled(scene: &Scene, take: &Take, node: NodeId, time: f64) -> (DVec3, Option<f64>) {
    let up = scene.space.up.index();
    let Value::Vector(mut place) = value(scene, take, node, "translation", time) else { panic!("a vector") };
    place[up] = 0.0;
    let heading = match value(scene, take, node, "rotation", time) {
        Value::Euler { order, angles } if order.axes().0 == up => Some(angles[up]),
        _ => None,
    };
    (place, heading)
}

pub(crate) const LAYERED: Contents = Contents { layers: 3, ..Contents::SIMPLE };

pub(crate) fn options(scene: &Scene, node: NodeId, turn: bool, height: bool) -> RootOptions {
    let node = Some(Addresses::new(scene).node((0, node)).to_owned());
    RootOptions { turn, height, node, tolerance: THOUSANDTH, ..RootOptions::default() }
}

/// Errors that a scene may meet with good reason.
pub(crate) fn is_refusal(error: &RootError) -> bool {
    matches!(
        error,
        RootError::Mixed(_)
            | RootError::Layered(_)
            | RootError::Cannot { .. }
            | RootError::RootTurns(_)
            // What is above stands turned by a track.
            | RootError::RestsTurned(_)
    )
}

proptest! {
    #![proptest_config(cases(200))]

    #[test]
    fn what_hangs_on_the_hips_stays_where_it_was(
        (scene, hips) in any_carried(LAYERED), turn in prop::bool::ANY, height in prop::bool::ANY,
    ) {
        let options = options(&scene, hips, turn, height);
        // Layers that mix rotations as wholes are refused, and random ones often do.
        static CASES: Refusals = Refusals::at_most(0.4);
        CASES.begin();
        let (lifted, ledger) = match lift(&scene, &options) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok(done) => done,
        };
        let refitted = ledger.entries.iter().any(|entry| entry.fate >= Fate::Refitted);
        let rig = &scene.rigs[0];
        let hangs = |id: NodeId| std::iter::successors(Some(id), |id| rig.parent(*id)).any(|id| id == hips);
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).filter(|id| hangs(*id)).collect();
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&lifted.takes) {
            let (before, after) = (places(&scene, take, &ids, &times), places(&lifted, new, &ids, &times));
            for (index, ((a, was), (b, is))) in before.iter().zip(&after).enumerate() {
                // A turn that is off moves what is far away by more.
                let reach = 1.0 + a.translation.length() * scene.space.metres_per_unit;
                let within = if refitted { 1.01e-3 } else { 1e-6 };
                let off = a.translation.distance(b.translation) * scene.space.metres_per_unit;
                prop_assert!(off <= within * reach.max(20.0), "{off} m at {}", times[index / ids.len()]);
                let angle = was.angle_between(*is);
                prop_assert!(angle <= within.max(1e-5), "{angle} rad at {}", times[index / ids.len()]);
            }
            // The hips stay where they are, and turn no more.
            if take.active_tracks().any(|(_, track)| track.target.node == hips && track.target.rig == 0) {
                let start = travelled(&lifted, new, hips, times[0]);
                for &time in &times {
                    let (place, heading) = travelled(&lifted, new, hips, time);
                    prop_assert!(place.abs_diff_eq(start.0, 1e-6), "{place} {}", start.0);
                    if turn {
                        let apart = heading.unwrap() - start.1.unwrap();
                        prop_assert!(apart.abs() < 1e-6, "{apart}");
                    }
                }
            }
        }
    }

    #[test]
    fn what_was_pinned_stays_in_place_and_comes_back_exactly(
        (scene, hips) in any_carried(LAYERED), turn in prop::bool::ANY, height in prop::bool::ANY,
    ) {
        let options = options(&scene, hips, turn, height);
        // A quarter of random stacks mix rotations as wholes.
        static CASES: Refusals = Refusals::at_most(0.35);
        CASES.begin();
        let (pinned, _) = match pin(&scene, &options) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok(done) => done,
        };
        let times = between(0, 40);
        for take in &pinned.takes {
            let start = travelled(&pinned, take, hips, times[0]);
            for &time in &times {
                let (place, heading) = travelled(&pinned, take, hips, time);
                prop_assert!(place.abs_diff_eq(start.0, 1e-6), "{place} {}", start.0);
                if let (true, Some(heading), Some(first)) = (turn, heading, start.1) {
                    prop_assert!((heading - first).abs() < 1e-6, "{heading} {first}");
                }
            }
        }
        match restore(&pinned) {
            Ok((restored, _)) => prop_assert!(restored == scene),
            Err(error) => prop_assert!(error == RootError::NothingPinned && pinned == scene, "{error}"),
        }
    }

    #[test]
    fn a_centred_node_starts_at_the_origin_and_goes_the_same_way(
        (scene, hips) in any_carried(LAYERED), throughout in prop::bool::ANY,
    ) {
        let name = Addresses::new(&scene).node((0, hips)).to_owned();
        // Of a fifth what is above turns.
        static CASES: Refusals = Refusals::at_most(0.3);
        CASES.begin();
        let (centred, _) = match centre(&scene, &name, throughout) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok(done) => done,
        };
        let times = frames(0, 40);
        for (take, new) in scene.takes.iter().zip(&centred.takes) {
            let moves = take.active_tracks().any(|(_, track)| {
                (track.target.rig, track.target.node, track.target.property.as_str()) == (0, hips, "translation")
            });
            if !moves {
                continue;
            }
            let start = travelled(&scene, take, hips, times[0]).0;
            for &time in &times {
                let (was, is) = (travelled(&scene, take, hips, time).0, travelled(&centred, new, hips, time).0);
                let expected = if throughout { DVec3::ZERO } else { was - start };
                prop_assert!(is.abs_diff_eq(expected, 1e-6), "{is} for {expected} at {time}");
            }
            prop_assert_eq!(
                value(&scene, take, hips, "rotation", times[7]), value(&centred, new, hips, "rotation", times[7])
            );
        }
    }

    #[test]
    fn other_controllers_of_the_hips_move_as_before_or_are_refused(
        (scene, hips) in any_carried(Contents { all_controllers: true, ..Contents::SIMPLE }), turn in prop::bool::ANY,
    ) {
        let options = options(&scene, hips, turn, false);
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Ok((lifted, _)) = lift(&scene, &options) else { return CASES.refused() };
        let ids: Vec<NodeId> = scene.rigs[0].nodes().map(|(id, _)| id).filter(|id| *id == hips).collect();
        for (take, new) in scene.takes.iter().zip(&lifted.takes) {
            // What was sampled is held to its samples, which need not be on frames.
            let is_sampled = |controller: &Controller| matches!(controller, Controller::Samples(_) | Controller::Procedural(_));
            if take.tracks().any(|(_, track)| is_sampled(&track.controller)) {
                continue;
            }
            let times = between(0, 40);
            let (before, after) = (places(&scene, take, &ids, &times), places(&lifted, new, &ids, &times));
            for ((a, was), (b, is)) in before.iter().zip(&after) {
                let off = a.translation.distance(b.translation) * scene.space.metres_per_unit;
                prop_assert!(off <= 2e-3, "{off} m");
                let angle = was.angle_between(*is);
                prop_assert!(angle <= 2e-3, "{angle} rad");
            }
        }
    }
}
