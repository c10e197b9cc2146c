//! What `check` and `compare` take.

use std::path::PathBuf;

use clap::{Args, ValueHint};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::check::Code;

use crate::choice::ChoiceArgs;
use crate::files::InputArgs;
use crate::quantity;

/// Look for what would go wrong later: stray keys, flips, sliding feet, wrong units, names, layers, and more
#[derive(Args, Clone, Debug)]
pub struct Check {
    /// Files to look through; - is standard input
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// File with the rig that is to get the animation
    #[arg(long, value_name = "TARGET")]
    pub target: Option<PathBuf>,
    /// Profile of the application that gets it: a file, or curves, plain-curves, quaternions or samples
    #[arg(long, value_name = "PROFILE")]
    pub profile: Option<PathBuf>,
    /// Exit with code 1 where there is a finding of this level or above
    #[arg(long, value_name = "LEVEL", value_enum)]
    pub fail_on: Option<Level>,
    /// Codes to leave out, such as still-channel
    #[arg(long, value_name = "CODE", num_args = 1.., value_delimiter = ',', value_parser = code)]
    pub ignore: Vec<Code>,
    /// How many places of each finding to list; 0 lists all
    #[arg(long, value_parser = quantity::whole::<usize>(0, 1_000_000_000), value_name = "N", default_value_t = 4)]
    pub rows: usize,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// How bad findings are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Level {
    /// Notes, warnings and errors
    Note,
    /// Warnings and errors
    Warning,
    /// Errors only
    Error,
}

pub(super) fn code(text: &str) -> Result<Code, String> {
    let names = || Code::ALL.iter().map(|code| code.name());
    Code::ALL.into_iter().find(|code| code.name() == text).ok_or_else(|| {
        match nimble_curve_core::similar::similar(text, names()) {
            Some(name) => format!("there is no finding '{text}': did you mean '{name}'?"),
            None => format!("there is no finding '{text}': {}", names().collect::<Vec<_>>().join(", ")),
        }
    })
}

/// Put two files side by side, curve by curve and by motion; silent and code 0 where they are the same
#[derive(Args, Clone, Debug)]
pub struct Compare {
    /// One file; - is standard input
    #[arg(value_name = "A")]
    pub first: PathBuf,
    /// The other file
    #[arg(value_name = "B", id = "against")]
    pub second: PathBuf,
    /// Name map, where the nodes have other names
    #[arg(long, value_name = "MAP.toml")]
    pub map: Option<PathBuf>,
    /// The pose of the first rig that corresponds to one of the second, in place of its rest pose: FRAME, TAKE@FRAME, or a file
    #[arg(long, value_name = "POSE", allow_hyphen_values = true, value_hint = ValueHint::FilePath)]
    pub source_pose: Option<String>,
    /// The pose of the second rig that corresponds to that of the first: FRAME, TAKE@FRAME, or a file
    #[arg(long, value_name = "POSE", allow_hyphen_values = true, value_hint = ValueHint::FilePath)]
    pub target_pose: Option<String>,
    /// How far they may be apart in motion for code 0, channel by channel, or node by node in the world where the rigs do not rest alike; not at all where left out
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance)]
    pub tolerance: Option<Tolerance>,
    /// How far any node may be apart in the world, where the errors of channels add up
    #[arg(long, value_name = "LENGTH", value_parser = quantity::length, requires = "tolerance")]
    pub world: Option<f64>,
    /// Take of the first file; all where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Range of frames to compare; the first file's takes where left out
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    /// How many rows of each table to list; 0 lists all
    #[arg(long, value_parser = quantity::whole::<usize>(0, 1_000_000_000), value_name = "N", default_value_t = 6)]
    pub rows: usize,
    /// Draw the curves that are farthest apart: .png or .svg
    #[arg(long, value_name = "FILE")]
    pub plot: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}
