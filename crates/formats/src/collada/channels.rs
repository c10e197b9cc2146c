//! The animations of a document as they are written: sources, samplers and channels.

use std::collections::HashMap;

use glam::DMat4;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::rig::OpValue;
use nimble_curve_core::scene::{Take, Target, Track};
use nimble_curve_core::time::{TICKS_PER_SECOND, Ticks};
use nimble_curve_core::value::Value;

use super::PROFILE;
use super::write::{Writer, escaped, listed, order_of, shown, sid};

impl Writer<'_> {
    pub fn animations(&mut self) {
        let scene = self.scene;
        let any = |take: &Take| take.layers.first().is_some_and(|layer| !layer.tracks.is_empty());
        let takes: Vec<(usize, &Take)> =
            scene.takes.iter().enumerate().filter(|(_, take)| any(take)).collect();
        if takes.is_empty() {
            return;
        }
        let before = self.text.len();
        self.line(1, "<library_animations>");
        let start = self.text.len();
        let mut written = Vec::new();
        for (index, take) in takes {
            let mark = self.text.len();
            self.line(
                2,
                &format!("<animation id=\"{}-{index}\" name=\"{}\">", self.prefix, escaped(&take.name)),
            );
            let inside = self.text.len();
            self.take(index, take);
            if self.text.len() == inside {
                self.text.truncate(mark);
                continue;
            }
            self.start(take);
            self.line(2, "</animation>");
            written.push((index, take));
        }
        if self.text.len() == start {
            self.text.truncate(before);
            return;
        }
        self.line(1, "</library_animations>");
        self.clips(&written);
    }

    /// Notes where a take started that starts at zero in the file.
    fn start(&mut self, take: &Take) {
        let by = self.starts.iter().find(|(name, _)| *name == take.name).map_or(Ticks::ZERO, |(_, by)| *by);
        if by != Ticks::ZERO {
            self.line(3, "<extra>");
            self.line(4, &format!("<technique profile=\"{PROFILE}\">"));
            self.line(5, &format!("<start>{}</start>", (-by).seconds()));
            self.line(4, "</technique>");
            self.line(3, "</extra>");
        }
    }

    /// Several takes are told apart by a clip each; of a single one the clips are its own.
    fn clips(&mut self, takes: &[(usize, &Take)]) {
        let mut clips: Vec<(&str, Ticks, Ticks, usize)> = Vec::new();
        match takes {
            [(index, take)] => {
                clips.extend(
                    take.clips
                        .iter()
                        .map(|clip| (clip.name.as_str(), clip.range.first, clip.range.last, *index)),
                );
            }
            several => clips.extend(
                several
                    .iter()
                    .map(|(index, take)| (take.name.as_str(), take.range.first, take.range.last, *index)),
            ),
        }
        if clips.is_empty() {
            return;
        }
        self.line(1, "<library_animation_clips>");
        for (place, (name, first, last, take)) in clips.into_iter().enumerate() {
            let head = format!(
                "<animation_clip id=\"{}-clip-{place}\" name=\"{}\" start=\"{}\" end=\"{}\">",
                self.prefix,
                escaped(name),
                first.seconds(),
                last.seconds()
            );
            self.line(
                2,
                &format!("{head}<instance_animation url=\"#{}-{take}\"/></animation_clip>", self.prefix),
            );
        }
        self.line(1, "</library_animation_clips>");
    }

    fn take(&mut self, index: usize, take: &Take) {
        let mut inputs = Inputs { prefix: format!("{}-{index}", self.prefix), known: HashMap::new() };
        let layers = take.layers.first();
        for (place, track) in layers.into_iter().flat_map(|layer| &layer.tracks).enumerate() {
            let prefix = format!("{}-{index}-{place}", self.prefix);
            if !self.track(&prefix, track, take, &mut inputs) {
                self.left_out.push((take.name.clone(), track.target.clone()));
            }
        }
    }

    /// Writes a track; whether there is a place for it.
    fn track(&mut self, prefix: &str, track: &Track, take: &Take, inputs: &mut Inputs) -> bool {
        let Target { rig, node: id, property } = &track.target;
        let Some(node) = self.scene.rigs[*rig].node(*id) else { return false };
        if let Some(place) = self.weights.get(&track.target).cloned() {
            return self.weight(prefix, &place, track, take, inputs);
        }
        let Some(op) = node.op(property).filter(|op| !op.inverse) else { return false };
        let id = self.ids[&(*rig, *id)].clone();
        let members: Vec<(String, bool)> = match op.value {
            OpValue::Translate(_) | OpValue::Scale(_) => {
                ["X", "Y", "Z"].iter().map(|axis| (format!("{id}/{}.{axis}", sid(node, op)), false)).collect()
            }
            OpValue::RotateAxis { .. } => vec![(format!("{id}/{}.ANGLE", sid(node, op)), true)],
            OpValue::Rotate { .. } | OpValue::Orient(_) => ["X", "Y", "Z"]
                .iter()
                .map(|axis| (format!("{id}/{}{axis}.ANGLE", sid(node, op)), true))
                .collect(),
            OpValue::Matrix(_) => {
                let held;
                let samples = match &track.controller {
                    Controller::Samples(samples) => samples,
                    Controller::Constant(Value::Matrix(matrix)) => {
                        let values = matrix.to_cols_array().to_vec();
                        let start = take.range.first;
                        held = Samples { start, rate: self.scene.rate, kind: SampleKind::Matrix, values };
                        &held
                    }
                    _ => return false,
                };
                self.matrices(prefix, &format!("{id}/{}", sid(node, op)), samples, inputs);
                return true;
            }
            OpValue::Shear(_) => return false,
        };
        match &track.controller {
            Controller::Components(curves) => self.curves(prefix, &members, curves, inputs),
            Controller::Euler(euler) => self.curves(prefix, &members, &euler.curves, inputs),
            Controller::Samples(samples) if samples.kind.width() == members.len() => {
                let input = self
                    .input(inputs, (0..samples.len()).map(|index| samples.time(index).seconds()).collect());
                for (component, (target, is_angle)) in members.iter().enumerate() {
                    let column = samples.values.iter().skip(component).step_by(members.len());
                    let rows = Rows::lines(column.map(|&value| shown(value, *is_angle)).collect());
                    self.channel(&format!("{prefix}-{component}"), target, &input, &rows);
                }
            }
            Controller::Constant(value) => {
                let numbers = match value {
                    Value::Quaternion(q) => {
                        let order = order_of(op);
                        nimble_curve_core::rotation::principal_euler(order, *q).to_array().to_vec()
                    }
                    other => other.numbers().unwrap_or_default(),
                };
                if numbers.len() != members.len() {
                    return false;
                }
                let curves: Vec<Curve> =
                    numbers.into_iter().map(|number| Curve::constant(take.range.first, number)).collect();
                self.curves(prefix, &members, &curves, inputs);
            }
            _ => return false,
        }
        true
    }

    /// Writes a number that has a place of its own.
    fn weight(&mut self, prefix: &str, place: &str, track: &Track, take: &Take, inputs: &mut Inputs) -> bool {
        let member = (place.to_owned(), false);
        let held;
        let curves = match &track.controller {
            Controller::Components(curves) => curves.as_slice(),
            Controller::Samples(samples) if samples.kind.width() == 1 => {
                let times = (0..samples.len()).map(|index| samples.time(index).seconds()).collect();
                let input = self.input(inputs, times);
                self.channel(&format!("{prefix}-0"), place, &input, &Rows::lines(samples.values.clone()));
                return true;
            }
            Controller::Constant(Value::Number(number)) => {
                held = [Curve::constant(take.range.first, *number)];
                &held
            }
            _ => return false,
        };
        self.curves(prefix, &[member], curves, inputs);
        true
    }

    fn curves(&mut self, prefix: &str, members: &[(String, bool)], curves: &[Curve], inputs: &mut Inputs) {
        for (component, ((target, is_angle), curve)) in members.iter().zip(curves).enumerate() {
            if curve.is_empty() {
                continue;
            }
            let rows = Rows::of_curve(curve, *is_angle);
            let input = self.input(inputs, rows.times.clone());
            self.channel(&format!("{prefix}-{component}"), target, &input, &rows);
        }
    }

    fn matrices(&mut self, prefix: &str, target: &str, samples: &Samples, inputs: &mut Inputs) {
        let input =
            self.input(inputs, (0..samples.len()).map(|index| samples.time(index).seconds()).collect());
        let rows = samples
            .values
            .chunks_exact(16)
            .flat_map(|row| DMat4::from_cols_slice(row).transpose().to_cols_array());
        let rows = Rows { width: 16, ..Rows::lines(rows.collect()) };
        self.channel(prefix, target, &input, &rows);
    }

    /// A source of times, which channels share.
    fn input(&mut self, inputs: &mut Inputs, times: Vec<f64>) -> String {
        let bits: Vec<u64> = times.iter().map(|time| time.to_bits()).collect();
        if let Some(id) = inputs.known.get(&bits) {
            return id.clone();
        }
        let id = format!("{}-times-{}", inputs.prefix, inputs.known.len());
        self.source(&id, &times, 1, &["TIME"]);
        inputs.known.insert(bits, id.clone());
        id
    }

    fn source(&mut self, id: &str, numbers: &[f64], stride: usize, params: &[&str]) {
        let count = numbers.len();
        self.line(3, &format!("<source id=\"{id}\">"));
        let list = listed(numbers.iter().copied());
        self.line(4, &format!("<float_array id=\"{id}-array\" count=\"{count}\">{list}</float_array>"));
        self.accessor(id, count / stride, stride, params, if stride == 16 { "float4x4" } else { "float" });
        self.line(3, "</source>");
    }

    fn accessor(&mut self, id: &str, count: usize, stride: usize, params: &[&str], kind: &str) {
        let params: String =
            params.iter().map(|name| format!("<param name=\"{name}\" type=\"{kind}\"/>")).collect();
        self.line(
            4,
            &format!("<technique_common><accessor source=\"#{id}-array\" count=\"{count}\" stride=\"{stride}\">{params}</accessor></technique_common>"),
        );
    }

    fn channel(&mut self, id: &str, target: &str, input: &str, rows: &Rows) {
        let count = rows.values.len() / rows.width;
        let param = if rows.width == 16 { "TRANSFORM" } else { "VALUE" };
        self.source(&format!("{id}-values"), &rows.values, rows.width, &[param]);
        self.line(3, &format!("<source id=\"{id}-ways\">"));
        let names = if rows.ways.is_empty() { vec!["LINEAR"; count] } else { rows.ways.clone() };
        self.line(
            4,
            &format!("<Name_array id=\"{id}-ways-array\" count=\"{count}\">{}</Name_array>", names.join(" ")),
        );
        self.accessor(&format!("{id}-ways"), count, 1, &["INTERPOLATION"], "name");
        self.line(3, "</source>");
        let bends = rows.ways.contains(&"BEZIER");
        if bends {
            self.source(&format!("{id}-in"), &rows.into, 2, &["X", "Y"]);
            self.source(&format!("{id}-out"), &rows.out, 2, &["X", "Y"]);
        }
        self.line(3, &format!("<sampler id=\"{id}-sampler\">"));
        self.line(4, &format!("<input semantic=\"INPUT\" source=\"#{input}\"/>"));
        self.line(4, &format!("<input semantic=\"OUTPUT\" source=\"#{id}-values\"/>"));
        self.line(4, &format!("<input semantic=\"INTERPOLATION\" source=\"#{id}-ways\"/>"));
        if bends {
            self.line(4, &format!("<input semantic=\"IN_TANGENT\" source=\"#{id}-in\"/>"));
            self.line(4, &format!("<input semantic=\"OUT_TANGENT\" source=\"#{id}-out\"/>"));
        }
        self.line(3, "</sampler>");
        self.line(3, &format!("<channel source=\"#{id}-sampler\" target=\"{target}\"/>"));
    }
}

