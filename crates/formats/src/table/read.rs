//! From a table to a scene.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::address::{parts, unquoted};
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_core::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks,
};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_core::value::Quantity;

use super::COLUMNS;
use crate::encoded::Plain;
use crate::error::Fault;
use crate::grid;

/// Reads the scene in a table; `name` becomes the name of its rig, and of its take where it says none.
///
/// # Errors
/// With the number of the line on which something is wrong.
pub fn read(text: &str, name: &str, assume: Space, rate: Option<FrameRate>) -> Result<Plain, Fault> {
    let mut head = Head { rate: FrameRate::FPS_24, space: assume };
    head.read(text)?;
    let rate = rate.unwrap_or(head.rate);
    let mut reader = csv::ReaderBuilder::new()
        .comment(Some(b'#'))
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let fault = |error: csv::Error| {
        let line = error.position().map_or(1, |position| position.line() as usize);
        Fault::on_line(line, "this is not a row of a table: check its quotes")
    };
    let names: Vec<String> = reader.headers().map_err(fault)?.iter().map(str::to_owned).collect();
    if !names.iter().any(|name| name == "frame") {
        return Err(Fault::on_line(1, "the table has no column 'frame'"));
    }
    let mut build = Build {
        rate,
        space: head.space,
        rig: Rig::new(name),
        nodes: HashMap::new(),
        texts: Vec::new(),
        takes: Vec::new(),
    };
    if names.iter().any(|name| name == "value") {
        let mut keys = KeyTable::new(&names)?;
        for row in reader.records() {
            let row = row.map_err(fault)?;
            keys.row(&row, rate)?;
        }
        keys.into_takes(&mut build, name)?;
    } else {
        let mut rows: Vec<(usize, Vec<f64>)> = Vec::new();
        for row in reader.records() {
            let row = row.map_err(fault)?;
            let line = row.position().map_or(1, |position| position.line() as usize);
            if row.len() != names.len() {
                let message = format!("the row has {} cells, the table {} columns", row.len(), names.len());
                return Err(Fault::on_line(line, message));
            }
            rows.push((line, row.iter().map(|cell| number(cell, line)).collect::<Result<_, _>>()?));
        }
        build.samples(&names, rows, name)?;
    }
    let notes = vec!["a table holds no rig: its nodes stand beside each other".to_owned()];
    let Build { rate, space, rig, takes, texts, .. } = build;
    let scene = Scene { rate, space, rigs: vec![rig], sets: Vec::new(), takes };
    Ok(Plain { scene, keys: texts, notes, mended: Vec::new() })
}

fn number(cell: &str, line: usize) -> Result<f64, Fault> {
    let found = cell.parse::<f64>().ok().filter(|number| number.is_finite());
    found.ok_or_else(|| {
        let shown: String = cell.chars().take(24).collect();
        Fault::on_line(line, format!("'{shown}' is not a finite number"))
    })
}

/// What the line that starts with `#` says.
struct Head {
    rate: FrameRate,
    space: Space,
}

impl Head {
    fn read(&mut self, text: &str) -> Result<(), Fault> {
        let Some(line) = text.lines().next().and_then(|line| line.strip_prefix('#')) else { return Ok(()) };
        for word in line.split_whitespace() {
            let Some((name, value)) = word.split_once('=') else { continue };
            let wrong = || {
                let shown: String = word.chars().take(40).collect();
                Fault::on_line(1, format!("'{shown}' cannot be read"))
            };
            match name {
                "rate" => self.rate = value.parse().map_err(|_| wrong())?,
                "unit" => {
                    let metres = Space::unit_metres(value).or_else(|| value.parse().ok());
                    let metres = metres.filter(|metres: &f64| metres.is_finite() && *metres > 0.0);
                    self.space.metres_per_unit = metres.ok_or_else(wrong)?;
                }
                "up" => {
                    self.space.up = match value {
                        "x" => UpAxis::X,
                        "y" => UpAxis::Y,
                        "z" => UpAxis::Z,
                        _ => return Err(wrong()),
                    }
                }
                "hand" => {
                    self.space.handedness =
                        if value == "left" { Handedness::Left } else { Handedness::Right };
                }
                _ => {}
            }
        }
        Ok(())
    }
}

