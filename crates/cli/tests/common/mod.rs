//! What the tests of the program share: its start, and measures of results that share nothing with its own.
#![allow(dead_code)]

pub mod recipes;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::Output;

use glam::{DQuat, DVec3, EulerRot};
use nimble_curve_core::evaluate::PropertySampler;
use nimble_curve_core::rig::OpValue;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Scene, Target};
use nimble_curve_core::value::Value;
use nimble_curve_formats::{Assume, read};

/// A file of the sample scenario.
pub fn sample(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("demo").join(name)
}

/// Runs the program in a folder.
pub fn run(folder: &Path, arguments: &[&str]) -> Output {
    assert_cmd::Command::cargo_bin("nimble-curve")
        .unwrap()
        .current_dir(folder)
        .args(arguments)
        .output()
        .unwrap()
}

/// The file that a command line names for its result, where it names no other way to treat what is there.
fn result_of<'a>(arguments: &[&'a str]) -> Option<&'a str> {
    let named = arguments.iter().position(|word| ["-o", "--output"].contains(word)).map(|at| at + 1);
    let place = match arguments.first() {
        Some(&"convert") => Some(2),
        _ => named,
    };
    let is_said = arguments.iter().any(|word| ["--replace", "--replace"].contains(word));
    let file = arguments.get(place?)?;
    let is_input = arguments.iter().filter(|word| *word == file).count() > 1;
    (!is_said && !is_input).then_some(*file)
}

/// Runs the program, which must succeed, and returns what it printed.
///
/// Tests call many results the same; the program does not write over another one unasked, so it is taken away before.
pub fn succeed(folder: &Path, arguments: &[&str]) -> String {
    if let Some(earlier) = result_of(arguments).map(|file| folder.join(file)).filter(|file| file.is_file()) {
        std::fs::remove_file(earlier).unwrap();
    }
    let output = run(folder, arguments);
    let errors = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{arguments:?}: {errors}");
    String::from_utf8(output.stdout).unwrap()
}

/// Runs the program, which must fail with one clear line, and returns that line.
pub fn fail(folder: &Path, arguments: &[&str]) -> String {
    fail_with(1, folder, arguments)
}

/// The same, with another exit code than that of most errors.
pub fn fail_with(code: i32, folder: &Path, arguments: &[&str]) -> String {
    let output = run(folder, arguments);
    let errors = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(code), "{arguments:?}: {errors}");
    let lines: Vec<&str> = errors.lines().filter(|line| !line.starts_with("note:")).collect();
    assert_eq!(lines.len(), 1, "{arguments:?}: {errors}");
    assert!(lines[0].starts_with("error: "), "{errors}");
    assert!(output.stdout.is_empty(), "{arguments:?}: printed a result beside its error");
    lines[0].to_owned()
}

/// Reads a scene.
pub fn scene(path: &Path) -> Scene {
    read(path, Assume::default()).unwrap().scene
}

/// The names in a folder, sorted.
pub fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// A rotation from Euler angles by the vector library, whose names list the axes of the product left to right.
pub fn rotation(order: RotationOrder, angles: DVec3) -> DQuat {
    let (a, b, c) = order.axes();
    let name = match order {
        RotationOrder::Xyz => EulerRot::ZYX,
        RotationOrder::Xzy => EulerRot::YZX,
        RotationOrder::Yxz => EulerRot::ZXY,
        RotationOrder::Yzx => EulerRot::XZY,
        RotationOrder::Zxy => EulerRot::YXZ,
        RotationOrder::Zyx => EulerRot::XYZ,
    };
    DQuat::from_euler(name, angles[a], angles[b], angles[c])
}

/// The degrees between two rotations.
pub fn degrees_between(a: DQuat, b: DQuat) -> f64 {
    let d = a.conjugate() * b;
    (2.0 * d.xyz().length().atan2(d.w.abs())).to_degrees()
}

/// The local rotations of a node, by name, at some frames of the scene's rate.
pub fn rotations(scene: &Scene, node: &str, frames: impl Iterator<Item = f64>) -> Vec<DQuat> {
    values(scene, node, "rotation", frames)
        .into_iter()
        .map(|value| match value {
            Value::Euler { order, angles } => rotation(order, angles),
            Value::Quaternion(q) => q.normalize(),
            other => panic!("{other:?} is no rotation"),
        })
        .collect()
}

