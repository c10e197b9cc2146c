//! Limbs and controls that go by something else for a while, and nothing moves.

use std::collections::{BTreeMap, BTreeSet};

use glam::DQuat;
use nimble_curve_curves::curve::Discrete;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Setting};
use nimble_curve_scene::judge::{Claim, Standing};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::rig::AttributeKind;
use nimble_curve_scene::scene::{Scene, Target};

use super::away::{Compared, departures, quarters};
use super::claims::claim;
use super::duties::{Keyed, Stage, stages};
use super::keying::{FINE, Keying, Made, Used};
use super::motion::is_body;
use super::options::{MatchKeys, SwitchOptions, To};
use super::spliced::set_within;
use super::switched::setting_for;
use super::told::{Told, tell};
use crate::control_rig::error::SolveError;
use crate::control_rig::written::with_three_steps;

/// A scene in which something goes by something else.
#[derive(Clone, Debug)]
pub struct Switched {
    /// The scene.
    pub scene: Scene,
    /// What became of every channel.
    pub ledger: Ledger,
    /// That all moves as it did.
    pub claim: Claim,
}

/// At whole frames nothing may be off by more than this part of the bound.
const AT_FRAMES: f64 = 0.02;

/// How often it is fitted closer.
const TRIES: usize = 12;

/// Lets a limb go by its goal or by the controls of its joints, or a control by another space, from one frame to another: the other
/// controls take over with keys at both seams, and nothing that is seen moves.
///
/// # Errors
/// See [`SolveError`].
pub fn switch(scene: &Scene, options: &SwitchOptions) -> Result<Switched, SolveError> {
    let index = take_of(scene, options)?;
    let take = &scene.takes[index];
    let until = options.until.unwrap_or(take.range.last);
    if options.from >= until {
        return Err(SolveError::NotSwitched("the last frame has to be after the first".to_owned()));
    }
    if !(take.range.contains(options.from) && take.range.contains(until)) {
        let frame = |time| scene.rate.frame(time);
        let (first, last) = (frame(take.range.first), frame(take.range.last));
        return Err(SolveError::NotSwitched(format!("the take has frames {first} to {last} alone")));
    }
    if options.over.0 * 2 > (until - options.from).0 {
        return Err(SolveError::NotSwitched("--over is longer than half of the frames".to_owned()));
    }
    let range = TimeRange::new(options.from, until);
    let (settings, stages) = wanted(scene, &options.to)?;
    let mut result = scene.clone();
    for stage in &stages {
        if let Some((rig, id)) = stage.control()
            && let Some(node) = result.rigs[rig].node_mut(id)
            && node.canonical().is_none()
        {
            node.transform = with_three_steps(node);
        }
    }
    for (target, value) in &settings {
        set_within(&mut result, index, (target, value), range, options.over)?;
    }
    let (made, kept) = keyed(scene, &mut result, index, &stages, range, options)?;
    let mut told =
        Told { stages: stages.len(), made, kept, bones: bones_of(scene, &stages), ..Told::default() };
    told.switched = settings.into_iter().map(|(target, _)| target).collect();
    let keys = MatchKeys::Bounded;
    let mut ledger = Ledger::default();
    tell((scene, &result), index, &told, (keys, options.tolerance.angle), &mut ledger);
    for entry in &mut ledger.entries {
        if entry.note == super::told::WHOLE_TAKE {
            entry.note = "switched".to_owned();
        }
    }
    let mut claim = claim(scene, &result, index, &told, keys);
    // A control that hangs on something else from there on stands where it stood.
    let held = stages.iter().flat_map(|stage| &stage.joints).filter(|node| !is_body(scene, node));
    let one = Some((DQuat::IDENTITY, DQuat::IDENTITY));
    let standing = |node: &NodeRef| Standing {
        source: *node,
        result: *node,
        references: one,
        place: true,
        at: None,
        slack: [0.0; 2],
    };
    claim.world.get_or_insert_default().extend(held.map(standing));
    // Other takes are as they were.
    claim.spans = Claim::same(scene, &result).spans;
    Ok(Switched { claim, scene: result, ledger })
}

