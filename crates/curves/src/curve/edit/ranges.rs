//! Curves cut, written out, filled and joined.

use super::{EditError, freed};
use crate::curve::{Behaviour, Curve, Interpolation, Key, Tangent, Ticks};
use crate::time::TimeRange;

impl Curve {
    /// The part of the curve within a range, its values at the edges kept by inserted keys; held outside.
    ///
    /// Loops are written out as far as the range reaches.
    pub fn trimmed(&self, range: TimeRange) -> Curve {
        let mut curve = self.written_out(range);
        let (first, last) = (range.first, range.last);
        for edge in [first, last] {
            // Where a key stands or there is no value, nothing has to be inserted.
            let inside = curve.range().is_some_and(|own| own.first < edge && edge < own.last);
            if inside && let Ok(index) = curve.insert_key(edge) {
                curve.keys[index].added = true;
            }
        }
        for key in &mut curve.keys {
            if key.time == first || key.time == last {
                // The neighbours outside go; what they made of these tangents stays.
                key.tangent_in = freed(key.tangent_in);
                key.tangent_out = freed(key.tangent_out);
            }
        }
        curve.keys.retain(|key| range.contains(key.time));
        if let Some(key) = curve.keys.first_mut().filter(|key| key.time == first) {
            key.value_before = None;
        }
        if curve.keys.is_empty()
            && let Some(value) = self.value_at(first.as_f64())
        {
            curve.keys.push(Key::new(first, value));
        }
        // Where the range starts or ends in a gap, the gap goes on to its edge.
        let is_gap = |time: Ticks| !curve.keys.is_empty() && self.value_at(time.as_f64()).is_none();
        let outside = |gap: bool| if gap { Behaviour::None } else { Behaviour::Held };
        (curve.before, curve.after) = (outside(is_gap(first)), outside(is_gap(last)));
        curve.with_stale_tangents_freed()
    }

    /// A curve that is held outside its keys, with keys at both ends of a range that reaches beyond them; its values stay.
    pub fn with_ends(&self, range: TimeRange) -> Curve {
        let mut curve = self.clone();
        let (Some(first), Some(last)) = (curve.keys.first().copied(), curve.keys.last().copied()) else {
            return curve;
        };
        if last.time < range.last {
            let end = curve.keys.len() - 1;
            let key = &mut curve.keys[end];
            (key.tangent_in, key.tangent_out, key.joined) =
                (freed(key.tangent_in), Tangent::slope(0.0), false);
            if key.interpolation != Interpolation::Cubic {
                key.interpolation = Interpolation::Linear;
            }
            curve.keys.push(Key::new(range.last, last.value).with_slope(0.0));
        }
        if first.time > range.first {
            curve.keys[0].tangent_out = freed(curve.keys[0].tangent_out);
            let held = Key::new(range.first, first.left_value()).with_slope(0.0);
            curve.keys.insert(0, held.with_interpolation(Interpolation::Linear));
        }
        curve.with_stale_tangents_freed()
    }

    /// The same values without gaps: where the curve has none there is `rest`, which would show through there.
    ///
    /// The last key of a curve that has no value after it stands for one instant, and so it does here. `None` where the rounds of
    /// a loop go on from where the one before ended: the rest that shows would be lifted with them. Such a curve has to be
    /// [written out](Curve::written_out) first.
    pub fn filled(&self, rest: f64) -> Option<Curve> {
        if !self.has_gaps() {
            return Some(self.clone());
        }
        if self.before == Behaviour::LoopOffset || self.after == Behaviour::LoopOffset {
            return None;
        }
        let mut curve = self.unrolled();
        let last = curve.keys.len() - 1;
        for index in 0..last {
            let key = &mut curve.keys[index];
            if key.interpolation == Interpolation::None {
                key.value_before = Some(key.left_value());
                key.value = rest;
                key.interpolation = Interpolation::Hold;
                (key.tangent_in, key.tangent_out, key.joined) =
                    (freed(key.tangent_in), Tangent::slope(0.0), false);
            }
        }
        if curve.before == Behaviour::None {
            curve.keys[0].value_before = Some(rest);
            curve.keys[0].joined = false;
            curve.before = Behaviour::Held;
        }
        if curve.after == Behaviour::None {
            let end = &mut curve.keys[last];
            end.interpolation = Interpolation::Hold;
            (end.tangent_in, end.joined) = (freed(end.tangent_in), false);
            let after = Ticks(end.time.0 + 1);
            curve.keys.push(Key::new(after, rest).with_interpolation(Interpolation::Hold).with_slope(0.0));
            curve.after = Behaviour::Held;
        }
        Some(curve)
    }

