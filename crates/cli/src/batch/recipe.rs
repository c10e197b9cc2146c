//! Recipes: TOML files with sources, steps and results, checked as a whole before anything runs.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Arg, ArgAction, CommandFactory as _, FromArgMatches as _, ValueHint};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::carry::similar;
use nimble_curve_formats::profile::{SHIPPED, read_profile};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::pattern::{Hole, Pattern};
use crate::args::{Cli, ClipsAction, ClipsSplit, Command, CycleAction, LayersAction, RootAction};
use crate::failure::Failure;
use crate::files::{InputArgs, up_axis};
use crate::quantity;
use crate::step::Step;

/// A recipe with a comment on everything, for the sample scenario.
pub const EXAMPLE: &str = include_str!("example.toml");

/// The commands that are steps.
pub const STEPS: [&str; 25] = [
    "convert",
    "unbake",
    "bake",
    "reorder",
    "carry",
    "layers flatten",
    "layers split",
    "layers set",
    "clips find",
    "clips name",
    "clips split",
    "clips rename",
    "clips shift",
    "clips trim",
    "clips stretch",
    "clips take",
    "root lift",
    "root pin",
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
    ("rig", "File with the rig that gets the animation: stands for onto of carry and rig of check"),
    ("map", "Name map: stands for map of carry"),
    ("set", "Set of nodes or channels: stands for only of carry"),
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
    ("fps", "Frame rate of files that state none"),
    ("step", "Steps in their order: tables [[step]] with the command as do, and its options"),
];

/// What a command takes for itself, and a recipe says elsewhere or not at all.
fn is_open(step: &str, argument: &Arg) -> bool {
    let id = argument.get_id().as_str();
    match (step, id) {
        ("plot", "output") => true,
        ("clips split", "name") | ("convert", "without_extra" | "skeletons") => false,
        _ => !matches!(
            id,
            "file"
                | "files"
                | "source"
                | "bank"
                | "first"
                | "output"
                | "in_place"
                | "json"
                | "ledger"
                | "dry_run"
                | "replace"
                | "brief"
                | "most"
                | "unit"
                | "up"
                | "fps"
                | "survey"
                | "plot"
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

fn key_of(argument: &Arg) -> String {
    argument.get_long().map_or_else(|| argument.get_id().as_str().replace('_', "-"), str::to_owned)
}

/// A command of the program by its words, such as `clips split`.
pub fn command_of<'a>(program: &'a clap::Command, step: &str) -> Option<&'a clap::Command> {
    step.split(' ').try_fold(program, |command, word| command.find_subcommand(word))
}

/// Something wrong with a recipe.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    pub line: usize,
    pub text: String,
}

/// One step, ready for one source.
pub struct Stage {
    /// As it is called in messages: `step 2 (carry)`.
    pub name: String,
    pub kind: Kind,
    /// Files that it reads: as the recipe says them, and where they are.
    pub inputs: Vec<(String, PathBuf)>,
    /// The target rig's file: outputs of its format take all that is not animation from it.
    pub rig: Option<PathBuf>,
    /// All that the recipe says of it.
    pub said: String,
    /// Whether it differs from source to source.
    has_holes: bool,
}

/// What a step does.
pub enum Kind {
    /// One scene of another.
    Work(Box<dyn Step + Send>),
    /// A scene a clip.
    Split(Box<ClipsSplit>),
}

/// A recipe that was read and checked.
pub struct Recipe {
    path: PathBuf,
    pub sources: Vec<String>,
    pub except: Vec<glob::Pattern>,
    pub output: Pattern,
    pub ledger: Option<Pattern>,
    pub records: PathBuf,
    pub profile: Option<(String, PathBuf)>,
    pub tolerance: Tolerance,
    pub without_extra: bool,
    pub skeletons: bool,
    pub input: InputArgs,
    /// What stands at the top and says how results are made.
    pub said: String,
    steps: Vec<StepText>,
    /// The steps that are the same for all sources.
    common: Vec<Option<Arc<Stage>>>,
    /// What stands at the top in place of options of steps: rig, map, set, profile, unit, up, fps.
    standing: Vec<(String, Pattern)>,
    program: clap::Command,
}

/// A step as it stands in the recipe.
struct StepText {
    /// From 1 on.
    number: usize,
    line: usize,
    command: String,
    options: Vec<OptionText>,
}

