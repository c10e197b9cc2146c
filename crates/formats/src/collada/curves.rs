//! Samplers: times, values, interpolations and tangents, number by number.

use std::collections::HashMap;

use nimble_curve_core::angle;
use nimble_curve_core::controller::{TcbCurve, TcbKey, TcbKeys};
use nimble_curve_core::curve::{
    Behaviour, Curve, Interpolation, Key, Tangent, TangentMode, TangentShape, Ticks,
};
use nimble_curve_core::time::{MAX_TICKS, TICKS_PER_SECOND};
use nimble_curve_core::validate::is_usable;
use roxmltree::Node;

use super::Named;
use crate::error::Fault;
use crate::grid::{self, Clock};

/// How far a time may be from the one that was meant, in seconds: files have six digits or single precision.
pub fn slack(seconds: f64) -> f64 {
    seconds.abs() * 1e-6 + 1e-6
}

/// What the numbers of a file are multiplied by.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Factor {
    /// 1 or −1, or any other number.
    pub by: f64,
    /// Whether they are degrees, and ours radians.
    pub is_angle: bool,
}

impl Factor {
    /// A value, each degree its nearest radian.
    fn value(self, number: f64) -> f64 {
        self.by * if self.is_angle { angle::radians(number) } else { number }
    }

    /// A difference of values.
    fn rise(self, number: f64) -> f64 {
        self.by * if self.is_angle { number.to_radians() } else { number }
    }
}

/// How a sampler gets from a key to the next one.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Way {
    Step,
    Linear,
    Bezier,
    Hermite,
    Tcb,
}

/// Tangents of a sampler: numbers for each key and component, one (a value) or two (time and value) each.
#[derive(Debug)]
struct Tangents {
    numbers: Vec<f64>,
    each: usize,
}

/// A sampler as it stands in the file.
#[derive(Debug)]
pub struct Sampler {
    /// Times in seconds.
    pub seconds: Vec<f64>,
    /// How many numbers a key has.
    pub width: usize,
    /// The numbers, key after key.
    pub values: Vec<f64>,
    ways: Vec<Way>,
    into: Option<Tangents>,
    out: Option<Tangents>,
    tcb: [Option<Vec<f64>>; 5],
    behaviours: (Behaviour, Behaviour),
}

/// A fault at an element, by its line.
pub fn fault(node: Node<'_, '_>, message: impl Into<String>) -> Fault {
    Fault::on_line(node.document().text_pos_at(node.range().start).row as usize, message)
}

/// The numbers in an element's text.
pub fn numbers(node: Node<'_, '_>) -> Result<Vec<f64>, Fault> {
    let text = node.text().unwrap_or_default();
    let mut all = Vec::with_capacity(text.len() / 6);
    for word in text.split_ascii_whitespace() {
        match fast_float2::parse::<f64, _>(word) {
            Ok(number) if is_usable(number) => all.push(number),
            _ => {
                let shown: String = word.chars().take(24).collect();
                return Err(fault(node, format!("'{shown}' is not a finite number")));
            }
        }
    }
    Ok(all)
}

