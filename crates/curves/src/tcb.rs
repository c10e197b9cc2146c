//! Tension, continuity and bias: keys after Kochanek and Bartels (*Interpolating Splines with Local Tension,
//! Continuity, and Bias Control*, SIGGRAPH 1984), with their correction for uneven key spacing.
//!
//! Without ease such a curve is a plain cubic with a slope on each side of a key, exactly. Ease changes the clock
//! within each piece, see `Ease`.

use glam::{DQuat, DVec3};

use crate::curve::{Behaviour, Curve, Interpolation, Key, Ticks};
use crate::ease::Ease;

/// A key with tension, continuity and bias, after Kochanek and Bartels (SIGGRAPH 1984), and ease.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TcbKey<V> {
    /// When.
    pub time: Ticks,
    /// The value.
    pub value: V,
    /// From -1 (round) over 0 to 1 (tight).
    pub tension: f64,
    /// From -1 (boxy corner) over 0 (smooth) to 1 (inverted corner).
    pub continuity: f64,
    /// From -1 (undershoot) over 0 to 1 (overshoot).
    pub bias: f64,
    /// Slowing down towards the key, 0 to 1.
    pub ease_in: f64,
    /// Speeding up away from the key, 0 to 1.
    pub ease_out: f64,
}

/// Curves shaped by tension, continuity and bias.
#[derive(Clone, Debug, PartialEq)]
pub struct TcbCurve {
    /// The keys.
    pub keys: TcbKeys,
    /// What happens before the first key.
    pub before: Behaviour,
    /// What happens after the last key.
    pub after: Behaviour,
}

/// Keys of a tension-continuity-bias curve, by the kind of their values.
#[derive(Clone, Debug, PartialEq)]
pub enum TcbKeys {
    /// Numbers.
    Number(Vec<TcbKey<f64>>),
    /// Vectors.
    Vector(Vec<TcbKey<DVec3>>),
    /// Rotations.
    Rotation(Vec<TcbKey<DQuat>>),
}

impl<V> TcbKey<V> {
    /// The shares of the chords before and after the key in its slopes: `(before it, after it)`, each as
    /// `(chord before, chord after)`.
    ///
    /// The paper's source and destination derivatives; divided by the mean of the two gaps they are slopes, which is
    /// the correction for uneven spacing.
    pub(crate) fn shares(&self) -> ((f64, f64), (f64, f64)) {
        let (t, c, b) = (self.tension, self.continuity, self.bias);
        let share = |c: f64, b: f64| 0.5 * (1.0 - t) * (1.0 + c) * (1.0 + b);
        ((share(-c, b), share(c, -b)), (share(c, b), share(-c, -b)))
    }

    fn has_ease(&self) -> bool {
        self.ease_in != 0.0 || self.ease_out != 0.0
    }
}

/// The clock of eased pieces.
#[derive(Clone, Debug)]
pub struct Clock {
    times: Vec<f64>,
    eases: Vec<Ease>,
    behaviours: (Behaviour, Behaviour),
}

impl Clock {
    /// The clock of some keys; `None` where it does not change anything.
    fn of<V>(keys: &[TcbKey<V>], behaviours: (Behaviour, Behaviour)) -> Option<Clock> {
        if keys.len() < 2 || !keys.iter().any(TcbKey::has_ease) {
            return None;
        }
        Some(Clock {
            times: keys.iter().map(|key| key.time.as_f64()).collect(),
            eases: keys.windows(2).map(|pair| Ease::new(pair[0].ease_out, pair[1].ease_in)).collect(),
            behaviours,
        })
    }

