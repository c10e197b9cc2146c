//! Constraints into a file.

use glam::{DQuat, DVec3};
use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::constraint as core;
use nimble_curve_core::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_core::scene::{PropertyKind, Scene, Target};
use nimble_curve_core::value::Quantity;

use super::{num, quaternion, unless, vector};
use crate::ncurve::model as dto;
use crate::ncurve::units::{Scale, Units};

/// A constraint as it stands in a file.
pub fn written(
    scene: &Scene,
    addresses: &Addresses,
    units: Units,
    constraint: &core::Constraint,
) -> dto::Constraint {
    Writer { scene, addresses, units }.constraint(constraint)
}

struct Writer<'a> {
    scene: &'a Scene,
    addresses: &'a Addresses,
    units: Units,
}

impl Writer<'_> {
    fn node(&self, node: NodeRef) -> String {
        self.addresses.node(node).to_owned()
    }

    fn constraint(&self, constraint: &core::Constraint) -> dto::Constraint {
        let mut file = dto::Constraint {
            name: constraint.name.clone(),
            node: self.node(constraint.node),
            weight: self.unless(&constraint.weight, 1.0),
            ..dto::Constraint::default()
        };
        match &constraint.kind {
            core::ConstraintKind::Follow(follow) => file.follow = Some(self.follow(follow)),
            core::ConstraintKind::Aim(aim) => {
                let lean = |(axis, towards): &(DVec3, core::Towards)| dto::Lean {
                    axis: vector(*axis),
                    to: self.towards(towards),
                };
                let up = aim.up.as_ref().map(lean);
                file.aim = Some(dto::Aim { axis: vector(aim.axis), at: self.node(aim.at), up });
            }
            core::ConstraintKind::Limb(limb) => file.limb = Some(Box::new(self.limb(limb))),
            core::ConstraintKind::Roll(roll) => {
                file.roll = Some(dto::Roll {
                    source: self.node(roll.source),
                    fraction: self.setting(&roll.fraction, Quantity::Number),
                    axis: roll.axes.map(|axes| vector(axes.node)),
                    source_axis: roll.axes.and_then(|axes| unless(axes.source, axes.node)).map(vector),
                });
            }
            core::ConstraintKind::Couple(couple) => file.couple = Some(self.couple(couple)),
            core::ConstraintKind::Other { kind, text } => {
                file.other = Some(dto::Other { kind: kind.clone(), text: text.clone() });
            }
        }
        file
    }

    fn unless(&self, setting: &core::Setting, default: f64) -> Option<dto::Setting> {
        (setting.constant() != Some(default)).then(|| self.setting(setting, Quantity::Number))
    }

    fn setting(&self, setting: &core::Setting, quantity: Quantity) -> dto::Setting {
        let property = |target: &Target| self.addresses.property(target);
        match setting {
            core::Setting::Constant(number) => dto::Setting::Number(self.units.scale(quantity).num(*number)),
            core::Setting::Attribute(target) => dto::Setting::Attribute(property(target)),
            core::Setting::Remaining(target) => dto::Setting::Remaining { remaining: property(target) },
            core::Setting::Is(target, option) => {
                dto::Setting::Is { attribute: property(target), is: option.clone() }
            }
        }
    }

    fn source(&self, source: &core::Source) -> dto::Source {
        let offset = source.offset.map(|offset| dto::Offset {
            position: unless(offset.position, DVec3::ZERO).map(vector),
            turn: unless(offset.turn, DQuat::IDENTITY).map(quaternion),
            scale: unless(offset.scale, DVec3::ONE).map(vector),
        });
        dto::Source { node: self.node(source.node), weight: self.unless(&source.weight, 1.0), offset }
    }

    fn follow(&self, follow: &core::Follow) -> dto::Follow {
        let all = [true; 3];
        let is_usual = (follow.translation, follow.rotation, follow.scale) == (all, all, [false; 3]);
        let of = |(name, axes): (&str, [bool; 3])| -> Vec<String> {
            let one = |(axis, is): (&str, bool)| is.then(|| format!("{name}.{axis}"));
            match axes == all {
                true => vec![name.to_owned()],
                false => ["x", "y", "z"].into_iter().zip(axes).filter_map(one).collect(),
            }
        };
        let parts = [(TRANSLATION, follow.translation), (ROTATION, follow.rotation), (SCALE, follow.scale)];
        dto::Follow {
            sources: follow.sources.iter().map(|source| self.source(source)).collect(),
            parts: (!is_usual).then(|| parts.into_iter().flat_map(of).collect()),
        }
    }

    fn towards(&self, towards: &core::Towards) -> dto::Towards {
        match towards {
            core::Towards::Node(node) => dto::Towards { node: Some(self.node(*node)), direction: None },
            core::Towards::Direction(direction, node) => {
                dto::Towards { node: node.map(|node| self.node(node)), direction: Some(vector(*direction)) }
            }
        }
    }

    fn limb(&self, limb: &core::Limb) -> dto::Limb {
        let is_plain = limb.lengths.iter().all(|length| length.constant() == Some(1.0));
        let lengths = limb.lengths.each_ref().map(|length| self.setting(length, Quantity::Number));
        dto::Limb {
            lower: self.node(limb.lower),
            end: self.node(limb.end),
            goal: self.source(&limb.goal),
            pole: limb.pole.as_ref().map(|pole| self.towards(pole)),
            bend: if limb.bends_other { dto::Bend::Other } else { dto::Bend::Towards },
            hinge: limb.hinge.map(vector),
            stretch: self.unless(&limb.stretch, 0.0),
            stretch_by: match limb.stretch_by {
                core::StretchBy::Translation => dto::StretchBy::Translation,
                core::StretchBy::Scale => dto::StretchBy::Scale,
            },
            slack: unless(limb.slack, 0.0).map(num),
            end_turn: match limb.end_turn {
                core::EndTurn::Goal => dto::EndTurn::Goal,
                core::EndTurn::Parent => dto::EndTurn::Parent,
                core::EndTurn::Own => dto::EndTurn::Own,
            },
            twist: (limb.twist.constant() != Some(0.0)).then(|| self.setting(&limb.twist, Quantity::Angle)),
            lengths: (!is_plain).then_some(lengths),
        }
    }

    fn couple(&self, couple: &core::Couple) -> dto::Couple {
        let (there, here) = (self.scale(&couple.from), self.scale(&couple.channel));
        let whole = self.address(&couple.channel);
        // The node is said in the constraint.
        let own = whole[self.node((couple.channel.target.rig, couple.channel.target.node)).len()..]
            .trim_start_matches(':');
        dto::Couple {
            channel: own.to_owned(),
            from: self.address(&couple.from),
            points: couple.points.iter().map(|(from, to)| [there.num(*from), here.num(*to)]).collect(),
        }
    }

    fn kind(&self, target: &Target) -> Option<PropertyKind> {
        self.scene.rigs.get(target.rig)?.property_kind(target.node, &target.property)
    }

    fn scale(&self, channel: &core::Channel) -> Scale {
        self.units.scale(self.kind(&channel.target).map_or(Quantity::Number, PropertyKind::quantity))
    }

    fn address(&self, channel: &core::Channel) -> String {
        let property = self.addresses.property(&channel.target);
        match self.kind(&channel.target) {
            Some(PropertyKind::Number(_) | PropertyKind::Discrete) | None => property,
            _ => format!("{property}.{}", ["x", "y", "z"][channel.component.min(2)]),
        }
    }
}
