//! Nimble Curve: moves editable keyframe curves between rigs and applications.

mod args;
mod batch;
mod commands;
mod failure;
mod files;
mod gate;
mod quantity;
mod report;
mod step;
mod table;
mod terminal;

use std::process::ExitCode;

use clap::Parser as _;

fn main() -> ExitCode {
    match commands::run(args::Cli::parse()) {
        Ok(code) => code,
        Err(failure) if failure.is_closed_pipe() => ExitCode::SUCCESS,
        Err(failure) => {
            failure.sentences().iter().for_each(|sentence| terminal::complain(sentence));
            ExitCode::FAILURE
        }
    }
}
