//! What carries a body through the world: which node it is, where it goes, and which way it faces.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{angle_between, nearest_turn, to_vector};
use nimble_curve_curves::time::{TICKS_PER_SECOND, Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::rig::{NodeKind, Rig};
use nimble_curve_scene::scene::{Scene, Take};

use super::names::Name;

/// The node that carries the body: the hips by their name, else the topmost node that a take moves.
pub(super) fn carrier(scene: &Scene, take: &Take, rig: usize) -> Option<usize> {
    let nodes = &scene.rigs.get(rig)?;
    let hips = |kind: NodeKind| {
        nodes.nodes().position(|(_, node)| {
            node.kind == kind && Name::of(&node.name).words.iter().any(|word| word == "hips")
        })
    };
    let moved = || {
        nodes.nodes().position(|(id, _)| {
            take.tracks()
                .any(|(_, t)| (t.target.rig, t.target.node) == (rig, id) && t.target.property == TRANSLATION)
        })
    };
    hips(NodeKind::Joint).or_else(|| hips(NodeKind::Control)).or_else(moved)
}

/// The rig that most tracks of a take move.
pub(super) fn busiest_rig(scene: &Scene, take: &Take) -> usize {
    let count = |rig: usize| take.tracks().filter(|(_, track)| track.target.rig == rig).count();
    (0..scene.rigs.len()).max_by_key(|&rig| (count(rig), std::cmp::Reverse(rig))).unwrap_or(0)
}

/// The node that carries a body, and those above it.
pub(super) fn carrying(scene: &Scene, take: &Take) -> Vec<NodeRef> {
    let index = busiest_rig(scene, take);
    let Some(rig) = scene.rigs.get(index) else { return Vec::new() };
    let at = carrier(scene, take, index).and_then(|at| rig.nodes().nth(at).map(|(id, _)| id));
    std::iter::successors(at, |id| rig.parent(*id)).map(|id| (index, id)).collect()
}

/// The part of a rotation that turns about an axis (0, 1, 2), as an angle.
pub(super) fn heading(rotation: DQuat, up: usize) -> f64 {
    2.0 * rotation.to_array()[up].atan2(rotation.w)
}

/// A turn about an axis.
pub(super) fn turn(up: usize, angle: f64) -> DQuat {
    DQuat::from_axis_angle(DVec3::AXES[up], angle)
}

/// A vector without its part along an axis.
pub(super) fn level(mut v: DVec3, up: usize) -> DVec3 {
    v[up] = 0.0;
    v
}

/// How far a range's motion goes, and how well its ends meet.
#[derive(Clone, Debug, PartialEq)]
pub struct Travel {
    /// From the first to the last place on the ground, in units.
    pub distance: f64,
    /// Along the way on the ground, in units.
    pub path_length: f64,
    /// Net turn about the up axis, whole turns counted, in radians; counterclockwise from above.
    pub turn: f64,
    /// Net height, in units.
    pub height_change: f64,
    /// How the last pose differs from the first, travel, turn and climb left aside.
    pub ends: Ends,
}

/// How two poses and the motion at them differ.
#[derive(Clone, Debug, PartialEq)]
pub struct Ends {
    /// The largest angle between local rotations, in radians.
    pub angle: f64,
    /// The name of its node.
    pub node: String,
    /// The largest difference of angular velocities, in radians a second.
    pub speed: f64,
    /// The name of its node.
    pub speed_node: String,
    /// The farthest that any node turns from its first pose in between, in radians.
    pub reach: f64,
    /// The fastest that any node turns, in radians a second.
    pub fastest: f64,
}

impl Ends {
    /// The ends meet: the same pose.
    pub const MEET: f64 = 0.02_f64.to_radians();
    /// The ends go on: no joint changes its speed by more than this, in radians a second, or this part of the fastest.
    pub const GOES_ON: (f64, f64) = (6.0_f64.to_radians(), 0.05);

    /// Whether the motion can be repeated without a pop: it moves, its ends are the same pose at the same speeds.
    pub fn is_loop(&self) -> bool {
        let goes_on = self.speed <= Ends::GOES_ON.0.max(Ends::GOES_ON.1 * self.fastest);
        self.angle <= Ends::MEET && goes_on && self.reach > 20.0 * Ends::MEET
    }
}

/// Poses of one rig, with what carries it taken apart.
pub(super) struct Body<'a> {
    rig: &'a Rig,
    up: usize,
    carrier: Option<usize>,
    /// Nodes from the carrier up, whose own turns and places are those of the carrier.
    above: Vec<usize>,
    rest: Option<DQuat>,
    /// How far apart instants are from which speeds are taken, in ticks: a sample, where there are samples.
    step: f64,
    evaluator: Evaluator<'a>,
}

/// One instant of a body.
#[derive(Clone, Debug)]
pub(super) struct Instant {
    /// The carrier's place.
    pub place: DVec3,
    /// Which way it faces, in radians.
    pub heading: f64,
    /// Rotations of all nodes: local ones, and for those that carry the body its rotation without its heading.
    pub turns: Vec<DQuat>,
}

