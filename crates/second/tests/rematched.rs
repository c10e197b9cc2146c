//! Random control rigs: their joints solved, and put back onto their controls. What joints do then is measured by textbook formulas, and by the
//! judge; the judge is judged by faults put into results.

use nimble_curve_core::constraint::{ConstraintKind, EndTurn};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::judge::{Limits, judge};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::control_rig::{
    BetweenFrames, MatchKeys, MatchOptions, Matched, SolveOptions, match_controls, solve,
};
use nimble_curve_core::scene::Scene as Ours;
use nimble_curve_formats::ncurve;
use nimble_curve_second::controls::{Controls, text};
use nimble_curve_second::scene::{Scene, Solved};

/// What is called reached may be off by half of the bound at best: in units, and in radians.
const REACHED: [f64; 2] = [0.025, 0.05 * std::f64::consts::PI / 180.0];

/// A random rig whose joints have curves and whose controls have none, and the same joints by these curves alone.
fn solved(seed: u64) -> (Ours, Scene) {
    let whole = ncurve::read(&text(seed, &Controls::CALM)).unwrap();
    let mut joints = solve(&whole, &SolveOptions::default()).unwrap().scene;
    for layer in joints.takes.iter_mut().flat_map(|take| &mut take.layers) {
        layer.tracks.retain(|track| {
            let node = joints.rigs[track.target.rig].node(track.target.node);
            node.is_some_and(|node| !node.kind.is_for_controls())
        });
    }
    let plain = Scene::read(&ncurve::write(&joints));
    (Ours { constraints: whole.constraints, ..joints }, plain)
}

/// The two limbs: the name of the end, that of the goal, and whether the end turns with it.
fn limbs(scene: &Ours) -> Vec<(String, String, bool)> {
    let name = |(rig, id): (usize, _)| scene.rigs[rig].node(id).unwrap().name.clone();
    let limb = |kind: &ConstraintKind| match kind {
        ConstraintKind::Limb(limb) => {
            Some((name(limb.end), name(limb.goal.node), limb.end_turn == EndTurn::Goal))
        }
        _ => None,
    };
    scene.constraints.iter().filter_map(|constraint| limb(&constraint.kind)).collect()
}

/// The frames at which a control has keys.
fn key_frames(scene: &Ours, name: &str) -> Vec<f64> {
    let take = &scene.takes[0];
    let on_it = take.active_tracks().filter(|(_, track)| {
        scene.rigs[track.target.rig].node(track.target.node).is_some_and(|node| node.name == name)
    });
    let times = on_it.flat_map(|(_, track)| track.controller.key_times(take.range));
    times.map(|time| scene.rate.frame(time)).collect()
}

/// How far a node is off in place, and in what is left of its turn.
fn off(joints: &Scene, result: &Scene, name: &str, frame: f64) -> [f64; 2] {
    let world = |scene: &Scene| Solved::new(scene, Some((0, frame))).placed(scene.find(name)).world;
    let (theirs, ours) = (world(joints), world(result));
    let unit = |m: glam::DMat3| m * (1.0 / m.determinant().abs().cbrt());
    let turned = (unit(theirs.matrix3) - unit(ours.matrix3)).to_cols_array();
    [(theirs.translation - ours.translation).length(), turned.into_iter().map(f64::abs).fold(0.0, f64::max)]
}

/// Whether the judge lets a result pass.
fn passes(matched: &Matched, result: &Ours, tolerance: &Tolerance) -> bool {
    let length = tolerance.length / result.space.metres_per_unit;
    let limits = Limits {
        angle: tolerance.angle,
        length,
        number: tolerance.number,
        world: length,
        world_turn: tolerance.angle,
        between: f64::INFINITY,
    };
    matched.claims.iter().all(|claim| {
        let verdict = judge(&claim.motion, result, &claim.claim, limits, 1.0);
        verdict.beyond().is_none() && verdict.world_beyond().is_none()
    })
}

fn is_reached(matched: &Matched, name: &str) -> bool {
    !matched.ledger.notes.iter().any(|note| note.contains(&format!(": {name} is not reached")))
}

