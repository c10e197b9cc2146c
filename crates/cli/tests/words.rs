//! `docs/words.md` knows every word of the program: commands, options, their values, and the fields of its files.

mod common;

use std::collections::BTreeSet;
use std::path::Path;

use common::succeed;
use serde_json::Value;

/// The words in code marks on the page, options without their dashes and values.
fn known() -> BTreeSet<String> {
    let page = include_str!("../../../docs/words.md");
    let marked = page.split('`').skip(1).step_by(2);
    marked.map(|word| word.trim_start_matches('-').to_owned()).collect()
}

/// The options and commands that help names, commands and all that they have below them.
fn of_command(words: &[String], found: &mut BTreeSet<String>) {
    let mut arguments: Vec<&str> = words.iter().map(String::as_str).collect();
    arguments.push("--help");
    let help = succeed(Path::new("."), &arguments);
    for line in help.lines() {
        let line = line.trim_start();
        let long = line.strip_prefix("--").or_else(|| line.split_once(", --").map(|(_, long)| long));
        if let Some(long) = long.filter(|_| line.starts_with('-')) {
            let end = long.find(|c: char| !c.is_ascii_lowercase() && c != '-').unwrap_or(long.len());
            found.insert(long[..end].to_owned());
        }
    }
    let commands =
        help.split("Commands:\n").nth(1).map_or("", |rest| rest.split("\n\n").next().unwrap_or(""));
    for line in commands.lines().filter(|line| line.starts_with("  ") && !line.starts_with("   ")) {
        let command = line.split_whitespace().next().unwrap().to_owned();
        found.insert(command.clone());
        if command != "help" {
            let mut words = words.to_vec();
            words.push(command);
            of_command(&words, found);
        }
    }
}

/// The properties and the words among the values of a JSON Schema.
fn of_schema(schema: &Value, found: &mut BTreeSet<String>) {
    match schema {
        Value::Object(fields) => {
            if let Some(Value::Object(properties)) = fields.get("properties") {
                found.extend(properties.keys().cloned());
            }
            let values = fields.get("enum").and_then(Value::as_array).into_iter().flatten();
            let values = values.chain(fields.get("const")).filter_map(Value::as_str);
            found.extend(values.map(str::to_owned));
            fields.values().for_each(|value| of_schema(value, found));
        }
        Value::Array(list) => list.iter().for_each(|value| of_schema(value, found)),
        _ => {}
    }
}

#[test]
fn the_page_of_words_knows_every_command_option_and_field() {
    let known = known();
    let mut found = BTreeSet::new();
    of_command(&[], &mut found);
    assert!(found.len() > 120, "{found:?}");
    let schema = serde_json::from_str(&succeed(Path::new("."), &["schema", "ncurve"])).unwrap();
    of_schema(&schema, &mut found);
    assert!(found.len() > 200, "{found:?}");
    let unknown: Vec<&String> = found.iter().filter(|word| !known.contains(*word)).collect();
    assert!(unknown.is_empty(), "docs/words.md does not know {unknown:?}");
    let recipe: Value = serde_json::from_str(&succeed(Path::new("."), &["schema", "recipe"])).unwrap();
    let top = recipe["properties"].as_object().unwrap();
    let unknown: Vec<&String> = top.keys().filter(|word| !known.contains(*word)).collect();
    assert!(unknown.is_empty(), "docs/words.md does not know {unknown:?} of recipes");
}
