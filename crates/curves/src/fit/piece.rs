//! One cubic piece between two samples: which pairs of end slopes keep every sample within the tolerance.
//!
//! With the end values fixed, the error at each sample is linear in the two end slopes, so the slopes that keep it
//! within ±tolerance lie between two parallel lines, and those that keep all samples within it form a convex
//! polygon. The method is the cutting of half-planes (Preparata and Shamos, *Computational Geometry*, 1985); it is
//! exact: an empty polygon means that no slopes at all will do.

use super::terms::{Lengths, Term};
use super::{ErrorBound, Read};

/// A range of slopes or errors, both ends included.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Interval {
    /// The least.
    pub low: f64,
    /// The greatest.
    pub high: f64,
}

impl Interval {
    /// All slopes, for numbers of ordinary size.
    pub fn everything(scale: f64) -> Interval {
        Interval { low: -1e3 * scale, high: 1e3 * scale }
    }

    /// The least that holds some values.
    pub fn around(values: &[f64]) -> Interval {
        let none = Interval { low: f64::INFINITY, high: f64::NEG_INFINITY };
        let take = |all: Interval, v: &f64| Interval { low: all.low.min(*v), high: all.high.max(*v) };
        values.iter().fold(none, take)
    }

    /// How far it reaches.
    pub fn width(self) -> f64 {
        self.high - self.low
    }

    /// The value in its middle.
    pub fn middle(self) -> f64 {
        0.5 * (self.low + self.high)
    }

    /// A value that the range holds but for rounding; the middle for one that it does not.
    pub fn nearly(self, value: f64) -> f64 {
        let slack = 1e-6 * self.width() + 1e-12 * value.abs();
        if self.low - slack <= value && value <= self.high + slack {
            value.clamp(self.low, self.high)
        } else {
            self.middle()
        }
    }

    /// The value in it that is nearest to one.
    pub fn nearest(self, value: f64) -> f64 {
        value.max(self.low).min(self.high)
    }

    /// Whether a value lies in it.
    pub fn contains(self, value: f64) -> bool {
        self.low <= value && value <= self.high
    }
}

/// The pairs of slopes (at the start, at the end) that keep a piece within its tolerance: a convex polygon.
#[derive(Clone, Debug, Default)]
pub struct Slopes {
    corners: Vec<(f64, f64)>,
    spare: Vec<(f64, f64)>,
    /// The box around the polygon by sum and difference of the slopes, as middle and half width: polygons are long along
    /// the sum and narrow across it.
    sum: (f64, f64),
    difference: (f64, f64),
    /// Whether the box is kept: it pays along long pieces only.
    boxed: bool,
    /// How long the handles are.
    lengths: Lengths,
}

/// A polygon of more corners loses those that hold the least: along what is smooth each sample cuts off a sliver, and what a
/// search does takes as long as there are corners.
const MOST_CORNERS: usize = 16;
/// From so many samples on the box pays.
const LONG: usize = 24;
/// Up to so many samples a piece may bend between two of them so that halfway does not tell.
const CURVED: usize = 3;
/// Eighths of the way from one sample to the next, the middle first: it mostly tells.
const EIGHTHS: [f64; 7] = [0.5, 0.25, 0.75, 0.125, 0.875, 0.375, 0.625];

impl Slopes {
    /// The same polygon to come, of pieces with handles of other lengths.
    pub fn set_lengths(&mut self, lengths: Lengths) {
        self.lengths = lengths;
    }

    /// How long the handles are.
    pub fn lengths(&self) -> Lengths {
        self.lengths
    }

    /// Finds the slopes for the piece through the first and the last of `samples`, those at the start being in
    /// `start`; slopes are in value a sample. Returns whether there are any.
    pub fn find(&mut self, samples: &[f64], room: ErrorBound<'_>, start: Interval, any: Interval) -> bool {
        let at_samples = match room.by_sample {
            None => {
                let even = Interval { low: -room.tolerance, high: room.tolerance };
                self.find_within(samples, |_| even, start, any)
            }
            Some(room) => self.find_within(samples, |index| room[index], start, any),
        };
        at_samples && (room.read.is_none() || self.find_between(samples, room))
    }

