//! When the rows of a table are: frames, seconds, or the time code of devices.

use nimble_curve_core::curve::Ticks;
use nimble_curve_core::time::FrameRate;

use super::cells::Cells;
use crate::error::Fault;
use crate::grid::Clock;

/// What a column of times counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    Frames,
    Seconds,
    Milliseconds,
    TimeCode,
}

/// What the column of a name counts, if times are in it.
pub fn unit_of(name: &str) -> Option<Unit> {
    let plain: String = name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect();
    Some(match plain.as_str() {
        "frame" | "frames" | "framenumber" | "frameindex" => Unit::Frames,
        "time" | "times" | "seconds" | "timeseconds" | "timesec" | "timestamp" => Unit::Seconds,
        "milliseconds" | "ms" | "timems" | "timemilliseconds" | "timestampms" => Unit::Milliseconds,
        "timecode" | "smpte" => Unit::TimeCode,
        _ => return None,
    })
}

/// The rate that somebody gives, and the one that the file states.
#[derive(Clone, Copy, Debug)]
pub struct Rates {
    pub given: Option<FrameRate>,
    pub stated: Option<FrameRate>,
}

impl Rates {
    fn known(self) -> Option<FrameRate> {
        self.given.or(self.stated)
    }
}

/// When the rows are, and at which rate.
pub struct Times {
    pub rate: FrameRate,
    pub instants: Vec<Ticks>,
    pub notes: Vec<String>,
}

/// The times that cells say, each with its line; `is_in_order`: where each is meant to be later than the one before it.
///
/// # Errors
/// With the line of a cell that says no time.
pub fn times(
    unit: Unit,
    column: &[(usize, &str)],
    rates: Rates,
    cells: Cells,
    is_in_order: bool,
) -> Result<Times, Fault> {
    match unit {
        Unit::Frames => {
            let rate = rates.known().unwrap_or(FrameRate::FPS_24);
            let instant = |&(line, cell): &(usize, &str)| Ok(rate.ticks_at(cells.number(cell, line)?));
            let instants = column.iter().map(instant).collect::<Result<_, Fault>>()?;
            Ok(Times { rate, instants, notes: Vec::new() })
        }
        Unit::Seconds => seconds(column, rates, cells, 1.0),
        Unit::Milliseconds => seconds(column, rates, cells, 1e-3),
        Unit::TimeCode => codes(column, rates, is_in_order),
    }
}

fn seconds(column: &[(usize, &str)], rates: Rates, cells: Cells, unit: f64) -> Result<Times, Fault> {
    /// Clocks that count from farther away, such as from 1970, say nothing of where a take starts.
    const FAR: f64 = 30.0 * 86_400.0;
    let mut all = Vec::with_capacity(column.len());
    for &(line, cell) in column {
        all.push(cells.number(cell, line)? * unit);
    }
    let mut notes = Vec::new();
    let first = all.first().copied().filter(|first| first.abs() > FAR).map_or(0.0, f64::floor);
    if first != 0.0 {
        all.iter_mut().for_each(|time| *time -= first);
        notes.push(format!("its times count from far away: they are read less {first} s"));
    }
    // What is left of numbers that were long.
    let slack = 1e-9 + 4.0 * f64::EPSILON * first.abs();
    let said: Vec<(f64, f64)> = all.iter().map(|&time| (time, slack + 1e-12 * time.abs())).collect();
    let clock = match rates.stated.filter(|_| rates.given.is_none()) {
        // Somebody who states the rate counts in it.
        Some(rate) => Clock::exact(rate),
        None => Clock::of(&said, rates.given).unwrap_or_else(|| {
            notes.push(
                "its times fit no common rate: read at 24 frames a second (--rate says otherwise)".to_owned(),
            );
            Clock::tolerant(FrameRate::FPS_24)
        }),
    };
    let instants = said.iter().map(|&time| clock.time(time)).collect();
    notes.extend(clock.note());
    Ok(Times { rate: clock.rate, instants, notes })
}

