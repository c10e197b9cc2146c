//! Curves over frames: values, keys and handles, with the samples they came from and the error below.

use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::time::FrameRate;

use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// One channel of the picture.
pub struct Channel<'a> {
    /// The channel's address.
    pub name: String,
    /// The curve, in units of the picture, and its keys.
    pub curve: &'a Curve,
    /// Factor from the curve's values to what the axis says.
    pub factor: f64,
    /// The unit on the axis.
    pub unit: &'a str,
    /// What the curve is compared with: a value for each of some times in frames, in the curve's units.
    pub samples: Vec<(f64, f64)>,
}

/// Draws channels below each other, each with its error against the samples where it has any.
pub fn stacked(
    title: &str,
    channels: &[Channel<'_>],
    rate: FrameRate,
    (first, last): (f64, f64),
    size: Size,
) -> String {
    let mut svg = Svg::new(size);
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", title);
    let height = (size.height - 60.0) / channels.len().max(1) as f64;
    for (index, channel) in channels.iter().enumerate() {
        let colour = COLOURS[index % COLOURS.len()];
        let top = 48.0 + index as f64 * height;
        let plot = Plot { channel, rate, first, last, colour };
        let has_error = !channel.samples.is_empty();
        let curve_height = if has_error { height * 0.68 } else { height - 30.0 };
        plot.curve(
            &mut svg,
            Frame { left: 90.0, top: top + 18.0, width: size.width - 120.0, height: curve_height - 20.0 },
        );
        if has_error {
            let frame = Frame {
                left: 90.0,
                top: top + curve_height + 14.0,
                width: size.width - 120.0,
                height: height * 0.32 - 46.0,
            };
            plot.error(&mut svg, frame);
        }
    }
    svg.finish()
}

struct Plot<'a> {
    channel: &'a Channel<'a>,
    rate: FrameRate,
    first: f64,
    last: f64,
    colour: &'a str,
}

/// A rectangle in which something is plotted.
#[derive(Clone, Copy)]
struct Frame {
    left: f64,
    top: f64,
    width: f64,
    height: f64,
}

/// The scales of both axes.
#[derive(Clone, Copy)]
struct Axes {
    frame: Frame,
    x: (f64, f64),
    y: (f64, f64),
}

impl Axes {
    fn place(&self, x: f64, y: f64) -> (f64, f64) {
        let f = self.frame;
        let across = (x - self.x.0) / (self.x.1 - self.x.0);
        let up = (y - self.y.0) / (self.y.1 - self.y.0);
        (f.left + across * f.width, f.top + (1.0 - up) * f.height)
    }

    fn draw(&self, svg: &mut Svg, unit: &str, with_frames: bool) {
        let f = self.frame;
        svg.rect((f.left, f.top), (f.width, f.height), "#f7f8fa");
        for tick in ticks(self.y, (f.height / 34.0).clamp(2.0, 7.0)) {
            let (_, y) = self.place(self.x.0, tick);
            svg.line((f.left, y), (f.left + f.width, y), "#e2e5ea", 1.0);
            svg.text((f.left - 8.0, y + 4.0), 11.0, Anchor::End, "#555", &number(tick, unit));
        }
        for tick in ticks(self.x, 12.0) {
            let (x, _) = self.place(tick, self.y.0);
            svg.line((x, f.top), (x, f.top + f.height), "#edeff2", 1.0);
            if with_frames {
                svg.text((x, f.top + f.height + 14.0), 11.0, Anchor::Middle, "#777", &format!("{tick}"));
            }
        }
    }
}

