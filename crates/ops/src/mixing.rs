//! Whether layers still mix as they did once a track has another type.
//!
//! Where rotations are mixed by component, angles of one order add up one by one, and any other rotations as turns: a track
//! that becomes angles under, or on, such a layer changes what the two come to, although by itself it is the same motion.

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Take, Target, Track};

use super::conversion::{
    ControllerType, ConversionContext, ConvertedController, NotConvertible, convert_controller,
};

/// What a controller of a rotation gives its layer to mix: angles of an order, or a turn.
fn form(controller: &Controller) -> Option<RotationOrder> {
    match controller {
        Controller::Constant(Value::Euler { order, .. })
        | Controller::Samples(Samples { kind: SampleKind::Euler(order), .. }) => Some(*order),
        Controller::Euler(euler) => Some(euler.order),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().and_then(form),
        // Entries of one order add up to angles, any others to a turn; a stack that keeps its type keeps that, too.
        Controller::Stack(entries) => {
            let first = form(&entries.first()?.controller)?;
            entries.iter().all(|entry| form(&entry.controller) == Some(first)).then_some(first)
        }
        _ => None,
    }
}

/// Whether a track on a layer may become another controller without the layers mixing otherwise.
pub(super) fn stays_mixed(
    take: &Take,
    layer: usize,
    target: &Target,
    kind: PropertyKind,
    before: &Controller,
    after: &Controller,
) -> bool {
    if kind != PropertyKind::Rotation {
        return true;
    }
    // Fitted as a rotation, samples of angles may come out as other angles of the same turn, which add up to another one.
    let is_fitted = matches!(before, Controller::Samples(samples) if matches!(samples.kind, SampleKind::Euler(_)))
        && !matches!(after, Controller::Samples(_));
    if form(before) == form(after) && !(is_fitted && adds_angles(take, layer, target)) {
        return true;
    }
    let on_it = |index: usize| {
        let layer = &take.layers[index];
        layer.is_active() && layer.tracks.iter().any(|track| track.target == *target)
    };
    let own = &take.layers[layer];
    if !own.is_active() {
        return true;
    }
    // What replaces all that lies under it mixes with nothing below; what is put on it as a whole turn does so in any form.
    // Of a part of an added turn, how far round its angles came is part of the form.
    let weight = own.weight.constant();
    let is_partial = !matches!(weight, Some(weight) if weight == 0.0 || weight == 1.0);
    let by_form = own.rotations == RotationMixing::Angles
        || is_partial && own.mode == LayerMode::Additive && (goes_round(before) || goes_round(after));
    // Those above mix with whatever form is under them where they mix turns.
    let above = (layer + 1..take.layers.len()).filter(|&index| on_it(index)).map(|index| &take.layers[index]);
    let mut mixing = above.filter(|layer| !layer.is_whole());
    (own.is_whole() || !by_form) && !mixing.any(|layer| layer.rotations == RotationMixing::Angles)
}

/// Whether the angles of a track are added to others one by one, or others to them.
pub(super) fn adds_angles(take: &Take, layer: usize, target: &Target) -> bool {
    let mixes = |layer: &Layer| !layer.is_whole() && layer.rotations == RotationMixing::Angles;
    let above = take.layers.iter().skip(layer + 1).filter(|layer| layer.is_active());
    let mut on_it = above.filter(|layer| layer.tracks.iter().any(|track| track.target == *target));
    mixes(&take.layers[layer]) || on_it.any(mixes)
}

/// Whether angles may come half round, where a turn alone would not tell how far round they are.
fn goes_round(controller: &Controller) -> bool {
    let sum: f64 = match controller {
        Controller::Constant(Value::Euler { angles, .. }) => angles.abs().element_sum(),
        Controller::Euler(euler) => {
            let most =
                |curve: &Curve| curve.keys().iter().fold(0.0_f64, |most, key| most.max(key.value.abs()));
            // Tangents may carry curves a little beyond their keys.
            1.25 * euler.curves.iter().map(most).sum::<f64>()
        }
        Controller::Samples(Samples { kind: SampleKind::Euler(_), values, .. }) => {
            let row = |row: &[f64]| row.iter().map(|angle| angle.abs()).sum::<f64>();
            values.chunks_exact(3).map(row).fold(0.0, f64::max)
        }
        Controller::Stack(_) | Controller::Procedural(_) => f64::INFINITY,
        _ => 0.0,
    };
    sum > std::f64::consts::PI
}

/// What part of a property's tolerance each of its tracks may have, where several layers come to one value and each is
/// changed by itself: errors add up, and those of factors are multiplied by the others.
pub(super) fn share(take: &Take, target: &Target, kind: PropertyKind) -> f64 {
    let on_it: Vec<&Track> =
        take.active_tracks().map(|(_, track)| track).filter(|track| track.target == *target).collect();
    if on_it.len() < 2 {
        return 1.0;
    }
    let product: f64 = match kind {
        PropertyKind::Scale => on_it.iter().map(|track| reach(&track.controller).max(1.0)).product(),
        _ => 1.0,
    };
    1.0 / (on_it.len() as f64 * product)
}

/// The largest number that a controller comes to, nearly: tangents may carry curves a little beyond their keys.
fn reach(controller: &Controller) -> f64 {
    const BEYOND: f64 = 1.25;
    let most = |numbers: &mut dyn Iterator<Item = f64>| numbers.fold(0.0, |most: f64, n| most.max(n.abs()));
    match controller {
        Controller::Constant(value) => most(&mut value.numbers().into_iter().flatten()),
        Controller::Samples(samples) => most(&mut samples.values.iter().copied()),
        Controller::Tcb(curve) => match curve.numbers() {
            Some(numbers) => {
                let keys = numbers.curves.iter().flat_map(|curve| curve.keys());
                BEYOND * most(&mut keys.map(|key| key.value))
            }
            None => 1.0,
        },
        Controller::Stack(entries) => entries.iter().map(|entry| reach(&entry.controller).max(1.0)).product(),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().map_or(1.0, reach),
        other => {
            let keys = other.curves().iter().flat_map(|curve| curve.keys());
            BEYOND * most(&mut keys.map(|key| key.value))
        }
    }
}

/// A track as curves, or as quaternion keys where its layers would mix curves otherwise.
///
/// # Errors
/// [`NotConvertible::Mixed`], where neither mixes as it does.
pub(super) fn curves_that_mix(
    take: &Take,
    layer: usize,
    target: &Target,
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    for form in [ControllerType::Curves, ControllerType::Quaternion] {
        let changed = convert_controller(controller, form, setting)?;
        if stays_mixed(take, layer, target, setting.kind, controller, &changed.controller) {
            return Ok(changed);
        }
    }
    Err(NotConvertible::Mixed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use nimble_curve_scene::controller::TcbKeys;

    #[test]
    fn tension_keys_of_rotations_are_turns() {
        let keys = TcbKeys::Rotation(Vec::new());
        let tcb = nimble_curve_scene::controller::TcbCurve {
            keys,
            before: Default::default(),
            after: Default::default(),
        };
        assert_eq!(form(&Controller::Tcb(tcb)), None);
    }
}
