//! The program `nimble-curve`, as a library for its own binary and for fuzzing: other programs build on `nimble-curve-core` and
//! `nimble-curve-formats`. Nothing of it is promised to stay as it is.

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
mod sheet;
mod step;
mod table;
mod terminal;
mod words;

use std::panic::AssertUnwindSafe;
use std::path::Path;
use std::process::ExitCode;
use std::sync::{Mutex, PoisonError};

use clap::Parser as _;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::failure::Failure;

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

/// Runs the program on the arguments of this process; the code it ends with is in docs/recipes.md, "Exit codes".
pub fn run() -> ExitCode {
    let cli = match parsed() {
        Ok(cli) => cli,
        Err(code) => return code,
    };
    if cli.wide {
        terminal::be_wide();
    }
    let path = cli.sheet.clone();
    let work = || sheet::during(path.as_deref(), || commands::run(cli));
    match caught(work) {
        Ok(code) => code,
        Err(failure) if failure.is_closed_pipe() => ExitCode::SUCCESS,
        Err(failure) => {
            failure.sentences().iter().for_each(|sentence| terminal::complain(sentence));
            failure.code()
        }
    }
}

/// Reads a text as a recipe that lies at a path, which is not looked at: whether it is one, or the lines that say why not.
///
/// # Errors
/// What is wrong with it, as the command says it.
#[doc(hidden)]
pub fn check_recipe(text: &str, path: &Path) -> Result<(), Vec<String>> {
    batch::Recipe::parse(text, path)
        .map(drop)
        .map_err(|failure| failure.sentences().iter().map(|sentence| terminal::safe(sentence)).collect())
}

/// Runs a command; a fault of the program itself becomes one line that says what to do, and a code of its own.
fn caught(command: impl FnOnce() -> Result<ExitCode, Failure>) -> Result<ExitCode, Failure> {
    /// What programs of this language end with when they panic.
    const PANICKED: u8 = 101;
    static FAULT: Mutex<Option<String>> = Mutex::new(None);
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if std::env::var_os("RUST_BACKTRACE").is_some_and(|asked| asked != "0") {
            usual(info);
        }
        let said = info
            .payload_as_str()
            .and_then(|said| said.lines().next())
            .unwrap_or("no reason given")
            .to_owned();
        let place = info.location().map_or("an unknown place".to_owned(), ToString::to_string);
        // The first one is the cause.
        FAULT.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(format!("{said} at {place}"));
    }));
    std::panic::catch_unwind(AssertUnwindSafe(command)).unwrap_or_else(|_| {
        let fault = FAULT.lock().unwrap_or_else(PoisonError::into_inner).take();
        let fault = fault.unwrap_or_else(|| "nothing more is known".to_owned());
        let words: Vec<String> =
            std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
        terminal::complain(&format!(
            "this is a fault of nimble-curve {}, not of yours: please report it with this line and the file, 'nimble-curve {}': {fault}",
            env!("CARGO_PKG_VERSION"),
            words.join(" ")
        ));
        Ok(ExitCode::from(PANICKED))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_of_the_program_ends_it_with_a_code_of_its_own() {
        let code = caught(|| -> Result<ExitCode, Failure> { panic!("a fault\nof two lines") });
        assert_eq!(format!("{:?}", code.unwrap()), format!("{:?}", ExitCode::from(101)));
        assert!(caught(|| Err(Failure::new("no fault"))).is_err());
    }
}
