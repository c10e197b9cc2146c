//! Controllers: what drives one property of one node.

use nimble_curve_curves::curve::{Curve, CurveError, DiscreteCurve, Interpolation, Key};
pub use nimble_curve_curves::rotation::{
    EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey,
};
use nimble_curve_curves::rotation::{KeyedRotation, RotationOrder};
pub use nimble_curve_curves::tcb::{TcbCurve, TcbKey, TcbKeys};
use nimble_curve_curves::time::{FrameRate, TICKS_PER_SECOND, Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use thiserror::Error;

/// What drives a property. It keeps its type through every operation that can keep it.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "the large one is the usual one")]
pub enum Controller {
    /// One value throughout.
    Constant(Value),
    /// One curve a component: one for a number, three for a vector, sixteen for a matrix by columns. A curve
    /// without keys leaves its component at rest.
    Components(Vec<Curve>),
    /// Curves of three Euler angles.
    Euler(EulerCurves),
    /// Keys that are rotations.
    Quaternion(QuaternionCurve),
    /// Keys shaped by tension, continuity and bias.
    Tcb(TcbCurve),
    /// Values that only hold.
    Discrete(DiscreteCurve),
    /// Baked data at a uniform step.
    Samples(Samples),
    /// Several controllers, summed with weights.
    Stack(Vec<StackEntry>),
    /// Something this program cannot evaluate, kept as text beside its sampled result.
    Procedural(Procedural),
}

/// What the numbers of samples are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SampleKind {
    /// One number a sample.
    Number,
    /// Three numbers a sample.
    Vector,
    /// Three Euler angles a sample, in radians, by axis.
    Euler(RotationOrder),
    /// A quaternion a sample: x, y, z, w.
    Quaternion,
    /// A matrix a sample: sixteen numbers by columns.
    Matrix,
}

impl SampleKind {
    /// How many numbers a sample has.
    pub fn width(self) -> usize {
        match self {
            SampleKind::Number => 1,
            SampleKind::Vector | SampleKind::Euler(_) => 3,
            SampleKind::Quaternion => 4,
            SampleKind::Matrix => 16,
        }
    }
}

/// Baked data: values at a uniform step, stored densely.
#[derive(Clone, Debug, PartialEq)]
pub struct Samples {
    /// When the first sample is.
    pub start: Ticks,
    /// Samples per second.
    pub rate: FrameRate,
    /// What the numbers are.
    pub kind: SampleKind,
    /// The numbers, sample after sample.
    pub values: Vec<f64>,
}

impl Samples {
    /// How many samples there are.
    pub fn len(&self) -> usize {
        self.values.len() / self.kind.width()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// When a sample is.
    pub fn time(&self, index: usize) -> Ticks {
        self.start + self.rate.ticks(index as i64)
    }

    /// The numbers of a sample.
    pub fn row(&self, index: usize) -> &[f64] {
        let width = self.kind.width();
        &self.values[index * width..(index + 1) * width]
    }

    /// The samples as curves, one a component, with a straight line from each to the next.
    ///
    /// # Panics
    /// Where a number is not finite, which no valid scene has.
    pub fn lines(&self) -> Vec<Curve> {
        let curve = |component: usize| {
            let key = |index: usize| {
                let key = Key::new(self.time(index), self.row(index)[component]);
                key.with_interpolation(Interpolation::Linear).with_slope(0.0)
            };
            Curve::new((0..self.len()).map(key).collect()).expect("samples ascend, and are finite")
        };
        (0..self.kind.width()).map(curve).collect()
    }

    /// The sample just before a time in ticks, and how far the time is towards the next, 0 to 1.
    pub fn locate(&self, time: f64) -> (usize, f64) {
        let last = self.len().saturating_sub(1);
        let position = (time - self.start.as_f64()) / self.rate.ticks_per_frame();
        // Sample times are rounded to ticks: a time within a tick of one belongs to it.
        let nearest = position.round();
        let slack = 1.0 / self.rate.ticks_per_frame();
        let position = if (position - nearest).abs() <= slack { nearest } else { position };
        if position >= last as f64 {
            return (last, 0.0);
        }
        let index = position.max(0.0).floor();
        (index as usize, position.max(0.0) - index)
    }
}

/// A weight: of a layer, or of an entry of a stack.
#[derive(Clone, Debug, PartialEq)]
pub enum Weight {
    /// The same throughout; 1 is full.
    Constant(f64),
    /// Animated.
    Curve(Curve),
}

impl Weight {
    /// Full weight.
    pub const FULL: Weight = Weight::Constant(1.0);

