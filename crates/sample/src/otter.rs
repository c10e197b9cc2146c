//! Bramble's proportions: an otter that walks upright, in centimetres, y up, facing z, arms stretched out.

use glam::DVec3;

/// A bone: name, parent, offset from the parent.
pub type Bone = (&'static str, Option<&'static str>, [f64; 3]);

/// The skeleton, parents first; names ending in `_end` mark the tips of chains.
pub const BONES: &[Bone] = &[
    ("hips", None, [0.0, 34.0, 0.0]),
    ("spine_01", Some("hips"), [0.0, 6.0, -0.5]),
    ("spine_02", Some("spine_01"), [0.0, 9.0, 0.0]),
    ("chest", Some("spine_02"), [0.0, 10.0, 0.5]),
    ("neck", Some("chest"), [0.0, 10.0, 1.0]),
    ("head", Some("neck"), [0.0, 6.0, 1.0]),
    ("head_end", Some("head"), [0.0, 7.0, 9.0]),
    ("shoulder_l", Some("chest"), [2.5, 7.0, 0.5]),
    ("arm_l", Some("shoulder_l"), [5.5, 0.0, 0.0]),
    ("forearm_l", Some("arm_l"), [11.5, 0.0, 0.0]),
    ("hand_l", Some("forearm_l"), [10.5, 0.0, 0.0]),
    ("hand_l_end", Some("hand_l"), [6.0, 0.0, 0.0]),
    ("shoulder_r", Some("chest"), [-2.5, 7.0, 0.5]),
    ("arm_r", Some("shoulder_r"), [-5.5, 0.0, 0.0]),
    ("forearm_r", Some("arm_r"), [-11.5, 0.0, 0.0]),
    ("hand_r", Some("forearm_r"), [-10.5, 0.0, 0.0]),
    ("hand_r_end", Some("hand_r"), [-6.0, 0.0, 0.0]),
    ("thigh_l", Some("hips"), [5.0, -1.0, 0.0]),
    ("shin_l", Some("thigh_l"), [0.0, -15.0, 0.0]),
    ("foot_l", Some("shin_l"), [0.0, -14.0, 0.0]),
    ("toes_l", Some("foot_l"), [0.0, -3.0, 6.0]),
    ("toes_l_end", Some("toes_l"), [0.0, -0.5, 5.0]),
    ("thigh_r", Some("hips"), [-5.0, -1.0, 0.0]),
    ("shin_r", Some("thigh_r"), [0.0, -15.0, 0.0]),
    ("foot_r", Some("shin_r"), [0.0, -14.0, 0.0]),
    ("toes_r", Some("foot_r"), [0.0, -3.0, 6.0]),
    ("toes_r_end", Some("toes_r"), [0.0, -0.5, 5.0]),
    ("tail_01", Some("hips"), [0.0, -1.0, -6.0]),
    ("tail_02", Some("tail_01"), [0.0, -6.0, -9.0]),
    ("tail_03", Some("tail_02"), [0.0, -6.0, -10.0]),
    ("tail_04", Some("tail_03"), [0.0, -4.0, -11.0]),
    ("tail_04_end", Some("tail_04"), [0.0, -1.0, -11.0]),
];

/// The offset of a bone.
///
/// # Panics
/// Where there is no such bone.
pub fn offset(name: &str) -> DVec3 {
    let bone = BONES.iter().find(|bone| bone.0 == name).expect("a bone of the otter");
    DVec3::from_array(bone.2)
}
