//! The optimum, by exhaustive dynamic programming: what the fit is measured against.
//!
//! Keys lie on samples with the samples' values. With slopes free on both sides of a key the least number of pieces is a
//! shortest path. With joined tangents a piece starts with the slope that the one before ended with: the state is a
//! sample with the set of slopes that so many pieces can leave open there, a union of intervals.

use super::piece::{Interval, Slopes};
use super::terms::Lengths;
use super::{Channel, ErrorBound};

/// The longest piece that is looked at, in samples.
const LONGEST: usize = 120;

/// The least number of keys with slopes free on both sides.
pub fn least_free(samples: &[f64], room: ErrorBound<'_>) -> usize {
    let any = all_slopes(samples);
    let mut least = vec![usize::MAX; samples.len()];
    least[0] = 0;
    let mut slopes = Slopes::default();
    for from in 0..samples.len() - 1 {
        if least[from] == usize::MAX {
            continue;
        }
        for to in from + 1..samples.len().min(from + LONGEST) {
            if least[to] > least[from] + 1 && slopes.find(&samples[from..=to], room.part(from, to), any, any)
            {
                least[to] = least[from] + 1;
            }
        }
    }
    least[samples.len() - 1] + 1
}

/// The least number of key times of several channels, with slopes free on both sides.
pub fn least_free_shared(channels: &[Channel<'_>]) -> usize {
    let count = channels[0].samples.len();
    let any: Vec<Interval> = channels.iter().map(|channel| all_slopes(channel.samples)).collect();
    let mut least = vec![usize::MAX; count];
    least[0] = 0;
    let mut slopes = Slopes::default();
    for from in 0..count - 1 {
        for to in from + 1..count.min(from + LONGEST) {
            let mut fits = channels.iter().zip(&any).map(|(channel, &any)| {
                slopes.find(&channel.samples[from..=to], channel.room.part(from, to), any, any)
            });
            if least[to] > least[from] + 1 && fits.all(|fits| fits) {
                least[to] = least[from] + 1;
            }
        }
    }
    least[count - 1] + 1
}

/// The least number of keys with joined tangents; `None` where none will do, as may be between samples.
pub fn least_joined(samples: &[f64], room: ErrorBound<'_>) -> Option<usize> {
    least_with(samples, room, &[Lengths::PLAIN])
}

/// The same where each handle may have one of three lengths.
pub fn least_weighted(samples: &[f64], room: ErrorBound<'_>) -> Option<usize> {
    least_with(samples, room, &Lengths::all().collect::<Vec<_>>())
}

fn least_with(samples: &[f64], room: ErrorBound<'_>, lengths: &[Lengths]) -> Option<usize> {
    let any = all_slopes(samples);
    let last = samples.len() - 1;
    let mut layer: Vec<Vec<Interval>> = vec![Vec::new(); samples.len()];
    layer[0].push(any);
    let mut slopes = Slopes::default();
    for pieces in 1.. {
        let mut next: Vec<Vec<Interval>> = vec![Vec::new(); samples.len()];
        for from in 0..last {
            for &open in &layer[from] {
                let mut misses = 0;
                for to in from + 1..samples.len().min(from + LONGEST) {
                    let mut fits = false;
                    for &lengths in lengths {
                        slopes.set_lengths(lengths);
                        if slopes.find(&samples[from..=to], room.part(from, to), open, any) {
                            add(&mut next[to], slopes.at_end());
                            fits = true;
                        }
                    }
                    if fits {
                        misses = 0;
                    } else {
                        misses += 1;
                        // Longer pieces seldom fit where a dozen shorter ones did not.
                        if misses > 12 {
                            break;
                        }
                    }
                }
            }
        }
        if !next[last].is_empty() {
            return Some(pieces + 1);
        }
        if next.iter().all(Vec::is_empty) {
            return None;
        }
        layer = next;
    }
    None
}

/// The least number of key times of several channels with joined tangents: every set of slopes that so many pieces can leave open
/// is kept, channel by channel, unless another one holds it whole. `None` where there are more than a search can look through.
pub fn least_joined_shared(channels: &[Channel<'_>]) -> Option<usize> {
    const MOST: usize = 200;
    let last = channels[0].samples.len() - 1;
    let any: Vec<Interval> = channels.iter().map(|channel| all_slopes(channel.samples)).collect();
    let mut layer: Vec<Vec<Vec<Interval>>> = vec![Vec::new(); last + 1];
    layer[0].push(any.clone());
    let mut slopes = Slopes::default();
    for pieces in 1..=last {
        let mut next: Vec<Vec<Vec<Interval>>> = vec![Vec::new(); last + 1];
        let sets = |(from, sets): (usize, &'_ Vec<Vec<Interval>>)| {
            sets.iter().map(|open| (from, open.clone())).collect::<Vec<_>>()
        };
        for (from, open) in layer.iter().enumerate().flat_map(sets) {
            let mut misses = 0;
            let ends_at = next.iter_mut().enumerate().take(last.min(from + LONGEST) + 1).skip(from + 1);
            for (to, found) in ends_at {
                let mut ends = Vec::with_capacity(channels.len());
                for ((channel, &open), &any) in channels.iter().zip(&open).zip(&any) {
                    if !slopes.find(&channel.samples[from..=to], channel.room.part(from, to), open, any) {
                        break;
                    }
                    ends.push(slopes.at_end());
                }
                if ends.len() == channels.len() {
                    add_sets(found, ends);
                    misses = 0;
                } else {
                    misses += 1;
                    if misses > 12 {
                        break;
                    }
                }
            }
        }
        if !next[last].is_empty() {
            return Some(pieces + 1);
        }
        if next.iter().any(|sets| sets.len() > MOST) {
            return None;
        }
        layer = next;
    }
    None
}

/// Adds a set of slopes to others, unless one of them holds it; those that it holds go.
fn add_sets(sets: &mut Vec<Vec<Interval>>, new: Vec<Interval>) {
    let holds =
        |a: &[Interval], b: &[Interval]| a.iter().zip(b).all(|(a, b)| a.low <= b.low && b.high <= a.high);
    if sets.iter().any(|old| holds(old, &new)) {
        return;
    }
    sets.retain(|old| !holds(&new, old));
    sets.push(new);
}

fn all_slopes(samples: &[f64]) -> Interval {
    let (low, high) = samples.iter().fold((samples[0], samples[0]), |(l, h), &v| (l.min(v), h.max(v)));
    Interval::everything(high - low)
}

/// Adds an interval to a union of intervals.
fn add(union: &mut Vec<Interval>, new: Interval) {
    let mut merged = new;
    union.retain(|old| {
        let apart = old.high < merged.low || merged.high < old.low;
        if !apart {
            merged = Interval { low: merged.low.min(old.low), high: merged.high.max(old.high) };
        }
        apart
    });
    union.push(merged);
}

/// What capture looks like: slow swings, steps with soft ends, a shake, and noise.
pub fn capture(seed: u64, count: usize, noise: f64) -> Vec<f64> {
    let mut state = seed.wrapping_mul(2_862_933_555_777_941_757).wrapping_add(3_037_000_493);
    let mut random = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 11) as f64 / (1_u64 << 53) as f64
    };
    let waves: Vec<[f64; 3]> = (0..4)
        .map(|k| {
            [4.0 / f64::from(k + 1) * random(), 0.02 + 0.06 * random() * f64::from(k + 1), 6.3 * random()]
        })
        .collect();
    let steps: Vec<[f64; 3]> =
        (0..3).map(|_| [count as f64 * random(), 4.0 + 12.0 * random(), 12.0 * random() - 6.0]).collect();
    let shake = [0.25 * random(), 0.5 + 0.4 * random()];
    let noise = noise * random();
    (0..count)
        .map(|index| {
            let t = index as f64;
            let swing: f64 = waves.iter().map(|[size, pace, phase]| size * (pace * t + phase).sin()).sum();
            let step: f64 =
                steps.iter().map(|[at, width, size]| size / (1.0 + (-(t - at) / width * 4.0).exp())).sum();
            swing + step + shake[0] * (shake[1] * t).sin() + noise * (random() - 0.5)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::curve::Interpolation;
    use crate::fit::{FittedKey, Handles, Readings, fit, fit_shared, is_within};

    fn broken(keys: &[FittedKey]) -> usize {
        let inner = &keys[1..keys.len() - 1];
        inner
            .iter()
            .filter(|key| key.slope_in != key.slope_out && key.interpolation == Interpolation::Cubic)
            .count()
    }

    /// Ratios of our keys to the optimum. Prints the figures of docs/methods.md with `--nocapture`.
    #[test]
    fn keys_are_near_the_optimum() {
        let channels = 200;
        let room = ErrorBound::even(0.1);
        let (mut joined, mut free, mut breaks, mut total) = ((0.0, 0.0_f64), (0.0, 0.0_f64), 0, 0);
        for seed in 0..channels {
            let samples = capture(seed, 300, 0.02);
            let keys = fit(&samples, room, &[], Handles::Plain);
            let ours = keys.len() as f64;
            breaks += broken(&keys);
            total += keys.len();
            let to_joined = ours / least_joined(&samples, room).unwrap() as f64;
            let to_free = ours / least_free(&samples, room) as f64;
            joined = (joined.0 + to_joined, joined.1.max(to_joined));
            free = (free.0 + to_free, free.1.max(to_free));
        }
        let mean = |sum: f64| sum / channels as f64;
        println!(
            "| joined | {:.3} | {:.3} |\n| free on both sides | {:.3} | {:.3} |\n{breaks} of {total} keys broken",
            mean(joined.0),
            joined.1,
            mean(free.0),
            free.1
        );
        assert!(mean(joined.0) <= 1.05, "{}", mean(joined.0));
    }

    /// How far a curve is out of what is plausible between samples, at most, at eighths.
    fn departure(samples: &[f64], keys: &[FittedKey], readings: &Readings) -> f64 {
        let (mut next, mut most) = (1, 0.0_f64);
        for index in 0..samples.len() - 1 {
            for u in (1..8).map(|part| f64::from(part) / 8.0) {
                let at = index as f64 + u;
                while next < keys.len() - 1 && keys[next].at <= at {
                    next += 1;
                }
                let value = super::super::between(&keys[next - 1], &keys[next], at);
                most = most.max((value - readings.between(samples, index, u).nearest(value)).abs());
            }
        }
        most
    }

    /// Keys under what holds between samples beside the optimum under the same, and what that costs beside the optimum at
    /// samples alone, as noise grows beyond the tolerance. Prints the table of docs/methods.md with `--nocapture`.
    #[test]
    fn what_holds_between_samples_costs_few_keys() {
        let even = ErrorBound::even(0.1);
        for noise in [0.02, 0.2, 0.4, 0.8, 1.5] {
            let (mut ours, mut free, mut bound, mut worst) = (0, 0, 0, 0.0_f64);
            for seed in 0..12 {
                let samples = capture(seed, 300, noise);
                let readings = Readings::of(&samples);
                let room = even.with_readings(&readings, &samples);
                let keys = fit(&samples, even, &[], Handles::Plain);
                worst = worst.max(departure(&samples, &keys, &readings));
                ours += keys.len();
                free += least_joined(&samples, even).unwrap();
                bound += least_joined(&samples, room).unwrap();
            }
            let price = 100.0 * (bound as f64 / free as f64 - 1.0);
            println!("| {noise} | {free} | {bound} | {price:.1}% | {ours} | {:.2} |", worst / 0.1);
            assert!(worst <= 0.125 * (1.0 + 1e-6), "{noise}: {worst}");
            assert!(ours as f64 <= 1.03 * bound as f64, "{noise}: {ours} of {bound}");
            assert!(noise >= 0.4 || bound == free, "{noise}: {bound} {free}");
        }
    }

    /// Keys with weighted handles under what holds between samples, beside those with plain ones and beside the optimum over the
    /// same lengths of handles. Prints the table of docs/methods.md with `--nocapture`.
    #[test]
    fn weighted_handles_are_near_their_optimum() {
        let even = ErrorBound::even(0.1);
        let (mut plain, mut weighted, mut least) = (0, 0, 0);
        for noise in [0.02, 0.4] {
            let mut row = [0, 0, 0];
            for seed in 0..8 {
                let samples = capture(seed, 300, noise);
                let readings = Readings::of(&samples);
                let room = even.with_readings(&readings, &samples);
                let keys = fit(&samples, even, &[], Handles::Weighted);
                let worst = departure(&samples, &keys, &readings);
                assert!(worst <= 0.125 * (1.0 + 1e-6), "{noise}: {worst}");
                assert!(is_within(&samples, &keys, ErrorBound::even(0.1 * (1.0 + 1e-6))));
                row[0] += fit(&samples, even, &[], Handles::Plain).len();
                row[1] += keys.len();
                row[2] += least_weighted(&samples, room).unwrap();
            }
            println!("| {noise} | {} | {} | {} |", row[0], row[1], row[2]);
            (plain, weighted, least) = (plain + row[0], weighted + row[1], least + row[2]);
        }
        println!("{plain} plain, {weighted} weighted, {least} at least");
        assert!(weighted as f64 <= 1.06 * least as f64, "{weighted} {least}");
        assert!(weighted as f64 <= 0.88 * plain as f64, "{weighted} {plain}");
    }

    /// Common key times of three channels, beside the optimum with slopes free on both sides.
    #[test]
    fn common_keys_are_near_the_optimum() {
        let (mut sum, mut worst) = (0.0, 0.0_f64);
        let groups = 24;
        for seed in 0..groups {
            let made: Vec<Vec<f64>> = (0..3).map(|axis| capture(3 * seed + axis, 300, 0.02)).collect();
            let channels: Vec<Channel<'_>> =
                made.iter().map(|samples| Channel { samples, room: ErrorBound::even(0.1) }).collect();
            let ours = fit_shared(&channels, &[])[0].len() as f64;
            let ratio = ours / least_free_shared(&channels) as f64;
            (sum, worst) = (sum + ratio, worst.max(ratio));
        }
        println!("| common key times, free | {:.3} | {worst:.3} |", sum / groups as f64);
        assert!(sum / groups as f64 <= 1.21, "{}", sum / groups as f64);
    }

    /// Common key times of three channels beside the optimum with joined tangents, as ours.
    #[test]
    fn common_keys_are_near_the_optimum_with_joined_tangents() {
        let (mut ours, mut least) = (0, 0);
        for noise in [0.02, 0.3] {
            for seed in 0..8 {
                let made: Vec<Vec<f64>> = (0..3).map(|axis| capture(3 * seed + axis, 150, noise)).collect();
                let readings: Vec<Readings> = made.iter().map(|samples| Readings::of(samples)).collect();
                let channels: Vec<Channel<'_>> = made
                    .iter()
                    .zip(&readings)
                    .map(|(samples, readings)| {
                        let room = ErrorBound::even(0.1).with_readings(readings, samples);
                        Channel { samples, room }
                    })
                    .collect();
                let found = least_joined_shared(&channels);
                println!("{noise} {seed}: {} {found:?}", fit_shared(&channels, &[])[0].len());
                let Some(found) = found else { continue };
                ours += fit_shared(&channels, &[])[0].len();
                least += found;
            }
        }
        println!("| common key times, joined | {ours} | {least} |");
        assert!(ours as f64 <= 1.05 * least as f64, "{ours} {least}");
    }

    /// Noise of half the tolerance, on motion that is smooth otherwise.
    #[test]
    fn noise_costs_few_keys() {
        let (mut smooth, mut noisy) = (0, 0);
        for seed in 0..60 {
            let clean = capture(seed, 600, 0.0);
            let mut state = seed + 1;
            let with_noise: Vec<f64> = clean
                .iter()
                .map(|v| {
                    state =
                        state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    v + 0.1 * ((state >> 11) as f64 / (1_u64 << 53) as f64 - 0.5)
                })
                .collect();
            smooth += fit(&clean, ErrorBound::even(0.1), &[], Handles::Plain).len();
            noisy += fit(&with_noise, ErrorBound::even(0.1), &[], Handles::Plain).len();
        }
        println!("noise of half the tolerance: {noisy} keys for {smooth}");
        assert!(noisy as f64 <= 1.1 * smooth as f64, "{noisy} {smooth}");
    }

    /// Between samples the curve stays near the cubic through the four around.
    #[test]
    fn nothing_swings_out_between_samples() {
        for seed in 0..60 {
            let samples = capture(seed, 400, 0.02);
            let keys = fit(&samples, ErrorBound::even(0.1), &[], Handles::Plain);
            let mut next = 1;
            for index in 1..samples.len() - 2 {
                let at = index as f64 + 0.5;
                while next < keys.len() - 1 && keys[next].at <= at {
                    next += 1;
                }
                let s = &samples[index - 1..];
                let expected = (9.0 * (s[1] + s[2]) - s[0] - s[3]) / 16.0;
                let found = super::super::between(&keys[next - 1], &keys[next], at);
                assert!((found - expected).abs() <= 0.125, "seed {seed}, {at}: {found} {expected}");
            }
        }
    }

    fn squares(samples: &[f64], keys: &[FittedKey]) -> f64 {
        let mut next = 1;
        let square = |(index, sample): (usize, &f64)| {
            while next < keys.len() - 1 && keys[next].at <= index as f64 {
                next += 1;
            }
            (super::super::between(&keys[next - 1], &keys[next], index as f64) - sample).powi(2)
        };
        samples.iter().enumerate().map(square).sum()
    }

    /// Turns one key's joined tangent after another to where it comes nearest to the samples, whatever the bound, until all rest.
    fn relaxed(samples: &[f64], mut keys: Vec<FittedKey>) -> Vec<FittedKey> {
        for _ in 0..200 {
            for k in 0..keys.len() {
                let with = |keys: &mut Vec<FittedKey>, slope: f64| {
                    (keys[k].slope_in, keys[k].slope_out) = (slope, slope);
                    let (from, to) = (k.saturating_sub(1), (k + 1).min(keys.len() - 1));
                    let (first, last) = (keys[from].at as usize, keys[to].at as usize);
                    let own: Vec<FittedKey> = (keys[from..=to].iter())
                        .map(|key| FittedKey { at: key.at - first as f64, ..*key })
                        .collect();
                    squares(&samples[first..=last], &own)
                };
                // A parabola in the slope.
                let here = keys[k].slope_out;
                let [before, at, after] = [-1.0, 0.0, 1.0].map(|step| with(&mut keys, here + step));
                let bend = before - 2.0 * at + after;
                let slope = if bend > 1e-12 { here + 0.5 * (before - after) / bend } else { here };
                with(&mut keys, slope);
            }
        }
        keys
    }

    /// The rest that our slopes leave beside the least that joined tangents at the same keys leave, without any bound.
    #[test]
    fn slopes_are_near_the_least_squares() {
        for noise in [0.02, 0.2, 0.5] {
            let (mut ours, mut least) = (0.0, 0.0);
            for seed in 0..10 {
                let samples = capture(seed, 300, noise);
                let keys = fit(&samples, ErrorBound::even(0.1), &[], Handles::Plain);
                if broken(&keys) > 0 {
                    continue;
                }
                ours += squares(&samples, &keys);
                least += squares(&samples, &relaxed(&samples, keys));
            }
            let ratio = (ours / least).sqrt();
            println!("| {noise} | {ratio:.3} |");
            assert!(ratio <= 1.05, "{noise}: {ratio}");
        }
    }
}
