//! What makes a scene one that everything else may rely on: finite numbers, controllers that fit their properties, times in
//! range. Readers, the gate before writing and fuzzers all ask here.

mod constraints;

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use thiserror::Error;

use crate::address::Addresses;
use crate::controller::{Controller, SampleKind, StackEntry, TcbKeys, Weight};
use crate::rig::{AttributeKind, Node, OpValue};
use crate::scene::{PropertyKind, Scene, Take, Track};

/// The largest number that a scene may hold: what is made of it, such as the area between two axes, is a number still. It is
/// about what fits single precision, in which most formats keep numbers.
pub const LARGEST: f64 = 1e36;

/// How many frames a take may last: two days of film at 24 a second, five hours of capture at 240.
pub const MOST_FRAMES: i64 = 1 << 22;

/// Whether a number can be worked with.
pub fn is_usable(number: f64) -> bool {
    number.abs() <= LARGEST
}

/// What is wrong with a scene, and where.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{place}: {what}")]
pub struct Invalid {
    /// A node, a channel, a take.
    pub place: String,
    /// What is wrong there.
    pub what: String,
}

impl Scene {
    /// Whether the scene is one that can be evaluated and written.
    ///
    /// # Errors
    /// With the first thing that is wrong.
    pub fn validate(&self) -> Result<(), Invalid> {
        let invalid = |place: &str, what: String| Err(Invalid { place: place.to_owned(), what });
        let metres = self.space.metres_per_unit;
        if !(1e-12..=1e12).contains(&metres) {
            return invalid("space", format!("a unit of {metres} metres is none"));
        }
        let addresses = Addresses::new(self);
        for (index, rig) in self.rigs.iter().enumerate() {
            for (id, node) in rig.nodes() {
                if let Some(what) = wrong_with_node(node) {
                    return invalid(addresses.node((index, id)), what.to_owned());
                }
            }
        }
        if let Some((which, what)) = constraints::wrong_with_constraints(self) {
            let place = match which.and_then(|index| self.constraints.get(index)) {
                Some(own) if !own.name.is_empty() => format!("constraint '{}'", own.name),
                Some(own) => format!("a constraint on '{}'", addresses.node(own.node)),
                None => "constraints".to_owned(),
            };
            return invalid(&place, what);
        }
        for take in &self.takes {
            if let Some((place, what)) = self.wrong_with_take(take, &addresses) {
                return invalid(&place, what);
            }
        }
        Ok(())
    }

    fn wrong_with_take(&self, take: &Take, addresses: &Addresses) -> Option<(String, String)> {
        let here = || format!("take '{}'", take.name);
        let ranges = std::iter::once(take.range).chain(take.clips.iter().map(|clip| clip.range));
        let edges = ranges.flat_map(|TimeRange { first, last }| [first, last]);
        if edges.chain(take.markers.iter().map(|marker| marker.time)).any(|time| !time.is_allowed()) {
            return Some((here(), "a time lies more than 36 days from frame 0".to_owned()));
        }
        let frames = self.rate.frame(take.range.last - take.range.first);
        if frames > MOST_FRAMES as f64 {
            return Some((
                here(),
                format!("it lasts {frames:.0} frames: no more than {MOST_FRAMES} are worked with"),
            ));
        }
        for layer in &take.layers {
            if let Some(what) = wrong_with_weight(&layer.weight) {
                return Some((here(), format!("layer '{}': {what}", layer.name)));
            }
            for track in &layer.tracks {
                if let Some(what) = self.wrong_with_track(track) {
                    let known = self
                        .rigs
                        .get(track.target.rig)
                        .is_some_and(|rig| rig.node(track.target.node).is_some());
                    let place = match known {
                        true => addresses.property(&track.target),
                        false => here(),
                    };
                    return Some((place, what));
                }
            }
        }
        None
    }

    fn wrong_with_track(&self, track: &Track) -> Option<String> {
        let kind = self
            .rigs
            .get(track.target.rig)
            .and_then(|rig| rig.property_kind(track.target.node, &track.target.property));
        let Some(kind) = kind else { return Some("there is no such property".to_owned()) };
        if !fits(&track.controller, kind) {
            let controller = track.controller.type_name();
            return Some(format!("a {controller} controller with such values does not fit this property"));
        }
        wrong_with_controller(&track.controller).map(str::to_owned)
    }
}

