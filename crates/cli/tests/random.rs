//! Random scenes through the program, whose results a second evaluator compares with their sources: what is written is as close
//! as was promised, or it is refused with one line.

use std::path::Path;

use nimble_curve_second::random::{Chance, Contents, text};
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;
use tempfile::tempdir;

use crate::common::run;

/// What a command did to time: the frame of the source at a frame of the result.
type Clock = Box<dyn Fn(f64) -> f64>;

/// How a result is looked at.
#[derive(Clone, Copy, PartialEq)]
enum Looked {
    Everywhere,
    AtFrames,
}

struct Case {
    steps: Vec<Vec<String>>,
    clock: Clock,
    looked: Looked,
    /// What of the tolerances a result may be off by.
    times: f64,
}

fn words(text: &str) -> Vec<String> {
    text.split_whitespace().map(str::to_owned).collect()
}

fn case(chance: &mut Chance, source: &Scene) -> Case {
    let same = || -> Clock { Box::new(|frame| frame) };
    let orders = nimble_curve_second::random::ORDERS;
    let plain = |line: String, looked| Case { steps: vec![words(&line)], clock: same(), looked, times: 1.0 };
    match chance.below(9) {
        0 => plain("convert in.ncurve out.ncurve".into(), Looked::Everywhere),
        1 => {
            let form = *chance.of(&["curves", "quaternions"]);
            plain(format!("convert in.ncurve out.ncurve --controllers {form}"), Looked::Everywhere)
        }
        2 => {
            plain(format!("reorder in.ncurve --to {} -o out.ncurve", chance.of(&orders)), Looked::Everywhere)
        }
        3 => plain("layers flatten in.ncurve -o out.ncurve".into(), Looked::Everywhere),
        4 => plain("bake in.ncurve -o out.ncurve".into(), Looked::AtFrames),
        5 => plain("unbake in.ncurve -o out.ncurve".into(), Looked::AtFrames),
        6 => {
            let to = 10 + chance.below(40) as i64;
            let first = source.takes[0].range.0;
            Case {
                clock: Box::new(move |frame| frame - to as f64 + first),
                ..plain(
                    format!("clips shift in.ncurve --to {to} --take take* -o out.ncurve"),
                    Looked::Everywhere,
                )
            }
        }
        _ => {
            let ending = *chance.of(&["glb", "gltf", "usda", "dae"]);
            Case {
                steps: vec![
                    words(&format!("convert in.ncurve between.{ending} --keep-start --buffer-beside")),
                    words(&format!("convert between.{ending} out.ncurve --ignore-extra --rate 24")),
                ],
                clock: same(),
                looked: Looked::Everywhere,
                // There and back.
                times: 2.0,
            }
        }
    }
}

/// What of a result is farther from its source than it may be.
fn off(source: &Scene, result: &Scene, case: &Case) -> Vec<String> {
    let mut found = Vec::new();
    for (index, take) in result.takes.iter().enumerate() {
        let Some(from) = source.takes.iter().position(|own| own.name == take.name) else { continue };
        // Takes are shifted each from its own start; the clock is that of the first.
        let start = source.takes[from].range.0 - source.takes[0].range.0;
        for (at, node) in result.nodes.iter().enumerate() {
            let Some(other) = source.nodes.iter().position(|own| own.name == node.name) else { continue };
            let in_part = source.counts_in_part(from, other) || result.counts_in_part(index, at);
            let (keys, sampled) = source.instants(from, other, |_| true);
            let (own_keys, own_sampled) = result.instants(index, at, |_| true);
            let is_sampled = sampled.is_some() || own_sampled.is_some() || case.looked == Looked::AtFrames;
            let (first, last) = take.range;
            let step = if is_sampled { 1.0 } else { 0.4 };
            let count = ((last - first) / step) as usize;
            let frames = (0..=count).map(|part| first.ceil() + part as f64 * step);
            for frame in frames.filter(|frame| *frame <= last) {
                let there_frame = (case.clock)(frame) + if (case.clock)(0.0) == 0.0 { 0.0 } else { start };
                let range = source.takes[from].range;
                if !(range.0 - 1e-6..=range.1 + 1e-6).contains(&there_frame) {
                    continue;
                }
                // Which side of a jump an instant is on is a matter of rounding.
                let is_key = |keys: &[f64], frame: f64| keys.iter().any(|key| (key - frame).abs() < 1e-3);
                if !is_sampled && (is_key(&keys, there_frame) || is_key(&own_keys, frame)) {
                    continue;
                }
                let (a, turn) = source.local(from, other, there_frame);
                let (b, own_turn) = result.local(index, at, frame);
                let scale = result.unit;
                let turned = if in_part { 0.0 } else { apart(turn, own_turn) };
                let moved = (a.translation * source.unit - b.translation * scale).length();
                if turned > 0.1 * case.times * 1.1 || moved > 0.0005 * case.times * 1.1 {
                    found.push(format!("{} at frame {frame}: {turned} deg, {moved} m", node.name));
                    break;
                }
            }
        }
    }
    found
}

