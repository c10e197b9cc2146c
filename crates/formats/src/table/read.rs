//! From a table to a scene.

use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_core::time::FrameRate;

use super::build::Build;
use super::cells::{Cells, Row, delimiter, without_head};
use super::keys::KeyTable;
use super::times::{Rates, Times, Unit, times, unit_of};
use crate::encoded::Plain;
use crate::error::Fault;

/// Reads the scene in a table; `name` becomes the name of its rig, and of its take where it says none.
///
/// # Errors
/// With the number of the line on which something is wrong.
pub fn read(text: &str, name: &str, assume: Space, rate: Option<FrameRate>) -> Result<Plain, Fault> {
    let mut head = Head { rate: None, space: assume };
    head.read(text)?;
    let separator = delimiter(without_head(text).1);
    let cells = Cells { has_commas: separator != b',' };
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator)
        .comment(Some(b'#'))
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let fault = |error: csv::Error| {
        let line = error.position().map_or(1, |position| position.line() as usize);
        Fault::on_line(line, "this is not a row of a table: check its quotes")
    };
    let names: Vec<String> = reader.headers().map_err(fault)?.iter().map(str::to_owned).collect();
    let mut rows: Vec<Row> = Vec::new();
    for record in reader.records() {
        let record = record.map_err(fault)?;
        let line = record.position().map_or(1, |position| position.line() as usize);
        rows.push(Row { line, record });
    }
    let is_of_keys = names.iter().any(|name| name == "value");
    if !is_of_keys && let Some(row) = rows.iter().find(|row| row.record.len() != names.len()) {
        let (own, all) = (row.record.len(), names.len());
        return Err(Fault::on_line(row.line, format!("the row has {own} cells, the table {all} columns")));
    }
    let mut notes = vec!["a table holds no rig: its nodes stand beside each other".to_owned()];
    let (place, unit, aside) = column_of_times(&names, &rows)?;
    if !aside.is_empty() {
        notes.push(format!("its times are those of '{}'; left aside: {}", names[place], aside.join(", ")));
    }
    let column: Vec<(usize, &str)> =
        rows.iter().map(|row| (row.line, row.record.get(place).unwrap_or_default())).collect();
    let rates = Rates { given: rate, stated: head.rate };
    let Times { rate, instants, notes: more } = times(unit, &column, rates, cells, !is_of_keys)?;
    notes.extend(more);
    let mut build = Build::new(name, (rate, head.space), cells, notes);
    if is_of_keys {
        let mut keys = KeyTable::new(&names, cells, build.space)?;
        for (row, &time) in rows.iter().zip(&instants) {
            keys.row(row, time, rate)?;
        }
        keys.into_takes(&mut build, name)?;
    } else {
        build.samples(&names, &rows, &instants, name)?;
    }
    let Build { rate, space, rig, takes, texts, notes, .. } = build;
    let scene = Scene { rate, space, rigs: vec![rig], sets: Vec::new(), constraints: Vec::new(), takes };
    Ok(Plain { scene, keys: texts, notes, mended: Vec::new() })
}

/// The column that says when rows are, what it counts, and the other ones that do.
fn column_of_times(names: &[String], rows: &[Row]) -> Result<(usize, Unit, Vec<String>), Fault> {
    let first = |place: usize| rows.first().and_then(|row| row.record.get(place)).unwrap_or_default();
    let mut found: Vec<(usize, Unit)> = Vec::new();
    for (place, name) in names.iter().enumerate() {
        // What is called time may hold time code.
        match unit_of(name) {
            Some(_) if first(place).contains(':') => found.push((place, Unit::TimeCode)),
            Some(unit) => found.push((place, unit)),
            None => {}
        }
    }
    let runs =
        |place: usize| rows.windows(2).any(|pair| pair[0].record.get(place) != pair[1].record.get(place));
    // Time code says where a take starts, unless nothing synchronised it.
    let rank = |&(place, unit): &(usize, Unit)| match unit {
        Unit::TimeCode if runs(place) || rows.len() < 2 => 0,
        Unit::Frames => 1,
        Unit::Seconds => 2,
        Unit::Milliseconds => 3,
        Unit::TimeCode => 4,
    };
    let Some(&(place, unit)) = found.iter().min_by_key(|one| rank(one)) else {
        return Err(Fault::on_line(
            1,
            "the table has no column of times: frame, seconds, milliseconds or timecode (convert --columns says which it is)",
        ));
    };
    let others = found.iter().filter(|(other, _)| *other != place).map(|(other, _)| names[*other].clone());
    Ok((place, unit, others.collect()))
}

/// What the line that starts with `#` says.
struct Head {
    rate: Option<FrameRate>,
    space: Space,
}

impl Head {
    fn read(&mut self, text: &str) -> Result<(), Fault> {
        let Some(line) = text.lines().next().and_then(|line| line.strip_prefix('#')) else { return Ok(()) };
        for word in line.split_whitespace() {
            let Some((name, value)) = word.split_once('=') else { continue };
            let wrong = || {
                let shown: String = word.chars().take(40).collect();
                Fault::on_line(1, format!("'{shown}' cannot be read"))
            };
            match name {
                "rate" => self.rate = Some(value.parse().map_err(|_| wrong())?),
                "unit" => {
                    let metres = Space::unit_metres(value).or_else(|| value.parse().ok());
                    let metres = metres.filter(|metres: &f64| metres.is_finite() && *metres > 0.0);
                    self.space.metres_per_unit = metres.ok_or_else(wrong)?;
                }
                "up" => {
                    self.space.up = match value {
                        "x" => UpAxis::X,
                        "y" => UpAxis::Y,
                        "z" => UpAxis::Z,
                        _ => return Err(wrong()),
                    }
                }
                "hand" => {
                    self.space.handedness =
                        if value == "left" { Handedness::Left } else { Handedness::Right };
                }
                _ => {}
            }
        }
        Ok(())
    }
}
