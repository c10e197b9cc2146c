//! Below what is mirrored other turns come to the same axes, and the judge looks at these.

use std::f64::consts::FRAC_PI_2;

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::judge::{Claim, Excuse, Limits, Standing, judge};
use nimble_curve_scene::rig::{Node, NodeKind, OpValue, ROTATION, Rig};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;

use crate::carriers::range;

/// Two nodes, the upper one sized so, that stand turned like this.
fn scene(size: DVec3, [upper, lower]: [DQuat; 2]) -> Scene {
    let mut rig = Rig::new("figure");
    let node = |name: &str| Node::new(name, NodeKind::Joint, DVec3::Y, RotationOrder::Xyz);
    let mut sized = node("upper");
    for op in &mut sized.transform {
        if let OpValue::Scale(scale) = &mut op.value {
            *scale = size;
        }
    }
    let above = rig.add(None, sized).unwrap();
    let below = rig.add(Some(above), node("lower")).unwrap();
    let track = |(node, turn)| Track {
        target: Target::new(0, node, ROTATION),
        controller: Controller::Constant(Value::Quaternion(turn)),
    };
    let tracks = [(above, upper), (below, lower)].map(track).to_vec();
    let take = Take::new("take", range(), vec![Layer::base(tracks)]);
    Scene::new(nimble_curve_testing::RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take)
}

/// How far the lower node is turned in the world, of what is held to that alone.
fn off(source: &Scene, result: &Scene) -> f64 {
    let mut claim = Claim::same(source, result);
    let (_, lower) = claim.nodes[1];
    let freed = source.takes[0].tracks().map(|(_, track)| track.target.clone());
    claim.excuses = freed.map(|target| Excuse::new(0, target, "free")).collect();
    let one = DQuat::IDENTITY;
    claim.world = Some(vec![Standing {
        source: lower,
        result: lower,
        references: Some((one, one)),
        place: false,
        at: None,
        slack: [0.0; 2],
    }]);
    let limits = Limits { world: 1.0, world_turn: 1e-6, ..Limits::NONE };
    judge(source, result, &claim, limits, 1.0).world_turn.unwrap().0.largest
}

#[test]
fn axes_that_are_the_same_are_whatever_turns_they_come_of() {
    let turns = [DQuat::from_rotation_y(0.4), DQuat::from_rotation_x(-0.9)];
    let other = DQuat::from_euler(glam::EulerRot::XYZ, 0.3, -0.7, 1.1);
    for size in [DVec3::ONE, DVec3::new(-1.0, 1.0, 1.0), DVec3::splat(-0.7), DVec3::new(2.0, -2.0, 2.0)] {
        let source = scene(size, turns);
        // What the lower one has to be turned by so that its axes in the world stay.
        let mirror = DMat3::from_diagonal(size / size.abs());
        let back = mirror * DMat3::from_quat(other.inverse() * turns[0]) * mirror;
        let lower = (DQuat::from_mat3(&back) * turns[1]).normalize();
        assert!(off(&source, &scene(size, [other, lower])) < 1e-7, "{size}");
        // And what is turned otherwise is, by as much.
        let bent = lower * DQuat::from_rotation_z(0.01);
        let found = off(&source, &scene(size, [other, bent]));
        assert!((found - 0.01).abs() < 1e-6, "{size}: {found}");
        let round = lower * DQuat::from_rotation_z(FRAC_PI_2);
        assert!((off(&source, &scene(size, [other, round])) - FRAC_PI_2).abs() < 1e-6, "{size}");
    }
}
