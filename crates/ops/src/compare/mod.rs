//! Compare: two scenes side by side, curve by curve and by motion.
//!
//! Nodes are paired by a name map, else by address, else by name without namespace. The second scene is said in the space
//! of the first; instants are the same seconds. Where both rigs rest alike, channels and places in the world are compared
//! as they are. Where they do not, rotations of the world relative to rest are what corresponds, and places are not.

mod curves;
mod motion;
mod pairs;

use std::borrow::Cow;

use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::scene::{Scene, Take, take_partners};
use nimble_curve_scene::similar::similar;
use thiserror::Error;

use self::pairs::{Pairs, Rest};
use super::carry::{CarryError, NameMap, PoseAt, rig_pairs};
use super::space::{in_space, mirrored};

pub use self::curves::{CurveDifference, Gap};

/// What to compare, and how.
#[derive(Clone, Debug, Default)]
pub struct CompareOptions<'a> {
    /// Which node corresponds to which.
    pub map: Option<&'a NameMap>,
    /// The take of the first scene; all where left out.
    pub take: Option<&'a str>,
    /// The instants to look at; the first scene's ranges where left out.
    pub range: Option<TimeRange>,
    /// Patterns of the first scene's nodes; all where there are none.
    pub only: Vec<String>,
    /// The poses of both first rigs that correspond; where there is one, turns are compared relative to them, else where the rigs do
    /// not rest alike relative to rest.
    pub poses: [Option<PoseAt>; 2],
}

/// Scenes that cannot be compared.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CompareError {
    /// A rule of the map that makes no pair.
    #[error("{0}")]
    Rule(Box<CarryError>),
    /// No node corresponds to another.
    #[error("no node of one file is found in the other: give a map with --map")]
    NoPairs,
    /// No take of that name.
    #[error("there is no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoTake {
        /// The name.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// A node that the map names is in neither scene.
    #[error("the map names '{name}', which the {side} file does not have{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoNode {
        /// The name.
        name: String,
        /// `first` or `second`.
        side: &'static str,
        /// One that is there.
        similar: Option<String>,
    },
    /// A pattern matches no node that is compared.
    #[error("no node that is compared matches '{0}'")]
    NoMatch(String),
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// How one property differs in motion, all layers counted.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelDifference {
    /// The address in the first scene.
    pub channel: String,
    /// The address in the second scene, where it is another one.
    pub other: Option<String>,
    /// The angle between rotations, the distance of positions, the difference of numbers; for values that only hold, 1
    /// where they differ.
    pub error: MeasuredError,
}

/// How one node differs in the world.
#[derive(Clone, Debug, PartialEq)]
pub struct JointDifference {
    /// The address in the first scene.
    pub node: String,
    /// The address in the second scene, where it is another one.
    pub other: Option<String>,
    /// The angle between its rotations; relative to rest where the rigs do not rest alike.
    pub rotation: MeasuredError,
    /// The distance of its places in units of the first scene; `None` where the rigs do not rest alike.
    pub position: Option<MeasuredError>,
}

/// Two takes side by side.
#[derive(Clone, Debug, PartialEq)]
pub struct TakeComparison {
    /// The take of the first scene.
    pub take: String,
    /// The take of the second scene.
    pub other: String,
    /// Their ranges, where these differ: first and last frame of each, in the first scene's frames.
    pub ranges: Option<[(f64, f64); 2]>,
    /// The range that was looked at.
    pub range: TimeRange,
    /// Whether only samples were looked at, as one side is samples and the other is not.
    pub at_samples: bool,
    /// Curves that are not the same, by layer and channel.
    pub curves: Vec<CurveDifference>,
    /// How many tracks stand on both sides.
    pub tracks: usize,
    /// Every property that is driven on both sides or one of them, on nodes of both; empty where the rigs do not rest alike.
    pub channels: Vec<ChannelDifference>,
    /// Every pair of nodes.
    pub joints: Vec<JointDifference>,
    /// Nodes that move in the first take and have no partner.
    pub only_first: Vec<String>,
    /// Nodes that move in the second take and have no partner.
    pub only_second: Vec<String>,
}

/// Two scenes side by side.
#[derive(Clone, Debug, PartialEq)]
pub struct Comparison {
    /// Takes that stand in both.
    pub takes: Vec<TakeComparison>,
    /// Takes of the first scene that have no partner.
    pub only_first: Vec<String>,
    /// Takes of the second scene that have no partner.
    pub only_second: Vec<String>,
    /// Whether both rigs rest alike.
    pub rest_alike: bool,
    /// How many pairs of nodes there are.
    pub pairs: usize,
}

