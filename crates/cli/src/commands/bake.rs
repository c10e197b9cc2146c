//! `bake`: curves to samples.

use std::io::Write as _;
use std::path::Path;

use nimble_curve_core::ops::bake::{BakeOptions, bake};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::TimeRange;

use crate::args::Bake;
use crate::failure::Failure;
use crate::report::{self, LedgerJson};
use crate::step::{Shelf, Step, Worked, between_files};
use crate::terminal::{Report, Style};

impl Step for Bake {
    fn work(&self, scene: &Scene, _: &Path, _: &Shelf) -> Result<Worked, Failure> {
        let frame = |frame: f64| scene.rate.ticks_at(frame);
        let range = self.frames.map(|(first, last)| TimeRange::new(frame(first), frame(last)));
        let (result, ledger) = bake(scene, &BakeOptions { rate: self.rate, step: self.step, range });
        Ok(Worked::new(result, ledger))
    }
}

pub fn run(args: &Bake) -> Result<(), Failure> {
    let (scene, Worked { ledger, .. }) = between_files(args, &args.file, args.input, &args.output)?;
    let mut out = Report::beside(&args.output.output);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), args.output.output.display());
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    report::print_fates(&mut out, &ledger, &scene.space)?;
    if args.step == 1 {
        let text = "errors are those halfway between samples, where straight lines stand in for the curve";
        writeln!(out, "  {}", Style::Faint.paint(text))?;
    }
    Ok(())
}
