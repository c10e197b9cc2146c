//! The one way out: what is to be written is read back as other programs will read it and judged against what it was made
//! of, before it takes its name.

use std::path::Path;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::judge::{Claim, Clock, Judged, Limits, Part, Scope, Verdict, inventory, judge};
use nimble_curve_core::ledger::MeasuredError;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::scene::{Clip, Scene};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::{Encoded, Format, Saving};

use crate::failure::Failure;
use crate::report::{amount, counted, frame};
use crate::terminal::Style;

/// What a command promises of its result.
#[derive(Clone, Debug)]
pub struct Promise {
    /// What the result should be.
    pub claim: Claim,
    /// How far it may be from that.
    pub tolerance: Tolerance,
    /// How far places in the world may be from it, in metres; where nothing is promised of them, none.
    pub world: Option<f64>,
    /// How much of the source it holds beside motion.
    pub scope: Scope,
}

impl Promise {
    /// The same motion within a tolerance, and all that there is beside it.
    pub fn same(source: &Scene, result: &Scene, tolerance: Tolerance) -> Promise {
        let claim = Claim::same(source, result);
        Promise { claim, tolerance, world: None, scope: Scope::Everything }
    }

    /// A clip that was cut out of a take.
    pub fn part(source: &Scene, take: usize, result: &Scene, clip: &Clip, tolerance: Tolerance) -> Promise {
        let claim = Claim::part(source, take, result, clip.range.first);
        Promise { claim, tolerance, world: None, scope: Scope::MotionAlone }
    }

    /// The same motion with nothing but its times changed, each take by a clock of its own.
    pub fn timed(source: &Scene, result: &Scene, clocks: &[Clock]) -> Promise {
        let claim = Claim::same(source, result).with_clocks(clocks);
        // Times are rounded to ticks.
        let tolerance = Tolerance { angle: 1e-6, length: 1e-6, scalar: 1e-6 };
        Promise { claim, tolerance, world: None, scope: Scope::Everything }
    }

    /// The promise of two steps, one after the other.
    pub fn then(&self, next: &Promise) -> Promise {
        let (a, b) = (self.tolerance, next.tolerance);
        let tolerance =
            Tolerance { angle: a.angle + b.angle, length: a.length + b.length, scalar: a.scalar + b.scalar };
        Promise {
            claim: self.claim.then(&next.claim),
            tolerance,
            world: self.world.zip(next.world).map(|(a, b)| a + b),
            scope: if self.scope == next.scope { self.scope } else { Scope::AllButLayers },
        }
    }
}

/// What a result was made of, and what was promised of it.
#[derive(Clone, Copy, Debug)]
pub struct Origin<'a> {
    pub source: &'a Scene,
    pub promise: &'a Promise,
}

/// Judges a file that was made and is not written yet.
///
/// `allowed` is how far the format may be off; it is written closer where it was found too far off.
///
/// Our own format has to give the scene back bit for bit. Any other is read as a stranger reads it, and what is compared
/// with the origin is what the stranger sees.
pub fn judged(
    made: &Encoded,
    scene: &Scene,
    path: &Path,
    (saving, allowed): (&Saving<'_>, &Tolerance),
    origin: Option<Origin<'_>>,
) -> Result<Verdict, Failure> {
    if made.format == Format::Ncurve {
        if !made.is_lossless(scene, path)? {
            return Err(Failure::new(format!(
                "{}: what would be written is not what was made, bit for bit: nothing was written; please report this",
                path.display()
            )));
        }
        let Some(Origin { source, promise }) = origin else { return Ok(Verdict::new(Limits::NONE)) };
        let limits = limits(&promise.tolerance, promise.world, scene);
        let mut verdict = judge(source, scene, &promise.claim, limits, 1.0);
        verdict.missing.extend(inventory(source, scene, &promise.claim, promise.scope));
        return Ok(verdict);
    }
    let back = made.read_back(scene, path)?;
    // What a format refits may be off by its tolerance beside what the command was off by.
    let written = Promise { claim: back.claim, tolerance: *allowed, world: None, scope: Scope::AllButLayers };
    let promise = origin.map_or(written.clone(), |origin| origin.promise.then(&written));
    let source = origin.map_or(scene, |origin| origin.source);
    let has_samples = scene
        .takes
        .iter()
        .flat_map(|take| take.tracks())
        .any(|(_, track)| track.controller.samples().is_some());
    let holds_curves = matches!(made.format, Format::Glb | Format::Gltf | Format::Collada | Format::Usda);
    let limits = Limits {
        between: holds_curves && !saving.skeletons && !has_samples,
        ..limits(&promise.tolerance, promise.world, &back.scene)
    };
    // Said in the unit of what was written, as everything else that is printed of it.
    let unit = back.scene.space.metres_per_unit / scene.space.metres_per_unit;
    let mut verdict =
        judge(source, &back.scene, &promise.claim, limits, back.precision).with_lengths_scaled(unit);
    if let Some(Origin { source, promise }) = origin {
        verdict.missing.extend(inventory(source, scene, &promise.claim, promise.scope));
    }
    Ok(verdict)
}

fn limits(tolerance: &Tolerance, world: Option<f64>, result: &Scene) -> Limits {
    // A number that is just at its limit may be a rounding error beyond it.
    let slack = 1.0 + 1e-6;
    let of = |quantity| tolerance.of(quantity, &result.space) * slack;
    Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        scalar: of(Quantity::Scalar),
        world: world.map_or(f64::INFINITY, |metres| metres / result.space.metres_per_unit * slack),
        between: false,
    }
}

