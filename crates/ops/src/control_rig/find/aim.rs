//! What points at something.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::constraint::{Aim, Towards};

use super::Limits;
use super::eigen::{least, outer};
use super::limb::Rival;
use super::recorded::Recording;

/// In how many directions it is looked for the axis that leans.
const LOOKS: usize = 48;

/// How many times the best one is looked at more closely.
const CLOSER: usize = 30;

/// How far what is aimed at has to go round, in radians, before it says anything.
const GOES_ROUND: f64 = 0.02;

/// Something that was found to aim.
#[derive(Debug)]
pub struct Found {
    pub aim: Aim,
    pub rivals: Vec<Rival>,
}

/// What a node aims at on all frames, and where it leans.
pub fn found(recording: &Recording, node: usize, limits: &Limits) -> Option<Found> {
    let own = &recording.nodes[node];
    if !own.moves.rotation || own.moves.translation {
        return None;
    }
    let mut targets: Vec<(usize, DVec3)> = Vec::new();
    for target in 0..recording.nodes.len() {
        let is_free = recording.is_for_animators(target)
            && recording.is_keyed(target)
            && !recording.hangs_on(target, node)
            && !recording.hangs_on(node, target);
        if let Some(axis) = is_free.then(|| axis(recording, node, target, limits)).flatten() {
            targets.push((target, axis));
        }
    }
    // What hangs on the same and stands on the line explains it as well; what is moved by itself is what is meant.
    targets.sort_by_key(|(target, _)| recording.mover(*target) != Some(*target));
    let &(at, axis) = targets.first()?;
    let rivals: Vec<Rival> = targets[1..].iter().map(|(target, _)| Rival::Node(*target)).collect();
    let ups = ups(recording, (node, at), axis, limits);
    let (up, kind) = ups.first()?.clone();
    let more =
        ups[1..].iter().filter(|(_, other)| *other != kind).map(|(_, other)| Rival::Kind(other.words()));
    let rivals = rivals.into_iter().chain(more).collect();
    let aim = Aim { axis, at: recording.nodes[at].node, up };
    Some(Found { aim, rivals })
}

/// The axis of a node that points at another one on all frames, where that goes round.
fn axis(recording: &Recording, node: usize, target: usize, limits: &Limits) -> Option<DVec3> {
    let (own, theirs) = (&recording.nodes[node], &recording.nodes[target]);
    let towards = |frame: usize| (theirs.instants[frame].place - own.instants[frame].place).try_normalize();
    let first = own.inward(0, towards(0)?);
    let parent = own.parent.map(|parent| &recording.nodes[parent]);
    let beside = |frame: usize, v: DVec3| parent.map_or(v, |parent| parent.inward(frame, v));
    let (mut sum, mut round) = (DVec3::ZERO, 0.0_f64);
    let start = beside(0, towards(0)?);
    for frame in 0..recording.frames.len() {
        let way = towards(frame)?;
        let now = own.inward(frame, way);
        if now.dot(first) < 0.5 || now.cross(first).length() > 2.0 * limits.angle {
            return None;
        }
        sum += now;
        round = round.max(beside(frame, way).angle_between(start));
    }
    let axis = super::rounded::direction(sum.try_normalize()?);
    (round > GOES_ROUND).then_some(axis)
}

type Up = Option<(DVec3, Towards)>;

/// What decides how far a node is turned about the axis that aims.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Leans {
    Node(usize),
    Direction,
    Rest,
}

impl Leans {
    fn words(self) -> &'static str {
        match self {
            Leans::Node(_) => "an up axis towards a node",
            Leans::Direction => "an up axis along a direction",
            Leans::Rest => "no up axis",
        }
    }
}

/// The ways in which a node's turn about its aim can be explained on all frames.
fn ups(recording: &Recording, (node, at): (usize, usize), axis: DVec3, limits: &Limits) -> Vec<(Up, Leans)> {
    let own = &recording.nodes[node];
    let frames = 0..recording.frames.len();
    let mut found: Vec<(Up, Leans)> = Vec::new();
    if frames
        .clone()
        .all(|frame| free_of_roll(recording, node, at, axis, frame).is_some_and(|off| off <= limits.angle))
    {
        found.push((None, Leans::Rest));
    }
    for other in 0..recording.nodes.len() {
        if other == at || recording.hangs_on(other, node) || recording.hangs_on(node, other) {
            continue;
        }
        let place = |frame: usize| recording.nodes[other].instants[frame].place - own.instants[frame].place;
        let across = |frame: usize| {
            let direction = own.inward(frame, place(frame));
            (direction - axis * axis.dot(direction)).try_normalize()
        };
        let Some(leans) = constant(frames.clone().map(across), limits) else { continue };
        let up = (super::rounded::direction(leans), Towards::Node(recording.nodes[other].node));
        found.push((Some(up), Leans::Node(other)));
    }
    let spaces: Vec<usize> =
        recording.up(node).skip(1).filter(|&index| recording.nodes[index].moves.any()).collect();
    for space in std::iter::once(None).chain(spaces.into_iter().map(Some)) {
        if let Some((leans, direction)) = direction(recording, node, space, axis, limits) {
            // Both may point the other way.
            let sign = if direction.element_sum() < 0.0 { -1.0 } else { 1.0 };
            let [leans, direction] = [leans, direction].map(|own| super::rounded::direction(own * sign));
            let towards = Towards::Direction(direction, space.map(|space| recording.nodes[space].node));
            found.push((Some((leans, towards)), Leans::Direction));
        }
    }
    found
}

