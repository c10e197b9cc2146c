//! What whole poses show: feet that slide, ends that nearly meet, hips that travel without a root.

use glam::DVec3;
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::{Clip, Scene, Take};

use super::{Code, Finding};
use crate::contact::{contacts, spread};
use crate::names::Name;
use crate::standing::{Standing, lowest_stand};

/// A foot may slide by this part of the leg's length while it stands.
const SLIDE: f64 = 0.01;
/// Ends that are nearer than this meet.
const MEETS: f64 = 0.01_f64.to_radians();
/// Ends farther apart than this, or than this part of the motion, are not meant to meet.
const APART: (f64, f64) = (6.0_f64.to_radians(), 0.12);
/// At how many instants a motion's reach is looked at.
const LOOKS: i64 = 64;
/// Hips that travel farther than this part of their height want a root.
const TRAVEL: f64 = 0.5;

/// A body stands where its lowest joint is between so many leg lengths below the ground and so many above it: ankles are not soles.
const STANDS: (f64, f64) = (0.1, 0.2);

/// A body that goes farther than this in a frame, in leg lengths, and so many times as far as in the frames beside, jumps.
const JUMP: (f64, f64) = (0.15, 4.0);

struct Foot {
    at: usize,
    length: f64,
    places: Vec<DVec3>,
}

pub(super) fn findings(
    scene: &Scene,
    take: &Take,
    addresses: &Addresses,
) -> Result<Vec<Finding>, EvaluateError> {
    let mut found = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        if !take.tracks().any(|(_, track)| track.target.rig == index) {
            continue;
        }
        let mut evaluator = Evaluator::new(scene, Some(take), index)?;
        found.extend(steps(scene, take, addresses, (index, rig), &mut evaluator));
        found.extend(loops(scene, take, rig, &mut evaluator));
    }
    Ok(found)
}

/// Feet and hips, in one pass over all frames.
fn steps(
    scene: &Scene,
    take: &Take,
    addresses: &Addresses,
    (index, rig): (usize, &Rig),
    evaluator: &mut Evaluator<'_>,
) -> Vec<Finding> {
    let rest = rig.rest_world();
    let up = scene.space.up.index();
    let mut feet: Vec<Foot> = rig.nodes().filter_map(|(id, _)| foot(rig, id)).collect();
    let hips = rig.nodes().position(|(_, node)| Name::of(&node.name).words.iter().any(|word| word == "hips"));
    let rootless = hips.filter(|&hips| rig.parent_positions()[hips].is_none());
    if feet.is_empty() && hips.is_none() {
        return Vec::new();
    }
    let rate = scene.rate;
    let (first, last) =
        (rate.frame(take.range.first).ceil() as i64, rate.frame(take.range.last).floor() as i64);
    let mut pose = Pose::default();
    let mut ground = Vec::new();
    let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
    let standing = hips.filter(|_| !feet.is_empty()).and_then(|hips| Standing::of(rig, ids[hips], up));
    let legs = standing.and_then(|standing| standing.leg(&rest).map(|leg| (standing, leg)));
    let (mut heights, mut path) = (Vec::new(), Vec::new());
    for frame in first..=last {
        evaluator.pose_at(rate.ticks(frame).as_f64(), &mut pose);
        for foot in &mut feet {
            foot.places.push(pose.world[foot.at].translation);
        }
        if let Some((standing, _)) = &legs {
            heights.push(standing.lowest(&pose.world));
        }
        path.extend(hips.map(|hips| pose.world[hips].translation));
        if let Some(hips) = rootless {
            let mut place = pose.world[hips].translation;
            place[up] = 0.0;
            ground.push(place);
        }
    }
    let place = |at: usize| addresses.node((index, ids[at])).to_owned();
    let mut found = Vec::new();
    for foot in &feet {
        let slid = (contacts(&foot.places, up, foot.length, rate.fps()).into_iter())
            .map(|(from, to)| {
                // A frame at either end belongs to landing and leaving.
                let inner = if to - from > 4 { from + 1..to } else { from..to + 1 };
                (spread(foot.places[inner].iter().map(|place| with(*place, up, 0.0))), from, to)
            })
            .max_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((slid, from, to)) = slid.filter(|(slid, ..)| *slid > SLIDE * foot.length) {
            let detail = format!("by {:.1} mm while it stands", slid * scene.space.metres_per_unit * 1000.0);
            let finding = Finding::new(Code::SlidingFoot, place(foot.at), detail).in_take(take);
            found.push(finding.at((first + from as i64) as f64, (first + to as i64) as f64));
        }
    }
    if let (Some(hips), Some((_, leg))) = (hips, &legs) {
        for (step, far) in jumps(&path, *leg) {
            let at = (first + step as i64) as f64;
            let frames = |clip: &Clip| (rate.frame(clip.range.first), rate.frame(clip.range.last));
            // Where a clip begins or ends everything may be elsewhere, but for a clip that goes on there.
            let is_cut = |clip: &Clip| {
                let (begins, ends) = frames(clip);
                (at < begins && begins <= at + 1.0) || (at <= ends && ends < at + 1.0)
            };
            let goes_on = |clip: &Clip| frames(clip).0 <= at && at + 1.0 <= frames(clip).1;
            if !take.clips.iter().any(is_cut) || take.clips.iter().any(goes_on) {
                let detail = format!("by {:.2} m in a frame", far * scene.space.metres_per_unit);
                found.push(Finding::new(Code::Jump, place(hips), detail).in_take(take).at(at, at + 1.0));
            }
        }
    }
    if let (Some(hips), Some((_, leg)), Some(stands)) = (hips, legs, lowest_stand(heights)) {
        let metres = scene.space.metres_per_unit;
        if stands < -STANDS.0 * leg || stands > STANDS.1 * leg {
            let how = if stands > 0.0 { "floats: it stands" } else { "sinks: it stands" };
            let side = if stands > 0.0 { "above" } else { "below" };
            let detail = format!(
                "{how} {:.2} m {side} the ground, on legs of {:.2} m",
                (stands * metres).abs(),
                leg * metres
            );
            let finding = Finding::new(Code::OffGround, place(hips), detail);
            found.push(finding.in_take(take));
        }
    }
    if let Some(hips) = rootless {
        let travel = spread(ground.into_iter());
        if travel > TRAVEL * rest[hips].translation[up].abs() && travel > 0.0 {
            let detail = format!("they travel {:.2} m", travel * scene.space.metres_per_unit);
            found.push(Finding::new(Code::NoRoot, place(hips), detail).in_take(take));
        }
    }
    found
}

