//! Values and slopes of curves at any time, and a cursor for sampling in order.

use std::borrow::Cow;

use super::{Behaviour, Curve, Key, Segment};
use crate::time::TICKS_PER_SECOND;

/// From which side an instant is approached; it matters at jumps and corners.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Just before the instant.
    Left,
    /// At the instant and just after it.
    Right,
}

impl Side {
    fn flipped(self) -> Side {
        match self {
            Side::Left => Side::Right,
            Side::Right => Side::Left,
        }
    }
}

/// A time brought back among the keys, and what the way there does to the value.
struct Folded {
    time: f64,
    side: Side,
    offset: f64,
    backwards: bool,
}

/// A straight line outside the keys.
struct Ray {
    from: f64,
    value: f64,
    slope: f64,
}

enum Place {
    Nowhere,
    Among(Folded),
    Along(Ray),
}

impl Curve {
    /// The value at a time in ticks; `None` where the curve has no value.
    ///
    /// For many times in order a [`Cursor`] is faster; so it is for any use of a curve with an inner loop.
    pub fn value_at(&self, time: f64) -> Option<f64> {
        self.value_on(time, Side::Right)
    }

    /// The value at a time in ticks, approached from one side.
    pub fn value_on(&self, time: f64, side: Side) -> Option<f64> {
        if self.inner_loop().is_some() {
            return self.unrolled().value_on(time, side);
        }
        match self.place(time, side) {
            Place::Nowhere => None,
            Place::Along(ray) => Some(ray.value + ray.slope * (time - ray.from) / TICKS_PER_SECOND as f64),
            Place::Among(folded) => Some(self.among(folded.time, folded.side)? + folded.offset),
        }
    }

    /// The slope at a time in ticks, approached from one side, in value per second.
    pub fn slope_on(&self, time: f64, side: Side) -> Option<f64> {
        if self.inner_loop().is_some() {
            return self.unrolled().slope_on(time, side);
        }
        match self.place(time, side) {
            Place::Nowhere => None,
            Place::Along(ray) => Some(ray.slope),
            Place::Among(folded) => {
                let (from, to) = self.keys_around(folded.time, folded.side)?;
                let slope = Segment::between(from, to).slope(folded.time)?;
                Some(if folded.backwards { -slope } else { slope })
            }
        }
    }

    /// Value on one side of a time that lies among the keys.
    fn among(&self, time: f64, side: Side) -> Option<f64> {
        let keys = self.keys();
        let (first, last) = (keys.first()?, keys.last()?);
        // Key values are exact, whatever rounding the segment's polynomial has.
        if side == Side::Right && time == last.time.as_f64() {
            return Some(last.value);
        }
        if side == Side::Left && time == first.time.as_f64() {
            return Some(first.left_value());
        }
        let (from, to) = self.keys_around(time, side)?;
        let at_right_end = side == Side::Left && time == to.time.as_f64();
        match Segment::between(from, to) {
            Segment::Plain(_) | Segment::Weighted(_) if at_right_end => Some(to.left_value()),
            segment => segment.value(time),
        }
    }

    /// The keys on both sides of a time among them.
    fn keys_around(&self, time: f64, side: Side) -> Option<(&Key, &Key)> {
        let keys = self.keys();
        let after = match side {
            Side::Right => keys.partition_point(|key| key.time.as_f64() <= time),
            Side::Left => keys.partition_point(|key| key.time.as_f64() < time),
        };
        let after = after.clamp(1, keys.len().checked_sub(1).filter(|&last| last > 0)?);
        Some((&keys[after - 1], &keys[after]))
    }

    /// The slope that the curve has at its first or last key, on the side of the keys.
    pub(crate) fn end_slope(&self, at_last: bool) -> f64 {
        let keys = self.keys();
        match (keys, at_last) {
            ([only], true) => only.tangent_out.slope_per_second(),
            ([only], false) => only.tangent_in.slope_per_second(),
            ([first, second, ..], false) => {
                Segment::between(first, second).slope(first.time.as_f64()).unwrap_or(0.0)
            }
            ([.., before, last], true) => {
                Segment::between(before, last).slope(last.time.as_f64()).unwrap_or(0.0)
            }
            ([], _) => 0.0,
        }
    }

    fn place(&self, time: f64, side: Side) -> Place {
        let keys = self.keys();
        let [first, .., last] = keys else {
            let [only] = keys else { return Place::Nowhere };
            let at = only.time.as_f64();
            let is_before = time < at || (time == at && side == Side::Left);
            return self.place_outside(only, only, is_before, time, side);
        };
        let (from, to) = (first.time.as_f64(), last.time.as_f64());
        if time < from || (time == from && side == Side::Left) {
            self.place_outside(first, last, true, time, side)
        } else if time > to || (time == to && side == Side::Right) {
            self.place_outside(first, last, false, time, side)
        } else {
            Place::Among(Folded { time, side, offset: 0.0, backwards: false })
        }
    }

