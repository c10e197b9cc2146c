//! From the layer of a USD file to a scene.

use std::collections::HashSet;

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::SampleKind;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, OpValue, Rig, ScaleInheritance};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer as SceneLayer, Scene, Take, Target, Track};
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::validate::is_usable;
use openusd::sdf::{AbstractData as _, Path};

use super::columns::{Column, blended};
use super::layer::{Layer, Values, numbers};
use super::reader::Reader;
use super::skeleton;
use super::spline::Spline;
use crate::apart::taken_apart;
use crate::error::Fault;
use crate::grid::{self, Clock};
use crate::steps::{Mapped, Step, StepKind, map, straight};

/// What a layer says, without our extra data.
pub struct Plain {
    /// The scene.
    pub scene: Scene,
    /// The prim of each node of its rig; joints of skeletons have theirs behind a colon.
    pub paths: Vec<String>,
    /// What was let pass.
    pub notes: Vec<String>,
}

/// The scene of a layer; `is_exact`: with keys where they are to the last digit, not on frames that they are almost on.
pub fn read(layer: &Layer<'_>, name: &str, rate: Option<FrameRate>, is_exact: bool) -> Result<Plain, Fault> {
    let mut notes = Spline::notes(layer.splines);
    for (field, instead) in
        [("timeCodesPerSecond", "24"), ("framesPerSecond", "24"), ("metersPerUnit", "0.01")]
    {
        if layer.field(&Path::abs_root(), field).is_some() && layer.number(field).is_none() {
            notes.push(format!(
                "it states a {field} that is none: where nothing else says it, {instead} is taken"
            ));
        }
    }
    let codes = layer.number("timeCodesPerSecond").or(layer.number("framesPerSecond")).unwrap_or(24.0);
    let own_rate = format!("{codes}").parse::<FrameRate>().unwrap_or(FrameRate::FPS_24);
    // 29.97 means what it always does.
    let codes = if (codes / own_rate.fps() - 1.0).abs() < 1e-4 { own_rate.fps() } else { codes };
    let rate = rate.unwrap_or(own_rate);
    let mut reader = Reader {
        layer,
        codes,
        clock: if is_exact { Clock::exact(rate) } else { Clock::tolerant(rate) },
        rig: Rig::new(name),
        paths: Vec::new(),
        tracks: Vec::new(),
        notes: Vec::new(),
    };
    // What is still there was not composed, as it came through a pipe.
    if layer.data.has_field(&Path::abs_root(), "subLayers") {
        notes.push("its sublayers are not followed: read it from its file".to_owned());
    }
    reader.prims()?;
    let Reader { clock, rig, paths, tracks, notes: more, .. } = reader;
    notes.extend(more);
    notes.extend(clock.note());
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
    let scene = Scene { rate, space, rigs: vec![rig], sets: Vec::new(), constraints: Vec::new(), takes };
    Ok(Plain { scene, paths, notes })
}

/// One attribute of a transform: which of its numbers drive which numbers of which steps.
struct Drive {
    attribute: Path,
    /// For each number of the attribute, the step and the number in it.
    numbers: Vec<(usize, usize)>,
}

/// What stands in a prim's transform.
struct Steps {
    steps: Vec<Step>,
    drives: Vec<Drive>,
    /// It does not follow the prim above.
    is_free: bool,
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
            for arc in ["references", "payload", "variantSetNames", "inheritPaths", "specializes"] {
                if layer.data.has_field(&path, arc) {
                    self.notes.push(format!(
                        "{}: its {arc} are not followed: read it from its file",
                        path.as_str()
                    ));
                }
            }
            if layer.data.has_field(&path, "clips") {
                self.notes.push(format!("{}: its value clips are not read: flatten it first", path.as_str()));
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
        matches!(kind, "Xform" | "SkelRoot" | "Skeleton" | "Mesh" | "Camera")
            || has_steps()
            || self.has_moving_attributes(path)
    }

