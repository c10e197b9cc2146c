//! Joint motion put onto controls, measured by textbook formulas: on random rigs whose joints are keyed.

use std::collections::BTreeSet;

use glam::{DQuat, DVec3};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::control_rig::{
    Limbs, MatchKeys, MatchOptions, SwitchOptions, To, match_controls, switch,
};
use nimble_curve_core::scene::Scene as Ours;
use nimble_curve_second::halving::{Slopes, key_frames as key_frames_by_halves};
use nimble_curve_second::posed::{Keyed, LAST, Posed, text};
use nimble_curve_second::scene::{Scene, Solved, Value};
use nimble_curve_second::turn::{angles_near, apart, exp, log_near, of_angles};
use serde_json::Value as Json;

/// Random rigs of each kind; each has two limbs. More of them where the environment says so.
fn cases() -> u64 {
    std::env::var("NIMBLE_CURVE_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(6)
}

/// The same file with nothing that drives anything: joints move by their own curves.
fn undriven(text: &str) -> String {
    let mut file: Json = serde_json::from_str(text).unwrap();
    file.as_object_mut().unwrap().remove("constraints");
    file.to_string()
}

fn read(text: &str) -> Ours {
    nimble_curve_formats::ncurve::read(text).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
}

/// How far joints of limbs are off: end and middle in place, the end in turn, in cm and degrees.
#[derive(Clone, Copy, Debug, Default)]
struct Off {
    end: f64,
    middle: f64,
    turn: f64,
    /// The middle where the limb uses more than 99.5 % of its length.
    straight: f64,
}

impl Off {
    fn or(&self, other: &Off) -> Off {
        Off {
            end: self.end.max(other.end),
            middle: self.middle.max(other.middle),
            turn: self.turn.max(other.turn),
            straight: self.straight.max(other.straight),
        }
    }
}

fn off(source: &Scene, result: &Scene, frames: impl Iterator<Item = f64>) -> Off {
    let mut found = Off::default();
    for frame in frames {
        let solved = Solved::new(result, Some((0, frame)));
        for side in ["l", "r"] {
            let theirs = |part: &str| source.world(0, source.find(&format!("{part}_{side}")), frame).0;
            let ours = |part: &str| solved.placed(result.find(&format!("{part}_{side}"))).world;
            let [root, middle, end] = ["upper", "lower", "end"].map(|part| theirs(part).translation);
            let whole = (middle - root).length() + (end - middle).length();
            let away = (ours("lower").translation - middle).length();
            if (end - root).length() > 0.995 * whole {
                found.straight = found.straight.max(away);
            } else {
                found.middle = found.middle.max(away);
            }
            found.end = found.end.max((ours("end").translation - end).length());
            let apart = (ours("end").matrix3 - theirs("end").matrix3).to_cols_array();
            let apart = apart.into_iter().map(|n| n * n).sum::<f64>().sqrt();
            found.turn = found.turn.max((2.0 * (apart / 8.0_f64.sqrt()).min(1.0).asin()).to_degrees());
        }
    }
    found
}

/// The frames at which any of some nodes has keys.
fn key_frames(scene: &Ours, names: &[&str]) -> BTreeSet<i64> {
    let take = &scene.takes[0];
    let mut found = BTreeSet::new();
    for (_, track) in take.active_tracks() {
        let node = scene.rigs[track.target.rig].node(track.target.node).unwrap();
        if names.contains(&node.name.as_str()) {
            let times = track.controller.key_times(take.range);
            found.extend(times.iter().map(|time| (scene.rate.frame(*time) * 1000.0).round() as i64));
        }
    }
    found
}

fn bounded(limbs: Limbs) -> MatchOptions {
    MatchOptions { keys: MatchKeys::Bounded, limbs, ..MatchOptions::default() }
}

fn halves() -> impl Iterator<Item = f64> {
    (2..=2 * LAST).map(|half| f64::from(half as i32) * 0.5)
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

/// The key times of all that moves the end of a limb within its goal's space.
fn moving(source: &Ours, side: &str) -> BTreeSet<i64> {
    let goal = format!("goal_{side}");
    let node = source.rigs[0].nodes().find(|(_, node)| node.name == goal).unwrap().0;
    let in_world = source.rigs[0].parent(node).is_none();
    let [upper, lower, end] = ["upper", "lower", "end"].map(|part| format!("{part}_{side}"));
    let mut moving = vec![upper.as_str(), &lower, &end, "chest"];
    if in_world {
        moving.push("hips");
    }
    key_frames(source, &moving)
}

/// Ratios of key times: those of the goal to those of all that moves the end within the goal's space.
fn ratios(source: &Ours, result: &Ours) -> Vec<f64> {
    let mut found = Vec::new();
    for side in ["l", "r"] {
        let goal = format!("goal_{side}");
        let before = moving(source, side).len();
        found.push(key_frames(result, &[&goal]).len() as f64 / before as f64);
    }
    found
}

fn posed(seed: u64, keyed: Keyed) -> String {
    text(seed, &Posed { keyed, angles: 30.0, straight: seed.is_multiple_of(4) })
}

fn matched(text: &str, options: &MatchOptions) -> (Ours, Vec<String>) {
    let made = match_controls(&read(text), options).unwrap_or_else(|error| panic!("{error}\n{text}"));
    (made.scene, made.ledger.notes)
}

fn written(scene: &Ours) -> Scene {
    Scene::read(&nimble_curve_formats::ncurve::write(scene))
}

#[test]
fn bounded_keys_hold_their_bound_on_random_rigs() {
    let usual = Tolerance::default();
    let loose = Tolerance { angle: 0.5_f64.to_radians(), length: 0.002, number: 0.001 };
    for (keyed, tolerance, most) in
        [(Keyed::Whole, usual, 4.0), (Keyed::Apart, usual, 1.6), (Keyed::Whole, loose, 2.7)]
    {
        let mut all = Vec::new();
        let mut worst = Off::default();
        let (place, turn) = (tolerance.length * 100.0, tolerance.angle.to_degrees());
        for seed in 0..cases() {
            let text = posed(seed, keyed);
            let (scene, notes) = matched(&text, &MatchOptions { tolerance, ..bounded(Limbs::Ik) });
            let off = off(&Scene::read(&undriven(&text)), &written(&scene), halves());
            assert!(
                off.end <= place && off.middle <= place && off.turn <= turn,
                "seed {seed} {keyed:?}: {off:?} {notes:?}"
            );
            all.extend(ratios(&read(&text), &scene));
            worst = worst.or(&off);
        }
        let median = median(all);
        println!("{keyed:?} {place} cm {turn} deg: {worst:?}, median of key times {median:.2}");
        assert!(median <= most, "{keyed:?}: {median}");
    }
}

/// How many keys a half-interval search puts onto a goal: it stands where it stands at rest beside the end, in the space of its parent,
/// whose own motion counts as exact. With joined tangents: in the angles of the goal's own order, which are what can be keyed on it; and
/// of the turn itself, which knows no pole. Of that also with broken tangents. And whether those in angles stay within the bound.
fn halved(
    source: &Scene,
    result: &Scene,
    side: &str,
    start: &[i64],
    (place, turn): (f64, f64),
) -> ([usize; 3], bool) {
    let goal = result.find(&format!("goal_{side}"));
    let end = source.find(&format!("end_{side}"));
    let resting = Solved::new(result, None);
    let rest = |node: usize| resting.placed(node).world;
    let beside = rest(result.find(&format!("end_{side}"))).inverse() * rest(goal);
    let parent = result.nodes[goal].parent;
    // The goal beside its parent, its own turn alone.
    let wanted = |frame: f64| {
        let world = source.world(0, end, frame).0 * beside;
        match parent {
            Some(parent) => Solved::new(result, Some((0, frame))).placed(parent).world.inverse() * world,
            None => world,
        }
    };
    let rest_turn = DQuat::from_mat3(&wanted(1.0).matrix3);
    // Rows at half frames, turns as the vector of their logarithm from the first one, which no pole disturbs.
    let mut near = DVec3::ZERO;
    let rows: Vec<[f64; 6]> = halves_from_first()
        .map(|frame| {
            let now = wanted(frame);
            near = log_near(rest_turn.inverse() * DQuat::from_mat3(&now.matrix3), near);
            let at = now.translation;
            [at.x, at.y, at.z, near.x, near.y, near.z]
        })
        .collect();
    let row = |frame: f64| rows[((frame - 1.0) * 2.0).round() as usize];
    let is_near = |frame: f64, made: &[f64; 6], turned: DQuat| {
        let theirs = row(frame);
        let off = DVec3::from_slice(&theirs[..3]) - DVec3::from_slice(&made[..3]);
        off.length() <= place && apart(exp(DVec3::from_slice(&theirs[3..])), turned) <= turn
    };
    let is_within = |frame: f64, made: &[f64; 6]| is_near(frame, made, exp(DVec3::from_slice(&made[3..])));
    let [joined, broken] = [Slopes::Joined, Slopes::Broken]
        .map(|how| key_frames_by_halves(start, how, &row, &is_within).0.len());
    // The same turns as angles, each near the one before, from those that the goal has on the first frame.
    let Value::Angles(order, first) = result.value(0, goal, "rotation", 1.0) else {
        panic!("a goal has angles")
    };
    let before = rest_turn * of_angles(&order, first).inverse();
    let own = |turned: DQuat| before.inverse() * rest_turn * turned;
    let mut near = first;
    let rows_of_angles: Vec<[f64; 6]> = rows
        .iter()
        .map(|row| {
            near = angles_near(&order, own(exp(DVec3::from_slice(&row[3..]))), near);
            [row[0], row[1], row[2], near[0], near[1], near[2]]
        })
        .collect();
    let row_of_angles = |frame: f64| rows_of_angles[((frame - 1.0) * 2.0).round() as usize];
    let is_within = |frame: f64, made: &[f64; 6]| {
        let turned = of_angles(&order, [made[3], made[4], made[5]]);
        is_near(frame, made, (before.inverse() * rest_turn).inverse() * turned)
    };
    let (angles, holds) = key_frames_by_halves(start, Slopes::Joined, &row_of_angles, &is_within);
    ([angles.len(), joined, broken], holds)
}

fn halves_from_first() -> impl Iterator<Item = f64> {
    std::iter::once(1.0).chain(halves().skip(1))
}

#[test]
fn goals_have_fewer_keys_than_a_half_interval_search_needs() {
    let usual = Tolerance::default();
    for keyed in [Keyed::Whole, Keyed::Apart] {
        // Close to the pole of its order a goal's angles take keys that its turn does not.
        let most_with_more = 2 * cases() as usize / 50;
        let (mut more, mut more_than_turns, mut failed, mut in_all) = (Vec::new(), 0, 0, [0; 4]);
        for seed in 0..cases() {
            let text = posed(seed, keyed);
            let source = read(&text);
            let (scene, _) = matched(&text, &bounded(Limbs::Ik));
            let (from, to) = (Scene::read(&undriven(&text)), written(&scene));
            for side in ["l", "r"] {
                let ours = key_frames(&scene, &[&format!("goal_{side}")]).len();
                // Joints' own keys stay; more of them come where the bound asks for them.
                let start: Vec<i64> = moving(&source, side).iter().map(|frame| frame / 1000).collect();
                let bound = (usual.length * 100.0, usual.angle.to_degrees());
                let ([angles, turns, broken], holds) = halved(&from, &to, side, &start, bound);
                for (sum, own) in in_all.iter_mut().zip([ours, angles, turns, broken]) {
                    *sum += own;
                }
                more_than_turns += usize::from(ours > turns);
                // Where a search does not get there, nobody can say how many keys it needs.
                failed += usize::from(!holds);
                if ours > angles && holds {
                    more.push(format!("seed {seed} {side}: {ours} of {angles}"));
                }
            }
        }
        let [ours, angles, turns, broken] = in_all;
        println!(
            "{keyed:?}: {ours} key times, by halves {angles} in angles, {turns} of turns, {broken} with broken tangents; more than \
             in angles: {more:?}, than of turns: {more_than_turns}; not within the \
             bound by halves: {failed}"
        );
        let few = more.len().max(more_than_turns);
        assert!(few <= most_with_more && ours < turns, "{keyed:?}: {more:?}");
    }
}

#[test]
fn chains_of_controls_hold_their_bound_and_have_the_joints_own_keys() {
    for seed in 0..cases() {
        let text = posed(seed, Keyed::Apart);
        let (scene, notes) = matched(&text, &bounded(Limbs::Fk));
        let off = off(&Scene::read(&undriven(&text)), &written(&scene), halves());
        let worst = off.end.max(off.middle).max(off.straight);
        assert!(worst <= 0.05 && off.turn <= 0.1, "seed {seed}: {off:?} {notes:?}");
        let source = read(&text);
        // Between axes of its own a rotation has keys of its own: those of the joint come first.
        for part in ["upper_l", "lower_l", "end_l"] {
            let (before, after) =
                (key_frames(&source, &[part]), key_frames(&scene, &[&part.replace("_l", "_fk_l")]));
            assert!(
                before.iter().all(|frame| after.contains(frame)),
                "seed {seed} {part}: {before:?} {after:?}"
            );
        }
    }
}

#[test]
fn the_same_keys_are_exact_where_they_stand() {
    for seed in 0..cases() {
        let keyed = if seed.is_multiple_of(2) { Keyed::Whole } else { Keyed::Apart };
        let text = posed(seed, keyed);
        let source = read(&text);
        let (scene, _) = matched(&text, &MatchOptions { limbs: Limbs::Ik, ..MatchOptions::default() });
        let names = ["hips", "chest", "upper_l", "lower_l", "end_l", "upper_r", "lower_r", "end_r"];
        let moving = key_frames(&source, &names);
        let keys = key_frames(&scene, &["goal_l", "pole_l", "goal_r", "pole_r", "body", "chest_fk"]);
        assert!(keys.is_subset(&moving), "seed {seed}: no key stands where no joint has one");
        // Where all joints have keys, everything is exact; else the limb beside what its goal hangs on.
        if keyed == Keyed::Whole {
            let at = moving.iter().map(|frame| *frame as f64 / 1000.0);
            let off = off(&Scene::read(&undriven(&text)), &written(&scene), at);
            let worst = off.end.max(off.middle).max(off.straight);
            assert!(worst < 1e-6 && off.turn < 1e-5, "seed {seed}: {off:?}");
        }
    }
}

#[test]
fn a_second_match_changes_nothing() {
    for seed in 0..cases() {
        for options in [bounded(Limbs::Ik), bounded(Limbs::Fk), MatchOptions::default()] {
            let (once, _) = matched(&posed(seed, Keyed::Whole), &options);
            let text = nimble_curve_formats::ncurve::write(&once);
            let (twice, notes) = matched(&text, &MatchOptions { limbs: Limbs::AsIs, ..options });
            let is_same = text == nimble_curve_formats::ncurve::write(&twice);
            assert!(is_same, "seed {seed}: {notes:?}");
        }
    }
}

/// All keys of a scene's tracks outside of some frames, as text.
fn outside(scene: &Ours, ranges: &[(i64, i64)]) -> Vec<String> {
    let rate = scene.rate;
    let is_inside = |time| {
        let frame = rate.frame(time);
        ranges.iter().any(|(first, last)| *first as f64 <= frame && frame <= *last as f64)
    };
    let mut found = Vec::new();
    for (_, track) in scene.takes[0].tracks() {
        for (axis, curve) in track.controller.curves().iter().enumerate() {
            for key in curve.keys().iter().filter(|key| !is_inside(key.time)) {
                let slopes = (key.tangent_in.slope_per_second(), key.tangent_out.slope_per_second());
                found.push(format!("{:?} {axis} {:?} {} {slopes:?}", track.target, key.time, key.value));
            }
        }
    }
    found.sort();
    found
}

#[test]
fn limbs_switched_forth_and_back_do_not_move() {
    let ranges: Vec<(i64, i64)> = (0..10).map(|index| (4 + index * 9, 9 + index * 9)).collect();
    for seed in 0..cases() {
        let text = text(seed, &Posed { keyed: Keyed::Whole, angles: 30.0, straight: false });
        let (first, _) = matched(&text, &bounded(Limbs::Ik));
        // Controls of joints have keys outside the ranges as well, which have to stay.
        let (fk, _) = matched(&text, &bounded(Limbs::Fk));
        let mut scene = first.clone();
        let both = fk.takes[0].layers[0].tracks.iter().filter(|track| {
            let name = &fk.rigs[0].node(track.target.node).unwrap().name;
            name.contains("_fk_")
        });
        scene.takes[0].layers[0].tracks.extend(both.cloned());
        let source = scene.clone();
        for (index, (from, until)) in ranges.iter().enumerate() {
            for (by_goal, inset) in [(false, 0), (true, 2)] {
                let limb = if index % 2 == 0 { "limb_l" } else { "lower_r" };
                let options = SwitchOptions {
                    to: To::Limb { limb: limb.to_owned(), by_goal },
                    from: scene.rate.ticks(from + inset),
                    until: Some(scene.rate.ticks(until - inset)),
                    over: scene.rate.ticks(0),
                    take: None,
                    between_frames: false,
                    tolerance: Tolerance::default(),
                };
                scene = switch(&scene, &options).unwrap_or_else(|e| panic!("{seed} {index}: {e}")).scene;
            }
        }
        let before = written(&source);
        let after = written(&scene);
        let (mut at_frames, mut between) = (0.0_f64, 0.0_f64);
        for half in 2..=2 * LAST {
            let frame = half as f64 * 0.5;
            let (theirs, ours) =
                (Solved::new(&before, Some((0, frame))), Solved::new(&after, Some((0, frame))));
            for part in ["upper_l", "lower_l", "end_l", "upper_r", "lower_r", "end_r"] {
                let place =
                    |solved: &Solved<'_>, scene: &Scene| solved.placed(scene.find(part)).world.translation;
                let off = (place(&theirs, &before) - place(&ours, &after)).length();
                if half % 2 == 0 { at_frames = at_frames.max(off) } else { between = between.max(off) }
            }
        }
        assert!(at_frames <= 0.001 && between <= 0.05, "seed {seed}: {at_frames} and {between} cm");
        let kept = outside(&source, &ranges);
        let now: BTreeSet<String> = outside(&scene, &ranges).into_iter().collect();
        assert!(kept.iter().all(|key| now.contains(key)), "seed {seed}: a key outside the ranges changed");
        println!("seed {seed}: {at_frames:.5} cm at frames, {between:.5} cm between");
    }
}
