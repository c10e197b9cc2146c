//! A strip of stick figures: the same instants from the front and from the side, for one or more scenes.

use glam::DVec3;
use nimble_curve_core::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::scene::{Scene, Take};

use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// One figure of the strip: a scene and the take that moves its first rig, if one does.
pub struct Figure<'a> {
    /// What the row is called.
    pub name: &'a str,
    /// The scene.
    pub scene: &'a Scene,
    /// The take; without one the rig stands at rest.
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
    /// Nodes, by their positions in each figure's rig, whose ways from one instant to the next are drawn.
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
    let title = "Poses over time, seen from the side and from the front";
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", title);
    if what.trails.iter().any(|nodes| !nodes.is_empty()) {
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
    points: Vec<DVec3>,
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
    let count = count.max(1);
    (0..count)
        .map(|index| (first + (last - first) * index as f64 / (count - 1).max(1) as f64).round())
        .collect()
}

fn poses_of(figure: &Figure<'_>, frames: &[f64], trails: &[usize]) -> Result<Vec<Instant>, EvaluateError> {
    let mut evaluator = Evaluator::new(figure.scene, figure.take, 0)?;
    let rate = figure.scene.rate;
    let mut pose = Pose::default();
    let mut instants = Vec::with_capacity(frames.len());
    let mut before: Option<f64> = None;
    for &frame in frames {
        let mut ways = vec![Vec::new(); trails.len()];
        for step in 0..=STEPS {
            let Some(before) = before.filter(|_| !trails.is_empty()) else { break };
            let part = step as f64 / STEPS as f64;
            evaluator.pose_at((before + (frame - before) * part) * rate.ticks_per_frame(), &mut pose);
            for (way, &node) in ways.iter_mut().zip(trails) {
                way.extend(pose.world.get(node).map(|world| upright(figure.scene, world.translation)));
            }
        }
        evaluator.pose_at(frame * rate.ticks_per_frame(), &mut pose);
        let points = pose.world.iter().map(|world| upright(figure.scene, world.translation)).collect();
        instants.push(Instant { frame, points, trails: ways });
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
    let all = || poses.iter().flat_map(|instant| &instant.points);
    let tall = all().map(|p| p.y).fold(0.1, f64::max);
    let step = (width - left - 20.0) / poses.len() as f64;
    // Each figure stands in its own column, so that the strip reads left to right however far it travels.
    let reach = all().map(|p| p.x.abs()).fold(0.1, f64::max).max(tall * 0.5);
    let scale = ((height - 44.0) / tall).min(step * 0.47 / reach);
    let view = if from == From::Side { "side" } else { "front" };
    svg.text((24.0, top + height * 0.5), 14.0, Anchor::Start, colour, figure.name);
    svg.text((24.0, top + height * 0.5 + 18.0), 12.0, Anchor::Start, "#777", view);
    svg.line((left, bottom), (width - 20.0, bottom), "#bbbbbb", 1.0);
    let Some(rig) = figure.scene.rigs.first() else { return };
    let parents = rig.parent_positions();
    let kinds: Vec<NodeKind> = rig.nodes().map(|(_, node)| node.kind).collect();
    for (index, instant) in poses.iter().enumerate() {
        let centre = left + (index as f64 + 0.5) * step;
        let base = instant.points.first().copied().unwrap_or_default();
        let place = |p: DVec3| {
            let across = if from == From::Side { p.z - base.z } else { p.x - base.x };
            (centre + across * scale, bottom - p.y * scale)
        };
        for (way, colour) in instant.trails.iter().zip(TRAILS.iter().cycle()) {
            let place = |p: &DVec3| Some(place(*p)).filter(|(x, _)| (x - centre).abs() < 0.5 * step);
            let drawn: Vec<(f64, f64)> = way.iter().filter_map(place).collect();
            svg.path(&drawn, colour, 1.0);
        }
        for (position, parent) in parents.iter().enumerate() {
            let Some(parent) = parent else { continue };
            if kinds[*parent] == NodeKind::Root || kinds[position] == NodeKind::Control {
                continue;
            }
            // The far side is drawn paler, so that left and right limbs can be told apart.
            let far = from == From::Side && instant.points[position].x < base.x - 0.01 * tall;
            let (shade, thick) = if far { ("#b8c4cc", 2.0) } else { (colour, 2.6) };
            svg.line(place(instant.points[*parent]), place(instant.points[position]), shade, thick);
        }
        for (position, point) in instant.points.iter().enumerate() {
            if kinds[position] == NodeKind::Joint {
                svg.dot(place(*point), 1.6, "#333333", "none");
            }
        }
        let label = crate::axes::number(instant.frame, "");
        svg.text((centre, bottom + 15.0), 11.0, Anchor::Middle, "#555", &label);
    }
}
