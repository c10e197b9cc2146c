//! `run`: recipes on many files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use serde_json::Value;
use tempfile::tempdir;

use crate::common::recipes::{CHARACTERS, RECIPE, capture, in_state, json, show, started, tree};
use crate::common::{fail, fail_with, names, run, sample, succeed};

#[test]
fn three_hundred_files_are_done_once_and_again_only_where_something_changed() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 300);
    // Four broken ones: cut off, empty, no number, and a rig of which the map knows nobody.
    let broken = ["otter/clip_000", "stork/clip_001", "heron/clip_002", "otter/clip_003"]
        .map(|name| format!("exports/{name}.bvh"));
    let text = capture(0);
    fs::write(at.join(&broken[0]), &text[..text.len() - 200]).unwrap();
    fs::write(at.join(&broken[1]), "").unwrap();
    fs::write(at.join(&broken[2]), text.replacen("\n0 ", "\nnull ", 1)).unwrap();
    let strange = text.replace("hips", "a").replace("chest", "b").replace("head", "c");
    fs::write(at.join(&broken[3]), strange).unwrap();
    let broken: BTreeSet<String> = broken.into();

    let output = run(at, &["run", "pack.toml", "--json"]);
    assert_eq!(output.status.code(), Some(1));
    let table = json(&output);
    let failed = in_state(&table, "failed");
    assert_eq!(failed, broken);
    assert_eq!((&table["files"], &table["done"], &table["unchanged"]), (&300.into(), &296.into(), &0.into()));
    // Without a terminal, a line a file.
    assert_eq!(
        String::from_utf8_lossy(&output.stderr).lines().filter(|line| line.starts_with('[')).count(),
        300
    );
    for row in table["rows"].as_array().unwrap() {
        let source = row["source"].as_str().unwrap();
        if broken.contains(source) {
            assert!(row["error"].as_str().is_some_and(|error| error.len() > 10), "{row}");
            assert_eq!(row["outputs"], Value::Array(Vec::new()));
            continue;
        }
        let made = &row["outputs"][0];
        assert_eq!(made["file"], source.replace("exports", "game").replace(".bvh", ".ncurve"));
        // Four tracks of 25 samples of three numbers.
        assert_eq!(made["before"], 300, "{row}");
        let (after, rotation) = (made["after"].as_u64().unwrap(), made["rotation_deg"].as_f64().unwrap());
        assert!((8..80).contains(&after) && rotation < 0.3, "{row}");
    }
    assert_eq!(tree(&at.join("game")).len(), 296);

    // It is what the commands give one after the other.
    for number in [4, 150, 299] {
        let character = CHARACTERS[number % 3];
        let source = format!("exports/{character}/clip_{number:03}.bvh");
        succeed(
            at,
            &[
                "unbake",
                &source,
                "--unit",
                "cm",
                "--tolerance",
                "0.1deg,0.5mm",
                "--no-other-tolerances",
                "-o",
                "a.ncurve",
            ],
        );
        let map = format!("maps/{character}.toml");
        succeed(
            at,
            &[
                "carry",
                "a.ncurve",
                "--target",
                "target.bvh",
                "--map",
                &map,
                "--tolerance",
                "0.2deg,1mm",
                "--without-target-takes",
                "-o",
                "b.ncurve",
            ],
        );
        let game = format!("game/{character}/clip_{number:03}.ncurve");
        assert!(fs::read(at.join("b.ncurve")).unwrap() == fs::read(at.join(&game)).unwrap(), "{game}");
    }

    // Nothing changed: nothing is done, nothing is written, and what failed is still told.
    let times = |folder: &Path| -> Vec<_> {
        let files = tree(folder).into_keys();
        files.map(|file| (fs::metadata(folder.join(&file)).unwrap().modified().unwrap(), file)).collect()
    };
    let before = (times(&at.join("game")), times(&at.join("pack.records")));
    let output = run(at, &["run", "pack.toml", "--json"]);
    assert_eq!(output.status.code(), Some(1));
    let table = json(&output);
    assert_eq!((&table["done"], &table["unchanged"], &table["failed"]), (&0.into(), &296.into(), &4.into()));
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    let locks = |times: Vec<(std::time::SystemTime, String)>| -> Vec<_> {
        times.into_iter().filter(|(_, file)| file != "lock").collect()
    };
    assert_eq!(times(&at.join("game")), before.0);
    assert_eq!(locks(times(&at.join("pack.records"))), locks(before.1));

    // A date is no change; another map is one for its files only.
    let map = at.join("maps/stork.toml");
    fs::write(&map, fs::read(&map).unwrap()).unwrap();
    assert_eq!(
        json(&run(at, &["run", "pack.toml", "--dry-run", "--json"]))["to_do"],
        Value::Array(Vec::new())
    );
    fs::write(&map, fs::read_to_string(&map).unwrap().replace("head = \"Skull\"\n", "")).unwrap();
    let plan = json(&run(at, &["run", "pack.toml", "--dry-run", "--json"]));
    let to_do = plan["to_do"].as_array().unwrap();
    assert_eq!(to_do.len(), 100);
    assert!(to_do.iter().all(|job| job["why"] == serde_json::json!(["maps/stork.toml changed"])), "{plan}");
    let table = json(&run(at, &["run", "pack.toml", "--json"]));
    let redone = in_state(&table, "done");
    assert_eq!(redone.len(), 99);
    assert!(redone.iter().all(|source| source.contains("/stork/")));
    assert!(
        table["rows"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|row| row["state"] == "done")
            .all(|row| { row["outputs"][0]["left_out"][0]["channel"] == "head:rotation" })
    );

    // A mended file is done, and the rest of the failures stay.
    fs::write(at.join("exports/otter/clip_000.bvh"), capture(0)).unwrap();
    let table = json(&run(at, &["run", "pack.toml", "--json"]));
    assert_eq!(in_state(&table, "done"), BTreeSet::from(["exports/otter/clip_000.bvh".to_owned()]));
    assert_eq!(in_state(&table, "failed").len(), 3);

    // Words of the recipe that change nothing redo nothing; another tolerance redoes all.
    fs::write(at.join("pack.toml"), RECIPE.replace("[[step]]", "# a remark\n[[step]]")).unwrap();
    assert_eq!(succeed(at, &["run", "pack.toml", "--list"]), "");
    fs::write(at.join("pack.toml"), RECIPE.replace("0.2deg,1mm", "0.3deg,1mm")).unwrap();
    assert_eq!(succeed(at, &["run", "pack.toml", "--list"]).lines().count(), 300);
}

