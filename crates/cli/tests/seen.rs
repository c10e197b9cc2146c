//! What other programs see in files: motion beside holds, jumps, upright handles and keys a hair apart, measured here.

use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::value::Value;
use nimble_curve_formats::{Assume, read};
use serde_json::json;
use tempfile::tempdir;

use crate::common::{degrees_between, rotations, succeed, values};

/// What other programs see in a file that plays at 24 frames a second.
fn as_others(path: &Path) -> Scene {
    let assume = Assume { without_extra: true, rate: Some(FrameRate::FPS_24), ..Assume::default() };
    read(path, assume).unwrap().scene
}

fn vectors(scene: &Scene, node: &str, property: &str, frames: &[f64]) -> Vec<DVec3> {
    let all = values(scene, node, property, frames.iter().copied());
    let vector = |value: Value| match value {
        Value::Vector(v) => v,
        other => panic!("{other:?} is no vector"),
    };
    all.into_iter().map(vector).collect()
}

/// One node with a list of steps: it turns about a pivot, holding, jumping and swinging.
fn about_a_pivot() -> serde_json::Value {
    let angles = json!({ "angles": { "order": "xyz", "z": { "keys": [
        { "frame": 0, "value": 0, "interpolation": "hold" },
        { "frame": 6, "value": 65, "interpolation": "linear" },
        { "frame": 12, "value": 5, "slope": 0 },
        { "frame": 18, "value": 125, "before": 95, "slope": 0 },
        { "frame": 24, "value": 125 },
    ] } } });
    json!({
        "ncurve": 1, "rate": "24",
        "space": { "metres_per_unit": 1.0, "up": "y", "handedness": "right" },
        "rigs": [{ "name": "gate", "nodes": [{ "name": "wing", "transform": [
            { "name": "pivot", "translate": [0.5, 0.2, 0] },
            { "name": "rotation", "rotate": { "order": "xyz", "angles": [0, 0, 0] } },
            { "name": "pivot", "translate": [0.5, 0.2, 0], "inverse": true },
        ] }] }],
        "takes": [{ "name": "swing", "range": [0, 24], "layers": [{ "name": "base", "tracks": [
            { "channel": "wing:rotation", "controller": angles },
        ] }] }],
    })
}

/// The same motion in degrees, by the formulas of holds, lines and cubics with level ends.
fn angle(frame: f64) -> f64 {
    let ease = |part: f64| part * part * (3.0 - 2.0 * part);
    match frame {
        ..6.0 => 0.0,
        ..12.0 => 65.0 - 60.0 * (frame - 6.0) / 6.0,
        ..18.0 => 5.0 + 90.0 * ease((frame - 12.0) / 6.0),
        _ => 125.0,
    }
}

#[test]
fn what_turns_about_a_pivot_holds_and_jumps_in_other_formats() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("gate.ncurve"), about_a_pivot().to_string()).unwrap();
    // A tick beside keys, where a value holds up to the next one, and everywhere between.
    let frames: Vec<f64> =
        (0..24).flat_map(|frame| [0.0, 0.25, 0.5, 0.75, 0.99].map(|part| f64::from(frame) + part)).collect();
    let pivot = DVec3::new(0.5, 0.2, 0.0);
    for name in ["gate.glb", "gate.usda", "gate.dae"] {
        let said = succeed(at, &["convert", "gate.ncurve", name, "--keep-start"]);
        assert!(!said.contains("not judged"), "{said}");
        let seen = as_others(&at.join(name));
        if seen.rigs[0].nodes().next().unwrap().1.canonical().is_none() {
            // The format holds the steps as they are.
            continue;
        }
        let turns = rotations(&seen, "wing", frames.iter().copied());
        let places = vectors(&seen, "wing", "translation", &frames);
        for ((frame, turn), place) in frames.iter().zip(turns).zip(places) {
            let wanted = DQuat::from_rotation_z(angle(*frame).to_radians());
            let off = degrees_between(turn, wanted);
            assert!(off < 0.11, "{name}: {off} deg off at frame {frame}");
            let away = (place - (pivot - wanted * pivot)).length();
            assert!(away < 1.1e-3, "{name}: {away} m off at frame {frame}");
        }
    }
    assert!(as_others(&at.join("gate.glb")).rigs[0].nodes().next().unwrap().1.canonical().is_some());
}

