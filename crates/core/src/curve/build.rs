//! Making curves out of others: an inner loop written out as keys.

use super::{Curve, Key, Ticks};

impl Curve {
    /// The same curve with its inner loop written out as keys; a copy where there is none.
    pub fn unrolled(&self) -> Curve {
        let Some(region) = self.inner_loop() else { return self.clone() };
        let length = region.end - region.start;
        let span = |repeats: u32| Ticks(length.0 * i64::from(repeats));
        let (first, last) = (region.start - span(region.before), region.end + span(region.after));
        let pattern: Vec<Key> = self
            .keys()
            .iter()
            .filter(|key| region.start <= key.time && key.time < region.end)
            .copied()
            .collect();
        let moved = |key: &Key, repeat: i64| {
            let offset = region.value_offset * repeat as f64;
            Key {
                time: Ticks(key.time.0 + length.0 * repeat),
                value: key.value + offset,
                value_before: key.value_before.map(|value| value + offset),
                ..*key
            }
        };
        let mut keys: Vec<Key> = self.keys().iter().filter(|key| key.time < first).copied().collect();
        for repeat in -i64::from(region.before)..=i64::from(region.after) {
            keys.extend(pattern.iter().map(|key| moved(key, repeat)));
        }
        // The closing key ends the pattern as its first key does, and leaves as the key it hides did.
        let mut closing = moved(&pattern[0], i64::from(region.after) + 1);
        if let Some(hidden) = self.keys().iter().find(|key| key.time == last) {
            closing.tangent_out = hidden.tangent_out;
            closing.interpolation = hidden.interpolation;
            closing.joined &= hidden.joined;
        }
        keys.push(closing);
        keys.extend(self.keys().iter().filter(|key| key.time > last).copied());
        Curve { keys, before: self.before, after: self.after, inner_loop: None }
    }
}
