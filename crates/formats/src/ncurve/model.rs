//! The shapes of the file, as serde and the JSON Schema see them. What they mean is in docs/format.md.

use std::borrow::Cow;
use std::collections::BTreeMap;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use serde_json::value::RawValue;

use super::number::{Num, shown};

/// The version of the format that this program writes.
pub const VERSION: u32 = 1;

fn is_false(value: &bool) -> bool {
    !value
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A file of Nimble Curve: rigs, and takes that animate them.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct File {
    /// The version of the format: 1.
    pub ncurve: u32,
    /// Frames per second, as `"30"` or `"30000/1001"`; all times in the file are frames of this rate.
    pub rate: String,
    /// Units and axes.
    pub space: Space,
    /// The characters and props.
    #[serde(default)]
    pub rigs: Vec<Rig>,
    /// Named lists of node patterns; `*` stands for any run of characters.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub sets: BTreeMap<String, Vec<String>>,
    /// The animations.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub takes: Vec<Take>,
}

/// Units and axes.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Space {
    /// Metres in one unit of length: 0.01 for centimetres.
    pub metres_per_unit: Num,
    /// The axis that points up.
    pub up: Up,
    /// Right- or left-handed.
    #[serde(default)]
    pub handedness: Handedness,
}

/// The axis that points up.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum Up {
    X,
    Y,
    Z,
}

/// Which way the third axis points.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Handedness {
    /// x × y = z
    #[default]
    Right,
    /// x × y = -z
    Left,
}

/// A hierarchy of nodes.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rig {
    /// The rig's name.
    pub name: String,
    /// The nodes, parents before children.
    #[serde(default)]
    pub nodes: Vec<Node>,
}

/// What a node is for.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum Kind {
    #[default]
    Joint,
    Control,
    End,
    Locator,
    Root,
    Other,
}

/// How the parent's scale is taken over.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Inherits {
    /// Wholly.
    #[default]
    Full,
    /// The parent's scale moves the node but does not scale it.
    PositionOnly,
}

/// A node. Its transform is translation · before · rotation · after · scale, or else the list in `transform`.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Node {
    /// The name; it need not be unique.
    pub name: String,
    /// The parent's address: its name where that is unique, else its path `rig/parent/node`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
    /// What the node is for.
    #[serde(default, skip_serializing_if = "is_default")]
    pub kind: Kind,
    /// Translation at rest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub translation: Option<[Num; 3]>,
    /// A constant rotation before the animated one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Op>,
    /// The animated rotation at rest: `rotate` or `orient`; Euler order xyz at zero where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotation: Option<Op>,
    /// A constant rotation after the animated one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Op>,
    /// Scale at rest; 1 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<[Num; 3]>,
    /// Any other list of steps, in place of the five above.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transform: Option<Vec<Op>>,
    /// World transform in which a mesh was bound: x axis, y axis, z axis, position.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bind: Option<Vec<Num>>,
    /// How the parent's scale is taken over.
    #[serde(default, skip_serializing_if = "is_default")]
    pub inherits: Inherits,
    /// Channels that must not change, like `"scale"` or `"rotation.x"`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub locked: Vec<String>,
    /// Custom attributes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub attributes: Vec<Attribute>,
}

/// A step of a transform: exactly one of the kinds, with its value at rest.
#[derive(Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Op {
    /// The name by which tracks address the step (in `transform` only).
    #[serde(skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The inverse acts.
    #[serde(skip_serializing_if = "is_false")]
    pub inverse: bool,
    /// A displacement.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub translate: Option<[Num; 3]>,
    /// A turn about one axis: x, y, z of the axis and the angle in degrees.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rotate_axis: Option<[Num; 4]>,
    /// Three turns, in degrees by axis.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rotate: Option<Rotate>,
    /// A quaternion: x, y, z, w.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub orient: Option<[Num; 4]>,
    /// Factors along the axes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scale: Option<[Num; 3]>,
    /// Shear: x by y, x by z, y by z.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shear: Option<[Num; 3]>,
    /// A matrix by columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub matrix: Option<Vec<Num>>,
}

/// The order where none is said.
fn xyz() -> String {
    "xyz".to_owned()
}

/// Euler angles.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rotate {
    /// The order; the axis that acts first comes first.
    #[serde(default = "xyz")]
    pub order: String,
    /// Degrees about x, y and z; zero where they are left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angles: Option<[Num; 3]>,
}

/// What a number measures.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Quantity {
    /// Degrees.
    Angle,
    /// Units of length.
    Length,
    /// No unit.
    #[default]
    Number,
}

