//! From the layer of a USD file to a scene.

use std::collections::HashSet;

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::{Controller, SampleKind};
use nimble_curve_core::curve::{Curve, Discrete, DiscreteCurve, Interpolation};
use nimble_curve_core::rig::{
    Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig, ScaleInheritance,
};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer as SceneLayer, Scene, Take, Target, Track};
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::Quantity;
use openusd::sdf::{AbstractData as _, Path, Value};

use super::layer::{Layer, Values, numbers};
use super::reader::Reader;
use super::skeleton;
use super::spline::MARK;
use crate::error::Fault;
use crate::grid;
use crate::steps::{Mapped, Step, StepKind, lines, map, of_curves, straight, taken_apart};

/// The namespace of attributes that users add.
pub const USER: &str = "userProperties:";

/// What a layer says, without our extra data.
pub struct Plain {
    /// The scene.
    pub scene: Scene,
    /// The prim of each node of its rig; joints of skeletons have theirs behind a colon.
    pub paths: Vec<String>,
    /// What was let pass.
    pub notes: Vec<String>,
}

/// The scene of a layer.
pub fn read(layer: &Layer<'_>, name: &str, rate: Option<FrameRate>) -> Result<Plain, Fault> {
    let mut notes = Vec::new();
    let codes = layer.number("timeCodesPerSecond").or(layer.number("framesPerSecond")).unwrap_or(24.0);
    let own_rate = format!("{codes}").parse::<FrameRate>().unwrap_or(FrameRate::FPS_24);
    let mut reader = Reader {
        layer,
        codes,
        rate: rate.unwrap_or(own_rate),
        rig: Rig::new(name),
        paths: Vec::new(),
        tracks: Vec::new(),
        notes: Vec::new(),
    };
    if layer.data.has_field(&Path::abs_root(), "subLayers") {
        notes.push("its sublayers are not followed: flatten it first".to_owned());
    }
    reader.prims()?;
    let Reader { rate, rig, paths, tracks, notes: more, .. } = reader;
    notes.extend(more);
    let up = match layer.text(&Path::abs_root(), "upAxis").as_deref() {
        Some("Z") => UpAxis::Z,
        _ => UpAxis::Y,
    };
    let metres_per_unit = layer.number("metersPerUnit").unwrap_or(0.01);
    let space = Space { metres_per_unit, up, handedness: Handedness::Right };
    let keys = tracks.iter().filter_map(|track: &Track| track.controller.range()).reduce(TimeRange::union);
    let code = |field: &str| layer.number_or_zero(field).map(|code| rate.ticks_at(code / codes * rate.fps()));
    let stated = code("startTimeCode").zip(code("endTimeCode")).filter(|(first, last)| first <= last);
    let takes = match keys {
        None => Vec::new(),
        Some(keys) => vec![Take {
            name: layer.own("nimbleCurveTake").unwrap_or_else(|| name.to_owned()),
            folder: None,
            range: stated.map_or(keys, |(first, last)| TimeRange::new(first, last)),
            clips: Vec::new(),
            markers: Vec::new(),
            layers: vec![SceneLayer::base(tracks)],
        }],
    };
    let scene = Scene { rate, space, rigs: vec![rig], sets: Vec::new(), takes };
    Ok(Plain { scene, paths, notes })
}

/// One attribute of a transform: which of its numbers drive which numbers of which steps.
struct Drive {
    attribute: Path,
    /// For each number of the attribute, the step and the number in it.
    numbers: Vec<(usize, usize)>,
}

