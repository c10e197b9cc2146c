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
