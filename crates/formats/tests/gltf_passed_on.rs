//! glTF through other programs: what they rename, wrap, reorder and take out, what they do not know, and what they drive
//! that is not read here.

use std::path::Path;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Assume, Format, Loaded, Saving, encode, read_bytes};
use serde_json::{Value, json};

use crate::common::scene;

fn document(scene: &Scene) -> Value {
    let (bytes, _) = encode(scene, Format::Gltf, Path::new("x.gltf"), &Saving::default()).unwrap();
    serde_json::from_slice(&bytes).unwrap()
}

fn load(document: &Value) -> Loaded {
    read_bytes(&serde_json::to_vec(document).unwrap(), Path::new("x.gltf"), Assume::default()).unwrap()
}

/// Renumbers the nodes of a document, last first.
fn turn_round(document: &mut Value) {
    let count = document["nodes"].as_array().unwrap().len();
    let turned = |index: &mut Value| *index = json!(count - 1 - index.as_u64().unwrap() as usize);
    document["nodes"].as_array_mut().unwrap().reverse();
    for node in document["nodes"].as_array_mut().unwrap() {
        node.get_mut("children").and_then(Value::as_array_mut).into_iter().flatten().for_each(turned);
    }
    for (list, part) in [("scenes", "nodes"), ("skins", "joints")] {
        for owner in document[list].as_array_mut().unwrap() {
            owner[part].as_array_mut().unwrap().iter_mut().for_each(turned);
        }
    }
    for animation in document["animations"].as_array_mut().unwrap() {
        for channel in animation["channels"].as_array_mut().unwrap() {
            channel["target"].get_mut("node").map(turned);
        }
    }
}

/// What a common loader and its exporter make of a file between them: names without the signs that their animations use,
/// a node made of the scene, other numbers of nodes, nothing that stands beside the document, its asset or its animations.
fn passed_on(mut document: Value) -> Value {
    for node in document["nodes"].as_array_mut().unwrap() {
        let name = node["name"].as_str().unwrap().replace([':', '.', '/', '[', ']'], "");
        node["name"] = json!(name);
    }
    let wrapper = document["nodes"].as_array().unwrap().len();
    let scene = document["scenes"][0].clone();
    document["nodes"]
        .as_array_mut()
        .unwrap()
        .push(json!({ "name": scene["name"], "children": scene["nodes"], "extras": scene["extras"] }));
    document["scenes"] = json!([{ "name": "another", "nodes": [wrapper] }]);
    for animation in document["animations"].as_array_mut().unwrap() {
        animation.as_object_mut().unwrap().remove("extras");
        animation["channels"]
            .as_array_mut()
            .unwrap()
            .retain(|channel| channel["target"]["path"] != "pointer");
    }
    document.as_object_mut().unwrap().remove("extensionsUsed");
    turn_round(&mut document);
    document
}

#[test]
fn everything_comes_home_through_a_program_that_renames_wraps_and_reorders() {
    for name in ["bramble.ncurve", "cart.ncurve", "rounds.ncurve", "handover.ncurve"] {
        let source = scene(name);
        let loaded = load(&passed_on(document(&source)));
        assert!(loaded.notes.is_empty(), "{name}: {:?}", loaded.notes);
        assert!(loaded.scene == source, "{name}");
    }
}

#[test]
fn a_new_name_or_a_removed_node_lets_go_of_itself_alone() {
    let source = scene("bramble.ncurve");
    let count = |scene: &Scene| scene.takes[0].tracks().count();
    let mut renamed = passed_on(document(&source));
    let nodes = renamed["nodes"].as_array_mut().unwrap();
    nodes.iter_mut().find(|node| node["name"] == "couriertail_03").unwrap()["name"] = json!("plume");
    let loaded = load(&renamed);
    assert_eq!(count(&loaded.scene), count(&source));
    assert_eq!(loaded.scene.takes[0].layers.len(), source.takes[0].layers.len());
    let names =
        |scene: &Scene| -> Vec<String> { scene.rigs[0].nodes().map(|(_, node)| node.name.clone()).collect() };
    let expected: Vec<String> = names(&source)
        .into_iter()
        .map(|name| if name == "courier:tail_03" { "plume".to_owned() } else { name })
        .collect();
    assert_eq!(names(&loaded.scene), expected);
    // The end of the tail goes, and with it what drove it.
    let mut removed = document(&source);
    let gone: Vec<usize> = {
        let nodes = removed["nodes"].as_array().unwrap();
        let is_gone = |node: &Value| node["name"].as_str().unwrap().starts_with("courier:tail_03");
        (0..nodes.len()).filter(|&at| is_gone(&nodes[at])).collect()
    };
    for node in removed["nodes"].as_array_mut().unwrap() {
        let children = node.get_mut("children").and_then(Value::as_array_mut);
        let is_empty = children.is_some_and(|children| {
            children.retain(|child| !gone.contains(&(child.as_u64().unwrap() as usize)));
            children.is_empty()
        });
        if is_empty {
            node.as_object_mut().unwrap().remove("children");
        }
    }
    let is_gone = |node: &Value| node.as_u64().is_some_and(|node| gone.contains(&(node as usize)));
    removed["animations"][0]["channels"]
        .as_array_mut()
        .unwrap()
        .retain(|channel| !is_gone(&channel["target"]["node"]));
    removed["skins"] = json!([]);
    for &at in &gone {
        removed["nodes"][at] = json!({ "name": "nothing" });
    }
    let loaded = load(&removed);
    let (id, _) = source.rigs[0].nodes().find(|(_, node)| node.name == "courier:tail_03").unwrap();
    let of_tail = source.takes[0].tracks().filter(|(_, track)| track.target.node == id).count();
    assert!(of_tail > 0 && gone.len() == 1, "{of_tail} {gone:?}");
    assert_eq!(loaded.scene.takes[0].layers.len(), source.takes[0].layers.len());
    assert_eq!(count(&loaded.scene), count(&source) - of_tail, "{:?}", loaded.notes);
}

