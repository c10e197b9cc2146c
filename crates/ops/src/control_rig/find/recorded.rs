//! What a file shows of a rig: where each node stands on each frame, and which of them move beside their parents.

use glam::{DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, Solver, Stand};
use nimble_curve_scene::rig::NodeKind;
use nimble_curve_scene::scene::{Scene, Take};
use nimble_curve_scene::space::Handedness;

use super::Limits;

/// How many frames are looked at, at most: of longer files every second one, or every third.
const MOST_FRAMES: i64 = 2000;

/// Where a node stands on a frame.
#[derive(Clone, Copy, Debug)]
pub struct Instant {
    /// In the world.
    pub place: DVec3,
    /// How it is turned in the world; of a mirrored node, that of its mirror image.
    pub turn: DQuat,
    /// The sizes of its axes in the world.
    pub size: DVec3,
    /// Beside its parent.
    pub translation: DVec3,
    pub rotation: DQuat,
    pub scale: DVec3,
}

/// What of a node changes beside its parent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Moves {
    pub translation: bool,
    pub rotation: bool,
    pub scale: bool,
}

impl Moves {
    pub fn any(self) -> bool {
        self.translation || self.rotation || self.scale
    }
}

/// A node with all that is known of it.
#[derive(Debug)]
pub struct Recorded {
    pub node: NodeRef,
    pub parent: Option<usize>,
    pub kind: NodeKind,
    /// −1 where it is mirrored in the world.
    pub hand: f64,
    pub rest: Instant,
    pub instants: Vec<Instant>,
    pub moves: Moves,
}

impl Recorded {
    /// A direction of the world in the node's own space.
    pub fn inward(&self, frame: usize, direction: DVec3) -> DVec3 {
        self.instants[frame].turn.inverse() * direction * self.hand
    }

    /// A direction of the node's own space in the world.
    pub fn outward(&self, frame: usize, direction: DVec3) -> DVec3 {
        self.instants[frame].turn * direction * self.hand
    }
}

/// All nodes of a scene over the frames of all of its takes.
#[derive(Debug)]
pub struct Recording {
    pub nodes: Vec<Recorded>,
    /// Which take, and when.
    pub frames: Vec<(usize, Ticks)>,
    /// Which way turns go: −1 in spaces of the left hand.
    pub hand: f64,
}

impl Recording {
    /// All nodes on all frames, or on every so many.
    pub fn new(scene: &Scene, limits: &Limits) -> Result<Recording, EvaluateError> {
        let all: Vec<NodeRef> = (scene.rigs.iter().enumerate())
            .flat_map(|(index, rig)| rig.nodes().map(move |(id, _)| (index, id)))
            .collect();
        let place = |node: NodeRef| all.iter().position(|own| *own == node);
        let mut resting = Solver::new(scene, None, all.iter().copied())?;
        resting.solve(0.0);
        let mut nodes = Vec::with_capacity(all.len());
        for &node in &all {
            let stand = resting.stand(node).unwrap_or(&Stand::START);
            let parent = scene.rigs[node.0].parent(node.1).and_then(|id| place((node.0, id)));
            let kind = scene.rigs[node.0].node(node.1).map_or(NodeKind::Other, |of| of.kind);
            let (hand, rest) = (stand.frame.determinant().signum(), Instant::of(stand));
            let (instants, moves) = (Vec::new(), Moves::default());
            nodes.push(Recorded { node, parent, kind, hand, rest, instants, moves });
        }
        let frames = frames_of(scene);
        for (index, take) in scene.takes.iter().enumerate() {
            let mut solver = Solver::new(scene, Some(take), all.iter().copied())?;
            for (_, time) in frames.iter().filter(|(of, _)| *of == index) {
                solver.solve(time.as_f64());
                for own in &mut nodes {
                    own.instants.push(Instant::of(solver.stand(own.node).unwrap_or(&Stand::START)));
                }
            }
        }
        for index in 0..nodes.len() {
            nodes[index].moves = moves(&nodes, index, limits);
        }
        let hand = if scene.space.handedness == Handedness::Left { -1.0 } else { 1.0 };
        Ok(Recording { nodes, frames, hand })
    }

