//! Limbs: two bones of fixed lengths that bend about one hinge, and whose end stands where a control has it.

use glam::DVec3;
use nimble_curve_scene::constraint::{EndTurn, Limb, Setting, Source, StretchBy};
use nimble_curve_scene::rig::NodeKind;

use super::Limits;
use super::bones::{Joints, Shape, shape};
use super::follow::Followed;
use super::goal::{Goal, goals};
use super::pole::Bend;
use super::recorded::Recording;
use super::steady::count;

/// A limb that was found: what it reaches for, and the ways in which it may bend, best first.
#[derive(Debug)]
pub struct Found {
    pub joints: Joints,
    pub goal: Goal,
    pub bend: Bend,
    pub hinge: Option<DVec3>,
    /// On which frames all of it holds.
    pub on: Vec<bool>,
    /// What else would explain it, in words.
    pub rivals: Vec<Rival>,
}

/// What else explains something as well.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rival {
    /// Another node.
    Node(usize),
    /// Another kind, in words.
    Kind(&'static str),
}

impl Found {
    pub fn count(&self) -> usize {
        count(&self.on)
    }

    /// The limb as a constraint names it.
    pub fn limb(&self, recording: &Recording) -> Limb {
        let at = |index: usize| recording.nodes[index].node;
        Limb {
            lower: at(self.joints.lower),
            end: at(self.joints.end),
            goal: Source {
                node: at(self.goal.followed.source),
                weight: Setting::Constant(1.0),
                offset: self.goal.followed.offset,
            },
            pole: self.bend.pole.clone(),
            bends_other: self.bend.bends_other,
            hinge: self.hinge,
            stretch: Setting::Constant(0.0),
            stretch_by: StretchBy::default(),
            slack: self.goal.slack,
            end_turn: self.goal.end_turn,
            twist: Setting::Constant(self.bend.twist * recording.hand),
            lengths: [Setting::Constant(1.0), Setting::Constant(1.0)],
        }
    }
}

/// The ways in which a limb may bend, those that hold on most frames first: towards nodes before directions.
fn bends(recording: &Recording, joints: Joints, goal: &Goal, shape: &Shape, limits: &Limits) -> Vec<Bend> {
    let upper = joints.upper;
    let mut found = Vec::new();
    for node in 0..recording.nodes.len() {
        let is_able = recording.is_for_animators(node)
            && recording.is_keyed(node)
            && !recording.hangs_on(node, upper)
            && node != goal.followed.source;
        if is_able {
            found.push(shape.bends.to_node(recording, node, limits));
        }
    }
    found.push(shape.bends.as_at_rest(recording, limits));
    let above = recording.up(upper).skip(1).filter(|&index| recording.nodes[index].moves.any());
    // A direction beside the limb's own goal would turn with it.
    let beside = (0..recording.nodes.len())
        .filter(|&index| recording.is_for_animators(index) && recording.mover(index) == Some(index))
        .filter(|&index| !recording.hangs_on(index, upper));
    let spaces: Vec<usize> = above.chain(beside).collect();
    for space in std::iter::once(None).chain(spaces.into_iter().map(Some)) {
        found.extend(shape.bends.to_direction(recording, space, limits));
    }
    let rank = |own: &Bend| {
        let kind = match (&own.pole, own.node) {
            // What stands for nothing else: a control that does not move with the goal.
            (_, Some(node)) if is_free(recording, node, goal) => 0,
            (_, Some(_)) => 1,
            (None, None) => 2,
            (Some(_), None) => 3,
        };
        (std::cmp::Reverse(own.count()), own.twist != 0.0, kind)
    };
    found.sort_by_key(rank);
    found
}

/// Whether a node is a control that does not hang on the control of a goal.
fn is_free(recording: &Recording, node: usize, goal: &Goal) -> bool {
    let is_control = |index: usize| recording.nodes[index].kind == NodeKind::Control;
    let of_goal = recording.up(goal.followed.source).find(|&index| is_control(index));
    is_control(node) && of_goal.is_none_or(|control| !recording.hangs_on(node, control))
}

