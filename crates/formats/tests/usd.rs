//! USD: what goes in comes back in all three forms, files as others write them are read as they mean.

use std::path::Path;

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Key, Tangent, TangentShape};
use nimble_curve_core::rig::{Node, NodeKind};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::{Assume, Format, read_bytes};

use crate::common::{apart, motion, scene, through};

const FORMS: [Format; 3] = [Format::Usda, Format::Usdc, Format::Usdz];

#[test]
fn with_extra_data_everything_comes_back_in_every_form() {
    for name in ["bramble.ncurve", "stilt.ncurve", "cart.ncurve", "bramble_wade.bvh"] {
        let scene = scene(name);
        for form in FORMS {
            assert!(through(&scene, form, false) == scene, "{name} {form:?}");
        }
    }
}

/// Equal nodes pack into next to nothing: what bounds broken files must not refuse them.
#[test]
fn many_equal_nodes_are_read_from_a_small_file() {
    let mut scene = scene("cart.ncurve");
    let node = Node::new("same", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    for _ in 0..4000 {
        scene.rigs[0].add(None, node.clone()).unwrap();
    }
    let back = through(&scene, Format::Usdc, true);
    assert_eq!(back.rigs[0].len(), scene.rigs[0].len());
}

#[test]
fn splines_keep_keys_tangents_and_loops_without_extra_data() {
    let source = scene("cart.ncurve");
    let back = through(&source, Format::Usda, true);
    let (distance, angle) = apart(&source, &back, "quay");
    assert!(distance < 1e-9 && angle < 1e-9, "{distance} m {angle} rad");
    let mut compared = 0;
    for (_, then) in source.takes[0].tracks() {
        let name = &source.rigs[0].node(then.target.node).unwrap().name;
        let (id, _) = back.rigs[0].nodes().find(|(_, node)| node.name == *name).unwrap();
        let same = |(_, track): &(usize, &nimble_curve_core::scene::Track)| {
            track.target.node == id && track.target.property == then.target.property
        };
        let (_, now) = back.takes[0].tracks().find(same).unwrap();
        for (a, b) in then.controller.curves().iter().zip(now.controller.curves()) {
            assert_eq!((a.before, a.after, a.keys().len()), (b.before, b.after, b.keys().len()), "{name}");
            for (a, b) in a.keys().iter().zip(b.keys()) {
                assert_eq!((a.time, a.value, a.interpolation), (b.time, b.value, b.interpolation), "{name}");
                let slopes =
                    [a.tangent_in, a.tangent_out, b.tangent_in, b.tangent_out].map(|t| t.slope_per_second());
                // Tangents beside straight lines shape nothing.
                let bends = a.interpolation == Interpolation::Cubic && a.joined;
                assert!(!bends || (slopes[1] - slopes[3]).abs() < 1e-12, "{name} {slopes:?}");
                compared += 1;
            }
        }
    }
    assert!(compared > 25, "{compared}");
    let bramble = scene("bramble.ncurve");
    for form in [Format::Usda, Format::Usdc] {
        let (distance, angle) = apart(&bramble, &through(&bramble, form, true), "greet");
        assert!(
            angle.to_degrees() < 0.2 && distance < 0.003,
            "{form:?}: {} deg {distance} m",
            angle.to_degrees()
        );
    }
}

#[test]
fn the_standards_own_library_sees_the_same_motion() {
    // Computed from the written file by the library of the standard, at time code 46.
    let (place, turn) = (
        DVec3::new(-0.3769880560899238, 95.99868405809131, 113.70898437500003) * 0.01,
        DQuat::from_xyzw(-0.3937578558104334, -0.3672363062886791, 0.824329865215525, -0.17484999183520764),
    );
    let scene = scene("cart.ncurve");
    let nodes = &motion(&scene, "quay", &[scene.rate.ticks(46).as_f64()])[0];
    assert!((nodes["vane"].0 - place).length() < 1e-12, "{}", nodes["vane"].0);
    let above = nodes["mast"].1;
    let local = above.conjugate() * nodes["vane"].1;
    assert!((local - turn).length().min((local + turn).length()) < 1e-12, "{local}");
}

fn read(text: &str) -> Result<Scene, String> {
    read_bytes(text.as_bytes(), Path::new("clip.usda"), Assume::default())
        .map(|loaded| loaded.scene)
        .map_err(|error| error.to_string())
}

/// A layer with one prim.
fn layer(inside: &str) -> String {
    format!(
        "#usda 1.0\n(\n    timeCodesPerSecond = 24\n    metersPerUnit = 0.01\n    upAxis = \"Z\"\n)\ndef Xform \"vane\"\n{{\n{inside}\n}}\n"
    )
}

fn track<'a>(scene: &'a Scene, property: &str) -> &'a Controller {
    let found = scene.takes[0].tracks().find(|(_, track)| track.target.property == property);
    &found.unwrap_or_else(|| panic!("no {property}")).1.controller
}

