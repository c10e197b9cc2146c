//! Scenes of several rigs: which goes onto which, and a prop that stays in the hand that holds it, by the second evaluator.

use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use serde_json::Value as Json;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

fn path(name: &str) -> String {
    sample(name).display().to_string()
}

fn read(path: &Path) -> Scene {
    Scene::read(&std::fs::read_to_string(path).unwrap())
}

fn node(scene: &Scene, name: &str) -> usize {
    scene.nodes.iter().position(|node| node.name == name).unwrap_or_else(|| panic!("no {name}"))
}

/// A place in the world, in metres, and a turn.
fn at(scene: &Scene, name: &str, frame: i64) -> (DVec3, DQuat) {
    let (world, turn) = scene.world(0, node(scene, name), frame as f64);
    (world.translation * scene.unit, turn)
}

/// The length of an arm, in metres.
fn arm(scene: &Scene, [shoulder, elbow, wrist]: [&str; 3]) -> f64 {
    let place = |name| at(scene, name, 1).0;
    (place(wrist) - place(elbow)).length() + (place(elbow) - place(shoulder)).length()
}

/// Carries the two rigs, as the sample's map has it but for what `change` makes of it.
fn handed(folder: &Path, change: &dyn Fn(String) -> String, more: &[&str]) -> String {
    let map = change(std::fs::read_to_string(sample("handover.toml")).unwrap());
    std::fs::write(folder.join("map.toml"), map).unwrap();
    let (source, target) = (path("handover.ncurve"), path("stilt_satchel.ncurve"));
    let own = ["carry", &source, "--target", &target, "--map", "map.toml", "-o", "handed.ncurve"];
    succeed(folder, &[&own[..], more].concat())
}

#[test]
fn a_prop_stays_in_the_hand_that_holds_it_and_lies_where_that_puts_it() {
    let folder = tempdir().unwrap();
    let said = handed(folder.path(), &|map| map, &[]);
    assert!(said.contains("'parcel' is held by 'R_Pinion' in frames 20:56"), "{said}");
    let (source, result) = (read(&sample("handover.ncurve")), read(&folder.path().join("handed.ncurve")));
    let parts = arm(&result, ["R_Wing", "R_Elbow", "R_Pinion"])
        / arm(&source, ["Moss_RightShoulder", "Moss_RightElbow", "Moss_RightWrist"]);
    // The poses that correspond are not those at rest: how the hands differ there is how they differ at the first frame.
    let hands = (at(&source, "Moss_RightWrist", 1).1, at(&result, "R_Pinion", 1).1);
    for frame in 20..=56 {
        let ((hand, held), (prop, turn)) =
            (at(&source, "Moss_RightWrist", frame), at(&source, "parcel", frame));
        let ((own_hand, own_held), (own, own_turn)) =
            (at(&result, "R_Pinion", frame), at(&result, "satchel", frame));
        let turned = own_held * hands.1.conjugate() * (held * hands.0.conjugate()).conjugate();
        let off = own - own_hand - parts * (turned * (prop - hand));
        assert!(off.length() < 0.6e-3, "frame {frame}: {} mm", off.length() * 1000.0);
        let turned = apart(
            turn * own_turn.conjugate(),
            at(&source, "parcel", 1).1 * at(&result, "satchel", 1).1.conjugate(),
        );
        assert!(turned < 0.11, "frame {frame}: {turned} deg");
    }
    // Where it rests it rests: before it is taken, and after it is put down.
    for (still, frames) in [(20, 1..=20), (56, 56..=73)] {
        for frame in frames {
            let slid = (at(&result, "satchel", frame).0 - at(&result, "satchel", still).0).length();
            assert!(slid < 0.2e-3, "frame {frame}: {} mm", slid * 1000.0);
        }
    }
    // The keys are few where the tie had one on every frame.
    let keys = said.lines().find(|line| line.contains("parcel → satchel")).unwrap();
    assert!(keys.contains("2 of 2"), "{said}");
}

