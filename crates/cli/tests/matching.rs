//! `rig match`, `rig switch`, and `carry` onto controls. What a result does is compared by the second evaluator.

use std::fs;
use std::path::Path;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::judge::{Limits, judge};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::control_rig::{SwitchOptions, To, switch};
use nimble_curve_formats::ncurve;
use nimble_curve_second::scene::{Scene, Solved};
use tempfile::tempdir;

use crate::common::{fail, sample, succeed};

fn at(name: &str) -> String {
    sample(name).display().to_string()
}

fn text(at: &Path, name: &str) -> String {
    fs::read_to_string(at.join(name)).unwrap()
}

/// The largest distance of some nodes, in units, at halves of frames or at whole ones.
fn apart(
    source: &str,
    result: &str,
    frames: (u32, u32),
    parts: u32,
    counts: impl Fn(&str) -> bool,
) -> (f64, String) {
    let (source, result) = (Scene::read(source), Scene::read(result));
    let mut worst = (0.0, String::new());
    for part in frames.0 * parts..=frames.1 * parts {
        let frame = f64::from(part) / f64::from(parts);
        let (from, to) = (Solved::new(&source, Some((0, frame))), Solved::new(&result, Some((0, frame))));
        for (at, node) in source.nodes.iter().enumerate().filter(|(_, node)| counts(&node.name)) {
            let theirs = from.placed(at).world.translation;
            let off = (theirs - to.placed(result.find(&node.name)).world.translation).length();
            if off > worst.0 {
                worst = (off, format!("{} at frame {frame}", node.name));
            }
        }
    }
    worst
}

fn keys_of(text: &str, channel: &str) -> usize {
    let file: serde_json::Value = serde_json::from_str(text).unwrap();
    let layers = file["takes"][0]["layers"].as_array().unwrap().clone();
    let tracks = layers.iter().flat_map(|layer| layer["tracks"].as_array().unwrap().clone());
    tracks
        .filter(|track| track["channel"] == channel)
        .map(|track| track.to_string().matches("\"frame\"").count())
        .sum()
}

/// The crane's joints alone, as a file without controls.
fn crane_joints(folder: &Path) {
    succeed(folder, &["rig", "sheet", &at("crane.ncurve"), "-o", "crane.toml"]);
    succeed(folder, &["rig", "solve", &at("crane.ncurve"), "-o", "joints.ncurve"]);
    assert!(!text(folder, "joints.ncurve").contains("_ctrl"));
}

#[test]
fn joints_of_a_file_without_controls_go_onto_those_of_a_sheet() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    crane_joints(here);
    let sheet = ["--sheet", "crane.toml"];
    let said = succeed(
        here,
        &[&["rig", "match", "joints.ncurve", "-o", "bounded.ncurve", "--keys", "bounded"][..], &sheet]
            .concat(),
    );
    assert!(said.contains("keys on controls, for"), "{said}");
    let (joints, bounded) = (text(here, "joints.ncurve"), text(here, "bounded.ncurve"));
    let is_joint = |name: &str| !name.ends_with("_ctrl");
    let (off, worst) = apart(&joints, &bounded, (1, 96), 2, is_joint);
    assert!(off <= 0.05, "{worst}: {off} cm");
    // What drives is keyed, what is driven is not.
    assert!(keys_of(&bounded, "hook_ctrl:translation") > 0 && keys_of(&bounded, "hook:rotation") == 0);
    // A control that a joint goes with has the joint's own keys.
    assert_eq!(keys_of(&bounded, "cab_ctrl:rotation"), keys_of(&joints, "cab:rotation"));
    // The same keys: no more key times, and what lies between is said.
    let same = succeed(here, &[&["rig", "match", "joints.ncurve", "-o", "same.ncurve"][..], &sheet].concat());
    assert!(same.contains("between keys"), "{same}");
    assert!(
        keys_of(&text(here, "same.ncurve"), "hook_ctrl:translation")
            <= keys_of(&bounded, "hook_ctrl:translation")
    );
    // Again it changes nothing.
    let again = succeed(here, &["rig", "match", "bounded.ncurve", "-o", "again.ncurve", "--keys", "bounded"]);
    assert!(again.contains("these do it already"), "{again}");
    assert_eq!(text(here, "again.ncurve"), bounded);
    // A tenth of the bound needs more keys, and is held.
    succeed(
        here,
        &[
            &["rig", "match", "joints.ncurve", "-o", "close.ncurve", "--keys", "bounded", "--between-frames"]
                [..],
            &["--tolerance", "0.05deg,0.2mm", "--clear-others", "--only", "cab,boom,jib,hook"],
            &sheet,
        ]
        .concat(),
    );
    let only = |name: &str| ["cab", "jib", "hook"].contains(&name);
    let (off, worst) = apart(&joints, &text(here, "close.ncurve"), (1, 96), 2, only);
    assert!(off <= 0.02, "{worst}: {off} cm");
    // A pole that rests on the root of its limb, and goes with it, says nothing where it is: it has to move.
    let at_root =
        text(here, "crane.toml").replace("translation = [120, 420, 0]", "translation = [40, 30, 0]");
    fs::write(here.join("root.toml"), at_root).unwrap();
    succeed(
        here,
        &["rig", "match", "joints.ncurve", "--sheet", "root.toml", "--keys", "bounded", "-o", "root.ncurve"],
    );
    let (off, worst) = apart(&joints, &text(here, "root.ncurve"), (1, 96), 2, is_joint);
    assert!(off <= 0.05, "{worst}: {off} cm");
    let json: serde_json::Value = serde_json::from_str(&succeed(
        here,
        &[&["rig", "match", "joints.ncurve", "-o", "same.ncurve", "--replace", "--json"][..], &sheet]
            .concat(),
    ))
    .unwrap();
    assert!(json.is_object());
}

