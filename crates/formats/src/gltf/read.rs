//! From a glTF document to a scene.

use std::collections::HashSet;

use glam::{DQuat, DVec4};
use nimble_curve_core::controller::{
    Controller, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Key, Tangent, TangentMode, Ticks};
use nimble_curve_core::evaluate::solvable;
use nimble_curve_core::rig::{NodeId, Rig};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use super::accessor::Numbers;
use super::constraints;
use super::container::Folder;
use super::document::{Animation, Document, Driven, POINTER};
use super::humanoid::Humanoid;
use super::nodes::{add_numbers, leave_out_scene, parents_first, rig, unit};
use crate::error::Fault;
use crate::grid::{self, Clock, Said};

/// Extensions that a file may require although they are unknown here: they say nothing about nodes or animations.
const HARMLESS: [&str; 9] = [
    "VRMC_",
    "KHR_materials_",
    "KHR_texture_",
    "EXT_texture_",
    "KHR_mesh_quantization",
    "KHR_draco_mesh_compression",
    "KHR_lights_punctual",
    "KHR_xmp",
    POINTER,
];

/// What a document says, without our extra data.
#[derive(Debug)]
pub struct Plain {
    /// The scene.
    pub scene: Scene,
    /// The place in the document of each node of its rig.
    pub places: Vec<usize>,
    /// What was let pass.
    pub notes: Vec<String>,
}

/// Where the numbers of a document are.
#[derive(Clone, Copy, Debug)]
pub struct File<'a> {
    /// The binary chunk.
    pub binary: Option<&'a [u8]>,
    /// The folder of buffers beside it.
    pub folder: Folder<'a>,
    /// Whether takes start where our own note beside them says, and keys are on frames that they are almost on; other programs do not know it.
    pub with_starts: bool,
    /// Whether the extension for constraints counts: extra data of ours says more.
    pub with_constraints: bool,
}

/// The document in some JSON.
pub fn document(json: &[u8]) -> Result<Document, Fault> {
    let document: Document = serde_json::from_slice(json)
        .map_err(|error| Fault::on_line(error.line(), crate::said::json(&error)))?;
    let version = document.asset.min_version.as_ref().unwrap_or(&document.asset.version);
    if !version.starts_with("2.") {
        let shown: String = version.chars().take(24).collect();
        return Err(Fault::in_part("asset", format!("this is glTF {shown}: only glTF 2.0 can be read")));
    }
    Ok(document)
}

