//! Degrees to radians without a second rounding, so that what a person typed comes back as typed.

use crate::time::FrameRate;

/// π/180 as an unevaluated sum, to twice the precision of an `f64`.
const RADIANS_PER_DEGREE: (f64, f64) = (0.017453292519943295, 2.9486522708701687e-19);

/// Radians of an angle in degrees, correctly rounded.
///
/// `f64::to_radians` rounds the factor first, and may end a bit off.
pub fn radians(degrees: f64) -> f64 {
    product(degrees, RADIANS_PER_DEGREE)
}

/// Degrees of an angle in radians: with six decimals where these lead back to the very radians, as typed angles do.
pub fn degrees(angle: f64) -> f64 {
    let degrees = angle.to_degrees();
    let six = (degrees * 1e6).round() / 1e6;
    if radians(six) == angle { six } else { degrees }
}

/// Radians per second of a rate in degrees per frame, correctly rounded for whole frame rates.
pub fn radians_per_second(degrees_per_frame: f64, rate: FrameRate) -> f64 {
    product(degrees_per_frame, scaled(RADIANS_PER_DEGREE, f64::from(rate.numerator())))
        / f64::from(rate.denominator())
}

fn scaled((high, low): (f64, f64), factor: f64) -> (f64, f64) {
    let product = high * factor;
    (product, high.mul_add(factor, -product) + low * factor)
}

/// `a · (high + low)`, after Dekker (Numer. Math. 18, 1971).
fn product(a: f64, (high, low): (f64, f64)) -> f64 {
    let product = a * high;
    product + (a.mul_add(high, -product) + a * low)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn familiar_angles_are_the_nearest_radians() {
        use std::f64::consts::{FRAC_PI_2, FRAC_PI_6, PI, TAU};
        for (degrees, expected) in
            [(30.0, FRAC_PI_6), (90.0, FRAC_PI_2), (180.0, PI), (-360.0, -TAU), (0.0, 0.0)]
        {
            assert_eq!(radians(degrees), expected);
        }
        assert_eq!(radians_per_second(3.0, FrameRate::FPS_30), FRAC_PI_2);
    }
}
