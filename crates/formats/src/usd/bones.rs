//! Animations of skeletons as they are written: a sample a frame of joints and of weights of blend shapes (*OpenUSD*,
//! `UsdSkelAnimation`).

use std::collections::HashMap;
use std::fmt::Write as _;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_core::evaluate::{EvaluateError, Evaluator, Pose, PropertySampler};
use nimble_curve_core::parts::decomposed;
use nimble_curve_core::rig::{AttributeKind, Rig};
use nimble_curve_core::scene::{PropertyKind, Scene, Take, Target};
use nimble_curve_core::value::Value;

use super::names::identifier;

/// A joint that is animated.
pub struct Bone {
    /// Its path in the skeleton.
    pub joint: String,
    /// Where its node is in the rig.
    pub position: usize,
    pub above: Above,
}

/// What a joint is relative to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Above {
    /// The parent of its node.
    Parent,
    /// What rests in some place on another node of the rig, by its position, or in the world.
    Resting(Option<usize>, DAffine3),
}

impl Bone {
    /// Its transform, and the rotation in that.
    fn local(&self, pose: &Pose) -> (DAffine3, DQuat) {
        let world = pose.world[self.position];
        let Above::Resting(on, place) = self.above else {
            return (pose.local[self.position], pose.local_rotation[self.position]);
        };
        let above = on.map_or(DAffine3::IDENTITY, |on| pose.world[on]) * place;
        let local = above.inverse() * world;
        // Below one without size, nothing is seen of where it stands.
        let local = if local.is_finite() { local } else { pose.local[self.position] };
        let (_, rotation, _) = decomposed(&local);
        (local, rotation)
    }
}

/// Items with commas between them.
pub fn listed<T>(items: impl Iterator<Item = T>, shown: impl Fn(T) -> String) -> String {
    items.map(shown).collect::<Vec<_>>().join(", ")
}

/// Tokens in brackets.
pub fn tokens<'a>(names: impl Iterator<Item = &'a str>) -> String {
    format!("[{}]", listed(names, |name| format!("\"{name}\"")))
}

/// Three numbers as the standard keeps them, in single precision.
fn triple(v: DVec3) -> String {
    format!("({}, {}, {})", v.x as f32 + 0.0, v.y as f32 + 0.0, v.z as f32 + 0.0)
}

/// An animation of joints by the name of its prim, with a sample a frame; `shapes` are its weights.
///
/// # Errors
/// Where a controller cannot be evaluated.
pub fn animation(
    text: &mut String,
    (scene, take, rig): (&Scene, &Take, usize),
    name: &str,
    bones: &[Bone],
    shapes: &[(String, Target)],
) -> Result<(), EvaluateError> {
    let (first, last) =
        (scene.rate.nearest_frame(take.range.first), scene.rate.nearest_frame(take.range.last));
    let mut evaluator = Evaluator::new(scene, Some(take), rig)?;
    let mut pose = Pose::default();
    let mut before = vec![DQuat::IDENTITY; bones.len()];
    let mut local: Vec<(DAffine3, DQuat)> = Vec::with_capacity(bones.len());
    let (mut translations, mut rotations, mut scales) = (String::new(), String::new(), String::new());
    for frame in first..=last {
        evaluator.pose_at(scene.rate.ticks(frame).as_f64(), &mut pose);
        local.clear();
        local.extend(bones.iter().map(|bone| bone.local(&pose)));
        for ((_, q), before) in local.iter_mut().zip(&mut before) {
            *q = if q.dot(*before) < 0.0 { -*q } else { *q };
            *before = *q;
        }
        let moved = listed(local.iter(), |(m, _)| triple(m.translation));
        let turned = listed(local.iter(), |(_, q)| {
            format!("({}, {}, {}, {})", q.w as f32, q.x as f32 + 0.0, q.y as f32 + 0.0, q.z as f32 + 0.0)
        });
        // What is left when the rotation is taken off.
        let grown = listed(local.iter(), |(m, q)| {
            let rest = DMat3::from_quat(q.conjugate()) * m.matrix3;
            triple(DVec3::new(rest.x_axis.x, rest.y_axis.y, rest.z_axis.z))
        });
        for (rows, row) in [(&mut translations, moved), (&mut rotations, turned), (&mut scales, grown)] {
            let _ = writeln!(rows, "            {frame}: [{row}],");
        }
    }
    let _ = write!(
        text,
        "    def SkelAnimation \"{name}\"\n    {{\n        uniform token[] joints = {}\n        \
         float3[] translations.timeSamples = {{\n{translations}        }}\n        \
         quatf[] rotations.timeSamples = {{\n{rotations}        }}\n        \
         half3[] scales.timeSamples = {{\n{scales}        }}\n",
        tokens(bones.iter().map(|bone| bone.joint.as_str()))
    );
    if !shapes.is_empty() {
        let mut samplers = (shapes.iter())
            .map(|(_, target)| PropertySampler::new(scene, take, target))
            .collect::<Result<Vec<_>, _>>()?;
        let _ = writeln!(
            text,
            "        uniform token[] blendShapes = {}",
            tokens(shapes.iter().map(|(name, _)| name.as_str()))
        );
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
    }
    text.push_str("    }\n");
    Ok(())
}

/// The single numbers of all nodes of a rig, each by a name of its own.
pub fn shapes(rig: &Rig, index: usize) -> Vec<(String, Target)> {
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
