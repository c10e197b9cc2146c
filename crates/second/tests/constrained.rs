//! Constraints as the program solves them, beside textbook formulas: on random rigs with controls, at frames in any order.

use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::ops::control_rig::{SolveOptions, solve};
use nimble_curve_second::controls::{Controls, text};
use nimble_curve_second::random::Chance;
use nimble_curve_second::scene::{Scene, Solved};
use serde_json::json;

const CASES: u64 = 200;

#[test]
fn nodes_stand_where_textbook_formulas_put_them() {
    let (mut looked, mut worst, mut bent) = (0, 0.0_f64, 0);
    for seed in 0..CASES {
        let text = text(seed, &Controls::ALL);
        let second = Scene::read(&text);
        let first =
            nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| panic!("{seed}: {e:?}\n{text}"));
        first.validate().unwrap_or_else(|e| panic!("{seed}: {e}\n{text}"));
        let mut evaluators: Vec<_> =
            (0..2).map(|rig| Evaluator::new(&first, first.takes.first(), rig).unwrap()).collect();
        let mut pose = Pose::default();
        let mut chance = Chance::new(seed ^ 0xC0);
        for _ in 0..10 {
            let frame = chance.between(1.0, 48.0);
            let solved = Solved::new(&second, Some((0, frame)));
            for node in 0..second.nodes.len() {
                solved.placed(node);
            }
            // What a limb's angles are worth where it is nearly straight.
            let sine = solved.straightest().max(1e-9);
            let mut at = 0;
            for evaluator in &mut evaluators {
                evaluator.pose_at(frame * first.rate.ticks_per_frame(), &mut pose);
                for world in &pose.world {
                    let theirs = solved.placed(at);
                    bent += usize::from(sine > 0.05);
                    let allowed = 1e-9 * 18.0 / sine.max(1e-6);
                    let off = (world.translation - theirs.world.translation).length();
                    let turned = (world.matrix3 - theirs.world.matrix3).to_cols_array();
                    let turned = turned.into_iter().map(f64::abs).fold(0.0, f64::max);
                    let name = &second.nodes[at].name;
                    assert!(
                        off <= allowed * 10.0 && turned <= allowed,
                        "seed {seed} {name} frame {frame}: {off:e} {turned:e} of {allowed:e}"
                    );
                    if sine > 0.05 {
                        worst = worst.max(off / 18.0);
                    }
                    looked += 1;
                    at += 1;
                }
            }
        }
    }
    assert!(looked > 30_000 && bent * 20 > looked * 3, "{looked} places, {bent} of them bent");
    assert!(worst < 1e-9, "{worst:e} of a limb's length");
    println!("{looked} places, at most {worst:e} of a limb's length off where it bends");
}

#[test]
fn a_pose_is_the_same_whatever_was_asked_for_before() {
    for seed in 0..20 {
        let text = text(seed, &Controls::ALL);
        let scene = nimble_curve_formats::ncurve::read(&text).unwrap();
        let mut evaluator = Evaluator::new(&scene, scene.takes.first(), 0).unwrap();
        let frames: Vec<f64> = (0..48).map(f64::from).collect();
        let pose_at = |evaluator: &mut Evaluator<'_>, frame: f64| {
            let mut pose = Pose::default();
            evaluator.pose_at(frame * scene.rate.ticks_per_frame(), &mut pose);
            pose.world.iter().map(|world| world.to_cols_array().map(f64::to_bits)).collect::<Vec<_>>()
        };
        let forward: Vec<_> = frames.iter().map(|frame| pose_at(&mut evaluator, *frame)).collect();
        let mut chance = Chance::new(seed);
        for _ in 0..60 {
            let index = chance.below(frames.len());
            assert_eq!(pose_at(&mut evaluator, frames[index]), forward[index], "seed {seed} frame {index}");
        }
        // Alone it is the same as well.
        let mut fresh = Evaluator::new(&scene, scene.takes.first(), 0).unwrap();
        assert_eq!(pose_at(&mut fresh, frames[31]), forward[31], "seed {seed}");
    }
}

