//! Ledgers for people and for machines.

use std::collections::BTreeMap;
use std::io::{self, Write};

use nimble_curve_core::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;
use serde::Serialize;

use crate::table::{Align, Table};
use crate::terminal::Line;
use crate::terminal::{self, Style};

/// An amount with a unit that suits its size.
pub fn amount(value: f64, quantity: Quantity, space: &Space) -> String {
    match quantity {
        Quantity::Angle => format!("{} deg", short(value.to_degrees())),
        Quantity::Length => {
            let metres = value * space.metres_per_unit;
            match metres.abs() {
                m if m >= 1.0 => format!("{} m", short(metres)),
                m if m >= 0.01 => format!("{} cm", short(metres * 100.0)),
                _ => format!("{} mm", short(metres * 1000.0)),
            }
        }
        Quantity::Number => short(value),
    }
}

/// A number with three or four digits that count.
pub fn short(value: f64) -> String {
    match value.abs() {
        0.0 => "0".into(),
        v if v < 1e-9 => "0".into(),
        v if v < 0.00095 => format!("{value:.1e}"),
        v if v < 1.0 => format!("{value:.4}"),
        v if v < 100.0 => format!("{value:.2}"),
        _ => format!("{value:.0}"),
    }
}

/// A turn in degrees to a tenth, without a sign on nothing.
pub fn degrees(radians: f64) -> String {
    let tenths = (radians.to_degrees() * 10.0).round() / 10.0;
    format!("{:.1} deg", if tenths == 0.0 { 0.0 } else { tenths })
}

/// A frame without needless decimals.
pub fn frame(value: f64) -> String {
    if (value - value.round()).abs() < 1e-6 { format!("{value:.0}") } else { format!("{value:.2}") }
}

/// The plural where there are several.
pub fn counted(count: usize, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {thing}s") }
}

/// How a quantity's channels are called.
pub fn kind_name(quantity: Quantity) -> &'static str {
    match quantity {
        Quantity::Angle => "rotation",
        Quantity::Length => "position",
        Quantity::Number => "number",
    }
}

/// A ledger as JSON: angles in degrees, lengths in millimetres.
#[derive(Serialize)]
pub struct LedgerJson<'a> {
    entries: Vec<EntryJson<'a>>,
    notes: &'a [String],
}

#[derive(Serialize)]
struct EntryJson<'a> {
    take: &'a str,
    layer: &'a str,
    channel: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<&'a str>,
    fate: Fate,
    before: usize,
    after: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<ErrorJson>,
    #[serde(skip_serializing_if = "str::is_empty")]
    note: &'a str,
}

/// A measured error as JSON.
#[derive(Serialize)]
pub struct ErrorJson {
    unit: &'static str,
    largest: f64,
    frame: f64,
    rms: f64,
}

impl ErrorJson {
    pub fn new(error: &MeasuredError, space: &Space) -> ErrorJson {
        let (unit, factor) = match error.quantity {
            Quantity::Angle => ("deg", 1_f64.to_degrees()),
            Quantity::Length => ("mm", space.metres_per_unit * 1000.0),
            Quantity::Number => ("", 1.0),
        };
        ErrorJson { unit, largest: error.largest * factor, frame: error.frame, rms: error.rms() * factor }
    }
}

impl<'a> LedgerJson<'a> {
    pub fn new(ledger: &'a Ledger, space: &Space) -> LedgerJson<'a> {
        let entry = |entry: &'a Entry| EntryJson {
            take: &entry.take,
            layer: &entry.layer,
            channel: &entry.channel,
            to: entry.to.as_deref(),
            fate: entry.fate,
            before: entry.before,
            after: entry.after,
            error: entry.error.as_ref().map(|error| ErrorJson::new(error, space)),
            note: &entry.note,
        };
        LedgerJson { entries: ledger.entries.iter().map(entry).collect(), notes: &ledger.notes }
    }
}

