//! The parts of a glTF document that say something about animation.

use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::Value;

/// A document; what it says of materials, images and the like is not looked at.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Document {
    pub asset: Asset,
    pub extensions_required: Vec<String>,
    pub extensions_used: Vec<String>,
    pub scene: Option<usize>,
    pub scenes: Vec<Scene>,
    pub nodes: Vec<Node>,
    pub meshes: Vec<Mesh>,
    pub skins: Vec<Skin>,
    pub animations: Vec<Animation>,
    pub accessors: Vec<Accessor>,
    pub buffer_views: Vec<BufferView>,
    pub buffers: Vec<Buffer>,
    pub extras: Option<Value>,
    pub extensions: Option<Value>,
}

impl Document {
    /// The extra data of a name: beside a scene, or where a program has put it that made a node of the scene; in files of
    /// earlier versions, beside the document.
    pub fn extra_data(&self, name: &str) -> Option<&Value> {
        let scenes = self.scenes.iter().map(|scene| &scene.extras);
        let nodes = self.nodes.iter().map(|node| &node.extras);
        let all = scenes.chain(nodes).chain([&self.extras]);
        all.filter_map(|extras| extras.as_ref()?.get(name)).find(|data| data.is_object())
    }
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Asset {
    pub version: String,
    pub min_version: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Scene {
    pub name: Option<String>,
    pub nodes: Vec<usize>,
    pub extras: Option<Value>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Node {
    pub name: Option<String>,
    pub children: Vec<usize>,
    pub translation: Option<[f64; 3]>,
    pub rotation: Option<[f64; 4]>,
    pub scale: Option<[f64; 3]>,
    pub matrix: Option<[f64; 16]>,
    pub mesh: Option<usize>,
    pub camera: Option<usize>,
    pub skin: Option<usize>,
    pub weights: Option<Vec<f64>>,
    pub extras: Option<Value>,
    pub extensions: Option<Value>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Mesh {
    pub primitives: Vec<Primitive>,
    pub weights: Option<Vec<f64>>,
    pub extras: Option<Value>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Primitive {
    pub targets: Vec<BTreeMap<String, Value>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Skin {
    pub inverse_bind_matrices: Option<usize>,
    pub joints: Vec<usize>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Animation {
    pub name: Option<String>,
    pub channels: Vec<Channel>,
    pub samplers: Vec<Sampler>,
    pub extras: Option<Value>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Channel {
    pub sampler: usize,
    pub target: ChannelTarget,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct ChannelTarget {
    pub node: Option<usize>,
    pub path: String,
    pub extensions: Option<Value>,
}

/// The extension by which a channel drives any number of a document (*KHR_animation_pointer*).
pub const POINTER: &str = "KHR_animation_pointer";

/// What a channel drives.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Driven {
    /// Translation, rotation, scale or all weights of a node.
    Property(usize, &'static str),
    /// One weight of a node.
    Weight(usize, usize),
    /// A number that users added to a node, among its extras.
    Number(usize, String),
    /// Something that is not read, in words.
    Else(String),
    /// Nothing that is said.
    Nothing,
}

impl ChannelTarget {
    /// What it means, whether the standard's own words say it or a pointer.
    pub fn driven(&self) -> Driven {
        let known = |path: &str| {
            ["translation", "rotation", "scale", "weights"].into_iter().find(|known| *known == path)
        };
        let shown = |text: &str| text.chars().take(80).collect::<String>();
        if self.path != "pointer" {
            return match (self.node, known(&self.path)) {
                (Some(node), Some(path)) => Driven::Property(node, path),
                (None, _) => Driven::Nothing,
                (_, None) => Driven::Else(shown(&self.path)),
            };
        }
        let pointer = self.extensions.as_ref().and_then(|all| all.get(POINTER)?.get("pointer")?.as_str());
        let Some(pointer) = pointer else { return Driven::Nothing };
        let parts: Vec<String> =
            pointer.split('/').map(|part| part.replace("~1", "/").replace("~0", "~")).collect();
        let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
        let found = match parts[..] {
            ["", "nodes", node, path] => {
                node.parse().ok().zip(known(path)).map(|(node, path)| Driven::Property(node, path))
            }
            ["", "nodes", node, "weights", weight] => {
                node.parse().ok().zip(weight.parse().ok()).map(|(node, weight)| Driven::Weight(node, weight))
            }
            ["", "nodes", node, "extras", name] => {
                node.parse().ok().map(|node| Driven::Number(node, name.to_owned()))
            }
            _ => None,
        };
        found.unwrap_or_else(|| Driven::Else(shown(pointer)))
    }
}

/// The pointer to a number that users added to a node.
pub fn pointer_to(node: usize, name: &str) -> String {
    format!("/nodes/{node}/extras/{}", name.replace('~', "~0").replace('/', "~1"))
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Sampler {
    pub input: usize,
    pub output: usize,
    pub interpolation: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Accessor {
    pub buffer_view: Option<usize>,
    pub byte_offset: usize,
    pub component_type: u32,
    pub normalized: bool,
    pub count: usize,
    #[serde(rename = "type")]
    pub shape: String,
    pub sparse: Option<Sparse>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Sparse {
    pub count: usize,
    pub indices: SparsePart,
    pub values: SparsePart,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct SparsePart {
    pub buffer_view: usize,
    pub byte_offset: usize,
    pub component_type: u32,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct BufferView {
    pub buffer: usize,
    pub byte_offset: usize,
    pub byte_length: usize,
    pub byte_stride: Option<usize>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Buffer {
    pub uri: Option<String>,
    pub byte_length: usize,
}
