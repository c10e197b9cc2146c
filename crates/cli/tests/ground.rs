//! Captures that rest with their hips at the origin, in the two ways in which such skeletons are built and named, onto the stork: with
//! the map as it is proposed.

use std::fmt::Write;
use std::path::Path;

use glam::DVec3;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::scene::Scene;
use tempfile::tempdir;

use crate::common::{degrees_between, fail, relative, run, sample, scene, succeed, world_places};

/// A joint of a capture: its name, how many levels it is deep, its offset in centimetres.
type Joint = (&'static str, usize, [f64; 3]);

const COLLAR_SHOULDER_ELBOW: &[Joint] = &[
    ("Hips", 0, [0.0, 0.0, 0.0]),
    ("Chest", 1, [0.0, 12.0, 0.0]),
    ("Chest2", 2, [0.0, 15.0, 0.0]),
    ("Chest3", 3, [0.0, 14.0, 0.0]),
    ("Neck", 4, [0.0, 18.0, 0.0]),
    ("Head", 5, [0.0, 10.0, 1.0]),
    ("LeftCollar", 4, [3.0, 13.0, 0.0]),
    ("LeftShoulder", 5, [13.0, 0.0, 0.0]),
    ("LeftElbow", 6, [28.0, 0.0, 0.0]),
    ("LeftWrist", 7, [25.0, 0.0, 0.0]),
    ("RightCollar", 4, [-3.0, 13.0, 0.0]),
    ("RightShoulder", 5, [-13.0, 0.0, 0.0]),
    ("RightElbow", 6, [-28.0, 0.0, 0.0]),
    ("RightWrist", 7, [-25.0, 0.0, 0.0]),
    ("LeftHip", 1, [9.0, -3.0, 0.0]),
    ("LeftKnee", 2, [0.0, -42.0, 0.0]),
    ("LeftAnkle", 3, [0.0, -40.0, 0.0]),
    ("LeftToe", 4, [0.0, -6.0, 13.0]),
    ("RightHip", 1, [-9.0, -3.0, 0.0]),
    ("RightKnee", 2, [0.0, -42.0, 0.0]),
    ("RightAnkle", 3, [0.0, -40.0, 0.0]),
    ("RightToe", 4, [0.0, -6.0, 13.0]),
];

/// Joints of no length between the hips and the legs, and below the back; hands with a finger and a thumb.
const SHOULDER_ARM_FOREARM: &[Joint] = &[
    ("hips", 0, [0.0, 0.0, 0.0]),
    ("lHipJoint", 1, [0.0, 0.0, 0.0]),
    ("LeftUpLeg", 2, [8.0, -6.0, 1.0]),
    ("LeftLeg", 3, [3.0, -41.0, 0.0]),
    ("LeftFoot", 4, [2.0, -40.0, -1.0]),
    ("LeftToeBase", 5, [0.0, -4.0, 13.0]),
    ("rHipJoint", 1, [0.0, 0.0, 0.0]),
    ("RightUpLeg", 2, [-8.0, -6.0, 1.0]),
    ("RightLeg", 3, [-3.0, -41.0, 0.0]),
    ("RightFoot", 4, [-2.0, -40.0, -1.0]),
    ("RightToeBase", 5, [0.0, -4.0, 13.0]),
    ("LowerBack", 1, [0.0, 0.0, 0.0]),
    ("Spine", 2, [0.0, 12.0, -1.0]),
    ("Spine1", 3, [0.0, 12.0, 0.0]),
    ("Neck", 4, [0.0, 0.0, 0.0]),
    ("Neck1", 5, [0.0, 10.0, 1.0]),
    ("Head", 6, [0.0, 10.0, 0.0]),
    ("LeftShoulder", 4, [0.0, 0.0, 0.0]),
    ("LeftArm", 5, [18.0, 4.0, 0.0]),
    ("LeftForeArm", 6, [28.0, 0.0, 0.0]),
    ("LeftHand", 7, [20.0, 0.0, 0.0]),
    ("LeftFingerBase", 8, [0.0, 0.0, 0.0]),
    ("LeftHandIndex1", 9, [7.0, 0.0, 0.0]),
    ("LThumb", 8, [0.0, 0.0, 0.0]),
    ("RightShoulder", 4, [0.0, 0.0, 0.0]),
    ("RightArm", 5, [-18.0, 4.0, 0.0]),
    ("RightForeArm", 6, [-28.0, 0.0, 0.0]),
    ("RightHand", 7, [-20.0, 0.0, 0.0]),
    ("RightFingerBase", 8, [0.0, 0.0, 0.0]),
    ("RightHandIndex1", 9, [-7.0, 0.0, 0.0]),
    ("RThumb", 8, [0.0, 0.0, 0.0]),
];

const FRAMES: usize = 60;

/// A walk in place on bent knees, arms swinging: angles about x by the part of the name, in degrees.
fn angle(name: &str, frame: usize) -> [f64; 3] {
    let phase = frame as f64 / 30.0 * std::f64::consts::TAU;
    let left = name.starts_with(['L', 'l']);
    let swing = if left { phase.sin() } else { -phase.sin() };
    let is = |words: &[&str]| words.iter().any(|word| name.ends_with(word));
    if is(&["LeftHip", "RightHip", "UpLeg"]) {
        [-12.0 + 22.0 * swing, 0.0, 0.0]
    } else if is(&["Knee", "LeftLeg", "RightLeg"]) {
        [24.0 - 20.0 * swing.min(0.0), 0.0, 0.0]
    } else if is(&["Ankle", "LeftFoot", "RightFoot"]) {
        [-12.0, 0.0, 0.0]
    } else if is(&["LeftArm", "RightArm", "LeftShoulder", "RightShoulder"]) && !name.contains("Joint") {
        [0.0, 25.0 * swing, if left { -60.0 } else { 60.0 }]
    } else if is(&["Elbow", "ForeArm"]) {
        [0.0, if left { -20.0 } else { 20.0 }, 0.0]
    } else {
        [0.0; 3]
    }
}

/// The capture as a BVH text; the hips `height` centimetres high and walking ahead.
fn bvh(joints: &[Joint], height: f64) -> String {
    let walk = |frame: usize| [0.0, height, frame as f64 * 1.5];
    moved(joints, &walk, &angle)
}

/// A capture with the hips where `place` says and angles about x, y and z, in degrees, as `angle` says.
fn moved(
    joints: &[Joint],
    place: &dyn Fn(usize) -> [f64; 3],
    angle: &dyn Fn(&str, usize) -> [f64; 3],
) -> String {
    let mut text = String::from("HIERARCHY\n");
    let mut open: Vec<usize> = Vec::new();
    for (index, (name, level, offset)) in joints.iter().enumerate() {
        while open.len() > *level {
            open.pop();
            text += "}\n";
        }
        let [x, y, z] = offset;
        let (head, channels) = match level {
            0 => ("ROOT", "6 Xposition Yposition Zposition Zrotation Yrotation Xrotation"),
            _ => ("JOINT", "3 Zrotation Yrotation Xrotation"),
        };
        writeln!(text, "{head} {name}\n{{\nOFFSET {x} {y} {z}\nCHANNELS {channels}").unwrap();
        open.push(index);
        if joints.get(index + 1).is_none_or(|next| next.1 <= *level) {
            text += "End Site\n{\nOFFSET 0 0 0\n}\n";
        }
    }
    text += &"}\n".repeat(open.len());
    writeln!(text, "MOTION\nFrames: {FRAMES}\nFrame Time: 0.0333333333").unwrap();
    for frame in 0..FRAMES {
        let [x, y, z] = place(frame);
        let mut row = format!("{x} {y} {z}");
        for (name, ..) in joints {
            let [x, y, z] = angle(name, frame);
            write!(row, " {z} {y} {x}").unwrap();
        }
        text += &row;
        text.push('\n');
    }
    text
}

/// The lowest joint at each frame, in metres, of those that are named.
fn lowest(scene: &Scene, names: &[&str], frames: &[f64]) -> Vec<f64> {
    let places = world_places(scene, 0, frames);
    (0..frames.len())
        .map(|at| names.iter().map(|name| places[*name][at].y).fold(f64::INFINITY, f64::min))
        .collect()
}

fn percentile(mut values: Vec<f64>, part: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    values[(values.len() as f64 * part) as usize]
}

fn carried(at: &Path, joints: &[Joint], more: &[&str]) -> (Scene, Scene, String) {
    // The hips so high that feet are on the floor, by this test's own reckoning: legs bent as above, the feet's joints 2 cm high.
    std::fs::write(at.join("at_zero.bvh"), bvh(joints, 0.0)).unwrap();
    let feet: Vec<&str> = joints
        .iter()
        .map(|joint| joint.0)
        .filter(|name| name.contains("Toe") || name.contains("Ankle") || name.ends_with("Foot"))
        .collect();
    let frames: Vec<f64> = (0..FRAMES).map(|frame| frame as f64).collect();
    let low = percentile(lowest(&scene(&at.join("at_zero.bvh")), &feet, &frames), 0.1);
    std::fs::write(at.join("capture.bvh"), bvh(joints, 2.0 - 100.0 * low)).unwrap();
    let stork = sample("stilt.ncurve").to_str().unwrap().to_owned();
    succeed(at, &["map", "capture.bvh", &stork, "-o", "map.toml"]);
    let mut arguments =
        vec!["carry", "capture.bvh", "--target", &stork, "--map", "map.toml", "-o", "out.ncurve"];
    arguments.extend(more);
    let said = succeed(at, &arguments);
    (scene(&at.join("capture.bvh")), scene(&at.join("out.ncurve")), said)
}

const STORK_FEET: [&str; 4] = ["L_Hock", "L_Claws", "R_Hock", "R_Claws"];

fn stands_as_it_did(joints: &[Joint], arms: [&str; 2], legs: [&str; 2]) {
    let folder = tempdir().unwrap();
    let (capture, stork, said) = carried(folder.path(), joints, &[]);
    assert!(said.contains("source's reference pose stands"), "{said}");
    let frames: Vec<f64> = (0..FRAMES).map(|frame| frame as f64).collect();
    let (source, result) = (relative(&capture, 0, &frames), relative(&stork, 0, &frames));
    for (from, onto) in [(arms[0], "L_Wing"), (arms[1], "R_Wing"), (legs[0], "L_Hip"), (legs[1], "R_Hip")] {
        for (at, (a, b)) in source[from].iter().zip(&result[onto]).enumerate() {
            assert!(
                degrees_between(*a, *b) <= 0.1,
                "{from} and {onto} at {at}: {} deg",
                degrees_between(*a, *b)
            );
        }
    }
    // Feet as high above the ground as they were, in parts of the legs: the stork's rest on its own ground.
    let rest = stork_rest();
    let leg = rest["Pelvis"].y - STORK_FEET.iter().map(|foot| rest[*foot].y).fold(f64::INFINITY, f64::min);
    let ground = rest["Pelvis"].y - leg;
    let stands = percentile(lowest(&stork, &STORK_FEET, &frames), 0.1);
    assert!((stands - ground).abs() < 0.03 * leg, "stands at {stands}, its ground is {ground}");
    // Travel by the legs.
    let hips = |scene: &Scene, name: &str| world_places(scene, 0, &frames)[name].clone();
    let (from, onto) = (hips(&capture, joints[0].0), hips(&stork, "Pelvis"));
    let (way, own) = (onto[FRAMES - 1].z - onto[0].z, from[FRAMES - 1].z - from[0].z);
    let capture_leg = -joints
        .iter()
        .scan(Vec::new(), |above: &mut Vec<f64>, joint| {
            above.truncate(joint.1);
            let y = above.last().copied().unwrap_or(0.0) + joint.2[1];
            above.push(y);
            Some(y)
        })
        .fold(0.0, f64::min)
        / 100.0;
    assert!((way / own - leg / capture_leg).abs() < 1e-3, "{} {}", way / own, leg / capture_leg);
    let heights = onto.iter().zip(&from).map(|(b, a)| (b.y - ground) / leg - (a.y - 0.02) / capture_leg);
    let off = heights.map(f64::abs).fold(0.0, f64::max);
    assert!(off < 2e-3, "the body is {off} legs too high or too low");
}

fn stork_rest() -> std::collections::HashMap<String, DVec3> {
    let mut still = scene(&sample("stilt.ncurve"));
    still.takes = vec![nimble_curve_core::scene::Take::new(
        "rest",
        nimble_curve_core::time::TimeRange::new(still.rate.ticks(0), still.rate.ticks(0)),
        Vec::new(),
    )];
    world_places(&still, 0, &[0.0]).into_iter().map(|(name, places)| (name, places[0])).collect()
}

#[test]
fn a_capture_of_collars_shoulders_and_elbows_stands_on_the_storks_ground() {
    stands_as_it_did(COLLAR_SHOULDER_ELBOW, ["LeftShoulder", "RightShoulder"], ["LeftHip", "RightHip"]);
}

#[test]
fn a_capture_of_shoulders_arms_and_forearms_stands_on_the_storks_ground() {
    stands_as_it_did(SHOULDER_ARM_FOREARM, ["LeftArm", "RightArm"], ["LeftUpLeg", "RightUpLeg"]);
}

#[test]
fn a_capture_back_onto_its_own_skeleton_is_what_it_was() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("capture.bvh"), bvh(COLLAR_SHOULDER_ELBOW, 92.0)).unwrap();
    succeed(at, &["convert", "capture.bvh", "-o", "rig.ncurve"]);
    let mut rig = scene(&at.join("rig.ncurve"));
    rig.takes.clear();
    nimble_curve_formats::write(&rig, &at.join("rig.ncurve"), &nimble_curve_formats::Saving::default())
        .unwrap();
    succeed(at, &["carry", "capture.bvh", "--target", "rig.ncurve", "-o", "out.ncurve"]);
    let frames: Vec<f64> = (0..FRAMES).map(|frame| frame as f64).collect();
    let (was, is) = (
        world_places(&scene(&at.join("capture.bvh")), 0, &frames),
        world_places(&scene(&at.join("out.ncurve")), 0, &frames),
    );
    for (name, places) in &was {
        for (a, b) in places.iter().zip(&is[name]) {
            assert!((*a - *b).length() < 1e-9, "{name}: {a} {b}");
        }
    }
}

