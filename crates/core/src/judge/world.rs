//! Places in the world: both scenes posed whole, at whole frames and where local transforms are farthest apart.

use rayon::prelude::*;

use super::node::Scenes;
use super::verdict::Verdict;
use crate::evaluate::{EvaluateError, Poses};
use crate::ledger::MeasuredError;
use crate::scene::{Scene, Target};
use crate::value::Quantity;

/// How many of the worst local instants are looked at.
const WORST: usize = 32;

/// Instants that one thread works on at a time.
const CHUNK: usize = 256;

/// Looks at the places of all claimed nodes: at whole frames where there is a limit to hold, and at the worst local instants
/// at any rate.
pub fn look(scenes: &Scenes<'_>, verdict: &mut Verdict) {
    let rate = scenes.result.rate;
    let mut worst: Vec<(f64, f64)> = (verdict.judged.iter())
        .map(|judged| (judged.error.largest / verdict.limits.of(judged.error.quantity), judged.error.frame))
        .collect();
    worst.sort_by(|a, b| b.0.total_cmp(&a.0));
    let range = scenes.span.range;
    let mut times: Vec<f64> =
        worst.into_iter().take(WORST).map(|(_, frame)| frame * rate.ticks_per_frame()).collect();
    if verdict.limits.world.is_finite() {
        let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
        times.extend((first..=last).map(|frame| rate.ticks(frame).as_f64()));
    }
    times.push(range.first.as_f64());
    times.sort_by(f64::total_cmp);
    times.dedup();
    match farthest(scenes, &times) {
        Ok(found) => verdict.world = found,
        Err(error) => verdict.unjudged.push(("places in the world".to_owned(), error.to_string())),
    }
}

fn farthest(scenes: &Scenes<'_>, times: &[f64]) -> Result<Option<(MeasuredError, Target)>, EvaluateError> {
    let places: Vec<[(usize, usize); 2]> = (scenes.claim.nodes.iter())
        .filter_map(|(from, to)| {
            let at = |scene: &Scene, node: &(usize, crate::rig::NodeId)| {
                Some((node.0, scene.rigs.get(node.0)?.position(node.1)?))
            };
            Some([at(scenes.source, from)?, at(scenes.result, to)?])
        })
        .collect();
    let (source_take, result_take) = scenes.takes();
    let part = |times: &[f64]| -> Result<(MeasuredError, Option<usize>), EvaluateError> {
        let mut source = Poses::new(scenes.source, source_take)?;
        let mut result = Poses::new(scenes.result, result_take)?;
        let (mut error, mut farthest) = (MeasuredError::none(Quantity::Length), None);
        for &time in times {
            source.at(scenes.span.clock.source_at(time));
            result.at(time);
            for (index, [(rig, at), (own_rig, own)]) in places.iter().enumerate() {
                let from = scenes.claim.space.length(source.poses[*rig].world[*at].translation);
                let apart = (from - result.poses[*own_rig].world[*own].translation).length();
                let most = error.largest;
                error.take(apart, time);
                if farthest.is_none() || error.largest > most {
                    farthest = Some(index);
                }
            }
        }
        Ok((error, farthest))
    };
    let parts: Vec<_> = times.par_chunks(CHUNK).map(part).collect::<Result<_, _>>()?;
    let mut total = MeasuredError::none(Quantity::Length);
    let mut worst = None;
    for (error, node) in parts {
        if total.count == 0 || error.largest > total.largest {
            worst = node.or(worst);
        }
        total.merge(&error);
    }
    Ok(worst.map(|index| {
        let (rig, node) = scenes.claim.nodes[index].1;
        (total.in_frames(scenes.result.rate), Target { rig, node, property: String::new() })
    }))
}
