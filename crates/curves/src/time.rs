//! Time: exact key times in ticks, and frame rates as rationals.
//!
//! A tick is 1/705 600 000 s, a unit in which one frame of every common rate (24, 25, 30, 48, 50, 60, 90,
//! 100, 120 and the 1000/1001 rates) is a whole number, so that key times compare with `==`.

use std::fmt;
use std::num::NonZeroU32;
use std::ops::{Add, Neg, Sub};
use std::str::FromStr;

use thiserror::Error;

/// Ticks in one second.
pub const TICKS_PER_SECOND: i64 = 705_600_000;

/// The largest distance from zero that a time may have, about 37 days.
///
/// Below it every tick count is exact in an `f64`, also after a conversion to frames and back.
pub const MAX_TICKS: i64 = 1 << 51;

/// An instant or a duration in whole ticks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ticks(pub i64);

impl Ticks {
    /// The instant zero.
    pub const ZERO: Ticks = Ticks(0);

    /// The tick nearest to a fractional one. What lies beyond the allowed times, and what is no number, comes out beyond
    /// them, see [`Ticks::is_allowed`]; it never wraps.
    pub fn nearest(ticks: f64) -> Ticks {
        const BEYOND: f64 = (4 * MAX_TICKS) as f64;
        let ticks = if ticks.is_nan() { BEYOND } else { ticks };
        Ticks(ticks.round().clamp(-BEYOND, BEYOND) as i64)
    }

    /// Whether the instant lies within [`MAX_TICKS`] of zero.
    pub fn is_allowed(self) -> bool {
        self.0.unsigned_abs() <= MAX_TICKS.unsigned_abs()
    }

    /// The nearest tick to `seconds`.
    pub fn from_seconds(seconds: f64) -> Ticks {
        Ticks::nearest(seconds * TICKS_PER_SECOND as f64)
    }

    /// This time in seconds.
    pub fn seconds(self) -> f64 {
        self.0 as f64 / TICKS_PER_SECOND as f64
    }

    /// This time as fractional ticks, the form in which evaluation takes it.
    pub fn as_f64(self) -> f64 {
        self.0 as f64
    }
}

impl Add for Ticks {
    type Output = Ticks;
    fn add(self, other: Ticks) -> Ticks {
        Ticks(self.0 + other.0)
    }
}

impl Sub for Ticks {
    type Output = Ticks;
    fn sub(self, other: Ticks) -> Ticks {
        Ticks(self.0 - other.0)
    }
}

impl Neg for Ticks {
    type Output = Ticks;
    fn neg(self) -> Ticks {
        Ticks(-self.0)
    }
}

/// Frames per second, as a reduced fraction.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct FrameRate {
    num: u32,
    den: u32,
}

/// A frame rate that cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("'{0}' is not a frame rate: give frames per second like 24, 29.97 or 30000/1001")]
pub struct FrameRateError(pub String);

impl FrameRate {
    /// 24 frames a second.
    pub const FPS_24: FrameRate = FrameRate { num: 24, den: 1 };
    /// 30 frames a second.
    pub const FPS_30: FrameRate = FrameRate { num: 30, den: 1 };
    /// 120 frames a second.
    pub const FPS_120: FrameRate = FrameRate { num: 120, den: 1 };

    /// `num/den` frames a second; `None` where that is zero, undefined or beyond a frame a tick.
    pub fn new(num: u32, den: u32) -> Option<FrameRate> {
        if num == 0 || den == 0 || i64::from(num) > TICKS_PER_SECOND * i64::from(den) {
            return None;
        }
        let d = gcd(num, den);
        Some(FrameRate { num: num / d, den: den / d })
    }

    /// The numerator of the reduced fraction.
    pub fn numerator(self) -> u32 {
        self.num
    }

    /// The denominator of the reduced fraction.
    pub fn denominator(self) -> u32 {
        self.den
    }

    /// Frames per second.
    pub fn fps(self) -> f64 {
        f64::from(self.num) / f64::from(self.den)
    }

    /// Ticks in one frame; a whole number for every common rate.
    pub fn ticks_per_frame(self) -> f64 {
        TICKS_PER_SECOND as f64 * f64::from(self.den) / f64::from(self.num)
    }

