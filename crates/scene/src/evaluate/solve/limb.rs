//! Limbs: two bones that reach for a goal, in closed form.
//!
//! The bend at the root comes from the law of cosines in half-angle form, `tan(α/2) = √((s−a)(s−d) / (s(s−b)))` with bones a and b, the
//! way d to the goal and s half their sum: it keeps its digits where the limb is nearly straight, which the usual form does not.

use glam::{DAffine3, DMat3, DQuat, DVec3};

use super::beside::{Beside, place_of, turned_into};
use super::stand::{Parts, Stand, basis, turn_of, unit};
use super::state::State;
use crate::address::NodeRef;
use crate::constraint::{EndTurn, Limb, StretchBy, Towards};
use crate::evaluate::EvaluateError;
use crate::scene::Scene;

/// How near to the line of a limb what it bends to may lie, in proportion to its distance, before it says nothing.
const ON_THE_LINE: f64 = 1e-7;

/// A limb made ready.
#[derive(Debug)]
pub struct LimbPlan<'a> {
    pub limb: &'a Limb,
    pub goal: Beside,
    pub pole: Option<usize>,
    /// The joints below the upper one down to the lower, and from there to the end.
    upper_chain: Vec<usize>,
    lower_chain: Vec<usize>,
    /// The places of stretch, twist and the two lengths among the settings.
    pub settings: usize,
    /// At rest, in the world: from root to end, and to which side the middle bends.
    pub line: DVec3,
    side: DVec3,
    /// The normal of the bend in the space in which each joint's rotation acts, at rest.
    pub hinges: [DVec3; 2],
    /// The frame of the limb's parent at rest.
    pub carried: DMat3,
}

/// What a limb comes to at an instant: rotations of its joints beside their parents, and how far apart they are.
#[derive(Clone, Copy, Debug)]
pub struct Solution {
    rotations: [Option<DQuat>; 3],
    /// Factors to the translations of the lower joint and of the end.
    lengths: [f64; 2],
    /// A factor to the scale of the upper joint.
    scale: f64,
    /// The bone's axis of the upper joint, for the scale.
    bone: DVec3,
    /// How far the goal is in proportion to the whole length.
    pub wanted: f64,
    /// How far the end is in that proportion where the limb is folded.
    pub folded: f64,
}

impl Solution {
    /// A joint's parts by this.
    pub fn of_joint(&self, joint: usize, parts: &Parts) -> Parts {
        let mut made = *parts;
        if let Some(rotation) = self.rotations[joint] {
            made.rotation = rotation;
        }
        match joint {
            0 if self.scale != 1.0 => {
                // Along the bone alone.
                let along = DMat3::from_cols(
                    self.bone * self.bone.x,
                    self.bone * self.bone.y,
                    self.bone * self.bone.z,
                );
                made.size *= DMat3::IDENTITY + along * (self.scale - 1.0);
            }
            0 => {}
            _ => made.translation *= self.lengths[joint - 1],
        }
        made
    }
}

