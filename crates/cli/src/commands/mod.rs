//! One module a command.

mod bake;
mod carry;
mod check;
pub mod clips;
mod compare;
mod completions;
mod convert;
mod cycle;
mod demo;
mod inspect;
mod layers;
mod man;
mod map;
mod plot;
mod reorder;
mod rig;
mod root;
mod run;
mod schema;
mod unbake;

use std::process::ExitCode;

use crate::args::{Cli, Command};
use crate::failure::Failure;

/// Runs a command.
pub fn run(cli: Cli) -> Result<ExitCode, Failure> {
    if cli.licences {
        crate::report::print_text(&mut crate::terminal::Report::out(), include_str!("../../NOTICES.txt"))?;
        return Ok(ExitCode::SUCCESS);
    }
    let Some(command) = cli.command else {
        return Err(Failure::new(
            "no command is given: see 'nimble-curve --help', or start with 'nimble-curve demo'",
        ));
    };
    match command {
        Command::Check(args) => return check::run(&args),
        Command::Compare(args) => return compare::run(&args),
        Command::Run(args) => return run::run(&args),
        Command::Inspect(args) => inspect::run(&args),
        Command::Convert(args) => convert::run(&args),
        Command::Unbake(args) => unbake::run(&args),
        Command::Bake(args) => bake::run(&args),
        Command::Reorder(args) => reorder::run(&args),
        Command::Map(args) => map::run(&args),
        Command::Carry(args) => carry::run(&args),
        Command::Rig(args) => rig::run(&args),
        Command::Layers(args) => layers::run(&args),
        Command::Clips(args) => clips::run(&args),
        Command::Root(args) => root::run(&args),
        Command::Cycle(args) => cycle::run(&args),
        Command::Demo(args) => demo::run(&args),
        Command::Plot(args) => plot::run(&args),
        Command::Schema { of } => schema::run(of),
        Command::Man(args) => man::run(&args),
        Command::Completions { shell } => completions::run(shell),
    }?;
    Ok(ExitCode::SUCCESS)
}
