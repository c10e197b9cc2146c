//! `run` on a farm: one file of many, several workers at once, and what became of everything.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::{Child, Output};
use std::time::{Duration, SystemTime};

use nimble_curve_core::address::visible;
use serde_json::Value;
use tempfile::tempdir;

use crate::common::recipes::{RECIPE, capture, in_state, json, show, started, tree};
use crate::common::{fail, fail_with, names, run, succeed};

/// The records of a recipe, by the sources that they are of.
fn records(at: &Path) -> BTreeMap<String, std::path::PathBuf> {
    let files = tree(&at.join("pack.records")).into_iter().filter(|(file, _)| file.ends_with(".json"));
    let record = |(file, contents): (String, Vec<u8>)| {
        let record: Value = serde_json::from_slice(&contents).unwrap();
        (record["source"].as_str().unwrap().to_owned(), at.join("pack.records").join(file))
    };
    files.map(record).collect()
}

fn outputs(children: Vec<Child>) -> Vec<Output> {
    children.into_iter().map(|child| child.wait_with_output().unwrap()).collect()
}

#[test]
fn of_one_file_only_its_own_record_is_read() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 9);
    succeed(at, &["run", "pack.toml"]);
    // Every other record is one that cannot be read, and a source of no use.
    let one = "exports/otter/clip_003.bvh";
    for (source, record) in records(at) {
        if source != one {
            fs::remove_file(&record).unwrap();
            fs::create_dir(&record).unwrap();
        }
    }
    assert_eq!(json(&run(at, &["run", "pack.toml", "--source", one, "--json"]))["unchanged"], 1);
    fs::write(at.join(one), capture(50)).unwrap();
    let table = json(&run(at, &["run", "pack.toml", "--source", one, "--json"]));
    assert_eq!((&table["files"], &table["done"]), (&1.into(), &1.into()));
    // All together say which they are.
    let output = run(at, &["run", "pack.toml", "--dry-run", "--json"]);
    let to_do = json(&output)["to_do"].to_string();
    assert!(to_do.matches(".json: cannot be read").count() == 8 && !to_do.contains(one), "{to_do}");
}

#[test]
fn a_name_that_is_one_is_never_a_pattern() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    let odd = [
        "exports/otter/a*.bvh",
        "exports/otter/a,b.bvh",
        "exports/otter/a[1].bvh",
        "exports/otter/a b.bvh",
        "exports/otter/a,\tc.bvh",
        "exports/otter/a\nd.bvh",
    ];
    for (number, name) in odd.iter().enumerate() {
        fs::write(at.join(name), capture(number + 3)).unwrap();
    }
    let list = succeed(at, &["run", "pack.toml", "--list"]);
    assert_eq!(list.lines().count(), 9);
    // Each line is what --source takes, and only that.
    for name in list.lines() {
        let table = json(&run(at, &["run", "pack.toml", "--source", name, "--json"]));
        let done = in_state(&table, "done");
        // What does not show is an escape in the list.
        assert_eq!(done.iter().map(|done| visible(done)).collect::<Vec<_>>(), [name]);
    }
    assert_eq!(succeed(at, &["run", "pack.toml", "--list"]), "");
    let table = json(&run(at, &["run", "pack.toml", "--source", "exports/otter/a?b*", "--json"]));
    assert_eq!(table["unchanged"], 2);
    let table = json(&run(
        at,
        &["run", "pack.toml", "--source", "./exports/otter/a b.bvh,exports/stork/*", "--json"],
    ));
    assert_eq!(table["unchanged"], 2);
    // In a recipe, brackets say a character that is no wildcard.
    let recipe =
        RECIPE.replace("exports/**/*.bvh", "exports/otter/a[*].bvh").replace("{folder}.toml", "otter.toml");
    fs::write(at.join("star.toml"), recipe.replace("game/", "star/")).unwrap();
    assert_eq!(succeed(at, &["run", "star.toml", "--list"]), "exports/otter/a*.bvh\n");
    // What the recipe leaves aside is no source, whoever asks.
    let recipe = RECIPE.replace("output", "except = 'exports/otter/a*'\noutput");
    fs::write(at.join("few.toml"), recipe).unwrap();
    let message = fail(at, &["run", "few.toml", "--source", "exports/otter/a b.bvh"]);
    assert!(message.contains("no source of few.toml is 'exports/otter/a b.bvh'"), "{message}");
}

