//! When controls have to have keys: where what they follow has them.

use std::collections::BTreeSet;

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, driving};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::duties::{Keyed, Stage};
use crate::control_rig::drivers::Drivers;

/// The key times of each stage: of all that moves its joints beside what it hangs on. What moves both alike counts for nothing.
pub fn key_times(
    (motion, take): (&Scene, &Take),
    result: &Scene,
    stages: &[Stage],
) -> Result<Vec<Vec<Ticks>>, EvaluateError> {
    let mut moved: Vec<(BTreeSet<NodeRef>, BTreeSet<Target>)> = Vec::with_capacity(stages.len());
    for stage in stages {
        let (nodes, steering) = driving(motion, stage_joints(result, stage))?;
        moved.push((nodes.into_iter().collect(), steering.into_iter().collect()));
    }
    let mut all = Vec::with_capacity(stages.len());
    for (stage, (nodes, steering)) in stages.iter().zip(&moved) {
        let (mut below, mut below_steering) = (BTreeSet::new(), BTreeSet::new());
        if let Keyed::Control { control: (rig, id), .. } | Keyed::Held { control: (rig, id) } = &stage.keyed
            && let Some(parent) = result.rigs[*rig].parent(*id)
        {
            let (standing, more) = driving(result, [(*rig, parent)])?;
            below_steering.extend(more);
            for node in standing {
                let by = stages.iter().position(|other| other.control() == Some(node));
                match by.map(|at| &moved[at]) {
                    Some((nodes, steering)) => {
                        below.extend(nodes.iter().copied());
                        below_steering.extend(steering.iter().cloned());
                    }
                    None => {
                        below.insert(node);
                    }
                }
            }
        }
        let nodes: BTreeSet<NodeRef> = nodes.symmetric_difference(&below).copied().collect();
        let steering: BTreeSet<Target> = steering.symmetric_difference(&below_steering).cloned().collect();
        let is_step = |target: &Target| {
            let node = motion.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            node.is_some_and(|node| node.op(&target.property).is_some())
        };
        let counts = |target: &Target| {
            nodes.contains(&(target.rig, target.node)) && is_step(target) || steering.contains(target)
        };
        let tracks: Vec<(&Layer, &Track)> =
            take.active_tracks().filter(|(_, track)| counts(&track.target)).collect();
        all.push(Drivers::times(&tracks, take.range));
    }
    Ok(all)
}

/// The joints whose motion a stage has to follow.
fn stage_joints(scene: &Scene, stage: &Stage) -> BTreeSet<NodeRef> {
    let of = |index: usize| scene.constraints[index].driven();
    let held = match stage.keyed {
        Keyed::Held { control } => Some(control),
        _ => None,
    };
    stage.constraints().into_iter().flat_map(of).chain(held).collect()
}
