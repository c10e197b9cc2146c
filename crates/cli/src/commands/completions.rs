//! `completions`: shell completions from the definitions of the options.

use std::io::Write as _;

use clap::CommandFactory as _;

use crate::args::Cli;
use crate::failure::Failure;

pub fn run(shell: clap_complete::Shell) -> Result<(), Failure> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "nimble-curve", &mut script);
    Ok(std::io::stdout().lock().write_all(&script)?)
}
