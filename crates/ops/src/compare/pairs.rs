//! Which node corresponds to which.

use std::collections::{BTreeSet, HashMap, HashSet};

use glam::{DAffine3, DQuat};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::{Addresses, NodeRef, matches, without_namespace};
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::scene::{Scene, Take, Target};
use nimble_curve_scene::similar::similar_address;

use super::{CompareError, CompareOptions};
use crate::carry::NameMap;

/// Two scenes in one space, and the pairs of their nodes.
pub(super) struct Pairs<'a> {
    pub first: &'a Scene,
    pub second: &'a Scene,
    pub addresses: (Addresses, Addresses),
    /// In order of the first scene's nodes.
    pub all: Vec<(NodeRef, NodeRef)>,
    partner: HashMap<NodeRef, NodeRef>,
    /// Nodes of either side that a map accounts for without a partner: in the middle of chains, or left out on purpose.
    accounted: (HashSet<NodeRef>, HashSet<NodeRef>),
    pub rest_alike: bool,
}

/// World transforms and rotations at rest, rig by rig.
pub(super) struct Rest {
    pub world: Vec<Vec<DAffine3>>,
    pub rotation: Vec<Vec<DQuat>>,
}

impl Rest {
    pub fn of(scene: &Scene) -> Rest {
        let world: Vec<Vec<DAffine3>> = scene.rigs.iter().map(|rig| rig.rest_world()).collect();
        let turns = |affine: &DAffine3| decomposed(affine).1;
        let rotation = world.iter().map(|rig| rig.iter().map(turns).collect()).collect();
        Rest { world, rotation }
    }

    /// The same, with the first rig as it is at an instant of a take.
    pub fn at(scene: &Scene, reference: Option<(&Take, Ticks)>) -> Result<Rest, EvaluateError> {
        let mut rest = Rest::of(scene);
        if let Some((take, time)) = reference {
            let mut pose = Pose::default();
            Evaluator::new(scene, Some(take), 0)?.pose_at(time.as_f64(), &mut pose);
            (rest.world[0], rest.rotation[0]) = (pose.world, pose.world_rotation);
        }
        Ok(rest)
    }
}

impl<'a> Pairs<'a> {
    pub fn new(
        first: &'a Scene,
        second: &'a Scene,
        options: &CompareOptions<'_>,
    ) -> Result<Pairs<'a>, CompareError> {
        let addresses = (Addresses::new(first), Addresses::new(second));
        let mut partner = match options.map {
            Some(map) => by_map(map, &addresses)?,
            None => by_name(first, second, &addresses),
        };
        for pattern in &options.only {
            if !partner.keys().any(|node| matches(pattern, addresses.0.node(*node))) {
                return Err(CompareError::NoMatch(pattern.clone()));
            }
        }
        let mut accounted = options.map.map_or_else(Default::default, |map| accounted(map, &addresses));
        if !options.only.is_empty() {
            let meant = |node: &NodeRef| options.only.iter().any(|p| matches(p, addresses.0.node(*node)));
            partner.retain(|node, _| meant(node));
            accounted.0.extend(addresses.0.nodes().iter().filter(|node| !meant(node)));
            let partners: HashSet<NodeRef> = partner.values().copied().collect();
            accounted.1.extend(addresses.1.nodes().iter().filter(|node| !partners.contains(node)));
        }
        let all: Vec<(NodeRef, NodeRef)> =
            addresses.0.nodes().iter().filter_map(|node| Some((*node, *partner.get(node)?))).collect();
        let rest_alike =
            options.map.is_none_or(|map| map.mirror.is_none()) && rest_alike(first, second, &all);
        Ok(Pairs { first, second, addresses, all, partner, accounted, rest_alike })
    }

    /// Position of a node in its rig.
    pub fn at(scene: &Scene, node: NodeRef) -> usize {
        scene.rigs[node.0].position(node.1).unwrap_or(0)
    }

    /// The second scene's address of a pair's node, where it is another one than the first's.
    pub fn other_name(&self, (a, b): (NodeRef, NodeRef)) -> Option<String> {
        let (a, b) = (self.addresses.0.node(a), self.addresses.1.node(b));
        (a != b).then(|| b.to_owned())
    }

    /// The same property of a node's partner.
    pub fn partner(&self, target: &Target) -> Option<Target> {
        let (rig, node) = *self.partner.get(&(target.rig, target.node))?;
        self.second.rigs[rig].property_kind(node, &target.property)?;
        Some(Target { rig, node, property: target.property.clone() })
    }

    /// Nodes that are animated in a take on either side and have no partner.
    pub fn alone(&self, (a, b): (&Take, &Take)) -> (Vec<String>, Vec<String>) {
        let moved = |take: &Take, is_alone: &dyn Fn(&NodeRef) -> bool, addresses: &Addresses| {
            let nodes: BTreeSet<NodeRef> =
                take.tracks().map(|(_, track)| (track.target.rig, track.target.node)).collect();
            let alone = nodes.into_iter().filter(|node| is_alone(node));
            alone.map(|node| addresses.node(node).to_owned()).collect::<Vec<_>>()
        };
        let partners: HashSet<&NodeRef> = self.partner.values().collect();
        let first = |node: &NodeRef| !self.partner.contains_key(node) && !self.accounted.0.contains(node);
        let second = |node: &NodeRef| !partners.contains(node) && !self.accounted.1.contains(node);
        (moved(a, &first, &self.addresses.0), moved(b, &second, &self.addresses.1))
    }
}

