//! `rig`: what drives what, joints solved, sheets; and rigs with controls in other commands. What a result does is compared by the
//! second evaluator, which solves constraints by formulas of its own.

use std::fs;
use std::path::Path;

use nimble_curve_second::scene::{Scene, Solved};
use serde_json::json;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

fn crane() -> String {
    sample("crane.ncurve").display().to_string()
}

/// The largest distance, in cm, and the name of the node that has it, at quarters of frames.
fn apart(source: &str, result: &str) -> (f64, String) {
    let (source, result) = (Scene::read(source), Scene::read(result));
    let mut worst = (0.0, String::new());
    for quarter in 4..=4 * 96 {
        let frame = f64::from(quarter) * 0.25;
        let (from, to) = (Solved::new(&source, Some((0, frame))), Solved::new(&result, Some((0, frame))));
        for (at, node) in result.nodes.iter().enumerate() {
            let theirs = from.placed(source.find(&node.name)).world.translation;
            let off = (theirs - to.placed(at).world.translation).length();
            if off > worst.0 {
                worst = (off, node.name.clone());
            }
        }
    }
    worst
}

/// The crane as another one: larger, its controls called otherwise, at rest.
fn lifter(change: impl FnOnce(&mut serde_json::Value)) -> String {
    let mut file: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(sample("crane.ncurve")).unwrap()).unwrap();
    file["rigs"][0]["name"] = "lifter".into();
    for node in file["rigs"][0]["nodes"].as_array_mut().unwrap() {
        for number in node.get_mut("translation").and_then(|own| own.as_array_mut()).into_iter().flatten() {
            *number = (number.as_f64().unwrap() * LARGER).into();
        }
    }
    file["takes"] = serde_json::json!([]);
    change(&mut file);
    ["cab", "hook", "elbow", "parcel"]
        .into_iter()
        .fold(file.to_string(), |text, name| text.replace(&format!("{name}_ctrl"), &format!("CTL_{name}")))
}

/// So many times as large.
const LARGER: f64 = 1.5;

/// How far joints of the lifter are at most from where the crane's are, in cm of the crane, but some.
fn apart_from_the_crane(result: &str, but: &[&str]) -> f64 {
    let (source, result) =
        (Scene::read(&fs::read_to_string(sample("crane.ncurve")).unwrap()), Scene::read(result));
    let mut most: f64 = 0.0;
    for quarter in 4..=4 * 96 {
        let frame = f64::from(quarter) * 0.25;
        let (from, to) = (Solved::new(&source, Some((0, frame))), Solved::new(&result, Some((0, frame))));
        for (at, node) in result.nodes.iter().enumerate() {
            if !node.name.starts_with("CTL_") && !but.contains(&node.name.as_str()) {
                let theirs = from.placed(source.find(&node.name)).world.translation;
                most = most.max((theirs - to.placed(at).world.translation / LARGER).length());
            }
        }
    }
    most
}

fn text(at: &Path, name: &str) -> String {
    fs::read_to_string(at.join(name)).unwrap()
}

#[test]
fn what_drives_what_is_shown() {
    let folder = tempdir().unwrap();
    let said = succeed(folder.path(), &["rig", &crane()]);
    for part in [
        "7 joints, 5 controls, 5 constraints",
        "boom, jib, hook",
        "hook_ctrl, pole elbow_ctrl",
        "0.5 of hook",
        "drum:rotation.x",
        "hook_ctrl:translation.y",
        "2 keys in unload",
    ] {
        assert!(said.contains(part), "{part}: {said}");
    }
    let json: serde_json::Value =
        serde_json::from_str(&succeed(folder.path(), &["rig", &crane(), "--json"])).unwrap();
    assert_eq!(json.as_array().unwrap().len(), 5);
    assert_eq!(json[1]["kind"], "limb");
    assert_eq!(json[1]["driven"], serde_json::json!(["boom", "jib", "hook"]));
    let none = sample("cart.ncurve").display().to_string();
    assert!(succeed(folder.path(), &["rig", &none]).contains("nothing is driven"));
    assert!(
        fail(folder.path(), &["rig", "solve", &none, "-o", "out.ncurve"])
            .contains("no constraint drives anything")
    );
}

