//! Every finding: a scene that has it, at its place, and one that does not.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Quantity;
use nimble_curve_ops::adapt::{Capabilities, Rotations};
use nimble_curve_ops::check::{CheckOptions, Code, Finding, Severity, check};
use nimble_curve_ops::profile::{Case, NameRules, Profile};
use nimble_curve_scene::constraint::{
    Constraint, ConstraintKind, EndTurn, Limb, Offset, Roll, RollAxes, Setting, Source, StretchBy, Towards,
};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionKey, SampleKind, Samples, StackEntry, Weight,
};
use nimble_curve_scene::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig, TransformOp};
use nimble_curve_scene::scene::{Clip, Layer, LayerMode, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::dice::Dice;

const RATE: FrameRate = FrameRate::FPS_24;

fn at(frame: f64) -> Ticks {
    RATE.ticks_at(frame)
}

fn curve(points: &[(f64, f64)]) -> Curve {
    let key =
        |&(frame, value): &(f64, f64)| Key::new(at(frame), value).with_interpolation(Interpolation::Linear);
    Curve::new(points.iter().map(key).collect()).unwrap()
}

fn euler(axis: usize, degrees: &[(f64, f64)]) -> Controller {
    let radians: Vec<(f64, f64)> = degrees.iter().map(|&(f, v)| (f, v.to_radians())).collect();
    let mut curves = [Curve::default(), Curve::default(), Curve::default()];
    curves[axis] = curve(&radians);
    Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves })
}

/// Repeats a sample so often.
fn hold(samples: &mut [f64], from: usize, often: usize) {
    let value = samples[from];
    samples[from..=from + often].fill(value);
}

/// A figure of eleven joints, 1.7 m tall, that nods and waves while its feet stand.
struct Figure {
    scene: Scene,
    ids: HashMap<&'static str, NodeId>,
}

impl Figure {
    fn new() -> Figure {
        let mut rig = Rig::new("figure");
        let mut ids = HashMap::new();
        for (name, parent, place) in [
            ("root", None, [0.0, 0.0, 0.0]),
            ("hips", Some("root"), [0.0, 0.9, 0.0]),
            ("spine", Some("hips"), [0.0, 0.3, 0.0]),
            ("head", Some("spine"), [0.0, 0.3, 0.0]),
            ("arm_l", Some("spine"), [0.2, 0.2, 0.0]),
            ("hand_l", Some("arm_l"), [0.5, 0.0, 0.0]),
            ("thigh_l", Some("hips"), [0.1, 0.0, 0.0]),
            ("shin_l", Some("thigh_l"), [0.0, -0.45, 0.0]),
            ("foot_l", Some("shin_l"), [0.0, -0.4, 0.0]),
            ("tip", Some("head"), [0.0, 0.2, 0.0]),
            ("tail", Some("hips"), [0.0, 0.0, -0.3]),
            ("tail_2", Some("tail"), [0.0, 0.0, -0.3]),
        ] {
            let kind = match name {
                "root" => NodeKind::Root,
                "tip" => NodeKind::End,
                _ => NodeKind::Joint,
            };
            let node = Node::new(name, kind, DVec3::from_array(place), RotationOrder::Xyz);
            ids.insert(name, rig.add(parent.map(|p: &str| ids[p]), node).unwrap());
        }
        let take = Take {
            name: "wave".into(),
            folder: None,
            range: TimeRange::new(at(1.0), at(48.0)),
            clips: vec![Clip { name: "up".into(), range: TimeRange::new(at(1.0), at(24.0)), note: None }],
            markers: Vec::new(),
            layers: vec![Layer::base(Vec::new())],
        };
        let scene = Scene {
            rate: RATE,
            space: Space::METRES_Y_UP,
            rigs: vec![rig],
            sets: Vec::new(),
            constraints: Vec::new(),
            takes: vec![take],
        };
        let mut figure = Figure { scene, ids };
        figure.drive("head", "rotation", euler(0, &[(1.0, 0.0), (20.0, 20.0), (48.0, -15.0)]));
        figure.drive("arm_l", "rotation", euler(2, &[(1.0, -60.0), (24.0, 70.0), (48.0, 30.0)]));
        figure
    }

