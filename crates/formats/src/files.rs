//! Reading and writing whole files: formats by ending or content, outputs written whole or not at all.

use std::borrow::Cow;
use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use nimble_curve_core::address::Addresses;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::budget::affordable;
use nimble_curve_core::ops::control_rig::solved;
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::ops::unscale::unscaled;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::space::{Handedness, Space, UpAxis};

use crate::encoded::{Encoded, Plain};
use crate::error::{Fault, FormatError, Place};
use crate::format::{Assume, ENDINGS, Format};
use crate::table::{Columns, TableTimes};
use crate::take_names::{has_namesakes, tell_apart};
use crate::text::{text_of, transcoded};
use crate::writing::write_bytes;
use crate::{bvh, collada, gltf, ncurve, table, usd};

/// A scene from a file, with what had to be assumed.
#[derive(Clone, Debug)]
pub struct Loaded {
    /// The scene.
    pub scene: Scene,
    /// Its format.
    pub format: Format,
    /// What the reader assumed or let pass.
    pub notes: Vec<String>,
    /// Where the file is not as its standard says, and what was taken for what it plainly means.
    pub mended: Vec<String>,
}

/// Reads a file; `-` is standard input.
///
/// # Errors
/// See [`FormatError`].
pub fn read(path: &Path, assume: Assume) -> Result<Loaded, FormatError> {
    let failed = |source| FormatError::Read { path: path.to_owned(), source };
    read_bytes(&contents(path).map_err(failed)?, path, assume)
}

fn contents(path: &Path) -> io::Result<Vec<u8>> {
    if path == Path::new("-") {
        let mut bytes = Vec::new();
        io::stdin().lock().read_to_end(&mut bytes)?;
        return Ok(bytes);
    }
    if path.is_dir() {
        return Err(io::Error::other("it is a folder"));
    }
    let mut file = fs::File::open(path)?;
    let state = |file: &fs::File| file.metadata().map(|now| (now.is_file(), now.len(), now.modified().ok()));
    let before = state(&file)?;
    let mut bytes = Vec::with_capacity(if before.0 { before.1 as usize } else { 0 });
    file.read_to_end(&mut bytes)?;
    // What another program is just writing is no file yet.
    if before.0 && (state(&file)? != before || bytes.len() as u64 != before.1) {
        return Err(io::Error::other("it was changed while it was read: read it again"));
    }
    Ok(bytes)
}

/// Reads the contents of a file; `path` names it in messages and its scene.
///
/// # Errors
/// See [`FormatError`].
pub fn read_bytes(bytes: &[u8], path: &Path, assume: Assume) -> Result<Loaded, FormatError> {
    if bytes.trim_ascii().is_empty() {
        return Err(Fault::of_whole("the file is empty").in_file(path));
    }
    let bytes = transcoded(bytes).map_err(|fault| fault.in_file(path))?;
    let bytes: &[u8] = &bytes;
    let format = Format::of_content(bytes);
    let Some(format) =
        format.or_else(|| Format::of_path(path).filter(|_| std::str::from_utf8(bytes).is_ok()))
    else {
        return Err(FormatError::UnknownFormat { path: path.to_owned(), known: ENDINGS.to_owned() });
    };
    Ok(with_takes_told_apart(in_format(bytes, format, path, assume)?))
}

/// Reads a table whose columns have other names than a reader knows.
///
/// # Errors
/// See [`FormatError`]; also where the file is no table, or lacks a column that there is a name for.
pub fn read_table(path: &Path, columns: &Columns, assume: Assume) -> Result<Loaded, FormatError> {
    let failed = |source| FormatError::Read { path: path.to_owned(), source };
    let bytes = contents(path).map_err(failed)?;
    let bytes = transcoded(&bytes).map_err(|fault| fault.in_file(path))?;
    if Format::of_content(&bytes).or_else(|| Format::of_path(path)) != Some(Format::Csv) {
        return Err(Fault::of_whole("this is no table (.csv), whose columns could have names").in_file(path));
    }
    let renamed =
        text_of(&bytes).and_then(|text| columns.renamed(text)).map_err(|fault| fault.in_file(path))?;
    Ok(with_takes_told_apart(in_format(renamed.as_bytes(), Format::Csv, path, assume)?))
}

/// What was read, with takes of one name in one folder called otherwise, as everything else is said of takes by these.
fn with_takes_told_apart(mut loaded: Loaded) -> Loaded {
    let notes = tell_apart(&mut loaded.scene.takes, |take| (take.folder.clone(), take.name.clone()));
    loaded.notes.extend(notes);
    loaded
}