#[test]
fn the_bytes_are_the_same_at_any_number_of_jobs_and_shares() {
    let folder = tempdir().unwrap();
    let arrange = |name: &str, runs: &[&[&str]]| {
        let at = folder.path().join(name);
        fs::create_dir(&at).unwrap();
        show(&at, 40);
        let mut counts = Vec::new();
        for options in runs {
            let table = json(&run(&at, &[&["run", "pack.toml", "--json"], *options].concat()));
            counts.push(table["done"].as_u64().unwrap());
        }
        assert_eq!(counts.iter().sum::<u64>(), 40, "{name}: {counts:?}");
        (at, counts)
    };
    let (one, _) = arrange("one", &[&["--jobs", "1"]]);
    let whole = tree(&one.join("game"));
    assert_eq!(whole.len(), 40);
    let arrangements: [(&str, &[&[&str]]); 4] = [
        ("two", &[&["--jobs", "2"]]),
        ("shares", &[&["--shard", "1/3"], &["--shard", "3/3"], &["--shard", "2/3", "--jobs", "1"]]),
        ("many", &[&["--shard", "2/2"], &["--shard", "1/2"]]),
        ("only", &[&["--source", "exports/otter/*"], &["--source", "exports/stork/*", "exports/heron/*"]]),
    ];
    for (name, runs) in arrangements {
        let (at, counts) = arrange(name, runs);
        assert!(counts.iter().all(|count| *count > 0), "{name}: {counts:?}");
        assert!(tree(&at.join("game")) == whole, "{name}");
        // Their tables together are the table of all.
        let merged = |at: &Path| {
            let mut table = json(&run(at, &["run", "pack.toml", "--merge-tables", "--json"]));
            table["seconds"] = Value::Null;
            for row in table["rows"].as_array_mut().unwrap() {
                ["seconds", "origin"].into_iter().for_each(|field| row[field] = Value::Null);
            }
            table
        };
        assert_eq!(merged(&at), merged(&one), "{name}");
        assert_eq!(in_state(&merged(&at), "done").len(), 40);
    }
}

#[test]
fn a_share_is_what_the_array_job_says_and_a_missing_one_is_told() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 12);
    let task = |task: &str| {
        let output = assert_cmd::Command::cargo_bin("nimble-curve")
            .unwrap()
            .current_dir(at)
            .args(["run", "pack.toml", "--shard", "queue", "--json"])
            .env("SLURM_ARRAY_TASK_ID", task)
            .env("SLURM_ARRAY_TASK_MIN", "0")
            .env("SLURM_ARRAY_TASK_COUNT", "2")
            .output()
            .unwrap();
        in_state(&json(&output), "done")
    };
    let first = task("0");
    // Not all are done yet, and the tables say so.
    let output = run(at, &["run", "pack.toml", "--merge-tables", "--json", "--summary", "table.md"]);
    assert_eq!(output.status.code(), Some(3));
    assert_eq!(json(&output)["not_done"], 12 - first.len());
    let second = task("1");
    assert_eq!(first.union(&second).count(), 12);
    assert!(first.is_disjoint(&second));
    succeed(at, &["run", "pack.toml", "--merge-tables", "--summary", "table.md"]);
    let table = fs::read_to_string(at.join("table.md")).unwrap();
    assert_eq!(table.lines().count(), 2 + 12, "{table}");
    assert!(table.lines().nth(2).unwrap().contains("| game/heron/clip_002.ncurve | done | 300 |"), "{table}");
    let message = fail(at, &["run", "pack.toml", "--shard", "1/2", "--source", "exports/otter/clip_0"]);
    assert!(message.contains("did you mean 'exports/otter/clip_00"), "{message}");
    let usage = run(at, &["run", "pack.toml", "--shard", "3/2"]);
    assert_eq!(usage.status.code(), Some(2));
}

/// What files that are being written are called.
const PART: &str = ".nimble-curve-";

