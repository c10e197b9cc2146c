//! Frame grids in key times that files give in seconds.

use nimble_curve_core::curve::Ticks;
use nimble_curve_core::time::{FrameRate, TICKS_PER_SECOND};

/// The rates that people use, the likeliest first.
const RATES: [(u32, u32); 13] = [
    (24, 1),
    (25, 1),
    (30, 1),
    (60, 1),
    (50, 1),
    (48, 1),
    (120, 1),
    (100, 1),
    (90, 1),
    (24000, 1001),
    (30000, 1001),
    (60000, 1001),
    (240, 1),
];

/// The first common rate on whose whole frames all times (with their slack, in seconds) lie; `None` where there is none,
/// or no time.
pub fn guess(times: impl Iterator<Item = (f64, f64)> + Clone) -> Option<FrameRate> {
    let fits = |rate: &FrameRate| {
        let fps = rate.fps();
        times.clone().all(|(time, slack)| ((time * fps).round() / fps - time).abs() <= 2.0 * slack)
    };
    times.clone().next()?;
    RATES.iter().filter_map(|&(num, den)| FrameRate::new(num, den)).find(fits)
}

/// The instant that a time in seconds means: a whole frame within the slack, else the nearest tick.
pub fn snapped(seconds: f64, rate: FrameRate, slack: f64) -> Ticks {
    let frame = (seconds * rate.fps()).round();
    if frame.abs() < 1e12 && (frame / rate.fps() - seconds).abs() <= 2.0 * slack {
        return rate.ticks(frame as i64);
    }
    Ticks::from_seconds(seconds)
}

/// The instants that ascending times in seconds mean, each with its slack: as [`snapped`], but of two times that would
/// come to stand on the same frame the one that is farther from it stays where it is, unless both mean one instant
/// (`is_one`, of two neighbours).
pub fn all_snapped(
    times: impl Iterator<Item = (f64, f64)>,
    rate: FrameRate,
    is_one: impl Fn(f64, f64) -> bool,
) -> Vec<Ticks> {
    let mut instants: Vec<Ticks> = Vec::with_capacity(times.size_hint().0);
    let mut before = 0.0;
    for (seconds, slack) in times {
        let mut time = snapped(seconds, rate, slack);
        if let Some(last) = instants.last_mut().filter(|last| **last >= time && !is_one(before, seconds)) {
            let frame = time.as_f64() / TICKS_PER_SECOND as f64;
            let (own, other) = ((seconds - frame).abs(), (before - frame).abs());
            if own <= other {
                *last = Ticks::from_seconds(before);
            } else {
                time = Ticks::from_seconds(seconds);
            }
        }
        before = seconds;
        instants.push(time);
    }
    instants
}

/// Whether two times in single precision are as good as one, as those of the two keys of a jump are.
pub fn neighbours(a: f64, b: f64) -> bool {
    (a as f32).to_bits().abs_diff((b as f32).to_bits()) <= 2
}

/// The rate of times that follow one another at an even step of one frame or less; `None` for anything else, and for
/// fewer than four.
pub fn step(times: &[Ticks], rate: FrameRate) -> Option<FrameRate> {
    if times.len() < 4 {
        return None;
    }
    let span = (times[times.len() - 1] - times[0]).as_f64();
    let step = span / (times.len() - 1) as f64;
    let per_frame = rate.ticks_per_frame() / step;
    let times_finer = per_frame.round();
    if !(1.0..=1000.0).contains(&times_finer) || (per_frame - times_finer).abs() > 1e-6 * per_frame {
        return None;
    }
    let fine = FrameRate::new(rate.numerator().checked_mul(times_finer as u32)?, rate.denominator())?;
    let even = times.iter().enumerate().all(|(index, &time)| times[0] + fine.ticks(index as i64) == time);
    even.then_some(fine)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_two_times_come_to_stand_on_one_frame() {
        let rate = FrameRate::FPS_24;
        let frames = [0.0, 71.9999, 72.0, 73.0, 73.0001, 74.00002];
        let times: Vec<f64> = frames.iter().map(|frame| frame / 24.0).collect();
        let instants = all_snapped(times.iter().map(|&second| (second, 1e-5)), rate, neighbours);
        assert!(instants.windows(2).all(|pair| pair[0] < pair[1]), "{instants:?}");
        let on_frames: Vec<bool> = instants.iter().map(|time| rate.frame(*time).fract() == 0.0).collect();
        assert_eq!(on_frames, [true, false, true, true, false, true]);
        for (instant, second) in instants.iter().zip(times) {
            assert!((instant.as_f64() / TICKS_PER_SECOND as f64 - second).abs() <= 2e-5);
        }
    }
}
