//! Which hand holds a prop, as the takes show it.

use glam::{DQuat, DVec3};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::Poses;
use nimble_curve_scene::scene::{Scene, Take};

use crate::anatomy::{Part, parts_of};
use crate::grip::held_runs;

/// A hand with the two joints above it, each as its rig and its position in it.
struct Hand {
    node: NodeRef,
    joints: [(usize, usize); 3],
}

/// For the top node of each rig of a scene: the hand of another rig that holds it for longest, if one does.
pub(super) fn holders(scene: &Scene) -> Vec<Option<NodeRef>> {
    let hands = hands(scene);
    let props: Vec<usize> = (0..scene.rigs.len())
        .filter(|rig| !scene.rigs[*rig].is_empty() && hands.iter().any(|hand| hand.node.0 != *rig))
        .collect();
    let mut found = vec![None; scene.rigs.len()];
    let mut longest = vec![0; scene.rigs.len()];
    if props.is_empty() {
        return found;
    }
    for take in &scene.takes {
        // A take that cannot be evaluated shows nothing; carrying it says why.
        let Ok(seen) = places(scene, take, &props, &hands) else { continue };
        for (prop, by_hand) in props.iter().zip(seen) {
            for (hand, seen) in hands.iter().zip(by_hand).filter(|(hand, _)| hand.node.0 != *prop) {
                let runs = held_runs(&seen.beside, &seen.world, seen.arm, scene.rate.fps());
                let frames: usize = runs.iter().map(|(first, last)| last - first + 1).sum();
                if frames > longest[*prop] {
                    (longest[*prop], found[*prop]) = (frames, Some(hand.node));
                }
            }
        }
    }
    found
}

fn hands(scene: &Scene) -> Vec<Hand> {
    let mut hands = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        let parents = rig.parent_positions();
        for (at, ((id, _), part)) in rig.nodes().zip(parts_of(scene, index)).enumerate() {
            let above = |at: usize| parents[at];
            if part == Some(Part::Hand)
                && let Some(elbow) = above(at)
                && let Some(shoulder) = above(elbow)
            {
                hands.push(Hand { node: (index, id), joints: [at, elbow, shoulder].map(|at| (index, at)) });
            }
        }
    }
    hands
}

/// Where a prop is at each frame, in the world and in a hand's axes.
#[derive(Clone, Default)]
struct Seen {
    beside: Vec<(DVec3, DQuat)>,
    world: Vec<(DVec3, DQuat)>,
    arm: f64,
}

fn places(
    scene: &Scene,
    take: &Take,
    props: &[usize],
    hands: &[Hand],
) -> Result<Vec<Vec<Seen>>, nimble_curve_scene::evaluate::EvaluateError> {
    let mut poses = Poses::new(scene, take)?;
    let mut seen = vec![vec![Seen::default(); hands.len()]; props.len()];
    let first = scene.rate.frame(take.range.first).ceil() as i64;
    let last = scene.rate.frame(take.range.last).floor() as i64;
    for frame in first..=last {
        poses.at(scene.rate.ticks(frame).as_f64());
        let place = |(rig, at): (usize, usize)| {
            (poses.poses[rig].world[at].translation, poses.poses[rig].world_rotation[at])
        };
        for (prop, by_hand) in props.iter().zip(&mut seen) {
            let (at, turn) = place((*prop, 0));
            for (hand, seen) in hands.iter().zip(by_hand) {
                let [(holder, held), (elbow, _), (shoulder, _)] = hand.joints.map(place);
                seen.arm = (holder - elbow).length() + (elbow - shoulder).length();
                seen.beside.push((held.conjugate() * (at - holder), held.conjugate() * turn));
                seen.world.push((at, turn));
            }
        }
    }
    Ok(seen)
}
