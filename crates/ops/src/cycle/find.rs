//! Ranges that loop, or nearly do.

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::scene::{Scene, Take};
use rayon::prelude::*;

use crate::travel::{Body, Ends, Travel, busiest_rig, travel};

/// The most instants of a take that are compared with each other.
pub(super) const LOOKS: usize = 240;

/// Rounds that turn by less than this, in radians, go straight on.
pub(super) const TURNS: f64 = 1e-4;

/// Two ranges that share this part of their frames are the same proposal.
pub(super) const SAME: f64 = 0.6;

/// In a loop some node turns by more than this, in radians.
pub(super) const GOES: f64 = 0.05;

/// Loops are no shorter than this, in seconds.
pub(super) const SHORTEST: f64 = 0.3;

/// A range that may loop.
#[derive(Clone, Debug, PartialEq)]
pub struct Candidate {
    /// What it is: a take, a clip, or `None` for a range inside a take.
    pub name: Option<String>,
    /// The take.
    pub take: String,
    /// The range; its last frame is its first one again.
    pub range: TimeRange,
    /// Where it goes, and how its ends meet.
    pub travel: Travel,
}

impl Candidate {
    /// How badly the loop would jump: degrees of the worst joint, and a tenth of a second of its change of speed.
    pub fn jump(&self) -> f64 {
        jump(&self.travel.ends)
    }
}

pub(super) fn jump(ends: &Ends) -> f64 {
    (ends.angle + 0.1 * ends.speed).to_degrees()
}

/// The takes and clips of a scene as loops, and, in takes longer than a loop, the best places for one, at most `most` a
/// take; the best come first.
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
/// # let arm = rig.add(Some(hips), Node::new("arm", NodeKind::Joint, glam::DVec3::X, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, arm, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::cycle::find;
///
/// // An arm that swings, there and back in a second.
/// let angles = curves([&[(0, 0.0), (24, 0.0)], &[(0, 0.0), (12, 0.3), (24, 0.0)], &[(0, 0.0), (24, 0.0)]]);
/// let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yxz, curves: angles });
/// let swing = take("swing", 24, vec![track(ROTATION, controller)]);
/// let candidates = find(&scene(swing), 3)?;
/// // The take itself is one of them, and its ends meet.
/// let swing = candidates.iter().find(|candidate| candidate.name.as_deref() == Some("swing")).unwrap();
/// assert!(swing.travel.ends.angle < 1e-6);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn find(scene: &Scene, most: usize) -> Result<Vec<Candidate>, EvaluateError> {
    let mut all = Vec::new();
    for take in &scene.takes {
        let whole = (take.name.clone(), take.range);
        let clips = take.clips.iter().map(|clip| (clip.name.clone(), clip.range));
        let named = std::iter::once(whole).chain(clips.filter(|(_, range)| *range != take.range));
        for (name, range) in named.filter(|(_, range)| range.first < range.last) {
            let travel = travel(scene, take, range)?;
            all.push(Candidate { name: Some(name), take: take.name.clone(), range, travel });
        }
        for range in inside(scene, take, most)? {
            let travel = travel(scene, take, range)?;
            all.push(Candidate { name: None, take: take.name.clone(), range, travel });
        }
    }
    all.retain(|candidate| candidate.travel.ends.reach > 20.0 * Ends::MEET);
    all.sort_by(|a, b| a.jump().total_cmp(&b.jump()).then_with(|| a.range.first.cmp(&b.range.first)));
    Ok(all)
}

/// The best ranges inside a take, apart from each other.
pub(super) fn inside(scene: &Scene, take: &Take, most: usize) -> Result<Vec<TimeRange>, EvaluateError> {
    let rate = scene.rate;
    let (first, last) =
        (rate.frame(take.range.first).ceil() as i64, rate.frame(take.range.last).floor() as i64);
    let stride = ((last - first) as usize / LOOKS).max(1) as i64;
    let shortest = ((SHORTEST * rate.fps()) as i64).max(2);
    if most == 0 || last - first < shortest {
        return Ok(Vec::new());
    }
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let mut pose = Pose::default();
    let frames: Vec<i64> = (first..=last).step_by(stride as usize).collect();
    let instants: Vec<_> =
        frames.iter().map(|frame| body.at(rate.ticks(*frame).as_f64(), &mut pose)).collect();
    // How far poses are apart, and how far those a step on are: where both are small the motion comes again.
    let apart = |a: usize, b: usize| {
        let here = Body::apart(&instants[a], &instants[b]).0;
        let next = match (instants.get(a + 1), instants.get(b + 1)) {
            (Some(a), Some(b)) => Body::apart(a, b).0,
            _ => here,
        };
        here + 0.5 * next
    };
    let span = (shortest / stride).max(1) as usize;
    let mut pairs: Vec<(f64, usize, usize)> = (0..frames.len())
        .into_par_iter()
        .flat_map_iter(|a| (a + span..frames.len()).map(move |b| (a, b)))
        .map(|(a, b)| (apart(a, b), a, b))
        .collect();
    pairs.sort_by(|x, y| x.0.total_cmp(&y.0).then((x.2 - x.1).cmp(&(y.2 - y.1))).then(x.1.cmp(&y.1)));
    let mut found: Vec<(TimeRange, f64)> = Vec::new();
    let named: Vec<TimeRange> = take.clips.iter().map(|clip| clip.range).collect();
    // Another place, or another length: not much the same frames as one that was found.
    let is_known = |found: &[(TimeRange, f64)], first: Ticks, last: Ticks| {
        found.iter().map(|(own, _)| own).chain(&named).any(|own| {
            let common = (own.last.min(last) - own.first.max(first)).0.max(0) as f64;
            let all = (own.last.max(last) - own.first.min(first)).as_f64();
            common > SAME * all
        })
    };
    for (_, a, b) in pairs {
        let goes = |k: usize| Body::apart(&instants[a], &instants[k]).0 > GOES;
        if is_known(&found, rate.ticks(frames[a]), rate.ticks(frames[b])) || !(a..b).any(goes) {
            continue;
        }
        // To the frame, around where it was looked at.
        let mut best: Option<(TimeRange, f64)> = None;
        let around = if stride > 1 { stride } else { 0 };
        for from in (frames[a] - around).max(first)..=frames[a] + around {
            for to in frames[b] - around..=(frames[b] + around).min(last) {
                let range = TimeRange::new(rate.ticks(from), rate.ticks(to));
                if to - from < shortest {
                    continue;
                }
                let ends = body.ends(range, 1.0, 0.0);
                if best.is_none_or(|(_, least)| jump(&ends) < least) {
                    best = Some((range, jump(&ends)));
                }
            }
        }
        let Some((range, jump)) = best else { continue };
        if range != take.range {
            found.push((range, jump));
        }
        if found.len() >= 4 * most {
            break;
        }
    }
    found.sort_by(|a, b| a.1.total_cmp(&b.1));
    found.truncate(most);
    Ok(found.into_iter().map(|(range, _)| range).collect())
}
