//! One node of the result beside the node of the source that it is claimed to be.

use std::collections::BTreeSet;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::fit::Offset;
use nimble_curve_curves::rotation::along_arc;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};

use super::claim::{By, Claim, Span};
use super::look::{Seen, look};
use super::means::{Amount, Edit, Edited};
use super::sides::{Sides, components, largest, turn_from, turned};
use super::verdict::{Judged, Limits, Part, Verdict};
use crate::address::{Addresses, NodeRef};
use crate::evaluate::{ChannelSampler, EvaluateError, NodeSampler, PropertySampler, driving};
use crate::ledger::MeasuredError;
use crate::rig::{Node, OpValue};
use crate::scene::{Layer, PropertyKind, Scene, Take, Target, Track, TracksByNode};
use crate::space::AxisMap;

/// Two scenes, and the stretch of them that is compared.
pub struct Scenes<'a> {
    pub source: &'a Scene,
    pub result: &'a Scene,
    pub claim: &'a Claim,
    pub span: &'a Span,
    pub precision: f64,
    pub addresses: &'a (Addresses, Addresses),
    /// What is on the nodes of either scene in the takes of the span.
    pub tracks: &'a (TracksByNode<'a>, TracksByNode<'a>),
}

/// What drives a node in a take.
pub type Drivers<'a> = Vec<(&'a Layer, &'a Track)>;

impl<'a> Scenes<'a> {
    pub fn takes(&self) -> (&'a Take, &'a Take) {
        (&self.source.takes[self.span.source], &self.result.takes[self.span.result])
    }

    /// The range in the source's time.
    pub fn source_range(&self) -> TimeRange {
        let at = |time: nimble_curve_curves::time::Ticks| {
            nimble_curve_curves::time::Ticks(self.span.clock.source_at(time.as_f64()).round() as i64)
        };
        TimeRange::new(at(self.span.range.first), at(self.span.range.last))
    }

    /// What came of a pair of nodes.
    pub fn node(&self, (from, to): (NodeRef, NodeRef), limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let (Some(own), Some(other)) = (node_of(self.result, to), node_of(self.source, from)) else {
            return verdict;
        };
        let drivers = (self.tracks.0.on(from).to_vec(), self.tracks.1.on(to).to_vec());
        let by = match self.claim.by {
            // In a list with pivots a step's error moves the place as far as its arm reaches, and the next step turns that
            // on: as long as both sides have the same steps, these are what is held to the tolerance.
            By::Transforms if other.canonical().is_none() && have_same_steps(other, own) => By::Properties,
            by => by,
        };
        if by == By::Transforms {
            self.transform((from, to), (other, own), &drivers, &mut verdict);
        }
        self.attributes((from, to), (other, own), &drivers, by, &mut verdict);
        verdict
    }

