//! What sensors add, through the program: tolerances from noise, faults that are named and bridged, and tolerances in a word.

use std::fmt::Write;
use std::path::Path;

use nimble_curve_second::random::Chance;
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

const JOINTS: [&str; 3] = ["hips", "thigh_l", "shin_l"];
/// How large the noise of each joint's angles is, in degrees.
const SIZES: [f64; 3] = [0.05, 0.2, 0.8];

/// A leg's capture at 60 frames a second, and the lines of its motion, without what `befall` does to each number of it.
fn capture(frames: usize, befall: impl Fn(usize, usize) -> f64) -> String {
    let mut chance = Chance::new(7);
    let mut text = String::from("HIERARCHY\n");
    for (depth, joint) in JOINTS.iter().enumerate() {
        let word = if depth == 0 { "ROOT" } else { "JOINT" };
        writeln!(text, "{word} {joint}\n{{\nOFFSET 0 -40 0\nCHANNELS 3 Zrotation Xrotation Yrotation")
            .unwrap();
    }
    text += "End Site\n{\nOFFSET 0 -10 0\n}\n}\n}\n}\n";
    writeln!(text, "MOTION\nFrames: {frames}\nFrame Time: 0.0166667").unwrap();
    let mut normal = || (0..12).map(|_| chance.between(0.0, 1.0)).sum::<f64>() - 6.0;
    for frame in 0..frames {
        let row = (0..9).map(|channel| {
            let t = frame as f64 / 60.0;
            let clean = 20.0 * (1.3 * t + channel as f64).sin() + 4.0 * (3.1 * t + channel as f64).cos();
            let value = clean + SIZES[channel / 3] * normal() + befall(frame, channel / 3);
            format!("{value:.6}")
        });
        writeln!(text, "{}", row.collect::<Vec<_>>().join(" ")).unwrap();
    }
    text
}

fn write(folder: &Path, name: &str, text: &str) {
    std::fs::write(folder.join(name), text).unwrap();
}

/// The numbers of the line that starts with some words.
fn numbers(said: &str, starts: &str) -> Vec<f64> {
    let line =
        said.lines().find(|line| line.trim_start().starts_with(starts)).unwrap_or_else(|| panic!("{said}"));
    line.split_whitespace().filter_map(|word| word.parse().ok()).collect()
}

#[test]
fn tolerances_come_from_the_noise_of_each_channel_where_they_are_asked_to() {
    let folder = tempdir().unwrap();
    let folder = folder.path();
    write(folder, "in.bvh", &capture(600, |_, _| 0.0));
    let said = succeed(folder, &["unbake", "in.bvh", "-o", "auto.ncurve", "--tolerance", "auto"]);
    // Tracks, the median and the largest noise of the part, and what is allowed for it; of three angles together.
    let hips = numbers(&said, "root and hips");
    let leg = numbers(&said, "left leg");
    let three = 3_f64.sqrt();
    assert!((hips[1] / (three * SIZES[0]) - 1.0).abs() < 0.2, "{said}");
    assert!((leg[2] / (three * SIZES[2]) - 1.0).abs() < 0.2, "{said}");
    assert!((2.0 * SIZES[2]..5.0 * SIZES[2]).contains(&leg[3]), "{said}");
    // Each joint is within its own, by other eyes than those of the program.
    let text = std::fs::read_to_string(folder.join("in.bvh")).unwrap();
    let result = Scene::read(&std::fs::read_to_string(folder.join("auto.ncurve")).unwrap());
    let rows: Vec<Vec<f64>> = text
        .lines()
        .skip_while(|line| !line.starts_with("Frame Time"))
        .skip(1)
        .map(|line| line.split(' ').map(|word| word.parse().unwrap()).collect())
        .collect();
    for (joint, name) in JOINTS.iter().enumerate() {
        let node = result.nodes.iter().position(|node| node.name == *name).unwrap();
        let off = |(frame, row): (usize, &Vec<f64>)| {
            let turn = nimble_curve_second::turn::of_angles(
                "yxz",
                [row[3 * joint + 1], row[3 * joint + 2], row[3 * joint]],
            );
            apart(turn, result.local(0, node, frame as f64).1.normalize())
        };
        let most = rows.iter().enumerate().map(off).fold(0.0, f64::max);
        assert!((2.0 * SIZES[joint]..4.5 * SIZES[joint]).contains(&most), "{name}: {most}");
    }
    let plainly = succeed(folder, &["unbake", "in.bvh", "-o", "plain.ncurve", "--no-other-tolerances"]);
    let keys = |said: &str| numbers(said, "all")[2];
    assert!(3.0 * keys(&said) < keys(&plainly), "{said}{plainly}");

    let both = ["unbake", "in.bvh", "-o", "both.ncurve", "--tolerance", "auto", "--keys-at-most", "100"];
    let said = fail(folder, &both);
    assert!(said.contains("both find tolerances: say one of them"), "{said}");

    write(folder, "short.bvh", &capture(59, |_, _| 0.0));
    let said = fail(folder, &["unbake", "short.bvh", "-o", "short.ncurve", "--tolerance", "auto"]);
    assert!(
        said.contains("short.bvh: hips:rotation has 59 samples: noise is told from motion by 60"),
        "{said}"
    );
}

