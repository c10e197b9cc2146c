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
        let mut times: Vec<Ticks> = Vec::with_capacity(codes.len());
        for code in codes {
            let seconds = code / self.codes;
            if (seconds * TICKS_PER_SECOND as f64).abs() > MAX_TICKS as f64 {
                return Err(Fault::in_part(
                    attribute.as_str(),
                    "a sample lies more than 36 days from the start",
                ));
            }
            let time = self.clock.time((seconds, slack(seconds)));
            // Codes a hair apart say two values of one instant; the later one stands a tick behind.
            times.push(times.last().map_or(time, |last| time.max(Ticks(last.0 + 1))));
        }
        Ok(times)
    }
}
