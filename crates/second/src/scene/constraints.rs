//! Constraints by textbook formulas, from their description in docs/control-rigs.md: each node by recursion, the middle of a limb by
//! the intersection of two circles, turns by arcs and twists. It shares nothing with the program's own solver.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use serde_json::Value as Json;

use super::{Scene, Value, numbers, vector};
use crate::turn::{angles_near, arc, of_angles, quat};

/// Where a node is: its local transform in parts, in the world, and how it is turned there.
#[derive(Clone, Copy, Debug)]
pub struct Placed {
    pub place: DVec3,
    pub turn: DQuat,
    pub world: DAffine3,
    pub frame: DMat3,
}

const ORIGIN: Placed =
    Placed { place: DVec3::ZERO, turn: DQuat::IDENTITY, world: DAffine3::IDENTITY, frame: DMat3::IDENTITY };

/// The constraints of a scene, solved at a frame of a take; at rest without one.
pub struct Solved<'a> {
    scene: &'a Scene,
    at: Option<(usize, f64)>,
    known: RefCell<HashMap<usize, Placed>>,
    straightest: Cell<f64>,
}

fn signs(size: DMat3) -> DMat3 {
    let sign = |n: f64| if n < 0.0 { -1.0 } else { 1.0 };
    DMat3::from_diagonal(DVec3::new(sign(size.x_axis.x), sign(size.y_axis.y), sign(size.z_axis.z)))
}

fn lengths(m: DMat3) -> DVec3 {
    DVec3::new(m.x_axis.length(), m.y_axis.length(), m.z_axis.length())
}

fn across(v: DVec3, line: DVec3) -> DVec3 {
    v - line * (v.dot(line) / line.dot(line))
}

/// The area of a triangle by its sides, also of a flat one (Kahan, *Miscalculating area and angles of a needle-like triangle*).
fn area(a: f64, b: f64, c: f64) -> f64 {
    let mut sides = [a, b, c];
    sides.sort_by(f64::total_cmp);
    let [c, b, a] = sides;
    0.25 * ((a + (b + c)) * (c - (a - b)) * (c + (a - b)) * (a + (b - c))).max(0.0).sqrt()
}

/// The rotation of an orthonormal matrix; of one that mirrors, that of its negative.
fn proper(m: DMat3) -> DQuat {
    DQuat::from_mat3(&if m.determinant() < 0.0 { m * -1.0 } else { m }).normalize()
}

/// The turn that takes one direction to another by the shortest way, and then a second one, turned along, to a fourth about it.
fn turn_onto(from: DVec3, beside: DVec3, to: DVec3, wanted: DVec3) -> DQuat {
    let first = DQuat::from_rotation_arc(from.normalize(), to.normalize());
    let (now, then) = (across(first * beside, to).normalize(), across(wanted, to).normalize());
    let angle = now.cross(then).dot(to.normalize()).atan2(now.dot(then));
    DQuat::from_axis_angle(to.normalize(), angle) * first
}

