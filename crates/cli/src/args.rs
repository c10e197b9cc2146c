//! The command line as it is typed; what the options mean is documented here and nowhere else.

mod clips;
mod root;
mod run;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueHint};
use nimble_curve_core::fit::Handles;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::check::Code;
use nimble_curve_core::ops::place::Placement;
use nimble_curve_core::ops::reorder::NewOrder;
use nimble_curve_core::rotation::RotationOrderError;
use nimble_curve_core::space::UpAxis;
use nimble_curve_core::time::FrameRate;

use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OutputArgs, OverArgs, up_axis};
use crate::quantity;

pub use self::clips::*;
pub use self::root::*;
pub use self::run::*;

/// Moves editable keyframe curves between rigs and applications.
#[derive(Debug, Parser)]
#[command(name = "nimble-curve", version, arg_required_else_help = true, infer_subcommands = false)]
#[command(
    after_help = "Start with: nimble-curve demo\n\nQuantities carry units: 0.1deg, 0.5mm, 2%. Exit codes: 0 done, 1 failed, 2 wrong usage."
)]
pub struct Cli {
    /// Print tables as wide as they are, also where the terminal is narrower
    #[arg(long, global = true, display_order = 1000)]
    pub wide: bool,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Clone, Debug, Subcommand)]
