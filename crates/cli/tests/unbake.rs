//! `unbake` and `bake` through the program: bounds, key sets, watched feet, recovery, loops.

use std::collections::HashMap;
use std::path::Path;

use glam::DVec3;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Value;
use nimble_curve_sample::wade::{SHIVER, planted};
use tempfile::tempdir;

use crate::common::{degrees_between, fail, rotations, run, sample, scene, succeed, values};

fn wade() -> String {
    sample("bramble_wade.bvh").to_str().unwrap().to_owned()
}

/// The largest errors at the samples of the capture: degrees, and centimetres at the hips.
fn errors(before: &Scene, after: &Scene) -> (f64, f64) {
    let frames = || (0..=960).map(f64::from);
    let mut angle = 0.0_f64;
    for (_, node) in before.rigs[0].nodes().filter(|(_, node)| !node.name.ends_with("_end")) {
        let pairs =
            rotations(before, &node.name, frames()).into_iter().zip(rotations(after, &node.name, frames()));
        angle = pairs.map(|(a, b)| degrees_between(a, b)).fold(angle, f64::max);
    }
    let at = |scene: &Scene| values(scene, "hips", "translation", frames());
    let distance = at(before).into_iter().zip(at(after)).map(|(a, b)| {
        let (Value::Vector(a), Value::Vector(b)) = (a, b) else { panic!() };
        a.distance(b)
    });
    (angle, distance.fold(0.0, f64::max))
}

fn key_frames(scene: &Scene) -> Vec<Vec<f64>> {
    let curves = scene.takes[0].tracks().flat_map(|(_, track)| track.controller.curves().to_vec());
    let frames = curves
        .filter(|curve| curve.keys().len() > 1)
        .map(|curve| curve.keys().iter().map(|key| scene.rate.frame(key.time)).collect());
    frames.collect()
}

/// World positions of some joints at each frame of the capture.
fn positions(scene: &Scene, names: &[&str]) -> HashMap<String, Vec<DVec3>> {
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    let mut found: HashMap<String, Vec<DVec3>> = HashMap::new();
    for frame in 0..=960 {
        evaluator.pose_at(f64::from(frame) * scene.rate.ticks_per_frame(), &mut pose);
        for ((_, node), world) in scene.rigs[0].nodes().zip(&pose.world) {
            if names.is_empty() || names.contains(&node.name.as_str()) {
                found.entry(node.name.clone()).or_default().push(world.translation);
            }
        }
    }
    found
}

#[test]
fn every_way_of_fitting_keeps_its_bound() {
    let folder = tempdir().unwrap();
    let before = scene(wade().as_ref());
    for options in [
        vec![],
        vec!["--keys", "node"],
        vec!["--keys", "pose"],
        vec!["--order", "best"],
        vec!["--order", "zyx"],
        vec!["--rotations", "quaternions"],
        vec!["--keep", "100", "333", "--frames", "60:700"],
    ] {
        let input = wade();
        let mut arguments = vec!["unbake", &input, "-o", "out.ncurve", "--no-other-tolerances"];
        arguments.extend(&options);
        succeed(folder.path(), &arguments);
        let after = scene(&folder.path().join("out.ncurve"));
        let (angle, distance) = errors(&before, &after);
        assert!(angle <= 0.1 && distance <= 0.05, "{options:?}: {angle} {distance}");
    }
}

#[test]
fn key_sets_are_common_where_they_are_asked_for() {
    let folder = tempdir().unwrap();
    let keyed = |keys: &str| {
        succeed(
            folder.path(),
            &["unbake", &wade(), "-o", "out.ncurve", "--no-other-tolerances", "--keys", keys],
        );
        scene(&folder.path().join("out.ncurve"))
    };
    let poses = key_frames(&keyed("pose"));
    assert!(poses.len() > 70 && poses.iter().all(|frames| *frames == poses[0]));
    let nodes = keyed("node");
    let mut different = std::collections::HashSet::new();
    for (_, track) in nodes.takes[0].tracks() {
        let frames = |curve: &nimble_curve_core::curve::Curve| {
            curve.keys().iter().map(|key| key.time).collect::<Vec<_>>()
        };
        let moving: Vec<_> =
            track.controller.curves().iter().filter(|curve| curve.keys().len() > 1).map(frames).collect();
        assert!(moving.windows(2).all(|pair| pair[0] == pair[1]));
        different.extend(moving.into_iter().take(1));
    }
    assert!(different.len() > 15, "nodes have times of their own");
}

