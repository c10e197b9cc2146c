//! What `rig` takes.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use nimble_curve_core::ops::Tolerance;

use crate::files::{InputArgs, OutputArgs};
use crate::quantity;

/// Show what drives what, solve joints that controls drive, and put joint motion onto controls
#[derive(Args, Clone, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Rig {
    #[command(subcommand)]
    pub action: Option<RigAction>,
    /// File whose rigs to show; - is standard input
    #[arg(required = true)]
    pub file: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Clone, Debug, Subcommand)]
pub enum RigAction {
    Solve(RigSolve),
    Match(RigMatch),
    Switch(RigSwitch),
    Sheet(RigSheet),
    Find(RigFind),
}

/// Find what drives what in an export that shows controls and joints moving, and write it as a rig sheet
#[derive(Args, Clone, Debug)]
pub struct RigFind {
    /// File with keys or samples on controls and joints; - is standard input
    pub file: PathBuf,
    /// Sheet to write; what was found is only shown where left out
    #[arg(short, long, value_name = "SHEET")]
    pub output: Option<PathBuf>,
    /// Replace the sheet where it is there already
    #[arg(long)]
    pub replace: bool,
    /// Which nodes are controls, by name, address, pattern with * or as @SET; those that the file says are where left out
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub controls: Vec<String>,
    /// Put on the sheet what is not sure as well
    #[arg(long)]
    pub with_unsure: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Write what drives what as a rig sheet: a short text, for any file of the character
#[derive(Args, Clone, Debug)]
pub struct RigSheet {
    /// File with constraints; - is standard input
    pub file: PathBuf,
    /// File to write; standard output where left out
    #[arg(short, long, value_name = "SHEET")]
    pub output: Option<PathBuf>,
    /// Replace the sheet where it is there already
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Give joints curves of their own, with few keys, so that they need no controls any more
#[derive(Args, Clone, Debug)]
pub struct RigSolve {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Nodes to solve, by name, address, pattern with * or as @SET; all that are driven where left out
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// How far joints may be off in the world where they cannot be exact
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.1deg,0.5mm,0.001")]
    pub tolerance: Tolerance,
    /// A sample on each frame in place of keys
    #[arg(long)]
    pub sampled: bool,
    /// Keys on every so many frames, whatever lies between; how far off that is is printed
    #[arg(long, value_name = "FRAMES", conflicts_with = "sampled", value_parser = quantity::whole::<u32>(1, 100_000))]
    pub step: Option<u32>,
    /// Range of frames, both ends included; keys are put in at its edges, keys outside it go
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    /// Leave controls in, with their keys; they drive nothing any more
    #[arg(long)]
    pub keep_controls: bool,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Put the motion of joints onto the controls that drive them
#[derive(Args, Clone, Debug)]
pub struct RigMatch {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Nodes whose motion to put onto controls, by name, address, pattern with * or as @SET; all that are driven where left out
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// What limbs go by in the result: their goals (ik), controls of their joints (fk), or as their switches are
    #[arg(long, value_enum, default_value_t = LimbArg::AsIs)]
    pub limb: LimbArg,
    /// Where keys stand: where the joints have them (same), or also where the tolerance asks for more (bounded)
    #[arg(long, value_enum, default_value_t = KeysArg::Same)]
    pub keys: KeysArg,
    /// How far joints may be off in the world, with bounded keys
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.1deg,0.5mm,0.001")]
    pub tolerance: Tolerance,
    /// Bounded keys may stand between frames
    #[arg(long)]
    pub between_frames: bool,
    /// Other controls on the same joints rest; else they keep their curves
    #[arg(long)]
    pub clear_others: bool,
    /// Put it on a new additive layer of this name, over what controls have
    #[arg(long, value_name = "NAME", conflicts_with = "clear_others")]
    pub layer: Option<String>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum LimbArg {
    /// As their switches are
    AsIs,
    /// Their goals and poles
    Ik,
    /// The controls of their joints
    Fk,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KeysArg {
    /// Where the joints have keys, and nowhere else
    Same,
    /// There, and where the tolerance asks for more
    Bounded,
}

/// Let a limb go by its goal or by the controls of its joints, or a control by another space, for some frames: nothing moves
#[derive(Args, Clone, Debug)]
pub struct RigSwitch {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// The limb, by its name or one of its joints
    #[arg(
        long,
        value_name = "NAME",
        requires = "to",
        required_unless_present = "control",
        conflicts_with = "control"
    )]
    pub limb: Option<String>,
    /// What the limb goes by: its goal (ik), or the controls of its joints (fk)
    #[arg(long, value_enum)]
    pub to: Option<KindArg>,
    /// The control, by name or address
    #[arg(long, value_name = "NODE", requires = "space")]
    pub control: Option<String>,
    /// The option of its menu of spaces
    #[arg(long, requires = "control")]
    pub space: Option<String>,
    /// From which frame on, or from which to which
    #[arg(long, value_name = "FIRST[:LAST]", value_parser = quantity::frames_from, allow_hyphen_values = true)]
    pub frames: (i64, Option<i64>),
    /// Go over in this many frames at both ends; else at once
    #[arg(long, value_name = "FRAMES", default_value_t = 0, value_parser = quantity::whole::<i64>(0, 100_000))]
    pub over: i64,
    /// The take; the only one where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Keys may stand between frames
    #[arg(long)]
    pub between_frames: bool,
    /// How far anything may be off in the world between frames; at whole frames a fiftieth of it
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.1deg,0.5mm,0.001")]
    pub tolerance: Tolerance,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KindArg {
    /// Its goal and pole
    Ik,
    /// The controls of its joints
    Fk,
}
