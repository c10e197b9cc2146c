//! When a foot stands: slow and low for long enough.

use glam::DVec3;

/// Slower than this, in leg lengths a second, a foot stands.
const STILL: f64 = 0.12;
/// A foot stands no higher than this above its lowest place, in leg lengths.
const LOW: f64 = 0.12;
/// The least time for which it stands, in seconds.
const LEAST: f64 = 0.1;

/// The runs of frames, first and last of each, in which a foot stands.
///
/// `places` holds where it is at one frame after another, `fps` of them a second; `up` is the axis that points up and
/// `leg` the length of the leg, in the same units.
pub(super) fn contacts(places: &[DVec3], up: usize, leg: f64, fps: f64) -> Vec<(usize, usize)> {
    let least = ((LEAST * fps).ceil() as usize).max(3);
    let lowest = places.iter().map(|place| place[up]).fold(f64::INFINITY, f64::min);
    let stands = |index: usize| {
        let (a, b) = (index.saturating_sub(1), (index + 1).min(places.len() - 1));
        let speed = (places[b] - places[a]).length() * fps / (b - a).max(1) as f64;
        speed < STILL * leg && places[index][up] < lowest + LOW * leg
    };
    let mut runs = Vec::new();
    let mut start = None;
    for index in 0..places.len() {
        match (stands(index), start) {
            (true, None) => start = Some(index),
            (false, Some(from)) => {
                runs.push((from, index - 1));
                start = None;
            }
            _ => {}
        }
    }
    runs.extend(start.map(|from| (from, places.len() - 1)));
    runs.retain(|(from, to)| to - from + 1 >= least);
    runs
}

/// The diagonal of the box that holds all places.
pub(super) fn spread(places: impl Iterator<Item = DVec3>) -> f64 {
    let start = (DVec3::INFINITY, DVec3::NEG_INFINITY);
    let (low, high) = places.fold(start, |(low, high), place| (low.min(place), high.max(place)));
    if low.x > high.x { 0.0 } else { (high - low).length() }
}
