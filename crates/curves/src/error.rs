//! Errors that were measured.

use crate::time::FrameRate;
use crate::value::Quantity;

/// An error that was measured on a result.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct MeasuredError {
    /// What it measures; an angle is that of the rotation between source and result.
    pub quantity: Quantity,
    /// The largest error found, in radians, scene units or as it is.
    pub largest: f64,
    /// The fractional frame at which it was found.
    pub frame: f64,
    /// Sum of the squared errors.
    pub sum_of_squares: f64,
    /// At how many instants it was measured.
    pub count: usize,
}

impl MeasuredError {
    /// Nothing measured yet.
    pub fn none(quantity: Quantity) -> MeasuredError {
        MeasuredError { quantity, largest: 0.0, frame: 0.0, sum_of_squares: 0.0, count: 0 }
    }

    /// Takes in the error at one instant.
    ///
    /// What is not a number counts as infinite: nobody can say how far off it is.
    pub fn take(&mut self, error: f64, frame: f64) {
        let error = if error.is_nan() { f64::INFINITY } else { error };
        if self.count == 0 || error > self.largest {
            (self.largest, self.frame) = (error, frame);
        }
        self.sum_of_squares += error * error;
        self.count += 1;
    }

    /// Takes in another measurement.
    pub fn merge(&mut self, other: &MeasuredError) {
        if self.count == 0 || (other.count > 0 && other.largest > self.largest) {
            (self.largest, self.frame) = (other.largest, other.frame);
        }
        self.sum_of_squares += other.sum_of_squares;
        self.count += other.count;
    }

    /// The same error with its place as a frame of a rate; it was found at a time in ticks.
    pub fn in_frames(self, rate: FrameRate) -> MeasuredError {
        MeasuredError { frame: self.frame / rate.ticks_per_frame(), ..self }
    }

    /// The root of the mean square.
    pub fn rms(&self) -> f64 {
        if self.count == 0 { 0.0 } else { (self.sum_of_squares / self.count as f64).sqrt() }
    }
}