#[test]
fn kept_frames_are_keys_and_a_range_leaves_the_rest() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["unbake", &wade(), "-o", "out.ncurve", "--no-other-tolerances", "--keep", "123", "456"]);
    for frames in key_frames(&scene(&at.join("out.ncurve"))) {
        assert!(frames.contains(&123.0) && frames.contains(&456.0));
    }
    succeed(at, &["unbake", &wade(), "-o", "part.ncurve", "--no-other-tolerances", "--frames", "200:400"]);
    let (before, part) = (scene(wade().as_ref()), scene(&at.join("part.ncurve")));
    let said = succeed(at, &["unbake", &wade(), "-o", "part.bvh", "--no-other-tolerances"]);
    assert!(said.contains("other programs see 77841 samples there"), "{said}");
    // Outside the range samples are samples, below a layer of few keys that plays inside it.
    let [base, stretch] = part.takes[0].layers.as_slice() else { panic!("{:?}", part.takes[0].layers.len()) };
    assert_eq!(stretch.name, "unbaked 200:400");
    assert!(base.tracks == before.takes[0].layers[0].tracks);
    assert_eq!(stretch.tracks.len(), base.tracks.len());
    let keys: usize = stretch.tracks.iter().map(|track| track.controller.key_count()).sum();
    assert!((100..600).contains(&keys), "{keys}");
    for frames in key_frames(&part) {
        assert!(frames.iter().all(|frame| (200.0..=400.0).contains(frame)) && frames.len() < 80);
    }
    // It counts inside alone, between frames as well.
    let weight = |frame: f64| stretch.weight.at(frame * part.rate.ticks_per_frame());
    assert_eq!(
        [0.0, 199.9, 200.0, 300.5, 399.9, 400.0, 900.0].map(weight),
        [0.0, 0.0, 1.0, 1.0, 1.0, 0.0, 0.0]
    );
    for frame in [0.0, 57.0, 199.0, 401.0, 960.0] {
        let rotation = |scene| rotations(scene, "shin_l", std::iter::once(frame))[0];
        assert!(degrees_between(rotation(&before), rotation(&part)) < 1e-9);
    }
}

#[test]
fn a_bound_in_world_space_holds_for_all_joints_and_feet_stay_planted() {
    let folder = tempdir().unwrap();
    let arguments = [
        "unbake",
        &wade(),
        "-o",
        "out.ncurve",
        "--no-other-tolerances",
        "--world",
        "0.5mm",
        "--planted",
        "foot_*",
        "toes_*",
    ];
    let printed = succeed(folder.path(), &arguments);
    assert!(printed.contains("in the world: places within"), "{printed}");
    let (before, after) = (scene(wade().as_ref()), scene(&folder.path().join("out.ncurve")));
    let (source, result) = (positions(&before, &[]), positions(&after, &[]));
    for (name, path) in &source {
        let worst = path.iter().zip(&result[name]).map(|(a, b)| a.distance(*b)).fold(0.0, f64::max);
        assert!(worst <= 0.05, "{name}: {} mm", worst * 10.0);
    }
    for (side, foot) in ["foot_l", "foot_r"].into_iter().enumerate() {
        for (from, to) in planted(side) {
            let frames = (from * 120.0).ceil() as usize..=(to * 120.0) as usize;
            let added = source[foot][frames.clone()].iter().zip(&result[foot][frames]).map(|(a, b)| *b - *a);
            let (low, high) = added.fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(low, high), offset| {
                (low.min(offset), high.max(offset))
            });
            assert!(low.distance(high) < 0.05, "{foot} {from}: {} mm", low.distance(high) * 10.0);
        }
    }
    let error =
        fail(folder.path(), &["unbake", &wade(), "-o", "x.ncurve", "--world", "1mm", "--planted", "fot_l"]);
    assert!(error.contains("did you mean 'foot_l'?"), "{error}");
}

