//! How far joints are from how they should move, in the world.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::evaluate::{EvaluateError, Solver};
use nimble_curve_scene::parts::axes_apart;
use nimble_curve_scene::scene::{Scene, Take};

use super::duties::Grip;

/// The largest departures of a joint, each with its frame.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Departure {
    /// In units of the scene.
    pub place: (f64, f64),
    /// In radians.
    pub turn: (f64, f64),
}

impl Departure {
    fn take(&mut self, place: f64, turn: f64, frame: f64) {
        if place > self.place.0 {
            self.place = (place, frame);
        }
        if turn > self.turn.0 {
            self.turn = (turn, frame);
        }
    }
}

/// A joint that controls cannot bring to where it should be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Unreached {
    /// How far off it is at best, at frames.
    pub best: Departure,
    /// Whether that is so of its place, and of its turn.
    pub parts: [bool; 2],
}

impl Unreached {
    /// How far its place and its turn are off at best, where they are not reached.
    pub fn slack(&self) -> [f64; 2] {
        let [place, turn] = self.parts;
        [if place { self.best.place.0 } else { 0.0 }, if turn { self.best.turn.0 } else { 0.0 }]
    }
}

/// What is compared.
pub struct Compared<'a> {
    pub motion: (&'a Scene, &'a Take),
    pub result: (&'a Scene, &'a Take),
    pub joints: &'a BTreeSet<NodeRef>,
    /// Limbs, by their constraint in the result, whose upper and lower joint are apart where they use more than this of their
    /// length.
    pub limbs: &'a BTreeSet<usize>,
    /// Joints that turn as their limb has it, with all below them: how they turn beside what is above them is not asked.
    pub bones: &'a BTreeSet<NodeRef>,
    /// What controls hold in the world: it does not go with the bones that it hangs on.
    pub grips: &'a BTreeMap<NodeRef, Grip>,
}

impl Compared<'_> {
    /// A limb with the joints that go with its bones.
    fn bend(&self, limb: usize) -> Option<Bend> {
        let &[upper, lower, end] = self.result.0.constraints[limb].driven().as_slice() else { return None };
        let goes_along = |&joint: &NodeRef| -> Option<(NodeRef, [bool; 2])> {
            let mut goes = [true; 2];
            let rig = self.result.0.rigs.get(joint.0)?;
            for id in std::iter::successors(Some(joint.1), |id| rig.parent(*id)) {
                let node = (joint.0, id);
                if node == upper || node == lower {
                    return Some((joint, goes));
                }
                let Some(grip) = self.grips.get(&node) else { continue };
                // What hangs on something that is held in place alone goes around it as that turns.
                goes = match (node == joint, grip.place, grip.turn) {
                    (_, true, true) => return None,
                    (true, place, turn) => [!place, !turn],
                    (false, ..) => goes,
                };
            }
            None
        };
        let mut along: BTreeMap<NodeRef, [bool; 2]> = self.joints.iter().filter_map(goes_along).collect();
        along.extend([(upper, [true; 2]), (lower, [true; 2])]);
        if !self.grips.contains_key(&end) {
            along.remove(&end);
        }
        Some(Bend { limb, along })
    }
}

/// A limb that may come to be straight.
struct Bend {
    /// Its constraint.
    limb: usize,
    /// What is where its bones are, in place and in turn.
    along: BTreeMap<NodeRef, [bool; 2]>,
}

/// More of its length than this, and a limb's middle is apart: its height goes as a root does there.
pub const STRAIGHT: f64 = 0.995;

/// The departures of joints.
#[derive(Clone, Debug, Default)]
pub struct Departures {
    pub all: BTreeMap<NodeRef, Departure>,
    /// Those of upper and lower joints of limbs that are all but straight, and of what goes with these.
    pub straight: BTreeMap<NodeRef, Departure>,
    /// The limb, by its constraint, with whose bones each of these goes.
    pub along: BTreeMap<NodeRef, usize>,
    /// When such limbs are all but straight, of the instants that were looked at.
    pub straight_at: BTreeMap<usize, Vec<f64>>,
}