fn take_of(scene: &Scene, options: &SwitchOptions) -> Result<usize, SolveError> {
    let names = || -> Vec<String> { scene.takes.iter().map(|take| take.name.clone()).collect() };
    match &options.take {
        Some(name) => scene
            .takes
            .iter()
            .position(|take| take.name == *name)
            .ok_or_else(|| SolveError::Unknown { what: "take", name: name.clone(), known: names() }),
        None if scene.takes.len() == 1 => Ok(0),
        None if scene.takes.is_empty() => Err(SolveError::NotSwitched("it has no take".to_owned())),
        None => Err(SolveError::NotSwitched(format!("say which take: {}", names().join(", ")))),
    }
}

/// The attributes that are set, and the controls that take over.
type Plan = (Vec<(Target, Value)>, Vec<Stage>);

fn wanted(scene: &Scene, to: &To) -> Result<Plan, SolveError> {
    match to {
        To::Limb { limb, by_goal } => of_limb(scene, limb, *by_goal),
        To::Space { control, space } => of_space(scene, control, space),
    }
}

fn of_limb(scene: &Scene, name: &str, by_goal: bool) -> Result<Plan, SolveError> {
    let addresses = Addresses::new(scene);
    let limbs = || {
        let all = scene.constraints.iter().enumerate();
        all.filter(|(_, own)| matches!(own.kind, ConstraintKind::Limb(_)))
    };
    let called = |own: &Constraint| match own.name.as_str() {
        "" => addresses.node(own.node).to_owned(),
        name => name.to_owned(),
    };
    let has_joint = |own: &Constraint| own.driven().iter().any(|node| addresses.node(*node) == name);
    let found =
        limbs().find(|(_, own)| called(own) == name).or_else(|| limbs().find(|(_, own)| has_joint(own)));
    let Some((index, limb)) = found else {
        let known = limbs().map(|(_, own)| called(own)).collect();
        return Err(SolveError::Unknown { what: "limb", name: name.to_owned(), known });
    };
    let driven: BTreeSet<NodeRef> = limb.driven().into_iter().collect();
    let chain: BTreeSet<usize> = (scene.constraints.iter().enumerate())
        .filter(|(_, own)| matches!(own.kind, ConstraintKind::Follow(_)) && driven.contains(&own.node))
        .map(|(index, _)| index)
        .collect();
    let acting = if by_goal { BTreeSet::from([index]) } else { chain.clone() };
    let mut settings: Vec<(Target, Value)> = setting_for(scene, limb, by_goal).into_iter().collect();
    if settings.is_empty() {
        let why = format!("the limb '{}' has no switch: its weight is a number", called(limb));
        return Err(SolveError::NotSwitched(why));
    }
    for other in chain {
        let more = setting_for(scene, &scene.constraints[other], !by_goal);
        settings.extend(more.filter(|(target, _)| settings.iter().all(|(known, _)| known != target)));
    }
    let stages = stages(scene, &acting)?;
    if stages.is_empty() {
        let what = if by_goal { "no control for its goal" } else { "no controls for its joints" };
        return Err(SolveError::NotSwitched(format!("the limb '{}' has {what}", called(limb))));
    }
    Ok((settings, stages))
}

