//! What is said of a match.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::constraint::Constraint;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::rig::NodeKind;
use nimble_curve_scene::scene::{Scene, Target};

use super::away::{Departure, Departures, Unreached, between_keys};
use super::duties::Grip;
use super::options::MatchKeys;
use crate::channel::Bookkeeper;
use crate::control_rig::touched::Touched;
use crate::conversion::ConvertedController;

/// What is said of a switch that was set.
pub const WHOLE_TAKE: &str = "set for the whole take";

/// What became of one take.
#[derive(Clone, Debug, Default)]
pub struct Told {
    /// How many controls there were to key.
    pub stages: usize,
    /// Switches that were set.
    pub switched: BTreeSet<Target>,
    /// Curves of joints that went.
    pub gone: BTreeSet<Target>,
    /// Other controls that rest.
    pub cleared: BTreeSet<NodeRef>,
    /// Curves of controls.
    pub made: BTreeMap<Target, ConvertedController>,
    /// Curves of what couples add to: what is left for these.
    pub rests: BTreeMap<Target, ConvertedController>,
    /// Controls that did it already.
    pub kept: BTreeSet<NodeRef>,
    /// Joints that are driven.
    pub joints: BTreeSet<NodeRef>,
    /// The upper and lower joints of limbs.
    pub bones: BTreeSet<NodeRef>,
    /// Joints that controls hold in the world.
    pub grips: BTreeMap<NodeRef, Grip>,
    /// Joints whose own curves make up for what couples and rolls add.
    pub made_up: BTreeSet<NodeRef>,
    /// Joints that are driven, and no control undoes what drives them.
    pub unkeyed: BTreeSet<NodeRef>,
    /// Joints that controls cannot bring to where they should be, with how far off they are at best.
    pub unreached: BTreeMap<NodeRef, Unreached>,
    /// Whether keys on whole frames alone do not hold the bound, so that others stand between.
    pub between: bool,
    /// Channels of controls that are locked.
    pub locked: BTreeSet<String>,
    /// How far joints are off in the end.
    pub departures: Departures,
}

impl Told {
    /// The properties that do something else than before: those of controls.
    pub fn changed_steps(&self, scene: &Scene) -> BTreeSet<Target> {
        let steps = |(rig, id): &NodeRef| -> Vec<Target> {
            let transform = scene.rigs[*rig].node(*id).map(|of| of.transform.as_slice()).unwrap_or_default();
            transform.iter().map(|step| Target::new(*rig, *id, step.name.clone())).collect()
        };
        let cleared = self.cleared.iter().flat_map(steps);
        // What controls hang on stands elsewhere in another space.
        let serves = |node: &NodeRef| {
            let kind = scene.rigs[node.0].node(node.1).map(|of| of.kind);
            kind.is_some_and(NodeKind::is_for_controls)
        };
        let turned = scene
            .constraints
            .iter()
            .filter(|own| own.properties().iter().any(|of| self.switched.contains(of)));
        let bases: Vec<NodeRef> = turned.flat_map(Constraint::driven).filter(serves).collect();
        let cleared = cleared.chain(bases.iter().flat_map(steps));
        self.made.keys().chain(&self.switched).cloned().chain(cleared).collect()
    }
}

/// Writes down what became of each channel of a take, and what a person has to know.
pub fn tell(
    (scene, result): (&Scene, &Scene),
    index: usize,
    told: &Told,
    (keys, limit): (MatchKeys, f64),
    ledger: &mut Ledger,
) {
    let addresses = Addresses::new(scene);
    let (take, after) = (&scene.takes[index], &result.takes[index]);
    let books = Bookkeeper { addresses: &addresses, take };
    let all = (0..scene.constraints.len()).collect();
    let touched = Touched::by(scene, &all);
    let mut before: BTreeMap<&Target, usize> = BTreeMap::new();
    for (layer, track) in take.tracks() {
        let target = &track.target;
        let is_active = take.layers[layer].is_active();
        let node = (target.rig, target.node);
        let is_made = told.made.contains_key(target) || told.rests.contains_key(target);
        if is_active && (is_made || told.switched.contains(target)) {
            *before.entry(target).or_default() += track.controller.value_count();
        } else if is_active && told.gone.contains(target) {
            let by = touched.by.get(&node).map_or("couples", String::as_str);
            let note = format!("its controls have it now: {by}");
            let error = MeasuredError::none(scene_quantity(scene, target));
            ledger.entries.push(books.changed(layer, track, Fate::Refitted, 0, Some(error), note));
        } else if is_active && told.cleared.contains(&node) {
            ledger.entries.push(books.changed(
                layer,
                track,
                Fate::NotSelected,
                0,
                None,
                "another control has it",
            ));
        } else {
            ledger.entries.push(books.kept(layer, track));
        }
    }
    for target in &told.switched {
        let count = count_of(after, target);
        ledger.entries.push(Entry {
            layer: layer_of(after, target),
            note: WHOLE_TAKE.to_owned(),
            ..entry(&books, target, before.get(target).copied().unwrap_or(0), count, Fate::Exact)
        });
    }
    for (target, made) in &told.made {
        let count = count_of(after, target);
        let known = before.get(target).copied().unwrap_or(0);
        let error = made.error.map(|error| error.in_frames(scene.rate));
        let layer = layer_of(after, target);
        ledger.entries.push(Entry { error, layer, ..entry(&books, target, known, count, made.fate) });
    }
    for (target, made) in &told.rests {
        let known = before.get(target).copied().unwrap_or(0);
        let error = made.error.map(|error| error.in_frames(scene.rate));
        let note = "beside what drives it".to_owned();
        let entry = entry(&books, target, known, count_of(after, target), made.fate);
        ledger.entries.push(Entry { error, note, layer: layer_of(after, target), ..entry });
    }
    notes(scene, &addresses, (&take.name, told), (keys, limit), ledger);
}

