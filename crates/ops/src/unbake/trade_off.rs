//! How many keys other tolerances would take.

use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::scene::Scene;

use super::{UnbakeError, UnbakeOptions, unbake};
use crate::Tolerance;

/// How many keys other tolerances would give: factors on all of them, with the keys and the largest errors by kind.
pub fn trade_off(
    scene: &Scene,
    options: &UnbakeOptions,
    factors: &[f64],
) -> Result<Vec<TradeOff>, UnbakeError> {
    let scaled = |tolerance: &Tolerance, factor: f64| Tolerance {
        angle: tolerance.angle * factor,
        length: tolerance.length * factor,
        number: tolerance.number * factor,
    };
    factors
        .iter()
        .map(|&factor| {
            let tolerance_for = options.tolerance_for.iter();
            let options = UnbakeOptions {
                tolerance: scaled(&options.tolerance, factor),
                tolerance_for: tolerance_for.map(|(p, t)| (p.clone(), scaled(t, factor))).collect(),
                world: options.world.map(|world| world * factor),
                ..options.clone()
            };
            let unbaked = unbake(scene, &options)?;
            let refitted = unbaked.ledger.entries.iter().filter(|entry| entry.fate == Fate::Refitted);
            let error = |quantity| unbaked.ledger.error(quantity).map(|error| error.largest);
            Ok(TradeOff {
                factor,
                tolerance: options.tolerance,
                keys: refitted.map(|entry| entry.after).sum(),
                angle: error(Quantity::Angle),
                length: error(Quantity::Length),
            })
        })
        .collect()
}

/// What another tolerance would give.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TradeOff {
    /// Times the tolerance that was asked for.
    pub factor: f64,
    /// The tolerance.
    pub tolerance: Tolerance,
    /// The keys that it needs.
    pub keys: usize,
    /// The largest error of a rotation, in radians.
    pub angle: Option<f64>,
    /// The largest error of a position, in units of the scene.
    pub length: Option<f64>,
}