fn accounted(
    map: &NameMap,
    (first, second): &(Addresses, Addresses),
) -> (HashSet<NodeRef>, HashSet<NodeRef>) {
    let found = |addresses: &Addresses, name: &String| addresses.find(name).ok();
    let chained = map.chains.iter().flat_map(|chain| &chain.source).filter_map(|name| found(first, name));
    let left_out = (first.nodes().iter().copied())
        .filter(|node| map.leave_out.iter().any(|pattern| matches(pattern, first.node(*node))));
    let targets = map.chains.iter().flat_map(|chain| &chain.target).filter_map(|name| found(second, name));
    (chained.chain(left_out).collect(), targets.collect())
}

fn by_map(
    map: &NameMap,
    (first, second): &(Addresses, Addresses),
) -> Result<HashMap<NodeRef, NodeRef>, CompareError> {
    let find = |addresses: &Addresses, name: &str, side| {
        addresses.find_in_any_namespace(name).map_err(|_| CompareError::NoNode {
            name: name.to_owned(),
            side,
            similar: similar_address(name, addresses.texts().collect::<Vec<_>>().into_iter()),
        })
    };
    let single = map.nodes.iter().map(|pair| (pair.source.as_str(), pair.target.as_str()));
    // Of chains the ends correspond.
    let ends = map
        .chains
        .iter()
        .filter_map(|chain| Some((chain.source.last()?.as_str(), chain.target.last()?.as_str())));
    let mut partner = HashMap::new();
    for (source, target) in single.chain(ends) {
        partner.insert(find(first, source, "first")?, find(second, target, "second")?);
    }
    Ok(partner)
}

/// By address, else by a name that is the only one of its kind without its namespace.
fn by_name(first: &Scene, second: &Scene, addresses: &(Addresses, Addresses)) -> HashMap<NodeRef, NodeRef> {
    let bare = |scene: &Scene, addresses: &Addresses| {
        let mut names: HashMap<String, Option<NodeRef>> = HashMap::new();
        for &node in addresses.nodes() {
            let Some(own) = scene.rigs[node.0].node(node.1) else { continue };
            let name = without_namespace(&own.name).to_owned();
            names.entry(name).and_modify(|node| *node = None).or_insert(Some(node));
        }
        names
    };
    let mut partner: HashMap<NodeRef, NodeRef> = HashMap::new();
    let mut taken = HashSet::new();
    for &node in addresses.0.nodes() {
        if let Ok(other) = addresses.1.find(addresses.0.node(node))
            && taken.insert(other)
        {
            partner.insert(node, other);
        }
    }
    let others = bare(second, &addresses.1);
    for (name, node) in bare(first, &addresses.0) {
        if let (Some(node), Some(Some(other))) = (node, others.get(&name))
            && !partner.contains_key(&node)
            && !taken.contains(other)
        {
            partner.insert(node, *other);
        }
    }
    partner
}

/// Whether all pairs rest at the same place with the same rotation.
fn rest_alike(first: &Scene, second: &Scene, pairs: &[(NodeRef, NodeRef)]) -> bool {
    let (a, b) = (Rest::of(first), Rest::of(second));
    let size = a.world.iter().flatten().map(|world| world.translation.length()).fold(1e-9, f64::max);
    pairs.iter().all(|&(one, other)| {
        let (i, j) = (Pairs::at(first, one), Pairs::at(second, other));
        let apart = (a.world[one.0][i].translation - b.world[other.0][j].translation).length();
        // Files of single precision, and of degrees in decimals.
        apart < 1e-5 * size && angle_between(a.rotation[one.0][i], b.rotation[other.0][j]) < 1e-5
    })
}
