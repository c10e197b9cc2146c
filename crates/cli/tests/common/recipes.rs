//! Folders with many small captures, and recipes for them.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};

use serde_json::Value;

/// A rig of three joints with a motion of its own for each number: a waved curve, sampled at every frame.
pub fn capture(number: usize) -> String {
    let mut text = String::from(
        "HIERARCHY\nROOT hips\n{\n  OFFSET 0 90 0\n  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n  \
         JOINT chest\n  {\n    OFFSET 0 30 0\n    CHANNELS 3 Zrotation Xrotation Yrotation\n    JOINT head\n    {\n      \
         OFFSET 0 25 0\n      CHANNELS 3 Zrotation Xrotation Yrotation\n      End Site\n      {\n        OFFSET 0 15 0\n      \
         }\n    }\n  }\n}\nMOTION\nFrames: 25\nFrame Time: 0.0333333\n",
    );
    for frame in 0..25 {
        let at = frame as f64 / 24.0;
        let wave = |speed: f64| 12.0 * (at * speed * (1.0 + number as f64 % 7.0 / 7.0) + number as f64).sin();
        let _ = write!(text, "{} {} {}", 40.0 * at, 90.0 + 0.1 * wave(3.0), 0.0);
        for joint in 0..3 {
            let speed = 2.0 + f64::from(joint);
            let _ = write!(text, " {} {} {}", wave(speed), 0.5 * wave(speed + 1.0), 0.0);
        }
        text.push('\n');
    }
    text
}

/// The rig that gets the animation, under other names and smaller.
pub fn target() -> String {
    let text = capture(0).replace("hips", "Pelvis").replace("chest", "Back").replace("head", "Skull");
    text.replace("OFFSET 0 90 0", "OFFSET 0 60 0")
}

pub const CHARACTERS: [&str; 3] = ["otter", "stork", "heron"];

pub const RECIPE: &str = r#"
sources = "exports/**/*.bvh"
output = "game/{folder}/{stem}.ncurve"
target = "target.bvh"
map = "maps/{folder}.toml"
unit = "cm"

[[step]]
do = "unbake"
tolerance = "0.1deg,0.5mm"

[[step]]
do = "carry"
tolerance = "0.2deg,1mm"
without-target-takes = true
"#;

/// A folder with so many captures of three characters, a map for each, and a recipe.
pub fn show(folder: &Path, count: usize) {
    fs::write(folder.join("target.bvh"), target()).unwrap();
    fs::write(folder.join("pack.toml"), RECIPE).unwrap();
    fs::create_dir_all(folder.join("maps")).unwrap();
    for character in CHARACTERS {
        let map = format!("# {character}\n[nodes]\nhips = \"Pelvis\"\nchest = \"Back\"\nhead = \"Skull\"\n");
        fs::write(folder.join(format!("maps/{character}.toml")), map).unwrap();
        fs::create_dir_all(folder.join("exports").join(character)).unwrap();
    }
    for number in 0..count {
        let character = CHARACTERS[number % 3];
        fs::write(folder.join(format!("exports/{character}/clip_{number:03}.bvh")), capture(number)).unwrap();
    }
}

pub fn json(output: &Output) -> Value {
    serde_json::from_slice(&output.stdout).unwrap_or_else(|error| {
        panic!(
            "{error}: {}{}",
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&output.stderr)
        )
    })
}

/// The sources in one state.
pub fn in_state(table: &Value, state: &str) -> BTreeSet<String> {
    let rows = table["rows"].as_array().unwrap().iter().filter(|row| row["state"] == state);
    rows.map(|row| row["source"].as_str().unwrap().to_owned()).collect()
}

/// All files below a folder, hidden ones too, with their contents.
pub fn tree(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        for entry in fs::read_dir(&at).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if let Ok(contents) = fs::read(&path) {
                // A run may be going on, and a file may have another name by now.
                let name = path.strip_prefix(folder).unwrap().to_string_lossy().into_owned();
                all.insert(name, contents);
            }
        }
    }
    all
}

/// Starts the program on a recipe.
pub fn started(at: &Path, options: &[&str]) -> Child {
    Command::new(assert_cmd::cargo::cargo_bin("nimble-curve"))
        .current_dir(at)
        .arg("run")
        .arg("pack.toml")
        .args(options)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap()
}