    /// The instant of a whole frame, to the nearest tick.
    pub fn ticks(self, frame: i64) -> Ticks {
        // A frame of every common rate is a whole number of ticks.
        let (whole, rest) = {
            let (all, num) = (TICKS_PER_SECOND * i64::from(self.den), i64::from(self.num));
            (all / num, all % num)
        };
        if rest == 0 && frame.unsigned_abs() < 1 << 31 {
            return Ticks(frame * whole);
        }
        let exact = i128::from(frame) * i128::from(TICKS_PER_SECOND) * i128::from(self.den);
        Ticks(div_round(exact, i128::from(self.num)) as i64)
    }

    /// The instant of a fractional frame, to the nearest tick.
    pub fn ticks_at(self, frame: f64) -> Ticks {
        Ticks::nearest(frame * self.ticks_per_frame())
    }

    /// The frame, with its fraction, that an instant falls on.
    pub fn frame(self, time: Ticks) -> f64 {
        time.0 as f64 / self.ticks_per_frame()
    }

    /// The frame that an instant falls on exactly (to the tick), if there is one.
    pub fn whole_frame(self, time: Ticks) -> Option<i64> {
        let nearest = self.nearest_frame(time);
        (self.ticks(nearest) == time).then_some(nearest)
    }

    /// The whole frame nearest to an instant.
    pub fn nearest_frame(self, time: Ticks) -> i64 {
        let scaled = i128::from(time.0) * i128::from(self.num);
        div_round(scaled, i128::from(TICKS_PER_SECOND) * i128::from(self.den)) as i64
    }

    /// The exact rate that a frame time written with `decimals` digits after the point stands for.
    ///
    /// Files round frame times (`0.0083333` for 1/120 s). Within one unit of the last written digit the
    /// common rates win, then the 1000/1001 rates; else the written number is taken at its word.
    pub fn from_frame_time(seconds: f64, decimals: u32) -> Option<FrameRate> {
        if !(seconds.is_finite() && seconds > 0.0) {
            return None;
        }
        let at_its_word = || {
            let scale = 10_u64.checked_pow(decimals)?;
            let count = (seconds * scale as f64).round();
            if !(1.0..=4e9).contains(&count) || scale > u64::from(u32::MAX) {
                return FrameRate::new((1e6 / seconds).round() as u32, 1_000_000);
            }
            FrameRate::new(scale as u32, count as u32)
        };
        let rate = 1.0 / seconds;
        if decimals <= 4 && (rate - rate.round()).abs() < 1e-9 {
            return at_its_word();
        }
        let unit = 10_f64.powi(-(decimals.min(18) as i32)).max(seconds * 1e-9);
        let stands_for = |num: u32, den: u32| {
            let exact = f64::from(den) / f64::from(num);
            ((exact - seconds).abs() <= unit).then(|| FrameRate::new(num, den)).flatten()
        };
        const COMMON: [u32; 20] =
            [24, 25, 30, 48, 50, 60, 90, 100, 120, 15, 12, 8, 72, 96, 144, 150, 200, 240, 250, 300];
        (COMMON.iter().find_map(|&n| stands_for(n, 1)))
            .or_else(|| COMMON.iter().find_map(|&n| stands_for(n * 1000, 1001)))
            .or_else(|| stands_for(rate.round().max(1.0) as u32, 1).filter(|_| decimals >= 5))
            .or_else(at_its_word)
    }
}

impl fmt::Display for FrameRate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.den {
            1 => write!(f, "{}", self.num),
            den => write!(f, "{}/{den}", self.num),
        }
    }
}

impl FromStr for FrameRate {
    type Err = FrameRateError;

    /// Reads `30`, `30000/1001` or `29.97` (which means 30000/1001).
    fn from_str(text: &str) -> Result<FrameRate, FrameRateError> {
        let bad = || FrameRateError(text.to_owned());
        if let Some((num, den)) = text.split_once('/') {
            let parse = |s: &str| s.trim().parse::<u32>().map_err(|_| bad());
            return FrameRate::new(parse(num)?, parse(den)?).ok_or_else(bad);
        }
        if let Ok(whole) = text.parse::<u32>() {
            return FrameRate::new(whole, 1).ok_or_else(bad);
        }
        let fps: f64 = text.parse().map_err(|_| bad())?;
        if !(fps.is_finite() && fps > 0.0 && fps <= 1e6) {
            return Err(bad());
        }
        let ntsc = (fps * 1.001).round();
        if (ntsc * 1000.0 / 1001.0 - fps).abs() < 0.005 && fps.fract() != 0.0 {
            return FrameRate::new(ntsc as u32 * 1000, 1001).ok_or_else(bad);
        }
        FrameRate::new((fps * 1000.0).round() as u32, 1000).ok_or_else(bad)
    }
}

