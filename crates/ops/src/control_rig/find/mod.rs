//! What drives what, found in a file that shows controls and joints moving: who goes with whom, limbs, aims, rolls, and what was
//! switched when.

mod aim;
mod bones;
mod eigen;
mod follow;
mod goal;
mod limb;
mod limbs;
mod measured;
mod open;
mod pole;
mod ranges;
mod recorded;
mod roll;
mod rounded;
mod search;
mod spaces;
mod steady;
mod switches;
mod verdict;

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::Constraint;
use nimble_curve_scene::rig::NodeKind;
use nimble_curve_scene::scene::Scene;

pub use self::measured::Residual;
use self::switches::Switch;
use super::SolveError;

/// What is found with certainty is off by no more than this, in metres.
pub const SURE_METRES: f64 = 1e-4;

/// The same in turn, in degrees.
pub const SURE_DEGREES: f64 = 0.02;

/// What is off by so many times more may still be it.
const LOOSE: f64 = 10.0;

/// By what sizes may be off to be the same, as a factor.
const SAME_SIZE: f64 = 1e-4;

/// How to find.
#[derive(Clone, Debug, Default)]
pub struct FindOptions {
    /// The controls, by name, pattern or set; those of kind control where this is empty.
    pub controls: Vec<String>,
}

/// How far something may be off what it is taken for.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// In units of the scene.
    pub place: f64,
    /// In radians.
    pub angle: f64,
    /// Of sizes, as a factor.
    pub factor: f64,
}

impl Limits {
    fn sure(scene: &Scene) -> Limits {
        Limits {
            place: SURE_METRES / scene.space.metres_per_unit,
            angle: SURE_DEGREES.to_radians(),
            factor: SAME_SIZE,
        }
    }

    fn loose(self) -> Limits {
        Limits { place: self.place * LOOSE, angle: self.angle * LOOSE, factor: self.factor * LOOSE }
    }

    fn hold(&self, residual: &Residual) -> bool {
        residual.place <= self.place && residual.angle <= self.angle
    }
}

/// A stretch of a take, and what holds there.
#[derive(Clone, Debug, PartialEq)]
pub struct Stretch {
    /// Which take.
    pub take: usize,
    /// From this frame on.
    pub from: Ticks,
    /// What holds: an option, or `on` and `off`.
    pub holds: String,
}

/// A constraint that was found.
#[derive(Clone, Debug)]
pub struct Finding {
    /// What it is.
    pub constraint: Constraint,
    /// How far what it makes of its nodes is off what the file shows, on all frames that were looked at.
    pub residual: Residual,
    /// Whether it is sure: close enough, and nothing else explains it as well.
    pub is_sure: bool,
    /// What else explains it as well, in words.
    pub rivals: Vec<String>,
    /// What holds when, where it is switched.
    pub stretches: Vec<Stretch>,
    switch: Option<Switch>,
}

/// A node that moves by nothing that was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unexplained {
    /// The node.
    pub node: NodeRef,
    /// In what: translation, rotation, scale.
    pub parts: [bool; 3],
    /// Whether that is all in which it moves.
    pub is_whole: bool,
}

/// All that was found of a rig.
#[derive(Clone, Debug)]
pub struct FoundRig {
    source: Scene,
    /// The constraints, in the order in which they act.
    pub findings: Vec<Finding>,
    /// Nodes that move beside their parents by nothing that was found.
    pub unexplained: Vec<Unexplained>,
    /// How many frames were looked at.
    pub frames: usize,
}

impl FoundRig {
    /// The scene with what was found, and the attributes and keys of what is switched: what is sure, or all.
    ///
    /// # Errors
    /// Where the keys of a switch are not in order.
    pub fn scene(&self, with_unsure: bool) -> Result<Scene, SolveError> {
        let mut made = self.source.clone();
        for found in self.findings.iter().filter(|own| own.is_sure || with_unsure) {
            if let Some(switch) = &found.switch {
                switch.add_to(&mut made, &found.stretches)?;
            }
            made.constraints.push(found.constraint.clone());
        }
        Ok(made)
    }
}

/// Finds what drives what.
///
/// Controls have to be known, by their kind or by name: that one node goes with another does not say who goes with whom. What is
/// driven stands beside its driver in the same way on all frames, bends about one hinge towards a pole while its end stays with a
/// goal, points at something, or takes a fraction of a roll; what holds for a part of the frames is switched. Each is put to the
/// solver and measured against the file.
///
/// # Errors
/// [`SolveError::NothingChosen`] for a pattern that no node matches, [`SolveError::NoControlKnown`] where no node is a control,
/// [`SolveError::HasConstraints`] where the file says already what drives what, and where something cannot be evaluated.
pub fn find(scene: &Scene, options: &FindOptions) -> Result<FoundRig, SolveError> {
    if !scene.constraints.is_empty() {
        return Err(SolveError::HasConstraints);
    }
    let mut source = scene.clone();
    if !options.controls.is_empty() {
        for (rig, id) in nimble_curve_scene::choice::chosen_nodes(scene, &options.controls)? {
            if let Some(node) = source.rigs[rig].node_mut(id) {
                node.kind = NodeKind::Control;
            }
        }
    }
    let is_control = |kind: NodeKind| kind == NodeKind::Control;
    if !source.rigs.iter().flat_map(|rig| rig.nodes()).any(|(_, node)| is_control(node.kind)) {
        return Err(SolveError::NoControlKnown);
    }
    search::search(source)
}
