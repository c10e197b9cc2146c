//! A table of samples: a row for each time, a column for each number.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::address::parts;
use nimble_curve_core::angle::radians;
use nimble_curve_core::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_core::curve::{Curve, Interpolation, Key, Ticks};
use nimble_curve_core::rig::AttributeKind;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;

use super::build::{Build, split};
use super::cells::Row;
use super::times::unit_of;
use crate::error::Fault;
use crate::grid;

/// What becomes of times at which nothing is said.
const ACROSS: &str = "what is before and after goes straight across them";

/// The columns of one property.
struct Group {
    node: String,
    property: String,
    unit: ColumnUnit,
    /// Each with its component, where it says one.
    columns: Vec<(usize, Option<usize>)>,
}

/// What the numbers of a column are.
#[derive(Clone, Copy, Debug, PartialEq)]
struct ColumnUnit {
    quantity: Quantity,
    /// The order in which angles turn, where they say one.
    order: Option<RotationOrder>,
    /// What numbers are multiplied by that are no degrees.
    factor: f64,
    is_in_degrees: bool,
}

impl ColumnUnit {
    fn value(&self, number: f64) -> f64 {
        if self.is_in_degrees { radians(number) } else { number * self.factor }
    }
}

/// The name of a column without its unit, and that: `(deg xyz)`, `(rad)`, `(mm)`, `(quaternion)`. Other words in parentheses
/// belong to the name.
fn named(heading: &str, space: Space) -> (&str, ColumnUnit) {
    let plain = ColumnUnit { quantity: Quantity::Number, order: None, factor: 1.0, is_in_degrees: false };
    let Some((name, said)) = heading.strip_suffix(')').and_then(|heading| heading.rsplit_once(" (")) else {
        return (heading, plain);
    };
    let (word, order) = said.split_once(' ').unwrap_or((said, ""));
    let order = order.trim().parse().ok();
    match word {
        "deg" => (name, ColumnUnit { quantity: Quantity::Angle, order, is_in_degrees: true, ..plain }),
        "rad" => (name, ColumnUnit { quantity: Quantity::Angle, order, ..plain }),
        "quaternion" => (name, plain),
        "unit" => (name, ColumnUnit { quantity: Quantity::Length, ..plain }),
        unit => match Space::unit_metres(unit) {
            Some(metres) => {
                let factor = metres / space.metres_per_unit;
                (name, ColumnUnit { quantity: Quantity::Length, factor, ..plain })
            }
            None => (heading, plain),
        },
    }
}

/// What a column holds.
enum Column {
    Numbers(Vec<Option<f64>>),
    /// Nothing that is a number.
    Words,
}

