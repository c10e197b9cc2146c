//! What moves in USD besides joints, values that are blocked, and matrices with nothing between them: each as the standard's
//! own library gives it. The expected numbers are that library's, asked for at these time codes.

use std::path::Path;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Discrete, Side};
use nimble_curve_core::rig::{Attribute, AttributeKind};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::{Assume, Format, Loaded, Saving, encode, read_bytes};

use crate::common::{motion, scene, through};

const LAYER: &str = r#"#usda 1.0
(
    timeCodesPerSecond = 24
    metersPerUnit = 1
    upAxis = "Y"
)
def Xform "a"
{
    token visibility.timeSamples = { 1: "inherited", 5: "invisible", 9: "inherited" }
    custom double mine:glow.timeSamples = { 1: 0, 10: 5 }
    custom int count = 0
    int count.timeSamples = { 1: 0, 5: 3, 10: 4 }
    custom bool userProperties:lit = 1
    bool userProperties:lit.timeSamples = { 1: 1, 4: 0, 9: 1 }
    custom bool userProperties:warm = true
    bool userProperties:warm.timeSamples = { 1: true, 4: false }
    custom double userProperties:still = 4
    custom double size.spline = {
        bezier,
        1: 3; post linear,
        5: 7; post held,
    }
    color3f[] primvars:displayColor.timeSamples = { 1: [(1,0,0)], 4: [(0,1,0)] }
    color3f tint.timeSamples = { 1: (1,0,0), 4: (0,1,0) }
    double3 xformOp:translate.timeSamples = { 1: (0,0,0), 5: (1,2,3), 6: None, 9: (3,2,1), 12: (1,1,1) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def SphereLight "key"
    {
        float inputs:intensity.timeSamples = { 1: 0, 10: 500 }
    }
    def Mesh "body"
    {
        point3f[] points.timeSamples = { 1: [(0,0,0)], 2: [(1,0,0)] }
    }
}
"#;

fn load(text: &str) -> Loaded {
    read_bytes(text.as_bytes(), Path::new("layer.usda"), Assume::default()).unwrap()
}

fn controller<'a>(scene: &'a Scene, node: &str, property: &str) -> &'a Controller {
    let (id, _) = scene.rigs[0].nodes().find(|(_, found)| found.name == node).unwrap();
    let found = scene.takes[0]
        .tracks()
        .find(|(_, track)| track.target.node == id && track.target.property == property);
    &found.unwrap_or_else(|| panic!("{node}:{property}")).1.controller
}

fn number(scene: &Scene, node: &str, property: &str, frame: f64) -> Option<f64> {
    controller(scene, node, property).curves()[0].value_on(scene.rate.ticks_at(frame).as_f64(), Side::Right)
}

#[test]
fn what_moves_is_read_as_numbers_and_switches_or_named() {
    let Loaded { scene, notes, .. } = load(LAYER);
    let switches = |property: &str| -> Vec<(f64, bool)> {
        let Controller::Discrete(curve) = controller(&scene, "a", property) else { panic!("{property}") };
        let on = |value: &Discrete| matches!(value, Discrete::Switch(true));
        curve.keys().iter().map(|(time, value)| (scene.rate.frame(*time), on(value))).collect()
    };
    assert_eq!(switches("visibility"), [(1.0, true), (5.0, false), (9.0, true)]);
    assert_eq!(switches("lit"), [(1.0, true), (4.0, false), (9.0, true)]);
    assert_eq!(switches("warm"), [(1.0, true), (4.0, false)]);
    let numbers = |node: &str, property: &str, frames: &[f64]| -> Vec<Option<f64>> {
        frames.iter().map(|frame| number(&scene, node, property, *frame)).collect()
    };
    assert_eq!(numbers("a", "mine:glow", &[1.0, 4.6, 10.0]), [Some(0.0), Some(2.0), Some(5.0)]);
    // Whole numbers hold.
    let count = numbers("a", "count", &[0.0, 3.0, 5.0, 7.0, 11.0]);
    assert_eq!(count, [Some(0.0), Some(0.0), Some(3.0), Some(3.0), Some(4.0)]);
    assert_eq!(numbers("a", "size", &[1.0, 3.0, 5.0]), [Some(3.0), Some(5.0), Some(7.0)]);
    assert_eq!(numbers("key", "inputs:intensity", &[1.0, 10.0]), [Some(0.0), Some(500.0)]);
    let (_, node) = scene.rigs[0].nodes().find(|(_, node)| node.name == "a").unwrap();
    assert!(node.attribute("still").is_some());
    for unread in ["/a.primvars:displayColor", "/a.tint", "/a/body.points"] {
        assert!(
            notes.iter().any(|note| note.starts_with(&format!("{unread}: moves"))),
            "{unread}: {notes:?}"
        );
    }
    assert_eq!(notes.len(), 3, "{notes:?}");
}

