//! What `layers` takes.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use nimble_curve_core::ops::Tolerance;

use super::Rotations;
use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OutputArgs};
use crate::quantity;

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
    #[command(flatten)]
    pub choice: ChoiceArgs,
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
    #[command(flatten)]
    pub choice: ChoiceArgs,
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