#[test]
fn killed_at_any_instant_nothing_is_half_written_or_taken_for_done() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 24);
    // What each source gives, in both of its states.
    let state = |number: usize, second: bool| capture(if second { number + 100 } else { number });
    let name = |number: usize| format!("{}/clip_{number:03}", CHARACTERS[number % 3]);
    let mut expected: [BTreeMap<String, Vec<u8>>; 2] = Default::default();
    for (second, expected) in [false, true].into_iter().zip(&mut expected) {
        for number in 0..24 {
            fs::write(at.join(format!("exports/{}.bvh", name(number))), state(number, second)).unwrap();
        }
        succeed(at, &["run", "pack.toml"]);
        *expected = tree(&at.join("game"));
    }
    let start = Instant::now();
    succeed(at, &["run", "pack.toml", "--all"]);
    let whole = start.elapsed();

    // A small generator: the instants differ from each other, not from run to run of the test.
    let mut seed = 0x2545_f491_u64;
    let mut random = move || {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) as f64 / (1_u64 << 31) as f64
    };
    let mut is_second = [true; 24];
    let (mut killed, mut kinds) = (0, [0; 2]);
    for _ in 0..50 {
        for (number, is_second) in is_second.iter_mut().enumerate() {
            if random() < 0.5 {
                *is_second = !*is_second;
                fs::write(at.join(format!("exports/{}.bvh", name(number))), state(number, *is_second))
                    .unwrap();
            }
        }
        let mut child = started(at, &["--jobs", "2"]);
        std::thread::sleep(whole.mul_f64(random()));
        child.kill().unwrap();
        killed += usize::from(!child.wait().unwrap().success());
        let files = tree(&at.join("game"));
        let files: BTreeMap<_, _> = files.into_iter().filter(|(file, _)| !file.contains(PART)).collect();
        assert_eq!(files.len(), 24);
        let plan = json(&run(at, &["run", "pack.toml", "--dry-run", "--json"]));
        let to_do: BTreeSet<&str> =
            plan["to_do"].as_array().unwrap().iter().map(|job| job["source"].as_str().unwrap()).collect();
        for (number, is_second) in is_second.iter().enumerate() {
            let file = format!("{}.ncurve", name(number));
            let is_whole = expected.iter().any(|expected| expected[&file] == files[&file]);
            assert!(is_whole, "{file} is neither what it was nor what it is to be");
            let is_done = !to_do.contains(format!("exports/{}.bvh", name(number)).as_str());
            kinds[usize::from(is_done)] += 1;
            if is_done {
                let now = &expected[usize::from(*is_second)][&file];
                assert!(*now == files[&file], "{file} is taken for done and is not");
            }
        }
    }
    // The instants were such that something was to be seen.
    assert!(killed > 15 && kinds.iter().all(|count| *count > 100), "{killed} {kinds:?}");

    // The next run goes on from there, and nothing of the killed ones is left.
    succeed(at, &["run", "pack.toml"]);
    let files = tree(&at.join("game"));
    assert_eq!(files.len(), 24, "{:?}", files.keys());
    for (number, is_second) in is_second.iter().enumerate() {
        let file = format!("{}.ncurve", name(number));
        assert!(expected[usize::from(*is_second)][&file] == files[&file], "{file}");
    }
    assert!(!tree(&at.join("pack.records")).keys().any(|file| file.contains(PART)));
}

#[test]
fn what_a_killed_run_left_half_written_is_taken_away_whatever_became_of_the_source() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    succeed(at, &["run", "pack.toml"]);
    // What a run leaves that is killed while it writes the files of three changed sources.
    let mut parts = Vec::new();
    for file in tree(&at.join("pack.records")).into_keys().filter(|file| file.ends_with(".json")) {
        let path = at.join("pack.records").join(file);
        let mut record: Value = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
        record["outcome"] = "begun".into();
        fs::write(&path, record.to_string()).unwrap();
        let output = at.join(record["outputs"][0]["file"].as_str().unwrap());
        // No process has such a number.
        let [machine, mark] = ["machine", "mark"].map(|field| record["origin"][field].as_str().unwrap());
        parts.push(output.with_file_name(format!("{PART}{machine}-4194999-{mark}-x")));
        parts.push(path.with_file_name(format!("{PART}{machine}-4194999-{mark}-x")));
    }
    assert_eq!(parts.len(), 6);
    for part in &parts {
        fs::write(part, "half of a fi").unwrap();
    }
    // One source is as it was before the killed run, one is broken, one is gone.
    fs::write(at.join("exports/stork/clip_001.bvh"), "HIERARCHY\nROOT").unwrap();
    fs::remove_file(at.join("exports/heron/clip_002.bvh")).unwrap();
    let is_there = |part: &PathBuf| part.exists();
    succeed(at, &["run", "pack.toml", "--dry-run"]);
    assert!(parts.iter().all(is_there), "a dry run changes nothing");
    run(at, &["run", "pack.toml"]);
    assert!(!parts.iter().any(is_there));
}

#[cfg(unix)]
#[test]
fn an_interrupt_lets_what_is_under_way_end_and_the_next_run_goes_on() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 200);
    let child = started(at, &["--jobs", "1", "--json"]);
    while tree(&at.join("game")).len() < 5 {
        std::thread::sleep(Duration::from_millis(2));
    }
    let status = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(status.success());
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(130));
    let table = json(&output);
    let (done, rest) = (table["done"].as_u64().unwrap(), table["not_done"].as_u64().unwrap());
    assert!(done >= 5 && rest > 0 && done + rest == 200, "{done} {rest}");
    assert_eq!(tree(&at.join("game")).len() as u64, done);
    let table = json(&run(at, &["run", "pack.toml", "--json"]));
    assert_eq!((&table["done"], &table["unchanged"]), (&rest.into(), &done.into()));
}

