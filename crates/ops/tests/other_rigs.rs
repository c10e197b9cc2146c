//! Random scenes carried onto rigs whose every node rests otherwise and turns in another order: all turn as before in the
//! world, relative to how they rest, whatever moves them.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, angle_between};
use nimble_curve_ops::carry::{CarryOptions, NameMap, PairSpace, carry};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::{Fate, Ledger};
use nimble_curve_scene::rig::{NodeId, OpValue, Rig, TransformOp};
use nimble_curve_scene::scene::{Scene, Take};
use nimble_curve_testing::motion::{between, cases};
use nimble_curve_testing::scenes::{self, Contents, any_order, any_rotation, any_scene, any_vector};
use proptest::prelude::*;

use crate::THOUSANDTH;

/// How a node of the target rests: its order, what stands before its rotation, and its angles.
type Rest = (RotationOrder, Option<DQuat>, DVec3);

fn any_handles() -> impl Strategy<Value = Option<Handles>> {
    prop::sample::select(vec![None, Some(Handles::Plain), Some(Handles::Weighted)])
}

fn any_rests() -> impl Strategy<Value = Vec<Rest>> {
    prop::collection::vec((any_order(), prop::option::of(any_rotation()), any_vector(1.2)), 6)
}

/// A scene of one rig; factors go along axes, which point elsewhere on the other rig.
fn alone(scene: Scene) -> Scene {
    scenes::alone(scene, |_, target| target.property != "scale")
}

/// The same nodes as they rest otherwise, and nothing that moves them.
fn resting(scene: &Scene, rests: &[Rest]) -> Scene {
    let mut target = Scene { takes: Vec::new(), ..scene.clone() };
    let ids: Vec<_> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
    for (id, &(order, before, angles)) in ids.into_iter().zip(rests) {
        let node = target.rigs[0].node_mut(id).unwrap();
        node.transform.retain(|step| step.name != "before");
        let at = node.transform.iter().position(|step| step.name == "rotation");
        if let Some(at) = at {
            node.transform[at].value = OpValue::Rotate { order, angles };
            if let Some(before) = before {
                let value = OpValue::Orient(before);
                node.transform.insert(at, TransformOp { name: "before".into(), value, inverse: false });
            }
        }
    }
    target
}

/// The same rig without some of its nodes; what hung on them hangs on what they hung on.
fn without(scene: &Scene, kept: &[bool]) -> Scene {
    let old = &scene.rigs[0];
    let mut rig = Rig::new(old.name.clone());
    let mut made: Vec<Option<NodeId>> = Vec::new();
    for ((index, (_, node)), parent) in old.nodes().enumerate().zip(old.parent_positions()) {
        let above = parent.and_then(|parent| made[parent]);
        // At least one node stays.
        let stays = kept[index] || index + 1 == old.len() && rig.is_empty();
        made.push(if stays { Some(rig.add(above, node.clone()).unwrap()) } else { above });
    }
    Scene { rigs: vec![rig], ..scene.clone() }
}

/// At some times, for all nodes: world rotations relative to rest, and how far the node is from its rest beside its parent,
/// as what it hangs on turns and sizes it when all above it rests.
fn relative(scene: &Scene, take: &Take, times: &[f64]) -> Vec<Vec<(DQuat, DVec3)>> {
    let mut rest = Pose::default();
    Evaluator::new(scene, None, 0).unwrap().pose_at(0.0, &mut rest);
    let parents = scene.rigs[0].parent_positions();
    let mut evaluator = Evaluator::new(scene, Some(take), 0).unwrap();
    let mut pose = Pose::default();
    let at = |&time: &f64| {
        evaluator.pose_at(time, &mut pose);
        let node = |(node, parent): (usize, &Option<usize>)| {
            let above = parent.map_or(DMat3::IDENTITY, |parent| rest.world[parent].matrix3);
            let moved = above * (pose.local[node].translation - rest.local[node].translation);
            (pose.world_rotation[node] * rest.world_rotation[node].conjugate(), moved)
        };
        parents.iter().enumerate().map(node).collect()
    };
    times.iter().map(at).collect()
}

/// At some times, for all nodes: how they are turned from their rest beside their parents, about the parents' axes.
fn beside(scene: &Scene, take: &Take, times: &[f64]) -> Vec<Vec<DQuat>> {
    let mut rest = Pose::default();
    Evaluator::new(scene, None, 0).unwrap().pose_at(0.0, &mut rest);
    let mut evaluator = Evaluator::new(scene, Some(take), 0).unwrap();
    let mut pose = Pose::default();
    let at = |&time: &f64| {
        evaluator.pose_at(time, &mut pose);
        pose.local_rotation
            .iter()
            .zip(&rest.local_rotation)
            .map(|(now, rest)| *now * rest.conjugate())
            .collect()
    };
    times.iter().map(at).collect()
}

