//! What a take should be that another one was placed onto: the new one in its range, in what that moves, and as it was
//! everywhere else. What lies between, where seams join, is free.

use std::collections::{HashMap, HashSet};

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::judge::{Claim, Clock, Excuse, Sampling, Span};
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::merge::{at_common_keys, kept_to, times_of};
use super::splice::loops;
use super::{PlaceOptions, Placement, find};

/// The claims of a take that another one was placed onto.
#[derive(Clone, Debug)]
pub struct Placed {
    /// In terms of the scene as it was: where and what the new take does not change.
    pub old: Vec<Claim>,
    /// In terms of other scenes: of one with the new take alone and, where keys of both stay, of ones with those keys that do.
    pub others: Vec<(Scene, Claim)>,
}

/// The claims of a result of [`super::place`]. Where keys of both stay, what lies between a key of the one and a key of the other is free.
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
    let excuse = |take: usize, target: &Target, why: &str| Excuse::new(take, target.clone(), why);
    let all = Claim::same(scene, result);
    let pairs = |is_moved: bool| -> Vec<(NodeRef, NodeRef)> {
        all.nodes.iter().filter(|(node, _)| of_moved.contains(node) == is_moved).copied().collect()
    };
    // Before and after, by the clock of what makes room.
    let by = match options.placement {
        Placement::Ripple => Ticks((new.range.last - new.range.first).0 + frame),
        _ => Ticks::ZERO,
    };
    let stretches = |(open, shut): (Ticks, Ticks)| -> Vec<Span> {
        let mut spans = Vec::new();
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
    let other_takes: Vec<Span> = all.spans.iter().filter(|span| span.result != index).cloned().collect();
    let mut untouched = Claim { nodes: pairs(false), ..all.clone() };
    let mut outside = Claim { nodes: pairs(true), world: Some(Vec::new()), ..all.clone() };
    let mut unmoved = Claim { nodes: pairs(true), world: Some(Vec::new()), ..all.clone() };
    let beyond = |margin: Ticks| (new.range.first - margin, new.range.last + margin);
    let merges = options.placement == Placement::Merge;
    outside.spans = stretches(if merges { kept_to(own, new, &moved, ease) } else { beyond(ease) });
    // What the new take does not move goes on through its range; where room is made there is nothing to go on.
    let whole = match options.placement {
        Placement::Ripple => stretches(beyond(Ticks(frame))),
        _ => vec![Span { source: index, result: index, range: own.range, clock: Clock::SAME }],
    };
    untouched.spans = whole.iter().cloned().chain(other_takes).collect();
    unmoved.spans = whole;
    unmoved.excuses.extend(moved.iter().map(|target| excuse(index, target, "the new take moves it")));
    let alone = scene.with_only(vec![new.clone()]);
    let mut inside = Claim { nodes: pairs(true), takes_chosen: true, world: Some(Vec::new()), ..all };
    inside.spans = vec![Span { source: 0, result: index, range: new.range, clock: Clock::SAME }];
    let stays = |target: &&Target| !moved.contains(target);
    inside
        .excuses
        .extend(has_keys.iter().copied().filter(stays).map(|target| excuse(0, target, "it stays as it was")));
    let mut others = vec![(alone, inside)];
    if merges {
        let (alone, mut inside) = others.remove(0);
        let (alone, unkeyed) = at_common_keys(&alone, 0, &moved, |_, _| true);
        inside.sampling = Sampling::Keys;
        inside.excuses.extend(unkeyed.iter().map(|target| excuse(0, target, "no key is of all its curves")));
        let taken = taken(new);
        let stays = |target: &Target, time| !taken.get(target).is_some_and(|times| times.contains(&time));
        let (kept, unkeyed) = at_common_keys(scene, index, &moved, stays);
        let mut staying = Claim { nodes: pairs(true), world: Some(Vec::new()), ..Claim::same(scene, result) };
        staying.sampling = Sampling::Keys;
        staying.spans = vec![Span { source: index, result: index, range: own.range, clock: Clock::SAME }];
        staying.excuses.extend(unkeyed.iter().map(|target| excuse(index, target, "no key of it stays")));
        let moves_on =
            own.tracks().filter(|(_, track)| moved.contains(&track.target) && loops(&track.controller));
        staying.excuses.extend(
            moves_on.map(|(_, track)| {
                excuse(index, &track.target, "what it does outside its keys was written out")
            }),
        );
        let fresh = moved.iter().filter(|target| !has_keys.contains(*target));
        staying.excuses.extend(fresh.map(|target| excuse(index, target, "it had no keys")));
        others = vec![(alone, inside), (kept, staying)];
    }
    Ok(Placed { old: vec![untouched, outside, unmoved], others })
}

/// When a take has a key in any curve of what it moves.
fn taken(new: &Take) -> HashMap<&Target, HashSet<Ticks>> {
    let mut taken: HashMap<&Target, HashSet<Ticks>> = HashMap::new();
    for (_, track) in new.tracks() {
        taken.entry(&track.target).or_default().extend(times_of(&track.controller));
    }
    taken
}
