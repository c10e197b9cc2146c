//! Numbers, switches and texts of prims, and what drives them.

use std::rc::Rc;

use nimble_curve_core::controller::{Controller, SampleKind};
use nimble_curve_core::curve::{Discrete, DiscreteCurve, Interpolation};
use nimble_curve_core::rig::{Attribute, AttributeKind};
use nimble_curve_core::value::Quantity;
use openusd::sdf::{Path, Value};

use super::columns::Column;
use super::layer::{Values, numbers};
use super::reader::Reader;
use crate::error::Fault;
use crate::steps::rows_as_keys;

/// The namespace of attributes that users add.
pub const USER: &str = "userProperties:";

/// Whether a prim is seen, as its standard has it: a token that is inherited or invisible. Read and written as a switch.
pub const VISIBILITY: &str = "visibility";
/// The two words of [`VISIBILITY`].
pub const SEEN: [&str; 2] = ["invisible", "inherited"];

/// What an animation of a skeleton drives, which is read as the motion of its joints.
pub const OF_JOINTS: [&str; 4] = ["translations", "rotations", "scales", "blendShapeWeights"];

/// Attributes with what drives them, by name.
pub type Driven = (Vec<Attribute>, Vec<(String, Controller)>);

impl Reader<'_> {
    /// Whether a prim has attributes that move, other than the steps of its transform.
    pub fn has_moving_attributes(&self, prim: &Path) -> bool {
        let kind = self.layer.text(prim, "typeName").unwrap_or_default();
        self.layer.attributes(prim).iter().any(|name| {
            let place = prim.append_property(name.as_str());
            !is_read_elsewhere(name, &kind) && place.is_ok_and(|place| self.layer.is_animated(&place))
        })
    }

    /// What users added to a prim, and what else of it moves; what moves and cannot be read is noted.
    pub fn attributes(&mut self, prim: &Path) -> Result<Driven, Fault> {
        let (mut attributes, mut driven): Driven = Default::default();
        let prim_kind = self.layer.text(prim, "typeName").unwrap_or_default();
        for property in self.layer.attributes(prim) {
            if is_read_elsewhere(&property, &prim_kind) {
                continue;
            }
            let place = prim.append_property(property.as_str());
            let place = place.map_err(|error| Fault::in_part(prim.as_str(), error))?;
            let is_animated = self.layer.is_animated(&place);
            let user = property.strip_prefix(USER);
            if user.is_none() && !is_animated {
                continue;
            }
            let Some((kind, controller)) = self.attribute(&property, place.clone(), is_animated)? else {
                if is_animated {
                    self.notes.push(format!(
                        "{}: moves, but is no number, switch or text: not read",
                        place.as_str()
                    ));
                }
                continue;
            };
            let displayed = self.layer.text(&place, "displayName").filter(|_| user.is_some());
            let name = displayed.unwrap_or_else(|| user.unwrap_or(&property).to_owned());
            let is_taken = attributes.iter().any(|attribute| attribute.name == name);
            let name = if is_taken { property } else { name };
            driven.extend(controller.map(|controller| (name.clone(), controller)));
            attributes.push(Attribute { name, kind });
        }
        Ok((attributes, driven))
    }

    /// What an attribute is, and what drives it; nothing where it is of no kind that is read.
    fn attribute(
        &mut self,
        property: &str,
        place: Path,
        is_animated: bool,
    ) -> Result<Option<(AttributeKind, Option<Controller>)>, Fault> {
        let layer = self.layer;
        let kind = layer.text(&place, "typeName").unwrap_or_default();
        let default = layer.field(&place, "default");
        let default = default.as_deref();
        let is_number = matches!(
            kind.as_str(),
            "double" | "float" | "half" | "timecode" | "int" | "uint" | "int64" | "uint64" | "uchar"
        );
        let one = default.and_then(numbers).filter(|numbers| numbers.len() == 1).map(|numbers| numbers[0]);
        let as_switch: Option<fn(&Value) -> Option<bool>> = match (kind.as_str(), default) {
            ("token", _) if property == VISIBILITY => Some(seen),
            ("bool", _) | (_, Some(Value::Bool(_))) => Some(switch),
            _ => None,
        };
        if let Some(of) = as_switch {
            let kind =
                AttributeKind::Switch { default: default.and_then(of).unwrap_or(property == VISIBILITY) };
            let controller = self.discrete(&place, |value| of(value).map(Discrete::Switch))?;
            return Ok(Some((kind, controller)));
        }
        let text = default.and_then(word);
        if !is_number && one.is_none() && (text.is_some() || matches!(kind.as_str(), "string" | "token")) {
            let controller =
                self.discrete(&place, |value| word(value).map(|text| Discrete::Text(text.to_owned())))?;
            return Ok(Some((
                AttributeKind::Text { default: text.unwrap_or_default().to_owned() },
                controller,
            )));
        }
        // A spline that is said without a type or a default is one of numbers.
        let values = if is_number || one.is_some() || kind.is_empty() { layer.values(&place)? } else { None };
        let is_spline = matches!(values, Some(Values::Spline(_)));
        if !is_number && one.is_none() && !is_spline {
            return Ok(None);
        }
        if values.is_none() && is_animated {
            return Ok(None);
        }
        let default = one.unwrap_or(0.0);
        let held = AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number };
        let controller = match values {
            // Whole numbers do not go over into one another.
            Some(Values::Samples { codes, values, gaps, .. }) if is_whole(&kind) && gaps.is_empty() => {
                let times = self.times(&codes, &place)?;
                Some(rows_as_keys(&times, SampleKind::Number, &values, Interpolation::Hold))
            }
            Some(values) => {
                let column =
                    Column { attribute: place, values: Rc::new(values), number: 0, is_angle: false, by: 1.0 };
                Some(self.controller(&[Some(column)], SampleKind::Number)?)
            }
            None => None,
        };
        Ok(Some((held, controller)))
    }

    /// What holds from sample to sample. Where a value is blocked, the one before it holds on, which is noted.
    fn discrete(
        &mut self,
        attribute: &Path,
        of: impl Fn(&Value) -> Option<Discrete>,
    ) -> Result<Option<Controller>, Fault> {
        let Some(samples) = self.layer.field(attribute, "timeSamples") else { return Ok(None) };
        let Value::TimeSamples(samples) = samples.as_ref() else { return Ok(None) };
        let (mut codes, mut values) = (Vec::with_capacity(samples.len()), Vec::with_capacity(samples.len()));
        for (code, value) in samples {
            if matches!(value, Value::ValueBlock) {
                self.notes.push(format!(
                    "{}: has no value from {code} on, which a switch or a text cannot have: it holds",
                    attribute.as_str()
                ));
                continue;
            }
            let value = of(value).ok_or_else(|| {
                Fault::in_part(
                    attribute.as_str(),
                    format!("its value at {code} is of another type than it is"),
                )
            })?;
            codes.push(*code);
            values.push(value);
        }
        if codes.is_empty() {
            return Ok(None);
        }
        let times = self.times(&codes, attribute)?;
        let curve = DiscreteCurve::new(times.into_iter().zip(values).collect())
            .map_err(|error| Fault::in_part(attribute.as_str(), error))?;
        Ok(Some(Controller::Discrete(curve)))
    }
}

/// Whether an attribute is a step of a transform, or one of those that drive the joints of a skeleton.
fn is_read_elsewhere(name: &str, prim_kind: &str) -> bool {
    name.starts_with("xformOp") || (prim_kind == "SkelAnimation" && OF_JOINTS.contains(&name))
}

fn is_whole(kind: &str) -> bool {
    matches!(kind, "int" | "uint" | "int64" | "uint64" | "uchar")
}

fn word(value: &Value) -> Option<&str> {
    match value {
        Value::String(text) => Some(text),
        Value::Token(text) => Some(text.as_str()),
        _ => None,
    }
}

/// A value of [`VISIBILITY`].
fn seen(value: &Value) -> Option<bool> {
    SEEN.iter().position(|known| word(value) == Some(known)).map(|index| index == 1)
}

/// A value of an attribute of type `bool`: parsers give its words and numbers as they stand in the text.
fn switch(value: &Value) -> Option<bool> {
    match (value, word(value)) {
        (Value::Bool(on), _) => Some(*on),
        (_, Some("true" | "1")) => Some(true),
        (_, Some("false" | "0")) => Some(false),
        (_, Some(_)) => None,
        (other, None) => numbers(other)?.first().map(|number| *number != 0.0),
    }
}
