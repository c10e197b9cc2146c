//! `convert`: parts of files, other units and axes, and what others see of a file.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Value;

use crate::common::{fail, run, sample, scene, succeed, values};

/// World positions of all joints at some frames.
fn places(scene: &Scene, frames: &[f64]) -> Vec<HashMap<String, DVec3>> {
    let mut poses = Evaluator::new(scene, scene.takes.first(), 0).unwrap();
    let mut pose = Pose::default();
    let at = |frame: &f64| {
        poses.pose_at(frame * scene.rate.ticks_per_frame(), &mut pose);
        let nodes = scene.rigs[0].nodes().zip(&pose.world);
        nodes.map(|((_, node), world)| (node.name.clone(), world.translation)).collect()
    };
    frames.iter().map(at).collect()
}

/// The largest distance of any node at any frame, the second scene's positions taken through a function.
fn farthest(a: &Scene, b: &Scene, frames: &[f64], into_a: impl Fn(DVec3) -> DVec3) -> f64 {
    let (a, b) = (places(a, frames), places(b, frames));
    let mut most = 0.0_f64;
    for (a, b) in a.iter().zip(&b) {
        assert_eq!(a.len(), b.len());
        most = a.iter().map(|(name, place)| (*place - into_a(b[name])).length()).fold(most, f64::max);
    }
    most
}

fn halves(first: i32, last: i32) -> Vec<f64> {
    (2 * first..=2 * last).map(|half| f64::from(half) * 0.5).collect()
}

#[test]
fn a_range_plays_as_it_did_and_holds_nothing_outside() {
    let folder = tempfile::tempdir().unwrap();
    for (name, first, last, allowed) in [("bramble", 10, 40, 0.15), ("cart", 7, 66, 1e-9)] {
        let file = sample(&format!("{name}.ncurve"));
        let range = format!("{first}:{last}");
        succeed(folder.path(), &["convert", file.to_str().unwrap(), "part.ncurve", "--frames", &range]);
        let (source, part) = (scene(&file), scene(&folder.path().join("part.ncurve")));
        // Quaternion keys that bend are cut within the tolerance, 0.05 degrees; everything else exactly.
        let distance = farthest(&source, &part, &halves(first, last), |p| p);
        assert!(distance < allowed, "{name}: {distance} cm");
        let (start, end) = (part.rate.ticks(first.into()), part.rate.ticks(last.into()));
        assert_eq!((part.takes[0].range.first, part.takes[0].range.last), (start, end));
        for (_, track) in part.takes[0].tracks() {
            if let Some(range) = track.controller.range() {
                assert!(start <= range.first && range.last <= end, "{:?}", track.target);
            }
        }
    }
}

#[test]
fn another_space_moves_no_key_and_the_way_back_gives_the_same_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let file = sample("bramble.ncurve");
    succeed(
        folder.path(),
        &["convert", file.to_str().unwrap(), "there.ncurve", "--to-up", "y", "--to-unit", "m"],
    );
    succeed(folder.path(), &["convert", "there.ncurve", "back.ncurve", "--to-up", "z", "--to-unit", "cm"]);
    let source = scene(&file);
    let (there, back) =
        (scene(&folder.path().join("there.ncurve")), scene(&folder.path().join("back.ncurve")));
    // z up in centimetres is (x, y, z); y up in metres is (x, z, -y) / 100.
    let in_source = |p: DVec3| DVec3::new(p.x, -p.z, p.y) * 100.0;
    let distance = farthest(&source, &there, &halves(1, 97), in_source);
    assert!(distance < 1e-9, "{distance} cm");
    let mut compared = 0;
    for ((_, a), (_, b)) in source.takes[0].tracks().zip(back.takes[0].tracks()) {
        assert_eq!(a.target, b.target);
        let curves: [&[_]; 2] = [a.controller.curves(), b.controller.curves()];
        assert_eq!(curves[0].len(), curves[1].len());
        for (a, b) in curves[0].iter().zip(curves[1]) {
            assert_eq!(a.keys().len(), b.keys().len());
            for (a, b) in a.keys().iter().zip(b.keys()) {
                assert_eq!((a.time, a.interpolation, a.joined), (b.time, b.interpolation, b.joined));
                let close = |a: f64, b: f64| (a - b).abs() <= 4.0 * f64::EPSILON * a.abs();
                assert!(close(a.value, b.value), "{} {}", a.value, b.value);
                let slopes = [a.tangent_in, a.tangent_out].map(|t| t.slope_per_second());
                let again = [b.tangent_in, b.tangent_out].map(|t| t.slope_per_second());
                assert!(slopes.iter().zip(again).all(|(a, b)| close(*a, b)), "{slopes:?} {again:?}");
                compared += 1;
            }
        }
        let order = |controller: &Controller| match controller {
            Controller::Euler(euler) => Some(euler.order),
            _ => None,
        };
        assert_eq!(order(&a.controller), order(&b.controller));
    }
    assert!(compared > 80, "only {compared} keys were compared");
    assert!(farthest(&source, &back, &halves(1, 97), |p| p) < 1e-9);
}

