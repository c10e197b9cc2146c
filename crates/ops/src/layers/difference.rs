//! A layer that makes one motion of another.

use std::collections::HashSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Discrete, DiscreteCurve, Side, Ticks};
use nimble_curve_curves::rotation::{Knot, RotationPath};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, PropertySampler};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{
    Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track, take_partners,
};
use rayon::prelude::*;

use super::LayersError;
use super::flatten::as_controller;
use crate::Tolerance;
use crate::channel::count;
use crate::conversion::{ConversionContext, ConvertedController, refitted_numbers, refitted_rotation};
use crate::linear::Sums;
use crate::sampled_function::SampledFunction;

/// How to take a difference.
#[derive(Clone, Debug)]
pub struct SplitOptions {
    /// The new layer's name.
    pub name: String,
    /// The addresses of the channels whose difference is meant; all where there are none.
    pub only: Vec<String>,
    /// How far the result may be from the other take where it cannot be exact.
    pub tolerance: Tolerance,
}

/// Adds the difference between each take and that of another scene (of the same name, or the only one) as a new
/// additive layer: with it on top, the take moves as the other one does.
///
/// Differences of sums of curves are exact, with keys only where something differs; the rest is refitted. Rotations
/// mix by component where all of them are exact that way, else by quaternion.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track, take_partners};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::layers::{SplitOptions, split};
/// use nimble_curve_ops::Tolerance;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let higher = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (12, 1.2), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let edited = take("walk", 24, vec![track(TRANSLATION, Controller::Components(higher.to_vec()))]);
/// let options = SplitOptions { name: "hop".into(), only: Vec::new(), tolerance: Tolerance::default() };
///
/// // What was changed becomes a layer: with it on top, the walk is the edited one.
/// let (layered, _) = split(&scene(walk), &scene(edited), &options)?;
/// let hop = &layered.takes[0].layers[1];
/// let Controller::Components(curves) = &hop.tracks[0].controller else { panic!() };
/// assert!((at(&curves[1], 12) - 0.2).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`LayersError`].
pub fn split(scene: &Scene, other: &Scene, options: &SplitOptions) -> Result<(Scene, Ledger), LayersError> {
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    let partners = take_partners(&other.takes, &scene.takes);
    for ((take, out), partner) in scene.takes.iter().zip(&mut result.takes).zip(partners) {
        if take.layers.iter().any(|layer| layer.name == options.name) {
            return Err(LayersError::Taken(options.name.clone()));
        }
        let partner = partner.map(|at| &other.takes[at]);
        let same_name = partner.filter(|theirs| theirs.name == take.name);
        let theirs = match (same_name, scene.takes.as_slice(), other.takes.as_slice()) {
            (Some(theirs), _, _) | (None, [_], [theirs]) => theirs,
            _ => return Err(LayersError::NoTake(take.name.clone())),
        };
        let job = Split { scene, other, take, theirs, addresses: Addresses::new(scene), options };
        out.layers.push(job.layer(&mut ledger)?);
    }
    Ok((result, ledger))
}

pub(super) struct Split<'a> {
    pub(super) scene: &'a Scene,
    pub(super) other: &'a Scene,
    pub(super) take: &'a Take,
    pub(super) theirs: &'a Take,
    pub(super) addresses: Addresses,
    pub(super) options: &'a SplitOptions,
}

/// A property that both scenes have.
pub(super) struct Pair {
    pub(super) ours: Target,
    pub(super) theirs: Target,
    pub(super) kind: PropertyKind,
    pub(super) rest: Value,
}

