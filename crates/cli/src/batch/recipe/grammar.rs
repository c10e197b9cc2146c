//! The words of recipes: which commands are steps, with which options, and what stands at the top.

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Arg, CommandFactory as _};
use nimble_curve_core::similar::similar;

use crate::args::{Cli, ClipsAction, ClipsSplit, Command, CycleAction, LayersAction, RigAction, RootAction};
use crate::step::Step;

/// The commands that are steps.
pub const STEPS: [&str; 29] = [
    "convert",
    "unbake",
    "bake",
    "reorder",
    "carry",
    "rig solve",
    "rig match",
    "rig switch",
    "layers flatten",
    "layers difference",
    "layers set",
    "clips find",
    "clips name",
    "clips split",
    "clips rename",
    "clips shift",
    "clips range",
    "clips trim",
    "clips stretch",
    "clips extract",
    "root lift",
    "root in-place",
    "root restore",
    "root centre",
    "cycle close",
    "cycle extend",
    "check",
    "compare",
    "plot",
];

/// What stands at the top of a recipe, with what it means.
pub const KEYS: [(&str, &str); 16] = [
    ("sources", "Files to work on, by path or pattern: * within a name, ** for any folders"),
    ("except", "Files to leave aside, by pattern"),
    (
        "output",
        "Files to write, with {stem}, {ending}, {folder}, {take} and {clip} filled in; the ending says the format",
    ),
    ("ledger", "JSON files that say what became of every channel, one an output, named like output"),
    ("records", "Folder for what is known of the last run; beside the recipe where left out"),
    ("target", "File with the rig that gets the animation: stands for target of carry and check"),
    ("map", "Name map: stands for map of carry"),
    ("only", "Nodes or channels, by pattern or as @SET: stands for only of carry"),
    (
        "profile",
        "What the receiving application holds: results are adapted to it at the end, check looks at it",
    ),
    (
        "tolerance",
        "How far curves may be from their source where the output's format or the profile cannot hold them",
    ),
    ("without-extra", "Leave out the extra data that brings back what the format cannot hold by itself"),
    ("skeletons", "Write rigs as skeletons with sampled animation: USD only"),
    ("unit", "Unit of files that state none: m, cm, mm, in, ft, or the metres in one unit"),
    ("up", "Up axis of files that state none: x, y or z"),
    ("rate", "Frame rate of files that state none"),
    ("step", "Steps in their order: tables [[step]] with the command as do, and its options"),
];

/// What a command takes for itself, and a recipe says elsewhere or not at all.
pub fn is_open(step: &str, argument: &Arg) -> bool {
    let id = argument.get_id().as_str();
    match (step, id) {
        ("plot", "output") => true,
        ("clips split", "name")
        | (
            "convert",
            "without_extra" | "skeletons" | "matrices" | "over_asset" | "buffer_beside" | "times" | "columns",
        ) => false,
        _ => !matches!(
            id,
            "file"
                | "files"
                | "source"
                | "library"
                | "first"
                | "output"
                | "out"
                | "json"
                | "ledger"
                | "dry_run"
                | "replace"
                | "no_other_tolerances"
                | "rows"
                | "unit"
                | "up"
                | "rate"
                | "survey"
                | "plot"
                | "wide"
                | "help"
                | "version"
        ),
    }
}

/// The options of a step, under the names that a recipe has for them.
pub fn options<'a>(step: &'a str, command: &'a clap::Command) -> impl Iterator<Item = (String, &'a Arg)> {
    let open = command.get_arguments().filter(move |argument| is_open(step, argument));
    open.map(|argument| (key_of(argument), argument))
}

pub fn key_of(argument: &Arg) -> String {
    argument.get_long().map_or_else(|| argument.get_id().as_str().replace('_', "-"), str::to_owned)
}

/// A command of the program by its words, such as `clips split`.
pub fn command_of<'a>(program: &'a clap::Command, step: &str) -> Option<&'a clap::Command> {
    step.split(' ').try_fold(program, |command, word| command.find_subcommand(word))
}

/// What a step does.
pub enum Kind {
    /// One scene of another.
    Work(Box<dyn Step + Send>),
    /// A scene a clip.
    Split(Box<ClipsSplit>),
}