/// The same skeleton with arms that hang down by `degrees` at rest, and its feet turned out.
fn hanging(degrees: f64) -> Vec<Joint> {
    let (sin, cos) = degrees.to_radians().sin_cos();
    let turned = |(name, level, [x, y, z]): &Joint| {
        let offset = match *name {
            "LeftElbow" | "LeftWrist" | "RightElbow" | "RightWrist" => [x * cos, -x.abs() * sin, *z],
            "LeftToe" | "RightToe" => [if name.starts_with('L') { 6.0 } else { -6.0 }, *y, 11.5],
            _ => [*x, *y, *z],
        };
        (*name, *level, offset)
    };
    COLLAR_SHOULDER_ELBOW.iter().map(turned).collect()
}

#[test]
fn limbs_point_as_they_did_where_the_rest_poses_differ() {
    let joints = hanging(50.0);
    let frames: Vec<f64> = (0..FRAMES).map(|frame| frame as f64).collect();
    let bones = [
        (["LeftShoulder", "LeftElbow"], ["L_Wing", "L_Elbow"]),
        (["RightShoulder", "RightElbow"], ["R_Wing", "R_Elbow"]),
        (["LeftElbow", "LeftWrist"], ["L_Elbow", "L_Pinion"]),
        (["LeftHip", "LeftKnee"], ["L_Hip", "L_Knee"]),
        (["RightKnee", "RightAnkle"], ["R_Knee", "R_Hock"]),
    ];
    // How far the bones' directions are apart at most, by this test's own kinematics.
    let apart = |more: &[&str]| {
        let folder = tempdir().unwrap();
        let (capture, stork, said) = carried(folder.path(), &joints, more);
        let (from, onto) = (world_places(&capture, 0, &frames), world_places(&stork, 0, &frames));
        let largest = |(own, other): ([&str; 2], [&str; 2])| {
            (0..FRAMES)
                .map(|at| {
                    let (a, b) =
                        (from[own[1]][at] - from[own[0]][at], onto[other[1]][at] - onto[other[0]][at]);
                    a.angle_between(b).to_degrees()
                })
                .fold(0.0, f64::max)
        };
        (bones.map(largest), said, folder)
    };
    let (matched, said, folder) = apart(&["--keep-pose", "pose.ncurve"]);
    assert!(matched.iter().all(|angle| *angle <= 0.15), "{matched:?}");
    assert!(said.contains("point elsewhere in the two rest poses, by up to 50 deg"), "{said}");
    let (plain, _, _) = apart(&["--match-poses", "off"]);
    assert!(plain[0] > 40.0, "{plain:?}");
    // The pose that was kept does the same when it is given.
    let stork = sample("stilt.ncurve").to_str().unwrap().to_owned();
    let at = folder.path();
    let given = [
        "carry",
        "capture.bvh",
        "--target",
        &stork,
        "--map",
        "map.toml",
        "--target-pose",
        "pose.ncurve",
        "-o",
        "given.ncurve",
    ];
    succeed(at, &given);
    let (own, other) = (
        world_places(&scene(&at.join("out.ncurve")), 0, &frames),
        world_places(&scene(&at.join("given.ncurve")), 0, &frames),
    );
    for (name, places) in &own {
        for (a, b) in places.iter().zip(&other[name]) {
            assert!((*a - *b).length() < 1e-3, "{name}: {a} {b}");
        }
    }
    // Side by side relative to the poses that correspond, the two are the same; relative to rest they would be 50 degrees apart.
    let compared = |more: &[&str]| {
        let mut arguments = vec![
            "compare",
            "capture.bvh",
            "out.ncurve",
            "--map",
            "map.toml",
            "--only",
            "LeftShoulder",
            "LeftHip",
            "--tolerance",
            "0.15deg",
        ];
        arguments.extend(more);
        run(at, &arguments)
    };
    let same = compared(&["--target-pose", "pose.ncurve"]);
    assert!(same.status.success(), "{}", String::from_utf8_lossy(&same.stdout));
    let apart = compared(&[]);
    assert_eq!(apart.status.code(), Some(1), "{}", String::from_utf8_lossy(&apart.stdout));
    // Soles stay level: the stork's feet turn about the up axis alone between its rest and the pose.
    let pose = relative(&scene(&at.join("pose.ncurve")), 0, &[0.0]);
    for foot in ["L_Hock", "R_Hock"] {
        let turn = pose[foot][0];
        assert!((turn * DVec3::Y).angle_between(DVec3::Y).to_degrees() < 1e-6, "{foot}");
        assert!(turn.to_scaled_axis().length().to_degrees() > 20.0, "{foot} takes the heading: {turn}");
    }
}