/// Times that have a source already.
struct Inputs {
    prefix: String,
    known: HashMap<Vec<u64>, String>,
}

/// The rows of a channel.
#[derive(Clone, Debug, Default)]
struct Rows {
    times: Vec<f64>,
    width: usize,
    values: Vec<f64>,
    /// Interpolations; straight lines where there are none.
    ways: Vec<&'static str>,
    /// Control points before and after, time and value.
    into: Vec<f64>,
    out: Vec<f64>,
}

impl Rows {
    fn lines(values: Vec<f64>) -> Rows {
        Rows { values, width: 1, ..Rows::default() }
    }

    fn of_curve(curve: &Curve, is_angle: bool) -> Rows {
        let factor = if is_angle { 1_f64.to_degrees() } else { 1.0 };
        let mut rows = Rows { width: 1, ..Rows::default() };
        let keys = curve.keys();
        for (index, key) in keys.iter().enumerate() {
            let before = index.checked_sub(1).map(|before| &keys[before]);
            let time = key.time.seconds();
            let into = before.map_or((1.0 / 3.0, 0.0), |before| handle(before, key, true));
            let out = keys.get(index + 1).map_or((1.0 / 3.0, 0.0), |next| handle(key, next, false));
            // Before the first key and after the last one a handle goes on along the other.
            let into = if before.is_none() { (out.0, out.1) } else { into };
            let out = if index + 1 == keys.len() { (into.0, into.1) } else { out };
            let arrives = before.is_some_and(|before| before.interpolation != Interpolation::Hold);
            let left = key.left_value();
            if arrives && left != key.value {
                let earlier = f64::from((time as f32).next_down());
                if rows.times.last().is_none_or(|last| *last < earlier) {
                    rows.push(earlier, shown(left, is_angle), "STEP", (into.0, into.1 * factor), (0.0, 0.0));
                }
                rows.push(time, shown(key.value, is_angle), way(key), (0.0, 0.0), (out.0, out.1 * factor));
                continue;
            }
            rows.push(
                time,
                shown(key.value, is_angle),
                way(key),
                (into.0, into.1 * factor),
                (out.0, out.1 * factor),
            );
        }
        rows
    }