/// The same at later frames.
fn later(value: &mut serde_json::Value, by: f64) {
    match value {
        serde_json::Value::Object(fields) => {
            for (name, value) in fields {
                match (name.as_str(), value.as_f64()) {
                    ("frame" | "start", Some(frame)) => *value = serde_json::json!(frame + by),
                    ("range" | "frames", _) => {
                        let ends = value.as_array_mut().unwrap().iter_mut();
                        ends.for_each(|end| *end = serde_json::json!(end.as_f64().unwrap() + by));
                    }
                    _ => later(value, by),
                }
            }
        }
        serde_json::Value::Array(list) => list.iter_mut().for_each(|value| later(value, by)),
        _ => {}
    }
}

fn written(folder: &Path, case: &Case) -> Result<(), String> {
    for step in &case.steps {
        let words: Vec<&str> =
            step.iter().map(String::as_str).filter(|word| *word != "--buffer-beside").collect();
        let output = run(folder, &words);
        match output.status.code() {
            Some(0) => {}
            Some(1) => {
                let said = String::from_utf8_lossy(&output.stderr).into_owned();
                return Err(said.lines().filter(|line| line.starts_with("error")).collect());
            }
            code => panic!("{words:?} ended with {code:?}: {}", String::from_utf8_lossy(&output.stderr)),
        }
    }
    Ok(())
}

#[test]
fn what_is_written_is_as_close_as_was_promised() {
    let number = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    let (first, count) = (number("FIRST").unwrap_or(0), number("CASES").unwrap_or(60));
    let (mut refused, mut wrong) = (Vec::new(), Vec::new());
    for seed in first..first + count {
        let folder = tempdir().unwrap();
        let at = folder.path();
        let lists = Contents { lists: false, ..Contents::ALL };
        let mut json: serde_json::Value = serde_json::from_str(&text(seed, &lists)).unwrap();
        let mut chance = Chance::new(seed ^ 0x77);
        let rate = json["rate"].as_str().unwrap().to_owned();
        json["space"] = serde_json::json!({ "metres_per_unit": 1.0, "up": "y", "handedness": "right" });
        // Some formats have no time before zero, and put what goes on there at it.
        later(&mut json["takes"], 60.0);
        let source = json.to_string().replace(&format!("\"rate\":\"{rate}\""), "\"rate\":\"24\"");
        std::fs::write(at.join("in.ncurve"), &source).unwrap();
        if let Ok(folder) = std::env::var("KEEP") {
            std::fs::write(Path::new(&folder).join(format!("{seed}.ncurve")), &source).unwrap();
        }
        let source = Scene::read(&source);
        let case = case(&mut chance, &source);
        match written(at, &case) {
            Err(why) => refused.push(format!("seed {seed} {:?}: {why}", case.steps[0])),
            Ok(()) => {
                let result = Scene::read(&std::fs::read_to_string(at.join("out.ncurve")).unwrap());
                for off in off(&source, &result, &case) {
                    wrong.push(format!("seed {seed} {:?}: {off}", case.steps[0]));
                }
            }
        }
    }
    if std::env::var("SHOW").is_ok() {
        println!("{} refused of {count}:\n{}", refused.len(), refused.join("\n"));
    }
    let many = wrong.len();
    wrong.truncate(12);
    assert!(wrong.is_empty(), "{many} farther off than was promised:\n{}", wrong.join("\n"));
    assert!(
        refused.len() as u64 * 4 <= count,
        "{} of {count} refused:\n{}",
        refused.len(),
        refused.join("\n")
    );
}
