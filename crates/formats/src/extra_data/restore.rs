//! A scene as it was, out of the extra data and what others changed.

use std::collections::{BTreeMap, HashMap, HashSet};

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::{Node, OpValue, Rig, TransformOp};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};

use super::fingerprint::{rest_prints, track_prints};
use super::samples::{given_back, unfolded};
use super::{ExtraData, Keys, Marks, Opened, Sampled, channel};
use crate::error::Fault;

impl Opened {
    /// The scene that was written, with what has changed since taken from `plain`; and what was let go.
    ///
    /// # Errors
    /// Where the extra data speaks of nodes that its own scene has not.
    pub fn restore(self, plain: Scene, marks: &Marks) -> Result<(Scene, Vec<String>), Fault> {
        Restoring::new(&self.data, self.original, plain, marks)?.run()
    }
}

/// The work of putting a scene together from what was and what is.
pub(super) struct Restoring<'a> {
    pub(super) extra_data: &'a ExtraData,
    pub(super) original: Scene,
    /// What the format alone gives, in the space of the original.
    pub(super) plain: Scene,
    /// What each node of the plain scene was called when it was written; those that came later by names of their own.
    pub(super) keys: Keys,
    /// For each node of the plain scene, the one of the original.
    pub(super) origin: HashMap<NodeRef, NodeRef>,
    /// See [`Marks`].
    without_numbers: bool,
    pub(super) rests: BTreeMap<String, String>,
    pub(super) tracks: HashMap<String, BTreeMap<String, String>>,
}

/// Whether a channel is that of a number, and not a step of a transform.
fn is_number(channel: &str) -> bool {
    !["translation", "rotation", "scale"].iter().any(|step| channel.ends_with(&format!(":{step}")))
}

/// All nodes of a scene.
fn nodes(scene: &Scene) -> impl Iterator<Item = NodeRef> {
    scene.rigs.iter().enumerate().flat_map(|(index, rig)| rig.nodes().map(move |(id, _)| (index, id)))
}

/// What each node was called when it was written: by the mark that it carries, else by its place and name.
fn keys_of(extra_data: &ExtraData, plain: &Scene, marks: &Marks) -> Keys {
    let addresses = nameless(plain);
    let mut keys = Keys::new();
    let mut taken: HashSet<&str> = HashSet::new();
    // Of copies of a node, which carry the same mark, the first is it.
    for node in nodes(plain) {
        let key = marks.by_node.get(&node).and_then(|mark| extra_data.marks.get(mark));
        if let Some(key) = key.filter(|key| taken.insert(key)) {
            keys.insert(node, key.clone());
        }
    }
    for &node in addresses.nodes() {
        let text = addresses.node(node);
        if let (false, Some((key, _))) = (keys.contains_key(&node), extra_data.rests.get_key_value(text))
            && taken.insert(key)
        {
            keys.insert(node, key.clone());
        }
    }
    for &node in addresses.nodes() {
        // No address starts with a slash.
        keys.entry(node).or_insert_with(|| format!("/{}", addresses.node(node)));
    }
    keys
}

/// The addresses of a plain scene without the names of its rigs, which are those of files.
pub(super) fn nameless(plain: &Scene) -> Addresses {
    let mut bare = Scene { rigs: plain.rigs.clone(), ..Scene::new(plain.rate, plain.space) };
    for (index, rig) in bare.rigs.iter_mut().enumerate() {
        rig.name = format!("rig{index}");
    }
    Addresses::new(&bare)
}

