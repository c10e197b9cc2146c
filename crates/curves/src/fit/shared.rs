//! One set of key times for several channels: the fewest pieces along which all of them stay within their tolerances.
//!
//! The search is that of [`super::path`], with a set of open slopes for each channel.

use super::piece::{Interval, Slopes};
use super::readings::Readings;
use super::{ErrorBound, FittedKey};
use crate::curve::Interpolation;
use crate::search;

/// How many ends are kept for so many pieces.
const BEAM: usize = 6;
/// How far beyond the farthest that fits farther ends are looked for.
const BEYOND: usize = 3;
/// After a longer piece was found beyond some that do not fit, so many pieces more are looked for there, and else only every
/// third: what is smooth has none.
const HOPE: usize = 12;

/// One channel with its tolerance.
#[derive(Clone, Copy, Debug)]
pub struct Channel<'a> {
    /// Its samples; all channels have as many.
    pub samples: &'a [f64],
    /// How far the curve may lie from them.
    pub room: ErrorBound<'a>,
}

/// Keys of all channels at common times; `keep` are samples that must become keys, ascending.
///
/// Tangents join. Channels that never change get their keys like all others.
pub fn fit_shared(channels: &[Channel<'_>], keep: &[usize]) -> Vec<Vec<FittedKey>> {
    let read = |channel: &Channel<'_>| match channel.room.read {
        Some(_) => Readings::default(),
        None => Readings::of(channel.samples),
    };
    let readings: Vec<Readings> = channels.iter().map(read).collect();
    let read = channels.iter().zip(&readings);
    let read: Vec<Channel<'_>> = read
        .map(|(&channel, readings)| match channel.room.read {
            Some(_) => channel,
            None => Channel { room: channel.room.with_readings(readings, channel.samples), ..channel },
        })
        .collect();
    fit_shared_on(&read, keep, 1)
}

/// The same with keys on every so many samples only, whose number has to be a multiple of that and one more; times count in
/// samples all the same, and so does `keep`. What holds between samples is not looked at, as these lie close.
pub fn fit_shared_dense(channels: &[Channel<'_>], keep: &[usize], stride: usize) -> Vec<Vec<FittedKey>> {
    let keep: Vec<usize> = keep.iter().map(|index| index / stride).collect();
    fit_shared_on(channels, &keep, stride)
}

/// Fits with keys on every so many samples; what is kept counts in these.
fn fit_shared_on(channels: &[Channel<'_>], keep: &[usize], stride: usize) -> Vec<Vec<FittedKey>> {
    let Some(count) = channels.first().map(|channel| channel.samples.len()) else { return Vec::new() };
    if count == 0 {
        return vec![Vec::new(); channels.len()];
    }
    let count = (count - 1) / stride + 1;
    let any: Vec<Interval> = channels
        .iter()
        .map(|channel| {
            let (low, high) = channel
                .samples
                .iter()
                .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), &v| (low.min(v), high.max(v)));
            Interval::everything((high - low).max(channel.room.tolerance))
        })
        .collect();
    let mut fit =
        Fit { channels, stride, any, slopes: vec![Slopes::default(); channels.len()], strictest: 0 };
    let mut open = fit.any.clone();
    let mut ends = vec![0];
    let mut pieces: Vec<Vec<Slopes>> = Vec::new();
    let kept = keep.iter().copied().filter(|&index| 0 < index && index < count - 1);
    for limit in kept.chain((count > 1).then_some(count - 1)) {
        for to in fit.fewest(ends[ends.len() - 1], limit, &open) {
            if !fit.fits(ends[ends.len() - 1], to, &open) {
                // Two neighbouring samples fit with slopes of their own.
                fit.alone(ends[ends.len() - 1]);
            }
            open = fit.ends();
            pieces.push(fit.slopes.clone());
            ends.push(to);
        }
    }
    (0..channels.len())
        .map(|index| chosen(channels[index].samples, (&ends, stride), &pieces, index))
        .collect()
}

/// Where so many pieces may end.
struct State {
    to: usize,
    /// The slopes that are open there, channel by channel.
    open: Vec<Interval>,
    /// Position of the piece before in the layer before.
    parent: usize,
}

struct Fit<'a> {
    channels: &'a [Channel<'a>],
    /// Pieces end on every so many samples.
    stride: usize,
    any: Vec<Interval>,
    slopes: Vec<Slopes>,
    /// The channel that had no slopes last: it mostly has none next time, and is looked at first.
    strictest: usize,
}

