//! Which control takes what of which joint, and in which order that is found.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{ConstraintKind, EndTurn, Setting, Towards};
use nimble_curve_scene::evaluate::{EvaluateError, Serves, driving};
use nimble_curve_scene::rig::{Node, NodeKind};
use nimble_curve_scene::scene::{Scene, Target};

/// What a control does for a constraint.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Duty {
    pub constraint: usize,
    pub serves: Serves,
    /// The node that serves: the control itself, or one below it.
    pub node: NodeRef,
}

/// What is keyed in one go.
#[derive(Clone, Debug, PartialEq)]
pub enum Keyed {
    /// A control, by what it does with its place and with its turn.
    Control { control: NodeRef, place: Option<Duty>, turn: Option<Duty> },
    /// A control that stays where it is in the world, whatever it hangs on.
    Held { control: NodeRef },
    /// The attribute that twists a limb which has no pole.
    Twist { constraint: usize, target: Target },
}

/// A control with the joints that it answers for.
#[derive(Clone, Debug)]
pub struct Stage {
    pub keyed: Keyed,
    /// The joints that its constraints drive.
    pub joints: BTreeSet<NodeRef>,
    /// Other controls on the way to the same joints.
    pub others: BTreeSet<NodeRef>,
    /// The controls that move what it hangs on, which are keyed before.
    pub after: BTreeSet<NodeRef>,
}

impl Stage {
    pub fn new(keyed: Keyed, joints: BTreeSet<NodeRef>) -> Stage {
        Stage { keyed, joints, others: BTreeSet::new(), after: BTreeSet::new() }
    }

    /// The nodes whose own place has to be known first.
    fn stands_on(&self, scene: &Scene) -> Option<NodeRef> {
        match &self.keyed {
            Keyed::Control { control: (rig, id), .. } | Keyed::Held { control: (rig, id) } => {
                scene.rigs[*rig].parent(*id).map(|parent| (*rig, parent))
            }
            Keyed::Twist { constraint, .. } => Some(scene.constraints[*constraint].node),
        }
    }

    /// The control, where it is one.
    pub fn control(&self) -> Option<NodeRef> {
        match &self.keyed {
            Keyed::Control { control, .. } | Keyed::Held { control } => Some(*control),
            Keyed::Twist { .. } => None,
        }
    }

    /// The constraints that it serves.
    pub fn constraints(&self) -> BTreeSet<usize> {
        match &self.keyed {
            Keyed::Control { place, turn, .. } => {
                place.iter().chain(turn).map(|duty| duty.constraint).collect()
            }
            Keyed::Held { .. } => BTreeSet::new(),
            Keyed::Twist { constraint, .. } => BTreeSet::from([*constraint]),
        }
    }
}

/// The stages for some constraints, each after those that move what it stands on.
pub fn stages(scene: &Scene, acting: &BTreeSet<usize>) -> Result<Vec<Stage>, EvaluateError> {
    let mut stages: Vec<Stage> = Vec::new();
    let mut by_control: BTreeMap<NodeRef, usize> = BTreeMap::new();
    for &index in acting {
        let constraint = &scene.constraints[index];
        let joints: BTreeSet<NodeRef> = constraint.driven().into_iter().collect();
        for (duty, has) in duties(scene, index) {
            let Some((control, others)) = control_of(scene, duty.node) else { continue };
            let at = *by_control.entry(control).or_insert_with(|| {
                let keyed = Keyed::Control { control, place: None, turn: None };
                stages.push(Stage::new(keyed, BTreeSet::new()));
                stages.len() - 1
            });
            let stage = &mut stages[at];
            if let Keyed::Control { place, turn, .. } = &mut stage.keyed {
                let mut takes = false;
                for (part, has) in [(place, has[0]), (turn, has[1])] {
                    if has && part.is_none() {
                        *part = Some(duty);
                        takes = true;
                    }
                }
                if takes {
                    stage.joints.extend(&joints);
                    stage.others.extend(others);
                }
            }
        }
        if let ConstraintKind::Limb(limb) = &constraint.kind
            && !matches!(limb.pole, Some(Towards::Node(_)))
            && let Setting::Attribute(target) = &limb.twist
        {
            let keyed = Keyed::Twist { constraint: index, target: target.clone() };
            stages.push(Stage::new(keyed, joints));
        }
    }
    in_order(scene, stages)
}

/// The duties that a constraint gives, with whether each is for the place and for the turn of who has it.
fn duties(scene: &Scene, index: usize) -> Vec<(Duty, [bool; 2])> {
    let constraint = &scene.constraints[index];
    let duty = |serves: Serves, node: NodeRef| Duty { constraint: index, serves, node };
    match &constraint.kind {
        ConstraintKind::Follow(follow) => {
            // Of several, one alone would have to make up for what the others do.
            let [source] = follow.sources.as_slice() else { return Vec::new() };
            let parts = [follow.translation == [true; 3], follow.rotation == [true; 3]];
            vec![(duty(Serves::Source(0), source.node), parts)]
        }
        ConstraintKind::Aim(aim) => {
            let up = match aim.up {
                Some((_, Towards::Node(node))) => Some((duty(Serves::Up, node), [true, false])),
                _ => None,
            };
            std::iter::once((duty(Serves::Target, aim.at), [true, false])).chain(up).collect()
        }
        ConstraintKind::Limb(limb) => {
            let turns = limb.end_turn == EndTurn::Goal;
            let pole = match limb.pole {
                Some(Towards::Node(node)) => Some((duty(Serves::Pole, node), [true, false])),
                _ => None,
            };
            std::iter::once((duty(Serves::Goal, limb.goal.node), [true, turns])).chain(pole).collect()
        }
        ConstraintKind::Roll(_) | ConstraintKind::Couple(_) | ConstraintKind::Other { .. } => Vec::new(),
    }
}

