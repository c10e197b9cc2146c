//! Controllers whose numbers are sums of curves: what can be added up exactly, and is.

use nimble_curve_curves::curve::{Curve, combine};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, StackEntry};
use nimble_curve_scene::scene::{LayerMode, PropertyKind, RotationMixing, Scene, Take, Target};

/// The numbers of a property as sums: `offset + Σ factor·curve` for each.
#[derive(Clone, Debug)]
pub(super) struct Sums {
    /// The rotation order whose angles the numbers are, for rotations.
    pub order: Option<RotationOrder>,
    pub numbers: Vec<Sum>,
}

/// One number as a sum.
#[derive(Clone, Debug, Default)]
pub(super) struct Sum {
    pub offset: f64,
    pub parts: Vec<(f64, Curve)>,
}

impl Sum {
    /// The sum as one curve, exactly; an empty one where it is a constant. `None` where no curve of ours is the sum.
    pub fn curve(&self) -> Option<Curve> {
        let parts: Vec<(f64, &Curve)> = self.parts.iter().map(|(factor, curve)| (*factor, curve)).collect();
        if parts.is_empty() { Some(Curve::default()) } else { combine(&parts, self.offset) }
    }

    fn scale(&mut self, factor: f64) {
        self.offset *= factor;
        if factor == 0.0 {
            self.parts.clear();
        }
        for (part, _) in &mut self.parts {
            *part *= factor;
        }
    }

    /// The curve `v` that a layer of this weight needs on top of this sum for the whole to be `whole`, exactly: with
    /// `under + w·v`, or with `under + w·(v − under)` where it replaces. `None` where no curve of ours is that.
    pub fn lacking_to(&self, whole: &Curve, weight: f64, replaces: bool) -> Option<Curve> {
        let mut sum = Sum { offset: 0.0, parts: vec![(1.0, whole.clone())] };
        sum.add(self, -1.0);
        sum.scale(1.0 / weight);
        if replaces {
            sum.add(self, 1.0);
        }
        let curve = sum.curve()?;
        Some(if curve.is_empty() { Curve::constant(whole.range()?.first, sum.offset) } else { curve })
    }

    /// This less another sum.
    pub fn less(mut self, other: &Sum) -> Sum {
        self.add(other, -1.0);
        self
    }

    pub fn add(&mut self, other: &Sum, factor: f64) {
        self.offset += factor * other.offset;
        self.parts.extend(other.parts.iter().map(|(part, curve)| (part * factor, curve.clone())));
    }
}

impl Sums {
    /// A value that does not change; `None` for values that are no numbers to add up.
    pub fn of_value(value: &Value) -> Option<Sums> {
        let (order, numbers) = match value {
            Value::Number(v) => (None, vec![*v]),
            Value::Vector(v) => (None, v.to_array().to_vec()),
            Value::Euler { order, angles } => (Some(*order), angles.to_array().to_vec()),
            Value::Quaternion(_) | Value::Matrix(_) | Value::Discrete(_) => return None,
        };
        let numbers = numbers.into_iter().map(|offset| Sum { offset, parts: Vec::new() }).collect();
        Some(Sums { order, numbers })
    }

    /// A controller's numbers; `rest` fills in for components without keys. `None` where they are no sums of curves:
    /// rotations keyed as such, eased keys, samples, animated weights in a stack.
    pub fn of_controller(controller: &Controller, kind: PropertyKind, rest: &Value) -> Option<Sums> {
        let resting = Sums::of_value(rest)?;
        let filled = |order: Option<RotationOrder>, curves: &[Curve]| {
            let number = |(curve, rest): (&Curve, &Sum)| {
                Some(match curve.keys().first() {
                    None => rest.clone(),
                    // What never moves adds no key times to a sum.
                    Some(key) if curve.is_constant() => Sum { offset: key.value, parts: Vec::new() },
                    // In a gap what is at rest shows, or nothing is added.
                    Some(_) => Sum { offset: 0.0, parts: vec![(1.0, curve.filled(rest.offset)?)] },
                })
            };
            let numbers = curves.iter().zip(&resting.numbers).map(number).collect::<Option<Vec<Sum>>>()?;
            Some(Sums { order, numbers })
        };
        match controller {
            Controller::Constant(value) => Sums::of_value(value),
            Controller::Components(curves) => filled(resting.order, curves),
            Controller::Euler(euler) => {
                let same = resting.order == Some(euler.order);
                if !same
                    && euler.curves.iter().any(|curve| curve.is_empty() || curve.has_gaps())
                    && resting.numbers.iter().any(|n| n.offset != 0.0)
                {
                    return None;
                }
                filled(Some(euler.order), &euler.curves)
            }
            Controller::Tcb(curve) if curve.is_without_ease() => filled(None, &curve.numbers()?.curves),
            Controller::Stack(entries) => Sums::of_stack(entries, kind, rest),
            Controller::Procedural(procedural) => {
                Sums::of_controller(procedural.sampled.as_ref()?, kind, rest)
            }
            _ => None,
        }
    }

