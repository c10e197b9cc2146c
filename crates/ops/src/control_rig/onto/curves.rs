//! From what a control has to do at each instant to its keys.

use std::cell::RefCell;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Key, Tangent};
use nimble_curve_curves::rotation::{RotationOrder, angle_between, nearest_euler, nearest_turn, to_vector};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{PropertyKind, Target};

use super::instant::{At, Instant};
use super::options::MatchKeys;
use crate::conversion::{
    ConversionContext, ConvertedController, NotConvertible, refitted_numbers, refitted_rotation,
};
use crate::fitting::Fitting;
use crate::sampled_function::SampledFunction;

/// No bound: keys stand where they are asked for, and nowhere else.
const ANY: f64 = 1e9;

/// So many times the tolerance off between frames, and a turn gets keys between frames.
const FAST: f64 = 1.5;

/// What of a stage is keyed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    Place,
    Turn,
    Twist,
}

/// How keys are found.
pub struct Setting<'a> {
    pub keys: MatchKeys,
    pub rate: FrameRate,
    /// Samples a frame that bounded keys are fitted to.
    pub fine: u32,
    /// Whether keys may stand on any of them; else they stand on frames.
    pub between_frames: bool,
    pub range: TimeRange,
    /// When what is matched has keys.
    pub times: &'a [Ticks],
    /// How far curves may be from what is wanted, in place and in turn.
    pub tolerance: [f64; 2],
    /// The part of that which is left at each sample.
    pub room: &'a [f64],
}

impl Setting<'_> {
    /// The rate of samples.
    pub fn samples(&self) -> FrameRate {
        let fine = self.rate.numerator().checked_mul(self.fine);
        fine.and_then(|fine| FrameRate::new(fine, self.rate.denominator())).unwrap_or(self.rate)
    }

    /// The instants of samples that cover the range, from a whole frame to another.
    pub fn grid(&self) -> Vec<Ticks> {
        let (first, last) =
            (self.rate.frame(self.range.first).floor(), self.rate.frame(self.range.last).ceil());
        let (rate, fine) = (self.samples(), i64::from(self.fine));
        (first as i64 * fine..=last as i64 * fine).map(|sample| rate.ticks(sample)).collect()
    }

    /// The part of the tolerance that is left at all samples.
    pub fn least(&self) -> f64 {
        self.room.iter().copied().fold(1.0, f64::min)
    }

    /// Keys stand on every so many samples.
    fn stride(&self) -> usize {
        if self.between_frames { 1 } else { self.fine as usize }
    }
}

/// A property with what it rests at.
pub struct Channel {
    pub part: Part,
    pub target: Target,
    pub rest: Value,
    /// The angles from which a rotation's follow; those at rest where nothing is said.
    pub near: Option<DVec3>,
}

impl Channel {
    fn kind(&self) -> PropertyKind {
        match self.part {
            Part::Place => PropertyKind::Vector(Quantity::Length),
            Part::Turn => PropertyKind::Rotation,
            Part::Twist => PropertyKind::Number(Quantity::Angle),
        }
    }

    fn value(&self, at: &At) -> Value {
        match self.part {
            Part::Place => Value::Vector(at.place),
            Part::Turn => Value::Quaternion(at.turn),
            Part::Twist => Value::Number(at.twist),
        }
    }

    fn order(&self) -> RotationOrder {
        self.rest.order().unwrap_or(RotationOrder::Xyz)
    }
}

/// The parts of a transform by their names.
pub fn property_of(part: Part) -> &'static str {
    if part == Part::Place { TRANSLATION } else { ROTATION }
}

