//! Names as the standard allows them.

use std::collections::HashSet;

/// A name as an identifier.
pub fn identifier(name: &str) -> String {
    let plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    match plain.starts_with(|c: char| c.is_ascii_digit()) || plain.is_empty() {
        true => format!("_{plain}"),
        false => plain,
    }
}

/// An attribute's name, its namespaces as they are and each part an identifier, that no other has taken.
pub fn free_name(name: &str, taken: &mut HashSet<String>) -> String {
    let wanted = name.split(':').map(identifier).collect::<Vec<_>>().join(":");
    let numbered = (2..).map(|number| format!("{wanted}_{number}"));
    let mut free = std::iter::once(wanted.clone()).chain(numbered).filter(|name| taken.insert(name.clone()));
    free.next().unwrap_or(wanted)
}

/// A text without the characters that would have to be escaped.
pub fn plain(text: &str) -> String {
    text.chars().map(|c| if matches!(c, '"' | '\\') || c.is_control() { '_' } else { c }).collect()
}
