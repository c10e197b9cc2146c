//! Files with some nodes only: an engine gets joints, and they are in the world where they were, by the second evaluator.

use std::path::Path;

use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use serde_json::{Value as Json, json};
use tempfile::tempdir;

use crate::common::{fail, names, sample, scene, succeed};

fn path(name: &str) -> String {
    sample(name).display().to_string()
}

fn read(path: &Path) -> Scene {
    Scene::read(&std::fs::read_to_string(path).unwrap())
}

/// The farthest that a node of the result is from where it was in the world, in metres and degrees, at whole frames.
fn off(before: &Scene, after: &Scene) -> (f64, f64) {
    let (mut place, mut turn) = (0.0_f64, 0.0_f64);
    let (first, last) = after.takes[0].range;
    for (at, node) in after.nodes.iter().enumerate() {
        let own = before.nodes.iter().position(|other| other.name == node.name).unwrap();
        for frame in first as i64..=last as i64 {
            let ((a, turned), (b, other)) =
                (before.world(0, own, frame as f64), after.world(0, at, frame as f64));
            place = place.max((a.translation - b.translation).length() * after.unit);
            turn = turn.max(apart(turned, other));
        }
    }
    (place, turn)
}

/// A control rig: a control above the hips that rests a quarter turn round and moves, a helper between two joints that is still,
/// one that swings, and a pad on the hand.
fn control_rig() -> Json {
    let node = |name: &str, kind: &str, parent: Option<&str>, at: [f64; 3]| {
        let mut node = json!({ "name": name, "kind": kind, "translation": at, "rotation": {"rotate": {"order": "xyz"}} });
        if let Some(parent) = parent {
            node["parent"] = json!(parent);
        }
        node
    };
    let mut ctl = node("ctl_hips", "control", None, [0.0, 90.0, 0.0]);
    ctl["before"] = json!({ "rotate": {"order": "xyz", "angles": [0.0, 90.0, 0.0]} });
    let mut pad = node("ctl_pad", "control", Some("hand"), [0.0, 5.0, 0.0]);
    pad["attributes"] = json!([{ "name": "squeeze", "number": {"default": 0.0} }]);
    let nodes = [
        ctl,
        node("hips", "joint", Some("ctl_hips"), [0.0, 0.0, 0.0]),
        node("still", "locator", Some("hips"), [0.0, 10.0, 2.0]),
        node("chest", "joint", Some("still"), [0.0, 20.0, 0.0]),
        node("swings", "control", Some("chest"), [15.0, 10.0, 0.0]),
        node("arm", "joint", Some("swings"), [10.0, 0.0, 0.0]),
        node("hand", "joint", Some("arm"), [30.0, 0.0, 0.0]),
        pad,
    ];
    let curve = |a: f64, b: f64| json!({ "keys": [{"frame": 1, "value": a, "slope": 0}, {"frame": 13, "value": b, "slope": 0}, {"frame": 25, "value": a, "slope": 0}] });
    let none = json!({ "keys": [] });
    let angles = |x: &Json, y: &Json, z: &Json| json!({ "angles": {"order": "xyz", "x": x, "y": y, "z": z} });
    let tracks = json!([
        { "channel": "ctl_hips:translation", "controller": {"components": [curve(0.0, 40.0), curve(90.0, 80.0), none]} },
        { "channel": "ctl_hips:rotation", "controller": angles(&none, &curve(0.0, 60.0), &none) },
        { "channel": "chest:rotation", "controller": angles(&curve(0.0, 20.0), &none, &none) },
        { "channel": "swings:rotation", "controller": angles(&none, &none, &curve(0.0, -50.0)) },
        { "channel": "arm:rotation", "controller": angles(&none, &curve(0.0, 35.0), &none) },
        { "channel": "ctl_pad:squeeze", "controller": {"components": [curve(0.0, 1.0)]} },
    ]);
    json!({
        "ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y", "handedness": "right"},
        "rigs": [{"name": "puppet", "nodes": nodes}],
        "sets": {"grip": ["hand", "ctl_pad"]},
        "takes": [{"name": "wave", "range": [1, 25], "clips": [{"name": "up", "range": [1, 13]}],
            "layers": [{"name": "base", "tracks": tracks}]}],
    })
}

