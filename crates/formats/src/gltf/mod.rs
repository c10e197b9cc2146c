//! glTF 2.0: nodes with translations, quaternions and scales, and animations with steps, straight lines and cubics.
//!
//! Times are in seconds, lengths in metres, y is up; slopes are per second (*glTF 2.0 Specification*, appendix C). Numbers
//! are kept in single precision. What glTF cannot hold — layers, rotation orders, weighted handles, loops, sets, clips —
//! travels in the `extras` of the document, see [`crate::extra_data`].

mod accessor;
mod constraints;
mod container;
mod document;
mod humanoid;
mod kept;
mod nodes;
mod read;
mod sampler;
mod write;

use std::borrow::Cow;
use std::collections::HashMap;
use std::path::Path;

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::adapt::{Capabilities, Rotations, adapt};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, Ticks};
use serde_json::{Value, json};

use crate::encoded::{Encoded, Plain};
use crate::error::Fault;
use crate::extra_data::{self, Marks};
use crate::format::Format;

use self::document::Document;

pub use container::{Folder, files_beside};

/// Where extra data stands in the document.
const EXTRAS: &str = "nimbleCurve";

/// Where takes start, in seconds, in the extra data; and the same beside an animation.
const STARTS: &str = "starts";
const START: &str = "nimbleCurveStart";

/// What glTF holds of an animation by itself.
const HOLDS: Capabilities = Capabilities {
    layers: false,
    rotations: Rotations::Quaternions,
    weighted: false,
    outside: false,
    lists: false,
    inverses: false,
};

/// Reads the scene in a `.glb` or `.gltf`; buffers beside it are looked for in `folder`. Also what was let pass.
///
/// # Errors
/// With the part of the document that is wrong.
pub fn read(
    bytes: &[u8],
    folder: Folder<'_>,
    name: &str,
    rate: Option<FrameRate>,
) -> Result<(Scene, Vec<String>), Fault> {
    let container = container::open(bytes)?;
    let document = read::document(container.json)?;
    let extras = document.extra_data(EXTRAS).map(Value::to_string);
    extra_data::read_with(extras.as_deref(), rate, |rate| {
        let with_constraints = extras.is_none();
        let file = read::File { binary: container.binary, folder, with_starts: true, with_constraints };
        let plain = read::read(&document, &file, name, rate)?;
        let marks = marks(&document, &plain);
        Ok((plain.scene, marks, plain.notes))
    })
}

/// The marks that its nodes carry.
fn marks(document: &Document, plain: &read::Plain) -> Marks {
    let nodes = plain.scene.rigs.iter().enumerate();
    let refs = nodes.flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)));
    let mark = |place: usize| document.nodes.get(place)?.extras.as_ref()?.get(EXTRAS)?.as_u64();
    let by_node = refs.zip(&plain.places).filter_map(|(node, &place)| Some((node, mark(place)?))).collect();
    let without_numbers = !document.extensions_used.iter().any(|name| name == document::POINTER);
    Marks { by_node, without_numbers }
}

/// The scene as any other program reads it. `buffer` is what goes to the file beside it, where that is not there yet.
pub(crate) fn read_plain(
    bytes: &[u8],
    buffer: Option<&[u8]>,
    folder: Folder<'_>,
    name: &str,
    rate: Option<FrameRate>,
) -> Result<Plain, Fault> {
    let container = container::open(bytes)?;
    let mut document = read::document(container.json)?;
    if let (Some(first), Some(_)) = (document.buffers.first_mut(), buffer) {
        first.uri = None;
    }
    let with_constraints = document.extra_data(EXTRAS).is_none();
    let binary = buffer.or(container.binary);
    let file = read::File { binary, folder, with_starts: false, with_constraints };
    let plain = read::read(&document, &file, name, rate)?;
    let keys = plain.places.iter().map(usize::to_string).collect();
    Ok(Plain { scene: plain.scene, keys, notes: plain.notes, mended: Vec::new() })
}

/// How to write.
#[derive(Clone, Copy, Debug)]
pub struct WriteOptions<'a> {
    /// The binary container instead of text.
    pub binary: bool,
    /// Leave out the extra data: the file is a little smaller, and what glTF cannot hold is lost.
    pub without_extra: bool,
    /// How far curves may be from their source where glTF cannot hold them exactly.
    pub tolerance: Tolerance,
    /// Leave takes where they start; else each starts at zero.
    pub keep_start: bool,
    /// A glTF file, and the folder it lies in, whose nodes, meshes and everything else are kept; only its animations are
    /// replaced.
    pub into: Option<(&'a [u8], &'a Path)>,
    /// The folder that the result will lie in.
    pub folder: &'a Path,
    /// The name of the file beside it that the numbers of a text document go to; within it where there is none.
    pub buffer: Option<&'a str>,
}