/// The energy of a signal around a frequency, by a discrete Fourier transform over a window.
fn energy(signal: &[f64], rate: f64, hertz: f64) -> f64 {
    (-4..=4)
        .map(|step| {
            let frequency = hertz + f64::from(step) * 0.4;
            let (mut re, mut im) = (0.0, 0.0);
            for (index, value) in signal.iter().enumerate() {
                let angle = std::f64::consts::TAU * frequency * index as f64 / rate;
                re += value * angle.cos();
                im += value * angle.sin();
            }
            re * re + im * im
        })
        .sum()
}

#[test]
fn small_shakes_stay_and_what_stands_still_stays_still() {
    let folder = tempdir().unwrap();
    succeed(
        folder.path(),
        &["unbake", &wade(), "-o", "out.ncurve", "--no-other-tolerances", "--tolerance", "0.1deg,0.5mm"],
    );
    let (before, after) = (scene(wade().as_ref()), scene(&folder.path().join("out.ncurve")));
    let (hertz, from, to) = SHIVER;
    let frames = || ((from * 120.0) as i64..=(to * 120.0) as i64).map(|frame| frame as f64);
    for (node, axis) in [("head", 2), ("chest", 1), ("neck", 1), ("hand_l", 0)] {
        let signal = |scene: &Scene| -> Vec<f64> {
            let angles = values(scene, node, "rotation", frames()).into_iter().map(|value| match value {
                Value::Euler { angles, .. } => angles[axis],
                other => panic!("{other:?}"),
            });
            angles.collect()
        };
        let (source, result) =
            (energy(&signal(&before), 120.0, hertz), energy(&signal(&after), 120.0, hertz));
        assert!((0.9..=1.1).contains(&(result / source)), "{node}: {}", result / source);
    }
    // Toes rest between steps: a few keys hold them there.
    let toes = after.takes[0].tracks().find(|(_, track)| {
        after.rigs[0].node(track.target.node).unwrap().name == "toes_l" && track.target.property == "rotation"
    });
    let x = &toes.unwrap().1.controller.curves()[0];
    assert!(x.keys().len() < 45, "{}", x.keys().len());
}

#[test]
fn a_bake_of_authored_curves_gives_their_keys_back() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve").to_str().unwrap().to_owned();
    succeed(at, &["bake", &cart, "-o", "baked.ncurve"]);
    let baked = scene(&at.join("baked.ncurve"));
    assert!(baked.takes[0].tracks().all(|(_, track)| matches!(track.controller, Controller::Samples(_))));
    let printed = succeed(at, &["unbake", "baked.ncurve", "-o", "back.ncurve"]);
    assert!(printed.contains("recovered") && printed.contains("other tolerances"), "{printed}");
    let (before, back) = (scene(cart.as_ref()), scene(&at.join("back.ncurve")));
    let keys = |scene: &Scene, node: &str, axis: usize| -> Vec<(f64, f64)> {
        let (_, track) = scene.takes[0]
            .tracks()
            .find(|(_, t)| {
                scene.rigs[0].node(t.target.node).unwrap().name == node && t.target.property == "rotation"
            })
            .unwrap();
        let round = |v: f64| (v.to_degrees() * 1e6).round() / 1e6;
        track.controller.curves()[axis]
            .keys()
            .iter()
            .map(|k| (scene.rate.frame(k.time), round(k.value)))
            .collect()
    };
    for axis in 0..3 {
        assert_eq!(keys(&before, "vane", axis), keys(&back, "vane", axis));
    }
    // The wheels were keyed until frame 73 and rest from then on.
    let wheel = keys(&back, "wheel_fl", 0);
    assert_eq!(wheel[..2], keys(&before, "wheel_fl", 0)[..]);
    // What never moves needs no key where it stays at rest.
    let wheel = back.takes[0].tracks().find(|(_, track)| {
        back.rigs[0].node(track.target.node).unwrap().name == "wheel_fl"
            && track.target.property == "rotation"
    });
    assert!(wheel.unwrap().1.controller.curves()[1].is_empty());
    // What is sparse stays, unless it is asked for again.
    let again = succeed(at, &["unbake", &cart, "-o", "same.ncurve"]);
    assert!(again.contains("nothing is baked"), "{again}");
    let again = succeed(at, &["unbake", &cart, "-o", "again.ncurve", "--refit", "--no-other-tolerances"]);
    assert!(again.contains("recovered"), "{again}");
}

