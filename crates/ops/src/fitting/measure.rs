//! What fitted channels come to together: how far they are off at their samples, and out of what is plausible between them.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Cursor, Curve};
use nimble_curve_curves::fit::{BEYOND_BAND, Interval, Offset, Origin, Readings, Runs, Window};
use nimble_curve_curves::rotation::{along_arc, angle_between, from_vector, to_vector};
use nimble_curve_scene::ledger::MeasuredError;

use super::Fitting;
use super::rotation::Rotation;

/// One channel's curve, and what it was made of.
pub(super) struct FittedChannel {
    pub curve: Curve,
    /// Whether its samples ever change.
    pub moves: bool,
    pub origin: Origin,
    pub readings: Readings,
    /// The stretches that were fitted, from one sample to another.
    pub fitted: Vec<(usize, usize)>,
}

/// The stretches of a channel that were fitted, read from front to back.
pub(super) struct Stretches<'a>(&'a [(usize, usize)]);

impl Stretches<'_> {
    pub(super) fn of(channel: &FittedChannel) -> Stretches<'_> {
        Stretches(if channel.moves { &channel.fitted } else { &[] })
    }

    /// Whether the interval after a sample was fitted; no earlier one is asked for later.
    pub(super) fn holds(&mut self, index: usize) -> bool {
        while self.0.first().is_some_and(|(_, to)| *to <= index) {
            self.0 = &self.0[1..];
        }
        self.0.first().is_some_and(|(from, _)| *from <= index)
    }
}

/// How far the channels of a track are off together.
pub(super) struct Measured {
    /// At the samples: the angle of rotations, the distance of vectors. Its place is in ticks.
    pub error: MeasuredError,
    /// The largest part of the tolerance that it uses up there.
    pub used: f64,
    /// The samples at which that is more than all of it.
    pub over: Vec<(usize, f64)>,
    /// The intervals in which a value is farther from what is plausible than it may be, though each channel may not be, with
    /// what is.
    pub out: Vec<(usize, Plausible)>,
}

/// What is plausible in an interval, channel by channel at each eighth of the way.
#[derive(Clone, Copy, Default)]
pub(super) struct Plausible {
    /// What all of them span.
    pub bands: [[Interval; 7]; 4],
    /// Straight on.
    pub straight: [[f64; 7]; 4],
}

/// Where a value is looked at from one sample to the next: the middle and two beside it tell whether all are needed.
const QUARTERS: [f64; 3] = [0.25, 0.5, 0.75];
/// As near to the straight way at quarters, in parts of what is allowed, a value needs no closer look.
const NEAR: f64 = 0.85;
const EIGHTHS: [f64; 7] = [0.125, 0.25, 0.375, 0.5, 0.625, 0.75, 0.875];

impl Fitting {
    /// How far curves are off; between samples only what was fitted counts.
    pub(super) fn measure(&self, channels: &[FittedChannel]) -> Measured {
        let mut measured = Measured {
            error: MeasuredError::none(self.quantity),
            used: 0.0,
            over: Vec::new(),
            out: Vec::new(),
        };
        let mut cursors: Vec<Cursor<'_>> =
            channels.iter().map(|channel| Cursor::new(&channel.curve)).collect();
        let mut stretches: Vec<Stretches<'_>> = channels.iter().map(Stretches::of).collect();
        let (mut own, mut wanted) = (vec![0.0; channels.len()], vec![0.0; channels.len()]);
        let mut fitted = vec![false; channels.len()];
        let turns = self.rotation.as_ref().filter(|_| !self.per_channel).map(|_| self.turns());
        for index in 0..self.len() {
            let time = (self.start + self.rate.ticks(index as i64)).as_f64();
            for (channel, cursor) in cursors.iter_mut().enumerate() {
                wanted[channel] = self.channels[channel][index];
                own[channel] = cursor.value_at(time).unwrap_or(wanted[channel]);
            }
            let size = match &self.rotation {
                _ if self.per_channel => self.apart(&own, &wanted),
                Some(Rotation { said_by, turns }) => angle_between(turns[index], said_by.turn(&own)),
                None => self.apart(&own, &wanted),
            };
            measured.error.take(size, time);
            let used = size / self.tolerance_at(index);
            measured.used = measured.used.max(used);
            if used > 1.0 {
                measured.over.push((index, used));
            }
            if index + 1 == self.len() || self.stride > 1 {
                continue;
            }
            let tolerance =
                0.995 * BEYOND_BAND * 0.5 * (self.tolerance_at(index) + self.tolerance_at(index + 1));
            for (fitted, stretch) in fitted.iter_mut().zip(&mut stretches) {
                *fitted = stretch.holds(index);
            }
            let out = match &turns {
                Some(runs) => {
                    // What was recovered and stands still leaves the others to be held to what is plausible.
                    let counts = |channel: usize| {
                        let samples = &self.channels[channel];
                        fitted[channel] || samples[index] == samples[index + 1]
                    };
                    let all = (0..channels.len()).all(counts);
                    all.then(|| self.twisted(runs, index, tolerance, &mut cursors)).flatten()
                }
                None => self.astray(channels, &fitted, index, tolerance, &mut cursors),
            };
            measured.out.extend(out.map(|plausible| (index, plausible)));
        }
        measured
    }