    /// Keeps what is plausible between the samples, too. Within a piece the samples see to that; its first and its last
    /// interval have a sample on one side only, and short pieces bend as they like.
    fn find_between(&mut self, samples: &[f64], room: ErrorBound<'_>) -> bool {
        let last = samples.len() - 1;
        let (start, rise) = (samples[0], samples[last] - samples[0]);
        let lengths = self.lengths;
        let fits = |slopes: &mut Slopes, index: usize, u: f64, wanted: Interval| {
            let term = lengths.term_at(index as f64 + u, last);
            let straight = start + rise * term.rise;
            let wanted = Interval { low: wanted.low - straight, high: wanted.high - straight };
            slopes.confine(term.start, term.end, wanted)
        };
        let marks = if last > CURVED { &EIGHTHS[..1] } else { &EIGHTHS };
        let Some(Read { readings, from, .. }) = room.read else { return true };
        let mut end_fits = |index: usize, u: f64| fits(self, index, u, room.between(index, u));
        if !marks.iter().all(|&u| end_fits(0, u) && (last == 1 || end_fits(last - 1, u))) {
            return false;
        }
        let narrow = readings.narrow(from, from + last);
        if narrow.is_empty() {
            return true;
        }
        self.boxed = true;
        self.measure();
        narrow.iter().all(|(index, narrowed)| {
            narrowed.bands.iter().zip(1..).all(|(band, eighth)| {
                let (index, u) = (index - from, 0.125 * f64::from(eighth));
                fits(self, index, u, room.beyond(index, u, *band, narrowed.room))
            })
        })
    }

    /// The same where `room` says for each sample how far the curve may lie from it.
    fn find_within(
        &mut self,
        samples: &[f64],
        room: impl Fn(usize) -> Interval,
        start: Interval,
        any: Interval,
    ) -> bool {
        let last = samples.len() - 1;
        let (from, rise) = (samples[0], samples[last] - samples[0]);
        let wanted = |term: Term| {
            let (middle, room) = (samples[term.index] - from - rise * term.rise, room(term.index));
            Interval { low: middle + room.low, high: middle + room.high }
        };
        let lengths = self.lengths;
        let at_hand = lengths.at_hand(last);
        self.corners.clear();
        self.boxed = false;
        if last >= 3 {
            // The slopes at the start and what one sample well inside allows are a parallelogram.
            let [first, second] = at_hand.map_or_else(|| lengths.first_terms(last), |(first, _)| *first);
            let (wanted_first, wanted_second) = (wanted(first), wanted(second));
            let per_end = 1.0 / second.end;
            let at = |x: f64, wanted: f64| (x, (wanted - second.start * x) * per_end);
            self.corners.extend([
                at(start.low, wanted_second.high),
                at(start.high, wanted_second.high),
                at(start.high, wanted_second.low),
                at(start.low, wanted_second.low),
            ]);
            if !self.between(first.start, first.end, wanted_first) {
                return false;
            }
        } else {
            self.corners.extend([
                (start.low, any.low),
                (start.high, any.low),
                (start.high, any.high),
                (start.low, any.high),
            ]);
        }
        self.boxed = last >= LONG;
        self.measure();
        let mut fits = |term: Term| self.confine(term.start, term.end, wanted(term));
        let all_fit = match at_hand {
            Some((_, terms)) => terms.iter().all(|&term| fits(term)),
            None => lengths.terms(last).all(fits),
        };
        all_fit && self.between(0.0, 1.0, any)
    }

    /// Keeps the part of the polygon where `a·start + b·end` lies in a range; whether any is left.
    #[inline]
    fn confine(&mut self, a: f64, b: f64, wanted: Interval) -> bool {
        if self.boxed {
            let (by_sum, by_difference) = (0.5 * (a + b), 0.5 * (a - b));
            let middle = by_sum * self.sum.0 + by_difference * self.difference.0;
            let reach = by_sum.abs() * self.sum.1 + by_difference.abs() * self.difference.1;
            if wanted.low + reach <= middle && middle + reach <= wanted.high {
                // The box around it lies between the two lines already.
                return true;
            }
        }
        self.between(a, b, wanted)
    }

