//! What may have been between samples: the band of their plausible readings.
//!
//! Between samples nobody knows the motion. Three readings of it are common: straight on, the cubic whose slopes are central
//! differences (halfway it is the cubic through the four samples around), and the cubic spline with two derivatives through
//! all samples of a run. A curve between them, or a little beyond, is as good a reading as any; one that swings far out of
//! them says something that no sample does. Halfway between two samples the band spans the three readings; at all other
//! times the two cubics and the two samples.
//!
//! Runs end where samples stop being one motion: at holds, jumps and corners. The last interval of a run is read straight or
//! as the parabola through three samples; across a jump anything between the two values is plausible.

use super::piece::Interval;

/// How far beyond the band a curve may be, in parts of the tolerance. Halfway within a piece it never is farther: the cubic
/// through four samples weighs their errors by 9, 9, 1 and 1 sixteenths.
pub const BEYOND_BAND: f64 = 1.25;

/// So many equal samples are a hold.
pub(super) const HOLD: usize = 4;
/// What moves no more than this, as rounding does, is equal.
const STILL: f64 = 1e-12;
/// A step or a bend that is so many times as large as those around is a jump or a corner.
const SUDDEN: f64 = 8.0;

const JUMPS: u8 = 1;
const STARTS: u8 = 2;
const ENDS: u8 = 4;
const GAPS: u8 = 8;

/// Where samples are one motion: for each interval between two of them, what it is to its run.
#[derive(Clone, Debug, Default)]
pub struct Runs(Vec<u8>);

impl Runs {
    /// The runs of so many samples, by the sizes of the steps between neighbours and of the bends at each but the outer ones.
    pub fn of(samples: usize, step: impl Fn(usize) -> f64, bend: impl Fn(usize) -> f64) -> Runs {
        let count = samples.saturating_sub(1);
        let mut runs = Runs(vec![0; count]);
        runs.cut(0);
        runs.cut(count);
        let mut equal = 0;
        for index in 0..count {
            let size = step(index);
            equal = if size <= STILL { equal + 1 } else { 0 };
            if equal + 1 >= HOLD && (index + 1 == count || step(index + 1) > STILL) {
                runs.cut(index + 1 - equal);
                runs.cut(index + 1);
            }
            if is_sudden(size, &step, index, count) {
                runs.leap(index, JUMPS);
            } else if index + 1 < count && is_sudden(bend(index + 1), |at| bend(at + 1), index, count - 1) {
                runs.cut(index + 1);
            }
        }
        runs
    }

    /// Ends a run at a sample, where another one starts.
    fn cut(&mut self, sample: usize) {
        if let Some(before) = sample.checked_sub(1) {
            self.0[before] |= ENDS;
        }
        if let Some(after) = self.0.get_mut(sample) {
            *after |= STARTS;
        }
    }

    /// Says that samples are missing in an interval, so that nothing is known there.
    pub fn gap(&mut self, interval: usize) {
        self.leap(interval, GAPS);
    }

    /// Ends a run before an interval that belongs to none.
    fn leap(&mut self, interval: usize, kind: u8) {
        self.cut(interval);
        self.cut(interval + 1);
        self.0[interval] |= kind;
    }

    /// The samples of an interval's run that are at most so many from it; `None` where nothing is known.
    fn around(&self, interval: usize, reach: usize) -> Option<std::ops::RangeInclusive<usize>> {
        let kinds = &self.0;
        if kinds[interval] & GAPS != 0 {
            return None;
        }
        let before = (0..interval.min(reach)).take_while(|back| kinds[interval - back] & STARTS == 0).count();
        let left = kinds.len() - 1 - interval;
        let after = (0..left.min(reach)).take_while(|on| kinds[interval + on] & ENDS == 0).count();
        Some(interval - before..=interval + 1 + after)
    }
}

