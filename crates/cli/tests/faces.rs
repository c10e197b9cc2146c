//! Numbers of faces: other words for the same expression, and a whole of 1 against one of 100.

use nimble_curve_second::scene::{Scene, Value};
use serde_json::{Value as Json, json};
use tempfile::tempdir;

use crate::common::succeed;

/// A head with a face: attributes with their limits, and how far each goes in the take.
fn scene(node: &str, attributes: &[(&str, Option<[f64; 2]>, f64)]) -> Json {
    let listed: Vec<Json> = (attributes.iter())
        .map(|(name, limits, _)| {
            let mut number = json!({ "default": 0.0 });
            if let Some([min, max]) = limits {
                (number["min"], number["max"]) = (json!(min), json!(max));
            }
            json!({ "name": name, "number": number })
        })
        .collect();
    let tracks: Vec<Json> = (attributes.iter().filter(|(.., most)| *most != 0.0))
        .map(|(name, _, most)| {
            let keys = json!([{"frame": 1, "value": 0, "slope": 0}, {"frame": 9, "value": most, "slope": 0}]);
            json!({ "channel": format!("{node}:{name}"), "controller": {"components": [{"keys": keys}]} })
        })
        .collect();
    let takes = match tracks.is_empty() {
        true => json!([]),
        false => json!([{"name": "talk", "range": [1, 9], "layers": [{"name": "base", "tracks": tracks}]}]),
    };
    json!({
        "ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y", "handedness": "right"},
        "rigs": [{"name": "head", "nodes": [
            {"name": "head", "kind": "joint", "translation": [0, 150, 0], "rotation": {"rotate": {"order": "xyz"}}},
            {"name": node, "kind": "control", "parent": "head", "attributes": listed},
        ]}],
        "takes": takes,
    })
}

#[test]
fn expressions_pair_in_other_words_and_wholes_of_one_and_of_a_hundred_are_noticed() {
    let folder = tempdir().unwrap();
    let percent = Some([0.0, 100.0]);
    let source = scene(
        "face",
        &[
            ("jaw_open", None, 0.8),
            ("blink_l", None, 1.0),
            ("blink_r", None, 0.5),
            ("smile", Some([0.0, 1.0]), 0.4),
            ("aa", None, 0.6),
            ("ears", None, 0.3),
        ],
    );
    let target = scene(
        "Mask",
        &[
            ("mouthOpen", percent, 0.0),
            ("eyeCloseLeft", percent, 0.0),
            ("eyeCloseRight", percent, 0.0),
            ("Smile", percent, 0.0),
            ("MTH_A", percent, 0.0),
            ("Frown", percent, 0.0),
        ],
    );
    std::fs::write(folder.path().join("talk.ncurve"), source.to_string()).unwrap();
    std::fs::write(folder.path().join("mask.ncurve"), target.to_string()).unwrap();
    let said = succeed(folder.path(), &["map", "talk.ncurve", "mask.ncurve", "--json", "-o", "map.toml"]);
    let map: Json = serde_json::from_str(&said).unwrap();
    let pairs: Vec<(&str, &str)> = (map["numbers"].as_array().unwrap().iter())
        .map(|pair| (pair["source"].as_str().unwrap(), pair["target"].as_str().unwrap()))
        .collect();
    assert_eq!(
        pairs,
        [
            ("face:jaw_open", "Mask:mouthOpen"),
            ("face:blink_l", "Mask:eyeCloseLeft"),
            ("face:blink_r", "Mask:eyeCloseRight"),
            ("face:smile", "Mask:Smile"),
            ("face:aa", "Mask:MTH_A"),
        ]
    );
    assert_eq!(map["numbers_left"], json!(["face:ears"]));
    assert_eq!(map["target_numbers_left"], json!(["Mask:Frown"]));
    let text = std::fs::read_to_string(folder.path().join("map.toml")).unwrap();
    assert!(text.contains("# attributes of the target without a partner: Mask:Frown"), "{text}");
    let shown = succeed(folder.path(), &["map", "talk.ncurve", "mask.ncurve"]);
    assert!(
        shown.contains("the same expression in other words, scaled by the values that it takes"),
        "{shown}"
    );
    // The map as it is proposed moves them, a hundred for a one.
    succeed(
        folder.path(),
        &["carry", "talk.ncurve", "--target", "mask.ncurve", "--map", "map.toml", "-o", "said.ncurve"],
    );
    let said = Scene::read(&std::fs::read_to_string(folder.path().join("said.ncurve")).unwrap());
    let mask = said.nodes.iter().position(|node| node.name == "Mask").unwrap();
    for (name, most) in [
        ("mouthOpen", 80.0),
        ("eyeCloseLeft", 100.0),
        ("eyeCloseRight", 50.0),
        ("Smile", 40.0),
        ("MTH_A", 60.0),
    ] {
        let Value::Numbers(value) = said.value(0, mask, name, 9.0) else { panic!("{name}") };
        assert!((value[0] - most).abs() < 1e-9, "{name}: {value:?}");
    }
}
