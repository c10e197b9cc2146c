//! Between samples: how far a result is out of what the samples let expect there.
//!
//! The readings that are plausible are those of [`nimble_curve_curves::fit::Readings`], of numbers, of places and, for turns,
//! of rotation vectors from the earlier sample, component by component. They are formed from what both scenes evaluate to.

use nimble_curve_curves::fit::{Offset, Runs, Window};

use super::sides::Sides;

/// So many samples to each side of an interval tell whether a curve was recovered from them.
const TELLING: usize = 4;
/// The most keys that a recovered curve has among these.
const FEW: usize = 3;
/// What was recovered meets its samples to this part of what is allowed.
const MET: f64 = 0.02;
/// Where it is looked at from one sample to the next.
const PARTS: usize = 8;

/// What the result's keys say about what lies between samples.
pub struct Keys {
    /// When the result has keys, curve by curve.
    pub of_curves: Vec<Vec<f64>>,
    /// How far the result may be off at samples.
    pub limit: f64,
}

/// Samples of the source with what the result is off there.
pub struct Samples<'a, V> {
    pub times: &'a [f64],
    pub values: &'a [V],
    pub errors: &'a [f64],
    /// Those of each component, or of all together.
    runs: Vec<Runs>,
}

impl<'a, V> Samples<'a, V> {
    /// `None` where the values are not of a kind that has readings.
    pub fn new<S: Sides<Value = V>>(
        sides: &S,
        times: &'a [f64],
        values: &'a [V],
        errors: &'a [f64],
    ) -> Option<Samples<'a, V>> {
        let steps = values.windows(2).map(|pair| sides.offset(&pair[0], &pair[1]));
        let steps: Vec<Offset> = steps.collect::<Option<_>>()?;
        let mut runs = match sides.is_one() {
            true => {
                let bend = |at: usize| size(&difference(&steps[at], &steps[at - 1]));
                vec![Runs::of(values.len(), |at| size(&steps[at]), bend)]
            }
            false => {
                let used = |component: &usize| steps.iter().any(|step| step[*component] != 0.0);
                let components = (0..9).rfind(used).map_or(1, |last| last + 1);
                let of = |component: usize| {
                    let bend = |at: usize| (steps[at][component] - steps[at - 1][component]).abs();
                    Runs::of(values.len(), |at| steps[at][component].abs(), bend)
                };
                (0..components).map(of).collect()
            }
        };
        // Where samples are missing nothing is known at all.
        let gap = |pair: &[f64]| pair[1] - pair[0];
        let step = times.windows(2).map(gap).fold(f64::INFINITY, f64::min);
        for (index, _) in times.windows(2).enumerate().filter(|(_, pair)| gap(pair) > 1.5 * step) {
            runs.iter_mut().for_each(|runs| runs.gap(index));
        }
        Some(Samples { times, values, errors, runs })
    }

    /// The largest departure after a sample from what is plausible there, with its time; none where anything is.
    pub fn departure<S: Sides<Value = V>>(
        &self,
        sides: &mut S,
        index: usize,
        keys: &Keys,
    ) -> Option<(f64, f64)> {
        let base = &self.values[index];
        let seen = |at: usize| sides.offset(base, &self.values[at]);
        let windows: [Option<Window>; 9] = std::array::from_fn(|component| {
            self.runs.get(component).and_then(|runs| Window::around(runs, index, seen))
        });
        if windows.iter().all(Option::is_none) {
            return None;
        }
        let (from, to) = (self.times[index], self.times[index + 1]);
        let mut largest = (from, 0.0);
        for part in 1..PARTS {
            let u = part as f64 / PARTS as f64;
            let time = from + (to - from) * u;
            let result = sides.result(time);
            let result = sides.offset(base, &result);
            let out = match (result, &windows[..self.runs.len()]) {
                (None, _) => f64::INFINITY,
                (Some(result), [whole]) => whole.as_ref().map_or(0.0, |window| window.departure(&result, u)),
                (Some(result), each) => {
                    let mut out = [0.0; 9];
                    for (component, window) in each.iter().enumerate() {
                        let own = |window: &Window| window.out(component, result[component], u);
                        out[component] = window.as_ref().map_or(0.0, own);
                    }
                    size(&out)
                }
            };
            if out > largest.1 {
                largest = (time, out);
            }
        }
        let is_recovered = largest.1 > 0.0 && self.is_recovered(index, keys);
        Some(if is_recovered { (from, 0.0) } else { largest })
    }

    /// Whether the result meets the samples around all but exactly and has fewer numbers there than they: then its curve is
    /// what they were made from, and knows better than any reading.
    fn is_recovered(&self, index: usize, keys: &Keys) -> bool {
        let (first, last) = (index.saturating_sub(TELLING), (index + 1 + TELLING).min(self.times.len() - 1));
        let (from, to) = (self.times[first], self.times[last]);
        let few = |keys: &Vec<f64>| {
            let here = keys.partition_point(|key| *key <= to) - keys.partition_point(|key| *key < from);
            here <= FEW && 2 * here < last - first + 1
        };
        let most = if keys.limit.is_finite() { MET * keys.limit } else { 1e-9 };
        self.errors[first..=last].iter().all(|error| *error <= most) && keys.of_curves.iter().all(few)
    }
}

fn difference(a: &Offset, b: &Offset) -> Offset {
    std::array::from_fn(|component| a[component] - b[component])
}

fn size(offset: &Offset) -> f64 {
    offset.iter().map(|component| component * component).sum::<f64>().sqrt()
}
