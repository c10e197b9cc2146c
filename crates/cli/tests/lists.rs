//! Nodes that turn about pivots, and others whose transform is a list of steps, onto rigs with the same lists.

use std::path::Path;

use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use serde_json::{Value as Json, json};
use tempfile::tempdir;

use crate::common::{run, succeed};

fn read(path: &Path) -> Scene {
    Scene::read(&std::fs::read_to_string(path).unwrap())
}

/// A crane: a mast that turns about a pivot beside it, and an arm that lifts; so many times as large, its pivot so far away.
fn crane(size: f64, pivot: f64, moves: bool) -> Json {
    let at = |place: [f64; 3]| json!(place.map(|part| part * size));
    let pivot = json!([pivot * size, 0.0, 0.0]);
    let mast = json!({"name": "mast", "kind": "joint", "transform": [
        {"name": "translation", "translate": at([0.0, 10.0, 0.0])},
        {"name": "pivot", "translate": pivot},
        {"name": "spin y", "rotate_axis": [0, 1, 0, 15]},
        {"name": "spin x", "rotate_axis": [1, 0, 0, 0]},
        {"name": "pivot", "translate": pivot, "inverse": true},
    ]});
    let arm = json!({"name": "arm", "kind": "joint", "parent": "mast", "translation": at([0.0, 40.0, 0.0]),
        "rotation": {"rotate": {"order": "xyz"}}});
    let keys = |a: f64, b: f64| json!({"keys": [{"frame": 1, "value": a, "slope": 0}, {"frame": 13, "value": b, "slope": 0}, {"frame": 25, "value": a, "slope": 0}]});
    let tracks = json!([
        {"channel": "mast:translation", "controller": {"components": [keys(0.0, 8.0), keys(10.0, 10.0), keys(0.0, -3.0)]}},
        {"channel": "mast:\"spin y\"", "controller": {"components": [keys(15.0, 120.0)]}},
        {"channel": "mast:\"spin x\"", "controller": {"components": [keys(0.0, -20.0)]}},
        {"channel": "arm:rotation", "controller": {"angles": {"order": "xyz", "x": keys(0.0, 35.0), "y": {"keys": []}, "z": {"keys": []}}}},
    ]);
    let takes = match moves {
        true => json!([{"name": "swings", "range": [1, 25], "layers": [{"name": "base", "tracks": tracks}]}]),
        false => json!([]),
    };
    json!({"ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y", "handedness": "right"},
        "rigs": [{"name": "crane", "nodes": [mast, arm]}], "takes": takes})
}

#[test]
fn the_same_list_carries_step_by_step() {
    let folder = tempdir().unwrap();
    let write =
        |name: &str, scene: Json| std::fs::write(folder.path().join(name), scene.to_string()).unwrap();
    write("source.ncurve", crane(1.0, 6.0, true));
    write("large.ncurve", crane(2.0, 6.0, false));
    let carry = |target: &str, more: &[&str]| {
        let own = ["carry", "source.ncurve", "--target", target, "-o", "made.ncurve"];
        succeed(folder.path(), &[&own[..], more].concat())
    };
    let said = carry("large.ncurve", &["--strict", "--scale", "2"]);
    assert!(said.contains("4 tracks: 3 kept, 1 exact; the same"), "{said}");
    let (before, after) =
        (read(&folder.path().join("source.ncurve")), read(&folder.path().join("made.ncurve")));
    for frame in 1..=25 {
        for node in 0..2 {
            let ((a, turn), (b, other)) =
                (before.world(0, node, f64::from(frame)), after.world(0, node, f64::from(frame)));
            assert!((2.0 * a.translation - b.translation).length() < 1e-9, "node {node} frame {frame}");
            assert!(apart(turn, other) < 1e-5, "node {node} frame {frame}");
        }
    }
}

