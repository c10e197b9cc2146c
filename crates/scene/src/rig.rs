//! Rigs: nodes in a hierarchy, their transforms as lists of operations, and their custom attributes.

use crate::parts::decomposed;
use glam::{DAffine3, DMat3, DMat4, DQuat, DVec3};
use nimble_curve_curves::curve::Discrete;
use nimble_curve_curves::rotation::{RotationOrder, quat_from_euler};
use nimble_curve_curves::value::Quantity;
use thiserror::Error;

/// The step of a node's transform that places it beside its parent.
pub const TRANSLATION: &str = "translation";

/// The step that turns it.
pub const ROTATION: &str = "rotation";

/// The step that sizes it.
pub const SCALE: &str = "scale";

/// A node of a rig; it stays the same when other nodes come and go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeId(pub u32);

/// A node of a scene: which rig, from 0, and which of its nodes.
pub type NodeRef = (usize, NodeId);

/// What a node is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub enum NodeKind {
    /// Part of the skeleton.
    #[default]
    Joint,
    /// What an animator grabs.
    Control,
    /// Where a chain ends: an end site, the tip of a finger. It moves with its parent alone.
    End,
    /// A place that the rig needs, and whoever receives the animation does not: an aim point, a pivot.
    Locator,
    /// Carries the whole character.
    Root,
    /// Anything else.
    Other,
}

impl NodeKind {
    /// Whether it is there for the rig alone, not for whoever receives the animation: ends and locators.
    pub fn is_support(self) -> bool {
        matches!(self, NodeKind::End | NodeKind::Locator)
    }

    /// Whether it is there for whoever animates, not for the skeleton: controls, and the locators that they need.
    pub fn is_for_controls(self) -> bool {
        matches!(self, NodeKind::Control | NodeKind::Locator)
    }
}

/// How a node takes over the scale of its parent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub enum ScaleInheritance {
    /// Wholly: world = parent · local.
    #[default]
    Full,
    /// The parent's own scale moves the node, but does not scale it.
    PositionOnly,
}

/// One step of a node's local transform; see [`Node::transform`].
#[derive(Clone, Debug, PartialEq)]
pub struct TransformOp {
    /// The name by which tracks address the step, unique in its node.
    pub name: String,
    /// The step at rest.
    pub value: OpValue,
    /// Whether the inverse of the step acts (the second half of a pivot).
    pub inverse: bool,
}

/// What a step of a transform does, with its value at rest.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum OpValue {
    /// A displacement, in units of the scene.
    Translate(DVec3),
    /// A turn about one axis (of length 1), in radians.
    RotateAxis {
        /// The axis.
        axis: DVec3,
        /// The angle in radians.
        angle: f64,
    },
    /// Three turns about the coordinate axes, in radians by axis.
    Rotate {
        /// The order in which they act.
        order: RotationOrder,
        /// The angles in radians, by axis.
        angles: DVec3,
    },
    /// A rotation.
    Orient(DQuat),
    /// Factors along the axes.
    Scale(DVec3),
    /// Shear: x by y, x by z, y by z.
    Shear(DVec3),
    /// Any affine transform.
    Matrix(DMat4),
}

impl OpValue {
    /// The step as an affine transform.
    pub fn affine(&self) -> DAffine3 {
        match *self {
            OpValue::Translate(v) => DAffine3::from_translation(v),
            OpValue::Scale(v) => DAffine3::from_scale(v),
            OpValue::Shear(s) => DAffine3::from_mat3(DMat3::from_cols(
                DVec3::X,
                DVec3::new(s.x, 1.0, 0.0),
                DVec3::new(s.y, s.z, 1.0),
            )),
            OpValue::Matrix(m) => DAffine3::from_mat4(m),
            _ => DAffine3::from_quat(self.rotation()),
        }
    }

    /// Whether the step can turn.
    pub fn turns(&self) -> bool {
        !matches!(self, OpValue::Translate(_) | OpValue::Scale(_) | OpValue::Shear(_))
    }

    /// Whether the step moves or turns, and never sizes.
    pub fn is_rigid(&self) -> bool {
        !matches!(self, OpValue::Scale(_) | OpValue::Shear(_) | OpValue::Matrix(_))
    }

    /// The rotation of the step; none for steps that are not rotations.
    pub fn rotation(&self) -> DQuat {
        match *self {
            OpValue::RotateAxis { axis, angle } => DQuat::from_axis_angle(axis, angle),
            OpValue::Rotate { order, angles } => quat_from_euler(order, angles),
            OpValue::Orient(q) => q.normalize(),
            OpValue::Matrix(m) => decomposed(&DAffine3::from_mat4(m)).1,
            _ => DQuat::IDENTITY,
        }
    }
}

