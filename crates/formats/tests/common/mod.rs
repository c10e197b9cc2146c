//! What the tests of the formats share: the sample scenes, and a measure of motion that knows nothing of formats.
#![allow(dead_code)]

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use glam::{DQuat, DVec3};
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{AxisMap, Space};
use nimble_curve_formats::{Assume, Format, Saving, encode, read, read_bytes};

/// A file of the sample scenario.
pub fn sample(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/demo").join(name)
}

/// A scene of the sample scenario.
pub fn scene(name: &str) -> Scene {
    read(&sample(name), Assume::default()).unwrap().scene
}

/// A scene written into a format and read back.
pub fn through(scene: &Scene, format: Format, without_extra: bool) -> Scene {
    let saving = Saving { without_extra, keep_start: true, ..Saving::default() };
    let (bytes, _) = encode(scene, format, Path::new("x"), &saving).unwrap();
    let assume = Assume { rate: Some(scene.rate), ..Assume::default() };
    read_bytes(&bytes, Path::new("x"), assume).unwrap().scene
}

/// World positions in metres and rotations, y up, of all nodes by name at some instants of a take.
pub fn motion(scene: &Scene, take: &str, times: &[f64]) -> Vec<HashMap<String, (DVec3, DQuat)>> {
    let map = AxisMap::between(&scene.space, &Space::METRES_Y_UP);
    let take = scene.takes.iter().find(|found| found.name == take).unwrap();
    let mut rigs: Vec<Evaluator<'_>> =
        (0..scene.rigs.len()).map(|rig| Evaluator::new(scene, Some(take), rig).unwrap()).collect();
    let mut pose = Pose::default();
    let mut at = |time: &f64| {
        let mut nodes = HashMap::new();
        for (rig, poses) in scene.rigs.iter().zip(&mut rigs) {
            poses.pose_at(*time, &mut pose);
            for (position, (_, node)) in rig.nodes().enumerate() {
                let place = map.length(pose.world[position].translation);
                nodes.insert(node.name.clone(), (place, map.rotation(pose.world_rotation[position])));
            }
        }
        nodes
    };
    times.iter().map(&mut at).collect()
}

/// The largest distance in metres and angle in radians between the motions of two scenes, at half frames in the range of
/// the first.
pub fn apart(a: &Scene, b: &Scene, take: &str) -> (f64, f64) {
    apart_by(a, b, take, 0.5)
}

/// The same at steps of so many frames.
pub fn apart_by(a: &Scene, b: &Scene, take: &str, step: f64) -> (f64, f64) {
    let range = a.takes.iter().find(|found| found.name == take).unwrap().range;
    let (first, last) = (a.rate.frame(range.first), a.rate.frame(range.last));
    let count = ((last - first) / step).round() as i64;
    let times: Vec<f64> = (0..=count).map(|n| (first + step * n as f64) * a.rate.ticks_per_frame()).collect();
    let (a, b) = (motion(a, take, &times), motion(b, take, &times));
    let mut most = (0.0_f64, 0.0_f64);
    for (a, b) in a.iter().zip(&b) {
        assert_eq!(a.len(), b.len());
        for (name, (place, turn)) in a {
            let (other_place, other_turn) = b[name];
            most.0 = most.0.max((*place - other_place).length());
            // The vector part tells small angles that the scalar part rounds away.
            let difference = turn.conjugate() * other_turn;
            most.1 = most.1.max(2.0 * difference.xyz().length().min(1.0).asin());
        }
    }
    most
}