    /// The instant of the curve without ease that plays at a time, both in ticks.
    pub fn plays(&self, time: f64) -> f64 {
        let (first, last) = (self.times[0], self.times[self.times.len() - 1]);
        let period = last - first;
        let turn = ((time - first) / period).floor();
        let behaviour = if time < first { self.behaviours.0 } else { self.behaviours.1 };
        if (time < first || time >= last) && !behaviour.is_loop() {
            return time;
        }
        let within = (time - turn * period).clamp(first, last);
        let backwards = behaviour == Behaviour::LoopOscillate && turn.rem_euclid(2.0) == 1.0;
        let flip = |t: f64| if backwards { first + last - t } else { t };
        let at = flip(within);
        let index = self.times.partition_point(|&key| key <= at).clamp(1, self.eases.len()) - 1;
        let (from, to) = (self.times[index], self.times[index + 1]);
        let eased = from + self.eases[index].at((at - from) / (to - from)) * (to - from);
        flip(eased) + turn * period
    }

    /// The speed of the clock at a time among the keys, from the right; 1 is its ordinary speed.
    pub fn rate(&self, time: f64, from_left: bool) -> f64 {
        let after = if from_left {
            self.times.partition_point(|&key| key < time)
        } else {
            self.times.partition_point(|&key| key <= time)
        };
        if after == 0 || after == self.times.len() {
            return 1.0;
        }
        let (from, to) = (self.times[after - 1], self.times[after]);
        self.eases[after - 1].rate((time - from) / (to - from))
    }

    /// The instants at which the clock's speed turns a corner between keys.
    pub fn corners(&self) -> impl Iterator<Item = Ticks> {
        self.times.windows(2).zip(&self.eases).flat_map(|(pair, ease)| {
            let (from, gap) = (pair[0], pair[1] - pair[0]);
            ease.corners().map(move |u| Ticks((from + u * gap).round() as i64))
        })
    }
}

/// The numbers of a tension-continuity-bias curve as plain cubics, and the clock that eases them.
#[derive(Clone, Debug)]
pub struct TcbNumbers {
    /// One curve a component, without ease.
    pub curves: Vec<Curve>,
    /// The clock, where some key has ease.
    pub clock: Option<Clock>,
}

impl TcbCurve {
    /// The curve as plain cubics and a clock; `None` for rotations.
    ///
    /// Without ease the curves alone are the whole, exactly.
    pub fn numbers(&self) -> Option<TcbNumbers> {
        match &self.keys {
            TcbKeys::Number(keys) => Some(self.components(keys, 1, |value, _| *value)),
            TcbKeys::Vector(keys) => Some(self.components(keys, 3, |value, axis| value[axis])),
            TcbKeys::Rotation(_) => None,
        }
    }

    /// Whether no key has ease.
    pub fn is_without_ease(&self) -> bool {
        match &self.keys {
            TcbKeys::Number(keys) => !keys.iter().any(TcbKey::has_ease),
            TcbKeys::Vector(keys) => !keys.iter().any(TcbKey::has_ease),
            TcbKeys::Rotation(keys) => !keys.iter().any(TcbKey::has_ease),
        }
    }

    fn components<V>(&self, keys: &[TcbKey<V>], width: usize, of: impl Fn(&V, usize) -> f64) -> TcbNumbers {
        let clock = Clock::of(keys, (self.before, self.after));
        let curves = (0..width).map(|axis| {
            let curve = slopes(keys, |value| of(value, axis));
            let (mut before, mut after) = (self.before, self.after);
            if let (Some(clock), [first, .., last]) = (&clock, curve.keys()) {
                // A line goes on at the speed the clock has at the end.
                let line = |behaviour, key: &Key, slope: f64, from_left| match behaviour {
                    Behaviour::Linear => Behaviour::Sloped(slope * clock.rate(key.time.as_f64(), from_left)),
                    other => other,
                };
                before = line(before, first, first.tangent_out.slope_per_second(), false);
                after = line(after, last, last.tangent_in.slope_per_second(), true);
            }
            curve.with_behaviours(before, after)
        });
        TcbNumbers { curves: curves.collect(), clock }
    }
}

