//! A look over binary layers before they are read: no count in them may ask for more than the file can hold.
//!
//! The reader behind this allocates what counts say, and recurses as deep as dictionaries are nested. So the tables are
//! looked at first, then every value that will be read: arrays, lists, dictionaries and time samples.

use anyhow::{Context as _, Result, bail, ensure};
use openusd::usdc::CrateFile;

/// The deepest nesting of values.
const MOST_DEEP: usize = 16;

/// How many entries a table may have whatever its size is.
const MOST_ENTRIES: u64 = 1 << 20;

/// Checks the tables of a layer, before it is opened.
pub fn tables(bytes: &[u8]) -> Result<()> {
    let look = Look { bytes, left: 0 };
    // Before that, counts were written in other ways.
    let version = bytes.get(8..10).context("it is cut off")?;
    ensure!(version >= [0, 7].as_slice(), "it is of a version before 0.7: save it anew");
    let contents = look.word(16)? as usize;
    let count = look.word(contents)?;
    ensure!(count < 64, "it has {count} sections");
    for index in 0..count as usize {
        let at = contents + 8 + index * 32;
        let name = bytes.get(at..at + 16).context("its table of contents is cut off")?;
        let (start, size) = (look.word(at + 16)? as usize, look.word(at + 24)? as usize);
        let end = start.checked_add(size).filter(|end| *end <= bytes.len());
        let end = end.context("a section reaches beyond the file")?;
        let section = Look { bytes: &bytes[..end], left: 0 };
        // Most entries take a byte and more; runs of equal steps pack into next to nothing, so that many of them are believed.
        let fits = |count: u64| count <= (16 * size as u64).max(MOST_ENTRIES);
        let packed = |at: usize| -> Result<usize> {
            let length = section.word(at)? as usize;
            let next = (at + 8).checked_add(length).filter(|next| *next <= end);
            next.context("a packed block reaches beyond its section")
        };
        match name.split(|byte| *byte == 0).next().unwrap_or_default() {
            b"TOKENS" => {
                let text = section.word(start + 8)?;
                ensure!(
                    fits(section.word(start)?) && text <= 255 * size as u64,
                    "its tokens do not fit the file"
                );
                packed(start + 16)?;
            }
            b"STRINGS" => ensure!(section.word(start)? <= size as u64 / 4, "its strings do not fit the file"),
            b"FIELDS" => {
                ensure!(fits(section.word(start)?), "its fields do not fit the file");
                packed(packed(start + 8)?)?;
            }
            b"FIELDSETS" => {
                ensure!(fits(section.word(start)?), "its field sets do not fit the file");
                packed(start + 8)?;
            }
            b"PATHS" => {
                ensure!(
                    fits(section.word(start)?) && fits(section.word(start + 8)?),
                    "its paths do not fit the file"
                );
                let jumps_at = packed(packed(start + 16)?)?;
                let count = section.word(start + 8)? as usize;
                tree(&integers(&bytes[jumps_at + 8..packed(jumps_at)?], count)?)?;
            }
            b"SPECS" => {
                ensure!(fits(section.word(start)?), "its specs do not fit the file");
                packed(packed(packed(start + 8)?)?)?;
            }
            _ => {}
        }
    }
    Ok(())
}

/// The numbers in a packed block: LZ4, and in it two bits for each that say whether its difference to the one before is the
/// commonest one or stands in one, two or four bytes.
fn integers(block: &[u8], count: usize) -> Result<Vec<i32>> {
    let most = 8 + count / 4 + 4 * count;
    let (chunks, rest) = block.split_first().context("a packed block is empty")?;
    ensure!(*chunks == 0, "a packed block in several chunks is not read");
    let bytes = lz4_flex::decompress(rest, most)?;
    let codes_at = 4;
    let mut values_at = codes_at + (2 * count).div_ceil(8);
    let number = |at: usize, size: usize| -> Result<i32> {
        let part = bytes.get(at..at + size).context("a packed block is cut off")?;
        Ok(match *part {
            [a] => i32::from(a as i8),
            [a, b] => i32::from(i16::from_le_bytes([a, b])),
            [a, b, c, d] => i32::from_le_bytes([a, b, c, d]),
            _ => 0,
        })
    };
    let common = number(0, 4)?;
    let (mut numbers, mut last) = (Vec::with_capacity(count), 0_i32);
    for index in 0..count {
        let code =
            bytes.get(codes_at + index / 4).context("a packed block is cut off")? >> (2 * (index % 4)) & 3;
        let size = [0, 1, 2, 4][code as usize];
        last = last.wrapping_add(if size == 0 { common } else { number(values_at, size)? });
        values_at += size;
        numbers.push(last);
    }
    Ok(numbers)
}