#[test]
fn what_nobody_is_said_to_hold_moves_by_its_own_curves_and_is_not_in_the_hand() {
    let folder = tempdir().unwrap();
    let said = handed(folder.path(), &|map| map.replace("held = \"Moss_RightWrist\"\n", ""), &[]);
    assert!(!said.contains("is held"), "{said}");
    let (source, result) = (read(&sample("handover.ncurve")), read(&folder.path().join("handed.ncurve")));
    let travel = |frame| (at(&source, "parcel", frame).0, at(&result, "satchel", frame).0);
    let factor = travel(1).1.length() / travel(1).0.length();
    for frame in 1..=73 {
        let (own, other) = travel(frame);
        assert!((own * factor - other).length() < 1e-4, "frame {frame}: {own} {other}");
    }
    // The same said of the node does the same.
    let by_node = |map: String| {
        let map = map.replace("held = \"Moss_RightWrist\"\n", "");
        map.replace("parcel = \"satchel\"", "parcel = { to = \"satchel\", held = \"Moss_RightWrist\" }")
    };
    let said = handed(folder.path(), &by_node, &[]);
    assert!(said.contains("'parcel' is held by 'R_Pinion' in frames 20:56"), "{said}");
}

#[test]
fn each_rig_goes_its_own_way_and_is_told_by_itself() {
    let folder = tempdir().unwrap();
    let said = handed(folder.path(), &|map| map, &["--ledger", "ledger.json"]);
    for line in [
        "26 nodes of 'stilt' have partners",
        "2 nodes of 'satchel' have partners",
        "(as of the rig that walks)",
    ] {
        assert!(said.contains(line), "{line}: {said}");
    }
    let ledger: Json =
        serde_json::from_str(&std::fs::read_to_string(folder.path().join("ledger.json")).unwrap()).unwrap();
    let rigs: Vec<&str> =
        ledger["parts"].as_array().unwrap().iter().map(|part| part["rig"].as_str().unwrap()).collect();
    assert!(rigs.contains(&"moss → stilt") && rigs.contains(&"parcel → satchel"), "{rigs:?}");
    let (source, result) = (read(&sample("handover.ncurve")), read(&folder.path().join("handed.ncurve")));
    // The lid opens as it did, and the arm turns as it did, relative to the first frame.
    for (own, other) in
        [("lid", "flap"), ("Moss_RightShoulder", "R_Wing"), ("Moss_Head", "Skull"), ("Moss_Hips", "Pelvis")]
    {
        let first = (at(&source, own, 1).1, at(&result, other, 1).1);
        for frame in 1..=73 {
            let turns = (
                at(&source, own, frame).1 * first.0.conjugate(),
                at(&result, other, frame).1 * first.1.conjugate(),
            );
            assert!(apart(turns.0, turns.1) < 0.21, "{own} at {frame}: {}", apart(turns.0, turns.1));
        }
    }
}

#[test]
fn a_rig_can_be_chosen_on_either_side_and_what_stays_behind_is_no_loss() {
    let folder = tempdir().unwrap();
    let said = handed(folder.path(), &|map| map, &["--rig", "moss", "--strict"]);
    assert!(said.contains("3 not selected") && !said.contains("left out,"), "{said}");
    let result = read(&folder.path().join("handed.ncurve"));
    let rest = at(&result, "satchel", 1).0;
    assert!((1..=73).all(|frame| at(&result, "satchel", frame).0 == rest));
    let said = handed(folder.path(), &|map| map, &["--rig", "par*"]);
    assert!(
        said.contains("'parcel' moves by its own curves: 'Moss_RightWrist', which holds it, stays behind"),
        "{said}"
    );
    // Onto a rig that was not chosen on the other side nothing goes, and that is a loss.
    let said = handed(folder.path(), &|map| map, &["--target-rig", "stilt"]);
    assert!(
        said.contains("left out") && said.contains("rigs of the source without a partner: 'parcel'"),
        "{said}"
    );
    let (source, target) = (path("handover.ncurve"), path("stilt_satchel.ncurve"));
    let said =
        fail(folder.path(), &["carry", &source, "--target", &target, "--rig", "mos", "-o", "x.ncurve"]);
    assert!(
        said.contains("the source has no rig 'mos' (did you mean 'moss'?): it has moss, parcel"),
        "{said}"
    );
    let said = fail(
        folder.path(),
        &["carry", &source, "--target", &target, "--target-rig", "stork", "-o", "x.ncurve"],
    );
    assert!(said.contains("the target has no rig 'stork'"), "{said}");
}