/// A time code: hours, minutes, seconds and frames, and what is behind these.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Code {
    seconds: u32,
    frame: u32,
    part: f64,
    /// Whether numbers of frames are left out now and then, so that it keeps time with the clock at 29.97 and 59.94 frames a
    /// second (*SMPTE ST 12-1*).
    is_drop: bool,
}

impl Code {
    /// `HH:MM:SS:FF`, with `;` before the frames for drop-frame, and a fraction of a frame behind them.
    fn parse(text: &str) -> Option<Code> {
        let is_drop = text.contains(';');
        let plain = text.replace(';', ":");
        let mut parts = plain.split(':');
        let mut whole = |most: u32| -> Option<u32> {
            let part = parts.next()?;
            let is_number = (1..=2).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_digit());
            part.parse().ok().filter(|number| is_number && *number <= most)
        };
        let (hours, minutes, seconds) = (whole(47)?, whole(59)?, whole(59)?);
        let frames = parts.next()?;
        let (frame, part) = frames.split_once('.').unwrap_or((frames, ""));
        let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
        if parts.next().is_some() || !(1..=3).contains(&frame.len()) || !digits(frame) || !digits(part) {
            return None;
        }
        Some(Code {
            seconds: (hours * 60 + minutes) * 60 + seconds,
            frame: frame.parse().ok()?,
            part: if part.is_empty() { 0.0 } else { format!("0.{part}").parse().ok()? },
            is_drop,
        })
    }

    /// The frame that it names, counting so many a second; `None` where there is none of that name.
    fn frame(self, base: u32) -> Option<u64> {
        if self.frame >= base {
            return None;
        }
        let number = u64::from(self.seconds) * u64::from(base) + u64::from(self.frame);
        if !self.is_drop {
            return Some(number);
        }
        let left_out = u64::from(dropped(base)?);
        let minutes = u64::from(self.seconds / 60);
        let is_none = self.seconds.is_multiple_of(60)
            && !minutes.is_multiple_of(10)
            && u64::from(self.frame) < left_out;
        (!is_none).then(|| number - left_out * (minutes - minutes / 10))
    }
}

/// How many numbers drop-frame time code leaves out in nine of ten minutes, at 30 and 60 frames a second.
fn dropped(base: u32) -> Option<u32> {
    (base.is_multiple_of(30) && base <= 120).then_some(base / 15)
}

/// The rate of a time code that counts so many frames a second.
fn rate_of(base: u32, is_drop: bool) -> Option<FrameRate> {
    if is_drop { FrameRate::new(base * 1000, 1001) } else { FrameRate::new(base, 1) }
}

/// How many frames a second a rate counts, in whole numbers.
fn base_of(rate: FrameRate) -> u32 {
    rate.fps().round() as u32
}

