//! Everything that can end a command, as one sentence.

use std::io;
use std::path::Path;
use std::process::ExitCode;

use nimble_curve_core::evaluate::EvaluateError;
use nimble_curve_core::ops::budget::TooMany;
use nimble_curve_core::ops::carry::CarryError;
use nimble_curve_core::ops::clips::JoinError;
use nimble_curve_core::ops::control_rig::SolveError;
use nimble_curve_core::ops::cycle::CycleError;
use nimble_curve_core::ops::layers::LayersError;
use nimble_curve_core::ops::place::PlaceError;
use nimble_curve_core::ops::profile::FitError;
use nimble_curve_core::ops::reorder::ReorderError;
use nimble_curve_core::ops::retime::RetimeError;
use nimble_curve_core::ops::root::RootError;
use nimble_curve_core::ops::select::SelectError;
use nimble_curve_core::ops::unbake::UnbakeError;
use nimble_curve_core::similar::similar;
use nimble_curve_formats::FormatError;
use thiserror::Error;

/// Why a command ended without a result.
#[derive(Debug, Error)]
pub enum Failure {
    #[error(transparent)]
    Format(#[from] FormatError),
    #[error(transparent)]
    Carry(#[from] CarryError),
    #[error(transparent)]
    Join(#[from] JoinError),
    #[error(transparent)]
    Root(#[from] RootError),
    #[error(transparent)]
    Cycle(#[from] CycleError),
    #[error(transparent)]
    Place(#[from] PlaceError),
    #[error(transparent)]
    Retime(#[from] RetimeError),
    #[error(transparent)]
    Reorder(#[from] ReorderError),
    #[error(transparent)]
    Layers(#[from] LayersError),
    #[error(transparent)]
    Solve(#[from] SolveError),
    #[error(transparent)]
    Fit(#[from] FitError),
    #[error(transparent)]
    TooMany(#[from] TooMany),
    #[error(transparent)]
    Select(#[from] SelectError),
    #[error(transparent)]
    Unbake(#[from] UnbakeError),
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    #[error("cannot print: {0}")]
    Print(#[from] io::Error),
    #[error("{0}")]
    Other(String),
    /// A folder or drive that does not do what it should: it may do so later.
    #[error("{0}")]
    Hindered(String),
    /// Somebody else is at it.
    #[error("{0}")]
    Busy(String),
    /// Several sentences, each with its place.
    #[error("{}", .0.join("; "))]
    Several(Vec<String>),
}

/// What the program ends with where a folder or drive failed, or something is not done yet: worth another try.
pub const TRY_AGAIN: u8 = 3;
/// What it ends with where somebody else is at it.
pub const BUSY: u8 = 4;

impl Failure {
    /// What the program ends with.
    pub fn code(&self) -> ExitCode {
        match self {
            Failure::Hindered(_) => ExitCode::from(TRY_AGAIN),
            Failure::Busy(_) => ExitCode::from(BUSY),
            _ => ExitCode::FAILURE,
        }
    }

    /// A sentence of its own.
    pub fn new(sentence: impl Into<String>) -> Failure {
        Failure::Other(sentence.into())
    }

    /// A name that a file does not have, with one that it has and that is near.
    pub fn unknown<'a>(what: &str, name: &str, names: impl Iterator<Item = &'a str>, file: &Path) -> Failure {
        let hint = similar(name, names).map_or(String::new(), |name| format!(": did you mean '{name}'?"));
        Failure::new(format!("{}: there is no {what} '{name}'{hint}", file.display()))
    }

    /// The sentences, most often one.
    pub fn sentences(&self) -> Vec<String> {
        match self {
            Failure::Several(sentences) => sentences.clone(),
            other => vec![other.to_string()],
        }
    }

    /// Whether a place failed, and not what was read: the same may be done later.
    pub fn is_of_place(&self) -> bool {
        matches!(
            self,
            Failure::Hindered(_) | Failure::Format(FormatError::Read { .. } | FormatError::Write { .. })
        )
    }

    /// Whether whoever read our output stopped reading, which is no error.
    pub fn is_closed_pipe(&self) -> bool {
        let error = match self {
            Failure::Print(error) => error,
            Failure::Format(FormatError::Write { path, source }) if path.as_os_str() == "-" => source,
            _ => return false,
        };
        error.kind() == io::ErrorKind::BrokenPipe
    }
}
