//! The capture: bramble wades through the canal's shallows, stops, looks round and shakes the water off.
//!
//! 120 samples a second. Still at first; seven slow steps with feet that stay where they are planted; a head turn
//! that overshoots a little; shivers of a degree at 9.5 Hz in head, chest and hands; still again. Over all of it
//! lies a trace of noise, as capture has.

use std::collections::HashMap;

use glam::{DQuat, DVec3};
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::otter::{BONES, offset};
use crate::shapes::{leg, noise, pulse, sin, step, turn, wave};

/// How many frames the capture has: eight seconds, both ends included.
pub const FRAMES: usize = 961;
/// The band in which the shivers lie, in hertz, and when they are, in seconds.
pub const SHIVER: (f64, f64, f64) = (9.5, 6.3, 7.3);
/// Size of the noise on every angle, in degrees.
pub const NOISE: f64 = 0.012;

const FIRST_STEP: f64 = 0.8;
const BETWEEN_STEPS: f64 = 0.64;
const STEP_TIME: f64 = 0.52;
const STEPS: usize = 7;

/// Where a foot's ankle is at a time, and how far it is lifted, 0 to 1. Side 0 is left, 1 is right.
pub fn ankle(side: usize, t: f64) -> (DVec3, f64) {
    let x = [5.2, -5.2][side];
    let (mut z, mut lift) = (0.0, 0.0);
    for index in (side..STEPS).step_by(2) {
        let from = FIRST_STEP + index as f64 * BETWEEN_STEPS;
        let stride = if index == 0 || index + 1 == STEPS { 7.5 } else { 15.0 };
        z += stride * step(t, from, from + STEP_TIME);
        lift += pulse(t, from, from + STEP_TIME);
    }
    (DVec3::new(x, 4.0 + 7.5 * lift, z), lift)
}

/// When a foot stands still, in seconds: the stretches between its steps.
pub fn planted(side: usize) -> Vec<(f64, f64)> {
    let mut from = 0.0;
    let mut stretches = Vec::new();
    for index in (side..STEPS).step_by(2) {
        let lifts = FIRST_STEP + index as f64 * BETWEEN_STEPS;
        stretches.push((from, lifts));
        from = lifts + STEP_TIME;
    }
    stretches.push((from, (FRAMES - 1) as f64 / 120.0));
    stretches
}

/// The position of the hips and the world or local rotations of all joints at a time.
fn pose(t: f64) -> (DVec3, HashMap<&'static str, DQuat>) {
    let ((left, lift_l), (right, lift_r)) = (ankle(0, t), ankle(1, t));
    let wading = step(t, 0.5, 1.4) * (1.0 - step(t, 5.2, 6.0));
    let sway = lift_r - lift_l;
    let hips_at =
        DVec3::new(1.6 * sway, 32.4 - 0.7 * wading + 0.5 * (lift_l + lift_r), 0.5 * (left.z + right.z) - 0.6);
    let hips = turn(1, 5.0 * (left.z - right.z) / 15.0) * turn(2, -3.0 * sway) * turn(0, 3.0 * wading);
    let mut local: HashMap<&'static str, DQuat> = HashMap::new();

    for (ankle, lift, thigh, shin, foot, toes) in [
        (left, lift_l, "thigh_l", "shin_l", "foot_l", "toes_l"),
        (right, lift_r, "thigh_r", "shin_r", "foot_r", "toes_r"),
    ] {
        let hip = hips_at + hips * offset(thigh);
        let (upper, lower) =
            leg(hip, ankle, 15.0, 14.0, DVec3::new(if ankle.x > 0.0 { 0.12 } else { -0.12 }, 0.0, 1.0));
        let flat = turn(1, if ankle.x > 0.0 { 6.0 } else { -6.0 });
        let sole = flat * turn(0, 32.0 * lift);
        local.insert(thigh, hips.conjugate() * upper);
        local.insert(shin, upper.conjugate() * lower);
        local.insert(foot, lower.conjugate() * sole);
        local.insert(toes, turn(0, -18.0 * lift));
    }

    let (hertz, from, to) = SHIVER;
    let shake = pulse(t, from, to) * wave(t, hertz, 0.0);
    let shake_late = pulse(t, from + 0.05, to + 0.05) * wave(t, hertz, -1.1);
    // A look to the left that goes four degrees too far, and back before the shaking.
    let look = 58.0 * step(t, 5.3, 5.75) - 4.0 * step(t, 5.72, 5.95) - 54.0 * step(t, 6.0, 6.35);
    let swing = (left.z - right.z) / 15.0;
    let breath = 0.8 * sin(1.9 * t);
    local.insert("spine_01", turn(0, 5.0 * wading) * turn(1, -2.0 * swing) * turn(2, 1.2 * sway));
    local.insert(
        "spine_02",
        turn(0, 4.0 * wading + 0.4 * breath) * turn(1, -3.0 * swing) * turn(2, 1.4 * sway),
    );
    local.insert(
        "chest",
        turn(0, 2.0 * wading + breath) * turn(1, -3.5 * swing + 1.3 * shake) * turn(2, 1.0 * sway),
    );
    local.insert("neck", turn(0, -6.0 * wading) * turn(1, 0.3 * look + 0.8 * shake_late));
    local.insert(
        "head",
        turn(1, 0.7 * look + 1.6 * shake_late) * turn(0, -4.0 * wading + 0.1 * look) * turn(2, 2.2 * shake),
    );
    for (side, shoulder, arm, forearm, hand) in [
        (1.0, "shoulder_l", "arm_l", "forearm_l", "hand_l"),
        (-1.0, "shoulder_r", "arm_r", "forearm_r", "hand_r"),
    ] {
        let raised = 22.0 * wading;
        local.insert(shoulder, turn(2, side * (-4.0 + 4.0 * wading)));
        let forward = -side * 9.0 * swing;
        local
            .insert(arm, turn(2, side * (-68.0 + raised)) * turn(1, -side * (8.0 + 14.0 * wading) + forward));
        local.insert(forearm, turn(1, -side * (24.0 + 20.0 * wading) + 0.4 * forward));
        local.insert(hand, turn(2, side * (6.0 + 6.0 * wading)) * turn(0, 1.8 * shake_late));
    }
    for (index, name) in ["tail_01", "tail_02", "tail_03", "tail_04"].into_iter().enumerate() {
        let lag = 0.16 * index as f64;
        let drag = step(t - lag, 0.5, 1.6) * (1.0 - step(t - lag, 5.2, 6.6));
        let sweep = (4.0 + 4.0 * index as f64) * drag * wave(t - lag, 0.5 / BETWEEN_STEPS, 0.4);
        let bend = if index == 0 { 10.0 } else { -6.0 } * drag;
        local.insert(name, turn(1, sweep) * turn(0, bend));
    }
    local.insert("hips", hips);
    (hips_at, local)
}