#[test]
fn samples_that_are_no_motion_are_named_and_bridged_where_that_is_asked_for() {
    let folder = tempdir().unwrap();
    let folder = folder.path();
    let faulty = capture(300, |frame, joint| if frame == 100 && joint == 1 { 25.0 } else { 0.0 });
    write(folder, "faulty.bvh", &faulty);
    write(folder, "whole.bvh", &capture(300, |_, _| 0.0));
    let output = run(folder, &["check", "faulty.bvh"]);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(said.contains("spike") && said.contains("thigh_l:rotation  frame 100  off by"), "{said}");
    let whole = run(folder, &["check", "whole.bvh"]);
    assert!(!String::from_utf8_lossy(&whole.stdout).contains("spike"));

    let options = ["--tolerance", "0.5deg", "--no-other-tolerances"];
    let arguments = |file: &'static str, out: &'static str, more: &[&'static str]| {
        [&["unbake", file, "-o", out][..], &options[..], more].concat()
    };
    let said = succeed(folder, &arguments("faulty.bvh", "bridged.ncurve", &["--bridge"]));
    assert!(
        said.contains("bridged before it was fitted: 1 spike of 1 track (thigh_l:rotation frame 100)"),
        "{said}"
    );
    let json = succeed(folder, &arguments("faulty.bvh", "said.ncurve", &["--bridge", "--json"]));
    assert!(json.contains("bridged before it was fitted: 1 spike"), "{json}");
    succeed(folder, &arguments("faulty.bvh", "as_it_is.ncurve", &[]));
    succeed(folder, &arguments("whole.bvh", "whole.ncurve", &[]));
    let at = |file: &str, frame: f64| {
        let scene = Scene::read(&std::fs::read_to_string(folder.join(file)).unwrap());
        let node = scene.nodes.iter().position(|node| node.name == "thigh_l").unwrap();
        scene.local(0, node, frame).1.normalize()
    };
    let off = |file: &str, frame: f64| apart(at(file, frame), at("whole.ncurve", frame));
    assert!(off("as_it_is.ncurve", 100.0) > 20.0);
    assert!(off("bridged.ncurve", 100.0) < 2.5, "{}", off("bridged.ncurve", 100.0));
    // In a recipe, what came before is judged first, and it is said.
    let recipe = "sources = 'faulty.bvh'\noutput = 'out/{stem}.ncurve'\n[[step]]\ndo = 'convert'\n[[step]]\ndo = 'unbake'\nbridge = true\n";
    write(folder, "r.toml", recipe);
    let said = succeed(folder, &["run", "r.toml"]);
    assert!(said.contains("bridged before it was fitted: 1 spike of 1 track"), "{said}");
}

