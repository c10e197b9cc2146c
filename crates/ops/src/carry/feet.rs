//! Feet that stand still: legs of other proportions let a planted foot slide; here its ankle is put back where it was
//! planted, by the law of cosines at the knee and the shortest turn at the hip, its own orientation kept.

use glam::DVec3;
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::Entry;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Scene, Take};

use super::limb::{Limb, LimbFrame, Said, reaching};
use super::tracks::base_layer;
use super::{CarryError, Job};
use crate::contact;
use crate::names::Name;

/// A leg of the target, and where the foot of the source that it follows stands in its rig.
struct Leg {
    limb: Limb,
    source: usize,
}

/// What is known of a leg at one frame.
#[derive(Clone, Copy)]
struct Frame {
    limb: LimbFrame,
    /// Where the foot of the source would have it.
    wanted: DVec3,
}

const SAID: Said = Said {
    of_curve: "turned so that the foot stays where it stands",
    beside: "written together with the base layer: the foot is held",
};

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
        let was_carried = made.clone();
        let mut frames = self.frames(before, made, &legs, first..=last)?;
        let metres = self.target.space.metres_per_unit;
        let mut bent: Vec<String> = Vec::new();
        let (mut contacts, mut slid, mut slides, mut short) = (0, 0.0_f64, 0.0_f64, 0.0_f64);
        for (leg, frames) in legs.iter().zip(&mut frames) {
            let runs = self.contacts(frames);
            contacts += runs.len();
            let Some(shifts) = corrections(frames, &runs) else { continue };
            let place = |frame: &Frame| frame.limb.places[2];
            slid = slid.max(drift(frames, &runs, place));
            let places: Vec<DVec3> =
                frames.iter().zip(&shifts).map(|(frame, shift)| place(frame) + *shift).collect();
            let standing = runs.iter().flat_map(|&(from, to)| from..=to);
            short = standing.map(|at| frames[at].limb.short_of(places[at])).fold(short, f64::max);
            let was: Vec<LimbFrame> = frames.iter().map(|frame| frame.limb).collect();
            let solved = reaching(&was, &places);
            bent.push(self.turned_by(&leg.limb, &was, &solved));
            self.write_limb(&leg.limb, &solved, (first, base), (made, entries), SAID);
            self.steady_end(&leg.limb, &was_carried, base, (made, entries), SAID)?;
        }
        if contacts == 0 {
            return Ok(None);
        }
        let after = self.frames(before, made, &legs, first..=last)?;
        for (frames, was) in after.iter().zip(&frames) {
            slides = slides.max(drift(frames, &self.contacts(was), |frame| frame.limb.places[2]));
        }
        let millimetres = short * metres * 1000.0;
        let short = match millimetres > 0.1 {
            true => format!("; a leg is {millimetres:.1} mm too short for where its foot stood"),
            false => String::new(),
        };
        Ok(Some(format!(
            "feet held in {contacts} contacts: they move by {:.2} mm at most while they stand, {:.2} mm without; for that turn at most {}{short}",
            slides * metres * 1000.0,
            slid * metres * 1000.0,
            bent.join(", ")
        )))
    }

    /// Nodes of the target that turn otherwise than the source's where feet are held.
    pub fn bent_by_feet(&self) -> impl Iterator<Item = NodeId> {
        self.legs().into_iter().flat_map(|leg| [leg.limb.joints[0], leg.limb.joints[1]])
    }

    fn legs(&self) -> Vec<Leg> {
        let leg = |link: &super::links::NodePairing| {
            let name = Name::of(&self.onto.rig.node(link.target)?.name);
            let is_foot = name.words.iter().any(|word| word == "foot") && link.place.part == 1.0;
            let limb = is_foot.then(|| self.limb(link.target)).flatten()?;
            Some(Leg { limb, source: self.from.position(link.place.node) })
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
                let planted = self.onto.places[leg.limb.at[2]].translation + (place - rest) * self.scale;
                frames.push(Frame { limb: leg.limb.frame(&carried), wanted: planted });
            }
        }
        Ok(all)
    }

    /// The runs of frames in which a foot stands.
    fn contacts(&self, frames: &[Frame]) -> Vec<(usize, usize)> {
        let Some(first) = frames.first() else { return Vec::new() };
        let [hip, knee, ankle] = first.limb.places;
        let length = (knee - hip).length() + (ankle - knee).length();
        let wanted: Vec<DVec3> = frames.iter().map(|frame| frame.wanted).collect();
        contact::contacts(&wanted, self.target.space.up.index(), length, self.source.rate.fps())
    }
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
            shifts[index] = planted - frames[index].limb.places[2];
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