/// What a file's scene is called where the format does not say.
fn name_of(path: &Path) -> &str {
    path.file_stem().and_then(|stem| stem.to_str()).filter(|stem| *stem != "-").unwrap_or("scene")
}

/// Reads contents of a known format.
pub(crate) fn in_format(
    bytes: &[u8],
    format: Format,
    path: &Path,
    assume: Assume,
) -> Result<Loaded, FormatError> {
    if assume.without_extra {
        let plain = plain_of(bytes, None, format, path, assume)?;
        let valid = plain.scene.validate();
        valid.map_err(|invalid| Fault::in_part(invalid.place, invalid.what).in_file(path))?;
        return Ok(Loaded { scene: plain.scene, format, notes: plain.notes, mended: plain.mended });
    }
    let name = name_of(path);
    let (mut notes, mut mended) = (Vec::new(), Vec::new());
    let scene = match format {
        Format::Ncurve => text_of(bytes).and_then(ncurve::read).map_err(|fault| fault.in_file(path))?,
        Format::Usda | Format::Usdc | Format::Usdz => {
            let (scene, more) =
                usd::read(bytes, (path, name), assume).map_err(|fault| fault.in_file(path))?;
            notes.extend(more);
            scene
        }
        Format::Csv => {
            let table = table_of(bytes, name, assume).map_err(|fault| fault.in_file(path))?;
            notes.extend(table.notes);
            table.scene
        }
        Format::Collada => {
            let (scene, more) = text_of(bytes)
                .and_then(|text| collada::read(text, name, assume.rate))
                .map_err(|fault| fault.in_file(path))?;
            notes.extend(more);
            scene
        }
        Format::Bvh => {
            let space = assumed_space(assume);
            if assume.metres_per_unit.is_none() {
                notes.push("BVH states no unit: took centimetres (--unit says otherwise)".to_owned());
            }
            let (scene, more) = bvh::read(bytes, name, space).map_err(|fault| fault.in_file(path))?;
            mended.extend(more);
            scene
        }
        Format::Gltf | Format::Glb => {
            let (scene, more) = gltf::read(bytes, beside(path, assume), name, assume.rate)
                .map_err(|fault| fault.in_file(path))?;
            notes.extend(more);
            scene
        }
    };
    let mut scene = scene;
    obey(&mut scene, format, assume, &mut notes);
    scene.validate().map_err(|invalid| Fault::in_part(invalid.place, invalid.what).in_file(path))?;
    Ok(Loaded { scene, format, notes, mended })
}

/// Takes the unit and the up axis that were given for those that the file states: a wrong one is common, and has to be
/// mendable. Its numbers stay.
fn obey(scene: &mut Scene, format: Format, assume: Assume, notes: &mut Vec<String>) {
    if let Some(metres) = assume.metres_per_unit.filter(|&metres| metres != scene.space.metres_per_unit) {
        let stated = scene
            .space
            .unit_name()
            .map_or_else(|| format!("{} m", scene.space.metres_per_unit), str::to_owned);
        notes.push(format!("it states {stated} as its unit: --unit is taken instead, and its numbers stay"));
        scene.space.metres_per_unit = metres;
    }
    if let Some(up) = assume.up.filter(|&up| up != scene.space.up) {
        notes.push(format!("it states {} as up: --up {up} is taken instead", scene.space.up));
        scene.space.up = up;
    }
    if let Some(rate) = assume.rate.filter(|&rate| rate != scene.rate) {
        let name = format.name();
        notes.push(format!(
            "{name} states its frame rate, {}: --rate {rate} has no effect (convert --to-rate counts in another one)",
            scene.rate
        ));
    }
}

/// The unit and the axes of what states none.
fn assumed_space(assume: Assume) -> Space {
    let usual = Space::CENTIMETRES_Y_UP;
    Space {
        metres_per_unit: assume.metres_per_unit.unwrap_or(usual.metres_per_unit),
        up: assume.up.unwrap_or(usual.up),
        ..usual
    }
}

fn table_of(bytes: &[u8], name: &str, assume: Assume) -> Result<Plain, Fault> {
    table::read(text_of(bytes)?, name, assumed_space(assume), assume.rate)
}

