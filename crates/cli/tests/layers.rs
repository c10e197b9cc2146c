//! `layers` and controllers through the program, on the authored take.

use nimble_curve_core::controller::{Controller, TcbKeys};
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::scene::{LayerMode, Scene, Track};
use nimble_curve_core::value::Value;
use tempfile::tempdir;

use crate::common::{degrees_between, fail, rotations, run, sample, scene, succeed, values};

fn bramble() -> String {
    sample("bramble.ncurve").to_str().unwrap().to_owned()
}

/// Sixteenths of frames of the authored take.
fn sixteenths() -> impl Iterator<Item = f64> {
    (16..=97 * 16).map(|step| f64::from(step) / 16.0)
}

/// The channels of the authored take that are numbers, and those that are rotations.
const NUMBERS: [(&str, &str); 7] = [
    ("courier:root", "translation"),
    ("courier:hips", "translation"),
    ("courier:chest", "scale"),
    ("courier:face", "smile"),
    ("courier:face", "blink"),
    ("courier:face", "gaze"),
    ("courier:face", "whiskers"),
];
const ROTATIONS: [&str; 9] = [
    "courier:hips",
    "courier:spine_02",
    "courier:head",
    "courier:neck",
    "courier:chest",
    "courier:arm_l",
    "courier:arm_r",
    "courier:forearm_l",
    "courier:tail_03",
];

/// The largest differences of the listed numbers and rotations (in degrees) between two scenes.
fn differences(a: &Scene, b: &Scene) -> (f64, f64) {
    let mut numbers = 0.0_f64;
    for (node, property) in NUMBERS {
        for (x, y) in
            values(a, node, property, sixteenths()).iter().zip(values(b, node, property, sixteenths()))
        {
            let (x, y) = (x.numbers().unwrap(), y.numbers().unwrap());
            numbers = x.iter().zip(&y).map(|(x, y)| (x - y).abs()).fold(numbers, f64::max);
        }
    }
    let mut angle = 0.0_f64;
    for node in ROTATIONS {
        let pairs = rotations(a, node, sixteenths()).into_iter().zip(rotations(b, node, sixteenths()));
        angle = pairs.map(|(x, y)| degrees_between(x, y)).fold(angle, f64::max);
    }
    (numbers, angle)
}

#[test]
fn the_authored_take_uses_every_controller_and_both_modes_and_poses_without_a_flip() {
    let scene = scene(bramble().as_ref());
    let take = &scene.takes[0];
    let mut types: Vec<&str> = take.tracks().map(|(_, track)| track.controller.type_name()).collect();
    types.sort_unstable();
    types.dedup();
    assert_eq!(types.len(), 9, "{types:?}");
    let tcb = |keys: &TcbKeys| match keys {
        TcbKeys::Number(_) => 0,
        TcbKeys::Vector(_) => 1,
        TcbKeys::Rotation(_) => 2,
    };
    let mut kinds: Vec<i32> = take
        .tracks()
        .filter_map(|(_, track)| match &track.controller {
            Controller::Tcb(curve) => Some(tcb(&curve.keys)),
            _ => None,
        })
        .collect();
    kinds.sort_unstable();
    assert_eq!(kinds, [0, 1, 2]);
    for mode in [LayerMode::Additive, LayerMode::Override] {
        assert!(take.layers[1..].iter().any(|layer| layer.mode == mode));
    }
    let mut evaluator = Evaluator::new(&scene, Some(take), 0).unwrap();
    let (mut pose, mut last) = (Pose::default(), Pose::default());
    for frame in sixteenths() {
        evaluator.pose_at(frame * scene.rate.ticks_per_frame(), &mut pose);
        for (now, before) in pose.local_rotation.iter().zip(&last.local_rotation) {
            // The head's quaternion keys step once, by 12 degrees, and the constant arm snaps nowhere.
            assert!(degrees_between(*now, *before) < 16.0, "frame {frame}");
        }
        last.clone_from(&pose);
    }
}

