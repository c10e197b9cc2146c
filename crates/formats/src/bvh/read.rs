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
use super::motion::{Destination, Mended, Rows, find_rows, read_rows, with_points};
use crate::error::Fault;

/// Reads the scene in the bytes of a BVH file; `name` becomes the name of its rig and its take. Also what is not as it
/// should be, but plainly meant, and what it was taken for.
///
/// # Errors
/// With the number of the line on which something is wrong.
pub fn read(bytes: &[u8], name: &str, space: Space) -> Result<(Scene, Vec<String>), Fault> {
    let mut lines = Lines { bytes, at: 0, number: 0, mended: Vec::new() };
    if bytes.starts_with(b"\xef\xbb\xbf") {
        lines.at = 3;
    }
    let hierarchy = Hierarchy::read(&mut lines)?;
    let announced = frame_count(&mut lines)?;
    let header = lines.number;
    let rate = frame_rate(&mut lines)?;
    let pointed = with_points(&bytes[lines.at..]);
    if let Some((_, what)) = &pointed {
        lines.mend(what);
    }
    let rest = pointed.as_ref().map_or(&bytes[lines.at..], |(text, _)| text.as_bytes());
    // As announced, first: looking for rows takes a pass of its own.
    let (frames, slots) = match as_announced(rest, lines.number + 1, announced, &hierarchy) {
        Some(slots) => (announced, slots),
        None => {
            let rows = rows_of(rest, announced, &hierarchy, (&mut lines, header))?;
            (rows.frames, as_found(rest, lines.number + 1, &rows, &hierarchy)?)
        }
    };
    let last = (i128::from(TICKS_PER_SECOND) * frames as i128).checked_div(i128::from(rate.numerator()));
    if last.is_none_or(|last| last * i128::from(rate.denominator()) > i128::from(MAX_TICKS)) {
        return Err(lines.fault("the motion is longer than 36 days"));
    }

    let (rig, ids) = rig_of(name, &hierarchy.joints);
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
    Ok((
        Scene { rate, space, rigs: vec![rig], sets: Vec::new(), constraints: Vec::new(), takes },
        lines.mended,
    ))
}

/// The least bytes that so many frames take: a digit and a space a number.
fn least(frames: usize, hierarchy: &Hierarchy) -> usize {
    frames.saturating_mul(hierarchy.columns.len().max(1)).saturating_mul(2).saturating_sub(1)
}

/// The motion where there are just the rows that the header announces, one a line; else nothing.
fn as_announced(rest: &[u8], line: usize, frames: usize, hierarchy: &Hierarchy) -> Option<Slots> {
    // What cannot be is not allocated for.
    if hierarchy.columns.is_empty() || least(frames, hierarchy) > rest.len() {
        return None;
    }
    let mut slots = Slots::of(hierarchy, frames);
    let rows = Rows { frames, is_wrapped: false, mended: None };
    let nothing_follows = read_rows(rest, line, &rows, &slots.columns, &mut slots.buffers);
    nothing_follows.is_ok_and(|nothing_follows| nothing_follows).then_some(slots)
}

/// The motion of rows that were found.
fn as_found(rest: &[u8], line: usize, rows: &Rows, hierarchy: &Hierarchy) -> Result<Slots, Fault> {
    // Lines too short for their channels are not allocated for: the first of them is told.
    let room = if least(rows.frames, hierarchy) > rest.len() { 1 } else { rows.frames };
    let mut slots = Slots::of(hierarchy, room);
    read_rows(rest, line, &Rows { frames: room, ..*rows }, &slots.columns, &mut slots.buffers)?;
    match room < rows.frames {
        true => Err(Fault::on_line(line, "some frames have fewer numbers than there are channels")),
        false => Ok(slots),
    }
}

/// Where the rows are, and a note on what is not as the header says.
fn rows_of(
    rest: &[u8],
    announced: usize,
    hierarchy: &Hierarchy,
    (lines, header): (&mut Lines<'_>, usize),
) -> Result<Rows, Fault> {
    let width = hierarchy.columns.len();
    if width == 0 {
        if !rest.trim_ascii().is_empty() {
            return Err(Fault::on_line(lines.number + 1, "no joint has channels, but numbers follow"));
        }
        return Ok(Rows { frames: announced, is_wrapped: false, mended: None });
    }
    let cut_off = || lines.fault(format!("the file ends before its {announced} frames do: it is cut off"));
    let rows = find_rows(rest, announced, width).ok_or_else(cut_off)?;
    if rows.frames == 0 && announced > 0 {
        return Err(cut_off());
    }
    let counted = |count: usize| if count == 1 { "1 frame".to_owned() } else { format!("{count} frames") };
    let (said, there) = (counted(announced), counted(rows.frames));
    lines.mended.extend(rows.mended.map(|mended| match mended {
        Mended::Count => {
            format!("line {header}: announces {said}, but {there} follow: took those that follow")
        }
        Mended::Wrapped => format!("line {}: frames are broken over several lines", header + 2),
    }));
    Ok(rows)
}

fn rig_of(name: &str, joints: &[Joint]) -> (Rig, Vec<NodeId>) {
    let mut rig = Rig::new(name);
    let mut ids: Vec<NodeId> = Vec::with_capacity(joints.len());
    for joint in joints {
        let kind = if joint.is_end { NodeKind::End } else { NodeKind::Joint };
        let node = Node::new(&joint.name, kind, DVec3::from_array(joint.offset), order_of(&joint.rotation));
        // Parents were added before, and how deep joints are was looked at, so this cannot fail.
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
    let text = lines.labelled("Frames")?;
    text.parse().map_err(|_| lines.fault(format!("'{text}' is not a number of frames")))
}

fn frame_rate(lines: &mut Lines<'_>) -> Result<FrameRate, Fault> {
    let said = lines.labelled("Frame Time")?;
    let pointed = with_points(said.as_bytes());
    if let Some((_, what)) = &pointed {
        lines.mend(what);
    }
    let text = pointed.as_ref().map_or(said, |(text, _)| text);
    let seconds: f64 = text.parse().unwrap_or(f64::NAN);
    let (digits, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let written = digits.split_once('.').map_or(0, |(_, decimals)| decimals.len() as i64);
    let decimals = (written - exponent.parse::<i64>().unwrap_or(0)).clamp(0, 18) as u32;
    FrameRate::from_frame_time(seconds, decimals)
        .ok_or_else(|| lines.fault(format!("'{said}' is not a frame time: give seconds a frame, above zero")))
}
