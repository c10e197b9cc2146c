//! What `unbake` does before it fits anything: faults are bridged, noise is measured, and a word for tolerances is spelt out.

use std::borrow::Cow;
use std::collections::HashMap;
use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::choice::Choice;
use nimble_curve_core::ops::capture::{ChannelFault, ChannelNoise, Fault, bridged, noise};
use nimble_curve_core::ops::check::is_unit_doubtful;
use nimble_curve_core::ops::reorder::NewOrder;
use nimble_curve_core::ops::unbake::{FitOrder, KeySets, UnbakeOptions};
use nimble_curve_core::ops::{Tolerance, feet};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::time::TimeRange;

use crate::args::{Bound, Keys, Rotations, Seen, Unbake};
use crate::failure::Failure;
use crate::quantity;
use crate::report::{counted, frame, short};

/// What is fitted, and how.
pub(super) struct Prepared<'a> {
    /// The scene without what was bridged.
    pub source: Cow<'a, Scene>,
    pub options: UnbakeOptions,
    /// What was bridged.
    pub faults: Vec<ChannelFault>,
    /// The noise that tolerances come from.
    pub noise: Option<Vec<ChannelNoise>>,
    /// A word for tolerances, spelt out.
    pub spelt_out: Option<String>,
}

impl Prepared<'_> {
    /// What was bridged, and of which tracks no noise is told, in sentences.
    pub fn remarks(&self) -> Vec<String> {
        let mut remarks = Vec::new();
        if !self.faults.is_empty() {
            remarks.push(format!("bridged before it was fitted: {}", counted_faults(&self.faults)));
        }
        let untold = self.noise.iter().flatten().filter(|own| own.size.is_none());
        let untold: Vec<&str> = untold.map(|own| own.channel.as_str()).collect();
        if !untold.is_empty() {
            let tracks = counted(untold.len(), "track");
            remarks.push(format!(
                "too few samples of {tracks} move to tell their noise, so that the usual tolerance is theirs: {}",
                untold.join(", ")
            ));
        }
        remarks
    }

    pub fn new<'a>(args: &Unbake, scene: &'a Scene, file: &Path) -> Result<Prepared<'a>, Failure> {
        if args.tolerance == Some(Bound::Noise) && args.keys_at_most.is_some() {
            return Err(Failure::new(
                "--tolerance auto and --keys-at-most both find tolerances: say one of them",
            ));
        }
        let only = args.choice.channels(scene, file)?;
        let (source, faults) = match args.bridge {
            false => (Cow::Borrowed(scene), Vec::new()),
            true => {
                let bridged = bridged(scene, &only);
                (Cow::Owned(bridged.scene), bridged.faults)
            }
        };
        let preset = args.seen.map(|seen| Preset::new(seen, &source));
        let (given, noise) = match args.tolerance {
            Some(Bound::Given(tolerance)) => (Some(tolerance), None),
            Some(Bound::Noise) => {
                let found = noise(&source, &only);
                (None, Some(found.map_err(|error| Failure::new(format!("{}: {error}", file.display())))?))
            }
            None => (None, None),
        };
        let tolerance = given.or(preset.as_ref().map(|preset| preset.tolerance)).unwrap_or_default();
        let mut options = options(args, &source, tolerance)?;
        options.only = only;
        if let Some(preset) = &preset {
            options.world = options.world.or(preset.world);
            if options.watch.is_empty() && options.world.is_some() {
                options.watch = preset.planted.clone();
            }
        }
        if let Some(noise) = &noise {
            let own = |own: &ChannelNoise| (own.channel.clone(), own.tolerance(tolerance, &source.space));
            options.tolerance_of = noise.iter().map(own).collect();
        }
        let spelt_out = preset.as_ref().map(|preset| preset.spelt_out(&options));
        Ok(Prepared { source, options, faults, noise, spelt_out })
    }
}

/// What a word for tolerances comes to.
struct Preset {
    word: &'static str,
    tolerance: Tolerance,
    /// None where the unit is doubtful: a bound in metres would mean nothing.
    world: Option<f64>,
    /// The feet.
    planted: Vec<String>,
}

impl Preset {
    fn new(seen: Seen, scene: &Scene) -> Preset {
        let (word, degrees, length, number, world) = match seen {
            Seen::Near => ("near", 0.5_f64, 0.002, 0.002, 0.001),
            Seen::Mid => ("mid", 1.0, 0.005, 0.005, 0.005),
            Seen::Far => ("far", 3.0, 0.02, 0.02, 0.02),
        };
        let addresses = Addresses::new(scene);
        Preset {
            word,
            tolerance: Tolerance { angle: degrees.to_radians(), length, number },
            world: (!is_unit_doubtful(scene)).then_some(world),
            planted: feet(scene).into_iter().map(|node| addresses.node(node).to_owned()).collect(),
        }
    }

