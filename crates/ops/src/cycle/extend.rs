//! A loop written out round after round.

use glam::DVec3;
use nimble_curve_curves::curve::{Behaviour, Curve};
use nimble_curve_curves::rotation::{KeyedRotation, Knot, SegmentKind, angle_between, to_quaternion_keys};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, Samples, Weight,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{Layer, LayerMode, Scene, Take, Target, Track};

use super::find::TURNS;
use super::ways::Turning;
use super::{CycleError, CycleOptions, RootMotionChannels, chosen};
use crate::channel::{count, property};
use crate::conversion::ConversionContext;
use crate::mixing::curves_that_mix;
use crate::travel::travel;
use crate::upright::stands_still;

/// Writes a loop out: the range, `times` over. What carries the body along goes on from where it ended, its way turned by
/// what each round turns; all else starts over.
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
/// use nimble_curve_ops::cycle::{CycleOptions, extend};
/// use nimble_curve_ops::Tolerance;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
///
/// // Three rounds, each going on where the one before it ended.
/// let (long, _) = extend(&scene(walk), 3, &options)?;
/// let Controller::Components(curves) = &long.takes[0].layers[0].tracks[0].controller else { panic!() };
/// assert!((at(&curves[2], 72) - 3.0 * 1.4).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`CycleError`].
pub fn extend(scene: &Scene, times: u32, options: &CycleOptions) -> Result<(Scene, Ledger), CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let period = range.last - range.first;
    let whole = TimeRange::new(range.first, Ticks(range.first.0 + period.0 * i64::from(times.max(1))));
    let going = RootMotionChannels::of(scene, take)?;
    let addresses = Addresses::new(scene);
    let mut made = Take { range: whole, clips: Vec::new(), ..take.clone() };
    made.markers = (0..i64::from(times.max(1)))
        .flat_map(|round| {
            let inside =
                take.markers.iter().filter(|marker| range.first <= marker.time && marker.time < range.last);
            inside.map(move |marker| nimble_curve_scene::scene::Marker {
                time: Ticks(marker.time.0 + period.0 * round),
                name: marker.name.clone(),
            })
        })
        .collect();
    let mut ledger = Ledger::default();
    for (at, layer) in take.layers.iter().enumerate() {
        if let Weight::Curve(curve) = &layer.weight {
            let cannot = |why| CycleError::Cannot { channel: format!("the weight of '{}'", layer.name), why };
            let weight = rounds(curve, range, whole, Behaviour::Loop).map_err(cannot)?;
            made.layers[at].weight = Weight::Curve(weight);
        }
        for (place, track) in layer.tracks.iter().enumerate() {
            let channel = addresses.property(&track.target);
            let cannot = |why: String| CycleError::Cannot { channel: channel.clone(), why };
            let Some((kind, rest)) = property(scene, take, at, track) else { continue };
            let tolerance = options.tolerance.of(kind.quantity(), &scene.space);
            let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range };
            let round = Round { range, whole, going: &going, target: &track.target, take, layer: at };
            let (controller, fate) = round.extended(&track.controller, &setting).map_err(cannot)?;
            let own = &mut made.layers[at].tracks[place];
            own.controller = controller;
            ledger.entries.push(Entry {
                take: take.name.clone(),
                layer: layer.name.clone(),
                channel,
                to: None,
                target: Some(track.target.clone()),
                fate,
                error: None,
                before: count(track),
                after: count(own),
                note: String::new(),
            });
        }
    }
    turn_rounds((scene, take), range, times, &going, &mut made)?;
    let mut result = scene.clone();
    result.takes[index] = made;
    Ok((result, ledger))
}

/// Turns that are apart by less than this, in radians, are one: rounding and no more.
const MEET: f64 = 1e-9;

/// A curve over some rounds of a range. It ends with the last frame of the range, not with the beginning of a round more.
fn rounds(curve: &Curve, range: TimeRange, whole: TimeRange, after: Behaviour) -> Result<Curve, String> {
    if curve.is_empty() || curve.is_constant() {
        return Ok(curve.clone());
    }
    // A key at both ends, so that the round is as long as the range.
    let round = curve.trimmed(range).with_ends(range);
    let made = round.clone().with_behaviours(Behaviour::Held, after).written_out(whole).trimmed(whole);
    let mut keys = made.into_keys();
    if let ([begin, .., end], Some(last)) = (round.keys(), keys.last_mut()) {
        let climb = if after == Behaviour::LoopOffset { end.value - begin.value } else { 0.0 };
        let more = (whole.last - range.last).as_f64() / (range.last - range.first).as_f64();
        last.value = end.value + climb * more;
        last.value_before = end.value_before.map(|value| value + climb * more);
    }
    Curve::new(keys).map_err(|error| error.to_string())
}

