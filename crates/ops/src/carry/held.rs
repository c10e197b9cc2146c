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
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{SampleKind, Samples};
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::scene::{PropertyKind, Take};

use super::beside::{Beside, limb_length};
use super::job::Job;
use super::links::{NodePairing, found};
use super::rewrite::Rewritten;
use super::tracks::base_layer;
use super::{CarryError, NameMap};
use crate::fitting::fit_samples;
use crate::grip::held_runs;

/// When a prop is held in a take.
pub(super) type Held = Vec<TimeRange>;

/// A prop and the hand that may hold it, on both sides.
pub(super) struct Grip {
    /// Which job carries the prop.
    pub job: usize,
    pub link: NodePairing,
    pub beside: Beside,
    /// The length of the source's arm.
    arm: f64,
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
    let arms = limb_length(&by.from, node).zip(limb_length(&by.onto, hand.target));
    let (arm, scale) = match arms {
        Some((own, other)) => (own, other / own),
        None => (0.5 / by.target.space.metres_per_unit, by.scale),
    };
    let node = (prop.from.node(link.place.node), prop.onto.node(link.target));
    Ok(Some(Grip { job, link, beside: Beside::new(node, by, &hand, scale), arm }))
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
        let name = self.source_addresses.node(grip.beside.node.0);
        let by = self.target_addresses.node(grip.beside.of.1);
        let (Some(base), Some(_)) = (base_layer(made), self.onto.view(grip.link.target)) else {
            let why = "it has no translation of its own, or no layer counts in full";
            return Ok((None, format!("'{name}' cannot be held: {why}")));
        };
        if !self.comes_over(grip.beside.of) || !self.comes_over(grip.beside.node) {
            let why = "it or what holds it is not selected";
            return Ok((None, format!("'{name}' moves by its own curves: {why}")));
        }
        let rate = self.source.rate;
        let (mut seen, own) = (Seen::default(), self.onto.position(grip.link.target));
        let parent = self.onto.rig.parent(grip.link.target).map(|id| self.onto.position(id));
        let first = self.each_frame(&grip.beside, (take, made), |instant, poses| {
            let ((node, turn), (holder, held)) = (instant.node, instant.of);
            let pose = &poses[self.onto.index];
            seen.beside.push((held.conjugate() * (node - holder), held.conjugate() * turn));
            seen.world.push(instant.node);
            seen.gripped.push(instant.wanted);
            seen.carried.push(pose.world[own].translation);
            seen.parents.push(parent.map_or(glam::DAffine3::IDENTITY, |at| pose.world[at]));
        })?;
        // A single pose shows no motion: what the map says is held is held.
        let runs = match seen.world.len() {
            1 => vec![(0, 0)],
            _ => held_runs(&seen.beside, &seen.world, grip.arm, rate.fps()),
        };
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
            grip.beside.scale
        );
        Ok((Some(times), said))
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