pub enum Command {
    Inspect(Inspect),
    Convert(Convert),
    Unbake(Unbake),
    Bake(Bake),
    Reorder(Reorder),
    Map(Map),
    Carry(Box<Carry>),
    Layers(Layers),
    Clips(Clips),
    Root(Root),
    Cycle(Cycle),
    Check(Check),
    Compare(Compare),
    Plot(Plot),
    Run(Run),
    Demo(Demo),
    /// Print the JSON Schema of .ncurve files, or of recipes
    Schema {
        /// Of what
        #[arg(value_enum, default_value_t = SchemaOf::Ncurve)]
        of: SchemaOf,
    },
    Man(Man),
    /// Print completions for a shell: bash, zsh, fish, elvish or powershell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Show what is in a file: rig, takes, ranges, controllers, and what moves how far
#[derive(Args, Clone, Debug)]
pub struct Inspect {
    /// File to look into; - is standard input
    pub file: PathBuf,
    /// Draw the hierarchy
    #[arg(long)]
    pub tree: bool,
    /// How many of the channels that move most to list
    #[arg(long, value_parser = quantity::whole::<usize>(0, 1_000_000_000), value_name = "N", default_value_t = 8)]
    pub rows: usize,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

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
    /// Unit of the result: m, cm, mm, in, ft, or the metres in one unit
    #[arg(long, value_name = "UNIT", value_parser = quantity::unit)]
    pub to_unit: Option<f64>,
    /// Up axis of the result: x, y or z
    #[arg(long, value_name = "AXIS", value_parser = up_axis)]
    pub to_up: Option<UpAxis>,
    /// Frame rate of the result; keys keep their time in seconds
    #[arg(long, value_name = "RATE")]
    pub to_rate: Option<FrameRate>,
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
    /// Write rigs as skeletons with sampled animation, as game engines read them: USD only
    #[arg(long)]
    pub skeletons: bool,
    /// Write the numbers to a .bin file beside the document instead of into it: .gltf only
    #[arg(long)]
    pub buffer_beside: bool,
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

/// Turn samples, and curves with a key on every frame, into sparse curves within a bound
#[derive(Args, Clone, Debug)]
pub struct Unbake {
    /// File with baked animation; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// How far the result may be from the samples: angle of rotations, distance of positions, difference of numbers
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.1deg,0.5mm,0.001")]
    pub tolerance: Tolerance,
    /// Another tolerance for some channels, by address or pattern with *: '*:foot_*:rotation=0.02deg'
    #[arg(long, value_name = "PATTERN=Q,…", value_parser = tolerance_for)]
    pub tolerance_for: Vec<(String, String)>,
    /// How far any joint may be off in world space; errors at the hips move the feet
    #[arg(long, value_name = "LENGTH", value_parser = quantity::length)]
    pub world: Option<f64>,
    /// Nodes that must not move by more than --world, peak to peak, while they stand still: feet, a hand on a rail
    #[arg(long, value_name = "NODE", num_args = 1.., value_delimiter = ',', requires = "world")]
    pub planted: Vec<String>,
    /// Which key times are common
    #[arg(long, value_enum, default_value_t = Keys::Free)]
    pub keys: Keys,
    /// Tangents of recovered keys: plain slopes, or weighted handles where the samples were baked from such
    #[arg(long, value_enum, default_value_t = Tangents::Plain)]
    pub tangents: Tangents,
    /// What rotations become
    #[arg(long, value_enum, default_value_t = Rotations::Angles)]
    pub rotations: Rotations,
    /// Order in which rotations are fitted: one of the six, or best; their own where left out
    #[arg(long, value_name = "ORDER", value_parser = new_order)]
    pub order: Option<NewOrder>,
    /// Frames that must become keys
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", num_args = 1.., value_delimiter = ',', allow_negative_numbers = true)]
    pub keep: Vec<f64>,
    /// Range to unbake, both ends included; outside it every sample stays a key
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    /// Fit sparse curves anew, too, not only samples and keys on every frame
    #[arg(long)]
    pub refit: bool,
    /// Leave out how many keys other tolerances would give
    #[arg(long)]
    pub no_other_tolerances: bool,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

fn tolerance_for(text: &str) -> Result<(String, String), String> {
    let (pattern, tolerance) = text
        .rsplit_once('=')
        .ok_or_else(|| format!("'{text}' is not PATTERN=Q: write it like '*:foot_*:rotation=0.02deg'"))?;
    quantity::tolerance(tolerance)?;
    Ok((pattern.to_owned(), tolerance.to_owned()))
}

/// Which key times are common.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Keys {
    /// Each channel has its own: the fewest keys
    Free,
    /// One set a node
    Node,
    /// One set for all nodes: poses stay poses
    Pose,
}

/// Tangents of keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Tangents {
    /// Slopes: handles of a third
    Plain,
    /// Handles of their own length
    Weighted,
}

impl From<Tangents> for Handles {
    fn from(tangents: Tangents) -> Handles {
        match tangents {
            Tangents::Plain => Handles::Plain,
            Tangents::Weighted => Handles::Weighted,
        }
    }
}

/// Turn curves into samples
#[derive(Args, Clone, Debug)]
pub struct Bake {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Samples a second; the file's rate where left out
    #[arg(long, value_name = "RATE")]
    pub to_rate: Option<FrameRate>,
    /// Every so many frames, and the last one; above 1 this gives keys with straight lines between them
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = quantity::whole::<u32>(1, 4294967295))]
    pub step: u32,
    /// Range to bake, both ends included; each take's where left out
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Give nodes another rotation order without flips, or see which would be best
#[derive(Args, Clone, Debug)]
#[command(group = clap::ArgGroup::new("what").required(true))]
pub struct Reorder {
    /// File to read; - is standard input
    pub file: PathBuf,
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE", required_unless_present = "survey")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub over: OverArgs,
    /// The new order: xyz, xzy, yxz, yzx, zxy or zyx (the axis that acts first comes first), or best for each node's own
    #[arg(long, value_name = "ORDER", group = "what", value_parser = new_order)]
    pub to: Option<NewOrder>,
    /// Show how near each node comes to the gimbal lock of each order, and how many keys the order needs; write nothing
    #[arg(long, group = "what", conflicts_with = "output")]
    pub survey: bool,
    /// Keep the orders, and repair channels that flip between neighbouring keys
    #[arg(long, group = "what")]
    pub unwind: bool,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    /// The largest angle between source and result
    #[arg(long, value_name = "ANGLE", value_parser = quantity::angle, default_value = "0.05deg")]
    pub tolerance: f64,
    /// Tangents of keys that change: plain slopes, or weighted handles where those save keys; where left out they stay as
    /// they are, or become weighted where plain ones would need more than half as many key times again
    #[arg(long, value_enum)]
    pub tangents: Option<Tangents>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

fn new_order(text: &str) -> Result<NewOrder, String> {
    if text == "best" {
        return Ok(NewOrder::Best);
    }
    text.parse().map(NewOrder::To).map_err(|error: RotationOrderError| format!("{error}, or best"))
}

/// Propose which node of one rig goes to which of another, as a file to be edited
#[derive(Args, Clone, Debug)]
pub struct Map {
    /// File with the rig that motion comes from; - is standard input
    pub source: PathBuf,
    /// File with the rig that it goes to
    pub target: PathBuf,
    /// Map to write; guesses stand in it as comments
    #[arg(short, long, value_name = "MAP.toml")]
    pub output: Option<PathBuf>,
    /// Allow the map to be replaced where it is there already
    #[arg(long)]
    pub replace: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Retarget: put the animation of one rig onto another
#[derive(Args, Clone, Debug)]
pub struct Carry {
    /// File with the animation; - is standard input
    pub source: PathBuf,
    /// File with the rig that gets it
    #[arg(long, value_name = "TARGET")]
    pub target: PathBuf,
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE", required_unless_present = "dry_run")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub over: OverArgs,
    /// Name map: a TOML file that says which node goes to which, as map writes it
    #[arg(long, value_name = "MAP.toml")]
    pub map: Option<PathBuf>,
    /// The largest errors: of a joint's world rotation relative to rest, of translations, of numbers
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.1deg,0.5mm,0.001")]
    pub tolerance: Tolerance,
    /// Tangents of rotations that change: plain slopes, or weighted handles where those save keys; where left out they stay
    /// as they are, or become weighted where plain ones would need more than half as many key times again and the profile
    /// has such
    #[arg(long, value_enum)]
    pub tangents: Option<Tangents>,
    /// Scale of travel, in metres: a number, or hips for the ratio of the hip heights
    #[arg(long, value_name = "FACTOR", default_value = "hips", value_parser = travel_scale)]
    pub scale: TravelScale,
    /// What feet do while they stand: free, as the legs turn, or hold the place where they were planted, scaled
    #[arg(long, value_enum, default_value_t = Feet::Free)]
    pub feet: Feet,
    /// Takes to carry, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',', help_heading = "What to carry")]
    pub take: Vec<String>,
    /// Range of frames, both ends included; keys are put in at its edges, keys outside it go
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true, help_heading = "What to carry")]
    pub frames: Option<(f64, f64)>,
    /// Nodes or channels of either side, by pattern with * or as @SET; all where left out
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',', help_heading = "What to carry")]
    pub only: Vec<String>,
    /// Nodes or channels of either side that stay behind, by pattern with * or as @SET
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',', help_heading = "What to carry")]
    pub except: Vec<String>,
    /// Carry one pose: that of this frame
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", allow_negative_numbers = true, conflicts_with_all = ["frames", "to_frames", "flatten"], help_heading = "What to carry")]
    pub pose: Option<f64>,
    /// Write layers together before they are carried
    #[arg(long, help_heading = "What to carry")]
    pub flatten: bool,
    /// The pose of the source that the target's corresponds to, in place of its rest pose: FRAME, TAKE@FRAME, or a file
    #[arg(long, value_name = "POSE", allow_hyphen_values = true, value_hint = ValueHint::FilePath, help_heading = "Rigs")]
    pub source_pose: Option<String>,
    /// The pose of the target that the source's corresponds to: FRAME, TAKE@FRAME, or a file
    #[arg(long, value_name = "POSE", allow_hyphen_values = true, value_hint = ValueHint::FilePath, help_heading = "Rigs")]
    pub target_pose: Option<String>,
    /// Unit of the target's file, where it states none
    #[arg(long, value_name = "UNIT", value_parser = quantity::unit, help_heading = "Rigs")]
    pub target_unit: Option<f64>,
    /// Up axis of the target's file, where it states none
    #[arg(long, value_name = "AXIS", value_parser = up_axis, help_heading = "Rigs")]
    pub target_up: Option<UpAxis>,
    /// Profile of the application that gets the result: a file, or curves, plain-curves, quaternions or samples
    #[arg(long, value_name = "PROFILE", help_heading = "Rigs")]
    pub profile: Option<PathBuf>,
    /// Frame at which the carried range starts
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", allow_negative_numbers = true, help_heading = "Where it goes")]
    pub at: Option<f64>,
    /// Stretch to this many frames, both ends counted
    #[arg(long, value_name = "N", value_parser = quantity::whole::<i64>(2, 1_000_000_000), help_heading = "Where it goes")]
    pub to_frames: Option<i64>,
    /// Place on a take that the target has: overwrite, ripple (later keys make room), unkeyed (channels without keys only),
    /// or layer:NAME; as a take of its own where left out
    #[arg(long, value_name = "HOW", value_parser = placement, help_heading = "Where it goes")]
    pub place: Option<Placement>,
    /// The target's take to place on, where it has several
    #[arg(long, value_name = "TAKE", requires = "place", help_heading = "Where it goes")]
    pub target_take: Option<String>,
    /// Leave aside the takes that the target has itself
    #[arg(long, conflicts_with = "place", help_heading = "Where it goes")]
    pub without_target_takes: bool,
    /// Frames over which the seams are blended
    #[arg(long, value_parser = quantity::frame_number, value_name = "N", default_value_t = 1.0, requires = "place", help_heading = "Where it goes")]
    pub blend: f64,
    /// Print what would become of everything, and write nothing
    #[arg(long, conflicts_with = "output", help_heading = "Reports")]
    pub dry_run: bool,
    /// Fail, and write nothing, where anything is left out
    #[arg(long, help_heading = "Reports")]
    pub strict: bool,
    /// Write what became of every channel to a JSON file
    #[arg(long, value_name = "FILE", help_heading = "Reports")]
    pub ledger: Option<PathBuf>,
    /// Print the report as JSON
    #[arg(long, help_heading = "Reports")]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// What feet do while they stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Feet {
    /// Where the source's turns put them: they may slide where proportions differ
    Free,
    /// Hold the place where they were planted
    Hold,
}

