//! A part of a scene: some takes, some channels, a range of time with its edges kept by inserted keys.

use glam::DVec4;
use nimble_curve_curves::curve::{Behaviour, Curve, DiscreteCurve, Side};
use nimble_curve_curves::rotation::{KeyedRotation, RotationPath, to_quaternion_keys};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::{Addresses, matches};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionInterpolation, QuaternionKey, Samples,
    StackEntry, Weight,
};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{Scene, Track};
use nimble_curve_scene::similar::similar;
use thiserror::Error;

use super::channel::{Tolerance, count, each_track, property};
use super::conversion::{
    ControllerType, ConversionContext, ConvertedController, NotConvertible, convert_controller,
};

/// What to keep.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// Names of takes or patterns with `*`; all where there are none.
    pub takes: Vec<String>,
    /// Patterns of channels, `NODE:ATTRIBUTE`, or of nodes; all where there are none.
    pub only: Vec<String>,
    /// The range, both ends included; all of it where there is none.
    pub range: Option<TimeRange>,
    /// How far cut controllers may be from their source where they cannot be cut exactly.
    pub tolerance: Tolerance,
}

/// A selection that selects nothing.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SelectError {
    /// No take of that name.
    #[error("there is no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoTake {
        /// The name or pattern.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// No channel that matches.
    #[error("no animated channel matches '{0}'{hint}", hint = .1.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoChannel(String, Option<String>),
    /// The range lies outside all takes.
    #[error("the range lies outside every take")]
    OutsideRange,
}

/// Keeps what is selected, and says of everything else that it was left out.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::select::{Selection, select};
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let range = Some(TimeRange::new(rate.ticks(6), rate.ticks(18)));
/// let selection = Selection { only: vec!["hips:translation".into()], range, ..Selection::default() };
///
/// let (part, _) = select(&scene(walk), &selection)?;
/// let Controller::Components(curves) = &part.takes[0].layers[0].tracks[0].controller else { panic!() };
/// // A key at each edge, and those between.
/// let frames: Vec<f64> = curves[0].keys().iter().map(|key| rate.frame(key.time)).collect();
/// assert_eq!(frames, [6.0, 12.0, 18.0]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`SelectError`].
pub fn select(scene: &Scene, selection: &Selection) -> Result<(Scene, Ledger), SelectError> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    for wanted in &selection.takes {
        if !names().any(|name| matches(wanted, name)) {
            let similar = similar(wanted, names()).map(str::to_owned);
            return Err(SelectError::NoTake { name: wanted.clone(), similar });
        }
    }
    let addresses = Addresses::new(scene);
    let channel = |track: &Track| addresses.property(&track.target);
    let is_meant = |pattern: &String, track: &Track| {
        matches(pattern, &channel(track))
            || matches(pattern, addresses.node((track.target.rig, track.target.node)))
    };
    for pattern in &selection.only {
        let mut tracks = scene.takes.iter().flat_map(|take| take.tracks());
        if !tracks.any(|(_, track)| is_meant(pattern, track)) {
            let addresses = Addresses::new(scene);
            let channels: Vec<String> = (scene.takes.iter().flat_map(|take| take.tracks()))
                .map(|(_, track)| addresses.property(&track.target))
                .collect();
            let near =
                nimble_curve_scene::similar::similar_address(pattern, channels.iter().map(String::as_str));
            return Err(SelectError::NoChannel(pattern.clone(), near));
        }
    }
    let chosen =
        |name: &str| selection.takes.is_empty() || selection.takes.iter().any(|take| matches(take, name));
    let part = Scene {
        takes: scene.takes.iter().filter(|take| chosen(&take.name)).cloned().collect(),
        ..scene.clone()
    };
    let overlap = |range: TimeRange, of: TimeRange| range.first <= of.last && of.first <= range.last;
    if let Some(range) = selection.range
        && !part
            .takes
            .iter()
            .any(|take| overlap(range, take.key_range().map_or(take.range, |keys| keys.union(take.range))))
    {
        return Err(SelectError::OutsideRange);
    }
    let (mut result, mut ledger) = each_track(&part, &addresses, |books, layer, track| {
        let kept = books.kept(layer, track);
        if !selection.only.is_empty() && !selection.only.iter().any(|only| is_meant(only, track)) {
            return (None, Some(Entry { fate: Fate::NotSelected, after: 0, ..kept }));
        }
        let Some(range) = selection.range else { return (Some(track.clone()), Some(kept)) };
        let Some((kind, rest)) = property(&part, books.take, layer, track) else {
            return (Some(track.clone()), Some(kept));
        };
        let tolerance = selection.tolerance.of(kind.quantity(), &scene.space);
        let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range };
        match trimmed(&track.controller, &setting) {
            Ok(changed) => {
                let new = Track { target: track.target.clone(), controller: changed.controller };
                let error = changed.error.map(|error| error.in_frames(scene.rate));
                let entry = books.changed(layer, track, changed.fate, count(&new), error, "");
                (Some(new), Some(entry))
            }
            Err(why) => (None, Some(Entry { fate: Fate::LeftOut, after: 0, note: why.to_string(), ..kept })),
        }
    });
    for take in scene.takes.iter().filter(|take| !chosen(&take.name)) {
        ledger.notes.push(format!("take '{}' was not selected", take.name));
    }
    if let Some(range) = selection.range {
        for take in &mut result.takes {
            take.range = range;
            take.clips.retain(|clip| overlap(range, clip.range));
            for clip in &mut take.clips {
                clip.range =
                    TimeRange::new(clip.range.first.max(range.first), clip.range.last.min(range.last));
            }
            take.markers.retain(|marker| range.contains(marker.time));
            for layer in &mut take.layers {
                layer.weight = trimmed_weight(&layer.weight, range);
            }
        }
    }
    Ok((result, ledger))
}

