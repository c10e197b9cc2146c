//! Vectors under a constant turn, factor and offset: exact on keys and tangents wherever the sum of curves is a curve.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, combine};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, SampleKind, Samples, StackEntry, TcbCurve, TcbKey, TcbKeys,
};

/// `turn · (v − from) · factor + to`.
#[derive(Clone, Copy, Debug)]
pub(super) struct Linear {
    matrix: DMat3,
    /// Where each new component is one old one: which, and with which sign.
    axes: Option<([usize; 3], [f64; 3])>,
    factor: f64,
    offset: DVec3,
    /// What fills in for components without keys, in the source.
    rest: DVec3,
    /// Whether such components may stay without keys: they rest where the target does.
    may_stay_empty: bool,
}

impl Linear {
    /// Takes `from` to `to`; a component without keys is at `rest` in the source, and at `target_rest` in the target.
    pub fn new(turn: DQuat, factor: f64, from: DVec3, to: DVec3, rest: DVec3, target_rest: DVec3) -> Linear {
        let matrix = DMat3::from_quat(turn);
        let axes = signed_axes(&matrix);
        let turned = |v: DVec3| axes.map_or_else(|| matrix * v, |axes| permuted(axes, v));
        let offset = snapped(to - turned(from) * factor, to.length().max(from.length() * factor));
        let resting = turned(rest) * factor + offset;
        let size = target_rest.length().max(1e-6);
        let may_stay_empty = (resting - target_rest).length() <= 1e-9 * size;
        Linear { matrix, axes, factor, offset, rest, may_stay_empty }
    }

    /// The same by any matrix: a turn where it is one, up to its size.
    pub fn through(
        matrix: DMat3,
        factor: f64,
        (from, to): (DVec3, DVec3),
        (rest, target_rest): (DVec3, DVec3),
    ) -> Linear {
        let size = matrix.determinant().abs().cbrt();
        let turn = matrix * (1.0 / size.max(1e-300));
        let is_turn =
            (turn * turn.transpose()).abs_diff_eq(DMat3::IDENTITY, 1e-9) && turn.determinant() > 0.0;
        if is_turn {
            let factor = if (size - 1.0).abs() < 1e-12 { factor } else { factor * size };
            let turn = snapped_turn(DQuat::from_mat3(&turn).normalize());
            return Linear::new(turn, factor, from, to, rest, target_rest);
        }
        let offset = to - matrix * from * factor;
        let resting = matrix * rest * factor + offset;
        let may_stay_empty = (resting - target_rest).length() <= 1e-9 * target_rest.length().max(1e-6);
        Linear { matrix, axes: None, factor, offset, rest, may_stay_empty }
    }

    /// The same for values that are added to others.
    pub fn of_differences(self) -> Linear {
        Linear { offset: DVec3::ZERO, rest: DVec3::ZERO, may_stay_empty: true, ..self }
    }

    pub fn is_identity(&self) -> bool {
        self.axes == Some(([0, 1, 2], [1.0; 3])) && self.factor == 1.0 && self.offset == DVec3::ZERO
    }

    /// Whether everything stays as it is, what has no keys included.
    pub fn keeps(&self) -> bool {
        self.is_identity() && self.may_stay_empty
    }

    /// Where a vector goes.
    pub fn vector(&self, v: DVec3) -> DVec3 {
        self.direction(v) + self.offset
    }

    fn direction(&self, v: DVec3) -> DVec3 {
        self.axes.map_or_else(|| self.matrix * v, |axes| permuted(axes, v)) * self.factor
    }

    /// What is said of it in the ledger.
    pub fn note(&self) -> String {
        let mut parts = Vec::new();
        if self.factor != 1.0 {
            parts.push(format!("times {:.4}", self.factor));
        }
        match self.axes {
            Some(([0, 1, 2], [x, y, z])) if x > 0.0 && y > 0.0 && z > 0.0 => {}
            Some(_) => parts.push("axes renamed".into()),
            None => parts.push("turned into the axes of another parent".into()),
        }
        parts.join(", ")
    }

    /// A controller of vectors, changed exactly; `None` where it has to be refitted.
    pub fn controller(&self, controller: &Controller) -> Option<Controller> {
        Some(match controller {
            Controller::Constant(Value::Vector(v)) => Controller::Constant(Value::Vector(self.vector(*v))),
            Controller::Components(curves) => Controller::Components(self.curves(curves)?),
            Controller::Samples(samples) if samples.kind == SampleKind::Vector => {
                let rows = samples.values.chunks_exact(3);
                let values = rows.flat_map(|row| self.vector(DVec3::from_slice(row)).to_array()).collect();
                Controller::Samples(Samples { values, ..samples.clone() })
            }
            Controller::Tcb(TcbCurve { keys: TcbKeys::Vector(keys), before, after }) => {
                let key = |key: &TcbKey<DVec3>| TcbKey { value: self.vector(key.value), ..*key };
                let keys = TcbKeys::Vector(keys.iter().map(key).collect());
                Controller::Tcb(TcbCurve { keys, before: *before, after: *after })
            }
            Controller::Stack(entries) => self.stack(entries)?,
            Controller::Procedural(procedural) if self.is_identity() => {
                Controller::Procedural(procedural.clone())
            }
            Controller::Procedural(Procedural { sampled: Some(sampled), .. }) => self.controller(sampled)?,
            _ => return None,
        })
    }

