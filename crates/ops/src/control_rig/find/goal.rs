//! What limbs reach for: where a control has their ends, as far as their bones and their slack let them.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::constraint::{EndTurn, Offset};

use super::Limits;
use super::bones::{Joints, Shape, hinged};
use super::follow::Followed;
use super::recorded::Recording;
use super::steady::{around, count, steady};

/// How much of its length a limb may use before its end may be held back from its goal.
const BENT: f64 = 0.98;

/// A slack has to explain one frame of so many more than none does.
const FEW: usize = 50;

/// How many steps it takes to halve a slack down to what a file tells.
const HALVINGS: usize = 40;

/// What a limb reaches for.
#[derive(Clone, Debug)]
pub struct Goal {
    /// As a node that the end follows, in its place alone or in its turn as well.
    pub followed: Followed,
    pub slack: f64,
    pub end_turn: EndTurn,
    /// The axis about which the limb bends, in the world at rest.
    pub hinge: DVec3,
}

impl Goal {
    /// The frames on which the end is where the goal has it, and the limb bends about its hinge.
    pub fn on(&self) -> &[bool] {
        &self.followed.on
    }
}

/// How far a limb of a length reaches on the way to its goal.
fn reached(way: f64, length: f64, slack: f64) -> f64 {
    let soft = slack * length;
    if soft > 0.0 && way > length - soft {
        length - soft * (-(way - (length - soft)) / soft).exp()
    } else {
        way.min(length)
    }
}

/// The slack at which a limb reaches as far as it does where it is held back most; none where its goal is out of reach alone.
fn slack(ways: &[f64], reach: &[f64], length: f64, limits: &Limits) -> f64 {
    let held = |(way, reach): &(&f64, &f64)| way.min(length) - **reach;
    let most = ways.iter().zip(reach).max_by(|one, other| held(one).total_cmp(&held(other)));
    let Some((way, reach)) = most.filter(|own| held(own) > limits.place) else { return 0.0 };
    let (mut low, mut high) = (0.0, 0.9);
    for _ in 0..HALVINGS {
        let middle = 0.5 * (low + high);
        if reached(*way, length, middle) > *reach { low = middle } else { high = middle }
    }
    super::rounded::number(0.5 * (low + high))
}

/// A limb and a node for which its end may reach.
struct Reaching<'a> {
    recording: &'a Recording,
    joints: Joints,
    shape: &'a Shape,
    limits: &'a Limits,
    source: usize,
    /// Where the end would stand in the space of the node.
    position: DVec3,
}

/// The goals that a limb may have.
pub fn goals(recording: &Recording, joints: Joints, shape: &Shape, limits: &Limits) -> Vec<Goal> {
    let hangs = |index: usize| recording.hangs_on(index, joints.upper);
    (0..recording.nodes.len())
        .filter(|&source| recording.is_for_animators(source) && recording.is_keyed(source))
        .filter(|&source| !hangs(source) && !recording.mover(source).is_some_and(hangs))
        .filter_map(|source| goal(recording, joints, shape, (source, limits)))
        .collect()
}

