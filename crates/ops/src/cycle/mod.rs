//! Cycles: which ranges loop, ends made to meet, and loops written out.

mod close;
mod extend;
mod find;
mod turns;
pub use self::close::close;
pub use self::extend::extend;
pub use self::find::{Candidate, find};

mod claim;

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{RotationMixing, Scene, Take, Target};
use thiserror::Error;

use super::channel::Tolerance;
use super::travel::carrying;

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

/// Which components of a track belong to where the body goes, and so do not come back to where they were: its places on the
/// ground and its turn about the up axis, on its carrier and what stands above it.
struct RootMotionChannels {
    up: usize,
    nodes: Vec<NodeRef>,
    /// Those of them whose turn about the up axis acts last, so that it can go on from round to round.
    turning: Vec<NodeRef>,
}

impl RootMotionChannels {
    fn of(scene: &Scene, take: &Take) -> RootMotionChannels {
        let (up, nodes) = (scene.space.up.index(), carrying(scene, take));
        let turning = nodes.iter().copied().filter(|node| turns_last(scene, take, *node, up)).collect();
        RootMotionChannels { up, nodes, turning }
    }

    fn goes(&self, target: &Target, controller: &Controller, component: usize) -> bool {
        let node = (target.rig, target.node);
        if !self.nodes.contains(&node) {
            return false;
        }
        match target.property.as_str() {
            TRANSLATION => component != self.up,
            ROTATION => {
                component == self.up
                    && controller.outermost_axis() == Some(self.up)
                    && self.turning.contains(&node)
            }
            _ => false,
        }
    }
}

/// Whether what a take does to a node's rotation sums up to angles of one order whose turn about an axis acts last.
fn turns_last(scene: &Scene, take: &Take, (rig, node): NodeRef, up: usize) -> bool {
    let target = Target { rig, node, property: ROTATION.to_owned() };
    let layers = take.layers.iter().enumerate().filter(|(_, layer)| !layer.muted);
    let own = layers.filter_map(|(index, layer)| {
        let track = layer.tracks.iter().find(|track| track.target == target)?;
        let adds_up = index == 0 || layer.rotations == RotationMixing::Angles;
        Some((index, track.controller.order().filter(|_| adds_up)))
    });
    let layers: Vec<_> = own.collect();
    // Where nothing replaces the rest it is one of the summands.
    let rest = scene.rigs[rig].rest_value(node, ROTATION).and_then(|rest| rest.order());
    let is_replaced = layers.first().is_some_and(|(index, _)| *index == 0);
    let mut orders = layers.iter().map(|(_, order)| *order).chain((!is_replaced).then_some(rest));
    match orders.next() {
        Some(Some(first)) => first.axes().0 == up && orders.all(|order| order == Some(first)),
        _ => false,
    }
}
