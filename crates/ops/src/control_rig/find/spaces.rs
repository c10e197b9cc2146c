//! The search for what goes with one thing on some frames and with another on others.

use std::collections::BTreeSet;

use glam::DVec3;
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::constraint::{ConstraintKind, Setting};

use super::Limits;
use super::follow::{self, Followed};
use super::limb::Rival;
use super::open::{Guess, Search};
use super::ranges::{covered, stretches};
use super::recorded::Instant;
use super::steady::count;
use super::switches::Switch;

/// One frame of so many has to be explained by a source at least for it to be one of several.
const SHARE: usize = 30;

impl Search<'_> {
    /// A node that goes with one thing on some frames and with another on others.
    pub fn switched(&mut self, node: usize, limits: &Limits) {
        let open = self.open(node);
        if !open.contains(&true) {
            return;
        }
        let found = self.sources(node, open, limits);
        // By itself, as it rests, before all others.
        let own = std::iter::once(self.rests(node, limits));
        let options: Vec<Vec<bool>> = own.chain(found.iter().map(|own| own.on.clone())).collect();
        let Some(holds) = covered(&options) else { return };
        let used: BTreeSet<usize> = holds.iter().copied().collect();
        let sources: Vec<usize> = used.iter().filter_map(|option| option.checked_sub(1)).collect();
        if sources.is_empty() || used.len() < 2 {
            return;
        }
        let name = |option: usize| {
            option.checked_sub(1).map_or_else(|| "own".to_owned(), |index| self.name(found[index].source))
        };
        // The menu is in the order in which its options come.
        let mut menu: Vec<String> = Vec::new();
        for (_, option) in stretches(&holds) {
            let name = name(option);
            if !menu.contains(&name) {
                menu.push(name);
            }
        }
        let switch = Switch::menu(self.scene, &self.recording, node, found[sources[0]].source, menu);
        let source = |index: &usize| {
            let weight = Setting::Is(switch.target().clone(), name(index + 1));
            found[*index].source(&self.recording, weight)
        };
        let kind = ConstraintKind::Follow(Followed::follow(open, sources.iter().map(source).collect()));
        // Others that hold wherever one of these is what holds.
        let stands_in = |other: usize, own: usize| {
            let is_likely = !found[own].is_at || found[other].is_at;
            is_likely && (0..holds.len()).all(|frame| holds[frame] != own + 1 || found[other].on[frame])
        };
        let rivals = (0..found.len())
            .filter(|other| !sources.contains(other) && sources.iter().any(|own| stands_in(*other, *own)))
            .map(|other| Rival::Node(found[other].source))
            .collect();
        let switch = Some((switch, self.stretches(&holds, name)));
        self.explained[node] = [true; 3];
        self.guesses.push(Guess { kind, node, weight: Setting::Constant(1.0), rivals, switch, on: None });
    }

    /// What a node goes with on some frames, likely ones first.
    fn sources(&self, node: usize, parts: [bool; 3], limits: &Limits) -> Vec<Followed> {
        let recording = &self.recording;
        let is_some = |own: &Followed| count(&own.on) * SHARE >= recording.frames.len();
        let mut found: Vec<Followed> = (follow::candidates(recording, node).into_iter())
            .filter_map(|source| follow::on_frames(recording, (source, node), parts, limits))
            .filter(is_some)
            .collect();
        found.sort_by_key(|own| {
            let is_body = !recording.is_for_animators(own.source);
            let is_mover = recording.mover(own.source) == Some(own.source);
            let steps = recording.steps_between(own.source, node);
            (is_body, own.offset.is_some(), !own.is_at, !is_mover, steps)
        });
        found
    }

    /// On which frames a node stands beside its parent as it rests.
    fn rests(&self, node: usize, limits: &Limits) -> Vec<bool> {
        let own = &self.recording.nodes[node];
        let above = own.parent.map_or(DVec3::ONE, |parent| self.recording.nodes[parent].rest.size);
        let rests = |now: &Instant| {
            ((now.translation - own.rest.translation) * above).length() <= limits.place
                && angle_between(now.rotation, own.rest.rotation) <= limits.angle
        };
        own.instants.iter().map(rests).collect()
    }
}
