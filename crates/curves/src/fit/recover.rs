//! Recovery: the keys that samples were baked from.
//!
//! Samples of one cubic have a fourth difference of zero. Samples around a key have not: where a slope, a second or a
//! third derivative changes at sample k, the fourth differences that reach across k are (1, −2, 1), (1, 0, −1) or
//! (1, 4, 1) times the change, from k − 3 to k − 1. So runs of zeros are the pieces, and what lies between runs are the
//! keys: runs that end and start on one sample meet in a key there; runs that end and start on neighbouring samples
//! meet in a jump, or in a key between the two where both cubics have one value and one slope.

use super::weighted::Search;
use super::{FittedKey, Handles};
use crate::curve::Interpolation;

/// What was found.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Recovery {
    /// The keys, in order; where a rough stretch begins and ends there is a key, too.
    pub keys: Vec<FittedKey>,
    /// Stretches, from one sample to another, that no structure was found in.
    pub rough: Vec<(usize, usize)>,
}

/// The shortest piece of which its samples tell more than any cubic would: five samples.
const SHORTEST: usize = 4;

/// One cubic found in the samples.
#[derive(Clone, Copy, Debug)]
struct Piece {
    from: usize,
    to: usize,
    /// Values at both ends; the last one is off its sample where the piece ends before a jump.
    values: (f64, f64),
    /// Slopes at both ends, in value a sample.
    slopes: (f64, f64),
}

/// Looks for the keys that samples with this precision (the largest rounding of a sample) were baked from; `None`
/// where less than half of the samples lie on pieces that can be told.
pub fn recover(samples: &[f64], precision: f64, handles: Handles) -> Option<Recovery> {
    if let Some(keys) = stepped(samples, precision) {
        return Some(Recovery { keys, rough: Vec::new() });
    }
    let pieces = pieces(samples, precision);
    let covered: usize = pieces.iter().map(|piece| piece.to - piece.from).sum();
    if handles == Handles::Weighted
        && samples.len() > SHORTEST
        && let Some(found) = with_weighted(samples, &pieces, precision)
    {
        return Some(found);
    }
    if pieces.is_empty() || 2 * covered < samples.len() - 1 {
        return None;
    }
    Some(joined(samples, &pieces, precision))
}

/// Weighted pieces count as found where they meet so many samples more than they have numbers of their own, in the mean: any
/// five samples lie on one.
const REDUNDANT: f64 = 1.5;

/// The same with weighted pieces in the stretches that are no plain cubics.
fn with_weighted(samples: &[f64], pieces: &[Piece], precision: f64) -> Option<Recovery> {
    let last = samples.len() - 1;
    let mut recovery = match pieces {
        [] => Recovery {
            keys: [0, last].map(|at| FittedKey::on(at, samples[at], 0.0, Interpolation::Cubic)).to_vec(),
            rough: vec![(0, last)],
        },
        _ => joined(samples, pieces, precision),
    };
    let span = samples.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), &v| (l.min(v), h.max(v)));
    let search = Search::new(samples, (4.0 * precision).max(1e-9 * (span.1 - span.0)));
    if !recovery.rough.iter().any(|&(from, to)| search.shows_any(from, to)) {
        return None;
    }
    let mut covered: usize = last;
    let mut weighted = Vec::new();
    for (from, to) in std::mem::take(&mut recovery.rough) {
        for stretch in search.pieces(from, to)? {
            let (start, end) = (stretch.from, stretch.to);
            let at = recovery.keys.partition_point(|key| key.at < start as f64);
            if recovery.keys[at + 1].at != end as f64 {
                let new = FittedKey::on(end, samples[end], 0.0, Interpolation::Cubic);
                recovery.keys.insert(at + 1, new);
            }
            let (Some(piece), Some((out, into))) = (stretch.piece, stretch.slopes()) else {
                covered -= end - start;
                recovery.rough.push((start, end));
                continue;
            };
            weighted.push((start, end));
            let length = (end - start) as f64;
            recovery.keys[at].slope_out = out;
            recovery.keys[at].handles.1 = Some(piece.lengths.0 * length);
            recovery.keys[at].interpolation = Interpolation::Cubic;
            recovery.keys[at + 1].slope_in = into;
            recovery.keys[at + 1].handles.0 = Some(piece.lengths.1 * length);
        }
    }
    for key in &mut recovery.keys {
        // Joined tangents, to the precision of the search.
        if (key.slope_in - key.slope_out).abs() <= 1e-6 * (key.slope_in.abs() + key.slope_out.abs()) {
            key.slope_in = key.slope_out;
        }
    }
    // Two handles have a length and a slope each; a tangent that joins gives one of these.
    let joins = |start: usize| {
        recovery.keys.iter().any(|key| key.at == start as f64 && key.slope_in == key.slope_out)
    };
    let spare = |&(start, end): &(usize, usize)| {
        (end - start) as f64 - 5.0 + f64::from(u8::from(start > 0 && joins(start)))
    };
    let is_told = weighted.iter().map(spare).sum::<f64>() >= REDUNDANT * weighted.len() as f64;
    (is_told && 2 * covered >= last).then_some(recovery)
}