impl Build {
    /// Reads the columns, of which those with times have been read.
    pub fn samples(
        &mut self,
        names: &[String],
        rows: &[Row],
        times: &[Ticks],
        take: &str,
    ) -> Result<(), Fault> {
        for (pair, row) in times.windows(2).zip(&rows[1.min(rows.len())..]) {
            if pair[0] >= pair[1] {
                return Err(Fault::on_line(row.line, "its time is not later than that of the row before it"));
            }
        }
        if let Some((_, row)) = times.iter().zip(rows).find(|(time, _)| !time.is_allowed()) {
            return Err(Fault::on_line(row.line, "its time is more than 36 days from the start"));
        }
        if times.is_empty() {
            return Ok(());
        }
        let (mut groups, mut values): (Vec<Group>, Vec<Vec<Option<f64>>>) = (Vec::new(), Vec::new());
        let (mut words, mut has_bare, mut places) = (Vec::new(), false, HashMap::new());
        for (place, heading) in names.iter().enumerate() {
            values.push(Vec::new());
            if unit_of(heading).is_some() || heading.is_empty() || heading == "-" {
                continue;
            }
            match self.column(rows, place)? {
                Column::Words => {
                    words.push(heading.as_str());
                    continue;
                }
                Column::Numbers(numbers) => values[place] = numbers,
            }
            let (name, unit) = named(heading, self.space);
            // Of devices that know one thing alone, such as a face.
            let bare = || (take.to_owned(), name.to_owned(), None);
            let (node, property, component) = match parts(name) {
                Some(_) => split(name, 1)?,
                None => {
                    has_bare = true;
                    bare()
                }
            };
            // Columns of one property belong together, whatever stands between them.
            let at = *places.entry((node.clone(), property.clone())).or_insert_with(|| {
                groups.push(Group { node, property, unit, columns: Vec::new() });
                groups.len() - 1
            });
            let columns = &mut groups[at].columns;
            if columns.iter().any(|(_, other)| *other == component) {
                return Err(Fault::on_line(1, format!("the column '{heading}' is there twice")));
            }
            columns.push((place, component));
        }
        if groups.is_empty() {
            return Err(Fault::on_line(1, "the table has no column of numbers beside its times"));
        }
        for group in &mut groups {
            group.columns.sort_by_key(|(_, component)| *component);
        }
        if !words.is_empty() {
            self.notes.push(format!("columns without numbers are left aside: {}", words.join(", ")));
        }
        if has_bare {
            self.notes.push(format!(
                "columns that name no node are numbers of '{take}' (convert --columns says otherwise)"
            ));
        }
        self.say_gaps(times, &values);
        let step = grid::step(times, self.rate);
        for group in groups {
            self.group(group, &values, (times, step), take)?;
        }
        Ok(())
    }

    /// The numbers of a column; none where a cell is empty.
    fn column(&self, rows: &[Row], place: usize) -> Result<Column, Fault> {
        fn cell(row: &Row, place: usize) -> &str {
            row.record.get(place).unwrap_or_default()
        }
        let is_empty = |cell: &str| cell.is_empty() || cell.eq_ignore_ascii_case("nan");
        let is_number = |row: &Row| self.cells.parsed(cell(row, place)).is_some();
        if !rows.iter().any(is_number) {
            return match rows.iter().find(|row| cell(row, place).parse::<f64>().is_ok_and(f64::is_infinite)) {
                Some(row) => self.cells.number(cell(row, place), row.line).map(|_| Column::Words),
                None => Ok(Column::Words),
            };
        }
        let number = |row: &Row| match cell(row, place) {
            cell if is_empty(cell) => Ok(None),
            cell => self.cells.number(cell, row.line).map(Some),
        };
        rows.iter().map(number).collect::<Result<_, Fault>>().map(Column::Numbers)
    }

    /// Says where cells are empty, and where rows are missing.
    fn say_gaps(&mut self, times: &[Ticks], values: &[Vec<Option<f64>>]) {
        let empty: usize =
            values.iter().map(|column| column.iter().filter(|value| value.is_none()).count()).sum();
        if empty > 0 {
            let cells = if empty == 1 { "1 cell is".to_owned() } else { format!("{empty} cells are") };
            self.notes.push(format!("{cells} empty: {ACROSS}"));
        }
        let steps = || times.windows(2).map(|pair| (pair[1] - pair[0]).as_f64());
        let mut all: Vec<f64> = steps().collect();
        all.sort_by(f64::total_cmp);
        let Some(&usual) = all.get(all.len().saturating_sub(1) / 2) else { return };
        let missing: f64 =
            steps().map(|step| (step / usual).round() - 1.0).filter(|count| *count > 0.0).sum();
        if missing > 0.0 && missing < times.len() as f64 {
            let rows = if missing == 1.0 { "1 row is".to_owned() } else { format!("{missing} rows are") };
            self.notes.push(format!("{rows} missing among the others: {ACROSS}"));
        }
    }

