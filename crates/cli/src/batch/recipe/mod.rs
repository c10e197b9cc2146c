//! Recipes: TOML files with sources, steps and results, checked as a whole before anything runs.

mod grammar;
mod read;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use clap::{Arg, ArgAction, FromArgMatches as _, ValueHint};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_formats::profile::SHIPPED;
use toml::de::DeTable;

use self::grammar::{as_step, is_open, key_of, no_option, sentence};
use self::read::{Reader, line_at};
use super::record::{Digest, digest};
use crate::args::Cli;
use crate::failure::Failure;
use crate::files::InputArgs;
use crate::pattern::{Hole, Pattern};

pub use self::grammar::{KEYS, Kind, STEPS, command_of, options};

/// A recipe with a comment on everything, for the sample scenario.
pub const EXAMPLE: &str = include_str!("../example.toml");

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

/// What a recipe says for sources that have the same filled into its steps.
pub struct Filled {
    /// The fingerprint of all that it says.
    pub steps: Digest,
    /// Files that are read beside the source: as the recipe says them, and where they are.
    pub inputs: Vec<(String, PathBuf)>,
    /// Why it cannot be done, where what is filled in does not fit.
    pub fault: Option<String>,
    /// The steps, made when the first of the sources is worked on.
    stages: OnceLock<Result<Vec<Arc<Stage>>, Vec<String>>>,
}

