//! The outside of glTF: the binary container, and buffers inside, beside or within the text.

use std::borrow::Cow;
use std::fs::File;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value;

use crate::error::Fault;
use crate::format::GLB_MAGIC;

const JSON: u32 = 0x4E4F_534A;
const BIN: u32 = 0x004E_4942;

/// The text of a file and the binary chunk behind it.
#[derive(Clone, Copy, Debug)]
pub struct Container<'a> {
    /// The JSON.
    pub json: &'a [u8],
    /// The binary chunk, where there is one.
    pub binary: Option<&'a [u8]>,
}

/// Takes a file apart; anything that does not start like the binary container is taken for the text form.
pub fn open(bytes: &[u8]) -> Result<Container<'_>, Fault> {
    if !bytes.starts_with(GLB_MAGIC) {
        let json = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
        return Ok(Container { json, binary: None });
    }
    let word = |at: usize| {
        bytes.get(at..at + 4).map(|word| u32::from_le_bytes([word[0], word[1], word[2], word[3]]))
    };
    let cut_off = || Fault::of_whole("the binary glTF ends in the middle: it is cut off");
    let version = word(4).ok_or_else(cut_off)?;
    if version != 2 {
        return Err(Fault::of_whole(format!("this is binary glTF {version}.0: only glTF 2.0 can be read")));
    }
    let total = word(8).ok_or_else(cut_off)? as usize;
    if total > bytes.len() {
        return Err(cut_off());
    }
    let (mut at, mut json, mut binary) = (12, None, None);
    while at + 8 <= total {
        let (length, kind) = (word(at).ok_or_else(cut_off)? as usize, word(at + 4).ok_or_else(cut_off)?);
        let chunk = bytes.get(at + 8..).and_then(|rest| rest.get(..length)).ok_or_else(cut_off)?;
        match kind {
            JSON if json.is_none() => json = Some(chunk),
            BIN if binary.is_none() => binary = Some(chunk),
            _ => {}
        }
        at += 8 + length;
    }
    let json = json.ok_or_else(|| Fault::of_whole("the binary glTF has no JSON chunk"))?;
    Ok(Container { json, binary })
}

/// The bytes of a binary container.
pub fn close(json: &[u8], binary: &[u8]) -> Vec<u8> {
    let padded = |length: usize| length.next_multiple_of(4);
    let has_binary = !binary.is_empty();
    let total = 12 + 8 + padded(json.len()) + if has_binary { 8 + padded(binary.len()) } else { 0 };
    let mut bytes = Vec::with_capacity(total);
    bytes.extend_from_slice(GLB_MAGIC);
    for word in [2, total as u32, padded(json.len()) as u32, JSON] {
        bytes.extend_from_slice(&word.to_le_bytes());
    }
    bytes.extend_from_slice(json);
    bytes.resize(20 + padded(json.len()), b' ');
    if has_binary {
        bytes.extend_from_slice(&(padded(binary.len()) as u32).to_le_bytes());
        bytes.extend_from_slice(&BIN.to_le_bytes());
        bytes.extend_from_slice(binary);
        bytes.resize(total, 0);
    }
    bytes
}

/// Where the files of a document lie.
#[derive(Clone, Copy, Debug)]
pub struct Folder<'a> {
    /// The folder of the document.
    pub path: &'a Path,
    /// Whether files outside of it are read, too.
    pub anywhere: bool,
}

/// The bytes of a buffer, or why they are not to be had; of a file no more than `length`.
pub fn buffer<'a>(
    (uri, length): (Option<&str>, usize),
    binary: Option<&'a [u8]>,
    index: usize,
    folder: Folder<'_>,
) -> Result<Cow<'a, [u8]>, String> {
    match uri {
        None if index == 0 => {
            binary.map(Cow::Borrowed).ok_or_else(|| "has neither a uri nor a binary chunk".to_owned())
        }
        None => Err("has no uri".to_owned()),
        Some(uri) if uri.starts_with("data:") => decoded(uri).map(Cow::Owned),
        Some(uri) => {
            let path = beside(uri, folder.path)?;
            let failed = |error: io::Error| format!("'{}' cannot be read: {error}", path.display());
            // Links count by what they lead to.
            let (place, own) =
                (path.canonicalize().map_err(failed)?, folder.path.canonicalize().map_err(failed)?);
            if !folder.anywhere && !place.starts_with(own) {
                return Err(format!("'{}' lies outside its folder: say --files-anywhere", path.display()));
            }
            if !place.is_file() {
                return Err(format!("'{}' is no file", path.display()));
            }
            let file = File::open(&place).map_err(failed)?;
            let there = file.metadata().map_err(failed)?.len();
            if there < length as u64 {
                return Err(format!("has {there} bytes, but says {length}: it is cut off"));
            }
            let mut bytes = Vec::with_capacity(length);
            file.take(length as u64).read_to_end(&mut bytes).map_err(failed)?;
            Ok(Cow::Owned(bytes))
        }
    }
}

