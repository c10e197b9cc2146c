//! The few shapes that the pictures are made of.

use std::fmt::Write as _;

use nimble_curve_core::address::visible;

use crate::Size;

/// A picture in the making.
pub struct Svg {
    text: String,
}

/// Where a text stands relative to its point.
#[derive(Clone, Copy)]
pub enum Anchor {
    Start,
    Middle,
    End,
}

impl Svg {
    /// An empty white picture.
    pub fn new(size: Size) -> Svg {
        let Size { width, height } = size;
        Svg {
            text: format!(
                "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" \
                 viewBox=\"0 0 {width} {height}\" font-family=\"DejaVu Sans, sans-serif\">\n\
                 <rect width=\"{width}\" height=\"{height}\" fill=\"#ffffff\"/>\n"
            ),
        }
    }

    pub fn line(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), colour: &str, width: f64) {
        let _ = writeln!(
            self.text,
            "<line x1=\"{x1:.2}\" y1=\"{y1:.2}\" x2=\"{x2:.2}\" y2=\"{y2:.2}\" stroke=\"{colour}\" \
             stroke-width=\"{width}\" stroke-linecap=\"round\"/>"
        );
    }

    pub fn path(&mut self, points: &[(f64, f64)], colour: &str, width: f64) {
        if points.len() < 2 {
            return;
        }
        let mut list = String::with_capacity(points.len() * 14);
        for (x, y) in points {
            let _ = write!(list, "{x:.2},{y:.2} ");
        }
        let _ = writeln!(
            self.text,
            "<polyline points=\"{}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"{width}\" stroke-linejoin=\"round\"/>",
            list.trim_end()
        );
    }

    pub fn dot(&mut self, (x, y): (f64, f64), radius: f64, fill: &str, stroke: &str) {
        let _ = writeln!(
            self.text,
            "<circle cx=\"{x:.2}\" cy=\"{y:.2}\" r=\"{radius}\" fill=\"{fill}\" stroke=\"{stroke}\"/>"
        );
    }

    pub fn diamond(&mut self, (x, y): (f64, f64), radius: f64, fill: &str) {
        let (left, right, top, bottom) = (x - radius, x + radius, y - radius, y + radius);
        let _ = writeln!(
            self.text,
            "<path d=\"M{left:.2} {y:.2}L{x:.2} {top:.2}L{right:.2} {y:.2}L{x:.2} {bottom:.2}Z\" fill=\"{fill}\"/>"
        );
    }

    pub fn rect(&mut self, (x, y): (f64, f64), (width, height): (f64, f64), fill: &str) {
        let _ = writeln!(
            self.text,
            "<rect x=\"{x:.2}\" y=\"{y:.2}\" width=\"{width:.2}\" height=\"{height:.2}\" fill=\"{fill}\"/>"
        );
    }

    pub fn text(&mut self, (x, y): (f64, f64), size: f64, anchor: Anchor, colour: &str, text: &str) {
        let anchor = match anchor {
            Anchor::Start => "start",
            Anchor::Middle => "middle",
            Anchor::End => "end",
        };
        let text = visible(text);
        let escaped = text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
        let _ = writeln!(
            self.text,
            "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{size}\" text-anchor=\"{anchor}\" fill=\"{colour}\">{escaped}</text>"
        );
    }

    pub fn finish(mut self) -> String {
        self.text.push_str("</svg>\n");
        self.text
    }
}
