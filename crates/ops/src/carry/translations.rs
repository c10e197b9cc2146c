//! Translations of the target: how far from their reference, turned into the axes of the new parent and scaled.

use std::collections::BTreeSet;

use glam::{DAffine3, DMat3, DVec3};
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, SampleKind, Samples, Weight};
use nimble_curve_scene::evaluate::NodeSampler;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::scene::{LayerMode, PropertyKind, Target, Track};

use super::Job;
use super::links::NodePairing;
use super::output::Output;
use super::tracks::{Tracks, base_layer, common_samples};
use crate::conversion::{ConversionContext, refitted_numbers};
use crate::linear::{Sum, Sums};
use crate::rotation_conversion::{ConvertedRotation, SAMPLED_ONLY};
use crate::sampled_function::SampledFunction;
use crate::vectors::Linear;

impl Job<'_> {
    /// What a linked node's translation becomes on all layers of a take.
    pub fn translation(&self, take: &Tracks<'_>, link: &NodePairing, tolerance: f64) -> Vec<Output> {
        let Some(node) = link.translation else { return Vec::new() };
        let tolerance = tolerance / largest(self.onto_frame(link));
        if self.is_untouched(link) {
            let own = take.translations(node).iter();
            return own.map(|&(layer, track)| self.as_it_is(link, layer, track)).collect();
        }
        if self.is_same_list(link) {
            return self.listed_places(take, link);
        }
        let between = self.between(link, node);
        let moving: Vec<NodeId> =
            between.iter().copied().filter(|&id| take.shifts(id) || take.turns(id)).collect();
        let folded = moving.iter().any(|&id| take.shifts(id));
        let is_turned_away = self.same_rigs && !moving.is_empty();
        if !take.shifts(node) && !folded && !is_turned_away {
            return Vec::new();
        }
        let target = self.onto.target(link.target, TRANSLATION);
        let own: Vec<_> =
            between.iter().chain([&node]).flat_map(|&id| take.translations(id)).copied().collect();
        if self.onto.view(link.target).is_none() {
            let why = self.why_unsaid(link);
            return own.iter().map(|&(layer, track)| Output::failed(layer, track, why)).collect();
        }
        let turned = moving.iter().any(|&id| take.turns(id));
        if moving.is_empty() || (!turned && !folded) {
            let linear = self.linear(link, node);
            // What is refitted on several layers adds up.
            let is_refitted = |track: &Track| linear.controller(&track.controller).is_none();
            let refitted = match own.len() {
                1 => 1,
                _ => own.iter().filter(|(_, track)| is_refitted(track)).count().max(1),
            };
            let tolerance = tolerance / refitted as f64;
            return own
                .iter()
                .map(|&(layer, track)| self.on_layer(take, layer, track, &target, linear, tolerance))
                .collect();
        }
        if !turned
            && own
                .iter()
                .all(|(layer, _)| take.take.layers[*layer].mode == LayerMode::Additive || *layer == 0)
            && let Some(outputs) = self.summed(take, link, node, &between, &target)
        {
            return outputs;
        }
        self.whole(take, link, node, &between, &own, &target, tolerance)
    }

    /// Nodes of the source between the one that leads the target's nearest linked ancestor and `node`, from the top down.
    pub(super) fn between(&self, link: &NodePairing, node: NodeId) -> Vec<NodeId> {
        let end = self.links.above(self.onto.rig, link.target).map(|above| above.place.node);
        let mut found: Vec<NodeId> =
            self.from.upwards(node).skip(1).take_while(|&id| Some(id) != end).collect();
        let reaches = end.is_none_or(|end| self.from.upwards(node).any(|id| id == end));
        if !reaches {
            found.clear();
        }
        found.retain(|id| !self.links.left_out.contains(id) && self.links.of_source(*id).is_none());
        found.reverse();
        found
    }

    /// The change from a node's translation to that of the target.
    fn linear(&self, link: &NodePairing, node: NodeId) -> Linear {
        let matrix = self.onto_frame(link).inverse() * self.from.parent_frame(node);
        let (from, onto) = (self.from.position(node), self.onto.position(link.target));
        let rest_of = |view: Option<&nimble_curve_scene::rig::Canonical>| {
            view.map_or(DVec3::ZERO, |view| view.translation)
        };
        Linear::through(
            matrix,
            self.scale,
            (self.from.translations[from], self.onto.translations[onto]),
            (rest_of(self.from.view(node)), rest_of(self.onto.view(link.target))),
        )
    }

    /// What takes a place beside the target's parent into the world when all linked nodes are in their reference pose.
    pub(super) fn onto_frame(&self, link: &NodePairing) -> DMat3 {
        let turn = self.onto.above(link.target, |id| self.links.is_target(id));
        let stretch =
            self.onto.rig.parent(link.target).map_or(DMat3::IDENTITY, |parent| self.onto.stretch(parent));
        DMat3::from_quat(turn) * stretch
    }

    fn on_layer(
        &self,
        take: &Tracks<'_>,
        layer: usize,
        track: &Track,
        target: &Target,
        linear: Linear,
        tolerance: f64,
    ) -> Output {
        let additive = take.take.layers[layer].mode == LayerMode::Additive;
        let linear = if additive { linear.of_differences() } else { linear };
        let mut note = linear.note();
        if matches!(track.controller, Controller::Procedural(_)) && !linear.keeps() {
            note = SAMPLED_ONLY.to_owned();
        }
        if linear.keeps() {
            let controller = track.controller.clone();
            return Output::made(
                layer,
                track,
                target,
                ConvertedRotation { controller, fate: Fate::Kept, error: None, note },
            );
        }
        if let Some(controller) = linear.controller(&track.controller) {
            let fate = Fate::Exact;
            return Output::made(
                layer,
                track,
                target,
                ConvertedRotation { controller, fate, error: None, note },
            );
        }
        // No sum of curves is the curve: through what it comes to.
        let node = track.target.node;
        let kind = PropertyKind::Vector(Quantity::Length);
        let rest = match self.from.rig.rest_value(node, &track.target.property) {
            Some(rest) if !additive => rest,
            _ => Value::Vector(DVec3::ZERO),
        };
        let times = track.controller.key_times(take.take.range);
        let Ok(mut sampler) = nimble_curve_scene::evaluate::Sampler::new(&track.controller, kind, rest)
        else {
            let why = format!("a {} controller cannot be turned", track.controller.type_name());
            return Output::failed(layer, track, why);
        };
        let trace = SampledFunction::of_function(move |time| match sampler.value_at(time) {
            Value::Vector(v) => Value::Vector(linear.vector(v)),
            other => other,
        });
        match self.refitted(&trace, &times, take, tolerance, note) {
            Ok(turned) => Output::made(layer, track, target, turned),
            Err(why) => Output::failed(layer, track, why),
        }
    }

    fn refitted(
        &self,
        trace: &SampledFunction<'_>,
        times: &[Ticks],
        take: &Tracks<'_>,
        tolerance: f64,
        note: String,
    ) -> Result<ConvertedRotation, String> {
        let setting = ConversionContext {
            kind: PropertyKind::Vector(Quantity::Length),
            rest: Value::Vector(DVec3::ZERO),
            tolerance,
            rate: self.source.rate,
            range: take.take.range,
        };
        let changed = refitted_numbers(trace, times, &setting, None).map_err(|why| why.to_string())?;
        let error = changed.error.map(|error| error.in_frames(self.source.rate));
        Ok(ConvertedRotation { controller: changed.controller, fate: changed.fate, error, note })
    }

    /// The sum of the translations of several nodes between which nothing turns, layer by layer.
    fn summed(
        &self,
        take: &Tracks<'_>,
        link: &NodePairing,
        node: NodeId,
        between: &[NodeId],
        target: &Target,
    ) -> Option<Vec<Output>> {
        let mut outputs = Vec::new();
        let mut by_layer: Vec<Vec<(NodeId, &Track)>> = vec![Vec::new(); take.take.layers.len()];
        for &id in between.iter().chain([&node]) {
            for &(layer, track) in take.translations(id) {
                by_layer[layer].push((id, track));
            }
        }
        let frame = self.onto_frame(link);
        let out_of_parent = frame.inverse();
        let tolerance = self.tolerance.length / self.target.space.metres_per_unit / largest(frame);
        for (layer, tracks) in by_layer.into_iter().enumerate().filter(|(_, tracks)| !tracks.is_empty()) {
            if let [(id, track)] = tracks.as_slice()
                && *id == node
            {
                let linear = self.linear(link, node);
                outputs.push(self.on_layer(take, layer, track, target, linear, tolerance));
                continue;
            }
            let additive = take.take.layers[layer].mode == LayerMode::Additive;
            let mut numbers: [Sum; 3] = Default::default();
            let reference = self.onto.translations[self.onto.position(link.target)];
            if !additive {
                for (number, value) in numbers.iter_mut().zip(reference.to_array()) {
                    number.offset = value;
                }
            }
            for &(id, track) in &tracks {
                let matrix = out_of_parent * self.from.parent_frame(id);
                let rest = match additive {
                    true => DVec3::ZERO,
                    false => self.from.view(id).map_or(DVec3::ZERO, |view| view.translation),
                };
                let kind = PropertyKind::Vector(Quantity::Length);
                let own = Sums::of_controller(&track.controller, kind, &Value::Vector(rest))?;
                let from =
                    if additive { DVec3::ZERO } else { self.from.translations[self.from.position(id)] };
                for (component, number) in numbers.iter_mut().enumerate() {
                    for axis in 0..3 {
                        let factor = matrix.col(axis)[component];
                        if factor.abs() > 1e-9 {
                            let is_one = (factor.abs() - 1.0).abs() < 1e-9;
                            let factor = if is_one { factor.signum() } else { factor };
                            number.add(&own.numbers[axis], factor * self.scale);
                            number.offset -= factor * self.scale * from[axis];
                        }
                    }
                }
            }
            let mut curves = numbers.iter().map(Sum::curve).collect::<Option<Vec<_>>>()?;
            let offsets = numbers.each_ref().map(|number| number.offset);
            let rest = if additive { [0.0; 3] } else { reference.to_array() };
            crate::linear::with_constants(&mut curves, &offsets, Some(&rest), take.take.range.first);
            let names: Vec<&str> =
                tracks.iter().map(|(id, _)| self.source_addresses.node(self.from.node(*id))).collect();
            let note = format!("sum of {}", names.join(" and "));
            let answering = tracks.iter().position(|(id, _)| *id == node).unwrap_or(0);
            let controller = Controller::Components(curves);
            let turned = ConvertedRotation { controller, fate: Fate::Exact, error: None, note };
            outputs.push(Output::made(layer, tracks[answering].1, target, turned));
            for (index, (_, track)) in tracks.iter().enumerate() {
                if index != answering {
                    outputs.push(Output::folded(layer, track, target, "added into it"));
                }
            }
        }
        Some(outputs)
    }

    /// The place of a node beside the one above that is linked, all layers and turns between counted, on the base layer.
    #[allow(clippy::too_many_arguments)]
    fn whole(
        &self,
        take: &Tracks<'_>,
        link: &NodePairing,
        node: NodeId,
        between: &[NodeId],
        own: &[(usize, &Track)],
        target: &Target,
        tolerance: f64,
    ) -> Vec<Output> {
        let failed = |why: String| -> Vec<Output> {
            own.iter().map(|&(layer, track)| Output::failed(layer, track, why.clone())).collect()
        };
        let Some(base) = base_layer(take.take) else {
            return failed("the take has no base layer that counts in full".into());
        };
        let top = between.first().copied().unwrap_or(node);
        let mut samplers = Vec::new();
        for &id in between.iter().chain([&node]) {
            match NodeSampler::new(self.source, Some(take.take), self.from.node(id)) {
                Ok(sampler) => samplers.push(sampler),
                Err(error) => return failed(error.to_string()),
            }
        }
        // The frame above the topmost of them, in the reference pose.
        let above = self
            .from
            .rig
            .parent(top)
            .map_or(DAffine3::IDENTITY, |parent| self.from.places[self.from.position(parent)]);
        let start = self.from.places[self.from.position(node)].translation;
        let reference = self.onto.translations[self.onto.position(link.target)];
        let (turn, scale) = (self.onto_frame(link).inverse(), self.scale);
        let trace = SampledFunction::of_function(move |time| {
            let world = samplers.iter_mut().fold(above, |world, sampler| world * sampler.local_at(time).0);
            Value::Vector(reference + turn * (world.translation - start) * scale)
        });
        let mut times: BTreeSet<Ticks> = BTreeSet::new();
        for &id in between.iter().chain([&node]) {
            for &(layer, track) in take.translations(id).iter().chain(take.rotations(id)) {
                let on = &take.take.layers[layer];
                if on.is_active()
                    && (id != node || take.translations(id).iter().any(|own| std::ptr::eq(own.1, track)))
                {
                    times.extend(track.controller.key_times(take.take.range));
                    if let Weight::Curve(curve) = &on.weight {
                        times.extend(curve.keys().iter().map(|key| key.time));
                    }
                    if let Some(samples) = track.controller.samples() {
                        times.extend((0..samples.len()).map(|index| samples.time(index)));
                    }
                }
            }
        }
        let times: Vec<Ticks> = times.into_iter().collect();
        let answering = own.iter().position(|(_, track)| track.target.node == node).unwrap_or(0);
        let note = "moves with turns between pairs, layers written together".to_owned();
        let all: Vec<(usize, &Track)> = between
            .iter()
            .flat_map(|&id| take.translations(id).iter().chain(take.rotations(id)))
            .chain(take.translations(node))
            .copied()
            .collect();
        let first = match common_samples(&all) {
            Some((grid, is_all)) => {
                let row = |index| match trace.value(grid.time(index).as_f64()) {
                    Value::Vector(v) => v.to_array(),
                    _ => [0.0; 3],
                };
                let values = (0..grid.len()).flat_map(row).collect();
                let kind = SampleKind::Vector;
                let controller = Controller::Samples(Samples { kind, values, ..grid });
                let fate = if is_all { Fate::Exact } else { Fate::Sampled };
                Ok(ConvertedRotation { controller, fate, error: None, note })
            }
            None => self.refitted(&trace, &times, take, tolerance, note),
        };
        let first = match (first, own.get(answering)) {
            (Ok(turned), Some(&(layer, track))) => {
                Output::made(base, track, target, turned).of_source_layer(layer)
            }
            // What only turns between move has no track of its own.
            (Ok(turned), None) => Output::added(base, target, turned),
            (Err(why), _) => return failed(why),
        };
        let mut outputs = vec![first];
        for (index, &(layer, track)) in own.iter().enumerate() {
            if index != answering {
                outputs.push(Output::folded(layer, track, target, "added into it"));
            }
        }
        outputs
    }
}

/// A bound on how much farther a matrix takes anything, and near that where it turns and sizes.
fn largest(frame: DMat3) -> f64 {
    let rows = (frame.transpose().abs() * DVec3::ONE).max_element();
    let columns = (frame.abs() * DVec3::ONE).max_element();
    let bound = (rows * columns).sqrt();
    // A turn takes everything as far as it is.
    let is_turn = (frame * frame.transpose()).abs_diff_eq(DMat3::IDENTITY, 1e-9);
    if is_turn || bound <= 0.0 { 1.0 } else { bound }
}
