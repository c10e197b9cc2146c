//! Layers that stand on others: sublayers, references, payloads and variants, composed into one.
//!
//! The composition itself is that of the `openusd` crate, value resolution is by layers as the standard has it (*OpenUSD*,
//! value resolution): of the layers that say something of an attribute, the strongest counts, and in it samples before a
//! spline before a default. Splines, which that crate does not hold, are taken out of each layer that is opened, as they
//! are out of a single one; a clock beside each tells what offsets and scales of layers make of its times.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path as FilePath, PathBuf};
use std::rc::Rc;

use anyhow::{Context as _, Result, anyhow};
use openusd::ar::{Asset, DefaultResolver, ResolvedPath, Resolver};
use openusd::sdf::{AbstractData as _, Data, Path, SpecType, Value};
use openusd::usd::{PrimPredicate, Stage};

use super::attributes::OF_JOINTS;
use super::spline::text::cut_for_composition;
use super::spline::{CLOCK, MARK, Spline};
use super::{binary, quietly};
use crate::error::Fault;
use crate::format::{USDC_MAGIC, USDZ_MAGIC};

/// A layer with all that it stands on.
pub struct Composed {
    pub data: Data,
    pub splines: Vec<Spline>,
    /// What was followed, and what was not.
    pub notes: Vec<String>,
    /// The other files.
    pub layers: Vec<PathBuf>,
}

/// Whether a layer stands on others.
pub fn stands_on_others(data: &Data) -> bool {
    const ARCS: [&str; 6] =
        ["references", "payload", "variantSelection", "variantSetNames", "inheritPaths", "specializes"];
    data.has_field(&Path::abs_root(), "subLayers")
        || data.spec_paths().iter().any(|path| ARCS.iter().any(|arc| data.has_field(path, arc)))
}

/// The layer at a path, whose bytes are known, composed with those that it stands on: such as lie in its folder or below,
/// or anywhere if `anywhere`.
pub fn composed(bytes: &[u8], path: &FilePath, anywhere: bool) -> Result<Composed, Fault> {
    quietly(|| {
        let path = std::path::absolute(path)?;
        let folder = path.parent().context("it lies in no folder")?;
        let folder = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        let served = Rc::new(RefCell::new(Served::default()));
        let shelf = Shelf {
            usual: DefaultResolver::new(),
            root: (path.clone(), bytes.to_vec()),
            folder: (!anywhere).then_some(folder.clone()),
            served: Rc::clone(&served),
        };
        let stage = Stage::builder().resolver(shelf).open(path.to_str().context("its path is no text")?)?;
        let mut made = Composed {
            data: flattened(&stage, &served)?,
            splines: Vec::new(),
            notes: Vec::new(),
            layers: Vec::new(),
        };
        let Served { composed, refused, .. } = served.replace(Served::default());
        made.splines = composed;
        made.layers = layers(&stage, &path);
        made.notes = notes(&stage, &made.layers, &folder, &refused);
        Ok(made)
    })
}

/// The files of all layers but the first; of a package, the package.
fn layers(stage: &Stage, root: &FilePath) -> Vec<PathBuf> {
    let file = |layer: &String| PathBuf::from(layer.split('[').next().unwrap_or(layer));
    let is_root = |path: &PathBuf| path == root || fs::canonicalize(path).ok() == fs::canonicalize(root).ok();
    let mut files: Vec<PathBuf> =
        stage.layer_identifiers().iter().map(file).filter(|path| path.is_file() && !is_root(path)).collect();
    files.dedup();
    files
}

/// What was followed and what was not, in words.
fn notes(stage: &Stage, layers: &[PathBuf], folder: &FilePath, refused: &BTreeSet<PathBuf>) -> Vec<String> {
    let short = |path: &PathBuf| path.strip_prefix(folder).unwrap_or(path).display().to_string();
    let layers: Vec<String> = layers.iter().map(short).collect();
    let mut notes = Vec::new();
    if !layers.is_empty() {
        notes.push(format!("composed with {}", layers.join(", ")));
    }
    notes.extend(refused.iter().map(|path| {
        let path = path.display();
        format!("{path} lies outside its folder and is not followed: say --files-anywhere")
    }));
    // A layer that was refused is said above to be; one of its name that is broken is another.
    let is_refused = |said: &str| {
        let names = refused.iter().filter_map(|path| path.file_name());
        said.starts_with("unresolved")
            && names.into_iter().any(|name| said.contains(&*name.to_string_lossy()))
    };
    let errors = stage.composition_errors().into_iter().map(|error| error.to_string());
    notes.extend(errors.filter(|said| !is_refused(said)).map(|said| {
        let line: String = said.lines().next().unwrap_or_default().chars().take(200).collect();
        format!("not composed: {line}")
    }));
    notes
}