#[test]
fn solved_joints_move_as_their_controls_move_them() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    succeed(at, &["rig", "solve", &crane(), "-o", "out.ncurve"]);
    let result = text(at, "out.ncurve");
    let (off, node) = apart(&source, &result);
    assert!(off <= 0.05, "{node}: {off} cm");
    assert!(!result.contains("_ctrl") && !result.contains("constraints"), "controls go");
    let scene = Scene::read(&result);
    assert_eq!(scene.nodes.len(), 8);
    // A looser bound needs fewer keys, and is held.
    let keys = |text: &str| text.matches("\"frame\"").count();
    succeed(at, &["rig", "solve", &crane(), "-o", "loose.ncurve", "--tolerance", "1deg,1cm"]);
    let loose = text(at, "loose.ncurve");
    assert!(keys(&loose) < keys(&result), "{} and {}", keys(&loose), keys(&result));
    assert!(apart(&source, &loose).0 <= 1.0);
    // What follows rigidly has its control's keys.
    let cab = |text: &str, name: &str| -> serde_json::Value {
        let file: serde_json::Value = serde_json::from_str(text).unwrap();
        let tracks = file["takes"][0]["layers"][0]["tracks"].as_array().unwrap().clone();
        tracks.into_iter().find(|track| track["channel"] == name).unwrap()["controller"].clone()
    };
    assert_eq!(cab(&result, "cab:rotation"), cab(&source, "cab_ctrl:rotation"));
}

#[test]
fn controls_stay_where_that_is_asked_and_samples_come() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    succeed(at, &["rig", "solve", &crane(), "-o", "out.ncurve", "--keep-controls"]);
    let result = text(at, "out.ncurve");
    assert!(result.contains("hook_ctrl:translation") && !result.contains("constraints"));
    assert!(apart(&source, &result).0 <= 0.05);
    // One limb alone: the rest is driven still.
    succeed(at, &["rig", "solve", &crane(), "-o", "arm.ncurve", "--keep-controls", "--only", "boom"]);
    let arm = text(at, "arm.ncurve");
    let scene = Scene::read(&arm);
    assert_eq!(scene.constraints.len(), 4);
    assert!(apart(&source, &arm).0 <= 0.05);
    assert!(
        fail(at, &["rig", "solve", &crane(), "-o", "x.ncurve", "--only", "quay"])
            .contains("no constraint drives 'quay'")
    );
    succeed(
        at,
        &["rig", "solve", &crane(), "-o", "sampled.ncurve", "--sampled", "--keep-controls", "--json"],
    );
    let sampled = Scene::read(&text(at, "sampled.ncurve"));
    let from = Scene::read(&source);
    for frame in 1..=96 {
        let frame = f64::from(frame);
        let solved = Solved::new(&from, Some((0, frame)));
        for (index, node) in sampled.nodes.iter().enumerate() {
            let theirs = solved.placed(from.find(&node.name)).world.translation;
            let off = (theirs - sampled.world(0, index, frame).0.translation).length();
            assert!(off < 1e-6, "{} at {frame}: {off}", node.name);
        }
    }
}

#[test]
fn joints_are_solved_for_some_frames_and_with_keys_on_every_so_many() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    let of = Scene::read(&source);
    let off_at = |result: &Scene, frame: f64| {
        let (theirs, ours) = (Solved::new(&of, Some((0, frame))), Solved::new(result, Some((0, frame))));
        let off = |(at, node): (usize, &nimble_curve_second::scene::Node)| {
            (theirs.placed(of.find(&node.name)).world.translation - ours.placed(at).world.translation)
                .length()
        };
        result.nodes.iter().enumerate().map(off).fold(0.0, f64::max)
    };
    let file = crane();
    for keep in [&[][..], &["--keep-controls"][..]] {
        let solve =
            [&["rig", "solve", &file, "-o", "part.ncurve", "--frames", "20:60", "--replace"][..], keep];
        succeed(at, &solve.concat());
        let part = text(at, "part.ncurve");
        let file: serde_json::Value = serde_json::from_str(&part).unwrap();
        assert_eq!(file["takes"][0]["range"], serde_json::json!([20, 60]));
        let result = Scene::read(&part);
        for quarter in 80..=240 {
            let off = off_at(&result, f64::from(quarter) * 0.25);
            assert!(off <= 0.05, "{off} cm at {}", f64::from(quarter) * 0.25);
        }
    }
    assert!(
        fail(at, &["rig", "solve", &crane(), "-o", "x.ncurve", "--frames", "900:950"])
            .contains("outside every take")
    );
    let said = succeed(at, &["rig", "solve", &crane(), "-o", "eighth.ncurve", "--step", "8"]);
    let eighth = text(at, "eighth.ncurve");
    let file: serde_json::Value = serde_json::from_str(&eighth).unwrap();
    let result = Scene::read(&eighth);
    // What goes with one control has that one's keys; all others stand on each eighth frame.
    let mut stepped = 0;
    for track in file["takes"][0]["layers"][0]["tracks"].as_array().unwrap() {
        if ["boom:rotation", "jib:rotation"].contains(&track["channel"].as_str().unwrap()) {
            let text = track["controller"].to_string();
            let frames: Vec<i64> = text
                .match_indices("\"frame\":")
                .map(|(at, found)| {
                    let digits = text[at + found.len()..].chars().take_while(char::is_ascii_digit);
                    digits.collect::<String>().parse().unwrap()
                })
                .collect();
            assert!(frames.iter().all(|frame| (frame - 1) % 8 == 0 || *frame == 96), "{frames:?}");
            stepped += frames.len();
        }
    }
    assert!(stepped > 30, "{stepped}");
    let most = (4..=384).map(|quarter| off_at(&result, f64::from(quarter) * 0.25)).fold(0.0, f64::max);
    for frame in (1..=96).step_by(8) {
        assert!(off_at(&result, f64::from(frame)) < 1e-6, "frame {frame}");
    }
    // What is said to lie between is what lies there.
    let line = said.lines().find(|line| line.contains("between keys")).unwrap();
    let told: f64 = line
        .split("up to")
        .nth(1)
        .or(line.split("is up to").nth(1))
        .unwrap()
        .trim()
        .split(' ')
        .next()
        .unwrap()
        .parse()
        .unwrap();
    assert!(most > 0.05 && (told - most * 10.0).abs() < 0.02, "{most} cm: {line}");
}

