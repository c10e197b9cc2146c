//! Recovery of weighted pieces: which planar Bézier runs through some samples, and where one ends and the next begins.
//!
//! With the two handle lengths given, each sample's parameter follows from its time, and its value is linear in the two
//! handles' rises: so only the lengths are searched for (variable projection, Golub and Pereyra, SIAM J. Numer. Anal. 10,
//! 1973), by damped Gauss–Newton steps from a few starts. Samples of one piece leave no residual. Pieces of six samples
//! or more tell where they end; shorter ones between them are cut so that most tangents join.

use std::cell::Cell;

use crate::curve::parameter_at;
use crate::search::farthest;

/// A weighted piece; lengths in parts of the piece, rises counted forward in time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Weighted {
    pub lengths: (f64, f64),
    pub rises: (f64, f64),
    /// The largest difference to a sample.
    pub error: f64,
}

impl Weighted {
    /// The slopes at both ends over the whole piece; `None` for vertical handles.
    pub fn slopes(&self) -> Option<(f64, f64)> {
        let slope = |rise: f64, length: f64| (length > 1e-6).then(|| rise / length);
        Some((slope(self.rises.0, self.lengths.0)?, slope(self.rises.1, self.lengths.1)?))
    }
}

/// The value between two keys of a weighted piece, relative to the first, at a part of its time.
pub(super) fn value(piece: &Weighted, rise: f64, u: f64) -> f64 {
    let s = parameter_at(piece.lengths.0, piece.lengths.1, u, u);
    let r = 1.0 - s;
    s * (3.0 * r * r * piece.rises.0 + s * (3.0 * r * (rise - piece.rises.1) + s * rise))
}

/// Looks for pieces through samples.
pub(super) struct Search<'a> {
    pub samples: &'a [f64],
    /// A piece leaves no more than this at any sample.
    pub precision: f64,
    /// How much looking for pieces has cost: one for each so many samples that tell one.
    tries: Cell<usize>,
}

/// So much looking for pieces may cost before any is found, and for each sample that pieces were found through: noise has none, and
/// looking for them there would go on and on.
const TRIES: (usize, usize) = (120, 12);

