//! Constraints as they stand in a file.

use schemars::JsonSchema;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::value::RawValue;

use super::is_default;
use crate::ncurve::number::{Num, shown};

/// What drives a node by others: exactly one of follow, aim, limb, roll, couple and other.
#[derive(Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Constraint {
    /// Its name.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The node that it drives; of a limb, the upper joint.
    pub node: String,
    /// How much of it counts, from 0 to 1; 1 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<Setting>,
    /// The node goes with others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follow: Option<Follow>,
    /// The node points at another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aim: Option<Aim>,
    /// Two bones reach for a goal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limb: Option<Box<Limb>>,
    /// The node takes a part of another one's turn, about an axis or as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub roll: Option<Roll>,
    /// A number of the node is another number put through a curve of values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub couple: Option<Couple>,
    /// One that cannot be worked out here: the node has what it comes to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub other: Option<Other>,
}

/// A number, the address of a number or switch attribute, or what is made of one.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Setting {
    /// A number.
    Number(Num),
    /// `NODE:ATTRIBUTE`; of a switch, on is 1.
    Attribute(String),
    /// What is left of 1.
    Remaining {
        /// Beside this attribute.
        remaining: String,
    },
    /// 1 while an attribute is one of its options, else 0.
    Is {
        /// The attribute.
        attribute: String,
        /// The option.
        is: String,
    },
}

impl<'de> Deserialize<'de> for Setting {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Setting, D::Error> {
        /// What stands in braces.
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Made {
            remaining: Option<String>,
            attribute: Option<String>,
            is: Option<String>,
        }
        let raw = <&RawValue>::deserialize(deserializer)?.get();
        let wrong = |error: serde_json::Error| D::Error::custom(format!("{}: {error}", shown(raw)));
        match raw.as_bytes().first() {
            Some(b'"') => serde_json::from_str(raw).map(Setting::Attribute).map_err(wrong),
            Some(b'{') => match serde_json::from_str(raw).map_err(wrong)? {
                Made { remaining: Some(remaining), attribute: None, is: None } => {
                    Ok(Setting::Remaining { remaining })
                }
                Made { remaining: None, attribute: Some(attribute), is: Some(is) } => {
                    Ok(Setting::Is { attribute, is })
                }
                _ => Err(D::Error::custom(format!(
                    "{}: give 'remaining', or 'attribute' and 'is'",
                    shown(raw)
                ))),
            },
            _ => serde_json::from_str(raw).map(Setting::Number).map_err(wrong),
        }
    }
}

/// A node that others go by.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Source {
    /// The node.
    pub node: String,
    /// Its share among several; 1 where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<Setting>,
    /// Where the other stands beside it; as both rest where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<Offset>,
}

/// A place beside a node, in its space.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Offset {
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<[Num; 3]>,
    /// How it is turned: a quaternion x, y, z, w.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub turn: Option<[Num; 4]>,
    /// Factors to the size.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<[Num; 3]>,
}

/// The node goes with others.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Follow {
    /// By whom.
    pub sources: Vec<Source>,
    /// What of it: `translation`, `rotation`, `scale`, or one axis as `translation.y`; translation and rotation where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parts: Option<Vec<String>>,
}

/// Where something leans: to a node, or along a direction, in the world or in the space of a node.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Towards {
    /// A node; with a direction, the one in whose space that is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<String>,
    /// A direction.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub direction: Option<[Num; 3]>,
}

/// Another axis of a node that aims, and where it leans.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Lean {
    /// The axis, in the node's own space.
    pub axis: [Num; 3],
    /// Where it leans.
    pub to: Towards,
}

/// The node points an axis at another node.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Aim {
    /// The axis, in the node's own space.
    pub axis: [Num; 3],
    /// At whom.
    pub at: String,
    /// Another axis, and where it leans; without it the node turns from its rest pose by the shortest way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub up: Option<Lean>,
}

/// To which side of its pole a limb bends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Bend {
    /// Towards it.
    #[default]
    Towards,
    /// To the other side.
    Other,
}

/// How a limb becomes longer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum StretchBy {
    /// The lower and the end joint move away.
    #[default]
    Translation,
    /// The upper joint is scaled along its bone.
    Scale,
}

/// How the end of a limb turns.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum EndTurn {
    /// With the goal.
    #[default]
    Goal,
    /// With the lower joint, as at rest.
    Parent,
    /// By its own curves.
    Own,
}

/// Two bones reach for a goal.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Limb {
    /// The lower joint.
    pub lower: String,
    /// The end.
    pub end: String,
    /// What the end reaches for.
    pub goal: Source,
    /// Where the middle bends to; as at rest where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pole: Option<Towards>,
    /// To which side of the pole.
    #[serde(default, skip_serializing_if = "is_default")]
    pub bend: Bend,
    /// The axis of the hinge in the world at rest, for limbs that rest straight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hinge: Option<[Num; 3]>,
    /// How much of what is missing to the goal longer bones make up, from 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stretch: Option<Setting>,
    /// How they become longer.
    #[serde(default, skip_serializing_if = "is_default")]
    pub stretch_by: StretchBy,
    /// The last part of the reach over which the end slows down, as a part of the whole length.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slack: Option<Num>,
    /// How the end turns.
    #[serde(default, skip_serializing_if = "is_default")]
    pub end_turn: EndTurn,
    /// A turn of the bend about the line from the root to the goal: in degrees, or an attribute that is an angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub twist: Option<Setting>,
    /// Factors to the lengths of the upper and the lower bone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lengths: Option<[Setting; 2]>,
}

/// The node takes a part of another one's turn, about an axis or as a whole.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Roll {
    /// Whose turn; the node's own where that is named.
    pub source: String,
    /// How much of it.
    pub fraction: Setting,
    /// About which axis of the node; the whole turn where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub axis: Option<[Num; 3]>,
    /// About which axis of the source; the same where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source_axis: Option<[Num; 3]>,
}

/// A number of the node is another number put through a curve of values.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Couple {
    /// Which number of the node: an attribute, or one of several as `rotation.x`.
    pub channel: String,
    /// By which number, as `NODE:ATTRIBUTE` or `NODE:rotation.x`.
    pub from: String,
    /// Values of the one, ascending, and of the other; straight between them, held outside. Angles are in degrees.
    pub points: Vec<[Num; 2]>,
}

/// One that cannot be worked out here.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Other {
    /// What it is called where it comes from.
    pub kind: String,
    /// Its definition, as it came.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub text: String,
}
