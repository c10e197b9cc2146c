//! Placement: a take put onto another one that is there already, seams joined without a pop.

mod claim;

use std::collections::HashSet;

use glam::DVec3;
use nimble_curve_curves::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key, Tangent, TangentMode, TangentShape,
};
use nimble_curve_curves::rotation::{nearest_euler, quat_from_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, Weight};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::{
    Clip, Layer, LayerMode, Marker, PropertyKind, RotationMixing, Scene, Take, Target, Track,
};
use nimble_curve_scene::similar::similar;
use thiserror::Error;

use super::channel::{Tolerance, property};
use super::conversion::{ControllerType, ConversionContext, convert_controller};

pub use claim::{Placed, placed};

/// What becomes of the animation that is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Placement {
    /// What lies in the range of the new take is replaced, in the channels that it moves.
    Overwrite,
    /// What comes later moves to make room.
    Ripple,
    /// Channels that have keys stay as they are.
    Unkeyed,
    /// Everything goes onto a new layer of this name that replaces what lies under it.
    Layer(String),
}

/// Where to place a take.
#[derive(Clone, Debug)]
pub struct PlaceOptions {
    /// What becomes of what is there.
    pub placement: Placement,
    /// The take to place onto; the only one where none is named.
    pub onto: Option<String>,
    /// Over how long seams join; one frame at least.
    pub ease: Ticks,
    /// How far controllers that cannot be cut exactly may be from their source.
    pub tolerance: Tolerance,
}

/// Why a take cannot be placed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PlaceError {
    /// Nothing to place onto.
    #[error("the target has no take to place onto: leave out --place")]
    NoTake,
    /// Several to choose from.
    #[error("the target has several takes: name one of {0} with --target-take")]
    Several(String),
    /// No such take.
    #[error("the target has no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoSuchTake {
        /// The name.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// The layer is there.
    #[error("the take '{take}' has a layer '{layer}' already: give another name")]
    LayerExists {
        /// The take.
        take: String,
        /// The layer.
        layer: String,
    },
    /// A controller that cannot be joined to another.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
}

/// Puts a take onto one of a scene's takes. Also says in the ledger's notes what that did.
///
/// # Errors
/// See [`PlaceError`].
pub fn place(scene: &Scene, new: &Take, options: &PlaceOptions) -> Result<(Scene, Ledger), PlaceError> {
    let index = find(scene, options.onto.as_deref())?;
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    let frame = scene.rate.ticks_per_frame().round() as i64;
    let job = Job {
        scene,
        addresses: Addresses::new(scene),
        range: new.range,
        ease: Ticks(options.ease.0.max(frame)),
        tolerance: options.tolerance,
    };
    let mut take = scene.takes[index].clone();
    let ripple = options.placement == Placement::Ripple;
    if ripple {
        let by = Ticks((new.range.last - new.range.first).0 + frame);
        take = job.opened(&take, new.range.first, by)?;
        let count = (by.as_f64() / frame as f64).round();
        ledger.notes.push(format!("later keys of '{}' move by {count} frames to make room", take.name));
    }
    if let Placement::Layer(name) = &options.placement {
        job.as_layers(&mut take, new, name)?;
        ledger.notes.push(format!("on a new layer '{name}' of '{}'", take.name));
    } else {
        job.merge(&mut take, new, options.placement == Placement::Unkeyed, &mut ledger)?;
    }
    take.range = take.range.union(new.range);
    for clip in &new.clips {
        let taken = take.clips.iter().any(|own| own.name == clip.name);
        let name = if taken { format!("{} {}", new.name, clip.name) } else { clip.name.clone() };
        take.clips.push(Clip { name, ..clip.clone() });
    }
    take.clips.sort_by_key(|clip| clip.range.first);
    take.markers.extend(new.markers.iter().cloned());
    take.markers.sort_by_key(|marker| marker.time);
    result.takes[index] = take;
    Ok((result, ledger))
}