/// Prints how many properties met which fate, with the largest error of each kind.
pub fn print_fates(out: &mut impl Write, ledger: &Ledger, space: &Space) -> io::Result<()> {
    let mut table = Table::new(&[
        ("fate", Align::Left),
        ("tracks", Align::Right),
        ("keys before", Align::Right),
        ("after", Align::Right),
        ("largest error", Align::Right),
        ("where", Align::Left),
    ]);
    let mut met = Vec::new();
    for fate in [Fate::Kept, Fate::Exact, Fate::Refitted, Fate::Sampled, Fate::LeftOut, Fate::NotSelected] {
        let entries: Vec<Entry> = ledger.entries.iter().filter(|entry| entry.fate == fate).cloned().collect();
        if entries.is_empty() {
            continue;
        }
        let sum = |count: fn(&Entry) -> usize| entries.iter().map(count).sum::<usize>().to_string();
        let (before, after, tracks) = (sum(|e| e.before), sum(|e| e.after), entries.len().to_string());
        let part = Ledger { entries, notes: Vec::new() };
        let (error, place) = if matches!(fate, Fate::Refitted | Fate::Sampled) {
            worst(&part, space)
        } else {
            (String::new(), String::new())
        };
        let cells = [fate.name().to_owned(), tracks, before, after, error, place];
        match fate {
            Fate::LeftOut => table.styled(Style::Warn, cells),
            Fate::NotSelected => table.styled(Style::Faint, cells),
            _ => table.row(cells),
        }
        met.push(match fate {
            Fate::Kept => "kept: as it was",
            Fate::Exact => "exact: said otherwise, the same motion",
            Fate::Refitted => "refitted: within the tolerance",
            Fate::Sampled => "sampled: a value a frame",
            Fate::LeftOut => "left out: not in the result",
            Fate::NotSelected => "not selected: stays behind, as asked",
        });
    }
    table.least_telling(&["where"]).print(out)?;
    for line in terminal::wrapped("  ", &met.join("; "), 2) {
        writeln!(out, "{}", Style::Faint.paint(&line))?;
    }
    Ok(())
}

fn worst(ledger: &Ledger, space: &Space) -> (String, String) {
    for quantity in [Quantity::Angle, Quantity::Length, Quantity::Number] {
        if let Some(entry) = ledger.worst(quantity)
            && let Some(error) = entry.error
        {
            let channel = entry.to.as_ref().unwrap_or(&entry.channel);
            let place = format!("{channel} at frame {}", frame(error.frame));
            return (amount(error.largest, quantity, space), place);
        }
    }
    (String::new(), String::new())
}

/// Prints entries one by one. Returns how many there were.
pub fn print_entries<'a>(
    out: &mut impl Write,
    entries: impl Iterator<Item = &'a Entry>,
    space: &Space,
) -> io::Result<usize> {
    let mut table = Table::new(&[
        ("channel", Align::Left),
        ("fate", Align::Left),
        ("before", Align::Right),
        ("after", Align::Right),
        ("largest error", Align::Right),
        ("at frame", Align::Right),
        ("note", Align::Left),
    ]);
    let mut count = 0;
    for entry in entries {
        count += 1;
        let error = entry.error.filter(|_| matches!(entry.fate, Fate::Refitted | Fate::Sampled));
        let cells = [
            entry.channel.clone(),
            entry.fate.name().to_owned(),
            entry.before.to_string(),
            entry.after.to_string(),
            error.map_or(String::new(), |error| amount(error.largest, error.quantity, space)),
            error.map_or(String::new(), |error| frame(error.frame)),
            entry.note.clone(),
        ];
        let stands_out = entry.fate == Fate::LeftOut || entry.note.starts_with("stays");
        if stands_out { table.styled(Style::Warn, cells) } else { table.row(cells) }
    }
    if count > 0 {
        table.print(out)?;
    }
    Ok(count)
}

