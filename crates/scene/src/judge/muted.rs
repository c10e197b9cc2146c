//! Muted layers: they come to nothing as it plays, and to something as soon as somebody switches them on.

use std::collections::HashSet;

use super::means::Shift;
use super::scenes::Scenes;
use super::verdict::{Limits, Verdict};
use crate::address::NodeRef;
use crate::scene::{Layer, Take};

/// The positions of layers that are muted in both takes, by their names; where several have one name, in their order.
fn of_both(source: &Take, result: &Take) -> Vec<(usize, usize)> {
    let muted = |take: &Take| -> Vec<(usize, String)> {
        let all = take.layers.iter().enumerate().filter(|(_, layer)| layer.muted);
        all.map(|(at, layer)| (at, layer.name.clone())).collect()
    };
    let mut left = muted(result);
    let mut both = Vec::new();
    for (at, name) in muted(source) {
        if let Some(found) = left.iter().position(|(_, own)| *own == name) {
            both.push((at, left.remove(found).0));
        }
    }
    both
}

fn nodes_of(layer: &Layer) -> HashSet<NodeRef> {
    layer.tracks.iter().map(|track| (track.target.rig, track.target.node)).collect()
}

/// Whether constraints or couples have a part in where a node is: what they make of a layer that is muted nobody evaluates.
fn is_by_constraints(scenes: &Scenes<'_>, (from, to): (NodeRef, NodeRef)) -> bool {
    let is_driven = |scene: &crate::scene::Scene, node| scene.is_driven(node) || scene.is_coupled(node);
    is_driven(scenes.source, from) || is_driven(scenes.result, to)
}

/// What would come of each muted layer if it alone were switched on, on the nodes that it has tracks on.
pub fn look(scenes: &Scenes<'_>, limits: Limits) -> Verdict {
    let mut verdict = Verdict::new(limits);
    let (source, result) = scenes.takes();
    let claim = scenes.claim;
    for (from, own) in of_both(source, result) {
        let (layer, own_layer) = (&source.layers[from], &result.layers[own]);
        let tracks = (
            source.tracks_by_node_where(|one| one.is_active() || std::ptr::eq(one, layer)),
            result.tracks_by_node_where(|one| one.is_active() || std::ptr::eq(one, own_layer)),
        );
        let (theirs, ours) = (nodes_of(layer), nodes_of(own_layer));
        let woken = Scenes { tracks: &tracks, woken: Some(&layer.name), ..*scenes };
        let is_meant = |(from, to): &(NodeRef, NodeRef)| {
            (theirs.contains(from) || ours.contains(to)) && !is_by_constraints(scenes, (*from, *to))
        };
        // What was changed on purpose was changed as it plays.
        let is_edited = |(node, _): &(NodeRef, NodeRef)| {
            claim.edits.iter().any(|edit| (edit.take, edit.node) == (scenes.span.source, *node))
        };
        for pair in claim.nodes.iter().filter(|pair| is_meant(pair) && !is_edited(pair)) {
            verdict.take_in(woken.node(*pair, limits));
        }
        let of_turn = |node: NodeRef, to: NodeRef| is_meant(&(node, to));
        for turn in &claim.turns {
            if turn.of.iter().any(|factor| of_turn(factor.node, turn.result))
                || of_turn(turn.source, turn.result)
            {
                verdict.take_in(woken.turn(turn, limits));
            }
        }
        let is_held = |shift: &Shift| {
            claim.holds.iter().any(|hold| hold.take == scenes.span.source && hold.result.0 == shift.result)
        };
        for shift in claim.shifts.iter().filter(|shift| !is_held(shift)) {
            if shift.of.iter().any(|node| is_meant(&(*node, shift.result))) {
                verdict.take_in(woken.shift(shift, limits));
            }
        }
        for amount in &claim.amounts {
            let pair = ((amount.source.rig, amount.source.node), (amount.result.rig, amount.result.node));
            if is_meant(&pair) {
                verdict.take_in(woken.amount(amount, limits));
            }
        }
    }
    // It is not what plays.
    Verdict { muted: std::mem::take(&mut verdict.judged), same: 0, ..verdict }
}