    /// A node of the source over the source's time.
    pub fn source_node(&self, node: NodeRef) -> Result<NodeSampler<'a>, EvaluateError> {
        NodeSampler::of_tracks(self.source, Some(self.takes().0), node, self.tracks.0.on(node))
    }

    /// A node of the result over its time.
    pub fn result_node(&self, node: NodeRef) -> Result<NodeSampler<'a>, EvaluateError> {
        NodeSampler::of_tracks(self.result, Some(self.takes().1), node, self.tracks.1.on(node))
    }

    pub fn is_excused(&self, from: NodeRef, property: &str) -> bool {
        self.claim.excuses.iter().any(|excuse| {
            excuse.take == self.span.source
                && (excuse.target.rig, excuse.target.node) == from
                && excuse.target.property == property
        })
    }

    fn transform(
        &self,
        (from, to): (NodeRef, NodeRef),
        (other, own): (&Node, &Node),
        (theirs, ours): &(Drivers<'a>, Drivers<'a>),
        verdict: &mut Verdict,
    ) {
        let steps = |drivers: &Drivers<'a>, node: &Node| -> Drivers<'a> {
            drivers.iter().filter(|(_, track)| node.op(&track.target.property).is_some()).copied().collect()
        };
        let (theirs, ours) = (steps(theirs, other), steps(ours, own));
        let all = self.constrained((from, to));
        let is_plain = self.claim.space.is_identity() && self.span.clock.is_same();
        let edit = self.claim.edits.iter().find(|edit| (edit.take, edit.node) == (self.span.source, from));
        let is_alike = match &all {
            None => true,
            Some((theirs, ours)) => {
                are_same(theirs, ours) && self.source.constraints == self.result.constraints
            }
        };
        let is_still_so = is_alike && other.transform == own.transform && are_same(&theirs, &ours);
        if is_plain && edit.is_none() && is_still_so {
            verdict.same += 3;
            return;
        }
        let (source, result) = (self.source_node(from), self.result_node(to));
        let (source, result) = match (source, result) {
            (Ok(source), Ok(result)) => (source, result),
            (Err(error), _) | (_, Err(error)) => {
                verdict.unjudged.push((self.addresses.1.node(to).to_owned(), error.to_string()));
                return;
            }
        };
        let mut local = Local {
            scenes: self,
            map: &self.claim.space,
            source,
            result,
            edit,
            angles: [
                angles(self.source, self.takes().0, from, other, &theirs),
                angles(self.result, self.takes().1, to, own, &ours),
            ],
            part: Part::Rotation,
            whole: false,
        };
        // What is sheared has no rotation of its own: there the images of the unit axes are looked at, as they are.
        let is_sheared = [other, own].iter().any(|node| node.transform.iter().any(|op| shears(&op.value)));
        local.whole = is_sheared;
        let parts: &[Part] = if is_sheared {
            &[Part::Rotation, Part::Place]
        } else {
            &[Part::Rotation, Part::Place, Part::Size]
        };
        for part in parts.iter().cloned() {
            let excused = other
                .transform
                .iter()
                .any(|op| changes(other, &op.value, &part, is_sheared) && self.is_excused(from, &op.name));
            if excused {
                continue;
            }
            let moving = |drivers: &Drivers<'a>, node: &Node| -> Drivers<'a> {
                // What a stated change makes of one part may lean on another.
                let matters = |(_, track): &&(&Layer, &Track)| {
                    node.op(&track.target.property)
                        .is_some_and(|op| edit.is_some() || changes(node, &op.value, &part, is_sheared))
                };
                drivers.iter().filter(matters).copied().collect()
            };
            let sides = all.clone().unwrap_or_else(|| (moving(&theirs, other), moving(&ours, own)));
            local.part = part.clone();
            let quantity = match part {
                Part::Rotation => Quantity::Angle,
                Part::Place => Quantity::Length,
                _ => Quantity::Number,
            };
            let seen = look(&mut local, &self.looks(&sides, verdict.limits.of(quantity)));
            // The property that this is about: one that is animated, else the first.
            let property = |drivers: &Drivers<'a>, node: &Node| {
                let own = |(_, track): &&(&Layer, &Track)| {
                    let step = node.op(&track.target.property);
                    step.is_some_and(|op| changes(node, &op.value, &part, is_sheared))
                };
                let animated = drivers.iter().find(own).map(|(_, track)| track.target.property.clone());
                let first = || {
                    node.transform
                        .iter()
                        .find(|op| changes(node, &op.value, &part, is_sheared))
                        .map(|op| op.name.clone())
                };
                animated.or_else(first).unwrap_or_else(|| part.name().to_owned())
            };
            let named = (property(&theirs, other), property(&ours, own));
            verdict.judged.push(self.judged(from, to, part, named, quantity, &seen));
        }
    }

    /// All that has a part in where a pair of nodes is, where constraints drive one of them.
    fn constrained(&self, (from, to): (NodeRef, NodeRef)) -> Option<(Drivers<'a>, Drivers<'a>)> {
        let is_driven = |scene: &Scene, node| {
            !scene.constraints.is_empty() && (scene.is_driven(node) || scene.is_coupled(node))
        };
        if !is_driven(self.source, from) && !is_driven(self.result, to) {
            return None;
        }
        let (source_take, result_take) = self.takes();
        let (theirs, ours) = (self.tracks.0.on(from), self.tracks.1.on(to));
        Some((
            driving_tracks(self.source, source_take, from, theirs),
            driving_tracks(self.result, result_take, to, ours),
        ))
    }

    fn attributes(
        &self,
        (from, to): (NodeRef, NodeRef),
        (other, own): (&Node, &Node),
        (theirs, ours): &(Drivers<'a>, Drivers<'a>),
        by: By,
        verdict: &mut Verdict,
    ) {
        let animated: BTreeSet<&str> = (theirs.iter().chain(ours))
            .map(|(_, track)| track.target.property.as_str())
            .filter(|name| {
                let is_step = other.op(name).is_some() && own.attribute(name).is_none();
                by == By::Properties || !is_step
            })
            .collect();
        for name in animated {
            if self.is_excused(from, name) {
                continue;
            }
            let of = |drivers: &Drivers<'a>| -> Drivers<'a> {
                drivers.iter().filter(|(_, track)| track.target.property == name).copied().collect()
            };
            let sides = (of(theirs), of(ours));
            let is_plain = self.claim.space.is_identity() && self.span.clock.is_same();
            let is_alike = other.attribute(name) == own.attribute(name) && other.op(name) == own.op(name);
            if is_plain && is_alike && are_same(&sides.0, &sides.1) {
                verdict.same += 1;
                continue;
            }
            let targets = (target(from, name), target(to, name));
            let address = self.addresses.0.property(&targets.0);
            let (Some(kind), Some(_)) = (kind_of(self.source, &targets.0), kind_of(self.result, &targets.1))
            else {
                if !sides.0.is_empty() {
                    verdict.missing.push(format!("{address} is not in the result"));
                }
                continue;
            };
            let source = ChannelSampler::of_tracks(self.source, self.takes().0, &targets.0, &sides.0);
            let result = ChannelSampler::of_tracks(self.result, self.takes().1, &targets.1, &sides.1);
            let (source, result) = match (source, result) {
                (Ok(source), Ok(result)) => (source, result),
                (Err(error), _) | (_, Err(error)) => {
                    verdict.unjudged.push((address, error.to_string()));
                    continue;
                }
            };
            let map = &self.claim.space;
            let mut number = Number { scenes: self, map, then: None, kind, source, result };
            let limit = verdict.limits.of(kind.quantity());
            let seen = look(&mut number, &self.looks(&sides, limit));
            let named = (name.to_owned(), name.to_owned());
            let part = Part::Attribute(name.to_owned());
            verdict.judged.push(self.judged(from, to, part, named, kind.quantity(), &seen));
        }
    }

    pub fn judged(
        &self,
        from: NodeRef,
        to: NodeRef,
        part: Part,
        named: (String, String),
        quantity: Quantity,
        seen: &Seen,
    ) -> Judged {
        let measured = |errors: &[(f64, f64)]| {
            let mut error = MeasuredError::none(quantity);
            errors.iter().for_each(|&(time, apart)| error.take(apart, time));
            error.in_frames(self.result.rate)
        };
        let source = target(from, &named.0);
        let result = target(to, &named.1);
        let node = node_of(self.result, to);
        let of_transform = node.is_some_and(|node| {
            !matches!(part, Part::Attribute(_))
                || node.op(&named.1).is_some() && node.attribute(&named.1).is_none()
        });
        Judged {
            of_transform,
            of: 0,
            channel: self.addresses.0.property(&source),
            source_take: self.span.source,
            take: self.span.result,
            source,
            result,
            part,
            error: measured(&seen.at),
            between: (!seen.between.is_empty()).then(|| measured(&seen.between)),
            by_readings: seen.by_readings,
        }
    }
}