    fn place_outside(&self, first: &Key, last: &Key, is_before: bool, time: f64, side: Side) -> Place {
        let (behaviour, key) = if is_before { (self.before, first) } else { (self.after, last) };
        let value = if is_before { key.left_value() } else { key.value };
        let ray = |slope| Place::Along(Ray { from: key.time.as_f64(), value, slope });
        let period = (last.time - first.time).as_f64();
        match behaviour {
            // The last key's own value stands even where nothing follows it.
            Behaviour::None if !is_before && time == key.time.as_f64() => ray(0.0),
            Behaviour::None => Place::Nowhere,
            Behaviour::Held => ray(0.0),
            Behaviour::Linear => match self.end_slope(!is_before) {
                slope if slope.is_finite() => ray(slope),
                _ => ray(0.0),
            },
            Behaviour::Sloped(slope) => ray(slope),
            _ if period == 0.0 => ray(0.0),
            Behaviour::LoopRepeat => {
                let (time, side, turn) = fold(time, first.time.as_f64(), period, side);
                Place::Among(Folded {
                    time,
                    side,
                    offset: turn * (last.value - first.value),
                    backwards: false,
                })
            }
            Behaviour::LoopReset => {
                let (time, side, _) = fold(time, first.time.as_f64(), period, side);
                Place::Among(Folded { time, side, offset: 0.0, backwards: false })
            }
            Behaviour::LoopOscillate => {
                let start = first.time.as_f64();
                let (folded, side, turn) = fold(time, start, period, side);
                let backwards = turn.rem_euclid(2.0) == 1.0;
                if !backwards {
                    return Place::Among(Folded { time: folded, side, offset: 0.0, backwards });
                }
                let mirrored = (start + period - (folded - start)).clamp(start, start + period);
                Place::Among(Folded { time: mirrored, side: side.flipped(), offset: 0.0, backwards })
            }
        }
    }
}

/// Brings a time into one period from `start`; also the whole periods that it lay away.
fn fold(time: f64, start: f64, period: f64, side: Side) -> (f64, Side, f64) {
    let mut turn = ((time - start) / period).floor();
    let mut folded = (time - turn * period).clamp(start, start + period);
    if side == Side::Left && folded == start {
        (turn, folded) = (turn - 1.0, start + period);
    } else if side == Side::Right && folded == start + period {
        (turn, folded) = (turn + 1.0, start);
    }
    (folded, side, turn)
}

/// Evaluates a curve at times in ascending order, at constant cost a sample.
///
/// Any order gives right values; descending times search anew.
#[derive(Clone, Debug)]
pub struct Cursor<'a> {
    curve: Cow<'a, Curve>,
    /// The key that ends the current segment; 0 while there is none.
    next: usize,
    from: f64,
    to: f64,
    segment: Segment,
}

impl<'a> Cursor<'a> {
    /// A cursor over a curve.
    pub fn new(curve: &'a Curve) -> Cursor<'a> {
        let curve = match curve.inner_loop() {
            Some(_) => Cow::Owned(curve.unrolled()),
            None => Cow::Borrowed(curve),
        };
        Cursor { curve, next: 0, from: f64::INFINITY, to: f64::NEG_INFINITY, segment: Segment::None }
    }

    /// The value at a time in ticks; `None` where the curve has no value.
    #[inline]
    pub fn value_at(&mut self, time: f64) -> Option<f64> {
        if time >= self.from && time < self.to {
            return self.segment.value(time);
        }
        self.move_to(time)
    }

    #[cold]
    fn move_to(&mut self, time: f64) -> Option<f64> {
        let keys = self.curve.keys();
        let among = keys.first().is_some_and(|key| key.time.as_f64() <= time)
            && keys.last().is_some_and(|key| time < key.time.as_f64());
        if !among {
            return self.curve.value_at(time);
        }
        let is_next = |next: usize| {
            next > 0
                && next < keys.len()
                && keys[next - 1].time.as_f64() <= time
                && time < keys[next].time.as_f64()
        };
        self.next = if is_next(self.next + 1) {
            self.next + 1
        } else {
            keys.partition_point(|key| key.time.as_f64() <= time)
        };
        let (from, to) = (&keys[self.next - 1], &keys[self.next]);
        (self.from, self.to) = (from.time.as_f64(), to.time.as_f64());
        self.segment = Segment::between(from, to);
        self.segment.value(time)
    }

    /// Fills `out` with the values at `start`, `start + step`, … in ticks, `or_else` where there is none.
    pub fn fill(&mut self, start: f64, step: f64, or_else: f64, out: &mut [f64]) {
        let mut index = 0;
        while index < out.len() {
            let time = start + index as f64 * step;
            out[index] = self.value_at(time).unwrap_or(or_else);
            index += 1;
            // Within one segment nothing has to be looked up.
            if let Segment::Plain(plain) = self.segment
                && step > 0.0
                && time >= self.from
            {
                while index < out.len() {
                    let time = start + index as f64 * step;
                    if time >= self.to {
                        break;
                    }
                    out[index] = plain.value(time);
                    index += 1;
                }
            }
        }
    }
}
