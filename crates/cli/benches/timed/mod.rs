//! The program as a whole process, timed from outside.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Runs the program to its end; gives the time, and the most memory that it was seen to hold, in MB.
pub fn timed(folder: &Path, threads: usize, words: &[&str]) -> (Duration, f64) {
    let start = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_nimble-curve"))
        .current_dir(folder)
        .args(words)
        .env("RAYON_NUM_THREADS", threads.to_string())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let mut most: f64 = 0.0;
    loop {
        if let Ok(text) = std::fs::read_to_string(&status)
            && let Some(line) = text.lines().find_map(|line| line.strip_prefix("VmHWM:"))
        {
            let kilobytes = line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0);
            most = most.max(kilobytes / 1024.0);
        }
        match child.try_wait().expect("the program can be waited for") {
            Some(status) => {
                assert!(status.success(), "{words:?}");
                return (start.elapsed(), most);
            }
            None => std::thread::sleep(Duration::from_micros(500)),
        }
    }
}