impl<'a> Restoring<'a> {
    pub(super) fn new(
        extra_data: &'a ExtraData,
        mut original: Scene,
        plain: Scene,
        marks: &Marks,
    ) -> Result<Restoring<'a>, Fault> {
        let there = Addresses::new(&original);
        let keys = keys_of(extra_data, &plain, marks);
        let mut origin = HashMap::new();
        for (&now, key) in &keys {
            if let Some(then) = extra_data.nodes.get(key) {
                let then = there.find(then).map_err(|error| Fault::in_part("extra data", error))?;
                origin.insert(now, then);
            }
        }
        let rests = rest_prints(&plain, &keys);
        let tracks =
            (plain.takes.iter()).map(|take| (take.name.clone(), track_prints(take, &keys))).collect();
        let (plain, _) = in_space(&plain, &original.space);
        for sampled in &extra_data.sampled {
            fill_in(&mut original, &there, &plain, &origin, sampled)
                .map_err(|error| Fault::in_part("extra data", error))?;
        }
        Ok(Restoring {
            extra_data,
            original,
            plain,
            keys,
            origin,
            without_numbers: marks.without_numbers,
            rests,
            tracks,
        })
    }

    pub(super) fn run(self) -> Result<(Scene, Vec<String>), Fault> {
        let same_takes = self.plain.takes.iter().map(|take| &take.name).collect::<HashSet<_>>()
            == self.extra_data.tracks.keys().collect::<HashSet<_>>();
        let unchanged = self.rests == self.extra_data.rests
            && same_takes
            && self.extra_data.tracks.iter().all(|(take, prints)| self.tracks.get(take) == Some(prints));
        let renamed = self.renamed();
        if unchanged && renamed.is_empty() {
            return Ok((self.original, Vec::new()));
        }
        let mut notes = Vec::new();
        // The original's rigs where all their nodes are still there and no others; else those of the file.
        let same_nodes =
            self.origin.len() == self.keys.len() && self.origin.len() == self.extra_data.nodes.len();
        let (mut rigs, place): (Vec<Rig>, HashMap<NodeRef, NodeRef>) = if same_nodes {
            (self.original.rigs.clone(), self.origin.clone())
        } else {
            notes.push(
                "its nodes are others than those that were written: their hierarchy is taken as it is"
                    .to_owned(),
            );
            (self.plain.rigs.clone(), self.keys.keys().map(|&node| (node, node)).collect())
        };
        let mut whole_again: HashSet<NodeRef> = HashSet::new();
        let mut moved_rests = 0;
        for node in nodes(&self.plain) {
            let key = &self.keys[&node];
            let (rig, id) = place[&node];
            let (Some(now), Some(then)) =
                (self.node(node), self.origin.get(&node).and_then(|&then| self.then(then)))
            else {
                continue;
            };
            let same = self.rests.get(key) == self.extra_data.rests.get(key);
            let mut joined = then.clone();
            if renamed.contains(&node) {
                joined.name.clone_from(&now.name);
            }
            moved_rests += usize::from(!same);
            if !same && !set_rest(&mut joined.transform, now) {
                joined.transform.clone_from(&now.transform);
                whole_again.insert(node);
            }
            if then.canonical().is_none() && self.any_track_changed(node) {
                joined.transform.clone_from(&now.transform);
                whole_again.insert(node);
            }
            if let Some(target) = rigs.get_mut(rig).and_then(|rig| rig.node_mut(id)) {
                *target = joined;
            }
        }
        if moved_rests > 0 {
            notes.push(format!(
                "{moved_rests} nodes rest elsewhere than when they were written: they rest as they are now"
            ));
        }
        let driven = self.driven();
        let lets_go =
            !self.original.constraints.is_empty() && (!same_nodes || self.any_was_solved_anew(&driven));
        if lets_go {
            notes.push(
                "what constraints drive was changed since it was written: its curves win, and the constraints were let go"
                    .to_owned(),
            );
            whole_again.extend(driven);
        }
        let mut takes = Vec::with_capacity(self.plain.takes.len());
        for take in &self.plain.takes {
            takes.push(self.take(take, &rigs, &place, &whole_again, &mut notes));
        }
        let names: HashSet<&str> = self.plain.takes.iter().map(|take| take.name.as_str()).collect();
        for gone in self.original.takes.iter().filter(|take| {
            !names.contains(take.name.as_str()) && self.extra_data.tracks.contains_key(&take.name)
        }) {
            notes.push(format!("the take '{}' was taken out: its extra data was let go", gone.name));
        }
        // Takes that the format could not show at all are as they were.
        let hidden =
            self.original.takes.iter().filter(|take| !self.extra_data.tracks.contains_key(&take.name));
        if same_nodes {
            takes.extend(hidden.cloned());
        }
        let constraints = if lets_go { Vec::new() } else { self.original.constraints };
        let scene = Scene { rigs, takes, constraints, ..self.original };
        Ok((scene, notes))
    }

    pub(super) fn node(&self, (rig, id): NodeRef) -> Option<&Node> {
        self.plain.rigs.get(rig)?.node(id)
    }

    pub(super) fn then(&self, (rig, id): NodeRef) -> Option<&Node> {
        self.original.rigs.get(rig)?.node(id)
    }

    pub(super) fn any_track_changed(&self, node: NodeRef) -> bool {
        ["translation", "rotation", "scale"].into_iter().any(|property| {
            let channel = self.channel(node, property);
            let names = self.extra_data.tracks.keys().chain(self.tracks.keys());
            names.into_iter().any(|take| self.is_changed(take, &channel))
        })
    }

    /// The nodes, as they are now, that constraints drove.
    fn driven(&self) -> HashSet<NodeRef> {
        let then: HashSet<NodeRef> = (self.original.constraints.iter())
            .flat_map(|own| own.driven().into_iter().chain([own.node]))
            .collect();
        self.origin.iter().filter(|(_, own)| then.contains(own)).map(|(now, _)| *now).collect()
    }

    /// Whether somebody gave nodes that constraints drove other curves, or new takes.
    fn any_was_solved_anew(&self, driven: &HashSet<NodeRef>) -> bool {
        let is_new = |take: &&Take| !self.extra_data.tracks.contains_key(&take.name);
        let mut fresh = self.plain.takes.iter().filter(is_new).flat_map(|take| take.tracks());
        fresh.any(|(_, track)| driven.contains(&(track.target.rig, track.target.node)))
            || driven.iter().any(|node| self.any_track_changed(*node))
    }

    pub(super) fn channel(&self, node: NodeRef, property: &str) -> String {
        channel(&self.keys, node, property)
    }

    /// Nodes that somebody has called otherwise since. Names that differ by signs alone are what a program made of them
    /// that does not allow those: the nodes are called as they were.
    fn renamed(&self) -> HashSet<NodeRef> {
        let letters = |name: &str| -> String { name.chars().filter(|c| c.is_alphanumeric()).collect() };
        let is_other = |(now, then): (&NodeRef, &NodeRef)| {
            let (is, was) = (&self.node(*now)?.name, &self.then(*then)?.name);
            // Without a letter it is told by what stands in for signs.
            let stands_in = |(is, was): (char, char)| is == was || matches!(is, '_' | ' ' | '\u{fffd}');
            let is_plain =
                || is.chars().count() == was.chars().count() && is.chars().zip(was.chars()).all(stands_in);
            (letters(is) != letters(was) || (letters(is).is_empty() && !is_plain())).then_some(*now)
        };
        self.origin.iter().filter_map(is_other).collect()
    }

    pub(super) fn is_changed(&self, take: &str, channel: &str) -> bool {
        let now = self.tracks.get(take).and_then(|prints| prints.get(channel));
        let then = self.extra_data.tracks.get(take).and_then(|prints| prints.get(channel));
        let is_unseen = self.without_numbers && now.is_none() && is_number(channel);
        now != then && !is_unseen
    }

    pub(super) fn take(
        &self,
        now: &Take,
        rigs: &[Rig],
        place: &HashMap<NodeRef, NodeRef>,
        whole_again: &HashSet<NodeRef>,
        notes: &mut Vec<String>,
    ) -> Take {
        let then = self.original.takes.iter().find(|take| take.name == now.name);
        let mut take = match then {
            Some(then) => then.clone(),
            None => Take { layers: vec![Layer::base(Vec::new())], ..now.clone() },
        };
        // What stands in the scene for a node of the original, and whether its tracks are as they were.
        let back: HashMap<NodeRef, NodeRef> = self.origin.iter().map(|(now, then)| (*then, *now)).collect();
        let mut let_go: Vec<String> = Vec::new();
        let mut restored_channels = HashSet::new();
        for layer in &mut take.layers {
            layer.tracks.retain_mut(|track| {
                let Some(&node) = back.get(&(track.target.rig, track.target.node)) else { return false };
                let is_step = self
                    .then((track.target.rig, track.target.node))
                    .is_some_and(|node| node.op(&track.target.property).is_some());
                let channel = self.channel(node, &track.target.property);
                let changed =
                    self.is_changed(&now.name, &channel) || (is_step && whole_again.contains(&node));
                if changed {
                    let_go.push(channel);
                    return false;
                }
                restored_channels.insert(channel);
                (track.target.rig, track.target.node) = place[&node];
                true
            });
        }
        for (_, track) in now.tracks() {
            let node = (track.target.rig, track.target.node);
            let channel = self.channel(node, &track.target.property);
            let is_fresh = self.is_changed(&now.name, &channel) || whole_again.contains(&node);
            if !is_fresh || restored_channels.contains(&channel) {
                continue;
            }
            let (rig, id) = place[&node];
            let target = Target { rig, node: id, property: track.target.property.clone() };
            let Some(controller) = unfolded(&track.controller, rigs, &target) else { continue };
            if let Some(base) = take.layers.first_mut() {
                base.tracks.push(Track { target, controller });
            }
        }
        let_go.sort();
        let_go.dedup();
        if !let_go.is_empty() {
            notes.push(format!(
                "take '{}': changed since it was written, so that its curves as they are now win and the extra data was let go: {}",
                now.name,
                listed(&let_go)
            ));
        }
        if let Some(keys) = take.key_range() {
            take.range = if then.is_some() { take.range } else { keys };
        }
        take
    }
}

