//! A layer that stands on an asset and says only how it moves: meshes, materials and all else stay the asset's.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Component, Path, PathBuf};

use glam::DAffine3;
use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::space::Space;

use super::bones::{Above, Bone, shapes};
use super::names::identifier;
use super::read_plain;
use crate::encoded::Plain;
use crate::error::Fault;
use crate::format::Assume;

/// The asset that a layer stands on.
pub struct Asset {
    plain: Plain,
    /// How the layer calls the file.
    pub reference: String,
}

/// What of an asset is said anew: a tree of prims.
#[derive(Default)]
pub struct Over {
    /// How the layer calls the asset's file.
    pub reference: String,
    pub root: Prim,
}

/// How a skeleton of the asset moves.
pub struct Moved {
    /// The rig of the scene that its joints are of.
    pub rig: usize,
    pub bones: Vec<Bone>,
    /// Numbers of the rig that the asset knows as weights of blend shapes.
    pub shapes: Vec<(String, Target)>,
}

/// A prim of the asset.
#[derive(Default)]
pub struct Prim {
    /// The animation of the skeleton that it is.
    pub moved: Option<Moved>,
    /// The node that it is.
    pub node: Option<NodeRef>,
    /// Whether its steps and numbers are written.
    pub is_said: bool,
    /// By name; in their order by that.
    pub below: BTreeMap<String, Prim>,
}

impl Asset {
    /// Reads an asset for a layer that will lie in a folder.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn read(bytes: &[u8], path: &Path, folder: &Path) -> Result<Asset, Fault> {
        let assume = Assume { files_anywhere: true, ..Assume::default() };
        let plain = read_plain(bytes, (path, "asset"), assume)?;
        let reference = relative(path, folder)
            .map_err(|error| Fault::of_whole(format!("the asset '{}': {error}", path.display())))?;
        Ok(Asset { plain, reference })
    }

    /// Its unit and axes, in which the layer has to speak.
    pub fn space(&self) -> Space {
        self.plain.scene.space
    }

    /// What is said anew so that the asset moves as a scene in its space does.
    ///
    /// # Errors
    /// Where something moves that the asset does not have, or the joints of one skeleton are of several rigs.
    pub fn over(&self, scene: &Scene) -> Result<Over, Fault> {
        let (theirs, ours) = (Addresses::new(&self.plain.scene), Addresses::new(scene));
        let own = |scene: &Scene| -> HashSet<NodeRef> {
            let tracks = scene.takes.first().into_iter().flat_map(Take::tracks);
            tracks.map(|(_, track)| (track.target.rig, track.target.node)).collect()
        };
        let (moving, moving_there) = (own(scene), own(&self.plain.scene));
        let mut paths: HashMap<NodeRef, String> = HashMap::new();
        let mut over = Over { reference: self.reference.clone(), root: Prim::default() };
        let mut strangers: Vec<&str> = Vec::new();
        let mut skeletons: BTreeMap<String, Joints> = BTreeMap::new();
        for &(rig, id) in ours.nodes() {
            let text = ours.node((rig, id));
            // Where names have to be identifiers, that is what became of them.
            let name = scene.rigs[rig].node(id).map_or("", |node| node.name.as_str());
            let found = theirs.find(text).or_else(|_| theirs.find(&identifier(name))).ok();
            if found.is_none() && moving.contains(&(rig, id)) {
                strangers.push(text);
            }
            let path = found.and_then(|(rig, id)| {
                let position = self.plain.scene.rigs.get(rig)?.position(id)?;
                self.plain.keys.get(position)
            });
            let parent = scene.rigs[rig].parent(id).and_then(|parent| paths.get(&(rig, parent)));
            let path = match path {
                Some(path) => path.clone(),
                None => format!("{}/{}", parent.map_or("", String::as_str), identifier(name)),
            };
            let is_said =
                moving.contains(&(rig, id)) || found.is_some_and(|node| moving_there.contains(&node));
            match path.split_once(':') {
                Some((skeleton, joint)) if found.is_some() => {
                    let joints = skeletons.entry(skeleton.to_owned()).or_default();
                    joints.is_said |= is_said;
                    joints.all.push((joint.to_owned(), (rig, id)));
                }
                // What hangs on a joint here, and is not there.
                Some(_) => {}
                None => {
                    over.root.at(&path).node = Some((rig, id));
                    over.root.at(&path).is_said = is_said;
                }
            }
            paths.insert((rig, id), path);
        }
        if !strangers.is_empty() {
            let (count, shown) = (strangers.len(), strangers[..strangers.len().min(4)].join(", "));
            return Err(Fault::of_whole(format!(
                "{count} of the {} nodes that move are not in the asset '{}': {shown}: take what moves from a file of its rig, or carry it onto the asset first",
                moving.len(),
                self.reference
            )));
        }
        let here: HashMap<String, NodeRef> = paths.into_iter().map(|(node, path)| (path, node)).collect();
        for (path, joints) in skeletons.into_iter().filter(|(_, joints)| joints.is_said) {
            over.root.at(&path).moved = Some(self.moved(&path, joints.all, scene, &here)?);
        }
        over.root.prune();
        Ok(over)
    }

    /// The animation of the joints of a skeleton; `here` are the nodes of the scene by what they are in the asset.
    fn moved(
        &self,
        path: &str,
        joints: Vec<(String, NodeRef)>,
        scene: &Scene,
        here: &HashMap<String, NodeRef>,
    ) -> Result<Moved, Fault> {
        let rig = joints[0].1.0;
        if let Some((joint, _)) = joints.iter().find(|(_, node)| node.0 != rig) {
            let why =
                format!("the joints of its skeleton {path} are of several rigs here: {joint} is of another");
            return Err(Fault::of_whole(format!("the asset '{}': {why}", self.reference)));
        }
        let own = &scene.rigs[rig];
        let place = |(_, id): NodeRef| own.position(id).unwrap_or_default();
        let theirs = &self.plain.scene.rigs[0];
        let (rests, parents) = (theirs.rest_world(), theirs.parent_positions());
        let keys: HashMap<&str, usize> =
            self.plain.keys.iter().enumerate().map(|(at, key)| (key.as_str(), at)).collect();
        let own_parents = own.parent_positions();
        let bone = |(joint, node): &(String, NodeRef)| {
            let position = place(*node);
            let parent = keys.get(format!("{path}:{joint}").as_str()).and_then(|&at| parents[at]);
            // The nearest above it that is here: what is between rests.
            let mut above = parent;
            let here = |at: usize| here.get(self.plain.keys[at].as_str()).filter(|node| node.0 == rig);
            while let Some(at) = above.filter(|&at| here(at).is_none()) {
                above = parents[at];
            }
            let on = above.and_then(here).map(|node| place(*node));
            let resting = above.map_or(DAffine3::IDENTITY, |at| rests[at].inverse())
                * parent.map_or(DAffine3::IDENTITY, |at| rests[at]);
            let is_parent = on == own_parents[position] && resting.abs_diff_eq(DAffine3::IDENTITY, 1e-12);
            let above = if is_parent { Above::Parent } else { Above::Resting(on, resting) };
            Bone { joint: joint.clone(), position, above }
        };
        let bones = joints.iter().map(bone).collect();
        let known = keys.get(path).and_then(|&position| theirs.nodes().nth(position));
        let has = |name: &str| known.is_some_and(|(_, node)| node.attribute(name).is_some());
        let shapes = shapes(own, rig).into_iter().filter(|(name, _)| has(name)).collect();
        Ok(Moved { rig, bones, shapes })
    }
}

