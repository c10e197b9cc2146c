//! Errors of readers and writers: which file, where in it, and what to do.

use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Where in a file something is wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A line, from 1.
    Line(usize),
    /// A part of the scene, by name.
    Part(String),
    /// The file as a whole.
    Whole,
}

/// A file that cannot be read or written.
#[derive(Debug, Error)]
pub enum FormatError {
    /// The system could not read it.
    #[error("{}: cannot be read: {}", path.display(), reason(source))]
    Read {
        /// The file.
        path: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
    /// The system could not write it; nothing is left behind.
    #[error("{}: cannot be written: {}", path.display(), reason(source))]
    Write {
        /// The file.
        path: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
    /// Its contents are wrong.
    #[error("{}", located(path, place, message))]
    Content {
        /// The file.
        path: PathBuf,
        /// Where in it.
        place: Place,
        /// What is wrong and what to do.
        message: String,
    },
    /// Neither its name nor its contents tell which format it has.
    #[error("{}: not an animation file that can be read: use one of {known}", path.display())]
    UnknownFormat {
        /// The file.
        path: PathBuf,
        /// The endings that are known.
        known: String,
    },
    /// The format cannot hold the scene.
    #[error("{}: {message}", path.display())]
    CannotHold {
        /// The file.
        path: PathBuf,
        /// What it cannot hold and what to do.
        message: String,
    },
}

/// What is wrong in a file's contents, before the file is known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Where.
    pub place: Place,
    /// What is wrong and what to do.
    pub message: String,
}

impl Fault {
    /// A fault on a line, from 1.
    pub fn on_line(line: usize, message: impl Into<String>) -> Fault {
        Fault { place: Place::Line(line), message: message.into() }
    }

    /// A fault in a named part.
    pub fn in_part(part: impl Into<String>, message: impl fmt::Display) -> Fault {
        Fault { place: Place::Part(part.into()), message: message.to_string() }
    }

    /// A fault of the whole file.
    pub fn of_whole(message: impl Into<String>) -> Fault {
        Fault { place: Place::Whole, message: message.into() }
    }

    /// The error for a file.
    pub fn in_file(self, path: &Path) -> FormatError {
        FormatError::Content { path: path.to_owned(), place: self.place, message: self.message }
    }
}

fn located(path: &Path, place: &Place, message: &str) -> String {
    match place {
        Place::Line(line) => format!("{}:{line}: {message}", path.display()),
        Place::Part(part) => format!("{}: {part}: {message}", path.display()),
        Place::Whole => format!("{}: {message}", path.display()),
    }
}

/// The system's reason without its number.
pub fn reason(error: &io::Error) -> String {
    let text = error.to_string();
    match text.find(" (os error") {
        Some(end) => text[..end].to_lowercase(),
        None => text,
    }
}
