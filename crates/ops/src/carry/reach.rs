//! Hands that keep their place beside something: the hips, the chest, the head, a prop.
//!
//! Turns carry relative to the rest pose, so that hands of other arms end elsewhere: what touched the cheek stands before it. A limb that
//! the map lets reach bends, by its two bones, so that its end stands beside that node as in the source, the distance in parts of the limb.

use std::collections::HashSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::evaluate::Poses;
use nimble_curve_scene::judge::Hold;
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Scene, Take};

use super::job::Job;
use super::limb::{Limb, LimbFrame, Said, reaching};
use super::links::{NodePairing, found};
use super::side::Side;
use super::tracks::base_layer;
use super::{CarryError, NameMap, PoseAt};

/// A limb and what it reaches for, on both sides.
pub(super) struct Reach {
    /// Which job carries it.
    pub job: usize,
    link: NodePairing,
    limb: Limb,
    end: (NodeRef, NodeRef),
    goal: (NodeRef, NodeRef),
    /// World rotations of the two nodes beside which it stands that correspond.
    references: (DQuat, DQuat),
    scale: f64,
}

const SAID: Said = Said {
    of_curve: "turned so that the end is where it is reached for",
    beside: "written together with the base layer: its limb reaches",
};

/// What the map lets reach; rigs that do not carry are let go.
pub(super) fn reaches(jobs: &[Job<'_>], map: &NameMap, from: &Addresses) -> Result<Vec<Reach>, CarryError> {
    let mut all = Vec::new();
    for (name, of) in &map.reach {
        let (end, goal) = (found(from, "source", name)?, found(from, "source", of)?);
        if map.held.iter().any(|(prop, by)| found(from, "source", prop) == Ok(goal) && by == name) {
            return Err(CarryError::Reach { end: name.clone(), why: "reaches for what it holds itself" });
        }
        let carries = |node: NodeRef| jobs.iter().position(|job| job.from.index == node.0);
        let (Some(job), Some(by)) = (carries(end), carries(goal)) else { continue };
        let partner = |job: usize, node: NodeRef, whose: &String| {
            jobs[job].links.of_source(node.1).copied().ok_or_else(|| CarryError::NoHolder(whose.clone()))
        };
        let (link, other) = (partner(job, end, name)?, partner(by, goal, of)?);
        let (own, beside) = (&jobs[job], &jobs[by]);
        let cannot = |why: &'static str| CarryError::Reach { end: name.clone(), why };
        let limb = own.limb(link.target).ok_or(cannot("has no two joints above it that can be turned"))?;
        if job == by && beside.onto.upwards(other.target).any(|id| limb.joints.contains(&id)) {
            return Err(cannot("reaches for what hangs on its own limb"));
        }
        let length = |side: &Side<'_>, end: NodeId| {
            let mut places = side.upwards(end).take(3).map(|id| side.places[side.position(id)].translation);
            let (end, middle, upper) = (places.next()?, places.next()?, places.next()?);
            Some((end - middle).length() + (middle - upper).length()).filter(|length| *length > 1e-6)
        };
        let lengths = length(&own.from, end.1).zip(length(&own.onto, link.target));
        all.push(Reach {
            job,
            link,
            limb,
            end: (end, own.onto.node(link.target)),
            goal: (goal, beside.onto.node(other.target)),
            references: (beside.from.world_of(goal.1), beside.onto.world_of(other.target)),
            scale: lengths.map_or(own.scale, |(own, other)| other / own),
        });
    }
    Ok(all)
}

