//! The first half of a BVH file: joints, offsets and channels.

use super::lines::Lines;
use super::motion::with_points;
use crate::error::Fault;
use nimble_curve_core::rig::MOST_DEEP;

/// What one column of the motion drives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Column {
    pub joint: usize,
    pub is_rotation: bool,
    pub axis: usize,
}

/// A joint, or an end site.
#[derive(Debug)]
pub struct Joint {
    pub name: String,
    pub parent: Option<usize>,
    pub offset: [f64; 3],
    pub is_end: bool,
    /// Axes of the rotation channels in the order in which they are listed.
    pub rotation: Vec<usize>,
    /// Which position components have a channel.
    pub position: [bool; 3],
}

/// All joints, and what the columns of the motion drive.
#[derive(Debug, Default)]
pub struct Hierarchy {
    pub joints: Vec<Joint>,
    pub columns: Vec<Column>,
}

impl Hierarchy {
    /// Reads up to and including the line `MOTION`.
    pub fn read(lines: &mut Lines<'_>) -> Result<Hierarchy, Fault> {
        let first = lines.next_line()?.ok_or_else(|| lines.fault("the file is empty"))?;
        if !first.eq_ignore_ascii_case("HIERARCHY") {
            return Err(lines.fault("a BVH file starts with the line HIERARCHY"));
        }
        let mut hierarchy = Hierarchy::default();
        let mut open: Vec<usize> = Vec::new();
        while let Some(line) = lines.next_line()? {
            let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
            let rest = rest.trim();
            match word.to_ascii_uppercase().as_str() {
                "MOTION" if open.is_empty() && !hierarchy.joints.is_empty() => return Ok(hierarchy),
                "MOTION" => return Err(lines.fault("MOTION comes before all joints are closed with }")),
                "ROOT" if open.is_empty() => open.push(hierarchy.add(None, rest, false, lines)?),
                "JOINT" | "END" if open.len() >= MOST_DEEP => {
                    return Err(lines.fault(format!("joints are nested more than {MOST_DEEP} deep")));
                }
                "JOINT" if !open.is_empty() => {
                    open.push(hierarchy.add(open.last().copied(), rest, false, lines)?);
                }
                "END" if rest.to_ascii_uppercase().starts_with("SITE") && !open.is_empty() => {
                    let parent = open[open.len() - 1];
                    let name = format!("{}_end", hierarchy.joints[parent].name);
                    let after = rest[4..].trim();
                    let name = if after.ends_with('{') { format!("{name} {{") } else { name };
                    open.push(hierarchy.add(Some(parent), &name, true, lines)?);
                }
                "OFFSET" if !open.is_empty() => {
                    let joint = open[open.len() - 1];
                    hierarchy.joints[joint].offset = offset(rest, hierarchy.joints[joint].is_end, lines)?;
                }
                "CHANNELS" if !open.is_empty() => hierarchy.channels(open[open.len() - 1], rest, lines)?,
                "}" if !open.is_empty() => {
                    open.pop();
                }
                "ROOT" | "JOINT" | "END" | "OFFSET" | "CHANNELS" | "}" => {
                    return Err(
                        lines.fault(format!("'{word}' does not belong here: check the braces above it"))
                    );
                }
                _ => {
                    let word: String = word.chars().take(24).collect();
                    return Err(lines.fault(format!(
                        "'{word}' is not part of a hierarchy: expected JOINT, End Site, OFFSET, CHANNELS or }}"
                    )));
                }
            }
        }
        Err(lines.fault("the file ends before MOTION: it is cut off"))
    }

    fn add(
        &mut self,
        parent: Option<usize>,
        name: &str,
        is_end: bool,
        lines: &mut Lines<'_>,
    ) -> Result<usize, Fault> {
        if matches!(name, "" | "{") {
            return Err(lines.fault("a joint has no name"));
        }
        let name = match name.strip_suffix('{') {
            Some(name) => name.trim(),
            None => {
                match lines.next_line()? {
                    Some("{") => {}
                    _ => return Err(lines.fault(format!("expected {{ after the joint '{name}'"))),
                }
                name
            }
        };
        self.joints.push(Joint {
            name: name.to_owned(),
            parent,
            offset: [0.0; 3],
            is_end,
            rotation: Vec::new(),
            position: [false; 3],
        });
        Ok(self.joints.len() - 1)
    }

    fn channels(&mut self, joint: usize, rest: &str, lines: &mut Lines<'_>) -> Result<(), Fault> {
        let mut words = rest.split_whitespace();
        let count: usize = (words.next().and_then(|word| word.parse().ok())).ok_or_else(|| {
            lines.fault("CHANNELS needs a number: CHANNELS 3 Zrotation Xrotation Yrotation")
        })?;
        let names: Vec<&str> = words.collect();
        if names.len() != count {
            lines.mend("CHANNELS counts otherwise than it lists: took what is listed");
        }
        let current = &mut self.joints[joint];
        if !current.rotation.is_empty() || current.position.contains(&true) {
            return Err(lines.fault(format!("'{}' has CHANNELS twice", current.name)));
        }
        for name in names {
            let lower = name.to_ascii_lowercase();
            let axis = lower.bytes().next().and_then(|letter| b"xyz".iter().position(|&a| a == letter));
            let (axis, is_rotation) = match (axis, lower.get(1..)) {
                (Some(axis), Some("rotation")) => (axis, true),
                (Some(axis), Some("position")) => (axis, false),
                _ => return Err(lines.fault(format!("'{name}' is not a channel: use Xposition … Zrotation"))),
            };
            if is_rotation {
                if current.rotation.contains(&axis) {
                    return Err(
                        lines.fault(format!("'{}' has {name} twice, which is not supported", current.name))
                    );
                }
                current.rotation.push(axis);
            } else {
                if current.position[axis] {
                    return Err(lines.fault(format!("'{}' has {name} twice", current.name)));
                }
                current.position[axis] = true;
            }
            self.columns.push(Column { joint, is_rotation, axis });
        }
        Ok(())
    }
}

fn offset(rest: &str, is_end: bool, lines: &mut Lines<'_>) -> Result<[f64; 3], Fault> {
    if rest.is_empty() && is_end {
        lines.mend("an end site's OFFSET has no numbers: took 0 0 0");
        return Ok([0.0; 3]);
    }
    let mended = with_points(rest.as_bytes());
    if let Some((_, what)) = &mended {
        lines.mend(what);
    }
    let text = mended.as_ref().map_or(rest, |(text, _)| text.as_str());
    let numbers: Option<Vec<f64>> = text.split_whitespace().map(|word| word.parse().ok()).collect();
    match numbers.as_deref() {
        Some(&[x, y, z]) if x.is_finite() && y.is_finite() && z.is_finite() => Ok([x, y, z]),
        _ => Err(lines.fault("OFFSET needs three numbers")),
    }
}