impl Reader<'_> {
    fn prims(&mut self) -> Result<(), Fault> {
        let root = Path::abs_root();
        let mut open: Vec<(Path, Option<NodeId>)> = Vec::new();
        let below = |layer: &Layer<'_>, path: &Path| -> Vec<Path> {
            let names = layer.names(path, "primChildren");
            names.into_iter().rev().filter_map(|name| path.append_path(name.as_str()).ok()).collect()
        };
        open.extend(below(self.layer, &root).into_iter().map(|path| (path, None)));
        let mut seen = HashSet::new();
        while let Some((path, parent)) = open.pop() {
            // A list of children may name what is not there, or what has been there already.
            if !self.layer.data.has_spec(&path) || !seen.insert(path.as_str().to_owned()) {
                continue;
            }
            let layer = self.layer;
            for arc in ["references", "payload", "variantSetNames"] {
                if layer.data.has_field(&path, arc) {
                    self.notes
                        .push(format!("{}: its {arc} are not followed: flatten it first", path.as_str()));
                }
            }
            let kind = layer.text(&path, "typeName").unwrap_or_default();
            let node =
                if self.is_node(&path, &kind) { Some(self.node(&path, &kind, parent)?) } else { parent };
            if kind == "Skeleton" {
                skeleton::read(self, &path, node)?;
            }
            open.extend(below(layer, &path).into_iter().map(|path| (path, node)));
        }
        Ok(())
    }

    fn is_node(&self, path: &Path, kind: &str) -> bool {
        let has_steps =
            || self.layer.names(path, "propertyChildren").iter().any(|name| name.starts_with("xformOp:"));
        matches!(kind, "Xform" | "SkelRoot" | "Skeleton" | "Mesh" | "Camera") || has_steps()
    }

    fn node(&mut self, path: &Path, kind: &str, parent: Option<NodeId>) -> Result<NodeId, Fault> {
        let (steps, drives) = self.steps(path)?;
        let mapped = map(&steps);
        let name =
            self.layer.text(path, "displayName").or(path.name().map(str::to_owned)).unwrap_or_default();
        let (attributes, driven) = self.attributes(path)?;
        let node = Node {
            name,
            kind: if kind == "Xform" { NodeKind::Joint } else { NodeKind::Other },
            transform: mapped.ops.clone(),
            bind: None,
            inherits: ScaleInheritance::Full,
            locked: Vec::new(),
            attributes,
        };
        let fault = |error: nimble_curve_core::rig::NoSuchParent| Fault::in_part(path.as_str(), error);
        let id = self.rig.add(parent, node).map_err(fault)?;
        self.paths.push(path.as_str().to_owned());
        self.transform_tracks(id, &mapped, &drives)?;
        for (property, controller) in driven {
            self.tracks.push(Track { target: Target { rig: 0, node: id, property }, controller });
        }
        Ok(id)
    }

    /// The steps of a prim's transform, and what drives them.
    fn steps(&mut self, path: &Path) -> Result<(Vec<Step>, Vec<Drive>), Fault> {
        let fault = |message: String| Fault::in_part(path.as_str(), message);
        let attribute = |name: &str| path.append_property(name).map_err(|error| fault(error.to_string()));
        let order = self.layer.names(&attribute("xformOpOrder")?, "default");
        let (mut steps, mut drives): (Vec<Step>, Vec<Drive>) = (Vec::new(), Vec::new());
        // Turns and moves along one axis after another join the step that is open.
        let mut joined: Option<(String, HashSet<usize>)> = None;
        for token in &order {
            if token == "!resetXformStack!" {
                self.notes
                    .push(format!("{}: it does not follow its parent, which is not read", path.as_str()));
                continue;
            }
            let (name, inverse) = match token.strip_prefix("!invert!") {
                Some(name) => (name, true),
                None => (token.as_str(), false),
            };
            let Some(op) = name.strip_prefix("xformOp:") else {
                return Err(fault(format!("'{token}' is no step of a transform")));
            };
            let (kind, suffix) = op.split_once(':').unwrap_or((op, ""));
            let place = attribute(name)?;
            let animated = self.layer.values(&place)?.is_some();
            let rest = self.layer.field(&place, "default").and_then(|value| numbers(&value));
            let first = match self.layer.values(&place)? {
                Some(Values::Samples { width, values, .. }) => Some(values[..width].to_vec()),
                _ => None,
            };
            let rest = rest.or(first);
            if rest.iter().flatten().any(|number| !number.is_finite()) {
                return Err(fault(format!("'{name}' holds a number that is not finite")));
            }
            let axis = |kind: &str, head: &str| {
                kind.strip_prefix(head).and_then(|axis| ["X", "Y", "Z"].iter().position(|name| *name == axis))
            };
            let sid = if suffix.is_empty() { kind.to_owned() } else { format!("{kind}:{suffix}") };
            let numbers = |count: usize, default: f64| -> Result<Vec<f64>, Fault> {
                match &rest {
                    None => Ok(vec![default; count]),
                    Some(numbers) if numbers.len() == count => Ok(numbers.clone()),
                    Some(_) => Err(fault(format!("'{name}' has a value of another type"))),
                }
            };
            if inverse && animated {
                let twin = drives.iter().any(|drive| drive.attribute == place);
                if !twin {
                    self.notes
                        .push(format!("{}: the inverse of an animated step is not read", path.as_str()));
                }
            }
            let mut push = |kind: StepKind| {
                let kind = if inverse { inverted(kind) } else { kind };
                steps.push(Step { sid: Some(sid.clone()), kind, animated: animated && !inverse });
                steps.len() - 1
            };
            let single = |head: &str| axis(kind, head).filter(|_| !inverse);
            let driven: Vec<(usize, usize)> = if let Some(component) = single("translate").or(single("scale"))
            {
                let is_scale = kind.starts_with("scale");
                let value = numbers(1, if is_scale { 1.0 } else { 0.0 })?[0];
                let group = format!("{} {suffix}", if is_scale { "scale" } else { "translate" });
                let fits =
                    joined.as_ref().is_some_and(|(name, axes)| *name == group && !axes.contains(&component));
                let step = if fits {
                    steps.len() - 1
                } else {
                    joined = Some((group, HashSet::new()));
                    let sid = if suffix.is_empty() { String::new() } else { suffix.to_owned() };
                    let kind =
                        if is_scale { StepKind::Scale(DVec3::ONE) } else { StepKind::Translate(DVec3::ZERO) };
                    steps.push(Step { sid: Some(sid), kind, animated: false });
                    steps.len() - 1
                };
                if let Some((_, axes)) = &mut joined {
                    axes.insert(component);
                }
                if let StepKind::Translate(v) | StepKind::Scale(v) = &mut steps[step].kind {
                    v[component] = value;
                }
                steps[step].animated |= animated;
                drives.push(Drive { attribute: place, numbers: vec![(step, component)] });
                continue;
            } else if let Some(axis) = axis(kind, "rotate") {
                let angle = radians(numbers(1, 0.0)?[0]);
                vec![(push(StepKind::Rotate(DVec3::AXES[axis], angle)), 3)]
            } else {
                match kind {
                    "translate" => {
                        let step = push(StepKind::Translate(DVec3::from_slice(&numbers(3, 0.0)?)));
                        (0..3).map(|number| (step, number)).collect()
                    }
                    "scale" => {
                        let step = push(StepKind::Scale(DVec3::from_slice(&numbers(3, 1.0)?)));
                        (0..3).map(|number| (step, number)).collect()
                    }
                    "orient" => {
                        let q = if rest.is_none() { vec![0.0, 0.0, 0.0, 1.0] } else { numbers(4, 0.0)? };
                        let q = DQuat::from_slice(&q);
                        let q = if q.length_squared() > 0.0 && q != DQuat::IDENTITY {
                            q.normalize()
                        } else {
                            DQuat::IDENTITY
                        };
                        let step = push(StepKind::Orient(q));
                        (0..4).map(|number| (step, number)).collect()
                    }
                    "transform" => {
                        let identity = DMat4::IDENTITY.to_cols_array().to_vec();
                        let m = if rest.is_none() { identity } else { numbers(16, 0.0)? };
                        // Rows of row vectors are columns of column vectors.
                        let step = push(StepKind::Matrix(DMat4::from_cols_slice(&m)));
                        (0..16).map(|number| (step, number)).collect()
                    }
                    other => {
                        // The letters name the axes in the order in which they act, as ours do.
                        let order = other
                            .strip_prefix("rotate")
                            .and_then(|order| order.parse::<RotationOrder>().ok());
                        let order =
                            order.ok_or_else(|| fault(format!("'{token}' is no step of a transform")))?;
                        let angles = numbers(3, 0.0)?;
                        let (a, b, c) = order.axes();
                        let axes = if inverse { [c, b, a] } else { [a, b, c] };
                        let mut driven = vec![(0, 3); 3];
                        for axis in axes {
                            driven[axis].0 = push(StepKind::Rotate(DVec3::AXES[axis], radians(angles[axis])));
                        }
                        driven
                    }
                }
            };
            joined = None;
            if !inverse {
                drives.push(Drive { attribute: place, numbers: driven });
            }
        }
        Ok((steps, drives))
    }

    fn transform_tracks(&mut self, id: NodeId, mapped: &Mapped, drives: &[Drive]) -> Result<(), Fault> {
        // For each property, its numbers in order of the steps.
        let mut properties: Vec<(String, Vec<Option<Column<'_>>>)> = Vec::new();
        for drive in drives {
            let Some(values) = self.layer.values(&drive.attribute)? else { continue };
            let fault = |message: String| Fault::in_part(drive.attribute.as_str(), message);
            if let Values::Samples { width, .. } = &values
                && *width != drive.numbers.len()
            {
                return Err(fault("its time samples are of another type than it is".to_owned()));
            }
            let Some(place) = drive.numbers.first().and_then(|(step, _)| mapped.places[*step].as_ref())
            else {
                continue;
            };
            let whole = drive.numbers.len();
            if let (16, Values::Samples { codes, values, .. }) = (whole, &values)
                && place.property == "matrix"
            {
                let times = self.times(codes, &drive.attribute)?;
                let step = grid::step(&times, self.rate);
                let rows = values.chunks_exact(16).map(DMat4::from_cols_slice);
                for (property, kind, numbers) in taken_apart(rows) {
                    if !numbers.is_empty() {
                        self.push(id, property, straight(&times, step, kind, numbers));
                    }
                }
                continue;
            }
            if let (4, Values::Samples { codes, values, .. }) = (whole, values_of_orient(&values, whole)) {
                let times = self.times(codes, &drive.attribute)?;
                let mut last: Option<DQuat> = None;
                let rows = values.chunks_exact(4).flat_map(|row| {
                    let q = DQuat::from_slice(row);
                    let q = if q.length_squared() > 0.0 { q.normalize() } else { DQuat::IDENTITY };
                    let q = if last.is_some_and(|last| last.dot(q) < 0.0) { -q } else { q };
                    last = Some(q);
                    q.to_array()
                });
                let rows: Vec<f64> = rows.collect();
                let step = grid::step(&times, self.rate);
                self.push(id, &place.property.clone(), straight(&times, step, SampleKind::Quaternion, rows));
                continue;
            }
            let values = std::rc::Rc::new(values);
            for (number, (step, within)) in drive.numbers.iter().enumerate() {
                let Some(place) = &mapped.places[*step] else { continue };
                let component = if *within == 3 && whole != 16 { place.component } else { *within };
                let column = Column {
                    attribute: drive.attribute.clone(),
                    values: values.clone(),
                    number,
                    is_angle: *within == 3 && whole != 16,
                    by: place.factor,
                };
                let at =
                    properties.iter().position(|(name, _)| *name == place.property).unwrap_or_else(|| {
                        properties.push((place.property.clone(), vec![None; 16]));
                        properties.len() - 1
                    });
                properties[at].1[component] = Some(column);
            }
        }
        for (property, mut columns) in properties {
            let Some(op) = self.rig.node(id).and_then(|node| node.op(&property)).map(|op| op.value) else {
                continue;
            };
            let (count, kind) = match op {
                OpValue::RotateAxis { .. } => (1, SampleKind::Number),
                OpValue::Rotate { order, .. } => (3, SampleKind::Euler(order)),
                OpValue::Matrix(_) => (16, SampleKind::Matrix),
                _ => (3, SampleKind::Vector),
            };
            columns.truncate(count);
            let controller = self.controller(&columns, kind)?;
            self.push(id, &property, controller);
        }
        Ok(())
    }

    fn controller(&self, columns: &[Option<Column<'_>>], kind: SampleKind) -> Result<Controller, Fault> {
        let first = columns.iter().flatten().next().and_then(|column| match column.values.as_ref() {
            Values::Samples { codes, .. } => Some((codes, &column.attribute)),
            Values::Spline(_) => None,
        });
        let alike = |column: &Option<Column<'_>>| match column.as_ref().map(|column| column.values.as_ref()) {
            Some(Values::Samples { codes, .. }) => first.is_some_and(|(all, _)| all == codes),
            _ => false,
        };
        if let Some((codes, attribute)) = first
            && columns.iter().all(alike)
        {
            let times = self.times(codes, attribute)?;
            let mut values = vec![0.0; times.len() * columns.len()];
            for (component, column) in columns.iter().flatten().enumerate() {
                for (row, value) in column.numbers().into_iter().enumerate() {
                    values[row * columns.len() + component] = value;
                }
            }
            return Ok(straight(&times, grid::step(&times, self.rate), kind, values));
        }
        let curves = columns.iter().map(|column| match column {
            Some(column) => column.curve(self),
            None => Ok(Curve::default()),
        });
        let curves = curves.collect::<Result<Vec<Curve>, Fault>>()?;
        Ok(of_curves(kind, curves))
    }

    /// The numbers and switches that users added to a prim, with what drives them.
    #[allow(clippy::type_complexity)]
    fn attributes(&self, path: &Path) -> Result<(Vec<Attribute>, Vec<(String, Controller)>), Fault> {
        let (mut attributes, mut driven) = (Vec::new(), Vec::new());
        for property in self.layer.names(path, "propertyChildren") {
            let Some(name) = property.strip_prefix(USER).filter(|name| !name.ends_with(MARK)) else {
                continue;
            };
            let Ok(place) = path.append_property(property.as_str()) else { continue };
            let default = self.layer.field(&place, "default");
            let is_switch = self.layer.text(&place, "typeName").as_deref() == Some("bool");
            let kind = match default.as_deref() {
                Some(Value::Bool(on)) => AttributeKind::Switch { default: *on },
                held if is_switch => {
                    AttributeKind::Switch { default: held.and_then(switch).unwrap_or(false) }
                }
                Some(Value::String(text)) => AttributeKind::Text { default: text.clone() },
                Some(Value::Token(text)) => AttributeKind::Text { default: text.as_str().to_owned() },
                other => {
                    let default = other
                        .and_then(numbers)
                        .filter(|numbers| numbers.len() == 1)
                        .map(|numbers| numbers[0]);
                    let kind = self.layer.text(&place, "typeName").unwrap_or_default();
                    if default.is_none() && !matches!(kind.as_str(), "double" | "float" | "half" | "int") {
                        continue;
                    }
                    let default = default.unwrap_or(0.0);
                    AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number }
                }
            };
            let controller = match &kind {
                AttributeKind::Number { .. } => match self.layer.values(&place)? {
                    Some(values) => {
                        let values = std::rc::Rc::new(values);
                        let column = Column { attribute: place, values, number: 0, is_angle: false, by: 1.0 };
                        Some(self.controller(&[Some(column)], SampleKind::Number)?)
                    }
                    None => None,
                },
                _ => self.discrete(&place, is_switch)?,
            };
            driven.extend(controller.map(|controller| (name.to_owned(), controller)));
            attributes.push(Attribute { name: name.to_owned(), kind });
        }
        Ok((attributes, driven))
    }

    fn discrete(&self, attribute: &Path, is_switch: bool) -> Result<Option<Controller>, Fault> {
        let Some(samples) = self.layer.field(attribute, "timeSamples") else { return Ok(None) };
        let Value::TimeSamples(samples) = samples.as_ref() else { return Ok(None) };
        let value = |value: &Value| match value {
            value if is_switch => switch(value).map(Discrete::Switch),
            Value::Bool(on) => Some(Discrete::Switch(*on)),
            Value::String(text) => Some(Discrete::Text(text.clone())),
            Value::Token(text) => Some(Discrete::Text(text.as_str().to_owned())),
            _ => None,
        };
        let kept: Vec<(f64, Discrete)> =
            samples.iter().filter_map(|(code, held)| Some((*code, value(held)?))).collect();
        let codes: Vec<f64> = kept.iter().map(|(code, _)| *code).collect();
        let times = self.times(&codes, attribute)?;
        let keys = times.into_iter().zip(kept.into_iter().map(|(_, value)| value)).collect();
        let curve = DiscreteCurve::new(keys).map_err(|error| Fault::in_part(attribute.as_str(), error))?;
        Ok(Some(Controller::Discrete(curve)))
    }
}