#[cfg(unix)]
#[test]
fn watched_a_file_is_done_again_when_it_is_saved_also_by_renaming() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 6);
    let child = started(at, &["--watch"]);
    let until = |what: &str, is_so: &dyn Fn() -> bool| {
        let start = Instant::now();
        while !is_so() {
            assert!(start.elapsed() < Duration::from_secs(60), "{what}");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let game = || tree(&at.join("game"));
    until("the first run", &|| game().len() == 6);
    let idle = || succeed(at, &["run", "pack.toml", "--list"]).is_empty();
    until("its end", &idle);
    let first = game();
    // As editors save: beside it, then in its place.
    fs::write(at.join("exports/otter/.clip_000.bvh~"), capture(77)).unwrap();
    fs::rename(at.join("exports/otter/.clip_000.bvh~"), at.join("exports/otter/clip_000.bvh")).unwrap();
    until("the changed file", &|| game().get("otter/clip_000.ncurve") != first.get("otter/clip_000.ncurve"));
    // A new file, in a folder that was not there; while it is being written it is let be.
    fs::create_dir(at.join("exports/newt")).unwrap();
    fs::copy(at.join("maps/otter.toml"), at.join("maps/newt.toml")).unwrap();
    fs::write(at.join("exports/newt/clip.bvh"), capture(5)).unwrap();
    until("the new file", &|| game().contains_key("newt/clip.ncurve"));
    // A recipe with a mistake does not end it.
    fs::write(at.join("pack.toml"), RECIPE.replace("unbake", "unbak")).unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    fs::write(at.join("pack.toml"), RECIPE.replace("game/", "other/")).unwrap();
    until("the mended recipe", &|| tree(&at.join("other")).len() == 7);
    let status = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(status.success());
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    assert!(String::from_utf8_lossy(&output.stdout).contains("7 files: 7 done"));
}

#[test]
fn files_whose_source_is_gone_are_told_and_go_only_when_asked() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 6);
    succeed(at, &["run", "pack.toml"]);
    fs::remove_file(at.join("exports/otter/clip_000.bvh")).unwrap();
    fs::remove_file(at.join("exports/otter/clip_003.bvh")).unwrap();
    let said = succeed(at, &["run", "pack.toml"]);
    assert!(
        said.contains("game/otter/clip_000.ncurve  its source exports/otter/clip_000.bvh is gone"),
        "{said}"
    );
    assert!(said.contains("--prune") && at.join("game/otter/clip_000.ncurve").exists());
    // What somebody has worked on since stays.
    fs::write(at.join("game/otter/clip_003.ncurve"), "edited").unwrap();
    let output = run(at, &["run", "pack.toml", "--prune", "--json"]);
    assert_eq!(json(&output)["removed"], serde_json::json!(["game/otter/clip_000.ncurve"]));
    assert!(
        String::from_utf8_lossy(&output.stderr).contains("clip_003.ncurve: was changed since, so it stays")
    );
    assert_eq!(names(&at.join("game/otter")), ["clip_003.ncurve"]);
    fs::remove_file(at.join("game/otter/clip_003.ncurve")).unwrap();
    // Another name for outputs leaves the ones before.
    fs::write(at.join("pack.toml"), RECIPE.replace("{stem}", "new_{stem}")).unwrap();
    assert!(succeed(at, &["run", "pack.toml"]).contains("makes it no more"));
    succeed(at, &["run", "pack.toml", "--prune"]);
    assert_eq!(names(&at.join("game/stork")), ["new_clip_001.ncurve", "new_clip_004.ncurve"]);
    assert!(!succeed(at, &["run", "pack.toml"]).contains("--prune"));
    let left = tree(&at.join("pack.records"));
    let count = |ending: &str| left.keys().filter(|file| file.ends_with(ending)).count();
    let (records, marks) = (count(".json"), count(".made"));
    assert_eq!((records, marks), (4, 4), "the records of what is gone are gone");
}

#[test]
fn outputs_that_somebody_changed_are_not_written_over_unless_asked() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    // A file that was there before any run.
    let output = at.join("game/otter/clip_000.ncurve");
    fs::create_dir_all(output.parent().unwrap()).unwrap();
    fs::write(&output, "mine").unwrap();
    let table = run(at, &["run", "pack.toml", "--json"]);
    assert_eq!(table.status.code(), Some(1));
    let table = json(&table);
    assert_eq!(in_state(&table, "failed"), BTreeSet::from(["exports/otter/clip_000.bvh".to_owned()]));
    assert!(table["rows"].to_string().contains("is not as a run wrote it: --replace writes over it"));
    assert_eq!(fs::read(&output).unwrap(), b"mine");
    succeed(at, &["run", "pack.toml", "--replace"]);
    let made = fs::read(&output).unwrap();
    // Changed or gone since.
    fs::write(&output, "edited").unwrap();
    fs::remove_file(at.join("game/stork/clip_001.ncurve")).unwrap();
    let table = json(&run(at, &["run", "pack.toml", "--json"]));
    assert_eq!(in_state(&table, "failed").len(), 1);
    assert_eq!(in_state(&table, "done"), BTreeSet::from(["exports/stork/clip_001.bvh".to_owned()]));
    assert_eq!(fs::read(&output).unwrap(), b"edited");
    succeed(at, &["run", "pack.toml", "--replace"]);
    assert!(fs::read(&output).unwrap() == made);
    // Lost records are no harm: what is there is what would be written.
    fs::remove_dir_all(at.join("pack.records")).unwrap();
    let time = fs::metadata(&output).unwrap().modified().unwrap();
    succeed(at, &["run", "pack.toml"]);
    assert_eq!(fs::metadata(&output).unwrap().modified().unwrap(), time);
}

