//! Transform stacks of formats that have them: what stands in a node, and the canonical list that it mostly means.

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Key, Ticks};
use nimble_curve_core::parts::decomposed;
use nimble_curve_core::rig::{OpValue, TransformOp};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::time::FrameRate;

/// One transform element of a node.
#[derive(Clone, Debug)]
pub struct Step {
    /// By which channels find it.
    pub sid: Option<String>,
    /// What it does.
    pub kind: StepKind,
    /// Whether a channel animates it.
    pub animated: bool,
    /// Whether the inverse of what it says acts; of what stands still that inverse is what it says.
    pub inverse: bool,
}

#[derive(Clone, Debug)]
pub enum StepKind {
    Translate(DVec3),
    /// Axis, and angle in radians.
    Rotate(DVec3, f64),
    /// Any rotation.
    Orient(DQuat),
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
            StepKind::Orient(q) => q.w.abs() >= 1.0,
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

/// A step that we have written beside the animated rotation.
fn is_beside(step: &Step) -> bool {
    let Some(sid) = &step.sid else { return false };
    let sid = sid.to_ascii_lowercase();
    ["before", "after"].iter().any(|name| sid.contains(name))
}

/// What a rotate about an axis is called without the letter of the axis: whatever rigs call their steps, those of one
/// rotation are called alike.
fn stem(step: &Step) -> Option<String> {
    let (axis, _) = coordinate_axis(step)?;
    let sid = step.sid.as_ref()?.to_ascii_lowercase();
    sid.strip_suffix(['x', 'y', 'z'][axis]).filter(|stem| !stem.is_empty()).map(str::to_owned)
}

fn canonical(steps: &[Step]) -> Option<Mapped> {
    if steps.iter().any(|step| step.inverse) {
        return None;
    }
    if let [Step { kind: StepKind::Matrix(matrix), .. }] = steps {
        return of_matrix(*matrix);
    }
    let busy: Vec<usize> = (0..steps.len()).filter(|&index| !is_idle(&steps[index])).collect();
    let all =
        |of: &dyn Fn(&StepKind) -> bool| (0..steps.len()).filter(|&i| of(&steps[i].kind)).collect::<Vec<_>>();
    let translates = all(&|kind| matches!(kind, StepKind::Translate(_)));
    let rotates = all(&|kind| matches!(kind, StepKind::Rotate(..) | StepKind::Orient(_)));
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
        StepKind::Orient(q) => q,
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
    let rotation = match window[..] {
        [only] if matches!(steps[only].kind, StepKind::Orient(_)) => {
            places[only] = place("rotation", 0, 1.0);
            OpValue::Orient(turn(only))
        }
        _ => {
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
            let missing: Vec<usize> = (0..3).filter(|axis| !axes.contains(axis)).collect();
            axes.extend(missing);
            OpValue::Rotate { order: RotationOrder::from_axes(axes[0], axes[1], axes[2])?, angles }
        }
    };
    let mut ops = vec![op("translation", OpValue::Translate(vector(translate, DVec3::ZERO)))];
    if before != DQuat::IDENTITY {
        ops.push(op("before", OpValue::Orient(before)));
    }
    ops.push(op("rotation", rotation));
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
            let stems = part.first().map(|first: &usize| (stem(&steps[*first]), stem(&steps[index])));
            if matches!(stems, Some((Some(one), Some(other))) if one != other) {
                break;
            }
            axes.push(axis);
            part.push(index);
        }
        let holds = rotates.iter().all(|index| !steps[*index].animated || part.contains(index));
        let animated = part.iter().any(|index| steps[*index].animated);
        let better = best.as_ref().is_none_or(|(was, count, _)| (animated, part.len()) >= (*was, *count));
        if holds && !part.is_empty() && better {
            best = Some((animated, part.len(), part));
        }
    }
    let animated: Vec<usize> = rotates.iter().copied().filter(|&index| steps[index].animated).collect();
    let any_animated = !animated.is_empty();
    let is_orient = |index: usize| matches!(steps[index].kind, StepKind::Orient(_));
    let orients: Vec<usize> =
        rotates.iter().copied().filter(|&index| is_orient(index) && !is_beside(&steps[index])).collect();
    match (animated.as_slice(), orients.as_slice()) {
        ([only], _) if is_orient(*only) => return Some(animated),
        ([], [only]) if best.is_none() => return Some(vec![*only]),
        _ => {}
    }
    match best {
        Some((_, _, part)) => Some(part),
        None if any_animated => None,
        None => Some(Vec::new()),
    }
}

