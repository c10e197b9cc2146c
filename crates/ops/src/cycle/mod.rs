//! Cycles: which ranges loop, ends made to meet, and loops written out.

mod claim;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation, Key, Side, Tangent, TangentMode, combine};
use nimble_curve_curves::rotation::{
    KeyedRotation, Knot, SegmentKind, angle_between, nearest_turn, quat_from_euler, to_quaternion_keys,
};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, SampleKind, Samples, Weight,
};
use nimble_curve_scene::evaluate::{EvaluateError, Pose, Sampler};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::scene::{Scene, Take, Target};
use rayon::prelude::*;
use thiserror::Error;

use super::channel::{Tolerance, count, property};
use super::conversion::{ConversionContext, NotConvertible};
use super::mixing::curves_that_mix;
use super::travel::{Body, Ends, Travel, busiest_rig, carrying, travel};

pub use claim::{Closed, closed, extended};

/// The most instants of a take that are compared with each other.
const LOOKS: usize = 240;
/// Rounds that turn by less than this, in radians, go straight on.
const TURNS: f64 = 1e-4;
/// Two ranges that share this part of their frames are the same proposal.
const SAME: f64 = 0.6;
/// In a loop some node turns by more than this, in radians.
const GOES: f64 = 0.05;
/// Loops are no shorter than this, in seconds.
const SHORTEST: f64 = 0.3;

/// A range that may loop.
#[derive(Clone, Debug, PartialEq)]
pub struct Candidate {
    /// What it is: a take, a clip, or `None` for a range inside a take.
    pub name: Option<String>,
    /// The take.
    pub take: String,
    /// The range; its last frame is its first one again.
    pub range: TimeRange,
    /// Where it goes, and how its ends meet.
    pub travel: Travel,
}

impl Candidate {
    /// How badly the loop would jump: degrees of the worst joint, and a tenth of a second of its change of speed.
    pub fn jump(&self) -> f64 {
        jump(&self.travel.ends)
    }
}

fn jump(ends: &Ends) -> f64 {
    (ends.angle + 0.1 * ends.speed).to_degrees()
}

/// The takes and clips of a scene as loops, and, in takes longer than a loop, the best places for one, at most `most` a
/// take; the best come first.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn find(scene: &Scene, most: usize) -> Result<Vec<Candidate>, EvaluateError> {
    let mut all = Vec::new();
    for take in &scene.takes {
        let whole = (take.name.clone(), take.range);
        let clips = take.clips.iter().map(|clip| (clip.name.clone(), clip.range));
        let named = std::iter::once(whole).chain(clips.filter(|(_, range)| *range != take.range));
        for (name, range) in named.filter(|(_, range)| range.first < range.last) {
            let travel = travel(scene, take, range)?;
            all.push(Candidate { name: Some(name), take: take.name.clone(), range, travel });
        }
        for range in inside(scene, take, most)? {
            let travel = travel(scene, take, range)?;
            all.push(Candidate { name: None, take: take.name.clone(), range, travel });
        }
    }
    all.retain(|candidate| candidate.travel.ends.reach > 20.0 * Ends::MEET);
    all.sort_by(|a, b| a.jump().total_cmp(&b.jump()).then_with(|| a.range.first.cmp(&b.range.first)));
    Ok(all)
}

