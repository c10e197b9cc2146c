//! Lists of transform steps that are no translation, rotation and scale (pivots, matrices), said as these three.

use std::collections::HashMap;

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::evaluate::NodeSampler;
use nimble_curve_scene::ledger::{Entry, Fate, MeasuredError};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Target, Track};

use super::controllers::{numbers, quaternions};
use super::{Capabilities, Rotations};
use crate::channel::{Bookkeeper, Tolerance, count};
use crate::conversion::{
    ConversionContext, ConvertedController, NotConvertible, refitted_numbers, refitted_rotation,
};
use crate::fitting::fit_samples;
use crate::sampled_function::{SampledFunction, union_times};

/// The parts of a transform, and what each is.
const PARTS: [(&str, PropertyKind); 3] = [
    (TRANSLATION, PropertyKind::Vector(Quantity::Length)),
    (ROTATION, PropertyKind::Rotation),
    (SCALE, PropertyKind::Scale),
];

/// What a node's steps come to, as tracks of its translation, rotation and scale.
pub(super) struct Wholes {
    /// By take.
    tracks: Vec<Vec<Track>>,
    /// By folder and name of the take, and node: how it was followed, or why it could not be.
    ways: HashMap<Whose, Result<(Way, MeasuredError), NotConvertible>>,
}

/// The folder and the name of a take, and a node.
type Whose = (Option<String>, String, NodeRef);

/// How a node is followed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    /// From key to key, jumps included.
    Keys,
    /// Some of its steps are samples: on whole frames, and fitted.
    Frames,
}

impl Wholes {
    /// Those of the nodes of which `is_followed` says that a step of them is followed.
    pub(super) fn of(
        scene: &Scene,
        is_followed: impl Fn(&Target) -> bool,
        holds: &Capabilities,
        tolerance: &Tolerance,
    ) -> Wholes {
        let mut wholes = Wholes { tracks: vec![Vec::new(); scene.takes.len()], ways: HashMap::new() };
        for (index, take) in scene.takes.iter().enumerate() {
            let mut nodes: Vec<NodeRef> = (take.tracks().map(|(_, track)| &track.target))
                .filter(|target| is_followed(target))
                .map(|target| (target.rig, target.node))
                .collect();
            nodes.sort_unstable();
            nodes.dedup();
            for node in nodes {
                let followed = Followed { scene, take, node, holds, tolerance };
                let made = followed.tracks().map(|(way, tracks, error)| {
                    wholes.tracks[index].extend(tracks);
                    (way, error)
                });
                wholes.ways.insert((take.folder.clone(), take.name.clone(), node), made);
            }
        }
        wholes
    }

    pub(super) fn entry(&self, books: &Bookkeeper<'_>, layer: usize, track: &Track) -> Entry {
        let node = (track.target.rig, track.target.node);
        let way = self.ways.get(&(books.take.folder.clone(), books.take.name.clone(), node));
        let (way, error) = match way {
            Some(Ok((way, error))) => (*way, Some(*error)),
            Some(Err(why)) => {
                return Entry {
                    fate: Fate::LeftOut,
                    after: 0,
                    note: why.to_string(),
                    ..books.kept(layer, track)
                };
            }
            None => (Way::Frames, None),
        };
        let note = match way {
            Way::Keys => "its steps are no translation, rotation and scale: followed as a whole",
            Way::Frames => "its steps are no translation, rotation and scale: sampled as a whole and fitted",
        };
        books.changed(layer, track, Fate::Refitted, count(track), error, note)
    }

    pub(super) fn put_into(self, scene: &mut Scene) {
        for (take, tracks) in scene.takes.iter_mut().zip(self.tracks) {
            if let Some(base) = take.layers.first_mut() {
                base.tracks.extend(tracks);
            }
        }
    }
}

/// One node whose steps are followed together.
struct Followed<'a> {
    scene: &'a Scene,
    take: &'a Take,
    node: NodeRef,
    holds: &'a Capabilities,
    tolerance: &'a Tolerance,
}

impl<'a> Followed<'a> {
    fn drivers(&self) -> impl Iterator<Item = (&'a Layer, &'a Track)> {
        let node = self.node;
        self.take.active_tracks().filter(move |(_, track)| (track.target.rig, track.target.node) == node)
    }

    fn tracks(&self) -> Result<(Way, Vec<Track>, MeasuredError), NotConvertible> {
        let is_sampled = self.drivers().any(|(_, track)| track.controller.samples().is_some());
        let way = if is_sampled { Way::Frames } else { Way::Keys };
        let mut angle = MeasuredError::none(Quantity::Angle);
        let mut tracks = Vec::with_capacity(PARTS.len());
        for (name, kind) in PARTS {
            let setting = self.setting(kind);
            let changed = match way {
                Way::Keys => self.by_keys(&setting)?,
                Way::Frames => self.by_frames(&setting)?,
            };
            if let Some(error) = changed.error.filter(|_| kind == PropertyKind::Rotation) {
                angle.merge(&error.in_frames(self.scene.rate));
            }
            let target = Target { rig: self.node.0, node: self.node.1, property: name.to_owned() };
            tracks.push(Track { target, controller: changed.controller });
        }
        Ok((way, tracks, angle))
    }

