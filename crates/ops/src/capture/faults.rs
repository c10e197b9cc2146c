//! Samples that are no motion: single ones far off, and stretches in which nothing was seen.

use std::borrow::Cow;

use glam::DVec3;
use nimble_curve_curves::noise::reach;
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, Samples};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Track};

use super::points::Points;
use super::{samples_of, sizes};
use crate::Tolerance;

/// What is wrong with a sample or some.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// One sample far off between samples that go on as if it were not.
    Spike,
    /// Samples that repeat the one before them, after which the motion is elsewhere at once: nothing was seen.
    Dropout,
}

/// A fault of one channel.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelFault {
    /// The take.
    pub take: String,
    /// The channel's address.
    pub channel: String,
    /// What it is.
    pub fault: Fault,
    /// The first and the last frame of what is wrong.
    pub frames: (f64, f64),
    /// How far off, or how far the leap at the end.
    pub off: f64,
    /// What that is measured in.
    pub quantity: Quantity,
}

/// A scene without faults.
#[derive(Clone, Debug)]
pub struct Bridged {
    /// The scene; channels that had faults are samples.
    pub scene: Scene,
    /// What was bridged.
    pub faults: Vec<ChannelFault>,
}

/// Samples from one to another that are no motion.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Stretch {
    pub fault: Fault,
    pub from: usize,
    pub to: usize,
    pub off: f64,
}

/// A spike is so many times as far off as noise reaches.
const BEYOND_NOISE: f64 = 4.0;
/// Where there is no noise, it is so many of the usual tolerances off.
const BEYOND_TOLERANCE: f64 = 10.0;
/// It stands out from the steps around it by so much.
const BEYOND_STEPS: f64 = 2.0;
/// A stretch in which nothing was seen repeats a sample so often at least, and for so many seconds at most.
const REPEATS: (usize, f64) = (2, 1.0);
/// At its end the motion leaps by so many times what noise reaches, and so many times the steps beside it.
const LEAPS: (f64, f64) = (1.5, 3.0);
/// Sensors are never as still as this part of what a channel may usually be off: what has less noise was made, and holds mean
/// something.
const SENSED: f64 = 0.1;

/// The faults of a track's samples, whose noise reaches so far and which may usually be off so much.
fn stretches(points: &Points, noise: f64, usual: f64, fps: f64) -> Vec<Stretch> {
    let far = (BEYOND_NOISE * noise).max(BEYOND_TOLERANCE * usual);
    let mut found = Vec::new();
    let mut index = 1;
    while index + 1 < points.len() {
        let run = (index - 1..points.len() - 1).take_while(|&at| points.stays(at)).count();
        if run >= REPEATS.0 {
            let is_sensed = noise > SENSED * usual;
            found.extend(dropout(points, index, run, noise.max(usual), fps).filter(|_| is_sensed));
            index += run + 1;
            continue;
        }
        if let Some(off) = spike(points, index).filter(|off| *off > far) {
            found.push(Stretch { fault: Fault::Spike, from: index, to: index, off });
            index += 1;
        }
        index += 1;
    }
    found
}

/// How far a sample is from where its neighbours let expect it, if it stands out from them.
fn spike(points: &Points, at: usize) -> Option<f64> {
    if at < 2 || at + 2 >= points.len() {
        return None;
    }
    // Around it, from the sample before it on.
    let around: [DVec3; 5] = [0, 1, 2, 3, 4].map(|nth| points.offset(at - 1, at + nth - 2));
    let expected = (4.0 * (around[1] + around[3]) - around[0] - around[4]) / 6.0;
    let off = (around[2] - expected).length();
    // Jumps and corners have steps as large on one side, or across.
    let steps = [around[1] - around[0], around[4] - around[3], 0.5 * (around[3] - around[1])];
    steps.iter().all(|step| step.length() * BEYOND_STEPS <= off).then_some(off)
}

/// The stretch after the sample before `index` that repeats it `run` times, if it ends in a leap.
fn dropout(points: &Points, index: usize, run: usize, noise: f64, fps: f64) -> Option<Stretch> {
    let (before, last) = (index - 1, index - 1 + run);
    if before < 3 || last + 4 >= points.len() || run as f64 > REPEATS.1 * fps {
        return None;
    }
    let leap = points.offset(last, last + 1).length();
    let steps = (before - 3..before).chain(last + 1..last + 4).map(|at| points.offset(at, at + 1).length());
    let usual_step = steps.sum::<f64>() / 6.0;
    (leap > LEAPS.0 * noise && leap > LEAPS.1 * usual_step).then_some(Stretch {
        fault: Fault::Dropout,
        from: index,
        to: last,
        off: leap,
    })
}

