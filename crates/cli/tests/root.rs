//! `root` and `cycle` through the program.

use std::fs;
use std::path::Path;

use glam::DVec3;
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::scene::Scene;
use serde_json::Value;
use tempfile::tempdir;

use crate::common::{degrees_between, fail, run, sample, scene, succeed, world, world_places};

fn path(name: &str) -> String {
    sample(name).to_str().unwrap().to_owned()
}

fn half_frames(scene: &Scene) -> Vec<f64> {
    let range = scene.takes[0].range;
    let (first, last) = (scene.rate.nearest_frame(range.first), scene.rate.nearest_frame(range.last));
    (2 * first..=2 * last).map(|half| half as f64 * 0.5).collect()
}

/// The farthest that any node of the first scene is from itself in the second: metres and degrees.
fn apart(a: &Scene, b: &Scene) -> (f64, f64) {
    let frames = half_frames(a);
    let (places, other_places) = (world_places(a, 0, &frames), world_places(b, 0, &frames));
    let (turns, other_turns) = (world(a, Some(0), &frames), world(b, Some(0), &frames));
    let (mut far, mut turned) = (0.0_f64, 0.0_f64);
    // A root is where travel is lifted to.
    for (_, node) in a.rigs[0].nodes().filter(|(_, node)| node.kind != NodeKind::Root) {
        let pairs = places[&node.name].iter().zip(&other_places[&node.name]);
        far = pairs.map(|(p, q)| (*p - *q).length()).fold(far, f64::max);
        let pairs = turns[&node.name].iter().zip(&other_turns[&node.name]);
        turned = pairs.map(|(p, q)| degrees_between(*p, *q)).fold(turned, f64::max);
    }
    (far, turned)
}

fn keys(scene: &Scene) -> usize {
    scene.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum()
}

#[test]
fn lifted_the_motion_in_the_world_stays_and_the_keys_stay_few() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(
        at,
        &["unbake", &path("bramble_wade.bvh"), "--unit", "cm", "--no-other-tolerances", "-o", "wade.ncurve"],
    );
    succeed(at, &["layers", "flatten", &path("bramble.ncurve"), "-o", "flat.ncurve"]);
    let cases: [(&str, String, &[&str], &str); 7] = [
        ("a timeline, turns and all", path("rounds.ncurve"), &[], "root"),
        ("the height too", path("rounds.ncurve"), &["--height"], "root"),
        ("its own name", path("rounds.ncurve"), &["--root", "mover", "--no-turn"], "mover"),
        ("another order", "wade.ncurve".into(), &[], "root"),
        ("a steady speed", "wade.ncurve".into(), &["--no-turn", "--speed", "constant"], "root"),
        ("samples", path("bramble_wade.bvh"), &["--unit", "cm"], "root"),
        ("onto a root that moves, z up", "flat.ncurve".into(), &["--no-turn"], "courier:root"),
    ];
    for (what, file, options, root) in cases {
        succeed(at, &[&["root", "lift", &file, "-o", "out.ncurve"], options].concat());
        let full = if Path::new(&file).is_absolute() { file.clone().into() } else { at.join(&file) };
        let (source, result) = (scene(&full), scene(&at.join("out.ncurve")));
        let (far, turned) = apart(&source, &result);
        assert!(far < 1e-4 && turned < 0.01, "{what}: {far} m, {turned} deg");
        assert!(2 * keys(&result) <= 3 * keys(&source), "{what}: {} to {}", keys(&source), keys(&result));
        // The root travels as far as the hips did, and the hips do not.
        let ends = [half_frames(&source)[0], *half_frames(&source).last().unwrap()];
        let up = source.space.up.index();
        let level = |mut v: DVec3| {
            v[up] = 0.0;
            v
        };
        let hips = if root.contains(':') { "courier:hips" } else { "hips" };
        let travel = |scene: &Scene, node: &str| {
            let all = &world_places(scene, 0, &ends)[node];
            level(all[1] - all[0])
        };
        assert!((travel(&result, root) - travel(&source, hips)).length() < 1e-4, "{what}");
        let stays = travel(&result, hips) - travel(&result, root);
        assert!(stays.length() < 1e-4, "{what}: the hips travel by {stays} beside the root");
    }
}

