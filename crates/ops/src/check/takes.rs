//! Ranges, parts and layers of takes.

use nimble_curve_curves::curve::{Behaviour, Curve};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, Weight};
use nimble_curve_scene::scene::{Scene, Take};

use super::{Code, Finding};
use crate::profile::Profile;

pub(super) fn findings(scene: &Scene, addresses: &Addresses, profile: Option<&Profile>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        if scene.takes[..index].iter().any(|other| other.name == take.name && other.folder == take.folder) {
            found.push(
                Finding::new(Code::SameName, &take.name, "a take before it has this name").in_take(take),
            );
        }
        found.extend(ranges(scene, take));
        found.extend(parts(scene, take, addresses));
        found.extend(layers(take));
        found.extend(profile.into_iter().flat_map(|profile| wanted(scene, take, profile)));
    }
    found.extend(profile.into_iter().flat_map(|profile| held(scene, profile)));
    found
}

/// A frame as it is shown.
pub(super) fn shown(frame: f64) -> String {
    if (frame - frame.round()).abs() < 1e-6 { format!("{frame:.0}") } else { format!("{frame:.2}") }
}

fn ranges(scene: &Scene, take: &Take) -> Vec<Finding> {
    let frame = |time: Ticks| scene.rate.frame(time);
    let mut found = Vec::new();
    let Some(keys) = take.key_range() else {
        found.push(Finding::new(Code::EmptyTake, &take.name, "no key and no sample").in_take(take));
        return found;
    };
    let goes_on = |after: bool| {
        let moves = |curve: &Curve| {
            let behaviour = if after { curve.after } else { curve.before };
            !matches!(behaviour, Behaviour::Held | Behaviour::None)
        };
        take.tracks().any(|(_, track)| track.controller.curves().iter().any(moves))
    };
    let (range, name) = (take.range, &take.name);
    if keys.last < range.last && !goes_on(true) {
        let (last, end) = (frame(keys.last), frame(range.last));
        let detail = format!("the last key stands at {}, the range goes on to {}", shown(last), shown(end));
        found.push(Finding::new(Code::RangePastKeys, name, detail).in_take(take).at(last, end));
    }
    if keys.first > range.first && !goes_on(false) {
        let (first, start) = (frame(keys.first), frame(range.first));
        let detail =
            format!("the range starts at {}, the first key stands at {}", shown(start), shown(first));
        found.push(Finding::new(Code::RangePastKeys, name, detail).in_take(take).at(start, first));
    }
    for clip in &take.clips {
        if !(range.contains(clip.range.first) && range.contains(clip.range.last)) {
            let detail = format!("the take is {}:{}", shown(frame(range.first)), shown(frame(range.last)));
            let finding = Finding::new(Code::ClipOutsideTake, &clip.name, detail).in_take(take);
            found.push(finding.at(frame(clip.range.first), frame(clip.range.last)));
        }
    }
    found
}

/// Rigs of one take, and baked tracks of one rig, are one performance: they start and end together.
fn parts(scene: &Scene, take: &Take, addresses: &Addresses) -> Vec<Finding> {
    let frame = |time: Ticks| scene.rate.frame(time);
    let of = |rig: usize, only_samples: bool| {
        let counts =
            move |controller: &Controller| !only_samples || matches!(controller, Controller::Samples(_));
        take.tracks()
            .map(|(_, track)| track)
            .filter(move |track| track.target.rig == rig && counts(&track.controller))
    };
    let rigs: Vec<(usize, TimeRange)> = (0..scene.rigs.len())
        .filter_map(|rig| {
            let range =
                of(rig, false).filter_map(|track| track.controller.range()).reduce(TimeRange::union)?;
            Some((rig, range))
        })
        .collect();
    let mut found = Vec::new();
    if let Some(&(first, range)) = rigs.first() {
        for &(rig, other) in &rigs[1..] {
            if other != range {
                let detail = format!(
                    "{}:{}, but '{}' is {}:{}",
                    shown(frame(other.first)),
                    shown(frame(other.last)),
                    scene.rigs[first].name,
                    shown(frame(range.first)),
                    shown(frame(range.last))
                );
                let finding = Finding::new(Code::UnevenParts, &scene.rigs[rig].name, detail).in_take(take);
                found.push(finding.at(frame(other.first), frame(other.last)));
            }
        }
    }
    for rig in 0..scene.rigs.len() {
        let ranges: Vec<_> =
            of(rig, true).filter_map(|track| Some((track, track.controller.range()?))).collect();
        let Some(whole) = ranges.iter().map(|(_, range)| *range).reduce(TimeRange::union) else { continue };
        for (track, range) in ranges {
            if range != whole {
                let detail = format!(
                    "samples {}:{}, other nodes {}:{}",
                    shown(frame(range.first)),
                    shown(frame(range.last)),
                    shown(frame(whole.first)),
                    shown(frame(whole.last))
                );
                let place = addresses.property(&track.target);
                let finding = Finding::new(Code::UnevenParts, place, detail).in_take(take);
                found.push(finding.at(frame(range.first), frame(range.last)));
            }
        }
    }
    found
}