/// How far the mast of a result is from where it should be, and how far it and the arm are from how they should turn, at eighths of
/// frames: as far from its rest as the source's, so many times as far.
fn distance(folder: &Path, (source, target): (&str, &str), size: f64) -> (f64, f64) {
    let [before, after] = [source, "made.ncurve"].map(|name| read(&folder.join(name)));
    let at_rest = |name: &str| {
        let mut scene: Json =
            serde_json::from_str(&std::fs::read_to_string(folder.join(name)).unwrap()).unwrap();
        scene["takes"] =
            json!([{"name": "still", "range": [1, 2], "layers": [{"name": "base", "tracks": []}]}]);
        Scene::read(&scene.to_string())
    };
    let (before_rest, rest) = (at_rest(source), at_rest(target));
    let still = |scene: &Scene, node| scene.world(0, node, 1.0);
    let mut worst = (0.0_f64, 0.0_f64);
    for frame in (8..=200).map(|part| f64::from(part) / 8.0) {
        for node in 0..2 {
            let ((a, turn), (b, other)) = (before.world(0, node, frame), after.world(0, node, frame));
            let ((a_rest, from), (b_rest, onto)) = (still(&before_rest, node), still(&rest, node));
            let off = size * (a.translation - a_rest.translation) - (b.translation - b_rest.translation);
            worst.0 = worst.0.max(if node == 0 { off.length() } else { 0.0 });
            worst.1 = worst.1.max(apart(turn * from.conjugate(), other * onto.conjugate()));
        }
    }
    worst
}

/// The crane with plain nodes: what its steps come to at rest.
fn plain(size: f64, moves: bool) -> Json {
    let mut scene = crane(size, 0.0, false);
    let at = [0.0, 10.0 * size, 0.0];
    scene["rigs"][0]["nodes"][0] =
        json!({"name": "mast", "kind": "joint", "translation": at, "rotation": {"rotate": {"order": "zxy"}}});
    if moves {
        let curve = |keys: [f64; 3]| json!({"keys": [{"frame": 1, "value": keys[0], "slope": 0}, {"frame": 10, "value": keys[1], "slope": 0}, {"frame": 25, "value": keys[2], "slope": 0}]});
        let tracks = json!([
            {"channel": "mast:translation", "controller": {"components": [curve([0.0, 4.0, 1.0]), curve([10.0, 11.0, 10.0]), curve([0.0, 0.0, 2.0])]}},
            {"channel": "mast:rotation", "controller": {"angles": {"order": "zxy", "x": curve([0.0, 30.0, -10.0]), "y": curve([0.0, 140.0, 300.0]), "z": {"keys": []}}}},
        ]);
        scene["takes"] =
            json!([{"name": "swings", "range": [1, 25], "layers": [{"name": "base", "tracks": tracks}]}]);
    }
    scene
}

#[test]
fn other_lists_carry_by_what_their_steps_come_to() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let write = |name: &str, scene: Json| std::fs::write(at.join(name), scene.to_string()).unwrap();
    write("source.ncurve", crane(1.0, 6.0, true));
    write("elsewhere.ncurve", crane(2.0, 4.0, false));
    write("plain.ncurve", plain(2.0, false));
    write("moves.ncurve", plain(1.0, true));
    // Its pivot moves the crane as it turns, and the partner's pivot is elsewhere, or it has none.
    for target in ["elsewhere.ncurve", "plain.ncurve"] {
        let own = ["carry", "source.ncurve", "--target", target, "--scale", "2", "--replace", "--strict"];
        let said = succeed(at, &[&own[..], &["-o", "made.ncurve"]].concat());
        let (place, turn) = distance(at, ("source.ncurve", target), 2.0);
        // The tolerances are 1 mm, in centimetres, and 0.1 degrees.
        assert!(place < 0.1 && turn < 0.1, "{target}: {place} {turn}");
        assert!(said.contains("refitted"), "{said}");
        let ledger = succeed(at, &[&own[..], &["-o", "made.ncurve", "--json"]].concat());
        for channel in ["mast:translation", "mast:\\\"spin y\\\"", "mast:\\\"spin x\\\""] {
            assert!(ledger.contains(&format!("\"channel\": \"{channel}\"")), "{channel}: {ledger}");
        }
    }
    // From plain nodes onto steps: two axes are enough as long as it turns about these alone.
    write("upright.ncurve", {
        let mut scene = crane(2.0, 4.0, false);
        scene["rigs"][0]["nodes"][0]["transform"][2]["rotate_axis"] = json!([0, 1, 0, 0]);
        scene
    });
    let own = ["carry", "moves.ncurve", "--scale", "2", "-o", "made.ncurve", "--replace", "--target"];
    succeed(at, &[&own[..], &["upright.ncurve", "--strict"]].concat());
    let (place, turn) = distance(at, ("moves.ncurve", "upright.ncurve"), 2.0);
    assert!(place < 0.1 && turn < 0.1, "{place} {turn}");
    // Seen from a pose that is turned about y it turns about z as well, for which there is no step.
    let said = succeed(at, &[&own[..], &["elsewhere.ncurve"]].concat());
    assert!(said.contains("2 tracks left out") && said.contains("it turns about z as well"), "{said}");
    let strict = run(at, &[&own[..], &["elsewhere.ncurve", "--strict"]].concat());
    assert!(String::from_utf8(strict.stderr).unwrap().contains("2 tracks would be left out"));
    // A step that is a matrix says nothing by a place and a turn.
    let mut matrix = crane(2.0, 0.0, false);
    let columns = json!([1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 20, 0, 1]);
    matrix["rigs"][0]["nodes"][0]["transform"] = json!([{"name": "whole", "matrix": columns}]);
    write("matrix.ncurve", matrix);
    let said = succeed(at, &[&own[..], &["matrix.ncurve"]].concat());
    assert!(said.contains("2 tracks left out") && said.contains("no place and one turn"), "{said}");
}

