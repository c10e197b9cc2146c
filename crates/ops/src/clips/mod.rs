//! Clips: named ranges of takes, listed, found, cut out and put together again. Ranges include both ends.

mod claim;
mod error;
mod find;
mod join;
mod seams;

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::{Addresses, without_namespace};
use nimble_curve_scene::evaluate::{EvaluateError, Sampler};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{Clip, Scene, Take, Target, Track};

use super::channel::Tolerance;
use super::retime::shifted;
use super::select::{SelectError, Selection, select};
use super::travel::{Travel, travel};
use crate::space::in_space;

pub use self::claim::{added, joined, taken};
pub use self::error::JoinError;
pub use self::find::{Found, find};
pub use self::join::{JoinOptions, join};

/// What there is to say of a range of a take.
#[derive(Clone, Debug, PartialEq)]
pub struct Summary {
    /// The clip's name, or the take's where all of it is meant.
    pub name: String,
    /// The take.
    pub take: String,
    /// The range.
    pub range: TimeRange,
    /// Keys and samples inside it, a sample of several numbers counted once.
    pub keys: usize,
    /// How many tracks change their value inside it.
    pub moving: usize,
    /// Where it goes, and how its ends meet.
    pub travel: Travel,
    /// What is to be handed on with it.
    pub note: Option<String>,
}

/// Each clip of a take; the whole take where it has none.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn summaries(scene: &Scene, take: &Take) -> Result<Vec<Summary>, EvaluateError> {
    let whole = Clip { name: take.name.clone(), range: take.range, note: None };
    let clips = if take.clips.is_empty() { std::slice::from_ref(&whole) } else { &take.clips };
    clips.iter().map(|clip| summary(scene, take, clip)).collect()
}

fn summary(scene: &Scene, take: &Take, clip: &Clip) -> Result<Summary, EvaluateError> {
    let keys = keys_of(take, clip.range);
    let moving = take.tracks().filter(|(layer, track)| moves(scene, take, *layer, track, clip.range)).count();
    Ok(Summary {
        name: clip.name.clone(),
        take: take.name.clone(),
        range: clip.range,
        keys,
        moving,
        travel: travel(scene, take, clip.range)?,
        note: clip.note.clone(),
    })
}

/// How many keys and samples of a take lie in a range, a sample of several numbers counted once.
pub fn keys_of(take: &Take, range: TimeRange) -> usize {
    take.tracks().map(|(_, track)| keys_inside(track, range)).sum()
}

fn keys_inside(track: &Track, range: TimeRange) -> usize {
    use nimble_curve_scene::controller::Controller;
    match &track.controller {
        Controller::Samples(samples) => {
            (0..samples.len()).filter(|&index| range.contains(samples.time(index))).count()
        }
        Controller::Components(_) | Controller::Euler(_) => {
            let keys = track.controller.curves().iter().flat_map(|curve| curve.keys());
            keys.filter(|key| range.contains(key.time)).count()
        }
        controller => controller.key_times(range).iter().filter(|time| range.contains(**time)).count(),
    }
}

/// Whether a track changes its value inside a range, at whole frames and keys.
fn moves(scene: &Scene, take: &Take, layer: usize, track: &Track, range: TimeRange) -> bool {
    let Some(mut sampler) = Sampler::of_track(scene, take, layer, track) else { return false };
    let first = sampler.value_at(range.first.as_f64());
    let (from, to) = (scene.rate.nearest_frame(range.first), scene.rate.nearest_frame(range.last));
    (from..=to).any(|frame| {
        let value = sampler.value_at(scene.rate.ticks(frame).as_f64());
        match (first.rotation(), value.rotation(), first.numbers(), value.numbers()) {
            (Some(a), Some(b), ..) if !matches!(value, Value::Euler { .. }) => angle_between(a, b) > 1e-9,
            (.., Some(a), Some(b)) => a.iter().zip(&b).any(|(a, b)| (a - b).abs() > 1e-9 * (1.0 + a.abs())),
            _ => first != value,
        }
    })
}

