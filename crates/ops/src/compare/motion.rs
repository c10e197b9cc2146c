//! Motion side by side, at whole and half frames; where one side has samples where the other has curves, at the samples.

use std::cmp::Ordering;
use std::collections::BTreeSet;

use glam::DQuat;
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::Samples;
use nimble_curve_scene::evaluate::{ChannelSampler, EvaluateError, Poses};
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::scene::{Take, Target};
use rayon::prelude::*;

use super::pairs::{Pairs, Rest};
use super::{ChannelDifference, JointDifference};

/// Instants that one thread works on at a time.
const CHUNK: usize = 512;

pub(super) fn differences(
    pairs: &Pairs<'_>,
    references: &(Rest, Rest),
    takes: (&Take, &Take),
    range: TimeRange,
) -> Result<(Vec<ChannelDifference>, Vec<JointDifference>), EvaluateError> {
    let times = match samples_alone(takes) {
        Some(samples) => instants(samples.start.as_f64(), samples.rate.ticks_per_frame(), range),
        None => instants(0.0, pairs.first.rate.ticks_per_frame() * 0.5, range),
    };
    let joints = joints(pairs, references, takes, &times)?;
    let channels = if pairs.rest_alike { channels(pairs, takes, &times)? } else { Vec::new() };
    Ok((channels, joints))
}

/// Samples that one take has on more tracks than the other: between them nobody knows the motion, so that what lies there is no
/// difference. `None` where both have as many samples, or neither has some.
pub(super) fn samples_alone<'a>((a, b): (&'a Take, &'a Take)) -> Option<&'a Samples> {
    let samples = |take: &'a Take| {
        let all: Vec<_> = take.tracks().filter_map(|(_, track)| track.controller.samples()).collect();
        let first = *all.first()?;
        all.iter().all(|own| own.rate == first.rate).then_some((first, all.len()))
    };
    match (samples(a), samples(b)) {
        (Some((samples, _)), None) | (None, Some((samples, _))) => Some(samples),
        (Some((one, count)), Some((other, others))) if (one.rate.fps() - other.rate.fps()).abs() < 1e-9 => {
            match count.cmp(&others) {
                Ordering::Greater => Some(one),
                Ordering::Less => Some(other),
                Ordering::Equal => None,
            }
        }
        _ => None,
    }
}

/// The instants of a range in even steps through one of them, the ends of the range included.
fn instants(through: f64, step: f64, range: TimeRange) -> Vec<f64> {
    let (first, last) = (range.first.as_f64(), range.last.as_f64());
    let (from, to) = (((first - through) / step).ceil() as i64, ((last - through) / step).floor() as i64);
    let mut times: Vec<f64> = (from..=to).map(|index| through + index as f64 * step).collect();
    if times.first().is_none_or(|time| *time > first) {
        times.insert(0, first);
    }
    if times.last().is_none_or(|time| *time < last) {
        times.push(last);
    }
    times
}