    /// What drives a property.
    fn group(
        &mut self,
        group: Group,
        values: &[Vec<Option<f64>>],
        (times, step): (&[Ticks], Option<nimble_curve_core::time::FrameRate>),
        take: &str,
    ) -> Result<(), Fault> {
        let Group { node, property, unit, columns } = &group;
        let is_whole = columns.iter().enumerate().all(|(place, (_, component))| *component == Some(place));
        if columns[0].1.is_some() && !(is_whole && columns.len() >= 3) {
            return self.parts(group, values, times, take);
        }
        if columns[0].1.is_none() && ["translation", "rotation", "scale"].contains(&property.as_str()) {
            let message = format!("'{node}:{property}' has three components: write .x, .y or .z behind it");
            return Err(Fault::on_line(1, message));
        }
        let kind = match (columns.len(), unit.order) {
            (1, _) => SampleKind::Number,
            (3, Some(order)) => SampleKind::Euler(order),
            (3, None) if property == "rotation" => SampleKind::Euler(RotationOrder::Xyz),
            (3, None) => SampleKind::Vector,
            (4, _) => SampleKind::Quaternion,
            (count, _) => {
                let message = format!("'{node}:{property}' has {count} components: 1, 3 or 4 can be read");
                return Err(Fault::on_line(1, message));
            }
        };
        let row = |index: usize| columns.iter().map(move |&(place, _)| values[place][index]);
        let is_there = |index: &usize| row(*index).all(|value| value.is_some());
        let there: Vec<usize> = (0..times.len()).filter(is_there).collect();
        let numbers: Vec<f64> =
            there.iter().flat_map(|&index| row(index).flatten()).map(|number| unit.value(number)).collect();
        let attribute = match kind {
            SampleKind::Number => {
                AttributeKind::Number { default: 0.0, min: None, max: None, quantity: unit.quantity }
            }
            _ => AttributeKind::Vector { default: DVec3::ZERO, quantity: unit.quantity },
        };
        let target = self.property(node, property, attribute, unit.order);
        let controller = match step.filter(|_| there.len() == times.len()) {
            Some(rate) => Controller::Samples(Samples { start: times[0], rate, kind, values: numbers }),
            None => {
                let times: Vec<Ticks> = there.iter().map(|&index| times[index]).collect();
                crate::steps::straight(&times, None, kind, numbers)
            }
        };
        self.push(take, target, controller);
        Ok(())
    }

    /// Some components of a property, the others of which rest: curves with a key at every row.
    fn parts(
        &mut self,
        group: Group,
        values: &[Vec<Option<f64>>],
        times: &[Ticks],
        take: &str,
    ) -> Result<(), Fault> {
        let Group { node, property, unit, columns } = group;
        if columns.iter().any(|(_, component)| component.is_none_or(|component| component > 2)) {
            let message =
                format!("'{node}:{property}' lacks components: all four of a quaternion are needed");
            return Err(Fault::on_line(1, message));
        }
        let curve = |wanted: usize| -> Result<Curve, Fault> {
            let Some((column, _)) = columns.iter().find(|(_, component)| *component == Some(wanted)) else {
                return Ok(Curve::default());
            };
            let key = |(time, value): (&Ticks, &Option<f64>)| {
                let key = Key::new(*time, unit.value((*value)?));
                Some(key.with_interpolation(Interpolation::Linear).with_slope(0.0))
            };
            Curve::new(times.iter().zip(&values[*column]).filter_map(key).collect())
                .map_err(|error| Fault::on_line(1, format!("'{node}:{property}': {error}")))
        };
        let curves = [curve(0)?, curve(1)?, curve(2)?];
        let attribute = AttributeKind::Vector { default: DVec3::ZERO, quantity: unit.quantity };
        let target = self.property(&node, &property, attribute, unit.order);
        let controller = match property.as_str() {
            "rotation" => {
                Controller::Euler(EulerCurves { order: unit.order.unwrap_or(RotationOrder::Xyz), curves })
            }
            _ => Controller::Components(curves.into()),
        };
        self.push(take, target, controller);
        Ok(())
    }
}
