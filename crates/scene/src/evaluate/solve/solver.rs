//! The solver: some nodes with all that they depend on, at an instant.

use std::collections::HashMap;

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::{from_vector, to_vector};

use super::kinds::{Part, Prepared};
use super::limb::Solution;
use super::plan::Planner;
use super::stand::{Parts, Stand, blended};
use super::state::State;
use crate::address::NodeRef;
use crate::constraint::Constraint;
use crate::evaluate::EvaluateError;
use crate::evaluate::coupled::SettingSampler;
use crate::evaluate::own::OwnSampler;
use crate::scene::{Layer, Scene, Take, Track};
use crate::space::Handedness;

/// Solves some nodes of a scene with all that they depend on.
#[derive(Debug)]
pub struct Solver<'a> {
    pub(super) nodes: Vec<Solved<'a>>,
    pub(super) prepared: Vec<Prepared<'a>>,
    /// Which of these each constraint of the scene is.
    pub(super) of_scene: Vec<Option<usize>>,
    settings: Vec<SettingSampler<'a>>,
    /// What limbs came to, by constraint.
    pub(super) limbs: Vec<Option<Solution>>,
    pub(super) state: State,
}

/// A node that is solved.
#[derive(Debug)]
pub struct Solved<'a> {
    own: OwnSampler<'a>,
    /// Whether its own curves leave it where it rests.
    pub is_still: bool,
    /// What acts on it, in order.
    parts: Vec<Part>,
    /// Whether it always stands where it rests: nothing moves it or anything above it.
    is_fixed: bool,
}

