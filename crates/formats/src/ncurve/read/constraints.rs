//! Constraints out of a file.

use glam::{DQuat, DVec3};
use nimble_curve_core::address::{Addresses, NodeRef, parts};
use nimble_curve_core::constraint as core;
use nimble_curve_core::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_core::scene::{PropertyKind, Scene, Target};
use nimble_curve_core::value::Quantity;

use super::{Read, plain, quaternion, vector};
use crate::error::Fault;
use crate::ncurve::model as dto;
use crate::ncurve::units::Units;

/// All constraints of a file on the rigs of a scene.
pub fn read_all(
    scene: &Scene,
    addresses: &Addresses,
    units: Units,
    file: &[dto::Constraint],
) -> Result<Vec<core::Constraint>, Fault> {
    let reader = Reader { scene, addresses, units };
    let mut read = Vec::with_capacity(file.len());
    for (index, constraint) in file.iter().enumerate() {
        let part = || match constraint.name.as_str() {
            "" => format!("constraint {} (on '{}')", index + 1, constraint.node),
            name => format!("constraint '{name}'"),
        };
        read.push(reader.constraint(constraint).map_err(|message| Fault::in_part(part(), message))?);
    }
    Ok(read)
}

struct Reader<'a> {
    scene: &'a Scene,
    addresses: &'a Addresses,
    units: Units,
}

