//! Constraints: what drives a node, or a number of it, by others. Controls are keyed, joints follow.
//!
//! What they come to at an instant is worked out in [`crate::evaluate`], after all layers; docs/control-rigs.md has the formulas.

use glam::{DQuat, DVec3};

use crate::rig::NodeRef;
use crate::target::Target;

/// What drives a node by others.
#[derive(Clone, Debug, PartialEq)]
pub struct Constraint {
    /// Its name, which need not be unique.
    pub name: String,
    /// The node that it drives; of a limb, the upper joint.
    pub node: NodeRef,
    /// How much of it counts, from 0 to 1.
    pub weight: Setting,
    /// What it does.
    pub kind: ConstraintKind,
}

/// What a constraint does.
#[derive(Clone, Debug, PartialEq)]
pub enum ConstraintKind {
    /// The node goes with others.
    Follow(Follow),
    /// The node points at another.
    Aim(Aim),
    /// Two bones reach for a goal.
    Limb(Box<Limb>),
    /// The node takes a part of another one's turn about an axis.
    Roll(Roll),
    /// A number of the node is another number put through a curve of values.
    Couple(Couple),
    /// One that we cannot work out: a spline, a spring, a script. What it makes of the node is in the node's own curves.
    Other {
        /// What it is called where it comes from.
        kind: String,
        /// Its definition, as it came.
        text: String,
    },
}

/// A number that is given, or read from an attribute at the time.
#[derive(Clone, Debug, PartialEq)]
pub enum Setting {
    /// A number.
    Constant(f64),
    /// The value of a number or a switch (on is 1).
    Attribute(Target),
    /// What is left of 1 beside the value of a number or a switch.
    Remaining(Target),
    /// 1 while an attribute is one of its options, else 0: a menu of spaces.
    Is(Target, String),
}

impl Setting {
    /// The number, where it is given.
    pub fn constant(&self) -> Option<f64> {
        match self {
            Setting::Constant(number) => Some(*number),
            _ => None,
        }
    }

    /// The attribute that it is read from.
    pub fn attribute(&self) -> Option<&Target> {
        match self {
            Setting::Constant(_) => None,
            Setting::Attribute(target) | Setting::Remaining(target) | Setting::Is(target, _) => Some(target),
        }
    }

    fn attribute_mut(&mut self) -> Option<&mut Target> {
        match self {
            Setting::Constant(_) => None,
            Setting::Attribute(target) | Setting::Remaining(target) | Setting::Is(target, _) => Some(target),
        }
    }
}

/// A place beside a node, in the node's own space.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Offset {
    /// Where, in units of the scene.
    pub position: DVec3,
    /// How it is turned.
    pub turn: DQuat,
    /// Factors to the node's scale.
    pub scale: DVec3,
}

/// A node that others go by.
#[derive(Clone, Debug, PartialEq)]
pub struct Source {
    /// The node; it may be in another rig.
    pub node: NodeRef,
    /// Its share among several.
    pub weight: Setting,
    /// Where the other stands beside it; as both rest, where nothing is said.
    pub offset: Option<Offset>,
}

/// The node goes with one or several others.
///
/// Positions are the weighted mean; turns of two by the shorter arc between them, of more the normalised sum of quaternions of
/// like sign. Where the weights come to nothing, the node stays where it is without this.
#[derive(Clone, Debug, PartialEq)]
pub struct Follow {
    /// By whom.
    pub sources: Vec<Source>,
    /// Which components of the translation, in the space of the node's parent.
    pub translation: [bool; 3],
    /// Which angles of the rotation, in the node's own order; all three are the rotation as it is.
    pub rotation: [bool; 3],
    /// Which factors of the scale.
    pub scale: [bool; 3],
}

/// A direction, or where to find one.
#[derive(Clone, Debug, PartialEq)]
pub enum Towards {
    /// From the node to another one.
    Node(NodeRef),
    /// A direction in the space of a node, or in the world where there is none.
    Direction(DVec3, Option<NodeRef>),
}

/// The node points an axis of its own at another node.
#[derive(Clone, Debug, PartialEq)]
pub struct Aim {
    /// The axis, in the node's own space.
    pub axis: DVec3,
    /// At whom.
    pub at: NodeRef,
    /// Another axis of the node, and where it leans; without it the node turns from its rest pose, which its parent carries, by the
    /// shortest way.
    pub up: Option<(DVec3, Towards)>,
}

/// How a limb becomes longer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum StretchBy {
    /// The lower and the end joint move away.
    #[default]
    Translation,
    /// The upper joint is scaled along its bone, and with it all below.
    Scale,
}

