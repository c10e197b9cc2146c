//! `compare` and `plot` through the program.

use std::fs;
use std::path::Path;

use nimble_curve_second::capture::{Taken, bvh};
use serde_json::Value;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

fn path(name: &str) -> String {
    sample(name).to_str().unwrap().to_owned()
}

fn json(folder: &Path, arguments: &[&str]) -> Value {
    let output = run(folder, &[&["compare", "--json"], arguments].concat());
    serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{output:?}"))
}

#[test]
fn a_file_is_the_same_as_itself_and_nothing_is_said() {
    let folder = tempdir().unwrap();
    for name in ["bramble.ncurve", "cart.ncurve", "faulty.ncurve"] {
        let output = run(folder.path(), &["compare", &path(name), &path(name)]);
        assert_eq!(
            (output.status.code(), output.stdout.len(), output.stderr.len()),
            (Some(0), 0, 0),
            "{name}"
        );
        let found = json(folder.path(), &[&path(name), &path(name)]);
        assert_eq!(found["verdict"], "same");
        for take in found["takes"].as_array().unwrap() {
            let errors = |list: &str, of: &str| -> Vec<f64> {
                take[list]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|row| row[of]["largest"].as_f64().unwrap())
                    .collect()
            };
            let all = [errors("channels", "error"), errors("nodes", "rotation"), errors("nodes", "position")];
            assert!(all.iter().flatten().all(|error| *error == 0.0), "{name}");
        }
    }
}

#[test]
fn a_hundredth_of_a_degree_at_one_key_is_found_and_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = fs::read_to_string(sample("cart.ncurve")).unwrap();
    let changed = cart.replacen("{\"frame\": 46, \"value\": 132", "{\"frame\": 46, \"value\": 132.01", 1);
    assert_ne!(cart, changed, "the vane has a key of 132 degrees at frame 46");
    fs::write(at.join("changed.ncurve"), changed).unwrap();
    let output = run(at, &["compare", &path("cart.ncurve"), "changed.ncurve"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(1), "{text}");
    assert!(text.contains("vane:rotation at frame 46"), "{text}");
    let row = text.lines().find(|line| line.contains("vane:rotation.x")).unwrap_or_else(|| panic!("{text}"));
    assert!(row.contains("0.0100 deg") && row.contains(" 46 "), "{row}");
    // It is within a tolerance that allows it, and beyond one that does not.
    let code = |tolerance: &str| {
        run(at, &["compare", &path("cart.ncurve"), "changed.ncurve", "--tolerance", tolerance]).status.code()
    };
    assert_eq!((code("0.02deg,1mm"), code("0.005deg,1mm")), (Some(0), Some(1)));
}

#[test]
fn what_unbaking_and_carrying_did_can_be_held_to_their_bounds() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (capture, stilt, map) =
        (path("bramble_wade.bvh"), path("stilt.ncurve"), path("bramble_to_stilt.toml"));
    succeed(
        at,
        &["unbake", &capture, "--unit", "cm", "--world", "1mm", "--no-other-tolerances", "-o", "wade.ncurve"],
    );
    let code = |arguments: &[&str]| run(at, &[&["compare"], arguments].concat()).status.code();
    // The bound of the unbaking is on places in the world; angles of the world add up along chains.
    assert_eq!(code(&["wade.ncurve", &capture, "--unit", "cm", "--tolerance", "2deg,1.01mm"]), Some(0));
    assert_eq!(code(&["wade.ncurve", &capture, "--unit", "cm", "--tolerance", "2deg,0.1mm"]), Some(1));
    succeed(at, &["carry", "wade.ncurve", "--target", &stilt, "--map", &map, "-o", "stilt.ncurve"]);
    let found = json(at, &["wade.ncurve", "stilt.ncurve", "--map", &map]);
    let take = &found["takes"][0];
    assert_eq!(found["rest_alike"], false);
    assert_eq!(take["moved_only_in_second"], serde_json::json!([]));
    let nodes = take["nodes"].as_array().unwrap();
    assert_eq!(nodes.len(), 21);
    for node in nodes {
        assert!(node["rotation"]["largest"].as_f64().unwrap() < 0.1, "{node}");
        assert!(node["position"].is_null());
    }
}

#[test]
fn rates_spaces_and_namespaces_do_not_matter() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let bramble = path("bramble.ncurve");
    succeed(at, &["convert", &bramble, "other.ncurve", "--to-unit", "m", "--to-up", "y", "--to-rate", "30"]);
    let found = json(at, &[&bramble, "other.ncurve", "--tolerance", "0.000001deg,0.000001mm,0.000001"]);
    // Exactly the same: powers and signs are all that changed.
    assert_eq!((&found["verdict"], &found["rest_alike"]), (&Value::from("same"), &Value::from(true)));
    let bare = fs::read_to_string(&bramble).unwrap().replace("courier:", "");
    fs::write(at.join("bare.ncurve"), bare).unwrap();
    let found = json(at, &[&bramble, "bare.ncurve"]);
    assert_eq!((&found["verdict"], &found["rest_alike"]), (&Value::from("same"), &Value::from(true)));
}

#[test]
fn what_is_on_one_side_only_is_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = path("cart.ncurve");
    succeed(at, &["convert", &cart, "part.ncurve", "--only", "wheel_*", "cart"]);
    let output = run(at, &["compare", &cart, "part.ncurve", "--tolerance", "360deg,10m"]);
    let text = String::from_utf8(output.stdout).unwrap();
    let alone = text.lines().filter(|line| line.contains("only in the first")).count();
    assert_eq!(alone, 2, "{text}");
    succeed(at, &["convert", &cart, "short.ncurve", "--frames", "1:73"]);
    let output = run(at, &["compare", &cart, "short.ncurve", "--frames", "1:73"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains("ranges differ: 1:96 against 1:73"), "{text}");
    assert!(fail(at, &["compare", &cart, &path("stilt.ncurve")]).contains("--map"));
    assert!(fail(at, &["compare", &cart, &cart, "--take", "quai"]).contains("did you mean 'quay'?"));
    assert!(fail(at, &["compare", &cart, &cart, "--only", "vain"]).contains("'vain'"));
}

