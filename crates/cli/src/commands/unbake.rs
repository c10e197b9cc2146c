//! `unbake`: samples to sparse curves.

use std::io::Write;

use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::unbake::{UnbakeOptions, unbake};
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;

use crate::args::Unbake;
use crate::failure::Failure;
use crate::files;
use crate::report::{self, LedgerJson, amount, frame, kind_name};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Unbake) -> Result<(), Failure> {
    args.output.check(&[&args.file])?;
    let loaded = files::read(&args.file, args.input)?;
    let scene = loaded.scene;
    let (result, ledger) = unbake(&scene, &UnbakeOptions { tolerance: args.tolerance });
    args.output.write(&result)?;
    let mut out = Report::beside(&args.output.output);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), args.output.output.display());
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    if ledger.count(Fate::Refitted) == 0 {
        writeln!(out, "  nothing is sampled: all tracks stay as they are")?;
        return Ok(());
    }
    print_table(&mut out, &ledger, &scene.space, args)
}

fn print_table(out: &mut impl Write, ledger: &Ledger, space: &Space, args: &Unbake) -> Result<(), Failure> {
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
    for quantity in [Quantity::Angle, Quantity::Length, Quantity::Scalar] {
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
            amount(args.tolerance.of(quantity, space), quantity, space),
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
    let still = refitted.iter().filter(|entry| entry.after == 0).count();
    if still > 0 {
        writeln!(out, "  {} of the tracks never leave rest and need no keys", still)?;
    }
    Ok(())
}

fn percent(part: usize, whole: usize) -> String {
    format!("{:.1}%", 100.0 * part as f64 / whole.max(1) as f64)
}
