//! Handles of their own lengths: one weighted piece where plain ones would need keys in between.
//!
//! With its ends and its slopes given, a weighted piece has two lengths left for each angle. They are those of the least
//! squares over some samples of the path, found by damped Gauss–Newton steps (Levenberg 1944, Marquardt 1963) from the
//! lengths of a plain piece on, each angle by itself.

use crate::curve::{legal_scale, parameter_near};

/// A weighted piece without its handles' lengths: its rise from the first end to the last, and the slopes over it there.
#[derive(Clone, Copy, Debug)]
pub(super) struct Ends {
    pub rise: f64,
    pub slopes: (f64, f64),
}

/// The lengths of a plain piece's handles.
pub(super) const PLAIN: (f64, f64) = (1.0 / 3.0, 1.0 / 3.0);

/// Handles are no shorter than this part of a piece, and reach no farther together than the rest of it.
const SHORTEST: f64 = 0.03;
const STEPS: usize = 16;
/// So exactly, in parts of its time, the place of a sample on a piece is found.
const PRECISION: f64 = 1e-8;
/// It is near enough where it is off by this part of the tolerance on average.
const NEAR: f64 = 0.1;
/// Where the first steps lead to this many times the room, others hardly ever lead within it.
const FAR: f64 = 30.0;
/// Where the steps begin, until they lead to a piece that passes this many times closer than a plain one.
const STARTS: [(f64, f64); 5] = [PLAIN, (0.55, 0.55), (0.2, 0.2), (0.55, 0.2), (0.2, 0.55)];
const CLOSER: f64 = 50.0;

/// The handles' lengths, in parts of the piece, with which it passes close by some samples: parts of its time and values
/// relative to its start. The search ends where it passes far within a tolerance.
/// `None` where none are found with which it is off by no more, on average, than any sample has room for.
pub(super) fn lengths(ends: Ends, samples: &[(f64, f64)], tolerance: f64, room: f64) -> Option<(f64, f64)> {
    let plain = Normal::of(ends, samples, PLAIN).square;
    let square = |off: f64| samples.len() as f64 * off * off;
    let enough = square(NEAR * tolerance);
    let mut best = (plain, PLAIN);
    for start in STARTS {
        if best.0 <= enough || best.0 * CLOSER * CLOSER <= plain {
            break;
        }
        let found = descend(ends, samples, start, enough);
        if found.0 < best.0 {
            best = found;
        }
        if best.0 > square(FAR * room) {
            break;
        }
    }
    (best.0 <= square(room)).then_some(best.1)
}

/// Steps down from some lengths until the sum of squares is small enough: to which one they lead, and where.
fn descend(ends: Ends, samples: &[(f64, f64)], start: (f64, f64), enough: f64) -> (f64, (f64, f64)) {
    let mut at = start;
    let mut now = Normal::of(ends, samples, at);
    let mut damping = 1e-3;
    for _ in 0..STEPS {
        let before = now.square;
        let mut tried = 0;
        loop {
            let next = legal(now.step(at, damping));
            let then = Normal::of(ends, samples, next);
            if then.square < now.square {
                (at, now) = (next, then);
                damping = (damping * 0.2).max(1e-9);
                break;
            }
            damping *= 8.0;
            tried += 1;
            if tried == 6 {
                return (now.square, at);
            }
        }
        if now.square > 0.98 * before || now.square <= enough {
            break;
        }
    }
    (now.square, at)
}

/// Lengths with which time runs forward.
fn legal((a, b): (f64, f64)) -> (f64, f64) {
    let clamp = |length: f64| length.clamp(SHORTEST, 1.0 - SHORTEST);
    let (a, b) = (clamp(a), clamp(b));
    let reach = legal_scale(a / (1.0 - SHORTEST), b / (1.0 - SHORTEST));
    (a * reach, b * reach)
}

