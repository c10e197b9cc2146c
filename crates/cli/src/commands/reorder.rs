//! `reorder`: other rotation orders.

use std::io::Write as _;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::carry::similar;
use nimble_curve_core::ops::reorder::{ReorderError, ReorderOptions, reorder};

use crate::args::Reorder;
use crate::failure::Failure;
use crate::files;
use crate::report::{self, LedgerJson, amount, frame};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Reorder) -> Result<(), Failure> {
    args.output.check(&[&args.file])?;
    let scene = files::read(&args.file, args.input)?.scene;
    let options = ReorderOptions { to: args.to, only: args.only.clone(), tolerance: args.tolerance };
    let (result, ledger) = reorder(&scene, &options).map_err(|error| match &error {
        ReorderError::NoMatch(pattern) => match similar(pattern, Addresses::new(&scene).texts()) {
            Some(name) => Failure::new(format!("{error} (did you mean '{name}'?)")),
            None => Failure::Reorder(error),
        },
    })?;
    args.output.write(&result)?;
    let mut out = Report::beside(&args.output.output);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {} in {}", args.file.display(), args.output.output.display(), args.to);
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    let mut table = Table::new(&[
        ("channel", Align::Left),
        ("fate", Align::Left),
        ("before", Align::Right),
        ("after", Align::Right),
        ("largest error", Align::Right),
        ("at frame", Align::Right),
        ("note", Align::Left),
    ]);
    for entry in &ledger.entries {
        let error = entry.error.filter(|_| entry.fate == Fate::Refitted);
        table.row([
            entry.channel.clone(),
            entry.fate.name().to_owned(),
            entry.before.to_string(),
            entry.after.to_string(),
            error.map_or(String::new(), |e| amount(e.largest, e.quantity, &scene.space)),
            error.map_or(String::new(), |e| frame(e.frame)),
            entry.note.clone(),
        ]);
    }
    if !table.is_empty() {
        table.print(&mut out)?;
    }
    for note in &ledger.notes {
        writeln!(out, "  {note}")?;
    }
    Ok(())
}