#[test]
fn a_layer_holds_the_difference_and_what_controls_had_lies_below() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    crane_joints(here);
    // Joints of one take, controls of it that were moved elsewhere.
    succeed(here, &["rig", "solve", &at("crane.ncurve"), "-o", "both.ncurve", "--keep-controls"]);
    let mut file: serde_json::Value = serde_json::from_str(&text(here, "both.ncurve")).unwrap();
    let tracks = file["takes"][0]["layers"][0]["tracks"].as_array_mut().unwrap();
    let own = tracks.iter_mut().find(|track| track["channel"] == "hook_ctrl:translation").unwrap();
    for axis in own["controller"]["components"].as_array_mut().unwrap() {
        for key in axis["keys"].as_array_mut().unwrap() {
            key["value"] = serde_json::json!((key["value"].as_f64().unwrap() * 0.9).round() as i64);
        }
    }
    let kept = own["controller"].clone();
    fs::write(here.join("moved.ncurve"), file.to_string()).unwrap();
    let matching = ["rig", "match", "moved.ncurve", "--sheet", "crane.toml", "--keys", "bounded"];
    succeed(here, &[&matching[..], &["--layer", "back", "-o", "layered.ncurve"]].concat());
    let layered = text(here, "layered.ncurve");
    let is_joint = |name: &str| ["cab", "boom", "jib", "hook", "lamp", "cable"].contains(&name);
    let (off, node) = apart(&text(here, "joints.ncurve"), &layered, (1, 96), 2, is_joint);
    assert!(off <= 0.05, "{node}: {off} cm");
    let file: serde_json::Value = serde_json::from_str(&layered).unwrap();
    let layers = file["takes"][0]["layers"].as_array().unwrap();
    assert_eq!(
        (layers.len(), &layers[1]["name"], &layers[1]["mode"]),
        (2, &"back".into(), &"additive".into())
    );
    let base = layers[0]["tracks"].as_array().unwrap();
    let own = base.iter().find(|track| track["channel"] == "hook_ctrl:translation").unwrap();
    assert_eq!(own["controller"], kept, "what the control had is as it was");
    let said = fail(here, &[&matching[..], &["--layer", "base", "-o", "x.ncurve"]].concat());
    assert!(said.contains("there is a layer 'base' already"), "{said}");
}

#[test]
fn what_no_control_moves_is_refused_or_named() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    let none = fail(here, &["rig", "match", &at("cart.ncurve"), "-o", "out.ncurve"]);
    assert!(none.contains("no constraint drives anything"), "{none}");
    let limb = |name: &str, to: &str, frames: &str| {
        fail(
            here,
            &[
                "rig",
                "switch",
                &at("crane.ncurve"),
                "--limb",
                name,
                "--to",
                to,
                "--frames",
                frames,
                "-o",
                "out.ncurve",
            ],
        )
    };
    assert!(limb("arm", "fk", "10:20").contains("the limb 'arm' has no controls for its joints"));
    assert!(limb("leg", "fk", "10:20").contains("there is no limb 'leg': there are arm"));
    assert!(limb("arm", "ik", "10:2000").contains("the take has frames 1 to 96 alone"));
    assert!(limb("arm", "ik", "20:10").contains("the last frame has to be after the first"));
    let space = fail(
        here,
        &[
            "rig",
            "switch",
            &at("crane.ncurve"),
            "--control",
            "hook_ctrl",
            "--space",
            "dock",
            "--frames",
            "10",
            "-o",
            "out.ncurve",
        ],
    );
    assert!(space.contains("there is no space 'dock': there is none"), "{space}");
}

