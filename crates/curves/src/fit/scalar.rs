//! Sparse keys through one channel's samples.
//!
//! Keys lie on samples, with the samples' values. [`super::path`] finds the fewest pieces whose slopes keep all samples
//! within the tolerance (see [`super::piece`]) and whose tangents join. At the end the slopes are chosen from the back to
//! the front, flat at extremes where they can be. A tangent is broken only at a corner: where sharing a slope would cut
//! the next piece down to a fraction of what it could be. Runs of equal samples become flat pieces, and steps between
//! runs holds.

use super::nearest::{Nearest, NearestChain};
use super::path::Stretch;
use super::piece::{Interval, Slopes};
use super::readings::{HOLD, Readings};
use super::{ErrorBound, FittedKey, Handles};
use crate::curve::Interpolation;

/// Keys whose curve stays within the room around all `samples` and near what is plausible between them; `keep` are samples that must become keys, ascending.
///
/// Time grows in proportion to the number of samples, times the logarithm of the longest piece.
pub fn fit(samples: &[f64], room: ErrorBound<'_>, keep: &[usize], handles: Handles) -> Vec<FittedKey> {
    let Some(&first) = samples.first() else { return Vec::new() };
    let (low, high) = samples.iter().fold((first, first), |(low, high), &v| (low.min(v), high.max(v)));
    let scale = high - low;
    if scale <= 1e-12 * first.abs().max(room.tolerance) {
        return vec![key(samples, 0, 0.0, Interpolation::Cubic)];
    }
    let readings;
    let mut room = room;
    if room.read.is_none() {
        readings = Readings::of(samples);
        room = room.with_readings(&readings, samples);
    }
    let plain = fit_on(samples, room, keep, 1, Handles::Plain);
    if handles == Handles::Plain {
        return plain;
    }
    // The search does not look at everything: with more to choose from it may take a turn for the worse.
    let weighted = fit_on(samples, room, keep, 1, Handles::Weighted);
    if weighted.len() < plain.len() { weighted } else { plain }
}

/// The same with keys on every so many samples only, whose number has to be a multiple of that and one more; times count in
/// samples all the same, and so does `keep`. What holds between samples is not looked at, as these lie close.
pub fn fit_dense(samples: &[f64], room: ErrorBound<'_>, keep: &[usize], stride: usize) -> Vec<FittedKey> {
    let Some(&first) = samples.first() else { return Vec::new() };
    if samples.iter().all(|sample| *sample == first) {
        return vec![key(samples, 0, 0.0, Interpolation::Cubic)];
    }
    let keep: Vec<usize> = keep.iter().map(|index| index / stride).collect();
    fit_on(samples, room, &keep, stride, Handles::Plain)
}

/// Fits with keys on every so many samples.
fn fit_on(
    samples: &[f64],
    room: ErrorBound<'_>,
    keep: &[usize],
    stride: usize,
    handles: Handles,
) -> Vec<FittedKey> {
    let (low, high) =
        samples.iter().fold((samples[0], samples[0]), |(low, high), &v| (low.min(v), high.max(v)));
    let any = Interval::everything(high - low);
    let run = |start: Option<f64>| {
        let open = start.map_or(any, |slope| Interval { low: slope, high: slope });
        let (pieces, slopes) = (Vec::new(), Vec::new());
        let mut chain = Chain { samples, stride, handles, room, any, pieces, slopes, last_slope: start };
        chain.run(open, keep)
    };
    // A loop goes on at its end as it begins: the slope there is what the start is given, if need be again.
    let Some(mut slope) = loop_slope(samples, room.tolerance) else { return run(None) };
    let mut keys = run(Some(slope));
    for _ in 0..4 {
        let last = keys[keys.len() - 1].slope_in;
        if keys[0].slope_out == last {
            break;
        }
        slope = last;
        keys = run(Some(slope));
    }
    keys
}

/// The slope at both ends of samples that loop: first and last value agree, and the slopes there, each by the parabola
/// through three samples. It is that across the seam.
fn loop_slope(samples: &[f64], tolerance: f64) -> Option<f64> {
    let last = samples.len().checked_sub(1).filter(|&last| last >= 8)?;
    let s = |index: usize| samples[index];
    let first = 0.5 * (4.0 * s(1) - 3.0 * s(0) - s(2));
    let end = 0.5 * (3.0 * s(last) - 4.0 * s(last - 1) + s(last - 2));
    let closes = (s(last) - s(0)).abs() <= 1e-6 * tolerance;
    (closes && (first - end).abs() <= tolerance).then_some(0.5 * (s(1) - s(last - 1)))
}

