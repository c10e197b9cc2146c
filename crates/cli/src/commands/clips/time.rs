//! Takes shifted, trimmed and stretched.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use nimble_curve_core::address::{Addresses, matches};
use nimble_curve_core::judge::{By, Clock, Excuse, Scope};
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::retime::{shifted, shifted_channels, stretched};
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};

use super::take_index;
use crate::args::{ClipsRange, ClipsShift, ClipsStretch, ClipsTrim};
use crate::failure::Failure;
use crate::gate::{Beside, Held, Promise};
use crate::report::{self, counted, frame};
use crate::step::{SceneCache, Step, StepOutput, between_files};
use crate::terminal::Report;

impl Step for ClipsShift {
    fn work(&self, source: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        if !self.choice.is_everything() {
            return self.channels(source, file);
        }
        let mut scene = source.clone();
        let mut clocks = vec![Clock::SAME; source.takes.len()];
        check_takes(source, &self.take, file)?;
        let rate = scene.rate;
        let mut notes = Vec::new();
        for (take, clock) in scene.takes.iter_mut().zip(&mut clocks) {
            if is_meant(&self.take, take) {
                let by = self.by(take, rate);
                *clock = Clock::shifted(take.range.first, Ticks(take.range.first.0 + by.0));
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

impl ClipsShift {
    /// How much later a take is to be.
    fn by(&self, take: &Take, rate: FrameRate) -> Ticks {
        match (self.by, self.to) {
            (Some(by), _) => Ticks((by * rate.ticks_per_frame()).round() as i64),
            (None, Some(to)) => rate.ticks_at(to) - take.range.first,
            (None, None) => Ticks::ZERO,
        }
    }

    /// Some channels moved, the rest of their takes where it was.
    fn channels(&self, source: &Scene, file: &Path) -> Result<StepOutput, Failure> {
        if self.to.is_some() {
            return Err(Failure::new(
                "some channels of a take have no frame at which they start: say by how many frames they move, with --by",
            ));
        }
        check_takes(source, &self.take, file)?;
        let chosen: HashSet<String> = self.choice.channels(source, file)?.into_iter().collect();
        let addresses = Addresses::new(source);
        let mut scene = source.clone();
        let mut clocks = vec![Clock::SAME; source.takes.len()];
        let (mut moved, mut notes) = (Vec::new(), Vec::new());
        for (index, take) in source.takes.iter().enumerate().filter(|(_, take)| is_meant(&self.take, take)) {
            let by = self.by(take, source.rate);
            let is_chosen = |target: &Target| chosen.contains(&addresses.property(target));
            scene.takes[index] = shifted_channels(take, by, is_chosen)
                .map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
            clocks[index] = Clock::shifted(take.range.first, Ticks(take.range.first.0 + by.0));
            let own: HashSet<&Target> =
                take.tracks().map(|(_, track)| &track.target).filter(|target| is_chosen(target)).collect();
            let frames = frame(source.rate.frame(by));
            notes.push(format!(
                "'{}': {} shifted by {frames} frames",
                take.name,
                counted(own.len(), "channel")
            ));
            moved.extend(own.into_iter().map(|target| (index, target.clone())));
        }
        let promise = of_channels(source, &scene, &clocks, &moved);
        Ok(StepOutput {
            promise: Some(promise),
            ..StepOutput::new(scene, Ledger { notes, ..Ledger::default() })
        })
    }
}

/// That some channels, each with the take that it is in, go by the clocks of their takes, and all others as they did.
fn of_channels(source: &Scene, result: &Scene, clocks: &[Clock], moved: &[(usize, Target)]) -> Promise {
    let excuse = |take: usize, target: &Target| Excuse::new(take, target.clone(), "goes by another clock");
    let all = source
        .takes
        .iter()
        .enumerate()
        .flat_map(|(take, of)| of.tracks().map(move |(_, track)| (take, track)));
    let others: HashSet<(usize, &Target)> = all
        .map(|(take, track)| (take, &track.target))
        .filter(|(take, target)| !moved.iter().any(|(of, own)| of == take && own == *target))
        .collect();
    let mut promise = Promise::timed(source, result, &[]);
    promise.claim.by = By::Properties;
    promise.claim.excuses.extend(moved.iter().map(|(take, target)| excuse(*take, target)));
    let mut claim = Promise::timed(source, result, clocks).claim;
    claim.by = By::Properties;
    claim.excuses.extend(others.iter().map(|(take, target)| excuse(*take, target)));
    let source = Arc::new(source.clone());
    promise.beside.push(Beside { source, claim, scope: None, held: Held::ToLimits });
    promise
}

fn is_meant(patterns: &[String], take: &Take) -> bool {
    patterns.is_empty() || patterns.iter().any(|pattern| matches(pattern, &take.name))
}

/// Whether every pattern means a take.
fn check_takes(scene: &Scene, patterns: &[String], file: &Path) -> Result<(), Failure> {
    for pattern in patterns {
        if !scene.takes.iter().any(|take| matches(pattern, &take.name)) {
            let names = scene.takes.iter().map(|take| take.name.as_str());
            return Err(Failure::unknown("take", pattern, names, file));
        }
    }
    Ok(())
}

impl Step for ClipsRange {
    fn work(&self, source: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        check_takes(source, &self.take, file)?;
        let mut scene = source.clone();
        let (rate, mut notes) = (source.rate, Vec::new());
        for take in scene.takes.iter_mut().filter(|take| is_meant(&self.take, take)) {
            let range = match self.frames {
                Some((first, last)) => Some(TimeRange::new(rate.ticks_at(first), rate.ticks_at(last))),
                None => take.key_range(),
            };
            let Some(range) = range else {
                notes.push(format!("'{}' has no key: its range stays", take.name));
                continue;
            };
            let said = |range: TimeRange| {
                format!("{}:{}", frame(rate.frame(range.first)), frame(rate.frame(range.last)))
            };
            notes.push(match range == take.range {
                true => format!("'{}' goes over {} as it did", take.name, said(range)),
                false => format!("'{}' goes over {} now, for {}", take.name, said(range), said(take.range)),
            });
            take.range = range;
        }
        let promise = Promise::timed(source, &scene, &[]);
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
            let alone = scene.with_only(vec![take.clone()]);
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
