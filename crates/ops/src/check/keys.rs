//! Keys and values of one track.

use nimble_curve_curves::curve::{Curve, Ticks};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, Samples, TcbKeys};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::rig::AttributeKind;

use super::takes::shown;
use super::{Channel, Code, Finding};
use crate::baked::baked;

/// Samples of fewer frames are a pose, not a bake.
const FEW: usize = 3;

pub(super) fn findings(channel: &Channel<'_>) -> Vec<Finding> {
    let controller = &channel.track.controller;
    let mut found = Vec::new();
    let lists = controller.own_key_times();
    found.extend(outside(channel, &lists));
    found.extend(times(channel, &lists));
    if not_finite(controller) {
        found.push(channel.finding(Code::NotANumber, "holds values that are not finite"));
    }
    let is_long = |samples: &Samples| samples.len() >= FEW;
    if baked(controller, channel.kind, &channel.rest, None).is_some_and(|samples| is_long(&samples)) {
        let keys = controller.sample_count() + controller.key_count();
        found.push(channel.finding(Code::Baked, format!("{keys} values")));
    }
    found.extend(still(channel));
    found.extend(node(channel));
    found
}

fn outside(channel: &Channel<'_>, lists: &[Vec<Ticks>]) -> Option<Finding> {
    let range = channel.take.range;
    let own = channel.track.controller.range()?;
    if range.contains(own.first) && range.contains(own.last) {
        return None;
    }
    let frame = |time: Ticks| channel.scene.rate.frame(time);
    let count = |is_out: &dyn Fn(Ticks) -> bool| lists.iter().flatten().filter(|&&time| is_out(time)).count();
    let (before, after) = (count(&|time| time < range.first), count(&|time| time > range.last));
    let detail = match (before, after) {
        (0, 0) => format!("samples {}:{}", shown(frame(own.first)), shown(frame(own.last))),
        (before, 0) => format!("{before} before frame {}", shown(frame(range.first))),
        (0, after) => format!("{after} after frame {}", shown(frame(range.last))),
        (before, after) => format!(
            "{before} before frame {}, {after} after frame {}",
            shown(frame(range.first)),
            shown(frame(range.last))
        ),
    };
    Some(channel.finding(Code::KeysOutsideRange, detail).at(frame(own.first), frame(own.last)))
}

fn times(channel: &Channel<'_>, lists: &[Vec<Ticks>]) -> Vec<Finding> {
    let rate = channel.scene.rate;
    let mut found = Vec::new();
    let (mut off, mut crowded): (Vec<f64>, Vec<f64>) = (Vec::new(), Vec::new());
    for list in lists {
        off.extend(
            list.iter().filter(|time| rate.whole_frame(**time).is_none()).map(|time| rate.frame(*time)),
        );
        let same = |pair: &&[Ticks]| rate.nearest_frame(pair[0]) == rate.nearest_frame(pair[1]);
        crowded.extend(list.windows(2).filter(same).map(|pair| rate.nearest_frame(pair[0]) as f64));
    }
    for (code, mut frames) in [(Code::OffFrameKeys, off), (Code::CrowdedKeys, crowded)] {
        frames.sort_by(f64::total_cmp);
        let (Some(&first), Some(&last)) = (frames.first(), frames.last()) else { continue };
        let keys =
            if code == Code::OffFrameKeys { "between frames" } else { "share a frame with the key before" };
        found.push(channel.finding(code, format!("{} {keys}", frames.len())).at(first, last));
    }
    found
}

fn not_finite(controller: &Controller) -> bool {
    match controller {
        Controller::Samples(samples) => samples.values.iter().any(|value| !value.is_finite()),
        Controller::Constant(value) => value.numbers().is_some_and(|all| all.iter().any(|v| !v.is_finite())),
        Controller::Quaternion(curve) => curve.keys.iter().any(|key| !key.value.is_finite()),
        Controller::Tcb(curve) => match &curve.keys {
            TcbKeys::Number(keys) => keys.iter().any(|key| !key.value.is_finite()),
            TcbKeys::Vector(keys) => keys.iter().any(|key| !key.value.is_finite()),
            TcbKeys::Rotation(keys) => keys.iter().any(|key| !key.value.is_finite()),
        },
        Controller::Stack(entries) => entries.iter().any(|entry| not_finite(&entry.controller)),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().is_some_and(not_finite),
        // Curves refuse such numbers.
        Controller::Components(_) | Controller::Euler(_) | Controller::Discrete(_) => false,
    }
}

