//! What a node is to come to, said by the steps of its own list: one place and one turn among steps that rest, such as pivots.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::{AngleTolerance, RotationOrder};
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::evaluate::{PropertySampler, Sampler};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{Node, OpValue, ROTATION, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Target, Track};

use super::CarryOptions;
use crate::conversion::{ControllerType, ConversionContext, convert_controller, refitted_numbers};
use crate::rotation_conversion::RotationConversion;
use crate::sampled_function::{SampledFunction, union_times};
use crate::vectors::Linear;

/// A list of steps that can say any place, and any turn or those about some axes: place · rests · turn · rests.
#[derive(Clone, Debug)]
pub(super) struct OwnSteps {
    place: String,
    turn: TurnSteps,
    /// What rests between the place and the turn.
    between: DAffine3,
    /// What rests inside the turn.
    inside: DAffine3,
}

/// The steps that turn.
#[derive(Clone, Debug)]
enum TurnSteps {
    /// One step of three angles.
    Angles(String, RotationOrder),
    /// One step that is a rotation.
    Rotation(String),
    /// Steps about one axis each, from the outermost in: names, axes, and signs.
    Axes(Vec<(String, usize, f64)>),
}

impl OwnSteps {
    /// The steps of a node; `None` where they are not of that kind.
    pub fn of(node: &Node) -> Option<OwnSteps> {
        let (first, others) = node.transform.split_first()?;
        let OpValue::Translate(_) = first.value else { return None };
        if first.inverse {
            return None;
        }
        let (from, to, turn) = turning(others)?;
        let product =
            |steps: &[TransformOp]| steps.iter().fold(DAffine3::IDENTITY, |all, step| all * acting(step));
        let (between, inside) = (product(&others[..from]), product(&others[to..]));
        // What is sized outside the turn would not turn with it.
        let (scale, _, _) = decomposed(&between);
        ((scale - DVec3::ONE).abs().max_element() < 1e-9).then(|| OwnSteps {
            place: first.name.clone(),
            turn,
            between,
            inside,
        })
    }

    /// The order in which its turn is said.
    pub fn order(&self) -> RotationOrder {
        match &self.turn {
            TurnSteps::Angles(_, order) => *order,
            TurnSteps::Rotation(_) => RotationOrder::Xyz,
            TurnSteps::Axes(axes) => {
                let own = axes.iter().map(|(_, axis, _)| *axis);
                let lacking = (0..3).filter(|axis| axes.iter().all(|(_, own, _)| own != axis));
                let all: Vec<usize> = own.chain(lacking).collect();
                RotationOrder::from_axes(all[0], all[1], all[2]).unwrap_or(RotationOrder::Xyz)
            }
        }
    }

    /// The steps to which a place, or a turn, goes first.
    pub fn name_of(&self, property: &str) -> Option<&str> {
        match (property, &self.turn) {
            (TRANSLATION, _) => Some(&self.place),
            (ROTATION, TurnSteps::Angles(name, _) | TurnSteps::Rotation(name)) => Some(name),
            (ROTATION, TurnSteps::Axes(axes)) => axes.first().map(|(name, ..)| name.as_str()),
            _ => None,
        }
    }
}

/// A step as it acts.
fn acting(step: &TransformOp) -> DAffine3 {
    if step.inverse { step.value.affine().inverse() } else { step.value.affine() }
}

/// The steps that turn among some: from which to which, and how.
fn turning(steps: &[TransformOp]) -> Option<(usize, usize, TurnSteps)> {
    let whole = |step: &&TransformOp| {
        !step.inverse && matches!(step.value, OpValue::Rotate { .. } | OpValue::Orient(_))
    };
    let wholes: Vec<&TransformOp> = steps.iter().filter(whole).collect();
    let angles: Vec<&&TransformOp> =
        wholes.iter().filter(|step| matches!(step.value, OpValue::Rotate { .. })).collect();
    let only = (wholes.iter().find(|step| step.name == ROTATION))
        .or(if let [only] = angles[..] { Some(only) } else { None })
        .or(if let [only] = &wholes[..] { Some(only) } else { None });
    let is_axis = |step: &TransformOp| !step.inverse && matches!(step.value, OpValue::RotateAxis { .. });
    if let Some(step) = only.filter(|_| !steps.iter().any(is_axis)) {
        let at = steps.iter().position(|own| own.name == step.name && !own.inverse)?;
        let turn = match step.value {
            OpValue::Rotate { order, .. } => TurnSteps::Angles(step.name.clone(), order),
            _ => TurnSteps::Rotation(step.name.clone()),
        };
        return Some((at, at + 1, turn));
    }
    let from = steps.iter().position(is_axis)?;
    let run = steps[from..].iter().take_while(|step| is_axis(step));
    let axes: Vec<(String, usize, f64)> = run.map(axis).collect::<Option<_>>()?;
    let to = from + axes.len();
    let are_apart =
        axes.iter().enumerate().all(|(at, (_, axis, _))| axes[..at].iter().all(|(_, own, _)| own != axis));
    (are_apart && !steps[to..].iter().any(is_axis)).then_some((from, to, TurnSteps::Axes(axes)))
}

