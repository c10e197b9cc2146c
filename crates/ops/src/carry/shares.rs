//! How far each node may turn beside its place, where errors add up along chains and the sum is bounded.
//!
//! Every node has nearly the whole tolerance at first. Where a joint is off by more than that, in a window of time, the
//! nodes above it whose own errors are the largest there get less, until what is left of them all is within it. One key
//! more makes an error many times smaller, so a few nodes followed much more closely need fewer keys than all of them
//! followed a little more closely.

use std::collections::{BTreeSet, HashMap};

use glam::DVec3;
use nimble_curve_curves::rotation::{AngleTolerance, ToleranceScale};
use nimble_curve_curves::time::{TICKS_PER_SECOND, TimeRange};

/// The part of the tolerance that a node has to itself at first.
const FIRST: f64 = 0.95;
/// The length of a window, in seconds.
const WINDOW: f64 = 0.1;
/// The part of the tolerance that is aimed at where there was more.
const AIM: f64 = 0.97;
/// How much smaller an error becomes at once.
const STEP: f64 = 0.35;
/// So many windows around one in which a node is followed more closely, it had better be the same one.
const AROUND: usize = 2;
/// How much better.
const SAME: f64 = 2.0;
/// So often at most nodes are followed more closely for the sake of one.
const MOST_STEPS: usize = 64;
/// No window of a link is followed more closely than by this part of the tolerance.
const LEAST: f64 = 1e-4;

/// A node whose place in the world is compared, and what its own turn is made of.
#[derive(Clone, Debug)]
pub(super) struct Compared {
    /// The next one above it that is compared.
    pub above: Option<usize>,
    /// The links between the two, its own among them: what they are off by adds to what the one above is off by.
    pub links: Vec<usize>,
}

/// A window in which a compared node is off by more than the tolerance.
#[derive(Clone, Debug)]
pub(super) struct Excess {
    pub node: usize,
    pub window: usize,
    /// The largest angle by which it is off.
    pub angle: f64,
    /// By how much it is off there, and by how much each one above it, upwards: as vectors along the axes.
    pub errors: Vec<DVec3>,
}

/// How many windows a stretch of time has, in ticks.
pub(super) fn windows_in(ticks: f64) -> usize {
    (ticks / (WINDOW * TICKS_PER_SECOND as f64)) as usize
}

/// How far each link may be off, in each window.
pub(super) struct ToleranceBudget {
    tolerance: f64,
    slacks: Vec<ToleranceScale>,
}

impl ToleranceBudget {
    /// Nearly all of a tolerance for each of so many links, within a range.
    pub fn new(tolerance: f64, links: usize, range: TimeRange) -> ToleranceBudget {
        let length = WINDOW * TICKS_PER_SECOND as f64;
        let count = ((range.last - range.first).as_f64() / length) as usize + 1;
        let scale = ToleranceScale::new(range.first.as_f64(), length, vec![FIRST; count]);
        ToleranceBudget { tolerance, slacks: vec![scale; links] }
    }

    /// What one link may be off.
    pub fn of(&self, link: usize) -> AngleTolerance<'_> {
        AngleTolerance { angle: self.tolerance, scale: Some(&self.slacks[link]) }
    }

    /// The window of an instant.
    pub fn window(&self, time: f64) -> usize {
        self.slacks.first().map_or(0, |scale| scale.stretch(time))
    }

    /// Gives the links that matter most less where nodes are off by too much; those that can be followed more closely
    /// are `refitted`. Returns the links for which something changed.
    pub fn tighten(
        &mut self,
        compared: &[Compared],
        mut excess: Vec<Excess>,
        refitted: &[bool],
    ) -> BTreeSet<usize> {
        let mut changed = BTreeSet::new();
        // How much smaller the own errors of nodes will be, by node and window.
        let mut smaller: HashMap<(usize, usize), f64> = HashMap::new();
        excess.sort_by(|a, b| b.angle.total_cmp(&a.angle));
        for Excess { node, window, errors, .. } in excess {
            let chain = std::iter::successors(Some(node), |&node| compared[node].above);
            let axis = errors[0].normalize_or_zero();
            let above = errors[1..].iter().copied().chain([DVec3::ZERO]);
            let own: Vec<(usize, DVec3)> = chain
                .zip(errors.iter().zip(above))
                .map(|(node, (error, above))| (node, *error - above))
                .collect();
            let can_change = |node: usize| compared[node].links.iter().any(|&link| refitted[link]);
            let given: f64 =
                own.iter().filter(|(node, _)| !can_change(*node)).map(|(_, v)| v.dot(axis)).sum();
            // What nobody can help is no reason to follow all others more and more closely.
            let aim = (AIM * self.tolerance - given.max(0.0)).max(0.5 * self.tolerance);
            let own: Vec<(usize, DVec3)> = own.into_iter().filter(|(node, _)| can_change(*node)).collect();
            for _ in 0..MOST_STEPS {
                let left = |&(node, error): &(usize, DVec3)| {
                    error.dot(axis) * smaller.get(&(node, window)).copied().unwrap_or(1.0)
                };
                if own.iter().map(left).sum::<f64>() <= aim {
                    break;
                }
                let near = window.saturating_sub(AROUND)..=window + AROUND;
                let is_same = |node: usize| near.clone().any(|window| smaller.contains_key(&(node, window)));
                let weight = |part: &(usize, DVec3)| left(part) * if is_same(part.0) { SAME } else { 1.0 };
                let Some(&(node, error)) = own.iter().max_by(|a, b| weight(a).total_cmp(&weight(b))) else {
                    break;
                };
                let part = smaller.entry((node, window)).or_insert(1.0);
                *part *= STEP;
                let links: Vec<usize> =
                    compared[node].links.iter().copied().filter(|&link| refitted[link]).collect();
                let factor = error.length() * *part / self.tolerance / links.len() as f64;
                for link in links {
                    let scale = &mut self.slacks[link].factors_mut()[window];
                    // Where the link is as close already, what is off is larger than its own error: layers that blend
                    // far rotations make it so.
                    let closer = if factor < *scale { factor } else { STEP * *scale };
                    if *scale > LEAST {
                        *scale = closer.max(LEAST);
                        changed.insert(link);
                    }
                }
            }
        }
        changed
    }
}
