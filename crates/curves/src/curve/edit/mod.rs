//! Edits of curves. All are exact unless they say that they are bounded.

mod keys;
mod merge;
mod ranges;
mod splice;
pub use splice::Splice;

use thiserror::Error;

use super::{Curve, CurveError, InnerLoop, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks};

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

impl Curve {
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