#[test]
fn a_pose_that_was_not_made_cannot_be_kept() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("capture.bvh"), bvh(COLLAR_SHOULDER_ELBOW, 92.0)).unwrap();
    let stork = sample("stilt.ncurve").to_str().unwrap().to_owned();
    succeed(at, &["map", "capture.bvh", &stork, "-o", "map.toml"]);
    let line = fail(
        at,
        &[
            "carry",
            "capture.bvh",
            "--target",
            &stork,
            "--map",
            "map.toml",
            "-o",
            "out.ncurve",
            "--keep-pose",
            "pose.ncurve",
        ],
    );
    assert!(line.contains("pose.ncurve: no pose was made to be kept"), "{line}");
    assert!(!at.join("out.ncurve").exists());
}

#[test]
fn a_body_that_floats_or_sinks_is_found_and_one_that_stands_is_not() {
    let folder = tempdir().unwrap();
    let (at, stork) = (folder.path(), sample("stilt.ncurve"));
    let (_, mut result, _) = carried(at, COLLAR_SHOULDER_ELBOW, &[]);
    let found = |name: &str| succeed(at, &["check", name, "--fail-on", "error"]);
    assert!(!found("out.ncurve").contains("off-ground"), "{}", found("out.ncurve"));
    assert!(!succeed(at, &["check", stork.to_str().unwrap(), "--fail-on", "error"]).contains("off-ground"));
    for (by, said) in [(0.69, "floats: it stands 0.7"), (-0.69, "sinks: it stands 0.6")] {
        for track in &mut result.takes[0].layers[0].tracks {
            if track.target.property != "translation" {
                continue;
            }
            let Controller::Samples(samples) = &mut track.controller else { panic!() };
            samples.values.iter_mut().skip(1).step_by(3).for_each(|height| *height += by);
        }
        nimble_curve_formats::write(
            &result,
            &at.join("moved.ncurve"),
            &nimble_curve_formats::Saving::default(),
        )
        .unwrap();
        assert!(found("moved.ncurve").contains(said), "{by}: {}", found("moved.ncurve"));
        for track in &mut result.takes[0].layers[0].tracks {
            if let ("translation", Controller::Samples(samples)) =
                (track.target.property.as_str(), &mut track.controller)
            {
                samples.values.iter_mut().skip(1).step_by(3).for_each(|height| *height -= by);
            }
        }
    }
}