    /// The weight at a time in ticks; 1 where its curve has no value.
    pub fn at(&self, time: f64) -> f64 {
        match self {
            Weight::Constant(weight) => *weight,
            Weight::Curve(curve) => curve.value_at(time).unwrap_or(1.0),
        }
    }

    /// The weight where it is the same throughout.
    pub fn constant(&self) -> Option<f64> {
        match self {
            Weight::Constant(weight) => Some(*weight),
            Weight::Curve(curve) if curve.is_constant() => {
                Some(curve.keys().first().map_or(1.0, |k| k.value))
            }
            Weight::Curve(_) => None,
        }
    }

    /// The times of its keys, those outside them within `range` included.
    pub fn key_times(&self, range: TimeRange) -> Vec<Ticks> {
        match self {
            Weight::Constant(_) => Vec::new(),
            Weight::Curve(curve) => curve.key_times(range),
        }
    }
}

/// One entry of a stack of controllers.
#[derive(Clone, Debug, PartialEq)]
pub struct StackEntry {
    /// The entry's name.
    pub name: String,
    /// How much of it counts; 0 switches it off.
    pub weight: Weight,
    /// What it adds.
    pub controller: Controller,
}

/// A controller that cannot be evaluated here.
#[derive(Clone, Debug, PartialEq)]
pub struct Procedural {
    /// What kind of thing it is: an expression, a constraint, a noise.
    pub kind: String,
    /// Its definition.
    pub text: String,
    /// What it came to when it was sampled.
    pub sampled: Option<Box<Controller>>,
}

/// Keys or samples that do not make a controller.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum ControllerError {
    /// In one of its curves.
    #[error(transparent)]
    Curve(#[from] CurveError),
    /// A quaternion of no length.
    #[error("key {index} is a quaternion of length zero")]
    ZeroQuaternion {
        /// Which key, from 0.
        index: usize,
    },
    /// The number of values is not a multiple of what one sample has.
    #[error("{values} values do not make whole samples of {width}")]
    Ragged {
        /// How many values there are.
        values: usize,
        /// How many a sample has.
        width: usize,
    },
}

/// Checks that key times increase.
///
/// # Errors
/// [`CurveError::NotIncreasing`], or [`CurveError::OutOfRange`] beyond the allowed times.
pub fn check_times(times: impl Iterator<Item = Ticks>) -> Result<(), CurveError> {
    let mut last: Option<Ticks> = None;
    for (index, time) in times.enumerate() {
        if !time.is_allowed() {
            return Err(CurveError::OutOfRange { index });
        }
        if last.is_some_and(|last| time <= last) {
            return Err(CurveError::NotIncreasing { index });
        }
        last = Some(time);
    }
    Ok(())
}

/// Start, rate and count of times that stand a step apart, to within a tick.
fn even_times(
    mut times: impl DoubleEndedIterator<Item = Ticks> + ExactSizeIterator + Clone,
) -> Option<(Ticks, FrameRate, usize)> {
    let (all, count) = (times.clone(), times.len());
    let (first, last) = (times.next()?, times.next_back()?);
    let step = (last - first).as_f64() / (count.max(2) - 1) as f64;
    // No shorter than a thousandth of a second is ever baked.
    if count < EVEN_LEAST || !(TICKS_PER_SECOND as f64 / 1000.0..=EVEN_LONGEST).contains(&step) {
        return None;
    }
    let expected = |index: usize| first.as_f64() + step * index as f64;
    let is_even = all.enumerate().all(|(index, time)| (time.as_f64() - expected(index)).abs() <= 1.0);
    let rate = FrameRate::new(TICKS_PER_SECOND as u32, step.round() as u32)?;
    is_even.then_some((first, rate, count))
}

/// Whether the same times are meant, to within a tick at both ends.
fn is_near(a: (Ticks, FrameRate, usize), b: (Ticks, FrameRate, usize)) -> bool {
    let is_close = |a: Ticks, b: Ticks| (a - b).0.abs() <= 1;
    let end = |(start, rate, count): (Ticks, FrameRate, usize)| start + rate.ticks(count as i64 - 1);
    a.2 == b.2 && is_close(a.0, b.0) && (end(a) - end(b)).0.abs() <= a.2 as i64
}

/// Fewer keys than this at an even step are not told from sparse ones.
pub const EVEN_LEAST: usize = 8;

/// The longest even step, in ticks, at which something is sampled: a twelfth of a second. What is farther apart is keyed by hand.
pub const EVEN_LONGEST: f64 = TICKS_PER_SECOND as f64 / 11.9;

impl Controller {
    /// The short name of the type, for tables.
    pub fn type_name(&self) -> &'static str {
        match self {
            Controller::Constant(_) => "constant",
            Controller::Components(_) => "component curves",
            Controller::Euler(_) => "angle curves",
            Controller::Quaternion(_) => "quaternion keys",
            Controller::Tcb(_) => "tension-continuity-bias",
            Controller::Discrete(_) => "discrete keys",
            Controller::Samples(_) => "samples",
            Controller::Stack(_) => "stack",
            Controller::Procedural(_) => "procedural",
        }
    }

