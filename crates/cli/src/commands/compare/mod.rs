//! `compare`: two files side by side.

mod as_json;
mod picture;
mod tables;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use nimble_curve_core::ledger::MeasuredError;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::carry::PoseAt;
use nimble_curve_core::ops::compare::{CompareOptions, Comparison, JointDifference, TakeComparison, compare};
use nimble_curve_core::ops::retime::shifted;
use nimble_curve_core::scene::{Scene, take_partners};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_formats::name_map::read_name_map;
use nimble_curve_formats::{Assume, Format, Loaded};
use serde::Serialize;

use self::as_json::as_json;
use self::picture::drawn;
use self::tables::{counts, print};
use super::plot::Picture;
use crate::args::Compare;
use crate::failure::Failure;
use crate::files;
use crate::named::Named;
use crate::pose::pose;
use crate::report::{self, amount, counted, frame, print_json, short};
use crate::step::{SceneCache, Step, StepOutput};
use crate::terminal::Line;
use crate::terminal::{self, Report, Style};

/// Differences below this, in radians, units or as they are, are rounding.
const ROUNDING: f64 = 1e-9;

/// How much is too much.
#[derive(Clone, Copy)]
struct Bound {
    /// Nothing at all where none is given.
    tolerance: Option<Tolerance>,
    /// For nodes in the world, where that is another one.
    world: Option<Tolerance>,
}

impl Bound {
    /// That of the options. Where channels are compared with channels they are what the tolerance is of: in the world their
    /// errors add up, and that is bounded by an option of its own. Else it is of the nodes.
    fn of(args: &Compare, found: &Comparison) -> Bound {
        let beyond_all = Tolerance { angle: f64::INFINITY, length: f64::INFINITY, number: f64::INFINITY };
        let asked = args.world.map(|length| Tolerance { length, ..beyond_all });
        let world = if found.rest_alike { asked.or(Some(beyond_all)) } else { asked };
        Bound { tolerance: args.tolerance, world: world.filter(|_| args.tolerance.is_some()) }
    }

    /// Nothing at all.
    const EXACT: Bound = Bound { tolerance: None, world: None };

    fn in_world(self) -> Bound {
        Bound { tolerance: self.world.or(self.tolerance), world: None }
    }

    /// Whether a node is farther off in the world than it may be.
    fn is_beyond(self, joint: &JointDifference, space: &Space) -> bool {
        let bound = self.in_world();
        bound.exceeds(&joint.rotation, space)
            || joint.position.is_some_and(|position| bound.exceeds(&position, space))
    }

    fn exceeds(self, error: &MeasuredError, space: &Space) -> bool {
        let limit = self.tolerance.map_or(0.0, |tolerance| tolerance.of(error.quantity, space));
        error.largest > limit + ROUNDING
    }

    /// How much of what is allowed an error takes.
    fn weight(self, error: &MeasuredError, space: &Space) -> f64 {
        error.largest / self.tolerance.unwrap_or_default().of(error.quantity, space)
    }
}

/// The poses that correspond, of both sides, where they are given.
fn poses(args: &Compare, first: &Scene, second: &Scene) -> Result<[Option<PoseAt>; 2], Failure> {
    let of = |text: &Option<String>, scene| text.as_deref().map(|text| pose(text, scene)).transpose();
    Ok([of(&args.source_pose, first)?, of(&args.target_pose, second)?])
}

/// The differences of two scenes; `file` names the first one.
fn found(args: &Compare, first: &Scene, second: &Scene, file: &Path) -> Result<Comparison, Failure> {
    let map = args.map.as_ref().map(|path| read_name_map(path)).transpose()?;
    let range =
        args.frames.map(|(from, to)| TimeRange::new(first.rate.ticks_at(from), first.rate.ticks_at(to)));
    let only = args.choice.nodes(first, file)?;
    let poses = poses(args, first, second)?;
    let options = CompareOptions { map: map.as_ref(), take: args.take.as_deref(), range, only, poses };
    compare(first, second, &options).map_err(|error| {
        Failure::new(format!("{} against {}: {error}", file.display(), args.second.display()))
    })
}