/// The best ranges inside a take, apart from each other.
fn inside(scene: &Scene, take: &Take, most: usize) -> Result<Vec<TimeRange>, EvaluateError> {
    let rate = scene.rate;
    let (first, last) =
        (rate.frame(take.range.first).ceil() as i64, rate.frame(take.range.last).floor() as i64);
    let stride = ((last - first) as usize / LOOKS).max(1) as i64;
    let shortest = ((SHORTEST * rate.fps()) as i64).max(2);
    if most == 0 || last - first < shortest {
        return Ok(Vec::new());
    }
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let mut pose = Pose::default();
    let frames: Vec<i64> = (first..=last).step_by(stride as usize).collect();
    let instants: Vec<_> =
        frames.iter().map(|frame| body.at(rate.ticks(*frame).as_f64(), &mut pose)).collect();
    // How far poses are apart, and how far those a step on are: where both are small the motion comes again.
    let apart = |a: usize, b: usize| {
        let here = Body::apart(&instants[a], &instants[b]).0;
        let next = match (instants.get(a + 1), instants.get(b + 1)) {
            (Some(a), Some(b)) => Body::apart(a, b).0,
            _ => here,
        };
        here + 0.5 * next
    };
    let span = (shortest / stride).max(1) as usize;
    let mut pairs: Vec<(f64, usize, usize)> = (0..frames.len())
        .into_par_iter()
        .flat_map_iter(|a| (a + span..frames.len()).map(move |b| (a, b)))
        .map(|(a, b)| (apart(a, b), a, b))
        .collect();
    pairs.sort_by(|x, y| x.0.total_cmp(&y.0).then((x.2 - x.1).cmp(&(y.2 - y.1))).then(x.1.cmp(&y.1)));
    let mut found: Vec<(TimeRange, f64)> = Vec::new();
    let named: Vec<TimeRange> = take.clips.iter().map(|clip| clip.range).collect();
    // Another place, or another length: not much the same frames as one that was found.
    let is_known = |found: &[(TimeRange, f64)], first: Ticks, last: Ticks| {
        found.iter().map(|(own, _)| own).chain(&named).any(|own| {
            let common = (own.last.min(last) - own.first.max(first)).0.max(0) as f64;
            let all = (own.last.max(last) - own.first.min(first)).as_f64();
            common > SAME * all
        })
    };
    for (_, a, b) in pairs {
        let goes = |k: usize| Body::apart(&instants[a], &instants[k]).0 > GOES;
        if is_known(&found, rate.ticks(frames[a]), rate.ticks(frames[b])) || !(a..b).any(goes) {
            continue;
        }
        // To the frame, around where it was looked at.
        let mut best: Option<(TimeRange, f64)> = None;
        let around = if stride > 1 { stride } else { 0 };
        for from in (frames[a] - around).max(first)..=frames[a] + around {
            for to in frames[b] - around..=(frames[b] + around).min(last) {
                let range = TimeRange::new(rate.ticks(from), rate.ticks(to));
                if to - from < shortest {
                    continue;
                }
                let ends = body.ends(range, 1.0, 0.0);
                if best.is_none_or(|(_, least)| jump(&ends) < least) {
                    best = Some((range, jump(&ends)));
                }
            }
        }
        let Some((range, jump)) = best else { continue };
        if range != take.range {
            found.push((range, jump));
        }
        if found.len() >= 4 * most {
            break;
        }
    }
    found.sort_by(|a, b| a.1.total_cmp(&b.1));
    found.truncate(most);
    Ok(found.into_iter().map(|(range, _)| range).collect())
}

/// How to make ends meet, or a loop longer.
#[derive(Clone, Debug)]
pub struct CycleOptions {
    /// The take; the only one where left out.
    pub take: Option<String>,
    /// The range that loops; the take's where left out.
    pub range: Option<TimeRange>,
    /// How far controllers that have to change may be from their source.
    pub tolerance: Tolerance,
}

/// Loops that cannot be made.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CycleError {
    /// No take of that name.
    #[error("there is no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoTake {
        /// The name.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// Several to choose from, or none.
    #[error("name one take with --take: {0}")]
    WhichTake(String),
    /// A range of one frame.
    #[error("the range has no length: a loop needs two frames at least")]
    NoLength,
    /// A range outside the take.
    #[error("the range is not inside the take, which is {0}:{1}")]
    Outside(f64, f64),
    /// A controller that cannot loop.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// The take that is meant, and the range in it.
