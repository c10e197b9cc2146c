//! `docs/words.md` knows every word of the program: commands, options, their values, and the fields of its files.

use std::collections::BTreeSet;
use std::path::Path;

use serde_json::Value;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

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

/// What a command prints first.
fn first_line(folder: &Path, words: &[&str]) -> String {
    let output = run(folder, words);
    let text = String::from_utf8(output.stdout.clone()).unwrap();
    assert!(output.status.success() || ["compare", "check"].contains(&words[0]), "{words:?}: {output:?}");
    text.lines().next().unwrap_or_else(|| panic!("{words:?} prints nothing")).to_owned()
}

#[test]
fn the_first_line_says_what_came_of_it() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let path = |name: &str| sample(name).display().to_string();
    let (bramble, stilt, cart) = (path("bramble.ncurve"), path("stilt.ncurve"), path("cart.ncurve"));
    let (wade, faulty, map) =
        (path("bramble_wade.bvh"), path("faulty.ncurve"), path("bramble_to_stilt.toml"));
    let rounds = path("rounds.ncurve");
    let said: [(&[&str], &[&str]); 24] = [
        (&["inspect", &bramble], &["1 rig, 1 take, 27 tracks, "]),
        (&["check", &faulty], &["2 errors, "]),
        (&["convert", &bramble, "b.glb"], &["24 tracks: ", "refitted", "off by at most ", " deg"]),
        (
            &["carry", &bramble, "--target", &stilt, "--map", &map, "-o", "c.ncurve"],
            &["5 left out", "in the world "],
        ),
        (
            &["unbake", &wade, "--unit", "cm", "--no-other-tolerances", "-o", "u.ncurve"],
            &["samples became ", "keys"],
        ),
        (
            &["reorder", &cart, "--to", "yxz", "-o", "r.ncurve"],
            &["6 tracks: 5 exact, 1 refitted; off by at most "],
        ),
        (&["reorder", &cart, "--survey"], &["6 nodes: 1 would do better"]),
        (&["compare", &cart, "r.ncurve"], &["not the same; farthest apart: ", " at frame "]),
        (&["compare", &cart, "r.ncurve", "--tolerance", "0.1deg,1mm"], &["within the tolerance"]),
        // The map knows no namespace, and the file has one.
        (&["compare", &bramble, "c.ncurve", "--map", &map], &["not the same; farthest apart: "]),
        (&["map", &bramble, &stilt], &["21 pairs: 20 sure, 1 likely", "without a partner"]),
        (&["layers", "flatten", &bramble, "-o", "f.ncurve"], &["24 tracks: 16 kept", "off by at most "]),
        (
            &["layers", "set", &bramble, "--layer", "look", "--weight", "0.5", "-o", "s.ncurve"],
            &["layer 'look' is set"],
        ),
        (
            &["layers", "difference", &cart, "--against", &cart, "--name", "d", "-o", "d.ncurve"],
            &["the two move alike"],
        ),
        (&["bake", &cart, "-o", "k.ncurve"], &["7 tracks sampled; the same"]),
        (&["clips", &bramble], &["1 take, 2 clips"]),
        (&["clips", "split", &bramble, "-o", "parts"], &["2 files; off by at most "]),
        (&["clips", "trim", &rounds, "-o", "t.ncurve"], &["track", "the same"]),
        (&["root", "lift", "u.ncurve", "-o", "l.ncurve"], &["2 tracks: 1 exact, 1 refitted", "in the world"]),
        (&["root", "show", "u.ncurve"], &["1 clip; loops: 0"]),
        (
            &["cycle", "close", &faulty, "--take", "sway", "-o", "x.ncurve"],
            &["1 track refitted; moved by at most "],
        ),
        (&["cycle", "find", "u.ncurve"], &["ranges; loops: "]),
        (&["cycle", "extend", &rounds, "--rounds", "2", "-o", "e.ncurve"], &["15 tracks exact; the same"]),
        (&["plot", &cart, "-o", "p.svg"], &["curves of take quay, frames 1:96"]),
    ];
    for (words, parts) in said {
        let line = first_line(at, words);
        assert!(parts.iter().all(|part| line.contains(part)), "{words:?}: {line}");
    }
}

