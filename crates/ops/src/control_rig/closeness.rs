//! How closely joints are solved, take by take: those that are too far off in the world, with what is above them, are solved closer, and
//! all others stay as they are, with the keys that they have.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::scene::Scene;

use super::in_world::Beyond;
use super::straight::CLOSEST;

/// How often joints are solved until the bound holds in the world.
pub const TRIES: usize = 6;

/// How many of these have keys on frames alone.
const ON_FRAMES: usize = 3;

/// The least part of the tolerance that single joints are fitted to: what closer curves do not bring nearer is no matter of keys.
const LEAST_PART: f64 = 0.005;

/// How one joint is solved.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Closeness {
    /// The part of the tolerance that its curves are fitted to.
    pub part: f64,
    /// Whether keys may stand between frames.
    pub is_fine: bool,
    /// How closely keys stand about the instants at which its limb comes to its whole length.
    pub straightness: usize,
}

/// On frames, within the whole of the tolerance.
const PLAIN: Closeness = Closeness { part: 1.0, is_fine: false, straightness: 0 };

/// How closely each joint is solved; at first all within the tolerance.
#[derive(Clone, Debug, Default)]
pub struct ByJoint {
    closer: BTreeMap<(usize, NodeRef), Closeness>,
}

impl ByJoint {
    /// How a joint is solved in a take.
    pub fn of(&self, take: usize, node: NodeRef) -> Closeness {
        self.closer.get(&(take, node)).copied().unwrap_or(PLAIN)
    }

    /// Has those joints solved closer that a try left too far off, and those above them, which take them along; whether there is
    /// anything left to try. `joints` are all that are solved.
    pub fn tighten(
        &mut self,
        scene: &Scene,
        joints: &BTreeSet<NodeRef>,
        (take, beyond): (usize, &Beyond),
        tried: usize,
    ) -> bool {
        let mut farthest: BTreeMap<NodeRef, [f64; 2]> = BTreeMap::new();
        for (index, (rig, places)) in scene.rigs.iter().zip(beyond).enumerate() {
            for ((id, _), far) in rig.nodes().zip(places).filter(|(_, far)| far[0].max(far[1]) > 1.0) {
                let above = std::iter::successors(Some(id), |id| rig.parent(*id)).map(|id| (index, id));
                let solved: Vec<NodeRef> = above.filter(|node| joints.contains(node)).collect();
                // What none of them takes along hangs on some of them by constraints that stay.
                let all = if solved.is_empty() { joints.iter().copied().collect() } else { solved };
                for node in all {
                    let most = farthest.entry(node).or_default();
                    *most = [most[0].max(far[0]), most[1].max(far[1])];
                }
            }
        }
        let mut is_closer = false;
        for (node, [at_quarters, where_straight]) in farthest {
            let before = self.of(take, node);
            let mut closer = before;
            // Where only these are too far off, keys about them are all that is missing.
            let far = match before.straightness {
                0 if where_straight > 1.0 => {
                    closer.straightness = 1;
                    at_quarters
                }
                1..CLOSEST if where_straight > 1.0 && tried >= ON_FRAMES => {
                    closer.straightness += 1;
                    at_quarters
                }
                _ => at_quarters.max(where_straight),
            };
            if far > 1.0 {
                closer.part *= (0.7 / far).clamp(0.05, 0.7);
                closer.is_fine = tried >= ON_FRAMES;
            }
            if closer != before && closer.part >= LEAST_PART {
                self.closer.insert((take, node), closer);
                is_closer = true;
            }
        }
        is_closer
    }
}
