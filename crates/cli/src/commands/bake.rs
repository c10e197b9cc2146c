//! `bake`: curves to samples.

use std::path::Path;

use nimble_curve_core::judge::Sampling;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::bake::{BakeOptions, bake};
use nimble_curve_core::ops::budget::affordable;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::args::Bake;
use crate::failure::Failure;
use crate::nodes::promised;
use crate::report::{self, LedgerJson};
use crate::step::{SceneCache, Step, StepOutput, between_files};
use crate::terminal::Report;

impl Step for Bake {
    fn work(&self, whole: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let tolerance = Tolerance::default();
        let thinned = self.nodes.thinned(whole, file, tolerance)?;
        let scene = thinned.as_ref().map_or(whole, |thinned| &thinned.scene);
        let frame = |frame: f64| scene.rate.ticks_at(frame);
        let range = self.frames.map(|(first, last)| TimeRange::new(frame(first), frame(last)));
        let rate = self.to_rate.unwrap_or(scene.rate);
        let sampled =
            rate.denominator().checked_mul(self.step).and_then(|den| FrameRate::new(rate.numerator(), den));
        affordable(scene, range, sampled.unwrap_or(rate))?;
        let (result, ledger) = bake(
            scene,
            &BakeOptions {
                rate: self.to_rate,
                step: self.step,
                range,
                only: self.choice.channels(scene, file)?,
            },
        );
        let mut worked = StepOutput::same(scene, result, ledger, tolerance);
        if let Some(thinned) = &thinned {
            worked = worked.after(promised(whole, thinned, tolerance), &thinned.ledger);
        }
        if let Some(promise) = &mut worked.promise {
            promise.claim.sampling = Sampling::Result;
        }
        Ok(worked)
    }
}

pub fn run(args: &Bake) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, StepOutput { ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    report::print_fates(&mut out, &ledger, &scene.space)?;
    report::print_remarks(&mut out, &ledger.notes)?;
    Ok(report::close(&mut out, &closing)?)
}
