//! From a scene to the text of a USD layer with skeletons: joints with rest and bind transforms, and an animation of samples
//! that is bound to them (*OpenUSD*, `UsdSkelSkeleton`, `UsdSkelAnimation`).
//!
//! Every node of a rig is a joint. The animation has a sample a frame, as the standard knows nothing else; single numbers of
//! all nodes are weights of blend shapes by their names.

use std::fmt::Write as _;

use glam::{DAffine3, DMat4};
use nimble_curve_core::evaluate::EvaluateError;
use nimble_curve_core::rig::{NodeId, Rig};
use nimble_curve_core::scene::{Scene, Target};

use super::bones::{Above, Bone, animation, listed, shapes, tokens};
use super::names::{identifier, plain};
use super::write::{Written, head, prim_names};
use super::writer::matrix;

/// The names of the prims below the root of a rig.
const SKELETON: &str = "Skeleton";
const ANIMATION: &str = "Animation";

/// The layer of a scene, each rig a skeleton.
///
/// # Errors
/// Where a controller cannot be evaluated.
pub fn write(scene: &Scene, extra: Option<&str>) -> Result<Written, EvaluateError> {
    let take = scene.takes.first();
    let roots = rig_names(scene);
    let mut text = head(scene, take, extra, roots.first().map(String::as_str));
    let mut paths = Vec::new();
    let mut held: Vec<Target> = Vec::new();
    let names = prim_names(scene);
    for (index, rig) in scene.rigs.iter().enumerate() {
        let root = format!("/{}", roots[index]);
        let joints = joint_tokens(rig, &names[index]);
        paths.extend(
            rig.nodes()
                .zip(&joints)
                .map(|((id, _), joint)| (format!("{root}/{SKELETON}:{joint}"), (index, id))),
        );
        let _ = write!(text, "\ndef SkelRoot \"{}\"", roots[index]);
        if rig.name != roots[index] {
            let _ = write!(text, " (\n    displayName = \"{}\"\n)", plain(&rig.name));
        }
        text.push_str("\n{\n");
        skeleton(&mut text, rig, &joints, take.map(|_| root.as_str()));
        if let Some(take) = take {
            let bone = |(position, joint)| Bone { joint, position, above: Above::Parent };
            let bones: Vec<Bone> = joints.into_iter().enumerate().map(bone).collect();
            let shapes = shapes(rig, index);
            animation(&mut text, (scene, take, index), ANIMATION, &bones, &shapes)?;
            held.extend(shapes.into_iter().map(|(_, target)| target));
        }
        text.push_str("}\n");
    }
    let mut left_out = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        for (_, track) in take.tracks() {
            let target = &track.target;
            let is_joint = scene
                .rigs
                .get(target.rig)
                .and_then(|rig| rig.node(target.node))
                .is_some_and(|node| node.transform.iter().any(|op| op.name == target.property));
            if index > 0 || !(is_joint || held.contains(target)) {
                left_out.push((take.name.clone(), target.clone()));
            }
        }
    }
    Ok(Written { text, paths, left_out })
}

/// A name of its own for each rig.
fn rig_names(scene: &Scene) -> Vec<String> {
    let mut names: Vec<String> = Vec::with_capacity(scene.rigs.len());
    for rig in &scene.rigs {
        let wanted = identifier(&rig.name);
        let tried = std::iter::once(wanted.clone()).chain((2..).map(|number| format!("{wanted}_{number}")));
        names.extend(tried.into_iter().find(|name| !names.contains(name)));
    }
    names
}

/// The joints as paths from the top down.
fn joint_tokens(rig: &Rig, names: &[(NodeId, String)]) -> Vec<String> {
    let mut tokens: Vec<String> = Vec::with_capacity(names.len());
    for ((_, name), parent) in names.iter().zip(rig.parent_positions()) {
        tokens.push(match parent {
            Some(parent) => format!("{}/{name}", tokens[parent]),
            None => name.clone(),
        });
    }
    tokens
}

fn skeleton(text: &mut String, rig: &Rig, joints: &[String], animated_below: Option<&str>) {
    let rests: Vec<DAffine3> = rig.nodes().map(|(_, node)| node.rest()).collect();
    let worlds = rig.rest_world();
    let binds = rig.nodes().zip(worlds).map(|((_, node), world)| node.bind.unwrap_or(world));
    let matrices = |all: &mut dyn Iterator<Item = DAffine3>| listed(all, |m| matrix(DMat4::from(m)));
    let _ = write!(
        text,
        "    def Skeleton \"{SKELETON}\" (\n        prepend apiSchemas = [\"SkelBindingAPI\"]\n    )\n    {{\n        \
         uniform token[] joints = {}\n        uniform matrix4d[] bindTransforms = [{}]\n        \
         uniform matrix4d[] restTransforms = [{}]\n",
        tokens(joints.iter().map(String::as_str)),
        matrices(&mut binds.into_iter()),
        matrices(&mut rests.into_iter()),
    );
    if let Some(root) = animated_below {
        let _ = writeln!(text, "        rel skel:animationSource = <{root}/{ANIMATION}>");
    }
    text.push_str("    }\n");
}