struct OptionText {
    key: String,
    line: usize,
    value: OptionValue,
}

enum OptionValue {
    Flag(bool),
    Values(Vec<Pattern>),
}

impl Recipe {
    /// Reads and checks a recipe; what is wrong is said line by line.
    pub fn read(path: &Path) -> Result<Recipe, Failure> {
        let text = std::fs::read_to_string(path)
            .map_err(|source| nimble_curve_formats::FormatError::Read { path: path.to_owned(), source })?;
        Recipe::parse(&text, path).map_err(|faults| several(path, &faults))
    }

    /// The folder that its paths start from.
    pub fn folder(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new(""))
    }

    /// A path of the recipe, from where the program was started.
    pub fn resolved(&self, path: &str) -> PathBuf {
        self.folder().join(path)
    }

    /// How the recipe is called in messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn parse(text: &str, path: &Path) -> Result<Recipe, Vec<Fault>> {
        let table = DeTable::parse(text).map_err(|error| {
            let line = error.span().map_or(1, |span| line_at(text, span.start));
            vec![Fault { line, text: error.message().replace('\n', ", ") }]
        })?;
        let mut reader = Reader { text, faults: Vec::new() };
        let mut recipe = reader.recipe(table.get_ref(), path);
        let mut faults = reader.faults;
        recipe.check_steps(&mut faults);
        faults.sort_by_key(|fault| fault.line);
        if faults.is_empty() { Ok(recipe) } else { Err(faults) }
    }

    /// Makes the steps that are the same for all sources; what is wrong is said before sources are looked for.
    fn check_steps(&mut self, faults: &mut Vec<Fault>) {
        let fill = |hole: Hole| format!("{{{}}}", hole.name());
        let mut common = Vec::with_capacity(self.steps.len());
        for step in &self.steps {
            let stage = self.stage(step, fill, false).unwrap_or_else(|mut more| {
                faults.append(&mut more);
                None
            });
            common.push(stage.filter(|stage| !stage.has_holes).map(Arc::new));
        }
        self.common = common;
    }

    /// The steps for one source.
    pub fn stages(&self, fill: impl Fn(Hole) -> String) -> Result<Vec<Arc<Stage>>, Failure> {
        let mut stages = Vec::with_capacity(self.steps.len());
        for (step, common) in self.steps.iter().zip(&self.common) {
            match common {
                Some(stage) => stages.push(Arc::clone(stage)),
                None => {
                    let stage = self.stage(step, &fill, true);
                    stages.extend(stage.map_err(|faults| several(&self.path, &faults))?.map(Arc::new));
                }
            }
        }
        Ok(stages)
    }

    /// One step; `look` says whether files have to be there, and values to be right, that have holes.
    fn stage(
        &self,
        step: &StepText,
        fill: impl Fn(Hole) -> String,
        look: bool,
    ) -> Result<Option<Stage>, Vec<Fault>> {
        let name = format!("step {} ({})", step.number, step.command);
        let fault = |line: usize, text: String| Fault { line, text: format!("{name}: {text}") };
        let Some(command) = command_of(&self.program, &step.command) else {
            return Err(vec![fault(step.line, "there is no such command".to_owned())]);
        };
        let mut faults = Vec::new();
        let known: Vec<(String, &Arg)> = options(&step.command, command).collect();
        // What is said: an option, its values, and the line.
        let mut given: Vec<(&Arg, String, Vec<String>, usize)> = Vec::new();
        for option in &step.options {
            let Some((key, argument)) = known.iter().find(|(key, _)| *key == option.key) else {
                faults.push(fault(option.line, no_option(&option.key, &known, command)));
                continue;
            };
            let takes_value = argument.get_action().takes_values();
            match &option.value {
                OptionValue::Flag(is_set) if !takes_value => {
                    if *is_set {
                        given.push((argument, key.clone(), Vec::new(), option.line));
                    }
                }
                OptionValue::Flag(_) => faults.push(fault(option.line, format!("'{key}' needs a value"))),
                OptionValue::Values(_) if !takes_value => {
                    faults.push(fault(option.line, format!("'{key}' is true or false")));
                }
                OptionValue::Values(values) => {
                    let several = matches!(argument.get_action(), ArgAction::Append);
                    if values.len() != 1 && !several {
                        faults.push(fault(option.line, format!("'{key}' has one value")));
                    } else {
                        let values = values.iter().map(|value| value.filled(&fill)).collect();
                        given.push((argument, key.clone(), values, option.line));
                    }
                }
            }
        }
        for (key, argument) in &known {
            let standing = match (step.command.as_str(), key.as_str()) {
                ("carry", "onto") | ("check", "rig") => "rig",
                ("carry", "map") => "map",
                ("carry", "only") => "set",
                ("check", "profile") => "profile",
                _ => continue,
            };
            let value = self.standing.iter().find(|(own, _)| own == standing);
            if let Some((_, value)) = value.filter(|_| !given.iter().any(|(_, own, ..)| own == key)) {
                let value = value.filled(&fill);
                let value =
                    if standing == "set" && !value.starts_with('@') { format!("@{value}") } else { value };
                given.push((argument, key.clone(), vec![value], step.line));
            }
        }
        let said = given.iter().map(|(_, key, values, _)| format!("{key}={values:?}"));
        let said = format!("{} {}", step.command, said.collect::<Vec<_>>().join(" "));
        let has_holes = given.iter().any(|(_, _, values, _)| values.iter().any(|value| value.contains('{')));
        let mut inputs = Vec::new();
        for (argument, key, values, line) in &mut given {
            for value in values.iter_mut() {
                let has_hole = value.contains('{');
                match self.file_of(&step.command, argument, value) {
                    Named::Input(path) => {
                        inputs.push((value.clone(), path.clone()));
                        *value = path.display().to_string();
                    }
                    Named::Output(path) => *value = path.display().to_string(),
                    Named::NoFile => {}
                    Named::Missing(path) if look || !has_hole => {
                        faults.push(fault(*line, format!("{key}: there is no file '{}'", path.display())));
                    }
                    Named::Missing(_) => {}
                }
            }
        }
        let rig = given
            .iter()
            .find(|(_, key, ..)| key == "onto")
            .map(|(_, _, values, _)| PathBuf::from(&values[0]));
        match self.parsed(step, command, &given) {
            Ok(_) if !faults.is_empty() => Err(faults),
            Ok(kind) => Ok(Some(Stage { name, kind, inputs, rig, said, has_holes })),
            // What is filled in may be right.
            Err(_) if !look && has_holes && faults.is_empty() => Ok(None),
            // What is missing may be what has another name.
            Err((None, _)) if !faults.is_empty() => Err(faults),
            Err((key, text)) => {
                let at = given.iter().find(|(_, own, ..)| Some(own) == key.as_ref());
                faults.push(fault(at.map_or(step.line, |(.., line)| *line), text));
                Err(faults)
            }
        }
    }

    /// What file a value names.
    fn file_of(&self, step: &str, argument: &Arg, value: &str) -> Named {
        let is_path = matches!(argument.get_value_hint(), ValueHint::AnyPath | ValueHint::FilePath);
        if !is_path {
            return Named::NoFile;
        }
        let path = self.resolved(value);
        let id = argument.get_id().as_str();
        if (step, id) == ("plot", "output") {
            return Named::Output(path);
        }
        if path.is_file() {
            return Named::Input(path);
        }
        // A pose may be a frame, and a profile one of those that are shipped.
        let may_be_none = matches!(id, "source_pose" | "target_pose")
            && (value.parse::<f64>().is_ok() || value.contains('@'))
            || id == "profile" && SHIPPED.iter().any(|(name, _)| *name == value);
        if may_be_none { Named::NoFile } else { Named::Missing(path) }
    }

    /// A step by the definitions of the command line; an error is a sentence, with the option that it is about.
    fn parsed(
        &self,
        step: &StepText,
        command: &clap::Command,
        given: &[(&Arg, String, Vec<String>, usize)],
    ) -> Result<Kind, (Option<String>, String)> {
        let mut words = vec!["nimble-curve".to_owned()];
        words.extend(step.command.split(' ').map(str::to_owned));
        for (argument, _, values, _) in given {
            let Some(long) = argument.get_long() else { continue };
            match values.is_empty() {
                true => words.push(format!("--{long}")),
                false => words.extend(values.iter().map(|value| format!("--{long}={value}"))),
            }
        }
        let has = |id: &str| command.get_arguments().any(|argument| argument.get_id() == id);
        for (key, value) in
            self.standing.iter().filter(|(key, _)| matches!(key.as_str(), "unit" | "up" | "fps"))
        {
            if has(key) {
                words.push(format!("--{key}={}", value.filled(|hole| hole.name().to_owned())));
            }
        }
        if command.get_arguments().any(|argument| argument.get_id() == "output" && !argument.is_positional())
            && step.command != "plot"
        {
            words.push("--output=-".to_owned());
        }
        words.push("--".to_owned());
        for argument in command.get_positionals() {
            let own = given.iter().find(|(own, ..)| own.get_id() == argument.get_id());
            match own {
                Some((_, _, values, _)) => words.extend(values.iter().cloned()),
                None if !is_open(&step.command, argument) => words.push("-".to_owned()),
                None => {}
            }
        }
        let parsed = self.program.clone().try_get_matches_from(words);
        let cli = parsed.and_then(|matches| Cli::from_arg_matches(&matches)).map_err(sentence)?;
        as_step(cli.command).ok_or_else(|| (None, "cannot be a step".to_owned()))
    }
}

