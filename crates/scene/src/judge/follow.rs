//! Nodes and numbers of the result that follow some of the source without being the same.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::fit::Offset;
use nimble_curve_curves::rotation::{along_arc, from_vector, to_vector};
use nimble_curve_curves::value::Quantity;

use super::look::look;
use super::means::{Amount, Shift, Turn};
use super::number::Number;
use super::scenes::{Drivers, Scenes, kind_of};
use super::sides::{Sides, components, turn_from, turned};
use super::verdict::{Limits, Part, Verdict};
use crate::address::NodeRef;
use crate::evaluate::{ChannelSampler, EvaluateError, NodeSampler};
use crate::rig::{ROTATION, TRANSLATION};
use crate::scene::{PropertyKind, Scene, Target, Track, TracksByNode};

/// Rotations by angles that are whole turns apart.
const WINDINGS: [f64; 3] = [-1.0, 0.0, 1.0];

impl<'a> Scenes<'a> {
    /// How far a node is from turning as it should.
    pub fn turn(&self, turn: &Turn, limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let answered = turn.of.iter().map(|factor| factor.node).chain([turn.source]);
        if answered.clone().any(|node| self.is_turn_excused(node)) {
            return verdict;
        }
        let chain = self.below(turn.result, turn.beside);
        let sides = (
            turning(self.source, &self.tracks.0, turn.of.iter().map(|factor| factor.node)),
            turning(self.result, &self.tracks.1, chain.iter().copied()),
        );
        let sources: Result<Vec<_>, EvaluateError> =
            turn.of.iter().map(|factor| self.source_node(factor.node)).collect();
        let results: Result<Vec<_>, EvaluateError> =
            chain.iter().map(|node| self.result_node(*node)).collect();
        let (sources, results) = match (sources, results) {
            (Ok(sources), Ok(results)) => (sources, results),
            (Err(error), _) | (_, Err(error)) => {
                verdict.unjudged.push((self.addresses.1.node(turn.result).to_owned(), error.to_string()));
                return verdict;
            }
        };
        let mut turning = Turning { scenes: self, turn, sources, results };
        let seen = look(&mut turning, &self.looks(&sides, limits.angle));
        let property = |drivers: &Drivers<'a>, node: NodeRef| {
            let own = |(_, track): &&(&_, &Track)| (track.target.rig, track.target.node) == node;
            let found = drivers.iter().find(own).map(|(_, track)| track.target.property.clone());
            found.unwrap_or_else(|| ROTATION.to_owned())
        };
        let named = (property(&sides.0, turn.source), property(&sides.1, turn.result));
        let judged = self.judged(turn.source, turn.result, Part::Rotation, named, Quantity::Angle, &seen);
        verdict.judged.push(judged);
        verdict
    }

    /// How far a node is from moving as it should.
    pub fn shift(&self, shift: &Shift, limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let Some(&source) = shift.of.last() else { return verdict };
        if shift.of.iter().any(|node| self.is_excused(*node, TRANSLATION)) {
            return verdict;
        }
        let samplers: Result<Vec<_>, EvaluateError> =
            shift.of.iter().map(|node| self.source_node(*node)).collect();
        let own = self.result_node(shift.result);
        let (sources, result) = match (samplers, own) {
            (Ok(sources), Ok(result)) => (sources, result),
            (Err(error), _) | (_, Err(error)) => {
                verdict.unjudged.push((self.addresses.1.node(shift.result).to_owned(), error.to_string()));
                return verdict;
            }
        };
        let mut theirs: Drivers<'a> = Vec::new();
        for &node in &shift.of {
            // The last one's own turn does not move it, but about a pivot.
            let moves = is_list(self.source, node);
            let matters =
                |(_, track): &&(_, &Track)| node != source || moves || track.target.property == TRANSLATION;
            theirs.extend(self.tracks.0.on(node).iter().filter(matters));
        }
        let moves = is_list(self.result, shift.result);
        let ours: Drivers<'a> = (self.tracks.1.on(shift.result).iter())
            .filter(|(_, track)| moves || track.target.property == TRANSLATION)
            .copied()
            .collect();
        let mut moving = Moving { scenes: self, shift, sources, result };
        let seen = look(&mut moving, &self.looks(&(theirs, ours), limits.length));
        let named = (TRANSLATION.to_owned(), TRANSLATION.to_owned());
        verdict.judged.push(self.judged(source, shift.result, Part::Place, named, Quantity::Length, &seen));
        verdict
    }

    /// How far a number is from what it should be.
    pub fn amount(&self, amount: &Amount, limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let from = (amount.source.rig, amount.source.node);
        if self.is_excused(from, &amount.source.property) {
            return verdict;
        }
        let address = self.addresses.0.property(&amount.source);
        let kinds = (kind_of(self.source, &amount.source), kind_of(self.result, &amount.result));
        let (Some(kind), Some(_)) = kinds else {
            verdict.missing.push(format!("{address} is not in the result"));
            return verdict;
        };
        let of = |tracks: &TracksByNode<'a>, target: &Target| -> Drivers<'a> {
            let on = tracks.on((target.rig, target.node)).iter();
            on.filter(|(_, track)| track.target.property == target.property).copied().collect()
        };
        let sides = (of(&self.tracks.0, &amount.source), of(&self.tracks.1, &amount.result));
        let (source_take, result_take) = self.takes();
        let source = ChannelSampler::of_tracks(self.source, source_take, &amount.source, &sides.0);
        let result = ChannelSampler::of_tracks(self.result, result_take, &amount.result, &sides.1);
        let (source, result) = match (source, result) {
            (Ok(source), Ok(result)) => (source, result),
            (Err(error), _) | (_, Err(error)) => {
                verdict.unjudged.push((address, error.to_string()));
                return verdict;
            }
        };
        if sides.0.is_empty() {
            return verdict;
        }
        let mut number = Number { scenes: self, map: &amount.into, then: Some(amount), kind, source, result };
        let seen = look(&mut number, &self.looks(&sides, limits.of(kind.quantity())));
        let named = (amount.source.property.clone(), amount.result.property.clone());
        let to = (amount.result.rig, amount.result.node);
        let part = match kind {
            PropertyKind::Scale => Part::Size,
            _ => Part::Attribute(amount.source.property.clone()),
        };
        verdict.judged.push(self.judged(from, to, part, named, kind.quantity(), &seen));
        verdict
    }

    /// The nodes of the result from below one of them down to another.
    fn below(&self, node: NodeRef, above: Option<NodeRef>) -> Vec<NodeRef> {
        let Some(rig) = self.result.rigs.get(node.0) else { return Vec::new() };
        let upwards = std::iter::successors(Some(node.1), |id| rig.parent(*id));
        let mut chain: Vec<NodeRef> =
            upwards.map(|id| (node.0, id)).take_while(|own| Some(*own) != above).collect();
        chain.reverse();
        chain
    }

    fn is_turn_excused(&self, node: NodeRef) -> bool {
        let found = self.source.rigs.get(node.0).and_then(|rig| rig.node(node.1));
        let steps = found.into_iter().flat_map(|node| node.transform.iter());
        steps.filter(|op| op.value.turns()).any(|op| self.is_excused(node, &op.name))
    }
}