/// What a format says by itself; `buffer` is what goes to the file beside it, where that is not there yet.
pub(crate) fn plain_of(
    bytes: &[u8],
    buffer: Option<&[u8]>,
    format: Format,
    path: &Path,
    assume: Assume,
) -> Result<Plain, FormatError> {
    let (name, failed) = (name_of(path), |fault: Fault| fault.in_file(path));
    match format {
        Format::Gltf | Format::Glb => {
            gltf::read_plain(bytes, buffer, beside(path, assume), name, assume.rate).map_err(failed)
        }
        Format::Usda | Format::Usdc | Format::Usdz => {
            usd::read_plain(bytes, (path, name), assume).map_err(failed)
        }
        Format::Collada => {
            text_of(bytes).and_then(|text| collada::read_plain(text, name, assume.rate)).map_err(failed)
        }
        // There is no extra data in these.
        Format::Csv => table_of(bytes, name, assume).map_err(failed),
        Format::Ncurve | Format::Bvh => {
            let loaded = in_format(bytes, format, path, Assume { without_extra: false, ..assume })?;
            let keys = match format {
                // Joints have no names that could be told apart: their place in the file is what they go by.
                Format::Bvh => (0..loaded.scene.rigs.iter().map(|rig| rig.len()).sum::<usize>())
                    .map(|place| place.to_string())
                    .collect(),
                _ => (loaded.scene.rigs.iter())
                    .flat_map(|rig| rig.nodes().map(|(_, node)| node.name.clone()))
                    .collect(),
            };
            Ok(Plain { scene: loaded.scene, keys, notes: loaded.notes, mended: loaded.mended })
        }
    }
}

/// The other files that reading the contents of a file reads: the buffers of a glTF file, the layers that a USD file stands
/// on.
pub fn files_beside(bytes: &[u8], path: &Path) -> Vec<PathBuf> {
    let folder = folder_of(path);
    match Format::of_content(bytes) {
        Some(Format::Gltf | Format::Glb) => gltf::files_beside(bytes, folder),
        // Also such as are followed on request alone: that they change is no harm.
        Some(Format::Usda | Format::Usdc | Format::Usdz) => usd::files_beside(bytes, path),
        _ => Vec::new(),
    }
}

/// How a scene is written.
#[derive(Clone, Copy, Debug, Default)]
pub struct Saving<'a> {
    /// How far curves may be from their source where a format cannot hold them exactly.
    pub tolerance: Tolerance,
    /// Leave out the extra data that brings back what a format cannot hold by itself.
    pub without_extra: bool,
    /// Write rigs as skeletons with an animation of samples, where the format has such beside transforms: USD.
    pub skeletons: bool,
    /// Write a matrix a frame for each node that moves, for readers that know nothing else: COLLADA.
    pub matrices: bool,
    /// Write the numbers of a text document to a file beside it, called the same but for the ending `.bin`: `.gltf`. Only
    /// [`write()`] does so.
    pub buffer_beside: bool,
    /// Write the scene's own unit in formats that state none, BVH; else centimetres, which are taken where none is said.
    pub keep_unit: bool,
    /// Write the scene's own up axis in formats that state none, BVH; else y, which is taken where none is said.
    pub keep_up: bool,
    /// What the times of a table count: CSV.
    pub times: TableTimes,
    /// Leave takes where they start, in formats that count seconds; else each starts at zero there.
    pub keep_start: bool,
    /// An asset that a layer is written over, which says only how it moves: USD.
    pub over: Option<&'a Path>,
    /// A file that the scene came from or that its rig came from: of the same format, it gives everything but the
    /// animation, such as meshes.
    pub base: Option<&'a Path>,
}

/// The contents of a file in some format, and what became of the channels.
///
/// # Errors
/// Where the format cannot hold the scene at all.
pub fn encode(
    scene: &Scene,
    format: Format,
    path: &Path,
    saving: &Saving<'_>,
) -> Result<(Vec<u8>, Ledger), FormatError> {
    encoded(scene, format, path, &Saving { buffer_beside: false, ..*saving })
        .map(|encoded| (encoded.bytes, encoded.ledger))
}

/// A file in some format, not written yet, with what its writer says of it.
///
/// # Errors
/// Where the format cannot hold the scene at all.
pub fn encoded(
    scene: &Scene,
    format: Format,
    path: &Path,
    saving: &Saving<'_>,
) -> Result<Encoded, FormatError> {
    let cannot = |fault| cannot_hold(path, fault);
    scene.validate().map_err(|invalid| cannot(Fault::in_part(invalid.place, invalid.what)))?;
    if matches!(format, Format::Bvh | Format::Usdz) || saving.skeletons || saving.matrices {
        affordable(scene, None, scene.rate).map_err(|error| cannot(Fault::of_whole(error.to_string())))?;
    }
    // Folders, in which takes may have one name, are known to our own format alone.
    let name = |take: &Take| take.name.clone();
    if format == Format::Ncurve || !has_namesakes(&scene.takes, name) {
        return in_format_of(scene, format, path, saving);
    }
    let mut renamed = scene.clone();
    let notes = tell_apart(&mut renamed.takes, name);
    let mut made = in_format_of(&renamed, format, path, saving)?;
    made.ledger.notes.extend(notes);
    Ok(made)
}