    fn node(&mut self, name: &str) -> &mut Node {
        let id = self.ids[name];
        self.scene.rigs[0].node_mut(id).unwrap()
    }

    fn take(&mut self) -> &mut Take {
        &mut self.scene.takes[0]
    }

    fn drive(&mut self, name: &str, property: &str, controller: Controller) {
        let target = Target { rig: 0, node: self.ids[name], property: property.into() };
        let tracks = &mut self.scene.takes[0].layers[0].tracks;
        tracks.retain(|track| track.target != target);
        tracks.push(Track { target, controller });
    }

    fn slide(&mut self, points: &[(f64, f64)]) {
        let still = |value| curve(&[(1.0, value)]);
        self.drive(
            "hips",
            "translation",
            Controller::Components(vec![curve(points), still(0.9), still(0.0)]),
        );
    }

    /// Hips at a height, which sway.
    fn raised(&mut self, height: f64) {
        let curves = vec![curve(&[(1.0, 0.0), (48.0, 0.001)]), curve(&[(1.0, height)]), curve(&[(1.0, 0.0)])];
        self.drive("hips", "translation", Controller::Components(curves));
    }

    /// A node that turns as sensors see it, and what befalls its samples, the first at frame 1.
    fn sensed(&mut self, name: &str, befall: impl Fn(&mut [f64])) {
        let mut dice = Dice(1);
        let count = 240;
        let mut samples: Vec<f64> =
            (0..count).map(|index| 0.01 * f64::from(index) + dice.between(-0.002, 0.002)).collect();
        befall(&mut samples);
        let kind = SampleKind::Euler(RotationOrder::Xyz);
        let values = samples.into_iter().flat_map(|angle| [angle, 0.0, 0.0]).collect();
        self.take().range.last = at(f64::from(count));
        self.drive(
            name,
            "rotation",
            Controller::Samples(Samples { start: at(1.0), rate: RATE, kind, values }),
        );
    }

    /// Hips that stand, and are elsewhere from frame 21 on; with clips.
    fn jumping(&mut self, far: f64, clips: &[(i64, i64)]) {
        let there = curve(&[(1.0, 0.0), (20.0, 0.0), (21.0, far), (48.0, far)]);
        let curves = vec![curve(&[(1.0, 0.0)]), curve(&[(1.0, 0.9)]), there];
        self.drive("hips", "translation", Controller::Components(curves));
        let rate = self.scene.rate;
        if !clips.is_empty() {
            self.scene.takes[0].clips.clear();
        }
        self.scene.takes[0].clips.extend(clips.iter().enumerate().map(|(index, (first, last))| Clip {
            name: format!("part {index}"),
            range: TimeRange::new(rate.ticks(*first), rate.ticks(*last)),
            note: None,
        }));
    }

