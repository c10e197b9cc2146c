//! Edits of curves. All are exact unless they say that they are bounded.

use thiserror::Error;

use super::{
    Behaviour, Curve, CurveError, InnerLoop, Interpolation, Key, Segment, Side, Tangent, TangentMode,
    TangentShape, Ticks,
};
use crate::time::{FrameRate, TimeRange};

/// An edit that cannot be made.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum EditError {
    /// There is no key of that number.
    #[error("there is no key {0}")]
    NoKey(usize),
    /// A key stands there already.
    #[error("a key stands at that time already")]
    Taken,
    /// The curve has no value there.
    #[error("the curve has no value at that time")]
    NoValue,
    /// A key outside the keys of a curve that loops would change the loop.
    #[error("a key outside the keys would change the loop: write the loop out first")]
    InLoop,
    /// Keys would meet or change their order.
    #[error("keys would meet or change their order")]
    Order,
    /// The factor is zero or not finite.
    #[error("the factor must be finite and not zero")]
    Factor,
    /// The result is not a curve.
    #[error(transparent)]
    Curve(#[from] CurveError),
}

/// A tangent that stays as it is now, whatever its neighbours do.
pub(super) fn freed(tangent: Tangent) -> Tangent {
    Tangent { mode: TangentMode::Free, ..tangent }
}

/// Whether the piece from `before` to `after` has the values of the two that meet in `key`.
fn changes_nothing(before: &Key, key: &Key, after: &Key, tolerance: f64) -> bool {
    let plain = |tangent: Tangent| tangent.length().is_none();
    let handles = [before.tangent_out, key.tangent_in, key.tangent_out, after.tangent_in];
    if before.interpolation != key.interpolation
        || key.value_before.is_some()
        || key.interpolation == Interpolation::None
        || !handles.into_iter().all(plain)
    {
        return false;
    }
    let (first, second) = (Segment::between(before, key), Segment::between(key, after));
    let whole = Segment::between(before, after);
    let same = |part: &Segment, from: &Key, to: &Key| {
        let (start, gap) = (from.time.as_f64(), (to.time - from.time).as_f64());
        [0.0, 0.25, 0.5, 0.75, 0.999].into_iter().all(|u| {
            let time = start + u * gap;
            let difference =
                part.value(time).zip(whole.value(time)).map_or(f64::INFINITY, |(a, b)| (a - b).abs());
            difference <= tolerance
        })
    };
    same(&first, before, key) && same(&second, key, after)
}

fn is_auto(tangent: Tangent) -> bool {
    matches!(tangent.mode, TangentMode::Auto | TangentMode::AutoNoOvershoot)
}

impl Curve {
    /// Makes sure of a key at a time without changing any value; whether there is one now. There is none where the curve has
    /// no value, or loops.
    pub fn ensure_key(&mut self, time: Ticks) -> bool {
        matches!(self.insert_key(time), Ok(_) | Err(EditError::Taken))
    }

    /// Inserts a key at a time without changing any value (de Casteljau, by the blossom of the segment).
    ///
    /// Tangents that the new key would recompute become free.
    ///
    /// # Errors
    /// Where a key stands already, there is no value, or the curve loops there.
    pub fn insert_key(&mut self, time: Ticks) -> Result<usize, EditError> {
        let after = self.keys.partition_point(|key| key.time < time);
        if self.keys.get(after).is_some_and(|key| key.time == time) {
            return Err(EditError::Taken);
        }
        if after == 0 || after == self.keys.len() {
            return self.insert_outside(time, after == 0);
        }
        let (from, to) = (self.keys[after - 1], self.keys[after]);
        let t = time.as_f64();
        let mut key = Key { interpolation: from.interpolation, ..Key::new(time, 0.0) };
        match Segment::between(&from, &to) {
            Segment::None => return Err(EditError::NoValue),
            Segment::Hold(value) => {
                key.value = value;
                key = key.with_slope(0.0);
            }
            segment @ Segment::Plain(_) => {
                let slope = segment.slope(t).unwrap_or(0.0);
                key.value = segment.value(t).unwrap_or(0.0);
                key = key.with_slope(slope);
                if from.interpolation == Interpolation::Cubic {
                    self.make_plain_around(after);
                }
            }
            Segment::Weighted(weighted) => {
                let cut = weighted.cut(t);
                key.value = cut.value;
                key.tangent_in = Tangent::handle(cut.handle_in.0, cut.handle_in.1);
                key.tangent_out = Tangent::handle(cut.handle_out.0, cut.handle_out.1);
                self.keys[after - 1].tangent_out = Tangent::handle(cut.first.0, cut.first.1);
                self.keys[after].tangent_in = Tangent::handle(cut.last.0, cut.last.1);
            }
        }
        self.free_around(after);
        self.keys.insert(after, key);
        Ok(after)
    }

