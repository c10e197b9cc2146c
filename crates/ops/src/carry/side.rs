//! One rig with what carrying needs of it in its reference pose.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::rig::{Canonical, NodeId, Rig};
use nimble_curve_scene::scene::{Scene, Take, Target};

/// A rig in the pose that corresponds to one of the other rig.
pub(super) struct Side<'a> {
    /// Which rig of its scene it is.
    pub index: usize,
    pub rig: &'a Rig,
    /// World rotations in the reference pose, by position.
    pub world: Vec<DQuat>,
    /// World transforms there.
    pub places: Vec<DAffine3>,
    /// Local translations there.
    pub translations: Vec<DVec3>,
    /// Local rotations there.
    pub locals: Vec<DQuat>,
    /// Local rotations at rest.
    rests: Vec<DQuat>,
    pub views: Vec<Option<Canonical>>,
    parents: Vec<Option<usize>>,
}

impl<'a> Side<'a> {
    /// A rig of a scene, at rest or as it is at an instant of a take.
    pub fn of(
        scene: &'a Scene,
        index: usize,
        reference: Option<(&Take, Ticks)>,
    ) -> Result<Side<'a>, EvaluateError> {
        let rig = &scene.rigs[index];
        let pose_of = |reference: Option<(&Take, Ticks)>| -> Result<Pose, EvaluateError> {
            let mut pose = Pose::default();
            let time = reference.map_or(0.0, |(_, time)| time.as_f64());
            Evaluator::new(scene, reference.map(|(take, _)| take), index)?.pose_at(time, &mut pose);
            Ok(pose)
        };
        let at_rest = pose_of(None)?;
        let rests = at_rest.local_rotation.clone();
        let pose = if reference.is_some() { pose_of(reference)? } else { at_rest };
        Ok(Side {
            index,
            rig,
            translations: pose.local.iter().map(|local| local.translation).collect(),
            world: pose.world_rotation,
            places: pose.world,
            locals: pose.local_rotation,
            rests,
            views: rig.nodes().map(|(_, node)| node.canonical()).collect(),
            parents: rig.parent_positions(),
        })
    }

    pub fn position(&self, id: NodeId) -> usize {
        self.rig.position(id).expect("a node of this rig")
    }

    /// A node of the rig, as one of its scene.
    pub fn node(&self, id: NodeId) -> NodeRef {
        (self.index, id)
    }

    /// A property of a node of the rig.
    pub fn target(&self, id: NodeId, property: &str) -> Target {
        Target::new(self.index, id, property)
    }

    pub fn view(&self, id: NodeId) -> Option<&Canonical> {
        self.views[self.position(id)].as_ref()
    }

    pub fn world_of(&self, id: NodeId) -> DQuat {
        self.world[self.position(id)]
    }

    /// Whether a node turns by itself, at rest, from where it is in the reference pose.
    pub fn rests_elsewhere(&self, id: NodeId) -> bool {
        let position = self.position(id);
        angle_between(self.locals[position], self.rests[position]) > 1e-9
    }

    /// The world rotation of a node's parent, where the parent moves as `moves` says and everything between is at rest.
    pub fn above(&self, id: NodeId, moves: impl Fn(NodeId) -> bool) -> DQuat {
        let mut turned = DQuat::IDENTITY;
        let mut at = self.rig.parent(id);
        while let Some(parent) = at {
            if moves(parent) {
                return self.world_of(parent) * turned;
            }
            turned = self.rests[self.position(parent)] * turned;
            at = self.rig.parent(parent);
        }
        turned
    }

    /// How a node sizes what hangs on it, in its own axes, in the reference pose: nothing of its own turn.
    pub fn stretch(&self, id: NodeId) -> DMat3 {
        let position = self.position(id);
        let stretch = DMat3::from_quat(self.world[position].conjugate()) * self.places[position].matrix3;
        if stretch.abs_diff_eq(DMat3::IDENTITY, 1e-12) { DMat3::IDENTITY } else { stretch }
    }

    /// What takes a place beside a node's parent into the world in the reference pose, turned and sized.
    pub fn parent_frame(&self, id: NodeId) -> DMat3 {
        let stretch = self.rig.parent(id).map_or(DMat3::IDENTITY, |parent| self.stretch(parent));
        DMat3::from_quat(self.parent_world(id)) * stretch
    }

    /// The world rotation of a node's parent in the reference pose.
    pub fn parent_world(&self, id: NodeId) -> DQuat {
        self.parents[self.position(id)].map_or(DQuat::IDENTITY, |parent| self.world[parent])
    }

    /// Whether each node is one of some, or above one of them; all by position.
    pub fn with_all_above(&self, positions: impl Iterator<Item = usize>) -> Vec<bool> {
        let mut are = vec![false; self.parents.len()];
        for position in positions {
            let mut at = Some(position);
            while let Some(position) = at.filter(|&position| !are[position]) {
                are[position] = true;
                at = self.parents[position];
            }
        }
        are
    }

    /// A node and all above it, from the node up.
    pub fn upwards(&self, id: NodeId) -> impl Iterator<Item = NodeId> + '_ {
        std::iter::successors(Some(id), |&id| self.rig.parent(id))
    }
}
