//! `reorder` through the program: best orders, the survey, unwinding, and layers.

use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Tangent};
use nimble_curve_core::rig::OpValue;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Scene, Track};
use nimble_curve_formats::{Saving, write};
use tempfile::tempdir;

use crate::common::{degrees_between, fail, rotations, run, sample, scene, succeed};

fn path(name: &str) -> String {
    sample(name).to_str().unwrap().to_owned()
}

fn order_of(scene: &Scene, node: &str) -> RotationOrder {
    let (_, node) = scene.rigs[0].nodes().find(|(_, n)| n.name == node).unwrap();
    let Some(OpValue::Rotate { order, .. }) = node.op("rotation").map(|op| op.value) else { panic!() };
    order
}

#[test]
fn layers_turn_as_before_in_every_order() {
    let folder = tempdir().unwrap();
    let before = scene(path("bramble.ncurve").as_ref());
    for order in RotationOrder::ALL {
        let printed = succeed(
            folder.path(),
            &["reorder", &path("bramble.ncurve"), "--to", order.name(), "-o", "out.ncurve"],
        );
        let after = scene(&folder.path().join("out.ncurve"));
        for node in ["hips", "chest", "head", "neck", "arm_l", "arm_r", "forearm_l", "tail_01", "toes_r"] {
            let node = format!("courier:{node}");
            assert_eq!(order_of(&after, &node), order, "{printed}");
            let frames = || (16..=97 * 16).map(|step| f64::from(step) / 16.0);
            let pairs =
                rotations(&before, &node, frames()).into_iter().zip(rotations(&after, &node, frames()));
            let worst = pairs.map(|(a, b)| degrees_between(a, b)).fold(0.0, f64::max);
            assert!(worst <= 0.05, "{order} {node}: {worst}");
        }
        // Loops of one axis stay loops, and layers stay layers.
        let behaviours = |scene: &Scene| {
            let curves = scene.takes[0].tracks().flat_map(|(_, track)| track.controller.curves().to_vec());
            curves.filter(|curve| curve.after.is_loop()).count()
        };
        assert_eq!(behaviours(&after), behaviours(&before), "{order}");
        assert_eq!(after.takes[0].layers.len(), before.takes[0].layers.len());
    }
}

#[test]
fn a_wheel_is_exact_in_every_order_and_its_keys_untouched() {
    let folder = tempdir().unwrap();
    for order in RotationOrder::ALL {
        succeed(folder.path(), &["reorder", &path("cart.ncurve"), "--to", order.name(), "-o", "out.ncurve"]);
        let curves = |scene: &Scene, node: &str| {
            let track = scene.takes[0]
                .tracks()
                .map(|(_, track)| track)
                .find(|track| {
                    scene.rigs[0].node(track.target.node).unwrap().name == node
                        && track.target.property == "rotation"
                })
                .unwrap();
            track.controller.curves().to_vec()
        };
        let (before, after) = (scene(path("cart.ncurve").as_ref()), scene(&folder.path().join("out.ncurve")));
        for node in ["wheel_fl", "wheel_br", "bed"] {
            assert_eq!(curves(&before, node), curves(&after, node), "{order} {node}");
        }
    }
}

#[test]
fn handles_stay_as_they_are_unless_it_is_said_otherwise() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // The vane with a weighted handle on one of its keys, and as it comes.
    let mut weighted = scene(path("cart.ncurve").as_ref());
    let id = weighted.rigs[0].nodes().find(|(_, node)| node.name == "vane").unwrap().0;
    let tracks = weighted.takes[0].layers.iter_mut().flat_map(|layer| &mut layer.tracks);
    for track in tracks.filter(|track| track.target.node == id && track.target.property == "rotation") {
        let Controller::Euler(euler) = &mut track.controller else { panic!() };
        let curve = euler.curves.iter_mut().find(|curve| curve.keys().len() > 2).unwrap();
        let mut keys = curve.keys().to_vec();
        keys[1].tangent_out = Tangent::handle(2e8, 0.1);
        *curve = Curve::new(keys).unwrap();
    }
    write(&weighted, &at.join("weighted.ncurve"), &Saving::default()).unwrap();
    let handles = |source: &str, more: &[&str]| {
        let mut arguments = vec!["reorder", source, "--to", "zyx", "--only", "vane", "-o", "out.ncurve"];
        arguments.extend(more);
        succeed(at, &arguments);
        let after = scene(&at.join("out.ncurve"));
        let tracks = after.takes[0].tracks().filter(|(_, track)| track.target.node == id);
        let keys =
            tracks.flat_map(|(_, track)| track.controller.curves().to_vec()).flat_map(Curve::into_keys);
        keys.filter(|key| key.tangent_in.length().or(key.tangent_out.length()).is_some()).count()
    };
    let plain = path("cart.ncurve");
    assert_eq!(handles(&plain, &["--tangents", "plain"]), 0);
    assert_eq!(handles(&plain, &["--tolerance", "5deg"]), 0);
    // Plain ones would need many keys more.
    assert!(handles(&plain, &["--tolerance", "0.02deg"]) > 0);
    assert!(handles(&plain, &["--tangents", "weighted"]) > 0);
    assert!(handles("weighted.ncurve", &[]) > 0);
    assert_eq!(handles("weighted.ncurve", &["--tangents", "plain"]), 0);
}

