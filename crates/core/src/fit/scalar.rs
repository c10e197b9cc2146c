//! Sparse keys through one channel's samples.
//!
//! Keys lie on samples, with the samples' values. From each key the longest piece is taken whose slopes keep all
//! samples within the tolerance (see [`super::piece`]); the slopes that the pieces so far leave open at a key are
//! carried along as an interval, so that neighbouring pieces can share one. At the end the slopes are chosen from
//! the back to the front. A tangent is broken only at a corner: where sharing a slope would cut the next piece
//! down to a fraction of what it could be. Runs of equal samples become flat pieces, and steps between runs holds.

use super::piece::{Interval, Slopes};
use crate::curve::Interpolation;

/// A key on a sample.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FittedKey {
    /// Which sample.
    pub index: usize,
    /// The value, that of the sample.
    pub value: f64,
    /// Slope before the key, in value a sample.
    pub slope_in: f64,
    /// Slope after the key, in value a sample; the same where the tangents are joined.
    pub slope_out: f64,
    /// How the curve goes on.
    pub interpolation: Interpolation,
}

/// The least run of equal samples that counts as a hold.
const HOLD: usize = 4;

/// Keys whose curve stays within `tolerance` of all `samples`; `keep` are samples that must become keys, ascending.
///
/// Time grows in proportion to the number of samples, times the logarithm of the longest piece.
pub fn fit(samples: &[f64], tolerance: f64, keep: &[usize]) -> Vec<FittedKey> {
    let Some(&first) = samples.first() else { return Vec::new() };
    let (low, high) = samples.iter().fold((first, first), |(low, high), &v| (low.min(v), high.max(v)));
    let scale = high - low;
    if scale <= 1e-12 * first.abs().max(tolerance) {
        return vec![key(samples, 0, 0.0, Interpolation::Cubic)];
    }
    let mut chain = Chain {
        samples,
        tolerance,
        any: Interval::everything(scale),
        pieces: Vec::new(),
        slopes: Vec::new(),
    };
    let mut keep = keep.iter().copied().filter(|&index| index > 0).peekable();
    let mut at = 0;
    let mut open = chain.any;
    while at + 1 < samples.len() {
        while keep.next_if(|&index| index <= at).is_some() {}
        let limit = keep.peek().copied().unwrap_or(samples.len() - 1).min(samples.len() - 1);
        (at, open) = chain.extend(at, open, limit);
    }
    chain.into_keys(open)
}

fn key(samples: &[f64], index: usize, slope: f64, interpolation: Interpolation) -> FittedKey {
    FittedKey { index, value: samples[index], slope_in: slope, slope_out: slope, interpolation }
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

struct Chain<'a> {
    samples: &'a [f64],
    tolerance: f64,
    any: Interval,
    pieces: Vec<Piece>,
    slopes: Vec<Slopes>,
}