/// Values that only ever hold, for two samples at least: a key wherever another value comes up.
fn stepped(samples: &[f64], precision: f64) -> Option<Vec<FittedKey>> {
    let changes: Vec<usize> =
        (1..samples.len()).filter(|&index| (samples[index] - samples[index - 1]).abs() > precision).collect();
    let is_stepped = changes.len() >= 2 && changes.windows(2).all(|pair| pair[1] - pair[0] >= 2);
    if !is_stepped || changes[0] < 2 || 2 * changes.len() > samples.len() {
        return None;
    }
    let key = |index: usize| FittedKey {
        interpolation: Interpolation::Hold,
        ..FittedKey::on(index, samples[index], 0.0, Interpolation::Hold)
    };
    Some(std::iter::once(0).chain(changes).map(key).collect())
}

/// The cubics of five samples or more, in order; neighbours share a sample or none.
fn pieces(samples: &[f64], precision: f64) -> Vec<Piece> {
    let zero = 16.0 * precision;
    let difference = |i: usize| {
        samples[i] - 4.0 * samples[i + 1] + 6.0 * samples[i + 2] - 4.0 * samples[i + 3] + samples[i + 4]
    };
    let mut found: Vec<Piece> = Vec::new();
    let count = samples.len().saturating_sub(SHORTEST);
    let mut start = 0;
    while start < count {
        if difference(start).abs() > zero {
            start += 1;
            continue;
        }
        let mut end = start;
        while end + 1 < count && difference(end + 1).abs() <= zero {
            end += 1;
        }
        let (from, to) = (start, end + SHORTEST);
        start = end + 1;
        // Small differences may add up: the piece must be one cubic indeed.
        if let Some(piece) = cubic(samples, from, to, precision) {
            found.push(piece);
        }
    }
    separate(samples, &mut found, precision);
    held_ends(samples, &mut found);
    found
}

/// What is held before a first key or after a last one may be too short to show, but stands still to the last bit.
fn held_ends(samples: &[f64], pieces: &mut Vec<Piece>) {
    let (Some(first), Some(end), last) = (pieces.first(), pieces.last(), samples.len() - 1) else { return };
    let (first, end) = (first.from, end.to);
    let flat = |from: usize, to: usize| {
        let value = samples[from];
        Piece { from, to, values: (value, value), slopes: (0.0, 0.0) }
    };
    let held = (end..last).rev().take_while(|&index| samples[index] == samples[last]).last();
    pieces.extend(held.map(|from| flat(from, last)));
    let held = (1..=first).take_while(|&index| samples[index] == samples[0]).last();
    if let Some(to) = held {
        pieces.insert(0, flat(0, to));
    }
}