/// One round of a loop that is written out.
pub(super) struct Round<'a> {
    pub(super) range: TimeRange,
    pub(super) whole: TimeRange,
    pub(super) going: &'a RootMotionChannels,
    pub(super) target: &'a Target,
    pub(super) take: &'a Take,
    pub(super) layer: usize,
}

impl Round<'_> {
    pub(super) fn extended(
        &self,
        controller: &Controller,
        setting: &ConversionContext,
    ) -> Result<(Controller, Fate), String> {
        let goes = |component| self.going.goes(self.target, controller, component);
        let looped = |component: usize, curve: &Curve| {
            let after = if goes(component) { Behaviour::LoopOffset } else { Behaviour::Loop };
            rounds(curve, self.range, self.whole, after)
        };
        Ok(match controller {
            Controller::Constant(_) => (controller.clone(), Fate::Kept),
            Controller::Components(curves) => {
                let all = curves.iter().enumerate().map(|(component, curve)| looped(component, curve));
                (Controller::Components(all.collect::<Result<_, _>>()?), Fate::Exact)
            }
            Controller::Euler(euler) => {
                let [x, y, z] = &euler.curves;
                let curves = [looped(0, x)?, looped(1, y)?, looped(2, z)?];
                (Controller::Euler(EulerCurves { order: euler.order, curves }), Fate::Exact)
            }
            Controller::Samples(samples) if self.is_whole(samples) => {
                (Controller::Samples(self.samples(samples, goes, setting)), Fate::Exact)
            }
            Controller::Discrete(curve) => {
                let mut keys = Vec::new();
                let period = (self.range.last - self.range.first).0;
                let start = curve.value_at(self.range.first.as_f64()).cloned();
                for round in 0.. {
                    let by = Ticks(period * round);
                    if self.range.first + by >= self.whole.last {
                        break;
                    }
                    keys.extend(start.clone().map(|value| (self.range.first + by, value)));
                    let inside = |time: &Ticks| self.range.first < *time && *time < self.range.last;
                    keys.extend(
                        curve.keys().iter().filter(|(t, _)| inside(t)).map(|(t, v)| (*t + by, v.clone())),
                    );
                }
                // What is chosen on the last frame of the range is on the last frame of all rounds, and there alone.
                let end = curve.keys().iter().find(|(time, _)| *time == self.range.last);
                keys.extend(end.map(|(_, value)| (self.whole.last, value.clone())));
                let made = nimble_curve_curves::curve::DiscreteCurve::new(keys)
                    .map_err(|error| error.to_string())?;
                (Controller::Discrete(made), Fate::Exact)
            }
            Controller::Quaternion(curve) => match self.own_keys(curve) {
                Some(keys) => (Controller::Quaternion(self.turned(&keys)), Fate::Exact),
                None => (Controller::Quaternion(self.turning(curve, setting)), Fate::Refitted),
            },
            other => {
                let changed = curves_that_mix(self.take, self.layer, self.target, other, setting)
                    .map_err(|why| why.to_string())?;
                if let Controller::Quaternion(curve) = &changed.controller {
                    return Ok((Controller::Quaternion(self.turning(curve, setting)), Fate::Refitted));
                }
                let (made, fate) = self.extended(&changed.controller, setting)?;
                (made, fate.max(changed.fate))
            }
        })
    }

    /// The keys of one round of turns as wholes that are so as they are: with one at both ends, and none whose shape comes from others.
    fn own_keys(&self, curve: &QuaternionCurve) -> Option<Vec<QuaternionKey>> {
        let keys: Vec<QuaternionKey> =
            curve.keys.iter().filter(|key| self.range.contains(key.time)).copied().collect();
        let is_round = keys.first()?.time == self.range.first && keys.last()?.time == self.range.last;
        let is_squad = |key: &QuaternionKey| key.interpolation == QuaternionInterpolation::Squad;
        (is_round && !keys.iter().any(is_squad)).then_some(keys)
    }

    /// One round of turns as wholes, fitted anew, and the others after it.
    pub(super) fn turning(&self, curve: &QuaternionCurve, setting: &ConversionContext) -> QuaternionCurve {
        let path = KeyedRotation::new(curve);
        let mut knots = path.knots(Some(self.range));
        knots.retain(|knot| self.range.contains(knot.time));
        for edge in [self.range.first, self.range.last] {
            if !knots.iter().any(|knot| knot.time == edge) {
                knots.push(Knot { time: edge, leaving: SegmentKind::Moving });
            }
        }
        knots.sort_by_key(|knot| knot.time);
        let mut round = to_quaternion_keys(&path, &knots, setting.tolerance, setting.rate).curve;
        // What it holds before its first key is no part of the round.
        round.keys.retain(|key| self.range.contains(key.time));
        self.turned(&round.keys)
    }

    /// The rounds of turns as wholes: where the end of one is not the beginning of the next, it stands until a tick before that.
    fn turned(&self, round: &[QuaternionKey]) -> QuaternionCurve {
        let period = self.range.last - self.range.first;
        let mut keys: Vec<QuaternionKey> = Vec::new();
        let mut by = Ticks::ZERO;
        while self.range.first + by < self.whole.last {
            let mut own = round.iter().map(|key| QuaternionKey { time: key.time + by, ..*key });
            if let Some(mut end) = keys.pop()
                && let Some(begin) = own.next()
            {
                if angle_between(end.value, begin.value) < MEET {
                    // One turn, though a round may have come to its other sign.
                    let tangent_in = end.tangent_in * end.value.dot(begin.value).signum();
                    keys.push(QuaternionKey { tangent_in, ..begin });
                } else {
                    end.time = end.time - Ticks(1);
                    end.interpolation = QuaternionInterpolation::Step;
                    if keys.last().is_none_or(|before| before.time < end.time) {
                        keys.push(end);
                    }
                    keys.push(begin);
                }
            }
            keys.extend(own);
            by = by + period;
        }
        QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held }
    }

    /// Whether a round is a whole number of steps, so that the samples of each stand where those of the first do.
    fn is_whole(&self, samples: &Samples) -> bool {
        let steps = (self.range.last - self.range.first).as_f64() / samples.rate.ticks_per_frame();
        (steps - steps.round()).abs() < 1e-3
    }

    /// The samples of all rounds, at the instants at which the samples stand.
    pub(super) fn samples(
        &self,
        samples: &Samples,
        goes: impl Fn(usize) -> bool,
        setting: &ConversionContext,
    ) -> Samples {
        let source = Controller::Samples(samples.clone());
        let Ok(mut sampler) = Sampler::new(&source, setting.kind, setting.rest.clone()) else {
            return samples.clone();
        };
        let mut at = |time: f64| sampler.value_at(time).numbers().unwrap_or_default();
        let (first, period) = (self.range.first.as_f64(), (self.range.last - self.range.first).as_f64());
        let (start, end) = (at(first), at(first + period));
        let climb: Vec<f64> =
            start.iter().zip(&end).enumerate().map(|(c, (a, b))| if goes(c) { b - a } else { 0.0 }).collect();
        let place = |time: Ticks| (time - samples.start).as_f64() / samples.rate.ticks_per_frame();
        let (from, to) = (place(self.range.first).round() as i64, place(self.whole.last).round() as i64);
        let last_round = ((self.whole.last - self.whole.first).as_f64() / period).round() - 1.0;
        let mut values = Vec::with_capacity((to - from + 1) as usize * samples.kind.width());
        for index in from..=to {
            let time = (samples.start + samples.rate.ticks(index)).as_f64();
            // Sample times are rounded to ticks.
            let round = ((time - first + 1.0) / period).floor().clamp(0.0, last_round);
            let row = at(time - round * period);
            values.extend(row.iter().zip(&climb).map(|(value, climb)| value + climb * round));
        }
        Samples { start: samples.start + samples.rate.ticks(from), values, ..samples.clone() }
    }
}