    /// A leg that reaches for a goal at some height, its knee towards a pole, with a weight that an attribute holds.
    fn legged(&mut self, height: f64, pole: [f64; 3], weight: f64) {
        let mut control = |name: &'static str, place: [f64; 3]| {
            let mut node = Node::new(name, NodeKind::Control, DVec3::from_array(place), RotationOrder::Xyz);
            let kind =
                AttributeKind::Number { default: weight, min: None, max: None, quantity: Quantity::Number };
            node.attributes = vec![Attribute { name: "ik".into(), kind }];
            let id = self.scene.rigs[0].add(None, node).unwrap();
            self.ids.insert(name, id);
            id
        };
        let (sole, knee) = (control("sole", [0.1, height, 0.0]), control("knee", pole));
        let full = Setting::Constant(1.0);
        let offset = Offset { position: DVec3::ZERO, turn: glam::DQuat::IDENTITY, scale: DVec3::ONE };
        let limb = Limb {
            lower: (0, self.ids["shin_l"]),
            end: (0, self.ids["foot_l"]),
            goal: Source { node: (0, sole), weight: full.clone(), offset: Some(offset) },
            pole: Some(Towards::Node((0, knee))),
            bends_other: false,
            hinge: None,
            stretch: Setting::Constant(0.0),
            stretch_by: StretchBy::Translation,
            slack: 0.0,
            end_turn: EndTurn::Goal,
            twist: Setting::Constant(0.0),
            lengths: [full.clone(), full],
        };
        let weight = match weight {
            1.0 => Setting::Constant(1.0),
            _ => Setting::Attribute(Target::new(0, sole, "ik")),
        };
        self.scene.constraints.push(Constraint {
            name: "leg".into(),
            node: (0, self.ids["thigh_l"]),
            weight,
            kind: ConstraintKind::Limb(Box::new(limb)),
        });
    }

    /// The tail rolls with a shin that turns so far until its last frame.
    fn rolled(&mut self, degrees: f64) {
        self.drive("shin_l", "rotation", euler(0, &[(1.0, 0.0), (47.0, 0.0), (48.0, degrees)]));
        let roll = Roll {
            source: (0, self.ids["shin_l"]),
            fraction: Setting::Constant(0.5),
            axes: Some(RollAxes::both(DVec3::X)),
        };
        self.scene.constraints.push(Constraint {
            name: "twist".into(),
            node: (0, self.ids["tail"]),
            weight: Setting::Constant(1.0),
            kind: ConstraintKind::Roll(roll),
        });
    }

    /// The same leg with a goal below its reach, on or off by a switch.
    fn switched(&mut self, on: bool) {
        self.legged(0.04, [0.1, 0.5, 1.0], 1.0);
        let kind = AttributeKind::Switch { default: on };
        self.node("sole").attributes = vec![Attribute { name: "on".into(), kind }];
        let target = Target::new(0, self.ids["sole"], "on");
        self.scene.constraints[0].weight = Setting::Attribute(target);
    }

    fn scaled(&mut self, name: &str, scale: [f64; 3]) {
        let value = OpValue::Scale(DVec3::from_array(scale));
        let node = self.node(name);
        node.transform.retain(|op| op.name != "scale");
        node.transform.push(TransformOp { name: "scale".into(), value, inverse: false });
    }

    fn layer(&mut self, name: &str, weight: f64) -> &mut Layer {
        let target = Target { rig: 0, node: self.ids["tail"], property: "rotation".into() };
        let controller = euler(1, &[(1.0, 0.0), (48.0, 10.0)]);
        let layer = Layer {
            name: name.into(),
            mode: LayerMode::Additive,
            weight: Weight::Constant(weight),
            ..Layer::base(vec![Track { target, controller }])
        };
        let layers = &mut self.scene.takes[0].layers;
        layers.push(layer);
        layers.last_mut().unwrap()
    }

    fn attribute(&mut self, max: f64) {
        self.node("head").attributes = vec![Attribute {
            name: "smile".into(),
            kind: AttributeKind::Number {
                default: 0.0,
                min: Some(0.0),
                max: Some(max),
                quantity: Quantity::Number,
            },
        }];
        self.drive(
            "head",
            "smile",
            Controller::Components(vec![curve(&[(1.0, 0.0), (30.0, 0.8), (48.0, 0.1)])]),
        );
    }
}

fn found(figure: &Figure, options: &CheckOptions<'_>) -> Vec<Finding> {
    check(&figure.scene, options).unwrap()
}

type Change = fn(&mut Figure);

