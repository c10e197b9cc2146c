//! What scenes should be whose loops were closed or written out.

use std::collections::HashSet;

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{NodeSampler, PropertySampler};
use nimble_curve_scene::judge::{Claim, Clock, Edit, Edited, Excuse, Span};
use nimble_curve_scene::rig::{OpValue, ROTATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target};

use super::{Closing, CycleError, CycleOptions, chosen};
use crate::ground::Ground;
use crate::travel::carrying;

/// The claims of a closed loop.
#[derive(Clone, Debug)]
pub struct Closed {
    /// Outside the stretch over which it was closed all is the same.
    pub outside: Claim,
    /// Inside it, how far anything was moved is for the judge to say.
    pub inside: Claim,
    /// In terms of the result itself: the last instant of the loop is the first one again, in all but what goes on.
    pub ends: Claim,
    /// What was not to be closed is the same throughout.
    pub others: Option<Claim>,
}

/// The claims of a result of [`super::close`].
///
/// # Errors
/// Where there is no such take or range.
pub fn closed(
    scene: &Scene,
    result: &Scene,
    closing: &Closing,
    options: &CycleOptions,
) -> Result<Closed, CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let addresses = Addresses::new(scene);
    let targets: HashSet<&Target> = take.tracks().map(|(_, track)| &track.target).collect();
    let (meant, others): (Vec<&Target>, Vec<&Target>) =
        targets.into_iter().partition(|target| closing.takes(&addresses.property(target)));
    let stretch = changed(take, range, closing.over);
    let all = Claim::same(scene, result);
    let span = |first: Ticks, last: Ticks| Span {
        source: index,
        result: index,
        range: TimeRange::new(first, last),
        clock: Clock::SAME,
    };
    let mut outside = all.clone();
    outside.spans.retain(|span| span.result != index);
    let own = take.range;
    if own.first < stretch.first {
        outside.spans.push(span(own.first, stretch.first - Ticks(1)));
    }
    if stretch.last < own.last {
        outside.spans.push(span(stretch.last, own.last));
    }
    let mut inside = all.clone();
    inside.spans = vec![span(stretch.first, stretch.last.min(own.last).max(stretch.first))];
    let mut ends = Claim::same(result, result);
    ends.spans =
        vec![Span { clock: Clock::shifted(range.last, range.first), ..span(range.first, range.first) }];
    let made = &result.takes[index];
    for node in carrying(result, made) {
        ends.edits.push(GoingOn::of(result, made, node, range)?.taken_off(index, node));
    }
    let excuse = |target: &Target, why: &str| Excuse::new(index, target.clone(), why);
    let discrete = take.tracks().filter(|(_, track)| {
        matches!(track.controller, Controller::Discrete(_))
            || scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property)
                == Some(nimble_curve_scene::scene::PropertyKind::Discrete)
    });
    ends.excuses.extend(discrete.map(|(_, track)| excuse(&track.target, "choices are not closed")));
    ends.excuses.extend(others.iter().map(|target| excuse(target, "it was not to be closed")));
    ends.world = Some(Vec::new());
    let others = (!others.is_empty()).then(|| {
        let mut claim = Claim { world: Some(Vec::new()), ..all };
        claim.excuses.extend(meant.iter().map(|target| excuse(target, "it was closed")));
        claim
    });
    Ok(Closed { outside, inside, ends, others })
}

/// From the last key before the correction begins to the first one behind the loop: there curves may be other ones.
fn changed(take: &Take, range: TimeRange, over: Ticks) -> TimeRange {
    let begin = range.last - over;
    let (mut first, mut last) = (begin, take.range.last.max(range.last));
    let mut behind: Option<Ticks> = None;
    for (_, track) in take.tracks() {
        let times = track.controller.key_times(take.range);
        if over.0 == 0 {
            let begin = begin.min(range.last - Ticks(1));
            let before = times.iter().copied().filter(|time| *time <= begin).max();
            first = first.min(before.unwrap_or(take.range.first));
        }
        behind = behind.max(Some(goes_on_from(&track.controller, take, range.last)));
    }
    if let Some(behind) = behind {
        last = behind.max(range.last);
    }
    TimeRange::new(first, last)
}

/// From when on a channel is what it was after an instant at which it was changed: the next key or sample of each of its curves. What
/// is held from there is another value to the end of the take.
fn goes_on_from(controller: &Controller, take: &Take, last: Ticks) -> Ticks {
    let next = |times: &[Ticks]| times.iter().copied().find(|time| *time > last).unwrap_or(take.range.last);
    match controller.own_key_times() {
        lists if lists.is_empty() => next(&controller.key_times(take.range)),
        lists => lists.iter().filter(|list| !list.is_empty()).map(|list| next(list)).max().unwrap_or(last),
    }
}

