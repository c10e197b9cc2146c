//! A strip of stick figures: the same instants from the front and from the side, for one or more scenes.

use std::collections::BTreeSet;

use glam::DVec3;
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::constraint::Constraint;
use nimble_curve_core::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_core::rig::{NodeKind, Rig};
use nimble_curve_core::scene::{Scene, Take};

use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// One figure of the strip: a scene and the take that moves its rigs, if one does.
pub struct Figure<'a> {
    /// What the row is called.
    pub name: &'a str,
    /// The scene.
    pub scene: &'a Scene,
    /// The take; without one the rigs stand at rest.
    pub take: Option<&'a Take>,
}

/// Colours of ways, node by node.
const TRAILS: [&str; 4] = [COLOURS[4], COLOURS[2], COLOURS[3], COLOURS[5]];

/// From where a figure is seen.
#[derive(Clone, Copy, PartialEq)]
enum From {
    Side,
    Front,
}

/// What the strip shows of its figures.
pub struct Strip<'a> {
    /// At how many instants, spread over each take, a figure is drawn; where `frames` are given, at those.
    pub count: usize,
    /// Frames of the first figure's rate at which all are drawn.
    pub frames: &'a [f64],
    /// Nodes, by their positions in each figure's first rig, whose ways from one instant to the next are drawn.
    pub trails: &'a [Vec<usize>],
    /// The size of the picture.
    pub size: Size,
}

/// Points of a way between two instants.
const STEPS: usize = 24;

/// Draws each figure in two rows, from the side and from the front, at instants spread over its take.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn strip(figures: &[Figure<'_>], what: &Strip<'_>) -> Result<String, EvaluateError> {
    let size = what.size;
    let mut svg = Svg::new(size);
    let rows = figures.len() * 2;
    let height = (size.height - 50.0) / rows.max(1) as f64;
    let is_still = figures.first().is_some_and(|figure| figure.take.is_none());
    let title = match is_still {
        true => "Poses, seen from the side and from the front",
        false => "Poses over time, seen from the side and from the front",
    };
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", title);
    if !is_still && what.trails.iter().any(|nodes| !nodes.is_empty()) {
        let said = "thin lines: the way since the pose before";
        svg.text((size.width - 24.0, 30.0), 12.0, Anchor::End, "#777", said);
    }
    let seconds: Vec<f64> = match figures.first() {
        Some(first) => what.frames.iter().map(|frame| frame / first.scene.rate.fps()).collect(),
        None => Vec::new(),
    };
    for (index, figure) in figures.iter().enumerate() {
        let frames = frames_of(figure, what.count, &seconds);
        let trails = what.trails.get(index).map_or(&[][..], Vec::as_slice);
        let poses = poses_of(figure, &frames, trails)?;
        let colour = COLOURS[index % COLOURS.len()];
        for (row, from) in [From::Side, From::Front].into_iter().enumerate() {
            let top = 46.0 + (index * 2 + row) as f64 * height;
            draw_row(&mut svg, figure, &poses, from, colour, (top, height, size.width));
        }
    }
    Ok(svg.finish())
}

/// Joint positions in metres, x to the character's left, y up, z forward, with the frame they belong to.
struct Instant {
    frame: f64,
    /// Rig by rig.
    points: Vec<Vec<DVec3>>,
    /// The ways of chosen nodes since the instant before.
    trails: Vec<Vec<DVec3>>,
}

/// The frames at which a figure is drawn: given ones, by their seconds, or some spread over its take.
fn frames_of(figure: &Figure<'_>, count: usize, seconds: &[f64]) -> Vec<f64> {
    let rate = figure.scene.rate;
    if !seconds.is_empty() {
        return seconds.iter().map(|seconds| seconds * rate.fps()).collect();
    }
    let Some(take) = figure.take else { return vec![0.0] };
    let (first, last) = (rate.frame(take.range.first), rate.frame(take.range.last));
    if first == last {
        return vec![first];
    }
    let count = count.max(1);
    (0..count)
        .map(|index| (first + (last - first) * index as f64 / (count - 1).max(1) as f64).round())
        .collect()
}

fn poses_of(figure: &Figure<'_>, frames: &[f64], trails: &[usize]) -> Result<Vec<Instant>, EvaluateError> {
    let mut evaluators: Vec<Evaluator<'_>> = (0..figure.scene.rigs.len())
        .map(|rig| Evaluator::new(figure.scene, figure.take, rig))
        .collect::<Result<_, _>>()?;
    let rate = figure.scene.rate;
    let mut pose = Pose::default();
    let mut instants = Vec::with_capacity(frames.len());
    let mut before: Option<f64> = None;
    for &frame in frames {
        let mut ways = vec![Vec::new(); trails.len()];
        for step in 0..=STEPS {
            let Some(before) = before.filter(|_| !trails.is_empty()) else { break };
            let part = step as f64 / STEPS as f64;
            let Some(evaluator) = evaluators.first_mut() else { break };
            evaluator.pose_at((before + (frame - before) * part) * rate.ticks_per_frame(), &mut pose);
            for (way, &node) in ways.iter_mut().zip(trails) {
                way.extend(pose.world.get(node).map(|world| upright(figure.scene, world.translation)));
            }
        }
        let points = evaluators.iter_mut().map(|evaluator| {
            evaluator.pose_at(frame * rate.ticks_per_frame(), &mut pose);
            pose.world.iter().map(|world| upright(figure.scene, world.translation)).collect()
        });
        instants.push(Instant { frame, points: points.collect(), trails: ways });
        before = Some(frame);
    }
    Ok(instants)
}