#[test]
fn what_hindered_a_file_stands_in_the_table_of_all() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 6);
    // One output is somebody's, one a folder; one source is broken, and one a folder lower cannot be made.
    let output = |source: &str| at.join(format!("game/{source}.ncurve"));
    fs::create_dir_all(at.join("game/otter")).unwrap();
    fs::write(output("otter/clip_000"), "mine").unwrap();
    fs::create_dir(output("otter/clip_003")).unwrap();
    fs::write(at.join("exports/stork/clip_001.bvh"), "HIERARCHY\nROOT").unwrap();
    fs::write(at.join("game/heron"), "no folder").unwrap();
    let said = |table: &Value| -> BTreeMap<String, String> {
        let rows = table["rows"].as_array().unwrap().iter().filter(|row| row["state"] == "failed");
        rows.map(|row| (row["source"].to_string(), row["error"].to_string())).collect()
    };
    let one = run(at, &["run", "pack.toml", "--json"]);
    assert_eq!(one.status.code(), Some(3), "a folder may be there the next time");
    let one = said(&json(&one));
    let merged = run(at, &["run", "pack.toml", "--merge-tables", "--json"]);
    assert_eq!(merged.status.code(), Some(3));
    assert_eq!(said(&json(&merged)), one, "the table of all says what each run said");
    assert_eq!(one.len(), 5);
    for part in
        ["is not as a run wrote it", "it is a folder", "the folder cannot be made", "a joint has no name"]
    {
        assert!(one.values().any(|error| error.contains(part)), "{part}: {one:?}");
    }
    // Scripts get the sources, one a line, and people the reasons of the last time.
    let failed = run(at, &["run", "pack.toml", "--merge-tables", "--failed"]);
    assert_eq!(failed.status.code(), Some(3));
    let failed = String::from_utf8(failed.stdout).unwrap();
    let sources: Vec<String> = failed.lines().map(|line| format!("\"{line}\"")).collect();
    assert_eq!(sources, one.keys().cloned().collect::<Vec<_>>());
    assert!(succeed(at, &["run", "pack.toml", "--dry-run"]).contains("last time: "));
    // Once nothing is in the way, the same again does the rest; what is left is no matter of place.
    fs::remove_dir(output("otter/clip_003")).unwrap();
    fs::remove_file(at.join("game/heron")).unwrap();
    let table = run(at, &["run", "pack.toml", "--json"]);
    assert_eq!((table.status.code(), &json(&table)["done"]), (Some(1), &3.into()));
    fs::remove_file(output("otter/clip_000")).unwrap();
    fs::write(at.join("exports/stork/clip_001.bvh"), capture(1)).unwrap();
    assert_eq!(json(&run(at, &["run", "pack.toml", "--json"]))["done"], 2);
    assert_eq!(succeed(at, &["run", "pack.toml", "--merge-tables", "--failed"]), "");
}

#[test]
fn exit_codes_say_what_kind_of_failure_it_is() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    fs::create_dir(at.join("pack.records")).unwrap();
    let lock = fs::File::create(at.join("pack.records/lock")).unwrap();
    lock.lock().unwrap();
    fail_with(4, at, &["run", "pack.toml"]);
    fail_with(4, at, &["run", "pack.toml", "--shard", "1/2"]);
    lock.unlock().unwrap();
    // No folder for records.
    fs::remove_dir_all(at.join("pack.records")).unwrap();
    fs::write(at.join("pack.records"), "no folder").unwrap();
    let message = fail_with(3, at, &["run", "pack.toml"]);
    assert!(message.contains("pack.records: cannot be read: not a directory"), "{message}");
    fs::remove_file(at.join("pack.records")).unwrap();
    fail(at, &["run", "pack.toml", "--source", "nobody"]);
    assert_eq!(run(at, &["run", "pack.toml", "--shard", "3/2"]).status.code(), Some(2));
    assert_eq!(
        run(at, &["run", "pack.toml", "--merge-tables"]).status.code(),
        Some(3),
        "nothing is done yet"
    );
    succeed(at, &["run", "pack.toml"]);
}