#[test]
fn a_blocked_value_is_a_gap_and_what_is_before_it_holds() {
    let scene = load(LAYER).scene;
    let place = |frame: f64| -> Option<[f64; 3]> {
        let curves = controller(&scene, "a", "translation").curves();
        let at = |curve: &nimble_curve_core::curve::Curve| {
            curve.value_on(scene.rate.ticks_at(frame).as_f64(), Side::Right)
        };
        Some([at(&curves[0])?, at(&curves[1])?, at(&curves[2])?])
    };
    for (frame, expected) in [
        (0.0, Some([0.0, 0.0, 0.0])),
        (3.0, Some([0.5, 1.0, 1.5])),
        (5.0, Some([1.0, 2.0, 3.0])),
        (5.5, Some([1.0, 2.0, 3.0])),
        (6.0, None),
        (7.0, None),
        (9.0, Some([3.0, 2.0, 1.0])),
        (10.5, Some([2.0, 1.5, 1.0])),
        (13.0, Some([1.0, 1.0, 1.0])),
    ] {
        assert_eq!(place(frame), expected, "{frame}");
    }
}

#[test]
fn matrices_are_between_their_times_what_other_programs_see() {
    let text = r#"#usda 1.0
(
    timeCodesPerSecond = 24
    metersPerUnit = 1
)
def Xform "a"
{
    matrix4d xformOp:transform.timeSamples = {
        1: ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) ),
        5: ( (0, 1, 0, 0), (-1, 0, 0, 0), (0, 0, 1, 0), (4, 2, 0, 1) ),
        9: ( (0, 2, 0, 0), (-2, 0, 0, 0), (0, 0, 2, 0), (8, 4, 0, 1) ),
    }
    uniform token[] xformOpOrder = ["xformOp:transform"]
    def Xform "tip"
    {
        double3 xformOp:translate = (1, 0, 0)
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }
}
"#;
    let Loaded { scene, notes, .. } = load(text);
    for (frame, tip) in
        [(1, [1.0, 0.0]), (2, [1.75, 0.75]), (3, [2.5, 1.5]), (5, [4.0, 3.0]), (7, [6.0, 4.5])]
    {
        let place = motion(&scene, "layer", &[scene.rate.ticks(frame).as_f64()])[0]["tip"].0;
        assert!((place.x - tip[0]).abs() < 1e-12 && (place.y - tip[1]).abs() < 1e-12, "{frame}: {place}");
    }
    assert!(notes.len() == 1 && notes[0].contains("blend number by number"), "{notes:?}");
    // What only moves is the same either way, and keeps its keys.
    let moved = text.replace("(0, 1, 0, 0), (-1, 0, 0, 0)", "(1, 0, 0, 0), (0, 1, 0, 0)");
    let moved = moved
        .replace("(0, 2, 0, 0), (-2, 0, 0, 0), (0, 0, 2, 0)", "(1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0)");
    let loaded = load(&moved);
    assert_eq!(controller(&loaded.scene, "a", "translation").key_count(), 9);
    assert!(loaded.notes.is_empty(), "{:?}", loaded.notes);
}

/// The names of attributes are no identifiers there, and in a table stand in addresses.
#[test]
fn odd_names_come_back_as_they_were() {
    let names = ["smile left", "smile_left", "mine:glow", "a/b.x", "ein \"Wort\"", "眉"];
    let mut source = load(LAYER).scene;
    let (id, _) = source.rigs[0]
        .nodes()
        .find(|(_, node)| node.name == "key")
        .map(|(id, node)| (id, node.clone()))
        .unwrap();
    let driver = controller(&source, "key", "inputs:intensity").clone();
    let node = source.rigs[0].node_mut(id).unwrap();
    node.name = "the key".to_owned();
    for name in names {
        let kind = AttributeKind::Number { default: 1.0, min: None, max: None, quantity: Quantity::Number };
        node.attributes.push(Attribute { name: name.to_owned(), kind });
    }
    for name in names {
        let target = nimble_curve_core::scene::Target { rig: 0, node: id, property: name.to_owned() };
        let controller = driver.clone();
        source.takes[0].layers[0].tracks.push(nimble_curve_core::scene::Track { target, controller });
    }
    for format in [Format::Usda, Format::Usdc, Format::Csv] {
        let back = through(&source, format, true);
        for name in names {
            // A quote would have to be escaped, which programs do in different ways.
            let name = if format == Format::Csv { name.to_owned() } else { name.replace('"', "_") };
            let frames = |scene: &Scene, name: &str| number(scene, "the key", name, 10.0);
            let there = match controller(&back, "the key", &name) {
                Controller::Samples(samples) => samples.values.last().copied(),
                _ => frames(&back, &name),
            };
            assert_eq!(there, Some(500.0), "{format:?} {name}");
        }
    }
}

