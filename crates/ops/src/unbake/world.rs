//! A bound in world space: an error at the hips moves the feet.
//!
//! Each track above a joint may move it by a part of the bound: a rotation by its distance times the angle, so that hips get
//! less room than toes. The result is compared with the source by forward kinematics, in windows of a tenth of a second;
//! where a joint lies farther off than the bound allows, the part of all tracks above it shrinks in that window, and those
//! tracks are fitted anew, until the bound holds.

use glam::DVec3;
use nimble_curve_curves::time::TICKS_PER_SECOND;
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take};

/// How far joints may be off.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Bound {
    /// The largest distance in units of the scene.
    pub distance: f64,
    /// Nodes that may not be moved by more than it, peak to peak, while they stand still.
    pub watched: Vec<NodeId>,
}

/// What was found.
pub(super) struct Excess {
    /// For each node, by position in the rig, the part of the bound that is used up in each window: above 1 where it is
    /// broken.
    by_node: Vec<Vec<f64>>,
    /// The largest distance of any joint, and at which frame.
    pub largest: (f64, f64),
    /// The largest motion added to a watched node while it stands still, peak to peak.
    pub added: f64,
}

/// Stretches of time of one length, one after another.
#[derive(Clone, Copy, Debug)]
pub(super) struct Windows {
    /// The instants that are compared: the first one and the distance from one to the next, in ticks.
    first: f64,
    step: f64,
    /// How many instants there are, and how many of them a window has.
    instants: usize,
    length: usize,
}

impl Windows {
    /// Those of a take, whose instants are a step apart.
    pub fn new(take: &Take, step: f64) -> Windows {
        let range = take.key_range().map_or(take.range, |keys| keys.union(take.range));
        let instants = ((range.last - range.first).as_f64() / step) as usize + 1;
        let length = (WINDOW * TICKS_PER_SECOND as f64 / step).ceil() as usize;
        Windows { first: range.first.as_f64(), step, instants, length }
    }

    fn count(&self) -> usize {
        self.instants.div_ceil(self.length)
    }

    fn at(&self, time: f64) -> usize {
        let instant = ((time - self.first) / self.step).round().max(0.0) as usize;
        (instant / self.length).min(self.count() - 1)
    }
}

/// By how much of the bound a track may move a joint below it, to begin with: they seldom all do so at once.
const FIRST: f64 = 0.5;

/// How closely tracks must be fitted so that the bound holds.
pub(super) struct Closer {
    windows: Windows,
    rigs: Vec<Branches>,
}

/// The nodes of a rig, by position.
struct Branches {
    /// For each node those above it, itself first, with their distances at rest.
    above: Vec<Vec<(usize, f64)>>,
    /// By how much any track above a node may move it, in each window.
    moves: Vec<Vec<f64>>,
}

impl Closer {
    /// Where to begin.
    pub fn new(scene: &Scene, distance: f64, windows: Windows) -> Closer {
        let branches = |rig: &Rig| {
            let (parents, rest) = (rig.parent_positions(), rig.rest_world());
            let above = |node: usize| {
                let distance = |above: usize| rest[node].translation.distance(rest[above].translation);
                std::iter::successors(Some(node), |&above| parents[above])
                    .map(|above| (above, distance(above)))
                    .collect()
            };
            let moves = vec![vec![FIRST * distance; windows.count()]; rig.len()];
            Branches { above: (0..rig.len()).map(above).collect(), moves }
        };
        Closer { windows, rigs: scene.rigs.iter().map(branches).collect() }
    }

    /// What a node's tracks may be off at some instants, in ticks: for translations a distance, for all else an angle or a
    /// factor, which moves joints by so many times their distance.
    pub fn room(
        &self,
        (rig, node): (usize, usize),
        kind: PropertyKind,
        times: impl Iterator<Item = f64>,
    ) -> Vec<f64> {
        let Branches { above, moves } = &self.rigs[rig];
        let mut by_window = vec![f64::INFINITY; self.windows.count()];
        for (above, moves) in above.iter().zip(moves) {
            let Some(&(_, distance)) = above.iter().find(|(above, _)| *above == node) else { continue };
            let lever = if kind.quantity() == Quantity::Length { 1.0 } else { distance };
            if lever > 0.0 {
                by_window.iter_mut().zip(moves).for_each(|(room, moves)| *room = room.min(moves / lever));
            }
        }
        times.map(|time| by_window[self.windows.at(time)]).collect()
    }

