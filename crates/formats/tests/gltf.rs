//! glTF: what goes in comes back, what others changed wins, and broken files say what is wrong.

use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Interpolation, Key, Ticks};
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_formats::{Assume, Format, Saving, encode, read_bytes};
use serde_json::{Value, json};

use crate::common::{apart, scene, through};

#[test]
fn with_extra_data_everything_comes_back() {
    for name in ["bramble.ncurve", "stilt.ncurve", "cart.ncurve"] {
        let scene = scene(name);
        for format in [Format::Glb, Format::Gltf] {
            assert!(through(&scene, format, false) == scene, "{name}");
        }
    }
}

#[test]
fn without_extra_data_the_motion_comes_back_within_the_tolerance() {
    for (name, take) in [("bramble.ncurve", "greet"), ("cart.ncurve", "quay")] {
        let scene = scene(name);
        let (distance, angle) = apart(&scene, &through(&scene, Format::Glb, true), take);
        // The tolerance is for each joint; down a chain of a dozen it adds up.
        assert!(angle.to_degrees() < 0.35, "{name}: {} degrees", angle.to_degrees());
        assert!(distance < 0.004, "{name}: {distance} m");
        assert!(angle > 0.0, "{name}: rotations as quaternions cannot be this exact");
    }
}

#[test]
fn a_capture_keeps_every_sample_to_single_precision() {
    let scene = scene("bramble_wade.bvh");
    let back = through(&scene, Format::Glb, true);
    let (distance, angle) = apart(&scene, &back, &scene.takes[0].name);
    assert!(distance < 1e-6 && angle < 1e-5, "{distance} m, {angle} rad");
    let samples =
        |scene: &Scene| scene.takes[0].tracks().filter(|(_, t)| t.controller.sample_count() > 0).count();
    assert_eq!(samples(&back), samples(&scene));
    // The extra data has everything but the samples, and those in the order in which they were.
    let (bytes, _) = encode(&scene, Format::Glb, Path::new("x"), &Saving::default()).unwrap();
    let (plain, _) =
        encode(&scene, Format::Glb, Path::new("x"), &Saving { without_extra: true, ..Saving::default() })
            .unwrap();
    assert!(bytes.len() < plain.len() + 40_000, "{} beside {}", bytes.len(), plain.len());
    let back = through(&scene, Format::Glb, false);
    assert!(back.rigs == scene.rigs && back.space == scene.space);
    let close = |a: &Track, b: &Track| match (&a.controller, &b.controller) {
        (Controller::Samples(a), Controller::Samples(b)) => {
            let near = |(a, b): (&f64, &f64)| (a - b).abs() < 1e-4 * (1.0 + a.abs());
            a.kind == b.kind
                && a.rate == b.rate
                && a.start == b.start
                && a.values.iter().zip(&b.values).all(near)
        }
        (a, b) => a == b,
    };
    assert!(
        back.takes[0]
            .tracks()
            .zip(scene.takes[0].tracks())
            .all(|((_, a), (_, b))| a.target == b.target && close(a, b))
    );
}

fn moving(curves: Vec<Curve>, first: Ticks, last: Ticks) -> Scene {
    let mut rig = Rig::new("cart");
    let node = Node::new("parcel", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    let id = rig.add(None, node).unwrap();
    rig.node_mut(id).unwrap().transform[1].value = OpValue::Orient(DQuat::IDENTITY);
    let target = Target { rig: 0, node: id, property: "translation".into() };
    let take = Take {
        name: "slide".into(),
        folder: None,
        range: TimeRange::new(first, last),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(vec![Track { target, controller: Controller::Components(curves) }])],
    };
    Scene {
        rate: FrameRate::FPS_24,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![take],
    }
}

