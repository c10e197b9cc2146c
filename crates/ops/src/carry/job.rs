//! What carrying a take needs, and what comes of it in the world.

use std::collections::HashSet;

use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::choice::Choice;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Scene, Take, Track};

use super::attributes::AttributeMap;
use super::links::{Links, NodePairing};
use super::map::NameMap;
use super::output::Output;
use super::side::Side;
use super::tracks::Tracks;
use super::unlike::Unsaid;
use super::{CarriedRig, CarryError, CarryOptions, PoseAt, TravelBy};
use crate::Tolerance;
use crate::rigs::RigPairing;
use crate::rotation_conversion::ConvertedRotation;
use crate::space::{in_space, mirrored};

pub(super) struct Job<'a> {
    /// In the target's space, mirrored where the map says so.
    pub(super) source: &'a Scene,
    pub(super) target: &'a Scene,
    pub(super) from: Side<'a>,
    pub(super) onto: Side<'a>,
    pub(super) links: Links,
    pub(super) numbers: AttributeMap,
    pub(super) chosen: &'a Choice,
    /// Nodes of the target whose steps cannot say what would come to them.
    pub(super) unsaid: &'a Unsaid,
    pub(super) source_addresses: &'a Addresses,
    pub(super) target_addresses: &'a Addresses,
    /// Takes and channels that the target's space changed.
    pub(super) changed: &'a HashSet<(String, String)>,
    pub(super) scale: f64,
    /// What that was read from.
    pub(super) by: TravelBy,
    pub(super) same_rigs: bool,
    pub(super) onto_controls: bool,
    pub(super) tolerance: Tolerance,
    pub(super) per_joint: bool,
    pub(super) handles: Option<Handles>,
}

/// How far a take's result is from its source.
pub(super) struct Measured {
    pub(super) error: MeasuredError,
    pub(super) worst: Option<NodeId>,
}

/// The source in the target's space, mirrored where the map says so.
pub(super) struct Respaced {
    pub scene: Scene,
    /// The pose of reference that went along.
    pose: Option<(Take, Ticks)>,
    /// Takes and channels that the target's space changed.
    changed: HashSet<(String, String)>,
    /// What did not come into that space.
    pub notes: Vec<String>,
}

impl Respaced {
    pub fn of(source: &Scene, target: &Scene, mirror: Option<usize>, pose: Option<&PoseAt>) -> Respaced {
        // The pose of reference goes along, as one take more.
        let takes = source.takes.iter().cloned().chain(pose.map(|pose| pose.take.clone())).collect();
        let with_pose = Scene { takes, ..source.clone() };
        let (mut scene, respaced) = in_space(&with_pose, &target.space);
        let mut changed = changed_channels(&respaced);
        let lost = respaced.entries.iter().filter(|entry| entry.fate == Fate::LeftOut);
        let notes = lost.map(|entry| format!("{}: {}", entry.channel, entry.note)).collect();
        if let Some(axis) = mirror {
            let (reflected, entries) = mirrored(&scene, axis);
            changed.extend(changed_channels(&entries));
            scene = reflected;
        }
        let pose = pose.and_then(|pose| Some((scene.takes.pop()?, pose.time)));
        Respaced { scene, pose, changed, notes }
    }
}

fn changed_channels(ledger: &Ledger) -> HashSet<(String, String)> {
    let changed = ledger.entries.iter().filter(|entry| entry.fate == Fate::Exact);
    changed.map(|entry| (entry.take.clone(), entry.channel.clone())).collect()
}

/// What the jobs of all pairs of rigs have in common.
pub(super) struct Common<'a> {
    pub space: &'a Respaced,
    pub target: &'a Scene,
    pub addresses: (&'a Addresses, &'a Addresses),
    pub chosen: &'a Choice,
    pub unsaid: &'a Unsaid,
    /// How many pairs there are.
    pub count: usize,
}

impl<'a> Common<'a> {
    /// What carrying one rig onto another needs; nothing where the two are one of several pairs and have no node in common.
    pub fn job(
        &self,
        map: &NameMap,
        pair: RigPairing,
        options: &CarryOptions,
    ) -> Result<Option<Job<'a>>, CarryError> {
        let source = &self.space.scene;
        let Some(links) = Links::of_some(source, self.target, self.addresses, map, pair, self.count)? else {
            return Ok(None);
        };
        let pose = self.space.pose.as_ref().map(|(take, time)| (take, *time));
        let target_pose = options.target_pose.as_ref().map(|pose| (&pose.take, pose.time));
        Ok(Some(Job {
            source,
            target: self.target,
            from: Side::of(source, pair.source, pose)?,
            onto: Side::of(self.target, pair.target, target_pose)?,
            links,
            numbers: AttributeMap::new(source, self.target, self.addresses, map, pair)?,
            chosen: self.chosen,
            unsaid: self.unsaid,
            source_addresses: self.addresses.0,
            target_addresses: self.addresses.1,
            changed: &self.space.changed,
            scale: 1.0,
            by: TravelBy::Nothing,
            same_rigs: options.same_rigs,
            onto_controls: options.onto_controls,
            tolerance: options.tolerance,
            per_joint: options.per_joint,
            handles: options.handles,
        }))
    }
}

/// A take as it came over on one rig.
pub(super) struct CarriedTake {
    pub take: Take,
    pub entries: Vec<Entry>,
    pub measured: Measured,
    /// What holding feet came to, where one stands.
    pub feet_held: Option<String>,
}

impl Job<'_> {
    /// Carries a take, its feet held where that is asked for.
    pub fn carried(&self, take: &Take, options: &CarryOptions) -> Result<CarriedTake, CarryError> {
        let tracks = Tracks::of(take, self.from.index, self.from.rig);
        let (mut made, mut entries, measured) = self.take(&tracks)?;
        let feet_held = match options.hold_feet {
            true => self.hold_feet(take, &mut made, &mut entries)?,
            false => None,
        };
        Ok(CarriedTake { take: made, entries, measured, feet_held })
    }

    /// Whether a node hangs in rigs that are the same on the same one as it did: it is the same whatever its transform is.
    pub fn is_untouched(&self, link: &NodePairing) -> bool {
        let above = self.onto.rig.parent(link.target).and_then(|id| self.links.of_target(id));
        self.same_rigs && self.from.rig.parent(link.place.node) == above.map(|above| above.place.node)
    }

    /// A track of such a node.
    pub fn as_it_is(&self, link: &NodePairing, layer: usize, track: &Track) -> Output {
        let controller = track.controller.clone();
        let kept = ConvertedRotation { controller, fate: Fate::Kept, error: None, note: String::new() };
        Output::made(layer, track, &self.onto.target(link.target, &track.target.property), kept)
    }

    /// Takes note of the node that is farthest off in the world, of all rigs and takes.
    pub fn note_worst(&self, measured: &Measured, (error, worst): &mut (MeasuredError, Option<String>)) {
        if measured.error.count > 0 && (worst.is_none() || measured.error.largest > error.largest) {
            *worst = measured.worst.map(|node| self.target_addresses.node(self.onto.node(node)).to_owned());
        }
        error.merge(&measured.error);
    }

    pub fn summary(&self) -> CarriedRig {
        CarriedRig {
            rigs: RigPairing { source: self.from.index, target: self.onto.index },
            pairs: self.links.all.len(),
            travel: self.scale,
            by: self.by,
        }
    }
}