/// A range of time with both ends included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TimeRange {
    /// The first instant.
    pub first: Ticks,
    /// The last instant, which is not before the first.
    pub last: Ticks,
}

impl TimeRange {
    /// The range from `first` to `last`, swapped where they are the wrong way round.
    pub fn new(first: Ticks, last: Ticks) -> TimeRange {
        TimeRange { first: first.min(last), last: first.max(last) }
    }

    /// Whether an instant lies in the range, its ends included.
    pub fn contains(self, time: Ticks) -> bool {
        self.first <= time && time <= self.last
    }

    /// The smallest range that holds both.
    pub fn union(self, other: TimeRange) -> TimeRange {
        TimeRange { first: self.first.min(other.first), last: self.last.max(other.last) }
    }

    /// How many whole frames of `rate` lie in the range, both ends counted: 0:51 is 52 frames.
    pub fn frames(self, rate: FrameRate) -> i64 {
        rate.frame(self.last).floor() as i64 - rate.frame(self.first).ceil() as i64 + 1
    }

    /// Every so many frames from the first instant on, and the last one.
    pub fn every(self, rate: FrameRate, frames: NonZeroU32) -> impl Iterator<Item = Ticks> {
        let steps = (0..).map(move |index: i64| self.first + rate.ticks(i64::from(frames.get()) * index));
        steps.take_while(move |time| *time < self.last).chain([self.last])
    }

    /// From the first to the last instant, in seconds.
    pub fn seconds(self) -> f64 {
        (self.last - self.first).seconds()
    }
}

fn gcd(a: u32, b: u32) -> u32 {
    if b == 0 { a } else { gcd(b, a % b) }
}

/// `a / b` to the nearest whole number, halves away from zero; `b > 0`.
fn div_round(a: i128, b: i128) -> i128 {
    let half = if a < 0 { -b / 2 } else { b / 2 };
    (a + half) / b
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_of_every_common_rate_is_a_whole_number_of_ticks() {
        for text in
            ["24", "25", "30", "48", "50", "60", "90", "100", "120", "24000/1001", "30000/1001", "60000/1001"]
        {
            let rate: FrameRate = text.parse().unwrap();
            assert_eq!(rate.ticks_per_frame().fract(), 0.0, "{text}");
            for frame in [-7, 0, 1, 1_000_003] {
                assert_eq!(rate.whole_frame(rate.ticks(frame)), Some(frame), "{text} {frame}");
                assert_eq!(rate.whole_frame(rate.ticks(frame) + Ticks(1)), None, "{text} {frame}");
            }
        }
    }

    #[test]
    fn rounded_frame_times_stand_for_the_rate_they_were_rounded_from() {
        for (text, rate) in [
            ("0.0083333", "120"),
            ("0.0083333333", "120"),
            ("0.008333", "120"),
            ("0.0333333", "30"),
            ("0.0333", "30"),
            ("0.033", "30"),
            ("0.016666", "60"),
            ("0.0416667", "24"),
            ("0.041708", "24000/1001"),
            ("0.0333667", "30000/1001"),
            ("0.04", "25"),
            ("0.01", "100"),
            ("0.008", "125"),
            ("0.005", "200"),
            ("1", "1"),
            ("0.0130", "1000/13"),
        ] {
            let decimals = text.split_once('.').map_or(0, |(_, d)| d.len() as u32);
            let found = FrameRate::from_frame_time(text.parse().unwrap(), decimals).unwrap();
            assert_eq!(found.to_string(), rate, "{text}");
        }
        assert_eq!(FrameRate::from_frame_time(0.0, 3), None);
        assert_eq!(FrameRate::from_frame_time(f64::NAN, 3), None);
    }

    #[test]
    fn rates_are_read_as_people_write_them() {
        for (text, num, den) in [("29.97", 30000, 1001), ("23.976", 24000, 1001), ("12.5", 25, 2)] {
            assert_eq!(text.parse::<FrameRate>().unwrap(), FrameRate::new(num, den).unwrap());
        }
        for text in ["0", "-1", "x", "1/0", "nan", ""] {
            assert!(text.parse::<FrameRate>().is_err(), "{text}");
        }
    }

    #[test]
    fn a_range_counts_both_its_ends() {
        let rate = FrameRate::FPS_24;
        assert_eq!(TimeRange::new(rate.ticks(0), rate.ticks(51)).frames(rate), 52);
        assert_eq!(TimeRange::new(rate.ticks(5), rate.ticks(5)).frames(rate), 1);
    }
}