#[test]
fn the_otters_arm_goes_by_its_joints_for_a_while_and_its_head_by_the_world() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    let sheet = at("bramble_controls.toml");
    // Under a chest that breathes, sized along one axis, how long bones are depends on how they turn.
    let mut file: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(at("bramble.ncurve")).unwrap()).unwrap();
    for layer in file["takes"][0]["layers"].as_array_mut().unwrap() {
        layer["tracks"].as_array_mut().unwrap().retain(|track| track["channel"] != "courier:chest:scale");
    }
    fs::write(here.join("bramble.ncurve"), file.to_string()).unwrap();
    succeed(
        here,
        &[
            "rig",
            "match",
            "bramble.ncurve",
            "--sheet",
            &sheet,
            "--keys",
            "bounded",
            "--limb",
            "ik",
            "-o",
            "keyed.ncurve",
        ],
    );
    let source = text(here, "keyed.ncurve");
    let body =
        |name: &str| name.starts_with("courier:") && !name.ends_with("_fk") && !name.ends_with("_ctrl");
    let switched: [&[&str]; 3] = [
        &["--limb", "arm_l", "--to", "fk", "--frames", "70:90", "--between-frames"],
        &[
            "--limb",
            "courier:forearm_r",
            "--to",
            "fk",
            "--frames",
            "20:40",
            "--over",
            "3",
            "--between-frames",
        ],
        &["--control", "head_ctrl", "--space", "world", "--frames", "40", "--take", "greet"],
    ];
    for (index, options) in switched.iter().enumerate() {
        let out = format!("switched{index}.ncurve");
        succeed(here, &[&["rig", "switch", "keyed.ncurve", "-o", &out][..], options].concat());
        let result = text(here, &out);
        let (off, worst) = apart(&source, &result, (1, 97), 1, body);
        assert!(off <= 0.001, "{options:?}: {worst}: {off} cm");
        let (off, worst) = apart(&source, &result, (1, 97), 2, body);
        assert!(off <= 0.05, "{options:?}: {worst}: {off} cm");
        assert_ne!(source, result);
    }
    assert!(keys_of(&text(here, "switched0.ncurve"), "courier:arm_l_fk:rotation") > 0);
    let result = text(here, "switched2.ncurve");
    assert!(result.contains("\"world\""));
    // The control itself stays as well, and the judge looks at it: nothing hangs on its place.
    let (off, _) = apart(&source, &result, (1, 97), 2, |name| name == "head_ctrl");
    assert!(off <= 0.05, "the control: {off} cm");
    let scene = ncurve::read(&source).unwrap();
    let options = SwitchOptions {
        to: To::Space { control: "head_ctrl".to_owned(), space: "world".to_owned() },
        from: scene.rate.ticks(40),
        until: None,
        over: scene.rate.ticks(0),
        take: None,
        between_frames: false,
        tolerance: Tolerance::default(),
    };
    let switched = switch(&scene, &options).unwrap();
    let limits = Limits { world: 0.05, ..Limits::NONE };
    let is_held =
        |scene_after: &_| judge(&scene, scene_after, &switched.claim, limits, 1.0).world_beyond().is_none();
    assert!(is_held(&switched.scene));
    let mut aside = switched.scene.clone();
    let control = aside.rigs[0].nodes().find(|(_, node)| node.name == "head_ctrl").unwrap().0;
    let tracks = aside.takes[0].layers.iter_mut().flat_map(|layer| &mut layer.tracks);
    let mut place =
        tracks.filter(|track| track.target.node == control && track.target.property == "translation");
    let Controller::Components(curves) = &mut place.next().unwrap().controller else { panic!("no curves") };
    curves[1] = curves[1].affine(1.0, 1.0);
    assert!(!is_held(&aside), "a centimetre aside is seen");
}

#[test]
fn carried_motion_goes_onto_the_storks_controls() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    let (map, sheet) = (at("bramble_to_stilt.toml"), at("stilt_controls.toml"));
    let (source, target) = (at("bramble.ncurve"), at("stilt.ncurve"));
    let carry = ["carry", &source, "--target", &target, "--map", &map];
    let with_sheet = ["--sheet", &sheet];
    let said = succeed(here, &[&carry[..], &with_sheet, &["-o", "controls.ncurve"]].concat());
    assert!(said.contains("keys on controls: Body_ctrl"), "{said}");
    succeed(here, &[&carry[..], &["-o", "plain.ncurve"]].concat());
    let (controls, plain) = (text(here, "controls.ncurve"), text(here, "plain.ncurve"));
    assert!(keys_of(&controls, "L_Foot_ctrl:translation") > 0 && keys_of(&controls, "L_Knee:rotation") == 0);
    // Both are within the tolerance of what was carried; the wings' tips hang on five joints.
    let body = |name: &str| !name.contains("_ctrl") && !name.contains("_goal");
    let (off, worst) = apart(&plain, &controls, (1, 97), 2, body);
    assert!(off <= 0.006, "{worst}: {off} m");
    let joints =
        succeed(here, &[&carry[..], &with_sheet, &["--onto-joints", "-o", "joints.ncurve"]].concat());
    assert!(joints.contains("the target's joints have the keys: its 11 constraints"), "{joints}");
    assert!(keys_of(&text(here, "joints.ncurve"), "L_Wing:rotation") > 0);
}

