//! Takes moved along the ground and turned about the up axis, as a whole: a body that goes on where another take left it.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Curve, combine};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, SampleKind};
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{Scene, Take, Target, Track};

use crate::travel::{Body, Instant, busiest_rig, carrier, level, turn};

/// Below this, in radians or units, nothing has to be done.
const NOTHING: f64 = 1e-9;

/// A channel that cannot be moved along, and why.
pub(crate) struct Fixed {
    pub channel: String,
    pub why: String,
}

/// The body at the first and at the last instant of a take.
pub(crate) fn ends(base: &Scene, take: &Take) -> Result<(Instant, Instant), EvaluateError> {
    let mut body = Body::new(base, take, busiest_rig(base, take))?;
    let mut pose = Pose::default();
    Ok((body.at(take.range.first.as_f64(), &mut pose), body.at(take.range.last.as_f64(), &mut pose)))
}

/// The body at an instant of a take.
pub(crate) fn body_at(base: &Scene, take: &Take, time: f64) -> Result<Instant, EvaluateError> {
    let mut body = Body::new(base, take, busiest_rig(base, take))?;
    Ok(body.at(time, &mut Pose::default()))
}

/// A turn about a place of the ground that goes to another place.
pub(crate) struct Seam<'a> {
    pub base: &'a Scene,
    pub up: usize,
    /// In radians.
    pub turn: f64,
    pub from: DVec3,
    pub to: DVec3,
}