#[test]
fn the_survey_names_the_pole_and_best_takes_its_advice() {
    let folder = tempdir().unwrap();
    let printed = succeed(folder.path(), &["reorder", &path("cart.ncurve"), "--survey"]);
    let vane = printed.lines().find(|line| line.contains("vane")).unwrap();
    // The vane goes over the pole of its own order and stays far from that of another.
    assert!(vane.contains("0.0°/17") && vane.contains("farther from gimbal lock"), "{vane}");
    let json =
        succeed(folder.path(), &["reorder", &path("cart.ncurve"), "--survey", "--only", "vane", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(json.as_array().unwrap().len(), 1);
    let best = json[0]["best"].as_str().unwrap().to_owned();
    let of = |order: &str, what: &str| {
        let orders = json[0]["orders"].as_array().unwrap();
        orders.iter().find(|o| o["order"] == order).unwrap()[what].as_f64().unwrap()
    };
    assert!(of(&best, "closest_degrees") > 35.0 && of("zxy", "closest_degrees") < 0.1);
    succeed(folder.path(), &["reorder", &path("cart.ncurve"), "--to", "best", "-o", "best.ncurve"]);
    let after = scene(&folder.path().join("best.ncurve"));
    assert_eq!(order_of(&after, "vane").name(), best);
    let is_vane = |track: &&Track| after.rigs[0].node(track.target.node).unwrap().name == "vane";
    let take = &after.takes[0];
    let track =
        take.tracks().map(|(_, track)| track).filter(is_vane).find(|t| t.target.property == "rotation");
    let keys: usize = track.unwrap().controller.curves().iter().map(|curve| curve.keys().len()).sum();
    assert_eq!(keys as f64, of(&best, "keys"));
    assert_eq!(order_of(&after, "wheel_fl"), RotationOrder::Xyz);
}

#[test]
fn flips_are_repaired_and_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // A bake of the vane in its own order, its angles wrapped as many programs do.
    succeed(at, &["convert", &path("cart.ncurve"), "cart.bvh"]);
    let text = std::fs::read_to_string(at.join("cart.bvh")).unwrap();
    let (head, motion) = text.split_once("Frame Time:").unwrap();
    let mut lines = motion.lines();
    let mut wrapped = format!("{head}Frame Time:{}\n", lines.next().unwrap());
    for line in lines {
        let numbers = line.split_whitespace().map(|number| {
            let angle: f64 = number.parse().unwrap();
            let turned = if angle.abs() > 180.0 { angle - 360.0 * (angle / 360.0).round() } else { angle };
            format!("{turned:.6}")
        });
        wrapped.push_str(&numbers.collect::<Vec<_>>().join(" "));
        wrapped.push('\n');
    }
    std::fs::write(at.join("wrapped.bvh"), wrapped).unwrap();
    let printed = succeed(at, &["reorder", "wrapped.bvh", "--unwind", "-o", "smooth.ncurve"]);
    assert!(printed.contains("exact") && printed.contains("flips at frames"), "{printed}");
    let steps = |scene: &Scene| {
        let mut largest = 0.0_f64;
        for (_, track) in scene.takes[0].tracks() {
            if let (Controller::Samples(samples), "rotation") =
                (&track.controller, track.target.property.as_str())
            {
                for index in 1..samples.len() {
                    for axis in 0..3 {
                        largest =
                            largest.max((samples.row(index)[axis] - samples.row(index - 1)[axis]).abs());
                    }
                }
            }
        }
        largest.to_degrees()
    };
    assert!(steps(&scene(&at.join("wrapped.bvh"))) > 300.0);
    assert!(steps(&scene(&at.join("smooth.ncurve"))) < 60.0, "{}", steps(&scene(&at.join("smooth.ncurve"))));
}

#[test]
fn wrong_uses_are_told_apart() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let error =
        fail(at, &["reorder", &path("cart.ncurve"), "--to", "zyx", "--only", "vain", "-o", "x.ncurve"]);
    assert!(error.contains("did you mean 'vane'?"), "{error}");
    for arguments in [
        vec!["reorder", "a.bvh", "--to", "xyx", "-o", "x.ncurve"],
        vec!["reorder", "a.bvh", "-o", "x.ncurve"],
        vec!["reorder", "a.bvh", "--to", "xyz", "--unwind", "-o", "x.ncurve"],
        vec!["reorder", "a.bvh", "--to", "xyz"],
    ] {
        assert_eq!(run(at, &arguments).status.code(), Some(2), "{arguments:?}");
    }
}