impl<'a> Search<'a> {
    pub fn new(samples: &'a [f64], precision: f64) -> Search<'a> {
        Search { samples, precision, tries: Cell::new(0) }
    }

    /// The best rises for some lengths, and the residuals; with `end_slope` (over the whole piece) the last handle has it.
    fn project(
        &self,
        from: usize,
        to: usize,
        lengths: (f64, f64),
        end_slope: Option<f64>,
        out: &mut Vec<f64>,
    ) -> (f64, f64) {
        let length = (to - from) as f64;
        let rise = self.samples[to] - self.samples[from];
        let (mut aa, mut ab, mut bb, mut ra, mut rb) = (0.0, 0.0, 0.0, 0.0, 0.0);
        let mut rows = Vec::with_capacity(to - from);
        for index in from + 1..to {
            let u = (index - from) as f64 / length;
            let s = parameter_at(lengths.0, lengths.1, u, u);
            let r = 1.0 - s;
            // Both rises count from their own key: the second control point is `rise − rises.1`.
            let (a, b) = (3.0 * r * r * s, -3.0 * r * s * s);
            let rest = self.samples[index] - self.samples[from] - rise * s * s * (3.0 * r + s);
            aa += a * a;
            ab += a * b;
            bb += b * b;
            ra += a * rest;
            rb += b * rest;
            rows.push((a, b, rest));
        }
        let rises = match end_slope {
            Some(slope) => {
                let second = slope * lengths.1;
                ((ra - ab * second) / aa.max(1e-300), second)
            }
            None => {
                let det = aa * bb - ab * ab;
                if det.abs() <= 1e-14 * aa * bb {
                    (ra / aa.max(1e-300), 0.0)
                } else {
                    ((ra * bb - rb * ab) / det, (aa * rb - ab * ra) / det)
                }
            }
        };
        out.clear();
        out.extend(rows.iter().map(|(a, b, rest)| a * rises.0 + b * rises.1 - rest));
        rises
    }

    /// The weighted piece that fits best, from a few starts until one leaves no residual.
    pub fn piece(&self, from: usize, to: usize, end_slope: Option<f64>) -> Weighted {
        self.tries.set(self.tries.get() + 1 + (to - from) / TELLING);
        let mut best = Weighted { lengths: (1.0 / 3.0, 1.0 / 3.0), rises: (0.0, 0.0), error: f64::INFINITY };
        const STARTS: [(f64, f64); 6] =
            [(0.333, 0.333), (0.2, 0.2), (0.5, 0.5), (0.2, 0.55), (0.55, 0.2), (0.7, 0.7)];
        for start in STARTS {
            let found = self.descend(from, to, start, end_slope);
            if found.error < best.error {
                best = found;
            }
            if best.error <= self.precision {
                break;
            }
        }
        best
    }

    fn descend(&self, from: usize, to: usize, start: (f64, f64), end_slope: Option<f64>) -> Weighted {
        let mut lengths = start;
        let mut damping = 1e-3;
        let (mut now, mut moved, mut next) = (Vec::new(), Vec::new(), Vec::new());
        let mut rises = self.project(from, to, lengths, end_slope, &mut now);
        let square = |residuals: &[f64]| residuals.iter().map(|r| r * r).sum::<f64>();
        let (mut slow, mut before) = (0, f64::INFINITY);
        for _ in 0..40 {
            let cost = square(&now);
            if cost.sqrt() <= 0.1 * self.precision {
                break;
            }
            // Where there is a piece each step is much better than the one before; what creeps has come to something else.
            slow = if cost > CREEP * before { slow + 1 } else { 0 };
            if slow > PATIENCE {
                break;
            }
            before = cost;
            let h = 1e-6;
            self.project(from, to, (lengths.0 + h, lengths.1), end_slope, &mut moved);
            let by_first: Vec<f64> = moved.iter().zip(&now).map(|(a, b)| (a - b) / h).collect();
            self.project(from, to, (lengths.0, lengths.1 + h), end_slope, &mut moved);
            let by_second: Vec<f64> = moved.iter().zip(&now).map(|(a, b)| (a - b) / h).collect();
            let dot = |x: &[f64], y: &[f64]| x.iter().zip(y).map(|(x, y)| x * y).sum::<f64>();
            let (aa, ab, bb) =
                (dot(&by_first, &by_first), dot(&by_first, &by_second), dot(&by_second, &by_second));
            let (ga, gb) = (dot(&by_first, &now), dot(&by_second, &now));
            let mut better = false;
            for _ in 0..8 {
                let (da, db) = (aa * (1.0 + damping) + 1e-300, bb * (1.0 + damping) + 1e-300);
                let det = da * db - ab * ab;
                let step = (-(ga * db - gb * ab) / det, -(da * gb - ab * ga) / det);
                let legal = |length: f64| length.clamp(0.002, 0.998);
                let tried = (legal(lengths.0 + step.0), legal(lengths.1 + step.1));
                let tried_rises = self.project(from, to, tried, end_slope, &mut next);
                if square(&next) < cost {
                    (lengths, rises, better) = (tried, tried_rises, true);
                    std::mem::swap(&mut now, &mut next);
                    damping = (damping * 0.2).max(1e-12);
                    break;
                }
                damping *= 6.0;
            }
            if !better {
                break;
            }
        }
        let is_finite = [lengths.0, lengths.1, rises.0, rises.1].iter().chain(&now).all(|v| v.is_finite());
        let largest = now.iter().fold(0.0_f64, |most, r| most.max(r.abs()));
        let error = if is_finite { largest } else { f64::INFINITY };
        Weighted { lengths, rises, error }
    }

    /// Whether a piece is seen in one of many places between two samples: noise shows none, and the search would be long.
    pub fn shows_any(&self, from: usize, to: usize) -> bool {
        let Some(last) = to.checked_sub(TELLING).filter(|last| *last >= from) else { return false };
        let step = ((last - from) / GLANCES).max(1);
        (from..=last)
            .step_by(step)
            .any(|start| self.piece(start, start + TELLING, None).error <= self.precision)
    }

    /// The farthest sample that one piece from `from` reaches.
    fn farthest(&self, from: usize, last: usize) -> usize {
        farthest((from + TELLING - 1).min(last), last, 4, |to| {
            to - from < TELLING || self.piece(from, to, None).error <= self.precision
        })
    }

    /// The pieces from one sample to another, and the stretches that are none; `None` where there are so few that looking for
    /// more is in vain.
    pub fn pieces(&self, first: usize, last: usize) -> Option<Vec<Stretch>> {
        let mut found: Vec<Stretch> = Vec::new();
        let mut from = first;
        self.tries.set(0);
        // How many samples pieces were found through that are long enough to tell, and how many of the stretches were counted.
        let (mut told, mut counted) = (0, 0);
        while from < last {
            let new = found[counted..].iter().filter(|own| own.piece.is_some());
            told += new.map(|own| own.to - own.from).filter(|length| *length > TELLING).sum::<usize>();
            counted = found.len();
            let most = TRIES.0 + TRIES.1 * told;
            let in_vain = || self.tries.get() > most;
            if in_vain() {
                return None;
            }
            let far = self.farthest(from, last);
            let to = if far - from >= TELLING || far == last {
                found.push(self.stretch(from, far));
                far
            } else {
                // Pieces too short to tell their end: up to where one begins that is longer.
                let is_start = |&start: &usize| in_vain() || self.farthest(start, last) - start >= TELLING;
                let next = (from + SHORTEST..last.saturating_sub(TELLING)).find(is_start).unwrap_or(last);
                if in_vain() {
                    return None;
                }
                found.extend(self.short(from, next, last, found.last()));
                next
            };
            from = to;
        }
        Some(found)
    }

    fn stretch(&self, from: usize, to: usize) -> Stretch {
        let piece = self.piece(from, to, None);
        // Fewer samples leave more than one handle open.
        let tells = to - from >= SHORTEST && piece.error <= self.precision;
        Stretch { from, to, piece: tells.then_some(piece) }
    }

    /// Pieces of four or five samples between two longer ones, by whichever cut lets most tangents join.
    fn short(&self, from: usize, to: usize, last: usize, before: Option<&Stretch>) -> Vec<Stretch> {
        let into = before.and_then(Stretch::slopes).map(|(_, into)| into);
        let after = (to < last).then(|| self.stretch(to, self.farthest(to, last)));
        let out = after.as_ref().and_then(Stretch::slopes).map(|(out, _)| out);
        let mut best: Option<(usize, Vec<Stretch>)> = None;
        for cuts in compositions(to - from) {
            let (mut at, mut slope, mut breaks) = (to, out, 0);
            let mut made = Vec::with_capacity(cuts.len());
            for length in cuts.iter().rev() {
                let start = at - length;
                let joined = slope.map(|slope| self.piece(start, at, Some(slope * *length as f64)));
                let stretch = match joined.filter(|piece| piece.error <= self.precision) {
                    Some(piece) => Stretch { from: start, to: at, piece: Some(piece) },
                    None => {
                        breaks += 1;
                        self.stretch(start, at)
                    }
                };
                breaks += if stretch.piece.is_none() { 10 } else { 0 };
                slope = stretch.slopes().map(|(start, _)| start);
                made.push(stretch);
                at = start;
            }
            let meets = match (slope, into) {
                (Some(a), Some(b)) => (a - b).abs() <= 1e-3 * (a.abs() + b.abs()),
                _ => true,
            };
            breaks += usize::from(!meets);
            made.reverse();
            if best.as_ref().is_none_or(|best| breaks < best.0) {
                best = Some((breaks, made));
            }
        }
        best.map_or_else(|| vec![self.stretch(from, to)], |best| best.1)
    }
}

/// A descent creeps where a step leaves more than this of the sum of squares, and is given up after so many such steps.
const CREEP: f64 = 0.8;
const PATIENCE: usize = 2;

/// The shortest piece, in samples.
const SHORTEST: usize = 4;
/// From so many samples on a piece tells its end: it has more samples than unknowns.
const TELLING: usize = 6;

/// In so many places it is looked for pieces before all of them are searched for.
const GLANCES: usize = 32;

/// A stretch of samples, and the piece that runs through it, if one does.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stretch {
    pub from: usize,
    pub to: usize,
    pub piece: Option<Weighted>,
}