#[test]
fn a_share_is_that_of_the_number_in_any_variable() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 12);
    let task = |name: &str, task: &str, share: &[&str]| {
        let output = assert_cmd::Command::cargo_bin("nimble-curve")
            .unwrap()
            .current_dir(at)
            .args([&["run", "pack.toml", "--json", "--dry-run"], share].concat())
            .env(name, task)
            .output()
            .unwrap();
        let to_do = json(&output)["to_do"].to_string();
        assert!(to_do.len() > 10, "{to_do}");
        to_do
    };
    for number in ["1", "2", "5", "8"] {
        let fixed = (number.parse::<u64>().unwrap() - 1) % 4 + 1;
        let fixed = task("UNUSED", "", &["--shard", &format!("{fixed}/4")]);
        assert_eq!(task("NUMBER_OF_TASK", number, &["--shard-from", "NUMBER_OF_TASK/4"]), fixed);
        assert_eq!(task("SLURM_ARRAY_TASK_ID", number, &["--shard", "queue/4"]), fixed);
    }
    let bad = run(at, &["run", "pack.toml", "--shard-from", "NO_SUCH_VARIABLE/4"]);
    assert_eq!(bad.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&bad.stderr).contains("NO_SUCH_VARIABLE is not set"));
}

#[test]
fn workers_that_claim_files_do_each_once_the_largest_first() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 60);
    let alone = tempdir().unwrap();
    show(alone.path(), 60);
    // The largest one.
    let largest = "exports/stork/clip_040.bvh";
    let text = format!("{}{}", capture(40), " \n".repeat(400));
    [at, alone.path()].iter().for_each(|at| fs::write(at.join(largest), &text).unwrap());
    succeed(alone.path(), &["run", "pack.toml"]);
    let worker = || started(at, &["--shard", "dynamic", "--jobs", "1", "--json"]);
    let tables: Vec<Value> = outputs((0..3).map(|_| worker()).collect()).iter().map(json).collect();
    let done: Vec<BTreeSet<String>> = tables.iter().map(|table| in_state(table, "done")).collect();
    assert_eq!(done.iter().map(BTreeSet::len).sum::<usize>(), 60, "each once: {done:?}");
    assert_eq!(done.iter().flatten().collect::<BTreeSet<_>>().len(), 60);
    assert!(done.iter().filter(|done| !done.is_empty()).count() > 1, "not one worker for all");
    assert!(tree(&at.join("game")) == tree(&alone.path().join("game")));
    assert!(!tree(&at.join("pack.records")).keys().any(|file| file.contains("claim")));
    let first = |table: &Value| -> Option<String> {
        let rows = table["rows"].as_array()?.iter().filter(|row| row["state"] == "done");
        rows.map(|row| row["source"].as_str().unwrap().to_owned()).find(|source| source == largest)
    };
    assert_eq!(tables.iter().filter_map(first).count(), 1);
    // A worker of its own begins with it.
    let output = run(alone.path(), &["run", "pack.toml", "--shard", "dynamic", "--all"]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("each worker do all files"));
    fs::remove_dir_all(alone.path().join("pack.records")).unwrap();
    let output = run(alone.path(), &["run", "pack.toml", "--shard", "dynamic", "--jobs", "1"]);
    let progress = String::from_utf8(output.stderr).unwrap();
    assert!(progress.lines().next().unwrap().contains(largest), "{progress}");
}

#[test]
fn what_a_killed_worker_had_claimed_another_does() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 90);
    let claims =
        || tree(&at.join("pack.records")).into_keys().filter(|file| file.ends_with(".claim")).count();
    let (mut killed, mut claimed) = (0, 0);
    for round in 0..6 {
        let mut child = started(at, &["--shard", "dynamic", "--jobs", "2"]);
        while tree(&at.join("game")).len() < 5 * (round + 1) {
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().unwrap();
        killed += usize::from(!child.wait().unwrap().success());
        claimed += claims();
    }
    assert!(killed == 6 && claimed > 0, "somebody died over a file: {killed} {claimed}");
    let tables: Vec<Value> =
        outputs((0..2).map(|_| started(at, &["--shard", "dynamic", "--json"])).collect())
            .iter()
            .map(json)
            .collect();
    assert!(tables.iter().all(|table| table["failed"] == 0), "{tables:?}");
    assert_eq!(json(&run(at, &["run", "pack.toml", "--json"]))["unchanged"], 90);
    assert_eq!(claims(), 0);
    assert_eq!(tree(&at.join("game")).len(), 90, "nothing of the killed ones is left");
}