    /// The same without a look at the box.
    #[inline]
    fn between(&mut self, a: f64, b: f64, Interval { low, high }: Interval) -> bool {
        let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
        for &(x, y) in &self.corners {
            let v = a * x + b * y;
            least = if v < least { v } else { least };
            most = if v > most { v } else { most };
        }
        // Mostly the polygon lies between the two lines, or beyond one of them.
        if least > high || most < low {
            return false;
        }
        if most > high {
            self.cut(a, b, high);
        }
        if least < low {
            self.cut(-a, -b, -low);
        }
        if most > high || least < low {
            self.measure();
        }
        !self.corners.is_empty()
    }

    /// Finds the box around the polygon.
    fn measure(&mut self) {
        if !self.boxed {
            return;
        }
        let (mut low, mut high) = ((f64::INFINITY, f64::INFINITY), (f64::NEG_INFINITY, f64::NEG_INFINITY));
        for &(x, y) in &self.corners {
            let (sum, difference) = (x + y, x - y);
            low = (low.0.min(sum), low.1.min(difference));
            high = (high.0.max(sum), high.1.max(difference));
        }
        self.sum = (0.5 * (low.0 + high.0), 0.5 * (high.0 - low.0));
        self.difference = (0.5 * (low.1 + high.1), 0.5 * (high.1 - low.1));
    }

    /// Keeps the part of the polygon where `a·start + b·end ≤ most`.
    fn cut(&mut self, a: f64, b: f64, most: f64) {
        let over = |corner: (f64, f64)| a * corner.0 + b * corner.1 - most;
        let Some(&(mut before)) = self.corners.last() else { return };
        let mut there = over(before);
        self.spare.clear();
        for &corner in &self.corners {
            let here = over(corner);
            if (here < 0.0 && there > 0.0) || (here > 0.0 && there < 0.0) {
                let part = there / (there - here);
                self.spare
                    .push((before.0 + (corner.0 - before.0) * part, before.1 + (corner.1 - before.1) * part));
            }
            if here <= 0.0 {
                self.spare.push(corner);
            }
            (before, there) = (corner, here);
        }
        std::mem::swap(&mut self.corners, &mut self.spare);
        if self.corners.len() > MOST_CORNERS {
            self.simplify();
        }
    }

    /// Leaves out up to half of the corners, those that hold the least, by area, which no affine change of the slopes alters.
    /// What is left is a part of what was there, so that all slopes in it keep every bound; the least and the greatest slopes
    /// at both ends stay.
    fn simplify(&mut self) {
        let corners = &self.corners;
        let is_between = |a: f64, v: f64, b: f64| (a < v && v < b) || (b < v && v < a);
        let area = |a: (f64, f64), v: (f64, f64), b: (f64, f64)| {
            let is_inner = is_between(a.0, v.0, b.0) && is_between(a.1, v.1, b.1);
            let area = ((v.0 - a.0) * (b.1 - a.1) - (v.1 - a.1) * (b.0 - a.0)).abs();
            if is_inner { area } else { f64::INFINITY }
        };
        let mut areas = [f64::INFINITY; MOST_CORNERS + 2];
        // Of more corners than there should be, as rounding may make some, the first ones are looked at.
        let count = corners.len().min(areas.len());
        for (index, own) in areas.iter_mut().enumerate().take(count - 1).skip(1) {
            *own = area(corners[index - 1], corners[index], corners[index + 1]);
        }
        let mut sorted = areas;
        sorted[..count].sort_unstable_by(f64::total_cmp);
        let most = sorted[count / 2];
        let (mut index, mut left_out) = (0, false);
        self.corners.retain(|_| {
            // Of two neighbours one stays, as what the other holds is told with both there.
            left_out = !left_out && areas.get(index).is_some_and(|own| *own <= most && own.is_finite());
            index += 1;
            !left_out
        });
    }

