//! Curves: keys with values, interpolation and tangents, and what happens outside the keys.

mod build;
mod changes;
mod combine;
mod discrete;
mod edit;
mod eval;
pub(crate) mod outside;
mod refit;
mod segment;
mod tangent;

pub use changes::{EVER, changes};
pub use combine::combine;
pub use discrete::{Discrete, DiscreteCurve};
pub use edit::{EditError, Splice};
pub use eval::Cursor;
pub use outside::Side;
pub use refit::{Refit, refit};
pub use segment::Segment;
pub(crate) use segment::{legal_scale, parameter_at, parameter_near};
pub use tangent::{Tangent, TangentMode, TangentShape};

use thiserror::Error;

use crate::time::{FrameRate, MAX_TICKS, TimeRange};

pub use crate::time::Ticks;

/// How a curve gets from a key to the next one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Interpolation {
    /// The key's value holds until the next key.
    Hold,
    /// A straight line.
    Linear,
    /// A cubic, shaped by the tangents at both ends.
    #[default]
    Cubic,
    /// No value until the next key.
    None,
}

/// One key of a curve.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Key {
    /// When.
    pub time: Ticks,
    /// The value at the key and after it.
    pub value: f64,
    /// A different value just before the key: the curve jumps there.
    pub value_before: Option<f64>,
    /// How the curve goes on to the next key.
    pub interpolation: Interpolation,
    /// The tangent on the side of the key before.
    pub tangent_in: Tangent,
    /// The tangent on the side of the key after.
    pub tangent_out: Tangent,
    /// Whether an edit of one tangent turns the other along; broken tangents are not joined.
    pub joined: bool,
    /// Whether a conversion put the key there, so that the way back may take it out again.
    pub added: bool,
    /// Whether a fit chose when it is, so that it may be elsewhere when the curve is fitted to something else.
    pub fitted: bool,
    /// Of a converted rotation, on which axes it was set; conversions key all axes, and the way back takes the key off the
    /// others. None where it is the axis' own.
    pub axes: AxisSet,
}

/// Some of three axes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct AxisSet(u8);

impl AxisSet {
    /// None of them.
    pub const NONE: AxisSet = AxisSet(0);

    /// Whether none is in it.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Whether an axis is in it.
    pub fn has(self, axis: usize) -> bool {
        self.0 & (1 << axis) != 0
    }

    /// The same with an axis.
    #[must_use]
    pub fn with(self, axis: usize) -> AxisSet {
        AxisSet(self.0 | (1 << axis))
    }

    /// All that are in one or the other.
    #[must_use]
    pub fn union(self, other: AxisSet) -> AxisSet {
        AxisSet(self.0 | other.0)
    }
}

impl Key {
    /// A key with joined automatic tangents and cubic interpolation.
    pub fn new(time: Ticks, value: f64) -> Key {
        Key {
            time,
            value,
            value_before: None,
            interpolation: Interpolation::Cubic,
            tangent_in: Tangent::AUTO,
            tangent_out: Tangent::AUTO,
            joined: true,
            added: false,
            fitted: false,
            axes: AxisSet::NONE,
        }
    }

    /// The same key with other interpolation.
    pub fn with_interpolation(self, interpolation: Interpolation) -> Key {
        Key { interpolation, ..self }
    }

    /// The same key with one free slope on both sides, in value per second.
    pub fn with_slope(self, slope: f64) -> Key {
        Key { tangent_in: Tangent::slope(slope), tangent_out: Tangent::slope(slope), joined: true, ..self }
    }

    /// The same key with a free slope of its own on each side, in value per second.
    pub fn with_slopes(self, before: f64, after: f64) -> Key {
        Key { tangent_in: Tangent::slope(before), tangent_out: Tangent::slope(after), joined: false, ..self }
    }

    /// The value just before the key.
    pub fn left_value(&self) -> f64 {
        self.value_before.unwrap_or(self.value)
    }
}

/// What a curve does before its first or after its last key.
#[derive(Clone, Copy, Debug, PartialEq, Default)]
pub enum Behaviour {
    /// The end key's value holds.
    #[default]
    Held,
    /// A straight line goes on with the slope the curve has at its end.
    Linear,
    /// A straight line with this slope, in value per second.
    Sloped(f64),
    /// The keys repeat, values going on from where they ended.
    LoopOffset,
    /// The keys repeat, values starting over.
    Loop,
    /// The keys repeat, every other time backwards.
    LoopOscillate,
    /// There is no value.
    None,
}

