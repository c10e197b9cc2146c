//! A stretch of a take that is unbaked: a layer that plays there, above samples that stay.

use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_scene::controller::{Controller, Weight};
use nimble_curve_scene::scene::{Layer, Take, Track};

/// Whether samples of a track stay where they are and a stretch of it, of so many of them, plays above them: where they are the
/// whole of what their layer comes to, and there are others outside the stretch.
pub(super) fn stays_below(take: &Take, layer: usize, track: &Track, inside: usize) -> bool {
    let all = match &track.controller {
        Controller::Samples(samples) => samples.len(),
        _ => return false,
    };
    // Between the first and the last of a stretch it plays.
    take.layers[layer].is_whole() && (2..all).contains(&inside)
}

/// What plays above the samples of one layer: the tracks of one stretch beside each other, those of other grids apart.
#[derive(Clone, Debug, Default)]
pub(super) struct Stretches {
    all: Vec<(TimeRange, Vec<Track>)>,
}

impl Stretches {
    pub(super) fn put(&mut self, track: Track, range: TimeRange) {
        match self.all.iter_mut().find(|(own, _)| *own == range) {
            Some((_, tracks)) => tracks.push(track),
            None => self.all.push((range, vec![track])),
        }
    }

    /// Puts a layer on top for each stretch.
    pub(super) fn put_into(self, layers: &mut Vec<Layer>, rate: FrameRate, take: &Take) {
        for (range, tracks) in self.all {
            let shown = |time: Ticks| (rate.frame(time) * 100.0).round() / 100.0;
            let wanted = format!("unbaked {}:{}", shown(range.first), shown(range.last));
            let is_free =
                |name: &String| !take.layers.iter().chain(&*layers).any(|layer| layer.name == *name);
            let numbered = (2..).map(|number| format!("{wanted} ({number})"));
            let name = std::iter::once(wanted.clone()).chain(numbered).find(is_free).unwrap_or(wanted);
            let weight = Weight::Curve(inside(range, take));
            layers.push(Layer { name, weight, ..Layer::base(tracks) });
        }
    }
}

/// The weight of a stretch: all of it from the first instant up to the last, at which the samples below are on their own again.
fn inside(range: TimeRange, take: &Take) -> Curve {
    let held = |time: Ticks, weight: f64| Key::new(time, weight).with_interpolation(Interpolation::Hold);
    let start = take.key_range().map_or(take.range.first, |keys| keys.first.min(take.range.first));
    let before = (start < range.first).then(|| held(start, 0.0));
    let keys = before.into_iter().chain([held(range.first, 1.0), held(range.last, 0.0)]);
    Curve::new(keys.collect())
        .expect("a stretch has two samples at least, and begins where or behind where all begins")
}
