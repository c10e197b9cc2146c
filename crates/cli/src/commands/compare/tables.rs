//! A comparison for people.

use std::io::Write;

use nimble_curve_core::ledger::MeasuredError;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::compare::{Comparison, CurveDifference, Gap, JointDifference, TakeComparison};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;

use super::{Bound, ROUNDING};
use crate::args::Compare;
use crate::failure::Failure;
use crate::report::{amount, counted, frame, kind_name, listed};
use crate::table::{Align, Table};
use crate::terminal::Style;

/// Whether a difference of curves is more than rounding.
pub(super) fn counts(curve: &CurveDifference) -> bool {
    let more = |gap: &Option<Gap>| gap.is_some_and(|gap| gap.largest > ROUNDING);
    let says = !curve.note.is_empty() && curve.note != "other tangent modes";
    curve.keys.0 != curve.keys.1 || curve.only != (0, 0) || more(&curve.value) || more(&curve.slope) || says
}

pub(super) fn print(
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
            "  take {}: frames {}:{} at {rate} fps, {}; {}",
            Style::Strong.paint(&called),
            frame(rate.frame(take.range.first)),
            frame(rate.frame(take.range.last)),
            match take.at_samples {
                true => "at the samples, between which one side says nothing",
                false => "whole and half ones",
            },
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
            let text = match args.source_pose.is_some() || args.target_pose.is_some() {
                true => "rotations of the world are compared relative to the poses that were given",
                false => "the rigs do not rest alike: rotations of the world relative to rest are compared",
            };
            writeln!(out, "  {}", Style::Faint.paint(text))?;
        }
        summary(out, take, &scene.space, bound)?;
        joints(out, take, &scene.space, bound, args.rows)?;
        curve_table(out, take, &scene.space, args.rows)?;
    }
    Ok(())
}

/// The largest of several errors, and whose it is.
pub(super) fn largest<'e>(
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

pub(super) fn summary(
    out: &mut impl Write,
    take: &TakeComparison,
    space: &Space,
    bound: Bound,
) -> Result<(), Failure> {
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
    row("nodes in the world, rotation", largest(rotations, space, bound.in_world()));
    let positions = joints().filter_map(|joint| Some((joint.position.as_ref()?, joint.node.as_str())));
    row("nodes in the world, position", largest(positions, space, bound.in_world()));
    for quantity in [Quantity::Angle, Quantity::Length, Quantity::Number] {
        let of_kind = take.channels.iter().filter(|channel| channel.error.quantity == quantity);
        let errors = of_kind.map(|channel| (&channel.error, channel.channel.as_str()));
        row(&format!("channels, {}", kind_name(quantity)), largest(errors, space, bound));
    }
    Ok(table.print(out)?)
}

pub(super) fn joints(
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

pub(super) fn more(out: &mut impl Write, total: usize, most: usize, what: &str) -> Result<(), Failure> {
    if most > 0 && total > most {
        let text = format!("and {}: --rows 0 lists all", counted(total - most, &format!("more {what}")));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    Ok(())
}

pub(super) fn curve_table(
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