/// The coordinate axis of a step that turns about one, and its sign.
fn axis(step: &TransformOp) -> Option<(String, usize, f64)> {
    let OpValue::RotateAxis { axis, .. } = step.value else { return None };
    let at = (0..3).find(|&at| axis[at].abs() > 1.0 - 1e-9)?;
    Some((step.name.clone(), at, axis[at].signum()))
}

/// Tracks of a plain node that become those of the steps of another one.
pub(super) struct Restated<'a> {
    /// With the plain node.
    pub scene: &'a Scene,
    pub take: &'a Take,
    pub node: (usize, nimble_curve_scene::rig::NodeId),
    pub steps: &'a OwnSteps,
    pub options: &'a CarryOptions,
}

impl Restated<'_> {
    /// The tracks of the steps that come to what the plain node does.
    pub fn tracks(&self) -> Result<Vec<Track>, String> {
        let property = |name: &str| Target::new(self.node.0, self.node.1, name);
        let of = |name: &str| {
            self.take.tracks().find(|(_, track)| track.target == property(name)).map(|(_, track)| track)
        };
        let (place, turn) = (of(TRANSLATION), of(ROTATION));
        let mut tracks = Vec::new();
        let turned = turn.map(|track| self.turned(track)).transpose()?;
        if let Some(turned) = &turned {
            for (name, controller) in self.by_step(turned.clone())? {
                tracks.push(Track { target: property(&name), controller });
            }
        }
        let pivots = self.steps.inside.translation.length() > 1e-12;
        if place.is_some() || turned.is_some() && pivots {
            let controller = self.place(place, turned.as_ref())?;
            tracks.push(Track { target: property(&self.steps.place), controller });
        }
        Ok(tracks)
    }

    fn rotation_of(affine: DAffine3) -> DQuat {
        decomposed(&affine).1
    }

    /// The turn between what rests.
    fn turned(&self, track: &Track) -> Result<Controller, String> {
        let rest = self.scene.rigs[self.node.0].rest_value(self.node.1, ROTATION);
        let rest = rest.unwrap_or(Value::Quaternion(DQuat::IDENTITY));
        let turning = RotationConversion {
            order: self.steps.order(),
            before: Self::rotation_of(self.steps.between).conjugate(),
            after: Self::rotation_of(self.steps.inside).conjugate(),
            tolerance: AngleTolerance { angle: 0.5 * self.options.tolerance.angle, scale: None },
            handles: self.options.handles,
            cache: None,
            rate: self.scene.rate,
            range: self.take.range,
            at_home: false,
        };
        let converted = turning.apply(&whole_angles(&track.controller, &rest, self.take.range.first), &rest);
        converted.map(|converted| converted.controller).ok_or_else(|| {
            format!("a {} controller cannot be said by the partner's steps", track.controller.type_name())
        })
    }

    /// What each step that turns gets.
    fn by_step(&self, turned: Controller) -> Result<Vec<(String, Controller)>, String> {
        let axes = match &self.steps.turn {
            TurnSteps::Angles(name, _) | TurnSteps::Rotation(name) => {
                return Ok(vec![(name.clone(), turned)]);
            }
            TurnSteps::Axes(axes) => axes,
        };
        let order = self.steps.order();
        let angles = match turned {
            Controller::Samples(samples) if samples.kind == SampleKind::Euler(order) => {
                Angles::Samples(samples)
            }
            other => {
                let rest = Value::Euler { order, angles: DVec3::ZERO };
                let context = self.context(PropertyKind::Rotation, rest, 0.25);
                match convert_controller(&other, ControllerType::Curves, &context).map(|made| made.controller)
                {
                    Ok(Controller::Euler(euler)) => Angles::Curves(Box::new(euler.curves)),
                    Ok(_) => return Err(format!("a {} controller has no angles", other.type_name())),
                    Err(error) => return Err(error.to_string()),
                }
            }
        };
        for (lacking, letter) in ["x", "y", "z"].iter().enumerate() {
            let is_there = axes.iter().any(|(_, axis, _)| *axis == lacking);
            if !is_there && angles.largest(lacking) > self.options.tolerance.angle {
                return Err(format!(
                    "it turns about {letter} as well, and its partner has no step that does"
                ));
            }
        }
        Ok(axes.iter().map(|(name, axis, sign)| (name.clone(), angles.about(*axis, *sign))).collect())
    }

    /// Where the node has to stand so that it is in its place, as its pivots move it when it turns.
    fn place(&self, place: Option<&Track>, turned: Option<&Controller>) -> Result<Controller, String> {
        let rig = &self.scene.rigs[self.node.0];
        let rest = |name: &str| rig.rest_value(self.node.1, name);
        let OwnSteps { between, inside, .. } = self.steps;
        let (stand, pivot) = (between.translation, inside.translation);
        let turn_at = between.matrix3;
        let at_rest = rest(ROTATION).and_then(|rest| rest.rotation()).unwrap_or(DQuat::IDENTITY);
        let still =
            Self::rotation_of(*between).conjugate() * at_rest * Self::rotation_of(*inside).conjugate();
        let place_rest = match rest(TRANSLATION) {
            Some(Value::Vector(place)) => place,
            _ => DVec3::ZERO,
        };
        let moved = |place: DVec3, turn: DQuat| place - stand - turn_at * (turn * pivot);
        if let (Some(track), true) = (place, turned.is_none() || pivot.length() <= 1e-12) {
            let linear = Linear::new(
                DQuat::IDENTITY,
                1.0,
                place_rest,
                moved(place_rest, still),
                place_rest,
                moved(place_rest, still),
            );
            if let Some(controller) = linear.controller(&track.controller) {
                return Ok(controller);
            }
        }
        let property = |name: &str| Target::new(self.node.0, self.node.1, name);
        let failed = |error: nimble_curve_scene::evaluate::EvaluateError| error.to_string();
        let mut own_place =
            PropertySampler::new(self.scene, self.take, &property(TRANSLATION)).map_err(failed)?;
        let order = self.steps.order();
        let about = Value::Euler { order, angles: DVec3::ZERO };
        let mut own_turn = match turned {
            Some(controller) => Some(
                Sampler::new(controller, PropertyKind::Rotation, about).map_err(|error| error.to_string())?,
            ),
            None => None,
        };
        let mut value = move |time: f64| {
            let at = match own_place.value_at(time) {
                Value::Vector(at) => at,
                _ => place_rest,
            };
            let turn = own_turn.as_mut().and_then(|turn| turn.value_at(time).rotation()).unwrap_or(still);
            moved(at, turn)
        };
        let range = self.take.range;
        let controllers = || place.map(|track| &track.controller).into_iter().chain(turned);
        if let Some(samples) = controllers().find_map(|controller| controller.samples()) {
            let mut values = Vec::with_capacity(samples.len() * 3);
            for index in 0..samples.len() {
                values.extend(value(samples.time(index).as_f64()).to_array());
            }
            return Ok(Controller::Samples(Samples { kind: SampleKind::Vector, values, ..samples.clone() }));
        }
        let times: Vec<Ticks> = union_times(controllers(), [range.first, range.last], range);
        let context = self.context(
            PropertyKind::Vector(Quantity::Length),
            Value::Vector(moved(place_rest, still)),
            0.5,
        );
        let followed = SampledFunction::of_function(move |time| Value::Vector(value(time)));
        refitted_numbers(&followed, &times, &context, None)
            .map(|made| made.controller)
            .map_err(|error| error.to_string())
    }

    fn context(&self, kind: PropertyKind, rest: Value, part: f64) -> ConversionContext {
        let tolerance = part * self.options.tolerance.of(kind.quantity(), &self.scene.space);
        ConversionContext { kind, rest, tolerance, rate: self.scene.rate, range: self.take.range }
    }
}

