//! Curves over frames: values, keys and handles, with what they are compared to and the error below.

use nimble_curve_core::curve::{Curve, Interpolation, Key, Side, Tangent};
use nimble_curve_core::time::FrameRate;

use crate::axes::{Axes, Frame, number, span};
use crate::svg::{Anchor, Svg};
use crate::{COLOURS, Size};

/// Curves of more keys are drawn without handles.
const HANDLES: usize = 160;
/// Of more keys than this only those are drawn that stand out.
const MOST_KEYS: usize = 600;
/// Of more points than this only those are drawn that stand out.
const MOST_DOTS: usize = 1200;
const RED: &str = "#B03A2E";
const GREY: &str = "#a9b0ba";

/// What a channel's line comes from.
pub enum Source<'a> {
    /// A curve, whose keys are drawn.
    Curve(&'a Curve),
    /// Values by frame: samples, or what a controller of another type comes to.
    Values(Vec<(f64, f64)>),
}

/// One channel of the picture.
pub struct Channel<'a> {
    /// The channel's address.
    pub name: String,
    /// Its line.
    pub source: Source<'a>,
    /// Factor from its values to what the axis says.
    pub factor: f64,
    /// The unit on the axis.
    pub unit: &'a str,
    /// Whether its values are lengths, in the unit of its scene.
    pub is_length: bool,
    /// What it is compared with: values by frame, as its own are.
    pub against: Vec<(f64, f64)>,
}

/// What all channels of a picture share.
pub struct Sheet<'a> {
    /// The title.
    pub title: &'a str,
    /// The rate in which frames count.
    pub rate: FrameRate,
    /// The first and the last frame.
    pub range: (f64, f64),
    /// Whether channels of one unit lie over each other, or each has a panel of its own.
    pub overlaid: bool,
    /// The size of the picture.
    pub size: Size,
}

/// Draws channels in panels below each other, each panel with the errors of its channels where it has any.
pub fn draw(sheet: &Sheet<'_>, channels: &[Channel<'_>]) -> String {
    let size = sheet.size;
    let mut svg = Svg::new(size);
    svg.text((24.0, 30.0), 17.0, Anchor::Start, "#222", sheet.title);
    svg.text((size.width - 30.0, 30.0), 12.0, Anchor::End, "#777", &format!("frames at {} fps", sheet.rate));
    let panels = panels(channels, sheet.overlaid);
    let height = (size.height - 56.0) / panels.len().max(1) as f64;
    for (index, members) in panels.iter().enumerate() {
        let panel = Panel { sheet, members };
        let top = 48.0 + index as f64 * height;
        let has_error = members.iter().any(|(channel, _)| !channel.against.is_empty());
        let upper = if has_error { height * 0.68 } else { height };
        let rows = if members.len() > 1 { 16.0 * (members.len() - 1) as f64 } else { 0.0 };
        let (left, width) = (90.0, size.width - 120.0);
        let foot = if has_error { 14.0 } else { 40.0 };
        let frame = Frame { left, top: top + 18.0 + rows, width, height: upper - 18.0 - rows - foot };
        panel.lines(&mut svg, frame, !has_error);
        if has_error {
            let frame = Frame { left, top: top + upper + 14.0, width, height: height * 0.32 - 46.0 };
            panel.errors(&mut svg, frame);
        }
    }
    svg.finish()
}

/// Channels with their colours, panel by panel.
fn panels<'c, 'a>(channels: &'c [Channel<'a>], overlaid: bool) -> Vec<Vec<(&'c Channel<'a>, &'static str)>> {
    let mut panels: Vec<Vec<(&Channel<'_>, &str)>> = Vec::new();
    for (index, channel) in channels.iter().enumerate() {
        let colour = COLOURS[index % COLOURS.len()];
        let same = panels.iter_mut().find(|panel| overlaid && panel[0].0.unit == channel.unit);
        match same {
            Some(panel) => panel.push((channel, colour)),
            None => panels.push(vec![(channel, colour)]),
        }
    }
    panels
}

struct Panel<'p> {
    sheet: &'p Sheet<'p>,
    members: &'p [(&'p Channel<'p>, &'static str)],
}

