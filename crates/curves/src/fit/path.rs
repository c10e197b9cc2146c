//! The fewest pieces along a stretch of samples whose tangents join: a search over how far so many pieces reach.
//!
//! A piece starts with a slope that the one before left open. So many pieces reach many samples, each with slopes of its
//! own; those near the farthest are kept, and the next piece starts from all of them. With all of them and all slopes kept
//! this would be the exhaustive dynamic programme; with the [`BEAM`] farthest it is within a few percent of it, at a cost
//! in proportion to the number of samples.

use super::piece::{Interval, Slopes};
use super::terms::Lengths;
use super::{ErrorBound, Handles};
use crate::search;

/// How many ends are kept for so many pieces.
const BEAM: usize = 6;
/// How many, where handles may have other lengths, and how many ways to the same end.
const WIDER: usize = 12;
const WAYS: usize = 2;
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
    /// How long its handles are.
    pub lengths: Lengths,
}

/// What the path runs through; keys count by themselves, each a stride of samples after the one before.
pub(super) struct Stretch<'a> {
    pub samples: &'a [f64],
    pub stride: usize,
    pub from: usize,
    pub to: usize,
    pub room: ErrorBound<'a>,
    pub any: Interval,
    /// Whether handles may have other lengths than a third.
    pub handles: Handles,
}

#[derive(Clone, Copy, Debug)]
struct State {
    step: Step,
    /// The slopes that are open at its end.
    ends: Interval,
    /// Position of the piece before.
    parent: usize,
}

