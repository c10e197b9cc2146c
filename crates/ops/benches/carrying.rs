//! Carrying a rig of 1,000 nodes with 200,000 keys, on one core. `cargo bench -p nimble-curve-ops --bench carrying`.

use divan::counter::ItemsCount;
use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_ops::carry::{CarryOptions, NameMap, carry};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;

fn main() {
    // One core, whatever there is.
    let _ = rayon::ThreadPoolBuilder::new().num_threads(1).build_global();
    divan::main();
}

const RATE: FrameRate = FrameRate::FPS_24;
const NODES: usize = 1000;
const KEYS: i64 = 67;

/// Chains of ten nodes below one root; every node swings about its three axes, with a key every eight frames.
fn scene(order: RotationOrder, turned: bool, animated: bool) -> Scene {
    let mut rig = Rig::new("rig");
    let mut ids: Vec<NodeId> = Vec::with_capacity(NODES);
    for index in 0..NODES {
        let parent = if index % 10 == 0 { 0 } else { index - 1 };
        let node = Node::new(format!("n{index}"), NodeKind::Joint, DVec3::new(0.0, 0.1, 0.0), order);
        let rest = if turned { DQuat::from_rotation_y(0.3) } else { DQuat::IDENTITY };
        let parent = (index > 0).then(|| ids[parent]);
        ids.push(rig.add(parent, node.with_before(OpValue::Orient(rest))).unwrap());
    }
    let curve = |node: usize, axis: usize| {
        let value = |index: i64| {
            let random = (index * 3 + (node * 7 + axis) as i64 + 1).wrapping_mul(2_654_435_761) % 1000;
            (random as f64 / 1000.0 - 0.5) * 30_f64.to_radians()
        };
        Curve::new((0..KEYS).map(|index| Key::new(RATE.ticks(index * 8), value(index))).collect()).unwrap()
    };
    let track = |(index, &node): (usize, &NodeId)| Track {
        target: Target { rig: 0, node, property: "rotation".into() },
        controller: Controller::Euler(EulerCurves {
            order,
            curves: [0, 1, 2].map(|axis| curve(index, axis)),
        }),
    };
    let take = Take {
        name: "take".into(),
        folder: None,
        range: TimeRange::new(RATE.ticks(0), RATE.ticks((KEYS - 1) * 8)),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(ids.iter().enumerate().map(track).collect())],
    };
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: if animated { vec![take] } else { Vec::new() },
    }
}

fn run(bencher: divan::Bencher<'_, '_>, order: RotationOrder, turned: bool) {
    let source = scene(RotationOrder::Xyz, false, true);
    let target = scene(order, turned, false);
    bencher
        .counter(ItemsCount::new(3 * NODES * KEYS as usize))
        .bench_local(|| carry(&source, &target, &NameMap::default(), &CarryOptions::default()).unwrap());
}

/// Rigs that differ in their names alone: every key stays.
#[divan::bench(sample_count = 5)]
fn twin(bencher: divan::Bencher<'_, '_>) {
    run(bencher, RotationOrder::Xyz, false);
}

/// Every node turns in another order.
#[divan::bench(sample_count = 1)]
fn other_order(bencher: divan::Bencher<'_, '_>) {
    run(bencher, RotationOrder::Zxy, false);
}

/// Every node rests otherwise and turns in another order.
#[divan::bench(sample_count = 1)]
fn other_rest(bencher: divan::Bencher<'_, '_>) {
    run(bencher, RotationOrder::Zxy, true);
}