/// Steps as commands and as a recipe has them.
const STEPS: &[(&str, &str, &str)] = &[
    (
        "convert SOURCE OUT --frames 10:40 --to-rate 24 --only *arm*",
        "convert",
        "frames = '10:40'\nto-rate = 24\nonly = ['*arm*']",
    ),
    (
        "convert SOURCE OUT --controllers samples --to-unit m --to-up y",
        "convert",
        "controllers = 'samples'\nto_unit = 'm'\nto_up = 'y'",
    ),
    (
        "unbake SOURCE -o OUT --refit --world 1mm --no-other-tolerances",
        "unbake",
        "refit = true\nworld = '1mm'",
    ),
    ("bake SOURCE -o OUT --step 4", "bake", "step = 4"),
    ("reorder SOURCE -o OUT --to best --tolerance 0.1deg", "reorder", "to = 'best'\ntolerance = '0.1deg'"),
    ("reorder SOURCE -o OUT --unwind", "reorder", "unwind = true"),
    (
        "carry SOURCE -o OUT --target stilt.ncurve --map bramble_to_stilt.toml --scale 1.5",
        "carry",
        "target = 'stilt.ncurve'\nmap = 'bramble_to_stilt.toml'\nscale = 1.5",
    ),
    ("layers flatten SOURCE -o OUT", "layers flatten", ""),
    (
        "layers difference SOURCE -o OUT --against flat.ncurve --name more",
        "layers difference",
        "against = 'flat.ncurve'\nname = 'more'",
    ),
    ("layers set SOURCE -o OUT --layer reach --weight 0.5", "layers set", "layer = 'reach'\nweight = 0.5"),
    ("clips find SOURCE -o OUT", "clips find", ""),
    ("clips name SOURCE -o OUT --list list.csv", "clips name", "list = 'list.csv'"),
    ("clips rename SOURCE greet hello -o OUT", "clips rename", "old = 'greet'\nnew = 'hello'"),
    ("clips shift SOURCE -o OUT --to 101", "clips shift", "to = 101"),
    ("clips trim SOURCE -o OUT", "clips trim", ""),
    ("clips stretch SOURCE -o OUT --to-frames 60", "clips stretch", "to-frames = 60"),
    ("clips extract SOURCE greet -o OUT", "clips extract", "takes = ['greet']"),
    (
        "root lift SOURCE -o OUT --node courier:hips --no-turn",
        "root lift",
        "node = 'courier:hips'\nno-turn = true",
    ),
    ("root in-place SOURCE -o OUT", "root in-place", ""),
    ("root centre SOURCE courier:hips -o OUT", "root centre", "node = 'courier:hips'"),
    ("cycle close SOURCE -o OUT --blend 4", "cycle close", "blend = 4"),
    ("cycle extend SOURCE -o OUT --rounds 2", "cycle extend", "rounds = 2"),
];

#[test]
fn every_step_does_what_its_command_does() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for file in ["bramble.ncurve", "stilt.ncurve", "bramble_to_stilt.toml"] {
        fs::copy(sample(file), at.join(file)).unwrap();
    }
    fs::write(at.join("list.csv"), "name,first,last\nfirst,1,20\nsecond,21,40\n").unwrap();
    succeed(at, &["layers", "flatten", "bramble.ncurve", "-o", "flat.ncurve"]);
    for (number, (command, step, options)) in STEPS.iter().enumerate() {
        let by_hand = format!("{number}.hand.ncurve");
        let words = command.replace("SOURCE", "bramble.ncurve").replace("OUT", &by_hand);
        succeed(at, &words.split(' ').collect::<Vec<_>>());
        let output = format!("{number}.run.ncurve");
        let recipe =
            format!("sources = 'bramble.ncurve'\noutput = '{output}'\n[[step]]\ndo = '{step}'\n{options}\n");
        fs::write(at.join("one.toml"), recipe).unwrap();
        succeed(at, &["run", "one.toml"]);
        assert!(fs::read(at.join(&by_hand)).unwrap() == fs::read(at.join(&output)).unwrap(), "{command}");
    }
}

#[test]
fn a_format_that_adds_to_what_a_step_may_be_off_has_it_work_closer_as_its_command_does() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for file in ["stilt.ncurve", "bramble_to_stilt.toml"] {
        fs::copy(sample(file), at.join(file)).unwrap();
    }
    let capture = fs::read_to_string(sample("bramble_wade.bvh")).unwrap();
    let (head, motion) = capture.split_once("Frames:").unwrap();
    let lines: Vec<&str> = motion.lines().collect();
    let text = format!("{head}Frames: 120\n{}\n{}\n", lines[1], lines[2..122].join("\n"));
    fs::write(at.join("wade.bvh"), text).unwrap();
    // Rotations that a format keys anew add up along a spine, and in the world they may be off by so much only.
    let recipe = "sources = 'wade.bvh'\noutput = 'wade.glb'\nunit = 'cm'\ntarget = 'stilt.ncurve'\n\
                  map = 'bramble_to_stilt.toml'\n[[step]]\ndo = 'unbake'\n[[step]]\ndo = 'carry'\n";
    fs::write(at.join("pack.toml"), recipe).unwrap();
    succeed(at, &["run", "pack.toml"]);
    succeed(at, &["convert", "wade.glb", "glb.ncurve"]);
    let unbake = ["unbake", "wade.bvh", "--unit", "cm", "--no-other-tolerances", "-o", "sparse.ncurve"];
    succeed(at, &unbake);
    let onto = ["--target", "stilt.ncurve", "--map", "bramble_to_stilt.toml", "-o", "hand.ncurve"];
    succeed(at, &[&["carry", "sparse.ncurve"][..], &onto].concat());
    let [glb, hand] = ["glb", "hand"]
        .map(|name| Scene::read(&fs::read_to_string(at.join(format!("{name}.ncurve"))).unwrap()));
    let take = |of: &Scene| of.takes.iter().position(|take| take.name == hand.takes[0].name).unwrap();
    let mut most: f64 = 0.0;
    for quarter in 0..=4 * 119 {
        let frame = f64::from(quarter) / 4.0;
        for (index, node) in hand.nodes.iter().enumerate() {
            let theirs = glb.world(take(&glb), glb.find(&node.name), frame).1;
            most = most.max(apart(theirs, hand.world(0, index, frame).1));
        }
    }
    // 0.1 of the step and 0.05 of the format here, 0.1 of the step there.
    assert!((0.01..0.25).contains(&most), "{most}");
}

