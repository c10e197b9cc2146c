//! Custom attributes, scales and other numbers of the target, by name or by the map.

use std::collections::{HashMap, HashSet};

use glam::DMat3;

use super::map::{NameMap, NumberRange};
use super::output::Output;
use super::tracks::Tracks;
use super::vectors::{linear_number, signed_axes};
use super::{CarryError, Job, links, similar_address};
use crate::address::{AddressError, Addresses};
use crate::controller::Controller;
use crate::curve::{Behaviour, Curve, Discrete, Interpolation, Key, Refit, Side, refit};
use crate::evaluate::Sampler;
use crate::ledger::{Fate, MeasuredError};
use crate::ops::names::other_side;
use crate::ops::trace::Trace;
use crate::ops::turn::Turned;
use crate::rig::{AttributeKind, NodeId, Rig};
use crate::scene::{LayerMode, PropertyKind, Scene, Target, Track};
use crate::time::Ticks;
use crate::value::{Quantity, Value};

/// Where attributes go.
#[derive(Debug, Default)]
pub(super) struct Numbers {
    listed: HashMap<(NodeId, String), (Target, NumberRange)>,
    /// Attributes of the target whose names are unique in it.
    by_name: HashMap<String, Option<NodeId>>,
    taken: HashSet<Target>,
    mirrored: bool,
}

impl Numbers {
    pub fn new(
        source: &Scene,
        target: &Scene,
        (from, onto): (&Addresses, &Addresses),
        map: &NameMap,
    ) -> Result<Numbers, CarryError> {
        let find = |side: &'static str, addresses: &Addresses, rigs: &[Rig], text: &str| {
            let wrong = |error: AddressError| {
                let all: Vec<String> = attributes(&rigs[0], addresses);
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
            let id = links::find(addresses, side, node)?;
            if rigs[0].property_kind(id, property).is_none() {
                let (node, property) = (node.to_owned(), property.to_owned());
                return Err(wrong(AddressError::NoProperty { node, property }));
            }
            Ok(Target { rig: 0, node: id, property: property.to_owned() })
        };
        let mut numbers = Numbers { mirrored: map.mirror.is_some(), ..Numbers::default() };
        for pair in &map.numbers {
            let a = find("source", from, &source.rigs, &pair.source)?;
            let b = find("target", onto, &target.rigs, &pair.target)?;
            if !numbers.taken.insert(b.clone()) {
                return Err(CarryError::Twice(pair.target.clone()));
            }
            numbers.listed.insert((a.node, a.property), (b, pair.range.clone()));
        }
        for (id, node) in target.rigs[0].nodes() {
            for attribute in &node.attributes {
                let entry = numbers.by_name.entry(attribute.name.to_lowercase());
                entry.and_modify(|id| *id = None).or_insert(Some(id));
            }
        }
        Ok(numbers)
    }
}