fn target((rig, node): NodeRef, property: &str) -> Target {
    Target { rig, node, property: property.to_owned() }
}

fn node_of(scene: &Scene, (rig, id): NodeRef) -> Option<&Node> {
    scene.rigs.get(rig)?.node(id)
}

pub fn kind_of(scene: &Scene, target: &Target) -> Option<PropertyKind> {
    scene.rigs.get(target.rig)?.property_kind(target.node, &target.property)
}

/// The tracks of all that drives a node, of what is above it as well; `own` are those on it.
fn driving_tracks<'a>(
    scene: &Scene,
    take: &'a Take,
    node: NodeRef,
    own: &[(&'a Layer, &'a Track)],
) -> Drivers<'a> {
    let Ok((nodes, properties)) = driving(scene, [node]) else {
        // What goes in a circle is told by who works it out.
        return own.to_vec();
    };
    let nodes: BTreeSet<NodeRef> = nodes.into_iter().collect();
    let is_step = |track: &Track| {
        let of = node_of(scene, (track.target.rig, track.target.node));
        of.is_some_and(|of| of.op(&track.target.property).is_some())
    };
    let has_part = |(_, track): &(&Layer, &Track)| {
        let node = (track.target.rig, track.target.node);
        nodes.contains(&node) && is_step(track) || properties.contains(&track.target)
    };
    take.active_tracks().filter(has_part).collect()
}

/// Whether two lists of drivers are the same to the bit, and come to the same.
fn are_same(theirs: &Drivers<'_>, ours: &Drivers<'_>) -> bool {
    theirs.len() == ours.len()
        && theirs.iter().zip(ours).all(|((layer, track), (own_layer, own))| {
            track.target.property == own.target.property
                && (layer.mode, layer.rotations) == (own_layer.mode, own_layer.rotations)
                && layer.weight == own_layer.weight
                && track.controller == own.controller
        })
}

/// Whether a step can change a part of what a node's transform comes to. In a list with pivots everything that turns or
/// scales moves the place, too.
fn changes(node: &Node, step: &OpValue, part: &Part, whole: bool) -> bool {
    let is_matrix = matches!(step, OpValue::Matrix(_));
    match part {
        Part::Rotation => step.turns() || whole && !matches!(step, OpValue::Translate(_)),
        Part::Place => is_matrix || matches!(step, OpValue::Translate(_)) || node.canonical().is_none(),
        _ => is_matrix || matches!(step, OpValue::Scale(_) | OpValue::Shear(_)),
    }
}

