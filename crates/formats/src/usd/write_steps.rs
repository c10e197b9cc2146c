//! The steps of a node's transform in the text of a USD layer.

use std::collections::HashSet;
use std::fmt::Write as _;

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::angle::degrees;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::Curve;
use nimble_curve_core::rig::{Node, NodeId, OpValue, ROTATION, SCALE, TRANSLATION, TransformOp};
use nimble_curve_core::rotation::{RotationOrder, principal_euler};
use nimble_curve_core::scene::Target;
use nimble_curve_core::value::Value;

use super::names::{free_name, identifier};
use super::writer::{Driven, Writer, matrix, quaternion, tuple};

impl Writer<'_> {
    /// The steps of a node and their order.
    pub(super) fn steps(&mut self, index: usize, id: NodeId, node: &Node, inner: &str) {
        let (mut order, mut taken) = (Vec::new(), HashSet::new());
        let is_list = node.canonical().is_none();
        for op in &node.transform {
            let target = Target { rig: index, node: id, property: op.name.clone() };
            let controller = self.base.get(&target).copied();
            // Translation, rotation and scale of a node that has no other list are called as everybody calls them.
            let is_plain = !is_list && [TRANSLATION, ROTATION, SCALE].contains(&op.name.as_str());
            let suffix = match is_plain {
                true => String::new(),
                false => format!(":{}", free_name(&identifier(&op.name), &mut taken)),
            };
            if self.step(op, controller, &suffix, inner, &mut order) {
                self.written.insert(target);
            }
        }
        if !order.is_empty() {
            let listed: Vec<String> = order.iter().map(|token| format!("\"{token}\"")).collect();
            let _ = writeln!(self.text, "{inner}uniform token[] xformOpOrder = [{}]", listed.join(", "));
        }
    }

    /// Writes a step; whether what drives it has a place.
    fn step(
        &mut self,
        op: &TransformOp,
        controller: Option<&Controller>,
        suffix: &str,
        indent: &str,
        order: &mut Vec<String>,
    ) -> bool {
        let samples = match controller {
            Some(Controller::Samples(samples)) => Some(samples),
            _ => None,
        };
        let curves: Option<&[Curve]> = match controller {
            Some(Controller::Components(curves)) => Some(curves),
            Some(Controller::Euler(euler)) => Some(&euler.curves),
            _ => None,
        };
        let constant = match controller {
            Some(Controller::Constant(value)) => Some(value),
            _ => None,
        };
        if op.inverse && controller.is_some() {
            let mut forth = Vec::new();
            let plain = TransformOp { inverse: false, ..op.clone() };
            let has_place = self.step(&plain, controller, suffix, indent, &mut forth);
            order.extend(forth.iter().rev().map(|token| inverted(token)));
            return has_place;
        }
        if op.inverse {
            let step = op.value.affine().inverse();
            order.push(format!("xformOp:transform{suffix}"));
            let name = order[order.len() - 1].clone();
            self.attribute(indent, "matrix4d", &name, &matrix(DMat4::from(step)), Driven::Not);
            return false;
        }
        match op.value {
            OpValue::Translate(v) | OpValue::Scale(v) => {
                let head = if matches!(op.value, OpValue::Translate(_)) { "translate" } else { "scale" };
                let v = match constant {
                    Some(Value::Vector(v)) => *v,
                    _ => v,
                };
                match curves {
                    Some(curves) => {
                        for (axis, curve) in curves.iter().enumerate() {
                            let name = format!("xformOp:{head}{}{suffix}", ["X", "Y", "Z"][axis]);
                            let driven =
                                if curve.is_empty() { Driven::Not } else { Driven::Curve(curve, false) };
                            self.attribute(indent, "double", &name, &format!("{}", v[axis] + 0.0), driven);
                            order.push(name);
                        }
                    }
                    None => {
                        let name = format!("xformOp:{head}{suffix}");
                        let driven =
                            samples.map_or(Driven::Not, |samples| Driven::Rows(samples, Box::new(tuple)));
                        self.attribute(indent, "double3", &name, &tuple(&v.to_array()), driven);
                        order.push(name);
                    }
                }
                true
            }
            OpValue::Rotate { .. } | OpValue::Orient(_) if op.name == ROTATION || controller.is_some() => {
                let (own, mut angles) = match op.value {
                    OpValue::Rotate { order, angles } => (order, angles),
                    OpValue::Orient(q) => (RotationOrder::Xyz, principal_euler(RotationOrder::Xyz, q)),
                    _ => return false,
                };
                match constant {
                    Some(Value::Euler { order, angles: held }) if *order == own => angles = *held,
                    Some(value) => {
                        let Some(q) = value.rotation() else { return false };
                        angles = principal_euler(own, q);
                    }
                    None => {}
                }
                if let Some(curves) = curves {
                    let (a, b, c) = own.axes();
                    for axis in [a, b, c] {
                        let name = format!("xformOp:rotate{}{suffix}", ["X", "Y", "Z"][axis]);
                        let driven = if curves[axis].is_empty() {
                            Driven::Not
                        } else {
                            Driven::Curve(&curves[axis], true)
                        };
                        self.attribute(
                            indent,
                            "double",
                            &name,
                            &format!("{}", degrees(angles[axis]) + 0.0),
                            driven,
                        );
                        order.push(name);
                    }
                    return true;
                }
                if let (OpValue::Orient(q), None) = (op.value, samples) {
                    let q = constant.and_then(Value::rotation).unwrap_or(q);
                    let name = format!("xformOp:orient{suffix}");
                    self.attribute(indent, "quatd", &name, &quaternion(q), Driven::Not);
                    order.push(name);
                    return true;
                }
                let name = format!("xformOp:rotate{}{suffix}", own.name().to_ascii_uppercase());
                let row = |row: &[f64]| tuple(&[degrees(row[0]), degrees(row[1]), degrees(row[2])]);
                let driven = samples.map_or(Driven::Not, |samples| Driven::Rows(samples, Box::new(row)));
                self.attribute(indent, "double3", &name, &row(&angles.to_array()), driven);
                order.push(name);
                true
            }
            OpValue::Rotate { .. } | OpValue::Orient(_) => {
                // A constant rotation beside the animated one.
                let name = format!("xformOp:orient{suffix}");
                self.attribute(indent, "quatd", &name, &quaternion(op.value.rotation()), Driven::Not);
                order.push(name);
                true
            }
            OpValue::RotateAxis { axis, angle } => {
                let angle = match constant {
                    Some(Value::Number(held)) => *held,
                    _ => angle,
                };
                let driven = match (curves, samples) {
                    (Some([curve]), _) if !curve.is_empty() => Driven::Curve(curve, true),
                    (_, Some(samples)) => {
                        Driven::Rows(samples, Box::new(|row: &[f64]| format!("{}", degrees(row[0]))))
                    }
                    _ => Driven::Not,
                };
                self.turn_about((axis, angle), driven, suffix, indent, order);
                true
            }
            OpValue::Matrix(_) | OpValue::Shear(_) => {
                let name = format!("xformOp:transform{suffix}");
                let row = |row: &[f64]| matrix(DMat4::from_cols_slice(row));
                let is_matrix = matches!(op.value, OpValue::Matrix(_));
                let held = match constant {
                    Some(Value::Matrix(held)) => Some(**held),
                    _ => None,
                };
                let driven = match samples.filter(|_| is_matrix) {
                    Some(samples) => Driven::Rows(samples, Box::new(row)),
                    None => Driven::Not,
                };
                let rest = held.unwrap_or_else(|| DMat4::from(op.value.affine()));
                self.attribute(indent, "matrix4d", &name, &matrix(rest), driven);
                order.push(name);
                controller.is_none() || (is_matrix && (samples.is_some() || held.is_some()))
            }
        }
    }

    /// A turn about an axis. The standard turns about x, y and z alone: another axis is turned onto x before, and back
    /// behind, so that the angle keeps its keys.
    fn turn_about(
        &mut self,
        (axis, angle): (DVec3, f64),
        driven: Driven<'_>,
        suffix: &str,
        indent: &str,
        order: &mut Vec<String>,
    ) {
        let along = (0..3).find(|&index| axis[index] > 1.0 - 1e-12);
        if along.is_none() && matches!(driven, Driven::Not) {
            let name = format!("xformOp:orient{suffix}");
            let held = OpValue::RotateAxis { axis, angle }.rotation();
            self.attribute(indent, "quatd", &name, &quaternion(held), Driven::Not);
            order.push(name);
            return;
        }
        let name = format!("xformOp:rotate{}{suffix}", ["X", "Y", "Z"][along.unwrap_or(0)]);
        let leant = along.is_none().then(|| format!("xformOp:orient{suffix}_axis"));
        if let Some(leant) = &leant {
            let onto = DQuat::from_rotation_arc(DVec3::X, axis.normalize());
            self.attribute(indent, "quatd", leant, &quaternion(onto), Driven::Not);
            order.push(leant.clone());
        }
        self.attribute(indent, "double", &name, &format!("{}", degrees(angle) + 0.0), driven);
        order.push(name);
        order.extend(leant.map(|leant| format!("!invert!{leant}")));
    }
}

/// The name of a step in the order of a transform, where its inverse acts instead.
fn inverted(token: &str) -> String {
    token.strip_prefix("!invert!").map_or_else(|| format!("!invert!{token}"), str::to_owned)
}
