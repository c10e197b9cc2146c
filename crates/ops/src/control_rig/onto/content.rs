//! Controls that bring their joints near enough by the curves that they have: these stay as they are.

use std::collections::BTreeSet;

use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::scene::Scene;

use super::duties::Stage;
use super::keying::Used;
use crate::control_rig::error::SolveError;

/// Which stages need no keys, as their controls do it within the bound, by their places. `used` tells what joints use up of it where these
/// controls have the curves that they had, and all others do what they have to.
///
/// It begins with all of them, and lets go of those whose joints are too far off, from the top down: what hangs on a joint that is off is
/// off by that alone.
pub fn content(
    scene: &Scene,
    stages: &[Stage],
    mut used: impl FnMut(&BTreeSet<usize>) -> Result<Used, SolveError>,
) -> Result<BTreeSet<usize>, SolveError> {
    let mut kept: BTreeSet<usize> = (0..stages.len()).collect();
    while !kept.is_empty() {
        let far = used(&kept)?.beyond();
        let at_fault: Vec<usize> =
            kept.iter().copied().filter(|index| !stages[*index].joints.is_disjoint(&far)).collect();
        if at_fault.is_empty() {
            break;
        }
        let by_others = |own: usize| -> BTreeSet<NodeRef> {
            let others = at_fault.iter().filter(|index| **index != own);
            let joints = others.flat_map(|index| stages[*index].joints.intersection(&far));
            joints.filter(|joint| !stages[own].joints.contains(joint)).copied().collect()
        };
        let hangs = |own: &usize| {
            let others = by_others(*own);
            stages[*own].joints.iter().any(|joint| hangs_on(scene, *joint, &others))
        };
        let first: Vec<usize> = at_fault.iter().copied().filter(|own| !hangs(own)).collect();
        for index in if first.is_empty() { at_fault } else { first } {
            kept.remove(&index);
        }
    }
    Ok(kept)
}

/// Whether a node stands below one of some others.
fn hangs_on(scene: &Scene, (rig, id): NodeRef, others: &BTreeSet<NodeRef>) -> bool {
    let of = scene.rigs.get(rig);
    let mut above = std::iter::successors(Some(id), |id| of.and_then(|rig| rig.parent(*id))).skip(1);
    above.any(|id| others.contains(&(rig, id)))
}