fn chosen(scene: &Scene, options: &CycleOptions) -> Result<(usize, TimeRange), CycleError> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    let index = match &options.take {
        Some(name) => names().position(|own| own == name).ok_or_else(|| CycleError::NoTake {
            name: name.clone(),
            similar: nimble_curve_scene::similar::similar(name, names()).map(str::to_owned),
        })?,
        None if scene.takes.len() == 1 => 0,
        None => return Err(CycleError::WhichTake(names().collect::<Vec<_>>().join(", "))),
    };
    let take = &scene.takes[index];
    let range = options.range.unwrap_or(take.range);
    if range.first >= range.last {
        return Err(CycleError::NoLength);
    }
    let all = take.key_range().map_or(take.range, |keys| keys.union(take.range));
    if !(all.contains(range.first) && all.contains(range.last)) {
        let frame = |time| scene.rate.frame(time);
        return Err(CycleError::Outside(frame(all.first), frame(all.last)));
    }
    Ok((index, range))
}

/// Which components of a track belong to where the body goes, and so do not come back to where they were: its places on the
/// ground and its turn about the up axis, on its carrier and what stands above it.
struct Going {
    up: usize,
    nodes: Vec<NodeRef>,
}

impl Going {
    fn of(scene: &Scene, take: &Take) -> Going {
        let nodes = carrying(scene, take);
        Going { up: scene.space.up.index(), nodes }
    }

    fn goes(&self, target: &Target, controller: &Controller, component: usize) -> bool {
        if !self.nodes.contains(&(target.rig, target.node)) {
            return false;
        }
        match target.property.as_str() {
            "translation" => component != self.up,
            "rotation" => component == self.up && controller.outermost_axis() == Some(self.up),
            _ => false,
        }
    }
}

/// Makes the ends of a range meet, in value and in slope: by a correction spread over its last `over`, or, with none, by the
/// last key alone. What carries the body along stays as it is. The ledger says how far each channel was moved.
///
/// # Errors
/// See [`CycleError`].
pub fn close(scene: &Scene, over: Ticks, options: &CycleOptions) -> Result<(Scene, Ledger), CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let over = Ticks(over.0.clamp(0, (range.last - range.first).0));
    let going = Going::of(scene, take);
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (at, layer) in take.layers.iter().enumerate() {
        for (place, track) in layer.tracks.iter().enumerate() {
            let Some((kind, rest)) = property(scene, take, at, track) else { continue };
            let channel = addresses.property(&track.target);
            let tolerance = options.tolerance.of(kind.quantity(), &scene.space);
            let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range: take.range };
            let mut made = track.controller.clone();
            if matches!(made, Controller::Tcb(_) | Controller::Stack(_) | Controller::Procedural(_)) {
                let cannot = |why: NotConvertible| CycleError::Cannot {
                    channel: channel.clone(),
                    why: why.to_string(),
                };
                made = curves_that_mix(take, at, &track.target, &made, &setting).map_err(cannot)?.controller;
            }
            let closer = Closer { range, written: take.range, over, going: &going, target: &track.target };
            let moved = closer.close(&mut made).filter(|moved| *moved > 0.0);
            let error = moved.map(|moved| {
                let mut error = MeasuredError::none(kind.quantity());
                error.take(moved, scene.rate.frame(range.last));
                error
            });
            let own = &mut result.takes[index].layers[at].tracks[place];
            if moved.is_some() {
                own.controller = made;
            }
            ledger.entries.push(Entry {
                take: take.name.clone(),
                layer: layer.name.clone(),
                channel,
                to: None,
                target: Some(track.target.clone()),
                // What was moved is not what it was, by as much as is said.
                fate: if moved.is_some() { Fate::Refitted } else { Fate::Kept },
                error,
                before: count(track),
                after: count(own),
                note: if moved.is_some() { "moved so that the ends meet".into() } else { String::new() },
            });
        }
    }
    Ok((result, ledger))
}

/// Closes the controllers of one track.
struct Closer<'a> {
    range: TimeRange,
    /// Where what moves outside its keys is written out.
    written: TimeRange,
    over: Ticks,
    going: &'a Going,
    target: &'a Target,
}

