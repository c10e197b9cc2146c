//! A node that is to stand beside another one as in the source: a prop beside the hand that holds it, a hand beside the chest.

use glam::{DQuat, DVec3};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{Pose, Poses};
use nimble_curve_scene::judge::Hold;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Scene, Take};

use super::job::Job;
use super::links::NodePairing;
use super::side::Side;
use super::{CarryError, PoseAt};

/// The two nodes, on both sides.
pub(super) struct Beside {
    pub node: (NodeRef, NodeRef),
    pub of: (NodeRef, NodeRef),
    /// World rotations of the node beside which it stands that correspond.
    pub references: (DQuat, DQuat),
    /// By how much the distance grows.
    pub scale: f64,
}

/// Both at an instant: in the source, place and turn, and where the node is to be in the result.
pub(super) struct Instant {
    pub node: (DVec3, DQuat),
    pub of: (DVec3, DQuat),
    pub wanted: DVec3,
}

impl Beside {
    /// Of a pair of `by` and the nodes on both sides; distances grow by `scale`.
    pub fn new(node: (NodeRef, NodeRef), by: &Job<'_>, of: &NodePairing, scale: f64) -> Beside {
        let source = of.place.node;
        Beside {
            node,
            of: (by.from.node(source), by.onto.node(of.target)),
            references: (by.from.world_of(source), by.onto.world_of(of.target)),
            scale,
        }
    }
}

/// The length of the two bones above the end of a limb.
pub(super) fn limb_length(side: &Side<'_>, end: NodeId) -> Option<f64> {
    let mut places = side.upwards(end).take(3).map(|id| side.places[side.position(id)].translation);
    let (end, middle, upper) = (places.next()?, places.next()?, places.next()?);
    let length = (end - middle).length() + (middle - upper).length();
    (length > 1e-6).then_some(length)
}

impl Job<'_> {
    /// Looks at a node and the one beside which it is to stand at each frame of a take and of what came of it, with the poses of the
    /// result's rigs; gives the first frame.
    pub fn each_frame(
        &self,
        beside: &Beside,
        (take, made): (&Take, &Take),
        mut see: impl FnMut(&Instant, &[Pose]),
    ) -> Result<i64, CarryError> {
        let bare = Scene { takes: Vec::new(), ..self.target.clone() };
        let mut source = Poses::new(self.source, take)?;
        let mut result = Poses::new(&bare, made)?;
        let at = |scene: &Scene, (rig, id): NodeRef| {
            (rig, scene.rigs[rig].position(id).expect("a node of its scene"))
        };
        let (node, of) = (at(self.source, beside.node.0), at(self.source, beside.of.0));
        let own_of = at(&bare, beside.of.1);
        let rate = self.source.rate;
        let first = rate.frame(take.range.first).ceil() as i64;
        let last = rate.frame(take.range.last).floor() as i64;
        for frame in first..=last {
            let time = rate.ticks(frame).as_f64();
            source.at(time);
            result.at(time);
            let place = |poses: &Poses<'_>, (rig, at): (usize, usize)| {
                let pose = &poses.poses[rig];
                (pose.world[at].translation, pose.world_rotation[at])
            };
            let (node, of, own) = (place(&source, node), place(&source, of), place(&result, own_of));
            let turned = own.1 * beside.references.1.conjugate();
            let turned = turned * (of.1 * beside.references.0.conjugate()).conjugate();
            let wanted = own.0 + beside.scale * (turned * (node.0 - of.0));
            see(&Instant { node, of, wanted }, &result.poses);
        }
        Ok(first)
    }

    /// Whether a node that another one stands beside comes over, as was selected.
    pub fn comes_over(&self, of: (NodeRef, NodeRef)) -> bool {
        self.chosen.takes(&[self.source_addresses.node(of.0), self.target_addresses.node(of.1)])
    }

    /// What is promised of a node that stands beside another one at some times of a take of the source as it came in.
    pub fn beside_claim(
        &self,
        source: &Scene,
        (beside, link): (&Beside, &NodePairing),
        pose: Option<&PoseAt>,
        (take, times): (usize, Vec<TimeRange>),
    ) -> Result<Option<Hold>, CarryError> {
        let side = |rig: usize| Side::of(source, rig, pose.map(|pose| (&pose.take, pose.time)));
        let (own, by) = (side(self.from.index)?, side(beside.of.0.0)?);
        Ok(self.way_of(&own, link).map(|base| Hold {
            take,
            source: (beside.node.0, beside.of.0),
            result: (beside.node.1, beside.of.1),
            references: (by.world_of(beside.of.0.1), beside.references.1),
            scale: beside.scale,
            base,
            times,
        }))
    }
}