impl Job<'_> {
    /// Lets a limb reach in a carried take of all rigs: whether it reaches at all frames, and what is said.
    pub(super) fn reach(
        &self,
        reach: &Reach,
        take: &Take,
        made: &mut Take,
        entries: &mut Vec<Entry>,
    ) -> Result<(bool, String), CarryError> {
        let name = self.target_addresses.node(reach.end.1);
        let Some(base) = base_layer(made) else {
            return Ok((false, format!("'{name}' cannot reach: no layer counts in full")));
        };
        let rate = self.source.rate;
        let first = rate.frame(take.range.first).ceil() as i64;
        let last = rate.frame(take.range.last).floor() as i64;
        let (frames, wanted) = self.wanted(reach, take, made, first..=last)?;
        let gentle: Vec<DVec3> =
            frames.iter().zip(&wanted).map(|(frame, place)| frame.gently(*place)).collect();
        let solved = reaching(&frames, &gentle);
        let turned = self.turned_by(&reach.limb, &frames, &solved);
        self.write_limb(&reach.limb, &solved, (first, base), (made, entries), SAID);
        let short = gentle.iter().zip(&wanted).map(|(place, wanted)| (*place - *wanted).length()).enumerate();
        let (at, short) = short.fold((0, 0.0), |most, own| if own.1 > most.1 { own } else { most });
        let of = self.target_addresses.node(reach.goal.1);
        let said = format!(
            "'{}': '{name}' reaches beside '{of}', {:.3} times as far from it; for that turn at most {turned}",
            take.name, reach.scale
        );
        let millimetres = short * self.target.space.metres_per_unit * 1000.0;
        match millimetres > 1e-3 {
            false => Ok((true, said)),
            true => Ok((
                false,
                format!("{said}; the limb is {millimetres:.1} mm short of it at frame {}", first + at as i64),
            )),
        }
    }

    /// The limb and where its end is to be, one frame after another.
    fn wanted(
        &self,
        reach: &Reach,
        take: &Take,
        made: &Take,
        frames: std::ops::RangeInclusive<i64>,
    ) -> Result<(Vec<LimbFrame>, Vec<DVec3>), CarryError> {
        let bare = Scene { takes: Vec::new(), ..self.target.clone() };
        let mut source = Poses::new(self.source, take)?;
        let mut result = Poses::new(&bare, made)?;
        let at = |scene: &Scene, (rig, id): NodeRef| (rig, scene.rigs[rig].position(id).unwrap_or(0));
        let (end, goal) = (at(self.source, reach.end.0), at(self.source, reach.goal.0));
        let own_goal = at(&bare, reach.goal.1);
        let (mut limbs, mut wanted) = (Vec::new(), Vec::new());
        for frame in frames {
            let time = self.source.rate.ticks(frame).as_f64();
            source.at(time);
            result.at(time);
            let place = |poses: &Poses<'_>, (rig, at): (usize, usize)| {
                (poses.poses[rig].world[at].translation, poses.poses[rig].world_rotation[at])
            };
            let ((hand, _), (beside, turn)) = (place(&source, end), place(&source, goal));
            let (own_beside, own_turn) = place(&result, own_goal);
            let turned = (turn * reach.references.0.conjugate(), own_turn * reach.references.1.conjugate());
            limbs.push(reach.limb.frame(&result.poses[self.onto.index]));
            wanted.push(own_beside + reach.scale * ((turned.1 * turned.0.conjugate()) * (hand - beside)));
        }
        Ok((limbs, wanted))
    }

    /// What is promised of an end that reaches its place in a whole take of the source as it came in.
    pub(super) fn reach_claim(
        &self,
        source: &Scene,
        reach: &Reach,
        pose: Option<&PoseAt>,
        (take, range): (usize, TimeRange),
    ) -> Result<Option<Hold>, CarryError> {
        let side = |rig: usize| Side::of(source, rig, pose.map(|pose| (&pose.take, pose.time)));
        let (end, beside) = (side(self.from.index)?, side(reach.goal.0.0)?);
        Ok(self.way_of(&end, &reach.link).map(|base| Hold {
            take,
            source: (reach.end.0, reach.goal.0),
            result: (reach.end.1, reach.goal.1),
            references: (beside.world_of(reach.goal.0.1), reach.references.1),
            scale: reach.scale,
            base,
            times: vec![range],
        }))
    }
}

/// The nodes of the target that turn otherwise than the source's where limbs of a rig reach.
pub(super) fn bent_by_reaching(reaches: &[Reach], job: usize) -> HashSet<NodeId> {
    let own = reaches.iter().filter(|reach| reach.job == job);
    own.flat_map(|reach| [reach.limb.joints[0], reach.limb.joints[1]]).collect()
}