fn trimmed_weight(weight: &Weight, range: TimeRange) -> Weight {
    match weight {
        Weight::Constant(_) => weight.clone(),
        Weight::Curve(curve) => Weight::Curve(curve.trimmed(range)),
    }
}

/// A controller within the range of its setting: exactly where it is made of curves, samples, holds or great arcs, else
/// within the tolerance.
fn trimmed(
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    let range = setting.range;
    let cut = |controller: Controller| ConvertedController { controller, fate: Fate::Exact, error: None };
    let lies_inside =
        controller.range().is_none_or(|own| range.contains(own.first) && range.contains(own.last));
    match controller {
        Controller::Constant(_) => Ok(ConvertedController { fate: Fate::Kept, ..cut(controller.clone()) }),
        Controller::Components(curves) => {
            Ok(cut(Controller::Components(curves.iter().map(|curve| part_of(curve, range)).collect())))
        }
        Controller::Euler(euler) => {
            let curves = std::array::from_fn(|axis| part_of(&euler.curves[axis], range));
            Ok(cut(Controller::Euler(EulerCurves { order: euler.order, curves })))
        }
        Controller::Samples(samples) => Ok(cut(Controller::Samples(trimmed_samples(samples, range)))),
        Controller::Discrete(curve) => {
            let first = curve.value_at(range.first.as_f64()).map(|value| (range.first, value.clone()));
            let inside = curve.keys().iter().filter(|(time, _)| range.first < *time && *time <= range.last);
            let keys = first.into_iter().chain(inside.cloned()).collect();
            Ok(cut(Controller::Discrete(DiscreteCurve::new(keys).unwrap_or_default())))
        }
        Controller::Quaternion(curve) => Ok(trimmed_rotation(curve, setting)),
        Controller::Stack(entries) => {
            let mut parts = Vec::with_capacity(entries.len());
            let mut fate = Fate::Exact;
            for entry in entries {
                let changed = trimmed(&entry.controller, setting)?;
                fate = fate.max(changed.fate);
                let weight = trimmed_weight(&entry.weight, range);
                parts.push(StackEntry { weight, controller: changed.controller, name: entry.name.clone() });
            }
            Ok(ConvertedController { fate, ..cut(Controller::Stack(parts)) })
        }
        Controller::Procedural(procedural) => {
            let sampled = match &procedural.sampled {
                Some(sampled) => Some(Box::new(trimmed(sampled, setting)?.controller)),
                None => None,
            };
            Ok(cut(Controller::Procedural(Procedural { sampled, ..procedural.clone() })))
        }
        Controller::Tcb(_) if lies_inside => {
            Ok(ConvertedController { fate: Fate::Kept, ..cut(controller.clone()) })
        }
        Controller::Tcb(_) => {
            // As turns, which is how they mix with other layers.
            let changed = convert_controller(controller, ControllerType::Quaternion, setting)?;
            let part = trimmed(&changed.controller, setting)?;
            Ok(ConvertedController {
                controller: part.controller,
                fate: changed.fate.max(Fate::Exact),
                ..changed
            })
        }
    }
}

