//! The second half of a BVH file: rows of numbers, read in one pass over the bytes.

use nimble_curve_core::angle;

use crate::error::Fault;

/// Where the numbers of one column go: which buffer, and at which component of its rows; angles become radians.
#[derive(Clone, Copy, Debug)]
pub struct Destination {
    pub buffer: usize,
    pub component: usize,
    pub is_angle: bool,
}

/// Where the rows of a motion are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rows {
    /// How many there are.
    pub frames: usize,
    /// Whether a row goes on over line ends.
    pub is_wrapped: bool,
    /// What is not as the header says, but plainly meant.
    pub mended: Option<Mended>,
}

/// How rows differ from their header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mended {
    /// There are more or fewer than it announces.
    Count,
    /// They are broken over several lines.
    Wrapped,
}

/// Finds the rows of a motion, of which the header announces some number: a row a line, whatever is announced.
///
/// Lines that are all too short, but hold just the numbers of the announced frames, are pieces of rows. `None` where the
/// text ends within a row: where the last has too few numbers, or where rows are missing and the last has no line end, as
/// it may stop within a number.
pub fn find_rows(bytes: &[u8], announced: usize, width: usize) -> Option<Rows> {
    let lines = || bytes.split(|&byte| byte == b'\n').filter(|line| !line.trim_ascii().is_empty());
    let words = |line: &[u8]| line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).count();
    let found = lines().count();
    let is_short = |line: &[u8]| words(line) < width;
    if found > announced && lines().next().is_some_and(is_short) {
        let all: usize = lines().map(words).sum();
        if Some(all) == announced.checked_mul(width) {
            return Some(Rows { frames: announced, is_wrapped: true, mended: Some(Mended::Wrapped) });
        }
    }
    let may_be_cut = found < announced && bytes.last().is_some_and(|&last| last != b'\n');
    if may_be_cut || lines().next_back().is_some_and(is_short) {
        return None;
    }
    let mended = (found != announced).then_some(Mended::Count);
    Some(Rows { frames: found, is_wrapped: false, mended })
}

/// A text of numbers with points in place of decimal commas, and with spaces in place of commas between numbers; nothing
/// where there is no comma. Also what was taken for what.
pub fn with_points(bytes: &[u8]) -> Option<(String, &'static str)> {
    if !bytes.contains(&b',') {
        return None;
    }
    let is_space = |byte: Option<&u8>| byte.is_none_or(u8::is_ascii_whitespace);
    let parts = || bytes.iter().enumerate().filter(|(_, byte)| **byte == b',');
    let between = bytes.contains(&b'.') || parts().all(|(at, _)| is_space(bytes.get(at + 1)));
    let (by, what) = match between {
        true => (b' ', "commas stand between numbers: took them for spaces"),
        false => (b'.', "numbers have decimal commas: took them for points"),
    };
    let text = bytes.iter().map(|&byte| if byte == b',' { by } else { byte }).collect();
    String::from_utf8(text).ok().map(|text| (text, what))
}

/// Reads rows into `buffers`, which hold three numbers a frame; `line` is the number of the first line. Whether nothing
/// follows.
///
/// Nothing is allocated: each number is parsed where it stands and stored where it belongs.
pub fn read_rows(
    bytes: &[u8],
    mut line: usize,
    rows: &Rows,
    columns: &[Destination],
    buffers: &mut [Vec<f64>],
) -> Result<bool, Fault> {
    let mut at = 0;
    for frame in 0..rows.frames {
        skip_blank_lines(bytes, &mut at, &mut line);
        for (index, column) in columns.iter().enumerate() {
            if rows.is_wrapped {
                skip_blank_lines(bytes, &mut at, &mut line);
            }
            while at < bytes.len() && matches!(bytes[at], b' ' | b'\t') {
                at += 1;
            }
            let (number, length) = match fast_float2::parse_partial::<f64, _>(&bytes[at..]) {
                Ok((number, length)) if length > 0 && ends_number(bytes.get(at + length)) => (number, length),
                _ => return Err(bad_number(&bytes[at..], line, index, columns.len())),
            };
            if !number.is_finite() {
                return Err(Fault::on_line(line, format!("number {} of the frame is not finite", index + 1)));
            }
            buffers[column.buffer][frame * 3 + column.component] =
                if column.is_angle { angle::radians(number) } else { number };
            at += length;
        }
        while at < bytes.len() && matches!(bytes[at], b' ' | b'\t' | b'\r') {
            at += 1;
        }
        if at < bytes.len() && bytes[at] != b'\n' && !rows.is_wrapped {
            let message = format!("the frame has more numbers than the {} channels above", columns.len());
            return Err(Fault::on_line(line, message));
        }
    }
    Ok(bytes[at..].iter().all(u8::is_ascii_whitespace))
}

fn ends_number(byte: Option<&u8>) -> bool {
    byte.is_none_or(|byte| matches!(byte, b' ' | b'\t' | b'\r' | b'\n'))
}

fn skip_blank_lines(bytes: &[u8], at: &mut usize, line: &mut usize) {
    while *at < bytes.len() && bytes[*at].is_ascii_whitespace() {
        *line += usize::from(bytes[*at] == b'\n');
        *at += 1;
    }
}

fn bad_number(rest: &[u8], line: usize, index: usize, expected: usize) -> Fault {
    let word: Vec<u8> =
        rest.iter().copied().take_while(|byte| !byte.is_ascii_whitespace()).take(24).collect();
    Fault::on_line(
        line,
        if word.is_empty() {
            format!("the frame has {index} numbers, but there are {expected} channels")
        } else {
            format!("'{}' is not a number", String::from_utf8_lossy(&word))
        },
    )
}