/// The claims of a loop that was written out, a claim a round. Where one node alone carries the body along, its place and
/// its turn about the up axis go on from where the round before ended; where several do, they are free.
///
/// # Errors
/// Where there is no such take or range, or a controller cannot be evaluated.
pub fn extended(
    scene: &Scene,
    result: &Scene,
    times: u32,
    options: &CycleOptions,
) -> Result<Vec<Claim>, CycleError> {
    let (index, range) = chosen(scene, options)?;
    let take = &scene.takes[index];
    let mut carriers: Vec<(NodeRef, GoingOn)> = Vec::new();
    for node in carrying(scene, take) {
        let going = GoingOn::of(scene, take, node, range)?;
        carriers.extend(going.goes().then_some((node, going)));
    }
    let period = range.last - range.first;
    let all = Claim::same(scene, result);
    let mut claims = Vec::new();
    for round in 0..i64::from(times.max(1)) {
        let by = Ticks(period.0 * round);
        let is_last = round + 1 == i64::from(times.max(1));
        // Where one round ends the next one begins, which may be elsewhere.
        let last = range.last + by - if is_last { Ticks::ZERO } else { Ticks(1) };
        let mut claim = Claim { world: Some(Vec::new()), takes_chosen: true, ..all.clone() };
        claim.spans.retain(|span| round == 0 && span.result != index);
        claim.spans.push(Span {
            source: index,
            result: index,
            range: TimeRange::new(range.first + by, last),
            clock: Clock::shifted(range.first, range.first + by),
        });
        if round > 0 {
            claim.excuses.extend(sleeping_ways(scene, index));
        }
        match carriers.as_slice() {
            [(node, going)] if round > 0 => claim.edits.push(going.after(index, *node, round)),
            nodes if round > 0 => {
                for &((rig, node), _) in nodes {
                    let steps = scene.rigs[rig].node(node).map_or(&[][..], |node| &node.transform);
                    claim.excuses.extend(steps.iter().map(|op| {
                        let target = Target::new(rig, node, op.name.clone());
                        Excuse::new(index, target, "several nodes carry the body along together")
                    }));
                }
            }
            _ => {}
        }
        claims.push(claim);
    }
    Ok(claims)
}

/// What layers that sleep have of the nodes that carry the body along: it goes on from round to round by itself.
fn sleeping_ways(scene: &Scene, index: usize) -> Vec<Excuse> {
    let take = &scene.takes[index];
    let carrying = carrying(scene, take);
    let asleep = take.layers.iter().filter(|layer| !layer.is_active());
    let ways = asleep.flat_map(|layer| layer.tracks.iter().map(move |track| (layer, &track.target)));
    let of_carriers = ways.filter(|(_, target)| carrying.contains(&(target.rig, target.node)));
    let excuse = |(layer, target): (&Layer, &Target)| Excuse {
        layer: Some(layer.name.clone()),
        ..Excuse::new(index, target.clone(), "it goes on from round to round")
    };
    of_carriers.map(excuse).collect()
}

/// How a node that carries the body along goes on from round to round, as seen in the world.
struct GoingOn {
    start: DVec3,
    /// Where a round ends on the ground, from where it began.
    step: DVec3,
    /// By how much it turns in a round.
    turn: f64,
    /// What it turns about: the direction that is up in the world.
    axis: DVec3,
}

impl GoingOn {
    fn of(scene: &Scene, take: &Take, node: NodeRef, range: TimeRange) -> Result<GoingOn, CycleError> {
        let mut sampler = NodeSampler::new(scene, Some(take), node)?;
        let [start, end] =
            [range.first, range.last].map(|time| sampler.local_at(time.as_f64()).0.translation);
        let ground = Ground::under(scene, take, node, range.first)?;
        let target = Target { rig: node.0, node: node.1, property: ROTATION.to_owned() };
        let (upright, sign) = ground.turning_axis();
        let turn = turned(scene, take, &target, (upright, range))? * sign;
        Ok(GoingOn { start, step: ground.along(end - start), turn, axis: ground.upwards() })
    }

    fn goes(&self) -> bool {
        self.step != DVec3::ZERO || self.turn != 0.0
    }

    /// After some rounds: on from where they ended, its way turned by what they turned.
    fn after(&self, take: usize, node: NodeRef, rounds: i64) -> Edit {
        let about = |rounds: i64| DQuat::from_axis_angle(self.axis, self.turn * rounds as f64);
        let place = (0..rounds).fold(self.start, |place, done| place + about(done) * self.step);
        let (start, about) = (self.start, about(rounds));
        Edit::new(take, node, move |_, (affine, rotation)| {
            let matrix3 = glam::DMat3::from_quat(about) * affine.matrix3;
            let made = DAffine3 { matrix3, translation: place + about * (affine.translation - start) };
            Edited { local: (made, about * rotation), or: None, about: None }
        })
    }

    /// The end of a round as its beginning has it.
    fn taken_off(&self, take: usize, node: NodeRef) -> Edit {
        let (step, about) = (self.step, DQuat::from_axis_angle(self.axis, -self.turn));
        Edit::new(take, node, move |_, (affine, rotation)| {
            let matrix3 = glam::DMat3::from_quat(about) * affine.matrix3;
            let made = DAffine3 { matrix3, translation: affine.translation - step };
            Edited { local: (made, about * rotation), or: None, about: None }
        })
    }
}

/// By how much a channel of angles turns about the up axis over a range, whole turns counted; 0 where that turn does not act last.
fn turned(
    scene: &Scene,
    take: &Take,
    target: &Target,
    (up, range): (usize, TimeRange),
) -> Result<f64, CycleError> {
    let found = scene.rigs[target.rig].node(target.node).and_then(|node| node.op(ROTATION));
    if !found.is_some_and(|op| matches!(op.value, OpValue::Rotate { .. } | OpValue::Orient(_))) {
        return Ok(0.0);
    }
    let mut sampler = PropertySampler::new(scene, take, target)?;
    let mut angle = |time: Ticks| match sampler.value_at(time.as_f64()) {
        Value::Euler { order, angles } if order.axes().0 == up => Some(angles[up]),
        _ => None,
    };
    Ok(angle(range.last).zip(angle(range.first)).map_or(0.0, |(end, start)| end - start))
}
