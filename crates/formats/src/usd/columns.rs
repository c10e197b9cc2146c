//! Attributes of numbers over time, taken apart into the numbers of properties.

use std::rc::Rc;

use glam::DMat4;
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::{Controller, SampleKind};
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Key, Ticks};
use nimble_curve_core::time::FrameRate;
use openusd::sdf::Path;

use super::layer::Values;
use super::reader::Reader;
use crate::error::Fault;
use crate::grid;
use crate::steps::{lines, of_curves, straight};

/// Where one number of a property comes from.
#[derive(Clone)]
pub struct Column<'a> {
    pub attribute: Path,
    pub values: Rc<Values<'a>>,
    pub number: usize,
    pub is_angle: bool,
    pub by: f64,
}

impl Column<'_> {
    fn value(&self, number: f64) -> f64 {
        self.by * if self.is_angle { radians(number) } else { number }
    }

    fn numbers(&self) -> Vec<f64> {
        match self.values.as_ref() {
            Values::Samples { width, values, .. } => {
                values.iter().skip(self.number).step_by(*width).map(|&number| self.value(number)).collect()
            }
            Values::Spline(_) => Vec::new(),
        }
    }

    fn curve(&self, reader: &Reader<'_>) -> Result<Curve, Fault> {
        match self.values.as_ref() {
            Values::Spline(spline) => {
                let rise = self.by * if self.is_angle { 1_f64.to_radians() } else { 1.0 };
                spline
                    .curve(&reader.clock, reader.codes, |number| self.value(number), rise)
                    .map_err(|message| Fault::in_part(self.attribute.as_str(), message))
            }
            Values::Samples { codes, gaps, .. } => {
                let times = reader.times(codes, &self.attribute)?;
                let curve = lines(&times, self.numbers().into_iter(), Interpolation::Linear);
                match gaps.is_empty() {
                    true => Ok(curve),
                    false => with_gaps(curve, &reader.times(gaps, &self.attribute)?)
                        .map_err(|message| Fault::in_part(self.attribute.as_str(), message)),
                }
            }
        }
    }
}

/// A curve without values from each of some times to the next key; a value before one of them holds up to it (*OpenUSD*,
/// value resolution: a sample next to a blocked one is held).
fn with_gaps(curve: Curve, gaps: &[Ticks]) -> Result<Curve, String> {
    let mut keys = curve.keys().to_vec();
    let (mut before, mut after) = (Behaviour::Held, Behaviour::Held);
    for &time in gaps {
        let at = keys.partition_point(|key| key.time < time);
        // A gap that a frame ends which it was taken for itself is a hair long.
        let time = match keys.get(at).is_some_and(|key| key.time == time) {
            true => Ticks(time.0 - 1),
            false => time,
        };
        if at > 0 && keys[at - 1].time >= time {
            continue;
        }
        if at == keys.len() {
            after = Behaviour::None;
        }
        match at.checked_sub(1) {
            None => before = Behaviour::None,
            Some(last) if keys[last].interpolation == Interpolation::None => {}
            Some(last) => {
                keys[last].interpolation = Interpolation::Hold;
                let gap = Key::new(time, keys[last].value).with_interpolation(Interpolation::None);
                keys.insert(at, gap.with_slope(0.0));
            }
        }
    }
    let curve = Curve::new(keys).map_err(|error| error.to_string())?;
    Ok(curve.with_behaviours(before, after))
}

/// Matrices at whole frames, with one for each frame between them, blended number by number as other programs do.
///
/// Nothing where that is what translations, rotations and scales do between them by themselves, or where it cannot be said
/// by a sample a frame.
pub fn blended(times: &[Ticks], rows: &[DMat4], rate: FrameRate) -> Option<Vec<DMat4>> {
    /// The most samples that are made of one track, which are hours.
    const MOST: usize = 1 << 20;
    let same_turn =
        |pair: &[DMat4]| (0..3).all(|column| pair[0].col(column).abs_diff_eq(pair[1].col(column), 1e-12));
    if rows.len() < 2 || rows.windows(2).all(same_turn) {
        return None;
    }
    let frames: Vec<f64> = times.iter().map(|&time| rate.frame(time)).collect();
    let (first, last) = (*frames.first()?, *frames.last()?);
    let is_dense = frames.windows(2).all(|pair| pair[1] - pair[0] <= 1.0);
    if is_dense || frames.iter().any(|frame| frame.fract() != 0.0) || last - first > MOST as f64 {
        return None;
    }
    let mut made = Vec::with_capacity((last - first) as usize + 1);
    for (pair, span) in rows.windows(2).zip(frames.windows(2)) {
        let count = (span[1] - span[0]) as usize;
        made.extend((0..count).map(|index| {
            let part = index as f64 / count as f64;
            pair[0] * (1.0 - part) + pair[1] * part
        }));
    }
    made.extend(rows.last());
    Some(made)
}

impl Reader<'_> {
    /// What drives a property, number by number.
    pub fn controller(&self, columns: &[Option<Column<'_>>], kind: SampleKind) -> Result<Controller, Fault> {
        let first = columns.iter().flatten().next().and_then(|column| match column.values.as_ref() {
            Values::Samples { codes, gaps, .. } if gaps.is_empty() => Some((codes, &column.attribute)),
            _ => None,
        });
        let alike = |column: &Option<Column<'_>>| match column.as_ref().map(|column| column.values.as_ref()) {
            Some(Values::Samples { codes, gaps, .. }) => {
                gaps.is_empty() && first.is_some_and(|(all, _)| all == codes)
            }
            _ => false,
        };
        if let Some((codes, attribute)) = first
            && columns.iter().all(alike)
        {
            let times = self.times(codes, attribute)?;
            let mut values = vec![0.0; times.len() * columns.len()];
            for (component, column) in columns.iter().flatten().enumerate() {
                for (row, value) in column.numbers().into_iter().enumerate() {
                    values[row * columns.len() + component] = value;
                }
            }
            return Ok(straight(&times, grid::step(&times, self.clock.rate), kind, values));
        }
        let curves = columns.iter().map(|column| match column {
            Some(column) => column.curve(self),
            None => Ok(Curve::default()),
        });
        Ok(of_curves(kind, curves.collect::<Result<Vec<Curve>, Fault>>()?))
    }
}
