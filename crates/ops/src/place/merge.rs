//! Keys of two takes on one, where a take is placed between keys that stay.

use std::collections::HashSet;

use nimble_curve_curves::curve::{Curve, DiscreteCurve};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Target, Track};

use super::{Job, PlaceError};
use crate::channel::property;
use crate::conversion::{ControllerType, ConversionContext, convert_controller};

impl Job<'_> {
    /// The keys of a new track among those that are there.
    pub(super) fn merged(
        &self,
        take: &Take,
        layer: usize,
        track: &Track,
        old: &Track,
    ) -> Result<Controller, PlaceError> {
        let cannot = |why: &str| self.cannot(&track.target, why);
        let (kind, rest) =
            property(self.scene, take, layer, track).ok_or_else(|| cannot("the rig has no such property"))?;
        let numbers = rest.numbers().unwrap_or_default();
        let context = ConversionContext {
            kind,
            rest,
            tolerance: self.tolerance.of(kind.quantity(), &self.scene.space),
            rate: self.scene.rate,
            range: take.range.union(self.range),
        };
        let curves = |controller: &Controller, whose: &str| match controller {
            Controller::Samples(_) => Err(cannot(&format!(
                "{whose} samples are no keys that could stand among others: unbake it first"
            ))),
            Controller::Discrete(_) => Ok(controller.clone()),
            _ => convert_controller(controller, ControllerType::Curves, &context)
                .map(|converted| {
                    // Angles of another order have keys together, as each of them is made of all.
                    let is_other = controller.order() != converted.controller.order();
                    let times = if is_other { times_of(controller) } else { common_times(controller) };
                    with_keys(converted.controller, &times)
                })
                .map_err(|error| cannot(&error.to_string())),
        };
        let is_angle = kind == PropertyKind::Rotation;
        let (keyed, there) = (times_of(&track.controller), times_of(&old.controller));
        let merge = |axis: usize, new: &Curve, old: &Curve| -> Result<Curve, PlaceError> {
            Ok(match old.is_empty() {
                true if new.is_empty() => Curve::default(),
                true => {
                    let rest = numbers.get(axis).copied().unwrap_or(0.0);
                    self.joined_curve(new, None, rest, take.range, is_angle)
                }
                // A key that only the conversion needs gives way to one that is there.
                false => {
                    let gives_way = |time: Ticks| !keyed.contains(&time) && there.contains(&time);
                    let stays = new.keys().iter().filter(|key| !gives_way(key.time)).copied().collect();
                    let new = Curve::new(stays).map_err(|error| cannot(&error.to_string()))?;
                    old.merged(&new, take.range, is_angle)
                }
            })
        };
        Ok(match (curves(&track.controller, "the new take's")?, curves(&old.controller, "the target's")?) {
            (Controller::Discrete(new), Controller::Discrete(old)) => {
                let taken: HashSet<Ticks> = new.keys().iter().map(|(time, _)| *time).collect();
                let stay = old.keys().iter().filter(|(time, _)| !taken.contains(time));
                let mut keys: Vec<_> = new.keys().iter().chain(stay).cloned().collect();
                keys.sort_by_key(|(time, _)| *time);
                let merged = DiscreteCurve::new(keys).map_err(|error| cannot(&error.to_string()))?;
                Controller::Discrete(merged)
            }
            (Controller::Euler(new), Controller::Euler(old)) if new.order == old.order => {
                let new = self.nearer_solution(new, &old);
                let merged = |axis: usize| merge(axis, &new.curves[axis], &old.curves[axis]);
                let curves = [merged(0)?, merged(1)?, merged(2)?];
                Controller::Euler(EulerCurves { order: new.order, curves })
            }
            (Controller::Components(new), Controller::Components(old)) if new.len() == old.len() => {
                let pairs = new.iter().zip(&old).enumerate();
                let merged = pairs.map(|(axis, (new, old))| merge(axis, new, old));
                Controller::Components(merged.collect::<Result<_, _>>()?)
            }
            _ => return Err(cannot("its keys are of another kind than those that are there")),
        })
    }

    /// How many times of keys within the range stay.
    pub(super) fn staying(&self, new: &Controller, old: &Controller) -> usize {
        let new = times_of(new);
        times_of(old).iter().filter(|time| self.range.contains(**time) && !new.contains(time)).count()
    }

    /// Refuses what a layer beside the one at `place` moves too: keys of a sum cannot stay.
    pub(super) fn alone_on(&self, take: &Take, place: usize, target: &Target) -> Result<(), PlaceError> {
        let elsewhere = (take.layers.iter().enumerate())
            .filter(|(index, layer)| *index != place && !layer.muted)
            .find(|(_, layer)| layer.tracks.iter().any(|own| own.target == *target));
        elsewhere.map_or(Ok(()), |(_, layer)| {
            let name = &layer.name;
            Err(self.cannot(
                target,
                &format!("layer '{name}' moves it too, and keys of a sum cannot stay: flatten first"),
            ))
        })
    }

    /// Of the two ways to say the same turns in an order the one whose angles are nearer to those that are there at both ends of the
    /// range, as what lies between keys of the one and of the other goes from angle to angle.
    pub(super) fn nearer_solution(&self, new: EulerCurves, old: &EulerCurves) -> EulerCurves {
        use std::f64::consts::{PI, TAU};
        // An angle without keys rests, and cannot be another.
        if new.curves.iter().any(Curve::is_empty) {
            return new;
        }
        let (_, middle, _) = new.order.axes();
        let turned = |axis: usize| new.curves[axis].affine(if axis == middle { -1.0 } else { 1.0 }, PI);
        let other = EulerCurves { order: new.order, curves: std::array::from_fn(turned) };
        let away = |turned: &EulerCurves| -> f64 {
            let at = |time: Ticks| {
                (turned.curves.iter().zip(&old.curves)).filter_map(move |(new, old)| {
                    let off = new.value_at(time.as_f64())? - old.value_at(time.as_f64())?;
                    Some((off - (off / TAU).round() * TAU).abs())
                })
            };
            at(self.range.first).chain(at(self.range.last)).sum()
        };
        if away(&other) < away(&new) - 1e-9 { other } else { new }
    }
}