/// How many fillings are kept at most: sources come by folders, and their steps differ by folders most often.
const MOST_KEPT: usize = 256;

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
    /// What stands at the top in place of options of steps: target, map, only, profile, unit, up, rate.
    standing: Vec<(String, Pattern)>,
    program: clap::Command,
    /// The fillings that were made, by what is filled in.
    filled: Mutex<HashMap<String, Arc<Filled>>>,
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
        Recipe::parse(&text, path)
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

    /// Reads and checks a text as the recipe that lies at a path.
    pub fn parse(text: &str, path: &Path) -> Result<Recipe, Failure> {
        Recipe::parse_lines(text, path).map_err(|faults| several(path, &faults))
    }

    fn parse_lines(text: &str, path: &Path) -> Result<Recipe, Vec<Fault>> {
        let table = DeTable::parse(text).map_err(|error| {
            let line = error.span().map_or(1, |span| line_at(text, span.start));
            vec![Fault { line, text: nimble_curve_formats::said::toml(error.message()) }]
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

    /// What it says for a source. Made once for all sources with the same in the holes of its steps.
    pub fn filled(&self, fill: impl Fn(Hole) -> String) -> Arc<Filled> {
        let mut key = String::new();
        for (step, _) in self.steps.iter().zip(&self.common).filter(|(_, common)| common.is_none()) {
            let own = step.options.iter().filter_map(|option| match &option.value {
                OptionValue::Values(values) => Some(values),
                OptionValue::Flag(_) => None,
            });
            for pattern in own.flatten().chain(self.standing.iter().map(|(_, pattern)| pattern)) {
                key.push_str(&pattern.filled_by_source(&fill));
                key.push('\0');
            }
        }
        let kept = |of: &HashMap<String, Arc<Filled>>| of.get(&key).map(Arc::clone);
        if let Some(known) = kept(&self.filled.lock().unwrap_or_else(PoisonError::into_inner)) {
            return known;
        }
        let made = Arc::new(self.filled_anew(fill));
        let mut all = self.filled.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST_KEPT {
            all.clear();
        }
        Arc::clone(all.entry(key).or_insert(made))
    }

    fn filled_anew(&self, fill: impl Fn(Hole) -> String) -> Filled {
        let mut said = vec![self.said.clone()];
        let mut inputs = Vec::new();
        let mut faults = Vec::new();
        for (step, common) in self.steps.iter().zip(&self.common) {
            if let Some(stage) = common {
                said.push(stage.said.clone());
                inputs.extend(stage.inputs.iter().cloned());
                continue;
            }
            let prepared = self.prepared(step, &fill, true);
            said.push(prepared.said);
            inputs.extend(prepared.inputs);
            faults.extend(prepared.faults);
        }
        // A profile that is shipped is no file.
        inputs.extend(self.profile.iter().filter(|(_, path)| path.is_file()).cloned());
        Filled {
            steps: digest(said.join("\n").as_bytes()),
            inputs,
            fault: (!faults.is_empty()).then(|| several(&self.path, &faults).to_string()),
            stages: OnceLock::new(),
        }
    }

    /// The steps for a source, of what is filled in for it.
    pub fn stages<'a>(
        &self,
        filled: &'a Filled,
        fill: impl Fn(Hole) -> String,
    ) -> Result<&'a [Arc<Stage>], Failure> {
        let stages = filled.stages.get_or_init(|| {
            let mut stages = Vec::with_capacity(self.steps.len());
            for (step, common) in self.steps.iter().zip(&self.common) {
                match common {
                    Some(stage) => stages.push(Arc::clone(stage)),
                    None => {
                        let stage = self.stage(step, &fill, true);
                        stages.extend(stage.map_err(|faults| lines(&self.path, &faults))?.map(Arc::new));
                    }
                }
            }
            Ok(stages)
        });
        stages.as_deref().map_err(|lines| Failure::Several(lines.clone()))
    }

    /// One step; `look` says whether files have to be there, and values to be right, that have holes.
    fn stage(
        &self,
        step: &StepText,
        fill: impl Fn(Hole) -> String,
        look: bool,
    ) -> Result<Option<Stage>, Vec<Fault>> {
        let Prepared { command, given, said, inputs, mut faults } = self.prepared(step, fill, look);
        let Some(command) = command else { return Err(faults) };
        let has_holes = given.iter().any(Given::has_holes);
        let rig = given
            .iter()
            .find(|given| given.key == "target" && step.command == "carry")
            .map(|given| PathBuf::from(&given.values[0]));
        match self.parsed(step, command, &given) {
            Ok(_) if !faults.is_empty() => Err(faults),
            Ok(kind) => Ok(Some(Stage { name: step.name(), kind, inputs, rig, said, has_holes })),
            // What is filled in may be right.
            Err(_) if !look && has_holes && faults.is_empty() => Ok(None),
            // What is missing may be what has another name.
            Err((None, _)) if !faults.is_empty() => Err(faults),
            Err((key, text)) => {
                let at = given.iter().find(|given| Some(&given.key) == key.as_ref());
                faults.push(step.fault(at.map_or(step.line, |given| given.line), &text));
                Err(faults)
            }
        }
    }

    /// What a step is told, with the files that it names, before it is held against the definitions of the command line.
    fn prepared(&self, step: &StepText, fill: impl Fn(Hole) -> String, look: bool) -> Prepared<'_> {
        let Some(command) = command_of(&self.program, &step.command) else {
            let faults = vec![step.fault(step.line, "there is no such command")];
            return Prepared { faults, ..Prepared::default() };
        };
        let (mut given, wrong) = self.given(step, command, fill);
        let mut faults: Vec<Fault> = wrong.iter().map(|(line, text)| step.fault(*line, text)).collect();
        let said: Vec<String> =
            given.iter().map(|given| format!("{}={:?}", given.key, given.values)).collect();
        let said = format!("{} {}", step.command, said.join(" "));
        let mut inputs = Vec::new();
        for Given { argument, key, values, line } in &mut given {
            for value in values.iter_mut() {
                let has_hole = value.contains('{');
                match self.file_of(&step.command, argument, value) {
                    Named::Input(path) => {
                        inputs.push((value.clone(), path.clone()));
                        *value = path.display().to_string();
                    }
                    Named::Output(path) => *value = path.display().to_string(),
                    Named::Missing(path) if look || !has_hole => {
                        faults.push(
                            step.fault(*line, &format!("{key}: there is no file '{}'", path.display())),
                        );
                    }
                    Named::Missing(_) | Named::NoFile => {}
                }
            }
        }
        Prepared { command: Some(command), given, said, inputs, faults }
    }

    /// The options of a step, those among them that stand at the top, and what is wrong, each with its line.
    fn given<'a>(
        &self,
        step: &StepText,
        command: &'a clap::Command,
        fill: impl Fn(Hole) -> String,
    ) -> (Vec<Given<'a>>, Vec<(usize, String)>) {
        let known: Vec<(String, &Arg)> = command
            .get_arguments()
            .filter(|own| is_open(&step.command, own))
            .map(|own| (key_of(own), own))
            .collect();
        let (mut given, mut wrong) = (Vec::new(), Vec::new());
        for OptionText { key, line, value } in &step.options {
            let Some((_, argument)) = known.iter().find(|(own, _)| own == key) else {
                wrong.push((*line, no_option(key, &known, command)));
                continue;
            };
            let is_flag = !argument.get_action().takes_values();
            let values = match value {
                OptionValue::Flag(false) if is_flag => continue,
                OptionValue::Flag(true) if is_flag => Ok(Vec::new()),
                OptionValue::Flag(_) => Err(format!("'{key}' needs a value")),
                OptionValue::Values(_) if is_flag => Err(format!("'{key}' is true or false")),
                OptionValue::Values(values)
                    if values.len() != 1 && !matches!(argument.get_action(), ArgAction::Append) =>
                {
                    Err(format!("'{key}' has one value"))
                }
                OptionValue::Values(values) => {
                    Ok(values.iter().map(|value| value.filled_by_source(&fill)).collect())
                }
            };
            match values {
                Ok(values) => given.push(Given { argument, key: key.clone(), values, line: *line }),
                Err(text) => wrong.push((*line, text)),
            }
        }
        for (key, argument) in &known {
            let standing = match (step.command.as_str(), key.as_str()) {
                ("carry" | "check", "target") => "target",
                ("carry", "map") => "map",
                ("carry", "only") => "only",
                ("check", "profile") => "profile",
                _ => continue,
            };
            let value = self.standing.iter().find(|(own, _)| own == standing);
            let Some((_, value)) = value.filter(|_| !given.iter().any(|given| given.key == *key)) else {
                continue;
            };
            let values = vec![value.filled_by_source(&fill)];
            given.push(Given { argument, key: key.clone(), values, line: step.line });
        }
        (given, wrong)
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
        given: &[Given<'_>],
    ) -> Result<Kind, (Option<String>, String)> {
        let mut words = vec!["nimble-curve".to_owned()];
        words.extend(step.command.split(' ').map(str::to_owned));
        for Given { argument, values, .. } in given {
            let Some(long) = argument.get_long() else { continue };
            match values.is_empty() {
                true => words.push(format!("--{long}")),
                false => words.extend(values.iter().map(|value| format!("--{long}={value}"))),
            }
        }
        let has = |id: &str| command.get_arguments().any(|own| own.get_id() == id && !own.is_positional());
        let of_files = self.standing.iter().filter(|(key, _)| matches!(key.as_str(), "unit" | "up" | "rate"));
        for (key, value) in of_files.filter(|(key, _)| has(key)) {
            words.push(format!("--{key}={}", value.filled(|hole| hole.name().to_owned())));
        }
        // What a recipe says elsewhere: files come from memory and go there.
        if has("output") && step.command != "plot" {
            words.push("--output=-".to_owned());
        }
        words.push("--".to_owned());
        for argument in command.get_positionals() {
            match given.iter().find(|given| given.argument.get_id() == argument.get_id()) {
                Some(given) => words.extend(given.values.iter().cloned()),
                // The output stands among the options already.
                None if argument.get_id() == "out" => {}
                None if !is_open(&step.command, argument) => words.push("-".to_owned()),
                None => {}
            }
        }
        let parsed = self.program.clone().try_get_matches_from(words);
        let cli = parsed.and_then(|matches| Cli::from_arg_matches(&matches)).map_err(sentence)?;
        cli.command.and_then(as_step).ok_or_else(|| (None, "cannot be a step".to_owned()))
    }
}

