//! A correction of binary layers as they are written: the names of children are a type of their own there.
//!
//! The fields that list a prim's children hold *token vectors*, that of sublayers a *string vector*; written as arrays of tokens, which look the same otherwise,
//! the standard's own library refuses the file. The table of fields is read, its types set right, and it is put back
//! with the sections behind it moved along.

use std::io::Cursor;

use anyhow::{Context as _, Result, ensure};
use openusd::usdc::CrateFile;

/// The fields whose values are token vectors.
const LISTS: [&str; 6] =
    ["primChildren", "properties", "variantChildren", "variantSetChildren", "primOrder", "propertyOrder"];
/// The type of a token, and of a vector of tokens, in a value's representation.
const TOKEN: u64 = 11;
const TOKEN_VECTOR: u64 = 41;
const STRING_VECTOR: u64 = 50;
const ARRAY: u64 = 1 << 63;

/// The same file with token vectors where they belong.
pub fn with_token_vectors(bytes: &[u8]) -> Result<Vec<u8>> {
    let file = CrateFile::open(Cursor::new(bytes))?;
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
        values.extend(value.to_le_bytes());
    }
    let word = |at: usize| -> Result<usize> {
        let word = bytes.get(at..at + 8).context("the layer is cut off")?;
        Ok(u64::from_le_bytes(word.try_into()?) as usize)
    };
    let contents = word(16)?;
    let count = word(contents)?;
    let mut sections = Vec::with_capacity(count);
    for index in 0..count {
        let at = contents + 8 + index * 32;
        let name: [u8; 16] = bytes.get(at..at + 16).context("the layer is cut off")?.try_into()?;
        sections.push((name, word(at + 16)?, word(at + 24)?));
    }
    let start = sections.iter().map(|(_, start, _)| *start).min().context("the layer has no sections")?;
    let mut made = bytes[..start].to_vec();
    let mut table = Vec::with_capacity(count * 32);
    for (name, start, size) in sections {
        let section = bytes.get(start..start + size).context("a section is cut off")?;
        let at = made.len();
        if name.starts_with(b"FIELDS\0") {
            // How many, their names in a block of its own length, then their values in another.
            let names = 16 + word(start + 8)?;
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