    /// Handles that happen to be a third of a segment become slopes, as they stay a third of its parts that way.
    fn make_plain_around(&mut self, after: usize) {
        let (out, into) = (self.keys[after - 1].tangent_out, self.keys[after].tangent_in);
        if out.length().is_some() {
            self.keys[after - 1].tangent_out = Tangent::slope(out.slope_per_second());
        }
        if into.length().is_some() {
            self.keys[after].tangent_in = Tangent::slope(into.slope_per_second());
        }
    }

    /// Frees the tangents that a new key between `after − 1` and `after` would recompute.
    fn free_around(&mut self, after: usize) {
        for (index, split_is_after) in [(after - 1, true), (after, false)] {
            let key = &mut self.keys[index];
            let on_side = |tangent: Tangent| tangent.mode == TangentMode::Linear;
            if is_auto(key.tangent_in) || !split_is_after && on_side(key.tangent_in) {
                key.tangent_in = freed(key.tangent_in);
            }
            if is_auto(key.tangent_out) || split_is_after && on_side(key.tangent_out) {
                key.tangent_out = freed(key.tangent_out);
            }
        }
    }

    fn insert_outside(&mut self, time: Ticks, is_before: bool) -> Result<usize, EditError> {
        let behaviour = if is_before { self.before } else { self.after };
        let end = if is_before { self.keys.first() } else { self.keys.last() };
        let Some(&end) = end else { return Err(EditError::NoValue) };
        let interpolation = match behaviour {
            Behaviour::None => return Err(EditError::NoValue),
            Behaviour::Held => Interpolation::Hold,
            Behaviour::Linear | Behaviour::Sloped(_) => Interpolation::Linear,
            _ => return Err(EditError::InLoop),
        };
        if matches!(behaviour, Behaviour::Linear) {
            // The line's slope comes from the end of the keys, which is about to move.
            let slope = self.end_slope(!is_before);
            *(if is_before { &mut self.before } else { &mut self.after }) = Behaviour::Sloped(slope);
        }
        let value = self.value_on(time.as_f64(), Side::Right).ok_or(EditError::NoValue)?;
        let slope = self.slope_on(time.as_f64(), Side::Right).unwrap_or(0.0);
        let new = Key::new(time, value).with_interpolation(interpolation).with_slope(slope);
        if is_before {
            let first = &mut self.keys[0];
            first.tangent_in =
                if is_auto(first.tangent_in) { freed(first.tangent_in) } else { first.tangent_in };
            first.tangent_out =
                if is_auto(first.tangent_out) { freed(first.tangent_out) } else { first.tangent_out };
            self.keys.insert(0, new);
            return Ok(0);
        }
        let last = self.keys.len() - 1;
        let key = &mut self.keys[last];
        key.tangent_in = if is_auto(key.tangent_in) { freed(key.tangent_in) } else { key.tangent_in };
        key.tangent_out = if is_auto(key.tangent_out) { freed(key.tangent_out) } else { key.tangent_out };
        key.interpolation = interpolation;
        self.keys.push(Key { interpolation: end.interpolation, ..new });
        Ok(last + 1)
    }