fn placement(text: &str) -> Result<Placement, String> {
    match text {
        "overwrite" => Ok(Placement::Overwrite),
        "ripple" => Ok(Placement::Ripple),
        "unkeyed" => Ok(Placement::Unkeyed),
        _ => match text.strip_prefix("layer:") {
            Some(name) if !name.is_empty() => Ok(Placement::Layer(name.to_owned())),
            _ => Err(format!("'{text}' is no way to place: write overwrite, ripple, unkeyed or layer:NAME")),
        },
    }
}

/// Show layers, write them together, take them apart, or set them
#[derive(Args, Clone, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Layers {
    #[command(subcommand)]
    pub action: Option<LayersAction>,
    /// File whose layers to show; - is standard input
    #[arg(required = true)]
    pub file: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Clone, Debug, Subcommand)]
pub enum LayersAction {
    Flatten(LayersFlatten),
    Difference(LayersDifference),
    Set(LayersSet),
}

/// Write layers onto the base layer: exactly where that can be, else within a bound
#[derive(Args, Clone, Debug)]
pub struct LayersFlatten {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// Layers to write onto the base; all where left out
    #[arg(long, value_name = "LAYER", num_args = 1.., value_delimiter = ',')]
    pub layer: Vec<String>,
    /// How far the result may be from the layers where it cannot be exact
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Add the difference to another file, in which the motion was changed, as a new additive layer
#[derive(Args, Clone, Debug)]
pub struct LayersDifference {
    /// File that gets the layer; - is standard input
    pub file: PathBuf,
    /// File with the changed motion of the same rig
    #[arg(long, value_name = "OTHER")]
    pub against: PathBuf,
    /// Name of the new layer
    #[arg(long, value_name = "NAME")]
    pub name: String,
    #[command(flatten)]
    pub output: OutputArgs,
    /// How far the result may be from the other file where it cannot be exact
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance, default_value = "0.05deg,0.1mm,0.001")]
    pub tolerance: Tolerance,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}