#[test]
fn a_sheet_is_written_once_and_attached_to_any_file_of_the_character() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    succeed(at, &["rig", "sheet", &crane(), "-o", "crane.toml"]);
    assert!(fail(at, &["rig", "sheet", &crane(), "-o", "crane.toml"]).contains("--replace"));
    succeed(at, &["rig", "sheet", &crane(), "-o", "crane.toml", "--replace"]);
    assert_eq!(succeed(at, &["rig", "sheet", &crane()]), text(at, "crane.toml"));
    // The same take as another program has it: no constraints, no attributes, metres.
    let mut bare: serde_json::Value = serde_json::from_str(&source).unwrap();
    bare.as_object_mut().unwrap().remove("constraints");
    fs::write(at.join("bare.ncurve"), bare.to_string()).unwrap();
    succeed(at, &["convert", "bare.ncurve", "metres.glb", "--without-extra", "--keep-start"]);
    let said = succeed(at, &["rig", "metres.glb", "--rate", "24", "--sheet", "crane.toml"]);
    assert!(said.contains("7 joints, 5 controls, 5 constraints"), "{said}");
    succeed(
        at,
        &[
            "convert",
            "metres.glb",
            "again.ncurve",
            "--rate",
            "24",
            "--sheet",
            "crane.toml",
            "--to-unit",
            "cm",
        ],
    );
    // The controls' own turns became quaternions on the way, within their tolerance.
    let (off, node) = apart(&source, &text(at, "again.ncurve"));
    assert!(off <= 0.3, "{node}: {off} cm");
    // A file without its nodes is read as it is, and that is said.
    let cart = sample("cart.ncurve").display().to_string();
    let output = run(at, &["rig", &cart, "--sheet", "crane.toml"]);
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success() && said.contains("read without the rig sheet"), "{said}");
    // Of two files one has them: that is all there is to say.
    let said = String::from_utf8(run(at, &["map", &cart, &crane(), "--sheet", "crane.toml"]).stderr).unwrap();
    let notes: Vec<&str> = said.lines().filter(|line| line.contains("crane.toml")).collect();
    assert!(
        notes.len() == 1 && notes[0].contains("crane.toml: taken for ") && notes[0].contains("not for "),
        "{said}"
    );
    for (sheet, expected) in [
        ("constraints = 3", "'constraints' is a list"),
        ("constraints = []", "holds no constraint"),
        ("[[constraints]]\nnode = ", "broken.toml:2"),
        ("metres_per_unit = 0.01\nup = \"y\"\nsize = 3", "no field 'size'"),
        ("metres_per_unit = 0.01\nup = \"y\"\n[[constraints]]\nnode = \"boom\"\nfolow = 3", "folow"),
    ] {
        fs::write(at.join("broken.toml"), sheet).unwrap();
        let said = fail(at, &["rig", &crane(), "--sheet", "broken.toml"]);
        assert!(said.contains(expected), "{sheet}: {said}");
    }
}