#[test]
fn clips_become_files_and_formats_are_those_of_the_endings() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::copy(sample("rounds.ncurve"), at.join("rounds.ncurve")).unwrap();
    succeed(at, &["clips", "split", "rounds.ncurve", "-o", "hand"]);
    fs::write(
        at.join("a.toml"),
        "sources = '*.ncurve'\noutput = 'run/{stem}_{clip}.{ending}'\nledger = 'run/{clip}.json'",
    )
    .unwrap();
    let table = json(&run(at, &["run", "a.toml", "--json"]));
    let mut made = tree(&at.join("run"));
    assert_eq!(made.len(), 12);
    made.retain(|file, _| file.ends_with(".ncurve"));
    assert!(made == tree(&at.join("hand")));
    // Each clip has its own numbers.
    let clips = table["rows"][0]["outputs"].as_array().unwrap();
    let listed: Value = serde_json::from_str(&succeed(at, &["clips", "rounds.ncurve", "--json"])).unwrap();
    for (clip, listed) in clips.iter().zip(listed.as_array().unwrap()) {
        assert_eq!((&clip["clip"], &clip["before"]), (&listed["name"], &listed["keys"]));
    }
    let recipe = "sources = 'rounds.ncurve'\noutput = 'game/{stem}_{clip}.glb'\nwithout-extra = true\n\
                  [[step]]\ndo = 'root lift'\n\
                  [[step]]\ndo = 'plot'\noutput = 'game/{stem}.svg'\nview = 'keys'\n\
                  [[step]]\ndo = 'clips split'\nclip = ['walk', 'turn*']\nstart = 0\n\
                  [[step]]\ndo = 'cycle close'\n";
    fs::write(at.join("b.toml"), recipe).unwrap();
    succeed(at, &["run", "b.toml"]);
    let made = tree(&at.join("game"));
    assert!(made.contains_key("rounds_walk.glb") && made.contains_key("rounds.svg"), "{:?}", made.keys());
    succeed(at, &["root", "lift", "rounds.ncurve", "-o", "lifted.ncurve"]);
    succeed(
        at,
        &["clips", "split", "lifted.ncurve", "--clip", "walk", "--start", "0", "--name", "{clip}", "-o", "."],
    );
    succeed(at, &["cycle", "close", "walk.ncurve", "-o", "closed.ncurve"]);
    succeed(at, &["convert", "closed.ncurve", "closed.glb", "--without-extra"]);
    assert!(fs::read(at.join("closed.glb")).unwrap() == made["rounds_walk.glb"]);
}

#[test]
fn two_files_of_one_name_are_refused_whichever_run_makes_them() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::copy(sample("rounds.ncurve"), at.join("a.ncurve")).unwrap();
    fs::write(at.join("a.toml"), "sources = '*.ncurve'\noutput = 'run/{clip}.ncurve'").unwrap();
    succeed(at, &["run", "a.toml"]);
    let made = tree(&at.join("run"));
    assert_eq!(made.len(), 6, "clips of one file alone name files");
    // Another file has a clip of the same name; what is there stays that of the first, in the next run as well.
    succeed(at, &["clips", "extract", "a.ncurve", "*", "-o", "b.ncurve"]);
    for more in [&["--jobs", "1"][..], &["--source", "b.ncurve", "--all", "--replace"], &["--all"]] {
        let output = run(at, &[&["run", "a.toml", "--json"], more].concat());
        assert_eq!(output.status.code(), Some(1));
        let table = json(&output);
        let failed = in_state(&table, "failed");
        assert_eq!(failed.len(), 1, "{table}");
        assert!(
            table["rows"].to_string().contains("already: put {folder} or {stem} into its name"),
            "{table}"
        );
        assert!(tree(&at.join("run")) == made);
    }
}

#[test]
fn gates_end_the_work_on_a_file_and_warnings_are_told() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for file in ["faulty.ncurve", "bramble.ncurve", "stilt.ncurve"] {
        fs::copy(sample(file), at.join(file)).unwrap();
    }
    let with = |steps: &str| {
        fs::write(
            at.join("gate.toml"),
            format!("sources = '*.ncurve'\noutput = 'out/{{stem}}.ncurve'\n{steps}"),
        )
        .unwrap();
        json(&run(at, &["run", "gate.toml", "--json"]))
    };
    let table = with("[[step]]\ndo = 'check'\nfail-on = 'error'\n");
    assert_eq!(in_state(&table, "failed"), BTreeSet::from(["faulty.ncurve".to_owned()]));
    let text = table["rows"].to_string();
    assert!(text.contains("step 1 (check): found ") && text.contains("silent-layer"), "{text}");
    assert!(!at.join("out/faulty.ncurve").exists() && at.join("out/bramble.ncurve").exists());
    // What came of it is held against the source.
    let table = with(
        "[[step]]\ndo = 'unbake'\nrefit = true\n[[step]]\ndo = 'compare'\nagainst = '{source}'\ntolerance = '0.5deg,5mm,0.01'\n",
    );
    assert!(in_state(&table, "done").contains("stilt.ncurve"), "{table}");
    let table = with(
        "[[step]]\ndo = 'bake'\nstep = 8\n[[step]]\ndo = 'compare'\nagainst = '{source}'\ntolerance = '0.1deg,1mm,0.01'\n",
    );
    assert!(in_state(&table, "failed").contains("bramble.ncurve"), "{table}");
    assert!(
        table["rows"].to_string().contains("step 2 (compare): it is not what bramble.ncurve is: courier:"),
        "{table}"
    );
}