fn wrong_with_node(node: &Node) -> Option<&'static str> {
    let steps = node.transform.iter().find_map(|op| match op.value {
        OpValue::Translate(v) | OpValue::Scale(v) | OpValue::Shear(v) => {
            (!all_usable(&v.to_array())).then_some("a step of its transform is not finite, or beyond 1e36")
        }
        OpValue::RotateAxis { axis, angle } => (!(axis.is_finite() && is_usable(angle)))
            .then_some("a turn of its transform is not finite, or beyond 1e36"),
        OpValue::Rotate { angles, .. } => (!all_usable(&angles.to_array()))
            .then_some("an angle of its transform is not finite, or beyond 1e36"),
        OpValue::Orient(q) => (!(q.is_finite() && q.length_squared() > 0.0))
            .then_some("a quaternion of its transform has no length"),
        OpValue::Matrix(m) => (!all_usable(&m.to_cols_array()))
            .then_some("a matrix of its transform is not finite, or beyond 1e36"),
    });
    let attributes = node.attributes.iter().find_map(|attribute| {
        let finite = match &attribute.kind {
            AttributeKind::Number { default, min, max, .. } => {
                is_usable(*default) && [*min, *max].into_iter().flatten().all(f64::is_finite)
            }
            AttributeKind::Vector { default, .. } => all_usable(&default.to_array()),
            _ => true,
        };
        (!finite).then_some("a default or limit of an attribute is not finite, or beyond 1e36")
    });
    steps.or(attributes)
}

/// Whether a controller's values are of the kind that a property takes.
pub fn fits(controller: &Controller, kind: PropertyKind) -> bool {
    use PropertyKind as Kind;
    let wide = |count: usize| match kind {
        Kind::Number(_) => count == 1,
        Kind::Vector(_) | Kind::Scale => count == 3,
        Kind::Matrix => count == 16,
        Kind::Rotation | Kind::Discrete => false,
    };
    match controller {
        Controller::Constant(value) => matches!(
            (value, kind),
            (Value::Number(_), Kind::Number(_))
                | (Value::Vector(_), Kind::Vector(_) | Kind::Scale)
                | (Value::Euler { .. } | Value::Quaternion(_), Kind::Rotation)
                | (Value::Matrix(_), Kind::Matrix)
                | (Value::Discrete(_), Kind::Discrete)
        ),
        Controller::Components(curves) => wide(curves.len()),
        Controller::Euler(_) | Controller::Quaternion(_) => kind == Kind::Rotation,
        Controller::Tcb(curve) => matches!(
            (&curve.keys, kind),
            (TcbKeys::Number(_), Kind::Number(_))
                | (TcbKeys::Vector(_), Kind::Vector(_) | Kind::Scale)
                | (TcbKeys::Rotation(_), Kind::Rotation)
        ),
        Controller::Discrete(_) => kind == Kind::Discrete,
        Controller::Samples(samples) => match samples.kind {
            SampleKind::Euler(_) | SampleKind::Quaternion => kind == Kind::Rotation,
            other => wide(other.width()) && (other == SampleKind::Matrix) == (kind == Kind::Matrix),
        },
        Controller::Stack(entries) => entries.iter().all(|entry| fits(&entry.controller, kind)),
        Controller::Procedural(procedural) => {
            procedural.sampled.as_ref().is_none_or(|sampled| fits(sampled, kind))
        }
    }
}

fn wrong_with_controller(controller: &Controller) -> Option<&'static str> {
    const NOT_FINITE: &str = "it holds a number that is not finite, or beyond 1e36";
    match controller {
        Controller::Constant(value) => match value {
            Value::Quaternion(q) if q.length_squared() == 0.0 => Some("a quaternion has no length"),
            value => value.numbers().is_some_and(|numbers| !all_usable(&numbers)).then_some(NOT_FINITE),
        },
        Controller::Components(_) | Controller::Euler(_) => {
            controller.curves().iter().find_map(wrong_with_curve)
        }
        Controller::Quaternion(curve) => {
            let whole = |q: glam::DQuat| q.is_finite() && q.length_squared() > 0.0;
            let tangents = |key: &crate::controller::QuaternionKey| {
                key.tangent_in.is_finite() && key.tangent_out.is_finite()
            };
            if !curve.keys.iter().all(|key| whole(key.value) && tangents(key)) {
                return Some("a key is no rotation, or has a tangent that is not finite");
            }
            wrong_with_times(curve.keys.iter().map(|key| key.time))
        }
        Controller::Tcb(curve) => match &curve.keys {
            TcbKeys::Number(keys) => wrong_with_times(keys.iter().map(|key| key.time))
                .or_else(|| (!keys.iter().all(|key| is_usable(key.value))).then_some(NOT_FINITE)),
            TcbKeys::Vector(keys) => wrong_with_times(keys.iter().map(|key| key.time)).or_else(|| {
                (!keys.iter().all(|key| all_usable(&key.value.to_array()))).then_some(NOT_FINITE)
            }),
            TcbKeys::Rotation(keys) => wrong_with_times(keys.iter().map(|key| key.time)).or_else(|| {
                let whole = keys.iter().all(|key| key.value.is_finite() && key.value.length_squared() > 0.0);
                (!whole).then_some("a key is no rotation")
            }),
        },
        Controller::Discrete(curve) => wrong_with_times(curve.keys().iter().map(|(time, _)| *time)),
        Controller::Samples(samples) => {
            let width = samples.kind.width();
            if !samples.values.len().is_multiple_of(width) {
                return Some("its samples are not whole: a row lacks numbers");
            }
            if !all_usable(&samples.values) {
                return Some(NOT_FINITE);
            }
            if samples.kind == SampleKind::Quaternion
                && samples.values.chunks_exact(width).any(|row| row.iter().all(|number| *number == 0.0))
            {
                return Some("a sample is a quaternion without length");
            }
            let ends = (!samples.is_empty()).then(|| samples.time(samples.len() - 1));
            ends.into_iter().chain([samples.start]).any(|time| !time.is_allowed()).then_some(TOO_FAR)
        }
        Controller::Stack(entries) => entries.iter().find_map(|StackEntry { weight, controller, .. }| {
            wrong_with_weight(weight).or_else(|| wrong_with_controller(controller))
        }),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().and_then(wrong_with_controller),
    }
}

