//! What is printed is what was looked at: results on data unlike the sample, measured here, and files as other programs
//! read them.

use std::fs;
use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_core::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
    Weight,
};
use nimble_curve_core::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key};
use nimble_curve_core::evaluate::{NodeSampler, PropertySampler};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Clip, Layer, LayerMode, Marker, RotationMixing, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::Value;
use nimble_curve_formats::{Assume, Saving, read, write};
use tempfile::tempdir;

use crate::common::{degrees_between, fail, rotation, run, scene, succeed};

const RATE: FrameRate = FrameRate::FPS_24;

/// A rig of a hip and an arm on it, which turns in another order.
fn rig(name: &str) -> Rig {
    let mut rig = Rig::new(name);
    let hips = Node::new("hips", NodeKind::Joint, DVec3::new(0.0, 1.0, 0.0), RotationOrder::Xyz);
    let hips = rig.add(None, hips).unwrap();
    let mut arm = Node::new("arm", NodeKind::Joint, DVec3::new(0.3, 0.2, 0.0), RotationOrder::Zyx);
    arm.attributes.push(Attribute { name: "grip".into(), kind: AttributeKind::Switch { default: false } });
    rig.add(Some(hips), arm).unwrap();
    rig
}

fn target(rig: &Rig, node: &str, property: &str) -> Target {
    let (node, _) = rig.nodes().find(|(_, own)| own.name == node).unwrap();
    Target { rig: 0, node, property: property.into() }
}

fn range(first: i64, last: i64) -> TimeRange {
    TimeRange::new(RATE.ticks(first), RATE.ticks(last))
}

fn take(layers: Vec<Layer>, range: TimeRange) -> Take {
    Take { name: "reach".into(), folder: None, range, clips: Vec::new(), markers: Vec::new(), layers }
}

/// A scene of one rig with these tracks on one layer.
fn one(tracks: &[(&str, &str, Controller)], frames: TimeRange) -> Scene {
    let rig = rig("bramble");
    let tracks = tracks.iter().map(|(node, property, controller)| Track {
        target: target(&rig, node, property),
        controller: controller.clone(),
    });
    let layer = Layer::base(tracks.collect());
    let takes = vec![take(vec![layer], frames)];
    Scene {
        rate: RATE,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes,
    }
}

fn curve(keys: &[(i64, f64, Interpolation)]) -> Curve {
    let key = |&(frame, value, way): &(i64, f64, Interpolation)| {
        Key::new(RATE.ticks(frame), value).with_interpolation(way).with_slope(0.0)
    };
    Curve::new(keys.iter().map(key).collect()).unwrap()
}

fn save(scene: &Scene, path: &Path) {
    write(scene, path, &Saving::default()).unwrap();
}

/// What other programs see in a file.
fn as_others(path: &Path) -> Scene {
    read(path, Assume { without_extra: true, ..Assume::default() }).unwrap().scene
}

/// The whole local rotation of a node by name at a frame of the first take.
fn turn(scene: &Scene, node: &str, frame: f64) -> DQuat {
    let id = target(&scene.rigs[0], node, "rotation").node;
    let mut sampler = NodeSampler::new(scene, scene.takes.first(), (0, id)).unwrap();
    sampler.rotation_at(frame * scene.rate.ticks_per_frame())
}

fn value(scene: &Scene, node: &str, property: &str, frame: f64) -> Value {
    let target = target(&scene.rigs[0], node, property);
    let mut sampler = PropertySampler::new(scene, &scene.takes[0], &target).unwrap();
    sampler.value_at(frame * scene.rate.ticks_per_frame())
}

fn place(scene: &Scene, node: &str, frame: f64) -> DVec3 {
    match value(scene, node, "translation", frame) {
        Value::Vector(v) => v,
        other => panic!("{other:?} is no place"),
    }
}

/// A swing in degrees about two axes, by frame.
fn swing(frame: f64) -> DVec3 {
    DVec3::new((frame * 0.21).sin() * 55.0, (frame * 0.13).cos() * 40.0, frame * 1.5) * 1_f64.to_radians()
}