/// By chance a cubic may go on through a sample or two of the next: neighbours then meet where their slopes differ least.
/// A piece that cannot be cut to begin where the one before ends is none.
fn separate(samples: &[f64], pieces: &mut Vec<Piece>, precision: f64) {
    let mut apart: Vec<Piece> = Vec::with_capacity(pieces.len());
    for &piece in pieces.iter() {
        let Some(before) = apart.last_mut() else {
            apart.push(piece);
            continue;
        };
        if before.to <= piece.from {
            apart.push(piece);
            continue;
        }
        let gap = |at: &usize| (before.slope_at(*at as f64) - piece.slope_at(*at as f64)).abs();
        let Some(meeting) = (piece.from..=before.to).min_by(|x, y| gap(x).total_cmp(&gap(y))) else {
            continue;
        };
        let cut = |from, to| cubic(samples, from, to, precision);
        if let (Some(first), Some(second)) = (cut(before.from, meeting), cut(meeting, piece.to)) {
            *before = first;
            apart.push(second);
        }
    }
    *pieces = apart;
}

/// The cubic over `from..=to` through its end samples, if one fits them all; slopes by least squares.
fn cubic(samples: &[f64], from: usize, to: usize, precision: f64) -> Option<Piece> {
    if to < from + 2 {
        return None;
    }
    let length = (to - from) as f64;
    let (v0, v1) = (samples[from], samples[to]);
    let (mut aa, mut ab, mut bb, mut ra, mut rb) = (0.0, 0.0, 0.0, 0.0, 0.0);
    let each = |visit: &mut dyn FnMut(f64, f64, f64)| {
        for (index, sample) in samples.iter().enumerate().take(to).skip(from + 1) {
            let u = (index - from) as f64 / length;
            let r = 1.0 - u;
            let base = v0 + (v1 - v0) * u * u * (3.0 - 2.0 * u);
            visit(length * u * r * r, -length * u * u * r, sample - base);
        }
    };
    each(&mut |a, b, rest| {
        aa += a * a;
        ab += a * b;
        bb += b * b;
        ra += a * rest;
        rb += b * rest;
    });
    let det = aa * bb - ab * ab;
    if det <= 0.0 {
        return None;
    }
    let slopes = ((ra * bb - rb * ab) / det, (aa * rb - ab * ra) / det);
    let mut worst = 0.0_f64;
    each(&mut |a, b, rest| worst = worst.max((a * slopes.0 + b * slopes.1 - rest).abs()));
    // The ends are as rounded as the rest, so that the middle may be off by twice as much.
    (worst <= 4.0 * precision).then_some(Piece { from, to, values: (v0, v1), slopes })
}

impl Piece {
    fn parts(&self, at: f64) -> (f64, f64, [f64; 4]) {
        let length = (self.to - self.from) as f64;
        let u = (at - self.from as f64) / length;
        let (m0, m1) = (self.slopes.0 * length, self.slopes.1 * length);
        let rise = self.values.1 - self.values.0;
        (u, length, [self.values.0, m0, 3.0 * rise - 2.0 * m0 - m1, m0 + m1 - 2.0 * rise])
    }

    fn value_at(&self, at: f64) -> f64 {
        let (u, _, [c0, c1, c2, c3]) = self.parts(at);
        c0 + u * (c1 + u * (c2 + u * c3))
    }

    fn slope_at(&self, at: f64) -> f64 {
        let (u, length, [_, c1, c2, c3]) = self.parts(at);
        (c1 + u * (2.0 * c2 + u * 3.0 * c3)) / length
    }

    fn is_flat(&self, precision: f64) -> bool {
        (self.values.1 - self.values.0).abs() <= 2.0 * precision
            && self.slopes.0.abs().max(self.slopes.1.abs()) * (self.to - self.from) as f64 <= 32.0 * precision
    }

    fn is_straight(&self, precision: f64) -> bool {
        let length = (self.to - self.from) as f64;
        let chord = (self.values.1 - self.values.0) / length;
        (self.slopes.0 - chord).abs().max((self.slopes.1 - chord).abs()) * length <= 64.0 * precision
    }