/// Curves for the channels of one control, all of which have the same key times where they are fitted.
pub fn curves(
    instant: &RefCell<Instant<'_>>,
    channels: &[Channel],
    setting: &Setting<'_>,
) -> Result<Vec<ConvertedController>, NotConvertible> {
    let grid = setting.grid();
    let all: Vec<At> = grid.iter().map(|time| instant.borrow_mut().at(time.as_f64())).collect();
    let jumps = setting.times.iter().any(|time| leaps(instant, *time));
    let mut made: Vec<Option<ConvertedController>> = Vec::with_capacity(channels.len());
    for channel in channels {
        let between = || setting.times.iter().map(|time| instant.borrow_mut().at(time.as_f64()));
        let still = is_still(channel, all.iter().copied().chain(between()));
        made.push(still.then(|| constant(channel, &all[0])));
    }
    let moving: Vec<&Channel> =
        channels.iter().zip(&made).filter(|(_, made)| made.is_none()).map(|(channel, _)| channel).collect();
    let found = match setting.keys {
        MatchKeys::Bounded if !jumps => fitted(instant, &moving, &grid, &all, setting),
        _ => None,
    };
    let found: Vec<ConvertedController> = match found {
        Some(found) => found
            .into_iter()
            .zip(&moving)
            .map(|(made, channel)| {
                // Close to the pole of its order a turn's angles go too fast for keys on frames.
                let limit = FAST * setting.tolerance[1];
                let is_fast =
                    channel.part == Part::Turn && made.error.is_some_and(|error| error.largest > limit);
                if is_fast { traced(instant, channel, (&grid, &all), setting) } else { Ok(made) }
            })
            .collect::<Result<_, _>>()?,
        None => (moving.iter())
            .map(|channel| traced(instant, channel, (&grid, &all), setting))
            .collect::<Result<_, _>>()?,
    };
    let mut found = found.into_iter();
    // One for each that moves.
    Ok(made.into_iter().filter_map(|made| made.or_else(|| found.next())).collect())
}

/// Samples, a frame apart or closer, that say exactly what is wanted there.
pub fn samples(instant: &RefCell<Instant<'_>>, channel: &Channel, setting: &Setting<'_>) -> Controller {
    let (grid, rate) = (setting.grid(), setting.samples());
    let all: Vec<At> = grid.iter().map(|time| instant.borrow_mut().at(time.as_f64())).collect();
    Controller::Samples(of_samples(channel, &all, grid[0], rate))
}

fn of_samples(channel: &Channel, all: &[At], start: Ticks, rate: FrameRate) -> Samples {
    let (kind, values) = match channel.part {
        Part::Place => (SampleKind::Vector, all.iter().flat_map(|at| at.place.to_array()).collect()),
        Part::Turn => match channel.rest {
            Value::Euler { order, angles } => {
                let mut last = channel.near.unwrap_or(angles);
                let follow = |at: &At| {
                    last = nearest_euler(order, at.turn, last);
                    last.to_array()
                };
                (SampleKind::Euler(order), all.iter().flat_map(follow).collect())
            }
            _ => (SampleKind::Quaternion, all.iter().flat_map(|at| at.turn.to_array()).collect()),
        },
        Part::Twist => (SampleKind::Number, unwound(all)),
    };
    Samples { start, rate, kind, values }
}

/// Twists, each nearest to the one before.
fn unwound(all: &[At]) -> Vec<f64> {
    let mut last = 0.0;
    let follow = |at: &At| {
        last = nearest_turn(at.twist, last);
        last
    };
    all.iter().map(follow).collect()
}

/// Whether what is wanted has another value just before an instant than at it.
fn leaps(instant: &RefCell<Instant<'_>>, time: Ticks) -> bool {
    let at = |time: f64| instant.borrow_mut().at(time);
    let [before, here, after] = [-1.0, 0.0, 1.0].map(|step| at(time.as_f64() + step));
    let far = |a: &At, b: &At| {
        (a.place - b.place).length() > 1e-6 * (1.0 + a.place.length())
            || angle_between(a.turn, b.turn) > 1e-6
            || (nearest_turn(a.twist, b.twist) - b.twist).abs() > 1e-6
    };
    // A tick is a hundred-millionth of a second or so: nothing moves so fast.
    far(&before, &here) && !far(&here, &after)
}

fn is_still(channel: &Channel, mut all: impl Iterator<Item = At>) -> bool {
    let Some(first) = all.next() else { return true };
    all.all(|at| match channel.part {
        Part::Place => (at.place - first.place).length() <= 1e-10 * (1.0 + first.place.length()),
        Part::Turn => angle_between(at.turn, first.turn) <= 1e-10,
        Part::Twist => (nearest_turn(at.twist, first.twist) - first.twist).abs() <= 1e-10,
    })
}

/// A property that does not move.
fn constant(channel: &Channel, at: &At) -> ConvertedController {
    let value = match (&channel.rest, channel.value(at)) {
        (Value::Euler { order, angles }, Value::Quaternion(turn)) => Value::Euler {
            order: *order,
            angles: nearest_euler(*order, turn, channel.near.unwrap_or(*angles)),
        },
        (_, value) => value,
    };
    ConvertedController { controller: Controller::Constant(value), fate: Fate::Exact, error: None }
}