#[test]
fn the_ledger_says_what_others_see_and_nothing_is_lost_in_silence() {
    let folder = tempfile::tempdir().unwrap();
    let file = sample("bramble.ncurve");
    let arguments = ["convert", file.to_str().unwrap(), "out.glb", "--json", "--ledger", "ledger.json"];
    let printed: serde_json::Value = serde_json::from_str(&succeed(folder.path(), &arguments)).unwrap();
    let written = std::fs::read(folder.path().join("ledger.json")).unwrap();
    assert_eq!(printed, serde_json::from_slice::<serde_json::Value>(&written).unwrap());
    let fate = |ledger: &serde_json::Value, channel: &str| {
        let entries = ledger["entries"].as_array().unwrap().iter();
        let mut of_it = entries.filter(|entry| entry["channel"] == channel);
        of_it.next().unwrap()["fate"].as_str().unwrap().to_owned()
    };
    assert_eq!(fate(&printed, "courier:head:rotation"), "refitted");
    assert_eq!(fate(&printed, "courier:face:smile"), "refitted");
    assert_eq!(fate(&printed, "courier:face:letter"), "kept");
    let bare = ["convert", file.to_str().unwrap(), "bare.glb", "--without-extra", "--json"];
    let printed: serde_json::Value = serde_json::from_str(&succeed(folder.path(), &bare)).unwrap();
    assert_eq!(fate(&printed, "courier:face:smile"), "refitted");
    assert_eq!(fate(&printed, "courier:face:letter"), "left-out");
    let output = run(folder.path(), &bare);
    assert!(String::from_utf8_lossy(&output.stderr).contains("courier:face:letter"));
}

#[test]
fn selections_that_select_nothing_are_errors_that_help() {
    let folder = tempfile::tempdir().unwrap();
    let file = sample("bramble.ncurve");
    let convert = |more: &[&str]| {
        let mut arguments = vec!["convert", file.to_str().unwrap(), "out.ncurve"];
        arguments.extend(more);
        fail(folder.path(), &arguments)
    };
    assert!(convert(&["--take", "gret"]).contains("did you mean 'greet'?"));
    assert!(convert(&["--only", "nobody"]).contains("no node or channel matches 'nobody'"));
    assert!(convert(&["--frames", "1000:2000"]).contains("outside every take"));
    assert!(!folder.path().join("out.ncurve").exists());
}

#[test]
fn nodes_of_one_name_come_back_from_files_of_any_name() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let text = std::fs::read_to_string(sample("cart.ncurve")).unwrap().replace("\"vane_end\"", "\"mast\"");
    std::fs::write(at.join("cart.ncurve"), text).unwrap();
    let twins =
        scene(&at.join("cart.ncurve")).rigs[0].nodes().filter(|(_, node)| node.name == "mast").count();
    assert_eq!(twins, 2);
    for other in ["other.glb", "other.dae", "other.usda", "other.usdc"] {
        succeed(at, &["convert", "cart.ncurve", other]);
        let back = run(at, &["convert", other, "back.ncurve"]);
        let said = String::from_utf8_lossy(&back.stderr).into_owned();
        assert!(back.status.success() && !said.contains("others than those"), "{other}: {said}");
        assert_eq!(succeed(at, &["compare", "cart.ncurve", "back.ncurve"]), "", "{other}");
    }
}