/// What was handed out.
#[derive(Default)]
struct Served {
    /// The splines of all layers.
    splines: Vec<Spline>,
    /// Those that count, at the times of the whole.
    composed: Vec<Spline>,
    refused: BTreeSet<PathBuf>,
}

/// Where layers come from: files, their splines cut out.
struct Shelf {
    usual: DefaultResolver,
    root: (PathBuf, Vec<u8>),
    /// Nothing beyond it is opened, where there is one.
    folder: Option<PathBuf>,
    served: Rc<RefCell<Served>>,
}

impl Shelf {
    fn is_root(&self, path: &FilePath) -> bool {
        path == self.root.0
            || fs::canonicalize(path)
                .ok()
                .is_some_and(|path| Some(path) == fs::canonicalize(&self.root.0).ok())
    }

    /// A layer as it is read here: a text without its splines.
    fn prepared(&self, bytes: Vec<u8>) -> Result<Vec<u8>> {
        let fault = |fault: Fault| anyhow!(fault.message);
        if bytes.starts_with(USDZ_MAGIC) {
            return Ok(bytes);
        }
        if bytes.starts_with(USDC_MAGIC) {
            let mut served = self.served.borrow_mut();
            let (bytes, splines) = binary::for_composition(&bytes, served.splines.len())?;
            served.splines.extend(splines);
            return Ok(bytes);
        }
        let text = std::str::from_utf8(&bytes).context("this is not UTF-8 text")?;
        let mut served = self.served.borrow_mut();
        let cut = cut_for_composition(text, served.splines.len()).map_err(fault)?;
        served.splines.extend(cut.splines);
        Ok(cut.text.into_bytes())
    }
}

impl Resolver for Shelf {
    fn create_identifier(&self, asset_path: &str, anchor: Option<&ResolvedPath>) -> String {
        self.usual.create_identifier(asset_path, anchor)
    }

    fn resolve(&self, asset_path: &str) -> Option<ResolvedPath> {
        if self.is_root(FilePath::new(asset_path)) {
            return Some(ResolvedPath::new(&self.root.0));
        }
        let found = self.usual.resolve(asset_path)?;
        // In a package, the package is what lies somewhere.
        let text = found.to_string_lossy().into_owned();
        let file = PathBuf::from(text.split('[').next().unwrap_or(&text));
        // A pipe or a device has no end that could be waited for.
        let place = fs::canonicalize(&file).ok().filter(|place| place.is_file())?;
        if self.folder.as_ref().is_some_and(|folder| !place.starts_with(folder)) {
            self.served.borrow_mut().refused.insert(file);
            return None;
        }
        Some(found)
    }

    fn resolve_for_new_asset(&self, _: &str) -> Option<ResolvedPath> {
        None
    }

    fn open_asset(&self, resolved_path: &ResolvedPath) -> io::Result<Box<dyn Asset>> {
        let bytes = match self.is_root(resolved_path) {
            true => self.root.1.clone(),
            false => self.usual.open_asset(resolved_path)?.read_all()?,
        };
        let prepared = self.prepared(bytes).map_err(io::Error::other)?;
        Ok(Box::new(io::Cursor::new(prepared)))
    }
}

/// What counts of an attribute.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Source {
    Samples,
    Spline,
    /// A spline of a layer in a package, which is not read.
    SplineUnread,
    Default,
    Nothing,
}