fn quaternion_samples(frames: i64) -> Controller {
    let row = |frame: i64| rotation(RotationOrder::Zyx, swing(frame as f64)).to_array();
    let values = (0..=frames).flat_map(row).collect();
    Controller::Samples(Samples { start: RATE.ticks(0), rate: RATE, kind: SampleKind::Quaternion, values })
}

fn added(rotations: RotationMixing, weight: Weight, track: Track) -> Layer {
    Layer {
        name: "added".into(),
        mode: LayerMode::Additive,
        rotations,
        weight,
        muted: false,
        tracks: vec![track],
    }
}

fn lean(rig: &Rig) -> Track {
    let axis = |degrees: f64| Curve::constant(RATE.ticks(0), degrees.to_radians());
    let curves = [axis(25.0), axis(-35.0), axis(50.0)];
    let controller = Controller::Euler(EulerCurves { order: RotationOrder::Zyx, curves });
    Track { target: target(rig, "arm", "rotation"), controller }
}

#[test]
fn a_layer_that_mixes_angles_mixes_as_before_whatever_is_fitted_below() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut layered = one(&[("arm", "rotation", quaternion_samples(48))], range(0, 48));
    let track = lean(&layered.rigs[0]);
    layered.takes[0].layers.push(added(RotationMixing::Angles, Weight::FULL, track));
    save(&layered, &at.join("in.ncurve"));
    for (command, frames) in [
        (vec!["unbake", "in.ncurve", "-o", "out.ncurve", "--no-other-tolerances"], 0..=48),
        (vec!["cycle", "close", "in.ncurve", "--blend", "0", "-o", "out.ncurve"], 0..=47),
        (vec!["convert", "in.ncurve", "out.ncurve", "--frames", "6:30"], 6..=30),
        (vec!["convert", "in.ncurve", "out.ncurve", "--controllers", "curves"], 0..=48),
    ] {
        let output = run(at, &command);
        if !output.status.success() {
            // What cannot be done without another mix is refused, and nothing is written.
            let said = String::from_utf8(output.stderr).unwrap();
            assert!(said.contains("mix") && !at.join("out.ncurve").exists(), "{command:?}: {said}");
            continue;
        }
        let result = scene(&at.join("out.ncurve"));
        for frame in frames {
            let off =
                degrees_between(turn(&layered, "arm", frame as f64), turn(&result, "arm", frame as f64));
            assert!(off < 0.11, "{command:?}: {off} deg at frame {frame}");
        }
        fs::remove_file(at.join("out.ncurve")).unwrap();
    }
}

#[test]
fn a_baked_cycle_goes_on_round_after_it_is_fitted() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let keys = |f: &dyn Fn(f64) -> f64| {
        let key = |frame: i64| (frame, f(frame as f64), Interpolation::Linear);
        let keys: Vec<_> = (0..=24).map(key).collect();
        curve(&keys).with_behaviours(Behaviour::Loop, Behaviour::Loop)
    };
    let wave = |frame: f64| (frame / 24.0 * std::f64::consts::TAU).sin() * 0.6;
    let curves = [keys(&wave), keys(&|frame| wave(frame + 6.0)), keys(&|_| 0.1)];
    let controller = Controller::Euler(EulerCurves { order: RotationOrder::Zyx, curves });
    let cycle = one(&[("arm", "rotation", controller)], range(0, 96));
    save(&cycle, &at.join("in.ncurve"));
    succeed(at, &["unbake", "in.ncurve", "-o", "out.ncurve", "--no-other-tolerances"]);
    let result = scene(&at.join("out.ncurve"));
    let keys = result.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum::<usize>();
    assert!(keys < 30, "{keys} keys");
    for frame in 0..=96 {
        let off = degrees_between(turn(&cycle, "arm", frame as f64), turn(&result, "arm", frame as f64));
        assert!(off < 0.11, "{off} deg at frame {frame}");
    }
}

