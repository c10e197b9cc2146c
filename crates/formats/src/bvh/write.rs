//! From a scene to BVH text: every channel is sampled.

use std::collections::HashMap;
use std::fmt::Write as _;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, Samples};
use nimble_curve_core::evaluate::{Evaluator, Pose, PropertySampler};
use nimble_curve_core::hierarchy::Hierarchy;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::rig::{Node, NodeId, ROTATION, Rig, TRANSLATION};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler, principal_euler};
use nimble_curve_core::scene::{Layer, PropertyKind, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_core::value::Value;

use crate::error::Fault;

/// The text of a BVH file with the first rig of a scene in one take, and what became of its channels.
///
/// Each frame of the take's range is a row, at the rate of its samples where all have one, else of the scene.
/// Angles that were read with six decimals are written with them; others with nine.
///
/// # Errors
/// Where there is no rig, or a controller cannot be evaluated.
pub fn write(scene: &Scene, take: Option<&Take>) -> Result<(String, Ledger), Fault> {
    written(scene, take).map(|(text, ledger, _)| (text, ledger))
}

/// The same, with the nodes in the order in which they stand in the file, and when the first row is.
///
/// # Errors
/// As [`write`].
pub(crate) fn written(scene: &Scene, take: Option<&Take>) -> Result<(String, Ledger, Written), Fault> {
    let Some(rig) = scene.rigs.first() else {
        return Err(Fault::of_whole("a BVH file needs a rig, and the scene has none"));
    };
    let sheet = Sheet::of(scene, rig, take)?;
    let mut text = String::from("HIERARCHY\n");
    for &root in sheet.hierarchy.roots() {
        sheet.write_joint(&mut text, root, 0);
    }
    let (rate, range) = sheet.timing();
    let frames = if take.is_some() { rate.frame(range.last - range.first).round() as usize + 1 } else { 0 };
    let _ = writeln!(text, "MOTION\nFrames: {frames}\nFrame Time: {:.10}", 1.0 / rate.fps());
    sheet.write_rows(&mut text, frames)?;
    let mut nodes = Vec::new();
    for &root in sheet.hierarchy.roots() {
        sheet.order(root, &mut nodes);
    }
    Ok((text, sheet.ledger(), Written { nodes, start: range.first }))
}

/// A note on the unit and the up axis that a file is written in, which it cannot say itself.
pub(crate) fn stated(scene: &Space, written: &Space) -> Option<String> {
    let read = Space::CENTIMETRES_Y_UP;
    let unit = |space: &Space| {
        space.unit_name().map_or_else(|| format!("units of {} m", space.metres_per_unit), str::to_owned)
    };
    if *written != read {
        let (unit, up) = (unit(written), written.up);
        return Some(format!(
            "BVH states no unit and no axis: whoever reads this has to know that its unit is {unit} and {up} is up"
        ));
    }
    (*scene != read)
        .then(|| format!("written in {}, {} up, as BVH is read where nothing is said", unit(&read), read.up))
}

/// What stands where.
pub(crate) struct Written {
    /// Nodes from the top of the file down; none for an end site that was added.
    pub nodes: Vec<Option<NodeId>>,
    /// When the first row is.
    pub start: Ticks,
}

struct Sheet<'a> {
    scene: &'a Scene,
    rig: &'a Rig,
    take: Option<&'a Take>,
    hierarchy: Hierarchy<'a>,
    /// The joints with channels, in the order of their columns.
    columns: Vec<Joint>,
    /// Which column is whose.
    column_of: HashMap<NodeId, usize>,
}

struct Joint {
    id: NodeId,
    position: usize,
    order: RotationOrder,
    moves: bool,
    /// Whether the angles of the animated rotation are those of the joint.
    is_plain: bool,
}

