//! Capture as sensors give it: a chain of joints with swings, fast turns, poses that are held, noise, spikes and dropouts.

use std::fmt::Write;

use crate::random::Chance;

/// What there is in a capture.
#[derive(Clone, Copy, Debug)]
pub struct Taken {
    pub seed: u64,
    pub frames: usize,
    pub rate: f64,
    /// The size of the noise on angles, in degrees, of the channel that has the most.
    pub noise: f64,
    /// Whether single samples are far off, and stretches stand still as nothing was seen.
    pub faults: bool,
}

/// The joints of the chain.
pub const JOINTS: [&str; 5] = ["root", "waist", "upper", "lower", "tip"];

/// One channel's samples.
fn channel(chance: &mut Chance, taken: &Taken, size: f64, noise: f64) -> Vec<f64> {
    let count = taken.frames as f64;
    let seconds = |frame: usize| frame as f64 / taken.rate;
    let swings: Vec<[f64; 3]> = (0..3)
        .map(|_| [chance.between(0.1, size), chance.between(0.5, 9.0), chance.between(0.0, 6.0)])
        .collect();
    // Fast turns: most of the way within a tenth of a second.
    let turns: Vec<[f64; 2]> =
        (0..2).map(|_| [chance.between(0.0, count), chance.between(-2.0 * size, 2.0 * size)]).collect();
    let mut drift = 0.0;
    (0..taken.frames)
        .map(|frame| {
            let t = seconds(frame);
            let swing: f64 = swings.iter().map(|[size, pace, phase]| size * (pace * t + phase).sin()).sum();
            let turn: f64 = (turns.iter())
                .map(|[at, size]| size / (1.0 + (-(frame as f64 - at) / taken.rate * 40.0).exp()))
                .sum();
            // What sensors add is mostly white, and partly wanders.
            let white: f64 = (0..6).map(|_| chance.between(-1.0, 1.0)).sum::<f64>() / 2.0_f64.sqrt();
            drift = 0.9 * drift + 0.3 * chance.between(-1.0, 1.0);
            swing + turn + noise * (white + drift)
        })
        .collect()
}

/// What befalls a joint as a whole: a pose that is held, and, where there are faults, samples far off and stretches in which
/// nothing was seen.
fn befall(chance: &mut Chance, taken: &Taken, channels: &mut [Vec<f64>], size: f64) {
    let hold = |channels: &mut [Vec<f64>], from: f64, length: f64| {
        let from = (from as usize).min(taken.frames - 1);
        let to = (from + length as usize).min(taken.frames);
        channels.iter_mut().for_each(|samples| {
            let value = samples[from];
            samples[from..to].fill(value);
        });
    };
    let count = taken.frames as f64;
    hold(channels, chance.between(0.0, count), chance.between(10.0, 60.0));
    for _ in 0..if taken.faults { 3 } else { 0 } {
        let at = chance.below(taken.frames);
        channels.iter_mut().for_each(|samples| samples[at] += chance.between(-1.0, 1.0) * size);
        hold(channels, chance.between(0.0, count), chance.between(2.0, 9.0));
    }
}

/// A capture as BVH: what comes in such files, with the decimals that they have.
pub fn bvh(taken: &Taken) -> String {
    let mut chance = Chance::new(taken.seed);
    let mut text = String::from("HIERARCHY\n");
    for (depth, joint) in JOINTS.iter().enumerate() {
        let (word, channels) = match depth {
            0 => ("ROOT", "6 Xposition Yposition Zposition Zrotation Xrotation Yrotation"),
            _ => ("JOINT", "3 Zrotation Xrotation Yrotation"),
        };
        writeln!(text, "{word} {joint}\n{{\nOFFSET 0.0 {} 0.0\nCHANNELS {channels}", 10 * depth).unwrap();
    }
    text += "End Site\n{\nOFFSET 0.0 10.0 0.0\n}\n";
    text += &"}\n".repeat(JOINTS.len());
    let mut columns: Vec<Vec<f64>> =
        (0..3).map(|_| channel(&mut chance, taken, 20.0, 0.1 * taken.noise)).collect();
    befall(&mut chance, taken, &mut columns, 5.0);
    for _ in JOINTS {
        for axis in 0..3 {
            let noise = taken.noise * chance.between(0.1, 1.0);
            // The middle axis stays away from the pole, where angles leap between frames though the motion does not.
            let size = chance.between(2.0, if axis == 1 { 8.0 } else { 25.0 });
            columns.push(channel(&mut chance, taken, size, noise));
        }
        let last = columns.len() - 3;
        befall(&mut chance, taken, &mut columns[last..], 5.0);
    }
    writeln!(text, "MOTION\nFrames: {}\nFrame Time: {:.7}", taken.frames, 1.0 / taken.rate).unwrap();
    for frame in 0..taken.frames {
        let row: Vec<String> = columns.iter().map(|column| format!("{:.4}", column[frame])).collect();
        writeln!(text, "{}", row.join(" ")).unwrap();
    }
    text
}