/// A value of an attribute of type `bool`: parsers give its words and numbers as they stand in the text.
fn switch(value: &Value) -> Option<bool> {
    let word = match value {
        Value::Bool(on) => return Some(*on),
        Value::String(word) => word.as_str(),
        Value::Token(word) => word.as_str(),
        other => return numbers(other)?.first().map(|number| *number != 0.0),
    };
    match word {
        "true" | "1" => Some(true),
        "false" | "0" => Some(false),
        _ => None,
    }
}

/// Samples of an orient as they are; nothing of anything else.
fn values_of_orient<'a, 'b>(values: &'b Values<'a>, whole: usize) -> &'b Values<'a> {
    const NONE: &Values<'static> = &Values::Samples { codes: Vec::new(), width: 0, values: Vec::new() };
    if whole == 4 { values } else { NONE }
}

/// Where one number of a property comes from.
#[derive(Clone)]
struct Column<'a> {
    attribute: Path,
    values: std::rc::Rc<Values<'a>>,
    number: usize,
    is_angle: bool,
    by: f64,
}

impl Column<'_> {
    fn value(&self, number: f64) -> f64 {
        self.by * if self.is_angle { radians(number) } else { number }
    }

    fn numbers(&self) -> Vec<f64> {
        match self.values.as_ref() {
            Values::Samples { width, values, .. } => {
                values.iter().skip(self.number).step_by(*width).map(|&number| self.value(number)).collect()
            }
            Values::Spline(_) => Vec::new(),
        }
    }

    fn curve(&self, reader: &Reader<'_>) -> Result<Curve, Fault> {
        match self.values.as_ref() {
            Values::Spline(spline) => {
                let rise = self.by * if self.is_angle { 1_f64.to_radians() } else { 1.0 };
                let codes = format!("{}", reader.codes).parse::<FrameRate>().unwrap_or(reader.rate);
                spline
                    .curve(codes, |number| self.value(number), rise)
                    .map_err(|message| Fault::in_part(self.attribute.as_str(), message))
            }
            Values::Samples { codes, .. } => {
                let times = reader.times(codes, &self.attribute)?;
                Ok(lines(&times, self.numbers().into_iter(), Interpolation::Linear))
            }
        }
    }
}

/// The inverse of a step.
fn inverted(kind: StepKind) -> StepKind {
    match kind {
        StepKind::Translate(v) => StepKind::Translate(-v),
        StepKind::Rotate(axis, angle) => StepKind::Rotate(axis, -angle),
        StepKind::Orient(q) => StepKind::Orient(q.conjugate()),
        StepKind::Scale(v) => StepKind::Scale(v.recip()),
        StepKind::Matrix(m) => StepKind::Matrix(m.inverse()),
    }
}
