//! Random takes made to loop: the ends meet, and nothing moves before the stretch over which the way there is spread.

mod common;

use common::RATE;
use common::motion::{THOUSANDTH, cases};
use common::scenes::{Contents, any_scene};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Side};
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::cycle::{CycleOptions, close};
use nimble_curve_core::scene::{Take, Track};
use nimble_curve_core::time::TimeRange;
use proptest::prelude::*;
use proptest::sample::select as one_of;

const FIRST: i64 = 4;
const LAST: i64 = 30;

/// The curves of a track, but those that carry the body along: its places on the ground, and turns, which come round.
fn curves(track: &Track, up: usize) -> Vec<Curve> {
    let all = track.controller.curves().to_vec();
    match (track.target.property.as_str(), &track.controller) {
        ("translation", _) => {
            all.into_iter().enumerate().filter(|(axis, _)| *axis == up).map(|(_, c)| c).collect()
        }
        (_, Controller::Components(_)) => all,
        _ => Vec::new(),
    }
}

proptest! {
    #![proptest_config(cases(80))]

    #[test]
    fn the_ends_meet_and_nothing_moves_before_the_last_stretch(
        scene in any_scene(Contents::SIMPLE), over in one_of(vec![0, 3, 8, 26]),
    ) {
        let range = TimeRange::new(RATE.ticks(FIRST), RATE.ticks(LAST));
        let name = scene.takes[0].name.clone();
        let options = CycleOptions { take: Some(name), range: Some(range), tolerance: THOUSANDTH };
        let (closed, ledger) = close(&scene, RATE.ticks(over), &options).unwrap();
        let up = scene.space.up.index();
        let tracks = |take: &Take| take.tracks().map(|(_, track)| track.clone()).collect::<Vec<_>>();
        let pairs = tracks(&scene.takes[0]).into_iter().zip(tracks(&closed.takes[0]));
        for ((old, new), entry) in pairs.zip(&ledger.entries) {
            prop_assert_eq!(&old.target, &new.target);
            if entry.fate == Fate::Kept {
                prop_assert!(old == new, "{} is said to be kept", entry.channel);
            }
            for curve in curves(&new, up).iter().filter(|curve| !curve.is_empty()) {
                let at = |frame: i64, side: Side| curve.value_on(RATE.ticks(frame).as_f64(), side).unwrap();
                let (first, last) = (at(FIRST, Side::Right), at(LAST, Side::Right));
                prop_assert!((first - last).abs() < 1e-9, "{}: {first} and {last} in {curve:?}", entry.channel);
            }
            // Where it is spread over nothing the last key alone moves, and the piece before it with it.
            for (old, new) in old.controller.curves().iter().zip(new.controller.curves()).filter(|_| over > 0) {
                for half in 0..2 * (LAST - over) {
                    let time = (half as f64 + 0.4) * 0.5 * RATE.ticks_per_frame();
                    let (was, is) = (old.value_at(time), new.value_at(time));
                    let same = was.unwrap_or(0.0) - is.unwrap_or(0.0);
                    prop_assert!(same.abs() < 1e-9, "{} at frame {}: {was:?} became {is:?}", entry.channel, half as f64 / 2.0);
                }
            }
        }
        // Elsewhere nothing has changed.
        prop_assert!(closed.takes[1..] == scene.takes[1..]);
    }
}
