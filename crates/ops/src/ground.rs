//! The ground of the world, as claims see it: read from poses that were evaluated, whatever axes operations chose.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::scene::{Scene, Take};

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