#[test]
fn joints_alone_are_where_they_were_and_controls_are_gone() {
    let folder = tempdir().unwrap();
    std::fs::write(folder.path().join("puppet.ncurve"), control_rig().to_string()).unwrap();
    let said = succeed(folder.path(), &["convert", "puppet.ncurve", "engine.ncurve", "--nodes", "@joints"]);
    assert!(said.contains("1 not selected") && !said.contains("left out"), "{said}");
    let (before, after) =
        (read(&folder.path().join("puppet.ncurve")), read(&folder.path().join("engine.ncurve")));
    let left: Vec<&str> = after.nodes.iter().map(|node| node.name.as_str()).collect();
    assert_eq!(left, ["hips", "chest", "arm", "hand"]);
    let (place, turn) = off(&before, &after);
    assert!(place < 0.3e-3 && turn < 0.06, "{place} m, {turn} deg");
    let made = scene(&folder.path().join("engine.ncurve"));
    assert_eq!((made.takes[0].clips.len(), made.sets.len()), (1, 1));
    let keys = |node: &str, property: &str| {
        let rig = &made.rigs[0];
        let tracks = made.takes[0].tracks().map(|(_, track)| track);
        let own = |track: &&nimble_curve_core::scene::Track| {
            rig.node(track.target.node).unwrap().name == node && track.target.property == property
        };
        tracks.filter(own).map(|track| track.controller.key_times(made.takes[0].range).len()).sum::<usize>()
    };
    // A control that rests by a quarter turn gives its keys as they are; nothing that is still makes any.
    assert_eq!((keys("hips", "rotation"), keys("hips", "translation"), keys("chest", "rotation")), (3, 3, 3));
    assert_eq!(keys("chest", "translation") + keys("hand", "rotation"), 0);
    // The arm hangs ten centimetres from what swings it, and moves along.
    assert!(keys("arm", "translation") > 2);
}

#[test]
fn nodes_are_named_by_set_pattern_path_and_kind_and_what_is_needed_stays() {
    let folder = tempdir().unwrap();
    let mut rig = control_rig();
    rig["rigs"][0]["nodes"][4]["scale"] = json!([1.0, 1.5, 1.0]);
    std::fs::write(folder.path().join("puppet.ncurve"), rig.to_string()).unwrap();
    let left = |nodes: &[&str]| {
        let own = ["convert", "puppet.ncurve", "some.ncurve", "--tolerance", "0.1deg,0.5mm", "--nodes"];
        let said = succeed(folder.path(), &[&own[..], nodes].concat());
        let (before, after) =
            (read(&folder.path().join("puppet.ncurve")), read(&folder.path().join("some.ncurve")));
        let (place, turn) = off(&before, &after);
        assert!(place < 2e-3 && turn < 0.11, "{nodes:?}: {place} m, {turn} deg");
        (after.nodes.into_iter().map(|node| node.name).collect::<Vec<_>>().join(" "), said)
    };
    // A scale cannot be told by what hangs on it.
    let (names, said) = left(&["@joints"]);
    assert_eq!(names, "hips chest swings arm hand");
    assert!(said.contains("stay, as what hangs on them needs their scale or their steps: swings"), "{said}");
    assert_eq!(left(&["@grip"]).0, "swings arm hand ctl_pad");
    assert_eq!(left(&["h*,chest"]).0, "hips chest swings arm hand");
    assert_eq!(left(&["puppet/ctl_hips/hips"]).0, "hips");
    assert_eq!(left(&["@controls", "chest"]).0, "ctl_hips chest swings arm hand ctl_pad");
    let said = fail(folder.path(), &["convert", "puppet.ncurve", "x.ncurve", "--nodes", "@joint"]);
    assert!(said.contains("there is no set 'joint': did you mean '@joints'?"), "{said}");
    let said = fail(folder.path(), &["convert", "puppet.ncurve", "x.ncurve", "--nodes", "hipz"]);
    assert!(said.contains("no node matches 'hipz': did you mean 'hips'?"), "{said}");
}

#[test]
fn an_authored_rig_loses_its_controls_and_nothing_else() {
    let folder = tempdir().unwrap();
    let said =
        succeed(folder.path(), &["convert", &path("bramble.ncurve"), "engine.ncurve", "--nodes", "@joints"]);
    assert!(said.contains("8 not selected; the same"), "{said}");
    let (before, after) = (read(&sample("bramble.ncurve")), read(&folder.path().join("engine.ncurve")));
    assert_eq!(before.nodes.len() - after.nodes.len(), 1);
    let (place, turn) = off(&before, &after);
    assert!(place < 1e-12 && turn < 1e-5, "{place} m, {turn} deg");
    // Other formats, samples, clips and recipes take the same words.
    succeed(
        folder.path(),
        &["convert", &path("bramble.ncurve"), "engine.glb", "--nodes", "@joints", "--without-extra"],
    );
    let tree = succeed(folder.path(), &["inspect", "engine.glb", "--tree"]);
    assert!(tree.contains("hand_r_end") && !tree.contains("face"), "{tree}");
    succeed(folder.path(), &["bake", &path("bramble.ncurve"), "-o", "baked.ncurve", "--nodes", "@joints"]);
    let baked = read(&folder.path().join("baked.ncurve"));
    assert_eq!(baked.nodes.len(), after.nodes.len());
    assert!(off(&before, &baked).0 < 1e-6);
    let said = succeed(
        folder.path(),
        &[
            "clips",
            "split",
            &path("bramble.ncurve"),
            "-o",
            "clips",
            "--name",
            "{clip}.ncurve",
            "--start",
            "keep",
            "--nodes",
            "@joints",
        ],
    );
    assert!(said.contains("2 files"), "{said}");
    for clip in ["greet", "hand_over"] {
        let part = read(&folder.path().join(format!("clips/{clip}.ncurve")));
        assert_eq!(part.nodes.len(), after.nodes.len());
        let (place, turn) = off(&before, &part);
        assert!(place < 1e-3 && turn < 0.1, "{clip}: {place} m, {turn} deg");
    }
    let recipe = format!(
        "sources = [\"{}\"]\noutput = \"made/{{clip}}.ncurve\"\n[[step]]\ndo = \"clips split\"\nnodes = [\"@joints\"]\n",
        path("bramble.ncurve")
    );
    std::fs::write(folder.path().join("engine.toml"), recipe).unwrap();
    succeed(folder.path(), &["run", "engine.toml"]);
    assert_eq!(names(&folder.path().join("made")), ["greet.ncurve", "hand_over.ncurve"]);
    assert_eq!(read(&folder.path().join("made/greet.ncurve")).nodes.len(), after.nodes.len());
}