#[test]
fn holds_lines_jumps_and_cubics_are_exact_where_single_precision_is() {
    let at = |frame| FrameRate::FPS_24.ticks(frame);
    let x = Curve::new(vec![
        Key::new(at(-6), 1.0).with_interpolation(Interpolation::Hold).with_slope(0.0),
        Key::new(at(6), 3.0).with_interpolation(Interpolation::Linear).with_slope(0.0),
        Key { value_before: Some(0.5), ..Key::new(at(12), 2.0).with_slopes(0.0, 8.0) },
        Key::new(at(30), -1.5).with_slope(0.25),
    ]);
    let y = Curve::new(vec![Key::new(at(0), 0.0).with_slope(0.0), Key::new(at(18), 1.0).with_slope(0.0)]);
    let curves = vec![x.unwrap(), y.unwrap(), Curve::default()];
    let source = moving(curves.clone(), at(-6), at(30));
    let back = through(&source, Format::Glb, true);
    let Controller::Components(made) = &back.takes[0].layers[0].tracks[0].controller else { panic!() };
    for (component, curve) in curves.iter().enumerate() {
        for half in -14..66 {
            // Beside the jump, not on it: there the hair's breadth of single precision lies.
            let time = (f64::from(half) * 0.5 + 0.01) * FrameRate::FPS_24.ticks_per_frame();
            let (expected, found) =
                (curve.value_at(time).unwrap_or(0.0), made[component].value_at(time).unwrap());
            assert!(
                (expected - found).abs() < 3e-7 * (1.0 + expected.abs()),
                "{component} {half}: {expected} {found}"
            );
        }
    }
    let keys = made[0].keys();
    let times: Vec<Ticks> = keys.iter().map(|key| key.time).collect();
    assert_eq!(times, [-6, 0, 6, 12, 18, 30].map(at), "the union of both curves' keys, and nothing else");
    assert_eq!(keys[1].interpolation, Interpolation::Hold);
    assert_eq!(keys[3].value_before, Some(0.5));
}

/// The JSON of a binary file, its extra data included, and its binary chunk.
fn opened(bytes: &[u8]) -> (Value, Vec<u8>) {
    let length = u32::from_le_bytes(bytes[12..16].try_into().unwrap()) as usize;
    (serde_json::from_slice(&bytes[20..20 + length]).unwrap(), bytes[28 + length..].to_vec())
}

fn closed(document: &Value, binary: &[u8]) -> Vec<u8> {
    let mut json = serde_json::to_vec(document).unwrap();
    json.resize(json.len().next_multiple_of(4), b' ');
    let mut bytes = b"glTF\x02\0\0\0".to_vec();
    bytes.extend(((28 + json.len() + binary.len()) as u32).to_le_bytes());
    bytes.extend((json.len() as u32).to_le_bytes());
    bytes.extend(b"JSON");
    bytes.extend(&json);
    bytes.extend((binary.len() as u32).to_le_bytes());
    bytes.extend(b"BIN\0");
    bytes.extend(binary);
    bytes
}

#[test]
fn curves_that_another_program_changed_win_and_the_rest_is_restored() {
    let source = scene("bramble.ncurve");
    let (bytes, _) = encode(&source, Format::Glb, Path::new("x"), &Saving::default()).unwrap();
    let (document, mut binary) = opened(&bytes);
    let node =
        |name: &str| document["nodes"].as_array().unwrap().iter().position(|n| n["name"] == name).unwrap();
    let hips = node("courier:hips");
    let animation = &document["animations"][0];
    let channel = (animation["channels"].as_array().unwrap().iter())
        .find(|channel| channel["target"]["node"] == hips && channel["target"]["path"] == "translation");
    let sampler = &animation["samplers"][channel.unwrap()["sampler"].as_u64().unwrap() as usize];
    let accessor = &document["accessors"][sampler["output"].as_u64().unwrap() as usize];
    let view = &document["bufferViews"][accessor["bufferView"].as_u64().unwrap() as usize];
    let start = view["byteOffset"].as_u64().unwrap() as usize;
    // The first value of a cubic stands behind its slope.
    binary[start + 12..start + 16].copy_from_slice(&7.5_f32.to_le_bytes());
    let loaded = read_bytes(&closed(&document, &binary), Path::new("x"), Assume::default()).unwrap();
    assert!(
        loaded.notes.iter().any(|note| note.contains("courier:hips:translation") && note.contains("let go"))
    );
    assert!(!loaded.notes.iter().any(|note| note.contains("courier:spine")), "{:?}", loaded.notes);
    let of = |scene: &Scene, name: &str, property: &str| -> Vec<(usize, Controller)> {
        let (id, _) = scene.rigs[0].nodes().find(|(_, node)| node.name == name).unwrap();
        let on_it = |track: &Track| track.target.node == id && track.target.property == property;
        scene.takes[0]
            .tracks()
            .filter(|(_, t)| on_it(t))
            .map(|(layer, t)| (layer, t.controller.clone()))
            .collect()
    };
    assert_eq!(loaded.scene.space, source.space);
    assert_eq!(of(&loaded.scene, "courier:head", "rotation"), of(&source, "courier:head", "rotation"));
    assert!(of(&source, "courier:hips", "translation").len() > 1, "it lies on several layers at first");
    let hips = of(&loaded.scene, "courier:hips", "translation");
    let [(0, Controller::Components(curves))] = hips.as_slice() else { panic!("{hips:?}") };
    // Metres with y up there, centimetres with z up here.
    assert!(curves.iter().any(|curve| curve.keys().iter().any(|key| (key.value.abs() - 750.0).abs() < 1e-3)));
}

