//! Feet that stand still: legs of other proportions let a planted foot slide; here its ankle is put back where it was
//! planted, by the law of cosines at the knee and the shortest turn at the hip, its own orientation kept.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{SampleKind, Samples};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::rig::{Canonical, NodeId};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take};

use super::rewrite::Rewritten;
use super::tracks::base_layer;
use super::{CarryError, Job};
use crate::contact;
use crate::fitting::fit_samples;
use crate::names::Name;

/// A leg of the target by positions, and the foot of the source that it follows.
struct Leg {
    joints: [NodeId; 3],
    at: [usize; 3],
    above: Option<usize>,
    source: usize,
}

/// What is known of a leg at one frame.
#[derive(Clone, Copy)]
struct Frame {
    places: [DVec3; 3],
    turns: [DQuat; 3],
    above: DQuat,
    /// Where the foot of the source would have it.
    wanted: DVec3,
}

impl Job<'_> {
    /// Holds the planted feet of a carried take; says what came of it, where there is a foot that stands.
    pub fn hold_feet(
        &self,
        before: &Take,
        made: &mut Take,
        entries: &mut Vec<Entry>,
    ) -> Result<Option<String>, CarryError> {
        let (legs, Some(base)) = (self.legs(), base_layer(made)) else { return Ok(None) };
        let rate = self.source.rate;
        let first = rate.frame(before.range.first).ceil() as i64;
        let last = rate.frame(before.range.last).floor() as i64;
        let mut frames = self.frames(before, made, &legs, first..=last)?;
        let metres = self.target.space.metres_per_unit;
        let (mut contacts, mut slid, mut slides) = (0, 0.0_f64, 0.0_f64);
        for (leg, frames) in legs.iter().zip(&mut frames) {
            let runs = self.contacts(frames);
            contacts += runs.len();
            let Some(shifts) = corrections(frames, &runs) else { continue };
            let place = |frame: &Frame| frame.places[2];
            slid = slid.max(drift(frames, &runs, place));
            let solved: Vec<[DQuat; 3]> = frames
                .iter()
                .zip(&shifts)
                .map(|(frame, shift)| frame.reaching(place(frame) + *shift))
                .collect();
            self.write_leg(leg, &solved, (first, base), made, entries);
        }
        if contacts == 0 {
            return Ok(None);
        }
        let after = self.frames(before, made, &legs, first..=last)?;
        for (frames, was) in after.iter().zip(&frames) {
            slides = slides.max(drift(frames, &self.contacts(was), |frame| frame.places[2]));
        }
        Ok(Some(format!(
            "feet held in {contacts} contacts: they move by {:.2} mm at most while they stand, {:.2} mm without",
            slides * metres * 1000.0,
            slid * metres * 1000.0
        )))
    }

    /// Nodes of the target that turn otherwise than the source's where feet are held.
    pub fn bent_by_feet(&self) -> impl Iterator<Item = NodeId> {
        self.legs().into_iter().flat_map(|leg| [leg.joints[0], leg.joints[1]])
    }

    fn legs(&self) -> Vec<Leg> {
        let leg = |link: &super::links::NodePairing| {
            let rig = self.onto.rig;
            let foot = link.target;
            let is_foot = Name::of(&rig.node(foot)?.name).words.iter().any(|word| word == "foot");
            let shin = rig.parent(foot).filter(|_| is_foot && link.place.part == 1.0)?;
            let thigh = rig.parent(shin)?;
            let joints = [thigh, shin, foot];
            let can_turn = |id: &NodeId| {
                let node = rig.node(*id);
                self.onto.view(*id).is_some() && node.is_some_and(|node| !node.is_locked(ROTATION, None))
            };
            joints.iter().all(can_turn).then(|| Leg {
                joints,
                at: joints.map(|id| self.onto.position(id)),
                above: rig.parent(thigh).map(|id| self.onto.position(id)),
                source: self.from.position(link.place.node),
            })
        };
        self.links.all.iter().filter_map(leg).collect()
    }

    /// All legs at all frames of a carried take.
    fn frames(
        &self,
        before: &Take,
        made: &Take,
        legs: &[Leg],
        range: std::ops::RangeInclusive<i64>,
    ) -> Result<Vec<Vec<Frame>>, CarryError> {
        let result = Scene { takes: Vec::new(), ..self.target.clone() };
        let mut source = Evaluator::new(self.source, Some(before), self.from.index)?;
        let mut target = Evaluator::new(&result, Some(made), self.onto.index)?;
        let (mut pose, mut carried) = (Pose::default(), Pose::default());
        let mut all: Vec<Vec<Frame>> = legs.iter().map(|_| Vec::new()).collect();
        for frame in range {
            let time = self.source.rate.ticks(frame).as_f64();
            source.pose_at(time, &mut pose);
            target.pose_at(time, &mut carried);
            for (leg, frames) in legs.iter().zip(&mut all) {
                let place = pose.world[leg.source].translation;
                let rest = self.from.places[leg.source].translation;
                let planted = self.onto.places[leg.at[2]].translation + (place - rest) * self.scale;
                frames.push(Frame {
                    places: leg.at.map(|at| carried.world[at].translation),
                    turns: leg.at.map(|at| carried.world_rotation[at]),
                    above: leg.above.map_or(DQuat::IDENTITY, |at| carried.world_rotation[at]),
                    wanted: planted,
                });
            }
        }
        Ok(all)
    }

    /// The runs of frames in which a foot stands.
    fn contacts(&self, frames: &[Frame]) -> Vec<(usize, usize)> {
        let Some(first) = frames.first() else { return Vec::new() };
        let length =
            (first.places[1] - first.places[0]).length() + (first.places[2] - first.places[1]).length();
        let wanted: Vec<DVec3> = frames.iter().map(|frame| frame.wanted).collect();
        contact::contacts(&wanted, self.target.space.up.index(), length, self.source.rate.fps())
    }

    /// Puts the turns of a leg into a take as sparse curves on its base layer.
    fn write_leg(
        &self,
        leg: &Leg,
        solved: &[[DQuat; 3]],
        (first, base): (i64, usize),
        made: &mut Take,
        entries: &mut Vec<Entry>,
    ) {
        let rate = self.source.rate;
        let lengths: f64 = (1..3)
            .map(|joint| {
                let place = |joint: usize| self.onto.places[leg.at[joint]].translation;
                (place(joint) - place(joint - 1)).length()
            })
            .sum();
        // A foot that is held to the tolerance of lengths has joints that are held to what that is at the hip.
        let length = self.tolerance.length / self.target.space.metres_per_unit;
        let tolerance = self.tolerance.angle.min(0.2 * length / lengths.max(1e-9));
        for (joint, &id) in leg.joints.iter().enumerate() {
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
            let rewritten = Rewritten {
                target,
                controller,
                error,
                said: "turned so that the foot stays where it stands",
                beside: "written together with the base layer: the foot is held",
            };
            self.rewrite(made, entries, base, rewritten);
        }
    }
}

