//! Stilt, the stork postmaster: a rig at rest, in metres, with other names, proportions and rotation orders.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::angle;
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder::{self, Xyz, Xzy, Yxz, Yzx, Zxy, Zyx};
use nimble_curve_core::scene::{NodeSet, Scene};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::value::Quantity;

type Bone = (&'static str, Option<&'static str>, [f64; 3], RotationOrder);

/// Long legs, a short back of five joints, a long neck of three, wings for arms, a stub of a tail.
const BONES: &[Bone] = &[
    ("Pelvis", None, [0.0, 0.92, 0.0], Zxy),
    ("Back1", Some("Pelvis"), [0.0, 0.05, 0.0], Xyz),
    ("Back2", Some("Back1"), [0.0, 0.06, 0.01], Xyz),
    ("Back3", Some("Back2"), [0.0, 0.06, 0.01], Xyz),
    ("Back4", Some("Back3"), [0.0, 0.06, 0.01], Xyz),
    ("Back5", Some("Back4"), [0.0, 0.06, 0.0], Xzy),
    ("Throat1", Some("Back5"), [0.0, 0.08, 0.04], Zyx),
    ("Throat2", Some("Throat1"), [0.0, 0.15, 0.05], Zyx),
    ("Throat3", Some("Throat2"), [0.0, 0.16, -0.01], Zyx),
    ("Skull", Some("Throat3"), [0.0, 0.13, 0.01], Yzx),
    ("Beak", Some("Skull"), [0.0, -0.02, 0.32], Xyz),
    ("L_Collar", Some("Back5"), [0.03, 0.04, 0.0], Yzx),
    ("L_Wing", Some("L_Collar"), [0.09, 0.0, -0.01], Yzx),
    ("L_Elbow", Some("L_Wing"), [0.24, 0.0, 0.0], Zxy),
    ("L_Pinion", Some("L_Elbow"), [0.27, 0.0, 0.0], Xyz),
    ("L_Tip", Some("L_Pinion"), [0.22, 0.0, 0.0], Xyz),
    ("R_Collar", Some("Back5"), [-0.03, 0.04, 0.0], Yzx),
    ("R_Wing", Some("R_Collar"), [-0.09, 0.0, -0.01], Yzx),
    ("R_Elbow", Some("R_Wing"), [-0.24, 0.0, 0.0], Zxy),
    ("R_Pinion", Some("R_Elbow"), [-0.27, 0.0, 0.0], Xyz),
    ("R_Tip", Some("R_Pinion"), [-0.22, 0.0, 0.0], Xyz),
    ("L_Hip", Some("Pelvis"), [0.07, -0.03, 0.0], Zyx),
    ("L_Knee", Some("L_Hip"), [0.0, -0.38, 0.0], Xzy),
    ("L_Hock", Some("L_Knee"), [0.0, -0.45, 0.0], Yxz),
    ("L_Claws", Some("L_Hock"), [0.0, -0.05, 0.07], Xyz),
    ("R_Hip", Some("Pelvis"), [-0.07, -0.03, 0.0], Zyx),
    ("R_Knee", Some("R_Hip"), [0.0, -0.38, 0.0], Xzy),
    ("R_Hock", Some("R_Knee"), [0.0, -0.45, 0.0], Yxz),
    ("R_Claws", Some("R_Hock"), [0.0, -0.05, 0.07], Xyz),
    ("Stub", Some("Pelvis"), [0.0, 0.0, -0.1], Xyz),
    ("Stub_Tip", Some("Stub"), [0.0, -0.04, -0.14], Xyz),
];

/// Which joint of bramble moves which of stilt.
pub const NAME_MAP: &str = r#"# Which node of bramble moves which node of stilt.
[nodes]
hips = "Pelvis"
head = "Skull"
shoulder_l = "L_Collar"
arm_l = "L_Wing"
forearm_l = "L_Elbow"
hand_l = "L_Pinion"
shoulder_r = "R_Collar"
arm_r = "R_Wing"
forearm_r = "R_Elbow"
hand_r = "R_Pinion"
thigh_l = "L_Hip"
shin_l = "L_Knee"
foot_l = "L_Hock"
toes_l = "L_Claws"
thigh_r = "R_Hip"
shin_r = "R_Knee"
foot_r = "R_Hock"
toes_r = "R_Claws"
tail_01 = "Stub"

# Three joints of the back for five, and one of the neck for three.
[[chains]]
from = ["spine_01", "spine_02", "chest"]
to = ["Back1", "Back2", "Back3", "Back4", "Back5"]

[[chains]]
from = ["neck"]
to = ["Throat1", "Throat2", "Throat3"]
"#;

/// The rig at rest.
///
/// # Panics
/// Never: the bones are listed parents first.
pub fn scene() -> Scene {
    let mut rig = Rig::new("stilt");
    let mut ids: HashMap<&str, NodeId> = HashMap::new();
    for (name, parent, at, order) in BONES {
        let is_tip = name.ends_with("Tip") || *name == "Beak";
        let kind = if is_tip { NodeKind::End } else { NodeKind::Joint };
        let mut node = Node::new(*name, kind, DVec3::from_array(*at), *order);
        node.locked = vec!["scale".into()];
        let id = rig.add(parent.map(|parent| ids[parent]), node).expect("parents are listed first");
        ids.insert(name, id);
    }
    let mut mask = Node::new("Mask", NodeKind::Control, DVec3::new(0.0, 0.02, 0.06), Xyz);
    let scalar = |name: &str, min, max, quantity| Attribute {
        name: name.into(),
        kind: AttributeKind::Number { default: 0.0, min: Some(min), max: Some(max), quantity },
    };
    mask.attributes = vec![
        scalar("Smile", -100.0, 100.0, Quantity::Number),
        scalar("Blink", 0.0, 100.0, Quantity::Number),
        scalar("Jaw", 0.0, angle::radians(40.0), Quantity::Angle),
        Attribute { name: "Letter".into(), kind: AttributeKind::Switch { default: false } },
        Attribute {
            name: "Mood".into(),
            kind: AttributeKind::Choice {
                options: ["calm", "eager", "worried", "asleep"].map(str::to_owned).to_vec(),
                default: "calm".into(),
            },
        },
    ];
    rig.add(Some(ids["Skull"]), mask).expect("the skull is there");
    let set = |name: &str, patterns: &[&str]| NodeSet {
        name: name.into(),
        patterns: patterns.iter().map(|p| (*p).to_owned()).collect(),
    };
    Scene {
        rate: FrameRate::FPS_30,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: vec![
            set("legs", &["*_Hip", "*_Knee", "*_Hock", "*_Claws"]),
            set("wings", &["*_Wing", "*_Elbow", "*_Pinion"]),
        ],
        constraints: Vec::new(),
        takes: Vec::new(),
    }
}
