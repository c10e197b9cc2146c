//! Frame grids in key times that files give in seconds.
//!
//! Times come in single precision, with three to six decimals, or summed up step by step: what frame each means is found from
//! all of them together.

use std::cell::RefCell;
use std::collections::HashSet;

use nimble_curve_core::controller::{EVEN_LEAST, EVEN_LONGEST};
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

/// How far from a whole frame a key may be that was meant to be on it, in frames.
const WINDOW: f64 = 0.01;

/// How much longer or shorter steps may come out that were summed up in single precision, in steps: half of what tells 30
/// frames a second from 29.97, and what four thousand sums leave.
const DRIFT: f64 = 4e-4;

/// A time in seconds, and how far it may be from the one that was meant, by the precision it is kept in.
pub type Said = (f64, f64);

/// What frames the key times of a file mean.
#[derive(Debug)]
pub struct Clock {
    /// Frames a second.
    pub rate: FrameRate,
    /// How far from a frame a time is taken for it, in frames, beyond what its precision explains.
    window: f64,
    /// How far times may be off that were written with few decimals, in seconds.
    rounding: f64,
    /// Times that were summed up, and their frames.
    summed: Option<(Vec<f64>, Vec<i64>)>,
    moved: RefCell<Moved>,
}

/// The times that were taken for frames that they are not quite on.
#[derive(Clone, Debug, Default)]
struct Moved {
    /// Each once, by its bits.
    times: HashSet<u64>,
    /// The farthest, in frames.
    most: f64,
}

impl Clock {
    /// A clock of a rate that takes times as they stand, to their precision: as other programs do.
    pub fn exact(rate: FrameRate) -> Clock {
        Clock { rate, window: 0.0, rounding: 0.0, summed: None, moved: RefCell::default() }
    }

    /// A clock of a rate that takes times a hundredth of a frame beside whole frames for those.
    pub fn tolerant(rate: FrameRate) -> Clock {
        Clock { window: WINDOW, ..Clock::exact(rate) }
    }

    /// The clock of all times of a file: that of a given rate, or of the common rate that fits best. `None` where none fits,
    /// or there is no time.
    pub fn of(times: &[Said], given: Option<FrameRate>) -> Option<Clock> {
        let rates: Vec<FrameRate> = match given {
            Some(rate) => vec![rate],
            None => RATES.iter().filter_map(|&(num, den)| FrameRate::new(num, den)).collect(),
        };
        let times = distinct(times);
        if times.is_empty() {
            return given.map(Clock::tolerant);
        }
        let rounding = decimals(&times);
        let times: Vec<Said> = times.into_iter().map(|(time, own)| (time, own.max(rounding))).collect();
        if let Some(rate) = precise(&times, &rates) {
            return Some(Clock { rounding, ..Clock::tolerant(rate) });
        }
        if let Some((rate, frames)) = summed(&times, &rates) {
            let seconds = times.iter().map(|(time, _)| *time).collect();
            return Some(Clock { summed: Some((seconds, frames)), ..Clock::tolerant(rate) });
        }
        given.or_else(|| by_most(&times, &rates)).map(Clock::tolerant)
    }

    /// The instant that a time means: a whole frame within its precision or the clock's window, else the nearest tick.
    pub fn time(&self, (seconds, slack): Said) -> Ticks {
        let fps = self.rate.fps();
        let frame = match self.summed_frame(seconds) {
            Some(frame) => frame as f64,
            None => (seconds * fps).round(),
        };
        let off = (frame / fps - seconds).abs();
        let is_precise = off <= 2.0 * slack.max(self.rounding);
        let is_meant = is_precise || off * fps <= self.window || self.summed_frame(seconds).is_some();
        if is_meant && !is_precise {
            let mut moved = self.moved.borrow_mut();
            moved.times.insert(seconds.to_bits());
            moved.most = moved.most.max(off * fps);
        }
        if frame.abs() < 1e12 && is_meant {
            self.rate.ticks(frame as i64)
        } else {
            Ticks::from_seconds(seconds)
        }
    }

    fn summed_frame(&self, seconds: f64) -> Option<i64> {
        let (known, frames) = self.summed.as_ref()?;
        let at = known.partition_point(|time| *time < seconds);
        let near = |index: usize| {
            let known = *known.get(index)?;
            (known == seconds || neighbours(known, seconds)).then(|| frames[index])
        };
        near(at).or_else(|| near(at.checked_sub(1)?))
    }

