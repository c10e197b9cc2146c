//! Rotations as paths.

use glam::DVec3;
use nimble_curve_curves::curve::Side;
use nimble_curve_curves::rotation::{EulerPath, KeyedRotation, Knot, RotationPath};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::Controller;

use super::{ConversionContext, NotConvertible};
use crate::sampled_function::SampledFunction;

/// The rotation of a controller as a path, from whichever source knows it best.
pub(crate) enum Path<'a> {
    Euler(Box<EulerPath>),
    Keyed(KeyedRotation),
    Traced(Box<SampledFunction<'a>>),
}

impl Path<'_> {
    fn inner(&self) -> &dyn RotationPath {
        match self {
            Path::Euler(path) => path.as_ref(),
            Path::Keyed(path) => path,
            Path::Traced(path) => path.as_ref(),
        }
    }
}

impl RotationPath for Path<'_> {
    fn rotation(&self, time: f64, side: Side) -> glam::DQuat {
        self.inner().rotation(time, side)
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        self.inner().velocity(time, side)
    }

    fn bridge(&self, time: f64, part: f64) -> glam::DQuat {
        self.inner().bridge(time, part)
    }

    fn speed_bound(&self, from: f64, to: f64) -> f64 {
        self.inner().speed_bound(from, to)
    }

    fn jumps(&self, time: f64) -> bool {
        self.inner().jumps(time)
    }
}

pub(crate) fn with_path<R>(
    controller: &Controller,
    setting: &ConversionContext,
    then: impl FnOnce(Path<'_>, &[Knot]) -> Result<R, NotConvertible>,
) -> Result<R, NotConvertible> {
    let (path, mut knots) = match controller {
        Controller::Euler(curves) => {
            let rest = match &setting.rest {
                Value::Euler { order, angles } if *order == curves.order => *angles,
                _ => DVec3::ZERO,
            };
            let path = EulerPath::new(curves.order, &curves.curves, rest);
            let knots = path.knots(path.moves_outside().then_some(setting.range));
            (Path::Euler(Box::new(path)), knots)
        }
        Controller::Quaternion(curve) => keyed(KeyedRotation::new(curve), setting),
        Controller::Tcb(curve) => match &curve.keys {
            nimble_curve_scene::controller::TcbKeys::Rotation(keys) => {
                keyed(KeyedRotation::of_tcb(keys, curve.before, curve.after), setting)
            }
            _ => return Err(NotConvertible::NoValue),
        },
        other => {
            let trace = setting.trace(other)?;
            let knots = trace.knots(&setting.times(other));
            (Path::Traced(Box::new(trace)), knots)
        }
    };
    if knots.is_empty() {
        knots.push(Knot {
            time: setting.range.first,
            leaving: nimble_curve_curves::rotation::SegmentKind::Holding,
        });
    }
    then(path, &knots)
}

fn keyed<'a>(path: KeyedRotation, setting: &ConversionContext) -> (Path<'a>, Vec<Knot>) {
    let knots = path.knots(Some(setting.range));
    (Path::Keyed(path), knots)
}
