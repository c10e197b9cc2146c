//! Feet that are held: legs of other proportions, walked by this test's own two bones.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::carry::{Carried, CarryOptions, NameMap, carry};
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

const LAST: i64 = 60;

/// Hips and one leg that rests straight down, its foot's joint 5 cm above the ground.
fn rig(thigh: f64, shin: f64) -> (Rig, [NodeId; 4]) {
    let mut rig = Rig::new("rig");
    let mut parent = None;
    let places = [("hips", thigh + shin + 0.05), ("thigh_l", 0.0), ("shin_l", -thigh), ("foot_l", -shin)];
    let ids = places.map(|(name, y)| {
        let id = rig
            .add(parent, Node::new(name, NodeKind::Joint, DVec3::new(0.0, y, 0.0), RotationOrder::Xyz))
            .unwrap();
        parent = Some(id);
        id
    });
    (rig, ids)
}

/// Where the foot is: it stands, swings 60 cm ahead, and stands.
fn foot(frame: f64) -> DVec3 {
    let part = ((frame - 20.0) / 14.0).clamp(0.0, 1.0);
    let ease = part * part * (3.0 - 2.0 * part);
    DVec3::new(0.0, 0.05 + 0.2 * (part * std::f64::consts::PI).sin(), 0.6 * ease)
}

fn hips(frame: f64) -> DVec3 {
    DVec3::new(0.0, 0.85 + 0.02 * (frame * 0.3).sin(), 0.01 * frame)
}

/// The angles of thigh and shin about x that bring a leg of two bones of 45 cm from the hips to the foot, by the law of cosines.
fn bent(frame: f64) -> [f64; 3] {
    let way = foot(frame) - hips(frame);
    let (length, bone) = (way.length(), 0.45);
    let knee = std::f64::consts::PI - (1.0 - length * length / (2.0 * bone * bone)).acos();
    // Straight down is −y; a positive turn about x takes it to −z.
    let towards = (-way.z).atan2(-way.y);
    let thigh = towards - 0.5 * knee;
    [thigh, knee, -thigh - knee]
}

fn walk() -> Scene {
    let (rig, ids) = rig(0.45, 0.45);
    let samples = |kind, value: &dyn Fn(f64) -> DVec3| {
        let values = (0..=LAST).flat_map(|frame| value(frame as f64).to_array()).collect();
        Controller::Samples(Samples { start: RATE.ticks(0), rate: RATE, kind, values })
    };
    let mut tracks = vec![Track {
        target: Target::new(0, ids[0], TRANSLATION),
        controller: samples(SampleKind::Vector, &hips),
    }];
    for (joint, id) in ids[1..].iter().enumerate() {
        let turn = move |frame: f64| DVec3::new(bent(frame)[joint], 0.0, 0.0);
        let kind = SampleKind::Euler(RotationOrder::Xyz);
        tracks.push(Track { target: Target::new(0, *id, ROTATION), controller: samples(kind, &turn) });
    }
    let take = Take::new("walk", TimeRange::new(RATE.ticks(0), RATE.ticks(LAST)), vec![Layer::base(tracks)]);
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take)
}

/// The places and the world rotation of the foot at each frame.
fn feet(scene: &Scene) -> Vec<(DVec3, DQuat)> {
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    (0..=LAST)
        .map(|frame| {
            evaluator.pose_at(RATE.ticks(frame).as_f64(), &mut pose);
            (pose.world[3].translation, pose.world_rotation[3])
        })
        .collect()
}

fn carried(thigh: f64, shin: f64, hold_feet: bool) -> (Scene, Carried) {
    let target = Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig(thigh, shin).0);
    let tolerance = Tolerance { angle: 0.1_f64.to_radians(), length: 0.0005, ..Tolerance::default() };
    let options = CarryOptions { hold_feet, tolerance, ..CarryOptions::default() };
    let source = walk();
    let carried = carry(&source, &target, &NameMap::default(), &options).unwrap();
    (source, carried)
}

#[test]
fn the_walk_stands_where_this_test_says() {
    for (frame, (place, _)) in feet(&walk()).iter().enumerate() {
        assert!((*place - foot(frame as f64)).length() < 1e-9, "{place} {}", foot(frame as f64));
    }
}

#[test]
fn held_feet_stand_where_they_were_planted_and_swing_between_without_a_jump() {
    for (thigh, shin) in [(0.6, 0.4), (0.3, 0.45), (0.5, 0.7)] {
        let scale = (thigh + shin) / 0.9;
        let (_, result) = carried(thigh, shin, true);
        let made = feet(&result.scene);
        // Where the source's foot would have it: as far from its place at rest, in parts of the legs.
        let wanted = |frame: usize| {
            DVec3::new(0.0, 0.05, 0.0) + (foot(frame as f64) - DVec3::new(0.0, 0.05, 0.0)) * scale
        };
        for frame in (0..=18).chain(37..=LAST as usize) {
            let off = (made[frame].0 - wanted(frame)).length();
            assert!(off <= 0.0015, "legs of {thigh} and {shin}: {off} m off at {frame}");
        }
        let steps = made.windows(2).map(|pair| (pair[1].0 - pair[0].0).length());
        let fastest =
            (0..LAST as usize).map(|frame| (wanted(frame + 1) - wanted(frame)).length()).fold(0.0, f64::max);
        let jump = steps.fold(0.0, f64::max);
        assert!(
            jump < 1.6 * fastest,
            "legs of {thigh} and {shin}: a step of {jump} m, {fastest} in the source"
        );
        // The sole stays level, as the source's does.
        let tilted =
            made.iter().map(|(_, turn)| (*turn * DVec3::Y).angle_between(DVec3::Y)).fold(0.0, f64::max);
        assert!(tilted < 0.3_f64.to_radians(), "{}", tilted.to_degrees());
        let said = result.ledger.notes.join("\n");
        assert!(said.contains("feet held in 2 contacts"), "{said}");
    }
}

#[test]
fn feet_that_are_not_held_slide_on_legs_of_other_proportions_and_keep_their_turns() {
    let (source, result) = carried(0.6, 0.4, false);
    let (made, was) = (feet(&result.scene), feet(&source));
    let slid = (made[0].0 - made[15].0).length();
    assert!(slid > 0.002, "{slid}");
    for (a, b) in made.iter().zip(&was) {
        assert!(a.1.angle_between(b.1) < 0.2_f64.to_radians());
    }
    assert!(!result.ledger.notes.iter().any(|note| note.contains("held")));
}

#[test]
fn what_is_held_is_said_channel_by_channel() {
    let (_, result) = carried(0.6, 0.4, true);
    for name in ["thigh_l:rotation", "shin_l:rotation", "foot_l:rotation"] {
        let entry = result.ledger.entries.iter().find(|entry| entry.channel == name).unwrap();
        assert!(entry.fate == Fate::Refitted && entry.note.contains("stays where it stands"), "{entry:?}");
        assert!(entry.after > 0 && entry.error.is_some(), "{entry:?}");
    }
    let hips = result.ledger.entries.iter().find(|entry| entry.channel == "hips:translation").unwrap();
    assert!(!hips.note.contains("stands"), "{hips:?}");
}