/// One clip as a scene of its own: its take bears the clip's name and holds nothing outside the range, keys are put in at the
/// edges, and all of it is shifted to start at a frame; where it was, without one.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::clips::cut;
/// use nimble_curve_ops::Tolerance;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let scene = scene(walk);
/// let step = Clip { name: "step".into(), range: TimeRange::new(rate.ticks(6), rate.ticks(18)), note: None };
///
/// // The middle of the walk as a scene of its own that starts at frame 1.
/// let (part, _) = cut(&scene, &scene.takes[0], &step, Some(1.0), Tolerance::default())?;
/// let (take, range) = (&part.takes[0], part.takes[0].range);
/// assert_eq!((take.name.as_str(), rate.frame(range.first), rate.frame(range.last)), ("step", 1.0, 13.0));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`SelectError`].
pub fn cut(
    scene: &Scene,
    take: &Take,
    clip: &Clip,
    start: Option<f64>,
    tolerance: Tolerance,
) -> Result<(Scene, Ledger), SelectError> {
    let alone = scene.with_only(vec![take.clone()]);
    let selection = Selection { range: Some(clip.range), tolerance, ..Selection::default() };
    let (mut part, mut ledger) = select(&alone, &selection)?;
    for made in &mut part.takes {
        made.name.clone_from(&clip.name);
        // What was noted about the clip goes with it.
        made.clips.retain(|own| own.name == clip.name && own.range == clip.range && own.note.is_some());
        if let Some(start) = start {
            *made = shifted(made, scene.rate.ticks_at(start) - clip.range.first);
        }
    }
    for entry in &mut ledger.entries {
        entry.take.clone_from(&clip.name);
    }
    Ok((part, ledger))
}

/// A take of another scene for the rigs of this one: nodes by address, else by name without namespace; in this one's space.
/// What finds no node is left out, and named in the ledger.
pub fn transplanted(take: &Take, from: &Scene, onto: &Scene) -> (Take, Ledger) {
    let alone = from.with_only(vec![take.clone()]);
    let moved = if from.space == onto.space { alone } else { in_space(&alone, &onto.space).0 };
    let (source, target) = (Addresses::new(from), Addresses::new(onto));
    let bare = |address: &str| without_namespace(address).to_owned();
    let find = |address: &str| {
        let same = || onto_bare(onto, &target, &bare(address));
        target.find(address).ok().or_else(same)
    };
    let mut result = moved.takes.into_iter().next().unwrap_or_else(|| take.clone());
    let mut ledger = Ledger::default();
    for layer in &mut result.layers {
        let name = layer.name.clone();
        layer.tracks.retain_mut(|track| {
            let channel = source.property(&track.target);
            let own = (track.target.rig, track.target.node);
            let found = find(source.node(own))
                .filter(|(rig, node)| onto.rigs[*rig].property_kind(*node, &track.target.property).is_some());
            let count = super::channel::count(track);
            let entry = Entry {
                take: take.name.clone(),
                layer: name.clone(),
                channel,
                to: None,
                target: Some(track.target.clone()),
                fate: if found.is_some() { Fate::Kept } else { Fate::LeftOut },
                error: None,
                before: count,
                after: if found.is_some() { count } else { 0 },
                note: if found.is_some() {
                    String::new()
                } else {
                    "the rig has no such node or property".into()
                },
            };
            ledger.entries.push(entry);
            if let Some((rig, node)) = found {
                track.target = Target { rig, node, property: track.target.property.clone() };
            }
            found.is_some()
        });
    }
    (result, ledger)
}

/// The one node with a name, namespaces left out.
fn onto_bare(
    scene: &Scene,
    addresses: &Addresses,
    name: &str,
) -> Option<nimble_curve_scene::address::NodeRef> {
    let mut same = addresses.nodes().iter().filter(|(rig, id)| {
        scene.rigs[*rig].node(*id).is_some_and(|node| without_namespace(&node.name) == name)
    });
    match (same.next(), same.next()) {
        (Some(&only), None) => Some(only),
        _ => None,
    }
}