impl Behaviour {
    /// Whether the keys repeat.
    pub fn is_loop(self) -> bool {
        matches!(self, Behaviour::LoopOffset | Behaviour::Loop | Behaviour::LoopOscillate)
    }

    /// The same with its slope, where it has one, multiplied.
    #[must_use]
    pub fn steeper(self, factor: f64) -> Behaviour {
        match self {
            Behaviour::Sloped(slope) => Behaviour::Sloped(slope * factor),
            other => other,
        }
    }
}

/// A region of keys that repeats inside the curve.
///
/// The keys from `start` (where a key stands) up to but not including `end` are the pattern; it stands again
/// `before` times before itself and `after` times after itself, each time `value_offset` higher, and a key closes
/// the last repeat. Keys that lie where it repeats are hidden.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct InnerLoop {
    /// Start of the pattern; a key stands here.
    pub start: Ticks,
    /// End of the pattern.
    pub end: Ticks,
    /// Repeats before the pattern.
    pub before: u32,
    /// Repeats after the pattern.
    pub after: u32,
    /// What each repeat adds to the value.
    pub value_offset: f64,
}

/// A curve: keys in order of time, and what lies outside them.
///
/// Tangents whose mode is not free are kept up to date: they always have the slope their neighbours give them.
#[derive(Clone, Debug, PartialEq, Default)]
pub struct Curve {
    keys: Vec<Key>,
    /// What the curve does before its first key.
    pub before: Behaviour,
    /// What the curve does after its last key.
    pub after: Behaviour,
    inner_loop: Option<InnerLoop>,
}

/// Keys that do not make a curve.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CurveError {
    /// A key is not later than the one before it.
    #[error("key {index} is not later than the key before it: give each key its own time, in order")]
    NotIncreasing {
        /// Which key, from 0.
        index: usize,
    },
    /// A value, slope or handle is not a finite number.
    #[error("key {index} holds a number that is not finite")]
    NotFinite {
        /// Which key, from 0.
        index: usize,
    },
    /// A handle points backwards in time.
    #[error("key {index} has a handle of negative length: handle lengths count away from the key")]
    NegativeHandle {
        /// Which key, from 0.
        index: usize,
    },
    /// A time lies beyond [`MAX_TICKS`].
    #[error("key {index} lies more than 36 days from frame 0")]
    OutOfRange {
        /// Which key, from 0.
        index: usize,
    },
    /// An inner loop that has no length, no key at its start, too many repeats or an offset that is not finite.
    #[error(
        "the inner loop needs a key at its start, an end after it, a finite offset and at most {MAX_REPEATS} repeats"
    )]
    BadInnerLoop,
}

/// The most repeats an inner loop may have on each side.
pub const MAX_REPEATS: u32 = 10_000;

impl Curve {
    /// A curve through values at frames of a rate, with automatic tangents.
    ///
    /// ```
    /// use nimble_curve_curves::{curve::Curve, time::FrameRate};
    ///
    /// let rate = FrameRate::FPS_24;
    /// let wave = Curve::through(rate, [(1, 0.0), (13, 1.0), (25, 0.0)])?;
    /// // It starts as steep as it has to rise and is level at the top: half way it is above the straight line.
    /// let half_way = wave.value_at(rate.ticks(7).as_f64()).unwrap();
    /// assert!((half_way - 0.625).abs() < 1e-12);
    /// # Ok::<(), nimble_curve_curves::curve::CurveError>(())
    /// ```
    ///
    /// # Errors
    /// Where frames do not increase or values are not finite, see [`CurveError`].
    pub fn through(
        rate: FrameRate,
        values: impl IntoIterator<Item = (i64, f64)>,
    ) -> Result<Curve, CurveError> {
        Curve::new(values.into_iter().map(|(frame, value)| Key::new(rate.ticks(frame), value)).collect())
    }