/// Why a result may not be written, if it may not.
pub fn refusal(verdict: &Verdict, result: &Scene, source: &Scene) -> Option<String> {
    let space = &result.space;
    let beyond = match (verdict.beyond(), verdict.world_beyond()) {
        (Some((judged, error)), _) => {
            let allowed = amount(verdict.limits.of(error.quantity), error.quantity, space);
            format!("{}; allowed {allowed}", place(judged, &error, source, result))
        }
        (None, Some((error, target))) => {
            let node = Addresses::new(result).node((target.rig, target.node)).to_owned();
            let off = amount(error.largest, Quantity::Length, space);
            let allowed = amount(verdict.limits.world, Quantity::Length, space);
            format!("{node} is off by {off} in the world at frame {}; allowed {allowed}", frame(error.frame))
        }
        (None, None) => return None,
    };
    Some(format!("the result is not what was asked for: {beyond}; nothing was written (--accept writes it)"))
}

/// What is off by how much, and where.
fn place(judged: &Judged, error: &MeasuredError, source: &Scene, result: &Scene) -> String {
    let channel = Addresses::new(source).property(&judged.source);
    let off = match error.largest.is_finite() {
        true => format!("off by {}", amount(error.largest, error.quantity, &result.space)),
        false => "another one".to_owned(),
    };
    format!("{channel} is {off} at frame {}", frame(error.frame))
}

/// A closing line of a report, and how it is shown.
pub type Line = (Style, String);

/// Errors below this part of what is allowed are not worth a word.
const TELLING: f64 = 0.01;

/// The closing lines of a report: what was judged, and what is farthest from its source.
pub fn closing(verdict: &Verdict, result: &Scene, source: &Scene) -> Vec<Line> {
    let mut lines = Vec::new();
    let parts = |part: fn(&Part) -> bool| verdict.judged.iter().filter(|judged| part(&judged.part)).count();
    let numbers = parts(|part| matches!(part, Part::Attribute(_)));
    let nodes = parts(|part| *part == Part::Rotation);
    let looked = match (nodes, numbers) {
        (0, 0) if verdict.same == 0 => return lines,
        (0, 0) => "everything".to_owned(),
        (nodes, 0) => counted(nodes, "node"),
        (0, numbers) => counted(numbers, "number"),
        (nodes, numbers) => format!("{} and {}", counted(nodes, "node"), counted(numbers, "number")),
    };
    let is_telling = |error: &MeasuredError| {
        let limit = verdict.limits.of(error.quantity);
        error.largest > 1e-9 && !(limit.is_finite() && error.largest < TELLING * limit)
    };
    let quantities = || [Quantity::Angle, Quantity::Length, Quantity::Scalar].into_iter();
    let farthest: Vec<String> = quantities()
        .filter_map(|quantity| verdict.worst(quantity, false))
        .filter(|(_, error)| is_telling(error))
        .map(|(judged, error)| {
            let channel = Addresses::new(source).property(&judged.source);
            let off = amount(error.largest, error.quantity, &result.space);
            format!("{off} ({channel}, frame {})", frame(error.frame))
        })
        .collect();
    let is_within = verdict.beyond().is_none() && verdict.world_beyond().is_none();
    let style = if is_within { Style::Good } else { Style::Bad };
    lines.push(match farthest.as_slice() {
        [] => (style, format!("judged on the result: {looked}, the same")),
        [one] => (style, format!("judged on the result: {looked}, off by at most {one}")),
        several => {
            // A line each: together they are wider than a screen.
            let list = several.join("\n    ");
            (style, format!("judged on the result: {looked}, off by at most\n    {list}"))
        }
    });
    let between: Vec<String> = quantities()
        .filter_map(|quantity| verdict.worst(quantity, true))
        .filter(|(_, error)| error.largest > verdict.limits.of(error.quantity))
        .map(|(judged, error)| place(judged, &error, source, result))
        .collect();
    if !between.is_empty() {
        lines.push((Style::Faint, format!("between samples: {}", between.join("\n    "))));
    }
    let warned = |text: String| (Style::Warn, text);
    let unjudged = verdict.unjudged.iter().take(4).map(|(what, why)| format!("not judged: {what}: {why}"));
    lines.extend(unjudged.map(warned));
    if verdict.unjudged.len() > 4 {
        lines.push(warned(format!("not judged: {} more", verdict.unjudged.len() - 4)));
    }
    lines.extend(verdict.missing.iter().take(6).cloned().map(warned));
    if verdict.missing.len() > 6 {
        lines.push(warned(format!("and {} more are missing", verdict.missing.len() - 6)));
    }
    lines
}