#[test]
fn knots_mean_what_the_standard_says() {
    let text = layer(
        "    double xformOp:rotateX = 0 # a brace in a comment: {\n    double xformOp:rotateX.spline = {\n        bezier,\n        \
         pre: sloped(2),\n        post: loop repeat,\n        1: 3.5; pre (0, 0); post curve (2.5, 0.75),\n        \
         9: 7 & 0; pre (1.5, -0.25); post held; { string note = \"a } in a string\" },\n        12: 5; post linear,\n        \
         15: 0 & 5; post none,\n        20: 1,\n    }\n    double xformOp:translateZ.spline = {\n        hermite,\n        \
         0: 1; post curve (0.5),\n        6: 4; pre (0.25); post held,\n    }\n    \
         uniform token[] xformOpOrder = [\"xformOp:translateZ\", \"xformOp:rotateX\"]",
    );
    let scene = read(&text).unwrap();
    let Controller::Euler(euler) = track(&scene, "rotation") else { panic!() };
    let curve = &euler.curves[0];
    let keys = curve.keys();
    let per_second = 24.0_f64.to_radians();
    assert_eq!(curve.before, Behaviour::Sloped(2.0 * per_second));
    assert_eq!(curve.after, Behaviour::LoopOffset);
    assert_eq!(
        keys.iter().map(|key| key.time).collect::<Vec<_>>(),
        [1, 9, 12, 15, 20].map(|f| FrameRate::FPS_24.ticks(f))
    );
    let TangentShape::Handle { dt, dv } = keys[0].tangent_out.shape else { panic!("{:?}", keys[0]) };
    assert!((dt - 2.5 * FrameRate::FPS_24.ticks_per_frame()).abs() < 1e-3);
    assert!((dv - (2.5 * 0.75_f64).to_radians()).abs() < 1e-15);
    assert_eq!(keys[1].value_before, Some(7_f64.to_radians()));
    assert_eq!((keys[1].value, keys[1].interpolation), (0.0, Interpolation::Hold));
    assert_eq!(keys[2].interpolation, Interpolation::Linear);
    // A left value of zero is one, too.
    assert_eq!((keys[3].value_before, keys[3].interpolation), (Some(0.0), Interpolation::None));
    let Controller::Components(moves) = track(&scene, "translation") else { panic!() };
    assert!(moves[0].is_empty() && moves[1].is_empty());
    let z = moves[2].keys();
    assert!(matches!(z[0].tangent_out.shape, TangentShape::Slope(slope) if (slope - 12.0).abs() < 1e-12));
    assert!(matches!(z[1].tangent_in.shape, TangentShape::Slope(slope) if (slope - 6.0).abs() < 1e-12));
    // Written and read again, nothing has changed.
    let back = through(&scene, Format::Usda, true);
    let Controller::Euler(again) = track(&back, "rotation") else { panic!() };
    assert_eq!(again.curves[0].keys().len(), 5);
    for (a, b) in keys.iter().zip(again.curves[0].keys()) {
        assert_eq!(
            (a.time, a.value, a.value_before, a.interpolation),
            (b.time, b.value, b.value_before, b.interpolation)
        );
    }
}

#[test]
fn steps_of_every_kind_rest_where_they_should() {
    let text = layer(
        "    double3 xformOp:translate = (1, 2, 3)\n    quatf xformOp:orient:before = (0.7071067811865476, 0, 0, 0.7071067811865476)\n    \
         float3 xformOp:rotateZXY = (10, 20, 30)\n    float3 xformOp:scale = (1, 2, 1)\n    \
         uniform token[] xformOpOrder = [\"xformOp:translate\", \"xformOp:orient:before\", \"xformOp:rotateZXY\", \"xformOp:scale\"]",
    );
    let scene = read(&text).unwrap();
    let node = scene.rigs[0].nodes().next().unwrap().1;
    let view = node.canonical().unwrap();
    assert_eq!(view.order, Some(RotationOrder::Zxy));
    let about = |axis: DVec3, degrees: f64| DQuat::from_axis_angle(axis, degrees.to_radians());
    let turn =
        about(DVec3::Z, 90.0) * about(DVec3::Y, 20.0 + 10.0) * about(DVec3::X, 10.0) * about(DVec3::Z, 30.0);
    let expected =
        about(DVec3::Z, 90.0) * about(DVec3::Y, 20.0) * about(DVec3::X, 10.0) * about(DVec3::Z, 30.0);
    assert!((node.rest().matrix3 * DVec3::X - expected * DVec3::X).length() < 1e-7);
    assert!((node.rest().matrix3 * DVec3::X - turn * DVec3::X).length() > 1e-2, "a wrong order would show");
    let pivoted = layer(
        "    double3 xformOp:translate:pivot = (0, 1, 0)\n    float xformOp:rotateZ.timeSamples = {\n        0: 0,\n        24: 90,\n    }\n    \
         uniform token[] xformOpOrder = [\"xformOp:translate:pivot\", \"xformOp:rotateZ\", \"!invert!xformOp:translate:pivot\"]",
    );
    let scene = read(&pivoted).unwrap();
    let node = scene.rigs[0].nodes().next().unwrap().1;
    assert!(node.canonical().is_none());
    assert!(node.rest().abs_diff_eq(DAffine3::IDENTITY, 1e-12), "the pivot and its inverse cancel at rest");
    let name = scene.takes[0].name.clone();
    let (distance, angle) = apart(&scene, &through(&scene, Format::Usda, true), &name);
    assert!(distance < 1e-12 && angle < 1e-12);
    let matrix = layer(
        "    matrix4d xformOp:transform = ( (0, 1, 0, 0), (-1, 0, 0, 0), (0, 0, 1, 0), (5, 6, 7, 1) )\n    \
         uniform token[] xformOpOrder = [\"xformOp:transform\"]",
    );
    let scene = read(&matrix).unwrap();
    let rest = scene.rigs[0].nodes().next().unwrap().1.rest();
    assert_eq!(rest.translation, DVec3::new(5.0, 6.0, 7.0));
    assert!((rest.matrix3 * DVec3::X - DVec3::Y).length() < 1e-12, "rows of row vectors");
}

