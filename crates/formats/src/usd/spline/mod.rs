//! Splines of USD: their knots and what is outside of them, as the text and the binary form hold them.
//!
//! Widths of tangents count in time codes, slopes in value per time code. Hermite knots have slopes alone: their handles are
//! thirds.

pub mod binary;
pub mod text;

use nimble_curve_core::curve::{Behaviour, Curve, InnerLoop, Interpolation, Key, Tangent};
use nimble_curve_core::time::TICKS_PER_SECOND;

use crate::grid::Clock;

/// The field of an attribute that holds its spline, in binary layers.
pub const FIELD: &str = "spline";
/// The name of the attribute that stands for a spline in a layer without splines, and holds its number.
pub const MARK: &str = "nimbleCurveSpline";
/// The name of the attribute beside it that tells what becomes of its times 0 and 1 where layers are composed.
pub const CLOCK: &str = "nimbleCurveClock";

/// A spline as it stands, times in time codes.
#[derive(Clone, Debug, Default)]
pub struct Spline {
    is_hermite: bool,
    before: Outside,
    after: Outside,
    inner: Option<[f64; 5]>,
    knots: Vec<Knot>,
    /// Whether a tangent is set by a rule, beside the width and the slope that it gave.
    has_rules: bool,
    /// Whether a knot has data of its own.
    has_data: bool,
}

#[derive(Clone, Debug, Default, PartialEq)]
enum Outside {
    #[default]
    Held,
    Linear,
    Sloped(f64),
    Repeat,
    Reset,
    Oscillate,
    None,
}

#[derive(Clone, Debug)]
struct Knot {
    time: f64,
    left: Option<f64>,
    value: f64,
    pre: (Option<f64>, f64),
    way: Interpolation,
    post: (Option<f64>, f64),
}

/// How far a time may be from the frame that was meant, in seconds: less than half a tick, as keys may lie that close.
const SLACK: f64 = 3e-10;

impl Spline {
    /// What of some splines is not read, in words.
    pub fn notes(splines: &[Spline]) -> Vec<String> {
        let count = |is: fn(&Spline) -> bool| splines.iter().filter(|spline| is(spline)).count();
        let (rules, data) = (count(|spline| spline.has_rules), count(|spline| spline.has_data));
        let mut notes = Vec::new();
        if rules > 0 {
            notes.push(format!(
                "splines whose tangents follow a rule: {rules}; they are read as they lie now"
            ));
        }
        if data > 0 {
            notes.push(format!("splines whose knots have data of their own, which is not read: {data}"));
        }
        notes
    }

    /// About how many bytes it takes where it is written.
    pub fn size(&self) -> usize {
        32 + 56 * self.knots.len()
    }

    /// The same at other times: `start + scale · t` for each `t`.
    pub fn retimed(&self, start: f64, scale: f64) -> Spline {
        let mut made = self.clone();
        for knot in &mut made.knots {
            knot.time = start + scale * knot.time;
            for (width, slope) in [&mut knot.pre, &mut knot.post] {
                *width = width.map(|width| width * scale);
                *slope /= scale;
            }
        }
        for outside in [&mut made.before, &mut made.after] {
            if let Outside::Sloped(slope) = outside {
                *slope /= scale;
            }
        }
        if let Some([from, to, ..]) = &mut made.inner {
            (*from, *to) = (start + scale * *from, start + scale * *to);
        }
        made
    }

    /// The curve, its values multiplied by a factor (that of angles the radians of a degree).
    ///
    /// `codes` are time codes a second.
    pub fn curve(
        &self,
        clock: &Clock,
        codes: f64,
        value: impl Fn(f64) -> f64,
        rise: f64,
    ) -> Result<Curve, String> {
        let frame = TICKS_PER_SECOND as f64 / codes;
        let per_second = codes;
        let as_tangent = |(width, slope): (Option<f64>, f64), gap: Option<f64>| match (width, gap) {
            (Some(width), Some(gap)) if !self.is_hermite && (width - gap / 3.0).abs() > 1e-6 * gap => {
                Tangent::handle(width * frame, slope * width * rise)
            }
            _ => Tangent::slope(slope * rise * per_second),
        };
        let mut keys = Vec::with_capacity(self.knots.len());
        let seconds = self.knots.iter().map(|knot| (knot.time / codes, SLACK + knot.time.abs() * 1e-12));
        let times = clock.times(seconds, |_, _| false);
        for ((index, knot), at) in self.knots.iter().enumerate().zip(times) {
            let before = index.checked_sub(1).map(|before| &self.knots[before]);
            let into = before
                .filter(|before| before.way == Interpolation::Cubic)
                .map(|before| knot.time - before.time);
            let next = self.knots.get(index + 1);
            let out = next.filter(|_| knot.way == Interpolation::Cubic).map(|next| next.time - knot.time);
            if !at.is_allowed() {
                return Err("a knot lies more than 36 days from the start".to_owned());
            }
            let mut key = Key::new(at, value(knot.value)).with_interpolation(knot.way);
            key.tangent_in = as_tangent(knot.pre, into);
            key.tangent_out = as_tangent(knot.post, out);
            key.value_before = knot.left.map(&value).filter(|left| *left != key.value);
            let slopes = (key.tangent_in.slope_per_second(), key.tangent_out.slope_per_second());
            key.joined = key.value_before.is_none()
                && (into.is_none() || out.is_none() || (slopes.0 - slopes.1).abs() <= 1e-9 * slopes.0.abs());
            keys.push(key);
        }
        let behaviour = |outside: &Outside| match outside {
            Outside::Held => Behaviour::Held,
            Outside::Linear => Behaviour::Linear,
            Outside::Sloped(slope) => Behaviour::Sloped(slope * rise * per_second),
            Outside::Repeat => Behaviour::LoopOffset,
            Outside::Reset => Behaviour::Loop,
            Outside::Oscillate => Behaviour::LoopOscillate,
            Outside::None => Behaviour::None,
        };
        let curve = Curve::new(keys).map_err(|error| error.to_string())?;
        let mut curve = curve.with_behaviours(behaviour(&self.before), behaviour(&self.after));
        if let Some([start, end, before, after, offset]) = self.inner {
            let at = |time: f64| clock.time((time / codes, SLACK));
            let region = InnerLoop {
                start: at(start),
                end: at(end),
                before: before.max(0.0) as u32,
                after: after.max(0.0) as u32,
                value_offset: offset * rise,
            };
            curve.set_inner_loop(Some(region)).map_err(|error| error.to_string())?;
        }
        Ok(curve)
    }
}
