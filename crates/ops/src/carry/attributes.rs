//! Custom attributes, scales and other numbers of the target, by name or by the map.

use std::collections::{HashMap, HashSet};

use glam::DMat3;
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, Refit, Side, refit};
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{AddressError, Addresses};
use nimble_curve_scene::controller::{Controller, Samples};
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::rig::{AttributeKind, NodeId, Rig};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, Scene, Target, Track};
use nimble_curve_scene::similar::similar_address;

use super::map::{NameMap, NumberRange};
use super::output::Output;
use super::tracks::{OnLayer, Tracks, base_layer, common_samples};
use super::{CarryError, Job, links};
use crate::names::other_side;
use crate::rigs::RigPairing;
use crate::rotation_conversion::ConvertedRotation;
use crate::sampled_function::{SampledFunction, union_times};
use crate::vectors::{linear_number, signed_axes};

/// Where attributes go.
#[derive(Debug, Default)]
pub(super) struct AttributeMap {
    listed: HashMap<(NodeId, String), (Target, NumberRange)>,
    /// Attributes of the target whose names are unique in it.
    by_name: HashMap<String, Option<NodeId>>,
    taken: HashSet<Target>,
    mirrored: bool,
}

impl AttributeMap {
    pub fn new(
        source: &Scene,
        target: &Scene,
        (from, onto): (&Addresses, &Addresses),
        map: &NameMap,
        pair: RigPairing,
    ) -> Result<AttributeMap, CarryError> {
        let find = |side: &'static str, addresses: &Addresses, (rigs, rig): (&[Rig], usize), text: &str| {
            let wrong = |error: AddressError| {
                let all: Vec<String> = attributes(&rigs[rig], rig, addresses);
                CarryError::Map {
                    side,
                    error,
                    suggestion: similar_address(text, all.iter().map(String::as_str)),
                }
            };
            if let Ok(target) = addresses.find_property(rigs, text) {
                return Ok(target);
            }
            // Written once for all files of a character, whatever their namespace.
            let Some((node, property)) = text.rsplit_once(':') else {
                return Err(wrong(AddressError::NotAnAddress(text.to_owned())));
            };
            let id = links::find(addresses, side, (rig, node))?;
            if rigs[rig].property_kind(id, property).is_none() {
                let (node, property) = (node.to_owned(), property.to_owned());
                return Err(wrong(AddressError::NoProperty { node, property }));
            }
            Ok(Target { rig, node: id, property: property.to_owned() })
        };
        let mut numbers = AttributeMap { mirrored: map.mirror.is_some(), ..AttributeMap::default() };
        for listed in &map.numbers {
            let a = find("source", from, (&source.rigs, pair.source), &listed.source)?;
            let b = find("target", onto, (&target.rigs, pair.target), &listed.target)?;
            if !numbers.taken.insert(b.clone()) {
                return Err(CarryError::Twice(listed.target.clone()));
            }
            numbers.listed.insert((a.node, a.property), (b, listed.range.clone()));
        }
        for (id, node) in target.rigs[pair.target].nodes() {
            for attribute in &node.attributes {
                let entry = numbers.by_name.entry(attribute.name.to_lowercase());
                entry.and_modify(|id| *id = None).or_insert(Some(id));
            }
        }
        Ok(numbers)
    }
}

/// The addresses of all attributes of a rig.
fn attributes(rig: &Rig, index: usize, addresses: &Addresses) -> Vec<String> {
    let of_node = |(node, of): (NodeId, &nimble_curve_scene::rig::Node)| {
        let target = move |name: &str| Target { rig: index, node, property: name.to_owned() };
        of.attributes.iter().map(|a| addresses.property(&target(&a.name))).collect::<Vec<_>>()
    };
    rig.nodes().flat_map(of_node).collect()
}

