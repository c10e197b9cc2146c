//! Nimble Curve: moves editable keyframe curves between rigs and applications.

mod args;
mod batch;
mod choice;
mod commands;
mod failure;
mod files;
mod gate;
mod named;
mod nodes;
mod pattern;
mod pose;
mod quantity;
mod report;
mod step;
mod table;
mod terminal;
mod words;

use std::process::ExitCode;

use clap::Parser as _;
use clap::error::{ContextKind, ContextValue, ErrorKind};

/// The command line; a word that the trade has for a command is answered with the command.
fn parsed() -> Result<args::Cli, ExitCode> {
    args::Cli::try_parse().map_err(|error| {
        let unknown = match error.get(ContextKind::InvalidSubcommand) {
            Some(ContextValue::String(word)) if error.kind() == ErrorKind::InvalidSubcommand => Some(word),
            _ => None,
        };
        match unknown.and_then(|word| words::answer(word)) {
            Some(answer) => {
                terminal::complain(&answer);
                ExitCode::from(2)
            }
            None => error.exit(),
        }
    })
}

fn main() -> ExitCode {
    let cli = match parsed() {
        Ok(cli) => cli,
        Err(code) => return code,
    };
    if cli.wide {
        terminal::be_wide();
    }
    match commands::run(cli) {
        Ok(code) => code,
        Err(failure) if failure.is_closed_pipe() => ExitCode::SUCCESS,
        Err(failure) => {
            failure.sentences().iter().for_each(|sentence| terminal::complain(sentence));
            ExitCode::FAILURE
        }
    }
}
