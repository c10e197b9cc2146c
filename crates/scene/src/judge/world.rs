//! The world: both scenes posed whole, at whole frames and where local transforms are farthest apart.

use std::collections::HashSet;

use glam::DQuat;
use nimble_curve_curves::value::Quantity;
use rayon::prelude::*;

use super::means::Standing;
use super::scenes::Scenes;
use super::sides::turned;
use super::verdict::Verdict;
use crate::address::NodeRef;
use crate::controller::Samples;
use crate::evaluate::{EvaluateError, Poses, driving};
use crate::ledger::MeasuredError;
use crate::parts::axes_apart;
use crate::scene::{Scene, TracksByNode};

/// How many of the worst local instants are looked at.
const WORST: usize = 32;

/// Instants that one thread works on at a time.
const CHUNK: usize = 256;

/// Looks at where all claimed nodes are and how they are turned: at whole frames where there is a limit to hold, or where a part of
/// a transform is missing, which moves what is below; and at the worst local instants at any rate.
pub fn look(scenes: &Scenes<'_>, verdict: &mut Verdict) {
    let rate = scenes.result.rate;
    let mut worst: Vec<(f64, f64)> = (verdict.judged.iter())
        .map(|judged| (judged.error.largest / verdict.limits.of(judged.error.quantity), judged.error.frame))
        .collect();
    worst.sort_by(|a, b| b.0.total_cmp(&a.0));
    let range = scenes.span.range;
    let mut times: Vec<f64> =
        worst.into_iter().take(WORST).map(|(_, frame)| frame * rate.ticks_per_frame()).collect();
    if verdict.limits.world.is_finite() || verdict.limits.world_turn.is_finite() || lacks_steps(scenes) {
        let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
        times.extend((first..=last).map(|frame| rate.ticks(frame).as_f64()));
        if scenes.claim.world.is_some() {
            // What is promised of the world itself is looked at between frames, too.
            let half = rate.ticks_per_frame() * 0.5;
            times.extend((first..last).map(|frame| rate.ticks(frame).as_f64() + half));
        }
    }
    times.push(range.first.as_f64());
    // Many share their instants.
    let mut promised: Vec<&[f64]> =
        scenes.claim.world.iter().flatten().filter_map(|standing| standing.at.as_deref()).collect();
    promised.sort_by_key(|at| at.as_ptr());
    promised.dedup_by_key(|at| at.as_ptr());
    let in_result = promised.into_iter().flatten().map(|time| scenes.span.clock.result_at(*time));
    times.extend(in_result.filter(|time| (range.first.as_f64()..=range.last.as_f64()).contains(time)));
    times.sort_by(f64::total_cmp);
    times.dedup();
    match farthest(scenes, &times) {
        Ok([place, turn]) => (verdict.world, verdict.world_turn) = (place, turn),
        Err(error) => verdict.unjudged.push(("places in the world".to_owned(), error.to_string())),
    }
}

/// Whether a step of a transform is excused in the stretch.
pub fn lacks_steps(scenes: &Scenes<'_>) -> bool {
    let excuses = scenes.claim.excuses.iter().filter(|excuse| excuse.take == scenes.span.source);
    excuses.filter(|excuse| excuse.layer.is_none()).any(|excuse| {
        let rig = scenes.source.rigs.get(excuse.target.rig);
        let node = rig.and_then(|rig| rig.node(excuse.target.node));
        node.is_some_and(|node| node.op(&excuse.target.property).is_some())
    })
}

/// A pair of nodes by their positions in their rigs.
struct Pair<'a> {
    /// When it is claimed; always where nothing is said.
    at: Option<&'a [f64]>,
    source: (usize, usize),
    result: (usize, usize),
    references: Option<(DQuat, DQuat)>,
    place: bool,
    slack: [f64; 2],
    node: NodeRef,
    /// Baked data on it or above it, in the source and in the result: between its samples nobody knows where it is.
    sampled: [Vec<&'a Samples>; 2],
}

impl Pair<'_> {
    /// Whether anything is claimed of it at a time of the source, to the nearest tick.
    fn is_claimed(&self, source: f64) -> bool {
        self.at.is_none_or(|at| {
            let next = at.partition_point(|own| *own < source - 0.5);
            at.get(next).is_some_and(|own| *own <= source + 0.5)
        })
    }

    /// Whether it is known where it is at a time of the source and of the result.
    fn is_known(&self, source: f64, result: f64) -> bool {
        let at = |samples: &&Samples, time: f64| {
            let (index, _) = samples.locate(time);
            let near =
                |index: usize| index < samples.len() && (samples.time(index).as_f64() - time).abs() <= 1.0;
            // Outside its samples it stays as it is, or goes on as is said.
            let (first, last) = (samples.time(0).as_f64(), samples.time(samples.len() - 1).as_f64());
            near(index) || near(index + 1) || !(first..=last).contains(&time)
        };
        self.sampled[0].iter().all(|samples| at(samples, source))
            && self.sampled[1].iter().all(|samples| at(samples, result))
    }
}

