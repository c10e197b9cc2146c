//! What tells whether something was changed since.

use std::collections::BTreeMap;

use nimble_curve_core::controller::{Controller, TcbKeys};
use nimble_curve_core::curve::{Behaviour, Curve, Interpolation, Ticks};
use nimble_curve_core::rig::OpValue;
use nimble_curve_core::scene::{Scene, Take, Track};

use super::{Keys, channel};

/// The prints of all rest transforms, by the keys of their nodes.
pub(super) fn rest_prints(scene: &Scene, keys: &Keys) -> BTreeMap<String, String> {
    let mut prints = BTreeMap::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        for (id, node) in rig.nodes() {
            let mut print = Fingerprint::new();
            if let Some(parent) = rig.parent(id) {
                print.text(&keys[&(index, parent)]);
            }
            for op in &node.transform {
                print.text(&op.name);
                print.step(&op.value);
            }
            prints.insert(keys[&(index, id)].clone(), print.done());
        }
    }
    prints
}

/// The prints of all tracks, by the keys of their channels.
pub(super) fn track_prints(take: &Take, keys: &Keys) -> BTreeMap<String, String> {
    let print = |track: &Track| {
        let mut print = Fingerprint::new();
        print.controller(&track.controller);
        (channel(keys, (track.target.rig, track.target.node), &track.target.property), print.done())
    };
    take.tracks().map(|(_, track)| print(track)).collect()
}

/// A fingerprint: FNV-1a over numbers in single precision, which is what formats keep.
pub(super) struct Fingerprint(u64);

impl Fingerprint {
    pub(super) fn new() -> Fingerprint {
        Fingerprint(0xcbf2_9ce4_8422_2325)
    }

    pub(super) fn done(self) -> String {
        format!("{:016x}", self.0)
    }

    pub(super) fn bytes(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.0 = (self.0 ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }

    pub(super) fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
        self.bytes(&[0]);
    }

    pub(super) fn number(&mut self, number: f64) {
        // Zero has two signs and one print.
        self.bytes(&(number as f32 + 0.0).to_bits().to_le_bytes());
    }

    pub(super) fn numbers(&mut self, numbers: &[f64]) {
        numbers.iter().for_each(|&number| self.number(number));
    }

    pub(super) fn time(&mut self, time: Ticks) {
        self.number(time.seconds());
    }

    pub(super) fn step(&mut self, value: &OpValue) {
        match value {
            OpValue::Translate(v) | OpValue::Scale(v) | OpValue::Shear(v) => self.numbers(&v.to_array()),
            OpValue::RotateAxis { axis, angle } => {
                self.numbers(&axis.to_array());
                self.number(*angle);
            }
            OpValue::Rotate { order, angles } => {
                self.text(order.name());
                self.numbers(&angles.to_array());
            }
            OpValue::Orient(q) => self.numbers(&q.to_array()),
            OpValue::Matrix(m) => self.numbers(&m.to_cols_array()),
        }
    }

    pub(super) fn behaviour(&mut self, behaviour: Behaviour) {
        self.text(&format!("{behaviour:?}"));
    }

    pub(super) fn curve(&mut self, curve: &Curve) {
        // Tangents count beside cubics alone: what others keep of them elsewhere is theirs.
        let mut arrives = false;
        for key in curve.keys() {
            self.time(key.time);
            self.number(key.value);
            self.number(key.left_value());
            self.bytes(&[key.interpolation as u8]);
            let leaves = key.interpolation == Interpolation::Cubic;
            for (counts, tangent) in [(arrives, key.tangent_in), (leaves, key.tangent_out)] {
                if counts {
                    self.number(tangent.slope_per_second());
                    self.number(tangent.length().unwrap_or(-1.0));
                }
            }
            arrives = leaves;
        }
        self.behaviour(curve.before);
        self.behaviour(curve.after);
        self.bytes(b"|");
    }

    pub(super) fn controller(&mut self, controller: &Controller) {
        self.text(controller.type_name());
        match controller {
            Controller::Constant(value) => match value.numbers() {
                Some(numbers) => self.numbers(&numbers),
                None => self.text(&format!("{value:?}")),
            },
            Controller::Components(curves) => curves.iter().for_each(|curve| self.curve(curve)),
            Controller::Euler(euler) => {
                self.text(euler.order.name());
                euler.curves.iter().for_each(|curve| self.curve(curve));
            }
            Controller::Quaternion(curve) => {
                for key in &curve.keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.bytes(&[key.interpolation as u8]);
                    self.numbers(&key.tangent_in.to_array());
                    self.numbers(&key.tangent_out.to_array());
                }
                self.behaviour(curve.before);
                self.behaviour(curve.after);
            }
            Controller::Tcb(curve) => self.tcb(&curve.keys),
            Controller::Discrete(curve) => {
                for (time, value) in curve.keys() {
                    self.time(*time);
                    self.text(&format!("{value:?}"));
                }
            }
            Controller::Samples(samples) => {
                self.time(samples.start);
                self.number(samples.rate.fps());
                self.numbers(&samples.values);
            }
            Controller::Stack(entries) => entries.iter().for_each(|entry| self.controller(&entry.controller)),
            Controller::Procedural(procedural) => self.text(&procedural.text),
        }
    }

    pub(super) fn tcb(&mut self, keys: &TcbKeys) {
        match keys {
            TcbKeys::Number(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&[
                        key.value,
                        key.tension,
                        key.continuity,
                        key.bias,
                        key.ease_in,
                        key.ease_out,
                    ]);
                }
            }
            TcbKeys::Vector(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.numbers(&[key.tension, key.continuity, key.bias, key.ease_in, key.ease_out]);
                }
            }
            TcbKeys::Rotation(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.numbers(&[key.tension, key.continuity, key.bias, key.ease_in, key.ease_out]);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use nimble_curve_core::curve::Discrete;
    use nimble_curve_core::value::Value;

    use super::*;

    #[test]
    fn each_change_of_a_constant_is_told() {
        let values = [
            Value::Number(1.0),
            Value::Number(2.0),
            Value::Discrete(Discrete::Switch(true)),
            Value::Discrete(Discrete::Switch(false)),
            Value::Discrete(Discrete::Choice("left".to_owned())),
            Value::Discrete(Discrete::Choice("right".to_owned())),
        ];
        let print = |value: &Value| {
            let mut print = Fingerprint::new();
            print.controller(&Controller::Constant(value.clone()));
            print.done()
        };
        let prints: std::collections::BTreeSet<String> = values.iter().map(print).collect();
        assert_eq!(prints.len(), values.len());
    }
}