/// Whether a size is far beyond those of two to each side.
fn is_sudden(size: f64, of: impl Fn(usize) -> f64, index: usize, count: usize) -> bool {
    let around = (index.saturating_sub(2)..(index + 3).min(count)).filter(|&other| other != index);
    around.map(of).all(|other| size > SUDDEN * other) && size > 0.0
}

/// A value seen from another one, component by component; those that are not used are zero.
pub type Offset = [f64; 9];

/// So many samples to each side of an interval tell its spline to some ten-thousandths.
const REACH: usize = 8;
/// The samples around an interval that are looked at.
const WINDOW: usize = 2 * REACH + 2;

/// The samples around an interval, as seen from its first: what is plausible there of places, and of rotations as rotation
/// vectors from the earlier sample.
#[derive(Clone, Debug)]
pub struct Window {
    offsets: [Offset; WINDOW],
    first: usize,
    last: usize,
    /// The slopes of the spline at both ends of the interval.
    spline: [Offset; 2],
    jumps: bool,
}

impl Window {
    /// The samples of an interval's run, by what they are from its first one as far as that can be said (turns wind up far
    /// away); `None` where nothing is known.
    pub fn around(runs: &Runs, interval: usize, offset: impl Fn(usize) -> Option<Offset>) -> Option<Window> {
        let around = runs.around(interval, REACH)?;
        let jumps = runs.0[interval] & JUMPS != 0;
        let mut window =
            Window { offsets: [[0.0; 9]; WINDOW], first: REACH, last: REACH, spline: [[0.0; 9]; 2], jumps };
        for sample in (*around.start()..interval).rev() {
            let Some(offset) = offset(sample) else { break };
            window.first -= 1;
            window.offsets[window.first] = offset;
        }
        for sample in interval + 1..=*around.end() {
            let Some(offset) = offset(sample) else { break };
            window.last += 1;
            window.offsets[window.last] = offset;
        }
        if window.last == REACH {
            return None;
        }
        window.find_spline();
        Some(window)
    }

    fn find_spline(&mut self) {
        let own = REACH - self.first;
        for component in 0..self.spline[0].len() {
            let (mut line, mut slopes) = ([0.0; WINDOW], [0.0; WINDOW]);
            let offsets = &self.offsets[self.first..=self.last];
            let line = &mut line[..offsets.len()];
            line.iter_mut().zip(offsets).for_each(|(value, offset)| *value = offset[component]);
            if line.iter().any(|value| *value != 0.0) {
                spline_slopes(line, &mut slopes[..line.len()]);
                (self.spline[0][component], self.spline[1][component]) = (slopes[own], slopes[own + 1]);
            }
        }
    }

    /// The values of a component that what is plausible spans a part of the way on.
    fn corners(&self, component: usize, u: f64) -> [f64; 4] {
        // One sample to each side tells all but the spline.
        let (first, last) = (self.first.max(REACH - 1), self.last.min(REACH + 2));
        let mut line = [0.0; 4];
        let line = &mut line[..last - first + 1];
        line.iter_mut().zip(&self.offsets[first..]).for_each(|(value, offset)| *value = offset[component]);
        if line.iter().all(|value| *value == 0.0) {
            return [0.0; 4];
        }
        let own = REACH - first;
        let starts = if self.first == REACH { STARTS } else { 0 };
        let ends = if self.last == REACH + 1 { ENDS } else { 0 };
        let jumps = if self.jumps { JUMPS } else { 0 };
        // The parabola of a run's first or last interval needs one sample more on the other side.
        let spline = (self.spline[0][component], self.spline[1][component]);
        corners(starts | ends | jumps, line, own, spline, u)
    }

    /// The values that what is plausible spans a part of the way on.
    pub fn spanned(&self, u: f64) -> [Offset; 4] {
        let by_component: [[f64; 4]; 9] = std::array::from_fn(|component| self.corners(component, u));
        std::array::from_fn(|corner| by_component.map(|corners| corners[corner]))
    }

    /// How far a component of a value, as seen from the interval's first sample, is out of what is plausible a part of the
    /// way on.
    pub fn out(&self, component: usize, value: f64, u: f64) -> f64 {
        value - Interval::around(&self.corners(component, u)).nearest(value)
    }

