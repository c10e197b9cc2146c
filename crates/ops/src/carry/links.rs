//! Who moves whom: each node of the target that gets motion, and the place in the source that it follows.

use std::collections::{HashMap, HashSet};

use nimble_curve_scene::address::{AddressError, Addresses, NodeRef, matches, without_namespace};
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::similar::similar_address;

use super::CarryError;
use super::map::{NameMap, PairSpace};
use crate::names::other_side;
use crate::rigs::RigPairing;

/// A place in a rig: a node, and which part of its turn counts. Everything above the node counts whole.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Place {
    pub node: NodeId,
    pub part: f64,
}

/// A node of the target with the place that it follows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct NodePairing {
    pub target: NodeId,
    pub place: Place,
    pub space: PairSpace,
    /// The node of the source whose translation it takes.
    pub translation: Option<NodeId>,
    /// Whether it belongs to a chain.
    pub in_chain: bool,
}

/// All links, in order of the target's nodes.
#[derive(Debug)]
pub(super) struct Links {
    pub all: Vec<NodePairing>,
    by_target: HashMap<NodeId, usize>,
    /// For each node of the source that is the end of a link, that link.
    by_source: HashMap<NodeId, usize>,
    /// Nodes of the source that are in a pair or chain.
    sources: HashSet<NodeId>,
    /// Nodes of the source that were left out on purpose.
    pub left_out: HashSet<NodeId>,
}

/// A node of the source whose turn counts in part; negative parts undo it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Factor {
    pub node: NodeId,
    pub part: f64,
}

impl Links {
    pub fn of_target(&self, target: NodeId) -> Option<&NodePairing> {
        self.by_target.get(&target).map(|&index| &self.all[index])
    }

    /// The link that a node of the source is the end of.
    pub fn of_source(&self, source: NodeId) -> Option<&NodePairing> {
        self.by_source.get(&source).map(|&index| &self.all[index])
    }

    /// Whether a node of the source is in a pair or chain.
    pub fn is_source(&self, source: NodeId) -> bool {
        self.sources.contains(&source)
    }

    pub fn is_target(&self, target: NodeId) -> bool {
        self.by_target.contains_key(&target)
    }

    /// The nearest linked node above a node of the target.
    pub fn above(&self, rig: &Rig, target: NodeId) -> Option<&NodePairing> {
        std::iter::successors(rig.parent(target), |&id| rig.parent(id)).find_map(|id| self.of_target(id))
    }

    /// The turns that lead from one place of the source to another, in the order of their product.
    pub fn factors(&self, source: &Rig, from: Option<Place>, to: Place) -> Vec<Factor> {
        let way = |place: Place| -> Vec<Factor> {
            let mut up: Vec<Factor> = std::iter::successors(Some(place.node), |&id| source.parent(id))
                .map(|node| Factor { node, part: 1.0 })
                .collect();
            up[0].part = place.part;
            up.reverse();
            up
        };
        let (from, mut to) = (from.map(way).unwrap_or_default(), way(to));
        let same = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
        let mut rest = from[same..].to_vec();
        to.drain(..same);
        // Parts of one node's turn differ by a part of it.
        if let (Some(a), Some(b)) = (rest.first().copied(), to.first_mut())
            && a.node == b.node
        {
            b.part -= a.part;
            rest.remove(0);
        }
        let undone = rest.into_iter().rev().map(|factor| Factor { part: -factor.part, ..factor });
        undone.chain(to).filter(|factor| factor.part != 0.0).collect()
    }

