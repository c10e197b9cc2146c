//! The command lines of `root` and `cycle`.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use nimble_curve_core::ops::Tolerance;

use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OutputArgs};
use crate::quantity;

/// Root motion: lifted from the hips to a root, taken out, put back, and shown
#[derive(Args, Clone, Debug)]
pub struct Root {
    #[command(subcommand)]
    pub action: RootAction,
}

#[derive(Clone, Debug, Subcommand)]
pub enum RootAction {
    Lift(RootLift),
    InPlace(RootInPlace),
    Restore(RootRestore),
    Show(RootShow),
    Centre(RootCentre),
}

/// What of the motion is meant.
#[derive(Args, Clone, Debug)]
pub struct RootParts {
    /// Leave the turn about the up axis where it is
    #[arg(long)]
    pub no_turn: bool,
    /// Take the height along
    #[arg(long)]
    pub height: bool,
    /// Speed of the travel that goes: as it is, or constant, with what is uneven left on the hips
    #[arg(long, value_enum, default_value_t = Speed::AsIs)]
    pub speed: Speed,
    /// Node that carries the body; the hips, by their name, where left out
    #[arg(long, value_name = "NODE")]
    pub node: Option<String>,
    /// How far rotations that need another order may be from their source
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.01deg,0.05mm,0.001")]
    pub tolerance: Tolerance,
}

/// What travel goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Speed {
    /// As it is
    AsIs,
    /// One speed from start to end
    Constant,
}

/// Move travel and turn from the hips to a root above them, made where there is none; the motion in the world stays
#[derive(Args, Clone, Debug)]
pub struct RootLift {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub parts: RootParts,
    /// Name of a root that has to be made
    #[arg(long, value_name = "NAME", default_value = "root")]
    pub root: String,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Take travel and turn out: motion in place; they stay in the file with weight 0
#[derive(Args, Clone, Debug)]
pub struct RootInPlace {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub parts: RootParts,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Put back what in-place took out, exactly
#[derive(Args, Clone, Debug)]
pub struct RootRestore {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Show where each clip goes: distance, speed and turn, and the path from above
#[derive(Args, Clone, Debug)]
pub struct RootShow {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// Picture of the path from above: .png or .svg
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Take to show; all where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Put a node at the origin of the ground: a prop where it is to be attached
#[derive(Args, Clone, Debug)]
pub struct RootCentre {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// The node
    #[arg(value_name = "NODE")]
    pub node: String,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Take its travel off at every frame, not only that of the first one
    #[arg(long)]
    pub throughout: bool,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Loops: found, closed, written out
#[derive(Args, Clone, Debug)]
pub struct Cycle {
    #[command(subcommand)]
    pub action: CycleAction,
}

#[derive(Clone, Debug, Subcommand)]
pub enum CycleAction {
    Find(CycleFind),
    Close(CycleClose),
    Extend(CycleExtend),
}

/// Show which takes and clips loop, and where a loop could be cut from a longer take
#[derive(Args, Clone, Debug)]
pub struct CycleFind {
    /// File to look through; - is standard input
    pub file: PathBuf,
    /// How many ranges inside each take to propose
    #[arg(long, value_parser = quantity::whole::<usize>(0, 1_000_000_000), value_name = "N", default_value_t = 3)]
    pub rows: usize,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Which range is meant.
#[derive(Args, Clone, Debug)]
pub struct Which {
    /// Take, where there are several
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Range of frames, both ends included: the last is the first again; the take's where left out
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    /// Clip whose range is meant
    #[arg(long, value_name = "NAME", conflicts_with = "frames")]
    pub clip: Option<String>,
    /// How far controllers that have to change may be from their source
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
}

/// Make the ends meet, in value and in slope, by a small correction
#[derive(Args, Clone, Debug)]
pub struct CycleClose {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Frames over which the ends are blended; 0 changes the last key alone
    #[arg(long, value_parser = quantity::whole::<u32>(0, 1_000_000_000), value_name = "N", default_value_t = 8)]
    pub blend: u32,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Write a loop out, round after round, travel going on
#[derive(Args, Clone, Debug)]
pub struct CycleExtend {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// How many rounds
    #[arg(long, value_name = "N", value_parser = quantity::whole::<u32>(1, 10_000))]
    pub rounds: u32,
    #[command(flatten)]
    pub which: Which,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}