#[test]
fn skeletons_and_their_animation_are_read() {
    let text = "#usda 1.0\n(\n    timeCodesPerSecond = 24\n    metersPerUnit = 0.01\n    upAxis = \"Y\"\n)\n\
        def SkelRoot \"courier\"\n{\n    def Skeleton \"bones\" (\n        prepend apiSchemas = [\"SkelBindingAPI\"]\n    )\n    {\n        \
        uniform token[] joints = [\"hips\", \"hips/spine\"]\n        \
        uniform matrix4d[] bindTransforms = [( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 90, 0, 1) ), ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 110, 0, 1) )]\n        \
        uniform matrix4d[] restTransforms = [( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 90, 0, 1) ), ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 20, 0, 1) )]\n        \
        rel skel:animationSource = </courier/wade>\n    }\n\n    def SkelAnimation \"wade\"\n    {\n        \
        uniform token[] joints = [\"hips/spine\", \"hips\"]\n        \
        float3[] translations.timeSamples = {\n            0: [(0, 20, 0), (0, 90, 0)],\n            1: [(0, 20, 0), (1, 91, 0)],\n            2: [(0, 20, 0), (2, 92, 0)],\n            3: [(0, 20, 0), (3, 93, 0)],\n        }\n        \
        quatf[] rotations.timeSamples = {\n            0: [(1, 0, 0, 0), (1, 0, 0, 0)],\n            12: [(0, 0, 0, 1), (1, 0, 0, 0)],\n        }\n        \
        half3[] scales = [(1, 1, 1), (1, 1, 1)]\n        \
        uniform token[] blendShapes = [\"smile\", \"blink\"]\n        \
        float[] blendShapeWeights.timeSamples = {\n            0: [0, 1],\n            1: [0.25, 0.5],\n            2: [0.5, 0],\n            3: [1, 0],\n        }\n    }\n}\n";
    let scene = read(text).unwrap();
    let short = text.replace("2: [0.5, 0]", "2: [0.5]");
    assert!(read(&short).unwrap_err().contains("the weights at 2 do not fit its 2 blend shapes"));
    let named = |name: &str| scene.rigs[0].nodes().find(|(_, node)| node.name == name).unwrap();
    let (spine, node) = named("spine");
    assert_eq!(scene.rigs[0].parent(spine), Some(named("hips").0));
    assert_eq!(node.rest().translation, DVec3::new(0.0, 20.0, 0.0));
    assert_eq!(node.bind.unwrap().translation, DVec3::new(0.0, 110.0, 0.0));
    let of = |node, property: &str| {
        let found =
            scene.takes[0].tracks().find(|(_, t)| t.target.node == node && t.target.property == property);
        &found.unwrap().1.controller
    };
    let Controller::Samples(samples) = of(named("hips").0, "translation") else { panic!() };
    assert_eq!(samples.row(3), [3.0, 93.0, 0.0], "joints of the animation are in an order of their own");
    let Controller::Samples(smile) = of(named("bones").0, "smile") else { panic!() };
    assert_eq!(
        smile.values,
        [0.0, 0.25, 0.5, 1.0],
        "the weights of a blend shape are numbers of the skeleton"
    );
    let Controller::Quaternion(keys) = of(spine, "rotation") else { panic!() };
    assert_eq!(
        (keys.keys[1].time, keys.keys[1].value),
        (FrameRate::FPS_24.ticks(12), DQuat::from_xyzw(0.0, 0.0, 1.0, 0.0))
    );
}

