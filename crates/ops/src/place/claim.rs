//! What a take should be that another one was placed onto: the new one in its range, in what that moves, and as it was
//! everywhere else. What lies between, where seams join, is free.

use std::collections::HashSet;

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::judge::{Claim, Clock, Excuse, Span};
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::{PlaceOptions, Placement, find};

/// The claims of a take that another one was placed onto.
#[derive(Clone, Debug)]
pub struct Placed {
    /// In terms of the scene as it was: where and what the new take does not change.
    pub old: Vec<Claim>,
    /// In terms of a scene with the new take alone.
    pub new: Claim,
    /// That scene.
    pub alone: Scene,
}

/// The claims of a result of [`super::place`].
///
/// # Errors
/// Where there is no such take.
pub fn placed(
    scene: &Scene,
    new: &Take,
    result: &Scene,
    options: &PlaceOptions,
) -> Result<Placed, super::PlaceError> {
    let index = find(scene, options.onto.as_deref())?;
    let own = &scene.takes[index];
    let frame = scene.rate.ticks_per_frame().round() as i64;
    let ease = Ticks(options.ease.0.max(frame));
    let has_keys: HashSet<&Target> = own.tracks().map(|(_, track)| &track.target).collect();
    let fills = options.placement == Placement::Unkeyed;
    let moved: HashSet<&Target> = (new.tracks().map(|(_, track)| &track.target))
        .filter(|target| !fills || !has_keys.contains(target))
        .collect();
    let of_moved: HashSet<NodeRef> = moved.iter().map(|target| (target.rig, target.node)).collect();
    let excuse = |take: usize, target: &Target, why: &str| Excuse {
        take,
        target: target.clone(),
        why: why.to_owned(),
    };
    let all = Claim::same(scene, result);
    let pairs = |is_moved: bool| -> Vec<(NodeRef, NodeRef)> {
        all.nodes.iter().filter(|(node, _)| of_moved.contains(node) == is_moved).copied().collect()
    };
    // Before and after, by the clock of what makes room.
    let by = match options.placement {
        Placement::Ripple => Ticks((new.range.last - new.range.first).0 + frame),
        _ => Ticks::ZERO,
    };
    let stretches = |margin: Ticks| -> Vec<Span> {
        let mut spans = Vec::new();
        let (open, shut) = (new.range.first - margin, new.range.last + margin);
        let span = |first: Ticks, last: Ticks, clock: Clock| Span {
            source: index,
            result: index,
            range: TimeRange::new(first, last),
            clock,
        };
        if own.range.first <= open {
            spans.push(span(own.range.first, open.min(own.range.last), Clock::SAME));
        }
        let last = own.range.last + by;
        if shut <= last && own.range.last >= new.range.first {
            let first = shut.max(own.range.first + by);
            spans.push(span(first, last, Clock::shifted(first - by, first)));
        }
        spans
    };
    let others: Vec<Span> = all.spans.iter().filter(|span| span.result != index).cloned().collect();
    let mut untouched = Claim { nodes: pairs(false), ..all.clone() };
    let mut outside = Claim { nodes: pairs(true), world: Some(Vec::new()), ..all.clone() };
    let mut unmoved = Claim { nodes: pairs(true), world: Some(Vec::new()), ..all.clone() };
    outside.spans = stretches(ease);
    // What the new take does not move goes on through its range; where room is made there is nothing to go on.
    let whole = match options.placement {
        Placement::Ripple => stretches(Ticks(frame)),
        _ => vec![Span { source: index, result: index, range: own.range, clock: Clock::SAME }],
    };
    untouched.spans = whole.iter().cloned().chain(others).collect();
    unmoved.spans = whole;
    unmoved.excuses.extend(moved.iter().map(|target| excuse(index, target, "the new take moves it")));
    let alone = Scene { takes: vec![new.clone()], ..scene.clone() };
    let mut inside = Claim { nodes: pairs(true), takes_chosen: true, world: Some(Vec::new()), ..all };
    inside.spans = vec![Span { source: 0, result: index, range: new.range, clock: Clock::SAME }];
    let stays = |target: &&Target| !moved.contains(target);
    inside
        .excuses
        .extend(has_keys.into_iter().filter(stays).map(|target| excuse(0, target, "it stays as it was")));
    Ok(Placed { old: vec![untouched, outside, unmoved], new: inside, alone })
}