/// Writes a scene as a glTF file.
///
/// # Errors
/// Where layers cannot be written together, or the file to write into cannot be read.
pub fn write(scene: &Scene, options: &WriteOptions<'_>) -> Result<Encoded, Fault> {
    let (own_space, mut ledger) =
        adapt(scene, &HOLDS, &options.tolerance).map_err(|error| Fault::of_whole(error.to_string()))?;
    let (mut adapted, respaced) = in_space(&own_space, &Space::METRES_Y_UP);
    // Scenes may be large: each goes as soon as it has been seen.
    drop(own_space);
    extra_data::remap_fates(&mut ledger, &respaced);
    let is_new = options.into.is_none();
    let base = options.into.map(|(bytes, folder)| Base::open(bytes, folder, options.folder)).transpose()?;
    let into = base.map(|base| {
        let known = base.known(&adapted);
        write::Into { document: base.document, binary: base.binary, known }
    });
    crate::ends::keep_ranges(&mut adapted, &mut ledger);
    let starts =
        write::Starts { at_zero: !options.keep_start, noted: !options.without_extra || options.keep_start };
    let mut written = write::write(&adapted, into, starts);
    drop(adapted);
    if written.unread > 0 {
        let channels = counted(written.unread);
        ledger.notes.push(format!(
            "{channels} of the file that was written into drive what is not read here: as they were"
        ));
    }
    let holds = "glTF holds translation, rotation, scale, morph weights and numbers only";
    let hidden = extra_data::note_left_out(
        &written.left_out,
        holds,
        !options.without_extra,
        &mut ledger,
        &scene.takes,
    );
    let mut document = written.document;
    forget(&mut document);
    if is_new && !scene.constraints.is_empty() {
        let (driven, _) = in_space(scene, &Space::METRES_Y_UP);
        let said = constraints::write(&driven, &written.places, &mut document);
        if said > 0 {
            let count = scene.constraints.len();
            ledger.notes.push(format!(
                "{said} of {count} constraints are in it for programs that know the extension for them as well"
            ));
        }
    }
    if !options.without_extra {
        mark(&mut document, &written.places);
        let mut extra = extra_data(scene, &document, &written.binary, &written.places, options.folder)?;
        // Beside each animation as well; but there programs drop it.
        let starts = written.shifts.iter().filter(|(_, shift)| *shift != Ticks::ZERO);
        extra[STARTS] = starts.map(|(take, shift)| (take.clone(), json!(-shift.seconds()))).collect();
        let active = document.get("scene").and_then(Value::as_u64).unwrap_or(0);
        let scene = format!("/scenes/{active}");
        let is_there = document.pointer(&scene).is_some_and(Value::is_object);
        // A library of nodes has no scene.
        let owner = document.pointer_mut(if is_there { &scene } else { "" });
        if let Some(owner) = owner {
            *extras_of(owner) = extra;
        }
    }
    let mut buffer = None;
    if !options.binary && !written.binary.is_empty() {
        let uri = match options.buffer {
            Some(name) => {
                let uri = container::escaped(name);
                let others = document["buffers"].as_array().into_iter().flatten().skip(1);
                if others.filter_map(|other| other.get("uri")).any(|other| other.as_str() == Some(&uri)) {
                    let message =
                        format!("'{name}' beside it holds other numbers already: take another name");
                    return Err(Fault::of_whole(message));
                }
                buffer = Some(std::mem::take(&mut written.binary));
                uri
            }
            None => container::encoded(&written.binary),
        };
        document["buffers"][0]["uri"] = json!(uri);
    }
    let text =
        if options.binary { serde_json::to_vec(&document) } else { serde_json::to_vec_pretty(&document) };
    let text = text.map_err(|error| Fault::of_whole(error.to_string()))?;
    let bytes = if options.binary { container::close(&text, &written.binary) } else { text };
    let format = if options.binary { Format::Glb } else { Format::Gltf };
    let nodes = written.places.iter().map(|(node, place)| (place.to_string(), *node)).collect();
    Ok(Encoded {
        format,
        bytes,
        buffer,
        ledger,
        nodes,
        hidden,
        is_skeletal: false,
        states: None,
        shifts: written.shifts,
        unscaled: None,
    })
}

fn counted(channels: usize) -> String {
    if channels == 1 { "1 channel".to_owned() } else { format!("{channels} channels") }
}

/// Our part of what a node, or a scene, says beside the standard: programs pass on what these say, and drop what the document
/// says as a whole.
fn extras_of(owner: &mut Value) -> &mut Value {
    if !owner.get("extras").is_some_and(Value::is_object) {
        owner["extras"] = json!({});
    }
    &mut owner["extras"][EXTRAS]
}