/// The baked data on each node of a scene, and on those above it.
fn sampled<'a>(scene: &Scene, tracks: &TracksByNode<'a>, (rig, node): NodeRef) -> Vec<&'a Samples> {
    let Some(of) = scene.rigs.get(rig) else { return Vec::new() };
    let upwards: HashSet<NodeRef> = match scene.constraints.is_empty() {
        true => std::iter::successors(Some(node), |id| of.parent(*id)).map(|id| (rig, id)).collect(),
        // What cannot be worked out is told where it is looked at.
        false => {
            driving(scene, [(rig, node)]).map_or(HashSet::new(), |(nodes, _)| nodes.into_iter().collect())
        }
    };
    let own = upwards.into_iter().flat_map(|node| tracks.on(node));
    let mut grids: Vec<&Samples> = own.filter_map(|(_, track)| track.controller.samples()).collect();
    // One of each grid is enough.
    grids.sort_by_key(|samples| (samples.start, samples.len(), samples.rate.ticks_per_frame().to_bits()));
    grids.dedup_by_key(|samples| (samples.start, samples.len(), samples.rate.ticks_per_frame().to_bits()));
    grids
}

/// The largest error of a quantity, and the pair that has it.
type Farthest = (MeasuredError, Option<usize>);

fn take(farthest: &mut Farthest, apart: f64, time: f64, index: usize) {
    let most = farthest.0.largest;
    farthest.0.take(apart, time);
    if farthest.1.is_none() || farthest.0.largest > most {
        farthest.1 = Some(index);
    }
}

/// What is farthest, in place and in turn.
fn farthest(
    scenes: &Scenes<'_>,
    times: &[f64],
) -> Result<[Option<(MeasuredError, String)>; 2], EvaluateError> {
    let at = |scene: &Scene, node: NodeRef| Some((node.0, scene.rigs.get(node.0)?.position(node.1)?));
    let (source_take, result_take) = scenes.takes();
    let pair = |node_of: (NodeRef, NodeRef), references, place| {
        let (source, own) = (at(scenes.source, node_of.0)?, at(scenes.result, node_of.1)?);
        let grids = [
            sampled(scenes.source, &scenes.tracks.0, node_of.0),
            sampled(scenes.result, &scenes.tracks.1, node_of.1),
        ];
        let (at, slack, node) = (None, [0.0; 2], node_of.1);
        Some(Pair { at, source, result: own, references, place, slack, node, sampled: grids })
    };
    let pairs: Vec<Pair<'_>> = match &scenes.claim.world {
        Some(world) => world
            .iter()
            .filter_map(|of: &Standing| {
                let pair = pair((of.source, of.result), of.references, of.place)?;
                Some(Pair { at: of.at.as_deref(), slack: of.slack, ..pair })
            })
            .collect(),
        None => scenes.claim.nodes.iter().filter_map(|&nodes| pair(nodes, None, true)).collect(),
    };
    let map = &scenes.claim.space;
    let nothing =
        || [(MeasuredError::none(Quantity::Length), None), (MeasuredError::none(Quantity::Angle), None)];
    let part = |times: &[f64]| -> Result<[Farthest; 2], EvaluateError> {
        let mut source = Poses::new(scenes.source, source_take)?;
        let mut result = Poses::new(scenes.result, result_take)?;
        let mut found: [Farthest; 2] = nothing();
        for &time in times {
            let source_time = scenes.span.clock.source_at(time);
            source.at(source_time);
            result.at(time);
            for (index, pair) in pairs.iter().enumerate() {
                if !pair.is_claimed(source_time) || !pair.is_known(source_time, time) {
                    continue;
                }
                let (theirs, ours) = (&source.poses[pair.source.0], &result.poses[pair.result.0]);
                if pair.place {
                    let from = map.length(theirs.world[pair.source.1].translation);
                    let apart = (from - ours.world[pair.result.1].translation).length();
                    take(&mut found[0], (apart - pair.slack[0]).max(0.0), time, index);
                }
                if let Some((from, own)) = pair.references {
                    let wanted = map.rotation(theirs.world_rotation[pair.source.1] * from.conjugate());
                    let mut apart = turned(wanted, ours.world_rotation[pair.result.1] * own.conjugate());
                    if apart > 0.0 && from == DQuat::IDENTITY && own == DQuat::IDENTITY {
                        // Below what is mirrored the same axes may come of other turns.
                        let wanted = map.affine(theirs.world[pair.source.1]).matrix3;
                        apart = apart.min(axes_apart(wanted, ours.world[pair.result.1].matrix3));
                    }
                    take(&mut found[1], (apart - pair.slack[1]).max(0.0), time, index);
                }
            }
        }
        Ok(found)
    };
    let parts: Vec<_> = times.par_chunks(CHUNK).map(part).collect::<Result<_, _>>()?;
    let mut total = nothing();
    for of_part in parts {
        for (total, (error, pair)) in total.iter_mut().zip(of_part) {
            if total.0.count == 0 || error.largest > total.0.largest {
                total.1 = pair.or(total.1);
            }
            total.0.merge(&error);
        }
    }
    Ok(total.map(|(error, pair)| {
        let node = scenes.addresses.1.node(pairs[pair?].node).to_owned();
        Some((error.in_frames(scenes.result.rate), node))
    }))
}
