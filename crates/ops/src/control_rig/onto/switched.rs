//! Limbs that go by their goals, or by their joints' own controls: the attributes that say which.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::curve::Discrete;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Setting};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::rig::AttributeKind;
use nimble_curve_scene::scene::{Scene, Take, Target, Track};

use super::options::Limbs;
use crate::control_rig::written::base_layer;

/// Sets the switches of limbs for a whole take; which ones were changed.
pub fn switched(scene: &Scene, take: &mut Take, chosen: &BTreeSet<usize>, limbs: Limbs) -> BTreeSet<Target> {
    let mut values: BTreeMap<Target, Value> = BTreeMap::new();
    if limbs == Limbs::AsIs {
        return BTreeSet::new();
    }
    for &index in chosen {
        let constraint = &scene.constraints[index];
        if matches!(constraint.kind, ConstraintKind::Limb(_))
            && let Some((target, value)) = setting_for(scene, constraint, limbs == Limbs::Ik)
        {
            values.insert(target, value);
        }
    }
    for (target, value) in &values {
        for layer in take.layers.iter_mut().filter(|layer| layer.is_active()) {
            layer.tracks.retain(|track| track.target != *target);
        }
        let controller = match value {
            Value::Discrete(value) => {
                let keys = vec![(take.range.first, value.clone())];
                // One key is in order.
                let Ok(curve) = nimble_curve_curves::curve::DiscreteCurve::new(keys) else { continue };
                Controller::Discrete(curve)
            }
            value => Controller::Constant(value.clone()),
        };
        base_layer(take).tracks.push(Track { target: target.clone(), controller });
    }
    values.into_keys().collect()
}

/// What an attribute has to be so that a constraint counts, or does not.
pub fn setting_for(scene: &Scene, constraint: &Constraint, counts: bool) -> Option<(Target, Value)> {
    let number = |target: &Target, number: f64| {
        let kind = attribute(scene, target)?;
        Some(match kind {
            AttributeKind::Switch { .. } => Value::Discrete(Discrete::Switch(number > 0.5)),
            _ => Value::Number(number),
        })
    };
    let wanted = f64::from(u8::from(counts));
    let (target, value) = match &constraint.weight {
        Setting::Constant(_) => return None,
        Setting::Attribute(target) => (target, number(target, wanted)?),
        Setting::Remaining(target) => (target, number(target, 1.0 - wanted)?),
        Setting::Is(target, option) if counts => (target, Value::Discrete(Discrete::Choice(option.clone()))),
        Setting::Is(target, option) => {
            let AttributeKind::Choice { options, .. } = attribute(scene, target)? else { return None };
            // An option that another constraint on the same joints goes by, before any other.
            let driven = constraint.driven();
            let by_others = scene.constraints.iter().find_map(|other| match &other.weight {
                Setting::Is(of, instead)
                    if of == target && instead != option && driven.iter().any(|node| other.drives(*node)) =>
                {
                    Some(instead)
                }
                _ => None,
            });
            let instead = by_others.or_else(|| options.iter().find(|other| *other != option))?;
            (target, Value::Discrete(Discrete::Choice(instead.clone())))
        }
    };
    Some((target.clone(), value))
}

fn attribute<'s>(scene: &'s Scene, target: &Target) -> Option<&'s AttributeKind> {
    let node = scene.rigs.get(target.rig)?.node(target.node)?;
    node.attribute(&target.property).map(|attribute| &attribute.kind)
}
