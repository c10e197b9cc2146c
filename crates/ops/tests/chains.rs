//! Carrying along chains whose every node turns in another order and rests otherwise: the errors add up, and stay within the
//! tolerance in the world.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Behaviour, Curve, Key};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, angle_between};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::carry::{Carried, CarryOptions, NameMap, NodePair, PairSpace, carry};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;
use nimble_curve_testing::scenes::{any_order, any_rotation};
use proptest::prelude::*;
use proptest::strategy::ValueTree as _;

const LAST: i64 = 72;

/// One node: its order and rest on both sides, and the keys of its three angles.
#[derive(Clone, Debug)]
struct Joint {
    orders: [RotationOrder; 2],
    rests: [DQuat; 2],
    keys: [Vec<(i64, f64)>; 3],
}

fn any_joint() -> impl Strategy<Value = Joint> {
    let keys = prop::collection::btree_map(1..LAST / 6, -0.7..0.7_f64, 2..8).prop_map(|keys| {
        let inside = keys.into_iter().map(|(place, value)| (place * 6, value));
        std::iter::once((0, 0.0)).chain(inside).chain([(LAST, 0.1)]).collect::<Vec<_>>()
    });
    let keys = prop::array::uniform3(keys);
    ([any_order(), any_order()], [any_rotation(), any_rotation()], keys)
        .prop_map(|(orders, rests, keys)| Joint { orders, rests, keys })
}

/// A chain of joints as it is on one side, with its animation on the first one.
fn scene(joints: &[Joint], side: usize) -> Scene {
    let mut rig = Rig::new("rig");
    let mut ids: Vec<NodeId> = Vec::new();
    for (index, joint) in joints.iter().enumerate() {
        let node =
            Node::new(format!("n{index}"), NodeKind::Joint, DVec3::new(0.0, 0.5, 0.0), joint.orders[side]);
        let node = node.with_before(OpValue::Orient(joint.rests[side]));
        ids.push(rig.add(ids.last().copied(), node).unwrap());
    }
    let curve = |keys: &[(i64, f64)]| {
        Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect()).unwrap()
    };
    let tracks = ids.iter().zip(joints).map(|(&node, joint)| Track {
        target: Target { rig: 0, node, property: "rotation".into() },
        controller: Controller::Euler(EulerCurves {
            order: joint.orders[0],
            curves: joint.keys.each_ref().map(|keys| curve(keys)),
        }),
    });
    let take = Take {
        name: "take".into(),
        folder: None,
        range: TimeRange::new(RATE.ticks(0), RATE.ticks(LAST)),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(tracks.collect())],
    };
    let takes = if side == 0 { vec![take] } else { Vec::new() };
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes,
    }
}

/// The same chain of which some joints have a few frames of motion that go round and round over the whole take.
fn looping(mut scene: Scene, loops: &[Option<(i64, Behaviour)>]) -> Scene {
    let tracks = &mut scene.takes[0].layers[0].tracks;
    for (track, (start, behaviour)) in
        tracks.iter_mut().zip(loops).filter_map(|(track, looped)| Some((track, (*looped)?)))
    {
        let Controller::Euler(euler) = &mut track.controller else { continue };
        for curve in &mut euler.curves {
            let keys = curve.keys().iter().take(3).zip(0..);
            let keys = keys.map(|(key, place)| Key::new(RATE.ticks(start + place), key.value));
            *curve = Curve::new(keys.collect()).unwrap().with_behaviours(behaviour, behaviour);
        }
    }
    scene
}

/// The same chain that is shifted by curves, too.
fn shifted(mut scene: Scene, shifts: &[[Vec<(i64, f64)>; 3]]) -> Scene {
    let ids: Vec<NodeId> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
    let curve = |keys: &Vec<(i64, f64)>| {
        Curve::new(keys.iter().map(|&(frame, value)| Key::new(RATE.ticks(frame), value)).collect()).unwrap()
    };
    let tracks = ids.iter().zip(shifts).map(|(&node, keys)| Track {
        target: Target { rig: 0, node, property: "translation".into() },
        controller: Controller::Components(keys.iter().map(curve).collect()),
    });
    scene.takes[0].layers[0].tracks.extend(tracks);
    scene
}

