//! Properties as all that drives them makes them: layers, couples, constraints.

use glam::{DMat3, DVec3};
use nimble_curve_curves::value::Value;

use super::{CoupledSampler, EvaluateError, NodeSampler};
use crate::rig::{Canonical, Node, ROTATION, SCALE, TRANSLATION};
use crate::scene::{Layer, PropertyKind, Scene, Take, Target, Track};

/// Evaluates one property with its layers, what is coupled to it and what constraints make of its node.
#[derive(Debug)]
pub struct ChannelSampler<'a> {
    kind: PropertyKind,
    source: Source<'a>,
}

#[derive(Debug)]
enum Source<'a> {
    Own(Box<CoupledSampler<'a>>),
    /// A step of a node that constraints drive.
    Solved {
        node: NodeSampler<'a>,
        view: Box<Canonical>,
        step: String,
    },
}

impl<'a> ChannelSampler<'a> {
    /// A sampler of a property in a take. Steps of nodes that constraints drive and that are no translation, rotation and scale
    /// are what their own curves make of them.
    ///
    /// # Errors
    /// Where there is no such property, or something that drives it cannot be evaluated.
    pub fn new(
        scene: &'a Scene,
        take: &'a Take,
        target: &Target,
    ) -> Result<ChannelSampler<'a>, EvaluateError> {
        let own = take.active_tracks().filter(|(_, track)| track.target == *target).collect::<Vec<_>>();
        ChannelSampler::of_tracks(scene, take, target, &own)
    }

    /// The same with the tracks on the property, in order of their layers, all of which count.
    ///
    /// # Errors
    /// As [`new`](ChannelSampler::new).
    pub fn of_tracks(
        scene: &'a Scene,
        take: &'a Take,
        target: &Target,
        tracks: &[(&'a Layer, &'a Track)],
    ) -> Result<ChannelSampler<'a>, EvaluateError> {
        let own = CoupledSampler::of_tracks((scene, Some(take)), target, tracks, 0)?;
        let kind = own.kind();
        let node = (target.rig, target.node);
        let is_step = [TRANSLATION, ROTATION, SCALE].contains(&target.property.as_str());
        let view = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node)).and_then(Node::canonical);
        let source = match view.filter(|_| is_step && scene.is_driven(node)) {
            Some(view) => Source::Solved {
                node: NodeSampler::new(scene, Some(take), node)?,
                view: Box::new(view),
                step: target.property.clone(),
            },
            None => Source::Own(Box::new(own)),
        };
        Ok(ChannelSampler { kind, source })
    }

    /// The kind of the property.
    pub fn kind(&self) -> PropertyKind {
        self.kind
    }

    /// The value at a time in ticks.
    pub fn value_at(&mut self, time: f64) -> Value {
        match &mut self.source {
            Source::Own(sampler) => sampler.value_at(time),
            Source::Solved { node, view, step } => {
                let (local, turn) = node.local_at(time);
                match step.as_str() {
                    ROTATION => Value::Quaternion(
                        (view.before.conjugate() * turn * view.after.conjugate()).normalize(),
                    ),
                    SCALE => {
                        let size = DMat3::from_quat(turn.conjugate()) * local.matrix3;
                        Value::Vector(DVec3::new(size.x_axis.x, size.y_axis.y, size.z_axis.z))
                    }
                    _ => Value::Vector(local.translation),
                }
            }
        }
    }
}