fn in_format_of(
    scene: &Scene,
    format: Format,
    path: &Path,
    saving: &Saving<'_>,
) -> Result<Encoded, FormatError> {
    let cannot = |fault| cannot_hold(path, fault);
    match format {
        Format::Ncurve => Ok(Encoded {
            format,
            bytes: ncurve::write(scene).into_bytes(),
            buffer: None,
            ledger: all_kept(scene),
            nodes: Vec::new(),
            hidden: Vec::new(),
            is_skeletal: false,
            states: None,
            shifts: Vec::new(),
            unscaled: None,
        }),
        Format::Bvh => {
            let free = solved(scene, &saving.tolerance.times(0.5))
                .map_err(|error| cannot(Fault::of_whole(error.to_string())))?;
            let (scene, solving) = match &free {
                Some((free, ledger)) => (free, Some(ledger)),
                None => (scene, None),
            };
            let space = Space {
                metres_per_unit: if saving.keep_unit { scene.space.metres_per_unit } else { 0.01 },
                up: if saving.keep_up { scene.space.up } else { UpAxis::Y },
                handedness: Handedness::Right,
            };
            // What scales do to places can be said all the same; joints are solved, and no constraint speaks of lengths.
            let unscaled = unscaled(scene).map_err(|error| cannot(Fault::of_whole(error.to_string())))?;
            let (scene, sizing) = match unscaled {
                Some(unscaled) => (Cow::Owned(unscaled.scene), Some((unscaled.ledger, unscaled.claim))),
                None => (Cow::Borrowed(scene), None),
            };
            let (spaced, respaced) = in_space(&scene, &space);
            let take = spaced.takes.first();
            let (text, mut ledger, written) = bvh::written(&spaced, take).map_err(cannot)?;
            crate::extra_data::remap_fates(&mut ledger, &respaced);
            ledger.notes.extend(bvh::stated(&scene.space, &space));
            let (sizing, unscaled) = sizing.unzip();
            if let Some(sizing) = sizing {
                ledger = sizing.followed_by(ledger);
            }
            if let Some(solving) = solving {
                ledger = solving.clone().followed_by(ledger);
                ledger.notes.push("joints were solved, as the format holds no constraints".to_owned());
            }
            let keys = written.nodes.into_iter().enumerate();
            Ok(Encoded {
                format,
                bytes: text.into_bytes(),
                buffer: None,
                nodes: keys.filter_map(|(key, id)| Some((key.to_string(), (0, id?)))).collect(),
                hidden: crate::extra_data::hidden(&ledger, &spaced.takes),
                is_skeletal: false,
                states: Some(space),
                shifts: take.map(|take| (take.name.clone(), -written.start)).into_iter().collect(),
                ledger,
                unscaled,
            })
        }
        Format::Usda | Format::Usdc | Format::Usdz => {
            let form = match format {
                Format::Usda => usd::Form::Text,
                Format::Usdc => usd::Form::Binary,
                _ => usd::Form::Package,
            };
            let read = |path: &Path| {
                fs::read(path).map_err(|source| FormatError::Read { path: path.to_owned(), source })
            };
            let asset = saving.over.map(read).transpose()?;
            let options = usd::WriteOptions {
                form,
                without_extra: saving.without_extra,
                skeletons: saving.skeletons,
                tolerance: saving.tolerance,
                over: asset.as_deref().zip(saving.over),
                path,
            };
            usd::write(scene, &options).map_err(cannot)
        }
        Format::Csv => table::write(scene, &saving.tolerance, saving.times).map_err(cannot),
        Format::Collada => {
            let is_collada = |bytes: &[u8]| Format::of_content(bytes) == Some(Format::Collada);
            let base = base_of(saving, is_collada)?;
            let base = base.as_ref().map(|(bytes, _)| transcoded(bytes)).transpose().map_err(cannot)?;
            let options = collada::WriteOptions {
                into: base.as_deref().map(text_of).transpose().map_err(cannot)?,
                without_extra: saving.without_extra,
                tolerance: saving.tolerance,
                keep_start: saving.keep_start,
                matrices: saving.matrices,
            };
            collada::write(scene, &options).map_err(cannot)
        }
        Format::Gltf | Format::Glb => {
            let beside = path.with_extension("bin");
            let name = beside.file_name().unwrap_or_default().to_string_lossy();
            let is_beside = saving.buffer_beside && format == Format::Gltf;
            encode_gltf(scene, format, path, saving, is_beside.then_some(&*name))
        }
    }
}

