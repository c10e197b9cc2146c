//! Unbake: samples become sparse curves within a bound that is measured on the result.

use std::collections::HashMap;

mod job;
mod trade_off;
use self::job::Job;
pub use self::trade_off::{KeyLimit, TradeOff, fewest_keys, trade_off};

mod outside;
mod stretch;
mod world;

use nimble_curve_curves::curve::Ticks;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::choice::{Choice, NothingChosen, chosen_nodes};
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::Scene;
use thiserror::Error;

use super::Tolerance;

/// How often tracks are fitted anew for a bound in world space, at most.
const ROUNDS: usize = 40;

/// Which key times are common.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum KeySets {
    /// Each channel has key times of its own: the fewest keys.
    #[default]
    Free,
    /// One set a node: its channels are keyed together.
    Node,
    /// One set for all nodes: poses stay poses.
    Pose,
}

/// Which order rotations are fitted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum FitOrder {
    /// Euler samples in their own, quaternions in that of their node.
    #[default]
    Own,
    /// This one.
    To(RotationOrder),
    /// For each node the one that stays farthest from its pole, its own where that stays 35° away.
    Best,
}

/// How to unbake.
#[derive(Clone, Debug, Default)]
pub struct UnbakeOptions {
    /// How far the result may be from the samples.
    pub tolerance: Tolerance,
    /// Other tolerances for the channels that a pattern fits, by address; the last that fits counts.
    pub tolerance_for: Vec<(Choice, Tolerance)>,
    /// The tolerances of single channels, by address, where none of `tolerance_for` is theirs: those of their noise.
    pub tolerance_of: HashMap<String, Tolerance>,
    /// Whether each channel is held to its tolerance by itself, instead of a rotation's angle or a place's distance.
    pub per_channel: bool,
    /// How far a joint may be off in world space, in metres.
    pub world: Option<f64>,
    /// Patterns of nodes that must not move by more than `world`, peak to peak, while they stand still.
    pub watch: Vec<String>,
    /// Which key times are common.
    pub keys: KeySets,
    /// The order in which rotations are fitted.
    pub order: FitOrder,
    /// Whether keys may have weighted handles: recovered where samples were baked from such, fitted where they save keys.
    pub handles: Handles,
    /// Whether rotations become quaternion keys instead of Euler curves.
    pub quaternions: bool,
    /// Instants at which there must be keys.
    pub keep: Vec<Ticks>,
    /// The range to unbake. Outside it samples stay samples, below a layer that plays inside it; keys stay keys.
    pub range: Option<TimeRange>,
    /// Addresses of the channels to unbake; all where there are none.
    pub only: Vec<String>,
    /// Whether curves that are sparse already are fitted anew; the keys that they have stay where no fewer do.
    pub again: bool,
    /// Whether fitted keys are taken instead of recovered ones where they are fewer.
    pub fewest: bool,
}

/// Why nothing can be unbaked.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum UnbakeError {
    /// A pattern that means nothing.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// So few keys that they would say another motion.
    #[error(
        "{asked} keys are too few: at {} degrees off there are still {least}",
        trade_off::WIDEST.to_degrees().round()
    )]
    TooFew {
        /// How many there may be.
        asked: usize,
        /// How many there are at least.
        least: usize,
    },
    /// A pose cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// What unbaking came to.
#[derive(Clone, Debug)]
pub struct Unbaked {
    /// The scene with curves.
    pub scene: Scene,
    /// What became of every track; the notes say which keys were recovered.
    pub ledger: Ledger,
    /// Under a bound in world space: the largest distance of a joint (units of the scene), its frame, and the largest
    /// motion added to a watched node while it stood still.
    pub world: Option<(f64, f64, f64)>,
}

