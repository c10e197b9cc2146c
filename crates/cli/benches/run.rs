//! What `run` does with 300 clips: files a second, what it costs over the commands one by one, and memory.
//!
//! `cargo bench -p nimble-curve --bench run` prints a table; a number of clips can be given after `--`.

mod timed;

use std::path::Path;
use std::time::Duration;

use self::timed::timed;

/// Frames of each clip.
const FRAMES: usize = 120;

const RECIPE: &str = "sources = 'clips/*.bvh'\noutput = 'game/{stem}.ncurve'\nunit = 'cm'\n\
                      target = 'stilt.ncurve'\nmap = 'map.toml'\n\
                      [[step]]\ndo = 'unbake'\n[[step]]\ndo = 'carry'\n";

/// The capture of the sample scenario, a window of it a file.
fn clips(folder: &Path, count: usize) {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    let capture = std::fs::read_to_string(demo.join("bramble_wade.bvh")).expect("the sample capture");
    let (head, motion) = capture.split_once("Frames:").expect("a capture has frames");
    let lines: Vec<&str> = motion.lines().collect();
    let (rate, samples) = (lines[1], &lines[2..]);
    std::fs::create_dir_all(folder.join("clips")).expect("a folder");
    for number in 0..count {
        let from = number * 7 % (samples.len() - FRAMES);
        let window = samples[from..from + FRAMES].join("\n");
        let text = format!("{head}Frames: {FRAMES}\n{rate}\n{window}\n");
        std::fs::write(folder.join(format!("clips/clip_{number:04}.bvh")), text).expect("a clip");
    }
    std::fs::copy(demo.join("stilt.ncurve"), folder.join("stilt.ncurve")).expect("the rig");
    std::fs::copy(demo.join("bramble_to_stilt.toml"), folder.join("map.toml")).expect("the map");
    std::fs::write(folder.join("pack.toml"), RECIPE).expect("the recipe");
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(300);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let at = folder.path();
    clips(at, count);
    let on =
        |threads: usize| if threads == 1 { "on one core".to_owned() } else { format!("on {threads} cores") };
    let row = |what: &str, time: Duration, memory: f64| {
        let each = time.as_secs_f64() * 1000.0 / count as f64;
        println!(
            "{what:<44} {:>7.2} s  {each:>7.2} ms a file  {:>6.1} files/s  {memory:>5.0} MB",
            time.as_secs_f64(),
            1000.0 / each
        );
    };
    println!("{count} clips of {FRAMES} frames, unbaked and carried onto another rig");
    let one_by_one = |threads: usize| {
        let (mut total, mut memory) = (Duration::ZERO, 0.0_f64);
        for number in 0..count {
            let source = format!("clips/clip_{number:04}.bvh");
            for words in [
                vec![
                    "unbake",
                    &source,
                    "--unit",
                    "cm",
                    "--no-other-tolerances",
                    "-o",
                    "a.ncurve",
                    "--replace",
                ],
                vec![
                    "carry",
                    "a.ncurve",
                    "--target",
                    "stilt.ncurve",
                    "--map",
                    "map.toml",
                    "-o",
                    "b.ncurve",
                    "--replace",
                ],
            ] {
                let (time, most) = timed(at, threads, &words);
                total += time;
                memory = memory.max(most);
            }
        }
        row(&format!("the two commands, {}", on(threads)), total, memory);
        total
    };
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let single = one_by_one(1);
    let (one, memory) = timed(at, 1, &["run", "pack.toml", "--jobs", "1"]);
    row(&format!("run, {}", on(1)), one, memory);
    let many = one_by_one(cores);
    let (all, memory) = timed(at, cores, &["run", "pack.toml", "--all"]);
    row(&format!("run --all, {}", on(cores)), all, memory);
    let (again, memory) = timed(at, cores, &["run", "pack.toml"]);
    row("run, nothing changed", again, memory);
    let few = count / 10;
    let only: Vec<String> = (0..few).map(|number| format!("clips/clip_{number:04}.bvh")).collect();
    let mut words = vec!["run", "pack.toml", "--all", "--source"];
    words.extend(only.iter().map(String::as_str));
    let (time, memory) = timed(at, cores, &words);
    println!(
        "{:<44} {:>7.2} s  {:>7.2} ms a file  {:>6.1} files/s  {memory:>5.0} MB",
        format!("run --all, {few} of them"),
        time.as_secs_f64(),
        time.as_secs_f64() * 1000.0 / few as f64,
        few as f64 / time.as_secs_f64()
    );
    println!(
        "run over the commands file by file: {:+.2} ms a file {}, {:+.2} ms {}",
        (one.as_secs_f64() - single.as_secs_f64()) * 1000.0 / count as f64,
        on(1),
        (all.as_secs_f64() - many.as_secs_f64()) * 1000.0 / count as f64,
        on(cores)
    );
}
