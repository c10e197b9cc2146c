//! Reading and writing with what the command line says about files.

use std::path::{Path, PathBuf};

use clap::Args;
use nimble_curve_core::judge::Verdict;
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Space, UpAxis};
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::table::Columns;
use nimble_curve_formats::{Assume, Encoded, Loaded, Saving, reason};

use crate::failure::Failure;
use crate::gate::{self, Origin};
use crate::{quantity, sheet, terminal};

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
    pub rate: Option<FrameRate>,
    /// Read what the format says by itself, as other programs do, whatever extra data of ours is in it
    #[arg(long)]
    pub ignore_extra: bool,
    /// Follow what lies outside the file's folder, too: sublayers, references and payloads of USD, buffers of glTF
    #[arg(long)]
    pub files_anywhere: bool,
}

impl InputArgs {
    /// What was said of the unit and the up axis, as it is typed.
    pub fn stated(&self) -> Vec<String> {
        let unit = self.unit.map(|metres| {
            let named =
                ["m", "cm", "mm", "in", "ft"].iter().find(|name| Space::unit_metres(name) == Some(metres));
            format!("--unit {}", named.map_or_else(|| metres.to_string(), |name| (*name).to_owned()))
        });
        let up = self.up.map(|up| format!("--up {}", ["x", "y", "z"][up.index()]));
        unit.into_iter().chain(up).collect()
    }

    /// What a reader takes for granted.
    pub fn assumed(self) -> Assume {
        Assume {
            metres_per_unit: self.unit,
            up: self.up,
            rate: self.rate,
            files_anywhere: self.files_anywhere,
            without_extra: self.ignore_extra,
        }
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

/// Makes a folder, and those above it, where they are not there.
pub fn make_folder(folder: &Path) -> Result<(), Failure> {
    std::fs::create_dir_all(folder).map_err(|error| {
        Failure::Hindered(format!("{}: the folder cannot be made: {}", folder.display(), reason(&error)))
    })
}

/// Where a result goes.
#[derive(Args, Clone, Debug)]
pub struct OutputArgs {
    /// File to write; its ending says the format, - is standard output
    #[arg(short, long, value_name = "FILE", required_unless_present = "replace")]
    output: Option<PathBuf>,
    #[command(flatten)]
    pub over: OverArgs,
}

/// What a result may do to a file that is there, and what it has to be.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct OverArgs {
    /// Replace the output where it is there already, be it the input; without an output the input is replaced
    #[arg(long)]
    pub replace: bool,
    /// Write the result even where it is farther from its source than it may be
    #[arg(long)]
    pub accept: bool,
}

/// A result that was made and judged, and is not written yet.
#[derive(Debug)]
pub struct Prepared {
    made: Encoded,
    verdict: Verdict,
    remedy: Option<&'static str>,
}

impl Prepared {
    /// See [`gate::tightening`].
    pub fn tightening(&self) -> Option<f64> {
        gate::tightening(&self.verdict)
    }
}

/// A result that was written.
#[derive(Debug)]
pub struct Written {
    /// What the format made of it.
    pub ledger: Ledger,
    /// How far the file is from what it was made of.
    pub verdict: Verdict,
}

/// Where a result goes, resolved.
#[derive(Clone, Debug)]
pub struct Output {
    /// The file, or `-`.
    pub path: PathBuf,
    over: OverArgs,
}

impl OutputArgs {
    /// The output of a command with one input, which it may replace.
    pub fn of(&self, input: &Path) -> Output {
        Output { path: self.output.clone().unwrap_or_else(|| input.to_owned()), over: self.over }
    }
}

impl Output {
    pub fn new(path: PathBuf, over: OverArgs) -> Output {
        Output { path, over }
    }

    /// Refuses to write over an input that was not meant to be replaced, before any work is done.
    pub fn check(&self, inputs: &[&Path]) -> Result<(), Failure> {
        nimble_curve_formats::output_format(&self.path)?;
        let is_same = |input: &Path| match (input.canonicalize(), self.path.canonicalize()) {
            (Ok(a), Ok(b)) => a == b,
            _ => false,
        };
        match inputs.iter().find(|input| is_same(input)) {
            Some(input) if !self.over.replace => Err(Failure::new(format!(
                "{}: is an input: write to another file, or say --replace",
                input.display()
            ))),
            _ => Ok(()),
        }
    }

