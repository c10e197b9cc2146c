//! Rotations of the target: by constants around the source's where one node leads to another, by the product of several
//! turns, or parts of them, where chains are of other lengths.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{AngleTolerance, ConversionCache, RotationOrder, exact_way};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::neutral;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{LayerMode, PropertyKind, RotationMixing, Take, Target, Track};

use super::Job;
use super::links::{Factor, NodePairing};
use super::map::PairSpace;
use super::output::{Made, Output};
use super::tracks::{Tracks, base_layer};
use crate::layered_rotation::{Change, LayeredRotation, mixes_angles};
use crate::rotation_conversion::{ConvertedRotation, RotationConversion};
use crate::vectors::snapped_turn as snapped;

/// What a linked node's rotation is made of.
#[derive(Clone, Debug)]
pub(super) struct Recipe {
    pub factors: Vec<Factor>,
    /// Constant rotations around the product of the factors' turns; each turn is a world rotation relative to the reference.
    pub before: DQuat,
    pub after: DQuat,
}

impl Job<'_> {
    /// The turns that a linked node of the target follows beside the nearest linked node above it.
    pub fn recipe(&self, tracks: &Tracks<'_>, link: &NodePairing) -> Recipe {
        let above = self.links.above(self.onto.rig, link.target);
        let mut factors = match link.space {
            PairSpace::World => self.links.factors(self.from.rig, above.map(|link| link.place), link.place),
            // Beside its parent a node turns by itself alone.
            PairSpace::Parent => vec![Factor { node: link.place.node, part: link.place.part }],
        };
        // What does not move in the source still has to be brought into the pose that corresponds.
        let is_posed = |node: NodeId| {
            self.from.rests_elsewhere(node)
                || node == link.place.node && self.onto.rests_elsewhere(link.target)
        };
        factors.retain(|factor| {
            !self.links.left_out.contains(&factor.node)
                && (tracks.turns(factor.node) || is_posed(factor.node))
        });
        let view = self.onto.view(link.target);
        let (own_before, own_after) =
            view.map_or((DQuat::IDENTITY, DQuat::IDENTITY), |view| (view.before, view.after));
        let frame = self.onto.above(link.target, |id| self.links.is_target(id)) * own_before;
        let world = self.onto.world_of(link.target);
        Recipe { factors, before: frame.conjugate(), after: world * own_after.conjugate() }
    }

    /// The order in which a partner turns: its own, else that of what drives it.
    pub(super) fn order(&self, link: &NodePairing, tracks: &[(usize, &Track)]) -> RotationOrder {
        let own = self.onto.view(link.target).and_then(|view| view.order);
        let driven = || {
            tracks.iter().find_map(|(_, track)| match &track.controller {
                Controller::Euler(euler) => Some(euler.order),
                Controller::Constant(Value::Euler { order, .. }) => Some(*order),
                _ => None,
            })
        };
        let source = || self.from.view(link.place.node).and_then(|view| view.order);
        own.or_else(driven).or_else(source).unwrap_or(RotationOrder::Xyz)
    }

    /// What a linked node's rotation becomes on all layers of a take.
    pub fn rotation(
        &self,
        take: &Tracks<'_>,
        link: &NodePairing,
        tolerance: AngleTolerance<'_>,
        cache: &ConversionCache,
    ) -> Vec<Output> {
        if self.is_untouched(link) {
            let own = take.rotations(link.place.node).iter();
            return own.map(|&(layer, track)| self.as_it_is(link, layer, track)).collect();
        }
        if self.is_same_list(link) {
            return self.listed_turns(take, link);
        }
        let target = self.onto.target(link.target, ROTATION);
        let recipe = self.recipe(take, link);
        if recipe.factors.is_empty() {
            return Vec::new();
        }
        if self.onto.view(link.target).is_none() {
            return self.failed(take, &recipe, self.why_unsaid(link));
        }
        let single = match recipe.factors.as_slice() {
            [only] if only.part == 1.0 => self.from.view(only.node).map(|view| (only.node, view)),
            _ => None,
        };
        let parent_space = link.space == PairSpace::Parent;
        if let Some((node, view)) = single {
            let tracks = take.rotations(node);
            let (before, after) = if parent_space {
                let own = self.onto.view(link.target).map_or(DQuat::IDENTITY, |view| view.before);
                let own_after = self.onto.view(link.target).map_or(DQuat::IDENTITY, |view| view.after);
                let local = |side: &super::side::Side<'_>, id| side.locals[side.position(id)];
                let rest = local(&self.from, node).conjugate() * local(&self.onto, link.target);
                (own.conjugate() * view.before, view.after * rest * own_after.conjugate())
            } else {
                let frame = self.from.parent_world(node) * view.before;
                let inside = view.after * self.from.world_of(node).conjugate();
                (recipe.before * frame, inside * recipe.after)
            };
            let change = Change {
                order: self.order(link, tracks),
                before: snapped(before.normalize()),
                after: snapped(after.normalize()),
                tolerance,
                handles: self.handles,
                cache: Some(cache),
            };
            return self.one_to_one(take.take, node, tracks, &target, change);
        }
        if let Some(outputs) = self.part_of_one(take, link, &recipe, &target, tolerance) {
            return outputs;
        }
        self.product(take, link, &recipe, &target, (tolerance, cache.is_key_by_key()))
    }

    /// A part of the turn about one axis is that part of its angle, exactly.
    fn part_of_one(
        &self,
        take: &Tracks<'_>,
        link: &NodePairing,
        recipe: &Recipe,
        target: &Target,
        tolerance: AngleTolerance<'_>,
    ) -> Option<Vec<Output>> {
        let [factor] = recipe.factors.as_slice() else { return None };
        let view = self.from.view(factor.node)?;
        let [(layer, track)] = take.rotations(factor.node) else { return None };
        let Controller::Euler(euler) = &track.controller else { return None };
        let still = |curve: &&Curve| curve.is_empty() || curve.is_constant() && curve.keys()[0].value == 0.0;
        let is_alone = euler.curves.iter().filter(|curve| !still(curve)).count() == 1;
        if !is_alone || view.angles != DVec3::ZERO || base_layer(take.take) != Some(*layer) {
            return None;
        }
        let curves = euler.curves.each_ref().map(|curve| curve.affine(factor.part, 0.0));
        let part = Controller::Euler(EulerCurves { order: euler.order, curves });
        let frame = self.from.parent_world(factor.node) * view.before;
        let inside = view.after * self.from.world_of(factor.node).conjugate();
        let turning = RotationConversion {
            order: self.order(link, take.rotations(factor.node)),
            before: snapped((recipe.before * frame).normalize()),
            after: snapped((inside * recipe.after).normalize()),
            tolerance,
            handles: self.handles,
            cache: None,
            rate: self.source.rate,
            range: take.take.range,
            at_home: false,
        };
        let rest = Value::Euler { order: euler.order, angles: DVec3::ZERO };
        let turned = turning.apply(&part, &rest)?;
        let turned = ConvertedRotation {
            fate: turned.fate.max(Fate::Exact),
            note: self.said(take, link, &recipe.factors),
            ..turned
        };
        let output = Output::made(*layer, track, target, turned);
        Some(vec![if link.place.part == 1.0 { output } else { output.beside() }])
    }

    pub(super) fn failed(&self, take: &Tracks<'_>, recipe: &Recipe, why: &str) -> Vec<Output> {
        let tracks = recipe.factors.iter().flat_map(|factor| take.rotations(factor.node));
        tracks.map(|&(layer, track)| Output::failed(layer, track, why)).collect()
    }

    /// Layer by layer, where one node leads to one other.
    fn one_to_one(
        &self,
        take: &Take,
        node: NodeId,
        tracks: &[(usize, &Track)],
        target: &Target,
        change: Change<'_>,
    ) -> Vec<Output> {
        let rest = self.from.rig.rest_value(node, ROTATION).unwrap_or(Value::Quaternion(DQuat::IDENTITY));
        let turning = |before: DQuat, after: DQuat| RotationConversion {
            order: change.order,
            before,
            after,
            tolerance: change.tolerance,
            handles: change.handles,
            cache: None,
            rate: self.source.rate,
            range: take.range,
            at_home: false,
        };
        if tracks.is_empty() {
            // It rests elsewhere than in the reference pose.
            let held = Controller::Constant(rest.clone());
            let Some(turned) = turning(change.before, change.after).apply(&held, &rest) else {
                return Vec::new();
            };
            let note = "rests elsewhere than in the reference pose".to_owned();
            return vec![Output::added(0, target, ConvertedRotation { note, ..turned })];
        }
        let plain = turning(change.before, change.after);
        let all_keep = tracks.iter().all(|(_, track)| plain.keeps(&track.controller, &rest));
        let mixes = tracks.iter().any(|&(layer, _)| mixes_angles(&take.layers[layer], layer));
        let mut outputs = Vec::with_capacity(tracks.len());
        if mixes && !all_keep {
            if let Some(outputs) = self.renamed(take, tracks, target, change) {
                return outputs;
            }
            return self.mixed(take, tracks, target, change, &rest);
        }
        for (place, &(layer, track)) in tracks.iter().enumerate() {
            outputs.push(self.turned_on_layer(take, (place, layer, track), target, change, &rest));
        }
        outputs
    }

    /// A track, by its place among those that turn its node, on a layer whose rotations do not mix angle by angle: those
    /// that add turn inside, the others as the whole does.
    fn turned_on_layer(
        &self,
        take: &Take,
        (place, layer, track): (usize, usize, &Track),
        target: &Target,
        change: Change<'_>,
        rest: &Value,
    ) -> Output {
        let on = &take.layers[layer];
        let adds = on.mode == LayerMode::Additive && on.rotations == RotationMixing::Quaternions;
        let (before, rest) = match adds {
            true => (change.after.conjugate(), neutral(PropertyKind::Rotation, rest)),
            false => (change.before, rest.clone()),
        };
        let turning = RotationConversion {
            order: change.order,
            before,
            after: change.after,
            tolerance: change.tolerance,
            handles: change.handles,
            cache: change.cache.map(|cache| cache.place(place)),
            rate: self.source.rate,
            range: take.range,
            at_home: false,
        };
        match turning.apply(&track.controller, &rest) {
            Some(turned) => Output::made(layer, track, target, turned),
            None => Output::failed(
                layer,
                track,
                format!(
                    "a {} controller cannot be given another order or rest",
                    track.controller.type_name()
                ),
            ),
        }
    }

    /// By renamed axes and signs on every layer, where that is exact whatever the layers add up to.
    fn renamed(
        &self,
        take: &Take,
        tracks: &[(usize, &Track)],
        target: &Target,
        change: Change<'_>,
    ) -> Option<Vec<Output>> {
        let rest = self.from.rig.rest_value(tracks[0].1.target.node, ROTATION)?;
        let target_rest = self.onto.rig.rest_value(target.node, ROTATION)?;
        let (Value::Euler { order, angles }, Value::Euler { angles: target_angles, .. }) =
            (rest, target_rest)
        else {
            return None;
        };
        let mut is_zero = angles.to_array().map(|angle| angle == 0.0);
        for (_, track) in tracks {
            let Controller::Euler(euler) = &track.controller else { return None };
            if euler.order != order {
                return None;
            }
            for (axis, curve) in euler.curves.iter().enumerate() {
                is_zero[axis] &= curve.is_empty()
                    || curve.keys().iter().all(|key| key.value == 0.0) && curve.is_constant();
            }
        }
        let constant = is_zero.map(|zero| zero.then_some(0.0));
        let way = exact_way(order, constant, change.before, change.after, change.order)?;
        let resting = DVec3::from_array(way.angles(angles.to_array()));
        if (resting - target_angles).abs().max_element() > 1e-9 {
            return None;
        }
        let outputs = tracks.iter().map(|&(layer, track)| {
            let Controller::Euler(euler) = &track.controller else { return None };
            let adds = take.layers[layer].mode == LayerMode::Additive;
            let own =
                if adds { nimble_curve_curves::rotation::ExactWay { offset: [0.0; 3], ..way } } else { way };
            let controller =
                Controller::Euler(EulerCurves { order: change.order, curves: own.curves(&euler.curves) });
            let turned =
                ConvertedRotation { controller, fate: Fate::Exact, error: None, note: String::new() };
            Some(Output::made(layer, track, target, turned))
        });
        outputs.collect()
    }

    /// Layers that mix angles, so that the whole turns as it should; else all layers written on one.
    fn mixed(
        &self,
        take: &Take,
        tracks: &[(usize, &Track)],
        target: &Target,
        change: Change<'_>,
        rest: &Value,
    ) -> Vec<Output> {
        let from = &tracks[0].1.target;
        let takes = std::slice::from_ref(take);
        // Of weighted curves there are no exact sums, which layers of constant weight are made of.
        let adds_up = tracks.iter().any(|&(layer, _)| {
            let layer_at = &take.layers[layer];
            mixes_angles(layer_at, layer) && layer_at.weight.constant().is_some()
        });
        let handles = if adds_up { Some(Handles::Plain) } else { change.handles };
        let change = Change { handles, ..change };
        let mut mixer = LayeredRotation::new(self.source, takes, from, (self.onto.rig, target), change);
        let mut outputs: Vec<Output> = Vec::with_capacity(tracks.len());
        let mut failure = None;
        for (place, &(layer, track)) in tracks.iter().enumerate() {
            let output = if mixer.is_mixed(0, layer) {
                match mixer.mixed(0, layer) {
                    Ok((controller, note)) => {
                        let turned = ConvertedRotation {
                            controller,
                            fate: Fate::Refitted,
                            error: None,
                            note: note.into(),
                        };
                        Output::made(layer, track, target, turned)
                    }
                    Err(why) => {
                        failure = Some(why);
                        break;
                    }
                }
            } else {
                self.turned_on_layer(take, (place, layer, track), target, change, rest)
            };
            if let Some(Made { controller, .. }) = &output.made {
                mixer.put(0, layer, controller.clone());
            }
            outputs.push(output);
        }
        if failure.is_none() {
            match mixer.error(0) {
                Ok(Some((error, true))) => {
                    for output in &mut outputs {
                        if let Some(made) = output.made.as_mut().filter(|made| made.fate == Fate::Refitted) {
                            made.error.get_or_insert(error);
                        }
                    }
                    return outputs;
                }
                Ok(None) => return outputs,
                Ok(Some(_)) => {}
                Err(why) => failure = Some(why),
            }
        }
        let base = base_layer(take);
        let whole = base.ok_or_else(|| "no layer counts in full".to_owned()).and_then(|_| mixer.whole(0));
        match whole {
            Ok((euler, error)) => {
                let note = "its layers mix angles: written together on one layer".to_owned();
                let turned = ConvertedRotation {
                    controller: Controller::Euler(euler),
                    fate: Fate::Refitted,
                    error: Some(error),
                    note: note.clone(),
                };
                let first =
                    Output::made(base.unwrap_or(0), tracks[0].1, target, turned).of_source_layer(tracks[0].0);
                let others =
                    tracks[1..].iter().map(|&(layer, track)| Output::folded(layer, track, target, &note));
                std::iter::once(first).chain(others).collect()
            }
            Err(why) => {
                let why = failure.unwrap_or(why);
                tracks.iter().map(|&(layer, track)| Output::failed(layer, track, why.clone())).collect()
            }
        }
    }
}
