//! Discrete curves: switches, choices and texts, which only ever hold.

use super::{CurveError, Ticks};

/// A value that cannot be interpolated.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Discrete {
    /// On or off.
    Switch(bool),
    /// One of an attribute's options, by name.
    Choice(String),
    /// Any text.
    Text(String),
}

/// Values that hold from their key until the next; before the first key its value holds, too.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct DiscreteCurve {
    keys: Vec<(Ticks, Discrete)>,
}

impl DiscreteCurve {
    /// A curve of these keys.
    ///
    /// # Errors
    /// [`CurveError::NotIncreasing`] where a key is not later than the one before.
    pub fn new(keys: Vec<(Ticks, Discrete)>) -> Result<DiscreteCurve, CurveError> {
        match keys.windows(2).position(|pair| pair[1].0 <= pair[0].0) {
            Some(before) => Err(CurveError::NotIncreasing { index: before + 1 }),
            None => Ok(DiscreteCurve { keys }),
        }
    }

    /// The keys, in order of time.
    pub fn keys(&self) -> &[(Ticks, Discrete)] {
        &self.keys
    }

    /// The value at a time in ticks; `None` without keys.
    pub fn value_at(&self, time: f64) -> Option<&Discrete> {
        let after = self.keys.partition_point(|(key, _)| key.as_f64() <= time);
        self.keys.get(after.saturating_sub(1)).map(|(_, value)| value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_hold_until_the_next_key_and_before_the_first() {
        let on = |on| Discrete::Switch(on);
        let curve = DiscreteCurve::new(vec![(Ticks(10), on(true)), (Ticks(20), on(false))]).unwrap();
        for (time, expected) in [(0.0, true), (10.0, true), (19.9, true), (20.0, false), (99.0, false)] {
            assert_eq!(curve.value_at(time), Some(&on(expected)), "{time}");
        }
        assert_eq!(DiscreteCurve::default().value_at(0.0), None);
        let twice = vec![(Ticks(1), on(true)), (Ticks(1), on(false))];
        assert_eq!(DiscreteCurve::new(twice), Err(CurveError::NotIncreasing { index: 1 }));
    }
}
