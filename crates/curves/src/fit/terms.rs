//! What the slopes at both ends of a piece do to the samples within it: so much for handles of any lengths.
//!
//! With the lengths of both handles given, the Bézier parameter of each sample follows from its time, and its value is linear
//! in the two slopes.

use std::sync::OnceLock;

use crate::curve::parameter_at;

/// What the slopes at the start and at the end, and the rise from start to end, do to one sample of a piece.
#[derive(Clone, Copy, Debug)]
pub(super) struct Term {
    pub index: usize,
    pub start: f64,
    pub end: f64,
    pub rise: f64,
}

/// The lengths of a piece's two handles that are tried, one of a few: the first is that of a plain cubic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Lengths(usize);

/// Lengths of one handle, in parts of the piece.
const CHOICES: [f64; 3] = [1.0 / 3.0, 0.15, 0.6];

/// The longest piece, in samples, whose terms are kept at hand.
const AT_HAND: usize = 192;

/// The terms of pieces: the two that a search for slopes starts from, and the further ones.
type Terms = ([Term; 2], Vec<Term>);

/// The terms by lengths of handles, then by the length of the piece.
static TERMS: [OnceLock<Vec<Terms>>; 9] = [const { OnceLock::new() }; 9];

impl Lengths {
    /// A third of the piece each: a plain cubic in time.
    pub const PLAIN: Lengths = Lengths(0);

    /// All that are tried.
    pub fn all() -> impl Iterator<Item = Lengths> {
        (0..CHOICES.len() * CHOICES.len()).map(Lengths)
    }

    /// Whether the piece is a plain cubic.
    pub fn are_plain(self) -> bool {
        self == Lengths::PLAIN
    }

    /// Both lengths, in parts of the piece.
    pub fn parts(self) -> (f64, f64) {
        (CHOICES[self.0 / CHOICES.len()], CHOICES[self.0 % CHOICES.len()])
    }

    /// The terms of a piece of `last` samples and one, if they are kept.
    #[inline]
    pub(super) fn at_hand(self, last: usize) -> Option<&'static Terms> {
        let made =
            || (0..=AT_HAND).map(|last| (self.first_terms(last), self.terms(last).collect())).collect();
        TERMS[self.0].get_or_init(made).get(last)
    }

    /// The terms of the two samples that a piece of four samples or more starts from.
    pub(super) fn first_terms(self, last: usize) -> [Term; 2] {
        let (first, second) = thirds(last);
        [self.term(first, last), self.term(second, last)]
    }

    /// The further terms of a piece of `last` samples and one, far-apart samples first: where there is no piece, that shows
    /// soonest.
    pub(super) fn terms(self, last: usize) -> impl Iterator<Item = Term> {
        let first = last.next_power_of_two().max(2) / 2;
        let strides =
            std::iter::successors(Some(first), |stride| Some(stride / 2)).take_while(|stride| *stride > 0);
        let (first, second) = thirds(last);
        strides
            .flat_map(move |stride| (stride..last).step_by(stride * 2))
            .filter(move |index| last < 3 || (*index != first && *index != second))
            .map(move |index| self.term(index, last))
    }

    /// The sums of the normal equations for a piece's two slopes.
    pub(super) fn sums(self, samples: &[f64]) -> Sums {
        let last = samples.len() - 1;
        let (from, rise) = (samples[0], samples[last] - samples[0]);
        let mut sums = Sums::default();
        let mut take = |term: &Term| {
            let rest = samples[term.index] - from - rise * term.rise;
            sums.starts += term.start * term.start;
            sums.both += term.start * term.end;
            sums.ends += term.end * term.end;
            sums.start += term.start * rest;
            sums.end += term.end * rest;
        };
        match self.at_hand(last) {
            Some((first, further)) => {
                if last >= 3 {
                    first.iter().for_each(&mut take);
                }
                further.iter().for_each(take);
            }
            None => (1..last).for_each(|index| take(&self.term(index, last))),
        }
        sums
    }

    /// The term of one sample of a piece of `last` samples and one.
    fn term(self, index: usize, last: usize) -> Term {
        Term { index, ..self.term_at(index as f64, last) }
    }

    /// The term of an instant of a piece of `last` samples and one, in samples from its first.
    pub(super) fn term_at(self, at: f64, last: usize) -> Term {
        let (length, u) = (last as f64, at / last as f64);
        let (out, into) = self.parts();
        let s = if self.are_plain() { u } else { parameter_at(out, into, u, u) };
        let r = 1.0 - s;
        Term {
            index: at as usize,
            start: 3.0 * out * length * s * r * r,
            end: -3.0 * into * length * s * s * r,
            rise: s * s * (3.0 - 2.0 * s),
        }
    }
}

/// Sums over the samples of a piece: of the squares of what the slopes do to them, and of that times what is left to do.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Sums {
    pub starts: f64,
    pub both: f64,
    pub ends: f64,
    pub start: f64,
    pub end: f64,
}

/// The two samples whose terms a piece of four samples or more starts from.
fn thirds(last: usize) -> (usize, usize) {
    (last / 3, last - last / 3)
}