/// The text attribute that says which bone of a human body a node is, in the words of the open standard for humanoids: `hips`,
/// `leftUpperLeg` and so on (*VRMC_vrm*, humanoid). Files that have such data say it beyond doubt.
pub const HUMAN_BONE: &str = "humanBone";

/// A custom attribute of a node: its kind with default and limits.
#[derive(Clone, Debug, PartialEq)]
pub struct Attribute {
    /// The attribute's name.
    pub name: String,
    /// Its kind.
    pub kind: AttributeKind,
}

/// The kinds of custom attributes.
#[derive(Clone, Debug, PartialEq)]
pub enum AttributeKind {
    /// One number.
    Number {
        /// The value where no track drives it.
        default: f64,
        /// The least value, if limited.
        min: Option<f64>,
        /// The greatest value, if limited.
        max: Option<f64>,
        /// What the number measures.
        quantity: Quantity,
    },
    /// Three numbers.
    Vector {
        /// The value where no track drives it.
        default: DVec3,
        /// What the numbers measure.
        quantity: Quantity,
    },
    /// On or off.
    Switch {
        /// The value where no track drives it.
        default: bool,
    },
    /// One of several options.
    Choice {
        /// The options.
        options: Vec<String>,
        /// The option where no track drives it.
        default: String,
    },
    /// Any text.
    Text {
        /// The text where no track drives it.
        default: String,
    },
}

impl AttributeKind {
    /// The default of a discrete attribute.
    pub fn discrete_default(&self) -> Option<Discrete> {
        match self {
            AttributeKind::Switch { default } => Some(Discrete::Switch(*default)),
            AttributeKind::Choice { default, .. } => Some(Discrete::Choice(default.clone())),
            AttributeKind::Text { default } => Some(Discrete::Text(default.clone())),
            _ => None,
        }
    }
}

/// One node of a rig.
#[derive(Clone, Debug, PartialEq)]
pub struct Node {
    /// The name; it need not be unique.
    pub name: String,
    /// What the node is for.
    pub kind: NodeKind,
    /// The local transform: the product of the steps from the first to the last, so that the last acts on a
    /// vector first. Nearly all nodes have the canonical list `translation · before · rotation · after · scale`,
    /// see [`Node::canonical`].
    pub transform: Vec<TransformOp>,
    /// The world transform in which a mesh was bound, where known.
    pub bind: Option<DAffine3>,
    /// How the parent's scale is taken over.
    pub inherits: ScaleInheritance,
    /// Channels that must not change: attribute names, or attribute and component like `rotation.x`.
    pub locked: Vec<String>,
    /// Whether, of several controls that move one joint, it is the one that takes the joint's motion.
    pub primary: bool,
    /// Custom attributes.
    pub attributes: Vec<Attribute>,
}

/// A canonical transform list, taken apart.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Canonical {
    /// Translation at rest.
    pub translation: DVec3,
    /// The constant rotation before (outside) the animated one.
    pub before: DQuat,
    /// The rotation order, or `None` where the rotation is a quaternion.
    pub order: Option<RotationOrder>,
    /// The animated rotation at rest.
    pub rotation: DQuat,
    /// Its angles, by axis; zero where the rotation is a quaternion.
    pub angles: DVec3,
    /// The constant rotation after (inside) the animated one.
    pub after: DQuat,
    /// Scale at rest.
    pub scale: DVec3,
}

impl Canonical {
    /// The whole local rotation, given the animated one.
    pub fn local_rotation(&self, rotation: DQuat) -> DQuat {
        self.before * rotation * self.after
    }

    /// The whole local rotation at rest.
    pub fn rest_rotation(&self) -> DQuat {
        self.local_rotation(self.rotation)
    }
}

impl Node {
    /// A node with a translation, an Euler rotation at zero and scale 1.
    pub fn new(name: impl Into<String>, kind: NodeKind, translation: DVec3, order: RotationOrder) -> Node {
        let op = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
        Node {
            name: name.into(),
            kind,
            transform: vec![
                op(TRANSLATION, OpValue::Translate(translation)),
                op(ROTATION, OpValue::Rotate { order, angles: DVec3::ZERO }),
                op(SCALE, OpValue::Scale(DVec3::ONE)),
            ],
            bind: None,
            inherits: ScaleInheritance::default(),
            locked: Vec::new(),
            primary: false,
            attributes: Vec::new(),
        }
    }

    /// The same node with a constant rotation before the animated one.
    pub fn with_before(mut self, value: OpValue) -> Node {
        self.transform.insert(1, TransformOp { name: "before".into(), value, inverse: false });
        self
    }

