//! What is held before and behind samples is known, and looked at: a result that is elsewhere there is named.

use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::judge::{Claim, Limits, Sampling, judge};
use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

/// Samples of a number from a frame on, in the first of three components.
fn samples(kind: SampleKind, first: i64, values: &[f64]) -> Controller {
    let values = values.iter().flat_map(|value| [*value, 0.0, 0.0]).collect();
    Controller::Samples(Samples { start: RATE.ticks(first), rate: RATE, kind, values })
}

/// Straight lines through frames and values, in the first of three components.
fn lines(keys: &[(i64, f64)]) -> Controller {
    let key = |&(frame, value): &(i64, f64)| {
        Key::new(RATE.ticks(frame), value).with_interpolation(Interpolation::Linear)
    };
    let curve = Curve::new(keys.iter().map(key).collect()).unwrap();
    let still = Curve::constant(RATE.ticks(keys[0].0), 0.0);
    Controller::Components(vec![curve, still.clone(), still])
}

/// A node that moves in a take of 40 frames.
fn scene(tracks: Vec<(&str, Controller)>) -> Scene {
    let mut rig = Rig::new("cart");
    let node = Node::new("body", NodeKind::Joint, glam::DVec3::ZERO, RotationOrder::Xyz);
    let body = rig.add(None, node).unwrap();
    let track = |(property, controller): (&str, Controller)| Track {
        target: Target::new(0, body, property),
        controller,
    };
    let range = TimeRange::new(RATE.ticks(0), RATE.ticks(40));
    let take = Take::new("take", range, vec![Layer::base(tracks.into_iter().map(track).collect())]);
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take)
}

/// When a result is off by most, in frames; nothing where it is what the source is.
fn off_at(source: &Scene, result: &Scene, sampling: Sampling) -> Option<f64> {
    let claim = Claim { sampling, ..Claim::same(source, result) };
    let limits = Limits { angle: 1e-3, length: 1e-3, number: 1e-3, ..Limits::NONE };
    judge(source, result, &claim, limits, 1.0).beyond().map(|(_, error, _)| error.frame)
}

/// A ramp from frame 10 to frame 20.
const RAMP: [f64; 11] = [0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0, 1.1];

fn row(of: i64) -> f64 {
    RAMP[of.clamp(0, 10) as usize]
}

#[test]
fn beside_samples_a_result_is_looked_at_where_they_are_held() {
    let place = |controller| scene(vec![(TRANSLATION, controller)]);
    let source = place(samples(SampleKind::Vector, 10, &RAMP));
    let all: Vec<f64> = (0..=40).map(|frame| row(frame - 10)).collect();
    let bumped = |at: usize| {
        let mut rows = all.clone();
        rows[at] += 0.05;
        samples(SampleKind::Vector, 0, &rows)
    };
    let cases = [
        ("the same", samples(SampleKind::Vector, 10, &RAMP), None),
        ("held samples written out", samples(SampleKind::Vector, 0, &all), None),
        ("as curves", lines(&[(10, 0.1), (20, 1.1)]), None),
        ("goes on behind them", lines(&[(10, 0.1), (20, 1.1), (30, 1.3)]), Some(30.0)),
        ("comes back behind them", lines(&[(10, 0.1), (20, 1.1), (26, 1.3), (32, 1.1)]), Some(26.0)),
        ("begins elsewhere", lines(&[(4, 0.0), (10, 0.1), (20, 1.1)]), Some(0.0)),
        ("a sample before them", bumped(3), Some(3.0)),
        ("a sample among them", bumped(13), Some(13.0)),
        ("a sample behind them", bumped(33), Some(33.0)),
    ];
    for (what, controller, wanted) in cases {
        let found = off_at(&source, &place(controller), Sampling::Plain);
        assert_eq!(found, wanted, "{what}");
    }
}

#[test]
fn of_two_samplings_each_is_looked_at_where_the_other_is_held() {
    let turns = |bump: Option<usize>| {
        let rows: Vec<f64> = (0..=40)
            .map(|frame| 0.01 * frame as f64 + if Some(frame) == bump { 0.05 } else { 0.0 })
            .collect();
        samples(SampleKind::Euler(RotationOrder::Xyz), 0, &rows)
    };
    let both =
        |bump: Option<usize>, place: Controller| scene(vec![(ROTATION, turns(bump)), (TRANSLATION, place)]);
    let ramp = || samples(SampleKind::Vector, 10, &RAMP);
    let source = both(None, ramp());
    assert_eq!(off_at(&source, &both(None, ramp()), Sampling::Plain), None);
    for frame in [0, 5, 15, 30, 40] {
        let wrong = both(Some(frame), ramp());
        assert_eq!(off_at(&source, &wrong, Sampling::Plain), Some(frame as f64), "frame {frame}");
    }
    // What moves where the other one is held, too.
    let wrong = both(None, lines(&[(10, 0.1), (20, 1.1), (30, 1.3)]));
    assert!(off_at(&source, &wrong, Sampling::Plain).is_some());
}

#[test]
fn samples_of_a_curve_end_where_it_is_held() {
    let source = scene(vec![(TRANSLATION, lines(&[(0, 0.0), (40, 4.0)]))]);
    let sampled = |count: i64| {
        let rows: Vec<f64> = (0..count).map(|frame| 0.1 * frame as f64).collect();
        scene(vec![(TRANSLATION, samples(SampleKind::Vector, 0, &rows))])
    };
    assert_eq!(off_at(&source, &sampled(41), Sampling::Plain), None);
    assert_eq!(off_at(&source, &sampled(31), Sampling::Plain), Some(40.0), "the last ten frames are missing");
}
