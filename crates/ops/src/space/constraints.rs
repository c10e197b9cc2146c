//! Constraints said in another space.

use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::constraint::{
    Channel, Constraint, ConstraintKind, Couple, Follow, Limb, Setting, Source, Towards,
};
use nimble_curve_scene::scene::{PropertyKind, Scene};
use nimble_curve_scene::space::AxisMap;

/// A constraint of a scene in the space that a map leads to.
pub fn respaced(map: &AxisMap, scene: &Scene, constraint: &Constraint) -> Constraint {
    let mut made = constraint.clone();
    match &mut made.kind {
        ConstraintKind::Follow(Follow { sources, translation, rotation, scale }) => {
            sources.iter_mut().for_each(|own| source(map, own));
            for axes in [translation, rotation, scale] {
                *axes = map.source.map(|old| axes[old]);
            }
        }
        ConstraintKind::Aim(aim) => {
            aim.axis = map.direction(aim.axis);
            if let Some((axis, to)) = &mut aim.up {
                *axis = map.direction(*axis);
                towards(map, to);
            }
        }
        ConstraintKind::Limb(limb) => {
            source(map, &mut limb.goal);
            limb.pole.iter_mut().for_each(|pole| towards(map, pole));
            // An axis that something turns about.
            limb.hinge = limb.hinge.map(|hinge| map.angles(hinge));
        }
        ConstraintKind::Roll(roll) => {
            if let Some(axes) = &mut roll.axes {
                (axes.node, axes.source) = (map.direction(axes.node), map.direction(axes.source));
            }
        }
        ConstraintKind::Couple(of) => couple(map, scene, of),
        ConstraintKind::Other { .. } => {}
    }
    made
}

/// Turns the twist of a limb the other way: in a mirror that keeps the space's hand.
pub fn twisted_back(constraint: &mut Constraint) {
    if let ConstraintKind::Limb(limb) = &mut constraint.kind {
        let Limb { twist, .. } = &mut **limb;
        if let Setting::Constant(angle) = twist {
            *angle = -*angle;
        }
    }
}

fn source(map: &AxisMap, source: &mut Source) {
    if let Some(offset) = &mut source.offset {
        offset.position = map.length(offset.position);
        offset.turn = map.rotation(offset.turn);
        offset.scale = map.unsigned(offset.scale);
    }
}

fn towards(map: &AxisMap, towards: &mut Towards) {
    if let Towards::Direction(direction, _) = towards {
        *direction = map.direction(*direction);
    }
}

/// The numbers of a couple go by other names, and by other signs and units.
fn couple(map: &AxisMap, scene: &Scene, couple: &mut Couple) {
    let change = |channel: &mut Channel| -> f64 {
        let target = &channel.target;
        let kind =
            scene.rigs.get(target.rig).and_then(|rig| rig.property_kind(target.node, &target.property));
        let new = map.target(channel.component);
        match kind {
            Some(PropertyKind::Number(Quantity::Length)) => map.scale,
            Some(PropertyKind::Vector(Quantity::Length)) => {
                channel.component = new;
                map.sign[new] * map.scale
            }
            Some(PropertyKind::Rotation) => {
                channel.component = new;
                map.angle_sign(new)
            }
            Some(PropertyKind::Scale) => {
                channel.component = new;
                1.0
            }
            _ => 1.0,
        }
    };
    let (from, to) = (change(&mut couple.from), change(&mut couple.channel));
    for point in &mut couple.points {
        *point = (point.0 * from, point.1 * to);
    }
    // A sign turns the order round.
    couple.points.sort_by(|a, b| a.0.total_cmp(&b.0));
}
