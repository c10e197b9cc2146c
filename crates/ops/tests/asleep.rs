//! What is switched off is looked at by the judge as if it were not: layers that are muted or of weight 0, entries of stacks of weight 0.

use glam::DVec3;
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::controller::{Controller, EulerCurves, StackEntry, Weight};
use nimble_curve_scene::judge::{Claim, Limits, judge};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

use crate::claimed::smooth;

const LIMITS: Limits = Limits { angle: 0.001, length: 0.001, number: 0.001, ..Limits::NONE };

fn curves(more: f64) -> [Curve; 3] {
    [0.0, 0.3, -0.2].map(|start| smooth(&[(0, start + more), (12, start + 0.5 + more), (24, start + more)]))
}

/// A base with a stack, of which an entry sleeps, a muted layer and one of weight 0 on the same node.
fn scene() -> Scene {
    let mut rig = Rig::new("figure");
    let hips = rig.add(None, Node::new("hips", NodeKind::Joint, DVec3::Y, RotationOrder::Xyz)).unwrap();
    let entry = |name: &str, weight: f64, more: f64| StackEntry {
        name: name.into(),
        weight: Weight::Constant(weight),
        controller: Controller::Components(curves(more).to_vec()),
    };
    let place = Controller::Stack(vec![entry("walk", 1.0, 0.0), entry("in place", 0.0, 0.4)]);
    let turn = |more: f64| Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves: curves(more) });
    let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
    let base = Layer::base(vec![track(TRANSLATION, place), track(ROTATION, turn(0.0))]);
    let over = |name: &str, muted: bool, weight: f64| Layer {
        name: name.into(),
        muted,
        weight: Weight::Constant(weight),
        ..Layer::base(vec![track(ROTATION, turn(0.3))])
    };
    let layers = vec![base, over("old", true, 1.0), over("off", false, 0.0)];
    let range = TimeRange::new(RATE.ticks(0), RATE.ticks(24));
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(Take::new("walk", range, layers))
}

fn bumped(controller: &mut Controller) {
    match controller {
        Controller::Components(curves) => curves[0] = curves[0].affine(1.0, 0.1),
        Controller::Euler(euler) => euler.curves[0] = euler.curves[0].affine(1.0, 0.1),
        Controller::Stack(entries) => bumped(&mut entries[1].controller),
        other => panic!("{other:?}"),
    }
}

/// What is beyond the limits as it plays, and what is if it is switched on.
fn found(source: &Scene, result: &Scene, claim: &Claim) -> (bool, Vec<String>) {
    let verdict = judge(source, result, claim, LIMITS, 1.0);
    let asleep = verdict.asleep_beyond().iter().map(|(asleep, _)| asleep.to_string()).collect();
    (verdict.beyond().is_some(), asleep)
}

#[test]
fn a_fault_in_what_is_switched_off_is_named_and_is_none_of_what_plays() {
    let source = scene();
    let claim = Claim::same(&source, &source);
    assert_eq!(found(&source, &source, &claim), (false, Vec::new()));
    for (layer, track, name) in [
        (0, 0, "'in place' in the stack of the layer 'base'"),
        (1, 0, "the layer 'old'"),
        (2, 0, "the layer 'off'"),
    ] {
        let mut result = source.clone();
        bumped(&mut result.takes[0].layers[layer].tracks[track].controller);
        assert_eq!(found(&source, &result, &claim), (false, vec![name.to_owned()]));
    }
    // A track that went.
    let mut result = source.clone();
    result.takes[0].layers[1].tracks.clear();
    assert_eq!(found(&source, &result, &claim), (false, vec!["the layer 'old'".to_owned()]));
}

#[test]
fn what_is_left_out_of_a_layer_that_is_switched_off_is_excused_there_alone() {
    let source = scene();
    let mut result = source.clone();
    let gone = result.takes[0].layers[1].tracks.remove(0);
    let entry = |layer: &str, fate: Fate| Entry {
        take: "walk".into(),
        layer: layer.into(),
        channel: "hips:rotation".into(),
        to: None,
        target: Some(gone.target.clone()),
        fate,
        error: None,
        before: 9,
        after: 9,
        note: "for a reason".into(),
    };
    let entries = vec![entry("base", Fate::Kept), entry("old", Fate::LeftOut), entry("off", Fate::Kept)];
    let ledger = Ledger { entries, notes: Vec::new() };
    let claim = Claim::same(&source, &result).excusing(&source, &ledger);
    // The base keeps its rotation.
    bumped(&mut result.takes[0].layers[2].tracks[0].controller);
    assert_eq!(found(&source, &result, &claim), (false, vec!["the layer 'off'".to_owned()]));
    bumped(&mut result.takes[0].layers[0].tracks[1].controller);
    assert!(found(&source, &result, &claim).0);
}