/// Set the weight, mode or name of a layer, or mute it
#[derive(Args, Clone, Debug)]
#[command(group = clap::ArgGroup::new("change").required(true).multiple(true))]
pub struct LayersSet {
    /// File to read; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// The layer
    #[arg(long, value_name = "NAME")]
    pub layer: String,
    /// How much of it counts: 0.5, 50%, 0
    #[arg(long, value_name = "WEIGHT", value_parser = quantity::weight, group = "change", allow_hyphen_values = true)]
    pub weight: Option<f64>,
    /// Switch it off
    #[arg(long, group = "change", conflicts_with = "unmute")]
    pub mute: bool,
    /// Switch it on again
    #[arg(long, group = "change")]
    pub unmute: bool,
    /// How it joins what lies under it
    #[arg(long, value_enum, group = "change")]
    pub mode: Option<Mode>,
    /// How its rotations join those under it
    #[arg(long, value_enum, group = "change")]
    pub rotations: Option<Rotations>,
    /// A new name
    #[arg(long, value_name = "NEW", group = "change")]
    pub rename: Option<String>,
    #[command(flatten)]
    pub input: InputArgs,
}

/// How a layer joins what lies under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Mode {
    /// Its values are added
    Additive,
    /// Its values replace what lies under them, in proportion to its weight
    Override,
}

