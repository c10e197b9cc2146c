//! `clips` through the program.

use std::fs;
use std::path::Path;

use nimble_curve_core::scene::Take;
use nimble_curve_core::time::TimeRange;
use serde_json::Value;
use tempfile::tempdir;

use crate::common::{fail, names, run, sample, scene, succeed};

const CLIPS: [(&str, i64, i64); 6] = [
    ("idle", 1, 49),
    ("walk", 59, 83),
    ("run", 93, 109),
    ("turn", 119, 149),
    ("sort", 159, 195),
    ("slip", 205, 233),
];

fn path(name: &str) -> String {
    sample(name).to_str().unwrap().to_owned()
}

fn json(folder: &Path, arguments: &[&str]) -> Value {
    serde_json::from_str(&succeed(folder, arguments)).unwrap()
}

fn ranges(list: &Value) -> Vec<(String, i64, i64)> {
    let number = |row: &Value, key: &str| row[key].as_f64().unwrap() as i64;
    let rows = list.as_array().unwrap().iter();
    rows.map(|row| (row["name"].as_str().unwrap().into(), number(row, "first"), number(row, "last")))
        .collect()
}

fn expected() -> Vec<(String, i64, i64)> {
    CLIPS.iter().map(|(name, first, last)| ((*name).to_owned(), *first, *last)).collect()
}

#[test]
fn six_clips_are_listed_found_without_their_names_and_named_by_an_edited_list() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    let listed = json(at, &["clips", &rounds, "--json"]);
    assert_eq!(ranges(&listed), expected());
    let loops: Vec<bool> = listed.as_array().unwrap().iter().map(|r| r["loops"].as_bool().unwrap()).collect();
    assert_eq!(loops, [true, true, true, true, false, false]);
    assert!((listed[1]["travel_m"].as_f64().unwrap() - 0.4).abs() < 1e-9);
    assert!((listed[3]["turn_deg"].as_f64().unwrap() - 90.0).abs() < 1e-9);
    // Without names, markers and clips the ranges are found again.
    let mut bare = scene(Path::new(&rounds));
    (bare.takes[0].clips, bare.takes[0].markers) = (Vec::new(), Vec::new());
    fs::write(at.join("bare.ncurve"), nimble_curve_formats::ncurve::write(&bare)).unwrap();
    succeed(at, &["clips", "find", "bare.ncurve", "-o", "list.csv"]);
    let list = fs::read_to_string(at.join("list.csv")).unwrap();
    let mut edited = list.clone();
    for (index, (name, ..)) in CLIPS.iter().enumerate() {
        edited = edited.replace(&format!("clip_{:02}", index + 1), name);
    }
    assert_eq!(list.matches("clip_").count(), 6, "{list}");
    fs::write(at.join("list.csv"), edited).unwrap();
    succeed(at, &["clips", "name", "bare.ncurve", "--list", "list.csv", "-o", "named.ncurve"]);
    assert_eq!(ranges(&json(at, &["clips", "named.ncurve", "--json"])), expected());
    // Found into an animation file.
    succeed(at, &["clips", "find", "bare.ncurve", "-o", "found.ncurve"]);
    let found = ranges(&json(at, &["clips", "found.ncurve", "--json"]));
    assert!(found.iter().zip(expected()).all(|(a, b)| (a.1, a.2) == (b.1, b.2)), "{found:?}");
}

