//! Claims of random scenes: results of operations that change the motion are what they claim, and with a bump that shows they are not.

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_ops::clips::{JoinOptions, cut, join, joined};
use nimble_curve_ops::cycle::{Closing, CycleOptions, close, closed, extend, extended};
use nimble_curve_ops::place::{PlaceOptions, Placement, place, placed};
use nimble_curve_ops::retime::shifted;
use nimble_curve_ops::root::{RootOptions, centre, centred, lift, lifted, pin, pinned, restore, unpinned};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, Procedural};
use nimble_curve_scene::judge::{Claim, Limits, judge};
use nimble_curve_scene::scene::{Clip, Scene, Take, Track};
use nimble_curve_testing::RATE;
use nimble_curve_testing::motion::{Within, alike, between, cases};
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;
use proptest::sample::{Index, select as one_of};

use crate::claimed::{bumped, held, tolerance};
use crate::judged::without_parts;
use crate::rooting::{LAYERED, any_carried, is_refusal};

/// All takes begin so many frames later: what is counted from the start of a take must not be counted from 0.
fn later(mut scene: Scene, frames: i64) -> Scene {
    scene.takes = scene.takes.iter().map(|take| shifted(take, RATE.ticks(frames))).collect();
    scene
}

/// A result with a bump in one of its tracks at a frame, if that moves anything by more than is allowed by far.
fn spoiled(
    source: &Scene,
    result: &Scene,
    (take, which, frame): (usize, Index, i64),
) -> Option<(Scene, String)> {
    let places: Vec<(usize, usize)> = (result.takes[take].layers.iter().enumerate())
        .flat_map(|(layer, of)| (0..of.tracks.len()).map(move |at| (layer, at)))
        .collect();
    if places.is_empty() {
        return None;
    }
    let (layer, at) = places[which.index(places.len())];
    let mut spoiled = result.clone();
    let track = &mut spoiled.takes[take].layers[layer].tracks[at];
    // Of several samplings of a node only what stands where all have samples is known.
    let node = (track.target.rig, track.target.node);
    let own = |track: &&Track| (track.target.rig, track.target.node) == node;
    let sampled = |track: &&Track| track.controller.samples().is_some();
    let of = |scene: &Scene| {
        scene.takes[take].tracks().map(|(_, track)| track).filter(own).filter(sampled).count()
    };
    if of(source).max(of(result)) > 1 {
        return None;
    }
    let name = format!(
        "{:?} ({}){}",
        track.target,
        track.controller.type_name(),
        crate::judged::drivers(result, take, (track.target.rig, track.target.node))
    );
    track.controller = bumped(&track.controller, frame)?;
    let range = TimeRange::new(RATE.ticks(frame - 2), RATE.ticks(frame + 2));
    let times = between(frame - 2, frame + 2);
    let (was, is) = (&result.takes[take], &spoiled.takes[take]);
    let within = Within { distance: 0.01, angle: 0.01, rest: f64::INFINITY };
    let shows = alike((result, was, &times), (&spoiled, is, &times), within).is_err();
    (shows && was.range.union(range) == was.range).then_some((spoiled, name))
}

/// The result holds; with a bump that shows it does not.
fn is_watched(
    claims: &[(Scene, Claim)],
    result: &Scene,
    bump: (usize, Index, i64),
) -> Result<(), TestCaseError> {
    held(claims, result, false).map_err(TestCaseError::fail)?;
    let frame = bump.2;
    if let Some((spoiled, name)) = spoiled(&claims[0].0, result, bump) {
        prop_assert!(held(claims, &spoiled, true).is_err(), "a bump of {name} at {frame} is not seen");
    }
    Ok(())
}

fn root_options(scene: &Scene, node: nimble_curve_scene::rig::NodeId) -> RootOptions {
    let node = Some(Addresses::new(scene).node((0, node)).to_owned());
    RootOptions { node, tolerance: tolerance(), ..RootOptions::default() }
}

