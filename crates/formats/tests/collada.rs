//! COLLADA: what goes in comes back, files as others write them are read as they mean, broken ones say what is wrong.

use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, TangentShape};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::{Assume, Format, read_bytes};

use crate::common::{apart, scene, through};

#[test]
fn with_extra_data_everything_comes_back() {
    for name in ["bramble.ncurve", "stilt.ncurve", "cart.ncurve", "bramble_wade.bvh"] {
        let scene = scene(name);
        assert!(through(&scene, Format::Collada, false) == scene, "{name}");
    }
}

#[test]
fn without_extra_data_curves_of_one_layer_keep_keys_and_tangents() {
    let source = scene("cart.ncurve");
    let back = through(&source, Format::Collada, true);
    let (distance, angle) = apart(&source, &back, "quay");
    assert!(distance < 1e-9 && angle < 1e-9, "{distance} m, {angle} rad");
    let curves = |scene: &Scene| -> Vec<(String, Vec<Curve>)> {
        let named = |track: &nimble_curve_core::scene::Track| {
            scene.rigs[0].node(track.target.node).unwrap().name.clone() + &track.target.property
        };
        let tracks =
            scene.takes[0].tracks().map(|(_, track)| (named(track), track.controller.curves().to_vec()));
        tracks.collect()
    };
    let (source, back) = (curves(&source), curves(&back));
    let mut compared = 0;
    for (name, then) in &source {
        let now = &back.iter().find(|(found, _)| found == name).unwrap().1;
        // What repeats outside its keys is written out, which 1.4.1 cannot say otherwise.
        for (then, now) in then.iter().zip(now).filter(|(then, _)| then.is_held_outside()) {
            assert_eq!(then.keys().len(), now.keys().len(), "{name}");
            for (a, b) in then.keys().iter().zip(now.keys()) {
                assert_eq!((a.time, a.value, a.interpolation), (b.time, b.value, b.interpolation), "{name}");
                compared += 1;
            }
        }
    }
    assert!(compared >= 20, "{compared}");
}

#[test]
fn without_extra_data_layers_come_back_as_one_within_the_tolerance() {
    let source = scene("bramble.ncurve");
    let (distance, angle) = apart(&source, &through(&source, Format::Collada, true), "greet");
    assert!(angle.to_degrees() < 0.3, "{} degrees", angle.to_degrees());
    assert!(distance < 0.003, "{distance} m");
}

fn read(text: &str) -> Result<Scene, String> {
    read_bytes(text.as_bytes(), Path::new("clip.dae"), Assume::default())
        .map(|loaded| loaded.scene)
        .map_err(|error| error.to_string())
}

/// A target with its times, values, interpolations and more inputs.
type Channel<'a> = (&'a str, &'a str, &'a str, &'a str, &'a [(&'a str, &'a str, usize)]);

