//! A comparison for machines.

use nimble_curve_core::ops::compare::{Comparison, CurveDifference, Gap, JointDifference, TakeComparison};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Quantity;
use serde::Serialize;

use super::tables::counts;
use super::{Bound, Verdict};
use crate::report::ErrorJson;

#[derive(Serialize)]
pub(super) struct ComparisonJson<'a> {
    pub(super) verdict: Verdict,
    pub(super) rest_alike: bool,
    pub(super) pairs: usize,
    pub(super) takes_only_in_first: &'a [String],
    pub(super) takes_only_in_second: &'a [String],
    pub(super) takes: Vec<TakeJson<'a>>,
}

#[derive(Serialize)]
pub(super) struct TakeJson<'a> {
    pub(super) take: &'a str,
    pub(super) other: &'a str,
    pub(super) first_frame: f64,
    pub(super) last_frame: f64,
    /// Whether only samples were looked at, as one side is samples and the other is not.
    pub(super) at_samples: bool,
    pub(super) ranges: Option<[(f64, f64); 2]>,
    pub(super) moved_only_in_first: &'a [String],
    pub(super) moved_only_in_second: &'a [String],
    pub(super) channels: Vec<ChannelJson<'a>>,
    pub(super) nodes: Vec<JointJson<'a>>,
    pub(super) curves: Vec<CurveJson<'a>>,
}

#[derive(Serialize)]
pub(super) struct ChannelJson<'a> {
    pub(super) channel: &'a str,
    pub(super) other: Option<&'a str>,
    pub(super) beyond: bool,
    pub(super) error: ErrorJson,
}

#[derive(Serialize)]
pub(super) struct JointJson<'a> {
    pub(super) node: &'a str,
    pub(super) other: Option<&'a str>,
    pub(super) beyond: bool,
    pub(super) rotation: ErrorJson,
    pub(super) position: Option<ErrorJson>,
}

#[derive(Serialize)]
pub(super) struct CurveJson<'a> {
    pub(super) layer: &'a str,
    pub(super) channel: &'a str,
    pub(super) keys: [Option<usize>; 2],
    pub(super) keys_at_other_times: [usize; 2],
    pub(super) unit: &'static str,
    pub(super) value: Option<GapJson>,
    pub(super) slope: Option<GapJson>,
    pub(super) note: &'a str,
}

#[derive(Serialize)]
pub(super) struct GapJson {
    pub(super) largest: f64,
    pub(super) frame: f64,
}

pub(super) fn as_json<'a>(
    found: &'a Comparison,
    scene: &Scene,
    bound: Bound,
    verdict: Verdict,
) -> ComparisonJson<'a> {
    let space = &scene.space;
    let curve = |curve: &'a CurveDifference| {
        let (unit, factor) = match curve.quantity {
            Quantity::Angle => ("deg", 1_f64.to_degrees()),
            Quantity::Length => ("mm", space.metres_per_unit * 1000.0),
            Quantity::Number => ("", 1.0),
        };
        let gap = |gap: Gap| GapJson { largest: gap.largest * factor, frame: gap.frame };
        CurveJson {
            layer: &curve.layer,
            channel: &curve.channel,
            keys: [curve.keys.0, curve.keys.1],
            keys_at_other_times: [curve.only.0, curve.only.1],
            unit,
            value: curve.value.map(gap),
            slope: curve.slope.map(gap),
            note: &curve.note,
        }
    };
    let joint = |joint: &'a JointDifference| JointJson {
        node: &joint.node,
        other: joint.other.as_deref(),
        beyond: bound.is_beyond(joint, space),
        rotation: ErrorJson::new(&joint.rotation, space),
        position: joint.position.map(|position| ErrorJson::new(&position, space)),
    };
    let take = |take: &'a TakeComparison| TakeJson {
        take: &take.take,
        other: &take.other,
        first_frame: scene.rate.frame(take.range.first),
        last_frame: scene.rate.frame(take.range.last),
        at_samples: take.at_samples,
        ranges: take.ranges,
        moved_only_in_first: &take.only_first,
        moved_only_in_second: &take.only_second,
        channels: (take.channels.iter())
            .map(|channel| ChannelJson {
                channel: &channel.channel,
                other: channel.other.as_deref(),
                beyond: bound.exceeds(&channel.error, space),
                error: ErrorJson::new(&channel.error, space),
            })
            .collect(),
        nodes: take.joints.iter().map(joint).collect(),
        curves: take.curves.iter().filter(|curve| counts(curve)).map(curve).collect(),
    };
    ComparisonJson {
        verdict,
        rest_alike: found.rest_alike,
        pairs: found.pairs,
        takes_only_in_first: &found.only_first,
        takes_only_in_second: &found.only_second,
        takes: found.takes.iter().map(take).collect(),
    }
}
