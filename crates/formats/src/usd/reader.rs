//! What is made of a layer while it is read.

use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::rig::{NodeId, Rig};
use nimble_curve_core::scene::{Target, Track};
use nimble_curve_core::time::{MAX_TICKS, TICKS_PER_SECOND};
use openusd::sdf::Path;

use super::layer::Layer;
use crate::error::Fault;
use crate::grid::Clock;

/// The work of reading.
pub struct Reader<'a> {
    pub layer: &'a Layer<'a>,
    /// Time codes a second.
    pub codes: f64,
    pub clock: Clock,
    pub rig: Rig,
    pub paths: Vec<String>,
    pub tracks: Vec<Track>,
    pub notes: Vec<String>,
}

impl Reader<'_> {
    /// A track on a node.
    pub fn push(&mut self, node: NodeId, property: &str, controller: Controller) {
        let target = Target { rig: 0, node, property: property.to_owned() };
        self.tracks.push(Track { target, controller });
    }

    /// The instants of time codes.
    pub fn times(&self, codes: &[f64], attribute: &Path) -> Result<Vec<Ticks>, Fault> {
        let slack = |seconds: f64| 1e-9 + seconds.abs() * 1e-12;
        let seconds = |code: &f64| code / self.codes;
        if codes.iter().any(|code| (seconds(code) * TICKS_PER_SECOND as f64).abs() > MAX_TICKS as f64) {
            return Err(Fault::in_part(attribute.as_str(), "a sample lies more than 36 days from the start"));
        }
        let said = codes.iter().map(seconds).map(|seconds| (seconds, slack(seconds)));
        let mut times = self.clock.times(said, |_, _| false);
        // Codes a hair apart say two values of one instant: the one that counts from there on stands on it.
        for at in 1..times.len() {
            if times[at] <= times[at - 1] {
                let has_room = at < 2 || times[at - 2] < Ticks(times[at].0 - 1);
                match has_room {
                    true => times[at - 1] = Ticks(times[at].0 - 1),
                    false => times[at] = Ticks(times[at - 1].0 + 1),
                }
            }
        }
        Ok(times)
    }
}