/// The sum of squares at some lengths, and what the next step needs.
struct Normal {
    square: f64,
    aa: f64,
    ab: f64,
    bb: f64,
    ra: f64,
    rb: f64,
}

impl Normal {
    fn of(Ends { rise, slopes: (m0, m1) }: Ends, samples: &[(f64, f64)], (a, b): (f64, f64)) -> Normal {
        let mut sums = Normal { square: 0.0, aa: 0.0, ab: 0.0, bb: 0.0, ra: 0.0, rb: 0.0 };
        let (mut before, mut guess) = (0.0, None);
        for &(u, value) in samples {
            let near = guess.map_or(u, |(s, rate)| s + (u - before) / rate);
            let s = parameter_near(a, b, u, near.clamp(0.0, 1.0), PRECISION);
            let r = 1.0 - s;
            let (first, second) = (3.0 * r * r * s, 3.0 * r * s * s);
            let off = first * a * m0 + second * (rise - b * m1) + s * s * s * rise - value;
            // A longer handle moves the piece towards its own line: by how much it is steeper than the piece there.
            let time = 3.0 * (r * r * a + 2.0 * r * s * (1.0 - a - b) + s * s * b);
            let way = 3.0 * (r * r * a * m0 + 2.0 * r * s * (rise - a * m0 - b * m1) + s * s * b * m1);
            let slope = way / time.max(1e-9);
            (before, guess) = (u, Some((s, time.max(1e-3))));
            let (by_a, by_b) = (first * (m0 - slope), second * (slope - m1));
            sums.square += off * off;
            sums.aa += by_a * by_a;
            sums.ab += by_a * by_b;
            sums.bb += by_b * by_b;
            sums.ra += by_a * off;
            sums.rb += by_b * off;
        }
        sums
    }

    fn step(&self, (a, b): (f64, f64), damping: f64) -> (f64, f64) {
        let least = 1e-12 * (self.aa + self.bb) + 1e-300;
        let (aa, bb) = (self.aa * (1.0 + damping) + least, self.bb * (1.0 + damping) + least);
        let det = aa * bb - self.ab * self.ab;
        (a - (self.ra * bb - self.rb * self.ab) / det, b - (self.rb * aa - self.ra * self.ab) / det)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::curve::{Key, Segment, Tangent, Ticks};

    proptest! {
        #[test]
        fn the_handles_of_a_weighted_piece_are_found_again(
            a in 0.15..0.6_f64, b in 0.15..0.6_f64, m0 in -4.0..4.0_f64, m1 in -4.0..4.0_f64, rise in -1.0..1.0_f64
        ) {
            // Where a slope is that of the whole, lengths along it tell little.
            prop_assume!((m0 - rise).abs() > 0.5 && (m1 - rise).abs() > 0.5 && legal_scale(a, b) == 1.0);
            let gap = 1_000_000.0;
            let key = |time, value| Key::new(Ticks(time), value);
            let from = Key { tangent_out: Tangent::handle(a * gap, a * m0), ..key(0, 0.0) };
            let to = Key { tangent_in: Tangent::handle(b * gap, b * m1), ..key(gap as i64, rise) };
            let piece = Segment::between(&from, &to);
            let sample = |index: i32| (f64::from(index) / 24.0, piece.value(gap * f64::from(index) / 24.0).unwrap());
            let samples: Vec<(f64, f64)> = (1..24).map(sample).collect();
            let ends = Ends { rise, slopes: (m0, m1) };
            let tolerance = 1e-3;
            let found = lengths(ends, &samples, tolerance, 1.0).unwrap();
            let off = |lengths| (Normal::of(ends, &samples, lengths).square / 23.0).sqrt();
            // Another pair of lengths may pass nearly as close, and is then as good; the search ends where it is near enough.
            let enough = (off(PLAIN) / CLOSER).max(NEAR * tolerance);
            prop_assert!(off(found) <= enough, "{found:?} {} {}", off(found), off(PLAIN));
        }
    }
}
