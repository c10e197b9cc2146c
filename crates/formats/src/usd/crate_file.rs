//! Corrections of binary layers as they are written.
//!
//! The fields that list a prim's children hold *token vectors*, that of sublayers a *string vector*; written as arrays of tokens,
//! which look the same otherwise, the standard's own library refuses the file. Splines have their bytes behind the other
//! values. The table of fields is read, its types set right, and it is put back with the sections behind it moved along. The
//! version is the lowest that holds what is there, as older programs refuse newer ones.

use std::io::Cursor;

use anyhow::{Context as _, Result, ensure};
use openusd::sdf::AbstractData;
use openusd::usdc::{CrateFile, CrateWriter};

use super::spline::{self, FIELD, Spline};

/// The fields whose values are token vectors.
const LISTS: [&str; 6] =
    ["primChildren", "properties", "variantChildren", "variantSetChildren", "primOrder", "propertyOrder"];
/// The type of a token, and of a vector of tokens, in a value's representation.
const TOKEN: u64 = 11;
const TOKEN_VECTOR: u64 = 41;
const INT: u64 = 3;
const STRING_VECTOR: u64 = 50;
const ARRAY: u64 = 1 << 63;
const INLINED: u64 = 1 << 62;
/// The version that holds all that is written here but splines, and the one that holds them.
const PLAIN_VERSION: [u8; 3] = [0, 8, 0];
const SPLINE_VERSION: [u8; 3] = [0, 12, 0];

/// The file of a layer; a field `spline` holds the number of one of `splines`.
///
/// # Errors
/// Where the layer holds what the binary form cannot, or the file is not as it has to be.
pub fn bytes(data: &dyn AbstractData, splines: &[Spline]) -> Result<Vec<u8>> {
    let mut out = Cursor::new(Vec::new());
    CrateWriter::write(data, &mut out)?;
    corrected(out.get_ref(), splines)
}

fn corrected(bytes: &[u8], splines: &[Spline]) -> Result<Vec<u8>> {
    let file = CrateFile::open(Cursor::new(bytes))?;
    let sections = sections(bytes)?;
    let start = sections.iter().map(|(_, start, _)| *start).min().context("the layer has no sections")?;
    let mut made = bytes[..start].to_vec();
    made[8..11].copy_from_slice(if splines.is_empty() { &PLAIN_VERSION } else { &SPLINE_VERSION });
    let mut values = Vec::with_capacity(file.fields.len() * 8);
    for field in &file.fields {
        let name = file.tokens.get(field.token_index).context("a field has no name")?;
        let mut value = field.value_rep.0;
        if name == "subLayers" && value & ARRAY != 0 {
            value = (value & ((1 << 48) - 1)) | STRING_VECTOR << 48;
        }
        if LISTS.contains(&name.as_str()) && value & ARRAY != 0 && value >> 48 & 0xff == TOKEN {
            value = (value & ((1 << 48) - 1)) | TOKEN_VECTOR << 48;
        }
        if !splines.is_empty() && name == FIELD && value >> 48 == (INLINED >> 48 | INT) {
            let number = (value & 0xffff_ffff) as usize;
            value = spline::binary::KIND << 48 | made.len() as u64;
            spline::binary::write(splines.get(number).context("a spline was mislaid")?, &mut made);
        }
        values.extend(value.to_le_bytes());
    }
    let count = sections.len();
    let mut table = Vec::with_capacity(count * 32);
    for (name, start, size) in sections {
        let section = bytes.get(start..start + size).context("a section is cut off")?;
        let at = made.len();
        if name.starts_with(b"FIELDS\0") {
            // How many, their names in a block of its own length, then their values in another.
            let names = 16 + word(bytes, start + 8)?;
            ensure!(names <= size, "the fields are cut off");
            made.extend(&section[..names]);
            // One chunk, and so no table of chunks.
            let mut packed = vec![0];
            packed.extend(lz4_flex::compress(&values));
            made.extend((packed.len() as u64).to_le_bytes());
            made.extend(packed);
        } else {
            made.extend(section);
        }
        table.extend(name);
        table.extend((at as u64).to_le_bytes());
        table.extend(((made.len() - at) as u64).to_le_bytes());
    }
    let contents = made.len() as u64;
    made.extend((count as u64).to_le_bytes());
    made.extend(table);
    made[16..24].copy_from_slice(&contents.to_le_bytes());
    Ok(made)
}

/// A number that stands at a place.
fn word(bytes: &[u8], at: usize) -> Result<usize> {
    let word = bytes.get(at..at + 8).context("the layer is cut off")?;
    Ok(u64::from_le_bytes(word.try_into()?) as usize)
}

/// The sections of a layer: name, start and length.
fn sections(bytes: &[u8]) -> Result<Vec<([u8; 16], usize, usize)>> {
    let contents = word(bytes, 16)?;
    let count = word(bytes, contents)?;
    let mut sections = Vec::with_capacity(count);
    for index in 0..count {
        let at = contents + 8 + index * 32;
        let name: [u8; 16] = bytes.get(at..at + 16).context("the layer is cut off")?.try_into()?;
        sections.push((name, word(bytes, at + 16)?, word(bytes, at + 24)?));
    }
    Ok(sections)
}