impl Chain<'_> {
    /// Adds the piece that starts at `at` with a slope in `open` and ends at `limit` at the latest; returns where it
    /// ends, and the slopes that are open there.
    fn extend(&mut self, at: usize, open: Interval, limit: usize) -> (usize, Interval) {
        let flat_to = self.run_from(at).min(limit);
        if flat_to - at + 1 >= HOLD || (flat_to == limit && flat_to > at) {
            let steps = flat_to < limit && self.run_from(flat_to + 1) - flat_to >= HOLD;
            let (to, kind) = if steps { (flat_to + 1, Kind::Hold) } else { (flat_to, Kind::Flat) };
            self.pieces.push(Piece { from: at, to, kind });
            let open = if steps { self.any } else { Interval { low: 0.0, high: 0.0 } };
            return (to, open);
        }
        // A later run of equal samples is a piece of its own.
        let limit = self.next_run(at + 1, limit).unwrap_or(limit);
        let mut slopes = Slopes::default();
        let mut to = self.longest(at, open, limit, &mut slopes);
        let mut breaks = false;
        if to < limit && to - at <= 6 {
            let mut free = Slopes::default();
            let alone = self.longest(at, self.any, limit, &mut free);
            if alone - at > 3 * (to - at) {
                (to, slopes, breaks) = (alone, free, true);
            }
        }
        let open = slopes.at_end();
        self.pieces.push(Piece { from: at, to, kind: Kind::Cubic { slopes: self.slopes.len(), breaks } });
        self.slopes.push(slopes);
        (to, open)
    }

    /// The slopes that a piece may end with: any, but samples of a short piece do not hold wild ones back by
    /// themselves, so there the differences around it do.
    fn any_for(&self, at: usize, to: usize) -> Interval {
        if to - at > 3 {
            return self.any;
        }
        let around = &self.samples[at.saturating_sub(1)..(to + 2).min(self.samples.len())];
        let steepest = around.windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f64::max);
        let most = 2.0 * steepest + self.tolerance;
        Interval { low: -most, high: most }
    }

    /// The last sample equal to the one at `from` without a gap.
    fn run_from(&self, from: usize) -> usize {
        let value = self.samples[from];
        from + self.samples[from..].iter().take_while(|&&v| v == value).count() - 1
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
            // Pieces are seldom longer than this; what lies beyond is looked at again then.
            if at - from > 400 {
                return None;
            }
        }
        None
    }

    /// The farthest end of a piece from `at` whose start slope is in `open`; its slopes are left in `slopes`.
    ///
    /// The very farthest end often leaves slopes open that point away from where the samples go, for which the next
    /// piece pays. So the farthest end counts whose open slopes include that of the samples there, unless that costs
    /// more than a third of the piece.
    fn longest(&self, at: usize, open: Interval, limit: usize, slopes: &mut Slopes) -> usize {
        let mut fits =
            |to: usize| slopes.find(&self.samples[at..=to], self.tolerance, open, self.any_for(at, to));
        let mut end = farthest(at + 1, limit, &mut fits);
        if end < limit && end > at + 3 {
            let least = at + 1 + 2 * (end - at) / 3;
            let agrees = |to: &usize| {
                slopes.find(&self.samples[at..=*to], self.tolerance, open, self.any_for(at, *to))
                    && slopes.at_end().contains(self.natural_slope(*to))
            };
            if let Some(to) = (least..=end).rev().find(agrees) {
                end = to;
            }
        }
        slopes.find(&self.samples[at..=end], self.tolerance, open, self.any_for(at, end));
        end
    }

    /// The slope of the samples around one: least squares over as many as a few neighbours on each side.
    fn natural_slope(&self, index: usize) -> f64 {
        const REACH: usize = 4;
        let reach = REACH.min(index).min(self.samples.len() - 1 - index);
        if reach == 0 {
            return 0.0;
        }
        let (mut sum, mut weight) = (0.0, 0.0);
        for d in 1..=reach {
            sum += d as f64 * (self.samples[index + d] - self.samples[index - d]);
            weight += 2.0 * (d * d) as f64;
        }
        sum / weight
    }

    /// Chooses the slopes from the last key to the first.
    fn into_keys(self, open: Interval) -> Vec<FittedKey> {
        let last = self.samples.len() - 1;
        let wish =
            |range: Interval| if range.contains(0.0) && self.is_extreme(last) { 0.0 } else { range.middle() };
        let mut keys = vec![key(self.samples, last, 0.0, Interpolation::Cubic)];
        // The slope that the piece after has at the current key, and whether it may differ before the key.
        let mut after = wish(open);
        let mut is_free = true;
        for piece in self.pieces.iter().rev() {
            let end = keys.len() - 1;
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
                    let wanted = if is_free { nearest(range, 0.0, self.is_extreme(piece.to)) } else { after };
                    let end_slope = wanted.clamp(range.low, range.high);
                    keys[end].slope_in = end_slope;
                    if end == 0 {
                        keys[end].slope_out = end_slope;
                    }
                    let start = slopes.at_start(end_slope);
                    (Interpolation::Cubic, nearest(start, 0.0, self.is_extreme(piece.from)))
                }
            };
            keys.push(FittedKey {
                index: piece.from,
                value: self.samples[piece.from],
                slope_in: slope_out,
                slope_out,
                interpolation,
            });
            after = slope_out;
            is_free = matches!(piece.kind, Kind::Cubic { breaks: true, .. });
        }
        keys.reverse();
        keys
    }

    /// Whether the sample is higher or lower than both neighbours, or an end.
    fn is_extreme(&self, index: usize) -> bool {
        let s = self.samples;
        let (Some(before), Some(after)) = (index.checked_sub(1).map(|i| s[i]), s.get(index + 1)) else {
            return true;
        };
        (s[index] - before) * (after - s[index]) <= 0.0
    }
}

/// The farthest of `first..=limit` that fits, if nearer ones fit where farther ones do; `first` itself always does.
fn farthest(first: usize, limit: usize, mut fits: impl FnMut(usize) -> bool) -> usize {
    let (mut good, mut bad, mut step) = (first, limit + 1, 4);
    while good < limit {
        let to = (good + step).min(limit);
        if !fits(to) {
            bad = to;
            break;
        }
        good = to;
        step *= 2;
    }
    while bad - good > 1 {
        let middle = good + (bad - good) / 2;
        if fits(middle) { good = middle } else { bad = middle }
    }
    good
}

/// The wish where the range contains it (and it is wanted at all), else the middle.
fn nearest(range: Interval, wish: f64, wanted: bool) -> f64 {
    if wanted && range.contains(wish) { wish } else { range.middle() }
}