/// Prints what the notes of a ledger say, each note once with its channels; at most so many.
pub fn print_noted(out: &mut impl Write, ledger: &Ledger, most: usize) -> io::Result<()> {
    let mut by_note: Vec<(&str, Vec<&str>)> = Vec::new();
    for entry in ledger.entries.iter().filter(|entry| !entry.note.is_empty()) {
        match by_note.iter_mut().find(|(note, _)| *note == entry.note) {
            Some((_, channels)) => channels.push(&entry.channel),
            None => by_note.push((&entry.note, vec![&entry.channel])),
        }
    }
    by_note.sort_by_key(|(_, channels)| std::cmp::Reverse(channels.len()));
    for (note, channels) in by_note.iter().take(most) {
        for line in terminal::wrapped("  ", &format!("{note}: {}", listed(channels, 4)), 4) {
            writeln!(out, "{}", line.replacen(&**note, &Style::Faint.paint(note), 1))?;
        }
    }
    if by_note.len() > most {
        writeln!(
            out,
            "  {}",
            Style::Faint.paint(&format!("and {} more notes: see --json", by_note.len() - most))
        )?;
    }
    Ok(())
}

/// Prints the first line of a report: what became what, and what came of it. Where both are wider than the terminal, what came
/// of it stands on lines of its own.
pub fn head(out: &mut impl Write, title: &str, (style, outcome): &Line) -> io::Result<()> {
    use unicode_width::UnicodeWidthStr as _;
    let fits = terminal::width().is_none_or(|most| title.width() + 2 + outcome.width() <= most);
    if fits {
        return writeln!(out, "{}  {}", Style::Strong.paint(title), style.paint(outcome));
    }
    writeln!(out, "{}", Style::Strong.paint(title))?;
    for line in terminal::wrapped("  ", outcome, 4) {
        writeln!(out, "{}", style.paint(&line))?;
    }
    Ok(())
}

/// Prints the closing lines of a report: what the judge found.
pub fn close(out: &mut impl Write, closing: &[Line]) -> io::Result<()> {
    for (style, line) in closing {
        let inside = line.len() - line.trim_start().len();
        let start = " ".repeat(2 + inside);
        for line in terminal::wrapped(&start, line.trim_start(), inside + 4) {
            writeln!(out, "{}", style.paint(&line))?;
        }
    }
    Ok(())
}

/// Prints remarks, each from a line of its own on.
pub fn print_remarks<'a>(
    out: &mut impl Write,
    remarks: impl IntoIterator<Item = &'a String>,
) -> io::Result<()> {
    for remark in remarks {
        for line in terminal::wrapped("  ", remark, 4) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// Prints what was left out, by reason.
pub fn print_left_out(out: &mut impl Write, ledger: &Ledger) -> io::Result<()> {
    let mut by_reason: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for entry in ledger.entries.iter().filter(|entry| entry.fate == Fate::LeftOut) {
        by_reason.entry(&entry.note).or_default().push(&entry.channel);
    }
    for (reason, channels) in by_reason {
        let text = format!("left out, {reason}: {}", listed(&channels, 8));
        for line in terminal::wrapped("  ", &text, 4) {
            writeln!(out, "{}", line.replacen("left out,", &Style::Warn.paint("left out,"), 1))?;
        }
    }
    Ok(())
}

/// The first few of a list, and how many more there are.
pub fn listed(items: &[&str], most: usize) -> String {
    let mut text = items.iter().take(most).copied().collect::<Vec<_>>().join(", ");
    if items.len() > most {
        text.push_str(&format!(" and {} more", items.len() - most));
    }
    text
}

/// Prints a text of several lines.
pub fn print_text(out: &mut impl Write, text: &str) -> io::Result<()> {
    text.split_inclusive('\n').try_for_each(|line| out.write_all(line.as_bytes()))
}

/// Prints JSON for machines.
pub fn print_json(out: &mut impl Write, value: &impl Serialize) -> io::Result<()> {
    print_text(out, &serde_json::to_string_pretty(value)?)?;
    writeln!(out)
}
