//! Where limbs come to their whole length, or are folded: from there on their joints turn as a root goes, which no keys on frames follow.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::time::{FrameRate, Ticks};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::evaluate::{EvaluateError, Solver};
use nimble_curve_scene::scene::{Scene, Take};

use super::drivers::Drivers;
use super::onto::away::quarters;

/// How far the nearest keys stand to either side of such an instant, in frames: a turn that goes as a root, by 30 degrees in the first
/// frame, gets to a twentieth of a degree by then.
const NEAREST: f64 = 1.0 / 262_144.0;

/// Each key stands so many times as far off as the one before it: between two of them a cubic with the right slopes is off by less than a
/// hundredth of what the turn has come to.
const APART: f64 = 4.0;

/// How many such distances there are: up to a quarter of a frame.
const LADDER: usize = 9;

/// How many halvings nearer keys stand where the ladder is not close enough: a turn as above gets to a hundredth of a degree by then.
const NEARER: usize = 6;

/// So near to the end of its reach a limb counts as at it, in proportion.
const AT_THE_END: f64 = 1e-12;

/// Where looks a quarter of a frame apart come so near, what lies between is looked at.
const NEAR: f64 = 1e-2;

/// What comes so near to its whole length turns round as in a corner: the joints are by a hundredth of a turn away from straight.
const TOUCHING: f64 = 1e-4;

/// By joint, the instants about which its limb comes to its whole length, and others between these and nearer, which take what a cubic is
/// off between two of them to a twentieth.
pub type StraightTimes = BTreeMap<NodeRef, [Vec<Ticks>; 2]>;

/// How closely keys may stand there: not at all, on the first of these instants, on both.
pub const CLOSEST: usize = 2;

/// Where to look for what keys elsewhere miss: at these instants, and halfway between them, on whole ticks: what jumps does so between two.
pub fn looks_at(times: &StraightTimes) -> Vec<f64> {
    let all: BTreeSet<Ticks> = times.values().flatten().flatten().copied().collect();
    let all: Vec<f64> = all.into_iter().map(Ticks::as_f64).collect();
    let halves = all.windows(2).map(|pair| ((pair[0] + pair[1]) * 0.5).round());
    let mut looks: Vec<f64> = all.iter().copied().chain(halves).collect();
    looks.sort_by(f64::total_cmp);
    looks
}

/// For the joints of limbs among some constraints, the instants about which they come to their whole length, with a ladder of others to the
/// side on which they bend.
pub fn straight_times(
    scene: &Scene,
    take: &Take,
    chosen: &BTreeSet<usize>,
) -> Result<StraightTimes, EvaluateError> {
    let mut times = StraightTimes::new();
    for &index in chosen {
        let constraint = &scene.constraints[index];
        if !matches!(constraint.kind, ConstraintKind::Limb(_)) {
            continue;
        }
        let driven = constraint.driven();
        // Between samples nobody knows the motion.
        let tracks = Drivers::of(scene, constraint.node)?.tracks(scene, take);
        if tracks.iter().any(|(_, track)| track.controller.samples().is_some()) {
            continue;
        }
        let mut solver = Solver::new(scene, Some(take), driven.iter().copied())?;
        let mut own = [Vec::new(), Vec::new()];
        let mut beyond = |time: f64| {
            solver.solve(time);
            solver.out_of_reach(index)
        };
        let looks: Vec<(f64, [Option<f64>; 2])> =
            quarters(scene.rate, take.range).map_while(|time| Some((time, beyond(time)?))).collect();
        for side in 0..2 {
            let looked: Vec<Look> = looks.iter().map_while(|(time, by)| Some((*time, by[side]?))).collect();
            let mut by = |time: f64| beyond(time).and_then(|by| by[side]).unwrap_or(-1.0);
            ladders(looked, &mut by, scene.rate, &mut own);
        }
        own.iter_mut().for_each(|times| times.retain(|time| take.range.contains(*time)));
        for joint in driven.into_iter().filter(|_| !own[0].is_empty()) {
            let all = times.entry(joint).or_default();
            all.iter_mut().zip(&own).for_each(|(all, own)| all.extend(own));
        }
    }
    Ok(times)
}

/// An instant with how far a goal is out of reach, in proportion to the length of its limb.
type Look = (f64, f64);