#[test]
fn split_and_joined_again_the_same_keys_stand_where_they_stood() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    succeed(at, &["clips", "split", &rounds, "-o", "parts", "--start", "1"]);
    let expected_names: Vec<String> = {
        let mut names: Vec<String> = CLIPS.iter().map(|(name, ..)| format!("rounds_{name}.ncurve")).collect();
        names.sort();
        names
    };
    assert_eq!(names(&at.join("parts")), expected_names);
    let mut join = vec!["clips".to_owned(), "join".into()];
    for (name, first, last) in CLIPS {
        let file = format!("parts/rounds_{name}.ncurve");
        let part = scene(&at.join(&file));
        let take = &part.takes[0];
        assert_eq!((take.name.as_str(), part.takes.len()), (name, 1));
        // Each starts at frame 1, as long as it was, and no key lies outside.
        let expected = TimeRange::new(part.rate.ticks(1), part.rate.ticks(1 + last - first));
        assert_eq!(take.range, expected);
        let keys = take.key_range().unwrap();
        assert!(expected.contains(keys.first) && expected.contains(keys.last), "{name}");
        let text = succeed(at, &["inspect", &file]);
        assert!(!text.contains("beyond the range"), "{text}");
        join.push(file);
    }
    join.extend(["--gap", "9", "--name", "rounds", "-o", "joined.ncurve"].map(str::to_owned));
    succeed(at, &join.iter().map(String::as_str).collect::<Vec<_>>());
    // The same to the last key: nothing is said, and the code is 0.
    let output = run(at, &["compare", &rounds, "joined.ncurve"]);
    assert_eq!((output.status.code(), output.stdout.len()), (Some(0), 0));
    let (before, after) = (scene(Path::new(&rounds)), scene(&at.join("joined.ncurve")));
    let keys = |take: &Take| take.tracks().map(|(_, track)| track.controller.key_count()).sum::<usize>();
    assert_eq!(keys(&after.takes[0]), keys(&before.takes[0]));
    assert_eq!(ranges(&json(at, &["clips", "joined.ncurve", "--json"])), expected());
}

#[test]
fn sampled_data_and_layers_are_split_and_joined_too() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let capture = path("bramble_wade.bvh");
    fs::write(at.join("list.csv"), "name,first,last\nwade,0,480\nshake,481,960\n").unwrap();
    succeed(at, &["clips", "name", &capture, "--unit", "cm", "--list", "list.csv", "-o", "named.ncurve"]);
    succeed(at, &["clips", "split", "named.ncurve", "-o", "parts", "--name", "{clip}.bvh", "--start", "0"]);
    succeed(
        at,
        &["clips", "join", "parts/wade.bvh", "parts/shake.bvh", "-o", "joined.ncurve", "--unit", "cm"],
    );
    let compared = ["compare", "named.ncurve", "joined.ncurve", "--tolerance", "0.001deg,0.001mm"];
    // BVH has no room for the gap between the last frame of one file and the first of the next.
    assert_eq!(run(at, &compared).status.code(), Some(0));
    // Five layers, every controller: cut in two, and put together.
    let bramble = path("bramble.ncurve");
    succeed(at, &["clips", "split", &bramble, "-o", "layered", "--start", "keep"]);
    let part = scene(&at.join("layered/bramble_greet.ncurve"));
    assert_eq!(part.takes[0].layers.len(), 5);
    let joined = ["clips", "join", "layered/bramble_greet.ncurve", "layered/bramble_hand_over.ncurve"];
    // Both parts have the frame at which one ends and the other begins.
    succeed(at, &[&joined[..], &["--start", "1", "-o", "whole.ncurve"]].concat());
    let compared =
        ["compare", &bramble, "whole.ncurve", "--frames", "1:49", "--tolerance", "0.1deg,0.2mm,0.005"];
    let output = run(at, &compared);
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stdout));
}