    /// What is plausible after a sample, if the channels of a place, or one number, are farther than some distance from that;
    /// only those count that were fitted there.
    fn astray(
        &self,
        channels: &[FittedChannel],
        fitted: &[bool],
        index: usize,
        tolerance: f64,
        cursors: &mut [Cursor<'_>],
    ) -> Option<Plausible> {
        let start = (self.start + self.rate.ticks(index as i64)).as_f64();
        let mut off = |u: f64, wanted: &dyn Fn(usize, f64) -> f64| {
            let time = start + u * self.rate.ticks_per_frame();
            let (mut own, mut there) = ([0.0; 3], [0.0; 3]);
            for (channel, cursor) in cursors.iter_mut().enumerate().filter(|(channel, _)| fitted[*channel]) {
                own[channel] = cursor.value_at(time).unwrap_or(0.0);
                there[channel] = wanted(channel, own[channel]);
            }
            self.apart(&own, &there)
        };
        let straight = |channel: usize, u: f64| {
            let (from, to) = (self.channels[channel][index], self.channels[channel][index + 1]);
            from + (to - from) * u
        };
        if QUARTERS.iter().all(|&u| off(u, &|channel, _| straight(channel, u)) <= NEAR * tolerance) {
            return None;
        }
        let band =
            |channel: usize, u: f64| channels[channel].readings.between(&self.channels[channel], index, u);
        EIGHTHS.iter().any(|&u| off(u, &|channel, value| band(channel, u).nearest(value)) > tolerance).then(
            || {
                let mut plausible = Plausible::default();
                for channel in (0..channels.len().min(3)).filter(|channel| fitted[*channel]) {
                    plausible.bands[channel] = EIGHTHS.map(|u| band(channel, u));
                    plausible.straight[channel] = EIGHTHS.map(|u| straight(channel, u));
                }
                plausible
            },
        )
    }

    /// How far two values are apart: their distance, or where each channel counts by itself the largest of theirs.
    fn apart(&self, a: &[f64], b: &[f64]) -> f64 {
        let each = a.iter().zip(b).map(|(a, b)| (a - b).abs());
        match self.per_channel {
            true => each.fold(0.0, f64::max),
            false => each.map(|apart| apart * apart).sum::<f64>().sqrt(),
        }
    }

    /// Where a rotation's samples are one motion.
    fn turns(&self) -> Runs {
        let Some(Rotation { turns, .. }) = &self.rotation else { return Runs::default() };
        let step = |at: usize| to_vector(turns[at].conjugate() * turns[at + 1]);
        let bend = |at: usize| (step(at) - step(at - 1)).length();
        Runs::of(turns.len(), |at| step(at).length(), bend)
    }

    /// What is plausible after a sample, if the rotation is farther than some angle from that.
    fn twisted(
        &self,
        runs: &Runs,
        index: usize,
        tolerance: f64,
        cursors: &mut [Cursor<'_>],
    ) -> Option<Plausible> {
        let Rotation { said_by, turns } = self.rotation.as_ref()?;
        let (from, to) = (turns[index], turns[index + 1]);
        let mut at = |u: f64| {
            let time =
                (self.start + self.rate.ticks(index as i64)).as_f64() + u * self.rate.ticks_per_frame();
            let mut numbers = [0.0; 4];
            for ((channel, cursor), number) in cursors.iter_mut().enumerate().zip(&mut numbers) {
                *number = cursor.value_at(time).unwrap_or(self.channels[channel][index]);
            }
            said_by.turn(&numbers)
        };
        if QUARTERS.iter().all(|&u| angle_between(at(u), along_arc(from, to, u)) <= NEAR * tolerance) {
            return None;
        }
        const ROUND: f64 = 2.5;
        let offset = |turn: DQuat| -> Option<Offset> {
            let [x, y, z] = to_vector(from.conjugate() * turn).to_array();
            let is_told = x * x + y * y + z * z < ROUND * ROUND;
            is_told.then_some([x, y, z, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0])
        };
        let window = Window::around(runs, index, |sample| offset(turns[sample]))?;
        let is_out = |&u: &f64| offset(at(u)).is_none_or(|value| window.departure(&value, u) > tolerance);
        EIGHTHS.iter().any(is_out).then(|| {
            let numbers = |index: usize| {
                let number = |channel: usize| self.channels.get(channel).map_or(0.0, |own| own[index]);
                DVec4::from_array([0, 1, 2, 3].map(number))
            };
            let (first, last) = (numbers(index), numbers(index + 1));
            let mut plausible = Plausible::default();
            for (eighth, &u) in EIGHTHS.iter().enumerate() {
                let near = |turn: DQuat| said_by.numbers(turn, first.lerp(last, u));
                let straight = near(along_arc(from, to, u));
                let spanned =
                    window.spanned(u).map(|[x, y, z, ..]| near(from * from_vector(DVec3::new(x, y, z))));
                for axis in 0..4 {
                    plausible.straight[axis][eighth] = straight[axis];
                    let all = [
                        straight[axis],
                        spanned[0][axis],
                        spanned[1][axis],
                        spanned[2][axis],
                        spanned[3][axis],
                    ];
                    plausible.bands[axis][eighth] = Interval::around(&all);
                }
            }
            plausible
        })
    }
}