/// The columns of one property in a table of samples.
struct Group {
    node: String,
    property: String,
    order: Option<RotationOrder>,
    is_angle: bool,
    /// Each with its component, where it says one.
    columns: Vec<(usize, Option<usize>)>,
}

/// The scene while it is built.
struct Build {
    rate: FrameRate,
    space: Space,
    rig: Rig,
    /// The nodes by what the table calls them.
    nodes: HashMap<String, NodeId>,
    /// What the table calls each node of the rig, in their order.
    texts: Vec<String>,
    takes: Vec<Take>,
}

/// A channel's node, property and component.
fn split(channel: &str, line: usize) -> Result<(String, String, Option<usize>), Fault> {
    let (node, property, component) = parts(channel).ok_or_else(|| {
        let shown: String = channel.chars().take(60).collect();
        Fault::on_line(line, format!("'{shown}' is not a channel: write NODE:ATTRIBUTE"))
    })?;
    Ok((node.to_owned(), property, component))
}

impl Build {
    fn node(&mut self, name: &str) -> NodeId {
        if let Some(&id) = self.nodes.get(name) {
            return id;
        }
        let node = Node::new(unquoted(name), NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
        // Without a parent this cannot fail.
        let id = self.rig.add(None, node).expect("there is no parent to miss");
        self.nodes.insert(name.to_owned(), id);
        self.texts.push(name.to_owned());
        id
    }

    /// The property of a node, made where it is not one that every node has.
    fn property(
        &mut self,
        node: &str,
        property: &str,
        kind: AttributeKind,
        order: Option<RotationOrder>,
    ) -> Target {
        let id = self.node(node);
        if let Some(node) = self.rig.node_mut(id) {
            let is_known = node.attribute(property).is_some();
            match node.transform.iter_mut().find(|op| op.name == property) {
                Some(op) => {
                    if let (OpValue::Rotate { angles, .. }, Some(order)) = (op.value, order) {
                        op.value = OpValue::Rotate { order, angles };
                    }
                }
                None if !is_known => {
                    node.attributes.push(Attribute { name: property.to_owned(), kind });
                }
                None => {}
            }
        }
        Target { rig: 0, node: id, property: property.to_owned() }
    }

    fn push(&mut self, take: &str, target: Target, controller: Controller) {
        let range = controller.range().unwrap_or(TimeRange::new(Ticks::ZERO, Ticks::ZERO));
        let at = self.takes.iter().position(|found| found.name == take).unwrap_or_else(|| {
            self.takes.push(Take {
                name: take.to_owned(),
                folder: None,
                range,
                clips: Vec::new(),
                markers: Vec::new(),
                layers: vec![Layer::base(Vec::new())],
            });
            self.takes.len() - 1
        });
        let take = &mut self.takes[at];
        take.range = take.range.union(range);
        take.layers[0].tracks.push(Track { target, controller });
    }

    fn samples(&mut self, names: &[String], rows: Vec<(usize, Vec<f64>)>, take: &str) -> Result<(), Fault> {
        let frame_at = names.iter().position(|name| name == "frame").unwrap_or(0);
        let mut times: Vec<Ticks> = Vec::with_capacity(rows.len());
        for (line, row) in &rows {
            let time = self.rate.ticks_at(row[frame_at]);
            if !time.is_allowed() || times.last().is_some_and(|last| *last >= time) {
                return Err(Fault::on_line(*line, "the frame is not later than the one before it"));
            }
            times.push(time);
        }
        if times.is_empty() {
            return Ok(());
        }
        let step = grid::step(&times, self.rate);
        // Columns of one property follow one another.
        let mut groups: Vec<Group> = Vec::new();
        for (column, name) in names.iter().enumerate().filter(|(column, _)| *column != frame_at) {
            let (channel, unit) =
                name.split_once(" (").map_or((name.as_str(), ""), |(c, u)| (c, u.trim_end_matches(')')));
            let (node, property, component) = split(channel, 1)?;
            let order = unit.strip_prefix("deg").and_then(|order| order.trim().parse().ok());
            let is_angle = unit.starts_with("deg");
            // A component that comes after the last one goes on with a property; anything else starts one.
            let goes_on = |last: &Group| {
                let before = last.columns.last().and_then(|(_, component)| *component);
                before.zip(component).is_some_and(|(before, component)| component > before)
            };
            match groups
                .last_mut()
                .filter(|last| goes_on(last) && last.node == node && last.property == property)
            {
                Some(group) => group.columns.push((column, component)),
                None => {
                    groups.push(Group { node, property, order, is_angle, columns: vec![(column, component)] })
                }
            }
        }
        for Group { node, property, order, is_angle, columns } in groups {
            let is_whole =
                columns.iter().enumerate().all(|(place, (_, component))| *component == Some(place));
            if columns[0].1.is_some() && !(is_whole && columns.len() >= 3) {
                self.parts(Group { node, property, order, is_angle, columns }, &rows, &times, take)?;
                continue;
            }
            if columns[0].1.is_none() && ["translation", "rotation", "scale"].contains(&property.as_str()) {
                let message =
                    format!("'{node}:{property}' has three components: write .x, .y or .z behind it");
                return Err(Fault::on_line(1, message));
            }
            let kind = match (columns.len(), order) {
                (1, _) => SampleKind::Number,
                (3, Some(order)) => SampleKind::Euler(order),
                (3, None) => SampleKind::Vector,
                (4, _) => SampleKind::Quaternion,
                (count, _) => {
                    return Err(Fault::on_line(
                        1,
                        format!("'{node}:{property}' has {count} components: 1, 3 or 4 can be read"),
                    ));
                }
            };
            let numbers = rows.iter().flat_map(|(_, row)| columns.iter().map(|&(column, _)| row[column]));
            let values: Vec<f64> =
                numbers.map(|number| if is_angle { radians(number) } else { number }).collect();
            let quantity = if is_angle { Quantity::Angle } else { Quantity::Number };
            let attribute = match kind {
                SampleKind::Number => AttributeKind::Number { default: 0.0, min: None, max: None, quantity },
                _ => AttributeKind::Vector { default: DVec3::ZERO, quantity },
            };
            let target = self.property(&node, &property, attribute, order);
            let controller = match step {
                Some(rate) => Controller::Samples(Samples { start: times[0], rate, kind, values }),
                None => crate::steps::straight(&times, None, kind, values),
            };
            self.push(take, target, controller);
        }
        Ok(())
    }
}

impl Build {
    /// Some components of a property, the others of which rest: curves with a key at every row.
    fn parts(
        &mut self,
        group: Group,
        rows: &[(usize, Vec<f64>)],
        times: &[Ticks],
        take: &str,
    ) -> Result<(), Fault> {
        let Group { node, property, order, is_angle, columns } = group;
        if columns.iter().any(|(_, component)| component.is_none_or(|component| component > 2)) {
            let message =
                format!("'{node}:{property}' lacks components: all four of a quaternion are needed");
            return Err(Fault::on_line(1, message));
        }
        let curve = |wanted: usize| -> Result<Curve, Fault> {
            let Some((column, _)) = columns.iter().find(|(_, component)| *component == Some(wanted)) else {
                return Ok(Curve::default());
            };
            let key = |(time, (_, row)): (&Ticks, &(usize, Vec<f64>))| {
                let value = if is_angle { radians(row[*column]) } else { row[*column] };
                Key::new(*time, value).with_interpolation(Interpolation::Linear).with_slope(0.0)
            };
            Curve::new(times.iter().zip(rows).map(key).collect())
                .map_err(|error| Fault::on_line(1, format!("'{node}:{property}': {error}")))
        };
        let curves = [curve(0)?, curve(1)?, curve(2)?];
        let quantity = if is_angle { Quantity::Angle } else { Quantity::Number };
        let attribute = AttributeKind::Vector { default: DVec3::ZERO, quantity };
        let target = self.property(&node, &property, attribute, order);
        let controller = match (property.as_str(), order) {
            ("rotation", order) => {
                Controller::Euler(EulerCurves { order: order.unwrap_or(RotationOrder::Xyz), curves })
            }
            _ => Controller::Components(curves.into()),
        };
        self.push(take, target, controller);
        Ok(())
    }
}

/// Rows of keys, channel by channel in the order in which they come.
struct KeyTable {
    /// Where each of our columns is.
    places: [Option<usize>; COLUMNS.len()],
    channels: Vec<Channel>,
    by_name: HashMap<(String, String), usize>,
}

struct Channel {
    take: String,
    line: usize,
    node: String,
    property: String,
    component: Option<usize>,
    order: Option<RotationOrder>,
    unit: String,
    keys: Vec<Key>,
    discrete: Vec<(Ticks, Discrete)>,
    outside: (Behaviour, Behaviour),
}

impl KeyTable {
    fn new(names: &[String]) -> Result<KeyTable, Fault> {
        let place = |column: &str| names.iter().position(|name| name == column);
        let places = COLUMNS.map(place);
        if places[1].is_none() {
            return Err(Fault::on_line(1, "the table has no column 'channel'"));
        }
        Ok(KeyTable { places, channels: Vec::new(), by_name: HashMap::new() })
    }