    /// Pairs nodes by the map, then by equal names, then by equal names without namespaces; in a mirror names change sides.
    pub fn new(
        source: &Scene,
        target: &Scene,
        addresses: (&Addresses, &Addresses),
        map: &NameMap,
        pair: RigPairing,
    ) -> Result<Links, CarryError> {
        let finder = Finder { source: addresses.0, target: addresses.1, rigs: pair };
        let (from, onto) = (&source.rigs[pair.source], &target.rigs[pair.target]);
        let mut links = Links {
            all: Vec::new(),
            by_target: HashMap::new(),
            by_source: HashMap::new(),
            sources: HashSet::new(),
            left_out: HashSet::new(),
        };
        let mut ends: HashSet<NodeId> = HashSet::new();
        for listed in &map.nodes {
            let (a, b) = (finder.source(&listed.source)?, finder.target(&listed.target)?);
            let link = NodePairing {
                target: b,
                place: Place { node: a, part: 1.0 },
                space: listed.space,
                translation: Some(a),
                in_chain: false,
            };
            if links.is_target(b) || !ends.insert(a) {
                return Err(CarryError::Twice(listed.target.clone()));
            }
            links.push(link);
        }
        for chain in &map.chains {
            let sources =
                chain.source.iter().map(|name| finder.source(name)).collect::<Result<Vec<_>, _>>()?;
            let targets =
                chain.target.iter().map(|name| finder.target(name)).collect::<Result<Vec<_>, _>>()?;
            check_chain(from, &sources, &chain.source)?;
            check_chain(onto, &targets, &chain.target)?;
            let parts = parts_of(chain)?;
            for (index, &target) in targets.iter().enumerate() {
                if links.is_target(target) {
                    return Err(CarryError::Twice(chain.target[index].clone()));
                }
                let at = parts[index] * sources.len() as f64;
                let last = index + 1 == targets.len();
                let piece =
                    if last { sources.len() } else { ((at - 1e-9).ceil() as usize).clamp(1, sources.len()) };
                let part = if last { 1.0 } else { at - (piece - 1) as f64 };
                links.push(NodePairing {
                    target,
                    place: Place { node: sources[piece - 1], part },
                    space: PairSpace::World,
                    translation: (index == 0).then_some(sources[0]),
                    in_chain: true,
                });
            }
            ends.extend(&sources);
        }
        for (id, node) in from.nodes() {
            let text = addresses.0.node((pair.source, id));
            let is_meant =
                |pattern: &String| matches(pattern, text) || matches(pattern, without_namespace(&node.name));
            if map.leave_out.iter().any(is_meant) {
                if ends.contains(&id) {
                    return Err(CarryError::LeftOutAndPaired(text.to_owned()));
                }
                links.left_out.insert(id);
            }
        }
        links.by_name(from, onto, &mut ends, map.mirror.is_some());
        links.sources = ends;
        links.sort(onto);
        if links.all.is_empty() { Err(CarryError::NoPairs) } else { Ok(links) }
    }

    /// The same, or nothing where two of several pairs of rigs have no node in common.
    pub fn of_some(
        source: &Scene,
        target: &Scene,
        addresses: (&Addresses, &Addresses),
        map: &NameMap,
        pair: RigPairing,
        count: usize,
    ) -> Result<Option<Links>, CarryError> {
        match Links::new(source, target, addresses, map, pair) {
            Err(CarryError::NoPairs) if count > 1 => Ok(None),
            links => links.map(Some),
        }
    }

    fn push(&mut self, link: NodePairing) {
        self.by_target.insert(link.target, self.all.len());
        self.all.push(link);
    }

    fn by_name(&mut self, from: &Rig, onto: &Rig, ends: &mut HashSet<NodeId>, mirrored: bool) {
        for bare in [false, true] {
            let plain = |name: &str| if bare { without_namespace(name).to_owned() } else { name.to_owned() };
            let (sources, targets) = (unique(from, &plain), unique(onto, &plain));
            for (id, node) in from.nodes() {
                let own = plain(&node.name);
                if ends.contains(&id) || self.left_out.contains(&id) || sources.get(&own) != Some(&Some(id)) {
                    continue;
                }
                let wanted = if mirrored { other_side(&own).unwrap_or(own) } else { own };
                if let Some(Some(partner)) = targets.get(&wanted)
                    && !self.is_target(*partner)
                {
                    ends.insert(id);
                    let place = Place { node: id, part: 1.0 };
                    let translation = Some(id);
                    self.push(NodePairing {
                        target: *partner,
                        place,
                        space: PairSpace::World,
                        translation,
                        in_chain: false,
                    });
                }
            }
        }
    }