    /// Deletes a key; tangents that follow their neighbours follow the ones that are left.
    ///
    /// # Errors
    /// [`EditError::NoKey`].
    pub fn delete_key(&mut self, index: usize) -> Result<Key, EditError> {
        if index >= self.keys.len() {
            return Err(EditError::NoKey(index));
        }
        let key = self.keys.remove(index);
        if self.inner_loop.is_some_and(|region| region.start == key.time) {
            self.inner_loop = None;
        }
        self.refresh_tangents();
        Ok(key)
    }

    /// Moves a key in time and value, a jump along with it.
    ///
    /// # Errors
    /// [`EditError::Order`] where it would meet or pass a neighbour.
    pub fn move_key(&mut self, index: usize, time: Ticks, value: f64) -> Result<(), EditError> {
        let key = *self.keys.get(index).ok_or(EditError::NoKey(index))?;
        let is_after = index == 0 || self.keys[index - 1].time < time;
        let is_before = self.keys.get(index + 1).is_none_or(|next| time < next.time);
        if !is_after || !is_before {
            return Err(EditError::Order);
        }
        let rise = value - key.value;
        let moved = Key { time, value, value_before: key.value_before.map(|before| before + rise), ..key };
        self.keys[index] = moved;
        self.refresh_tangents();
        Ok(())
    }

    /// The curve later by `by`.
    pub fn shifted(&self, by: Ticks) -> Curve {
        let keys = self.keys.iter().map(|key| Key { time: key.time + by, ..*key }).collect();
        let inner_loop = self.inner_loop.map(|region| InnerLoop {
            start: region.start + by,
            end: region.end + by,
            ..region
        });
        Curve { keys, inner_loop, ..*self }
    }

    /// The curve stretched in time by `factor` about an instant; times go to the nearest tick. A negative factor
    /// plays it backwards.
    ///
    /// # Errors
    /// Where keys would meet.
    pub fn stretched(&self, about: Ticks, factor: f64) -> Result<Curve, EditError> {
        if !factor.is_finite() || factor == 0.0 {
            return Err(EditError::Factor);
        }
        if factor < 0.0 {
            return self.reversed(about).stretched(about, -factor);
        }
        if factor == 1.0 {
            return Ok(self.clone());
        }
        let at = |time: Ticks| about + Ticks::nearest((time - about).as_f64() * factor);
        let tangent = |tangent: Tangent| Tangent {
            shape: match tangent.shape {
                TangentShape::Slope(slope) => TangentShape::Slope(slope / factor),
                TangentShape::Handle { dt, dv } => TangentShape::Handle { dt: dt * factor, dv },
            },
            ..tangent
        };
        let keys: Vec<Key> = (self.keys.iter())
            .map(|key| Key {
                time: at(key.time),
                tangent_in: tangent(key.tangent_in),
                tangent_out: tangent(key.tangent_out),
                ..*key
            })
            .collect();
        if keys.windows(2).any(|pair| pair[0].time >= pair[1].time) {
            return Err(EditError::Order);
        }
        let mut curve = Curve::new(keys)?
            .with_behaviours(self.before.steeper(factor.recip()), self.after.steeper(factor.recip()));
        curve.inner_loop = self.inner_loop.map(|region| InnerLoop {
            start: at(region.start),
            end: at(region.end),
            ..region
        });
        Ok(curve)
    }

