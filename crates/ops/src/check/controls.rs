//! What constraints show: joints with keys that count for nothing, limbs that cannot reach, switches left half way.

use glam::{DAffine3, DVec3};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Limb, Towards};
use nimble_curve_scene::evaluate::{EvaluateError, Poses, SettingSampler, twist};
use nimble_curve_scene::rig::Rig;
use nimble_curve_scene::scene::{Scene, Take};

use super::{Code, Finding};

/// A goal is out of reach where the end stays farther from it than this part of the limb's length.
const OUT_OF_REACH: f64 = 2e-3;

/// A pole is on the line of its limb where the sine of the angle between the two is less: the limb spins there.
const ON_LINE: f64 = 0.05;

/// A roll is told in (−180, 180] degrees: beyond so many it is close to where it leaps.
const ROLLED_FAR: f64 = 150.0 * std::f64::consts::PI / 180.0;

/// A weight is left half way where it is farther than this from none and all.
const HALF: f64 = 1e-3;

pub(super) fn findings(
    scene: &Scene,
    take: &Take,
    addresses: &Addresses,
) -> Result<Vec<Finding>, EvaluateError> {
    let mut found = driven_keys(scene, take, addresses);
    if scene.constraints.is_empty() {
        return Ok(found);
    }
    let rests: Vec<Vec<DAffine3>> = scene.rigs.iter().map(Rig::rest_world).collect();
    let mut poses = Poses::new(scene, take)?;
    let mut watched: Vec<Watched<'_>> = Vec::new();
    for constraint in &scene.constraints {
        watched.extend(Watched::new(scene, take, constraint, &rests)?);
    }
    let rate = scene.rate;
    let (first, last) =
        (rate.frame(take.range.first).ceil() as i64, rate.frame(take.range.last).floor() as i64);
    for frame in first..=last {
        let time = rate.ticks(frame).as_f64();
        poses.at(time);
        for own in &mut watched {
            own.look(frame as f64, time, scene, &poses);
        }
    }
    for own in watched {
        found.extend(own.findings(scene, take, addresses));
    }
    Ok(found)
}

/// Keys on joints that constraints drive wholly.
fn driven_keys(scene: &Scene, take: &Take, addresses: &Addresses) -> Vec<Finding> {
    let mut found = Vec::new();
    for (_, track) in take.active_tracks() {
        let node = (track.target.rig, track.target.node);
        let property = track.target.property.as_str();
        let is_wholly = |constraint: &Constraint| {
            let full = constraint.weight.constant() == Some(1.0) && constraint.drives(node);
            full && match &constraint.kind {
                ConstraintKind::Follow(follow) => {
                    let axes = match property {
                        "translation" => follow.translation,
                        "rotation" => follow.rotation,
                        _ => [false; 3],
                    };
                    axes == [true; 3]
                }
                ConstraintKind::Limb(limb) => {
                    property == "rotation"
                        && (node != limb.end || limb.end_turn != nimble_curve_scene::constraint::EndTurn::Own)
                }
                ConstraintKind::Aim(_) => property == "rotation",
                _ => false,
            }
        };
        if let Some(by) = scene.constraints.iter().find(|own| is_wholly(own)) {
            let detail = format!("{} keys; {} drives it", track.controller.value_count(), said(by));
            let place = addresses.property(&track.target);
            found.push(Finding::new(Code::DrivenKeys, place, detail).in_take(take));
        }
    }
    found
}

fn said(constraint: &Constraint) -> String {
    match constraint.name.as_str() {
        "" => constraint.kind.name().to_owned(),
        name => format!("{} '{name}'", constraint.kind.name()),
    }
}

/// A stretch of frames, and the most of something in it.
#[derive(Clone, Copy, Debug)]
struct Stretch {
    first: f64,
    last: f64,
    most: f64,
}

impl Stretch {
    fn take(stretch: &mut Option<Stretch>, frame: f64, amount: f64) {
        let own = stretch.get_or_insert(Stretch { first: frame, last: frame, most: amount });
        own.last = frame;
        own.most = own.most.max(amount);
    }
}

/// A constraint that is looked at frame by frame.
struct Watched<'a> {
    constraint: &'a Constraint,
    weight: SettingSampler<'a>,
    limb: Option<Reaching<'a>>,
    half: Option<Stretch>,
    unreached: Option<Stretch>,
    on_line: Option<Stretch>,
    rolled: Option<Stretch>,
}

/// A limb with what it reaches for.
struct Reaching<'a> {
    limb: &'a Limb,
    /// The point beside the goal.
    point: DVec3,
    /// The limb's length at rest.
    length: f64,
}