/// What is found and where, after what is done to the figure; and a second change that comes close and is none.
type Trial = (Code, &'static str, Option<(f64, f64)>, Change, Change);

#[test]
fn each_fault_is_found_at_its_place_and_nothing_else_is() {
    let cases: &[Trial] = &[
        (
            Code::Flip,
            "tail:rotation",
            Some((11.0, 11.0)),
            |f| {
                f.drive(
                    "tail",
                    "rotation",
                    euler(0, &[(1.0, 165.0), (10.0, 179.0), (11.0, -179.0), (48.0, -150.0)]),
                )
            },
            |f| {
                f.drive(
                    "tail",
                    "rotation",
                    euler(0, &[(1.0, 165.0), (10.0, 179.0), (11.0, 181.0), (48.0, 210.0)]),
                )
            },
        ),
        (
            Code::LongWay,
            "tail:rotation",
            Some((20.0, 30.0)),
            |f| {
                f.drive(
                    "tail",
                    "rotation",
                    euler(0, &[(1.0, 150.0), (20.0, 170.0), (30.0, -170.0), (48.0, -150.0)]),
                )
            },
            // A wheel turns on at one pace.
            |f| {
                f.drive(
                    "tail",
                    "rotation",
                    euler(0, &[(1.0, 0.0), (20.0, 340.0), (30.0, 520.0), (48.0, 840.0)]),
                )
            },
        ),
        (
            Code::NegativeScale,
            "tail",
            None,
            |f| f.scaled("tail", [1.0, -1.0, 1.0]),
            |f| f.scaled("tail", [1.0, 1.0, 1.0]),
        ),
        (
            Code::UnevenScale,
            "tail:scale",
            Some((48.0, 48.0)),
            |f| {
                let [one, more] = [curve(&[(1.0, 1.0)]), curve(&[(1.0, 1.0), (48.0, 1.5)])];
                f.drive("tail", "scale", Controller::Components(vec![one.clone(), more, one]));
            },
            |f| {
                let more = curve(&[(1.0, 1.0), (48.0, 1.5)]);
                f.drive("tail", "scale", Controller::Components(vec![more.clone(), more.clone(), more]));
            },
        ),
        (
            Code::RestScale,
            "head",
            None,
            |f| f.scaled("head", [1.01, 1.01, 1.01]),
            |f| f.scaled("head", [1.0 + 1e-9, 1.0, 1.0]),
        ),
        (
            Code::KeysOutsideRange,
            "tail:rotation",
            Some((1.0, 49.0)),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (40.0, 9.0), (49.0, 30.0)])),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (40.0, 9.0), (48.0, 30.0)])),
        ),
        (
            Code::RangePastKeys,
            "wave",
            Some((48.0, 60.0)),
            |f| f.take().range.last = at(60.0),
            |f| {
                f.take().range.last = at(60.0);
                f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (60.0, 9.0)]));
            },
        ),
        (
            Code::ClipOutsideTake,
            "up",
            Some((1.0, 50.0)),
            |f| f.take().clips[0].range.last = at(50.0),
            |f| f.take().clips[0].range.last = at(48.0),
        ),
        (
            Code::EmptyTake,
            "blank",
            None,
            |f| {
                let mut blank = f.scene.takes[0].clone();
                (blank.name, blank.layers[0].tracks) = ("blank".into(), Vec::new());
                f.scene.takes.push(blank);
            },
            |f| {
                let mut other = f.scene.takes[0].clone();
                other.name = "other".into();
                f.scene.takes.push(other);
            },
        ),
        (
            Code::SameName,
            "wave",
            None,
            |f| f.scene.takes.push(f.scene.takes[0].clone()),
            |f| {
                let mut other = f.scene.takes[0].clone();
                other.folder = Some("drafts".into());
                f.scene.takes.push(other);
            },
        ),
        (
            Code::CrowdedKeys,
            "tail_2:rotation",
            Some((20.0, 20.0)),
            |f| f.drive("tail_2", "rotation", euler(0, &[(1.0, 0.0), (19.6, 2.0), (20.0, 9.0), (48.0, 1.0)])),
            |f| f.drive("tail_2", "rotation", euler(0, &[(1.0, 0.0), (19.0, 2.0), (20.0, 9.0), (48.0, 1.0)])),
        ),
        (
            Code::OffFrameKeys,
            "tail:rotation",
            Some((20.5, 20.5)),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (20.5, 9.0), (48.0, 1.0)])),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (20.0, 9.0), (48.0, 1.0)])),
        ),
        (
            Code::Baked,
            "tail:rotation",
            None,
            |f| {
                let keys: Vec<(f64, f64)> =
                    (1..=48).map(|f| (f64::from(f), 20.0 * (f64::from(f) * 0.4).sin())).collect();
                f.drive("tail", "rotation", euler(0, &keys));
            },
            |f| {
                let keys: Vec<(f64, f64)> = (0..=15)
                    .map(|f| (1.0 + 3.0 * f64::from(f), 20.0 * (f64::from(f) * 0.4).sin()))
                    .chain([(48.0, 3.0)])
                    .collect();
                f.drive("tail", "rotation", euler(0, &keys));
            },
        ),
        (
            Code::StillChannel,
            "tail:rotation",
            None,
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 5.0), (48.0, 5.0)])),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 5.0), (48.0, 5.1)])),
        ),
        (
            Code::NearGimbalLock,
            "tail:rotation",
            Some((24.0, 25.0)),
            |f| {
                let mut both = euler(1, &[(1.0, 40.0), (24.0, 89.0), (48.0, 42.0)]);
                if let Controller::Euler(euler) = &mut both {
                    euler.curves[0] = curve(&[(1.0, 0.0), (48.0, 0.5)]);
                }
                f.drive("tail", "rotation", both);
            },
            // About one axis alone there is no pole.
            |f| f.drive("tail", "rotation", euler(1, &[(1.0, 40.0), (24.0, 89.0), (48.0, 42.0)])),
        ),
        (
            Code::SlidingFoot,
            "foot_l",
            Some((1.0, 48.0)),
            |f| f.slide(&[(1.0, 0.0), (48.0, 0.06)]),
            |f| f.slide(&[(1.0, 0.0), (48.0, 0.004)]),
        ),
        // On legs of 0.85 m.
        (Code::Jump, "hips", Some((20.0, 21.0)), |f| f.jumping(0.13, &[]), |f| f.jumping(0.12, &[])),
        (
            Code::Jump,
            "hips",
            Some((20.0, 21.0)),
            |f| f.jumping(0.3, &[(1, 25)]),
            |f| f.jumping(0.3, &[(21, 48)]),
        ),
        (
            Code::Spike,
            "tail:rotation",
            Some((20.0, 20.0)),
            |f| f.sensed("tail", |samples| samples[19] += 0.1),
            |f| f.sensed("tail", |samples| samples[19] += 0.01),
        ),
        (
            Code::Dropout,
            "tail:rotation",
            Some((15.0, 22.0)),
            |f| f.sensed("tail", |samples| hold(samples, 13, 8)),
            |f| f.sensed("tail", |samples| hold(samples, 13, 1)),
        ),
        (Code::OffGround, "hips", None, |f| f.raised(1.03), |f| f.raised(1.01)),
        (Code::OffGround, "hips", None, |f| f.raised(0.75), |f| f.raised(0.78)),
        (
            Code::SilentLayer,
            "old",
            None,
            |f| f.layer("old", 1.0).muted = true,
            |f| f.layer("old", 1.0).muted = false,
        ),
        (
            Code::PartialWeight,
            "soft",
            None,
            |f| {
                f.layer("soft", 0.9);
            },
            |f| {
                f.layer("soft", 1.0);
            },
        ),
        (
            Code::PartialWeight,
            "half",
            None,
            |f| {
                let entry = StackEntry {
                    name: "half".into(),
                    weight: Weight::Constant(0.5),
                    controller: euler(0, &[(1.0, 0.0), (48.0, 9.0)]),
                };
                f.drive("tail", "rotation", Controller::Stack(vec![entry]));
            },
            |f| {
                let entry = StackEntry {
                    name: "kept".into(),
                    weight: Weight::Constant(0.0),
                    controller: euler(0, &[(1.0, 0.0), (48.0, 9.0)]),
                };
                f.drive("tail", "rotation", Controller::Stack(vec![entry]));
            },
        ),
        (Code::BeyondLimits, "head:smile", Some((30.0, 30.0)), |f| f.attribute(0.79), |f| f.attribute(0.8)),
        (
            Code::DrivenKeys,
            "shin_l:rotation",
            None,
            |f| {
                f.legged(0.06, [0.1, 0.5, 1.0], 1.0);
                f.drive("shin_l", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)]));
            },
            |f| {
                f.legged(0.06, [0.1, 0.5, 1.0], 0.999);
                f.drive("shin_l", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)]));
            },
        ),
        // The leg is 0.85 m long, from hips at 0.9 m.
        (
            Code::OutOfReach,
            "thigh_l",
            Some((1.0, 48.0)),
            |f| f.legged(0.04, [0.1, 0.5, 1.0], 1.0),
            |f| f.legged(0.0501, [0.1, 0.5, 1.0], 1.0),
        ),
        // A limb that is switched off reaches for nothing.
        (Code::OutOfReach, "thigh_l", Some((1.0, 48.0)), |f| f.switched(true), |f| f.switched(false)),
        (
            Code::PoleOnLine,
            "thigh_l",
            Some((1.0, 48.0)),
            |f| f.legged(0.07, [0.1, -1.0, 0.05], 1.0),
            |f| f.legged(0.07, [0.1, -1.0, 0.2], 1.0),
        ),
        (Code::RollFar, "tail", Some((48.0, 48.0)), |f| f.rolled(151.0), |f| f.rolled(149.0)),
        (
            Code::HalfSwitch,
            "thigh_l",
            Some((1.0, 48.0)),
            |f| f.legged(0.07, [0.1, 0.5, 1.0], 0.5),
            |f| f.legged(0.07, [0.1, 0.5, 1.0], 0.9999),
        ),
        (
            Code::LockedMoves,
            "tail:rotation",
            None,
            |f| {
                f.node("tail").locked = vec!["rotation.x".into()];
                f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)]));
            },
            |f| {
                f.node("tail").locked = vec!["rotation.y".into()];
                f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)]));
            },
        ),
        (
            Code::UnitScale,
            "figure",
            None,
            |f| f.scene.space.metres_per_unit = 0.01,
            |f| f.scene.space.metres_per_unit = 0.1,
        ),
        (
            Code::SameName,
            "figure/root/hips/tail",
            None,
            |f| f.node("tail_2").name = "tail".into(),
            |f| f.node("tail_2").name = "Tail".into(),
        ),
        (
            Code::LeftoverName,
            "old:tail",
            None,
            |f| f.node("tail").name = "old:tail".into(),
            |f| {
                for name in ["root", "hips", "spine", "head", "arm_l", "hand_l"] {
                    f.node(name).name = format!("figure:{name}");
                }
                for name in ["thigh_l", "shin_l", "foot_l", "tip", "tail", "tail_2"] {
                    f.node(name).name = format!("figure:{name}");
                }
            },
        ),
        (
            Code::LeftoverName,
            "tail_wave",
            None,
            |f| f.node("tail").name = "tail_wave".into(),
            |f| f.node("tail").name = "tail_waves".into(),
        ),
        (
            Code::NoRoot,
            "hips",
            None,
            |f| {
                // A figure whose hips are the top, and which walks away fast.
                let mut rig = Rig::new("figure");
                let node = |name: &str| {
                    Node::new(name, NodeKind::Joint, DVec3::new(0.0, 0.9, 0.0), RotationOrder::Xyz)
                };
                let hips = rig.add(None, node("hips")).unwrap();
                rig.add(Some(hips), node("spine")).unwrap();
                f.scene.rigs = vec![rig];
                f.ids = HashMap::from([("hips", hips)]);
                f.take().layers[0].tracks.clear();
                f.slide(&[(1.0, 0.0), (48.0, 2.0)]);
            },
            |f| f.slide(&[(1.0, 0.0), (48.0, 2.0)]),
        ),
        (
            Code::LocatorMoves,
            "tip:rotation",
            None,
            |f| f.drive("tip", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)])),
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)])),
        ),
        (
            Code::NearlyLoops,
            "wave",
            Some((1.0, 48.0)),
            |f| {
                f.drive("head", "rotation", euler(0, &[(1.0, 0.0), (20.0, 20.0), (48.0, 0.5)]));
                f.drive("arm_l", "rotation", euler(2, &[(1.0, -60.0), (24.0, 70.0), (48.0, -59.0)]));
            },
            |f| {
                f.drive("head", "rotation", euler(0, &[(1.0, 0.0), (20.0, 20.0), (48.0, 0.0)]));
                f.drive("arm_l", "rotation", euler(2, &[(1.0, -60.0), (24.0, 70.0), (48.0, -60.0)]));
            },
        ),
        (
            Code::NotANumber,
            "tail:rotation",
            None,
            |f| {
                let key = |frame, x: f64| QuaternionKey {
                    time: at(frame),
                    value: glam::DQuat::from_xyzw(x, 0.0, 0.0, 1.0),
                    interpolation: Default::default(),
                    tangent_in: glam::DVec4::ZERO,
                    tangent_out: glam::DVec4::ZERO,
                };
                let keys = vec![key(1.0, 0.0), key(48.0, f64::NAN)];
                f.drive(
                    "tail",
                    "rotation",
                    Controller::Quaternion(QuaternionCurve { keys, ..Default::default() }),
                );
            },
            |f| f.drive("tail", "rotation", euler(0, &[(1.0, 0.0), (48.0, 9.0)])),
        ),
        (Code::UnevenParts, "tail:rotation", Some((1.0, 40.0)), |f| samples(f, 40), |f| samples(f, 48)),
        (Code::UnevenParts, "parcel", Some((5.0, 48.0)), |f| parcel(f, 5.0), |f| parcel(f, 1.0)),
    ];
    let clean = found(&Figure::new(), &CheckOptions::default());
    assert!(clean.is_empty(), "the figure itself: {clean:?}");
    let mut untold: Vec<Code> = Code::ALL.to_vec();
    for (code, place, frames, fault, none) in cases {
        let mut figure = Figure::new();
        fault(&mut figure);
        let all = found(&figure, &CheckOptions::default());
        let own: Vec<&Finding> = all.iter().filter(|finding| finding.code == *code).collect();
        let [one] = own.as_slice() else { panic!("{code:?} at {place}: {all:?}") };
        assert_eq!((one.place.as_str(), one.frames), (*place, *frames), "{code:?}");
        let also = [Code::OffFrameKeys, Code::Baked, Code::SlidingFoot, Code::UnitScale];
        let stray: Vec<&Finding> =
            all.iter().filter(|other| other.code != *code && !also.contains(&other.code)).collect();
        assert!(stray.is_empty(), "{code:?} brings others along: {stray:?}");
        let mut figure = Figure::new();
        none(&mut figure);
        let all = found(&figure, &CheckOptions::default());
        assert!(!all.iter().any(|finding| finding.code == *code), "{code:?} where there is none: {all:?}");
        untold.retain(|own| own != code);
    }
    // With a target, a profile, or a file; each has a test of its own below.
    let elsewhere = [
        Code::NotOnRig,
        Code::NotToStandard,
        Code::FirstFrame,
        Code::NameNotAllowed,
        Code::OtherRest,
        Code::NotInProfile,
    ];
    assert_eq!(untold, elsewhere, "findings without a case");
}

