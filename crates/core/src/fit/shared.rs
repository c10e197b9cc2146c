//! One set of key times for several channels: the longest pieces along which all of them stay within their tolerances.

use super::FittedKey;
use super::piece::{Interval, Slopes};
use crate::curve::Interpolation;
use crate::search::farthest;

/// One channel with its tolerance.
#[derive(Clone, Copy, Debug)]
pub struct Channel<'a> {
    /// Its samples; all channels have as many.
    pub samples: &'a [f64],
    /// The largest error at a sample.
    pub tolerance: f64,
}

/// Keys of all channels at common times; `keep` are samples that must become keys, ascending.
///
/// Tangents join. Channels that never change get their keys like all others.
pub fn fit_shared(channels: &[Channel<'_>], keep: &[usize]) -> Vec<Vec<FittedKey>> {
    let Some(count) = channels.first().map(|channel| channel.samples.len()) else { return Vec::new() };
    if count == 0 {
        return vec![Vec::new(); channels.len()];
    }
    let any: Vec<Interval> = channels
        .iter()
        .map(|channel| {
            let (low, high) = channel
                .samples
                .iter()
                .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), &v| (low.min(v), high.max(v)));
            Interval::everything((high - low).max(channel.tolerance))
        })
        .collect();
    let mut fit = Fit { channels, any, slopes: vec![Slopes::default(); channels.len()] };
    let mut open = fit.any.clone();
    let mut ends = vec![0];
    let mut pieces: Vec<Vec<Slopes>> = Vec::new();
    let mut keep = keep.iter().copied().filter(|&index| index > 0).peekable();
    let mut at = 0;
    let mut usual = 8;
    while at + 1 < count {
        while keep.next_if(|&index| index <= at).is_some() {}
        let limit = keep.peek().copied().unwrap_or(count - 1).min(count - 1);
        let to = fit.farthest(at, limit, &open, usual);
        usual = (to - at).max(2);
        if !fit.fits(at, to, &open) {
            // Two neighbouring samples fit with slopes of their own.
            open.clone_from(&fit.any);
            fit.fits(at, to, &open);
        }
        open = fit.slopes.iter().map(Slopes::at_end).collect();
        pieces.push(fit.slopes.clone());
        ends.push(to);
        at = to;
    }
    (0..channels.len()).map(|index| chosen(channels[index].samples, &ends, &pieces, index)).collect()
}

struct Fit<'a> {
    channels: &'a [Channel<'a>],
    any: Vec<Interval>,
    slopes: Vec<Slopes>,
}

impl Fit<'_> {
    fn fits(&mut self, from: usize, to: usize, open: &[Interval]) -> bool {
        let each = self.channels.iter().zip(&mut self.slopes).zip(open.iter().zip(&self.any));
        let mut all = true;
        for ((channel, slopes), (&open, &any)) in each {
            all &= slopes.find(&channel.samples[from..=to], channel.tolerance, open, any);
            if !all {
                break;
            }
        }
        all
    }

    /// The farthest end of a piece, and then a little nearer where that leaves all channels the slopes they go on with.
    fn farthest(&mut self, from: usize, limit: usize, open: &[Interval], usual: usize) -> usize {
        let good = farthest(from + 1, limit, usual / 2, |to| self.fits(from, to, open));
        if good == limit || good < from + 4 {
            return good;
        }
        let least = from + 2 * (good - from) / 3;
        let agrees = |fit: &mut Self, to: usize| {
            fit.fits(from, to, open)
                && fit.channels.iter().zip(&fit.slopes).all(|(channel, slopes)| {
                    let natural = 0.5 * (channel.samples[to + 1] - channel.samples[to - 1]);
                    let range = slopes.at_end();
                    let slack = 0.2 * range.width();
                    range.low - slack <= natural && natural <= range.high + slack
                })
        };
        (least..=good).rev().find(|&to| agrees(self, to)).unwrap_or(good)
    }
}

/// The keys of one channel: slopes from the last piece to the first.
fn chosen(samples: &[f64], ends: &[usize], pieces: &[Vec<Slopes>], channel: usize) -> Vec<FittedKey> {
    let last = ends.len() - 1;
    let mut keys: Vec<FittedKey> =
        ends.iter().map(|&end| FittedKey::on(end, samples[end], 0.0, Interpolation::Cubic)).collect();
    let mut wanted: Option<f64> = None;
    for index in (0..last).rev() {
        let slopes = &pieces[index][channel];
        let range = slopes.at_end();
        let end = range.nearly(wanted.unwrap_or(0.0));
        keys[index + 1].slope_in = end;
        if wanted.is_none() {
            keys[index + 1].slope_out = end;
        }
        let start = slopes.at_start(end);
        let slope = if start.contains(0.0) { 0.0 } else { start.middle() };
        keys[index].slope_out = slope;
        keys[index].slope_in = slope;
        wanted = Some(slope);
    }
    keys
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::is_within;
    use super::*;

    proptest! {
        #[test]
        fn all_channels_keep_their_bounds_at_common_times(
            seeds in prop::collection::vec(0..1000_i32, 1..5), tolerance in 0.01..0.5_f64
        ) {
            let made: Vec<Vec<f64>> = seeds.iter().map(|&seed| (0..150).map(|i| {
                let t = f64::from(i);
                (0.05 * t + f64::from(seed)).sin() * 3.0 + f64::from((i * 7919 + seed) % 17) * 0.01
            }).collect()).collect();
            let channels: Vec<Channel<'_>> =
                made.iter().map(|samples| Channel { samples, tolerance }).collect();
            let keys = fit_shared(&channels, &[40]);
            for (channel, keys) in channels.iter().zip(&keys) {
                prop_assert!(is_within(channel.samples, keys, tolerance * (1.0 + 1e-9)));
            }
            let times = |keys: &Vec<FittedKey>| keys.iter().map(|key| key.at).collect::<Vec<_>>();
            prop_assert!(keys.iter().all(|own| times(own) == times(&keys[0])));
            prop_assert!(times(&keys[0]).contains(&40.0));
        }
    }
}
