//! The search for limbs: those that hold on all frames, and those that their joints' own controls take over from.

use nimble_curve_scene::constraint::{Constraint, ConstraintKind, EndTurn, Setting};
use nimble_curve_scene::evaluate::EvaluateError;

use super::Limits;
use super::bones::{self, Joints};
use super::follow::{self, Followed};
use super::limb::{self, Rival};
use super::measured::{alone, off};
use super::open::{Guess, Search};
use super::ranges::covered;
use super::switches::{OFF, ON, Switch};

/// One frame of so many has to be explained by a limb at least for it to be one that is switched.
const SHARE: usize = 30;

impl Search<'_> {
    pub fn limbs(&mut self, limits: &Limits) -> Result<(), EvaluateError> {
        let count = self.recording.frames.len();
        let mut found: Vec<limb::Found> = Vec::new();
        for joints in bones::joints(&self.recording) {
            let known: Vec<Followed> = [joints.upper, joints.lower]
                .iter()
                .flat_map(|node| self.follows.get(node).into_iter().flatten().cloned())
                .collect();
            found.extend(limb::found(&self.recording, joints, &known, limits));
        }
        // One limb a joint: that which holds longest, and turns its end.
        found.sort_by_key(|own| {
            (std::cmp::Reverse(own.count()), own.goal.end_turn != EndTurn::Goal, own.joints.end)
        });
        for own in found {
            let Joints { upper, lower, end } = own.joints;
            if [upper, lower].iter().any(|joint| self.limbs.contains(joint)) {
                continue;
            }
            let is_known = [upper, lower].iter().all(|joint| !self.is_open(*joint));
            if own.on.iter().all(|on| *on) {
                if !self.holds(&own, limits)? {
                    continue;
                }
                self.limbs.extend([upper, lower]);
                if is_known {
                    // Both the chain and the goal explain it: neither is sure.
                    self.doubted(&[upper, lower]);
                }
                let rivals = own.rivals.iter().copied();
                let doubt = is_known.then_some(Rival::Kind("the controls of its joints"));
                let rivals = rivals.chain(doubt).collect();
                for joint in [upper, lower] {
                    self.explained[joint][1] = true;
                }
                if own.goal.end_turn == EndTurn::Goal {
                    self.ends_with(end, own.goal.followed.source);
                }
                let kind = ConstraintKind::Limb(Box::new(own.limb(&self.recording)));
                self.guess(upper, kind, rivals);
            } else if !is_known && own.count() * SHARE >= count && self.switched_limb(&own, limits) {
                self.limbs.extend([upper, lower]);
            }
        }
        Ok(())
    }

    /// Whether a limb comes to what the file shows on all frames.
    fn holds(&self, own: &limb::Found, limits: &Limits) -> Result<bool, EvaluateError> {
        let kind = ConstraintKind::Limb(Box::new(own.limb(&self.recording)));
        let node = self.recording.nodes[own.joints.upper].node;
        let constraint = Constraint { name: String::new(), node, weight: Setting::Constant(1.0), kind };
        let residual = off(&alone(self.scene, &constraint)?, &self.recording, None)?;
        Ok(limits.loose().hold(&residual))
    }

    /// The end of a limb turns with its goal: that it follows it says the same once more.
    fn ends_with(&mut self, end: usize, goal: usize) {
        self.explained[end][1] = true;
        let goal = self.recording.nodes[goal].node;
        self.guesses.retain(|own| {
            let follows =
                matches!(&own.kind, ConstraintKind::Follow(follow) if follow.sources[0].node == goal);
            own.node != end || !follows
        });
    }

    fn doubted(&mut self, nodes: &[usize]) {
        for guess in self.guesses.iter_mut().filter(|own| nodes.contains(&own.node)) {
            guess.rivals.push(Rival::Kind("a limb with a goal"));
        }
    }

    /// A limb that holds for some frames, where its joints go with controls of their own on the others.
    fn switched_limb(&mut self, own: &limb::Found, limits: &Limits) -> bool {
        let Joints { upper, lower, end } = own.joints;
        let on = own.on.clone();
        let mut chain = Vec::new();
        let mut rest = vec![true; on.len()];
        let with_goal = own.goal.end_turn == EndTurn::Goal;
        for joint in [upper, lower, end] {
            let moves = self.recording.nodes[joint].moves.rotation;
            if !moves || (joint == end && !with_goal) {
                continue;
            }
            let parts = [false, true, false];
            let sources = follow::candidates(&self.recording, joint);
            let mut found: Vec<Followed> = sources
                .into_iter()
                .filter(|source| !self.recording.hangs_on(*source, own.goal.followed.source))
                .filter_map(|source| follow::on_frames(&self.recording, (source, joint), parts, limits))
                .filter(|found| found.on.iter().zip(&own.on).all(|(chain, limb)| *chain || *limb))
                .collect();
            found.sort_by_key(|own| own.offset.is_some());
            let Some((chosen, rivals)) = follow::chosen(&self.recording, joint, found) else { return false };
            rest.iter_mut().zip(&chosen.on).for_each(|(rest, on)| *rest &= on);
            chain.push((joint, chosen, rivals));
        }
        let Some(holds) = covered(&[on, rest]) else { return false };
        let stretches = self.stretches(&holds, |index| if index == 0 { ON } else { OFF }.to_owned());
        for (joint, chosen, rivals) in chain {
            let source = chosen.source(&self.recording, Setting::Constant(1.0));
            let kind = ConstraintKind::Follow(Followed::follow([false, true, false], vec![source]));
            let rivals = rivals.into_iter().map(Rival::Node).collect();
            let weight = Setting::Constant(1.0);
            // It counts where the limb does not.
            let on = Some(holds.iter().map(|option| *option == 1).collect());
            self.guesses.push(Guess { kind, node: joint, weight, rivals, switch: None, on });
            self.explained[joint][1] = true;
        }
        let switch = Switch::of_limb(self.scene, &self.recording, own.goal.followed.source);
        self.guesses.push(Guess {
            kind: ConstraintKind::Limb(Box::new(own.limb(&self.recording))),
            node: upper,
            weight: Setting::Attribute(switch.target().clone()),
            rivals: own.rivals.clone(),
            switch: Some((switch, stretches)),
            on: None,
        });
        true
    }
}