#[test]
fn other_formats_are_lifted_cut_and_looked_through_as_they_are() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for ending in ["glb", "gltf", "dae", "usda", "usdc", "usdz", "bvh", "csv"] {
        let (file, out) = (format!("rounds.{ending}"), format!("lifted.{ending}"));
        // Without extra data, as another program would write it.
        succeed(at, &["convert", &path("rounds.ncurve"), &file, "--without-extra"]);
        let said = succeed(at, &["root", "lift", &file, "-o", &out, "--rate", "24", "--json"]);
        let said: Value = serde_json::from_str(&said).unwrap();
        let largest = |what: &str| said[what]["largest"].as_f64().unwrap();
        assert!(largest("world_position") < 0.1 && largest("world_rotation") < 0.01, "{ending}: {said}");
        succeed(at, &["clips", "split", &file, "-o", ending, "--rate", "24"]);
        assert!(!crate::common::names(&at.join(ending)).is_empty());
        succeed(at, &["cycle", "find", &file, "--rows", "0", "--rate", "24"]);
        succeed(at, &["cycle", "close", &file, "--frames", "158:194", "--rate", "24", "-o", &out]);
    }
}

#[test]
fn steady_travel_is_a_line_and_the_rest_stays_on_the_hips() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts"]);
    succeed(
        at,
        &["root", "lift", "parts/rounds_walk.ncurve", "--no-turn", "--speed", "constant", "-o", "out.ncurve"],
    );
    let result = scene(&at.join("out.ncurve"));
    let frames = half_frames(&result);
    let root = &world_places(&result, 0, &frames)["root"];
    let step = (root[1] - root[0]).z;
    assert!(root.windows(2).all(|pair| ((pair[1] - pair[0]).z - step).abs() < 1e-12) && step > 0.0);
    let line = fail(at, &["root", "lift", &path("rounds.ncurve"), "--speed", "constant", "-o", "x.ncurve"]);
    assert!(line.contains("--no-turn"), "{line}");
}

#[test]
fn pinned_a_body_stays_in_place_and_restored_it_is_what_it_was_to_the_bit() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for name in ["rounds.ncurve", "bramble.ncurve", "cart.ncurve"] {
        succeed(at, &["root", "in-place", &path(name), "-o", "pinned.ncurve"]);
        succeed(at, &["root", "restore", "pinned.ncurve", "-o", "restored.ncurve"]);
        assert_eq!(fs::read(at.join("restored.ncurve")).unwrap(), fs::read(path(name)).unwrap(), "{name}");
    }
    succeed(at, &["root", "in-place", &path("rounds.ncurve"), "-o", "pinned.ncurve"]);
    let (source, pinned) = (scene(Path::new(&path("rounds.ncurve"))), scene(&at.join("pinned.ncurve")));
    let frames = half_frames(&source);
    let (before, after) = (world_places(&source, 0, &frames), world_places(&pinned, 0, &frames));
    for (before, after) in before["hips"].iter().zip(&after["hips"]) {
        assert_eq!((after.x, after.z), (0.0, 0.0));
        assert!((after.y - before.y).abs() < 1e-12, "the height stays");
    }
    // The turn is out, too: the quarter turn leaves the hips facing ahead.
    let facing = world(&pinned, Some(0), &[149.0])["hips"][0] * DVec3::Z;
    assert!((facing - DVec3::Z).length() < 1e-9, "{facing}");
    // Through another format and back.
    succeed(at, &["root", "in-place", &path("rounds.ncurve"), "-o", "pinned.glb"]);
    succeed(at, &["root", "restore", "pinned.glb", "-o", "again.ncurve"]);
    assert_eq!(run(at, &["compare", &path("rounds.ncurve"), "again.ncurve"]).status.code(), Some(0));
    assert!(
        fail(at, &["root", "restore", &path("rounds.ncurve"), "-o", "x.ncurve"])
            .contains("nothing is pinned")
    );
}

#[test]
fn a_prop_is_centred_at_its_first_frame_or_throughout() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = fs::read_to_string(path("cart.ncurve")).unwrap();
    // A cart that starts 30 cm to the side.
    let aside = cart.replacen(
        "{\"keys\": [{\"frame\": 1, \"value\": 0}]}",
        "{\"keys\": [{\"frame\": 1, \"value\": 30}]}",
        1,
    );
    assert_ne!(cart, aside);
    fs::write(at.join("aside.ncurve"), aside).unwrap();
    let places = |options: &[&str]| {
        succeed(at, &[&["root", "centre", "aside.ncurve", "cart", "-o", "out.ncurve"], options].concat());
        world_places(&scene(&at.join("out.ncurve")), 0, &[1.0, 40.0, 96.0])["cart"].clone()
    };
    let first = places(&[]);
    assert_eq!(first[0], DVec3::ZERO);
    assert!((first[2] - DVec3::new(0.0, 0.0, 2.073)).length() < 1e-9);
    assert_eq!(places(&["--throughout"]), [DVec3::ZERO; 3]);
    let line = fail(at, &["root", "centre", "aside.ncurve", "carte", "-o", "x.ncurve"]);
    assert!(line.contains("did you mean 'cart'?"), "{line}");
}