#[test]
fn steps_that_cannot_be_evaluated_are_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut gate = about_a_pivot();
    gate["takes"][0]["layers"][0]["tracks"][0]["controller"] =
        json!({ "procedural": { "kind": "expression", "text": "sin(time)" } });
    std::fs::write(at.join("gate.ncurve"), gate.to_string()).unwrap();
    let output = crate::common::run(at, &["convert", "gate.ncurve", "gate.glb"]);
    let said = [output.stdout, output.stderr].map(|text| String::from_utf8(text).unwrap()).concat();
    assert!(said.contains("other programs do not see it: wing:rotation"), "{said}");
}

/// A COLLADA file of one bone whose height has keys at 0, 0.5 and 1 s, the first and last with handles that stand upright.
fn upright() -> String {
    let source = |id: &str, numbers: &str, stride: usize| {
        let count = numbers.split(' ').count();
        format!(
            "<source id='{id}'><float_array id='{id}-array' count='{count}'>{numbers}</float_array>\
             <technique_common><accessor source='#{id}-array' count='{}' stride='{stride}'>{}\
             </accessor></technique_common></source>",
            count / stride,
            "<param name='V' type='float'/>".repeat(stride),
        )
    };
    format!(
        "<?xml version='1.0'?><COLLADA xmlns='http://www.collada.org/2005/11/COLLADASchema' version='1.4.1'>\
         <asset><unit name='metre' meter='1'/><up_axis>Y_UP</up_axis></asset>\
         <library_animations><animation id='hop'>{}{}{}{}\
         <source id='ways'><Name_array id='ways-array' count='3'>BEZIER BEZIER BEZIER</Name_array>\
         <technique_common><accessor source='#ways-array' count='3' stride='1'><param name='I' type='name'/>\
         </accessor></technique_common></source>\
         <sampler id='s'><input semantic='INPUT' source='#times'/><input semantic='OUTPUT' source='#values'/>\
         <input semantic='INTERPOLATION' source='#ways'/><input semantic='IN_TANGENT' source='#into'/>\
         <input semantic='OUT_TANGENT' source='#out'/></sampler>\
         <channel source='#s' target='hips/translation.Y'/></animation></library_animations>\
         <library_visual_scenes><visual_scene id='all'><node id='hips' sid='hips' name='hips' type='JOINT'>\
         <translate sid='translation'>0 1 0</translate></node></visual_scene></library_visual_scenes>\
         <scene><instance_visual_scene url='#all'/></scene></COLLADA>",
        source("times", "0 0.5 1", 1),
        source("values", "1 1.5 1", 1),
        source("into", "0 0.6 0.25 1.5 1 1.25", 2),
        source("out", "0 1.25 0.75 1.5 1 1.25", 2),
    )
}

#[test]
fn a_curve_whose_end_handles_stand_upright_is_read() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("hop.dae"), upright()).unwrap();
    succeed(at, &["convert", "hop.dae", "hop.ncurve"]);
    let scene = crate::common::scene(&at.join("hop.ncurve"));
    // Bézier pieces with control times 0, 0, 0.25, 0.5 and the mirror of these.
    for part in 0..=10 {
        let part = f64::from(part) / 10.0;
        let rest = 1.0 - part;
        let along = |p: [f64; 4]| {
            rest * rest * rest * p[0]
                + 3.0 * rest * rest * part * p[1]
                + 3.0 * rest * part * part * p[2]
                + part * part * part * p[3]
        };
        let (seconds, height) = (along([0.0, 0.0, 0.25, 0.5]), along([1.0, 1.25, 1.5, 1.5]));
        for seconds in [seconds, 1.0 - seconds] {
            let found = vectors(&scene, "hips", "translation", &[seconds * scene.rate.fps()])[0].y;
            assert!((found - height).abs() < 1e-5, "{found} for {height} at {seconds} s");
        }
    }
}

#[test]
fn keys_a_hair_beside_a_frame_stay_two_keys() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let near = upright().replace("0 0.5 1</float_array>", "0 0.4999995 0.5</float_array>");
    let near = near.replace("0 0.6 0.25 1.5 1 1.25", "0 1 0.25 1.5 0.49999975 1.25");
    let near = near.replace("0 1.25 0.75 1.5 1 1.25", "0.1 1 0.49999975 1.5 0.5 1");
    std::fs::write(at.join("near.dae"), near).unwrap();
    succeed(at, &["convert", "near.dae", "near.ncurve", "--rate", "24"]);
    let scene = crate::common::scene(&at.join("near.ncurve"));
    assert_eq!(scene.takes[0].layers[0].tracks[0].controller.curves()[1].keys().len(), 3);
    let heights = vectors(&scene, "hips", "translation", &[0.0, 11.9999, 12.0, 12.5]);
    assert!((heights[1].y - 1.5).abs() < 1e-3 && (heights[2].y - 1.0).abs() < 1e-9, "{heights:?}");
}