fn key(samples: &[f64], index: usize, slope: f64, interpolation: Interpolation) -> FittedKey {
    FittedKey::on(index, samples[index], slope, interpolation)
}

/// One piece of the chain.
struct Piece {
    from: usize,
    to: usize,
    kind: Kind,
}

enum Kind {
    /// Equal samples.
    Flat,
    /// Equal samples up to the one before the next key, where the value jumps.
    Hold,
    /// A cubic; its slopes stand at this place in the chain's list.
    Cubic { slopes: usize, breaks: bool },
}

/// Pieces count by keys, each a stride of samples after the one before.
struct Chain<'a> {
    samples: &'a [f64],
    stride: usize,
    handles: Handles,
    room: ErrorBound<'a>,
    any: Interval,
    pieces: Vec<Piece>,
    slopes: Vec<Slopes>,
    /// The slope that the last key should have.
    last_slope: Option<f64>,
}

impl Chain<'_> {
    /// The keys of all samples, the first with a slope in `open`.
    fn run(&mut self, mut open: Interval, keep: &[usize]) -> Vec<FittedKey> {
        let mut keep = keep.iter().copied().filter(|&index| index > 0).peekable();
        let mut at = 0;
        let last = self.last();
        while at < last {
            while keep.next_if(|&index| index <= at).is_some() {}
            let limit = keep.peek().copied().unwrap_or(last).min(last);
            (at, open) = self.extend(at, open, limit);
        }
        self.keys(open)
    }

    /// Adds the piece that starts at `at` with a slope in `open` and ends at `limit` at the latest; returns where it
    /// ends, and the slopes that are open there.
    fn extend(&mut self, at: usize, open: Interval, limit: usize) -> (usize, Interval) {
        let flat_to = self.run_from(at).min(limit);
        if flat_to - at + 1 >= HOLD || (flat_to == limit && flat_to > at) {
            // A hold leaves what lies between its end and the next value to nobody.
            let steps = flat_to < limit
                && self.run_from(flat_to + 1) - flat_to >= HOLD
                && self.room.may_leap(flat_to);
            let (to, kind) = if steps { (flat_to + 1, Kind::Hold) } else { (flat_to, Kind::Flat) };
            self.pieces.push(Piece { from: at, to, kind });
            let open = if steps { self.any } else { Interval { low: 0.0, high: 0.0 } };
            return (to, open);
        }
        // A later run of equal samples is a piece of its own, and meets what comes before it at rest.
        let next_run = self.next_run(at + 1, limit);
        let stretch = Stretch {
            samples: self.samples,
            stride: self.stride,
            from: at,
            to: next_run.unwrap_or(limit),
            room: self.room,
            any: self.any,
            handles: self.handles,
        };
        let is_last = stretch.to == self.last();
        let at_rest = (next_run.is_some() || self.is_extreme(stretch.to)).then_some(0.0);
        let wanted = self.last_slope.filter(|_| is_last).or(at_rest);
        let mut open = open;
        let mut slopes = Slopes::default();
        for step in stretch.fewest(open, wanted) {
            stretch.take(&mut slopes, &step);
            open = slopes.at_end();
            let kind = Kind::Cubic { slopes: self.slopes.len(), breaks: step.breaks };
            self.pieces.push(Piece { from: step.from, to: step.to, kind });
            self.slopes.push(slopes.found());
        }
        (stretch.to, open)
    }

    /// The last place for a key.
    fn last(&self) -> usize {
        (self.samples.len() - 1) / self.stride
    }

    fn key(&self, place: usize, slope: f64, interpolation: Interpolation) -> FittedKey {
        key(self.samples, place * self.stride, slope, interpolation)
    }

    /// The last sample equal to the one at `from` without a gap, and without anything else that is plausible between.
    fn run_from(&self, from: usize) -> usize {
        let first = from * self.stride;
        let value = self.samples[first];
        let equal = |to: &usize| self.samples[*to] == value && self.room.may_leap(*to - 1);
        let last = (first + 1..self.samples.len()).take_while(equal).last().unwrap_or(first);
        last / self.stride
    }

    /// Where the next run of equal samples starts, at `from` or later.
    fn next_run(&self, from: usize, limit: usize) -> Option<usize> {
        let mut at = from;
        while at < limit {
            let end = self.run_from(at);
            if end - at + 1 >= HOLD {
                return Some(at);
            }
            at = end + 1;
        }
        None
    }

    /// Chooses the slopes from the last key to the first.
    fn keys(&self, open: Interval) -> Vec<FittedKey> {
        let last = self.last();
        let nearest = self.nearest();
        let wish = |range: Interval| match (self.last_slope, nearest.last()) {
            (Some(slope), _) => slope.clamp(range.low, range.high),
            (None, Some(nearest)) => self.pleasing(range, last, nearest.end),
            (None, None) => range.middle(),
        };
        let mut keys = vec![self.key(last, 0.0, Interpolation::Cubic)];
        // The slope that the piece after has at the current key, and whether it may differ before the key.
        let mut after = wish(open);
        let mut is_free = true;
        for (piece, nearest) in self.pieces.iter().zip(&nearest).rev() {
            let end = keys.len() - 1;
            let mut handle_out = None;
            let (interpolation, slope_out) = match &piece.kind {
                Kind::Flat => {
                    keys[end].slope_in = 0.0;
                    (Interpolation::Cubic, 0.0)
                }
                Kind::Hold => {
                    keys[end].slope_in = keys[end].slope_out;
                    (Interpolation::Hold, 0.0)
                }
                Kind::Cubic { slopes, .. } => {
                    let slopes = &self.slopes[*slopes];
                    let range = slopes.at_end();
                    let wanted = match (is_free, end) {
                        (true, 0) => wish(range),
                        (true, _) => self.pleasing(range, piece.to, nearest.end),
                        (false, _) => after,
                    };
                    let end_slope = range.nearly(wanted);
                    keys[end].slope_in = end_slope;
                    if !slopes.lengths().are_plain() {
                        let length = ((piece.to - piece.from) * self.stride) as f64;
                        let (out, into) = slopes.lengths().parts();
                        (handle_out, keys[end].handles.0) = (Some(out * length), Some(into * length));
                    }
                    if end == 0 {
                        keys[end].slope_out = end_slope;
                    }
                    let start = slopes.at_start(end_slope);
                    (Interpolation::Cubic, self.pleasing(start, piece.from, nearest.start(end_slope)))
                }
            };
            let start = self.key(piece.from, slope_out, interpolation);
            keys.push(FittedKey { handles: (None, handle_out), ..start });
            after = slope_out;
            is_free = matches!(piece.kind, Kind::Cubic { breaks: true, .. });
        }
        keys.reverse();
        keys
    }

    /// Whether the sample is higher or lower than both neighbours, or an end.
    fn is_extreme(&self, place: usize) -> bool {
        let (s, index) = (self.samples, place * self.stride);
        let (Some(before), Some(after)) = (index.checked_sub(1).map(|i| s[i]), s.get(index + 1)) else {
            return true;
        };
        (s[index] - before) * (after - s[index]) <= 0.0
    }

    /// The slope of a range that a key at a sample should have: flat at an extreme, else the one that is nearest to all
    /// samples, and not at the very rim of what is allowed.
    fn pleasing(&self, range: Interval, place: usize, nearest: f64) -> f64 {
        if range.contains(0.0) && self.is_extreme(place) {
            return 0.0;
        }
        let rim = RIM * range.width();
        nearest.clamp(range.low + rim, range.high - rim)
    }

    /// For each piece the slopes that come nearest to the samples.
    fn nearest(&self) -> Vec<Nearest> {
        let mut chain = NearestChain::default();
        let each = self.pieces.iter().map(|piece| match &piece.kind {
            Kind::Cubic { slopes, breaks } => {
                if *breaks {
                    chain.breaks();
                }
                let samples = &self.samples[piece.from * self.stride..=piece.to * self.stride];
                chain.next(self.slopes[*slopes].lengths(), samples)
            }
            Kind::Flat | Kind::Hold => {
                chain.breaks();
                Nearest::default()
            }
        });
        each.collect()
    }
}

/// A slope keeps away from the ends of its range by this part of it.
const RIM: f64 = 0.02;
