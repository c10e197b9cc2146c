//! `unbake`: samples to sparse curves.

use std::io::Write;
use std::path::Path;

use nimble_curve_core::fit::BEYOND_BAND;
use nimble_curve_core::judge::Sampling;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::capture::ChannelNoise;
use nimble_curve_core::ops::unbake::{TradeOff, UnbakeOptions, Unbaked, fewest_keys, trade_off, unbake};
use nimble_curve_core::ops::{Tolerance, body_part_rank};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;

use self::prepared::{Prepared, said};
use crate::args::Unbake;
use crate::failure::Failure;
use crate::files;
use crate::gate::{self, InWorld, Origin, Promise};
use crate::report::{self, LedgerJson, amount, counted, frame, kind_name};
use crate::step::{SceneCache, Step, StepOutput};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

mod prepared;

/// Beyond so many samples the other tolerances are not tried, as each takes as long as the fit.
const MOST_TO_TRY: usize = 2_000_000;

impl Step for Unbake {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let prepared = Prepared::new(self, scene, file)?;
        let (options, unbaked) = unbaked(self, &prepared.source, &prepared.options)?;
        let mut worked = StepOutput::new(unbaked.scene, unbaked.ledger);
        worked.promise = Some(promise(self, &options, &prepared.source, (&worked.scene, &worked.ledger)));
        worked.warnings.extend(prepared.remarks());
        if !prepared.faults.is_empty() {
            worked.origin = Some(prepared.source.into_owned());
        }
        Ok(worked)
    }
}

pub fn run(args: &Unbake) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    output.check(&[&args.file])?;
    let scene = files::read(&args.file, args.input)?.scene;
    let prepared = Prepared::new(args, &scene, &args.file)?;
    let scene = &*prepared.source;
    let (options, mut unbaked) = unbaked(args, scene, &prepared.options)?;
    let promise = promise(args, &options, scene, (&unbaked.scene, &unbaked.ledger));
    let origin = Origin { source: scene, promise: &promise };
    let written = output.write(&unbaked.scene, &args.file, Some(origin))?;
    written.verdict.settle(&mut unbaked.ledger, scene);
    let beside = unbaked.ledger.notes.clone();
    unbaked.ledger.notes.extend(prepared.remarks());
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
    print_prepared(&mut out, &prepared, &scene.space)?;
    print_table(&mut out, &unbaked.ledger, &scene.space, &options)?;
    report::print_remarks(&mut out, &beside)?;
    let again = written.ledger.entries.iter().filter(|entry| entry.fate == Fate::Sampled);
    let values: usize = again.map(|entry| entry.after).sum();
    if values > 0 {
        let seen = format!(
            "the format cannot hold that: other programs see {values} samples there (.ncurve keeps the keys)"
        );
        report::close(&mut out, &[(Style::Warn, seen)])?;
    }
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
        let others = trade_off(scene, &options, &[0.25, 0.5, 2.0, 4.0])?;
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
    let own = options.tolerance_for.iter().map(|(_, own)| own).chain(options.tolerance_of.values());
    let widest = own.fold(options.tolerance, |widest, own| Tolerance {
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

/// What was done before anything was fitted.
fn print_prepared(out: &mut impl Write, prepared: &Prepared<'_>, space: &Space) -> Result<(), Failure> {
    if let Some(spelt_out) = &prepared.spelt_out {
        writeln!(out, "  {spelt_out}")?;
    }
    for remark in prepared.remarks() {
        writeln!(out, "  {}", Style::Warn.paint(&remark))?;
    }
    match &prepared.noise {
        Some(noise) => print_noise(out, noise, &prepared.options, space),
        None => Ok(()),
    }
}

/// The noise by part of the body, and what is allowed for it.
fn print_noise(
    out: &mut impl Write,
    noise: &[ChannelNoise],
    options: &UnbakeOptions,
    space: &Space,
) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("noise of", Align::Left),
        ("kind", Align::Left),
        ("tracks", Align::Right),
        ("median", Align::Right),
        ("largest", Align::Right),
        ("allowed, largest", Align::Right),
    ]);
    let told = || noise.iter().filter(|own| own.size.is_some());
    let mut parts: Vec<(usize, &str, Quantity)> =
        told().map(|own| (body_part_rank(&own.part), own.part.as_str(), own.quantity)).collect();
    parts.sort_by_key(|(rank, part, quantity)| (*rank, *part, *quantity as usize));
    parts.dedup();
    for (_, part, quantity) in parts {
        let own: Vec<&ChannelNoise> =
            told().filter(|own| own.part == part && own.quantity == quantity).collect();
        let mut sizes: Vec<f64> = own.iter().filter_map(|own| own.size).collect();
        sizes.sort_by(f64::total_cmp);
        let allowed = own.iter().map(|own| {
            let tolerance = options.tolerance_of.get(&own.channel).unwrap_or(&options.tolerance);
            tolerance.of(quantity, space)
        });
        let shown = |size: f64| amount(size, quantity, space);
        table.row([
            part.to_owned(),
            kind_name(quantity).to_owned(),
            own.len().to_string(),
            shown(sizes[sizes.len() / 2]),
            shown(sizes[sizes.len() - 1]),
            shown(allowed.fold(0.0, f64::max)),
        ]);
    }
    Ok(table.print(out)?)
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
    let said = |factor: f64, tolerance: Tolerance| match options.tolerance_of.is_empty() {
        true => shown(tolerance.angle, tolerance.length),
        // Each channel has its own.
        false if factor == 1.0 => "these".to_owned(),
        false => format!("{factor} times these"),
    };
    let mut rows: Vec<(f64, String, usize)> =
        others.iter().map(|other| (other.factor, said(other.factor, other.tolerance), other.keys)).collect();
    rows.push((1.0, said(1.0, options.tolerance), keys));
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
                _ if !options.tolerance_of.is_empty() => "by its noise".to_owned(),
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