impl Closer<'_> {
    /// Makes the ends meet, and says how far anything was moved at most; `None` where nothing can be.
    fn close(&self, controller: &mut Controller) -> Option<f64> {
        let goes: Vec<bool> = (0..16).map(|c| self.going.goes(self.target, controller, c)).collect();
        let moved = match controller {
            Controller::Components(curves) => {
                let each = curves.iter_mut().enumerate().filter(|(component, _)| !goes[*component]);
                each.map(|(_, curve)| self.curve(curve, false)).fold(0.0, f64::max)
            }
            Controller::Euler(euler) => {
                let each = euler.curves.iter_mut().enumerate().filter(|(component, _)| !goes[*component]);
                each.map(|(_, curve)| self.curve(curve, true)).fold(0.0, f64::max)
            }
            Controller::Quaternion(curve) => self.quaternions(curve),
            Controller::Samples(samples) => self.samples(samples, &goes),
            _ => return None,
        };
        Some(moved)
    }

    fn curve(&self, curve: &mut Curve, is_angle: bool) -> f64 {
        if curve.is_empty() || curve.is_constant() {
            return 0.0;
        }
        let TimeRange { first, last } = self.range;
        let at = |curve: &Curve, time: Ticks, side| curve.value_on(time.as_f64(), side).unwrap_or(0.0);
        let slope = |curve: &Curve, time: Ticks, side| curve.slope_on(time.as_f64(), side).unwrap_or(0.0);
        // What loops over the range goes on as it loops then; all else that moves outside its keys stays as it was.
        let loops = curve.range() == Some(self.range) && curve.inner_loop().is_none();
        let (before, after) = match loops {
            true => (curve.before, curve.after),
            false => (Behaviour::Held, Behaviour::Held),
        };
        let whole = curve.range().map_or(self.range, |own| own.union(self.range)).union(self.written);
        let mut cut = if loops { curve.clone() } else { curve.written_out(whole) };
        let start = at(&cut, first, Side::Right);
        // A held value steps at the last key.
        let key_before = cut.keys().iter().rfind(|key| key.time < last);
        let is_held = key_before.is_some_and(|key| key.interpolation == Interpolation::Hold);
        let end = at(&cut, last, if is_held { Side::Right } else { Side::Left });
        // The same angle may be whole turns on.
        let wanted = if is_angle { nearest_turn(start, end) } else { start };
        let (step, tilt) = (wanted - end, slope(&cut, first, Side::Right) - slope(&cut, last, Side::Left));
        let jump = if is_held { 0.0 } else { at(&cut, last, Side::Right) - end };
        if step == 0.0 && tilt == 0.0 && jump == 0.0 {
            return 0.0;
        }
        let begin = last - self.over;
        // Keys at both ends, so that what lies outside stays.
        if ![first, begin, last].into_iter().all(|time| cut.ensure_key(time)) {
            // Where it has no value there is nothing to close.
            return 0.0;
        }
        cut = cut.with_ends(self.range);
        let spread = |cut: &Curve| {
            let key = |time, value, slope: f64| Key::new(time, value).with_slope(slope);
            let correction = Curve::new(vec![key(begin, 0.0, 0.0), key(last, step, tilt)]).ok()?;
            let sum = combine(&[(1.0, cut), (1.0, &correction)], 0.0)?;
            // What lies before and behind stays as it is, to the bit.
            let mut keys: Vec<Key> = cut.keys().iter().filter(|key| key.time < begin).copied().collect();
            keys.extend(sum.keys().iter().filter(|key| begin <= key.time && key.time <= last));
            keys.extend(cut.keys().iter().filter(|key| key.time > last));
            Curve::new(keys).ok()
        };
        let made = if self.over.0 > 0 && begin < last && !is_held { spread(&cut) } else { None };
        let made = made.unwrap_or_else(|| cut.clone());
        // The last key to the bit: the first value, and its slope.
        let mut keys = made.keys().to_vec();
        let Some(index) = keys.iter().position(|key| key.time == last) else { return 0.0 };
        let outgoing = slope(&made, first, Side::Right);
        // What the old value made of automatic tangents beside it stays.
        for beside in [index.checked_sub(1), Some(index), Some(index + 1)].into_iter().flatten() {
            let Some(key) = keys.get_mut(beside) else { continue };
            for tangent in [&mut key.tangent_in, &mut key.tangent_out] {
                tangent.mode = TangentMode::Free;
            }
        }
        // The last frame belongs to the range; what follows it goes on from there.
        (keys[index].value, keys[index].value_before) = (wanted, None);
        keys[index].tangent_in = Tangent::slope(outgoing);
        keys[index].joined = false;
        let Ok(closed) = Curve::new(keys) else { return 0.0 };
        *curve = closed.with_behaviours(before, after);
        // The farthest that the correction goes: at its end, or at the bump that its slope makes.
        let seconds = self.over.seconds();
        let bump = (1..16).map(|part| {
            let u = f64::from(part) / 16.0;
            let (a, b) = (u * u * (3.0 - 2.0 * u), u * u * (u - 1.0) * seconds);
            (step * a + tilt * b).abs()
        });
        bump.fold(step.abs().max(jump.abs()), f64::max)
    }

    /// How much of the correction counts at a time.
    fn share(&self, time: Ticks) -> f64 {
        let begin = (self.range.last - self.over).as_f64();
        if time == self.range.last {
            return 1.0;
        }
        if self.over.0 == 0 || time > self.range.last {
            return 0.0;
        }
        let u = ((time.as_f64() - begin) / self.over.as_f64()).clamp(0.0, 1.0);
        u * u * (3.0 - 2.0 * u)
    }

    fn quaternions(&self, curve: &mut QuaternionCurve) -> f64 {
        let path = nimble_curve_curves::rotation::KeyedRotation::new(curve);
        let at = |time: Ticks| path.rotation_on(time.as_f64(), Side::Right).unwrap_or(DQuat::IDENTITY);
        let (first, end) = (at(self.range.first), at(self.range.last));
        let by = nimble_curve_curves::rotation::to_vector(first * end.conjugate());
        if by.length() < 1e-12 {
            return 0.0;
        }
        let after = curve.keys.partition_point(|key| key.time < self.range.last);
        if curve.keys.get(after).is_none_or(|key| key.time != self.range.last)
            && let Some(before) = after.checked_sub(1).map(|index| curve.keys[index])
        {
            let interpolation = match before.interpolation {
                QuaternionInterpolation::Step => QuaternionInterpolation::Step,
                _ => QuaternionInterpolation::Slerp,
            };
            curve.keys.insert(
                after,
                nimble_curve_scene::controller::QuaternionKey {
                    time: self.range.last,
                    value: end,
                    interpolation,
                    ..before
                },
            );
        }
        for key in &mut curve.keys {
            let share = self.share(key.time);
            if share > 0.0 {
                key.value = (nimble_curve_curves::rotation::from_vector(by * share) * key.value).normalize();
            }
        }
        by.length()
    }

    fn samples(&self, samples: &mut Samples, goes: &[bool]) -> f64 {
        let width = samples.kind.width();
        let index_of = |time: Ticks| {
            let place = (time - samples.start).as_f64() / samples.rate.ticks_per_frame();
            (place.round().max(0.0) as usize).min(samples.len().saturating_sub(1))
        };
        if samples.is_empty() {
            return 0.0;
        }
        let (first, last) = (index_of(self.range.first), index_of(self.range.last));
        let (from, to) = (samples.row(first).to_vec(), samples.row(last).to_vec());
        if samples.kind == SampleKind::Quaternion {
            let q = |row: &[f64]| DQuat::from_slice(row).normalize();
            let by = nimble_curve_curves::rotation::to_vector(q(&from) * q(&to).conjugate());
            for index in first + 1..=last {
                let share = if index == last { 1.0 } else { self.share(samples.time(index)) };
                let row = &mut samples.values[index * width..(index + 1) * width];
                let turned = (nimble_curve_curves::rotation::from_vector(by * share) * q(row)).normalize();
                let near = if turned.dot(q(row)) < 0.0 { -turned } else { turned };
                row.copy_from_slice(&near.to_array());
            }
            return by.length();
        }
        let is_angle = matches!(samples.kind, SampleKind::Euler(_));
        let mut steps: Vec<f64> = (0..width)
            .map(|c| if is_angle { nearest_turn(from[c], to[c]) - to[c] } else { from[c] - to[c] })
            .collect();
        steps.iter_mut().zip(goes).filter(|(_, goes)| **goes).for_each(|(step, _)| *step = 0.0);
        for index in first + 1..=last {
            let share = if index == last { 1.0 } else { self.share(samples.time(index)) };
            for (value, step) in samples.values[index * width..].iter_mut().zip(&steps) {
                *value += step * share;
            }
        }
        match samples.kind {
            SampleKind::Euler(order) => {
                let angles = |row: &[f64]| quat_from_euler(order, DVec3::from_slice(row));
                angle_between(angles(&to), angles(samples.row(last)))
            }
            _ => steps.iter().map(|step| step * step).sum::<f64>().sqrt(),
        }
    }
}

