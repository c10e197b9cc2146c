//! Fitting: sparse curves through samples, within a bound.

mod piece;
mod scalar;

pub use scalar::{FittedKey, fit};