impl Plot<'_> {
    fn ticks(&self, frame: f64) -> f64 {
        frame * self.rate.ticks_per_frame()
    }

    fn value(&self, frame: f64) -> Option<f64> {
        self.channel.curve.value_at(self.ticks(frame)).map(|value| value * self.channel.factor)
    }

    fn line(&self) -> Vec<(f64, f64)> {
        let steps = 1600;
        (0..=steps)
            .map(|step| self.first + (self.last - self.first) * f64::from(step) / f64::from(steps))
            .filter_map(|frame| Some((frame, self.value(frame)?)))
            .collect()
    }

    fn curve(&self, svg: &mut Svg, frame: Frame) {
        let line = self.line();
        let samples: Vec<(f64, f64)> =
            self.channel.samples.iter().map(|&(frame, value)| (frame, value * self.channel.factor)).collect();
        let axes = Axes {
            frame,
            x: (self.first, self.last),
            y: span(line.iter().chain(&samples).map(|point| point.1)),
        };
        axes.draw(svg, self.channel.unit, samples.is_empty());
        svg.text((frame.left, frame.top - 6.0), 13.0, Anchor::Start, "#222", &self.channel.name);
        let count = self.channel.curve.keys().len();
        let legend = if samples.is_empty() {
            format!("{count} keys")
        } else {
            format!("{} samples (grey) → {count} keys", samples.len())
        };
        svg.text((frame.left + frame.width, frame.top - 6.0), 12.0, Anchor::End, "#555", &legend);
        for &(x, y) in &samples {
            svg.dot(axes.place(x, y), 1.3, "#a9b0ba", "none");
        }
        let drawn: Vec<(f64, f64)> = line.iter().map(|&(x, y)| axes.place(x, y)).collect();
        svg.path(&drawn, self.colour, 1.8);
        self.keys(svg, &axes);
    }

    /// Keys as diamonds' stand-ins, dots with a ring, and the handles of cubic sides.
    fn keys(&self, svg: &mut Svg, axes: &Axes) {
        let keys = self.channel.curve.keys();
        for (index, key) in keys.iter().enumerate() {
            let at = (self.rate.frame(key.time), key.value * self.channel.factor);
            let mut handle =
                |other: Option<&Key>, toward: f64, tangent: nimble_curve_core::curve::Tangent| {
                    let Some(other) = other else { return };
                    let gap = (other.time - key.time).as_f64().abs();
                    let (dt, dv) = tangent.handle_in_gap(gap);
                    let end = (
                        at.0 + toward * dt / self.rate.ticks_per_frame(),
                        at.1 + toward * dv * self.channel.factor,
                    );
                    svg.line(axes.place(at.0, at.1), axes.place(end.0, end.1), "#333333", 0.9);
                    svg.dot(axes.place(end.0, end.1), 1.8, "#333333", "none");
                };
            let before = index.checked_sub(1).map(|i| &keys[i]);
            if before.is_some_and(|key| key.interpolation == Interpolation::Cubic) {
                handle(before, -1.0, key.tangent_in);
            }
            if key.interpolation == Interpolation::Cubic {
                handle(keys.get(index + 1), 1.0, key.tangent_out);
            }
        }
        for key in keys {
            let at = axes.place(self.rate.frame(key.time), key.value * self.channel.factor);
            svg.dot(at, 3.4, "#ffffff", self.colour);
        }
    }

    fn error(&self, svg: &mut Svg, frame: Frame) {
        let errors: Vec<(f64, f64)> = (self.channel.samples.iter())
            .filter_map(|&(frame, sample)| Some((frame, self.value(frame)? - sample * self.channel.factor)))
            .collect();
        let largest = errors.iter().map(|error| error.1.abs()).fold(0.0, f64::max).max(1e-9);
        let axes = Axes { frame, x: (self.first, self.last), y: (-1.15 * largest, 1.15 * largest) };
        axes.draw(svg, self.channel.unit, true);
        let label = format!("error: at most {}", number(largest, self.channel.unit));
        svg.text((frame.left + frame.width, frame.top - 4.0), 11.0, Anchor::End, "#B03A2E", &label);
        let drawn: Vec<(f64, f64)> = errors.iter().map(|&(x, y)| axes.place(x, y)).collect();
        svg.path(&drawn, "#B03A2E", 1.0);
    }
}

/// From the least to the greatest value, with some room.
fn span(values: impl Iterator<Item = f64>) -> (f64, f64) {
    let (low, high) =
        values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
    if low > high {
        return (-1.0, 1.0);
    }
    let room = (0.08 * (high - low)).max(1e-6 * high.abs()).max(1e-9);
    (low - room, high + room)
}

/// Round numbers, about `count` of them, within a range.
fn ticks((low, high): (f64, f64), count: f64) -> Vec<f64> {
    let rough = (high - low) / count;
    let power = 10_f64.powf(rough.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].map(|m| m * power).into_iter().find(|step| *step >= rough).unwrap_or(rough);
    let first = (low / step).ceil() as i64;
    (first..)
        .map(|i| i as f64 * step)
        .take_while(|tick| *tick <= high + 1e-9 * step)
        .map(|t| (t / step).round() * step)
        .collect()
}

/// A number with its unit, without needless digits.
fn number(value: f64, unit: &str) -> String {
    let digits = match value.abs() {
        v if v < 1e-12 => 0,
        v if v < 0.01 => 4,
        v if v < 0.1 => 3,
        v if v < 10.0 => 2,
        _ => 0,
    };
    let text = format!("{value:.digits$}");
    let text =
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text };
    if unit.is_empty() { text } else { format!("{text} {unit}") }
}