/// Looks at joints at some instants; `seen` hears of each joint that is not apart.
pub fn departures(
    of: &Compared<'_>,
    times: impl Iterator<Item = f64>,
    mut seen: impl FnMut(NodeRef, f64, f64, f64),
) -> Result<Departures, EvaluateError> {
    let rate = of.result.0.rate;
    let wanted = || of.joints.iter().copied();
    let mut pose = Solver::new(of.motion.0, Some(of.motion.1), wanted())?;
    let mut made = Solver::new(of.result.0, Some(of.result.1), wanted())?;
    let bends: Vec<Bend> = of.limbs.iter().filter_map(|&limb| of.bend(limb)).collect();
    let mut straight: BTreeMap<NodeRef, [bool; 2]> = BTreeMap::new();
    let is_below = |joint: &&NodeRef| {
        let rig = of.result.0.rigs.get(joint.0);
        let mut above = std::iter::successors(Some(joint.1), |id| rig.and_then(|rig| rig.parent(*id)));
        above.any(|id| of.bones.contains(&(joint.0, id)))
    };
    let beside_bones: BTreeSet<NodeRef> = of.joints.iter().filter(is_below).copied().collect();
    let mut found = Departures::default();
    for time in times {
        pose.solve(time);
        made.solve(time);
        straight.clear();
        for bend in &bends {
            if made.reach_in(bend.limb, &pose).is_some_and(|reach| reach > STRAIGHT) {
                straight.extend(&bend.along);
                found.straight_at.entry(bend.limb).or_default().push(time);
            }
        }
        for &joint in of.joints {
            let (Some(theirs), Some(ours)) = (pose.stand(joint), made.stand(joint)) else { continue };
            let place = (theirs.world.translation - ours.world.translation).length();
            let beside = if beside_bones.contains(&joint) {
                0.0
            } else {
                angle_between(theirs.rotation, ours.rotation)
            };
            let turn = axes_apart(theirs.frame, ours.frame).max(beside);
            let frame = time / rate.ticks_per_frame();
            let [place_apart, turn_apart] = straight.get(&joint).copied().unwrap_or_default();
            let split = |value: f64, apart: bool| if apart { (value, 0.0) } else { (0.0, value) };
            let ((place_off, place), (turn_off, turn)) = (split(place, place_apart), split(turn, turn_apart));
            if place_apart || turn_apart {
                found.straight.entry(joint).or_default().take(place_off, turn_off, frame);
            }
            if !(place_apart && turn_apart) {
                found.all.entry(joint).or_default().take(place, turn, frame);
                seen(joint, time, place, turn);
            }
        }
    }
    for bend in bends.iter().filter(|bend| found.straight_at.contains_key(&bend.limb)) {
        found.along.extend(bend.along.keys().map(|joint| (*joint, bend.limb)));
    }
    Ok(found)
}

/// How far off joints are between keys at most, in words; nothing where there are none.
pub fn between_keys<'d>(
    scene: &Scene,
    addresses: &Addresses,
    take: &str,
    departures: impl Iterator<Item = (&'d NodeRef, &'d Departure)> + Clone,
) -> Option<String> {
    let most = |of: fn(&Departure) -> f64| {
        let found = departures.clone().max_by(|a, b| of(a.1).total_cmp(&of(b.1)));
        found.map(|(joint, departure)| (addresses.node(*joint), *departure))
    };
    let (placed, place) = most(|far| far.place.0)?;
    let (turned, turn) = most(|far| far.turn.0)?;
    Some(format!(
        "{take}: between keys {placed} is up to {:.2} mm off (frame {:.2}), {turned} up to {:.2} deg (frame {:.2})",
        place.place.0 * scene.space.metres_per_unit * 1000.0,
        place.place.1,
        turn.turn.0.to_degrees(),
        turn.turn.1
    ))
}

/// The quarters of frames of a range.
pub fn quarters(rate: FrameRate, range: TimeRange) -> impl Iterator<Item = f64> + use<> {
    let part = rate.ticks_per_frame() * 0.25;
    let from = (range.first.as_f64() / part).ceil() as i64;
    let to = (range.last.as_f64() / part).floor() as i64;
    (from..=to).map(move |step| step as f64 * part)
}

/// The whole frames of a range.
pub fn frames(rate: FrameRate, range: TimeRange) -> Vec<f64> {
    let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
    (first..=last).map(|frame| rate.ticks(frame).as_f64()).collect()
}