#[test]
fn what_is_kept_as_text_comes_over_as_it_was_sampled() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let write = |name: &str, scene: Json| std::fs::write(at.join(name), scene.to_string()).unwrap();
    let rig = |order: &str, rest: [f64; 3]| {
        json!([{"name": "r", "nodes": [
            {"name": "arm", "kind": "joint", "translation": [0, 1, 0], "rotation": {"rotate": {"order": order, "angles": rest}}},
            {"name": "hand", "kind": "joint", "parent": "arm", "translation": [0, 1, 0], "rotation": {"rotate": {"order": "xyz"}}},
        ]}])
    };
    let scene = |rigs: Json, takes: Json| {
        json!({"ncurve": 1, "rate": "24", "space": {"metres_per_unit": 1, "up": "y", "handedness": "right"},
            "rigs": rigs, "takes": takes})
    };
    let sampled = |kind: &str, row: &dyn Fn(f64) -> [f64; 3]| {
        let rows: Vec<[f64; 3]> = (0..25).map(|frame| row(f64::from(frame))).collect();
        let mut samples = json!({"start": 1, "rate": "24", "kind": kind, "rows": rows});
        if kind == "angles" {
            samples["order"] = json!("xyz");
        }
        json!({"procedural": {"kind": "expression", "text": "sin(time)", "sampled": {"samples": samples}}})
    };
    let tracks = json!([
        {"channel": "arm:rotation", "controller": sampled("angles", &|f| [2.0 * f, 10.0 + f, 5.0 - 0.5 * f])},
        {"channel": "arm:translation", "controller": sampled("vector", &|f| [0.1 * f, 1.0 + 0.02 * f, 0.0])},
    ]);
    let takes = json!([{"name": "sways", "range": [1, 25], "layers": [{"name": "base", "tracks": tracks}]}]);
    write("source.ncurve", scene(rig("xyz", [0.0; 3]), takes));
    write("target.ncurve", scene(rig("zyx", [20.0, 30.0, 40.0]), json!([])));
    let own = [
        "carry",
        "source.ncurve",
        "--target",
        "target.ncurve",
        "--scale",
        "2",
        "--strict",
        "--match-poses",
        "off",
        "-o",
        "made.ncurve",
    ];
    let said = succeed(at, &own);
    assert!(said.contains("arm:rotation, arm:translation came over as it was sampled"), "{said}");
    let (place, turn) = distance(at, ("source.ncurve", "target.ncurve"), 2.0);
    assert!(place < 1e-6 && turn < 0.02, "{place} {turn}");
}
