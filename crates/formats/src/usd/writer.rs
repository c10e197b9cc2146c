//! What a layer of USD is written with: attributes and what drives them, numbers as text.

use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;

use glam::{DMat4, DQuat};
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::angle::degrees;
use nimble_curve_core::controller::{Controller, Samples};
use nimble_curve_core::curve::Curve;
use nimble_curve_core::scene::{Scene, Take, Target};

use super::spline::text::text;

/// A layer while it is written.
pub(super) struct Writer<'a> {
    pub(super) scene: &'a Scene,
    pub(super) take: Option<&'a Take>,
    /// What drives what, on the take's first layer.
    pub(super) base: HashMap<&'a Target, &'a Controller>,
    pub(super) text: String,
    pub(super) paths: Vec<(String, NodeRef)>,
    pub(super) written: HashSet<Target>,
}

/// Numbers in parentheses.
pub(super) fn tuple(numbers: &[f64]) -> String {
    let listed: Vec<String> = numbers.iter().map(|number| format!("{}", number + 0.0)).collect();
    format!("({})", listed.join(", "))
}

pub(super) fn matrix(m: DMat4) -> String {
    let rows: Vec<String> = m.to_cols_array_2d().iter().map(|row| tuple(row)).collect();
    format!("( {} )", rows.join(", "))
}

pub(super) fn quaternion(q: DQuat) -> String {
    tuple(&[q.w, q.x, q.y, q.z])
}

impl Writer<'_> {
    /// Writes an attribute with its rest and what drives it.
    pub(super) fn attribute(&mut self, indent: &str, kind: &str, name: &str, rest: &str, driven: Driven<'_>) {
        let _ = writeln!(self.text, "{indent}{kind} {name} = {rest}");
        match driven {
            Driven::Not => {}
            Driven::Curve(curve, is_angle) => {
                let rise = if is_angle { 1_f64.to_degrees() } else { 1.0 };
                let shown = |number: f64| if is_angle { degrees(number) } else { number };
                let text = text(curve, self.scene.rate, shown, rise, indent);
                let _ = writeln!(self.text, "{indent}{kind} {name}.spline = {text}");
            }
            Driven::Rows(samples, row) => {
                let _ = writeln!(self.text, "{indent}{kind} {name}.timeSamples = {{");
                for index in 0..samples.len() {
                    let code = self.scene.rate.frame(samples.time(index));
                    let _ = writeln!(self.text, "{indent}    {code}: {},", row(samples.row(index)));
                }
                let _ = writeln!(self.text, "{indent}}}");
            }
        }
    }

    pub(super) fn driven(&mut self, indent: &str, kind: &str, name: &str, driven: Driven<'_>) {
        // The same as a whole attribute, less its first line.
        let start = self.text.len();
        self.attribute(indent, kind, name, "0", driven);
        if let Some(end) = self.text[start..].find('\n') {
            self.text.replace_range(start..start + end + 1, "");
        }
    }
}

/// What drives an attribute.
pub(super) enum Driven<'a> {
    Not,
    /// A curve, and whether it is one of angles.
    Curve(&'a Curve, bool),
    /// Samples, and how a row of them is written.
    #[allow(clippy::type_complexity)]
    Rows(&'a Samples, Box<dyn Fn(&[f64]) -> String + 'a>),
}