/// All keys of a file.
fn count(scene: &Scene) -> usize {
    scene.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum()
}

#[test]
fn a_number_of_keys_finds_the_tightest_tolerance_by_itself() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let file = wade();
    let capture = scene_in_cm(&file);
    let line = ["unbake", &file, "--unit", "cm", "--no-other-tolerances", "--replace", "-o", "out.ncurve"];
    for (asked, most) in [("900", 900), ("400", 400), ("1%", 778), ("6000", 6000)] {
        let said = succeed(at, &[&line[..], &["--keys-at-most", asked]].concat());
        let made = scene(&at.join("out.ncurve"));
        let keys = count(&made);
        assert!(keys <= most && keys * 10 >= most * 9, "{asked}: {keys}");
        let found = said.lines().find_map(|line| line.split_once("with so few keys: ")).unwrap().1;
        let angle: f64 = found.split_once("deg").unwrap().0.parse().unwrap();
        let (off, distance) = errors(&capture, &made);
        // In centimetres, in the proportions of the default tolerance: half a millimetre to a tenth of a degree.
        assert!(off <= angle * 1.01 && distance <= 0.5 * angle * 1.01, "{asked}: {off} {distance} {found}");
        assert!(off >= 0.8 * angle, "{off} of {angle}");
        // What was found is what it takes: nine tenths of it need more keys.
        let tighter = format!("{}deg,{}mm,{}", 0.9 * angle, 4.5 * angle, 0.009 * angle);
        succeed(at, &[&line[..7], &["tighter.ncurve", "--tolerance", &tighter]].concat());
        assert!(count(&scene(&at.join("tighter.ncurve"))) > most, "{asked}");
    }
    let why = fail(at, &["unbake", &file, "--unit", "cm", "-o", "x.ncurve", "--keys-at-most", "20"]);
    assert!(why.contains("20 keys are too few") && !at.join("x.ncurve").exists(), "{why}");
    let none = run(at, &["unbake", &file, "-o", "x.ncurve", "--keys-at-most", "0%"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("25% of the samples"));
}

#[test]
fn what_is_fitted_anew_takes_fewer_keys_the_farther_it_may_be_off() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["unbake", &wade(), "--unit", "cm", "-o", "sparse.ncurve", "--no-other-tolerances"]);
    let before = count(&scene(&at.join("sparse.ncurve")));
    let mut last = before;
    for degrees in [0.2, 0.5, 1.0, 2.0] {
        let tolerance = format!("{degrees}deg,{}mm,{}", 5.0 * degrees, 0.01 * degrees);
        let line = [
            "unbake",
            "sparse.ncurve",
            "--refit",
            "--no-other-tolerances",
            "--replace",
            "-o",
            "again.ncurve",
        ];
        succeed(at, &[&line[..], &["--tolerance", &tolerance]].concat());
        let keys = count(&scene(&at.join("again.ncurve")));
        assert!(keys as f64 <= 1.02 * last as f64, "{degrees}: {keys} after {last}");
        last = keys;
    }
    assert!(last * 10 < before * 6, "{last} of {before}");
}

/// The capture, whose file states no unit.
fn scene_in_cm(file: &str) -> Scene {
    let folder = tempdir().unwrap();
    succeed(folder.path(), &["convert", file, "in.ncurve", "--unit", "cm"]);
    scene(&folder.path().join("in.ncurve"))
}

