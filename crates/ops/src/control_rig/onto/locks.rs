//! Locked channels of controls: they keep what they have, whatever joints do.

use std::borrow::Cow;

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::scene::{Scene, Take, Target};

/// Which of the three numbers of a control's property are locked.
pub fn locked(scene: &Scene, target: &Target) -> [bool; 3] {
    let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
    [0, 1, 2].map(|component| node.is_some_and(|node| node.is_locked(&target.property, Some(component))))
}

/// What a control may get of some curves on a property: its locked numbers stay as they are in a take. Nothing comes where all of them are
/// locked, or where what it has is no curves that could stay beside others: samples, several layers, angles of another order. Quaternions
/// have no numbers that could be locked alone.
pub fn unlocked(scene: &Scene, take: &Take, target: &Target, controller: Controller) -> Option<Controller> {
    let locked = locked(scene, target);
    if !locked.contains(&true) {
        return Some(controller);
    }
    if locked == [true; 3] {
        return None;
    }
    let rest = scene.rigs.get(target.rig)?.rest_value(target.node, &target.property)?;
    let own = Own::of(take, target, &rest)?;
    Some(match controller {
        Controller::Euler(EulerCurves { order, mut curves }) => {
            own.keep(&mut curves, locked);
            Controller::Euler(EulerCurves { order, curves })
        }
        Controller::Components(mut curves) => {
            own.keep(&mut curves, locked);
            Controller::Components(curves)
        }
        Controller::Constant(value) => {
            let constant = |number| Curve::constant(take.range.first, number);
            let mut curves = value.numbers()?.into_iter().map(constant).collect::<Vec<_>>();
            own.keep(&mut curves, locked);
            match (value, <[Curve; 3]>::try_from(curves)) {
                (Value::Euler { order, .. }, Ok(curves)) => Controller::Euler(EulerCurves { order, curves }),
                (Value::Vector(_), Ok(curves)) => Controller::Components(curves.into()),
                (value, _) => Controller::Constant(value),
            }
        }
        Controller::Samples(mut samples) if !matches!(samples.kind, SampleKind::Quaternion) => {
            own.keep_samples(&mut samples, locked);
            Controller::Samples(samples)
        }
        other => other,
    })
}

/// What a property has already.
struct Own<'a> {
    /// None where it rests.
    curves: Cow<'a, [Curve]>,
    rest: Vec<f64>,
}

impl<'a> Own<'a> {
    fn of(take: &'a Take, target: &Target, rest: &Value) -> Option<Own<'a>> {
        let tracks: Vec<_> = take.active_tracks().filter(|(_, track)| track.target == *target).collect();
        let curves = match tracks.as_slice() {
            [] => Cow::Borrowed(&[][..]),
            [(layer, track)] if layer.is_whole() => match &track.controller {
                Controller::Components(curves) => Cow::Borrowed(curves.as_slice()),
                // Angles of another order are other numbers.
                Controller::Euler(own) if rest.order() == Some(own.order) => {
                    Cow::Borrowed(own.curves.as_slice())
                }
                Controller::Constant(value) if value.order() == rest.order() => {
                    let constant = |number| Curve::constant(take.range.first, number);
                    Cow::Owned(value.numbers()?.into_iter().map(constant).collect())
                }
                _ => return None,
            },
            _ => return None,
        };
        Some(Own { curves, rest: rest.numbers()? })
    }

    /// Puts back what is locked; without curves it rests.
    fn keep(&self, made: &mut [Curve], locked: [bool; 3]) {
        for ((component, made), _) in made.iter_mut().enumerate().zip(locked).filter(|(_, locked)| *locked) {
            *made = self.curves.get(component).cloned().unwrap_or_default();
        }
    }

    fn keep_samples(&self, samples: &mut Samples, locked: [bool; 3]) {
        let width = samples.kind.width();
        for row in 0..samples.len() {
            let time = samples.time(row).as_f64();
            for component in (0..width.min(3)).filter(|component| locked[*component]) {
                let own = self.curves.get(component).and_then(|own| own.value_at(time));
                let rest = self.rest.get(component).copied();
                if let Some(number) = own.or(rest) {
                    samples.values[row * width + component] = number;
                }
            }
        }
    }
}