/// Controls as riggers lock them: a turntable that turns about one axis, a place that may not move along another.
#[test]
fn locked_channels_of_controls_stay_as_they_are() {
    let folder = tempdir().unwrap();
    let here = folder.path();
    crane_joints(here);
    let joints = text(here, "joints.ncurve");
    let with_locks = |control: &str, locks: &str| {
        let sheet = text(here, "crane.toml");
        let name = format!("name = \"{control}\"\n");
        assert!(sheet.contains(&name), "{sheet}");
        let locked = sheet.replacen(&name, &format!("{name}locked = [{locks}]\n"), 1);
        fs::write(here.join("locked.toml"), locked).unwrap();
        let args = ["rig", "match", "joints.ncurve", "--sheet", "locked.toml", "--keys", "bounded"];
        let said = succeed(here, &[&args[..], &["-o", "out.ncurve", "--replace"]].concat());
        (said, text(here, "out.ncurve"))
    };
    let curves = |result: &str, channel: &str| -> serde_json::Value {
        let file: serde_json::Value = serde_json::from_str(result).unwrap();
        let tracks = file["takes"][0]["layers"][0]["tracks"].as_array().unwrap().clone();
        let found = tracks.into_iter().find(|track| track["channel"] == channel);
        found.map_or(serde_json::Value::Null, |track| track["controller"].clone())
    };
    // What is locked is not needed.
    let (said, result) = with_locks("cab_ctrl", "\"rotation.x\", \"rotation.z\", \"translation\"");
    assert!(said.contains("locked, and as they were: cab_ctrl:rotation.x, cab_ctrl:rotation.z"), "{said}");
    let turn = &curves(&result, "cab_ctrl:rotation")["angles"];
    let has_keys = |axis: &str| turn[axis].to_string().contains("\"frame\"");
    assert!(!has_keys("x") && has_keys("y") && !has_keys("z"), "{turn}");
    let is_joint = |name: &str| !name.ends_with("_ctrl");
    let (off, worst) = apart(&joints, &result, (1, 96), 2, is_joint);
    assert!(off <= 0.05, "{worst}: {off} cm");
    // What is locked is needed: how far off that leaves the hook is said, and everything else is where it was.
    let (said, result) = with_locks("hook_ctrl", "\"translation.y\"");
    assert!(said.contains("locked, and as they were: hook_ctrl:translation.y"), "{said}");
    assert!(said.lines().any(|line| line.contains("hook is not reached")), "{said}");
    let places = &curves(&result, "hook_ctrl:translation")["components"];
    let has_keys = |component: usize| places[component].to_string().contains("\"frame\"");
    assert!(has_keys(0) && !has_keys(1) && has_keys(2), "{places}");
    let (off, worst) = apart(&joints, &result, (1, 96), 2, |name| ["cab", "quay"].contains(&name));
    assert!(off <= 0.05, "{worst}: {off} cm");
    // A value that is no curve stays as well.
    succeed(here, &["rig", "solve", &at("crane.ncurve"), "--keep-controls", "-o", "both.ncurve"]);
    let mut both: serde_json::Value = serde_json::from_str(&text(here, "both.ncurve")).unwrap();
    for track in both["takes"][0]["layers"][0]["tracks"].as_array_mut().unwrap() {
        if track["channel"] == "hook_ctrl:translation" {
            track["controller"] = serde_json::json!({ "constant": { "vector": [10, 77, 3] } });
        }
    }
    let nodes = both["rigs"][0]["nodes"].as_array_mut().unwrap();
    let control = nodes.iter_mut().find(|node| node["name"] == "hook_ctrl").unwrap();
    control["locked"] = serde_json::json!(["translation.y"]);
    fs::write(here.join("both.ncurve"), both.to_string()).unwrap();
    let args = ["rig", "match", "both.ncurve", "--sheet", "crane.toml", "--keys", "bounded"];
    succeed(here, &[&args[..], &["-o", "stays.ncurve"]].concat());
    let places = &curves(&text(here, "stays.ncurve"), "hook_ctrl:translation")["components"];
    assert_eq!(places[1]["keys"][0]["value"], 77);
    // All of it: nothing is keyed there.
    let (_, result) = with_locks("hook_ctrl", "\"translation\"");
    assert!(curves(&result, "hook_ctrl:translation").is_null());
    assert!(!curves(&result, "hook_ctrl:rotation").is_null());
}
