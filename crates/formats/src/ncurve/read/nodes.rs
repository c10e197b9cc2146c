//! Rigs out of a file.

use std::collections::HashMap;

use glam::{DAffine3, DVec3};
use nimble_curve_core::address::{self, Paths};
use nimble_curve_core::rig::{self, NodeId, OpValue, TransformOp};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::value::Quantity;

use super::{Read, matrix, order, plain, quaternion, vector};
use crate::error::Fault;
use crate::ncurve::model as dto;
use crate::ncurve::units::{Scale, Units};

pub(super) fn read_rig(file: &dto::Rig, units: &Units) -> Result<rig::Rig, Fault> {
    let mut rig = rig::Rig::new(&file.name);
    // Parents stand before their children, so addresses are looked up among the nodes read so far.
    let mut paths = Paths::new(&file.name);
    let mut ids: Vec<NodeId> = Vec::with_capacity(file.nodes.len());
    let mut by_name: HashMap<String, Option<NodeId>> = HashMap::new();
    for node in &file.nodes {
        let part = || format!("rig '{}', node '{}'", file.name, node.name);
        let find = |address: &String| match by_name.get(address) {
            Some(Some(id)) => Ok(*id),
            Some(None) => Err(format!("parent: several nodes are called '{address}': give its path")),
            None => match paths.find(address) {
                Some(position) => Ok(ids[position]),
                None => Err(format!("parent: there is no node '{address}' before it: list parents first")),
            },
        };
        let parent =
            node.parent.as_ref().map(find).transpose().map_err(|message| Fault::in_part(part(), message))?;
        let read = read_node(node, units).map_err(|message| Fault::in_part(part(), message))?;
        let id = rig.add(parent, read).map_err(|error| Fault::in_part(part(), error))?;
        paths.push(parent.and_then(|parent| rig.position(parent)), &node.name);
        ids.push(id);
        // Names stand as they are, or as addresses are written.
        let (plain, written) = (node.name.clone(), address::written(&node.name));
        for name in std::iter::once(plain).chain((written != node.name).then_some(written)) {
            by_name.entry(name).and_modify(|found| *found = None).or_insert(Some(id));
        }
    }
    Ok(rig)
}

pub(in crate::ncurve) fn read_node(file: &dto::Node, units: &Units) -> Read<rig::Node> {
    let mut transform = Vec::new();
    if let Some(list) = &file.transform {
        let short = file.translation.is_some() || file.rotation.is_some() || file.scale.is_some();
        if short || file.before.is_some() || file.after.is_some() {
            return Err("give either 'transform' or translation, before, rotation, after and scale".into());
        }
        for op in list {
            if op.name.is_empty()
                || transform.iter().any(|other: &TransformOp| other.name == op.name && !op.inverse)
            {
                return Err(format!(
                    "each step of 'transform' needs a name of its own, '{}' is not",
                    op.name
                ));
            }
            transform.push(TransformOp {
                name: op.name.clone(),
                value: op_value(op, units)?,
                inverse: op.inverse,
            });
        }
    } else {
        let mut step =
            |name: &str, value| transform.push(TransformOp { name: name.into(), value, inverse: false });
        step("translation", OpValue::Translate(file.translation.as_ref().map_or(DVec3::ZERO, vector)));
        if let Some(op) = &file.before {
            step("before", op_value(op, units)?);
        }
        let at_rest = OpValue::Rotate { order: RotationOrder::Xyz, angles: DVec3::ZERO };
        step("rotation", file.rotation.as_ref().map_or(Ok(at_rest), |op| op_value(op, units))?);
        if let Some(op) = &file.after {
            step("after", op_value(op, units)?);
        }
        step("scale", OpValue::Scale(file.scale.as_ref().map_or(DVec3::ONE, vector)));
    }
    let bind = match &file.bind {
        None => None,
        Some(numbers) => {
            let numbers: Vec<f64> = numbers.iter().map(plain).collect();
            let array: [f64; 12] = numbers.try_into().map_err(|_| "'bind' has 12 numbers".to_owned())?;
            Some(DAffine3::from_cols_array(&array))
        }
    };
    Ok(rig::Node {
        name: file.name.clone(),
        kind: match file.kind {
            dto::Kind::Joint => rig::NodeKind::Joint,
            dto::Kind::Control => rig::NodeKind::Control,
            dto::Kind::End => rig::NodeKind::End,
            dto::Kind::Locator => rig::NodeKind::Locator,
            dto::Kind::Root => rig::NodeKind::Root,
            dto::Kind::Other => rig::NodeKind::Other,
        },
        transform,
        bind,
        inherits: match file.inherits {
            dto::Inherits::Full => rig::ScaleInheritance::Full,
            dto::Inherits::PositionOnly => rig::ScaleInheritance::PositionOnly,
        },
        locked: file.locked.clone(),
        primary: file.primary,
        attributes: file.attributes.iter().map(|a| attribute(a, units)).collect::<Read<_>>()?,
    })
}