/// Puts samples that the format held into the scene that was written; without effect where they are gone.
pub(super) fn fill_in(
    original: &mut Scene,
    addresses: &Addresses,
    plain: &Scene,
    origin: &HashMap<NodeRef, NodeRef>,
    sampled: &Sampled,
) -> Result<(), String> {
    let target =
        addresses.find_property(&original.rigs, &sampled.channel).map_err(|error| error.to_string())?;
    let order = sampled.order.as_ref().map(|order| order.parse::<RotationOrder>());
    let order = order.transpose().map_err(|error| error.to_string())?;
    let take = original.takes.get_mut(sampled.take).ok_or("speaks of a take that is not there")?;
    let now = plain.takes.iter().find(|now| now.name == take.name);
    let is_it = |track: &&Track| {
        track.target.property == target.property
            && origin.get(&(track.target.rig, track.target.node)) == Some(&(target.rig, target.node))
    };
    let Some(track) = now.and_then(|now| now.tracks().map(|(_, track)| track).find(is_it)) else {
        return Ok(());
    };
    let Some(controller) = given_back(&track.controller, order, &original.rigs, &target) else {
        return Ok(());
    };
    let layer = take.layers.get_mut(sampled.layer).ok_or("speaks of a layer that is not there")?;
    layer.tracks.insert(sampled.at.min(layer.tracks.len()), Track { target, controller });
    Ok(())
}

pub(super) fn listed(channels: &[String]) -> String {
    let shown = channels.iter().take(6).cloned().collect::<Vec<_>>().join(", ");
    match channels.len() {
        0..=6 => shown,
        more => format!("{shown} and {} more", more - 6),
    }
}

/// Gives the steps of a canonical transform the rest of a plain node; whether that could be done.
pub(super) fn set_rest(transform: &mut [TransformOp], now: &Node) -> bool {
    let holder = Node { transform: transform.to_vec(), ..now.clone() };
    let (Some(then), Some(now)) = (holder.canonical(), now.canonical()) else { return false };
    let rotation = then.before.conjugate() * now.rest_rotation() * then.after.conjugate();
    for op in transform {
        op.value = match (op.name.as_str(), op.value) {
            ("translation", _) => OpValue::Translate(now.translation),
            ("scale", _) => OpValue::Scale(now.scale),
            ("rotation", OpValue::Rotate { order, angles }) => {
                OpValue::Rotate { order, angles: nearest_euler(order, rotation, angles) }
            }
            ("rotation", _) => OpValue::Orient(rotation),
            (_, same) => same,
        };
    }
    true
}
