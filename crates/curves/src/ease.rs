//! Ease: slow starts and ends within a piece, by a speed that rises evenly, stays, and falls evenly.

/// A change of clock within a piece: from rest over `out` of it up to full speed, to rest over its last `into`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ease {
    out: f64,
    into: f64,
    /// Half the full speed.
    half_speed: f64,
}

impl Ease {
    /// No change at all.
    pub const NONE: Ease = Ease { out: 0.0, into: 0.0, half_speed: 0.5 };

    /// Eases of 0 to 1 at the start and at the end; where they overlap both give way in proportion.
    pub fn new(out: f64, into: f64) -> Ease {
        let (out, into) = (out.clamp(0.0, 1.0), into.clamp(0.0, 1.0));
        let sum = out + into;
        let (out, into) = if sum > 1.0 { (out / sum, into / sum) } else { (out, into) };
        Ease { out, into, half_speed: 1.0 / (2.0 - out - into) }
    }

    /// Whether nothing changes.
    pub fn is_none(&self) -> bool {
        self.out == 0.0 && self.into == 0.0
    }

    /// How far the piece is at a part of its time: the area below the speed so far.
    pub fn at(&self, u: f64) -> f64 {
        let k = self.half_speed;
        if self.is_none() {
            u
        } else if u < self.out {
            k * u * u / self.out
        } else if u <= 1.0 - self.into {
            k * (2.0 * u - self.out)
        } else {
            1.0 - k * (1.0 - u) * (1.0 - u) / self.into
        }
    }

    /// The speed at a part of the time; 1 where nothing changes.
    pub fn rate(&self, u: f64) -> f64 {
        let k = self.half_speed;
        if self.is_none() {
            1.0
        } else if u < self.out {
            2.0 * k * u / self.out
        } else if u <= 1.0 - self.into {
            2.0 * k
        } else {
            2.0 * k * (1.0 - u) / self.into
        }
    }

    /// The parts of the time at which the speed turns a corner.
    pub fn corners(&self) -> impl Iterator<Item = f64> {
        [self.out, 1.0 - self.into].into_iter().filter(|&u| u > 0.0 && u < 1.0)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn eases_run_from_start_to_end_and_their_rate_is_their_derivative(
            out in 0.0..1.0_f64, into in 0.0..1.0_f64, u in 0.001..0.999_f64
        ) {
            let ease = Ease::new(out, into);
            prop_assert!(ease.at(0.0).abs() < 1e-15 && (ease.at(1.0) - 1.0).abs() < 1e-15);
            let h = 1e-6;
            let difference = (ease.at(u + h) - ease.at(u - h)) / (2.0 * h);
            prop_assert!((ease.rate(u) - difference).abs() < 1e-4 / out.min(into).max(1e-2));
            if out > 0.0 { prop_assert!(ease.rate(0.0) == 0.0); }
        }
    }
}
