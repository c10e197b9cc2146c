//! Nodes that others hold: where they are beside the holder while they are held, and where they go from there.

use glam::{DAffine3, DVec3};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Quantity;

use super::look::{Mode, look};
use super::means::Hold;
use super::scenes::{Drivers, Scenes};
use super::sides::Sides;
use super::verdict::{Limits, Part, Verdict};
use crate::address::NodeRef;
use crate::evaluate::{EvaluateError, Pose, Poses};
use crate::rig::TRANSLATION;
use crate::scene::{Scene, TracksByNode};

impl<'a> Scenes<'a> {
    /// How far a node is from where it is held, or was put down.
    pub fn hold(&self, hold: &Hold, limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let (source, result) = (hold.source.0, hold.result.0);
        if self.is_excused(source, TRANSLATION) {
            return verdict;
        }
        let mut holding = match Holding::new(self, hold) {
            Ok(Some(holding)) => holding,
            Ok(None) => return verdict,
            Err(error) => {
                verdict.unjudged.push((self.addresses.1.node(result).to_owned(), error.to_string()));
                return verdict;
            }
        };
        let theirs = moving(self.source, &self.tracks.0, [hold.source.0, hold.source.1]);
        let ours = moving(self.result, &self.tracks.1, [hold.result.0, hold.result.1]);
        let mut looks = self.looks(&(theirs, ours), limits.length);
        let instants = &mut looks.knots;
        // Where it is picked up and put down its way has corners.
        let range = (self.span.range.first.as_f64(), self.span.range.last.as_f64());
        let edges = hold.times.iter().flat_map(|time| [time.first, time.last]);
        let edges = edges.map(|edge| self.when(edge.as_f64())).map(|at| at.clamp(range.0, range.1));
        instants.extend(edges.map(|at| (at, at)));
        instants.sort_by(|a, b| a.0.total_cmp(&b.0));
        instants.dedup_by(|b, a| b.0 <= a.1);
        holding.is_sampled = matches!(looks.mode, Mode::SampledSource | Mode::Frames);
        let seen = look(&mut holding, &looks);
        let named = (TRANSLATION.to_owned(), TRANSLATION.to_owned());
        verdict.judged.push(self.judged(source, result, Part::Place, named, Quantity::Length, &seen));
        verdict
    }
}

impl Scenes<'_> {
    /// When the result shows an instant of the source; at once where it shows a single one.
    fn when(&self, time: f64) -> f64 {
        match self.span.clock.speed == 0.0 {
            true => self.span.range.first.as_f64(),
            false => self.span.clock.result_at(time),
        }
    }
}

/// What moves some nodes, or any that they hang on.
fn moving<'a>(scene: &Scene, tracks: &TracksByNode<'a>, nodes: [NodeRef; 2]) -> Drivers<'a> {
    let mut all = Vec::new();
    for (rig, node) in nodes {
        let Some(of) = scene.rigs.get(rig) else { continue };
        let upwards = std::iter::successors(Some(node), |id| of.parent(*id));
        all.extend(upwards.flat_map(|id| tracks.on((rig, id))));
    }
    all
}

/// Where a node and its holder are in poses of their rigs.
struct Places {
    node: (usize, usize),
    holder: (usize, usize),
    parent: Option<usize>,
}

impl Places {
    fn of(scene: &Scene, (node, holder): (NodeRef, NodeRef)) -> Option<Places> {
        let at = |(rig, id): NodeRef| Some((rig, scene.rigs.get(rig)?.position(id)?));
        let parent = scene.rigs.get(node.0)?.parent(node.1);
        let parent = parent.and_then(|id| scene.rigs[node.0].position(id));
        Some(Places { node: at(node)?, holder: at(holder)?, parent })
    }

    fn world(&self, poses: &[Pose]) -> DVec3 {
        poses[self.node.0].world[self.node.1].translation
    }
}

struct Holding<'a> {
    scenes: &'a Scenes<'a>,
    hold: &'a Hold,
    /// Positions of the nodes of the source whose local transforms make its way, from the top down.
    way: Vec<usize>,
    places: (Places, Places),
    source: Poses<'a>,
    result: Poses<'a>,
    /// Whether nobody knows where it is between two frames of the source.
    is_sampled: bool,
    /// How far from its own way it is where it is picked up and put down, for each time that it is held.
    edges: Vec<(DVec3, DVec3)>,
}