#[test]
fn other_commands_go_by_what_constraints_make_of_the_joints() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    // Carried onto the same joints: they move as they did.
    succeed(at, &["rig", "solve", &crane(), "-o", "joints.ncurve"]);
    let mut rest: serde_json::Value = serde_json::from_str(&text(at, "joints.ncurve")).unwrap();
    rest["takes"] = serde_json::json!([]);
    fs::write(at.join("rest.ncurve"), rest.to_string()).unwrap();
    let said =
        run(at, &["carry", &crane(), "--target", "rest.ncurve", "-o", "carried.ncurve", "--scale", "1"]);
    let errors = String::from_utf8_lossy(&said.stderr).into_owned();
    assert!(said.status.success(), "{errors}");
    let told = String::from_utf8_lossy(&said.stdout).into_owned() + &errors;
    assert!(told.contains("joints were solved first"), "{told}");
    let (off, node) = apart(&source, &text(at, "carried.ncurve"));
    assert!(off <= 1.0, "{node}: {off} cm");
    // Onto a rig with constraints: its joints have the keys, and it is said that the constraints are gone.
    let said = run(
        at,
        &[
            "carry",
            "joints.ncurve",
            "--target",
            &crane(),
            "-o",
            "onto.ncurve",
            "--scale",
            "1",
            "--without-target-takes",
            "--onto-joints",
        ],
    );
    let told = String::from_utf8_lossy(&said.stdout).into_owned() + &String::from_utf8_lossy(&said.stderr);
    assert!(said.status.success() && told.contains("constraints, which would drive them"), "{told}");
    // Curves of controls are made sparse, reordered and baked; constraints stay, and all moves on.
    succeed(at, &["reorder", &crane(), "--to", "zyx", "--only", "hook_ctrl", "-o", "reordered.ncurve"]);
    let reordered = text(at, "reordered.ncurve");
    assert!(reordered.contains("constraints") && apart(&source, &reordered).0 < 0.5);
    // Controls that are samples: at their frames the joints are where these put them.
    succeed(at, &["bake", &crane(), "-o", "baked.ncurve"]);
    succeed(at, &["rig", "solve", "baked.ncurve", "-o", "from_samples.ncurve"]);
    let (from, made) = (Scene::read(&source), Scene::read(&text(at, "from_samples.ncurve")));
    for frame in (1..=96).map(f64::from) {
        let solved = Solved::new(&from, Some((0, frame)));
        for (index, node) in made.nodes.iter().enumerate() {
            let theirs = solved.placed(from.find(&node.name)).world.translation;
            let off = (theirs - made.world(0, index, frame).0.translation).length();
            assert!(off <= 0.05, "{} at {frame}: {off} cm", node.name);
        }
    }
    // Tables and capture files hold what the joints do.
    succeed(at, &["convert", &crane(), "crane.csv"]);
    succeed(at, &["convert", &crane(), "crane.bvh", "--nodes", "@joints"]);
    succeed(at, &["check", &crane()]);
    succeed(at, &["rig", "solve", &crane(), "-o", "beside.ncurve", "--keep-controls"]);
    succeed(at, &["compare", &crane(), "beside.ncurve", "--tolerance", "0.1deg,0.5mm"]);
}

#[test]
fn controls_keep_the_curves_of_their_like_where_these_do_it() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::write(at.join("lifter.ncurve"), lifter(|_| {})).unwrap();
    succeed(at, &["map", &crane(), "lifter.ncurve", "-o", "map.toml"]);
    let proposed = text(at, "map.toml");
    for name in ["cab", "hook", "elbow", "parcel"] {
        assert!(proposed.contains(&format!("{name}_ctrl = \"CTL_{name}\"")), "{proposed}");
    }
    let carry = |target: &str| {
        let args =
            ["carry", &crane(), "--target", target, "--map", "map.toml", "-o", "out.ncurve", "--replace"];
        let said = succeed(at, &args);
        (said, text(at, "out.ncurve"))
    };
    let controllers = |text: &str, name: &str| -> serde_json::Value {
        let file: serde_json::Value = serde_json::from_str(text).unwrap();
        let tracks = file["takes"][0]["layers"][0]["tracks"].as_array().unwrap().clone();
        let found = tracks.into_iter().find(|track| track["channel"] == name);
        found.map_or(serde_json::Value::Null, |track| track["controller"].clone())
    };
    let frames = |controller: &serde_json::Value| controller.to_string().matches("\"frame\"").count();
    let source = fs::read_to_string(sample("crane.ncurve")).unwrap();
    let (said, result) = carry("lifter.ncurve");
    assert!(said.contains("on controls as the source has them: CTL_cab, CTL_hook, CTL_parcel"), "{said}");
    // Turns are the very curves, and of places the keys are where they were.
    for name in ["cab", "hook"] {
        let channel = |of: &str| format!("{of}:rotation");
        let (own, other) = (channel(&format!("{name}_ctrl")), channel(&format!("CTL_{name}")));
        assert_eq!(controllers(&result, &other), controllers(&source, &own), "{name}");
    }
    let places = controllers(&result, "CTL_hook:translation");
    assert_eq!(frames(&places), frames(&controllers(&source, "hook_ctrl:translation")));
    assert!(controllers(&result, "boom:rotation").is_null(), "joints are driven");
    assert!(apart_from_the_crane(&result, &[]) < 0.01, "{}", apart_from_the_crane(&result, &[]));
    // The hook's control rests elsewhere and its arm does not go by where it rests: its curves would not do.
    let elsewhere = lifter(|file| {
        let hook = |node: &&mut serde_json::Value| node["name"] == "hook_ctrl";
        let nodes = file["rigs"][0]["nodes"].as_array_mut().unwrap();
        let node = nodes.iter_mut().find(hook).unwrap();
        let up = node["translation"][1].as_f64().unwrap() + 60.0;
        node["translation"][1] = up.into();
        let limb = file["constraints"].as_array_mut().unwrap().iter_mut().find(|own| own["name"] == "arm");
        limb.unwrap()["limb"]["goal"] =
            serde_json::json!({"node": "hook_ctrl", "offset": {"position": [0, 0, 0]}});
    });
    fs::write(at.join("elsewhere.ncurve"), elsewhere).unwrap();
    let (said, result) = carry("elsewhere.ncurve");
    assert!(said.contains("on controls as the source has them: CTL_cab,"), "{said}");
    assert!(controllers(&result, "CTL_hook:translation") != places);
    assert!(said.lines().any(|line| line.contains("keys on controls: CTL_hook")), "{said}");
    assert!(apart_from_the_crane(&result, &["drum"]) < 0.05, "{}", apart_from_the_crane(&result, &["drum"]));
}