/// The figure's tail and second tail as samples, the first one of so many frames.
fn samples(figure: &mut Figure, frames: usize) {
    for (name, count) in [("tail", frames), ("tail_2", 48)] {
        let values = (0..count * 3).map(|index| (index as f64 * 0.3).sin() * 0.2).collect();
        let kind = SampleKind::Euler(RotationOrder::Xyz);
        let samples = Samples { start: at(1.0), rate: RATE, kind, values };
        figure.drive(name, "rotation", Controller::Samples(samples));
    }
}

/// A second rig whose keys start at a frame.
fn parcel(figure: &mut Figure, first: f64) {
    let mut rig = Rig::new("parcel");
    let node = rig.add(None, Node::new("parcel", NodeKind::Root, DVec3::ZERO, RotationOrder::Xyz)).unwrap();
    figure.scene.rigs.push(rig);
    let target = Target { rig: 1, node, property: "rotation".into() };
    let controller = euler(0, &[(first, 0.0), (48.0, 20.0)]);
    figure.take().layers[0].tracks.push(Track { target, controller });
}

#[test]
fn a_target_rig_shows_what_it_lacks_and_how_it_rests() {
    let figure = Figure::new();
    let against = |rig: &Scene| found(&figure, &CheckOptions { rig: Some(rig), ..CheckOptions::default() });
    assert!(against(&figure.scene).is_empty());
    let place = |findings: &[Finding]| -> Vec<(Code, String)> {
        findings.iter().map(|finding| (finding.code, finding.place.clone())).collect()
    };
    let mut other = Figure::new();
    other.node("arm_l").name = "wing_l".into();
    assert_eq!(place(&against(&other.scene)), [(Code::NotOnRig, "arm_l".to_owned())]);
    let mut other = Figure::new();
    other.node("head").name = "figure:head".into();
    assert!(against(&other.scene).is_empty(), "a namespace does not matter");
    let mut other = Figure::new();
    other.node("head").locked = vec!["rotation".into()];
    assert_eq!(place(&against(&other.scene)), [(Code::LockedMoves, "head:rotation".to_owned())]);
    for value in [
        OpValue::Rotate { order: RotationOrder::Zyx, angles: DVec3::ZERO },
        OpValue::Rotate { order: RotationOrder::Xyz, angles: DVec3::new(0.2, 0.0, 0.0) },
    ] {
        let mut other = Figure::new();
        other.node("head").transform.iter_mut().find(|op| op.name == "rotation").unwrap().value = value;
        assert_eq!(place(&against(&other.scene)), [(Code::OtherRest, "head".to_owned())]);
    }
    let mut figure = Figure::new();
    figure.attribute(1.0);
    let mut other = Figure::new();
    other.attribute(0.5);
    let findings = found(&figure, &CheckOptions { rig: Some(&other.scene), ..CheckOptions::default() });
    assert_eq!(place(&findings), [(Code::BeyondLimits, "head:smile".to_owned())]);
}

