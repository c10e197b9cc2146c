//! From BVH text to a scene.

use glam::DVec3;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, MAX_TICKS, TICKS_PER_SECOND, TimeRange};

use super::hierarchy::{Hierarchy, Joint};
use super::lines::Lines;
use super::motion::{Destination, read_rows};
use crate::error::Fault;

/// Reads the scene in the bytes of a BVH file; `name` becomes the name of its rig and its take.
///
/// # Errors
/// With the number of the line on which something is wrong.
pub fn read(bytes: &[u8], name: &str, space: Space) -> Result<Scene, Fault> {
    let mut lines = Lines { bytes, at: 0, number: 0 };
    if bytes.starts_with(b"\xef\xbb\xbf") {
        lines.at = 3;
    }
    let hierarchy = Hierarchy::read(&mut lines)?;
    let frames = frame_count(&mut lines)?;
    let rate = frame_rate(&mut lines)?;
    let last = (i128::from(TICKS_PER_SECOND) * frames as i128).checked_div(i128::from(rate.numerator()));
    if last.is_none_or(|last| last * i128::from(rate.denominator()) > i128::from(MAX_TICKS)) {
        return Err(lines.fault("the motion is longer than 36 days"));
    }
    let rest = &bytes[lines.at..];
    // Each number takes a digit and a space at least: a count that cannot be true is not allocated for.
    let least = frames.saturating_mul(hierarchy.columns.len().max(1)).saturating_mul(2).saturating_sub(1);
    if least > rest.len() && !hierarchy.columns.is_empty() {
        return Err(lines.fault(format!("the file ends before its {frames} frames do: it is cut off")));
    }

    let (rig, ids) = rig_of(name, &hierarchy.joints);
    let mut slots = Slots::of(&hierarchy, frames);
    read_rows(rest, lines.number + 1, frames, &slots.columns, &mut slots.buffers)?;
    let tracks = slots.into_tracks(&hierarchy.joints, &ids, rate, frames);
    let range = TimeRange::new(Ticks::ZERO, rate.ticks(frames as i64 - 1));
    let take = Take {
        name: name.to_owned(),
        folder: None,
        range,
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(tracks)],
    };
    let takes = if frames == 0 { Vec::new() } else { vec![take] };
    Ok(Scene { rate, space, rigs: vec![rig], sets: Vec::new(), takes })
}

fn rig_of(name: &str, joints: &[Joint]) -> (Rig, Vec<NodeId>) {
    let mut rig = Rig::new(name);
    let mut ids: Vec<NodeId> = Vec::with_capacity(joints.len());
    for joint in joints {
        let kind = if joint.is_end { NodeKind::End } else { NodeKind::Joint };
        let node = Node::new(&joint.name, kind, DVec3::from_array(joint.offset), order_of(&joint.rotation));
        // Parents were added before, so this cannot fail.
        ids.push(rig.add(joint.parent.map(|parent| ids[parent]), node).expect("the parent comes first"));
    }
    (rig, ids)
}

/// The order of rotation channels listed as factors from left to right; missing axes turn innermost.
fn order_of(listed: &[usize]) -> RotationOrder {
    let mut axes = listed.to_vec();
    axes.extend((0..3).filter(|axis| !listed.contains(axis)));
    RotationOrder::from_axes(axes[0], axes[1], axes[2]).unwrap_or(RotationOrder::Xyz)
}

/// The buffers that take up the motion, three numbers a frame each.
struct Slots {
    columns: Vec<Destination>,
    buffers: Vec<Vec<f64>>,
    /// Which joint, and whether rotation, each buffer is for.
    owners: Vec<(usize, bool)>,
}

impl Slots {
    fn of(hierarchy: &Hierarchy, frames: usize) -> Slots {
        let mut slots = Slots { columns: Vec::new(), buffers: Vec::new(), owners: Vec::new() };
        for column in &hierarchy.columns {
            let owner = (column.joint, column.is_rotation);
            let buffer = slots.owners.iter().rposition(|&o| o == owner).unwrap_or_else(|| {
                slots.owners.push(owner);
                slots.buffers.push(empty_rows(&hierarchy.joints[column.joint], column.is_rotation, frames));
                slots.buffers.len() - 1
            });
            slots.columns.push(Destination { buffer, component: column.axis, is_angle: column.is_rotation });
        }
        slots
    }

    fn into_tracks(self, joints: &[Joint], ids: &[NodeId], rate: FrameRate, frames: usize) -> Vec<Track> {
        if frames == 0 {
            return Vec::new();
        }
        let track = |((joint, is_rotation), values): ((usize, bool), Vec<f64>)| {
            let (property, kind) = if is_rotation {
                ("rotation", SampleKind::Euler(order_of(&joints[joint].rotation)))
            } else {
                ("translation", SampleKind::Vector)
            };
            let samples = Samples { start: Ticks::ZERO, rate, kind, values };
            Track {
                target: Target { rig: 0, node: ids[joint], property: property.to_owned() },
                controller: Controller::Samples(samples),
            }
        };
        self.owners.into_iter().zip(self.buffers).map(track).collect()
    }
}

/// Rows of zeros, or of a joint's offset where it has position channels for some components only.
fn empty_rows(joint: &Joint, is_rotation: bool, frames: usize) -> Vec<f64> {
    if is_rotation || joint.position == [true; 3] {
        return vec![0.0; frames * 3];
    }
    joint.offset.iter().copied().cycle().take(frames * 3).collect()
}

fn frame_count(lines: &mut Lines<'_>) -> Result<usize, Fault> {
    let text = lines.labelled("Frames:")?;
    text.parse().map_err(|_| lines.fault(format!("'{text}' is not a number of frames")))
}

fn frame_rate(lines: &mut Lines<'_>) -> Result<FrameRate, Fault> {
    let text = lines.labelled("Frame Time:")?;
    let seconds: f64 = text.parse().unwrap_or(f64::NAN);
    let (digits, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let written = digits.split_once('.').map_or(0, |(_, decimals)| decimals.len() as i64);
    let decimals = (written - exponent.parse::<i64>().unwrap_or(0)).clamp(0, 18) as u32;
    FrameRate::from_frame_time(seconds, decimals)
        .ok_or_else(|| lines.fault(format!("'{text}' is not a frame time: give seconds a frame, above zero")))
}
