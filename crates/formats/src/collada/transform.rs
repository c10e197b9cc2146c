//! Transform stacks: what stands in a node, and the canonical list that it mostly means.

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::rig::{OpValue, TransformOp};
use nimble_curve_core::rotation::RotationOrder;

/// One transform element of a node, in degrees as it stands.
#[derive(Clone, Debug)]
pub struct Step {
    /// By which channels find it.
    pub sid: Option<String>,
    /// What it does.
    pub kind: StepKind,
    /// Whether a channel animates it.
    pub animated: bool,
}

#[derive(Clone, Debug)]
pub enum StepKind {
    Translate(DVec3),
    /// Axis, and angle in radians.
    Rotate(DVec3, f64),
    Scale(DVec3),
    Matrix(DMat4),
}

/// Where a number of a step goes.
#[derive(Clone, Debug, PartialEq)]
pub struct Place {
    /// The property.
    pub property: String,
    /// The component that the step's first number is; its others follow.
    pub component: usize,
    /// What its numbers are multiplied by.
    pub factor: f64,
}

/// A node's steps as ours, and where the numbers of each step of the file go.
pub struct Mapped {
    pub ops: Vec<TransformOp>,
    pub places: Vec<Option<Place>>,
}

/// The steps as the canonical list where they are one, else as a list of their own.
pub fn map(steps: &[Step]) -> Mapped {
    canonical(steps).unwrap_or_else(|| list(steps))
}

fn op(name: &str, value: OpValue) -> TransformOp {
    TransformOp { name: name.to_owned(), value, inverse: false }
}

/// Whether a step does nothing and never will.
fn is_idle(step: &Step) -> bool {
    !step.animated
        && match step.kind {
            StepKind::Translate(v) => v == DVec3::ZERO,
            StepKind::Rotate(_, angle) => angle == 0.0,
            StepKind::Scale(v) => v == DVec3::ONE,
            StepKind::Matrix(m) => m == DMat4::IDENTITY,
        }
}

/// The coordinate axis along which a rotate turns, and 1 or −1.
fn coordinate_axis(step: &Step) -> Option<(usize, f64)> {
    let StepKind::Rotate(axis, _) = step.kind else { return None };
    (0..3).find_map(|index| {
        let along = axis[index] / axis.length();
        (along.abs() > 1.0 - 1e-9).then_some((index, along.signum()))
    })
}

/// A step that rigs put beside the animated rotation, by the names under which such steps are known.
fn is_beside(step: &Step) -> bool {
    let Some(sid) = &step.sid else { return false };
    let sid = sid.to_ascii_lowercase();
    ["jointorient", "rotateaxis", "preferred", "before", "after"].iter().any(|name| sid.contains(name))
}

fn canonical(steps: &[Step]) -> Option<Mapped> {
    if let [Step { kind: StepKind::Matrix(matrix), .. }] = steps {
        return of_matrix(*matrix);
    }
    let busy: Vec<usize> = (0..steps.len()).filter(|&index| !is_idle(&steps[index])).collect();
    let all =
        |of: &dyn Fn(&StepKind) -> bool| (0..steps.len()).filter(|&i| of(&steps[i].kind)).collect::<Vec<_>>();
    let translates = all(&|kind| matches!(kind, StepKind::Translate(_)));
    let rotates = all(&|kind| matches!(kind, StepKind::Rotate(..)));
    let scales = all(&|kind| matches!(kind, StepKind::Scale(_)));
    // Only steps that do something have to stand in order: one translate, rotates, one scale.
    let needed = |of: &[usize]| of.iter().copied().filter(|index| busy.contains(index)).collect::<Vec<_>>();
    let (moving, sizing) = (needed(&translates), needed(&scales));
    let turning = needed(&rotates);
    let matrix = steps.iter().any(|step| matches!(step.kind, StepKind::Matrix(_)));
    let in_order = moving.len() <= 1
        && sizing.len() <= 1
        && moving.iter().all(|m| turning.iter().chain(&sizing).all(|other| m < other))
        && turning.iter().all(|turn| sizing.iter().all(|size| turn < size));
    if matrix || !in_order {
        return None;
    }
    let window = window(steps, &rotates)?;
    let mut places: Vec<Option<Place>> = vec![None; steps.len()];
    let place =
        |property: &str, component, factor| Some(Place { property: property.to_owned(), component, factor });
    let vector = |found: Option<usize>, default: DVec3| match found.map(|index| &steps[index].kind) {
        Some(StepKind::Translate(v) | StepKind::Scale(v)) => *v,
        _ => default,
    };
    let translate = moving.first().or(translates.first()).copied();
    let scale = sizing.first().or(scales.last()).copied();
    if let Some(index) = translate {
        places[index] = place("translation", 0, 1.0);
    }
    if let Some(index) = scale {
        places[index] = place("scale", 0, 1.0);
    }
    let turn = |index: usize| match steps[index].kind {
        StepKind::Rotate(axis, angle) => DQuat::from_axis_angle(axis.normalize(), angle),
        _ => DQuat::IDENTITY,
    };
    let (first, last) = match (window.first(), window.last()) {
        (Some(&first), Some(&last)) => (first, last),
        _ => (usize::MAX, usize::MAX),
    };
    let product =
        |part: &mut dyn Iterator<Item = usize>| part.fold(DQuat::IDENTITY, |q, index| q * turn(index));
    let before = product(&mut rotates.iter().copied().filter(|&index| first == usize::MAX || index < first));
    let after = product(&mut rotates.iter().copied().filter(|&index| first != usize::MAX && index > last));
    let mut axes: Vec<usize> = Vec::new();
    let mut angles = DVec3::ZERO;
    for &index in &window {
        let (axis, sign) = coordinate_axis(&steps[index])?;
        axes.push(axis);
        if let StepKind::Rotate(_, angle) = steps[index].kind {
            angles[axis] = sign * angle;
        }
        places[index] = place("rotation", axis, sign);
    }
    axes.extend((0..3).filter(|axis| !axes.contains(axis)).collect::<Vec<_>>());
    let order = RotationOrder::from_axes(axes[0], axes[1], axes[2])?;
    let mut ops = vec![op("translation", OpValue::Translate(vector(translate, DVec3::ZERO)))];
    if before != DQuat::IDENTITY {
        ops.push(op("before", OpValue::Orient(before)));
    }
    ops.push(op("rotation", OpValue::Rotate { order, angles }));
    if after != DQuat::IDENTITY {
        ops.push(op("after", OpValue::Orient(after)));
    }
    ops.push(op("scale", OpValue::Scale(vector(scale, DVec3::ONE))));
    Some(Mapped { ops, places })
}

