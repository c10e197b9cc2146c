//! `compare`: two files side by side.

use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use nimble_curve_core::ledger::MeasuredError;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::compare::{
    CompareOptions, Comparison, CurveDifference, Gap, JointDifference, TakeComparison, compare,
};
use nimble_curve_core::ops::retime::shifted;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_core::value::Quantity;
use nimble_curve_draw::{Size, curves};
use nimble_curve_formats::name_map::read_name_map;
use nimble_curve_formats::{Assume, Format, Loaded};
use serde::Serialize;

use super::plot::{Picture, channels_of, values_of};
use crate::args::Compare;
use crate::failure::Failure;
use crate::files;
use crate::named::{Named, stem};
use crate::report::{self, ErrorJson, amount, counted, frame, kind_name, listed, print_json, short};
use crate::step::{Shelf, Step, Worked};
use crate::table::{Align, Table};
use crate::terminal::Line;
use crate::terminal::{self, Report, Style};

/// Differences below this, in radians, units or as they are, are rounding.
const ROUNDING: f64 = 1e-9;
/// The most channels on the picture.
const DRAWN: usize = 3;

/// How much is too much.
#[derive(Clone, Copy)]
struct Bound {
    /// Nothing at all where none is given.
    tolerance: Option<Tolerance>,
}

impl Bound {
    fn exceeds(self, error: &MeasuredError, space: &Space) -> bool {
        let limit = self.tolerance.map_or(0.0, |tolerance| tolerance.of(error.quantity, space));
        error.largest > limit + ROUNDING
    }

    /// How much of what is allowed an error takes.
    fn weight(self, error: &MeasuredError, space: &Space) -> f64 {
        error.largest / self.tolerance.unwrap_or_default().of(error.quantity, space)
    }
}

/// The differences of two scenes; `file` names the first one.
fn found(args: &Compare, first: &Scene, second: &Scene, file: &Path) -> Result<Comparison, Failure> {
    let map = args.map.as_ref().map(|path| read_name_map(path)).transpose()?;
    let range =
        args.frames.map(|(from, to)| TimeRange::new(first.rate.ticks_at(from), first.rate.ticks_at(to)));
    let only = args.choice.nodes(first, file)?;
    let options = CompareOptions { map: map.as_ref(), take: args.take.as_deref(), range, only };
    compare(first, second, &options).map_err(|error| {
        Failure::new(format!("{} against {}: {error}", file.display(), args.second.display()))
    })
}

/// In a recipe, what is farther away than is allowed ends the work on the file.
impl Step for Compare {
    fn work(&self, scene: &Scene, file: &Path, shelf: &Shelf) -> Result<Worked, Failure> {
        let second = shelf.scene(&self.second, self.input)?;
        let found = found(self, scene, &second, file)?;
        let bound = Bound { tolerance: self.tolerance };
        if Verdict::of(&found, scene, bound) != Verdict::Beyond {
            return Ok(Worked::unchanged(scene));
        }
        let by = worst(&found, bound, &scene.space).map_or(String::new(), |by| format!(": {by}"));
        Err(Failure::new(format!("it is not what {} is{by}", self.second.display())))
    }
}

/// What is farthest apart, by how much and where; none where nothing is.
fn worst(found: &Comparison, bound: Bound, space: &Space) -> Option<String> {
    let joints = found.takes.iter().flat_map(|take| &take.joints);
    let errors = joints.flat_map(|joint| {
        let place = joint.position.map(|error| (error, joint.node.as_str()));
        [Some((joint.rotation, joint.node.as_str())), place].into_iter().flatten()
    });
    let channels = found.takes.iter().flat_map(|take| &take.channels);
    let errors = errors.chain(channels.map(|channel| (channel.error, channel.channel.as_str())));
    let weighed = errors.filter(|(error, _)| error.largest > ROUNDING);
    let worst = weighed.max_by(|a, b| bound.weight(&a.0, space).total_cmp(&bound.weight(&b.0, space)));
    worst.map(|(error, place)| {
        let size = amount(error.largest, error.quantity, space);
        format!("{place} by {size} at frame {}", frame(error.frame))
    })
}