    fn row(&mut self, row: &csv::StringRecord, rate: FrameRate) -> Result<(), Fault> {
        let line = row.position().map_or(1, |position| position.line() as usize);
        let cell = |column: usize| self.places[column].and_then(|place| row.get(place)).unwrap_or("");
        let wrong = |column: usize, what: &str| {
            let shown: String = cell(column).chars().take(24).collect();
            Fault::on_line(line, format!("'{shown}' is no {what}"))
        };
        let unit = cell(2).to_owned();
        let is_angle = unit == "deg";
        let value = |column: usize| -> Result<f64, Fault> {
            let number = number(cell(column), line)?;
            Ok(if is_angle { radians(number) } else { number })
        };
        let time = rate.ticks_at(number(cell(4), line)?);
        if !time.is_allowed() {
            return Err(Fault::on_line(line, "the key lies more than 36 days from frame 0"));
        }
        let (node, property, component) = split(cell(1), line)?;
        let order = match cell(3) {
            "" => None,
            order => Some(order.parse().map_err(|_| wrong(3, "rotation order"))?),
        };
        let take = cell(0).to_owned();
        let name = (take.clone(), cell(1).to_owned());
        let behaviour = |column: usize| -> Result<Behaviour, Fault> {
            Ok(match cell(column).split_once(' ').unwrap_or((cell(column), "")) {
                ("" | "held", _) => Behaviour::Held,
                ("linear", _) => Behaviour::Linear,
                ("sloped", slope) => {
                    let slope = number(slope, line)?;
                    Behaviour::Sloped(if is_angle { slope.to_radians() } else { slope } * rate.fps())
                }
                ("loop-offset", _) => Behaviour::LoopOffset,
                ("loop", _) => Behaviour::Loop,
                ("loop-oscillate", _) => Behaviour::LoopOscillate,
                ("none", _) => Behaviour::None,
                _ => return Err(wrong(column, "behaviour outside the keys")),
            })
        };
        let outside = (behaviour(14)?, behaviour(15)?);
        let discrete = match unit.as_str() {
            "switch" => Some(Discrete::Switch(match cell(5) {
                "on" | "true" | "1" => true,
                "off" | "false" | "0" => false,
                _ => return Err(wrong(5, "on or off")),
            })),
            "choice" => Some(Discrete::Choice(cell(5).to_owned())),
            "text" => Some(Discrete::Text(cell(5).to_owned())),
            _ => None,
        };
        let key = match discrete {
            Some(_) => None,
            None => {
                let mut key = Key::new(time, value(5)?);
                key.value_before = if cell(6).is_empty() { None } else { Some(value(6)?) };
                key.interpolation = match cell(7) {
                    "" | "cubic" => Interpolation::Cubic,
                    "hold" => Interpolation::Hold,
                    "linear" => Interpolation::Linear,
                    "none" => Interpolation::None,
                    _ => return Err(wrong(7, "interpolation: hold, linear, cubic or none")),
                };
                let tangent = |mode: usize| -> Result<Tangent, Fault> {
                    let (slope, frames) = (cell(mode + 1), cell(mode + 2));
                    let kind = match cell(mode) {
                        "" if slope.is_empty() => TangentMode::Auto,
                        "auto" => TangentMode::Auto,
                        "auto-no-overshoot" => TangentMode::AutoNoOvershoot,
                        "flat" => TangentMode::Flat,
                        "linear" => TangentMode::Linear,
                        "" | "free" => TangentMode::Free,
                        _ => {
                            return Err(wrong(
                                mode,
                                "tangent mode: auto, auto-no-overshoot, flat, linear or free",
                            ));
                        }
                    };
                    let slope = if slope.is_empty() { 0.0 } else { number(slope, line)? };
                    let slope = if is_angle { slope.to_radians() } else { slope };
                    let shape = match frames {
                        "" => TangentShape::Slope(slope * rate.fps()),
                        frames => {
                            let frames = number(frames, line)?;
                            TangentShape::Handle { dt: frames * rate.ticks_per_frame(), dv: slope * frames }
                        }
                    };
                    Ok(Tangent { mode: kind, shape })
                };
                (key.tangent_in, key.tangent_out) = (tangent(8)?, tangent(11)?);
                let (a, b) = (key.tangent_in.slope_per_second(), key.tangent_out.slope_per_second());
                key.joined = key.value_before.is_none() && (a - b).abs() <= 1e-9 * a.abs();
                Some(key)
            }
        };
        let at = match self.by_name.get(&name) {
            Some(&at) => at,
            None => {
                let channel = Channel {
                    take,
                    line,
                    node,
                    property,
                    component,
                    order,
                    unit,
                    keys: Vec::new(),
                    discrete: Vec::new(),
                    outside,
                };
                self.channels.push(channel);
                self.by_name.insert(name, self.channels.len() - 1);
                self.channels.len() - 1
            }
        };
        let channel = &mut self.channels[at];
        let last =
            channel.keys.last().map(|key| key.time).max(channel.discrete.last().map(|(time, _)| *time));
        if last.is_some_and(|last| last >= time) {
            return Err(Fault::on_line(line, "the key is not later than the one before it on its channel"));
        }
        channel.keys.extend(key);
        channel.discrete.extend(discrete.map(|value| (time, value)));
        Ok(())
    }