/// The bytes of a data URI.
fn decoded(uri: &str) -> Result<Vec<u8>, String> {
    let (head, data) = uri.split_once(',').ok_or("its data URI has no comma")?;
    if !head.ends_with(";base64") {
        return Err("its data URI is not base64".to_owned());
    }
    STANDARD.decode(data.trim_end()).map_err(|error| format!("its base64 is broken: {error}"))
}

/// A data URI of some bytes.
pub fn encoded(bytes: &[u8]) -> String {
    format!("data:application/octet-stream;base64,{}", STANDARD.encode(bytes))
}

/// The files in a folder that a document's buffers lie in; none where it cannot be read.
pub fn files_beside(bytes: &[u8], folder: &Path) -> Vec<PathBuf> {
    #[derive(serde::Deserialize)]
    struct Buffers<'a> {
        #[serde(borrow, default)]
        buffers: Vec<Buffer<'a>>,
    }
    #[derive(serde::Deserialize)]
    struct Buffer<'a> {
        #[serde(borrow, default)]
        uri: Option<Cow<'a, str>>,
    }
    let Ok(container) = open(bytes) else { return Vec::new() };
    let buffers = serde_json::from_slice::<Buffers<'_>>(container.json).map_or(Vec::new(), |all| all.buffers);
    let uris = buffers.into_iter().filter_map(|buffer| buffer.uri);
    uris.filter(|uri| !uri.starts_with("data:")).filter_map(|uri| beside(&uri, folder).ok()).collect()
}

/// The file that a relative URI means.
pub fn beside(uri: &str, folder: &Path) -> Result<PathBuf, String> {
    let has_scheme = uri.split_once(':').is_some_and(|(scheme, _)| {
        scheme.len() > 1 && scheme.chars().all(|c| c.is_ascii_alphanumeric() || "+-.".contains(c))
    });
    if has_scheme || uri.starts_with('/') {
        return Err(format!("'{uri}' is not a file beside it: only relative names and data URIs are read"));
    }
    Ok(folder.join(unescaped(uri)))
}

/// Percent signs with two digits become the byte they stand for.
fn unescaped(uri: &str) -> String {
    let bytes = uri.as_bytes();
    let mut plain = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let hex = bytes.get(at + 1..at + 3).and_then(|two| std::str::from_utf8(two).ok());
        match hex.and_then(|hex| u8::from_str_radix(hex, 16).ok()).filter(|_| bytes[at] == b'%') {
            Some(byte) => {
                plain.push(byte);
                at += 3;
            }
            None => {
                plain.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&plain).into_owned()
}

/// A file's name as a URI.
pub fn escaped(name: &str) -> String {
    name.replace('%', "%25").replace(' ', "%20")
}

/// Says relative URIs of a document in `from` so that they lead to the same files out of `to`.
pub fn rebase(document: &mut Value, list: &str, from: &Path, to: &Path) {
    if from == to {
        return;
    }
    let entries = document.get_mut(list).and_then(Value::as_array_mut).into_iter().flatten();
    for uri in entries.filter_map(|entry| entry.get_mut("uri")) {
        let Some(old) = uri.as_str().filter(|old| !old.starts_with("data:")) else { continue };
        if let Ok(path) = beside(old, from)
            && let (Ok(path), Ok(to)) = (path.canonicalize(), to.canonicalize())
        {
            let common = path.components().zip(to.components()).take_while(|(a, b)| a == b).count();
            let up = to.components().skip(common).map(|_| "..".to_owned());
            let down =
                path.components().skip(common).map(|part| part.as_os_str().to_string_lossy().into_owned());
            let parts: Vec<String> = up.chain(down).map(|part| escaped(&part)).collect();
            *uri = Value::String(parts.join("/"));
        }
    }
}
