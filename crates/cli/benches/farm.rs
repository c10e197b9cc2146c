//! What `run` costs where there is nothing to do but to look: 100,000 tiny files in 100 folders, each folder with a map of its own.
//!
//! `cargo bench -p nimble-curve --bench farm` prints a table; a number of files can be given after `--`. The files are written
//! once for real, which takes some minutes.

mod timed;

use std::fmt::Write as _;
use std::path::Path;
use std::time::Duration;

use self::timed::timed;

const RECIPE: &str = "sources = 'exports/**/*.bvh'\noutput = 'game/{folder}/{stem}.ncurve'\nunit = 'cm'\n\
                      target = 'target.bvh'\n[[step]]\ndo = 'carry'\nmap = 'maps/{folder}.toml'\n";
const FOLDERS: usize = 100;

/// One joint, three frames.
fn capture(number: usize) -> String {
    let mut text = "HIERARCHY\nROOT hips\n{\nOFFSET 0 90 0\nCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n\
                    End Site\n{\nOFFSET 0 15 0\n}\n}\nMOTION\nFrames: 3\nFrame Time: 0.0333333\n"
        .to_owned();
    for frame in 0..3 {
        writeln!(text, "{frame} 90 0 {} 0 0", number % 50 * frame).expect("a text");
    }
    text
}

fn files(folder: &Path, count: usize) {
    std::fs::create_dir_all(folder.join("maps")).expect("a folder");
    for number in 0..FOLDERS {
        std::fs::create_dir_all(folder.join(format!("exports/c{number:02}"))).expect("a folder");
        std::fs::write(folder.join(format!("maps/c{number:02}.toml")), "[nodes]\nhips = \"hips\"\n")
            .expect("a map");
    }
    for number in 0..count {
        let name = format!("exports/c{:02}/clip_{number:06}.bvh", number % FOLDERS);
        std::fs::write(folder.join(name), capture(number)).expect("a clip");
    }
    std::fs::write(folder.join("target.bvh"), capture(1)).expect("the rig");
    std::fs::write(folder.join("pack.toml"), RECIPE).expect("the recipe");
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(100_000);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let at = folder.path();
    files(at, count);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    println!("{count} files of three frames, {threads} cores");
    let row = |what: &str, (time, memory): (Duration, f64)| {
        println!("{what:<44} {:>8.2} s  {memory:>5.0} MB", time.as_secs_f64());
    };
    let run = |words: &[&str]| timed(at, threads, &[&["run", "pack.toml"], words].concat());
    row("--list, nothing is done yet", run(&["--list"]));
    row("all of them", run(&[]));
    // What the system has still to write of 300,000 new files is no matter of the next look at them.
    std::process::Command::new("sync").status().expect("what was written reaches the disk");
    for turn in ["first", "second"] {
        row(&format!("nothing to do, {turn} time"), run(&[]));
    }
    row("nothing to do, --quick", run(&["--quick"]));
    row("nothing to do, a share of eight", run(&["--shard", "2/8"]));
    row("nothing to do, one source", run(&["--source", "exports/c01/clip_000001.bvh"]));
    row("--merge-tables", run(&["--merge-tables"]));
}