/// The first take of a scene under claims of its own.
fn of_source(scene: &Scene, claims: impl IntoIterator<Item = Claim>) -> Vec<(Scene, Claim)> {
    claims.into_iter().map(|claim| (scene.clone(), claim)).collect()
}

proptest! {
    #![proptest_config(cases(150))]

    #[test]
    fn what_was_pinned_is_what_is_claimed_of_it(
        (scene, hips) in any_carried(LAYERED), (turn, height, steady) in any::<(bool, bool, bool)>(),
        begins in one_of(vec![0, 30]), which in any::<Index>(), at in 4..36_i64,
    ) {
        let scene = later(scene, begins);
        let options = RootOptions { turn: turn && !steady, height, steady, ..root_options(&scene, hips) };
        static CASES: Refusals = Refusals::at_most(0.35);
        CASES.begin();
        let result = match pin(&scene, &options) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok((result, _)) => result,
        };
        let claim = pinned(&scene, &result, &options).unwrap();
        is_watched(&of_source(&scene, [claim]), &result, (0, which, begins + at))?;
        // What is kept beside it is what comes back.
        if let Ok((restored, _)) = restore(&result) {
            let kept = unpinned(&result);
            let verdict = judge(&kept, &restored, &Claim::same(&kept, &restored), Limits::NONE, 1.0);
            prop_assert!(verdict.beyond().is_none(), "{:?}", verdict.beyond());
            prop_assert!(unpinned(&restored) == restored, "nothing is pinned in it");
        }
    }

    #[test]
    fn what_was_lifted_is_what_is_claimed_of_it(
        (scene, hips) in any_carried(LAYERED), (turn, height, steady) in any::<(bool, bool, bool)>(),
        begins in one_of(vec![0, 30]), which in any::<Index>(), at in 4..36_i64,
    ) {
        let scene = later(scene, begins);
        let options = RootOptions { turn: turn && !steady, height, steady, ..root_options(&scene, hips) };
        static CASES: Refusals = Refusals::at_most(0.4);
        CASES.begin();
        let (result, ledger) = match lift(&scene, &options) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok(done) => done,
        };
        let claim = lifted(&scene, &result, &ledger, &options).unwrap();
        is_watched(&of_source(&scene, [claim]), &result, (0, which, begins + at))?;
    }

    #[test]
    fn what_was_centred_is_what_is_claimed_of_it(
        (scene, hips) in any_carried(LAYERED), throughout in any::<bool>(),
        begins in one_of(vec![0, 30]), which in any::<Index>(), at in 4..36_i64,
    ) {
        let scene = later(scene, begins);
        let name = Addresses::new(&scene).node((0, hips)).to_owned();
        static CASES: Refusals = Refusals::at_most(0.3);
        CASES.begin();
        let result = match centre(&scene, &name, throughout) {
            Err(error) => { prop_assert!(is_refusal(&error), "{error}"); return CASES.refused(); }
            Ok((result, _)) => result,
        };
        let claim = centred(&scene, &result, &name, throughout).unwrap();
        is_watched(&of_source(&scene, [claim]), &result, (0, which, begins + at))?;
    }
}

/// Scenes to close and to repeat: all controllers, and what goes on outside its keys.
const LOOPS: Contents = Contents { all_controllers: true, layers: 2, outside: true, ..Contents::SIMPLE };

/// As other random scenes are judged; and samples at steps of which a range is a whole number: others are fitted anew and lie elsewhere.
fn any_loop(contents: Contents) -> impl Strategy<Value = Scene> {
    any_scene(contents).prop_map(|scene| {
        let mut scene = without_parts(scene);
        let layers = scene.takes.iter_mut().flat_map(|take| &mut take.layers);
        for track in layers.flat_map(|layer| &mut layer.tracks) {
            let own = match &mut track.controller {
                Controller::Procedural(Procedural { sampled: Some(sampled), .. }) => sampled.as_mut(),
                own => own,
            };
            if let Controller::Samples(samples) = own
                && samples.rate.fps() < 100.0
            {
                samples.rate = RATE;
            }
        }
        scene
    })
}

