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

/// Reads `frames` rows into `buffers`, which hold three numbers a frame; `line` is the number of the first line.
///
/// Nothing is allocated: each number is parsed where it stands and stored where it belongs.
pub fn read_rows(
    bytes: &[u8],
    mut line: usize,
    frames: usize,
    columns: &[Destination],
    buffers: &mut [Vec<f64>],
) -> Result<(), Fault> {
    let mut at = 0;
    let mut frame = 0;
    while frame < frames {
        skip_blank_lines(bytes, &mut at, &mut line);
        if at == bytes.len() {
            let message = format!("the file ends after {frame} of {frames} frames: it is cut off");
            return Err(Fault::on_line(line, message));
        }
        for (index, column) in columns.iter().enumerate() {
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
        if at < bytes.len() && bytes[at] != b'\n' {
            let message = format!("the frame has more numbers than the {} channels above", columns.len());
            return Err(Fault::on_line(line, message));
        }
        frame += 1;
    }
    skip_blank_lines(bytes, &mut at, &mut line);
    if at < bytes.len() {
        return Err(Fault::on_line(
            line,
            format!("more follows after the {frames} frames that Frames: announces"),
        ));
    }
    Ok(())
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
