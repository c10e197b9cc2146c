//! `bake`: curves to samples.

use std::io::Write as _;

use nimble_curve_core::ops::bake::{BakeOptions, bake};
use nimble_curve_core::time::TimeRange;

use crate::args::Bake;
use crate::failure::Failure;
use crate::files;
use crate::report::{self, LedgerJson};
use crate::terminal::{Report, Style};

pub fn run(args: &Bake) -> Result<(), Failure> {
    args.output.check(&[&args.file])?;
    let scene = files::read(&args.file, args.input)?.scene;
    let frame = |frame: f64| scene.rate.ticks_at(frame);
    let range = args.frames.map(|(first, last)| TimeRange::new(frame(first), frame(last)));
    let (result, ledger) = bake(&scene, &BakeOptions { rate: args.rate, step: args.step, range });
    args.output.write(&result, &args.file)?;
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