#[test]
fn the_way_is_shown_in_numbers_and_from_above() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let shown = succeed(at, &["root", "show", &path("rounds.ncurve"), "--json", "-o", "way.svg"]);
    let shown: Value = serde_json::from_str(&shown).unwrap();
    assert!((shown[1]["speed_m_s"].as_f64().unwrap() - 0.4).abs() < 1e-3, "{}", shown[1]);
    assert!((shown[3]["turn_deg"].as_f64().unwrap() - 90.0).abs() < 1e-9);
    assert!((shown[5]["climb_m"].as_f64().unwrap() + 0.25).abs() < 1e-9);
    let svg = fs::read_to_string(at.join("way.svg")).unwrap();
    assert!(svg.contains(">walk</text>") && svg.contains("seen from above"));
}

fn candidates(folder: &Path, file: &str, most: &str) -> Vec<(String, String, f64)> {
    let all = succeed(folder, &["cycle", "find", file, "--rows", most, "--json"]);
    let all: Value = serde_json::from_str(&all).unwrap();
    let row = |row: &Value| {
        let name = row["name"].as_str().unwrap_or("inside").to_owned();
        (name, row["verdict"].as_str().unwrap().to_owned(), row["jump_deg"].as_f64().unwrap())
    };
    all.as_array().unwrap().iter().map(row).collect()
}

#[test]
fn loops_are_found_near_ones_graded_and_closed_ones_loop() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    let all = candidates(at, &rounds, "0");
    let verdict = |name: &str| all.iter().find(|(own, ..)| own == name).unwrap().1.clone();
    for name in ["idle", "walk", "run"] {
        assert_eq!(verdict(name), "loops", "{name}");
    }
    assert_eq!((verdict("sort").as_str(), verdict("slip").as_str()), ("nearly", "no"));
    assert!(all.is_sorted_by(|a, b| a.2 <= b.2), "{all:?}");
    // Near loops come in the order in which they were made near.
    let text = fs::read_to_string(&rounds).unwrap();
    let mut pops = Vec::new();
    for end in ["48.1", "48.9", "51"] {
        let changed = text.replace("\"value\": 48.9", &format!("\"value\": {end}"));
        fs::write(at.join("near.ncurve"), changed).unwrap();
        let found = candidates(at, "near.ncurve", "0");
        pops.push(found.iter().find(|(name, ..)| name == "sort").unwrap().2);
    }
    assert!(pops.is_sorted() && pops[0] < pops[2], "{pops:?}");
    // Only what is meant is closed.
    let one = ["cycle", "close", &rounds, "--clip", "sort", "--only", "*arm_r*", "-o", "one.ncurve"];
    assert!(succeed(at, &one).contains("of"));
    let (own, one) = (scene(Path::new(&rounds)), scene(&at.join("one.ncurve")));
    let moved: Vec<String> = (own.takes[0].tracks().zip(one.takes[0].tracks()))
        .filter(|((_, before), (_, after))| before.controller != after.controller)
        .map(|((_, track), _)| own.rigs[0].node(track.target.node).unwrap().name.clone())
        .collect();
    assert!(!moved.is_empty() && moved.iter().all(|name| name.contains("arm_r")), "{moved:?}");
    for over in ["0", "8"] {
        succeed(at, &["cycle", "close", &rounds, "--clip", "sort", "--blend", over, "-o", "closed.ncurve"]);
        let closed = candidates(at, "closed.ncurve", "0");
        let sort = closed.iter().find(|(name, ..)| name == "sort").unwrap();
        assert_eq!(sort.1, "loops");
        // Speeds are measured over a fifth of a millisecond.
        assert!(sort.2 < 1e-4, "{sort:?}");
        // Values and slopes at both ends, to rounding.
        let result = scene(&at.join("closed.ncurve"));
        let (first, last) = (result.rate.ticks(159).as_f64(), result.rate.ticks(195).as_f64());
        for (_, track) in result.takes[0].tracks() {
            for curve in track.controller.curves().iter().filter(|curve| !curve.is_empty()) {
                use nimble_curve_core::curve::Side;
                let value = |time, side| curve.value_on(time, side).unwrap();
                let slope = |time, side| curve.slope_on(time, side).unwrap();
                assert_eq!(value(first, Side::Right), value(last, Side::Left));
                let (a, b) = (slope(first, Side::Right), slope(last, Side::Left));
                assert!((a - b).abs() <= 1e-12 * (1.0 + a.abs()), "{a} {b}");
            }
        }
        // Nothing else has moved.
        let output = run(at, &["compare", &rounds, "closed.ncurve", "--frames", "1:150"]);
        assert!(!String::from_utf8_lossy(&output.stdout).contains("0 deg at"), "before the clip");
        let before: Vec<f64> = (2..=300).map(|half| f64::from(half) * 0.5).collect();
        let (a, b) =
            (world_places(&scene(Path::new(&rounds)), 0, &before), world_places(&result, 0, &before));
        assert!(a["hand_r"] == b["hand_r"], "the hand moves before the clip");
    }
}

