//! How the channels of a track share its tolerance: each is left what those before it did not use up.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use nimble_curve_curves::curve::Cursor;
use nimble_curve_curves::fit::{BEYOND_BAND, ErrorBound, Interval, Narrowed, Readings};

use super::Fitting;
use super::measure::{FittedChannel, Measured, Plausible, Stretches};
use super::rotation::SaidBy;

/// How much of what is allowed the fit is given: less than all of it where the channels together came to more.
pub(super) struct Shares {
    /// The part of the tolerance.
    pub part: f64,
    /// A part of that at each sample, where it is not all of it everywhere.
    near: Vec<f64>,
    /// The intervals in which channels that were plausible one by one were no plausible value, with the row of
    /// [`NARROWER`], and what is plausible there.
    narrowed: BTreeMap<usize, (usize, Plausible)>,
}

/// The part of the band, about the straight way, and of the room beyond it that is left try by try.
const NARROWER: [(f64, f64); 6] = [(1.0, 1.0), (0.5, 1.0), (0.0, 1.0), (0.0, 0.5), (0.0, 0.2), (0.0, 0.0)];

/// The least part of the tolerance that is tried.
const LEAST: f64 = 1e-3;

impl Shares {
    pub(super) fn whole() -> Shares {
        Shares::even(1.0)
    }

    pub(super) fn even(part: f64) -> Shares {
        Shares { part, near: Vec::new(), narrowed: BTreeMap::new() }
    }

    /// The part of the tolerance at a sample.
    pub(super) fn at(&self, index: usize) -> f64 {
        self.part * self.near.get(index).copied().unwrap_or(1.0)
    }

    /// Whether the part is the same at all samples.
    pub(super) fn is_even(&self) -> bool {
        self.near.is_empty()
    }

    /// Gives less along those pieces, between samples `ends`, in which what was measured is too much, and between samples
    /// where that is; whether anything is.
    pub(super) fn shrink_along(&mut self, measured: &Measured, ends: &[usize]) -> bool {
        if !measured.over.is_empty() {
            self.near.resize(ends[ends.len() - 1] + 1, 1.0);
        }
        let mut over = measured.over.iter().peekable();
        for piece in ends.windows(2) {
            let mut most = 1.0_f64;
            while let Some((_, used)) = over.next_if(|(index, _)| *index <= piece[1]) {
                most = most.max(*used);
            }
            if most > 1.0 {
                let less = 0.99 * most.recip().min(0.99);
                self.near[piece[0]..=piece[1]].iter_mut().for_each(|part| *part *= less);
            }
        }
        let narrows = self.narrow(measured);
        narrows || !measured.over.is_empty()
    }

    /// The readings of one channel's samples, as far as they are taken.
    pub(super) fn readings(&self, channel: usize, samples: &[f64]) -> Readings {
        let narrowed = self.narrowed.iter().map(|(&index, (row, plausible))| {
            let (part, room) = NARROWER[*row];
            let bands = std::array::from_fn(|eighth| {
                let (band, straight) =
                    (plausible.bands[channel][eighth], plausible.straight[channel][eighth]);
                let near = |value: f64| straight + part * (value - straight);
                Interval { low: near(band.low), high: near(band.high) }
            });
            (index, Narrowed { bands, room })
        });
        Readings::of(samples).narrowed(narrowed.collect())
    }

    /// Gives less where what was measured is too much; whether it was and there is less to give.
    pub(super) fn shrink(&mut self, measured: &Measured) -> bool {
        let mut shrinks = false;
        if measured.used > 1.0 && self.part >= LEAST {
            self.part *= 0.98 * measured.used.recip().min(0.98);
            shrinks = true;
        }
        self.narrow(measured) || shrinks
    }

    /// Leaves less between samples where what was measured is out of what is plausible; whether there is less to leave.
    fn narrow(&mut self, measured: &Measured) -> bool {
        let mut narrows = false;
        for (index, plausible) in &measured.out {
            match self.narrowed.entry(*index) {
                Entry::Vacant(entry) => {
                    entry.insert((0, *plausible));
                    narrows = true;
                }
                Entry::Occupied(mut entry) if entry.get().0 + 1 < NARROWER.len() => {
                    entry.get_mut().0 += 1;
                    narrows = true;
                }
                Entry::Occupied(_) => {}
            }
        }
        narrows
    }
}

/// The part of the tolerance that so many channels out of so many may use up together.
pub(super) fn budget(so_many: usize, of: usize) -> f64 {
    match (so_many, of) {
        (1, 2) => 0.7,
        (1, 3) => 0.66,
        (2, 3) => 0.85,
        _ => 1.0,
    }
}

