//! Capture as sensors give it, through the program: what is held at samples and between them, in every mode, judged by the
//! second evaluator.

use glam::{DQuat, DVec3};
use nimble_curve_second::between::{of_places, of_turns};
use nimble_curve_second::capture::{JOINTS, Taken, bvh};
use nimble_curve_second::greedy::{keys_with_broken_tangents, keys_with_joined_tangents};
use nimble_curve_second::random::Chance;
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::{apart, of_angles};
use serde_json::Value;
use tempfile::tempdir;

use crate::common::{sample, succeed};

/// The samples of a capture as they stand in its text: places of the root, turns of the joints.
fn samples(text: &str) -> (Vec<DVec3>, Vec<Vec<DQuat>>) {
    let rows = text.lines().skip_while(|line| !line.starts_with("Frame Time")).skip(1);
    let rows: Vec<Vec<f64>> =
        rows.map(|row| row.split(' ').map(|number| number.parse().unwrap()).collect()).collect();
    let turn = |row: &Vec<f64>, joint: usize| {
        let at = 3 + 3 * joint;
        // Z is written first and acts last.
        of_angles("yxz", [row[at + 1], row[at + 2], row[at]])
    };
    let turns = (0..JOINTS.len()).map(|joint| rows.iter().map(|row| turn(row, joint)).collect());
    (rows.iter().map(|row| DVec3::new(row[0], row[1], row[2])).collect(), turns.collect())
}

/// The largest errors: degrees and centimetres at samples, and the same from what is plausible between them.
fn errors(text: &str, result: &Scene) -> ([f64; 4], String) {
    let (places, turns) = samples(text);
    let (mut worst, mut place) = ([0.0_f64; 4], String::new());
    for (joint, turns) in JOINTS.iter().zip(&turns) {
        let node = result.nodes.iter().position(|node| node.name == *joint).unwrap();
        let at = |frame: f64| result.local(0, node, frame).1.normalize();
        for (frame, turn) in turns.iter().enumerate() {
            worst[0] = worst[0].max(apart(*turn, at(frame as f64)));
        }
        let (out, frame) = of_turns(turns, at);
        if out > worst[2] {
            (worst[2], place) = (out, format!("{joint} at {frame}"));
        }
    }
    let root = result.nodes.iter().position(|node| node.name == JOINTS[0]).unwrap();
    let at = |frame: f64| result.local(0, root, frame).0.translation;
    for (frame, own) in places.iter().enumerate() {
        worst[1] = worst[1].max(own.distance(at(frame as f64)));
    }
    worst[3] = of_places(&places, at).0;
    (worst, place)
}

/// Kinds of capture: slow and fast rates, noise below and far above the tolerance, with and without faults.
fn captures() -> Vec<Taken> {
    let count = std::env::var("CASES").ok().and_then(|count| count.parse().ok()).unwrap_or(6);
    let kinds = [(24.0, 0.02), (120.0, 0.05), (30.0, 0.15), (60.0, 0.5), (120.0, 2.0), (24.0, 1.0)];
    let taken = |seed: u64| {
        let (rate, noise) = kinds[seed as usize % kinds.len()];
        // Slower than that a limb leaps by so much where something was not seen that angles cannot follow its turn.
        Taken { seed, frames: 150, rate, noise, faults: rate >= 60.0 && seed % 4 > 1 }
    };
    let first = std::env::var("FIRST").ok().and_then(|first| first.parse().ok()).unwrap_or(0);
    (first..first + count).map(taken).collect()
}

#[test]
fn between_samples_curves_stay_near_what_these_let_expect_in_every_mode() {
    let folder = tempdir().unwrap();
    let modes: [&[&str]; 7] = [
        &[],
        &["--keys", "node"],
        &["--keys", "pose"],
        &["--tangents", "weighted"],
        &["--order", "best"],
        &["--keep", "40", "77"],
        &["--rotations", "quaternions"],
    ];
    let mut worst = vec![[0.0_f64; 4]; modes.len()];
    for taken in captures() {
        let text = bvh(&taken);
        std::fs::write(folder.path().join("in.bvh"), &text).unwrap();
        for (mode, worst) in modes.iter().zip(&mut worst) {
            let mut arguments = vec!["unbake", "in.bvh", "-o", "out.ncurve", "--no-other-tolerances"];
            arguments.extend(mode.iter());
            let said = succeed(folder.path(), &arguments);
            let result = std::fs::read_to_string(folder.path().join("out.ncurve")).unwrap();
            let (found, place) = errors(&text, &Scene::read(&result));
            // 0.1 deg and 0.5 mm are allowed; files have nine decimals or so.
            let limits = [0.1, 0.05, 0.125, 0.0625].map(|limit| limit * (1.0 + 1e-5));
            for (found, limit) in found.iter().zip(limits) {
                assert!(*found <= limit, "{taken:?} {mode:?}: {found} of {limit} ({place})\n{said}");
            }
            worst.iter_mut().zip(found).for_each(|(worst, found)| *worst = worst.max(found));
        }
    }
    for (mode, [turn, place, between, place_between]) in modes.iter().zip(&worst) {
        println!("{mode:?}: {turn:.4} deg {place:.4} cm; between {between:.4} deg {place_between:.4} cm");
    }
}