/// How the end of a limb turns.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum EndTurn {
    /// With the goal.
    #[default]
    Goal,
    /// With the lower joint, as at rest.
    Parent,
    /// By its own curves, beside the lower joint.
    Own,
}

/// Two bones reach for a goal: closed form, by the law of cosines.
#[derive(Clone, Debug, PartialEq)]
pub struct Limb {
    /// The lower joint, somewhere below the upper one.
    pub lower: NodeRef,
    /// The end, somewhere below the lower one.
    pub end: NodeRef,
    /// What the end reaches for, at this offset.
    pub goal: Source,
    /// Where the middle bends to; without it, as at rest.
    pub pole: Option<Towards>,
    /// Whether it bends the other way.
    pub bends_other: bool,
    /// The axis of the hinge in the world at rest, for limbs that rest straight.
    pub hinge: Option<DVec3>,
    /// How much of what is missing beyond its length is made up by stretching, from 0 to 1.
    pub stretch: Setting,
    /// How it stretches.
    pub stretch_by: StretchBy,
    /// The last part of the reach over which the end slows down, as a part of the whole length: 0 for none.
    pub slack: f64,
    /// How the end turns.
    pub end_turn: EndTurn,
    /// A turn of the bend about the line from the root to the goal, in radians.
    pub twist: Setting,
    /// Factors to the lengths of the upper and the lower bone.
    pub lengths: [Setting; 2],
}

/// The node takes a fraction of another one's turn, about an axis or as a whole.
///
/// The turn is the source's rotation beside its parent against its rest; its part about the axis (swing and twist), in (−180, 180]
/// degrees, or all of it, by the shorter arc. It is added to how the node is turned so far, in its own axes. The source may be the node
/// itself: a fraction of −1 takes all of its roll off.
#[derive(Clone, Debug, PartialEq)]
pub struct Roll {
    /// Whose turn.
    pub source: NodeRef,
    /// How much of it.
    pub fraction: Setting,
    /// About which axes; the whole turn where there are none.
    pub axes: Option<RollAxes>,
}

/// About what a node takes a part of another one's turn.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RollAxes {
    /// The axis of the source about which its turn counts.
    pub source: DVec3,
    /// The axis of the node about which it is added.
    pub node: DVec3,
}

impl RollAxes {
    /// The same axis on both.
    pub fn both(axis: DVec3) -> RollAxes {
        RollAxes { source: axis, node: axis }
    }
}

/// One number of a node or an attribute.
#[derive(Clone, Debug, PartialEq)]
pub struct Channel {
    /// The property.
    pub target: Target,
    /// Which of its numbers: 0 where it has one.
    pub component: usize,
}

/// A number of the node is, beside its own curves, another number put through a curve of values. Several add up.
#[derive(Clone, Debug, PartialEq)]
pub struct Couple {
    /// Which number is driven; of the constraint's node.
    pub channel: Channel,
    /// By which number, its layers counted and what is coupled to it.
    pub from: Channel,
    /// The values of the one at values of the other, ascending; straight between them, held outside.
    pub points: Vec<(f64, f64)>,
}

impl Couple {
    /// How many of the points a value is past: what is added goes straight on as long as that stays.
    pub fn piece(&self, value: f64) -> usize {
        self.points.partition_point(|(from, _)| *from <= value)
    }

    /// What is added at a value of the number that drives it.
    pub fn at(&self, value: f64) -> f64 {
        let after = self.piece(value);
        match (after.checked_sub(1).and_then(|before| self.points.get(before)), self.points.get(after)) {
            (Some(&(x0, y0)), Some(&(x1, y1))) => y0 + (y1 - y0) * ((value - x0) / (x1 - x0)),
            (Some(&(_, y)), None) | (None, Some(&(_, y))) => y,
            (None, None) => 0.0,
        }
    }
}

impl Towards {
    /// The node that it leans on.
    pub fn node(&self) -> Option<NodeRef> {
        match self {
            Towards::Node(node) => Some(*node),
            Towards::Direction(_, node) => *node,
        }
    }

    fn node_mut(&mut self) -> Option<&mut NodeRef> {
        match self {
            Towards::Node(node) => Some(node),
            Towards::Direction(_, node) => node.as_mut(),
        }
    }
}

impl ConstraintKind {
    /// What the kind is called.
    pub fn name(&self) -> &str {
        match self {
            ConstraintKind::Follow(_) => "follow",
            ConstraintKind::Aim(_) => "aim",
            ConstraintKind::Limb(_) => "limb",
            ConstraintKind::Roll(_) => "roll",
            ConstraintKind::Couple(_) => "couple",
            ConstraintKind::Other { kind, .. } => kind,
        }
    }
}

