//! Reading and writing glTF of about 100 MB. `cargo bench -p nimble-curve-formats --bench gltf` prints speed and memory.

use std::path::Path;
use std::time::Instant;

use glam::DVec3;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::rig::{Node, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_formats::{Assume, Format, Saving, encode, read_bytes};

const JOINTS: usize = 80;
/// So that the file has about 100 MB: 20 bytes a joint and frame.
const FRAMES: usize = 62_500;

/// A chain of joints with sampled rotations: quaternions that wander.
fn scene() -> Scene {
    let rate = FrameRate::FPS_120;
    let mut rig = Rig::new("chain");
    let mut tracks = Vec::with_capacity(JOINTS);
    let mut above = None;
    for joint in 0..JOINTS {
        let place = DVec3::new(0.0, 0.1, 0.0);
        let node = Node::new(format!("joint{joint}"), NodeKind::Joint, place, RotationOrder::Xyz);
        let node = rig.add(above, node).expect("the parent is there");
        above = Some(node);
        let values = (0..FRAMES)
            .flat_map(|frame| {
                let t = frame as f64 * 0.01 + joint as f64;
                let turn = DVec3::new(t.sin(), (0.7 * t).cos(), (1.3 * t).sin()) * 0.8;
                glam::DQuat::from_scaled_axis(turn).to_array()
            })
            .collect();
        let kind = SampleKind::Quaternion;
        tracks.push(Track {
            target: Target { rig: 0, node, property: "rotation".into() },
            controller: Controller::Samples(Samples { start: Ticks::ZERO, rate, kind, values }),
        });
    }
    Scene {
        rate,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![Take {
            name: "take".into(),
            folder: None,
            range: TimeRange::new(Ticks::ZERO, rate.ticks(FRAMES as i64 - 1)),
            clips: Vec::new(),
            markers: Vec::new(),
            layers: vec![Layer::base(tracks)],
        }],
    }
}

/// The most memory that the program has held so far, in MB; 0 where the system does not say.
fn peak() -> f64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or("0 kB");
    line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0) / 1024.0
}

fn main() {
    let scene = scene();
    let held = peak();
    let saving = Saving { without_extra: true, ..Saving::default() };
    let path = Path::new("chain.glb");
    let start = Instant::now();
    let (bytes, _) = encode(&scene, Format::Glb, path, &saving).expect("it can be written");
    let (written, after_writing) = (start.elapsed(), peak());
    drop(scene);
    let size = bytes.len() as f64 / 1e6;
    let speed = |time: std::time::Duration| size / time.as_secs_f64();
    println!(
        "written: {size:.0} MB at {:.0} MB/s; {after_writing:.0} MB at most, {held:.0} of them the scene",
        speed(written)
    );
    let start = Instant::now();
    let loaded = read_bytes(&bytes, path, Assume::default()).expect("it can be read");
    println!("read: {:.0} MB/s; {:.0} MB at most so far", speed(start.elapsed()), peak());
    assert_eq!(loaded.scene.takes[0].tracks().count(), JOINTS);
}
