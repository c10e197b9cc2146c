//! Curves and keys as they stand in a file.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use serde_json::value::RawValue;

use super::rig::xyz;
use super::{is_default, is_false};
use crate::ncurve::number::{Num, shown};

/// Curves of three Euler angles.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Euler {
    /// The order; the axis that acts first comes first.
    #[serde(default = "xyz")]
    pub order: String,
    /// The angle about x; at rest where it is left out.
    #[serde(default, skip_serializing_if = "is_default")]
    pub x: Curve,
    /// The angle about y.
    #[serde(default, skip_serializing_if = "is_default")]
    pub y: Curve,
    /// The angle about z.
    #[serde(default, skip_serializing_if = "is_default")]
    pub z: Curve,
}

/// What a curve does outside its keys.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Behaviour {
    /// The end value holds.
    #[default]
    Held,
    /// A straight line with the slope at the end.
    Linear,
    /// A straight line with this slope, in value per frame.
    Sloped(Num),
    /// The keys repeat, values going on from where they ended.
    LoopOffset,
    /// The keys repeat, values starting over.
    Loop,
    /// The keys repeat, every other time backwards.
    LoopOscillate,
    /// No value.
    None,
}

/// A region of keys that repeats inside a curve.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InnerLoop {
    /// First frame of the pattern, where a key stands, and its end.
    pub frames: [Num; 2],
    /// Repeats before the pattern.
    #[serde(default, skip_serializing_if = "is_default")]
    pub before: u32,
    /// Repeats after the pattern.
    #[serde(default, skip_serializing_if = "is_default")]
    pub after: u32,
    /// What each repeat adds to the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<Num>,
}

/// A curve.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Curve {
    /// What happens before the first key.
    #[serde(skip_serializing_if = "is_default")]
    pub before: Behaviour,
    /// What happens after the last key.
    #[serde(skip_serializing_if = "is_default")]
    pub after: Behaviour,
    /// A region that repeats.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inner_loop: Option<InnerLoop>,
    /// The keys, in order of time.
    pub keys: Vec<Key>,
}

/// How a curve gets to the next key.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum Interpolation {
    Hold,
    Linear,
    #[default]
    Cubic,
    None,
}

/// A key. Without `slope`, `in` and `out` its tangents are automatic.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Key {
    /// When.
    pub frame: Num,
    /// The value from here on.
    pub value: Num,
    /// A different value just before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Num>,
    /// How the curve gets to the next key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub interpolation: Interpolation,
    /// One free slope on both sides, in value per frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope: Option<Num>,
    /// The tangent on the side of the key before.
    #[serde(default, rename = "in", skip_serializing_if = "Option::is_none")]
    pub tangent_in: Option<Tangent>,
    /// The tangent on the side of the key after.
    #[serde(default, rename = "out", skip_serializing_if = "Option::is_none")]
    pub tangent_out: Option<Tangent>,
    /// The tangents do not turn together.
    #[serde(default, skip_serializing_if = "is_false")]
    pub broken: bool,
    /// A conversion put the key there.
    #[serde(default, skip_serializing_if = "is_false")]
    pub added: bool,
    /// A fit chose when it is.
    #[serde(default, skip_serializing_if = "is_false")]
    pub fitted: bool,
    /// The axes that it was set on, before a conversion keyed all three.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub axes: Vec<KeyAxis>,
}

/// An axis of a rotation.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum KeyAxis {
    /// The first.
    X,
    /// The second.
    Y,
    /// The third.
    Z,
}

/// Where the slope of a tangent comes from, when it is not free.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum TangentMode {
    Auto,
    AutoNoOvershoot,
    Flat,
    Linear,
}

/// A weighted tangent whose slope is not free.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WeightedTangent {
    /// Where its slope comes from.
    pub mode: TangentMode,
    /// Its length in frames.
    pub length: Num,
}

/// One side of a key: a number is a free slope in value per frame; `[frames, value]` a free weighted handle; a
/// word the mode of a tangent that is not free, and an object such a tangent with a length.
#[derive(Debug, Clone, PartialEq)]
pub enum Tangent {
    /// A free slope.
    Slope(Num),
    /// A free handle.
    Handle([Num; 2]),
    /// Not free.
    Mode(TangentMode),
    /// Not free, weighted.
    Weighted(WeightedTangent),
}