    /// The curve played backwards about an instant: the value at `about + d` is that at `about − d`, except at the
    /// very instant of a jump. An inner loop is written out.
    pub fn reversed(&self, about: Ticks) -> Curve {
        if self.inner_loop.is_some() {
            return self.unrolled().reversed(about);
        }
        let flipped = |tangent: Tangent| Tangent {
            shape: match tangent.shape {
                TangentShape::Slope(slope) => TangentShape::Slope(-slope),
                TangentShape::Handle { dt, dv } => TangentShape::Handle { dt, dv: -dv },
            },
            ..tangent
        };
        let mut keys = Vec::with_capacity(self.keys.len());
        for (index, key) in self.keys.iter().enumerate().rev() {
            let before = index.checked_sub(1).map(|i| &self.keys[i]);
            // What lay before the key comes after it now; a hold ends in the value that it held.
            let arriving = match before.map(|before| before.interpolation) {
                Some(Interpolation::Hold) => before.map_or(key.value, |before| before.value),
                _ => key.left_value(),
            };
            keys.push(Key {
                time: about + (about - key.time),
                value: arriving,
                value_before: (arriving != key.value).then_some(key.value),
                interpolation: before.map_or(Interpolation::Cubic, |before| before.interpolation),
                tangent_in: flipped(key.tangent_out),
                tangent_out: flipped(key.tangent_in),
                ..*key
            });
        }
        // An automatic tangent beside a jump is another one seen from behind; what it was stays.
        if let Ok(seen) = Curve::new(keys.clone()) {
            for (key, seen) in keys.iter_mut().zip(&seen.keys) {
                for (own, seen) in
                    [(&mut key.tangent_in, seen.tangent_in), (&mut key.tangent_out, seen.tangent_out)]
                {
                    if *own != seen {
                        *own = freed(*own);
                    }
                }
            }
        }
        let (before, after) = (self.after.steeper(-1.0), self.before.steeper(-1.0));
        Curve { keys, before, after, inner_loop: None }
    }

