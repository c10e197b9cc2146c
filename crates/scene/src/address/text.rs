//! Names and parts of addresses as text: quotes, escapes, patterns, namespaces.

use std::borrow::Cow;

/// A text taken apart at a sign that does not stand in quotes.
pub(super) fn split_outside_quotes(text: &str, sign: char) -> Vec<&str> {
    let (mut inside, mut escaped, mut start) = (false, false, 0);
    let mut parts = Vec::new();
    for (position, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if inside => escaped = true,
            '"' => inside = !inside,
            c if c == sign && !inside => {
                parts.push(&text[start..position]);
                start = position + sign.len_utf8();
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
}

/// A node's name as addresses have it, in quotes where it has to be.
pub fn written(name: &str) -> String {
    quoted(name, "/#\"")
}

/// A part of an address, in quotes where it holds white space, what does not show, or one of `odd`.
pub(super) fn quoted(part: &str, odd: &str) -> String {
    let is_odd = |c: char| c.is_whitespace() || is_hidden(c) || odd.contains(c);
    if !part.is_empty() && !part.contains(is_odd) && !is_formula(part) {
        return part.to_owned();
    }
    let inner = part.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{}\"", visible(&inner))
}

/// A node's address in the one way in which addresses are written here.
pub(super) fn canonical(address: &str) -> String {
    let part = |part: &str| match last_outside_quotes(part, '#') {
        Some(sign) => format!("{}{}", written(&unquoted(&part[..sign])), &part[sign..]),
        None => written(&unquoted(part)),
    };
    split_outside_quotes(address, '/').into_iter().map(part).collect::<Vec<_>>().join("/")
}

/// A part of an address without its quotes.
pub fn unquoted(part: &str) -> String {
    let Some(inner) = part.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) else {
        return part.to_owned();
    };
    let mut plain = String::with_capacity(inner.len());
    let mut units: Vec<u16> = Vec::new();
    let mut rest = inner;
    while let Some(c) = rest.chars().next() {
        rest = &rest[c.len_utf8()..];
        if c != '\\' {
            take_units(&mut units, &mut plain);
            plain.push(c);
            continue;
        }
        let Some(next) = rest.chars().next() else { break };
        rest = &rest[next.len_utf8()..];
        let unit =
            rest.get(..4).filter(|_| next == 'u').and_then(|digits| u16::from_str_radix(digits, 16).ok());
        if let Some(unit) = unit {
            rest = &rest[4..];
            units.push(unit);
            continue;
        }
        take_units(&mut units, &mut plain);
        plain.push(match next {
            'n' => '\n',
            'r' => '\r',
            't' => '\t',
            other => other,
        });
    }
    take_units(&mut units, &mut plain);
    plain
}

/// Puts the signs that units of UTF-16 are behind a text.
fn take_units(units: &mut Vec<u16>, text: &mut String) {
    text.extend(char::decode_utf16(units.drain(..)).map(|sign| sign.unwrap_or(char::REPLACEMENT_CHARACTER)));
}

/// Whether a sign does not show, or changes how others do: what steers a terminal, turns the direction of writing, or ends a
/// line.
pub fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200b}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}')
        || matches!(c, '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// Whether a spreadsheet would take a text for a formula.
pub fn is_formula(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r'])
}

/// A text in which every sign shows: the hidden ones as `\n`, `\r`, `\t` or, as in JSON, `\u001b`.
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\n' => shown.push_str("\\n"),
            '\r' => shown.push_str("\\r"),
            '\t' => shown.push_str("\\t"),
            c if is_hidden(c) => {
                for unit in c.encode_utf16(&mut [0; 2]) {
                    shown.push_str(&format!("\\u{unit:04x}"));
                }
            }
            c => shown.push(c),
        }
    }
    Cow::Owned(shown)
}

/// The node, the attribute and the component, if it says one, of an address `NODE:ATTRIBUTE.COMPONENT`; `None` where it
/// has no colon. The node stays as it is written, the attribute loses its quotes.
///
/// ```
/// use nimble_curve_scene::address::parts;
///
/// assert_eq!(parts("courier:hips:rotation.x"), Some(("courier:hips", "rotation".to_owned(), Some(0))));
/// assert_eq!(parts("lamp:\"inputs:glow\""), Some(("lamp", "inputs:glow".to_owned(), None)));
/// assert_eq!(parts("hips"), None);
/// ```
pub fn parts(address: &str) -> Option<(&str, String, Option<usize>)> {
    let colon = last_outside_quotes(address, ':')?;
    let (node, property) = (&address[..colon], &address[colon + 1..]);
    let component = last_outside_quotes(property, '.').and_then(|dot| {
        let axis = ["x", "y", "z", "w"].iter().position(|letter| *letter == &property[dot + 1..])?;
        Some((dot, axis))
    });
    Some(match component {
        Some((dot, axis)) => (node, unquoted(&property[..dot]), Some(axis)),
        None => (node, unquoted(property), None),
    })
}

/// The byte position of the last `wanted` that does not stand in quotes.
pub(super) fn last_outside_quotes(text: &str, wanted: char) -> Option<usize> {
    let (mut inside, mut escaped, mut found) = (false, false, None);
    for (position, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if inside => escaped = true,
            '"' => inside = !inside,
            c if c == wanted && !inside => found = Some(position),
            _ => {}
        }
    }
    found
}

/// Whether a name matches a pattern in which `*` stands for any run of characters and `?` for any one.
pub fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.as_bytes(), name.as_bytes());
    let (mut p, mut n) = (0, 0);
    // Where the last star stands, and how far it reaches.
    let mut star: Option<(usize, usize)> = None;
    let is_inside = |byte: u8| byte & 0xC0 == 0x80;
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, n));
                p += 1;
            }
            Some(b'?') => {
                p += 1;
                n += 1;
                while n < name.len() && is_inside(name[n]) {
                    n += 1;
                }
            }
            Some(byte) if *byte == name[n] => {
                p += 1;
                n += 1;
            }
            _ => match &mut star {
                Some((after, reach)) => {
                    *reach += 1;
                    (p, n) = (*after, *reach);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// A name without its namespaces: what follows the last colon.
pub fn without_namespace(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

/// A channel's address with the namespaces of its node left out: `face:smile` for `courier:face:smile`.
pub fn without_namespace_of_node(address: &str) -> &str {
    let Some(colon) = last_outside_quotes(address, ':') else { return address };
    match address[..colon].rfind(':') {
        Some(before) => &address[before + 1..],
        None => address,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_match_runs_of_characters() {
        for (pattern, name, expected) in [
            ("hips", "hips", true),
            ("hips", "hips2", false),
            ("*", "", true),
            ("*:foot_*", "courier:foot_l", true),
            ("*:foot_*", "foot_l", false),
            ("a*b*b", "ab", false),
            ("a*b*b", "abb", true),
            ("*_l", "arm_l_l", true),
            ("*arm_?", "forearm_l", true),
            ("*arm_?", "forearm_", false),
            ("?", "ü", true),
            ("??", "ü", false),
            ("a?*c", "abc", true),
            ("a?*c", "ac", false),
        ] {
            assert_eq!(matches(pattern, name), expected, "{pattern} {name}");
        }
    }
}