    /// The same curve within a range, with keys in place of loops and lines outside its keys: loops are written out as
    /// often as it takes to cover the range, lines end at its ends.
    pub fn written_out(&self, range: TimeRange) -> Curve {
        let mut curve = self.unrolled();
        let Some(own) = curve.range().filter(|_| !curve.is_held_outside()) else {
            (curve.before, curve.after) = (Behaviour::Held, Behaviour::Held);
            return curve;
        };
        let period = own.last - own.first;
        let turns_to = |time: Ticks| (time - own.first).0.div_euclid(period.0.max(1));
        let first = if curve.before.is_loop() && range.first < own.first { turns_to(range.first) } else { 0 };
        let last = if curve.after.is_loop() && range.last >= own.last { turns_to(range.last) } else { 0 };
        let mut result = Curve::default();
        for turn in first..=last {
            let behaviour = if turn < 0 { curve.before } else { curve.after };
            let by = Ticks(period.0 * turn);
            let played = Curve { before: Behaviour::Held, after: Behaviour::Held, ..curve.clone() };
            let played = match behaviour {
                _ if turn == 0 => played,
                Behaviour::LoopOscillate if turn.rem_euclid(2) == 1 => {
                    played.reversed(own.first).shifted(period + by)
                }
                Behaviour::LoopOffset => played.affine(1.0, curve.climb() * turn as f64).shifted(by),
                _ => played.shifted(by),
            };
            result.append(played);
        }
        for (behaviour, edge, is_beyond) in [
            (curve.before, range.first, range.first < own.first),
            (curve.after, range.last, range.last > own.last),
        ] {
            let is_line = matches!(behaviour, Behaviour::Linear | Behaviour::Sloped(_));
            if is_line && is_beyond {
                let mut lined = Curve { before: curve.before, after: curve.after, ..result.clone() };
                if lined.insert_key(edge).is_ok() {
                    result = lined;
                }
            }
        }
        let outside = |behaviour| if behaviour == Behaviour::None { behaviour } else { Behaviour::Held };
        (result.before, result.after) = (outside(curve.before), outside(curve.after));
        result.with_stale_tangents_freed()
    }

    /// Puts the keys of a curve that begins where this one ends, or later, behind those here.
    pub(super) fn append(&mut self, mut next: Curve) {
        let (Some(end), Some(begin)) = (self.keys.last_mut(), next.keys.first_mut()) else {
            self.keys.append(&mut next.keys);
            return;
        };
        end.tangent_in = freed(end.tangent_in);
        begin.tangent_out = freed(begin.tangent_out);
        if begin.time == end.time {
            let arriving = end.left_value();
            begin.value_before = (arriving != begin.value).then_some(arriving);
            begin.tangent_in = end.tangent_in;
            begin.joined &= begin.tangent_in == begin.tangent_out;
            self.keys.pop();
        } else {
            end.interpolation = Interpolation::Hold;
            end.tangent_out = freed(end.tangent_out);
            begin.tangent_in = freed(begin.tangent_in);
        }
        self.keys.append(&mut next.keys);
    }

    /// This curve and then another one, whose keys must not begin before this one's end. The last value here holds
    /// until they begin; where they begin at once and differ, the curve jumps.
    ///
    /// # Errors
    /// [`EditError::Order`].
    pub fn joined(&self, next: &Curve) -> Result<Curve, EditError> {
        let (mut first, mut second) = (self.unrolled(), next.unrolled());
        let (Some(end), Some(start)) = (first.range().map(|r| r.last), second.range().map(|r| r.first))
        else {
            return Ok(if first.is_empty() { second } else { first });
        };
        if start < end {
            return Err(EditError::Order);
        }
        let (before, after) = (first.before, second.after);
        second.after = Behaviour::Held;
        first.append(second);
        Ok(Curve { keys: first.keys, before, after, inner_loop: None })
    }
}