#[test]
fn clips_go_on_where_the_one_before_them_ended() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts"]);
    let files = ["parts/rounds_walk.ncurve", "parts/rounds_run.ncurve", "parts/rounds_walk.ncurve"];
    let join = |more: &[&str]| {
        succeed(at, &[&["clips", "join"], &files[..], &["-o", "out.ncurve"], more].concat());
        let shown = json(at, &["root", "show", "out.ncurve", "--json"]);
        let whole = scene(&at.join("out.ncurve"));
        let names: Vec<String> = whole.takes[0].clips.iter().map(|clip| clip.name.clone()).collect();
        assert_eq!(names, ["walk", "run", "walk_2"]);
        let frames = [1.0, whole.rate.frame(whole.takes[0].range.last)];
        let hips = &crate::common::world_places(&whole, 0, &frames)["hips"];
        assert_eq!(shown.as_array().unwrap().len(), 3);
        (hips[1] - hips[0]).z
    };
    assert!((join(&[]) - 0.4).abs() < 1e-9);
    assert!((join(&["--go-on", "--gap", "2"]) - 1.44).abs() < 1e-9);
    // After a quarter turn to the left a walk goes to the left, whether on the hips, on a root, or sampled.
    let rounds = ["parts/rounds_turn.ncurve", "parts/rounds_walk.ncurve"];
    for (what, made) in [("curves", None), ("root", Some(["root", "lift"])), ("samples", Some(["bake", ""]))]
    {
        let files = rounds.map(|file| match made {
            None => file.to_owned(),
            Some(words) => {
                let out = file.replace("parts/", &format!("{what}_"));
                let words: Vec<&str> = words.into_iter().filter(|word| !word.is_empty()).collect();
                succeed(at, &[&words[..], &[file, "-o", &out]].concat());
                out
            }
        });
        succeed(at, &["clips", "join", &files[0], &files[1], "--go-on", "-o", "left.ncurve"]);
        let left = scene(&at.join("left.ncurve"));
        let hips = &crate::common::world_places(&left, 0, &[31.0, 32.0, 56.0])["hips"];
        let (seam, way) = (hips[1] - hips[0], hips[2] - hips[1]);
        assert!(seam.x.abs() + seam.z.abs() < 1e-9, "{what}: {seam}");
        assert!((way.x - 0.4).abs() < 1e-9 && way.z.abs() < 1e-9, "{what}: {way}");
        let facing = crate::common::world(&left, Some(0), &[32.0])["hips"][0] * glam::DVec3::Z;
        // The walk's hips sway by four degrees where it starts.
        let sway = 4_f64.to_radians();
        assert!(
            (facing - glam::DVec3::new(sway.cos(), 0.0, -sway.sin())).length() < 0.08,
            "{what}: {facing}"
        );
    }
}

#[test]
fn sheets_say_what_programmers_are_handed() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (rounds, cart) = (path("rounds.ncurve"), path("cart.ncurve"));
    succeed(at, &["clips", "sheet", &rounds, &cart, "-o", "sheet.json", "--markers", "marks.csv"]);
    let sheet: Value = serde_json::from_str(&fs::read_to_string(at.join("sheet.json")).unwrap()).unwrap();
    assert_eq!(ranges(&Value::Array(sheet.as_array().unwrap()[..6].to_vec())), expected());
    assert_eq!((&sheet[1]["loops"], &sheet[1]["travel"]), (&Value::from(true), &Value::from(0.4)));
    assert_eq!(sheet[7]["note"], "vane swings out");
    let marks = fs::read_to_string(at.join("marks.csv")).unwrap();
    assert!(marks.contains("gust,") && marks.lines().count() == 4, "{marks}");
    succeed(at, &["clips", "sheet", &rounds, "-o", "sheet.csv", "--columns", "name,frames,seconds"]);
    let csv = fs::read_to_string(at.join("sheet.csv")).unwrap();
    assert_eq!(csv.lines().nth(1), Some("idle,49,2.0"));
    succeed(at, &["clips", "sheet", &rounds, "-o", "sheet.md", "--columns", "name,turn"]);
    assert!(fs::read_to_string(at.join("sheet.md")).unwrap().contains("| turn | 90.0 |"));
    assert!(fail(at, &["clips", "sheet", &rounds, "-o", "x.csv", "--columns", "nmae"]).contains("'name'"));
    assert!(fail(at, &["clips", "sheet", &rounds, "-o", "x.txt"]).contains(".csv, .json or .md"));
}

