//! What is proposed, and how sure it is.

use crate::carry::{AttributePair, Chain, NameMap, NodePair, PairSpace, RigPair};

/// How sure a pair is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Confidence {
    /// Two witnesses agree, one of them names or shape, and none contradicts.
    Sure,
    /// One speaks for it, or two although something contradicts.
    Likely,
    /// Nothing better was found.
    Guess,
}

impl Confidence {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Confidence::Sure => "sure",
            Confidence::Likely => "likely",
            Confidence::Guess => "guess",
        }
    }
}

/// A proposed pair, or a chain where there are several nodes on a side.
#[derive(Clone, Debug, PartialEq)]
pub struct Proposed {
    /// Addresses in the source, from the top down.
    pub source: Vec<String>,
    /// Addresses in the target, from the top down.
    pub target: Vec<String>,
    /// How sure it is.
    pub sureness: Confidence,
    /// What speaks for it, and what against.
    pub why: String,
    /// Whether anything speaks against it.
    pub doubted: bool,
    /// The angle between the orientations at rest, in radians; of the last nodes of a chain.
    pub orientation: f64,
    /// The angle between the directions in which the bones point at rest, in radians, where both point to another pair.
    pub direction: Option<f64>,
}

/// A proposed pair of custom attributes.
#[derive(Clone, Debug, PartialEq)]
pub struct ProposedNumber {
    /// The pair.
    pub pair: AttributePair,
    /// How sure it is.
    pub sureness: Confidence,
    /// What speaks for it.
    pub why: String,
}

/// Two rigs that go together, by name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProposedRigs {
    /// The rig of the source.
    pub source: String,
    /// The rig of the target.
    pub target: String,
    /// The node of another rig of the source that holds it in a take.
    pub held: Option<String>,
    /// How many of [`Proposal::pairs`], in their order, are of these two.
    pub pairs: usize,
}

/// What goes where, and what is left on both sides.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Proposal {
    /// The rigs that go together, where a side has several.
    pub rigs: Vec<ProposedRigs>,
    /// Pairs and chains, in order of the source's nodes.
    pub pairs: Vec<Proposed>,
    /// Custom attributes.
    pub numbers: Vec<ProposedNumber>,
    /// Nodes of the source without a partner.
    pub source_left: Vec<String>,
    /// Nodes of the target without a partner.
    pub target_left: Vec<String>,
    /// Attributes of the source without a partner.
    pub numbers_left: Vec<String>,
    /// Attributes of the target without a partner.
    pub target_numbers_left: Vec<String>,
}

impl Proposal {
    /// The map of all pairs that are at least this sure.
    pub fn map(&self, at_least: Confidence) -> NameMap {
        let rig = |rigs: &ProposedRigs| RigPair {
            source: rigs.source.clone(),
            target: rigs.target.clone(),
            held: rigs.held.clone(),
        };
        let mut map = NameMap { rigs: self.rigs.iter().map(rig).collect(), ..NameMap::default() };
        for pair in self.pairs.iter().filter(|pair| pair.sureness <= at_least) {
            match (pair.source.as_slice(), pair.target.as_slice()) {
                ([source], [target]) => map.nodes.push(NodePair {
                    source: source.clone(),
                    target: target.clone(),
                    space: PairSpace::World,
                }),
                (source, target) => map.chains.push(Chain {
                    source: source.to_vec(),
                    target: target.to_vec(),
                    parts: Vec::new(),
                }),
            }
        }
        let numbers = self.numbers.iter().filter(|number| number.sureness <= at_least);
        map.numbers = numbers.map(|number| number.pair.clone()).collect();
        map
    }
}