    /// The curves in the controller itself (not those of stacked ones).
    pub fn curves(&self) -> &[Curve] {
        match self {
            Controller::Components(curves) => curves,
            Controller::Euler(euler) => &euler.curves,
            _ => &[],
        }
    }

    /// Whether the controller gives a component a value, or leaves it at rest.
    pub fn drives(&self, component: usize) -> bool {
        match self {
            Controller::Components(_) | Controller::Euler(_) => {
                self.curves().get(component).is_some_and(|curve| !curve.is_empty())
            }
            Controller::Stack(entries) => entries.iter().any(|entry| entry.controller.drives(component)),
            Controller::Procedural(p) => p.sampled.as_ref().is_some_and(|c| c.drives(component)),
            _ => true,
        }
    }

    /// How many keys (not samples) there are, stacked controllers included.
    pub fn key_count(&self) -> usize {
        match self {
            Controller::Constant(_) | Controller::Samples(_) => 0,
            Controller::Components(curves) => curves.iter().map(|c| c.keys().len()).sum(),
            Controller::Euler(euler) => euler.curves.iter().map(|c| c.keys().len()).sum(),
            Controller::Quaternion(curve) => curve.keys.len(),
            Controller::Tcb(curve) => match &curve.keys {
                TcbKeys::Number(keys) => keys.len(),
                TcbKeys::Vector(keys) => keys.len(),
                TcbKeys::Rotation(keys) => keys.len(),
            },
            Controller::Discrete(curve) => curve.keys().len(),
            Controller::Stack(entries) => entries.iter().map(|entry| entry.controller.key_count()).sum(),
            Controller::Procedural(_) => 0,
        }
    }

    /// How many keys and sampled numbers there are.
    pub fn value_count(&self) -> usize {
        self.key_count() + self.sample_count()
    }

    /// How many sampled numbers there are.
    pub fn sample_count(&self) -> usize {
        match self {
            Controller::Samples(samples) => samples.values.len(),
            Controller::Stack(entries) => entries.iter().map(|entry| entry.controller.sample_count()).sum(),
            Controller::Procedural(p) => p.sampled.as_ref().map_or(0, |c| c.sample_count()),
            _ => 0,
        }
    }

