//! Shapes of motion: smooth steps, pulses and repeatable noise. All from `libm`, so that every machine agrees.

use std::f64::consts::{PI, TAU};

use glam::{DMat3, DQuat, DVec3};

/// Sine of an angle in radians.
pub fn sin(angle: f64) -> f64 {
    libm::sin(angle)
}

/// Minimum-jerk step from 0 to 1 as `t` goes from `from` to `to`.
pub fn step(t: f64, from: f64, to: f64) -> f64 {
    let s = ((t - from) / (to - from)).clamp(0.0, 1.0);
    s * s * s * (10.0 + s * (6.0 * s - 15.0))
}

/// A smooth rise to 1 and back within `from..to`.
pub fn pulse(t: f64, from: f64, to: f64) -> f64 {
    let s = ((t - from) / (to - from)).clamp(0.0, 1.0);
    let half = sin(PI * s);
    half * half
}

/// A wave of `hertz` at time `t`.
pub fn wave(t: f64, hertz: f64, phase: f64) -> f64 {
    sin(TAU * hertz * t + phase)
}

/// Noise in -1..1 that is the same on every run.
pub fn noise(channel: u64, index: u64) -> f64 {
    let mut x = channel.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ index.wrapping_mul(0xd1b5_4a32_d192_ed03);
    for _ in 0..3 {
        x ^= x >> 31;
        x = x.wrapping_mul(0xbf58_476d_1ce4_e5b9);
    }
    (x >> 11) as f64 / (1_u64 << 52) as f64 - 1.0
}

/// A turn about one axis (0, 1, 2), in degrees.
pub fn turn(axis: usize, degrees: f64) -> DQuat {
    let half = degrees.to_radians() * 0.5;
    let mut v = DVec3::ZERO;
    v[axis] = libm::sin(half);
    DQuat::from_xyzw(v.x, v.y, v.z, libm::cos(half))
}

/// The rotations of thigh and shin that bring the ankle to `ankle`, the knee pointing along `forward`.
///
/// At rest both bones point down. Lengths and positions share a unit; the rotations are those of the world.
pub fn leg(hip: DVec3, ankle: DVec3, thigh: f64, shin: f64, forward: DVec3) -> (DQuat, DQuat) {
    let reach = (ankle - hip).length().min(0.999 * (thigh + shin));
    let along = (ankle - hip).normalize();
    let side = forward.cross(along).normalize();
    let cosine = (thigh * thigh + reach * reach - shin * shin) / (2.0 * thigh * reach);
    let bend = libm::acos(cosine.clamp(-1.0, 1.0));
    let across = along.cross(side);
    let thigh_along = along * libm::cos(bend) + across * libm::sin(bend);
    let knee = hip + thigh_along * thigh;
    let shin_along = (hip + along * reach - knee).normalize();
    let facing = |down: DVec3| DQuat::from_mat3(&DMat3::from_cols(side, -down, side.cross(-down)));
    (facing(thigh_along), facing(shin_along))
}
