//! The plain way to few quaternion keys: from each key on the longest piece whose best cubic keeps within a bound.

use glam::{DQuat, DVec4};

use crate::turn::apart;

/// How many keys that takes with tangents broken at every key, the slopes those of the least squares.
pub fn keys_with_broken_tangents(turns: &[DQuat], degrees: f64) -> usize {
    let values = of_one_sign(turns);
    keys(&values, |from, to| {
        let (start, end) = slopes(&values[from..=to]);
        fits(&values[from..=to], start, end, degrees)
    })
}

/// How many keys that takes with joined tangents, read off the samples around each key, `reach` to either side.
pub fn keys_with_joined_tangents(turns: &[DQuat], degrees: f64, reach: usize) -> usize {
    let values = of_one_sign(turns);
    let last = values.len() - 1;
    let slope = |at: usize| {
        let reach = reach.min(at).min(last - at);
        if reach == 0 {
            return if at == 0 { values[1] - values[0] } else { values[last] - values[last - 1] };
        }
        let sum: DVec4 = (1..=reach).map(|d| (values[at + d] - values[at - d]) * d as f64).sum();
        sum / (1..=reach).map(|d| 2.0 * (d * d) as f64).sum::<f64>()
    };
    keys(&values, |from, to| fits(&values[from..=to], slope(from), slope(to), degrees))
}

fn keys(values: &[DVec4], fits: impl Fn(usize, usize) -> bool) -> usize {
    let last = values.len() - 1;
    let (mut from, mut keys) = (0, 1);
    while from < last {
        let to = (from + 1..=last.min(from + 200)).filter(|&to| fits(from, to)).last();
        (from, keys) = (to.unwrap_or(from + 1), keys + 1);
    }
    keys
}

fn of_one_sign(turns: &[DQuat]) -> Vec<DVec4> {
    let mut values: Vec<DVec4> = turns.iter().map(|turn| DVec4::from(*turn)).collect();
    for i in 1..values.len() {
        if values[i - 1].dot(values[i]) < 0.0 {
            values[i] = -values[i];
        }
    }
    values
}

/// The slopes a sample of the cubic through the first and the last value that is nearest to all, by component.
fn slopes(values: &[DVec4]) -> (DVec4, DVec4) {
    let last = values.len() - 1;
    let length = last as f64;
    let straight = (values[last] - values[0]) / length;
    let (mut aa, mut ab, mut bb, mut ra, mut rb) = (0.0, 0.0, 0.0, DVec4::ZERO, DVec4::ZERO);
    for (i, value) in values.iter().enumerate() {
        let u = i as f64 / length;
        let (a, b) = (length * u * (1.0 - u) * (1.0 - u), -length * u * u * (1.0 - u));
        let rest = *value - values[0].lerp(values[last], u * u * (3.0 - 2.0 * u));
        (aa, ab, bb, ra, rb) = (aa + a * a, ab + a * b, bb + b * b, ra + rest * a, rb + rest * b);
    }
    let det = aa * bb - ab * ab;
    if det > 1e-12 * aa * bb {
        ((ra * bb - rb * ab) / det, (rb * aa - ra * ab) / det)
    } else {
        (straight, straight)
    }
}

fn fits(values: &[DVec4], start: DVec4, end: DVec4, degrees: f64) -> bool {
    let last = values.len() - 1;
    let length = last as f64;
    (1..last).all(|i| {
        let u = i as f64 / length;
        let r = 1.0 - u;
        let value = values[0].lerp(values[last], u * u * (3.0 - 2.0 * u)) + start * (length * u * r * r)
            - end * (length * u * u * r);
        apart(DQuat::from_vec4(value.normalize()), DQuat::from_vec4(values[i])) <= degrees
    })
}