    /// A curve of these keys, its automatic tangents computed.
    ///
    /// # Errors
    /// Where times do not increase or numbers are not finite, see [`CurveError`].
    pub fn new(keys: Vec<Key>) -> Result<Curve, CurveError> {
        for (index, key) in keys.iter().enumerate() {
            let numbers =
                [key.value, key.left_value(), key.tangent_in.slope_or_dv(), key.tangent_out.slope_or_dv()];
            if numbers.iter().any(|n| !n.is_finite()) {
                return Err(CurveError::NotFinite { index });
            }
            for length in [key.tangent_in.length(), key.tangent_out.length()].into_iter().flatten() {
                if !length.is_finite() {
                    return Err(CurveError::NotFinite { index });
                }
                if length < 0.0 {
                    return Err(CurveError::NegativeHandle { index });
                }
            }
            if !key.time.is_allowed() {
                return Err(CurveError::OutOfRange { index });
            }
            if index > 0 && key.time <= keys[index - 1].time {
                return Err(CurveError::NotIncreasing { index });
            }
        }
        let mut curve = Curve { keys, ..Curve::default() };
        curve.refresh_tangents();
        Ok(curve)
    }

    /// A curve that has one value throughout.
    pub fn constant(time: Ticks, value: f64) -> Curve {
        Curve { keys: vec![Key::new(time, value)], ..Curve::default() }
    }

    /// The keys, in order of time.
    pub fn keys(&self) -> &[Key] {
        &self.keys
    }

    /// The keys by value.
    pub fn into_keys(self) -> Vec<Key> {
        self.keys
    }

    /// The same curve with these behaviours outside its keys.
    pub fn with_behaviours(mut self, before: Behaviour, after: Behaviour) -> Curve {
        (self.before, self.after) = (before, after);
        self
    }

    /// Whether the curve has no keys, and so no value anywhere.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// Whether there are times at which the curve has no value, although it has keys.
    pub fn has_gaps(&self) -> bool {
        let inside = self
            .keys
            .split_last()
            .is_some_and(|(_, keys)| keys.iter().any(|key| key.interpolation == Interpolation::None));
        inside || (!self.is_empty() && [self.before, self.after].contains(&Behaviour::None))
    }

    /// From the first to the last key; `None` for a curve without keys.
    pub fn range(&self) -> Option<TimeRange> {
        Some(TimeRange { first: self.keys.first()?.time, last: self.keys.last()?.time })
    }

    /// The region that repeats inside the curve, if there is one.
    pub fn inner_loop(&self) -> Option<InnerLoop> {
        self.inner_loop
    }

    /// Sets the region that repeats inside the curve.
    ///
    /// # Errors
    /// [`CurveError::BadInnerLoop`] where it is not one.
    pub fn set_inner_loop(&mut self, inner_loop: Option<InnerLoop>) -> Result<(), CurveError> {
        if let Some(region) = inner_loop {
            let reach = (region.end.0 as i128 - region.start.0 as i128)
                * i128::from(region.before.max(region.after)).max(1);
            let fine = region.start < region.end
                && reach <= i128::from(MAX_TICKS)
                && region.before.max(region.after) <= MAX_REPEATS
                && region.value_offset.is_finite()
                && self.keys.binary_search_by_key(&region.start, |key| key.time).is_ok();
            if !fine {
                return Err(CurveError::BadInnerLoop);
            }
        }
        self.inner_loop = inner_loop;
        Ok(())
    }

    /// Whether the value is the same everywhere.
    pub fn is_constant(&self) -> bool {
        let Some(first) = self.keys.first() else { return true };
        let flat_outside = |behaviour: Behaviour| match behaviour {
            Behaviour::Sloped(slope) => slope == 0.0,
            Behaviour::None => false,
            _ => true,
        };
        let flat = |key: &Key| {
            key.value == first.value
                && key.left_value() == first.value
                && match key.interpolation {
                    Interpolation::Cubic => key.tangent_out.is_flat() && key.tangent_in.is_flat(),
                    Interpolation::None => false,
                    _ => true,
                }
        };
        let loop_adds = self.inner_loop.is_some_and(|region| region.value_offset != 0.0);
        let single = self.keys.len() == 1
            && !matches!(self.before, Behaviour::Linear)
            && !matches!(self.after, Behaviour::Linear)
            && first.left_value() == first.value;
        flat_outside(self.before)
            && flat_outside(self.after)
            && !loop_adds
            && (single || self.keys.iter().all(flat))
    }
}