/// Turns the way of each round after the first by what the rounds before it turned; says why where that cannot be exact.
pub(super) fn turn_rounds(
    (scene, take): (&Scene, &Take),
    range: TimeRange,
    times: u32,
    going: &RootMotionChannels,
    made: &mut Take,
) -> Result<(), CycleError> {
    let net = travel(scene, take, range)?;
    let addresses = Addresses::new(scene);
    let fallen = made.tracks().map(|(_, track)| track).find(|track| {
        let own = going.of_channel(&track.target).filter(|_| track.target.property == TRANSLATION);
        own.is_some_and(|own| own.way.is_none()) && !stands_still(&track.controller)
    });
    if let Some(track) = fallen.filter(|_| net.distance > 0.0 && times > 1) {
        return Err(CycleError::Cannot {
            channel: addresses.property(&track.target),
            why: "it stands turned so that none of its axes is upright, and what goes on from round to round cannot be told".into(),
        });
    }
    if net.turn.abs() < TURNS || times < 2 {
        return Ok(());
    }
    // What turns along is what the written rounds add up, not what is left between two poses whose ends do not meet.
    let turn: f64 = made.layers.iter().map(|layer| risen(layer, going, range)).sum();
    let degrees = net.turn.to_degrees();
    for (at, layer) in made.layers.iter_mut().enumerate() {
        for track in &mut layer.tracks {
            let Some(own) = going.of_channel(&track.target) else { continue };
            let cannot = |why: &str| CycleError::Cannot {
                channel: addresses.property(&track.target),
                why: format!("each round turns by {degrees:.2} deg, and {why}"),
            };
            match track.target.property.as_str() {
                ROTATION if !layer.muted && !stands_still(&track.controller) => {
                    let acts_last =
                        own.turn.is_some_and(|up| going.goes(&track.target, &track.controller, up.axis));
                    let why = "the turn does not act last here: root lift, or reorder, first";
                    acts_last.then_some(()).ok_or_else(|| cannot(why))?;
                    if !adds_up(at, layer.mode, &layer.weight) {
                        return Err(cannot(IN_PART));
                    }
                }
                TRANSLATION if turn != 0.0 && !layer.muted && !stands_still(&track.controller) => {
                    if !adds_up(at, layer.mode, &layer.weight) {
                        return Err(cannot(IN_PART));
                    }
                    let Some(up) = own.way else { continue };
                    let turning = Turning { up: up.axis, turn: turn * up.sign, range, rounds: times };
                    match &mut track.controller {
                        Controller::Components(curves) => {
                            let rest =
                                scene.rigs[track.target.rig].rest_value(track.target.node, TRANSLATION);
                            let rest = match rest {
                                Some(Value::Vector(rest)) if at == 0 => rest,
                                _ => DVec3::ZERO,
                            };
                            turning
                                .curves(curves, rest)
                                .ok_or_else(|| cannot("weighted handles cannot be turned along exactly"))?;
                        }
                        Controller::Samples(samples) => turning.samples(samples),
                        _ => return Err(cannot("only samples and curves can be turned along: unbake first")),
                    }
                }
                _ => {}
            }
        }
    }
    Ok(())
}

