//! What the kinds of constraints come to: following, aiming, rolling. Limbs have a file of their own.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, from_vector, nearest_euler, quat_from_euler, to_vector};

use super::beside::{Beside, place_of, sizes, turned_into};
use super::limb::{LimbPlan, Solution};
use super::stand::{Parts, basis, turn_of, unit};
use super::state::State;
use crate::address::NodeRef;
use crate::constraint::{Aim, Constraint, ConstraintKind, Follow, Roll, Source};
use crate::evaluate::EvaluateError;
use crate::rig::OpValue;
use crate::rig::ROTATION;
use crate::scene::Scene;

/// A constraint's part in what drives a node.
#[derive(Clone, Copy, Debug)]
pub struct Part {
    /// Which one.
    pub constraint: usize,
    /// Which of its joints the node is, for limbs.
    pub joint: usize,
}

/// A constraint made ready.
#[derive(Debug)]
pub struct Prepared<'a> {
    /// The place of its weight among the settings.
    pub weight: usize,
    /// What it drives; of a limb, the upper joint.
    pub node: NodeRef,
    pub kind: Kind<'a>,
}

/// What a constraint does, its nodes and settings found.
#[derive(Debug)]
pub enum Kind<'a> {
    Follow { follow: &'a Follow, sources: Vec<Beside>, order: RotationOrder },
    Aim { aim: &'a Aim, at: usize, up: Option<usize> },
    Limb(Box<LimbPlan<'a>>),
    Roll { roll: &'a Roll, source: Option<usize>, fraction: usize },
}

impl<'a> Prepared<'a> {
    /// `first` is the place of the constraint's settings, the weight first, in the order of [`Constraint::settings`].
    pub fn new(
        state: &State,
        scene: &Scene,
        constraint: &'a Constraint,
        first: usize,
    ) -> Result<Prepared<'a>, EvaluateError> {
        let node = state.place(constraint.node)?;
        let kind = match &constraint.kind {
            ConstraintKind::Follow(follow) => {
                let beside =
                    |(index, source): (usize, &Source)| Beside::new(state, node, source, first + 1 + index);
                let sources = follow.sources.iter().enumerate().map(beside).collect::<Result<_, _>>()?;
                Kind::Follow { follow, sources, order: order_of(scene, constraint.node) }
            }
            ConstraintKind::Aim(aim) => Kind::Aim {
                aim,
                at: state.place(aim.at)?,
                up: place_of(state, aim.up.as_ref().map(|(_, towards)| towards))?,
            },
            ConstraintKind::Limb(limb) => {
                Kind::Limb(Box::new(LimbPlan::new(state, scene, constraint.node, limb, first)?))
            }
            ConstraintKind::Roll(roll) => {
                let is_other = roll.source != constraint.node;
                let source = if is_other { Some(state.place(roll.source)?) } else { None };
                Kind::Roll { roll, source, fraction: first + 1 }
            }
            // These drive no transform.
            ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => {
                return Err(EvaluateError::Missing(format!("what '{}' drives", constraint.name)));
            }
        };
        Ok(Prepared { weight: first, node: constraint.node, kind })
    }

    /// What it makes of a node's parts; nothing where it has nothing to say. What a limb comes to is worked out with its upper
    /// joint, and kept for the others.
    pub fn result(
        &self,
        state: &State,
        solution: &mut Option<Solution>,
        (index, joint): (usize, usize),
        parts: &Parts,
    ) -> Option<Parts> {
        match &self.kind {
            Kind::Follow { follow, sources, order } => {
                followed(state, index, (follow, sources, *order), parts)
            }
            Kind::Aim { aim, at, up } => aimed(state, index, (aim, *at, *up), parts),
            Kind::Roll { roll, source, fraction } => rolled(state, index, (roll, *source, *fraction), parts),
            Kind::Limb(plan) => {
                if joint == 0 {
                    *solution = plan.solved(state, index, parts);
                }
                solution.as_ref().map(|solution| solution.of_joint(joint, parts))
            }
        }
    }
}

/// The order in which a node turns at rest.
fn order_of(scene: &Scene, (rig, node): NodeRef) -> RotationOrder {
    let step = scene.rigs.get(rig).and_then(|rig| rig.node(node)?.op(ROTATION));
    match step.map(|step| step.value) {
        Some(OpValue::Rotate { order, .. }) => order,
        _ => RotationOrder::Xyz,
    }
}

fn followed(
    state: &State,
    index: usize,
    (follow, sources, order): (&Follow, &[Beside], RotationOrder),
    parts: &Parts,
) -> Option<Parts> {
    let (mut total, mut position, mut scale) = (0.0, DVec3::ZERO, DVec3::ZERO);
    let mut turn: Option<(DQuat, f64)> = None;
    let mut counted = 0;
    let at = |beside: &Beside| state.settings[beside.weight];
    let several = sources.iter().filter(|beside| at(beside) > 0.0).count() > 2;
    for beside in sources {
        let weight = at(beside);
        if weight <= 0.0 {
            continue;
        }
        let stand = &state.stands[beside.place];
        total += weight;
        counted += 1;
        position += weight * stand.world.transform_point3(beside.position);
        scale += weight * sizes(stand.world.matrix3) * beside.scale;
        let own = turned_into(state.parent_stand(index), stand.frame * beside.frame, parts);
        turn = Some(match turn {
            None => (own, weight),
            Some((mean, so_far)) => {
                let near = if mean.dot(own) < 0.0 { -own } else { own };
                let sum = if several && counted > 1 {
                    // The sum grows as it is, and is brought to length 1 at the end.
                    let scaled = if counted == 2 { mean * so_far } else { mean };
                    scaled + near * weight
                } else {
                    mean.slerp(near, weight / (so_far + weight))
                };
                (sum, so_far + weight)
            }
        });
    }
    let (turn, _) = turn.filter(|_| total > 0.0)?;
    let parent = state.parent_stand(index);
    let mut made = *parts;
    if follow.translation.contains(&true) && parent.world.matrix3.determinant() != 0.0 {
        let there = parent.world.inverse().transform_point3(position / total);
        for axis in 0..3 {
            if follow.translation[axis] {
                made.translation[axis] = there[axis];
            }
        }
    }
    if follow.rotation == [true; 3] {
        made.rotation = turn.normalize();
    } else if follow.rotation.contains(&true) {
        let near = nearest_euler(order, parts.rotation, DVec3::ZERO);
        let wanted = nearest_euler(order, turn.normalize(), near);
        let angles = [0, 1, 2].map(|axis| if follow.rotation[axis] { wanted[axis] } else { near[axis] });
        made.rotation = quat_from_euler(order, DVec3::from_array(angles));
    }
    let above = sizes(parent.world.matrix3);
    for axis in 0..3 {
        let own = made.size.col(axis);
        let length = own.length();
        if follow.scale[axis] && length > 0.0 && above[axis] > 0.0 {
            *made.size.col_mut(axis) = own * (scale[axis] / total / above[axis] / length);
        }
    }
    Some(made)
}

fn aimed(
    state: &State,
    index: usize,
    (aim, at, up): (&Aim, usize, Option<usize>),
    parts: &Parts,
) -> Option<Parts> {
    let parent = state.parent_stand(index);
    let here = parent.world.transform_point3(parts.translation);
    let towards = unit(state.stands[at].world.translation - here)?;
    let axis = unit(parts.mirror() * aim.axis)?;
    // Directions in the space of the parent's frame.
    let inward = parent.frame.transpose();
    let leaning = aim.up.as_ref().and_then(|(own, direction)| {
        let wanted = state.direction(direction, up, here)?;
        Some(basis(inward * towards, inward * wanted)? * basis(axis, parts.mirror() * *own)?.transpose())
    });
    let rotation = leaning.map_or_else(
        || {
            let rest = state.rests[index].rotation;
            DQuat::from_rotation_arc(rest * axis, (inward * towards).normalize()) * rest
        },
        turn_of,
    );
    Some(Parts { rotation: rotation.normalize(), ..*parts })
}

fn rolled(
    state: &State,
    index: usize,
    (roll, source, fraction): (&Roll, Option<usize>, usize),
    parts: &Parts,
) -> Option<Parts> {
    let (rest, now) = match source {
        Some(place) => (state.rests[place].rotation, state.stands[place].rotation),
        None => (state.rests[index].rotation, parts.rotation),
    };
    let (turn, fraction) = (rest.conjugate() * now, state.settings[fraction]);
    let added = match roll.axes {
        Some(axes) => DQuat::from_axis_angle(unit(axes.node)?, twist(turn, unit(axes.source)?) * fraction),
        None => from_vector(to_vector(turn) * fraction),
    };
    let rotation = parts.rotation * added;
    Some(Parts { rotation: rotation.normalize(), ..*parts })
}

/// The part of a rotation about an axis, in (−180, 180] degrees as radians: swing and twist, the twist applied first.
pub fn twist(rotation: DQuat, axis: DVec3) -> f64 {
    let along = rotation.xyz().dot(axis);
    let angle = 2.0 * along.atan2(rotation.w);
    let wrapped = angle - std::f64::consts::TAU * (angle / std::f64::consts::TAU).round();
    if wrapped <= -std::f64::consts::PI { wrapped + std::f64::consts::TAU } else { wrapped }
}
