//! The two scenes that are compared, and what is asked of them again and again.

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Quantity;

use super::claim::{Claim, Span};
use super::look::Seen;
use super::verdict::{Asleep, Judged, Part};
use crate::address::{Addresses, NodeRef};
use crate::evaluate::{EvaluateError, NodeSampler};
use crate::ledger::MeasuredError;
use crate::rig::Node;
use crate::scene::{Layer, PropertyKind, Scene, Take, Target, Track, TracksByNode};

/// Two scenes, and the stretch of them that is compared.
pub struct Scenes<'a> {
    pub source: &'a Scene,
    pub result: &'a Scene,
    pub claim: &'a Claim,
    pub span: &'a Span,
    pub precision: f64,
    pub addresses: &'a (Addresses, Addresses),
    /// What is on the nodes of either scene in the takes of the span.
    pub tracks: &'a (TracksByNode<'a>, TracksByNode<'a>),
    /// What sleeps in both takes and counts among these tracks, to see what it would come to.
    pub woken: Option<&'a Asleep>,
}

/// What drives a node in a take.
pub type Drivers<'a> = Vec<(&'a Layer, &'a Track)>;

impl<'a> Scenes<'a> {
    pub fn takes(&self) -> (&'a Take, &'a Take) {
        (&self.source.takes[self.span.source], &self.result.takes[self.span.result])
    }

    /// The range in the source's time.
    pub fn source_range(&self) -> TimeRange {
        let at = |time: Ticks| Ticks(self.span.clock.source_at(time.as_f64()).round() as i64);
        TimeRange::new(at(self.span.range.first), at(self.span.range.last))
    }

    /// A node of the source over the source's time.
    pub fn source_node(&self, node: NodeRef) -> Result<NodeSampler<'a>, EvaluateError> {
        NodeSampler::of_tracks(self.source, Some(self.takes().0), node, self.tracks.0.on(node))
    }

    /// A node of the result over its time.
    pub fn result_node(&self, node: NodeRef) -> Result<NodeSampler<'a>, EvaluateError> {
        NodeSampler::of_tracks(self.result, Some(self.takes().1), node, self.tracks.1.on(node))
    }

    pub fn is_excused(&self, from: NodeRef, property: &str) -> bool {
        self.claim.excuses.iter().any(|excuse| {
            excuse.take == self.span.source
                && (excuse.target.rig, excuse.target.node) == from
                && excuse.target.property == property
                && self.is_about(excuse.layer.as_deref())
        })
    }

    /// Whether an excuse of a layer that sleeps, or of none, is about what is looked at.
    fn is_about(&self, layer: Option<&str>) -> bool {
        match (layer, self.woken) {
            (None, _) => true,
            (Some(layer), Some(Asleep::Layer(woken))) => layer == woken,
            (Some(_), _) => false,
        }
    }

    /// What was seen of a part of a node.
    pub fn judged(
        &self,
        from: NodeRef,
        to: NodeRef,
        part: Part,
        named: (String, String),
        quantity: Quantity,
        seen: &Seen,
    ) -> Judged {
        let measured = |errors: &[(f64, f64)]| {
            let mut error = MeasuredError::none(quantity);
            errors.iter().for_each(|&(time, apart)| error.take(apart, time));
            error.in_frames(self.result.rate)
        };
        let source = target(from, &named.0);
        let result = target(to, &named.1);
        let node = node_of(self.result, to);
        let of_transform = node.is_some_and(|node| {
            !matches!(part, Part::Attribute(_))
                || node.op(&named.1).is_some() && node.attribute(&named.1).is_none()
        });
        Judged {
            of_transform,
            of: 0,
            channel: self.addresses.0.property(&source),
            woken: self.woken.cloned(),
            source_take: self.span.source,
            take: self.span.result,
            source,
            result,
            part,
            error: measured(&seen.at),
            between: (!seen.between.is_empty()).then(|| measured(&seen.between)),
            by_readings: seen.by_readings,
        }
    }
}

pub fn target((rig, node): NodeRef, property: &str) -> Target {
    Target { rig, node, property: property.to_owned() }
}

pub fn node_of(scene: &Scene, (rig, id): NodeRef) -> Option<&Node> {
    scene.rigs.get(rig)?.node(id)
}

pub fn kind_of(scene: &Scene, target: &Target) -> Option<PropertyKind> {
    scene.rigs.get(target.rig)?.property_kind(target.node, &target.property)
}