    /// Automatic tangents that would come out otherwise, with the neighbours that they have now, become free ones: the curve
    /// keeps its values when it is made anew of its keys.
    pub fn with_stale_tangents_freed(mut self) -> Curve {
        let mut fresh = self.clone();
        fresh.refresh_tangents();
        for (key, fresh) in self.keys.iter_mut().zip(&fresh.keys) {
            for (own, new) in
                [(&mut key.tangent_in, fresh.tangent_in), (&mut key.tangent_out, fresh.tangent_out)]
            {
                if *own != new {
                    *own = freed(*own);
                }
            }
        }
        self
    }

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
    fn append(&mut self, mut next: Curve) {
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

    /// The curve with its keys on whole frames, and by how much its value changed at most: at the old and new key
    /// times and halfway between. Of keys that fall on one frame the last one stays.
    pub fn snapped(&self, rate: FrameRate) -> (Curve, f64) {
        let source = self.unrolled();
        let mut keys: Vec<Key> = Vec::with_capacity(source.keys.len());
        for key in &source.keys {
            let moved = Key { time: rate.ticks(rate.nearest_frame(key.time)), ..*key };
            if keys.last().is_some_and(|last| last.time == moved.time) {
                keys.pop();
            }
            keys.push(moved);
        }
        let mut curve = Curve { keys, before: self.before, after: self.after, inner_loop: None };
        curve.refresh_tangents();
        let mut times: Vec<f64> =
            source.keys.iter().chain(&curve.keys).map(|key| key.time.as_f64()).collect();
        times.sort_by(f64::total_cmp);
        let halves: Vec<f64> = times.windows(2).map(|pair| 0.5 * (pair[0] + pair[1])).collect();
        times.extend(halves);
        let change = |time: &f64| {
            let (before, after) = (source.value_at(*time), curve.value_at(*time));
            before.zip(after).map_or(0.0, |(before, after)| (after - before).abs())
        };
        let largest = times.iter().map(change).fold(0.0, f64::max);
        (curve, largest)
    }

    /// The same curve with weighted handles everywhere: plain slopes become handles of a third, exactly.
    pub fn weighted(&self) -> Curve {
        let mut curve = self.clone();
        for index in 0..curve.keys.len() {
            let gap = |a: usize, b: usize| (self.keys[b].time - self.keys[a].time).as_f64();
            let before = if index > 0 { gap(index - 1, index) } else { 0.0 };
            let after = if index + 1 < self.keys.len() { gap(index, index + 1) } else { 0.0 };
            let handle = |tangent: Tangent, gap: f64| {
                let (dt, dv) = tangent.handle_in_gap(gap);
                Tangent { shape: TangentShape::Handle { dt, dv }, ..tangent }
            };
            let key = &mut curve.keys[index];
            if before > 0.0 {
                key.tangent_in = handle(key.tangent_in, before);
            }
            if after > 0.0 {
                key.tangent_out = handle(key.tangent_out, after);
            }
        }
        curve
    }

    /// The curve without the keys that change nothing: where both neighbours lie on one polynomial, to rounding.
    ///
    /// Keys with weighted handles, jumps and changes of interpolation stay. An inner loop is written out.
    pub fn thinned(&self) -> Curve {
        let mut curve = self.without(|_| true);
        if curve.is_constant() && curve.is_held_outside() {
            curve.keys.truncate(1);
        }
        for key in &mut curve.keys {
            key.tangent_in = freed(key.tangent_in);
            key.tangent_out = freed(key.tangent_out);
        }
        curve
    }

    /// The curve without the keys that a conversion put there and that change nothing; see [`Curve::thinned`].
    pub fn without_added(&self) -> Curve {
        let mut curve = self.without(|key| key.added);
        if curve.keys.len() < self.keys.len() {
            // What neighbours made of tangents stays.
            for key in &mut curve.keys {
                key.tangent_in = freed(key.tangent_in);
                key.tangent_out = freed(key.tangent_out);
            }
        }
        curve
    }

    /// The curve without those keys of some that change nothing.
    fn without(&self, may_go: impl Fn(&Key) -> bool) -> Curve {
        let source = self.unrolled();
        let scale = source.keys.iter().fold(0.0_f64, |most, key| most.max(key.value.abs()));
        let mut kept: Vec<Key> = Vec::with_capacity(source.keys.len());
        for (index, key) in source.keys.iter().enumerate() {
            let neighbours = (kept.last(), source.keys.get(index + 1));
            if let (Some(before), Some(after)) = neighbours
                && may_go(key)
                && changes_nothing(before, key, after, 1e-13 * scale.max(1e-3))
            {
                continue;
            }
            kept.push(*key);
        }
        Curve { keys: kept, before: source.before, after: source.after, inner_loop: None }
    }

    /// The curve without keys at its ends past which it stands still anyway, being held outside.
    pub fn without_still_ends(mut self) -> Curve {
        let still = |a: &Key, b: &Key| {
            Curve { keys: vec![*a, *b], ..Curve::default() }.is_constant()
                && b.interpolation != Interpolation::None
        };
        if self.inner_loop.is_none() {
            while let [.., a, b] = self.keys.as_slice()
                && self.after == Behaviour::Held
                && still(a, b)
            {
                self.keys.pop();
            }
            if self.before == Behaviour::Held {
                let moving = self.keys.windows(2).position(|pair| !still(&pair[0], &pair[1]));
                self.keys.drain(..moving.unwrap_or(0));
            }
        }
        self
    }

    /// How many segments have weighted handles that make time run backwards; they are shortened as they are
    /// evaluated, and here for good.
    pub fn shorten_handles(&mut self) -> usize {
        let mut count = 0;
        for index in 1..self.keys.len() {
            let gap = (self.keys[index].time - self.keys[index - 1].time).as_f64();
            let (a, dv0) = self.keys[index - 1].tangent_out.handle_in_gap(gap);
            let (b, dv1) = self.keys[index].tangent_in.handle_in_gap(gap);
            let scale = super::segment::legal_scale(a / gap, b / gap);
            if self.keys[index - 1].interpolation == Interpolation::Cubic && scale < 1.0 {
                self.keys[index - 1].tangent_out.shape =
                    TangentShape::Handle { dt: a * scale, dv: dv0 * scale };
                self.keys[index].tangent_in.shape = TangentShape::Handle { dt: b * scale, dv: dv1 * scale };
                count += 1;
            }
        }
        count
    }
}