/// The rotates that are the animated rotation: up to three in a row about different coordinate axes, all that are
/// animated among them. `None` where there are no such.
fn window(steps: &[Step], rotates: &[usize]) -> Option<Vec<usize>> {
    let mut best: Option<(bool, usize, Vec<usize>)> = None;
    for start in 0..rotates.len() {
        let mut axes = Vec::new();
        let mut part = Vec::new();
        for &index in &rotates[start..] {
            let Some((axis, _)) = coordinate_axis(&steps[index]).filter(|(axis, _)| !axes.contains(axis))
            else {
                break;
            };
            if is_beside(&steps[index]) && !steps[index].animated {
                break;
            }
            axes.push(axis);
            part.push(index);
        }
        let holds = rotates.iter().all(|index| !steps[*index].animated || part.contains(index));
        let animated = part.iter().any(|index| steps[*index].animated);
        let better = best.as_ref().is_none_or(|(was, count, _)| (animated, part.len()) > (*was, *count));
        if holds && !part.is_empty() && better {
            best = Some((animated, part.len(), part));
        }
    }
    let any_animated = rotates.iter().any(|&index| steps[index].animated);
    match best {
        Some((_, _, part)) => Some(part),
        None if any_animated => None,
        None => Some(Vec::new()),
    }
}

fn of_matrix(matrix: DMat4) -> Option<Mapped> {
    let affine = glam::DAffine3::from_mat4(matrix);
    let (scale, rotation, translation) = affine.to_scale_rotation_translation();
    let again = glam::DAffine3::from_scale_rotation_translation(scale, rotation, translation);
    if !rotation.is_finite() || !again.abs_diff_eq(affine, 1e-5 * (1.0 + scale.abs().max_element())) {
        return None;
    }
    let ops = vec![
        op("translation", OpValue::Translate(translation)),
        op("rotation", OpValue::Orient(rotation)),
        op("scale", OpValue::Scale(scale)),
    ];
    Some(Mapped { ops, places: vec![Some(Place { property: "matrix".into(), component: 0, factor: 1.0 })] })
}

/// Any other list, each step under its own name.
fn list(steps: &[Step]) -> Mapped {
    let mut names: Vec<String> = Vec::new();
    let mut ops = Vec::with_capacity(steps.len());
    let mut places = Vec::with_capacity(steps.len());
    for step in steps {
        let kind = match step.kind {
            StepKind::Translate(_) => "translate",
            StepKind::Rotate(..) => "rotate",
            StepKind::Scale(_) => "scale",
            StepKind::Matrix(_) => "matrix",
        };
        let wanted = step.sid.clone().filter(|sid| !sid.is_empty()).unwrap_or_else(|| kind.to_owned());
        let mut name = wanted.clone();
        for number in 2.. {
            if !names.contains(&name) {
                break;
            }
            name = format!("{wanted} {number}");
        }
        names.push(name.clone());
        let value = match step.kind {
            StepKind::Translate(v) => OpValue::Translate(v),
            StepKind::Rotate(axis, angle) => OpValue::RotateAxis { axis: axis.normalize(), angle },
            StepKind::Scale(v) => OpValue::Scale(v),
            StepKind::Matrix(m) => OpValue::Matrix(m),
        };
        ops.push(op(&name, value));
        places.push(Some(Place { property: name, component: 0, factor: 1.0 }));
    }
    Mapped { ops, places }
}
