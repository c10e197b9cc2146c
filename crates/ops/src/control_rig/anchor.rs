//! Joints that go with a control rigidly: their curves are the control's, in other axes.

use std::collections::HashMap;

use glam::{DAffine3, DMat3, DQuat};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Follow, Source};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::Node;
use nimble_curve_scene::scene::{Scene, Take};

/// A node that moves by itself, and where another one stands beside it always.
type Anchor = (Option<NodeRef>, DAffine3);

/// How the local transform of a joint comes out of that of a control: `before · control · after`.
#[derive(Clone, Copy, Debug)]
pub struct Rigid {
    /// The control whose curves are taken.
    pub control: NodeRef,
    /// Constant, and no more than a turn and a place.
    pub before: DAffine3,
    pub turn_before: DQuat,
    /// Where the joint stands beside the control.
    pub after: DAffine3,
    pub turn_after: DQuat,
}

/// Finds what stands rigidly beside what, in a take.
pub struct Anchors<'a> {
    scene: &'a Scene,
    take: &'a Take,
    known: HashMap<NodeRef, Anchor>,
}

impl<'a> Anchors<'a> {
    pub fn new(scene: &'a Scene, take: &'a Take) -> Anchors<'a> {
        Anchors { scene, take, known: HashMap::new() }
    }

    fn node(&self, (rig, id): NodeRef) -> Option<&'a Node> {
        self.scene.rigs.get(rig)?.node(id)
    }

    fn parent(&self, (rig, id): NodeRef) -> Option<NodeRef> {
        self.scene.rigs.get(rig)?.parent(id).map(|parent| (rig, parent))
    }

    fn moves_by_itself(&self, node: NodeRef) -> bool {
        let is_step = |property: &str| self.node(node).is_some_and(|of| of.op(property).is_some());
        let mut tracks = self.take.active_tracks().map(|(_, track)| &track.target);
        let keyed = tracks.any(|target| (target.rig, target.node) == node && is_step(&target.property));
        let coupled = self.scene.constraints.iter().any(|constraint| match &constraint.kind {
            ConstraintKind::Couple(couple) => {
                let target = &couple.channel.target;
                (target.rig, target.node) == node && is_step(&target.property)
            }
            _ => false,
        });
        keyed || coupled
    }

    /// The only follow that drives a node, where it drives it wholly.
    fn wholly_follows(&self, node: NodeRef) -> Option<&'a Source> {
        let mut acting = self.scene.constraints.iter().filter(|own| own.drives(node));
        let only: &Constraint = acting.next().filter(|_| acting.next().is_none())?;
        let ConstraintKind::Follow(Follow { sources, translation, rotation, scale }) = &only.kind else {
            return None;
        };
        let all = [true; 3];
        let is_whole = (*translation, *rotation) == (all, all) && *scale == [false; 3];
        let counts = only.weight.constant() == Some(1.0);
        match sources.as_slice() {
            [source] if is_whole && counts && source.weight.constant().is_some_and(|own| own > 0.0) => {
                Some(source)
            }
            _ => None,
        }
    }

    /// Where a node stands beside the one that moves it.
    fn anchor(&mut self, node: NodeRef) -> Option<Anchor> {
        if let Some(known) = self.known.get(&node) {
            return Some(*known);
        }
        let found = if let Some(source) = self.wholly_follows(node) {
            let (moved, beside) = self.anchor(source.node)?;
            (moved, beside * self.offset(source, node)?)
        } else if self.scene.is_driven(node) {
            return None;
        } else if self.moves_by_itself(node) {
            (Some(node), DAffine3::IDENTITY)
        } else {
            let rest = self.node(node)?.rest();
            match self.parent(node) {
                Some(parent) => {
                    let (moved, beside) = self.anchor(parent)?;
                    (moved, beside * rest)
                }
                None => (None, rest),
            }
        };
        // Where something is sized, what follows it is placed by the size and does not take it over.
        let found = (found.0, DAffine3 { matrix3: turn_of(found.1.matrix3)?, ..found.1 });
        self.known.insert(node, found);
        Some(found)
    }

    /// Where a node stands beside the source that it follows.
    fn offset(&self, source: &Source, node: NodeRef) -> Option<DAffine3> {
        if let Some(offset) = source.offset {
            return Some(DAffine3::from_rotation_translation(offset.turn.normalize(), offset.position));
        }
        let rest = |(rig, id): NodeRef| {
            let of = self.scene.rigs.get(rig)?;
            Some(of.rest_world()[of.position(id)?])
        };
        let beside = rest(source.node)?.inverse() * rest(node)?;
        Some(DAffine3 { matrix3: turn_of(beside.matrix3)?, ..beside })
    }

    /// How a joint's local transform is that of the control that it follows; `None` where it is more than that.
    pub fn rigid(&mut self, joint: NodeRef) -> Option<Rigid> {
        let source = self.wholly_follows(joint)?.clone();
        let control = source.node;
        // The curves have to be the control's own, and all that it does has to be a turn and a place.
        if self.scene.is_driven(control) || !self.moves_by_itself(control) {
            return None;
        }
        let view = self.node(control)?.canonical()?;
        let own = self.node(joint)?.canonical()?;
        let one = glam::DVec3::ONE;
        if (view.scale - one).abs().max_element() > 1e-12 || own.scale.min_element() <= 0.0 {
            return None;
        }
        let beside = |anchors: &mut Self, node: NodeRef| match anchors.parent(node) {
            Some(parent) => anchors.anchor(parent),
            None => Some((None, DAffine3::IDENTITY)),
        };
        let ((under_joint, joint_beside), (under_control, control_beside)) =
            (beside(self, joint)?, beside(self, control)?);
        if under_joint != under_control {
            return None;
        }
        let before = joint_beside.inverse() * control_beside;
        let after = self.offset(&source, joint)?;
        let turn = |of: &DAffine3| decomposed(of).1;
        Some(Rigid { control, before, turn_before: turn(&before), after, turn_after: turn(&after) })
    }
}

/// The turn of a transform that is no more than a turn; `None` where it sizes or mirrors.
fn turn_of(matrix: DMat3) -> Option<DMat3> {
    let size = matrix.determinant().cbrt();
    let turn = matrix * (1.0 / size);
    let is_turn = (size - 1.0).abs() < 1e-9 && (turn * turn.transpose()).abs_diff_eq(DMat3::IDENTITY, 1e-9);
    is_turn.then_some(turn)
}