impl<'a> Solver<'a> {
    /// A solver for some nodes; without a take, controls rest.
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        wanted: impl IntoIterator<Item = NodeRef>,
    ) -> Result<Solver<'a>, EvaluateError> {
        let planner = Planner::of_all(scene, wanted)?;
        let places: HashMap<NodeRef, usize> =
            planner.found.iter().enumerate().map(|(place, node)| (*node, place)).collect();
        let mut drivers: HashMap<NodeRef, Vec<(&Layer, &Track)>> = HashMap::new();
        for (layer, track) in take.into_iter().flat_map(Take::active_tracks) {
            let node = (track.target.rig, track.target.node);
            if places.contains_key(&node) {
                drivers.entry(node).or_default().push((layer, track));
            }
        }
        let hand = if scene.space.handedness == Handedness::Left { -1.0 } else { 1.0 };
        let mut state = State { hand, ..State::default() };
        let mut nodes: Vec<Solved<'a>> = Vec::with_capacity(places.len());
        for &node in &planner.found {
            let of = planner.of(node)?;
            let tracks = drivers.get(&node).map_or(&[][..], Vec::as_slice);
            let own = OwnSampler::new(scene, take, node, of, tracks)?;
            let parent = scene.rigs[node.0].parent(node.1).and_then(|above| places.get(&(node.0, above)));
            let at_rest = OwnSampler::at_rest(of).parts_at(0.0);
            let above = parent.map(|&parent| state.rests[parent]);
            state.rests.push(Stand::below(above.as_ref(), of.inherits, &at_rest));
            state.own.push(at_rest);
            state.parents.push(parent.copied());
            state.inherits.push(of.inherits);
            nodes.push(Solved { is_still: own.is_still(), own, parts: Vec::new(), is_fixed: false });
        }
        state.stands.clone_from(&state.rests);
        state.places = places;
        let (prepared, settings, limbs) = (Vec::new(), Vec::new(), Vec::new());
        let mut solver = Solver { nodes, prepared, of_scene: Vec::new(), settings, limbs, state };
        for constraint in &scene.constraints {
            let place = solver.prepare(scene, take, constraint)?;
            solver.of_scene.push(place);
        }
        for index in 0..solver.nodes.len() {
            let hangs_fixed = solver.state.parents[index].is_none_or(|parent| solver.nodes[parent].is_fixed);
            let node = &mut solver.nodes[index];
            node.is_fixed = hangs_fixed && node.is_still && node.parts.is_empty();
        }
        Ok(solver)
    }

    /// Makes a constraint ready, where all that it drives is solved; its place among those that are.
    fn prepare(
        &mut self,
        scene: &'a Scene,
        take: Option<&'a Take>,
        constraint: &'a Constraint,
    ) -> Result<Option<usize>, EvaluateError> {
        let driven = constraint.driven();
        if driven.is_empty() || !driven.iter().any(|node| self.state.places.contains_key(node)) {
            return Ok(None);
        }
        let first = self.settings.len();
        for setting in constraint.settings() {
            self.settings.push(SettingSampler::new(scene, take, setting)?);
            self.state.settings.push(0.0);
        }
        let index = self.prepared.len();
        self.prepared.push(Prepared::new(&self.state, scene, constraint, first)?);
        self.limbs.push(None);
        for (joint, node) in driven.iter().enumerate() {
            let place = self.state.place(*node)?;
            self.nodes[place].parts.push(Part { constraint: index, joint });
        }
        Ok(Some(index))
    }

    /// The place of a node among those that are solved.
    pub fn place_of(&self, node: NodeRef) -> Option<usize> {
        self.state.places.get(&node).copied()
    }

    /// Where the node at a place stands.
    pub fn stand_at(&self, place: usize) -> &Stand {
        &self.state.stands[place]
    }

    /// Where a node stands among those that are solved.
    pub fn stand(&self, node: NodeRef) -> Option<&Stand> {
        self.place_of(node).map(|place| self.stand_at(place))
    }

    /// What a node's constraints make of a rotation that its own curves have, with all else as this was solved last: beside its parent.
    fn turned_from(&self, place: usize, rotation: DQuat) -> DQuat {
        let mut parts = Parts { rotation, ..self.state.own[place] };
        for part in &self.nodes[place].parts {
            let prepared = &self.prepared[part.constraint];
            let weight = self.state.settings[prepared.weight];
            let mut solution = self.limbs[part.constraint];
            if weight > 0.0
                && let Some(wanted) = prepared.result(&self.state, &mut solution, (place, part.joint), &parts)
            {
                parts = blended(&parts, &wanted, weight);
            }
        }
        parts.rotation
    }

    /// The rotation that a node's own curves need to have so that its constraints make one of it, both beside its parent, with all else as
    /// this was solved last; as near as can be where none does. A roll may be one of its own turn.
    ///
    /// By Newton's method on rotation vectors with differences for slopes; where constraints add the same to any rotation the first step is
    /// exact.
    pub fn own_rotation_for(&self, node: NodeRef, wanted: DQuat) -> Option<DQuat> {
        /// Near enough, and how far apart rotations are from which slopes come, in radians.
        const CLOSE: f64 = 1e-11;
        const APART: f64 = 1e-5;
        const STEPS: usize = 24;
        /// What does not come to so much of how far off it was before does not come there.
        const NEARER: f64 = 0.7;
        let place = self.place_of(node)?;
        let off = |made: DQuat| to_vector(made.conjugate() * wanted);
        let own = self.state.own[place].rotation;
        let mut now = wanted * (own.conjugate() * self.turned_from(place, own)).conjugate();
        let (mut best, mut least) = (now, f64::INFINITY);
        for _ in 0..STEPS {
            let made = self.turned_from(place, now);
            let error = off(made);
            let is_nearer = error.length() < NEARER * least;
            if error.length() < least {
                (best, least) = (now, error.length());
            }
            // What takes all of a node's own roll off leaves no way to one that is wanted.
            if least < CLOSE || !is_nearer {
                break;
            }
            let slope = |axis: DVec3| {
                let beside = self.turned_from(place, now * from_vector(axis * APART));
                to_vector(made.conjugate() * beside) / APART
            };
            let slopes = DMat3::from_cols(slope(DVec3::X), slope(DVec3::Y), slope(DVec3::Z));
            let step = if slopes.determinant().abs() > 1e-6 { slopes.inverse() * error } else { error };
            now = (now * from_vector(step.clamp_length_max(1.0))).normalize();
        }
        Some(best.normalize())
    }

    /// Works out all nodes at a time in ticks.
    pub fn solve(&mut self, time: f64) {
        for (setting, now) in self.settings.iter_mut().zip(&mut self.state.settings) {
            *now = setting.at(time);
        }
        for (own, node) in self.state.own.iter_mut().zip(&mut self.nodes) {
            if !node.is_still {
                *own = node.own.parts_at(time);
            }
        }
        for index in 0..self.nodes.len() {
            if self.nodes[index].is_fixed {
                continue;
            }
            let mut parts = self.state.own[index];
            for part in &self.nodes[index].parts {
                let prepared = &self.prepared[part.constraint];
                let weight = self.state.settings[prepared.weight];
                // What does not count, a limb for instance, is worked out by nobody.
                if weight == 0.0 {
                    continue;
                }
                let solution = &mut self.limbs[part.constraint];
                if let Some(wanted) = prepared.result(&self.state, solution, (index, part.joint), &parts) {
                    parts = blended(&parts, &wanted, weight);
                }
            }
            let parent = self.state.parents[index].map(|parent| &self.state.stands[parent]);
            self.state.stands[index] = Stand::below(parent, self.state.inherits[index], &parts);
        }
    }
}