/// A file with what is read and what is not: a pointer to a node, one to a number of it, one to a material.
fn with_pointers() -> Value {
    let numbers: Vec<u8> = [0.0_f32, 1.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 0.25, 0.75]
        .iter()
        .flat_map(|n| n.to_le_bytes())
        .collect();
    let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &numbers);
    let pointer =
        |to: &str| json!({ "path": "pointer", "extensions": { "KHR_animation_pointer": { "pointer": to } } });
    json!({
        "asset": { "version": "2.0" },
        "extensionsUsed": ["KHR_animation_pointer", "EXT_unheard_of"],
        "extensionsRequired": ["EXT_unheard_of"],
        "buffers": [{ "byteLength": numbers.len(), "uri": format!("data:;base64,{data}") }],
        "bufferViews": [{ "buffer": 0, "byteLength": numbers.len() }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR", "min": [0.0], "max": [1.0] },
            { "bufferView": 0, "byteOffset": 8, "componentType": 5126, "count": 2, "type": "VEC3" },
            { "bufferView": 0, "byteOffset": 32, "componentType": 5126, "count": 2, "type": "SCALAR" }
        ],
        "materials": [{ "name": "fur" }],
        "nodes": [{ "name": "vane", "extras": { "gust/s": 0.5, "mine": "kept" } }],
        "scenes": [{ "nodes": [0] }],
        "animations": [{
            "name": "turn",
            "channels": [
                { "sampler": 0, "target": pointer("/nodes/0/translation") },
                { "sampler": 1, "target": pointer("/nodes/0/extras/gust~1s") },
                { "sampler": 1, "target": pointer("/materials/0/pbrMetallicRoughness/roughnessFactor") }
            ],
            "samplers": [{ "input": 0, "output": 1 }, { "input": 0, "output": 2 }]
        }]
    })
}

#[test]
fn pointers_are_read_where_they_drive_what_is_known_and_pass_through_elsewhere() {
    let folder = tempfile::tempdir().unwrap();
    let from = folder.path().join("from.gltf");
    std::fs::write(&from, serde_json::to_vec(&with_pointers()).unwrap()).unwrap();
    let Loaded { scene, notes, .. } = nimble_curve_formats::read(&from, Assume::default()).unwrap();
    let curves = |scene: &Scene, property: &str| -> Vec<f64> {
        let found = scene.takes[0].tracks().find(|(_, track)| track.target.property == property);
        let Controller::Components(curves) = &found.unwrap().1.controller else { panic!("{property}") };
        curves.iter().flat_map(|curve| curve.keys().iter().map(|key| key.value)).collect()
    };
    assert_eq!(curves(&scene, "translation"), [1.0, 4.0, 2.0, 5.0, 3.0, 6.0]);
    assert_eq!(curves(&scene, "gust/s"), [0.25, 0.75]);
    let says = |word: &str| notes.iter().any(|note| note.contains(word));
    assert!(says("'/materials/0/pbrMetallicRoughness/roughnessFactor' is not read"), "{notes:?}");
    assert!(says("needs the extension 'EXT_unheard_of'"), "{notes:?}");
    // Written into the file that it came from, twice.
    let mut base = from;
    for round in 0..2 {
        let out = folder.path().join(format!("out{round}.gltf"));
        let saving = Saving { base: Some(&base), without_extra: true, ..Saving::default() };
        let ledger = nimble_curve_formats::write(&scene, &out, &saving).unwrap();
        assert!(
            ledger.notes.iter().any(|note| note.starts_with("1 channel of the file")),
            "{:?}",
            ledger.notes
        );
        let document: Value = serde_json::from_slice(&std::fs::read(&out).unwrap()).unwrap();
        assert_eq!(document["animations"].as_array().unwrap().len(), 1);
        assert_eq!(document["nodes"][0]["extras"], with_pointers()["nodes"][0]["extras"]);
        let animation = &document["animations"][0];
        let channels = animation["channels"].as_array().unwrap();
        let pointers: Vec<&str> = channels
            .iter()
            .filter_map(|channel| {
                channel.pointer("/target/extensions/KHR_animation_pointer/pointer")?.as_str()
            })
            .collect();
        assert_eq!(
            pointers,
            ["/nodes/0/extras/gust~1s", "/materials/0/pbrMetallicRoughness/roughnessFactor"]
        );
        let kept = &animation["samplers"][channels[2]["sampler"].as_u64().unwrap() as usize];
        let accessor = &document["accessors"][kept["output"].as_u64().unwrap() as usize];
        assert_eq!((&accessor["byteOffset"], &accessor["type"]), (&json!(32), &json!("SCALAR")));
        let back = nimble_curve_formats::read(&out, Assume::default()).unwrap().scene;
        assert_eq!(curves(&back, "gust/s"), [0.25, 0.75]);
        assert_eq!(curves(&back, "translation"), curves(&scene, "translation"));
        base = out;
    }
}