/// The instants about which a goal comes to the end of a limb's reach, and others between these and nearer.
fn ladders(
    mut looked: Vec<Look>,
    beyond: &mut impl FnMut(f64) -> f64,
    rate: FrameRate,
    times: &mut [Vec<Ticks>; 2],
) {
    let mut add = |at: f64, way: f64| {
        times[0].extend(ladder(at, way, rate.ticks_per_frame()));
        times[1].extend(rungs_between(at, way, rate.ticks_per_frame()));
    };
    let turns = turns(&looked, beyond);
    looked.extend(&turns);
    looked.sort_by(|a, b| a.0.total_cmp(&b.0));
    for pair in looked.windows(2) {
        let (low, high) = (pair[0], pair[1]);
        match (is_beyond(low.1), is_beyond(high.1)) {
            (true, true) | (false, false) => {}
            (then, _) => {
                let at = crossing((low.0, high.0), then, beyond);
                add(at, if then { 1.0 } else { -1.0 });
            }
        }
    }
    // It comes near, and turns back.
    for (at, by) in turns {
        if !is_beyond(by) && by > -TOUCHING {
            [1.0, -1.0].into_iter().for_each(|way| add(at, way));
        }
    }
}

/// Where the way turns between looks: a limb may come to its length and bend again within a quarter of a frame.
fn turns(looked: &[Look], beyond: &mut impl FnMut(f64) -> f64) -> Vec<Look> {
    let mut all = Vec::new();
    for three in looked.windows(3) {
        let [before, here, after] = [three[0].1, three[1].1, three[2].1];
        let is_top = here >= before && here >= after && here > -NEAR;
        let is_dip = here <= before && here <= after && here < NEAR;
        if is_top || is_dip {
            let sign = if is_top { 1.0 } else { -1.0 };
            let at = turning((three[0].0, three[2].0), |time| sign * beyond(time));
            all.push((at, beyond(at)));
        }
    }
    all
}

/// Where a function is largest between two instants (golden section; Kiefer, Proc. AMS 4, 1953).
fn turning((mut low, mut high): (f64, f64), mut of: impl FnMut(f64) -> f64) -> f64 {
    const PART: f64 = 0.618_033_988_749_894_9;
    let [mut left, mut right] = [high - PART * (high - low), low + PART * (high - low)];
    let [mut at_left, mut at_right] = [of(left), of(right)];
    while high - low > 64.0 {
        if at_left > at_right {
            (high, right, at_right) = (right, left, at_left);
            left = high - PART * (high - low);
            at_left = of(left);
        } else {
            (low, left, at_left) = (left, right, at_right);
            right = low + PART * (high - low);
            at_right = of(right);
        }
    }
    (low + high) * 0.5
}

/// The instant at which a limb stops being straight, or bent, to a tick.
fn crossing((mut low, mut high): (f64, f64), then: bool, beyond: &mut impl FnMut(f64) -> f64) -> f64 {
    while high - low > 1.0 {
        let middle = (low + high) * 0.5;
        if is_beyond(beyond(middle)) == then { low = middle } else { high = middle }
    }
    low
}

/// Whether a goal is at the end of a limb's reach, or out of it.
fn is_beyond(by: f64) -> bool {
    by >= -AT_THE_END
}

/// Instants to both sides of one, closer and closer to it.
pub fn about(at: f64, rate: FrameRate) -> impl Iterator<Item = Ticks> {
    let frame = rate.ticks_per_frame();
    [1.0, -1.0].into_iter().flat_map(move |way| ladder(at, way, frame))
}

/// An instant just before one, and more and more distant ones after it, or the other way round.
fn ladder(at: f64, way: f64, frame: f64) -> impl Iterator<Item = Ticks> {
    let steps = (0..LADDER).map(move |step| NEAREST * APART.powi(step as i32));
    let ticks = move |frames: f64| Ticks((at + way * frames * frame).round() as i64);
    std::iter::once(-NEAREST).chain(steps).map(ticks)
}

/// Instants halfway between those of a ladder in proportion, and nearer ones, down to a tick.
fn rungs_between(at: f64, way: f64, frame: f64) -> impl Iterator<Item = Ticks> {
    let halves = (0..LADDER).map(|step| NEAREST * APART.powi(step as i32) * APART.sqrt());
    let nearer = (1..=NEARER).map(|step| NEAREST / APART.sqrt().powi(step as i32));
    halves.chain(nearer).map(move |frames| Ticks((at + way * frames * frame).round() as i64))
}