    /// Entries add up, so that one of them takes the offset, and where the components rest that none of them drives.
    fn stack(&self, entries: &[StackEntry]) -> Option<Controller> {
        let plain = self.of_differences();
        let is_driven = |axis: usize| entries.iter().any(|entry| entry.controller.drives(axis));
        let undriven =
            DVec3::from_array([0, 1, 2].map(|axis| if is_driven(axis) { 0.0 } else { self.rest[axis] }));
        let rests_alike = self.axes.is_some() && self.offset == DVec3::ZERO && self.may_stay_empty;
        let can_take = |entry: &StackEntry| {
            let drives_any = (0..3).any(|axis| entry.controller.drives(axis));
            drives_any && entry.weight.constant().is_some_and(|weight| weight != 0.0)
        };
        let taker = match rests_alike {
            true => None,
            false => Some(entries.iter().position(can_take)?),
        };
        let mut made = Vec::with_capacity(entries.len());
        for (index, entry) in entries.iter().enumerate() {
            let weight = entry.weight.constant().unwrap_or(1.0);
            let linear = if taker == Some(index) {
                let offset = (self.direction(undriven) + self.offset) / weight;
                Linear { offset, may_stay_empty: false, ..plain }
            } else {
                plain
            };
            made.push(StackEntry { controller: linear.controller(&entry.controller)?, ..entry.clone() });
        }
        Some(Controller::Stack(made))
    }

    fn curves(&self, curves: &[Curve]) -> Option<Vec<Curve>> {
        let first = curves.iter().filter_map(Curve::range).map(|range| range.first).min();
        let made = (0..3).map(|component| {
            if let Some((source, sign)) = self.axes {
                let old = &curves[source[component]];
                if !old.is_empty() {
                    let factor = sign[component] * self.factor;
                    return Some(match factor == 1.0 && self.offset[component] == 0.0 {
                        true => old.clone(),
                        false => old.affine(factor, self.offset[component]),
                    });
                }
                let value = self.vector(self.rest)[component];
                return Some(match first {
                    Some(first) if !self.may_stay_empty => Curve::constant(first, value),
                    _ => Curve::default(),
                });
            }
            // A sum of all three; what never moves adds no key times.
            let mut offset = self.offset[component];
            let mut parts = Vec::with_capacity(3);
            for (axis, curve) in curves.iter().enumerate() {
                let factor = self.matrix.col(axis)[component] * self.factor;
                match curve.keys().first() {
                    None => offset += factor * self.rest[axis],
                    Some(key) if curve.is_constant() => offset += factor * key.value,
                    Some(_) if factor.abs() < 1e-12 * self.factor.abs() => {}
                    Some(_) => parts.push((factor, curve)),
                }
            }
            match first {
                Some(first) if parts.is_empty() => Some(Curve::constant(first, offset)),
                _ => combine(&parts, offset),
            }
        });
        made.collect()
    }
}

/// Zero where a vector is nothing but rounding beside a size.
fn snapped(v: DVec3, size: f64) -> DVec3 {
    let tiny = 1e-12 * size;
    DVec3::from_array(v.to_array().map(|c| if c.abs() <= tiny { 0.0 } else { c }))
}

fn permuted((source, sign): ([usize; 3], [f64; 3]), v: DVec3) -> DVec3 {
    DVec3::from_array(std::array::from_fn(|component| sign[component] * v[source[component]]))
}

/// The identity where a rotation differs from it by rounding alone.
pub(super) fn snapped_turn(q: DQuat) -> DQuat {
    if angle_between(q, DQuat::IDENTITY) < 1e-9 { DQuat::IDENTITY } else { q }
}

/// The signed permutation that a rotation is but for rounding, if it is one.
pub(crate) fn signed_axes(matrix: &DMat3) -> Option<([usize; 3], [f64; 3])> {
    let (mut source, mut sign) = ([0; 3], [0.0; 3]);
    for component in 0..3 {
        let row = matrix.row(component);
        let axis = (0..3).max_by(|a, b| row[*a].abs().total_cmp(&row[*b].abs()))?;
        if row[axis].abs() < 1.0 - 1e-9 || (0..3).any(|other| other != axis && row[other].abs() > 1e-7) {
            return None;
        }
        (source[component], sign[component]) = (axis, row[axis].signum());
    }
    Some((source, sign))
}

/// A controller of one number, `factor · v + offset`; `None` where its type cannot be.
pub(super) fn linear_number(controller: &Controller, factor: f64, offset: f64) -> Option<Controller> {
    let number = |v: f64| v * factor + offset;
    Some(match controller {
        _ if factor == 1.0 && offset == 0.0 => controller.clone(),
        Controller::Constant(Value::Number(v)) => Controller::Constant(Value::Number(number(*v))),
        Controller::Components(curves) => {
            Controller::Components(curves.iter().map(|curve| curve.affine(factor, offset)).collect())
        }
        Controller::Euler(EulerCurves { .. }) => return None,
        Controller::Samples(samples) if samples.kind == SampleKind::Number => {
            let values = samples.values.iter().map(|v| number(*v)).collect();
            Controller::Samples(Samples { values, ..samples.clone() })
        }
        Controller::Tcb(TcbCurve { keys: TcbKeys::Number(keys), before, after }) => {
            let key = |key: &TcbKey<f64>| TcbKey { value: number(key.value), ..*key };
            let keys = TcbKeys::Number(keys.iter().map(key).collect());
            Controller::Tcb(TcbCurve { keys, before: before.steeper(factor), after: after.steeper(factor) })
        }
        Controller::Stack(entries) if offset == 0.0 => {
            let entry = |entry: &StackEntry| {
                let controller = linear_number(&entry.controller, factor, 0.0)?;
                Some(StackEntry { controller, ..entry.clone() })
            };
            Controller::Stack(entries.iter().map(entry).collect::<Option<_>>()?)
        }
        Controller::Procedural(Procedural { sampled: Some(sampled), .. }) => {
            linear_number(sampled, factor, offset)?
        }
        _ => return None,
    })
}
