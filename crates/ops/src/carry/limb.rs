//! Two bones that reach for a place: by the law of cosines at the middle joint and the shortest turn at the upper one, the orientation of
//! the end kept in the world.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, nearest_euler};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{SampleKind, Samples};
use nimble_curve_scene::evaluate::{NodeSampler, Pose};
use nimble_curve_scene::ledger::{Entry, MeasuredError};
use nimble_curve_scene::rig::{Canonical, NodeId, ROTATION};
use nimble_curve_scene::scene::{PropertyKind, Take};

use super::rewrite::Rewritten;
use super::{CarryError, Job};
use crate::conversion::{ConversionContext, refitted_rotation};
use crate::fitting::fit_samples;
use crate::sampled_function::{SampledFunction, union_times};

/// A limb of the target: its upper, middle and end joint, and where they stand in the rig.
pub(super) struct Limb {
    pub joints: [NodeId; 3],
    pub at: [usize; 3],
    above: Option<usize>,
}

/// A limb at one frame.
#[derive(Clone, Copy)]
pub(super) struct LimbFrame {
    pub places: [DVec3; 3],
    turns: [DQuat; 3],
    above: DQuat,
}

/// What is said of the curves of a limb that was bent.
#[derive(Clone, Copy)]
pub(super) struct Said {
    pub of_curve: &'static str,
    pub beside: &'static str,
}