    /// How far a whole value is out of what is plausible: across a jump, farther from halfway than both samples.
    pub fn departure(&self, value: &Offset, u: f64) -> f64 {
        if self.jumps {
            let to = &self.offsets[REACH + 1];
            let from_halfway = value.iter().zip(to).map(|(value, to)| (value - 0.5 * to).powi(2));
            let half = 0.5 * to.iter().map(|to| to * to).sum::<f64>().sqrt();
            return (from_halfway.sum::<f64>().sqrt() - half).max(0.0);
        }
        let out = |component: usize| self.out(component, value[component], u);
        (0..value.len()).map(|component| out(component).powi(2)).sum::<f64>().sqrt()
    }
}

/// The readings of one channel's samples.
#[derive(Clone, Debug, Default)]
pub struct Readings {
    runs: Runs,
    /// At each sample, the slope of the run's spline, in value a sample.
    spline: Vec<f64>,
    /// Halfway through each interval, what is plausible.
    halfway: Vec<Interval>,
    /// The intervals in which only a part of what is plausible is taken, ascending.
    narrowed: Vec<(usize, Narrowed)>,
}

/// What is plausible in an interval where channels that are parts of one value may each be so while the value is not.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Narrowed {
    /// What is plausible at each eighth of the way.
    pub bands: [Interval; 7],
    /// The part of the room beyond it that is left.
    pub room: f64,
}

impl Readings {
    /// The readings of samples at a uniform step.
    pub fn of(samples: &[f64]) -> Readings {
        let step = |index: usize| (samples[index + 1] - samples[index]).abs();
        let bend = |index: usize| (samples[index + 1] - 2.0 * samples[index] + samples[index - 1]).abs();
        let runs = Runs::of(samples.len(), step, bend);
        let mut spline = vec![0.0; samples.len()];
        let mut from = 0;
        while from < runs.0.len() {
            let length = runs.0[from..].iter().take_while(|kind| **kind & (ENDS | JUMPS) == 0).count() + 1;
            spline_slopes(&samples[from..=from + length], &mut spline[from..=from + length]);
            from += length;
        }
        let halfway = Vec::with_capacity(samples.len());
        let mut readings = Readings { runs, spline, halfway, narrowed: Vec::new() };
        for index in 0..readings.runs.0.len() {
            let halfway = readings.between(samples, index, 0.5);
            readings.halfway.push(halfway);
        }
        readings
    }

    /// The same with something else plausible in some intervals, in ascending order.
    pub fn narrowed(mut self, narrowed: Vec<(usize, Narrowed)>) -> Readings {
        for (index, narrowed) in &narrowed {
            self.halfway[*index] = narrowed.bands[3];
        }
        self.narrowed = narrowed;
        self
    }

    /// The intervals from a sample to another that were narrowed, and to what.
    pub(super) fn narrow(&self, from: usize, to: usize) -> &[(usize, Narrowed)] {
        let first = self.narrowed.partition_point(|(index, _)| *index < from);
        let count = self.narrowed[first..].partition_point(|(index, _)| *index < to);
        &self.narrowed[first..first + count]
    }

    fn taken(&self, index: usize) -> Option<&Narrowed> {
        let position = self.narrowed.binary_search_by_key(&index, |(index, _)| *index);
        position.ok().map(|position| &self.narrowed[position].1)
    }

    /// Whether an interval was narrowed.
    pub(super) fn is_narrow(&self, index: usize) -> bool {
        self.taken(index).is_some()
    }

    /// The part of the room beyond what is plausible that is left in an interval.
    pub(super) fn room(&self, index: usize) -> f64 {
        self.taken(index).map_or(1.0, |narrowed| narrowed.room)
    }

    /// What is plausible halfway between a sample and the next.
    pub fn halfway(&self, index: usize) -> Interval {
        self.halfway[index]
    }

