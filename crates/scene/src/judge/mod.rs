//! The judge: says how far a result is from what it was made of, and is the only one to say so.
//!
//! Operations measure while they work, to steer; what they saw is the piece that they worked on. The judge sees none of
//! that. It is given the scene that came in, the one that goes out and a [`Claim`] (which node corresponds to which, over
//! which time), evaluates both scenes whole, and looks where the data says that something can happen: on both sides of
//! every key of either scene, at instants between, and closer where those are farthest apart. What sleeps is switched on,
//! one by one: an animator may do so tomorrow. What cannot be evaluated is named as not judged; whatever is not finite counts as infinitely far.

mod asleep;
mod between;
mod claim;
mod follow;
mod hold;
mod instants;
mod inventory;
mod local;
mod look;
mod means;
mod node;
mod number;
mod sampled;
mod scenes;
mod sides;
mod verdict;
mod world;

pub use claim::{By, Claim, Clock, Excuse, Sampling, Span};
pub use inventory::{Scope, inventory};
pub use means::{Amount, Edit, Edited, Factor, Hold, Shift, Standing, Turn};
pub use verdict::{Asleep, Judged, Limits, Part, Verdict};

use rayon::prelude::*;

use crate::address::Addresses;
use crate::scene::Scene;

/// What rounding makes of local values, and no more, is not looked at in the world.
const ROUNDING: f64 = 1e-9;

/// Compares a result with its source along a claim.
///
/// `precision` is how well the result tells instants apart, in ticks: of keys that lie closer together than that on the two
/// sides nobody can say which comes first. It is 1 within the program, and more for files of seconds in single precision.
pub fn judge(source: &Scene, result: &Scene, claim: &Claim, limits: Limits, precision: f64) -> Verdict {
    let at_keys = matches!(claim.sampling, Sampling::Keys | Sampling::EachNth(_));
    let mut verdict = Verdict { at_keys, ..Verdict::new(limits) };
    let addresses = (Addresses::new(source), Addresses::new(result));
    for span in &claim.spans {
        let tracks = (source.takes[span.source].tracks_by_node(), result.takes[span.result].tracks_by_node());
        let scenes = scenes::Scenes {
            source,
            result,
            claim,
            span,
            precision,
            addresses: &addresses,
            tracks: &tracks,
            woken: None,
        };
        let mut parts: Vec<Verdict> = claim.nodes.par_iter().map(|pair| scenes.node(*pair, limits)).collect();
        parts.par_extend(claim.turns.par_iter().map(|turn| scenes.turn(turn, limits)));
        // What is held moves otherwise.
        let is_held = |shift: &&Shift| {
            claim.holds.iter().any(|hold| hold.take == span.source && hold.result.0 == shift.result)
        };
        let shifts = claim.shifts.par_iter().filter(|shift| !is_held(shift));
        parts.par_extend(shifts.map(|shift| scenes.shift(shift, limits)));
        let holds = claim.holds.par_iter().filter(|hold| hold.take == span.source);
        parts.par_extend(holds.map(|hold| scenes.hold(hold, limits)));
        parts.par_extend(claim.amounts.par_iter().map(|amount| scenes.amount(amount, limits)));
        let mut here = Verdict::new(limits);
        parts.into_iter().for_each(|part| here.take_in(part));
        // Where everything is as it should be beside its parent, it is so in the world.
        let is_off = here.judged.iter().any(|judged| judged.error.largest > ROUNDING);
        let is_limited = limits.world.is_finite() || limits.world_turn.is_finite();
        if is_off || claim.world.is_some() || is_limited || world::lacks_steps(&scenes) {
            world::look(&scenes, &mut here);
        }
        verdict.take_in(here);
        verdict.take_in(asleep::look(&scenes, limits));
    }
    verdict
}