/// Keys at given times and no others, or, bounded, more where they are needed: through the wanted function with its own slopes.
fn traced(
    instant: &RefCell<Instant<'_>>,
    channel: &Channel,
    (grid, all): (&[Ticks], &[At]),
    setting: &Setting<'_>,
) -> Result<ConvertedController, NotConvertible> {
    let same = setting.keys == MatchKeys::Same;
    let kind = channel.kind();
    let own = setting.tolerance[usize::from(kind.quantity() == Quantity::Angle)];
    let context = ConversionContext {
        kind,
        rest: channel.rest.clone(),
        tolerance: if same { ANY } else { own * setting.least() },
        rate: setting.rate,
        range: setting.range,
    };
    let path = unwound(all);
    let trace = SampledFunction::of_function(|time| {
        let at = instant.borrow_mut().at(time);
        match channel.part {
            Part::Twist => {
                let near = grid.partition_point(|own| own.as_f64() < time).min(path.len() - 1);
                Value::Number(nearest_turn(at.twist, path[near]))
            }
            _ => channel.value(&at),
        }
    });
    if channel.part == Part::Turn {
        let start = match channel.rest {
            Value::Euler { order, angles } => {
                nearest_euler(order, all[0].turn, channel.near.unwrap_or(angles))
            }
            _ => DVec3::ZERO,
        };
        return Ok(refitted_rotation(&trace, &trace.knots(setting.times), start, &context));
    }
    refitted_numbers(&trace, setting.times, &context, None)
}

/// The fewest keys that all channels can have together, on frames, on which those at given times are.
fn fitted(
    instant: &RefCell<Instant<'_>>,
    channels: &[&Channel],
    grid: &[Ticks],
    all: &[At],
    setting: &Setting<'_>,
) -> Option<Vec<ConvertedController>> {
    if channels.is_empty() {
        return Some(Vec::new());
    }
    let samples: Vec<Samples> =
        (channels.iter()).map(|channel| of_samples(channel, all, grid[0], setting.samples())).collect();
    // Quaternion keys have no other tangents before than after.
    let in_pieces = !samples.iter().any(|samples| samples.kind == SampleKind::Quaternion);
    let mut ends = vec![0];
    if in_pieces {
        ends.extend(bends(instant, channels, grid, setting));
    }
    ends.push(grid.len() - 1);
    ends.dedup();
    let mut pieces: Vec<Vec<(Ticks, Controller)>> = vec![Vec::new(); channels.len()];
    for piece in ends.windows(2) {
        let (from, to) = (piece[0], piece[1]);
        let mut tracks = Vec::with_capacity(channels.len());
        for (channel, samples) in channels.iter().zip(&samples) {
            let own = setting.tolerance[usize::from(channel.kind().quantity() == Quantity::Angle)];
            let width = samples.kind.width();
            let values = samples.values[from * width..(to + 1) * width].to_vec();
            let part = Samples { start: grid[from], values, ..samples.clone() };
            let mut track = Fitting::new(&part, channel.kind(), channel.order(), None, own)?;
            if part.kind == SampleKind::Quaternion {
                track = track.by_components();
            }
            if setting.room.iter().any(|room| *room < 1.0) {
                track.confine(setting.room[from..=to].iter().map(|room| room * own).collect());
            }
            tracks.push(track.every(setting.stride()));
        }
        let made = Fitting::shared(&tracks.iter().collect::<Vec<_>>(), setting.times);
        for (pieces, fitted) in pieces.iter_mut().zip(made) {
            pieces.push((grid[to], fitted.controller));
        }
    }
    let mut done = Vec::with_capacity(channels.len());
    for (channel, pieces) in channels.iter().zip(pieces) {
        let controller = joined(pieces)?;
        let error = off_between(instant, channel, &controller, grid)?;
        done.push(ConvertedController { controller, fate: Fate::Refitted, error: Some(error) });
    }
    Some(done)
}

/// So much of the tolerance that a rate changes by in a frame at a key, and the tangents at both sides of it are not one.
const KINK: f64 = 0.5;