fn layers(take: &Take) -> Vec<Finding> {
    let mut found = Vec::new();
    let percent = |weight: f64| format!("{}%", (weight * 1000.0).round() / 10.0);
    for layer in &take.layers {
        let finding = |code, detail: String| Finding::new(code, &layer.name, detail).in_take(take);
        if layer.muted {
            found.push(finding(Code::SilentLayer, "muted".into()));
        }
        match layer.weight.constant() {
            Some(0.0) => found.push(finding(Code::SilentLayer, "weight 0".into())),
            Some(weight) if weight < 1.0 => {
                found.push(finding(Code::PartialWeight, format!("weight {}", percent(weight))));
            }
            _ => {}
        }
        for track in &layer.tracks {
            let Controller::Stack(entries) = &track.controller else { continue };
            for entry in entries {
                // Zero is the way to keep something beside what counts.
                let weight = match &entry.weight {
                    Weight::Constant(weight) => *weight,
                    Weight::Curve(_) => continue,
                };
                if weight > 0.0 && weight < 1.0 {
                    let detail = format!("weight {} in a stack", percent(weight));
                    found.push(Finding::new(Code::PartialWeight, &entry.name, detail).in_take(take));
                }
            }
        }
    }
    found
}

/// What a profile wants of a take.
fn wanted(scene: &Scene, take: &Take, profile: &Profile) -> Vec<Finding> {
    let mut found = Vec::new();
    let first = scene.rate.frame(take.range.first);
    if let Some(wanted) = profile.first_frame.filter(|wanted| *wanted as f64 != first) {
        let detail = format!("starts at {}; '{}' wants {wanted}", shown(first), profile.name);
        found.push(Finding::new(Code::FirstFrame, &take.name, detail).in_take(take).at(first, first));
    }
    if !profile.holds.layers && take.layers.len() > 1 {
        let detail = format!("{} layers; '{}' holds one", take.layers.len(), profile.name);
        found.push(Finding::new(Code::NotInProfile, "layers", detail).in_take(take));
    }
    found
}

/// What a profile wants of a whole file.
fn held(scene: &Scene, profile: &Profile) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut differs = |place: &str, own: String, wanted: String| {
        let detail = format!("{own}; '{}' wants {wanted}", profile.name);
        found.push(Finding::new(Code::NotInProfile, place, detail));
    };
    if let Some(rate) = profile.rate.filter(|rate| *rate != scene.rate) {
        differs("frame rate", format!("{} fps", scene.rate), format!("{rate}"));
    }
    if let Some(unit) = profile.metres_per_unit
        && (unit - scene.space.metres_per_unit).abs() > 1e-9 * unit
    {
        differs("unit", format!("{} m", scene.space.metres_per_unit), format!("{unit} m"));
    }
    if let Some(up) = profile.up.filter(|up| *up != scene.space.up) {
        differs("up axis", scene.space.up.to_string(), up.to_string());
    }
    found
}
