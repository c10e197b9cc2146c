//! Options that no other test has a use for, and that none is without a test.

use std::collections::BTreeSet;
use std::path::Path;

use nimble_curve_core::rotation::angle_between;
use nimble_curve_core::space::UpAxis;
use tempfile::tempdir;

use crate::common::{rotations, run, sample, scene, succeed};

fn path(name: &str) -> String {
    sample(name).display().to_string()
}

/// The options that a command's help lists, and those of all commands below it.
fn options(words: &[&str], found: &mut BTreeSet<String>) {
    let help = succeed(Path::new("."), &[words, &["--help"]].concat());
    for line in help.lines().map(str::trim_start).filter(|line| line.starts_with('-')) {
        let long = line.split_whitespace().find_map(|word| word.strip_prefix("--"));
        let end = |long: &str| long.find(|c: char| !c.is_ascii_lowercase() && c != '-').unwrap_or(long.len());
        found.extend(long.map(|long| long[..end(long)].to_owned()));
    }
    let below = help.split("Commands:\n").nth(1).and_then(|rest| rest.split("\n\n").next()).unwrap_or("");
    let names =
        below.lines().filter_map(|line| line.strip_prefix("  ")).filter(|line| !line.starts_with(' '));
    for name in names.filter_map(|line| line.split_whitespace().next()).filter(|name| *name != "help") {
        options(&[words, &[name]].concat(), found);
    }
}

#[test]
fn every_option_stands_in_a_test() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let tests: String = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|ending| ending == "rs"))
        .map(|path| std::fs::read_to_string(path).unwrap())
        .collect();
    let mut found = BTreeSet::new();
    options(&[], &mut found);
    assert!(found.len() > 80, "{found:?}");
    let is_tested = |option: &&String| {
        let (whole, in_line) = (format!("\"--{option}"), format!(" --{option} "));
        tests.contains(&whole)
            || tests.contains(&in_line)
            || ["help", "version", "output"].contains(&option.as_str())
    };
    let missing: Vec<&String> = found.iter().filter(|option| !is_tested(option)).collect();
    assert!(missing.is_empty(), "without a test: {missing:?}");
}

#[test]
fn the_tree_shows_each_node_below_its_parent() {
    let folder = tempdir().unwrap();
    let text = succeed(folder.path(), &["inspect", &path("bramble.ncurve"), "--tree"]);
    let column = |name: &str| {
        let line = text.lines().find(|line| line.split_whitespace().any(|word| word == name));
        line.unwrap_or_else(|| panic!("{name}: {text}")).find(name).unwrap()
    };
    let chain = ["courier:hips", "courier:spine_01", "courier:spine_02", "courier:chest"].map(column);
    assert!(chain.windows(2).all(|pair| pair[0] < pair[1]), "{chain:?}");
}

#[test]
fn a_table_is_as_wide_as_it_is_where_nobody_reads_it() {
    let folder = tempdir().unwrap();
    let [plain, wide] = [&[][..], &["--wide"]].map(|more: &[&str]| {
        succeed(folder.path(), &[&["inspect", path("bramble.ncurve").as_str()], more].concat())
    });
    assert_eq!(plain, wide);
    assert!(plain.contains("courier:forearm_l:rotation.z"));
}

#[test]
fn what_a_file_does_not_say_is_taken_from_the_options() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let capture = path("bramble_wade.bvh");
    let space = |name: &str| scene(&at.join(name)).space;
    succeed(at, &["convert", &capture, "up.ncurve", "--unit", "in", "--up", "z"]);
    assert_eq!((space("up.ncurve").metres_per_unit, space("up.ncurve").up), (0.0254, UpAxis::Z));
    // The target's file says neither, too.
    let onto =
        ["carry", &path("rounds.ncurve"), "--target", &capture, "--target-unit", "ft", "--target-up", "y"];
    succeed(at, &[&onto[..], &["--scale", "1", "--take", "rounds", "-o", "onto.ncurve"]].concat());
    assert_eq!((space("onto.ncurve").metres_per_unit, space("onto.ncurve").up), (0.3048, UpAxis::Y));
}

#[test]
fn travel_is_scaled_by_the_factor_that_is_given() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    let travel = |factor: &str| {
        let out = format!("{factor}.ncurve");
        succeed(
            at,
            &["carry", &rounds, "--target", &rounds, "--scale", factor, "--without-target-takes", "-o", &out],
        );
        let clips = succeed(at, &["root", "show", &out, "--json"]);
        let rows: serde_json::Value = serde_json::from_str(&clips).unwrap();
        rows.as_array().unwrap().iter().map(|row| row["way_m"].as_f64().unwrap()).collect::<Vec<_>>()
    };
    let (once, thrice) = (travel("1"), travel("3"));
    assert!(once.iter().any(|way| *way > 0.1));
    assert!(once.iter().zip(&thrice).all(|(a, b)| (3.0 * a - b).abs() < 1e-6), "{once:?} {thrice:?}");
}

#[test]
fn a_pose_of_the_target_is_where_the_motion_starts_from() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = path("cart.ncurve");
    let onto = ["carry", &cart, "--target", &cart, "--without-target-takes", "--only", "vane"];
    succeed(at, &[&onto[..], &["--source-pose", "1", "--target-pose", "40", "-o", "posed.ncurve"]].concat());
    // What was at frame 1 is at frame 40's pose, and goes on from there.
    let source = rotations(&scene(Path::new(&cart)), "vane", [1.0, 40.0].into_iter());
    let posed = rotations(&scene(&at.join("posed.ncurve")), "vane", [1.0].into_iter());
    assert!(angle_between(source[0], source[1]) > 0.2);
    assert!(angle_between(posed[0], source[1]).to_degrees() < 0.11, "{:?} {:?}", posed[0], source[1]);
}

#[test]
fn so_many_channels_are_drawn_as_are_asked_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for (count, file) in [("2", "two.svg"), ("6", "six.svg")] {
        succeed(at, &["plot", &path("bramble.ncurve"), "--channels", count, "-o", file]);
        let svg = std::fs::read_to_string(at.join(file)).unwrap();
        let labels = svg.split('>').filter(|text| text.contains(":") && text.starts_with("courier:"));
        assert_eq!(labels.count().to_string(), count, "{file}");
    }
    let refused = run(at, &["plot", &path("bramble.ncurve"), "--channels", "0", "-o", "none.svg"]);
    assert_eq!(refused.status.code(), Some(2));
}
