//! How far the result is from the source: world rotations relative to the reference, of all pairs, at every half frame.

use std::collections::HashMap;

use super::map::PairSpace;
use super::{CarryError, Job, Measured};
use crate::controller::Samples;
use crate::evaluate::{Evaluator, Pose};
use crate::ledger::MeasuredError;
use crate::rig::NodeId;
use crate::rotation::angle_between;
use crate::scene::{Scene, Take};
use crate::value::Quantity;

/// The largest error of each node that is beyond the tolerance.
pub(super) type Excess = HashMap<NodeId, f64>;

impl Job<'_> {
    /// Compares a take with what it became. Where only some channels were selected, there is nothing to compare in the
    /// world.
    pub fn measure(
        &self,
        before: &Take,
        after: &Take,
        is_refitted: bool,
    ) -> Result<(Measured, Excess), CarryError> {
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut worst: Option<NodeId> = None;
        let mut excess = Excess::new();
        if !self.chosen.is_everything() {
            return Ok((Measured { error, worst }, excess));
        }
        let in_parent = |id: NodeId| {
            let by_parent = |id| self.links.of_target(id).is_some_and(|link| link.space == PairSpace::Parent);
            self.onto.upwards(id).any(by_parent)
        };
        // What was let go on purpose is no error.
        let lets_go = |id: NodeId| self.from.upwards(id).any(|id| self.links.left_out.contains(&id));
        let pairs: Vec<(usize, usize, NodeId)> = (self.links.all.iter())
            .filter(|link| link.place.part == 1.0 && !in_parent(link.target) && !lets_go(link.place.node))
            .map(|link| (self.from.position(link.place.node), self.onto.position(link.target), link.target))
            .collect();
        // Between samples there is nothing to be held to: what hangs on sampled turns is compared at the samples.
        let sampled: HashMap<NodeId, &Samples> = (after.tracks())
            .filter(|(_, track)| track.target.property == "rotation")
            .filter_map(|(_, track)| Some((track.target.node, track.controller.samples()?)))
            .collect();
        let grids: Vec<Vec<&Samples>> = (pairs.iter())
            .map(|&(_, _, node)| self.onto.upwards(node).filter_map(|id| sampled.get(&id).copied()).collect())
            .collect();
        let is_between = |samples: &&Samples, time: f64| {
            let (index, part) = samples.locate(time);
            let near =
                |index: usize| index < samples.len() && (samples.time(index).as_f64() - time).abs() < 1.0;
            part > 0.0 && !near(index) && !near(index + 1)
        };
        let result = Scene { takes: Vec::new(), ..self.target.clone() };
        let mut source = Evaluator::new(self.source, Some(before), 0)?;
        let mut target = Evaluator::new(&result, Some(after), 0)?;
        let (mut pose, mut carried) = (Pose::default(), Pose::default());
        let rate = self.source.rate;
        let frames = (rate.frame(before.range.first) * 2.0).ceil() as i64
            ..=(rate.frame(before.range.last) * 2.0) as i64;
        // Where nothing was refitted, whole frames are enough to see that nothing went wrong.
        for half in frames.filter(|half| is_refitted || half % 2 == 0) {
            let time = half as f64 * 0.5 * rate.ticks_per_frame();
            source.pose_at(time, &mut pose);
            target.pose_at(time, &mut carried);
            for (&(a, b, node), grids) in pairs.iter().zip(&grids) {
                if grids.iter().any(|samples| is_between(samples, time)) {
                    continue;
                }
                let left = pose.world_rotation[a] * self.from.world[a].conjugate();
                let right = carried.world_rotation[b] * self.onto.world[b].conjugate();
                let angle = angle_between(left, right);
                if angle > error.largest || worst.is_none() {
                    worst = Some(node);
                }
                error.take(angle, half as f64 * 0.5);
                if angle > self.tolerance.angle {
                    let entry = excess.entry(node).or_insert(0.0);
                    *entry = angle.max(*entry);
                }
            }
        }
        Ok((Measured { error, worst }, excess))
    }
}