#[test]
fn a_layer_that_fades_out_leaves_whole_rows() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let row = |frame: i64| swing(frame as f64).to_array();
    let values = (0..=24).flat_map(row).collect();
    let kind = SampleKind::Euler(RotationOrder::Zyx);
    let base = Controller::Samples(Samples { start: RATE.ticks(0), rate: RATE, kind, values });
    let mut fading = one(&[("arm", "rotation", base)], range(0, 24));
    let weight = curve(&[
        (0, 0.0, Interpolation::Linear),
        (12, 1.0, Interpolation::Linear),
        (24, 0.0, Interpolation::Linear),
    ]);
    let track = lean(&fading.rigs[0]);
    fading.takes[0].layers.push(added(RotationMixing::Quaternions, Weight::Curve(weight), track));
    save(&fading, &at.join("in.ncurve"));
    succeed(at, &["layers", "flatten", "in.ncurve", "-o", "flat.ncurve"]);
    for file in ["flat.glb", "flat.dae", "flat.usda"] {
        succeed(at, &["convert", "flat.ncurve", file]);
        let seen = as_others(&at.join(file));
        for frame in 0..=24 {
            let off = degrees_between(turn(&fading, "arm", frame as f64), turn(&seen, "arm", frame as f64));
            assert!(off < 0.11, "{file}: {off} deg at frame {frame}");
        }
    }
}

#[test]
fn what_shows_through_a_gap_counts() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let gap = curve(&[
        (0, 0.5, Interpolation::None),
        (10, 0.8, Interpolation::Linear),
        (20, 0.9, Interpolation::Linear),
    ]);
    let still = Curve::default();
    let base = Controller::Components(vec![gap, still.clone(), still.clone()]);
    let mut layered = one(&[("hips", "translation", base)], range(0, 20));
    let rise = curve(&[(0, 0.0, Interpolation::Linear), (20, 0.2, Interpolation::Linear)]);
    let track = Track {
        target: target(&layered.rigs[0], "hips", "translation"),
        controller: Controller::Components(vec![rise, still.clone(), still]),
    };
    layered.takes[0].layers.push(added(RotationMixing::Angles, Weight::FULL, track));
    save(&layered, &at.join("in.ncurve"));
    // At rest the hips are at 0: in the gap the layer alone shows.
    assert!((place(&layered, "hips", 5.0).x - 0.05).abs() < 1e-9);
    succeed(at, &["layers", "flatten", "in.ncurve", "-o", "flat.ncurve"]);
    succeed(at, &["convert", "in.ncurve", "cut.ncurve", "--frames", "4:16"]);
    for (file, frames) in [("flat.ncurve", 0..=20), ("cut.ncurve", 4..=16)] {
        let result = scene(&at.join(file));
        for frame in frames {
            let (was, is) = (place(&layered, "hips", frame as f64), place(&result, "hips", frame as f64));
            assert!((was - is).length() < 1e-9, "{file}: {was} became {is} at frame {frame}");
        }
    }
}

#[test]
fn constants_and_samples_keep_their_turn_in_formats_of_angles() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let q = rotation(RotationOrder::Xyz, DVec3::new(0.5, -0.4, 1.1));
    for (name, controller) in
        [("constant", Controller::Constant(Value::Quaternion(q))), ("samples", quaternion_samples(12))]
    {
        let own = one(&[("arm", "rotation", controller), ("hips", "translation", moving())], range(0, 12));
        let file = format!("{name}.ncurve");
        save(&own, &at.join(&file));
        for ending in ["dae", "usda", "glb"] {
            let out = format!("{name}.{ending}");
            succeed(at, &["convert", &file, &out]);
            let seen = as_others(&at.join(&out));
            for frame in [0.0, 5.0, 12.0] {
                let off = degrees_between(turn(&own, "arm", frame), turn(&seen, "arm", frame));
                assert!(off < 0.01, "{out}: {off} deg at frame {frame}");
            }
        }
    }
}