    fn way(&self, precision: f64) -> Interpolation {
        if self.is_straight(precision) && !self.is_flat(precision) {
            Interpolation::Linear
        } else {
            Interpolation::Cubic
        }
    }
}

/// Keys where the pieces meet.
fn joined(samples: &[f64], pieces: &[Piece], precision: f64) -> Recovery {
    let mut recovery = Recovery::default();
    let last = samples.len() - 1;
    let first = pieces[0];
    if first.from > 0 {
        recovery.keys.push(FittedKey::on(0, samples[0], 0.0, Interpolation::Cubic));
        recovery.rough.push((0, first.from));
    }
    recovery.keys.push(FittedKey::on(first.from, first.values.0, first.slopes.0, first.way(precision)));
    // A tangent that joins between two samples is hardly there by chance: time was changed, and corners lie between
    // samples, too. Else two pieces that meet on no sample jump.
    let meetings = || pieces.windows(2).map(|pair| (pair[0], pair[1]));
    let corners = meetings().any(|(a, b)| a.to + 1 == b.from && crossing(&a, &b, precision).is_some());
    for pair in meetings() {
        meet(samples, &mut recovery, pair, precision, corners);
    }
    let end = pieces[pieces.len() - 1];
    if end.to + 1 == last {
        // Nothing but a jump leaves one sample at the end.
        let value = samples[last];
        let alone = Piece { from: last, to: last + 1, values: (value, value), slopes: (0.0, 0.0) };
        meet(samples, &mut recovery, (end, alone), precision, false);
        return recovery;
    }
    recovery.keys.push(FittedKey::on(end.to, end.values.1, end.slopes.1, Interpolation::Cubic));
    if end.to < last {
        recovery.keys.push(FittedKey::on(last, samples[last], 0.0, Interpolation::Cubic));
        recovery.rough.push((end.to, last));
    }
    recovery
}

/// Adds the keys between a piece and the next; `corners` says whether a tangent may break between two samples.
fn meet(samples: &[f64], recovery: &mut Recovery, (a, b): (Piece, Piece), precision: f64, corners: bool) {
    let key = |at: f64, value: f64, before: Option<f64>, slopes: (f64, f64)| {
        let scale = a.slopes.0.abs().max(a.slopes.1.abs()).max(b.slopes.0.abs()).max(b.slopes.1.abs());
        let near = (slopes.0 - slopes.1).abs() <= 1e-9 * scale + 64.0 * precision;
        let mean = 0.5 * (slopes.0 + slopes.1);
        let (slope_in, slope_out) = if near && before.is_none() { (mean, mean) } else { slopes };
        FittedKey {
            at,
            value,
            before,
            slope_in,
            slope_out,
            interpolation: b.way(precision),
            handles: (None, None),
        }
    };
    match b.from - a.to {
        0 => recovery.keys.push(key(b.from as f64, b.values.0, None, (a.slopes.1, b.slopes.0))),
        1 => {
            let corner = corner(&a, &b);
            if let Some(at) = crossing(&a, &b, precision).or(corner.filter(|_| corners)) {
                recovery.keys.push(key(at, b.value_at(at), None, (a.slope_at(at), b.slope_at(at))));
                return;
            }
            if corner.is_some() && a.is_flat(precision) != b.is_flat(precision) {
                // A clamped value, that stands still up to somewhere between the two samples, or from there on: a jump would be
                // smaller than the way from one sample to the next. Straight on says no more than the samples do.
                let straight = b.values.0 - a.values.1;
                let end = key(a.to as f64, a.values.1, None, (a.slopes.1, straight));
                recovery.keys.push(FittedKey { interpolation: Interpolation::Linear, ..end });
                recovery.keys.push(key(b.from as f64, b.values.0, None, (straight, b.slopes.0)));
                return;
            }
            let at = b.from as f64;
            let (before, slope) = (a.value_at(at), a.slope_at(at));
            if a.is_flat(precision) {
                // A hold needs no value before the jump.
                if let Some(last) = recovery.keys.last_mut() {
                    last.interpolation = Interpolation::Hold;
                }
                recovery
                    .keys
                    .push(FittedKey { slope_in: b.slopes.0, ..key(at, b.values.0, None, (0.0, b.slopes.0)) });
                return;
            }
            recovery.keys.push(key(at, b.values.0, Some(before), (slope, b.slopes.0)));
        }
        gap => {
            // Too short to tell: one piece of which the slopes are those of its neighbours, or as its samples say.
            let mut slopes = (a.slopes.1, b.slopes.0);
            let short = cubic(samples, a.to, b.from, precision).filter(|_| gap <= SHORTEST);
            if let Some(short) = short.filter(|_| gap == 3) {
                slopes = short.slopes;
            }
            recovery.keys.push(key(a.to as f64, a.values.1, None, (a.slopes.1, slopes.0)));
            recovery.keys.push(key(b.from as f64, b.values.0, None, (slopes.1, b.slopes.0)));
            let last = recovery.keys.len() - 2;
            recovery.keys[last].interpolation = Interpolation::Cubic;
            let bridge = Piece { from: a.to, to: b.from, values: (a.values.1, b.values.0), slopes };
            let fits = (a.to + 1..b.from)
                .all(|index| (bridge.value_at(index as f64) - samples[index]).abs() <= 4.0 * precision);
            if !fits {
                recovery.rough.push((a.to, b.from));
            }
        }
    }
}