pub(super) fn op_value(op: &dto::Op, units: &Units) -> Read<OpValue> {
    let angle = units.scale(Quantity::Angle);
    let mut found = Vec::new();
    found.extend(op.translate.as_ref().map(|v| OpValue::Translate(vector(v))));
    found.extend(op.scale.as_ref().map(|v| OpValue::Scale(vector(v))));
    found.extend(op.shear.as_ref().map(|v| OpValue::Shear(vector(v))));
    if let Some([x, y, z, degrees]) = &op.rotate_axis {
        let axis = DVec3::new(plain(x), plain(y), plain(z));
        if axis.length_squared() < 1e-24 {
            return Err("'rotate_axis' needs an axis that is not zero".into());
        }
        found.push(OpValue::RotateAxis { axis, angle: angle.value(degrees) });
    }
    if let Some(rotate) = &op.rotate {
        let (order, angles) = euler(rotate, angle)?;
        found.push(OpValue::Rotate { order, angles });
    }
    if let Some(q) = &op.orient {
        found.push(OpValue::Orient(quaternion(q)?));
    }
    if let Some(numbers) = &op.matrix {
        found.push(OpValue::Matrix(matrix(numbers)?));
    }
    match found[..] {
        [only] => Ok(only),
        _ => {
            Err("a step has exactly one of translate, rotate_axis, rotate, orient, scale, shear, matrix"
                .into())
        }
    }
}

pub(super) fn euler(file: &dto::Rotate, angle: Scale) -> Read<(RotationOrder, DVec3)> {
    let angles = file
        .angles
        .as_ref()
        .map_or(DVec3::ZERO, |[x, y, z]| DVec3::new(angle.value(x), angle.value(y), angle.value(z)));
    Ok((order(&file.order)?, angles))
}

pub fn attribute(file: &dto::Attribute, units: &Units) -> Read<rig::Attribute> {
    use rig::AttributeKind;
    let mut found = Vec::new();
    if let Some(number) = &file.number {
        let quantity = quantity(number.quantity);
        let scale = units.scale(quantity);
        found.push(AttributeKind::Number {
            default: scale.value(&number.default),
            min: number.min.as_ref().map(|n| scale.value(n)),
            max: number.max.as_ref().map(|n| scale.value(n)),
            quantity,
        });
    }
    if let Some(vector) = &file.vector {
        let quantity = quantity(vector.quantity);
        let scale = units.scale(quantity);
        let default = DVec3::from_array([0, 1, 2].map(|i| scale.value(&vector.default[i])));
        found.push(AttributeKind::Vector { default, quantity });
    }
    found.extend(file.switch.map(|default| AttributeKind::Switch { default }));
    found.extend(file.text.clone().map(|default| AttributeKind::Text { default }));
    if let Some(choice) = &file.choice {
        if !choice.options.contains(&choice.default) {
            return Err(format!("attribute '{}': the default is not one of the options", file.name));
        }
        found
            .push(AttributeKind::Choice { options: choice.options.clone(), default: choice.default.clone() });
    }
    let count = found.len();
    match (found.pop(), count) {
        (Some(kind), 1) => Ok(rig::Attribute { name: file.name.clone(), kind }),
        _ => {
            Err(format!("attribute '{}' has exactly one of number, vector, switch, choice, text", file.name))
        }
    }
}

pub(super) fn quantity(file: dto::Quantity) -> Quantity {
    match file {
        dto::Quantity::Angle => Quantity::Angle,
        dto::Quantity::Length => Quantity::Length,
        dto::Quantity::Number => Quantity::Number,
    }
}