    /// Lets the tracks above nodes that are farther off than they may be move them by less, in those windows and so many
    /// around them; whether there are any.
    pub fn shrink(&mut self, rig: usize, excess: &Excess, around: usize) -> bool {
        let mut any = false;
        for (moves, excess) in self.rigs[rig].moves.iter_mut().zip(&excess.by_node) {
            for (window, &excess) in excess.iter().enumerate().filter(|(_, excess)| **excess > 1.0) {
                any = true;
                let last = (window + around).min(moves.len() - 1);
                let factor = (0.95 / excess).max(0.3);
                moves[window.saturating_sub(around)..=last].iter_mut().for_each(|moves| *moves *= factor);
            }
        }
        any
    }
}

/// A watched node stands still while it stays within so many metres for [`CONTACT`].
const STILL: f64 = 0.0015;
/// A contact is at least so long, in seconds.
const CONTACT: f64 = 0.08;
/// The length of a window, in seconds.
const WINDOW: f64 = 0.1;

/// Compares two versions of a take in world space.
pub(super) fn compare(
    scene: &Scene,
    (before, after): (&Take, &Take),
    rig: usize,
    bound: &Bound,
    windows: Windows,
) -> Result<Excess, EvaluateError> {
    let (mut source, mut result) =
        (Evaluator::new(scene, Some(before), rig)?, Evaluator::new(scene, Some(after), rig)?);
    let nodes = scene.rigs[rig].nodes().count();
    let mut by_node = vec![vec![0.0_f64; windows.count()]; nodes];
    let mut largest = (0.0_f64, 0.0);
    let watched: Vec<usize> =
        bound.watched.iter().filter_map(|node| scene.rigs[rig].position(*node)).collect();
    let mut tracks: Vec<Vec<(DVec3, DVec3)>> = vec![Vec::new(); watched.len()];
    let (mut a, mut b) = (Pose::default(), Pose::default());
    for instant in 0..windows.instants {
        let time = windows.first + instant as f64 * windows.step;
        source.pose_at(time, &mut a);
        result.pose_at(time, &mut b);
        for (position, by_window) in by_node.iter_mut().enumerate() {
            let distance = a.world[position].translation.distance(b.world[position].translation);
            let worst = &mut by_window[instant / windows.length];
            *worst = worst.max(distance / bound.distance);
            if distance > largest.0 {
                largest = (distance, time / scene.rate.ticks_per_frame());
            }
        }
        for (track, &position) in tracks.iter_mut().zip(&watched) {
            let (from, to) = (a.world[position].translation, b.world[position].translation);
            track.push((from, to - from));
        }
    }
    let seconds = windows.step / TICKS_PER_SECOND as f64;
    let still = STILL / scene.space.metres_per_unit;
    let mut added = 0.0_f64;
    for (track, &position) in tracks.iter().zip(&watched) {
        for (from, to, moved) in added_in_contacts(track, still, (CONTACT / seconds).ceil() as usize) {
            added = added.max(moved);
            for worst in &mut by_node[position][from / windows.length..=to / windows.length] {
                *worst = worst.max(moved / bound.distance);
            }
        }
    }
    Ok(Excess { by_node, largest, added })
}

/// The contacts of a node, all windows in which it hardly moves, neighbouring ones taken together: their first and last
/// instants, and the motion, peak to peak, that was added there.
fn added_in_contacts(track: &[(DVec3, DVec3)], still: f64, window: usize) -> Vec<(usize, usize, f64)> {
    let mut stands = vec![false; track.len()];
    for start in 0..track.len().saturating_sub(window) {
        if extent(track[start..=start + window].iter().map(|(at, _)| *at)) <= still {
            stands[start..=start + window].fill(true);
        }
    }
    let mut contacts = Vec::new();
    let mut start = 0;
    while start < track.len() {
        let length = stands[start..].iter().take_while(|stands| **stands).count();
        if length > 0 {
            let moved = extent(track[start..start + length].iter().map(|(_, offset)| *offset));
            contacts.push((start, start + length - 1, moved));
        }
        start += length.max(1);
    }
    contacts
}

/// The diagonal of the box around some points.
fn extent(points: impl Iterator<Item = DVec3>) -> f64 {
    let (low, high) = points
        .fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(low, high), point| (low.min(point), high.max(point)));
    low.distance(high)
}
