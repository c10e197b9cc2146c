//! From a scene to the shapes of the file.

mod constraints;

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_core::address::Addresses;
use nimble_curve_core::controller as ctl;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{self as crv, Discrete, TangentMode, TangentShape};
use nimble_curve_core::rig::{self, OpValue, TransformOp};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{self, Scene, Target};
use nimble_curve_core::space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_core::value::{Quantity, Value};

use crate::ncurve::model as dto;
use crate::ncurve::number::{Double, Num};
use crate::ncurve::units::{Scale, Units};

/// The axes of a rotation, in order.
const AXES: [dto::KeyAxis; 3] = [dto::KeyAxis::X, dto::KeyAxis::Y, dto::KeyAxis::Z];

fn num(value: f64) -> Num {
    Num::from_core(value, Double::ONE)
}

fn nums<const N: usize>(values: [f64; N]) -> [Num; N] {
    values.map(num)
}

fn vector(v: DVec3) -> [Num; 3] {
    nums(v.to_array())
}

fn quaternion(q: DQuat) -> [Num; 4] {
    nums(q.to_array())
}

/// Unless it is the default.
fn unless<T: PartialEq>(value: T, default: T) -> Option<T> {
    (value != default).then_some(value)
}

/// Turns a scene into a file.
pub fn file(scene: &Scene) -> dto::File {
    let addresses = Addresses::new(scene);
    let writer = Writer { scene, addresses: &addresses, units: Units::new(scene.rate) };
    dto::File {
        ncurve: dto::VERSION,
        rate: scene.rate.to_string(),
        space: dto::Space {
            metres_per_unit: num(scene.space.metres_per_unit),
            up: match scene.space.up {
                space::UpAxis::X => dto::Up::X,
                space::UpAxis::Y => dto::Up::Y,
                space::UpAxis::Z => dto::Up::Z,
            },
            handedness: match scene.space.handedness {
                space::Handedness::Right => dto::Handedness::Right,
                space::Handedness::Left => dto::Handedness::Left,
            },
        },
        rigs: (0..scene.rigs.len()).map(|index| writer.rig(index)).collect(),
        sets: scene.sets.iter().map(|set| (set.name.clone(), set.patterns.clone())).collect(),
        constraints: (scene.constraints.iter())
            .map(|constraint| constraints::written(scene, &addresses, writer.units, constraint))
            .collect(),
        takes: scene.takes.iter().map(|take| writer.take(take)).collect(),
    }
}

/// An attribute of a node of a scene.
pub fn attribute(scene: &Scene, attribute: &rig::Attribute) -> dto::Attribute {
    let addresses = Addresses::new(scene);
    Writer { scene, addresses: &addresses, units: Units::new(scene.rate) }.attribute(attribute)
}

struct Writer<'a> {
    scene: &'a Scene,
    addresses: &'a Addresses,
    units: Units,
}

