//! How much noise there is on samples: what sensors add from one sample to the next, told from the motion under it.
//!
//! Differences of a high order leave little of what moves over several samples, and of white noise of size σ they leave
//! σ·√C(2d,d): difference-based estimators of the variance (Rice, *Bandwidth choice for nonparametric regression*, Ann.
//! Statist. 12, 1984; Gasser, Sroka and Jennen-Steinmetz, *Residual variance and residual pattern in nonlinear
//! regression*, Biometrika 73, 1986). The order grows until the estimate settles: as long as it falls, motion is in it.
//! Fast turns, shakes and spikes are in a few of the differences only, and do not count: the size is read from their median
//! (Hampel, J. Am. Statist. Assoc. 69, 1974), then from the spread of those that are near it, as the median alone uses a third
//! of what the samples tell. Where samples stand still nobody saw anything, and nothing is read.
//!
//! What wanders over many samples counts as motion, and a shake that goes on throughout with less than three samples to
//! a swing as noise: nothing in the samples tells otherwise.

use glam::{DQuat, DVec3};

use crate::rotation::to_vector;

/// Fewer samples do not tell noise from motion.
pub const LEAST_SAMPLES: usize = 60;

/// The order of differences that is tried first, and last.
const ORDERS: (usize, usize) = (2, 8);
/// An order more that leaves this part of the estimate took no motion out of it.
const SETTLED: f64 = 0.94;
/// Differences up to so many times the size count for its last reading.
const NEAR: f64 = 2.5;
/// The size of normal noise as read from what lies within [`NEAR`] times its size.
const SIZE_NEAR: f64 = 0.954_6;
/// The median of the absolute value of normal noise of size 1.
const MEDIAN: f64 = 0.674_49;
/// So many equal samples are none of a sensor.
const STILL: usize = 3;

/// The size of the noise on samples, as its standard deviation; `None` where fewer than [`LEAST_SAMPLES`] samples tell.
///
/// ```
/// use nimble_curve_curves::noise::noise_of;
///
/// // A slow swing, and a thousandth that comes and goes.
/// let samples: Vec<f64> = (0..300).map(|i| (0.05 * f64::from(i)).sin() + 0.001 * f64::from(i * i * 7 % 11 - 5)).collect();
/// let noise = noise_of(&samples).unwrap();
/// assert!(0.002 < noise && noise < 0.005, "{noise}");
/// ```
pub fn noise_of(samples: &[f64]) -> Option<f64> {
    let moves = |index: usize| samples[index] != samples[index + 1];
    let difference = |from: usize, weights: &[f64]| {
        let sum: f64 = weights.iter().zip(&samples[from..]).map(|(weight, sample)| weight * sample).sum();
        [sum, 0.0, 0.0]
    };
    settled(samples.len(), moves, difference, 1).map(|[size, ..]| size)
}

/// The same of rotations, about three axes that turn along, in radians.
pub fn noise_of_turns(turns: &[DQuat]) -> Option<[f64; 3]> {
    let moves = |index: usize| turns[index] != turns[index + 1];
    let difference = |from: usize, weights: &[f64]| {
        // From the middle on, a rotation is the vector that it turns by.
        let middle = turns[from + weights.len() / 2].conjugate();
        let sum: DVec3 = weights
            .iter()
            .zip(&turns[from..])
            .map(|(weight, turn)| to_vector(middle * *turn) * *weight)
            .sum();
        sum.to_array()
    };
    settled(turns.len(), moves, difference, 3)
}

/// How far noise of some sizes, along axes at right angles, reaches together but for a few samples in a thousand.
///
/// One axis reaches 3 times its size; three alike 3.8 times (the chi distribution at 997 of a thousand), unlike ones as
/// many as weigh.
pub fn reach(sizes: &[f64]) -> f64 {
    let most = sizes.iter().fold(0.0_f64, |most, size| most.max(*size));
    if most == 0.0 {
        return 0.0;
    }
    let so_many: f64 = sizes.iter().map(|size| (size / most).powi(2)).sum();
    most * (3.0 + 0.4 * (so_many - 1.0))
}

/// The sizes of the noise of each number, at the order of differences at which all have settled.
fn settled(
    count: usize,
    moves: impl Fn(usize) -> bool,
    difference: impl Fn(usize, &[f64]) -> [f64; 3],
    numbers: usize,
) -> Option<[f64; 3]> {
    let counts = seen(count, moves);
    if counts.iter().filter(|seen| **seen).count() < LEAST_SAMPLES {
        return None;
    }
    let mut sizes = [f64::INFINITY; 3];
    let mut spare = [Vec::new(), Vec::new(), Vec::new()];
    let mut is_settled = [false; 3];
    for order in ORDERS.0..=ORDERS.1 {
        let weights = weights(order);
        spare.iter_mut().for_each(Vec::clear);
        for from in 0..count - order {
            if counts[from..=from + order].iter().all(|seen| *seen) {
                let all = difference(from, &weights);
                spare.iter_mut().zip(all).for_each(|(spare, number)| spare.push(number));
            }
        }
        for number in 0..numbers {
            let found = size(&mut spare[number]).unwrap_or(sizes[number]);
            is_settled[number] |= found > SETTLED * sizes[number];
            if !is_settled[number] || found < sizes[number] {
                sizes[number] = found;
            }
        }
        if is_settled[..numbers].iter().all(|settled| *settled) {
            break;
        }
    }
    sizes[numbers..].fill(0.0);
    sizes.iter().all(|size| size.is_finite()).then_some(sizes)
}

