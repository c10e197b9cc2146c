//! `convert`: format to format.

use crate::args::Convert;
use crate::failure::Failure;
use crate::files::{self, OutputArgs};
use crate::report::{self, LedgerJson};
use crate::terminal::{Report, Style};

pub fn run(args: &Convert) -> Result<(), Failure> {
    let output = OutputArgs { output: args.output.clone(), in_place: args.in_place };
    output.check(&[&args.file])?;
    let loaded = files::read(&args.file, args.input)?;
    let ledger = output.write(&loaded.scene)?;
    let mut out = Report::beside(&args.output);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &loaded.scene.space))?);
    }
    use std::io::Write as _;
    let arrow = format!("{} → {}", args.file.display(), args.output.display());
    writeln!(out, "{}", Style::Strong.paint(&arrow))?;
    if !ledger.entries.is_empty() {
        report::print_fates(&mut out, &ledger, &loaded.scene.space)?;
    }
    Ok(())
}