    fn node(&mut self, path: &Path, kind: &str, parent: Option<NodeId>) -> Result<NodeId, Fault> {
        let Steps { steps, drives, is_free } = self.steps(path)?;
        // What does not follow the one above stands in the world, as roots do.
        let parent = parent.filter(|_| !is_free);
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
            primary: false,
            attributes,
        };
        let fault = |error: nimble_curve_core::rig::AddError| Fault::in_part(path.as_str(), error);
        let id = self.rig.add(parent, node).map_err(fault)?;
        self.paths.push(path.as_str().to_owned());
        self.transform_tracks(id, &mapped, &drives)?;
        for (property, controller) in driven {
            self.tracks.push(Track { target: Target { rig: 0, node: id, property }, controller });
        }
        Ok(id)
    }

    /// The steps of a prim's transform, and what drives them.
    fn steps(&mut self, path: &Path) -> Result<Steps, Fault> {
        let fault = |message: String| Fault::in_part(path.as_str(), message);
        let attribute = |name: &str| path.append_property(name).map_err(|error| fault(error.to_string()));
        let order = self.layer.names(&attribute("xformOpOrder")?, "default");
        let (mut steps, mut drives): (Vec<Step>, Vec<Drive>) = (Vec::new(), Vec::new());
        let mut is_free = false;
        // Turns and moves along one axis after another join the step that is open.
        let mut joined: Option<(String, HashSet<usize>)> = None;
        for token in &order {
            if token == "!resetXformStack!" {
                // Whatever stands before it does not count.
                (steps, drives, joined, is_free) = (Vec::new(), Vec::new(), None, true);
                self.notes.push(format!("{}: it does not follow its parent: read as a root", path.as_str()));
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
                // A gap is filled by what stands where nothing is said.
                Some(Values::Samples { width, values, gaps, .. }) if gaps.is_empty() => {
                    Some(values[..width].to_vec())
                }
                _ => None,
            };
            let rest = rest.or(first);
            if !rest.iter().flatten().copied().all(is_usable) {
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
            let mut push = |kind: StepKind| {
                // What moves is inverted at each instant.
                let kind = if inverse && !animated { inverted(kind) } else { kind };
                steps.push(Step { sid: Some(sid.clone()), kind, animated, inverse: inverse && animated });
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
                    steps.push(Step { sid: Some(sid), kind, animated: false, inverse: false });
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
            } else if let Some(component) = axis(kind, "translate") {
                let value = numbers(1, 0.0)?[0];
                vec![(push(StepKind::Translate(DVec3::AXES[component] * value)), component)]
            } else if let Some(component) = axis(kind, "scale") {
                let value = numbers(1, 1.0)?[0];
                let mut sized = DVec3::ONE;
                sized[component] = value;
                vec![(push(StepKind::Scale(sized)), component)]
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
            drives.push(Drive { attribute: place, numbers: driven });
        }
        Ok(Steps { steps, drives, is_free })
    }

    /// Matrices over time, taken apart into translation, rotation and scale.
    fn matrices(
        &mut self,
        id: NodeId,
        (codes, values): (&[f64], &[f64]),
        attribute: &Path,
    ) -> Result<(), Fault> {
        let mut times = self.times(codes, attribute)?;
        let mut rows: Vec<DMat4> = values.chunks_exact(16).map(DMat4::from_cols_slice).collect();
        if let Some(all) = blended(&times, &rows, self.clock.rate) {
            self.notes.push(format!(
                "{}: its matrices blend number by number between their times: read as a sample a frame",
                attribute.as_str()
            ));
            let first = self.clock.rate.frame(times[0]) as i64;
            times = (0..all.len() as i64).map(|index| self.clock.rate.ticks(first + index)).collect();
            rows = all;
        }
        let step = grid::step(&times, self.clock.rate);
        let apart = taken_apart(rows.into_iter());
        self.notes.extend(apart.note(attribute.as_str()));
        for (property, kind, numbers) in apart.parts {
            if !numbers.is_empty() {
                self.push(id, property, straight(&times, step, kind, numbers));
            }
        }
        Ok(())
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
            if let Values::Samples { gaps, .. } = &values
                && let (16 | 4, Some(code)) = (whole, gaps.first())
            {
                self.notes.push(format!(
                    "{}: has no value from {code} on, which is not read for whole rotations and matrices",
                    drive.attribute.as_str()
                ));
            }
            if let (16, Values::Samples { codes, values, .. }) = (whole, &values)
                && place.property == "matrix"
            {
                self.matrices(id, (codes, values), &drive.attribute)?;
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
                let step = grid::step(&times, self.clock.rate);
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
}

/// Samples of an orient as they are; nothing of anything else.
fn values_of_orient<'a, 'b>(values: &'b Values<'a>, whole: usize) -> &'b Values<'a> {
    const NONE: &Values<'static> =
        &Values::Samples { codes: Vec::new(), width: 0, values: Vec::new(), gaps: Vec::new() };
    if whole == 4 { values } else { NONE }
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
