//! Rectangles with scales.

use crate::svg::{Anchor, Svg};

/// A rectangle in which something is plotted.
#[derive(Clone, Copy)]
pub struct Frame {
    pub left: f64,
    pub top: f64,
    pub width: f64,
    pub height: f64,
}

impl Frame {
    /// How much of a line from a point inside stays inside, as a part of it.
    pub fn part_inside(&self, from: (f64, f64), to: (f64, f64)) -> f64 {
        let along = |from: f64, to: f64, low: f64, high: f64| {
            let edge = if to > from { high } else { low };
            if (low..=high).contains(&to) { 1.0 } else { ((edge - from) / (to - from)).clamp(0.0, 1.0) }
        };
        let x = along(from.0, to.0, self.left, self.left + self.width);
        x.min(along(from.1, to.1, self.top, self.top + self.height))
    }
}

/// The scales of both axes.
#[derive(Clone, Copy)]
pub struct Axes {
    pub frame: Frame,
    pub x: (f64, f64),
    pub y: (f64, f64),
}

impl Axes {
    pub fn place(&self, x: f64, y: f64) -> (f64, f64) {
        let f = self.frame;
        let across = (x - self.x.0) / (self.x.1 - self.x.0).max(1e-12);
        let up = (y - self.y.0) / (self.y.1 - self.y.0);
        (f.left + across * f.width, f.top + (1.0 - up) * f.height)
    }

    /// Whether a place lies between the left and the right side.
    pub fn holds(&self, place: (f64, f64)) -> bool {
        (self.frame.left - 0.5..=self.frame.left + self.frame.width + 0.5).contains(&place.0)
    }

    /// The left and the right side.
    pub fn sides(&self) -> (f64, f64) {
        (self.frame.left, self.frame.left + self.frame.width)
    }

    pub fn draw(&self, svg: &mut Svg, unit: &str, with_frames: bool) {
        let f = self.frame;
        svg.rect((f.left, f.top), (f.width, f.height), "#f7f8fa");
        for tick in ticks(self.y, (f.height / 34.0).clamp(2.0, 7.0)) {
            let (_, y) = self.place(self.x.0, tick);
            svg.line((f.left, y), (f.left + f.width, y), "#e2e5ea", 1.0);
            svg.text((f.left - 8.0, y + 4.0), 11.0, Anchor::End, "#555", &number(tick, unit));
        }
        self.draw_frames(svg, with_frames);
    }

    /// The lines of frames, and their numbers.
    pub fn draw_frames(&self, svg: &mut Svg, with_numbers: bool) {
        let f = self.frame;
        for tick in ticks(self.x, 12.0) {
            let (x, _) = self.place(tick, self.y.0);
            svg.line((x, f.top), (x, f.top + f.height), "#edeff2", 1.0);
            if with_numbers {
                svg.text((x, f.top + f.height + 14.0), 11.0, Anchor::Middle, "#777", &number(tick, ""));
            }
        }
    }
}

/// From the least to the greatest value, with some room.
pub fn span(values: impl Iterator<Item = f64>) -> (f64, f64) {
    let (low, high) =
        values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
    if low > high {
        return (-1.0, 1.0);
    }
    let room = (0.08 * (high - low)).max(1e-6 * high.abs()).max(1e-9);
    (low - room, high + room)
}

/// Round numbers, about `count` of them, within a range.
pub fn ticks((low, high): (f64, f64), count: f64) -> Vec<f64> {
    let rough = ((high - low) / count).max(1e-12);
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
pub fn number(value: f64, unit: &str) -> String {
    let digits = match value.abs() {
        v if v < 1e-12 => 0,
        v if v < 0.01 => 4,
        v if v < 0.1 => 3,
        v if v < 10.0 => 2,
        v if v < 100.0 => 1,
        _ => 0,
    };
    let text = format!("{value:.digits$}");
    let text =
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text };
    let text = if text == "-0" { "0".to_owned() } else { text };
    if unit.is_empty() { text } else { format!("{text} {unit}") }
}