#[test]
fn a_map_pairs_rigs_and_says_who_holds_what() {
    let folder = tempdir().unwrap();
    let (source, target) = (path("handover.ncurve"), path("stilt_satchel.ncurve"));
    let said =
        succeed(folder.path(), &["map", &source, &target, "--json", "-o", "map.toml", "--take-guesses"]);
    let json: Json = serde_json::from_str(&said).unwrap();
    assert_eq!(json["rigs"][0]["source"], "moss");
    assert_eq!(
        json["rigs"][1],
        serde_json::json!({"source": "parcel", "target": "satchel", "held": "Moss_RightWrist"})
    );
    // The map as it is proposed does it.
    let said = succeed(
        folder.path(),
        &["carry", &source, "--target", &target, "--map", "map.toml", "-o", "handed.ncurve"],
    );
    assert!(said.contains("'parcel' is held by 'R_Pinion' in frames 20:56"), "{said}");
}

#[test]
fn two_of_a_kind_go_to_two_of_a_kind_by_what_their_nodes_are_called() {
    let folder = tempdir().unwrap();
    // Two rigs of the same names, the second one elsewhere: as a duel is exported.
    let duel = |names: [&str; 2], swapped: bool| {
        let mut rigs: Vec<String> = names
            .map(|name| {
                format!(
                    r#"{{"name": "{name}", "nodes": [
                    {{"name": "{name}:hips", "kind": "joint", "translation": [0, 90, 0], "rotation": {{"rotate": {{"order": "xyz"}}}}}},
                    {{"name": "{name}:head", "kind": "joint", "parent": "{name}:hips", "translation": [0, 60, 0], "rotation": {{"rotate": {{"order": "xyz"}}}}}}]}}"#
                )
            })
            .to_vec();
        if swapped {
            rigs.reverse();
        }
        rigs.join(", ")
    };
    let whole = |rigs: &str, takes: &str| {
        let text = std::fs::read_to_string(sample("cart.ncurve")).unwrap();
        let mut json: Json = serde_json::from_str(&text).unwrap();
        json["rigs"] = serde_json::from_str(&format!("[{rigs}]")).unwrap();
        json["takes"] = serde_json::from_str(takes).unwrap();
        json.to_string()
    };
    let track = |node: &str, degrees: f64| {
        format!(
            r#"{{"channel": "{node}:rotation", "controller": {{"angles": {{"order": "xyz", "x": {{"keys": [{{"frame": 1, "value": 0, "slope": 0}}, {{"frame": 9, "value": {degrees}, "slope": 0}}]}}, "y": {{"keys": []}}, "z": {{"keys": []}}}}}}}}"#
        )
    };
    let take = format!(
        r#"[{{"name": "duel", "range": [1, 9], "layers": [{{"name": "base", "tracks": [{}, {}]}}]}}]"#,
        track("red:head", 30.0),
        track("blue:head", -50.0)
    );
    std::fs::write(folder.path().join("source.ncurve"), whole(&duel(["red", "blue"], false), &take)).unwrap();
    std::fs::write(folder.path().join("target.ncurve"), whole(&duel(["red", "blue"], true), "[]")).unwrap();
    std::fs::write(folder.path().join("others.ncurve"), whole(&duel(["fox", "hen"], false), "[]")).unwrap();
    let degrees = |file: &str, name: &str| {
        let scene = read(&folder.path().join(file));
        apart(at(&scene, name, 9).1, at(&scene, name, 1).1)
    };
    let carry = |target: &str, more: &[&str]| {
        let own = ["carry", "source.ncurve", "--target", target, "-o", "made.ncurve"];
        let output = run(folder.path(), &[&own[..], more, &["--replace"]].concat());
        assert!(output.status.success(), "{output:?}");
    };
    // By the names of the rigs, whichever stands first.
    carry("target.ncurve", &[]);
    assert!((degrees("made.ncurve", "red:head") - 30.0).abs() < 1e-6);
    assert!((degrees("made.ncurve", "blue:head") - 50.0).abs() < 1e-6);
    // Where nothing tells them apart, the first is the first; a map says otherwise.
    carry("others.ncurve", &[]);
    assert!((degrees("made.ncurve", "fox:head") - 30.0).abs() < 1e-6);
    let map = "[[rigs]]\nfrom = \"red\"\nto = \"hen\"\n[[rigs]]\nfrom = \"blue\"\nto = \"fox\"\n";
    std::fs::write(folder.path().join("crossed.toml"), map).unwrap();
    carry("others.ncurve", &["--map", "crossed.toml"]);
    assert!((degrees("made.ncurve", "fox:head") - 50.0).abs() < 1e-6);
    assert!((degrees("made.ncurve", "hen:head") - 30.0).abs() < 1e-6);
    // And what it says of nodes is enough.
    std::fs::write(folder.path().join("nodes.toml"), "[nodes]\n\"red:head\" = \"hen:head\"\n").unwrap();
    carry("others.ncurve", &["--map", "nodes.toml"]);
    assert!((degrees("made.ncurve", "hen:head") - 30.0).abs() < 1e-6);
    assert!((degrees("made.ncurve", "fox:head") - 50.0).abs() < 1e-6);
}