#[test]
fn the_best_loops_inside_a_capture_are_its_strides() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let found =
        succeed(at, &["cycle", "find", &path("bramble_wade.bvh"), "--unit", "cm", "--rows", "6", "--json"]);
    let found: Value = serde_json::from_str(&found).unwrap();
    let frames = |row: &Value| row["last"].as_f64().unwrap() - row["first"].as_f64().unwrap();
    let strides = found
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["name"].is_null() && (frames(row) - 154.0).abs() < 4.0);
    assert!(strides.count() >= 1, "{found}");
}

#[test]
fn a_closed_stride_written_out_travels_on_and_its_planted_foot_stays() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let capture = path("bramble_wade.bvh");
    succeed(
        at,
        &[
            "unbake",
            &capture,
            "--unit",
            "cm",
            "--world",
            "0.5mm",
            "--planted",
            "foot_l",
            "foot_r",
            "--no-other-tolerances",
            "-o",
            "wade.ncurve",
        ],
    );
    succeed(at, &["convert", "wade.ncurve", "stride.ncurve", "--frames", "237:391"]);
    succeed(at, &["cycle", "close", "stride.ncurve", "--blend", "40", "-o", "closed.ncurve"]);
    succeed(at, &["cycle", "extend", "closed.ncurve", "--rounds", "3", "-o", "long.ncurve"]);
    let (closed, long) = (scene(&at.join("closed.ncurve")), scene(&at.join("long.ncurve")));
    let first: Vec<f64> = (237..=391).map(f64::from).collect();
    let third: Vec<f64> = first.iter().map(|frame| frame + 308.0).collect();
    let (once, later) = (world_places(&closed, 0, &first), world_places(&long, 0, &third));
    let step = once["hips"][154] - once["hips"][0];
    let travel = DVec3::new(step.x, 0.0, step.z) * 2.0;
    for (name, places) in &once {
        for (a, b) in places.iter().zip(&later[name]) {
            assert!((*a + travel - *b).length() < 1e-9, "{name}");
        }
    }
    // Feet that stand in the capture stand in the closed stride.
    let text = succeed(at, &["check", "closed.ncurve"]);
    assert!(!text.contains("sliding-foot"), "{text}");
}

#[test]
fn a_quarter_turn_four_times_comes_back() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts", "--clip", "turn"]);
    succeed(at, &["cycle", "extend", "parts/rounds_turn.ncurve", "--rounds", "4", "-o", "round.ncurve"]);
    let round = scene(&at.join("round.ncurve"));
    let hips = &world_places(&round, 0, &[1.0, 31.0, 61.0, 91.0, 121.0])["hips"];
    assert!((hips[4] - hips[0]).length() < 1e-9);
    // Along the sides of a square.
    let sides: Vec<DVec3> = hips.windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert!(sides.windows(2).all(|pair| pair[0].dot(pair[1]).abs() < 1e-9));
    assert!(
        sides.iter().all(|side| (side.length() - sides[0].length()).abs() < 1e-9 && side.length() > 0.05)
    );
}

#[test]
fn under_layers_hips_of_another_order_are_lifted_within_the_bound() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Bramble's hips turn about z in another place of their order, under a layer, below a root that moves.
    let bramble = path("bramble.ncurve");
    succeed(at, &["root", "lift", &bramble, "-o", "out.ncurve"]);
    let (far, turned) = apart(&scene(Path::new(&bramble)), &scene(&at.join("out.ncurve")));
    assert!(far < 1e-4 && turned < 0.01, "{far} m, {turned} deg");
}

#[test]
fn bad_ranges_and_names_are_told() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    let close = |more: &[&str]| fail(at, &[&["cycle", "close", &rounds, "-o", "x.ncurve"], more].concat());
    assert!(close(&["--clip", "srot"]).contains("did you mean 'sort'?"));
    assert!(close(&["--take", "round"]).contains("did you mean 'rounds'?"));
    assert!(close(&["--frames", "1:900"]).contains("1:233"));
    assert!(close(&["--frames", "5:5"]).contains("no length"));
    assert!(fail(at, &["cycle", "find", &path("stilt.ncurve")]).contains("there is no take"));
    assert!(fail(at, &["root", "show", &rounds, "--take", "round"]).contains("did you mean 'rounds'?"));
    assert!(fail(at, &["root", "lift", &rounds, "--node", "hisp", "-o", "x.ncurve"]).contains("'hips'"));
    assert!(crate::common::names(at).is_empty());
}