/// How far each node is from its rest beside its parent, along the axes of the world when all above it rests, at quarters
/// of frames.
fn moved(scene: &Scene) -> Vec<Vec<DVec3>> {
    let mut rest = Pose::default();
    Evaluator::new(scene, None, 0).unwrap().pose_at(0.0, &mut rest);
    let parents = scene.rigs[0].parent_positions();
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    let at = |quarter: i64| {
        evaluator.pose_at(quarter as f64 * 0.25 * RATE.ticks_per_frame(), &mut pose);
        let nodes = parents.iter().enumerate().map(|(node, parent)| {
            let above = parent.map_or(DQuat::IDENTITY, |parent| rest.world_rotation[parent]);
            above * (pose.local[node].translation - rest.local[node].translation)
        });
        nodes.collect()
    };
    (0..=4 * LAST).map(at).collect()
}

/// World rotations relative to rest of all nodes, at each half frame.
fn relative(scene: &Scene) -> Vec<Vec<DQuat>> {
    let mut rest = Pose::default();
    Evaluator::new(scene, None, 0).unwrap().pose_at(0.0, &mut rest);
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    let at = |half: i64| {
        evaluator.pose_at(half as f64 * 0.5 * RATE.ticks_per_frame(), &mut pose);
        let turned = pose.world_rotation.iter().zip(&rest.world_rotation);
        turned.map(|(now, rest)| *now * rest.conjugate()).collect()
    };
    (0..=2 * LAST).map(at).collect()
}

fn worst(before: &Scene, after: &Scene) -> f64 {
    let pairs = relative(before).into_iter().flatten().zip(relative(after).into_iter().flatten());
    pairs.map(|(a, b)| angle_between(a, b)).fold(0.0, f64::max)
}

fn key_times(scene: &Scene) -> Vec<Vec<Ticks>> {
    let take = &scene.takes[0];
    take.tracks().map(|(_, track)| track.controller.key_times(take.range)).collect()
}

fn count(scene: &Scene) -> usize {
    key_times(scene).iter().map(Vec::len).sum()
}

fn carried(joints: &[Joint], angle: f64, space: PairSpace, handles: Handles) -> Carried {
    carried_from(&scene(joints, 0), joints, angle, space, handles)
}

