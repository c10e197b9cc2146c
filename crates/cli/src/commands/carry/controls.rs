//! What is carried, put onto the target's controls.

use std::sync::Arc;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::control_rig::{MatchKeys, MatchOptions, match_controls};
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::scene::Scene;

use crate::args::Carry;
use crate::failure::Failure;
use crate::gate::{Beside, Held, InWorld, Promise};
use crate::report::{counted, listed};

/// The part of the tolerance that joints may be off before controls have them.
const JOINTS: f64 = 0.4;

/// Whether the target's controls get the keys.
pub fn take_over(args: &Carry, target: &Scene) -> bool {
    let has_controls =
        || target.rigs.iter().flat_map(|rig| rig.nodes()).any(|(_, node)| node.kind == NodeKind::Control);
    !target.constraints.is_empty() && !args.onto_joints && args.place.is_none() && has_controls()
}

/// The target as joints get the keys: without what drives them.
pub fn joints_of(target: &Arc<Scene>) -> Arc<Scene> {
    match target.constraints.is_empty() {
        true => Arc::clone(target),
        false => Arc::new(Scene { constraints: Vec::new(), ..Scene::clone(target) }),
    }
}

/// The part of the tolerance that is for the joints.
pub fn part_of_joints(args: &Carry, target: &Scene) -> f64 {
    if take_over(args, target) { JOINTS } else { 1.0 }
}

/// What is to be said where joints have the keys.
pub fn left_out(target: &Scene) -> Option<String> {
    let count = target.constraints.len();
    (count > 0).then(|| {
        format!("the target's joints have the keys: its {count} constraints, which would drive them, are not in the result")
    })
}

/// The carried scene with the target's constraints, its motion on controls; what that promises, and in terms of what.
pub fn keyed(
    carried: &Scene,
    target: &Arc<Scene>,
    args: &Carry,
    ledger: &mut Ledger,
) -> Result<(Scene, Promise, Scene), Failure> {
    let tolerance = args.tolerance.times(1.0 - JOINTS);
    let driven = Scene { constraints: target.constraints.clone(), ..carried.clone() };
    let options =
        MatchOptions { tolerance, keys: MatchKeys::Bounded, near_enough: true, ..MatchOptions::default() };
    let matched = match_controls(&driven, &options).map_err(|error| Failure::new(error.to_string()))?;
    let mut claims = matched.claims.into_iter();
    let Some(first) = claims.next() else {
        return Err(Failure::new("there is no take to put onto controls"));
    };
    let beside = claims.map(|other| Beside {
        source: Arc::new(other.motion),
        claim: other.claim,
        scope: None,
        held: Held::ToLimits,
    });
    let promise = Promise {
        world: Some(InWorld { metres: tolerance.length, angle: tolerance.angle }),
        beside: beside.collect(),
        ..Promise::of(first.claim, tolerance, Scope::MotionAlone)
    };
    let notes = said(carried, target, &matched.ledger);
    let mut after = matched.ledger;
    after.notes.splice(0..0, notes);
    *ledger = std::mem::take(ledger).followed_by(after);
    Ok((matched.scene, promise, first.motion))
}

/// How many keys an animator has in hand of what was carried, and on what.
fn said(carried: &Scene, target: &Scene, ledger: &Ledger) -> Vec<String> {
    let is_own = |entry: &&Entry| entry.after > 0 && !target.takes.iter().any(|take| take.name == entry.take);
    let is_control = |entry: &&Entry| {
        let target = entry.target.as_ref();
        let node = target.and_then(|of| carried.rigs.get(of.rig)?.node(of.node));
        node.is_some_and(|node| node.kind == NodeKind::Control)
    };
    let (on_controls, elsewhere): (Vec<&Entry>, Vec<&Entry>) =
        ledger.entries.iter().filter(is_own).partition(is_control);
    let count = |entries: &[&Entry]| counted(entries.iter().map(|entry| entry.after).sum(), "key");
    let (kept, made): (Vec<&Entry>, Vec<&Entry>) =
        on_controls.into_iter().partition(|entry| entry.fate == Fate::Kept);
    let mut notes = Vec::new();
    for (entries, how) in [(made, ""), (kept, " as the source has them")] {
        let mut names: Vec<&str> = Vec::new();
        for (node, _) in entries.iter().filter_map(|entry| entry.channel.rsplit_once(':')) {
            if !names.contains(&node) {
                names.push(node);
            }
        }
        if !names.is_empty() {
            notes.push(format!("{} on controls{how}: {}", count(&entries), listed(&names, 12)));
        }
    }
    if !elsewhere.is_empty() {
        notes.push(format!("{} elsewhere: on what no control moves", count(&elsewhere)));
    }
    notes
}