#[test]
fn maps_that_cannot_be_meant_are_refused() {
    let folder = tempdir().unwrap();
    let (source, target) = (path("handover.ncurve"), path("stilt_satchel.ncurve"));
    for (map, said) in [
        ("[[rigs]]\nfrom = \"mouse\"\nto = \"stilt\"\n", "the source has no rig 'mouse'"),
        ("[[rigs]]\nfrom = \"moss\"\nto = \"stork\"\n", "the target has no rig 'stork'"),
        (
            "[[rigs]]\nfrom = \"moss\"\nto = \"stilt\"\n[[rigs]]\nfrom = \"parcel\"\nto = \"stilt\"\n",
            "one of them is in another pair, too",
        ),
        (
            "[[rigs]]\nfrom = \"moss\"\nto = \"stilt\"\n[[rigs]]\nfrom = \"parcel\"\nto = \"satchel\"\n[nodes]\nlid = \"Skull\"\n",
            "the map pairs 'lid' of the rig 'parcel' with 'Skull' of the rig 'stilt', and these two are no pair",
        ),
        (
            "[[rigs]]\nfrom = \"moss\"\nto = \"stilt\"\n[[rigs]]\nfrom = \"parcel\"\nto = \"satchel\"\nheld = \"Moss_Tail\"\n[nodes]\nparcel = \"satchel\"\nMoss_Head = \"Skull\"\n",
            "there is no node 'Moss_Tail'",
        ),
        (
            "[[rigs]]\nfrom = \"moss\"\nto = \"stilt\"\n[[rigs]]\nfrom = \"parcel\"\nto = \"satchel\"\nheld = \"Moss_LeftToe\"\n[nodes]\nparcel = \"satchel\"\nMoss_Head = \"Skull\"\n",
            "'Moss_LeftToe' is to hold something, or is reached for, and has no partner in the target",
        ),
        ("[[rigs]]\nfrom = \"moss\"\nonto = \"stilt\"\n", "onto"),
    ] {
        std::fs::write(folder.path().join("map.toml"), map).unwrap();
        let line = fail(
            folder.path(),
            &["carry", &source, "--target", &target, "--map", "map.toml", "-o", "handed.ncurve"],
        );
        assert!(line.contains(said), "{map}: {line}");
    }
    assert!(!folder.path().join("handed.ncurve").exists());
}