#[test]
fn a_word_for_tolerances_is_spelt_out_and_means_what_it_says() {
    let folder = tempdir().unwrap();
    let folder = folder.path();
    let wade = sample("bramble_wade.bvh");
    let wade = wade.to_str().unwrap();
    let mut least = usize::MAX;
    for word in ["near", "mid", "far"] {
        let said = succeed(
            folder,
            &["unbake", wade, "-o", "word.ncurve", "--replace", "--no-other-tolerances", "--seen", word],
        );
        let line = said.lines().find_map(|line| line.trim().strip_prefix(&format!("{word}: "))).unwrap();
        assert!(line.ends_with("--planted foot_l foot_r"), "{line}");
        let typed: Vec<&str> = line.split(' ').collect();
        let spelt =
            [&["unbake", wade, "-o", "spelt.ncurve", "--replace", "--no-other-tolerances"][..], &typed[..]]
                .concat();
        succeed(folder, &spelt);
        let read = |name: &str| std::fs::read(folder.join(name)).unwrap();
        assert!(read("word.ncurve") == read("spelt.ncurve"), "{word} is {line}");
        let keys = numbers(&said, "all")[2] as usize;
        assert!(keys < least, "{word} has {keys} keys");
        least = keys;
    }
    // What is given counts instead; where the unit is doubtful, nothing is bounded in metres.
    let said = succeed(
        folder,
        &[
            "unbake",
            wade,
            "-o",
            "own.ncurve",
            "--seen",
            "far",
            "--tolerance",
            "2deg",
            "--world",
            "15mm",
            "--no-other-tolerances",
        ],
    );
    assert!(said.contains("far: --tolerance 2deg,0.5mm,0.001 --world 15mm"), "{said}");
    let said = succeed(
        folder,
        &["unbake", wade, "-o", "m.ncurve", "--unit", "m", "--seen", "far", "--no-other-tolerances"],
    );
    assert!(
        said.contains("no bound in the world, as the unit is doubtful") && !said.contains("--planted"),
        "{said}"
    );
    // One picture shows them all, each with its keys, beside the samples.
    let far = ["unbake", wade, "-o", "far.ncurve", "--seen", "far", "--no-other-tolerances"];
    succeed(folder, &far);
    let picture = |more: &[&str]| {
        let plot =
            ["plot", "spelt.ncurve", "--beside", "own.ncurve", "--only", "shin_l:rotation.x", "-o", "p.svg"];
        run(folder, &[&plot[..], &["--against", wade, "--frames", "100:300"], more].concat())
    };
    assert!(picture(&[]).status.success());
    let drawn = std::fs::read_to_string(folder.join("p.svg")).unwrap();
    let keys = |file: &str| {
        let text = std::fs::read_to_string(folder.join(file)).unwrap();
        let scene: serde_json::Value = serde_json::from_str(&text).unwrap();
        let tracks = scene["takes"][0]["layers"][0]["tracks"].as_array().unwrap().clone();
        let track = tracks.into_iter().find(|track| track["channel"] == "shin_l:rotation").unwrap();
        track["controller"]["angles"]["x"]["keys"].as_array().unwrap().len()
    };
    for file in ["spelt", "own"] {
        let label = format!("{file}: shin_l:rotation.x, {} keys", keys(&format!("{file}.ncurve")));
        assert!(drawn.contains(&label), "{label}");
    }
    assert!(drawn.contains("spelt, own against bramble_wade"));
    let said = String::from_utf8_lossy(&picture(&["--view", "keys"]).stderr).into_owned();
    assert!(said.contains("--beside draws curves alone"), "{said}");
    std::fs::write(folder.join("own.ncurve"), std::fs::read(sample("cart.ncurve")).unwrap()).unwrap();
    let said = String::from_utf8_lossy(&picture(&[]).stderr).into_owned();
    assert!(said.contains("own.ncurve: there is no animated channel shin_l:rotation.x"), "{said}");
}
