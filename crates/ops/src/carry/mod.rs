//! Carry: animation from one rig onto another.
//!
//! The reference pose stands on the ground: where hips rest at the origin, it is put on the one on which the motion stands. Travel grows
//! by the ratio of the legs.
//!
//! Rotations carry relative to a reference pose, the rest pose unless another one is given: if the world rotation of a
//! source node leaves its reference by `Δ`, so does that of its partner. Each node of the source turns by
//! `δ = P·L·W⁻¹` beside its parent, with `P` and `W` for the world rotations of its parent and itself in the reference
//! pose and `L` for its local rotation, so that `Δ` is the product of all `δ` from the top down. A node of the target
//! whose nearest paired ancestor follows `Δ₁` and which itself follows `Δ₂` turns, beside that ancestor, by `Δ₁⁻¹·Δ₂`:
//!
//! ```text
//! R' = F'⁻¹ · (Δ₁⁻¹·Δ₂) · W'·after'⁻¹
//! ```
//!
//! with `F'` for the world rotation in which `R'` acts. Where pairs follow each other on both sides that is one
//! rotation between two constants, `R' = A·R·B`: exact where signed permutations allow it, else bounded. Where source
//! nodes between two pairs move without a partner of their own, or chains are of other lengths, it is a product of
//! several turns, or of parts of them.

mod error;
mod job;
mod limb;
use self::beside::Beside;
pub use self::error::CarryError;
use self::job::{Common, Job, Respaced};
use self::links::NodePairing;
pub(crate) use self::rigs::rig_pairs;
use self::scenes::{empty_layers, in_order_of, list_alone, rename_twins, scaled, without_pair};
use self::unlike::{Unlike, Unsaid};

mod assembly;
mod attributes;
mod beside;
mod claim;
mod feet;
mod ground;
mod held;
mod links;
mod lists;
mod map;
mod matching;
mod measure;
mod output;
mod pose;
mod products;
mod reach;
mod rewrite;
mod rigs;
mod rotations;
mod scenes;
mod shares;
mod side;
mod steps;
mod still;
mod tracks;
mod translations;
mod unlike;

use std::borrow::Cow;
use std::collections::HashSet;

pub use self::matching::{MatchingPose, matching_pose};
pub use map::{AttributePair, Chain, NameMap, NodePair, NumberRange, PairSpace, RigPair};
pub use pose::{held, keyed, pose_from};

use super::anatomy::has_legs;
use super::control_rig::solved;
use super::rotation_conversion::SAMPLED_ONLY;
use super::{RigPairing, Tolerance};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::{Addresses, matches};
use nimble_curve_scene::choice::{Choice, NothingChosen, with_kinds};
use nimble_curve_scene::judge::Claim;
use nimble_curve_scene::ledger::{Ledger, MeasuredError};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{NodeSet, Scene, Take};

/// How to carry.
#[derive(Clone, Debug, Default)]
pub struct CarryOptions {
    /// The largest errors: of a world-space rotation relative to the reference, of translations, of numbers.
    pub tolerance: Tolerance,
    /// Whether each node's own rotation is held to the tolerance, and not what those along a chain add up to in the world.
    pub per_joint: bool,
    /// Handles of rotations that change; where nothing is said as the source has them, but weighted where plain ones would
    /// need more than half as many key times again.
    pub handles: Option<Handles>,
    /// How much the translation grows, apart from units; `None` takes the ratio of the legs, from the hips to the lowest joint. What
    /// has no legs, such as a prop, goes by those of the first rig that has some.
    pub scale: Option<f64>,
    /// Names or patterns of the rigs of the source that carry; all where there are none.
    pub rigs: Vec<String>,
    /// Names or patterns of the rigs of the target that get something; all where there are none.
    pub target_rigs: Vec<String>,
    /// Patterns of channels or nodes of either side, or `@SET`; all where there are none.
    pub only: Vec<String>,
    /// Patterns of channels or nodes of either side, or `@SET`, that stay behind.
    pub except: Vec<String>,
    /// Whether the target is the source's rigs but for nodes that were taken out of them: reference poses stand as they are, numbers go to
    /// their own nodes only, and what a node between turned that stands elsewhere is moved as well.
    pub same_rigs: bool,
    /// Whether controls of the target get its keys afterwards, so that they do not count as resting.
    pub onto_controls: bool,
    /// Whether planted feet stay where they were planted, scaled.
    pub hold_feet: bool,
    /// The pose of the source that corresponds to that of the target; its rest pose where there is none.
    pub source_pose: Option<PoseAt>,
    /// The pose of the target that corresponds to that of the source; its rest pose where there is none.
    pub target_pose: Option<PoseAt>,
}