impl Serialize for Tangent {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Tangent::Slope(slope) => slope.serialize(serializer),
            Tangent::Handle(handle) => handle.serialize(serializer),
            Tangent::Mode(mode) => mode.serialize(serializer),
            Tangent::Weighted(tangent) => tangent.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Tangent {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Tangent, D::Error> {
        let raw = <&RawValue>::deserialize(deserializer)?.get();
        let read = match raw.as_bytes().first() {
            Some(b'[') => serde_json::from_str(raw).map(Tangent::Handle),
            Some(b'"') => serde_json::from_str(raw).map(Tangent::Mode),
            Some(b'{') => serde_json::from_str(raw).map(Tangent::Weighted),
            _ => serde_json::from_str(raw).map(Tangent::Slope),
        };
        read.map_err(|_| {
            de::Error::custom(format!(
                "expected a tangent: a slope, [frames, value], a mode, or {{\"mode\", \"length\"}}; found {}",
                shown(raw)
            ))
        })
    }
}

impl JsonSchema for Tangent {
    fn schema_name() -> Cow<'static, str> {
        "Tangent".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mode = generator.subschema_for::<TangentMode>();
        let weighted = generator.subschema_for::<WeightedTangent>();
        json_schema!({
            "description": "A free slope in value per frame; a free handle [frames, value]; a mode; or a mode with a length in frames.",
            "anyOf": [
                { "type": "number" },
                { "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 },
                mode,
                weighted
            ]
        })
    }
}

/// Keys that are rotations.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct QuaternionCurve {
    /// What happens before the first key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub before: Behaviour,
    /// What happens after the last key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub after: Behaviour,
    /// The keys, in order of time.
    pub keys: Vec<QuaternionKey>,
}

/// How a rotation gets to the next quaternion key.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum QuaternionInterpolation {
    Step,
    #[default]
    Slerp,
    Squad,
    Cubic,
}

/// A quaternion key.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct QuaternionKey {
    /// When.
    pub frame: Num,
    /// x, y, z, w.
    pub value: [Num; 4],
    /// How the rotation gets to the next key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub interpolation: QuaternionInterpolation,
    /// Derivative before the key, per frame.
    #[serde(default, rename = "in", skip_serializing_if = "Option::is_none")]
    pub tangent_in: Option<[Num; 4]>,
    /// Derivative after the key, per frame.
    #[serde(default, rename = "out", skip_serializing_if = "Option::is_none")]
    pub tangent_out: Option<[Num; 4]>,
}

/// Keys with tension, continuity and bias; exactly one of the three lists.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TcbCurve {
    /// What happens before the first key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub before: Behaviour,
    /// What happens after the last key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub after: Behaviour,
    /// Keys of one number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<Vec<TcbKey<Num>>>,
    /// Keys of three numbers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vector: Option<Vec<TcbKey<[Num; 3]>>>,
    /// Keys that are quaternions: x, y, z, w.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotation: Option<Vec<TcbKey<[Num; 4]>>>,
}

/// A key with tension, continuity, bias and ease; each 0 where it is left out.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TcbKey<V> {
    /// When.
    pub frame: Num,
    /// The value.
    pub value: V,
    /// From -1 (round) to 1 (tight).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tension: Option<Num>,
    /// From -1 (boxy) to 1 (inverted).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub continuity: Option<Num>,
    /// From -1 (undershoot) to 1 (overshoot).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bias: Option<Num>,
    /// Slowing down towards the key, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ease_in: Option<Num>,
    /// Speeding up away from it, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ease_out: Option<Num>,
}

/// A key of a value that only holds.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DiscreteKey {
    /// When.
    pub frame: Num,
    /// A switch's true or false, a choice's option, or a text.
    pub value: DiscreteValue,
}

/// A value that only holds.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum DiscreteValue {
    /// On or off.
    Switch(bool),
    /// An option or a text.
    Text(String),
}
