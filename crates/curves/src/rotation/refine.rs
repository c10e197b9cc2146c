//! Fewer added keys: their values and slopes need not lie on the path, only the path within the tolerance of the curve.
//!
//! Between two keys that stay as they are, the free values and slopes of the keys in between are those of the least
//! squares, reweighted after Lawson (*Contributions to the theory of linear least maximum approximation*, 1961) towards
//! the least largest error. The normal equations are banded, and the same for all three angles.

use glam::DVec3;

/// A point of the path: time in parts of the whole piece, and the angles there.
#[derive(Clone, Copy, Debug)]
pub(super) struct Sample {
    pub time: f64,
    pub angles: DVec3,
    /// ε·sin of the middle angle, by which errors of the outer angles add up or cancel.
    pub gimbal_coupling: f64,
    /// The factor of the tolerance there.
    pub scale: f64,
}

/// A key with free values: its place among the samples, its angles, and their slopes over the whole piece.
#[derive(Clone, Copy, Debug)]
pub(super) struct FreeKey {
    pub index: usize,
    pub angles: DVec3,
    pub slopes: DVec3,
}

/// Rounds of reweighting.
const ROUNDS: usize = 7;

/// The keys at `places` (indices of samples, ascending, ends left out) with the least largest error found, and that error.
///
/// `ends` are the slopes at the first and the last sample over the whole piece; `axes` the outermost, middle and innermost.
pub(super) fn refine(
    samples: &[Sample],
    places: &[usize],
    ends: (DVec3, DVec3),
    axes: (usize, usize, usize),
    enough: f64,
) -> Option<(Vec<FreeKey>, f64)> {
    let last = samples.len() - 1;
    let knots: Vec<usize> = std::iter::once(0).chain(places.iter().copied()).chain([last]).collect();
    if knots.windows(2).any(|pair| pair[0] >= pair[1]) {
        return None;
    }
    let rows = rows(samples, &knots);
    let mut weights = vec![1.0; samples.len()];
    let mut best: Option<(Vec<FreeKey>, f64)> = None;
    for _ in 0..ROUNDS {
        let keys = solve(samples, &rows, knots.len(), ends, &weights)?;
        let errors = errors(samples, &rows, &keys, axes);
        let largest = errors.iter().copied().fold(0.0, f64::max);
        if best.as_ref().is_none_or(|best| largest < best.1) {
            let free = keys[1..keys.len() - 1].iter().zip(places);
            let free = free.map(|(&(angles, slopes), &index)| FreeKey { index, angles, slopes });
            best = Some((free.collect(), largest));
        }
        if largest <= enough {
            break;
        }
        let mean = errors.iter().zip(&weights).map(|(error, weight)| error * weight).sum::<f64>()
            / weights.iter().sum::<f64>();
        for (weight, error) in weights.iter_mut().zip(&errors) {
            *weight *= (error / mean.max(1e-300)).max(1e-3);
        }
    }
    best
}

/// The four cubic Hermite functions at a part of a piece of some length: value and slope at the start and at the end.
fn hermite(u: f64, length: f64) -> [f64; 4] {
    let (r, s) = (1.0 - u, u);
    [r * r * (1.0 + 2.0 * u), u * r * r * length, s * s * (3.0 - 2.0 * u), -s * s * r * length]
}

/// A sample between the ends: its index, its piece, and the four functions there.
type Row = (usize, usize, [f64; 4]);

/// All samples between the ends.
fn rows(samples: &[Sample], knots: &[usize]) -> Vec<Row> {
    let mut rows = Vec::with_capacity(samples.len());
    for (piece, pair) in knots.windows(2).enumerate() {
        let (start, length) = (samples[pair[0]].time, samples[pair[1]].time - samples[pair[0]].time);
        let from = if piece == 0 { pair[0] + 1 } else { pair[0] };
        let row = |index: usize| (index, piece, hermite((samples[index].time - start) / length, length));
        rows.extend((from..pair[1]).map(row));
    }
    rows
}

/// Angles and slopes at all knots by weighted least squares; `None` where there are too few samples to tell them.
fn solve(
    samples: &[Sample],
    rows: &[Row],
    knots: usize,
    ends: (DVec3, DVec3),
    weights: &[f64],
) -> Option<Vec<(DVec3, DVec3)>> {
    const BAND: usize = 4;
    let free = knots - 2;
    let size = 2 * free;
    // Row i holds the matrix from its diagonal on: entry d is (i, i + d).
    let mut matrix = vec![[0.0; BAND]; size];
    let mut right = vec![DVec3::ZERO; size];
    let fixed = |knot: usize| match knot {
        0 => Some((samples[0].angles, ends.0)),
        knot if knot == free + 1 => Some((samples[samples.len() - 1].angles, ends.1)),
        _ => None,
    };
    for &(index, piece, h) in rows {
        let mut wanted = samples[index].angles;
        let mut unknowns = [(0, 0.0); 4];
        let mut count = 0;
        for (side, knot) in [piece, piece + 1].into_iter().enumerate() {
            match fixed(knot) {
                Some((angles, slopes)) => wanted -= angles * h[2 * side] + slopes * h[2 * side + 1],
                None => {
                    unknowns[count] = (2 * (knot - 1), h[2 * side]);
                    unknowns[count + 1] = (2 * (knot - 1) + 1, h[2 * side + 1]);
                    count += 2;
                }
            }
        }
        for i in 0..count {
            let (row, a) = unknowns[i];
            right[row] += wanted * (a * weights[index]);
            for &(column, b) in &unknowns[i..count] {
                matrix[row][column - row] += a * b * weights[index];
            }
        }
    }
    // Banded Cholesky, in place: L·Lᵀ.
    for i in 0..size {
        for d in 0..BAND.min(size - i) {
            let mut sum = matrix[i][d];
            for back in 1..BAND.min(i + 1) {
                if d + back < BAND {
                    sum -= matrix[i - back][back] * matrix[i - back][back + d];
                }
            }
            if d == 0 {
                if sum <= 0.0 || !sum.is_finite() {
                    return None;
                }
                matrix[i][0] = sum.sqrt();
            } else {
                matrix[i][d] = sum / matrix[i][0];
            }
        }
    }
    for i in 0..size {
        for back in 1..BAND.min(i + 1) {
            let above = right[i - back];
            right[i] -= above * matrix[i - back][back];
        }
        right[i] /= matrix[i][0];
    }
    for i in (0..size).rev() {
        for ahead in 1..BAND.min(size - i) {
            let below = right[i + ahead];
            right[i] -= below * matrix[i][ahead];
        }
        right[i] /= matrix[i][0];
    }
    Some(
        (0..knots)
            .map(|knot| fixed(knot).unwrap_or_else(|| (right[2 * knot - 2], right[2 * knot - 1])))
            .collect(),
    )
}