/// Knees of equal bones above feet that do not move: down and up again, swaying to the sides.
fn squat(at: &Path) -> Vec<Joint> {
    let equal = |(name, level, [x, y, z]): &Joint| {
        let is_leg = name.ends_with("Knee") || name.ends_with("Ankle");
        (*name, *level, [*x, if is_leg { -41.0 } else { *y }, *z])
    };
    let joints: Vec<Joint> = COLLAR_SHOULDER_ELBOW.iter().map(equal).collect();
    let bend = |frame: usize| 15.0 + 30.0 * (frame as f64 / 30.0 * std::f64::consts::PI).sin().abs();
    let place = |frame: usize| {
        let leg = 82.0 * bend(frame).to_radians().cos();
        [0.0, leg + 3.0 + 8.0, 0.0]
    };
    let angle = |name: &str, frame: usize| match name {
        "LeftHip" | "RightHip" | "LeftAnkle" | "RightAnkle" => [-bend(frame), 0.0, 0.0],
        "LeftKnee" | "RightKnee" => [2.0 * bend(frame), 0.0, 0.0],
        _ => [0.0; 3],
    };
    std::fs::write(at.join("capture.bvh"), moved(&joints, &place, &angle)).unwrap();
    joints
}

#[test]
fn held_feet_stand_on_the_ground_and_do_not_slide() {
    let folder = tempdir().unwrap();
    let (at, stork) = (folder.path(), sample("stilt.ncurve").to_str().unwrap().to_owned());
    squat(at);
    let frames: Vec<f64> = (0..FRAMES).map(|frame| frame as f64).collect();
    let source = world_places(&scene(&at.join("capture.bvh")), 0, &frames);
    let still = source["LeftAnkle"].iter().all(|place| (*place - source["LeftAnkle"][0]).length() < 1e-6);
    assert!(still, "the source's feet stand: {:?}", &source["LeftAnkle"][..3]);
    succeed(at, &["map", "capture.bvh", &stork, "-o", "map.toml"]);
    let carry = [
        "carry",
        "capture.bvh",
        "--target",
        &stork,
        "--map",
        "map.toml",
        "--feet",
        "hold",
        "-o",
        "out.ncurve",
    ];
    let said = succeed(at, &carry);
    let places = world_places(&scene(&at.join("out.ncurve")), 0, &frames);
    let rest = stork_rest();
    for foot in ["L_Hock", "R_Hock"] {
        for (frame, place) in places[foot].iter().enumerate() {
            let slid = (*place - places[foot][0]).length() * 1000.0;
            assert!(slid <= 0.5, "{foot} moves by {slid} mm at {frame}: {said}");
            let height = (place.y - rest[foot].y).abs() * 100.0;
            assert!(height <= 1.0, "{foot} is {height} cm from where it stands, at {frame}: {said}");
        }
    }
}