    /// The instants that ascending times mean: as [`Clock::time`], but of two times that would come to stand on the same
    /// frame the one that is farther from it stays where it is, unless both mean one instant (`is_one`, of two neighbours).
    pub fn times(&self, times: impl Iterator<Item = Said>, is_one: impl Fn(f64, f64) -> bool) -> Vec<Ticks> {
        let mut instants: Vec<Ticks> = Vec::with_capacity(times.size_hint().0);
        let mut before = 0.0;
        for (seconds, slack) in times {
            let mut time = self.time((seconds, slack));
            if let Some(last) = instants.last_mut().filter(|last| **last >= time && !is_one(before, seconds))
            {
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

    /// What to say of times that were moved to frames, if any were.
    pub fn note(&self) -> Option<String> {
        let moved = self.moved.borrow();
        let why = match self.summed {
            Some(_) => "summed up step by step, they drift",
            None => "they lie a little beside",
        };
        let shown = |count: usize| {
            if count == 1 { "1 key time is".to_owned() } else { format!("{count} key times are") }
        };
        (!moved.times.is_empty()).then(|| {
            let (count, rate) = (shown(moved.times.len()), self.rate);
            format!(
                "{count} taken for whole frames at {rate} a second, up to {:.4} frames off: {why}",
                moved.most
            )
        })
    }
}

/// All times once, in order; of neighbours in single precision one, as they mean one instant.
fn distinct(times: &[Said]) -> Vec<Said> {
    let mut all = times.to_vec();
    if !all.is_sorted_by(|a, b| a.0 <= b.0) {
        all.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
    }
    all.dedup_by(|next, kept| neighbours(kept.0, next.0));
    all
}

/// How far times may be off that were written with few decimals: half the last one, where all of them have three to six.
fn decimals(times: &[Said]) -> f64 {
    let ends = |unit: f64| {
        times.iter().all(|&(time, slack)| ((time / unit).round() * unit - time).abs() <= 2.0 * slack + 1e-12)
    };
    // Times with fewer are exact ones of some rate, such as quarters of a second.
    let has_all = |unit: f64| ends(unit) && !ends(unit * 10.0);
    [1e-3, 1e-4, 1e-5, 1e-6].into_iter().find(|&unit| has_all(unit)).map_or(0.0, |unit| 0.5 * unit)
}

/// The first rate on whose frames all times lie, to their precision, and that fits as well as any.
fn precise(times: &[Said], rates: &[FrameRate]) -> Option<FrameRate> {
    let fit = |rate: &FrameRate| -> Option<(FrameRate, f64)> {
        let fps = rate.fps();
        let off = |time: f64| ((time * fps).round() / fps - time).abs();
        // Where the precision is no small part of a frame, any time would fit.
        let fits = |&(time, slack): &Said| off(time) <= 2.0 * slack && slack * fps < 0.1;
        let squares = || times.iter().map(|&(time, _)| off(time).powi(2)).sum::<f64>();
        times.iter().all(fits).then(|| (*rate, (squares() / times.len() as f64).sqrt()))
    };
    let fitting: Vec<(FrameRate, f64)> = rates.iter().filter_map(fit).collect();
    let best = fitting.iter().map(|(_, rms)| *rms).min_by(f64::total_cmp)?;
    let slack = times.iter().map(|(_, slack)| slack).sum::<f64>() / times.len() as f64;
    fitting.into_iter().find(|(_, rms)| *rms <= 1.5 * best + 0.1 * slack).map(|(rate, _)| rate)
}

/// The rate of times that were summed up from frame to frame, and the frame of each: every step is a whole number of frames,
/// while the whole drifts.
fn summed(times: &[Said], rates: &[FrameRate]) -> Option<(FrameRate, Vec<i64>)> {
    if times.len() < 8 {
        return None;
    }
    let fit = |rate: &FrameRate| -> Option<(FrameRate, Vec<i64>, f64)> {
        let fps = rate.fps();
        let mut frames = vec![(times[0].0 * fps).round() as i64];
        let mut short = 0;
        for pair in times.windows(2) {
            let steps = (pair[1].0 - pair[0].0) * fps;
            let count = steps.round();
            if count < 1.0 || (steps - count).abs() > WINDOW.max(DRIFT * count) {
                return None;
            }
            short += usize::from(count <= 4.0);
            frames.push(frames[frames.len() - 1] + count as i64);
        }
        let counted = (frames[frames.len() - 1] - frames[0]) as f64;
        let drift = ((times[times.len() - 1].0 - times[0].0) * fps - counted).abs() / counted;
        (drift <= DRIFT && short * 4 >= 3 * (times.len() - 1)).then_some((*rate, frames, drift))
    };
    let fitting: Vec<_> = rates.iter().filter_map(fit).collect();
    let best = fitting.iter().map(|(_, _, drift)| *drift).min_by(f64::total_cmp)?;
    let found = fitting.into_iter().find(|(_, _, drift)| *drift <= 1.5 * best + 1e-9);
    found.map(|(rate, frames, _)| (rate, frames))
}

/// The first rate near whose frames as many times lie as near those of any, where that is most of them.
fn by_most(times: &[Said], rates: &[FrameRate]) -> Option<FrameRate> {
    let near = |rate: &FrameRate| {
        let off = |time: f64| ((time * rate.fps()).round() - time * rate.fps()).abs();
        times.iter().filter(|&&(time, slack)| off(time) <= WINDOW.max(2.0 * slack * rate.fps())).count()
    };
    let counts: Vec<usize> = rates.iter().map(near).collect();
    let most = counts.iter().copied().max()?;
    let found = counts.iter().position(|&count| count * 50 >= most * 49)?;
    (2 * counts[found] > times.len()).then(|| rates[found])
}

/// Whether two times in single precision are as good as one, as those of the two keys of a jump are.
pub fn neighbours(a: f64, b: f64) -> bool {
    (a as f32).to_bits().abs_diff((b as f32).to_bits()) <= 2
}

/// The rate of times that follow one another at an even step: of one frame or less where there are four of them, and of several frames
/// where that is what is sampled, and not keyed by hand, see [`Controller::even_keys`](nimble_curve_core::controller::Controller::even_keys).
/// `None` for anything else.
pub fn step(times: &[Ticks], rate: FrameRate) -> Option<FrameRate> {
    if times.len() < 4 {
        return None;
    }
    let span = (times[times.len() - 1] - times[0]).as_f64();
    let step = span / (times.len() - 1) as f64;
    let is_whole = |ratio: f64| (ratio - ratio.round()).abs() <= 1e-6 * ratio;
    let (finer, coarser) = (rate.ticks_per_frame() / step, step / rate.ticks_per_frame());
    let own = if (1.0..=1000.0).contains(&finer.round()) && is_whole(finer) {
        FrameRate::new(rate.numerator().checked_mul(finer.round() as u32)?, rate.denominator())?
    } else if times.len() >= EVEN_LEAST && step <= EVEN_LONGEST && is_whole(coarser) {
        FrameRate::new(rate.numerator(), rate.denominator().checked_mul(coarser.round() as u32)?)?
    } else {
        return None;
    };
    let even = times.iter().enumerate().all(|(index, &time)| times[0] + own.ticks(index as i64) == time);
    even.then_some(own)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The ways in which files in the wild say the time of a frame.
    fn said(way: &str, frame: i64, rate: FrameRate) -> Said {
        let exact = frame as f64 / rate.fps();
        let single = |time: f64| (f64::from(time as f32), time.abs() * 1.2e-7 + 1e-9);
        let decimals = |count: i32| {
            let unit = 10_f64.powi(count);
            ((exact * unit).round() / unit, 1e-12)
        };
        match way {
            "single" => single(exact),
            "double" => (exact, 1e-12),
            "single with 4 decimals" => single((exact * 1e4).round() / 1e4),
            _ => decimals(way.parse().unwrap()),
        }
    }

    #[test]
    fn frames_and_their_rate_are_found_however_times_are_said() {
        let mut tried = 0;
        for (num, den) in
            [(24, 1), (25, 1), (30, 1), (60, 1), (120, 1), (24000, 1001), (30000, 1001), (60000, 1001)]
        {
            let rate = FrameRate::new(num, den).unwrap();
            for way in ["single", "double", "summed", "3", "4", "5", "6", "single with 4 decimals"] {
                for (first, count, every) in
                    [(0, 4001, 1), (0, 120, 1), (37, 4001, 1), (86_400, 400, 1), (0, 4001, 3), (0, 1200, 50)]
                {
                    // A tenth of a frame is no small part of it, and steps of many frames cannot be told from other rates.
                    let coarse = way == "3" && num / den > 100;
                    let far_sums = way == "summed" && (every > 4 || first > 1000 || num / den > 100);
                    if coarse || far_sums {
                        continue;
                    }
                    let what = format!("{rate} {way} {first} {count} {every}");
                    let frames: Vec<i64> = (first..first + count).step_by(every).collect();
                    let times: Vec<Said> = match way {
                        "summed" => {
                            let step = (1.0 / rate.fps()) as f32;
                            let mut time = (first as f64 / rate.fps()) as f32;
                            let mut all = Vec::new();
                            for frame in first..first + count {
                                if (frame - first) % every as i64 == 0 {
                                    all.push((f64::from(time), f64::from(time) * 1.2e-7 + 1e-9));
                                }
                                time += step;
                            }
                            all
                        }
                        _ => frames.iter().map(|&frame| said(way, frame, rate)).collect(),
                    };
                    let clock = Clock::of(&times, None).unwrap_or_else(|| panic!("{what}: no rate"));
                    // Every third frame at 60 a second is every frame at 20, and so on: any rate that has them will do.
                    let found = clock.times(times.iter().copied(), |_, _| false);
                    for (frame, time) in frames.iter().zip(&found) {
                        let meant = rate.ticks(*frame);
                        assert_eq!(*time, meant, "{what}: at {} a second, frame {frame}", clock.rate);
                    }
                    assert!(every > 1 || clock.rate == rate, "{what}: {}", clock.rate);
                    tried += 1;
                }
            }
        }
        assert!(tried > 300, "{tried}");
    }

    #[test]
    fn what_lies_a_little_beside_is_taken_for_the_frame_and_said() {
        let rate = FrameRate::FPS_24;
        let mut times: Vec<Said> = (0..100).map(|frame| (f64::from(frame) / 24.0, 1e-12)).collect();
        times[40].0 += 0.009 / 24.0;
        times[41].0 -= 0.004 / 24.0;
        times[60].0 += 0.02 / 24.0;
        let clock = Clock::of(&times, None).unwrap();
        assert_eq!(clock.rate, rate);
        let found = clock.times(times.iter().copied(), |_, _| false);
        let off: Vec<usize> = (0..100).filter(|&frame| found[frame] != rate.ticks(frame as i64)).collect();
        assert_eq!(off, [60]);
        let note = clock.note().unwrap();
        assert!(
            note.starts_with(
                "2 key times are taken for whole frames at 24 a second, up to 0.0090 frames off"
            ),
            "{note}"
        );
        // A rate that is given counts, and snaps as well.
        let given = Clock::of(&times, Some(FrameRate::new(48, 1).unwrap())).unwrap();
        assert_eq!(given.rate.to_string(), "48");
        assert_eq!(given.time(times[41]), rate.ticks(41));
        // As other programs have it, nothing moves.
        let exact = Clock::exact(rate);
        assert_eq!(exact.time(times[41]), Ticks::from_seconds(times[41].0));
        assert!(exact.note().is_none());
    }

    #[test]
    fn the_simplest_rate_that_fits_is_taken_and_none_where_none_does() {
        let of = |frames: &[f64], fps: f64| -> Option<String> {
            let times: Vec<Said> = frames.iter().map(|frame| (frame / fps, 1e-9)).collect();
            Clock::of(&times, None).map(|clock| clock.rate.to_string())
        };
        assert_eq!(of(&[0.0, 12.0, 24.0], 24.0).as_deref(), Some("24"));
        assert_eq!(of(&[0.0, 1.0, 25.0], 50.0).as_deref(), Some("50"));
        assert_eq!(of(&[0.0, 1.0, 24.0], 48.0).as_deref(), Some("48"));
        let mut frames: Vec<f64> = (0..60).map(f64::from).collect();
        frames[7] += 0.31;
        assert_eq!(of(&frames, 30.0).as_deref(), Some("30"));
        let odd: Vec<f64> =
            (0..60).map(|index| f64::from(index) * 1.37 + f64::from(index * index) * 0.0113).collect();
        assert_eq!(of(&odd, 30.0), None);
        assert_eq!(of(&[], 30.0), None);
    }

    #[test]
    fn no_two_times_come_to_stand_on_one_frame() {
        let rate = FrameRate::FPS_24;
        let frames = [0.0, 71.9999, 72.0, 73.0, 73.0001, 74.00002];
        let times: Vec<f64> = frames.iter().map(|frame| frame / 24.0).collect();
        let instants = Clock::exact(rate).times(times.iter().map(|&second| (second, 1e-5)), neighbours);
        assert!(instants.windows(2).all(|pair| pair[0] < pair[1]), "{instants:?}");
        let on_frames: Vec<bool> = instants.iter().map(|time| rate.frame(*time).fract() == 0.0).collect();
        assert_eq!(on_frames, [true, false, true, true, false, true]);
        for (instant, second) in instants.iter().zip(times) {
            assert!((instant.as_f64() / TICKS_PER_SECOND as f64 - second).abs() <= 2e-5);
        }
    }
}
