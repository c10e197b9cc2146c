//! Random scenes: everything that a scene may hold, in any combination.

use glam::{DMat4, DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind,
    Samples, StackEntry, TcbCurve, TcbKey, TcbKeys, Weight,
};
use nimble_curve_scene::rig::{
    Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig, ScaleInheritance, TransformOp,
};
use nimble_curve_scene::scene::{
    Clip, Layer, LayerMode, Marker, NodeSet, PropertyKind, RotationMixing, Scene, Take, Target, Track,
};
use nimble_curve_scene::space::{Handedness, Space, UpAxis};
use proptest::prelude::*;
use proptest::sample::select;

use super::{Handles, RATE, any_behaviour, any_curve};

/// What may be in a scene.
#[derive(Clone, Copy, Debug)]
pub struct Contents {
    /// Whether there are steps beside translation, rotation and scale.
    pub lists: bool,
    /// Whether there are controllers beside curves of components, angles and quaternions.
    pub all_controllers: bool,
    /// The most layers.
    pub layers: usize,
    /// Whether layers count in part: of rotations that part goes by how far round they have come.
    pub weights: bool,
    /// Whether handles may be weighted.
    pub handles: Handles,
    /// Whether curves go on outside their keys.
    pub outside: bool,
}

impl Contents {
    /// Everything.
    pub const ALL: Contents = Contents {
        lists: true,
        all_controllers: true,
        layers: 3,
        weights: true,
        handles: Handles::Any,
        outside: true,
    };
    /// One layer of plain curves on nodes as most have them.
    pub const SIMPLE: Contents = Contents {
        lists: false,
        all_controllers: false,
        layers: 1,
        weights: false,
        handles: Handles::Plain,
        outside: false,
    };
}

/// Only the first rig of a scene, its nodes with names of their own, and of its tracks those that are wanted.
pub fn alone(mut scene: Scene, is_wanted: impl Fn(&Rig, &Target) -> bool) -> Scene {
    scene.rigs.truncate(1);
    scene.sets.clear();
    let Scene { rigs, takes, .. } = &mut scene;
    for layer in takes.iter_mut().flat_map(|take| &mut take.layers) {
        layer.tracks.retain(|track| track.target.rig == 0 && is_wanted(&rigs[0], &track.target));
    }
    let ids: Vec<_> = rigs[0].nodes().map(|(id, _)| id).collect();
    for (index, id) in ids.into_iter().enumerate() {
        let node = rigs[0].node_mut(id).unwrap();
        node.name = format!("n{index}");
        node.locked.clear();
    }
    scene
}

pub fn any_vector(size: f64) -> impl Strategy<Value = DVec3> {
    (-size..size, -size..size, -size..size).prop_map(DVec3::from)
}

pub fn any_rotation() -> impl Strategy<Value = DQuat> {
    (any_vector(1.0), -3.0..3.0_f64)
        .prop_map(|(axis, angle)| DQuat::from_axis_angle(axis.try_normalize().unwrap_or(DVec3::Z), angle))
}

pub fn any_order() -> impl Strategy<Value = RotationOrder> {
    select(RotationOrder::ALL.to_vec())
}

fn any_scale() -> impl Strategy<Value = DVec3> {
    prop_oneof![2 => Just(DVec3::ONE), 1 => (0.5..2.0, 0.5..2.0, 0.5..2.0_f64).prop_map(DVec3::from)]
}

/// Names as people give them, which need not be the only ones of their kind.
fn any_name() -> impl Strategy<Value = String> {
    select(vec![
        "hips",
        "a:spine",
        "a:b:arm_l",
        "arm_l",
        "Tail 01",
        "nœud",
        "x\"y",
        "rad/achse",
        "0",
        "tail.end",
    ])
    .prop_map(str::to_owned)
}

