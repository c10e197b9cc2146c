//! `unbake`: samples to sparse curves.

use std::io::Write;
use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::choice::Choice;
use nimble_curve_core::fit::BEYOND_BAND;
use nimble_curve_core::judge::Sampling;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::reorder::NewOrder;
use nimble_curve_core::ops::unbake::{
    FitOrder, KeySets, TradeOff, UnbakeOptions, Unbaked, fewest_keys, trade_off, unbake,
};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_core::value::Quantity;

use crate::args::{Keys, Rotations, Unbake};
use crate::failure::Failure;
use crate::gate::{self, InWorld, Origin, Promise};
use crate::report::{self, LedgerJson, amount, counted, frame, kind_name};
use crate::step::{SceneCache, Step, StepOutput};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};
use crate::{files, quantity};

/// Beyond so many samples the other tolerances are not tried, as each takes as long as the fit.
const MOST_TO_TRY: usize = 2_000_000;

impl Step for Unbake {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let (options, unbaked) = unbaked(self, scene, &options(self, scene, file)?)?;
        let mut worked = StepOutput::new(unbaked.scene, unbaked.ledger);
        worked.promise = Some(promise(self, &options, scene, (&worked.scene, &worked.ledger)));
        Ok(worked)
    }
}

pub fn run(args: &Unbake) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    output.check(&[&args.file])?;
    let scene = files::read(&args.file, args.input)?.scene;
    let (options, mut unbaked) = unbaked(args, &scene, &options(args, &scene, &args.file)?)?;
    let promise = promise(args, &options, &scene, (&unbaked.scene, &unbaked.ledger));
    let origin = Origin { source: &scene, promise: &promise };
    let written = output.write(&unbaked.scene, &args.file, Some(origin))?;
    written.verdict.settle(&mut unbaked.ledger, &scene);
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&unbaked.ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    let refitted = || unbaked.ledger.entries.iter().filter(|entry| entry.fate == Fate::Refitted);
    let samples: usize = refitted().map(|entry| entry.before).sum();
    if samples == 0 {
        let nothing = "nothing is baked: all tracks stay as they are (--refit fits sparse curves anew)";
        return Ok(report::head(&mut out, &arrow, &(Style::Warn, nothing.to_owned()))?);
    }
    let keys: usize = refitted().map(|entry| entry.after).sum();
    let (style, _) = gate::outcome(&unbaked.ledger, &written.verdict, &unbaked.scene);
    let off =
        gate::distance(&written.verdict, &unbaked.scene).map_or(String::new(), |off| format!("; {off}"));
    let outcome =
        format!("{samples} samples became {} ({}){off}", counted(keys, "key"), percent(keys, samples));
    report::head(&mut out, &arrow, &(style, outcome))?;
    print_table(&mut out, &unbaked.ledger, &scene.space, &options)?;
    if args.keys_at_most.is_some() {
        let found = said(&options.tolerance);
        writeln!(
            out,
            "  {}",
            Style::Good.paint(&format!("the tightest tolerance with so few keys: {found}"))
        )?;
    }
    // How far joints are off in the world is for the judge to say.
    if let Some((_, _, added)) = unbaked.world.filter(|_| !args.planted.is_empty()) {
        let shown = amount(added, Quantity::Length, &scene.space);
        writeln!(out, "  contacts of watched nodes move by {shown}")?;
    }
    if !args.no_other_tolerances && samples <= MOST_TO_TRY {
        let others = trade_off(&scene, &options, &[0.25, 0.5, 2.0, 4.0])?;
        print_trade_off(&mut out, &others, &unbaked.ledger, &options)?;
    }
    Ok(report::close(&mut out, &gate::closing(&written.verdict, &unbaked.scene))?)
}

/// What comes of it, and the options that it comes of: those that were given, or as few keys as were asked for.
fn unbaked(
    args: &Unbake,
    scene: &Scene,
    options: &UnbakeOptions,
) -> Result<(UnbakeOptions, Unbaked), Failure> {
    Ok(match args.keys_at_most {
        Some(limit) => fewest_keys(scene, options, limit)?,
        None => (options.clone(), unbake(scene, options)?),
    })
}

