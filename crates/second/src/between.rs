//! What samples let expect between them, by docs/methods.md alone: dense, and by whole runs.

use glam::{DQuat, DVec3};

use crate::turn::{apart, exp, log, log_near};

/// So many equal samples are a hold; so many times as large as what is around is a jump or a corner.
const HOLD: usize = 4;
const SUDDEN: f64 = 8.0;

/// The last samples of runs, and the first samples of intervals across which there is a jump.
fn breaks(values: &[DVec3]) -> (Vec<usize>, Vec<usize>) {
    let last = values.len() - 1;
    let step = |i: usize| (values[i + 1] - values[i]).length();
    let bend = |i: usize| (values[i + 1] - values[i] * 2.0 + values[i - 1]).length();
    let others = |i: usize, from: usize, to: usize| {
        (i.saturating_sub(2).max(from)..=(i + 2).min(to)).filter(move |&j| j != i)
    };
    let jumps: Vec<usize> = (0..last)
        .filter(|&i| step(i) > 0.0 && others(i, 0, last - 1).all(|j| step(i) > SUDDEN * step(j)))
        .collect();
    let mut ends = vec![0, last];
    ends.extend(jumps.iter().flat_map(|&i| [i, i + 1]));
    ends.extend(
        (1..last).filter(|&i| bend(i) > 0.0 && others(i, 1, last - 1).all(|j| bend(i) > SUDDEN * bend(j))),
    );
    let mut from = 0;
    while from < last {
        let to = (from..last).take_while(|&i| step(i) <= 1e-12).count() + from;
        if to - from + 1 >= HOLD {
            ends.extend([from, to]);
        }
        from = to.max(from + 1);
    }
    ends.sort_unstable();
    ends.dedup();
    (ends, jumps)
}

/// The slopes of the cubic spline through some values that ends as the parabolas through three of them, by elimination.
fn spline(values: &[DVec3]) -> Vec<DVec3> {
    let last = values.len() - 1;
    if last == 1 {
        return vec![values[1] - values[0]; 2];
    }
    let first = (values[1] * 4.0 - values[0] * 3.0 - values[2]) * 0.5;
    let end = (values[last] * 3.0 - values[last - 1] * 4.0 + values[last - 2]) * 0.5;
    // Gauss and Seidel: the system is so diagonal that it settles by itself.
    let mut slopes = vec![DVec3::ZERO; last + 1];
    (slopes[0], slopes[last]) = (first, end);
    for _ in 0..60 {
        for i in 1..last {
            slopes[i] = ((values[i + 1] - values[i - 1]) * 3.0 - slopes[i - 1] - slopes[i + 1]) / 4.0;
        }
    }
    slopes
}

fn hermite(a: DVec3, out: DVec3, b: DVec3, into: DVec3, u: f64) -> DVec3 {
    let (u2, u3) = (u * u, u * u * u);
    a * (2.0 * u3 - 3.0 * u2 + 1.0) + out * (u3 - 2.0 * u2 + u) + b * (3.0 * u2 - 2.0 * u3) + into * (u3 - u2)
}

/// The corners of the box of what is plausible between the samples `i` and `i + 1`.
fn plausible(values: &[DVec3], ends: &[usize], jumps: bool, i: usize, u: f64) -> (DVec3, DVec3) {
    let (a, b) = (values[i], values[i + 1]);
    let straight = a.lerp(b, u);
    let mut all = if u == 0.5 && !jumps { vec![straight] } else { vec![a, b] };
    let (from, to) =
        (*ends.iter().rfind(|&&end| end <= i).unwrap(), *ends.iter().find(|&&end| end > i).unwrap());
    if !jumps && to - from > 1 {
        let run = &values[from..=to];
        let at = i - from;
        let parabola = |first: usize, u: f64| {
            let (p, q, r) = (run[first], run[first + 1], run[first + 2]);
            p * (0.5 * (u - 1.0) * (u - 2.0)) + q * (u * (2.0 - u)) + r * (0.5 * u * (u - 1.0))
        };
        if at == 0 {
            all.push(parabola(0, u));
        } else if i + 1 == to {
            all.push(parabola(at - 1, 1.0 + u));
        } else {
            let slopes = spline(run);
            all.push(hermite(a, slopes[at], b, slopes[at + 1], u));
            all.push(hermite(a, (b - run[at - 1]) * 0.5, b, (run[at + 2] - a) * 0.5, u));
        }
    }
    all.iter().fold((all[0], all[0]), |(low, high), v| (low.min(*v), high.max(*v)))
}

/// How far places are out of what samples of them let expect, at most, at eighths between; with where. Each component has
/// runs of its own.
pub fn of_places(samples: &[DVec3], at: impl Fn(f64) -> DVec3) -> (f64, f64) {
    let lines =
        [DVec3::X, DVec3::Y, DVec3::Z].map(|axis| samples.iter().map(|v| *v * axis).collect::<Vec<_>>());
    let breaks = lines.each_ref().map(|line| breaks(line));
    let mut worst = (0.0, 0.0);
    for i in 0..samples.len() - 1 {
        for u in (1..8).map(|part| f64::from(part) / 8.0) {
            let value = at(i as f64 + u);
            let mut out = DVec3::ZERO;
            for (axis, (line, (ends, jumps))) in lines.iter().zip(&breaks).enumerate() {
                let (low, high) = plausible(line, ends, jumps.contains(&i), i, u);
                out[axis] = value[axis] - value[axis].clamp(low[axis], high[axis]);
            }
            if out.length() > worst.0 {
                worst = (out.length(), i as f64 + u);
            }
        }
    }
    worst
}

/// The same of rotations, in degrees: as rotation vectors from the earlier sample.
pub fn of_turns(samples: &[DQuat], at: impl Fn(f64) -> DQuat) -> (f64, f64) {
    // Steps and bends are those between neighbours, each as the one before has it.
    let steps: Vec<DVec3> = samples.windows(2).map(|pair| log(pair[0].conjugate() * pair[1])).collect();
    let mut line = vec![DVec3::ZERO];
    for step in &steps {
        line.push(line[line.len() - 1] + *step);
    }
    let (ends, jumps) = breaks(&line);
    let mut worst = (0.0, 0.0);
    for i in 0..samples.len() - 1 {
        // A dozen to each side: farther away they count for nothing.
        let (first, last) = (i.saturating_sub(12), (i + 13).min(samples.len() - 1));
        let mut around = vec![DVec3::ZERO; last - first + 1];
        for j in (first..i).rev() {
            around[j - first] = log_near(samples[i].conjugate() * samples[j], around[j + 1 - first]);
        }
        for j in i + 1..=last {
            around[j - first] = log_near(samples[i].conjugate() * samples[j], around[j - 1 - first]);
        }
        let mut own: Vec<usize> =
            ends.iter().filter(|end| (first..=last).contains(end)).map(|end| end - first).collect();
        own.extend([0, last - first]);
        own.sort_unstable();
        for u in (1..8).map(|part| f64::from(part) / 8.0) {
            let (low, high) = plausible(&around, &own, jumps.contains(&i), i - first, u);
            let turn = at(i as f64 + u);
            let value = log(samples[i].conjugate() * turn);
            let out = match jumps.contains(&i) {
                // Across a jump, farther from halfway than both samples.
                true => {
                    let half = log(samples[i].conjugate() * samples[i + 1]) * 0.5;
                    ((value - half).length() - half.length()).max(0.0).to_degrees()
                }
                false => apart(exp(value), exp(value.clamp(low, high))),
            };
            if out > worst.0 {
                worst = (out, i as f64 + u);
            }
        }
    }
    worst
}