fn any_space() -> impl Strategy<Value = Space> {
    let handedness = prop_oneof![4 => Just(Handedness::Right), 1 => Just(Handedness::Left)];
    (select(vec![1.0, 0.01, 0.0254]), select(vec![UpAxis::X, UpAxis::Y, UpAxis::Z]), handedness)
        .prop_map(|(metres_per_unit, up, handedness)| Space { metres_per_unit, up, handedness })
}

fn any_attribute() -> impl Strategy<Value = AttributeKind> {
    prop_oneof![
        4 => (-1.0..1.0_f64, prop::bool::ANY).prop_map(|(default, limited)| AttributeKind::Number {
            default,
            min: limited.then_some(-2.5),
            max: limited.then_some(2.5),
            quantity: Quantity::Number,
        }),
        1 => (-1.0..1.0_f64, select(vec![Quantity::Angle, Quantity::Length])).prop_map(|(default, quantity)| {
            AttributeKind::Number { default, min: None, max: None, quantity }
        }),
        1 => any_vector(2.0)
            .prop_map(|default| AttributeKind::Vector { default, quantity: Quantity::Number }),
        1 => prop::bool::ANY.prop_map(|default| AttributeKind::Switch { default }),
        1 => Just(AttributeKind::Choice {
            options: vec!["open".into(), "half shut".into()],
            default: "open".into(),
        }),
        1 => Just(AttributeKind::Text { default: "a, b; \"c\"".into() }),
    ]
}

/// The steps of a node's transform, with names that differ.
fn any_transform(lists: bool) -> impl Strategy<Value = Vec<TransformOp>> {
    let op = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
    let before = prop::option::weighted(0.3, any_rotation());
    let canonical = (
        any_vector(3.0),
        before,
        any_order(),
        any_vector(1.2),
        prop::option::weighted(0.2, any_rotation()),
        any_scale(),
    )
        .prop_map(move |(translation, before, order, angles, after, scale)| {
            let mut steps = vec![op("translation", OpValue::Translate(translation))];
            steps.extend(before.map(|before| op("before", OpValue::Orient(before))));
            steps.push(op("rotation", OpValue::Rotate { order, angles }));
            steps.extend(after.map(|after| op("after", OpValue::Orient(after))));
            steps.push(op("scale", OpValue::Scale(scale)));
            steps
        });
    if !lists {
        return canonical.boxed();
    }
    let quaternion = (any_vector(3.0), any_rotation()).prop_map(move |(translation, turn)| {
        vec![
            op("translation", OpValue::Translate(translation)),
            op("rotation", OpValue::Orient(turn)),
            op("scale", OpValue::Scale(DVec3::ONE)),
        ]
    });
    let pivot = (any_vector(3.0), any_vector(1.0), any_rotation(), -2.0..2.0_f64, any_vector(0.3)).prop_map(
        move |(translation, pivot, axis, angle, shear)| {
            let axis = axis * DVec3::X;
            vec![
                op("translation", OpValue::Translate(translation)),
                op("pivot", OpValue::Translate(pivot)),
                op("spin", OpValue::RotateAxis { axis, angle }),
                op("shear", OpValue::Shear(shear)),
                TransformOp { inverse: true, ..op("back", OpValue::Translate(pivot)) },
            ]
        },
    );
    let matrix =
        (any_vector(2.0), any_rotation(), any_scale()).prop_map(move |(translation, turn, scale)| {
            vec![op(
                "matrix",
                OpValue::Matrix(DMat4::from_scale_rotation_translation(scale, turn, translation)),
            )]
        });
    prop_oneof![5 => canonical, 1 => quaternion, 1 => pivot, 1 => matrix].boxed()
}