impl<'a> Solved<'a> {
    pub fn new(scene: &'a Scene, at: Option<(usize, f64)>) -> Solved<'a> {
        Solved { scene, at, known: RefCell::default(), straightest: Cell::new(1.0) }
    }

    /// The least sine of the bend of a limb of those that were asked for.
    pub fn straightest(&self) -> f64 {
        self.straightest.get()
    }

    fn find(&self, address: &str) -> usize {
        self.scene.find(address)
    }

    /// A property with what is coupled to it.
    fn property(&self, node: usize, name: &str) -> Value {
        let mut value = match self.at {
            Some((take, frame)) => self.scene.value(take, node, name, frame),
            None => self.scene.nodes[node].rest(name).unwrap(),
        };
        for constraint in &self.scene.constraints {
            let Some(couple) = constraint.get("couple") else { continue };
            let channel = couple["channel"].as_str().unwrap();
            let (property, axis) = split(channel);
            if self.find(constraint["node"].as_str().unwrap()) != node || property != name {
                continue;
            }
            let (from, path) = couple["from"].as_str().unwrap().rsplit_once(':').unwrap();
            let (read, component) = split(path);
            let from = self.find(from);
            let driver = self.property(from, read);
            let x = match &driver {
                Value::Numbers(list) => list[component],
                Value::Word(word) => f64::from(u8::from(word.as_bool().unwrap())),
                turned => {
                    let (order, near) = self.rest_angles(from, read);
                    angles_in(&order, turned, near)[component]
                }
            };
            let points: Vec<Vec<f64>> = couple["points"].as_array().unwrap().iter().map(numbers).collect();
            let more = straight(&points, x) * self.setting(constraint.get("weight"), 1.0);
            value = match value {
                Value::Numbers(mut list) => {
                    list[axis] += more;
                    Value::Numbers(list)
                }
                turned @ (Value::Angles(..) | Value::Turn(_)) => {
                    let (order, near) = self.rest_angles(node, name);
                    let mut angles = angles_in(&order, &turned, near);
                    angles[axis] += more;
                    Value::Angles(order, angles)
                }
                other => other,
            };
        }
        value
    }

    fn rest_angles(&self, node: usize, property: &str) -> (String, [f64; 3]) {
        match self.scene.nodes[node].rest(property) {
            Some(Value::Angles(order, angles)) => (order, angles),
            _ => ("xyz".to_owned(), [0.0; 3]),
        }
    }

    fn setting(&self, setting: Option<&Json>, default: f64) -> f64 {
        let number = |address: &str| {
            let (node, property) = address.rsplit_once(':').unwrap();
            match self.property(self.find(node), property) {
                Value::Numbers(list) => list[0],
                Value::Word(word) => f64::from(u8::from(word.as_bool().unwrap())),
                _ => panic!("{address}"),
            }
        };
        match setting {
            None => default,
            Some(Json::Number(own)) => own.as_f64().unwrap(),
            Some(Json::String(address)) => number(address),
            Some(other) if other.get("remaining").is_some() => {
                1.0 - number(other["remaining"].as_str().unwrap())
            }
            Some(other) => {
                let (node, property) = other["attribute"].as_str().unwrap().rsplit_once(':').unwrap();
                f64::from(u8::from(
                    self.property(self.find(node), property) == Value::Word(other["is"].clone()),
                ))
            }
        }
    }

    /// A node by its own curves beside its parent.
    fn own(&self, node: usize) -> (DVec3, DQuat, DMat3) {
        let (mut all, mut turn) = (DAffine3::IDENTITY, DQuat::IDENTITY);
        for step in &self.scene.nodes[node].steps {
            let value = self.property(node, &step.name);
            let (mut own, mut rotation) = super::placed(step, &value);
            if step.inverse {
                (own, rotation) = (own.inverse(), rotation.conjugate());
            }
            (all, turn) = (all * own, turn * rotation);
        }
        (all.translation, turn, DMat3::from_quat(turn).transpose() * all.matrix3)
    }

    fn rest(&self) -> Solved<'a> {
        Solved::new(self.scene, None)
    }

    /// Where a node is, its constraints counted; at rest nothing constrains.
    pub fn placed(&self, node: usize) -> Placed {
        if let Some(known) = self.known.borrow().get(&node) {
            return *known;
        }
        let above = self.above(node);
        let (mut place, mut turn, mut size) = self.own(node);
        if self.at.is_some() {
            for constraint in &self.scene.constraints {
                let weight = self.setting(constraint.get("weight"), 1.0);
                if weight == 0.0 {
                    continue;
                }
                let Some((to, by, sized)) = self.wanted(constraint, node, &above, (place, turn, size)) else {
                    continue;
                };
                place += (to - place) * weight;
                turn = arc(turn, by, weight);
                size += (sized - size) * weight;
            }
        }
        let made = self.below(node, &above, (place, turn, size));
        self.known.borrow_mut().insert(node, made);
        made
    }

    fn above(&self, node: usize) -> Placed {
        self.scene.nodes[node].parent.map_or(ORIGIN, |parent| self.placed(parent))
    }

    fn below(&self, node: usize, above: &Placed, (place, turn, size): (DVec3, DQuat, DMat3)) -> Placed {
        let own = DMat3::from_quat(turn) * size;
        let taken = match self.scene.nodes[node].moves_only {
            true => {
                let m = above.world.matrix3;
                DMat3::from_cols(m.x_axis.normalize(), m.y_axis.normalize(), m.z_axis.normalize())
            }
            false => above.world.matrix3,
        };
        let world = DAffine3 { matrix3: taken * own, translation: above.world.transform_point3(place) };
        Placed { place, turn, world, frame: above.frame * DMat3::from_quat(turn) * signs(size) }
    }