impl CarryOptions {
    /// Whether a rig of the source is to carry.
    fn takes_rig(&self, name: &str) -> bool {
        self.rigs.is_empty() || self.rigs.iter().any(|pattern| matches(pattern, name))
    }

    /// Whether a rig of the target is to get something.
    fn takes_target_rig(&self, name: &str) -> bool {
        self.target_rigs.is_empty() || self.target_rigs.iter().any(|pattern| matches(pattern, name))
    }
}

/// A pose as an instant of a take of the same rig.
#[derive(Clone, Debug, PartialEq)]
pub struct PoseAt {
    /// The take that it is taken from, on the same rig.
    pub take: Take,
    /// When.
    pub time: Ticks,
}

/// Two bones that point in different directions in the poses that are held to correspond.
#[derive(Clone, Debug, PartialEq)]
pub struct DirectionMismatch {
    /// The node of the source.
    pub source: String,
    /// Its partner.
    pub target: String,
    /// The angle between the two, in radians.
    pub angle: f64,
}

/// A rig that went onto another one.
#[derive(Clone, Debug, PartialEq)]
pub struct CarriedRig {
    /// The two, by their places in their scenes.
    pub rigs: RigPairing,
    /// How many nodes of the target have partners.
    pub pairs: usize,
    /// By how much translations grew, in metres.
    pub travel: f64,
    /// What that was read from.
    pub by: TravelBy,
}

/// What the growth of translations from one rig to another is read from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TravelBy {
    /// A factor that was given.
    Factor,
    /// The ratio of the two rigs' legs.
    Legs,
    /// That of a rig that walks, beside it.
    Walker,
    /// The ratio of the heights of what moves.
    Heights,
    /// Nothing: there is nothing to compare, and travel stays as it is.
    Nothing,
}

/// What carrying came to.
#[derive(Clone, Debug)]
pub struct Carried {
    /// The target with the source's takes on it, behind its own.
    pub scene: Scene,
    /// What became of every channel, on both sides.
    pub ledger: Ledger,
    /// How many nodes of the target have partners.
    pub pairs: usize,
    /// Which rigs went onto which, in order of the source's.
    pub rigs: Vec<CarriedRig>,
    /// By how much translations of the first of them grew, in metres.
    pub travel: f64,
    /// By how much the numbers of its translations grew, units included.
    pub translation_scale: f64,
    /// The largest error of a paired node's world rotation relative to the reference, over all frames and halfway between.
    pub world_error: MeasuredError,
    /// The node at which it is.
    pub worst_node: Option<String>,
    /// Bones whose directions differ in the reference poses, the worst first.
    pub apart: Vec<DirectionMismatch>,
    /// Takes whose names the target had already: their names, and what they are called now.
    pub renamed: Vec<(String, String)>,
    /// What the carried takes should be, in terms of the source.
    pub claim: Claim,
}