impl<'a> Sheet<'a> {
    fn of(scene: &'a Scene, rig: &'a Rig, take: Option<&'a Take>) -> Result<Sheet<'a>, Fault> {
        let mut tracks: HashMap<NodeId, Vec<&Track>> = HashMap::new();
        for (_, track) in take.into_iter().flat_map(Take::tracks).filter(|(_, track)| track.target.rig == 0) {
            tracks.entry(track.target.node).or_default().push(track);
        }
        // Columns follow the hierarchy depth first, which need not be the order of the nodes.
        let hierarchy = Hierarchy::new(rig);
        let (mut columns, mut column_of) = (Vec::new(), HashMap::new());
        let mut open: Vec<NodeId> = hierarchy.roots().iter().rev().copied().collect();
        while let Some(id) = open.pop() {
            let (Some(node), Some(position)) = (rig.node(id), rig.position(id)) else { continue };
            let below = hierarchy.children(id);
            open.extend(below.iter().rev());
            // An end or a locator without children below a joint is written as an end site.
            if node.kind.is_support() && rig.parent(id).is_some() && below.is_empty() {
                continue;
            }
            let own = tracks.get(&id).map_or(&[][..], Vec::as_slice);
            let is_moved = own.iter().any(|track| track.target.property == TRANSLATION);
            let view = node.canonical();
            let is_identity = |q: glam::DQuat| q.w.abs() >= 1.0;
            column_of.insert(id, columns.len());
            columns.push(Joint {
                id,
                position,
                order: order_of(node, own),
                moves: rig.parent(id).is_none() || is_moved || view.is_none(),
                is_plain: view.is_some_and(|v| is_identity(v.before) && is_identity(v.after)),
            });
        }
        Ok(Sheet { scene, rig, take, hierarchy, columns, column_of })
    }

    /// A node's column; none of one that is written as an end site.
    fn column(&self, id: NodeId) -> Option<&Joint> {
        self.column_of.get(&id).map(|column| &self.columns[*column])
    }

    /// The rate of the rows and the range they cover.
    fn timing(&self) -> (FrameRate, TimeRange) {
        let still = TimeRange::new(Default::default(), Default::default());
        let Some(take) = self.take else { return (self.scene.rate, still) };
        let mut rates = take.tracks().filter_map(|(_, track)| match &track.controller {
            Controller::Samples(samples) => Some(samples.rate),
            _ => None,
        });
        let first = rates.next();
        let rate = first.filter(|&first| rates.all(|rate| rate == first)).unwrap_or(self.scene.rate);
        (rate, take.range)
    }

    fn write_joint(&self, text: &mut String, id: NodeId, depth: usize) {
        let Some(node) = self.rig.node(id) else { return };
        let indent = "  ".repeat(depth);
        let offset = node.rest().translation;
        let column = self.column(id);
        let head = match column {
            None => "End Site".to_owned(),
            Some(_) if depth == 0 => format!("ROOT {}", one_line(&node.name)),
            Some(_) => format!("JOINT {}", one_line(&node.name)),
        };
        let _ = writeln!(text, "{indent}{head}\n{indent}{{");
        // A root's channels say where it is; readers that add its offset to them would have it twice.
        let is_said = self.take.is_some() && depth == 0 && column.is_some();
        let [x, y, z] = if is_said { [0.0; 3] } else { offset.to_array() };
        let _ = writeln!(text, "{indent}  OFFSET {x} {y} {z}");
        if let Some(joint) = column {
            let (a, b, c) = joint.order.axes();
            let letter = |axis: usize| ["X", "Y", "Z"][axis];
            let rotation = format!("{}rotation {}rotation {}rotation", letter(a), letter(b), letter(c));
            let channels = if joint.moves {
                format!("6 Xposition Yposition Zposition {rotation}")
            } else {
                format!("3 {rotation}")
            };
            let _ = writeln!(text, "{indent}  CHANNELS {channels}");
            let below = self.hierarchy.children(id);
            if below.is_empty() {
                let _ = writeln!(
                    text,
                    "{indent}  End Site\n{indent}  {{\n{indent}    OFFSET 0 0 0\n{indent}  }}"
                );
            }
            for &child in below {
                self.write_joint(text, child, depth + 1);
            }
        }
        let _ = writeln!(text, "{indent}}}");
    }

    /// The nodes as `write_joint` writes them.
    fn order(&self, id: NodeId, nodes: &mut Vec<Option<NodeId>>) {
        nodes.push(Some(id));
        if self.column(id).is_some() {
            let below = self.hierarchy.children(id);
            if below.is_empty() {
                nodes.push(None);
            }
            below.iter().for_each(|child| self.order(*child, nodes));
        }
    }

    fn write_rows(&self, text: &mut String, frames: usize) -> Result<(), Fault> {
        let (rate, range) = self.timing();
        let (Some(take), true) = (self.take, frames > 0) else { return Ok(()) };
        let fault = |error: nimble_curve_core::evaluate::EvaluateError| Fault::of_whole(error.to_string());
        let mut poses = Evaluator::new(self.scene, Some(take), 0).map_err(fault)?;
        let tracks = take.tracks_by_node();
        let mut plain = Vec::with_capacity(self.columns.len());
        for joint in &self.columns {
            if !joint.is_plain {
                plain.push(None);
                continue;
            }
            let target = Target { rig: 0, node: joint.id, property: ROTATION.into() };
            let turns: Vec<(&Layer, &Track)> = (tracks.on((0, joint.id)).iter())
                .filter(|(_, track)| track.target.property == ROTATION)
                .copied()
                .collect();
            let sampler = PropertySampler::of_tracks(self.scene, &target, &turns, Some(take.range));
            plain.push(Some(sampler.map_err(fault)?));
        }
        let mut pose = Pose::default();
        let mut last: Vec<Option<glam::DVec3>> = vec![None; self.columns.len()];
        for frame in 0..frames {
            let time = (range.first + rate.ticks(frame as i64)).as_f64();
            poses.pose_at(time, &mut pose);
            for (index, joint) in self.columns.iter().enumerate() {
                if joint.moves {
                    for number in pose.local[joint.position].translation.to_array() {
                        push_number(text, number);
                    }
                }
                let kept = plain[index].as_mut().map(|sampler| sampler.value_at(time));
                let angles = match kept {
                    Some(Value::Euler { order, angles }) if order == joint.order => angles,
                    _ => {
                        let rotation = pose.local_rotation[joint.position];
                        match last[index] {
                            Some(last) => nearest_euler(joint.order, rotation, last),
                            None => principal_euler(joint.order, rotation),
                        }
                    }
                };
                last[index] = Some(angles);
                let (a, b, c) = joint.order.axes();
                for axis in [a, b, c] {
                    push_degrees(text, angles[axis]);
                }
            }
            text.pop();
            text.push('\n');
        }
        Ok(())
    }

    fn ledger(&self) -> Ledger {
        let mut ledger = Ledger::default();
        let Some(take) = self.take else { return ledger };
        let addresses = Addresses::new(self.scene);
        let (rate, range) = self.timing();
        for (layer, track) in take.tracks() {
            let holds = track.target.rig == 0
                && self.column(track.target.node).is_some_and(|joint| {
                    self.rig.node(joint.id).and_then(|node| node.op(&track.target.property)).is_some()
                });
            let kind =
                self.scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
            let is_scale = kind == Some(PropertyKind::Scale);
            let same = |samples: &Samples| samples.rate == rate && samples.start == range.first;
            let (fate, note) = match &track.controller {
                _ if !holds => (Fate::LeftOut, "BVH holds translation and rotation of one rig's joints only"),
                _ if is_scale => (Fate::LeftOut, "BVH holds no scale"),
                Controller::Samples(samples) if same(samples) && take.layers.len() == 1 => (Fate::Kept, ""),
                _ => (Fate::Sampled, "BVH holds a value a frame"),
            };
            let before = track.controller.key_count().max(track.controller.sample_count());
            let rows = (rate.frame(range.last - range.first).round() as usize + 1) * 3;
            ledger.entries.push(Entry {
                take: take.name.clone(),
                layer: take.layers[layer].name.clone(),
                channel: addresses.property(&track.target),
                to: None,
                target: Some(track.target.clone()),
                fate,
                error: None,
                before,
                after: if fate == Fate::LeftOut { 0 } else { rows },
                note: note.to_owned(),
            });
        }
        if self.scene.rigs.len() > 1 {
            ledger.notes.push(format!("only the first rig, '{}', is written: BVH holds one", self.rig.name));
        }
        for other in self.scene.takes.iter().filter(|other| other.name != take.name) {
            for (layer, track) in other.tracks() {
                let before = track.controller.key_count().max(track.controller.sample_count());
                ledger.entries.push(Entry {
                    take: other.name.clone(),
                    layer: other.layers[layer].name.clone(),
                    channel: addresses.property(&track.target),
                    to: None,
                    target: Some(track.target.clone()),
                    fate: Fate::LeftOut,
                    error: None,
                    before,
                    after: 0,
                    note: "BVH holds one take".to_owned(),
                });
            }
        }
        if self.scene.takes.len() > 1 {
            ledger.notes.push(format!("only the take '{}' is written: BVH holds one", take.name));
        }
        ledger
    }
}

/// The order in which a joint's rotation is animated, else that of its rest.
fn order_of(node: &Node, tracks: &[&Track]) -> RotationOrder {
    let at_rest = node.canonical().and_then(|view| view.order).unwrap_or(RotationOrder::Yxz);
    let of_track = |controller: &Controller| match controller {
        Controller::Euler(euler) => Some(euler.order),
        Controller::Samples(samples) => match samples.kind {
            nimble_curve_core::controller::SampleKind::Euler(order) => Some(order),
            _ => None,
        },
        _ => None,
    };
    let turns = tracks.iter().filter(|track| track.target.property == ROTATION);
    turns.into_iter().find_map(|track| of_track(&track.controller)).unwrap_or(at_rest)
}

/// A name without the line breaks and braces that would end it.
fn one_line(name: &str) -> String {
    let clean: String =
        name.chars().map(|c| if c.is_control() || matches!(c, '{' | '}') { '_' } else { c }).collect();
    let clean = clean.trim();
    if clean.is_empty() { "unnamed".to_owned() } else { clean.to_owned() }
}

fn push_degrees(text: &mut String, radians: f64) {
    let degrees = radians.to_degrees();
    let six = (degrees * 1e6).round() / 1e6;
    let written = if angle::radians(six) == radians { six } else { (degrees * 1e9).round() / 1e9 };
    let _ = write!(text, "{} ", written + 0.0);
}

fn push_number(text: &mut String, number: f64) {
    let six = (number * 1e6).round() / 1e6;
    let _ = write!(
        text,
        "{} ",
        if (six - number).abs() <= f64::EPSILON * number.abs() { six + 0.0 } else { number }
    );
}
