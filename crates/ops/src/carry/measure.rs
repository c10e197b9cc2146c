//! How far the result is from the source: world rotations relative to the reference, of all pairs, at every half frame, and at eighths
//! of such within which a curve goes far.

use std::collections::{HashMap, HashSet};

use nimble_curve_curves::curve::{EVER, changes};
use nimble_curve_curves::rotation::{angle_between, to_vector};
use nimble_curve_curves::time::{FrameRate, Ticks};
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::controller::{Controller, Samples};
use nimble_curve_scene::evaluate::Evaluator;
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Take};
use rayon::prelude::*;

use super::CarryError;
use super::job::{Job, Measured};
use super::map::PairSpace;
use super::output::{Made, Output};
use super::shares::{Compared, Excess, ToleranceBudget, windows_in};
use crate::fitting::LEAP;

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
    ///
    /// What was seen before is looked at again only where something is stale; how far the whole is off is not told then.
    pub fn measure(
        &self,
        world: &World,
        (before, after): (&Take, &Take),
        is_refitted: bool,
        shares: &ToleranceBudget,
        known: Option<(Seen, Stale)>,
    ) -> Result<Seen, CarryError> {
        if world.pairs.is_empty() {
            return Ok(Seen::default());
        }
        let (known, stale) = known.unzip();
        let result = Scene { takes: Vec::new(), ..self.target.clone() };
        let look = Look {
            job: self,
            world,
            shares,
            before,
            after,
            result: &result,
            grids: self.grids(world, after),
        };
        let rate = self.source.rate;
        let first = (rate.frame(before.range.first) * EIGHTHS as f64).ceil() as i64;
        let last = (rate.frame(before.range.last) * EIGHTHS as f64) as i64;
        let leaps = if is_refitted { leaps(before, rate) } else { HashSet::new() };
        // Where nothing was refitted, whole frames are enough to see that nothing went wrong.
        let step = if is_refitted { EIGHTHS / 2 } else { EIGHTHS };
        let is_looked_at = |look: &i64| look % step == 0 || leaps.contains(&look.div_euclid(EIGHTHS));
        let looks: Vec<i64> = (first..=last).filter(is_looked_at).collect();
        // Whole windows at a time, so that each of them is looked at by one.
        let nodes = self.from.rig.len().max(self.onto.rig.len()).max(1);
        let at_once = (AT_HAND / nodes).clamp(16, 512) as f64;
        let windows = windows_in(at_once * 0.5 * rate.ticks_per_frame()).max(1);
        let part = |window: usize| window / windows;
        let part_of = |at: &i64| part(shares.window(look.time(*at)));
        let parts: Vec<&[i64]> = looks.chunk_by(|a, b| part_of(a) == part_of(b)).collect();
        let seen = |looks: &&[i64]| {
            let range = (look.time(looks[0]), look.time(looks[looks.len() - 1]));
            let is_stale = |pair: &usize| {
                stale.as_ref().is_none_or(|stale: &Stale| stale.moves(&world.compared, *pair, range))
            };
            look.at(looks, (0..world.pairs.len()).filter(is_stale).collect(), part_of(&looks[0]))
        };
        // Of several errors the first one in order is told, whichever is found first.
        let parts: Vec<Result<Seen, _>> = parts.par_iter().map(seen).collect();
        let parts: Vec<Seen> = parts.into_iter().collect::<Result<_, _>>()?;
        let mut seen = parts.into_iter().fold(Seen::default(), Seen::with);
        for ((pair, window), excess) in known.into_iter().flat_map(|known| known.excess) {
            if !seen.looked_at.contains(&(pair, part(window))) {
                seen.excess.insert((pair, window), excess);
            }
        }
        Ok(seen)
    }

    /// The samples that turn each pair's node or one above it: between them there is nothing to be held to.
    fn grids<'t>(&self, world: &World, after: &'t Take) -> Vec<Vec<&'t Samples>> {
        let sampled: HashMap<NodeId, &Samples> = (after.tracks())
            .filter(|(_, track)| track.target.property == ROTATION)
            .filter_map(|(_, track)| Some((track.target.node, track.controller.samples()?)))
            .collect();
        let above =
            |node: NodeId| self.onto.upwards(node).filter_map(|id| sampled.get(&id).copied()).collect();
        world.pairs.iter().map(|&(_, _, node)| above(node)).collect()
    }
}

/// Into how many parts frames are divided where that tells more.
const EIGHTHS: i64 = 8;

/// So many rotations of each side are held at once, on each core.
const AT_HAND: usize = 1 << 17;

/// What is compared with what.
struct Look<'a, 'b> {
    job: &'a Job<'b>,
    world: &'a World,
    shares: &'a ToleranceBudget,
    before: &'a Take,
    after: &'a Take,
    /// The target's rigs.
    result: &'a Scene,
    grids: Vec<Vec<&'a Samples>>,
}

impl Look<'_, '_> {
    /// The instant of an eighth of a frame.
    fn time(&self, look: i64) -> f64 {
        look as f64 / EIGHTHS as f64 * self.job.source.rate.ticks_per_frame()
    }

