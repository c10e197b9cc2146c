//! What `unbake` and `bake` take.

use std::path::PathBuf;

use clap::Args;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::reorder::NewOrder;
use nimble_curve_core::ops::unbake::KeyLimit;
use nimble_curve_core::time::FrameRate;

use super::reorder::new_order;
use super::{Rotations, Tangents};
use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OutputArgs};
use crate::nodes::NodesArgs;
use crate::quantity;

/// Turn samples, and curves with a key on every frame, into sparse curves within a bound
#[derive(Args, Clone, Debug)]
#[command(group = clap::ArgGroup::new("bound_in_world").args(["world", "seen"]).multiple(true))]
pub struct Unbake {
    /// File with baked animation; - is standard input
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
    /// How far the result may be from the samples: angle of rotations, distance of positions, difference of numbers; or auto: just beyond the noise of each channel; 0.1deg,0.5mm,0.001 where left out
    #[arg(long, value_name = "Q,…|auto", value_parser = bound)]
    pub tolerance: Option<Bound>,
    /// Tolerances by how near the character is seen, with a bound in the world, and feet that stay where they stand; what is given beside it counts instead
    #[arg(long, value_enum, value_name = "DISTANCE", conflicts_with = "keys_at_most")]
    pub seen: Option<Seen>,
    /// Put single samples far off, and stretches in which nothing was seen, where the motion around them leads, before anything is fitted
    #[arg(long)]
    pub bridge: bool,
    /// The tightest tolerance, in the proportions of the given one, under which what is fitted has no more keys: 500, or 25% of the samples
    #[arg(long, value_name = "N|N%", value_parser = key_limit)]
    pub keys_at_most: Option<KeyLimit>,
    /// Hold each channel to the tolerance by itself, not a rotation's angle or a place's distance
    #[arg(long)]
    pub per_channel: bool,
    /// Another tolerance for some channels, by address or pattern with *: '*:foot_*:rotation=0.02deg'
    #[arg(long, value_name = "PATTERN=Q,…", value_parser = tolerance_for)]
    pub tolerance_for: Vec<(String, String)>,
    /// How far any joint may be off in world space; errors at the hips move the feet
    #[arg(long, value_name = "LENGTH", value_parser = quantity::length)]
    pub world: Option<f64>,
    /// Nodes that must not move by more than --world, peak to peak, while they stand still: feet, a hand on a rail
    #[arg(long, value_name = "NODE", num_args = 1.., value_delimiter = ',', requires = "bound_in_world")]
    pub planted: Vec<String>,
    /// Which key times are common
    #[arg(long, value_enum, default_value_t = Keys::Free)]
    pub keys: Keys,
    /// Tangents: plain slopes, or weighted handles where they save keys, or where the samples were baked from such
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
    /// Range to unbake, both ends included. Outside it samples stay samples, below a layer that plays inside it; keys stay keys
    #[arg(long, value_name = "FIRST:LAST", value_parser = quantity::frames, allow_hyphen_values = true)]
    pub frames: Option<(f64, f64)>,
    #[command(flatten)]
    pub choice: ChoiceArgs,
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

/// How far a result may be off.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Bound {
    /// So far.
    Given(Tolerance),
    /// As far as the noise of each channel reaches, and no less than is usual.
    Noise,
}

fn bound(text: &str) -> Result<Bound, String> {
    match text {
        "auto" => Ok(Bound::Noise),
        _ => quantity::tolerance(text).map(Bound::Given),
    }
}

/// How near a character is seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Seen {
    /// Close up: 0.5deg,2mm,0.002 --world 1mm
    Near,
    /// Whole: 1deg,5mm,0.005 --world 5mm
    Mid,
    /// Small, in the background: 3deg,20mm,0.02 --world 20mm
    Far,
}

/// A number of keys, or a part of the samples.
pub(super) fn key_limit(text: &str) -> Result<KeyLimit, String> {
    let wrong = || format!("'{text}' is no number of keys: write 500, or 25% of the samples");
    match text.strip_suffix('%') {
        Some(percent) => match percent.trim().parse::<f64>() {
            Ok(percent) if percent > 0.0 && percent <= 100.0 => Ok(KeyLimit::Part(percent / 100.0)),
            _ => Err(wrong()),
        },
        None => match text.trim().parse::<usize>() {
            Ok(keys) if keys > 0 => Ok(KeyLimit::Keys(keys)),
            _ => Err(wrong()),
        },
    }
}

pub(super) fn tolerance_for(text: &str) -> Result<(String, String), String> {
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
    #[command(flatten)]
    pub choice: ChoiceArgs,
    #[command(flatten)]
    pub nodes: NodesArgs,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub input: InputArgs,
}