#[test]
fn takes_are_shifted_stretched_trimmed_and_renamed_with_all_that_is_in_them() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let bramble = path("bramble.ncurve");
    succeed(at, &["clips", "shift", &bramble, "--to", "101", "-o", "late.ncurve"]);
    let (early, late) = (scene(Path::new(&bramble)), scene(&at.join("late.ncurve")));
    let by = late.rate.ticks(100);
    let (a, b) = (&early.takes[0], &late.takes[0]);
    assert_eq!(b.range.first, a.range.first + by);
    assert!(a.clips.iter().zip(&b.clips).all(|(a, b)| b.range.first == a.range.first + by));
    assert!(a.markers.iter().zip(&b.markers).all(|(a, b)| b.time == a.time + by));
    for ((_, a), (_, b)) in a.tracks().zip(b.tracks()) {
        let later = a.controller.range().map(|r| TimeRange::new(r.first + by, r.last + by));
        assert_eq!(b.controller.range(), later);
    }
    succeed(at, &["clips", "shift", "late.ncurve", "--to", "1", "-o", "back.ncurve"]);
    assert_eq!(run(at, &["compare", &bramble, "back.ncurve"]).status.code(), Some(0));
    succeed(at, &["clips", "stretch", &path("cart.ncurve"), "--to-frames", "191", "-o", "slow.ncurve"]);
    let slow = scene(&at.join("slow.ncurve"));
    assert_eq!(slow.takes[0].range.frames(slow.rate), 191);
    // Trimmed of its stray keys a file has none.
    let faulty = path("faulty.ncurve");
    succeed(at, &["clips", "trim", &faulty, "-o", "trim.ncurve"]);
    let codes = |file: &str| succeed(at, &["check", file]);
    assert!(codes(&faulty).contains("keys-outside-range"));
    assert!(!codes("trim.ncurve").contains("keys-outside-range"));
    assert_eq!(scene(&at.join("trim.ncurve")).takes.len(), 4);
    let rounds = path("rounds.ncurve");
    succeed(at, &["clips", "rename", &rounds, "walk", "stroll", "-o", "named.ncurve"]);
    assert_eq!(scene(&at.join("named.ncurve")).takes[0].clips[1].name, "stroll");
    let line = fail(at, &["clips", "rename", &rounds, "wlak", "stroll", "-o", "x.ncurve"]);
    assert!(line.contains("did you mean 'walk'?"), "{line}");
    assert!(
        fail(at, &["clips", "rename", &rounds, "walk", "run", "-o", "x.ncurve"])
            .contains("two would be called 'run'")
    );
}

#[test]
fn a_library_takes_takes_in_and_gives_them_out() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts"]);
    let base = "parts/rounds_idle.ncurve";
    let added =
        ["clips", "add", base, "parts/rounds_walk.ncurve", "parts/rounds_run.ncurve", "--folder", "gaits"];
    succeed(at, &[&added[..], &["-o", "library.ncurve"]].concat());
    let library = scene(&at.join("library.ncurve"));
    let all: Vec<(Option<&str>, &str)> =
        library.takes.iter().map(|take| (take.folder.as_deref(), take.name.as_str())).collect();
    assert_eq!(all, [(None, "idle"), (Some("gaits"), "walk"), (Some("gaits"), "run")]);
    succeed(at, &["clips", "extract", "library.ncurve", "gaits/w*", "-o", "walk.ncurve"]);
    let (out, part) = (scene(&at.join("walk.ncurve")), scene(&at.join("parts/rounds_walk.ncurve")));
    assert_eq!(out.takes[0].layers, part.takes[0].layers);
    let again =
        ["clips", "add", "library.ncurve", "parts/rounds_walk.ncurve", "--folder", "gaits", "-o", "x.ncurve"];
    assert!(fail(at, &again).contains("'walk' there already"));
    let line = fail(at, &["clips", "add", base, &path("cart.ncurve"), "-o", "x.ncurve"]);
    assert!(line.contains("carry brings it"), "{line}");
    assert!(fail(at, &["clips", "extract", "library.ncurve", "wlak", "-o", "x.ncurve"]).contains("'walk'"));
}