/// How far a scene without constraints is off from one with them, at parts of frames, in place and in turn, by textbook
/// formulas on both sides; nodes go by their names.
fn off_at(parts: u32, source: &Scene, result: &Scene) -> Off {
    let mut found = Off { place: 0.0, turn: 0.0, worst: (0.0, String::new()), straightest: 1.0 };
    for part in parts..=parts * 48 {
        let frame = f64::from(part) / f64::from(parts);
        let solved = Solved::new(source, Some((0, frame)));
        for (at, node) in source.nodes.iter().enumerate() {
            let own = result.find(&node.name);
            let (world, _) = result.world(0, own, frame);
            let theirs = solved.placed(at);
            let off = (theirs.world.translation - world.translation).length();
            let (x, y) = (theirs.world.matrix3, world.matrix3);
            let unit = |m: glam::DMat3| {
                glam::DMat3::from_cols(m.x_axis.normalize(), m.y_axis.normalize(), m.z_axis.normalize())
            };
            let apart = (unit(x) - unit(y)).to_cols_array().into_iter().map(|n| n * n).sum::<f64>().sqrt();
            // The angle of a rotation by the distance of its matrices (Huynh, 2009).
            let angle = 2.0 * (apart / 8.0_f64.sqrt()).min(1.0).asin();
            if off > found.place || angle > found.turn {
                found.worst = (frame, node.name.clone());
            }
            found.place = found.place.max(off);
            found.turn = found.turn.max(angle);
        }
        found.straightest = found.straightest.min(solved.straightest());
    }
    found
}

/// How far two scenes are apart.
struct Off {
    place: f64,
    turn: f64,
    worst: (f64, String),
    /// The least sine of the bend of a limb.
    straightest: f64,
}

#[test]
fn solved_joints_stand_where_their_controls_put_them() {
    let mut straight = 0;
    for seed in 0..30 {
        let text = text(seed, &Controls::CALM);
        if let Ok(folder) = std::env::var("KEEP") {
            std::fs::write(format!("{folder}/{seed}.ncurve"), &text).unwrap();
            continue;
        }
        let scene = nimble_curve_formats::ncurve::read(&text).unwrap();
        let made = solve(&scene, &SolveOptions::default()).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
        assert!(made.scene.constraints.is_empty());
        let written = nimble_curve_formats::ncurve::write(&made.scene);
        let off = off_at(4, &Scene::read(&text), &Scene::read(&written));
        straight += usize::from(off.straightest < 0.02);
        let is_held = off.place <= 0.05 && off.turn <= 0.1_f64.to_radians() * (1.0 + 1e-6);
        assert!(is_held, "seed {seed} {:?}: {} units, {} deg", off.worst, off.place, off.turn.to_degrees());
        let keys = made.scene.takes[0].value_count();
        println!("seed {seed}: {:.4} units, {:.4} deg, {keys} keys", off.place, off.turn.to_degrees());
    }
    // Where a limb comes to its full length its angles go as a root does.
    assert!(straight > 0, "none comes near its full length");
}

