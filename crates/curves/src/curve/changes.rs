//! Where two curves differ.

use super::Curve;

/// All of time.
pub const EVER: (f64, f64) = (f64::NEG_INFINITY, f64::INFINITY);

/// The stretches of time, in ticks, outside which two curves have the same values: in order, and apart.
///
/// A stretch reaches from the last key that both have before a difference to the first one after it, and on for ever where
/// there is none.
pub fn changes(a: &Curve, b: &Curve) -> Vec<(f64, f64)> {
    if a == b {
        return Vec::new();
    }
    if (a.before, a.after) != (b.before, b.after) || !a.is_held_outside() || !b.is_held_outside() {
        return vec![EVER];
    }
    let mut found = Vec::new();
    let mut start = EVER.0;
    let mut differs = false;
    let (mut left, mut right) = (a.keys().iter().peekable(), b.keys().iter().peekable());
    while let (Some(&x), Some(&y)) = (left.peek(), right.peek()) {
        if x == y {
            let time = x.time.as_f64();
            if differs {
                found.push((start, time));
            }
            (start, differs) = (time, false);
        } else {
            differs = true;
        }
        if x.time <= y.time {
            left.next();
        }
        if y.time <= x.time {
            right.next();
        }
    }
    if differs || left.peek().is_some() || right.peek().is_some() {
        found.push((start, EVER.1));
    }
    found
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::curve::{Key, Ticks};

    fn curve(values: &[(i64, f64)]) -> Curve {
        let key = |&(time, value): &(i64, f64)| Key::new(Ticks(time * 100), value).with_slope(0.0);
        Curve::new(values.iter().map(key).collect()).unwrap()
    }

    proptest! {
        #[test]
        fn curves_are_the_same_outside_their_changes(
            both in prop::collection::btree_map(0..40_i64, (0..3_u8, 0..3_u8), 0..14)
        ) {
            // Values of 0 stand for no key.
            let own = |value: fn(&(u8, u8)) -> u8| {
                let keys = both.iter().filter(|(_, pair)| value(pair) > 0);
                curve(&keys.map(|(&time, pair)| (time, f64::from(value(pair)))).collect::<Vec<_>>())
            };
            let (a, b) = (own(|pair| pair.0), own(|pair| pair.1));
            let found = changes(&a, &b);
            prop_assert_eq!(found.is_empty(), a == b);
            prop_assert!(found.windows(2).all(|pair| pair[0].1 <= pair[1].0));
            prop_assert!(found.iter().all(|(from, to)| from < to));
            for time in (-100..4200).step_by(25).map(f64::from) {
                let is_within = found.iter().any(|&(from, to)| from <= time && time <= to);
                prop_assert!(is_within || a.value_at(time) == b.value_at(time), "{time} {found:?}");
            }
            // No key that both have lies within a change, unless one beside it differs.
            let is_in_both = |time: f64| a.keys().iter().any(|key| key.time.as_f64() == time && b.keys().contains(key));
            for &(from, to) in &found {
                prop_assert!(from == f64::NEG_INFINITY || is_in_both(from));
                prop_assert!(to == f64::INFINITY || is_in_both(to));
                prop_assert!(a.keys().iter().map(|key| key.time.as_f64()).all(|t| t <= from || t >= to || !is_in_both(t)));
            }
        }
    }
}
