//! Making curves out of others: an inner loop written out as keys.

use super::edit::freed;
use super::{Behaviour, Curve, InnerLoop, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks};
use crate::time::{TICKS_PER_SECOND, TimeRange};

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
        // What other neighbours would make of automatic tangents is not what they are.
        let (from, to) = (
            keys.partition_point(|key| key.time < first).saturating_sub(1),
            keys.partition_point(|key| key.time <= last),
        );
        for key in keys.iter_mut().take(to + 1).skip(from) {
            key.tangent_in = freed(key.tangent_in);
            key.tangent_out = freed(key.tangent_out);
        }
        Curve { keys, before: self.before, after: self.after, inner_loop: None }
    }

    /// Whether the curve stands still before its first and after its last key.
    pub fn is_held_outside(&self) -> bool {
        let still = |behaviour: Behaviour, at_last: bool| match behaviour {
            Behaviour::Held => true,
            Behaviour::Linear => self.end_slope(at_last) == 0.0,
            Behaviour::Sloped(slope) => slope == 0.0,
            Behaviour::None => false,
            Behaviour::LoopOffset | Behaviour::Loop | Behaviour::LoopOscillate => self.keys().len() < 2,
        };
        self.is_empty() || still(self.before, false) && still(self.after, true)
    }

    /// The times of all keys: those of an inner loop, and those outside within `range`, included.
    pub fn key_times(&self, range: TimeRange) -> Vec<Ticks> {
        let curve = self.unrolled();
        let mut times: Vec<Ticks> = curve.keys().iter().map(|key| key.time).collect();
        times.extend(curve.key_times_outside(range));
        times
    }

    /// Where the curve goes up or down all but at once between keys, in ticks, loops within `range` included.
    pub fn steep_times(&self, range: TimeRange) -> Vec<f64> {
        let weighted = |key: &Key| key.tangent_in.length().or(key.tangent_out.length()).is_some();
        if !self.keys().iter().any(weighted) {
            return Vec::new();
        }
        let curve = self.unrolled();
        let steep = |pair: &[Key]| match super::Segment::between(&pair[0], &pair[1]) {
            super::Segment::Weighted(piece) => Some(piece.steep_times()),
            _ => None,
        };
        let own: Vec<f64> = curve.keys().windows(2).filter_map(steep).flatten().collect();
        let Some(keys) = curve.range().filter(|_| !own.is_empty()) else { return own };
        let (first, last) = (keys.first.as_f64(), keys.last.as_f64());
        let period = last - first;
        let turn =
            |time: Ticks| if period > 0.0 { ((time.as_f64() - first) / period).floor() as i64 } else { 0 };
        let mut times = own.clone();
        for turn in (turn(range.first)..=turn(range.last)).filter(|turn| *turn != 0) {
            let behaviour = if turn < 0 { curve.before } else { curve.after };
            let backwards = behaviour == Behaviour::LoopOscillate && turn.rem_euclid(2) == 1;
            let place =
                |time: &f64| if backwards { first + last - time } else { *time } + turn as f64 * period;
            if behaviour.is_loop() {
                times.extend(own.iter().map(place));
            }
        }
        times
    }

    /// The times within `range` but outside the keys at which the curve has a key again because it loops, and the
    /// ends of the range where the curve still moves there.
    pub fn key_times_outside(&self, range: TimeRange) -> Vec<Ticks> {
        let Some(own) = self.range() else { return Vec::new() };
        let mut times = Vec::new();
        if self.is_held_outside() {
            return times;
        }
        let period = (own.last - own.first).0;
        for (behaviour, from, to, outermost) in [
            (self.before, range.first, own.first, range.first),
            (self.after, own.last, range.last, range.last),
        ] {
            if from >= to {
                continue;
            }
            times.push(outermost);
            let is_loop =
                matches!(behaviour, Behaviour::LoopOffset | Behaviour::Loop | Behaviour::LoopOscillate);
            if !is_loop || period == 0 {
                continue;
            }
            for turn in (from - own.first).0.div_euclid(period)..=(to - own.first).0.div_euclid(period) {
                let backwards = behaviour == Behaviour::LoopOscillate && turn.rem_euclid(2) == 1;
                for key in self.keys() {
                    let within = (key.time - own.first).0;
                    let within = if backwards { period - within } else { within };
                    let time = Ticks(own.first.0 + turn * period + within);
                    if from <= time && time <= to {
                        times.push(time);
                    }
                }
            }
        }
        times.sort_unstable();
        times.dedup();
        times
    }

    /// The curve plus a straight line through the origin of time: `curve(t) + slope · (t − about)`, exactly; slopes are per
    /// second. Holds become straight lines.
    pub fn plus_line(&self, slope: f64, about: Ticks) -> Curve {
        if slope == 0.0 {
            return self.clone();
        }
        let tilted = |tangent: Tangent| {
            let shape = match tangent.shape {
                TangentShape::Slope(own) => TangentShape::Slope(own + slope),
                TangentShape::Handle { dt, dv } => {
                    TangentShape::Handle { dt, dv: dv + slope * dt / TICKS_PER_SECOND as f64 }
                }
            };
            Tangent { shape, mode: TangentMode::Free }
        };
        let source = self.unrolled();
        let mut keys: Vec<Key> = Vec::with_capacity(source.keys().len());
        for (index, key) in source.keys().iter().enumerate() {
            let rise = slope * (key.time - about).seconds();
            // Behind a hold the line goes on to where the held value would be.
            let held = index.checked_sub(1).map(|before| &source.keys()[before]);
            let held = held.filter(|before| before.interpolation == Interpolation::Hold);
            let left = held.map_or(key.left_value(), |before| before.value) + rise;
            let value = key.value + rise;
            keys.push(Key {
                value,
                value_before: (left != value).then_some(left),
                interpolation: match key.interpolation {
                    Interpolation::Hold => Interpolation::Linear,
                    other => other,
                },
                tangent_in: tilted(key.tangent_in),
                tangent_out: tilted(key.tangent_out),
                ..*key
            });
        }
        let behaviour = |behaviour: Behaviour| match behaviour {
            Behaviour::Sloped(own) => Behaviour::Sloped(own + slope),
            Behaviour::Held => Behaviour::Sloped(slope),
            other => other,
        };
        let made = Curve::new(keys).unwrap_or_default();
        made.with_behaviours(behaviour(source.before), behaviour(source.after))
    }

    /// The curve of `value · factor + offset`: values, slopes and handles exactly (each rounded once).
    pub fn affine(&self, factor: f64, offset: f64) -> Curve {
        let turned = |tangent: Tangent| Tangent {
            mode: tangent.mode,
            shape: match tangent.shape {
                TangentShape::Slope(slope) => TangentShape::Slope(slope * factor),
                TangentShape::Handle { dt, dv } => TangentShape::Handle { dt, dv: dv * factor },
            },
        };
        let keys = self.keys().iter().map(|key| Key {
            value: key.value * factor + offset,
            value_before: key.value_before.map(|value| value * factor + offset),
            tangent_in: turned(key.tangent_in),
            tangent_out: turned(key.tangent_out),
            ..*key
        });
        let inner_loop =
            self.inner_loop.map(|region| InnerLoop { value_offset: region.value_offset * factor, ..region });
        let (before, after) = (self.before.steeper(factor), self.after.steeper(factor));
        let mut curve = Curve { keys: keys.collect(), before, after, inner_loop };
        curve.refresh_tangents();
        curve
    }
}
