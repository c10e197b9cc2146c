//! Where bodies stand, and how long their legs are.
//!
//! Legs reach from the node that carries the body to the lowest joint below it in the reference pose; their ratio is that of the
//! travel. Many captures rest with their hips at the origin: such a pose stands on no ground. It is put on the one on which the lowest
//! joints stand in the motion, so that feet end as high above the target's ground as they were above the source's.

use glam::{DAffine3, DVec3};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::rig::{NodeId, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::links::Links;
use super::{CarryError, CarryOptions, NameMap, PoseAt};
use crate::rigs::RigPairing;
use crate::standing::{Standing, lowest_stand};

/// A pose stands on the ground where its lowest joint is no farther from it than this, in leg lengths.
const NEAR: f64 = 0.25;

/// The options with reference poses in which a rig stands on the ground, where they are others, and what was done to them, for people.
pub(super) fn standing(
    source: &Scene,
    target: &Scene,
    (map, pair): (&NameMap, RigPairing),
    options: &CarryOptions,
) -> Result<(Option<CarryOptions>, Vec<String>), CarryError> {
    let same = Ok((None, Vec::new()));
    let (from, onto) = (Addresses::new(source), Addresses::new(target));
    let links = Links::new(source, target, (&from, &onto), map, pair)?;
    let reference = Reference::of(source, pair.source, options.source_pose.as_ref())?;
    let moved = source.takes.iter().flat_map(Take::tracks);
    let is_moved: Vec<NodeId> = moved
        .filter(|(_, track)| track.target.rig == pair.source && track.target.property == TRANSLATION)
        .map(|(_, track)| track.target.node)
        .collect();
    let mut nodes = source.rigs[pair.source].nodes().map(|(id, _)| id).filter(|id| is_moved.contains(id));
    let Some((carrier, own)) = nodes.find_map(|id| Some((id, reference.body(id)?))) else { return same };
    let partner = links.of_source(carrier).map(|link| link.target);
    let onto_reference = Reference::of(target, pair.target, options.target_pose.as_ref())?;
    let Some((partner, other)) = partner.and_then(|id| Some((id, onto_reference.body(id)?))) else {
        let unheard = !own.stands();
        let note = format!(
            "the source's reference pose stands on no ground, and {} has no partner that carries the target's body: look at the height of the result with check",
            from.node((pair.source, carrier))
        );
        return Ok((None, unheard.then_some(note).into_iter().collect()));
    };
    let source_ground = match own.stands() {
        true => own.lowest,
        false => ground(source, pair.source, &own.joints)?.unwrap_or(own.lowest),
    };
    let unit = source.space.metres_per_unit / target.space.metres_per_unit;
    let target_ground = match other.stands() {
        true => other.lowest,
        false => {
            let own_ground =
                if target.takes.is_empty() { None } else { ground(target, pair.target, &other.joints)? };
            // A rig that says nothing stands where the source does, as it is scaled.
            own_ground.unwrap_or(source_ground * unit * options.scale.unwrap_or(other.leg / (own.leg * unit)))
        }
    };
    let mut standing = options.clone();
    let mut notes = Vec::new();
    for (reference, node, body, ground, pose, whose, metres) in [
        (
            &reference,
            carrier,
            &own,
            source_ground,
            &mut standing.source_pose,
            "source",
            source.space.metres_per_unit,
        ),
        (
            &onto_reference,
            partner,
            &other,
            target_ground,
            &mut standing.target_pose,
            "target",
            target.space.metres_per_unit,
        ),
    ] {
        let by = ground - body.lowest;
        if by.abs() > 1e-6 * body.leg {
            *pose = Some(reference.lifted(node, by, pose.as_ref()));
            notes.push(format!(
                "the {whose}'s reference pose stands {:.3} m {} its ground: it is put on it",
                (by * metres).abs(),
                if by > 0.0 { "below" } else { "above" }
            ));
        }
    }
    Ok((Some(standing), notes))
}

/// A rig in its reference pose.
struct Reference<'a> {
    index: usize,
    rig: &'a Rig,
    pose: Pose,
    up: usize,
}

/// A body in a pose: how long its legs are, and how high its lowest joint is.
struct Legs {
    joints: Standing,
    leg: f64,
    lowest: f64,
}

impl Legs {
    /// Whether the pose says where the ground is.
    fn stands(&self) -> bool {
        self.lowest.abs() <= NEAR * self.leg
    }
}

impl<'a> Reference<'a> {
    fn of(
        scene: &'a Scene,
        index: usize,
        reference: Option<&PoseAt>,
    ) -> Result<Reference<'a>, EvaluateError> {
        let mut pose = Pose::default();
        let time = reference.map_or(0.0, |pose| pose.time.as_f64());
        Evaluator::new(scene, reference.map(|pose| &pose.take), index)?.pose_at(time, &mut pose);
        Ok(Reference { index, rig: &scene.rigs[index], pose, up: scene.space.up.index() })
    }

    /// The body that a node carries, where it is as high above what hangs on it as hips are, and can be moved.
    fn body(&self, node: NodeId) -> Option<Legs> {
        self.rig.node(node)?.canonical()?;
        let joints = Standing::of(self.rig, node, self.up)?;
        let (leg, lowest) = (joints.leg(&self.pose.world)?, joints.lowest(&self.pose.world));
        Some(Legs { joints, leg, lowest })
    }

    /// The pose with a node, and all that hangs on it, this much higher.
    fn lifted(&self, node: NodeId, by: f64, pose: Option<&PoseAt>) -> PoseAt {
        let mut up = DVec3::ZERO;
        up[self.up] = by;
        let parent = self.rig.parent(node).and_then(|id| self.rig.position(id));
        let above = parent.map_or(DAffine3::IDENTITY, |at| self.pose.world[at]);
        let at = self.rig.position(node).map_or(DVec3::ZERO, |at| self.pose.local[at].translation);
        let value = at + above.inverse().transform_vector3(up);
        let target = Target::new(self.index, node, TRANSLATION);
        let track = Track { target: target.clone(), controller: Controller::Constant(Value::Vector(value)) };
        match pose {
            Some(pose) => {
                let mut lifted = pose.clone();
                for layer in &mut lifted.take.layers {
                    layer.tracks.retain(|track| track.target != target);
                }
                match lifted.take.layers.first_mut() {
                    Some(base) => base.tracks.push(track),
                    None => lifted.take.layers.push(Layer::base(vec![track])),
                }
                lifted
            }
            None => {
                let take = Take::new(
                    "pose",
                    TimeRange::new(Ticks::ZERO, Ticks::ZERO),
                    vec![Layer::base(vec![track])],
                );
                PoseAt { take, time: Ticks::ZERO }
            }
        }
    }
}

/// How high the lowest joints of a body stand in the takes of its scene; `None` where there are no frames.
fn ground(scene: &Scene, rig: usize, joints: &Standing) -> Result<Option<f64>, EvaluateError> {
    let mut heights = Vec::new();
    let mut pose = Pose::default();
    for take in &scene.takes {
        let mut evaluator = Evaluator::new(scene, Some(take), rig)?;
        let first = scene.rate.frame(take.range.first).ceil() as i64;
        let last = scene.rate.frame(take.range.last).floor() as i64;
        for frame in first..=last {
            evaluator.pose_at(scene.rate.ticks(frame).as_f64(), &mut pose);
            heights.push(joints.lowest(&pose.world));
        }
    }
    Ok(lowest_stand(heights))
}
