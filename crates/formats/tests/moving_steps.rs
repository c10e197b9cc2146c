//! Transforms that are lists of steps, each kind of step moving in turn: other programs see it move in every format that has
//! a place for it.

use std::path::Path;

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::judge::{Limits, judge};
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::extra_data::ASIDE;
use nimble_curve_formats::{Assume, Format, Saving, encoded, read_bytes};

use crate::common::motion;

const TURN: &str = r#"{"components": [{"keys": [{"frame": 0, "value": 10, "slope": 4}, {"frame": 6, "value": 90}, {"frame": 18, "value": -40}]}]}"#;
const LOOP: &str = r#"{"components": [{"keys": [{"frame": 0, "value": 10, "slope": 0}, {"frame": 6, "value": 90, "slope": 0}], "after": "loop-offset"}]}"#;
const TENSE: &str = r#"{"tcb": {"number": [{"frame": 0, "value": 5, "tension": 0.3}, {"frame": 7, "value": 80}, {"frame": 18, "value": 0}]}}"#;
const HELD: &str = r#"{"constant": {"number": 77}}"#;
const SAMPLED: &str = r#"{"samples": {"start": 0, "rate": "24", "kind": "number", "values": [0, 1, 3, 8, 20, 40, 60, 70, 72, 71, 60, 40, 20, 0, -9, -12, -15, -16, -16]}}"#;
const ANGLES: &str = r#"{"angles": {"order": "zxy", "x": {"keys": [{"frame": 0, "value": 5}, {"frame": 9, "value": 50}, {"frame": 18, "value": 20}]}, "z": {"keys": [{"frame": 0, "value": 0}, {"frame": 18, "value": 70}]}}}"#;
const HELD_ANGLES: &str = r#"{"constant": {"rotate": {"order": "zxy", "angles": [50, 60, 70]}}}"#;
const SAMPLED_ANGLES: &str = r#"{"samples": {"start": 0, "rate": "6", "kind": "angles", "order": "zxy", "rows": [[0, 5, 9], [9, 30, 4], [40, 50, 0], [60, 55, -9], [61, 55, -9], [61, 40, 0]]}}"#;
const GREAT_ARCS: &str = r#"{"quaternions": {"keys": [{"frame": 0, "value": [0, 0, 0, 1], "interpolation": "slerp"}, {"frame": 8, "value": [0.5, 0.5, 0.5, 0.5], "interpolation": "slerp"}, {"frame": 18, "value": [0, 0.6, 0, 0.8], "interpolation": "slerp"}]}}"#;
const PLACE: &str = r#"{"components": [{"keys": [{"frame": 0, "value": 0}, {"frame": 9, "value": 3}, {"frame": 18, "value": 1}]}, {"keys": [{"frame": 4, "value": 1}]}, {"keys": [{"frame": 0, "value": 2}, {"frame": 18, "value": 5}]}]}"#;
const HELD_PLACE: &str = r#"{"constant": {"vector": [2, 1, 1.5]}}"#;
const HELD_MATRIX: &str = r#"{"constant": {"matrix": [0, 1, 0, 0, -1, 0, 0, 0, 0, 0, 1, 0, 4, 2, 3, 1]}}"#;

