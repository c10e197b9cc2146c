//! Rigs under a root that is sized, as files in other units often have it: what moves goes over as far as it is in the world.

use std::path::Path;

use nimble_curve_second::scene::Scene;
use serde_json::{Value as Json, json};
use tempfile::tempdir;

use crate::common::succeed;

/// A walker under a root of some size, in metres all told: hips `high` above the ground, which go so far, and a foot.
fn walker(size: [f64; 3], high: f64, way: Option<f64>) -> Json {
    let local = |place: [f64; 3]| json!([place[0] / size[0], place[1] / size[1], place[2] / size[2]]);
    let node = |name: &str, parent: Option<&str>, place: Json| {
        let mut node = json!({"name": name, "kind": "joint", "translation": place, "rotation": {"rotate": {"order": "xyz"}}});
        if let Some(parent) = parent {
            node["parent"] = json!(parent);
        }
        node
    };
    let mut root = node("root", None, json!([0, 0, 0]));
    root["scale"] = json!(size);
    let nodes = json!([
        root,
        node("hips", Some("root"), local([0.0, high, 0.0])),
        node("leg_l", Some("hips"), local([0.1, -0.1 * high, 0.0])),
        node("knee_l", Some("leg_l"), local([0.0, -0.4 * high, 0.01])),
        node("foot_l", Some("knee_l"), local([0.0, -0.4 * high, -0.01])),
        node("leg_r", Some("hips"), local([-0.1, -0.1 * high, 0.0])),
        node("knee_r", Some("leg_r"), local([0.0, -0.4 * high, 0.01])),
        node("foot_r", Some("knee_r"), local([0.0, -0.4 * high, -0.01])),
    ]);
    let takes = way.map_or(json!([]), |way| {
        let keys = |a: f64, b: f64| json!({"keys": [{"frame": 1, "value": a, "slope": 0}, {"frame": 25, "value": b, "slope": 0}]});
        let curves = json!([
            keys(0.0, 0.2 / size[0]),
            keys(high / size[1], 0.9 * high / size[1]),
            keys(0.0, way / size[2])
        ]);
        json!([{"name": "goes", "range": [1, 25], "layers": [{"name": "base", "tracks": [
            {"channel": "hips:translation", "controller": {"components": curves}}]}]}])
    });
    json!({"ncurve": 1, "rate": "24", "space": {"metres_per_unit": 1, "up": "y", "handedness": "right"},
        "rigs": [{"name": "walker", "nodes": nodes}], "takes": takes})
}

fn read(path: &Path) -> Scene {
    Scene::read(&std::fs::read_to_string(path).unwrap())
}

#[test]
fn travel_is_what_it_is_in_the_world_whatever_size_the_roots_have() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let write = |name: &str, scene: Json| std::fs::write(at.join(name), scene.to_string()).unwrap();
    let sizes = [[1.0; 3], [0.01; 3], [100.0; 3], [0.5, 2.0, 1.25]];
    for from in sizes {
        for onto in sizes {
            write("source.ncurve", walker(from, 1.0, Some(1.4)));
            write("target.ncurve", walker(onto, 2.0, None));
            let own = [
                "carry",
                "source.ncurve",
                "--target",
                "target.ncurve",
                "-o",
                "made.ncurve",
                "--replace",
                "--strict",
            ];
            succeed(at, &own);
            let (before, after) = (read(&at.join("source.ncurve")), read(&at.join("made.ncurve")));
            for frame in [1.0, 7.5, 13.0, 25.0] {
                let place = |scene: &Scene| scene.world(0, 1, frame).0.translation;
                // Legs are twice as long, and so is the way.
                let off = (place(&after) - 2.0 * place(&before)).length();
                assert!(off < 1e-6, "{from:?} {onto:?} frame {frame}: {off}");
            }
        }
    }
}
