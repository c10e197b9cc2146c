//! How far what constraints make of nodes is off what a file shows, by the solver that everything goes through.

use std::collections::BTreeSet;

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, EndTurn};
use nimble_curve_scene::evaluate::{EvaluateError, Solver, driving};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Target, Track};

use super::recorded::{Instant, Recording};
use crate::channel::with_tracks;

/// How far the middle of a limb has to be off its line, in lengths of the limb, for its turn to count.
const BENT: f64 = 0.05;

/// How far something is off.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Residual {
    /// In place, in units of the scene.
    pub place: f64,
    /// In turn, in radians.
    pub angle: f64,
}

/// A constraint alone on its nodes, with the curves of all that these need.
///
/// # Errors
/// Where the constraint needs what it drives.
pub fn alone(source: &Scene, constraint: &Constraint) -> Result<Scene, EvaluateError> {
    let constraints = vec![constraint.clone()];
    let mut made = Scene { rigs: source.rigs.clone(), constraints, ..Scene::new(source.rate, source.space) };
    let (needed, _) = driving(&made, constraint.driven())?;
    let needed: BTreeSet<NodeRef> = needed.into_iter().collect();
    // Own curves would add to what a roll makes of its node.
    let rolls = matches!(constraint.kind, ConstraintKind::Roll(_));
    let is_replaced = |target: &Target| {
        rolls && (target.rig, target.node) == constraint.node && target.property == ROTATION
    };
    let counts = |track: &Track| {
        needed.contains(&(track.target.rig, track.target.node)) && !is_replaced(&track.target)
    };
    made.takes = source.takes.iter().map(|take| with_tracks(take, counts)).collect();
    Ok(made)
}

/// How far the one constraint of a scene is off what a file shows, on some frames or all.
pub fn off(scene: &Scene, recording: &Recording, on: Option<&[bool]>) -> Result<Residual, EvaluateError> {
    let mut found = Residual::default();
    let place = |node: NodeRef| recording.nodes.iter().position(|own| own.node == node);
    for constraint in &scene.constraints {
        let nodes: Vec<usize> = constraint.driven().into_iter().filter_map(place).collect();
        for (index, take) in scene.takes.iter().enumerate() {
            let mut solver = Solver::new(scene, Some(take), constraint.driven())?;
            for (frame, (of, time)) in recording.frames.iter().enumerate() {
                if *of != index || on.is_some_and(|on| !on[frame]) {
                    continue;
                }
                solver.solve(time.as_f64());
                for (joint, &node) in nodes.iter().enumerate() {
                    let own = &recording.nodes[node];
                    let Some(stand) = solver.stand(own.node) else { continue };
                    let [places, turns] = counts(recording, constraint, &nodes, (joint, frame));
                    let (shown, made) = (own.instants[frame], Instant::of(stand));
                    if places {
                        found.place = found.place.max((made.place - shown.place).length());
                    }
                    if turns {
                        found.angle = found.angle.max(angle_between(made.turn, shown.turn));
                    }
                }
            }
        }
    }
    Ok(found)
}

/// What counts of a node that a constraint drives: its place, its turn.
fn counts(
    recording: &Recording,
    constraint: &Constraint,
    nodes: &[usize],
    (joint, frame): (usize, usize),
) -> [bool; 2] {
    match &constraint.kind {
        ConstraintKind::Follow(follow) => {
            [follow.translation.contains(&true), follow.rotation.contains(&true)]
        }
        ConstraintKind::Limb(limb) if joint == 2 => [true, limb.end_turn != EndTurn::Own],
        ConstraintKind::Limb(_) => {
            // About its own line a straight limb turns as it likes.
            let at = |index: usize| recording.nodes[nodes[index]].instants[frame].place;
            let (line, bone) = (at(2) - at(0), at(1) - at(0));
            let height = line.cross(bone).length() / line.length().max(f64::MIN_POSITIVE);
            [true, height > BENT * bone.length()]
        }
        _ => [false, true],
    }
}