    /// Takes the slopes of the cubic that comes nearest, in the least squares, to what is plausible between two neighbouring
    /// keys, where no slopes keep to it.
    pub fn nearest(&mut self, samples: &[f64], room: ErrorBound<'_>) {
        let last = samples.len() - 1;
        let (start, rise) = (samples[0], samples[last] - samples[0]);
        let straight = rise / last as f64;
        let (mut aa, mut ab, mut bb, mut ra, mut rb) = (0.0, 0.0, 0.0, 0.0, 0.0);
        let is_narrow =
            room.read.is_some_and(|read| !read.readings.narrow(read.from, read.from + last).is_empty());
        for u in EIGHTHS.into_iter().filter(|_| is_narrow && last == 1) {
            let Term { start: a, end: b, rise: along, .. } = self.lengths.term_at(u, last);
            let wanted = room.between(0, u).middle() - start - rise * along;
            (aa, ab, bb) = (aa + a * a, ab + a * b, bb + b * b);
            (ra, rb) = (ra + a * wanted, rb + b * wanted);
        }
        let det = aa * bb - ab * ab;
        let slopes = if det > 0.0 {
            ((ra * bb - rb * ab) / det, (aa * rb - ab * ra) / det)
        } else {
            (straight, straight)
        };
        self.corners.clear();
        self.corners.push(slopes);
    }

    /// What was found, without the room for finding more.
    pub fn found(&self) -> Slopes {
        Slopes { corners: self.corners.clone(), lengths: self.lengths, ..Slopes::default() }
    }

    /// The slopes at the end for which there is a slope at the start.
    pub fn at_end(&self) -> Interval {
        self.corners.iter().fold(Interval { low: f64::INFINITY, high: f64::NEG_INFINITY }, |range, corner| {
            Interval { low: range.low.min(corner.1), high: range.high.max(corner.1) }
        })
    }

