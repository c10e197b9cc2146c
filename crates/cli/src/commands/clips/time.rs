//! Takes shifted, trimmed and stretched.

use std::path::Path;

use nimble_curve_core::address::matches;
use nimble_curve_core::judge::{Clock, Scope};
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::retime::{shifted, stretched};
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::scene::Scene;

use super::take_index;
use crate::args::{ClipsShift, ClipsStretch, ClipsTrim};
use crate::failure::Failure;
use crate::gate::Promise;
use crate::report::{self, frame};
use crate::step::{SceneCache, Step, StepOutput, between_files};
use crate::terminal::Report;

impl Step for ClipsShift {
    fn work(&self, source: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let mut scene = source.clone();
        let mut clocks = vec![Clock::SAME; source.takes.len()];
        for pattern in &self.take {
            if !scene.takes.iter().any(|take| matches(pattern, &take.name)) {
                let names = scene.takes.iter().map(|take| take.name.as_str());
                return Err(Failure::unknown("take", pattern, names, file));
            }
        }
        let rate = scene.rate;
        let mut notes = Vec::new();
        for (take, clock) in scene.takes.iter_mut().zip(&mut clocks) {
            if self.take.is_empty() || self.take.iter().any(|pattern| matches(pattern, &take.name)) {
                *clock = Clock::shifted(take.range.first, rate.ticks_at(self.to));
                let by = rate.ticks_at(self.to) - take.range.first;
                *take = shifted(take, by);
                notes.push(format!("'{}' shifted by {} frames", take.name, frame(rate.frame(by))));
            }
        }
        let promise = Promise::timed(source, &scene, &clocks);
        Ok(StepOutput {
            promise: Some(promise),
            ..StepOutput::new(scene, Ledger { notes, ..Ledger::default() })
        })
    }
}

impl Step for ClipsTrim {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let mut result = Scene { takes: Vec::new(), ..scene.clone() };
        let mut ledger = Ledger::default();
        for take in &scene.takes {
            if take.key_range().is_none() {
                result.takes.push(take.clone());
                continue;
            }
            let alone = Scene { takes: vec![take.clone()], ..scene.clone() };
            let selection =
                Selection { range: Some(take.range), tolerance: self.tolerance, ..Selection::default() };
            let (part, more) = select(&alone, &selection)?;
            result.takes.extend(part.takes);
            ledger.extend(more);
        }
        let mut worked = StepOutput::same(scene, result, ledger, self.tolerance);
        if let Some(promise) = &mut worked.promise {
            promise.scope = Scope::MotionAlone;
        }
        Ok(worked)
    }
}

pub(super) fn run_trim(args: &ClipsTrim) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, worked) = between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &worked.outcome)?;
    report::print_fates(&mut out, &worked.ledger, &scene.space)?;
    Ok(report::close(&mut out, &worked.closing)?)
}

impl Step for ClipsStretch {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let index = take_index(scene, self.take.as_ref(), file)?;
        let mut result = scene.clone();
        let take = &mut result.takes[index];
        let was = take.range.frames(scene.rate);
        *take = stretched(take, self.to_frames, scene.rate)?;
        let note = format!("'{}' has {} frames now, for {was}", take.name, self.to_frames);
        let (old, new) = (scene.takes[index].range, take.range);
        let mut clocks = vec![Clock::SAME; scene.takes.len()];
        let speed = (old.last - old.first).as_f64() / (new.last - new.first).as_f64();
        clocks[index] = Clock { result: new.first, source: old.first, speed };
        let promise = Promise::timed(scene, &result, &clocks);
        let ledger = Ledger { notes: vec![note], ..Ledger::default() };
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}
