//! The plain way to few keys on several curves at once: keys where they have to stand, and where the best cubics between two keys are
//! too far off one more in the middle between them.

/// How a key's slopes are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slopes {
    /// Two at each key, each that of the least squares on its side: no curve is smooth there.
    Broken,
    /// One at each key: that of the motion there.
    Joined,
}

/// The frames at which keys stand so that the curves stay within a bound, those in `start`, ascending, among them. `at` gives the
/// values at half frames, `is_within` whether made values are close enough to those at a half frame. Also whether they do stay within
/// it: between two frames no key can be put.
pub fn key_frames<const N: usize>(
    start: &[i64],
    slopes: Slopes,
    at: &impl Fn(f64) -> [f64; N],
    is_within: &impl Fn(f64, &[f64; N]) -> bool,
) -> (Vec<i64>, bool) {
    let mut frames = start[..1].to_vec();
    let mut holds = true;
    let ends = (start[0] as f64, start[start.len() - 1] as f64);
    for pair in start.windows(2) {
        halve((pair[0], pair[1]), (slopes, ends), at, is_within, (&mut frames, &mut holds));
    }
    (frames, holds)
}

fn halve<const N: usize>(
    (from, to): (i64, i64),
    how: (Slopes, (f64, f64)),
    at: &impl Fn(f64) -> [f64; N],
    is_within: &impl Fn(f64, &[f64; N]) -> bool,
    (frames, holds): (&mut Vec<i64>, &mut bool),
) {
    let middle = (from + to) / 2;
    let is_fit = fits((from, to), how, at, is_within);
    if middle == from || is_fit {
        *holds &= is_fit;
        frames.push(to);
        return;
    }
    halve((from, middle), how, at, is_within, (frames, holds));
    halve((middle, to), how, at, is_within, (frames, holds));
}

fn fits<const N: usize>(
    (from, to): (i64, i64),
    (how, ends): (Slopes, (f64, f64)),
    at: &impl Fn(f64) -> [f64; N],
    is_within: &impl Fn(f64, &[f64; N]) -> bool,
) -> bool {
    let (start, end) = (at(from as f64), at(to as f64));
    let length = (to - from) as f64;
    let count = 2 * (to - from);
    let part = |index: i64| index as f64 / count as f64;
    let frame = |index: i64| from as f64 + index as f64 * 0.5;
    // Of a cubic by its ends and two slopes what the slopes add.
    let bases = |u: f64| [u * (1.0 - u) * (1.0 - u), -u * u * (1.0 - u)];
    let smooth = |u: f64, axis: usize| start[axis] + (end[axis] - start[axis]) * u * u * (3.0 - 2.0 * u);
    let slopes = match how {
        Slopes::Broken => {
            let (mut aa, mut ab, mut bb) = (0.0, 0.0, 0.0);
            let mut sides = [[0.0; 2]; N];
            for index in 1..count {
                let [a, b] = bases(part(index));
                (aa, ab, bb) = (aa + a * a, ab + a * b, bb + b * b);
                let values = at(frame(index));
                for axis in 0..N {
                    let rest = values[axis] - smooth(part(index), axis);
                    sides[axis][0] += a * rest;
                    sides[axis][1] += b * rest;
                }
            }
            let det = aa * bb - ab * ab;
            let is_told = det > 1e-12 * aa * bb;
            sides.map(
                |[a, b]| {
                    if is_told { [(a * bb - b * ab) / det, (b * aa - a * ab) / det] } else { [0.0; 2] }
                },
            )
        }
        Slopes::Joined => {
            let slope = |frame: f64| -> [f64; N] {
                let (low, high) = ((frame - 0.5).max(ends.0), (frame + 0.5).min(ends.1));
                let (before, after) = (at(low), at(high));
                std::array::from_fn(|axis| (after[axis] - before[axis]) / (high - low) * length)
            };
            let (first, last) = (slope(from as f64), slope(to as f64));
            std::array::from_fn(|axis| [first[axis], last[axis]])
        }
    };
    (1..count).all(|index| {
        let [a, b] = bases(part(index));
        let made: [f64; N] =
            std::array::from_fn(|axis| smooth(part(index), axis) + a * slopes[axis][0] + b * slopes[axis][1]);
        is_within(frame(index), &made)
    })
}