/// A command as a step; `None` for those that are none.
pub fn as_step(command: Command) -> Option<Kind> {
    Some(Kind::Work(match command {
        Command::Clips(clips) => match clips.action? {
            ClipsAction::Split(args) => return Some(Kind::Split(Box::new(args))),
            ClipsAction::Find(args) => Box::new(args),
            ClipsAction::Name(args) => Box::new(args),
            ClipsAction::Rename(args) => Box::new(args),
            ClipsAction::Shift(args) => Box::new(args),
            ClipsAction::Range(args) => Box::new(args),
            ClipsAction::Trim(args) => Box::new(args),
            ClipsAction::Stretch(args) => Box::new(args),
            ClipsAction::Extract(args) => Box::new(args),
            ClipsAction::Join(_) | ClipsAction::Sheet(_) | ClipsAction::Add(_) => return None,
        },
        Command::Layers(layers) => match layers.action? {
            LayersAction::Flatten(args) => Box::new(args),
            LayersAction::Difference(args) => Box::new(args),
            LayersAction::Set(args) => Box::new(args),
        },
        Command::Rig(rig) => match rig.action? {
            RigAction::Solve(args) => Box::new(args),
            RigAction::Match(args) => Box::new(args),
            RigAction::Switch(args) => Box::new(args),
            RigAction::Sheet(_) | RigAction::Find(_) => return None,
        },
        Command::Root(root) => match root.action {
            RootAction::Lift(args) => Box::new(args),
            RootAction::InPlace(args) => Box::new(args),
            RootAction::Restore(args) => Box::new(args),
            RootAction::Centre(args) => Box::new(args),
            RootAction::Show(_) => return None,
        },
        Command::Cycle(cycle) => match cycle.action {
            CycleAction::Close(args) => Box::new(args),
            CycleAction::Extend(args) => Box::new(args),
            CycleAction::Find(_) => return None,
        },
        Command::Convert(args) => Box::new(args),
        Command::Unbake(args) => Box::new(args),
        Command::Bake(args) => Box::new(args),
        Command::Reorder(args) => Box::new(args),
        Command::Carry(args) => args,
        Command::Check(args) => Box::new(args),
        Command::Compare(args) => Box::new(args),
        Command::Plot(args) => Box::new(args),
        _ => return None,
    }))
}

/// An error of the command line as a sentence about a recipe, with the option that it is about.
pub fn sentence(error: clap::Error) -> (Option<String>, String) {
    let plain = |shown: &str| shown.trim_start_matches('-').split([' ', '=']).next().unwrap_or("").to_owned();
    if error.kind() == ErrorKind::MissingRequiredArgument
        && let Some(ContextValue::Strings(missing)) = error.get(ContextKind::InvalidArg)
    {
        let names: Vec<String> =
            missing.iter().map(|shown| format!("'{}'", plain(shown.trim_matches(['<', '>'])))).collect();
        let names = names.join(" and ").to_lowercase();
        let elsewhere = if names == "'target'" { ", here or at the top of the recipe" } else { "" };
        return (None, format!("needs {names}{elsewhere}"));
    }
    let text = error.to_string();
    let first = text.split("\n\n").next().unwrap_or("").trim_start_matches("error: ");
    let mut text = first.lines().map(str::trim).collect::<Vec<_>>().join(" ");
    let mut key = None;
    if let Some(ContextValue::String(shown)) = error.get(ContextKind::InvalidArg) {
        let name = plain(shown);
        text = text.replace(shown.as_str(), &name);
        key = Some(name);
    }
    // Whatever else it calls an option by its dashes.
    (key, text.replace("'--", "'"))
}

pub fn no_option(key: &str, known: &[(String, &Arg)], command: &clap::Command) -> String {
    let elsewhere = command.get_arguments().any(|argument| key_of(argument) == key);
    if elsewhere {
        return match key {
            "without-extra" | "skeletons" => {
                format!("'{key}' stands at the top of a recipe, as it says how results are written")
            }
            "unit" | "up" | "rate" => {
                format!("'{key}' stands at the top of a recipe, as it holds for all sources")
            }
            "ledger" => {
                "'ledger' stands at the top of a recipe, and says what became of everything".to_owned()
            }
            _ => format!("'{key}' is no option in a recipe"),
        };
    }
    let names = || known.iter().map(|(key, _)| key.as_str());
    let hint = match similar(key, names()) {
        Some(name) => format!("did you mean '{name}'?"),
        None => names().collect::<Vec<_>>().join(", "),
    };
    format!("there is no option '{key}': {hint}")
}

/// The command that a step names.
pub fn step_named(number: usize, text: &str) -> Result<String, String> {
    let name = text.split_whitespace().collect::<Vec<_>>().join(" ");
    if STEPS.contains(&name.as_str()) {
        return Ok(name);
    }
    let mut program = Cli::command();
    program.build();
    if command_of(&program, &name)
        .is_some_and(|command| !command.has_subcommands() || name == "clips" || name == "layers")
    {
        return Err(match name.as_str() {
            "clips join" | "clips add" | "clips sheet" => {
                format!("step {number}: '{name}' works on several files at once, and a recipe file by file")
            }
            _ => format!("step {number}: '{name}' makes no animation, and is no step: {}", STEPS.join(", ")),
        });
    }
    Err(match similar(&name, STEPS.into_iter()) {
        Some(other) => format!("step {number}: there is no step '{name}': did you mean '{other}'?"),
        None => format!("step {number}: there is no step '{name}': {}", STEPS.join(", ")),
    })
}