fn of_space(scene: &Scene, name: &str, space: &str) -> Result<Plan, SolveError> {
    let addresses = Addresses::new(scene);
    let control = addresses.find(name).map_err(|error| SolveError::NotSwitched(error.to_string()))?;
    let rig = &scene.rigs[control.0];
    let above: BTreeSet<NodeRef> =
        std::iter::successors(Some(control.1), |id| rig.parent(*id)).map(|id| (control.0, id)).collect();
    let menus: Vec<&Target> = (scene.constraints.iter())
        .filter(|own| own.driven().iter().any(|node| above.contains(node)))
        .flat_map(|own| own.settings())
        .filter_map(|setting| match setting {
            Setting::Is(target, _) => Some(target),
            _ => None,
        })
        .collect();
    let options = |target: &Target| -> Vec<String> {
        let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
        match node.and_then(|node| node.attribute(&target.property)).map(|own| &own.kind) {
            Some(AttributeKind::Choice { options, .. }) => options.clone(),
            _ => Vec::new(),
        }
    };
    let Some(menu) = menus.iter().find(|menu| options(menu).iter().any(|option| option == space)) else {
        let mut known: Vec<String> = menus.iter().flat_map(|menu| options(menu)).collect();
        known.sort();
        known.dedup();
        return Err(SolveError::Unknown { what: "space", name: space.to_owned(), known });
    };
    if scene.is_driven(control) {
        let why = format!("{name} is driven itself: what it hangs on has to change its space");
        return Err(SolveError::NotSwitched(why));
    }
    let value = Value::Discrete(Discrete::Choice(space.to_owned()));
    let stage = Stage::new(Keyed::Held { control }, BTreeSet::from([control]));
    Ok((vec![((*menu).clone(), value)], vec![stage]))
}

/// The upper and lower joints of limbs on the joints of some stages: the places of middle and end are what is seen of these.
fn bones_of(scene: &Scene, stages: &[Stage]) -> BTreeSet<NodeRef> {
    let is_one = |own: &&Constraint| {
        matches!(own.kind, ConstraintKind::Limb(_))
            && own.driven().iter().any(|node| stages.iter().any(|stage| stage.joints.contains(node)))
    };
    scene.constraints.iter().filter(is_one).flat_map(|own| own.driven().into_iter().take(2)).collect()
}

/// Keys the controls until nothing moves by more than it may: at whole frames by next to nothing.
fn keyed(
    scene: &Scene,
    result: &mut Scene,
    index: usize,
    stages: &[Stage],
    range: TimeRange,
    options: &SwitchOptions,
) -> Result<Made, SolveError> {
    let close = options.tolerance.times(AT_FRAMES);
    let keying = Keying {
        scene,
        motion: scene,
        index,
        range,
        within: true,
        keys: MatchKeys::Bounded,
        between_frames: options.between_frames,
        fine: FINE,
        tolerance: close,
        done: 1e-9,
    };
    let times = keying.key_times(result, stages)?;
    let joints: BTreeSet<NodeRef> = stages.iter().flat_map(|stage| stage.joints.iter().copied()).collect();
    let (limbs, bones, grips) = (BTreeSet::new(), bones_of(scene, stages), BTreeMap::new());
    let (place, turn) = (options.tolerance.of(Quantity::Length, &scene.space), options.tolerance.angle);
    let start = result.takes[index].clone();
    let mut rooms = Vec::new();
    let mut best: Option<(f64, nimble_curve_scene::scene::Take, Made)> = None;
    for tried in 0..TRIES {
        result.takes[index] = start.clone();
        let made = keying.attempt(result, stages, &times, &mut rooms)?;
        let mut used = Used::default();
        let of = Compared {
            motion: (scene, &scene.takes[index]),
            result: (result, &result.takes[index]),
            joints: &joints,
            limbs: &limbs,
            bones: &bones,
            grips: &grips,
        };
        departures(&of, quarters(scene.rate, range), |joint, time, far, angle| {
            let frame = time / scene.rate.ticks_per_frame();
            let part = if (frame - frame.round()).abs() < 1e-6 { AT_FRAMES } else { 1.0 };
            let angle = if bones.contains(&joint) { 0.0 } else { angle };
            used.take(joint, time, (far / place).max(angle / turn) / part);
        })?;
        let worst = used.most();
        if best.as_ref().is_none_or(|(most, ..)| worst < *most) {
            best = Some((worst, result.takes[index].clone(), made));
        }
        if worst <= 1.0 {
            break;
        }
        keying.narrow(stages, &mut rooms, (&used, tried));
    }
    let Some((_, take, made)) = best else { return Err(SolveError::NoControls) };
    result.takes[index] = take;
    Ok(made)
}