/// Writes a loop out: the range, `times` over. What carries the body along goes on from where it ended, its way turned by
/// what each round turns; all else starts over.
///
/// # Errors
/// See [`CycleError`].
pub fn extend(scene: &Scene, times: u32, options: &CycleOptions) -> Result<(Scene, Ledger), CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let period = range.last - range.first;
    let whole = TimeRange::new(range.first, Ticks(range.first.0 + period.0 * i64::from(times.max(1))));
    let going = Going::of(scene, take);
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
            let looped = curve.trimmed(range).with_behaviours(Behaviour::Held, Behaviour::Loop);
            made.layers[at].weight = Weight::Curve(looped.written_out(whole));
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

/// A curve that ends as its last round does, not as the next one would begin.
fn ending(curve: Curve) -> Curve {
    let mut keys = curve.keys().to_vec();
    let Some(last) = keys.last_mut() else { return curve };
    let Some(value) = last.value_before.take() else { return curve };
    last.value = value;
    // At the same times as before keys make a curve; were they none, the judge would see it.
    let (before, after) = (curve.before, curve.after);
    Curve::new(keys).map_or(curve, |ending| ending.with_behaviours(before, after))
}

/// One round of a loop that is written out.
struct Round<'a> {
    range: TimeRange,
    whole: TimeRange,
    going: &'a Going,
    target: &'a Target,
    take: &'a Take,
    layer: usize,
}

