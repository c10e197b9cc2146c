//! USD: `.usda` and `.usdc` with splines, `.usdz` with time samples.
//!
//! Times are time codes, `timeCodesPerSecond` of them a second; angles are in degrees. `xformOpOrder` lists the steps of a
//! prim's transform like the factors of a product; `rotateXYZ` turns about x first, and matrices are written for vectors
//! on their left (*OpenUSD*, `UsdGeomXformOp`). A layer is read with those that it stands on. What the
//! format cannot hold travels in the layer's `customLayerData`, see [`crate::extra_data`].

mod attributes;
mod binary;
mod bones;
mod check;
mod columns;
mod compose;
mod crate_file;
mod layer;
mod names;
mod over;
mod read;
mod reader;
mod skeleton;
mod spline;
mod write;
mod write_skeleton;
mod write_steps;
mod writer;

use std::cell::Cell;
use std::collections::HashMap;
use std::io::Cursor;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::Once;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::adapt::{Capabilities, adapt};
use nimble_curve_core::ops::bake::{BakeOptions, bake};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use openusd::sdf::Data;
use openusd::usda::parser::{ErrorHighlight, Parser};
use openusd::usdz::ArchiveWriter;

use crate::encoded::{Encoded, Plain};
use crate::error::Fault;
use crate::extra_data::{self, Marks};
use crate::format::{Assume, Format, USDC_MAGIC, USDZ_MAGIC};

use self::over::{Asset, Over};
use self::spline::Spline;

/// Where extra data stands in the layer's own data.
const EXTRA: &str = "nimbleCurve";

/// What USD's text form holds of an animation by itself.
const HOLDS: Capabilities = Capabilities::ANGLES;

/// The three forms of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// Text, with splines.
    Text,
    /// Binary, with splines.
    Binary,
    /// A package of one binary layer with time samples.
    Package,
}

/// Reads the scene in a USD file of any form. Also what was let pass.
///
/// # Errors
/// With the line or the prim that is wrong.
pub fn read(
    bytes: &[u8],
    (path, name): (&Path, &str),
    assume: Assume,
) -> Result<(Scene, Vec<String>), Fault> {
    let rate = assume.rate;
    let (data, splines, followed) = data_of(bytes, path, assume.files_anywhere)?;
    let layer = layer::Layer { data: &data, splines: &splines };
    let decoded = layer.own(EXTRA).map(|extra| STANDARD.decode(extra.trim())).transpose();
    let decoded = decoded.map_err(|_| Fault::in_part("extra data", "is broken: it is not base64"))?;
    let extra = decoded.map(|json| String::from_utf8_lossy(&json).into_owned());
    extra_data::read_with(extra.as_deref(), rate, |rate| {
        let plain = read::read(&layer, name, rate, false)?;
        Ok((plain.scene, Marks::default(), [followed, plain.notes].concat()))
    })
}

/// The scene as any other program reads it.
pub(crate) fn read_plain(bytes: &[u8], (path, name): (&Path, &str), assume: Assume) -> Result<Plain, Fault> {
    let (data, splines, followed) = data_of(bytes, path, assume.files_anywhere)?;
    let plain = read::read(&layer::Layer { data: &data, splines: &splines }, name, assume.rate, true)?;
    let notes = [followed, plain.notes].concat();
    Ok(Plain { scene: plain.scene, keys: plain.paths, notes, mended: Vec::new() })
}

/// What a file says, composed with what it stands on; and what was followed.
fn data_of(bytes: &[u8], path: &Path, anywhere: bool) -> Result<(Data, Vec<Spline>, Vec<String>), Fault> {
    let (data, splines) = own_data_of(bytes)?;
    // What comes through a pipe lies nowhere.
    if path == Path::new("-") || !compose::stands_on_others(&data) {
        return Ok((data, splines, Vec::new()));
    }
    let made = compose::composed(bytes, path, anywhere)?;
    Ok((made.data, made.splines, made.notes))
}

/// The other files that a layer stands on; none where it cannot be read, which reading it says.
pub fn files_beside(bytes: &[u8], path: &Path) -> Vec<PathBuf> {
    let stands = own_data_of(bytes).is_ok_and(|(data, _)| compose::stands_on_others(&data));
    match stands.then(|| compose::composed(bytes, path, true)) {
        Some(Ok(made)) => made.layers,
        _ => Vec::new(),
    }
}

/// What a layer says by itself.
fn own_data_of(bytes: &[u8]) -> Result<(Data, Vec<Spline>), Fault> {
    let layer = if bytes.starts_with(USDZ_MAGIC) { first_of_package(bytes)? } else { bytes };
    if layer.starts_with(USDC_MAGIC) {
        return quietly(|| binary::read(layer));
    }
    let text = std::str::from_utf8(layer).map_err(|_| Fault::of_whole("this is not UTF-8 text"))?;
    text_data(text)
}