    /// The slopes at the start that go with a slope at the end.
    pub fn at_start(&self, end: f64) -> Interval {
        let mut range = Interval { low: f64::INFINITY, high: f64::NEG_INFINITY };
        let mut take = |x: f64| range = Interval { low: range.low.min(x), high: range.high.max(x) };
        let mut nearest = (f64::INFINITY, 0.0);
        for (index, &(x0, y0)) in self.corners.iter().enumerate() {
            let (x1, y1) = self.corners[(index + 1) % self.corners.len()];
            if (y0 - end).abs() < nearest.0 {
                nearest = ((y0 - end).abs(), x0);
            }
            if y0 == end {
                take(x0);
            }
            if (y0 < end && y1 > end) || (y0 > end && y1 < end) {
                take(x0 + (x1 - x0) * (end - y0) / (y1 - y0));
            }
        }
        // Rounding may leave the end slope a hair outside the polygon.
        if range.low > range.high { Interval { low: nearest.1, high: nearest.1 } } else { range }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn hermite(v0: f64, m0: f64, v1: f64, m1: f64, length: f64, u: f64) -> f64 {
        let (u2, u3) = (u * u, u * u * u);
        v0 * (2.0 * u3 - 3.0 * u2 + 1.0)
            + m0 * length * (u3 - 2.0 * u2 + u)
            + v1 * (3.0 * u2 - 2.0 * u3)
            + m1 * length * (u3 - u2)
    }

    /// The slopes that keep every sample of a piece within a tolerance, cut one half-plane after another.
    fn exactly(samples: &[f64], tolerance: f64, most: f64) -> Vec<(f64, f64)> {
        let last = samples.len() - 1;
        let length = last as f64;
        let mut polygon = vec![(-most, -most), (most, -most), (most, most), (-most, most)];
        for (index, sample) in samples.iter().enumerate().take(last).skip(1) {
            let u = index as f64 / length;
            let (a, b) = (hermite(0.0, 1.0, 0.0, 0.0, length, u), hermite(0.0, 0.0, 0.0, 1.0, length, u));
            let rest = sample - hermite(samples[0], 0.0, samples[last], 0.0, length, u);
            for sign in [1.0, -1.0] {
                let over = |(x, y): (f64, f64)| sign * (a * x + b * y - rest) - tolerance;
                let mut kept = Vec::new();
                for (nth, &corner) in polygon.iter().enumerate() {
                    let next = polygon[(nth + 1) % polygon.len()];
                    let (here, there) = (over(corner), over(next));
                    if here <= 0.0 {
                        kept.push(corner);
                    }
                    if here * there < 0.0 {
                        let part = here / (here - there);
                        kept.push((
                            corner.0 + (next.0 - corner.0) * part,
                            corner.1 + (next.1 - corner.1) * part,
                        ));
                    }
                }
                polygon = kept;
            }
        }
        polygon
    }

    fn area(polygon: &[(f64, f64)]) -> f64 {
        let next = polygon.iter().cycle().skip(1);
        polygon.iter().zip(next).map(|(a, b)| a.0 * b.1 - a.1 * b.0).sum::<f64>().abs() * 0.5
    }

    /// Along a smooth bend each sample cuts a sliver off, so that there are more corners than are kept.
    #[test]
    fn corners_that_are_left_out_hold_next_to_nothing() {
        let (mut left_out, mut least) = (0, f64::INFINITY);
        for bend in 1..40 {
            let samples: Vec<f64> =
                (0..70).map(|i| (f64::from(i) * 0.001 * f64::from(bend)).sin() * 10.0).collect();
            let whole = exactly(&samples, 0.05, 1e4);
            let any = Interval { low: -1e4, high: 1e4 };
            let mut slopes = Slopes::default();
            assert_eq!(slopes.find(&samples, ErrorBound::even(0.05), any, any), whole.len() > 2, "{bend}");
            if whole.len() < 3 {
                continue;
            }
            left_out += usize::from(slopes.corners.len() < whole.len());
            least = least.min(area(&slopes.corners) / area(&whole));
            let ends = |polygon: &[(f64, f64)]| {
                Interval::around(&polygon.iter().map(|corner| corner.1).collect::<Vec<_>>())
            };
            let (ours, all) = (slopes.at_end(), ends(&whole));
            assert!(all.low <= ours.low + 1e-9 && ours.high <= all.high + 1e-9, "{bend}");
            assert!(ours.width() >= 0.97 * all.width(), "{bend}: {} of {}", ours.width(), all.width());
        }
        println!(
            "{left_out} polygons lost corners, and at most {:.2} % of what they hold",
            100.0 * (1.0 - least)
        );
        assert!(left_out >= 10 && 0.9 < least && least <= 1.0 + 1e-9, "{left_out} {least}");
    }

    proptest! {
        #[test]
        fn found_slopes_keep_the_bound_and_missing_ones_do_not_exist(
            noise in prop::collection::vec(-1.0..1.0_f64, 4..40), m0 in -2.0..2.0_f64, m1 in -2.0..2.0_f64,
            size in 0.0..0.4_f64
        ) {
            let length = (noise.len() - 1) as f64;
            let samples: Vec<f64> = noise.iter().enumerate()
                .map(|(i, n)| hermite(0.0, m0, 1.0, m1, length, i as f64 / length)
                    + if i == 0 || i + 1 == noise.len() { 0.0 } else { n * size })
                .collect();
            let any = Interval::everything(10.0);
            let mut slopes = Slopes::default();
            // The curve that the samples came from is within `size` of them all.
            prop_assert!(slopes.find(&samples, ErrorBound::even(size + 1e-9), any, any));
            prop_assert!(slopes.at_end().low <= m1 + 1e-6 && m1 - 1e-6 <= slopes.at_end().high);
            let end = slopes.at_end().middle();
            let start = slopes.at_start(end).middle();
            for (i, sample) in samples.iter().enumerate() {
                let value = hermite(samples[0], start, samples[samples.len() - 1], end, length, i as f64 / length);
                prop_assert!((value - sample).abs() <= size + 1e-7);
            }
        }
    }
}