    /// The step of this name.
    pub fn op(&self, name: &str) -> Option<&TransformOp> {
        self.transform.iter().find(|op| op.name == name)
    }

    /// Which bone of a human body the node is told to be, see [`HUMAN_BONE`].
    pub fn human_bone(&self) -> Option<&str> {
        match &self.attribute(HUMAN_BONE)?.kind {
            AttributeKind::Text { default } => {
                Some(default).filter(|bone| !bone.is_empty()).map(String::as_str)
            }
            _ => None,
        }
    }

    /// The custom attribute of this name.
    pub fn attribute(&self, name: &str) -> Option<&Attribute> {
        self.attributes.iter().find(|attribute| attribute.name == name)
    }

    /// The transform as translation, constant rotations and one animated rotation; `None` where it is another list.
    pub fn canonical(&self) -> Option<Canonical> {
        let mut view = Canonical {
            translation: DVec3::ZERO,
            before: DQuat::IDENTITY,
            order: None,
            rotation: DQuat::IDENTITY,
            angles: DVec3::ZERO,
            after: DQuat::IDENTITY,
            scale: DVec3::ONE,
        };
        let mut stage = 0;
        for op in &self.transform {
            let place = match (op.name.as_str(), &op.value) {
                (TRANSLATION, OpValue::Translate(v)) => {
                    view.translation = *v;
                    1
                }
                ("before", OpValue::Orient(_) | OpValue::Rotate { .. } | OpValue::RotateAxis { .. }) => {
                    view.before = op.value.rotation();
                    2
                }
                (ROTATION, OpValue::Rotate { order, angles }) => {
                    (view.order, view.angles, view.rotation) = (Some(*order), *angles, op.value.rotation());
                    3
                }
                (ROTATION, OpValue::Orient(_)) => {
                    view.rotation = op.value.rotation();
                    3
                }
                ("after", OpValue::Orient(_) | OpValue::Rotate { .. } | OpValue::RotateAxis { .. }) => {
                    view.after = op.value.rotation();
                    4
                }
                (SCALE, OpValue::Scale(v)) => {
                    view.scale = *v;
                    5
                }
                _ => return None,
            };
            if op.inverse || place <= stage {
                return None;
            }
            stage = place;
        }
        Some(view)
    }

    /// The local transform at rest.
    pub fn rest(&self) -> DAffine3 {
        self.transform.iter().fold(DAffine3::IDENTITY, |product, op| {
            let step = op.value.affine();
            product * if op.inverse { step.inverse() } else { step }
        })
    }

    /// The rotation part of the local transform at rest, scale left out.
    pub fn rest_rotation(&self) -> DQuat {
        self.transform.iter().fold(DQuat::IDENTITY, |product, op| {
            let turn = op.value.rotation();
            product * if op.inverse { turn.conjugate() } else { turn }
        })
    }

    /// Whether a channel is locked; `component` is 0, 1, 2 for x, y, z.
    pub fn is_locked(&self, property: &str, component: Option<usize>) -> bool {
        self.locked.iter().any(|locked| match locked.split_once('.') {
            None => locked == property,
            Some((name, axis)) => name == property && component.is_some_and(|c| ["x", "y", "z"][c] == axis),
        })
    }
}

/// A hierarchy of nodes.
#[derive(Clone, Debug, PartialEq, Default)]
pub struct Rig {
    /// The rig's name.
    pub name: String,
    entries: Vec<Entry>,
    /// Position of each id among the entries; `u32::MAX` where the node is gone.
    positions: Vec<u32>,
}

#[derive(Clone, Debug, PartialEq)]
struct Entry {
    id: NodeId,
    parent: Option<NodeId>,
    /// How many nodes are above it.
    depth: usize,
    node: Node,
}

/// How many nodes may hang below one another: what goes down a rig node by node is bounded by it.
pub const MOST_DEEP: usize = 2000;

/// Why a node cannot be added.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum AddError {
    /// A parent that is not in the rig.
    #[error("the parent of '{child}' is not in the rig")]
    NoSuchParent {
        /// Name of the node that was to be added.
        child: String,
    },
    /// More than [`MOST_DEEP`] nodes below one another.
    #[error("nodes are nested more than {MOST_DEEP} deep")]
    TooDeep,
}

impl Rig {
    /// A rig without nodes.
    pub fn new(name: impl Into<String>) -> Rig {
        Rig { name: name.into(), ..Rig::default() }
    }