fn moving() -> Controller {
    let still = Curve::default();
    let way = curve(&[(0, 0.0, Interpolation::Linear), (12, 2.0, Interpolation::Linear)]);
    Controller::Components(vec![way, still.clone(), still])
}

#[test]
fn a_single_key_that_loops_beside_others_goes_into_gltf() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let only =
        curve(&[(3, 0.4, Interpolation::Cubic)]).with_behaviours(Behaviour::Loop, Behaviour::LoopOscillate);
    let way = curve(&[(0, 0.0, Interpolation::Linear), (12, 2.0, Interpolation::Linear)]);
    let controller = Controller::Components(vec![only, way, Curve::default()]);
    let own = one(&[("hips", "translation", controller)], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    succeed(at, &["convert", "in.ncurve", "out.glb"]);
    let seen = as_others(&at.join("out.glb"));
    for frame in 0..=12 {
        let (was, is) = (place(&own, "hips", frame as f64), place(&seen, "hips", frame as f64));
        assert!((was - is).length() < 1e-6, "{was} became {is} at frame {frame}");
    }
}

#[test]
fn tables_with_one_component_are_read_and_others_are_said_no_to() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::write(at.join("one.csv"), "frame,hips:translation.y (m)\n0,1\n1,1.5\n2,1.25\n3,1\n").unwrap();
    succeed(at, &["convert", "one.csv", "one.ncurve"]);
    let one = scene(&at.join("one.ncurve"));
    // Metres, as its heading says, in a scene of centimetres.
    assert_eq!(place(&one, "hips", 1.0).y, 150.0);
    fs::write(at.join("bad.csv"), "frame,hips:translation (m)\n0,1\n1,1.5\n").unwrap();
    let line = fail(at, &["convert", "bad.csv", "bad.ncurve"]);
    assert!(line.contains("write .x, .y or .z"), "{line}");
}

#[test]
fn switches_come_back_as_switches() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let keys = vec![(RATE.ticks(2), Discrete::Switch(true)), (RATE.ticks(9), Discrete::Switch(false))];
    let grip = Controller::Discrete(DiscreteCurve::new(keys).unwrap());
    let own = one(&[("arm", "grip", grip), ("hips", "translation", moving())], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    for file in ["out.usda", "out.usdc"] {
        succeed(at, &["convert", "in.ncurve", file]);
        let seen = as_others(&at.join(file));
        for frame in [2.0, 5.0, 9.0] {
            assert_eq!(
                value(&seen, "arm", "grip", frame),
                value(&own, "arm", "grip", frame),
                "{file} {frame}"
            );
        }
    }
}

#[test]
fn times_beyond_all_bounds_are_refused() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let own = one(&[("hips", "translation", moving())], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    let text = fs::read_to_string(at.join("in.ncurve")).unwrap();
    for far in ["-1e300", "1e300"] {
        let broken = text.replacen("12", far, 1);
        assert_ne!(broken, text);
        fs::write(at.join("far.ncurve"), broken).unwrap();
        let line = fail(at, &["inspect", "far.ncurve"]);
        assert!(
            line.contains("36 days") || line.contains("range") || line.contains("order"),
            "{far}: {line}"
        );
    }
}

#[test]
fn clips_keep_their_notes_and_markers_that_stay_behind_are_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut own = one(&[("hips", "translation", moving())], range(0, 12));
    let clip = |name: &str, first, last, note: Option<&str>| Clip {
        name: name.into(),
        range: range(first, last),
        note: note.map(str::to_owned),
    };
    own.takes[0].clips = vec![clip("start", 0, 4, Some("for the gate")), clip("end", 8, 12, None)];
    own.takes[0].markers = vec![Marker { time: RATE.ticks(6), name: "bell".into() }];
    save(&own, &at.join("in.ncurve"));
    let output = run(at, &["clips", "split", "in.ncurve", "-o", "parts"]);
    assert!(output.status.success());
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(said.contains("bell (frame 6)"), "{said}");
    let start = scene(&at.join("parts/in_start.ncurve"));
    assert_eq!(start.takes[0].clips[0].note.as_deref(), Some("for the gate"));
}

