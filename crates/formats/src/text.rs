//! Bytes of files as text.

use std::borrow::Cow;

use crate::error::Fault;

/// Bytes as UTF-8 text.
pub fn text_of(bytes: &[u8]) -> Result<&str, Fault> {
    let text = std::str::from_utf8(bytes).map_err(|error| {
        let line = bytes[..error.valid_up_to()].iter().filter(|&&byte| byte == b'\n').count() + 1;
        Fault::on_line(line, "this is not UTF-8 text")
    })?;
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}

/// UTF-16 text with a byte order mark as UTF-8; anything else as it is.
pub fn transcoded(bytes: &[u8]) -> Result<Cow<'_, [u8]>, Fault> {
    let word: fn([u8; 2]) -> u16 = match bytes {
        [0xff, 0xfe, ..] => u16::from_le_bytes,
        [0xfe, 0xff, ..] => u16::from_be_bytes,
        _ => return Ok(Cow::Borrowed(bytes)),
    };
    let words = bytes[2..].chunks_exact(2).map(|pair| word([pair[0], pair[1]]));
    let text: Result<String, _> = char::decode_utf16(words).collect();
    let text = text.map_err(|_| Fault::of_whole("it starts as UTF-16 text, but is none"))?;
    Ok(Cow::Owned(
        text.replacen("encoding=\"utf-16\"", "", 1).replacen("encoding=\"UTF-16\"", "", 1).into_bytes(),
    ))
}