/// Turns what is baked in all takes into curves; all other tracks stay as they are.
///
/// Samples count as baked, and so do curves with a key at every step. Keys that the samples were baked from are
/// recovered where that can be; elsewhere keys lie on samples. The error at the samples is within the tolerance: for
/// rotations the angle between sample and result, for positions the distance. Channels are worked on in parallel in the
/// current thread pool; the result is the same for any number of threads.
///
/// # Errors
/// See [`UnbakeError`].
pub fn unbake(scene: &Scene, options: &UnbakeOptions) -> Result<Unbaked, UnbakeError> {
    let addresses = Addresses::new(scene);
    let mut ledger = Ledger::default();
    let mut result = scene.clone();
    let mut world: Option<(f64, f64, f64)> = None;
    let watched: Vec<NodeRef> = chosen_nodes(scene, &options.watch)?.into_iter().collect();
    for (index, take) in scene.takes.iter().enumerate() {
        let job = Job { scene, take, addresses: &addresses, options };
        let mut items = job.items();
        match options.world.map(|metres| metres / scene.space.metres_per_unit) {
            None => job.fit(&mut items),
            Some(distance) => {
                let measured = job.fit_in_world(&mut items, distance, &watched)?;
                world =
                    Some(world.map_or(measured, |world| if measured.0 > world.0 { measured } else { world }));
            }
        }
        let (layers, entries) = job.finished(&items);
        for new in layers.iter().filter(|new| !take.layers.iter().any(|own| own.name == new.name)) {
            ledger.notes.push(format!(
                "take '{}': the layer '{}' plays inside the range, and outside it the samples below, as they were",
                take.name, new.name
            ));
        }
        result.takes[index].layers = layers;
        ledger.entries.extend(entries);
    }
    Ok(Unbaked { scene: result, ledger, world })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fitting::fit_samples;
    use nimble_curve_curves::fit::oracle::{capture, least_free, least_joined};
    use nimble_curve_curves::fit::{ErrorBound, Interval};
    use nimble_curve_curves::time::FrameRate;
    use nimble_curve_scene::controller::{SampleKind, Samples};
    use nimble_curve_scene::scene::PropertyKind;

    /// Shares of a rotation's tolerance for its three channels, as squares in sixths: together the whole.
    const SHARES: [[u32; 3]; 10] = [
        [2, 2, 2],
        [1, 2, 3],
        [1, 3, 2],
        [2, 1, 3],
        [2, 3, 1],
        [3, 1, 2],
        [3, 2, 1],
        [1, 1, 4],
        [1, 4, 1],
        [4, 1, 1],
    ];

    /// Our keys beside two optima by exhaustive dynamic programming: with the bound of the rotation shared out between the
    /// channels, as is best for each rotation; and, below any optimum, with all the room for each channel that any errors of
    /// the others could leave it: the tolerance, for the outer axes over the cosine of the middle angle. Prints the
    /// figures of docs/methods.md with `--nocapture`.
    #[test]
    fn rotations_are_near_their_optimum() {
        let tolerance = 0.1_f64.to_radians();
        let rotations = 16;
        // Ratios to the optimum of shares and to the lower bound, by tangents: joined, free.
        let mut ratios = [[(0.0, 0.0_f64); 2]; 2];
        for seed in 0..rotations {
            let channels: Vec<Vec<f64>> = (0..3)
                .map(|axis| capture(3 * seed + axis, 300, 0.02).iter().map(|v| v.to_radians()).collect())
                .collect();
            let values =
                (0..300).flat_map(|index| [0, 1, 2].map(|axis: usize| channels[axis][index])).collect();
            let kind = SampleKind::Euler(RotationOrder::Zxy);
            let samples = Samples { start: Ticks::ZERO, rate: FrameRate::FPS_120, kind, values };
            let (fitted, error) =
                fit_samples(&samples, PropertyKind::Rotation, RotationOrder::Zxy, tolerance).unwrap();
            assert!(error.largest <= tolerance);
            let ours = fitted.key_count() as f64;
            let around = |half: f64| Interval { low: -half, high: half };
            let least = |of: fn(&[f64], ErrorBound<'_>) -> usize, half: &dyn Fn(usize, f64) -> f64| {
                let keys = |axis: usize| {
                    let room: Vec<Interval> =
                        channels[0].iter().map(|middle| around(half(axis, *middle))).collect();
                    of(&channels[axis], ErrorBound::by_sample(tolerance, &room))
                };
                keys(0) + keys(1) + keys(2)
            };
            let below = |axis: usize, middle: f64| match axis {
                0 => tolerance,
                _ => tolerance / middle.cos(),
            };
            // The error's square is the sum of the channels' and twice that of the outer ones times the sine between them.
            let shared = |shares: [u32; 3]| {
                let part = shares.map(|share| (f64::from(share) / 6.0).sqrt());
                move |axis: usize, middle: f64| {
                    tolerance * part[axis] / (1.0 + 2.0 * middle.sin().abs() * part[1] * part[2]).sqrt()
                }
            };
            let optima: [fn(&[f64], ErrorBound<'_>) -> usize; 2] =
                [|samples, room| least_joined(samples, room).unwrap(), least_free];
            for (of, ratios) in optima.into_iter().zip(&mut ratios) {
                let best = SHARES.into_iter().map(|shares| least(of, &shared(shares))).min().unwrap();
                for (least, ratio) in [best, least(of, &below)].into_iter().zip(ratios) {
                    let own = ours / least as f64;
                    *ratio = (ratio.0 + own / rotations as f64, ratio.1.max(own));
                }
            }
        }
        for (ratios, tangents) in ratios.iter().zip(["joined, as ours", "free on both sides"]) {
            for ((mean, worst), of) in ratios.iter().zip(["of a rotation", "below that of a rotation"]) {
                println!("| {of} | {tangents} | {mean:.3} | {worst:.2} |");
            }
        }
        let [[(best, _), (below, _)], _] = ratios;
        assert!(best < 1.05 && below < 1.15, "{best} {below}");
    }
}