    /// What is plausible between a sample and the next, at a part of the way; the samples are those that were read.
    pub fn between(&self, samples: &[f64], index: usize, u: f64) -> Interval {
        let spline = (self.spline[index], self.spline[index + 1]);
        match self.taken(index) {
            Some(narrowed) => narrowed.bands[((u * 8.0).round() as usize).clamp(1, 7) - 1],
            None => Interval::around(&corners(self.runs.0[index], samples, index, spline, u)),
        }
    }
}

/// The values that what is plausible spans in an interval of some kind, at a part of the way, with the slopes of the spline at
/// both ends.
fn corners(kind: u8, samples: &[f64], index: usize, spline: (f64, f64), u: f64) -> [f64; 4] {
    let s = |index: usize| samples[index];
    let (from, to) = (s(index), s(index + 1));
    let straight = from + (to - from) * u;
    let (a, b) = if u == 0.5 && kind & JUMPS == 0 { (straight, straight) } else { (from, to) };
    // A parabola is off the straight line by its second difference.
    let parabola = |bend: f64| straight - 0.5 * u * (1.0 - u) * bend;
    if kind & JUMPS != 0 || kind & (STARTS | ENDS) == STARTS | ENDS {
        [a, b, a, b]
    } else if kind & STARTS != 0 {
        let parabola = parabola(s(index + 2) - 2.0 * to + from);
        [a, b, parabola, parabola]
    } else if kind & ENDS != 0 {
        let parabola = parabola(to - 2.0 * from + s(index - 1));
        [a, b, parabola, parabola]
    } else {
        let central = (0.5 * (to - s(index - 1)), 0.5 * (s(index + 2) - from));
        [a, b, hermite(from, to, central, u), hermite(from, to, spline, u)]
    }
}

fn hermite(from: f64, to: f64, (out, into): (f64, f64), u: f64) -> f64 {
    let rise = to - from;
    from + u * (out + u * (3.0 * rise - 2.0 * out - into + u * (out + into - 2.0 * rise)))
}