    /// The rotation order, where the controller is made of Euler angles.
    pub fn order(&self) -> Option<RotationOrder> {
        match self {
            Controller::Euler(EulerCurves { order, .. })
            | Controller::Samples(Samples { kind: SampleKind::Euler(order), .. }) => Some(*order),
            Controller::Constant(value) => value.order(),
            _ => None,
        }
    }

    /// The axis whose turn acts last, where the controller is made of Euler angles.
    pub fn outermost_axis(&self) -> Option<usize> {
        self.order().map(|order| order.axes().0)
    }

    /// When its own keys are, a list a curve; samples, and what came out of them, have none.
    pub fn own_key_times(&self) -> Vec<Vec<Ticks>> {
        let of_curve = |curve: &Curve| curve.keys().iter().map(|key| key.time).collect();
        match self {
            Controller::Constant(_) | Controller::Samples(_) | Controller::Procedural(_) => Vec::new(),
            Controller::Components(_) | Controller::Euler(_) => self.curves().iter().map(of_curve).collect(),
            Controller::Quaternion(curve) => vec![curve.keys.iter().map(|key| key.time).collect()],
            Controller::Tcb(curve) => vec![match &curve.keys {
                TcbKeys::Number(keys) => keys.iter().map(|key| key.time).collect(),
                TcbKeys::Vector(keys) => keys.iter().map(|key| key.time).collect(),
                TcbKeys::Rotation(keys) => keys.iter().map(|key| key.time).collect(),
            }],
            Controller::Discrete(curve) => vec![curve.keys().iter().map(|(time, _)| *time).collect()],
            Controller::Stack(entries) => {
                entries.iter().flat_map(|entry| entry.controller.own_key_times()).collect()
            }
        }
    }

    /// From the first to the last key or sample; `None` where there is none.
    pub fn range(&self) -> Option<TimeRange> {
        let ends = |times: &mut dyn DoubleEndedIterator<Item = Ticks>| {
            let first = times.next()?;
            Some(TimeRange { first, last: times.next_back().unwrap_or(first) })
        };
        let union =
            |ranges: &mut dyn Iterator<Item = Option<TimeRange>>| ranges.flatten().reduce(TimeRange::union);
        match self {
            Controller::Constant(_) => None,
            Controller::Components(curves) => union(&mut curves.iter().map(Curve::range)),
            Controller::Euler(euler) => union(&mut euler.curves.iter().map(Curve::range)),
            Controller::Quaternion(curve) => ends(&mut curve.keys.iter().map(|key| key.time)),
            Controller::Tcb(curve) => match &curve.keys {
                TcbKeys::Number(keys) => ends(&mut keys.iter().map(|key| key.time)),
                TcbKeys::Vector(keys) => ends(&mut keys.iter().map(|key| key.time)),
                TcbKeys::Rotation(keys) => ends(&mut keys.iter().map(|key| key.time)),
            },
            Controller::Discrete(curve) => ends(&mut curve.keys().iter().map(|(time, _)| *time)),
            Controller::Samples(samples) if samples.is_empty() => None,
            Controller::Samples(samples) => {
                Some(TimeRange { first: samples.start, last: samples.time(samples.len() - 1) })
            }
            Controller::Stack(entries) => union(&mut entries.iter().map(|entry| entry.controller.range())),
            Controller::Procedural(p) => p.sampled.as_ref().and_then(|c| c.range()),
        }
    }

    /// The instants at which there is a key, sampled data left out: those of loops within `range`, and the range's
    /// ends where the controller goes on moving, included. In order, each once.
    pub fn key_times(&self, range: TimeRange) -> Vec<Ticks> {
        let mut times = Vec::new();
        self.collect_key_times(range, &mut times);
        times.sort_unstable();
        times.dedup();
        times
    }

