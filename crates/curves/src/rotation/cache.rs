//! What conversions came to, for paths that are converted again because the tolerance changed somewhere.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use super::interval::{EulerKey, Interval};
use super::path::Knot;
use super::tolerance::{AngleTolerance, ToleranceScale};
use crate::fit::Handles;

/// What conversions came to: where a path is converted again with another scale, only intervals are looked at in which
/// that differs.
#[derive(Debug, Default)]
pub struct ConversionCache {
    places: Mutex<HashMap<(usize, Handles), Remembered>>,
    /// Whether keys that a fit chose are converted one by one, too, where fitting them anew does not come to rest.
    key_by_key: bool,
}

/// The place of one path in a cache.
#[derive(Clone, Copy, Debug)]
pub struct Slot<'a> {
    cache: &'a ConversionCache,
    index: usize,
}

/// What a path came to.
#[derive(Debug)]
pub(super) struct Remembered {
    knots: Vec<Knot>,
    intervals: Vec<Interval>,
    angle: f64,
    scale: Option<ToleranceScale>,
}

impl ConversionCache {
    /// One for conversions of all keys one by one, or of those that a fit chose by fitting anew.
    pub fn new(key_by_key: bool) -> ConversionCache {
        ConversionCache { key_by_key, ..ConversionCache::default() }
    }

    /// Whether all keys are to be converted one by one.
    pub fn is_key_by_key(&self) -> bool {
        self.key_by_key
    }

    /// The place of a path; no other one may have the same.
    pub fn place(&self, index: usize) -> Slot<'_> {
        Slot { cache: self, index }
    }
}

impl Slot<'_> {
    /// Whether all keys are to be converted one by one.
    pub fn is_key_by_key(self) -> bool {
        self.cache.key_by_key
    }

    /// Whether the path was converted with some handles.
    pub(super) fn contains(self, handles: Handles) -> bool {
        let places = self.cache.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.contains_key(&(self.index, handles))
    }

    pub(super) fn take(self, handles: Handles, knots: &[Knot]) -> Option<Remembered> {
        let mut places = self.cache.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.remove(&(self.index, handles)).filter(|remembered| remembered.knots == knots)
    }

    pub(super) fn insert(
        self,
        handles: Handles,
        knots: &[Knot],
        intervals: Vec<Interval>,
        tolerance: AngleTolerance<'_>,
    ) {
        let AngleTolerance { angle, scale } = tolerance;
        let remembered = Remembered { knots: knots.to_vec(), intervals, angle, scale: scale.cloned() };
        let mut places = self.cache.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.insert((self.index, handles), remembered);
    }
}

impl Remembered {
    /// What came of an interval, where it would come to the same again.
    pub fn interval(
        &self,
        index: usize,
        knots: &[Knot],
        first: &EulerKey,
        tolerance: AngleTolerance<'_>,
    ) -> Option<Interval> {
        let (from, to) = (knots[0].time.as_f64(), knots[1].time.as_f64());
        let AngleTolerance { angle, scale } = tolerance;
        let interval =
            self.intervals.get(index).filter(|interval| interval.incoming_angles == first.value)?;
        let is_same = match (scale, &self.scale) {
            (None, None) => true,
            (Some(now), Some(then)) => now.within(from, to) == then.within(from, to),
            _ => false,
        };
        (is_same && self.angle == angle).then(|| interval.after(first))
    }
}
