//! Some nodes of the rigs only: controls and helpers do not belong in a file for an engine.

use std::collections::{BTreeSet, HashMap, HashSet};

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::rotation::to_vector;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::choice::NothingChosen;
use nimble_curve_scene::judge::Claim;
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::rig::{Node, NodeId, OpValue, ROTATION, Rig, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{Scene, Take};
use thiserror::Error;

use super::Tolerance;
use super::carry::{CarryError, CarryOptions, NameMap, NodePair, PairSpace, carry};

/// A scene without some of its nodes.
#[derive(Clone, Debug)]
pub struct Thinned {
    /// The scene.
    pub scene: Scene,
    /// What became of every channel.
    pub ledger: Ledger,
    /// That all that stayed moves in the world as it did.
    pub claim: Claim,
}

/// Why nodes cannot be taken out.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum ThinError {
    /// A pattern or set without a node.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// What stays cannot take over what is taken out.
    #[error(transparent)]
    Carry(#[from] CarryError),
}

/// A scene with the nodes that are in `keep` and no others.
///
/// What hung on a node that goes hangs on the nearest one above that stays, and moves in the world as it did: exactly where nothing that
/// goes moves, or where translations add up; else it is fitted within the tolerance. A node that goes and cannot be told by a translation
/// and a rotation of what hangs on it, as it is scaled or is a list of other steps, stays after all, and a note says so.
///
/// # Errors
/// See [`ThinError`].
pub fn thin(scene: &Scene, keep: &BTreeSet<NodeRef>, tolerance: Tolerance) -> Result<Thinned, ThinError> {
    let mut ledger = Ledger::default();
    let keep = with_needed(scene, keep, &mut ledger);
    let count: usize = scene.rigs.iter().map(Rig::len).sum();
    if keep.len() == count {
        return Ok(Thinned { scene: scene.clone(), ledger, claim: Claim::same(scene, scene) });
    }
    let (mut target, pairs) = bare(scene, &keep);
    // What a rig locks it has, all the same, and keeps.
    let locks = unlocked(&mut target);
    if scene.takes.is_empty() {
        locked(&mut target, locks);
        return Ok(Thinned { scene: target, ledger, claim: Claim::nothing() });
    }
    let (from, onto) = (Addresses::new(scene), Addresses::new(&target));
    let pair = |(source, target): &(NodeRef, NodeRef)| NodePair {
        source: from.node(*source).to_owned(),
        target: onto.node(*target).to_owned(),
        space: PairSpace::World,
    };
    let map = NameMap { nodes: pairs.iter().map(pair).collect(), ..NameMap::default() };
    let options = CarryOptions { tolerance, scale: Some(1.0), same_rigs: true, ..CarryOptions::default() };
    let mut carried = carry(scene, &target, &map, &options)?;
    locked(&mut carried.scene, locks);
    let mut notes = ledger.notes;
    notes.extend(carried.ledger.notes);
    let ledger = Ledger { entries: carried.ledger.entries, notes };
    Ok(Thinned { scene: carried.scene, ledger, claim: carried.claim })
}

/// The nodes to keep, and those above them without which they could not stand where they do.
fn with_needed(scene: &Scene, keep: &BTreeSet<NodeRef>, ledger: &mut Ledger) -> BTreeSet<NodeRef> {
    let mut all = keep.clone();
    let addresses = Addresses::new(scene);
    let mut needed: Vec<String> = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
        // From below: whether one that stays hangs on it.
        let mut carries: HashSet<NodeId> = HashSet::new();
        for &id in ids.iter().rev() {
            let stays = all.contains(&(index, id));
            // Under a scale places are other numbers.
            let is_simple = |id: NodeId| {
                let mut upwards = std::iter::successors(Some(id), |id| rig.parent(*id));
                upwards.all(|id| is_turn_and_place(scene, (index, id)))
            };
            if !stays && carries.contains(&id) && !is_simple(id) {
                all.insert((index, id));
                needed.push(addresses.node((index, id)).to_owned());
            }
            let is_held = all.contains(&(index, id));
            if let Some(parent) = rig.parent(id).filter(|_| is_held || carries.contains(&id)) {
                // What is a list of other steps cannot take over anything.
                let has_view = rig.node(id).is_some_and(|node| node.canonical().is_some());
                if is_held && !has_view && all.insert((index, parent)) {
                    needed.push(addresses.node((index, parent)).to_owned());
                }
                carries.insert(parent);
            }
        }
    }
    if !needed.is_empty() {
        needed.reverse();
        ledger.notes.push(format!(
            "stay, as what hangs on them needs their scale or their steps: {}",
            needed.join(", ")
        ));
    }
    all
}