#[test]
fn clips_last_as_long_as_they_play_and_start_at_zero_where_seconds_count() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Keys from frame 25 to 35 in a take of frames 1 to 49.
    let way = curve(&[(25, 0.0, Interpolation::Linear), (35, 2.0, Interpolation::Linear)]);
    let controller = Controller::Components(vec![way, Curve::default(), Curve::default()]);
    let own = one(&[("hips", "translation", controller)], range(1, 49));
    save(&own, &at.join("in.ncurve"));
    for file in ["out.glb", "out.dae"] {
        let printed = succeed(at, &["convert", "in.ncurve", file, "--json"]);
        assert!(printed.contains("its range 1:49 is kept"), "{printed}");
        let seen = as_others(&at.join(file));
        let range = seen.takes[0].range;
        assert_eq!((range.first.seconds(), range.last.seconds()), (0.0, 2.0), "{file}");
        assert!((place(&seen, "hips", 29.0).x - 1.0).abs() < 1e-6, "{file}: frame 30 plays at second 29/24");
        // Home again it is where it was.
        succeed(at, &["convert", file, "home.ncurve"]);
        assert_eq!(scene(&at.join("home.ncurve")).takes[0].range, own.takes[0].range, "{file}");
        succeed(at, &["convert", "in.ncurve", file, "--keep-start"]);
        assert_eq!(as_others(&at.join(file)).takes[0].range, own.takes[0].range, "{file}");
    }
}

#[test]
fn the_second_rig_is_the_one_that_is_changed_where_it_is_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut own = one(&[("hips", "translation", moving())], range(0, 12));
    let mut cart = Rig::new("cart");
    let body = Node::new("body", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    let body = cart.add(None, body).unwrap();
    own.rigs.push(cart);
    let way = curve(&[(0, 3.0, Interpolation::Linear), (12, 5.0, Interpolation::Linear)]);
    let controller = Controller::Components(vec![way, Curve::default(), Curve::default()]);
    let target = Target { rig: 1, node: body, property: "translation".into() };
    own.takes[0].layers[0].tracks.push(Track { target: target.clone(), controller });
    save(&own, &at.join("in.ncurve"));
    succeed(at, &["root", "centre", "in.ncurve", "body", "-o", "out.ncurve"]);
    let result = scene(&at.join("out.ncurve"));
    let mut sampler = PropertySampler::new(&result, &result.takes[0], &target).unwrap();
    assert_eq!(sampler.value_at(0.0), Value::Vector(DVec3::ZERO), "the cart starts at the origin");
    for frame in [0.0, 6.0, 12.0] {
        assert_eq!(place(&result, "hips", frame), place(&own, "hips", frame), "the character stays");
    }
}

#[test]
fn a_result_beyond_its_limit_is_not_written_unless_accepted() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Of a turn that went round more than once a third is taken: a cut forgets how far round it came.
    let key = |frame: i64, degrees: f64| QuaternionKey {
        time: RATE.ticks(frame),
        value: DQuat::from_rotation_x(degrees.to_radians()),
        interpolation: QuaternionInterpolation::Slerp,
        tangent_in: glam::DVec4::ZERO,
        tangent_out: glam::DVec4::ZERO,
    };
    let keys = vec![key(0, 0.0), key(8, 170.0), key(16, 340.0), key(24, 510.0)];
    let spin = QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held };
    let mut own = one(&[("hips", "translation", moving())], range(0, 24));
    let controller = Controller::Quaternion(spin);
    let track = Track { target: target(&own.rigs[0], "arm", "rotation"), controller };
    own.takes[0].layers.push(added(RotationMixing::Quaternions, Weight::Constant(0.3), track));
    save(&own, &at.join("in.ncurve"));
    let line = fail(at, &["convert", "in.ncurve", "cut.ncurve", "--frames", "20:24"]);
    assert!(line.contains("arm:rotation is off by") && line.contains("allowed"), "{line}");
    assert!(!at.join("cut.ncurve").exists(), "nothing is written");
    succeed(at, &["convert", "in.ncurve", "cut.ncurve", "--frames", "20:24", "--accept"]);
    let off = degrees_between(turn(&own, "arm", 22.0), turn(&scene(&at.join("cut.ncurve")), "arm", 22.0));
    assert!(off > 1.0, "it was right to refuse: {off}");
}