/// The contents of the file that the result is written into, where it is one of the same format, and its folder.
fn base_of<'a>(
    saving: &Saving<'a>,
    is_same: impl Fn(&[u8]) -> bool,
) -> Result<Option<(Vec<u8>, &'a Path)>, FormatError> {
    let Some(base) = saving.base.filter(|base| *base != Path::new("-") && base.is_file()) else {
        return Ok(None);
    };
    let bytes = fs::read(base).map_err(|source| FormatError::Read { path: base.to_owned(), source })?;
    Ok(is_same(&bytes).then(|| (bytes, folder_of(base))))
}

/// A glTF file, whose numbers go to a file beside it if that has a name.
fn encode_gltf(
    scene: &Scene,
    format: Format,
    path: &Path,
    saving: &Saving<'_>,
    buffer: Option<&str>,
) -> Result<Encoded, FormatError> {
    let is_gltf = |bytes: &[u8]| matches!(Format::of_content(bytes), Some(Format::Gltf | Format::Glb));
    let base = base_of(saving, is_gltf)?;
    let options = gltf::WriteOptions {
        binary: format == Format::Glb,
        without_extra: saving.without_extra,
        tolerance: saving.tolerance,
        into: base.as_ref().map(|(bytes, folder)| (bytes.as_slice(), *folder)),
        folder: folder_of(path),
        keep_start: saving.keep_start,
        buffer,
    };
    gltf::write(scene, &options).map_err(|fault| cannot_hold(path, fault))
}

fn cannot_hold(path: &Path, fault: Fault) -> FormatError {
    let message = match fault.place {
        Place::Part(part) => format!("{part}: {}", fault.message),
        _ => fault.message,
    };
    FormatError::CannotHold { path: path.to_owned(), message }
}

/// Where the files lie that a glTF file names.
fn beside(path: &Path, assume: Assume) -> gltf::Folder<'_> {
    gltf::Folder { path: folder_of(path), anywhere: assume.files_anywhere }
}

/// The folder that a file lies in.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn all_kept(scene: &Scene) -> Ledger {
    let addresses = Addresses::new(scene);
    let entry = |take: &Take, (layer, track): (usize, &nimble_curve_core::scene::Track)| {
        let count = track.controller.value_count();
        Entry {
            take: take.name.clone(),
            layer: take.layers[layer].name.clone(),
            channel: addresses.property(&track.target),
            to: None,
            target: Some(track.target.clone()),
            fate: Fate::Kept,
            error: None,
            before: count,
            after: count,
            note: String::new(),
        }
    };
    let entries = scene.takes.iter().flat_map(|take| take.tracks().map(move |track| (take, track)));
    Ledger { entries: entries.map(|(take, track)| entry(take, track)).collect(), notes: Vec::new() }
}

/// The format of an output: by its ending; standard output gets our own.
///
/// # Errors
/// [`FormatError::UnknownFormat`].
pub fn output_format(path: &Path) -> Result<Format, FormatError> {
    if path == Path::new("-") {
        return Ok(Format::Ncurve);
    }
    Format::of_path(path).ok_or_else(|| FormatError::CannotHold {
        path: path.to_owned(),
        message: format!("its ending names no format that can be written: use one of {ENDINGS}"),
    })
}

/// Writes a scene, whole or not at all; `-` is standard output. Of two files each is whole, the one that refers to the
/// other comes last.
///
/// # Errors
/// See [`FormatError`]; nothing is left behind.
pub fn write(scene: &Scene, path: &Path, saving: &Saving<'_>) -> Result<Ledger, FormatError> {
    let made = encoded(scene, output_format(path)?, path, saving)?;
    write_encoded(&made, path)?;
    Ok(made.ledger)
}

/// Writes a file that was made, whole or not at all, and the file beside it, where there is one, before it.
///
/// # Errors
/// [`FormatError::Write`]; nothing is left behind.
pub fn write_encoded(made: &Encoded, path: &Path) -> Result<(), FormatError> {
    if let Some(buffer) = &made.buffer {
        write_bytes(buffer, &path.with_extension("bin"))?;
    }
    write_bytes(&made.bytes, path)
}