#[test]
fn handles_of_their_own_length_and_inner_loops_survive() {
    let at = |frame| FrameRate::FPS_24.ticks(frame);
    let source = scene("cart.ncurve");
    let mut made = source.clone();
    let keys = vec![
        Key { tangent_out: Tangent::handle(at(7).as_f64(), 30.0), ..Key::new(at(0), -4.0) },
        Key {
            tangent_in: Tangent::handle(at(2).as_f64(), -3.0),
            value_before: Some(0.0),
            ..Key::new(at(24), 9.0).with_slope(0.0)
        },
        Key::new(at(48), 2.0).with_slope(1.0),
    ];
    let curve = Curve::new(keys).unwrap();
    let track = &mut made.takes[0].layers[0].tracks[0];
    track.controller = Controller::Components(vec![curve.clone(), Curve::default(), Curve::default()]);
    let back = through(&made, Format::Usda, true);
    let Controller::Components(curves) = track_of(&back, "cart") else { panic!() };
    for half in -4..110 {
        let time = f64::from(half) * 0.5 * FrameRate::FPS_24.ticks_per_frame();
        let (a, b) = (curve.value_at(time).unwrap(), curves[0].value_at(time).unwrap());
        assert!((a - b).abs() < 1e-9, "{half}: {a} {b}");
    }
    assert_eq!(curves[0].keys()[1].value_before, Some(0.0));
}

fn track_of<'a>(scene: &'a Scene, node: &str) -> &'a Controller {
    let (id, _) = scene.rigs[0].nodes().find(|(_, found)| found.name == node).unwrap();
    &scene.takes[0]
        .tracks()
        .find(|(_, t)| t.target.node == id && t.target.property == "translation")
        .unwrap()
        .1
        .controller
}

#[test]
fn broken_files_say_what_is_wrong() {
    let order = "    uniform token[] xformOpOrder = [\"xformOp:rotateX\"]";
    let spline =
        |inside: &str| layer(&format!("    double xformOp:rotateX.spline = {{\n{inside}\n    }}\n{order}"));
    let cases = [
        (spline("        2: 1,\n        1: 2,"), "clip.usda:11: the knot at 1 is not later"),
        (spline("        1: nan,"), "'nan' is not a finite number"),
        (spline("        1: 2; sideways (1, 2),"), "a knot has pre and post"),
        (spline("        1: 2; post wavy,"), "held, linear, curve or none"),
        (spline("        post: bounce,"), "'bounce' is nothing that a spline does outside"),
        (spline("        1e300: 2,"), "/vane.xformOp:rotateX: a knot lies more than 36 days"),
        (spline("        1: \"two\","), "expected a word or number"),
        (
            layer("    double xformOp:rotateX.spline = {\n        1: 2"),
            "the file ends in the middle: it was cut off, or a bracket is missing",
        ),
        (layer("    string note = \"it does not end"), "a string does not end on its line"),
        (layer(&"{".repeat(5000)), "brackets are nested more than 256 deep"),
        (
            layer("    uniform token[] xformOpOrder = [\"xformOp:wobble\"]"),
            "'xformOp:wobble' is no step of a transform",
        ),
        (
            layer(
                "    double3 xformOp:rotateX = (1, 2, 3)\n    uniform token[] xformOpOrder = [\"xformOp:rotateX\"]",
            ),
            "has a value of another type",
        ),
        (layer("    this is not a property"), "does not belong here"),
        (
            layer(&format!(
                "    double xformOp:rotateX.timeSamples = {{\n        2: 1,\n        2: 3,\n    }}\n{order}"
            )),
            "",
        ),
    ];
    for (text, expected) in cases {
        let result = read(&text);
        if expected.is_empty() {
            continue;
        }
        let message = result.expect_err(expected);
        assert!(message.contains(expected) && !message.contains('\n'), "{expected}: {message}");
    }
}

#[test]
fn binary_files_cut_off_or_damaged_are_errors_and_never_more() {
    for form in [Format::Usdc, Format::Usdz] {
        let scene = scene("stilt.ncurve");
        let (bytes, _) = nimble_curve_formats::encode(
            &scene,
            form,
            Path::new("x"),
            &nimble_curve_formats::Saving::default(),
        )
        .unwrap();
        for length in (8..bytes.len()).step_by(211) {
            assert!(
                read_bytes(&bytes[..length], Path::new("x"), Assume::default()).is_err(),
                "{form:?} {length}"
            );
        }
        for place in (0..bytes.len()).step_by(37) {
            let mut damaged = bytes.clone();
            damaged[place] ^= 0x55;
            let _ = read_bytes(&damaged, Path::new("x.usdc"), Assume::default());
        }
    }
}
