//! The command line of `clips`.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use nimble_curve_core::ops::Tolerance;

use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OutputArgs, OverArgs};
use crate::nodes::NodesArgs;
use crate::quantity;

/// Named ranges: list them, find them, cut them out, put them together; ranges include both ends
#[derive(Args, Clone, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Clips {
    #[command(subcommand)]
    pub action: Option<ClipsAction>,
    /// File whose clips to list; - is standard input
    #[arg(required = true)]
    pub file: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Clone, Debug, Subcommand)]
pub enum ClipsAction {
    Find(ClipsFind),
    Name(ClipsName),
    Split(ClipsSplit),
    Join(ClipsJoin),
    Sheet(ClipsSheet),
    Rename(ClipsRename),
    Shift(ClipsShift),
    Range(ClipsRange),
    Trim(ClipsTrim),
    Stretch(ClipsStretch),
    Add(ClipsAdd),
    Extract(ClipsExtract),
}

/// Propose clips where none are named: between holds and jumps of the pose
#[derive(Args, Clone, Debug)]
pub struct ClipsFind {
    /// File to look through; - is standard input
    pub file: PathBuf,
    /// Where the proposal goes: a list (.csv) to be edited and given to name, or an animation file with the clips in it
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Take to look through; all where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Name clips as a list says: a CSV file with the columns name, first, last
#[derive(Args, Clone, Debug)]
pub struct ClipsName {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// The list; it replaces the clips that are there
    #[arg(long, value_name = "LIST.csv")]
    pub list: PathBuf,
    /// Take whose clips they are, where the list names none and there are several
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Write a file a clip: keys put in at the edges, nothing outside, each starting at the same frame
#[derive(Args, Clone, Debug)]
pub struct ClipsSplit {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// Folder for the files, made where there is none; or folder and name in one, such as 'game/{clip}_{frames}.glb'
    #[arg(short, long, value_name = "DIR")]
    pub output: PathBuf,
    /// Names of the files, with {scene}, {take}, {clip}, {folder}, {frames}, {first}, {last}, {rate}, {index:03} filled in,
    /// and a case where asked for ({clip:lower}, {clip:snake}); an ending says the format, the input's where left out
    #[arg(long, value_name = "NAME", default_value = "{scene}_{clip}")]
    pub name: String,
    /// Frame at which each file starts; where it was, with keep
    #[arg(long, value_name = "FRAME", default_value = "1", value_parser = start, allow_negative_numbers = true)]
    pub start: Start,
    /// Clips to write, by name or pattern with *; all where left out
    #[arg(long, value_name = "CLIP", num_args = 1.., value_delimiter = ',')]
    pub clip: Vec<String>,
    #[command(flatten)]
    pub nodes: NodesArgs,
    /// How far controllers that cannot be cut exactly may be from their source
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    /// Replace files that are there
    #[arg(long)]
    pub replace: bool,
    /// Write files even where they are farther from their source than they may be
    #[arg(long)]
    pub accept: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Where the files of a split start.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Start {
    Keep,
    At(f64),
}

fn start(text: &str) -> Result<Start, String> {
    if text == "keep" {
        return Ok(Start::Keep);
    }
    let frame = text.parse::<f64>().ok().filter(|frame| frame.is_finite());
    frame.map(Start::At).ok_or_else(|| format!("'{text}' is not a frame: write a number, or keep"))
}

/// Put takes of several files on one timeline, each a named clip
#[derive(Args, Clone, Debug)]
pub struct ClipsJoin {
    /// Files in their order; the rig is the first one's
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Frames between clips, in which the last pose is held
    #[arg(long, value_parser = quantity::whole::<u32>(0, 1_000_000_000), value_name = "N", default_value_t = 0)]
    pub gap: u32,
    /// Frame at which the timeline starts; that of the first file where left out
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", allow_negative_numbers = true)]
    pub start: Option<f64>,
    /// Let each clip go on along the ground where the one before it ended, turned by what those before it turned
    #[arg(long)]
    pub go_on: bool,
    /// Name of the take
    #[arg(long, value_name = "NAME", default_value = "timeline")]
    pub name: String,
    /// How far controllers that have to change may be from their source
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Write the list that is handed over: name, file, range, rate, loops, travel, turn, notes
#[derive(Args, Clone, Debug)]
pub struct ClipsSheet {
    /// Files to list
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Sheet to write: .csv, .json or .md; '{stem}.csv' writes one for each file
    #[arg(short, long, value_name = "SHEET")]
    pub output: PathBuf,
    /// Columns, of: name, file, take, first, last, frames, seconds, rate, keys, moving, loops, jump, travel, way, turn, climb, note
    #[arg(
        long,
        value_name = "COLUMN",
        value_delimiter = ',',
        default_value = "name,file,first,last,frames,rate,loops,travel,turn,note"
    )]
    pub columns: Vec<String>,
    /// Sheet of the markers: .csv, .json or .md
    #[arg(long, value_name = "SHEET")]
    pub markers: Option<PathBuf>,
    /// Leave names in .csv that begin like formulas as they are; else they begin with an apostrophe, as spreadsheets may act on them
    #[arg(long)]
    pub formulas: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Give clips, or takes, other names: 'walk_*' 'gait_{*}' renames dozens at once
#[derive(Args, Clone, Debug)]
pub struct ClipsRename {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// The clip, or the take where there is no such clip, by name or pattern with *
    #[arg(value_name = "OLD")]
    pub old: String,
    /// The new name: {*} is what the star stands for; {clip}, {take}, {frames}, {first}, {last}, {rate}, {index:03} are
    /// filled in
    #[arg(value_name = "NEW")]
    pub new: String,
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE", required_unless_present_any = ["replace", "dry_run"])]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub over: OverArgs,
    /// Show what would be called what, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Move takes so that they start at a frame, all parts in step; or some of their channels by some frames
#[derive(Args, Clone, Debug)]
pub struct ClipsShift {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// Frame at which each take starts
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", allow_negative_numbers = true, required_unless_present = "by")]
    pub to: Option<f64>,
    /// How many frames later, or earlier where below zero
    #[arg(long, value_parser = quantity::frame_number, value_name = "N", allow_negative_numbers = true, conflicts_with = "to")]
    pub by: Option<f64>,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    /// Takes to move, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',')]
    pub take: Vec<String>,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Say over which frames takes go; keys, clips and markers stay where they are
#[derive(Args, Clone, Debug)]
pub struct ClipsRange {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// From the first to the last key of any rig
    #[arg(long, required_unless_present = "frames")]
    pub to_keys: bool,
    /// These frames, both ends included
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true, conflicts_with = "to_keys")]
    pub frames: Option<(f64, f64)>,
    /// Takes that are meant, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',')]
    pub take: Vec<String>,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Drop the keys outside each take's range; keys are put in at its edges
#[derive(Args, Clone, Debug)]
pub struct ClipsTrim {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// How far controllers that cannot be cut exactly may be from their source
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Stretch a take to a number of frames, both ends counted
#[derive(Args, Clone, Debug)]
pub struct ClipsStretch {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// How many frames
    #[arg(long, value_name = "N", value_parser = quantity::whole::<i64>(2, 1_000_000_000))]
    pub to_frames: i64,
    /// Take to stretch, where there are several
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Put the takes of other files into a library: one file that holds many takes in folders
#[derive(Args, Clone, Debug)]
pub struct ClipsAdd {
    /// The library; its rig stays as it is
    #[arg(value_name = "LIBRARY")]
    pub library: PathBuf,
    /// Files with takes of the same rig
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Folder of the library for them, parts separated by /
    #[arg(long, value_name = "FOLDER")]
    pub folder: Option<String>,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Take takes out of a library, into a file of their own
#[derive(Args, Clone, Debug)]
pub struct ClipsExtract {
    /// The library; - is standard input
    #[arg(value_name = "LIBRARY")]
    pub library: PathBuf,
    /// Takes, by name, by folder/name, or pattern with *
    #[arg(required = true, value_name = "NAME")]
    pub takes: Vec<String>,
    #[command(flatten)]
    pub output: OutputArgs,
    #[command(flatten)]
    pub input: InputArgs,
}
