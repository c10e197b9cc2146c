//! Frame grids in key times that files give in seconds.

use nimble_curve_core::curve::Ticks;
use nimble_curve_core::time::FrameRate;

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