/// The same motion within the widest of the tolerances.
fn promise(
    args: &Unbake,
    options: &UnbakeOptions,
    source: &Scene,
    (result, ledger): (&Scene, &Ledger),
) -> Promise {
    let widest = options.tolerance_for.iter().fold(options.tolerance, |widest, (_, own)| Tolerance {
        angle: widest.angle.max(own.angle),
        length: widest.length.max(own.length),
        number: widest.number.max(own.number),
    });
    // Three channels that are each within it are together within more: of angles the outer two may add up.
    let (turn, place) = if args.per_channel { (5_f64.sqrt(), 3_f64.sqrt()) } else { (1.0, 1.0) };
    let together = Tolerance { angle: turn * widest.angle, length: place * widest.length, ..widest };
    let mut promise = Promise::same(source, result, together);
    promise.claim = promise.claim.excusing(source, ledger);
    promise.claim.sampling = if args.refit { Sampling::Frames } else { Sampling::KeysOfSource };
    promise.between = if args.refit { f64::INFINITY } else { BEYOND_BAND };
    promise.world = options.world.map(|metres| InWorld { metres, angle: f64::INFINITY });
    promise
}

fn options(args: &Unbake, scene: &Scene, file: &Path) -> Result<UnbakeOptions, Failure> {
    let at = |frame: &f64| scene.rate.ticks_at(*frame);
    let mut tolerance_for = Vec::with_capacity(args.tolerance_for.len());
    let addresses = Addresses::new(scene);
    for (pattern, text) in &args.tolerance_for {
        let tolerance = quantity::tolerance_over(args.tolerance, text).map_err(Failure::new)?;
        let choice = Choice::among(scene, &addresses, (std::slice::from_ref(pattern), &[]), &[]);
        let choice = choice.map_err(|error| Failure::new(format!("--tolerance-for: {error}")))?;
        let is_animated = (scene.takes.iter().flat_map(Take::tracks)).any(|(_, track)| {
            let node = addresses.node((track.target.rig, track.target.node));
            choice.takes(&[addresses.property(&track.target).as_str(), node])
        });
        if !is_animated {
            return Err(Failure::new(format!("--tolerance-for: no animated channel matches '{pattern}'")));
        }
        tolerance_for.push((choice, tolerance));
    }
    let keys = scene.takes.iter().filter_map(|take| take.key_range()).reduce(TimeRange::union);
    let lies_outside =
        |first: f64, last: f64| keys.is_some_and(|keys| at(&last) < keys.first || at(&first) > keys.last);
    if let Some((first, last)) = args.frames.filter(|(first, last)| lies_outside(*first, *last)) {
        return Err(Failure::new(format!("--frames {first}:{last} lies outside all keys and samples")));
    }
    if let Some(frame) = args.keep.iter().find(|frame| lies_outside(**frame, **frame)) {
        return Err(Failure::new(format!("--keep {frame} lies outside all keys and samples")));
    }
    Ok(UnbakeOptions {
        only: args.choice.channels(scene, file)?,
        tolerance: args.tolerance,
        tolerance_for,
        world: args.world,
        watch: args.planted.clone(),
        per_channel: args.per_channel,
        keys: match args.keys {
            Keys::Free => KeySets::Free,
            Keys::Node => KeySets::Node,
            Keys::Pose => KeySets::Pose,
        },
        order: match args.order {
            None => FitOrder::Own,
            Some(NewOrder::To(order)) => FitOrder::To(order),
            Some(NewOrder::Best) => FitOrder::Best,
        },
        handles: args.tangents.into(),
        quaternions: args.rotations == Rotations::Quaternions,
        keep: args.keep.iter().map(at).collect(),
        range: args.frames.map(|(first, last)| TimeRange::new(at(&first), at(&last))),
        again: args.refit,
        fewest: args.keys_at_most.is_some(),
    })
}

/// A tolerance as it is typed.
fn said(tolerance: &Tolerance) -> String {
    let short = |number: f64| report::short(number);
    format!(
        "{}deg,{}mm,{}",
        short(tolerance.angle.to_degrees()),
        short(tolerance.length * 1000.0),
        short(tolerance.number)
    )
}

