//! How far the result is from the source: world rotations relative to the reference, of all pairs, at every half frame.

use std::collections::HashMap;

use glam::DVec3;
use rayon::prelude::*;

use super::map::PairSpace;
use super::shares::{Compared, Excess, Shares};
use super::{CarryError, Job, Measured};
use crate::controller::Samples;
use crate::evaluate::Evaluator;
use crate::ledger::MeasuredError;
use crate::rig::NodeId;
use crate::rotation::{angle_between, to_vector};
use crate::scene::{Scene, Take};
use crate::value::Quantity;

/// The nodes whose world rotations are compared.
pub(super) struct World {
    /// Positions in the source and in the target, and the target's nodes.
    pairs: Vec<(usize, usize, NodeId)>,
    /// How they follow each other.
    pub compared: Vec<Compared>,
}

impl Job<'_> {
    /// What can be compared. Where only some channels were selected, nothing can.
    pub fn world(&self) -> World {
        let in_parent = |id: NodeId| {
            let by_parent = |id| self.links.of_target(id).is_some_and(|link| link.space == PairSpace::Parent);
            self.onto.upwards(id).any(by_parent)
        };
        // What was let go on purpose is no error.
        let lets_go = |id: NodeId| self.from.upwards(id).any(|id| self.links.left_out.contains(&id));
        let pairs: Vec<(usize, usize, NodeId)> = (self.links.all.iter())
            .filter(|_| self.chosen.is_everything())
            .filter(|link| link.place.part == 1.0 && !in_parent(link.target) && !lets_go(link.place.node))
            .map(|link| (self.from.position(link.place.node), self.onto.position(link.target), link.target))
            .collect();
        let by_target: HashMap<NodeId, usize> =
            pairs.iter().enumerate().map(|(index, (.., target))| (*target, index)).collect();
        let link_of: HashMap<NodeId, usize> =
            self.links.all.iter().enumerate().map(|(index, link)| (link.target, index)).collect();
        let compared = |&(.., target): &(usize, usize, NodeId)| {
            let mut upwards = self.onto.upwards(target);
            let mut links: Vec<usize> =
                upwards.next().and_then(|id| link_of.get(&id)).copied().into_iter().collect();
            let mut above = None;
            for id in upwards {
                above = by_target.get(&id).copied();
                if above.is_some() {
                    break;
                }
                links.extend(link_of.get(&id));
            }
            Compared { above, links }
        };
        let compared = pairs.iter().map(compared).collect();
        World { pairs, compared }
    }

    /// Compares a take with what it became; what is off by too much is told for each window of the shares.
    pub fn measure(
        &self,
        world: &World,
        (before, after): (&Take, &Take),
        is_refitted: bool,
        shares: &Shares,
    ) -> Result<(Measured, Vec<Excess>), CarryError> {
        if world.pairs.is_empty() {
            let error = MeasuredError::none(Quantity::Angle);
            return Ok((Measured { error, worst: None }, Vec::new()));
        }
        // Between samples there is nothing to be held to: what hangs on sampled turns is compared at the samples.
        let sampled: HashMap<NodeId, &Samples> = (after.tracks())
            .filter(|(_, track)| track.target.property == "rotation")
            .filter_map(|(_, track)| Some((track.target.node, track.controller.samples()?)))
            .collect();
        let grids: Vec<Vec<&Samples>> = (world.pairs.iter())
            .map(|&(_, _, node)| self.onto.upwards(node).filter_map(|id| sampled.get(&id).copied()).collect())
            .collect();
        let is_between = |samples: &&Samples, time: f64| {
            let (index, part) = samples.locate(time);
            let near =
                |index: usize| index < samples.len() && (samples.time(index).as_f64() - time).abs() < 1.0;
            part > 0.0 && !near(index) && !near(index + 1)
        };
        let result = Scene { takes: Vec::new(), ..self.target.clone() };
        let rate = self.source.rate;
        let first = (rate.frame(before.range.first) * 2.0).ceil() as i64;
        let last = (rate.frame(before.range.last) * 2.0) as i64;
        // Where nothing was refitted, whole frames are enough to see that nothing went wrong.
        let halves: Vec<i64> = (first..=last).filter(|half| is_refitted || half % 2 == 0).collect();
        let look = |halves: &[i64]| -> Result<Seen, CarryError> {
            let mut source = Evaluator::new(self.source, Some(before), 0)?;
            let mut target = Evaluator::new(&result, Some(after), 0)?;
            let (mut wanted, mut found) = (Vec::new(), Vec::new());
            let times: Vec<f64> =
                halves.iter().map(|half| *half as f64 * 0.5 * rate.ticks_per_frame()).collect();
            source.world_rotations(&times, &mut wanted);
            target.world_rotations(&times, &mut found);
            let turns = |pair: usize, index: usize| {
                let (a, b, _) = world.pairs[pair];
                let wanted = wanted[a * times.len() + index] * self.from.world[a].conjugate();
                (wanted, found[b * times.len() + index] * self.onto.world[b].conjugate())
            };
            let mut seen = Seen::default();
            for (pair, grids) in grids.iter().enumerate() {
                for (index, (&half, &time)) in halves.iter().zip(&times).enumerate() {
                    if grids.iter().any(|samples| is_between(samples, time)) {
                        continue;
                    }
                    let (wanted, found) = turns(pair, index);
                    let window = shares.window(time);
                    let angle = angle_between(wanted, found);
                    seen.take(pair, angle, half as f64 * 0.5);
                    let known =
                        seen.excess.get(&(pair, window)).map_or(self.tolerance.angle, |known| known.angle);
                    if angle > known {
                        let chain = std::iter::successors(Some(pair), |&pair| world.compared[pair].above);
                        let off = |pair: usize| -> DVec3 {
                            let (wanted, found) = turns(pair, index);
                            to_vector(found * wanted.conjugate())
                        };
                        let errors = chain.map(off).collect();
                        seen.excess.insert((pair, window), Excess { node: pair, window, angle, errors });
                    }
                }
            }
            Ok(seen)
        };
        let nodes = self.source.rigs[0].len().max(self.target.rigs[0].len()).max(1);
        let chunk = (AT_HAND / nodes).clamp(16, 512);
        let parts: Vec<Seen> = halves.par_chunks(chunk).map(look).collect::<Result<_, _>>()?;
        let seen = parts.into_iter().fold(Seen::default(), Seen::with);
        let worst = seen.worst.map(|pair| world.pairs[pair].2);
        let mut excess: Vec<Excess> = seen.excess.into_values().collect();
        excess.sort_by_key(|excess| (excess.node, excess.window));
        Ok((Measured { error: seen.error, worst }, excess))
    }
}

/// So many rotations of each side are held at once, on each core.
const AT_HAND: usize = 1 << 17;

/// What was seen in a stretch of time.
struct Seen {
    error: MeasuredError,
    /// The pair with the largest error.
    worst: Option<usize>,
    /// By pair and window.
    excess: HashMap<(usize, usize), Excess>,
}

impl Default for Seen {
    fn default() -> Seen {
        Seen { error: MeasuredError::none(Quantity::Angle), worst: None, excess: HashMap::new() }
    }
}

impl Seen {
    fn take(&mut self, pair: usize, angle: f64, frame: f64) {
        if angle > self.error.largest || self.worst.is_none() {
            self.worst = Some(pair);
        }
        self.error.take(angle, frame);
    }

    /// Together with what was seen afterwards.
    fn with(mut self, later: Seen) -> Seen {
        if later.error.largest > self.error.largest || self.worst.is_none() {
            self.worst = later.worst;
        }
        self.error.merge(&later.error);
        for (place, excess) in later.excess {
            let known = self.excess.get(&place).map_or(0.0, |known| known.angle);
            if excess.angle > known {
                self.excess.insert(place, excess);
            }
        }
        self
    }
}
