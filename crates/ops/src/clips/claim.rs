//! What takes should be that were put together: each the same, at its new time, on nodes of the same names.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::judge::{By, Claim, Clock, Excuse, Span};
use nimble_curve_scene::scene::{Scene, Target};
use nimble_curve_scene::space::AxisMap;

use super::join::JoinOptions;
use crate::ground::as_a_whole;
use crate::onward::ends;
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
/// before ended, what carries the body along is said in claims of its own. The scene's position is beside each claim.
///
/// # Errors
/// Where a take cannot be evaluated.
pub fn joined(
    scenes: &[Scene],
    result: &Scene,
    options: &JoinOptions,
) -> Result<Vec<(usize, Claim)>, EvaluateError> {
    let rate = result.rate;
    let mut next = options.start.map(|start| rate.ticks_at(start));
    let mut claims = Vec::new();
    let mut onward = Onward { result, end: None, turned: DQuat::IDENTITY };
    for (at, scene) in scenes.iter().enumerate() {
        let mut ways = Vec::new();
        let mut claim = Claim {
            spans: Vec::new(),
            by: By::Properties,
            world: Some(Vec::new()),
            takes_chosen: true,
            ..Claim::same_by_address(scene, result)
        };
        for (index, take) in scene.takes.iter().enumerate() {
            let alone = scene.with_only(vec![take.clone()]);
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
                ways.extend(onward.goes_on(scene, claim.spans.last(), &claim)?);
                for (rig, node) in carrying(scene, take) {
                    let steps = scene.rigs[rig].node(node).map_or(&[][..], |node| &node.transform);
                    claim.excuses.extend(steps.iter().map(|op| {
                        let target = Target::new(rig, node, op.name.clone());
                        Excuse::new(index, target, "it goes on where the clip before ended")
                    }));
                }
            }
        }
        claims.push((at, claim));
        claims.extend(ways.into_iter().map(|way| (at, way)));
    }
    Ok(claims)
}

/// Where the bodies of takes are that go on one after the other.
struct Onward<'a> {
    result: &'a Scene,
    /// When the one before ended, in the result.
    end: Option<Ticks>,
    /// By what all before turned, in the result's axes.
    turned: DQuat,
}

impl Onward<'_> {
    /// What carries the body along in a take: as it did, but for a turn about the up axis by what those before turned, and a way
    /// along the ground to where the result has it at the end of the one before.
    fn goes_on(
        &mut self,
        scene: &Scene,
        span: Option<&Span>,
        all: &Claim,
    ) -> Result<Option<Claim>, EvaluateError> {
        let Some(span) = span else { return Ok(None) };
        let take = &scene.takes[span.source];
        let (first, last) = ends(scene, take)?;
        let end = self.end.replace(span.range.last);
        let turned = self.turned;
        let up = DVec3::AXES[scene.space.up.index()];
        self.turned *= all.space.rotation(DQuat::from_axis_angle(up, last.heading - first.heading));
        let nodes = carrying(scene, take);
        let pairs: Vec<_> = all.nodes.iter().filter(|(from, _)| nodes.contains(from)).copied().collect();
        let mut claim = Claim {
            spans: vec![span.clone()],
            nodes: pairs.clone(),
            world: Some(Vec::new()),
            takes_chosen: true,
            space: all.space,
            ..Claim::nothing()
        };
        let Some(end) = end else { return Ok(Some(claim)) };
        let back = AxisMap::between(&self.result.space, &scene.space);
        let own = pairs.iter().find(|(from, _)| Some(from) == nodes.first()).map(|(_, own)| *own);
        let position = |(rig, id): NodeRef| Some((rig, self.result.rigs[rig].position(id)?));
        // Nothing carries it along.
        let Some((rig, carrier)) = own.and_then(position) else { return Ok(Some(claim)) };
        let mut stands = Pose::default();
        Evaluator::new(self.result, self.result.takes.first(), rig)?.pose_at(end.as_f64(), &mut stands);
        let stands = stands.world[carrier].translation;
        let to = back.length(stands);
        let about = back.rotation(turned);
        // In the world: about where the body begins, and on to where it is to stand; the height stays.
        let along = |place: DVec3| place - up * up.dot(place);
        let by = along(to) - about * along(first.place);
        let goes = DAffine3::from_rotation_translation(about, by);
        claim.edits.extend(as_a_whole(scene, (span.source, take), goes));
        Ok(Some(claim))
    }
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