    /// Half of the tolerance is for following, half for what a format does not hold of the curves that come of it.
    fn setting(&self, kind: PropertyKind) -> ConversionContext {
        let rest = match kind {
            PropertyKind::Rotation if self.holds.rotations == Rotations::Quaternions => {
                Value::Quaternion(DQuat::IDENTITY)
            }
            PropertyKind::Rotation => Value::Euler { order: RotationOrder::Xyz, angles: DVec3::ZERO },
            PropertyKind::Scale => Value::Vector(DVec3::ONE),
            _ => Value::Vector(DVec3::ZERO),
        };
        let tolerance = 0.5 * self.tolerance.of(kind.quantity(), &self.scene.space);
        ConversionContext { kind, rest, tolerance, rate: self.scene.rate, range: self.take.range }
    }

    /// One part of what the steps come to, at a time in ticks.
    fn part(&self, kind: PropertyKind) -> Result<impl FnMut(f64) -> Value + use<'a>, NotConvertible> {
        let sampler = NodeSampler::new(self.scene, Some(self.take), self.node);
        let mut sampler = sampler.map_err(|_| NotConvertible::NoValue)?;
        Ok(move |time: f64| {
            let (scale, rotation, translation) = decomposed(&sampler.local_at(time).0);
            match kind {
                PropertyKind::Rotation => Value::Quaternion(rotation),
                PropertyKind::Scale => Value::Vector(scale),
                _ => Value::Vector(translation),
            }
        })
    }

    fn by_keys(&self, setting: &ConversionContext) -> Result<ConvertedController, NotConvertible> {
        let range = self.take.range;
        let controllers = self.drivers().map(|(_, track)| &track.controller);
        let weights = self.drivers().flat_map(|(layer, _)| layer.weight.key_times(range));
        let mut times = union_times(controllers, weights.chain([range.first, range.last]), range);
        let trace = SampledFunction::of_function(self.part(setting.kind)?);
        if setting.kind == PropertyKind::Rotation {
            let knots = trace.knots(&times);
            let made = refitted_rotation(&trace, &knots, DVec3::ZERO, setting);
            return match self.holds.rotations {
                Rotations::Quaternions => {
                    quaternions(&made.controller, setting, DQuat::IDENTITY, DQuat::IDENTITY)
                        .map(|plain| ConvertedController { error: made.error.or(plain.error), ..plain })
                }
                Rotations::Angles => numbers(made, setting, self.holds),
            };
        }
        times.retain(|time| range.first <= *time && *time <= range.last);
        numbers(refitted_numbers(&trace, &times, setting, None)?, setting, self.holds)
    }

    fn by_frames(&self, setting: &ConversionContext) -> Result<ConvertedController, NotConvertible> {
        let rate = self.scene.rate;
        let range = self.take.range;
        let frames = rate.frame(range.first).floor() as i64..=rate.frame(range.last).ceil() as i64;
        let start: Ticks = rate.ticks(*frames.start());
        let mut part = self.part(setting.kind)?;
        let mut values = Vec::new();
        let mut last: Option<DQuat> = None;
        for frame in frames {
            match part(rate.ticks(frame).as_f64()) {
                Value::Quaternion(turn) => {
                    let turn = if last.is_some_and(|last| last.dot(turn) < 0.0) { -turn } else { turn };
                    last = Some(turn);
                    values.extend(turn.to_array());
                }
                other => values.extend(other.numbers().ok_or(NotConvertible::NoValue)?),
            }
        }
        let kind = match setting.kind {
            PropertyKind::Rotation => SampleKind::Quaternion,
            _ => SampleKind::Vector,
        };
        let samples = Samples { start, rate, kind, values };
        let (controller, error) = fit_samples(&samples, setting.kind, RotationOrder::Xyz, setting.tolerance)
            .unwrap_or((Controller::Samples(samples), MeasuredError::none(setting.kind.quantity())));
        let made = ConvertedController { controller, fate: Fate::Refitted, error: Some(error) };
        match (setting.kind, self.holds.rotations) {
            (PropertyKind::Rotation, Rotations::Quaternions) => {
                let plain = quaternions(&made.controller, setting, DQuat::IDENTITY, DQuat::IDENTITY)?;
                let more = plain.error.map_or(0.0, |error| error.largest);
                let largest = error.largest + more;
                Ok(ConvertedController { error: Some(MeasuredError { largest, ..error }), ..plain })
            }
            _ => Ok(made),
        }
    }
}