/// What stands in a node, which of its steps moves, and how.
const CASES: &[(&str, &str, &str, &str)] = &[
    ("about z", r#"{"name": "spin", "rotate_axis": [0, 0, 1, 30]}"#, "spin", TURN),
    ("about a leaning axis", r#"{"name": "spin", "rotate_axis": [0.6, 0, 0.8, 30]}"#, "spin", TURN),
    ("about an axis that points back", r#"{"name": "spin", "rotate_axis": [0, 0, -1, 30]}"#, "spin", TURN),
    ("about a leaning axis, looped", r#"{"name": "spin", "rotate_axis": [0.6, 0.8, 0, 30]}"#, "spin", LOOP),
    (
        "about a leaning axis, with tension",
        r#"{"name": "spin", "rotate_axis": [0.6, 0.8, 0, 30]}"#,
        "spin",
        TENSE,
    ),
    (
        "about a leaning axis, held elsewhere",
        r#"{"name": "spin", "rotate_axis": [0.6, 0, 0.8, 30]}"#,
        "spin",
        HELD,
    ),
    ("about x, held elsewhere", r#"{"name": "spin", "rotate_axis": [1, 0, 0, 30]}"#, "spin", HELD),
    (
        "about a leaning axis, sampled",
        r#"{"name": "spin", "rotate_axis": [0.6, 0, 0.8, 30]}"#,
        "spin",
        SAMPLED,
    ),
    ("about x, sampled", r#"{"name": "spin", "rotate_axis": [1, 0, 0, 30]}"#, "spin", SAMPLED),
    (
        "two axes",
        r#"{"name": "a", "rotate_axis": [1, 0, 0, 30]}, {"name": "b", "rotate_axis": [0.6, 0.8, 0, 9]}"#,
        "b",
        TURN,
    ),
    (
        "steps of one name without their signs",
        r#"{"name": "回転", "rotate_axis": [0, 1, 0, 30]}, {"name": "移動", "translate": [0, 2, 0]}"#,
        "回転",
        TURN,
    ),
    (
        "one that is called as others are begun",
        r#"{"name": "spin", "rotate": {"order": "zxy", "angles": [1, 2, 3]}}, {"name": "spinX", "rotate_axis": [1, 0, 0, 9]}"#,
        "spinX",
        TURN,
    ),
    (
        "angles under a name",
        r#"{"name": "turn", "rotate": {"order": "zxy", "angles": [1, 2, 3]}}"#,
        "turn",
        ANGLES,
    ),
    (
        "angles under a name, held elsewhere",
        r#"{"name": "turn", "rotate": {"order": "zxy", "angles": [1, 2, 3]}}"#,
        "turn",
        HELD_ANGLES,
    ),
    (
        "angles under a name, sampled",
        r#"{"name": "turn", "rotate": {"order": "zxy", "angles": [1, 2, 3]}}"#,
        "turn",
        SAMPLED_ANGLES,
    ),
    ("great arcs under a name", r#"{"name": "turn", "orient": [0, 0, 0, 1]}"#, "turn", GREAT_ARCS),
    (
        "great arcs before another rotation",
        r#"{"name": "translation", "translate": [1, 0, 0]}, {"name": "before", "orient": [0, 0.6, 0, 0.8]}, {"name": "rotation", "rotate": {"order": "xyz", "angles": [9, 8, 7]}}"#,
        "before",
        GREAT_ARCS,
    ),
    (
        "angles behind another rotation",
        r#"{"name": "rotation", "rotate": {"order": "xyz", "angles": [9, 8, 7]}}, {"name": "after", "rotate": {"order": "zxy", "angles": [0, 0, 5]}}"#,
        "after",
        ANGLES,
    ),
    (
        "a pivot",
        r#"{"name": "piv", "translate": [1, 0, 0]}, {"name": "spin", "rotate_axis": [1, 0, 0, 30]}, {"name": "back", "translate": [1, 0, 0], "inverse": true}"#,
        "piv",
        PLACE,
    ),
    (
        "the second half of a pivot",
        r#"{"name": "piv", "translate": [1, 0, 0]}, {"name": "spin", "rotate_axis": [1, 0, 0, 30]}, {"name": "back", "translate": [1, 0, 0], "inverse": true}"#,
        "back",
        PLACE,
    ),
    (
        "a turn taken back",
        r#"{"name": "lean", "rotate_axis": [0, 0.6, 0.8, 30]}, {"name": "piv", "translate": [1, 0, 0]}, {"name": "unlean", "rotate_axis": [0, 0.6, 0.8, 30], "inverse": true}"#,
        "unlean",
        TURN,
    ),
    (
        "angles taken back",
        r#"{"name": "turn", "rotate": {"order": "zxy", "angles": [1, 2, 3]}, "inverse": true}, {"name": "piv", "translate": [1, 0, 0]}"#,
        "turn",
        ANGLES,
    ),
    (
        "a pivot held elsewhere",
        r#"{"name": "piv", "translate": [1, 0, 0]}, {"name": "spin", "rotate_axis": [1, 0, 0, 30]}"#,
        "piv",
        HELD_PLACE,
    ),
    (
        "a scale held elsewhere",
        r#"{"name": "spin", "rotate_axis": [1, 0, 0, 30]}, {"name": "size", "scale": [1, 1, 1]}"#,
        "size",
        HELD_PLACE,
    ),
    (
        "a matrix held elsewhere",
        r#"{"name": "m", "matrix": [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 1, 2, 3, 1]}"#,
        "m",
        HELD_MATRIX,
    ),
];

/// A node with such steps and one below it, and a take that moves one of them.
fn scene(steps: &str, moves: &str, controller: &str) -> Scene {
    let text = format!(
        r#"{{"ncurve": 1, "rate": "24", "space": {{"metres_per_unit": 0.01, "up": "y", "handedness": "right"}},
        "rigs": [{{"name": "mill", "nodes": [{{"name": "post"}}, {{"name": "arm", "parent": "post", "transform": [{steps}]}},
        {{"name": "sail", "parent": "arm", "translation": [0, 7, 2]}}]}}],
        "takes": [{{"name": "wind", "range": [0, 20], "layers": [{{"name": "base", "tracks": [{{"channel": "arm:{moves}", "controller": {controller}}}]}}]}}]}}"#
    );
    read_bytes(text.as_bytes(), Path::new("mill.ncurve"), Assume::default()).unwrap().scene
}

/// How far nodes are off that are read without extra data, in metres and radians.
fn off(source: &Scene, format: Format, step: f64) -> (f64, f64) {
    let path = Path::new("mill");
    let made = encoded(source, format, path, &Saving { keep_start: true, ..Saving::default() }).unwrap();
    assert!(made.ledger.entries.iter().all(|entry| entry.note != ASIDE), "{format:?} holds less");
    let back = made.read_back(source, path).unwrap().scene;
    let ticks = source.rate.ticks_per_frame();
    let times: Vec<f64> = (0..=(20.0 / step) as usize).map(|index| index as f64 * step * ticks).collect();
    let take = &back.takes[0].name.clone();
    let (then, now) = (motion(source, "wind", &times), motion(&back, take, &times));
    let mut largest = (0.0_f64, 0.0_f64);
    for (then, now) in then.iter().zip(&now) {
        for (name, (place, turn)) in then {
            let (other, other_turn) = now[name];
            largest.0 = largest.0.max(place.distance(other));
            largest.1 = largest.1.max(turn.angle_between(other_turn));
        }
    }
    largest
}

#[test]
fn each_step_moves_in_every_format() {
    for &(name, steps, moves, controller) in CASES {
        let source = scene(steps, moves, controller);
        // Packages hold samples, and are true at frames.
        for (format, step) in [
            (Format::Usda, 0.25),
            (Format::Usdc, 0.25),
            (Format::Usdz, 1.0),
            (Format::Collada, 0.25),
            (Format::Glb, 0.25),
        ] {
            // What is sampled is known where it was, at every fourth frame the one of them.
            let step = match controller {
                SAMPLED => 1.0,
                SAMPLED_ANGLES => 4.0,
                _ => step,
            };
            let (distance, angle) = off(&source, format, step);
            assert!(distance < 3e-4 && angle < 2e-3, "{name}, {format:?}: {distance} m, {angle} rad");
        }
        // Where it is not keyed otherwise than it can be said, it is exact.
        if ![TENSE, GREAT_ARCS, SAMPLED_ANGLES].contains(&controller) {
            let (distance, angle) = off(&source, Format::Usda, 0.25);
            assert!(distance < 1e-9 && angle < 1e-7, "{name}: {distance} m, {angle} rad");
        }
    }
}

#[test]
fn what_has_no_place_is_told_from_what_is_kept() {
    let shear = r#"{"name": "lean", "shear": [0.2, 0, 0]}"#;
    let source = scene(shear, "lean", PLACE);
    for format in [Format::Usda, Format::Collada] {
        let made = encoded(&source, format, Path::new("mill"), &Saving::default()).unwrap();
        assert_eq!(made.ledger.entries[0].note, ASIDE, "{format:?}");
    }
}

/// Formats have no animation where nothing moves: what stands elsewhere than at rest is looked at all the same.
#[test]
fn takes_in_which_nothing_moves_are_judged() {
    let spin = r#"{"name": "spin", "rotate_axis": [1, 0, 0, 30]}"#;
    let source = scene(spin, "spin", HELD);
    let wrong = scene(spin, "spin", &HELD.replace("77", "47"));
    let path = Path::new("mill");
    for format in [Format::Usda, Format::Usdc, Format::Collada, Format::Glb, Format::Csv] {
        let mut made = encoded(&source, format, path, &Saving::default()).unwrap();
        for (written, expected) in [(&source, 0.0), (&wrong, 30.0)] {
            made.bytes = encoded(written, format, path, &Saving::default()).unwrap().bytes;
            let back = made.read_back(&source, path).unwrap();
            let verdict = judge(&source, &back.scene, &back.claim, Limits::NONE, back.precision);
            let largest = verdict.judged.iter().map(|judged| judged.error.largest).fold(0.0, f64::max);
            assert!((largest.to_degrees() - expected).abs() < 1e-3, "{format:?}: {}", largest.to_degrees());
            assert!(!verdict.judged.is_empty(), "{format:?}");
        }
    }
}

/// The inverse of a step that moves moves with it, and what does not follow its parent stands in the world: the formulas are
/// the standard's, multiplied here.
#[test]
fn inverses_move_with_their_steps_and_what_is_free_does_not_follow() {
    let text = r#"#usda 1.0
(
    endTimeCode = 24
    startTimeCode = 0
    metersPerUnit = 1
    timeCodesPerSecond = 24
    upAxis = "Y"
)

def Xform "pivoted"
{
    double3 xformOp:translate:pivot.timeSamples = { 0: (0, 1, 0), 24: (5, 3, 2) }
    double xformOp:rotateZ.timeSamples = { 0: 0, 24: 120 }
    uniform token[] xformOpOrder = ["xformOp:translate:pivot", "xformOp:rotateZ", "!invert!xformOp:translate:pivot"]
}

def Xform "along"
{
    double xformOp:translateX:pivot.timeSamples = { 0: 1, 24: 5 }
    double xformOp:scaleY:size.timeSamples = { 0: 1, 24: 4 }
    float3 xformOp:rotateZXY:turn.timeSamples = { 0: (0, 10, 20), 24: (48, 34, -28) }
    uniform token[] xformOpOrder = ["!invert!xformOp:scaleY:size", "xformOp:rotateZXY:turn", "!invert!xformOp:translateX:pivot", "!invert!xformOp:rotateZXY:turn", "xformOp:translateX:pivot"]

    def Xform "free"
    {
        double3 xformOp:scale = (9, 9, 9)
        double3 xformOp:translate.timeSamples = { 0: (1, 2, 3), 24: (3, 2, 1) }
        uniform token[] xformOpOrder = ["xformOp:scale", "!resetXformStack!", "xformOp:translate"]

        def Xform "tied"
        {
            double3 xformOp:translate = (0, 0, 4)
            uniform token[] xformOpOrder = ["xformOp:translate"]
        }
    }
}
"#;
    let scene = read_bytes(text.as_bytes(), Path::new("x.usda"), Assume::default()).unwrap().scene;
    let times: Vec<f64> = (0..=96).map(|quarter| f64::from(quarter) / 4.0).collect();
    let ticks: Vec<f64> = times.iter().map(|frame| frame * scene.rate.ticks_per_frame()).collect();
    let shift = |by: DVec3| DMat4::from_translation(by);
    let about =
        |axis: DVec3, degrees: f64| DMat4::from_quat(DQuat::from_axis_angle(axis, degrees.to_radians()));
    for (frame, nodes) in times.iter().zip(motion(&scene, &scene.takes[0].name, &ticks)) {
        let part = frame / 24.0;
        let pivot = DVec3::new(5.0 * part, 1.0 + 2.0 * part, 2.0 * part);
        let pivoted = shift(pivot) * about(DVec3::Z, 120.0 * part) * shift(-pivot);
        // The letters name the axis that acts first.
        let turn = about(DVec3::Y, 10.0 + 24.0 * part)
            * about(DVec3::X, 48.0 * part)
            * about(DVec3::Z, 20.0 - 48.0 * part);
        let along = DVec3::X * (1.0 + 4.0 * part);
        let size = DMat4::from_scale(DVec3::new(1.0, 1.0 + 3.0 * part, 1.0));
        let whole = size.inverse() * turn * shift(-along) * turn.inverse() * shift(along);
        let free = shift(DVec3::new(1.0 + 2.0 * part, 2.0, 3.0 - 2.0 * part));
        let tied = free * shift(DVec3::Z * 4.0);
        for (name, expected) in [("pivoted", pivoted), ("along", whole), ("free", free), ("tied", tied)] {
            let (place, _) = nodes[name];
            let off = place.distance(expected.transform_point3(DVec3::ZERO));
            assert!(off < 1e-9, "{name} at {frame}: {off}");
        }
    }
}

/// A table holds no range: the key that keeps it must not lie behind a loop.
#[test]
fn tables_keep_loops_and_angles_of_any_kind() {
    let spin = r#"{"name": "spin", "rotate_axis": [0, 0, 1, 30]}"#;
    for controller in [TURN, LOOP, SAMPLED, HELD] {
        let source = scene(spin, "spin", controller);
        let path = Path::new("mill");
        let made = encoded(&source, Format::Csv, path, &Saving::default()).unwrap();
        let back = made.read_back(&source, path).unwrap();
        let verdict = judge(&source, &back.scene, &back.claim, Limits::NONE, back.precision);
        let largest = verdict.judged.iter().map(|judged| judged.error.largest).fold(0.0, f64::max);
        assert!(largest < 1e-6 && !verdict.judged.is_empty(), "{controller}: {} deg", largest.to_degrees());
    }
}

/// What translation, rotation and scale have no place for is told, with how much: y leans by a half of x for each length of its own.
#[test]
fn matrices_that_shear_are_told() {
    let usd = r#"#usda 1.0
(
    timeCodesPerSecond = 24
)
def Xform "leaning"
{
    matrix4d xformOp:transform.timeSamples = {
        0: ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) ),
        1: ( (1, 0, 0, 0), (0.5, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) ),
    }
    uniform token[] xformOpOrder = ["xformOp:transform"]
}
"#;
    let told = format!("shear, by {:.2} deg at most", 0.5_f64.atan().to_degrees());
    let notes = |text: &str, name: &str| {
        read_bytes(text.as_bytes(), Path::new(name), Assume::default()).unwrap().notes.join("; ")
    };
    let said = notes(usd, "x.usda");
    assert!(said.contains(&told), "{said}");
    let straight = usd.replace("(0.5, 1, 0, 0)", "(0, 2, 0, 0)");
    assert!(!notes(&straight, "x.usda").contains("shear"));
}
