//! Reading and writing with what the command line says about files.

use std::path::{Path, PathBuf};

use clap::Args;
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::UpAxis;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::{Assume, Loaded, Saving};

use crate::failure::Failure;
use crate::{quantity, terminal};

/// What to take for granted where a file does not say.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct InputArgs {
    /// Unit of files that state none, such as BVH: m, cm, mm, in, ft, or the metres in one unit [default: cm]
    #[arg(long, value_name = "UNIT", value_parser = quantity::unit, global = false)]
    pub unit: Option<f64>,
    /// Up axis of files that state none: x, y or z [default: y]
    #[arg(long, value_name = "AXIS", value_parser = up_axis)]
    pub up: Option<UpAxis>,
    /// Frame rate of files that state none, such as glTF [default: one that fits all key times]
    #[arg(long, value_name = "RATE")]
    pub fps: Option<FrameRate>,
}

impl InputArgs {
    /// What a reader takes for granted.
    pub fn assumed(self) -> Assume {
        Assume { metres_per_unit: self.unit, up: self.up, rate: self.fps }
    }
}

/// An up axis as it is typed.
pub fn up_axis(text: &str) -> Result<UpAxis, String> {
    match text.to_ascii_lowercase().as_str() {
        "x" => Ok(UpAxis::X),
        "y" => Ok(UpAxis::Y),
        "z" => Ok(UpAxis::Z),
        _ => Err(format!("'{text}' is not an axis: write x, y or z")),
    }
}

/// Where a result goes.
#[derive(Args, Clone, Debug)]
pub struct OutputArgs {
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// Allow the output to replace the input
    #[arg(long)]
    pub in_place: bool,
}

impl OutputArgs {
    /// Refuses to write over an input that was not meant to be replaced, before any work is done.
    pub fn check(&self, inputs: &[&Path]) -> Result<(), Failure> {
        nimble_curve_formats::output_format(&self.output)?;
        let same = |input: &&&Path| match (input.canonicalize(), self.output.canonicalize()) {
            (Ok(a), Ok(b)) => a == b,
            _ => false,
        };
        match inputs.iter().find(same) {
            Some(input) if !self.in_place => Err(Failure::new(format!(
                "{}: is an input: write to another file, or say --in-place",
                input.display()
            ))),
            _ => Ok(()),
        }
    }

    /// Writes a scene; what the format could not hold is said on standard error.
    ///
    /// `base` is the file that the rig came from: where the output is of the same format, all that is not animation is
    /// taken from it.
    pub fn write(&self, scene: &Scene, base: &Path) -> Result<Ledger, Failure> {
        self.write_as(scene, &Saving { base: Some(base), ..Saving::default() })
    }

    /// The same, as `saving` says.
    pub fn write_as(&self, scene: &Scene, saving: &Saving<'_>) -> Result<Ledger, Failure> {
        let ledger = nimble_curve_formats::write(scene, &self.output, saving)?;
        let lost: Vec<&str> = (ledger.entries.iter())
            .filter(|entry| entry.fate == Fate::LeftOut)
            .map(|entry| entry.channel.as_str())
            .collect();
        if !lost.is_empty() {
            terminal::remark(&format!(
                "{}: left out, as the format cannot hold them: {}",
                self.output.display(),
                lost.join(", ")
            ));
        }
        for note in &ledger.notes {
            terminal::remark(&format!("{}: {note}", self.output.display()));
        }
        Ok(ledger)
    }
}

/// Reads a file; what had to be assumed is said on standard error.
pub fn read(path: &Path, assume: InputArgs) -> Result<Loaded, Failure> {
    let loaded = nimble_curve_formats::read(path, assume.assumed())?;
    for note in &loaded.notes {
        terminal::remark(&format!("{}: {note}", path.display()));
    }
    Ok(loaded)
}