#[test]
fn skeletons_move_as_their_rigs_do_and_bring_the_curves_back() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    for name in ["bramble.ncurve", "stilt.ncurve", "cart.ncurve", "bramble_wade.bvh"] {
        let file = sample(name);
        let file = file.to_str().unwrap();
        let source = scene(&sample(name));
        let Some(take) = source.takes.first() else { continue };
        for ending in ["usda", "usdc", "usdz"] {
            let (output, plain) = (format!("whole.{ending}"), format!("plain.{ending}"));
            succeed(at, &["convert", file, &output, "--skeletons"]);
            // The extra data brings everything back; samples are in the animation itself, in single precision.
            match name.ends_with(".bvh") {
                true => succeed(at, &["compare", file, &output, "--tolerance", "0.0001deg,0.001mm"]),
                false => {
                    let said = succeed(at, &["compare", file, &output]);
                    assert_eq!(said, "", "{name} {ending}");
                    said
                }
            };
            let ledger = at.join("ledger.json");
            succeed(
                at,
                &[
                    "convert",
                    file,
                    &plain,
                    "--skeletons",
                    "--without-extra",
                    "--ledger",
                    ledger.to_str().unwrap(),
                ],
            );
            let found = scene(&at.join(&plain));
            assert_eq!(found.rigs.len(), 1, "the rigs are skeletons of one layer");
            let identifier = |name: &str| name.replace(|c: char| !c.is_ascii_alphanumeric(), "_");
            let frames: Vec<f64> = (source.rate.nearest_frame(take.range.first)
                ..=source.rate.nearest_frame(take.range.last))
                .step_by(3)
                .map(|frame| frame as f64)
                .collect();
            let factor = found.space.metres_per_unit / source.space.metres_per_unit;
            for (source, found) in places(&source, &frames).iter().zip(places(&found, &frames)) {
                for (node, place) in source {
                    // Scales are kept to three digits.
                    let distance = (found[&identifier(node)] * factor - *place).length();
                    assert!(distance < 0.03, "{name} {ending}: {node} is off by {distance}");
                }
            }
            // Numbers of faces are weights of blend shapes.
            if name == "bramble.ncurve" {
                let shapes: Vec<&str> =
                    found.rigs[0].nodes().flat_map(|(_, n)| &n.attributes).map(|a| a.name.as_str()).collect();
                assert_eq!(shapes, ["smile", "blink", "whiskers", "jaw"]);
                let smile = |scene: &Scene| {
                    let node = scene.rigs[0]
                        .nodes()
                        .find(|(_, n)| n.attribute("smile").is_some())
                        .unwrap()
                        .1
                        .name
                        .clone();
                    values(scene, &node, "smile", frames.iter().copied())
                };
                for (a, b) in smile(&source).into_iter().zip(smile(&found)) {
                    let (Value::Number(a), Value::Number(b)) = (a, b) else { panic!("no numbers") };
                    assert!((a - b).abs() < 1e-3, "{a} {b}");
                }
                let ledger = std::fs::read_to_string(&ledger).unwrap();
                assert!(
                    ledger.contains("\"courier:face:letter\"") && ledger.contains("left-out"),
                    "what is lost is named"
                );
            }
        }
    }
    let refused = fail(at, &["convert", sample("cart.ncurve").to_str().unwrap(), "x.glb", "--skeletons"]);
    assert!(refused.contains("x.glb: --skeletons is for USD"), "{refused}");
    assert!(!at.join("x.glb").exists());
}

#[test]
fn a_layer_over_an_asset_is_written_beside_it() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve");
    let cart = cart.to_str().unwrap();
    succeed(at, &["convert", cart, "asset.usda", "--without-extra"]);
    succeed(at, &["convert", cart, "shot.usdc", "--over-asset", "asset.usda"]);
    assert_eq!(succeed(at, &["compare", cart, "shot.usdc"]), "");
    std::fs::create_dir(at.join("shots")).unwrap();
    succeed(at, &["convert", cart, "shots/shot.usda", "--over-asset", "asset.usda", "--without-extra"]);
    let said = run(at, &["inspect", "shots/shot.usda"]);
    assert!(String::from_utf8_lossy(&said.stderr).contains("is not followed: say --files-anywhere"));
    let said = succeed(at, &["inspect", "shots/shot.usda", "--files-anywhere"]);
    assert!(said.contains("7 tracks"), "{said}");
    let refused = fail(at, &["convert", cart, "x.glb", "--over-asset", "asset.usda"]);
    assert!(refused.contains("--over-asset is for USD layers (.usda, .usdc) only"), "{refused}");
}

