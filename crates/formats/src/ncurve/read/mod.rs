//! From the shapes of the file to a scene.

pub(super) mod constraints;
pub(super) mod nodes;

use glam::{DMat4, DQuat, DVec3, DVec4};
use nimble_curve_core::address::Addresses;
use nimble_curve_core::controller as ctl;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{self as crv, Discrete, DiscreteCurve};
use nimble_curve_core::rig::{self};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{self, PropertyKind, Scene, Target};
use nimble_curve_core::space;
use nimble_curve_core::time::{FrameRate, MAX_TICKS, Ticks, TimeRange};
use nimble_curve_core::value::{Quantity, Value};

use self::nodes::{euler, read_rig};
use super::model as dto;
use super::number::{Double, Num};
use super::units::{Scale, Units};
use crate::error::Fault;

/// What is wrong, to be joined with where.
type Read<T> = Result<T, String>;

fn plain(num: &Num) -> f64 {
    num.to_core(Double::ONE)
}

fn vector(v: &[Num; 3]) -> DVec3 {
    DVec3::from_array([plain(&v[0]), plain(&v[1]), plain(&v[2])])
}

fn quaternion(q: &[Num; 4]) -> Read<DQuat> {
    let q = DQuat::from_array([plain(&q[0]), plain(&q[1]), plain(&q[2]), plain(&q[3])]);
    if q.length_squared() > 1e-12 { Ok(q) } else { Err("a quaternion must not be of length zero".into()) }
}

fn order(text: &str) -> Read<RotationOrder> {
    text.parse().map_err(|error: nimble_curve_core::rotation::RotationOrderError| error.to_string())
}

fn matrix(numbers: &[Num]) -> Read<DMat4> {
    let numbers: Vec<f64> = numbers.iter().map(plain).collect();
    let array: [f64; 16] =
        numbers.try_into().map_err(|_| "a matrix has 16 numbers, by columns".to_owned())?;
    Ok(DMat4::from_cols_array(&array))
}

/// Turns a file into a scene.
pub fn scene(file: &dto::File) -> Result<Scene, Fault> {
    let rate: FrameRate = file.rate.parse().map_err(|error| Fault::in_part("rate", error))?;
    let units = Units::new(rate);
    let rigs = file.rigs.iter().map(|rig| read_rig(rig, &units)).collect::<Result<Vec<_>, _>>()?;
    let mut scene = Scene {
        rate,
        space: space(&file.space).map_err(|message| Fault::in_part("space", message))?,
        rigs,
        sets: (file.sets.iter())
            .map(|(name, patterns)| scene::NodeSet { name: name.clone(), patterns: patterns.clone() })
            .collect(),
        constraints: Vec::new(),
        takes: Vec::new(),
    };
    let addresses = Addresses::new(&scene);
    scene.constraints = constraints::read_all(&scene, &addresses, units, &file.constraints)?;
    let reader = Reader { scene: &scene, addresses: &addresses, units };
    scene.takes = file.takes.iter().map(|take| reader.take(take)).collect::<Result<_, _>>()?;
    Ok(scene)
}

/// Units and axes.
pub fn space(file: &dto::Space) -> Read<space::Space> {
    let metres_per_unit = plain(&file.metres_per_unit);
    if metres_per_unit <= 0.0 {
        return Err("metres_per_unit must be above zero".into());
    }
    Ok(space::Space {
        metres_per_unit,
        up: match file.up {
            dto::Up::X => space::UpAxis::X,
            dto::Up::Y => space::UpAxis::Y,
            dto::Up::Z => space::UpAxis::Z,
        },
        handedness: match file.handedness {
            dto::Handedness::Right => space::Handedness::Right,
            dto::Handedness::Left => space::Handedness::Left,
        },
    })
}

struct Reader<'a> {
    scene: &'a Scene,
    addresses: &'a Addresses,
    units: Units,
}