fn slopes<V>(keys: &[TcbKey<V>], of: impl Fn(&V) -> f64) -> Curve {
    let last = keys.len().saturating_sub(1);
    let chord = |index: usize| {
        let (from, to) = (&keys[index], &keys[index + 1]);
        (of(&to.value) - of(&from.value), (to.time - from.time).seconds())
    };
    let made = keys.iter().enumerate().map(|(index, key)| {
        let new = Key::new(key.time, of(&key.value)).with_interpolation(Interpolation::Cubic);
        if last == 0 {
            return new.with_slope(0.0);
        }
        // At the ends the chord that is missing counts as the mirror image of the one there is.
        let ((rise_before, gap_before), (rise_after, gap_after)) =
            (chord(index.max(1) - 1), chord(index.min(last - 1)));
        let seconds = 0.5 * (gap_before + gap_after);
        let slope = |(before, after): (f64, f64)| (before * rise_before + after * rise_after) / seconds;
        let (into, out) = key.shares();
        let (slope_in, slope_out) = (slope(into), slope(out));
        if slope_in == slope_out { new.with_slope(slope_in) } else { new.with_slopes(slope_in, slope_out) }
    });
    Curve::new(made.collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use glam::{DQuat, DVec3};
    use proptest::prelude::*;

    use super::*;
    use crate::curve::Side;
    use crate::rotation::{KeyedRotation, RotationPath, to_vector};
    use crate::time::TICKS_PER_SECOND;

    const SECOND: i64 = TICKS_PER_SECOND;

    fn key<V>(time: i64, value: V, [tension, continuity, bias]: [f64; 3], ease: [f64; 2]) -> TcbKey<V> {
        TcbKey { time: Ticks(time), value, tension, continuity, bias, ease_in: ease[0], ease_out: ease[1] }
    }

    fn scalar(keys: Vec<TcbKey<f64>>, behaviour: Behaviour) -> TcbCurve {
        TcbCurve { keys: TcbKeys::Number(keys), before: behaviour, after: behaviour }
    }

    fn any_shape() -> impl Strategy<Value = [f64; 3]> {
        prop::array::uniform3(-1.0..1.0_f64)
    }

    proptest! {
        #[test]
        fn slopes_are_the_published_derivatives(
            p in prop::array::uniform3(-5.0..5.0_f64), shape in any_shape(), gaps in prop::array::uniform2(1..90_i64)
        ) {
            let frame = SECOND / 30;
            let keys = vec![
                key(0, p[0], [0.0; 3], [0.0; 2]),
                key(gaps[0] * frame, p[1], shape, [0.0; 2]),
                key((gaps[0] + gaps[1]) * frame, p[2], [0.0; 3], [0.0; 2]),
            ];
            let [t, c, b] = shape;
            // Equations 8 and 9 of the paper, and its correction by 2·N(i−1)/(N(i−1)+N(i)) and 2·N(i)/(N(i−1)+N(i)):
            // derivatives over one interval, in frames.
            let (n0, n1) = (gaps[0] as f64, gaps[1] as f64);
            let (d0, d1) = (p[1] - p[0], p[2] - p[1]);
            let source = 0.5 * ((1.0 - t) * (1.0 - c) * (1.0 + b) * d0 + (1.0 - t) * (1.0 + c) * (1.0 - b) * d1);
            let destination = 0.5 * ((1.0 - t) * (1.0 + c) * (1.0 + b) * d0 + (1.0 - t) * (1.0 - c) * (1.0 - b) * d1);
            let (slope_in, slope_out) = (source * 2.0 / (n0 + n1) * 30.0, destination * 2.0 / (n0 + n1) * 30.0);
            let curve = scalar(keys, Behaviour::Held).numbers().unwrap().curves.remove(0);
            let middle = &curve.keys()[1];
            let near = |a: f64, b: f64| (a - b).abs() < 1e-9 * (1.0 + b.abs());
            prop_assert!(near(middle.tangent_in.slope_per_second(), slope_in));
            prop_assert!(near(middle.tangent_out.slope_per_second(), slope_out));
            prop_assert_eq!(c == 0.0, middle.joined);
        }

        #[test]
        fn rotations_about_one_axis_turn_as_the_numbers_do(
            angles in prop::collection::vec(-1.4..1.4_f64, 4), shapes in prop::collection::vec(any_shape(), 4),
            eases in prop::collection::vec(prop::array::uniform2(0.0..0.8_f64), 4),
            gaps in prop::array::uniform3(5..40_i64), u in 0.0..1.0_f64
        ) {
            let mut time = 0;
            let (mut numbers, mut rotations) = (Vec::new(), Vec::new());
            for (index, &angle) in angles.iter().enumerate() {
                // Gentle slopes: a rotation and a number part where a piece swings by more than half a turn.
                let shape = shapes[index].map(|s| s * 0.3);
                numbers.push(key(time, angle, shape, eases[index]));
                rotations.push(key(time, DQuat::from_rotation_y(angle), shape, eases[index]));
                time += gaps.get(index).unwrap_or(&0) * SECOND / 24;
            }
            let path = KeyedRotation::of_tcb(&rotations, Behaviour::Held, Behaviour::Held);
            let scalar = scalar(numbers, Behaviour::Held).numbers().unwrap();
            let plays = |t: f64| scalar.clock.as_ref().map_or(t, |clock| clock.plays(t));
            for index in 0..3 {
                let (from, to) = (rotations[index].time.as_f64(), rotations[index + 1].time.as_f64());
                let t = from + u * (to - from);
                let number = scalar.curves[0].value_at(plays(t)).unwrap();
                let turned = to_vector(path.rotation(t, Side::Right));
                prop_assert!(turned.abs_diff_eq(DVec3::Y * number, 1e-9), "{turned} {number}");
            }
        }

        #[test]
        fn eased_loops_repeat_with_their_ease(u in 0.0..2.0_f64, turn in -3..3_i64, ease in prop::array::uniform2(0.0..1.0_f64)) {
            let keys = || vec![
                key(0, 0.0, [0.0; 3], ease), key(SECOND, 2.0, [0.0; 3], ease), key(2 * SECOND, 1.0, [0.0; 3], ease),
            ];
            let at = |behaviour, seconds: f64| {
                let numbers = scalar(keys(), behaviour).numbers().unwrap();
                let time = seconds * SECOND as f64;
                numbers.curves[0].value_at(numbers.clock.map_or(time, |clock| clock.plays(time))).unwrap()
            };
            let inside = at(Behaviour::Held, u);
            let far = 2.0 * turn as f64 + u;
            prop_assert!((at(Behaviour::Loop, far) - inside).abs() < 1e-6);
            prop_assert!((at(Behaviour::LoopOffset, far) - inside - turn as f64).abs() < 1e-6);
            prop_assert!((at(Behaviour::LoopOscillate, 4.0 * turn as f64 - u) - inside).abs() < 1e-6);
        }
    }

    #[test]
    fn tension_flattens_and_ease_stands_still_at_its_key() {
        let keys = vec![
            key(0, 0.0, [0.0; 3], [0.0; 2]),
            key(SECOND, 1.0, [1.0, 0.0, 0.0], [0.0; 2]),
            key(2 * SECOND, 3.0, [0.0; 3], [1.0, 0.0]),
        ];
        let numbers = scalar(keys, Behaviour::Linear).numbers().unwrap();
        assert_eq!(numbers.curves[0].keys()[1].tangent_in.slope_per_second(), 0.0);
        // The last key is eased into: its clock stands still, and so does the line behind it.
        assert_eq!(numbers.curves[0].after, Behaviour::Sloped(0.0));
        let clock = numbers.clock.unwrap();
        assert_eq!(clock.corners().collect::<Vec<_>>(), vec![]);
        assert_eq!(clock.rate(2.0 * SECOND as f64, true), 0.0);
        assert_eq!(clock.rate(0.5 * SECOND as f64, false), 1.0);
    }
}
