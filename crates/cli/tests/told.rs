//! What is said where something does not do what it seems to: places that do not come over, options that nothing takes, values
//! and files that cannot be read.

use std::path::Path;

use serde_json::{Value, json};
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

fn write(at: &Path, name: &str, scene: &Value) {
    std::fs::write(at.join(name), scene.to_string()).unwrap();
}

/// A body whose arm swings a hand over more than a metre, or a rig of controls whose hand stands beside the body.
fn rig(hand_stands_on: &str, is_moved: bool) -> Value {
    let turn = json!({ "angles": { "order": "xyz", "z": { "keys": [
        { "frame": 0, "value": 0, "slope": 0 }, { "frame": 12, "value": 100, "slope": 0 },
    ] } } });
    let tracks =
        if is_moved { json!([{ "channel": "arm:rotation", "controller": turn }]) } else { json!([]) };
    json!({
        "ncurve": 1, "rate": "24",
        "space": { "metres_per_unit": 1.0, "up": "y", "handedness": "right" },
        "rigs": [{ "name": "body", "nodes": [
            { "name": "hips", "translation": [0, 1, 0] },
            { "name": "arm", "parent": "hips", "translation": [0.2, 0.5, 0] },
            { "name": "hand", "parent": hand_stands_on, "translation": [0.8, 0, 0] },
        ] }],
        "takes": [{ "name": "wave", "range": [0, 12], "layers": [{ "name": "base", "tracks": tracks }] }],
    })
}

#[test]
fn a_hand_that_stays_put_beside_one_that_swings_is_named_and_left_out() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    write(at, "body.ncurve", &rig("arm", true));
    write(at, "controls.ncurve", &rig("hips", false));
    let said = succeed(at, &["carry", "body.ncurve", "--target", "controls.ncurve", "-o", "out.ncurve"]);
    assert!(said.contains("its place in the world did not come over"), "{said}");
    let strict = ["carry", "body.ncurve", "--target", "controls.ncurve", "--strict", "-o", "strict.ncurve"];
    let why = fail_beside_report(at, &strict);
    assert!(why.contains("--strict allows none"), "{why}");
    assert!(!at.join("strict.ncurve").exists());
    // Where it hangs on the arm there is nothing to say.
    write(at, "same.ncurve", &rig("arm", false));
    let said =
        succeed(at, &["carry", "body.ncurve", "--target", "same.ncurve", "--strict", "-o", "out.ncurve"]);
    assert!(!said.contains("did not come over"), "{said}");
}

/// The line of an error that comes after a report.
fn fail_beside_report(at: &Path, arguments: &[&str]) -> String {
    let output = run(at, arguments);
    assert_eq!(output.status.code(), Some(1));
    String::from_utf8(output.stderr).unwrap()
}

#[test]
fn what_is_placed_between_keys_that_stay_is_not_called_exact() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    write(at, "body.ncurve", &rig("arm", true));
    write(at, "full.ncurve", &rig("arm", true));
    let line = [
        "carry",
        "body.ncurve",
        "--target",
        "full.ncurve",
        "--place",
        "unkeyed",
        "--at",
        "4",
        "-o",
        "out.ncurve",
        "--json",
    ];
    let said: Value = serde_json::from_str(&succeed(at, &line)).unwrap();
    let text = said.to_string();
    assert!(text.contains("has keys in the target, which stay"), "{text}");
    assert!(!text.contains("\"fate\":\"kept\""), "{text}");
}

#[test]
fn a_take_placed_onto_layers_is_what_it_is_in_its_range() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    write(at, "body.ncurve", &rig("arm", true));
    let mut layered = rig("arm", true);
    let lift = json!({ "angles": { "order": "xyz", "x": { "keys": [
        { "frame": 0, "value": 40, "slope": 0 }, { "frame": 12, "value": 55, "slope": 0 },
    ] } } });
    let layers = layered["takes"][0]["layers"].as_array_mut().unwrap();
    layers.push(json!({ "name": "lift", "mode": "additive", "tracks": [{ "channel": "arm:rotation", "controller": lift }] }));
    write(at, "layered.ncurve", &layered);
    let line = [
        "carry",
        "body.ncurve",
        "--target",
        "layered.ncurve",
        "--place",
        "overwrite",
        "--at",
        "30",
        "-o",
        "out.ncurve",
    ];
    let said = succeed(at, &line);
    assert!(said.contains("come to nothing there"), "{said}");
    let inside = crate::common::scene(&at.join("out.ncurve"));
    let angles = crate::common::angles_at(&inside, "arm", 42.0);
    assert!((angles.z - 100.0).abs() < 1e-6 && angles.x.abs() < 1e-6, "{angles}");
    // A pose is a range of one frame.
    let line = [
        "carry",
        "body.ncurve",
        "--target",
        "layered.ncurve",
        "--pose",
        "12",
        "--place",
        "overwrite",
        "--at",
        "6",
        "-o",
        "pose.ncurve",
    ];
    succeed(at, &line);
    let angles = crate::common::angles_at(&crate::common::scene(&at.join("pose.ncurve")), "arm", 6.0);
    assert!((angles.z - 100.0).abs() < 1e-6 && angles.x.abs() < 1e-6, "{angles}");
}

