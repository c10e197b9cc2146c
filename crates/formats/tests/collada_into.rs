//! COLLADA into COLLADA: what is no animation stays as it is, to the byte.

use std::path::Path;

use glam::DVec3;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Key, Side};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::{Node, NodeKind};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_formats::{Assume, Format, Saving, encode, read};

/// A lantern with a mesh that a skin and a morph bend, a light whose brightness is animated, a node without an id, and one
/// without content.
const LANTERN: &str = include_str!("files/lantern.dae");

/// What stays, to the byte.
const STAYS: [&str; 5] =
    ["library_geometries", "library_controllers", "library_effects", "library_lights", "library_materials"];

fn element<'a>(text: &'a str, name: &str) -> &'a str {
    let start = text.find(&format!("<{name}>")).unwrap_or_else(|| panic!("{name} is gone"));
    let end = text[start..].find(&format!("</{name}>")).unwrap();
    &text[start..start + end]
}

/// The lantern in a folder, its scene, and what becomes of a scene that is written into it.
fn lantern(at: &Path) -> Scene {
    std::fs::write(at.join("lantern.dae"), LANTERN).unwrap();
    read(&at.join("lantern.dae"), Assume::default()).unwrap().scene
}

fn into(at: &Path, scene: &Scene, without_extra: bool) -> (String, Vec<String>) {
    let base = at.join("lantern.dae");
    let saving = Saving { without_extra, base: Some(&base), ..Saving::default() };
    let (bytes, ledger) = encode(scene, Format::Collada, &at.join("out.dae"), &saving).unwrap();
    (String::from_utf8(bytes).unwrap(), ledger.notes)
}

fn number(scene: &Scene, node: &str, property: &str, component: usize, frame: f64) -> f64 {
    let on_it = |track: &nimble_curve_core::scene::Track| {
        let named = scene.rigs[0].node(track.target.node).unwrap();
        named.name == node && track.target.property == property
    };
    let (_, track) = scene.takes[0]
        .tracks()
        .find(|(_, track)| on_it(track))
        .unwrap_or_else(|| panic!("{node}:{property}"));
    let time = scene.rate.ticks_at(frame).as_f64();
    match &track.controller {
        Controller::Samples(samples) => samples.lines()[component].value_on(time, Side::Right).unwrap(),
        other => other.curves()[component].value_on(time, Side::Right).unwrap(),
    }
}

#[test]
fn meshes_skins_materials_and_channels_that_are_not_read_stay() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let scene = lantern(at);
    assert_eq!(scene.rigs[0].len(), 5);
    for without_extra in [true, false] {
        let (text, notes) = into(at, &scene, without_extra);
        for name in STAYS {
            assert_eq!(element(&text, name), element(LANTERN, name), "{name}");
        }
        assert!(
            text.contains("target=\"glow/intensity\"") && text.contains("<created>2026-11-20T10:00:00Z"),
            "{text}"
        );
        assert_eq!(text.matches("<instance_controller").count(), 1);
        assert!(
            !text.contains("handle-rotation") && !notes.iter().any(|note| note.contains("nothing is kept")),
            "{notes:?}"
        );
        std::fs::write(at.join("out.dae"), &text).unwrap();
        let back = read(&at.join("out.dae"), Assume { without_extra, ..Assume::default() }).unwrap().scene;
        assert_eq!(back.rigs[0].len(), 5);
        for frame in [0.0, 7.5, 12.0, 20.0, 24.0] {
            for (node, property) in [("handle", "rotation"), ("shade", "dent"), ("shade", "swell")] {
                let (then, now) =
                    (number(&scene, node, property, 0, frame), number(&back, node, property, 0, frame));
                assert!((then - now).abs() < 1e-9, "{node}:{property} at {frame}: {then} {now}");
            }
        }
        let bound = |scene: &Scene| scene.rigs[0].nodes().filter(|(_, node)| node.bind.is_some()).count();
        assert_eq!((bound(&scene), bound(&back)), (2, 2));
        // A second time it is the same.
        std::fs::write(at.join("lantern.dae"), &text).unwrap();
        assert_eq!(into(at, &back, without_extra).0, text);
        lantern(at);
    }
}

