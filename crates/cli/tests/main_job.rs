//! The main job: a capture on one rig becomes editable curves on another.

use glam::DQuat;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Value;
use nimble_curve_formats::name_map::read_name_map;
use tempfile::tempdir;

use crate::common::{degrees_between, names, rotations, sample, scene, succeed, values};

#[test]
fn the_demo_does_the_whole_job_and_tells_it() {
    let folder = tempdir().unwrap();
    let story = succeed(folder.path(), &["demo"]);
    for command in ["inspect", "unbake", "carry", "reorder", "convert"] {
        assert!(story.contains(&format!("$ nimble-curve {command} ")), "{command}: {story}");
    }
    assert!(story.contains("What to try next"));
    assert!(!story.contains('\u{1b}'), "colour outside a terminal");
    let made = names(&folder.path().join("nimble-demo"));
    for name in [
        "bramble_wade.ncurve",
        "stilt_wade.ncurve",
        "stilt_wade.ledger.json",
        "stilt_wade.bvh",
        "cart_best.ncurve",
    ] {
        assert!(made.contains(&name.to_owned()), "{name} of {made:?}");
    }
    // Everything suggested at the end works as it is printed.
    let next = story.split("What to try next").nth(1).unwrap();
    for line in next.lines().filter(|line| line.contains("nimble-curve ")) {
        let words: Vec<&str> = line
            .split("  ")
            .find(|part| part.contains("nimble-curve "))
            .unwrap()
            .split_whitespace()
            .skip(1)
            .collect();
        let words: Vec<&str> =
            words.into_iter().take_while(|word| *word != "planted" && *word != "one").collect();
        succeed(folder.path(), &words);
    }
}

#[test]
fn unbaking_the_capture_keeps_few_keys_and_its_bound() {
    let folder = tempdir().unwrap();
    let out = folder.path().join("wade.ncurve");
    let capture = sample("bramble_wade.bvh");
    succeed(
        folder.path(),
        &["unbake", capture.to_str().unwrap(), "-o", "wade.ncurve", "--tolerance", "0.1deg,0.5mm"],
    );
    let (before, after) = (scene(&capture), scene(&out));
    let (mut samples, mut keys) = (0, 0);
    for (_, track) in before.takes[0].tracks() {
        samples += track.controller.sample_count();
    }
    for (_, track) in after.takes[0].tracks() {
        keys += track.controller.key_count();
        for curve in track.controller.curves() {
            for key in curve.keys() {
                assert!(after.rate.whole_frame(key.time).is_some(), "a key off whole frames");
            }
        }
    }
    assert!((keys as f64) < 0.15 * samples as f64, "{keys} keys of {samples} samples");
    let frames = || (0..961).map(f64::from);
    for (_, node) in before.rigs[0].nodes() {
        if node.name.ends_with("_end") {
            continue;
        }
        let pairs =
            rotations(&before, &node.name, frames()).into_iter().zip(rotations(&after, &node.name, frames()));
        let worst = pairs.map(|(a, b)| degrees_between(a, b)).fold(0.0, f64::max);
        assert!(worst <= 0.1, "{}: {worst}", node.name);
    }
    let positions = |scene: &Scene| values(scene, "hips", "translation", frames());
    for (a, b) in positions(&before).into_iter().zip(positions(&after)) {
        let (Value::Vector(a), Value::Vector(b)) = (a, b) else { panic!() };
        assert!(a.distance(b) <= 0.05, "{a} {b}");
    }
}

#[test]
fn tangents_are_joined_where_the_motion_is_smooth() {
    let folder = tempdir().unwrap();
    let capture = sample("bramble_wade.bvh");
    succeed(folder.path(), &["unbake", capture.to_str().unwrap(), "-o", "wade.ncurve"]);
    let wade = scene(&folder.path().join("wade.ncurve"));
    let curves = wade.takes[0].tracks().flat_map(|(_, track)| track.controller.curves());
    let (keys, broken) = curves
        .flat_map(|curve| curve.keys())
        .fold((0, 0), |(keys, broken), key| (keys + 1, broken + usize::from(!key.joined)));
    assert!(broken * 50 < keys, "{broken} of {keys} keys are broken");
}