#[test]
fn recipes_are_checked_as_a_whole_with_lines_and_suggestions() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    let recipe = "sorces = 'x'\noutput = 'a/{stam}.ncurve'\ntarget = 'no.bvh'\nup = 'w'\n\n[[step]]\ndo = 'cary'\n\n[[step]]\ndo = 'unbake'\n\
                  tolerance = '0.1 parsec'\nwrld = '1mm'\n\n[[step]]\ndo = 'carry'\nmap = 'maps/{stemm}.toml'\n[[step]]\ndo = 'inspect'\n\
                  [[step]]\norder = 'xyz'\n[[step]]\ndo = 'root centre'\nnode = 'hips'\nrate = 30\n[[step]]\ndo = 'reorder'\nto = 'xxy'\n\
                  [[step]]\ndo = 'layers difference'\nname = 'more'\nagainst = 'nothing.ncurve'\n[[step]]\ndo = 'clips join'\n";
    fs::write(at.join("bad.toml"), recipe).unwrap();
    let output = run(at, &["run", "bad.toml"]);
    assert_eq!(output.status.code(), Some(1));
    let errors = String::from_utf8(output.stderr).unwrap();
    for said in [
        "bad.toml:1: there is no 'sorces' in a recipe: did you mean 'sources'?",
        "bad.toml:1: sources are missing",
        "bad.toml:2: {stam} cannot be filled in here: did you mean {stem}?",
        "bad.toml:3: target: there is no file 'no.bvh'",
        "bad.toml:4: 'w' is not an axis",
        "bad.toml:7: step 1: there is no step 'cary': did you mean 'carry'?",
        "bad.toml:11: step 2 (unbake): invalid value '0.1 parsec' for 'tolerance'",
        "bad.toml:12: step 2 (unbake): there is no option 'wrld': did you mean 'world'?",
        "bad.toml:16: step 3: {stemm} cannot be filled in here: did you mean {stem}?",
        "bad.toml:18: step 4: 'inspect' makes no animation",
        "bad.toml:19: step 5 does not say what to do",
        "bad.toml:24: step 6 (root centre): 'rate' stands at the top of a recipe",
        "bad.toml:27: step 7 (reorder): invalid value 'xxy' for 'to'",
        "bad.toml:31: step 8 (layers difference): against: there is no file 'nothing.ncurve'",
        "bad.toml:33: step 9: 'clips join' works on several files at once",
    ] {
        assert!(errors.contains(said), "{said}\n{errors}");
    }
    assert!(errors.lines().all(|line| line.starts_with("error: bad.toml:")), "{errors}");
    assert!(!at.join("bad.records").exists());
    let with = |text: &str| {
        fs::write(at.join("bad.toml"), text).unwrap();
        fail(at, &["run", "bad.toml"])
    };
    let told = with("sources = '*.ncurve'\noutput = 'game/{stem}.glb'\nskeletons = true\n");
    assert!(told.contains("bad.toml:3: 'skeletons' is for USD"), "{told}");
    for (text, said) in [
        ("sources = [", "bad.toml:1: "),
        ("sources = 'none/*.bvh'\noutput = '{stem}.ncurve'", "no file matches none/*.bvh"),
        (
            "sources = 'exports/*/*.bvh'\noutput = 'all.ncurve'",
            "would both be written to all.ncurve: put {folder} into output",
        ),
        ("sources = '*.bvh'\noutput = '{stem}.bvh'", "would be written over the source target.bvh"),
        ("sources = '*.bvh'\noutput = '{stem}.doc'", "bad.toml:2: {stem}.doc: its ending names no format"),
        (
            "sources = '*.bvh'\noutput = '{stem}.ncurve'\n[[step]]\ndo = 'carry'",
            "step 1 (carry): needs 'target', here or at the top",
        ),
        ("sources = '*.bvh'\noutput = '{stem}.ncurve'\nprofile = 'nobody.toml'", "bad.toml:3: nobody.toml: "),
        ("sources = 3.5\noutput = true", "bad.toml:2: 'output' is a text"),
    ] {
        assert!(with(text).contains(said), "{text}: {}", with(text));
    }
    // A map that only some sources have is no reason not to do the others.
    fs::remove_file(at.join("maps/stork.toml")).unwrap();
    let table = json(&run(at, &["run", "pack.toml", "--json"]));
    assert_eq!(in_state(&table, "done").len(), 2);
    assert!(
        table["rows"]
            .to_string()
            .contains("pack.toml:12: step 2 (carry): map: there is no file 'maps/stork.toml'"),
        "{table}"
    );
}

#[test]
fn two_runs_of_one_recipe_keep_out_of_each_others_way() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 4);
    fs::create_dir(at.join("pack.records")).unwrap();
    let lock = fs::File::create(at.join("pack.records/lock")).unwrap();
    lock.lock_shared().unwrap();
    // Somebody does a part: all of it is refused, another part is not.
    let message = fail_with(4, at, &["run", "pack.toml"]);
    assert!(message.contains("another run of this recipe is under way"), "{message}");
    succeed(at, &["run", "pack.toml", "--shard", "1/2"]);
    lock.unlock().unwrap();
    succeed(at, &["run", "pack.toml"]);
}

