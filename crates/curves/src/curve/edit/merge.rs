//! The keys of two curves on one.

use std::f64::consts::TAU;

use super::freed;
use crate::curve::{Behaviour, Curve, Key, Side, Tangent, TangentShape};
use crate::time::{Ticks, TimeRange};

impl Curve {
    /// The keys of another curve, and of this one's own those that stand at other times, each with its value and its slopes; what lies
    /// between follows from them. Handles that were made for other gaps keep their slope alone.
    ///
    /// A loop of this curve is written out over `of` first, as it would repeat the new keys. Angles (`is_angle`, in radians) come by
    /// the nearest whole turn: the new keys to the curve that is there, this one's own keys to the new ones that they stand between
    /// or behind.
    ///
    /// ```
    /// use nimble_curve_curves::curve::Curve;
    /// use nimble_curve_curves::time::{FrameRate, TimeRange};
    ///
    /// let rate = FrameRate::FPS_24;
    /// let old = Curve::through(rate, [(0, 0.0), (12, 1.0), (24, 0.0)])?;
    /// let new = Curve::through(rate, [(12, 2.0), (18, 3.0)])?;
    ///
    /// let merged = old.merged(&new, TimeRange::new(rate.ticks(0), rate.ticks(24)), false);
    /// let values: Vec<f64> = merged.keys().iter().map(|key| key.value).collect();
    /// assert_eq!(values, [0.0, 2.0, 3.0, 0.0]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn merged(&self, new: &Curve, of: TimeRange, is_angle: bool) -> Curve {
        let (Some(first), Some(last)) = (new.keys.first(), new.keys.last()) else { return self.clone() };
        if self.is_empty() {
            return new.clone();
        }
        let written;
        let own = match self.before.is_loop() || self.after.is_loop() || self.inner_loop.is_some() {
            true => {
                written = self.written_out(of);
                &written
            }
            false => self,
        };
        let turns = |from: f64, to: f64| if is_angle { ((to - from) / TAU).round() * TAU } else { 0.0 };
        let at = |curve: &Curve, key: &Key| curve.value_at(key.time.as_f64()).unwrap_or(key.value);
        let shifted;
        let new = match turns(first.value, at(own, first)) {
            0.0 => new,
            shift => {
                shifted = new.affine(1.0, shift);
                &shifted
            }
        };
        let behind = turns(at(own, last), at(new, last));
        let mut keys: Vec<Taken> = Vec::with_capacity(own.keys.len() + new.keys.len());
        let mut theirs = (0..new.keys.len()).peekable();
        for (index, key) in own.keys.iter().enumerate() {
            while let Some(at) = theirs.next_if(|&at| new.keys[at].time <= key.time) {
                keys.push(Taken { of: Of::New(at), turned: 0.0, key: new.keys[at] });
            }
            if keys.last().is_some_and(|before: &Taken| before.key.time == key.time) {
                continue;
            }
            let by = match key.time {
                time if time < first.time => 0.0,
                time if time > last.time => behind,
                _ => turns(key.value, at(new, key)),
            };
            let value_before = key.value_before.map(|value| value + by);
            let key = Key { value: key.value + by, value_before, ..*key };
            keys.push(Taken { of: Of::Own(index), turned: by, key });
        }
        keys.extend(theirs.map(|at| Taken { of: Of::New(at), turned: 0.0, key: new.keys[at] }));
        // A line outside the keys goes on as it went, also where the key beside the outermost one is another now.
        let outer = |of: Option<&Taken>, behaviour: Behaviour, far: Ticks| match (
            of.map(|taken| taken.of),
            behaviour,
        ) {
            (Some(Of::Own(_)), Behaviour::Linear) => {
                own.slope_on(far.as_f64(), Side::Right).map_or(Behaviour::Linear, Behaviour::Sloped)
            }
            (Some(Of::Own(_)), own) => own,
            _ => Behaviour::Held,
        };
        let ends = own.range().unwrap_or(of);
        let before = outer(keys.first(), own.before, ends.first - Ticks(1));
        let after = outer(keys.last(), own.after, ends.last + Ticks(1));
        fit_gaps(&mut keys, [own.keys.len(), new.keys.len()]);
        // The keys of either are in order, and of two at one time one is here.
        let keys = keys.into_iter().map(|taken| taken.key).collect();
        Curve::new(keys).map_or_else(|_| new.clone(), |made| made.with_behaviours(before, after))
    }
}

/// A key of the result.
struct Taken {
    of: Of,
    /// By how much its angle was turned.
    turned: f64,
    key: Key,
}

/// Which curve a key comes from, and which of its keys it is.
#[derive(Clone, Copy, PartialEq)]
enum Of {
    Own(usize),
    New(usize),
}

impl Of {
    /// The key beside it on its own curve; `None` where it is the outermost of `counts`.
    fn beside(self, by: isize, counts: [usize; 2]) -> Option<Of> {
        let (index, count) = match self {
            Of::Own(index) => (index, counts[0]),
            Of::New(index) => (index, counts[1]),
        };
        let next = index.checked_add_signed(by).filter(|next| *next < count)?;
        Some(match self {
            Of::Own(_) => Of::Own(next),
            Of::New(_) => Of::New(next),
        })
    }
}

/// Keys that have other neighbours now keep the slopes that they had, by themselves, and no handle of another gap.
fn fit_gaps(keys: &mut [Taken], counts: [usize; 2]) {
    let order: Vec<(Of, f64)> = keys.iter().map(|taken| (taken.of, taken.turned)).collect();
    for (at, Taken { of, turned, key }) in keys.iter_mut().enumerate() {
        let stays = |by: isize| {
            let beside = at.checked_add_signed(by).and_then(|beside| order.get(beside));
            beside.copied() == of.beside(by, counts).map(|of| (of, *turned))
        };
        let (before, after) = (stays(-1), stays(1));
        if before && after {
            continue;
        }
        (key.tangent_in, key.tangent_out) = (freed(key.tangent_in), freed(key.tangent_out));
        for (tangent, stays) in [(&mut key.tangent_in, before), (&mut key.tangent_out, after)] {
            let slope = tangent.slope_per_second();
            if !stays && tangent.length().is_some() && slope.is_finite() {
                *tangent = Tangent { shape: TangentShape::Slope(slope), ..*tangent };
            }
        }
    }
}