#[test]
fn quaternion_keys_are_hardly_more_than_a_plain_greedy_fit_needs() {
    let folder = tempdir().unwrap();
    let (mut own, mut joined, mut free) = (0, 0, 0);
    for taken in captures() {
        let text = bvh(&taken);
        std::fs::write(folder.path().join("in.bvh"), &text).unwrap();
        let arguments = ["unbake", "in.bvh", "-o", "out.ncurve", "--no-other-tolerances"];
        succeed(folder.path(), &[&arguments[..], &["--rotations", "quaternions"]].concat());
        let result = std::fs::read_to_string(folder.path().join("out.ncurve")).unwrap();
        let result: Value = serde_json::from_str(&result).unwrap();
        let tracks = result["takes"][0]["layers"][0]["tracks"].as_array().unwrap();
        let keys = |joint: &str| {
            let channel = format!("{joint}:rotation");
            let track = tracks.iter().find(|track| track["channel"] == channel.as_str()).unwrap();
            track["controller"]["quaternions"]["keys"].as_array().unwrap().len()
        };
        let (mut here, mut least) = (0, 0);
        for (joint, turns) in JOINTS.iter().zip(&samples(&text).1) {
            here += keys(joint);
            least += (1..4).map(|reach| keys_with_joined_tangents(turns, 0.1, reach)).min().unwrap();
            free += keys_with_broken_tangents(turns, 0.1);
        }
        (own, joined) = (own + here, joined + least);
    }
    println!("{own} keys; a greedy fit {joined} with joined tangents, {free} with broken ones");
    assert!(own as f64 <= 1.1 * joined as f64);
}

#[test]
fn weighted_handles_save_keys_on_capture() {
    let folder = tempdir().unwrap();
    let (mut plain, mut weighted) = (0, 0);
    for taken in captures() {
        std::fs::write(folder.path().join("in.bvh"), bvh(&taken)).unwrap();
        let keys = |more: &[&str]| {
            let arguments = ["unbake", "in.bvh", "-o", "out.ncurve", "--replace", "--no-other-tolerances"];
            succeed(folder.path(), &[&arguments[..], more].concat());
            let result = std::fs::read_to_string(folder.path().join("out.ncurve")).unwrap();
            result.matches("\"frame\"").count()
        };
        let own = (keys(&[]), keys(&["--tangents", "weighted"]));
        println!("{taken:?}: {own:?}");
        assert!(own.1 <= own.0, "{taken:?}: {own:?}");
        (plain, weighted) = (plain + own.0, weighted + own.1);
    }
    println!("{weighted} keys, {plain} with plain tangents");
    assert!(weighted as f64 <= 0.85 * plain as f64);
}