#[test]
fn a_bound_in_the_world_is_held_by_fitting_closer_or_nothing_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let file = sample("bramble.ncurve");
    let file = file.to_str().unwrap();
    let keys = |name: &str| {
        scene(&at.join(name)).takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum::<usize>()
    };
    let mut last = 0;
    for bound in ["1mm", "0.1mm", "0.02mm"] {
        let said = succeed(
            at,
            &["convert", file, "close.glb", "--replace", "--without-extra", "--keep-start", "--world", bound],
        );
        assert!(said.contains("in the world: places within"), "{said}");
        succeed(at, &["compare", file, "close.glb", "--tolerance", "0.5deg,5mm", "--world", bound]);
        let count = keys("close.glb");
        assert!(count >= last, "{bound}: {count} keys after {last}");
        last = count;
    }
    let refused = fail(at, &["convert", file, "never.glb", "--world", "0.00001mm"]);
    assert!(refused.contains("in the world") && !at.join("never.glb").exists(), "{refused}");
}

#[test]
fn a_matrix_a_frame_is_written_for_readers_that_know_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve");
    let cart = cart.to_str().unwrap();
    let said = succeed(at, &["convert", cart, "cart.dae", "--matrices"]);
    assert!(said.contains("7 tracks sampled") && said.contains("a part of its node's matrix"), "{said}");
    assert_eq!(succeed(at, &["compare", cart, "cart.dae"]), "");
    let refused = fail(at, &["convert", cart, "cart.usda", "--matrices"]);
    assert!(refused.contains("cart.usda: --matrices is for COLLADA (.dae) only"), "{refused}");
}

/// The unit of a file that cannot say it: what a reader takes for granted, unless another one is asked for.
#[test]
fn bvh_is_in_centimetres_unless_another_unit_is_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let file = sample("bramble_wade.bvh");
    succeed(at, &["convert", file.to_str().unwrap(), "metres.ncurve", "--unit", "cm", "--to-unit", "m"]);
    let heights = |name: &str, unit: &str| -> f64 {
        let said = succeed(at, &["convert", name, "back.ncurve", "--replace", "--unit", unit]);
        assert!(!said.is_empty());
        let back = scene(&at.join("back.ncurve"));
        let hips = back.takes[0].tracks().find(|(_, track)| track.target.property == "translation").unwrap();
        hips.1.controller.samples().unwrap().values[1] * back.space.metres_per_unit
    };
    let output = run(at, &["convert", "metres.ncurve", "plain.bvh"]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("written in cm, y up"), "{output:?}");
    let output = run(at, &["convert", "metres.ncurve", "inches.bvh", "--to-unit", "in"]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("its unit is in and y is up"), "{output:?}");
    let meant = heights("plain.bvh", "cm");
    assert!(meant > 0.1 && (heights("inches.bvh", "in") - meant).abs() < 1e-6, "{meant}");
    // A recipe obeys its steps and its profile alike.
    std::fs::write(
        at.join("pack.toml"),
        "sources = [\"metres.ncurve\"]\noutput = \"out/{stem}.bvh\"\n[[step]]\ndo = \"convert\"\nto-unit = \"in\"\n",
    )
    .unwrap();
    succeed(at, &["run", "pack.toml"]);
    assert!((heights("out/metres.bvh", "in") - meant).abs() < 1e-6);
}

#[test]
fn numbers_of_a_text_document_lie_beside_it_on_request() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve");
    let source = scene(&cart);
    let cart = cart.to_str().unwrap();
    succeed(at, &["convert", cart, "the cart.gltf", "--buffer-beside"]);
    let text = std::fs::read_to_string(at.join("the cart.gltf")).unwrap();
    assert!(text.contains("\"uri\": \"the%20cart.bin\"") && !text.contains("base64"));
    let length = std::fs::metadata(at.join("the cart.bin")).unwrap().len();
    assert!(text.contains(&format!("\"byteLength\": {length}")), "{length}");
    assert!(scene(&at.join("the cart.gltf")) == source);

    // The file itself again: what lay beside it is replaced together with it.
    succeed(
        at,
        &["convert", "the cart.gltf", "the cart.gltf", "--replace", "--frames", "0:24", "--buffer-beside"],
    );
    assert!(std::fs::metadata(at.join("the cart.bin")).unwrap().len() < length);
    let part = scene(&at.join("the cart.gltf"));
    assert_eq!(part.takes[0].range.last, part.rate.ticks(24));

    // Without the numbers it is no file.
    std::fs::remove_file(at.join("the cart.bin")).unwrap();
    assert!(fail(at, &["inspect", "the cart.gltf"]).contains("the cart.bin"));
    assert!(
        fail(at, &["convert", cart, "cart.glb", "--buffer-beside"])
            .contains("is for glTF as text (.gltf) only")
    );
}

