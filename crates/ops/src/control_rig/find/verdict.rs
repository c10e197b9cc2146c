//! What is thought of a guess: how far it is off, and what else it may be.

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{Constraint, ConstraintKind};
use nimble_curve_scene::evaluate::EvaluateError;

use super::limb::Rival;
use super::measured::{alone, off};
use super::open::{Guess, Search};
use super::{Finding, Limits};

/// How many times as far as it is off a node has to move for something to be found in that that is not sure.
const TOLD: f64 = 100.0;

/// The node that a finding points, and at which other one.
pub fn aimed(found: &Finding) -> Option<(NodeRef, NodeRef)> {
    match &found.constraint.kind {
        ConstraintKind::Aim(aim) => Some((found.constraint.node, aim.at)),
        _ => None,
    }
}

impl Search<'_> {
    /// A guess as a constraint, put to the solver.
    pub fn measured(&self, guess: Guess, sure: &Limits) -> Result<Finding, EvaluateError> {
        let node = self.recording.nodes[guess.node].node;
        let (name, kind, weight) = (self.name(guess.node), guess.kind, guess.weight);
        let constraint = Constraint { name, node, weight, kind };
        let mut scene = alone(self.scene, &constraint)?;
        let (switch, stretches) =
            guess.switch.map_or((None, Vec::new()), |(switch, stretches)| (Some(switch), stretches));
        if let Some(switch) = &switch {
            switch.add_to(&mut scene, &stretches)?;
        }
        let residual = off(&scene, &self.recording, guess.on.as_deref())?;
        let words = |rival: Rival| match rival {
            Rival::Node(node) => self.name(node),
            Rival::Kind(kind) => kind.to_owned(),
        };
        let rivals: Vec<String> = guess.rivals.into_iter().map(words).collect();
        let is_sure = rivals.is_empty() && sure.hold(&residual);
        Ok(Finding { constraint, residual, is_sure, rivals, stretches, switch })
    }

    /// Whether a node moves by much more than what was found is off.
    pub fn is_told(&self, found: &Finding, sure: &Limits) -> bool {
        if sure.hold(&found.residual) {
            return true;
        }
        let own = self.recording.nodes.iter().find(|own| own.node == found.constraint.node);
        own.is_some_and(|own| {
            let first = &own.instants[0];
            let turned = own.instants.iter().map(|now| angle_between(now.rotation, first.rotation));
            let moved = own.instants.iter().map(|now| (now.translation - first.translation).length());
            let [turned, moved] = [turned.fold(0.0, f64::max), moved.fold(0.0, f64::max)];
            found.residual.angle * TOLD <= turned || found.residual.place * TOLD <= moved && moved > 0.0
        })
    }

    /// A joint that goes with something may be the end of a limb that was not found: where it hangs on what nothing explains, or on
    /// what points at the same. What points with two bones in a line may be a limb that never bends.
    pub fn doubt(&self, found: &mut Finding, aims: &[(NodeRef, NodeRef)]) {
        let place = |node: NodeRef| self.recording.nodes.iter().position(|own| own.node == node);
        let Some(node) = place(found.constraint.node) else { return };
        let rival = match &found.constraint.kind {
            ConstraintKind::Follow(follow) if !self.recording.is_for_animators(node) => {
                let mut above = self.recording.up(node).skip(1);
                let aims = |index: usize| {
                    let of = self.recording.nodes[index].node;
                    aims.iter()
                        .any(|(own, at)| *own == of && follow.sources.iter().any(|own| own.node == *at))
                };
                let is_end = !self.recording.nodes[node].moves.translation;
                let is_switched = follow.sources.len() > 1;
                let is_open = self.is_chain_open(node, is_switched);
                (is_end && (is_open || above.any(aims))).then_some("the end of a limb")
            }
            ConstraintKind::Aim(aim) => {
                let at = place(aim.at);
                at.is_some_and(|at| self.points_as_a_limb(node, at)).then_some("a limb that never bends")
            }
            _ => None,
        };
        if let Some(rival) = rival {
            found.rivals.push(rival.to_owned());
            found.is_sure = false;
        }
    }

    /// Whether the two joints above a node may be a limb that was not found: nothing explains how they turn, or the lower one never
    /// does, as in a limb that is straight throughout. What is switched may be the end of one whose joints are explained.
    fn is_chain_open(&self, node: usize, is_switched: bool) -> bool {
        let above: Vec<usize> = self.recording.up(node).skip(1).collect();
        let moves = |index: &usize| self.recording.nodes[above[*index]].moves.any();
        let mut moving = (0..above.len()).filter(moves);
        let (Some(lower), upper) = (moving.next(), moving.next()) else { return false };
        let is_upper_open = upper.is_some_and(|upper| self.is_open(above[upper]));
        is_switched && upper.is_some() || self.is_open(above[lower]) && (is_upper_open || lower > 0)
    }

    /// Whether the joints below the child of a node lie on its line to another one.
    fn points_as_a_limb(&self, node: usize, at: usize) -> bool {
        let own = &self.recording.nodes[node].instants[0];
        let way = self.recording.nodes[at].instants[0].place - own.place;
        (0..self.recording.nodes.len()).any(|end| {
            let is_below = self.recording.up(end).skip(2).any(|index| index == node);
            let bone = self.recording.nodes[end].instants[0].place - own.place;
            is_below
                && !self.recording.is_for_animators(end)
                && bone.dot(way) > 0.0
                && bone.cross(way).length() <= 1e-3 * bone.length() * way.length()
        })
    }

    /// What is not it after all leaves its nodes open.
    pub fn forget(&mut self, found: &Finding, known: &[Finding]) {
        for node in found.constraint.driven() {
            if known.iter().any(|own| own.constraint.drives(node)) {
                continue;
            }
            if let Some(index) = self.recording.nodes.iter().position(|own| own.node == node) {
                self.explained[index] = [false; 3];
            }
        }
    }
}