/// The addresses of all attributes of a rig.
fn attributes(rig: &Rig, addresses: &Addresses) -> Vec<String> {
    let of_node = |(node, of): (NodeId, &crate::rig::Node)| {
        let target = move |name: &str| Target { rig: 0, node, property: name.to_owned() };
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
        tolerance: &crate::ops::Tolerance,
    ) -> Output {
        let property = track.target.property.as_str();
        let Some(kind) = self.from.rig.property_kind(track.target.node, property) else {
            return Output::failed(layer, track, "the source has no such property");
        };
        let node = self.from.rig.node(track.target.node);
        let is_attribute = node.is_some_and(|node| node.attribute(property).is_some());
        if !is_attribute {
            return self.step(layer, track, kind);
        }
        let Some((target, range)) = self.attribute_target(track) else {
            let has_partner = self.links.of_source(track.target.node).is_some();
            let why =
                if has_partner { "its partner has no such attribute" } else { "no partner in the target" };
            return Output::failed(layer, track, why);
        };
        let partner = self.onto.rig.property_kind(target.node, &target.property);
        match (kind, partner) {
            (PropertyKind::Discrete, Some(PropertyKind::Discrete)) => self.discrete(layer, track, &target),
            (PropertyKind::Scalar(_), Some(PropertyKind::Scalar(quantity))) => {
                self.number(take, layer, track, &target, quantity, &range, tolerance)
            }
            (PropertyKind::Vector(a), Some(PropertyKind::Vector(b))) if a == b => {
                let factor = if a == Quantity::Length { self.scale } else { 1.0 };
                let linear = super::vectors::Linear::new(
                    glam::DQuat::IDENTITY,
                    factor,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                    glam::DVec3::ZERO,
                );
                match linear.controller(&track.controller) {
                    Some(controller) => {
                        let fate = if linear.is_identity() { Fate::Kept } else { Fate::Remapped };
                        let turned = Turned { controller, fate, error: None, note: linear.note() };
                        Output::made(layer, track, &target, turned)
                    }
                    None => {
                        let why = format!("a {} controller cannot be scaled", track.controller.type_name());
                        Output::failed(layer, track, why)
                    }
                }
            }
            _ => Output::failed(layer, track, "the target's attribute is of another kind"),
        }
    }

    fn attribute_target(&self, track: &Track) -> Option<(Target, NumberRange)> {
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
            Some(Target { rig: 0, node: id, property: found.name.clone() })
        });
        let found = on_partner.or_else(|| {
            let id = (*self.numbers.by_name.get(&wanted.to_lowercase())?)?;
            let node = self.onto.rig.node(id)?;
            let found = node.attributes.iter().find(|a| a.name.to_lowercase() == wanted.to_lowercase())?;
            Some(Target { rig: 0, node: id, property: found.name.clone() })
        })?;
        (!self.numbers.taken.contains(&found)).then_some((found, NumberRange::SAME))
    }

    /// Scales, shears and other steps of a transform.
    fn step(&self, layer: usize, track: &Track, kind: PropertyKind) -> Output {
        let Some(link) = self.links.of_source(track.target.node) else {
            return Output::failed(layer, track, "no partner in the target");
        };
        let property = track.target.property.as_str();
        let target = Target { rig: 0, node: link.target, property: property.to_owned() };
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
                (Controller::Components(source.map(|old| curves[old].clone()).to_vec()), Fate::Remapped)
            }
            Controller::Constant(Value::Vector(v)) => {
                let turned = glam::DVec3::from_array(source.map(|old| v[old]));
                (Controller::Constant(Value::Vector(turned)), Fate::Remapped)
            }
            other => {
                let why = format!("a {} controller cannot be given other axes", other.type_name());
                return Output::failed(layer, track, why);
            }
        };
        Output::made(layer, track, &target, Turned { controller, fate, error: None, note: String::new() })
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
        let turned = Turned {
            controller: track.controller.clone(),
            fate: Fate::Kept,
            error: None,
            note: String::new(),
        };
        Output::made(layer, track, target, turned)
    }

    #[allow(clippy::too_many_arguments)]
    fn number(
        &self,
        take: &Tracks<'_>,
        layer: usize,
        track: &Track,
        target: &Target,
        quantity: Quantity,
        range: &NumberRange,
        tolerance: &crate::ops::Tolerance,
    ) -> Output {
        let additive = take.take.layers[layer].mode == LayerMode::Additive;
        let lengths = if quantity == Quantity::Length { self.scale } else { 1.0 };
        let limits = self.limits(track, target, range, lengths);
        let with_limits = |note: String| match (note.is_empty(), limits.is_empty()) {
            (_, true) => note,
            (true, false) => limits.clone(),
            _ => format!("{note}; {limits}"),
        };
        match range {
            NumberRange::Linear { gain, offset } => {
                let (factor, offset) = (gain * lengths, if additive { 0.0 } else { *offset });
                let Some(controller) = linear_number(&track.controller, factor, offset) else {
                    let why = format!("a {} controller cannot be scaled", track.controller.type_name());
                    return Output::failed(layer, track, why);
                };
                let same = controller == track.controller;
                let mut note = String::new();
                if factor != 1.0 {
                    note = format!("times {factor:.4}");
                }
                if offset != 0.0 {
                    note = format!("{note}{}plus {offset:.4}", if note.is_empty() { "" } else { ", " });
                }
                let fate = if same { Fate::Kept } else { Fate::Remapped };
                Output::made(
                    layer,
                    track,
                    target,
                    Turned { controller, fate, error: None, note: with_limits(note) },
                )
            }
            NumberRange::Points(_) if additive => {
                Output::failed(layer, track, "a curve of values means nothing for what is added")
            }
            NumberRange::Points(points) => {
                match self.bent(take, track, range, points, tolerance.of(quantity, &self.target.space)) {
                    Ok(turned) => Output::made(
                        layer,
                        track,
                        target,
                        Turned { note: with_limits(turned.note), ..turned },
                    ),
                    Err(why) => Output::failed(layer, track, why),
                }
            }
        }
    }

    /// Values under a curve of values: keys stand where the source has them and where its values pass a point.
    fn bent(
        &self,
        take: &Tracks<'_>,
        track: &Track,
        range: &NumberRange,
        points: &[(f64, f64)],
        tolerance: f64,
    ) -> Result<Turned, String> {
        let type_name = track.controller.type_name();
        let note = "under a curve of values".to_owned();
        if let Controller::Samples(samples) = &track.controller {
            let values = samples.values.iter().map(|value| range.value(*value)).collect();
            let controller = Controller::Samples(crate::controller::Samples { values, ..samples.clone() });
            return Ok(Turned { controller, fate: Fate::Remapped, error: None, note });
        }
        let rest = self.from.rig.rest_value(track.target.node, &track.target.property);
        let rest = rest.ok_or("the source has no such property")?;
        let PropertyKind::Scalar(quantity) = self
            .from
            .rig
            .property_kind(track.target.node, &track.target.property)
            .unwrap_or(PropertyKind::Matrix)
        else {
            return Err("is no number".into());
        };
        let sampler = || {
            Sampler::new(&track.controller, PropertyKind::Scalar(quantity), rest.clone())
                .map_err(|_| format!("a {type_name} controller cannot be bent"))
        };
        let mut plain = sampler()?;
        let mut at = |time: f64| match plain.value_at(time) {
            Value::Scalar(value) => value,
            _ => 0.0,
        };
        let mut times = track.controller.key_times(take.take.range);
        let [first, .., last] = times.as_slice() else {
            let time = times.first().copied().unwrap_or(take.take.range.first);
            let value = range.value(at(time.as_f64()));
            let controller = Controller::Components(vec![Curve::constant(time, value)]);
            return Ok(Turned { controller, fate: Fate::Remapped, error: None, note });
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
        let bent = Trace::of_function(move |time| match sampler.value_at(time) {
            Value::Scalar(value) => Value::Scalar(range.value(value)),
            other => other,
        });
        let options = Refit { tolerance, rate: Some(self.source.rate) };
        let value = |time| bent.component(0, time);
        let (curve, _, largest) =
            refit(&times, value, |time, side: Side| bent.number(0, time, side), options);
        let curve = curve.thinned();
        let mut error = MeasuredError::none(quantity);
        error.take(largest, self.source.rate.frame(first));
        let straight =
            |curve: &Curve| curve.keys().iter().all(|key: &Key| key.interpolation == Interpolation::Linear);
        let outside = match &track.controller {
            Controller::Components(curves) if !straight(&curves[0]) => (curves[0].before, curves[0].after),
            _ => (Behaviour::Held, Behaviour::Held),
        };
        let loops = outside.0.is_loop() || outside.1.is_loop();
        let curve = if loops { curve.with_behaviours(outside.0, outside.1) } else { curve };
        let controller = Controller::Components(vec![curve]);
        Ok(Turned { controller, fate: Fate::Refitted, error: Some(error), note })
    }

    /// Where values leave the limits of the target's attribute.
    fn limits(&self, track: &Track, target: &Target, range: &NumberRange, lengths: f64) -> String {
        let attribute = self.onto.rig.node(target.node).and_then(|node| node.attribute(&target.property));
        let Some(AttributeKind::Scalar { min, max, .. }) = attribute.map(|attribute| &attribute.kind) else {
            return String::new();
        };
        let own: Vec<f64> = match &track.controller {
            Controller::Components(curves) => {
                curves.iter().flat_map(|curve| curve.keys().iter().map(|key| key.value)).collect()
            }
            Controller::Samples(samples) => samples.values.clone(),
            Controller::Constant(Value::Scalar(value)) => vec![*value],
            _ => return String::new(),
        };
        let values = own.into_iter().map(|value| range.value(value) * lengths);
        let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in values {
            (low, high) = (low.min(value), high.max(value));
        }
        let slack = 1e-9;
        let mut parts = Vec::new();
        if let Some(min) = min.filter(|min| low < min - slack) {
            parts.push(format!("goes down to {low:.3}, below the target's limit {min:.3}"));
        }
        if let Some(max) = max.filter(|max| high > max + slack) {
            parts.push(format!("goes up to {high:.3}, above the target's limit {max:.3}"));
        }
        parts.join("; ")
    }
}
