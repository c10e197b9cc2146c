//! The samples of one track as points: places, numbers and turns alike.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{from_vector, nearest_euler, quat_from_euler, to_vector};
use nimble_curve_scene::controller::{SampleKind, Samples};

/// What samples are, sample by sample.
pub(super) enum Points {
    Turns(Vec<DQuat>),
    /// Vectors; numbers count as their first component.
    Places(Vec<DVec3>),
}

impl Points {
    /// Those of some samples; `None` for matrices.
    pub fn of(samples: &Samples) -> Option<Points> {
        let rows = (0..samples.len()).map(|index| samples.row(index));
        Some(match samples.kind {
            SampleKind::Euler(order) => {
                Points::Turns(rows.map(|row| quat_from_euler(order, DVec3::from_slice(row))).collect())
            }
            SampleKind::Quaternion => {
                Points::Turns(rows.map(|row| DQuat::from_slice(row).normalize()).collect())
            }
            SampleKind::Vector => Points::Places(rows.map(DVec3::from_slice).collect()),
            SampleKind::Number => Points::Places(rows.map(|row| DVec3::new(row[0], 0.0, 0.0)).collect()),
            SampleKind::Matrix => return None,
        })
    }

    pub fn len(&self) -> usize {
        match self {
            Points::Turns(turns) => turns.len(),
            Points::Places(places) => places.len(),
        }
    }

    /// Whether they ever change.
    pub fn moves(&self) -> bool {
        (1..self.len()).any(|index| !self.stays(index - 1))
    }

    /// Whether the sample after one is the same.
    pub fn stays(&self, index: usize) -> bool {
        match self {
            Points::Turns(turns) => turns[index] == turns[index + 1],
            Points::Places(places) => places[index] == places[index + 1],
        }
    }

    /// From one sample to another: the way, or the turn as a vector.
    pub fn offset(&self, from: usize, to: usize) -> DVec3 {
        match self {
            Points::Turns(turns) => to_vector(turns[from].conjugate() * turns[to]),
            Points::Places(places) => places[to] - places[from],
        }
    }

    /// Puts a sample at some offset from another one.
    pub fn put(&mut self, at: usize, from: usize, offset: DVec3) {
        match self {
            Points::Turns(turns) => turns[at] = turns[from] * from_vector(offset),
            Points::Places(places) => places[at] = places[from] + offset,
        }
    }

    /// Writes one of them into samples, as these say it.
    pub fn write(&self, at: usize, samples: &mut Samples) {
        let width = samples.kind.width();
        let before = at.checked_sub(1).map(|before| samples.row(before).to_vec());
        let row: Vec<f64> = match (self, samples.kind) {
            (Points::Turns(turns), SampleKind::Euler(order)) => {
                let near = before.map_or(DVec3::ZERO, |row| DVec3::from_slice(&row));
                nearest_euler(order, turns[at], near).to_array().to_vec()
            }
            // Put there from the sample before, it has the sign of that.
            (Points::Turns(turns), _) => turns[at].to_array().to_vec(),
            (Points::Places(places), _) => places[at].to_array()[..width].to_vec(),
        };
        samples.values[at * width..(at + 1) * width].copy_from_slice(&row);
    }
}
