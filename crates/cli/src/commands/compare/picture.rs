//! A comparison as a picture.

use nimble_curve_core::ops::compare::Comparison;
use nimble_curve_core::scene::Scene;
use nimble_curve_draw::{Size, curves};

use super::{Bound, ROUNDING};
use crate::args::Compare;
use crate::commands::plot::{channels_of, values_of};
use crate::failure::Failure;
use crate::named::stem;

/// The most channels on the picture.
pub(super) const DRAWN: usize = 3;

/// The channels that are farthest apart.
pub(super) fn drawn(
    args: &Compare,
    found: &Comparison,
    (first, second): (&Scene, &Scene),
    bound: Bound,
) -> Result<String, Failure> {
    let space = &first.space;
    let Some(take) = found.takes.first() else {
        return Err(Failure::new("no take stands in both files: there is nothing to draw"));
    };
    let mut worst: Vec<_> = take.channels.iter().filter(|channel| channel.error.largest > ROUNDING).collect();
    worst.sort_by(|a, b| bound.weight(&b.error, space).total_cmp(&bound.weight(&a.error, space)));
    let (Some(own), Some(theirs)) = (
        first.takes.iter().find(|own| own.name == take.take),
        second.takes.iter().find(|other| other.name == take.other),
    ) else {
        return Err(Failure::new("no take stands in both files: there is nothing to draw"));
    };
    let mut channels = Vec::new();
    for channel in worst {
        // Of each property the component that differs most.
        let mut best: Option<(f64, curves::Channel<'_>)> = None;
        for name in std::iter::once(String::new())
            .chain(["x", "y", "z"].map(|letter| format!(".{letter}")))
            .map(|letter| format!("{}{letter}", channel.channel))
        {
            let Some(mut drawn) = channels_of(first, own, std::slice::from_ref(&name)).pop() else {
                continue;
            };
            drawn.against = values_of(first, second, theirs, &name)?;
            let apart = farthest(&drawn, first);
            if best.as_ref().is_none_or(|(most, _)| apart > *most) && !drawn.against.is_empty() {
                best = Some((apart, drawn));
            }
        }
        channels.extend(best.map(|(_, channel)| channel));
        if channels.len() == DRAWN {
            break;
        }
    }
    if channels.is_empty() {
        return Err(Failure::new("no curve of both files differs: plot --view poses --against shows both"));
    }
    let rate = first.rate;
    let title = format!("{} against {}", stem(&args.first), stem(&args.second));
    let range = (rate.frame(take.range.first), rate.frame(take.range.last));
    let sheet = curves::Sheet { title: &title, rate, range, overlaid: false, size: Size::default() };
    Ok(curves::draw(&sheet, &channels))
}

pub(super) fn farthest(channel: &curves::Channel<'_>, scene: &Scene) -> f64 {
    let own = |at: f64| match &channel.source {
        curves::Source::Curve(curve) => curve.value_at(at * scene.rate.ticks_per_frame()),
        curves::Source::Values(values) => {
            values.iter().find(|(frame, _)| *frame == at).map(|(_, value)| *value)
        }
    };
    let apart = channel.against.iter().filter_map(|&(frame, value)| Some((own(frame)? - value).abs()));
    apart.fold(0.0, f64::max)
}
