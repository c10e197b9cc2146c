//! The fewest pieces along a stretch of samples whose tangents join: a search over how far so many pieces reach.
//!
//! A piece starts with a slope that the one before left open. So many pieces reach many samples, each with slopes of its
//! own; those near the farthest are kept, and the next piece starts from all of them. With all of them and all slopes kept
//! this would be the exhaustive dynamic programme; with the [`BEAM`] farthest it is within a few percent of it, at a cost
//! in proportion to the number of samples.

use crate::search;

use super::Room;
use super::piece::{Interval, Slopes};

/// How many ends are kept for so many pieces.
const BEAM: usize = 6;
/// How far beyond the farthest that fits, at the least and the most, and as a part of the usual piece, farther ones are
/// looked for: in noise longer pieces may fit where shorter ones do not.
const BEYOND: (usize, usize, usize) = (2, 12, 4);
/// After a longer piece was found beyond some that do not fit, so many pieces more are looked for there, and else only every
/// third: what is smooth has none.
const HOPE: usize = 12;
/// How far behind the farthest an end may lie, as a part of the longest piece.
const BEHIND: f64 = 0.5;
/// Pieces this short, that could be three times as long with a slope of their own, break the tangent.
const CORNER: usize = 6;

/// One piece of the path.
#[derive(Clone, Copy, Debug)]
pub(super) struct Step {
    pub from: usize,
    pub to: usize,
    /// The slopes that it may start with.
    pub open: Interval,
    /// Whether its start breaks with the end of the piece before.
    pub breaks: bool,
}

/// What the path runs through.
pub(super) struct Stretch<'a> {
    pub samples: &'a [f64],
    pub from: usize,
    pub to: usize,
    pub room: Room<'a>,
    pub any: Interval,
}

#[derive(Clone, Copy, Debug)]
struct State {
    step: Step,
    /// The slopes that are open at its end.
    ends: Interval,
    /// Position of the piece before in the layer before.
    parent: usize,
}

