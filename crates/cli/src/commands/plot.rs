//! `plot`: pictures of curves and poses.

use std::path::Path;

use nimble_curve_core::address::{Addresses, COMPONENTS, matches};
use nimble_curve_core::evaluate::PropertySampler;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::value::{Quantity, Value};
use nimble_curve_draw::curves::{Channel, stacked};
use nimble_curve_draw::poses::{Figure, strip};
use nimble_curve_draw::{Size, to_png};

use crate::args::{Plot, View};
use crate::failure::Failure;
use crate::files;

/// The most channels on one picture.
const MOST_CHANNELS: usize = 3;

pub fn run(args: &Plot) -> Result<(), Failure> {
    let ending = args.output.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
    let is_png = match ending.as_deref() {
        Some("png") => true,
        Some("svg") => false,
        _ => return Err(Failure::new(format!("{}: pictures are .png or .svg", args.output.display()))),
    };
    let scene = files::read(&args.file, args.input)?.scene;
    let other = args
        .against
        .as_ref()
        .map(|path| files::read(path, args.input))
        .transpose()?
        .map(|loaded| loaded.scene);
    let svg = match args.view {
        View::Curves => curves(args, &scene, other.as_ref())?,
        View::Poses => poses(args, &scene, other.as_ref())?,
    };
    let bytes = if is_png {
        to_png(&svg).map_err(|error| Failure::new(format!("{}: {error}", args.output.display())))?
    } else {
        svg.into_bytes()
    };
    Ok(nimble_curve_formats::write_bytes(&bytes, &args.output)?)
}

fn stem(path: &Path) -> &str {
    path.file_stem().and_then(|stem| stem.to_str()).unwrap_or("")
}

fn poses(args: &Plot, scene: &Scene, other: Option<&Scene>) -> Result<String, Failure> {
    let mut figures = vec![Figure { name: stem(&args.file), scene, take: scene.takes.first() }];
    if let (Some(scene), Some(path)) = (other, &args.against) {
        figures.push(Figure { name: stem(path), scene, take: scene.takes.first() });
    }
    Ok(strip(&figures, 9, Size::default())?)
}

fn curves(args: &Plot, scene: &Scene, other: Option<&Scene>) -> Result<String, Failure> {
    let Some(take) = scene.takes.first() else {
        return Err(Failure::new(format!("{}: there is no take to plot", args.file.display())));
    };
    let addresses = Addresses::new(scene);
    let mut channels = Vec::new();
    for (_, track) in take.tracks() {
        let address = addresses.property(&track.target);
        let kind = scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
        let quantity = kind.map_or(Quantity::Scalar, |kind| kind.quantity());
        let (factor, unit) = match quantity {
            Quantity::Angle => (1_f64.to_degrees(), "°"),
            Quantity::Length => (1.0, scene.space.unit_name().unwrap_or("")),
            Quantity::Scalar => (1.0, ""),
        };
        for (index, curve) in
            track.controller.curves().iter().enumerate().filter(|(_, curve)| !curve.is_empty())
        {
            let name = format!("{address}.{}", COMPONENTS.get(index).unwrap_or(&""));
            if !args.only.is_empty() && !args.only.iter().any(|pattern| matches(pattern, &name)) {
                continue;
            }
            let samples = match other {
                Some(other) => samples_of(other, &address, index)?,
                None => Vec::new(),
            };
            channels.push(Channel { name, curve, factor, unit, samples });
        }
    }
    if channels.is_empty() {
        return Err(Failure::new(format!("{}: no curve matches", args.file.display())));
    }
    if args.only.is_empty() {
        channels.sort_by_key(|channel| std::cmp::Reverse(channel.curve.keys().len()));
    }
    channels.truncate(MOST_CHANNELS);
    let range = (scene.rate.frame(take.range.first), scene.rate.frame(take.range.last));
    let title = match &args.against {
        Some(against) => format!("{} against {}", stem(&args.file), stem(against)),
        None => stem(&args.file).to_owned(),
    };
    Ok(stacked(&title, &channels, scene.rate, range, Size::default()))
}

/// The other scene's values of a channel at its own whole frames, as frames of the first scene.
fn samples_of(other: &Scene, address: &str, component: usize) -> Result<Vec<(f64, f64)>, Failure> {
    let Some(take) = other.takes.first() else { return Ok(Vec::new()) };
    let Ok(target) = Addresses::new(other).find_property(&other.rigs, address) else { return Ok(Vec::new()) };
    let mut sampler = PropertySampler::new(other, take, &target)?;
    let (first, last) = frames(other, take);
    let at = |frame: i64| {
        let time = other.rate.ticks(frame);
        let value = sampler.value_at(time.as_f64());
        let number = match value {
            Value::Discrete(_) => None,
            value => value.numbers().and_then(|numbers| numbers.get(component).copied()),
        };
        number.map(|number| (other.rate.frame(time), number))
    };
    Ok((first..=last).filter_map(at).collect())
}

fn frames(scene: &Scene, take: &Take) -> (i64, i64) {
    (scene.rate.nearest_frame(take.range.first), scene.rate.nearest_frame(take.range.last))
}