fn scene_quantity(scene: &Scene, target: &Target) -> Quantity {
    let kind = scene.rigs.get(target.rig).and_then(|rig| rig.property_kind(target.node, &target.property));
    kind.map_or(Quantity::Number, |kind| kind.quantity())
}

/// The layer that a property's curves went to; that for such curves where it rests.
fn layer_of(take: &nimble_curve_scene::scene::Take, target: &Target) -> String {
    let own = take.active_tracks().find(|(_, track)| track.target == *target).map(|(layer, _)| layer);
    own.or(take.layers.first()).map_or_else(|| "base".to_owned(), |layer| layer.name.clone())
}

fn count_of(take: &nimble_curve_scene::scene::Take, target: &Target) -> usize {
    let own = take.active_tracks().filter(|(_, track)| track.target == *target);
    own.map(|(_, track)| track.controller.value_count()).sum()
}

fn entry(books: &Bookkeeper<'_>, target: &Target, before: usize, after: usize, fate: Fate) -> Entry {
    Entry {
        take: books.take.name.clone(),
        layer: String::new(),
        channel: books.addresses.property(target),
        to: None,
        target: Some(target.clone()),
        fate,
        error: None,
        before,
        after,
        note: String::new(),
    }
}

/// How far off something is, in words.
fn far(scene: &Scene, departure: &Departure) -> String {
    let place = departure.place.0 * scene.space.metres_per_unit * 1000.0;
    format!(
        "{place:.2} mm (frame {:.2}), {:.2} deg (frame {:.2})",
        departure.place.1,
        departure.turn.0.to_degrees(),
        departure.turn.1
    )
}

fn notes(
    scene: &Scene,
    addresses: &Addresses,
    (take, told): (&str, &Told),
    (keys, limit): (MatchKeys, f64),
    ledger: &mut Ledger,
) {
    for (joint, unreached) in &told.unreached {
        ledger.notes.push(format!(
            "{take}: {} is not reached: at best {} off",
            addresses.node(*joint),
            far(scene, &unreached.best)
        ));
    }
    for (joint, departure) in told.departures.all.iter().filter(|(joint, _)| told.bones.contains(joint)) {
        if keys == MatchKeys::Bounded && departure.turn.0 > limit && !told.unreached.contains_key(joint) {
            ledger.notes.push(format!(
                "{take}: {} turns otherwise by up to {:.2} deg (frame {:.2}): the ends of its limb are what is held",
                addresses.node(*joint),
                departure.turn.0.to_degrees(),
                departure.turn.1
            ));
        }
    }
    for (joint, departure) in &told.departures.straight {
        ledger.notes.push(format!(
            "{take}: {} where its limb is straighter than 99.5 %: {} off",
            addresses.node(*joint),
            far(scene, departure)
        ));
    }
    if keys == MatchKeys::Same {
        let reached = told.departures.all.iter().filter(|(joint, _)| !told.unreached.contains_key(joint));
        ledger.notes.extend(between_keys(scene, addresses, take, reached));
    }
    if told.between {
        ledger.notes.push(format!(
            "{take}: keys stand between frames as well: what moves joints turns too sharply for keys on whole frames alone"
        ));
    }
    if !told.locked.is_empty() {
        let names: Vec<&str> = told.locked.iter().map(String::as_str).collect();
        ledger.notes.push(format!("{take}: locked, and as they were: {}", names.join(", ")));
    }
    if !told.kept.is_empty() {
        let names: Vec<&str> = told.kept.iter().map(|node| addresses.node(*node)).collect();
        ledger.notes.push(format!("{take}: these do it already: {}", names.join(", ")));
    }
}
