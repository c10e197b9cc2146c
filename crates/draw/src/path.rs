//! Paths over the ground, seen from above.

use crate::axes::number;
use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// The way of one clip.
#[derive(Clone, Debug)]
pub struct Way {
    /// The clip's name.
    pub name: String,
    /// What there is to say of it.
    pub note: String,
    /// Frames, places in metres (to the left and ahead of where the character faces at rest), and headings in radians,
    /// counterclockwise from above.
    pub steps: Vec<(f64, [f64; 2], f64)>,
}

/// Between arrows that show the heading, as a part of the picture.
const APART: f64 = 0.05;

/// Draws ways to one scale, ahead pointing up; several side by side, each from where it starts.
pub fn draw(title: &str, ways: &[Way], size: Size) -> String {
    let ways = &side_by_side(ways);
    let mut svg = Svg::new(size);
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", title);
    let said = match ways.len() {
        1 => "seen from above, ahead is up; arrows show the heading",
        _ => "seen from above, each from its start, ahead is up; arrows show the heading",
    };
    svg.text((size.width - 24.0, 30.0), 12.0, Anchor::End, "#777", said);
    let legend = 300.0;
    let (left, top) = (70.0, 50.0);
    let (width, height) = (size.width - left - legend - 40.0, size.height - top - 60.0);
    // To the left of the character is to the left of the picture.
    let flat = |place: &[f64; 2]| (-place[0], place[1]);
    let points = || ways.iter().flat_map(|way| way.steps.iter().map(|(_, place, _)| flat(place)));
    let fold = |of: fn((f64, f64)) -> f64| {
        points().map(of).fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)))
    };
    let (x, y) = (fold(|p| p.0), fold(|p| p.1));
    if x.0 > x.1 {
        return svg.finish();
    }
    let reach = ((x.1 - x.0) / width).max((y.1 - y.0) / height).max(0.2 / width) * 1.12;
    let centre = (0.5 * (x.0 + x.1), 0.5 * (y.0 + y.1));
    let place = |(px, py): (f64, f64)| {
        (left + 0.5 * width + (px - centre.0) / reach, top + 0.5 * height - (py - centre.1) / reach)
    };
    svg.rect((left, top), (width, height), "#f7f8fa");
    grid(&mut svg, (left, top, width, height), reach, centre, ways.len() == 1);
    for (index, way) in ways.iter().enumerate() {
        let colour = COLOURS[index % COLOURS.len()];
        let drawn: Vec<(f64, f64)> = way.steps.iter().map(|(_, at, _)| place(flat(at))).collect();
        svg.path(&drawn, colour, 2.4);
        let mut last: Option<(f64, f64)> = None;
        for ((_, _, heading), &at) in way.steps.iter().zip(&drawn) {
            let far = |(x, y): (f64, f64)| (at.0 - x).hypot(at.1 - y) > APART * size.width;
            if last.is_none_or(far) {
                arrow(&mut svg, at, *heading, colour);
                last = Some(at);
            }
        }
        if let (Some(&start), Some(&end), Some((_, _, heading))) =
            (drawn.first(), drawn.last(), way.steps.last())
        {
            arrow(&mut svg, end, *heading, colour);
            svg.dot(start, 5.0, "#ffffff", colour);
            svg.dot(end, 5.0, colour, colour);
        }
        let y = top + 20.0 + index as f64 * 44.0;
        svg.line((size.width - legend, y - 4.0), (size.width - legend + 26.0, y - 4.0), colour, 2.4);
        svg.text((size.width - legend + 36.0, y), 13.0, Anchor::Start, "#222", &way.name);
        svg.text((size.width - legend + 36.0, y + 16.0), 11.0, Anchor::Start, "#777", &way.note);
    }
    let y = size.height - 22.0;
    svg.dot((left + 6.0, y - 4.0), 5.0, "#ffffff", "#555");
    svg.text((left + 18.0, y), 12.0, Anchor::Start, "#555", "start");
    svg.dot((left + 76.0, y - 4.0), 5.0, "#555", "#555");
    svg.text((left + 88.0, y), 12.0, Anchor::Start, "#555", "end");
    svg.finish()
}

/// Ways moved so that each starts ahead of nothing and beside the one before it; one alone stays where it is.
fn side_by_side(ways: &[Way]) -> Vec<Way> {
    if ways.len() < 2 {
        return ways.to_vec();
    }
    // How far each goes to the left and to the right of its start.
    let reach = |way: &Way| {
        let start = way.steps.first().map_or(0.0, |step| step.1[0]);
        let aside = way.steps.iter().map(|step| step.1[0] - start);
        aside.fold((0.0_f64, 0.0_f64), |(right, left), x| (right.min(x), left.max(x)))
    };
    let long = ways.iter().flat_map(|way| {
        let start = way.steps.first().map_or(0.0, |step| step.1[1]);
        way.steps.iter().map(move |step| (step.1[1] - start).abs())
    });
    let gap = 0.22 * long.fold(0.2, f64::max);
    let mut edge = 0.0;
    let moved = |way: &Way| {
        let (right, left) = reach(way);
        let Some(start) = way.steps.first().map(|step| step.1) else { return way.clone() };
        // To the right of the picture is to the right of the character.
        let at = edge - left;
        edge = at + right - gap;
        let steps = way.steps.iter().map(|(frame, place, heading)| {
            (*frame, [place[0] - start[0] + at, place[1] - start[1]], *heading)
        });
        Way { steps: steps.collect(), ..way.clone() }
    };
    ways.iter().map(moved).collect()
}

/// A heading as a short arrow.
fn arrow(svg: &mut Svg, at: (f64, f64), heading: f64, colour: &str) {
    // Counterclockwise from above; nothing is ahead, which is up.
    let (sin, cos) = heading.sin_cos();
    let tip = (at.0 - 17.0 * sin, at.1 - 17.0 * cos);
    svg.line(at, tip, colour, 1.2);
    for side in [-0.5_f64, 0.5] {
        let (sin, cos) = (heading + side).sin_cos();
        svg.line(tip, (tip.0 + 6.0 * sin, tip.1 + 6.0 * cos), colour, 1.2);
    }
}

/// Lines a round distance apart.
fn grid(
    svg: &mut Svg,
    (left, top, width, height): (f64, f64, f64, f64),
    reach: f64,
    centre: (f64, f64),
    with_sides: bool,
) {
    let rough = width * reach / 8.0;
    let power = 10_f64.powf(rough.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].map(|m| m * power).into_iter().find(|step| *step >= rough).unwrap_or(rough);
    let lines = |middle: f64, size: f64| {
        let (low, high) = (middle - 0.5 * size * reach, middle + 0.5 * size * reach);
        ((low / step).ceil() as i64..=(high / step).floor() as i64).map(move |i| i as f64 * step)
    };
    for x in lines(centre.0, width) {
        let at = left + 0.5 * width + (x - centre.0) / reach;
        svg.line((at, top), (at, top + height), "#e2e5ea", 1.0);
        if with_sides {
            svg.text((at, top + height + 15.0), 11.0, Anchor::Middle, "#777", &number(x, "m"));
        }
    }
    for y in lines(centre.1, height) {
        let at = top + 0.5 * height - (y - centre.1) / reach;
        svg.line((left, at), (left + width, at), "#e2e5ea", 1.0);
        svg.text((left - 8.0, at + 4.0), 11.0, Anchor::End, "#777", &number(y, "m"));
    }
}