/// The values of a property at some frames of the scene's rate.
pub fn values(scene: &Scene, node: &str, property: &str, frames: impl Iterator<Item = f64>) -> Vec<Value> {
    let id =
        scene.rigs[0].nodes().find(|(_, n)| n.name == node).unwrap_or_else(|| panic!("no node {node}")).0;
    let target = Target { rig: 0, node: id, property: property.into() };
    let mut sampler = PropertySampler::new(scene, &scene.takes[0], &target).unwrap();
    frames.map(|frame| sampler.value_at(frame * scene.rate.ticks_per_frame())).collect()
}

/// World rotations of all nodes at some frames of the scene's rate, by name: the steps of each transform multiplied here.
pub fn world(scene: &Scene, take: Option<usize>, frames: &[f64]) -> HashMap<String, Vec<DQuat>> {
    let rig = &scene.rigs[0];
    let mut world: Vec<Vec<DQuat>> = Vec::new();
    for ((id, node), parent) in rig.nodes().zip(rig.parent_positions()) {
        let mut local = vec![DQuat::IDENTITY; frames.len()];
        for op in &node.transform {
            let constant = match op.value {
                OpValue::Rotate { order, angles } => rotation(order, angles),
                OpValue::Orient(q) => q,
                _ => continue,
            };
            let target = Target { rig: 0, node: id, property: op.name.clone() };
            let mut sampler =
                take.map(|take| PropertySampler::new(scene, &scene.takes[take], &target).unwrap());
            for (local, frame) in local.iter_mut().zip(frames) {
                let turn = match sampler.as_mut().map(|s| s.value_at(frame * scene.rate.ticks_per_frame())) {
                    Some(Value::Euler { order, angles }) => rotation(order, angles),
                    Some(Value::Quaternion(q)) => q.normalize(),
                    _ => constant,
                };
                *local *= turn;
            }
        }
        world.push(match parent {
            Some(parent) => world[parent].iter().zip(local).map(|(above, local)| *above * local).collect(),
            None => local,
        });
    }
    rig.nodes().zip(world).map(|((_, node), world)| (node.name.clone(), world)).collect()
}

/// World rotations relative to rest, by name without namespace.
pub fn relative(scene: &Scene, take: usize, frames: &[f64]) -> HashMap<String, Vec<DQuat>> {
    let rest = world(scene, None, &[0.0]);
    let moved = world(scene, Some(take), frames).into_iter();
    let bare = |name: &str| name.rsplit(':').next().unwrap().to_owned();
    moved
        .map(|(name, all)| (bare(&name), all.into_iter().map(|q| q * rest[&name][0].conjugate()).collect()))
        .collect()
}

/// World places of all nodes at some frames of the scene's rate, in metres, by name: each node's translation turned and
/// moved by what is above it, scale left aside.
pub fn world_places(scene: &Scene, take: usize, frames: &[f64]) -> HashMap<String, Vec<DVec3>> {
    let turns = world(scene, Some(take), frames);
    let rig = &scene.rigs[0];
    let mut places: HashMap<String, Vec<DVec3>> = HashMap::new();
    for (id, node) in rig.nodes() {
        let target = Target { rig: 0, node: id, property: "translation".into() };
        let mut sampler = PropertySampler::new(scene, &scene.takes[take], &target).unwrap();
        let own = frames.iter().map(|frame| match sampler.value_at(frame * scene.rate.ticks_per_frame()) {
            Value::Vector(v) => v,
            other => panic!("{other:?} is no place"),
        });
        let above = rig.parent(id).and_then(|id| rig.node(id)).map(|node| node.name.clone());
        let all = own.enumerate().map(|(at, own)| match &above {
            Some(above) => places[above][at] / scene.space.metres_per_unit + turns[above][at] * own,
            None => own,
        });
        let all = all.map(|place| place * scene.space.metres_per_unit).collect();
        places.insert(node.name.clone(), all);
    }
    places
}

/// The angles of a node's rotation at a frame of the first take, in degrees.
pub fn angles_at(scene: &Scene, node: &str, frame: f64) -> DVec3 {
    let addresses = nimble_curve_core::address::Addresses::new(scene);
    let (rig, node) = addresses.find(node).unwrap();
    let target = Target { rig, node, property: "rotation".into() };
    let mut sampler = PropertySampler::new(scene, &scene.takes[0], &target).unwrap();
    match sampler.value_at(frame * scene.rate.ticks_per_frame()) {
        Value::Euler { angles, .. } => angles * 180.0 / std::f64::consts::PI,
        other => panic!("{other:?}"),
    }
}