impl Split<'_> {
    pub(super) fn layer(&self, ledger: &mut Ledger) -> Result<Layer, LayersError> {
        let mut pairs = Vec::new();
        for pair in self.pairs(ledger) {
            if !self.differs(&pair)? {
                continue;
            }
            let channel = self.addresses.property(&pair.ours);
            if self.options.only.is_empty() || self.options.only.contains(&channel) {
                pairs.push(pair);
                continue;
            }
            // It moves in the other scene as it does not in the result.
            ledger.entries.push(Entry {
                take: self.theirs.name.clone(),
                layer: self.options.name.clone(),
                channel,
                to: None,
                target: Some(pair.theirs),
                fate: Fate::NotSelected,
                error: None,
                before: 0,
                after: 0,
                note: "it differs, and was not chosen".to_owned(),
            });
        }
        let exact: Vec<Option<Controller>> = pairs.par_iter().map(|pair| self.exact(pair)).collect();
        let by_component = pairs
            .iter()
            .zip(&exact)
            .all(|(pair, exact)| pair.kind != PropertyKind::Rotation || exact.is_some());
        let rotations = if by_component { RotationMixing::Angles } else { RotationMixing::Quaternions };
        let mut layer = Layer {
            name: self.options.name.clone(),
            mode: LayerMode::Additive,
            rotations,
            weight: Weight::FULL,
            muted: false,
            tracks: Vec::new(),
        };
        for (pair, exact) in pairs.iter().zip(exact) {
            let changed = match exact {
                Some(controller) if pair.kind != PropertyKind::Rotation || by_component => {
                    ConvertedController { controller, fate: Fate::Exact, error: None }
                }
                _ => self.refitted(pair)?,
            };
            let track = Track { target: pair.ours.clone(), controller: changed.controller };
            let error = changed.error.map(|error| error.in_frames(self.scene.rate));
            ledger.entries.push(Entry {
                take: self.take.name.clone(),
                layer: self.options.name.clone(),
                channel: self.addresses.property(&pair.ours),
                to: None,
                target: Some(pair.ours.clone()),
                fate: changed.fate,
                error,
                before: 0,
                after: count(&track),
                note: "the difference".into(),
            });
            layer.tracks.push(track);
        }
        Ok(layer)
    }

    /// The properties that some track of either take is on, by address.
    pub(super) fn pairs(&self, ledger: &mut Ledger) -> Vec<Pair> {
        let theirs = Addresses::new(self.other);
        let mut found: Vec<(String, Option<Target>, Option<Target>)> = Vec::new();
        let mut seen = HashSet::new();
        for (_, track) in self.take.tracks() {
            let channel = self.addresses.property(&track.target);
            if seen.insert(channel.clone()) {
                let partner = theirs.find_property(&self.other.rigs, &channel).ok();
                found.push((channel, Some(track.target.clone()), partner));
            }
        }
        for (_, track) in self.theirs.tracks() {
            let channel = theirs.property(&track.target);
            if seen.insert(channel.clone()) {
                let ours = self.addresses.find_property(&self.scene.rigs, &channel).ok();
                found.push((channel, ours, Some(track.target.clone())));
            }
        }
        let mut pairs = Vec::new();
        for (channel, ours, theirs) in found {
            let missing = match (ours, theirs) {
                (Some(ours), Some(theirs)) => {
                    let rig = &self.scene.rigs[ours.rig];
                    let kind = rig.property_kind(ours.node, &ours.property);
                    let same =
                        self.other.rigs[theirs.rig].property_kind(theirs.node, &theirs.property) == kind;
                    if let (Some(kind), Some(rest), true) =
                        (kind, rig.rest_value(ours.node, &ours.property), same)
                    {
                        pairs.push(Pair { ours, theirs, kind, rest });
                        continue;
                    }
                    "is of another kind in the other file"
                }
                (Some(_), None) => "is not in the other file",
                _ => "is in the other file only",
            };
            ledger.notes.push(format!("{channel} {missing}: no difference was taken"));
        }
        pairs
    }

    pub(super) fn traces(
        &self,
        pair: &Pair,
    ) -> Result<(SampledFunction<'_>, SampledFunction<'_>), EvaluateError> {
        let ours = PropertySampler::new(self.scene, self.take, &pair.ours)?;
        let theirs = PropertySampler::new(self.other, self.theirs, &pair.theirs)?;
        Ok((SampledFunction::of_property(ours), SampledFunction::of_property(theirs)))
    }

    /// The instants at which either side has keys, and those of the weights of its layers.
    pub(super) fn times(&self, pair: &Pair) -> Vec<Ticks> {
        let range = self.take.range.union(self.theirs.range);
        let of = |take: &'_ Take, target: &Target| -> Vec<Ticks> {
            let mut times = Vec::new();
            for layer in take.layers.iter().filter(|layer| layer.is_active()) {
                let mut on = layer.tracks.iter().filter(|track| track.target == *target).peekable();
                if on.peek().is_some() {
                    times.extend(layer.weight.key_times(range));
                }
                times.extend(on.flat_map(|track| track.controller.key_times(range)));
            }
            times
        };
        let mut times = of(self.take, &pair.ours);
        times.extend(of(self.theirs, &pair.theirs));
        times.extend([range.first, range.last]);
        times.sort_unstable();
        times.dedup();
        times
    }

    /// Whether the two differ at a quarter of a frame or at a key.
    pub(super) fn differs(&self, pair: &Pair) -> Result<bool, LayersError> {
        let (ours, theirs) = self.traces(pair)?;
        let times = self.times(pair);
        let step = self.scene.rate.ticks_per_frame() / 4.0;
        let (first, last) = (times[0].as_f64(), times[times.len() - 1].as_f64());
        let quarters = (0..=((last - first) / step) as usize).map(|index| first + index as f64 * step);
        Ok(times.iter().map(|time| time.as_f64()).chain(quarters).any(|time| {
            let (a, b) = (ours.value(time), theirs.value(time));
            match (a.numbers(), b.numbers()) {
                (Some(x), Some(y)) if x.len() == y.len() => {
                    let far = x.iter().zip(&y).any(|(x, y)| (x - y).abs() > 1e-9 * (1.0 + x.abs()));
                    match (a.rotation(), b.rotation()) {
                        // Unlike angles may be one rotation.
                        (Some(p), Some(q)) => {
                            far && nimble_curve_curves::rotation::angle_between(p, q) > 1e-9
                        }
                        _ => far,
                    }
                }
                _ => match (a.rotation(), b.rotation()) {
                    (Some(p), Some(q)) => nimble_curve_curves::rotation::angle_between(p, q) > 1e-9,
                    _ => a != b,
                },
            }
        }))
    }

    /// The difference where both sides are sums of curves.
    pub(super) fn exact(&self, pair: &Pair) -> Option<Controller> {
        if pair.kind == PropertyKind::Discrete {
            return None;
        }
        let ours = Sums::of_layers(self.scene, self.take, &pair.ours)?;
        let theirs = Sums::of_layers(self.other, self.theirs, &pair.theirs)?;
        if pair.kind == PropertyKind::Scale || ours.order != theirs.order {
            return None;
        }
        let numbers: Vec<_> =
            theirs.numbers.into_iter().zip(&ours.numbers).map(|(theirs, ours)| theirs.less(ours)).collect();
        let sums = Sums { order: ours.order, numbers };
        let nothing = nimble_curve_scene::evaluate::neutral(pair.kind, &pair.rest);
        let controller = as_controller(&sums, &nothing, self.take.range.first)?;
        let thin = |curve: Curve| {
            let thinned = curve.thinned().without_still_ends();
            // What is the same on both sides needs no key.
            let is_nothing = matches!(thinned.keys(), [only] if only.value.abs() < 1e-12);
            if is_nothing { Curve::default() } else { thinned }
        };
        Some(match controller {
            Controller::Components(curves) => Controller::Components(curves.into_iter().map(thin).collect()),
            Controller::Euler(euler) => {
                Controller::Euler(EulerCurves { order: euler.order, curves: euler.curves.map(thin) })
            }
            other => other,
        })
    }

    pub(super) fn refitted(&self, pair: &Pair) -> Result<ConvertedController, LayersError> {
        let (ours, theirs) = self.traces(pair)?;
        let times = self.times(pair);
        let tolerance = self.options.tolerance.of(pair.kind.quantity(), &self.scene.space);
        let nothing = nimble_curve_scene::evaluate::neutral(pair.kind, &pair.rest);
        let range = self.take.range.union(self.theirs.range);
        let setting =
            ConversionContext { kind: pair.kind, rest: nothing, tolerance, rate: self.scene.rate, range };
        match pair.kind {
            PropertyKind::Rotation => {
                let knots = theirs.knots(&times);
                let path = Difference { from: ours, to: theirs };
                // A hold of one side is none of the difference.
                let moving = knots.iter().map(|knot| Knot {
                    leaving: nimble_curve_curves::rotation::SegmentKind::Moving,
                    ..*knot
                });
                Ok(refitted_rotation(&path, &moving.collect::<Vec<_>>(), DVec3::ZERO, &setting))
            }
            PropertyKind::Discrete | PropertyKind::Matrix => {
                // These replace what lies under them.
                let mut keys: Vec<(Ticks, Discrete)> = Vec::new();
                for time in times {
                    if let Value::Discrete(value) = theirs.value(time.as_f64())
                        && keys.last().is_none_or(|(_, last)| *last != value)
                    {
                        keys.push((time, value));
                    }
                }
                let curve = DiscreteCurve::new(keys).expect("the times are in order");
                Ok(ConvertedController {
                    controller: Controller::Discrete(curve),
                    fate: Fate::Exact,
                    error: None,
                })
            }
            kind => {
                let difference = SampledFunction::of_difference(ours, theirs, kind == PropertyKind::Scale);
                refitted_numbers(&difference, &times, &setting, None).map_err(|why| {
                    LayersError::NotConvertible { channel: self.addresses.property(&pair.ours), why }
                })
            }
        }
    }
}

/// The rotation that leads from one to another, `from⁻¹ · to`.
pub(super) struct Difference<'a> {
    pub(super) from: SampledFunction<'a>,
    pub(super) to: SampledFunction<'a>,
}

impl RotationPath for Difference<'_> {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        self.from.rotation(time, side).conjugate() * self.to.rotation(time, side)
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        self.from.rotation(time, side).conjugate()
            * (self.to.velocity(time, side) - self.from.velocity(time, side))
    }
}