/// What a value names.
enum Named {
    Input(PathBuf),
    Output(PathBuf),
    NoFile,
    Missing(PathBuf),
}

/// A command as a step; `None` for those that are none.
fn as_step(command: Command) -> Option<Kind> {
    Some(Kind::Work(match command {
        Command::Clips(clips) => match clips.action? {
            ClipsAction::Split(args) => return Some(Kind::Split(Box::new(args))),
            ClipsAction::Find(args) => Box::new(args),
            ClipsAction::Name(args) => Box::new(args),
            ClipsAction::Rename(args) => Box::new(args),
            ClipsAction::Shift(args) => Box::new(args),
            ClipsAction::Trim(args) => Box::new(args),
            ClipsAction::Stretch(args) => Box::new(args),
            ClipsAction::Take(args) => Box::new(args),
            ClipsAction::Join(_) | ClipsAction::Sheet(_) | ClipsAction::Add(_) => return None,
        },
        Command::Layers(layers) => match layers.action? {
            LayersAction::Flatten(args) => Box::new(args),
            LayersAction::Split(args) => Box::new(args),
            LayersAction::Set(args) => Box::new(args),
        },
        Command::Root(root) => match root.action {
            RootAction::Lift(args) => Box::new(args),
            RootAction::Pin(args) => Box::new(args),
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
fn sentence(error: clap::Error) -> (Option<String>, String) {
    let plain = |shown: &str| shown.trim_start_matches('-').split([' ', '=']).next().unwrap_or("").to_owned();
    if error.kind() == ErrorKind::MissingRequiredArgument
        && let Some(ContextValue::Strings(missing)) = error.get(ContextKind::InvalidArg)
    {
        let names: Vec<String> =
            missing.iter().map(|shown| format!("'{}'", plain(shown.trim_matches(['<', '>'])))).collect();
        let names = names.join(" and ").to_lowercase();
        let elsewhere = if names == "'onto'" { ", or 'rig' at the top of the recipe" } else { "" };
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

fn no_option(key: &str, known: &[(String, &Arg)], command: &clap::Command) -> String {
    let elsewhere = command.get_arguments().any(|argument| key_of(argument) == key);
    if elsewhere {
        return match key {
            "without-extra" | "skeletons" => {
                format!("'{key}' stands at the top of a recipe, as it says how results are written")
            }
            "unit" | "up" | "fps" => {
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

/// The faults of a recipe as one failure, a line each.
fn several(path: &Path, faults: &[Fault]) -> Failure {
    let lines: Vec<String> =
        faults.iter().map(|fault| format!("{}:{}: {}", path.display(), fault.line, fault.text)).collect();
    Failure::Several(lines)
}

fn line_at(text: &str, at: usize) -> usize {
    text[..at.min(text.len())].matches('\n').count() + 1
}

/// Takes a document apart and gathers what is wrong with it.
struct Reader<'a> {
    text: &'a str,
    faults: Vec<Fault>,
}

type Entry<'a> = (&'a str, usize, &'a Spanned<DeValue<'a>>);

impl Reader<'_> {
    fn fault(&mut self, line: usize, text: impl Into<String>) {
        self.faults.push(Fault { line, text: text.into() });
    }

    /// Takes a sentence in as a fault.
    fn noted<T>(&mut self, line: usize, result: Result<T, String>) -> Option<T> {
        result.map_err(|text| self.fault(line, text)).ok()
    }

    fn recipe(&mut self, table: &DeTable<'_>, path: &Path) -> Recipe {
        let program = {
            let mut program = Cli::command();
            program.build();
            program
        };
        let entries: Vec<(String, usize, &Spanned<DeValue<'_>>)> = table
            .iter()
            .map(|(key, value)| {
                (key.get_ref().replace('_', "-"), line_at(self.text, key.span().start), value)
            })
            .collect();
        let names = || KEYS.iter().map(|(key, _)| *key);
        for (key, line, _) in &entries {
            if !names().any(|name| name == key) {
                let hint = match similar(key, names()) {
                    Some(name) => format!("did you mean '{name}'?"),
                    None => names().collect::<Vec<_>>().join(", "),
                };
                self.fault(*line, format!("there is no '{key}' in a recipe: {hint}"));
            }
        }
        let entry = |name: &str| -> Option<Entry<'_>> {
            entries
                .iter()
                .find(|(key, ..)| key == name)
                .map(|(key, line, value)| (key.as_str(), *line, *value))
        };
        let sources = match entry("sources") {
            Some((key, line, value)) => self.texts(key, line, value),
            None => {
                self.fault(1, "sources are missing: sources = [\"exports/**/*.bvh\"]");
                Vec::new()
            }
        };
        for (line, source) in &sources {
            if let Err(error) = glob::Pattern::new(source) {
                self.fault(*line, format!("'{source}' is no pattern: {}", error.msg));
            }
        }
        let mut except = Vec::new();
        if let Some((key, line, value)) = entry("except") {
            for (line, text) in self.texts(key, line, value) {
                let pattern = glob::Pattern::new(&text)
                    .map_err(|error| format!("'{text}' is no pattern: {}", error.msg));
                except.extend(self.noted(line, pattern));
            }
        }
        let output = match entry("output") {
            Some((key, line, value)) => self.text_of(key, line, value).and_then(|text| {
                let pattern = self.noted(line, Pattern::parse(&text, &Hole::ALL))?;
                if !pattern.has(Hole::Ending) {
                    let format =
                        nimble_curve_formats::output_format(Path::new(&text)).map_err(|e| e.to_string());
                    self.noted(line, format)?;
                }
                Some(pattern)
            }),
            None => {
                self.fault(1, "the output is missing: output = \"game/{folder}/{stem}.glb\"");
                None
            }
        };
        let ledger = entry("ledger").and_then(|(key, line, value)| {
            let text = self.text_of(key, line, value)?;
            self.noted(line, Pattern::parse(&text, &Hole::ALL))
        });
        let text = |reader: &mut Self, name: &str| {
            entry(name).and_then(|(key, line, value)| Some((line, reader.text_of(key, line, value)?)))
        };
        let mut standing = Vec::new();
        for name in ["rig", "map", "set", "profile", "unit", "up", "fps"] {
            if let Some((line, value)) = text(self, name) {
                let pattern = self.noted(line, Pattern::parse(&value, &Hole::OF_SOURCE));
                standing.extend(pattern.map(|pattern| (name.to_owned(), pattern)));
            }
        }
        let mut input = InputArgs::default();
        if let Some((line, text)) = text(self, "unit") {
            input.unit = self.noted(line, quantity::unit(&text));
        }
        if let Some((line, text)) = text(self, "up") {
            input.up = self.noted(line, up_axis(&text));
        }
        if let Some((line, text)) = text(self, "fps") {
            input.fps = self.noted(line, text.parse().map_err(|error| format!("{error}")));
        }
        // As of convert.
        let mut tolerance = Tolerance { angle: 0.05_f64.to_radians(), length: 0.0001, scalar: 0.001 };
        if let Some((line, text)) = text(self, "tolerance") {
            tolerance = self.noted(line, quantity::tolerance(&text)).unwrap_or(tolerance);
        }
        let folder = path.parent().unwrap_or(Path::new(""));
        let profile = text(self, "profile").and_then(|(line, name)| {
            let file = if SHIPPED.iter().any(|(own, _)| *own == name) {
                PathBuf::from(&name)
            } else {
                folder.join(&name)
            };
            self.noted(line, read_profile(&file).map_err(|error| error.to_string()))?;
            Some((name, file))
        });
        for name in ["rig", "map"] {
            if let Some((line, value)) = text(self, name)
                && !value.contains('{')
                && !folder.join(&value).is_file()
            {
                self.fault(line, format!("{name}: there is no file '{}'", folder.join(&value).display()));
            }
        }
        let mut is_set = |name: &str| {
            entry(name).is_some_and(|(_, line, value)| {
                value.get_ref().as_bool().unwrap_or_else(|| {
                    self.fault(line, format!("'{name}' is true or false"));
                    false
                })
            })
        };
        let (without_extra, skeletons) = (is_set("without-extra"), is_set("skeletons"));
        let records = match text(self, "records") {
            Some((_, text)) => folder.join(text),
            None => path.with_extension("records"),
        };
        let steps = entry("step").map_or(Vec::new(), |(_, line, value)| self.steps(line, value));
        let said_of =
            |name: &str| entry(name).map(|(key, _, value)| format!("{key}={}", &self.text[value.span()]));
        let said: Vec<String> =
            ["output", "ledger", "profile", "tolerance", "without-extra", "skeletons", "unit", "up", "fps"]
                .into_iter()
                .filter_map(said_of)
                .collect();
        Recipe {
            path: path.to_owned(),
            sources: sources.into_iter().map(|(_, source)| source).collect(),
            except,
            output: output.unwrap_or_default(),
            ledger,
            records,
            profile,
            tolerance,
            without_extra,
            skeletons,
            input,
            said: said.join("\n"),
            steps,
            common: Vec::new(),
            standing,
            program,
        }
    }

    /// A text, or a number as it is written.
    fn text_of(&mut self, key: &str, line: usize, value: &Spanned<DeValue<'_>>) -> Option<String> {
        let text = plain(value.get_ref());
        if text.is_none() {
            self.fault(line, format!("'{key}' is a text"));
        }
        text
    }

    /// One text or several, each with its line.
    fn texts(&mut self, key: &str, line: usize, value: &Spanned<DeValue<'_>>) -> Vec<(usize, String)> {
        match value.get_ref() {
            DeValue::Array(items) => items
                .iter()
                .filter_map(|item| {
                    let line = line_at(self.text, item.span().start);
                    Some((line, self.text_of(key, line, item)?))
                })
                .collect(),
            _ => self.text_of(key, line, value).into_iter().map(|text| (line, text)).collect(),
        }
    }

    fn steps(&mut self, line: usize, value: &Spanned<DeValue<'_>>) -> Vec<StepText> {
        let Some(items) = value.get_ref().as_array() else {
            self.fault(line, "steps are tables: [[step]]");
            return Vec::new();
        };
        items.iter().enumerate().filter_map(|(index, item)| self.step(index + 1, item)).collect()
    }

    fn step(&mut self, number: usize, item: &Spanned<DeValue<'_>>) -> Option<StepText> {
        let line = line_at(self.text, item.span().start);
        let Some(table) = item.get_ref().as_table() else {
            self.fault(line, "steps are tables: [[step]]");
            return None;
        };
        let mut command = None;
        let mut options = Vec::new();
        for (key, value) in table {
            let at = line_at(self.text, key.span().start);
            let key = key.get_ref().replace('_', "-");
            if key == "do" {
                let text = self.text_of("do", at, value)?;
                command = self.noted(at, step_named(number, &text));
                command.as_ref()?;
                continue;
            }
            let value = match value.get_ref() {
                DeValue::Boolean(is_set) => OptionValue::Flag(*is_set),
                _ => {
                    let mut patterns = Vec::new();
                    for (at, text) in self.texts(&key, at, value) {
                        let pattern = Pattern::parse(&text, &Hole::OF_SOURCE);
                        patterns
                            .extend(self.noted(at, pattern.map_err(|text| format!("step {number}: {text}"))));
                    }
                    OptionValue::Values(patterns)
                }
            };
            options.push(OptionText { key, line: at, value });
        }
        let Some(command) = command else {
            self.fault(line, format!("step {number} does not say what to do: do = \"carry\""));
            return None;
        };
        // As they stand in the file, for messages in that order.
        options.sort_by_key(|option| option.line);
        Some(StepText { number, line, command, options })
    }
}

/// The command that a step names.
fn step_named(number: usize, text: &str) -> Result<String, String> {
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

/// A text or a number as it is written.
fn plain(value: &DeValue<'_>) -> Option<String> {
    match value {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => Some(number.as_str().to_owned()),
        DeValue::Float(number) => Some(number.as_str().to_owned()),
        _ => None,
    }
}
