//! Takes whose range is longer than their keys, in formats that know no range: keys at its ends keep it.

use nimble_curve_core::controller::{
    Controller, QuaternionCurve, QuaternionInterpolation, QuaternionKey, Samples,
};
use nimble_curve_core::curve::Curve;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::time::{FrameRate, TimeRange};

/// Gives the first track of each take that can have them keys at the ends of the take's range, where no track reaches
/// them; the ledger says so. Nothing else changes: a curve that is held outside its keys is taken where there is one, else
/// what one does there is written out.
pub fn keep_ranges(scene: &mut Scene, ledger: &mut Ledger) {
    let rate = scene.rate;
    for take in &mut scene.takes {
        let range = take.range;
        let own = take.layers.first().and_then(|layer| {
            layer.tracks.iter().filter_map(|track| track.controller.range()).reduce(TimeRange::union)
        });
        let Some(own) = own else { continue };
        if own.first <= range.first && own.last >= range.last {
            continue;
        }
        let frames = |range: TimeRange| format!("{}:{}", shown(rate, range.first), shown(rate, range.last));
        let done = put(take, range);
        let name = &take.name;
        let what = match done {
            true => format!("its range {} is kept by a key at each end that has none", frames(range)),
            false => format!("its range {} shrinks to that of its keys, {}", frames(range), frames(own)),
        };
        ledger.notes.push(format!("take '{name}': {what}"));
    }
}

fn shown(rate: FrameRate, time: nimble_curve_core::time::Ticks) -> f64 {
    (rate.frame(time) * 100.0).round() / 100.0
}

fn put(take: &mut Take, range: TimeRange) -> bool {
    let Some(layer) = take.layers.first_mut() else { return false };
    // What has no range of its own, such as a constant, is no help; samples would have to be made longer.
    let chosen = (layer.tracks.iter().enumerate())
        .filter(|(_, track)| track.controller.range().is_some())
        .min_by_key(|(_, track)| (is_sampled(&track.controller), !is_held(&track.controller)));
    let Some((place, _)) = chosen else { return false };
    let curves: &mut [Curve] = match &mut layer.tracks[place].controller {
        Controller::Components(curves) => curves,
        Controller::Euler(euler) => &mut euler.curves,
        Controller::Quaternion(curve) => {
            lengthen_keys(curve, range);
            return true;
        }
        Controller::Samples(samples) => return lengthen_samples(samples, range),
        _ => return false,
    };
    let keyed = curves.iter_mut().filter(|curve| !curve.is_empty());
    let Some(curve) = keyed.min_by_key(|curve| !curve.is_held_outside()) else { return false };
    *curve = match curve.is_held_outside() {
        true => curve.with_ends(range),
        false => curve.written_out(range).with_ends(range),
    };
    true
}

/// Whether a curve is among them that is held outside its keys.
fn is_held(controller: &Controller) -> bool {
    let any = |curves: &[Curve]| curves.iter().any(|curve| !curve.is_empty() && curve.is_held_outside());
    match controller {
        Controller::Components(curves) => any(curves),
        Controller::Euler(euler) => any(&euler.curves),
        _ => true,
    }
}

fn is_sampled(controller: &Controller) -> bool {
    matches!(controller, Controller::Samples(_))
}

fn lengthen_keys(curve: &mut QuaternionCurve, range: TimeRange) {
    // Between equal rotations a great arc holds as well, and what is all of great arcs can be written as such.
    let pieces = &curve.keys[..curve.keys.len().saturating_sub(1)];
    let are_arcs =
        !pieces.is_empty() && pieces.iter().all(|key| key.interpolation == QuaternionInterpolation::Slerp);
    let holding = if are_arcs { QuaternionInterpolation::Slerp } else { QuaternionInterpolation::Step };
    let still = |key: &QuaternionKey, time| QuaternionKey {
        time,
        interpolation: holding,
        tangent_in: glam::DVec4::ZERO,
        tangent_out: glam::DVec4::ZERO,
        ..*key
    };
    if let Some(first) = curve.keys.first().copied().filter(|first| first.time > range.first) {
        curve.keys.insert(0, still(&first, range.first));
    }
    if let Some(last) = curve.keys.last_mut().filter(|last| last.time < range.last) {
        last.interpolation = holding;
        let end = still(last, range.last);
        curve.keys.push(end);
    }
}

/// Repeats the first and the last sample as far as the range reaches; not where its ends lie between samples.
fn lengthen_samples(samples: &mut Samples, range: TimeRange) -> bool {
    let width = samples.kind.width();
    let step = samples.rate.ticks_per_frame();
    let last = samples.time(samples.len().saturating_sub(1));
    let steps = |span: f64| if span > 0.0 { (span / step).round() as usize } else { 0 };
    let before = steps((samples.start - range.first).as_f64());
    let after = steps((range.last - last).as_f64());
    let start = samples.start - samples.rate.ticks(before as i64);
    if start > range.first || last + samples.rate.ticks(after as i64) < range.last {
        return false;
    }
    let mut values = samples.values[..width].repeat(before);
    values.extend_from_slice(&samples.values);
    let end = &samples.values[samples.values.len() - width..];
    values.extend_from_slice(&end.repeat(after));
    (samples.start, samples.values) = (start, values);
    true
}
