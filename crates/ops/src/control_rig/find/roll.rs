//! What takes a part of another node's roll.

use std::ops::Range;

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::constraint::{Roll, RollAxes, Setting};
use nimble_curve_scene::evaluate::twist;

use super::Limits;
use super::eigen::{least, outer};
use super::limb::Rival;
use super::recorded::Recording;

/// How many steps of least squares are made at most.
const STEPS: usize = 40;

/// How much of a turn has to be told by a motion at least: the ratio of what its axes do.
const TOLD: f64 = 1e-4;

/// On about how many frames a source is tried first.
const FEW: usize = 100;

/// The least fraction that is one.
const LEAST: f64 = 1e-3;

/// How often a node has to turn back at least: of three numbers that are keyed at a few frames any other one that is keyed there is a
/// sum, as long as it goes forth and back no more often than that.
const TURNINGS: usize = 3;

/// The part of the way of a source, from either end, that has to foretell the rest.
const PART: f64 = 0.6;

/// Something that was found to roll.
#[derive(Debug)]
pub struct Found {
    pub roll: Roll,
    pub rivals: Vec<Rival>,
}

/// The axis about which a node turns from its rest, and how far, by frame: where it turns about one alone.
pub fn about_one(recording: &Recording, node: usize, limits: &Limits) -> Option<(DVec3, Vec<f64>)> {
    let own = &recording.nodes[node];
    if !own.moves.rotation || own.moves.translation {
        return None;
    }
    let rest = own.rest.rotation.inverse();
    let turns = || own.instants.iter().map(|now| rest * now.rotation);
    let farthest = turns().map(|turn| if turn.w < 0.0 { -turn } else { turn });
    let farthest = farthest.max_by(|one, other| one.xyz().length().total_cmp(&other.xyz().length()))?;
    let axis = super::rounded::direction(farthest.xyz().try_normalize()?);
    let mut angles = Vec::with_capacity(own.instants.len());
    for turn in turns() {
        let across = turn.xyz() - axis * axis.dot(turn.xyz());
        if 2.0 * across.length() > 2.0 * limits.angle {
            return None;
        }
        angles.push(twist(turn, axis));
    }
    Some((axis, angles))
}

/// A source of which a node may take the roll.
#[derive(Clone, Copy, Debug)]
struct Source {
    index: usize,
    axis: DVec3,
    fraction: f64,
    /// Whether its motion tells the axis, as it turns about others as well.
    is_told: bool,
    /// Whether parts of the motion foretell the rest of it.
    is_foretold: bool,
}

/// Whose roll a node takes, which turns about one axis alone.
pub fn found(recording: &Recording, node: usize, limits: &Limits) -> Option<Found> {
    let (axis, angles) = about_one(recording, node, limits)?;
    let rig = recording.nodes[node].node.0;
    let is_able = |index: &usize| {
        let own = &recording.nodes[*index];
        // What hangs on it cannot stand before it does.
        !recording.hangs_on(*index, node) && own.moves.rotation && own.node.0 == rig
    };
    let mut found: Vec<Source> = (0..recording.nodes.len())
        .filter(is_able)
        .filter_map(|index| Taken::new(recording, index, &angles).source(index, limits))
        .collect();
    // What rolls itself takes its turn from the same source; joints go by joints, the nearest ones.
    let rank = |own: &Source| {
        let rolls = about_one(recording, own.index, limits).is_some();
        let steps = recording.steps_between(own.index, node);
        (rolls || !own.is_told, recording.is_for_animators(own.index), steps)
    };
    found.sort_by_key(rank);
    let best = *found.first()?;
    let mut rivals: Vec<Rival> = (found[1..].iter())
        .filter(|own| rank(own) == rank(&best))
        .map(|own| Rival::Node(own.index))
        .collect();
    if rank(&best).0 {
        rivals.push(Rival::Kind("another axis: it turns about one alone"));
    } else if !best.is_foretold || turnings(&angles, 5.0 * limits.angle) < TURNINGS {
        rivals.push(Rival::Kind("its own keys: too little moves to tell"));
    }
    // The axis of the source lies along that of the node as they rest, so that the fraction says which way it goes.
    let [from, to] = [best.index, node].map(|index| &recording.nodes[index]);
    let along = (from.rest.turn * best.axis * from.hand).dot(to.rest.turn * axis * to.hand);
    let sign = if along < 0.0 { -1.0 } else { 1.0 };
    let roll = Roll {
        source: from.node,
        fraction: Setting::Constant(super::rounded::number(best.fraction * sign)),
        axes: Some(RollAxes { source: super::rounded::direction(best.axis * sign), node: axis }),
    };
    Some(Found { roll, rivals })
}

/// Turns of a source with the angles that may be taken from them, by frame.
struct Taken {
    frames: Vec<(DQuat, f64)>,
}

impl Taken {
    fn new(recording: &Recording, source: usize, angles: &[f64]) -> Taken {
        let own = &recording.nodes[source];
        let rest = own.rest.rotation.inverse();
        let turns = own.instants.iter().map(|now| rest * now.rotation);
        Taken { frames: turns.zip(angles.iter().copied()).collect() }
    }

