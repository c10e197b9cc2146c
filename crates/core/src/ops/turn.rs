//! Rotation controllers under another order, or between two constant rotations.

use glam::{DQuat, DVec3};

use crate::controller::{Controller, EulerCurves, SampleKind, Samples};
use crate::curve::Side;
use crate::ledger::{Fate, MeasuredError};
use crate::rotation::{
    Conversion, EulerPath, RotationOrder, convert, nearest_euler, pole_distance, quat_from_euler,
};
use crate::time::{FrameRate, TimeRange};
use crate::value::{Quantity, Value};

/// What to make of a rotation: `before · R · after`, in some order.
#[derive(Clone, Copy, Debug)]
pub(super) struct Turning {
    pub order: RotationOrder,
    pub before: DQuat,
    pub after: DQuat,
    /// In radians.
    pub tolerance: f64,
    pub rate: FrameRate,
    /// The range in which loops outside the keys are written out.
    pub range: TimeRange,
}

/// A changed controller and what became of it.
#[derive(Clone, Debug)]
pub(super) struct Turned {
    pub controller: Controller,
    pub fate: Fate,
    pub error: Option<MeasuredError>,
    pub note: String,
}

impl Turning {
    fn is_identity(&self) -> bool {
        let same = |q: DQuat| q.w.abs() >= 1.0 - 1e-15 && q.xyz().length() < 1e-12;
        same(self.before) && same(self.after)
    }

    /// The rotation that a rotation at rest becomes.
    pub fn rotation(&self, q: DQuat) -> DQuat {
        self.before * q * self.after
    }

    /// Turns a controller; `None` where its type cannot be turned.
    pub fn apply(&self, controller: &Controller, rest: &Value) -> Option<Turned> {
        let kept = |note: &str| Turned {
            controller: controller.clone(),
            fate: Fate::Kept,
            error: None,
            note: note.to_owned(),
        };
        match controller {
            Controller::Euler(euler) if euler.order == self.order && self.is_identity() => Some(kept("")),
            Controller::Euler(euler) => Some(self.euler(euler, rest)),
            Controller::Samples(samples) => match samples.kind {
                SampleKind::Euler(order) if order == self.order && self.is_identity() => Some(kept("")),
                SampleKind::Euler(order) => {
                    let rotation = |row: &[f64]| quat_from_euler(order, DVec3::from_slice(row));
                    Some(self.samples(samples, samples.row(0), rotation))
                }
                SampleKind::Quaternion if self.is_identity() => Some(kept("")),
                SampleKind::Quaternion => {
                    let rotation = |row: &[f64]| DQuat::from_slice(row).normalize();
                    Some(self.samples(samples, &[0.0; 3], rotation))
                }
                _ => None,
            },
            Controller::Constant(value) => {
                let near = match value {
                    Value::Euler { angles, .. } => *angles,
                    _ => DVec3::ZERO,
                };
                let angles = nearest_euler(self.order, self.rotation(value.rotation()?), near);
                Some(Turned {
                    controller: Controller::Constant(Value::Euler { order: self.order, angles }),
                    fate: Fate::Remapped,
                    error: None,
                    note: String::new(),
                })
            }
            Controller::Quaternion(_) | Controller::Tcb(_) if self.is_identity() => {
                Some(kept("keys that are rotations have no order"))
            }
            _ => None,
        }
    }

    fn euler(&self, euler: &EulerCurves, rest: &Value) -> Turned {
        let rest_angles = match rest {
            Value::Euler { order, angles } if *order == euler.order => *angles,
            _ => DVec3::ZERO,
        };
        let path = EulerPath::new(euler.order, &euler.curves, rest_angles);
        let start = euler.curves.iter().filter_map(|curve| curve.keys().first()).map(|key| key.time).min();
        let start = start.map_or(rest_angles, |time| path.angles(time.as_f64(), Side::Right));
        let outside = path.moves_outside();
        let knots = path.knots(outside.then_some(self.range));
        let path = path.between(self.before, self.after);
        let conversion = Conversion { order: self.order, tolerance: self.tolerance, rate: self.rate, start };
        let converted = convert(&path, &knots, &conversion);
        let mut notes = Vec::new();
        if converted.added > 0 {
            notes.push(format!("{} key times added", converted.added));
        }
        let near_pole = 10_f64.to_radians();
        let (distance, time) = converted.closest_to_pole;
        if distance < near_pole {
            let frame = time / self.rate.ticks_per_frame();
            notes.push(format!("{:.1}° from the pole at frame {frame:.1}", distance.to_degrees()));
        }
        for time in &converted.split_at_pole {
            notes.push(format!("two values for one rotation at frame {}", self.rate.frame(*time)));
        }
        if outside {
            notes.push("moves outside its keys: written out over the take's range".into());
        }
        let mut error = converted.error;
        error.frame /= self.rate.ticks_per_frame();
        Turned {
            controller: Controller::Euler(EulerCurves { order: self.order, curves: converted.curves }),
            fate: Fate::Refitted,
            error: Some(error),
            note: notes.join("; "),
        }
    }

    /// Samples turn one by one, each to the candidate nearest to the one before; nothing is lost.
    fn samples(&self, samples: &Samples, start: &[f64], rotation: impl Fn(&[f64]) -> DQuat) -> Turned {
        let mut near = DVec3::from_slice(&start[..3]);
        let mut values = Vec::with_capacity(samples.len() * 3);
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut closest = f64::INFINITY;
        for index in 0..samples.len() {
            let q = self.rotation(rotation(samples.row(index)));
            near = nearest_euler(self.order, q, near);
            values.extend(near.to_array());
            closest = closest.min(pole_distance(self.order, q));
            let frame = samples.time(index).as_f64() / self.rate.ticks_per_frame();
            error.take(crate::rotation::angle_between(q, quat_from_euler(self.order, near)), frame);
        }
        let note = if closest < 10_f64.to_radians() {
            format!("comes within {:.1}° of the pole", closest.to_degrees())
        } else {
            String::new()
        };
        let kind = SampleKind::Euler(self.order);
        Turned {
            controller: Controller::Samples(Samples {
                start: samples.start,
                rate: samples.rate,
                kind,
                values,
            }),
            fate: Fate::Remapped,
            error: Some(error),
            note,
        }
    }
}
