//! The ground of the world, as claims see it: read from poses that were evaluated, whatever axes operations chose.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::judge::{Edit, Edited};
use nimble_curve_scene::scene::{Scene, Take};

use crate::travel::carrying;

/// Where up is for the places of a node.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ground {
    /// What moves a place by one unit upwards in the world.
    up: DVec3,
    /// How high a place is above the node's parent: its product with this.
    height: DVec3,
    /// The up axis of the world among the axes that the node's own turns are about.
    own_up: DVec3,
}

impl Ground {
    /// Of a node, as what is above it stands at an instant.
    pub(crate) fn under(
        scene: &Scene,
        take: &Take,
        (index, id): NodeRef,
        at: Ticks,
    ) -> Result<Ground, EvaluateError> {
        let (rig, up) = (&scene.rigs[index], DVec3::AXES[scene.space.up.index()]);
        let mut pose = Pose::default();
        Evaluator::new(scene, Some(take), index)?.pose_at(at.as_f64(), &mut pose);
        let parent = rig.parent(id).and_then(|id| rig.position(id));
        let (above, turned) = parent.map_or((DMat3::IDENTITY, DQuat::IDENTITY), |parent| {
            (pose.world[parent].matrix3, pose.world_rotation[parent])
        });
        let before =
            rig.node(id).and_then(|node| node.canonical()).map_or(DQuat::IDENTITY, |view| view.before);
        let own_up = (turned * before).inverse() * up;
        Ok(Ground { up: above.inverse() * up, height: above.transpose() * up, own_up })
    }

    /// What of a way goes along the ground.
    pub(crate) fn along(&self, way: DVec3) -> DVec3 {
        way - self.up * self.height.dot(way)
    }

    /// The direction that is up, among the axes of the node's places.
    pub(crate) fn upwards(&self) -> DVec3 {
        self.up.normalize()
    }

    /// Which of the axes that the node's turns are about is nearest to upright, and -1 where it points down.
    pub(crate) fn turning_axis(&self) -> (usize, f64) {
        let own = self.own_up.to_array();
        let axis = (0..3).fold(0, |best, axis| if own[axis].abs() > own[best].abs() { axis } else { best });
        (axis, own[axis].signum())
    }
}

/// What is said of a body that is somewhere else in the world, and turned otherwise, throughout a take: of the topmost node that
/// moves it, what `goes` makes of its place and rotation in the world. The take's position is that in the claim's source.
pub(crate) fn as_a_whole(scene: &Scene, (index, take): (usize, &Take), goes: DAffine3) -> Vec<Edit> {
    let nodes = carrying(scene, take);
    let moves = |node: &NodeRef| take.tracks().any(|(_, t)| (t.target.rig, t.target.node) == *node);
    let node = nodes.iter().rev().find(|node| moves(node)).or(nodes.first());
    let edit = |&(of, id): &NodeRef| {
        let rig = &scene.rigs[of];
        let above = rig.parent(id).and_then(|id| rig.position(id)).map(|at| rig.rest_world()[at]);
        let above = above.unwrap_or_default();
        let local = above.inverse() * goes * above;
        let turned = DQuat::from_mat3(&local.matrix3);
        Edit::new(index, (of, id), move |_, (affine, rotation)| Edited {
            local: (local * affine, turned * rotation),
            or: None,
            about: None,
        })
    };
    node.map(edit).into_iter().collect()
}