/// What the fitted channels of a track are off, at the samples or halfway after each.
#[derive(Default)]
struct Off {
    /// The channels that are fitted, with their errors.
    taken: Vec<(usize, Vec<f64>)>,
    /// What they leave the next channel.
    room: Vec<Interval>,
}

/// What the channels of a track are off, as far as they are fitted.
pub(super) struct Errors<'a> {
    fitting: &'a Fitting,
    at_samples: Off,
    /// How far they are out of the band of plausible values.
    halfway: Off,
    /// For rotations: the channels of the outer axes, and at each sample how far those are one axis (the cosine of the
    /// angle between them).
    outer: Option<([usize; 2], Vec<f64>)>,
}

impl<'a> Errors<'a> {
    pub(super) fn new(fitting: &'a Fitting) -> Errors<'a> {
        let shared = fitting.rotation.as_ref().filter(|_| fitting.moving() > 1);
        let outer = shared.and_then(|rotation| {
            let SaidBy::Angles(order) = rotation.said_by else { return None };
            let (outermost, middle, innermost) = order.axes();
            let cosines = fitting.channels[middle].iter().map(|angle| order.sign() * angle.sin());
            Some(([outermost, innermost], cosines.collect()))
        });
        Errors { fitting, at_samples: Off::default(), halfway: Off::default(), outer }
    }

    /// The room that a channel has so that with those before it the error stays within a part of the tolerance.
    pub(super) fn room_of(&mut self, channel: usize, part: f64) -> ErrorBound<'_> {
        let Errors { fitting, at_samples, halfway, outer } = self;
        let tolerance = part * fitting.tolerance;
        if at_samples.taken.is_empty() && fitting.parts.is_none() {
            return ErrorBound::even(tolerance);
        }
        let outer = outer.as_ref();
        let coupled = |a: usize, b: usize| match outer {
            Some((outer, cosines)) if a != b && outer.contains(&a) && outer.contains(&b) => {
                Some(&cosines[..])
            }
            _ => None,
        };
        let at = |index: usize| part * fitting.tolerance_at(index);
        at_samples.leave(fitting.len(), channel, coupled, at);
        halfway.leave(fitting.len() - 1, channel, coupled, |index| {
            BEYOND_BAND * 0.5 * (at(index) + at(index + 1))
        });
        ErrorBound::by_sample(tolerance, &at_samples.room).with_halfway(Some(&halfway.room))
    }

    pub(super) fn take(&mut self, channel: usize, fitted: &FittedChannel) {
        let (fitting, samples) = (self.fitting, &self.fitting.channels[channel]);
        let mut cursor = Cursor::new(&fitted.curve);
        let mut stretches = Stretches::of(fitted);
        let (mut at_samples, mut halfway) =
            (Vec::with_capacity(samples.len()), Vec::with_capacity(samples.len()));
        for (index, sample) in samples.iter().enumerate() {
            let time = (fitting.start + fitting.rate.ticks(index as i64)).as_f64();
            at_samples.push(cursor.value_at(time).map_or(0.0, |value| value - sample));
            if index + 1 < samples.len() {
                // What was recovered is the truth between samples, too.
                let value = cursor.value_at(time + 0.5 * fitting.rate.ticks_per_frame());
                let off = value.filter(|_| stretches.holds(index));
                halfway.push(off.map_or(0.0, |value| value - fitted.readings.halfway(index).nearest(value)));
            }
        }
        self.at_samples.taken.push((channel, at_samples));
        self.halfway.taken.push((channel, halfway));
    }
}

impl Off {
    /// Finds what is left for a channel at so many instants, within a tolerance at each: the error's square is Σδᵢ², for
    /// rotations 2·cos·δᵢδⱼ more for the outer axes.
    fn leave<'b>(
        &mut self,
        count: usize,
        channel: usize,
        coupled: impl Fn(usize, usize) -> Option<&'b [f64]>,
        tolerance: impl Fn(usize) -> f64,
    ) {
        let coupling = |a: usize, b: usize, index: usize| coupled(a, b).map_or(0.0, |cosines| cosines[index]);
        let taken = &self.taken;
        let left = |index: usize| {
            let (mut square, mut along) = (0.0, 0.0);
            for (nth, (other, errors)) in taken.iter().enumerate() {
                let error = errors[index];
                square += error * error;
                along += coupling(channel, *other, index) * error;
                for (before, errors) in &taken[..nth] {
                    square += 2.0 * coupling(*before, *other, index) * errors[index] * error;
                }
            }
            let tolerance = tolerance(index);
            let half = (along * along - square + tolerance * tolerance).max(0.0).sqrt();
            Interval { low: (-along - half).min(0.0), high: (half - along).max(0.0) }
        };
        self.room.clear();
        self.room.extend((0..count).map(left));
    }
}