#[test]
fn names_are_made_of_parts_wherever_files_are_written() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let path = |name: &str| sample(name).display().to_string();
    let (bramble, cart) = (path("bramble.ncurve"), path("cart.ncurve"));
    succeed(at, &["clips", "split", &bramble, "-o", "game/{clip:upper}_{frames}.glb"]);
    succeed(at, &["plot", &cart, "-o", "{stem}_{take:upper}_{first}-{last:04}.svg", "--frames", "5:20"]);
    succeed(at, &["root", "show", &bramble, "-o", "{scene}_{frames}.svg"]);
    succeed(at, &["clips", "sheet", &bramble, &cart, "-o", "{stem}.csv", "--markers", "{stem}_markers.csv"]);
    succeed(at, &["clips", "sheet", &bramble, &cart, "-o", "all.csv"]);
    succeed(at, &["clips", "trim", &cart, "-o", "trimmed.ncurve"]);
    run(at, &["compare", &cart, &bramble, "--plot", "x.svg"]);
    for file in [
        "game/GREET_49.glb",
        "game/HAND_OVER_49.glb",
        "cart_QUAY_5-0020.svg",
        "bramble_97.svg",
        "bramble.csv",
        "cart.csv",
        "bramble_markers.csv",
        "cart_markers.csv",
    ] {
        assert!(at.join(file).is_file(), "{file}");
    }
    let lines = |file: &str| std::fs::read_to_string(at.join(file)).unwrap().lines().count();
    assert_eq!(lines("bramble.csv") + lines("cart.csv"), lines("all.csv") + 1, "a heading each");
    let said = fail(at, &["plot", &cart, "-o", "{clip:title}.svg"]);
    assert!(said.contains("lower, upper, snake"), "{said}");
    let said = fail(at, &["clips", "split", &bramble, "-o", "{frames}.glb"]);
    assert!(said.contains("put {take} and {clip} into --output"), "{said}");
    let same = ["clips", "sheet", &bramble, "-o", "{stem}.md", "--markers", "{stem}.md"];
    assert!(fail(at, &same).contains("of clips and of markers"));
}

/// The names of fields and of their values in a JSON Schema.
fn names_in(schema: &Value, names: &mut BTreeSet<String>) {
    match schema {
        Value::Object(fields) => {
            if let Some(Value::Object(properties)) = fields.get("properties") {
                names.extend(properties.keys().cloned());
            }
            let values = fields.get("enum").and_then(Value::as_array).into_iter().flatten();
            let one = fields.get("const").into_iter();
            names.extend(values.chain(one).filter_map(Value::as_str).map(str::to_owned));
            fields.values().for_each(|field| names_in(field, names));
        }
        Value::Array(list) => list.iter().for_each(|item| names_in(item, names)),
        _ => {}
    }
}

#[test]
fn the_page_of_the_format_has_every_field_and_no_controller_that_is_none() {
    let page = include_str!("../../../docs/format.md");
    let schema: Value = serde_json::from_str(&succeed(Path::new("."), &["schema", "ncurve"])).unwrap();
    let mut names = BTreeSet::new();
    names_in(&schema, &mut names);
    assert!(names.len() > 100, "{}", names.len());
    let is_part = |c: char| !c.is_ascii_alphanumeric() && !"_-".contains(c);
    let marked: BTreeSet<&str> =
        page.split('`').skip(1).step_by(2).flat_map(|code| code.split(is_part)).collect();
    let missing: Vec<&String> = names.iter().filter(|name| !marked.contains(name.as_str())).collect();
    assert!(missing.is_empty(), "not on the page: {missing:?}");
    // The first column of a table that says so names controllers.
    let table = page.split("| controller | holds |").nth(1).unwrap().split("\n\n").next().unwrap();
    for row in table.lines().filter(|line| line.starts_with("| `")) {
        let name = row.split('`').nth(1).unwrap();
        assert!(names.contains(name), "'{name}' is no controller");
    }
}