/// The scene of a document whose buffers lie in the binary chunk, in the text or in a folder.
pub fn read(
    document: &Document,
    file: &File<'_>,
    name: &str,
    rate: Option<FrameRate>,
) -> Result<Plain, Fault> {
    let numbers = Numbers::new(document, file.binary, file.folder);
    let mut order = parents_first(document)?;
    if file.with_starts {
        leave_out_scene(document, &mut order);
    }
    let known = |extension: &&String| HARMLESS.iter().any(|start| extension.starts_with(start));
    let unknown = document.extensions_required.iter().filter(|extension| !known(extension));
    let mut notes: Vec<String> = unknown
        .map(|extension| {
            let shown: String = extension.chars().take(60).collect();
            format!("it needs the extension '{shown}', which is not read: what that says of nodes and animations is not seen")
        })
        .collect();
    let (mut rig, ids) = rig(document, &numbers, &order, name)?;
    let count = |id: &NodeId| rig.node(*id).map_or(0, |node| node.attributes.len());
    let morphs: Vec<usize> = ids.iter().map(count).collect();
    add_numbers(document, &mut rig, &ids);
    let humanoid = Humanoid::of(document.extensions.as_ref());
    humanoid.tell(&mut rig, &ids);
    let times: Vec<Times> = document
        .animations
        .iter()
        .map(|animation| {
            let start = if file.with_starts { start_of(animation, document) } else { 0.0 };
            input_times(animation, &numbers, start)
        })
        .collect::<Result<_, _>>()?;
    // Samplers share their times: each list counts once.
    let mut said: Vec<Said> = Vec::new();
    for (animation, Times { start, seconds }) in document.animations.iter().zip(&times) {
        let mut seen = HashSet::new();
        let own = animation.samplers.iter().zip(seconds).filter(|(sampler, _)| seen.insert(sampler.input));
        said.extend(own.flat_map(|(_, seconds)| seconds.iter().map(|&s| (s + start, f32_slack(s)))));
    }
    let clock = Clock::of(&said, rate).unwrap_or_else(|| {
        if !document.animations.is_empty() {
            notes.push("no frame rate fits its key times: took 30 (--rate says otherwise)".to_owned());
        }
        Clock::tolerant(FrameRate::FPS_30)
    });
    let rate = clock.rate;
    let clock = if file.with_starts { clock } else { Clock::exact(rate) };
    let mut takes = Vec::new();
    for (index, (animation, times)) in document.animations.iter().zip(&times).enumerate() {
        let reader = Reader { numbers: &numbers, ids: &ids, clock: &clock, rig: &rig, morphs: &morphs };
        let mut take = reader.take(index, animation, times, &mut notes)?;
        for layer in take.iter_mut().flat_map(|take| &mut take.layers) {
            humanoid.express(&mut layer.tracks, &ids);
        }
        takes.extend(take);
    }
    notes.extend(clock.note());
    let driving = match file.with_constraints {
        true => constraints::read(document, &rig, &ids, &mut notes)?,
        false => Vec::new(),
    };
    constraints::without_driven(&mut takes, &driving, &mut notes);
    let scene = Scene {
        rate,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: driving,
        takes,
    };
    solvable(&scene).map_err(|circle| Fault::of_whole(circle.to_string()))?;
    Ok(Plain { scene, places: order.into_iter().map(|(place, _)| place).collect(), notes })
}

/// How far a time in single precision may be from the one that was meant, in seconds.
fn f32_slack(seconds: f64) -> f64 {
    seconds.abs() * 1.2e-7 + 1e-9
}

/// The times of the samplers of an animation.
struct Times {
    /// What is to be added to them, in seconds.
    start: f64,
    /// The times of each sampler as they are in the file, in seconds.
    seconds: Vec<Vec<f64>>,
}

/// Where a take starts, in seconds: an animation starts at zero, and a note of ours says what that was.
fn start_of(animation: &Animation, document: &Document) -> f64 {
    let beside = animation.extras.as_ref().and_then(|extras| extras.get(super::START));
    let name = animation.name.as_deref().unwrap_or_default();
    let within = || document.extra_data(super::EXTRAS)?.get(super::STARTS)?.get(name);
    let start = beside.or_else(within).and_then(|start| start.as_f64());
    start.filter(|start| start.is_finite()).unwrap_or(0.0)
}

fn input_times(animation: &Animation, numbers: &Numbers<'_>, start: f64) -> Result<Times, Fault> {
    let seconds =
        animation.samplers.iter().map(|sampler| numbers.read(sampler.input)).collect::<Result<_, _>>()?;
    Ok(Times { start, seconds })
}

struct Reader<'a> {
    numbers: &'a Numbers<'a>,
    ids: &'a [NodeId],
    clock: &'a Clock,
    rig: &'a Rig,
    /// How many morph targets each node of the document has: its first attributes.
    morphs: &'a [usize],
}

/// A sampler's rows: numbers of one width at increasing times.
struct Rows {
    times: Vec<Ticks>,
    width: usize,
    values: Vec<f64>,
    /// Slopes per second before and after, for cubics.
    slopes: Option<(Vec<f64>, Vec<f64>)>,
    interpolation: Interpolation,
    /// Rows that stand for the value just before the next one.
    jumps: Vec<bool>,
}

