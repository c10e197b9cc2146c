//! Numbers of two rigs paired.

use std::collections::HashSet;

use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::rig::{AttributeKind, NodeId};
use nimble_curve_scene::scene::Target;

use super::named::Named;
use super::proposal::{Confidence, ProposedNumber};
use crate::carry::{AttributePair, NumberRange};
use crate::names::Name;

/// Attributes by name; ranges by their limits.
pub(super) fn numbers(
    (from, from_addresses): (&Named<'_>, &Addresses),
    (onto, onto_addresses): (&Named<'_>, &Addresses),
) -> (Vec<ProposedNumber>, Vec<String>) {
    type Own = (Target, AttributeKind, Name);
    let all = |named: &Named<'_>| -> Vec<Own> {
        let rig = named.index;
        let of_node = |(node, of): (NodeId, &nimble_curve_scene::rig::Node)| {
            let target = move |name: &str| Target { rig, node, property: name.to_owned() };
            of.attributes
                .iter()
                .map(move |a| (target(&a.name), a.kind.clone(), Name::of(&a.name)))
                .collect::<Vec<_>>()
        };
        named.rig().nodes().flat_map(of_node).collect()
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
                left.push(from.property(from_addresses, source));
                continue;
            }
        };
        if !taken.insert(partner.0.clone()) {
            left.push(from.property(from_addresses, source));
            continue;
        }
        let (range, by_limits) = by_limits(kind, &partner.1);
        let why = if by_limits { format!("{why}, scaled by the limits") } else { why.to_owned() };
        let sureness = if by_limits || why != "same name" { Confidence::Likely } else { Confidence::Sure };
        let pair = AttributePair {
            source: from.property(from_addresses, source),
            target: onto.property(onto_addresses, &partner.0),
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
