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
fn the_same_list_carries_step_by_step_and_another_one_is_named() {
    let folder = tempdir().unwrap();
    let write =
        |name: &str, scene: Json| std::fs::write(folder.path().join(name), scene.to_string()).unwrap();
    write("source.ncurve", crane(1.0, 6.0, true));
    write("large.ncurve", crane(2.0, 6.0, false));
    write("other.ncurve", crane(2.0, 4.0, false));
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
    // About a pivot elsewhere the same turns are another motion: what cannot come is named.
    let said = carry("other.ncurve", &["--scale", "2"]);
    assert!(
        said.contains("3 left out") && said.contains("the partner's transform is not translation"),
        "{said}"
    );
    let own =
        ["carry", "source.ncurve", "--target", "other.ncurve", "--scale", "2", "--strict", "-o", "x.ncurve"];
    let strict = run(folder.path(), &own);
    assert!(String::from_utf8(strict.stderr).unwrap().contains("3 tracks would be left out"));
}