    /// What a constraint makes of a node beside its parent, by itself; nothing where it is not about it.
    fn wanted(
        &self,
        constraint: &Json,
        node: usize,
        above: &Placed,
        (place, turn, size): (DVec3, DQuat, DMat3),
    ) -> Option<(DVec3, DQuat, DMat3)> {
        let driven = self.find(constraint["node"].as_str().unwrap());
        let inward = |frame: DMat3| proper(above.frame.transpose() * frame * signs(size));
        if let Some(limb) = constraint.get("limb") {
            let joints = [
                driven,
                self.find(limb["lower"].as_str().unwrap()),
                self.find(limb["end"].as_str().unwrap()),
            ];
            let which = joints.iter().position(|own| *own == node)?;
            let (turns, factors) = self.limb(limb, joints)?;
            let place = if which == 0 { place } else { place * factors[which - 1] };
            return Some((place, turns[which].unwrap_or(turn), size));
        }
        if driven != node {
            return None;
        }
        let rest = self.rest();
        if let Some(follow) = constraint.get("follow") {
            let (mut total, mut there, mut sized) = (0.0, DVec3::ZERO, DVec3::ZERO);
            let mut turns: Vec<(DQuat, f64)> = Vec::new();
            for source in follow["sources"].as_array().unwrap() {
                let weight = self.setting(source.get("weight"), 1.0);
                if weight <= 0.0 {
                    continue;
                }
                let (by, frame, scale) = self.beside(&rest, source, node);
                let of = self.placed(self.find(source["node"].as_str().unwrap()));
                total += weight;
                there += weight * of.world.transform_point3(by);
                sized += weight * lengths(of.world.matrix3) * scale;
                turns.push((inward(of.frame * frame), weight));
            }
            if total == 0.0 {
                return None;
            }
            let mean = match turns.as_slice() {
                [(only, _)] => *only,
                [(a, _), (b, weight)] => arc(*a, *b, weight / total),
                many => {
                    let mut sum = many[0].0 * many[0].1;
                    for (own, weight) in &many[1..] {
                        sum = sum + *own * (if sum.dot(*own) < 0.0 { -weight } else { *weight });
                    }
                    sum.normalize()
                }
            };
            let parts = follow.get("parts").map(|parts| {
                let words = parts.as_array().unwrap().iter().map(|part| part.as_str().unwrap().to_owned());
                words.collect::<Vec<_>>()
            });
            let has = |name: &str, axis: usize| match &parts {
                None => name != "scale",
                Some(words) => {
                    let own = format!("{name}.{}", ["x", "y", "z"][axis]);
                    words.iter().any(|word| word == name || *word == own)
                }
            };
            let wanted = above.world.inverse().transform_point3(there / total);
            let mut made = place;
            for axis in (0..3).filter(|axis| has("translation", *axis)) {
                made[axis] = wanted[axis];
            }
            let turned = if (0..3).all(|axis| has("rotation", axis)) {
                mean
            } else {
                let (order, _) = self.rest_angles(node, "rotation");
                let now = angles_near(&order, turn, [0.0; 3]);
                let then = angles_near(&order, mean, now);
                of_angles(
                    &order,
                    [0, 1, 2].map(|axis| if has("rotation", axis) { then[axis] } else { now[axis] }),
                )
            };
            let mut own = size;
            for axis in (0..3).filter(|axis| has("scale", *axis)) {
                let length = sized[axis] / total / lengths(above.world.matrix3)[axis];
                *own.col_mut(axis) = own.col(axis).normalize() * length;
            }
            return Some((made, turned, own));
        }
        if let Some(aim) = constraint.get("aim") {
            let here = above.world.transform_point3(place);
            let at = self.placed(self.find(aim["at"].as_str().unwrap())).world.translation;
            let to = above.frame.transpose() * (at - here);
            let axis = signs(size) * vector(&aim["axis"]);
            let turned = match aim.get("up") {
                Some(up) => {
                    let lean = above.frame.transpose() * self.towards(&up["to"], here);
                    turn_onto(axis, signs(size) * vector(&up["axis"]), to, lean)
                }
                None => {
                    let rests = rest.own(node).1;
                    DQuat::from_rotation_arc((rests * axis).normalize(), to.normalize()) * rests
                }
            };
            return Some((place, turned, size));
        }
        if let Some(roll) = constraint.get("roll") {
            let source = self.find(roll["source"].as_str().unwrap());
            let now = if source == node { turn } else { self.placed(source).turn };
            let q = rest.own(source).1.conjugate() * now;
            let fraction = self.setting(roll.get("fraction"), 1.0);
            let Some(axis) = roll.get("axis").map(|axis| vector(axis).normalize()) else {
                // The whole turn, so many times about its own axis.
                let near = if q.w < 0.0 { -q } else { q };
                let sine = near.xyz().length();
                let axis = near.xyz().normalize_or(DVec3::X);
                let angle = 2.0 * sine.atan2(near.w);
                return Some((place, turn * DQuat::from_axis_angle(axis, angle * fraction), size));
            };
            let about = roll.get("source_axis").map_or(axis, |own| vector(own).normalize());
            // How far an arm at a right angle to the axis comes round, once what swings is taken off.
            let swung = DQuat::from_rotation_arc(about, (q * about).normalize());
            let left = swung.conjugate() * q;
            let arm = about.any_orthonormal_vector();
            let angle = about.dot(arm.cross(left * arm)).atan2(arm.dot(left * arm));
            return Some((place, turn * DQuat::from_axis_angle(axis, angle * fraction), size));
        }
        None
    }

