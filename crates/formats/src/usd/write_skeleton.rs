//! From a scene to the text of a USD layer with skeletons: joints with rest and bind transforms, and an animation of samples
//! that is bound to them (*OpenUSD*, `UsdSkelSkeleton`, `UsdSkelAnimation`).
//!
//! Every node of a rig is a joint. The animation has a sample a frame, as the standard knows nothing else; single numbers of
//! all nodes are weights of blend shapes by their names.

use std::collections::HashMap;
use std::fmt::Write as _;

use glam::{DAffine3, DMat3, DMat4, DQuat, DVec3};
use nimble_curve_core::evaluate::{EvaluateError, Evaluator, Pose, PropertySampler};
use nimble_curve_core::rig::{AttributeKind, NodeId, Rig};
use nimble_curve_core::scene::{PropertyKind, Scene, Take, Target};
use nimble_curve_core::value::Value;

use super::names::{identifier, plain};
use super::write::{Written, head, matrix, prim_names};

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
            animation(&mut text, scene, take, index, &joints, &mut held)?;
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

fn listed<T>(items: impl Iterator<Item = T>, shown: impl Fn(T) -> String) -> String {
    items.map(shown).collect::<Vec<_>>().join(", ")
}

fn tokens(names: &[String]) -> String {
    format!("[{}]", listed(names.iter(), |name| format!("\"{name}\"")))
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
        tokens(joints),
        matrices(&mut binds.into_iter()),
        matrices(&mut rests.into_iter()),
    );
    if let Some(root) = animated_below {
        let _ = writeln!(text, "        rel skel:animationSource = <{root}/{ANIMATION}>");
    }
    text.push_str("    }\n");
}

/// Three numbers as the standard keeps them, in single precision.
fn triple(v: DVec3) -> String {
    format!("({}, {}, {})", v.x as f32 + 0.0, v.y as f32 + 0.0, v.z as f32 + 0.0)
}

fn animation(
    text: &mut String,
    scene: &Scene,
    take: &Take,
    rig: usize,
    joints: &[String],
    held: &mut Vec<Target>,
) -> Result<(), EvaluateError> {
    let (first, last) =
        (scene.rate.nearest_frame(take.range.first), scene.rate.nearest_frame(take.range.last));
    let mut evaluator = Evaluator::new(scene, Some(take), rig)?;
    let mut pose = Pose::default();
    let mut before = vec![DQuat::IDENTITY; joints.len()];
    let (mut translations, mut rotations, mut scales) = (String::new(), String::new(), String::new());
    for frame in first..=last {
        evaluator.pose_at(scene.rate.ticks(frame).as_f64(), &mut pose);
        for (q, before) in pose.local_rotation.iter_mut().zip(&mut before) {
            *q = if q.dot(*before) < 0.0 { -*q } else { *q };
            *before = *q;
        }
        let moved = listed(pose.local.iter(), |m| triple(m.translation));
        let turned = listed(pose.local_rotation.iter(), |q| {
            format!("({}, {}, {}, {})", q.w as f32, q.x as f32 + 0.0, q.y as f32 + 0.0, q.z as f32 + 0.0)
        });
        // What is left when the rotation is taken off.
        let grown = listed(pose.local.iter().zip(&pose.local_rotation), |(m, q)| {
            let rest = DMat3::from_quat(q.conjugate()) * m.matrix3;
            triple(DVec3::new(rest.x_axis.x, rest.y_axis.y, rest.z_axis.z))
        });
        for (rows, row) in [(&mut translations, moved), (&mut rotations, turned), (&mut scales, grown)] {
            let _ = writeln!(rows, "            {frame}: [{row}],");
        }
    }
    let _ = write!(
        text,
        "    def SkelAnimation \"{ANIMATION}\"\n    {{\n        uniform token[] joints = {}\n        \
         float3[] translations.timeSamples = {{\n{translations}        }}\n        \
         quatf[] rotations.timeSamples = {{\n{rotations}        }}\n        \
         half3[] scales.timeSamples = {{\n{scales}        }}\n",
        tokens(joints)
    );
    let shapes = shapes(&scene.rigs[rig], rig);
    if !shapes.is_empty() {
        let names: Vec<String> = shapes.iter().map(|(name, _)| name.clone()).collect();
        let mut samplers = (shapes.iter())
            .map(|(_, target)| PropertySampler::new(scene, take, target))
            .collect::<Result<Vec<_>, _>>()?;
        let _ = writeln!(text, "        uniform token[] blendShapes = {}", tokens(&names));
        let _ = writeln!(text, "        float[] blendShapeWeights.timeSamples = {{");
        for frame in first..=last {
            let time = scene.rate.ticks(frame).as_f64();
            let row = listed(samplers.iter_mut(), |sampler| match sampler.value_at(time) {
                Value::Number(number) => format!("{}", number as f32 + 0.0),
                _ => "0".to_owned(),
            });
            let _ = writeln!(text, "            {frame}: [{row}],");
        }
        text.push_str("        }\n");
        held.extend(shapes.into_iter().map(|(_, target)| target));
    }
    text.push_str("    }\n");
    Ok(())
}

/// The single numbers of all nodes of a rig, each by a name of its own.
fn shapes(rig: &Rig, index: usize) -> Vec<(String, Target)> {
    let mut taken: HashMap<String, usize> = HashMap::new();
    let mut shapes = Vec::new();
    for (id, node) in rig.nodes() {
        for attribute in &node.attributes {
            let is_number = matches!(attribute.kind, AttributeKind::Number { .. })
                && matches!(rig.property_kind(id, &attribute.name), Some(PropertyKind::Number(_)));
            if !is_number {
                continue;
            }
            let wanted = identifier(&attribute.name);
            let count = taken.entry(wanted.clone()).or_insert(0);
            *count += 1;
            let name = if *count == 1 { wanted } else { format!("{wanted}_{count}") };
            shapes.push((name, Target { rig: index, node: id, property: attribute.name.clone() }));
        }
    }
    shapes
}
