//! The local transforms of a node on both sides.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::fit::Offset;
use nimble_curve_curves::rotation::along_arc;
use nimble_curve_curves::value::Value;

use super::means::{Edit, Edited};
use super::scenes::{Drivers, Scenes};
use super::sides::{Sides, components, largest, turn_from, turned};
use super::verdict::Part;
use crate::address::NodeRef;
use crate::evaluate::{NodeSampler, PropertySampler};
use crate::rig::{Node, OpValue};
use crate::scene::{Scene, Take, Target};
use crate::space::AxisMap;

/// The local transforms of a pair of nodes.
pub struct Local<'a> {
    pub scenes: &'a Scenes<'a>,
    pub map: &'a AxisMap,
    pub source: NodeSampler<'a>,
    pub result: NodeSampler<'a>,
    pub edit: Option<&'a Edit>,
    /// The angles of both sides, where they have any: near the pole of an order much happens in little time.
    pub angles: [Option<PropertySampler<'a>>; 2],
    pub part: Part,
    /// Whether rotation, scale and shear are looked at together.
    pub whole: bool,
}

/// Middle angles whose cosine is less than this are near the pole.
const NEAR: f64 = 0.25;

/// The angles of a node's rotation, where something moves it.
pub fn angles<'a>(
    scene: &'a Scene,
    take: &'a Take,
    (rig, node): NodeRef,
    of: &Node,
    drivers: &Drivers<'a>,
) -> Option<PropertySampler<'a>> {
    let step = of.transform.iter().find(|step| matches!(step.value, OpValue::Rotate { .. }))?;
    let own: Drivers<'a> =
        drivers.iter().filter(|(_, track)| track.target.property == step.name).copied().collect();
    let target = Target { rig, node, property: step.name.clone() };
    // What cannot be evaluated is said to be so where it is looked at.
    PropertySampler::of_tracks(scene, &target, &own, Some(take.range)).ok().filter(|_| !own.is_empty())
}

/// A local transform, as far as the part that is looked at needs it.
#[derive(Clone, Copy)]
pub enum Transform {
    Rotation(DQuat),
    /// One of two.
    Either([DQuat; 2]),
    /// Whatever has an axis of the parent lie along this direction of the node.
    Tilted(DVec3, DVec3),
    Place(DVec3),
    Size(DMat3),
    /// The images of the unit axes.
    Axes(DMat3),
}

impl Local<'_> {
    fn of(part: &Part, (affine, rotation): (DAffine3, DQuat)) -> Transform {
        match part {
            Part::Place => Transform::Place(affine.translation),
            Part::Rotation => Transform::Axes(affine.matrix3),
            _ => Transform::Size(DMat3::from_quat(rotation.normalize().conjugate()) * affine.matrix3),
        }
    }
}

impl Sides for Local<'_> {
    type Value = Transform;

    fn source(&mut self, time: f64) -> Transform {
        let time = self.scenes.span.clock.source_at(time);
        if let Some(edit) = self.edit {
            let Edited { local: (affine, rotation), or, about } = edit.of(time, self.source.local_at(time));
            if self.part == Part::Rotation && !self.whole {
                if let Some(axis) = about {
                    let axis = self.map.direction(axis);
                    return Transform::Tilted(axis, self.map.rotation(rotation).conjugate() * axis);
                }
                let rotations = [rotation, or.unwrap_or(rotation)];
                return Transform::Either(rotations.map(|rotation| self.map.rotation(rotation)));
            }
            return Local::of(&self.part, (self.map.affine(affine), self.map.rotation(rotation)));
        }
        if self.part == Part::Rotation && !self.whole {
            return Transform::Rotation(self.map.rotation(self.source.rotation_at(time)));
        }
        let (affine, rotation) = self.source.local_at(time);
        Local::of(&self.part, (self.map.affine(affine), self.map.rotation(rotation)))
    }

    fn result(&mut self, time: f64) -> Transform {
        if self.part == Part::Rotation && !self.whole {
            return Transform::Rotation(self.result.rotation_at(time));
        }
        Local::of(&self.part, self.result.local_at(time))
    }

    fn is_delicate(&mut self, from: f64, to: f64) -> bool {
        if self.part != Part::Rotation {
            return false;
        }
        let clock = &self.scenes.span.clock;
        let times = [[clock.source_at(from), clock.source_at(to)], [from, to]];
        self.angles.iter_mut().zip(times).any(|(angles, times)| {
            // The middle angle decides: near the pole, or past it from one time to the other.
            let cosines = times.map(|time| match angles.as_mut().map(|angles| angles.value_at(time)) {
                Some(Value::Euler { order, angles }) => angles[order.axes().1].cos(),
                _ => 1.0,
            });
            cosines.iter().any(|cosine| cosine.abs() < NEAR) || cosines[0] * cosines[1] < 0.0
        })
    }

    fn apart(&self, source: &Transform, result: &Transform) -> f64 {
        match (source, result) {
            (Transform::Rotation(a), Transform::Rotation(b)) => turned(*a, *b),
            (Transform::Either([a, b]), Transform::Rotation(own)) => turned(*a, *own).min(turned(*b, *own)),
            (Transform::Tilted(axis, way), Transform::Rotation(own)) => {
                let own = own.normalize().conjugate() * *axis;
                own.cross(*way).length().atan2(own.dot(*way))
            }
            (Transform::Place(a), Transform::Place(b)) => (*a - *b).length(),
            (Transform::Size(a), Transform::Size(b)) | (Transform::Axes(a), Transform::Axes(b)) => {
                let apart = [0, 1, 2].map(|axis| {
                    let size = a.col(axis).length().max(1.0);
                    (a.col(axis) - b.col(axis)).length() / size
                });
                largest(apart.into_iter())
            }
            _ => f64::INFINITY,
        }
    }

    fn between(&self, from: &Transform, to: &Transform, part: f64) -> Transform {
        match (from, to) {
            (Transform::Rotation(a), Transform::Rotation(b)) => Transform::Rotation(along_arc(*a, *b, part)),
            (Transform::Either([a, b]), Transform::Either([c, d])) => {
                Transform::Either([along_arc(*a, *c, part), along_arc(*b, *d, part)])
            }
            (Transform::Place(a), Transform::Place(b)) => Transform::Place(a.lerp(*b, part)),
            (Transform::Size(a), Transform::Size(b)) => Transform::Size(*a + (*b - *a) * part),
            (Transform::Axes(a), Transform::Axes(b)) => Transform::Axes(*a + (*b - *a) * part),
            (other, _) => *other,
        }
    }

    fn offset(&self, base: &Transform, value: &Transform) -> Option<Offset> {
        match (base, value) {
            (Transform::Rotation(base), Transform::Rotation(value)) => turn_from(*base, *value),
            (Transform::Place(base), Transform::Place(value)) => Some(components(*value - *base)),
            (Transform::Size(base), Transform::Size(value))
            | (Transform::Axes(base), Transform::Axes(value)) => Some((*value - *base).to_cols_array()),
            _ => None,
        }
    }

    fn is_one(&self) -> bool {
        self.part == Part::Rotation
    }
}