/// An arm whose goal goes out of its reach and comes back, touches the end of its reach, and goes out for less than a quarter of a frame;
/// and one with a short forearm, whose goal comes nearer to its root than its end can.
#[test]
fn limbs_that_come_to_their_full_length_hold_the_bound_between_frames_too() {
    let key = |frame: f64, value: f64| json!({ "frame": frame, "value": value });
    let length = 2.0 * 101.0_f64.sqrt();
    let folded = 101.0_f64.sqrt() - 17.0_f64.sqrt();
    let ways = [
        ("out and back", 10, vec![key(1.0, 12.0), key(16.0, 24.0), key(30.0, 15.0), key(48.0, 13.0)]),
        ("touching", 10, vec![key(1.0, 12.0), key(24.0, length), key(48.0, 11.0)]),
        ("out between frames", 10, vec![key(1.0, 12.0), key(24.55, length + 0.0006), key(48.0, 11.0)]),
        ("straight at last", 10, vec![key(1.0, 12.0), key(20.0, 17.0), key(48.0, length)]),
        ("straight at first", 10, vec![key(1.0, length), key(20.0, 12.0), key(48.0, 16.0)]),
        ("folded and back", 4, vec![key(1.0, 12.0), key(22.0, 4.0), key(48.0, 11.0)]),
        ("all but folded", 4, vec![key(1.0, 12.0), key(24.0, folded), key(48.0, 11.0)]),
        ("folded between frames", 4, vec![key(1.0, 12.0), key(24.55, folded - 0.0006), key(48.0, 11.0)]),
    ];
    for (name, forearm, keys) in ways {
        let text = json!({
            "ncurve": 1, "rate": "24", "space": { "metres_per_unit": 0.01, "up": "y" },
            "rigs": [{ "name": "arm", "nodes": [
                { "name": "root", "kind": "root" },
                { "name": "upper", "parent": "root" },
                { "name": "lower", "parent": "upper", "translation": [10, 0, 1] },
                { "name": "hand", "parent": "lower", "translation": [forearm, 0, -1] },
                { "name": "goal", "kind": "control", "translation": [10 + forearm, 0, 0] }
            ] }],
            "constraints": [{ "name": "arm", "node": "upper",
                "limb": { "lower": "lower", "end": "hand", "goal": { "node": "goal" } } }],
            "takes": [{ "name": "reach", "range": [1, 48], "layers": [{ "name": "base", "tracks": [
                { "channel": "goal:translation", "controller": { "components": [{ "keys": keys }, {}, {}] } }
            ] }] }]
        })
        .to_string();
        let scene = nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| panic!("{name}: {e:?}"));
        let made = solve(&scene, &SolveOptions::default()).unwrap();
        let written = nimble_curve_formats::ncurve::write(&made.scene);
        let off = off_at(40, &Scene::read(&text), &Scene::read(&written));
        let keys = made.scene.takes[0].value_count();
        println!("{name}: {:.4} units, {:.4} deg, {keys} keys", off.place, off.turn.to_degrees());
        let is_held = off.place <= 0.05 && off.turn <= 0.1_f64.to_radians() * 1.02;
        assert!(is_held, "{name} {:?}: {} units, {} deg", off.worst, off.place, off.turn.to_degrees());
    }
}

/// A sleeve that takes half of a wrist's roll while that goes more than half round, and one that goes by three posts that come to opposite sides.
#[test]
fn what_jumps_though_nothing_that_drives_it_does_jumps_as_a_curve() {
    let turning = |to: f64| {
        json!({ "angles": { "order": "xyz", "x": { "keys": [
            { "frame": 1, "value": 0 }, { "frame": 48, "value": to }
        ] }, "y": {}, "z": {} } })
    };
    let text = json!({
        "ncurve": 1, "rate": "24", "space": { "metres_per_unit": 0.01, "up": "y" },
        "rigs": [{ "name": "arm", "nodes": [
            { "name": "root", "kind": "root" },
            { "name": "wrist", "kind": "control", "parent": "root" },
            { "name": "post", "kind": "control", "parent": "root" },
            { "name": "stand", "kind": "control", "parent": "root" },
            { "name": "sleeve", "parent": "root", "translation": [5, 0, 0] },
            { "name": "cuff", "parent": "sleeve", "translation": [0, 3, 0] },
            { "name": "flag", "parent": "root", "translation": [0, 0, 4] }
        ] }],
        "constraints": [
            { "node": "sleeve", "roll": { "source": "wrist", "fraction": 0.5, "axis": [1, 0, 0] } },
            { "node": "flag", "follow": { "parts": ["rotation"], "sources": [
                { "node": "post", "weight": 0.7 }, { "node": "stand", "weight": 0.3 }, { "node": "wrist", "weight": 0.5 }
            ] } }
        ],
        "takes": [{ "name": "turn", "range": [1, 48], "layers": [{ "name": "base", "tracks": [
            { "channel": "wrist:rotation", "controller": turning(330.0) },
            { "channel": "post:rotation", "controller": turning(-70.0) },
            { "channel": "stand:rotation", "controller": turning(40.0) }
        ] }] }]
    })
    .to_string();
    let scene = nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| panic!("{e:?}"));
    let made = solve(&scene, &SolveOptions::default()).unwrap();
    let written = nimble_curve_formats::ncurve::write(&made.scene);
    // A jump lies between two ticks: on the very one both are right.
    let off = off_at(37, &Scene::read(&text), &Scene::read(&written));
    let is_held = off.place <= 0.05 && off.turn <= 0.1_f64.to_radians() * 1.02;
    assert!(is_held, "{:?}: {} units, {} deg", off.worst, off.place, off.turn.to_degrees());
    assert!(written.contains("\"before\""), "something jumps");
    let keys = made.scene.takes[0].value_count();
    assert!(keys < 150, "{keys} keys");
}
