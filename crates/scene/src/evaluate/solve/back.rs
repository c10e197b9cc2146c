//! The way back: where what drives a node has to stand so that the node stands as it does in a pose.

use glam::{DAffine3, DMat3, DQuat, DVec3};

use super::beside::{Beside, turned_into};
use super::kinds::Kind;
use super::limb::LimbPlan;
use super::solver::Solver;
use super::stand::{Stand, unit};
use crate::address::NodeRef;
use crate::constraint::{Aim, EndTurn, Follow, Towards};
use crate::parts::unscaled;
use crate::rig::ScaleInheritance;

/// How a node has to stand.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wanted {
    /// A point of its own space, and where that has to be in the world.
    pub point: Option<(DVec3, DVec3)>,
    /// How it has to be turned in the world, mirrored where it is.
    pub frame: Option<DMat3>,
    /// Where the point counts by the direction in which it lies alone: as seen from here.
    pub about: Option<DVec3>,
    /// Where that counts across a line alone: the line.
    pub line: Option<DVec3>,
}

/// What of a constraint a node serves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Serves {
    /// A source that is followed, by its place.
    Source(usize),
    /// What is aimed at.
    Target,
    /// What the up axis leans towards.
    Up,
    /// What a limb reaches for.
    Goal,
    /// What its middle bends to.
    Pole,
}

/// How much of the reach a limb may use before its bend counts for less than which way its upper joint's hinge points: as the
/// height of the middle over the line, in lengths of the limb.
const BENT: [f64; 2] = [0.01, 0.05];

/// Cosines between the side on which the middle stands and the one to which the hinge says that it bends: below the first the hinge
/// alone decides, above the second the middle's place.
const AGREES: [f64; 2] = [0.0, 0.5];

/// A goal that the slack of a limb can hardly reach is put no farther away than so many lengths of the limb.
const FARTHEST: f64 = 1.5;