#[test]
fn channels_alone_are_baked_unbaked_and_moved_and_all_others_stay() {
    let folder = tempdir().unwrap();
    let file = folder.path().join("puppet.ncurve");
    std::fs::write(&file, control_rig().to_string()).unwrap();
    let before = read(&file);
    let value = |scene: &Scene, node: &str, property: &str, frame: f64| {
        let at = scene.nodes.iter().position(|own| own.name == node).unwrap();
        format!("{:.6?}", scene.value(0, at, property, frame))
    };
    let chosen = ["arm:rotation", "ctl_hips:translation"];
    let others = ["ctl_hips:rotation", "chest:rotation", "swings:rotation", "ctl_pad:squeeze"];
    let same = |after: &Scene, channels: &[&str], by: f64| {
        for channel in channels {
            let (node, property) = channel.rsplit_once(':').unwrap();
            for frame in 5..=20 {
                let frame = f64::from(frame);
                let (own, other) =
                    (value(&before, node, property, frame), value(after, node, property, frame + by));
                assert_eq!(own, other, "{channel} at {frame}");
            }
        }
    };
    let words = ["--only", "arm", "ctl_hips:*", "--except", "ctl_hips:rotation"];
    succeed(
        folder.path(),
        &[&["clips", "shift", "puppet.ncurve", "--by", "-3", "-o", "moved.ncurve"], &words[..]].concat(),
    );
    let moved = read(&folder.path().join("moved.ncurve"));
    same(&moved, &others, 0.0);
    same(&moved, &chosen, -3.0);
    assert_eq!(moved.takes[0].range, (1.0, 25.0));
    // Keys that came to stand outside the range widen it where that is asked for; clips stay.
    let said = succeed(folder.path(), &["clips", "range", "moved.ncurve", "--to-keys", "-o", "wide.ncurve"]);
    assert!(said.contains("'wave' goes over -2:25 now, for 1:25"), "{said}");
    let wide = scene(&folder.path().join("wide.ncurve"));
    assert_eq!(wide.rate.frame(wide.takes[0].clips[0].range.last), 13.0);
    let said = succeed(
        folder.path(),
        &["clips", "range", "moved.ncurve", "--frames", "3:9", "--take", "w*", "-o", "short.ncurve"],
    );
    assert!(said.contains("goes over 3:9 now"), "{said}");
    // Whole takes move by frames, too.
    succeed(folder.path(), &["clips", "shift", "puppet.ncurve", "--by", "2.5", "-o", "later.ncurve"]);
    let later = read(&folder.path().join("later.ncurve"));
    same(&later, &[&chosen[..], &others[..]].concat(), 2.5);
    succeed(folder.path(), &[&["bake", "puppet.ncurve", "-o", "baked.ncurve"], &words[..]].concat());
    let baked = scene(&folder.path().join("baked.ncurve"));
    let sampled = |scene: &nimble_curve_core::scene::Scene| {
        scene.takes[0].tracks().filter(|(_, track)| track.controller.samples().is_some()).count()
    };
    assert_eq!(sampled(&baked), 2);
    succeed(folder.path(), &["bake", "puppet.ncurve", "-o", "all.ncurve"]);
    let own = ["unbake", "all.ncurve", "-o", "sparse.ncurve", "--no-other-tolerances"];
    succeed(folder.path(), &[&own[..], &words[..]].concat());
    let (all, sparse) =
        (scene(&folder.path().join("all.ncurve")), scene(&folder.path().join("sparse.ncurve")));
    assert_eq!((sampled(&all), sampled(&sparse)), (6, 4));
    // What cannot be meant is said.
    let said = fail(
        folder.path(),
        &["clips", "shift", "puppet.ncurve", "--to", "3", "--only", "arm", "-o", "x.ncurve"],
    );
    assert!(said.contains("say by how many frames they move, with --by"), "{said}");
    let said = fail(
        folder.path(),
        &["clips", "shift", &path("bramble.ncurve"), "--by", "3", "--only", "arm_l", "-o", "x.ncurve"],
    );
    assert!(said.contains("layer 'reach' has an animated weight"), "{said}");
}