/// A table of a device under its own names, in and out again with its time code.
#[test]
fn tables_of_devices_are_read_by_the_names_that_are_given_and_keep_their_time_code() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let row = |frame: i32| format!("10:00:01;{frame:02},{},{},B\n", 1200 + frame, f64::from(frame) * 0.5);
    let rows: String = (2..28).map(row).collect();
    std::fs::write(at.join("arm.csv"), format!("Clock,Height,Pan,Unit\n{rows}")).unwrap();
    let names = "\"Clock\" = \"timecode\"\n\"Height\" = \"lens:translation.y (mm)\"\n\"Pan\" = \"lens:rotation.y (deg yxz)\"\n\"Unit\" = \"-\"\n";
    std::fs::write(at.join("arm.toml"), names).unwrap();
    let refused = fail(at, &["convert", "arm.csv", "arm.ncurve"]);
    assert!(refused.contains("arm.csv:1: the table has no column of times"), "{refused}");
    succeed(at, &["convert", "arm.csv", "arm.ncurve", "--columns", "arm.toml"]);
    let arm = scene(&at.join("arm.ncurve"));
    assert_eq!(arm.rate.to_string(), "30000/1001");
    let lens = places(&arm, &[arm.rate.frame(arm.takes[0].range.first)]);
    assert!((lens[0]["lens"].y - 120.2).abs() < 1e-9, "{lens:?}");
    succeed(at, &["convert", "arm.ncurve", "home.csv", "--times", "drop-frame"]);
    let home = std::fs::read_to_string(at.join("home.csv")).unwrap();
    assert!(home.contains(",10:00:01;02,120.2,") && home.contains(",10:00:01;27,"), "{home}");
    succeed(at, &["convert", "home.csv", "home.ncurve"]);
    let home = scene(&at.join("home.ncurve"));
    assert_eq!((home.rate, home.takes[0].range), (arm.rate, arm.takes[0].range));
    for (arguments, expected) in [
        (["convert", "arm.ncurve", "x.dae", "--times", "seconds"], "--times is for tables (.csv) only"),
        (["convert", "arm.ncurve", "x.csv", "--columns", "arm.toml"], "arm.ncurve: this is no table"),
        (["convert", "arm.csv", "x.csv", "--columns", "home.csv"], "home.csv:"),
        (["convert", "home.csv", "x.csv", "--columns", "arm.toml"], "home.csv:1: there is no column 'Clock'"),
    ] {
        let said = fail(at, &arguments);
        assert!(said.contains(expected), "{said}");
    }
    std::fs::write(at.join("empty.toml"), "").unwrap();
    succeed(at, &["convert", "home.csv", "again.csv", "--columns", "empty.toml"]);
}

/// A rig below a node at a half, one node of which is scaled as it moves.
const HALVED: &str = r#"#usda 1.0
(
    endTimeCode = 20
    startTimeCode = 0
    metersPerUnit = 0.01
    timeCodesPerSecond = 24
    upAxis = "Y"
)
def Xform "top"
{
    double3 xformOp:scale = (0.5, 0.5, 0.5)
    double xformOp:rotateZ.timeSamples = { 0: 0, 20: 30 }
    uniform token[] xformOpOrder = ["xformOp:rotateZ", "xformOp:scale"]
    def Xform "mid"
    {
        double3 xformOp:translate = (0, 60, 0)
        double3 xformOp:scale.timeSamples = SCALES
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:scale"]
        def Xform "tip"
        {
            double3 xformOp:translate = (0, 40, 0)
            uniform token[] xformOpOrder = ["xformOp:translate"]
        }
    }
}
"#;

