//! What `map` and `carry` take.

use std::path::PathBuf;

use clap::{Args, ValueHint};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::place::Placement;
use nimble_curve_core::space::UpAxis;

use super::Tangents;
use crate::files::{InputArgs, OverArgs, up_axis};
use crate::quantity;

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
    /// Write guesses as pairs, too
    #[arg(long)]
    pub take_guesses: bool,
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
    /// What was asked for, where it is carried closer than that.
    #[arg(skip)]
    pub asked: Option<Tolerance>,
    /// Hold each joint's own rotation to the tolerance, as unbake does, and not what a chain of them adds up to in the world: fewer keys
    #[arg(long)]
    pub per_joint: bool,
    /// Tangents of rotations that change: plain slopes, or weighted handles where those save keys; where left out they stay
    /// as they are, or become weighted where plain ones would need more than half as many key times again and the profile
    /// has such
    #[arg(long, value_enum)]
    pub tangents: Option<Tangents>,
    /// Key the target's joints and leave its constraints out, where it has some; else its controls get the keys
    #[arg(long)]
    pub onto_joints: bool,
    /// Scale of travel, in metres: a number, or legs for the ratio of their lengths, from the hips to the lowest joint
    #[arg(long, value_name = "FACTOR", default_value = "legs", value_parser = travel_scale)]
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
    /// Rigs of the source that carry, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',', help_heading = "What to carry")]
    pub rig: Vec<String>,
    /// Rigs of the target that get something, by name or pattern with *; all where left out
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',', help_heading = "What to carry")]
    pub target_rig: Vec<String>,
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
    /// Where no pose is given and limbs point elsewhere in the two rest poses: auto makes a pose of the target that
    /// corresponds, off takes the rest poses as they are
    #[arg(long, value_enum, default_value_t = MatchPoses::Auto, help_heading = "Rigs")]
    pub match_poses: MatchPoses,
    /// Write the target in the pose that was made, to be looked at, edited, and given as --target-pose
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, help_heading = "Rigs")]
    pub keep_pose: Option<PathBuf>,
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
    /// Place on a take that the target has: overwrite, ripple (later keys make room), merge (keys that are there stay
    /// where no new one stands), unkeyed (channels without keys only), or layer:NAME; as a take of its own where left out
    #[arg(long, value_name = "HOW", value_parser = placement, help_heading = "Where it goes")]
    pub place: Option<Placement>,
    /// Begin where the body of the target's take stands there: moved along the ground and turned about the up axis as a whole
    #[arg(long, requires = "place", help_heading = "Where it goes")]
    pub go_on: bool,
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

/// Whether poses are made to correspond.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum MatchPoses {
    /// Where an upper arm, forearm, thigh or shin points more than 20 degrees elsewhere
    Auto,
    /// Never
    Off,
}

/// What feet do while they stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Feet {
    /// Where the source's turns put them: they may slide where proportions differ
    Free,
    /// Hold the place where they were planted
    Hold,
}

pub(super) fn placement(text: &str) -> Result<Placement, String> {
    match text {
        "overwrite" => Ok(Placement::Overwrite),
        "ripple" => Ok(Placement::Ripple),
        "merge" => Ok(Placement::Merge),
        "unkeyed" => Ok(Placement::Unkeyed),
        _ => match text.strip_prefix("layer:") {
            Some(name) if !name.is_empty() => Ok(Placement::Layer(name.to_owned())),
            _ => Err(format!(
                "'{text}' is no way to place: write overwrite, ripple, merge, unkeyed or layer:NAME"
            )),
        },
    }
}

/// How travel grows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TravelScale {
    Legs,
    Factor(f64),
}

pub(super) fn travel_scale(text: &str) -> Result<TravelScale, String> {
    if text == "legs" { Ok(TravelScale::Legs) } else { quantity::factor(text).map(TravelScale::Factor) }
}
