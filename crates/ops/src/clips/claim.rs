//! What takes should be that were put together: each the same, at its new time, on nodes of the same names.

use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::judge::{By, Claim, Clock, Excuse, Span};
use nimble_curve_scene::scene::{Scene, Target};

use super::join::JoinOptions;
use crate::select::{Selection, select};
use crate::travel::carrying;

/// The takes of a scene are in another one, from a position on, as they were.
pub fn added(source: &Scene, result: &Scene, at: usize) -> Claim {
    let span = |(index, take): (usize, &nimble_curve_scene::scene::Take)| Span {
        source: index,
        result: at + index,
        range: take.range,
        clock: Clock::SAME,
    };
    let spans = source.takes.iter().enumerate().map(span).collect();
    let world = Some(Vec::new());
    Claim { spans, by: By::Properties, world, ..Claim::same_by_address(source, result) }
}

/// Each take of some scenes is a stretch of the only take of the result, one after the other; where they go on where the one
/// before ended, what carries the body along is free. The scene's position is beside each claim.
pub fn joined(scenes: &[Scene], result: &Scene, options: &JoinOptions) -> Vec<(usize, Claim)> {
    let rate = result.rate;
    let mut next = options.start.map(|start| rate.ticks_at(start));
    let mut claims = Vec::new();
    for (at, scene) in scenes.iter().enumerate() {
        let mut claim = Claim {
            spans: Vec::new(),
            by: By::Properties,
            world: Some(Vec::new()),
            takes_chosen: true,
            ..Claim::same_by_address(scene, result)
        };
        for (index, take) in scene.takes.iter().enumerate() {
            let alone = Scene { takes: vec![take.clone()], ..scene.clone() };
            let inside =
                Selection { range: Some(take.range), tolerance: options.tolerance, ..Selection::default() };
            // A take whose keys all lie outside its range has nothing to give.
            if select(&alone, &inside).is_err() {
                continue;
            }
            let first = next.unwrap_or(take.range.first);
            let range = TimeRange::new(first, first + (take.range.last - take.range.first));
            let clock = Clock::shifted(take.range.first, first);
            claim.spans.push(Span { source: index, result: 0, range, clock });
            // Clips begin on whole frames, whatever the rates of their files.
            let last = rate.frame(range.last).ceil() as i64;
            next = Some(rate.ticks(last + 1 + i64::from(options.gap)));
            if options.go_on {
                for (rig, node) in carrying(scene, take) {
                    let steps = scene.rigs[rig].node(node).map_or(&[][..], |node| &node.transform);
                    claim.excuses.extend(steps.iter().map(|op| Excuse {
                        take: index,
                        target: Target { rig, node, property: op.name.clone() },
                        why: "it goes on where the clip before ended".to_owned(),
                    }));
                }
            }
        }
        claims.push((at, claim));
    }
    claims
}

/// All but some takes went, and these stay.
pub fn taken(source: &Scene, result: &Scene, kept: &[usize]) -> Claim {
    let span = |(own, &index): (usize, &usize)| Span {
        source: index,
        result: own,
        range: result.takes[own].range,
        clock: Clock::SAME,
    };
    let spans = kept.iter().enumerate().map(span).collect();
    Claim { spans, takes_chosen: true, ..Claim::same(source, result) }
}
