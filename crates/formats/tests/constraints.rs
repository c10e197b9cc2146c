//! Constraints in files: as they are in our own, solved in others and home again, and let go where what they drive was edited.

use nimble_curve_core::constraint::ConstraintKind;
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_formats::{Assume, Format, Saving, encode, ncurve, read_bytes};

use crate::common::scene;

const SHORT: &str = r#"{"ncurve": 1, "rate": "24", "space": {"metres_per_unit": 0.01, "up": "y"},
 "rigs": [{"name": "rig", "nodes": [{"name": "a"}, {"name": "b", "parent": "a"}, {"name": "c", "parent": "b"}, {"name": "goal",
   "attributes": [{"name": "on", "switch": true}, {"name": "way", "choice": {"options": ["x", "y"], "default": "x"}}]}]}],
 "constraints": [CONSTRAINTS], "takes": []}"#;

fn with(constraints: &str) -> Result<Scene, String> {
    let text = SHORT.replace("CONSTRAINTS", constraints);
    let scene = ncurve::read(&text).map_err(|fault| format!("{fault:?}"))?;
    scene.validate().map_err(|invalid| invalid.to_string())?;
    Ok(scene)
}

#[test]
fn what_cannot_be_worked_out_is_refused_with_its_place() {
    for (constraints, expected) in [
        (r#"{"node": "a"}"#, "give exactly one of"),
        (r#"{"node": "a", "follow": {"sources": []}}"#, "nobody to follow"),
        (r#"{"node": "a", "follow": {"sources": [{"node": "goat"}]}}"#, "there is no node 'goat'"),
        (
            r#"{"node": "a", "follow": {"sources": [{"node": "goal", "weight": "goal:way"}]}}"#,
            "is no number or switch",
        ),
        (
            r#"{"node": "a", "weight": {"attribute": "goal:way", "is": "z"}, "roll": {"source": "c", "fraction": 1, "axis": [1, 0, 0]}}"#,
            "not one of the options",
        ),
        (
            r#"{"node": "a", "weight": {"remaining": "goal:on", "is": "x"}, "roll": {"source": "c", "fraction": 1, "axis": [1, 0, 0]}}"#,
            "give 'remaining', or 'attribute' and 'is'",
        ),
        (
            r#"{"node": "a", "follow": {"sources": [{"node": "goal"}], "parts": ["size"]}}"#,
            "translation, rotation and scale",
        ),
        (r#"{"node": "a", "aim": {"axis": [0, 0, 0], "at": "goal"}}"#, "an axis has no length"),
        (
            r#"{"node": "b", "limb": {"lower": "a", "end": "c", "goal": {"node": "goal"}}}"#,
            "does not hang on its upper one",
        ),
        (
            r#"{"node": "a", "limb": {"lower": "b", "end": "c", "goal": {"node": "goal"}, "slack": 1.5}}"#,
            "slack of 1.5",
        ),
        (
            r#"{"name": "round", "node": "a", "follow": {"sources": [{"node": "goal"}]}}, {"node": "goal", "follow": {"sources": [{"node": "b"}]}}"#,
            "circle",
        ),
        (
            r#"{"node": "a", "couple": {"channel": "rotation", "from": "goal:on", "points": [[0, 1]]}}"#,
            "name one, as rotation.x",
        ),
        (
            r#"{"node": "a", "couple": {"channel": "rotation.x", "from": "goal:on", "points": [[1, 1], [0, 2]]}}"#,
            "have to ascend",
        ),
        (
            r#"{"node": "a", "couple": {"channel": "rotation.x", "from": "a:rotation.x", "points": [[0, 1]]}}"#,
            "driven by itself",
        ),
    ] {
        let said = with(constraints).expect_err(constraints);
        assert!(said.contains(expected), "{constraints}: {said}");
    }
}

#[test]
fn every_field_comes_back_as_it_was() {
    let constraints = r#"
      {"name": "one", "node": "c", "weight": {"attribute": "goal:way", "is": "y"}, "follow": {"sources": [
        {"node": "goal", "weight": "goal:on", "offset": {"position": [1, 2, 3], "turn": [0, 0, 0.6, 0.8], "scale": [1, 2, 1]}},
        {"node": "a", "weight": {"remaining": "goal:on"}}], "parts": ["translation.y", "rotation", "scale.x"]}},
      {"node": "c", "weight": 0.25, "aim": {"axis": [0, 0, 1], "at": "goal", "up": {"axis": [0, 1, 0], "to": {"direction": [0, 1, 0], "node": "a"}}}},
      {"node": "a", "limb": {"lower": "b", "end": "c", "goal": {"node": "goal"}, "pole": {"node": "goal"}, "bend": "other",
        "hinge": [0, 0, 1], "stretch": "goal:on", "stretch_by": "scale", "slack": 0.1, "end_turn": "own", "twist": 12.5, "lengths": [1.1, "goal:on"]}},
      {"node": "b", "roll": {"source": "b", "fraction": -1, "axis": [1, 0, 0], "source_axis": [0, 1, 0]}},
      {"node": "c", "couple": {"channel": "rotation.z", "from": "goal:translation.y", "points": [[-1, 10], [2, 33.3]]}},
      {"name": "spring", "node": "c", "other": {"kind": "spring", "text": "stiffness 3"}}"#;
    let scene = with(constraints).unwrap();
    let again = ncurve::read(&ncurve::write(&scene)).unwrap();
    assert_eq!(again, scene);
    assert_eq!(scene.constraints.len(), 6);
    assert!(matches!(scene.constraints[5].kind, ConstraintKind::Other { .. }));
}

fn worlds(scene: &Scene, frame: f64) -> Vec<(String, glam::DAffine3)> {
    let mut evaluator = Evaluator::new(scene, scene.takes.first(), 0).unwrap();
    let mut pose = Pose::default();
    evaluator.pose_at(frame * scene.rate.ticks_per_frame(), &mut pose);
    let names = scene.rigs[0].nodes().map(|(_, node)| node.name.clone());
    names.zip(pose.world.clone()).collect()
}

#[test]
fn other_spaces_move_alike() {
    let crane = scene("crane.ncurve");
    for space in [
        Space { metres_per_unit: 1.0, up: UpAxis::Z, handedness: Handedness::Right },
        Space { metres_per_unit: 0.01, up: UpAxis::X, handedness: Handedness::Left },
        Space { metres_per_unit: 0.0254, up: UpAxis::Y, handedness: Handedness::Left },
    ] {
        let map = nimble_curve_core::space::AxisMap::between(&crane.space, &space);
        let (moved, _) = in_space(&crane, &space);
        for frame in [1.0, 12.5, 40.0, 77.25] {
            for ((name, here), (_, there)) in worlds(&crane, frame).iter().zip(worlds(&moved, frame)) {
                let wanted = map.affine(*here);
                let size = wanted.translation.length().max(1.0);
                assert!(wanted.abs_diff_eq(there, 1e-9 * size), "{space:?} {name} {frame}: {wanted} {there}");
            }
        }
    }
}

#[test]
fn other_formats_hold_solved_joints_and_give_the_constraints_back() {
    let crane = scene("crane.ncurve");
    for (index, format) in [Format::Glb, Format::Usda, Format::Usdc, Format::Collada].into_iter().enumerate()
    {
        let path = std::path::PathBuf::from(format!("crane.{}", ["glb", "usda", "usdc", "dae"][index]));
        let (bytes, _) = encode(&crane, format, &path, &kept()).unwrap();
        let home = read_bytes(&bytes, &path, Assume::default()).unwrap().scene;
        assert_eq!(home.constraints, crane.constraints, "{format:?}");
        assert_eq!(home, crane, "{format:?}");
        // What others see: the joints by themselves.
        let plain = Assume { without_extra: true, rate: Some(crane.rate), ..Assume::default() };
        let seen = read_bytes(&bytes, &path, plain).unwrap().scene;
        assert!(seen.constraints.is_empty());
        let metres = crane.space.metres_per_unit / seen.space.metres_per_unit;
        for frame in [1.0, 20.0, 50.5, 95.0] {
            let own = worlds(&crane, frame);
            for (name, there) in worlds(&seen, frame) {
                let Some((_, here)) = own.iter().find(|(own, _)| *own == name) else { continue };
                let off = (here.translation * metres - there.translation).length() / metres;
                assert!(off < 0.3, "{format:?} {name} at {frame}: {off} cm");
            }
        }
    }
}

#[test]
fn where_a_driven_joint_was_edited_its_curves_win() {
    let crane = scene("crane.ncurve");
    let path = std::path::Path::new("crane.gltf");
    let (bytes, _) = encode(&crane, Format::Gltf, path, &kept()).unwrap();
    // Another program takes the boom's keys out, and leaves our extra data as it is.
    let mut document: serde_json::Value = serde_json::from_slice(&bytes).unwrap();
    let boom = document["nodes"].as_array().unwrap().iter().position(|node| node["name"] == "boom").unwrap();
    let channels = document["animations"][0]["channels"].as_array_mut().unwrap();
    let before = channels.len();
    channels.retain(|channel| channel["target"]["node"] != boom);
    assert_eq!(channels.len(), before - 1);
    let bytes = document.to_string().into_bytes();
    let rate = Some(crane.rate);
    let loaded = read_bytes(&bytes, path, Assume { rate, ..Assume::default() }).unwrap();
    assert!(
        loaded.notes.iter().any(|note| note.contains("the constraints were let go")),
        "{:?}",
        loaded.notes
    );
    assert!(loaded.scene.constraints.is_empty());
    let plain = Assume { without_extra: true, rate, ..Assume::default() };
    let seen = read_bytes(&bytes, path, plain).unwrap().scene;
    let metres = loaded.scene.space.metres_per_unit / seen.space.metres_per_unit;
    for frame in [1.0, 30.0, 70.0] {
        let own = worlds(&loaded.scene, frame);
        for (name, there) in worlds(&seen, frame) {
            let here = own.iter().find(|(own, _)| *own == name).unwrap().1;
            let off = (here.translation * metres - there.translation).length();
            assert!(off < 1e-4, "{name} at {frame}: {off} m");
        }
    }
}

/// As it is written where frames keep their numbers, for whoever reads it without our extra data.
fn kept() -> Saving<'static> {
    Saving { keep_start: true, ..Saving::default() }
}
