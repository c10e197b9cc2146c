//! `convert`: format to format, and controllers into other types.

use std::io::Write as _;

use nimble_curve_core::ops::controllers::{ChangeOptions, Form, change_all};

use crate::args::{ControllerType, Convert};
use crate::failure::Failure;
use crate::files::{self, OutputArgs};
use crate::report::{self, LedgerJson};
use crate::terminal::{Report, Style};

pub fn run(args: &Convert) -> Result<(), Failure> {
    let output = OutputArgs { output: args.output.clone(), in_place: args.in_place };
    output.check(&[&args.file])?;
    let mut scene = files::read(&args.file, args.input)?.scene;
    let changed = args.controllers.map(|form| {
        let form = match form {
            ControllerType::Curves => Form::Curves,
            ControllerType::Quaternion => Form::Quaternion,
            ControllerType::Constant => Form::Constant,
            ControllerType::Samples => Form::Samples(scene.rate),
        };
        let options = ChangeOptions { form, only: args.only.clone(), tolerance: args.tolerance };
        let (changed, ledger) = change_all(&scene, &options);
        scene = changed;
        ledger
    });
    let written = output.write(&scene)?;
    let ledger = changed.as_ref().unwrap_or(&written);
    let mut out = Report::beside(&args.output);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), args.output.display());
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    if !ledger.entries.is_empty() {
        report::print_fates(&mut out, ledger, &scene.space)?;
    }
    for entry in ledger.entries.iter().filter(|entry| !entry.note.is_empty() && changed.is_some()) {
        writeln!(out, "  {} {}", entry.channel, Style::Faint.paint(&entry.note))?;
    }
    Ok(())
}