/// Whether a node's transform is another list of steps than translation, rotation and scale.
fn is_list(scene: &Scene, (rig, node): NodeRef) -> bool {
    let found = scene.rigs.get(rig).and_then(|rig| rig.node(node));
    found.is_some_and(|node| node.canonical().is_none())
}

/// What turns some nodes.
fn turning<'a>(
    scene: &Scene,
    tracks: &TracksByNode<'a>,
    nodes: impl Iterator<Item = NodeRef>,
) -> Drivers<'a> {
    let mut all = Vec::new();
    for node in nodes {
        let found = scene.rigs.get(node.0).and_then(|rig| rig.node(node.1));
        all.extend(tracks.on(node).iter().filter(|(_, track)| {
            let step = found.and_then(|node| node.op(&track.target.property));
            step.is_some_and(|step| step.value.turns())
        }));
    }
    all
}

/// A node that turns as a product of turns.
struct Turning<'a> {
    scenes: &'a Scenes<'a>,
    turn: &'a Turn,
    sources: Vec<NodeSampler<'a>>,
    results: Vec<NodeSampler<'a>>,
}

/// A turn, and how else it may be meant where a part of one is taken that may be more than half round.
type Readings = Vec<DQuat>;

impl Sides for Turning<'_> {
    type Value = Readings;

    fn source(&mut self, time: f64) -> Readings {
        let time = self.scenes.span.clock.source_at(time);
        let mut readings = vec![DQuat::IDENTITY];
        for (factor, sampler) in self.turn.of.iter().zip(&mut self.sources) {
            let turn = factor.before * sampler.rotation_at(time) * factor.after;
            if factor.part == 1.0 || factor.part == -1.0 {
                let turn = if factor.part > 0.0 { turn } else { turn.conjugate() };
                readings.iter_mut().for_each(|reading| *reading *= turn);
                continue;
            }
            // A part of a turn depends on how far round it came, which an instant does not tell.
            let vector = to_vector(turn);
            let about = vector.try_normalize().unwrap_or(DVec3::X);
            let round = |count: f64| (vector + about * (count * std::f64::consts::TAU)) * factor.part;
            let parts = WINDINGS.map(|count| from_vector(round(count)));
            readings = readings
                .into_iter()
                .flat_map(|reading| parts.iter().map(move |part| reading * *part))
                .collect();
        }
        let map = &self.scenes.claim.space;
        readings.into_iter().map(|turn| map.rotation(turn)).collect()
    }

    fn result(&mut self, time: f64) -> Readings {
        let turn = self.results.iter_mut().fold(DQuat::IDENTITY, |turn, node| turn * node.rotation_at(time));
        vec![self.turn.before * turn * self.turn.after]
    }

    fn apart(&self, source: &Readings, result: &Readings) -> f64 {
        let all = source.iter().flat_map(|a| result.iter().map(|b| turned(a.normalize(), b.normalize())));
        all.fold(f64::INFINITY, f64::min)
    }

    fn between(&self, from: &Readings, to: &Readings, part: f64) -> Readings {
        from.iter().zip(to).map(|(a, b)| along_arc(a.normalize(), b.normalize(), part)).collect()
    }

    fn offset(&self, base: &Readings, turn: &Readings) -> Option<Offset> {
        match (base.as_slice(), turn.as_slice()) {
            ([base], [turn]) => turn_from(base.normalize(), turn.normalize()),
            _ => None,
        }
    }

    fn is_one(&self) -> bool {
        true
    }
}

/// A node that moves as another one does.
struct Moving<'a> {
    scenes: &'a Scenes<'a>,
    shift: &'a Shift,
    sources: Vec<NodeSampler<'a>>,
    result: NodeSampler<'a>,
}

impl Sides for Moving<'_> {
    type Value = DVec3;

    fn source(&mut self, time: f64) -> DVec3 {
        let time = self.scenes.span.clock.source_at(time);
        let local = |world: DAffine3, sampler: &mut NodeSampler<'_>| world * sampler.local_at(time).0;
        let world = self.sources.iter_mut().fold(self.shift.above, local);
        self.scenes.claim.space.length(world.translation - self.shift.start) * self.shift.scale
    }

    fn result(&mut self, time: f64) -> DVec3 {
        self.shift.before * (self.result.local_at(time).0.translation - self.shift.reference)
    }

    fn apart(&self, source: &DVec3, result: &DVec3) -> f64 {
        (*source - *result).length()
    }

    fn between(&self, from: &DVec3, to: &DVec3, part: f64) -> DVec3 {
        from.lerp(*to, part)
    }

    fn offset(&self, base: &DVec3, place: &DVec3) -> Option<Offset> {
        Some(components(*place - *base))
    }
}
