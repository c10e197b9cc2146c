//! Rotations that flip, turn the long way round, or come close to a pole.

use std::collections::HashSet;
use std::f64::consts::{FRAC_PI_2, PI, TAU};

use glam::DVec3;
use nimble_curve_curves::curve::{Side, Ticks};
use nimble_curve_curves::rotation::{angle_between, pole_distance, quat_from_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::{EvaluateError, PropertySampler, Sampler};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Target};

use super::takes::shown;
use super::{Channel, Code, Finding};
use crate::unwind;

/// Closer to the pole than this, curves of angles are hard to edit and to carry.
const NEAR: f64 = 3.0_f64.to_radians();
/// A turn this many times as fast as those beside it is out of line.
const OUT_OF_LINE: f64 = 4.0;
/// Instants in a gap at which a way is measured.
const STEPS: u32 = 24;

pub(super) fn findings(channel: &Channel<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    match channel.kind {
        PropertyKind::Rotation => {
            let rest = match channel.rest {
                Value::Euler { angles, .. } => angles,
                _ => DVec3::ZERO,
            };
            let flips = unwind::flips(&channel.track.controller, rest, channel.scene.rate);
            if let (Some(&first), Some(&last)) = (flips.first(), flips.last()) {
                let many = if flips.len() == 1 { "once".into() } else { format!("{} times", flips.len()) };
                found.push(channel.finding(Code::Flip, many).at(first, last));
            }
            if let Controller::Euler(euler) = &channel.track.controller {
                found.extend(long_ways(channel, euler, rest));
            }
        }
        PropertyKind::Scale => found.extend(scale(channel)),
        _ => {}
    }
    found
}

/// Gaps in which a rotation turns by more than half a turn, where less than a quarter would do, out of line with the gaps
/// beside it.
fn long_ways(channel: &Channel<'_>, euler: &EulerCurves, rest: DVec3) -> Vec<Finding> {
    let range = channel.take.range;
    let mut times: Vec<Ticks> =
        euler.curves.iter().flat_map(|curve| curve.keys().iter().map(|key| key.time)).collect();
    times.retain(|time| range.contains(*time));
    times.sort_unstable();
    times.dedup();
    let angles = |time: f64, side: Side| {
        DVec3::from_array([0, 1, 2].map(|axis| euler.curves[axis].value_on(time, side).unwrap_or(rest[axis])))
    };
    let rotation = |time: f64, side: Side| quat_from_euler(euler.order, angles(time, side));
    // Of each gap: how far the rotation goes on its way, how far it is from end to end, how fast that would be.
    let gaps: Vec<(f64, f64, f64)> = times
        .windows(2)
        .map(|pair| {
            let (from, to) = (pair[0].as_f64(), pair[1].as_f64());
            let at = |step: u32| match step {
                STEPS => rotation(to, Side::Left),
                step => rotation(from + (to - from) * f64::from(step) / f64::from(STEPS), Side::Right),
            };
            let way: f64 = (0..STEPS).map(|step| angle_between(at(step), at(step + 1))).sum();
            let short = angle_between(at(0), at(STEPS));
            (way, short, short / (to - from))
        })
        .collect();
    let mut found = Vec::new();
    for (index, &(way, short, _)) in gaps.iter().enumerate() {
        let (from, to) = (times[index], times[index + 1]);
        let ticks = (to - from).as_f64();
        let speed = way / ticks;
        let beside = [index.checked_sub(1), Some(index + 1)];
        let mut neighbours = beside.into_iter().flatten().filter_map(|index| gaps.get(index)).peekable();
        let stands_out = neighbours.peek().is_some()
            && neighbours.all(|(way, _, pace)| pace * OUT_OF_LINE < speed && *way < PI);
        // Whole turns are meant.
        let is_turn = (way / TAU).round() >= 1.0 && short < 1e-3;
        // From one frame to the next it is a flip.
        let is_long = ticks > 1.5 * channel.scene.rate.ticks_per_frame();
        if is_long && way > PI && way < TAU && short < FRAC_PI_2 && stands_out && !is_turn {
            let detail =
                format!("turns {:.0} deg where {:.0} would do", way.to_degrees(), short.to_degrees());
            let frame = |time: Ticks| channel.scene.rate.frame(time);
            found.push(channel.finding(Code::LongWay, detail).at(frame(from), frame(to)));
        }
    }
    found
}

/// Rotations of a take, all layers counted, that come close to the pole of their order.
pub(super) fn near_poles(
    scene: &Scene,
    take: &Take,
    addresses: &Addresses,
) -> Result<Vec<Finding>, EvaluateError> {
    let mut found = Vec::new();
    let mut seen: HashSet<&Target> = HashSet::new();
    for (_, track) in take.tracks() {
        let target = &track.target;
        let kind = scene.rigs[target.rig].property_kind(target.node, &target.property);
        if kind != Some(PropertyKind::Rotation) || !seen.insert(target) {
            continue;
        }
        let mut sampler = PropertySampler::new(scene, take, target)?;
        let (mut nearest, mut close) = ((f64::INFINITY, 0.0), None::<(f64, f64)>);
        let mut span = (DVec3::INFINITY, DVec3::NEG_INFINITY);
        let (first, last) =
            (scene.rate.nearest_frame(take.range.first), scene.rate.nearest_frame(take.range.last));
        for frame in first..=last {
            let Value::Euler { order, angles } = sampler.value_at(scene.rate.ticks(frame).as_f64()) else {
                break;
            };
            let distance = pole_distance(order, quat_from_euler(order, angles));
            span = (span.0.min(angles), span.1.max(angles));
            let frame = frame as f64;
            if distance < nearest.0 {
                nearest = (distance, frame);
            }
            if distance < NEAR {
                close = Some(close.map_or((frame, frame), |(first, _)| (first, frame)));
            }
        }
        // What turns about one axis only meets no pole.
        let axes = (span.1 - span.0).to_array().into_iter().filter(|span| *span > 1e-6).count();
        if let (Some((first, last)), true) = (close, axes > 1) {
            let detail = format!("{:.2} deg from it at frame {}", nearest.0.to_degrees(), shown(nearest.1));
            let finding = Finding::new(Code::NearGimbalLock, addresses.property(target), detail);
            found.push(finding.in_take(take).at(first, last));
        }
    }
    Ok(found)
}

/// Animated scale that goes below zero, or differs between the axes.
fn scale(channel: &Channel<'_>) -> Option<Finding> {
    let controller = &channel.track.controller;
    let mut sampler = Sampler::new(controller, channel.kind, channel.rest.clone()).ok()?;
    let range = controller.range().unwrap_or(channel.take.range);
    let rate = channel.scene.rate;
    let mut uneven: Option<(f64, Finding)> = None;
    for frame in rate.nearest_frame(range.first)..=rate.nearest_frame(range.last) {
        let Value::Vector(v) = sampler.value_at(rate.ticks(frame).as_f64()) else { return None };
        let said = || format!("scale {:.4} {:.4} {:.4}", v.x, v.y, v.z);
        let frame = frame as f64;
        if v.min_element() < 0.0 {
            return Some(channel.finding(Code::NegativeScale, said()).at(frame, frame));
        }
        let differs = v.max_element() - v.min_element();
        if differs > uneven.as_ref().map_or(1e-6 * v.max_element(), |(most, _)| *most) {
            uneven = Some((differs, channel.finding(Code::UnevenScale, said()).at(frame, frame)));
        }
    }
    uneven.map(|(_, finding)| finding)
}
