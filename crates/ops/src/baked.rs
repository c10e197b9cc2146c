//! Which controllers count as baked, and as which samples.

use std::borrow::Cow;

use nimble_curve_curves::curve::Ticks;
use nimble_curve_curves::time::FrameRate;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::scene::PropertyKind;

/// The samples of a controller that counts as baked: samples, or curves with a key at every step, quaternions with straight ways
/// between. With `again` also curves that are sparse already, sampled at a rate. `None` where nothing is to be unbaked.
pub(crate) fn baked<'a>(
    controller: &'a Controller,
    kind: PropertyKind,
    rest: &Value,
    again: Option<FrameRate>,
) -> Option<Cow<'a, Samples>> {
    let (start, rate, count) = match controller {
        Controller::Samples(samples) => return Some(Cow::Borrowed(samples)),
        _ => match (controller.even_keys(), again) {
            (Some(steps), _) => steps,
            (None, again) => sampled_at(controller, again?)?,
        },
    };
    let mut sampler = Sampler::new(controller, kind, rest.clone()).ok()?;
    let mut values = Vec::new();
    let mut sample_kind = None;
    for index in 0..count {
        let value = sampler.value_at((start + rate.ticks(index as i64)).as_f64());
        sample_kind = Some(match value {
            Value::Number(_) => SampleKind::Number,
            Value::Vector(_) => SampleKind::Vector,
            Value::Euler { order, .. } => SampleKind::Euler(order),
            Value::Quaternion(_) => SampleKind::Quaternion,
            Value::Matrix(_) | Value::Discrete(_) => return None,
        });
        values.extend(value.numbers()?);
    }
    Some(Cow::Owned(Samples { start, rate, kind: sample_kind?, values }))
}

fn sampled_at(controller: &Controller, rate: FrameRate) -> Option<(Ticks, FrameRate, usize)> {
    let range = controller.range()?;
    let first = rate.frame(range.first).ceil() as i64;
    let last = rate.frame(range.last).floor() as i64;
    (first <= last).then(|| (rate.ticks(first), rate, (last - first + 1) as usize))
}
