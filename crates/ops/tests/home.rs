//! Out to another order and home again: the keys that there were, on each axis.

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Interpolation, Key, Ticks};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::scene::{Layer, Scene};
use nimble_curve_testing::dice::Dice;
use nimble_curve_testing::{RATE, rotation_of, scene, track};

/// Three curves as an animator makes them: each axis keyed where it turns, some only once, some never.
fn authored(dice: &mut Dice, holds: bool) -> [Curve; 3] {
    let sizes = [2.6, 1.0, 2.6];
    sizes.map(|size| {
        let count = [0, 1, 2, 3, 4, 5, 7][dice.below(7) as usize];
        let mut frame = dice.below(12) as i64;
        let mut keys = Vec::new();
        for _ in 0..count {
            let key = Key::new(RATE.ticks(frame), dice.between(-size, size));
            let slope = |dice: &mut Dice| dice.between(-2.0, 2.0);
            let key = match dice.below(4) {
                0 => key.with_slope(0.0),
                1 => key.with_slopes(slope(dice), slope(dice)),
                _ => key.with_slope(slope(dice)),
            };
            let way = match dice.below(10) {
                0 => Interpolation::Linear,
                1 if holds => Interpolation::Hold,
                _ => Interpolation::Cubic,
            };
            keys.push(key.with_interpolation(way));
            frame += 2 + dice.below(12) as i64;
        }
        Curve::new(keys).unwrap()
    })
}

fn curves(scene: &Scene) -> [Curve; 3] {
    match &scene.takes[0].layers[0].tracks[0].controller {
        Controller::Euler(euler) => euler.curves.clone(),
        other => panic!("{other:?}"),
    }
}

fn times(curves: &[Curve; 3]) -> [Vec<Ticks>; 3] {
    curves.each_ref().map(|curve| curve.keys().iter().map(|key| key.time).collect())
}

/// Of a thousand rotations, out to each of the other orders in turn and home: key times axis by axis, values there, and the
/// rotation at eighths of frames by another library.
#[test]
fn out_and_home_each_axis_has_the_very_keys_that_it_had() {
    let (count, same, others) = home(false);
    assert_eq!((same, others), (count, 0));
}

/// Where some pieces hold, all axes of another order jump at their ends; at home only those that did, by the turn that they did.
#[test]
fn out_and_home_holds_are_holds_again() {
    let (count, same, others) = home(true);
    assert_eq!((same, others), (count, 0));
}

fn home(holds: bool) -> (usize, usize, usize) {
    let mut dice = Dice(7);
    let (mut same, mut others, mut off, mut keys) = (0, 0, 0.0_f64, 0);
    let count: usize = std::env::var("CASES").ok().and_then(|count| count.parse().ok()).unwrap_or(1000);
    for round in 0..count {
        let curves_then = authored(&mut dice, holds);
        if curves_then.iter().all(|curve| curve.keys().len() < 2) {
            same += 1;
            continue;
        }
        let order = RotationOrder::ALL[1 + round % 5];
        let euler = EulerCurves { order: RotationOrder::Xyz, curves: curves_then.clone() };
        let before = scene(vec![Layer::base(vec![track("rotation", Controller::Euler(euler))])]);
        let to = |scene: &Scene, order: RotationOrder| {
            let tolerance = 0.05_f64.to_radians();
            let options =
                ReorderOptions { to: NewOrder::To(order), only: Vec::new(), tolerance, handles: None };
            reorder(scene, &options).unwrap().0
        };
        let home = to(&to(&before, order), RotationOrder::Xyz);
        let now = curves(&home);
        keys += now.iter().map(|curve| curve.keys().len()).sum::<usize>();
        let is_same = times(&now) == times(&curves_then);
        same += usize::from(is_same);
        // What a curve's last key says of what comes after it is nothing.
        let holds = |curves: &[Curve; 3]| {
            curves.each_ref().map(|curve| {
                let inner = curve.keys().split_last().map_or(&[][..], |(_, inner)| inner);
                inner.iter().map(|key| key.interpolation == Interpolation::Hold).collect::<Vec<_>>()
            })
        };
        assert!(!is_same || holds(&now) == holds(&curves_then), "{round}: {now:?}");
        assert!(now.iter().flat_map(Curve::keys).all(|key| key.value_before.is_none()), "{round}: {now:?}");
        let turned = |a: &Key, b: &Key| (a.value - b.value).abs() > 1e-9;
        let pairs = curves_then.iter().zip(&now).flat_map(|(then, now)| then.keys().iter().zip(now.keys()));
        others += usize::from(is_same && pairs.into_iter().any(|(a, b)| turned(a, b)));
        if !is_same && std::env::var("SAY").is_ok() {
            eprintln!("{round} {order}: {:?}\n{:?}", times(&curves_then), times(&now));
        }
        let angles = |curves: &[Curve; 3], time: f64| {
            DVec3::from_array(curves.each_ref().map(|curve| curve.value_at(time).unwrap_or(0.0)))
        };
        for eighth in 0..60 * 8 {
            let time = f64::from(eighth) * RATE.ticks_per_frame() / 8.0;
            let turn = |curves: &[Curve; 3]| rotation_of(RotationOrder::Xyz, angles(curves, time));
            let apart = turn(&curves_then).conjugate() * turn(&now);
            off = off.max(2.0 * apart.xyz().length().min(1.0).asin());
        }
    }
    println!(
        "{same} of {count} with the very keys, {others} of them by other angles of the same rotations; {keys} keys; off by {:.5} deg",
        off.to_degrees()
    );
    assert!(off <= 2.0 * 0.05_f64.to_radians(), "{}", off.to_degrees());
    (count, same, others)
}
