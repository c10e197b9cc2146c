//! Carry: animation from one rig onto another.
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

mod attributes;
mod claim;
mod feet;
mod links;
mod map;
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

use std::collections::{HashMap, HashSet};

use rayon::prelude::*;
use thiserror::Error;

pub use map::{Chain, NameMap, NodePair, NumberPair, NumberRange, PairSpace};
pub use pose::{held, keyed, pose_from};

use self::attributes::Numbers;
use self::links::{Link, Links};
use self::measure::Stale;
use self::output::{Output, Role};
use self::shares::Shares;
use self::side::Side;
use self::tracks::Tracks;
use super::Tolerance;
use super::channel::count;
use super::space::{in_space, mirrored};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::ConversionCache;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::{AddressError, Addresses};
use nimble_curve_scene::choice::{Choice, NothingChosen};
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::judge::Claim;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::{Scene, Take, Target, Track};

/// How to carry.
#[derive(Clone, Debug, Default)]
pub struct CarryOptions {
    /// The largest errors: of a world-space rotation relative to the reference, of translations, of numbers.
    pub tolerance: Tolerance,
    /// Handles of rotations that change; where nothing is said as the source has them, but weighted where plain ones would
    /// need more than half as many key times again.
    pub handles: Option<Handles>,
    /// How much the translation grows, apart from units; `None` takes the ratio of the hip heights.
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

/// Why a scene cannot be carried.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CarryError {
    /// The source has no animation.
    #[error("the source has no take: there is nothing to carry")]
    NoTake,
    /// One side has no rig.
    #[error("the {0} has no rig")]
    NoRig(&'static str),
    /// The map names a node that is not there.
    #[error("the map: {error} in the {side}{}", suggestion.as_ref().map(|name| format!(" (did you mean '{name}'?)")).unwrap_or_default())]
    Map {
        /// Source or target.
        side: &'static str,
        /// What is wrong.
        error: AddressError,
        /// A similar name.
        suggestion: Option<String>,
    },
    /// Two entries of the map lead to or from one node.
    #[error("the map names '{0}' twice")]
    Twice(String),
    /// A node that the map pairs and leaves out.
    #[error("the map pairs '{0}' and leaves it out, too")]
    LeftOutAndPaired(String),
    /// A chain whose nodes are not one below the other.
    #[error("the map: '{below}' does not stand below '{above}', so that they are no chain")]
    NotAChain {
        /// The one that should stand above.
        above: String,
        /// The one that should stand below.
        below: String,
    },
    /// A chain without nodes.
    #[error("the map: a chain needs nodes on both sides")]
    EmptyChain,
    /// Parts of a chain that do not fit.
    #[error("the map: the chain to '{first}' needs {count} parts above zero, one a node of the target")]
    Parts {
        /// The first node of the target's chain.
        first: String,
        /// How many nodes there are.
        count: usize,
    },
    /// No node has a partner.
    #[error("no node of the source has a partner in the target: give a map (--map)")]
    NoPairs,
    /// A pattern or set that chooses nothing.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// A pose file without a node of the rig.
    #[error("the pose has no node of the rig it is meant for")]
    NoPose,
    /// A pose cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// Two bones that point in different directions in the poses that are held to correspond.
#[derive(Clone, Debug, PartialEq)]
pub struct Apart {
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
    pub apart: Vec<Apart>,
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
    let numbers = Numbers::new(&moved, target, addresses, map)?;
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
    job.scale = options.scale.unwrap_or_else(|| job.hip_ratio());
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
            let fresh = fresh.unwrap_or_default();
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

fn changed_channels(ledger: &Ledger) -> HashSet<(String, String)> {
    let changed = ledger.entries.iter().filter(|entry| entry.fate == Fate::Exact);
    changed.map(|entry| (entry.take.clone(), entry.channel.clone())).collect()
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

struct Job<'a> {
    /// In the target's space, mirrored where the map says so.
    source: &'a Scene,
    target: &'a Scene,
    from: Side<'a>,
    onto: Side<'a>,
    links: &'a Links,
    numbers: &'a Numbers,
    chosen: &'a Choice,
    source_addresses: &'a Addresses,
    target_addresses: &'a Addresses,
    /// Takes and channels that the target's space changed.
    changed: &'a HashSet<(String, String)>,
    scale: f64,
    tolerance: Tolerance,
    handles: Option<Handles>,
}

/// How far a take's result is from its source.
struct Measured {
    error: MeasuredError,
    worst: Option<NodeId>,
}

/// How often tolerances are shared out anew where errors add up along chains.
const ROUNDS: usize = 12;

impl Job<'_> {
    fn take(&self, tracks: &Tracks<'_>) -> Result<(Take, Vec<Entry>, Measured), CarryError> {
        let links = &self.links.all;
        let mut shares = Shares::new(self.tolerance.angle, links.len(), tracks.take.range);
        let caches: Vec<ConversionCache> = links.iter().map(|_| ConversionCache::default()).collect();
        let turn = |shares: &Shares, index: usize| {
            self.rotation(tracks, &links[index], shares.of(index), &caches[index])
        };
        let mut rotations: Vec<Vec<Output>> =
            (0..links.len()).into_par_iter().map(|index| turn(&shares, index)).collect();
        let length = self.tolerance.length / self.target.space.metres_per_unit;
        let shifts: Vec<Vec<Output>> =
            links.par_iter().map(|link| self.translation(tracks, link, length)).collect();
        let others: Vec<Output> = tracks
            .others
            .par_iter()
            .flat_map_iter(|&(layer, track)| self.other(tracks, layer, track, &self.tolerance))
            .collect();
        let is_refitted = |outputs: &[Output]| {
            outputs.iter().filter_map(|output| output.made.as_ref()).any(|made| made.fate >= Fate::Refitted)
        };
        // Errors add up along chains: shares shrink where they do too much.
        let world = self.world();
        let mut result = self.assembled(tracks, &rotations, &shifts, &others);
        let refitted: Vec<bool> = rotations.iter().map(|outputs| is_refitted(outputs)).collect();
        let any_refitted = refitted.contains(&true);
        let mut seen = self.measure(&world, (tracks.take, &result.0), any_refitted, &shares, None)?;
        let mut is_whole = true;
        for _ in 0..ROUNDS {
            let closer = shares.tighten(&world.compared, seen.excess(), &refitted);
            if closer.is_empty() {
                break;
            }
            let again: Vec<(usize, Vec<Output>)> =
                closer.into_par_iter().map(|index| (index, turn(&shares, index))).collect();
            let mut stale = Stale::default();
            for (index, outputs) in again {
                stale.note(index, &rotations[index], &outputs);
                rotations[index] = outputs;
            }
            result = self.assembled(tracks, &rotations, &shifts, &others);
            let known = Some((seen, stale));
            seen = self.measure(&world, (tracks.take, &result.0), true, &shares, known)?;
            is_whole = false;
        }
        if !is_whole {
            seen = self.measure(&world, (tracks.take, &result.0), true, &shares, None)?;
        }
        Ok((result.0, result.1, seen.measured(&world)))
    }

    /// The take that all outputs make, and its entries.
    fn assembled(
        &self,
        tracks: &Tracks<'_>,
        rotations: &[Vec<Output>],
        shifts: &[Vec<Output>],
        others: &[Output],
    ) -> (Take, Vec<Entry>) {
        let take = tracks.take;
        let mut outputs: Vec<&Output> =
            rotations.iter().zip(shifts).flat_map(|(a, b)| b.iter().chain(a)).collect();
        outputs.extend(others);
        let mut made = Take { layers: Vec::new(), ..take.clone() };
        made.layers = (take.layers.iter())
            .map(|layer| nimble_curve_scene::scene::Layer {
                name: layer.name.clone(),
                weight: layer.weight.clone(),
                tracks: Vec::new(),
                ..*layer
            })
            .collect();
        let order: HashMap<(usize, &Target), usize> = (take.tracks().enumerate())
            .map(|(index, (layer, track))| ((layer, &track.target), index))
            .collect();
        let mut placed: Vec<(usize, usize, Track)> = Vec::new();
        let mut entries = Vec::new();
        let mut answered: HashMap<(usize, Target), Option<Role>> = HashMap::new();
        for &output in &outputs {
            let Some((entry, track)) = self.entry(take, output) else { continue };
            if let Some(track) = track {
                let from = output.from.as_ref().map(|(layer, from, _)| (*layer, from));
                let rank = from.and_then(|from| order.get(&from).copied()).unwrap_or(usize::MAX);
                placed.push((rank, output.layer, track));
            }
            if let (Some((layer, from, _)), Role::Main | Role::Failed) = (&output.from, output.role) {
                // One answer a track: that it was carried counts for more than that it was not.
                let place = (*layer, from.clone());
                if output.role == Role::Failed && answered.contains_key(&place) {
                    continue;
                }
                answered.insert(place, Some(output.role));
                entries.push(entry);
            }
        }
        // In the order in which the source has them.
        placed.sort_by_key(|(rank, ..)| *rank);
        for (_, layer, track) in placed {
            made.layers[layer].tracks.push(track);
        }
        for &output in outputs.iter().filter(|output| output.role == Role::Beside) {
            let Some((mut entry, _)) = self.entry(take, output) else { continue };
            if let Some((layer, from, _)) = &output.from {
                // A track without a main answer is answered for by the first one beside; its keys count once.
                let place = (*layer, from.clone());
                if answered.insert(place, Some(output.role)).is_some() {
                    entry.before = 0;
                }
            }
            entries.push(entry);
        }
        for &output in outputs.iter().filter(|output| output.role == Role::Folded) {
            let Some((layer, from, _)) = &output.from else { continue };
            if answered.contains_key(&(*layer, from.clone())) {
                continue;
            }
            answered.insert((*layer, from.clone()), None);
            entries.extend(self.entry(take, output).map(|(entry, _)| entry));
        }
        // What nobody has answered for, and tracks on other rigs.
        let nobody = take.tracks().filter(|(layer, track)| {
            track.target.rig != 0 || !answered.contains_key(&(*layer, track.target.clone()))
        });
        for (layer, track) in nobody {
            // The second track of one property on a layer counts as the first.
            let why = if track.target.rig != 0 {
                "belongs to another rig"
            } else if self.links.left_out.contains(&track.target.node) {
                "left out by the map"
            } else if self.links.of_source(track.target.node).is_some() {
                "its chain has no place for it"
            } else {
                "no partner in the target"
            };
            entries.push(self.bare(take, layer, &track.target, count(track), Fate::LeftOut, why.into()));
        }
        let rank: HashMap<(String, String), usize> = take
            .tracks()
            .enumerate()
            .map(|(index, (layer, track))| {
                ((take.layers[layer].name.clone(), self.source_addresses.property(&track.target)), index)
            })
            .collect();
        entries.sort_by_key(|entry| {
            rank.get(&(entry.layer.clone(), entry.channel.clone())).copied().unwrap_or(usize::MAX)
        });
        (made, entries)
    }

    fn bare(
        &self,
        take: &Take,
        layer: usize,
        from: &Target,
        before: usize,
        fate: Fate,
        note: String,
    ) -> Entry {
        Entry {
            take: take.name.clone(),
            layer: take.layers[layer].name.clone(),
            channel: self.source_addresses.property(from),
            to: None,
            target: Some(from.clone()),
            fate,
            error: None,
            before,
            after: 0,
            note,
        }
    }

    /// The entry of an output and the track that it gives, selection and locks counted.
    fn entry(&self, take: &Take, output: &Output) -> Option<(Entry, Option<Track>)> {
        let target = output.target.as_ref();
        let (layer, from, before) = match &output.from {
            Some((layer, from, count)) => (*layer, from.clone(), *count),
            None => (output.layer, target?.clone(), 0),
        };
        let fate = output.made.as_ref().map_or(Fate::Refitted, |made| made.fate);
        let mut entry = match output.from {
            Some(_) => self.bare(take, layer, &from, before, fate, output.note.clone()),
            None => Entry {
                channel: self.target_addresses.property(&from),
                target: None,
                ..self.bare(
                    take,
                    layer,
                    &Target { node: self.links.all[0].place.node, ..from.clone() },
                    0,
                    fate,
                    output.note.clone(),
                )
            },
        };
        if output.role == Role::Failed {
            return Some((Entry { fate: Fate::LeftOut, ..entry }, None));
        }
        let target = target?;
        entry.to = Some(self.target_addresses.property(target));
        let mut names = vec![entry.channel.clone(), self.target_addresses.property(target)];
        names.push(self.target_addresses.node((0, target.node)).to_owned());
        if output.from.is_some() {
            names.push(self.source_addresses.node((0, from.node)).to_owned());
        }
        if !self.chosen.takes(&names) {
            let left = Entry { fate: Fate::LeftOut, to: None, note: "not selected".into(), ..entry };
            return (output.role != Role::Beside).then_some((left, None));
        }
        let node = self.onto.rig.node(target.node)?;
        if node.is_locked(&target.property, None) {
            return Some((Entry { fate: Fate::LeftOut, note: "locked in the target".into(), ..entry }, None));
        }
        if output.role == Role::Folded {
            return Some((entry, None));
        }
        let made = output.made.as_ref()?;
        let mut controller = made.controller.clone();
        let locked = (0..3).filter(|&axis| node.is_locked(&target.property, Some(axis)));
        let locked: Vec<usize> = locked.collect();
        if !locked.is_empty() {
            let curves: Option<&mut [nimble_curve_curves::curve::Curve]> = match &mut controller {
                nimble_curve_scene::controller::Controller::Components(curves) if curves.len() == 3 => {
                    Some(curves)
                }
                nimble_curve_scene::controller::Controller::Euler(euler) => Some(&mut euler.curves),
                _ => None,
            };
            let letters: Vec<&str> =
                locked.iter().map(|&axis| nimble_curve_scene::address::COMPONENTS[axis]).collect();
            let Some(curves) = curves else {
                let note = format!("{} locked in the target", letters.join(" and "));
                return Some((Entry { fate: Fate::LeftOut, note, ..entry }, None));
            };
            let moving = locked.iter().any(|&axis| !curves[axis].is_empty());
            for &axis in &locked {
                curves[axis] = nimble_curve_curves::curve::Curve::default();
            }
            if moving {
                let more = format!("{} locked in the target: left at rest", letters.join(" and "));
                entry.note = if entry.note.is_empty() { more } else { format!("{}; {more}", entry.note) };
            }
        }
        let track = Track { target: target.clone(), controller };
        entry.after = count(&track);
        entry.error = made.error;
        let was_changed = self.changed.contains(&(take.name.clone(), entry.channel.clone()));
        if entry.fate == Fate::Kept && was_changed {
            entry.fate = Fate::Exact;
        }
        Some((entry, Some(track)))
    }

    /// The ratio of the heights of the topmost paired nodes that move; 1 where there is no height.
    fn hip_ratio(&self) -> f64 {
        let shifts: HashSet<NodeId> = (self.source.takes.iter().flat_map(Take::tracks))
            .filter(|(_, track)| track.target.rig == 0 && track.target.property == "translation")
            .map(|(_, track)| track.target.node)
            .collect();
        let up = self.target.space.up.index();
        let heights = |link: &Link| {
            let a = self.from.places[self.from.position(link.place.node)].translation[up];
            (a, self.onto.places[self.onto.position(link.target)].translation[up])
        };
        let moves = |link: &&Link| link.translation.is_some_and(|node| shifts.contains(&node));
        let found = self.links.all.iter().filter(moves).map(heights).find(|(a, b)| *a > 1e-6 && *b > 1e-6);
        let ratio = found.map_or(1.0, |(a, b)| b / a);
        // The same rig in another unit is the same size.
        if (ratio - 1.0).abs() < 1e-9 { 1.0 } else { ratio }
    }

    /// Names the nodes of both sides that have no partner.
    fn list_unpaired(&self, moved: &HashSet<NodeId>, ledger: &mut Ledger) {
        let names = |rig: &Rig, addresses: &Addresses, is_paired: &dyn Fn(NodeId) -> bool| -> Vec<String> {
            rig.nodes()
                .filter(|(id, node)| !is_paired(*id) && !node.kind.is_support())
                .map(|(id, _)| addresses.node((0, id)).to_owned())
                .collect()
        };
        let missing = names(self.onto.rig, self.target_addresses, &|id| {
            self.links.is_target(id) || moved.contains(&id)
        });
        if !missing.is_empty() {
            ledger
                .notes
                .push(format!("stay at rest in the target, having no partner: {}", missing.join(", ")));
        }
        let carried: HashSet<&str> = (ledger.entries.iter())
            .filter(|entry| entry.fate != Fate::LeftOut)
            .filter_map(|entry| entry.channel.rsplit_once(':').map(|(node, _)| node))
            .collect();
        let idle = names(self.from.rig, self.source_addresses, &|id| {
            self.links.is_source(id) || carried.contains(self.source_addresses.node((0, id)))
        });
        if !idle.is_empty() {
            ledger.notes.push(format!("of the source, without a partner on the target: {}", idle.join(", ")));
        }
    }

    /// Paired bones that point elsewhere in the two reference poses.
    fn apart(&self) -> Vec<Apart> {
        let mut found = Vec::new();
        for link in self.links.all.iter().filter(|link| !link.in_chain) {
            // A bone points to the next pair below it.
            let below = self.links.all.iter().find(|below| {
                self.links.above(self.onto.rig, below.target).is_some_and(|above| above.target == link.target)
                    && self.from.upwards(below.place.node).skip(1).any(|id| id == link.place.node)
            });
            let Some(below) = below else { continue };
            let point = |side: &Side<'_>, a: NodeId, b: NodeId| {
                (side.places[side.position(b)].translation - side.places[side.position(a)].translation)
                    .try_normalize()
            };
            let (Some(a), Some(b)) = (
                point(&self.from, link.place.node, below.place.node),
                point(&self.onto, link.target, below.target),
            ) else {
                continue;
            };
            found.push(Apart {
                source: self.source_addresses.node((0, link.place.node)).to_owned(),
                target: self.target_addresses.node((0, link.target)).to_owned(),
                angle: a.dot(b).clamp(-1.0, 1.0).acos(),
            });
        }
        found.sort_by(|a, b| b.angle.total_cmp(&a.angle));
        found
    }
}