impl Job<'_> {
    /// The limb that a node of the target is the end of, where all of it can be turned.
    pub(super) fn limb(&self, end: NodeId) -> Option<Limb> {
        let rig = self.onto.rig;
        let middle = rig.parent(end)?;
        let upper = rig.parent(middle)?;
        let joints = [upper, middle, end];
        let can_turn = |id: &NodeId| {
            let node = rig.node(*id);
            self.onto.view(*id).is_some() && node.is_some_and(|node| !node.is_locked(ROTATION, None))
        };
        joints.iter().all(can_turn).then(|| Limb {
            joints,
            at: joints.map(|id| self.onto.position(id)),
            above: rig.parent(upper).map(|id| self.onto.position(id)),
        })
    }

    /// Puts the turns of a limb, one frame after another, into a take as sparse curves on its base layer.
    pub(super) fn write_limb(
        &self,
        limb: &Limb,
        solved: &[[DQuat; 3]],
        (first, base): (i64, usize),
        (made, entries): (&mut Take, &mut Vec<Entry>),
        said: Said,
    ) {
        let rate = self.source.rate;
        let place = |joint: usize| self.onto.places[limb.at[joint]].translation;
        let lengths: f64 = (1..3).map(|joint| (place(joint) - place(joint - 1)).length()).sum();
        // An end that is held to the tolerance of lengths has joints that are held to what that is at the upper one.
        let length = self.tolerance.length / self.target.space.metres_per_unit;
        let tolerance = self.tolerance.angle.min(0.2 * length / lengths.max(1e-9));
        for (joint, &id) in limb.joints.iter().enumerate() {
            let Some(view) = self.onto.view(id) else { continue };
            let target = self.onto.target(id, ROTATION);
            let order = view.order.unwrap_or(RotationOrder::Xyz);
            let mut near = match self.onto.rig.rest_value(id, ROTATION) {
                Some(Value::Euler { angles, .. }) => angles,
                _ => DVec3::ZERO,
            };
            let values = solved.iter().flat_map(|turns| {
                near = nearest_euler(order, animated(view, turns[joint]), near);
                near.to_array()
            });
            let kind = SampleKind::Euler(order);
            let samples = Samples { start: rate.ticks(first), rate, kind, values: values.collect() };
            let Some((controller, error)) = fit_samples(&samples, PropertyKind::Rotation, order, tolerance)
            else {
                continue;
            };
            let rewritten = Rewritten { target, controller, error, said: said.of_curve, beside: said.beside };
            self.rewrite(made, entries, base, rewritten);
        }
    }

    /// Writes the turn of a limb's end anew where it is off in the world between frames, along what its upper and its middle joint do:
    /// near its whole length these swing fast, each along a curve of its own, and the end undoes both.
    pub(super) fn steady_end(
        &self,
        limb: &Limb,
        was: &Take,
        base: usize,
        (made, entries): (&mut Take, &mut Vec<Entry>),
        said: Said,
    ) -> Result<(), CarryError> {
        let id = limb.joints[2];
        let Some(view) = self.onto.view(id) else { return Ok(()) };
        let now = made.clone();
        // What is above the limb moves both alike.
        let of_limb = |take| -> Result<Vec<NodeSampler<'_>>, CarryError> {
            let sampler = |id: NodeId| Ok(NodeSampler::new(self.target, Some(take), self.onto.node(id))?);
            limb.joints.into_iter().map(sampler).collect()
        };
        let (mut wanted, mut bent) = (of_limb(was)?, of_limb(&now)?);
        let mut at = |time: f64| {
            let turn = |sampler: &mut NodeSampler<'_>| sampler.local_at(time).1;
            let wanted = wanted.iter_mut().map(turn).fold(DQuat::IDENTITY, |above, own| above * own);
            let [upper, middle, end] = [0, 1, 2].map(|joint| turn(&mut bent[joint]));
            let above = upper * middle;
            (above.conjugate() * wanted, angle_between(wanted, above * end))
        };
        let tolerance = 0.5 * self.tolerance.angle;
        let range = was.range;
        let step = self.source.rate.ticks_per_frame() / 8.0;
        let parts = ((range.last - range.first).as_f64() / step).round() as i64;
        let off = (0..=parts).map(|part| at(range.first.as_f64() + part as f64 * step).1).fold(0.0, f64::max);
        // The end's own curve is held to a part of the tolerance, and so are those that it hangs on.
        if off <= 0.9 * self.tolerance.angle {
            return Ok(());
        }
        let targets = limb.joints.map(|joint| self.onto.target(joint, ROTATION));
        let of_limb = now.tracks().filter(|(_, track)| targets.contains(&track.target));
        let times =
            union_times(of_limb.map(|(_, track)| &track.controller), [range.first, range.last], range);
        let rest = self.onto.rig.rest_value(id, ROTATION).unwrap_or(Value::Quaternion(DQuat::IDENTITY));
        let start = match rest {
            Value::Euler { angles, .. } => angles,
            _ => DVec3::ZERO,
        };
        let context = ConversionContext {
            kind: PropertyKind::Rotation,
            rest,
            tolerance,
            rate: self.source.rate,
            range,
        };
        let followed = SampledFunction::of_function(|time| Value::Quaternion(animated(view, at(time).0)));
        let knots = followed.knots(&times);
        let converted = refitted_rotation(&followed, &knots, start, &context);
        let error = converted.error.unwrap_or(MeasuredError::none(Quantity::Angle));
        let [_, _, target] = targets;
        let rewritten = Rewritten {
            target,
            controller: converted.controller,
            error,
            said: "along what its limb does between frames",
            beside: said.beside,
        };
        self.rewrite(made, entries, base, rewritten);
        Ok(())
    }

    /// By how much the upper and the middle joint of a limb turn in the world at most, for people.
    pub(super) fn turned_by(&self, limb: &Limb, frames: &[LimbFrame], solved: &[[DQuat; 3]]) -> String {
        let mut most = [0.0_f64; 2];
        for (frame, turns) in frames.iter().zip(solved) {
            let upper = frame.above * turns[0];
            let turned = [upper, upper * turns[1]];
            for (most, (turned, was)) in most.iter_mut().zip(turned.into_iter().zip(frame.turns)) {
                *most = most.max(angle_between(turned, was));
            }
        }
        let name = |joint: usize| self.target_addresses.node(self.onto.node(limb.joints[joint]));
        let degrees = most.map(f64::to_degrees);
        format!("{} by {:.1} deg, {} by {:.1} deg", name(0), degrees[0], name(1), degrees[1])
    }
}

/// The animated part of a local rotation.
fn animated(view: &Canonical, local: DQuat) -> DQuat {
    view.before.conjugate() * local * view.after.conjugate()
}

impl Limb {
    pub(super) fn frame(&self, pose: &Pose) -> LimbFrame {
        LimbFrame {
            places: self.at.map(|at| pose.world[at].translation),
            turns: self.at.map(|at| pose.world_rotation[at]),
            above: self.above.map_or(DQuat::IDENTITY, |at| pose.world_rotation[at]),
        }
    }
}

/// The turns of a limb with which its end is at a place, one frame after another.
pub(super) fn reaching(frames: &[LimbFrame], places: &[DVec3]) -> Vec<[DQuat; 3]> {
    let axes = axes(frames);
    let all = frames.iter().zip(places).zip(axes);
    all.map(|((frame, place), axis)| frame.reaching(*place, axis)).collect()
}