#[test]
fn two_runs_of_the_same_files_at_once_fail_nothing() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 12);
    succeed(at, &["run", "pack.toml"]);
    let whole = tree(&at.join("game"));
    for round in 0..25 {
        if round % 2 == 0 {
            fs::remove_dir_all(at.join("pack.records")).unwrap();
        }
        fs::remove_dir_all(at.join("game")).unwrap();
        // Single files are done beside each other, so that no lock keeps these two apart.
        let double = || started(at, &["--source", "exports/*", "--json"]);
        for output in outputs(vec![double(), double()]) {
            let table = json(&output);
            assert_eq!((&table["failed"], output.status.code()), (&0.into(), Some(0)), "{table}");
        }
        assert!(tree(&at.join("game")) == whole, "round {round}");
        assert_eq!(json(&run(at, &["run", "pack.toml", "--merge-tables", "--json"]))["done"], 12);
    }
    assert_eq!(json(&run(at, &["run", "pack.toml", "--json"]))["unchanged"], 12);
}

#[test]
fn sizes_and_times_prove_that_nothing_changed_only_where_that_is_asked_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 6);
    let then = SystemTime::now() - Duration::from_secs(3600);
    let set = |file: &str, time: SystemTime| {
        fs::File::options().append(true).open(at.join(file)).unwrap().set_modified(time).unwrap();
    };
    let sources: Vec<String> =
        succeed(at, &["run", "pack.toml", "--list"]).lines().map(str::to_owned).collect();
    sources.iter().for_each(|source| set(source, then));
    ["maps/otter.toml", "maps/stork.toml", "maps/heron.toml", "target.bvh"]
        .iter()
        .for_each(|file| set(file, then));
    succeed(at, &["run", "pack.toml"]);
    let to_do = |words: &[&str]| -> Vec<String> {
        succeed(at, &[&["run", "pack.toml", "--list"], words].concat()).lines().map(str::to_owned).collect()
    };
    assert!(to_do(&["--quick"]).is_empty() && to_do(&[]).is_empty());
    // Other contents of the same size and time: nobody sees it from outside.
    let one = &sources[0];
    let text = fs::read_to_string(at.join(one)).unwrap();
    fs::write(at.join(one), text.replacen("OFFSET 0 25 0", "OFFSET 0 26 0", 1)).unwrap();
    set(one, then);
    assert!(to_do(&["--quick"]).is_empty());
    assert_eq!(to_do(&[]).join(" "), *one);
    // Another time, with other contents and with the same.
    let two = &sources[1];
    set(one, then + Duration::from_secs(1));
    set(two, then + Duration::from_secs(1));
    assert_eq!(to_do(&["--quick"]).join(" "), *one);
    // Maps are looked at, and outputs: their contents where they have another time.
    fs::write(at.join("maps/stork.toml"), "# storks\n[nodes]\nhips = \"Pelvis\"\n").unwrap();
    let storks = sources.iter().filter(|source| source.contains("stork")).count();
    assert_eq!(to_do(&["--quick"]).len(), storks + 1);
    fs::write(at.join("game/heron/clip_005.ncurve"), "edited").unwrap();
    assert_eq!(to_do(&["--quick"]).len(), storks + 2);
}

