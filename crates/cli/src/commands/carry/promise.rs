//! What is promised of carried takes.

use std::sync::Arc;

use nimble_curve_core::judge::{Claim, Clock, Scope, Span};
use nimble_curve_core::ops::carry::Carried;
use nimble_curve_core::ops::place::Placed;
use nimble_curve_core::rig::Rig;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::{Ticks, TimeRange};

use super::landing::Landed;
use crate::args::Carry;
use crate::gate::{Beside, Held, InWorld, Promise};

/// What is promised of carried takes is made of.
pub(super) struct Promised<'a> {
    pub(super) args: &'a Carry,
    pub(super) source: &'a Scene,
    pub(super) chosen: &'a Scene,
    pub(super) target: &'a Arc<Scene>,
    pub(super) carried: &'a Carried,
}

impl Promised<'_> {
    /// What carried takes are in terms of the source, and the target's own in terms of the target.
    pub(super) fn carried(&self, result: &Scene, landed: &[Landed]) -> Promise {
        let mut claim = self.carried.claim.clone();
        let own = self.target.takes.len();
        let chosen = Claim::same(self.source, self.chosen);
        claim.spans = (claim.spans.iter())
            .filter_map(|span| {
                let (landed, before) = (landed.get(span.result - own)?, chosen.spans.get(span.source)?);
                let held = self.args.pose.map(|at| Clock {
                    result: Ticks::ZERO,
                    source: self.source.rate.ticks_at(at),
                    speed: 0.0,
                });
                let clock = held.unwrap_or(before.clock).then(&landed.clock);
                Some(Span { source: before.source, result: landed.take, range: landed.range, clock })
            })
            .collect();
        for excuse in &mut claim.excuses {
            excuse.take = chosen.spans.get(excuse.take).map_or(excuse.take, |span| span.source);
        }
        for hold in &mut claim.holds {
            hold.take = chosen.spans.get(hold.take).map_or(hold.take, |span| span.source);
            if let Some(at) = self.args.pose {
                let at = self.source.rate.ticks_at(at);
                hold.times = vec![TimeRange::new(at, at)];
            }
        }
        claim.takes_chosen = true;
        let tolerance = self.args.asked();
        // What was cut and flattened before may be off by its part.
        // So often may a tolerance of each joint add up.
        let chains = self.target.rigs.iter().map(Rig::longest_chain);
        let depth = if self.args.per_joint { chains.max().unwrap_or(1) } else { 1 };
        let world = InWorld { metres: f64::INFINITY, angle: depth as f64 * tolerance.angle };
        let mut of_target = Claim::same(self.target, result);
        of_target.spans.retain(|span| self.target.takes[span.source].name == result.takes[span.result].name);
        of_target.takes_chosen = self.args.without_target_takes;
        let beside = Beside {
            source: Arc::clone(self.target),
            claim: of_target,
            scope: Some(Scope::AllButLayers),
            held: Held::ToLimits,
        };
        Promise { world: Some(world), beside: vec![beside], ..Promise::of(claim, tolerance, Scope::Timeline) }
    }
}

/// What is promised of a take that another one was placed onto.
pub(super) fn of_placed(into: &Scene, placed: Placed, args: &Carry) -> Promise {
    let into = Arc::new(into.clone());
    let mut old = placed.old.into_iter();
    let first = old.next().unwrap_or_else(Claim::nothing);
    let beside = |source: &Arc<Scene>, claim: Claim| Beside {
        source: Arc::clone(source),
        claim,
        scope: None,
        held: Held::ToLimits,
    };
    let mut others: Vec<Beside> = old.map(|claim| beside(&into, claim)).collect();
    others.extend(placed.others.into_iter().map(|(source, claim)| beside(&Arc::new(source), claim)));
    Promise { beside: others, ..Promise::of(first, args.asked(), Scope::Timeline) }
}