/// Whether a node does nothing to what hangs on it but to turn and to place it.
fn is_turn_and_place(scene: &Scene, (rig, id): NodeRef) -> bool {
    let Some(view) = scene.rigs[rig].node(id).and_then(Node::canonical) else { return false };
    let mut tracks = scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| &track.target);
    let is_step = |name: &str| name == TRANSLATION || name == ROTATION;
    let is_other = |name: &str| scene.rigs[rig].node(id).is_some_and(|node| node.op(name).is_some());
    let is_scaled = tracks.any(|target| {
        (target.rig, target.node) == (rig, id) && !is_step(&target.property) && is_other(&target.property)
    });
    (view.scale - DVec3::ONE).abs().max_element() < 1e-9 && !is_scaled
}

/// The rigs at rest with some nodes only, and which node is which.
fn bare(scene: &Scene, keep: &BTreeSet<NodeRef>) -> (Scene, Vec<(NodeRef, NodeRef)>) {
    let mut rigs: Vec<Rig> = Vec::new();
    let mut pairs = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        let mut own = Rig::new(rig.name.clone());
        let mut ids: HashMap<NodeId, NodeId> = HashMap::new();
        for (id, node) in rig.nodes().filter(|(id, _)| keep.contains(&(index, *id))) {
            let mut above = rig.parent(id);
            let mut between = DAffine3::IDENTITY;
            while let Some(parent) = above.filter(|parent| !ids.contains_key(parent)) {
                between = rig.node(parent).map_or(DAffine3::IDENTITY, Node::rest) * between;
                above = rig.parent(parent);
            }
            let hangs_elsewhere = above != rig.parent(id);
            let node = if hangs_elsewhere { moved(node, &between) } else { node.clone() };
            let parent = above.map(|parent| ids[&parent]);
            let new = own.add(parent, node).expect("what it hangs on stands before it");
            ids.insert(id, new);
            pairs.push(((index, id), (rigs.len(), new)));
        }
        if !own.is_empty() {
            rigs.push(own);
        }
    }
    (Scene { rigs, takes: Vec::new(), constraints: Vec::new(), ..scene.clone() }, pairs)
}

/// Takes away what the nodes of a scene lock.
fn unlocked(scene: &mut Scene) -> Vec<(NodeRef, Vec<String>)> {
    let mut locks = Vec::new();
    for (index, rig) in scene.rigs.iter_mut().enumerate() {
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
        for id in ids {
            if let Some(node) = rig.node_mut(id).filter(|node| !node.locked.is_empty()) {
                locks.push(((index, id), std::mem::take(&mut node.locked)));
            }
        }
    }
    locks
}

/// Puts locks back.
fn locked(scene: &mut Scene, locks: Vec<(NodeRef, Vec<String>)>) {
    for ((rig, id), locked) in locks {
        if let Some(node) = scene.rigs[rig].node_mut(id) {
            node.locked = locked;
        }
    }
}

/// A node with a transform above it taken into its own.
fn moved(node: &Node, above: &DAffine3) -> Node {
    let turn = snapped(DQuat::from_mat3(&above.matrix3).normalize());
    let Some(view) = node.canonical() else { return node.clone() };
    let mut node = node.clone();
    let place = turn * view.translation + above.translation;
    let step = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
    node.transform.retain(|op| op.name != TRANSLATION && op.name != "before");
    let before = (turn * view.before).normalize();
    if to_vector(before).length() > 1e-12 {
        node.transform.insert(0, step("before", OpValue::Orient(before)));
    }
    node.transform.insert(0, step(TRANSLATION, OpValue::Translate(place)));
    // It has to move where another node moved it.
    let is_of = |locked: &str, property: &str| locked.split('.').next() == Some(property);
    node.locked
        .retain(|locked| is_of(locked, SCALE) || !(is_of(locked, TRANSLATION) || is_of(locked, ROTATION)));
    node
}

/// The identity where a turn is that but for rounding.
fn snapped(turn: DQuat) -> DQuat {
    if to_vector(turn).length() < 1e-12 { DQuat::IDENTITY } else { turn }
}
