//! What a claim can say of a node or number beside that it is the same: that it follows, in the world or beside another
//! node, that it is an affine function of a number, or that it is a stated function of what it was.

use std::fmt;
use std::sync::Arc;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::NumberRange;

use crate::address::NodeRef;
use crate::scene::Target;
use crate::space::AxisMap;

/// A node of the result that turns, beside another one or in the world, by the product of turns of the source.
///
/// Both sides are turns from poses that correspond: `before · R · after`, with `R` for the product of the local rotations of
/// the result from below `beside` down to the node, is the product of `before · L · after` of the source's nodes.
#[derive(Clone, Debug, PartialEq)]
pub struct Turn {
    /// The node of the result.
    pub result: NodeRef,
    /// The node above it beside which it turns; the world where there is none.
    pub beside: Option<NodeRef>,
    /// What the result's rotation is multiplied by from the left, in its own axes.
    pub before: DQuat,
    /// What it is multiplied by from the right.
    pub after: DQuat,
    /// The turns of the source, in order of their product.
    pub of: Vec<Factor>,
    /// The node of the source that it answers for.
    pub source: NodeRef,
}

/// A node of the source whose turn counts, or a part of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Factor {
    /// The node.
    pub node: NodeRef,
    /// Which part of its turn counts; negative parts undo it.
    pub part: f64,
    /// What its local rotation is multiplied by from the left, in the source's axes.
    pub before: DQuat,
    /// What it is multiplied by from the right.
    pub after: DQuat,
}

/// A node of the result that moves beside its parent as one of the source does beside a frame that stands still.
///
/// `before · (t − reference)`, with `t` for its local place, is `scale` times how far the source's node is from `start`.
#[derive(Clone, Debug, PartialEq)]
pub struct Shift {
    /// The node of the result.
    pub result: NodeRef,
    /// What takes its local place into the axes of the world, in the result's axes, turned and sized as what it stands in.
    pub before: DMat3,
    /// Its local place that corresponds to `start`, in the result's units.
    pub reference: DVec3,
    /// Nodes of the source one below the other, whose local transforms count; the last one is the one that is followed.
    pub of: Vec<NodeRef>,
    /// The frame that the topmost of them stands in, in the source.
    pub above: DAffine3,
    /// The place of the last one in the pose that corresponds, in the source.
    pub start: DVec3,
    /// By how much its way grows, apart from units.
    pub scale: f64,
}

/// A node of the result that is held by another one where one of the source is held by that one's partner: a prop in a hand.
///
/// While it is held, it stands beside the holder as it does in the source, `scale` times as far away. Before it is picked up and after
/// it is put down it moves as [`base`](Hold::base) says, from where that was done; between two times it goes over evenly.
#[derive(Clone, Debug, PartialEq)]
pub struct Hold {
    /// Which take of the source.
    pub take: usize,
    /// The node of the source and what holds it.
    pub source: (NodeRef, NodeRef),
    /// Their partners in the result.
    pub result: (NodeRef, NodeRef),
    /// World rotations of the two holders that correspond, each in its own axes.
    pub references: (DQuat, DQuat),
    /// By how much distances from the holder grow, apart from units.
    pub scale: f64,
    /// How it moves while nothing holds it.
    pub base: Shift,
    /// When it is held, in the source's time, in order; there is one such time at least.
    pub times: Vec<TimeRange>,
}

/// A number of the result that is a function of one of the source.
#[derive(Clone, Debug, PartialEq)]
pub struct Amount {
    /// The number, vector or choice of the source.
    pub source: Target,
    /// That of the result.
    pub result: Target,
    /// How it is said where the function is meant.
    pub into: AxisMap,
    /// The function of a number; vectors and choices stay.
    pub range: NumberRange,
    /// How what comes of it is said in the result.
    pub out: AxisMap,
}

/// A node of the result that stands in the world as one of the source does.
#[derive(Clone, Debug, PartialEq)]
pub struct Standing {
    /// The node of the source.
    pub source: NodeRef,
    /// The node of the result.
    pub result: NodeRef,
    /// World rotations that correspond, the source's and the result's, each in its own axes; none where turns in the world
    /// are not claimed.
    pub references: Option<(DQuat, DQuat)>,
    /// Whether it stands in the same place, too.
    pub place: bool,
    /// The instants of the source, in ticks and in order, at which that is claimed; wherever the world is looked at where nothing is
    /// said.
    pub at: Option<Arc<[f64]>>,
    /// How far off its place and its rotation may be besides, in units of the result and radians: what is known to be out of reach.
    pub slack: [f64; 2],
}

/// What a local transform should be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Edited {
    /// The transform, and its rotation part.
    pub local: (DAffine3, DQuat),
    /// Another rotation that is meant as well as that one, where an instant does not tell them apart.
    pub or: Option<DQuat>,
    /// An axis of the parent about which it may be turned by anything: where the rest does not tell by how much.
    pub about: Option<DVec3>,
}

/// A local transform as a function of the time in ticks and of what it is in the source.
type Change = dyn Fn(f64, (DAffine3, DQuat)) -> Edited + Send + Sync;

/// A node whose local transform is a stated function of what it was, in the source's axes and time.
#[derive(Clone)]
pub struct Edit {
    /// Which take of the source.
    pub take: usize,
    /// The node of the source.
    pub node: NodeRef,
    change: Arc<Change>,
}

impl Edit {
    /// An edit of a node by a function.
    pub fn new(
        take: usize,
        node: NodeRef,
        change: impl Fn(f64, (DAffine3, DQuat)) -> Edited + Send + Sync + 'static,
    ) -> Edit {
        Edit { take, node, change: Arc::new(change) }
    }

    /// What a transform should be at a time.
    pub fn of(&self, time: f64, local: (DAffine3, DQuat)) -> Edited {
        (self.change)(time, local)
    }
}

impl fmt::Debug for Edit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Edit of {:?} in take {}", self.node, self.take)
    }
}