/// Compares two scenes.
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
/// use nimble_curve_ops::compare::{CompareOptions, compare};
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let first = scene(walk);
/// let mut second = first.clone();
/// let Controller::Components(curves) = &mut second.takes[0].layers[0].tracks[0].controller else { panic!() };
/// curves[0] = curves[0].affine(1.5, 0.0);
///
/// let comparison = compare(&first, &second, &CompareOptions::default())?;
/// let take = &comparison.takes[0];
/// assert_eq!(take.curves.len(), 1);
/// // Half of the sway's ten centimetres more.
/// assert!((take.joints[0].position.unwrap().largest - 0.05).abs() < 1e-6);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`CompareError`].
pub fn compare(
    first: &Scene,
    second: &Scene,
    options: &CompareOptions<'_>,
) -> Result<Comparison, CompareError> {
    let with_rules = |map: &'_ NameMap| -> Result<NameMap, CarryError> {
        match map.rename.is_empty() {
            true => Ok(map.clone()),
            false => Ok(map.with_rules(first, second, &rig_pairs(first, second, map)?)?.into_owned()),
        }
    };
    let map = options.map.map(with_rules).transpose();
    let map = map.map_err(|error| CompareError::Rule(Box::new(error)))?;
    let options = &CompareOptions { map: map.as_ref(), ..options.clone() };
    let mut second = Cow::Borrowed(second);
    if let Some(pose) = &options.poses[1] {
        // It goes along, as one take more.
        second.to_mut().takes.push(pose.take.clone());
    }
    if let Some(axis) = options.map.and_then(|map| map.mirror) {
        second = Cow::Owned(mirrored(&second, axis).0);
    }
    if second.space != first.space {
        second = Cow::Owned(in_space(&second, &first.space).0);
    }
    let second_pose = match &options.poses[1] {
        Some(pose) => second.to_mut().takes.pop().map(|take| (take, pose.time)),
        None => None,
    };
    let second = &*second;
    let mut pairs = Pairs::new(first, second, options)?;
    let first_pose = options.poses[0].as_ref().map(|pose| (&pose.take, pose.time));
    let second_pose = second_pose.as_ref().map(|(take, time)| (take, *time));
    pairs.rest_alike &= first_pose.is_none() && second_pose.is_none();
    let references = (Rest::at(first, first_pose)?, Rest::at(second, second_pose)?);
    if pairs.all.is_empty() {
        return Err(CompareError::NoPairs);
    }
    let (partners, only_first, only_second) = takes(first, second, options)?;
    let mut comparison = Comparison {
        takes: Vec::new(),
        only_first,
        only_second,
        rest_alike: pairs.rest_alike,
        pairs: pairs.all.len(),
    };
    for (a, b) in partners {
        let range = options.range.unwrap_or(a.range);
        let (channels, joints) = motion::differences(&pairs, &references, (a, b), range)?;
        let rate = first.rate;
        let frames = |take: &Take| (rate.frame(take.range.first), rate.frame(take.range.last));
        let (curves, tracks) = curves::differences(&pairs, (a, b));
        let (only_first, only_second) = pairs.alone((a, b));
        comparison.takes.push(TakeComparison {
            take: a.name.clone(),
            other: b.name.clone(),
            ranges: (a.range != b.range).then(|| [frames(a), frames(b)]),
            range,
            at_samples: motion::samples_alone((a, b)).is_some(),
            curves,
            tracks,
            channels,
            joints,
            only_first,
            only_second,
        });
    }
    Ok(comparison)
}

/// Pairs of takes, and the names of those that have no partner on either side.
type Partners<'a> = (Vec<(&'a Take, &'a Take)>, Vec<String>, Vec<String>);

/// Takes by name; one take and one take are a pair whatever they are called.
fn takes<'a>(
    first: &'a Scene,
    second: &'a Scene,
    options: &CompareOptions<'_>,
) -> Result<Partners<'a>, CompareError> {
    let wanted = |take: &&Take| options.take.is_none_or(|name| take.name == name);
    let a: Vec<(usize, &Take)> = first.takes.iter().enumerate().filter(|(_, take)| wanted(take)).collect();
    if let (Some(name), true) = (options.take, a.is_empty()) {
        let similar = similar(name, first.takes.iter().map(|take| take.name.as_str())).map(str::to_owned);
        return Err(CompareError::NoTake { name: name.to_owned(), similar });
    }
    let b: Vec<&Take> = second.takes.iter().collect();
    let partners = take_partners(&second.takes, &first.takes);
    let partner = |(at, take): &(usize, &Take)| {
        // What is called otherwise is another one.
        let named = partners[*at].map(|other| &second.takes[other]).filter(|other| other.name == take.name);
        let only = || b.first().copied().filter(|_| a.len() == 1 && b.len() == 1);
        named.or_else(only)
    };
    let pairs: Vec<(&Take, &Take)> = a.iter().filter_map(|own| Some((own.1, partner(own)?))).collect();
    let only_first = a.iter().filter(|own| partner(own).is_none()).map(|(_, take)| take.name.clone());
    let is_paired = |other: &&&Take| pairs.iter().any(|(_, paired)| std::ptr::eq(*paired, **other));
    let only_second: Vec<String> = match options.take {
        Some(_) => Vec::new(),
        None => b.iter().filter(|other| !is_paired(other)).map(|other| other.name.clone()).collect(),
    };
    Ok((pairs.clone(), only_first.collect(), only_second))
}
