//! `cycle`: loops found, closed, written out.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use nimble_curve_core::judge::{Claim, Scope};
use nimble_curve_core::ops::cycle::{
    Candidate, Closing, CycleOptions, close, closed, extend, extended, find,
};
use nimble_curve_core::ops::travel::travel;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::{Ticks, TimeRange};
use nimble_curve_core::value::Quantity;
use serde_json::json;

use crate::args::{Cycle, CycleAction, CycleClose, CycleExtend, CycleFind, Which};
use crate::failure::Failure;
use crate::files;
use crate::gate::{Beside, Held, Promise};
use crate::report::{self, LedgerJson, amount, counted, degrees, frame, print_json};
use crate::step::{SceneCache, Step, StepOutput, between_files};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Cycle) -> Result<(), Failure> {
    match &args.action {
        CycleAction::Find(args) => run_find(args),
        CycleAction::Close(args) => run_close(args),
        CycleAction::Extend(args) => run_extend(args),
    }
}

/// How well a range loops, in a word.
fn verdict(candidate: &Candidate) -> &'static str {
    match candidate.jump() {
        _ if candidate.travel.ends.is_loop() => "loops",
        pop if pop < 1.5 => "nearly",
        jump if jump < 8.0 => "jumps",
        _ => "no",
    }
}

fn run_find(args: &CycleFind) -> Result<(), Failure> {
    let scene = files::read(&args.file, args.input)?.scene;
    if scene.takes.is_empty() {
        return Err(Failure::new(format!("{}: there is no take, and so no loop", args.file.display())));
    }
    let all = find(&scene, args.rows)?;
    let mut out = Report::out();
    let rate = scene.rate;
    if args.json {
        let row = |candidate: &Candidate| {
            let (travel, metres) = (&candidate.travel, scene.space.metres_per_unit);
            json!({
                "name": candidate.name,
                "take": candidate.take,
                "first": rate.frame(candidate.range.first),
                "last": rate.frame(candidate.range.last),
                "verdict": verdict(candidate),
                "jump_deg": candidate.jump(),
                "ends_apart_deg": travel.ends.angle.to_degrees(),
                "ends_apart_at": travel.ends.node,
                "speed_changes_deg_s": travel.ends.speed.to_degrees(),
                "speed_changes_at": travel.ends.speed_node,
                "turn_deg": travel.turn.to_degrees(),
                "climb_m": travel.height_change * metres,
                "travel_m": travel.distance * metres,
            })
        };
        return Ok(print_json(&mut out, &all.iter().map(row).collect::<Vec<_>>())?);
    }
    let loops = all.iter().filter(|candidate| candidate.travel.ends.is_loop()).count();
    let nearly = all.iter().filter(|candidate| verdict(candidate) == "nearly").count();
    let style = if loops > 0 { Style::Good } else { Style::Warn };
    let said = format!("{}; loops: {loops}, nearly: {nearly}", counted(all.len(), "range"));
    report::head(&mut out, &args.file.display().to_string(), &(style, said))?;
    let mut table = Table::new(&[
        ("range", Align::Left),
        ("take", Align::Left),
        ("frames", Align::Right),
        ("verdict", Align::Left),
        ("ends apart", Align::Right),
        ("at", Align::Left),
        ("speed changes", Align::Right),
        ("at", Align::Left),
        ("travel", Align::Right),
        ("turn", Align::Right),
        ("climb", Align::Right),
    ]);
    for candidate in &all {
        let (travel, ends) = (&candidate.travel, &candidate.travel.ends);
        let first = frame(rate.frame(candidate.range.first));
        let last = frame(rate.frame(candidate.range.last));
        let name = candidate.name.clone().unwrap_or_else(|| "(inside)".into());
        let cells = [
            name,
            candidate.take.clone(),
            format!("{first}:{last}"),
            verdict(candidate).to_owned(),
            format!("{:.2} deg", ends.angle.to_degrees()),
            ends.node.clone(),
            format!("{:.1} deg/s", ends.speed.to_degrees()),
            ends.speed_node.clone(),
            amount(travel.distance, Quantity::Length, &scene.space),
            degrees(travel.turn),
            amount(travel.height_change, Quantity::Length, &scene.space),
        ];
        if ends.is_loop() { table.styled(Style::Good, cells) } else { table.row(cells) }
    }
    table.print(&mut out)?;
    Ok(())
}

