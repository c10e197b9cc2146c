//! Props that are held: in the result a prop stays in the hand that holds it in the source, and lies where that hand took it from and
//! put it.
//!
//! Arms of other proportions reach other places than the source's, scaled; a prop that moved as its own curves say would float beside the
//! hand. While it is held it stands beside the hand as in the source, the distance in parts of the arm; where it rests it rests as far
//! from its scaled place as it was when it was taken or put there, so that it neither jumps nor slides.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::{SampleKind, Samples};
use nimble_curve_scene::evaluate::Poses;
use nimble_curve_scene::judge::Hold;
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::{NodeId, TRANSLATION};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take};

use super::job::Job;
use super::links::{NodePairing, found};
use super::rewrite::Rewritten;
use super::side::Side;
use super::tracks::base_layer;
use super::{CarryError, NameMap, PoseAt};
use crate::fitting::fit_samples;
use crate::grip::held_runs;

/// When a prop is held in a take.
pub(super) type Held = Vec<TimeRange>;

/// A prop and the hand that may hold it, on both sides.
pub(super) struct Grip {
    /// Which job carries the prop.
    pub job: usize,
    pub link: NodePairing,
    node: (NodeRef, NodeRef),
    holder: (NodeRef, NodeRef),
    /// World rotations of the holders that correspond.
    references: (DQuat, DQuat),
    /// The length of the source's arm, and by how much the target's is longer.
    arm: f64,
    scale: f64,
}

