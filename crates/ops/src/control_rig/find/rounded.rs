//! Numbers as a rigger would have typed them, where what was found lies that close to one.

use glam::DVec3;

/// How close a number has to lie to a short one to be that.
const CLOSE: f64 = 2e-5;

/// A number of two decimals, or of four, where it is one.
pub fn number(value: f64) -> f64 {
    let near = [1e2, 3.0, 1e4].map(|parts| (value * parts).round() / parts);
    near.into_iter().find(|near| (near - value).abs() <= CLOSE).unwrap_or((value * 1e6).round() / 1e6)
}

/// A direction of length 1: an axis where it is one.
pub fn direction(v: DVec3) -> DVec3 {
    let short = v.abs().max_element();
    let axis = DVec3::select(v.abs().cmpeq(DVec3::splat(short)), v.signum(), DVec3::ZERO);
    // Adding nothing takes the sign off a zero.
    (if (v - axis).length() <= CLOSE * 5.0 { axis } else { v }) + DVec3::ZERO
}
