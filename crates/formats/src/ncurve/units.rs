//! The factors between the units of the file and those of core.

use nimble_curve_core::time::{FrameRate, TICKS_PER_SECOND, Ticks};
use nimble_curve_core::value::Quantity;

use super::number::{Double, Num};

/// Conversions for one file.
#[derive(Clone, Copy)]
pub struct Units {
    ticks_per_frame: Double,
    fps: Double,
}

/// Conversions for the numbers of one quantity.
#[derive(Clone, Copy)]
pub struct Scale {
    value: Double,
    slope: Double,
}

impl Units {
    pub fn new(rate: FrameRate) -> Units {
        let (num, den) = (i64::from(rate.numerator()), i64::from(rate.denominator()));
        Units { ticks_per_frame: Double::ratio(TICKS_PER_SECOND * den, num), fps: Double::ratio(num, den) }
    }

    pub fn time(&self, frame: &Num) -> Ticks {
        Ticks::nearest(frame.to_core(self.ticks_per_frame))
    }

    pub fn frame(&self, time: Ticks) -> Num {
        // Whole frames first: the shortest decimal that leads back to the tick may lie beside one.
        let frame = Num::from_core(time.as_f64(), self.ticks_per_frame);
        let rounded = Num::from_core(frame.to_core(Double::ONE).round(), Double::ONE);
        if self.time(&rounded) == time { rounded } else { frame }
    }

    pub fn length(&self, frames: &Num) -> f64 {
        frames.to_core(self.ticks_per_frame)
    }

    pub fn frames(&self, length: f64) -> Num {
        Num::from_core(length, self.ticks_per_frame)
    }

    pub fn scale(&self, quantity: Quantity) -> Scale {
        let value = match quantity {
            Quantity::Angle => Double::RADIANS_PER_DEGREE,
            Quantity::Length | Quantity::Number => Double::ONE,
        };
        Scale { value, slope: value.times(self.fps) }
    }
}

impl Scale {
    pub fn value(&self, num: &Num) -> f64 {
        num.to_core(self.value)
    }

    pub fn num(&self, value: f64) -> Num {
        Num::from_core(value, self.value)
    }

    pub fn slope(&self, num: &Num) -> f64 {
        num.to_core(self.slope)
    }

    pub fn slope_num(&self, slope: f64) -> Num {
        Num::from_core(slope, self.slope)
    }
}
