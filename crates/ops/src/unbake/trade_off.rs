//! How many keys other tolerances would take.

use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::ledger::{Entry, Fate};
use nimble_curve_scene::scene::Scene;

use super::{UnbakeError, UnbakeOptions, Unbaked, unbake};
use crate::Tolerance;

/// How many keys other tolerances would give: factors on all of them, with the keys and the largest errors by kind.
pub fn trade_off(
    scene: &Scene,
    options: &UnbakeOptions,
    factors: &[f64],
) -> Result<Vec<TradeOff>, UnbakeError> {
    factors
        .iter()
        .map(|&factor| {
            let options = options.times(factor);
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

impl UnbakeOptions {
    /// The same with all tolerances times a factor.
    pub fn times(&self, factor: f64) -> UnbakeOptions {
        let tolerance_for = self.tolerance_for.iter();
        UnbakeOptions {
            tolerance: self.tolerance.times(factor),
            tolerance_for: tolerance_for.map(|(choice, own)| (choice.clone(), own.times(factor))).collect(),
            tolerance_of: (self.tolerance_of.iter())
                .map(|(channel, own)| (channel.clone(), own.times(factor)))
                .collect(),
            world: self.world.map(|world| world * factor),
            ..self.clone()
        }
    }
}

/// How many keys a result may have.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum KeyLimit {
    /// So many.
    Keys(usize),
    /// So many for one sample.
    Part(f64),
}

/// The angle, in radians, beyond which no tolerance is looked for.
pub(super) const WIDEST: f64 = std::f64::consts::FRAC_PI_3;

/// How near the tolerance that is found is to the tightest one, as a factor.
const NEAR: f64 = 1.02;

/// What the tightest tolerances come to, in proportion to those of `options`, under which what is fitted has no more keys than a limit;
/// also these tolerances. Fitted keys are taken instead of recovered ones where they are fewer.
///
/// More tolerance hardly ever takes more keys, so that the tightest is found by halving; what is given back has been counted.
///
/// # Errors
/// [`UnbakeError::TooFew`] where no tolerance that leaves a motion is wide enough.
pub fn fewest_keys(
    scene: &Scene,
    options: &UnbakeOptions,
    limit: KeyLimit,
) -> Result<(UnbakeOptions, Unbaked), UnbakeError> {
    let options = UnbakeOptions { fewest: true, ..options.clone() };
    let count = |unbaked: &Unbaked, of: fn(&Entry) -> usize| -> usize {
        unbaked.ledger.entries.iter().filter(|entry| entry.fate == Fate::Refitted).map(of).sum()
    };
    let at = |factor: f64| -> Result<(Unbaked, usize, usize), UnbakeError> {
        let unbaked = unbake(scene, &options.times(factor))?;
        let (samples, keys) = (count(&unbaked, |entry| entry.before), count(&unbaked, |entry| entry.after));
        let most = match limit {
            KeyLimit::Keys(keys) => keys,
            KeyLimit::Part(part) => (part * samples as f64).floor() as usize,
        };
        Ok((unbaked, keys, most))
    };
    let widest = WIDEST / options.tolerance.angle;
    let (mut low, mut high) = (None, 1.0_f64.min(widest));
    let mut found = loop {
        let (unbaked, keys, most) = at(high)?;
        if keys <= most {
            break unbaked;
        }
        if high >= widest {
            return Err(UnbakeError::TooFew { asked: most, least: keys });
        }
        low = Some(high);
        high = (4.0 * high).min(widest);
    };
    while low.is_none_or(|low| high / low > NEAR) {
        let middle = low.map_or(high / 4.0, |low: f64| (low * high).sqrt());
        if middle < 1e-4 {
            break;
        }
        match at(middle)? {
            (unbaked, keys, most) if keys <= most => (found, high) = (unbaked, middle),
            _ => low = Some(middle),
        }
    }
    Ok((options.times(high), found))
}
