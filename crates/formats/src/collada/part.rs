//! Channels that drive one property of one node, as its controller.

use glam::DMat4;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::{Curve, Interpolation};
use nimble_curve_core::rig::{NodeId, OpValue, Rig};
use nimble_curve_core::scene::{Target, Track};

use super::curves::{Factor, Sampler};
use crate::apart::taken_apart;
use crate::grid::{self, Clock};
use crate::steps::{Place, of_curves, rows_as_keys, straight};

/// A channel whose target was found.
pub struct Channel {
    /// Which animation at the top of the library it stands in.
    pub animation: usize,
    pub node: usize,
    /// Which transform element of the node.
    pub step: usize,
    /// The first number of the element that it drives, and how many.
    pub first: usize,
    pub width: usize,
    pub sampler: Sampler,
}

/// All channels that drive one property of one node.
pub struct Part<'a> {
    pub node: NodeId,
    pub property: &'a str,
    pub pieces: Vec<(&'a Channel, &'a Place)>,
}

/// Where one number of a property comes from: a sampler, which of its numbers, and the factor on it.
pub type Column<'a> = (&'a Sampler, usize, Factor);

impl Part<'_> {
    pub fn into_tracks(self, rig: &Rig, clock: &Clock, tracks: &mut Vec<Track>, notes: &mut Vec<String>) {
        let Some(node) = rig.node(self.node) else { return };
        let target = |property: &str| Target { rig: 0, node: self.node, property: property.to_owned() };
        if self.property == "matrix" && node.op("matrix").is_none() {
            match self.matrices(clock, (&node.name, notes)) {
                Some(parts) => tracks.extend(
                    parts
                        .into_iter()
                        .map(|(property, controller)| Track { target: target(property), controller }),
                ),
                None => notes.push(format!(
                    "the matrix of '{}' is animated number by number, which is not read: bake it on export",
                    node.name
                )),
            }
            return;
        }
        let Some(op) = node.op(self.property) else { return };
        let count = match op.value {
            OpValue::RotateAxis { .. } => 1,
            OpValue::Matrix(_) => 16,
            _ => 3,
        };
        let mut columns: Vec<Option<Column<'_>>> = vec![None; count];
        for (channel, place) in &self.pieces {
            for index in 0..channel.width {
                let number = channel.first + index;
                let is_rotate = matches!(op.value, OpValue::RotateAxis { .. } | OpValue::Rotate { .. });
                let (component, factor) = match op.value {
                    // The fourth number of a rotate is its angle; its axis is taken to stand still.
                    _ if is_rotate && number != 3 => continue,
                    _ if is_rotate => (place.component, Factor { by: place.factor, is_angle: true }),
                    // Written by rows, kept by columns.
                    OpValue::Matrix(_) => (number % 4 * 4 + number / 4, Factor { by: 1.0, is_angle: false }),
                    _ => (number, Factor { by: place.factor, is_angle: false }),
                };
                if let Some(column) = columns.get_mut(component) {
                    *column = Some((&channel.sampler, index, factor));
                }
            }
        }
        let kind = match op.value {
            OpValue::Rotate { order, .. } => SampleKind::Euler(order),
            OpValue::RotateAxis { .. } => SampleKind::Number,
            OpValue::Matrix(_) => SampleKind::Matrix,
            _ => SampleKind::Vector,
        };
        let controller = sampled(&columns, kind, clock).unwrap_or_else(|| {
            let curve = |column: &Option<Column<'_>>| {
                column.map_or_else(Curve::default, |(sampler, index, factor)| {
                    sampler.curve(index, factor, clock)
                })
            };
            of_curves(kind, columns.iter().map(curve).collect())
        });
        tracks.push(Track { target: target(self.property), controller });
    }

    /// Whole matrices, key by key, taken apart into translation, rotation and scale.
    fn matrices(
        &self,
        clock: &Clock,
        (name, notes): (&str, &mut Vec<String>),
    ) -> Option<Vec<(&'static str, Controller)>> {
        let [(channel, _)] = self.pieces[..] else { return None };
        let sampler = (channel.width == 16).then_some(&channel.sampler)?;
        let times = sampler.times(clock);
        let rows = sampler.values.chunks_exact(16).take(times.len());
        // Written by rows.
        let apart = taken_apart(rows.map(|row| DMat4::from_cols_slice(row).transpose()));
        notes.extend(apart.note(name));
        let step = grid::step(&times, clock.rate).filter(|_| sampler.is_straight());
        if step.is_none() && !sampler.holds() && times.len() > 1 {
            // The standard leaves open what becomes of a matrix between two of them, and programs differ.
            notes.push(format!(
                "{name}: its matrices are keys: read as turning along great arcs between them"
            ));
        }
        let parts = apart.parts.into_iter().filter(|(_, _, values)| !values.is_empty());
        let controller = |kind, values: Vec<f64>| match sampler.holds() {
            true => rows_as_keys(&times, kind, &values, Interpolation::Hold),
            false => straight(&times, step, kind, values),
        };
        Some(parts.map(|(name, kind, values)| (name, controller(kind, values))).collect())
    }
}

/// Columns that all are straight lines at every frame of one grid, as samples.
pub fn sampled(columns: &[Option<Column<'_>>], kind: SampleKind, clock: &Clock) -> Option<Controller> {
    let all: Vec<Column<'_>> = columns.iter().copied().collect::<Option<_>>()?;
    let (first, _, _) = *all.first()?;
    let alike = |(sampler, _, _): &Column<'_>| sampler.is_straight() && sampler.seconds == first.seconds;
    if !all.iter().all(alike) {
        return None;
    }
    let times = first.times(clock);
    let step = grid::step(&times, clock.rate)?;
    let mut values = vec![0.0; times.len() * all.len()];
    for (component, (sampler, index, factor)) in all.iter().enumerate() {
        for (row, value) in sampler.column(*index, *factor).into_iter().enumerate() {
            values[row * all.len() + component] = value;
        }
    }
    Some(Controller::Samples(Samples { start: times[0], rate: step, kind, values }))
}
