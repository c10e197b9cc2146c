//! A pose of the target that corresponds to the source's reference pose: arms that hang down go out level where the source's do.
//!
//! From the top down, each limb's bone takes the direction of its partner's by the shortest turn, so that its twist stays; what hangs on it
//! goes along. Feet keep their sole level and take the heading; hands with fingers take the plane of the palm; the pelvis takes the line
//! from one thigh to the other. Back, neck, head and tail stay as they are: their directions are a matter of build.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::{nearest_euler, to_vector};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::rig::{NodeId, ROTATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Track};

use super::links::{Links, NodePairing};
use super::map::PairSpace;
use super::rigs::{pairings, shared_out};
use super::side::Side;
use super::{CarryError, CarryOptions, DirectionMismatch, NameMap, PoseAt};
use crate::anatomy::{Part, parts_of};
use crate::space::{in_space, mirrored};

/// A pose of the target in which its limbs point as the source's do.
#[derive(Clone, Debug)]
pub struct MatchingPose {
    /// The pose, to be given as [`CarryOptions::target_pose`].
    pub pose: PoseAt,
    /// The bones that point elsewhere in the poses that were given, the worst first.
    pub bones: Vec<DirectionMismatch>,
}

/// Poses differ clearly where a bone of a limb points this far elsewhere, in radians.
const CLEARLY: f64 = 20.0 * std::f64::consts::PI / 180.0;

/// Looks for the pose of the target that corresponds to the source's reference pose; `None` where the two reference poses do not
/// clearly differ: no upper arm, forearm, thigh or shin points more than 20 degrees elsewhere.
///
/// # Errors
/// See [`CarryError`].
pub fn matching_pose(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Option<MatchingPose>, CarryError> {
    let pairs = pairings(source, target, map, options)?;
    let map = map.with_rules(source, target, &pairs)?;
    let posed =
        Scene { takes: options.source_pose.iter().map(|pose| pose.take.clone()).collect(), ..source.clone() };
    let (mut moved, _) = in_space(&posed, &target.space);
    if let Some(axis) = map.mirror {
        moved = mirrored(&moved, axis).0;
    }
    let (from, onto) = (Addresses::new(&moved), Addresses::new(target));
    let at = |pose: &Option<PoseAt>| pose.as_ref().map(|pose| pose.time);
    let source_pose = moved.takes.first().zip(at(&options.source_pose));
    let target_pose = options.target_pose.as_ref().map(|pose| (&pose.take, pose.time));
    let mut bones: Vec<DirectionMismatch> = Vec::new();
    let mut tracks: Vec<Track> = Vec::new();
    let maps = shared_out(&map, (source, target), (&from, &onto), &pairs)?;
    for (pair, map) in pairs.iter().zip(&maps) {
        let Some(links) = Links::of_some(&moved, target, (&from, &onto), map, *pair, pairs.len())? else {
            continue;
        };
        let matcher = Matcher {
            from: Side::of(&moved, pair.source, source_pose)?,
            onto: Side::of(target, pair.target, target_pose)?,
            links: &links,
            parts: parts_of(target, pair.target),
            up: target.space.up.index(),
        };
        let found = matcher.mismatches(&from, &onto);
        tracks.extend(matcher.tracks(!found.is_empty()));
        bones.extend(found);
    }
    bones.sort_by(|a, b| b.angle.total_cmp(&a.angle));
    if bones.is_empty() {
        return Ok(None);
    }
    let time = at(&options.target_pose).unwrap_or(Ticks::ZERO);
    let pose =
        PoseAt { take: Take::new("pose", TimeRange::new(time, time), vec![Layer::base(tracks)]), time };
    Ok(Some(MatchingPose { pose, bones }))
}

struct Matcher<'a> {
    from: Side<'a>,
    onto: Side<'a>,
    links: &'a Links,
    /// The parts of the target's nodes, by position.
    parts: Vec<Option<Part>>,
    up: usize,
}