#[test]
fn a_file_that_is_there_stays_unless_it_may_be_replaced() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let own = one(&[("hips", "translation", moving())], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    fs::write(at.join("out.ncurve"), "something else").unwrap();
    let line = fail(at, &["bake", "in.ncurve", "-o", "out.ncurve"]);
    assert!(line.contains("--replace"), "{line}");
    assert_eq!(fs::read_to_string(at.join("out.ncurve")).unwrap(), "something else");
    assert!(run(at, &["bake", "in.ncurve", "-o", "out.ncurve", "--replace"]).status.success());
    // The same again is no other.
    assert!(run(at, &["bake", "in.ncurve", "-o", "out.ncurve"]).status.success());
    assert!(run(at, &["bake", "out.ncurve", "--replace", "--step", "1"]).status.success());
}

#[test]
fn a_great_arc_keeps_its_samples_in_every_format() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let key = |frame: i64, turn: f64| QuaternionKey {
        time: RATE.ticks(frame),
        value: DQuat::from_rotation_y(turn),
        interpolation: QuaternionInterpolation::Slerp,
        tangent_in: glam::DVec4::ZERO,
        tangent_out: glam::DVec4::ZERO,
    };
    let keys = vec![key(0, 0.0), key(8, 1.2), key(12, -0.7)];
    let arc = QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held };
    let own = one(&[("arm", "rotation", Controller::Quaternion(arc))], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    for file in ["out.glb", "out.dae", "out.usda", "out.usdc", "out.bvh", "out.csv"] {
        let printed = succeed(at, &["convert", "in.ncurve", file]);
        assert!(printed.contains("judged on the result"), "{file}: {printed}");
        let seen = as_others(&at.join(file));
        for frame in 0..=12 {
            let off = degrees_between(turn(&own, "arm", frame as f64), turn(&seen, "arm", frame as f64));
            assert!(off < 0.06, "{file}: {off} deg at frame {frame}");
        }
    }
}

#[test]
fn options_without_effect_say_so() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let own =
        one(&[("hips", "translation", moving()), ("arm", "rotation", quaternion_samples(12))], range(0, 12));
    save(&own, &at.join("in.ncurve"));
    for (arguments, said) in [
        (["unbake", "in.ncurve", "-o", "o.ncurve", "--tolerance-for", "leg:rotation=1deg"], "leg:rotation"),
        (["unbake", "in.ncurve", "-o", "o.ncurve", "--frames", "90:120"], "90:120"),
        (["unbake", "in.ncurve", "-o", "o.ncurve", "--keep", "400"], "400"),
    ] {
        let line = fail(at, &arguments);
        assert!(line.contains(said), "{line}");
    }
    let wrong_use = run(at, &["unbake", "in.ncurve", "-o", "o.ncurve", "--tolerance", "0.1"]);
    assert_eq!(wrong_use.status.code(), Some(2));
    assert!(String::from_utf8(wrong_use.stderr).unwrap().contains("0.1deg"));
    // A wrong unit is mended where it is read.
    let output = run(at, &["convert", "in.ncurve", "cm.ncurve", "--unit", "cm"]);
    assert!(output.status.success());
    assert!(String::from_utf8(output.stderr).unwrap().contains("--unit is taken instead"));
    let mended = scene(&at.join("cm.ncurve"));
    assert_eq!(mended.space.metres_per_unit, 0.01);
    assert_eq!(place(&mended, "hips", 12.0), place(&own, "hips", 12.0));
}

