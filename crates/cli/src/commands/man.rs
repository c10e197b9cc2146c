//! `man`: manual pages from the definitions of the options.

use std::io::Write as _;
use std::path::Path;

use clap::{Command, CommandFactory as _};

use crate::args::{Cli, Man};
use crate::failure::Failure;
use crate::report::counted;
use crate::terminal::{Report, Style};

pub fn run(args: &Man) -> Result<(), Failure> {
    let folder = &args.folder;
    std::fs::create_dir_all(folder)
        .map_err(|error| Failure::new(format!("{}: the folder cannot be made: {error}", folder.display())))?;
    let mut program = Cli::command();
    program.build();
    let count = pages(&program, "nimble-curve", folder)?;
    let mut out = Report::out();
    let title = Style::Strong.paint(&folder.display().to_string());
    writeln!(out, "{title}  {}; man -M looks below a folder man1", counted(count, "page"))?;
    Ok(())
}

/// Writes the page of a command and those of its own commands; says how many.
fn pages(command: &Command, name: &str, folder: &Path) -> Result<usize, Failure> {
    let mut page = Vec::new();
    let own = command.clone().display_name(name.to_owned()).disable_help_subcommand(true);
    clap_mangen::Man::new(own).title(name.to_uppercase()).render(&mut page)?;
    nimble_curve_formats::write_bytes(&page, &folder.join(format!("{name}.1")))?;
    let mut count = 1;
    for below in command.get_subcommands().filter(|below| below.get_name() != "help") {
        count += pages(below, &format!("{name}-{}", below.get_name()), folder)?;
    }
    Ok(count)
}
