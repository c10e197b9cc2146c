//! Keys, curves and errors as their constructors make them.

use nimble_curve_curves::curve::{Curve, Interpolation, Key, Side, Tangent};
use nimble_curve_curves::error::MeasuredError;
use nimble_curve_curves::time::FrameRate;
use nimble_curve_curves::value::Quantity;

const RATE: FrameRate = FrameRate::FPS_24;

#[test]
fn a_key_with_a_slope_is_smooth_and_one_with_two_is_not() {
    let key = Key::new(RATE.ticks(5), 2.0).with_slope(3.0);
    assert!(key.joined && key.tangent_in == key.tangent_out && key.tangent_in == Tangent::slope(3.0));
    assert_eq!((key.value, key.left_value(), key.added), (2.0, 2.0, false));
    let broken = key.with_slopes(1.0, -1.0);
    assert!(!broken.joined && broken.tangent_in != broken.tangent_out && broken.with_slope(3.0) == key);
    let held = key.with_interpolation(Interpolation::Hold);
    assert_eq!((held.interpolation, held.tangent_in), (Interpolation::Hold, key.tangent_in));
}

#[test]
fn a_constant_is_its_value_everywhere() {
    let curve = Curve::constant(RATE.ticks(3), -4.5);
    assert!(!curve.is_empty() && curve.is_constant());
    for frame in [-100, 3, 4, 1000] {
        for side in [Side::Left, Side::Right] {
            assert_eq!(curve.value_on(RATE.ticks(frame).as_f64(), side), Some(-4.5));
        }
    }
}

#[test]
fn errors_keep_the_largest_with_its_place_and_what_is_no_number_is_infinite() {
    let mut error = MeasuredError::none(Quantity::Angle);
    assert_eq!(error.rms(), 0.0);
    for (apart, ticks) in [(3.0, 10.0), (4.0, 20.0), (1.0, 30.0)] {
        error.take(apart, ticks * RATE.ticks_per_frame());
    }
    let told = error.in_frames(RATE);
    assert_eq!((told.largest, told.frame, told.count), (4.0, 20.0, 3));
    assert!((told.rms() - (26.0_f64 / 3.0).sqrt()).abs() < 1e-12);
    let mut other = MeasuredError::none(Quantity::Angle);
    other.take(5.0, 7.0);
    let (before, mut both) = (other, other);
    both.merge(&told);
    assert_eq!((both.largest, both.frame, both.count), (5.0, 7.0, 4));
    let mut turned = told;
    turned.merge(&before);
    assert_eq!((turned.largest, turned.frame, turned.count), (5.0, 7.0, 4));
    error.take(f64::NAN, 1.0);
    assert_eq!((error.largest, error.frame), (f64::INFINITY, 1.0));
}