/// About which axis of the world the middle joint of a limb bends at each frame: as it is bent, and where it is straight as at the nearest
/// frame at which it is not, beside the upper joint, so that it does not flip.
fn axes(frames: &[LimbFrame]) -> Vec<DVec3> {
    let own: Vec<Option<DVec3>> = frames.iter().map(LimbFrame::bend_axis).collect();
    let bent: Vec<usize> = (0..own.len()).filter(|at| own[*at].is_some()).collect();
    let nearest = |at: usize| {
        let after = bent.partition_point(|bent| *bent < at);
        let near =
            [after.checked_sub(1), Some(after)].into_iter().flatten().filter_map(|index| bent.get(index));
        near.min_by_key(|bent| bent.abs_diff(at)).and_then(|bent| own[*bent])
    };
    let axis = |(at, frame): (usize, &LimbFrame)| {
        let local = own[at].or_else(|| nearest(at));
        let world = local.map(|axis| frame.turns[0] * axis);
        world.unwrap_or_else(|| (frame.turns[1] * DVec3::X).normalize_or(DVec3::X))
    };
    frames.iter().enumerate().map(axis).collect()
}

/// Over this part of its length a limb straightens gently.
const GENTLY: f64 = 0.04;

/// A limb is straight where its middle joint is bent by less than this, in radians.
const STRAIGHT: f64 = 0.05;

impl LimbFrame {
    /// About which axis of the upper joint the middle joint is bent; `None` where the limb is straight.
    fn bend_axis(&self) -> Option<DVec3> {
        let [upper, middle, end] = self.places;
        let (along, ahead) = ((middle - upper).try_normalize()?, (end - middle).try_normalize()?);
        let bent = along.angle_between(ahead) > STRAIGHT;
        let axis = (-along).cross(ahead).try_normalize().filter(|_| bent)?;
        Some(self.turns[0].conjugate() * axis)
    }

    /// How far the end stays from a place when the limb is straight.
    pub(super) fn short_of(&self, place: DVec3) -> f64 {
        let [upper, middle, end] = self.places;
        ((place - upper).length() - (middle - upper).length() - (end - middle).length()).max(0.0)
    }

    /// The place nearest to a wanted one that the end comes to gently: near its whole length the limb straightens ever more slowly, as it
    /// would snap straight from one frame to the next.
    pub(super) fn gently(&self, place: DVec3) -> DVec3 {
        let [upper, middle, end] = self.places;
        let whole = (middle - upper).length() + (end - middle).length();
        let Some(along) = (place - upper).try_normalize() else { return place };
        let (far, from) = ((place - upper).length(), (1.0 - GENTLY) * whole);
        if far <= from || whole <= 0.0 {
            return place;
        }
        let room = GENTLY * whole;
        upper + along * (whole - room * (-(far - from) / room).exp())
    }

    /// The local rotations of the three joints with which the end reaches a place, or comes as near as the limb is long.
    ///
    /// The middle joint bends about `axis`, in the world.
    fn reaching(&self, ankle: DVec3, axis: DVec3) -> [DQuat; 3] {
        let [hip, knee, foot] = self.places;
        let (upper, lower) = ((knee - hip).length(), (foot - knee).length());
        let straight = (upper + lower) * 0.99999;
        let wanted = (ankle - hip).length().clamp((upper - lower).abs() + 1e-9, straight.max(1e-9));
        let (back, ahead) = ((hip - knee).normalize_or_zero(), (foot - knee).normalize_or_zero());
        let bent = back.dot(ahead).clamp(-1.0, 1.0).acos();
        let cosine = (upper * upper + lower * lower - wanted * wanted) / (2.0 * upper * lower).max(1e-12);
        let bend = DQuat::from_axis_angle(axis, cosine.clamp(-1.0, 1.0).acos() - bent);
        let reached = knee + bend * (foot - knee);
        let (from, to) = ((reached - hip).normalize_or_zero(), (ankle - hip).normalize_or_zero());
        let swing = if from == DVec3::ZERO || to == DVec3::ZERO {
            DQuat::IDENTITY
        } else {
            DQuat::from_rotation_arc(from, to)
        };
        let thigh = swing * self.turns[0];
        let shin = swing * bend * self.turns[1];
        [self.above.conjugate() * thigh, thigh.conjugate() * shin, shin.conjugate() * self.turns[2]]
            .map(DQuat::normalize)
    }
}