/// A custom attribute: its name and exactly one of the kinds.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Attribute {
    /// The name.
    pub name: String,
    /// One number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<NumberAttribute>,
    /// Three numbers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vector: Option<VectorAttribute>,
    /// On or off; the value is the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switch: Option<bool>,
    /// One of several options.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub choice: Option<ChoiceAttribute>,
    /// Any text; the value is the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// A number with limits.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NumberAttribute {
    /// The value where nothing drives it.
    pub default: Num,
    /// The least value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min: Option<Num>,
    /// The greatest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max: Option<Num>,
    /// What it measures.
    #[serde(default, skip_serializing_if = "is_default")]
    pub quantity: Quantity,
}

/// Three numbers.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VectorAttribute {
    /// The value where nothing drives it.
    pub default: [Num; 3],
    /// What they measure.
    #[serde(default, skip_serializing_if = "is_default")]
    pub quantity: Quantity,
}

/// One of several options.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ChoiceAttribute {
    /// The options.
    pub options: Vec<String>,
    /// The option where nothing drives it.
    pub default: String,
}

/// One animation of the rigs.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Take {
    /// The name.
    pub name: String,
    /// The folder it is kept in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// First and last frame, both included.
    pub range: [Num; 2],
    /// Named ranges.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clips: Vec<Clip>,
    /// Named instants.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub markers: Vec<Marker>,
    /// The layers; the first is the base.
    #[serde(default)]
    pub layers: Vec<Layer>,
}

/// A named range.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Clip {
    /// The name.
    pub name: String,
    /// First and last frame, both included.
    pub range: [Num; 2],
    /// Anything to be handed on with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// A named instant.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Marker {
    /// When.
    pub frame: Num,
    /// What.
    pub name: String,
}

/// How a layer joins what lies under it.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum Mode {
    #[default]
    Override,
    Additive,
}

/// How rotations of a layer join those under it.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum Mixing {
    #[default]
    Angles,
    Quaternions,
}

/// A layer.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Layer {
    /// The name.
    pub name: String,
    /// How it joins what lies under it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub mode: Mode,
    /// How its rotations do.
    #[serde(default, skip_serializing_if = "is_default")]
    pub rotations: Mixing,
    /// How much of it counts; 1 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<Num>,
    /// An animated weight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight_curve: Option<Curve>,
    /// Switched off.
    #[serde(default, skip_serializing_if = "is_false")]
    pub muted: bool,
    /// What it animates.
    #[serde(default)]
    pub tracks: Vec<Track>,
}

/// What drives one property.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Track {
    /// The property's address: `NODE:ATTRIBUTE`.
    pub channel: String,
    /// What drives it.
    pub controller: Controller,
}

/// What drives a property.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Controller {
    /// One value throughout.
    Constant(Value),
    /// One curve a component.
    Components(Vec<Curve>),
    /// Curves of three Euler angles, in degrees.
    #[serde(rename = "angles")]
    Euler(Box<Euler>),
    /// Keys that are rotations.
    #[serde(rename = "quaternions")]
    Quaternion(QuaternionCurve),
    /// Keys with tension, continuity and bias.
    Tcb(TcbCurve),
    /// Values that only hold.
    Discrete(Vec<DiscreteKey>),
    /// Baked data.
    Samples(Samples),
    /// Several controllers, summed with weights.
    Stack(Vec<StackEntry>),
    /// Kept as text beside what it came to.
    Procedural(Procedural),
}

/// A value.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Value {
    /// One number.
    Number(Num),
    /// Three numbers.
    Vector([Num; 3]),
    /// Euler angles in degrees.
    #[serde(rename = "rotate")]
    Euler(Rotate),
    /// A quaternion: x, y, z, w.
    #[serde(rename = "orient")]
    Quaternion([Num; 4]),
    /// A matrix by columns.
    Matrix(Vec<Num>),
    /// On or off.
    Switch(bool),
    /// One of an attribute's options.
    Choice(String),
    /// Any text.
    Text(String),
}

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

/// What the numbers of samples are.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)]
pub enum SampleKind {
    Number,
    Vector,
    #[serde(rename = "angles")]
    Euler,
    #[serde(rename = "quaternions")]
    Quaternion,
    Matrix,
}

/// Baked data.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Samples {
    /// The frame of the first sample.
    pub start: Num,
    /// Samples per second.
    pub rate: String,
    /// What the numbers are.
    pub kind: SampleKind,
    /// The order of angles; xyz where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub order: Option<String>,
    /// The samples of one number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub values: Option<Vec<Num>>,
    /// The numbers of other samples, one list a sample.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<Vec<Vec<Num>>>,
}

/// One entry of a stack.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StackEntry {
    /// The name.
    pub name: String,
    /// How much of it counts; 1 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<Num>,
    /// An animated weight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight_curve: Option<Curve>,
    /// What it adds.
    pub controller: Controller,
}

/// A controller that is kept as text.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Procedural {
    /// What kind of thing it is.
    pub kind: String,
    /// Its definition.
    pub text: String,
    /// What it came to when it was sampled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sampled: Option<Box<Controller>>,
}
