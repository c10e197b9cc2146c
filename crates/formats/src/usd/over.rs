//! A layer that stands on an asset and says only how it moves: meshes, materials and all else stay the asset's.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Component, Path, PathBuf};

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::space::Space;

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

/// A prim of the asset.
#[derive(Default)]
pub struct Prim {
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
        let assume = Assume { layers_anywhere: true, ..Assume::default() };
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
    /// Where what moves are joints of a skeleton, whose animation is of another kind.
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
            if path.contains(':') && is_said {
                return Err(Fault::of_whole(format!(
                    "'{text}' is a joint of a skeleton in the asset, of which no layer over it is written: write it with --skeletons"
                )));
            }
            over.root.put(&path, Prim { node: Some((rig, id)), is_said, below: BTreeMap::new() });
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
        over.root.prune();
        Ok(over)
    }
}

impl Prim {
    fn put(&mut self, path: &str, prim: Prim) {
        let mut at = self;
        for part in path.split('/').filter(|part| !part.is_empty()) {
            // What stands between is the asset's.
            at = at.below.entry(part.to_owned()).or_default();
        }
        let below = std::mem::take(&mut at.below);
        *at = Prim { below, ..prim };
    }

    /// Leaves out what says nothing.
    fn prune(&mut self) {
        self.below.retain(|_, prim| {
            prim.prune();
            prim.is_said || !prim.below.is_empty()
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