fn find(scene: &Scene, wanted: Option<&str>) -> Result<usize, PlaceError> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    match (wanted, scene.takes.len()) {
        (_, 0) => Err(PlaceError::NoTake),
        (None, 1) => Ok(0),
        (None, _) => Err(PlaceError::Several(names().collect::<Vec<_>>().join(", "))),
        (Some(name), _) => names().position(|own| own == name).ok_or_else(|| PlaceError::NoSuchTake {
            name: name.to_owned(),
            similar: similar(name, names()).map(str::to_owned),
        }),
    }
}

struct Job<'a> {
    scene: &'a Scene,
    addresses: Addresses,
    range: TimeRange,
    ease: Ticks,
    tolerance: Tolerance,
}

impl Job<'_> {
    fn merge(&self, take: &mut Take, new: &Take, fill: bool, ledger: &mut Ledger) -> Result<(), PlaceError> {
        let has_keys: HashSet<Target> = take.tracks().map(|(_, track)| track.target.clone()).collect();
        let mut left: Vec<String> = Vec::new();
        let mut met: HashSet<(usize, Target)> = HashSet::new();
        let layers = take.layers.len();
        for (index, layer) in new.layers.iter().enumerate() {
            // The base goes onto the base; other layers onto those of the same name and kind.
            let alike = |own: &Layer| {
                own.name == layer.name
                    && (own.mode, own.rotations, &own.weight) == (layer.mode, layer.rotations, &layer.weight)
            };
            let place = if index == 0 { Some(0) } else { take.layers.iter().position(alike) };
            let place = place.filter(|&place| place < take.layers.len()).unwrap_or_else(|| {
                let mut added = Layer {
                    tracks: Vec::new(),
                    name: layer.name.clone(),
                    weight: layer.weight.clone(),
                    ..*layer
                };
                added.weight = self.windowed(&layer.weight, take.range);
                take.layers.push(added);
                take.layers.len() - 1
            });
            for track in &layer.tracks {
                if fill && has_keys.contains(&track.target) {
                    left.push(self.addresses.property(&track.target));
                    continue;
                }
                met.insert((place, track.target.clone()));
                let of_take = take.range;
                let own = take.layers[place].tracks.iter().position(|own| own.target == track.target);
                let old = own.map(|at| &take.layers[place].tracks[at].controller);
                let controller = self.joined(take, place, track, old, of_take)?;
                let made = Track { target: track.target.clone(), controller };
                match own {
                    Some(at) => take.layers[place].tracks[at] = made,
                    None => take.layers[place].tracks.push(made),
                }
            }
        }
        self.silence(&mut take.layers[..layers], take.range, &met, ledger)?;
        if !left.is_empty() {
            ledger.notes.push(format!("had keys and stay as they are: {}", left.join(", ")));
        }
        Ok(())
    }

    /// Lets what other layers do to the channels of the new take come to nothing in its range.
    fn silence(
        &self,
        layers: &mut [Layer],
        of: TimeRange,
        met: &HashSet<(usize, Target)>,
        ledger: &mut Ledger,
    ) -> Result<(), PlaceError> {
        let moved: HashSet<&Target> = met.iter().map(|(_, target)| target).collect();
        let mut silent: Vec<String> = Vec::new();
        for (index, layer) in layers.iter_mut().enumerate().filter(|(_, layer)| !layer.muted) {
            let alone = Take {
                name: String::new(),
                folder: None,
                range: of,
                layers: vec![Layer { tracks: Vec::new(), ..layer.clone() }],
                clips: Vec::new(),
                markers: Vec::new(),
            };
            if self.is_silent(&layer.weight) {
                continue;
            }
            let is_left = |track: &Track| {
                moved.contains(&track.target) && !met.contains(&(index, track.target.clone()))
            };
            // A layer that has nothing else to do there comes to nothing as a whole.
            if index > 0 && !layer.tracks.is_empty() && layer.tracks.iter().all(is_left) {
                layer.weight = self.without(&layer.weight, of);
                silent.push(format!("all of '{}'", layer.name));
                continue;
            }
            for track in &mut layer.tracks {
                if !is_left(track) {
                    continue;
                }
                let channel = self.addresses.property(&track.target);
                let cannot = |why: &str| PlaceError::Cannot { channel: channel.clone(), why: why.to_owned() };
                if index > 0 && layer.mode == LayerMode::Override {
                    return Err(cannot(&format!(
                        "layer '{}' would replace it there: place it onto a layer, or flatten first",
                        layer.name
                    )));
                }
                let (kind, rest) = property(self.scene, &alone, 0, track)
                    .ok_or_else(|| cannot("the rig has no such property"))?;
                let quiet = quiet(&track.controller, kind, &rest, self.range)
                    .ok_or_else(|| cannot("what it does cannot be left out of a range: flatten first"))?;
                let quiet = Track { target: track.target.clone(), controller: quiet };
                track.controller = self.joined(&alone, 0, &quiet, Some(&track.controller), of)?;
                silent.push(format!("{channel} on '{}'", layer.name));
            }
        }
        if !silent.is_empty() {
            ledger.notes.push(format!("come to nothing there, for the new take: {}", silent.join(", ")));
        }
        Ok(())
    }

    /// Whether a weight is nothing all over the range.
    fn is_silent(&self, weight: &Weight) -> bool {
        match weight {
            Weight::Constant(value) => *value == 0.0,
            Weight::Curve(curve) => {
                let part = curve.trimmed(self.range).with_ends(self.range);
                part.keys().iter().all(|key| key.value == 0.0) && part.is_constant()
            }
        }
    }

    /// A weight that is nothing in the range and stays as it is outside.
    fn without(&self, weight: &Weight, of: TimeRange) -> Weight {
        let nothing = Curve::constant(self.range.first, 0.0);
        let (old, rest) = match weight {
            Weight::Constant(value) => (Curve::constant(of.first, *value), *value),
            Weight::Curve(curve) => (curve.clone(), 0.0),
        };
        Weight::Curve(self.joined_curve(&nothing, Some(&old), rest, of, false))
    }

    /// A weight that counts within the range only.
    fn windowed(&self, weight: &Weight, of: TimeRange) -> Weight {
        let (first, last) = (self.range.first, self.range.last);
        let inside = match weight {
            Weight::Constant(value) => {
                vec![
                    Key::new(first, *value).with_interpolation(Interpolation::Linear),
                    Key::new(last, *value),
                ]
            }
            Weight::Curve(curve) => curve.trimmed(self.range).into_keys(),
        };
        let mut keys: Vec<Key> = Vec::with_capacity(inside.len() + 2);
        let linear = |time: Ticks| Key::new(time, 0.0).with_interpolation(Interpolation::Linear);
        if of.first < first {
            keys.push(linear(first - self.ease));
        }
        keys.extend(inside);
        if of.last > last {
            if let Some(key) = keys.last_mut() {
                key.interpolation = Interpolation::Linear;
            }
            keys.push(linear(last + self.ease));
        }
        match (weight, keys.as_slice()) {
            (Weight::Constant(_), [a, b]) if a.value == b.value => weight.clone(),
            (_, _) => {
                keys.dedup_by_key(|key| key.time);
                Curve::new(keys).map_or_else(|_| weight.clone(), Weight::Curve)
            }
        }
    }

    fn as_layers(&self, take: &mut Take, new: &Take, name: &str) -> Result<(), PlaceError> {
        for (index, layer) in new.layers.iter().enumerate() {
            let name = if index == 0 { name.to_owned() } else { format!("{name} {}", layer.name) };
            if take.layers.iter().any(|own| own.name == name) {
                return Err(PlaceError::LayerExists { take: take.name.clone(), layer: name });
            }
            let weight = self.windowed(&layer.weight, take.range);
            let rotations = if index == 0 { RotationMixing::Quaternions } else { layer.rotations };
            take.layers.push(Layer { name, weight, rotations, tracks: layer.tracks.clone(), ..*layer });
        }
        Ok(())
    }

    /// The old controller outside the range, the new one inside.
    fn joined(
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
    fn joined_samples(&self, new: &Samples, old: &Samples, of: TimeRange) -> Option<Samples> {
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

    /// Keys of the old curve before and after the range, those of the new one within; angles come by whole turns nearest.
    fn joined_curve(
        &self,
        new: &Curve,
        old: Option<&Curve>,
        rest: f64,
        of: TimeRange,
        is_angle: bool,
    ) -> Curve {
        let old = old.filter(|old| !old.is_empty());
        if new.is_empty() && old.is_none() {
            return Curve::default();
        }
        let range = self.range;
        let inside = if new.is_empty() { Curve::constant(range.first, rest) } else { new.trimmed(range) };
        let inside = inside.with_ends(range);
        let at = |curve: Option<&Curve>, time: Ticks| {
            curve.and_then(|curve| curve.value_at(time.as_f64())).unwrap_or(rest)
        };
        let turns = |from: f64, to: f64| match is_angle {
            true => ((to - from) / std::f64::consts::TAU).round() * std::f64::consts::TAU,
            false => 0.0,
        };
        let before = of.first < range.first;
        let after = of.last > range.last;
        let start = inside.value_at(range.first.as_f64()).unwrap_or(rest);
        let shift = if before { turns(start, at(old, range.first)) } else { 0.0 };
        let inside = if shift == 0.0 { inside } else { inside.affine(1.0, shift) };
        let meets = |time: Ticks| {
            (at(old, time) - at(Some(&inside), time)).abs() < 1e-9 * (1.0 + at(old, time).abs())
                && old.is_some()
        };
        let mut keys: Vec<Key> = Vec::new();
        if before {
            let edge = if meets(range.first) { range.first } else { range.first - self.ease };
            let span = TimeRange::new(of.first.min(edge), edge);
            keys.extend(self.outside(old, span, rest, edge));
        }
        let mut own = inside.keys().to_vec();
        if let (Some(last), Some(first)) = (keys.last().copied(), own.first_mut())
            && last.time == first.time
        {
            (first.tangent_in, first.value_before) = (last.tangent_in, last.value_before);
            first.joined = false;
            keys.pop();
        } else if let Some(last) = keys.last_mut().filter(|last| last.interpolation != Interpolation::Cubic) {
            last.interpolation = Interpolation::Linear;
        } else if let (Some(last), Some(first)) = (keys.last_mut(), own.first_mut()) {
            ease_over(last, first);
        }
        keys.extend(own);
        if after {
            let back = turns(at(old, range.last), at(Some(&inside), range.last));
            let edge = if meets(range.last) { range.last } else { range.last + self.ease };
            let span = TimeRange::new(edge, of.last.max(edge));
            let mut later = self.outside(old, span, rest, edge);
            if back != 0.0 {
                for key in &mut later {
                    key.value += back;
                    key.value_before = key.value_before.map(|value| value + back);
                }
            }
            if let Some(last) = keys.last_mut() {
                if last.interpolation != Interpolation::Cubic {
                    last.interpolation = Interpolation::Linear;
                }
                match later.first_mut() {
                    Some(first) if first.time == last.time => {
                        last.tangent_out = first.tangent_out;
                        last.interpolation = first.interpolation;
                        last.joined = false;
                        later.remove(0);
                    }
                    Some(first) => ease_over(last, first),
                    None => {}
                }
            }
            keys.extend(later);
        }
        Curve::new(keys).map_or_else(
            |_| new.clone(),
            |curve| match old {
                Some(old) => curve.with_behaviours(
                    outside(if before { old.before } else { new.before }),
                    outside(if after { old.after } else { new.after }),
                ),
                None => curve,
            },
        )
    }

    /// The old curve on one side; its rest value where it has no keys.
    fn outside(&self, old: Option<&Curve>, span: TimeRange, rest: f64, edge: Ticks) -> Vec<Key> {
        match old {
            Some(old) => {
                let mut keys = old.trimmed(span).into_keys();
                // Other neighbours would make other automatic tangents.
                for key in &mut keys {
                    key.tangent_in.mode = TangentMode::Free;
                    key.tangent_out.mode = TangentMode::Free;
                }
                // A curve that ends before the edge, or begins behind it, is held up to it.
                if keys.iter().all(|key| key.time != edge) {
                    let value = old.value_at(edge.as_f64()).unwrap_or(rest);
                    let held = Key::new(edge, value).with_slope(0.0);
                    match keys.last_mut().filter(|last| last.time < edge) {
                        Some(last) => {
                            last.interpolation = Interpolation::Linear;
                            keys.push(held);
                        }
                        None => keys.insert(0, held.with_interpolation(Interpolation::Linear)),
                    }
                }
                keys
            }
            None => vec![Key::new(edge, rest).with_slope(0.0)],
        }
    }

    fn joined_discrete(
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
    fn opened(&self, take: &Take, at: Ticks, by: Ticks) -> Result<Take, PlaceError> {
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

    fn opened_controller(
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
                let shifted = super::retime::shifted(&alone, by);
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

/// What leaves a property as it is without the controller, over a range and in the controller's own order.
fn quiet(controller: &Controller, kind: PropertyKind, rest: &Value, range: TimeRange) -> Option<Controller> {
    let numbers = match (kind, controller.order()) {
        (PropertyKind::Rotation, Some(order)) => {
            nimble_curve_curves::rotation::principal_euler(order, rest.rotation()?.normalize())
                .to_array()
                .to_vec()
        }
        _ => rest.numbers()?,
    };
    let curves: Vec<Curve> = numbers.into_iter().map(|value| Curve::constant(range.first, value)).collect();
    match (kind, controller.order()) {
        (PropertyKind::Discrete, _) => None,
        (PropertyKind::Rotation, Some(order)) => {
            let curves = <[Curve; 3]>::try_from(curves).ok()?;
            Some(Controller::Euler(EulerCurves { order, curves }))
        }
        (PropertyKind::Rotation, None) => None,
        _ => Some(Controller::Components(curves)),
    }
}

/// Between two keys that did not follow each other before: their slopes stay, but handles that were made for other gaps would
/// leave all of the way to a part of this one.
fn ease_over(from: &mut Key, to: &mut Key) {
    for tangent in [&mut from.tangent_out, &mut to.tangent_in] {
        let slope = tangent.slope_per_second();
        if tangent.length().is_some() && slope.is_finite() {
            *tangent = Tangent { shape: TangentShape::Slope(slope), ..*tangent };
        }
    }
}

/// What lies outside the keys of a curve that was put together: a loop would repeat all of it.
fn outside(behaviour: Behaviour) -> Behaviour {
    if behaviour.is_loop() { Behaviour::Held } else { behaviour }
}

/// Whether something goes on moving outside its keys.
fn loops(controller: &Controller) -> bool {
    controller.curves().iter().any(|curve| !curve.is_empty() && !curve.is_held_outside())
}

fn is_whole(number: f64) -> bool {
    (number - number.round()).abs() < 1e-6
}

/// A curve with a gap opened in it, its value held across; loops are written out as far as the take reaches.
fn opened_curve(curve: &Curve, of: TimeRange, at: Ticks, by: Ticks) -> Curve {
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
    let mut keys = curve.trimmed(TimeRange::new(range.first, at)).into_keys();
    let later = curve.trimmed(TimeRange::new(at, range.last)).shifted(by).into_keys();
    if let Some(last) = keys.last_mut() {
        last.interpolation = Interpolation::Hold;
    }
    keys.extend(later);
    Curve::new(keys).map_or_else(|_| curve.clone(), |made| made.with_behaviours(curve.before, curve.after))
}