#[test]
fn layers_are_listed_with_what_they_do() {
    let folder = tempdir().unwrap();
    let printed = succeed(folder.path(), &["layers", &bramble()]);
    let line = |name: &str| printed.lines().find(|line| line.trim().starts_with(name)).unwrap().to_owned();
    assert!(line("breathing").contains("additive") && line("breathing").contains("80%"));
    assert!(line("look").contains("as quaternions") && line("look").contains("0% to 100%"));
    assert!(line("old arm").contains("muted"));
    let order = ["old arm", "reach", "look", "breathing", "body"].map(|name| printed.find(name).unwrap());
    assert!(order.is_sorted(), "topmost first");
    let json: serde_json::Value =
        serde_json::from_str(&succeed(folder.path(), &["layers", &bramble(), "--json"])).unwrap();
    assert_eq!(json[0]["layers"][1]["weight"], 0.8);
    assert_eq!(json[0]["layers"][4]["muted"], true);
}

#[test]
fn a_flattened_take_moves_as_its_layers_did() {
    let folder = tempdir().unwrap();
    let printed = succeed(folder.path(), &["layers", "flatten", &bramble(), "-o", "flat.ncurve"]);
    let (before, after) = (scene(bramble().as_ref()), scene(&folder.path().join("flat.ncurve")));
    assert_eq!(after.takes[0].layers.len(), 1);
    let (numbers, angle) = differences(&before, &after);
    // 0.1 mm is 0.01 units of this scene.
    assert!(numbers <= 0.01 && angle <= 0.05, "{numbers} {angle}");
    let line = |channel: &str| printed.lines().find(|line| line.contains(channel)).unwrap().to_owned();
    assert!(line("courier:chest:rotation").contains("exact"));
    assert!(line("courier:arm_r:rotation").contains("left out"));
    assert!(line("courier:head:rotation").contains("refitted"));
    // Smiles and tails that only one layer has keep their controllers.
    let kept = |scene: &Scene| {
        let tracks = scene.takes[0].layers[0].tracks.iter();
        tracks.filter(|track| matches!(track.controller, Controller::Tcb(_))).count()
    };
    assert_eq!((kept(&before), kept(&after)), (3, 3));
}

#[test]
fn one_layer_flattened_leaves_the_others() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["layers", "flatten", &bramble(), "--layer", "breathing", "-o", "out.ncurve"]);
    let (before, after) = (scene(bramble().as_ref()), scene(&at.join("out.ncurve")));
    let names: Vec<&str> = after.takes[0].layers.iter().map(|layer| layer.name.as_str()).collect();
    assert_eq!(names, ["body", "look", "reach", "old arm"]);
    let (numbers, angle) = differences(&before, &after);
    assert!(numbers <= 0.01 && angle < 1e-6, "{numbers} {angle}");
    let error = fail(at, &["layers", "flatten", &bramble(), "--layer", "breething", "-o", "x.ncurve"]);
    assert!(error.contains("did you mean 'breathing'?"), "{error}");
    assert!(!at.join("x.ncurve").exists());
}

#[test]
fn channels_that_are_not_meant_stay_on_their_layers() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let file = bramble();
    succeed(
        at,
        &["layers", "flatten", &file, "--only", "*arm_*", "*head*", "--except", "*head*", "-o", "out.ncurve"],
    );
    let (before, after) = (scene(file.as_ref()), scene(&at.join("out.ncurve")));
    let (numbers, angle) = differences(&before, &after);
    assert!(numbers <= 1e-9 && angle < 0.05, "{numbers} {angle}");
    let on = |scene: &Scene, node: &str| -> Vec<String> {
        let take = &scene.takes[0];
        let of = |track: &Track| scene.rigs[0].node(track.target.node).unwrap().name.contains(node);
        take.tracks()
            .filter(|(_, track)| of(track))
            .map(|(layer, _)| take.layers[layer].name.clone())
            .collect()
    };
    assert!(on(&after, "arm_r").iter().all(|layer| layer == "body"));
    assert!(on(&before, "arm_r").len() > 1 && on(&before, "chest").len() > 1);
    assert_eq!((on(&after, "chest"), on(&after, "head")), (on(&before, "chest"), on(&before, "head")));
    // A layer on which nothing is left goes.
    let names: Vec<&str> = after.takes[0].layers.iter().map(|layer| layer.name.as_str()).collect();
    assert!(
        names.contains(&"breathing") && names.contains(&"look") && !names.contains(&"reach"),
        "{names:?}"
    );
    let error = fail(at, &["layers", "flatten", &file, "--only", "arn_r", "-o", "x.ncurve"]);
    assert!(error.contains("did you mean"), "{error}");
}

