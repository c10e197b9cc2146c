//! Rigs as bodies: what their nodes are, by name and by shape.

mod body;
mod parts;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::scene::Scene;

pub(crate) use self::body::Body;
pub(crate) use self::parts::{Anatomy, Part, Slot, decorates, differ};
use super::names::Name;

/// Whether a rig of a scene walks on legs: by its shape, or by feet among its names.
pub(crate) fn has_legs(scene: &Scene, rig: usize) -> bool {
    let body = Body::new(&scene.rigs[rig], scene);
    let is_foot = |name: &Name| name.words.iter().any(|word| word == "foot" || word == "toe");
    body.names.iter().any(is_foot) || Anatomy::of(&body).parts.keys().any(|(part, _)| *part == Part::Thigh)
}

/// The part of the body that each node of a rig of a scene is, by its name, else by shape.
pub(crate) fn parts_of(scene: &Scene, rig: usize) -> Vec<Option<Part>> {
    let body = Body::new(&scene.rigs[rig], scene);
    let anatomy = Anatomy::of(&body);
    let by_name = |name: &Name| match name.words.as_slice() {
        [word] => Part::of_word(word),
        _ => None,
    };
    (0..body.len()).map(|at| by_name(&body.names[at]).or(anatomy.slots[at].map(|(part, _)| part))).collect()
}

/// The nodes that are feet, by name or by shape.
pub fn feet(scene: &Scene) -> Vec<NodeRef> {
    let mut found = Vec::new();
    for (rig, own) in scene.rigs.iter().enumerate() {
        let parts = parts_of(scene, rig);
        let is_foot = |(_, part): &(_, Option<Part>)| *part == Some(Part::Foot);
        found.extend(own.nodes().map(|(id, _)| id).zip(parts).filter(is_foot).map(|(id, _)| (rig, id)));
    }
    found
}