impl Reader<'_> {
    fn time(&self, frame: &Num) -> Read<Ticks> {
        let time = self.units.time(frame);
        if time.0.unsigned_abs() <= MAX_TICKS as u64 {
            Ok(time)
        } else {
            Err(format!("frame {} lies more than 36 days from frame 0", plain(frame)))
        }
    }

    fn range(&self, [first, last]: &[Num; 2]) -> Read<TimeRange> {
        let (first, last) = (self.time(first)?, self.time(last)?);
        if first <= last {
            Ok(TimeRange { first, last })
        } else {
            Err("the range ends before it starts".into())
        }
    }

    fn take(&self, file: &dto::Take) -> Result<scene::Take, Fault> {
        let part = format!("take '{}'", file.name);
        let fault = |message: String| Fault::in_part(part.clone(), message);
        let mut take = scene::Take {
            name: file.name.clone(),
            folder: file.folder.clone(),
            range: self.range(&file.range).map_err(fault)?,
            clips: Vec::new(),
            markers: Vec::new(),
            layers: Vec::new(),
        };
        for clip in &file.clips {
            let range = self.range(&clip.range).map_err(|m| fault(format!("clip '{}': {m}", clip.name)))?;
            take.clips.push(scene::Clip { name: clip.name.clone(), range, note: clip.note.clone() });
        }
        for marker in &file.markers {
            let time =
                self.time(&marker.frame).map_err(|m| fault(format!("marker '{}': {m}", marker.name)))?;
            take.markers.push(scene::Marker { time, name: marker.name.clone() });
        }
        for layer in &file.layers {
            let part = format!("{part}, layer '{}'", layer.name);
            take.layers.push(self.layer(layer, &part)?);
        }
        Ok(take)
    }

    fn layer(&self, file: &dto::Layer, part: &str) -> Result<scene::Layer, Fault> {
        let mut tracks = Vec::with_capacity(file.tracks.len());
        let mut seen = std::collections::HashSet::new();
        for track in &file.tracks {
            let fault = |message: String| Fault::in_part(format!("{part}, '{}'", track.channel), message);
            let target = self
                .addresses
                .find_property(&self.scene.rigs, &track.channel)
                .map_err(|error| fault(error.to_string()))?;
            if !seen.insert(target.clone()) {
                return Err(fault("the layer has a track for it already".into()));
            }
            let controller = self.controller(&track.controller, &target).map_err(fault)?;
            tracks.push(scene::Track { target, controller });
        }
        Ok(scene::Layer {
            name: file.name.clone(),
            mode: match file.mode {
                dto::Mode::Additive => scene::LayerMode::Additive,
                dto::Mode::Override => scene::LayerMode::Override,
            },
            rotations: match file.rotations {
                dto::Mixing::Angles => scene::RotationMixing::Angles,
                dto::Mixing::Quaternions => scene::RotationMixing::Quaternions,
            },
            weight: self
                .weight(&file.weight, &file.weight_curve)
                .map_err(|message| Fault::in_part(format!("{part}, weight"), message))?,
            muted: file.muted,
            tracks,
        })
    }

    fn weight(&self, constant: &Option<Num>, curve: &Option<dto::Curve>) -> Read<ctl::Weight> {
        match (constant, curve) {
            (Some(_), Some(_)) => Err("give either 'weight' or 'weight_curve'".into()),
            (None, Some(curve)) => Ok(ctl::Weight::Curve(self.curve(curve, Quantity::Number)?)),
            (constant, None) => Ok(ctl::Weight::Constant(constant.as_ref().map_or(1.0, plain))),
        }
    }

    fn controller(&self, file: &dto::Controller, target: &Target) -> Read<Controller> {
        let rig = &self.scene.rigs[target.rig];
        let kind = rig.property_kind(target.node, &target.property).ok_or("there is no such property")?;
        let width = match kind {
            PropertyKind::Number(_) => 1,
            PropertyKind::Vector(_) | PropertyKind::Scale | PropertyKind::Rotation => 3,
            PropertyKind::Matrix => 16,
            PropertyKind::Discrete => 0,
        };
        let unfit = |what: &str| Err(format!("{what} do not fit this property"));
        let is_rotation = kind == PropertyKind::Rotation;
        Ok(match file {
            dto::Controller::Constant(value) => Controller::Constant(self.value(value, kind)?),
            dto::Controller::Components(_) if is_rotation => {
                return Err(
                    "a rotation is driven by 'angles', 'quaternions' or 'tcb', not by 'components'".into()
                );
            }
            dto::Controller::Components(curves) if curves.len() != width => {
                return Err(format!("this property has {width} components, not {}", curves.len()));
            }
            dto::Controller::Components(curves) => Controller::Components(
                curves.iter().map(|curve| self.curve(curve, kind.quantity())).collect::<Read<_>>()?,
            ),
            dto::Controller::Euler(_) | dto::Controller::Quaternion(_) if !is_rotation => {
                return unfit("rotation curves");
            }
            dto::Controller::Euler(euler) => Controller::Euler(ctl::EulerCurves {
                order: order(&euler.order)?,
                curves: [
                    self.curve(&euler.x, Quantity::Angle)?,
                    self.curve(&euler.y, Quantity::Angle)?,
                    self.curve(&euler.z, Quantity::Angle)?,
                ],
            }),
            dto::Controller::Quaternion(curve) => Controller::Quaternion(self.quaternion_curve(curve)?),
            dto::Controller::Tcb(curve) => Controller::Tcb(self.tcb(curve, kind)?),
            dto::Controller::Discrete(keys) => Controller::Discrete(self.discrete(keys, target)?),
            dto::Controller::Samples(samples) => Controller::Samples(self.samples(samples, kind)?),
            dto::Controller::Stack(entries) => Controller::Stack(
                entries
                    .iter()
                    .map(|entry| {
                        Ok(ctl::StackEntry {
                            name: entry.name.clone(),
                            weight: self.weight(&entry.weight, &entry.weight_curve)?,
                            controller: self.controller(&entry.controller, target)?,
                        })
                    })
                    .collect::<Read<_>>()?,
            ),
            dto::Controller::Procedural(procedural) => Controller::Procedural(ctl::Procedural {
                kind: procedural.kind.clone(),
                text: procedural.text.clone(),
                sampled: match &procedural.sampled {
                    Some(sampled) => Some(Box::new(self.controller(sampled, target)?)),
                    None => None,
                },
            }),
        })
    }

    fn value(&self, file: &dto::Value, kind: PropertyKind) -> Read<Value> {
        let scale = self.units.scale(kind.quantity());
        let value = match file {
            dto::Value::Number(n) => Value::Number(scale.value(n)),
            dto::Value::Vector([x, y, z]) => {
                Value::Vector(DVec3::new(scale.value(x), scale.value(y), scale.value(z)))
            }
            dto::Value::Euler(rotate) => {
                let (order, angles) = euler(rotate, self.units.scale(Quantity::Angle))?;
                Value::Euler { order, angles }
            }
            dto::Value::Quaternion(q) => Value::Quaternion(quaternion(q)?),
            dto::Value::Matrix(numbers) => Value::Matrix(Box::new(matrix(numbers)?)),
            dto::Value::Switch(on) => Value::Discrete(Discrete::Switch(*on)),
            dto::Value::Choice(option) => Value::Discrete(Discrete::Choice(option.clone())),
            dto::Value::Text(text) => Value::Discrete(Discrete::Text(text.clone())),
        };
        let fits = matches!(
            (&value, kind),
            (Value::Number(_), PropertyKind::Number(_))
                | (Value::Vector(_), PropertyKind::Vector(_) | PropertyKind::Scale)
                | (Value::Euler { .. } | Value::Quaternion(_), PropertyKind::Rotation)
                | (Value::Matrix(_), PropertyKind::Matrix)
                | (Value::Discrete(_), PropertyKind::Discrete)
        );
        if fits { Ok(value) } else { Err("the constant does not fit this property".into()) }
    }

    fn behaviour(&self, file: &dto::Behaviour, scale: Scale) -> crv::Behaviour {
        match file {
            dto::Behaviour::Held => crv::Behaviour::Held,
            dto::Behaviour::Linear => crv::Behaviour::Linear,
            dto::Behaviour::Sloped(slope) => crv::Behaviour::Sloped(scale.slope(slope)),
            dto::Behaviour::LoopOffset => crv::Behaviour::LoopOffset,
            dto::Behaviour::Loop => crv::Behaviour::Loop,
            dto::Behaviour::LoopOscillate => crv::Behaviour::LoopOscillate,
            dto::Behaviour::None => crv::Behaviour::None,
        }
    }

    fn curve(&self, file: &dto::Curve, quantity: Quantity) -> Read<crv::Curve> {
        let scale = self.units.scale(quantity);
        let keys = file.keys.iter().map(|key| self.key(key, scale)).collect();
        let mut curve = crv::Curve::new(keys).map_err(|error| self.with_frame(&error, file))?;
        curve.before = self.behaviour(&file.before, scale);
        curve.after = self.behaviour(&file.after, scale);
        if let Some(region) = &file.inner_loop {
            let inner = crv::InnerLoop {
                start: self.time(&region.frames[0])?,
                end: self.time(&region.frames[1])?,
                before: region.before,
                after: region.after,
                value_offset: region.offset.as_ref().map_or(0.0, |offset| scale.value(offset)),
            };
            curve.set_inner_loop(Some(inner)).map_err(|error| error.to_string())?;
        }
        Ok(curve)
    }

    /// The message of a curve's error with the frame of the key that it is about.
    fn with_frame(&self, error: &crv::CurveError, file: &dto::Curve) -> String {
        let index = match error {
            crv::CurveError::NotIncreasing { index }
            | crv::CurveError::NotFinite { index }
            | crv::CurveError::NegativeHandle { index }
            | crv::CurveError::OutOfRange { index } => *index,
            crv::CurveError::BadInnerLoop => return error.to_string(),
        };
        format!("{error} (at frame {})", plain(&file.keys[index].frame))
    }

    fn key(&self, file: &dto::Key, scale: Scale) -> crv::Key {
        let (mut tangent_in, mut tangent_out) = (crv::Tangent::AUTO, crv::Tangent::AUTO);
        if let Some(slope) = &file.slope {
            let tangent = crv::Tangent::slope(scale.slope(slope));
            (tangent_in, tangent_out) = (tangent, tangent);
        }
        if let Some(tangent) = &file.tangent_in {
            tangent_in = self.tangent(tangent, scale);
        }
        if let Some(tangent) = &file.tangent_out {
            tangent_out = self.tangent(tangent, scale);
        }
        crv::Key {
            time: self.units.time(&file.frame),
            value: scale.value(&file.value),
            value_before: file.before.as_ref().map(|before| scale.value(before)),
            interpolation: match file.interpolation {
                dto::Interpolation::Hold => crv::Interpolation::Hold,
                dto::Interpolation::Linear => crv::Interpolation::Linear,
                dto::Interpolation::Cubic => crv::Interpolation::Cubic,
                dto::Interpolation::None => crv::Interpolation::None,
            },
            tangent_in,
            tangent_out,
            joined: !file.broken,
            added: file.added,
            fitted: file.fitted,
            axes: file.axes.iter().fold(crv::AxisSet::NONE, |axes, axis| axes.with(*axis as usize)),
        }
    }

    fn tangent(&self, file: &dto::Tangent, scale: Scale) -> crv::Tangent {
        let mode = |mode: dto::TangentMode| match mode {
            dto::TangentMode::Auto => crv::TangentMode::Auto,
            dto::TangentMode::AutoNoOvershoot => crv::TangentMode::AutoNoOvershoot,
            dto::TangentMode::Flat => crv::TangentMode::Flat,
            dto::TangentMode::Linear => crv::TangentMode::Linear,
        };
        match file {
            dto::Tangent::Slope(slope) => crv::Tangent::slope(scale.slope(slope)),
            dto::Tangent::Handle([dt, dv]) => crv::Tangent::handle(self.units.length(dt), scale.value(dv)),
            dto::Tangent::Mode(of) => crv::Tangent::of_mode(mode(*of)),
            dto::Tangent::Weighted(weighted) => crv::Tangent {
                mode: mode(weighted.mode),
                shape: crv::TangentShape::Handle { dt: self.units.length(&weighted.length), dv: 0.0 },
            },
        }
    }

    fn quaternion_curve(&self, file: &dto::QuaternionCurve) -> Read<ctl::QuaternionCurve> {
        let scale = self.units.scale(Quantity::Number);
        let slopes = |t: &Option<[Num; 4]>| {
            t.as_ref().map_or(DVec4::ZERO, |t| DVec4::from_array([0, 1, 2, 3].map(|i| scale.slope(&t[i]))))
        };
        let keys = (file.keys.iter())
            .map(|key| {
                Ok(ctl::QuaternionKey {
                    time: self.time(&key.frame)?,
                    value: quaternion(&key.value)?,
                    interpolation: match key.interpolation {
                        dto::QuaternionInterpolation::Step => ctl::QuaternionInterpolation::Step,
                        dto::QuaternionInterpolation::Slerp => ctl::QuaternionInterpolation::Slerp,
                        dto::QuaternionInterpolation::Squad => ctl::QuaternionInterpolation::Squad,
                        dto::QuaternionInterpolation::Cubic => ctl::QuaternionInterpolation::Cubic,
                    },
                    tangent_in: slopes(&key.tangent_in),
                    tangent_out: slopes(&key.tangent_out),
                })
            })
            .collect::<Read<Vec<_>>>()?;
        ctl::check_times(keys.iter().map(|key| key.time)).map_err(|error| error.to_string())?;
        let scale = self.units.scale(Quantity::Angle);
        Ok(ctl::QuaternionCurve {
            keys,
            before: self.behaviour(&file.before, scale),
            after: self.behaviour(&file.after, scale),
        })
    }

    fn tcb(&self, file: &dto::TcbCurve, kind: PropertyKind) -> Read<ctl::TcbCurve> {
        let scale = self.units.scale(kind.quantity());
        let keys = match (&file.number, &file.vector, &file.rotation, kind) {
            (Some(keys), None, None, PropertyKind::Number(_)) => {
                ctl::TcbKeys::Number(self.tcb_keys(keys, |n| Ok(scale.value(n)))?)
            }
            (None, Some(keys), None, PropertyKind::Vector(_) | PropertyKind::Scale) => ctl::TcbKeys::Vector(
                self.tcb_keys(keys, |v| Ok(DVec3::from_array([0, 1, 2].map(|i| scale.value(&v[i])))))?,
            ),
            (None, None, Some(keys), PropertyKind::Rotation) => {
                ctl::TcbKeys::Rotation(self.tcb_keys(keys, quaternion)?)
            }
            _ => return Err("'tcb' has exactly one of number, vector, rotation, as the property is".into()),
        };
        Ok(ctl::TcbCurve {
            keys,
            before: self.behaviour(&file.before, scale),
            after: self.behaviour(&file.after, scale),
        })
    }

    fn tcb_keys<F, V>(
        &self,
        keys: &[dto::TcbKey<F>],
        value: impl Fn(&F) -> Read<V>,
    ) -> Read<Vec<ctl::TcbKey<V>>> {
        let or_zero = |num: &Option<Num>| num.as_ref().map_or(0.0, plain);
        let keys = (keys.iter())
            .map(|key| {
                let key = ctl::TcbKey {
                    time: self.time(&key.frame)?,
                    value: value(&key.value)?,
                    tension: or_zero(&key.tension),
                    continuity: or_zero(&key.continuity),
                    bias: or_zero(&key.bias),
                    ease_in: or_zero(&key.ease_in),
                    ease_out: or_zero(&key.ease_out),
                };
                let fits = [key.tension, key.continuity, key.bias].iter().all(|n| n.abs() <= 1.0)
                    && [key.ease_in, key.ease_out].iter().all(|n| (0.0..=1.0).contains(n));
                if fits {
                    Ok(key)
                } else {
                    Err("tension, continuity and bias lie in -1..1, ease in 0..1".to_owned())
                }
            })
            .collect::<Read<Vec<_>>>()?;
        ctl::check_times(keys.iter().map(|key| key.time)).map_err(|error| error.to_string())?;
        Ok(keys)
    }

    fn discrete(&self, keys: &[dto::DiscreteKey], target: &Target) -> Read<DiscreteCurve> {
        use rig::AttributeKind;
        let node = self.scene.rigs[target.rig].node(target.node).ok_or("there is no such node")?;
        let kind = node.attribute(&target.property).map(|attribute| &attribute.kind);
        let mut read = Vec::with_capacity(keys.len());
        for key in keys {
            let value = match (&key.value, kind) {
                (dto::DiscreteValue::Switch(on), Some(AttributeKind::Switch { .. })) => Discrete::Switch(*on),
                (dto::DiscreteValue::Text(text), Some(AttributeKind::Text { .. })) => {
                    Discrete::Text(text.clone())
                }
                (dto::DiscreteValue::Text(option), Some(AttributeKind::Choice { options, .. })) => {
                    if !options.contains(option) {
                        return Err(format!("'{option}' is not one of the options: {}", options.join(", ")));
                    }
                    Discrete::Choice(option.clone())
                }
                _ => return Err("a discrete value does not fit this property".into()),
            };
            read.push((self.time(&key.frame)?, value));
        }
        DiscreteCurve::new(read).map_err(|error| error.to_string())
    }

    fn samples(&self, file: &dto::Samples, kind: PropertyKind) -> Read<ctl::Samples> {
        let sample_kind = match (file.kind, kind, &file.order) {
            (dto::SampleKind::Number, PropertyKind::Number(_), None) => ctl::SampleKind::Number,
            (dto::SampleKind::Vector, PropertyKind::Vector(_) | PropertyKind::Scale, None) => {
                ctl::SampleKind::Vector
            }
            (dto::SampleKind::Euler, PropertyKind::Rotation, text) => {
                ctl::SampleKind::Euler(order(text.as_deref().unwrap_or("xyz"))?)
            }
            (dto::SampleKind::Quaternion, PropertyKind::Rotation, None) => ctl::SampleKind::Quaternion,
            (dto::SampleKind::Matrix, PropertyKind::Matrix, None) => ctl::SampleKind::Matrix,
            _ => return Err("the samples do not fit this property".into()),
        };
        let quantity =
            if sample_kind == ctl::SampleKind::Quaternion { Quantity::Number } else { kind.quantity() };
        let scale = self.units.scale(quantity);
        let width = sample_kind.width();
        let values = match (&file.values, &file.rows) {
            (Some(values), None) if width == 1 => values.iter().map(|n| scale.value(n)).collect(),
            (None, Some(rows)) if width > 1 => {
                let mut values = Vec::with_capacity(rows.len() * width);
                for (index, row) in rows.iter().enumerate() {
                    if row.len() != width {
                        return Err(format!("row {index} has {} numbers, not {width}", row.len()));
                    }
                    values.extend(row.iter().map(|n| scale.value(n)));
                }
                values
            }
            _ if width == 1 => return Err("number samples are given as 'values'".into()),
            _ => return Err("samples of several numbers are given as 'rows'".into()),
        };
        let rate: FrameRate = file.rate.parse().map_err(|error| format!("{error}"))?;
        let samples = ctl::Samples { start: self.time(&file.start)?, rate, kind: sample_kind, values };
        if !samples.is_empty() && samples.time(samples.len() - 1).0.unsigned_abs() > MAX_TICKS as u64 {
            return Err("the samples reach more than 36 days from frame 0".into());
        }
        Ok(samples)
    }
}