#[test]
fn a_hand_that_reaches_stands_beside_the_chest_as_it_did_in_parts_of_the_arm() {
    let folder = tempdir().unwrap();
    let reaching = |map: String| {
        map.replace(
            "Moss_RightWrist = \"R_Pinion\"",
            "Moss_RightWrist = { to = \"R_Pinion\", reach = \"Moss_Chest3\" }",
        )
    };
    let source = read(&sample("handover.ncurve"));
    let own_arm = ["R_Wing", "R_Elbow", "R_Pinion"];
    let off = |result: &Scene| -> Vec<(f64, f64)> {
        let length = arm(result, own_arm);
        let parts = length / arm(&source, ["Moss_RightShoulder", "Moss_RightElbow", "Moss_RightWrist"]);
        let chests = (at(&source, "Moss_Chest3", 1).1, at(result, "Back5", 1).1);
        let of_frame = |frame| {
            let ((chest, turn), hand) =
                (at(&source, "Moss_Chest3", frame), at(&source, "Moss_RightWrist", frame).0);
            let (own_chest, own_turn) = at(result, "Back5", frame);
            let turned = own_turn * chests.1.conjugate() * (turn * chests.0.conjugate()).conjugate();
            let wanted = own_chest + parts * (turned * (hand - chest));
            let far = (wanted - at(result, own_arm[0], frame).0).length();
            (far / length, (at(result, own_arm[2], frame).0 - wanted).length())
        };
        (1..=73).map(of_frame).collect()
    };
    let said = handed(folder.path(), &reaching, &[]);
    assert!(said.contains("'R_Pinion' reaches beside 'Back5'") && said.contains("R_Elbow by "), "{said}");
    let result = read(&folder.path().join("handed.ncurve"));
    let with = off(&result);
    let within: Vec<&(f64, f64)> = with.iter().filter(|(far, _)| *far < 0.95).collect();
    assert!(within.len() > 20, "{with:?}");
    assert!(within.iter().all(|(_, off)| *off < 0.7e-3), "{with:?}");
    // What is farther than the arm is long is reached for as far as it goes.
    assert!(with.iter().all(|(far, off)| *off < 0.03 + (far - 1.0).max(0.0)), "{with:?}");
    // The hand keeps its turn in the world, and the prop stays in it.
    let first = (at(&source, "Moss_RightWrist", 1).1, at(&result, "R_Pinion", 1).1);
    for frame in 1..=73 {
        let turns = (
            at(&source, "Moss_RightWrist", frame).1 * first.0.conjugate(),
            at(&result, "R_Pinion", frame).1 * first.1.conjugate(),
        );
        assert!(apart(turns.0, turns.1) < 0.3, "{frame}: {}", apart(turns.0, turns.1));
    }
    assert!(said.contains("'parcel' is held by 'R_Pinion' in frames 20:56"), "{said}");
    handed(folder.path(), &|map| map, &[]);
    let without = off(&read(&folder.path().join("handed.ncurve")));
    assert!(without.iter().filter(|(_, off)| *off > 0.02).count() > 20, "{without:?}");
    // What a limb cannot do is said.
    for (end, of, said) in [
        ("Moss_RightWrist", "Moss_RightElbow", "reaches for what hangs on its own limb"),
        ("Moss_RightWrist", "Moss_Ear", "there is no node 'Moss_Ear'"),
    ] {
        let map = std::fs::read_to_string(sample("handover.toml")).unwrap();
        let line = map.lines().find(|line| line.starts_with(&format!("{end} = "))).unwrap();
        let to = line.split('"').nth(1).unwrap();
        let map = map.replace(line, &format!("{end} = {{ to = \"{to}\", reach = \"{of}\" }}"));
        std::fs::write(folder.path().join("bad.toml"), map).unwrap();
        let (source, target) = (path("handover.ncurve"), path("stilt_satchel.ncurve"));
        let line = run(
            folder.path(),
            &["carry", &source, "--target", &target, "--map", "bad.toml", "-o", "x.ncurve"],
        );
        let line = String::from_utf8(line.stderr).unwrap();
        assert!(line.contains(said), "{end}: {line}");
    }
}