/// Checks that the paths are a tree: by its jumps from node to node, each is reached once.
fn tree(jumps: &[i32]) -> Result<()> {
    let mut seen = vec![false; jumps.len()];
    let mut open = vec![0_usize];
    while let Some(mut at) = open.pop() {
        loop {
            let jump = *jumps.get(at).context("a path leads out of the table")?;
            ensure!(!std::mem::replace(&mut seen[at], true), "its paths are no tree");
            if jump > 0 {
                open.push(at + jump as usize);
            } else if jump < -1 {
                break;
            }
            at += 1;
        }
    }
    Ok(())
}

/// Which fields of an opened layer can be read: for each, whether its value fits the file.
pub fn fields<R>(bytes: &[u8], file: &CrateFile<R>) -> Vec<bool> {
    let mut look = Look { bytes, left: 64 * bytes.len() + 4096 };
    file.fields.iter().map(|field| look.value(field.value_rep.0, 0).is_ok()).collect()
}

struct Look<'a> {
    bytes: &'a [u8],
    /// How many bytes of values may still be looked at: offsets may make many out of few.
    left: usize,
}

impl Look<'_> {
    fn word(&self, at: usize) -> Result<u64> {
        let word = at.checked_add(8).and_then(|end| self.bytes.get(at..end)).context("it is cut off")?;
        Ok(u64::from_le_bytes(word.try_into()?))
    }

    /// A list with a count before it, whose entries take so many bytes each; where it ends.
    fn list(&mut self, at: usize, each: usize) -> Result<usize> {
        let count = self.word(at)? as usize;
        let length = count.checked_mul(each).context("a list is too long")?;
        let end = (at + 8).checked_add(length).filter(|end| *end <= self.bytes.len());
        self.left = self.left.checked_sub(length).context("its values are too many")?;
        end.context("a list reaches beyond the file")
    }

    /// Where an offset that stands at a place leads.
    fn jump(&self, at: usize) -> Result<usize> {
        let offset = self.word(at)? as i64;
        let target = i64::try_from(at)?.checked_add(offset).filter(|target| *target >= 0);
        Ok(target.context("an offset leads out of the file")? as usize)
    }

    fn value(&mut self, value: u64, depth: usize) -> Result<()> {
        ensure!(depth < MOST_DEEP, "its values are nested too deep");
        self.left = self.left.checked_sub(16).context("its values are too many")?;
        let (is_array, is_inlined, is_packed) =
            (value >> 63 & 1 == 1, value >> 62 & 1 == 1, value >> 61 & 1 == 1);
        let kind = value >> 48 & 0xff;
        let at = (value & ((1 << 48) - 1)) as usize;
        // Packed arrays are those of meshes, which are not read.
        ensure!(!is_packed, "packed values are not read");
        if is_inlined && !is_array {
            return Ok(());
        }
        if is_array {
            let each = match kind {
                1 | 2 => 1,
                7 => 2,
                3 | 4 | 8 | 10 | 11 | 12 => 4,
                5 | 6 | 9 | 20 | 18 | 22 | 56 => 8,
                21 => 4,
                25 => 6,
                24 | 26 => 12,
                17 | 28 | 30 | 19 => 16,
                23 => 24,
                16 | 27 | 13 => 32,
                14 => 72,
                15 => 128,
                29 => 8,
                _ => bail!("an array of a kind that is not read"),
            };
            return if at == 0 { Ok(()) } else { self.list(at, each).map(|_| ()) };
        }
        match kind {
            // Texts that do not stand in place are read as lists of them.
            10..=12 => self.list(at, 4).map(|_| ()),
            // Numbers, vectors, quaternions and matrices: too short is an error where they are read.
            1..=9 | 13..=30 | 42..=44 | 51 | 52 | 56 => Ok(()),
            31 => {
                let count = self.word(at)? as usize;
                ensure!(count <= self.bytes.len() / 12, "a dictionary is too long");
                let mut place = at + 8;
                for _ in 0..count {
                    let target = self.jump(place + 4)?;
                    let inner = self.word(target)?;
                    self.value(inner, depth + 1)?;
                    place = target + 8;
                }
                Ok(())
            }
            32..=34 => {
                let bits = *self.bytes.get(at).context("it is cut off")?;
                let mut place = at + 1;
                // Explicit, added, deleted, ordered, prepended, appended.
                for bit in 1..7 {
                    if bits >> bit & 1 == 1 {
                        place = self.list(place, 4)?;
                    }
                }
                Ok(())
            }
            40 | 41 | 50 => self.list(at, 4).map(|_| ()),
            48 => self.list(at, 8).map(|_| ()),
            46 => {
                let times = self.jump(at)?;
                let rep = self.word(times)?;
                self.value(rep, depth + 1)?;
                let values = self.jump(times + 8)?;
                self.list(values, 8)?;
                for index in 0..self.word(values)? as usize {
                    let rep = self.word(values + 8 + index * 8)?;
                    self.value(rep, depth + 1)?;
                }
                Ok(())
            }
            _ => bail!("a value of a kind that is not read"),
        }
    }
}