/// A document of one node with these transforms and animations.
fn document(transforms: &str, channels: &[Channel<'_>]) -> String {
    let source = |id: &str, text: &str, stride: usize| {
        let count = text.split_whitespace().count();
        let kind =
            if text.trim_start().starts_with(|c: char| c.is_ascii_alphabetic()) { "Name" } else { "float" };
        format!(
            "<source id=\"{id}\"><{kind}_array id=\"{id}-a\" count=\"{count}\">{text}</{kind}_array><technique_common>\
             <accessor source=\"#{id}-a\" count=\"{}\" stride=\"{stride}\"/></technique_common></source>",
            count / stride
        )
    };
    let mut animations = String::new();
    for (index, (target, times, values, ways, more)) in channels.iter().enumerate() {
        let count = times.split_whitespace().count();
        let stride = (values.split_whitespace().count() / count).max(1);
        let mut inputs = String::new();
        let mut sources = String::new();
        let all = [("INPUT", *times, 1), ("OUTPUT", *values, stride), ("INTERPOLATION", *ways, 1)];
        for (semantic, text, stride) in all.iter().chain(*more) {
            sources += &source(&format!("s{index}{semantic}"), text, *stride);
            inputs += &format!("<input semantic=\"{semantic}\" source=\"#s{index}{semantic}\"/>");
        }
        let behaviours = "pre_behavior=\"GRADIENT\" post_behavior=\"CYCLE_RELATIVE\"";
        animations += &format!(
            "<animation id=\"a{index}\">{sources}<sampler id=\"p{index}\" {}>{inputs}</sampler>\
             <channel source=\"#p{index}\" target=\"{target}\"/></animation>",
            if ways.contains("HERMITE") { behaviours } else { "" }
        );
    }
    format!(
        "<?xml version=\"1.0\"?><COLLADA xmlns=\"http://www.collada.org/2005/11/COLLADASchema\" version=\"1.4.1\">\
         <asset><unit name=\"inch\" meter=\"0.0254\"/><up_axis>Z_UP</up_axis></asset>\
         <library_animations>{animations}</library_animations>\
         <library_visual_scenes><visual_scene id=\"v\"><node id=\"vane\" name=\"vane\" type=\"JOINT\">{transforms}</node>\
         </visual_scene></library_visual_scenes><scene><instance_visual_scene url=\"#v\"/></scene></COLLADA>"
    )
}

const ORIENTED: &str = "<translate sid=\"t\">1 2 3</translate><rotate sid=\"restTurnZ\">0 0 1 90</rotate>\
    <rotate sid=\"rotateZ\">0 0 1 0</rotate><rotate sid=\"rotateY\">0 1 0 0</rotate>\
    <rotate sid=\"rotateX\">-1 0 0 20</rotate><scale sid=\"s\">1 1 1</scale>";

fn track<'a>(scene: &'a Scene, property: &str) -> &'a Controller {
    let found = scene.takes[0].tracks().find(|(_, track)| track.target.property == property);
    &found.unwrap_or_else(|| panic!("no {property}")).1.controller
}

#[test]
fn stacks_of_single_turns_are_one_rotation_with_its_order() {
    let channels: [(&str, &str, &str, &str, &[_]); 2] = [
        ("vane/rotateX.ANGLE", "0 0.5", "20 50", "LINEAR LINEAR", &[]),
        ("vane/rotateZ(3)", "0 1", "0 30", "STEP STEP", &[]),
    ];
    let scene = read(&document(ORIENTED, &channels)).unwrap();
    assert_eq!(scene.space.metres_per_unit, 0.0254);
    let node = scene.rigs[0].nodes().next().unwrap().1;
    let view = node.canonical().unwrap();
    assert_eq!(view.order, Some(RotationOrder::Xyz), "the first rotate is the outermost");
    assert!((view.before * DVec3::X - DVec3::Y).length() < 1e-12);
    // About -x: the angle about x is the other way round.
    assert!((view.angles.x.to_degrees() + 20.0).abs() < 1e-12);
    let Controller::Euler(euler) = track(&scene, "rotation") else { panic!() };
    let last = euler.curves[0].keys()[1];
    assert_eq!(last.time, FrameRate::FPS_24.ticks(12));
    assert!((last.value.to_degrees() + 50.0).abs() < 1e-12);
    assert_eq!(euler.curves[2].keys()[0].interpolation, Interpolation::Hold);
    assert!(euler.curves[1].is_empty());
}