fn any_node(contents: Contents) -> impl Strategy<Value = Node> {
    let kind = select(vec![
        NodeKind::Joint,
        NodeKind::Control,
        NodeKind::End,
        NodeKind::Locator,
        NodeKind::Root,
        NodeKind::Other,
    ]);
    let locked = select(vec![vec![], vec![], vec!["scale"], vec!["rotation.x", "translation"]]);
    (
        any_name(),
        kind,
        any_transform(contents.lists),
        prop::bool::weighted(0.1),
        locked,
        prop::collection::vec(any_attribute(), 0..3),
    )
        .prop_map(|(name, kind, transform, keeps_size, locked, attributes)| Node {
            name,
            kind,
            transform,
            bind: None,
            inherits: if keeps_size { ScaleInheritance::PositionOnly } else { ScaleInheritance::Full },
            locked: locked.into_iter().map(str::to_owned).collect(),
            primary: keeps_size && kind == NodeKind::Control,
            attributes: attributes
                .into_iter()
                .enumerate()
                .map(|(index, kind)| Attribute { name: format!("attribute {index}"), kind })
                .collect(),
        })
}

fn any_rig(contents: Contents) -> impl Strategy<Value = Rig> {
    let nodes = prop::collection::vec((any_node(contents), any::<prop::sample::Index>()), 1..6);
    (select(vec!["otter", "a cart"]), nodes).prop_map(|(name, nodes)| {
        let mut rig = Rig::new(name);
        let mut ids: Vec<NodeId> = Vec::new();
        for (node, parent) in nodes {
            // One in so many stands at the top.
            let parent = ids.get(parent.index(ids.len() + 1)).copied();
            ids.push(rig.add(parent, node).unwrap());
        }
        rig
    })
}

/// A curve that is held outside, or goes on there.
fn component(contents: Contents) -> BoxedStrategy<Curve> {
    // A jump needs something to jump from.
    let curve = any_curve(contents.handles).prop_map(|curve| {
        let mut keys = curve.keys().to_vec();
        keys[0].value_before = None;
        Curve::new(keys).unwrap()
    });
    let some = if contents.outside {
        (curve, prop::option::weighted(0.2, (any_behaviour(), any_behaviour())))
            .prop_map(|(curve, outside)| match outside {
                Some((before, after)) => curve.with_behaviours(before, after),
                None => curve,
            })
            .boxed()
    } else {
        curve.boxed()
    };
    prop_oneof![6 => some, 1 => Just(Curve::default()), 1 => (-3.0..3.0_f64).prop_map(|v| Curve::constant(RATE.ticks(2), v))]
        .boxed()
}

/// Curves of factors, none of which reaches zero: powers of them have poles there.
fn factors() -> BoxedStrategy<Controller> {
    let way = select(vec![Interpolation::Linear, Interpolation::Hold]);
    let curve = prop::collection::vec((1..9_i64, 0.5..2.0_f64, way), 0..5).prop_map(|keys| {
        let mut frame = 0;
        let key = |(gap, value, way): (i64, f64, Interpolation)| {
            frame += gap;
            Key::new(RATE.ticks(frame), value).with_interpolation(way)
        };
        Curve::new(keys.into_iter().map(key).collect()).unwrap()
    });
    prop::collection::vec(curve, 3).prop_map(Controller::Components).boxed()
}

fn components(contents: Contents, count: usize) -> BoxedStrategy<Controller> {
    prop::collection::vec(component(contents), count).prop_map(Controller::Components).boxed()
}