/// The animated part of a local rotation.
fn animated(view: &Canonical, local: DQuat) -> DQuat {
    view.before.conjugate() * local * view.after.conjugate()
}

/// How far a foot moves, from one end to the other, in the contact in which it moves most.
fn drift(frames: &[Frame], runs: &[(usize, usize)], place: impl Fn(&Frame) -> DVec3) -> f64 {
    let of_run = |&(from, to): &(usize, usize)| contact::spread(frames[from..=to].iter().map(&place));
    runs.iter().map(of_run).fold(0.0, f64::max)
}

/// By how much the foot has to be shifted at each frame: onto one place while it stands, smoothly from contact to contact.
fn corrections(frames: &[Frame], runs: &[(usize, usize)]) -> Option<Vec<DVec3>> {
    let mut shifts = vec![DVec3::ZERO; frames.len()];
    for &(from, to) in runs {
        let planted =
            frames[from..=to].iter().map(|frame| frame.wanted).sum::<DVec3>() / (to - from + 1) as f64;
        for index in from..=to {
            shifts[index] = planted - frames[index].places[2];
        }
    }
    let (first, last) = (runs.first()?.0, runs.last()?.1);
    for index in 0..first {
        shifts[index] = shifts[first];
    }
    for index in last + 1..frames.len() {
        shifts[index] = shifts[last];
    }
    for pair in runs.windows(2) {
        let (from, to) = (pair[0].1, pair[1].0);
        let (a, b) = (shifts[from], shifts[to]);
        for (step, shift) in shifts[from + 1..to].iter_mut().enumerate() {
            let part = (step + 1) as f64 / (to - from) as f64;
            *shift = a.lerp(b, part * part * (3.0 - 2.0 * part));
        }
    }
    Some(shifts)
}

impl Frame {
    /// The local rotations of thigh, shin and foot with which the ankle reaches a place, or comes as near as the leg is long.
    fn reaching(&self, ankle: DVec3) -> [DQuat; 3] {
        let [hip, knee, foot] = self.places;
        let (upper, lower) = ((knee - hip).length(), (foot - knee).length());
        let straight = (upper + lower) * 0.99999;
        let wanted = (ankle - hip).length().clamp((upper - lower).abs() + 1e-9, straight.max(1e-9));
        let (back, ahead) = ((hip - knee).normalize_or_zero(), (foot - knee).normalize_or_zero());
        let bent = back.dot(ahead).clamp(-1.0, 1.0).acos();
        let cosine = (upper * upper + lower * lower - wanted * wanted) / (2.0 * upper * lower).max(1e-12);
        let axis = back.cross(ahead).try_normalize();
        let axis = axis.unwrap_or_else(|| (self.turns[1] * DVec3::X).normalize_or(DVec3::X));
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
