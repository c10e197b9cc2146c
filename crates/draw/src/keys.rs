//! Keys over frames: a row a node, a mark a key, with the take's range and its clips.

use crate::axes::{Axes, Frame};
use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// What the keys of a mark are on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Lane {
    /// Positions.
    Position = 0,
    /// Rotations.
    Rotation = 1,
    /// Scale, attributes and everything else.
    Other = 2,
}

impl Lane {
    const ALL: [(Lane, &'static str); 3] =
        [(Lane::Position, "position"), (Lane::Rotation, "rotation"), (Lane::Other, "anything else")];

    fn colour(self) -> &'static str {
        [COLOURS[1], COLOURS[0], COLOURS[2]][self as usize]
    }
}

/// One node.
#[derive(Clone, Debug, Default)]
pub struct Row {
    /// The node's address.
    pub name: String,
    /// Frames of keys, lane by lane, in order.
    pub keys: [Vec<f64>; 3],
    /// Frames of the first and the last sample, lane by lane, where there are samples.
    pub samples: [Option<(f64, f64)>; 3],
}

impl Row {
    /// How many keys there are.
    pub fn count(&self) -> usize {
        self.keys.iter().map(Vec::len).sum()
    }
}

/// What is drawn beside the rows.
#[derive(Clone, Debug, Default)]
pub struct Sheet {
    /// The title.
    pub title: String,
    /// The take's first and last frame.
    pub range: (f64, f64),
    /// Clips: names, first and last frames.
    pub clips: Vec<(String, f64, f64)>,
    /// Markers: names and frames.
    pub markers: Vec<(String, f64)>,
    /// The size of the picture.
    pub size: Size,
}

/// Rows are no lower than this.
const LEAST_HEIGHT: f64 = 11.0;
/// Keys closer together than this, in pixels, become one band.
const CLOSE: f64 = 3.0;
const LEFT: f64 = 210.0;
const OUTSIDE: &str = "#B03A2E";

/// Draws rows; where there are more than fit, those with most keys stay and the rest are counted.
pub fn draw(sheet: &Sheet, rows: &[Row]) -> String {
    let size = sheet.size;
    let mut svg = Svg::new(size);
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", &sheet.title);
    legend(&mut svg, size);
    let (top, bottom) = (78.0, size.height - 40.0);
    let (shown, left_out) = fitting(rows, ((bottom - top) / LEAST_HEIGHT) as usize);
    let height = ((bottom - top) / shown.len().max(1) as f64).min(34.0);
    let frames = || {
        let keys = shown.iter().flat_map(|row| row.keys.iter().flatten().copied());
        let samples = shown.iter().flat_map(|row| row.samples.iter().flatten()).flat_map(|&(a, b)| [a, b]);
        keys.chain(samples).chain([sheet.range.0, sheet.range.1])
    };
    let (first, last) = (frames().fold(f64::INFINITY, f64::min), frames().fold(f64::NEG_INFINITY, f64::max));
    let room = 0.01 * (last - first).max(1.0);
    let frame =
        Frame { left: LEFT, top, width: size.width - LEFT - 30.0, height: height * shown.len() as f64 };
    let axes = Axes { frame, x: (first - room, last + room), y: (0.0, 1.0) };
    background(&mut svg, &axes, sheet);
    for (index, row) in shown.iter().enumerate() {
        let middle = top + (index as f64 + 0.5) * height;
        if index % 2 == 1 {
            svg.line((LEFT, middle), (LEFT + frame.width, middle), "#e2e5ea", 1.0);
        } else {
            svg.line((LEFT, middle), (LEFT + frame.width, middle), "#d3d8df", 1.0);
        }
        let size = (height * 0.72).clamp(8.0, 12.0);
        svg.text((LEFT - 10.0, middle + 0.36 * size), size, Anchor::End, "#333", &shortened(&row.name));
        marks(&mut svg, &axes, sheet, row, (middle, height));
    }
    if left_out > 0 {
        let more = format!("and {left_out} more nodes with fewer keys");
        svg.text((LEFT - 10.0, bottom + 26.0), 11.0, Anchor::End, "#777", &more);
    }
    svg.finish()
}

fn legend(svg: &mut Svg, size: Size) {
    let mut x = size.width - 520.0;
    for (lane, name) in Lane::ALL {
        svg.diamond((x, 26.0), 4.5, lane.colour());
        svg.text((x + 10.0, 30.0), 12.0, Anchor::Start, "#555", name);
        x += 24.0 + 7.2 * name.len() as f64;
    }
    svg.rect((x - 4.0, 22.0), (22.0, 7.0), "#c9d3dd");
    svg.text((x + 24.0, 30.0), 12.0, Anchor::Start, "#555", "samples");
    svg.diamond((x + 94.0, 26.0), 4.5, OUTSIDE);
    svg.text((x + 104.0, 30.0), 12.0, Anchor::Start, "#555", "outside the range");
}

/// The rows with most keys, in their own order, and how many others there are.
fn fitting(rows: &[Row], most: usize) -> (Vec<&Row>, usize) {
    if rows.len() <= most {
        return (rows.iter().collect(), 0);
    }
    let mut by_count: Vec<usize> = (0..rows.len()).collect();
    by_count.sort_by_key(|&index| (std::cmp::Reverse(rows[index].count()), index));
    by_count.truncate(most);
    by_count.sort_unstable();
    (by_count.iter().map(|&index| &rows[index]).collect(), rows.len() - most)
}

/// A name that fits the margin; its end says more than its start.
fn shortened(name: &str) -> String {
    const MOST: usize = 26;
    let count = name.chars().count();
    if count <= MOST {
        name.to_owned()
    } else {
        format!("…{}", name.chars().skip(count - MOST + 1).collect::<String>())
    }
}

/// The take's range, clips and markers.
fn background(svg: &mut Svg, axes: &Axes, sheet: &Sheet) {
    let f = axes.frame;
    svg.rect((f.left, f.top), (f.width, f.height), "#eceef1");
    let x = |frame: f64| axes.place(frame, 0.0).0;
    let (from, to) = (x(sheet.range.0), x(sheet.range.1));
    svg.rect((from, f.top), (to - from, f.height), "#ffffff");
    axes.draw_frames(svg, true);
    for (index, (name, first, last)) in sheet.clips.iter().enumerate() {
        let shade = if index % 2 == 0 { "#dfe9f3" } else { "#f3e7dc" };
        let (from, to) = (x(*first), x(*last));
        svg.rect((from, f.top - 24.0), ((to - from).max(1.0), 16.0), shade);
        let fits = (to - from) / 6.6;
        let text: String = name.chars().take(fits.max(0.0) as usize).collect();
        svg.text((0.5 * (from + to), f.top - 12.0), 11.0, Anchor::Middle, "#444", &text);
        for edge in [from, to] {
            svg.line((edge, f.top - 24.0), (edge, f.top + f.height), "#b9c6d3", 1.0);
        }
    }
    for (name, frame) in &sheet.markers {
        let at = x(*frame);
        svg.line((at, f.top - 4.0), (at, f.top + f.height), COLOURS[3], 1.0);
        svg.text((at + 3.0, f.top + f.height + 27.0), 10.0, Anchor::Middle, COLOURS[3], name);
    }
}

fn marks(svg: &mut Svg, axes: &Axes, sheet: &Sheet, row: &Row, (middle, height): (f64, f64)) {
    let x = |frame: f64| axes.place(frame, 0.0).0;
    let used: Vec<Lane> = (Lane::ALL.iter())
        .map(|(lane, _)| *lane)
        .filter(|lane| !row.keys[*lane as usize].is_empty() || row.samples[*lane as usize].is_some())
        .collect();
    let share = 0.86 * height / used.len().max(1) as f64;
    for (index, lane) in used.iter().enumerate() {
        let y = middle + (index as f64 - 0.5 * (used.len() - 1) as f64) * share;
        if let Some((first, last)) = row.samples[*lane as usize] {
            let tall = (share * 0.55).min(7.0);
            svg.rect((x(first), y - 0.5 * tall), ((x(last) - x(first)).max(1.0), tall), "#c9d3dd");
            let inner = tall * 0.34;
            svg.rect((x(first), y - 0.5 * inner), ((x(last) - x(first)).max(1.0), inner), lane.colour());
        }
        let is_close = |a: &f64, b: &f64| x(*b) - x(*a) < CLOSE && inside(*a, sheet) == inside(*b, sheet);
        let radius = (share * 0.48).clamp(2.2, 4.6);
        for run in row.keys[*lane as usize].chunk_by(is_close) {
            let (first, last) = (run[0], run[run.len() - 1]);
            let colour = if inside(first, sheet) { lane.colour() } else { OUTSIDE };
            if run.len() > 3 {
                let tall = (radius * 1.5).min(share);
                svg.rect((x(first) - 1.0, y - 0.5 * tall), (x(last) - x(first) + 2.0, tall), colour);
            } else {
                run.iter().for_each(|&frame| svg.diamond((x(frame), y), radius, colour));
            }
        }
    }
}

fn inside(frame: f64, sheet: &Sheet) -> bool {
    (sheet.range.0 - 1e-6..=sheet.range.1 + 1e-6).contains(&frame)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(name: &str, keys: &[f64]) -> Row {
        Row { name: name.into(), keys: [Vec::new(), keys.to_vec(), Vec::new()], samples: [None; 3] }
    }

    #[test]
    fn rows_with_most_keys_stay_in_their_order() {
        let rows = [row("a", &[1.0]), row("b", &[1.0, 2.0, 3.0]), row("c", &[]), row("d", &[1.0, 2.0])];
        let (shown, left_out) = fitting(&rows, 2);
        assert_eq!((shown[0].name.as_str(), shown[1].name.as_str(), left_out), ("b", "d", 2));
    }

    #[test]
    fn keys_outside_the_range_have_their_own_colour() {
        let sheet = Sheet { range: (1.0, 20.0), ..Sheet::default() };
        let marks = |keys: &[f64]| draw(&sheet, &[row("a", keys)]).matches(OUTSIDE).count();
        // One stands in the legend.
        assert_eq!((marks(&[1.0, 20.0]), marks(&[1.0, 20.0, 31.0])), (1, 2));
    }
}