fn codes(column: &[(usize, &str)], rates: Rates, is_in_order: bool) -> Result<Times, Fault> {
    let mut all = Vec::with_capacity(column.len());
    for &(line, cell) in column {
        let code = Code::parse(cell).ok_or_else(|| {
            let shown: String = cell.chars().take(24).collect();
            Fault::on_line(
                line,
                format!("'{shown}' is no time code: HH:MM:SS:FF, with ; before the frames for drop-frame"),
            )
        })?;
        all.push(code);
    }
    let mut notes = Vec::new();
    let repeats = if is_in_order { repeats(&all, column)? } else { 1 };
    let is_drop = all.iter().any(|code| code.is_drop);
    let most = all.iter().map(|code| code.frame).max().unwrap_or(0);
    let base = match rates.known() {
        Some(rate) => base_of(rate) / repeats,
        None => {
            const BASES: [u32; 8] = [24, 25, 30, 48, 50, 60, 100, 120];
            let drops = |base: &&u32| **base > most && (!is_drop || dropped(**base).is_some());
            BASES.iter().find(drops).copied().unwrap_or(24)
        }
    };
    let rate = match rates.known() {
        Some(rate) => rate,
        None => rate_of(base * repeats, is_drop).unwrap_or(FrameRate::FPS_24),
    };
    if rates.known().is_none() {
        notes.push(format!(
            "its time code counts {base} frames a second: read at {rate} (--rate says otherwise)"
        ));
    }
    if repeats > 1 {
        notes.push(format!("{repeats} rows share each time code: they are spread evenly over it"));
    }
    let mut instants = Vec::with_capacity(all.len());
    let (mut days, mut before, mut run) = (0_u64, 0_u32, 0_usize);
    for (index, code) in all.iter().enumerate() {
        let line = column[index].0;
        let frame = code.frame(base).ok_or_else(|| {
            Fault::on_line(
                line,
                format!("there is no time code '{}' at {rate} frames a second: say --rate", column[index].1),
            )
        })?;
        // Past midnight it starts again.
        if is_in_order && code.seconds + 43_200 < before {
            days += 1;
        }
        before = code.seconds;
        if repeats > 1 {
            run = match index.checked_sub(1) {
                // The first rows of a code may be missing.
                None => repeats as usize - all.iter().take_while(|other| *other == code).count(),
                Some(last) if all[last] == *code => run + 1,
                Some(_) => 0,
            };
        }
        let midnight = Code { seconds: 86_400, frame: 0, part: 0.0, is_drop: code.is_drop };
        let day = midnight.frame(base).unwrap_or(0) * days;
        let exact = (day + frame) as f64 + code.part;
        instants.push(rate.ticks_at(exact * f64::from(repeats) + run as f64));
    }
    Ok(Times { rate, instants, notes })
}

/// How many rows share a time code: as many each time, but for the first and the last.
fn repeats(all: &[Code], column: &[(usize, &str)]) -> Result<u32, Fault> {
    let runs: Vec<usize> = all.chunk_by(|a, b| a == b).map(<[Code]>::len).collect();
    let most = runs.iter().copied().max().unwrap_or(1);
    let inner = runs.get(1..runs.len().saturating_sub(1)).unwrap_or_default();
    let mut row = runs.first().copied().unwrap_or(0);
    for &run in inner {
        if run != most {
            return Err(Fault::on_line(
                column[row].0,
                format!("{run} rows have the time code '{}', others {most}", column[row].1),
            ));
        }
        row += run;
    }
    // A clock that stands still tells nothing.
    if most > 1 && inner.is_empty() {
        return Err(Fault::on_line(column[0].0, "its time code does not run"));
    }
    Ok(most as u32)
}

/// How times are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TableTimes {
    /// Frames, from whatever frame a take starts at.
    #[default]
    Frames,
    /// Seconds.
    Seconds,
    /// Time code; frame 0 is `00:00:00:00`.
    TimeCode,
    /// Drop-frame time code, at 29.97 and 59.94 frames a second.
    DropFrame,
}