#[test]
fn bad_lists_ranges_and_names_are_told_and_write_nothing() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    fs::write(at.join("list.csv"), "name,first,last\nidle,1,4900\n").unwrap();
    let before = names(at);
    let name = |list: &str| fail(at, &["clips", "name", &rounds, "--list", list, "-o", "x.ncurve"]);
    assert!(name("list.csv").contains("clip 'idle' is 1:4900, take 'rounds' 1:233"));
    assert!(name("none.csv").contains("none.csv"));
    let split = |more: &[&str]| fail(at, &[&["clips", "split", &rounds, "-o", "parts"], more].concat());
    assert!(split(&["--clip", "wlak"]).contains("did you mean 'walk'?"));
    assert!(split(&["--name", "same"]).contains("two clips would be written"));
    assert!(split(&["--name", "{clop}"]).contains("{clip}"));
    assert!(fail(at, &["clips", &path("stilt.ncurve")]).contains("there is no take"));
    let line = fail(at, &["clips", "join", &path("cart.ncurve"), &rounds, "-o", "x.ncurve"]);
    assert!(line.contains("carry brings it there"), "{line}");
    assert_eq!(names(at), before);
    succeed(at, &["clips", "split", &rounds, "-o", "parts", "--clip", "walk"]);
    assert!(split(&["--clip", "walk"]).contains("--replace"));
}

#[test]
fn dozens_are_renamed_at_once_and_shown_before() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rounds = path("rounds.ncurve");
    let names = |file: &str| -> Vec<String> {
        let scene = scene(&at.join(file));
        scene.takes.iter().flat_map(|take| take.clips.iter().map(|clip| clip.name.clone())).collect()
    };
    succeed(at, &["clips", "rename", &rounds, "*", "Gait {*}", "-o", "gaits.ncurve"]);
    let old = names(&rounds);
    let new: Vec<String> = old.iter().map(|name| format!("Gait {name}")).collect();
    assert_eq!(names("gaits.ncurve"), new);
    let shown = succeed(
        at,
        &["clips", "rename", "gaits.ncurve", "Gait w*", "{*:upper}_{index:03}_{frames}", "--dry-run"],
    );
    assert!(shown.contains("Gait walk") && shown.contains("ALK_001_"), "{shown}");
    assert_eq!(names("gaits.ncurve"), new, "nothing was written");
    for (old, new, said) in [
        ("Gait *", "same", "two would be called 'same'"),
        ("Gait walk", "Gait run", "two would be called 'Gait run'"),
        ("Gait *", "{clap}", "did you mean {clip}?"),
        ("Gait wlak", "x", "did you mean 'Gait walk'?"),
        ("Gait *", "{clip:title}", "lower, upper, snake"),
    ] {
        let line = fail(at, &["clips", "rename", "gaits.ncurve", old, new, "-o", "x.ncurve"]);
        assert!(line.contains(said), "{line}");
    }
    // Files are named from the same parts.
    let name = "{clip:snake}_{first}-{last}_{frames}f_{rate}_{index:02}.ncurve";
    succeed(at, &["clips", "split", "gaits.ncurve", "-o", "parts", "--name", name]);
    let listed: serde_json::Value =
        serde_json::from_str(&succeed(at, &["clips", &rounds, "--json"])).unwrap();
    for (index, clip) in listed.as_array().unwrap().iter().enumerate() {
        let file = format!(
            "gait_{}_{}-{}_{}f_24_{:02}.ncurve",
            clip["name"].as_str().unwrap(),
            clip["first"],
            clip["last"],
            clip["frames"],
            index + 1
        );
        let file = file.replace(".0-", "-").replace(".0_", "_");
        assert!(at.join("parts").join(&file).is_file(), "{file}");
    }
}

/// Two takes of one name, in two folders, that move otherwise and last otherwise.
fn walks_in_folders(at: &Path) {
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts"]);
    let stretch = ["clips", "stretch", "parts/rounds_walk.ncurve", "--to-frames", "40", "-o", "slow.ncurve"];
    succeed(at, &stretch);
    let add =
        ["clips", "add", "parts/rounds_walk.ncurve", "slow.ncurve", "--folder", "slow", "-o", "both.ncurve"];
    succeed(at, &add);
    let both = scene(&at.join("both.ncurve"));
    let called: Vec<_> = both.takes.iter().map(|take| (take.folder.as_deref(), take.name.as_str())).collect();
    assert_eq!(called, [(None, "walk"), (Some("slow"), "walk")]);
}