    fn sort(&mut self, onto: &Rig) {
        self.all.sort_by_key(|link| onto.position(link.target));
        self.by_target = self.all.iter().enumerate().map(|(index, link)| (link.target, index)).collect();
        let ends = self.all.iter().enumerate().filter(|(_, link)| link.place.part == 1.0);
        self.by_source = ends.map(|(index, link)| (link.place.node, index)).collect();
    }
}

/// Nodes by name; `None` where a name is not unique.
fn unique(rig: &Rig, plain: &impl Fn(&str) -> String) -> HashMap<String, Option<NodeId>> {
    let mut found: HashMap<String, Option<NodeId>> = HashMap::new();
    for (id, node) in rig.nodes() {
        found.entry(plain(&node.name)).and_modify(|id| *id = None).or_insert(Some(id));
    }
    found
}

/// Where the nodes of a target's chain stand in it, from above 0 to 1.
fn parts_of(chain: &super::map::Chain) -> Result<Vec<f64>, CarryError> {
    let count = chain.target.len();
    if chain.parts.is_empty() {
        return Ok((1..=count).map(|index| index as f64 / count as f64).collect());
    }
    let total: f64 = chain.parts.iter().sum();
    if chain.parts.len() != count || chain.parts.iter().any(|part| *part <= 0.0 || !part.is_finite()) {
        let first = chain.target.first().cloned().unwrap_or_default();
        return Err(CarryError::Parts { first, count });
    }
    let mut sum = 0.0;
    Ok(chain
        .parts
        .iter()
        .map(|part| {
            sum += part;
            sum / total
        })
        .collect())
}

/// Each node of a chain must stand below the one before it.
fn check_chain(rig: &Rig, nodes: &[NodeId], names: &[String]) -> Result<(), CarryError> {
    if nodes.is_empty() {
        return Err(CarryError::EmptyChain);
    }
    for (index, pair) in nodes.windows(2).enumerate() {
        if !std::iter::successors(rig.parent(pair[1]), |&id| rig.parent(id)).any(|id| id == pair[0]) {
            return Err(CarryError::NotAChain {
                above: names[index].clone(),
                below: names[index + 1].clone(),
            });
        }
    }
    Ok(())
}

/// Finds nodes of both rigs by what a map calls them.
pub(super) struct Finder<'a> {
    pub source: &'a Addresses,
    pub target: &'a Addresses,
    pub rigs: RigPairing,
}

impl Finder<'_> {
    pub fn source(&self, text: &str) -> Result<NodeId, CarryError> {
        find(self.source, "source", (self.rigs.source, text))
    }

    pub fn target(&self, text: &str) -> Result<NodeId, CarryError> {
        find(self.target, "target", (self.rigs.target, text))
    }
}

pub(super) fn find(
    addresses: &Addresses,
    side: &'static str,
    (rig, text): (usize, &str),
) -> Result<NodeId, CarryError> {
    match found(addresses, side, text) {
        Ok((of, node)) if of == rig => Ok(node),
        Ok(_) => {
            Err(CarryError::Map { side, error: AddressError::NoNode(text.to_owned()), suggestion: None })
        }
        Err(error) => Err(error),
    }
}

/// The node that a map means, on whichever rig.
pub(super) fn found(addresses: &Addresses, side: &'static str, text: &str) -> Result<NodeRef, CarryError> {
    addresses.find_in_any_namespace(text).map_err(|error| {
        let texts: Vec<&str> = addresses.texts().collect();
        let suggestion = similar_address(text, texts.iter().copied());
        CarryError::Map { side, error, suggestion }
    })
}
