//! What stays the same, on all frames or on most of them.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;

/// How many frames something has to stay the same at least, to be something that stays.
const SHORTEST: usize = 4;

/// How many different values are told apart.
const MOST_VALUES: usize = 48;

/// A value that stays, and on which frames.
#[derive(Clone, Debug)]
pub struct Steady<T> {
    pub value: T,
    pub on: Vec<bool>,
}

impl<T> Steady<T> {
    /// On how many frames.
    pub fn count(&self) -> usize {
        count(&self.on)
    }
}

/// On how many frames something holds.
pub fn count(on: &[bool]) -> usize {
    on.iter().filter(|on| **on).count()
}

/// What can stay the same.
pub trait Value: Copy {
    fn apart(&self, other: &Self) -> f64;
    fn mean(values: impl Iterator<Item = Self>) -> Option<Self>;
}

impl Value for DVec3 {
    fn apart(&self, other: &DVec3) -> f64 {
        (*self - *other).length()
    }

    fn mean(values: impl Iterator<Item = DVec3>) -> Option<DVec3> {
        let (sum, count) = values.fold((DVec3::ZERO, 0.0), |(sum, count), own| (sum + own, count + 1.0));
        (count > 0.0).then(|| sum / count)
    }
}

impl Value for DQuat {
    fn apart(&self, other: &DQuat) -> f64 {
        angle_between(*self, *other)
    }

    fn mean(mut values: impl Iterator<Item = DQuat>) -> Option<DQuat> {
        let first = values.next()?;
        // They lie close together, so that the sum of those of like sign is their mean.
        let near = |own: DQuat| if own.dot(first) < 0.0 { -own } else { own };
        Some(values.fold(first, |sum, own| sum + near(own)).normalize())
    }
}

/// The value that most frames share within a limit, among values that stay for some frames; `None` where none does.
pub fn steady<T: Value>(values: &[T], limit: f64) -> Option<Steady<T>> {
    let groups = groups(values, limit);
    let (value, _) = groups.into_iter().max_by_key(|(_, count)| *count)?;
    Some(around(values, value, limit))
}

/// The frames about a value, which becomes their mean.
pub fn around<T: Value>(values: &[T], value: T, limit: f64) -> Steady<T> {
    let near = values.iter().copied().filter(|own| own.apart(&value) <= limit);
    let value = T::mean(near).unwrap_or(value);
    Steady { value, on: values.iter().map(|own| own.apart(&value) <= limit).collect() }
}

/// Values that stay for some frames, each with on how many.
fn groups<T: Value>(values: &[T], limit: f64) -> Vec<(T, usize)> {
    let shortest = SHORTEST.min(values.len());
    let mut groups: Vec<(T, usize)> = Vec::new();
    let mut start = 0;
    while start < values.len() {
        let first = values[start];
        let run = values[start..].iter().take_while(|own| own.apart(&first) <= limit).count();
        if run >= shortest {
            match groups.iter().position(|(value, _)| value.apart(&first) <= 2.0 * limit) {
                Some(known) => groups[known].1 += run,
                None if groups.len() < MOST_VALUES => groups.push((first, run)),
                None => {}
            }
        }
        // What is no number stays nowhere.
        start += run.max(1);
    }
    groups
}