/// Which samples were seen: those that are not in a run of equal ones.
fn seen(count: usize, moves: impl Fn(usize) -> bool) -> Vec<bool> {
    let mut seen = vec![true; count];
    let mut from = 0;
    while from < count {
        let to = (from..count.saturating_sub(1)).find(|&index| moves(index)).unwrap_or(count - 1);
        if to - from + 1 >= STILL {
            seen[from..=to].fill(false);
        }
        from = to + 1;
    }
    seen
}

/// The weights of a difference of some order that leaves white noise at its size: binomials with changing signs.
fn weights(order: usize) -> Vec<f64> {
    let mut row = vec![1.0_f64];
    for _ in 0..order {
        let next = (0..=row.len()).map(|k| {
            let (here, before) = (row.get(k).copied().unwrap_or(0.0), if k > 0 { row[k - 1] } else { 0.0 });
            here - before
        });
        row = next.collect();
    }
    let length = row.iter().map(|weight| weight * weight).sum::<f64>().sqrt();
    row.iter().map(|weight| weight / length).collect()
}

/// The size of normal noise from some of it and a few that are none.
fn size(values: &mut [f64]) -> Option<f64> {
    values.iter_mut().for_each(|value| *value = value.abs());
    let middle = values.len() / 2;
    if values.is_empty() {
        return None;
    }
    let (_, median, _) = values.select_nth_unstable_by(middle, f64::total_cmp);
    let mut size = *median / MEDIAN;
    for _ in 0..3 {
        let near = values.iter().filter(|value| **value <= NEAR * size);
        let (sum, count) = near.fold((0.0, 0_usize), |(sum, count), value| (sum + value * value, count + 1));
        if count == 0 {
            return Some(size);
        }
        size = (sum / count as f64).sqrt() / SIZE_NEAR;
    }
    Some(size)
}

#[cfg(test)]
mod tests {
    use nimble_curve_testing::dice::Dice;

    use super::*;
    use crate::fit::oracle::capture;

    /// Normal noise of size 1, by the sum of twelve.
    fn normal(dice: &mut Dice) -> f64 {
        (0..12).map(|_| dice.part()).sum::<f64>() - 6.0
    }

    #[test]
    fn noise_of_known_size_is_told_from_motion() {
        for (count, limit) in [(LEAST_SAMPLES, 0.45), (150, 0.35), (300, 0.2), (2000, 0.1)] {
            let (mut worst, mut mean) = (0.0_f64, 0.0);
            for seed in 0..60_u64 {
                let mut dice = Dice(seed);
                let size = 0.01 * 300_f64.powf(dice.part());
                let samples: Vec<f64> =
                    capture(seed, count, 0.0).iter().map(|clean| clean + size * normal(&mut dice)).collect();
                let off = noise_of(&samples).unwrap() / size - 1.0;
                worst = worst.max(off.abs());
                mean += off / 60.0;
            }
            println!("{count} samples: {mean:.3} on average, {worst:.3} at most");
            assert!(worst <= limit && mean.abs() < 0.08, "{count}: {worst} {mean}");
        }
    }

    #[test]
    fn shakes_spikes_and_holds_are_no_noise() {
        let mut worst = 0.0_f64;
        for seed in 0..40_u64 {
            let mut dice = Dice(seed);
            let size = 0.05;
            let mut samples: Vec<f64> =
                capture(seed, 400, 0.0).iter().map(|clean| clean + size * normal(&mut dice)).collect();
            // A tenth of it shakes by thirty times the noise, some samples are far off, and a seventh stands still.
            let from = 50 + dice.below(100) as usize;
            for (nth, sample) in samples[from..from + 40].iter_mut().enumerate() {
                *sample += 1.5 * (1.3 * nth as f64).sin();
            }
            for _ in 0..4 {
                samples[200 + dice.below(100) as usize] += dice.between(-20.0, 20.0);
            }
            let held = samples[320];
            samples[320..380].fill(held);
            worst = worst.max((noise_of(&samples).unwrap() / size - 1.0).abs());
        }
        println!("{worst:.3} at most");
        assert!(worst <= 0.2, "{worst}");
    }
}