    /// Adds a node below `parent`, after all nodes there are.
    ///
    /// # Errors
    /// [`AddError::NoSuchParent`] where the parent is not in the rig, [`AddError::TooDeep`] where it hangs too deep.
    pub fn add(&mut self, parent: Option<NodeId>, node: Node) -> Result<NodeId, AddError> {
        let depth = match parent.map(|parent| self.position(parent)) {
            None => 0,
            Some(None) => return Err(AddError::NoSuchParent { child: node.name }),
            Some(Some(above)) => self.entries[above].depth + 1,
        };
        if depth >= MOST_DEEP {
            return Err(AddError::TooDeep);
        }
        let id = NodeId(self.positions.len() as u32);
        self.positions.push(self.entries.len() as u32);
        self.entries.push(Entry { id, parent, depth, node });
        Ok(id)
    }

    /// Adds a node between a node and its parent.
    ///
    /// # Errors
    /// [`AddError::NoSuchParent`] where the node below is not in the rig.
    pub fn insert_above(&mut self, below: NodeId, node: Node) -> Result<NodeId, AddError> {
        let Some(position) = self.position(below) else {
            return Err(AddError::NoSuchParent { child: node.name });
        };
        let id = NodeId(self.positions.len() as u32);
        let depth = self.entries[position].depth;
        let parent = self.entries[position].parent.replace(id);
        self.entries.insert(position, Entry { id, parent, depth, node });
        for own in self.positions.iter_mut().filter(|own| **own != u32::MAX && **own >= position as u32) {
            *own += 1;
        }
        self.positions.push(position as u32);
        // Children come after their parents, so one pass takes all below along.
        for index in position + 1..self.entries.len() {
            let above = self.entries[index].parent.and_then(|parent| self.position(parent));
            self.entries[index].depth = above.map_or(0, |above| self.entries[above].depth + 1);
        }
        Ok(id)
    }

    /// One node alone, by the same id.
    pub fn only(&self, id: NodeId) -> Rig {
        let mut positions = vec![u32::MAX; self.positions.len().min(id.0 as usize + 1)];
        let entry = self.position(id).map(|p| Entry { parent: None, depth: 0, ..self.entries[p].clone() });
        if let (Some(_), Some(position)) = (&entry, positions.last_mut()) {
            *position = 0;
        }
        Rig { name: self.name.clone(), entries: entry.into_iter().collect(), positions }
    }

    /// How many nodes there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// All nodes with their ids, parents before their children.
    pub fn nodes(&self) -> impl ExactSizeIterator<Item = (NodeId, &Node)> + Clone {
        self.entries.iter().map(|entry| (entry.id, &entry.node))
    }

    /// Where a node stands among [`Rig::nodes`].
    pub fn position(&self, id: NodeId) -> Option<usize> {
        self.positions.get(id.0 as usize).filter(|&&p| p != u32::MAX).map(|&p| p as usize)
    }

    /// A node by its id.
    pub fn node(&self, id: NodeId) -> Option<&Node> {
        self.position(id).map(|p| &self.entries[p].node)
    }

    /// A node by its id, to change it.
    pub fn node_mut(&mut self, id: NodeId) -> Option<&mut Node> {
        self.position(id).map(|p| &mut self.entries[p].node)
    }

    /// A node's parent.
    pub fn parent(&self, id: NodeId) -> Option<NodeId> {
        self.position(id).and_then(|p| self.entries[p].parent)
    }

    /// Position of each node's parent, for passes over all nodes.
    pub fn parent_positions(&self) -> Vec<Option<usize>> {
        self.entries.iter().map(|entry| entry.parent.and_then(|parent| self.position(parent))).collect()
    }

    /// How many nodes the longest way from a node without a parent down to one without children has.
    pub fn longest_chain(&self) -> usize {
        self.entries.iter().map(|entry| entry.depth + 1).max().unwrap_or(0)
    }

    /// A node's children, in order: a pass over all nodes. For a walk downwards see [`Hierarchy`](crate::hierarchy::Hierarchy).
    pub fn children(&self, id: Option<NodeId>) -> impl Iterator<Item = NodeId> {
        self.entries.iter().filter(move |entry| entry.parent == id).map(|entry| entry.id)
    }

    /// How many nodes stand above a node.
    pub fn depth(&self, id: NodeId) -> usize {
        self.position(id).map_or(0, |p| self.entries[p].depth)
    }

    /// World transforms at rest, in order of [`Rig::nodes`].
    pub fn rest_world(&self) -> Vec<DAffine3> {
        let mut world: Vec<DAffine3> = Vec::with_capacity(self.len());
        for (entry, parent) in self.entries.iter().zip(self.parent_positions()) {
            let local = entry.node.rest();
            world.push(parent.map_or(local, |parent| world[parent] * local));
        }
        world
    }
}