/// Whether what moves a node was left out, and whether what turns it or one above it was: the ledger says so.
fn lost(scene: &Scene, take: &Take, ledger: &Ledger) -> Vec<(bool, bool)> {
    let left_out = |name: &str, counts: fn(&str) -> bool| {
        let is_its = |channel: &str| {
            channel.split_once(':').is_some_and(|(node, property)| node == name && counts(property))
        };
        let entries = ledger.entries.iter().filter(|entry| entry.take == take.name);
        entries.filter(|entry| entry.fate == Fate::LeftOut).any(|entry| is_its(&entry.channel))
    };
    let mut lost: Vec<(bool, bool)> = Vec::new();
    for ((_, node), parent) in scene.rigs[0].nodes().zip(scene.rigs[0].parent_positions()) {
        let is_moved = left_out(&node.name, |property| !property.contains("attribute"));
        let is_turned =
            left_out(&node.name, |property| !property.contains("attribute") && property != "translation");
        lost.push((is_moved, is_turned || parent.is_some_and(|parent| lost[parent].1)));
    }
    lost
}

fn carried(scene: &Scene, target: &Scene, handles: Option<Handles>) -> (Scene, Ledger, f64) {
    carried_by(scene, target, handles, |_| {})
}

/// Carried by a map of equal names with something else in it.
fn carried_by(
    scene: &Scene,
    target: &Scene,
    handles: Option<Handles>,
    change: impl FnOnce(&mut NameMap),
) -> (Scene, Ledger, f64) {
    let names = target.rigs[0].nodes().map(|(_, node)| (node.name.clone(), node.name.clone()));
    let mut map = NameMap::of_nodes(names);
    change(&mut map);
    let options =
        CarryOptions { tolerance: THOUSANDTH, scale: Some(1.0), handles, ..CarryOptions::default() };
    let carried = carry(scene, target, &map, &options).unwrap();
    (carried.scene, carried.ledger, carried.world_error.largest)
}

/// A scene without its baked data: between its samples nobody says how it turns. That the whole can be carried was looked at.
fn without_samples(mut scene: Scene) -> Scene {
    for layer in scene.takes.iter_mut().flat_map(|take| &mut take.layers) {
        layer.tracks.retain(|track| track.controller.samples().is_none());
    }
    scene
}

/// The most by which rotations may be off, in parts of the tolerance.
const ONCE: f64 = 1.0 + 1e-9;
/// Where rotations nearly half a turn apart are blended, whatever either of them is off shows many times larger.
const BLENDED: f64 = 5.0;

/// A turn and a way as a mirror across the plane normal to an axis shows them.
fn reflected((turn, way): (DQuat, DVec3), axis: usize) -> (DQuat, DVec3) {
    let mut normal = DVec3::ZERO;
    normal[axis] = 1.0;
    let along = |v: DVec3| 2.0 * v[axis] * normal;
    let v = turn.xyz();
    // Turns go the other way about all axes but the one that is normal to the mirror.
    let v = along(v) - v;
    (DQuat::from_xyzw(v.x, v.y, v.z, turn.w), way - along(way))
}

fn all_turn_as_before(
    scene: Scene,
    rests: &[Rest],
    handles: Option<Handles>,
    most: f64,
) -> Result<(), TestCaseError> {
    all_turn_as_in_a_mirror(scene, rests, handles, None, most)
}

/// All turn as before, or as a mirror normal to an axis shows it.
fn all_turn_as_in_a_mirror(
    scene: Scene,
    rests: &[Rest],
    handles: Option<Handles>,
    mirror: Option<usize>,
    most: f64,
) -> Result<(), TestCaseError> {
    let whole = alone(scene);
    let target = resting(&whole, rests);
    carried_by(&whole, &target, handles, |map| map.mirror = mirror);
    let scene = without_samples(whole);
    let (result, ledger, said) = carried_by(&scene, &target, handles, |map| map.mirror = mirror);
    let times = between(0, 40);
    let mut worst = (0.0, String::new());
    for (take, new) in scene.takes.iter().zip(&result.takes) {
        let (before, after) = (relative(&scene, take, &times), relative(&result, new, &times));
        let lost = lost(&scene, take, &ledger);
        for ((a, b), time) in before.iter().zip(&after).zip(&times) {
            for (node, (a, (b, to))) in a.iter().zip(b).enumerate() {
                let (a, from) = &mirror.map_or(*a, |axis| reflected(*a, axis));
                prop_assert!(
                    lost[node].0 || from.abs_diff_eq(*to, 1e-3 / scene.space.metres_per_unit),
                    "n{node}: {from} became {to}"
                );
                if lost[node].1 {
                    continue;
                }
                let angle = angle_between(*a, *b);
                if angle > worst.0 {
                    let frame = time / nimble_curve_testing::RATE.ticks_per_frame();
                    worst = (angle, format!("n{node} of '{}' at frame {frame}", take.name));
                }
            }
        }
    }
    // Sums are held to the tolerance at half frames; these times lie beside them, and keys one frame apart.
    prop_assert!(worst.0 <= 2e-3 * most, "{} rad: {}, said {said}\n{:#?}", worst.0, worst.1, ledger.entries);
    let all_came = ledger.entries.iter().all(|entry| entry.fate != Fate::LeftOut);
    prop_assert!(said <= 1e-3 * most || !all_came, "said {said}");
    Ok(())
}