/// Whether a node is seen goes to the standard's own attribute, which other programs obey.
#[test]
fn visibility_is_written_as_the_standard_has_it() {
    let source = load(LAYER).scene;
    let saving = Saving { without_extra: true, ..Saving::default() };
    let (bytes, _) = encode(&source, Format::Usda, Path::new("x.usda"), &saving).unwrap();
    let text = String::from_utf8(bytes).unwrap();
    assert!(
        text.contains(
            "token visibility.timeSamples = {\n        1: \"inherited\",\n        5: \"invisible\","
        ),
        "{text}"
    );
    let back = through(&source, Format::Usdc, true);
    assert_eq!(controller(&back, "a", "visibility"), controller(&source, "a", "visibility"));
}

/// Another program leaves out what shapes nothing, and says what is the default: the extra data stays true.
#[test]
fn what_a_library_rewrites_without_an_edit_is_no_change() {
    let source = scene("bramble.ncurve");
    let (bytes, _) = encode(&source, Format::Usda, Path::new("x.usda"), &Saving::default()).unwrap();
    let text = String::from_utf8(bytes).unwrap();
    let mut count = 0;
    let mut last_is_straight = false;
    let lines =
        text.lines().filter(|line| !matches!(line.trim(), "pre: held," | "post: held,")).map(|line| {
            let (straight, is_knot) =
                (line.contains("post linear") || line.contains("post held"), line.contains("; post "));
            let line = match last_is_straight && is_knot && !line.contains("; pre") {
                true => {
                    count += 1;
                    line.replacen("; post", "; pre (7.5, 3); post", 1)
                }
                false => line.to_owned(),
            };
            last_is_straight = straight;
            line
        });
    let text = lines.collect::<Vec<_>>().join("\n");
    assert!(count > 3, "{count}");
    let loaded = load(&text);
    assert!(loaded.scene == source, "{:?}", loaded.notes);
    assert!(loaded.notes.is_empty(), "{:?}", loaded.notes);
}

/// Numbers that are finite, but of which nothing finite can be made, are told and bring nothing down.
#[test]
fn numbers_beyond_all_use_are_errors() {
    let layer = |inside: &str| format!("#usda 1.0\ndef Xform \"a\"\n{{\n{inside}\n}}\n");
    let matrix = "matrix4d xformOp:transform.timeSamples = { 1: ( (1e200, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) ), 4: ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) ) }\nuniform token[] xformOpOrder = [\"xformOp:transform\"]";
    let moved = "double3 xformOp:translate.timeSamples = { 1: (0, 1e300, 0), 4: (0, 0, 0) }\nuniform token[] xformOpOrder = [\"xformOp:translate\"]";
    let curve = "custom double size.spline = {\n bezier,\n 1: 1e300; post linear,\n 4: 1; post held,\n}";
    for inside in [matrix, moved, curve] {
        let read = read_bytes(layer(inside).as_bytes(), Path::new("a.usda"), Assume::default());
        let message = read.expect_err(inside).to_string();
        assert!(message.contains("finite"), "{message}");
    }
}

/// Two samples beside a frame are a jump: the one that counts from the frame on is the one on it.
#[test]
fn samples_just_before_a_frame_do_not_come_to_stand_on_it() {
    for before in ["8.999", "8.99999", "8.999999999999", "8.9"] {
        let text = format!(
            "#usda 1.0\n(\n    timeCodesPerSecond = 24\n)\ndef Xform \"a\"\n{{\n    custom double glow.timeSamples = {{ 1: 0, {before}: 1, 9: 5, 12: 6 }}\n}}\n"
        );
        let scene = load(&text).scene;
        assert_eq!(number(&scene, "a", "glow", 9.0), Some(5.0), "{before}");
        let there = number(&scene, "a", "glow", 8.5).unwrap();
        assert!(there > 0.9 && (there < 1.0 || before == "8.9"), "{before}: {there}");
        let blocked = load(&text.replace(": 1, 9", ": None, 9")).scene;
        assert_eq!(number(&blocked, "a", "glow", 9.0), Some(5.0), "{before}");
        assert_eq!(number(&blocked, "a", "glow", 8.5), Some(0.0), "{before}");
    }
}