fn of_matrix(matrix: DMat4) -> Option<Mapped> {
    let affine = glam::DAffine3::from_mat4(matrix);
    let (scale, rotation, translation) = decomposed(&affine);
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
            StepKind::Orient(_) => "orient",
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
            StepKind::Orient(q) => OpValue::Orient(q),
            StepKind::Scale(v) => OpValue::Scale(v),
            StepKind::Matrix(m) => OpValue::Matrix(m),
        };
        ops.push(TransformOp { inverse: step.inverse, ..op(&name, value) });
        places.push(Some(Place { property: name, component: 0, factor: 1.0 }));
    }
    Mapped { ops, places }
}

/// Rows of numbers with straight lines, or great arcs, between them: samples where they lie on a grid of `step`, else keys.
pub fn straight(times: &[Ticks], step: Option<FrameRate>, kind: SampleKind, values: Vec<f64>) -> Controller {
    if let Some(rate) = step {
        return Controller::Samples(Samples { start: times[0], rate, kind, values });
    }
    rows_as_keys(times, kind, &values, Interpolation::Linear)
}

/// Rows of numbers as keys that hold or go straight on, turns along great arcs. Of two rows at one instant the first is
/// what comes just before it.
pub fn rows_as_keys(times: &[Ticks], kind: SampleKind, values: &[f64], between: Interpolation) -> Controller {
    let width = kind.width();
    if kind == SampleKind::Quaternion {
        let interpolation = match between {
            Interpolation::Hold => QuaternionInterpolation::Step,
            _ => QuaternionInterpolation::Slerp,
        };
        let mut keys: Vec<QuaternionKey> = Vec::with_capacity(times.len());
        for (&time, row) in times.iter().zip(values.chunks_exact(4)) {
            keys.push(QuaternionKey {
                // Keys of turns have no value before them: the later one stands a tick behind.
                time: keys.last().map_or(time, |last| time.max(Ticks(last.time.0 + 1))),
                value: DQuat::from_slice(row),
                interpolation,
                tangent_in: glam::DVec4::ZERO,
                tangent_out: glam::DVec4::ZERO,
            });
        }
        return Controller::Quaternion(QuaternionCurve {
            keys,
            before: Behaviour::Held,
            after: Behaviour::Held,
        });
    }
    let column = |component: usize| values.iter().skip(component).step_by(width).copied();
    of_curves(kind, (0..width).map(|component| lines(times, column(component), between)).collect())
}

/// Values at ascending times as a curve that holds or goes straight on. Of two at one instant the first is what comes just
/// before it.
pub fn lines(times: &[Ticks], values: impl Iterator<Item = f64>, between: Interpolation) -> Curve {
    let mut keys: Vec<Key> = Vec::with_capacity(times.len());
    for (&time, value) in times.iter().zip(values) {
        match keys.last_mut().filter(|last| last.time >= time) {
            Some(last) => {
                let before = last.value_before.unwrap_or(last.value);
                (last.value, last.value_before) = (value, (before != value).then_some(before));
            }
            None => keys.push(Key::new(time, value).with_interpolation(between).with_slope(0.0)),
        }
    }
    Curve::new(keys).expect("times ascend, and numbers are finite where they are read")
}

