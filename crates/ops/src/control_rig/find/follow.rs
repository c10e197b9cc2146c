//! Who goes with whom: nodes that stand the same beside another one.

use glam::DVec3;
use nimble_curve_scene::constraint::{Follow, Offset, Setting, Source};
use nimble_curve_scene::rig::NodeKind;

use super::Limits;
use super::recorded::Recording;
use super::steady::{Steady, Value, around, steady};

/// A node that another one goes with, in its place, its turn or both.
#[derive(Clone, Debug)]
pub struct Followed {
    pub source: usize,
    /// The frames on which it does.
    pub on: Vec<bool>,
    /// How it stands beside it, where that is not as both rest.
    pub offset: Option<Offset>,
    /// Whether it stands on the very place of its source.
    pub is_at: bool,
}

impl Followed {
    pub fn is_whole(&self) -> bool {
        self.on.iter().all(|on| *on)
    }

    /// The source as a constraint names it.
    pub fn source(&self, recording: &Recording, weight: Setting) -> Source {
        Source { node: recording.nodes[self.source].node, weight, offset: self.offset }
    }

    /// What follows, as a constraint.
    pub fn follow(parts: [bool; 3], sources: Vec<Source>) -> Follow {
        let [translation, rotation, scale] = parts.map(|part| [part; 3]);
        Follow { sources, translation, rotation, scale }
    }
}

/// The nodes that a node may go with: those that animators key, and what hangs on them; neither its own chain nor what hangs on it.
pub fn candidates(recording: &Recording, node: usize) -> Vec<usize> {
    // A locator that goes with a joint may be above controls.
    let is_locator = recording.nodes[node].kind == NodeKind::Locator;
    let is_able = |source: usize| is_locator || recording.is_keyed(source);
    (0..recording.nodes.len())
        .filter(|&source| is_locator || recording.is_for_animators(source))
        .filter(|&source| is_able(source))
        .filter(|&source| recording.mover(source).is_some_and(|mover| !recording.hangs_on(mover, node)))
        .filter(|&source| !recording.hangs_on(node, source) && !recording.hangs_on(source, node))
        .collect()
}

/// The joints that a node may go with where no control explains it: a prop goes with a hand.
pub fn joints(recording: &Recording, node: usize) -> Vec<usize> {
    let rig = recording.nodes[node].node.0;
    (0..recording.nodes.len())
        .filter(|&source| recording.nodes[source].node.0 != rig && !recording.is_for_animators(source))
        .filter(|&source| recording.mover(source).is_some())
        .collect()
}

/// What of a node has to be explained, as parts of a follow.
pub fn wanted(recording: &Recording, node: usize) -> [bool; 3] {
    let moves = recording.nodes[node].moves;
    [moves.translation, moves.rotation, moves.scale]
}

/// A node beside a source on all frames, where it goes with it in the parts that are asked for.
pub fn beside(
    recording: &Recording,
    (source, node): (usize, usize),
    parts: [bool; 3],
    limits: &Limits,
) -> Option<Followed> {
    let count = recording.frames.len();
    // Most sources are told at a glance.
    let glance: Vec<usize> = (0..5).map(|index| index * count.saturating_sub(1) / 4).collect();
    let stays = |frames: &[usize]| {
        let first = recording.beside(source, node, *frames.first()?);
        let same = frames.iter().all(|&frame| {
            let now = recording.beside(source, node, frame);
            (!parts[0] || now.0.apart(&first.0) <= 2.0 * limits.place)
                && (!parts[1] || now.1.apart(&first.1) <= 2.0 * limits.angle)
        });
        same.then_some(())
    };
    stays(&glance)?;
    let found = on_frames(recording, (source, node), parts, limits)?;
    found.is_whole().then_some(found)
}