/// Random rigs whose props go by several sources and whose twists come half round: what is written has been judged.
#[test]
fn random_rigs_are_solved_and_none_is_refused() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for seed in [0, 2, 5, 14, 23, 26] {
        let text = nimble_curve_second::controls::text(seed, &nimble_curve_second::controls::Controls::CALM);
        fs::write(at.join("rig.ncurve"), text).unwrap();
        let said =
            succeed(at, &["rig", "solve", "rig.ncurve", "-o", "out.ncurve", "--replace", "--keep-controls"]);
        assert!(said.contains("judged on the result"), "{seed}: {said}");
    }
}

/// Random rigs onto themselves: all have the very curves of their like, and what the target did stays as it was.
#[test]
fn random_rigs_go_onto_themselves_as_they_are() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let read = |name: &str| -> serde_json::Value { serde_json::from_str(&text(at, name)).unwrap() };
    for seed in [0, 3, 7, 14, 22] {
        let text = nimble_curve_second::controls::text(seed, &nimble_curve_second::controls::Controls::CALM);
        fs::write(at.join("rig.ncurve"), text).unwrap();
        succeed(at, &["convert", "rig.ncurve", "same.ncurve", "--replace"]);
        let said =
            succeed(at, &["carry", "rig.ncurve", "--target", "rig.ncurve", "-o", "out.ncurve", "--replace"]);
        assert!(said.contains("keys on controls as the source has them: body, goal_l,"), "{seed}: {said}");
        let (same, out) = (read("same.ncurve"), read("out.ncurve"));
        assert_eq!(out["constraints"], same["constraints"], "{seed}");
        assert_eq!(out["takes"][0]["layers"], same["takes"][0]["layers"], "{seed}");
        assert_eq!(out["takes"][1], same["takes"][0], "{seed}");
    }
}

/// Joints onto the controls of a rig that has a take of its own, whose joints have curves that count for nothing: it stays on its controls.
#[test]
fn the_targets_own_takes_stay_on_its_controls() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let read = |name: &str| -> serde_json::Value { serde_json::from_str(&text(at, name)).unwrap() };
    for seed in [1, 20] {
        let text = nimble_curve_second::controls::text(seed, &nimble_curve_second::controls::Controls::CALM);
        fs::write(at.join("rig.ncurve"), text).unwrap();
        succeed(at, &["convert", "rig.ncurve", "same.ncurve", "--replace"]);
        succeed(at, &["rig", "solve", "rig.ncurve", "-o", "joints.ncurve", "--replace"]);
        let carry = ["carry", "joints.ncurve", "--target", "rig.ncurve", "-o", "out.ncurve", "--replace"];
        let said = succeed(at, &carry);
        assert!(said.contains("keys on controls: ") && !said.contains("take: "), "{seed}: {said}");
        let (same, out) = (read("same.ncurve"), read("out.ncurve"));
        assert_eq!(out["takes"][1], same["takes"][0], "{seed}");
        let tracks = out["takes"][0]["layers"][0]["tracks"].to_string();
        assert!(
            tracks.contains("goal_l:translation") && !tracks.contains("hips:rotation"),
            "{seed}: {tracks}"
        );
    }
}