/// The take and the range that the command line means.
fn options(scene: &Scene, which: &Which, file: &Path) -> Result<CycleOptions, Failure> {
    let mut take = which.take.clone();
    let mut range = which
        .frames
        .map(|(first, last)| TimeRange::new(scene.rate.ticks_at(first), scene.rate.ticks_at(last)));
    if let Some(name) = &which.clip {
        let clips = || {
            let of_take = scene.takes.iter().filter(|own| take.as_ref().is_none_or(|take| *take == own.name));
            of_take.flat_map(|take| take.clips.iter().map(move |clip| (take, clip)))
        };
        let Some((own, clip)) = clips().find(|(_, clip)| clip.name == *name) else {
            return Err(Failure::unknown("clip", name, clips().map(|(_, clip)| clip.name.as_str()), file));
        };
        range = Some(clip.range);
        take = Some(own.name.clone());
    }
    Ok(CycleOptions { take, range, tolerance: which.tolerance })
}

impl Step for CycleClose {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let options = options(scene, &self.which, file)?;
        let closing = Closing {
            over: Ticks((f64::from(self.blend) * scene.rate.ticks_per_frame()).round() as i64),
            only: self.choice.channels(scene, file)?,
        };
        let (result, ledger) = close(scene, &closing, &options)?;
        let claims = closed(scene, &result, &closing, &options)?;
        let beside = |source: &Arc<Scene>, claim, held| Beside {
            source: Arc::clone(source),
            claim,
            scope: None,
            held,
        };
        let (before, after) = (Arc::new(scene.clone()), Arc::new(result.clone()));
        let others = claims.others.map(|claim| beside(&before, claim, Held::ToLimits));
        let beside =
            [beside(&before, claims.inside, Held::Told), beside(&after, claims.ends, Held::ToLimits)]
                .into_iter()
                .chain(others)
                .collect();
        let claim = Claim { takes_chosen: true, ..claims.outside };
        let promise = Promise { beside, ..Promise::of(claim, self.which.tolerance, Scope::Everything) };
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}

impl Step for CycleExtend {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let options = options(scene, &self.which, file)?;
        let (result, ledger) = extend(scene, self.rounds, &options)?;
        let mut claims = extended(scene, &result, self.rounds, &options)?.into_iter();
        let first = claims.next().unwrap_or_else(Claim::nothing);
        let before = Arc::new(scene.clone());
        let beside = |claim| Beside { source: Arc::clone(&before), claim, scope: None, held: Held::ToLimits };
        let beside = claims.map(beside).collect();
        let promise = Promise { beside, ..Promise::of(first, self.which.tolerance, Scope::MotionAlone) };
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}

fn run_close(args: &CycleClose) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, StepOutput { scene: result, ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let options = options(&scene, &args.which, &args.file)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    let moved = || ledger.entries.iter().filter(|entry| entry.error.is_some());
    report::print_entries(&mut out, moved(), &scene.space)?;
    let index = match &options.take {
        Some(name) => result.takes.iter().position(|take| take.name == *name).unwrap_or(0),
        None => 0,
    };
    let take = &result.takes[index];
    let range = options.range.unwrap_or(take.range);
    let ends = travel(&result, take, range)?.ends;
    let line = format!(
        "the ends are {} deg apart now; {} of {} channels were moved",
        report::short(ends.angle.to_degrees()),
        moved().count(),
        ledger.entries.len()
    );
    let style = if ends.is_loop() { Style::Good } else { Style::Warn };
    writeln!(out, "  {}", style.paint(&line))?;
    Ok(report::close(&mut out, &closing)?)
}

fn run_extend(args: &CycleExtend) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, StepOutput { scene: result, ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let options = options(&scene, &args.which, &args.file)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    report::print_fates(&mut out, &ledger, &scene.space)?;
    for take in result.takes.iter().filter(|take| options.take.as_ref().is_none_or(|name| *name == take.name))
    {
        let (first, last) = (scene.rate.frame(take.range.first), scene.rate.frame(take.range.last));
        let net = travel(&result, take, take.range)?;
        writeln!(
            out,
            "  {} rounds: frames {}:{}, {} from start to end, {:.1} deg turned",
            args.rounds,
            frame(first),
            frame(last),
            amount(net.distance, Quantity::Length, &scene.space),
            net.turn.to_degrees()
        )?;
    }
    Ok(report::close(&mut out, &closing)?)
}