/// The angle between the path and the curve at each sample, right to the square of the difference, where the whole
/// tolerance counts; by so much larger where less does.
fn errors(
    samples: &[Sample],
    rows: &[Row],
    keys: &[(DVec3, DVec3)],
    (a, b, c): (usize, usize, usize),
) -> Vec<f64> {
    let mut errors = vec![0.0; samples.len()];
    for &(index, piece, h) in rows {
        let ((v0, m0), (v1, m1)) = (keys[piece], keys[piece + 1]);
        let d = v0 * h[0] + m0 * h[1] + v1 * h[2] + m1 * h[3] - samples[index].angles;
        let square =
            d[a] * d[a] + d[b] * d[b] + d[c] * d[c] + 2.0 * samples[index].gimbal_coupling * d[a] * d[c];
        errors[index] = square.max(0.0).sqrt() / samples[index].scale;
    }
    errors
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn keys_of_a_spline_are_found_again(
            values in prop::collection::vec(prop::array::uniform3(-1.0..1.0_f64), 3..7),
            slopes in prop::collection::vec(prop::array::uniform3(-1.0..1.0_f64), 7)
        ) {
            let pieces = values.len() - 1;
            let per_piece = 12;
            let knot = |index: usize| (DVec3::from(values[index]), DVec3::from(slopes[index]) * pieces as f64);
            let samples: Vec<Sample> = (0..=pieces * per_piece).map(|index| {
                let piece = (index / per_piece).min(pieces - 1);
                let time = index as f64 / (pieces * per_piece) as f64;
                let length = 1.0 / pieces as f64;
                let h = hermite((time - piece as f64 * length) / length, length);
                let ((v0, m0), (v1, m1)) = (knot(piece), knot(piece + 1));
                Sample { time, angles: v0 * h[0] + m0 * h[1] + v1 * h[2] + m1 * h[3], gimbal_coupling: 0.3, scale: 1.0 }
            }).collect();
            let places: Vec<usize> = (1..pieces).map(|piece| piece * per_piece).collect();
            let (found, error) =
                refine(&samples, &places, (knot(0).1, knot(pieces).1), (2, 1, 0), 1e-9).unwrap();
            prop_assert!(error < 1e-9, "{error}");
            for (key, index) in found.iter().zip(1..) {
                prop_assert!(key.angles.abs_diff_eq(knot(index).0, 1e-8));
                prop_assert!(key.slopes.abs_diff_eq(knot(index).1, 1e-6));
            }
        }
    }
    /// What is said of how far the curve is off is what a look at all samples by turns finds; what is not enough is refined.
    #[test]
    fn the_error_is_that_of_the_turns() {
        let order = crate::rotation::RotationOrder::Xyz;
        let turn = |angles: DVec3| crate::rotation::quat_from_euler(order, angles);
        let path = |time: f64| DVec3::new(0.3 * (5.0 * time).sin(), 0.02 * time, 0.2 * (3.0 * time).cos());
        let samples: Vec<Sample> = (0..=40)
            .map(|index| {
                let time = f64::from(index) / 40.0;
                let gimbal_coupling = order.sign() * path(time)[order.middle()].sin();
                Sample { time, angles: path(time), gimbal_coupling, scale: 1.0 }
            })
            .collect();
        let at = |time: f64| (path(time + 1e-6) - path(time - 1e-6)) / 2e-6;
        let ends = (at(0.0), at(1.0));
        let axes = order.axes();
        let coarse = refine(&samples, &[20], ends, axes, 1e-12).unwrap();
        let fine = refine(&samples, &[10, 20, 30], ends, axes, 1e-12).unwrap();
        assert!(fine.1 < 0.5 * coarse.1, "{} and {}", fine.1, coarse.1);
        for (keys, said) in [coarse, fine] {
            let first = FreeKey { index: 0, angles: path(0.0), slopes: ends.0 };
            let last = FreeKey { index: 40, angles: path(1.0), slopes: ends.1 };
            let all: Vec<FreeKey> = std::iter::once(first).chain(keys).chain([last]).collect();
            let mut most = 0.0_f64;
            for pair in all.windows(2) {
                let (from, to) = (samples[pair[0].index].time, samples[pair[1].index].time);
                for sample in &samples[pair[0].index..=pair[1].index] {
                    let h = hermite((sample.time - from) / (to - from), to - from);
                    let angles = pair[0].angles * h[0]
                        + pair[0].slopes * h[1]
                        + pair[1].angles * h[2]
                        + pair[1].slopes * h[3];
                    most = most.max(turn(angles).angle_between(turn(sample.angles)));
                }
            }
            assert!((most - said).abs() < 0.02 * most, "{said} said, {most} seen");
        }
    }
}