impl<'a> LimbPlan<'a> {
    /// `first` is the place of the constraint's settings: weight, stretch, twist, lengths.
    pub fn new(
        state: &State,
        scene: &Scene,
        upper: NodeRef,
        limb: &'a Limb,
        first: usize,
    ) -> Result<LimbPlan<'a>, EvaluateError> {
        let chain = |top: NodeRef, bottom: NodeRef| -> Result<Vec<usize>, EvaluateError> {
            let rig = scene.rigs.get(bottom.0);
            let up = std::iter::successors(Some(bottom.1), |id| rig.and_then(|rig| rig.parent(*id)));
            let mut chain = Vec::new();
            for id in up.take_while(|id| (bottom.0, *id) != top) {
                chain.push(state.place((bottom.0, id))?);
            }
            chain.reverse();
            Ok(chain)
        };
        let (upper_chain, lower_chain) = (chain(upper, limb.lower)?, chain(limb.lower, limb.end)?);
        let [root, middle, end] = [state.place(upper)?, state.place(limb.lower)?, state.place(limb.end)?];
        let at = |place: usize| state.rests[place].world.translation;
        let line = unit(at(end) - at(root)).unwrap_or(DVec3::X);
        let bent = at(middle) - at(root);
        let across = bent - line * line.dot(bent);
        let pole = place_of(state, limb.pole.as_ref())?;
        let towards_pole = || {
            let direction = match (limb.pole.as_ref()?, pole) {
                (Towards::Node(_), Some(place)) => at(place) - at(root),
                (Towards::Direction(own, _), Some(place)) => state.rests[place].frame * *own,
                (Towards::Direction(own, _), None) => *own,
                (Towards::Node(_), None) => return None,
            };
            let direction = if limb.bends_other { -direction } else { direction };
            let across = direction - line * line.dot(direction);
            unit(across).filter(|_| across.length() > ON_THE_LINE * direction.length())
        };
        let side = (limb.hinge.and_then(|hinge| unit(hinge.cross(line))))
            .or_else(|| unit(across).filter(|_| across.length() > 1e-6 * bent.length()))
            .or_else(towards_pole)
            .unwrap_or_else(|| line.any_orthonormal_vector());
        let normal = line.cross(side);
        let in_joint = |place: usize| {
            let parent = state.parent_rest(place);
            (parent.frame * DMat3::from_quat(state.rests[place].rotation)).transpose() * normal
        };
        Ok(LimbPlan {
            limb,
            goal: Beside::new(state, end, &limb.goal, first)?,
            pole,
            settings: first + 1,
            line,
            side,
            hinges: [in_joint(root), in_joint(middle)],
            carried: state.parent_rest(root).frame,
            upper_chain,
            lower_chain,
        })
    }

    /// The limb with its upper joint as it stands so far.
    pub fn solved(&self, state: &State, upper: usize, parts: &Parts) -> Option<Solution> {
        let setting = |index: usize| state.settings[self.settings + index];
        let (lower, end) = (*self.upper_chain.last()?, *self.lower_chain.last()?);
        let factors = [setting(2), setting(3)];
        let above = state.parent_stand(upper);
        let (to_lower, turned) = chained(state, &self.upper_chain);
        let (to_end, _) = chained(state, &self.lower_chain);
        // The bones in the spaces in which the rotations of their joints act, and their lengths in the world.
        let bones = [parts.size * to_lower * factors[0], state.own[lower].size * to_end * factors[1]];
        let bone_lengths = || {
            let upper_space = above.world.matrix3 * DMat3::from_quat(parts.rotation);
            let lower_space = upper_space * parts.size * turned * DMat3::from_quat(state.own[lower].rotation);
            [(upper_space * bones[0]).length(), (lower_space * bones[1]).length()]
        };
        let is_sized = [parts.size, turned, state.own[lower].size] != [DMat3::IDENTITY; 3];
        let [a, b] = if above.is_rigid() && !is_sized { bones.map(DVec3::length) } else { bone_lengths() };
        let root = above.world.transform_point3(parts.translation);
        let goal_stand = &state.stands[self.goal.place];
        let goal = goal_stand.world.transform_point3(self.goal.position);
        let way = goal - root;
        let part = |length: f64| if a + b > 0.0 { length / (a + b) } else { 0.0 };
        let (wanted, folded) = (part(way.length()), part((a - b).abs()));
        let (reach, stretched) = self.reach(way.length(), a + b, setting(0));
        let (a, b) = (a * stretched, b * stretched);
        let hand = (above.frame.determinant() * self.carried.determinant()).signum();
        let (line, side) = self.plane(state, (root, way), above, setting(1) * state.hand);
        let normal = line.cross(side) * hand;
        let d = reach.clamp((a - b).abs(), a + b);
        let (cosine, sine) = bend(a, b, d);
        let first = line * cosine + side * sine;
        let second = unit(line * d - first * a).unwrap_or(first);
        let inward = above.frame.transpose();
        let rotation = |bone: DVec3, hinge: DVec3, along: DVec3, normal: DVec3| -> Option<DQuat> {
            Some(turn_of(basis(along, normal)? * basis(bone, hinge)?.transpose()))
        };
        let upper_turn = rotation(bones[0], self.hinges[0], inward * first, inward * normal)?;
        // The frame in which the lower joint turns, with the whole of the solution above it.
        let turned_upper = Parts { rotation: upper_turn, ..*parts };
        let over_lower = self.upper_chain.iter().take(self.upper_chain.len() - 1);
        let frame = over_lower
            .fold(above.frame * frame_of(&turned_upper), |frame, &place| frame * frame_of(&state.own[place]));
        let out = frame.transpose();
        let lower_turn = rotation(bones[1], self.hinges[1], out * second, out * normal)?;
        let end_turn = match self.limb.end_turn {
            EndTurn::Own => None,
            EndTurn::Parent => Some(state.rests[end].rotation),
            EndTurn::Goal => {
                let turned = Parts { rotation: lower_turn, ..state.own[lower] };
                let over_end = self.lower_chain.iter().take(self.lower_chain.len() - 1);
                let frame = over_end
                    .fold(frame * frame_of(&turned), |frame, &place| frame * frame_of(&state.own[place]));
                let parent = Stand::in_frame(frame);
                Some(turned_into(&parent, goal_stand.frame * self.goal.frame, &state.own[end]))
            }
        };
        let by_scale = self.limb.stretch_by == StretchBy::Scale;
        let longer = if by_scale { 1.0 } else { stretched };
        Some(Solution {
            rotations: [Some(upper_turn), Some(lower_turn), end_turn],
            lengths: factors.map(|factor| factor * longer),
            scale: if by_scale { stretched } else { 1.0 },
            bone: unit(to_lower)?,
            wanted,
            folded,
        })
    }

    /// How far the end reaches on its way to the goal, and by which factor the bones become longer.
    pub fn reach(&self, way: f64, length: f64, stretch: f64) -> (f64, f64) {
        if length <= 0.0 {
            return (way, 1.0);
        }
        let soft = self.limb.slack * length;
        let from = length - soft;
        // Beyond where the slack begins the end comes to the whole length without ever getting there.
        let reached = if soft > 0.0 && way > from {
            length - soft * (-(way - from) / soft).exp()
        } else {
            way.min(length)
        };
        // What is missing to the goal is made up by longer bones.
        let stretched =
            if way > reached && reached > 0.0 { 1.0 + stretch * (way / reached - 1.0) } else { 1.0 };
        (reached * stretched, stretched)
    }

    /// The direction to the goal, and the one at a right angle to it to which the middle bends.
    pub fn plane(
        &self,
        state: &State,
        (root, way): (DVec3, DVec3),
        above: &Stand,
        twist: f64,
    ) -> (DVec3, DVec3) {
        // The rest pose, as the limb's parent carries it.
        let carried = above.frame * self.carried.transpose();
        let (line_at_rest, side_at_rest) = (carried * self.line, carried * self.side);
        let line = unit(way).unwrap_or(line_at_rest);
        let to_pole = self.limb.pole.as_ref().and_then(|towards| {
            let direction = match (towards, self.pole) {
                (Towards::Node(_), Some(place)) => state.stands[place].world.translation - root,
                _ => state.direction(towards, self.pole, root)?,
            };
            let across = direction - line * line.dot(direction);
            let side = unit(across).filter(|_| across.length() > ON_THE_LINE * direction.length())?;
            Some(if self.limb.bends_other { -side } else { side })
        });
        let side = to_pole.unwrap_or_else(|| {
            let turned = DQuat::from_rotation_arc(line_at_rest, line) * side_at_rest;
            let side = unit(turned - line * line.dot(turned));
            let side = side.unwrap_or_else(|| line.any_orthonormal_vector());
            if self.limb.bends_other && self.limb.pole.is_none() { -side } else { side }
        });
        (line, DQuat::from_axis_angle(line, twist) * side)
    }
}

