//! Poses of a rig of 200 joints of which 40 limbs reach for controls, over 10,000 frames, on one core; and the same joints by their own
//! curves. `cargo bench -p nimble-curve-ops --bench controls`.

use divan::counter::ItemsCount;
use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_scene::constraint::{
    Constraint, ConstraintKind, EndTurn, Limb, Setting, Source, StretchBy, Towards,
};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;

fn main() {
    // One core, whatever there is.
    let _ = rayon::ThreadPoolBuilder::new().num_threads(1).build_global();
    divan::main();
}

const RATE: FrameRate = FrameRate::FPS_24;
const FRAMES: i64 = 10_000;
const LIMBS: usize = 40;

/// Forty limbs of five joints: a shoulder, two bones, a hand and a finger; each with a goal and a pole that move.
fn scene(constrained: bool) -> Scene {
    let mut rig = Rig::new("rig");
    let mut tracks = Vec::new();
    let mut constraints = Vec::new();
    let joint =
        |name: String, kind, at: [f64; 3]| Node::new(name, kind, DVec3::from_array(at), RotationOrder::Xyz);
    let curve = |seed: usize, size: f64| {
        let value = |index: i64| {
            let random = (index * 3 + seed as i64 + 1).wrapping_mul(2_654_435_761) % 1000;
            (random as f64 / 1000.0 - 0.5) * size
        };
        Curve::new((0..=FRAMES / 10).map(|index| Key::new(RATE.ticks(index * 10), value(index))).collect())
            .unwrap()
    };
    let curves = |seed: usize, size: f64| [0, 1, 2].map(|axis| curve(seed * 3 + axis, size));
    let euler =
        |seed| Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves: curves(seed, 0.4) });
    for limb in 0..LIMBS {
        let name = |part: &str| format!("{part}_{limb}");
        let mut add = |part: &str, parent: Option<NodeId>, kind, at| {
            rig.add(parent, joint(name(part), kind, at)).unwrap()
        };
        let shoulder = add("shoulder", None, NodeKind::Joint, [limb as f64, 1.0, 0.0]);
        let upper = add("upper", Some(shoulder), NodeKind::Joint, [0.1, 0.0, 0.0]);
        let lower = add("lower", Some(upper), NodeKind::Joint, [0.3, 0.0, 0.02]);
        let hand = add("hand", Some(lower), NodeKind::Joint, [0.3, 0.0, -0.02]);
        add("finger", Some(hand), NodeKind::Joint, [0.1, 0.0, 0.0]);
        tracks.push(Track { target: Target::new(0, shoulder, ROTATION), controller: euler(limb) });
        if !constrained {
            for node in [upper, lower, hand] {
                tracks.push(Track { target: Target::new(0, node, ROTATION), controller: euler(limb + 50) });
            }
            continue;
        }
        let goal = add("goal", None, NodeKind::Control, [limb as f64 + 0.5, 1.0, 0.1]);
        let pole = add("pole", None, NodeKind::Control, [limb as f64 + 0.3, 0.2, 1.0]);
        let full = || Setting::Constant(1.0);
        let reach = Limb {
            lower: (0, lower),
            end: (0, hand),
            goal: Source { node: (0, goal), weight: full(), offset: None },
            pole: Some(Towards::Node((0, pole))),
            bends_other: false,
            hinge: None,
            stretch: Setting::Constant(0.0),
            stretch_by: StretchBy::Translation,
            slack: 0.0,
            end_turn: EndTurn::Goal,
            twist: Setting::Constant(0.0),
            lengths: [full(), full()],
        };
        constraints.push(Constraint {
            name: name("limb"),
            node: (0, upper),
            weight: full(),
            kind: ConstraintKind::Limb(Box::new(reach)),
        });
        tracks.push(Track {
            target: Target::new(0, goal, TRANSLATION),
            controller: Controller::Components(curves(limb + 100, 0.2).to_vec()),
        });
        tracks.push(Track { target: Target::new(0, goal, ROTATION), controller: euler(limb + 150) });
    }
    let take =
        Take::new("take", TimeRange::new(RATE.ticks(0), RATE.ticks(FRAMES)), vec![Layer::base(tracks)]);
    let scene = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take);
    Scene { constraints, ..scene }
}

fn poses(scene: &Scene) -> DVec3 {
    let mut evaluator = Evaluator::new(scene, scene.takes.first(), 0).unwrap();
    let mut pose = Pose::default();
    let mut sum = DVec3::ZERO;
    for frame in 0..FRAMES {
        evaluator.pose_at(RATE.ticks(frame).as_f64(), &mut pose);
        sum += pose.world[3].translation;
    }
    sum
}

#[divan::bench(sample_count = 5)]
fn forty_limbs_reach(bencher: divan::Bencher) {
    let scene = scene(true);
    bencher.counter(ItemsCount::new(FRAMES as usize)).bench(|| poses(&scene));
}

#[divan::bench(sample_count = 5)]
fn the_same_joints_by_their_own_curves(bencher: divan::Bencher) {
    let scene = scene(false);
    bencher.counter(ItemsCount::new(FRAMES as usize)).bench(|| poses(&scene));
}