impl<'a> Body<'a> {
    pub fn new(scene: &'a Scene, take: &'a Take, rig: usize) -> Result<Body<'a>, EvaluateError> {
        let evaluator = Evaluator::new(scene, Some(take), rig)?;
        let nodes = &scene.rigs[rig];
        let carrier = carrier(scene, take, rig);
        let parents = nodes.parent_positions();
        let above = std::iter::successors(carrier, |&node| parents[node]).collect();
        let turns = |affine: &glam::DAffine3| decomposed(affine).1;
        let rest = carrier.map(|carrier| turns(&nodes.rest_world()[carrier]));
        let sampled = take.tracks().filter(|(_, track)| track.target.rig == rig).filter_map(|(_, track)| {
            if let Controller::Samples(own) = &track.controller {
                Some(own.rate.ticks_per_frame())
            } else {
                None
            }
        });
        // Between keys a fifth of a millisecond: short against all that is animated, long against rounding.
        let step = sampled.fold(TICKS_PER_SECOND as f64 * 0.0002, f64::max);
        Ok(Body { rig: nodes, up: scene.space.up.index(), carrier, above, rest, step, evaluator })
    }

    pub fn at(&mut self, time: f64, pose: &mut Pose) -> Instant {
        self.evaluator.pose_at(time, pose);
        let mut turns = pose.local_rotation.clone();
        let (Some(carrier), Some(rest)) = (self.carrier, self.rest) else {
            return Instant { place: DVec3::ZERO, heading: 0.0, turns };
        };
        let world = pose.world_rotation[carrier] * rest.conjugate();
        let heading = heading(world, self.up);
        for &node in &self.above {
            turns[node] = DQuat::IDENTITY;
        }
        turns[carrier] = turn(self.up, heading).conjugate() * world;
        Instant { place: pose.world[carrier].translation, heading, turns }
    }

    fn name(&self, node: usize) -> String {
        self.rig.nodes().nth(node).map_or(String::new(), |(_, node)| node.name.clone())
    }

    /// The largest angle between two instants' rotations, and its node.
    pub fn apart(a: &Instant, b: &Instant) -> (f64, usize) {
        let angles =
            a.turns.iter().zip(&b.turns).map(|(a, b)| if a == b { 0.0 } else { angle_between(*a, *b) });
        angles
            .enumerate()
            .fold((0.0, 0), |most, (node, angle)| if angle > most.0 { (angle, node) } else { most })
    }

    /// How the ends of a range differ; `reach` is how far its motion goes, `fastest` how fast.
    pub fn ends(&mut self, range: TimeRange, reach: f64, fastest: f64) -> Ends {
        let mut pose = Pose::default();
        let (first, last) = (range.first.as_f64(), range.last.as_f64());
        let step = self.step.min((last - first) * 0.25).max(1.0);
        let mut at = |time: f64| self.at(time, &mut pose);
        let leaving = [at(first), at(first + step), at(first + 2.0 * step)];
        let arriving = [at(last), at(last - step), at(last - 2.0 * step)];
        let seconds = step / TICKS_PER_SECOND as f64;
        // From three points on one side, exact for motion that speeds up evenly.
        let velocity = |instants: &[Instant; 3], node: usize| {
            let [here, next, then] = instants.each_ref().map(|instant| instant.turns[node]);
            let way = |to: DQuat| to_vector(to * here.conjugate());
            (4.0 * way(next) - way(then)) / (2.0 * seconds)
        };
        let (angle, node) = Body::apart(&leaving[0], &arriving[0]);
        let (mut speed, mut speed_node) = (0.0, 0);
        for index in 0..leaving[0].turns.len() {
            let apart = (velocity(&leaving, index) + velocity(&arriving, index)).length();
            if apart > speed {
                (speed, speed_node) = (apart, index);
            }
        }
        Ends { angle, node: self.name(node), speed, speed_node: self.name(speed_node), reach, fastest }
    }
}

/// How a range of a take travels, in the rig that most of its tracks move.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn travel(scene: &Scene, take: &Take, range: TimeRange) -> Result<Travel, EvaluateError> {
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let up = body.up;
    let mut pose = Pose::default();
    let first = body.at(range.first.as_f64(), &mut pose);
    let (mut before, mut turned) = (first.clone(), 0.0);
    let (mut path_length, mut reach, mut fastest) = (0.0, 0.0_f64, 0.0_f64);
    let step = scene.rate.ticks_per_frame();
    let count = ((range.last - range.first).as_f64() / step).ceil().max(1.0) as i64;
    for index in 1..=count {
        let time = Ticks(range.first.0 + (step * index as f64) as i64).min(range.last);
        let now = body.at(time.as_f64(), &mut pose);
        path_length += level(now.place - before.place, up).length();
        turned = nearest_turn(now.heading - first.heading, turned);
        reach = reach.max(Body::apart(&first, &now).0);
        fastest = fastest.max(Body::apart(&before, &now).0 * scene.rate.fps());
        before = now;
    }
    Ok(Travel {
        distance: level(before.place - first.place, up).length(),
        path_length,
        turn: turned,
        height_change: (before.place - first.place)[up],
        ends: body.ends(range, reach, fastest),
    })
}