/// Numbers, vectors or rotations with tension, continuity and bias; one slope outside means something for numbers only.
fn tcb<V: Clone + std::fmt::Debug + 'static>(
    value: impl Strategy<Value = V> + 'static,
    of: fn(Vec<TcbKey<V>>) -> TcbKeys,
) -> BoxedStrategy<Controller> {
    let key = (1..9_i64, value, any_vector(1.0), 0.0..1.0_f64, 0.0..1.0_f64);
    (prop::collection::vec(key, 1..6), any_behaviour())
        .prop_map(move |(keys, after)| {
            let mut frame = 0;
            let key = |(gap, value, shape, ease_in, ease_out): (i64, V, DVec3, f64, f64)| {
                frame += gap;
                let [tension, continuity, bias] = shape.to_array();
                // Both eases together fill a gap at most.
                TcbKey {
                    time: RATE.ticks(frame),
                    value,
                    tension,
                    continuity,
                    bias,
                    ease_in: 0.5 * ease_in,
                    ease_out: 0.5 * ease_out,
                }
            };
            let keys = of(keys.into_iter().map(key).collect());
            let after = match (after, &keys) {
                (Behaviour::Sloped(_), TcbKeys::Vector(_) | TcbKeys::Rotation(_)) => Behaviour::Held,
                (after, _) => after,
            };
            Controller::Tcb(TcbCurve { keys, before: Behaviour::Held, after })
        })
        .boxed()
}

fn samples(kind: SampleKind, row: impl Strategy<Value = Vec<f64>> + 'static) -> BoxedStrategy<Controller> {
    let rate = select(vec![FrameRate::FPS_24, FrameRate::FPS_120, FrameRate::new(30_000, 1001).unwrap()]);
    (-4..9_i64, rate, prop::collection::vec(row, 1..20))
        .prop_map(move |(start, rate, rows)| {
            let samples = Samples { start: RATE.ticks(start), rate, kind, values: rows.concat() };
            Controller::Samples(samples)
        })
        .boxed()
}

fn quaternions() -> BoxedStrategy<Controller> {
    let way = select(vec![
        QuaternionInterpolation::Step,
        QuaternionInterpolation::Slerp,
        QuaternionInterpolation::Squad,
        QuaternionInterpolation::Cubic,
    ]);
    let tangent = || (-2.0..2.0, -2.0..2.0, -2.0..2.0, -2.0..2.0_f64).prop_map(DVec4::from);
    let key = (1..9_i64, any_rotation(), tangent(), tangent());
    (way, prop::collection::vec(key, 1..6))
        .prop_map(|(interpolation, keys)| {
            let mut frame = -2;
            let key = |(gap, value, tangent_in, tangent_out): (i64, DQuat, DVec4, DVec4)| {
                frame += gap;
                QuaternionKey { time: RATE.ticks(frame), value, interpolation, tangent_in, tangent_out }
            };
            Controller::Quaternion(QuaternionCurve {
                keys: keys.into_iter().map(key).collect(),
                ..Default::default()
            })
        })
        .boxed()
}

fn discrete(default: &Discrete) -> BoxedStrategy<Controller> {
    let values = match default {
        Discrete::Switch(_) => vec![Discrete::Switch(true), Discrete::Switch(false)],
        Discrete::Choice(_) => vec![Discrete::Choice("open".into()), Discrete::Choice("half shut".into())],
        Discrete::Text(_) => vec![Discrete::Text(String::new()), Discrete::Text("näher".into())],
    };
    prop::collection::vec((1..9_i64, select(values)), 1..6)
        .prop_map(|keys| {
            let mut frame = 0;
            let key = |(gap, value): (i64, Discrete)| {
                frame += gap;
                (RATE.ticks(frame), value)
            };
            Controller::Discrete(DiscreteCurve::new(keys.into_iter().map(key).collect()).unwrap())
        })
        .boxed()
}

