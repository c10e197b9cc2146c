//! Which way limbs bend: towards a node, towards a direction, or as at rest.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_scene::constraint::Towards;

use super::Limits;
use super::eigen::{least, outer};
use super::recorded::Recording;
use super::steady::{count, steady};

/// How much of a direction has to be told by a motion at least: the ratio of what two directions of it would be off.
const TOLD: f64 = 1e4;

/// A limb on all frames: its joints, and where its middle stands out.
#[derive(Debug)]
pub struct Bends {
    pub root: usize,
    /// From the root to the end, by frame: a direction.
    pub lines: Vec<DVec3>,
    /// From that line to the middle: a direction; zero where the limb is straight.
    pub sides: Vec<DVec3>,
    /// How far the middle is from it.
    pub heights: Vec<f64>,
    /// The side at rest, in the world.
    pub side_at_rest: DVec3,
    pub line_at_rest: DVec3,
}

/// What the middle bends to.
#[derive(Clone, Debug)]
pub struct Bend {
    pub pole: Option<Towards>,
    /// The node that stands for it, where one does.
    pub node: Option<usize>,
    pub bends_other: bool,
    /// A turn about the line, in radians.
    pub twist: f64,
    pub on: Vec<bool>,
}

impl Bend {
    pub fn count(&self) -> usize {
        count(&self.on)
    }
}

impl Bends {
    /// Looks at some frames alone: on others it counts as straight, which agrees with everything.
    pub fn only(&mut self, on: &[bool]) {
        for ((side, height), on) in self.sides.iter_mut().zip(&mut self.heights).zip(on) {
            if !on {
                (*side, *height) = (DVec3::ZERO, 0.0);
            }
        }
    }

    /// The side to which something points, as a turn about the line from there to where the middle is; by frame.
    fn turns(&self, towards: impl Fn(usize) -> DVec3) -> Vec<Option<f64>> {
        let one = |frame: usize| {
            let (line, side) = (self.lines[frame], self.sides[frame]);
            let direction = towards(frame);
            let across = (direction - line * line.dot(direction)).try_normalize()?;
            (side != DVec3::ZERO).then(|| line.dot(across.cross(side)).atan2(across.dot(side)))
        };
        (0..self.lines.len()).map(one).collect()
    }

    /// On which frames the middle stands where a turn from a side puts it.
    fn agreeing(&self, turns: &[Option<f64>], twist: f64, limits: &Limits) -> Vec<bool> {
        let one = |(turn, height): (&Option<f64>, &f64)| match turn {
            // A straight limb bends to any side.
            None => *height <= limits.place,
            Some(turn) => 2.0 * height * ((turn - twist) * 0.5).sin().abs() <= limits.place,
        };
        turns.iter().zip(&self.heights).map(one).collect()
    }

    /// What a direction in the world makes of it: bending there, away from it, or at a turn beside it.
    fn beside(&self, towards: impl Fn(usize) -> DVec3, limits: &Limits) -> (f64, Vec<bool>) {
        let turns = self.turns(towards);
        let mut found = (0.0, self.agreeing(&turns, 0.0, limits));
        let away = self.agreeing(&turns, std::f64::consts::PI, limits);
        if count(&away) > count(&found.1) {
            found = (std::f64::consts::PI, away);
        }
        let longest = self.heights.iter().copied().fold(0.0, f64::max);
        let pointers: Vec<DVec3> =
            turns.iter().flatten().map(|turn| DVec3::new(turn.cos(), turn.sin(), 0.0)).collect();
        if let Some(mean) = steady(&pointers, limits.place / longest.max(limits.place)) {
            let twist = mean.value.y.atan2(mean.value.x);
            let beside = self.agreeing(&turns, twist, limits);
            if count(&beside) > count(&found.1) + self.lines.len() / 50 {
                found = (twist, beside);
            }
        }
        found
    }

