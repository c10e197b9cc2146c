//! How far a result is off in the world.

use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::evaluate::{EvaluateError, Poses};
use nimble_curve_scene::parts::axes_apart;
use nimble_curve_scene::scene::Scene;

use crate::Tolerance;

/// At how many instants of a take the world is looked at, about.
const MOST_LOOKS: i64 = 40_000;

/// By how much each node's largest error in the world is beyond the tolerance in one take, as a factor: at quarters of frames, and at some
/// more instants; by rig, in the order of its nodes.
pub type Beyond = Vec<Vec<[f64; 2]>>;

/// How far each node of a result is beyond the tolerance in the world, take by take; `more` are instants of each.
pub fn beyond(
    scene: &Scene,
    result: &Scene,
    tolerance: &Tolerance,
    more: &[Vec<f64>],
) -> Result<Vec<Beyond>, EvaluateError> {
    let length = tolerance.of(Quantity::Length, &scene.space);
    let mut all = Vec::with_capacity(scene.takes.len());
    for (index, (from, to)) in scene.takes.iter().zip(&result.takes).enumerate() {
        let (mut source, mut made) = (Poses::new(scene, from)?, Poses::new(result, to)?);
        let rate = scene.rate;
        let (first, last) =
            (rate.frame(from.range.first).floor() as i64, rate.frame(from.range.last).ceil() as i64);
        // Between samples nobody knows the motion.
        let is_sampled = from.active_tracks().any(|(_, track)| track.controller.samples().is_some());
        let parts: i64 = if is_sampled { 1 } else { 4 };
        let part = rate.ticks_per_frame() / parts as f64;
        // Of takes of hours no more instants than of one of minutes.
        let stride = ((last - first) * parts / MOST_LOOKS + 1) as usize;
        let mut far: Beyond = scene.rigs.iter().map(|rig| vec![[0.0; 2]; rig.len()]).collect();
        let mut look = |time: f64, of: usize| {
            let time: f64 = time.clamp(Ticks::as_f64(from.range.first), from.range.last.as_f64());
            source.at(time);
            made.at(time);
            let pairs = source.poses.iter().zip(&made.poses).flat_map(|(a, b)| a.world.iter().zip(&b.world));
            for (most, (a, b)) in far.iter_mut().flatten().zip(pairs) {
                let place = (a.translation - b.translation).length() / length;
                most[of] = most[of].max(place).max(axes_apart(a.matrix3, b.matrix3) / tolerance.angle);
            }
        };
        for step in (first * parts..=last * parts).step_by(stride) {
            look(step as f64 * part, 0);
        }
        for time in more.get(index).into_iter().flatten() {
            look(*time, 1);
        }
        all.push(far);
    }
    Ok(all)
}