impl Reader<'_> {
    fn take(
        &self,
        index: usize,
        animation: &Animation,
        times: &Times,
        notes: &mut Vec<String>,
    ) -> Result<Option<Take>, Fault> {
        // An empty name is none.
        let named = animation.name.clone().filter(|name| !name.is_empty());
        let name = named.unwrap_or_else(|| format!("take {}", index + 1));
        let mut tracks: Vec<Track> = Vec::new();
        let mut seen = HashSet::new();
        for (place, channel) in animation.channels.iter().enumerate() {
            let part = || format!("animation '{name}', channel {place}");
            let fault = |message: String| Fault::in_part(part(), message);
            let driven = channel.target.driven();
            let node = match &driven {
                Driven::Property(node, _) | Driven::Weight(node, _) | Driven::Number(node, _) => *node,
                Driven::Nothing => {
                    notes.push(format!("{}: it has no node and was passed over", part()));
                    continue;
                }
                Driven::Else(what) => {
                    notes.push(format!(
                        "{}: '{what}' is not read; it stays in a glTF file that is written into",
                        part()
                    ));
                    continue;
                }
            };
            let id = *self.ids.get(node).ok_or_else(|| fault(format!("there is no node {node}")))?;
            let weights = self.morphs.get(node).copied().unwrap_or(0);
            let (path, width) = match &driven {
                Driven::Property(_, path @ ("translation" | "scale")) => (*path, 3),
                Driven::Property(_, path @ "rotation") => (*path, 4),
                Driven::Property(_, path) => (*path, weights),
                Driven::Weight(_, weight) => ("weights", usize::from(*weight < weights)),
                _ => ("number", 1),
            };
            if width == 0 {
                notes.push(format!("{}: its node has no such morph targets, so it was passed over", part()));
                continue;
            }
            if !seen.insert(driven.clone()) {
                return Err(fault(format!("'{path}' of node {node} is animated twice")));
            }
            let seconds = times.seconds.get(channel.sampler);
            let seconds = seconds.ok_or_else(|| fault(format!("there is no sampler {}", channel.sampler)))?;
            if seconds.is_empty() {
                notes.push(format!("{}: it has no keys and was passed over", part()));
                continue;
            }
            let is_step = matches!(driven, Driven::Property(_, path) if path != "weights");
            if is_step && self.rig.node(id).is_some_and(|node| node.op("matrix").is_some()) {
                notes.push(format!("{}: its node has a matrix, which cannot be animated", part()));
                continue;
            }
            let rows = self.rows(&animation.samplers[channel.sampler], times.start, seconds, width, &part)?;
            let mut push = |property: &str, controller: Controller| {
                let target = Target { rig: 0, node: id, property: property.to_owned() };
                tracks.push(Track { target, controller });
            };
            match path {
                "rotation" => push(path, self.rotation(rows)),
                "weights" | "number" => {
                    let attributes = self.rig.node(id).map_or(&[][..], |node| &node.attributes);
                    let names: Vec<String> = match &driven {
                        Driven::Number(_, name) => vec![name.clone()],
                        Driven::Weight(_, weight) => vec![attributes[*weight].name.clone()],
                        _ => attributes[..weights].iter().map(|attribute| attribute.name.clone()).collect(),
                    };
                    for (component, name) in names.iter().enumerate() {
                        push(name, self.number(&rows, component));
                    }
                }
                _ => push(path, self.vector(rows)),
            }
        }
        let Some(range) = tracks.iter().filter_map(|track| track.controller.range()).reduce(TimeRange::union)
        else {
            if !animation.channels.is_empty() {
                notes.push(format!("animation '{name}' has no keys that can be read and was passed over"));
            }
            return Ok(None);
        };
        let layers = vec![Layer::base(tracks)];
        Ok(Some(Take { name, folder: None, range, clips: Vec::new(), markers: Vec::new(), layers }))
    }

    fn rows(
        &self,
        sampler: &super::document::Sampler,
        start: f64,
        seconds: &[f64],
        width: usize,
        part: &dyn Fn() -> String,
    ) -> Result<Rows, Fault> {
        let fault = |message: String| Fault::in_part(part(), message);
        let interpolation = match sampler.interpolation.as_deref() {
            None | Some("LINEAR") => Interpolation::Linear,
            Some("STEP") => Interpolation::Hold,
            Some("CUBICSPLINE") => Interpolation::Cubic,
            Some(other) => {
                let shown: String = other.chars().take(24).collect();
                return Err(fault(format!("'{shown}' is not an interpolation of glTF")));
            }
        };
        let cubic = interpolation == Interpolation::Cubic;
        let all = self.numbers.read(sampler.output)?;
        let needed = seconds.len() * width * if cubic { 3 } else { 1 };
        if all.len() != needed {
            return Err(fault(format!(
                "{} keys need {needed} numbers, but there are {}",
                seconds.len(),
                all.len()
            )));
        }
        let with_slack = seconds.iter().map(|&second| (start + second, f32_slack(second)));
        let is_jump = |a: f64, b: f64| grid::neighbours(a - start, b - start);
        let times = self.clock.times(with_slack, is_jump);
        for (index, (&second, time)) in seconds.iter().zip(&times).enumerate() {
            if !time.is_allowed() {
                return Err(fault(format!("key {index} lies more than 36 days from the start")));
            }
            if index > 0 && second <= seconds[index - 1] {
                return Err(fault(format!("key {index} is not later than the key before it")));
            }
        }
        // Two keys at neighbouring numbers in single precision are a jump.
        let jumps = (0..seconds.len())
            .map(|index| {
                let meets =
                    seconds.get(index + 1).is_some_and(|next| grid::neighbours(seconds[index], *next));
                interpolation != Interpolation::Hold && meets
            })
            .collect();
        if !cubic {
            return Ok(Rows { times, width, values: all, slopes: None, interpolation, jumps });
        }
        let third = |part: usize| -> Vec<f64> {
            let rows = all.chunks_exact(3 * width);
            rows.flat_map(|row| row[part * width..(part + 1) * width].iter().copied()).collect()
        };
        Ok(Rows { times, width, values: third(1), slopes: Some((third(0), third(2))), interpolation, jumps })
    }

    /// Whether rows are samples: straight lines at every frame, or finer.
    fn step(&self, rows: &Rows) -> Option<FrameRate> {
        (rows.interpolation == Interpolation::Linear && !rows.jumps.contains(&true))
            .then(|| grid::step(&rows.times, self.clock.rate))
            .flatten()
    }

    fn vector(&self, rows: Rows) -> Controller {
        if let Some(rate) = self.step(&rows) {
            let samples =
                Samples { start: rows.times[0], rate, kind: SampleKind::Vector, values: rows.values };
            return Controller::Samples(samples);
        }
        Controller::Components((0..rows.width).map(|component| curve(&rows, component)).collect())
    }

    fn number(&self, rows: &Rows, component: usize) -> Controller {
        if let Some(rate) = self.step(rows) {
            let values = rows.values.iter().skip(component).step_by(rows.width).copied().collect();
            return Controller::Samples(Samples {
                start: rows.times[0],
                rate,
                kind: SampleKind::Number,
                values,
            });
        }
        Controller::Components(vec![curve(rows, component)])
    }

    fn rotation(&self, mut rows: Rows) -> Controller {
        for row in rows.values.chunks_exact_mut(4) {
            let q = DQuat::from_slice(row);
            let q = if q.length_squared() > 0.0 { unit(q) } else { DQuat::IDENTITY };
            row.copy_from_slice(&q.to_array());
        }
        if let Some(rate) = self.step(&rows) {
            let samples =
                Samples { start: rows.times[0], rate, kind: SampleKind::Quaternion, values: rows.values };
            return Controller::Samples(samples);
        }
        let interpolation = match rows.interpolation {
            Interpolation::Hold => QuaternionInterpolation::Step,
            Interpolation::Linear => QuaternionInterpolation::Slerp,
            _ => QuaternionInterpolation::Cubic,
        };
        let slope = |slopes: Option<&Vec<f64>>, index: usize| {
            slopes.map_or(DVec4::ZERO, |all| DVec4::from_slice(&all[index * 4..index * 4 + 4]))
        };
        let mut keys: Vec<QuaternionKey> = (rows.times.iter().enumerate())
            .map(|(index, &time)| QuaternionKey {
                time,
                value: DQuat::from_slice(&rows.values[index * 4..index * 4 + 4]),
                interpolation,
                tangent_in: slope(rows.slopes.as_ref().map(|both| &both.0), index),
                tangent_out: slope(rows.slopes.as_ref().map(|both| &both.1), index),
            })
            .collect();
        let still = |a: &QuaternionKey, b: &QuaternionKey| {
            a.value == b.value && a.tangent_out == DVec4::ZERO && b.tangent_in == DVec4::ZERO
        };
        // A rotation that does not move up to a jump holds.
        for index in 0..keys.len().saturating_sub(2) {
            if rows.jumps[index + 1] && still(&keys[index], &keys[index + 1]) {
                keys[index].interpolation = QuaternionInterpolation::Step;
            }
        }
        let after_hold = |index: usize| {
            rows.jumps[index] && index > 0 && keys[index - 1].interpolation == QuaternionInterpolation::Step
        };
        let mut kept: Vec<QuaternionKey> = Vec::with_capacity(keys.len());
        for (index, key) in keys.iter().enumerate() {
            if after_hold(index) {
                continue;
            }
            let jumps = rows.jumps[index];
            let time = if jumps { Ticks(keys[index + 1].time.0 - 1) } else { key.time };
            let way = if jumps { QuaternionInterpolation::Step } else { key.interpolation };
            if kept.last().is_none_or(|last| last.time < time) {
                kept.push(QuaternionKey { time, interpolation: way, ..*key });
            }
        }
        let curve = QuaternionCurve { keys: kept, before: Behaviour::Held, after: Behaviour::Held };
        Controller::Quaternion(curve)
    }
}