#[test]
fn records_and_tables_say_who_did_what_and_a_log_tells_all_of_it() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    fs::write(at.join("exports/stork/clip_001.bvh"), "HIERARCHY\nROOT").unwrap();
    let output = assert_cmd::Command::cargo_bin("nimble-curve")
        .unwrap()
        .current_dir(at)
        .args(["run", "pack.toml", "--logs", "logs"])
        .envs([("SLURM_ARRAY_JOB_ID", "71"), ("SLURM_ARRAY_TASK_ID", "3")])
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    for record in records(at).values() {
        let record: Value = serde_json::from_slice(&fs::read(record).unwrap()).unwrap();
        assert_eq!(record["origin"]["job"], "71_3");
        assert!(
            record["origin"]["date"].as_str().unwrap().starts_with("20")
                && record["origin"]["process"].is_u64()
        );
        assert_eq!(record["program"], env!("CARGO_PKG_VERSION"));
    }
    let table = run(at, &["run", "pack.toml", "--merge-tables", "--summary", "table.csv"]);
    let said = String::from_utf8(table.stdout).unwrap();
    assert!(said.contains(" 71_3  20"), "{said}");
    let summary = fs::read_to_string(at.join("table.csv")).unwrap();
    assert!(summary.lines().next().unwrap().ends_with("seconds,machine,worker,date,program"), "{summary}");
    assert_eq!(summary.lines().filter(|line| line.contains(",71_3,20")).count(), 3, "{summary}");
    assert_eq!(names(&at.join("logs/exports")), ["heron", "otter", "stork"]);
    let log = |name: &str| fs::read_to_string(at.join("logs/exports").join(name)).unwrap();
    let done = log("otter/clip_000.bvh.log");
    for part in [
        "state     done",
        "job 71_3",
        "written   game/otter/clip_000.ncurve  300 keys",
        "read      maps/otter.toml",
        "error of  at most",
    ] {
        assert!(done.contains(part), "{part}: {done}");
    }
    let failed = log("stork/clip_001.bvh.log");
    assert!(failed.contains("error     exports/stork/clip_001.bvh:2: a joint has no name"), "{failed}");
}

#[test]
fn no_table_is_longer_than_asked_for_nor_takes_less_than_no_time() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 30);
    for number in 0..30 {
        let character = ["otter", "stork", "heron"][number % 3];
        let text = format!("HIERARCHY\nROOT hips{}", "\n".repeat(number));
        fs::write(at.join(format!("exports/{character}/clip_{number:03}.bvh")), text).unwrap();
    }
    let said =
        |words: &[&str]| String::from_utf8(run(at, &[&["run", "pack.toml"], words].concat()).stdout).unwrap();
    let table = said(&["--rows", "5"]);
    assert!(table.lines().count() < 20, "{table}");
    assert!(table.contains("and 25 more files of which 25 failed (--rows 0 lists all)"), "{table}");
    assert!(said(&["--rows", "0"]).lines().count() > 30);
    fs::remove_dir_all(at.join("pack.records")).unwrap();
    let nothing = said(&["--merge-tables"]);
    assert!(nothing.contains("0 became 0; 0.0 s") || nothing.contains("; 0.0 s"), "{nothing}");
    assert!(!nothing.contains("-0"), "{nothing}");
}

#[cfg(unix)]
#[test]
fn what_is_written_has_the_rights_that_the_mask_gives() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = tempdir().unwrap();
    let at = folder.path();
    show(at, 3);
    let program = assert_cmd::cargo::cargo_bin("nimble-curve");
    for (mask, file, folder) in [("002", 0o664, 0o775), ("027", 0o640, 0o750)] {
        for left in ["game", "pack.records"] {
            fs::remove_dir_all(at.join(left)).ok();
        }
        let line = format!("umask {mask}; exec '{}' run pack.toml --shard 1/1", program.display());
        assert!(
            std::process::Command::new("sh")
                .current_dir(at)
                .args(["-c", &line])
                .output()
                .unwrap()
                .status
                .success()
        );
        let mut seen = 0;
        let mut folders = vec![at.join("game"), at.join("pack.records")];
        while let Some(path) = folders.pop() {
            let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
            assert_eq!(mode(&path), folder, "{}", path.display());
            for entry in fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()) {
                if entry.is_dir() {
                    folders.push(entry);
                    continue;
                }
                assert_eq!(mode(&entry), file, "{}", entry.display());
                seen += 1;
            }
        }
        // Outputs, records, marks, and the locks of the recipe and of the share.
        assert_eq!(seen, 3 + 3 + 3 + 2);
    }
}