    /// Writes a scene; what the format could not hold is said on standard error.
    ///
    /// `base` is the file that the rig came from: where the output is of the same format, all that is not animation is
    /// taken from it. `origin` is what the scene was made of, along which it is judged.
    pub fn write(&self, scene: &Scene, base: &Path, origin: Option<Origin<'_>>) -> Result<Written, Failure> {
        self.write_as(scene, &Saving { base: Some(base), ..Saving::default() }, origin)
    }

    /// The same, as `saving` says.
    pub fn write_as(
        &self,
        scene: &Scene,
        saving: &Saving<'_>,
        origin: Option<Origin<'_>>,
    ) -> Result<Written, Failure> {
        let prepared = self.prepare(scene, (saving, &saving.tolerance), origin)?;
        self.finish(prepared, scene)
    }

    /// Makes the file, reads it back and judges it; nothing is written yet.
    ///
    /// `allowed` is how far the format may be off, which may be more than `saving` aims at.
    pub fn prepare(
        &self,
        scene: &Scene,
        (saving, allowed): (&Saving<'_>, &Tolerance),
        origin: Option<Origin<'_>>,
    ) -> Result<Prepared, Failure> {
        let format = nimble_curve_formats::output_format(&self.path)?;
        let made = nimble_curve_formats::encoded(scene, format, &self.path, saving)?;
        let verdict = gate::judged(&made, scene, &self.path, (saving, allowed), origin)?;
        Ok(Prepared { made, verdict, remedy: origin.and_then(|origin| origin.promise.remedy) })
    }

    /// Writes what was prepared, if it may be.
    pub fn finish(
        &self,
        Prepared { made, verdict, remedy }: Prepared,
        scene: &Scene,
    ) -> Result<Written, Failure> {
        if let Some(why) = gate::refusal(&verdict, scene, remedy).filter(|_| !self.over.accept) {
            return Err(Failure::new(format!("{}: {why}", self.path.display())));
        }
        self.may_take(&made.bytes)?;
        nimble_curve_formats::write_encoded(&made, &self.path)?;
        let lost: Vec<&str> = (made.ledger.entries.iter())
            .filter(|entry| entry.fate == Fate::LeftOut)
            .map(|entry| entry.channel.as_str())
            .collect();
        if !lost.is_empty() {
            terminal::remark(&format!(
                "{}: left out, as the format cannot hold them: {}",
                self.path.display(),
                lost.join(", ")
            ));
        }
        for note in &made.ledger.notes {
            terminal::remark(&format!("{}: {note}", self.path.display()));
        }
        Ok(Written { ledger: made.ledger, verdict })
    }

    /// Refuses to write over a file that is there and is something else, unless that was asked for.
    fn may_take(&self, bytes: &[u8]) -> Result<(), Failure> {
        let is_free = self.over.replace || self.path == Path::new("-") || !self.path.is_file();
        if is_free || std::fs::read(&self.path).is_ok_and(|there| there == bytes) {
            return Ok(());
        }
        Err(Failure::new(format!(
            "{}: is there already, with other contents: say --replace to write over it",
            self.path.display()
        )))
    }
}

/// Reads a file; what had to be assumed or mended is said on standard error.
pub fn read(path: &Path, assume: InputArgs) -> Result<Loaded, Failure> {
    let loaded = read_quietly(path, assume)?;
    for what in &loaded.mended {
        terminal::remark(&format!("{}: {what}", path.display()));
    }
    Ok(loaded)
}

/// The same, but what was mended is for the caller to say.
pub fn read_quietly(path: &Path, assume: InputArgs) -> Result<Loaded, Failure> {
    let loaded = nimble_curve_formats::read(path, assume.assumed())?;
    remark(path, &loaded.notes);
    Ok(Loaded { scene: sheet::attached(loaded.scene, path), ..loaded })
}

/// A table whose columns have names of their own, with what was assumed said.
pub fn read_table(path: &Path, columns: &Columns, assume: InputArgs) -> Result<Loaded, Failure> {
    let loaded = nimble_curve_formats::read_table(path, columns, assume.assumed())?;
    remark(path, &loaded.notes);
    Ok(loaded)
}

fn remark(path: &Path, notes: &[String]) {
    for note in notes {
        terminal::remark(&format!("{}: {note}", path.display()));
    }
}
