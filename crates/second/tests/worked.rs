//! The worked numbers of docs/format.md, by both evaluators.

use glam::DQuat;
use nimble_curve_core::evaluate::PropertySampler;
use nimble_curve_core::rig::OpValue;
use nimble_curve_core::rotation::quat_from_euler;
use nimble_curve_core::scene::Target;
use nimble_curve_core::value::Value as Own;
use nimble_curve_second::scene::{Scene, Value};
use nimble_curve_second::turn::apart;
use serde_json::json;

#[test]
fn the_worked_numbers_of_the_page_are_what_comes_out() {
    let page = include_str!("../../../docs/format.md");
    let table = page.split("## Worked numbers").nth(1).unwrap();
    let mut count = 0;
    for row in table.lines().filter(|line| line.starts_with("| ") && line.contains("`{")) {
        let (what, rest) = row.split_once(" | `{").unwrap();
        let (controller, values) = rest.split_once("` | ").unwrap();
        let controller: serde_json::Value = serde_json::from_str(&format!("{{{controller}")).unwrap();
        let scene = json!({
            "ncurve": 1, "rate": "24",
            "space": { "metres_per_unit": 1.0, "up": "y", "handedness": "right" },
            "rigs": [{ "name": "face", "nodes": [
                { "name": "mask", "attributes": [{ "name": "smile", "number": { "default": 0 } }] },
            ] }],
            "takes": [{ "name": "grin", "range": [0, 30], "layers": [{ "name": "base", "tracks": [
                { "channel": "mask:smile", "controller": controller },
            ] }] }],
        });
        let text = scene.to_string();
        let first = nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| panic!("{what}: {e:?}"));
        let second = Scene::read(&text);
        let node = first.rigs[0].nodes().next().unwrap().0;
        let target = Target { rig: 0, node, property: "smile".into() };
        let mut sampler = PropertySampler::new(&first, &first.takes[0], &target).unwrap();
        let values: Vec<(f64, f64)> = values
            .trim_end_matches('|')
            .split(';')
            .map(|pair| pair.trim().split_once(": ").unwrap())
            .map(|(frame, value)| (frame.parse().unwrap(), value.trim().parse().unwrap()))
            .collect();
        assert!(values.len() >= 2, "{what}");
        for (frame, wanted) in values {
            let Own::Number(own) = sampler.value_at(frame * first.rate.ticks_per_frame()) else {
                panic!("{what}")
            };
            assert!((own - wanted).abs() < 1e-9, "{what}: {own} for {wanted} at frame {frame}");
            let Value::Numbers(other) = second.value(0, 0, "smile", frame) else { panic!("{what}") };
            assert!(
                (other[0] - wanted).abs() < 1e-9,
                "{what}: second {} for {wanted} at frame {frame}",
                other[0]
            );
            count += 1;
        }
    }
    assert!(count >= 30, "{count}");
}

/// A scene of a node that rests at nothing, with a layer each, from the table's layers: a controller, or a layer's fields
/// beside one.
fn turned(layers: &[serde_json::Value]) -> String {
    let layers: Vec<serde_json::Value> = (layers.iter().enumerate())
        .map(|(index, given)| {
            let mut layer = given.clone();
            let controller = match given.get("controller") {
                Some(controller) => {
                    layer.as_object_mut().unwrap().remove("controller");
                    controller.clone()
                }
                None => {
                    layer = json!({});
                    given.clone()
                }
            };
            layer["name"] = json!(format!("layer {index}"));
            layer["tracks"] = json!([{ "channel": "mast:rotation", "controller": controller }]);
            layer
        })
        .collect();
    json!({
        "ncurve": 1, "rate": "24",
        "space": { "metres_per_unit": 1.0, "up": "y", "handedness": "right" },
        "rigs": [{ "name": "boat", "nodes": [{ "name": "mast" }] }],
        "takes": [{ "name": "sail", "range": [0, 30], "layers": layers }],
    })
    .to_string()
}

#[test]
fn the_worked_rotations_of_the_page_are_what_comes_out() {
    let page = include_str!("../../../docs/format.md");
    let table = page.split("## Worked numbers").nth(1).unwrap();
    let mut count = 0;
    for row in table.lines().filter(|line| line.starts_with("| ") && line.contains("`[{")) {
        let (what, rest) = row.split_once(" | `[{").unwrap();
        let (layers, values) = rest.split_once("` | ").unwrap();
        let layers: Vec<serde_json::Value> = serde_json::from_str(&format!("[{{{layers}")).unwrap();
        let text = turned(&layers);
        let first = nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| panic!("{what}: {e:?}"));
        let second = Scene::read(&text);
        let node = first.rigs[0].nodes().next().unwrap().0;
        let target = Target { rig: 0, node, property: "rotation".into() };
        let mut sampler = PropertySampler::new(&first, &first.takes[0], &target).unwrap();
        for pair in values.trim_end_matches('|').split(';') {
            let (frame, angles) = pair.trim().split_once(": ").unwrap();
            let frame: f64 = frame.parse().unwrap();
            let angles: Vec<f64> = angles.split_whitespace().map(|angle| angle.parse().unwrap()).collect();
            let [x, y, z] = [0, 1, 2].map(|axis| angles[axis].to_radians());
            let wanted = DQuat::from_rotation_z(z) * DQuat::from_rotation_y(y) * DQuat::from_rotation_x(x);
            let own = match sampler.value_at(frame * first.rate.ticks_per_frame()) {
                Own::Euler { order, angles } => quat_from_euler(order, angles),
                Own::Quaternion(turn) => turn,
                other => panic!("{what}: {other:?}"),
            };
            let (_, turn) = second.local(0, 0, frame);
            for (who, found) in [("first", own), ("second", turn)] {
                let off = apart(wanted, found);
                assert!(off < 1e-6, "{what}, {who}: {off} deg off at {frame}");
            }
            count += 1;
        }
    }
    assert_eq!(count, 18);
}

#[test]
fn the_shear_of_the_page_is_that_of_the_program() {
    let point = glam::DVec3::new(1.0, 2.0, 3.0);
    for (shear, wanted) in [([0.5, 0.0, 2.0], [2.0, 8.0, 3.0]), ([0.0, 1.0, 0.0], [4.0, 2.0, 3.0])] {
        let made = OpValue::Shear(glam::DVec3::from_array(shear)).affine().transform_point3(point);
        assert_eq!(made.to_array(), wanted);
    }
}