proptest! {
    #![proptest_config(cases(60))]

    #[test]
    fn curves_of_one_layer_turn_all_nodes_as_before(scene in any_scene(Contents::SIMPLE), rests in any_rests(), handles in any_handles()) {
        all_turn_as_before(scene, &rests, handles, ONCE)?;
    }

    #[test]
    fn any_controllers_turn_all_nodes_as_before(
        scene in any_scene(Contents { all_controllers: true, outside: true, ..Contents::SIMPLE }), rests in any_rests(), handles in any_handles(),
    ) {
        all_turn_as_before(scene, &rests, handles, ONCE)?;
    }

    #[test]
    fn layers_turn_all_nodes_as_before(
        scene in any_scene(Contents { layers: 3, weights: true, ..Contents::SIMPLE }), rests in any_rests(), handles in any_handles(),
    ) {
        all_turn_as_before(scene, &rests, handles, BLENDED)?;
    }

    #[test]
    fn whatever_moves_nodes_they_turn_as_before_or_it_is_said(scene in any_scene(Contents { weights: false, ..Contents::ALL }), rests in any_rests(), handles in any_handles()) {
        all_turn_as_before(scene, &rests, handles, ONCE)?;
    }

    #[test]
    fn in_a_mirror_all_turn_the_other_way(
        scene in any_scene(Contents { all_controllers: true, layers: 2, ..Contents::SIMPLE }), rests in any_rests(),
        handles in any_handles(), axis in 0..3_usize,
    ) {
        all_turn_as_in_a_mirror(scene, &rests, handles, Some(axis), ONCE)?;
    }

    /// Beside its parent each node turns by the same about the parent's axes, whatever turns above it.
    #[test]
    fn beside_their_parents_nodes_turn_as_before(
        scene in any_scene(Contents { all_controllers: true, layers: 2, ..Contents::SIMPLE }), rests in any_rests(),
        handles in any_handles(),
    ) {
        let scene = without_samples(alone(scene));
        let target = resting(&scene, &rests);
        let (result, ledger, _) = carried_by(&scene, &target, handles, |map| {
            map.nodes.iter_mut().for_each(|pair| pair.space = PairSpace::Parent);
        });
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&result.takes) {
            let (before, after) = (beside(&scene, take, &times), beside(&result, new, &times));
            let lost = lost(&scene, take, &ledger);
            for ((a, b), time) in before.iter().zip(&after).zip(&times) {
                for (node, (a, b)) in a.iter().zip(b).enumerate().filter(|(node, _)| !lost[*node].1) {
                    let angle = angle_between(*a, *b);
                    let frame = time / nimble_curve_testing::RATE.ticks_per_frame();
                    prop_assert!(angle <= 2e-3, "{angle} rad: n{node} of '{}' at frame {frame}\n{:#?}", take.name, ledger.entries);
                }
            }
        }
    }

    #[test]
    fn where_nodes_are_missing_what_hangs_on_them_turns_as_before(
        scene in any_scene(Contents { layers: 2, ..Contents::SIMPLE }),
        rests in any_rests(), kept in prop::collection::vec(prop::bool::weighted(0.6), 6),
    ) {
        let scene = without_samples(alone(scene));
        let target = without(&resting(&scene, &rests), &kept);
        let (result, ledger, said) = carried(&scene, &target, None);
        let position = |scene: &Scene, name: &str| scene.rigs[0].nodes().position(|(_, node)| node.name == name);
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&result.takes) {
            let (before, after) = (relative(&scene, take, &times), relative(&result, new, &times));
            let lost = lost(&scene, take, &ledger);
            for (_, node) in target.rigs[0].nodes() {
                let (from, to) = (position(&scene, &node.name).unwrap(), position(&target, &node.name).unwrap());
                if lost[from].1 {
                    continue;
                }
                for ((a, b), time) in before.iter().zip(&after).zip(&times) {
                    let angle = angle_between(a[from].0, b[to].0);
                    let frame = time / nimble_curve_testing::RATE.ticks_per_frame();
                    prop_assert!(
                        angle <= 2e-3, "{angle} rad: {} of '{}' at frame {frame}, said {said}\n{:#?}",
                        node.name, take.name, ledger.entries
                    );
                }
            }
        }
    }
}
