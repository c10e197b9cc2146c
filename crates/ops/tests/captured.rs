//! What sensors do: noise of known size, faults put in on purpose, shakes that are motion.

use std::collections::HashMap;

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, quat_from_euler};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::capture::{Bridged, Fault, NoiseError, bridged, noise};
use nimble_curve_ops::unbake::{UnbakeOptions, unbake};
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::rig::{Node, NodeKind, Rig};
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::dice::Dice;

const RATE: FrameRate = FrameRate::FPS_30;

/// Normal noise of size 1, by the sum of twelve.
fn normal(dice: &mut Dice) -> f64 {
    (0..12).map(|_| dice.part()).sum::<f64>() - 6.0
}

/// Swings and a fast turn of size 1 or so.
fn motion(dice: &mut Dice, count: usize) -> Vec<f64> {
    let swings: Vec<[f64; 3]> =
        (0..3).map(|_| [dice.between(0.1, 0.5), dice.between(0.01, 0.12), dice.between(0.0, 6.0)]).collect();
    let (at, size) = (dice.part() * count as f64, dice.between(-1.0, 1.0));
    (0..count)
        .map(|index| {
            let t = index as f64;
            let swing: f64 = swings.iter().map(|[size, pace, phase]| size * (pace * t + phase).sin()).sum();
            swing + size / (1.0 + (-(t - at) / 3.0).exp())
        })
        .collect()
}

/// One joint's samples: angles, channel by channel, in radians.
fn scene(angles: &[Vec<f64>; 3]) -> Scene {
    let mut rig = Rig::new("rig");
    let node = Node::new("arm_l", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
    let joint = rig.add(None, node).unwrap();
    let values = (0..angles[0].len()).flat_map(|index| [0, 1, 2].map(|axis: usize| angles[axis][index]));
    let kind = SampleKind::Euler(RotationOrder::Xyz);
    let samples = Samples { start: Ticks::ZERO, rate: RATE, kind, values: values.collect() };
    let track = Track { target: Target::new(0, joint, "rotation"), controller: Controller::Samples(samples) };
    let range = TimeRange::new(Ticks::ZERO, RATE.ticks(angles[0].len() as i64 - 1));
    let take = Take::new("take", range, vec![Layer::base(vec![track])]);
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take)
}

/// The angles of a scene at whole frames, channel by channel.
fn angles(scene: &Scene, count: usize) -> [Vec<f64>; 3] {
    let controller = &scene.takes[0].layers[0].tracks[0].controller;
    let rest = Value::Euler { order: RotationOrder::Xyz, angles: DVec3::ZERO };
    let mut sampler = Sampler::new(controller, PropertyKind::Rotation, rest).unwrap();
    let rows: Vec<Vec<f64>> = (0..count)
        .map(|index| sampler.value_at(RATE.ticks(index as i64).as_f64()).numbers().unwrap())
        .collect();
    [0, 1, 2].map(|axis| rows.iter().map(|row| row[axis]).collect())
}

/// Clean motion, and what a sensor makes of it: noise of some sizes in radians.
fn captured(dice: &mut Dice, count: usize, sizes: [f64; 3]) -> ([Vec<f64>; 3], [Vec<f64>; 3]) {
    let clean = [0, 1, 2].map(|_| motion(dice, count));
    let mut noisy = clean.clone();
    for (channel, size) in noisy.iter_mut().zip(sizes) {
        channel.iter_mut().for_each(|value| *value += size * normal(dice));
    }
    (clean, noisy)
}

#[test]
fn noise_of_known_sizes_is_measured_within_a_fifth() {
    let mut worst = 0.0_f64;
    for seed in 0..60 {
        let mut dice = Dice(seed);
        let sizes = [0, 1, 2].map(|_| 1e-4 * 100_f64.powf(dice.part()));
        let (_, noisy) = captured(&mut dice, 400, sizes);
        let [found] = &noise(&scene(&noisy), &[]).unwrap()[..] else { panic!("one channel") };
        let size = sizes.iter().map(|size| size * size).sum::<f64>().sqrt();
        worst = worst.max((found.size.unwrap() / size - 1.0).abs());
        assert_eq!((found.channel.as_str(), found.part.as_str()), ("arm_l:rotation", "left arm"));
    }
    println!("{worst:.3} off at most");
    assert!(worst < 0.2, "{worst}");
}