/// The samples at which what is wanted takes another direction at once: of the given times that are on samples that keys may stand
/// on.
fn bends(
    instant: &RefCell<Instant<'_>>,
    channels: &[&Channel],
    grid: &[Ticks],
    setting: &Setting<'_>,
) -> Vec<usize> {
    let at = |time: f64| instant.borrow_mut().at(time);
    // A hundredth of a frame tells a direction.
    let step = setting.rate.ticks_per_frame() / 100.0;
    let mut found = Vec::new();
    for time in setting.times {
        let Ok(index) = grid.binary_search(time) else { continue };
        if index % setting.stride() != 0 || index == 0 || index + 1 == grid.len() {
            continue;
        }
        // Far more than what bends it all along.
        let around: [At; 7] = std::array::from_fn(|index| at(time.as_f64() + (index as f64 - 3.0) * step));
        let is_kink = |channel: &&Channel| {
            let own = setting.tolerance[usize::from(channel.kind().quantity() == Quantity::Angle)];
            let bend = |middle: usize| change(channel.part, &around[middle - 1..=middle + 1]);
            (bend(3) - bend(1).max(bend(5))) * 100.0 > KINK * own
        };
        if channels.iter().any(is_kink) {
            found.push(index);
        }
    }
    found
}

/// By how much the way from one instant to the next is another one than that before it.
fn change(part: Part, of: &[At]) -> f64 {
    let [before, here, after] = of else { return 0.0 };
    let turned = |a: DQuat, b: DQuat| to_vector(b * a.conjugate());
    match part {
        Part::Place => ((after.place - here.place) - (here.place - before.place)).length(),
        Part::Turn => (turned(here.turn, after.turn) - turned(before.turn, here.turn)).length(),
        Part::Twist => {
            let way = |a: f64, b: f64| nearest_turn(b, a) - a;
            (way(here.twist, after.twist) - way(before.twist, here.twist)).abs()
        }
    }
}

/// Curves of pieces as one: each piece ends, at the time beside it, where the next one begins.
fn joined(pieces: Vec<(Ticks, Controller)>) -> Option<Controller> {
    let mut orders = None;
    let mut all: Vec<Vec<Key>> = Vec::new();
    let is_one = pieces.len() == 1;
    for (end, controller) in pieces {
        let curves = match controller {
            other if is_one => return Some(other),
            Controller::Euler(euler) => {
                orders = Some(euler.order);
                euler.curves.to_vec()
            }
            Controller::Components(curves) => curves,
            _ => return None,
        };
        all.resize(curves.len(), Vec::new());
        for (keys, curve) in all.iter_mut().zip(curves) {
            let mut own = curve.into_keys();
            // What does not move in a piece has one key there.
            if let [only] = own[..] {
                own.push(Key { time: end, tangent_in: Tangent::FLAT, ..only.with_slope(0.0) });
            }
            if let (Some(last), Some(first)) = (keys.pop(), own.first_mut()) {
                let (a, b) = (last.tangent_in.slope_per_second(), first.tangent_out.slope_per_second());
                first.tangent_in = last.tangent_in;
                first.joined = (a - b).abs() <= 1e-9 * (1.0 + a.abs());
                first.fitted = false;
            }
            keys.extend(own);
        }
    }
    let curves = all.into_iter().map(Curve::new).collect::<Result<Vec<_>, _>>().ok()?;
    Some(match orders {
        Some(order) => Controller::Euler(EulerCurves { order, curves: <[Curve; 3]>::try_from(curves).ok()? }),
        None => Controller::Components(curves),
    })
}

/// How far curves are from what is wanted, at samples and halfway between.
fn off_between(
    instant: &RefCell<Instant<'_>>,
    channel: &Channel,
    controller: &Controller,
    grid: &[Ticks],
) -> Option<MeasuredError> {
    let kind = channel.kind();
    let mut sampler =
        nimble_curve_scene::evaluate::Sampler::new(controller, kind, channel.rest.clone()).ok()?;
    let mut error = MeasuredError::none(kind.quantity());
    for pair in grid.windows(2) {
        for half in 0..2 {
            let time = pair[0].as_f64() + (pair[1] - pair[0]).as_f64() * 0.5 * f64::from(half);
            let at = instant.borrow_mut().at(time);
            let distance = match (sampler.value_at(time), channel.part) {
                (Value::Vector(v), _) => (v - at.place).length(),
                (Value::Number(n), _) => (nearest_turn(at.twist, n) - n).abs(),
                (value, _) => angle_between(value.rotation().unwrap_or(DQuat::IDENTITY), at.turn),
            };
            error.take(distance, time);
        }
    }
    Some(error)
}

/// Whether a curve's keys are all at given times.
pub fn stands_at(curves: &[Curve], times: &[Ticks]) -> bool {
    curves.iter().flat_map(|curve| curve.keys()).all(|key| times.binary_search(&key.time).is_ok())
}