/// A humanoid as the open extension tells it, and an animation of its kind: bones are told, expressions are numbers, and
/// written into the file again they drive what they drove.
#[test]
fn humanoids_are_told_and_their_expressions_are_numbers() {
    let numbers: Vec<u8> =
        [0.0_f32, 1.0, 0.0, 0.0, 0.0, 0.75, 0.0, 0.0].iter().flat_map(|n| n.to_le_bytes()).collect();
    let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &numbers);
    let humanoid = json!({ "humanBones": { "hips": { "node": 0 }, "head": { "node": 1 } } });
    let document = json!({
        "asset": { "version": "2.0" },
        "extensionsUsed": ["VRMC_vrm_animation"],
        "extensionsRequired": ["VRMC_vrm_animation"],
        "extensions": { "VRMC_vrm_animation": {
            "specVersion": "1.0", "humanoid": humanoid,
            "expressions": { "preset": { "happy": { "node": 2 } } }
        } },
        "buffers": [{ "byteLength": numbers.len(), "uri": format!("data:;base64,{data}") }],
        "bufferViews": [{ "buffer": 0, "byteLength": numbers.len() }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR", "min": [0.0], "max": [1.0] },
            { "bufferView": 0, "byteOffset": 8, "componentType": 5126, "count": 2, "type": "VEC3" }
        ],
        "nodes": [{ "name": "J_01", "children": [1] }, { "name": "J_02" }, { "name": "smiler" }],
        "scenes": [{ "nodes": [0, 2] }],
        "animations": [{
            "name": "greet",
            "channels": [{ "sampler": 0, "target": { "node": 2, "path": "translation" } }],
            "samplers": [{ "input": 0, "output": 1 }]
        }]
    });
    let folder = tempfile::tempdir().unwrap();
    let (from, out) = (folder.path().join("greet.vrma.gltf"), folder.path().join("out.gltf"));
    std::fs::write(&from, serde_json::to_vec(&document).unwrap()).unwrap();
    let Loaded { scene, notes, .. } = nimble_curve_formats::read(&from, Assume::default()).unwrap();
    assert!(notes.is_empty(), "{notes:?}");
    let bones: Vec<Option<&str>> = scene.rigs[0].nodes().map(|(_, node)| node.human_bone()).collect();
    assert_eq!(bones, [Some("hips"), Some("head"), None]);
    let values = |scene: &Scene| -> Vec<f64> {
        let (_, track) = scene.takes[0].tracks().next().unwrap();
        assert_eq!(track.target.property, "happy");
        track.controller.curves()[0].keys().iter().map(|key| key.value).collect()
    };
    assert_eq!(values(&scene), [0.0, 0.75]);
    let saving = Saving { base: Some(&from), without_extra: true, ..Saving::default() };
    nimble_curve_formats::write(&scene, &out, &saving).unwrap();
    let written: Value = serde_json::from_slice(&std::fs::read(&out).unwrap()).unwrap();
    assert_eq!(
        written["animations"][0]["channels"][0]["target"],
        json!({ "node": 2, "path": "translation" })
    );
    assert_eq!(values(&nimble_curve_formats::read(&out, Assume::default()).unwrap().scene), [0.0, 0.75]);
    // In a model, the face's numbers are the head's.
    let mut model = document;
    model["extensions"] =
        json!({ "VRMC_vrm": { "humanoid": humanoid, "expressions": { "preset": { "happy": {} } } } });
    let scene = load(&model).scene;
    assert!(scene.rigs[0].nodes().nth(1).unwrap().1.attribute("happy").is_some());
}