/// Where two cubics on neighbouring samples have one value and one slope between them.
fn crossing(a: &Piece, b: &Piece, precision: f64) -> Option<f64> {
    let (mut low, mut high) = (a.to as f64, b.from as f64);
    let apart = |at: f64| a.value_at(at) - b.value_at(at);
    let span = (apart(low)).abs().max(apart(high).abs());
    // A smooth meeting is a double root: look for where the slopes agree.
    let steeper = |at: f64| a.slope_at(at) - b.slope_at(at);
    if steeper(low) * steeper(high) > 0.0 || span <= 8.0 * precision {
        return None;
    }
    let rises = steeper(high) > 0.0;
    for _ in 0..60 {
        let middle = 0.5 * (low + high);
        if (steeper(middle) > 0.0) == rises { high = middle } else { low = middle }
    }
    let at = 0.5 * (low + high);
    (apart(at).abs() <= 1e-9 * span + 16.0 * precision).then_some(at)
}

/// Where two cubics on neighbouring samples cross between them.
fn corner(a: &Piece, b: &Piece) -> Option<f64> {
    let (mut low, mut high) = (a.to as f64, b.from as f64);
    let apart = |at: f64| a.value_at(at) - b.value_at(at);
    let rises = apart(high) > 0.0;
    if (apart(low) > 0.0) == rises {
        return None;
    }
    for _ in 0..60 {
        let middle = 0.5 * (low + high);
        if (apart(middle) > 0.0) == rises { high = middle } else { low = middle }
    }
    Some(0.5 * (low + high))
}