#[test]
fn takes_of_one_name_in_two_folders_are_two() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    walks_in_folders(at);
    let compare = |result: &str, tolerance: &str| {
        let output = run(at, &["compare", "both.ncurve", result, "--tolerance", tolerance]);
        assert!(output.status.success(), "{result}: {}", String::from_utf8_lossy(&output.stdout));
    };
    let commands: [&[&str]; 5] = [
        &["bake", "both.ncurve"],
        &["unbake", "both.ncurve"],
        &["reorder", "both.ncurve", "--to", "zyx"],
        &["layers", "flatten", "both.ncurve"],
        &["convert", "both.ncurve"],
    ];
    for command in commands {
        succeed(at, &[command, &["-o", "out.ncurve"][..]].concat());
        compare("out.ncurve", "0.2deg,1mm");
        let out = scene(&at.join("out.ncurve"));
        assert_eq!(out.takes.len(), 2, "{command:?}");
        assert_eq!(out.takes[1].folder.as_deref(), Some("slow"), "{command:?}");
    }
    // What has no folders tells them apart by numbers, and says so.
    for file in ["out.glb", "out.gltf", "out.dae"] {
        let output = run(at, &["convert", "both.ncurve", file]);
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{file}: {said}");
        assert!(said.contains("a second take is called 'walk': it is 'walk 2' here"), "{file}: {said}");
        let back = nimble_curve_formats::read(&at.join(file), Default::default()).unwrap().scene;
        let names: Vec<&str> = back.takes.iter().map(|take| take.name.as_str()).collect();
        assert_eq!(names, ["walk", "walk 2"], "{file}");
        let lasts = back.takes.iter().map(|take| take.range.last - take.range.first);
        let frames: Vec<f64> = lasts.map(|last| back.rate.frame(last).round()).collect();
        assert_eq!(frames, [24.0, 39.0], "{file}");
    }
    // What is said of each is said of itself.
    succeed(at, &["unbake", "out.glb", "--ignore-extra", "-o", "plain.ncurve", "--tolerance", "0.5deg,5mm"]);
    succeed(at, &["clips", "split", "both.ncurve", "-o", "apart", "--name", "{folder}_{clip}"]);
    let files = fs::read_dir(at.join("apart")).unwrap().count();
    assert_eq!(files, 2);
}

/// As programs write them that let animations have one name, or none.
#[test]
fn animations_of_one_name_in_a_file_are_told_apart() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["clips", "split", &path("rounds.ncurve"), "-o", "parts"]);
    succeed(
        at,
        &["clips", "add", "parts/rounds_walk.ncurve", "parts/rounds_run.ncurve", "-o", "both.ncurve"],
    );
    succeed(at, &["convert", "both.ncurve", "both.gltf", "--without-extra"]);
    let mut file: Value = serde_json::from_slice(&fs::read(at.join("both.gltf")).unwrap()).unwrap();
    for name in [Value::from("Take"), Value::from("")] {
        for animation in file["animations"].as_array_mut().unwrap() {
            animation["name"] = name.clone();
        }
        fs::write(at.join("alike.gltf"), file.to_string()).unwrap();
        succeed(at, &["unbake", "alike.gltf", "-o", "out.ncurve"]);
        let out = scene(&at.join("out.ncurve"));
        let names: Vec<&str> = out.takes.iter().map(|take| take.name.as_str()).collect();
        let wanted = if name == "Take" { ["Take", "Take 2"] } else { ["take 1", "take 2"] };
        assert_eq!(names, wanted);
        let last = |index: usize| out.rate.frame(out.takes[index].range.last);
        assert_eq!((last(0).round(), last(1).round()), (24.0, 16.0));
    }
}