#[test]
fn weighted_handles_come_back_where_they_are_asked_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let bramble = sample("bramble.ncurve").to_str().unwrap().to_owned();
    succeed(at, &["bake", &bramble, "-o", "baked.ncurve"]);
    succeed(
        at,
        &["unbake", "baked.ncurve", "-o", "back.ncurve", "--no-other-tolerances", "--tangents", "weighted"],
    );
    let height = |scene: &Scene| {
        let track = scene.takes[0].layers[0].tracks.iter().find(|track| {
            scene.rigs[0].node(track.target.node).unwrap().name == "courier:hips"
                && track.target.property == "translation"
        });
        track.unwrap().controller.curves()[2].clone()
    };
    let (before, back) = (height(&scene(bramble.as_ref())), height(&scene(&at.join("back.ncurve"))));
    let times =
        |curve: &nimble_curve_core::curve::Curve| curve.keys().iter().map(|k| k.time).collect::<Vec<_>>();
    assert_eq!(times(&before), times(&back));
    for (a, b) in before.keys().iter().zip(back.keys()).skip(1).take(3) {
        for (x, y) in [(a.tangent_in, b.tangent_in), (a.tangent_out, b.tangent_out)] {
            if let (Some(x), Some(y)) = (x.length(), y.length()) {
                assert!((x - y).abs() < 1e-3 * x, "{x} {y}");
            }
        }
    }
}

#[test]
fn keys_on_every_frame_of_a_curve_count_as_baked() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve").to_str().unwrap().to_owned();
    succeed(at, &["bake", &cart, "--to-rate", "24", "-o", "baked.ncurve"]);
    succeed(at, &["convert", "baked.ncurve", "dense.ncurve"]);
    // Baked every second frame, and the last one: keys, not samples.
    succeed(at, &["bake", &cart, "--step", "2", "--frames", "1:96", "-o", "twos.ncurve"]);
    let twos = scene(&at.join("twos.ncurve"));
    for frames in key_frames(&twos) {
        assert_eq!((frames[0], frames[1], frames[frames.len() - 1]), (1.0, 3.0, 96.0));
    }
    let printed = succeed(at, &["unbake", "twos.ncurve", "-o", "out.ncurve", "--no-other-tolerances"]);
    // The last key stands off the step, so that these are sparse curves of straight lines.
    assert!(printed.contains("nothing is baked"), "{printed}");
    succeed(at, &["bake", &cart, "--step", "2", "--frames", "1:95", "-o", "twos.ncurve"]);
    let printed = succeed(at, &["unbake", "twos.ncurve", "-o", "out.ncurve", "--no-other-tolerances"]);
    assert!(printed.contains("rotation"), "{printed}");
}

#[test]
fn tolerances_of_their_own_make_channels_closer() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let keys = |options: &[&str]| {
        let input = wade();
        let mut arguments = vec!["unbake", &input, "-o", "out.ncurve", "--json"];
        arguments.extend(options);
        let json: serde_json::Value = serde_json::from_str(&succeed(at, &arguments)).unwrap();
        let of = |channel: &str| {
            let entries = json["entries"].as_array().unwrap();
            entries.iter().find(|e| e["channel"] == channel).unwrap()["after"].as_u64().unwrap()
        };
        (of("head:rotation"), of("foot_l:rotation"))
    };
    let (plain, closer) = (keys(&[]), keys(&["--tolerance-for", "foot_*:rotation=0.02deg"]));
    assert_eq!(plain.0, closer.0);
    assert!(closer.1 > plain.1, "{plain:?} {closer:?}");
    assert_eq!(
        run(at, &["unbake", "a.bvh", "-o", "x.ncurve", "--tolerance-for", "foot_*"]).status.code(),
        Some(2)
    );
}