pub fn run(args: &Compare) -> Result<ExitCode, Failure> {
    args.plot.clone().map(Picture::new).transpose()?;
    let (first, second) = (files::read(&args.first, args.input)?, files::read(&args.second, args.input)?);
    let mut seen = as_others_see(args, (&first, &second))?;
    if args.tolerance.is_none()
        && let Some(text) = seen.take()
    {
        // Nothing is asked for that it could be beyond: what a format cannot hold differs there.
        terminal::remark(&text);
    }
    let (first, second) = (first.scene, second.scene);
    let found = found(args, &first, &second, &args.first)?;
    let bound = Bound { tolerance: args.tolerance };
    let mut verdict = Verdict::of(&found, &first, bound);
    let is_hidden = seen.is_some() && verdict != Verdict::Beyond;
    if seen.is_some() {
        verdict = Verdict::Beyond;
    }
    let mut out = Report::out();
    if args.json {
        print_json(&mut out, &as_json(&found, &first, bound, verdict))?;
    } else if verdict != Verdict::Same {
        let title = format!("{} against {}", args.first.display(), args.second.display());
        let (style, mut came) = conclusion(verdict, args.tolerance);
        if let Some(by) = worst(&found, bound, &first.space) {
            came.push_str(&format!("; farthest apart: {by}"));
        }
        let came = (style, came);
        match &seen {
            // What our extra data gives back is the same then, and what is said of it would contradict that line.
            Some(text) if is_hidden => report::head(&mut out, &title, &(Style::Bad, text.clone()))?,
            Some(text) => {
                report::head(&mut out, &title, &came)?;
                writeln!(out, "  {}", Style::Bad.paint(text))?;
            }
            None => report::head(&mut out, &title, &came)?,
        }
        print(&mut out, args, &found, &first, bound)?;
    } else if terminal::is_read_by_a_person() {
        let said = format!("the same: {}", counted(found.takes.len(), "take"));
        writeln!(out, "{}, {}", Style::Good.paint(&said), counted(found.pairs, "node pair"))?;
    }
    if let Some(path) = args.plot.as_deref().filter(|_| verdict != Verdict::Same) {
        let take = found.takes.first().and_then(|own| first.takes.iter().find(|take| take.name == own.take));
        let picture = Picture::new(Named::of(&args.first, take, first.rate).path(path)?)?;
        picture.write(&drawn(args, &found, (&first, &second), bound)?)?;
    }
    Ok(if verdict == Verdict::Beyond { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

/// How far the motion that other programs see in a file with extra data of ours is from the other file's, in a sentence,
/// where that is more than is allowed: our extra data gives back what was written, whatever the curves beside it say.
fn as_others_see(args: &Compare, (first, second): (&Loaded, &Loaded)) -> Result<Option<String>, Failure> {
    if args.input.ignore_extra {
        return Ok(None);
    }
    let mut sides = [first.scene.clone(), second.scene.clone()];
    let mut names = Vec::new();
    for ((side, loaded), path) in sides.iter_mut().zip([first, second]).zip([&args.first, &args.second]) {
        if path.as_os_str() == "-" || matches!(loaded.format, Format::Ncurve | Format::Bvh | Format::Csv) {
            continue;
        }
        let assume = Assume { without_extra: true, ..args.input.assumed() };
        let mut plain = nimble_curve_formats::read(path, assume)?.scene;
        if plain == *side {
            continue;
        }
        for take in &mut plain.takes {
            // Takes start at zero in the file, and elsewhere in the extra data.
            if let Some(own) = side.takes.iter().find(|own| own.name == take.name) {
                *take = shifted(take, own.range.first - take.range.first);
            }
        }
        *side = plain;
        names.push(path.display().to_string());
    }
    if names.is_empty() {
        return Ok(None);
    }
    let [a, b] = &sides;
    let map = args.map.as_ref().map(|path| read_name_map(path)).transpose()?;
    let options = CompareOptions {
        map: map.as_ref(),
        take: args.take.as_deref(),
        range: None,
        only: args.choice.nodes(a, &args.first)?,
    };
    let seen = format!("as other programs see {}, without our extra data,", names.join(" and "));
    let found = match compare(a, b, &options) {
        Ok(found) => found,
        Err(error) => return Ok(Some(format!("{seen} it cannot be compared: {error}"))),
    };
    // Without a tolerance this is a remark, made where an ordinary one is passed.
    let bound = Bound { tolerance: Some(args.tolerance.unwrap_or_default()) };
    let joints = found.takes.iter().flat_map(|take| &take.joints);
    let errors = joints.flat_map(|joint| {
        let place = joint.position.map(|error| (error, joint.node.as_str()));
        [Some((joint.rotation, joint.node.as_str())), place].into_iter().flatten()
    });
    let worst = errors
        .filter(|(error, _)| bound.exceeds(error, &a.space))
        .max_by(|x, y| bound.weight(&x.0, &a.space).total_cmp(&bound.weight(&y.0, &a.space)));
    Ok(worst.map(|(error, node)| {
        format!(
            "{seen} {node} is off by {} in the world at frame {}",
            amount(error.largest, error.quantity, &a.space),
            frame(error.frame)
        )
    }))
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Verdict {
    Same,
    Within,
    Beyond,
}

impl Verdict {
    fn of(found: &Comparison, space: &Scene, bound: Bound) -> Verdict {
        let space = &space.space;
        let exact = Bound { tolerance: None };
        let lacks = |take: &TakeComparison| !(take.only_first.is_empty() && take.only_second.is_empty());
        let moves = |take: &TakeComparison, bound: Bound| {
            let joint = |joint: &JointDifference| {
                bound.exceeds(&joint.rotation, space)
                    || joint.position.is_some_and(|position| bound.exceeds(&position, space))
            };
            take.channels.iter().any(|channel| bound.exceeds(&channel.error, space))
                || take.joints.iter().any(joint)
        };
        let other_takes = !(found.only_first.is_empty() && found.only_second.is_empty());
        if other_takes || found.takes.iter().any(|take| lacks(take) || moves(take, bound)) {
            return Verdict::Beyond;
        }
        let differs = |take: &TakeComparison| {
            moves(take, exact) || take.ranges.is_some() || take.curves.iter().any(counts)
        };
        match (found.takes.iter().any(differs), bound.tolerance) {
            (false, _) => Verdict::Same,
            (true, Some(_)) => Verdict::Within,
            (true, None) => Verdict::Beyond,
        }
    }
}

/// Whether a difference of curves is more than rounding.
fn counts(curve: &CurveDifference) -> bool {
    let more = |gap: &Option<Gap>| gap.is_some_and(|gap| gap.largest > ROUNDING);
    let says = !curve.note.is_empty() && curve.note != "other tangent modes";
    curve.keys.0 != curve.keys.1 || curve.only != (0, 0) || more(&curve.value) || more(&curve.slope) || says
}

fn print(
    out: &mut impl Write,
    args: &Compare,
    found: &Comparison,
    scene: &Scene,
    bound: Bound,
) -> Result<(), Failure> {
    let names = |names: &[String]| listed(&names.iter().map(String::as_str).collect::<Vec<_>>(), 6);
    for (takes, file) in [(&found.only_first, &args.first), (&found.only_second, &args.second)] {
        if !takes.is_empty() {
            let text = format!("only {} has: {}", file.display(), names(takes));
            writeln!(out, "  {}", Style::Warn.paint(&text))?;
        }
    }
    for take in &found.takes {
        let rate = scene.rate;
        let called = if take.take == take.other {
            take.take.clone()
        } else {
            format!("{} against {}", take.take, take.other)
        };
        writeln!(
            out,
            "  take {}: frames {}:{} at {rate} fps, whole and half ones; {}",
            Style::Strong.paint(&called),
            frame(rate.frame(take.range.first)),
            frame(rate.frame(take.range.last)),
            counted(take.joints.len(), "node pair"),
        )?;
        if let Some([a, b]) = take.ranges {
            let text =
                format!("ranges differ: {}:{} against {}:{}", frame(a.0), frame(a.1), frame(b.0), frame(b.1));
            writeln!(out, "  {}", Style::Warn.paint(&text))?;
        }
        for (nodes, file) in [(&take.only_first, &args.first), (&take.only_second, &args.second)] {
            if !nodes.is_empty() {
                let text = format!("move in {} only: {}", file.display(), names(nodes));
                writeln!(out, "  {}", Style::Warn.paint(&text))?;
            }
        }
        if !found.rest_alike {
            let text = "the rigs do not rest alike: rotations of the world relative to rest are compared";
            writeln!(out, "  {}", Style::Faint.paint(text))?;
        }
        summary(out, take, &scene.space, bound)?;
        joints(out, take, &scene.space, bound, args.rows)?;
        curve_table(out, take, &scene.space, args.rows)?;
    }
    Ok(())
}

/// What the exit code says.
fn conclusion(verdict: Verdict, tolerance: Option<Tolerance>) -> Line {
    let Some(tolerance) = tolerance else { return (Style::Warn, "not the same".to_owned()) };
    let allowed = format!(
        "{} deg, {} mm, {}",
        short(tolerance.angle.to_degrees()),
        short(tolerance.length * 1000.0),
        short(tolerance.number)
    );
    match verdict {
        Verdict::Beyond => (Style::Warn, format!("beyond the tolerance of {allowed}")),
        _ => (Style::Good, format!("within the tolerance of {allowed}")),
    }
}

/// The largest of several errors, and whose it is.
fn largest<'e>(
    errors: impl Iterator<Item = (&'e MeasuredError, &'e str)>,
    space: &Space,
    bound: Bound,
) -> Option<(MeasuredError, &'e str, usize, usize)> {
    let mut total: Option<(MeasuredError, &str, usize, usize)> = None;
    for (error, place) in errors {
        let beyond = usize::from(bound.exceeds(error, space));
        total = Some(match total {
            None => (*error, place, 1, beyond),
            Some((mut sum, at, count, all)) => {
                let place = if error.largest > sum.largest { place } else { at };
                sum.merge(error);
                (sum, place, count + 1, all + beyond)
            }
        });
    }
    total
}

fn summary(out: &mut impl Write, take: &TakeComparison, space: &Space, bound: Bound) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("by motion", Align::Left),
        ("compared", Align::Right),
        (if bound.tolerance.is_some() { "beyond" } else { "differ" }, Align::Right),
        ("largest", Align::Right),
        ("rms", Align::Right),
        ("where", Align::Left),
    ]);
    let mut row = |name: &str, found: Option<(MeasuredError, &str, usize, usize)>| {
        let Some((error, place, count, beyond)) = found else { return };
        let is_none = error.largest <= ROUNDING;
        let shown = |value| if is_none { "0".to_owned() } else { amount(value, error.quantity, space) };
        let place = if is_none { String::new() } else { format!("{place} at frame {}", frame(error.frame)) };
        let cells = [
            name.to_owned(),
            count.to_string(),
            beyond.to_string(),
            shown(error.largest),
            shown(error.rms()),
            place,
        ];
        if beyond > 0 { table.styled(Style::Warn, cells) } else { table.row(cells) }
    };
    let joints = || take.joints.iter();
    let rotations = joints().map(|joint| (&joint.rotation, joint.node.as_str()));
    row("nodes in the world, rotation", largest(rotations, space, bound));
    let positions = joints().filter_map(|joint| Some((joint.position.as_ref()?, joint.node.as_str())));
    row("nodes in the world, position", largest(positions, space, bound));
    for quantity in [Quantity::Angle, Quantity::Length, Quantity::Number] {
        let of_kind = take.channels.iter().filter(|channel| channel.error.quantity == quantity);
        let errors = of_kind.map(|channel| (&channel.error, channel.channel.as_str()));
        row(&format!("channels, {}", kind_name(quantity)), largest(errors, space, bound));
    }
    Ok(table.print(out)?)
}