/// Whether the transforms of two nodes are lists of the same steps.
fn have_same_steps(a: &Node, b: &Node) -> bool {
    let kind = |step: &OpValue| std::mem::discriminant(step);
    a.transform.len() == b.transform.len()
        && a.transform
            .iter()
            .zip(&b.transform)
            .all(|(a, b)| (&a.name, a.inverse, kind(&a.value)) == (&b.name, b.inverse, kind(&b.value)))
}

/// Whether a step may shear what stands on it.
fn shears(step: &OpValue) -> bool {
    matches!(step, OpValue::Shear(_) | OpValue::Matrix(_))
}

/// The local transforms of a pair of nodes.
struct Local<'a> {
    scenes: &'a Scenes<'a>,
    map: &'a AxisMap,
    source: NodeSampler<'a>,
    result: NodeSampler<'a>,
    edit: Option<&'a Edit>,
    /// The angles of both sides, where they have any: near the pole of an order much happens in little time.
    angles: [Option<PropertySampler<'a>>; 2],
    part: Part,
    /// Whether rotation, scale and shear are looked at together.
    whole: bool,
}

/// Middle angles whose cosine is less than this are near the pole.
const NEAR: f64 = 0.25;

/// The angles of a node's rotation, where something moves it.
fn angles<'a>(
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
enum Transform {
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

/// The values of an attribute on both sides.
pub struct Number<'a> {
    pub scenes: &'a Scenes<'a>,
    pub map: &'a AxisMap,
    /// The function that it is of the source's, where it is not the same.
    pub then: Option<&'a Amount>,
    pub kind: PropertyKind,
    pub source: ChannelSampler<'a>,
    pub result: ChannelSampler<'a>,
}

impl Number<'_> {
    /// A value of the source said in other axes and units.
    fn mapped(&self, map: &AxisMap, value: Value) -> Value {
        match (self.kind, value) {
            (PropertyKind::Number(Quantity::Length), Value::Number(v)) => Value::Number(v * map.scale),
            (PropertyKind::Vector(Quantity::Length), Value::Vector(v)) => Value::Vector(map.length(v)),
            (PropertyKind::Scale, Value::Vector(v)) => Value::Vector(map.unsigned(v)),
            (PropertyKind::Matrix, Value::Matrix(m)) => {
                let mapped = map.affine(DAffine3::from_mat4(*m));
                Value::Matrix(Box::new(mapped.into()))
            }
            (PropertyKind::Rotation, value) => match value.rotation() {
                Some(rotation) => Value::Quaternion(map.rotation(rotation)),
                None => value,
            },
            (_, value) => value,
        }
    }
}

impl Sides for Number<'_> {
    type Value = Value;

    fn source(&mut self, time: f64) -> Value {
        let value = self.source.value_at(self.scenes.span.clock.source_at(time));
        let value = self.mapped(self.map, value);
        match (self.then, value) {
            (Some(amount), Value::Number(v)) => {
                self.mapped(&amount.out, Value::Number(amount.range.value(v)))
            }
            (Some(amount), value) => self.mapped(&amount.out, value),
            (None, value) => value,
        }
    }

    fn result(&mut self, time: f64) -> Value {
        self.result.value_at(time)
    }

    fn apart(&self, source: &Value, result: &Value) -> f64 {
        match (source, result) {
            (Value::Number(a), Value::Number(b)) => (a - b).abs(),
            (Value::Vector(a), Value::Vector(b)) => (*a - *b).length(),
            (Value::Discrete(a), Value::Discrete(b)) if a == b => 0.0,
            (Value::Matrix(a), Value::Matrix(b)) => {
                let apart = a.to_cols_array().into_iter().zip(b.to_cols_array()).map(|(a, b)| (a - b).abs());
                largest(apart)
            }
            // Nothing lies between two choices: one that is another is as far off as can be.
            (a, b) => a.rotation().zip(b.rotation()).map_or(f64::INFINITY, |(a, b)| turned(a, b)),
        }
    }

    fn between(&self, from: &Value, to: &Value, part: f64) -> Value {
        match (from, to) {
            (Value::Number(a), Value::Number(b)) => Value::Number(a + (b - a) * part),
            (Value::Vector(a), Value::Vector(b)) => Value::Vector(a.lerp(*b, part)),
            (a, b) => match (a.rotation(), b.rotation()) {
                (Some(from), Some(to)) => Value::Quaternion(along_arc(from, to, part)),
                _ => a.clone(),
            },
        }
    }

    fn offset(&self, base: &Value, value: &Value) -> Option<Offset> {
        match (base, value) {
            (Value::Number(base), Value::Number(value)) => {
                Some(components(DVec3::new(value - base, 0.0, 0.0)))
            }
            (Value::Vector(base), Value::Vector(value)) => Some(components(*value - *base)),
            (base, value) => turn_from(base.rotation()?, value.rotation()?),
        }
    }

    fn is_one(&self) -> bool {
        self.kind == PropertyKind::Rotation
    }
}