/// The steps of a path that are far longer than those beside them, with how long they are.
fn jumps(path: &[DVec3], leg: f64) -> Vec<(usize, f64)> {
    let steps: Vec<f64> = path.windows(2).map(|pair| (pair[1] - pair[0]).length()).collect();
    let beside = |at: usize| {
        let before = at.checked_sub(1).and_then(|at| steps.get(at));
        before.into_iter().chain(steps.get(at + 1)).copied().fold(0.0, f64::max)
    };
    let is_jump = |(at, step): &(usize, &f64)| **step > JUMP.0 * leg && **step > JUMP.1 * beside(*at);
    steps.iter().enumerate().filter(is_jump).map(|(at, step)| (at, *step)).collect()
}

fn with(mut v: DVec3, axis: usize, value: f64) -> DVec3 {
    v[axis] = value;
    v
}

/// A node that is named for a foot, at the end of a leg of two bones.
fn foot(rig: &Rig, id: NodeId) -> Option<Foot> {
    let node = rig.node(id)?;
    let is_foot = Name::of(&node.name).words.iter().any(|word| word == "foot");
    if !is_foot || node.kind.is_support() {
        return None;
    }
    let shin = rig.parent(id)?;
    let thigh = rig.parent(shin)?;
    let world = rig.rest_world();
    let place = |id: NodeId| Some(world[rig.position(id)?].translation);
    let (hip, knee, ankle) = (place(thigh)?, place(shin)?, place(id)?);
    let length = (knee - hip).length() + (ankle - knee).length();
    (length > 0.0).then_some(Foot { at: rig.position(id)?, length, places: Vec::new() })
}

/// The take and its clips, where their ends nearly meet.
fn loops(scene: &Scene, take: &Take, rig: &Rig, evaluator: &mut Evaluator<'_>) -> Vec<Finding> {
    let whole = (take.name.as_str(), take.range);
    let clips =
        take.clips.iter().map(|clip| (clip.name.as_str(), clip.range)).filter(|(_, range)| *range != whole.1);
    let names: Vec<&str> = rig.nodes().map(|(_, node)| node.name.as_str()).collect();
    let frame = |time: Ticks| scene.rate.frame(time);
    let mut found = Vec::new();
    for (name, range) in std::iter::once(whole).chain(clips) {
        let Some(gap) = gap(evaluator, range) else { continue };
        let is_near = gap.angle > MEETS && gap.angle < APART.0 && gap.angle < APART.1 * gap.reach;
        if is_near {
            let angle = gap.angle.to_degrees();
            let detail =
                format!("the last pose is {angle:.2} deg from the first, most at {}", names[gap.node]);
            let finding = Finding::new(Code::NearlyLoops, name, detail).in_take(take);
            found.push(finding.at(frame(range.first), frame(range.last)));
        }
    }
    found
}

/// How far the ends of a range are apart, and how far its poses go from the first.
struct Gap {
    angle: f64,
    node: usize,
    reach: f64,
}

fn gap(evaluator: &mut Evaluator<'_>, range: TimeRange) -> Option<Gap> {
    if range.first == range.last {
        return None;
    }
    let (mut first, mut pose) = (Pose::default(), Pose::default());
    evaluator.pose_at(range.first.as_f64(), &mut first);
    let mut reach = 0.0_f64;
    let away = |pose: &Pose| {
        let between =
            pose.local_rotation.iter().zip(&first.local_rotation).map(|(a, b)| angle_between(*a, *b));
        between
            .enumerate()
            .fold((0.0, 0), |most, (node, angle)| if angle > most.0 { (angle, node) } else { most })
    };
    for look in 1..LOOKS {
        let time = range.first.as_f64() + (range.last - range.first).as_f64() * look as f64 / LOOKS as f64;
        evaluator.pose_at(time, &mut pose);
        reach = reach.max(away(&pose).0);
    }
    evaluator.pose_at(range.last.as_f64(), &mut pose);
    let (angle, node) = away(&pose);
    Some(Gap { angle, node, reach })
}