    /// The node itself and those above it.
    pub fn up(&self, node: usize) -> impl Iterator<Item = usize> + '_ {
        std::iter::successors(Some(node), |&index| self.nodes[index].parent)
    }

    /// Whether a node hangs on another one, or is it.
    pub fn hangs_on(&self, node: usize, above: usize) -> bool {
        self.up(node).any(|index| index == above)
    }

    /// What moves a node: itself or the nearest above it that moves beside its parent. `None` where nothing does.
    pub fn mover(&self, node: usize) -> Option<usize> {
        self.up(node).find(|&index| self.nodes[index].moves.any())
    }

    /// Whether a node goes by what an animator keys: a control that moves is above it, or nothing that does.
    pub fn is_keyed(&self, node: usize) -> bool {
        let is_moved = |index: usize| self.nodes[index].moves.any();
        let by = |index: usize| is_moved(index) && self.nodes[index].kind == NodeKind::Control;
        self.up(node).any(by) || !self.up(node).any(is_moved)
    }

    /// Whether what moves a node is a control, or nothing.
    pub fn is_moved_by_control(&self, node: usize) -> bool {
        self.mover(node).is_none_or(|mover| self.nodes[mover].kind == NodeKind::Control)
    }

    /// Controls and what serves them.
    pub fn is_for_animators(&self, node: usize) -> bool {
        self.nodes[node].kind.is_for_controls()
    }

    /// Where a node stands in the space of another: its place and its turn there.
    pub fn beside(&self, source: usize, node: usize, frame: usize) -> (DVec3, DQuat) {
        let (theirs, own) = (&self.nodes[source], &self.nodes[node]);
        beside(theirs.hand, &theirs.instants[frame], &own.instants[frame])
    }

    /// The same as both rest.
    pub fn beside_at_rest(&self, source: usize, node: usize) -> (DVec3, DQuat) {
        let (theirs, own) = (&self.nodes[source], &self.nodes[node]);
        beside(theirs.hand, &theirs.rest, &own.rest)
    }

    /// How many steps lie between two nodes in their hierarchy; of two rigs, more than any.
    pub fn steps_between(&self, one: usize, other: usize) -> usize {
        let above: Vec<usize> = self.up(one).collect();
        let met = self
            .up(other)
            .enumerate()
            .find_map(|(steps, index)| above.iter().position(|own| *own == index).map(|mine| mine + steps));
        met.unwrap_or(self.nodes.len())
    }
}

fn beside(hand: f64, theirs: &Instant, own: &Instant) -> (DVec3, DQuat) {
    let inward = theirs.turn.inverse();
    let place = inward * (own.place - theirs.place) * hand / theirs.size;
    (place, inward * own.turn)
}

impl Instant {
    pub fn of(stand: &Stand) -> Instant {
        let frame = stand.frame * stand.frame.determinant().signum();
        let lengths = |m: DMat3| DVec3::new(m.x_axis.length(), m.y_axis.length(), m.z_axis.length());
        Instant {
            place: stand.world.translation,
            turn: DQuat::from_mat3(&frame).normalize(),
            size: lengths(stand.world.matrix3),
            scale: lengths(stand.local.matrix3),
            translation: stand.local.translation,
            rotation: stand.rotation,
        }
    }
}

/// The frames of all takes, or every so many of them.
fn frames_of(scene: &Scene) -> Vec<(usize, Ticks)> {
    let span = |take: &Take| {
        let (first, last) = (scene.rate.frame(take.range.first), scene.rate.frame(take.range.last));
        (first.ceil() as i64, last.floor() as i64)
    };
    let all: i64 = scene.takes.iter().map(span).map(|(first, last)| (last - first + 1).max(0)).sum();
    let stride = (all / MOST_FRAMES + 1) as usize;
    let of = |(index, take): (usize, &Take)| {
        let (first, last) = span(take);
        (first..=last).step_by(stride).map(move |frame| (index, scene.rate.ticks(frame)))
    };
    scene.takes.iter().enumerate().flat_map(of).collect()
}

/// What of a node changes beside its parent by more than may be rounding.
fn moves(nodes: &[Recorded], index: usize, limits: &Limits) -> Moves {
    let own = &nodes[index];
    let Some(first) = own.instants.first() else { return Moves::default() };
    let above = own.parent.map_or(DVec3::ONE, |parent| nodes[parent].rest.size);
    let mut found = Moves::default();
    for now in &own.instants {
        found.translation |= ((now.translation - first.translation) * above).length() > limits.place;
        found.rotation |= angle_between(now.rotation, first.rotation) > limits.angle;
        found.scale |= (now.scale - first.scale).length() > limits.factor;
    }
    found
}