    fn bend(&self, pole: Option<(Towards, Option<usize>)>, (twist, on): (f64, Vec<bool>)) -> Bend {
        let bends_other = twist == std::f64::consts::PI;
        let (pole, node) = pole.map_or((None, None), |(pole, node)| (Some(pole), node));
        Bend { pole, node, bends_other, twist: if bends_other { 0.0 } else { twist }, on }
    }

    /// Towards a node.
    pub fn to_node(&self, recording: &Recording, node: usize, limits: &Limits) -> Bend {
        let at = |index: usize, frame: usize| recording.nodes[index].instants[frame].place;
        let found = self.beside(|frame| at(node, frame) - at(self.root, frame), limits);
        self.bend(Some((Towards::Node(recording.nodes[node].node), Some(node))), found)
    }

    /// As at rest, carried by what the limb hangs on and turned the shortest way.
    pub fn as_at_rest(&self, recording: &Recording, limits: &Limits) -> Bend {
        let parent = recording.nodes[self.root].parent.map(|parent| &recording.nodes[parent]);
        let found = self.beside(
            |frame| {
                let carried = parent.map_or(DQuat::IDENTITY, |parent| {
                    parent.instants[frame].turn * parent.rest.turn.inverse()
                });
                let line = carried * self.line_at_rest;
                DQuat::from_rotation_arc(line, self.lines[frame]) * (carried * self.side_at_rest)
            },
            limits,
        );
        self.bend(None, found)
    }

    /// Towards the direction that fits best, in the space of a node or in the world: the one that all planes of the limb contain,
    /// by least squares. `None` where the motion does not tell it.
    pub fn to_direction(&self, recording: &Recording, space: Option<usize>, limits: &Limits) -> Option<Bend> {
        let of = space.map(|space| &recording.nodes[space]);
        let inward = |frame: usize, v: DVec3| of.map_or(v, |of| of.inward(frame, v));
        let outward = |frame: usize, v: DVec3| of.map_or(v, |of| of.outward(frame, v));
        let mut planes = DMat3::ZERO;
        let mut leaning = DVec3::ZERO;
        for frame in 0..self.lines.len() {
            let normal = inward(frame, self.lines[frame].cross(self.sides[frame]) * self.heights[frame]);
            planes += outer(normal, normal);
            leaning += inward(frame, self.sides[frame] * self.heights[frame]);
        }
        let (direction, sizes) = least(planes);
        let told = limits.place * limits.place * self.lines.len() as f64;
        if sizes[1] < TOLD * sizes[0].max(told * 1e-2) {
            return None;
        }
        let direction = super::rounded::direction(direction * direction.dot(leaning).signum());
        let found = self.beside(|frame| outward(frame, direction), limits);
        // A turn beside a direction is another direction.
        (found.0 == 0.0).then(|| {
            let node = space.map(|space| recording.nodes[space].node);
            self.bend(Some((Towards::Direction(direction, node), None)), found)
        })
    }
}

/// The direction that stays the same in the space of a joint on most of some frames, and on which it does: the more a limb bends,
/// the more of it is told. Where it is straight it agrees with everything.
pub fn hinge(directions: &[DVec3], heights: &[f64], on: &[bool], limit: f64) -> Option<(DVec3, Vec<bool>)> {
    let all = || directions.iter().zip(heights).zip(on);
    let told = || all().filter(|((own, _), on)| **on && **own != DVec3::ZERO).map(|(own, _)| own);
    let near: Vec<DVec3> = told().map(|(own, _)| *own).collect();
    let found = steady(&near, limit)?;
    let sum = told().zip(&found.on).filter(|(_, on)| **on);
    let hinge = sum.map(|((own, height), _)| *own * *height).sum::<DVec3>().try_normalize()?;
    // Positions say the less of it the straighter the limb is.
    let longest = told().map(|(_, height)| *height).fold(0.0, f64::max);
    let is_it = |(own, height): (&DVec3, &f64)| {
        (*own - hinge).length() * height <= limit * longest || *own == DVec3::ZERO
    };
    Some((hinge, directions.iter().zip(heights).map(is_it).collect()))
}