    fn into_takes(self, build: &mut Build, name: &str) -> Result<(), Fault> {
        // Curves of one property belong together, whatever stands between them.
        let mut groups: Vec<(Channel, [Curve; 3])> = Vec::new();
        let mut by_place: HashMap<(String, String, String), usize> = HashMap::new();
        for mut channel in self.channels {
            if channel.take.is_empty() {
                name.clone_into(&mut channel.take);
            }
            let line = channel.line;
            let fault = |error: nimble_curve_core::curve::CurveError| Fault::on_line(line, error.to_string());
            if !channel.discrete.is_empty() {
                let target =
                    build.property(&channel.node, &channel.property, kind_of(&channel.discrete), None);
                let curve = DiscreteCurve::new(channel.discrete).map_err(fault)?;
                build.push(&channel.take, target, Controller::Discrete(curve));
                continue;
            }
            let curve = Curve::new(std::mem::take(&mut channel.keys)).map_err(fault)?;
            let curve = curve.with_behaviours(channel.outside.0, channel.outside.1);
            let component = channel.component.unwrap_or(0);
            if component > 2 {
                return Err(Fault::on_line(line, "a table of keys has components x, y and z"));
            }
            let place = (channel.take.clone(), channel.node.clone(), channel.property.clone());
            let at = *by_place.entry(place).or_insert_with(|| {
                groups.push((channel, Default::default()));
                groups.len() - 1
            });
            groups[at].1[component] = curve;
        }
        for (channel, curves) in groups {
            let quantity = match channel.unit.as_str() {
                "deg" => Quantity::Angle,
                "" => Quantity::Number,
                _ => Quantity::Length,
            };
            let kind = match channel.component {
                Some(_) => AttributeKind::Vector { default: DVec3::ZERO, quantity },
                None => AttributeKind::Number { default: 0.0, min: None, max: None, quantity },
            };
            let target = build.property(&channel.node, &channel.property, kind, channel.order);
            let controller = match (channel.component, channel.order) {
                (Some(_), Some(order)) => Controller::Euler(EulerCurves { order, curves }),
                (Some(_), None) => Controller::Components(curves.into()),
                (None, _) => Controller::Components(curves.into_iter().take(1).collect()),
            };
            build.push(&channel.take, target, controller);
        }
        Ok(())
    }
}

/// The kind of attribute that discrete values are of.
fn kind_of(values: &[(Ticks, Discrete)]) -> AttributeKind {
    match &values[0].1 {
        Discrete::Switch(_) => AttributeKind::Switch { default: false },
        Discrete::Text(_) => AttributeKind::Text { default: String::new() },
        Discrete::Choice(first) => {
            let mut options: Vec<String> = Vec::new();
            for (_, value) in values {
                if let Discrete::Choice(option) = value
                    && !options.contains(option)
                {
                    options.push(option.clone());
                }
            }
            AttributeKind::Choice { options, default: first.clone() }
        }
    }
}
