//! Where carried takes go, and by which clock.

use nimble_curve_core::judge::Clock;
use nimble_curve_core::ops::carry::{Carried, keyed};
use nimble_curve_core::ops::retime::{shifted, stretched};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};

use crate::args::Carry;
use crate::failure::Failure;
use crate::report::{self, frame};

/// Where a carried take went, and by which clock.
pub(super) struct Landed {
    pub(super) take: usize,
    pub(super) range: TimeRange,
    pub(super) clock: Clock,
}

/// The only one of some takes.
pub(super) fn only(takes: &[Take]) -> Result<&Take, Failure> {
    match takes {
        [take] => Ok(take),
        takes => {
            let names: Vec<&str> = takes.iter().map(|take| take.name.as_str()).collect();
            Err(Failure::new(format!(
                "one take can be placed, and there are {}: choose with --take",
                names.join(", ")
            )))
        }
    }
}

/// A carried take at the time that was asked for, and what there is to say of it.
pub(super) fn timed(take: &Take, args: &Carry, rate: FrameRate) -> Result<(Take, Vec<String>), Failure> {
    let mut notes = Vec::new();
    let mut take = if args.pose.is_some() { keyed(take) } else { take.clone() };
    if let Some(frames) = args.to_frames {
        take = stretched(&take, frames, rate)?;
        notes.push(format!("'{}' is stretched to {frames} frames", take.name));
    }
    if let Some(at) = args.at {
        let by = Ticks(rate.ticks_at(at).0 - take.range.first.0);
        take = shifted(&take, by);
        notes.push(format!("'{}' starts at frame {}", take.name, frame(at)));
    }
    Ok((take, notes))
}

/// The clock of a take that was shifted and stretched.
pub(super) fn clock(before: TimeRange, after: TimeRange) -> Clock {
    let length = |range: TimeRange| (range.last - range.first).as_f64();
    let speed = if length(after) > 0.0 { length(before) / length(after) } else { 1.0 };
    Clock { result: after.first, source: before.first, speed }
}

/// Carried takes where carrying left them: behind the target's own.
pub(super) fn as_carried(carried: &Carried, own: usize) -> Vec<Landed> {
    let takes = carried.scene.takes[own..].iter().enumerate();
    takes.map(|(index, take)| Landed { take: own + index, range: take.range, clock: Clock::SAME }).collect()
}

/// The carried takes at the time that was asked for, before those that the target has itself: where a format holds one
/// take, it is the new one. Also where they are, and what there is to say of it.
pub(super) fn landed(
    carried: &Carried,
    own: usize,
    args: &Carry,
) -> Result<(Scene, Vec<Landed>, Vec<String>), Failure> {
    let takes = &carried.scene.takes;
    let mut scene = Scene { takes: takes[..own].to_vec(), ..carried.scene.clone() };
    let (mut notes, mut fresh, mut landed) = (Vec::new(), Vec::new(), Vec::new());
    for (index, old) in takes[own..].iter().enumerate() {
        let (take, more) = timed(old, args, scene.rate)?;
        notes.extend(more);
        if let Some((name, fresh)) = carried.renamed.iter().find(|(_, fresh)| *fresh == take.name) {
            notes.push(format!("the target has a take '{name}': the new one is called '{fresh}'"));
        }
        landed.push(Landed { take: index, range: take.range, clock: clock(old.range, take.range) });
        fresh.push(take);
    }
    if args.without_target_takes && !scene.takes.is_empty() {
        let names: Vec<&str> = scene.takes.iter().map(|take| take.name.as_str()).collect();
        notes.push(format!("left aside of the target: {}", report::listed(&names, 6)));
        scene.takes.clear();
    }
    scene.takes.splice(0..0, fresh);
    Ok((scene, landed, notes))
}