impl StepText {
    /// As it is called in messages.
    fn name(&self) -> String {
        format!("step {} ({})", self.number, self.command)
    }

    fn fault(&self, line: usize, text: &str) -> Fault {
        Fault { line, text: format!("{}: {text}", self.name()) }
    }
}

/// A step before it is parsed.
#[derive(Default)]
struct Prepared<'a> {
    command: Option<&'a clap::Command>,
    given: Vec<Given<'a>>,
    /// All that the recipe says of it.
    said: String,
    /// Files that it reads: as the recipe says them, and where they are.
    inputs: Vec<(String, PathBuf)>,
    faults: Vec<Fault>,
}

/// An option that a step has: its values, and the line on which it stands.
struct Given<'a> {
    argument: &'a Arg,
    key: String,
    values: Vec<String>,
    line: usize,
}

impl Given<'_> {
    fn has_holes(&self) -> bool {
        self.values.iter().any(|value| value.contains('{'))
    }
}

/// What a value names.
enum Named {
    Input(PathBuf),
    Output(PathBuf),
    NoFile,
    Missing(PathBuf),
}

/// The faults of a recipe as one failure, a line each.
fn several(path: &Path, faults: &[Fault]) -> Failure {
    Failure::Several(lines(path, faults))
}

fn lines(path: &Path, faults: &[Fault]) -> Vec<String> {
    faults.iter().map(|fault| format!("{}:{}: {}", path.display(), fault.line, fault.text)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_source_has_its_own_filling_however_many_there_are() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        std::fs::create_dir(at.join("maps")).unwrap();
        std::fs::write(at.join("rig.bvh"), "").unwrap();
        let count = 2 * MOST_KEPT + 3;
        for number in 0..count {
            std::fs::write(at.join(format!("maps/{number}.toml")), "").unwrap();
        }
        let text = "sources = '*.bvh'\noutput = '{stem}.glb'\n[[step]]\ndo = 'unbake'\n[[step]]\ndo = 'carry'\n\
                    target = 'rig.bvh'\nmap = 'maps/{stem}.toml'\n";
        let recipe = Recipe::parse(text, &at.join("pack.toml")).unwrap();
        let of = |stem: String| {
            let fill = |hole: Hole| if hole == Hole::Stem { stem.clone() } else { String::new() };
            let filled = recipe.filled(fill);
            let stages = recipe.stages(&filled, fill).map_or(0, |stages| stages.len());
            (filled, stages)
        };
        let mut said = std::collections::HashSet::new();
        for number in 0..count {
            let (filled, stages) = of(number.to_string());
            let names: Vec<&str> = filled.inputs.iter().map(|(name, _)| name.as_str()).collect();
            assert_eq!((names, stages), (vec!["rig.bvh", &format!("maps/{number}.toml")], 2));
            assert!(said.insert(filled.steps.clone()) && filled.fault.is_none());
            // The same again is what was made.
            assert!(Arc::ptr_eq(&filled, &of(number.to_string()).0));
        }
        let (filled, stages) = of("nobody".to_owned());
        assert!(filled.fault.as_ref().unwrap().contains("maps/nobody.toml") && stages == 0);
    }
}