/// In a recipe, what is farther away than is allowed ends the work on the file.
impl Step for Compare {
    fn work(&self, scene: &Scene, file: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure> {
        let second = shelf.scene(&self.second, self.input)?;
        let found = found(self, scene, &second, file)?;
        let bound = Bound::of(self, &found);
        if Verdict::of(&found, scene, bound) != Verdict::Beyond {
            return Ok(StepOutput::unchanged(scene));
        }
        let by = worst(&found, bound, &scene.space).map_or(String::new(), |by| format!(": {by}"));
        Err(Failure::new(format!("it is not what {} is{by}", self.second.display())))
    }
}

/// What is farthest apart, by how much and where; none where nothing is.
fn worst(found: &Comparison, bound: Bound, space: &Space) -> Option<String> {
    let joints = found.takes.iter().flat_map(|take| &take.joints);
    let world = bound.in_world();
    let errors = joints.flat_map(|joint| {
        let place = joint.position.map(|error| (error, joint.node.as_str(), world));
        [Some((joint.rotation, joint.node.as_str(), world)), place].into_iter().flatten()
    });
    let channels = found.takes.iter().flat_map(|take| &take.channels);
    let errors = errors.chain(channels.map(|channel| (channel.error, channel.channel.as_str(), bound)));
    let weighed = errors.filter(|(error, ..)| error.largest > ROUNDING);
    let worst = weighed.max_by(|a, b| a.2.weight(&a.0, space).total_cmp(&b.2.weight(&b.0, space)));
    worst.map(|(error, place, _)| {
        let size = amount(error.largest, error.quantity, space);
        format!("{place} by {size} at frame {}", frame(error.frame))
    })
}

pub fn run(args: &Compare) -> Result<ExitCode, Failure> {
    args.plot.clone().map(Picture::new).transpose()?;
    let (first, second) = (files::read(&args.first, args.input)?, files::read(&args.second, args.input)?);
    let mut seen = as_others_see(args, (&first, &second))?;
    if args.tolerance.is_none()
        && let Some(text) = seen.take()
    {
        // Nothing is asked for that it could be beyond: what a format cannot hold differs there.
        terminal::remark(&text);
    }
    let (first, second) = (first.scene, second.scene);
    let found = found(args, &first, &second, &args.first)?;
    let bound = Bound::of(args, &found);
    let mut verdict = Verdict::of(&found, &first, bound);
    let is_hidden = seen.is_some() && verdict != Verdict::Beyond;
    if seen.is_some() {
        verdict = Verdict::Beyond;
    }
    let mut out = Report::out();
    if args.json {
        print_json(&mut out, &as_json(&found, &first, bound, verdict))?;
    } else if verdict != Verdict::Same {
        let title = format!("{} against {}", args.first.display(), args.second.display());
        let (style, mut came) = conclusion(verdict, args.tolerance);
        if let Some(by) = worst(&found, bound, &first.space) {
            came.push_str(&format!("; farthest apart: {by}"));
        }
        let came = (style, came);
        match &seen {
            // What our extra data gives back is the same then, and what is said of it would contradict that line.
            Some(text) if is_hidden => report::head(&mut out, &title, &(Style::Bad, text.clone()))?,
            Some(text) => {
                report::head(&mut out, &title, &came)?;
                writeln!(out, "  {}", Style::Bad.paint(text))?;
            }
            None => report::head(&mut out, &title, &came)?,
        }
        print(&mut out, args, &found, &first, bound)?;
    } else if terminal::is_read_by_a_person() {
        let said = format!("the same: {}", counted(found.takes.len(), "take"));
        writeln!(out, "{}, {}", Style::Good.paint(&said), counted(found.pairs, "node pair"))?;
    }
    if let Some(path) = args.plot.as_deref().filter(|_| verdict != Verdict::Same) {
        let take = found.takes.first().and_then(|own| first.takes.iter().find(|take| take.name == own.take));
        let picture = Picture::new(Named::of(&args.first, take, first.rate).path(path)?)?;
        picture.write(&drawn(args, &found, (&first, &second), bound)?)?;
    }
    Ok(if verdict == Verdict::Beyond { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

/// How far the motion that other programs see in a file with extra data of ours is from the other file's, in a sentence,
/// where that is more than is allowed: our extra data gives back what was written, whatever the curves beside it say.
fn as_others_see(args: &Compare, (first, second): (&Loaded, &Loaded)) -> Result<Option<String>, Failure> {
    if args.input.ignore_extra {
        return Ok(None);
    }
    let mut sides = [first.scene.clone(), second.scene.clone()];
    let mut names = Vec::new();
    for ((side, loaded), path) in sides.iter_mut().zip([first, second]).zip([&args.first, &args.second]) {
        if path.as_os_str() == "-" || matches!(loaded.format, Format::Ncurve | Format::Bvh | Format::Csv) {
            continue;
        }
        let assume = Assume { without_extra: true, ..args.input.assumed() };
        let mut plain = nimble_curve_formats::read(path, assume)?.scene;
        if plain == *side {
            continue;
        }
        let partners = take_partners(&side.takes, &plain.takes);
        for (take, own) in plain.takes.iter_mut().zip(partners) {
            // Takes start at zero in the file, and elsewhere in the extra data.
            if let Some(own) = own.map(|own| &side.takes[own]).filter(|own| own.name == take.name) {
                *take = shifted(take, own.range.first - take.range.first);
            }
        }
        *side = plain;
        names.push(path.display().to_string());
    }
    if names.is_empty() {
        return Ok(None);
    }
    let [a, b] = &sides;
    let map = args.map.as_ref().map(|path| read_name_map(path)).transpose()?;
    let options = CompareOptions {
        map: map.as_ref(),
        take: args.take.as_deref(),
        range: None,
        only: args.choice.nodes(a, &args.first)?,
        poses: poses(args, a, b)?,
    };
    let seen = format!("as other programs see {}, without our extra data,", names.join(" and "));
    let found = match compare(a, b, &options) {
        Ok(found) => found,
        Err(error) => return Ok(Some(format!("{seen} it cannot be compared: {error}"))),
    };
    // Without a tolerance this is a remark, made where an ordinary one is passed.
    let asked = Compare { tolerance: Some(args.tolerance.unwrap_or_default()), ..args.clone() };
    let bound = Bound::of(&asked, &found);
    let is_beyond = Verdict::of(&found, a, bound) == Verdict::Beyond;
    Ok(worst(&found, bound, &a.space).filter(|_| is_beyond).map(|by| format!("{seen} it is off: {by}")))
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Verdict {
    Same,
    Within,
    Beyond,
}

impl Verdict {
    fn of(found: &Comparison, space: &Scene, bound: Bound) -> Verdict {
        let space = &space.space;
        let exact = Bound::EXACT;
        let lacks = |take: &TakeComparison| !(take.only_first.is_empty() && take.only_second.is_empty());
        let moves = |take: &TakeComparison, bound: Bound| {
            take.channels.iter().any(|channel| bound.exceeds(&channel.error, space))
                || take.joints.iter().any(|joint| bound.is_beyond(joint, space))
        };
        let other_takes = !(found.only_first.is_empty() && found.only_second.is_empty());
        if other_takes || found.takes.iter().any(|take| lacks(take) || moves(take, bound)) {
            return Verdict::Beyond;
        }
        let differs = |take: &TakeComparison| {
            moves(take, exact) || take.ranges.is_some() || take.curves.iter().any(counts)
        };
        match (found.takes.iter().any(differs), bound.tolerance) {
            (false, _) => Verdict::Same,
            (true, Some(_)) => Verdict::Within,
            (true, None) => Verdict::Beyond,
        }
    }
}

/// What the exit code says.
fn conclusion(verdict: Verdict, tolerance: Option<Tolerance>) -> Line {
    let Some(tolerance) = tolerance else { return (Style::Warn, "not the same".to_owned()) };
    let allowed = format!(
        "{} deg, {} mm, {}",
        short(tolerance.angle.to_degrees()),
        short(tolerance.length * 1000.0),
        short(tolerance.number)
    );
    match verdict {
        Verdict::Beyond => (Style::Warn, format!("beyond the tolerance of {allowed}")),
        _ => (Style::Good, format!("within the tolerance of {allowed}")),
    }
}