    fn source(&self, index: usize, limits: &Limits) -> Option<Source> {
        let farthest = self.frames.iter().map(|(turn, _)| turn.xyz().length()).fold(0.0, f64::max);
        if farthest < 10.0 * limits.angle {
            return None;
        }
        // Most sources are told by a few frames.
        let few = self.few();
        if few.fitted(0..few.frames.len()).is_none_or(|wanted| few.off(wanted) > 4.0 * limits.angle) {
            return None;
        }
        let all = 0..self.frames.len();
        let wanted = self.fitted(all.clone()).filter(|wanted| wanted.length() > LEAST)?;
        if self.off(wanted) > 2.0 * limits.angle {
            return None;
        }
        let told = least(self.matrix(all.clone()).0).1;
        // Where few poses are keyed at the same frames, any curve is a sum of the others there. It is none of those beyond.
        let foretells = |part: Range<usize>| {
            self.fitted(part).is_some_and(|wanted| self.off(wanted) <= 2.0 * limits.angle)
        };
        let [first, last] = [PART, 1.0 - PART].map(|part| self.at_part(part));
        let is_foretold = foretells(0..first) && foretells(last..all.end);
        let (axis, fraction) = (wanted.normalize(), wanted.length());
        Some(Source { index, axis, fraction, is_told: told[0] > TOLD * told[2], is_foretold })
    }

    /// The same on a few frames.
    fn few(&self) -> Taken {
        let stride = self.frames.len().div_ceil(FEW).max(1);
        Taken { frames: self.frames.iter().copied().step_by(stride).collect() }
    }

    /// The frame up to which the source has gone a part of its way.
    fn at_part(&self, part: f64) -> usize {
        let steps = self.frames.windows(2).map(|pair| angle_between(pair[0].0, pair[1].0));
        let way: f64 = steps.clone().sum();
        let mut gone = 0.0;
        let before = steps.take_while(|step| {
            gone += step;
            gone < part * way
        });
        before.count() + 1
    }

    /// How far the angles are off what is taken by an axis times a fraction, at most.
    fn off(&self, wanted: DVec3) -> f64 {
        let (axis, fraction) = (wanted.normalize(), wanted.length());
        let off = |(turn, angle): &(DQuat, f64)| (twist(*turn, axis) * fraction - angle).abs();
        self.frames.iter().map(off).fold(0.0, f64::max)
    }

    /// The equations for small turns, which are their vectors: angle = (fraction · axis) · vector.
    fn matrix(&self, frames: Range<usize>) -> (DMat3, DVec3) {
        let (mut matrix, mut side) = (DMat3::ZERO, DVec3::ZERO);
        for (turn, angle) in &self.frames[frames] {
            let vector = if turn.w < 0.0 { -turn.xyz() } else { turn.xyz() } * 2.0;
            matrix += outer(vector, vector);
            side += vector * *angle;
        }
        (matrix, side)
    }

    /// The axis times the fraction that come closest to the angles on some frames, by least squares (Gauss and Newton) from where small
    /// turns would have them.
    fn fitted(&self, frames: Range<usize>) -> Option<DVec3> {
        let (matrix, side) = self.matrix(frames.clone());
        let mut wanted = solved(matrix, side).filter(|wanted| wanted.length() > LEAST)?;
        for _ in 0..STEPS {
            let (axis, fraction) = (wanted.normalize(), wanted.length());
            let (mut matrix, mut side) = (DMat3::ZERO, DVec3::ZERO);
            for (turn, angle) in &self.frames[frames.clone()] {
                let now = twist(*turn, axis);
                // The twist is 2 atan(v·a / w): what it becomes as the axis turns.
                let along = turn.xyz().dot(axis);
                let size = (along * along + turn.w * turn.w).max(1e-12);
                let across = turn.xyz() - axis * along;
                let slope = axis * now + across * (2.0 * turn.w / size);
                matrix += outer(slope, slope);
                side += slope * (*angle - now * fraction);
            }
            let step = solved(matrix, side)?;
            wanted += step.clamp_length_max(0.5 * wanted.length());
            if step.length() < 1e-10 || wanted.length() < LEAST {
                break;
            }
        }
        (wanted.length() > LEAST).then_some(wanted)
    }
}

/// How often angles turn back by more than a little.
fn turnings(angles: &[f64], little: f64) -> usize {
    let (mut farthest, mut way, mut found) = (angles.first().copied().unwrap_or(0.0), 0.0, 0);
    for &angle in angles {
        let step = angle - farthest;
        if way == 0.0 && step.abs() > little {
            (way, farthest) = (step.signum(), angle);
        } else if step * way > 0.0 {
            farthest = angle;
        } else if step * way < -little {
            (way, farthest, found) = (-way, angle, found + 1);
        }
    }
    found
}

/// The solution of three equations; axes about which nothing turns stay out of it.
fn solved(matrix: DMat3, side: DVec3) -> Option<DVec3> {
    let size = matrix.x_axis.x + matrix.y_axis.y + matrix.z_axis.z;
    let found = (matrix + DMat3::from_diagonal(DVec3::splat(size * 1e-12))).inverse() * side;
    found.is_finite().then_some(found)
}