/// The limb that joints are, where they are one on some frames at least; those in `known` go by other nodes already.
pub fn found(recording: &Recording, joints: Joints, known: &[Followed], limits: &Limits) -> Option<Found> {
    let mut shape = shape(recording, joints, limits)?;
    // What turns with the joints themselves explains nothing.
    let is_own = |source: usize| known.iter().any(|own| recording.hangs_on(source, own.source));
    let mut goals = goals(recording, joints, &shape, limits);
    goals.retain(|goal| !is_own(goal.followed.source));
    let (goal, mut rivals) = chosen(recording, goals)?;
    shape.bends.only(goal.on());
    shape.bends.side_at_rest = goal.hinge.cross(shape.bends.line_at_rest).try_normalize()?;
    let mut bends = bends(recording, joints, &goal, &shape, limits);
    bends.retain(|bend| bend.node.is_none_or(|node| !is_own(node)));
    let mut bends = bends.into_iter();
    let bend = bends.next()?;
    let both = |other: &Bend| -> Vec<bool> {
        goal.on().iter().zip(&other.on).map(|(one, other)| *one && *other).collect()
    };
    let on = both(&bend);
    if !on.contains(&true) {
        return None;
    }
    for other in bends.filter(|other| both(other) == on) {
        let rival = rival(recording, &goal, &bend, &other);
        rivals.extend(rival.filter(|rival| !rivals.contains(rival)));
    }
    if bend.node.is_none() {
        // A file that is not as fine as what is looked for may hide the pole itself.
        let loose = limits.loose();
        let hidden = (0..recording.nodes.len()).filter(|&node| {
            is_free(recording, node, &goal) && !is_own(node) && !recording.hangs_on(node, joints.upper)
        });
        let holds = |node: &usize| both(&shape.bends.to_node(recording, *node, &loose)) == on;
        rivals.extend(hidden.filter(holds).map(Rival::Node));
    }
    let hinge = (!rests_bent(recording, joints, &shape)).then(|| super::rounded::direction(goal.hinge));
    Some(Found { joints, goal, bend, hinge, on, rivals })
}

/// The goal that is probably meant: that which holds longest, turns the end, and is where the end is; and those that explain it as
/// well.
fn chosen(recording: &Recording, mut goals: Vec<Goal>) -> Option<(Goal, Vec<Rival>)> {
    let lasts = |goal: &Goal| count(goal.on());
    let likeness =
        |goal: &Goal| (goal.end_turn != EndTurn::Goal, goal.followed.offset.is_some(), !goal.followed.is_at);
    goals.sort_by_key(|goal| {
        let source = goal.followed.source;
        let is_mover = recording.mover(source) == Some(source);
        let is_keyed = recording.is_moved_by_control(source);
        let is_still = recording.mover(source).is_none();
        (std::cmp::Reverse(lasts(goal)), likeness(goal), !is_mover, !is_keyed, is_still)
    });
    let mut goals = goals.into_iter();
    let first = goals.next()?;
    let is_as_good = |other: &Goal| {
        let is_like = !first.followed.is_at || likeness(other) == likeness(&first);
        lasts(other) == lasts(&first) && other.end_turn == first.end_turn && is_like
    };
    let rivals = goals.filter(is_as_good).map(|other| Rival::Node(other.followed.source)).collect();
    Some((first, rivals))
}

/// What another way to bend is beside the one that was chosen, where it explains the same and is not the same.
fn rival(recording: &Recording, goal: &Goal, chosen: &Bend, other: &Bend) -> Option<Rival> {
    let is_direction = other.pole.is_some() && other.node.is_none();
    // Seen from a limb that does not travel what stands still lies in a direction.
    let is_meant = chosen.node.is_some_and(|node| is_free(recording, node, goal));
    let is_direction_too = chosen.node.is_none() && chosen.pole.is_some();
    if is_direction && (is_meant || is_direction_too) {
        return None;
    }
    // A twist beside one thing is as good as none beside another only where that has one as well.
    let is_as_plain = other.twist == 0.0 || chosen.twist != 0.0;
    let kind = if is_direction { "a direction" } else { "its rest pose" };
    is_as_plain.then(|| other.node.map_or(Rival::Kind(kind), Rival::Node))
}

/// Whether a limb rests bent, about the hinge about which it bends: else its sheet has to say that.
fn rests_bent(recording: &Recording, joints: Joints, shape: &Shape) -> bool {
    let at = |index: usize| recording.nodes[index].rest.place;
    let (line, bent) = (shape.bends.line_at_rest, at(joints.lower) - at(joints.upper));
    let across = bent - line * line.dot(bent);
    across.length() > 1e-3 * bent.length() && across.normalize().dot(shape.bends.side_at_rest) > 1.0 - 1e-9
}