impl Matcher<'_> {
    /// The bones that point clearly elsewhere in the two reference poses.
    fn mismatches(&self, from: &Addresses, onto: &Addresses) -> Vec<DirectionMismatch> {
        let mut found = Vec::new();
        for link in self.links.all.iter().filter(|link| self.is_long(link)) {
            let Some((own, other)) = self.directions(link) else { continue };
            let angle = own.angle_between(other);
            if angle > CLEARLY {
                let source = from.node(self.from.node(link.place.node)).to_owned();
                let target = onto.node(self.onto.node(link.target)).to_owned();
                found.push(DirectionMismatch { source, target, angle });
            }
        }
        found
    }

    fn part(&self, link: &NodePairing) -> Option<Part> {
        let is_whole = !link.in_chain && link.place.part == 1.0 && link.space == PairSpace::World;
        self.parts[self.onto.position(link.target)].filter(|_| is_whole)
    }

    fn is_long(&self, link: &NodePairing) -> bool {
        matches!(self.part(link), Some(Part::UpperArm | Part::Forearm | Part::Thigh | Part::Shin))
    }

    /// The pairs next below a pair on both sides.
    fn below(&self, link: &NodePairing) -> Vec<&NodePairing> {
        let is_next = |below: &&NodePairing| {
            let above = self.links.above(self.onto.rig, below.target);
            above.is_some_and(|above| above.target == link.target)
                && self.from.upwards(below.place.node).skip(1).any(|id| id == link.place.node)
        };
        self.links.all.iter().filter(is_next).collect()
    }

    /// From a node to another one in the two reference poses.
    fn ways(&self, a: &NodePairing, b: &NodePairing) -> Option<(DVec3, DVec3)> {
        let way = |side: &Side<'_>, a: NodeId, b: NodeId| {
            (side.places[side.position(b)].translation - side.places[side.position(a)].translation)
                .try_normalize()
        };
        Some((way(&self.from, a.place.node, b.place.node)?, way(&self.onto, a.target, b.target)?))
    }

    /// Where a bone points in the two reference poses, to the next bone of its limb.
    fn directions(&self, link: &NodePairing) -> Option<(DVec3, DVec3)> {
        let below = self.below(link);
        let next = below.iter().find(|below| self.part(below).is_some()).or(below.first())?;
        self.ways(link, next)
    }

    /// The turn in the world that a pair's node makes, where that above it turns by `above`.
    fn turn(&self, link: &NodePairing, above: DQuat) -> DQuat {
        let arc = |(wanted, own): (DVec3, DVec3)| {
            DQuat::from_rotation_arc((above * own).normalize(), wanted) * above
        };
        match self.part(link) {
            Some(Part::Hips) => self.thighs(link).map_or(above, arc),
            Some(Part::UpperArm | Part::Forearm | Part::Thigh | Part::Shin) => {
                self.directions(link).map_or(above, arc)
            }
            Some(Part::Hand) => self.palm(link).unwrap_or_else(|| self.directions(link).map_or(above, arc)),
            Some(Part::Foot) => self.heading(link).unwrap_or(above),
            _ => above,
        }
    }

    /// The line from one thigh to the other below the hips.
    fn thighs(&self, link: &NodePairing) -> Option<(DVec3, DVec3)> {
        let below = self.below(link);
        let mut thighs = below.iter().filter(|below| self.part(below) == Some(Part::Thigh));
        self.ways(thighs.next()?, thighs.next()?)
    }

    /// The turn that takes the plane of a hand's fingers onto that of its partner, where there are two of them.
    fn palm(&self, link: &NodePairing) -> Option<DQuat> {
        let fingers = self.below(link);
        let (first, last) = (fingers.first()?, fingers.last().filter(|_| fingers.len() > 1)?);
        let ((a, b), (c, d)) = (self.ways(link, first)?, self.ways(link, last)?);
        let frame = |one: DVec3, other: DVec3| {
            let along = (one + other).try_normalize()?;
            let normal = one.cross(other).try_normalize()?;
            Some(DQuat::from_mat3(&DMat3::from_cols(along, normal, along.cross(normal))))
        };
        Some((frame(a, c)? * frame(b, d)?.conjugate()).normalize())
    }

    /// The turn about the up axis that takes a foot's heading onto its partner's.
    fn heading(&self, link: &NodePairing) -> Option<DQuat> {
        let level = |mut v: DVec3| {
            v[self.up] = 0.0;
            v.try_normalize()
        };
        let below = self.below(link);
        let (wanted, own) = self.ways(link, below.first()?)?;
        Some(DQuat::from_rotation_arc(level(own)?, level(wanted)?))
    }

    /// The target's pose as constants, its own reference pose where nothing turns.
    fn tracks(&self, turns_limbs: bool) -> Vec<Track> {
        let rig = self.onto.rig;
        let mut turns: Vec<DQuat> = Vec::with_capacity(rig.len());
        let mut tracks = Vec::new();
        for (at, (id, parent)) in rig.nodes().map(|(id, _)| id).zip(rig.parent_positions()).enumerate() {
            let above = parent.map_or(DQuat::IDENTITY, |parent| turns[parent]);
            let link = self.links.of_target(id).filter(|_| turns_limbs);
            let turn = link.map_or(above, |link| self.turn(link, above)).normalize();
            turns.push(turn);
            let is_turned = to_vector(turn * above.conjugate()).length() > 1e-9;
            if !is_turned && !self.onto.rests_elsewhere(id) {
                continue;
            }
            let Some(view) = self.onto.views[at].as_ref() else { continue };
            let parent_world = above * parent.map_or(DQuat::IDENTITY, |parent| self.onto.world[parent]);
            let local = parent_world.conjugate() * (turn * self.onto.world[at]);
            let animated = (view.before.conjugate() * local * view.after.conjugate()).normalize();
            let value = match view.order {
                Some(order) => Value::Euler { order, angles: nearest_euler(order, animated, view.angles) },
                None => Value::Quaternion(animated),
            };
            tracks.push(Track {
                target: self.onto.target(id, ROTATION),
                controller: Controller::Constant(value),
            });
        }
        tracks
    }
}