/// The precision of samples: half a unit of their last decimal (in some unit) where they were rounded to one, else that
/// of computed numbers of their size.
pub fn precision_of(samples: &[f64], unit: f64) -> f64 {
    let scale = samples.iter().fold(0.0_f64, |most, v| most.max(v.abs()));
    let computed = 1e-14 * scale.max(1e-6 * unit);
    for decimals in 2..=7 {
        let power = 10_f64.powi(decimals);
        let is_rounded = |v: &f64| {
            let scaled = v / unit * power;
            (scaled - scaled.round()).abs() <= 1e-9 * scaled.abs().max(1.0)
        };
        if samples.iter().all(is_rounded) {
            return (0.5 / power * unit).max(computed);
        }
    }
    computed
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(keys: &[FittedKey]) -> Vec<f64> {
        keys.iter().map(|key| (key.at * 1e6).round() / 1e6).collect()
    }

    /// Samples of pieces given as (end, polynomial in the sample).
    fn baked(pieces: &[(usize, [f64; 4])]) -> Vec<f64> {
        let end = pieces[pieces.len() - 1].0;
        (0..=end)
            .map(|index| {
                let piece = pieces.iter().find(|(end, _)| index < *end).unwrap_or(&pieces[pieces.len() - 1]);
                let t = index as f64;
                piece.1.iter().rev().fold(0.0, |sum, c| sum * t + c)
            })
            .collect()
    }

    /// Where a value is clamped two cubics meet between two samples: what was recovered stays between them there.
    #[test]
    fn clamped_values_are_never_left() {
        let mut clamped = 0;
        for phase in 0..40 {
            let value = |at: f64| {
                // Arcs that leave the range at both ends.
                let x = ((at + 0.1 * f64::from(phase)) % 40.0 - 20.0) / 14.0;
                (1.0 - x * x).clamp(0.0, 0.9)
            };
            let samples: Vec<f64> = (0..120).map(|index| value(f64::from(index))).collect();
            let Some(found) = recover(&samples, 1e-12, Handles::Plain) else { continue };
            for key in &found.keys {
                assert_eq!(key.before, None, "phase {phase}: {key:?}");
                assert_ne!(key.interpolation, Interpolation::Hold, "phase {phase}: {key:?}");
                assert!((-1e-9..=0.9 + 1e-9).contains(&key.value), "phase {phase}: {key:?}");
                clamped += usize::from(key.interpolation == Interpolation::Linear);
            }
        }
        assert!(clamped > 40, "{clamped}");
    }

    #[test]
    fn corners_jumps_and_keys_between_frames_are_told_apart() {
        // 0 … 8: a parabola; a corner at 8; a line up to a jump at 20; then a cubic.
        let samples = baked(&[
            (8, [0.0, 1.0, 0.25, 0.0]),
            (20, [40.0, -2.0, 0.0, 0.0]),
            (34, [100.0, -3.0, -0.4, 0.01]),
        ]);
        let found = recover(&samples, 1e-12, Handles::Plain).unwrap();
        assert_eq!(at(&found.keys), [0.0, 8.0, 20.0, 34.0]);
        assert!(found.rough.is_empty());
        let jump = &found.keys[2];
        assert!((jump.before.unwrap() - 0.0).abs() < 1e-9, "{jump:?}");
        assert_eq!(found.keys[1].interpolation, Interpolation::Linear);
        assert!(found.keys[1].before.is_none() && found.keys[1].slope_in != found.keys[1].slope_out);
        // A second derivative that changes between two samples, smoothly: (t − 10.4)² from there on.
        let samples: Vec<f64> = (0..30)
            .map(|index| {
                let t = index as f64;
                0.3 * t + (t - 10.4).max(0.0).powi(2)
            })
            .collect();
        let found = recover(&samples, 1e-12, Handles::Plain).unwrap();
        assert_eq!(at(&found.keys), [0.0, 10.4, 29.0]);
    }

    #[test]
    fn stepped_samples_are_holds_and_capture_is_nothing() {
        let steps = [1.0, 1.0, 3.0, 3.0, 3.0, 2.0, 2.0, 5.0, 5.0];
        let found = recover(&steps, 1e-12, Handles::Plain).unwrap();
        assert_eq!(at(&found.keys), [0.0, 2.0, 5.0, 7.0]);
        assert!(found.keys.iter().all(|key| key.interpolation == Interpolation::Hold));
        let noisy: Vec<f64> =
            (0..200).map(|i| (f64::from(i) * 0.1).sin() + f64::from(i * 7919 % 13) * 1e-4).collect();
        assert_eq!(recover(&noisy, precision_of(&noisy, 1.0), Handles::Plain), None);
    }

    #[test]
    fn rounded_samples_have_the_precision_of_their_decimals() {
        let fine: Vec<f64> = (0..50).map(|i| (f64::from(i) * 0.37).sin()).collect();
        assert!(precision_of(&fine, 1.0) < 1e-13);
        let rounded: Vec<f64> = fine.iter().map(|v| (v * 1e4).round() / 1e4).collect();
        assert_eq!(precision_of(&rounded, 1.0), 0.5e-4);
    }
}