    /// A point, a frame and factors of scale beside a source.
    fn beside(&self, rest: &Solved<'_>, source: &Json, node: usize) -> (DVec3, DMat3, DVec3) {
        if let Some(offset) = source.get("offset") {
            let position = offset.get("position").map_or(DVec3::ZERO, vector);
            let turn = offset.get("turn").map_or(DQuat::IDENTITY, quat);
            let scale = offset.get("scale").map_or(DVec3::ONE, vector);
            return (position, DMat3::from_quat(turn.normalize()), scale);
        }
        let (from, own) = (rest.placed(self.find(source["node"].as_str().unwrap())), rest.placed(node));
        (
            from.world.inverse().transform_point3(own.world.translation),
            from.frame.inverse() * own.frame,
            lengths(own.world.matrix3) / lengths(from.world.matrix3),
        )
    }

    fn towards(&self, to: &Json, here: DVec3) -> DVec3 {
        let node = to.get("node").map(|node| self.placed(self.find(node.as_str().unwrap())));
        match (to.get("direction"), node) {
            (Some(direction), Some(node)) => node.frame * vector(direction),
            (Some(direction), None) => vector(direction),
            (None, Some(node)) => node.world.translation - here,
            (None, None) => panic!("leans nowhere"),
        }
    }

    /// The turns of a limb's joints beside their parents, and the factors to the lengths of its bones.
    fn limb(&self, limb: &Json, [upper, lower, end]: [usize; 3]) -> Option<([Option<DQuat>; 3], [f64; 2])> {
        let rest = self.rest();
        let above = self.above(upper);
        let (place, _, size) = self.own(upper);
        let factors = [0, 1].map(|bone| self.setting(limb.get("lengths").map(|own| &own[bone]), 1.0));
        // The way from a joint to the next in the space in which the joint turns.
        let bone = |top: usize, bottom: usize, size: DMat3| -> (DVec3, DMat3) {
            let mut chain = vec![bottom];
            while self.scene.nodes[*chain.last().unwrap()].parent != Some(top) {
                chain.push(self.scene.nodes[*chain.last().unwrap()].parent.unwrap());
            }
            let (mut point, mut between) = (DVec3::ZERO, DMat3::IDENTITY);
            for (index, joint) in chain.iter().enumerate() {
                let (place, turn, size) = self.own(*joint);
                let through = if index == 0 { DMat3::IDENTITY } else { DMat3::from_quat(turn) * size };
                if index > 0 {
                    between = DMat3::from_quat(turn) * signs(size) * between;
                }
                point = place + through * point;
            }
            (size * point, between)
        };
        let ((to_lower, between), (to_end, between_end)) = {
            let (_, _, lower_size) = self.own(lower);
            (bone(upper, lower, size), bone(lower, end, lower_size))
        };
        let (to_lower, to_end) = (to_lower * factors[0], to_end * factors[1]);
        // One size is taken over from above.
        let grown = above.world.matrix3.determinant().abs().cbrt();
        let grown_lower = grown * size.determinant().abs().cbrt();
        let (mut a, mut b) = (to_lower.length() * grown, to_end.length() * grown_lower);
        let root = above.world.transform_point3(place);
        let goal = self.placed(self.find(limb["goal"]["node"].as_str().unwrap()));
        let (by, frame, _) = self.beside(&rest, &limb["goal"], end);
        let aim = goal.world.transform_point3(by);
        let mut d = (aim - root).length();
        let slack = limb.get("slack").map_or(0.0, |own| own.as_f64().unwrap()) * (a + b);
        let way = d;
        if slack > 0.0 && d > a + b - slack {
            d = a + b - slack * (-(d - (a + b - slack)) / slack).exp();
        }
        d = d.min(a + b);
        let mut longer = 1.0;
        if way > d {
            longer = 1.0 + self.setting(limb.get("stretch"), 0.0) * (way / d - 1.0);
        }
        (a, b, d) = (a * longer, b * longer, (d * longer).max((a - b).abs() * longer));
        // The plane.
        let (r, m, e) = (rest.placed(upper), rest.placed(lower), rest.placed(end));
        let rest_above = rest.above(upper);
        let carried = above.frame * rest_above.frame.inverse();
        let rest_line = (e.world.translation - r.world.translation).normalize();
        let rest_side = match limb.get("hinge") {
            Some(hinge) => vector(hinge).cross(rest_line).normalize(),
            None => across(m.world.translation - r.world.translation, rest_line).normalize(),
        };
        let line = (aim - root).normalize();
        let mut side = match limb.get("pole") {
            Some(pole) => across(self.towards(pole, root), line).normalize(),
            None => {
                let arced = DQuat::from_rotation_arc((carried * rest_line).normalize(), line);
                across(arced * (carried * rest_side), line).normalize()
            }
        };
        if limb.get("bend").and_then(Json::as_str) == Some("other") {
            side = -side;
        }
        let twist = self.setting(limb.get("twist"), 0.0).to_radians();
        side = DQuat::from_axis_angle(line, twist * self.scene.hand) * side;
        // Two circles around the ends; how far the middle is aside comes from the area of the triangle.
        let along = (a * a + d * d - b * b) / (2.0 * d);
        let aside = 2.0 * area(a, b, d) / d;
        self.straightest.set(self.straightest.get().min(d * aside / (a * b)));
        let middle = line * along + side * aside;
        let tip = line * d;
        let hand = (above.frame.determinant() * rest_above.frame.determinant()).signum();
        let (normal, rest_normal) = (line.cross(side) * hand, rest_line.cross(rest_side));
        let turned = |above: DMat3, rests: DMat3, bone: DVec3, to: DVec3| {
            let hinge = rests.inverse() * rest_normal;
            turn_onto(bone, hinge, above.inverse() * to, above.inverse() * normal)
        };
        let rests = |node: usize| rest.above(node).frame * DMat3::from_quat(rest.own(node).1);
        let first = turned(above.frame, rests(upper), to_lower, middle);
        let below = above.frame * DMat3::from_quat(first) * signs(size) * between;
        let second = turned(below, rests(lower), to_end, tip - middle);
        let (_, _, lower_size) = self.own(lower);
        let ends = below * DMat3::from_quat(second) * signs(lower_size) * between_end;
        let third = match limb.get("end_turn").and_then(Json::as_str) {
            Some("own") => None,
            Some("parent") => Some(rest.own(end).1),
            _ => {
                let (_, _, size) = self.own(end);
                Some(proper(ends.inverse() * goal.frame * frame * signs(size)))
            }
        };
        Some(([Some(first), Some(second), third], factors.map(|factor| factor * longer)))
    }
}

/// A property, and which of its numbers.
fn split(channel: &str) -> (&str, usize) {
    match channel.rsplit_once('.') {
        Some((name, axis)) if ["x", "y", "z"].contains(&axis) => {
            (name, crate::turn::axis(axis.chars().next().unwrap()))
        }
        _ => (channel, 0),
    }
}

fn angles_in(order: &str, value: &Value, near: [f64; 3]) -> [f64; 3] {
    match value {
        Value::Angles(own, angles) if own == order => *angles,
        other => angles_near(order, other.turn().unwrap(), near),
    }
}

/// Straight lines through points, held outside.
fn straight(points: &[Vec<f64>], x: f64) -> f64 {
    if x <= points[0][0] {
        return points[0][1];
    }
    for pair in points.windows(2) {
        if x <= pair[1][0] {
            return pair[0][1] + (pair[1][1] - pair[0][1]) * (x - pair[0][0]) / (pair[1][0] - pair[0][0]);
        }
    }
    points[points.len() - 1][1]
}