/// The cosine and the sine of the angle at the root between its bone a and the way d, opposite to the bone b.
fn bend(a: f64, b: f64, d: f64) -> (f64, f64) {
    let [over_a, over_b, over_d] = [(b + d - a) * 0.5, (a + d - b) * 0.5, (a + b - d) * 0.5];
    let (above, below) = ((over_a * over_d).max(0.0), (over_b * (a + b + d) * 0.5).max(0.0));
    if above + below == 0.0 {
        // Bones of one length, folded up onto the root.
        return (0.0, 1.0);
    }
    // cos α = (1 − t²)/(1 + t²) and sin α = 2t/(1 + t²), with t² = above/below.
    ((below - above) / (below + above), 2.0 * (above * below).sqrt() / (below + above))
}

/// Where the last node of a chain stands in the space above its first one, and how what is above it is turned and sized there.
fn chained(state: &State, chain: &[usize]) -> (DVec3, DMat3) {
    let Some((last, over)) = chain.split_last() else { return (DVec3::ZERO, DMat3::IDENTITY) };
    let to_last = state.own[*last].translation;
    // Hardly any limb has joints between its own.
    if over.is_empty() {
        return (to_last, DMat3::IDENTITY);
    }
    let whole = over.iter().fold(DAffine3::IDENTITY, |whole, place| whole * state.own[*place].local());
    (whole.transform_point3(to_last), whole.matrix3)
}

/// How a node turns what is below it, mirrored where its scale is.
fn frame_of(parts: &Parts) -> DMat3 {
    parts.mirrored(DMat3::from_quat(parts.rotation))
}
