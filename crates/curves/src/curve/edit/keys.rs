//! Keys inserted, moved and taken out.

use super::{EditError, freed};
use crate::curve::{
    AxisSet, Behaviour, Curve, Interpolation, Key, Segment, Side, Tangent, TangentMode, Ticks,
};
use crate::time::FrameRate;

/// Whether the piece from `before` to `after` has the values of the two that meet in `key`.
pub(super) fn changes_nothing(before: &Key, key: &Key, after: &Key, tolerance: f64) -> bool {
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

/// Whether two values are one but for the rounding of two conversions.
fn is_same_value(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-10 * b.abs().max(1e-3)
}

/// Whether nothing moves from one key to the next.
fn is_still(a: &Key, b: &Key) -> bool {
    Curve { keys: vec![*a, *b], ..Curve::default() }.is_constant() && b.interpolation != Interpolation::None
}

pub(super) fn is_auto(tangent: Tangent) -> bool {
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
    pub(super) fn make_plain_around(&mut self, after: usize) {
        let (out, into) = (self.keys[after - 1].tangent_out, self.keys[after].tangent_in);
        if out.length().is_some() {
            self.keys[after - 1].tangent_out = Tangent::slope(out.slope_per_second());
        }
        if into.length().is_some() {
            self.keys[after].tangent_in = Tangent::slope(into.slope_per_second());
        }
    }

    /// Frees the tangents that a new key between `after − 1` and `after` would recompute.
    pub(super) fn free_around(&mut self, after: usize) {
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

    pub(super) fn insert_outside(&mut self, time: Ticks, is_before: bool) -> Result<usize, EditError> {
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

    /// The curve without those of the keys that are not its own which change nothing, at its ends also where it stands still
    /// past them and is held outside.
    pub(crate) fn without_strangers(&self, is_own: impl Fn(&Key) -> bool) -> Curve {
        let mut curve = self.clone();
        curve.drop_jumps_to_the_same();
        let lines = curve.lines_as_cubics(&is_own);
        curve.holds_as_cubics(&is_own);
        // What was converted twice is off by rounding of both.
        let mut curve = curve.without_within(|key| !is_own(key), 1e-10);
        curve.cubics_as_lines(&lines);
        curve.flats_before_jumps_as_holds();
        let still = |a: &Key, b: &Key| {
            let (piece, gap) = (Segment::between(a, b), (b.time - a.time).as_f64());
            let is_same = |value: f64| is_same_value(value, a.value);
            let is_there = |u: f64| piece.value(a.time.as_f64() + u * gap).is_some_and(is_same);
            // What is held up to a key may be something else from there on.
            a.value_before.is_none()
                && b.value_before.is_none()
                && is_same(b.value)
                && [0.25, 0.5, 0.75].into_iter().all(is_there)
        };
        if self.inner_loop.is_none() {
            while let [.., a, b] = curve.keys.as_slice()
                && curve.after == Behaviour::Held
                && !is_own(b)
                && still(a, b)
            {
                curve.keys.pop();
            }
            while let [a, b, ..] = curve.keys.as_slice()
                && curve.before == Behaviour::Held
                && !is_own(a)
                && still(a, b)
            {
                curve.keys.remove(0);
            }
        }
        curve
    }

    /// Says nothing of values before keys where these are the values there: where one axis jumps, all of them were said to.
    fn drop_jumps_to_the_same(&mut self) {
        for key in &mut self.keys {
            key.value_before = key.value_before.filter(|before| !is_same_value(*before, key.value));
        }
    }

    /// Says of holds that start or end at keys which are not its own that they are cubics that stand still up to a jump.
    fn holds_as_cubics(&mut self, is_own: &impl Fn(&Key) -> bool) {
        for index in 1..self.keys.len() {
            let (a, b) = (self.keys[index - 1], self.keys[index]);
            if a.interpolation != Interpolation::Hold || is_own(&a) && is_own(&b) {
                continue;
            }
            let from = &mut self.keys[index - 1];
            (from.tangent_out, from.interpolation) = (Tangent::slope(0.0), Interpolation::Cubic);
            self.keys[index].tangent_in = Tangent::slope(0.0);
            self.keys[index].value_before = (!is_same_value(a.value, b.value)).then_some(a.value);
        }
    }

    /// Says of pieces that stand still up to a jump that they hold.
    fn flats_before_jumps_as_holds(&mut self) {
        for index in 1..self.keys.len() {
            let (a, b) = (self.keys[index - 1], self.keys[index]);
            let piece = Segment::between(&a, &b);
            let stands = |u: f64| {
                let value = piece.value(a.time.as_f64() + u * (b.time - a.time).as_f64());
                value.is_some_and(|value| is_same_value(value, a.value))
            };
            let is_flat = b.value_before.is_some_and(|before| is_same_value(before, a.value));
            if is_flat && [0.25, 0.5, 0.75].into_iter().all(stands) {
                self.keys[index - 1].interpolation = Interpolation::Hold;
                self.keys[index].value_before = None;
            }
        }
    }

    /// Says of straight lines that end at keys which are not its own that they are cubics; where they start.
    fn lines_as_cubics(&mut self, is_own: &impl Fn(&Key) -> bool) -> Vec<Ticks> {
        let mut lines = Vec::new();
        for index in 1..self.keys.len() {
            let (a, b) = (self.keys[index - 1], self.keys[index]);
            if a.interpolation != Interpolation::Linear || is_own(&a) && is_own(&b) {
                continue;
            }
            let slope = Tangent::slope((b.left_value() - a.value) / (b.time - a.time).seconds());
            lines.push(a.time);
            let (from, to) = (&mut self.keys[index - 1], Interpolation::Cubic);
            (from.tangent_out, from.interpolation) = (slope, to);
            self.keys[index].tangent_in = slope;
        }
        lines
    }

    /// Says of cubics that some lines became, and that go straight on, that they are lines.
    fn cubics_as_lines(&mut self, lines: &[Ticks]) {
        for index in 1..self.keys.len() {
            let (a, b) = (self.keys[index - 1], self.keys[index]);
            if a.interpolation != Interpolation::Cubic || lines.binary_search(&a.time).is_err() {
                continue;
            }
            let piece = Segment::between(&a, &b);
            let is_straight = [0.25, 0.5, 0.75].into_iter().all(|u| {
                let value = piece.value(a.time.as_f64() + u * (b.time - a.time).as_f64());
                let line = a.value + (b.left_value() - a.value) * u;
                value.is_some_and(|value| (value - line).abs() <= 1e-10 * line.abs().max(1e-3))
            });
            if is_straight {
                self.keys[index - 1].interpolation = Interpolation::Linear;
            }
        }
    }

    /// Says on which axes of a rotation a key was set.
    pub(crate) fn set_axes(&mut self, index: usize, axes: AxisSet) {
        self.keys[index].axes = axes;
    }

    /// The curve without those keys of some that change nothing.
    pub(super) fn without(&self, may_go: impl Fn(&Key) -> bool) -> Curve {
        self.without_within(may_go, 1e-13)
    }

    /// The same where nothing is what is no more than a part of the curve's size.
    fn without_within(&self, may_go: impl Fn(&Key) -> bool, part: f64) -> Curve {
        let source = self.unrolled();
        let scale = source.keys.iter().fold(0.0_f64, |most, key| most.max(key.value.abs()));
        let mut kept: Vec<Key> = Vec::with_capacity(source.keys.len());
        for (index, key) in source.keys.iter().enumerate() {
            let neighbours = (kept.last(), source.keys.get(index + 1));
            if let (Some(before), Some(after)) = neighbours
                && may_go(key)
                && changes_nothing(before, key, after, part * scale.max(1e-3))
            {
                continue;
            }
            kept.push(*key);
        }
        Curve { keys: kept, before: source.before, after: source.after, inner_loop: None }
    }

    /// The curve without keys at its ends past which it stands still anyway, being held outside.
    pub fn without_still_ends(self) -> Curve {
        let mut curve = self.without_held_end();
        if curve.inner_loop.is_none() && curve.before == Behaviour::Held {
            let moving = curve.keys.windows(2).position(|pair| !is_still(&pair[0], &pair[1]));
            curve.keys.drain(..moving.unwrap_or(0));
        }
        curve
    }

    /// The curve without keys at its end before which it stands still anyway, being held after them.
    pub fn without_held_end(mut self) -> Curve {
        while let [.., a, b] = self.keys.as_slice()
            && self.inner_loop.is_none()
            && self.after == Behaviour::Held
            && is_still(a, b)
        {
            self.keys.pop();
        }
        self
    }
}