fn carried_from(source: &Scene, joints: &[Joint], angle: f64, space: PairSpace, handles: Handles) -> Carried {
    let name = |index: usize| format!("n{index}");
    let pair = |index: usize| NodePair { source: name(index), target: name(index), space };
    let map = NameMap { nodes: (0..joints.len()).map(pair).collect(), ..NameMap::default() };
    let options = CarryOptions {
        tolerance: Tolerance { angle, ..Tolerance::default() },
        handles: Some(handles),
        scale: Some(1.0),
        ..CarryOptions::default()
    };
    carry(source, &scene(joints, 1), &map, &options).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 40, ..ProptestConfig::default() })]

    #[test]
    fn what_adds_up_along_a_chain_stays_within_the_tolerance(
        joints in prop::collection::vec(any_joint(), 2..9), tolerance in prop::sample::select(vec![0.05_f64, 0.1, 0.5]),
        handles in prop::sample::select(vec![Handles::Plain, Handles::Weighted]),
    ) {
        let tolerance = tolerance.to_radians();
        let result = carried(&joints, tolerance, PairSpace::World, handles);
        let source = scene(&joints, 0);
        let off = worst(&source, &result.scene);
        prop_assert!(off <= tolerance, "{}", off.to_degrees());
        prop_assert!((result.world_error.largest - off).abs() < 1e-12, "said {}", result.world_error.largest.to_degrees());
        for (own, made) in key_times(&source).iter().zip(key_times(&result.scene)) {
            prop_assert!(own.iter().all(|time| made.contains(time)), "a key of the source is gone");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 40, ..ProptestConfig::default() })]

    /// One period stands for all, so it has to be as close as the closest of them.
    #[test]
    fn what_goes_round_along_a_chain_stays_within_the_tolerance_every_time(
        joints in prop::collection::vec(any_joint(), 2..6), tolerance in prop::sample::select(vec![0.05_f64, 0.1, 0.5]),
        loops in prop::collection::vec(prop::option::weighted(0.6, (0..LAST - 3, prop::sample::select(vec![Behaviour::Loop, Behaviour::LoopOscillate]))), 6),
    ) {
        let tolerance = tolerance.to_radians();
        let source = looping(scene(&joints, 0), &loops);
        let result = carried_from(&source, &joints, tolerance, PairSpace::World, Handles::Plain);
        let off = worst(&source, &result.scene);
        prop_assert!(off <= tolerance, "{}", off.to_degrees());
    }

    #[test]
    fn places_beside_the_parent_go_the_same_way_in_the_world_and_keep_their_key_times(
        joints in prop::collection::vec(any_joint(), 2..6),
        shifts in prop::collection::vec(prop::array::uniform3(
            prop::collection::btree_map(0..LAST, -2.0..2.0_f64, 1..6)
                .prop_map(|keys| keys.into_iter().collect::<Vec<_>>())), 6),
        scale in prop::sample::select(vec![1.0, 2.5]),
    ) {
        let source = shifted(scene(&joints, 0), &shifts);
        let map = NameMap::of_nodes((0..joints.len()).map(|index| (format!("n{index}"), format!("n{index}"))));
        let options = CarryOptions { scale: Some(scale), ..CarryOptions::default() };
        let result = carry(&source, &scene(&joints, 1), &map, &options).unwrap();
        for (own, made) in moved(&source).iter().flatten().zip(moved(&result.scene).iter().flatten()) {
            prop_assert!((*own * scale).abs_diff_eq(*made, 1e-9), "{own} became {made}");
        }
        // Sums of the three channels: exact, at the key times of any of them.
        let times = |scene: &Scene| -> Vec<Vec<Ticks>> {
            let take = &scene.takes[0];
            let shifts = take.tracks().filter(|(_, track)| track.target.property == "translation");
            shifts.map(|(_, track)| track.controller.key_times(take.range)).collect()
        };
        for (own, made) in times(&source).iter().zip(times(&result.scene)) {
            prop_assert!(made.iter().all(|time| own.contains(time)), "{own:?} became {made:?}");
        }
    }
}

/// Over random chains: what sharing out the tolerance costs in keys, beside nodes that have it all to themselves and
/// beside nodes that have an equal part of it, which is what the sum of the worst would need.
#[test]
fn few_nodes_pay_for_what_adds_up() {
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    let (mut shared, mut alone, mut equal, mut source) = (0, 0, 0, 0);
    for _ in 0..40 {
        let joints = prop::collection::vec(any_joint(), 4..9).new_tree(&mut runner).unwrap().current();
        let tolerance = 0.1_f64.to_radians();
        let keys = |tolerance: f64, space: PairSpace| {
            count(&carried(&joints, tolerance, space, Handles::Plain).scene)
        };
        source += count(&scene(&joints, 0));
        shared += keys(tolerance, PairSpace::World);
        // Beside their parents they add up to nothing that is measured.
        alone += keys(tolerance, PairSpace::Parent);
        equal += keys(tolerance / joints.len() as f64, PairSpace::Parent);
    }
    println!("key times: {source} before; {alone} alone, {shared} shared, {equal} with equal parts");
    assert!(
        (shared - alone) * 3 <= equal - alone,
        "{alone} alone, {shared} shared, {equal} with equal parts"
    );
}
