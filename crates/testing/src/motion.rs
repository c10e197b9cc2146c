//! Whether scenes move alike.

use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::scene::{Scene, Take, Track};
use proptest::prelude::*;

use super::RATE;

/// Few cases of much each: a failing one is shown as it is.
pub fn cases(cases: u32) -> ProptestConfig {
    ProptestConfig { cases, max_shrink_iters: 0, failure_persistence: None, ..ProptestConfig::default() }
}

/// How far two takes may be apart: a distance in metres, an angle in radians, and what else transforms do.
#[derive(Clone, Copy)]
pub struct Within {
    pub distance: f64,
    pub angle: f64,
    pub rest: f64,
}

impl Within {
    /// As far as rounding goes.
    pub const ROUNDING: Within = Within { distance: 1e-6, angle: 1e-6, rest: 1e-6 };

    /// A distance and an angle of so many thousandths; scale is not looked at.
    pub fn thousandths(most: f64) -> Within {
        Within { distance: most * 1e-3, angle: most * 1e-3, rest: f64::INFINITY }
    }
}

/// Whether all nodes of one take are where those of another are, each at its own times in ticks.
pub fn alike(
    first: (&Scene, &Take, &[f64]),
    second: (&Scene, &Take, &[f64]),
    within: Within,
) -> Result<(), TestCaseError> {
    let (mut a, mut b) = (Pose::default(), Pose::default());
    for (rig, nodes) in first.0.rigs.iter().enumerate() {
        let mut evaluators =
            [first, second].map(|(scene, take, _)| Evaluator::new(scene, Some(take), rig).unwrap());
        for (&time, &other) in first.2.iter().zip(second.2) {
            evaluators[0].pose_at(time, &mut a);
            evaluators[1].pose_at(other, &mut b);
            for (position, (id, node)) in nodes.nodes().enumerate() {
                let (local, now) = (a.local[position], b.local[position]);
                let turn = a.local_rotation[position].conjugate() * b.local_rotation[position];
                let angle = 2.0 * turn.xyz().length().min(1.0).asin();
                let distance = local.translation.distance(now.translation) * first.0.space.metres_per_unit;
                let rest = (local.matrix3 - now.matrix3)
                    .to_cols_array()
                    .into_iter()
                    .fold(0.0, |most: f64, v| most.max(v.abs()));
                if distance > within.distance || angle > within.angle || rest > within.rest {
                    let tracks = |take: &Take| {
                        let own = |track: &&Track| (track.target.rig, track.target.node) == (rig, id);
                        take.tracks().map(|(_, track)| track).filter(own).cloned().collect::<Vec<_>>()
                    };
                    return Err(TestCaseError::fail(format!(
                        "'{}' at frame {}: {distance} m, {angle} rad, {rest} apart\n{:#?}\nbecame {:#?}",
                        node.name,
                        time / RATE.ticks_per_frame(),
                        tracks(first.1),
                        tracks(second.1)
                    )));
                }
            }
        }
    }
    Ok(())
}

/// Sixteenths of frames, in ticks, that are no whole frames: curves may jump on those.
pub fn between(first: i64, last: i64) -> Vec<f64> {
    (first * 4..last * 4).map(|quarter| (quarter as f64 + 0.25) * RATE.ticks_per_frame() / 4.0).collect()
}

pub fn frames(first: i64, last: i64) -> Vec<f64> {
    (first..=last).map(|frame| RATE.ticks(frame).as_f64()).collect()
}