/// How rotations are held, or how those of a layer join what lies under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Rotations {
    /// Angles, axis by axis
    Angles,
    /// Quaternions: turns as a whole
    Quaternions,
}

/// Draw curves with their keys, or a strip of poses, as .png or .svg
#[derive(Args, Clone, Debug)]
pub struct Plot {
    /// File to draw; - is standard input
    pub file: PathBuf,
    /// Picture to write: .png or .svg; may be made of parts: '{stem}_{take}_{first}-{last}.png'
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// What to draw
    #[arg(long, value_enum, default_value_t = View::Curves)]
    pub view: View,
    /// Another file to compare with: its values and the error below, or a second row of poses
    #[arg(long, value_name = "OTHER")]
    pub against: Option<PathBuf>,
    /// Take to draw; the first where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Range of frames to draw; the take's where left out
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    #[command(flatten)]
    pub choice: ChoiceArgs,
    /// How many channels to draw at most
    #[arg(long, value_name = "N", default_value_t = 3, value_parser = quantity::whole::<u8>(1, 24))]
    pub channels: u8,
    /// Draw channels of one unit over each other
    #[arg(long)]
    pub overlay: bool,
    /// Frames at which poses are drawn; nine, spread over the take, where left out
    #[arg(long, value_parser = quantity::frame_number, value_name = "FRAME", num_args = 1.., value_delimiter = ',', allow_negative_numbers = true)]
    pub at: Vec<f64>,
    /// Nodes whose ways between the poses are drawn, by name or pattern with *; hands and feet where left out
    #[arg(long, value_name = "NODE", num_args = 1.., value_delimiter = ',')]
    pub trail: Vec<String>,
    /// Width and height in pixels
    #[arg(long, value_name = "WxH", default_value = "1280x800", value_parser = picture_size)]
    pub size: (u32, u32),
    #[command(flatten)]
    pub input: InputArgs,
}

fn picture_size(text: &str) -> Result<(u32, u32), String> {
    let bad = || format!("'{text}' is not a size: write it like 1280x800, from 320x200 to 8000x8000");
    let (width, height) = text.split_once('x').ok_or_else(bad)?;
    let number = |text: &str| text.parse::<u32>().map_err(|_| bad());
    let (width, height) = (number(width)?, number(height)?);
    if !(320..=8000).contains(&width) || !(200..=8000).contains(&height) {
        return Err(bad());
    }
    Ok((width, height))
}

/// What a picture shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum View {
    /// Values over frames, with keys and handles
    Curves,
    /// Keys over frames, a row a node, with range and clips
    Keys,
    /// Stick figures over time
    Poses,
}

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

fn code(text: &str) -> Result<Code, String> {
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
    /// How far they may be apart in motion for code 0; not at all where left out
    #[arg(long, value_name = "Q,…", value_parser = quantity::tolerance)]
    pub tolerance: Option<Tolerance>,
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

/// How travel grows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TravelScale {
    Hips,
    Factor(f64),
}

fn travel_scale(text: &str) -> Result<TravelScale, String> {
    if text == "hips" { Ok(TravelScale::Hips) } else { quantity::factor(text).map(TravelScale::Factor) }
}

/// What a schema describes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum SchemaOf {
    /// .ncurve files
    Ncurve,
    /// Recipes of run
    Recipe,
}

/// Write manual pages, one a command
#[derive(Args, Clone, Debug)]
pub struct Man {
    /// Folder for the pages; it is made where there is none
    #[arg(value_name = "DIR")]
    pub folder: PathBuf,
}

/// Run the whole job on the sample scenario
#[derive(Args, Clone, Debug)]
pub struct Demo {
    /// Folder for its files
    #[arg(default_value = "nimble-demo")]
    pub folder: PathBuf,
}
