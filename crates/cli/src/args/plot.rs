//! What `plot` takes.

use std::path::PathBuf;

use clap::Args;

use crate::choice::ChoiceArgs;
use crate::files::InputArgs;
use crate::quantity;

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
    /// More files whose curves of the same channels are drawn below, each in a panel of its own: one motion at several tolerances
    #[arg(long, value_name = "FILE", num_args = 1..)]
    pub beside: Vec<PathBuf>,
    /// Take to draw; the first where left out
    #[arg(long, value_name = "NAME")]
    pub take: Option<String>,
    /// Draw the rig at rest, its takes aside; with --against beside the other file's first pose
    #[arg(long, conflicts_with_all = ["take", "frames"])]
    pub rest: bool,
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

pub(super) fn picture_size(text: &str) -> Result<(u32, u32), String> {
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