/// Takes out what an earlier writing said beside the standard.
fn forget(document: &mut Value) {
    let lists = ["scenes", "nodes"].map(|list| document[list].as_array().map_or(0, Vec::len));
    let mut owners: Vec<(&str, usize)> = Vec::new();
    owners.extend((0..lists[0]).map(|index| ("scenes", index)));
    owners.extend((0..lists[1]).map(|index| ("nodes", index)));
    let parts = owners.into_iter().map(|(list, index)| format!("/{list}/{index}")).chain([String::new()]);
    for part in parts {
        let Some(owner) = document.pointer_mut(&part).and_then(Value::as_object_mut) else { continue };
        let Some(extras) = owner.get_mut("extras").and_then(Value::as_object_mut) else { continue };
        if extras.remove(EXTRAS).is_some() && extras.is_empty() {
            owner.remove("extras");
        }
    }
}

/// Gives each node of the scene a mark, by which it is known again whatever it is called.
fn mark(document: &mut Value, places: &HashMap<NodeRef, usize>) {
    for &place in places.values() {
        *extras_of(&mut document["nodes"][place]) = json!(place);
    }
}

/// The extra data of a document, whose fingerprints are those of what it says without.
fn extra_data(
    scene: &Scene,
    document: &Value,
    binary: &[u8],
    places: &HashMap<NodeRef, usize>,
    folder: &Path,
) -> Result<Value, Fault> {
    let text = serde_json::to_vec(document).map_err(|error| Fault::of_whole(error.to_string()))?;
    let read = read::document(&text)?;
    drop(text);
    let folder = Folder { path: folder, anywhere: true };
    let file = read::File { binary: Some(binary), folder, with_starts: true, with_constraints: false };
    let plain = read::read(&read, &file, "", Some(scene.rate))?;
    let marks = marks(&read, &plain);
    drop(read);
    let origin: HashMap<usize, NodeRef> = places.iter().map(|(node, place)| (*place, *node)).collect();
    let position = |(rig, id): NodeRef| plain.scene.rigs.get(rig).and_then(|rig| rig.position(id));
    let extra_data = extra_data::of(scene, &plain.scene, &marks, |node| {
        origin.get(plain.places.get(position(node)?)?).copied()
    });
    let text = serde_json::to_string(&extra_data).map_err(|error| Fault::of_whole(error.to_string()))?;
    serde_json::from_str(&text).map_err(|error| Fault::of_whole(error.to_string()))
}

/// A document that animations are written into.
struct Base {
    document: Value,
    binary: Vec<u8>,
    by_name: HashMap<String, usize>,
}

impl Base {
    fn open(bytes: &[u8], folder: &Path, to: &Path) -> Result<Base, Fault> {
        let container = container::open(bytes)?;
        let read = read::document(container.json)?;
        let all = Folder { path: folder, anywhere: true };
        let file =
            read::File { binary: container.binary, folder: all, with_starts: true, with_constraints: false };
        let plain = read::read(&read, &file, "", None)?;
        let addresses = Addresses::new(&plain.scene);
        let texts = addresses.texts().map(str::to_owned);
        let by_name = texts.zip(&plain.places).map(|(text, place)| (text, *place)).collect();
        let mut document: Value =
            serde_json::from_slice(container.json).map_err(|error| Fault::of_whole(error.to_string()))?;
        let mut binary: Cow<'_, [u8]> = Cow::Borrowed(container.binary.unwrap_or_default());
        if let Some(first) = read.buffers.first()
            && first.uri.is_some()
        {
            binary = container::buffer((first.uri.as_deref(), first.byte_length), container.binary, 0, all)
                .map_err(|message| Fault::in_part("buffer 0", message))?;
            if let Some(object) = document["buffers"][0].as_object_mut() {
                object.remove("uri");
            }
        }
        for list in ["images", "buffers"] {
            container::rebase(&mut document, list, folder, to);
        }
        Ok(Base { document, binary: binary.into_owned(), by_name })
    }

    /// The places of the nodes of a scene that are there already.
    fn known(&self, scene: &Scene) -> HashMap<NodeRef, usize> {
        let addresses = Addresses::new(scene);
        let place = |&node: &NodeRef| {
            let text = addresses.node(node);
            // A node's path starts with its rig's name, which glTF has no place for.
            let tail = text.split_once('/').map_or(text, |(_, tail)| tail);
            let found = self.by_name.get(text).or_else(|| self.by_name.get(&format!("\"\"/{tail}")))?;
            Some((node, *found))
        };
        addresses.nodes().iter().filter_map(place).collect()
    }
}