    /// Where one of its curves goes up or down all but at once between keys, in ticks.
    pub fn steep_times(&self, range: TimeRange) -> Vec<f64> {
        match self {
            Controller::Stack(entries) => entries
                .iter()
                .flat_map(|entry| {
                    let of_weight = match &entry.weight {
                        Weight::Curve(curve) => curve.steep_times(range),
                        Weight::Constant(_) => Vec::new(),
                    };
                    of_weight.into_iter().chain(entry.controller.steep_times(range)).collect::<Vec<_>>()
                })
                .collect(),
            other => other.curves().iter().flat_map(|curve| curve.steep_times(range)).collect(),
        }
    }

    fn collect_key_times(&self, range: TimeRange, times: &mut Vec<Ticks>) {
        let of_curve = |curve: &Curve, times: &mut Vec<Ticks>| {
            times.extend(curve.key_times(range));
        };
        match self {
            Controller::Constant(_) | Controller::Samples(_) => {}
            Controller::Components(curves) => curves.iter().for_each(|curve| of_curve(curve, times)),
            Controller::Euler(euler) => euler.curves.iter().for_each(|curve| of_curve(curve, times)),
            Controller::Quaternion(curve) => {
                times.extend(KeyedRotation::new(curve).knots(Some(range)).iter().map(|knot| knot.time));
            }
            Controller::Tcb(curve) => match (&curve.keys, curve.numbers()) {
                (TcbKeys::Rotation(keys), _) => {
                    let keyed = KeyedRotation::of_tcb(keys, curve.before, curve.after);
                    times.extend(keyed.knots(Some(range)).iter().map(|knot| knot.time));
                }
                (_, Some(numbers)) => {
                    numbers.curves.iter().for_each(|curve| of_curve(curve, times));
                    times.extend(numbers.clock.iter().flat_map(|clock| clock.corners()));
                }
                (_, None) => {}
            },
            Controller::Discrete(curve) => times.extend(curve.keys().iter().map(|(time, _)| *time)),
            Controller::Stack(entries) => {
                for entry in entries {
                    entry.controller.collect_key_times(range, times);
                    if let Weight::Curve(weight) = &entry.weight {
                        of_curve(weight, times);
                    }
                }
            }
            Controller::Procedural(p) => {
                p.sampled.iter().for_each(|sampled| sampled.collect_key_times(range, times));
            }
        }
    }

    /// Start, rate and count of keys that stand a step apart, those of all curves that move alike, on whole frames or between
    /// them: what was baked to curves looks like that.
    pub fn even_keys(&self) -> Option<(Ticks, FrameRate, usize)> {
        if let Controller::Quaternion(curve) = self {
            let is_straight = |key: &QuaternionKey| key.interpolation == QuaternionInterpolation::Slerp;
            let is_still = curve.keys.windows(2).all(|pair| pair[0].value == pair[1].value);
            let is_baked = !is_still && curve.keys.iter().all(is_straight);
            return even_times(curve.keys.iter().map(|key| key.time)).filter(|_| is_baked);
        }
        let mut moving = self.curves().iter().filter(|curve| !curve.is_empty() && !curve.is_constant());
        let of = |curve: &Curve| even_times(curve.keys().iter().map(|key| key.time));
        let first = of(moving.next()?)?;
        moving.all(|curve| of(curve).is_some_and(|own| is_near(first, own))).then_some(first)
    }

    /// The densest samples in the controller, stacked ones included.
    pub fn samples(&self) -> Option<&Samples> {
        match self {
            Controller::Samples(samples) if !samples.is_empty() => Some(samples),
            Controller::Stack(entries) => entries
                .iter()
                .filter_map(|entry| entry.controller.samples())
                .max_by(|a, b| a.rate.fps().total_cmp(&b.rate.fps())),
            Controller::Procedural(p) => p.sampled.as_ref().and_then(|sampled| sampled.samples()),
            _ => None,
        }
    }
}
