//! Where to look: two functions of time side by side, between the instants at which either may do something.

use nimble_curve_curves::time::TICKS_PER_SECOND;

use super::between::{Keys, Samples};
use super::sides::Sides;

/// How two sides are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// Both are curves: everywhere.
    Curves,
    /// At the same instants alone: both are samples and go in straight lines between them, or what lies between was to change.
    SameSamples,
    /// The source is samples, between which nobody knows the motion: at those, and beside what they let expect at eighths
    /// of the way, which is told apart.
    SampledSource,
    /// The source is looked at on frames: at those, and halfway, which is told apart.
    Frames,
    /// The result is samples: at those, and between them beside a straight way between the source's values just after one
    /// and just before the next, halfway, where a straight line and a hold are farthest apart.
    SampledResult,
}

/// What was seen: errors with their times in ticks.
#[derive(Clone, Debug, Default)]
pub struct Seen {
    /// At instants that were looked at.
    pub at: Vec<(f64, f64)>,
    /// Between samples, where it is told apart.
    pub between: Vec<(f64, f64)>,
    /// Whether that is from what samples let expect.
    pub by_readings: bool,
}

/// A piece is looked at in so many places at least, and at most.
const LOOKS: (usize, usize) = (3, 24);

/// Where a part of a piece is delicate it is looked at so many times.
const DELICATE: usize = 16;

/// What is apart by less than this counts as rounding.
const NOTHING: f64 = 1e-9;

/// Within a piece no two looks are farther apart than this, in ticks, unless it takes the most of them: a refit may leave
/// its source several times within a long piece.
const APART: f64 = TICKS_PER_SECOND as f64 / 24.0;

/// How many times looks that tell too little are halved.
const REFINED: usize = 3;

/// Where it is looked at between samples.
const HALF: f64 = 0.5;

/// How many of the worst places are looked at closer.
const CLIMBS: usize = 6;

/// Just before an instant, in ticks. Keys stand on ticks, and what constraints make of a node jumps between two of them: which of the two it is
/// nobody can say.
const BEFORE: f64 = 1.0;

/// Where and how two sides are looked at.
pub struct Looks {
    /// Instants in ascending order, each a first and a last time that cannot be told apart.
    pub knots: Vec<(f64, f64)>,
    pub mode: Mode,
    /// When the result has keys, where the source is samples.
    pub keys: Keys,
    /// Where something may change before and behind all samples, which are held there: both sides are known.
    pub beyond: Vec<f64>,
}

/// Looks at both sides.
pub fn look(sides: &mut impl Sides, looks: &Looks) -> Seen {
    let mut seen = among(sides, looks);
    seen.at.extend(looks.beyond.iter().map(|&time| (time, apart_at(sides, time))));
    seen
}

/// Looks at both sides where there are samples, or everywhere.
fn among(sides: &mut impl Sides, Looks { knots, mode, keys, .. }: &Looks) -> Seen {
    let mode = *mode;
    if mode == Mode::SampledSource {
        return beside_samples(sides, knots, keys);
    }
    let mut seen = Seen::default();
    let mut pieces = Vec::new();
    for (index, &(first, last)) in knots.iter().enumerate() {
        let instant = match mode {
            Mode::Curves => last,
            _ => first,
        };
        let (from, own) = (sides.source(instant), sides.result(instant));
        let begin = seen.at.len();
        seen.at.push((instant, sides.apart(&from, &own)));
        let Some(&(next, _)) = knots.get(index + 1) else { continue };
        if next - last <= 2.0 * BEFORE {
            continue;
        }
        match mode {
            Mode::Curves => {
                let looks = looks(next - last);
                let mut differs = false;
                for index in 1..=looks {
                    let time = last + (next - last) * index as f64 / (looks + 1) as f64;
                    let error = apart_at(sides, time);
                    differs |= error > NOTHING;
                    seen.at.push((time, error));
                }
                // What is off at all may be farther off between.
                let part = (next - last) / (looks + 1) as f64;
                for index in (0..=looks).filter(|_| differs) {
                    let from = last + part * index as f64;
                    let more = if sides.is_delicate(from, from + part) { DELICATE } else { 1 };
                    for index in 0..more {
                        let time = from + part * (index as f64 + 0.5) / more as f64;
                        let error = apart_at(sides, time);
                        seen.at.push((time, error));
                    }
                }
                let end = next - BEFORE;
                let error = apart_at(sides, end);
                seen.at.push((end, error));
                if differs {
                    pieces.push(begin..seen.at.len());
                }
            }
            Mode::SameSamples | Mode::SampledSource => {}
            Mode::Frames => {
                let time = last + (next - last) * HALF;
                let error = apart_at(sides, time);
                seen.between.push((time, error));
            }
            Mode::SampledResult => {
                let time = last + (next - last) * HALF;
                let ours = sides.result(time);
                let to = sides.source(next - BEFORE);
                let way = sides.between(&from, &to, HALF);
                seen.between.push((time, sides.apart(&way, &ours)));
            }
        }
    }
    if mode == Mode::Curves {
        refine(sides, pieces, &mut seen);
        climb(sides, knots, &mut seen);
    }
    seen
}