/// Joint by joint, as unbaking does: each within its own tolerance of what the carried samples are, and hardly more keys than
/// these, unbaked.
#[test]
fn carried_keys_are_hardly_more_than_those_of_carried_samples() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (wade, stilt) = (sample("bramble_wade.bvh"), sample("stilt.ncurve"));
    let map = sample("bramble_to_stilt.toml");
    let [wade, stilt, map] = [&wade, &stilt, &map].map(|path| path.to_str().unwrap());
    let noisy = at.join("noisy.bvh");
    std::fs::write(&noisy, with_noise(&std::fs::read_to_string(wade).unwrap(), 0.2)).unwrap();
    for source in [wade, noisy.to_str().unwrap()] {
        let unbaked = |from: &str, to: &str| {
            succeed(at, &["unbake", from, "-o", to, "--replace", "--no-other-tolerances"]);
        };
        let onto = |from: &str, to: &str, more: &[&str]| {
            let arguments = ["carry", from, "--target", stilt, "--map", map, "-o", to, "--replace"];
            succeed(at, &[&arguments[..], &["--without-target-takes"], more].concat())
        };
        unbaked(source, "keyed.ncurve");
        let said = onto("keyed.ncurve", "keys.ncurve", &["--per-joint"]);
        onto(source, "samples.ncurve", &[]);
        unbaked("samples.ncurve", "fitted.ncurve");
        let text = |name: &str| std::fs::read_to_string(at.join(name)).unwrap();
        let keys = |name: &str| text(name).matches("\"frame\"").count();
        let (carried, fitted) = (keys("keys.ncurve"), keys("fitted.ncurve"));
        println!("{carried} keys carried, {fitted} of carried samples");
        assert!(carried as f64 <= 1.1 * fitted as f64, "{carried} {fitted}");
        // Two fits, of which each is off by a tenth of a degree at most, by the second evaluator.
        let (a, b) = (Scene::read(&text("keys.ncurve")), Scene::read(&text("samples.ncurve")));
        let mut most = 0.0_f64;
        for (node, own) in a.nodes.iter().enumerate() {
            let other = b.nodes.iter().position(|other| other.name == own.name).unwrap();
            for frame in (0..=960).step_by(7) {
                let turn = |scene: &Scene, node| scene.local(0, node, f64::from(frame)).1.normalize();
                most = most.max(apart(turn(&a, node), turn(&b, other)));
            }
        }
        assert!(most <= 0.2, "{most}\n{said}");
    }
}

/// A capture with normal noise of some size on all angles that change, in degrees.
fn with_noise(text: &str, size: f64) -> String {
    let mut chance = Chance::new(11);
    let (head, rows) = text.split_at(text.find("Frame Time").unwrap());
    let (time, rows) = rows.split_once('\n').unwrap();
    let mut noisy = |(index, word): (usize, &str)| {
        let value: f64 = word.parse().unwrap();
        let normal = (0..12).map(|_| chance.between(0.0, 1.0)).sum::<f64>() - 6.0;
        if index < 3 || value == 0.0 { word.to_owned() } else { format!("{:.6}", value + size * normal) }
    };
    let mut made = format!("{head}{time}\n");
    for row in rows.lines() {
        let row: Vec<String> = row.split_whitespace().enumerate().map(&mut noisy).collect();
        made += &(row.join(" ") + "\n");
    }
    made
}

/// Quaternion keys do not tell which way round a rotation went where it goes more than half a turn between two of them.
#[test]
fn quaternion_keys_of_a_spin_stand_near_enough_to_tell_its_way() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut text =
        String::from("HIERARCHY\nROOT top\n{\nOFFSET 0 0 0\nCHANNELS 3 Zrotation Xrotation Yrotation\n");
    text += "End Site\n{\nOFFSET 0 10 0\n}\n}\nMOTION\nFrames: 200\nFrame Time: 0.0333333\n";
    let angles = |frame: usize| {
        let t = frame as f64;
        [8.0 * (0.1 * t).sin(), 12.0 * (0.07 * t).cos(), 25.0 * t]
    };
    for frame in 0..200 {
        let [z, x, y] = angles(frame);
        text += &format!("{z:.6} {x:.6} {y:.6}\n");
    }
    std::fs::write(at.join("in.bvh"), text).unwrap();
    for tolerance in [0.1, 2.0, 20.0] {
        let given = format!("{tolerance}deg");
        let arguments = ["unbake", "in.bvh", "-o", "out.ncurve", "--replace", "--no-other-tolerances"];
        let more = ["--rotations", "quaternions", "--tolerance", &given];
        succeed(at, &[&arguments[..], &more].concat());
        succeed(at, &["convert", "out.ncurve", "out.glb", "--replace", "--without-extra"]);
        succeed(at, &["convert", "out.glb", "back.ncurve", "--replace", "--to-rate", "30"]);
        for name in ["out.ncurve", "back.ncurve"] {
            let scene = Scene::read(&std::fs::read_to_string(at.join(name)).unwrap());
            for frame in 0..200 {
                let [z, x, y] = angles(frame);
                let off = apart(of_angles("yxz", [x, y, z]), scene.local(0, 0, frame as f64).1.normalize());
                assert!(off <= tolerance + 0.06, "{name} {tolerance} {frame}: {off}");
            }
        }
    }
}
