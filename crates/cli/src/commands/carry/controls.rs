//! What is carried, put onto the target's controls.

use std::sync::Arc;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::judge::{Claim, Scope};
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::carry::{CarryOptions, NameMap, carry};
use nimble_curve_core::ops::control_rig::{
    BetweenFrames, MatchKeys, MatchOptions, match_controls, through_controls,
};
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::scene::{Scene, Take};

use super::landing::{Landed, landed};
use super::promise::Promised;
use crate::args::Carry;
use crate::failure::Failure;
use crate::gate::{self, Beside, Held, InWorld, Origin, Promise};
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

/// Carries all curves of a source with constraints as they are, those of controls onto their like, and puts the target's constraints on top:
/// the scene, what became of every channel, and what that promises. `None` where there are none, or where what these make of the joints is
/// not what was asked for. `promised` says what that is of joints.
pub fn as_they_are(
    (args, map, options): (&Carry, &NameMap, &CarryOptions),
    promised: &Promised<'_>,
) -> Result<Option<(Scene, Ledger, Promise)>, Failure> {
    let Promised { source, chosen, target, .. } = *promised;
    if chosen.constraints.is_empty() {
        return Ok(None);
    }
    let bare = Scene { constraints: Vec::new(), ..chosen.clone() };
    // Feet are where controls put them.
    let options = CarryOptions { hold_feet: false, tolerance: args.tolerance, ..options.clone() };
    let carried = carry(&bare, target, map, &options)?;
    let (result, landed, notes) = landed(&carried, target.takes.len(), args)?;
    let scene = Scene { constraints: target.constraints.clone(), ..result };
    let mut promise = promised.carried(&scene, &landed);
    let asked = args.asked();
    promise.world = Some(InWorld { metres: asked.length, angle: asked.angle });
    let verdict = gate::judged_scene(&scene, Origin { source, promise: &promise });
    if gate::refusal(&verdict, &scene, None).is_some() {
        return Ok(None);
    }
    let mut ledger = carried.ledger;
    ledger.notes.extend(notes);
    ledger.notes.splice(0..0, on_their_like(&scene, &landed, &ledger));
    Ok(Some((scene, ledger, promise)))
}

/// What keys an animator has in hand, where controls have the curves of their like.
fn on_their_like(scene: &Scene, landed: &[Landed], ledger: &Ledger) -> Option<String> {
    let addresses = Addresses::new(scene);
    let (mut names, mut keys): (Vec<&str>, usize) = (Vec::new(), 0);
    for (_, track) in landed.iter().flat_map(|landed| scene.takes[landed.take].tracks()) {
        let node = (track.target.rig, track.target.node);
        let is_control = scene.rigs[node.0].node(node.1).is_some_and(|node| node.kind == NodeKind::Control);
        if is_control {
            keys += track.controller.key_count();
            let name = addresses.node(node);
            if !names.contains(&name) {
                names.push(name);
            }
        }
    }
    let is_as_it_was = |entry: &Entry| entry.after == 0 || entry.fate == Fate::Kept;
    let how =
        if ledger.entries.iter().all(is_as_it_was) { "as the source has them" } else { "from their like" };
    (keys > 0).then(|| format!("{} on controls {how}: {}", counted(keys, "key"), listed(&names, 12)))
}

/// The carried scene with the target's constraints, its motion on controls; what that promises, and in terms of what.
pub fn keyed(
    carried: &Scene,
    target: &Arc<Scene>,
    args: &Carry,
    ledger: &mut Ledger,
) -> Result<(Scene, Promise, Scene), Failure> {
    let tolerance = args.tolerance.times(1.0 - JOINTS);
    let asked = args.asked();
    // The target's own takes are on controls as they are.
    let is_own = |take: &&Take| target.takes.iter().any(|own| own.name == take.name);
    let (own, came): (Vec<&Take>, Vec<&Take>) = carried.takes.iter().partition(is_own);
    let driven = Scene {
        constraints: target.constraints.clone(),
        takes: came.into_iter().cloned().collect(),
        ..carried.clone()
    };
    let options = MatchOptions {
        tolerance,
        keys: MatchKeys::Bounded,
        near_enough: true,
        between_frames: BetweenFrames::WhereNeeded,
        ..MatchOptions::default()
    };
    let mut matched = match_controls(&driven, &options).map_err(|error| Failure::new(error.to_string()))?;
    // Behind those that came, as they were.
    let fresh = matched.scene.takes.len();
    matched.scene.takes.extend(own.into_iter().cloned());
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
    let mut beside: Vec<Beside> = beside.collect();
    let mut of_target = Claim::same(target, &matched.scene);
    of_target.spans.retain(|span| span.result >= fresh);
    of_target.takes_chosen = args.without_target_takes;
    let (source, scope) = (Arc::clone(target), Some(Scope::AllButLayers));
    beside.push(Beside { source, claim: of_target, scope, held: Held::ToLimits });
    let promise = Promise {
        world: Some(InWorld { metres: asked.length, angle: asked.angle }),
        beside,
        ..Promise::of(first.claim, asked, Scope::MotionAlone)
    };
    let notes = said(carried, &matched.ledger);
    let mut after = matched.ledger;
    after.notes.splice(0..0, notes);
    *ledger = std::mem::take(ledger).followed_by(after);
    Ok((matched.scene, promise, first.motion))
}

/// What joints of the result are in terms of the source, but for what controls cannot bring them to: errors of both steps add up in it.
pub fn of_source(source: &Scene, whole: Claim, (result, onto): (&Scene, &Promise)) -> Beside {
    let others = onto.beside.iter().filter(|beside| beside.scope.is_none());
    let stages: Vec<&Claim> =
        std::iter::once(&onto.claim).chain(others.map(|beside| &beside.claim)).collect();
    let claim = through_controls(whole, result, &stages);
    Beside { source: Arc::new(source.clone()), claim, scope: None, held: Held::ToLimits }
}

/// How many keys an animator has in hand of what was carried, and on what.
fn said(carried: &Scene, ledger: &Ledger) -> Vec<String> {
    let is_own = |entry: &&Entry| entry.after > 0;
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
