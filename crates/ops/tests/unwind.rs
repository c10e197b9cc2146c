//! Unwinding: flips are repaired, and nothing else changes.

use std::f64::consts::{PI, TAU};

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::rotation::{RotationOrder, angle_between};
use nimble_curve_curves::value::Value;
use nimble_curve_ops::unwind::unwind;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::scene::{Layer, Scene};
use nimble_curve_testing::{RATE, scene, steps, track, values};
use proptest::prelude::*;

fn with(controller: Controller) -> Scene {
    scene(vec![Layer::base(vec![track("rotation", controller)])])
}

fn angles(value: &Value) -> DVec3 {
    let Value::Euler { angles, .. } = value else { panic!("{value:?}") };
    *angles
}

/// A smooth motion of three angles.
fn motion(frame: i64, sizes: [f64; 3]) -> DVec3 {
    let t = frame as f64 / 24.0;
    DVec3::new(sizes[0] * (2.1 * t).sin(), sizes[1] * (1.3 * t + 0.4).sin(), sizes[2] * (0.9 * t).cos())
}

/// The same rotation, written otherwise.
fn rewritten(order: RotationOrder, angles: DVec3, other_branch: bool, turns: [i32; 3]) -> DVec3 {
    let (a, b, c) = order.axes();
    let mut made = angles;
    if other_branch {
        (made[a], made[b], made[c]) = (angles[a] + PI, PI - angles[b], angles[c] + PI);
    }
    made + DVec3::from_array(turns.map(|turn| f64::from(turn) * TAU))
}

proptest! {
    #[test]
    fn keys_on_every_frame_come_back_to_one_path(
        order in prop::sample::select(RotationOrder::ALL.to_vec()), sizes in prop::array::uniform3(0.1..1.3_f64),
        flips in prop::collection::btree_map(1..60_i64, (any::<bool>(), prop::array::uniform3(-1..=1_i32)), 1..6),
        sampled in any::<bool>()
    ) {
        let mut now = (false, [0; 3]);
        let mut rows = Vec::new();
        for frame in 0..=60 {
            now = *flips.get(&frame).unwrap_or(&now);
            rows.push(rewritten(order, motion(frame, sizes), now.0, now.1));
        }
        let controller = if sampled {
            let values = rows.iter().flat_map(|row| row.to_array()).collect();
            Controller::Samples(Samples { start: RATE.ticks(0), rate: RATE, kind: SampleKind::Euler(order), values })
        } else {
            let curve = |axis: usize| {
                let keys = rows.iter().enumerate().map(|(frame, row)| Key::new(RATE.ticks(frame as i64), row[axis]));
                Curve::new(keys.collect()).unwrap()
            };
            Controller::Euler(EulerCurves { order, curves: [curve(0), curve(1), curve(2)] })
        };
        let (after, ledger) = unwind(&with(controller.clone()), &[]).unwrap();
        let changed = flips.values().any(|flip| *flip != (false, [0; 3]));
        let fate = ledger.entries[0].fate;
        prop_assert_eq!(fate == Fate::Exact, changed, "{:?}", ledger);
        let frames = || (0..=60).map(|frame| RATE.ticks(frame).as_f64());
        for (frame, value) in (0..).zip(values(&after, "rotation", frames())) {
            prop_assert!(angles(&value).abs_diff_eq(motion(frame, sizes), 1e-9), "frame {frame}: {value:?}");
        }
        // Between frames nothing sweeps any more.
        let path = values(&after, "rotation", steps(0, 60));
        for pair in path.windows(2) {
            let turned = angle_between(pair[0].rotation().unwrap(), pair[1].rotation().unwrap());
            prop_assert!(turned < 0.1, "{turned}");
        }
        let (again, ledger) = unwind(&after, &[]).unwrap();
        prop_assert!(again == after && ledger.entries[0].fate == Fate::Kept);
    }
}

#[test]
fn sparse_keys_and_tangents_behind_a_flip_are_kept_exactly() {
    // The channels were keyed every eight frames; an export wrapped z between two neighbouring keys.
    let key = |frame: i64, degrees: f64, slope: f64| {
        Key::new(RATE.ticks(frame), degrees.to_radians()).with_slope(slope.to_radians())
    };
    let z = vec![
        key(0, 150.0, 30.0),
        key(8, 170.0, 40.0),
        key(9, -188.0, 45.0),
        key(17, -160.0, 20.0),
        key(30, -150.0, 0.0),
    ];
    let curves = [Curve::default(), Curve::default(), Curve::new(z).unwrap()];
    let before = with(Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves }));
    let (after, ledger) = unwind(&before, &[]).unwrap();
    assert_eq!(ledger.entries[0].note, "one flip at frame 9");
    let curves = after.takes[0].layers[0].tracks[0].controller.curves();
    let shown: Vec<(f64, f64, f64)> = curves[2]
        .keys()
        .iter()
        .map(|key| {
            (RATE.frame(key.time), key.value.to_degrees(), key.tangent_out.slope_per_second().to_degrees())
        })
        .collect();
    for (found, expected) in shown.iter().zip([
        (0.0, 150.0, 30.0),
        (8.0, 170.0, 40.0),
        (9.0, 172.0, 45.0),
        (17.0, 200.0, 20.0),
        (30.0, 210.0, 0.0),
    ]) {
        assert!((found.0, found.2.round()) == (expected.0, expected.2), "{shown:?}");
        assert!((found.1 - expected.1).abs() < 1e-9, "{shown:?}");
    }
    assert!(curves[0].is_empty() && curves[1].is_empty());
    // Away from the flip the rotation is the very same.
    for time in steps(0, 30).filter(|time| !(8.0..9.0).contains(&(time / RATE.ticks_per_frame()))) {
        let rotation = |scene| values(scene, "rotation", std::iter::once(time))[0].rotation().unwrap();
        assert!(angle_between(rotation(&before), rotation(&after)) < 1e-9);
    }
}

#[test]
fn true_turns_and_jumps_stay() {
    let linear = |keys: &[(i64, f64)]| {
        let key = |&(frame, degrees): &(i64, f64)| {
            Key::new(RATE.ticks(frame), degrees.to_radians()).with_interpolation(Interpolation::Linear)
        };
        Curve::new(keys.iter().map(key).collect()).unwrap()
    };
    // It gathers speed, as wheels do.
    let every_frame: Vec<(i64, f64)> = (0..=30).map(|frame| (frame, 6.0 * (frame * frame) as f64)).collect();
    for (name, x) in [
        ("a turn over a second", linear(&[(0, 0.0), (24, 360.0)])),
        ("half a turn in a frame", linear(&[(0, 0.0), (1, 180.0), (30, 180.0)])),
        ("a wheel up to a turn a frame", linear(&every_frame)),
    ] {
        let curves = [x, Curve::default(), Curve::default()];
        let before = with(Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves }));
        let (after, ledger) = unwind(&before, &[]).unwrap();
        assert_eq!(ledger.entries[0].fate, Fate::Kept, "{name}");
        assert!(after == before, "{name}");
    }
}