impl Seam<'_> {
    /// Moves a take; exactly, or not at all.
    pub fn apply(&self, take: &mut Take) -> Result<(), Fixed> {
        let index = busiest_rig(self.base, take);
        let rig = &self.base.rigs[index];
        let Some(at) = carrier(self.base, take, index) else { return Ok(()) };
        let Some(carrier) = rig.nodes().nth(at).map(|(id, _)| id) else { return Ok(()) };
        let moves =
            |id: NodeId| take.tracks().any(|(_, track)| (track.target.rig, track.target.node) == (index, id));
        // A root that moves takes the rest along.
        let chain = std::iter::successors(Some(carrier), |id| rig.parent(*id));
        let node = chain.filter(|id| moves(*id)).last().unwrap_or(carrier);
        let target = |property: &str| Target { rig: index, node, property: property.into() };
        let addresses = Addresses::new(self.base);
        let cannot = |property: &str, why: &str| Fixed {
            channel: addresses.property(&target(property)),
            why: why.to_owned(),
        };
        let world = rig.rest_world();
        let parent = rig.parent(node).and_then(|id| rig.position(id)).map(|position| world[position]);
        let stands = parent.unwrap_or_default();
        let straight = |q: DQuat| angle_between(q, DQuat::IDENTITY) < NOTHING;
        let before = rig.node(node).and_then(|node| node.canonical()).map(|view| view.before);
        let is_plain = straight(decomposed(&stands).1) && before.is_some_and(straight);
        if !is_plain {
            return Err(cannot(TRANSLATION, "it rests turned: its axes are not those of the world"));
        }
        // In the axes of what is above: turned, and then moved by this much.
        let rotation = turn(self.up, self.turn);
        let above = level(stands.translation, self.up);
        let by = level(self.to + rotation * (above - self.from) - above, self.up);
        let place = rig.rest_value(node, TRANSLATION).unwrap_or(Value::Vector(DVec3::ZERO));
        let turns = rig.rest_value(node, ROTATION).unwrap_or(Value::Quaternion(DQuat::IDENTITY));
        let Some(layer) = take.layers.first_mut() else { return Ok(()) };
        for (property, rest) in [(TRANSLATION, place), (ROTATION, turns)] {
            let found = layer.tracks.iter().position(|track| track.target == target(property));
            let own = match found {
                Some(at) => &mut layer.tracks[at].controller,
                None => {
                    layer.tracks.push(Track {
                        target: target(property),
                        controller: Controller::Constant(rest.clone()),
                    });
                    let last = layer.tracks.len() - 1;
                    &mut layer.tracks[last].controller
                }
            };
            let first = take.range.first;
            let done = match property {
                TRANSLATION => self.place(own, &rest, by, first),
                _ if self.turn.abs() < NOTHING => Some(()),
                _ => self.facing(own, &rest, rotation, first),
            };
            done.ok_or_else(|| {
                cannot(property, "it cannot be turned along exactly: root lift, or unbake, first")
            })?;
        }
        Ok(())
    }

    /// Turns and moves places; `None` where they are not made of plain curves or samples.
    fn place(
        &self,
        own: &mut Controller,
        rest: &Value,
        by: DVec3,
        first: nimble_curve_curves::time::Ticks,
    ) -> Option<()> {
        let rotation = turn(self.up, self.turn);
        match own {
            Controller::Constant(Value::Vector(v)) => *v = rotation * *v + by,
            Controller::Samples(samples) if samples.kind == SampleKind::Vector => {
                for row in samples.values.chunks_mut(3) {
                    row.copy_from_slice(&(rotation * DVec3::from_slice(row) + by).to_array());
                }
            }
            Controller::Components(curves) if curves.len() == 3 => {
                let Value::Vector(rest) = rest else { return None };
                let (a, b) = ((self.up + 1) % 3, (self.up + 2) % 3);
                let whole = |axis: usize| match curves[axis].is_empty() {
                    true => Curve::constant(first, rest[axis]),
                    false => curves[axis].clone(),
                };
                let (p, q) = (whole(a), whole(b));
                let (x, y) = if self.turn.abs() < NOTHING {
                    (p.affine(1.0, by[a]), q.affine(1.0, by[b]))
                } else {
                    let (sin, cos) = self.turn.sin_cos();
                    (combine(&[(cos, &p), (-sin, &q)], by[a])?, combine(&[(sin, &p), (cos, &q)], by[b])?)
                };
                (curves[a], curves[b]) = (x, y);
            }
            _ => return None,
        }
        Some(())
    }

    /// Turns rotations from outside; `None` where the turn about the up axis does not act last in them.
    fn facing(
        &self,
        own: &mut Controller,
        rest: &Value,
        rotation: DQuat,
        first: nimble_curve_curves::time::Ticks,
    ) -> Option<()> {
        let up = self.up;
        let is_last = |order: nimble_curve_curves::rotation::RotationOrder| order.axes().0 == up;
        match own {
            Controller::Constant(Value::Euler { order, angles }) if is_last(*order) => {
                angles[up] += self.turn
            }
            Controller::Constant(Value::Quaternion(q)) => *q = rotation * *q,
            Controller::Euler(euler) if is_last(euler.order) => {
                let curve = &mut euler.curves[up];
                *curve = match (curve.is_empty(), rest) {
                    (false, _) => curve.affine(1.0, self.turn),
                    (true, Value::Euler { angles, .. }) => Curve::constant(first, angles[up] + self.turn),
                    _ => Curve::constant(first, self.turn),
                };
            }
            Controller::Samples(samples) => match samples.kind {
                SampleKind::Euler(order) if is_last(order) => {
                    samples.values.chunks_mut(3).for_each(|row| row[up] += self.turn);
                }
                SampleKind::Quaternion => {
                    for row in samples.values.chunks_mut(4) {
                        row.copy_from_slice(&(rotation * DQuat::from_slice(row)).to_array());
                    }
                }
                _ => return None,
            },
            Controller::Quaternion(curve) => {
                let turned = |v: DVec4| DVec4::from_array((rotation * DQuat::from_vec4(v)).to_array());
                for key in &mut curve.keys {
                    key.value = rotation * key.value;
                    (key.tangent_in, key.tangent_out) = (turned(key.tangent_in), turned(key.tangent_out));
                }
            }
            _ => return None,
        }
        Some(())
    }
}