fn joints(
    pairs: &Pairs<'_>,
    rest: &(Rest, Rest),
    (a, b): (&Take, &Take),
    times: &[f64],
) -> Result<Vec<JointDifference>, EvaluateError> {
    let places: Vec<[(usize, usize); 2]> = (pairs.all.iter())
        .map(|&(one, other)| {
            [(one.0, Pairs::at(pairs.first, one)), (other.0, Pairs::at(pairs.second, other))]
        })
        .collect();
    let blank =
        || vec![[MeasuredError::none(Quantity::Angle), MeasuredError::none(Quantity::Length)]; places.len()];
    let part = |times: &[f64]| -> Result<Vec<[MeasuredError; 2]>, EvaluateError> {
        let mut first = Poses::new(pairs.first, a)?;
        let mut second = Poses::new(pairs.second, b)?;
        let mut errors = blank();
        for &time in times {
            first.at(time);
            second.at(time);
            for ([(rig, i), (other, j)], [rotation, position]) in places.iter().zip(&mut errors) {
                let (one, two) = (&first.poses[*rig], &second.poses[*other]);
                let (mut p, mut q) = (one.world_rotation[*i], two.world_rotation[*j]);
                if !pairs.rest_alike {
                    p *= rest.0.rotation[*rig][*i].conjugate();
                    q *= rest.1.rotation[*other][*j].conjugate();
                }
                rotation.take(turned(p, q), time);
                position.take((one.world[*i].translation - two.world[*j].translation).length(), time);
            }
        }
        Ok(errors)
    };
    let parts: Vec<_> = times.par_chunks(CHUNK).map(part).collect::<Result<_, _>>()?;
    let mut total = blank();
    for errors in parts {
        for (sum, more) in total.iter_mut().zip(errors) {
            sum[0].merge(&more[0]);
            sum[1].merge(&more[1]);
        }
    }
    let rate = pairs.first.rate;
    let joint = |(pair, [rotation, position]): (&(_, _), [MeasuredError; 2])| JointDifference {
        node: pairs.addresses.0.node(pair.0).to_owned(),
        other: pairs.other_name(*pair),
        rotation: rotation.in_frames(rate),
        position: pairs.rest_alike.then(|| position.in_frames(rate)),
    };
    Ok(pairs.all.iter().zip(total).map(joint).collect())
}

fn channels(
    pairs: &Pairs<'_>,
    (a, b): (&Take, &Take),
    times: &[f64],
) -> Result<Vec<ChannelDifference>, EvaluateError> {
    let driven: BTreeSet<&Target> = a.tracks().map(|(_, track)| &track.target).collect();
    let mut targets: Vec<(Target, Target)> =
        driven.iter().filter_map(|target| Some(((*target).clone(), pairs.partner(target)?))).collect();
    // What only the second take drives.
    let theirs: BTreeSet<&Target> = b.tracks().map(|(_, track)| &track.target).collect();
    for &(one, other) in &pairs.all {
        for target in theirs.iter().filter(|target| (target.rig, target.node) == other) {
            let own = Target { rig: one.0, node: one.1, property: target.property.clone() };
            let has_it = pairs.first.rigs[one.0].property_kind(one.1, &own.property).is_some();
            if has_it && !driven.contains(&own) {
                targets.push((own, (*target).clone()));
            }
        }
    }
    let rate = pairs.first.rate;
    let difference = |(own, theirs): &(Target, Target)| -> Result<ChannelDifference, EvaluateError> {
        let mut first = ChannelSampler::new(pairs.first, a, own)?;
        let mut second = ChannelSampler::new(pairs.second, b, theirs)?;
        let mut error = MeasuredError::none(first.kind().quantity());
        for &time in times {
            error.take(apart(&first.value_at(time), &second.value_at(time)), time);
        }
        let channel = pairs.addresses.0.property(own);
        let other = pairs.addresses.1.property(theirs);
        Ok(ChannelDifference {
            other: (other != channel).then_some(other),
            channel,
            error: error.in_frames(rate),
        })
    };
    // Of several errors the first one in order is told, whichever is found first.
    let differences: Vec<_> = targets.par_iter().map(difference).collect();
    differences.into_iter().collect()
}

/// The angle between two rotations, and nothing at all between equal ones.
fn turned(a: DQuat, b: DQuat) -> f64 {
    if a == b { 0.0 } else { angle_between(a, b) }
}

/// How far two values are apart.
fn apart(a: &Value, b: &Value) -> f64 {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => (a - b).abs(),
        (Value::Vector(a), Value::Vector(b)) => (*a - *b).length(),
        (Value::Matrix(a), Value::Matrix(b)) => {
            let apart = a.to_cols_array().into_iter().zip(b.to_cols_array()).map(|(a, b)| (a - b).abs());
            apart.fold(0.0, f64::max)
        }
        (a, b) => match (a.rotation(), b.rotation()) {
            (Some(a), Some(b)) => turned(a, b),
            _ => f64::from(u8::from(a != b)),
        },
    }
}
