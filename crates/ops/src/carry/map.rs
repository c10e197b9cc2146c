//! Name maps: which node of a source goes to which node of a target, and how.

pub use nimble_curve_curves::value::NumberRange;
use nimble_curve_scene::scene::NodeSet;

/// In which frame a pair's motion relative to rest is the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum PairSpace {
    /// In the world's: an arm that is lifted by 30° is lifted by 30°.
    #[default]
    World,
    /// In the parent's: the partner turns beside its parent as the source does.
    Parent,
}

/// A node and its partner, by address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodePair {
    /// The node of the source.
    pub source: String,
    /// The node of the target.
    pub target: String,
    /// In which frame the motion is the same.
    pub space: PairSpace,
}

/// Nodes one below the other that correspond as a whole.
#[derive(Clone, Debug, PartialEq)]
pub struct Chain {
    /// Nodes of the source, from the top down.
    pub source: Vec<String>,
    /// Nodes of the target, from the top down.
    pub target: Vec<String>,
    /// Which part of the chain's turn each node of the target takes; equal parts where there are none.
    pub parts: Vec<f64>,
}

/// A custom attribute and its partner, by the address `NODE:ATTRIBUTE`.
#[derive(Clone, Debug, PartialEq)]
pub struct AttributePair {
    /// The attribute of the source.
    pub source: String,
    /// The attribute of the target.
    pub target: String,
    /// How its values change.
    pub range: NumberRange,
}

/// Which node of a source goes to which node of a target.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NameMap {
    /// Single nodes.
    pub nodes: Vec<NodePair>,
    /// Chains of several nodes.
    pub chains: Vec<Chain>,
    /// Custom attributes.
    pub numbers: Vec<AttributePair>,
    /// Patterns of source nodes that have no partner on purpose; their motion is let go.
    pub leave_out: Vec<String>,
    /// The source is seen in a mirror across the plane normal to this axis of the target's space, and sides change places.
    pub mirror: Option<usize>,
    /// Named lists of patterns, for selections.
    pub sets: Vec<NodeSet>,
}

impl NameMap {
    /// A map of single nodes.
    pub fn of_nodes(pairs: impl IntoIterator<Item = (String, String)>) -> NameMap {
        let pair = |(source, target)| NodePair { source, target, space: PairSpace::World };
        NameMap { nodes: pairs.into_iter().map(pair).collect(), ..NameMap::default() }
    }
}
