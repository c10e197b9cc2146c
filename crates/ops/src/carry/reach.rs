//! Hands that keep their place beside something: the hips, the chest, the head, a prop.
//!
//! Turns carry relative to the rest pose, so that hands of other arms end elsewhere: what touched the cheek stands before it. A limb that
//! the map lets reach bends, by its two bones, so that its end stands beside that node as in the source, the distance in parts of the limb.

use std::collections::HashSet;

use glam::DVec3;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::Take;

use super::beside::{Beside, limb_length};
use super::job::Job;
use super::limb::{Limb, Said, reaching};
use super::links::{NodePairing, found};
use super::tracks::base_layer;
use super::{CarryError, NameMap};

/// A limb and what it reaches for, on both sides.
pub(super) struct Reach {
    /// Which job carries it.
    pub job: usize,
    pub link: NodePairing,
    limb: Limb,
    pub beside: Beside,
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
        let lengths = limb_length(&own.from, end.1).zip(limb_length(&own.onto, link.target));
        let scale = lengths.map_or(own.scale, |(own, other)| other / own);
        let node = (end, own.onto.node(link.target));
        all.push(Reach { job, link, limb, beside: Beside::new(node, beside, &other, scale) });
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
        let name = self.target_addresses.node(reach.beside.node.1);
        let Some(base) = base_layer(made) else {
            return Ok((false, format!("'{name}' cannot reach: no layer counts in full")));
        };
        if !self.comes_over(reach.beside.of) || !self.comes_over(reach.beside.node) {
            return Ok((
                false,
                format!("'{name}' does not reach: it or what it reaches for is not selected"),
            ));
        }
        let (mut frames, mut wanted) = (Vec::new(), Vec::new());
        let first = self.each_frame(&reach.beside, (take, made), |instant, poses| {
            frames.push(reach.limb.frame(&poses[self.onto.index]));
            wanted.push(instant.wanted);
        })?;
        let gentle: Vec<DVec3> =
            frames.iter().zip(&wanted).map(|(frame, place)| frame.gently(*place)).collect();
        let solved = reaching(&frames, &gentle);
        let turned = self.turned_by(&reach.limb, &frames, &solved);
        let was = made.clone();
        self.write_limb(&reach.limb, &solved, (first, base), (made, entries), SAID);
        self.steady_end(&reach.limb, &was, base, (made, entries), SAID)?;
        let short = gentle.iter().zip(&wanted).map(|(place, wanted)| (*place - *wanted).length()).enumerate();
        let (at, short) = short.fold((0, 0.0), |most, own| if own.1 > most.1 { own } else { most });
        let of = self.target_addresses.node(reach.beside.of.1);
        let said = format!(
            "'{}': '{name}' reaches beside '{of}', {:.3} times as far from it; for that turn at most {turned}",
            take.name, reach.beside.scale
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
}

/// The nodes of the target that turn otherwise than the source's where limbs of a rig reach.
pub(super) fn bent_by_reaching(reaches: &[Reach], job: usize) -> HashSet<NodeId> {
    let own = reaches.iter().filter(|reach| reach.job == job);
    own.flat_map(|reach| [reach.limb.joints[0], reach.limb.joints[1]]).collect()
}
