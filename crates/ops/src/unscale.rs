//! Scales that stand: exporters put the unit of a file into a node above a rig, a hundred or a hundredth, and some formats and
//! applications know no scale. What such a node does to those below it goes into their lengths.

use glam::{DAffine3, DVec3};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::judge::{Claim, Edit, Edited};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{Node, NodeId, OpValue, Rig, SCALE, ScaleInheritance};
use nimble_curve_scene::scene::{LayerMode, PropertyKind, Scene, Target};
use thiserror::Error;

use crate::channel::each_track;
use crate::space::{node_sized, sized};

/// A scene without the scales that could go.
#[derive(Clone, Debug)]
pub struct Unscaled {
    /// The scene.
    pub scene: Scene,
    /// What became of every channel.
    pub ledger: Ledger,
    /// That each node is what it was but for the lengths that its scale, and those above it, went into.
    pub claim: Claim,
}

/// Why scales cannot go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum UnscaleError {
    /// Constraints say lengths of their own.
    #[error("its constraints speak of lengths beside its scales: sample the joints first")]
    Constraints,
}

/// What a node's own scale and those above it come to.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Sizes {
    /// Of the frame that it stands in.
    above: f64,
    /// Its own.
    own: f64,
}

impl Sizes {
    const NONE: Sizes = Sizes { above: 1.0, own: 1.0 };

    /// What a local transform of the node becomes: sizes of one kind along all axes and turns do not mind each other.
    fn of(self, local: DAffine3) -> DAffine3 {
        DAffine3 { matrix3: local.matrix3 * self.own.recip(), translation: local.translation * self.above }
    }
}

/// A scene in which no node is scaled evenly at rest: what is below such a node stands as much farther off, whatever the scale
/// does in takes is what it is beside its rest, and nothing moves in the world. `None` where no node is.
///
/// Exact. Uneven scales stay, and those above nodes that do not inherit scale; notes name them.
///
/// # Errors
/// [`UnscaleError::Constraints`].
///
/// ```
/// use glam::DVec3;
/// use nimble_curve_curves::rotation::RotationOrder;
/// use nimble_curve_curves::time::FrameRate;
/// use nimble_curve_ops::unscale::unscaled;
/// use nimble_curve_scene::rig::{Node, NodeKind, OpValue, Rig};
/// use nimble_curve_scene::scene::Scene;
/// use nimble_curve_scene::space::Space;
///
/// let node = |name: &str, at| Node::new(name, NodeKind::Joint, at, RotationOrder::Xyz);
/// let mut rig = Rig::new("figure");
/// let mut armature = node("armature", DVec3::ZERO);
/// armature.transform.last_mut().unwrap().value = OpValue::Scale(DVec3::splat(0.01));
/// let top = rig.add(None, armature)?;
/// let hips = rig.add(Some(top), node("hips", DVec3::new(0.0, 95.0, 0.0)))?;
/// let scene = Scene::new(FrameRate::FPS_24, Space::METRES_Y_UP).with_rig(rig);
///
/// let made = unscaled(&scene)?.expect("there is a scale");
/// // Ninety-five hundredths of a metre, as before.
/// assert!((made.scene.rigs[0].node(hips).unwrap().rest().translation.y - 0.95).abs() < 1e-12);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn unscaled(scene: &Scene) -> Result<Option<Unscaled>, UnscaleError> {
    let mut staying = Vec::new();
    let sizes: Vec<Vec<Sizes>> =
        (0..scene.rigs.len()).map(|rig| sizes_of(scene, rig, &mut staying)).collect();
    if sizes.iter().flatten().all(|sizes| *sizes == Sizes::NONE) {
        return Ok(None);
    }
    if !scene.constraints.is_empty() {
        return Err(UnscaleError::Constraints);
    }
    let of = |(rig, id): NodeRef| {
        let position = scene.rigs.get(rig).and_then(|rig| rig.position(id));
        position.map_or(Sizes::NONE, |position| sizes[rig][position])
    };
    let addresses = Addresses::new(scene);
    let (mut result, mut ledger) = each_track(scene, &addresses, |books, layer, track| {
        let kept = books.kept(layer, track);
        let Target { rig, node: id, property } = &track.target;
        let node = scene.rigs.get(*rig).and_then(|rig| rig.node(*id));
        let kind = scene.rigs.get(*rig).and_then(|rig| rig.property_kind(*id, property));
        let Sizes { above, own } = of((*rig, *id));
        // What an additive layer says of a scale is a factor already.
        let adds = books.take.layers[layer].mode == LayerMode::Additive;
        let factor = match node.and_then(|node| node.op(property)).map(|op| op.value) {
            Some(OpValue::Translate(_) | OpValue::Matrix(_)) => above,
            Some(OpValue::Scale(_)) if !adds && own != 1.0 => own.recip(),
            _ => 1.0,
        };
        let Some(kind) = kind.filter(|_| factor != 1.0) else { return (Some(track.clone()), Some(kept)) };
        let mut changed = track.clone();
        changed.controller = sized(factor, kind == PropertyKind::Matrix, &track.controller);
        (Some(changed), Some(Entry { fate: Fate::Exact, ..kept }))
    });
    let mut told = Vec::new();
    for (index, rig) in result.rigs.iter_mut().enumerate() {
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
        for (id, sizes) in ids.into_iter().zip(&sizes[index]) {
            let Some(node) = rig.node_mut(id) else { continue };
            node_sized(sizes.above, node);
            if sizes.own != 1.0 {
                told.push(addresses.node((index, id)).to_owned());
                for op in node.transform.iter_mut().filter(|op| op.name == SCALE) {
                    op.value = OpValue::Scale(DVec3::ONE);
                }
            }
            let whole = (sizes.above * sizes.own).recip();
            node.bind = node.bind.map(|bind| DAffine3 { matrix3: bind.matrix3 * whole, ..bind });
        }
    }
    ledger.notes.push(format!("no longer scaled, which is in the lengths below: {}", told.join(", ")));
    if !staying.is_empty() {
        let named: Vec<&str> = staying.iter().map(|node| addresses.node(*node)).collect();
        ledger.notes.push(format!(
            "scaled as before, as what is below does not inherit scales: {}",
            named.join(", ")
        ));
    }
    let mut claim = Claim::same(scene, &result);
    for take in 0..scene.takes.len() {
        for node in addresses.nodes() {
            let sizes = of(*node);
            if sizes != Sizes::NONE {
                let edited = move |_: f64, (local, turn)| Edited {
                    local: (sizes.of(local), turn),
                    or: None,
                    about: None,
                };
                claim.edits.push(Edit::new(take, *node, edited));
            }
        }
    }
    Ok(Some(Unscaled { scene: result, ledger, claim }))
}