#[test]
fn carrying_keeps_world_rotations_relative_to_rest() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (capture, stilt, map) =
        (sample("bramble_wade.bvh"), sample("stilt.ncurve"), sample("bramble_to_stilt.toml"));
    let (capture, stilt, map) = (capture.to_str().unwrap(), stilt.to_str().unwrap(), map.to_str().unwrap());
    succeed(at, &["unbake", capture, "-o", "wade.ncurve"]);
    for (source, tolerance) in [("wade.ncurve", 0.1), (capture, 1e-4)] {
        let printed = succeed(
            at,
            &[
                "carry",
                source,
                "--target",
                stilt,
                "--map",
                map,
                "-o",
                "out.ncurve",
                "--ledger",
                "ledger.json",
            ],
        );
        for node in ["tail_02", "tail_04", "Mask"] {
            assert!(printed.contains(node), "{node} has no partner: {printed}");
        }
        let (before, after) = (scene(&at.join(source)), scene(&at.join("out.ncurve")));
        assert_eq!(after.rigs, scene(stilt.as_ref()).rigs, "the target's rig must not change");
        let frames: Vec<f64> = (0..=1920).map(|half| f64::from(half) / 2.0).collect();
        let (source_world, target_world) = (world(&before, &frames), world(&after, &frames));
        let map = read_name_map(map.as_ref()).unwrap();
        let pairs = map.nodes.iter().map(|pair| (&pair.source, &pair.target));
        let ends =
            map.chains.iter().map(|chain| (chain.source.last().unwrap(), chain.target.last().unwrap()));
        for (from, to) in pairs.chain(ends) {
            // Both rigs stand unrotated at rest, so world rotations are those relative to rest.
            let pairs = source_world[from].iter().zip(&target_world[to]);
            let worst = pairs.map(|(a, b)| degrees_between(*a, *b)).fold(0.0, f64::max);
            assert!(worst <= tolerance, "{from} to {to}: {worst}");
        }
        let travel = |scene: &Scene, node: &str| {
            let Value::Vector(v) = values(scene, node, "translation", std::iter::once(700.0)).remove(0)
            else {
                panic!()
            };
            v.z * scene.space.metres_per_unit
        };
        let ratio = travel(&after, "Pelvis") / travel(&before, "hips");
        assert!((ratio - (0.92 - 0.01) / (0.34 - 0.005)).abs() < 0.01, "{ratio}");
    }
}

/// World rotations of all nodes at some frames, composed here from the local ones.
fn world(scene: &Scene, frames: &[f64]) -> std::collections::HashMap<String, Vec<DQuat>> {
    let mut world: Vec<Vec<DQuat>> = Vec::new();
    let rig = &scene.rigs[0];
    for ((_, node), parent) in rig.nodes().zip(rig.parent_positions()) {
        let local = rotations(scene, &node.name, frames.iter().copied());
        world.push(match parent {
            Some(parent) => world[parent].iter().zip(local).map(|(above, local)| *above * local).collect(),
            None => local,
        });
    }
    rig.nodes().zip(world).map(|((_, node), world)| (node.name.clone(), world)).collect()
}

#[test]
fn the_carried_controllers_stay_what_they_were() {
    let folder = tempdir().unwrap();
    let (stilt, map) = (sample("stilt.ncurve"), sample("bramble_to_stilt.toml"));
    let capture = sample("bramble_wade.bvh");
    let carry = |source: &str, out: &str| {
        succeed(
            folder.path(),
            &[
                "carry",
                source,
                "--target",
                stilt.to_str().unwrap(),
                "--map",
                map.to_str().unwrap(),
                "-o",
                out,
            ],
        );
        scene(&folder.path().join(out))
    };
    let sampled = carry(capture.to_str().unwrap(), "sampled.ncurve");
    assert!(sampled.takes[0].tracks().all(|(_, track)| matches!(track.controller, Controller::Samples(_))));
    succeed(folder.path(), &["unbake", capture.to_str().unwrap(), "-o", "wade.ncurve"]);
    let curves = carry("wade.ncurve", "curves.ncurve");
    assert!(curves.takes[0].tracks().all(|(_, track)| !matches!(track.controller, Controller::Samples(_))));
}