/// What drives a property of some kind.
fn any_controller(
    contents: Contents,
    kind: PropertyKind,
    rest: Option<&Discrete>,
) -> BoxedStrategy<Controller> {
    let row = |count: usize| prop::collection::vec(-3.0..3.0_f64, count);
    let plain = match kind {
        PropertyKind::Number(_) => components(contents, 1),
        PropertyKind::Vector(_) => components(contents, 3),
        PropertyKind::Scale => factors(),
        PropertyKind::Rotation => {
            // A few radians a second: between two frames a turn has one way to go.
            let curves = prop::array::uniform3(component(contents).prop_map(|curve| curve.affine(0.1, 0.0)));
            let angles = (any_order(), curves)
                .prop_map(|(order, curves)| Controller::Euler(EulerCurves { order, curves }));
            prop_oneof![3 => angles, 1 => quaternions()].boxed()
        }
        PropertyKind::Matrix => samples(
            SampleKind::Matrix,
            (any_vector(2.0), any_rotation()).prop_map(|(place, turn)| {
                DMat4::from_rotation_translation(turn, place).to_cols_array().to_vec()
            }),
        ),
        PropertyKind::Discrete => return discrete(rest.expect("it is discrete")),
    };
    if !contents.all_controllers {
        return plain;
    }
    let other = match kind {
        PropertyKind::Number(_) => prop_oneof![
            tcb(-3.0..3.0_f64, TcbKeys::Number),
            samples(SampleKind::Number, row(1)),
            (-3.0..3.0_f64).prop_map(|v| Controller::Constant(Value::Number(v))),
        ]
        .boxed(),
        PropertyKind::Scale => prop_oneof![
            samples(SampleKind::Vector, any_scale().prop_map(|scale| scale.to_array().to_vec())),
            any_scale().prop_map(|scale| Controller::Constant(Value::Vector(scale))),
        ]
        .boxed(),
        PropertyKind::Vector(_) => prop_oneof![
            tcb(any_vector(3.0), TcbKeys::Vector),
            samples(SampleKind::Vector, row(3)),
            any_vector(3.0).prop_map(|v| Controller::Constant(Value::Vector(v))),
        ]
        .boxed(),
        PropertyKind::Rotation => {
            let angles = any_order().prop_flat_map(move |order| samples(SampleKind::Euler(order), row(3)));
            let turns = samples(SampleKind::Quaternion, any_rotation().prop_map(|q| q.to_array().to_vec()));
            let constant = (any_order(), any_vector(3.0))
                .prop_map(|(order, angles)| Controller::Constant(Value::Euler { order, angles }));
            prop_oneof![tcb(any_rotation(), TcbKeys::Rotation), angles, turns, constant].boxed()
        }
        _ => return plain,
    };
    let stacked = (plain.clone(), plain.clone(), -1.0..1.0_f64).prop_map(|(first, second, weight)| {
        let entry = |name: &str, weight, controller| StackEntry {
            name: name.into(),
            weight: Weight::Constant(weight),
            controller,
        };
        Controller::Stack(vec![entry("one", 1.0, first), entry("two", weight, second)])
    });
    let procedural = other.clone().prop_map(|sampled| {
        Controller::Procedural(Procedural {
            kind: "expression".into(),
            text: "sin(t) * 2 \"quoted\"\nsecond line".into(),
            sampled: Some(Box::new(sampled)),
        })
    });
    prop_oneof![4 => plain, 3 => other, 1 => stacked, 1 => procedural].boxed()
}

/// Tracks on some of the properties of some rigs.
fn any_tracks(contents: Contents, rigs: &[Rig]) -> BoxedStrategy<Vec<Track>> {
    let mut all: Vec<BoxedStrategy<Option<Track>>> = Vec::new();
    for (rig, nodes) in rigs.iter().enumerate() {
        for (id, node) in nodes.nodes() {
            let steps = node.transform.iter().filter(|step| {
                !step.inverse && !matches!(step.name.as_str(), "before" | "after" | "pivot" | "shear")
            });
            let names =
                steps.map(|step| &step.name).chain(node.attributes.iter().map(|attribute| &attribute.name));
            for name in names {
                let Some(kind) = nodes.property_kind(id, name) else { continue };
                let rest = node.attribute(name).and_then(|attribute| attribute.kind.discrete_default());
                let target = Target { rig, node: id, property: name.clone() };
                let track = any_controller(contents, kind, rest.as_ref())
                    .prop_map(move |controller| Track { target: target.clone(), controller });
                all.push(prop::option::weighted(0.5, track).boxed());
            }
        }
    }
    all.prop_map(|tracks| tracks.into_iter().flatten().collect()).boxed()
}

