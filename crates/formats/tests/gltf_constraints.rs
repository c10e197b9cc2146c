//! Constraints that the open extension for nodes says (*VRMC_node_constraint*), by the formulas of its text.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_core::constraint::{Aim, Constraint, ConstraintKind, Roll, RollAxes, Setting};
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Assume, Loaded, Saving};
use serde_json::{Value, json};
use tempfile::tempdir;

/// How nodes of the document rest beside their parents, but the last one, which is far off.
const RESTS: [[f64; 4]; 5] = [
    [0.1, 0.2, 0.3, 0.9],
    [-0.3, 0.1, 0.5, 0.8],
    [0.2, -0.6, 0.1, 0.7],
    [0.4, 0.4, -0.2, 0.6],
    [0.0, 0.0, 0.0, 1.0],
];

fn rest(index: usize) -> DQuat {
    DQuat::from_array(RESTS[index]).normalize()
}

/// The keys of the source and of the node that is looked at: three each.
fn turns() -> [DQuat; 3] {
    [
        DQuat::from_rotation_x(0.7) * rest(1),
        DQuat::from_rotation_z(2.4) * rest(1),
        DQuat::from_rotation_y(-1.9) * DQuat::from_rotation_x(1.0) * rest(1),
    ]
}

const PLACES: [[f32; 3]; 3] = [[3.0, 1.0, 0.5], [-2.0, 2.0, 1.0], [0.5, -3.0, 2.0]];

/// `root` with `source` and `driven` below it, `driven` with a constraint of a kind; `seen` walks about.
fn document(constraint: &Value) -> Value {
    let mut numbers: Vec<f32> = vec![0.0, 1.0, 2.0];
    numbers.extend(turns().iter().flat_map(|turn| turn.to_array().map(|number| number as f32)));
    numbers.extend(PLACES.iter().flatten());
    let bytes: Vec<u8> = numbers.iter().flat_map(|number| number.to_le_bytes()).collect();
    let data = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &bytes);
    json!({
        "asset": { "version": "2.0" },
        "extensionsUsed": ["VRMC_node_constraint"],
        "buffers": [{ "byteLength": bytes.len(), "uri": format!("data:;base64,{data}") }],
        "bufferViews": [{ "buffer": 0, "byteLength": bytes.len() }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 3, "type": "SCALAR", "min": [0.0], "max": [2.0] },
            { "bufferView": 0, "byteOffset": 12, "componentType": 5126, "count": 3, "type": "VEC4" },
            { "bufferView": 0, "byteOffset": 60, "componentType": 5126, "count": 3, "type": "VEC3" }
        ],
        "nodes": [
            { "name": "root", "children": [1, 2], "rotation": rest(0).to_array(), "translation": [0.2, 0.4, 0.0] },
            { "name": "source", "rotation": rest(1).to_array(), "translation": [1.0, 0.0, 0.0] },
            { "name": "driven", "rotation": rest(2).to_array(), "translation": [0.0, 1.0, 0.3], "children": [3],
              "extensions": { "VRMC_node_constraint": { "specVersion": "1.0", "constraint": constraint } } },
            { "name": "below", "rotation": rest(3).to_array(), "translation": [0.0, 0.5, 0.0] },
            { "name": "seen" }
        ],
        "scenes": [{ "nodes": [0, 4] }],
        "animations": [{
            "name": "turn",
            "channels": [
                { "sampler": 0, "target": { "node": 1, "path": "rotation" } },
                { "sampler": 1, "target": { "node": 4, "path": "translation" } }
            ],
            "samplers": [{ "input": 0, "output": 1 }, { "input": 0, "output": 2 }]
        }]
    })
}

fn load(document: &Value) -> Result<Loaded, String> {
    let folder = tempdir().unwrap();
    let path = folder.path().join("a.gltf");
    std::fs::write(&path, serde_json::to_vec(document).unwrap()).unwrap();
    nimble_curve_formats::read(&path, Assume::default()).map_err(|error| error.to_string())
}

/// The local rotation of the driven node, at its three keys.
fn driven(scene: &Scene) -> [DQuat; 3] {
    let mut evaluator = Evaluator::new(scene, scene.takes.first(), 0).unwrap();
    let at = scene.rigs[0].nodes().position(|(_, node)| node.name == "driven").unwrap();
    let mut pose = Pose::default();
    [0.0, 1.0, 2.0].map(|second| {
        let frame = f64::from(scene.rate.numerator()) / f64::from(scene.rate.denominator()) * second;
        evaluator.pose_at(frame * scene.rate.ticks_per_frame(), &mut pose);
        pose.local_rotation[at]
    })
}