/// The first file in a package, which its standard has stored as it is.
fn first_of_package(bytes: &[u8]) -> Result<&[u8], Fault> {
    let cut_off = || Fault::of_whole("the package ends in the middle: it is cut off");
    let half = |at: usize| bytes.get(at..at + 2).map(|b| usize::from(u16::from_le_bytes([b[0], b[1]])));
    let word =
        |at: usize| bytes.get(at..at + 4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]) as usize);
    // The directory ends with a record of 22 bytes and a comment of 64 KiB at most.
    let tail = &bytes[bytes.len().saturating_sub(22 + 65_535)..];
    if !tail.windows(4).any(|mark| mark == b"PK\x05\x06") {
        return Err(cut_off());
    }
    let (flags, method) = (half(6).ok_or_else(cut_off)?, half(8).ok_or_else(cut_off)?);
    if method != 0 || flags & 1 != 0 {
        return Err(Fault::of_whole("the first file of the package is compressed, which a .usdz may not be"));
    }
    let start = 30 + half(26).ok_or_else(cut_off)? + half(28).ok_or_else(cut_off)?;
    let length = match word(18).ok_or_else(cut_off)? {
        // The length stands behind the data, or in the directory at the end.
        0 if flags & 8 != 0 => {
            return Err(Fault::of_whole("the first file of the package does not say its length"));
        }
        length => length,
    };
    bytes.get(start..).and_then(|rest| rest.get(..length)).ok_or_else(cut_off)
}

fn text_data(text: &str) -> Result<(Data, Vec<Spline>), Fault> {
    let cut = spline::text::cut(text)?;
    let mut parser = Parser::new(&cut.text);
    let parsed = quietly(|| parser.parse());
    match parsed {
        Ok(specs) => Ok((Data::from_specs(specs), cut.splines)),
        Err(fault) => Err(match parser.last_error_highlight() {
            Some(place) if !fault.message.contains("Unexpected end") => {
                Fault::on_line(cut.own_line(place.line, text), of_text(&fault.message, &place))
            }
            _ => Fault::of_whole(of_beginning(&fault.message)),
        }),
    }
}

/// What the parser of texts complains of, in the words of this program.
fn of_text(complaint: &str, place: &ErrorHighlight) -> String {
    for start in ["Unsupported type: ", "Cannot parse value for unrecognized type: ", "Array of "] {
        if let Some((_, kind)) = complaint.split_once(start) {
            let kind = kind.split([':', ' ']).next().unwrap_or(kind);
            return format!("values of the type '{kind}' cannot be read");
        }
    }
    let rest: String = place.line_text.chars().skip(place.column.saturating_sub(1)).collect();
    let is_name = |c: char| c.is_alphanumeric() || matches!(c, '_' | ':' | '.');
    let word: String = match rest.chars().next() {
        Some(first) if is_name(first) => rest.chars().take_while(|c| is_name(*c)).take(40).collect(),
        Some(first) if !first.is_whitespace() => first.to_string(),
        _ => return of_beginning(complaint),
    };
    if complaint.contains("magic token") {
        return of_beginning(complaint);
    }
    format!("'{word}' does not belong here, or something is missing before it")
}

/// What is wrong where the parser has not come to any place.
fn of_beginning(complaint: &str) -> String {
    match complaint {
        _ if complaint.contains("magic token") => {
            "does not begin with '#usda 1.0': it is no text of USD".into()
        }
        _ if complaint.contains("Unsupported USDA version") => {
            "is of another version than '#usda 1.0'".into()
        }
        _ => "the file ends in the middle: it was cut off, or a bracket is missing".into(),
    }
}

thread_local! {
    static QUIET: Cell<bool> = const { Cell::new(false) };
}

/// Runs the parser behind this; what goes wrong in it becomes one line, whether it says so or panics.
fn quietly<T>(job: impl FnOnce() -> anyhow::Result<T>) -> Result<T, Fault> {
    static HOOK: Once = Once::new();
    HOOK.call_once(|| {
        let others = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if !QUIET.get() {
                others(info);
            }
        }));
    });
    QUIET.set(true);
    let done = catch_unwind(AssertUnwindSafe(job));
    QUIET.set(false);
    match done {
        Ok(Ok(value)) => Ok(value),
        Ok(Err(error)) => {
            let whole = format!("{error:#}");
            let line: String = whole.lines().next().unwrap_or_default().chars().take(200).collect();
            Err(Fault::of_whole(format!("cannot be read as USD: {line}")))
        }
        Err(_) => Err(Fault::of_whole("cannot be read as USD: it is broken")),
    }
}

/// How to write.
#[derive(Clone, Copy, Debug)]
pub struct WriteOptions<'a> {
    /// Which form.
    pub form: Form,
    /// Leave out the extra data.
    pub without_extra: bool,
    /// Write rigs as skeletons with an animation of samples, in place of prims with steps.
    pub skeletons: bool,
    /// How far curves may be from their source where USD cannot hold them exactly.
    pub tolerance: Tolerance,
    /// The contents and the path of an asset that a layer is written over, which says only how it moves.
    pub over: Option<(&'a [u8], &'a Path)>,
    /// Where the result will lie.
    pub path: &'a Path,
}