/// Looks at samples, and at what lies between them beside what they let expect; halfway beside the source where that has
/// nothing to expect from.
fn beside_samples<S: Sides>(sides: &mut S, knots: &[(f64, f64)], keys: &Keys) -> Seen {
    let times: Vec<f64> = knots.iter().map(|(first, _)| *first).collect();
    let values: Vec<S::Value> = times.iter().map(|time| sides.source(*time)).collect();
    let mut errors = Vec::with_capacity(times.len());
    for (&time, value) in times.iter().zip(&values) {
        let own = sides.result(time);
        errors.push(sides.apart(value, &own));
    }
    let at = times.iter().copied().zip(errors.iter().copied()).collect();
    let mut seen = Seen { at, ..Seen::default() };
    let gaps = 0..times.len().saturating_sub(1);
    match Samples::new(sides, &times, &values, &errors) {
        Some(samples) => {
            let departures = gaps.filter_map(|index| samples.departure(sides, index, keys));
            (seen.between, seen.by_readings) = (departures.collect(), true);
        }
        None => {
            let halfway = gaps.map(|index| times[index] + (times[index + 1] - times[index]) * HALF);
            seen.between = halfway.map(|time| (time, apart_at(sides, time))).collect();
        }
    }
    seen
}

/// Looks between looks, where what was seen in the middle of three departs so far from what its neighbours let expect that
/// more than the largest may lie beside it: handles that reach over their piece go up all but at once.
fn refine(sides: &mut impl Sides, pieces: Vec<std::ops::Range<usize>>, seen: &mut Seen) {
    let mut largest = seen.at.iter().map(|(_, error)| *error).fold(0.0, f64::max);
    let mut looks: Vec<(f64, f64)> = Vec::new();
    for piece in pieces {
        looks.clear();
        looks.extend_from_slice(&seen.at[piece]);
        looks.sort_by(|a, b| a.0.total_cmp(&b.0));
        for _ in 0..REFINED {
            let known = looks.len();
            let mut added_to = usize::MAX;
            for index in 1..known.saturating_sub(1) {
                let [a, middle, b] = [looks[index - 1], looks[index], looks[index + 1]];
                let bend = (middle.1 - 0.5 * (a.1 + b.1)).abs();
                let most = a.1.max(middle.1).max(b.1) + bend;
                if most.is_nan() || most <= largest {
                    continue;
                }
                for (pair, gap) in [(index - 1, [a, middle]), (index, [middle, b])] {
                    if pair == added_to || gap[1].0 - gap[0].0 <= 2.0 * BEFORE {
                        continue;
                    }
                    added_to = pair;
                    let time = 0.5 * (gap[0].0 + gap[1].0);
                    let error = apart_at(sides, time);
                    largest = largest.max(error);
                    looks.push((time, error));
                }
            }
            if looks.len() == known {
                break;
            }
            seen.at.extend_from_slice(&looks[known..]);
            looks.sort_by(|a, b| a.0.total_cmp(&b.0));
        }
    }
}

/// In how many places a piece of some ticks is looked at.
fn looks(ticks: f64) -> usize {
    ((ticks / APART).ceil() as usize).clamp(LOOKS.0, LOOKS.1)
}

fn apart_at<S: Sides>(sides: &mut S, time: f64) -> f64 {
    let (from, own) = (sides.source(time), sides.result(time));
    sides.apart(&from, &own)
}

/// Looks closer around the worst instants, within the pieces that they lie in.
fn climb(sides: &mut impl Sides, knots: &[(f64, f64)], seen: &mut Seen) {
    let mut order: Vec<usize> = (0..seen.at.len()).filter(|&index| seen.at[index].1 > 0.0).collect();
    order.sort_by(|&a, &b| seen.at[b].1.total_cmp(&seen.at[a].1));
    for index in order.into_iter().take(CLIMBS) {
        let (time, error) = seen.at[index];
        // The neighbours that were looked at, unless a knot lies between.
        let piece = knots.partition_point(|(first, _)| *first <= time).saturating_sub(1);
        let (from, to) =
            (knots[piece].1, knots.get(piece + 1).map_or(knots[piece].1, |next| next.0 - BEFORE));
        let step = (to - from) * 0.5 / (looks(to - from) + 1) as f64;
        let is_delicate = sides.is_delicate((time - step).max(from), (time + step).min(to));
        let step = if is_delicate { step / DELICATE as f64 } else { step };
        let (mut low, mut high) = ((time - step).max(from), (time + step).min(to));
        if high - low <= 2.0 || !error.is_finite() {
            continue;
        }
        let mut best = (time, error);
        for _ in 0..16 {
            let (a, b) = (low + (high - low) * 0.382, low + (high - low) * 0.618);
            let (at_a, at_b) = (apart_at(sides, a), apart_at(sides, b));
            for found in [(a, at_a), (b, at_b)] {
                if found.1 > best.1 {
                    best = found;
                }
            }
            if at_a > at_b { high = b } else { low = a }
        }
        seen.at.push(best);
    }
}

/// Instants with those that cannot be told apart put together.
pub fn knots(mut times: Vec<f64>, precision: f64) -> Vec<(f64, f64)> {
    times.sort_by(f64::total_cmp);
    let mut knots: Vec<(f64, f64)> = Vec::with_capacity(times.len());
    for time in times {
        match knots.last_mut() {
            Some((_, last)) if time - *last <= precision => *last = time,
            _ => knots.push((time, time)),
        }
    }
    knots
}