    fn of_stack(entries: &[StackEntry], kind: PropertyKind, rest: &Value) -> Option<Sums> {
        if kind == PropertyKind::Scale {
            return None;
        }
        let nothing = nimble_curve_scene::evaluate::neutral(kind, rest);
        let mut total = Sums::of_value(rest)?;
        for (component, number) in total.numbers.iter_mut().enumerate() {
            if entries.iter().any(|entry| entry.controller.drives(component)) {
                number.offset = 0.0;
            }
        }
        let mut order = None;
        for entry in entries {
            let weight = entry.weight.constant()?;
            if weight == 0.0 {
                continue;
            }
            let part = Sums::of_controller(&entry.controller, kind, &nothing)?;
            if order.is_some_and(|order| order != part.order) {
                return None;
            }
            order = Some(part.order);
            total.join(LayerMode::Additive, weight, &part)?;
            total.order = part.order;
        }
        Some(total)
    }

    /// A property of a take under all its layers; `None` where it is no sum of curves.
    pub fn of_layers(scene: &Scene, take: &Take, target: &Target) -> Option<Sums> {
        let rig = scene.rigs.get(target.rig)?;
        let kind = rig.property_kind(target.node, &target.property)?;
        let rest = rig.rest_value(target.node, &target.property)?;
        let mut sums = Sums::of_value(&rest)?;
        for layer in take.layers.iter().filter(|layer| layer.is_active()) {
            for track in layer.tracks.iter().filter(|track| track.target == *target) {
                let weight = layer.weight.constant()?;
                let is_full = layer.mode == LayerMode::Override && weight == 1.0;
                let adds_up = match (kind, layer.mode) {
                    (PropertyKind::Discrete | PropertyKind::Matrix, _) => false,
                    (PropertyKind::Scale, LayerMode::Additive) => false,
                    (PropertyKind::Rotation, _) => is_full || layer.rotations == RotationMixing::Angles,
                    _ => true,
                };
                if !adds_up {
                    return None;
                }
                let rest = match layer.mode {
                    LayerMode::Override => rest.clone(),
                    LayerMode::Additive => nimble_curve_scene::evaluate::neutral(kind, &rest),
                };
                sums.join(layer.mode, weight, &Sums::of_controller(&track.controller, kind, &rest)?)?;
            }
        }
        Some(sums)
    }

    /// Puts a layer of constant weight on top; `None` where angles of unlike orders would meet.
    pub fn join(&mut self, mode: LayerMode, weight: f64, over: &Sums) -> Option<()> {
        let replaces = mode == LayerMode::Override && weight == 1.0;
        if self.order != over.order && !replaces && !self.is_nothing() {
            return None;
        }
        self.order = over.order;
        for (under, over) in self.numbers.iter_mut().zip(&over.numbers) {
            if mode == LayerMode::Override {
                under.scale(1.0 - weight);
            }
            under.add(over, weight);
        }
        Some(())
    }

    /// Whether the numbers are zero throughout.
    fn is_nothing(&self) -> bool {
        self.numbers.iter().all(|number| number.parts.is_empty() && number.offset == 0.0)
    }

    /// Whether nothing moves.
    pub fn is_constant(&self) -> bool {
        self.numbers.iter().all(|number| number.parts.iter().all(|(_, curve)| curve.is_constant()))
    }
}

/// A constant component among others that move: one key, at the same time as the first of theirs.
pub(super) fn with_constants(curves: &mut [Curve], offsets: &[f64], rest: Option<&[f64]>, start: Ticks) {
    let first = curves.iter().filter_map(Curve::range).map(|range| range.first).min().unwrap_or(start);
    for (index, curve) in curves.iter_mut().enumerate() {
        let offset = offsets[index];
        if curve.is_empty() && rest.is_none_or(|rest| rest[index] != offset) {
            *curve = Curve::constant(first, offset);
        }
    }
}
