//! Where one clip ends and the next begins: at holds, and where the pose jumps.

use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::scene::{Scene, Take};

use crate::travel::{Body, busiest_rig};

/// A step from frame to frame below this, in radians, is a hold.
const STILL: f64 = 2e-5;
/// So is one of the carrier below this part of its height above the ground.
const STILL_PLACE: f64 = 2e-5;
/// The least time that a hold between two clips takes, in seconds.
const HOLD: f64 = 0.15;
/// A step of this many radians may be a jump.
const JUMP: f64 = 0.14;
/// A jump is this many times as large as the steps beside it.
const OUT_OF_LINE: f64 = 6.0;
/// A pose this near to the first, in radians, is it again.
const AGAIN: f64 = 0.005;
/// Farther than this, in radians, a pose is another one.
const ANOTHER: f64 = 0.08;

/// A range that looks like a clip.
#[derive(Clone, Debug, PartialEq)]
pub struct Found {
    /// The range.
    pub range: TimeRange,
    /// Why it ends where it does.
    pub why: &'static str,
    /// Frames inside it at which its first pose comes again.
    pub returns: Vec<f64>,
}

/// Proposes clips in a take: what moves between holds and jumps. Looked at in the rig that most tracks move.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn find(scene: &Scene, take: &Take) -> Result<Vec<Found>, EvaluateError> {
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let range = take.key_range().map_or(take.range, |keys| keys.union(take.range));
    let rate = scene.rate;
    let (first, last) = (rate.nearest_frame(range.first), rate.nearest_frame(range.last));
    let mut pose = Pose::default();
    let instants: Vec<_> =
        (first..=last).map(|frame| body.at(rate.ticks(frame).as_f64(), &mut pose)).collect();
    let height = instants.iter().map(|i| i.place.length()).fold(1e-9, f64::max);
    // Of each step: how far the pose turns, and whether anything moves at all.
    let steps: Vec<(f64, bool)> = instants
        .windows(2)
        .map(|pair| {
            let turned = Body::apart(&pair[0], &pair[1]).0;
            let heading = (pair[1].heading - pair[0].heading).abs();
            let moved = (pair[1].place - pair[0].place).length();
            let still = turned < STILL && heading < STILL && moved < STILL_PLACE * height;
            // The whole of a jump: pose, heading and place.
            (turned.max(heading.min(std::f64::consts::TAU - heading)).max(moved / height), !still)
        })
        .collect();
    let beside = |index: usize| {
        let at = |index: Option<usize>| index.and_then(|index| steps.get(index)).map_or(0.0, |step| step.0);
        at(index.checked_sub(1)).max(at(Some(index + 1)))
    };
    // A pose that is held up to just before the next frame, and then another, has jumped.
    let mut holds_on = |index: usize| {
        let late = rate.ticks(first + index as i64).as_f64() + 0.9 * rate.ticks_per_frame();
        Body::apart(&instants[index], &body.at(late, &mut pose)).0 < 0.2 * steps[index].0
    };
    let jumps: Vec<bool> = (0..steps.len())
        .map(|index| {
            let is_far = steps[index].0 > JUMP;
            is_far && (steps[index].0 > OUT_OF_LINE * beside(index) || holds_on(index))
        })
        .collect();
    let hold = ((HOLD * rate.fps()).ceil() as usize).max(2);
    let mut found: Vec<(usize, usize, &'static str)> = Vec::new();
    let mut start: Option<usize> = None;
    let mut index = 0;
    while index < steps.len() {
        let still = steps[index..].iter().take_while(|step| !step.1).count();
        if jumps[index] {
            if let Some(from) = start.take() {
                found.push((from, index, "the pose jumps"));
            }
            // The clip behind a jump begins with its first frame, even if that is held.
            start = Some(index + 1);
            index += 1;
        } else if still >= hold || (still > 0 && index + still == steps.len()) {
            let at_end = index + still == steps.len();
            if let Some(from) = start.take() {
                let why = if at_end { "the take ends" } else { "the pose is held" };
                found.push((from, index, why));
            }
            index += still;
        } else {
            start.get_or_insert(index);
            index += 1;
        }
    }
    if let Some(from) = start {
        found.push((from, steps.len(), "the take ends"));
    }
    found.retain(|(from, to, _)| to > from);
    let made = found.into_iter().map(|(from, to, why)| {
        let mut away = false;
        let mut returns = Vec::new();
        // The last few frames are on the way to the end.
        for index in from + 1..to.saturating_sub(2) {
            let apart = Body::apart(&instants[from], &instants[index]).0;
            if apart > ANOTHER {
                away = true;
            } else if away && apart < AGAIN {
                returns.push((first + index as i64) as f64);
                away = false;
            }
        }
        let at = |index: usize| rate.ticks(first + index as i64);
        Found { range: TimeRange::new(at(from), at(to)), why, returns }
    });
    Ok(made.collect())
}