/// How many keys stricter and looser tolerances would give.
fn print_trade_off(
    out: &mut impl Write,
    others: &[TradeOff],
    ledger: &Ledger,
    options: &UnbakeOptions,
) -> Result<(), Failure> {
    let keys: usize =
        ledger.entries.iter().filter(|e| e.fate == Fate::Refitted).map(|entry| entry.after).sum();
    let metre = Space { metres_per_unit: 1.0, ..Space::METRES_Y_UP };
    let shown = |angle: f64, length: f64| {
        format!("{}, {}", amount(angle, Quantity::Angle, &metre), amount(length, Quantity::Length, &metre))
    };
    let mut rows: Vec<(f64, String, usize)> = others
        .iter()
        .map(|other| (other.factor, shown(other.tolerance.angle, other.tolerance.length), other.keys))
        .collect();
    rows.push((1.0, shown(options.tolerance.angle, options.tolerance.length), keys));
    rows.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut table =
        Table::new(&[("other tolerances", Align::Left), ("keys", Align::Right), ("of these", Align::Right)]);
    for (factor, tolerance, count) in rows {
        let part = percent(count, keys);
        let cells = [tolerance, count.to_string(), part];
        if factor == 1.0 { table.styled(Style::Strong, cells) } else { table.row(cells) }
    }
    Ok(table.print(out)?)
}

fn print_table(
    out: &mut impl Write,
    ledger: &Ledger,
    space: &Space,
    options: &UnbakeOptions,
) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("kind", Align::Left),
        ("tracks", Align::Right),
        ("samples", Align::Right),
        ("keys", Align::Right),
        ("keys/samples", Align::Right),
        ("allowed", Align::Right),
        ("largest error", Align::Right),
        ("rms", Align::Right),
        ("largest at", Align::Left),
    ]);
    let refitted: Vec<&Entry> = ledger.entries.iter().filter(|entry| entry.fate == Fate::Refitted).collect();
    for quantity in [Quantity::Angle, Quantity::Length, Quantity::Number] {
        let part: Vec<&&Entry> = refitted
            .iter()
            .filter(|entry| entry.error.is_some_and(|error| error.quantity == quantity))
            .collect();
        let (Some(error), Some(worst)) = (ledger.error(quantity), ledger.worst(quantity)) else { continue };
        let samples: usize = part.iter().map(|entry| entry.before).sum();
        let keys: usize = part.iter().map(|entry| entry.after).sum();
        table.row([
            kind_name(quantity).to_owned(),
            part.len().to_string(),
            samples.to_string(),
            keys.to_string(),
            percent(keys, samples),
            match options.per_channel {
                true => format!("{} each", amount(options.tolerance.of(quantity, space), quantity, space)),
                false => amount(options.tolerance.of(quantity, space), quantity, space),
            },
            amount(error.largest, quantity, space),
            amount(error.rms(), quantity, space),
            format!("{} frame {}", worst.channel, frame(error.frame)),
        ]);
    }
    let samples: usize = refitted.iter().map(|entry| entry.before).sum();
    let keys: usize = refitted.iter().map(|entry| entry.after).sum();
    let tracks = refitted.len().to_string();
    let cells = ["all".to_owned(), tracks, samples.to_string(), keys.to_string(), percent(keys, samples)];
    table.styled(Style::Strong, cells);
    table.print(out)?;
    let noted = |note: &str| refitted.iter().filter(|entry| entry.note == note).count();
    let (recovered, still) = (noted("recovered"), refitted.iter().filter(|entry| entry.after == 0).count());
    let partly = noted("partly recovered");
    if recovered > 0 {
        let text =
            format!("of {}, the keys that they were baked from were recovered", counted(recovered, "track"));
        writeln!(out, "  {}", Style::Good.paint(&text))?;
    }
    if partly > 0 {
        writeln!(out, "  of {}, most were, and some stretches fitted", counted(partly, "track"))?;
    }
    if still > 0 {
        writeln!(out, "  {} never leave rest and need no keys", counted(still, "track"))?;
    }
    Ok(())
}

fn percent(part: usize, whole: usize) -> String {
    format!("{:.1}%", 100.0 * part as f64 / whole.max(1) as f64)
}