/// The same on most frames on which it is one thing.
pub fn on_frames(
    recording: &Recording,
    (source, node): (usize, usize),
    parts: [bool; 3],
    limits: &Limits,
) -> Option<Followed> {
    let frames = 0..recording.frames.len();
    let (places, turns): (Vec<_>, Vec<_>) = frames.map(|frame| recording.beside(source, node, frame)).unzip();
    let (rest_place, rest_turn) = recording.beside_at_rest(source, node);
    // As they rest is what is meant wherever it holds.
    let place = at_rest_or(&places, rest_place, limits.place).filter(|_| parts[0]);
    let turn = at_rest_or(&turns, rest_turn, limits.angle).filter(|_| parts[1]);
    let scale = sizes_beside(recording, (source, node), limits).filter(|_| parts[2]);
    let mut on = vec![true; places.len()];
    let mut all = |found: Option<&[bool]>, is_asked: bool| {
        let none = vec![false; on.len()];
        if is_asked {
            let also = found.unwrap_or(&none);
            on.iter_mut().zip(also).for_each(|(on, also)| *on &= also);
        }
    };
    all(place.as_ref().map(|own| own.on.as_slice()), parts[0]);
    all(turn.as_ref().map(|own| own.on.as_slice()), parts[1]);
    all(scale.as_ref().map(|own| own.on.as_slice()), parts[2]);
    if !on.contains(&true) {
        return None;
    }
    let rest_scale = recording.nodes[node].rest.size / recording.nodes[source].rest.size;
    let is_as_at_rest = place.as_ref().is_none_or(|own| own.value.apart(&rest_place) <= limits.place * 0.5)
        && turn.as_ref().is_none_or(|own| own.value.apart(&rest_turn) <= limits.angle * 0.5)
        && scale.as_ref().is_none_or(|own| own.value.apart(&rest_scale) <= limits.factor);
    let offset = Offset {
        position: place.as_ref().map_or(rest_place, |own| own.value),
        turn: turn.as_ref().map_or(rest_turn, |own| own.value),
        scale: scale.map_or(rest_scale, |own| own.value),
    };
    // A turn beside a mirrored node says nothing of what is not mirrored.
    let is_sayable = is_as_at_rest || recording.nodes[source].hand == recording.nodes[node].hand;
    let size = recording.nodes[source].rest.size.max_element();
    let is_at = (place.map_or(rest_place, |own| own.value) * size).length() <= limits.place;
    let offset = (!is_as_at_rest).then_some(offset);
    is_sayable.then_some(Followed { source, on, offset, is_at })
}

/// The value at rest where it holds on many frames, else the one that holds on most.
fn at_rest_or<T: Value>(values: &[T], rest: T, limit: f64) -> Option<Steady<T>> {
    let most = steady(values, limit)?;
    let resting = around(values, rest, limit);
    Some(if resting.count() * 2 >= most.count() && most.value.apart(&rest) <= 2.0 * limit {
        Steady { value: rest, on: values.iter().map(|own| own.apart(&rest) <= limit).collect() }
    } else {
        most
    })
}

fn sizes_beside(
    recording: &Recording,
    (source, node): (usize, usize),
    limits: &Limits,
) -> Option<Steady<DVec3>> {
    let (theirs, own) = (&recording.nodes[source].instants, &recording.nodes[node].instants);
    let factors: Vec<DVec3> = own.iter().zip(theirs).map(|(own, theirs)| own.size / theirs.size).collect();
    steady(&factors, limits.factor)
}

/// The one of several that is probably meant, and whether that is sure: what moves them is one thing, or one of them alone is
/// where the node is.
pub fn chosen(
    recording: &Recording,
    node: usize,
    mut found: Vec<Followed>,
) -> Option<(Followed, Vec<usize>)> {
    let rank = |own: &Followed| {
        let is_mover = recording.mover(own.source) == Some(own.source);
        // Props go with joints, what is of the rig itself with controls.
        let is_apart = recording.nodes[own.source].node.0 != recording.nodes[node].node.0;
        let is_likely = recording.is_moved_by_control(own.source) != is_apart;
        (!is_likely, own.offset.is_some(), !own.is_at, !is_mover, recording.steps_between(own.source, node))
    };
    found.sort_by_key(rank);
    let mut found = found.into_iter();
    let first = found.next()?;
    let likeness =
        |own: &Followed| (!recording.is_moved_by_control(own.source), own.offset.is_some(), !own.is_at);
    let best = likeness(&first);
    // What stands where the node stands is meant, where nothing else does.
    let rivals = found.filter(|own| !first.is_at || likeness(own) == best).map(|own| own.source).collect();
    Some((first, rivals))
}