impl<'a> Watched<'a> {
    fn new(
        scene: &'a Scene,
        take: &'a Take,
        constraint: &'a Constraint,
        rests: &[Vec<DAffine3>],
    ) -> Result<Option<Watched<'a>>, EvaluateError> {
        let weight = SettingSampler::new(scene, Some(take), &constraint.weight)?;
        let is_read = constraint.weight.attribute().is_some();
        let at = |node: NodeRef| {
            let position = scene.rigs.get(node.0).and_then(|rig| rig.position(node.1));
            position.map_or(DAffine3::IDENTITY, |position| rests[node.0][position])
        };
        let limb = match &constraint.kind {
            ConstraintKind::Limb(limb) => {
                let [root, middle, end] =
                    [constraint.node, limb.lower, limb.end].map(|node| at(node).translation);
                let beside = || at(limb.goal.node).inverse().transform_point3(end);
                Some(Reaching {
                    limb,
                    point: limb.goal.offset.map_or_else(beside, |offset| offset.position),
                    length: (middle - root).length() + (end - middle).length(),
                })
            }
            _ => None,
        };
        let is_watched = is_read || limb.is_some() || matches!(constraint.kind, ConstraintKind::Roll(_));
        let (half, unreached, on_line, rolled) = (None, None, None, None);
        let watched = Watched { constraint, weight, limb, half, unreached, on_line, rolled };
        Ok(is_watched.then_some(watched))
    }

    fn look(&mut self, frame: f64, time: f64, scene: &Scene, poses: &Poses<'_>) {
        let weight = self.weight.at(time);
        let is_read = self.constraint.weight.attribute().is_some();
        if is_read && weight > HALF && weight < 1.0 - HALF {
            Stretch::take(&mut self.half, frame, weight);
        }
        if let ConstraintKind::Roll(roll) = &self.constraint.kind
            && weight > HALF
            && let Some((position, node)) = scene
                .rigs
                .get(roll.source.0)
                .and_then(|rig| Some((rig.position(roll.source.1)?, rig.node(roll.source.1)?)))
            && let Some(axis) = roll.axes.and_then(|axes| axes.source.try_normalize())
        {
            let turned = poses.poses[roll.source.0].local_rotation[position];
            let angle = twist(node.rest_rotation().conjugate() * turned, axis).abs();
            if angle > ROLLED_FAR {
                Stretch::take(&mut self.rolled, frame, angle);
            }
        }
        let Some(reaching) = self.limb.as_ref().filter(|_| weight > 1.0 - HALF) else { return };
        let at = |node: NodeRef| {
            let position = scene.rigs.get(node.0).and_then(|rig| rig.position(node.1));
            position.map_or(DAffine3::IDENTITY, |position| poses.poses[node.0].world[position])
        };
        let goal = at(reaching.limb.goal.node).transform_point3(reaching.point);
        let (root, end) = (at(self.constraint.node).translation, at(reaching.limb.end).translation);
        let off = (goal - end).length();
        if off > OUT_OF_REACH * reaching.length {
            Stretch::take(&mut self.unreached, frame, off);
        }
        let to_pole = match &reaching.limb.pole {
            Some(Towards::Node(node)) => at(*node).translation - root,
            _ => return,
        };
        let sine = to_pole.normalize_or_zero().cross((goal - root).normalize_or_zero()).length();
        if sine < ON_LINE {
            Stretch::take(&mut self.on_line, frame, 1.0 - sine);
        }
    }

    fn findings(self, scene: &Scene, take: &Take, addresses: &Addresses) -> Vec<Finding> {
        let place = addresses.node(self.constraint.node);
        let name = said(self.constraint);
        let length = |units: f64| {
            let metres = units * scene.space.metres_per_unit;
            if metres < 0.01 { format!("{:.1} mm", metres * 1e3) } else { format!("{:.1} cm", metres * 1e2) }
        };
        let finding = |code, stretch: Stretch, detail: String| {
            Finding::new(code, place, detail).in_take(take).at(stretch.first, stretch.last)
        };
        let unreached = self.unreached.map(|stretch| {
            finding(Code::OutOfReach, stretch, format!("{name} ends {} short", length(stretch.most)))
        });
        let on_line = self.on_line.map(|stretch| {
            let angle = (1.0 - stretch.most).asin().to_degrees();
            finding(Code::PoleOnLine, stretch, format!("{name}: down to {angle:.1} deg from its line"))
        });
        let rolled = self.rolled.map(|stretch| {
            finding(Code::RollFar, stretch, format!("{name}: up to {:.0} deg", stretch.most.to_degrees()))
        });
        let half = self.half.map(|stretch| {
            finding(Code::HalfSwitch, stretch, format!("{name}: up to {:.0} %", stretch.most * 100.0))
        });
        [unreached, on_line, rolled, half].into_iter().flatten().collect()
    }
}
