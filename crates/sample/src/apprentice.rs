//! Moss, a badger apprentice, captured in a hired studio: picks up a parcel and hands it on.
//!
//! The studio's skeleton rests with its hips at the origin and its arms hanging, and every name begins alike; collar, shoulder, elbow
//! and wrist where others say shoulder, arm, forearm and hand. Both feet stand on the floor throughout. 60 samples a second, with four
//! decimals and the noise of capture.

use std::collections::HashMap;

use glam::{DQuat, DVec3};
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::shapes::{leg, noise, pulse, sin, step, turn};

/// How many frames the capture has: four seconds, both ends included.
pub const FRAMES: usize = 241;
/// How high the ankles stand on the studio's floor, in centimetres.
pub const ANKLE: f64 = 9.0;
/// How long both bones of a leg are, in centimetres.
const BONE: f64 = 40.0;
const NOISE: f64 = 0.012;

/// Joints in order: name, the joint above, where it is beside it, in centimetres.
pub(crate) const BONES: [(&str, Option<&str>, [f64; 3]); 22] = [
    ("Moss_Hips", None, [0.0, 0.0, 0.0]),
    ("Moss_Chest", Some("Moss_Hips"), [0.0, 11.0, -1.0]),
    ("Moss_Chest2", Some("Moss_Chest"), [0.0, 13.0, 0.0]),
    ("Moss_Chest3", Some("Moss_Chest2"), [0.0, 13.0, 0.5]),
    ("Moss_Neck", Some("Moss_Chest3"), [0.0, 17.0, 1.0]),
    ("Moss_Head", Some("Moss_Neck"), [0.0, 9.0, 1.5]),
    ("Moss_LeftCollar", Some("Moss_Chest3"), [3.0, 13.0, 1.0]),
    ("Moss_LeftShoulder", Some("Moss_LeftCollar"), [13.0, -1.0, -1.0]),
    ("Moss_LeftElbow", Some("Moss_LeftShoulder"), [17.0, -20.0, 0.0]),
    ("Moss_LeftWrist", Some("Moss_LeftElbow"), [15.5, -18.0, 0.0]),
    ("Moss_RightCollar", Some("Moss_Chest3"), [-3.0, 13.0, 1.0]),
    ("Moss_RightShoulder", Some("Moss_RightCollar"), [-13.0, -1.0, -1.0]),
    ("Moss_RightElbow", Some("Moss_RightShoulder"), [-17.0, -20.0, 0.0]),
    ("Moss_RightWrist", Some("Moss_RightElbow"), [-15.5, -18.0, 0.0]),
    ("Moss_LeftHip", Some("Moss_Hips"), [9.0, -4.0, 0.0]),
    ("Moss_LeftKnee", Some("Moss_LeftHip"), [0.0, -BONE, 0.0]),
    ("Moss_LeftAnkle", Some("Moss_LeftKnee"), [0.0, -BONE, 0.0]),
    ("Moss_LeftToe", Some("Moss_LeftAnkle"), [0.0, -6.0, 12.0]),
    ("Moss_RightHip", Some("Moss_Hips"), [-9.0, -4.0, 0.0]),
    ("Moss_RightKnee", Some("Moss_RightHip"), [0.0, -BONE, 0.0]),
    ("Moss_RightAnkle", Some("Moss_RightKnee"), [0.0, -BONE, 0.0]),
    ("Moss_RightToe", Some("Moss_RightAnkle"), [0.0, -6.0, 12.0]),
];

