//! Numbers of two rigs paired.

use std::collections::HashSet;

use nimble_curve_scene::address::{Addresses, without_namespace_of_node};
use nimble_curve_scene::rig::{AttributeKind, NodeId, Rig};
use nimble_curve_scene::scene::Target;

use super::proposal::{Confidence, ProposedNumber};
use crate::carry::{AttributePair, NumberRange};
use crate::names::Name;

/// Attributes by name; ranges by their limits.
pub(super) fn numbers(
    from: &Rig,
    onto: &Rig,
    from_addresses: &Addresses,
    onto_addresses: &Addresses,
) -> (Vec<ProposedNumber>, Vec<String>) {
    type Own = (Target, AttributeKind, Name);
    let all = |rig: &Rig| -> Vec<Own> {
        let of_node = |(node, of): (NodeId, &nimble_curve_scene::rig::Node)| {
            let target = move |name: &str| Target { rig: 0, node, property: name.to_owned() };
            of.attributes
                .iter()
                .map(move |a| (target(&a.name), a.kind.clone(), Name::of(&a.name)))
                .collect::<Vec<_>>()
        };
        rig.nodes().flat_map(of_node).collect()
    };
    let (sources, targets) = (all(from), all(onto));
    let (mut found, mut left, mut taken) = (Vec::new(), Vec::new(), HashSet::new());
    for (source, kind, name) in &sources {
        let same_kind = |other: &AttributeKind| std::mem::discriminant(other) == std::mem::discriminant(kind);
        let lower = source.property.to_lowercase();
        let named = |(target, other, _): &&Own| same_kind(other) && target.property.to_lowercase() == lower;
        let alike = |(_, other, own): &&Own| same_kind(other) && own == name && !name.words.is_empty();
        let mut by_name = targets.iter().filter(named);
        let mut by_words = targets.iter().filter(alike);
        let (partner, why) = match (by_name.next(), by_name.next(), by_words.next(), by_words.next()) {
            (Some(only), None, ..) => (only, "same name"),
            (None, _, Some(only), None) => (only, "same words"),
            _ => {
                left.push(without_namespace_of_node(&from_addresses.property(source)).to_owned());
                continue;
            }
        };
        if !taken.insert(partner.0.clone()) {
            left.push(without_namespace_of_node(&from_addresses.property(source)).to_owned());
            continue;
        }
        let (range, by_limits) = by_limits(kind, &partner.1);
        let why = if by_limits { format!("{why}, scaled by the limits") } else { why.to_owned() };
        let sureness = if by_limits || why != "same name" { Confidence::Likely } else { Confidence::Sure };
        let short = |address: String| without_namespace_of_node(&address).to_owned();
        let pair = AttributePair {
            source: short(from_addresses.property(source)),
            target: short(onto_addresses.property(&partner.0)),
            range,
        };
        found.push(ProposedNumber { pair, sureness, why });
    }
    (found, left)
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
