//! Rotations that are products of several turns, or parts of them, where chains are of other lengths.

use std::collections::BTreeSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Side};
use nimble_curve_curves::rotation::{
    AngleTolerance, Between, Conversion, RotationOrder, RotationPath as _, convert, from_vector,
    nearest_euler, nearest_vector,
};
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, Weight};
use nimble_curve_scene::evaluate::NodeSampler;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Take, Target, Track};

use super::Job;
use super::links::{Factor, NodePairing};
use super::output::Output;
use super::rotations::Recipe;
use super::tracks::{Tracks, base_layer, common_samples};
use crate::fitting::{Kept, Refitted, kept_of, refit_rotation};
use crate::rotation_conversion::ConvertedRotation;
use crate::sampled_function::SampledFunction;

impl Job<'_> {
    /// The product of several turns or parts of turns, all layers counted, on the base layer.
    pub(super) fn product(
        &self,
        tracks_of: &Tracks<'_>,
        link: &NodePairing,
        recipe: &Recipe,
        target: &Target,
        (tolerance, key_by_key): (AngleTolerance<'_>, bool),
    ) -> Vec<Output> {
        let take = tracks_of.take;
        let tracks: Vec<(usize, &Track)> =
            recipe.factors.iter().flat_map(|factor| tracks_of.rotations(factor.node)).copied().collect();
        let Some(base) = base_layer(take) else {
            return self.failed(tracks_of, recipe, "the take has no base layer that counts in full");
        };
        let order = self.order(link, &tracks);
        let mut samplers = Vec::with_capacity(recipe.factors.len());
        for factor in &recipe.factors {
            match NodeSampler::new(self.source, Some(take), self.from.node(factor.node)) {
                Ok(sampler) => samplers.push(sampler),
                Err(error) => return self.failed(tracks_of, recipe, &error.to_string()),
            }
        }
        let frames: Vec<(DQuat, DQuat, f64)> = (recipe.factors.iter())
            .map(|f| (self.from.parent_world(f.node), self.from.world_of(f.node).conjugate(), f.part))
            .collect();
        let mut vectors = vec![DVec3::ZERO; frames.len()];
        let trace = SampledFunction::of_function(move |time| {
            let mut turn = DQuat::IDENTITY;
            for ((sampler, (before, after, part)), near) in samplers.iter_mut().zip(&frames).zip(&mut vectors)
            {
                let delta = *before * sampler.local_at(time).1 * *after;
                turn *= match *part {
                    1.0 => delta,
                    -1.0 => delta.conjugate(),
                    part => {
                        // The branch nearest to the last one asked for, so that more than half a turn does not flip.
                        *near = nearest_vector(delta, *near);
                        from_vector(*near * part)
                    }
                };
            }
            Value::Quaternion(turn.normalize())
        });
        let mut times: BTreeSet<Ticks> = BTreeSet::new();
        for (layer, track) in &tracks {
            if take.layers[*layer].is_active() {
                times.extend(track.controller.key_times(take.range));
            }
            if let (true, Weight::Curve(curve)) =
                (take.layers[*layer].is_active(), &take.layers[*layer].weight)
            {
                times.extend(curve.keys().iter().map(|key| key.time));
            }
            if let Some(samples) = track.controller.samples() {
                times.extend((0..samples.len()).map(|index| samples.time(index)));
            }
        }
        let times: Vec<Ticks> =
            if times.is_empty() { vec![take.range.first] } else { times.into_iter().collect() };
        let start = match self.onto.rig.rest_value(link.target, ROTATION) {
            Some(Value::Euler { angles, .. }) => angles,
            _ => DVec3::ZERO,
        };
        let note = self.said(tracks_of, link, &recipe.factors);
        let turned = if let Some((grid, is_all)) = common_samples(&tracks) {
            let mut near = start;
            let rotation = |time: f64| recipe.before * trace.rotation(time, Side::Right) * recipe.after;
            let rows = (0..grid.len()).flat_map(|index| {
                near = nearest_euler(order, rotation(grid.time(index).as_f64()), near);
                near.to_array()
            });
            let values = rows.collect();
            let kind = SampleKind::Euler(order);
            let controller = Controller::Samples(Samples { kind, values, ..grid });
            ConvertedRotation {
                controller,
                fate: if is_all { Fate::Exact } else { Fate::Sampled },
                error: None,
                note,
            }
        } else {
            let kept = if key_by_key { None } else { kept_of_all(take, &tracks) };
            self.fitted(trace, (&times, kept), recipe, (order, start, tolerance), note)
        };
        // The track of the node that it follows answers for it, else the first one that goes in.
        let own = tracks.iter().position(|(_, track)| track.target.node == link.place.node).unwrap_or(0);
        let Some(&(layer, track)) = tracks.get(own) else {
            return vec![Output::added(base, target, turned)];
        };
        let is_end = link.place.part == 1.0 && track.target.node == link.place.node;
        let first = Output::made(base, track, target, turned).of_source_layer(layer);
        let mut outputs = vec![if is_end { first } else { first.beside() }];
        for (index, &(layer, track)) in tracks.iter().enumerate() {
            if index != own {
                outputs.push(Output::folded(layer, track, target, "folded into it"));
            }
        }
        outputs
    }

    /// Euler curves through a traced product, with keys at the times of its parts, or at others where a fit chose these.
    fn fitted(
        &self,
        trace: SampledFunction<'_>,
        (times, kept): (&[Ticks], Option<Kept>),
        recipe: &Recipe,
        (order, start, tolerance): (RotationOrder, DVec3, AngleTolerance<'_>),
        note: String,
    ) -> ConvertedRotation {
        let knots = trace.knots(times);
        let path = Between { path: trace, before: recipe.before, after: recipe.after };
        let rate = self.source.rate;
        let refitted = kept.and_then(|kept| {
            refit_rotation(|time| path.rotation(time, Side::Right), rate, (order, start), tolerance, &kept)
        });
        if let Some(Refitted { curves, error }) = refitted {
            let controller = Controller::Euler(EulerCurves { order, curves });
            let error = Some(error.in_frames(rate));
            return ConvertedRotation { controller, fate: Fate::Refitted, error, note };
        }
        let conversion =
            Conversion { handles: self.handles, ..Conversion::new(order, tolerance, rate, start) };
        let made = convert(&path, &knots, &conversion);
        let controller = Controller::Euler(EulerCurves { order, curves: made.curves });
        ConvertedRotation { controller, fate: Fate::Refitted, error: Some(made.error.in_frames(rate)), note }
    }

    /// What a product is made of, in words.
    pub(super) fn said(&self, tracks: &Tracks<'_>, link: &NodePairing, factors: &[Factor]) -> String {
        let mut parts = Vec::new();
        for factor in factors {
            let name = self.source_addresses.node(self.from.node(factor.node));
            parts.push(match factor.part {
                1.0 => name.to_owned(),
                -1.0 => format!("{name} undone"),
                part => format!("{:.0}% of {name}", part * 100.0),
            });
        }
        let layers: BTreeSet<usize> = factors
            .iter()
            .flat_map(|factor| tracks.rotations(factor.node))
            .map(|(layer, _)| *layer)
            .collect();
        let layered = if layers.len() > 1 { ", layers written together" } else { "" };
        let how = if link.in_chain { "chain" } else { "turns between pairs" };
        format!("{how}: {}{layered}", parts.join(" · "))
    }
}

/// What stays of the keys of some tracks that make one rotation, where a fit chose most of them.
fn kept_of_all(take: &Take, tracks: &[(usize, &Track)]) -> Option<Kept> {
    let all: Option<Vec<&EulerCurves>> = (tracks.iter())
        .map(|(layer, track)| match (&track.controller, &take.layers[*layer].weight) {
            (Controller::Euler(euler), Weight::Constant(_)) => Some(euler),
            _ => None,
        })
        .collect();
    let all = all?;
    let held = |curve: &Curve| curve.is_held_outside() && curve.inner_loop().is_none();
    kept_of(&all).filter(|_| all.iter().all(|euler| euler.curves.iter().all(held)))
}