impl Fit<'_> {
    /// Whether all channels have slopes for a piece.
    fn fits(&mut self, from: usize, to: usize, open: &[Interval]) -> bool {
        let (from, to) = (from * self.stride, to * self.stride);
        let mut finds = |index: usize| {
            let channel = &self.channels[index];
            let (samples, room) = (&channel.samples[from..=to], channel.room.part(from, to));
            self.slopes[index].find(samples, room, open[index], self.any[index])
        };
        let strictest = self.strictest;
        if !finds(strictest) {
            return false;
        }
        let others = (0..self.channels.len()).filter(|&index| index != strictest);
        let fails = others.into_iter().find(|&index| !finds(index));
        self.strictest = fails.unwrap_or(strictest);
        fails.is_none()
    }

    /// Finds slopes for two neighbouring samples, whatever those before them left open.
    fn alone(&mut self, from: usize) {
        for ((channel, slopes), &any) in self.channels.iter().zip(&mut self.slopes).zip(&self.any) {
            let (from, to) = (from * self.stride, (from + 1) * self.stride);
            let samples = &channel.samples[from..=to];
            let room = channel.room.part(from, to);
            if !slopes.find(samples, room, any, any) {
                slopes.nearest(samples, room);
            }
        }
    }

    /// The slopes that are open at the end of the piece that fitted last.
    fn ends(&self) -> Vec<Interval> {
        self.slopes.iter().map(Slopes::at_end).collect()
    }

    /// The ends of the fewest pieces found from one sample to another, the first one starting with slopes in `open`.
    fn fewest(&mut self, from: usize, limit: usize, open: &[Interval]) -> Vec<usize> {
        let mut layers = vec![vec![State { to: from, open: open.to_vec(), parent: 0 }]];
        let (mut usual, mut hope) = (8, HOPE);
        while layers[layers.len() - 1][0].to < limit {
            let layer = &layers[layers.len() - 1];
            let beyond = if hope > 0 || layers.len().is_multiple_of(3) { BEYOND } else { 1 };
            let (next, leapt) = self.next_layer(layer, limit, usual, beyond);
            hope = if leapt { HOPE } else { hope.saturating_sub(1) };
            usual = (next[0].to - layer[0].to).max(2);
            layers.push(next);
        }
        let mut ends = Vec::with_capacity(layers.len() - 1);
        let mut position = 0;
        for layer in layers[1..].iter().rev() {
            ends.push(layer[position].to);
            position = layer[position].parent;
        }
        ends.reverse();
        ends
    }

    /// What one piece more reaches, the farthest end first; ends `beyond` some that do not fit are looked for. Whether there were such.
    fn next_layer(
        &mut self,
        layer: &[State],
        limit: usize,
        usual: usize,
        beyond: usize,
    ) -> (Vec<State>, bool) {
        let front = layer[0].to;
        let mut farthest =
            search::farthest(front + 1, limit, usual / 2, |to| self.fits(front, to, &layer[0].open));
        // As far as the search tells, no end beyond that fits from the first state.
        let reach = farthest;
        let mut leapt = false;
        for state in &layer[1..] {
            // In noise longer pieces may fit where shorter ones do not.
            while let Some(to) =
                (farthest + 1..=limit.min(farthest + beyond)).find(|&to| self.fits(state.to, to, &state.open))
            {
                leapt |= to > farthest + 1;
                farthest = to;
            }
        }
        let behind = ((farthest - layer[layer.len() - 1].to) / 2).max(2);
        let mut found: Vec<State> = Vec::with_capacity(BEAM);
        for to in (front + 1..=farthest).rev() {
            if found.len() == BEAM || (!found.is_empty() && to + behind < farthest) {
                break;
            }
            let skipped = usize::from(to > reach);
            let parent = layer.iter().skip(skipped).position(|state| self.fits(state.to, to, &state.open));
            found.extend(parent.map(|parent| parent + skipped).map(|parent| State {
                to,
                open: self.ends(),
                parent,
            }));
        }
        if found.is_empty() {
            // Neighbouring samples fit with slopes of their own, if not with those that are open.
            found.push(State { to: front + 1, open: self.any.clone(), parent: 0 });
        }
        (found, leapt)
    }
}

/// The keys of one channel: slopes from the last piece to the first, in the midst of what is allowed, so that channels that
/// share a bound seldom come to more than it together.
fn chosen(
    samples: &[f64],
    (ends, stride): (&[usize], usize),
    pieces: &[Vec<Slopes>],
    channel: usize,
) -> Vec<FittedKey> {
    let last = ends.len() - 1;
    let on = |end: usize| FittedKey::on(end, samples[end], 0.0, Interpolation::Cubic);
    let mut keys: Vec<FittedKey> = ends.iter().map(|&end| on(end * stride)).collect();
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
                made.iter().map(|samples| Channel { samples, room: ErrorBound::even(tolerance) }).collect();
            let keys = fit_shared(&channels, &[40]);
            for (channel, keys) in channels.iter().zip(&keys) {
                prop_assert!(is_within(channel.samples, keys, ErrorBound::even(tolerance * (1.0 + 1e-9))));
            }
            let times = |keys: &Vec<FittedKey>| keys.iter().map(|key| key.at).collect::<Vec<_>>();
            prop_assert!(keys.iter().all(|own| times(own) == times(&keys[0])));
            prop_assert!(times(&keys[0]).contains(&40.0));
        }
    }
}