#[test]
fn what_other_programs_see_is_compared_as_well() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // The same swing, and one that leans by two degrees throughout.
    let swings = |lean: f64| {
        let key = |frame: i64, turn: f64| QuaternionKey {
            time: RATE.ticks(frame),
            value: DQuat::from_rotation_y(turn) * DQuat::from_rotation_x(lean.to_radians()),
            interpolation: QuaternionInterpolation::Slerp,
            tangent_in: glam::DVec4::ZERO,
            tangent_out: glam::DVec4::ZERO,
        };
        let keys = vec![key(0, 0.0), key(8, 1.2), key(12, -0.7)];
        let arc = QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held };
        one(&[("arm", "rotation", Controller::Quaternion(arc))], range(0, 12))
    };
    for (name, lean) in [("right", 0.0), ("wrong", 2.0)] {
        save(&swings(lean), &at.join(format!("{name}.ncurve")));
        succeed(at, &["convert", &format!("{name}.ncurve"), &format!("{name}.gltf")]);
    }
    // A file that gives back the right scene to us, and shows the wrong one to everybody else.
    let document = |name: &str| -> serde_json::Value {
        serde_json::from_str(&fs::read_to_string(at.join(name)).unwrap()).unwrap()
    };
    let mut forged = document("wrong.gltf");
    forged["extras"]["nimbleCurve"]["scene"] =
        document("right.gltf")["extras"]["nimbleCurve"]["scene"].clone();
    fs::write(at.join("forged.gltf"), forged.to_string()).unwrap();
    let compared = |file: &str| run(at, &["compare", "right.ncurve", file, "--tolerance", "0.1deg,1mm"]);
    assert_eq!(compared("right.gltf").status.code(), Some(0));
    let output = compared("forged.gltf");
    let said = String::from_utf8(output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("as other programs see forged.gltf") && said.contains("2.00 deg"), "{said}");
}

#[test]
fn errors_are_said_in_the_unit_of_the_scene() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Layers whose weight moves have to be refitted in glTF, which counts metres; the scene counts centimetres.
    let way = curve(&[(0, 0.0, Interpolation::Cubic), (12, 200.0, Interpolation::Cubic)]);
    let controller = Controller::Components(vec![way.clone(), Curve::default(), Curve::default()]);
    let mut own = one(&[("hips", "translation", controller)], range(0, 12));
    own.space = Space::CENTIMETRES_Y_UP;
    let weight = curve(&[
        (0, 0.0, Interpolation::Cubic),
        (7, 1.0, Interpolation::Cubic),
        (12, 0.2, Interpolation::Cubic),
    ]);
    let track = Track {
        target: target(&own.rigs[0], "hips", "translation"),
        controller: Controller::Components(vec![way, Curve::default(), Curve::default()]),
    };
    own.takes[0].layers.push(added(RotationMixing::Angles, Weight::Curve(weight), track));
    save(&own, &at.join("in.ncurve"));
    let printed = succeed(at, &["convert", "in.ncurve", "out.glb", "--json"]);
    let ledger: serde_json::Value = serde_json::from_str(&printed).unwrap();
    let error = &ledger["entries"][0]["error"];
    assert_eq!(error["unit"], "mm");
    let seen = as_others(&at.join("out.glb"));
    let apart = |step: i32| {
        let frame = f64::from(step) / 64.0;
        (place(&own, "hips", frame) * 10.0 - place(&seen, "hips", frame * seen.rate.fps() / 24.0) * 1000.0)
            .length()
    };
    let largest = (0..=12 * 64).map(apart).fold(0.0, f64::max);
    let said = error["largest"].as_f64().unwrap();
    assert!(
        largest > 0.01 && (said - largest).abs() < 0.02 * largest,
        "{said} mm said, {largest} mm measured"
    );
}