/// A scene with those keys alone of what is moved that stand where all curves of their track have one, and that `stays`; also the
/// targets without such keys. What lies between the keys says nothing.
pub(super) fn at_common_keys(
    scene: &Scene,
    take: usize,
    moved: &HashSet<&Target>,
    stays: impl Fn(&Target, Ticks) -> bool,
) -> (Scene, Vec<Target>) {
    let (mut scene, mut without) = (scene.clone(), Vec::new());
    for layer in &mut scene.takes[take].layers {
        for track in layer.tracks.iter_mut().filter(|track| moved.contains(&track.target)) {
            let mut times = common_times(&track.controller);
            times.retain(|time| stays(&track.target, *time));
            match at_times(&track.controller, &times) {
                Some(controller) => track.controller = controller,
                None => without.push(track.target.clone()),
            }
        }
    }
    (scene, without)
}

/// When all curves of a controller have a key; never for what has no keys of its own, nor where a component has none.
fn common_times(controller: &Controller) -> HashSet<Ticks> {
    match controller {
        Controller::Discrete(curve) => curve.keys().iter().map(|(time, _)| *time).collect(),
        Controller::Quaternion(curve) => curve.keys.iter().map(|key| key.time).collect(),
        _ => {
            let times = |curve: &Curve| curve.keys().iter().map(|key| key.time).collect::<HashSet<_>>();
            controller.curves().iter().map(times).reduce(|common, own| &common & &own).unwrap_or_default()
        }
    }
}

/// A controller with its keys at some times alone.
fn at_times(controller: &Controller, times: &HashSet<Ticks>) -> Option<Controller> {
    if times.is_empty() {
        return None;
    }
    let kept = |curve: &Curve| {
        let keys = curve.keys().iter().filter(|key| times.contains(&key.time)).copied();
        Curve::new(keys.collect()).ok()
    };
    match controller {
        Controller::Components(curves) => {
            curves.iter().map(kept).collect::<Option<_>>().map(Controller::Components)
        }
        Controller::Euler(euler) => {
            let [a, b, c] = euler.curves.each_ref().map(kept);
            Some(Controller::Euler(EulerCurves { order: euler.order, curves: [a?, b?, c?] }))
        }
        Controller::Quaternion(curve) => {
            let mut curve = curve.clone();
            curve.keys.retain(|key| times.contains(&key.time));
            Some(Controller::Quaternion(curve))
        }
        Controller::Discrete(curve) => {
            let keys = curve.keys().iter().filter(|(time, _)| times.contains(time)).cloned();
            DiscreteCurve::new(keys.collect()).ok().map(Controller::Discrete)
        }
        _ => None,
    }
}

/// A controller whose curves all have keys at some times, as those that are whole values had.
fn with_keys(mut controller: Controller, times: &HashSet<Ticks>) -> Controller {
    let curves = match &mut controller {
        Controller::Components(curves) => curves.as_mut_slice(),
        Controller::Euler(euler) => &mut euler.curves,
        _ => &mut [],
    };
    let (Some(first), Some(last)) = (times.iter().min(), times.iter().max()) else { return controller };
    for curve in curves.iter_mut().filter(|curve| !curve.is_empty()) {
        if curve.is_held_outside() {
            // Beyond its own keys none can be put into it.
            *curve = curve.with_ends(TimeRange::new(*first, *last));
        }
        for time in times {
            curve.ensure_key(*time);
        }
    }
    controller
}

/// When a controller has a key in any of its curves.
pub(super) fn times_of(controller: &Controller) -> HashSet<Ticks> {
    let times = controller.range().map(|range| controller.key_times(range));
    times.unwrap_or_default().into_iter().collect()
}

/// How far a take stays as it was before and behind the keys that come among its own: to the last of its keys before them, and from
/// the first behind.
pub(super) fn kept_to(own: &Take, new: &Take, moved: &HashSet<&Target>, ease: Ticks) -> (Ticks, Ticks) {
    let (mut to, mut from) = (new.range.first - ease, new.range.last + ease);
    for (_, track) in new.tracks().filter(|(_, track)| moved.contains(&track.target)) {
        let Some(range) = track.controller.range() else { continue };
        let theirs = own.tracks().filter(|(_, own)| own.target == track.target);
        for keys in theirs.flat_map(|(_, own)| lists_of_keys(&own.controller)) {
            let before = keys.iter().copied().rfind(|time| *time < range.first);
            let behind = keys.iter().copied().find(|time| *time > range.last);
            to = to.min(before.unwrap_or(own.range.first - Ticks(1)));
            from = from.max(behind.unwrap_or(own.range.last + Ticks(1)));
        }
    }
    (to, from)
}

/// When each curve of a controller has keys.
fn lists_of_keys(controller: &Controller) -> Vec<Vec<Ticks>> {
    let of = |curve: &Curve| curve.keys().iter().map(|key| key.time).collect::<Vec<_>>();
    match controller {
        Controller::Components(_) | Controller::Euler(_) => {
            controller.curves().iter().filter(|curve| !curve.is_empty()).map(of).collect()
        }
        // One key, or none, stays from end to end of a take.
        Controller::Constant(_) => vec![Vec::new()],
        _ => {
            let all = controller.range().map(|range| controller.key_times(range)).unwrap_or_default();
            vec![all]
        }
    }
}