/// The sizes of a rig's nodes, in their order; scales that have to stay go to `staying`.
fn sizes_of(scene: &Scene, rig: usize, staying: &mut Vec<NodeRef>) -> Vec<Sizes> {
    let of = &scene.rigs[rig];
    let mut own: Vec<f64> = of.nodes().map(|(id, node)| own_size(scene, (rig, id), node)).collect();
    for (position, (id, _)) in of.nodes().enumerate() {
        if own[position] != 1.0 && has_below_it_what_does_not_inherit(of, position) {
            own[position] = 1.0;
            staying.push((rig, id));
        }
    }
    let mut sizes: Vec<Sizes> = Vec::with_capacity(own.len());
    for (own, parent) in own.into_iter().zip(of.parent_positions()) {
        let above = parent.map_or(1.0, |parent: usize| sizes[parent].above * sizes[parent].own);
        sizes.push(Sizes { above, own });
    }
    sizes
}

/// The scale at rest of a node that has one along all axes, and no list of other steps; else 1.
fn own_size(scene: &Scene, (rig, id): NodeRef, node: &Node) -> f64 {
    /// What single precision makes of equal numbers.
    const EVEN: f64 = 1e-6;
    let Some(view) = node.canonical() else { return 1.0 };
    let size = view.scale.x;
    let is_even = size > 0.0 && (view.scale - DVec3::splat(size)).abs().max_element() <= EVEN * size;
    let target = Target { rig, node: id, property: SCALE.to_owned() };
    // Scales of a stack are multiplied, each of which is one of the whole.
    let in_stack = || {
        let mut tracks = scene.takes.iter().flat_map(|take| take.tracks()).map(|(_, track)| track);
        tracks.any(|track| track.target == target && matches!(track.controller, Controller::Stack(_)))
    };
    if is_even && size != 1.0 && !in_stack() { size } else { 1.0 }
}

fn has_below_it_what_does_not_inherit(rig: &Rig, top: usize) -> bool {
    let mut below = vec![false; rig.len()];
    below[top] = true;
    let mut found = false;
    for (position, ((_, node), parent)) in rig.nodes().zip(rig.parent_positions()).enumerate() {
        if parent.is_some_and(|parent| below[parent]) {
            below[position] = true;
            found |= node.inherits != ScaleInheritance::Full;
        }
    }
    found
}
