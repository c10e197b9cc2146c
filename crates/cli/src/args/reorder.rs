//! What `reorder` takes.

use std::path::PathBuf;

use clap::Args;
use nimble_curve_core::ops::reorder::NewOrder;
use nimble_curve_core::rotation::RotationOrderError;

use super::Tangents;
use crate::choice::ChoiceArgs;
use crate::files::{InputArgs, OverArgs};
use crate::quantity;

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

pub(super) fn new_order(text: &str) -> Result<NewOrder, String> {
    if text == "best" {
        return Ok(NewOrder::Best);
    }
    text.parse().map(NewOrder::To).map_err(|error: RotationOrderError| format!("{error}, or best"))
}