impl Writer<'_> {
    fn rig(&self, index: usize) -> dto::Rig {
        let rig = &self.scene.rigs[index];
        // Parents are looked up within the rig as far as it is read, where the name may be unique; the address
        // that is unique in the whole file always works.
        let nodes = rig.nodes().map(|(id, node)| {
            let parent = rig.parent(id).map(|parent| self.addresses.node((index, parent)).to_owned());
            self.node(node, parent)
        });
        dto::Rig { name: rig.name.clone(), nodes: nodes.collect() }
    }

    fn node(&self, node: &rig::Node, parent: Option<String>) -> dto::Node {
        let mut file = dto::Node {
            name: node.name.clone(),
            parent,
            kind: match node.kind {
                rig::NodeKind::Joint => dto::Kind::Joint,
                rig::NodeKind::Control => dto::Kind::Control,
                rig::NodeKind::End => dto::Kind::End,
                rig::NodeKind::Locator => dto::Kind::Locator,
                rig::NodeKind::Root => dto::Kind::Root,
                rig::NodeKind::Other => dto::Kind::Other,
            },
            translation: None,
            before: None,
            rotation: None,
            after: None,
            scale: None,
            transform: None,
            bind: node.bind.map(|bind| bind.to_cols_array().map(num).to_vec()),
            inherits: match node.inherits {
                rig::ScaleInheritance::Full => dto::Inherits::Full,
                rig::ScaleInheritance::PositionOnly => dto::Inherits::PositionOnly,
            },
            locked: node.locked.clone(),
            primary: node.primary,
            attributes: node.attributes.iter().map(|attribute| self.attribute(attribute)).collect(),
        };
        let has = |name: &str| node.op(name).is_some();
        let is_short = node.canonical().is_some() && has("translation") && has("rotation") && has("scale");
        if !is_short {
            file.transform = Some(node.transform.iter().map(|op| self.op(op, true)).collect());
            return file;
        }
        for op in &node.transform {
            match (op.name.as_str(), op.value) {
                ("translation", OpValue::Translate(v)) => {
                    file.translation = unless(v.to_array().map(f64::to_bits), [0; 3]).map(|_| vector(v));
                }
                ("scale", OpValue::Scale(v)) => file.scale = unless(v, DVec3::ONE).map(vector),
                ("before", _) => file.before = Some(Box::new(self.op(op, false))),
                ("after", _) => file.after = Some(Box::new(self.op(op, false))),
                _ => {
                    let at_rest = OpValue::Rotate { order: RotationOrder::Xyz, angles: DVec3::ZERO };
                    file.rotation = unless(op.value, at_rest).map(|_| Box::new(self.op(op, false)));
                }
            }
        }
        file
    }

    fn op(&self, op: &TransformOp, named: bool) -> dto::Op {
        let mut file = dto::Op { inverse: op.inverse, ..dto::Op::default() };
        if named {
            file.name.clone_from(&op.name);
        }
        let angle = self.units.scale(Quantity::Angle);
        match op.value {
            OpValue::Translate(v) => file.translate = Some(vector(v)),
            OpValue::Scale(v) => file.scale = Some(vector(v)),
            OpValue::Shear(v) => file.shear = Some(vector(v)),
            OpValue::Orient(q) => file.orient = Some(quaternion(q)),
            OpValue::Matrix(m) => file.matrix = Some(m.to_cols_array().map(num).to_vec()),
            OpValue::Rotate { order, angles } => file.rotate = Some(self.rotate(order, angles)),
            OpValue::RotateAxis { axis, angle: turn } => {
                file.rotate_axis = Some([num(axis.x), num(axis.y), num(axis.z), angle.num(turn)]);
            }
        }
        file
    }

    fn rotate(&self, order: RotationOrder, angles: DVec3) -> dto::Rotate {
        let angle = self.units.scale(Quantity::Angle);
        let is_zero = angles.to_array().iter().all(|a| a.to_bits() == 0);
        dto::Rotate {
            order: order.to_string(),
            angles: (!is_zero).then(|| angles.to_array().map(|a| angle.num(a))),
        }
    }

    fn attribute(&self, attribute: &rig::Attribute) -> dto::Attribute {
        use rig::AttributeKind;
        let mut file = dto::Attribute {
            name: attribute.name.clone(),
            number: None,
            vector: None,
            switch: None,
            choice: None,
            text: None,
        };
        match &attribute.kind {
            AttributeKind::Number { default, min, max, quantity } => {
                let scale = self.units.scale(*quantity);
                file.number = Some(dto::NumberAttribute {
                    default: scale.num(*default),
                    min: min.map(|n| scale.num(n)),
                    max: max.map(|n| scale.num(n)),
                    quantity: self::quantity(*quantity),
                });
            }
            AttributeKind::Vector { default, quantity } => {
                let scale = self.units.scale(*quantity);
                file.vector = Some(dto::VectorAttribute {
                    default: default.to_array().map(|n| scale.num(n)),
                    quantity: self::quantity(*quantity),
                });
            }
            AttributeKind::Switch { default } => file.switch = Some(*default),
            AttributeKind::Text { default } => file.text = Some(default.clone()),
            AttributeKind::Choice { options, default } => {
                file.choice =
                    Some(dto::ChoiceAttribute { options: options.clone(), default: default.clone() });
            }
        }
        file
    }

    fn range(&self, range: TimeRange) -> [Num; 2] {
        [self.units.frame(range.first), self.units.frame(range.last)]
    }

    fn take(&self, take: &scene::Take) -> dto::Take {
        dto::Take {
            name: take.name.clone(),
            folder: take.folder.clone(),
            range: self.range(take.range),
            clips: (take.clips.iter())
                .map(|clip| dto::Clip {
                    name: clip.name.clone(),
                    range: self.range(clip.range),
                    note: clip.note.clone(),
                })
                .collect(),
            markers: (take.markers.iter())
                .map(|marker| dto::Marker { frame: self.units.frame(marker.time), name: marker.name.clone() })
                .collect(),
            layers: take.layers.iter().map(|layer| self.layer(layer)).collect(),
        }
    }

    fn layer(&self, layer: &scene::Layer) -> dto::Layer {
        let (weight, weight_curve) = self.weight(&layer.weight);
        dto::Layer {
            name: layer.name.clone(),
            mode: match layer.mode {
                scene::LayerMode::Additive => dto::Mode::Additive,
                scene::LayerMode::Override => dto::Mode::Override,
            },
            rotations: match layer.rotations {
                scene::RotationMixing::Angles => dto::Mixing::Angles,
                scene::RotationMixing::Quaternions => dto::Mixing::Quaternions,
            },
            weight,
            weight_curve,
            muted: layer.muted,
            tracks: (layer.tracks.iter())
                .map(|track| dto::Track {
                    channel: self.addresses.property(&track.target),
                    controller: self.controller(&track.controller, &track.target),
                })
                .collect(),
        }
    }

    fn weight(&self, weight: &ctl::Weight) -> (Option<Num>, Option<dto::Curve>) {
        match weight {
            ctl::Weight::Constant(constant) => (unless(*constant, 1.0).map(num), None),
            ctl::Weight::Curve(curve) => (None, Some(self.curve(curve, Quantity::Number))),
        }
    }

    fn controller(&self, controller: &Controller, target: &Target) -> dto::Controller {
        let kind = self.scene.rigs[target.rig].property_kind(target.node, &target.property);
        let quantity = kind.map_or(Quantity::Number, scene::PropertyKind::quantity);
        match controller {
            Controller::Constant(value) => dto::Controller::Constant(self.value(value, quantity)),
            Controller::Components(curves) => {
                dto::Controller::Components(curves.iter().map(|curve| self.curve(curve, quantity)).collect())
            }
            Controller::Euler(euler) => {
                let [x, y, z] = euler.curves.each_ref().map(|curve| self.curve(curve, Quantity::Angle));
                dto::Controller::Euler(Box::new(dto::Euler { order: euler.order.to_string(), x, y, z }))
            }
            Controller::Quaternion(curve) => dto::Controller::Quaternion(self.quaternion_curve(curve)),
            Controller::Tcb(curve) => dto::Controller::Tcb(self.tcb(curve, quantity)),
            Controller::Discrete(curve) => dto::Controller::Discrete(
                (curve.keys().iter())
                    .map(|(time, value)| dto::DiscreteKey {
                        frame: self.units.frame(*time),
                        value: match value {
                            Discrete::Switch(on) => dto::DiscreteValue::Switch(*on),
                            Discrete::Choice(text) | Discrete::Text(text) => {
                                dto::DiscreteValue::Text(text.clone())
                            }
                        },
                    })
                    .collect(),
            ),
            Controller::Samples(samples) => dto::Controller::Samples(self.samples(samples, quantity)),
            Controller::Stack(entries) => dto::Controller::Stack(
                (entries.iter())
                    .map(|entry| {
                        let (weight, weight_curve) = self.weight(&entry.weight);
                        dto::StackEntry {
                            name: entry.name.clone(),
                            weight,
                            weight_curve,
                            controller: self.controller(&entry.controller, target),
                        }
                    })
                    .collect(),
            ),
            Controller::Procedural(procedural) => dto::Controller::Procedural(dto::Procedural {
                kind: procedural.kind.clone(),
                text: procedural.text.clone(),
                sampled: (procedural.sampled.as_ref())
                    .map(|sampled| Box::new(self.controller(sampled, target))),
            }),
        }
    }

    fn value(&self, value: &Value, quantity: Quantity) -> dto::Value {
        let scale = self.units.scale(quantity);
        match value {
            Value::Number(n) => dto::Value::Number(scale.num(*n)),
            Value::Vector(v) => dto::Value::Vector(v.to_array().map(|n| scale.num(n))),
            Value::Euler { order, angles } => dto::Value::Euler(self.rotate(*order, *angles)),
            Value::Quaternion(q) => dto::Value::Quaternion(quaternion(*q)),
            Value::Matrix(m) => dto::Value::Matrix(m.to_cols_array().map(num).to_vec()),
            Value::Discrete(Discrete::Switch(on)) => dto::Value::Switch(*on),
            Value::Discrete(Discrete::Choice(option)) => dto::Value::Choice(option.clone()),
            Value::Discrete(Discrete::Text(text)) => dto::Value::Text(text.clone()),
        }
    }

    fn behaviour(&self, behaviour: crv::Behaviour, scale: Scale) -> dto::Behaviour {
        match behaviour {
            crv::Behaviour::Held => dto::Behaviour::Held,
            crv::Behaviour::Linear => dto::Behaviour::Linear,
            crv::Behaviour::Sloped(slope) => dto::Behaviour::Sloped(scale.slope_num(slope)),
            crv::Behaviour::LoopOffset => dto::Behaviour::LoopOffset,
            crv::Behaviour::Loop => dto::Behaviour::Loop,
            crv::Behaviour::LoopOscillate => dto::Behaviour::LoopOscillate,
            crv::Behaviour::None => dto::Behaviour::None,
        }
    }

    fn curve(&self, curve: &crv::Curve, quantity: Quantity) -> dto::Curve {
        let scale = self.units.scale(quantity);
        dto::Curve {
            before: self.behaviour(curve.before, scale),
            after: self.behaviour(curve.after, scale),
            inner_loop: curve.inner_loop().map(|region| dto::InnerLoop {
                frames: [self.units.frame(region.start), self.units.frame(region.end)],
                before: region.before,
                after: region.after,
                offset: unless(region.value_offset, 0.0).map(|offset| scale.num(offset)),
            }),
            keys: curve.keys().iter().map(|key| self.key(key, scale)).collect(),
        }
    }

    fn key(&self, key: &crv::Key, scale: Scale) -> dto::Key {
        let mut file = dto::Key {
            frame: self.units.frame(key.time),
            value: scale.num(key.value),
            before: key.value_before.map(|value| scale.num(value)),
            interpolation: match key.interpolation {
                crv::Interpolation::Hold => dto::Interpolation::Hold,
                crv::Interpolation::Linear => dto::Interpolation::Linear,
                crv::Interpolation::Cubic => dto::Interpolation::Cubic,
                crv::Interpolation::None => dto::Interpolation::None,
            },
            slope: None,
            tangent_in: None,
            tangent_out: None,
            broken: !key.joined,
            added: key.added,
            fitted: key.fitted,
            axes: AXES
                .into_iter()
                .zip(0..)
                .filter(|(_, at)| key.axes.has(*at))
                .map(|(axis, _)| axis)
                .collect(),
        };
        match (key.tangent_in, key.tangent_out) {
            (
                crv::Tangent { mode: TangentMode::Free, shape: TangentShape::Slope(a) },
                crv::Tangent { mode: TangentMode::Free, shape: TangentShape::Slope(b) },
            ) if a.to_bits() == b.to_bits() => file.slope = Some(scale.slope_num(a)),
            (tangent_in, tangent_out) => {
                file.tangent_in = self.tangent(tangent_in, scale);
                file.tangent_out = self.tangent(tangent_out, scale);
            }
        }
        file
    }

    /// A tangent; `None` for a plain automatic one.
    fn tangent(&self, tangent: crv::Tangent, scale: Scale) -> Option<dto::Tangent> {
        let mode = match tangent.mode {
            TangentMode::Free => {
                return Some(match tangent.shape {
                    TangentShape::Slope(slope) => dto::Tangent::Slope(scale.slope_num(slope)),
                    TangentShape::Handle { dt, dv } => {
                        dto::Tangent::Handle([self.units.frames(dt), scale.num(dv)])
                    }
                });
            }
            TangentMode::Auto => dto::TangentMode::Auto,
            TangentMode::AutoNoOvershoot => dto::TangentMode::AutoNoOvershoot,
            TangentMode::Flat => dto::TangentMode::Flat,
            TangentMode::Linear => dto::TangentMode::Linear,
        };
        match tangent.length() {
            Some(length) => {
                Some(dto::Tangent::Weighted(dto::WeightedTangent { mode, length: self.units.frames(length) }))
            }
            None if mode == dto::TangentMode::Auto => None,
            None => Some(dto::Tangent::Mode(mode)),
        }
    }

    fn quaternion_curve(&self, curve: &ctl::QuaternionCurve) -> dto::QuaternionCurve {
        let slope = self.units.scale(Quantity::Number);
        let slopes = |t: DVec4| unless(t, DVec4::ZERO).map(|t| t.to_array().map(|n| slope.slope_num(n)));
        let angle = self.units.scale(Quantity::Angle);
        dto::QuaternionCurve {
            before: self.behaviour(curve.before, angle),
            after: self.behaviour(curve.after, angle),
            keys: (curve.keys.iter())
                .map(|key| dto::QuaternionKey {
                    frame: self.units.frame(key.time),
                    value: quaternion(key.value),
                    interpolation: match key.interpolation {
                        ctl::QuaternionInterpolation::Step => dto::QuaternionInterpolation::Step,
                        ctl::QuaternionInterpolation::Slerp => dto::QuaternionInterpolation::Slerp,
                        ctl::QuaternionInterpolation::Squad => dto::QuaternionInterpolation::Squad,
                        ctl::QuaternionInterpolation::Cubic => dto::QuaternionInterpolation::Cubic,
                    },
                    tangent_in: slopes(key.tangent_in),
                    tangent_out: slopes(key.tangent_out),
                })
                .collect(),
        }
    }

    fn tcb(&self, curve: &ctl::TcbCurve, quantity: Quantity) -> dto::TcbCurve {
        let scale = self.units.scale(quantity);
        let mut file = dto::TcbCurve {
            before: self.behaviour(curve.before, scale),
            after: self.behaviour(curve.after, scale),
            number: None,
            vector: None,
            rotation: None,
        };
        match &curve.keys {
            ctl::TcbKeys::Number(keys) => file.number = Some(self.tcb_keys(keys, |v| scale.num(v))),
            ctl::TcbKeys::Vector(keys) => {
                file.vector = Some(self.tcb_keys(keys, |v| v.to_array().map(|n| scale.num(n))));
            }
            ctl::TcbKeys::Rotation(keys) => file.rotation = Some(self.tcb_keys(keys, quaternion)),
        }
        file
    }

    fn tcb_keys<V: Copy, F>(&self, keys: &[ctl::TcbKey<V>], value: impl Fn(V) -> F) -> Vec<dto::TcbKey<F>> {
        let unless_zero = |value: f64| unless(value, 0.0).map(num);
        (keys.iter())
            .map(|key| dto::TcbKey {
                frame: self.units.frame(key.time),
                value: value(key.value),
                tension: unless_zero(key.tension),
                continuity: unless_zero(key.continuity),
                bias: unless_zero(key.bias),
                ease_in: unless_zero(key.ease_in),
                ease_out: unless_zero(key.ease_out),
            })
            .collect()
    }

    fn samples(&self, samples: &ctl::Samples, quantity: Quantity) -> dto::Samples {
        let (kind, order) = match samples.kind {
            ctl::SampleKind::Number => (dto::SampleKind::Number, None),
            ctl::SampleKind::Vector => (dto::SampleKind::Vector, None),
            ctl::SampleKind::Euler(order) => (dto::SampleKind::Euler, Some(order.to_string())),
            ctl::SampleKind::Quaternion => (dto::SampleKind::Quaternion, None),
            ctl::SampleKind::Matrix => (dto::SampleKind::Matrix, None),
        };
        let quantity = if samples.kind == ctl::SampleKind::Quaternion { Quantity::Number } else { quantity };
        let scale = self.units.scale(quantity);
        let write = |values: &[f64]| values.iter().map(|&n| scale.num(n)).collect::<Vec<Num>>();
        let width = samples.kind.width();
        dto::Samples {
            start: self.units.frame(samples.start),
            rate: samples.rate.to_string(),
            kind,
            order,
            values: (width == 1).then(|| write(&samples.values)),
            rows: (width > 1).then(|| samples.values.chunks(width).map(write).collect()),
        }
    }
}

fn quantity(quantity: Quantity) -> dto::Quantity {
    match quantity {
        Quantity::Angle => dto::Quantity::Angle,
        Quantity::Length => dto::Quantity::Length,
        Quantity::Number => dto::Quantity::Number,
    }
}