/// Width and height of a PNG.
fn png_size(path: &Path) -> (u32, u32) {
    let bytes = fs::read(path).unwrap();
    assert_eq!(&bytes[..8], b"\x89PNG\r\n\x1a\n");
    let number = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
    (number(16), number(20))
}

#[test]
fn pictures_show_what_was_asked_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (bramble, cart, capture) = (path("bramble.ncurve"), path("cart.ncurve"), path("bramble_wade.bvh"));
    let svg = |arguments: &[&str]| {
        succeed(at, &[&["plot", "-o", "out.svg"], arguments].concat());
        fs::read_to_string(at.join("out.svg")).unwrap()
    };
    let curves = svg(&[&cart, "--only", "vane:rotation.*"]);
    for text in
        ["vane:rotation.x", "vane:rotation.y", "vane:rotation.z", "7 keys", "100 °", "frames at 24 fps"]
    {
        assert!(curves.contains(text), "{text}");
    }
    // Seven keys of x, six of y, four of z as rings.
    assert_eq!(curves.matches("fill=\"#ffffff\" stroke=\"#0072B2\"").count(), 7);
    let overlaid = svg(&[&cart, "--only", "vane:rotation.*", "--overlay"]);
    assert!(overlaid.matches("frames").count() == 1 && overlaid.matches("100 °").count() == 1);
    let keys = svg(&[&bramble, "--view", "keys"]);
    for text in ["courier:hips", "courier:face", "greet", "hand_over", "bell"] {
        assert!(keys.contains(text), "{text}");
    }
    assert!(!svg(&[&bramble, "--view", "keys", "--only", "courier:h*"]).contains("courier:face"));
    let poses = svg(&[&bramble, "--view", "poses", "--at", "1", "13.5", "60", "--trail", "courier:hand_?"]);
    assert!(poses.contains(">13.5</text>") && poses.contains(">60</text>") && !poses.contains(">97</text>"));
    // Two hands, two views, two ways each.
    assert_eq!(poses.matches("<polyline").count(), 8);
    let against = svg(&[&cart, "--against", &cart]);
    assert!(against.contains("error: at most 0"), "a file is not apart from itself");
    // Samples are drawn as they are.
    assert!(svg(&[&capture, "--unit", "cm"]).contains("961 values"));
    succeed(at, &["plot", &cart, "-o", "out.png", "--size", "640x400"]);
    assert_eq!(png_size(&at.join("out.png")), (640, 400));
    succeed(at, &["plot", &cart, "-o", "whole.png"]);
    assert_eq!(png_size(&at.join("whole.png")), (1280, 800));
    for (arguments, said) in [
        (vec!["--only", "vain"], "no node or channel matches 'vain': did you mean 'vane'?"),
        (vec!["--take", "quai"], "did you mean 'quay'?"),
        (vec!["--view", "poses", "--trail", "vain"], "did you mean 'vane'?"),
        (vec!["--view", "keys", "--only", "vain"], "did you mean 'vane'?"),
        (vec!["--view", "keys", "--against", &cart], "one file"),
    ] {
        let line = fail(at, &[&["plot", &cart, "-o", "no.png"], arguments.as_slice()].concat());
        assert!(line.contains(said), "{line}");
    }
    assert!(fail(at, &["plot", &cart, "-o", "out.gif"]).contains("pictures are .png or .svg"));
}

#[test]
fn a_comparison_draws_what_is_farthest_apart() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = fs::read_to_string(sample("cart.ncurve")).unwrap();
    fs::write(at.join("changed.ncurve"), cart.replacen("\"value\": 132", "\"value\": 140", 1)).unwrap();
    run(at, &["compare", &path("cart.ncurve"), "changed.ncurve", "--plot", "apart.svg"]);
    let svg = fs::read_to_string(at.join("apart.svg")).unwrap();
    assert!(svg.contains("vane:rotation.x") && svg.contains("error: at most 8 °"), "{svg}");
}

#[test]
fn what_unbake_kept_to_is_within_the_same_tolerances() {
    let folder = tempdir().unwrap();
    let folder = folder.path();
    // Noise of two degrees: between samples curves and straight lines are far apart, and nobody knows which is right.
    let taken = Taken { seed: 4, frames: 150, rate: 120.0, noise: 2.0, faults: false };
    std::fs::write(folder.join("in.bvh"), bvh(&taken)).unwrap();
    succeed(folder, &["unbake", "in.bvh", "-o", "out.ncurve", "--no-other-tolerances"]);
    let compared = |more: &[&str]| {
        let arguments = ["compare", "out.ncurve", "in.bvh", "--tolerance", "0.1deg,0.5mm"];
        run(folder, &[&arguments[..], more].concat())
    };
    let output = compared(&[]);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success() && said.contains("at the samples, between which"), "{said}");
    assert!(compared(&["--world", "50mm"]).status.success());
    let output = compared(&["--world", "0.1mm"]);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.code() == Some(1) && said.contains("beyond the tolerance"), "{said}");
    // Two sets of samples are compared between them, too.
    succeed(folder, &["bake", "out.ncurve", "-o", "baked.ncurve"]);
    let output = run(folder, &["compare", "baked.ncurve", "in.bvh", "--tolerance", "0.1deg,0.5mm"]);
    assert!(output.status.success());
    assert!(String::from_utf8_lossy(&output.stdout).contains("whole and half ones"));
}