/// One layer that says what all together say, as far as it is read here.
fn flattened(stage: &Stage, served: &RefCell<Served>) -> Result<Data> {
    let mut made = Data::new();
    let root = Path::abs_root();
    {
        let layer = stage.root_layer();
        let spec = made.create_spec(root.clone(), SpecType::PseudoRoot);
        for field in layer.data().list_fields(&root).unwrap_or_default() {
            if field != "subLayers"
                && let Some(value) = layer.data().try_field(&root, &field)?
            {
                spec.add(&field, value.into_owned());
            }
        }
    }
    let mut prims = Vec::new();
    stage.traverse(PrimPredicate::DEFAULT_PROXIES, |path| prims.push(path.clone()))?;
    let known: BTreeSet<&str> = prims.iter().map(Path::as_str).collect();
    let children = |names: Vec<openusd::tf::Token>, path: &Path| -> Value {
        let is_known = |name: &openusd::tf::Token| {
            path.append_path(name.as_str()).is_ok_and(|child| known.contains(child.as_str()))
        };
        Value::TokenVec(names.into_iter().filter(is_known).collect())
    };
    if let Some(spec) = made.spec_mut(&root) {
        spec.add("primChildren", children(stage.root_prims()?, &root));
    }
    for path in &prims {
        let prim = stage.prim(path.clone());
        let (kind, names) = (prim.type_name()?, prim.property_names()?);
        let displayed = stage.attribute(path.clone()).get_metadata::<Value>("displayName")?;
        let spec = made.create_spec(path.clone(), SpecType::Prim);
        spec.add("primChildren", children(prim.child_names()?, path));
        spec.add("propertyChildren", Value::TokenVec(names.clone()));
        if let Some(kind) = &kind {
            spec.add("typeName", Value::Token(kind.clone()));
        }
        if let Some(displayed) = displayed {
            spec.add("displayName", displayed);
        }
        if prim.has_clips()? {
            spec.add("clips", Value::None);
        }
        let is_animation = kind.is_some_and(|kind| kind.as_str() == "SkelAnimation");
        for name in names {
            let name = name.as_str();
            if name.ends_with(MARK) || name.ends_with(CLOCK) {
                continue;
            }
            let keeps_arrays = is_animation && OF_JOINTS.contains(&name);
            property(stage, served, &mut made, &path.append_property(name)?, keeps_arrays)?;
        }
    }
    Ok(made)
}

/// A property of the composed layer, and the spline of it.
fn property(
    stage: &Stage,
    served: &RefCell<Served>,
    made: &mut Data,
    path: &Path,
    keeps_arrays: bool,
) -> Result<()> {
    let attribute = stage.attribute(path.clone());
    let targets = stage.relationship(path.clone()).targets()?;
    let kind = attribute.get_metadata::<Value>("typeName")?;
    let is_array = kind.as_ref().and_then(Value::as_str).is_some_and(|kind| kind.ends_with("[]"));
    let is_list =
        kind.as_ref().and_then(Value::as_str).is_some_and(|kind| matches!(kind, "token[]" | "matrix4d[]"));
    let mark = Path::new(&format!("{}:{MARK}", path.as_str()))?;
    let mut source = Source::Nothing;
    for (layer, spec) in attribute.property_stack()? {
        let Some(layer) = stage.layer(&layer) else { continue };
        let data = layer.data();
        let own_mark = Path::new(&format!("{}:{MARK}", spec.as_str()))?;
        source = match () {
            () if data.has_field(&spec, "timeSamples") => Source::Samples,
            () if data.has_field(&own_mark, "default") => Source::Spline,
            () if data.has_field(&spec, "spline") => Source::SplineUnread,
            () if data.has_field(&spec, "default") => Source::Default,
            () => continue,
        };
        break;
    }
    let displayed = attribute.get_metadata::<Value>("displayName")?;
    let spec = made.create_spec(path.clone(), SpecType::Attribute);
    for (field, value) in [("typeName", kind), ("displayName", displayed)] {
        if let Some(value) = value {
            spec.add(field, value);
        }
    }
    if !targets.is_empty() {
        let list = openusd::sdf::PathListOp::explicit(targets);
        spec.add("targetPaths", Value::PathListOp(list));
    }
    // Of what is not read, such as the points of a mesh, only that it is there.
    if !is_array || is_list {
        let default = attribute.get::<Value>()?;
        if let Some(default) = default {
            spec.add("default", default);
        }
    }
    if source == Source::Samples {
        let samples = match is_array && !keeps_arrays {
            true => Value::None,
            false => attribute.time_samples()?.map_or(Value::None, Value::TimeSamples),
        };
        spec.add("timeSamples", samples);
    }
    // Whoever reads the attribute says that it cannot be read.
    if source == Source::SplineUnread {
        spec.add("spline", Value::None);
    }
    if source == Source::Spline {
        let mislaid = || anyhow!("the spline of {} was mislaid", path.as_str());
        let number = stage.attribute(mark.clone()).get::<Value>()?;
        let number = number.as_ref().and_then(Value::as_str).and_then(|number| number.parse::<usize>().ok());
        let clock = Path::new(&format!("{}:{CLOCK}", path.as_str()))?;
        let times = stage.attribute(clock).time_samples()?.ok_or_else(mislaid)?;
        let [(zero, _), (one, _)] = &times[..] else { return Err(mislaid()) };
        let mut served = served.borrow_mut();
        let spline = number.and_then(|number| served.splines.get(number)).ok_or_else(mislaid)?;
        let spline = spline.retimed(*zero, one - zero);
        let place = served.composed.len();
        served.composed.push(spline);
        let spec = made.create_spec(mark, SpecType::Attribute);
        spec.add("default", Value::String(place.to_string()));
    }
    Ok(())
}
