//! What `convert` takes.

use std::path::PathBuf;

use clap::Args;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::space::UpAxis;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::table::TableTimes;

use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OverArgs, up_axis};
use crate::nodes::NodesArgs;
use crate::quantity;

/// Turn a file into another format; the endings say which
#[derive(Args, Clone, Debug)]
pub struct Convert {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// File to write, as with --output
    #[arg(value_name = "OUT", required_unless_present_any = ["output", "replace"], conflicts_with = "output")]
    pub out: Option<PathBuf>,
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub over: OverArgs,
    /// Takes to convert, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',')]
    pub take: Vec<String>,
    /// Range of frames, both ends included; keys are put in at its edges, keys outside it go
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    #[command(flatten)]
    pub nodes: NodesArgs,
    /// Unit of the result: m, cm, mm, in, ft, or the metres in one unit
    #[arg(long, value_name = "UNIT", value_parser = quantity::unit)]
    pub to_unit: Option<f64>,
    /// Up axis of the result: x, y or z
    #[arg(long, value_name = "AXIS", value_parser = up_axis)]
    pub to_up: Option<UpAxis>,
    /// Frame rate of the result; keys keep their time in seconds
    #[arg(long, value_name = "RATE")]
    pub to_rate: Option<FrameRate>,
    /// Put even scales of nodes into the lengths below them, as of an armature at 0.01: nothing moves, and nodes are no longer
    /// scaled. Meshes, which were made for the rig as it was, stay behind. BVH, which holds no scale, is written like that at any
    /// rate
    #[arg(long, conflicts_with = "nodes")]
    pub unscale: bool,
    /// Turn controllers into another type: curves, quaternions, constant, or samples (at the file's rate)
    #[arg(long, value_name = "TYPE", value_enum)]
    pub controllers: Option<Controllers>,
    /// How far curves may be from their source where they cannot be exact
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    /// Profile of the application that gets the result: a file, or curves, plain-curves, quaternions or samples
    #[arg(long, value_name = "PROFILE")]
    pub profile: Option<PathBuf>,
    /// Leave out the extra data that brings back what the format cannot hold by itself
    #[arg(long)]
    pub without_extra: bool,
    /// Write a layer that stands on this USD asset and says only how it moves: meshes and all else stay the asset's
    #[arg(long, value_name = "ASSET", conflicts_with = "skeletons")]
    pub over_asset: Option<PathBuf>,
    /// How far any node may be off in the world, where the errors of what is refitted add up: held by fitting closer
    #[arg(long, value_name = "LENGTH", value_parser = quantity::length)]
    pub world: Option<f64>,
    /// Write a matrix a frame for each node that moves, for readers that know nothing else: COLLADA only
    #[arg(long)]
    pub matrices: bool,
    /// Write rigs as skeletons with sampled animation, as game engines read them: USD only
    #[arg(long)]
    pub skeletons: bool,
    /// Write the numbers to a .bin file beside the document instead of into it: .gltf only
    #[arg(long)]
    pub buffer_beside: bool,
    /// What the times of a table count: .csv only
    #[arg(long, value_name = "WHAT", value_enum)]
    pub times: Option<RowTimes>,
    /// Names for the columns of the table that is read, as a TOML file of "column" = "what it is"
    #[arg(long, value_name = "FILE")]
    pub columns: Option<PathBuf>,
    /// Leave takes at their frames in formats that count seconds (glTF, COLLADA); else each starts at zero there
    #[arg(long)]
    pub keep_start: bool,
    /// Write what became of every channel to a JSON file
    #[arg(long, value_name = "FILE")]
    pub ledger: Option<PathBuf>,
    /// Print what became of every channel as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// A type of controller to turn others into.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Controllers {
    /// A curve a component; angles for rotations
    Curves,
    /// Quaternion keys for rotations, curves for anything else
    Quaternions,
    /// One value, where nothing moves
    Constant,
    /// A sample a frame
    Samples,
}

/// What the times of a table count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum RowTimes {
    /// Frames
    Frames,
    /// Seconds
    Seconds,
    /// Time code, HH:MM:SS:FF, from 00:00:00:00 at frame 0
    Timecode,
    /// Drop-frame time code, HH:MM:SS;FF, at 29.97 and 59.94 frames a second
    DropFrame,
}

impl From<RowTimes> for TableTimes {
    fn from(times: RowTimes) -> TableTimes {
        match times {
            RowTimes::Frames => TableTimes::Frames,
            RowTimes::Seconds => TableTimes::Seconds,
            RowTimes::Timecode => TableTimes::TimeCode,
            RowTimes::DropFrame => TableTimes::DropFrame,
        }
    }
}
