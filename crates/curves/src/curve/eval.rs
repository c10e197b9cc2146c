//! Values and slopes of curves at any time, and a cursor for sampling in order.

use std::borrow::Cow;

use super::outside::{Line, Place, Side, place};
use super::{Curve, Key, Segment};
use crate::time::TICKS_PER_SECOND;

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
            Place::Along { at_last, line } => {
                let (from, value) = self.end(at_last)?;
                Some(value + self.slope_of(line, at_last) * (time - from) / TICKS_PER_SECOND as f64)
            }
            Place::Among(folded) => {
                let value = self.among(folded.time, folded.side)?;
                Some(if folded.climbed == 0.0 { value } else { value + folded.climbed * self.climb() })
            }
        }
    }

    /// The slope at a time in ticks, approached from one side, in value per second.
    pub fn slope_on(&self, time: f64, side: Side) -> Option<f64> {
        if self.inner_loop().is_some() {
            return self.unrolled().slope_on(time, side);
        }
        match self.place(time, side) {
            Place::Nowhere => None,
            Place::Along { at_last, line } => Some(self.slope_of(line, at_last)),
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
        let Some(range) = self.range() else { return Place::Nowhere };
        place((range.first, range.last), (self.before, self.after), time, side)
    }

    /// Time in ticks and value at the outer side of the first or last key.
    fn end(&self, at_last: bool) -> Option<(f64, f64)> {
        let key = if at_last { self.keys().last() } else { self.keys().first() }?;
        Some((key.time.as_f64(), if at_last { key.value } else { key.left_value() }))
    }

    /// The slope of a line outside the keys, in value per second.
    fn slope_of(&self, line: Line, at_last: bool) -> f64 {
        match line {
            Line::Still => 0.0,
            Line::Sloped(slope) => slope,
            Line::AsItEnds => Some(self.end_slope(at_last)).filter(|slope| slope.is_finite()).unwrap_or(0.0),
        }
    }

    /// By how much a loop that goes on from where it ended rises each time.
    pub(super) fn climb(&self) -> f64 {
        self.keys().last().map_or(0.0, |key| key.value) - self.keys().first().map_or(0.0, |key| key.value)
    }
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
            if step <= 0.0 || time < self.from {
                continue;
            }
            // Within one segment nothing has to be looked up.
            match self.segment {
                Segment::Plain(plain) => {
                    while index < out.len() {
                        let time = start + index as f64 * step;
                        if time >= self.to {
                            break;
                        }
                        out[index] = plain.value(time);
                        index += 1;
                    }
                }
                Segment::Weighted(weighted) => {
                    let mut within = (((self.to - time) / step) as usize).min(out.len() - index);
                    while within > 0 && start + (index + within - 1) as f64 * step >= self.to {
                        within -= 1;
                    }
                    weighted.fill(start + index as f64 * step, step, &mut out[index..index + within]);
                    index += within;
                }
                _ => {}
            }
        }
    }
}
