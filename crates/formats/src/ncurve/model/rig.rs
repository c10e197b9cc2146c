//! Rigs as they stand in a file.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{is_default, is_false};
use crate::ncurve::number::Num;

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
    pub before: Option<Box<Op>>,
    /// The animated rotation at rest: `rotate` or `orient`; Euler order xyz at zero where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotation: Option<Box<Op>>,
    /// A constant rotation after the animated one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Box<Op>>,
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
    /// Whether, of several controls that move one joint, it is the one that takes the joint's motion.
    #[serde(default, skip_serializing_if = "is_default")]
    pub primary: bool,
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
pub(super) fn xyz() -> String {
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