/// Puts the animation of the rigs of `source` onto those of `target`.
///
/// Rigs are paired by the map, else by the nodes that it pairs, else by what they have in common; nodes by the map, else by equal names,
/// with or without namespaces. The source's unit, up axis and handedness are changed to the target's first, exactly. Rotations keep the target's orders; translations carry their
/// distance from the reference, scaled; attributes carry by name or by the map; layers stay layers.
///
/// Joints get the keys: constraints of the target, which would drive them, are not in the result.
/// [`match_controls`](crate::control_rig::match_controls) puts them onto controls.
///
/// # Errors
/// See [`CarryError`].
pub fn carry(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Carried, CarryError> {
    if source.constraints.is_empty() && target.constraints.is_empty() {
        return carry_said(source, target, map, options, &Unsaid::new());
    }
    // Of a rig with controls goes over what its joints do.
    let part = options.tolerance.times(SOLVING);
    let solved = solved(source, &part)?;
    let source = solved.as_ref().map_or(source, |(scene, _)| scene);
    let free = Scene { constraints: Vec::new(), ..target.clone() };
    let rest = match solved {
        Some(_) => CarryOptions { tolerance: options.tolerance.times(1.0 - SOLVING), ..options.clone() },
        None => options.clone(),
    };
    let mut carried = carry_said(source, &free, map, &rest, &Unsaid::new())?;
    if solved.is_some() {
        carried.ledger.notes.push("the source's joints were solved first: constraints drive them".to_owned());
    }
    Ok(carried)
}

/// The part of the tolerance that solving a rig with controls takes.
const SOLVING: f64 = 0.25;

/// The same, where the own steps of some nodes of the target cannot say what comes to them.
fn carry_said(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
    unsaid: &Unsaid,
) -> Result<Carried, CarryError> {
    if source.takes.is_empty() {
        return Err(CarryError::NoTake);
    }
    let mut ledger = Ledger::default();
    let pairs = rigs::pairings(source, target, map, options)?;
    let (as_given, asked) = (map, options);
    let map = map.with_rules(source, target, &pairs)?;
    let addresses = (Addresses::new(source), Addresses::new(target));
    let maps = rigs::shared_out(&map, (source, target), (&addresses.0, &addresses.1), &pairs)?;
    let mut options = Cow::Borrowed(options);
    let walks = |pair: &RigPairing| has_legs(source, pair.source) && has_legs(target, pair.target);
    let same_rigs = options.same_rigs;
    for (pair, map) in pairs.iter().zip(&maps).filter(|(pair, _)| !same_rigs && walks(pair)) {
        let (standing, notes) = ground::standing(source, target, (map, *pair), &options)?;
        if let Some(standing) = standing {
            options = Cow::Owned(standing);
        }
        ledger.notes.extend(notes);
    }
    let options = options.as_ref();
    let space = Respaced::of(source, target, map.mirror, options.source_pose.as_ref());
    ledger.notes.extend(space.notes.iter().cloned());
    let source_addresses = Addresses::new(&space.scene);
    let addresses = (&source_addresses, &addresses.1);
    let chosen = chosen(&space.scene, target, addresses, &map, options)?;
    let own_takes = target.takes.len();
    let mut jobs = Vec::with_capacity(pairs.len());
    for (pair, map) in pairs.iter().zip(&maps) {
        let common = Common { space: &space, target, addresses, chosen: &chosen, unsaid, count: pairs.len() };
        jobs.extend(common.job(map, *pair, options)?.map(|job| (job, walks(pair))));
    }
    let jobs = scaled(jobs, options.scale);
    if jobs.is_empty() {
        return Err(CarryError::NoPairs);
    }
    let unlike = Unlike::of(&jobs);
    if !unlike.is_empty() {
        return match unlike.carried((source, target), as_given, asked, unsaid)? {
            Ok(carried) => Ok(carried),
            Err(more) => {
                let unsaid = unsaid.iter().map(|(node, why)| (*node, why.clone())).chain(more).collect();
                carry_said(source, target, as_given, asked, &unsaid)
            }
        };
    }
    let grips = held::grips(&jobs, &map, addresses.0, &mut ledger.notes)?;
    let reaches = reach::reaches(&jobs, &map, addresses.0)?;
    let mut scene = target.clone();
    if target.takes.is_empty() {
        scene.rate = source.rate;
    }
    let mut carrying = Carrying::new(&jobs, &grips, &reaches, options);
    for take in space.scene.takes.iter().enumerate() {
        carrying.take(take, &mut scene, &mut ledger)?;
    }
    let renamed = rename_twins(&mut scene.takes, own_takes);
    let claim = carrying.claim(source, (map.mirror, own_takes), &ledger)?;
    let (world_error, worst_node) = carrying.world;
    for job in &jobs {
        let moved: HashSet<NodeId> = (scene.takes[own_takes..].iter().flat_map(Take::tracks))
            .filter(|(_, track)| track.target.rig == job.onto.index)
            .map(|(_, track)| track.target.node)
            .collect();
        job.list_unpaired(&moved, &mut ledger);
    }
    list_alone(&jobs, source, target, options, &mut ledger);
    let unit = source.space.metres_per_unit / target.space.metres_per_unit;
    let rigs: Vec<CarriedRig> = jobs.iter().map(Job::summary).collect();
    let mut apart: Vec<DirectionMismatch> = jobs.iter().flat_map(Job::apart).collect();
    apart.sort_by(|a, b| b.angle.total_cmp(&a.angle));
    Ok(Carried {
        scene,
        ledger,
        pairs: rigs.iter().map(|rig| rig.pairs).sum(),
        travel: rigs[0].travel,
        translation_scale: rigs[0].travel * unit,
        rigs,
        world_error,
        worst_node,
        apart,
        renamed,
        claim,
    })
}

/// All rigs on their way over, take by take.
struct Carrying<'a> {
    jobs: &'a [Job<'a>],
    grips: &'a [held::Grip],
    reaches: &'a [reach::Reach],
    options: &'a CarryOptions,
    /// The largest error in the world, and the node that has it.
    world: (MeasuredError, Option<String>),
    /// For each job, nodes of the target that turn otherwise than the source's, as feet are held or hands reach.
    free: Vec<HashSet<NodeId>>,
    /// What stands beside what, in which take of the source and when.
    beside: Vec<(usize, &'a Beside, &'a NodePairing, usize, Vec<TimeRange>)>,
}