impl Solver<'_> {
    /// How the node that serves a constraint has to stand, with all else as this was solved last, so that what the constraint
    /// drives stands as another solver has it. `None` where nothing says so, or the constraint is not solved here.
    pub fn wanted(&self, constraint: usize, serves: Serves, pose: &Solver<'_>) -> Option<Wanted> {
        let prepared = &self.prepared[(*self.of_scene.get(constraint)?)?];
        let driven = pose.stand(prepared.node)?;
        match (&prepared.kind, serves) {
            (Kind::Follow { follow, sources, .. }, Serves::Source(at)) => {
                Some(of_source(follow, sources.get(at)?, driven))
            }
            (Kind::Aim { aim, at, up }, Serves::Target | Serves::Up) => {
                self.aimed_at(aim, (*at, *up), prepared.node, driven, serves)
            }
            (Kind::Limb(plan), Serves::Goal) => self.goal(plan, prepared.node, pose),
            (Kind::Limb(plan), Serves::Pole) => self.pole(plan, prepared.node, pose),
            _ => None,
        }
    }

    /// The turn of a limb's bend about its line that is wanted, in radians, where no pole says it.
    pub fn wanted_twist(&self, constraint: usize, pose: &Solver<'_>) -> Option<f64> {
        let prepared = &self.prepared[(*self.of_scene.get(constraint)?)?];
        let Kind::Limb(plan) = &prepared.kind else { return None };
        let bend = self.bend_in(plan, prepared.node, pose)?;
        let parent = pose.above(prepared.node);
        let (_, side) = plan.plane(&self.state, (bend.root, bend.line), &parent, 0.0);
        let angle = bend.line.dot(side.cross(bend.side)).atan2(side.dot(bend.side));
        Some(angle * self.state.hand)
    }

    /// The translation and the rotation of a node beside its parent, by which another one below it, or it itself, stands as is
    /// wanted; what is between the two stays as it is. What is not wanted stays, too.
    pub fn local_for(&self, node: NodeRef, below: NodeRef, wanted: &Wanted) -> Option<(DVec3, DQuat)> {
        let place = self.place_of(node)?;
        let (own, parent) = (&self.state.own[place], self.state.parent_stand(place));
        let turned = match node == below {
            true => DMat3::IDENTITY,
            false => self.stand_at(place).frame.transpose() * self.stand(below)?.frame,
        };
        let rotation = match wanted.frame {
            Some(frame) => turned_into(parent, frame * turned.transpose(), own),
            None => own.rotation,
        };
        self.local_turned(node, below, rotation, wanted)
    }

    /// The same where its rotation is known.
    pub fn local_turned(
        &self,
        node: NodeRef,
        below: NodeRef,
        rotation: DQuat,
        wanted: &Wanted,
    ) -> Option<(DVec3, DQuat)> {
        let place = self.place_of(node)?;
        let (own, parent) = (&self.state.own[place], self.state.parent_stand(place));
        let between = match node == below {
            true => DAffine3::IDENTITY,
            false => self.stand_at(place).world.inverse() * self.stand(below)?.world,
        };
        let above = match self.state.inherits[place] {
            ScaleInheritance::Full => parent.world.matrix3,
            ScaleInheritance::PositionOnly => unscaled(parent.world.matrix3),
        };
        let translation = match wanted.point {
            Some((point, there)) => {
                let matrix = above * DMat3::from_quat(rotation) * own.size;
                let here = there - matrix * between.transform_point3(point);
                parent.world.inverse().transform_point3(here)
            }
            None => own.translation,
        };
        Some((translation, rotation))
    }

    /// How much of its whole length a limb uses in a pose.
    pub fn reach_in(&self, constraint: usize, pose: &Solver<'_>) -> Option<f64> {
        let prepared = &self.prepared[(*self.of_scene.get(constraint)?)?];
        let Kind::Limb(plan) = &prepared.kind else { return None };
        let [root, middle, end] =
            self.joints(plan, prepared.node, pose)?.map(|stand| stand.world.translation);
        let whole = (middle - root).length() + (end - middle).length();
        (whole > 0.0).then(|| (end - root).length() / whole)
    }

    /// How far the goal of a limb is from what its bones can do, as it was solved last, in proportion to its whole length: by which part
    /// it is beyond that, and by which it is nearer than the end where the limb is folded. Where either comes to 0 its joints turn as a root
    /// does. Nothing for what is beyond where it slows down before.
    pub fn out_of_reach(&self, constraint: usize) -> Option<[Option<f64>; 2]> {
        let index = (*self.of_scene.get(constraint)?)?;
        let Kind::Limb(plan) = &self.prepared[index].kind else { return None };
        // One that counts for nothing is not solved.
        let counts = self.state.settings[self.prepared[index].weight] > 0.0;
        let solution = self.limbs[index].as_ref().filter(|_| counts);
        let by = |of: fn(&super::limb::Solution) -> f64| solution.map_or(-1.0, of);
        let beyond = (plan.limb.slack == 0.0).then(|| by(|own| own.wanted - 1.0));
        Some([beyond, Some(by(|own| own.folded - own.wanted))])
    }

    /// Where what a node hangs on stands.
    pub fn above(&self, node: NodeRef) -> Stand {
        self.place_of(node).map_or(Stand::START, |place| *self.state.parent_stand(place))
    }

    fn aimed_at(
        &self,
        aim: &Aim,
        (at, up): (usize, Option<usize>),
        node: NodeRef,
        driven: &Stand,
        serves: Serves,
    ) -> Option<Wanted> {
        let (axis, place) = match (serves, &aim.up) {
            (Serves::Up, Some((axis, Towards::Node(_)))) => (*axis, up?),
            (Serves::Up, _) => return None,
            _ => (aim.axis, at),
        };
        let direction = unit(driven.frame * axis)?;
        let rest = self.state.rests[place].world.translation
            - self.state.rests[self.place_of(node)?].world.translation;
        // As far away as it is; where it was never moved, as far as at rest.
        let now = self.stand_at(place).world.translation - driven.world.translation;
        let distance = if self.nodes[place].is_still { rest.length() } else { now.length() };
        let distance = distance.max(0.1 * rest.length());
        let there = driven.world.translation + direction * distance;
        let about = Some(driven.world.translation);
        Some(Wanted { point: Some((DVec3::ZERO, there)), about, ..Wanted::default() })
    }

    /// The upper, the lower and the end joint of a limb in a pose.
    fn joints<'p>(
        &self,
        plan: &LimbPlan<'_>,
        upper: NodeRef,
        pose: &'p Solver<'_>,
    ) -> Option<[&'p Stand; 3]> {
        Some([pose.stand(upper)?, pose.stand(plan.limb.lower)?, pose.stand(plan.limb.end)?])
    }

    fn goal(&self, plan: &LimbPlan<'_>, upper: NodeRef, pose: &Solver<'_>) -> Option<Wanted> {
        let [root, middle, end] = self.joints(plan, upper, pose)?;
        let (from, to) = (root.world.translation, end.world.translation);
        let whole = (middle.world.translation - from).length() + (to - middle.world.translation).length();
        let way = to - from;
        let stretch = self.state.settings[plan.settings];
        let reached = way.length();
        let asked = plan.way_for(reached, whole, stretch);
        let there = if asked == reached { to } else { from + way * (asked / reached) };
        let frame = (plan.limb.end_turn == EndTurn::Goal).then(|| end.frame * plan.goal.frame.transpose());
        Some(Wanted { point: Some((plan.goal.position, there)), frame, ..Wanted::default() })
    }

    fn pole(&self, plan: &LimbPlan<'_>, upper: NodeRef, pose: &Solver<'_>) -> Option<Wanted> {
        let Some(Towards::Node(_)) = plan.limb.pole else { return None };
        let bend = self.bend_in(plan, upper, pose)?;
        let twist = self.state.settings[plan.settings + 1] * self.state.hand;
        let side = DQuat::from_axis_angle(bend.line, -twist) * bend.side;
        let side = if plan.limb.bends_other { -side } else { side };
        // Where the pole rests beside the limb, turned with it.
        let (root, pole) = (self.state.rests[self.place_of(upper)?], self.state.rests[plan.pole?]);
        let beside = pole.world.translation - root.world.translation;
        let along = plan.line.dot(beside);
        let across = (beside - plan.line * along).length().max(0.25 * bend.whole);
        let there = bend.root + bend.line * along + side * across;
        let (about, line) = (Some(bend.root), Some(bend.line));
        Some(Wanted { point: Some((DVec3::ZERO, there)), frame: None, about, line })
    }

    /// Which way a limb bends in a pose: by where its middle stands, and, the straighter it is, by the hinge of its upper joint.
    fn bend_in(&self, plan: &LimbPlan<'_>, upper: NodeRef, pose: &Solver<'_>) -> Option<Bend> {
        let [root, middle, end] = self.joints(plan, upper, pose)?;
        let parent = pose.above(upper);
        let [from, over, to] = [root, middle, end].map(|stand| stand.world.translation);
        let whole = (over - from).length() + (to - over).length();
        let line = unit(to - from)?;
        let hand = (parent.frame.determinant() * plan.carried.determinant()).signum();
        let normal = parent.frame * DMat3::from_quat(root.rotation) * plan.hinges[0] * hand;
        let by_hinge = normal.cross(line);
        let by_hinge = unit(by_hinge - line * line.dot(by_hinge))?;
        let off = (over - from) - line * line.dot(over - from);
        let Some(by_place) = unit(off) else { return Some(Bend { root: from, line, side: by_hinge, whole }) };
        let agrees = smooth(by_hinge.dot(by_place), AGREES);
        let counts = smooth(off.length() / whole.max(f64::MIN_POSITIVE), BENT) * agrees;
        let angle = line.dot(by_hinge.cross(by_place)).atan2(by_hinge.dot(by_place));
        let side = DQuat::from_axis_angle(line, angle * counts) * by_hinge;
        Some(Bend { root: from, line, side, whole })
    }
}