impl Reader<'_> {
    fn node(&self, text: &str) -> Read<NodeRef> {
        self.addresses.find_in_any_namespace(text).map_err(|error| error.to_string())
    }

    fn constraint(&self, file: &dto::Constraint) -> Read<core::Constraint> {
        let node = self.node(&file.node)?;
        let weight = self.setting(file.weight.as_ref(), 1.0, Quantity::Number)?;
        let kinds = (&file.follow, &file.aim, &file.limb, &file.roll, &file.couple, &file.other);
        let kind = match kinds {
            (Some(follow), None, None, None, None, None) => {
                core::ConstraintKind::Follow(self.follow(follow)?)
            }
            (None, Some(aim), None, None, None, None) => core::ConstraintKind::Aim(self.aim(aim)?),
            (None, None, Some(limb), None, None, None) => {
                core::ConstraintKind::Limb(Box::new(self.limb(limb)?))
            }
            (None, None, None, Some(roll), None, None) => core::ConstraintKind::Roll(self.roll(roll)?),
            (None, None, None, None, Some(couple), None) => {
                core::ConstraintKind::Couple(self.couple(node, couple)?)
            }
            (None, None, None, None, None, Some(other)) => {
                core::ConstraintKind::Other { kind: other.kind.clone(), text: other.text.clone() }
            }
            _ => {
                return Err(
                    "give exactly one of 'follow', 'aim', 'limb', 'roll', 'couple' and 'other'".into()
                );
            }
        };
        Ok(core::Constraint { name: file.name.clone(), node, weight, kind })
    }

    fn setting(&self, file: Option<&dto::Setting>, default: f64, quantity: Quantity) -> Read<core::Setting> {
        let property = |text: &str| self.property(text);
        Ok(match file {
            None => core::Setting::Constant(default),
            Some(dto::Setting::Number(number)) => {
                core::Setting::Constant(self.units.scale(quantity).value(number))
            }
            Some(dto::Setting::Attribute(text)) => core::Setting::Attribute(property(text)?),
            Some(dto::Setting::Remaining { remaining }) => core::Setting::Remaining(property(remaining)?),
            Some(dto::Setting::Is { attribute, is }) => core::Setting::Is(property(attribute)?, is.clone()),
        })
    }

    fn property(&self, text: &str) -> Read<Target> {
        let (node, property, component) =
            parts(text).ok_or_else(|| format!("'{text}' is not an attribute: write NODE:ATTRIBUTE"))?;
        match component {
            None => self.target(self.node(node)?, property),
            Some(_) => {
                Err(format!("'{text}' is a part of an attribute: name one that is a number or a switch"))
            }
        }
    }

    fn target(&self, (rig, node): NodeRef, property: String) -> Read<Target> {
        match self.scene.rigs[rig].property_kind(node, &property) {
            Some(_) => Ok(Target { rig, node, property }),
            None => Err(format!("'{}' has no '{property}'", self.addresses.node((rig, node)))),
        }
    }

    fn source(&self, file: &dto::Source) -> Read<core::Source> {
        let offset = match &file.offset {
            None => None,
            Some(offset) => Some(core::Offset {
                position: offset.position.as_ref().map_or(DVec3::ZERO, vector),
                turn: offset.turn.as_ref().map_or(Ok(DQuat::IDENTITY), quaternion)?,
                scale: offset.scale.as_ref().map_or(DVec3::ONE, vector),
            }),
        };
        let weight = self.setting(file.weight.as_ref(), 1.0, Quantity::Number)?;
        Ok(core::Source { node: self.node(&file.node)?, weight, offset })
    }

    fn follow(&self, file: &dto::Follow) -> Read<core::Follow> {
        let mut follow = core::Follow {
            sources: file.sources.iter().map(|source| self.source(source)).collect::<Read<_>>()?,
            translation: [false; 3],
            rotation: [false; 3],
            scale: [false; 3],
        };
        let Some(parts) = &file.parts else {
            return Ok(core::Follow { translation: [true; 3], rotation: [true; 3], ..follow });
        };
        for part in parts {
            let (name, axis) =
                part.split_once('.').map_or((part.as_str(), None), |(name, axis)| (name, Some(axis)));
            let axes = match axis {
                None => [true; 3],
                Some(axis) => match ["x", "y", "z"].iter().position(|own| *own == axis) {
                    Some(at) => [0, 1, 2].map(|own| own == at),
                    None => return Err(format!("'{part}': there are the axes x, y and z")),
                },
            };
            let of = match name {
                TRANSLATION => &mut follow.translation,
                ROTATION => &mut follow.rotation,
                SCALE => &mut follow.scale,
                _ => return Err(format!("'{part}': a node follows by translation, rotation and scale")),
            };
            for (own, more) in of.iter_mut().zip(axes) {
                *own |= more;
            }
        }
        Ok(follow)
    }

    fn towards(&self, file: &dto::Towards) -> Read<core::Towards> {
        let node = file.node.as_ref().map(|node| self.node(node)).transpose()?;
        match (node, &file.direction) {
            (Some(node), None) => Ok(core::Towards::Node(node)),
            (node, Some(direction)) => Ok(core::Towards::Direction(vector(direction), node)),
            (None, None) => Err("give a 'node' or a 'direction' to lean to".into()),
        }
    }

    fn aim(&self, file: &dto::Aim) -> Read<core::Aim> {
        let up = match &file.up {
            Some(lean) => Some((vector(&lean.axis), self.towards(&lean.to)?)),
            None => None,
        };
        Ok(core::Aim { axis: vector(&file.axis), at: self.node(&file.at)?, up })
    }

    fn limb(&self, file: &dto::Limb) -> Read<core::Limb> {
        let [upper, lower] = match &file.lengths {
            Some([upper, lower]) => [Some(upper), Some(lower)],
            None => [None, None],
        };
        let number = |setting, default| self.setting(setting, default, Quantity::Number);
        Ok(core::Limb {
            lower: self.node(&file.lower)?,
            end: self.node(&file.end)?,
            goal: self.source(&file.goal)?,
            pole: file.pole.as_ref().map(|pole| self.towards(pole)).transpose()?,
            bends_other: file.bend == dto::Bend::Other,
            hinge: file.hinge.as_ref().map(vector),
            stretch: number(file.stretch.as_ref(), 0.0)?,
            stretch_by: match file.stretch_by {
                dto::StretchBy::Translation => core::StretchBy::Translation,
                dto::StretchBy::Scale => core::StretchBy::Scale,
            },
            slack: file.slack.as_ref().map_or(0.0, plain),
            end_turn: match file.end_turn {
                dto::EndTurn::Goal => core::EndTurn::Goal,
                dto::EndTurn::Parent => core::EndTurn::Parent,
                dto::EndTurn::Own => core::EndTurn::Own,
            },
            twist: self.setting(file.twist.as_ref(), 0.0, Quantity::Angle)?,
            lengths: [number(upper, 1.0)?, number(lower, 1.0)?],
        })
    }

    fn roll(&self, file: &dto::Roll) -> Read<core::Roll> {
        let node = file.axis.as_ref().map(vector);
        let source = file.source_axis.as_ref().map(vector);
        let axes = match (node, source) {
            (Some(node), source) => Some(core::RollAxes { source: source.unwrap_or(node), node }),
            (None, None) => None,
            (None, Some(_)) => return Err("'source_axis' needs 'axis', the axis of the node".into()),
        };
        Ok(core::Roll {
            source: self.node(&file.source)?,
            fraction: self.setting(Some(&file.fraction), 1.0, Quantity::Number)?,
            axes,
        })
    }

    fn couple(&self, node: NodeRef, file: &dto::Couple) -> Read<core::Couple> {
        // The node stands in the constraint already; its address has no colon that counts here.
        let (_, property, component) = parts(&format!("_:{}", file.channel))
            .ok_or_else(|| format!("'{}' is no channel", file.channel))?;
        let channel = self.channel(node, property, component)?;
        let (from, property, component) = parts(&file.from)
            .ok_or_else(|| format!("'{}' is not a channel: write NODE:ATTRIBUTE", file.from))?;
        let from = self.channel(self.node(from)?, property, component)?;
        let scale = |channel: &core::Channel| {
            let target = &channel.target;
            let kind = self.scene.rigs[target.rig].property_kind(target.node, &target.property);
            self.units.scale(kind.map_or(Quantity::Number, PropertyKind::quantity))
        };
        let (there, here) = (scale(&from), scale(&channel));
        let points = file.points.iter().map(|[from, to]| (there.value(from), here.value(to))).collect();
        Ok(core::Couple { channel, from, points })
    }

    fn channel(&self, node: NodeRef, property: String, component: Option<usize>) -> Read<core::Channel> {
        let target = self.target(node, property)?;
        let kind = self.scene.rigs[target.rig].property_kind(target.node, &target.property);
        let has_one = matches!(kind, Some(PropertyKind::Number(_) | PropertyKind::Discrete));
        match (has_one, component) {
            (true, None) => Ok(core::Channel { target, component: 0 }),
            (false, Some(component)) if component < 3 => Ok(core::Channel { target, component }),
            (true, Some(_)) => Err(format!("'{}' is one number: it has no axes", target.property)),
            (false, _) => Err(format!("'{0}' is three numbers: name one, as {0}.x", target.property)),
        }
    }
}