const TOO_FAR: &str = "a time lies more than 36 days from frame 0";

fn wrong_with_times(times: impl Iterator<Item = Ticks>) -> Option<&'static str> {
    let mut last: Option<Ticks> = None;
    for time in times {
        if !time.is_allowed() {
            return Some(TOO_FAR);
        }
        if last.is_some_and(|last| time <= last) {
            return Some("its keys are not in order of time");
        }
        last = Some(time);
    }
    None
}

fn wrong_with_curve(curve: &Curve) -> Option<&'static str> {
    let finite = |key: &nimble_curve_curves::curve::Key| {
        is_usable(key.value)
            && is_usable(key.left_value())
            && !key.tangent_in.slope_per_second().is_nan()
            && !key.tangent_out.slope_per_second().is_nan()
    };
    if !curve.keys().iter().all(finite) {
        return Some("a key or tangent is not finite, or beyond 1e36");
    }
    wrong_with_times(curve.keys().iter().map(|key| key.time))
}

fn wrong_with_weight(weight: &Weight) -> Option<&'static str> {
    match weight {
        Weight::Constant(weight) => (!weight.is_finite()).then_some("a weight is not finite"),
        Weight::Curve(curve) => wrong_with_curve(curve),
    }
}

fn all_usable(numbers: &[f64]) -> bool {
    numbers.iter().copied().all(is_usable)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::Samples;
    use crate::rig::{NodeKind, Rig};
    use crate::rig::{ROTATION, TRANSLATION};
    use crate::scene::{Layer, Target};
    use crate::space::Space;
    use glam::DVec3;
    use nimble_curve_curves::rotation::RotationOrder;
    use nimble_curve_curves::time::FrameRate;

    fn scene(property: &str, controller: Controller) -> Scene {
        let mut rig = Rig::new("rig");
        let node = Node::new("hips", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
        let node = rig.add(None, node).unwrap();
        let target = Target { rig: 0, node, property: property.to_owned() };
        let take = Take {
            name: "take".into(),
            folder: None,
            range: TimeRange::new(Ticks(0), Ticks(10)),
            clips: Vec::new(),
            markers: Vec::new(),
            layers: vec![Layer::base(vec![Track { target, controller }])],
        };
        let space = Space::METRES_Y_UP;
        Scene {
            rate: FrameRate::FPS_24,
            space,
            rigs: vec![rig],
            sets: Vec::new(),
            constraints: Vec::new(),
            takes: vec![take],
        }
    }

    #[test]
    fn what_does_not_fit_or_is_not_finite_is_named() {
        let samples = |kind, values: Vec<f64>| {
            Controller::Samples(Samples { start: Ticks(0), rate: FrameRate::FPS_24, kind, values })
        };
        let euler = SampleKind::Euler(RotationOrder::Xyz);
        for (property, controller, expected) in [
            (TRANSLATION, samples(SampleKind::Number, vec![1.0]), "does not fit"),
            (TRANSLATION, samples(SampleKind::Vector, vec![1.0, 2.0]), "not whole"),
            (TRANSLATION, samples(SampleKind::Vector, vec![1.0, 2.0, f64::NAN]), "not finite"),
            (ROTATION, samples(SampleKind::Quaternion, vec![0.0; 4]), "without length"),
            (TRANSLATION, samples(euler, vec![0.0; 3]), "does not fit"),
            (ROTATION, Controller::Components(vec![Curve::default()]), "does not fit"),
            ("twist", Controller::Components(vec![Curve::default()]), "no such property"),
        ] {
            let said = scene(property, controller).validate().unwrap_err().to_string();
            assert!(said.contains(expected), "{said}");
        }
        assert_eq!(scene(ROTATION, samples(euler, vec![0.0; 3])).validate(), Ok(()));
    }
}