/// By the text of the extension: from where both rest.
fn by_the_text(constraint: &Value) -> [DQuat; 3] {
    let own = rest(2);
    [0, 1, 2].map(|key| {
        let delta = rest(1).conjugate() * turns()[key];
        if let Some(rotation) = constraint.get("rotation") {
            return own.slerp(own * delta, rotation["weight"].as_f64().unwrap_or(1.0));
        }
        if let Some(roll) = constraint.get("roll") {
            let axis = match roll["rollAxis"].as_str().unwrap() {
                "X" => DVec3::X,
                "Y" => DVec3::Y,
                _ => DVec3::Z,
            };
            let in_parent = rest(1) * delta * rest(1).conjugate();
            let in_own = own.conjugate() * in_parent * own;
            let swing = DQuat::from_rotation_arc(axis, in_own * axis);
            let target = own * swing.conjugate() * in_own;
            return own.slerp(target, roll["weight"].as_f64().unwrap_or(1.0));
        }
        let aim = &constraint["aim"];
        let axis = match aim["aimAxis"].as_str().unwrap() {
            "NegativeX" => DVec3::NEG_X,
            "PositiveY" => DVec3::Y,
            _ => DVec3::NEG_Z,
        };
        let parent = DAffine3 { matrix3: DMat3::from_quat(rest(0)), translation: DVec3::new(0.2, 0.4, 0.0) };
        let here = parent.transform_point3(DVec3::new(0.0, 1.0, 0.3));
        let to = (DVec3::from_array(PLACES[key].map(f64::from)) - here).normalize();
        let from = rest(0) * own * axis;
        let arc = DQuat::from_rotation_arc(from, to);
        own.slerp(rest(0).conjugate() * arc * rest(0) * own, aim["weight"].as_f64().unwrap_or(1.0))
    })
}

fn kinds() -> Vec<Value> {
    vec![
        json!({ "rotation": { "source": 1 } }),
        json!({ "rotation": { "source": 1, "weight": 0.35 } }),
        json!({ "roll": { "source": 1, "rollAxis": "X", "weight": 1.0 } }),
        json!({ "roll": { "source": 1, "rollAxis": "Y", "weight": 0.5 } }),
        json!({ "roll": { "source": 1, "rollAxis": "Z", "weight": 0.25 } }),
        json!({ "aim": { "source": 4, "aimAxis": "PositiveY" } }),
        json!({ "aim": { "source": 4, "aimAxis": "NegativeX", "weight": 0.6 } }),
        json!({ "aim": { "source": 4, "aimAxis": "NegativeZ", "weight": 1.0 } }),
    ]
}

fn assert_like(found: [DQuat; 3], wanted: [DQuat; 3], allowed: f64, what: &Value) {
    for (found, wanted) in found.into_iter().zip(wanted) {
        let apart = 2.0 * (1.0 - found.normalize().dot(wanted.normalize()).abs().min(1.0)).sqrt();
        assert!(apart < allowed, "{what}: {found} and {wanted}, {apart}");
    }
}

#[test]
fn nodes_turn_as_the_text_of_the_extension_has_it() {
    for constraint in kinds() {
        let Loaded { scene, notes, .. } = load(&document(&constraint)).unwrap();
        assert!(notes.is_empty(), "{notes:?}");
        assert_eq!(scene.constraints.len(), 1);
        assert_like(driven(&scene), by_the_text(&constraint), 1e-5, &constraint);
    }
}

#[test]
fn what_the_extension_can_say_is_written_and_others_have_curves() {
    let folder = tempdir().unwrap();
    let path = folder.path().join("out.gltf");
    for constraint in kinds() {
        let scene = load(&document(&constraint)).unwrap().scene;
        for without_extra in [false, true] {
            let saving = Saving { without_extra, ..Saving::default() };
            nimble_curve_formats::write(&scene, &path, &saving).unwrap();
            let mut written: Value = serde_json::from_slice(&std::fs::read(&path).unwrap()).unwrap();
            assert_eq!(written["extensionsUsed"], json!(["VRMC_node_constraint"]));
            let nodes = written["nodes"].as_array().unwrap();
            let at = nodes.iter().position(|node| node["name"] == "driven").unwrap();
            let told = &nodes[at]["extensions"]["VRMC_node_constraint"]["constraint"];
            let (kind, own) = constraint.as_object().unwrap().iter().next().unwrap();
            let source = told[kind]["source"].as_u64().unwrap() as usize;
            let name = if kind == "aim" { "seen" } else { "source" };
            assert_eq!(nodes[source]["name"], name, "{told}");
            for part in ["rollAxis", "aimAxis"] {
                assert_eq!(told[kind].get(part), own.get(part), "{told}");
            }
            let weight = |value: &Value| value.get("weight").and_then(Value::as_f64).unwrap_or(1.0);
            assert!((weight(&told[kind]) - weight(own)).abs() < 1e-9);
            let again = nimble_curve_formats::read(&path, Assume::default()).unwrap();
            assert_eq!(again.scene.constraints.len(), 1);
            assert_like(driven(&again.scene), by_the_text(&constraint), 1e-5, &constraint);
            // Who knows nothing of it sees the same.
            written["nodes"][at]["extensions"] = json!({});
            for owner in ["nodes", "scenes"] {
                for part in written[owner].as_array_mut().unwrap() {
                    part.as_object_mut().unwrap().remove("extras");
                }
            }
            std::fs::write(folder.path().join("bare.gltf"), written.to_string()).unwrap();
            let bare =
                nimble_curve_formats::read(&folder.path().join("bare.gltf"), Assume::default()).unwrap();
            assert!(bare.scene.constraints.is_empty());
            assert_like(driven(&bare.scene), by_the_text(&constraint), 2e-3, &constraint);
        }
    }
}