    fn spelt_out(&self, options: &UnbakeOptions) -> String {
        let Tolerance { angle, length, number } = options.tolerance;
        let (angle, length) = (typed(angle.to_degrees()), typed(length * 1000.0));
        let mut text = format!("{}: --tolerance {angle}deg,{length}mm,{}", self.word, typed(number));
        match options.world {
            Some(world) => text += &format!(" --world {}mm", typed(world * 1000.0)),
            None => text += ", no bound in the world, as the unit is doubtful (see check)",
        }
        if !options.watch.is_empty() {
            text += &format!(" --planted {}", options.watch.join(" "));
        }
        text
    }
}

/// A number as people type it.
fn typed(number: f64) -> f64 {
    const DIGITS: f64 = 1e9;
    (number * DIGITS).round() / DIGITS
}

/// A tolerance as it is typed.
pub(super) fn said(tolerance: &Tolerance) -> String {
    format!(
        "{}deg,{}mm,{}",
        short(tolerance.angle.to_degrees()),
        short(tolerance.length * 1000.0),
        short(tolerance.number)
    )
}

fn options(args: &Unbake, scene: &Scene, usual: Tolerance) -> Result<UnbakeOptions, Failure> {
    let at = |frame: &f64| scene.rate.ticks_at(*frame);
    let mut tolerance_for = Vec::with_capacity(args.tolerance_for.len());
    let addresses = Addresses::new(scene);
    for (pattern, text) in &args.tolerance_for {
        let tolerance = quantity::tolerance_over(usual, text).map_err(Failure::new)?;
        let choice = Choice::among(scene, &addresses, (std::slice::from_ref(pattern), &[]), &[]);
        let choice = choice.map_err(|error| Failure::new(format!("--tolerance-for: {error}")))?;
        let is_animated = (scene.takes.iter().flat_map(Take::tracks)).any(|(_, track)| {
            let node = addresses.node((track.target.rig, track.target.node));
            choice.takes(&[addresses.property(&track.target).as_str(), node])
        });
        if !is_animated {
            return Err(Failure::new(format!("--tolerance-for: no animated channel matches '{pattern}'")));
        }
        tolerance_for.push((choice, tolerance));
    }
    let keys = scene.takes.iter().filter_map(|take| take.key_range()).reduce(TimeRange::union);
    let lies_outside =
        |first: f64, last: f64| keys.is_some_and(|keys| at(&last) < keys.first || at(&first) > keys.last);
    if let Some((first, last)) = args.frames.filter(|(first, last)| lies_outside(*first, *last)) {
        return Err(Failure::new(format!("--frames {first}:{last} lies outside all keys and samples")));
    }
    if let Some(frame) = args.keep.iter().find(|frame| lies_outside(**frame, **frame)) {
        return Err(Failure::new(format!("--keep {frame} lies outside all keys and samples")));
    }
    Ok(UnbakeOptions {
        only: Vec::new(),
        tolerance: usual,
        tolerance_for,
        tolerance_of: HashMap::new(),
        world: args.world,
        watch: args.planted.clone(),
        per_channel: args.per_channel,
        keys: match args.keys {
            Keys::Free => KeySets::Free,
            Keys::Node => KeySets::Node,
            Keys::Pose => KeySets::Pose,
        },
        order: match args.order {
            None => FitOrder::Own,
            Some(NewOrder::To(order)) => FitOrder::To(order),
            Some(NewOrder::Best) => FitOrder::Best,
        },
        handles: args.tangents.into(),
        quaternions: args.rotations == Rotations::Quaternions,
        keep: args.keep.iter().map(at).collect(),
        range: args.frames.map(|(first, last)| TimeRange::new(at(&first), at(&last))),
        again: args.refit,
        fewest: args.keys_at_most.is_some(),
    })
}

/// How many faults of which kind there are, on how many channels, and where the first one is.
fn counted_faults(faults: &[ChannelFault]) -> String {
    let kind = |fault: Fault, word: &str| {
        let count = faults.iter().filter(|own| own.fault == fault).count();
        (count > 0).then(|| counted(count, word))
    };
    let kinds: Vec<String> =
        [kind(Fault::Spike, "spike"), kind(Fault::Dropout, "dropout")].into_iter().flatten().collect();
    let mut channels: Vec<&str> = faults.iter().map(|fault| fault.channel.as_str()).collect();
    channels.dedup();
    let more = if faults.len() > 1 { ", ..." } else { "" };
    let first = faults
        .first()
        .map_or(String::new(), |first| format!(" ({} frame {}{more})", first.channel, frame(first.frames.0)));
    format!("{} of {}{first}", kinds.join(", "), counted(channels.len(), "track"))
}