#[test]
fn even_scales_go_into_lengths_and_what_others_move_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let still = HALVED.replace("SCALES", "{ 0: (1, 1, 1), 20: (1, 1, 1) }");
    std::fs::write(at.join("half.usda"), &still).unwrap();
    succeed(at, &["convert", "half.usda", "half.bvh"]);
    // A joint is where it was: half of its length off, whichever way it turns.
    let bvh = std::fs::read_to_string(at.join("half.bvh")).unwrap();
    assert!(bvh.contains("OFFSET 0 30 0") && bvh.contains("OFFSET 0 20 0"), "{bvh}");
    let source = scene(&at.join("half.usda"));
    let frames: Vec<f64> = (0..=20).map(f64::from).collect();
    let (then, now) = (places(&source, &frames), places(&scene(&at.join("half.bvh")), &frames));
    for (then, now) in then.iter().zip(&now) {
        assert!(then.iter().all(|(name, place)| place.distance(now[name]) < 1e-6), "{then:?} {now:?}");
    }
    let said = succeed(at, &["convert", "half.usda", "flat.ncurve", "--unscale"]);
    assert!(said.contains("no longer scaled, which is in the lengths below: top"), "{said}");
    let distance = farthest(&source, &scene(&at.join("flat.ncurve")), &halves(0, 20), |p| p);
    assert!(distance < 1e-9, "{distance} cm");
    let said = succeed(at, &["convert", "flat.ncurve", "flat.glb", "--unscale"]);
    assert!(said.contains("no node is scaled evenly at rest"), "{said}");
    // Into a file that is of the same format, and keeps what is not read otherwise.
    for (format, allowed) in [("glb", 0.02), ("dae", 0.02)] {
        let (own, made) = (format!("half.{format}"), format!("flat_too.{format}"));
        succeed(at, &["convert", "half.usda", &own, "--without-extra"]);
        let said = succeed(at, &["convert", &own, &made, "--unscale", "--without-extra"]);
        assert!(said.contains("meshes are made for the rig as it was"), "{said}");
        // Where there is nothing to put into lengths, everything stays.
        let said = succeed(at, &["convert", &made, &format!("again.{format}"), "--unscale"]);
        assert!(!said.contains("meshes are made"), "{said}");
        let read = scene(&at.join(&made));
        assert!(
            read.rigs[0].nodes().all(|(_, node)| node
                .canonical()
                .is_none_or(|view| (view.scale - DVec3::ONE).length() < 1e-6))
        );
        let unit = read.space.metres_per_unit * 100.0;
        let distance = farthest(&source, &read, &halves(0, 20), |p| p * unit);
        assert!(distance < allowed, "{format}: {distance} cm");
    }
    let refused = run(at, &["convert", "half.usda", "two.ncurve", "--unscale", "--nodes", "tip"]);
    assert_eq!(refused.status.code(), Some(2));

    // What squashes has no place in BVH, and the end of the chain is elsewhere without it: 40 · ½ · (2 − 1) cm.
    std::fs::write(at.join("squash.usda"), HALVED.replace("SCALES", "{ 0: (1, 1, 1), 20: (1, 2, 1) }"))
        .unwrap();
    let said = succeed(at, &["convert", "squash.usda", "squash.bvh"]);
    assert!(said.contains("off by 20.00 cm in the world"), "{said}");
    assert!(said.contains("in the world that adds up to 20.00 cm (tip, frame 20)"), "{said}");
}

/// What a format has no place for is not said to be the same.
#[test]
fn the_first_line_says_what_other_programs_do_not_see() {
    let folder = tempfile::tempdir().unwrap();
    let text = r#"{"ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y", "handedness": "right"},
        "rigs": [{"name": "mill", "nodes": [{"name": "post", "transform": [{"name": "lean", "shear": [0, 0, 0]}]}]}],
        "takes": [{"name": "wind", "range": [0, 9], "layers": [{"name": "base", "tracks": [{"channel": "post:lean",
        "controller": {"components": [{"keys": [{"frame": 0, "value": 0}, {"frame": 9, "value": 1}]}, {"keys": []}, {"keys": []}]}}]}]}]}"#;
    std::fs::write(folder.path().join("mill.ncurve"), text).unwrap();
    let said = succeed(folder.path(), &["convert", "mill.ncurve", "mill.usda"]);
    let first = said.lines().find(|line| line.contains('→')).unwrap();
    assert!(first.contains("1 in the extra data only"), "{said}");
    // A shear along other axes is another kind of step.
    let said = succeed(folder.path(), &["convert", "mill.ncurve", "tipped.ncurve", "--to-up", "z"]);
    assert!(said.contains("1 track left out") && said.contains("cannot be said along other axes"), "{said}");
}