/// Two walkers below the root of one file, as formats without rigs give them; legs so many times as long.
fn two_walkers(names: [&str; 2], legs: [f64; 2], walks: bool) -> Json {
    let (mut nodes, mut tracks) = (Vec::new(), Vec::new());
    for (name, long) in names.into_iter().zip(legs) {
        let mut add = |joint: &str, parent: Option<&str>, at: [f64; 3]| {
            let mut node = serde_json::json!({
                "name": format!("{name}:{joint}"), "kind": "joint", "translation": at,
                "rotation": {"rotate": {"order": "xyz"}},
            });
            if let Some(parent) = parent {
                node["parent"] = serde_json::json!(format!("{name}:{parent}"));
            }
            nodes.push(node);
        };
        add("hips", None, [0.0, 85.0 * long, 0.0]);
        add("spine", Some("hips"), [0.0, 20.0, 0.0]);
        add("head", Some("spine"), [0.0, 40.0, 0.0]);
        for (side, x) in [("l", 10.0), ("r", -10.0)] {
            add(&format!("thigh_{side}"), Some("hips"), [x, 0.0, 0.0]);
            add(&format!("shin_{side}"), Some(&format!("thigh_{side}")), [0.0, -40.0 * long, 0.0]);
            add(&format!("foot_{side}"), Some(&format!("shin_{side}")), [0.0, -40.0 * long, 0.0]);
        }
        let way = if tracks.is_empty() { 100.0 } else { -60.0 };
        let line = |a: f64, b: f64| {
            serde_json::json!({"keys": [
                {"frame": 1, "value": a, "interpolation": "linear"}, {"frame": 25, "value": b, "interpolation": "linear"}]})
        };
        let high = 85.0 * long;
        tracks.push(serde_json::json!({"channel": format!("{name}:hips:translation"),
            "controller": {"components": [line(0.0, 0.0), line(high, high), line(0.0, way)]}}));
        tracks.push(serde_json::json!({"channel": format!("{name}:thigh_l:rotation"),
            "controller": {"angles": {"order": "xyz", "x": line(0.0, way / 4.0)}}}));
    }
    let takes = match walks {
        true => {
            serde_json::json!([{"name": "meet", "range": [1, 25], "layers": [{"name": "base", "tracks": tracks}]}])
        }
        false => serde_json::json!([]),
    };
    serde_json::json!({
        "ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y", "handedness": "right"},
        "rigs": [{"name": "scene", "nodes": nodes}], "takes": takes,
    })
}

#[test]
fn bodies_that_a_file_holds_side_by_side_are_told_apart() {
    let folder = tempdir().unwrap();
    let write =
        |name: &str, scene: Json| std::fs::write(folder.path().join(name), scene.to_string()).unwrap();
    write("source.ncurve", two_walkers(["red", "blue"], [1.0, 1.0], true));
    write("target.ncurve", two_walkers(["blue", "red"], [0.5, 2.0], false));
    for name in ["source", "target"] {
        let (own, glb) = (format!("{name}.ncurve"), format!("{name}.glb"));
        succeed(folder.path(), &["convert", &own, &glb, "--without-extra", "--keep-start"]);
    }
    let looked = |file: &str| {
        let made = Scene::read(&std::fs::read_to_string(folder.path().join(file)).unwrap());
        let (first, last) = made.takes[0].range;
        let place = |name: &str, frame: f64| {
            let (world, turn) = made.world(0, node(&made, name), frame);
            (world.translation * made.unit, turn)
        };
        ["red", "blue"].map(|name| {
            let hips = |frame| place(&format!("{name}:hips"), frame).0;
            let thigh = |frame| place(&format!("{name}:thigh_l"), frame).1;
            ((hips(last) - hips(first)).z, apart(thigh(first), thigh(last)))
        })
    };
    // Each goes onto its own, by its own legs, from our format and from one that knows no rigs.
    for ending in ["ncurve", "glb"] {
        let (source, target) = (format!("source.{ending}"), format!("target.{ending}"));
        let said = succeed(folder.path(), &["carry", &source, "--target", &target, "-o", "made.ncurve"]);
        assert!(said.contains("of 'red:hips' have partners; travel is scaled by 2.000"), "{said}");
        assert!(said.contains("of 'blue:hips' have partners; travel is scaled by 0.500"), "{said}");
        let [red, blue] = looked("made.ncurve");
        assert!((red.0 - 2.0).abs() < 1e-5 && (blue.0 + 0.3).abs() < 1e-5, "{red:?} {blue:?}");
        assert!((red.1 - 25.0).abs() < 0.1 && (blue.1 - 15.0).abs() < 0.1, "{red:?} {blue:?}");
        // Written into the file that they are from, and read again.
        succeed(folder.path(), &["carry", &source, "--target", &target, "-o", "made.glb"]);
        succeed(folder.path(), &["convert", "made.glb", "again.ncurve", "--ignore-extra"]);
        let [red, blue] = looked("again.ncurve");
        assert!((red.0 - 2.0).abs() < 1e-3 && (blue.0 + 0.3).abs() < 1e-3, "{red:?} {blue:?}");
    }
    let json: Json =
        serde_json::from_str(&succeed(folder.path(), &["map", "source.glb", "target.glb", "--json"]))
            .unwrap();
    let pairs: Vec<&str> =
        json["rigs"].as_array().unwrap().iter().map(|rigs| rigs["target"].as_str().unwrap()).collect();
    assert_eq!(pairs, ["red:hips", "blue:hips"]);
    // So it is in a recipe.
    let recipe = "sources = [\"source.glb\"]\noutput = \"out/{stem}.ncurve\"\ntarget = \"target.glb\"\n[[step]]\ndo = \"carry\"\n";
    std::fs::write(folder.path().join("recipe.toml"), recipe).unwrap();
    succeed(folder.path(), &["run", "recipe.toml"]);
    let [red, blue] = looked("out/source.ncurve");
    assert!((red.0 - 2.0).abs() < 1e-5 && (blue.0 + 0.3).abs() < 1e-5, "{red:?} {blue:?}");
}