#[test]
fn a_take_that_another_program_added_joins_the_restored_ones() {
    let source = scene("cart.ncurve");
    let (bytes, _) = encode(&source, Format::Glb, Path::new("x"), &Saving::default()).unwrap();
    let (mut document, binary) = opened(&bytes);
    let mut more = document["animations"][0].clone();
    more["name"] = json!("again");
    document["animations"].as_array_mut().unwrap().push(more);
    let loaded = read_bytes(&closed(&document, &binary), Path::new("x"), Assume::default()).unwrap();
    assert_eq!(loaded.scene.takes.len(), 2);
    assert!(loaded.scene.takes[0] == source.takes[0]);
    let mut renamed = loaded.scene.clone();
    renamed.takes[1].name.clone_from(&source.takes[0].name);
    renamed.takes[1].range = source.takes[0].range;
    renamed.takes.remove(0);
    let (distance, angle) = apart(&source, &renamed, &source.takes[0].name);
    assert!(distance < 0.002 && angle.to_degrees() < 0.3, "{distance} m {} degrees", angle.to_degrees());
}

/// A file with a mesh of two morph targets, a material and an extension, around a joint.
fn with_mesh() -> Value {
    let numbers: Vec<u8> =
        [0.0_f32, 1.0, 2.0].iter().chain(&[0.25; 9]).flat_map(|n| n.to_le_bytes()).collect();
    let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &numbers);
    json!({
        "asset": { "version": "2.0", "generator": "a test" },
        "extensionsUsed": ["EXT_made_up"],
        "extensions": { "EXT_made_up": { "keeps": [1, 2, 3] } },
        "buffers": [{ "byteLength": 48, "uri": format!("data:application/octet-stream;base64,{data}") }],
        "bufferViews": [{ "buffer": 0, "byteLength": 12 }, { "buffer": 0, "byteOffset": 12, "byteLength": 36 }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 3, "type": "SCALAR", "min": [0.0], "max": [2.0] },
            { "bufferView": 1, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0.25, 0.25, 0.25], "max": [0.25, 0.25, 0.25] }
        ],
        "materials": [{ "name": "fur" }],
        "meshes": [{
            "primitives": [{ "attributes": { "POSITION": 1 }, "targets": [{ "POSITION": 1 }, { "POSITION": 1 }] }],
            "extras": { "targetNames": ["smile", "blink"] }
        }],
        "nodes": [
            { "name": "hips", "children": [1], "translation": [0.0, 1.0, 0.0] },
            { "name": "face", "mesh": 0 }
        ],
        "scenes": [{ "nodes": [0] }],
        "scene": 0
    })
}