impl Channel<'_> {
    fn value(&self, rate: FrameRate, frame: f64) -> Option<f64> {
        match &self.source {
            Source::Curve(curve) => curve.value_at(frame * rate.ticks_per_frame()),
            Source::Values(values) => between(values, frame),
        }
        .map(|value| value * self.factor)
    }

    /// Points of the line, in order of frames: fine enough for the picture, with the values on both sides of jumps.
    fn line(&self, sheet: &Sheet<'_>) -> Vec<(f64, f64)> {
        let (first, last) = sheet.range;
        let points = match &self.source {
            Source::Values(values) => values
                .iter()
                .filter(|(frame, _)| (first..=last).contains(frame))
                .map(|&(frame, value)| (frame, value * self.factor))
                .collect(),
            Source::Curve(curve) => {
                let steps = (2.0 * (last - first)).clamp(1600.0, 200_000.0) as u32;
                let mut points: Vec<(f64, f64)> = (0..=steps)
                    .map(|step| first + (last - first) * f64::from(step) / f64::from(steps))
                    .filter_map(|frame| Some((frame, self.value(sheet.rate, frame)?)))
                    .collect();
                for key in curve.keys() {
                    let frame = sheet.rate.frame(key.time);
                    let left = curve.value_on(key.time.as_f64(), Side::Left).unwrap_or(key.value);
                    if (first..=last).contains(&frame) {
                        points.extend([left, key.value].map(|value| (frame, value * self.factor)));
                    }
                }
                points.sort_by(|a, b| a.0.total_cmp(&b.0));
                points
            }
        };
        standing_out(&points, sheet.range, columns(sheet.size))
    }

    fn against(&self) -> impl Iterator<Item = (f64, f64)> {
        self.against.iter().map(|&(frame, value)| (frame, value * self.factor))
    }
}

/// How many columns of pixels a line is drawn in.
fn columns(size: Size) -> usize {
    (size.width - 120.0).max(100.0) as usize
}

/// The value on the straight line between two frames.
fn between(values: &[(f64, f64)], frame: f64) -> Option<f64> {
    let after = values.partition_point(|(own, _)| *own < frame);
    match (after.checked_sub(1).map(|before| values[before]), values.get(after)) {
        (_, Some(&(own, value))) if own == frame => Some(value),
        (Some((a, from)), Some(&(b, to))) => Some(from + (to - from) * (frame - a) / (b - a)),
        _ => None,
    }
}

/// Of many points those that stand out in their column: the first, the lowest, the highest and the last.
fn standing_out(points: &[(f64, f64)], (first, last): (f64, f64), columns: usize) -> Vec<(f64, f64)> {
    if points.len() <= 4 * columns {
        return points.to_vec();
    }
    let column = |frame: f64| ((frame - first) / (last - first).max(1e-9) * columns as f64) as i64;
    let mut kept = Vec::with_capacity(4 * columns);
    for group in points.chunk_by(|a, b| column(a.0) == column(b.0)) {
        let by_value = |(_, a): &(usize, &(f64, f64)), (_, b): &(usize, &(f64, f64))| a.1.total_cmp(&b.1);
        let lowest = group.iter().enumerate().min_by(by_value).map_or(0, |(index, _)| index);
        let highest = group.iter().enumerate().max_by(by_value).map_or(0, |(index, _)| index);
        let mut chosen = [0, lowest, highest, group.len() - 1];
        chosen.sort_unstable();
        let mut previous = None;
        for index in chosen {
            if previous != Some(index) {
                kept.push(group[index]);
            }
            previous = Some(index);
        }
    }
    kept
}