/// What the map says is held.
///
/// What is held by a rig that stays behind moves by its own curves; that is noted.
pub(super) fn grips(
    jobs: &[Job<'_>],
    map: &NameMap,
    from: &Addresses,
    notes: &mut Vec<String>,
) -> Result<Vec<Grip>, CarryError> {
    let mut found_grips = Vec::new();
    for pair in &map.rigs {
        let Some(held) = &pair.held else { continue };
        let job = jobs.iter().position(|job| job.source.rigs[job.from.index].name == pair.source);
        let top = job.and_then(|job| jobs[job].links.all.first().map(|link| (job, *link)));
        if let Some((job, link)) = top {
            found_grips.extend(grip(jobs, (job, link), held, (from, notes))?);
        }
    }
    for (name, held) in &map.held {
        let (rig, node) = found(from, "source", name)?;
        let link = jobs.iter().enumerate().find_map(|(index, job)| {
            let link = job.links.of_source(node).filter(|_| job.from.index == rig)?;
            Some((index, *link))
        });
        if let Some(link) = link {
            found_grips.extend(grip(jobs, link, held, (from, notes))?);
        }
    }
    Ok(found_grips)
}

fn grip(
    jobs: &[Job<'_>],
    (job, link): (usize, NodePairing),
    holder: &str,
    (from, notes): (&Addresses, &mut Vec<String>),
) -> Result<Option<Grip>, CarryError> {
    let prop = &jobs[job];
    let (rig, node) = found(from, "source", holder)?;
    if !jobs.iter().any(|job| job.from.index == rig) {
        let name = from.node(prop.from.node(link.place.node));
        notes.push(format!("'{name}' moves by its own curves: '{holder}', which holds it, stays behind"));
        return Ok(None);
    }
    let hand = jobs.iter().filter(|job| job.from.index == rig).find_map(|job| {
        let link = job.links.of_source(node)?;
        Some((job, *link))
    });
    let Some((by, hand)) = hand else { return Err(CarryError::NoHolder(holder.to_owned())) };
    let arms = (arm(&by.from, node), arm(&by.onto, hand.target));
    let (arm, scale) = match arms {
        (Some(own), Some(other)) => (own, other / own),
        _ => (0.5 / by.target.space.metres_per_unit, by.scale),
    };
    Ok(Some(Grip {
        job,
        link,
        node: (prop.from.node(link.place.node), prop.onto.node(link.target)),
        holder: ((rig, node), by.onto.node(hand.target)),
        references: (by.from.world_of(node), by.onto.world_of(hand.target)),
        arm,
        scale,
    }))
}

/// The length of the two bones above a hand.
fn arm(side: &Side<'_>, hand: NodeId) -> Option<f64> {
    let mut upwards = side.upwards(hand).take(3).map(|id| side.places[side.position(id)].translation);
    let (hand, elbow, shoulder) = (upwards.next()?, upwards.next()?, upwards.next()?);
    let length = (hand - elbow).length() + (elbow - shoulder).length();
    (length > 1e-6).then_some(length)
}

/// Where a prop and its holder are, one frame after another: in the world, the prop in the holder's axes, and where it is to be.
#[derive(Default)]
struct Seen {
    beside: Vec<(DVec3, DQuat)>,
    world: Vec<(DVec3, DQuat)>,
    /// In the holder's hand, and as it came over.
    gripped: Vec<DVec3>,
    carried: Vec<DVec3>,
    parents: Vec<glam::DAffine3>,
}

impl Job<'_> {
    /// Puts a prop into the hand that holds it, in a carried take of all rigs: what is promised of it, and what is said.
    pub(super) fn hold(
        &self,
        grip: &Grip,
        take: &Take,
        made: &mut Take,
        entries: &mut Vec<Entry>,
    ) -> Result<(Option<Held>, String), CarryError> {
        let name = self.source_addresses.node(grip.node.0);
        let by = self.target_addresses.node(grip.holder.1);
        let (Some(base), Some(_)) = (base_layer(made), self.onto.view(grip.link.target)) else {
            let why = "it has no translation of its own, or no layer counts in full";
            return Ok((None, format!("'{name}' cannot be held: {why}")));
        };
        let rate = self.source.rate;
        let first = rate.frame(take.range.first).ceil() as i64;
        let last = rate.frame(take.range.last).floor() as i64;
        let seen = self.seen(grip, take, made, first..=last)?;
        let runs = held_runs(&seen.beside, &seen.world, grip.arm, rate.fps());
        if runs.is_empty() {
            return Ok((
                None,
                format!("'{}': '{name}' is never held: it moves by its own curves", take.name),
            ));
        }
        let values = seen.wanted(&runs).into_iter().flat_map(|place| place.to_array()).collect();
        let samples = Samples { start: rate.ticks(first), rate, kind: SampleKind::Vector, values };
        let tolerance = 0.8 * self.tolerance.length / self.target.space.metres_per_unit;
        let kind = PropertyKind::Vector(Quantity::Length);
        let Some((controller, error)) = fit_samples(&samples, kind, RotationOrder::Xyz, tolerance) else {
            return Ok((None, format!("'{name}' cannot be held: its way cannot be written as curves")));
        };
        let rewritten = Rewritten {
            target: self.onto.target(grip.link.target, TRANSLATION),
            controller,
            error,
            said: "held by the hand",
            beside: "written together with the base layer: it is held by the hand",
        };
        self.rewrite(made, entries, base, rewritten);
        let at = |frame: usize| rate.ticks(first + frame as i64);
        let times: Vec<TimeRange> = runs.iter().map(|run| TimeRange::new(at(run.0), at(run.1))).collect();
        let frames: Vec<String> =
            runs.iter().map(|run| format!("{}:{}", first + run.0 as i64, first + run.1 as i64)).collect();
        let said = format!(
            "'{}': '{name}' is held by '{by}' in frames {}, {:.3} times as far from it; elsewhere it lies where it is taken and put",
            take.name,
            frames.join(", "),
            grip.scale
        );
        Ok((Some(times), said))
    }

    /// What is promised of a prop that is held in a take of the source as it came in.
    pub(super) fn hold_claim(
        &self,
        source: &Scene,
        grip: &Grip,
        pose: Option<&PoseAt>,
        (take, times): (usize, Held),
    ) -> Result<Option<Hold>, CarryError> {
        let side = |rig: usize| Side::of(source, rig, pose.map(|pose| (&pose.take, pose.time)));
        let (prop, by) = (side(self.from.index)?, side(grip.holder.0.0)?);
        Ok(self.way_of(&prop, &grip.link).map(|base| Hold {
            take,
            source: (grip.node.0, grip.holder.0),
            result: (grip.node.1, grip.holder.1),
            references: (by.world_of(grip.holder.0.1), grip.references.1),
            scale: grip.scale,
            base,
            times,
        }))
    }

    fn seen(
        &self,
        grip: &Grip,
        take: &Take,
        made: &Take,
        frames: std::ops::RangeInclusive<i64>,
    ) -> Result<Seen, CarryError> {
        let bare = Scene { takes: Vec::new(), ..self.target.clone() };
        let mut source = Poses::new(self.source, take)?;
        let mut result = Poses::new(&bare, made)?;
        let at = |scene: &Scene, (rig, id): NodeRef| (rig, scene.rigs[rig].position(id).unwrap_or(0));
        let (prop, hand) = (at(self.source, grip.node.0), at(self.source, grip.holder.0));
        let (own, own_hand) = (at(&bare, grip.node.1), at(&bare, grip.holder.1));
        let parent = self.onto.rig.parent(grip.link.target).map(|id| self.onto.position(id));
        let mut seen = Seen::default();
        for frame in frames {
            let time = self.source.rate.ticks(frame).as_f64();
            source.at(time);
            result.at(time);
            let place = |poses: &Poses<'_>, (rig, at): (usize, usize)| {
                let pose = &poses.poses[rig];
                (pose.world[at].translation, pose.world_rotation[at])
            };
            let ((node, turn), (holder, held)) = (place(&source, prop), place(&source, hand));
            let (own_holder, own_held) = place(&result, own_hand);
            let turned = (held * grip.references.0.conjugate(), own_held * grip.references.1.conjugate());
            let apart = (turned.1 * turned.0.conjugate()) * (node - holder);
            seen.beside.push((held.conjugate() * (node - holder), held.conjugate() * turn));
            seen.world.push((node, turn));
            seen.gripped.push(own_holder + grip.scale * apart);
            seen.carried.push(place(&result, own).0);
            let above = parent.map_or(glam::DAffine3::IDENTITY, |at| result.poses[own.0].world[at]);
            seen.parents.push(above);
        }
        Ok(seen)
    }
}

impl Seen {
    /// Its local places: in the hand in some runs of frames, and as far from where it came over as there before, after and between them.
    fn wanted(&self, runs: &[(usize, usize)]) -> Vec<DVec3> {
        let offset = |frame: usize| self.gripped[frame] - self.carried[frame];
        let wanted = |frame: usize| {
            if runs.iter().any(|(first, last)| (*first..=*last).contains(&frame)) {
                return self.gripped[frame];
            }
            let before = runs.iter().rev().find(|(_, last)| *last < frame);
            let after = runs.iter().find(|(first, _)| *first > frame);
            let apart = match (before, after) {
                (Some(&(_, put)), Some(&(taken, _))) => {
                    offset(put).lerp(offset(taken), (frame - put) as f64 / (taken - put) as f64)
                }
                (Some(&(_, put)), None) => offset(put),
                (None, Some(&(taken, _))) => offset(taken),
                (None, None) => DVec3::ZERO,
            };
            self.carried[frame] + apart
        };
        let local = |frame: usize| self.parents[frame].inverse().transform_point3(wanted(frame));
        (0..self.carried.len()).map(local).collect()
    }
}