#[test]
fn the_apprentices_capture_goes_onto_the_stork_with_nothing_said() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (moss, stork) = (sample("moss_lifts.bvh"), sample("stilt.ncurve"));
    let (moss, stork) = (moss.to_str().unwrap(), stork.to_str().unwrap());
    let said = succeed(at, &["map", moss, stork, "-o", "map.toml"]);
    assert!(!said.contains("guess") && !said.contains("likely"), "{said}");
    succeed(
        at,
        &["carry", moss, "--target", stork, "--map", "map.toml", "--feet", "hold", "-o", "out.ncurve"],
    );
    let (capture, result) = (scene(Path::new(moss)), scene(&at.join("out.ncurve")));
    let frames: Vec<f64> = (0..=240).map(f64::from).collect();
    let others: Vec<f64> = frames.iter().map(|frame| frame * result.rate.fps() / 60.0).collect();
    let (from, onto) = (world_places(&capture, 0, &frames), world_places(&result, 0, &others));
    for (own, other) in [
        (["Moss_LeftShoulder", "Moss_LeftElbow"], ["L_Wing", "L_Elbow"]),
        (["Moss_RightElbow", "Moss_RightWrist"], ["R_Elbow", "R_Pinion"]),
    ] {
        for frame in 0..frames.len() {
            let (a, b) =
                (from[own[1]][frame] - from[own[0]][frame], onto[other[1]][frame] - onto[other[0]][frame]);
            let angle = a.angle_between(b).to_degrees();
            assert!(angle <= 0.1, "{own:?} points {angle} deg elsewhere at {frame}");
        }
    }
    let rest = stork_rest();
    for foot in ["L_Hock", "R_Hock"] {
        let low = onto[foot].iter().map(|place| (place.y - rest[foot].y).abs()).fold(0.0, f64::max);
        let slid = onto[foot].iter().map(|place| (*place - onto[foot][0]).length()).fold(0.0, f64::max);
        assert!(low <= 0.01 && slid <= 0.0005, "{foot}: {low} m off the ground, moves by {slid} m");
    }
}