/// Keys that a fit chose are free to move: in another order they are fitted anew, and are about as many as had the capture
/// been unbaked in that order; the rotations are those of before, by the tests' own evaluation at eighths of frames.
#[test]
fn fitted_keys_are_fitted_anew_in_another_order() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let taken =
        nimble_curve_second::capture::Taken { seed: 1, frames: 200, rate: 120.0, noise: 0.15, faults: false };
    std::fs::write(at.join("noisy.bvh"), nimble_curve_second::capture::bvh(&taken)).unwrap();
    // Fitted handles are as free to go as fitted keys: the motion is what is kept, and plain keys through it are hardly more.
    let (plain, weighted): (&[&str], &[&str]) = (&[], &["--tangents", "weighted"]);
    for (input, handles) in [
        (path("bramble_wade.bvh"), plain),
        ("noisy.bvh".to_owned(), plain),
        (path("bramble_wade.bvh"), weighted),
    ] {
        let keys = |file: &str| -> usize {
            let scene = scene(&at.join(file));
            let tracks = scene.takes[0].tracks().filter(|(_, track)| track.target.property == "rotation");
            tracks.map(|(_, track)| track.controller.key_count()).sum()
        };
        let unbake = |file: &str, order: &[&str]| {
            let mut arguments = vec!["unbake", &input, "-o", file, "--no-other-tolerances", "--replace"];
            arguments.extend(order);
            succeed(at, &arguments);
        };
        unbake("keyed.ncurve", handles);
        unbake("other.ncurve", &["--order", "zyx"]);
        let said = succeed(
            at,
            &[
                "reorder",
                "keyed.ncurve",
                "--to",
                "zyx",
                "--tolerance",
                "0.1deg",
                "-o",
                "turned.ncurve",
                "--replace",
            ],
        );
        assert!(said.contains("fitted"), "{said}");
        let (other, turned) = (keys("other.ncurve"), keys("turned.ncurve"));
        println!(
            "{input} {handles:?}: {} keys, {other} fitted in the other order, {turned} fitted anew",
            keys("keyed.ncurve")
        );
        assert!(turned as f64 <= 1.12 * other as f64, "{input}: {turned} {other}");
        let (before, after) = (scene(&at.join("keyed.ncurve")), scene(&at.join("turned.ncurve")));
        let last = before.rate.frame(before.takes[0].range.last) as i32;
        for (_, node) in before.rigs[0].nodes().filter(|(_, node)| node.op("rotation").is_some()) {
            let eighths = || (0..=last * 8).map(|eighth| f64::from(eighth) / 8.0);
            let pairs = rotations(&before, &node.name, eighths()).into_iter().zip(rotations(
                &after,
                &node.name,
                eighths(),
            ));
            let worst = pairs.map(|(a, b)| degrees_between(a, b)).fold(0.0, f64::max);
            assert!(worst <= 0.1 * (1.0 + 1e-6), "{input} {}: {worst}", node.name);
        }
    }
}