    /// Compares some pairs at some eighths of frames, which are one part of the take.
    fn at(&self, looks: &[i64], pairs: Vec<usize>, part: usize) -> Result<Seen, CarryError> {
        let mut seen = Seen::default();
        if pairs.is_empty() {
            return Ok(seen);
        }
        let times: Vec<f64> = looks.iter().map(|look| self.time(*look)).collect();
        let (from, onto) = (&self.job.from, &self.job.onto);
        let in_source = from.with_all_above(pairs.iter().map(|&pair| self.world.pairs[pair].0));
        let in_target = onto.with_all_above(pairs.iter().map(|&pair| self.world.pairs[pair].1));
        let wanted = Evaluator::of_nodes(self.job.source, Some(self.before), from.index, &in_source)?
            .world_rotations(&times);
        let found = Evaluator::of_nodes(self.result, Some(self.after), onto.index, &in_target)?
            .world_rotations(&times);
        // How a pair turned by an instant: in the source, and in the result.
        let turns = |pair: usize, index: usize| {
            let (a, b, _) = self.world.pairs[pair];
            let wanted = wanted[a * times.len() + index] * from.world[a].conjugate();
            (wanted, found[b * times.len() + index] * onto.world[b].conjugate())
        };
        for pair in pairs {
            seen.looked_at.insert((pair, part));
            // The worst instant of each window in which it is off by too much.
            let mut worst: Vec<(usize, f64, usize)> = Vec::new();
            for (index, (&look, &time)) in looks.iter().zip(&times).enumerate() {
                if self.grids[pair].iter().any(|samples| is_between(samples, time)) {
                    continue;
                }
                let (wanted, found) = turns(pair, index);
                let angle = angle_between(wanted, found);
                seen.take(pair, angle, look as f64 / EIGHTHS as f64);
                if angle <= self.job.tolerance.angle {
                    continue;
                }
                let window = self.shares.window(time);
                match worst.last_mut().filter(|(own, ..)| *own == window) {
                    Some(known) if known.1 < angle => *known = (window, angle, index),
                    Some(_) => {}
                    None => worst.push((window, angle, index)),
                }
            }
            for (window, angle, index) in worst {
                let chain = std::iter::successors(Some(pair), |&pair| self.world.compared[pair].above);
                let off = |pair: usize| {
                    let (wanted, found) = turns(pair, index);
                    to_vector(found * wanted.conjugate())
                };
                let errors = chain.map(off).collect();
                seen.excess.insert((pair, window), Excess { node: pair, window, angle, errors });
            }
        }
        Ok(seen)
    }
}

/// Frames within which a curve goes from one key to the next, and far: half of one tells little of what is between.
fn leaps(take: &Take, rate: FrameRate) -> HashSet<i64> {
    let curves = take.tracks().filter(|(_, track)| track.target.property == ROTATION);
    let pairs =
        curves.flat_map(|(_, track)| track.controller.curves()).flat_map(|curve| curve.keys().windows(2));
    let far = pairs.filter(|pair| {
        let length = (pair[1].time - pair[0].time).as_f64();
        length <= rate.ticks_per_frame() + 1.0 && (pair[1].value - pair[0].value).abs() > LEAP
    });
    far.flat_map(|pair| [pair[0].time, pair[1].time - Ticks(1)].map(|time| rate.frame(time).floor() as i64))
        .collect()
}

/// Whether an instant lies between two samples.
fn is_between(samples: &Samples, time: f64) -> bool {
    let (index, part) = samples.locate(time);
    let near = |index: usize| index < samples.len() && (samples.time(index).as_f64() - time).abs() < 1.0;
    part > 0.0 && !near(index) && !near(index + 1)
}

/// What turns otherwise than when it was measured: links, and from when to when, in ticks.
#[derive(Debug, Default)]
pub(super) struct Stale(HashMap<usize, Vec<(f64, f64)>>);

impl Stale {
    /// Takes note of what a link came to before, and comes to now.
    pub fn note(&mut self, link: usize, before: &[Output], now: &[Output]) {
        let spans = self.0.entry(link).or_default();
        let is_alike = |(a, b): (&Output, &Output)| (a.layer, &a.target) == (b.layer, &b.target);
        if before.len() != now.len() || !before.iter().zip(now).all(is_alike) {
            spans.push(EVER);
            return;
        }
        for (before, now) in before.iter().zip(now) {
            match (&before.made, &now.made) {
                (
                    Some(Made { controller: Controller::Euler(a), .. }),
                    Some(Made { controller: Controller::Euler(b), .. }),
                ) if a.order == b.order => {
                    spans.extend(a.curves.iter().zip(&b.curves).flat_map(|(a, b)| changes(a, b)));
                }
                (None, None) => {}
                _ => spans.push(EVER),
            }
        }
    }

    /// Whether a compared node is moved otherwise at some time of a range, by itself or by what is above it.
    fn moves(&self, compared: &[Compared], node: usize, (first, last): (f64, f64)) -> bool {
        let mut chain = std::iter::successors(Some(node), |&node| compared[node].above);
        chain.any(|node| {
            let links = compared[node].links.iter().filter_map(|link| self.0.get(link));
            links.flatten().any(|&(from, to)| from <= last && first <= to)
        })
    }
}

/// What was seen in a stretch of time.
pub(super) struct Seen {
    error: MeasuredError,
    /// The pair with the largest error.
    worst: Option<usize>,
    /// By pair and window.
    excess: HashMap<(usize, usize), Excess>,
    /// Pairs, and the parts of the take in which they were looked at.
    looked_at: HashSet<(usize, usize)>,
}

impl Default for Seen {
    fn default() -> Seen {
        Seen {
            error: MeasuredError::none(Quantity::Angle),
            worst: None,
            excess: HashMap::new(),
            looked_at: HashSet::new(),
        }
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
        self.excess.extend(later.excess);
        self.looked_at.extend(later.looked_at);
        self
    }

    /// The windows in which pairs are off by too much.
    pub fn excess(&self) -> Vec<Excess> {
        let mut excess: Vec<Excess> = self.excess.values().cloned().collect();
        excess.sort_by_key(|excess| (excess.node, excess.window));
        excess
    }

    /// How far the whole is off, and at which node of the target most.
    pub fn measured(&self, world: &World) -> Measured {
        Measured { error: self.error, worst: self.worst.map(|pair| world.pairs[pair].2) }
    }
}
