//! The shapes of the file, as serde and the JSON Schema see them. What they mean is in docs/format.md.

mod constraints;
mod curves;
mod rig;
pub use self::constraints::{
    Aim, Bend, Constraint, Couple, EndTurn, Follow, Lean, Limb, Offset, Other, Roll, Setting, Source,
    StretchBy, Towards,
};
pub use self::curves::{
    Behaviour, Curve, DiscreteKey, DiscreteValue, Euler, InnerLoop, Interpolation, Key, KeyAxis,
    QuaternionCurve, QuaternionInterpolation, QuaternionKey, Tangent, TangentMode, TcbCurve, TcbKey,
    WeightedTangent,
};
pub use self::rig::{
    Attribute, ChoiceAttribute, Inherits, Kind, Node, NumberAttribute, Op, Quantity, Rig, Rotate,
    VectorAttribute,
};

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::number::Num;

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
    /// What drives nodes by others, in the order in which it acts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub constraints: Vec<Constraint>,
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