/// What follows several sources no control undoes: how far off it is is said, and everything else comes over.
#[test]
fn what_no_control_can_undo_is_told_and_the_rest_comes_over() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for seed in [9, 10] {
        let text = nimble_curve_second::controls::text(seed, &nimble_curve_second::controls::Controls::CALM);
        fs::write(at.join(format!("{seed}.ncurve")), text).unwrap();
    }
    let said = succeed(at, &["carry", "9.ncurve", "--target", "10.ncurve", "-o", "out.ncurve"]);
    let unreached =
        |name: &str| said.lines().any(|line| line.contains(&format!("{name} is not reached: at best ")));
    assert!(unreached("spoon") && !unreached("hips"), "{said}");
    assert!(said.contains("keys on controls: goal_l,"), "{said}");
}

/// Rigs unlike each other: limbs that cannot bend as they did, ends that hang on these, sharp turns between frames. Where an end is reached it is in the
/// world where joints alone bring it, and turns as the source's does, by another evaluator's measure of the file.
#[test]
fn random_rigs_go_onto_rigs_unlike_them() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (mut between, mut looked) = (0, 0);
    for (from, onto) in [(0, 1), (2, 3), (4, 5)] {
        for (name, seed) in [("from.ncurve", from), ("onto.ncurve", onto)] {
            let controls = nimble_curve_second::controls::Controls::CALM;
            fs::write(at.join(name), nimble_curve_second::controls::text(seed, &controls)).unwrap();
        }
        let carry =
            ["carry", "from.ncurve", "--target", "onto.ncurve", "--without-target-takes", "--replace"];
        let said = succeed(at, &[&carry[..], &["-o", "out.ncurve"]].concat());
        let exact = ["-o", "joints.ncurve", "--onto-joints", "--tolerance", "0.02deg,0.02mm", "--accept"];
        succeed(at, &[&carry[..], &exact].concat());
        between += usize::from(said.contains("keys stand between frames as well"));
        let (out, joints) = (Scene::read(&text(at, "out.ncurve")), Scene::read(&text(at, "joints.ncurve")));
        let is_reached = |name: &str| !said.contains(&format!(": {name} is not reached"));
        for half in 2..=96 {
            let when = Some((0, f64::from(half) * 0.5));
            let (ours, theirs) = (Solved::new(&out, when), Solved::new(&joints, when));
            for name in ["hips", "chest", "end_l", "end_r"].into_iter().filter(|name| is_reached(name)) {
                let own = ours.placed(out.find(name)).world;
                let other = theirs.placed(joints.find(name)).world;
                let off = (own.translation - other.translation).length();
                let unit = |m: glam::DMat3| m * (1.0 / m.determinant().abs().cbrt());
                let turned = (unit(own.matrix3) - unit(other.matrix3)).to_cols_array();
                let turned = turned.into_iter().map(f64::abs).fold(0.0, f64::max).to_degrees();
                assert!(off < 0.06 && turned < 0.12, "{from} onto {onto}, {name} at {half}: {off} {turned}");
                looked += 1;
            }
        }
    }
    assert!(between > 0 && looked > 700, "{between} between frames, {looked} looks");
}

/// Joints that are driven have no keys: asked for by name they are drawn as their controls move them, and controls with their keys.
#[test]
fn driven_joints_are_drawn_where_they_are_asked_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let asked = ["--only", "boom:rotation.*", "hook_ctrl:translation.y"];
    succeed(at, &[&["plot", &crane(), "-o", "driven.svg"], &asked[..]].concat());
    let drawn = text(at, "driven.svg");
    assert!(drawn.contains("boom:rotation") && drawn.contains("hook_ctrl:translation.y"), "{drawn}");
    assert!(drawn.contains("3 of 4 channels, --channels 4 draws them all"), "{drawn}");
    // Beside the solved curves there is nothing between them.
    succeed(at, &["rig", "solve", &crane(), "-o", "joints.ncurve"]);
    succeed(
        at,
        &["plot", &crane(), "--against", "joints.ncurve", "--only", "boom:rotation.*", "-o", "both.svg"],
    );
    assert!(text(at, "both.svg").contains("boom:rotation"));
    let recipe = "sources = ['crane.ncurve']\noutput = 'out/{stem}.ncurve'\n[[step]]\ndo = 'plot'\nonly = ['boom:rotation.*']\n\
                  output = 'pictures/{stem}.svg'\n";
    fs::copy(sample("crane.ncurve"), at.join("crane.ncurve")).unwrap();
    fs::write(at.join("pack.toml"), recipe).unwrap();
    succeed(at, &["run", "pack.toml"]);
    assert!(text(at, "pictures/crane.svg").contains("boom:rotation"));
    assert!(text(at, "out/crane.ncurve").contains("constraints"), "the scene stays as it is");
}