#[test]
fn too_few_samples_tell_no_noise() {
    let mut dice = Dice(3);
    let (_, noisy) = captured(&mut dice, 59, [0.01; 3]);
    let refused = NoiseError::TooFew { channel: "arm_l:rotation".into(), samples: 59 };
    assert_eq!(noise(&scene(&noisy), &[]).unwrap_err(), refused);
    let still = [vec![0.25; 59], vec![0.0; 59], vec![0.0; 59]];
    assert_eq!(noise(&scene(&still), &[]).unwrap(), []);
    // Long enough, but still for most of the time: that is said, and is not taken for no noise.
    let (_, mut held) = captured(&mut dice, 200, [0.01; 3]);
    for channel in &mut held {
        let value = channel[20];
        channel[20..180].fill(value);
    }
    let [found] = &noise(&scene(&held), &[]).unwrap()[..] else { panic!("one channel") };
    assert_eq!((found.size, found.reach), (None, 0.0));
}

/// How much of a shake's energy is in some values: the part along its sine and cosine.
fn kept(values: &[f64], pace: f64, size: f64) -> f64 {
    let part = |wave: fn(f64) -> f64| {
        let along: f64 =
            values.iter().enumerate().map(|(index, value)| value * wave(pace * index as f64)).sum();
        2.0 * along / values.len() as f64
    };
    (part(f64::sin).powi(2) + part(f64::cos).powi(2)) / (size * size)
}

#[test]
fn shakes_that_are_motion_outlive_a_tolerance_of_the_noise() {
    for (times, pace) in [(2.0, 0.6), (3.0, 0.6), (3.0, 0.9), (4.0, 0.9)] {
        let (mut least, mut mean) = (f64::INFINITY, 0.0);
        for seed in 0..40 {
            let mut dice = Dice(seed);
            let (clean, mut noisy) = captured(&mut dice, 400, [0.002; 3]);
            let reach = noise(&scene(&noisy), &[]).unwrap()[0].reach;
            // Two or three swings of a third of a second or less, which the noise must not be taken for.
            let from = 100 + dice.below(200) as usize;
            let span = from..from + 21;
            for index in span.clone() {
                noisy[0][index] += times * reach * (pace * (index - from) as f64).sin();
            }
            let source = scene(&noisy);
            let found = noise(&source, &[]).unwrap();
            assert!((found[0].reach / reach - 1.0).abs() < 0.1, "a shake is no noise");
            let own = Tolerance { angle: found[0].reach, ..Tolerance::default() };
            let tolerance_of = HashMap::from([(found[0].channel.clone(), own)]);
            let options = UnbakeOptions { tolerance_of, ..UnbakeOptions::default() };
            let result = angles(&unbake(&source, &options).unwrap().scene, 400);
            let left: Vec<f64> = span.map(|index| result[0][index] - clean[0][index]).collect();
            let kept = kept(&left, pace, times * reach);
            least = least.min(kept);
            mean += kept / 40.0;
        }
        println!(
            "{times} times what noise reaches, {pace}: {mean:.3} of the energy kept, {least:.3} at least"
        );
        assert!(times < 3.0 || mean >= 0.93, "{mean}");
    }
}