#[test]
fn tangents_of_one_and_two_numbers_and_hermite_ones_mean_their_slopes() {
    let t = "<translate sid=\"t\">0 0 0</translate>";
    let channels: [(&str, &str, &str, &str, &[_]); 3] = [
        // Control points at a third, and one at half of the piece; 3 units in a second.
        (
            "vane/t.X",
            "0 1 3",
            "0 1 2",
            "BEZIER BEZIER BEZIER",
            &[
                ("IN_TANGENT", "-0.3 0 0.6666666667 0 2.3333333333 2", 2),
                ("OUT_TANGENT", "0.5 1.5 1.6666666667 1 4 2", 2),
            ],
        ),
        // Values alone.
        ("vane/t.Y", "0 1", "0 1", "BEZIER BEZIER", &[("IN_TANGENT", "0 0.5", 1), ("OUT_TANGENT", "1 2", 1)]),
        // Three times the handles.
        (
            "vane/t(2)",
            "0 2",
            "0 1",
            "HERMITE HERMITE",
            &[("IN_TANGENT", "2 0 2 6", 2), ("OUT_TANGENT", "2 4 2 0", 2)],
        ),
    ];
    let scene = read(&document(t, &channels)).unwrap();
    let Controller::Components(curves) = track(&scene, "translation") else { panic!() };
    let x = curves[0].keys();
    let TangentShape::Handle { dv, .. } = x[0].tangent_out.shape else {
        panic!("half of the piece is weighted")
    };
    assert_eq!((dv, x[0].tangent_out.slope_per_second()), (1.5, 3.0));
    assert!(matches!(x[1].tangent_in.shape, TangentShape::Slope(slope) if (slope - 3.0).abs() < 1e-6));
    assert!(matches!(x[1].tangent_out.shape, TangentShape::Slope(slope) if slope == 0.0));
    let y = curves[1].keys();
    assert!(matches!(y[0].tangent_out.shape, TangentShape::Slope(slope) if (slope - 3.0).abs() < 1e-12));
    assert!(matches!(y[1].tangent_in.shape, TangentShape::Slope(slope) if (slope - 1.5).abs() < 1e-12));
    let z = &curves[2];
    assert!(
        matches!(z.keys()[0].tangent_out.shape, TangentShape::Slope(slope) if (slope - 2.0).abs() < 1e-12)
    );
    assert!(
        matches!(z.keys()[1].tangent_in.shape, TangentShape::Slope(slope) if (slope - 3.0).abs() < 1e-12)
    );
    assert_eq!((z.before, z.after), (Behaviour::Linear, Behaviour::LoopOffset));
}

#[test]
fn tension_continuity_and_bias_become_the_slopes_that_they_mean() {
    let t = "<translate sid=\"t\">0 0 0</translate>";
    let shape: [(&str, &str, usize); 3] =
        [("TENSION", "0 1 0", 1), ("CONTINUITY", "0 0 0", 1), ("BIAS", "0 0 0", 1)];
    let scene = read(&document(t, &[("vane/t.X", "0 1 2", "0 3 8", "TCB TCB TCB", &shape)])).unwrap();
    let Controller::Components(curves) = track(&scene, "translation") else { panic!() };
    assert_eq!(curves[0].keys()[1].tangent_in.slope_per_second(), 0.0, "full tension stands still");
    let loose: [(&str, &str, usize); 3] =
        [("TENSION", "0 0 0", 1), ("CONTINUITY", "0 0 0", 1), ("BIAS", "0 0 0", 1)];
    let scene = read(&document(t, &[("vane/t.X", "0 1 2", "0 3 8", "TCB TCB TCB", &loose)])).unwrap();
    let Controller::Components(curves) = track(&scene, "translation") else { panic!() };
    assert!((curves[0].keys()[1].tangent_in.slope_per_second() - 4.0).abs() < 1e-12, "the chord across");
}

#[test]
fn baked_matrices_are_taken_apart() {
    let turn = DQuat::from_rotation_z(0.5);
    let row = |angle: f64, x: f64| {
        let m =
            glam::DMat4::from_rotation_translation(DQuat::from_rotation_z(angle), DVec3::new(x, 2.0, 3.0));
        m.transpose().to_cols_array().map(|number| number.to_string()).join(" ")
    };
    let matrix = format!("<matrix sid=\"m\">{}</matrix>", row(0.25, 1.0));
    let frames: Vec<String> = (0..6).map(|frame| format!("{}", f64::from(frame) / 24.0)).collect();
    let rows: Vec<String> = (0..6).map(|frame| row(0.1 * f64::from(frame), f64::from(frame))).collect();
    let ways = ["LINEAR"; 6].join(" ");
    let channel = ("vane/m", frames.join(" "), rows.join(" "));
    let text = document(&matrix, &[(channel.0, &channel.1, &channel.2, &ways, &[])]);
    let scene = read(&text).unwrap();
    let node = scene.rigs[0].nodes().next().unwrap().1;
    assert!((node.rest().translation - DVec3::new(1.0, 2.0, 3.0)).length() < 1e-12);
    let Controller::Samples(turns) = track(&scene, "rotation") else { panic!() };
    assert!((DQuat::from_slice(turns.row(5)) - turn).length() < 1e-12);
    let Controller::Samples(places) = track(&scene, "translation") else { panic!() };
    assert_eq!(places.row(4), [4.0, 2.0, 3.0]);
    assert!(scene.takes[0].tracks().all(|(_, track)| track.target.property != "scale"));
}