/// A point in metres with y up.
fn upright(scene: &Scene, point: DVec3) -> DVec3 {
    use nimble_curve_core::space::UpAxis;
    let p = point * scene.space.metres_per_unit;
    match scene.space.up {
        UpAxis::Y => p,
        UpAxis::Z => DVec3::new(p.x, p.z, -p.y),
        UpAxis::X => DVec3::new(-p.y, p.x, p.z),
    }
}

fn draw_row(
    svg: &mut Svg,
    figure: &Figure<'_>,
    poses: &[Instant],
    from: From,
    colour: &str,
    (top, height, width): (f64, f64, f64),
) {
    let (left, bottom) = (120.0, top + height - 26.0);
    let serving: Vec<Vec<bool>> = figure.scene.rigs.iter().map(serving).collect();
    // Controls may stand anywhere: it is the body that has to be seen.
    let has_body = serving.iter().flatten().any(|serves| !serves);
    let all = || {
        let rigs = poses.iter().flat_map(|instant| instant.points.iter().zip(&serving));
        let points = rigs.flat_map(|(points, serving)| points.iter().zip(serving));
        points.filter(|(_, serves)| !has_body || !**serves).map(|(point, _)| point)
    };
    let steering: BTreeSet<NodeRef> = figure.scene.constraints.iter().flat_map(Constraint::sources).collect();
    // What rests with its hips at the origin reaches below the ground.
    let low = all().map(|p| p.y).fold(0.0, f64::min);
    let tall = all().map(|p| p.y).fold(0.1, f64::max) - low;
    let step = (width - left - 20.0) / poses.len() as f64;
    // Each figure stands in its own column, so that the strip reads left to right however far it travels.
    let reach = all().map(|p| p.x.abs()).fold(0.1, f64::max).max(tall * 0.5);
    let scale = ((height - 44.0) / tall).min(step * 0.47 / reach);
    let view = if from == From::Side { "side" } else { "front" };
    svg.text((24.0, top + height * 0.5), 14.0, Anchor::Start, colour, figure.name);
    svg.text((24.0, top + height * 0.5 + 18.0), 12.0, Anchor::Start, "#777", view);
    svg.line((left, bottom), (width - 20.0, bottom), "#bbbbbb", 1.0);
    let ground = bottom + low * scale;
    for (index, instant) in poses.iter().enumerate() {
        let centre = left + (index as f64 + 0.5) * step;
        let base = instant.points.iter().flatten().next().copied().unwrap_or_default();
        let place = |p: DVec3| {
            let across = if from == From::Side { p.z - base.z } else { p.x - base.x };
            (centre + across * scale, ground - p.y * scale)
        };
        for (way, colour) in instant.trails.iter().zip(TRAILS.iter().cycle()) {
            let place = |p: &DVec3| Some(place(*p)).filter(|(x, _)| (x - centre).abs() < 0.5 * step);
            let drawn: Vec<(f64, f64)> = way.iter().filter_map(place).collect();
            svg.path(&drawn, colour, 1.0);
        }
        for (index, (rig, points)) in figure.scene.rigs.iter().zip(&instant.points).enumerate() {
            // The far side is drawn paler, so that left and right limbs can be told apart.
            let is_far = |p: DVec3| from == From::Side && p.x < base.x - 0.01 * tall;
            bones(svg, rig, points, &|p| {
                (place(p), if is_far(p) { ("#b8c4cc", 2.0) } else { (colour, 2.6) })
            });
            // What drives the body, where it is in sight.
            for ((id, _), (point, serves)) in rig.nodes().zip(points.iter().zip(&serving[index])) {
                let (x, y) = place(*point);
                let is_near = (x - centre).abs() < 0.5 * step && (top..bottom).contains(&y);
                if *serves && is_near && steering.contains(&(index, id)) {
                    svg.dot((x, y), 3.4, "none", colour);
                }
            }
        }
        let label = crate::axes::number(instant.frame, "");
        svg.text((centre, bottom + 15.0), 11.0, Anchor::Middle, "#555", &label);
    }
}

/// Which nodes of a rig are controls, or locators that hang on these or on nothing.
fn serving(rig: &Rig) -> Vec<bool> {
    let mut all: Vec<bool> = Vec::with_capacity(rig.len());
    for ((_, node), parent) in rig.nodes().zip(rig.parent_positions()) {
        let hangs = parent.is_none_or(|parent| all[parent]);
        all.push(node.kind == NodeKind::Control || node.kind == NodeKind::Locator && hangs);
    }
    all
}

/// A point of the picture, and the colour and width of the bone that ends there.
type Placed<'a> = ((f64, f64), (&'a str, f64));

/// The bones of a rig; what has none, such as a prop of one node, is a dot.
fn bones<'a>(svg: &mut Svg, rig: &Rig, points: &[DVec3], place: &dyn Fn(DVec3) -> Placed<'a>) {
    let kinds: Vec<NodeKind> = rig.nodes().map(|(_, node)| node.kind).collect();
    let serving = serving(rig);
    for (position, parent) in rig.parent_positions().into_iter().enumerate() {
        let Some(parent) = parent else { continue };
        if kinds[parent] == NodeKind::Root || serving[position] {
            continue;
        }
        let (end, (shade, thick)) = place(points[position]);
        svg.line(place(points[parent]).0, end, shade, thick);
    }
    let radius = if rig.len() < 4 { 3.2 } else { 1.6 };
    for (point, kind) in points.iter().zip(&kinds) {
        if *kind == NodeKind::Joint {
            svg.dot(place(*point).0, radius, "#333333", "none");
        }
    }
}