#[test]
fn a_fix_made_elsewhere_comes_back_as_a_sparse_layer() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Somebody flattened the take and changed one key of the jaw and the waving arm.
    succeed(at, &["layers", "flatten", &bramble(), "-o", "flat.ncurve"]);
    let text = std::fs::read_to_string(at.join("flat.ncurve")).unwrap();
    let fixed = text.replacen("{\"frame\": 22, \"value\": 14}", "{\"frame\": 22, \"value\": 21}", 1);
    let fixed = fixed.replacen("{\"frame\": 25, \"value\": 8}", "{\"frame\": 25, \"value\": -4}", 1);
    assert_ne!(text, fixed);
    std::fs::write(at.join("fixed.ncurve"), fixed).unwrap();
    let arguments = [
        "layers",
        "difference",
        "flat.ncurve",
        "--against",
        "fixed.ncurve",
        "--name",
        "fix",
        "-o",
        "out.ncurve",
    ];
    succeed(at, &arguments);
    let (fixed, out) = (scene(&at.join("fixed.ncurve")), scene(&at.join("out.ncurve")));
    let layer = &out.takes[0].layers[1];
    assert_eq!((layer.name.as_str(), layer.tracks.len()), ("fix", 2));
    assert!(layer.tracks.iter().all(|track| track.controller.key_count() <= 5), "{layer:?}");
    let (numbers, angle) = differences(&fixed, &out);
    assert!(numbers < 1e-9 && angle < 1e-6, "{numbers} {angle}");
    // Of what differs some channels alone, and the other is named.
    let own: Vec<&str> =
        arguments.iter().map(|word| if *word == "out.ncurve" { "arm.ncurve" } else { word }).collect();
    let said = succeed(at, &[&own[..], &["--only", "*arm*"]].concat());
    assert!(said.contains("not selected") && said.contains("it differs, and was not chosen"), "{said}");
    let one = scene(&at.join("arm.ncurve"));
    let [track] = one.takes[0].layers[1].tracks.as_slice() else { panic!("{said}") };
    assert!(one.rigs[0].node(track.target.node).unwrap().name.contains("arm"));
    let again = fail(
        at,
        &[
            "layers",
            "difference",
            "out.ncurve",
            "--against",
            "fixed.ncurve",
            "--name",
            "fix",
            "-o",
            "b.ncurve",
        ],
    );
    assert!(again.contains("'fix'"), "{again}");
}

#[test]
fn settings_are_written_and_shown() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let set = |file: &str, more: &[&str]| {
        let mut arguments = vec!["layers", "set", file, "--layer", "breathing", "-o", "out.ncurve"];
        arguments.extend(more);
        succeed(at, &arguments)
    };
    assert!(set(&bramble(), &["--weight", "50%"]).contains("50%"));
    let weight = |name: &str| {
        let scene = scene(&at.join("out.ncurve"));
        let layer = scene.takes[0].layers.iter().find(|layer| layer.name == name).cloned().unwrap();
        (layer.weight.constant(), layer.muted, layer.mode)
    };
    assert_eq!(weight("breathing"), (Some(0.5), false, LayerMode::Additive));
    set(&bramble(), &["--mute", "--rename", "calm", "--mode", "override"]);
    assert_eq!(weight("calm"), (Some(0.8), true, LayerMode::Override));
    let nothing = crate::common::run(at, &["layers", "set", &bramble(), "--layer", "look", "-o", "x.ncurve"]);
    assert_eq!(nothing.status.code(), Some(2), "a set that sets nothing is a wrong use");
    let taken =
        fail(at, &["layers", "set", &bramble(), "--layer", "look", "--rename", "body", "-o", "x.ncurve"]);
    assert!(taken.contains("'body'"), "{taken}");
}

