//! One change as the list of a mutation tool has it.

use std::hash::Hasher;

use serde::Deserialize;

/// A change of one place in one file.
#[derive(Clone, Debug, Deserialize)]
pub struct Change {
    /// The file, from the root of the workspace.
    pub file: String,
    /// What is changed.
    pub genre: Genre,
    /// What stands there instead; nothing where something is taken away.
    pub replacement: String,
    /// Where.
    pub span: Span,
    /// The change in words, with its place.
    pub name: String,
}

/// What kind of thing is changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
pub enum Genre {
    /// An operator between two numbers or conditions: the span is the operator's.
    BinaryOperator,
    /// A sign or a `!` that goes: the span is the operator's.
    UnaryOperator,
    /// A function that returns at once: the span is that of its statements.
    FnValue,
    /// An arm that goes: the span is the arm's.
    MatchArm,
    /// An arm's guard that always or never holds: the span is the guard's.
    MatchArmGuard,
    /// A field that is taken from the base instead: the span is the field's.
    StructField,
}

/// From where to where: the end is just behind.
#[derive(Clone, Copy, Debug, Deserialize)]
pub struct Span {
    /// The first character.
    pub start: Place,
    /// The first character that is no more part of it.
    pub end: Place,
}

/// A place in a file, both counted from one, columns in characters.
#[derive(Clone, Copy, Debug, Deserialize)]
pub struct Place {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl Change {
    /// Reads one change.
    ///
    /// # Errors
    /// Where the text is not a change of that list.
    pub fn from_json(text: &str) -> serde_json::Result<Change> {
        serde_json::from_str(text)
    }
}

/// The changes in an order that looks random and is the same each time, until the code itself changes.
pub fn shuffled(mut changes: Vec<Change>) -> Vec<Change> {
    changes.sort_by_cached_key(|change| {
        // Its keys are fixed, and the order need be the same on one version of the code only.
        #[expect(deprecated, reason = "the one hasher of the standard library with keys that do not change")]
        let mut hasher = std::hash::SipHasher::new();
        hasher.write(change.name.as_bytes());
        hasher.finish()
    });
    changes
}