#[test]
fn the_same_keys_put_ends_of_limbs_where_they_were() {
    let (mut looked, mut noticed, mut faults) = (0, 0, 0);
    for seed in 0..16 {
        let (scene, joints) = solved(seed);
        let options = MatchOptions::default();
        assert_eq!(options.keys, MatchKeys::Same);
        let matched = match_controls(&scene, &options).unwrap();
        assert!(passes(&matched, &matched.scene, &options.tolerance), "seed {seed}");
        let result = Scene::read(&ncurve::write(&matched.scene));
        for (end, goal, turns) in limbs(&scene).into_iter().filter(|(end, ..)| is_reached(&matched, end)) {
            for frame in key_frames(&matched.scene, &goal) {
                let [place, turn] = off(&joints, &result, &end, frame);
                assert!(place < REACHED[0], "seed {seed}: {end} at frame {frame}: {place}");
                assert!(!turns || turn < REACHED[1], "seed {seed}: {end} at frame {frame}: {turn}");
                looked += 1;
            }
            // Half a unit aside at all keys: ten times what is allowed.
            let mut faulty = matched.scene.clone();
            let of = |track: &nimble_curve_core::scene::Track| {
                let node = scene.rigs[track.target.rig].node(track.target.node);
                node.is_some_and(|node| node.name == goal) && track.target.property == "translation"
            };
            let tracks = faulty.takes[0].layers.iter_mut().flat_map(|layer| &mut layer.tracks);
            for track in tracks.filter(|track| of(track)) {
                let Controller::Components(curves) = &mut track.controller else { continue };
                curves[0] = curves[0].affine(1.0, 0.5);
                faults += 1;
            }
            noticed += usize::from(!passes(&matched, &faulty, &options.tolerance));
        }
    }
    assert!(looked > 700 && faults > 20, "{looked} looks, {faults} faults");
    assert_eq!(noticed, faults, "the judge looks at what it is said to");
}

#[test]
fn bounded_keys_hold_ends_and_what_twists_beside_them() {
    let (mut looked, mut between, mut refused) = (0, 0, 0);
    for seed in [0, 2, 3, 4, 6, 8, 9, 11] {
        let (scene, joints) = solved(seed);
        let options = MatchOptions {
            keys: MatchKeys::Bounded,
            between_frames: BetweenFrames::WhereNeeded,
            ..MatchOptions::default()
        };
        let matched = match_controls(&scene, &options).unwrap();
        if !passes(&matched, &matched.scene, &options.tolerance) {
            refused += 1;
            continue;
        }
        between +=
            usize::from(matched.ledger.notes.iter().any(|note| note.contains("between frames as well")));
        let result = Scene::read(&ncurve::write(&matched.scene));
        let is_straight = |name: &str| {
            matched
                .ledger
                .notes
                .iter()
                .any(|note| note.contains(&format!(": {name} where its limb is straighter")))
        };
        let all: Vec<&str> = ["hips", "chest", "end_l", "end_r", "twist_l", "twist_r", "lid"]
            .into_iter()
            .filter(|name| is_reached(&matched, name) && !is_straight(name))
            .collect();
        for half in 2..=96 {
            let frame = f64::from(half) * 0.5;
            for name in &all {
                let [place, turn] = off(&joints, &result, name, frame);
                let turn = turn.to_degrees();
                assert!(place < 0.051 && turn < 0.11, "seed {seed}: {name} at frame {frame}: {place} {turn}");
                looked += 1;
            }
        }
    }
    // One turns by 400 degrees a frame where its limb is folded: the judge says so, and nothing is written.
    assert!(refused <= 1, "{refused} of 8 are beyond the bound");
    assert!(looked > 2000 && between > 0, "{looked} looks, {between} with keys between frames");
}

/// Half a unit, or three degrees, added to one number of each track, one after the other: what is held to nothing is not noticed.
#[test]
fn the_judge_sees_a_fault_in_nearly_anything_that_was_keyed() {
    for (keys, least) in [(MatchKeys::Same, 88), (MatchKeys::Bounded, 95)] {
        let (mut faults, mut noticed, mut missed) = (0, 0, Vec::new());
        for seed in 0..8 {
            let (scene, _) = solved(seed);
            let between_frames = BetweenFrames::WhereNeeded;
            let options = MatchOptions { keys, between_frames, ..MatchOptions::default() };
            let matched = match_controls(&scene, &options).unwrap();
            if !passes(&matched, &matched.scene, &options.tolerance) {
                continue;
            }
            let count = matched.scene.takes[0].layers[0].tracks.len();
            for at in 0..count {
                let mut faulty = matched.scene.clone();
                let track = &mut faulty.takes[0].layers[0].tracks[at];
                match &mut track.controller {
                    Controller::Components(curves) => curves[0] = curves[0].affine(1.0, 0.5),
                    Controller::Euler(euler) => euler.curves[0] = euler.curves[0].affine(1.0, 0.05),
                    _ => continue,
                }
                faults += 1;
                if passes(&matched, &faulty, &options.tolerance) {
                    missed.push(format!("{seed}: {}", track_name(&scene, &matched.scene, at)));
                } else {
                    noticed += 1;
                }
            }
        }
        assert!(faults > 60, "{faults} faults");
        assert!(100 * noticed >= least * faults, "{keys:?}: {noticed} of {faults} noticed, not {missed:?}");
    }
}

fn track_name(scene: &Ours, result: &Ours, at: usize) -> String {
    let target = &result.takes[0].layers[0].tracks[at].target;
    let node = scene.rigs[target.rig].node(target.node).map_or("?", |node| node.name.as_str());
    format!("{node}:{}", target.property)
}