impl<'a> Carrying<'a> {
    fn new(
        jobs: &'a [Job<'a>],
        grips: &'a [held::Grip],
        reaches: &'a [reach::Reach],
        options: &'a CarryOptions,
    ) -> Carrying<'a> {
        let free = (0..jobs.len()).map(|job| reach::bent_by_reaching(reaches, job)).collect();
        let world = (MeasuredError::none(Quantity::Angle), None);
        Carrying { jobs, grips, reaches, options, world, free, beside: Vec::new() }
    }

    /// Carries a take of the source, given with its place, into the scene.
    fn take(
        &mut self,
        (index, take): (usize, &Take),
        scene: &mut Scene,
        ledger: &mut Ledger,
    ) -> Result<(), CarryError> {
        let mut whole = empty_layers(take);
        let (mut entries, mut feet_stand) = (Vec::new(), false);
        for (job, free) in self.jobs.iter().zip(&mut self.free) {
            let carried = job.carried(take, self.options)?;
            job.note_worst(&carried.measured, &mut self.world);
            if let Some(note) = carried.feet_held {
                free.extend(job.bent_by_feet());
                ledger.notes.push(note);
                feet_stand = true;
            }
            entries.extend(carried.entries);
            for (layer, made) in whole.layers.iter_mut().zip(carried.take.layers) {
                layer.tracks.extend(made.tracks);
            }
        }
        if self.options.hold_feet && !feet_stand {
            ledger.notes.push(format!("'{}': no foot stands, nothing to hold", take.name));
        }
        for reach in self.reaches {
            let (does, note) = self.jobs[reach.job].reach(reach, take, &mut whole, &mut entries)?;
            ledger.notes.push(note);
            if does {
                self.beside.push((reach.job, &reach.beside, &reach.link, index, vec![take.range]));
            }
        }
        for grip in self.grips {
            let (times, note) = self.jobs[grip.job].hold(grip, take, &mut whole, &mut entries)?;
            ledger.notes.push(note);
            let held = times.map(|times| (grip.job, &grip.beside, &grip.link, index, times));
            self.beside.extend(held);
        }
        entries.extend(without_pair(self.jobs, take, |rig| self.options.takes_rig(rig)));
        if let Some(first) = self.jobs.first() {
            in_order_of(take, first.source_addresses, &mut entries);
        }
        let sampled: Vec<&str> = (entries.iter())
            .filter(|entry| entry.note == SAMPLED_ONLY)
            .map(|entry| entry.channel.as_str())
            .collect();
        if !sampled.is_empty() {
            let (name, channels) = (&take.name, sampled.join(", "));
            ledger.notes.push(format!("'{name}': {channels} came over {SAMPLED_ONLY}"));
        }
        ledger.entries.extend(entries);
        scene.takes.push(whole.clone());
        // A selection of channels moves what was selected.
        if self.options.only.is_empty() {
            for job in self.jobs {
                job.list_still(scene, (take, &whole), ledger)?;
            }
        }
        Ok(())
    }

    /// What the carried takes should be.
    fn claim(
        &self,
        source: &Scene,
        mirror: (Option<usize>, usize),
        ledger: &Ledger,
    ) -> Result<Claim, CarryError> {
        let mut claim: Option<Claim> = None;
        for (job, free) in self.jobs.iter().zip(&self.free) {
            let own = job.claim(source, mirror, self.options, (ledger, free))?;
            claim = Some(match claim {
                Some(all) => all.with_nodes_of(own),
                None => own,
            });
        }
        let mut claim = claim.unwrap_or_else(Claim::nothing).excusing(source, ledger);
        let pose = self.options.source_pose.as_ref();
        for (job, beside, link, take, times) in &self.beside {
            let own = self.jobs[*job].beside_claim(source, (beside, link), pose, (*take, times.clone()))?;
            claim.holds.extend(own);
        }
        Ok(claim)
    }
}

/// What is to come over, by the names of either side and the sets of the map and of either file.
fn chosen(
    source: &Scene,
    target: &Scene,
    (from, onto): (&Addresses, &Addresses),
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Choice, NothingChosen> {
    let sets = map.sets.iter().chain(&source.sets).chain(&target.sets);
    let known: Vec<String> = (source.takes.iter().flat_map(Take::tracks))
        .map(|(_, track)| from.property(&track.target))
        .chain(from.texts().chain(onto.texts()).map(str::to_owned))
        .collect();
    let own: Vec<NodeSet> = sets.clone().cloned().collect();
    let expanded = |patterns: &[String]| with_kinds(patterns, &own, &[(source, from), (target, onto)]);
    Choice::new(&expanded(&options.only), &expanded(&options.except), sets, &known)
}