fn any_layer(contents: Contents, rigs: &[Rig]) -> impl Strategy<Value = Layer> + use<> {
    let partly = prop_oneof![
        1 => (0.0..1.0_f64).prop_map(Weight::Constant),
        1 => (0.0..1.0_f64, 0.0..1.0_f64).prop_map(|(a, b)| {
            let key = |frame, value| Key::new(RATE.ticks(frame), value);
            Weight::Curve(Curve::new(vec![key(3, a), key(20, b)]).unwrap())
        }),
    ];
    let weight = if contents.weights {
        prop_oneof![1 => Just(Weight::FULL), 1 => partly].boxed()
    } else {
        Just(Weight::FULL).boxed()
    };
    let mode = select(vec![LayerMode::Additive, LayerMode::Override]);
    let rotations = select(vec![RotationMixing::Angles, RotationMixing::Quaternions]);
    (
        select(vec!["look", "breathing", "hand & head"]),
        mode,
        rotations,
        weight,
        prop::bool::weighted(0.2),
        any_tracks(contents, rigs),
    )
        .prop_map(|(name, mode, rotations, weight, muted, tracks)| Layer {
            name: name.into(),
            mode,
            rotations,
            weight,
            muted,
            tracks,
        })
}

fn any_take(contents: Contents, rigs: &[Rig]) -> impl Strategy<Value = Take> + use<> {
    let clip = (0..20_i64, 1..20_i64, prop::option::of(Just("for the quay".to_owned())));
    (
        any_tracks(contents, rigs),
        prop::collection::vec(any_layer(contents, rigs), 0..contents.layers),
        prop::collection::vec(clip, 0..3),
        prop::collection::vec(-3..40_i64, 0..3),
        prop::option::weighted(0.3, Just("bank/walks".to_owned())),
    )
        .prop_map(|(tracks, more, clips, markers, folder)| {
            let mut layers = vec![Layer::base(tracks)];
            for (index, layer) in more.into_iter().enumerate() {
                layers.push(Layer { name: format!("{} {index}", layer.name), ..layer });
            }
            let clip = |(index, (first, length, note)): (usize, (i64, i64, Option<String>))| Clip {
                name: format!("clip {index}"),
                range: TimeRange::new(RATE.ticks(first), RATE.ticks(first + length)),
                note,
            };
            let mut times = markers;
            times.sort_unstable();
            let marker = |frame: i64| Marker { time: RATE.ticks(frame), name: format!("foot {frame}") };
            Take {
                name: "take".into(),
                folder,
                range: TimeRange::new(RATE.ticks(0), RATE.ticks(40)),
                clips: clips.into_iter().enumerate().map(clip).collect(),
                markers: times.into_iter().map(marker).collect(),
                layers,
            }
        })
}

/// Scenes at 24 frames a second of one or two takes of about 40 frames.
pub fn any_scene(contents: Contents) -> impl Strategy<Value = Scene> {
    (any_space(), prop::collection::vec(any_rig(contents), 1..3)).prop_flat_map(move |(space, mut rigs)| {
        for (index, rig) in rigs.iter_mut().enumerate() {
            rig.name = format!("{} {index}", rig.name);
        }
        let takes = prop::collection::vec(any_take(contents, &rigs), 1..3);
        (Just(rigs), takes, prop::bool::ANY).prop_map(move |(rigs, mut takes, with_set)| {
            for (index, take) in takes.iter_mut().enumerate() {
                take.name = format!("{} {index}", take.name);
            }
            let set = NodeSet { name: "hands".into(), patterns: vec!["*arm*".into(), "a:*".into()] };
            Scene {
                rate: RATE,
                space,
                rigs,
                sets: with_set.then_some(set).into_iter().collect(),
                constraints: Vec::new(),
                takes,
            }
        })
    })
}