/// What a control holds in the world, whatever that hangs on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grip {
    pub control: NodeRef,
    pub place: bool,
    pub turn: bool,
    /// Whether nothing else drives it.
    pub alone: bool,
}

/// The joints that controls hold in the world, among what some constraints drive: ends of limbs, and what follows one source.
pub fn grips(scene: &Scene, acting: &BTreeSet<usize>) -> BTreeMap<NodeRef, Grip> {
    let mut found: BTreeMap<NodeRef, Grip> = BTreeMap::new();
    for &index in acting {
        let constraint = &scene.constraints[index];
        let joint = match &constraint.kind {
            ConstraintKind::Follow(_) => constraint.node,
            ConstraintKind::Limb(limb) => limb.end,
            _ => continue,
        };
        let serves = |duty: &Duty| matches!(duty.serves, Serves::Goal | Serves::Source(_));
        let Some((duty, [place, turn])) = duties(scene, index).into_iter().find(|(duty, _)| serves(duty))
        else {
            continue;
        };
        let Some((control, _)) = control_of(scene, duty.node) else { continue };
        found.insert(joint, Grip { control, place, turn, alone: true });
    }
    for (joint, grip) in &mut found {
        let by = acting.iter().filter(|index| scene.constraints[**index].driven().contains(joint));
        grip.alone = by.count() == 1;
    }
    found
}

/// Whether a joint turns as the bones of a limb do: it is one, or hangs on one with nothing between that a control turns.
pub fn turns_with_bones(
    scene: &Scene,
    (rig, id): NodeRef,
    bones: &BTreeSet<NodeRef>,
    grips: &BTreeMap<NodeRef, Grip>,
) -> bool {
    let of = scene.rigs.get(rig);
    let upwards = std::iter::successors(Some(id), |id| of.and_then(|rig| rig.parent(*id)));
    for node in upwards.map(|id| (rig, id)) {
        if bones.contains(&node) {
            return true;
        }
        if grips.get(&node).is_some_and(|grip| grip.turn) {
            return false;
        }
    }
    false
}

/// All controls that have a part in a constraint: what serves it, and what stands above that as a control does.
pub fn controls_of(scene: &Scene, constraint: usize) -> BTreeSet<NodeRef> {
    let mut all = BTreeSet::new();
    for (duty, _) in duties(scene, constraint) {
        let Some((control, others)) = control_of(scene, duty.node) else { continue };
        all.extend(others.into_iter().chain([control, duty.node]));
    }
    all
}

/// The control by which a node is moved: it, or one above it with nothing driven between; of several the primary one, else the
/// nearest; and the others. A locator without a control above is one itself.
fn control_of(scene: &Scene, node: NodeRef) -> Option<(NodeRef, BTreeSet<NodeRef>)> {
    let (rig, id) = node;
    let of = scene.rigs.get(rig)?;
    let mut found: Vec<(NodeRef, &Node)> = Vec::new();
    let mut first = None;
    for id in std::iter::successors(Some(id), |id| of.parent(*id)) {
        let (here, node) = ((rig, id), of.node(id)?);
        if scene.is_driven(here) || !node.kind.is_for_controls() {
            break;
        }
        first.get_or_insert(here);
        if node.kind == NodeKind::Control {
            found.push((here, node));
        }
    }
    let chosen = found.iter().find(|(_, node)| node.primary).or(found.first()).map(|(here, _)| *here);
    let chosen = chosen.or(first)?;
    Some((chosen, found.into_iter().map(|(here, _)| here).filter(|here| *here != chosen).collect()))
}

/// Stages after those that they stand on.
fn in_order(scene: &Scene, stages: Vec<Stage>) -> Result<Vec<Stage>, EvaluateError> {
    let mut needs: Vec<BTreeSet<usize>> = Vec::with_capacity(stages.len());
    let mut stages = stages;
    for own in 0..stages.len() {
        let stage = &stages[own];
        let mut before = BTreeSet::new();
        if let Some(base) = stage.stands_on(scene) {
            let (nodes, _) = driving(scene, [base])?;
            let is_before = |(at, other): &(usize, &Stage)| {
                *at != own && other.control().is_some_and(|control| nodes.contains(&control))
            };
            before.extend(stages.iter().enumerate().filter(is_before).map(|(at, _)| at));
        }
        stages[own].after = before.iter().filter_map(|at| stages[*at].control()).collect();
        needs.push(before);
    }
    let mut order: Vec<usize> = Vec::with_capacity(stages.len());
    while order.len() < stages.len() {
        let is_next = |at: &usize| !order.contains(at) && needs[*at].iter().all(|need| order.contains(need));
        // A twist may stand on a limb that stands on it: then the order of the file has to do.
        let open = || (0..stages.len()).filter(|at| !order.contains(at));
        let Some(next) = open().find(is_next).or_else(|| open().next()) else { break };
        order.push(next);
    }
    Ok(order.into_iter().map(|at| stages[at].clone()).collect())
}
