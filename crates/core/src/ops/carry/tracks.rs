//! The tracks of a take by what they move.

use std::collections::HashMap;

use crate::controller::{Controller, Samples};
use crate::rig::{NodeId, OpValue, Rig};
use crate::scene::{Layer, LayerMode, Take, Track};

/// A track with its layer.
pub(super) type OnLayer<'t> = (usize, &'t Track);

/// The tracks of a take on the first rig, by node.
pub(super) struct Tracks<'t> {
    pub take: &'t Take,
    rotations: HashMap<NodeId, Vec<OnLayer<'t>>>,
    translations: HashMap<NodeId, Vec<OnLayer<'t>>>,
    /// Custom attributes, scales, and what else is moved.
    pub others: Vec<OnLayer<'t>>,
    /// Tracks on other rigs.
    pub elsewhere: Vec<OnLayer<'t>>,
}

impl<'t> Tracks<'t> {
    pub fn of(take: &'t Take, rig: &Rig) -> Tracks<'t> {
        let mut tracks = Tracks {
            take,
            rotations: HashMap::new(),
            translations: HashMap::new(),
            others: Vec::new(),
            elsewhere: Vec::new(),
        };
        for (layer, track) in take.tracks() {
            if track.target.rig != 0 {
                tracks.elsewhere.push((layer, track));
                continue;
            }
            let node = track.target.node;
            let op = rig.node(node).and_then(|node| node.op(&track.target.property)).map(|op| op.value);
            match op {
                Some(
                    OpValue::Rotate { .. }
                    | OpValue::Orient(_)
                    | OpValue::RotateAxis { .. }
                    | OpValue::Matrix(_),
                ) => {
                    tracks.rotations.entry(node).or_default().push((layer, track));
                }
                Some(OpValue::Translate(_)) => {
                    tracks.translations.entry(node).or_default().push((layer, track));
                }
                _ => tracks.others.push((layer, track)),
            }
        }
        tracks
    }

    /// The tracks that turn a node.
    pub fn rotations(&self, node: NodeId) -> &[OnLayer<'t>] {
        self.rotations.get(&node).map_or(&[], Vec::as_slice)
    }

    /// The tracks that shift a node.
    pub fn translations(&self, node: NodeId) -> &[OnLayer<'t>] {
        self.translations.get(&node).map_or(&[], Vec::as_slice)
    }

    pub fn turns(&self, node: NodeId) -> bool {
        self.rotations.contains_key(&node)
    }

    pub fn shifts(&self, node: NodeId) -> bool {
        self.translations.contains_key(&node)
    }
}

/// The lowest layer, where it counts in full and replaces what lies under it.
pub(super) fn base_layer(take: &Take) -> Option<usize> {
    let counts = |layer: &Layer| {
        layer.mode == LayerMode::Override && !layer.muted && layer.weight.constant() == Some(1.0)
    };
    take.layers.first().filter(|layer| counts(layer)).map(|_| 0)
}

/// The samples whose instants all of these tracks share, where nothing but samples moves them.
pub(super) fn common_samples<'t>(tracks: &[OnLayer<'t>]) -> Option<&'t Samples> {
    let mut first: Option<&Samples> = None;
    for (_, track) in tracks {
        let own = match &track.controller {
            Controller::Samples(own) => own,
            Controller::Constant(_) => continue,
            _ => return None,
        };
        let same =
            |other: &Samples| (other.start, other.rate, other.len()) == (own.start, own.rate, own.len());
        if !first.is_none_or(same) {
            return None;
        }
        first = first.or(Some(own));
    }
    first
}
