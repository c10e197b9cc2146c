//! Cycles: which ranges loop, ends made to meet, and loops written out.

mod carriers;
mod close;
mod extend;
mod find;
mod turns;
mod ways;
pub use self::close::close;
pub use self::extend::extend;
pub use self::find::{Candidate, find};

mod claim;

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::scene::Scene;
use thiserror::Error;

use self::carriers::RootMotionChannels;
use super::channel::Tolerance;

pub use claim::{Closed, closed, extended};

/// How to make ends meet, or a loop longer.
#[derive(Clone, Debug)]
pub struct CycleOptions {
    /// The take; the only one where left out.
    pub take: Option<String>,
    /// The range that loops; the take's where left out.
    pub range: Option<TimeRange>,
    /// How far controllers that have to change may be from their source.
    pub tolerance: Tolerance,
}

/// How ends are made to meet.
#[derive(Clone, Debug)]
pub struct Closing {
    /// Over how long before the end the correction is spread; the last key alone takes it where this is nothing.
    pub over: Ticks,
    /// The addresses of the channels that are closed; all where there are none.
    pub only: Vec<String>,
}

impl Closing {
    /// All channels, over the last stretch of that length.
    pub fn over(over: Ticks) -> Closing {
        Closing { over, only: Vec::new() }
    }

    /// Whether a channel is closed.
    fn takes(&self, channel: &String) -> bool {
        self.only.is_empty() || self.only.contains(channel)
    }
}

/// Loops that cannot be made.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CycleError {
    /// No take of that name.
    #[error("there is no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoTake {
        /// The name.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// Several to choose from, or none.
    #[error("name one take with --take: {0}")]
    WhichTake(String),
    /// A range of one frame.
    #[error("the range has no length: a loop needs two frames at least")]
    NoLength,
    /// A range outside the take.
    #[error("the range is not inside the take, which is {0}:{1}")]
    Outside(f64, f64),
    /// A controller that cannot loop.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// The take that is meant, and the range in it.
fn chosen(scene: &Scene, options: &CycleOptions) -> Result<(usize, TimeRange), CycleError> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    let index = match &options.take {
        Some(name) => names().position(|own| own == name).ok_or_else(|| CycleError::NoTake {
            name: name.clone(),
            similar: nimble_curve_scene::similar::similar(name, names()).map(str::to_owned),
        })?,
        None if scene.takes.len() == 1 => 0,
        None => return Err(CycleError::WhichTake(names().collect::<Vec<_>>().join(", "))),
    };
    let take = &scene.takes[index];
    let range = options.range.unwrap_or(take.range);
    if range.first >= range.last {
        return Err(CycleError::NoLength);
    }
    let all = take.key_range().map_or(take.range, |keys| keys.union(take.range));
    if !(all.contains(range.first) && all.contains(range.last)) {
        let frame = |time| scene.rate.frame(time);
        return Err(CycleError::Outside(frame(all.first), frame(all.last)));
    }
    Ok((index, range))
}