/// One component of some rows as a curve; two rows at a jump are one key.
fn curve(rows: &Rows, component: usize) -> Curve {
    let at = |all: &[f64], index: usize| all[index * rows.width + component];
    let mut keys: Vec<Key> = Vec::with_capacity(rows.times.len());
    let mut before: Option<Key> = None;
    for (index, &time) in rows.times.iter().enumerate() {
        let mut key = Key::new(time, at(&rows.values, index)).with_interpolation(rows.interpolation);
        key = match (&rows.slopes, rows.interpolation) {
            (Some((into, out)), _) => key.with_slopes(at(into, index), at(out, index)),
            (None, Interpolation::Linear) => Key {
                tangent_in: Tangent::of_mode(TangentMode::Linear),
                tangent_out: Tangent::of_mode(TangentMode::Linear),
                joined: false,
                ..key
            },
            _ => key.with_slope(0.0),
        };
        if let Some(left) = before.take() {
            key.tangent_in = left.tangent_in;
            if left.value != key.value {
                key.value_before = Some(left.value);
            }
        }
        if rows.jumps[index] {
            before = Some(key);
            continue;
        }
        let is_cubic = rows.interpolation == Interpolation::Cubic;
        key.joined = is_cubic && key.value_before.is_none() && key.tangent_in == key.tangent_out;
        if let Some(last) = keys.last_mut() {
            // What does not move up to a jump holds.
            let flat = last.tangent_out.is_flat() && key.tangent_in.is_flat();
            if is_cubic && flat && key.value_before == Some(last.value) {
                last.interpolation = Interpolation::Hold;
                key.value_before = None;
            }
            if last.time >= time {
                continue;
            }
        }
        keys.push(key);
    }
    Curve::new(keys).expect("times ascend, and numbers are finite where they are read")
}