#[test]
fn pivots_stay_the_list_that_they_are() {
    let pivoted = "<translate sid=\"t\">1 0 0</translate><translate sid=\"pivot\">0 1 0</translate>\
        <rotate sid=\"r\">0 0 1 0</rotate><translate sid=\"back\">0 -1 0</translate>";
    let scene = read(&document(pivoted, &[("vane/r.ANGLE", "0 1", "0 90", "LINEAR LINEAR", &[])])).unwrap();
    let node = scene.rigs[0].nodes().next().unwrap().1;
    assert!(node.canonical().is_none());
    let names: Vec<&str> = node.transform.iter().map(|op| op.name.as_str()).collect();
    assert_eq!(names, ["t", "pivot", "r", "back"]);
    assert!(matches!(track(&scene, "r"), Controller::Components(curves) if curves.len() == 1));
    // Written and read again it is the same list.
    let back = through(&scene, Format::Collada, true);
    let (distance, angle) = apart(&scene, &back, &scene.takes[0].name);
    assert!(distance < 1e-12 && angle < 1e-12);
    // A format without lists gets it sampled and fitted.
    let (distance, angle) = apart(&scene, &through(&scene, Format::Glb, true), &scene.takes[0].name);
    assert!(distance < 0.0006 && angle.to_degrees() < 0.1, "{distance} {angle}");
}

#[test]
fn utf_16_with_a_byte_order_mark_is_read() {
    let text = document("<translate sid=\"t\">0 0 0</translate>", &[]).replace("vane", "Wetterhähnchen");
    for big in [false, true] {
        let mut bytes = if big { vec![0xfe, 0xff] } else { vec![0xff, 0xfe] };
        bytes.extend(
            text.encode_utf16().flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }),
        );
        let loaded = read_bytes(&bytes, Path::new("x.dae"), Assume::default()).unwrap();
        assert_eq!(loaded.scene.rigs[0].nodes().next().unwrap().1.name, "Wetterhähnchen");
    }
}

#[test]
fn broken_files_say_what_is_wrong_and_where() {
    let t = "<translate sid=\"t\">0 0 0</translate>";
    let with = |times: &str, values: &str, ways: &str, more: &[_]| {
        document(t, &[("vane/t.X", times, values, ways, more)])
    };
    let cases = [
        (with("0 1", "0", "LINEAR LINEAR", &[]), "2 keys of 1 need 2 numbers, but there are 1"),
        (with("1 0", "0 1", "LINEAR LINEAR", &[]), "key 1 is not later than the key before it"),
        (with("0 1", "0 NaN", "LINEAR LINEAR", &[]), "'NaN' is not a finite number"),
        (with("0 1", "0 x1", "LINEAR LINEAR", &[]), "'x1' is not a finite number"),
        (with("0 1e30", "0 1", "LINEAR LINEAR", &[]), "36 days"),
        (with("0 1", "0 1", "LINEAR WAVY", &[]), "interpolation 'WAVY' cannot be read"),
        (with("0 1", "0 1", "LINEAR", &[]), "2 keys need as many interpolations, but there are 1"),
        (with("0 1", "0 1", "BEZIER BEZIER", &[]), "BEZIER and HERMITE need IN_TANGENT and OUT_TANGENT"),
        (document("<translate sid=\"t\">0 0</translate>", &[]), "<translate> has 2 numbers"),
        (
            document(t, &[("vane/t.ANGLE", "0", "0", "LINEAR", &[])]),
            "'vane/t.ANGLE' is no part of a <translate>",
        ),
        (
            document(t, &[("vane/t", "0", "0", "LINEAR", &[])]),
            "'vane/t' takes 3 numbers, but its sampler gives 1",
        ),
        (
            with("0 1", "0 1", "LINEAR LINEAR", &[]).replace("#s0OUTPUT", "#gone"),
            "there is no source '#gone'",
        ),
        (with("0 1", "0 1", "LINEAR LINEAR", &[]).replace("#p0", "#gone"), "there is no sampler 'gone'"),
        (
            document("<instance_node url=\"#vane\"/>", &[]),
            "the node is an instance of itself: the hierarchy is a circle",
        ),
        (
            document(t, &[]).replace("<?xml version=\"1.0\"?>", "<!DOCTYPE x [<!ENTITY a \"b\">]>"),
            "it has a DTD",
        ),
        (document(t, &[]).replace("</node>", ""), "</visual_scene> stands where </node> belongs"),
    ];
    for (text, expected) in cases {
        let message = read(&text).expect_err(expected);
        assert!(message.contains(expected) && !message.contains('\n'), "{message}");
        assert!(message.starts_with("clip.dae:1: "), "{message}");
    }
    let deep = format!("<COLLADA>{}{}</COLLADA>", "<node>".repeat(100_000), "</node>".repeat(100_000));
    let _ = read(&deep);
    // A channel that drives what is not known is passed over, not an error.
    let odd = document(t, &[("vane/shader.X", "0", "0", "LINEAR", &[])]);
    let loaded = read_bytes(odd.as_bytes(), Path::new("x.dae"), Assume::default()).unwrap();
    assert!(
        loaded.notes.iter().any(|note| note.contains("'vane/shader.X' drives nothing")),
        "{:?}",
        loaded.notes
    );
}