/// Whether all keys or samples of a controller say the same.
fn still(channel: &Channel<'_>) -> Option<Finding> {
    let same = |count: usize| {
        let said = format!("{count} keys, one value");
        Some(channel.finding(Code::StillChannel, said))
    };
    match &channel.track.controller {
        Controller::Components(_) | Controller::Euler(_) => {
            let curves = channel.track.controller.curves();
            let keyed = || curves.iter().filter(|curve| !curve.is_empty());
            let count: usize = keyed().map(|curve| curve.keys().len()).sum();
            let several = keyed().any(|curve| curve.keys().len() > 1);
            (several && keyed().all(Curve::is_constant)).then(|| same(count)).flatten()
        }
        Controller::Samples(samples) if samples.len() >= FEW => {
            let first = samples.row(0);
            let alike = (1..samples.len()).all(|index| samples.row(index) == first);
            if alike { same(samples.len()) } else { None }
        }
        Controller::Quaternion(curve) if curve.keys.len() > 1 => {
            let first = curve.keys[0].value;
            let alike = curve.keys.iter().all(|key| key.value == first || key.value == -first);
            if alike { same(curve.keys.len()) } else { None }
        }
        _ => None,
    }
}

/// What the node and its attributes say of the track.
fn node(channel: &Channel<'_>) -> Vec<Finding> {
    let target = &channel.track.target;
    let Some(node) = channel.scene.rigs[target.rig].node(target.node) else { return Vec::new() };
    let mut found = Vec::new();
    if node.kind.is_support() {
        found.push(channel.finding(Code::LocatorMoves, "an end or a locator is animated"));
    }
    let locked = |component| {
        channel.track.controller.drives(component) && node.is_locked(&target.property, Some(component))
    };
    if !matches!(channel.track.controller, Controller::Constant(_)) && (0..3).any(locked) {
        found.push(channel.finding(Code::LockedMoves, "locked, and animated"));
    }
    if let Some(AttributeKind::Number { min, max, .. }) = node.attribute(&target.property).map(|a| &a.kind) {
        found.extend(beyond(channel, *min, *max));
    }
    found
}

/// Values of a number below or above its limits, at whole frames.
pub(super) fn beyond(channel: &Channel<'_>, min: Option<f64>, max: Option<f64>) -> Option<Finding> {
    if channel.take.layers[channel.layer].mode == nimble_curve_scene::scene::LayerMode::Additive {
        return None;
    }
    let range = channel.track.controller.range()?;
    let mut sampler = Sampler::new(&channel.track.controller, channel.kind, channel.rest.clone()).ok()?;
    let rate = channel.scene.rate;
    let mut worst: Option<(f64, f64, f64)> = None;
    for frame in rate.nearest_frame(range.first)..=rate.nearest_frame(range.last) {
        let Value::Number(value) = sampler.value_at(rate.ticks(frame).as_f64()) else { return None };
        let (below, above) = (min.map_or(0.0, |min| min - value), max.map_or(0.0, |max| value - max));
        let over = below.max(above);
        // Rounding is no fault.
        if over > 1e-9 * value.abs().max(1.0) && worst.is_none_or(|(most, ..)| over > most) {
            worst = Some((over, frame as f64, value));
        }
    }
    let (_, frame, value) = worst?;
    let angle = channel.kind.quantity() == nimble_curve_curves::value::Quantity::Angle;
    let say = |value: f64| {
        if angle { format!("{:.4} deg", value.to_degrees()) } else { format!("{value:.4}") }
    };
    let limit = match (min, max) {
        (Some(min), _) if value < min => say(min),
        (_, Some(max)) => say(max),
        _ => String::new(),
    };
    Some(channel.finding(Code::BeyondLimits, format!("{}, limit {limit}", say(value))).at(frame, frame))
}