#[test]
fn writing_into_a_file_keeps_all_but_its_animations() {
    let folder = tempfile::tempdir().unwrap();
    let base = folder.path().join("character.gltf");
    std::fs::write(&base, serde_json::to_vec(&with_mesh()).unwrap()).unwrap();
    let mut scene = nimble_curve_formats::read(&base, Assume::default()).unwrap().scene;
    let names: Vec<&str> =
        scene.rigs[0].nodes().flat_map(|(_, node)| node.attributes.iter().map(|a| a.name.as_str())).collect();
    assert_eq!(names, ["smile", "blink"]);
    let key = |frame, value| Key::new(FrameRate::FPS_24.ticks(frame), value).with_slope(0.0);
    let curve = Curve::new(vec![key(0, 0.0), key(12, 1.0)]).unwrap();
    let (hips, face) = (NodeId(0), NodeId(1));
    let track = |node, property: &str, curves| Track {
        target: Target { rig: 0, node, property: property.into() },
        controller: Controller::Components(curves),
    };
    let range = curve.range().unwrap();
    scene.takes.push(Take {
        name: "greet".into(),
        folder: None,
        range,
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(vec![
            track(face, "blink", vec![curve.clone()]),
            track(hips, "translation", vec![curve.clone(), Curve::default(), Curve::default()]),
        ])],
    });
    scene.rate = FrameRate::FPS_24;
    let mut sizes = Vec::new();
    let mut from = base.clone();
    for (round, ending) in ["gltf", "glb", "gltf", "glb"].into_iter().enumerate() {
        let out = folder.path().join(format!("out{round}.{ending}"));
        let saving = Saving { base: Some(&from), without_extra: true, ..Saving::default() };
        let ledger = nimble_curve_formats::write(&scene, &out, &saving).unwrap();
        assert_eq!(ledger.count(Fate::LeftOut), 0);
        let bytes = std::fs::read(&out).unwrap();
        let document: Value =
            if ending == "glb" { opened(&bytes).0 } else { serde_json::from_slice(&bytes).unwrap() };
        for part in ["materials", "meshes", "nodes", "scenes", "extensions", "extensionsUsed"] {
            assert_eq!(document[part], with_mesh()[part], "{part}");
        }
        assert_eq!(document["accessors"][1], with_mesh()["accessors"][1]);
        let back = nimble_curve_formats::read(&out, Assume::default()).unwrap().scene;
        let found = back.takes[0].tracks().find(|(_, track)| track.target.property == "blink").unwrap();
        assert_eq!(found.1.controller, Controller::Components(vec![curve.clone()]));
        sizes.push((
            document["accessors"].as_array().unwrap().len(),
            document["buffers"][0]["byteLength"].clone(),
        ));
        from = out;
    }
    assert!(sizes.iter().all(|size| *size == sizes[0]), "it grows: {sizes:?}");
}

/// A file with one node and one animation whose buffer holds some numbers.
fn animated(sampler: Value, accessors: Value, bytes: &[u8]) -> Value {
    let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, bytes);
    json!({
        "asset": { "version": "2.0" },
        "buffers": [{ "byteLength": bytes.len(), "uri": format!("data:;base64,{data}") }],
        "bufferViews": [{ "buffer": 0, "byteLength": bytes.len() }],
        "accessors": accessors,
        "nodes": [{ "name": "vane" }],
        "animations": [{
            "channels": [{ "sampler": 0, "target": { "node": 0, "path": "rotation" } }],
            "samplers": [sampler]
        }]
    })
}

fn parsed(document: &Value) -> Result<Scene, String> {
    read_bytes(&serde_json::to_vec(document).unwrap(), Path::new("x.gltf"), Assume::default())
        .map(|loaded| loaded.scene)
        .map_err(|error| error.to_string())
}

#[test]
fn sparse_and_normalised_accessors_are_read() {
    let mut bytes: Vec<u8> = [0.0_f32, 0.5].iter().flat_map(|n| n.to_le_bytes()).collect();
    // The second of two quaternions, x y z w, in normalised bytes; and its index.
    bytes.extend([0, 0, 127, 0, 1, 0, 0, 0]);
    let accessors = json!([
        { "bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR" },
        { "componentType": 5120, "normalized": true, "count": 2, "type": "VEC4", "sparse": {
            "count": 1,
            "indices": { "bufferView": 0, "byteOffset": 12, "componentType": 5121 },
            "values": { "bufferView": 0, "byteOffset": 8 } } }
    ]);
    let sampler = json!({ "input": 0, "output": 1, "interpolation": "STEP" });
    let scene = parsed(&animated(sampler, accessors, &bytes)).unwrap();
    let Controller::Quaternion(curve) = &scene.takes[0].layers[0].tracks[0].controller else { panic!() };
    // Zeros where nothing is said are no rotation, which is taken for none.
    assert_eq!(curve.keys[0].value, DQuat::IDENTITY);
    assert_eq!(curve.keys[1].value, DQuat::from_xyzw(0.0, 0.0, 1.0, 0.0));
    assert_eq!(curve.keys[1].time, FrameRate::FPS_24.ticks(12));
}