fn joints(
    out: &mut impl Write,
    take: &TakeComparison,
    space: &Space,
    bound: Bound,
    most: usize,
) -> Result<(), Failure> {
    let weight = |joint: &JointDifference| {
        let position = joint.position.map_or(0.0, |position| bound.weight(&position, space));
        bound.weight(&joint.rotation, space).max(position)
    };
    let differs = |joint: &&JointDifference| {
        joint.rotation.largest > ROUNDING || joint.position.is_some_and(|p| p.largest > ROUNDING)
    };
    let mut rows: Vec<&JointDifference> = take.joints.iter().filter(differs).collect();
    rows.sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    if rows.is_empty() {
        return Ok(());
    }
    let with_places = take.joints.iter().any(|joint| joint.position.is_some());
    let of_one = |name| [(name, Align::Right), ("rms", Align::Right), ("at frame", Align::Right)];
    let mut heads = vec![("node in the world", Align::Left)];
    heads.extend(of_one("rotation"));
    if with_places {
        heads.extend(of_one("position"));
    }
    let mut table = Table::new(&heads);
    let total = rows.len();
    for joint in rows.into_iter().take(if most == 0 { usize::MAX } else { most }) {
        let cells_of = |error: &MeasuredError| {
            if error.largest <= ROUNDING {
                return ["0".to_owned(), "0".to_owned(), String::new()];
            }
            let amount = |value| amount(value, error.quantity, space);
            [amount(error.largest), amount(error.rms()), frame(error.frame)]
        };
        let name = match &joint.other {
            Some(other) => format!("{} ~ {other}", joint.node),
            None => joint.node.clone(),
        };
        let mut cells = vec![name];
        cells.extend(cells_of(&joint.rotation));
        cells.extend(joint.position.iter().flat_map(cells_of));
        table.row(cells);
    }
    table.print(out)?;
    more(out, total, most, "node")
}

