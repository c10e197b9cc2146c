//! The command line as it is typed; what the options mean is documented here and nowhere else.

mod carry;
mod check;
mod convert;
mod layers;
mod plot;
mod reorder;
mod unbake;
pub use self::carry::{Carry, Feet, Map, MatchPoses, TravelScale};
pub use self::check::{Check, Compare, Level};
pub use self::convert::{Controllers, Convert};
pub use self::layers::{Layers, LayersAction, LayersDifference, LayersFlatten, LayersSet, Mode};
pub use self::plot::{Plot, View};
pub use self::reorder::Reorder;
pub use self::unbake::{Bake, Bound, Keys, Seen, Unbake};

mod clips;
mod rig;
mod root;
mod run;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use nimble_curve_core::fit::Handles;

use crate::files::InputArgs;
use crate::quantity;

pub use self::clips::*;
pub use self::rig::{
    KeysArg, KindArg, LimbArg, Rig, RigAction, RigFind, RigMatch, RigSheet, RigSolve, RigSwitch,
};
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
    /// What drives what, as a rig sheet: for files that hold no constraints, in place of their own where they do
    #[arg(long, global = true, value_name = "FILE", display_order = 1001)]
    pub sheet: Option<PathBuf>,
    /// Print the notices of all that is linked in, and end
    #[arg(long, exclusive = true)]
    pub licences: bool,
    #[command(subcommand)]
    pub command: Option<Command>,
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
    Rig(Rig),
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

/// How rotations are held, or how those of a layer join what lies under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Rotations {
    /// Angles, axis by axis
    Angles,
    /// Quaternions: turns as a whole
    Quaternions,
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
