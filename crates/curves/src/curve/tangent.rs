//! Tangents: their modes, their shapes, and the slopes that automatic ones get from their neighbours.

use super::{Curve, Interpolation, Key};
use crate::time::TICKS_PER_SECOND;

/// Where a tangent's slope comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum TangentMode {
    /// The slope of the line through the neighbouring keys.
    #[default]
    Auto,
    /// Like automatic, but flat at extremes and never so steep that the curve overshoots its keys.
    AutoNoOvershoot,
    /// Slope zero.
    Flat,
    /// Along the straight line to the neighbouring key on this side.
    Linear,
    /// As it was set; neighbours do not change it.
    Free,
}

/// What a tangent does to the curve.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TangentShape {
    /// A slope in value per second; the handle is a third of the gap, which makes a plain cubic in time.
    Slope(f64),
    /// A weighted handle: how far it reaches from the key, in ticks (not negative) and in value, both counted
    /// forward in time on either side.
    Handle {
        /// Length in time, in ticks, which need not be whole.
        dt: f64,
        /// Difference in value over that time.
        dv: f64,
    },
}

/// One side of a key.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tangent {
    /// Where the slope comes from.
    pub mode: TangentMode,
    /// The slope or handle, up to date in every mode.
    pub shape: TangentShape,
}

impl Tangent {
    /// An automatic tangent.
    pub const AUTO: Tangent = Tangent { mode: TangentMode::Auto, shape: TangentShape::Slope(0.0) };
    /// A flat tangent.
    pub const FLAT: Tangent = Tangent { mode: TangentMode::Flat, shape: TangentShape::Slope(0.0) };

    /// A free tangent with this slope, in value per second.
    pub const fn slope(slope: f64) -> Tangent {
        Tangent { mode: TangentMode::Free, shape: TangentShape::Slope(slope) }
    }

    /// A free weighted tangent that reaches `dt` ticks and `dv` in value.
    pub const fn handle(dt: f64, dv: f64) -> Tangent {
        Tangent { mode: TangentMode::Free, shape: TangentShape::Handle { dt, dv } }
    }

    /// A tangent of another mode than free, with a slope that the curve will compute.
    pub const fn of_mode(mode: TangentMode) -> Tangent {
        Tangent { mode, shape: TangentShape::Slope(0.0) }
    }

    /// The slope in value per second; infinite for a vertical handle, zero for one of no length.
    pub fn slope_per_second(&self) -> f64 {
        match self.shape {
            TangentShape::Slope(slope) => slope,
            TangentShape::Handle { dt: 0.0, dv: 0.0 } => 0.0,
            TangentShape::Handle { dt, dv } => dv / (dt / TICKS_PER_SECOND as f64),
        }
    }

    /// The length of a weighted handle in ticks; `None` for a plain slope.
    pub fn length(&self) -> Option<f64> {
        match self.shape {
            TangentShape::Slope(_) => None,
            TangentShape::Handle { dt, .. } => Some(dt),
        }
    }

    /// The handle `(dt, dv)` in ticks and value that this tangent has next to a gap of `gap` ticks.
    pub fn handle_in_gap(&self, gap: f64) -> (f64, f64) {
        match self.shape {
            TangentShape::Slope(slope) => {
                let dt = gap / 3.0;
                (dt, slope * (dt / TICKS_PER_SECOND as f64))
            }
            TangentShape::Handle { dt, dv } => (dt, dv),
        }
    }

    /// Whether the slope is zero.
    pub fn is_flat(&self) -> bool {
        self.slope_or_dv() == 0.0
    }

    pub(super) fn slope_or_dv(&self) -> f64 {
        match self.shape {
            TangentShape::Slope(slope) => slope,
            TangentShape::Handle { dv, .. } => dv,
        }
    }

    /// The same tangent turned to a slope in value per second, its length in time kept.
    pub fn turned_to(self, slope: f64) -> Tangent {
        let shape = match self.shape {
            TangentShape::Slope(_) => TangentShape::Slope(slope),
            TangentShape::Handle { dt, .. } => {
                TangentShape::Handle { dt, dv: slope * (dt / TICKS_PER_SECOND as f64) }
            }
        };
        Tangent { shape, ..self }
    }
}

impl Curve {
    /// Recomputes every tangent whose mode is not free from the keys around it.
    pub(crate) fn refresh_tangents(&mut self) {
        for index in 0..self.keys.len() {
            self.refresh_tangent(index);
        }
    }

    /// Recomputes the tangents of one key whose mode is not free.
    fn refresh_tangent(&mut self, index: usize) {
        let key = self.keys[index];
        if key.tangent_in.mode == TangentMode::Free && key.tangent_out.mode == TangentMode::Free {
            return;
        }
        let around = Around::of(&self.keys, index);
        let turn = |tangent: Tangent, toward: Option<f64>| match tangent.mode {
            TangentMode::Free => tangent,
            TangentMode::Flat => tangent.turned_to(0.0),
            TangentMode::Linear => tangent.turned_to(toward.unwrap_or(0.0)),
            TangentMode::Auto => tangent.turned_to(around.auto()),
            TangentMode::AutoNoOvershoot => tangent.turned_to(around.auto_without_overshoot()),
        };
        let (to_before, to_after) = (around.slope_in, around.slope_out);
        let key = &mut self.keys[index];
        key.tangent_in = turn(key.tangent_in, to_before);
        key.tangent_out = turn(key.tangent_out, to_after);
    }
}

/// The straight lines from a key to its neighbours, where the curve runs continuously between them.
struct Around {
    slope_in: Option<f64>,
    slope_out: Option<f64>,
    /// The slope from the key before to the key after.
    across: Option<f64>,
}

impl Around {
    fn of(keys: &[Key], index: usize) -> Around {
        let connects = |key: &Key| matches!(key.interpolation, Interpolation::Cubic | Interpolation::Linear);
        let key = &keys[index];
        let per_second = |dv: f64, from: &Key, to: &Key| dv / (to.time - from.time).seconds();
        let before = index.checked_sub(1).map(|i| &keys[i]).filter(|before| connects(before));
        let after = keys.get(index + 1).filter(|_| connects(key));
        let slope_in = before.map(|before| per_second(key.left_value() - before.value, before, key));
        let slope_out = after.map(|after| per_second(after.left_value() - key.value, key, after));
        let across = match (before, after, key.value_before) {
            (Some(before), Some(after), None) => {
                Some(per_second(after.left_value() - before.value, before, after))
            }
            _ => None,
        };
        Around { slope_in, slope_out, across }
    }

    fn auto(&self) -> f64 {
        self.across.or(self.slope_out).or(self.slope_in).unwrap_or(0.0)
    }

    /// After Fritsch and Carlson (SIAM J. Numer. Anal. 17, 1980): zero at extremes and ends, else at most
    /// three times the gentler of the two lines, which keeps the cubic between its keys.
    fn auto_without_overshoot(&self) -> f64 {
        match (self.across, self.slope_in, self.slope_out) {
            (Some(across), Some(a), Some(b)) if a * b > 0.0 => {
                let limit = 3.0 * a.abs().min(b.abs());
                across.clamp(-limit, limit)
            }
            _ => 0.0,
        }
    }
}