fn more(out: &mut impl Write, total: usize, most: usize, what: &str) -> Result<(), Failure> {
    if most > 0 && total > most {
        let text = format!("and {}: --rows 0 lists all", counted(total - most, &format!("more {what}")));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    Ok(())
}

fn curve_table(
    out: &mut impl Write,
    take: &TakeComparison,
    space: &Space,
    most: usize,
) -> Result<(), Failure> {
    let mut rows: Vec<&CurveDifference> = take.curves.iter().filter(|curve| counts(curve)).collect();
    if rows.is_empty() {
        let text = format!("curve by curve: all {} are the same", counted(take.tracks, "track"));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
        return Ok(());
    }
    let bound = Tolerance::default();
    let weight = |curve: &CurveDifference| {
        let value = curve.value.map_or(0.0, |gap| gap.largest / bound.of(curve.quantity, space));
        // What stands on one side only matters most.
        let alone = f64::from(u8::from(curve.keys.0.is_none() || curve.keys.1.is_none()));
        (alone, value, curve.slope.map_or(0.0, |gap| gap.largest))
    };
    rows.sort_by(|a, b| weight(b).partial_cmp(&weight(a)).unwrap_or(std::cmp::Ordering::Equal));
    let mut table = Table::new(&[
        ("curve by curve", Align::Left),
        ("layer", Align::Left),
        ("keys", Align::Right),
        ("other", Align::Right),
        ("values differ", Align::Right),
        ("at frame", Align::Right),
        ("slopes a second", Align::Right),
        ("at frame", Align::Right),
        ("note", Align::Left),
    ]);
    let total = rows.len();
    for curve in rows.into_iter().take(if most == 0 { usize::MAX } else { most }) {
        let keys = |count: Option<usize>| count.map_or("none".to_owned(), |count| count.to_string());
        let cells_of = |gap: Option<Gap>| match gap.filter(|gap| gap.largest > ROUNDING) {
            Some(gap) => [amount(gap.largest, curve.quantity, space), frame(gap.frame)],
            None => [String::new(), String::new()],
        };
        let mut notes = Vec::new();
        if curve.only != (0, 0) {
            notes.push(format!("{} and {} keys at other times", curve.only.0, curve.only.1));
        }
        if !curve.note.is_empty() {
            notes.push(curve.note.clone());
        }
        let mut cells =
            vec![curve.channel.clone(), curve.layer.clone(), keys(curve.keys.0), keys(curve.keys.1)];
        cells.extend(cells_of(curve.value));
        cells.extend(cells_of(curve.slope));
        cells.push(notes.join(", "));
        table.row(cells);
    }
    table.without_empty_columns().print(out)?;
    more(out, total, most, "curve")
}

/// The channels that are farthest apart.
fn drawn(
    args: &Compare,
    found: &Comparison,
    (first, second): (&Scene, &Scene),
    bound: Bound,
) -> Result<String, Failure> {
    let space = &first.space;
    let Some(take) = found.takes.first() else {
        return Err(Failure::new("no take stands in both files: there is nothing to draw"));
    };
    let mut worst: Vec<_> = take.channels.iter().filter(|channel| channel.error.largest > ROUNDING).collect();
    worst.sort_by(|a, b| bound.weight(&b.error, space).total_cmp(&bound.weight(&a.error, space)));
    let (Some(own), Some(theirs)) = (
        first.takes.iter().find(|own| own.name == take.take),
        second.takes.iter().find(|other| other.name == take.other),
    ) else {
        return Err(Failure::new("no take stands in both files: there is nothing to draw"));
    };
    let mut channels = Vec::new();
    for channel in worst {
        // Of each property the component that differs most.
        let mut best: Option<(f64, curves::Channel<'_>)> = None;
        for name in std::iter::once(String::new())
            .chain(["x", "y", "z"].map(|letter| format!(".{letter}")))
            .map(|letter| format!("{}{letter}", channel.channel))
        {
            let Some(mut drawn) = channels_of(first, own, std::slice::from_ref(&name)).pop() else {
                continue;
            };
            drawn.against = values_of(first, second, theirs, &name)?;
            let apart = farthest(&drawn, first);
            if best.as_ref().is_none_or(|(most, _)| apart > *most) && !drawn.against.is_empty() {
                best = Some((apart, drawn));
            }
        }
        channels.extend(best.map(|(_, channel)| channel));
        if channels.len() == DRAWN {
            break;
        }
    }
    if channels.is_empty() {
        return Err(Failure::new("no curve of both files differs: plot --view poses --against shows both"));
    }
    let rate = first.rate;
    let title = format!("{} against {}", stem(&args.first), stem(&args.second));
    let range = (rate.frame(take.range.first), rate.frame(take.range.last));
    let sheet = curves::Sheet { title: &title, rate, range, overlaid: false, size: Size::default() };
    Ok(curves::draw(&sheet, &channels))
}

fn farthest(channel: &curves::Channel<'_>, scene: &Scene) -> f64 {
    let own = |at: f64| match &channel.source {
        curves::Source::Curve(curve) => curve.value_at(at * scene.rate.ticks_per_frame()),
        curves::Source::Values(values) => {
            values.iter().find(|(frame, _)| *frame == at).map(|(_, value)| *value)
        }
    };
    let apart = channel.against.iter().filter_map(|&(frame, value)| Some((own(frame)? - value).abs()));
    apart.fold(0.0, f64::max)
}

#[derive(Serialize)]
struct ComparisonJson<'a> {
    verdict: Verdict,
    rest_alike: bool,
    pairs: usize,
    takes_only_in_first: &'a [String],
    takes_only_in_second: &'a [String],
    takes: Vec<TakeJson<'a>>,
}

#[derive(Serialize)]
struct TakeJson<'a> {
    take: &'a str,
    other: &'a str,
    first_frame: f64,
    last_frame: f64,
    ranges: Option<[(f64, f64); 2]>,
    moved_only_in_first: &'a [String],
    moved_only_in_second: &'a [String],
    channels: Vec<ChannelJson<'a>>,
    nodes: Vec<JointJson<'a>>,
    curves: Vec<CurveJson<'a>>,
}