#[test]
fn faults_are_found_where_they_are_and_lie_on_the_motion_when_bridged() {
    let (mut put, mut hit, mut more) = (0, 0, 0);
    for seed in 0..60 {
        let mut dice = Dice(seed);
        let size = 1e-4 * 100_f64.powf(dice.part());
        let (clean, mut noisy) = captured(&mut dice, 300, [size; 3]);
        let [spike, dropout] = [20 + dice.below(100) as usize, 160 + dice.below(100) as usize];
        let far = dice.between(1.0, 2.0) * (40.0 * size).max(0.2);
        noisy.iter_mut().for_each(|channel| channel[spike] += far);
        for channel in &mut noisy {
            let value = channel[dropout];
            channel[dropout + 1..=dropout + 6].fill(value);
        }
        let Bridged { scene: result, faults } = bridged(&scene(&noisy), &[]);
        let leap = (0..3).map(|axis| (noisy[axis][dropout + 7] - noisy[axis][dropout]).powi(2)).sum::<f64>();
        let mut expected = vec![(Fault::Spike, (spike as f64, spike as f64))];
        // Nothing to tell where the motion went nowhere meanwhile.
        if leap.sqrt() > 0.15 + 12.0 * size {
            expected.push((Fault::Dropout, (dropout as f64 + 1.0, dropout as f64 + 6.0)));
        }
        let found: Vec<(Fault, (f64, f64))> =
            faults.iter().map(|fault| (fault.fault, fault.frames)).collect();
        put += expected.len();
        hit += expected.iter().filter(|fault| found.contains(fault)).count();
        more += found
            .iter()
            .filter(|fault| fault.1.0 < spike as f64 - 1.0 || fault.1.0 > dropout as f64 + 6.0)
            .count();
        let bridged = angles(&result, 300);
        for fault in &faults {
            for index in fault.frames.0 as usize..=fault.frames.1 as usize {
                let off = (0..3)
                    .map(|axis| (bridged[axis][index] - clean[axis][index]).powi(2))
                    .sum::<f64>()
                    .sqrt();
                let most = match fault.fault {
                    Fault::Spike => 0.02 + 8.0 * size,
                    // What was not seen is a guess.
                    Fault::Dropout => 0.15 + 20.0 * size,
                };
                assert!(off < most, "{seed} {fault:?}: {off} of {most}");
            }
        }
    }
    println!("{hit} of {put} found, {more} where there are none");
    assert!(hit as f64 >= 0.95 * f64::from(put as u32) && more == 0);
}

#[test]
fn jumps_corners_and_holds_of_an_animator_are_no_faults() {
    for seed in 0..40 {
        let mut dice = Dice(seed);
        for size in [0.0, 0.002] {
            let (_, mut made) = captured(&mut dice, 300, [size; 3]);
            let [jump, corner, hold] = [40, 120, 200].map(|from| from + dice.below(40) as usize);
            let (far, pace) = (dice.between(0.5, 1.5), dice.between(0.02, 0.1));
            for (index, value) in made[0].iter_mut().enumerate() {
                *value += if index >= jump { far } else { 0.0 };
                *value += if index >= corner { -pace * (index - corner) as f64 } else { 0.0 };
            }
            if size == 0.0 {
                // A pose that is held, and left from one frame to the next: nothing that a sensor does.
                for channel in &mut made {
                    let value = channel[hold];
                    channel[hold..hold + 12].fill(value);
                    channel[hold + 12..].iter_mut().for_each(|later| *later += far);
                }
            }
            let found = bridged(&scene(&made), &[]).faults;
            assert!(found.is_empty(), "{seed} {size}: {found:?}");
        }
    }
}

#[test]
fn what_is_bridged_keeps_the_form_that_it_has() {
    let mut dice = Dice(4);
    let (clean, mut noisy) = captured(&mut dice, 300, [0.001; 3]);
    noisy.iter_mut().for_each(|channel| channel[150] += 0.5);
    let mut source = scene(&noisy);
    let Controller::Samples(samples) = &mut source.takes[0].layers[0].tracks[0].controller else { panic!() };
    let turn = |row: &[f64]| quat_from_euler(RotationOrder::Xyz, DVec3::from_slice(row));
    let turns: Vec<DQuat> = (0..300).map(|index| turn(samples.row(index))).collect();
    samples.kind = SampleKind::Quaternion;
    // All of the other sign: the one that is put in has to be, too.
    samples.values = turns.iter().flat_map(|turn| (-*turn).to_array()).collect();
    let Bridged { scene: result, faults } = bridged(&source, &[]);
    assert_eq!(faults.len(), 1);
    let Controller::Samples(made) = &result.takes[0].layers[0].tracks[0].controller else { panic!() };
    assert_eq!(made.kind, SampleKind::Quaternion);
    let at = |index: usize| DQuat::from_slice(made.row(index));
    assert!(at(149).dot(at(150)) > 0.99 && at(150).dot(at(151)) > 0.99);
    let wanted = [0, 1, 2].map(|axis: usize| clean[axis][150]);
    assert!(at(150).angle_between(turn(&wanted)).min(at(150).angle_between(-turn(&wanted))) < 0.01);
    assert!((0..300).filter(|index| *index != 150).all(|index| at(index) == -turns[index]));
}
