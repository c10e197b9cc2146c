//! Controllers with a stretch of another one in them.

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Discrete, DiscreteCurve, Splice};
use nimble_curve_curves::rotation::{nearest_euler, quat_from_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, Weight};
use nimble_curve_scene::scene::{Layer, Marker, PropertyKind, Take, Track};

use super::{Job, PlaceError};
use crate::channel::property;
use crate::conversion::{ControllerType, ConversionContext, convert_controller};

impl Job<'_> {
    /// The old controller outside the range, the new one inside.
    pub(super) fn joined(
        &self,
        take: &Take,
        layer: usize,
        track: &Track,
        old: Option<&Controller>,
        of: TimeRange,
    ) -> Result<Controller, PlaceError> {
        let outlasts = of.first < self.range.first || of.last > self.range.last;
        if old.is_none() && !outlasts {
            return Ok(track.controller.clone());
        }
        let cannot =
            |why: String| PlaceError::Cannot { channel: self.addresses.property(&track.target), why };
        let (kind, rest) = property(self.scene, take, layer, track)
            .ok_or_else(|| cannot("the rig has no such property".into()))?;
        if kind == PropertyKind::Discrete {
            return self.joined_discrete(track, old, &rest, of).map_err(cannot);
        }
        if let (Controller::Samples(new), Some(Controller::Samples(old))) = (&track.controller, old)
            && let Some(samples) = self.joined_samples(new, old, of)
        {
            return Ok(Controller::Samples(samples));
        }
        let setting = ConversionContext {
            kind,
            rest: rest.clone(),
            tolerance: self.tolerance.of(kind.quantity(), &self.scene.space),
            rate: self.scene.rate,
            range: of.union(self.range),
        };
        let curves = |controller: &Controller| -> Result<Controller, PlaceError> {
            let changed = convert_controller(controller, ControllerType::Curves, &setting)
                .map_err(|why| cannot(why.to_string()))?;
            Ok(changed.controller)
        };
        let new = curves(&track.controller)?;
        let old = old.map(curves).transpose()?;
        let numbers = rest.numbers().ok_or_else(|| cannot("its values cannot be joined".into()))?;
        let join = |index: usize, new: &Curve, old: Option<&Curve>| {
            let is_angle = kind == PropertyKind::Rotation;
            self.joined_curve(new, old, numbers.get(index).copied().unwrap_or(0.0), of, is_angle)
        };
        Ok(match (new, old) {
            (Controller::Euler(new), Some(Controller::Euler(old))) if new.order == old.order => {
                // What is summed with other angles has to be these angles.
                let is_sum = self.alone_on(take, layer, &track.target).is_err();
                let new = if is_sum { new } else { self.nearer_solution(new, &old) };
                let curves =
                    std::array::from_fn(|axis| join(axis, &new.curves[axis], Some(&old.curves[axis])));
                Controller::Euler(EulerCurves { order: new.order, curves })
            }
            (Controller::Euler(new), None) => {
                let curves = std::array::from_fn(|axis| join(axis, &new.curves[axis], None));
                Controller::Euler(EulerCurves { order: new.order, curves })
            }
            (Controller::Components(new), Some(Controller::Components(old))) => {
                let all = new.iter().enumerate().map(|(index, new)| join(index, new, old.get(index)));
                Controller::Components(all.collect())
            }
            (Controller::Components(new), None) => {
                let all = new.iter().enumerate().map(|(index, new)| join(index, new, None));
                Controller::Components(all.collect())
            }
            _ => {
                return Err(cannot(
                    "turns in another order than what is there: reorder one of them first".into(),
                ));
            }
        })
    }

    /// Samples of one grid: those of the new within the range, of the old outside, a straight way between at the seams.
    pub(super) fn joined_samples(&self, new: &Samples, old: &Samples, of: TimeRange) -> Option<Samples> {
        let step = new.rate.ticks_per_frame();
        let phase = (new.start - old.start).as_f64() / step;
        if new.kind != old.kind || new.rate != old.rate || (phase - phase.round()).abs() > 1e-3 {
            return None;
        }
        let (a, b) = (self.range.first, self.range.last);
        let first = if of.first < a { old.start.min(new.start) } else { new.start };
        let end = |samples: &Samples| samples.time(samples.len() - 1);
        let last = if of.last > b { end(old).max(end(new)) } else { end(new) };
        let count = ((last - first).as_f64() / step).round() as usize + 1;
        let grid = Samples { start: first, values: Vec::new(), ..new.clone() };
        let row = |samples: &Samples, time: Ticks| -> Vec<f64> {
            let place = ((time - samples.start).as_f64() / step).round();
            samples.row(place.clamp(0.0, (samples.len() - 1) as f64) as usize).to_vec()
        };
        let mut values: Vec<f64> = Vec::with_capacity(count * new.kind.width());
        for index in 0..count {
            let time = grid.time(index);
            // How far from the new one, in parts of the seam.
            let beside = (a - time).max(time - b).as_f64() / self.ease.as_f64();
            let edge = if time < a { a } else { b };
            let mut own = match beside {
                part if part <= 0.0 => row(new, time),
                part if part >= 1.0 => row(old, time),
                part => {
                    let outer = if time < a { a - self.ease } else { b + self.ease };
                    let (from, to) = (row(new, edge), row(old, outer));
                    from.iter().zip(&to).map(|(from, to)| from + (to - from) * part).collect()
                }
            };
            let before = values.len().checked_sub(own.len()).map(|at| values[at..].to_vec());
            if let (SampleKind::Euler(order), Some(before)) = (new.kind, before) {
                let turned = quat_from_euler(order, DVec3::from_slice(&own));
                own = nearest_euler(order, turned, DVec3::from_slice(&before)).to_array().to_vec();
            }
            values.extend(own);
        }
        Some(Samples { start: first, values, ..new.clone() })
    }

    /// The old curve with the new one within the range.
    pub(super) fn joined_curve(
        &self,
        new: &Curve,
        old: Option<&Curve>,
        rest: f64,
        of: TimeRange,
        is_angle: bool,
    ) -> Curve {
        let how = Splice { range: self.range, of, seam: self.ease, rest, is_angle };
        old.unwrap_or(&Curve::default()).spliced(new, &how)
    }

    pub(super) fn joined_discrete(
        &self,
        track: &Track,
        old: Option<&Controller>,
        rest: &Value,
        of: TimeRange,
    ) -> Result<Controller, String> {
        let keys_of = |controller: &Controller, first: Ticks| -> Result<Vec<(Ticks, Discrete)>, String> {
            match controller {
                Controller::Discrete(curve) => Ok(curve.keys().to_vec()),
                Controller::Constant(Value::Discrete(value)) => Ok(vec![(first, value.clone())]),
                other => Err(format!("a {} controller cannot be joined to switches", other.type_name())),
            }
        };
        let resting = match rest {
            Value::Discrete(value) => value.clone(),
            _ => return Err("it has no value at rest".into()),
        };
        let range = self.range;
        let old = old.map(|old| keys_of(old, of.first)).transpose()?.unwrap_or_default();
        let new = keys_of(&track.controller, range.first)?;
        let value_at = |keys: &[(Ticks, Discrete)], time: Ticks| {
            keys.iter()
                .rev()
                .find(|(at, _)| *at <= time)
                .or(keys.first())
                .map_or(resting.clone(), |(_, v)| v.clone())
        };
        let mut keys: Vec<(Ticks, Discrete)> = Vec::new();
        if of.first < range.first {
            keys.extend(old.iter().filter(|(time, _)| *time < range.first).cloned());
            if keys.is_empty() {
                keys.push((of.first, value_at(&old, of.first)));
            }
        }
        keys.push((range.first, value_at(&new, range.first)));
        keys.extend(new.iter().filter(|(time, _)| *time > range.first && *time <= range.last).cloned());
        if of.last > range.last {
            let frame = Ticks(self.scene.rate.ticks_per_frame().round() as i64);
            let next = range.last + frame;
            if !old.iter().any(|(time, _)| *time == next) {
                keys.push((next, value_at(&old, next)));
            }
            keys.extend(old.iter().filter(|(time, _)| *time >= next).cloned());
        }
        DiscreteCurve::new(keys).map(Controller::Discrete).map_err(|error| error.to_string())
    }

    /// A take with a gap of some length opened at an instant; what was there is held across it.
    pub(super) fn opened(&self, take: &Take, at: Ticks, by: Ticks) -> Result<Take, PlaceError> {
        let mut opened = take.clone();
        let moved = |time: Ticks| if time >= at { time + by } else { time };
        for (index, layer) in take.layers.iter().enumerate() {
            for (place, track) in layer.tracks.iter().enumerate() {
                let controller = self.opened_controller(take, index, track, at, by)?;
                opened.layers[index].tracks[place].controller = controller;
            }
            if let Weight::Curve(curve) = &layer.weight {
                opened.layers[index].weight = Weight::Curve(opened_curve(curve, take.range, at, by));
            }
        }
        opened.range = TimeRange::new(take.range.first, moved(take.range.last));
        for clip in &mut opened.clips {
            clip.range = TimeRange::new(moved(clip.range.first), moved(clip.range.last));
        }
        opened.markers = take.markers.iter().map(|m| Marker { time: moved(m.time), ..m.clone() }).collect();
        Ok(opened)
    }

    pub(super) fn opened_controller(
        &self,
        take: &Take,
        layer: usize,
        track: &Track,
        at: Ticks,
        by: Ticks,
    ) -> Result<Controller, PlaceError> {
        let range = track.controller.range();
        let cannot =
            |why: String| PlaceError::Cannot { channel: self.addresses.property(&track.target), why };
        match (&track.controller, range) {
            (controller, None) => Ok(controller.clone()),
            (controller, Some(range)) if range.last < at && !loops(controller) => Ok(controller.clone()),
            (controller, Some(range)) if range.first >= at && !loops(controller) => {
                let alone = Take { layers: vec![Layer::base(vec![track.clone()])], ..take.clone() };
                let shifted = crate::retime::shifted(&alone, by);
                Ok(shifted
                    .layers
                    .into_iter()
                    .flat_map(|l| l.tracks)
                    .next()
                    .map_or(controller.clone(), |t| t.controller))
            }
            (Controller::Discrete(curve), _) => {
                let keys = curve
                    .keys()
                    .iter()
                    .map(|(time, value)| (if *time >= at { *time + by } else { *time }, value.clone()));
                let curve = DiscreteCurve::new(keys.collect()).map_err(|error| cannot(error.to_string()))?;
                Ok(Controller::Discrete(curve))
            }
            (Controller::Samples(samples), Some(_))
                if is_whole(by.as_f64() / samples.rate.ticks_per_frame()) =>
            {
                // The sample at the gap's start is held across it.
                let width = samples.kind.width();
                let cut = (0..samples.len()).take_while(|&index| samples.time(index) < at).count();
                let more = (by.as_f64() / samples.rate.ticks_per_frame()).round() as usize;
                let held = samples.row(cut.min(samples.len() - 1)).repeat(more);
                let mut values = samples.values.clone();
                values.splice(cut * width..cut * width, held);
                Ok(Controller::Samples(Samples { values, ..samples.clone() }))
            }
            (controller, _) => {
                let (kind, rest) = property(self.scene, take, layer, track)
                    .ok_or_else(|| cannot("the rig has no such property".into()))?;
                let setting = ConversionContext {
                    kind,
                    rest,
                    tolerance: self.tolerance.of(kind.quantity(), &self.scene.space),
                    rate: self.scene.rate,
                    range: take.range,
                };
                let changed = convert_controller(controller, ControllerType::Curves, &setting)
                    .map_err(|why| cannot(why.to_string()))?;
                Ok(match changed.controller {
                    Controller::Components(curves) => Controller::Components(
                        curves.iter().map(|curve| opened_curve(curve, take.range, at, by)).collect(),
                    ),
                    Controller::Euler(euler) => Controller::Euler(EulerCurves {
                        order: euler.order,
                        curves: euler.curves.each_ref().map(|curve| opened_curve(curve, take.range, at, by)),
                    }),
                    other => other,
                })
            }
        }
    }
}

/// Whether something goes on moving outside its keys.
pub(super) fn loops(controller: &Controller) -> bool {
    controller.curves().iter().any(|curve| !curve.is_empty() && !curve.is_held_outside())
}

pub(super) fn is_whole(number: f64) -> bool {
    (number - number.round()).abs() < 1e-6
}

/// A curve with a gap opened in it, its value held across; loops are written out as far as the take reaches.
pub(super) fn opened_curve(curve: &Curve, of: TimeRange, at: Ticks, by: Ticks) -> Curve {
    if !curve.is_empty() && !curve.is_held_outside() {
        return opened_curve(&curve.written_out(of), of, at, by);
    }
    let Some(range) = curve.range() else { return curve.clone() };
    if range.first >= at {
        return curve.shifted(by);
    }
    if range.last < at {
        return curve.clone();
    }
    let later = curve.trimmed(TimeRange::new(at, range.last)).shifted(by);
    // What comes later begins behind what is earlier; were it otherwise, the judge would see it.
    curve
        .trimmed(TimeRange::new(range.first, at))
        .joined(&later)
        .map_or_else(|_| curve.clone(), |made| made.with_behaviours(curve.before, curve.after))
}