#[test]
fn broken_files_say_what_is_wrong() {
    let numbers = |all: &[f32]| -> Vec<u8> { all.iter().flat_map(|n| n.to_le_bytes()).collect() };
    let fine = numbers(&[0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]);
    let accessors = json!([
        { "bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR" },
        { "bufferView": 0, "byteOffset": 8, "componentType": 5126, "count": 2, "type": "VEC4" }
    ]);
    let document = animated(json!({ "input": 0, "output": 1 }), accessors, &fine);
    assert!(parsed(&document).is_ok());
    let edits: [(&str, &str, Value, &str); 22] = [
        ("/asset/version", "1.0", json!("1.0"), "asset: this is glTF 1.0: only glTF 2.0"),
        ("/nodes/0", "circle", json!({ "children": [0] }), "circle"),
        ("/nodes/0", "child", json!({ "children": [7] }), "node 0: has a child 7"),
        ("/nodes/0", "mesh", json!({ "mesh": 3 }), "node 0: there is no mesh 3"),
        ("/nodes", "two parents", json!([{ "children": [2] }, { "children": [2] }, {}]), "another parent"),
        ("/accessors/0/count", "count", json!(3), "3 keys need 12 numbers, but there are 8"),
        ("/accessors/0/count", "huge", json!(1_u64 << 60), "accessor 0: its count is larger than the file"),
        (
            "/accessors/1",
            "zeros",
            json!({ "componentType": 5126, "count": 1_u64 << 40, "type": "VEC4" }),
            "huge count",
        ),
        ("/accessors/1/type", "type", json!("VEC9"), "accessor 1: 'VEC9' is not a type"),
        ("/accessors/1/componentType", "kind", json!(1), "accessor 1: has an unknown component type"),
        ("/accessors/0/bufferView", "view", json!(9), "buffer view 9: there is no such view"),
        ("/bufferViews/0/byteLength", "long", json!(4000), "buffer view 0: reaches beyond its buffer"),
        ("/bufferViews/0/buffer", "buffer", json!(4), "buffer 4: there is no such buffer"),
        ("/buffers/0/byteLength", "cut", json!(400), "buffer 0: has 40 bytes, but says 400: it is cut off"),
        ("/buffers/0/uri", "missing", json!("gone.bin"), "buffer 0: './gone.bin' cannot be read"),
        ("/buffers/0/uri", "remote", json!("http://example.org/a.bin"), "only relative names"),
        ("/buffers/0/uri", "base64", json!("data:;base64,!!!"), "its base64 is broken"),
        ("/animations/0/channels/0/sampler", "sampler", json!(5), "there is no sampler 5"),
        ("/animations/0/channels/0/target/node", "node", json!(5), "there is no node 5"),
        ("/animations/0/samplers/0/interpolation", "way", json!("WAVY"), "'WAVY' is not an interpolation"),
        (
            "/animations/0/samplers/0/interpolation",
            "few",
            json!("CUBICSPLINE"),
            "2 keys need 24 numbers, but there are 8",
        ),
        ("/animations/0/name", "number", json!(12), "found the number 12 where a string belongs"),
    ];
    for (pointer, what, value, expected) in edits {
        let mut broken = document.clone();
        match broken.pointer_mut(pointer) {
            Some(place) => *place = value,
            None => {
                let (parent, name) = pointer.rsplit_once('/').unwrap();
                broken.pointer_mut(parent).unwrap()[name] = value;
            }
        }
        let message = parsed(&broken).expect_err(what);
        assert!(message.contains(expected) && !message.contains('\n'), "{what}: {message}");
    }
    for (what, numbers, expected) in [
        (
            "backwards",
            numbers(&[1.0, 0.5, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]),
            "not later than the key before",
        ),
        ("nan", numbers(&[0.0, f32::NAN, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]), "not finite"),
        ("far", numbers(&[0.0, 1e30, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]), "36 days"),
    ] {
        let mut broken = document.clone();
        let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &numbers);
        broken["buffers"][0]["uri"] = json!(format!("data:;base64,{data}"));
        let message = parsed(&broken).expect_err(what);
        assert!(message.contains(expected), "{what}: {message}");
    }
}