impl Job<'_> {
    /// What becomes of a track that neither turns nor shifts.
    pub fn other(
        &self,
        take: &Tracks<'_>,
        layer: usize,
        track: &Track,
        tolerance: &crate::Tolerance,
    ) -> Vec<Output> {
        let property = track.target.property.as_str();
        let Some(kind) = self.from.rig.property_kind(track.target.node, property) else {
            return vec![Output::failed(layer, track, "the source has no such property")];
        };
        if let Some(link) = self.links.of_source(track.target.node).filter(|link| self.is_untouched(link)) {
            return vec![self.as_it_is(link, layer, track)];
        }
        let node = self.from.rig.node(track.target.node);
        let is_attribute = node.is_some_and(|node| node.attribute(property).is_some());
        if !is_attribute {
            return vec![self.step(layer, track, kind)];
        }
        let Some((target, range)) = self.attribute_target(track) else {
            let has_partner = self.links.of_source(track.target.node).is_some();
            let why =
                if has_partner { "its partner has no such attribute" } else { "no partner in the target" };
            return vec![Output::failed(layer, track, why)];
        };
        let partner = self.onto.rig.property_kind(target.node, &target.property);
        let output = match (kind, partner) {
            (PropertyKind::Discrete, Some(PropertyKind::Discrete)) => self.discrete(layer, track, &target),
            (PropertyKind::Number(_), Some(PropertyKind::Number(quantity))) => {
                let number = Number { take, target: &target, quantity, range: &range };
                return self.number(&number, layer, track, tolerance);
            }
            (PropertyKind::Vector(a), Some(PropertyKind::Vector(b))) if a == b => {
                let factor = if a == Quantity::Length { self.scale } else { 1.0 };
                let linear = crate::vectors::Linear::new(
                    glam::DQuat::IDENTITY,
                    factor,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                );
                match linear.controller(&track.controller) {
                    Some(controller) => {
                        let fate = if linear.is_identity() { Fate::Kept } else { Fate::Exact };
                        let turned = ConvertedRotation { controller, fate, error: None, note: linear.note() };
                        Output::made(layer, track, &target, turned)
                    }
                    None => {
                        let why = format!("a {} controller cannot be scaled", track.controller.type_name());
                        Output::failed(layer, track, why)
                    }
                }
            }
            _ => Output::failed(layer, track, "the target's attribute is of another kind"),
        };
        vec![output]
    }

    pub(super) fn attribute_target(&self, track: &Track) -> Option<(Target, NumberRange)> {
        let property = &track.target.property;
        if let Some(listed) = self.numbers.listed.get(&(track.target.node, property.clone())) {
            return Some(listed.clone());
        }
        if self.links.left_out.contains(&track.target.node) {
            return None;
        }
        let wanted = match self.numbers.mirrored {
            true => other_side(property).unwrap_or_else(|| property.clone()),
            false => property.clone(),
        };
        let partner = self.links.of_source(track.target.node).map(|link| link.target);
        let on_partner = partner.and_then(|id| {
            let node = self.onto.rig.node(id)?;
            let same = |name: &str| name == wanted || name.to_lowercase() == wanted.to_lowercase();
            let found = node.attributes.iter().find(|attribute| same(&attribute.name))?;
            Some(self.onto.target(id, &found.name))
        });
        let found = on_partner.or_else(|| {
            if self.same_rigs {
                return None;
            }
            let id = (*self.numbers.by_name.get(&wanted.to_lowercase())?)?;
            let node = self.onto.rig.node(id)?;
            let found = node.attributes.iter().find(|a| a.name.to_lowercase() == wanted.to_lowercase())?;
            Some(self.onto.target(id, &found.name))
        })?;
        (!self.numbers.taken.contains(&found)).then_some((found, NumberRange::SAME))
    }

    /// Scales, shears and other steps of a transform.
    fn step(&self, layer: usize, track: &Track, kind: PropertyKind) -> Output {
        let Some(link) = self.links.of_source(track.target.node) else {
            return Output::failed(layer, track, "no partner in the target");
        };
        let property = track.target.property.as_str();
        let target = self.onto.target(link.target, property);
        if self.onto.rig.property_kind(link.target, property) != Some(kind) {
            return Output::failed(layer, track, format!("its partner has no '{property}'"));
        }
        let turn = self.onto.world_of(link.target).conjugate() * self.from.world_of(track.target.node);
        let axes = signed_axes(&DMat3::from_quat(turn));
        let Some((source, _)) =
            axes.filter(|_| kind == PropertyKind::Scale || axes == Some(([0, 1, 2], [1.0; 3])))
        else {
            return Output::failed(
                layer,
                track,
                "its partner's axes point elsewhere, and it goes along axes",
            );
        };
        let (controller, fate) = match &track.controller {
            controller if source == [0, 1, 2] => (controller.clone(), Fate::Kept),
            Controller::Components(curves) => {
                (Controller::Components(source.map(|old| curves[old].clone()).to_vec()), Fate::Exact)
            }
            Controller::Constant(Value::Vector(v)) => {
                let turned = glam::DVec3::from_array(source.map(|old| v[old]));
                (Controller::Constant(Value::Vector(turned)), Fate::Exact)
            }
            other => {
                let why = format!("a {} controller cannot be given other axes", other.type_name());
                return Output::failed(layer, track, why);
            }
        };
        Output::made(
            layer,
            track,
            &target,
            ConvertedRotation { controller, fate, error: None, note: String::new() },
        )
    }

    /// Values that only hold; those that the target does not know are named.
    fn discrete(&self, layer: usize, track: &Track, target: &Target) -> Output {
        let attribute = self.onto.rig.node(target.node).and_then(|node| node.attribute(&target.property));
        let fits = |value: &Discrete| match (attribute.map(|a| &a.kind), value) {
            (Some(AttributeKind::Switch { .. }), Discrete::Switch(_))
            | (Some(AttributeKind::Text { .. }), Discrete::Text(_)) => true,
            (Some(AttributeKind::Choice { options, .. }), Discrete::Choice(name)) => options.contains(name),
            _ => false,
        };
        let odd = match &track.controller {
            Controller::Discrete(curve) => {
                curve.keys().iter().map(|(_, value)| value).find(|value| !fits(value))
            }
            Controller::Constant(Value::Discrete(value)) => Some(value).filter(|value| !fits(value)),
            _ => None,
        };
        if let Some(odd) = odd {
            let why = match odd {
                Discrete::Choice(name) => format!("the target's attribute has no choice '{name}'"),
                _ => "the target's attribute is of another kind".into(),
            };
            return Output::failed(layer, track, why);
        }
        let turned = ConvertedRotation {
            controller: track.controller.clone(),
            fate: Fate::Kept,
            error: None,
            note: String::new(),
        };
        Output::made(layer, track, target, turned)
    }

    /// What becomes of a track of a number on one of the layers that move it.
    fn number(
        &self,
        number: &Number<'_, '_>,
        layer: usize,
        track: &Track,
        tolerance: &crate::Tolerance,
    ) -> Vec<Output> {
        let own = number.tracks(&track.target);
        let limits = self.limits(track, number);
        let with_limits = |turned: ConvertedRotation| {
            let said = [turned.note.as_str(), limits.as_str()];
            let note = said.into_iter().filter(|said| !said.is_empty()).collect::<Vec<_>>().join("; ");
            ConvertedRotation { note, ..turned }
        };
        let (gain, offset) = match number.range {
            NumberRange::Linear { gain, offset } => (*gain, *offset),
            NumberRange::Points(points) => {
                let tolerance = tolerance.of(number.quantity, &self.target.space);
                let on = &number.take.take.layers[layer];
                let is_alone = own.len() == 1 && on.is_whole() || !on.is_active();
                if !is_alone {
                    return self.bent_together(number, &own, (layer, track), points, tolerance);
                }
                let output = match self.bent(number, &[(&Layer::base(Vec::new()), track)], points, tolerance)
                {
                    Ok(turned) => Output::made(layer, track, number.target, with_limits(turned)),
                    Err(why) => Output::failed(layer, track, why),
                };
                return vec![output];
            }
        };
        let additive = number.take.take.layers[layer].mode == LayerMode::Additive;
        let (factor, offset) = (gain * self.lengths(number), if additive { 0.0 } else { offset });
        let Some(controller) = linear_number(&track.controller, factor, offset) else {
            let why = format!("a {} controller cannot be scaled", track.controller.type_name());
            return vec![Output::failed(layer, track, why)];
        };
        let rests = !additive && !controller.drives(0);
        let resting = self.resting(number, &track.target).filter(|_| rests);
        let fate = if controller == track.controller { Fate::Kept } else { Fate::Exact };
        let mut note = String::new();
        if factor != 1.0 {
            note = format!("times {factor:.4}");
        }
        if offset != 0.0 {
            note = format!("{note}{}plus {offset:.4}", if note.is_empty() { "" } else { ", " });
        }
        let turned = resting.unwrap_or(ConvertedRotation { controller, fate, error: None, note });
        let turned = with_limits(turned);
        let mut outputs = vec![Output::made(layer, track, number.target, turned)];
        if own.first().is_some_and(|(lowest, _)| *lowest == layer) {
            outputs.extend(self.rest_of(number, &own, &track.target));
        }
        outputs
    }

    /// What a length is scaled by where its range says nothing of lengths.
    fn lengths(&self, number: &Number<'_, '_>) -> f64 {
        if number.quantity == Quantity::Length { self.scale } else { 1.0 }
    }

    /// The number at rest, where its layers count in part or add to it, and the target rests elsewhere: on the base layer.
    fn rest_of(&self, number: &Number<'_, '_>, own: &[OnLayer<'_>], source: &Target) -> Option<Output> {
        let take = number.take.take;
        let decides = |(layer, _): &OnLayer<'_>| take.layers[*layer].is_whole();
        if own.iter().any(decides) {
            return None;
        }
        let turned = self.resting(number, source)?;
        Some(Output::added(base_layer(take)?, number.target, turned))
    }

    /// The number at rest, where that is another one than the target's.
    fn resting(&self, number: &Number<'_, '_>, source: &Target) -> Option<ConvertedRotation> {
        let at_rest = |rig: &Rig, target: &Target| match rig.rest_value(target.node, &target.property) {
            Some(Value::Number(value)) => Some(value),
            _ => None,
        };
        let rest = at_rest(self.from.rig, source)?;
        let wanted = number.range.value(rest) * self.lengths(number);
        if (wanted - at_rest(self.onto.rig, number.target)?).abs() <= 1e-12 * wanted.abs().max(1.0) {
            return None;
        }
        Some(ConvertedRotation {
            controller: Controller::Constant(Value::Number(wanted)),
            fate: Fate::Exact,
            error: None,
            note: format!("rests at {rest:.4} in the source, which is {wanted:.4} here"),
        })
    }

    /// A number under a curve of values on layers that mix: what they come to, written on the base layer.
    fn bent_together(
        &self,
        number: &Number<'_, '_>,
        own: &[OnLayer<'_>],
        (layer, track): OnLayer<'_>,
        points: &[(f64, f64)],
        tolerance: f64,
    ) -> Vec<Output> {
        let note = "layers under a curve of values, written together";
        let Some(base) = base_layer(number.take.take) else {
            let why = "a curve of values bends what layers come to, and none of them counts in full";
            return vec![Output::failed(layer, track, why)];
        };
        let layers = &number.take.take.layers;
        let all: Vec<(&Layer, &Track)> = own.iter().map(|&(layer, track)| (&layers[layer], track)).collect();
        if let Err(error) = PropertySampler::of_tracks(self.source, &track.target, &all, None) {
            return vec![Output::failed(layer, track, error.to_string())];
        }
        if own.first().is_some_and(|(lowest, _)| *lowest != layer) {
            return vec![Output::folded(layer, track, number.target, note)];
        }
        match self.bent(number, &all, points, tolerance) {
            Ok(turned) => {
                let turned = ConvertedRotation { note: note.into(), ..turned };
                vec![Output::made(base, track, number.target, turned).of_source_layer(layer)]
            }
            Err(why) => vec![Output::failed(layer, track, why)],
        }
    }

    /// What tracks come to, under a curve of values: keys stand where the source has them and where its values pass a point.
    fn bent(
        &self,
        number: &Number<'_, '_>,
        own: &[(&Layer, &Track)],
        points: &[(f64, f64)],
        tolerance: f64,
    ) -> Result<ConvertedRotation, String> {
        let (take, range) = (number.take.take, number.range);
        let (_, lowest) = own.first().ok_or("nothing moves it")?;
        let sampler = || {
            PropertySampler::of_tracks(self.source, &lowest.target, own, Some(take.range))
                .map_err(|e| e.to_string())
        };
        let of = |value: Value| match value {
            Value::Number(value) => value,
            _ => 0.0,
        };
        let note = "under a curve of values".to_owned();
        let mut plain = sampler()?;
        let mut at = |time: f64| of(plain.value_at(time));
        let tracks: Vec<OnLayer<'_>> = own.iter().map(|(_, track)| (0, *track)).collect();
        if let Some((grid, _)) = common_samples(&tracks) {
            let value = |index: usize| range.value(at(grid.time(index).as_f64()));
            let values = (0..grid.len()).map(value).collect();
            let controller = Controller::Samples(Samples { values, ..grid });
            return Ok(ConvertedRotation { controller, fate: Fate::Exact, error: None, note });
        }
        let is_alone = own.len() == 1 && own[0].0.is_whole();
        let loops = loops_of(&lowest.controller).filter(|_| is_alone);
        let mut times = match (&lowest.controller, loops) {
            (Controller::Components(curves), Some(_)) => {
                curves[0].keys().iter().map(|key| key.time).collect()
            }
            _ => {
                let weights = own.iter().flat_map(|(layer, _)| layer.weight.key_times(take.range));
                union_times(own.iter().map(|(_, track)| &track.controller), weights, take.range)
            }
        };
        let [first, .., last] = times.as_slice() else {
            let time = times.first().copied().unwrap_or(take.range.first);
            let value = range.value(at(time.as_f64()));
            let controller = Controller::Components(vec![Curve::constant(time, value)]);
            return Ok(ConvertedRotation { controller, fate: Fate::Exact, error: None, note });
        };
        let (first, last) = (*first, *last);
        // Where values pass a point, the result has a corner.
        let step = self.source.rate.ticks_per_frame() / 4.0;
        let corners: Vec<f64> = points.iter().map(|point| point.0).collect();
        let mut before = (first.as_f64(), at(first.as_f64()));
        while before.0 < last.as_f64() {
            let time = (before.0 + step).min(last.as_f64());
            let value = at(time);
            for corner in &corners {
                if (before.1 - corner) * (value - corner) < 0.0 {
                    let (mut a, mut b) = (before.0, time);
                    let rises = value > before.1;
                    for _ in 0..40 {
                        let middle = 0.5 * (a + b);
                        if (at(middle) < *corner) == rises { a = middle } else { b = middle }
                    }
                    times.push(Ticks(b.round() as i64));
                }
            }
            before = (time, value);
        }
        times.sort_unstable();
        times.dedup();
        drop(plain);
        let mut sampler = sampler()?;
        let bent =
            SampledFunction::of_function(move |time| Value::Number(range.value(of(sampler.value_at(time)))));
        // What lies between the instants that are looked at may be a little farther off.
        let options = Refit { tolerance: 0.98 * tolerance, rate: Some(self.source.rate) };
        let value = |time| bent.component(0, time);
        let (curve, _, largest) =
            refit(&times, value, |time, side: Side| bent.number(0, time, side), options);
        let mut curve = curve.thinned();
        let mut error = MeasuredError::none(number.quantity);
        error.take(largest, self.source.rate.frame(first));
        if let Some((before, after)) = loops {
            curve = curve.with_behaviours(before, after);
        }
        let controller = Controller::Components(vec![curve]);
        Ok(ConvertedRotation { controller, fate: Fate::Refitted, error: Some(error), note })
    }

    /// Where values leave the limits of the target's attribute.
    fn limits(&self, track: &Track, number: &Number<'_, '_>) -> String {
        let target = number.target;
        let lengths = match number.range {
            NumberRange::Linear { .. } => self.lengths(number),
            NumberRange::Points(_) => 1.0,
        };
        let attribute = self.onto.rig.node(target.node).and_then(|node| node.attribute(&target.property));
        let Some(AttributeKind::Number { min, max, .. }) = attribute.map(|attribute| &attribute.kind) else {
            return String::new();
        };
        let own: Vec<f64> = match &track.controller {
            Controller::Components(curves) => {
                curves.iter().flat_map(|curve| curve.keys().iter().map(|key| key.value)).collect()
            }
            Controller::Samples(samples) => samples.values.clone(),
            Controller::Constant(Value::Number(value)) => vec![*value],
            _ => return String::new(),
        };
        let values = own.into_iter().map(|value| number.range.value(value) * lengths);
        let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in values {
            (low, high) = (low.min(value), high.max(value));
        }
        let scale = 1e-9;
        let mut parts = Vec::new();
        if let Some(min) = min.filter(|min| low < min - scale) {
            parts.push(format!("goes down to {low:.3}, below the target's limit {min:.3}"));
        }
        if let Some(max) = max.filter(|max| high > max + scale) {
            parts.push(format!("goes up to {high:.3}, above the target's limit {max:.3}"));
        }
        parts.join("; ")
    }
}

/// A number that goes to one of the target.
struct Number<'a, 't> {
    take: &'a Tracks<'t>,
    target: &'a Target,
    quantity: Quantity,
    range: &'a NumberRange,
}

impl<'t> Number<'_, 't> {
    /// The tracks that move it on layers that count, from the lowest one up.
    fn tracks(&self, source: &Target) -> Vec<OnLayer<'t>> {
        let layers = &self.take.take.layers;
        let counts = |(layer, track): &&OnLayer<'t>| layers[*layer].is_active() && track.target == *source;
        self.take.others.iter().filter(counts).copied().collect()
    }
}

/// What lies outside the keys of a curve whose values go through the same ones again there, or stay.
fn loops_of(controller: &Controller) -> Option<(Behaviour, Behaviour)> {
    let Controller::Components(curves) = controller else { return None };
    let curve = curves.first().filter(|curve| curve.inner_loop().is_none())?;
    let again = |behaviour: Behaviour| matches!(behaviour, Behaviour::Loop | Behaviour::LoopOscillate);
    let fits = |behaviour: Behaviour| again(behaviour) || behaviour == Behaviour::Held;
    let (before, after) = (curve.before, curve.after);
    (fits(before) && fits(after) && (again(before) || again(after))).then_some((before, after))
}