#[test]
fn controllers_are_turned_on_request() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for (form, tolerance) in
        [("curves", (0.01, 0.05)), ("quaternions", (0.01, 0.05)), ("samples", (f64::MAX, f64::MAX))]
    {
        succeed(at, &["convert", &bramble(), "out.ncurve", "--controllers", form]);
        let (before, after) = (scene(bramble().as_ref()), scene(&at.join("out.ncurve")));
        let (numbers, angle) = differences(&before, &after);
        // Layers of partial weight see less of an error, none more.
        assert!(numbers <= tolerance.0 && angle <= 3.0 * tolerance.1, "{form}: {numbers} {angle}");
        let wanted = |controller: &Controller| match form {
            "samples" => matches!(controller, Controller::Samples(_) | Controller::Discrete(_)),
            "curves" => matches!(
                controller,
                Controller::Components(_) | Controller::Euler(_) | Controller::Discrete(_)
            ),
            _ => !matches!(controller, Controller::Euler(_) | Controller::Tcb(_) | Controller::Stack(_)),
        };
        let name = |track: &Track| after.rigs[0].node(track.target.node).unwrap().name.clone();
        for (_, track) in after.takes[0].tracks() {
            // Layers mix these angles one by one, which quaternions cannot.
            if form == "quaternions"
                && ["courier:chest", "courier:arm_l", "courier:forearm_l"].contains(&name(track).as_str())
            {
                continue;
            }
            assert!(wanted(&track.controller), "{form}: {}", track.controller.type_name());
        }
    }
    let printed =
        succeed(at, &["convert", &bramble(), "out.ncurve", "--controllers", "curves", "--only", "*:smile"]);
    assert!(printed.contains("refitted"), "{printed}");
    let after = scene(&at.join("out.ncurve"));
    let smiles = values(&after, "courier:face", "smile", std::iter::once(12.0));
    assert!(matches!(smiles[0], Value::Number(smile) if (smile - 0.9).abs() < 1e-3));
    let tcb =
        after.takes[0].tracks().filter(|(_, track)| matches!(track.controller, Controller::Tcb(_))).count();
    assert_eq!(tcb, 2, "the other two stay");
}

/// What is printed of a layer that is switched off is what comparing finds once it is switched on in both files.
#[test]
fn what_is_switched_off_is_told_where_it_would_be_off() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (stilt, map) = (sample("stilt.ncurve"), sample("bramble_to_stilt.toml"));
    let (stilt, map) = (stilt.to_str().unwrap(), map.to_str().unwrap());
    let carry =
        |file: &str, out: &str| succeed(at, &["carry", file, "--target", stilt, "--map", map, "-o", out]);
    // One that replaces what lies under it comes over as it is, as one that plays does.
    succeed(at, &["layers", "set", &bramble(), "--layer", "reach", "--mute", "-o", "reach.ncurve"]);
    for file in [&bramble()[..], "reach.ncurve"] {
        let said = carry(file, "kept.ncurve");
        assert!(!said.contains("is switched off"), "{file}: {said}");
    }
    // One that adds to a neck which goes onto three joints does not.
    succeed(at, &["layers", "set", &bramble(), "--layer", "look", "--mute", "-o", "look.ncurve"]);
    let said = carry("look.ncurve", "off.ncurve");
    let line = said.lines().find(|line| line.contains("the layer 'look' is switched off")).unwrap();
    let degrees = |text: &str| -> f64 {
        text.split("by ").nth(1).and_then(|rest| rest.split(' ').next()).unwrap().parse().unwrap()
    };
    for (file, out) in [("look.ncurve", "source_on.ncurve"), ("off.ncurve", "result_on.ncurve")] {
        succeed(at, &["layers", "set", file, "--layer", "look", "--unmute", "-o", out]);
    }
    let compared = run(
        at,
        &["compare", "source_on.ncurve", "result_on.ncurve", "--map", map, "--only", "courier:neck:rotation"],
    );
    let compared = String::from_utf8_lossy(&compared.stdout).into_owned();
    // Each of the three joints is off by as much, and the last one in the world by all of it.
    let in_world = degrees(compared.lines().next().unwrap());
    assert!((in_world / 3.0 - degrees(line)).abs() < 0.01, "{line}\n{compared}");
}