impl<'a> Holding<'a> {
    /// `None` where a node is not in its scene.
    fn new(scenes: &'a Scenes<'a>, hold: &'a Hold) -> Result<Option<Holding<'a>>, EvaluateError> {
        let places = (Places::of(scenes.source, hold.source), Places::of(scenes.result, hold.result));
        let (Some(from), Some(onto)) = places else { return Ok(None) };
        let (source_take, result_take) = scenes.takes();
        let way = hold.base.of.iter().filter_map(|(rig, id)| scenes.source.rigs[*rig].position(*id));
        let mut holding = Holding {
            scenes,
            hold,
            way: way.collect(),
            places: (from, onto),
            source: Poses::new(scenes.source, source_take)?,
            result: Poses::new(scenes.result, result_take)?,
            is_sampled: false,
            edges: Vec::new(),
        };
        let apart = |holding: &mut Holding<'_>, time: f64| {
            let at = scenes.when(time);
            holding.pose(at);
            holding.gripped(holding.beside()) - holding.left()
        };
        for time in &hold.times {
            let pair = (apart(&mut holding, time.first.as_f64()), apart(&mut holding, time.last.as_f64()));
            holding.edges.push(pair);
        }
        Ok(Some(holding))
    }

    fn pose(&mut self, time: f64) {
        self.source.at(self.scenes.span.clock.source_at(time));
        self.result.at(time);
    }

    /// Where it is in the source, in the axes of its holder.
    fn beside(&self) -> DVec3 {
        let from = &self.places.0;
        let holder = &self.source.poses[from.holder.0];
        let apart = from.world(&self.source.poses) - holder.world[from.holder.1].translation;
        holder.world_rotation[from.holder.1].conjugate() * apart
    }

    /// The same between two frames of a sampled source, both sides posed at the time after it: what is known of a prop that is held is
    /// that it stays in the hand.
    fn beside_at(&mut self, time: f64) -> DVec3 {
        let (clock, rate) = (self.scenes.span.clock, self.scenes.source.rate);
        let frame = rate.frame(Ticks(clock.source_at(time).round() as i64));
        if !self.is_sampled || (frame - frame.round()).abs() < 1e-6 {
            self.pose(time);
            return self.beside();
        }
        let [before, after] = [frame.floor(), frame.ceil()].map(|frame| {
            self.source.at(rate.ticks(frame as i64).as_f64());
            self.beside()
        });
        self.pose(time);
        before.lerp(after, frame - frame.floor())
    }

    /// Where it is in the holder's hand, for where it is beside that in the source.
    fn gripped(&self, beside: DVec3) -> DVec3 {
        let map = &self.scenes.claim.space;
        let (from, onto) = (&self.places.0, &self.places.1);
        let holder = &self.source.poses[from.holder.0];
        let apart = map.length(holder.world_rotation[from.holder.1] * beside);
        let turned = map.rotation(holder.world_rotation[from.holder.1] * self.hold.references.0.conjugate());
        let holder = &self.result.poses[onto.holder.0];
        let own = holder.world_rotation[onto.holder.1] * self.hold.references.1.conjugate();
        holder.world[onto.holder.1].translation + self.hold.scale * ((own * turned.conjugate()) * apart)
    }

    /// Where it would be if nothing held it.
    fn left(&self) -> DVec3 {
        let (base, map) = (&self.hold.base, &self.scenes.claim.space);
        let pose = &self.source.poses[self.places.0.node.0];
        let world = self.way.iter().fold(base.above, |above, at| above * pose.local[*at]);
        let way = map.length(world.translation - base.start) * base.scale;
        let pose = &self.result.poses[self.places.1.node.0];
        let parent = self.places.1.parent.map_or(DAffine3::IDENTITY, |at| pose.world[at]);
        parent.transform_point3(base.reference + base.before.inverse() * way)
    }

    /// How far from its own way it is while nothing holds it: as where it was put down, or will be picked up.
    fn offset(&self, time: f64) -> DVec3 {
        let times = &self.hold.times;
        let next = times.partition_point(|held| held.first.as_f64() <= time);
        let before = next.checked_sub(1).map(|at| (times[at].last.as_f64(), self.edges[at].1));
        let after = times.get(next).map(|held| (held.first.as_f64(), self.edges[next].0));
        match (before, after) {
            (Some((from, put)), Some((to, picked))) => {
                put.lerp(picked, ((time - from) / (to - from)).clamp(0.0, 1.0))
            }
            (Some((_, offset)), None) | (None, Some((_, offset))) => offset,
            (None, None) => DVec3::ZERO,
        }
    }
}

impl Sides for Holding<'_> {
    type Value = DVec3;

    fn source(&mut self, time: f64) -> DVec3 {
        let own = self.scenes.span.clock.source_at(time);
        let is_held = |held: &TimeRange| (held.first.as_f64()..=held.last.as_f64()).contains(&own);
        if self.hold.times.iter().any(is_held) {
            let beside = self.beside_at(time);
            return self.gripped(beside);
        }
        self.pose(time);
        self.left() + self.offset(own)
    }

    fn result(&mut self, time: f64) -> DVec3 {
        self.result.at(time);
        self.places.1.world(&self.result.poses)
    }

    fn apart(&self, source: &DVec3, result: &DVec3) -> f64 {
        (*source - *result).length()
    }

    fn between(&self, from: &DVec3, to: &DVec3, part: f64) -> DVec3 {
        from.lerp(*to, part)
    }
}