impl Stretch {
    /// The slopes at both ends, in value a sample.
    pub fn slopes(&self) -> Option<(f64, f64)> {
        let length = (self.to - self.from) as f64;
        self.piece?.slopes().map(|(start, end)| (start / length, end / length))
    }
}

/// The ways to cut a length into pieces of four and five; none where there are none or too many.
fn compositions(length: usize) -> Vec<Vec<usize>> {
    if length > 22 {
        return Vec::new();
    }
    let mut done = Vec::new();
    let mut open = vec![(Vec::new(), length)];
    while let Some((parts, left)) = open.pop() {
        for part in [SHORTEST + 1, SHORTEST] {
            let longer = |part| {
                let mut longer: Vec<usize> = parts.clone();
                longer.push(part);
                longer
            };
            match left.cmp(&part) {
                std::cmp::Ordering::Equal => done.push(longer(part)),
                std::cmp::Ordering::Greater => open.push((longer(part), left - part)),
                std::cmp::Ordering::Less => {}
            }
        }
    }
    done
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Lcg(u64);

    impl Lcg {
        fn next(&mut self) -> f64 {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 11) as f64 / (1_u64 << 53) as f64
        }
    }

    #[test]
    fn handles_are_found_from_the_samples_of_one_piece() {
        let mut lcg = Lcg(5);
        let (mut found, mut short, mut of_short) = (0, 0, 0);
        for round in 0..600 {
            let count = 4 + round % 20;
            let length = count as f64;
            let made = Weighted {
                lengths: (0.12 + 0.5 * lcg.next(), 0.12 + 0.5 * lcg.next()),
                rises: ((lcg.next() - 0.5) * 8.0 * length * 0.3, (lcg.next() - 0.5) * 8.0 * length * 0.3),
                error: 0.0,
            };
            let rise = (lcg.next() - 0.5) * 80.0;
            let samples: Vec<f64> = (0..=count).map(|i| value(&made, rise, i as f64 / length)).collect();
            let search = Search::new(&samples, 1e-7);
            let piece = search.piece(0, count, None);
            let fits = piece.error <= 1e-7;
            if count < 6 {
                of_short += 1;
                short += usize::from(fits);
            } else {
                found += usize::from(fits);
            }
        }
        println!("{found} of {}, short {short} of {of_short}", 600 - of_short);
        assert!(found * 100 >= 98 * (600 - of_short));
    }
}