#[test]
fn a_wheel_keeps_its_turns_and_a_vane_its_way_through_the_pole_in_every_order() {
    let folder = tempdir().unwrap();
    let cart = sample("cart.ncurve");
    let before = scene(&cart);
    for order in ["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"] {
        succeed(
            folder.path(),
            &["reorder", cart.to_str().unwrap(), "--to", order, "-o", "out.ncurve", "--tolerance", "0.05deg"],
        );
        let after = scene(&folder.path().join("out.ncurve"));
        let frames = || (16..=96 * 16).map(|step| f64::from(step) / 16.0);
        for node in ["wheel_fl", "vane", "bed"] {
            let pairs = rotations(&before, node, frames()).into_iter().zip(rotations(&after, node, frames()));
            let worst = pairs.map(|(a, b)| degrees_between(a, b)).fold(0.0, f64::max);
            assert!(worst <= 0.05, "{order} {node}: {worst}");
        }
        let Value::Euler { angles, .. } =
            values(&after, "wheel_fl", "rotation", std::iter::once(73.0)).remove(0)
        else {
            panic!()
        };
        assert!((angles.x.to_degrees() - 1080.0).abs() < 1e-6, "{order}: {angles}");
        let keys: Vec<f64> = (after.takes[0].tracks())
            .filter(|(_, track)| after.rigs[0].node(track.target.node).unwrap().name == "vane")
            .flat_map(|(_, track)| track.controller.curves())
            .flat_map(|curve| curve.keys())
            .map(|key| after.rate.frame(key.time))
            .collect();
        for original in [1.0, 20.0, 24.0, 34.0, 46.0, 52.0, 60.0, 73.0, 96.0] {
            assert!(keys.contains(&original), "{order}: the vane lost its key at frame {original}");
        }
    }
}

#[test]
fn standard_streams_carry_curves_without_files() {
    let folder = tempdir().unwrap();
    let cart = std::fs::read(sample("cart.ncurve")).unwrap();
    let output = assert_cmd::Command::cargo_bin("nimble-curve")
        .unwrap()
        .current_dir(folder.path())
        .args(["reorder", "-", "--to", "zyx", "-o", "-"])
        .write_stdin(cart)
        .output()
        .unwrap();
    assert!(output.status.success());
    let result = nimble_curve_formats::ncurve::read(std::str::from_utf8(&output.stdout).unwrap()).unwrap();
    assert_eq!(result.takes.len(), 1);
    assert!(
        String::from_utf8_lossy(&output.stderr).contains("vane:rotation"),
        "the report goes to standard error"
    );
}

#[test]
fn converting_there_and_back_changes_nothing_that_both_formats_hold() {
    let folder = tempdir().unwrap();
    let capture = sample("bramble_wade.bvh");
    succeed(folder.path(), &["convert", capture.to_str().unwrap(), "a.ncurve"]);
    succeed(folder.path(), &["convert", "a.ncurve", "bramble_wade.bvh"]);
    let (first, second) = (
        std::fs::read_to_string(&capture).unwrap(),
        std::fs::read_to_string(folder.path().join("bramble_wade.bvh")).unwrap(),
    );
    // But for the root's offset, which its channels say again.
    let root = first.lines().find(|line| line.trim().starts_with("OFFSET")).unwrap();
    assert!(second == first.replacen(root, "  OFFSET 0 0 0", 1));
}

#[test]
fn reports_are_json_on_request() {
    let folder = tempdir().unwrap();
    let capture = sample("bramble_wade.bvh");
    let capture = capture.to_str().unwrap();
    for (arguments, pointer) in [
        (vec!["inspect", capture, "--json"], "/takes/0/frames"),
        (vec!["unbake", capture, "-o", "w.ncurve", "--json"], "/entries/0/error/largest"),
        (vec!["convert", capture, "c.ncurve", "--json"], "/entries/0/fate"),
        (vec!["schema"], "/properties/ncurve"),
    ] {
        let value: serde_json::Value = serde_json::from_str(&succeed(folder.path(), &arguments)).unwrap();
        assert!(value.pointer(pointer).is_some(), "{arguments:?}");
    }
}

#[test]
fn pictures_are_drawn_in_both_formats() {
    let folder = tempdir().unwrap();
    let cart = sample("cart.ncurve");
    for (view, out, start) in
        [("curves", "a.png", &b"\x89PNG"[..]), ("poses", "b.svg", b"<svg "), ("curves", "c.svg", b"<svg ")]
    {
        succeed(folder.path(), &["plot", cart.to_str().unwrap(), "--view", view, "-o", out]);
        assert!(std::fs::read(folder.path().join(out)).unwrap().starts_with(start), "{out}");
    }
}
