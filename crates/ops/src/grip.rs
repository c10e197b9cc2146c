//! When a prop is held: it stays where it is beside the hand, while it does not stay where it is in the world.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;

/// Beside the hand a held prop stays within this, in lengths of the arm: captured hands and props shake.
const HELD: f64 = 0.02;
/// And turns by no more than this, in radians.
const TURNED: f64 = 0.12;
/// In the world a prop that rests stays within this, in lengths of the arm.
const RESTS: f64 = 0.004;
/// The least time for which either holds, in seconds.
const LEAST: f64 = 0.12;

/// Where something is, and how it is turned.
pub(super) type Seen = (DVec3, DQuat);

/// The runs of frames, first and last of each, in which a prop is held.
///
/// `beside` is where it is in the hand's axes, `world` where it is in the world, one frame after another, `fps` of them a second; `arm` is
/// the length of the arm in the same units. Where both stay, what was before goes on: a hand that has stopped still holds, and one that
/// has come to rest on a prop does not hold it yet.
pub(super) fn held_runs(beside: &[Seen], world: &[Seen], arm: f64, fps: f64) -> Vec<(usize, usize)> {
    let least = ((LEAST * fps).ceil() as usize).max(2);
    let stays = marked(beside, HELD * arm, least);
    let rests = marked(world, RESTS * arm, least);
    let says = |frame: usize| match (stays[frame], rests[frame]) {
        (true, false) => Some(true),
        (true, true) => None,
        (false, _) => Some(false),
    };
    // What never moves beside the hand nor in the world lies there.
    let mut is_held = (0..beside.len()).find_map(says).unwrap_or(false);
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for frame in 0..beside.len() {
        is_held = says(frame).unwrap_or(is_held);
        match runs.last_mut() {
            _ if !is_held => {}
            Some(run) if run.1 + 1 == frame => run.1 = frame,
            _ => runs.push((frame, frame)),
        }
    }
    // To the frame: it is taken and put where it begins and ends to move less in the hand than in the world.
    let step = |places: &[Seen], from: usize| (places[from + 1].0 - places[from].0).length();
    let moves_along = |from: usize| step(beside, from) < step(world, from);
    let is_carried = |from: usize| 4.0 * step(beside, from) < step(world, from);
    for (first, last) in &mut runs {
        while *first < *last && !moves_along(*first) {
            *first += 1;
        }
        while *first > 0 && is_carried(*first - 1) {
            *first -= 1;
        }
        while *last > *first && !moves_along(*last - 1) {
            *last -= 1;
        }
        while *last + 1 < beside.len() && is_carried(*last) {
            *last += 1;
        }
    }
    runs.retain(|(first, last)| last - first + 1 >= least);
    // Runs that met are one.
    runs.dedup_by(|next, run| {
        let meets = next.0 <= run.1 + 1;
        run.1 = if meets { run.1.max(next.1) } else { run.1 };
        meets
    });
    runs
}

/// Whether each frame is in a stretch of `least` frames or more in which a place stays within `far`.
fn marked(places: &[Seen], far: f64, least: usize) -> Vec<bool> {
    let mut marks = vec![false; places.len()];
    let mut start = 0;
    while start < places.len() {
        let (mut low, mut high) = (places[start].0, places[start].0);
        let mut end = start + 1;
        while end < places.len() {
            let (place, turn) = places[end];
            let (lower, higher) = (low.min(place), high.max(place));
            if (higher - lower).length() > far || angle_between(turn, places[start].1) > TURNED {
                break;
            }
            (low, high) = (lower, higher);
            end += 1;
        }
        if end - start >= least {
            marks[start..end].fill(true);
            // The last frame may be the first of the next stretch.
            start = end;
        } else {
            start += 1;
        }
    }
    marks
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A hand that comes to a prop at rest, carries it from one frame to another and leaves it, a unit a frame.
    fn scene(take: usize, put: usize, count: usize, shake: f64) -> (Vec<Seen>, Vec<Seen>) {
        let hand = |frame: usize| DVec3::X * frame as f64;
        let prop =
            |frame: usize| hand(frame.clamp(take, put)) + DVec3::Y * shake * ((frame * 7 % 5) as f64 - 2.0);
        let turn = DQuat::IDENTITY;
        (0..count).map(|frame| ((prop(frame) - hand(frame), turn), (prop(frame), turn))).unzip()
    }

    #[test]
    fn a_prop_is_held_from_where_it_moves_with_the_hand_to_where_it_stays() {
        for (take, put, count, shake) in
            [(10, 30, 50, 0.0), (0, 20, 40, 0.0), (12, 59, 60, 0.0), (10, 30, 50, 0.05)]
        {
            let (beside, world) = scene(take, put, count, shake);
            let runs = held_runs(&beside, &world, 60.0, 24.0);
            assert_eq!(runs.len(), 1, "{take} {put}: {runs:?}");
            let apart = runs[0].0.abs_diff(take).max(runs[0].1.abs_diff(put));
            assert!(apart <= if shake > 0.0 { 1 } else { 0 }, "{take} {put}: {runs:?}");
        }
    }

    #[test]
    fn what_nobody_carries_is_not_held() {
        let still = vec![(DVec3::ONE, DQuat::IDENTITY); 40];
        assert!(held_runs(&still, &still, 60.0, 24.0).is_empty());
        // It is thrown: it stays neither beside the hand nor in the world.
        let flies: Vec<Seen> =
            (0..40).map(|frame| (DVec3::X * (frame * frame) as f64, DQuat::IDENTITY)).collect();
        assert!(held_runs(&flies, &flies, 60.0, 24.0).is_empty());
    }

    #[test]
    fn a_single_pose_shows_nothing() {
        let pose = [(DVec3::ONE, DQuat::IDENTITY)];
        assert!(held_runs(&pose, &pose, 60.0, 24.0).is_empty());
        assert!(held_runs(&[], &[], 60.0, 24.0).is_empty());
    }

    #[test]
    fn a_hand_that_stops_holds_to_where_it_stopped() {
        let stops = |frame: usize| DVec3::X * frame.min(15) as f64;
        let world: Vec<Seen> = (0..40).map(|frame| (stops(frame), DQuat::IDENTITY)).collect();
        let beside = vec![(DVec3::ONE, DQuat::IDENTITY); 40];
        assert_eq!(held_runs(&beside, &world, 60.0, 24.0), [(0, 15)]);
    }
}