/// Why rounds that turn cannot be put together.
const IN_PART: &str =
    "layers that count in part, or replace each other, cannot be turned along: flatten first";

/// Whether what a layer does is one of the summands of what all do, throughout.
fn adds_up(at: usize, mode: LayerMode, weight: &Weight) -> bool {
    (at == 0 || mode == LayerMode::Additive) && weight.constant().is_some()
}

/// By how much a layer's own channels of the carriers have turned about the up axis where the first of some written rounds ends.
fn risen(layer: &Layer, going: &RootMotionChannels, range: TimeRange) -> f64 {
    let of = |track: &Track| {
        let up = going.of_channel(&track.target)?.turn.filter(|_| track.target.property == ROTATION)?;
        let at = |time: Ticks| match &track.controller {
            Controller::Euler(euler) => euler.curves[up.axis].value_at(time.as_f64()),
            Controller::Samples(samples) => {
                let (index, part) = samples.locate(time.as_f64());
                let angle = |index: usize| samples.row(index.min(samples.len() - 1))[up.axis];
                Some(angle(index) + part * (angle(index + 1) - angle(index)))
            }
            _ => None,
        };
        Some((at(range.last)? - at(range.first)?) * up.sign)
    };
    let weight = if layer.muted { 0.0 } else { layer.weight.constant().unwrap_or(0.0) };
    weight * layer.tracks.iter().filter_map(of).sum::<f64>()
}