impl Panel<'_> {
    fn lines(&self, svg: &mut Svg, frame: Frame, with_frames: bool) {
        let lines: Vec<Vec<(f64, f64)>> =
            self.members.iter().map(|(channel, _)| channel.line(self.sheet)).collect();
        let against = self.members.iter().flat_map(|(channel, _)| channel.against());
        let values = lines.iter().flatten().copied().chain(against).map(|point| point.1);
        let axes = Axes { frame, x: self.sheet.range, y: span(values) };
        let unit = self.members[0].0.unit;
        axes.draw(svg, unit, with_frames);
        let count = self.members.len();
        for (index, ((channel, colour), line)) in self.members.iter().zip(&lines).enumerate() {
            let y = frame.top - 6.0 - 16.0 * (count - 1 - index) as f64;
            let shade = if count > 1 { colour } else { "#222" };
            svg.text((frame.left, y), 13.0, Anchor::Start, shade, &channel.name);
            svg.text((frame.left + frame.width, y), 12.0, Anchor::End, "#555", &channel.legend());
            let samples: Vec<(f64, f64)> =
                channel.against().map(|(x, y)| axes.place(x, y)).filter(|place| axes.holds(*place)).collect();
            if samples.len() <= MOST_DOTS {
                samples.iter().for_each(|&place| svg.dot(place, 1.3, GREY, "none"));
            } else {
                svg.path(&standing_out(&samples, axes.sides(), columns(self.sheet.size)), GREY, 3.0);
            }
            let drawn: Vec<(f64, f64)> = line.iter().map(|&(x, y)| axes.place(x, y)).collect();
            svg.path(&drawn, colour, 1.8);
            if let Source::Curve(curve) = channel.source {
                self.keys(svg, &axes, channel, curve, colour);
            }
        }
    }

    /// Keys as rings, and the handles of cubic sides.
    fn keys(&self, svg: &mut Svg, axes: &Axes, channel: &Channel<'_>, curve: &Curve, colour: &str) {
        let rate = self.sheet.rate;
        let (first, last) = self.sheet.range;
        let keys = curve.keys();
        let inside: Vec<(usize, &Key)> = keys
            .iter()
            .enumerate()
            .filter(|(_, key)| (first..=last).contains(&rate.frame(key.time)))
            .collect();
        let place = |key: &Key| (rate.frame(key.time), key.value * channel.factor);
        if inside.len() <= HANDLES {
            let shade = if self.members.len() > 1 { colour } else { "#333333" };
            for &(index, key) in &inside {
                let at = place(key);
                let mut handle = |other: Option<&Key>, toward: f64, tangent: Tangent| {
                    let Some(other) = other else { return };
                    let gap = (other.time - key.time).as_f64().abs();
                    let (dt, dv) = tangent.handle_in_gap(gap);
                    let end =
                        (at.0 + toward * dt / rate.ticks_per_frame(), at.1 + toward * dv * channel.factor);
                    // What reaches out of the panel ends at its edge, without a dot.
                    let (from, to) = (axes.place(at.0, at.1), axes.place(end.0, end.1));
                    let part = axes.frame.part_inside(from, to);
                    let cut = (from.0 + (to.0 - from.0) * part, from.1 + (to.1 - from.1) * part);
                    svg.line(from, cut, shade, 0.9);
                    if part >= 1.0 {
                        svg.dot(to, 1.8, shade, "none");
                    }
                };
                let before = index.checked_sub(1).map(|i| &keys[i]);
                if before.is_some_and(|key| key.interpolation == Interpolation::Cubic) {
                    handle(before, -1.0, key.tangent_in);
                }
                if key.interpolation == Interpolation::Cubic {
                    handle(keys.get(index + 1), 1.0, key.tangent_out);
                }
            }
        }
        let points: Vec<(f64, f64)> = inside.iter().map(|(_, key)| place(key)).collect();
        let few = standing_out(&points, self.sheet.range, MOST_KEYS / 4);
        let radius = match few.len() {
            0..=HANDLES => 3.4,
            161..=400 => 2.4,
            _ => 1.6,
        };
        for (x, y) in few {
            svg.dot(axes.place(x, y), radius, "#ffffff", colour);
        }
    }

    fn errors(&self, svg: &mut Svg, frame: Frame) {
        let rate = self.sheet.rate;
        let errors: Vec<Vec<(f64, f64)>> = (self.members.iter())
            .map(|(channel, _)| {
                let error = |(frame, other): (f64, f64)| Some((frame, channel.value(rate, frame)? - other));
                let (first, last) = self.sheet.range;
                let shown = |(frame, _): &(f64, f64)| (first..=last).contains(frame);
                channel.against().filter(shown).filter_map(error).collect()
            })
            .collect();
        let largest = errors.iter().flatten().map(|error| error.1.abs()).fold(0.0, f64::max);
        let reach = largest.max(1e-9);
        let axes = Axes { frame, x: self.sheet.range, y: (-1.15 * reach, 1.15 * reach) };
        let unit = self.members[0].0.unit;
        axes.draw(svg, unit, true);
        let label = format!("error: at most {}", number(largest, unit));
        svg.text((frame.left + frame.width, frame.top - 4.0), 11.0, Anchor::End, RED, &label);
        for (error, (_, colour)) in errors.iter().zip(self.members) {
            let few = standing_out(error, self.sheet.range, columns(self.sheet.size));
            let drawn: Vec<(f64, f64)> = few.iter().map(|&(x, y)| axes.place(x, y)).collect();
            svg.path(&drawn, if self.members.len() > 1 { colour } else { RED }, 1.0);
        }
    }
}

impl Channel<'_> {
    fn legend(&self) -> String {
        let own = match &self.source {
            Source::Curve(curve) if curve.keys().len() == 1 => "1 key".to_owned(),
            Source::Curve(curve) => format!("{} keys", curve.keys().len()),
            Source::Values(values) => format!("{} values", values.len()),
        };
        if self.against.is_empty() {
            own
        } else {
            format!("{} values (grey) against {own}", self.against.len())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_many_points_the_extremes_stay() {
        let mut points: Vec<(f64, f64)> =
            (0..20_000).map(|frame| (f64::from(frame), (f64::from(frame) * 0.001).sin())).collect();
        points[7_777].1 = 50.0;
        points[12_345].1 = -60.0;
        let few = standing_out(&points, (0.0, 20_000.0), 1000);
        assert!(few.len() <= 4004, "{}", few.len());
        assert!(few.contains(&(7_777.0, 50.0)) && few.contains(&(12_345.0, -60.0)));
        assert!(few.is_sorted_by(|a, b| a.0 < b.0));
    }

    #[test]
    fn values_lie_on_straight_lines_and_nowhere_else() {
        let values = [(1.0, 2.0), (3.0, 6.0)];
        assert_eq!([1.0, 2.0, 3.0].map(|frame| between(&values, frame)), [Some(2.0), Some(4.0), Some(6.0)]);
        assert_eq!([0.5, 3.5].map(|frame| between(&values, frame)), [None, None]);
    }
}