/// A rig whose head goes by a control that hangs on a locator, which stands beside the neck or in the world as a menu says; so many times
/// as large, with a neck that stands so far in front.
fn peering(larger: f64, neck: f64, tracks: &serde_json::Value) -> String {
    let follow = |node: &str, source: &str| json!({"name": node, "node": node, "follow": {"sources": [{"node": source}]}});
    let by_menu = |node: &str, option: &str| json!({"node": node, "weight": {"attribute": "head_ctrl:space", "is": option}});
    json!({
        "ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y"},
        "rigs": [{"name": "peering", "nodes": [
            {"name": "hips", "translation": [0, 40.0 * larger, 0]},
            {"name": "neck", "parent": "hips", "translation": [0, 10.0 * larger, neck * larger]},
            {"name": "head", "parent": "neck", "translation": [0, 5.0 * larger, 0]},
            {"name": "body_ctrl", "kind": "control", "translation": [0, 40.0 * larger, 0]},
            {"name": "head_space", "kind": "locator", "translation": [0, 50.0 * larger, neck * larger]},
            {"name": "head_ctrl", "parent": "head_space", "kind": "control",
             "attributes": [{"name": "space", "choice": {"options": ["neck", "world"], "default": "neck"}}]},
        ]}],
        "constraints": [
            follow("hips", "body_ctrl"),
            {"name": "space", "node": "head_space", "follow": {"sources": [by_menu("neck", "neck"), by_menu("body_ctrl", "world")]}},
            {"name": "head", "node": "head", "follow": {"sources": [{"node": "head_ctrl"}], "parts": ["rotation"]}},
        ],
        "takes": if tracks.is_null() { json!([]) } else {
            json!([{"name": "peer", "range": [1, 49], "layers": [{"name": "base", "tracks": tracks}]}])
        },
    })
    .to_string()
}

/// What a control hangs on goes where the target's own constraints have it go: it is no joint that has to be where the source's is.
#[test]
fn what_controls_hang_on_goes_as_the_target_has_it() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let keys = |keys: &[(f64, f64)]| -> serde_json::Value {
        let key = |(frame, value): &(f64, f64)| json!({"frame": frame, "value": value});
        json!({"keys": keys.iter().map(key).collect::<Vec<_>>()})
    };
    let turns = |channel: &str, curves: serde_json::Value| json!({"channel": channel, "controller": {"angles": curves}});
    let tracks = json!([
        {"channel": "body_ctrl:translation", "controller": {"components": [{}, {}, keys(&[(1.0, 0.0), (49.0, 30.0)])]}},
        turns("body_ctrl:rotation", json!({"order": "xyz", "y": keys(&[(1.0, 0.0), (20.0, 40.0), (49.0, -10.0)])})),
        turns("neck:rotation", json!({"order": "xyz", "x": keys(&[(1.0, 5.0), (30.0, -15.0), (49.0, 0.0)])})),
        turns("head_ctrl:rotation", json!({"order": "xyz", "y": keys(&[(1.0, 0.0), (12.0, -25.0), (36.0, 30.0), (49.0, 0.0)])})),
    ]);
    fs::write(at.join("source.ncurve"), peering(1.0, 4.0, &tracks)).unwrap();
    // Its controls are called otherwise, so that joints are carried and controls keyed.
    let target = peering(1.5, 9.0, &serde_json::Value::Null).replace("_ctrl", "_knob");
    fs::write(at.join("target.ncurve"), target).unwrap();
    let said = succeed(at, &["carry", "source.ncurve", "--target", "target.ncurve", "-o", "out.ncurve"]);
    let (from, to) = (Scene::read(&text(at, "source.ncurve")), Scene::read(&text(at, "out.ncurve")));
    let mut most: f64 = 0.0;
    for quarter in 4..=4 * 49 {
        let at = Some((0, f64::from(quarter) * 0.25));
        let (own, other) = (Solved::new(&from, at), Solved::new(&to, at));
        for name in ["hips", "neck", "head"] {
            let turn = |scene: &Scene, solved: &Solved<'_>| solved.placed(scene.find(name)).turn;
            most = most.max(turn(&from, &own).angle_between(turn(&to, &other)).to_degrees());
        }
    }
    assert!(most < 0.1, "{most} deg: {said}");
    assert!(said.contains("keys on controls: body_knob, head_knob"), "{said}");
}

