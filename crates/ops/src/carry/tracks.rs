//! The tracks of a take by what they move.

use std::collections::HashMap;

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::rig::{NodeId, OpValue, Rig};
use nimble_curve_scene::scene::{Take, Track};

/// A track with its layer.
pub(super) type OnLayer<'t> = (usize, &'t Track);

/// The tracks of a take on one rig, by node.
pub(super) struct Tracks<'t> {
    pub take: &'t Take,
    rotations: HashMap<NodeId, Vec<OnLayer<'t>>>,
    translations: HashMap<NodeId, Vec<OnLayer<'t>>>,
    /// Custom attributes, scales, and what else is moved.
    pub others: Vec<OnLayer<'t>>,
}

impl<'t> Tracks<'t> {
    pub fn of(take: &'t Take, index: usize, rig: &Rig) -> Tracks<'t> {
        let mut tracks =
            Tracks { take, rotations: HashMap::new(), translations: HashMap::new(), others: Vec::new() };
        for (layer, track) in take.tracks() {
            if track.target.rig != index {
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
    take.layers.first().filter(|layer| layer.is_whole()).map(|_| 0)
}

/// The instants of samples that all of these tracks together are given at, where some of them are samples: on the grid of
/// the finest, from the first to the last of them; and whether nothing but samples on that very grid moves them.
pub(super) fn common_samples(tracks: &[OnLayer<'_>]) -> Option<(Samples, bool)> {
    let mut grid: Option<Samples> = None;
    let mut is_all = true;
    for (_, track) in tracks {
        let Some(own) = track.controller.samples() else {
            is_all &= matches!(track.controller, Controller::Constant(_));
            continue;
        };
        let Some(found) = &mut grid else {
            grid = Some(Samples { values: Vec::new(), ..own.clone() });
            continue;
        };
        is_all &= (found.start, found.rate) == (own.start, own.rate);
        if own.rate.fps() > found.rate.fps() {
            found.rate = own.rate;
        }
        found.start = found.start.min(own.start);
    }
    let mut grid = grid?;
    let last =
        tracks.iter().filter_map(|(_, track)| track.controller.range()).map(|range| range.last).max()?;
    let first =
        tracks.iter().filter_map(|(_, track)| track.controller.range()).map(|range| range.first).min()?;
    if first < grid.start {
        // Back by whole samples.
        let step = grid.rate.ticks_per_frame();
        let back = ((grid.start - first).as_f64() / step).ceil() as i64;
        grid.start = Ticks(grid.start.0 - (back as f64 * step).round() as i64);
    }
    let count = ((last - grid.start).as_f64() / grid.rate.ticks_per_frame() + 1e-6).floor() as usize + 1;
    // One number a sample for now: what they are is for the caller to say.
    (grid.kind, grid.values) = (SampleKind::Number, vec![0.0; count]);
    let same_length = |(_, track): &OnLayer<'_>| {
        track.controller.samples().is_none_or(|own| own.len() == count && own.start == grid.start)
    };
    is_all &= tracks.iter().all(same_length);
    Some((grid, is_all))
}