#[derive(Serialize)]
struct ChannelJson<'a> {
    channel: &'a str,
    other: Option<&'a str>,
    beyond: bool,
    error: ErrorJson,
}

#[derive(Serialize)]
struct JointJson<'a> {
    node: &'a str,
    other: Option<&'a str>,
    beyond: bool,
    rotation: ErrorJson,
    position: Option<ErrorJson>,
}

#[derive(Serialize)]
struct CurveJson<'a> {
    layer: &'a str,
    channel: &'a str,
    keys: [Option<usize>; 2],
    keys_at_other_times: [usize; 2],
    unit: &'static str,
    value: Option<GapJson>,
    slope: Option<GapJson>,
    note: &'a str,
}

#[derive(Serialize)]
struct GapJson {
    largest: f64,
    frame: f64,
}

fn as_json<'a>(found: &'a Comparison, scene: &Scene, bound: Bound, verdict: Verdict) -> ComparisonJson<'a> {
    let space = &scene.space;
    let curve = |curve: &'a CurveDifference| {
        let (unit, factor) = match curve.quantity {
            Quantity::Angle => ("deg", 1_f64.to_degrees()),
            Quantity::Length => ("mm", space.metres_per_unit * 1000.0),
            Quantity::Number => ("", 1.0),
        };
        let gap = |gap: Gap| GapJson { largest: gap.largest * factor, frame: gap.frame };
        CurveJson {
            layer: &curve.layer,
            channel: &curve.channel,
            keys: [curve.keys.0, curve.keys.1],
            keys_at_other_times: [curve.only.0, curve.only.1],
            unit,
            value: curve.value.map(gap),
            slope: curve.slope.map(gap),
            note: &curve.note,
        }
    };
    let joint = |joint: &'a JointDifference| JointJson {
        node: &joint.node,
        other: joint.other.as_deref(),
        beyond: bound.exceeds(&joint.rotation, space)
            || joint.position.is_some_and(|position| bound.exceeds(&position, space)),
        rotation: ErrorJson::new(&joint.rotation, space),
        position: joint.position.map(|position| ErrorJson::new(&position, space)),
    };
    let take = |take: &'a TakeComparison| TakeJson {
        take: &take.take,
        other: &take.other,
        first_frame: scene.rate.frame(take.range.first),
        last_frame: scene.rate.frame(take.range.last),
        ranges: take.ranges,
        moved_only_in_first: &take.only_first,
        moved_only_in_second: &take.only_second,
        channels: (take.channels.iter())
            .map(|channel| ChannelJson {
                channel: &channel.channel,
                other: channel.other.as_deref(),
                beyond: bound.exceeds(&channel.error, space),
                error: ErrorJson::new(&channel.error, space),
            })
            .collect(),
        nodes: take.joints.iter().map(joint).collect(),
        curves: take.curves.iter().filter(|curve| counts(curve)).map(curve).collect(),
    };
    ComparisonJson {
        verdict,
        rest_alike: found.rest_alike,
        pairs: found.pairs,
        takes_only_in_first: &found.only_first,
        takes_only_in_second: &found.only_second,
        takes: found.takes.iter().map(take).collect(),
    }
}
