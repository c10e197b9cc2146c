//! What a carried take should be: made of the map, the reference poses and the ledger's list of what was left out, on the
//! source as it came in, and not of anything that carrying makes on its way.

use std::collections::HashSet;

use glam::{DAffine3, DQuat};
use nimble_curve_curves::value::{NumberRange, Quantity};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::judge::{Amount, Claim, Clock, Factor, Shift, Span, Standing, Turn};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{PropertyKind, Scene, Target, Track};
use nimble_curve_scene::space::AxisMap;

use super::links::NodePairing;
use super::map::PairSpace;
use super::side::Side;
use super::{CarryOptions, Job};
use crate::vectors::signed_axes;

impl Job<'_> {
    /// The claim of all takes on this pair of rigs, what was left out not yet excused; takes of the result begin at `own`. The turns of `free` nodes were to change.
    pub(super) fn claim(
        &self,
        source: &Scene,
        (mirror, own): (Option<usize>, usize),
        options: &CarryOptions,
        (ledger, free): (&Ledger, &HashSet<NodeId>),
    ) -> Result<Claim, EvaluateError> {
        let mut space = AxisMap::between(&source.space, &self.target.space);
        if let Some(axis) = mirror {
            let mut reflection = AxisMap::IDENTITY;
            reflection.sign[axis] = -1.0;
            space = space.then(&reflection);
        }
        // The source as it came in: its poses in its own axes and units.
        let pose = options.source_pose.as_ref();
        let from = Side::of(source, self.from.index, pose.map(|pose| (&pose.take, pose.time)))?;
        let span = |(index, take): (usize, &nimble_curve_scene::scene::Take)| Span {
            source: index,
            result: own + index,
            range: take.range,
            clock: Clock::SAME,
        };
        let spans = source.takes.iter().enumerate().map(span).collect();
        let given_up = self.given_up(ledger);
        let (same, other): (Vec<&NodePairing>, Vec<&NodePairing>) =
            self.links.all.iter().partition(|link| self.is_untouched(link));
        let turns_of = |link: &&&NodePairing| {
            let goes = !given_up.contains(&link.target) && !self.stands_on(link.target, free);
            goes && self.is_chosen(link)
        };
        Ok(Claim {
            spans,
            nodes: same
                .iter()
                .map(|link| (from.node(link.place.node), self.onto.node(link.target)))
                .collect(),
            turns: other.iter().filter(turns_of).map(|link| self.turn(&from, link)).collect(),
            shifts: other.iter().filter_map(|link| self.shift(&from, link)).collect(),
            amounts: self.amounts(&space),
            world: Some(self.standing(&from, &given_up, free)),
            space,
            ..Claim::nothing()
        })
    }

    /// Nodes of the target whose turn is lost in some take, as the ledger says.
    fn given_up(&self, ledger: &Ledger) -> HashSet<NodeId> {
        let lost: HashSet<NodeId> = (ledger.entries.iter())
            .filter(|entry| entry.fate.is_gone())
            .filter_map(|entry| entry.target.as_ref())
            .filter(|target| target.rig == self.from.index)
            .filter(|target| {
                let node = self.from.rig.node(target.node);
                node.and_then(|node| node.op(&target.property)).is_some_and(|op| op.value.turns())
            })
            .map(|target| target.node)
            .collect();
        let is_locked = |id: NodeId| {
            let node = self.onto.rig.node(id);
            node.is_some_and(|node| {
                (0..3).any(|axis| node.is_locked(ROTATION, Some(axis))) || node.is_locked(ROTATION, None)
            })
        };
        (self.links.all.iter())
            .filter(|link| {
                is_locked(link.target) || self.factors(link).iter().any(|(node, _)| lost.contains(node))
            })
            .map(|link| link.target)
            .collect()
    }

    /// Whether the turn of a pair is to come over: what rests elsewhere than in the reference pose has no track that is not selected.
    fn is_chosen(&self, link: &NodePairing) -> bool {
        let (node, target) = (link.place.node, link.target);
        self.chosen.takes(&[
            self.source_addresses.property(&self.from.target(node, ROTATION)),
            self.target_addresses.property(&self.onto.target(target, ROTATION)),
            self.source_addresses.node(self.from.node(node)).to_owned(),
            self.target_addresses.node(self.onto.node(target)).to_owned(),
        ])
    }

    /// Whether a node, or what it is compared beside, is one of some.
    fn stands_on(&self, target: NodeId, nodes: &HashSet<NodeId>) -> bool {
        let above = self.links.above(self.onto.rig, target);
        nodes.contains(&target) || above.is_some_and(|above| nodes.contains(&above.target))
    }

    /// The nodes of the source whose turns a linked node follows, and which part of each.
    fn factors(&self, link: &NodePairing) -> Vec<(NodeId, f64)> {
        let above = self.links.above(self.onto.rig, link.target);
        let factors = match link.space {
            PairSpace::World => self.links.factors(self.from.rig, above.map(|link| link.place), link.place),
            PairSpace::Parent => return vec![(link.place.node, link.place.part)],
        };
        let counts = |node: &NodeId| !self.links.left_out.contains(node);
        factors
            .into_iter()
            .map(|factor| (factor.node, factor.part))
            .filter(|(node, _)| counts(node))
            .collect()
    }

    fn turn(&self, from: &Side<'_>, link: &NodePairing) -> Turn {
        let local = |side: &Side<'_>, id: NodeId| side.locals[side.position(id)];
        let target = link.target;
        let factors = self.factors(link).into_iter();
        let (beside, before, after, of) = match link.space {
            PairSpace::World => {
                let above = self.links.above(self.onto.rig, target).map(|above| above.target);
                let factor = |(id, part): (NodeId, f64)| Factor {
                    node: from.node(id),
                    part,
                    before: from.parent_world(id),
                    after: from.world_of(id).conjugate(),
                };
                let before = above.map_or(DQuat::IDENTITY, |above| self.onto.world_of(above));
                (above, before, self.onto.world_of(target).conjugate(), factors.map(factor).collect())
            }
            PairSpace::Parent => {
                let factor = |(id, part): (NodeId, f64)| Factor {
                    node: from.node(id),
                    part,
                    before: DQuat::IDENTITY,
                    after: local(from, id).conjugate(),
                };
                let after = local(&self.onto, target).conjugate();
                (self.onto.rig.parent(target), DQuat::IDENTITY, after, factors.map(factor).collect())
            }
        };
        let beside: Option<NodeRef> = beside.map(|id| self.onto.node(id));
        let (result, source) = (self.onto.node(target), from.node(link.place.node));
        Turn { result, beside, before, after, of, source }
    }

    /// Where a linked node goes, where it is moved at all.
    fn shift(&self, from: &Side<'_>, link: &NodePairing) -> Option<Shift> {
        let node = link.translation?;
        let is_locked = |axis: Option<usize>| {
            self.onto.rig.node(link.target).is_some_and(|node| node.is_locked(TRANSLATION, axis))
        };
        // What is locked stays at rest, and the ledger says so.
        if is_locked(None) || (0..3).any(|axis| is_locked(Some(axis))) {
            return None;
        }
        let between = self.between(link, node);
        let moves = |id: &NodeId| {
            let mut tracks = self.source.takes.iter().flat_map(|take| take.tracks());
            tracks.any(|(_, track)| {
                (track.target.rig, track.target.node) == self.from.node(*id)
                    && track.target.property == TRANSLATION
            })
        };
        let turns = |id: &NodeId| {
            let mut tracks = self.source.takes.iter().flat_map(|take| take.tracks());
            tracks.any(|(_, track)| (track.target.rig, track.target.node) == self.from.node(*id))
        };
        // About a pivot a node moves as it turns.
        let is_list = self.from.view(node).is_none();
        let is_turned = self.same_rigs && between.iter().any(turns) || is_list && turns(&node);
        if !is_turned && !between.iter().chain([&node]).any(moves) {
            return None;
        }
        self.way_of(from, link)
    }

    /// How a linked node moves where nothing else is said, in terms of the source.
    pub(super) fn way_of(&self, from: &Side<'_>, link: &NodePairing) -> Option<Shift> {
        let node = link.translation?;
        let between = self.between(link, node);
        let top = between.first().copied().unwrap_or(node);
        let parent = from.rig.parent(top);
        Some(Shift {
            result: self.onto.node(link.target),
            before: self.onto_frame(link),
            reference: self.onto.translations[self.onto.position(link.target)],
            of: between.iter().copied().chain([node]).map(|id| from.node(id)).collect(),
            above: parent.map_or(DAffine3::IDENTITY, |id| from.places[from.position(id)]),
            start: from.places[from.position(node)].translation,
            scale: self.scale,
        })
    }

    /// Numbers, choices and sizes, whatever became of them: what was left out is excused by the ledger.
    fn amounts(&self, space: &AxisMap) -> Vec<Amount> {
        let mut found: Vec<Amount> = Vec::new();
        let mut seen: HashSet<&Target> = HashSet::new();
        for (_, track) in self.source.takes.iter().flat_map(|take| take.tracks()) {
            let own = &track.target;
            if own.rig != self.from.index
                || matches!(own.property.as_str(), ROTATION | TRANSLATION)
                || !seen.insert(own)
            {
                continue;
            }
            // What is the same altogether is claimed so.
            if self.links.of_source(own.node).is_some_and(|link| self.is_untouched(link)) {
                continue;
            }
            found.extend(self.amount(space, track));
        }
        found
    }

    fn amount(&self, space: &AxisMap, track: &Track) -> Option<Amount> {
        let own = &track.target;
        let node = self.from.rig.node(own.node)?;
        let kind = self.from.rig.property_kind(own.node, &own.property)?;
        let plain = |result: Target, into: AxisMap, range: NumberRange| Amount {
            source: own.clone(),
            result,
            into,
            range,
            out: AxisMap::IDENTITY,
        };
        if node.attribute(&own.property).is_none() {
            let link = self.links.of_source(own.node)?;
            let result = self.onto.target(link.target, &own.property);
            if self.onto.rig.property_kind(link.target, &own.property) != Some(kind) {
                return None;
            }
            let turn = self.onto.world_of(link.target).conjugate() * self.from.world_of(own.node);
            let (axes, _) = signed_axes(&glam::DMat3::from_quat(turn))?;
            let onto_axes = AxisMap { source: axes, sign: [1.0; 3], scale: 1.0 };
            return Some(plain(result, space.then(&onto_axes), NumberRange::SAME));
        }
        let (result, range) = self.attribute_target(track)?;
        let partner = self.onto.rig.property_kind(result.node, &result.property)?;
        let (into, range) = match (partner, range) {
            (PropertyKind::Number(Quantity::Length), NumberRange::Linear { gain, offset }) => {
                (*space, NumberRange::Linear { gain: gain * self.scale, offset })
            }
            (PropertyKind::Vector(Quantity::Length), range) => {
                (AxisMap { scale: space.scale * self.scale, ..*space }, range)
            }
            (_, range) => (*space, range),
        };
        Some(plain(result, into, range))
    }

    /// Nodes whose turn in the world is promised.
    fn standing(&self, from: &Side<'_>, given_up: &HashSet<NodeId>, free: &HashSet<NodeId>) -> Vec<Standing> {
        let counts = |link: &&NodePairing| {
            let let_go = |id: NodeId| given_up.contains(&id);
            let by_parent =
                |id: NodeId| self.links.of_target(id).is_some_and(|link| link.space == PairSpace::Parent);
            let mut upwards = self.onto.upwards(link.target);
            let is_left = |id: NodeId| self.links.left_out.contains(&id);
            self.chosen.is_everything()
                && link.place.part == 1.0
                && !free.contains(&link.target)
                && !upwards.any(|id| let_go(id) || by_parent(id))
                && !self.from.upwards(link.place.node).any(is_left)
        };
        let standing = |link: &NodePairing| Standing {
            source: from.node(link.place.node),
            result: self.onto.node(link.target),
            references: Some((from.world_of(link.place.node), self.onto.world_of(link.target))),
            place: self.same_rigs,
            at: None,
            slack: [0.0; 2],
        };
        self.links.all.iter().filter(counts).map(standing).collect()
    }
}