fn goal(
    recording: &Recording,
    joints: Joints,
    shape: &Shape,
    (source, limits): (usize, &Limits),
) -> Option<Goal> {
    let end = joints.end;
    let frames = 0..recording.frames.len();
    let (places, turns): (Vec<DVec3>, Vec<DQuat>) =
        frames.map(|frame| recording.beside(source, end, frame)).unzip();
    let (rest_place, rest_turn) = recording.beside_at_rest(source, end);
    let position = position(shape, &places, rest_place, limits);
    let is_as_at_rest = position == rest_place;
    let reaching = Reaching { recording, joints, shape, limits, source, position };
    let (slack, mut on) = reaching.slack();
    let (hinge, hinged) = hinged(recording, joints, shape, &on)?;
    on.iter_mut().zip(hinged).for_each(|(on, hinged)| *on &= hinged);
    let told = turns.iter().zip(&on).filter(|(_, on)| **on);
    let turned: Vec<DQuat> = told.map(|(turn, _)| *turn).collect();
    // On single frames an end may be at its goal by chance, but does not turn with it.
    let turn = steady(&turned, limits.angle).filter(|own| own.count() * 10 >= turned.len() * 9);
    if let Some(turn) = &turn {
        let is_it = |own: &DQuat| angle_between(*own, turn.value) <= limits.angle;
        on.iter_mut().zip(&turns).for_each(|(on, own)| *on &= is_it(own));
    }
    if !on.contains(&true) {
        return None;
    }
    let [of, local] = [source, end].map(|index| &recording.nodes[index]);
    let turn = turn.map(|own| own.value);
    let is_turned_as_at_rest = turn.is_none_or(|turn| angle_between(turn, rest_turn) <= limits.angle);
    let is_sayable = is_turned_as_at_rest && is_as_at_rest || of.hand == local.hand;
    let is_along = !local.moves.rotation
        && angle_between(local.instants[0].rotation, local.rest.rotation) <= limits.angle;
    let end_turn = match turn {
        Some(_) if is_sayable => EndTurn::Goal,
        _ if is_along => EndTurn::Parent,
        _ => EndTurn::Own,
    };
    let has_offset = !is_as_at_rest || (end_turn == EndTurn::Goal && !is_turned_as_at_rest);
    let scale = local.rest.size / of.rest.size;
    let offset = Offset { position, turn: turn.unwrap_or(rest_turn), scale };
    let is_at = (position * of.rest.size.max_element()).length() <= limits.place;
    let followed = Followed { source, on, offset: has_offset.then_some(offset), is_at };
    Some(Goal { followed, slack, end_turn, hinge })
}

/// Where an end stands in the space of its goal: as both rest where that holds, else as it does on most frames on which the limb is
/// bent enough not to be held back.
fn position(shape: &Shape, places: &[DVec3], rest: DVec3, limits: &Limits) -> DVec3 {
    let length = shape.length();
    let bent = places.iter().zip(&shape.reach).filter(|(_, reach)| **reach < BENT * length);
    let told: Vec<DVec3> = bent.map(|(place, _)| *place).collect();
    let resting = around(places, rest, limits.place).count();
    let most = steady(&told, limits.place).filter(|own| own.count() > resting);
    most.map(|own| own.value).filter(|place| (*place - rest).length() > limits.place).unwrap_or(rest)
}

impl Reaching<'_> {
    /// From the root to the goal.
    fn way(&self, frame: usize) -> DVec3 {
        let (of, root) = (&self.recording.nodes[self.source], &self.recording.nodes[self.joints.upper]);
        let now = &of.instants[frame];
        now.place + now.turn * (self.position * now.size) * of.hand - root.instants[frame].place
    }

    fn bone(&self, frame: usize) -> DVec3 {
        self.shape.bends.lines[frame] * self.shape.reach[frame]
    }

    /// On which frames the end is where a slack lets it.
    fn held(&self, slack: f64) -> Vec<bool> {
        let length = self.shape.length();
        let least = (self.shape.bones[0] - self.shape.bones[1]).abs();
        let one = |frame: usize| {
            let way = self.way(frame);
            let reach = reached(way.length(), length, slack).clamp(least, length);
            (way.normalize_or_zero() * reach - self.bone(frame)).length() <= 2.0 * self.limits.place
        };
        (0..self.recording.frames.len()).map(one).collect()
    }

    /// The slack that explains most frames, and which: none where none does better.
    fn slack(&self) -> (f64, Vec<bool>) {
        let rigid = self.held(0.0);
        if !rigid.contains(&false) {
            return (0.0, rigid);
        }
        // It is told by the frames on which the end lies on the way to its goal.
        let lies = |frame: &usize| {
            let (way, bone) = (self.way(*frame), self.bone(*frame));
            bone.cross(way).length() <= 2.0 * self.limits.place * way.length() && bone.dot(way) > 0.0
        };
        let lying: Vec<usize> = (0..self.recording.frames.len()).filter(lies).collect();
        let (ways, reach): (Vec<f64>, Vec<f64>) =
            lying.iter().map(|&frame| (self.way(frame).length(), self.shape.reach[frame])).unzip();
        let slack = slack(&ways, &reach, self.shape.length(), self.limits);
        let soft = self.held(slack);
        let is_better = count(&soft) > count(&rigid) + rigid.len() / FEW;
        if is_better { (slack, soft) } else { (0.0, rigid) }
    }
}
