//! Two rigs in one scene: Moss takes a parcel from the shelf beside him and puts it on the counter before him.
//!
//! Keyed by hand, four keys to a joint; the parcel was tied to the right wrist and exported with a key on every frame while it was held,
//! as ties are. On the other side stands Stilt with a satchel.

use std::collections::HashMap;

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::rig::{Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::apprentice::BONES;
use crate::stilt;

const RATE: FrameRate = FrameRate::FPS_24;
/// The frames from which and to which the parcel is in the hand.
pub const HELD: (i64, i64) = (21, 56);
const LAST: i64 = 73;
/// The hips stand this high, in centimetres, so that the soles are on the floor.
const HIPS: f64 = 93.0;
/// When the joints have keys: at rest, at the shelf, lifted, at the counter, and at rest again.
const TIMES: [i64; 5] = [1, 20, 36, 56, 73];

/// Angles at these times, in degrees, about x, y and z.
type Angles = [[f64; 3]; 5];

const REST: [f64; 3] = [0.0, 0.0, 0.0];

const POSES: [(&str, Angles); 8] = [
    ("Moss_Hips", [REST, [4.0, -22.0, 0.0], [0.0, -6.0, 0.0], [8.0, 14.0, 0.0], REST]),
    ("Moss_Chest", [REST, [6.0, -10.0, 2.0], [2.0, -4.0, 0.0], [9.0, 8.0, 0.0], REST]),
    ("Moss_Chest3", [REST, [5.0, -12.0, 0.0], [0.0, -4.0, 0.0], [7.0, 10.0, 0.0], REST]),
    ("Moss_Head", [REST, [8.0, -14.0, 0.0], [2.0, 6.0, 0.0], [14.0, 6.0, 0.0], REST]),
    ("Moss_RightShoulder", [REST, [-52.0, -18.0, -8.0], [-34.0, 6.0, 6.0], [-58.0, 22.0, 10.0], REST]),
    ("Moss_RightElbow", [REST, [-30.0, 0.0, 0.0], [-74.0, 10.0, 0.0], [-38.0, 6.0, 0.0], REST]),
    ("Moss_RightWrist", [REST, [-8.0, 0.0, 10.0], [6.0, 12.0, 4.0], [-12.0, 8.0, 0.0], REST]),
    ("Moss_LeftShoulder", [REST, [-8.0, 0.0, 4.0], [-14.0, 0.0, 2.0], [-22.0, -6.0, 4.0], REST]),
];

/// Which rig goes to which, who holds what, and which joint moves which.
pub const NAME_MAP: &str = r#"# Moss and a parcel onto Stilt and a satchel.
[[rigs]]
from = "moss"
to = "stilt"

[[rigs]]
from = "parcel"
to = "satchel"
held = "Moss_RightWrist"

[nodes]
parcel = "satchel"
lid = "flap"
Moss_Hips = "Pelvis"
Moss_Head = "Skull"
Moss_LeftCollar = "L_Collar"
Moss_LeftShoulder = "L_Wing"
Moss_LeftElbow = "L_Elbow"
Moss_LeftWrist = "L_Pinion"
Moss_RightCollar = "R_Collar"
Moss_RightShoulder = "R_Wing"
Moss_RightElbow = "R_Elbow"
Moss_RightWrist = "R_Pinion"
Moss_LeftHip = "L_Hip"
Moss_LeftKnee = "L_Knee"
Moss_LeftAnkle = "L_Hock"
Moss_LeftToe = "L_Claws"
Moss_RightHip = "R_Hip"
Moss_RightKnee = "R_Knee"
Moss_RightAnkle = "R_Hock"
Moss_RightToe = "R_Claws"

[[chains]]
from = ["Moss_Chest", "Moss_Chest2", "Moss_Chest3"]
to = ["Back1", "Back2", "Back3", "Back4", "Back5"]

[[chains]]
from = ["Moss_Neck"]
to = ["Throat1", "Throat2", "Throat3"]
"#;

/// Moss and the parcel.
///
/// # Panics
/// Never: joints are listed behind what they hang on, and keys are in order.
pub fn scene() -> Scene {
    let order = RotationOrder::Zyx;
    let mut moss = Rig::new("moss");
    let mut ids: HashMap<&str, NodeId> = HashMap::new();
    for (name, above, at) in BONES {
        let at = if above.is_none() { DVec3::Y * HIPS } else { DVec3::from(at) };
        let node = Node::new(name, NodeKind::Joint, at, order);
        let id =
            moss.add(above.map(|above| ids[above]), node).expect("joints stand behind what they hang on");
        ids.insert(name, id);
    }
    let mut tracks: Vec<Track> = Vec::new();
    for (name, angles) in POSES {
        let curves = [0, 1, 2].map(|axis| eased(angles.map(|pose| angle::radians(pose[axis]))));
        let controller = Controller::Euler(EulerCurves { order, curves });
        tracks.push(Track { target: Target::new(0, ids[name], ROTATION), controller });
    }
    let sway = [0.0, -3.0, 1.0, 4.0, 0.0];
    let [still, dip] = [[0.0; 5], [HIPS, HIPS - 1.0, HIPS, HIPS - 1.5, HIPS]];
    let curves = vec![eased(sway), eased(dip), eased(still)];
    tracks.push(Track {
        target: Target::new(0, ids["Moss_Hips"], TRANSLATION),
        controller: Controller::Components(curves),
    });
    let (parcel, box_id, lid) = prop("parcel", "lid", [0.0, 9.0, -10.0]);
    let range = TimeRange::new(RATE.ticks(1), RATE.ticks(LAST));
    let take = Take::new("hands over", range, vec![Layer::base(tracks)]);
    let mut scene = Scene::new(RATE, Space::CENTIMETRES_Y_UP).with_rig(moss).with_rig(parcel).with_take(take);
    let tied = tied(&scene, ids["Moss_RightWrist"], box_id);
    let opens = [0.0, 0.0, 0.0, 0.0, -70.0].map(angle::radians);
    let controller =
        Controller::Euler(EulerCurves { order, curves: [eased(opens), Curve::default(), Curve::default()] });
    let layer = &mut scene.takes[0].layers[0];
    layer.tracks.extend(tied);
    layer.tracks.push(Track { target: Target::new(1, lid, ROTATION), controller });
    scene
}

/// Stilt and the satchel, at rest.
///
/// # Panics
/// Never: the satchel's nodes are listed parents first.
pub fn target() -> Scene {
    let (satchel, ..) = prop("satchel", "flap", [0.0, 0.07, -0.06]);
    stilt::scene().with_rig(satchel)
}

/// A box with something that turns on it.
fn prop(name: &str, top: &str, hinge: [f64; 3]) -> (Rig, NodeId, NodeId) {
    let mut rig = Rig::new(name);
    let node = |name: &str, at: DVec3| Node::new(name, NodeKind::Joint, at, RotationOrder::Zyx);
    let own = rig.add(None, node(name, DVec3::ZERO)).expect("it hangs on nothing");
    let lid = rig.add(Some(own), node(top, DVec3::from(hinge))).expect("the box is there");
    (rig, own, lid)
}

/// A curve through values at the times of the poses, level at each.
fn eased(values: [f64; 5]) -> Curve {
    if values.iter().all(|value| *value == 0.0) {
        return Curve::default();
    }
    let keys =
        TIMES.iter().zip(values).map(|(frame, value)| Key::new(RATE.ticks(*frame), value).with_slope(0.0));
    Curve::new(keys.collect()).expect("the keys are in order")
}

/// The parcel as it was tied to a hand: a key on every frame while it is held, straight between them.
fn tied(scene: &Scene, hand: NodeId, parcel: NodeId) -> Vec<Track> {
    let rig = &scene.rigs[0];
    let at = rig.position(hand).expect("the hand is in the rig");
    let mut evaluator = Evaluator::new(scene, scene.takes.first(), 0).expect("all curves can be evaluated");
    let mut pose = Pose::default();
    let mut place = |frame: i64| {
        evaluator.pose_at(RATE.ticks(frame).as_f64(), &mut pose);
        DAffine3::from_rotation_translation(pose.world_rotation[at], pose.world[at].translation)
    };
    // Level where it is taken, below the wrist and a little ahead of it.
    let taken = place(HELD.0 - 1);
    let lies = DAffine3::from_rotation_translation(
        DQuat::from_rotation_y(angle::radians(-20.0)),
        taken.translation + DVec3::new(0.0, -14.0, 6.0),
    );
    let beside = taken.inverse() * lies;
    let mut curves: Vec<Vec<Key>> = vec![Vec::new(); 6];
    let mut last = DVec3::ZERO;
    for frame in HELD.0 - 1..=HELD.1 {
        let world = place(frame) * beside;
        let turn = DQuat::from_mat3(&world.matrix3).normalize();
        last = nearest_euler(RotationOrder::Zyx, turn, last);
        let values = world.translation.to_array().into_iter().map(|value| rounded(value, 1e4));
        for (curve, value) in
            curves.iter_mut().zip(values.chain(last.to_array().map(|value| rounded(value, 1e6))))
        {
            let mut key = Key::new(RATE.ticks(frame), value);
            key.interpolation = Interpolation::Linear;
            curve.push(key);
        }
    }
    let mut curves = curves.into_iter().map(|keys| Curve::new(keys).expect("frames are in order"));
    let mut three = || [0; 3].map(|_| curves.next().unwrap_or_default());
    let (way, turns) = (three(), three());
    vec![
        Track {
            target: Target::new(1, parcel, TRANSLATION),
            controller: Controller::Components(way.to_vec()),
        },
        Track {
            target: Target::new(1, parcel, ROTATION),
            controller: Controller::Euler(EulerCurves { order: RotationOrder::Zyx, curves: turns }),
        },
    ]
}

/// To so many parts of one, so that all machines agree.
fn rounded(value: f64, parts: f64) -> f64 {
    (value * parts).round() / parts
}
