//! A table of keys: a row each.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks,
};
use nimble_curve_core::rig::AttributeKind;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::value::Quantity;

use super::COLUMNS;
use super::build::{Build, split};
use super::cells::{Cells, Row};
use crate::error::Fault;
use crate::sheet::as_it_was;

/// Rows of keys, channel by channel in the order in which they come.
pub struct KeyTable {
    cells: Cells,
    space: Space,
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
    pub fn new(names: &[String], cells: Cells, space: Space) -> Result<KeyTable, Fault> {
        let place = |column: &str| names.iter().position(|name| name == column);
        let places = COLUMNS.map(place);
        if places[1].is_none() {
            return Err(Fault::on_line(1, "the table has no column 'channel'"));
        }
        Ok(KeyTable { cells, space, places, channels: Vec::new(), by_name: HashMap::new() })
    }

    pub fn row(&mut self, row: &Row, time: Ticks, rate: FrameRate) -> Result<(), Fault> {
        let line = row.line;
        let cell = |column: usize| self.places[column].and_then(|place| row.record.get(place)).unwrap_or("");
        let number = |cell: &str| self.cells.number(cell, line);
        let wrong = |column: usize, what: &str| {
            let shown: String = cell(column).chars().take(24).collect();
            Fault::on_line(line, format!("'{shown}' is no {what}"))
        };
        let unit = cell(2).to_owned();
        let is_angle = unit == "deg";
        // Lengths count in the unit of the table where they do not say another.
        let own = Space::unit_metres(&unit).map_or(1.0, |metres| metres / self.space.metres_per_unit);
        let risen = |slope: f64| if is_angle { slope.to_radians() } else { slope * own };
        let value = |column: usize| -> Result<f64, Fault> {
            let number = number(cell(column))?;
            Ok(if is_angle { radians(number) } else { number * own })
        };
        if !time.is_allowed() {
            return Err(Fault::on_line(line, "the key lies more than 36 days from frame 0"));
        }
        let (node, property, component) = split(cell(1), line)?;
        let order = match cell(3) {
            "" => None,
            order => Some(order.parse().map_err(|_| wrong(3, "rotation order"))?),
        };
        let take = as_it_was(cell(0)).to_owned();
        let name = (take.clone(), cell(1).to_owned());
        let behaviour = |column: usize| -> Result<Behaviour, Fault> {
            Ok(match cell(column).split_once(' ').unwrap_or((cell(column), "")) {
                ("" | "held", _) => Behaviour::Held,
                ("linear", _) => Behaviour::Linear,
                ("sloped", slope) => Behaviour::Sloped(risen(number(slope)?) * rate.fps()),
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
            "choice" => Some(Discrete::Choice(as_it_was(cell(5)).to_owned())),
            "text" => Some(Discrete::Text(as_it_was(cell(5)).to_owned())),
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
                    let slope = risen(if slope.is_empty() { 0.0 } else { number(slope)? });
                    let shape = match frames {
                        "" => TangentShape::Slope(slope * rate.fps()),
                        frames => {
                            let frames = number(frames)?;
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

    pub fn into_takes(self, build: &mut Build, name: &str) -> Result<(), Fault> {
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
