//! A stretch of one curve put into another.

use std::f64::consts::TAU;

use super::freed;
use crate::curve::{Behaviour, Curve, Interpolation, Key, Side, Tangent, TangentShape};
use crate::time::{Ticks, TimeRange};

/// Where a stretch goes, and how it meets what lies beside it.
#[derive(Clone, Copy, Debug)]
pub struct Splice {
    /// The stretch, both ends included.
    pub range: TimeRange,
    /// How far the curve around it reaches: on a side where this is no farther than the stretch, nothing of it is left.
    pub of: TimeRange,
    /// Over how long, before and behind the stretch, the curve goes over where the two do not meet; the slopes at both ends of the
    /// seam are those that were there. Where it is nothing the curve leaps there and back.
    pub seam: Ticks,
    /// What a curve without keys comes to.
    pub rest: f64,
    /// Whether values are angles in radians, which come by the nearest whole turn: the stretch to what is before it, what is behind to
    /// the stretch.
    pub is_angle: bool,
}

impl Curve {
    /// This curve with a stretch of another one in it: the other one's values within the range, this one's outside and beyond the
    /// seams, exactly, up to whole turns. What goes on outside the keys as a loop ends, as it would repeat all of it.
    ///
    /// ```
    /// use nimble_curve_curves::curve::{Curve, Splice, Ticks};
    /// use nimble_curve_curves::time::{FrameRate, TimeRange};
    ///
    /// let rate = FrameRate::FPS_24;
    /// let range = |first, last| TimeRange::new(rate.ticks(first), rate.ticks(last));
    /// let flat = Curve::through(rate, [(0, 1.0), (40, 1.0)])?;
    /// let hop = Curve::through(rate, [(10, 1.0), (15, 2.0), (20, 1.5)])?;
    /// let how = Splice { range: range(10, 20), of: range(0, 40), seam: rate.ticks(4), rest: 0.0, is_angle: false };
    ///
    /// let spliced = flat.spliced(&hop, &how);
    /// let at = |frame| spliced.value_at(rate.ticks(frame).as_f64());
    /// assert_eq!([at(5), at(15), at(20), at(24), at(40)], [1.0, 2.0, 1.5, 1.0, 1.0].map(Some));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn spliced(&self, new: &Curve, how: &Splice) -> Curve {
        let Splice { range, of, rest, .. } = *how;
        if new.is_empty() && self.is_empty() {
            return Curve::default();
        }
        let inside = if new.is_empty() { Curve::constant(range.first, rest) } else { new.trimmed(range) };
        let inside = inside.with_ends(range);
        let at = |curve: &Curve, time: Ticks| curve.value_at(time.as_f64()).unwrap_or(rest);
        let (before, after) = (of.first < range.first, of.last > range.last);
        let shift = if before { how.turns(at(&inside, range.first), at(self, range.first)) } else { 0.0 };
        let inside = if shift == 0.0 { inside } else { inside.affine(1.0, shift) };
        let meets = |time: Ticks| {
            let own = at(self, time);
            !self.is_empty() && (own - at(&inside, time)).abs() < 1e-9 * (1.0 + own.abs())
        };
        let mut keys: Vec<Key> = Vec::new();
        if before {
            let edge = if meets(range.first) { range.first } else { range.first - how.seam };
            keys = self.beside(TimeRange::new(of.first.min(edge), edge), rest, edge);
        }
        append(&mut keys, inside.keys().to_vec(), meets(range.first));
        if after {
            let edge = if meets(range.last) { range.last } else { range.last + how.seam };
            let mut later = self.beside(TimeRange::new(edge, of.last.max(edge)), rest, edge);
            let back = how.turns(at(self, range.last), at(&inside, range.last));
            for key in &mut later {
                key.value += back;
                key.value_before = key.value_before.map(|value| value + back);
            }
            go_on(&mut keys, later, meets(range.last));
        }
        let Ok(curve) = Curve::new(keys) else { return new.clone() };
        if self.is_empty() {
            return curve;
        }
        let count = self.keys.len();
        let key_at = |index: Option<usize>| index.and_then(|index| self.keys.get(index)).map(|key| key.time);
        // Of two keys beside the seam the outer one keeps its slope.
        let starts_before = key_at(Some(1)).is_some_and(|time| time <= range.first - how.seam);
        let ends_behind = key_at(count.checked_sub(2)).is_some_and(|time| time >= range.last + how.seam);
        curve.with_behaviours(
            if before { self.beyond(self.before, starts_before, of.first) } else { outside(new.before) },
            if after { self.beyond(self.after, ends_behind, of.last) } else { outside(new.after) },
        )
    }

    /// What lies outside the keys on one side: a line goes on as it went, also where the key that it started from is gone.
    fn beyond(&self, behaviour: Behaviour, keeps_its_end: bool, far: Ticks) -> Behaviour {
        match (behaviour, self.slope_on(far.as_f64(), Side::Right)) {
            (Behaviour::Linear, Some(slope)) if !keeps_its_end => Behaviour::Sloped(slope),
            _ => outside(behaviour),
        }
    }

    /// The keys of the curve on one side of a seam, with one at its edge; its rest value where it has no keys.
    fn beside(&self, span: TimeRange, rest: f64, edge: Ticks) -> Vec<Key> {
        if self.is_empty() {
            return vec![Key::new(edge, rest).with_slope(0.0)];
        }
        let mut keys = self.trimmed(span).into_keys();
        // Other neighbours would make other automatic tangents of the outermost keys; the others keep theirs.
        let last = keys.len().saturating_sub(1);
        for key in
            keys.iter_mut().enumerate().filter(|(index, _)| [0, last].contains(index)).map(|(_, key)| key)
        {
            (key.tangent_in, key.tangent_out) = (freed(key.tangent_in), freed(key.tangent_out));
        }
        // A curve that ends before the edge, or begins behind it, is held up to it.
        if keys.iter().all(|key| key.time != edge) {
            let held = Key::new(edge, self.value_at(edge.as_f64()).unwrap_or(rest)).with_slope(0.0);
            match keys.last_mut().filter(|last| last.time < edge) {
                Some(last) => {
                    last.interpolation = Interpolation::Linear;
                    keys.push(held);
                }
                None => keys.insert(0, held.with_interpolation(Interpolation::Linear)),
            }
        }
        keys
    }
}