impl Constraint {
    /// The nodes whose transforms it changes.
    pub fn driven(&self) -> Vec<NodeRef> {
        match &self.kind {
            ConstraintKind::Limb(limb) => vec![self.node, limb.lower, limb.end],
            // A couple drives a number, see [`Scene::couples_on`].
            ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => Vec::new(),
            _ => vec![self.node],
        }
    }

    /// Whether it changes the transform of a node.
    pub fn drives(&self, node: NodeRef) -> bool {
        match &self.kind {
            ConstraintKind::Limb(limb) => [self.node, limb.lower, limb.end].contains(&node),
            ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => false,
            _ => self.node == node,
        }
    }

    /// The nodes that have to stand where they stand before this can be worked out.
    pub fn sources(&self) -> Vec<NodeRef> {
        match &self.kind {
            ConstraintKind::Follow(follow) => follow.sources.iter().map(|source| source.node).collect(),
            ConstraintKind::Aim(aim) => {
                let up = aim.up.as_ref().and_then(|(_, towards)| towards.node());
                std::iter::once(aim.at).chain(up).collect()
            }
            ConstraintKind::Limb(limb) => {
                let pole = limb.pole.as_ref().and_then(Towards::node);
                std::iter::once(limb.goal.node).chain(pole).collect()
            }
            // A node's own roll is taken as it stands.
            ConstraintKind::Roll(roll) if roll.source == self.node => Vec::new(),
            ConstraintKind::Roll(roll) => vec![roll.source],
            ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => Vec::new(),
        }
    }

    /// All settings.
    pub fn settings(&self) -> Vec<&Setting> {
        let mut settings = vec![&self.weight];
        match &self.kind {
            ConstraintKind::Follow(follow) => settings.extend(follow.sources.iter().map(|own| &own.weight)),
            ConstraintKind::Limb(limb) => {
                settings.extend([&limb.stretch, &limb.twist, &limb.lengths[0], &limb.lengths[1]]);
            }
            ConstraintKind::Roll(roll) => settings.push(&roll.fraction),
            ConstraintKind::Aim(_) | ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => {}
        }
        settings
    }

    /// The properties that it is steered by: attributes, and what a couple is driven by.
    pub fn properties(&self) -> Vec<&Target> {
        let mut properties: Vec<&Target> =
            self.settings().into_iter().filter_map(Setting::attribute).collect();
        if let ConstraintKind::Couple(couple) = &self.kind {
            properties.push(&couple.from.target);
        }
        properties
    }

    /// The same constraint with other nodes in place of its own; `None` where one of them has no other.
    pub fn with_nodes(&self, mut other: impl FnMut(NodeRef) -> Option<NodeRef>) -> Option<Constraint> {
        let mut made = self.clone();
        made.node = other(made.node)?;
        match &mut made.kind {
            ConstraintKind::Follow(follow) => {
                for source in &mut follow.sources {
                    source.node = other(source.node)?;
                }
            }
            ConstraintKind::Aim(aim) => {
                aim.at = other(aim.at)?;
                if let Some(node) = aim.up.as_mut().and_then(|(_, towards)| towards.node_mut()) {
                    *node = other(*node)?;
                }
            }
            ConstraintKind::Limb(limb) => {
                for node in [&mut limb.lower, &mut limb.end, &mut limb.goal.node] {
                    *node = other(*node)?;
                }
                if let Some(node) = limb.pole.as_mut().and_then(Towards::node_mut) {
                    *node = other(*node)?;
                }
            }
            ConstraintKind::Roll(roll) => roll.source = other(roll.source)?,
            ConstraintKind::Couple(couple) => {
                for target in [&mut couple.channel.target, &mut couple.from.target] {
                    (target.rig, target.node) = other((target.rig, target.node))?;
                }
            }
            ConstraintKind::Other { .. } => {}
        }
        for setting in made.settings_mut() {
            if let Some(target) = setting.attribute_mut() {
                (target.rig, target.node) = other((target.rig, target.node))?;
            }
        }
        Some(made)
    }

    fn settings_mut(&mut self) -> Vec<&mut Setting> {
        let mut settings = vec![&mut self.weight];
        match &mut self.kind {
            ConstraintKind::Follow(follow) => {
                settings.extend(follow.sources.iter_mut().map(|own| &mut own.weight));
            }
            ConstraintKind::Limb(limb) => {
                let Limb { stretch, twist, lengths: [upper, lower], goal, .. } = &mut **limb;
                settings.extend([stretch, twist, upper, lower, &mut goal.weight]);
            }
            ConstraintKind::Roll(roll) => settings.push(&mut roll.fraction),
            ConstraintKind::Aim(_) | ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => {}
        }
        settings
    }
}