/// Where the hips are at a time, and the local turn of each joint that is not at rest.
fn pose(t: f64) -> (DVec3, HashMap<&'static str, DQuat>) {
    let down = step(t, 0.4, 1.3) * (1.0 - step(t, 1.9, 2.8));
    let lifted = step(t, 1.5, 2.9);
    let sway = sin(2.3 * t);
    let hips_at = DVec3::new(1.5 * sway, 91.0 - 26.0 * down, -6.0 * down);
    let hips = turn(0, 14.0 * down) * turn(1, 2.0 * sway);
    let mut local: HashMap<&'static str, DQuat> = HashMap::from([("Moss_Hips", hips)]);
    for (side, hip, knee, ankle) in [
        (1.0, "Moss_LeftHip", "Moss_LeftKnee", "Moss_LeftAnkle"),
        (-1.0, "Moss_RightHip", "Moss_RightKnee", "Moss_RightAnkle"),
    ] {
        let place = hips_at + hips * DVec3::new(9.0 * side, -4.0, 0.0);
        let foot = DVec3::new(13.0 * side, ANKLE, 0.0);
        let (upper, lower) = leg(place, foot, BONE, BONE, DVec3::new(0.25 * side, 0.0, 1.0));
        local.insert(hip, hips.conjugate() * upper);
        local.insert(knee, upper.conjugate() * lower);
        local.insert(ankle, lower.conjugate() * turn(1, 9.0 * side));
    }
    let bow = 17.0 * down - 2.0 * lifted;
    for name in ["Moss_Chest", "Moss_Chest2", "Moss_Chest3"] {
        local.insert(name, turn(0, bow) * turn(1, 9.0 * lifted * pulse(t, 2.6, 4.0)));
    }
    local.insert("Moss_Neck", turn(0, -8.0 * down));
    local.insert("Moss_Head", turn(0, -12.0 * down + 1.5 * sway) * turn(1, 24.0 * pulse(t, 2.5, 3.7)));
    for (side, shoulder, elbow, wrist) in [
        (1.0, "Moss_LeftShoulder", "Moss_LeftElbow", "Moss_LeftWrist"),
        (-1.0, "Moss_RightShoulder", "Moss_RightElbow", "Moss_RightWrist"),
    ] {
        let reach = 38.0 * down + 52.0 * lifted;
        local.insert(shoulder, turn(0, -reach) * turn(2, -side * (16.0 - 8.0 * lifted)));
        local.insert(elbow, turn(0, -(12.0 + 38.0 * lifted)));
        local.insert(wrist, turn(2, side * 14.0 * down));
    }
    (hips_at, local)
}

/// The capture as a scene.
///
/// # Panics
/// Where a joint stands before the one that it hangs on, which would be a mistake in the list above.
pub fn scene() -> Scene {
    let rate = FrameRate::new(60, 1).expect("60 is a rate");
    let order = RotationOrder::Zyx;
    let mut rig = Rig::new("moss");
    let mut ids: HashMap<&str, NodeId> = HashMap::new();
    for (name, above, at) in BONES {
        let node = Node::new(name, NodeKind::Joint, DVec3::from(at), order);
        let id = rig.add(above.map(|above| ids[above]), node).expect("joints stand behind what they hang on");
        ids.insert(name, id);
    }
    let mut travel = Vec::new();
    let mut turns: Vec<Vec<f64>> = vec![Vec::new(); BONES.len()];
    let mut last = [DVec3::ZERO; BONES.len()];
    for frame in 0..FRAMES {
        let (place, local) = pose(frame as f64 / 60.0);
        let index = frame as u64;
        travel.extend((0..3).map(|axis| rounded(place[axis] + 0.002 * noise(700 + axis as u64, index))));
        for (joint, (name, ..)) in BONES.iter().enumerate() {
            last[joint] = nearest_euler(order, local.get(name).copied().unwrap_or_default(), last[joint]);
            for (axis, turned) in last[joint].to_array().into_iter().enumerate() {
                let jitter = NOISE * noise(500 + 3 * joint as u64 + axis as u64, index);
                turns[joint].push(angle::radians(rounded(turned.to_degrees() + jitter)));
            }
        }
    }
    let track = |name: &str, property: &str, kind, values| Track {
        target: Target::new(0, ids[name], property),
        controller: Controller::Samples(Samples { start: Ticks::ZERO, rate, kind, values }),
    };
    let mut tracks = vec![track("Moss_Hips", TRANSLATION, SampleKind::Vector, travel)];
    for ((name, ..), values) in BONES.iter().zip(turns) {
        tracks.push(track(name, ROTATION, SampleKind::Euler(order), values));
    }
    let range = TimeRange::new(Ticks::ZERO, rate.ticks(FRAMES as i64 - 1));
    let take = Take::new("lifts", range, vec![Layer::base(tracks)]);
    Scene::new(rate, Space::CENTIMETRES_Y_UP).with_rig(rig).with_take(take)
}

/// With four decimals, as capture is exported.
fn rounded(value: f64) -> f64 {
    (value * 1e4).round() / 1e4
}