/// Angles of which each has a key: one without rests as its node does, and the steps that it goes onto rest otherwise.
fn whole_angles(controller: &Controller, rest: &Value, start: Ticks) -> Controller {
    let (Controller::Euler(euler), Value::Euler { order, angles }) = (controller, rest) else {
        return controller.clone();
    };
    let at_rest = if euler.order == *order { *angles } else { DVec3::ZERO };
    let filled = |axis: usize| match &euler.curves[axis] {
        curve if curve.is_empty() => Curve::constant(start, at_rest[axis]),
        curve => curve.clone(),
    };
    Controller::Euler(EulerCurves { order: euler.order, curves: std::array::from_fn(filled) })
}

/// Angles about the three axes.
enum Angles {
    Curves(Box<[Curve; 3]>),
    Samples(Samples),
}

impl Angles {
    /// The largest about an axis.
    fn largest(&self, axis: usize) -> f64 {
        match self {
            Angles::Curves(curves) => {
                curves[axis].keys().iter().map(|key| key.value.abs()).fold(0.0, f64::max)
            }
            Angles::Samples(samples) => {
                (0..samples.len()).map(|index| samples.row(index)[axis].abs()).fold(0.0, f64::max)
            }
        }
    }

    /// Those about an axis, or its opposite.
    fn about(&self, axis: usize, sign: f64) -> Controller {
        match self {
            Angles::Curves(curves) => Controller::Components(vec![curves[axis].affine(sign, 0.0)]),
            Angles::Samples(samples) => {
                let values = (0..samples.len()).map(|index| sign * samples.row(index)[axis]).collect();
                Controller::Samples(Samples { kind: SampleKind::Number, values, ..samples.clone() })
            }
        }
    }
}