impl Round<'_> {
    fn extended(
        &self,
        controller: &Controller,
        setting: &ConversionContext,
    ) -> Result<(Controller, Fate), String> {
        let goes = |component| self.going.goes(self.target, controller, component);
        let looped = |component: usize, curve: &Curve| {
            if curve.is_empty() || curve.is_constant() {
                return curve.clone();
            }
            let after = if goes(component) { Behaviour::LoopOffset } else { Behaviour::Loop };
            // A key at both ends, so that the round is as long as the range.
            let round = curve.trimmed(self.range).with_ends(self.range);
            let whole = round.with_behaviours(Behaviour::Held, after).written_out(self.whole);
            let whole = whole.trimmed(self.whole).with_behaviours(Behaviour::Held, Behaviour::Held);
            ending(whole)
        };
        Ok(match controller {
            Controller::Constant(_) => (controller.clone(), Fate::Kept),
            Controller::Components(curves) => {
                let all = curves.iter().enumerate().map(|(component, curve)| looped(component, curve));
                (Controller::Components(all.collect()), Fate::Exact)
            }
            Controller::Euler(euler) => {
                let curves = [0, 1, 2].map(|component| looped(component, &euler.curves[component]));
                (Controller::Euler(EulerCurves { order: euler.order, curves }), Fate::Exact)
            }
            Controller::Samples(samples) => {
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
                let made = nimble_curve_curves::curve::DiscreteCurve::new(keys)
                    .map_err(|error| error.to_string())?;
                (Controller::Discrete(made), Fate::Exact)
            }
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

    /// One round of quaternion keys, which starts over for ever.
    fn turning(&self, curve: &QuaternionCurve, setting: &ConversionContext) -> QuaternionCurve {
        let path = KeyedRotation::new(curve);
        let mut knots = path.knots(Some(self.range));
        knots.retain(|knot| self.range.contains(knot.time));
        for edge in [self.range.first, self.range.last] {
            if !knots.iter().any(|knot| knot.time == edge) {
                knots.push(Knot { time: edge, leaving: SegmentKind::Moving });
            }
        }
        knots.sort_by_key(|knot| knot.time);
        let round = to_quaternion_keys(&path, &knots, setting.tolerance, setting.rate).curve;
        QuaternionCurve { after: Behaviour::Loop, ..round }
    }

    /// The samples of all rounds, at the instants at which the samples stand; between two of them where a round is no whole
    /// number of steps.
    fn samples(
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
fn turn_rounds(
    (scene, take): (&Scene, &Take),
    range: TimeRange,
    times: u32,
    going: &Going,
    made: &mut Take,
) -> Result<(), CycleError> {
    let net = travel(scene, take, range)?;
    if net.turn.abs() < TURNS || times < 2 {
        return Ok(());
    }
    let addresses = Addresses::new(scene);
    let degrees = net.turn.to_degrees();
    for (at, layer) in made.layers.iter_mut().enumerate() {
        for track in &mut layer.tracks {
            if !going.nodes.contains(&(track.target.rig, track.target.node)) {
                continue;
            }
            let cannot = |why: &str| CycleError::Cannot {
                channel: addresses.property(&track.target),
                why: format!("each round turns by {degrees:.2} deg, and {why}"),
            };
            match track.target.property.as_str() {
                "rotation" if !matches!(track.controller, Controller::Constant(_)) => {
                    let acts_last = going.goes(&track.target, &track.controller, going.up);
                    let why = "the turn does not act last here: root lift, or reorder, first";
                    acts_last.then_some(()).ok_or_else(|| cannot(why))?;
                }
                "translation" if at == 0 => {
                    let Controller::Components(curves) = &mut track.controller else {
                        return Err(cannot("only curves can be turned along: unbake first"));
                    };
                    let source = take.layers[0].tracks.iter().find(|own| own.target == track.target);
                    let plain = source.map_or(&[][..], |own| own.controller.curves());
                    if plain.len() == 3 {
                        turned_way(plain, curves, (going.up, net.turn), range, times)
                            .ok_or_else(|| cannot("weighted handles cannot be turned along exactly"))?;
                    }
                }
                _ => {}
            }
        }
    }
    Ok(())
}

/// The way of one round, put end to end and turned further each time; `None` where it is not a plain cubic.
fn turned_way(
    source: &[Curve],
    made: &mut [Curve],
    (up, turn): (usize, f64),
    range: TimeRange,
    times: u32,
) -> Option<()> {
    let (a, b) = ((up + 1) % 3, (up + 2) % 3);
    let at = |curve: &Curve, time: Ticks| curve.value_at(time.as_f64()).unwrap_or(0.0);
    let round = |curve: &Curve| curve.trimmed(range).with_ends(range);
    if source[a].is_empty() || source[b].is_empty() {
        return Some(());
    }
    let (p, q) = (round(&source[a]), round(&source[b]));
    let start = (at(&p, range.first), at(&q, range.first));
    let step = (at(&p, range.last) - start.0, at(&q, range.last) - start.1);
    let mut keys: [Vec<Key>; 2] = [Vec::new(), Vec::new()];
    let mut place = start;
    for round in 0..times {
        let (sin, cos) = (turn * f64::from(round)).sin_cos();
        // Turned about where the round begins, and put where the one before it ended.
        let x = combine(&[(cos, &p), (-sin, &q)], place.0 - cos * start.0 + sin * start.1)?;
        let y = combine(&[(sin, &p), (cos, &q)], place.1 - sin * start.0 - cos * start.1)?;
        let by = Ticks((range.last - range.first).0 * i64::from(round));
        for (keys, curve) in keys.iter_mut().zip([x, y]) {
            let mut own = curve.shifted(by).into_keys();
            if let (Some(end), Some(begin)) = (keys.last().copied(), own.first_mut())
                && end.time == begin.time
            {
                begin.tangent_in = end.tangent_in;
                begin.joined = false;
                keys.pop();
            }
            keys.extend(own);
        }
        place = (place.0 + cos * step.0 - sin * step.1, place.1 + sin * step.0 + cos * step.1);
    }
    let [x, y] = keys;
    (made[a], made[b]) = (Curve::new(x).ok()?, Curve::new(y).ok()?);
    Some(())
}