impl TableTimes {
    /// The name of the column.
    pub fn column(self) -> &'static str {
        match self {
            TableTimes::Frames => "frame",
            TableTimes::Seconds => "seconds",
            TableTimes::TimeCode | TableTimes::DropFrame => "timecode",
        }
    }

    /// An instant as it is written.
    ///
    /// # Errors
    /// Where time code cannot say it.
    pub fn shown(self, time: Ticks, rate: FrameRate) -> Result<String, Fault> {
        let is_drop = match self {
            TableTimes::Frames => return Ok(rate.frame(time).to_string()),
            TableTimes::Seconds => return Ok(time.seconds().to_string()),
            TableTimes::TimeCode => false,
            TableTimes::DropFrame => true,
        };
        let base = base_of(rate);
        let left_out = match is_drop {
            true if rate_of(base, true) != Some(rate) || dropped(base).is_none() => {
                let why =
                    format!("drop-frame time code is for 29.97 and 59.94 frames a second, this is {rate}");
                return Err(Fault::of_whole(why));
            }
            true => dropped(base).unwrap_or(0),
            false => 0,
        };
        let exact = rate.frame(time);
        let day = u64::from(base) * 86_400 - u64::from(left_out) * (1440 - 144);
        if exact < 0.0 || exact >= day as f64 {
            let what = format!("time code runs from frame 0 to {}, and there is a key at {exact}", day - 1);
            return Err(Fault::of_whole(what));
        }
        let (base, left_out) = (u64::from(base), u64::from(left_out));
        let mut frame = exact as u64;
        if is_drop {
            // Ten minutes hold as many frames as any others; the first of them leaves out no number.
            let ten = base * 600 - 9 * left_out;
            let minute = base * 60 - left_out;
            let (tens, rest) = (frame / ten, frame % ten);
            let minutes = if rest < base * 60 { 0 } else { 1 + (rest - base * 60) / minute };
            frame += left_out * (9 * tens + minutes);
        }
        let seconds = frame / base;
        let part = exact.fract().to_string();
        Ok(format!(
            "{:02}:{:02}:{:02}{}{:02}{}",
            seconds / 3600,
            seconds / 60 % 60,
            seconds % 60,
            if is_drop { ';' } else { ':' },
            frame % base,
            part.strip_prefix('0').unwrap_or(&part)
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_frame_of_a_day_has_its_own_time_code() {
        let rates = [(24, 1), (25, 1), (30, 1), (60, 1), (30_000, 1001), (60_000, 1001), (24_000, 1001)];
        for (num, den) in rates {
            let rate = FrameRate::new(num, den).unwrap();
            let base = base_of(rate);
            let ways: &[TableTimes] = match den == 1001 && base > 24 {
                true => &[TableTimes::TimeCode, TableTimes::DropFrame],
                false => &[TableTimes::TimeCode],
            };
            for &way in ways {
                let minute = i64::from(base) * 60;
                let near = |middle: i64| (middle - 200).max(0)..middle + 200;
                let frames = (0..3 * minute)
                    .chain(near(10 * minute))
                    .chain(near(60 * minute))
                    .chain(near(1430 * minute));
                let mut last = String::new();
                for frame in frames {
                    let text = way.shown(rate.ticks(frame), rate).unwrap();
                    let code = Code::parse(&text).unwrap();
                    assert_eq!(code.is_drop, way == TableTimes::DropFrame);
                    assert_eq!(code.frame(base), Some(frame as u64), "{text} at {rate}");
                    assert!(text != last && (text > last || frame == 0), "{last} {text}");
                    last = text;
                }
            }
        }
        // The standard's own example: after a minute but each tenth, two numbers are left out.
        let rate = FrameRate::new(30_000, 1001).unwrap();
        let shown = |frame| TableTimes::DropFrame.shown(rate.ticks(frame), rate).unwrap();
        assert_eq!([shown(1799), shown(1800)], ["00:00:59;29", "00:01:00;02"]);
        assert_eq!([shown(17_981), shown(17_982)], ["00:09:59;29", "00:10:00;00"]);
        assert_eq!(shown(107_892), "01:00:00;00");
        assert_eq!(Code::parse("00:01:00;01").unwrap().frame(30), None);
    }

    #[test]
    fn what_is_no_time_code_is_none() {
        for text in [
            "",
            "1:2",
            "00:00:00",
            "00:60:00:00",
            "00:00:00:xx",
            "00:00:00:00:00",
            "-1:00:00:00",
            "0:0:0:1.5.2",
        ] {
            assert_eq!(Code::parse(text), None, "{text}");
        }
        let code = Code::parse("01:00:00:12.25").unwrap();
        assert_eq!((code.seconds, code.frame, code.part), (3600, 12, 0.25));
    }
}
