//! The JSON Schema of recipes, from the definitions of the command line.

use clap::{Arg, ArgAction, CommandFactory as _};
use serde_json::{Map, Value, json};

use super::recipe::{KEYS, STEPS, command_of, options};
use crate::args::Cli;

/// The schema, for editors.
pub fn schema() -> Value {
    let mut program = Cli::command();
    program.build();
    let steps: Vec<Value> = STEPS
        .iter()
        .filter_map(|step| {
            let command = command_of(&program, step)?;
            let mut properties = Map::new();
            properties.insert("do".to_owned(), json!({ "const": step }));
            for (key, argument) in options(step, command) {
                properties.insert(key, option(argument));
            }
            let about = command.get_about().map_or_else(String::new, |about| about.to_string());
            Some(json!({
                "title": step,
                "description": about,
                "type": "object",
                "properties": properties,
                "required": ["do"],
                "additionalProperties": false,
            }))
        })
        .collect();
    let mut properties = Map::new();
    for (key, meaning) in KEYS {
        let mut property = match key {
            "sources" | "except" => one_or_several(json!({ "type": "string" })),
            "without-extra" | "skeletons" => json!({ "type": "boolean" }),
            "unit" | "rate" => json!({ "type": ["string", "number"] }),
            "up" => json!({ "enum": ["x", "y", "z"] }),
            "step" => json!({ "type": "array", "items": { "oneOf": steps } }),
            _ => json!({ "type": "string" }),
        };
        property["description"] = json!(meaning);
        properties.insert(key.to_owned(), property);
    }
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Recipe",
        "description": "A recipe: files, the steps that are done on each, and where results go",
        "type": "object",
        "properties": properties,
        "required": ["sources", "output"],
        "additionalProperties": false,
    })
}

fn one_or_several(item: Value) -> Value {
    json!({ "anyOf": [item, { "type": "array", "items": item, "minItems": 1 }] })
}

/// What an option's value may be.
fn option(argument: &Arg) -> Value {
    let values: Vec<String> =
        argument.get_possible_values().iter().map(|value| value.get_name().to_owned()).collect();
    let item =
        if values.is_empty() { json!({ "type": ["string", "number"] }) } else { json!({ "enum": values }) };
    let mut property = match argument.get_action() {
        ArgAction::Append => one_or_several(item),
        action if action.takes_values() => item,
        _ => json!({ "type": "boolean" }),
    };
    if let Some(help) = argument.get_help() {
        property["description"] = json!(help.to_string());
    }
    if let [default] = argument.get_default_values()
        && argument.get_action().takes_values()
    {
        property["default"] = json!(default.to_string_lossy());
    }
    property
}