fn loop_options(scene: &Scene, begins: i64) -> CycleOptions {
    let range = TimeRange::new(RATE.ticks(begins + 4), RATE.ticks(begins + 30));
    CycleOptions { take: Some(scene.takes[0].name.clone()), range: Some(range), tolerance: tolerance() }
}

proptest! {
    #![proptest_config(cases(100))]

    #[test]
    fn a_closed_loop_is_what_is_claimed_of_it(
        scene in any_loop(LOOPS), over in one_of(vec![0, 3, 8, 26]), begins in one_of(vec![0, 30]),
        which in any::<Index>(), at in 4..36_i64,
    ) {
        let scene = later(scene, begins);
        let options = loop_options(&scene, begins);
        let closing = Closing::over(RATE.ticks(over));
        static CASES: Refusals = Refusals::at_most(0.2);
        CASES.begin();
        let Ok((result, _)) = close(&scene, &closing, &options) else { return CASES.refused() };
        let claims = closed(&scene, &result, &closing, &options).unwrap();
        let mut all = of_source(&scene, [Some(claims.outside), claims.others].into_iter().flatten());
        all.push((result.clone(), claims.ends));
        held(&all, &result, false).map_err(TestCaseError::fail)?;
        // Where it is spread over nothing, pieces up to the last key are free from their beginnings on.
        if over > 0 {
            is_watched(&all, &result, (0, which, begins + at.min(LAST_FREE - over)))?;
        }
    }

    #[test]
    fn rounds_are_what_is_claimed_of_them(
        scene in any_loop(LOOPS), rounds in 1..4_u32, begins in one_of(vec![0, 30]), which in any::<Index>(), at in 8..26_i64,
    ) {
        let scene = later(scene, begins);
        let options = loop_options(&scene, begins);
        // Turns of random orders do not act last where rounds turn: these are refused.
        static CASES: Refusals = Refusals::at_most(0.45);
        CASES.begin();
        let Ok((result, _)) = extend(&scene, rounds, &options) else { return CASES.refused() };
        let claims = extended(&scene, &result, rounds, &options).unwrap();
        prop_assert_eq!(claims.len(), rounds as usize);
        // Each round but the last ends just before the next one begins.
        for (round, claim) in (0..).zip(&claims) {
            let span = claim.spans.last().unwrap();
            let (first, last) = (RATE.ticks(begins + 4 + 26 * round), RATE.ticks(begins + 30 + 26 * round));
            let ends = if round + 1 == i64::from(rounds) { last } else { last - Ticks(1) };
            prop_assert_eq!((span.range.first, span.range.last), (first, ends));
        }
        let round = at % i64::from(rounds);
        is_watched(&of_source(&scene, claims), &result, (0, which, begins + at + 26 * round))?;
    }
}

/// Frames up to here are before any stretch over which a loop is closed.
const LAST_FREE: i64 = 30 - 8;

