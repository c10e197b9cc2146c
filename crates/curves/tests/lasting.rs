//! What an operation makes stays what it is when it is written to a file, read, scaled or moved: all of these make a curve anew of
//! its keys, and automatic tangents with it.

use nimble_curve_curves::curve::{Curve, Refit, Splice, combine};
use nimble_curve_curves::time::Ticks;
use nimble_curve_testing::{Handles, RATE, any_behaviour, any_curve, span, steps};
use proptest::prelude::*;

use crate::curves::range;

/// All that makes a curve of a curve, by name.
fn made(curve: &Curve, other: &Curve, first: i64, length: i64) -> Vec<(&'static str, Curve)> {
    let of = range(first, first + length);
    let refit = Refit { tolerance: 0.01, rate: Some(RATE) };
    let mut all = vec![
        ("unrolled", curve.unrolled()),
        ("plus_line", curve.plus_line(0.3, Ticks(9))),
        ("affine", curve.affine(-1.5, 2.0)),
        ("plain", curve.plain(refit).0),
        (
            "retimed",
            curve
                .retimed(
                    &Curve::through(RATE, [(0, 0.0), (20, 11.0 * RATE.ticks_per_frame())]).unwrap(),
                    refit,
                )
                .0,
        ),
        ("snapped", curve.snapped(RATE).0),
        ("thinned", curve.thinned()),
        ("without_added", curve.without_added()),
        ("without_still_ends", curve.clone().without_still_ends()),
        ("without_held_end", curve.clone().without_held_end()),
        ("merged", curve.merged(other, of, false)),
        ("shifted", curve.shifted(Ticks(77))),
        ("reversed", curve.reversed(RATE.ticks(4))),
        ("weighted", curve.weighted()),
        ("trimmed", curve.trimmed(of)),
        ("with_ends", curve.with_ends(of)),
        ("written_out", curve.written_out(of)),
        (
            "spliced",
            curve.spliced(
                other,
                &Splice { range: of, of: range(-20, 60), seam: RATE.ticks(2), rest: 0.0, is_angle: false },
            ),
        ),
    ];
    all.extend(curve.stretched(Ticks(0), 1.7).ok().map(|made| ("stretched", made)));
    all.extend(curve.filled(0.5).map(|made| ("filled", made)));
    all.extend(curve.joined(&other.shifted(RATE.ticks(100))).ok().map(|made| ("joined", made)));
    all.extend(combine(&[(0.5, curve), (2.0, other)], 0.25).map(|made| ("combined", made)));
    let mut keyed = curve.clone();
    if keyed.insert_key(RATE.ticks(first)).is_ok() {
        all.push(("insert_key", keyed));
    }
    all
}

proptest! {
    #[test]
    fn what_operations_make_lasts(
        (curve, other) in (any_curve(Handles::Any), any_curve(Handles::Any)),
        (before, after) in (any_behaviour(), any_behaviour()),
        (first, length) in (-5..30_i64, 1..30_i64),
    ) {
        let curve = curve.with_behaviours(before, after);
        for (name, made) in made(&curve, &other, first, length) {
            // By nothing at all: but the curve is made anew of its keys.
            let again = made.affine(1.0, 0.0);
            let tolerance = 1e-9 * span(&made);
            for time in steps(-20, 60) {
                let (is, was) = (again.value_at(time), made.value_at(time));
                prop_assert!(
                    is.zip(was).is_none_or(|(is, was)| (is - was).abs() <= tolerance) && is.is_some() == was.is_some(),
                    "{name} at frame {}: {was:?} becomes {is:?}", time / RATE.ticks_per_frame()
                );
            }
        }
    }
}
