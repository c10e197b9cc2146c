//! Which controllers count as baked, and as which samples.

use std::borrow::Cow;

use crate::controller::{Controller, SampleKind, Samples};
use crate::curve::{Curve, Ticks};
use crate::evaluate::Sampler;
use crate::scene::PropertyKind;
use crate::time::{FrameRate, TICKS_PER_SECOND};
use crate::value::Value;

/// Fewer keys than this are not told from sparse ones.
const LEAST: usize = 8;

/// The samples of a controller that counts as baked: samples, or curves with a key at every step. With `again` also
/// curves that are sparse already, sampled at a rate. `None` where nothing is to be unbaked.
pub(in crate::ops) fn baked<'a>(
    controller: &'a Controller,
    kind: PropertyKind,
    rest: &Value,
    again: Option<FrameRate>,
) -> Option<Cow<'a, Samples>> {
    let (start, rate, count) = match controller {
        Controller::Samples(samples) => return Some(Cow::Borrowed(samples)),
        Controller::Components(_) | Controller::Euler(_) => {
            let curves: Vec<&Curve> = controller
                .curves()
                .iter()
                .filter(|curve| !curve.is_empty() && !curve.is_constant())
                .collect();
            match (uniform(&curves), again) {
                (Some(steps), _) => steps,
                (None, Some(rate)) => sampled_at(controller, rate)?,
                (None, None) => return None,
            }
        }
        _ => sampled_at(controller, again?)?,
    };
    let mut sampler = Sampler::new(controller, kind, rest.clone()).ok()?;
    let mut values = Vec::new();
    let mut sample_kind = None;
    for index in 0..count {
        let value = sampler.value_at((start + rate.ticks(index as i64)).as_f64());
        sample_kind = Some(match value {
            Value::Scalar(_) => SampleKind::Scalar,
            Value::Vector(_) => SampleKind::Vector,
            Value::Euler { order, .. } => SampleKind::Euler(order),
            Value::Quaternion(_) => SampleKind::Quaternion,
            Value::Matrix(_) | Value::Discrete(_) => return None,
        });
        values.extend(value.numbers()?);
    }
    Some(Cow::Owned(Samples { start, rate, kind: sample_kind?, values }))
}

/// Start, rate and count of keys that stand a step apart, all curves alike, on whole frames or between them.
fn uniform(curves: &[&Curve]) -> Option<(Ticks, FrameRate, usize)> {
    let first = curves.first()?;
    let keys = first.keys();
    if keys.len() < LEAST || curves.iter().any(|curve| curve.keys().len() != keys.len()) {
        return None;
    }
    let span = (keys[keys.len() - 1].time - keys[0].time).0;
    let step = span as f64 / (keys.len() - 1) as f64;
    // No shorter than a 250th of a second's frame at 24 is ever baked; longer than a sixth of one is keyed by hand.
    if !(TICKS_PER_SECOND as f64 / 1000.0..=TICKS_PER_SECOND as f64 / 11.9).contains(&step) {
        return None;
    }
    let on_step = |curve: &&Curve| {
        curve.keys().iter().enumerate().all(|(index, key)| {
            let expected = keys[0].time.as_f64() + step * index as f64;
            (key.time.as_f64() - expected).abs() <= 1.0
        })
    };
    let whole = FrameRate::new(TICKS_PER_SECOND as u32, step.round() as u32)?;
    (curves.iter().all(on_step)).then_some((keys[0].time, whole, keys.len()))
}

fn sampled_at(controller: &Controller, rate: FrameRate) -> Option<(Ticks, FrameRate, usize)> {
    let range = controller.range()?;
    let first = rate.frame(range.first).ceil() as i64;
    let last = rate.frame(range.last).floor() as i64;
    (first <= last).then(|| (rate.ticks(first), rate, (last - first + 1) as usize))
}