#[test]
fn a_binary_file_cut_off_anywhere_is_an_error() {
    let (bytes, _) = encode(&scene("stilt.ncurve"), Format::Glb, Path::new("x"), &Saving::default()).unwrap();
    for length in (4..bytes.len()).step_by(97) {
        assert!(read_bytes(&bytes[..length], Path::new("x.glb"), Assume::default()).is_err(), "{length}");
    }
}

/// The key times and rows of the first sampler, as a reader in double precision has them.
fn raw_sampler(scene: &Scene) -> (Vec<f64>, Vec<f64>, String) {
    let saving = Saving { without_extra: true, keep_start: true, ..Saving::default() };
    let (bytes, _) = encode(scene, Format::Gltf, Path::new("x.gltf"), &saving).unwrap();
    let document: Value = serde_json::from_slice(&bytes).unwrap();
    let uri = document["buffers"][0]["uri"].as_str().unwrap();
    let buffer =
        base64::Engine::decode(&base64::engine::general_purpose::STANDARD, uri.split_once(',').unwrap().1)
            .unwrap();
    let sampler = &document["animations"][0]["samplers"][0];
    let numbers = |accessor: &Value| -> Vec<f64> {
        let view = document["accessors"][accessor.as_u64().unwrap() as usize]["bufferView"].as_u64().unwrap();
        let view = &document["bufferViews"][view as usize];
        let at = view["byteOffset"].as_u64().unwrap_or(0) as usize;
        let bytes = &buffer[at..at + view["byteLength"].as_u64().unwrap() as usize];
        bytes.chunks_exact(4).map(|four| f64::from(f32::from_le_bytes(four.try_into().unwrap()))).collect()
    };
    (
        numbers(&sampler["input"]),
        numbers(&sampler["output"]),
        sampler["interpolation"].as_str().unwrap().to_owned(),
    )
}

#[test]
fn a_jump_has_happened_at_its_frame_for_readers_in_double_precision() {
    for (num, den) in [(24, 1), (30, 1), (30000, 1001)] {
        let rate = FrameRate::new(num, den).unwrap();
        for is_stepped in [true, false] {
            // The parcel is at another place in each of a few hundred frames, and moves in between or not.
            let value = |frame: i64| f64::from((frame * 7 % 11) as i32);
            let key = |frame: i64| match is_stepped {
                true => Key::new(rate.ticks(frame), value(frame))
                    .with_interpolation(Interpolation::Hold)
                    .with_slope(0.0),
                false => Key {
                    value_before: (frame > 0).then(|| value(frame - 1) + 0.5),
                    joined: false,
                    ..Key::new(rate.ticks(frame), value(frame)).with_slopes(0.0, 3.0)
                },
            };
            let curve = Curve::new((0..300).map(key).collect()).unwrap();
            let mut scene =
                moving(vec![curve, Curve::default(), Curve::default()], rate.ticks(0), rate.ticks(299));
            scene.rate = rate;
            let (times, rows, interpolation) = raw_sampler(&scene);
            let is_cubic = interpolation == "CUBICSPLINE";
            assert_eq!(is_cubic, !is_stepped, "{interpolation}");
            for frame in 0..300 {
                let second = frame as f64 / rate.fps();
                let row = times.partition_point(|time| *time <= second) - 1;
                let shown = if is_cubic { rows[row * 9 + 3] } else { rows[row * 3] };
                assert_eq!(
                    shown,
                    value(frame),
                    "{rate} {interpolation} {frame}: {:?} {second}",
                    times.get(row + 1)
                );
            }
        }
    }
}