#[test]
fn what_stands_for_an_option_that_no_step_takes_is_said() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let recipe = "sources = [\"*.ncurve\"]\noutput = \"out/{stem}.glb\"\nonly = \"@arms\"\n\n[[step]]\ndo = \"unbake\"\n";
    std::fs::write(at.join("r.toml"), recipe).unwrap();
    write(at, "body.ncurve", &rig("arm", true));
    let why = fail(at, &["run", "r.toml"]);
    assert!(why.contains("r.toml:3: 'only' does nothing"), "{why}");
}

#[test]
fn values_that_are_none_are_said_in_our_own_words() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let file = sample("bramble.ncurve").display().to_string();
    let table: [(&[&str], &str); 7] = [
        (&["bake", &file, "--step", "0", "-o", "o.ncurve"], "'0' is too small: 1 at least"),
        (&["bake", &file, "--step", "abc", "-o", "o.ncurve"], "'abc' is not a whole number"),
        (
            &["clips", "shift", &file, "--to", "x", "-o", "o.ncurve"],
            "'x' is not a frame: write a number like 12",
        ),
        (
            &["cycle", "extend", &file, "--rounds", "99999", "-o", "o.ncurve"],
            "'99999' is too large: 10000 at most",
        ),
        (&["unbake", &file, "--keep", "x", "-o", "o.ncurve"], "'x' is not a frame"),
        (&["convert", &file, "o.ncurve", "--tolerance", "1,2"], "'1,2' has no units"),
        (&["check", &file, "--rows", "-1"], "-1"),
    ];
    for (line, words) in table {
        let output = run(at, line);
        let said = String::from_utf8(output.stderr).unwrap();
        assert_eq!(output.status.code(), Some(2), "{line:?}: {said}");
        assert!(said.contains(words), "{line:?}: {said}");
        for of_libraries in ["literal", "digit found", "not in "] {
            assert!(!said.contains(of_libraries), "{line:?}: {said}");
        }
    }
}

#[test]
fn files_that_end_early_and_names_that_are_nearly_right_are_said_so() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let whole = std::fs::read_to_string(sample("bramble.ncurve")).unwrap();
    std::fs::write(at.join("cut.ncurve"), &whole[..2000]).unwrap();
    let why = fail(at, &["inspect", "cut.ncurve"]);
    assert!(why.contains("cut.ncurve:") && why.contains("the file ends in the middle"), "{why}");
    let file = sample("bramble.ncurve").display().to_string();
    for (line, near) in [
        (&["convert", &file, "o.ncurve", "--only", "smle"][..], "did you mean 'smile'?"),
        (&["root", "lift", &file, "--node", "hipz", "-o", "o.ncurve"][..], "did you mean 'hips'?"),
        (&["plot", &file, "--only", "smle", "-o", "o.png"][..], "did you mean 'smile'?"),
    ] {
        let why = fail(at, line);
        assert!(why.contains(near), "{line:?}: {why}");
    }
}

#[test]
fn broken_files_say_where_and_what_in_words_of_this_program() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["convert", sample("bramble.ncurve").to_str().unwrap(), "whole.usda"]);
    succeed(at, &["convert", sample("bramble.ncurve").to_str().unwrap(), "whole.dae"]);
    let usd = std::fs::read_to_string(at.join("whole.usda")).unwrap();
    let collada = std::fs::read_to_string(at.join("whole.dae")).unwrap();
    // Behind the last spline, whose lines are read apart.
    let late = usd.rfind("def Xform").unwrap();
    let line = usd[..late].matches('\n').count() + 1;
    let misspelt = format!("{}deff{}", &usd[..late], &usd[late + 3..]);
    let table: [(&str, String, String); 11] = [
        ("late.usda", misspelt, format!("late.usda:{line}: 'Xform' does not belong here")),
        ("none.usda", "hello".into(), "does not begin with '#usda 1.0'".into()),
        ("cut.usda", usd[..late].trim_end().to_owned(), "cut.usda".into()),
        (
            "word.usda",
            "#usda 1.0\ndef Xform \"a\" {\n  double x = abc\n}".into(),
            ":3: 'abc' does not".into(),
        ),
        ("kind.usda", "#usda 1.0\ndef Xform \"a\" {\n  wibble x = 1\n}".into(), ":3: ".into()),
        ("cut.dae", collada[..collada.len() / 2].into(), "cut.dae: the file ends in the middle".into()),
        (
            "tag.dae",
            collada.replacen("</animation>", "</animatio>", 1),
            "</animatio> stands where </animation>".into(),
        ),
        ("sign.dae", collada.replacen("<node ", "<node & ", 1), ": is not XML here".into()),
        ("name.dae", collada.replacen("name=\"", "name=\"&nope;", 1), "'&nope;' is no character".into()),
        ("twice.dae", collada.replacen("<node ", "<node id=\"b\" ", 1), "'id' stands twice".into()),
        ("text.dae", "hello".into(), "text.dae:1: is not XML here".into()),
    ];
    for (name, text, wanted) in table {
        std::fs::write(at.join(name), text).unwrap();
        let said = fail(at, &["inspect", name]);
        assert!(said.contains(&wanted), "{name}: {said}");
        let insides =
            ["Token", "Punctuation", "Identifier", "ParseFloatError", "pseudo root", "stream", "tag,"];
        assert!(insides.iter().all(|word| !said.contains(word)), "{name}: {said}");
    }
}