/// The slopes of the spline with two derivatives through a run that ends as the parabolas through three samples do.
fn spline_slopes(samples: &[f64], slopes: &mut [f64]) {
    let last = samples.len() - 1;
    if last < 2 {
        slopes.fill(samples[last] - samples[0]);
        return;
    }
    let s = |index: usize| samples[index];
    let first = 0.5 * (4.0 * s(1) - 3.0 * s(0) - s(2));
    let end = 0.5 * (3.0 * s(last) - 4.0 * s(last - 1) + s(last - 2));
    // slopeᵢ₋₁ + 4 slopeᵢ + slopeᵢ₊₁ = 3 (sᵢ₊₁ − sᵢ₋₁): elimination forwards, of which the factor soon is 2 − √3.
    const SETTLED: f64 = 0.267_949_192_431_122_7;
    slopes[0] = first;
    let mut factor = 0.0;
    let mut factors = [SETTLED; 16];
    for index in 1..last {
        factor = if index < factors.len() { 1.0 / (4.0 - factor) } else { SETTLED };
        if let Some(own) = factors.get_mut(index) {
            *own = factor;
        }
        slopes[index] = (3.0 * (s(index + 1) - s(index - 1)) - slopes[index - 1]) * factor;
    }
    slopes[last] = end;
    for index in (1..last).rev() {
        let factor = factors.get(index).copied().unwrap_or(SETTLED);
        slopes[index] -= factor * slopes[index + 1];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The spline by its definition: second derivatives agree on both sides of every inner sample.
    #[test]
    fn the_spline_has_two_derivatives_and_parabolas_are_read_as_themselves() {
        let samples: Vec<f64> =
            (0..60).map(|i| f64::from(i * 7919 % 13) + (f64::from(i) * 0.3).sin()).collect();
        let mut slopes = vec![0.0; samples.len()];
        spline_slopes(&samples, &mut slopes);
        for i in 1..samples.len() - 1 {
            let before = 6.0 * (samples[i - 1] - samples[i]) + 2.0 * slopes[i - 1] + 4.0 * slopes[i];
            let after = 6.0 * (samples[i + 1] - samples[i]) - 4.0 * slopes[i] - 2.0 * slopes[i + 1];
            assert!((before - after).abs() < 1e-9, "{i}: {before} {after}");
        }
        let parabola: Vec<f64> = (0..20).map(|i| 0.3 * f64::from(i * i) - 2.0 * f64::from(i)).collect();
        let readings = Readings::of(&parabola);
        for i in 0..19 {
            let at = f64::from(i) + 0.5;
            let band = readings.halfway(i as usize);
            let (own, straight) =
                (0.3 * at * at - 2.0 * at, 0.5 * (parabola[i as usize] + parabola[i as usize + 1]));
            assert!(
                (band.low - own).abs() < 1e-9 && (band.high - straight).abs() < 1e-9,
                "{i}: {band:?} {own}"
            );
        }
    }

    #[test]
    fn runs_end_at_holds_jumps_and_corners() {
        let mut samples = vec![1.0; 6];
        samples.extend((1..8).map(|i| 1.0 + f64::from(i * i)));
        samples.extend((1..8).map(|i| 200.0 + f64::from(i)));
        samples.extend((1..8).map(|i| 207.0 - f64::from(i)));
        let kinds = Readings::of(&samples).runs.0;
        let starts: Vec<usize> = (0..kinds.len()).filter(|&i| kinds[i] & STARTS != 0).collect();
        assert_eq!(starts, [0, 5, 12, 13, 19]);
        assert_eq!(kinds.iter().position(|kind| kind & JUMPS != 0), Some(12));
    }
    /// Inside a run the band spans the chord, the central cubic and the spline; at its ends the parabola of three samples stands in for
    /// what would need one beyond.
    #[test]
    fn each_reading_is_in_the_band_and_bounds_it() {
        let samples: Vec<f64> = (0..24).map(|i| (f64::from(i) * 0.7).sin() * 2.0).collect();
        let spline = (0.37, -0.21);
        for u in [0.25, 0.5, 0.8] {
            let straight = |i: usize| samples[i] + (samples[i + 1] - samples[i]) * u;
            let bent = |i: usize, around: usize| {
                let bend = samples[around + 1] - 2.0 * samples[around] + samples[around - 1];
                straight(i) - 0.5 * u * (1.0 - u) * bend
            };
            let cubic = |i: usize, (m0, m1): (f64, f64)| hermite(samples[i], samples[i + 1], (m0, m1), u);
            let central =
                |i: usize| (0.5 * (samples[i + 1] - samples[i - 1]), 0.5 * (samples[i + 2] - samples[i]));
            let is = |kind: u8, i: usize, wanted: [f64; 2]| {
                let found = corners(kind, &samples, i, spline, u);
                let chord = if u == 0.5 { [straight(i); 2] } else { [samples[i], samples[i + 1]] };
                let wanted = [chord[0], chord[1], wanted[0], wanted[1]];
                let apart = found
                    .iter()
                    .zip(wanted)
                    .map(|(found, wanted)| (found - wanted).abs())
                    .fold(0.0, f64::max);
                assert!(apart < 1e-12, "kind {kind} at {i}, {u}: {found:?} for {wanted:?}");
            };
            for i in [5, 11, 17] {
                is(0, i, [cubic(i, central(i)), cubic(i, spline)]);
                is(STARTS, i, [bent(i, i + 1); 2]);
                is(ENDS, i, [bent(i, i); 2]);
                // One interval alone, and one that jumps, say nothing between their ends.
                assert_eq!(
                    corners(JUMPS, &samples, i, spline, u),
                    [samples[i], samples[i + 1], samples[i], samples[i + 1]]
                );
                let alone = corners(STARTS | ENDS, &samples, i, spline, u);
                assert_eq!((alone[0], alone[1]), (alone[2], alone[3]));
            }
        }
    }
}