/// The rig and its capture.
///
/// # Panics
/// Never: the bones are listed parents first.
pub fn scene() -> Scene {
    let order = RotationOrder::Yxz;
    let mut rig = Rig::new("bramble");
    let mut ids: HashMap<&str, NodeId> = HashMap::new();
    for (name, parent, at) in BONES {
        let kind = if name.ends_with("_end") { NodeKind::End } else { NodeKind::Joint };
        let node = Node::new(*name, kind, DVec3::from_array(*at), order);
        let id = rig.add(parent.map(|parent| ids[parent]), node).expect("parents are listed first");
        ids.insert(name, id);
    }
    let rate = FrameRate::FPS_120;
    let joints: Vec<&str> = BONES.iter().map(|bone| bone.0).filter(|name| !name.ends_with("_end")).collect();
    let mut rotations: Vec<Vec<f64>> = vec![Vec::with_capacity(FRAMES * 3); joints.len()];
    let mut travel = Vec::with_capacity(FRAMES * 3);
    let mut last = vec![DVec3::ZERO; joints.len()];
    for frame in 0..FRAMES {
        let (hips_at, local) = pose(frame as f64 / 120.0);
        travel.extend(
            (0..3).map(|axis| rounded(hips_at[axis] + 0.002 * noise(900 + axis as u64, frame as u64))),
        );
        for (joint, name) in joints.iter().enumerate() {
            let angles = nearest_euler(order, local[name], last[joint]);
            last[joint] = angles;
            for axis in 0..3 {
                let jitter = NOISE * noise(3 * joint as u64 + axis as u64, frame as u64);
                rotations[joint].push(angle::radians(rounded(angles[axis].to_degrees() + jitter)));
            }
        }
    }
    let track = |name: &str, property: &str, kind, values| Track {
        target: Target { rig: 0, node: ids[name], property: property.to_owned() },
        controller: Controller::Samples(Samples { start: Ticks::ZERO, rate, kind, values }),
    };
    let mut tracks = vec![track("hips", "translation", SampleKind::Vector, travel)];
    for (name, values) in joints.iter().zip(rotations) {
        tracks.push(track(name, "rotation", SampleKind::Euler(order), values));
    }
    let take = Take {
        name: "wade".into(),
        folder: None,
        range: TimeRange::new(Ticks::ZERO, rate.ticks(FRAMES as i64 - 1)),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(tracks)],
    };
    Scene {
        rate,
        space: Space::CENTIMETRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![take],
    }
}

/// With four decimals, as capture is exported.
fn rounded(value: f64) -> f64 {
    (value * 1e4).round() / 1e4
}