#[test]
fn what_is_edited_or_new_is_in_it_and_nothing_twice() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut scene = lantern(at);
    let id = |scene: &Scene, name: &str| scene.rigs[0].nodes().find(|(_, node)| node.name == name).unwrap().0;
    let hook = Node::new("hook", NodeKind::Joint, DVec3::new(0.0, 3.0, 0.0), RotationOrder::Xyz);
    let (handle, tip) = (id(&scene, "handle"), id(&scene, "tip"));
    let hook = scene.rigs[0].add(Some(tip), hook).unwrap();
    scene.rigs[0].add(Some(hook), Node::new("ring", NodeKind::Joint, DVec3::X, RotationOrder::Xyz)).unwrap();
    for layer in &mut scene.takes[0].layers {
        // The morph no longer moves, the handle another way.
        layer.tracks.retain(|track| track.target.node == handle);
        for track in &mut layer.tracks {
            if let Controller::Euler(euler) = &mut track.controller {
                let twice = |key: &Key| Key { value: key.value * 2.0, ..*key };
                euler.curves[0] = Curve::new(euler.curves[0].keys().iter().map(twice).collect()).unwrap();
            }
        }
    }
    let (text, _) = into(at, &scene, true);
    std::fs::write(at.join("out.dae"), &text).unwrap();
    let back = read(&at.join("out.dae"), Assume::default()).unwrap().scene;
    let names: Vec<&str> = back.rigs[0].nodes().map(|(_, node)| node.name.as_str()).collect();
    assert_eq!(names, ["lantern", "handle", "tip", "hook", "ring", "shade", "lamp"]);
    assert!(
        (number(&back, "handle", "rotation", 0, 12.0) - number(&scene, "handle", "rotation", 0, 12.0)).abs()
            < 1e-9
    );
    assert_eq!(back.takes[0].tracks().count(), 1, "the morph stands still");
    assert_eq!(text.matches("<library_animations>").count(), 2, "that of the light, and ours");
}

#[test]
fn units_stay_those_of_the_meshes_and_other_hierarchies_are_said() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let scene = lantern(at);
    let metres = Space { metres_per_unit: 1.0, ..scene.space };
    let (text, notes) = into(at, &in_space(&scene, &metres).0, true);
    assert!(
        notes.iter().any(|note| note.contains("written in the unit and the axes of the file")),
        "{notes:?}"
    );
    assert_eq!(element(&text, "library_geometries"), element(LANTERN, "library_geometries"));
    std::fs::write(at.join("out.dae"), &text).unwrap();
    let back = read(&at.join("out.dae"), Assume::default()).unwrap().scene;
    let rest =
        |scene: &Scene| scene.rigs[0].rest_world().iter().map(|world| world.translation).collect::<Vec<_>>();
    for (a, b) in rest(&scene).iter().zip(rest(&back)) {
        assert!((*a - b).length() < 1e-9, "{a} {b}");
    }
    // Another rig is written by itself.
    let (text, notes) = into(at, &crate::common::scene("cart.ncurve"), true);
    assert!(!text.contains("library_geometries"));
    assert!(
        notes.iter().any(|note| note.contains("nothing is kept, neither meshes nor materials")),
        "{notes:?}"
    );
    let instanced = LANTERN.replace("<node id=\"lamp\" name=\"lamp\"/>", "<instance_node url=\"#tip\"/>");
    assert_ne!(instanced, LANTERN);
    std::fs::write(at.join("lantern.dae"), instanced).unwrap();
    let (_, notes) = into(at, &scene, true);
    assert!(notes.iter().any(|note| note.contains("instances of others")), "{notes:?}");
}

/// A name that XML does not allow is that of the node that stands for it, and no second node.
#[test]
fn odd_names_are_found_again_and_a_document_of_one_line_is_written_into() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("lantern.dae"), LANTERN.replace(['\n', '\r'], " ")).unwrap();
    let mut scene = read(&at.join("lantern.dae"), Assume::default()).unwrap().scene;
    let tip = scene.rigs[0].nodes().find(|(_, node)| node.name == "tip").unwrap().0;
    scene.rigs[0].node_mut(tip).unwrap().name = "tip\u{1}\n".to_owned();
    std::fs::write(
        at.join("lantern.dae"),
        LANTERN.replace("name=\"tip\"", "name=\"tip\u{fffd} \"").replace(['\n', '\r'], " "),
    )
    .unwrap();
    let (text, notes) = into(at, &scene, false);
    assert!(!notes.iter().any(|note| note.contains("nothing is kept")), "{notes:?}");
    std::fs::write(at.join("out.dae"), text).unwrap();
    let back = read(&at.join("out.dae"), Assume::default()).unwrap().scene;
    let names: Vec<&str> = back.rigs[0].nodes().map(|(_, node)| node.name.as_str()).collect();
    assert_eq!(names, ["lantern", "handle", "tip\u{1}\n", "shade", "lamp"]);
}