impl Stretch<'_> {
    /// The slopes that a piece may end with: any, but samples of a short piece do not hold wild ones back by
    /// themselves, so there the differences around it do.
    pub fn any_for(&self, at: usize, to: usize) -> Interval {
        if to - at > 3 {
            return self.any;
        }
        let (at, to) = (at * self.stride, to * self.stride);
        let around = &self.samples[at.saturating_sub(1)..(to + 2).min(self.samples.len())];
        let steepest = around.windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f64::max);
        let most = 2.0 * steepest + self.room.tolerance;
        Interval { low: -most, high: most }
    }

    /// Finds the slopes of a piece with handles of some lengths; whether there are any.
    fn find_with(
        &self,
        slopes: &mut Slopes,
        lengths: Lengths,
        (from, to): (usize, usize),
        open: Interval,
    ) -> bool {
        let any = self.any_for(from, to);
        let (from, to) = (from * self.stride, to * self.stride);
        slopes.set_lengths(lengths);
        slopes.find(&self.samples[from..=to], self.room.part(from, to), open, any)
    }

    /// Finds the slopes of a piece, whatever the lengths of its handles may be; whether there are any.
    fn find(&self, slopes: &mut Slopes, from: usize, to: usize, open: Interval) -> bool {
        if self.handles == Handles::Plain {
            return self.find_with(slopes, Lengths::PLAIN, (from, to), open);
        }
        // What did last time does mostly again.
        let last = slopes.lengths();
        self.find_with(slopes, last, (from, to), open)
            || Lengths::all()
                .filter(|lengths| *lengths != last)
                .any(|lengths| self.find_with(slopes, lengths, (from, to), open))
    }

    /// The lengths of handles with which there is a piece, and the slopes that are open at its end: of all the widest, and
    /// those that open the most beside it.
    fn ways(&self, searcher: &mut Searcher, from: usize, to: usize, open: Interval) -> [Option<Way>; WAYS] {
        let mut found: [Option<Way>; WAYS] = [None; WAYS];
        let mut all: [Option<Way>; 9] = [None; 9];
        for (way, lengths) in all.iter_mut().zip(Lengths::all()) {
            let fits = self.find_with(&mut searcher.slopes, lengths, (from, to), open);
            *way = fits.then(|| Way { lengths, ends: searcher.slopes.at_end() });
        }
        for nth in 0..WAYS {
            let opens = |way: &Way| {
                let taken = found.iter().flatten();
                let common =
                    |own: &Way| (own.ends.high.min(way.ends.high) - own.ends.low.max(way.ends.low)).max(0.0);
                way.ends.width() - taken.map(common).fold(0.0, f64::max)
            };
            let best = all.iter().flatten().max_by(|a, b| opens(a).total_cmp(&opens(b)));
            found[nth] = best.copied().filter(|way| nth == 0 || opens(way) > 0.0);
        }
        found
    }

    /// The slopes of a piece that was found, or of what comes nearest between two neighbours that have none.
    pub fn take(&self, slopes: &mut Slopes, step: &Step) {
        let (from, to) = (step.from, step.to);
        if !self.find_with(slopes, step.lengths, (from, to), step.open) {
            let (from, to) = (from * self.stride, to * self.stride);
            slopes.nearest(&self.samples[from..=to], self.room.part(from, to));
        }
    }

    /// The fewest pieces found from start to end that start with a slope in `open`; the last one ends with `wanted`, if
    /// that costs no piece more.
    pub fn fewest(&self, open: Interval, wanted: Option<f64>) -> Vec<Step> {
        let mut searcher = Searcher::default();
        let lengths = Lengths::PLAIN;
        let start = Step { from: self.from, to: self.from, open, breaks: false, lengths };
        let mut hope = HOPE;
        // All layers one after another, and where each begins.
        let mut states = vec![State { step: start, ends: open, parent: 0 }];
        let mut layers = vec![0];
        loop {
            let begin = layers[layers.len() - 1];
            let last_piece = states[begin].step.to - states[begin].step.from;
            let far = hope > 0 || layers.len().is_multiple_of(3);
            layers.push(states.len());
            let leapt = self.next_layer(&mut states, begin, last_piece.max(4), far, &mut searcher);
            hope = if leapt { HOPE } else { hope.saturating_sub(1) };
            if states[layers[layers.len() - 1]..].iter().any(|state| state.step.to == self.to) {
                break;
            }
        }
        self.walk_back(&states, &layers, wanted)
    }

    fn walk_back(&self, states: &[State], layers: &[usize], wanted: Option<f64>) -> Vec<Step> {
        let last = states.iter().enumerate().skip(layers[layers.len() - 1]);
        let at_end = last.filter(|(_, state)| state.step.to == self.to);
        let badness = |state: &State| {
            let misses = wanted.is_some_and(|slope| !state.ends.contains(slope));
            (misses, state.step.breaks, -state.ends.width())
        };
        let best = at_end.min_by(|(_, a), (_, b)| {
            badness(a).partial_cmp(&badness(b)).unwrap_or(std::cmp::Ordering::Equal)
        });
        let mut position = best.map_or(0, |(position, _)| position);
        let mut steps = Vec::with_capacity(layers.len() - 1);
        while position > 0 {
            let state = &states[position];
            steps.push(state.step);
            position = state.parent;
        }
        steps.reverse();
        steps
    }

    /// Adds what one piece more reaches from the last layer, which starts at `begin`; `far` says whether longer pieces are
    /// looked for beyond some that do not fit. Whether there were such.
    fn next_layer(
        &self,
        states: &mut Vec<State>,
        begin: usize,
        usual: usize,
        far: bool,
        searcher: &mut Searcher,
    ) -> bool {
        let end = states.len();
        let layer = &states[begin..];
        // The farthest end: from the first state by search, and whether others reach a little farther.
        let reach = self.farthest(layer[0].step.to, layer[0].ends, usual, searcher);
        let mut farthest = reach;
        // The state from which the farthest end is reached, and the slopes that are open there.
        let mut known = searcher.ends_at(reach).map(|ends| (0, ends));
        let beyond = if far { (usual / BEYOND.2).clamp(BEYOND.0, BEYOND.1) } else { 1 };
        let mut leapt = false;
        for (parent, state) in layer.iter().enumerate().skip(1) {
            let mut ends_at = |to: usize| {
                let fits = to <= self.to && self.find(&mut searcher.slopes, state.step.to, to, state.ends);
                fits.then(|| (to, searcher.slopes.at_end()))
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
            let mut alone = Searcher::default();
            let far = self.farthest(front, self.any, usual, &mut alone);
            breaks = far > front + 3 * (farthest - front).max(1);
            if breaks {
                *searcher = alone;
                (farthest, known) = (far, searcher.ends_at(far).map(|ends| (0, ends)));
            }
        }
        let longest = (farthest - layer[layer.len() - 1].step.to).max(1);
        let behind = ((longest as f64 * BEHIND) as usize).max(2);
        let beam = if self.handles == Handles::Plain { BEAM } else { WIDER };
        for to in (front + 1..=farthest).rev() {
            let found = states.len() - end;
            if found >= beam || (found > 0 && to + behind < farthest) {
                break;
            }
            // The way from the farthest of the ends before does nearly as well as the best of all.
            let way = states[begin..end].iter().enumerate().find_map(|(parent, state)| {
                let (from, open) = (state.step.to, if breaks { self.any } else { state.ends });
                let ends = match known {
                    Some((known, ends)) if to == farthest => (parent == known).then_some(ends),
                    _ if parent == 0 && to > reach && !breaks => None,
                    _ => {
                        let before = if parent == 0 { searcher.ends_at(to) } else { None };
                        before.or_else(|| {
                            let fits = from < to && self.find(&mut searcher.slopes, from, to, open);
                            fits.then(|| searcher.slopes.at_end())
                        })
                    }
                };
                let lengths = Lengths::PLAIN;
                let step = Step { from, to, open, breaks, lengths };
                Some(State { step, ends: ends?, parent: begin + parent })
            });
            let Some(state) = way else { continue };
            if self.handles == Handles::Plain {
                states.push(state);
                continue;
            }
            let ways = self.ways(searcher, state.step.from, to, state.step.open);
            states.extend(ways.into_iter().flatten().map(|Way { lengths, ends }| State {
                step: Step { lengths, ..state.step },
                ends,
                ..state
            }));
        }
        if states.len() == end {
            // Neighbouring samples always fit, if not with the slopes that are open, then with others.
            let (open, lengths) = (states[begin].ends, Lengths::PLAIN);
            let breaks = !self.find_with(&mut searcher.slopes, lengths, (front, front + 1), open);
            let open = if breaks { self.any } else { open };
            let step = Step { from: front, to: front + 1, open, breaks, lengths };
            if breaks {
                self.take(&mut searcher.slopes, &step);
            }
            states.push(State { step, ends: searcher.slopes.at_end(), parent: begin });
        }
        leapt
    }

    /// The farthest end of a piece, if nearer ones fit where farther ones do; the searcher knows the slopes that are open
    /// there and at the nearer ones that were tried.
    fn farthest(&self, from: usize, open: Interval, usual: usize, searcher: &mut Searcher) -> usize {
        let Searcher { slopes, tried } = searcher;
        tried.clear();
        let mut fits = |to: usize| {
            let fits = self.find(slopes, from, to, open);
            if fits {
                tried.push((to, slopes.at_end()));
            }
            fits
        };
        let first = from + 1;
        let guess = (from + usual).clamp(first, self.to);
        let mut step = (usual / 4).max(1);
        if fits(guess) {
            return search::farthest(guess, self.to, step, fits);
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
        good
    }
}

/// One way to say a piece.
#[derive(Clone, Copy, Debug)]
struct Way {
    lengths: Lengths,
    ends: Interval,
}

/// Finds slopes, and remembers what it found from the farthest end on.
#[derive(Default)]
struct Searcher {
    slopes: Slopes,
    /// Ends that were tried and can be reached, with the slopes that are open there.
    tried: Vec<(usize, Interval)>,
}

impl Searcher {
    /// The slopes that are open at an end that was tried.
    fn ends_at(&self, to: usize) -> Option<Interval> {
        self.tried.iter().find(|(end, _)| *end == to).map(|(_, ends)| *ends)
    }
}