/// Curves of the components of a property: of angles where its kind says so.
pub fn of_curves(kind: SampleKind, curves: Vec<Curve>) -> Controller {
    match (kind, <[Curve; 3]>::try_from(curves)) {
        (SampleKind::Euler(order), Ok(curves)) => Controller::Euler(EulerCurves { order, curves }),
        (_, Ok(curves)) => Controller::Components(curves.into()),
        (_, Err(curves)) => Controller::Components(curves),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn step(sid: &str, kind: StepKind) -> Step {
        Step { sid: Some(sid.to_owned()), kind, animated: false, inverse: false }
    }

    fn any_kind() -> impl Strategy<Value = StepKind> {
        let vector = || prop::array::uniform3(-2.0..2.0_f64).prop_map(DVec3::from);
        prop_oneof![
            vector().prop_map(StepKind::Translate),
            (0..3_usize, any::<bool>(), -3.0..3.0_f64).prop_map(|(axis, is_back, angle)| {
                StepKind::Rotate(DVec3::AXES[axis] * if is_back { -1.0 } else { 1.0 }, angle)
            }),
            (vector(), -3.0..3.0_f64).prop_map(|(axis, angle)| {
                StepKind::Orient(DQuat::from_axis_angle(axis.try_normalize().unwrap_or(DVec3::X), angle))
            }),
            prop::array::uniform3(0.5..2.0_f64).prop_map(|v| StepKind::Scale(v.into())),
        ]
    }

    /// Steps that do nothing, of each kind.
    fn any_idle() -> impl Strategy<Value = StepKind> {
        prop::sample::select(vec![
            StepKind::Translate(DVec3::ZERO),
            StepKind::Rotate(DVec3::Y, 0.0),
            StepKind::Orient(DQuat::IDENTITY),
            StepKind::Scale(DVec3::ONE),
        ])
    }

    /// What steps come to, multiplied here.
    fn product(steps: &[Step]) -> DMat4 {
        steps.iter().fold(DMat4::IDENTITY, |whole, step| {
            whole
                * match step.kind {
                    StepKind::Translate(v) => DMat4::from_translation(v),
                    StepKind::Rotate(axis, angle) => DMat4::from_axis_angle(axis.normalize(), angle),
                    StepKind::Orient(q) => DMat4::from_quat(q),
                    StepKind::Scale(v) => DMat4::from_scale(v),
                    StepKind::Matrix(m) => m,
                }
        })
    }

    fn mapped_product(mapped: &Mapped) -> DMat4 {
        mapped.ops.iter().fold(DMat4::IDENTITY, |whole, op| {
            whole
                * match op.value {
                    OpValue::Translate(v) => DMat4::from_translation(v),
                    OpValue::Scale(v) => DMat4::from_scale(v),
                    OpValue::Orient(q) => DMat4::from_quat(q),
                    OpValue::RotateAxis { axis, angle } => DMat4::from_axis_angle(axis, angle),
                    OpValue::Rotate { order, angles } => {
                        let (a, b, c) = order.axes();
                        let about = |axis: usize| DMat4::from_axis_angle(DVec3::AXES[axis], angles[axis]);
                        about(a) * about(b) * about(c)
                    }
                    OpValue::Matrix(m) => m,
                    OpValue::Shear(_) => panic!("no step shears"),
                }
        })
    }

    fn is_canonical(mapped: &Mapped) -> bool {
        let names: Vec<&str> = mapped.ops.iter().map(|op| op.name.as_str()).collect();
        let plain: Vec<&str> =
            names.iter().copied().filter(|name| !["before", "after"].contains(name)).collect();
        plain == ["translation", "rotation", "scale"]
    }

    proptest! {
        #[test]
        fn whatever_the_steps_are_the_transform_is_the_same(kinds in prop::collection::vec(any_kind(), 0..6), animated in prop::option::of(0..6_usize)) {
            let mut steps: Vec<Step> = kinds.into_iter().enumerate().map(|(at, kind)| step(&format!("s{at}"), kind)).collect();
            if let Some(step) = animated.and_then(|at| steps.get_mut(at)) {
                step.animated = true;
            }
            let mapped = map(&steps);
            prop_assert!(mapped_product(&mapped).abs_diff_eq(product(&steps), 1e-9), "{:?}", mapped.ops);
            // What is animated has a place to go.
            for (step, place) in steps.iter().zip(&mapped.places) {
                prop_assert!(!step.animated || place.is_some(), "{step:?}");
            }
        }

        #[test]
        fn steps_that_do_nothing_do_not_make_a_list_of_a_plain_node(
            (idle, at) in (prop::collection::vec(any_idle(), 0..4), prop::collection::vec(0..8_usize, 4)),
            angles in prop::array::uniform3(-1.5..1.5_f64),
        ) {
            let mut steps = vec![step("translate", StepKind::Translate(DVec3::new(1.0, 2.0, 3.0)))];
            for (axis, name) in [(2, "rotateZ"), (1, "rotateY"), (0, "rotateX")] {
                steps.push(step(name, StepKind::Rotate(DVec3::AXES[axis], angles[axis])));
            }
            steps.push(step("scale", StepKind::Scale(DVec3::new(1.0, 2.0, 1.0))));
            for (index, (kind, at)) in idle.into_iter().zip(at).enumerate() {
                steps.insert(at.min(steps.len()), step(&format!("pivot{index}"), kind));
            }
            let mapped = map(&steps);
            prop_assert!(is_canonical(&mapped), "{:?}", mapped.ops);
            prop_assert!(mapped_product(&mapped).abs_diff_eq(product(&steps), 1e-9));
        }
    }

    #[test]
    fn a_step_out_of_order_makes_a_list_only_where_it_does_something_or_will() {
        let turn = || step("rotateX", StepKind::Rotate(DVec3::X, 0.5));
        let moved = |v: DVec3, animated: bool| Step { animated, ..step("pivot", StepKind::Translate(v)) };
        assert!(is_canonical(&map(&[turn(), moved(DVec3::ZERO, false)])));
        assert!(!is_canonical(&map(&[turn(), moved(DVec3::ZERO, true)])));
        assert!(!is_canonical(&map(&[turn(), moved(DVec3::X, false)])));
        let sized = |v: DVec3| [step("scale", StepKind::Scale(v)), turn()];
        assert!(is_canonical(&map(&sized(DVec3::ONE))) && !is_canonical(&map(&sized(DVec3::splat(2.0)))));
    }

    #[test]
    fn turns_that_are_called_otherwise_are_another_rotation() {
        let turn = |name: &str, axis: usize| step(name, StepKind::Rotate(DVec3::AXES[axis], 0.3));
        let named = |mapped: &Mapped| mapped.ops.iter().map(|op| op.name.clone()).collect::<Vec<_>>();
        let one = map(&[turn("spinZ", 2), turn("spinY", 1), turn("spinX", 0)]);
        assert_eq!(named(&one), ["translation", "rotation", "scale"]);
        let two = map(&[turn("orientZ", 2), turn("spinY", 1), turn("spinX", 0)]);
        assert_eq!(named(&two), ["translation", "before", "rotation", "scale"]);
    }
    /// Turns about axes that are not animated stay the rotation beside a fixed turn, which comes before or after them.
    #[test]
    fn still_turns_are_the_rotation_beside_a_fixed_one() {
        let turn = |name: &str, axis: usize| step(name, StepKind::Rotate(DVec3::AXES[axis], 0.3));
        let fixed = || step("orient", StepKind::Orient(DQuat::from_rotation_x(0.4)));
        let of = |op: &TransformOp| (op.name.clone(), matches!(op.value, OpValue::Rotate { .. }));
        let kinds = |mapped: &Mapped| mapped.ops.iter().map(of).collect::<Vec<_>>();
        let named = |name: &str, is_angles: bool| (name.to_owned(), is_angles);
        let after = map(&[turn("rotateZ", 2), turn("rotateY", 1), turn("rotateX", 0), fixed()]);
        assert_eq!(
            kinds(&after),
            [
                named("translation", false),
                named("rotation", true),
                named("after", false),
                named("scale", false)
            ]
        );
        let before = map(&[fixed(), turn("rotateZ", 2), turn("rotateY", 1), turn("rotateX", 0)]);
        assert_eq!(
            kinds(&before),
            [
                named("translation", false),
                named("before", false),
                named("rotation", true),
                named("scale", false)
            ]
        );
        // Alone it is the rotation.
        assert_eq!(
            kinds(&map(&[fixed()])),
            [named("translation", false), named("rotation", false), named("scale", false)]
        );
    }

    /// Rows of turns hold or go along great arcs as they are told; of two at one instant the later one comes a tick behind.
    #[test]
    fn rows_of_turns_hold_or_go_as_told() {
        let times = [0, 10, 10, 20].map(Ticks);
        let turns = [0.0, 0.5, 1.5, 2.0].map(DQuat::from_rotation_y);
        let values: Vec<f64> = turns.iter().flat_map(|q| q.to_array()).collect();
        for (between, wanted) in [
            (Interpolation::Hold, QuaternionInterpolation::Step),
            (Interpolation::Linear, QuaternionInterpolation::Slerp),
        ] {
            let Controller::Quaternion(curve) =
                rows_as_keys(&times, SampleKind::Quaternion, &values, between)
            else {
                panic!("keys of turns")
            };
            let seen: Vec<_> =
                curve.keys.iter().map(|key| (key.time.0, key.value, key.interpolation)).collect();
            let at = [0, 10, 11, 20];
            let wanted: Vec<_> = at.into_iter().zip(turns).map(|(time, turn)| (time, turn, wanted)).collect();
            assert_eq!(seen, wanted);
        }
    }
}