/// What the extension would make something else of stays out of it.
#[test]
fn what_the_extension_cannot_say_is_left_to_the_curves() {
    let folder = tempdir().unwrap();
    let path = folder.path().join("out.gltf");
    let scene = load(&document(&json!({ "rotation": { "source": 1 } }))).unwrap().scene;
    let of = &scene.constraints[0];
    let (node, ConstraintKind::Roll(Roll { source, .. })) = (of.node, &of.kind) else { panic!() };
    let one = || Setting::Constant(1.0);
    let roll = |fraction: f64, axes: Option<RollAxes>| {
        ConstraintKind::Roll(Roll { source: *source, fraction: Setting::Constant(fraction), axes })
    };
    let at = (0, scene.rigs[0].nodes().find(|(_, node)| node.name == "seen").unwrap().0);
    let aim = |axis: DVec3, up| ConstraintKind::Aim(Aim { axis, at, up });
    let leaning = Some((DVec3::Y, nimble_curve_core::constraint::Towards::Direction(DVec3::Y, None)));
    let kinds = [
        roll(-0.5, None),
        roll(1.5, None),
        // The other one turns about another axis.
        roll(0.5, Some(RollAxes::both(DVec3::X))),
        roll(0.5, Some(RollAxes { source: DVec3::X, node: DVec3::new(1.0, 1.0, 0.0) })),
        aim(DVec3::new(1.0, 0.2, 0.0), None),
        aim(DVec3::X, leaning),
    ];
    for kind in kinds {
        let constraint = Constraint { name: String::new(), node, weight: one(), kind };
        let own = Scene { constraints: vec![constraint], ..scene.clone() };
        nimble_curve_formats::write(&own, &path, &Saving::default()).unwrap();
        let written = std::fs::read_to_string(&path).unwrap();
        assert!(!written.contains("VRMC_node_constraint"), "{:?}", own.constraints);
    }
    // Two on one node: by the extension one of them would count for nothing.
    let twice = scene.constraints.iter().chain(&scene.constraints).cloned().collect();
    let own = Scene { constraints: twice, ..scene.clone() };
    nimble_curve_formats::write(&own, &path, &Saving::default()).unwrap();
    assert!(!std::fs::read_to_string(&path).unwrap().contains("VRMC_node_constraint"));
}

#[test]
fn what_cannot_be_is_refused_with_its_node_and_what_counts_for_nothing_is_told() {
    for (constraint, said) in [
        (json!({ "roll": { "source": 1, "rollAxis": "W" } }), "node 2, VRMC_node_constraint: 'W' is no axis"),
        (json!({ "roll": { "source": 77, "rollAxis": "X" } }), "node 77, is not there"),
        (json!({ "roll": { "rollAxis": "X" } }), "names no source"),
        (json!({ "aim": { "source": 4, "aimAxis": "Up" } }), "'Up' is no axis"),
        (json!({ "aim": { "source": 2, "aimAxis": "PositiveX" } }), "its own source"),
        (json!({ "rotation": { "source": 1, "weight": 3 } }), "no number from 0 to 1"),
        (json!({ "rotation": { "source": 1, "weight": "all" } }), "no number from 0 to 1"),
        (json!({ "rotation": { "source": 3 } }), "circle"),
    ] {
        let error = load(&document(&constraint)).map(|loaded| loaded.notes).expect_err("it cannot be");
        assert!(error.contains(said), "{constraint}: {error}");
    }
    let passed = load(&document(&json!({ "spring": { "source": 1 } }))).unwrap();
    assert!(passed.notes.iter().any(|note| note.contains("passed over")), "{:?}", passed.notes);
    // The node has curves of its own.
    let constraint = json!({ "rotation": { "source": 1 } });
    let mut both = document(&constraint);
    let mut own = both["animations"][0]["channels"][0].clone();
    own["target"]["node"] = 2.into();
    both["animations"][0]["channels"].as_array_mut().unwrap().push(own);
    let Loaded { scene, notes, .. } = load(&both).unwrap();
    assert!(notes.iter().any(|note| note.contains("count for nothing")), "{notes:?}");
    assert_like(driven(&scene), by_the_text(&constraint), 1e-5, &constraint);
}