#[test]
fn a_profile_says_where_takes_start_and_what_names_may_be() {
    let profile = Profile {
        name: "engine".into(),
        rate: None,
        metres_per_unit: None,
        up: None,
        first_frame: None,
        holds: Capabilities {
            layers: true,
            rotations: Rotations::Angles,
            weighted: true,
            outside: true,
            lists: true,
            inverses: true,
        },
        curves: true,
        orders: Vec::new(),
        names: NameRules { namespaces: true, ..NameRules::default() },
    };
    let mut figure = Figure::new();
    let with = |figure: &Figure, profile: &Profile| -> Vec<(Code, String)> {
        let findings = found(figure, &CheckOptions { profile: Some(profile), ..CheckOptions::default() });
        findings.into_iter().map(|finding| (finding.code, finding.place)).collect()
    };
    assert!(with(&figure, &profile).is_empty());
    assert!(with(&figure, &Profile { first_frame: Some(1), ..profile.clone() }).is_empty());
    let late = Profile { first_frame: Some(0), ..profile.clone() };
    assert_eq!(with(&figure, &late), [(Code::FirstFrame, "wave".to_owned())]);
    let upper = NameRules { case: Case::Upper, ..profile.names.clone() };
    assert_eq!(with(&figure, &Profile { names: upper, ..profile.clone() }).len(), figure.scene.rigs[0].len());
    let short = NameRules { length: Some(6), ..profile.names.clone() };
    let long: Vec<(Code, String)> = with(&figure, &Profile { names: short, ..profile.clone() });
    assert_eq!(long, [(Code::NameNotAllowed, "thigh_l".to_owned())]);
    for (changed, place) in [
        (Profile { rate: Some(FrameRate::FPS_30), ..profile.clone() }, "frame rate"),
        (Profile { metres_per_unit: Some(0.01), ..profile.clone() }, "unit"),
        (Profile { up: Some(nimble_curve_scene::space::UpAxis::Z), ..profile.clone() }, "up axis"),
    ] {
        assert_eq!(with(&figure, &changed), [(Code::NotInProfile, place.to_owned())]);
    }
    figure.layer("more", 1.0);
    let plain = Profile { holds: Capabilities { layers: false, ..profile.holds }, ..profile };
    assert_eq!(with(&figure, &plain), [(Code::NotInProfile, "layers".to_owned())]);
}

#[test]
fn what_a_reader_had_to_mend_is_found() {
    let figure = Figure::new();
    let mended = ["line 3: announces 5 frames, but 4 frames follow".to_owned()];
    let findings = found(&figure, &CheckOptions { mended: &mended, ..CheckOptions::default() });
    assert_eq!(
        findings.iter().map(|f| (f.code, f.detail.as_str())).collect::<Vec<_>>(),
        [(Code::NotToStandard, mended[0].as_str())]
    );
}

#[test]
fn codes_are_listed_from_the_worst_down() {
    let severities: Vec<Severity> = Code::ALL.iter().map(|code| code.severity()).collect();
    assert!(severities.is_sorted_by(|a, b| a >= b));
    let mut names: Vec<&str> = Code::ALL.iter().map(|code| code.name()).collect();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), Code::ALL.len());
}
