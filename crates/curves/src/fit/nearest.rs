//! Of all slopes with joined tangents those that come nearest to the samples: least squares along a chain of pieces.
//!
//! Each piece ties the slopes at its two ends, so that the normal equations have three diagonals: slopes are eliminated from
//! the front, and chosen from the back, where each may first be brought into the range that it is allowed.

use super::terms::Lengths;

/// The slopes of a piece that come nearest to the samples of it and of all pieces before whose tangents join.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Nearest {
    /// That at the start, where that at the end is zero, and how much less it is for each unit of that.
    at_rest: f64,
    rate: f64,
    /// That at the end, if nothing comes after.
    pub end: f64,
}

impl Nearest {
    /// The slope at the start for one at the end.
    pub fn start(&self, end: f64) -> f64 {
        self.at_rest - self.rate * end
    }
}

/// Pieces from the front on: a slope x at the end of the last one costs them `square·x² − 2·cross·x`.
#[derive(Default)]
pub(super) struct NearestChain {
    square: f64,
    cross: f64,
}

impl NearestChain {
    /// The next piece starts with a slope of its own.
    pub fn breaks(&mut self) {
        *self = NearestChain::default();
    }

    /// The next piece, through the first and the last of its samples.
    pub fn next(&mut self, lengths: Lengths, samples: &[f64]) -> Nearest {
        let sums = lengths.sums(samples);
        let (own, toward) = (self.square + sums.starts, self.cross + sums.start);
        let rate = if own > 0.0 { sums.both / own } else { 0.0 };
        (self.square, self.cross) = (sums.ends - rate * sums.both, sums.end - rate * toward);
        let ratio = |cross: f64, square: f64| if square > 0.0 { cross / square } else { 0.0 };
        Nearest { at_rest: ratio(toward, own), rate, end: ratio(self.cross, self.square) }
    }
}