/// A direction that stays the same on all frames.
fn constant(directions: impl Iterator<Item = Option<DVec3>>, limits: &Limits) -> Option<DVec3> {
    let (mut first, mut sum) = (None, DVec3::ZERO);
    for now in directions {
        let now = now?;
        let first = *first.get_or_insert(now);
        if now.dot(first) < 0.5 || now.cross(first).length() > 2.0 * limits.angle {
            return None;
        }
        sum += now;
    }
    sum.try_normalize()
}

/// How far a node is off one that turns from its rest by the shortest way, in radians.
fn free_of_roll(recording: &Recording, node: usize, at: usize, axis: DVec3, frame: usize) -> Option<f64> {
    let own = &recording.nodes[node];
    let way = recording.nodes[at].instants[frame].place - own.instants[frame].place;
    let parent = own.parent.map(|parent| &recording.nodes[parent]);
    let inward = |v: DVec3| parent.map_or(v, |parent| parent.inward(frame, v));
    let sign = own.hand * parent.map_or(1.0, |parent| parent.hand);
    let rest = own.rest.rotation;
    let wanted = DQuat::from_rotation_arc(rest * axis * sign, inward(way).try_normalize()?) * rest;
    Some(angle_between(wanted, own.instants[frame].rotation))
}

/// The axis of a node that leans along a direction in a space, and the direction, where there is one: of all axes at a right angle
/// to the one that aims that whose planes have a direction in common.
fn direction(
    recording: &Recording,
    node: usize,
    space: Option<usize>,
    axis: DVec3,
    limits: &Limits,
) -> Option<(DVec3, DVec3)> {
    let own = &recording.nodes[node];
    let inward = |frame: usize, v: DVec3| space.map_or(v, |space| recording.nodes[space].inward(frame, v));
    let (u, v) = axis.any_orthonormal_pair();
    // Of w = cos φ u + sin φ v the sum of w wᵀ has three parts.
    let mut sums = [DMat3::ZERO; 3];
    for frame in 0..recording.frames.len() {
        let [u, v] = [u, v].map(|w| inward(frame, own.outward(frame, w)));
        sums[0] += outer(u, u);
        sums[1] += outer(u, v) + outer(v, u);
        sums[2] += outer(v, v);
    }
    let at = |angle: f64| {
        let (sine, cosine) = angle.sin_cos();
        least(sums[0] * (cosine * cosine) + sums[1] * (cosine * sine) + sums[2] * (sine * sine))
    };
    let part = std::f64::consts::PI / LOOKS as f64;
    let size = |angle: f64| at(angle).1[0];
    let best = (0..LOOKS).map(|look| look as f64 * part).min_by(|a, b| size(*a).total_cmp(&size(*b)))?;
    let (mut low, mut high) = (best - part, best + part);
    for _ in 0..CLOSER * 2 {
        let third = (high - low) / 3.0;
        if size(low + third) < size(high - third) { high -= third } else { low += third }
    }
    let angle = 0.5 * (low + high);
    let (direction, sizes) = at(angle);
    let count = recording.frames.len() as f64;
    // Where it hardly turns any direction would do.
    if sizes[1] < 100.0 * limits.angle * limits.angle * count {
        return None;
    }
    // Across the plane of what aims and what leans.
    let normal = u * angle.cos() + v * angle.sin();
    let leans = super::rounded::direction(normal.cross(axis));
    let direction = super::rounded::direction(direction);
    let across = |frame: usize| {
        let there = space.map_or(direction, |space| recording.nodes[space].outward(frame, direction));
        let inside = own.inward(frame, there);
        (inside - axis * axis.dot(inside)).try_normalize()
    };
    let found = constant((0..recording.frames.len()).map(across), limits)?;
    let sign = found.dot(leans).signum();
    (found.cross(leans).length() <= 4.0 * limits.angle).then_some((leans, direction * sign))
}