/// A mask that is a morph under a skin, shown by a node beside the joint `vane`.
fn with_mask(document: &str) -> String {
    let array = |id: &str, kind: &str, text: &str, stride: usize| {
        let count = text.split_whitespace().count();
        format!(
            "<source id=\"{id}\"><{kind}_array id=\"{id}-array\" count=\"{count}\">{text}</{kind}_array><technique_common>\
             <accessor source=\"#{id}-array\" count=\"{}\" stride=\"{stride}\"/></technique_common></source>",
            count / stride
        )
    };
    let deformers = format!(
        "<library_geometries><geometry id=\"mask\"/><geometry id=\"m1\" name=\"smile\"/><geometry id=\"blink\"/>\
         </library_geometries><library_controllers>\
         <controller id=\"face\"><morph source=\"#mask\">{}{}<targets><input semantic=\"MORPH_TARGET\" source=\"#t\"/>\
         <input semantic=\"MORPH_WEIGHT\" source=\"#face-weights\"/></targets></morph></controller>\
         <controller id=\"skin\"><skin source=\"#face\">{}{}<joints><input semantic=\"JOINT\" source=\"#j\"/>\
         <input semantic=\"INV_BIND_MATRIX\" source=\"#b\"/></joints></skin></controller></library_controllers>",
        array("t", "IDREF", "m1 blink", 1),
        array("face-weights", "float", "0.25 0", 1),
        array("j", "Name", "turning lost", 1),
        array("b", "float", "1 0 0 -2 0 1 0 0 0 0 1 5 0 0 0 1  1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1", 16),
    );
    let node = "<node id=\"shown\" name=\"shown\"><instance_controller url=\"#skin\"><skeleton>#vane</skeleton>\
                </instance_controller></node></visual_scene>";
    document
        .replace("<node id=\"vane\"", "<node id=\"vane\" sid=\"turning\"")
        .replace("</visual_scene>", node)
        .replace("<library_visual_scenes>", &(deformers + "<library_visual_scenes>"))
}