impl Stretch<'_> {
    /// The slopes that a piece may end with: any, but samples of a short piece do not hold wild ones back by
    /// themselves, so there the differences around it do.
    pub fn any_for(&self, at: usize, to: usize) -> Interval {
        if to - at > 3 {
            return self.any;
        }
        let around = &self.samples[at.saturating_sub(1)..(to + 2).min(self.samples.len())];
        let steepest = around.windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f64::max);
        let most = 2.0 * steepest + self.room.tolerance;
        Interval { low: -most, high: most }
    }

    /// Finds the slopes of a piece; whether there are any.
    pub fn find(&self, slopes: &mut Slopes, from: usize, to: usize, open: Interval) -> bool {
        slopes.find(&self.samples[from..=to], self.room.part(from, to), open, self.any_for(from, to))
    }

    /// The fewest pieces found from start to end that start with a slope in `open`; the last one ends with `wanted`, if
    /// that costs no piece more.
    pub fn fewest(&self, open: Interval, wanted: Option<f64>) -> Vec<Step> {
        let mut slopes = Slopes::default();
        let start = Step { from: self.from, to: self.from, open, breaks: false };
        let mut hope = HOPE;
        let mut layers: Vec<Vec<State>> = vec![vec![State { step: start, ends: open, parent: 0 }]];
        loop {
            let layer = &layers[layers.len() - 1];
            let last_piece = layer[0].step.to - layer[0].step.from;
            let far = hope > 0 || layers.len().is_multiple_of(3);
            let (next, leapt) = self.next_layer(layer, last_piece.max(4), far, &mut slopes);
            hope = if leapt { HOPE } else { hope.saturating_sub(1) };
            let done = next.iter().any(|state| state.step.to == self.to);
            layers.push(next);
            if done {
                break;
            }
        }
        self.walk_back(&layers, wanted)
    }

    fn walk_back(&self, layers: &[Vec<State>], wanted: Option<f64>) -> Vec<Step> {
        let last = &layers[layers.len() - 1];
        let at_end = last.iter().enumerate().filter(|(_, state)| state.step.to == self.to);
        let badness = |state: &State| {
            let misses = wanted.is_some_and(|slope| !state.ends.contains(slope));
            (misses, state.step.breaks, -state.ends.width())
        };
        let best = at_end.min_by(|(_, a), (_, b)| {
            badness(a).partial_cmp(&badness(b)).unwrap_or(std::cmp::Ordering::Equal)
        });
        let mut position = best.map_or(0, |(position, _)| position);
        let mut steps = Vec::with_capacity(layers.len() - 1);
        for layer in layers[1..].iter().rev() {
            let state = &layer[position];
            steps.push(state.step);
            position = state.parent;
        }
        steps.reverse();
        steps
    }

    /// What one piece more reaches; `far` says whether longer pieces are looked for beyond some that do not fit. Also whether
    /// there were such.
    fn next_layer(
        &self,
        layer: &[State],
        usual: usize,
        far: bool,
        slopes: &mut Slopes,
    ) -> (Vec<State>, bool) {
        // The farthest end: from the first state by search, and whether others reach a little farther.
        let (reach, ends) = self.farthest(layer[0].step.to, layer[0].ends, usual, slopes);
        let mut farthest = reach;
        // What is known already: the state from which the farthest end is reached, and the slopes that are open there.
        let mut known = ends.map(|ends| (0, ends));
        let beyond = if far { (usual / BEYOND.2).clamp(BEYOND.0, BEYOND.1) } else { 1 };
        let mut leapt = false;
        for (parent, state) in layer.iter().enumerate().skip(1) {
            let mut ends_at = |to: usize| {
                let fits = to <= self.to && self.find(slopes, state.step.to, to, state.ends);
                fits.then(|| (to, slopes.at_end()))
            };
            while let Some((to, ends)) = (farthest + 1..=farthest + beyond).find_map(&mut ends_at) {
                leapt |= to > farthest + 1;
                farthest = to;
                known = Some((parent, ends));
            }
        }
        let mut breaks = false;
        let front = layer[0].step.to;
        if farthest < self.to && farthest <= front + CORNER {
            let (alone, ends) = self.farthest(front, self.any, usual, slopes);
            breaks = alone > front + 3 * (farthest - front).max(1);
            if breaks {
                (farthest, known) = (alone, ends.map(|ends| (0, ends)));
            }
        }
        let longest = (farthest - layer[layer.len() - 1].step.to).max(1);
        let behind = ((longest as f64 * BEHIND) as usize).max(2);
        let mut found: Vec<State> = Vec::with_capacity(BEAM);
        let mut ends = 0;
        for to in (front + 1..=farthest).rev() {
            if ends == BEAM || (ends > 0 && to + behind < farthest) {
                break;
            }
            // The way from the farthest of the ends before does nearly as well as the best of all.
            let way = layer.iter().enumerate().find_map(|(parent, state)| {
                let (from, open) = (state.step.to, if breaks { self.any } else { state.ends });
                let ends = match known {
                    Some((known, ends)) if to == farthest => (parent == known).then_some(ends),
                    _ if parent == 0 && to > reach && !breaks => None,
                    _ => (from < to && self.find(slopes, from, to, open)).then(|| slopes.at_end()),
                };
                Some(State { step: Step { from, to, open, breaks }, ends: ends?, parent })
            });
            ends += usize::from(way.is_some());
            found.extend(way);
        }
        if found.is_empty() {
            // Neighbouring samples always fit, whatever slopes are open.
            let parent = 0;
            let step = Step { from: front, to: front + 1, open: layer[0].ends, breaks: false };
            let fits = self.find(slopes, front, front + 1, step.open);
            let ends = if fits { slopes.at_end() } else { self.any };
            found.push(State { step: Step { breaks: !fits, ..step }, ends, parent });
        }
        (found, leapt)
    }

    /// The farthest end of a piece, if nearer ones fit where farther ones do, and the slopes that are open there.
    fn farthest(
        &self,
        from: usize,
        open: Interval,
        usual: usize,
        slopes: &mut Slopes,
    ) -> (usize, Option<Interval>) {
        let mut last = (0, None);
        let mut fits = |to: usize| {
            let fits = self.find(slopes, from, to, open);
            if fits {
                last = (to, Some(slopes.at_end()));
            }
            fits
        };
        let first = from + 1;
        let guess = (from + usual).clamp(first, self.to);
        let mut step = (usual / 4).max(1);
        if fits(guess) {
            let good = search::farthest(guess, self.to, step, fits);
            return (good, last.1.filter(|_| last.0 == good));
        }
        let (mut good, mut bad) = (first, guess);
        while bad - good > step {
            let to = bad - step;
            if fits(to) {
                good = to;
                break;
            }
            bad = to;
            step *= 2;
        }
        while bad - good > 1 {
            let middle = good + (bad - good) / 2;
            if fits(middle) { good = middle } else { bad = middle }
        }
        (good, last.1.filter(|_| last.0 == good))
    }
}
