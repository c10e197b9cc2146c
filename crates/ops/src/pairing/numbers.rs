//! Numbers of two rigs paired.

use std::collections::HashSet;

use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::rig::{Attribute, AttributeKind, Node, NodeId};
use nimble_curve_scene::scene::Target;

use super::faces::Expression;
use super::named::Named;
use super::proposal::{Confidence, ProposedNumber};
use crate::carry::{AttributePair, NumberRange};
use crate::names::Name;

/// An attribute with what its name says.
struct Own {
    target: Target,
    kind: AttributeKind,
    name: Name,
    expression: Option<Expression>,
}

impl Own {
    fn all(named: &Named<'_>) -> Vec<Own> {
        let nodes = named.rig().nodes();
        let of_node = |(node, of): (NodeId, &Node)| -> Vec<Own> {
            let own = |attribute: &Attribute| Own {
                target: Target::new(named.index, node, &attribute.name),
                kind: attribute.kind.clone(),
                name: Name::of(&attribute.name),
                expression: Expression::of(&attribute.name),
            };
            of.attributes.iter().map(own).collect()
        };
        nodes.flat_map(of_node).collect()
    }

    fn is_of_kind(&self, other: &Own) -> bool {
        std::mem::discriminant(&self.kind) == std::mem::discriminant(&other.kind)
    }

    /// The only one of some attributes that a test fits; `None` where there are none or several.
    fn only<'a>(&self, all: &'a [Own], fits: impl Fn(&Own) -> bool) -> Option<&'a Own> {
        let mut found = all.iter().filter(|other| self.is_of_kind(other) && fits(other));
        found.next().filter(|_| found.next().is_none())
    }
}

/// What attributes came to: pairs, and what is left of the source and of the target.
pub(super) struct Numbers {
    pub pairs: Vec<ProposedNumber>,
    pub source_left: Vec<String>,
    pub target_left: Vec<String>,
}

/// Attributes by name, by words, and by the expression of a face that they mean; ranges by their limits, or by what the source's takes
/// show of them.
pub(super) fn numbers(
    (from, from_addresses): (&Named<'_>, &Addresses),
    (onto, onto_addresses): (&Named<'_>, &Addresses),
) -> Numbers {
    let (sources, targets) = (Own::all(from), Own::all(onto));
    let (mut pairs, mut source_left, mut taken) = (Vec::new(), Vec::new(), HashSet::new());
    for own in &sources {
        let lower = own.target.property.to_lowercase();
        let by_name = own.only(&targets, |other| other.target.property.to_lowercase() == lower);
        let by_words = || own.only(&targets, |other| other.name == own.name && !own.name.words.is_empty());
        let means = |other: &Own| own.expression.is_some() && other.expression == own.expression;
        let by_expression = || own.only(&targets, means);
        let found = (by_name.map(|partner| (partner, "same name")))
            .or_else(|| by_words().map(|partner| (partner, "same words")))
            .or_else(|| by_expression().map(|partner| (partner, "the same expression in other words")));
        let Some((partner, why)) = found.filter(|(partner, _)| taken.insert(partner.target.clone())) else {
            source_left.push(from.property(from_addresses, &own.target));
            continue;
        };
        let (range, scaled) = match by_limits(&own.kind, &partner.kind) {
            (range, true) => (range, ", scaled by the limits"),
            (same, false) => match by_values(own, from.seen(&own.target), partner) {
                Some(range) => (range, ", scaled by the values that it takes"),
                None => (same, ""),
            },
        };
        let is_sure = why == "same name" && scaled.is_empty();
        let pair = AttributePair {
            source: from.property(from_addresses, &own.target),
            target: onto.property(onto_addresses, &partner.target),
            range,
        };
        let sureness = if is_sure { Confidence::Sure } else { Confidence::Likely };
        pairs.push(ProposedNumber { pair, sureness, why: format!("{why}{scaled}") });
    }
    let is_left = |other: &&Own| !taken.contains(&other.target);
    let target_left =
        targets.iter().filter(is_left).map(|other| onto.property(onto_addresses, &other.target));
    Numbers { pairs, source_left, target_left: target_left.collect() }
}

/// A whole of 1 on one side and of 100 on the other, where one side has no limits: told by how far the source goes in its takes.
fn by_values(own: &Own, seen: Option<f64>, partner: &Own) -> Option<NumberRange> {
    let limit = |own: &Own| match own.kind {
        AttributeKind::Number { min, max, quantity: Quantity::Number, .. } => Some(
            min.into_iter()
                .chain(max)
                .map(f64::abs)
                .fold(None, |most: Option<f64>, limit| Some(most.map_or(limit, |most| most.max(limit)))),
        ),
        _ => None,
    };
    let (own_limit, limit) = (limit(own)?, limit(partner)??);
    let seen = seen.filter(|seen| own_limit.is_none() && *seen > 0.05)?;
    let is_percent = |whole: f64| (whole - 100.0).abs() < 1e-9;
    let is_one = |whole: f64| (whole - 1.0).abs() < 1e-9;
    let gain = match () {
        () if is_percent(limit) && seen <= 1.2 => 100.0,
        () if is_one(limit) && seen > 2.0 && seen <= 120.0 => 0.01,
        () => return None,
    };
    Some(NumberRange::Linear { gain, offset: 0.0 })
}

/// The change that takes the limits of one attribute to those of another, and whether there is one.
pub(super) fn by_limits(from: &AttributeKind, onto: &AttributeKind) -> (NumberRange, bool) {
    let limits = |kind: &AttributeKind| match kind {
        AttributeKind::Number { min: Some(min), max: Some(max), .. } if max > min => Some((*min, *max)),
        _ => None,
    };
    match (limits(from), limits(onto)) {
        (Some((a, b)), Some((c, d))) if (a - c).abs() > 1e-9 || (b - d).abs() > 1e-9 => {
            let gain = (d - c) / (b - a);
            (NumberRange::Linear { gain, offset: c - a * gain }, true)
        }
        _ => (NumberRange::SAME, false),
    }
}