proptest! {
    #![proptest_config(cases(100))]

    #[test]
    fn what_is_placed_is_what_is_claimed_of_it(
        (scene, new) in crate::placing::case(), begins in one_of(vec![0, 30]),
        placement in one_of(vec![Placement::Overwrite, Placement::Ripple, Placement::Merge, Placement::Unkeyed]),
        which in any::<Index>(), at in one_of(vec![5, 19, 34]),
    ) {
        let scene = later(scene, begins);
        let new = shifted(&new, RATE.ticks(begins));
        let options = PlaceOptions {
            placement: placement.clone(), onto: Some(scene.takes[0].name.clone()), ease: RATE.ticks(3), tolerance: tolerance(),
        };
        static CASES: Refusals = Refusals::at_most(0.25);
        CASES.begin();
        let Ok((result, _)) = place(&scene, &new, &options) else { return CASES.refused() };
        let parts = placed(&scene, &new, &result, &options).unwrap();
        let mut claims = of_source(&scene, parts.old);
        claims.extend(parts.others);
        held(&claims, &result, false).map_err(|why| TestCaseError::fail(format!("{placement:?}: {why}")))?;
        // Between keys of both a merged curve is free, and so is in the room that is made what the new take does not move.
        let at = match placement {
            Placement::Merge => None,
            Placement::Ripple => Some(if at == 34 { at + 15 } else { 5 }),
            _ => Some(at),
        };
        if let Some(at) = at {
            is_watched(&claims, &result, (0, which, begins + at))?;
        }
    }
}

proptest! {
    #![proptest_config(cases(100))]

    #[test]
    fn clips_put_together_are_what_is_claimed_of_them(
        scene in any_loop(Contents { layers: 1, ..LOOPS }), begins in one_of(vec![0, 30]), gap in 0..5_u32, start in one_of(vec![None, Some(7.0)]),
        which in any::<Index>(), at in 4..36_i64,
    ) {
        let alone = |take: &Take| Scene { takes: vec![take.clone()], ..scene.clone() };
        let scenes = [alone(&scene.takes[0]), later(alone(scene.takes.last().unwrap()), begins)];
        let options = JoinOptions { name: "all".into(), gap, start, go_on: false, tolerance: tolerance() };
        static CASES: Refusals = Refusals::at_most(0.25);
        CASES.begin();
        let Ok((result, _)) = join(&scenes, &options) else { return CASES.refused() };
        let claims: Vec<(Scene, Claim)> =
            joined(&scenes, &result, &options).unwrap().into_iter().map(|(at, claim)| (scenes[at].clone(), claim)).collect();
        let first = RATE.frame(result.takes[0].range.first).round() as i64;
        is_watched(&claims, &result, (0, which, first + at))?;
    }

    #[test]
    fn a_layer_of_its_own_is_what_is_claimed_of_it(
        (scene, new) in crate::placing::case(), begins in one_of(vec![0, 30]), which in any::<Index>(), at in one_of(vec![5, 19, 34]),
    ) {
        let scene = later(scene, begins);
        let new = shifted(&new, RATE.ticks(begins));
        let options = PlaceOptions {
            placement: Placement::Layer("new".into()), onto: Some(scene.takes[0].name.clone()), ease: RATE.ticks(3), tolerance: tolerance(),
        };
        let (result, _) = place(&scene, &new, &options).unwrap();
        let parts = placed(&scene, &new, &result, &options).unwrap();
        let mut claims = of_source(&scene, parts.old);
        claims.extend(parts.others);
        is_watched(&claims, &result, (0, which, begins + at))?;
    }
    #[test]
    fn a_clip_that_is_cut_out_is_what_is_claimed_of_it(
        scene in any_loop(Contents { weights: false, ..LOOPS }), begins in one_of(vec![0, 30]), first in 0..20_i64, length in 6..20_i64,
        to in one_of(vec![None, Some(100.0)]), which in any::<Index>(), at in 3..10_i64,
    ) {
        let scene = later(scene, begins);
        let range = TimeRange::new(RATE.ticks(begins + first), RATE.ticks(begins + first + length));
        let clip = Clip { name: "part".into(), range, note: None };
        static CASES: Refusals = Refusals::at_most(0.25);
        CASES.begin();
        let Ok((result, _)) = cut(&scene, &scene.takes[0], &clip, to, tolerance()) else { return CASES.refused() };
        let claims = of_source(&scene, [Claim::part(&scene, 0, &result, clip.range.first)]);
        let from = RATE.frame(result.takes[0].range.first).round() as i64;
        is_watched(&claims, &result, (0, which, from + at.min(length - 3)))?;
    }
}