/// How long the paths of all nodes may be together, in bytes: a hundred thousand nodes at an ordinary depth need a tenth.
const LONGEST_PATHS: usize = 1 << 26;

/// A USD file that holds a scene.
///
/// # Errors
/// Where layers cannot be written together, the binary form cannot be made, or something moves that an asset does not have.
pub fn write(scene: &Scene, options: &WriteOptions<'_>) -> Result<Encoded, Fault> {
    let length = write::length_of_paths(scene);
    if length > LONGEST_PATHS {
        return Err(Fault::of_whole(format!(
            "its nodes hang so deep that their paths, by which USD calls them, come to {} MB: {} MB are the limit",
            length >> 20,
            LONGEST_PATHS >> 20
        )));
    }
    let (own_space, mut ledger) =
        adapt(scene, &HOLDS, &options.tolerance).map_err(|error| Fault::of_whole(error.to_string()))?;
    // The standard knows y and z as up.
    let up = if scene.space.up == UpAxis::X { UpAxis::Y } else { scene.space.up };
    let folder =
        options.path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let asset = options.over.map(|(bytes, path)| Asset::read(bytes, path, folder)).transpose()?;
    // A layer speaks in the unit and axes of the asset that it stands on.
    let own = Space { handedness: Handedness::Right, up, ..scene.space };
    let space = asset.as_ref().map_or(own, Asset::space);
    let (mut adapted, respaced) = in_space(&own_space, &space);
    drop(own_space);
    extra_data::remap_fates(&mut ledger, &respaced);
    let over = asset.as_ref().map(|asset| asset.over(&adapted)).transpose()?;
    let is_skeletal = options.skeletons || over.as_ref().is_some_and(Over::has_skeletons);
    // What shows packages reads samples alone.
    if options.form == Form::Package || is_skeletal {
        let (baked, samples) = bake(&adapted, &BakeOptions::default());
        adapted = baked;
        for entry in &mut ledger.entries {
            let twin =
                samples.entries.iter().find(|new| new.take == entry.take && new.channel == entry.channel);
            if let Some(new) = twin.filter(|new| new.fate == Fate::Sampled) {
                (entry.fate, entry.after) = (entry.fate.max(Fate::Sampled), new.after);
                entry.error = new.error.or(entry.error);
            }
        }
    }
    let layer_of = |extra: Option<&str>| {
        let written = match options.skeletons {
            true => write_skeleton::write(&adapted, extra),
            false => write::write(&adapted, extra, over.as_ref()),
        };
        written.map_err(|error| Fault::of_whole(error.to_string()))
    };
    let written = layer_of(None)?;
    let why = "USD holds one animation of transforms and numbers";
    let hidden =
        extra_data::note_left_out(&written.left_out, why, !options.without_extra, &mut ledger, &scene.takes);
    let mut text = written.text;
    if !options.without_extra {
        // It is a text still, whatever the file will be.
        let (data, splines, _) = data_of(text.as_bytes(), &options.path.with_extension("usda"), true)?;
        let layer = layer::Layer { data: &data, splines: &splines };
        let plain = read::read(&layer, "", Some(scene.rate), false)?;
        let origin: HashMap<&str, NodeRef> =
            written.paths.iter().map(|(path, node)| (path.as_str(), *node)).collect();
        let position = |(rig, id): NodeRef| plain.scene.rigs.get(rig).and_then(|rig| rig.position(id));
        let extra = extra_data::of(scene, &plain.scene, &Marks::default(), |node| {
            origin.get(plain.paths.get(position(node)?)?.as_str()).copied()
        });
        let json = serde_json::to_string(&extra).map_err(|error| Fault::of_whole(error.to_string()))?;
        // In base64 no quote or backslash has to be escaped, which programs do in different ways.
        text = layer_of(Some(&STANDARD.encode(json)))?.text;
    }
    let bytes = match options.form {
        Form::Text => text.into_bytes(),
        Form::Binary => quietly(|| binary::write(&text))?,
        Form::Package => quietly(|| {
            let layer = binary::write(&text)?;
            let mut archive = ArchiveWriter::new(Cursor::new(Vec::new()));
            archive.add_layer("scene.usdc", &layer)?;
            Ok(archive.finish()?.into_inner())
        })?,
    };
    let format = match options.form {
        Form::Text => Format::Usda,
        Form::Binary => Format::Usdc,
        Form::Package => Format::Usdz,
    };
    Ok(Encoded {
        format,
        bytes,
        buffer: None,
        ledger,
        nodes: written.paths,
        hidden,
        is_skeletal,
        states: None,
        shifts: Vec::new(),
        unscaled: None,
    })
}
