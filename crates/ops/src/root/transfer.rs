//! What goes from the hips to a root above them, curve by curve.

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Interpolation, Key, combine};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, Scene, Take, Target, Track};

use super::RootOptions;
use super::carrier::Carrier;
use super::claim::at_rest;
use super::error::RootError;
use crate::conversion::{ControllerType, ConversionContext, convert_controller};

/// The root above the hips.
pub(super) struct RootTransfer<'a> {
    pub(super) scene: &'a Scene,
    pub(super) root: NodeId,
    pub(super) name: &'a str,
    pub(super) carrier: &'a Carrier,
    /// Where the hips stay.
    pub(super) keep: DVec3,
    pub(super) options: &'a RootOptions,
}

impl RootTransfer<'_> {
    /// Which components of the hips' place go.
    pub(super) fn goes(&self, axis: usize) -> bool {
        axis != self.carrier.up || self.options.height
    }

    /// Whether the hips travel or turn in a take.
    pub(super) fn moves(&self, take: &Take) -> bool {
        let is_own = |track: &Track, property: &str| self.carrier.is_mine(&track.target, property);
        take.tracks()
            .any(|(_, track)| is_own(track, TRANSLATION) || self.options.turn && is_own(track, ROTATION))
    }

    /// Whether what moves to the root adds up with what the layers of a take do to both.
    pub(super) fn check(&self, take: &Take) -> Result<(), RootError> {
        if !self.moves(take) {
            return Ok(());
        }
        let is_on = |layer: &Layer, node: NodeId, property: &str| {
            let target = Target { rig: self.carrier.rig, node, property: property.into() };
            layer.tracks.iter().any(|track| track.target == target)
        };
        let root_has = |property: &str| take.layers.iter().any(|layer| is_on(layer, self.root, property));
        if root_has(ROTATION) || root_has(SCALE) {
            return Err(RootError::RootTurns(self.name.to_owned()));
        }
        self.carrier.check_base(take)?;
        let overriding = || take.layers.iter().skip(1).filter(|layer| layer.mode == LayerMode::Override);
        if root_has(TRANSLATION)
            && let Some(layer) = overriding().find(|layer| {
                is_on(layer, self.root, TRANSLATION) != is_on(layer, self.carrier.id, TRANSLATION)
            })
        {
            let why = format!(
                "layer '{}' replaces one of it and '{}' alone: flatten the layers first",
                layer.name, self.name
            );
            return Err(RootError::Cannot { channel: format!("{}:translation", self.carrier.address), why });
        }
        Ok(())
    }

    pub(super) fn root_rest(&self) -> DVec3 {
        match self.scene.rigs[self.carrier.rig].rest_value(self.root, TRANSLATION) {
            Some(Value::Vector(v)) => v,
            _ => DVec3::ZERO,
        }
    }

    /// The turn about the up axis at rest, as an angle of an order in which it acts last.
    pub(super) fn rest_angle(&self, order: RotationOrder) -> f64 {
        at_rest(self.scene, (self.carrier.rig, self.carrier.id), order)[self.carrier.up]
    }

    pub(super) fn turns(&self, take: &Take) -> bool {
        take.tracks().any(|(_, track)| {
            self.carrier.is_mine(&track.target, ROTATION)
                && match &track.controller {
                    Controller::Euler(euler) => !euler.curves[self.carrier.up].is_constant(),
                    Controller::Samples(samples) => {
                        let angle = |index: usize| samples.row(index)[self.carrier.up];
                        (1..samples.len()).any(|index| (angle(index) - angle(0)).abs() > 1e-9)
                    }
                    _ => false,
                }
        })
    }

    /// Takes the travel out of the hips' places, and returns it as the root's.
    pub(super) fn translation(&self, own: &mut Controller, range: TimeRange, mode: LayerMode) -> Controller {
        let is_override = mode == LayerMode::Override;
        let root_rest = self.root_rest();
        // What the hips keep, and what the root's own place adds; nothing on additive layers.
        let keep = |axis: usize| if is_override { self.keep[axis] } else { 0.0 };
        let add = |axis: usize| if is_override { root_rest[axis] } else { 0.0 };
        match own {
            Controller::Components(curves) => {
                let mut root: Vec<Curve> = vec![Curve::default(); 3];
                for axis in (0..3).filter(|axis| self.goes(*axis)) {
                    let Some(curve) = curves.get_mut(axis).filter(|curve| !curve.is_empty()) else {
                        continue;
                    };
                    let offset = add(axis) - keep(axis);
                    if self.options.steady {
                        let (line, rest) = steady(curve, range);
                        root[axis] = line.affine(1.0, offset);
                        *curve = rest.affine(1.0, keep(axis));
                    } else {
                        root[axis] = curve.affine(1.0, offset);
                        *curve = if is_override {
                            Curve::constant(range.first, keep(axis))
                        } else {
                            Curve::default()
                        };
                    }
                }
                Controller::Components(root)
            }
            Controller::Samples(samples) => {
                let mut root =
                    Samples { values: Vec::with_capacity(samples.values.len()), ..samples.clone() };
                let last = samples.len().saturating_sub(1);
                let ends = [samples.row(0).to_vec(), samples.row(last).to_vec()];
                for (index, row) in samples.values.chunks_mut(3).enumerate() {
                    let part = index as f64 / last.max(1) as f64;
                    for axis in 0..3 {
                        if !self.goes(axis) {
                            root.values.push(add(axis));
                            continue;
                        }
                        let even = ends[0][axis] + (ends[1][axis] - ends[0][axis]) * part;
                        let moved = if self.options.steady { even } else { row[axis] };
                        root.values.push(moved + add(axis) - keep(axis));
                        row[axis] = row[axis] - moved + keep(axis);
                    }
                }
                Controller::Samples(root)
            }
            _ => Controller::Components(Vec::new()),
        }
    }

    /// Takes the turn about the up axis out of the hips, and returns it as the root's.
    pub(super) fn rotation(&self, own: &mut Controller, range: TimeRange, mode: LayerMode) -> Controller {
        let up = self.carrier.up;
        let keep = match own.order() {
            Some(order) if mode == LayerMode::Override => self.rest_angle(order),
            _ => 0.0,
        };
        let order = match self.scene.rigs[self.carrier.rig].rest_value(self.root, ROTATION) {
            Some(Value::Euler { order, .. }) => order,
            _ => self.carrier.order(),
        };
        match own {
            Controller::Euler(euler) => {
                let mut curves = [Curve::default(), Curve::default(), Curve::default()];
                let curve = &mut euler.curves[up];
                if !curve.is_empty() {
                    curves[up] = curve.affine(1.0, -keep);
                    *curve = match mode {
                        LayerMode::Override => Curve::constant(range.first, keep),
                        LayerMode::Additive => Curve::default(),
                    };
                }
                Controller::Euler(EulerCurves { order, curves })
            }
            Controller::Samples(samples) => {
                let mut values = Vec::with_capacity(samples.values.len());
                for row in samples.values.chunks_mut(3) {
                    values.extend((0..3).map(|axis| if axis == up { row[axis] - keep } else { 0.0 }));
                    row[up] = keep;
                }
                Controller::Samples(Samples { values, kind: SampleKind::Euler(order), ..samples.clone() })
            }
            _ => Controller::Components(Vec::new()),
        }
    }

    /// Gives curves to the angles that have none, of an order that is not the node's own: in a stack they would rest as the node does,
    /// in its order.
    pub(super) fn fill_turns(&self, own: &mut Controller, range: TimeRange) {
        let Controller::Euler(euler) = own else { return };
        for (axis, curve) in euler.curves.iter_mut().enumerate().filter(|(_, curve)| curve.is_empty()) {
            let is_up = axis == self.carrier.up;
            let angle = if is_up { self.rest_angle(euler.order) } else { 0.0 };
            *curve = Curve::constant(range.first, angle);
        }
    }

    /// Puts a track of the root onto a layer; where one is there already both add up.
    pub(super) fn put(
        &self,
        tracks: &mut Vec<Track>,
        track: Track,
        mode: LayerMode,
        range: TimeRange,
    ) -> Result<(), RootError> {
        let Some(there) = tracks.iter_mut().find(|own| own.target == track.target) else {
            tracks.push(track);
            return Ok(());
        };
        let cannot = |why: &str| RootError::Cannot {
            channel: format!("{}:{}", self.name, track.target.property),
            why: why.to_owned(),
        };
        let rest = if mode == LayerMode::Override { self.root_rest() } else { DVec3::ZERO };
        let curves = |controller: &Controller| {
            let setting = ConversionContext {
                kind: PropertyKind::Vector(Quantity::Length),
                rest: Value::Vector(rest),
                tolerance: self.options.tolerance.of(Quantity::Length, &self.scene.space),
                rate: self.scene.rate,
                range,
            };
            let changed = convert_controller(controller, ControllerType::Curves, &setting);
            changed.map(|changed| changed.controller).map_err(|why| cannot(&why.to_string()))
        };
        let (Controller::Components(own), Controller::Components(new)) =
            (curves(&there.controller)?, curves(&track.controller)?)
        else {
            return Err(cannot("the root moves already, in another way than by curves"));
        };
        let mut sums = Vec::with_capacity(3);
        for (axis, (own, new)) in own.iter().zip(&new).enumerate() {
            sums.push(match (own.is_empty(), new.is_empty()) {
                (_, true) => own.clone(),
                (true, false) => new.clone(),
                _ => combine(&[(1.0, own), (1.0, new)], -rest[axis]).ok_or_else(|| {
                    cannot("weighted handles do not add up exactly: unbake or flatten first")
                })?,
            });
        }
        there.controller = Controller::Components(sums);
        Ok(())
    }
}

/// A straight line between a curve's values at the ends of a range, and what is left: both begin at nothing more than the
/// line's own start.
pub(super) fn steady(curve: &Curve, range: TimeRange) -> (Curve, Curve) {
    let at = |time: Ticks| curve.value_at(time.as_f64()).unwrap_or(0.0);
    let (first, last) = (at(range.first), at(range.last));
    let seconds = range.seconds();
    if seconds <= 0.0 {
        return (Curve::constant(range.first, first), Curve::constant(range.first, 0.0));
    }
    let key = |time, value| Key::new(time, value).with_interpolation(Interpolation::Linear);
    let line = Curve::new(vec![key(range.first, first), key(range.last, last)]).unwrap_or_default();
    let slope = (last - first) / seconds;
    // Within the range, so that held ends do not run away, and to its ends: what is held there is left behind by the line.
    let own = curve.trimmed(range);
    let own = if slope == 0.0 { own } else { own.with_ends(range) };
    let rest = own.plus_line(-slope, range.first).affine(1.0, -first);
    (
        line,
        rest.with_behaviours(
            nimble_curve_curves::curve::Behaviour::Held,
            nimble_curve_curves::curve::Behaviour::Held,
        ),
    )
}