fn part_of(curve: &Curve, range: TimeRange) -> Curve {
    if curve.is_empty() { Curve::default() } else { curve.trimmed(range) }
}

fn trimmed_samples(samples: &Samples, range: TimeRange) -> Samples {
    let width = samples.kind.width();
    let inside: Vec<usize> =
        (0..samples.len()).filter(|&index| range.contains(samples.time(index))).collect();
    // Where the range lies between two samples or beyond them all, the nearest one stands for it.
    let (first, last, start) = match (inside.first(), inside.last()) {
        (Some(&first), Some(&last)) => (first, last, samples.time(first)),
        _ => {
            let (index, part) = samples.locate(range.first.as_f64());
            let nearest = if part > 0.5 { index + 1 } else { index };
            // It stands inside, at a step of the samples where there is one.
            let step = samples.rate.ticks_per_frame();
            let steps = ((range.first - samples.start).as_f64() / step).ceil() as i64;
            let inside = samples.start + samples.rate.ticks(steps);
            (nearest, nearest, if range.contains(inside) { inside } else { range.first })
        }
    };
    let values = samples.values[first * width..(last + 1) * width].to_vec();
    Samples { start, values, ..samples.clone() }
}

fn trimmed_rotation(curve: &QuaternionCurve, setting: &ConversionContext) -> ConvertedController {
    let range = setting.range;
    let path = KeyedRotation::new(curve);
    let inside: Vec<QuaternionKey> =
        curve.keys.iter().filter(|key| range.contains(key.time)).copied().collect();
    let own = path.range();
    let cuts = |edge: Ticks| own.is_some_and(|own| own.first < edge && edge < own.last);
    let crosses = |edge: Ticks| cuts(edge) && !curve.keys.iter().any(|key| key.time == edge);
    let piece = |edge: Ticks| &curve.keys[curve.keys.partition_point(|key| key.time <= edge) - 1];
    // Cubics of quaternions are cut in length, too, which keys of length 1 cannot tell.
    let bends = |edge: Ticks| {
        let smooth = [QuaternionInterpolation::Squad, QuaternionInterpolation::Cubic];
        crosses(edge) && smooth.contains(&piece(edge).interpolation)
    };
    // Squads look beyond the keys at their ends, so that any key that goes changes them.
    let loses_squads = inside.len() < curve.keys.len()
        && inside.iter().any(|key| key.interpolation == QuaternionInterpolation::Squad);
    if path.moves_outside() || loses_squads || bends(range.first) || bends(range.last) {
        let mut knots = path.knots(Some(range));
        knots.retain(|knot| range.contains(knot.time));
        for edge in [range.first, range.last] {
            if !knots.iter().any(|knot| knot.time == edge) {
                knots.push(nimble_curve_curves::rotation::Knot {
                    time: edge,
                    leaving: nimble_curve_curves::rotation::SegmentKind::Moving,
                });
            }
        }
        knots.sort_by_key(|knot| knot.time);
        let made = to_quaternion_keys(&path, &knots, setting.tolerance, setting.rate);
        let controller = Controller::Quaternion(made.curve);
        return ConvertedController { controller, fate: Fate::Refitted, error: Some(made.error) };
    }
    let mut keys = Vec::with_capacity(inside.len() + 2);
    if crosses(range.first) {
        keys.push(cut_key(curve, &path, range.first));
    }
    keys.extend(inside);
    if crosses(range.last) {
        keys.push(cut_key(curve, &path, range.last));
    }
    if keys.is_empty() && !curve.keys.is_empty() {
        let value = path.rotation(range.first.as_f64(), Side::Right);
        keys.push(QuaternionKey { time: range.first, value, ..curve.keys[0] });
    }
    let curve = QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held };
    ConvertedController { controller: Controller::Quaternion(curve), fate: Fate::Exact, error: None }
}

/// A key on a hold or an arc between two keys, which changes nothing on either side.
fn cut_key(curve: &QuaternionCurve, path: &KeyedRotation, time: Ticks) -> QuaternionKey {
    let from = &curve.keys[curve.keys.partition_point(|key| key.time <= time) - 1];
    let value = path.rotation(time.as_f64(), Side::Right);
    QuaternionKey { time, value, tangent_in: DVec4::ZERO, tangent_out: DVec4::ZERO, ..*from }
}
