//! Two bones: the joints that may be a limb, and where these stand on each frame.

use glam::DVec3;

use super::Limits;
use super::pole::{Bends, hinge};
use super::recorded::Recording;

/// How far below one another the joints of a limb may hang.
const DEEPEST: usize = 4;

/// How far the hinge of a limb may turn in its joints, in radians, before these are no limb: where it is nearly straight, positions
/// say little of it.
const HINGE: f64 = 5e-3;

/// The joints of a limb.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Joints {
    pub upper: usize,
    pub lower: usize,
    pub end: usize,
}

/// The joints that may be a limb: both bones keep their lengths, both joints turn.
pub fn joints(recording: &Recording) -> Vec<Joints> {
    let turns = |index: usize| {
        let own = &recording.nodes[index];
        !recording.is_for_animators(index) && own.moves.rotation
    };
    // The nearest above that turns, where nothing between moves.
    let over = |node: usize| {
        let found =
            recording.up(node).skip(1).take(DEEPEST).find(|&index| recording.nodes[index].moves.any())?;
        turns(found).then_some(found)
    };
    let mut found = Vec::new();
    for end in 0..recording.nodes.len() {
        let own = &recording.nodes[end];
        if recording.is_for_animators(end) || own.moves.translation {
            continue;
        }
        let Some(lower) = over(end) else { continue };
        let Some(upper) = over(lower).filter(|_| !recording.nodes[lower].moves.translation) else { continue };
        found.push(Joints { upper, lower, end });
    }
    found
}

/// Where a limb stands on each frame.
pub struct Shape {
    pub bones: [f64; 2],
    pub bends: Bends,
    /// The normals of the bend in the spaces of both joints.
    normals: [Vec<DVec3>; 2],
    /// How far apart root and end are.
    pub reach: Vec<f64>,
}

impl Shape {
    pub fn length(&self) -> f64 {
        self.bones[0] + self.bones[1]
    }
}

/// Where a limb stands; `None` where it has no length, or its end is on its root.
pub fn shape(recording: &Recording, joints: Joints, limits: &Limits) -> Option<Shape> {
    let Joints { upper, lower, end } = joints;
    let at = |index: usize, frame: usize| recording.nodes[index].instants[frame].place;
    let frames = 0..recording.frames.len();
    let length = |one: usize, other: usize| (at(one, 0) - at(other, 0)).length();
    let bones = [length(upper, lower), length(lower, end)];
    if bones.iter().any(|bone| *bone <= 10.0 * limits.place) {
        return None;
    }
    let (mut lines, mut sides, mut heights, mut reach) = (vec![], vec![], vec![], vec![]);
    let mut normals = [vec![], vec![]];
    for frame in frames {
        let [root, middle, tip] = [upper, lower, end].map(|index| at(index, frame));
        let line = (tip - root).try_normalize()?;
        let across = (middle - root) - line * line.dot(middle - root);
        let height = across.length();
        let side = if height > limits.place { across / height } else { DVec3::ZERO };
        for (own, of) in normals.iter_mut().zip([upper, lower]) {
            own.push(recording.nodes[of].inward(frame, line.cross(side)));
        }
        lines.push(line);
        sides.push(side);
        heights.push(height);
        reach.push((tip - root).length());
    }
    let rest = |index: usize| recording.nodes[index].rest;
    let line_at_rest = (rest(end).place - rest(upper).place).try_normalize()?;
    let bends = Bends { root: upper, lines, sides, heights, side_at_rest: DVec3::ZERO, line_at_rest };
    Some(Shape { bones, bends, normals, reach })
}

/// The hinge of a limb in the world at rest, as some frames tell it, and on which frames both joints turn about it: what bends freely
/// is no limb.
pub fn hinged(
    recording: &Recording,
    joints: Joints,
    shape: &Shape,
    on: &[bool],
) -> Option<(DVec3, Vec<bool>)> {
    let of = |own: &[DVec3]| hinge(own, &shape.bends.heights, on, HINGE);
    let (upper, mut both) = of(&shape.normals[0])?;
    let (_, lower) = of(&shape.normals[1])?;
    both.iter_mut().zip(lower).for_each(|(on, too)| *on &= too);
    let of = &recording.nodes[joints.upper];
    Some(((of.rest.turn * upper * of.hand).normalize(), both))
}