impl Sampler {
    /// Reads a `<sampler>`; `by_id` finds sources.
    pub fn read<'a, 'i>(
        sampler: Node<'a, 'i>,
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<Sampler, Fault> {
        let source = |semantic: &str| Source::of_input(sampler, semantic, by_id);
        let missing = |what: &str| fault(sampler, format!("the sampler has no {what} input"));
        let seconds = source("INPUT")?.ok_or_else(|| missing("INPUT"))?.numbers()?;
        let output = source("OUTPUT")?.ok_or_else(|| missing("OUTPUT"))?;
        let width = output.stride;
        let values = output.numbers()?;
        let count = seconds.len();
        if values.len() < count * width {
            let message = format!(
                "{count} keys of {width} need {} numbers, but there are {}",
                count * width,
                values.len()
            );
            return Err(fault(output.node, message));
        }
        let ways = match source("INTERPOLATION")? {
            None => vec![Way::Linear; count],
            Some(names) => names.ways(count)?,
        };
        let tangents = |semantic: &str| -> Result<Option<Tangents>, Fault> {
            let Some(source) = source(semantic)? else { return Ok(None) };
            let numbers = source.numbers()?;
            // By the numbers there are: the stride is not always said right.
            match numbers.len() {
                n if n >= count * width * 2 => Ok(Some(Tangents { numbers, each: 2 })),
                n if n >= count * width => Ok(Some(Tangents { numbers, each: 1 })),
                n => Err(fault(
                    source.node,
                    format!("{count} keys need {} tangents, but there are {n}", count * width),
                )),
            }
        };
        let optional = |semantic: &str| -> Result<Option<Vec<f64>>, Fault> {
            source(semantic)?.map(|source| source.numbers()).transpose()
        };
        let behaviour = |name: &str| match sampler.attribute(name) {
            Some("GRADIENT") => Behaviour::Linear,
            Some("CYCLE") => Behaviour::Loop,
            Some("CYCLE_RELATIVE") => Behaviour::LoopOffset,
            Some("OSCILLATE") => Behaviour::LoopOscillate,
            _ => Behaviour::Held,
        };
        let made = Sampler {
            width,
            values,
            ways,
            into: tangents("IN_TANGENT")?,
            out: tangents("OUT_TANGENT")?,
            tcb: [
                optional("TENSION")?,
                optional("CONTINUITY")?,
                optional("BIAS")?,
                optional("EASE_IN")?,
                optional("EASE_OUT")?,
            ],
            behaviours: (behaviour("pre_behavior"), behaviour("post_behavior")),
            seconds,
        };
        made.check(sampler)?;
        Ok(made)
    }

    fn check(&self, sampler: Node<'_, '_>) -> Result<(), Fault> {
        for (index, pair) in self.seconds.windows(2).enumerate() {
            if pair[1] <= pair[0] {
                return Err(fault(sampler, format!("key {} is not later than the key before it", index + 1)));
            }
        }
        if self.seconds.iter().any(|second| (second * TICKS_PER_SECOND as f64).abs() > MAX_TICKS as f64) {
            return Err(fault(sampler, "a key lies more than 36 days from the start"));
        }
        let bends = |way: &Way| matches!(way, Way::Bezier | Way::Hermite);
        if self.ways.iter().any(bends) && (self.into.is_none() || self.out.is_none()) {
            return Err(fault(sampler, "BEZIER and HERMITE need IN_TANGENT and OUT_TANGENT inputs"));
        }
        if self.ways.contains(&Way::Tcb) && !self.ways.iter().all(|way| *way == Way::Tcb) {
            return Err(fault(sampler, "TCB keys cannot be mixed with others"));
        }
        Ok(())
    }

    /// The key times by a clock.
    pub fn times(&self, clock: &Clock) -> Vec<Ticks> {
        clock.times(self.seconds.iter().map(|&second| (second, slack(second))), grid::neighbours)
    }

    /// Whether all pieces are straight lines without a jump, so that evenly spaced keys may be samples.
    pub fn is_straight(&self) -> bool {
        let meets = |pair: &[f64]| grid::neighbours(pair[0], pair[1]);
        self.ways.iter().all(|way| *way == Way::Linear)
            && self.behaviours == (Behaviour::Held, Behaviour::Held)
            && !self.seconds.windows(2).any(meets)
    }

    /// Whether each key holds until the next.
    pub fn holds(&self) -> bool {
        self.ways.iter().all(|way| *way == Way::Step)
    }

    /// One number of the keys.
    pub fn column(&self, component: usize, factor: Factor) -> Vec<f64> {
        self.values
            .iter()
            .skip(component)
            .step_by(self.width)
            .take(self.seconds.len())
            .map(|&v| factor.value(v))
            .collect()
    }

    /// One number as a curve, its values multiplied by a factor.
    pub fn curve(&self, component: usize, factor: Factor, clock: &Clock) -> Curve {
        let times = self.times(clock);
        let values = self.column(component, factor);
        if self.ways.first() == Some(&Way::Tcb) {
            return self.tcb_curve(&times, &values);
        }
        let mut keys: Vec<Key> = Vec::with_capacity(times.len());
        let mut left: Option<Key> = None;
        for (index, &time) in times.iter().enumerate() {
            let way = self.ways[index];
            let arrives = index.checked_sub(1).map(|before| self.ways[before]);
            let mut key = Key::new(time, values[index]).with_interpolation(match way {
                Way::Step => Interpolation::Hold,
                Way::Linear => Interpolation::Linear,
                _ => Interpolation::Cubic,
            });
            key.tangent_in = match arrives {
                Some(way @ (Way::Bezier | Way::Hermite)) => {
                    let gap = self.seconds[index] - self.seconds[index - 1];
                    let wanted = self.tangent(&self.into, way, index, component, gap, true);
                    as_tangent(wanted, gap, factor)
                }
                Some(Way::Linear) => Tangent::of_mode(TangentMode::Linear),
                _ => Tangent::slope(0.0),
            };
            key.tangent_out = match way {
                Way::Bezier | Way::Hermite if index + 1 < times.len() => {
                    let gap = self.seconds[index + 1] - self.seconds[index];
                    as_tangent(self.tangent(&self.out, way, index, component, gap, false), gap, factor)
                }
                Way::Linear => Tangent::of_mode(TangentMode::Linear),
                _ => Tangent::slope(0.0),
            };
            if let Some(left) = left.take() {
                key.tangent_in = left.tangent_in;
                key.value_before = (left.value != key.value).then_some(left.value);
            }
            if times.get(index + 1).is_some()
                && grid::neighbours(self.seconds[index], self.seconds[index + 1])
            {
                left = Some(key);
                continue;
            }
            if keys.last().is_some_and(|last| last.time >= key.time) {
                continue;
            }
            let (before, after) = (key.tangent_in.slope_per_second(), key.tangent_out.slope_per_second());
            let bends = matches!(way, Way::Bezier | Way::Hermite);
            let ends = keys.is_empty() || index + 1 == times.len();
            key.joined = bends
                && key.value_before.is_none()
                && ((before - after).abs() <= 1e-6 * before.abs() || ends);
            if ends && bends {
                // One side alone is said; the other goes on as it does, but for a handle that stands upright.
                let level = |slope: f64| TangentShape::Slope(if slope.is_finite() { slope } else { 0.0 });
                if keys.is_empty() {
                    key.tangent_in = Tangent { shape: level(after), ..key.tangent_in };
                } else {
                    key.tangent_out = Tangent { shape: level(before), ..key.tangent_out };
                }
            }
            if let Some(last) = keys.last_mut()
                && last.interpolation == Interpolation::Hold
                && key.value_before == Some(last.value)
            {
                key.value_before = None;
            }
            keys.push(key);
        }
        let curve = Curve::new(keys).expect("times ascend, and numbers are finite where they are read");
        curve.with_behaviours(self.behaviours.0, self.behaviours.1)
    }

    /// How far a handle reaches from its key, in seconds and in value as it stands; a time that is not said is a third of
    /// the gap.
    fn tangent(
        &self,
        tangents: &Option<Tangents>,
        way: Way,
        index: usize,
        component: usize,
        gap: f64,
        is_in: bool,
    ) -> (Option<f64>, f64) {
        let Some(tangents) = tangents else { return (None, 0.0) };
        let at = (index * self.width + component) * tangents.each;
        let (time, value) = match tangents.each {
            2 => (Some(tangents.numbers[at]), tangents.numbers[at + 1]),
            _ => (None, tangents.numbers[at]),
        };
        let here = self.values[index * self.width + component];
        let sign = if is_in { -1.0 } else { 1.0 };
        match way {
            Way::Hermite => (time.map(|time| time / 3.0), value / 3.0),
            _ => {
                let reach = time.map(|time| ((time - self.seconds[index]) * sign).clamp(0.0, 10.0 * gap));
                (reach, (value - here) * sign)
            }
        }
    }

    fn tcb_curve(&self, times: &[Ticks], values: &[f64]) -> Curve {
        let number = |list: usize, index: usize| {
            self.tcb[list].as_ref().and_then(|all| all.get(index)).copied().unwrap_or(0.0)
        };
        let key = |index: usize| TcbKey {
            time: times[index],
            value: values[index],
            tension: number(0, index),
            continuity: number(1, index),
            bias: number(2, index),
            ease_in: 0.0,
            ease_out: 0.0,
        };
        let keys = TcbKeys::Number((0..times.len()).map(key).collect());
        let curve = TcbCurve { keys, before: self.behaviours.0, after: self.behaviours.1 };
        let numbers = curve.numbers().expect("keys of numbers are numbers");
        numbers.curves.into_iter().next().expect("a number has one curve")
    }

    /// Whether keys have ease, which is not read.
    pub fn has_ease(&self) -> bool {
        self.tcb[3..].iter().flatten().flatten().any(|ease| *ease != 0.0)
    }
}

/// A handle: a plain slope where it reaches a third of the gap, to what the file's digits can tell.
fn as_tangent((reach, rise): (Option<f64>, f64), gap: f64, factor: Factor) -> Tangent {
    let third = gap / 3.0;
    match reach {
        Some(reach) if (reach - third).abs() > 2e-5 * gap => {
            Tangent::handle(reach * TICKS_PER_SECOND as f64, factor.rise(rise))
        }
        Some(reach) if reach > 0.0 => Tangent::slope(factor.rise(rise) / reach),
        _ => Tangent::slope(factor.rise(rise) / third),
    }
}

/// A word out of a file, short enough for a message.
pub fn shown(text: &str) -> String {
    text.chars().take(60).map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// A `<source>`: an array and how it is cut.
pub struct Source<'a, 'i> {
    node: Node<'a, 'i>,
    array: Node<'a, 'i>,
    stride: usize,
}

impl<'a, 'i> Source<'a, 'i> {
    fn of(node: Node<'a, 'i>) -> Result<Source<'a, 'i>, Fault> {
        let array =
            node.children().find(|child| child.is_element() && child.tag_name().name().ends_with("_array"));
        let array = array.ok_or_else(|| fault(node, "the source has no array"))?;
        let accessor = node.descendants().find(|child| child.has_tag_name_in("accessor"));
        let stride =
            accessor.and_then(|accessor| accessor.attribute("stride")).map_or(Ok(1), str::parse::<usize>);
        let stride = stride.ok().filter(|stride| (1..=4096).contains(stride));
        let stride =
            stride.ok_or_else(|| fault(node, "the stride of the source is not a number from 1 to 4096"))?;
        Ok(Source { node, array, stride })
    }

    /// The source of the input with some meaning that an element has, if it has one.
    pub fn of_input(
        inputs: Node<'a, 'i>,
        semantic: &str,
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<Option<Source<'a, 'i>>, Fault> {
        let mut all = inputs.children().filter(|node| node.has_tag_name_in("input"));
        let Some(input) = all.find(|node| node.attribute("semantic") == Some(semantic)) else {
            return Ok(None);
        };
        let url = input.attribute("source").unwrap_or_default();
        let found = by_id.get(url.trim().trim_start_matches('#'));
        let found = found.ok_or_else(|| fault(input, format!("there is no source '{}'", shown(url))))?;
        Source::of(*found).map(Some)
    }

    /// Its numbers.
    pub fn numbers(&self) -> Result<Vec<f64>, Fault> {
        numbers(self.array)
    }

    /// Its words, for names and references.
    pub fn words(&self) -> impl Iterator<Item = &'a str> {
        self.array.text().unwrap_or_default().split_ascii_whitespace()
    }

    /// The ids of the source and of its array.
    pub fn ids(&self) -> [Option<&'a str>; 2] {
        [self.node.attribute("id"), self.array.attribute("id")]
    }

    fn ways(&self, count: usize) -> Result<Vec<Way>, Fault> {
        let mut ways = Vec::with_capacity(count);
        for word in self.words() {
            ways.push(match word {
                "STEP" => Way::Step,
                "LINEAR" => Way::Linear,
                "BEZIER" => Way::Bezier,
                "HERMITE" => Way::Hermite,
                "TCB" => Way::Tcb,
                other => {
                    let message =
                        format!("interpolation '{}' cannot be read: bake it on export", shown(other));
                    return Err(fault(self.array, message));
                }
            });
        }
        if ways.len() < count {
            return Err(fault(
                self.node,
                format!("{count} keys need as many interpolations, but there are {}", ways.len()),
            ));
        }
        Ok(ways)
    }
}