/// The joints of a skeleton that are nodes of a scene.
#[derive(Default)]
struct Joints {
    is_said: bool,
    all: Vec<(String, NodeRef)>,
}

impl Over {
    /// Whether it says how skeletons move.
    pub fn has_skeletons(&self) -> bool {
        self.root.has_skeletons()
    }
}

impl Prim {
    fn at(&mut self, path: &str) -> &mut Prim {
        let parts = path.split('/').filter(|part| !part.is_empty());
        // What stands between is the asset's.
        parts.fold(self, |at, part| at.below.entry(part.to_owned()).or_default())
    }

    fn has_skeletons(&self) -> bool {
        self.moved.is_some() || self.below.values().any(Prim::has_skeletons)
    }

    /// Leaves out what says nothing.
    fn prune(&mut self) {
        self.below.retain(|_, prim| {
            prim.prune();
            prim.is_said || prim.moved.is_some() || !prim.below.is_empty()
        });
    }
}

/// How a file is called from a folder, with slashes.
fn relative(path: &Path, folder: &Path) -> std::io::Result<String> {
    let (path, folder) = (std::fs::canonicalize(path)?, std::fs::canonicalize(folder)?);
    let (own, from): (Vec<Component<'_>>, Vec<Component<'_>>) =
        (path.components().collect(), folder.components().collect());
    let common = own.iter().zip(&from).take_while(|(a, b)| a == b).count();
    let up = std::iter::repeat_n(Component::ParentDir, from.len() - common);
    let relative: PathBuf = up.chain(own[common..].iter().copied()).collect();
    let text = relative.to_string_lossy().replace('\\', "/");
    Ok(if text.starts_with('.') { text } else { format!("./{text}") })
}