    fn push(&mut self, time: f64, value: f64, way: &'static str, into: (f64, f64), out: (f64, f64)) {
        self.times.push(time);
        self.values.push(value);
        self.ways.push(way);
        self.into.extend([time - into.0, value - into.1]);
        self.out.extend([time + out.0, value + out.1]);
    }
}

fn way(key: &Key) -> &'static str {
    match key.interpolation {
        Interpolation::Hold | Interpolation::None => "STEP",
        Interpolation::Linear => "LINEAR",
        Interpolation::Cubic => "BEZIER",
    }
}

/// How far the handle at one end of a piece reaches, in seconds and in value.
fn handle(from: &Key, to: &Key, at_end: bool) -> (f64, f64) {
    let gap = (to.time - from.time).as_f64();
    match from.interpolation {
        Interpolation::Hold | Interpolation::None => (gap / 3.0 / TICKS_PER_SECOND as f64, 0.0),
        Interpolation::Linear => (gap / 3.0 / TICKS_PER_SECOND as f64, (to.left_value() - from.value) / 3.0),
        Interpolation::Cubic => {
            let tangent = if at_end { to.tangent_in } else { from.tangent_out };
            let (dt, dv) = tangent.handle_in_gap(gap);
            (dt / TICKS_PER_SECOND as f64, dv)
        }
    }
}