/// Which way a limb bends.
struct Bend {
    root: DVec3,
    line: DVec3,
    side: DVec3,
    whole: f64,
}

/// A source that one follows.
fn of_source(follow: &Follow, beside: &Beside, driven: &Stand) -> Wanted {
    let all = [true; 3];
    let point = (follow.translation == all).then_some((beside.position, driven.world.translation));
    let frame = (follow.rotation == all).then(|| driven.frame * beside.frame.transpose());
    Wanted { point, frame, ..Wanted::default() }
}

impl LimbPlan<'_> {
    /// How far away the goal has to be so that the end comes so far.
    fn way_for(&self, wanted: f64, whole: f64, stretch: f64) -> f64 {
        let soft = self.limb.slack * whole;
        if soft <= 0.0 || wanted <= whole - soft || stretch >= 1.0 {
            return wanted;
        }
        // What is reached grows with the way, slower and slower.
        let (mut low, mut high) = (wanted, FARTHEST * whole.max(wanted));
        if self.reach(high, whole, stretch).0 < wanted {
            return high;
        }
        for _ in 0..200 {
            let middle = 0.5 * (low + high);
            if middle <= low || middle >= high {
                break;
            }
            if self.reach(middle, whole, stretch).0 < wanted { low = middle } else { high = middle }
        }
        high
    }
}

/// From 0 at the first to 1 at the second, without a corner.
fn smooth(value: f64, [from, to]: [f64; 2]) -> f64 {
    let part = ((value - from) / (to - from)).clamp(0.0, 1.0);
    part * part * (3.0 - 2.0 * part)
}