impl Splice {
    /// The whole turns that bring one angle to the other; nothing where values are no angles.
    fn turns(&self, from: f64, to: f64) -> f64 {
        if self.is_angle { ((to - from) / TAU).round() * TAU } else { 0.0 }
    }
}

/// The stretch behind what lies before it.
fn append(keys: &mut Vec<Key>, mut own: Vec<Key>, meets: bool) {
    if let (Some(last), Some(first)) = (keys.last_mut(), own.first_mut()) {
        if last.time == first.time {
            let left = last.left_value();
            first.tangent_in = last.tangent_in;
            first.value_before =
                if meets { last.value_before } else { (left != first.value).then_some(left) };
            first.joined = false;
            keys.pop();
        } else if last.interpolation != Interpolation::Cubic {
            last.interpolation = Interpolation::Linear;
        } else {
            ease_over(last, first);
        }
    }
    keys.append(&mut own);
}

/// What lies behind the stretch, from its last key on.
fn go_on(keys: &mut Vec<Key>, mut later: Vec<Key>, meets: bool) {
    let (Some(last), Some(first)) = (keys.last_mut(), later.first_mut()) else {
        keys.append(&mut later);
        return;
    };
    if last.interpolation != Interpolation::Cubic {
        last.interpolation = Interpolation::Linear;
    }
    if first.time == last.time {
        if !meets {
            let left = last.left_value();
            (last.value, last.value_before) = (first.value, (left != first.value).then_some(left));
        }
        (last.tangent_out, last.interpolation, last.joined) = (first.tangent_out, first.interpolation, false);
        later.remove(0);
    } else {
        ease_over(last, first);
    }
    keys.append(&mut later);
}

/// Between two keys that did not follow each other before: their slopes stay, but handles that were made for other gaps would
/// leave all of the way to a part of this one.
fn ease_over(from: &mut Key, to: &mut Key) {
    for tangent in [&mut from.tangent_out, &mut to.tangent_in] {
        let slope = tangent.slope_per_second();
        if tangent.length().is_some() && slope.is_finite() {
            *tangent = Tangent { shape: TangentShape::Slope(slope), ..*tangent };
        }
    }
}

/// What lies outside the keys of a curve that was put together: a loop would repeat all of it.
fn outside(behaviour: Behaviour) -> Behaviour {
    if behaviour.is_loop() { Behaviour::Held } else { behaviour }
}