#[test]
fn a_pose_is_in_the_hand_and_what_is_selected_alone_moves_by_its_own_curves() {
    let folder = tempdir().unwrap();
    let source = read(&sample("handover.ncurve"));
    handed(folder.path(), &|map| map, &[]);
    let whole = read(&folder.path().join("handed.ncurve"));
    let said = handed(folder.path(), &|map| map, &["--pose", "40"]);
    assert!(said.contains("'parcel' is held by 'R_Pinion' in frames 40:40"), "{said}");
    let pose = read(&folder.path().join("handed.ncurve"));
    let frame = pose.takes[0].range.0 as i64;
    let off = (at(&pose, "satchel", frame).0 - at(&whole, "satchel", 40).0).length();
    assert!(off < 2e-3, "{off}");
    for words in [["--only", "parcel*"], ["--except", "Moss_Right*"]] {
        let said = handed(folder.path(), &|map| map, &words);
        assert!(said.contains("'parcel' moves by its own curves") && !said.contains("left out,"), "{said}");
        let result = read(&folder.path().join("handed.ncurve"));
        let factor = at(&result, "satchel", 1).0.length() / at(&source, "parcel", 1).0.length();
        for frame in 1..=73 {
            let apart = at(&source, "parcel", frame).0 * factor - at(&result, "satchel", frame).0;
            assert!(apart.length() < 1e-4, "{words:?} {frame}");
        }
    }
}

#[test]
fn a_held_foot_keeps_its_turn_between_frames_where_its_leg_is_all_but_straight() {
    let folder = tempdir().unwrap();
    let result = |more: &[&str]| {
        let said = handed(folder.path(), &|map| map, &[more, &["--replace"]].concat());
        (read(&folder.path().join("handed.ncurve")), said)
    };
    let ((free, _), (held, said)) = (result(&[]), result(&["--feet", "hold"]));
    assert!(
        said.contains("feet held in") && said.contains("mm too short for where its foot stood"),
        "{said}"
    );
    let turned = |name: &str, frame: f64| {
        let turn = |scene: &Scene| scene.world(0, node(scene, name), frame).1;
        apart(turn(&free), turn(&held))
    };
    let largest =
        |name: &str| (8..=73 * 8).map(|part| turned(name, f64::from(part) / 8.0)).fold(0.0, f64::max);
    // The legs bend, and the feet turn as they did.
    for (knee, foot) in [("L_Knee", "L_Hock"), ("R_Knee", "R_Hock")] {
        let (knee, foot) = (largest(knee), largest(foot));
        assert!(knee > 1.0 && foot < 0.15, "{knee} {foot}");
    }
}