#[test]
fn weights_of_morphs_are_numbers_of_the_node_that_shows_them_and_skins_say_how_joints_were_bound() {
    let tangents: [(&str, &str, usize); 2] = [("IN_TANGENT", "0 1", 1), ("OUT_TANGENT", "0.5 0", 1)];
    let channels: [(&str, &str, &str, &str, &[_]); 2] = [
        ("face-weights(0)", "0 1", "0 1", "BEZIER BEZIER", &tangents),
        ("face/face-weights-array(1)", "0 1", "1 0", "STEP STEP", &[]),
    ];
    let scene = read(&with_mask(&document(ORIENTED, &channels))).unwrap();
    let rig = &scene.rigs[0];
    let (vane, shown) = (rig.nodes().next().unwrap(), rig.nodes().nth(1).unwrap());
    assert_eq!(vane.1.bind.unwrap().translation, DVec3::new(2.0, 0.0, -5.0));
    assert_eq!(shown.1.bind, None, "a joint that is nowhere is bound nowhere");
    let names: Vec<&str> = shown.1.attributes.iter().map(|attribute| attribute.name.as_str()).collect();
    assert_eq!(names, ["smile", "blink"]);
    assert!(scene.takes[0].tracks().all(|(_, track)| track.target.node == shown.0));
    let Controller::Components(smile) = track(&scene, "smile") else { panic!() };
    assert!(
        matches!(smile[0].keys()[0].tangent_out.shape, TangentShape::Slope(slope) if (slope - 1.5).abs() < 1e-12)
    );
    let Controller::Components(blink) = track(&scene, "blink") else { panic!() };
    assert_eq!(blink[0].keys()[0].interpolation, Interpolation::Hold);

    // All weights in one channel, one after another.
    let together: [Channel<'_>; 1] = [("face-weights", "0 1 2", "0 1 0.5 0.5 1 0", "STEP STEP STEP", &[])];
    let scene = read(&with_mask(&document(ORIENTED, &together))).unwrap();
    let Controller::Components(blink) = track(&scene, "blink") else { panic!() };
    assert_eq!(blink[0].keys().iter().map(|key| key.value).collect::<Vec<_>>(), [1.0, 0.5, 0.0]);

    // A weight that the morph has not, and numbers that are not one for each.
    let beyond: [Channel<'_>; 1] = [("face-weights(2)", "0 1", "0 1", "STEP STEP", &[])];
    let loaded = read_bytes(
        with_mask(&document(ORIENTED, &beyond)).as_bytes(),
        Path::new("clip.dae"),
        Assume::default(),
    );
    assert!(loaded.unwrap().notes.iter().any(|note| note.contains("face-weights(2)")));
    let wide: [Channel<'_>; 1] = [("face-weights", "0 1", "0 1", "STEP STEP", &[])];
    let error = read(&with_mask(&document(ORIENTED, &wide))).unwrap_err();
    assert!(error.contains("takes 2 numbers, but its sampler gives 1"), "{error}");
}

#[test]
fn many_nodes_that_show_one_skin_or_morph_end_soon() {
    let channels: [Channel<'_>; 1] = [("face-weights(0)", "0 1", "0 1", "STEP STEP", &[])];
    let one = with_mask(&document(ORIENTED, &channels));
    let (before, shown) = one.split_once("<node id=\"shown\"").unwrap();
    let (shown, after) = shown.split_once("</node>").unwrap();
    let many = (0..60_000).map(|index| format!("<node id=\"n{index}\"{shown}</node>"));
    let error = read(&format!("{before}{}{after}", many.collect::<String>())).unwrap_err();
    assert!(error.contains("there are more than 100000 weights"), "{error}");
}

/// The text of an animation of a node's height: an array of times and one of values, with what else there is.
fn lift(id: &str, target: &str, times: &str, values: &str, tangents: Option<(&str, &str)>) -> String {
    let count = times.split(' ').count();
    let source = |name: &str, numbers: &str, stride: usize| {
        format!(
            "<source id=\"{id}-{name}\"><float_array id=\"{id}-{name}-a\" count=\"{}\">{numbers}</float_array><technique_common><accessor source=\"#{id}-{name}-a\" count=\"{count}\" stride=\"{stride}\"/></technique_common></source>",
            numbers.split(' ').count()
        )
    };
    let way = if tangents.is_some() { "BEZIER" } else { "LINEAR" };
    let ways = format!(
        "<source id=\"{id}-ways\"><Name_array id=\"{id}-ways-a\" count=\"{count}\">{}</Name_array><technique_common><accessor source=\"#{id}-ways-a\" count=\"{count}\" stride=\"1\"/></technique_common></source>",
        vec![way; count].join(" ")
    );
    let (bends, inputs) = tangents.map_or((String::new(), String::new()), |(into, out)| {
        let input =
            |semantic: &str, name: &str| format!("<input semantic=\"{semantic}\" source=\"#{id}-{name}\"/>");
        (
            source("in", into, 2) + &source("out", out, 2),
            input("IN_TANGENT", "in") + &input("OUT_TANGENT", "out"),
        )
    });
    format!(
        "<animation id=\"{id}\">{}{}{ways}{bends}<sampler id=\"{id}-s\"><input semantic=\"INPUT\" source=\"#{id}-times\"/><input semantic=\"OUTPUT\" source=\"#{id}-values\"/><input semantic=\"INTERPOLATION\" source=\"#{id}-ways\"/>{inputs}</sampler><channel source=\"#{id}-s\" target=\"{target}\"/></animation>",
        source("times", times, 1),
        source("values", values, 1)
    )
}

fn lifted(animations: &str, clips: &str) -> Scene {
    let text = format!(
        "<COLLADA xmlns=\"http://www.collada.org/2005/11/COLLADASchema\" version=\"1.4.1\"><asset><unit meter=\"1\"/><up_axis>Y_UP</up_axis></asset><library_animations>{animations}</library_animations>{clips}<library_visual_scenes><visual_scene id=\"s\"><node id=\"crate\" name=\"crate\"><translate sid=\"place\">0 0 0</translate></node><node id=\"lid\" name=\"lid\"><translate sid=\"place\">0 0 0</translate></node></visual_scene></library_visual_scenes></COLLADA>"
    );
    read_bytes(text.as_bytes(), Path::new("crate.dae"), Assume::default()).unwrap().scene
}

#[test]
fn handles_that_stand_upright_lose_nothing() {
    // The first key's handles are upright, and so is the last one's; the middle one is as usual.
    let animation = lift("a", "crate/place.Y", "0 0.5 1", "0 2 1", Some(("0 -1 0.4 2 1 3", "0 1 0.6 2 1 0")));
    let scene = lifted(&animation, "");
    let curve = &scene.takes[0].layers[0].tracks[0].controller.curves()[1];
    assert_eq!(curve.keys().iter().map(|key| key.value).collect::<Vec<_>>(), [0.0, 2.0, 1.0]);
    let at = |second: f64| curve.value_at(second * 705_600_000.0).unwrap();
    assert!(at(0.25).is_finite() && at(0.75).is_finite());
    assert_eq!((at(0.0), at(0.5), at(1.0)), (0.0, 2.0, 1.0));
}

#[test]
fn clips_of_several_animations_keep_when_they_start_and_end() {
    let animations =
        lift("a", "crate/place.Y", "0 1", "0 2", None) + &lift("b", "lid/place.Y", "0.5 2", "0 3", None);
    let clips = "<library_animation_clips><animation_clip id=\"open\" start=\"0\" end=\"1.5\"><instance_animation url=\"#a\"/></animation_clip><animation_clip id=\"shut\" start=\"0.5\" end=\"1.5\"><instance_animation url=\"#b\"/></animation_clip></library_animation_clips>";
    let scene = lifted(&animations, clips);
    let ranges: Vec<(String, f64, f64)> = (scene.takes.iter())
        .map(|take| (take.name.clone(), take.range.first.seconds(), take.range.last.seconds()))
        .collect();
    assert_eq!(ranges, [("open".to_owned(), 0.0, 1.5), ("shut".to_owned(), 0.5, 1.5)]);
}

#[test]
fn matrices_hold_each_frame_and_the_curves_come_back() {
    for name in ["bramble.ncurve", "cart.ncurve"] {
        let source = scene(name);
        let saving = |without_extra| nimble_curve_formats::Saving {
            matrices: true,
            without_extra,
            keep_start: true,
            ..Default::default()
        };
        let written = |without_extra| {
            nimble_curve_formats::encode(&source, Format::Collada, Path::new("x.dae"), &saving(without_extra))
                .unwrap()
        };
        let (bytes, ledger) = written(true);
        let text = std::str::from_utf8(&bytes).unwrap();
        let elements = |name: &str| text.matches(&format!("<{name} sid")).count();
        let moving = text.matches("<channel ").count();
        assert_eq!(elements("matrix"), moving, "{name}");
        let back = read_bytes(&bytes, Path::new("x.dae"), Assume::default()).unwrap().scene;
        let (distance, angle) = apart(&source, &back, &source.takes[0].name);
        // Half way between frames, too.
        assert!(distance < 6e-3 && angle.to_degrees() < 2.1, "{name}: {distance} m {angle}");
        let sampled = ledger.count(nimble_curve_core::ledger::Fate::Sampled);
        assert!(sampled >= moving, "{name}: {sampled} of {moving}");
        let whole = read_bytes(&written(false).0, Path::new("x.dae"), Assume::default()).unwrap().scene;
        assert!(whole == source, "{name}");
    }
}