#[test]
fn outputs_among_the_sources_are_no_sources_and_the_run_starts_anywhere() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::create_dir(at.join("sub")).unwrap();
    fs::write(at.join("sub/b.bvh"), capture(1)).unwrap();
    fs::write(at.join("a.bvh"), capture(0)).unwrap();
    fs::write(
        at.join("all.toml"),
        "sources = '**/*.bvh'\noutput = '{folder}/{stem}.out.bvh'\nexcept = 'sub/except/*'\nunit = 'cm'\n",
    )
    .unwrap();
    let table = json(&run(at, &["run", "all.toml", "--json"]));
    assert_eq!(table["done"], 2, "{table}");
    assert!(at.join("a.out.bvh").exists() && at.join("sub/b.out.bvh").exists());
    let table = json(&run(at, &["run", "all.toml", "--json"]));
    assert_eq!((&table["files"], &table["unchanged"]), (&2.into(), &2.into()));
    // From another folder, nothing is new.
    let table = json(&run(&at.join("sub"), &["run", "../all.toml", "--json"]));
    assert_eq!((&table["files"], &table["unchanged"]), (&2.into(), &2.into()));
}

#[test]
fn buffers_beside_a_source_are_inputs_too() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["convert", sample("cart.ncurve").to_str().unwrap(), "cart.gltf", "--without-extra"]);
    // Its buffer in a file of its own.
    let mut document: Value = serde_json::from_slice(&fs::read(at.join("cart.gltf")).unwrap()).unwrap();
    let uri = document["buffers"][0]["uri"].as_str().unwrap().to_owned();
    let bytes =
        base64::Engine::decode(&base64::engine::general_purpose::STANDARD, uri.split_once(',').unwrap().1)
            .unwrap();
    fs::write(at.join("cart.bin"), &bytes).unwrap();
    document["buffers"][0]["uri"] = "cart.bin".into();
    fs::write(at.join("cart.gltf"), document.to_string()).unwrap();
    fs::write(at.join("a.toml"), "sources = '*.gltf'\noutput = '{stem}.ncurve'").unwrap();
    succeed(at, &["run", "a.toml"]);
    assert_eq!(succeed(at, &["run", "a.toml", "--list"]), "");
    let mut changed = bytes;
    let last = changed.len() - 1;
    changed[last] ^= 1;
    fs::write(at.join("cart.bin"), changed).unwrap();
    let plan = json(&run(at, &["run", "a.toml", "--dry-run", "--json"]));
    assert_eq!(plan["to_do"][0]["why"], serde_json::json!(["cart.bin changed"]));
}

#[test]
fn the_example_runs_on_the_sample_scenario_and_the_schema_knows_it() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["demo"]);
    let example = succeed(at, &["run", "--example"]);
    fs::write(at.join("pack.toml"), &example).unwrap();
    let said = succeed(at, &["run", "pack.toml", "--summary", "table.csv"]);
    assert!(said.contains("left out, no partner in the target: courier:"), "{said}");
    assert_eq!(fs::read_to_string(at.join("table.csv")).unwrap().lines().count(), 2 + 1);
    let schema: Value = serde_json::from_str(&succeed(at, &["schema", "recipe"])).unwrap();
    let steps = schema["properties"]["step"]["items"]["oneOf"].as_array().unwrap();
    let recipe: toml::Table = example.parse().unwrap();
    for (key, value) in &recipe {
        assert!(schema["properties"].get(key).is_some(), "{key}");
        for step in value.as_array().filter(|_| key == "step").into_iter().flatten() {
            let name = step["do"].as_str().unwrap();
            let known = steps.iter().find(|step| step["properties"]["do"]["const"] == name).unwrap();
            for key in step.as_table().unwrap().keys() {
                assert!(known["properties"].get(key).is_some(), "{name}: {key}");
            }
        }
    }
    // What recipes say elsewhere is no option of a step.
    for step in steps {
        for key in ["json", "in-place", "unit", "file", "ledger"] {
            assert!(step["properties"].get(key).is_none(), "{step}");
        }
    }
    let unbake = steps.iter().find(|step| step["title"] == "unbake").unwrap();
    assert_eq!(unbake["properties"]["keys"]["enum"], serde_json::json!(["free", "node", "pose"]));
}

/// A source that stands on other files is done again where one of those has changed.
#[test]
fn a_usd_file_is_done_again_where_a_layer_of_it_has_changed() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let head = "#usda 1.0\n(\n    timeCodesPerSecond = 24\n    metersPerUnit = 1\n";
    fs::create_dir(at.join("assets")).unwrap();
    let layer = |height: f64| {
        format!(
            "{head})\ndef Xform \"lamp\"\n{{\n    double3 xformOp:translate.timeSamples = {{ 1: (0, 0, 0), 9: (0, {height}, 0) }}\n    uniform token[] xformOpOrder = [\"xformOp:translate\"]\n}}\n"
        )
    };
    fs::write(at.join("assets/lamp.usda"), layer(2.0)).unwrap();
    fs::write(at.join("shot.usda"), format!("{head}    subLayers = [ @./assets/lamp.usda@ ]\n)\n")).unwrap();
    fs::write(at.join("pack.toml"), "sources = [\"shot.usda\"]\noutput = \"out/{stem}.ncurve\"\n").unwrap();
    let states = || {
        let output = run(at, &["run", "pack.toml", "--json"]);
        assert_eq!(output.status.code(), Some(0), "{output:?}");
        let table = json(&output);
        (table["done"].as_u64().unwrap(), table["unchanged"].as_u64().unwrap())
    };
    assert_eq!(states(), (1, 0));
    assert_eq!(states(), (0, 1));
    let before = fs::read(at.join("out/shot.ncurve")).unwrap();
    fs::write(at.join("assets/lamp.usda"), layer(3.0)).unwrap();
    assert_eq!(states(), (1, 0));
    assert!(fs::read(at.join("out/shot.ncurve")).unwrap() != before);
}
