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
use self::assembly::changed_channels;
pub use self::error::CarryError;
use self::job::Job;

mod assembly;
mod attributes;
mod claim;
mod feet;
mod ground;
mod links;
mod map;
mod matching;
mod measure;
mod output;
mod pose;
mod rotations;
mod shares;
mod side;
mod still;
mod tracks;
mod translations;
mod vectors;

use std::borrow::Cow;
use std::collections::HashSet;

pub use self::matching::{MatchingPose, matching_pose};
pub use map::{AttributePair, Chain, NameMap, NodePair, NumberRange, PairSpace};
pub use pose::{held, keyed, pose_from};

use self::attributes::AttributeMap;
use self::links::Links;
use self::side::Side;
use self::tracks::Tracks;
use super::Tolerance;
use super::anatomy::has_legs;
use super::space::{in_space, mirrored};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::choice::{Choice, NothingChosen};
use nimble_curve_scene::judge::Claim;
use nimble_curve_scene::ledger::{Fate, Ledger, MeasuredError};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Scene, Take};

/// How to carry.
#[derive(Clone, Debug, Default)]
pub struct CarryOptions {
    /// The largest errors: of a world-space rotation relative to the reference, of translations, of numbers.
    pub tolerance: Tolerance,
    /// Handles of rotations that change; where nothing is said as the source has them, but weighted where plain ones would
    /// need more than half as many key times again.
    pub handles: Option<Handles>,
    /// How much the translation grows, apart from units; `None` takes the ratio of the legs, from the hips to the lowest joint.
    pub scale: Option<f64>,
    /// Patterns of channels or nodes of either side, or `@SET`; all where there are none.
    pub only: Vec<String>,
    /// Patterns of channels or nodes of either side, or `@SET`, that stay behind.
    pub except: Vec<String>,
    /// Whether planted feet stay where they were planted, scaled.
    pub hold_feet: bool,
    /// The pose of the source that corresponds to that of the target; its rest pose where there is none.
    pub source_pose: Option<PoseAt>,
    /// The pose of the target that corresponds to that of the source; its rest pose where there is none.
    pub target_pose: Option<PoseAt>,
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

/// What carrying came to.
#[derive(Clone, Debug)]
pub struct Carried {
    /// The target with the source's takes on it, behind its own.
    pub scene: Scene,
    /// What became of every channel, on both sides.
    pub ledger: Ledger,
    /// How many nodes of the target have partners.
    pub pairs: usize,
    /// By how much translations grew, in metres.
    pub travel: f64,
    /// By how much the numbers of translations grew, units included.
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

/// Puts the animation of the first rig of `source` onto the first rig of `target`.
///
/// Nodes are paired by the map, else by equal names, with or without namespaces. The source's unit, up axis and
/// handedness are changed to the target's first, exactly. Rotations keep the target's orders; translations carry their
/// distance from the reference, scaled; attributes carry by name or by the map; layers stay layers.
///
/// # Errors
/// See [`CarryError`].
pub fn carry(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Carried, CarryError> {
    if source.takes.is_empty() {
        return Err(CarryError::NoTake);
    }
    source.rigs.first().ok_or(CarryError::NoRig("source"))?;
    target.rigs.first().ok_or(CarryError::NoRig("target"))?;
    let mut ledger = Ledger::default();
    let map = map.with_rules(source, target)?;
    let map = map.as_ref();
    let are_legged = has_legs(source) && has_legs(target);
    let (options, notes) = match are_legged {
        true => ground::standing(source, target, map, options)?,
        false => (Cow::Borrowed(options), Vec::new()),
    };
    let options = options.as_ref();
    ledger.notes.extend(notes);
    let with_pose = |pose: Option<&PoseAt>| Scene {
        takes: source.takes.iter().cloned().chain(pose.map(|pose| pose.take.clone())).collect(),
        ..source.clone()
    };
    // The pose of reference goes along, as one take more.
    let (mut moved, respaced) = in_space(&with_pose(options.source_pose.as_ref()), &target.space);
    let mut changed: HashSet<(String, String)> = changed_channels(&respaced);
    for entry in respaced.entries.iter().filter(|entry| entry.fate == Fate::LeftOut) {
        ledger.notes.push(format!("{}: {}", entry.channel, entry.note));
    }
    if let Some(axis) = map.mirror {
        let (reflected, entries) = mirrored(&moved, axis);
        changed.extend(changed_channels(&entries));
        moved = reflected;
    }
    let source_pose = options.source_pose.as_ref().and_then(|pose| Some((moved.takes.pop()?, pose.time)));
    let from = &moved.rigs[0];
    let (source_addresses, target_addresses) = (Addresses::new(&moved), Addresses::new(target));
    let addresses = (&source_addresses, &target_addresses);
    let links = Links::new(&moved, target, addresses, map)?;
    let numbers = AttributeMap::new(&moved, target, addresses, map)?;
    let chosen = chosen(&moved, target, addresses, map, options)?;
    let from_side = Side::of(&moved, source_pose.as_ref().map(|(take, time)| (take, *time)))?;
    let onto_side = Side::of(target, options.target_pose.as_ref().map(|pose| (&pose.take, pose.time)))?;
    let mut job = Job {
        source: &moved,
        target,
        from: from_side,
        onto: onto_side,
        links: &links,
        numbers: &numbers,
        chosen: &chosen,
        source_addresses: &source_addresses,
        target_addresses: &target_addresses,
        changed: &changed,
        scale: 1.0,
        tolerance: options.tolerance,
        handles: options.handles,
    };
    job.scale = options.scale.unwrap_or_else(|| job.leg_ratio(are_legged));
    let mut scene = target.clone();
    if target.takes.is_empty() {
        scene.rate = source.rate;
    }
    let own_takes = scene.takes.len();
    let (mut world_error, mut worst_node) =
        (MeasuredError::none(nimble_curve_curves::value::Quantity::Angle), None);
    let mut free = HashSet::new();
    for take in &moved.takes {
        let tracks = Tracks::of(take, from);
        let (mut made, mut entries, measured) = job.take(&tracks)?;
        if options.hold_feet {
            let held = job.hold_feet(take, &mut made, &mut entries)?;
            if held.is_some() {
                free.extend(job.bent_by_feet());
            }
            ledger
                .notes
                .push(held.unwrap_or_else(|| format!("'{}': no foot stands, nothing to hold", take.name)));
        }
        if measured.error.count > 0 && (worst_node.is_none() || measured.error.largest > world_error.largest)
        {
            worst_node = measured.worst.map(|node| target_addresses.node((0, node)).to_owned());
        }
        world_error.merge(&measured.error);
        ledger.entries.extend(entries);
        // A selection of channels moves what was selected.
        if options.only.is_empty() {
            scene.takes.push(made);
            let made = scene.takes[scene.takes.len() - 1].clone();
            job.list_still(&scene, (take, &made), &mut ledger)?;
        } else {
            scene.takes.push(made);
        }
    }
    let taken: HashSet<String> = scene.takes[..own_takes].iter().map(|take| take.name.clone()).collect();
    let mut renamed = Vec::new();
    for take in &mut scene.takes[own_takes..] {
        if taken.contains(&take.name) {
            let fresh = (2..).map(|n| format!("{} {n}", take.name)).find(|name| !taken.contains(name));
            let fresh = fresh.expect("of endlessly many names one is free");
            renamed.push((std::mem::replace(&mut take.name, fresh.clone()), fresh));
        }
    }
    let mirror = (map.mirror, own_takes);
    let claim = job.claim(source, mirror, options, (&ledger, &free))?;
    let moved: HashSet<NodeId> = (scene.takes[own_takes..].iter().flat_map(Take::tracks))
        .map(|(_, track)| track.target.node)
        .collect();
    job.list_unpaired(&moved, &mut ledger);
    let apart = job.apart();
    let unit = source.space.metres_per_unit / target.space.metres_per_unit;
    let pairs = links.all.len();
    let translation_scale = job.scale * unit;
    let travel = job.scale;
    Ok(Carried {
        scene,
        ledger,
        pairs,
        travel,
        translation_scale,
        world_error,
        worst_node,
        apart,
        renamed,
        claim,
    })
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
    Choice::new(&options.only, &options.except, sets, &known)
}
