//! What conversions came to, for paths that are converted again because the tolerance changed somewhere.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use super::allowance::{Allowance, Slack};
use super::convert::{Conversion, Interval, TripleKey};
use super::path::Knot;
use crate::fit::Handles;

/// What conversions came to: where a path is converted again with another slack, only intervals are looked at in which
/// that differs.
#[derive(Debug, Default)]
pub struct Memory {
    places: Mutex<HashMap<(usize, Handles), Remembered>>,
}

/// The place of one path in a memory.
#[derive(Clone, Copy, Debug)]
pub struct Place<'a> {
    memory: &'a Memory,
    index: usize,
}

/// What a path came to.
#[derive(Debug)]
pub(super) struct Remembered {
    knots: Vec<Knot>,
    intervals: Vec<Interval>,
    angle: f64,
    slack: Option<Slack>,
}

impl Memory {
    /// The place of a path; no other one may have the same.
    pub fn place(&self, index: usize) -> Place<'_> {
        Place { memory: self, index }
    }
}

impl Place<'_> {
    /// Whether the path was converted with some handles.
    pub(super) fn knows(self, handles: Handles) -> bool {
        let places = self.memory.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.contains_key(&(self.index, handles))
    }

    pub(super) fn take(self, handles: Handles, knots: &[Knot]) -> Option<Remembered> {
        let mut places = self.memory.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.remove(&(self.index, handles)).filter(|remembered| remembered.knots == knots)
    }

    pub(super) fn keep(
        self,
        handles: Handles,
        knots: &[Knot],
        intervals: Vec<Interval>,
        conversion: &Conversion<'_>,
    ) {
        let Allowance { angle, slack } = conversion.tolerance;
        let remembered = Remembered { knots: knots.to_vec(), intervals, angle, slack: slack.cloned() };
        let mut places = self.memory.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.insert((self.index, handles), remembered);
    }
}

impl Remembered {
    /// What came of an interval, where it would come to the same again.
    pub fn interval(
        &self,
        index: usize,
        knots: &[Knot],
        first: &TripleKey,
        conversion: &Conversion<'_>,
    ) -> Option<Interval> {
        let (from, to) = (knots[0].time.as_f64(), knots[1].time.as_f64());
        let Allowance { angle, slack } = conversion.tolerance;
        let interval = self.intervals.get(index).filter(|interval| interval.came == first.value)?;
        let is_same = match (slack, &self.slack) {
            (None, None) => true,
            (Some(now), Some(then)) => now.within(from, to) == then.within(from, to),
            _ => false,
        };
        (is_same && self.angle == angle).then(|| interval.after(first))
    }
}