#[test]
fn loops_stay_loops() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Two whole cycles of a sway, sampled at 30 a second, with a trace of noise that loops, too.
    let rows: Vec<String> = (0..=60)
        .map(|frame| {
            let t = f64::from(frame % 60) / 30.0;
            let noise = f64::from((frame % 60) * 7919 % 11) * 0.002;
            format!(
                "0 0 0 {:.6} {:.6} 0",
                20.0 * (std::f64::consts::TAU * t).sin() + noise,
                4.0 * (std::f64::consts::TAU * t).cos()
            )
        })
        .collect();
    let text = format!(
        "HIERARCHY\nROOT sway\n{{\nOFFSET 0 0 0\nCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n\
         End Site\n{{\nOFFSET 0 1 0\n}}\n}}\nMOTION\nFrames: 61\nFrame Time: 0.0333333\n{}\n",
        rows.join("\n")
    );
    std::fs::write(at.join("sway.bvh"), text).unwrap();
    succeed(at, &["unbake", "sway.bvh", "-o", "out.ncurve", "--no-other-tolerances"]);
    let after = scene(&at.join("out.ncurve"));
    let (_, track) = after.takes[0].tracks().find(|(_, track)| track.target.property == "rotation").unwrap();
    for curve in track.controller.curves().iter().filter(|curve| curve.keys().len() > 1) {
        let keys = curve.keys();
        let (first, last) = (&keys[0], &keys[keys.len() - 1]);
        assert_eq!(first.value, last.value);
        assert_eq!(first.tangent_out.slope_per_second(), last.tangent_in.slope_per_second());
    }
}

/// Every channel is within the tolerance by itself, some go nearly that far, and there are fewer keys than where the angle of
/// the whole rotation is held to it.
#[test]
fn each_channel_can_be_held_to_the_tolerance_by_itself() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let keyed = |file: &str, more: &[&str]| {
        let mut arguments = vec!["unbake", "in.bvh", "-o", file, "--no-other-tolerances"];
        arguments.extend(more);
        succeed(at, &arguments)
    };
    std::fs::copy(wade(), at.join("in.bvh")).unwrap();
    let said = keyed("each.ncurve", &["--per-channel"]);
    assert!(said.contains("0.1000 deg each"), "{said}");
    keyed("whole.ncurve", &[]);
    for keys in ["node", "pose"] {
        keyed("more.ncurve", &["--per-channel", "--keys", keys]);
    }
    let (before, each) = (scene(&at.join("in.bvh")), scene(&at.join("each.ncurve")));
    assert!(count(&each) < count(&scene(&at.join("whole.ncurve"))));
    let mut largest = 0.0_f64;
    for (_, track) in each.takes[0].tracks().filter(|(_, track)| track.target.property == "rotation") {
        let source = before.takes[0].tracks().find(|(_, own)| own.target == track.target).unwrap().1;
        let samples = source.controller.samples().unwrap();
        for (axis, curve) in track.controller.curves().iter().enumerate() {
            for frame in 0..samples.len() {
                let value = curve.value_at(samples.time(frame).as_f64()).unwrap_or(0.0);
                let apart = (value - samples.row(frame)[axis]).to_degrees().rem_euclid(360.0);
                largest = largest.max(apart.min(360.0 - apart));
            }
        }
    }
    assert!((0.09..=0.1 + 1e-9).contains(&largest), "{largest}");
}

#[test]
fn outside_a_range_all_stays_in_every_form_of_rotations() {
    let folder = tempdir().unwrap();
    let folder = folder.path();
    let wade = wade();
    succeed(folder, &["convert", &wade, "wade.glb", "--without-extra"]);
    let before = scene(Path::new(&wade));
    for source in [wade.as_str(), "wade.glb"] {
        for mode in [&[][..], &["--rotations", "quaternions"], &["--order", "xyz"], &["--order", "best"]] {
            let arguments = ["unbake", source, "-o", "out.ncurve", "--replace", "--no-other-tolerances"];
            succeed(folder, &[&arguments[..], &["--frames", "200:400"], mode].concat());
            let after = scene(&folder.join("out.ncurve"));
            for node in ["hips", "shin_l", "hand_r", "tail_02"] {
                let pairs = rotations(&before, node, (0..=960).map(f64::from)).into_iter().zip(rotations(
                    &after,
                    node,
                    (0..=960).map(f64::from),
                ));
                for (frame, (a, b)) in pairs.enumerate() {
                    let (off, inside) = (degrees_between(a, b), (200..=400).contains(&frame));
                    assert!(
                        off < if inside { 0.1001 } else { 1e-4 },
                        "{source} {mode:?} {node} {frame}: {off}"
                    );
                }
            }
            let keys = count(&after);
            assert!((100..3_000).contains(&keys), "{source} {mode:?}: {keys}");
        }
    }
}