/// Circles of a picture: where they are, and how large.
fn circles(svg: &str) -> Vec<[f64; 3]> {
    let number = |text: &str, name: &str| -> f64 {
        let from = text.find(&format!(" {name}=\"")).unwrap() + name.len() + 3;
        text[from..].split('"').next().unwrap().parse().unwrap()
    };
    let dots = svg.split("<circle").skip(1);
    dots.map(|dot| [number(dot, "cx"), number(dot, "cy"), number(dot, "r")]).collect()
}

#[test]
fn the_two_reference_poses_are_drawn_one_below_the_other_and_all_rigs_of_a_scene() {
    let folder = tempdir().unwrap();
    let (moss, stilt) = (sample("moss_lifts.bvh"), sample("stilt.ncurve"));
    let (moss, stilt) = (moss.to_str().unwrap(), stilt.to_str().unwrap());
    succeed(folder.path(), &["map", moss, stilt, "-o", "moss.toml"]);
    let own = [
        "carry",
        moss,
        "--target",
        stilt,
        "--map",
        "moss.toml",
        "--keep-pose",
        "pose.ncurve",
        "-o",
        "x.ncurve",
    ];
    succeed(folder.path(), &own);
    let said = succeed(
        folder.path(),
        &["plot", moss, "--view", "poses", "--rest", "--against", "pose.ncurve", "-o", "rest.svg"],
    );
    assert!(said.contains("poses of the rig at rest"), "{said}");
    let svg = std::fs::read_to_string(folder.path().join("rest.svg")).unwrap();
    let dots = circles(&svg);
    // A pose of each, in two rows; what rests with its hips at the origin stands in its rows all the same.
    let row = |index: usize| -> Vec<&[f64; 3]> {
        let (top, height) = (46.0, 750.0 / 4.0);
        let (from, to) = (top + index as f64 * height, top + (index + 1) as f64 * height);
        dots.iter().filter(|[_, y, _]| (from..to).contains(y)).collect()
    };
    assert_eq!([0, 1, 2, 3].map(|index| row(index).len()), [22, 22, 27, 27], "{}", dots.len());
    // The arms hang alike: from the front, as far aside as down, beside the height of the figure.
    let spread = |dots: &[&[f64; 3]]| {
        let of = |axis: usize| {
            let all = dots.iter().map(|dot| dot[axis]);
            all.clone().fold(f64::MIN, f64::max) - all.fold(f64::MAX, f64::min)
        };
        of(0) / of(1)
    };
    assert!(
        (spread(&row(1)) - 0.63).abs() < 0.1 && (spread(&row(3)) - 0.525).abs() < 0.1,
        "{} {}",
        spread(&row(1)),
        spread(&row(3))
    );
    let line = fail(folder.path(), &["plot", moss, "--rest", "-o", "x.svg"]);
    assert!(line.contains("say --view poses with --rest"), "{line}");
    // The parcel is drawn beside the one who holds it: two nodes, nine poses, two rows.
    let handover = sample("handover.ncurve");
    succeed(folder.path(), &["plot", handover.to_str().unwrap(), "--view", "poses", "-o", "both.svg"]);
    let svg = std::fs::read_to_string(folder.path().join("both.svg")).unwrap();
    assert_eq!(circles(&svg).iter().filter(|[.., r]| *r > 3.0).count(), 36);
}
