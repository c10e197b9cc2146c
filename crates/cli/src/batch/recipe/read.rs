//! Reading recipes: what stands where, and what is wrong with it.

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use clap::CommandFactory as _;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::similar::similar;
use nimble_curve_formats::Format;
use nimble_curve_formats::profile::{SHIPPED, read_profile};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::grammar::{KEYS, step_named};
use super::{Fault, OptionText, OptionValue, Recipe, StepText};
use crate::args::Cli;
use crate::files::{InputArgs, up_axis};
use crate::pattern::{Hole, Pattern};
use crate::quantity;

/// Takes a document apart and gathers what is wrong with it.
pub struct Reader<'a> {
    pub text: &'a str,
    pub faults: Vec<Fault>,
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

    pub fn recipe(&mut self, table: &DeTable<'_>, path: &Path) -> Recipe {
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
                let pattern = self.noted(line, Pattern::parse(&text, Hole::ALL))?;
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
            self.noted(line, Pattern::parse(&text, Hole::ALL))
        });
        let text = |reader: &mut Self, name: &str| {
            entry(name).and_then(|(key, line, value)| Some((line, reader.text_of(key, line, value)?)))
        };
        let mut standing = Vec::new();
        for name in ["target", "map", "only", "profile", "unit", "up", "rate"] {
            if let Some((line, value)) = text(self, name) {
                let pattern = self.noted(line, Pattern::parse(&value, Hole::OF_SOURCE));
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
        if let Some((line, text)) = text(self, "rate") {
            input.rate = self.noted(line, text.parse().map_err(|error| format!("{error}")));
        }
        // As of convert.
        let mut tolerance = Tolerance { angle: 0.05_f64.to_radians(), length: 0.0001, number: 0.001 };
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
        for name in ["target", "map"] {
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
        if let (true, Some(output), Some((_, line, _))) = (skeletons, &output, entry("skeletons")) {
            let format = Format::of_path(Path::new(&output.filled(|_| "x".to_owned())));
            if format.is_some_and(|format| !format.is_usd()) {
                self.fault(line, "'skeletons' is for USD: end the output in .usda, .usdc or .usdz");
            }
        }
        let records = match text(self, "records") {
            Some((_, text)) => folder.join(text),
            None => path.with_extension("records"),
        };
        let steps = entry("step").map_or(Vec::new(), |(_, line, value)| self.steps(line, value));
        // What stands for an option of steps, and that no step takes, does nothing: twenty controls go into thirty files.
        for (name, takers) in [
            ("target", &[("carry", "target"), ("check", "target")][..]),
            ("map", &[("carry", "map")]),
            ("only", &[("carry", "only")]),
        ] {
            let takes = |step: &StepText| {
                takers.iter().any(|(command, key)| {
                    step.command == *command && !step.options.iter().any(|option| option.key == *key)
                })
            };
            if let Some((_, line, _)) = entry(name)
                && !steps.iter().any(takes)
            {
                let commands: Vec<&str> = takers.iter().map(|(command, _)| *command).collect();
                let text = format!(
                    "'{name}' does nothing: no step takes it; a step {} does, unless it says its own",
                    commands.join(" or ")
                );
                self.fault(line, text);
            }
        }
        let said_of =
            |name: &str| entry(name).map(|(key, _, value)| format!("{key}={}", &self.text[value.span()]));
        let said: Vec<String> =
            ["output", "ledger", "profile", "tolerance", "without-extra", "skeletons", "unit", "up", "rate"]
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
            filled: Mutex::default(),
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
                        // A step's own output is a picture of what there is then.
                        let holes = if key == "output" { Hole::ALL } else { Hole::OF_SOURCE };
                        let pattern = Pattern::parse(&text, holes);
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

/// A text or a number as it is written.
fn plain(value: &DeValue<'_>) -> Option<String> {
    match value {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => Some(number.as_str().to_owned()),
        DeValue::Float(number) => Some(number.as_str().to_owned()),
        _ => None,
    }
}

/// The line of a place in a text, from 1 on.
pub fn line_at(text: &str, at: usize) -> usize {
    text[..at.min(text.len())].matches('\n').count() + 1
}