/// A couple goes by a curve with a corner: there is a key on it, between frames, and none on every frame about it.
#[test]
fn corners_of_what_is_coupled_have_keys() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let key = |frame: f64, value: f64| json!({"frame": frame, "value": value, "slope": 0});
    let file = json!({
        "ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y"},
        "rigs": [{"name": "paw", "nodes": [
            {"name": "toe", "rotation": {"rotate": {"order": "xyz"}}},
            {"name": "toe_ctrl", "kind": "control", "attributes": [{"name": "curl", "number": {"default": 0}}]},
        ]}],
        "constraints": [{"name": "curl", "node": "toe", "couple": {
            "channel": "rotation.x", "from": "toe_ctrl:curl", "points": [[0.1, 0], [0.37, 40], [1, -20]]}}],
        "takes": [{"name": "walk", "range": [1, 49], "layers": [{"name": "base", "tracks": [
            {"channel": "toe_ctrl:curl", "controller": {"components": [{"keys": [key(1.0, 0.0), key(25.0, 1.2), key(49.0, 0.2)]}]}},
        ]}]}],
    });
    fs::write(at.join("paw.ncurve"), file.to_string()).unwrap();
    for tolerance in ["0.1deg,0.5mm", "0.001deg,0.5mm"] {
        succeed(
            at,
            &["rig", "solve", "paw.ncurve", "-o", "out.ncurve", "--tolerance", tolerance, "--replace"],
        );
        let (from, to) = (Scene::read(&text(at, "paw.ncurve")), Scene::read(&text(at, "out.ncurve")));
        let mut most: f64 = 0.0;
        for part in 32..=32 * 49 {
            let at = Some((0, f64::from(part) / 32.0));
            let turn = |scene: &Scene| Solved::new(scene, at).placed(scene.find("toe")).turn;
            most = most.max(turn(&from).angle_between(turn(&to)).to_degrees());
        }
        assert!(most < 0.001, "{tolerance}: {most} deg");
        let result: serde_json::Value = serde_json::from_str(&text(at, "out.ncurve")).unwrap();
        let keys = &result["takes"][0]["layers"][0]["tracks"][0]["controller"]["angles"]["x"]["keys"];
        // Three that there were, and five on the way past three points, up and down again.
        let count = keys.as_array().unwrap().len();
        assert!(count == 8, "{tolerance}: {keys}");
    }
}

/// One limb that comes to its whole length has more keys, and between frames; what does not hang on it stays as it is without it.
#[test]
fn a_limb_that_needs_keys_costs_the_others_none() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let tracks = |name: &str| -> Vec<serde_json::Value> {
        let file: serde_json::Value = serde_json::from_str(&text(at, name)).unwrap();
        let all = file["takes"][0]["layers"][0]["tracks"].as_array().unwrap().clone();
        let is_other = |track: &serde_json::Value| {
            let channel = track["channel"].as_str().unwrap_or_default();
            ["upper_r:", "lower_r:", "end_r:"].iter().any(|name| channel.contains(name))
        };
        all.into_iter().filter(is_other).collect()
    };
    let text = nimble_curve_second::controls::text(15, &nimble_curve_second::controls::Controls::CALM);
    fs::write(at.join("rig.ncurve"), text).unwrap();
    succeed(at, &["rig", "solve", "rig.ncurve", "-o", "all.ncurve"]);
    succeed(at, &["rig", "solve", "rig.ncurve", "--only", "*_r", "-o", "right.ncurve"]);
    let (all, right) = (tracks("all.ncurve"), tracks("right.ncurve"));
    assert!(all.len() >= 3);
    assert_eq!(all, right);
}

/// What couples and rolls leave to a joint's own curves is little: it has keys where the bound asks for them, not where all controls have.
#[test]
fn what_is_left_beside_controls_has_few_keys() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["rig", "solve", &crane(), "-o", "joints.ncurve"]);
    succeed(at, &["rig", "sheet", &crane(), "-o", "crane.toml"]);
    let said = succeed(
        at,
        &["rig", "match", "joints.ncurve", "--sheet", "crane.toml", "--keys", "bounded", "-o", "out.ncurve"],
    );
    let keys = |channel: &str| -> usize {
        let line = said.lines().find(|line| line.trim_start().starts_with(channel)).unwrap();
        line.split_whitespace().nth(3).unwrap().parse().unwrap()
    };
    assert!(keys("drum:rotation") < 30 && keys("cable:rotation") < 20, "{said}");
    assert!(keys("hook_ctrl:translation") > 100, "{said}");
    let (far, name) = apart(&text(at, "out.ncurve"), &text(at, "joints.ncurve"));
    assert!(far < 0.05, "{name} is {far} cm off");
}
