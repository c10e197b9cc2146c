//! Animation curves, rotations, rigs and layers, and the operations that move them between rigs: the one front door.
//!
//! Everything here is a function from values to values: no files, no printing. All values are `f64`, angles are
//! radians, slopes are per second, times are [`time::Ticks`]; evaluation takes fractional ticks. A [`scene::Scene`]
//! goes in, an operation returns a new one and a [`ledger::Ledger`] of what became of every channel.
//!
//! # An arm's wave on another rig
//! The target's arm has another name and another rotation order. The keys come over as they are where that is exact, else they
//! are refitted within the tolerance; the ledger says which.
//!
//! ```
//! use nimble_curve_core::prelude::*;
//!
//! let rate = FrameRate::FPS_24;
//! let rig = |name: &str, order| {
//!     let mut rig = Rig::new("figure");
//!     let arm = rig.add(None, Node::new(name, NodeKind::Joint, DVec3::Y, order)).unwrap();
//!     (rig, arm)
//! };
//! let (otter, arm) = rig("arm_l", RotationOrder::Xyz);
//! let (stork, _) = rig("L_Wing", RotationOrder::Zyx);
//!
//! // Three curves of angles, by axis, in radians.
//! let [x, y, z] = [0.2, 0.5, 0.9].map(|most| Curve::through(rate, [(1, 0.0), (13, most), (25, 0.0)]).unwrap());
//! let wave = Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves: [x, y, z] });
//! let track = Track { target: Target::new(0, arm, ROTATION), controller: wave };
//! let range = TimeRange::new(rate.ticks(1), rate.ticks(25));
//! let take = Take::new("wave", range, vec![Layer::base(vec![track])]);
//!
//! let source = Scene::new(rate, Space::METRES_Y_UP).with_rig(otter).with_take(take);
//! let target = Scene::new(rate, Space::METRES_Y_UP).with_rig(stork);
//! let map = NameMap::of_nodes([("arm_l".to_owned(), "L_Wing".to_owned())]);
//! let carried = carry(&source, &target, &map, &CarryOptions::default())?;
//!
//! let entry = &carried.ledger.entries[0];
//! assert_eq!((entry.channel.as_str(), entry.fate), ("arm_l:rotation", Fate::Refitted));
//! // Whoever wants to know how far it is off asks the judge, along the claim that came with it.
//! let verdict = judge(&source, &carried.scene, &carried.claim, Limits::NONE, 1.0);
//! let (_, error) = verdict.worst(Quantity::Angle, false).unwrap();
//! assert!(error.largest < 0.1_f64.to_radians());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Samples back to keys
//! [`ops::bake`] makes samples of curves; [`ops::unbake`] finds the keys again that they were made of.
//!
//! ```
//! use nimble_curve_core::prelude::*;
//!
//! # let rate = FrameRate::FPS_24;
//! # let mut rig = Rig::new("figure");
//! # let node = rig.add(None, Node::new("arm", NodeKind::Joint, DVec3::Y, RotationOrder::Xyz)).unwrap();
//! let curve = Curve::through(rate, [(0, 0.0), (20, 1.0), (45, -0.3), (60, 0.0)])?;
//! let curves = [curve, Curve::default(), Curve::default()];
//! let track = Track { target: Target::new(0, node, TRANSLATION), controller: Controller::Components(curves.to_vec()) };
//! # let range = TimeRange::new(rate.ticks(0), rate.ticks(60));
//! let take = Take::new("swing", range, vec![Layer::base(vec![track])]);
//! let scene = Scene::new(rate, Space::METRES_Y_UP).with_rig(rig).with_take(take);
//!
//! let (baked, _) = bake(&scene, &BakeOptions::default());
//! let tolerance = Tolerance { length: 1e-4, ..Tolerance::default() };
//! let sparse = unbake(&baked, &UnbakeOptions { tolerance, ..UnbakeOptions::default() })?;
//! let keys: Vec<f64> = match &sparse.scene.takes[0].layers[0].tracks[0].controller {
//!     Controller::Components(curves) => curves[0].keys().iter().map(|key| rate.frame(key.time)).collect(),
//!     other => panic!("{}", other.type_name()),
//! };
//! assert_eq!(keys, [0.0, 20.0, 45.0, 60.0]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub use glam;
pub use nimble_curve_curves::{angle, curve, fit, rotation, tcb, time, value};
pub use nimble_curve_ops as ops;
pub use nimble_curve_scene::{
    address, choice, constraint, controller, evaluate, hierarchy, judge, ledger, parts, rig, scene, similar,
    space, validate,
};

/// What most programs need.
pub mod prelude {
    pub use glam::{DQuat, DVec3};
    pub use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation, Key, Tangent};
    pub use nimble_curve_curves::rotation::RotationOrder;
    pub use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
    pub use nimble_curve_curves::value::{Quantity, Value};
    pub use nimble_curve_ops::Tolerance;
    pub use nimble_curve_ops::bake::{BakeOptions, bake};
    pub use nimble_curve_ops::carry::{CarryOptions, NameMap, carry};
    pub use nimble_curve_ops::layers::{FlattenOptions, flatten};
    pub use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
    pub use nimble_curve_ops::unbake::{UnbakeOptions, unbake};
    pub use nimble_curve_scene::address::Addresses;
    pub use nimble_curve_scene::controller::{Controller, EulerCurves, Samples};
    pub use nimble_curve_scene::evaluate::{Evaluator, Pose, PropertySampler};
    pub use nimble_curve_scene::judge::{Claim, Limits, Verdict, judge};
    pub use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
    pub use nimble_curve_scene::rig::{Node, NodeId, NodeKind, ROTATION, Rig, SCALE, TRANSLATION};
    pub use nimble_curve_scene::scene::{Layer, LayerMode, Scene, Take, Target, Track};
    pub use nimble_curve_scene::space::Space;
}