/// Puts what was wrong where the motion around it leads: along the cubic from the sample before to the one after, with the
/// slopes there.
fn bridge(points: &mut Points, stretch: &Stretch) {
    let (from, to) = (stretch.from - 1, stretch.to + 1);
    let length = (to - from) as f64;
    let whole = points.offset(from, to);
    // Slopes over up to three samples: noise counts less.
    let back = 3.min(from);
    let on = 3.min(points.len() - 1 - to);
    let start = -points.offset(from, from - back) / back.max(1) as f64;
    let end = (points.offset(from, to + on) - whole) / on.max(1) as f64;
    for at in stretch.from..=stretch.to {
        let u = (at - from) as f64 / length;
        let r = 1.0 - u;
        let offset =
            whole * (u * u * (3.0 - 2.0 * u)) + start * (length * u * r * r) - end * (length * u * u * r);
        points.put(at, from, offset);
    }
}

/// A track's samples with what is wrong among them.
struct Looked<'a> {
    samples: Cow<'a, Samples>,
    kind: PropertyKind,
    points: Points,
    found: Vec<Stretch>,
}

impl<'a> Looked<'a> {
    /// Looks at a track; `None` where it is not baked, or of matrices.
    fn at(scene: &Scene, take: &Take, layer: usize, track: &'a Track) -> Option<Looked<'a>> {
        let (samples, kind) = samples_of(scene, take, layer, track)?;
        let points = Points::of(&samples)?;
        let usual = Tolerance::default().of(kind.quantity(), &scene.space);
        // Where no noise is told, what is usual says what is far.
        let noise = sizes(&points, samples.kind.width()).map_or(0.0, |sizes| reach(&sizes));
        let found = stretches(&points, noise, usual, samples.rate.fps());
        Some(Looked { samples, kind, points, found })
    }

    /// What is wrong, with the frames that it is on.
    fn faults(&self, scene: &Scene, take: &Take, channel: &str) -> impl Iterator<Item = ChannelFault> {
        let frame = |index: usize| scene.rate.frame(self.samples.time(index));
        self.found.iter().map(move |stretch| ChannelFault {
            take: take.name.clone(),
            channel: channel.to_owned(),
            fault: stretch.fault,
            frames: (frame(stretch.from), frame(stretch.to)),
            off: stretch.off,
            quantity: self.kind.quantity(),
        })
    }

    /// The samples without it.
    fn bridged(mut self) -> Samples {
        let mut samples = self.samples.into_owned();
        for stretch in &self.found {
            bridge(&mut self.points, stretch);
            (stretch.from..=stretch.to).for_each(|at| self.points.write(at, &mut samples));
        }
        samples
    }
}

/// The faults of one track.
pub(crate) fn faults(
    scene: &Scene,
    take: &Take,
    (layer, track): (usize, &Track),
    channel: &str,
) -> Vec<ChannelFault> {
    let looked = Looked::at(scene, take, layer, track);
    looked.map_or(Vec::new(), |looked| looked.faults(scene, take, channel).collect())
}

/// All that is baked without its faults: single samples far off, and stretches in which nothing was seen, lie where the
/// motion around them leads. As far as `only` goes, by address; all channels where there are none.
pub fn bridged(scene: &Scene, only: &[String]) -> Bridged {
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut faults = Vec::new();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        let tracks = out.layers.iter_mut().flat_map(|layer| &mut layer.tracks);
        for ((layer, track), out) in take.tracks().zip(tracks) {
            let channel = addresses.property(&track.target);
            if !only.is_empty() && !only.contains(&channel) {
                continue;
            }
            let Some(looked) = Looked::at(scene, take, layer, track) else { continue };
            if !looked.found.is_empty() {
                faults.extend(looked.faults(scene, take, &channel));
                out.controller = Controller::Samples(looked.bridged());
            }
        }
    }
    Bridged { scene: result, faults }
}
