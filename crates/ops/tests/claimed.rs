//! Operations that change the motion: their results are what they claim, everywhere that they claim it, and a bump in any channel at
//! any such place is not.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Curve, combine};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Quantity;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::clips::{JoinOptions, join, joined};
use nimble_curve_ops::cycle::{Closing, CycleOptions, close, closed, extend, extended};
use nimble_curve_ops::place::{PlaceOptions, Placement, going_on, gone_on, place, placed};
use nimble_curve_ops::root::{RootOptions, centre, centred, lift, lifted, pin, pinned};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::judge::{Claim, Limits, judge};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, LayerMode, RotationMixing, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

use crate::judged::drivers;

const LAST: i64 = 48;

fn range(first: i64, last: i64) -> TimeRange {
    TimeRange::new(RATE.ticks(first), RATE.ticks(last))
}

pub(crate) fn smooth(keys: &[(i64, f64)]) -> Curve {
    Curve::through(RATE, keys.iter().copied()).unwrap()
}

fn rig() -> (Rig, [NodeId; 4]) {
    let mut rig = Rig::new("figure");
    let node = |name: &str, at: DVec3, order| Node::new(name, NodeKind::Joint, at, order);
    let hips = rig.add(None, node("hips", DVec3::Y, RotationOrder::Zxy)).unwrap();
    let others = [("arm", DVec3::X), ("tail", -DVec3::Z), ("head", DVec3::Y)]
        .map(|(name, at)| rig.add(Some(hips), node(name, at, RotationOrder::Xyz)).unwrap());
    (rig, [hips, others[0], others[1], others[2]])
}

/// A walk that turns: curves at the hips and an arm, samples at the tail, quaternion keys at the head. `more` tells two of them apart.
fn take(name: &str, (first, last): (i64, i64), more: f64) -> Take {
    let (_, ids) = rig();
    let middle = (first + last) / 2;
    let euler =
        |order, keys: [&[(i64, f64)]; 3]| Controller::Euler(EulerCurves { order, curves: keys.map(smooth) });
    let place = vec![
        smooth(&[(first, 0.0), (middle, 0.1 + more), (last, 0.0)]),
        smooth(&[(first, 1.0), (middle, 1.05), (last, 1.0)]),
        smooth(&[(first, 0.0), (last, 1.5 + more)]),
    ];
    let heading = [
        &[(first, 0.0), (last, 0.4)][..],
        &[(first, 0.1), (middle, 0.2 + more), (last, 0.1)],
        &[(first, 0.0), (last, 0.0)],
    ];
    let swing = [
        &[(first, 0.0), (middle, 0.8 + more), (last, 0.1)][..],
        &[(first, 0.2), (last, 0.3)],
        &[(first, 0.0), (middle, -0.4), (last, 0.0)],
    ];
    let values = (first..=last).flat_map(|frame| {
        let x = (frame as f64 * 0.3).sin() * (0.3 + more);
        [x, 0.5 * x, -0.2 * x]
    });
    let samples = Samples {
        start: RATE.ticks(first),
        rate: RATE,
        kind: SampleKind::Euler(RotationOrder::Xyz),
        values: values.collect(),
    };
    let key = |frame: i64, angle: f64| QuaternionKey {
        time: RATE.ticks(frame),
        value: DQuat::from_rotation_y(angle),
        interpolation: QuaternionInterpolation::Slerp,
        tangent_in: DVec4::ZERO,
        tangent_out: DVec4::ZERO,
    };
    let keys = vec![key(first, 0.0), key(middle, 0.6 + more), key(last, 0.05)];
    let tracks = [
        (ids[0], TRANSLATION, Controller::Components(place)),
        (ids[0], ROTATION, euler(RotationOrder::Zxy, [heading[1], heading[0], heading[2]])),
        (ids[1], ROTATION, euler(RotationOrder::Xyz, swing)),
        (ids[2], ROTATION, Controller::Samples(samples)),
        (ids[3], ROTATION, Controller::Quaternion(QuaternionCurve { keys, ..QuaternionCurve::default() })),
    ];
    let tracks = tracks
        .map(|(node, property, controller)| Track { target: Target::new(0, node, property), controller });
    Take::new(name, range(first, last), vec![Layer::base(tracks.into())])
}

fn scene(takes: Vec<Take>) -> Scene {
    Scene { takes, ..Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig().0) }
}

pub(crate) fn tolerance() -> Tolerance {
    Tolerance { angle: 0.05_f64.to_radians(), length: 0.0005, number: 0.001 }
}

/// Whether a result is within four times the tolerance of every claim, each in terms of its own source.
pub(crate) fn holds(claims: &[(Scene, Claim)], result: &Scene) -> Result<(), String> {
    held(claims, result, false)
}

/// The same, in the world too.
pub(crate) fn held(claims: &[(Scene, Claim)], result: &Scene, in_world: bool) -> Result<(), String> {
    let of = |quantity| tolerance().of(quantity, &result.space) * 4.0;
    let limits = Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        number: of(Quantity::Number),
        world: 2.0 * of(Quantity::Length),
        world_turn: 2.0 * of(Quantity::Angle),
        ..Limits::NONE
    };
    for (source, claim) in claims {
        let verdict = judge(source, result, claim, limits, 1.0);
        if let Some((judged, error, _)) = verdict.beyond() {
            let node = |target: &Target| (target.rig, target.node);
            return Err(format!(
                "{:?} is {} off at frame {}\n  source:{}\n  result:{}",
                judged.result,
                error.largest,
                error.frame,
                drivers(source, judged.source_take, node(&judged.source)),
                drivers(result, judged.take, node(&judged.result)),
            ));
        }
        if let Some((error, node)) = verdict.world_beyond().filter(|_| in_world) {
            return Err(format!("{node} is {} off in the world at frame {}", error.largest, error.frame));
        }
        if !verdict.missing.is_empty() {
            return Err(format!("{:?}", verdict.missing));
        }
    }
    Ok(())
}

/// A track with a bump of two degrees, or two centimetres, around a frame; `None` where there is none of it there.
pub(crate) fn bumped(controller: &Controller, frame: i64) -> Option<Controller> {
    let bump = smooth(&[(frame - 3, 0.0), (frame, 0.035), (frame + 3, 0.0)]);
    let time = RATE.ticks(frame);
    let bent = |curve: &Curve| {
        combine(&[(1.0, curve), (1.0, &bump)], 0.0).map(|sum| sum.with_behaviours(curve.before, curve.after))
    };
    Some(match controller {
        Controller::Components(curves) => {
            let mut curves = curves.clone();
            let last = curves.iter().rposition(|curve| !curve.is_empty())?;
            curves[last] = bent(&curves[last])?;
            Controller::Components(curves)
        }
        Controller::Euler(euler) => {
            let mut euler = euler.clone();
            let first = euler.curves.iter().position(|curve| !curve.is_empty())?;
            euler.curves[first] = bent(&euler.curves[first])?;
            Controller::Euler(euler)
        }
        Controller::Samples(samples) => {
            let mut samples = samples.clone();
            let width = samples.kind.width();
            let index = (0..samples.len()).find(|&index| samples.time(index) == time)?;
            samples.values[index * width] += 0.035;
            Controller::Samples(samples)
        }
        Controller::Quaternion(curve) => {
            let mut curve = curve.clone();
            let before = curve.keys.iter().rposition(|key| key.time <= time)?;
            let key = &mut curve.keys[before];
            key.value = DQuat::from_rotation_x(0.5) * key.value;
            Controller::Quaternion(curve)
        }
        Controller::Stack(entries) => {
            let mut entries = entries.clone();
            let first = entries.first_mut()?;
            first.controller = bumped(&first.controller, frame)?;
            Controller::Stack(entries)
        }
        _ => return None,
    })
}

/// The result holds, and with a bump in any of its tracks at any of some frames it does not.
fn is_watched(what: &str, claims: &[(Scene, Claim)], result: &Scene, frames: &[i64], not: &[&str]) {
    holds(claims, result).unwrap_or_else(|why| panic!("{what}: {why}"));
    let tracks = result.takes[0]
        .layers
        .iter()
        .enumerate()
        .flat_map(|(layer, of)| (0..of.tracks.len()).map(move |at| (layer, at)));
    let mut looked_at = 0;
    for (layer, at) in tracks {
        let track = &result.takes[0].layers[layer].tracks[at];
        let name = &result.rigs[0].node(track.target.node).unwrap().name;
        if not.contains(&name.as_str()) {
            continue;
        }
        for &frame in frames {
            let Some(controller) = bumped(&track.controller, frame) else { continue };
            let mut spoiled = result.clone();
            spoiled.takes[0].layers[layer].tracks[at].controller = controller;
            looked_at += 1;
            assert!(
                holds(claims, &spoiled).is_err(),
                "{what}: a bump of {name} {} at {frame} is not seen",
                track.target.property
            );
        }
    }
    assert!(looked_at >= 3 * frames.len(), "{what}: {looked_at}");
}

#[test]
fn a_closed_loop_is_the_same_before_its_last_stretch_and_meets() {
    let source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let options = CycleOptions { take: None, range: None, tolerance: tolerance() };
    let over = RATE.ticks(10);
    let over = Closing::over(over);
    let (result, _) = close(&source, &over, &options).unwrap();
    let claims = closed(&source, &result, &over, &options).unwrap();
    let all = [(source.clone(), claims.outside), (result.clone(), claims.ends.clone())];
    // A piece of quaternion keys is changed from its beginning on.
    is_watched("close", &all, &result, &[6, 12, 19], &[]);
    // The ends of what does not carry the body are the same; before they were not.
    assert!(holds(&[(source.clone(), claims.ends)], &source).is_err());
    let moved: Vec<_> = result.takes[0].layers[0]
        .tracks
        .iter()
        .zip(&source.takes[0].layers[0].tracks)
        .filter(|(a, b)| a != b)
        .collect();
    assert!(moved.len() >= 3, "arm, tail and head");
}

#[test]
fn rounds_of_a_loop_are_the_first_one_again() {
    let source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let options = CycleOptions { take: None, range: None, tolerance: tolerance() };
    let (result, _) = extend(&source, 3, &options).unwrap();
    let claims: Vec<(Scene, Claim)> = extended(&source, &result, 3, &options)
        .unwrap()
        .into_iter()
        .map(|claim| (source.clone(), claim))
        .collect();
    is_watched("extend", &claims, &result, &[10, LAST + 12, 2 * LAST + 30], &[]);
}

/// A lowest layer has nothing under it to mix with, however it says that it mixes.
#[test]
fn rounds_turn_on_a_base_that_mixes_as_quaternions() {
    let mut source = scene(vec![take("walk", (0, LAST), 0.0)]);
    source.takes[0].layers[0].rotations = RotationMixing::Quaternions;
    let options = CycleOptions { take: None, range: None, tolerance: tolerance() };
    let (result, _) = extend(&source, 2, &options).unwrap();
    let claims = extended(&source, &result, 2, &options).unwrap();
    let claims: Vec<(Scene, Claim)> = claims.into_iter().map(|claim| (source.clone(), claim)).collect();
    holds(&claims, &result).unwrap();
    // A layer over it that turns along by quaternions does not sum up with it.
    let hips = Target::new(0, rig().1[0], ROTATION);
    let turning = source.takes[0].layers[0].tracks.iter().find(|track| track.target == hips).unwrap().clone();
    let over = Layer {
        name: "over".into(),
        mode: LayerMode::Additive,
        rotations: RotationMixing::Quaternions,
        ..Layer::base(vec![turning])
    };
    source.takes[0].layers.push(over);
    assert!(extend(&source, 2, &options).is_err());
}

/// Where a body stands and faces at an instant, by its pose alone.
fn body(scene: &Scene, take: &Take, frame: f64) -> (DVec3, f64) {
    let mut pose = Pose::default();
    Evaluator::new(scene, Some(take), 0).unwrap().pose_at(RATE.ticks_per_frame() * frame, &mut pose);
    let hips = pose.world_rotation[0];
    (pose.world[0].translation, 2.0 * hips.y.atan2(hips.w))
}

#[test]
fn a_take_goes_on_from_where_the_body_stands_and_faces() {
    let source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let new = take("hop", (16, 28), 0.3);
    let options = PlaceOptions {
        placement: Placement::Overwrite,
        onto: None,
        ease: RATE.ticks(3),
        tolerance: tolerance(),
    };
    let moved = going_on(&source, &new, &options).unwrap();
    let (stands, begins) = (body(&source, &source.takes[0], 16.0), body(&source, &moved, 16.0));
    let level = |place: DVec3| DVec3::new(place.x, 0.0, place.z);
    assert!((level(stands.0) - level(begins.0)).length() < 1e-9, "{stands:?} {begins:?}");
    assert!((stands.1 - begins.1).abs() < 1e-9, "{stands:?} {begins:?}");
    let (before, after) = (scene(vec![new.clone()]), scene(vec![moved]));
    let edits = gone_on(&source, &new, &options).unwrap();
    let claim = Claim { edits, ..Claim::same(&before, &after) };
    is_watched("go on", &[(before, claim)], &after, &[18, 22, 26], &[]);
}

/// What moves outside its keys goes on doing so on both sides of the room that is made.
#[test]
fn loops_before_and_behind_keys_are_parted_where_room_is_made() {
    let mut source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let arm = Target::new(0, rig().1[1], ROTATION);
    let swing = |keys: &[(i64, f64)]| smooth(keys).with_behaviours(Behaviour::Loop, Behaviour::Loop);
    // Keys alone before, alone behind, and on both sides of the frame at which room is made.
    for keys in
        [[(30, 0.0), (34, 0.5), (41, 0.0)], [(2, 0.0), (5, 0.5), (9, 0.0)], [(10, 0.0), (20, 0.5), (37, 0.0)]]
    {
        let controller = Controller::Euler(EulerCurves {
            order: RotationOrder::Xyz,
            curves: [swing(&keys), Curve::default(), smooth(&[(keys[0].0, 0.2)])],
        });
        let tracks = &mut source.takes[0].layers[0].tracks;
        tracks.iter_mut().find(|track| track.target == arm).unwrap().controller = controller;
        let options = PlaceOptions {
            placement: Placement::Ripple,
            onto: None,
            ease: RATE.ticks(1),
            tolerance: tolerance(),
        };
        let new = take("hop", (16, 28), 0.3);
        let (result, _) = place(&source, &new, &options).unwrap();
        let parts = placed(&source, &new, &result, &options).unwrap();
        let mut claims: Vec<(Scene, Claim)> =
            parts.old.into_iter().map(|claim| (source.clone(), claim)).collect();
        claims.extend(parts.others);
        holds(&claims, &result).unwrap();
        // A round and a half later as at its first instant there.
        let at = |scene: &Scene, frame: f64| {
            let mut pose = Pose::default();
            let evaluator = Evaluator::new(scene, scene.takes.first(), 0);
            evaluator.unwrap().pose_at(RATE.ticks_per_frame() * frame, &mut pose);
            pose.local_rotation[1]
        };
        for (was, is) in [(4.0, 4.0), (11.5, 11.5), (24.0, 37.0), (33.25, 46.25), (47.0, 60.0)] {
            let off = at(&source, was).angle_between(at(&result, is));
            assert!(off < 0.002, "{keys:?}: {off} at {was} and {is}");
        }
    }
}

#[test]
fn what_is_placed_is_the_new_take_inside_and_the_old_one_outside() {
    let source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let new = take("hop", (16, 28), 0.3);
    let options =
        |placement| PlaceOptions { placement, onto: None, ease: RATE.ticks(3), tolerance: tolerance() };
    for (placement, frames) in [(Placement::Overwrite, vec![8, 22, 38]), (Placement::Ripple, vec![8, 22, 50])]
    {
        let options = options(placement.clone());
        let (result, _) = place(&source, &new, &options).unwrap();
        let parts = placed(&source, &new, &result, &options).unwrap();
        let mut claims: Vec<(Scene, Claim)> =
            parts.old.into_iter().map(|claim| (source.clone(), claim)).collect();
        claims.extend(parts.others);
        is_watched(&format!("{placement:?}"), &claims, &result, &frames, &[]);
    }
    // Where keys of both stay these are what is looked at: at 16 and 28 those of the new one, at 0 and 48 those that were there.
    let unbaked = |take: Take| {
        let layers = (take.layers.into_iter()).map(|mut layer| {
            layer.tracks.retain(|track| !matches!(track.controller, Controller::Samples(_)));
            layer
        });
        Take { layers: layers.collect(), ..take }
    };
    let keyed = scene(vec![unbaked(source.takes[0].clone())]);
    let options_of = options(Placement::Merge);
    let (result, _) = place(&keyed, &unbaked(new.clone()), &options_of).unwrap();
    let parts = placed(&keyed, &unbaked(new.clone()), &result, &options_of).unwrap();
    let mut claims: Vec<(Scene, Claim)> = parts.old.into_iter().map(|claim| (keyed.clone(), claim)).collect();
    claims.extend(parts.others);
    is_watched("merge", &claims, &result, &[0, 16, 28, 48], &[]);
    assert!(place(&source, &new, &options_of).is_err(), "samples are no keys");
    // What the new take does not move goes on as it was through its range.
    let mut only_arm = new;
    let arm = rig().1[1];
    only_arm.layers[0].tracks.retain(|track| track.target.node == arm);
    let options = options(Placement::Overwrite);
    let (result, _) = place(&source, &only_arm, &options).unwrap();
    let parts = placed(&source, &only_arm, &result, &options).unwrap();
    let mut claims: Vec<(Scene, Claim)> =
        parts.old.into_iter().map(|claim| (source.clone(), claim)).collect();
    claims.extend(parts.others);
    is_watched("one channel", &claims, &result, &[8, 22, 38], &[]);
}

/// Takes put together from frame 5 on, four frames apart, and what is claimed of that.
fn on_one_timeline(scenes: &[Scene], go_on: bool) -> (Scene, Vec<(Scene, Claim)>) {
    let options = JoinOptions { name: "all".into(), gap: 4, start: Some(5.0), go_on, tolerance: tolerance() };
    let (result, _) = join(scenes, &options).unwrap();
    let claims = joined(scenes, &result, &options).unwrap().into_iter();
    (result, claims.map(|(at, claim)| (scenes[at].clone(), claim)).collect())
}

#[test]
fn clips_on_one_timeline_are_each_what_they_were() {
    let scenes = [scene(vec![take("a", (0, LAST), 0.0)]), scene(vec![take("b", (10, 40), 0.2)])];
    let (result, claims) = on_one_timeline(&scenes, false);
    is_watched("join", &claims, &result, &[15, 40, 5 + LAST + 1 + 4 + 15], &[]);
}

/// Walks that begin elsewhere and face elsewhere, one of them in other axes and units.
#[test]
fn clips_that_go_on_are_each_what_they_were_from_where_the_one_before_ended() {
    let scenes = [("a", (0, LAST), 0.0), ("b", (10, 40), 0.2), ("c", (3, 30), 0.1)]
        .map(|(name, range, more)| scene(vec![take(name, range, more)]));
    let in_centimetres = nimble_curve_ops::space::in_space(&scenes[2], &Space::CENTIMETRES_Z_UP).0;
    for last in [&scenes[2], &in_centimetres] {
        let scenes = [scenes[0].clone(), scenes[1].clone(), last.clone()];
        let (result, claims) = on_one_timeline(&scenes, true);
        let second = 5 + LAST + 1 + 4;
        is_watched("join", &claims, &result, &[15, 40, second + 15, second + 30 + 1 + 4 + 13], &[]);
        // A whole clip that is aside, or turned, from its first key on.
        let from = RATE.ticks(second);
        for property in [TRANSLATION, ROTATION] {
            let mut aside = result.clone();
            let hips = aside.takes[0].layers[0]
                .tracks
                .iter_mut()
                .find(|track| track.target.node == rig().1[0] && track.target.property == property);
            let curves = match &mut hips.unwrap().controller {
                Controller::Components(curves) => &mut curves[2],
                Controller::Euler(euler) => &mut euler.curves[1],
                other => panic!("{other:?}"),
            };
            let keys = curves.keys().iter().map(|key| nimble_curve_curves::curve::Key {
                value: key.value + if key.time < from { 0.0 } else { 0.02 },
                ..*key
            });
            *curves = Curve::new(keys.collect()).unwrap();
            assert!(holds(&claims, &aside).is_err(), "{property}");
        }
    }
}

#[test]
fn root_motion_is_the_same_in_the_world_or_where_it_is_said_to_be() {
    let source = scene(vec![take("walk", (0, LAST), 0.0)]);
    let options = RootOptions { node: Some("hips".into()), tolerance: tolerance(), ..RootOptions::default() };
    let (result, ledger) = lift(&source, &options).unwrap();
    let claim = lifted(&source, &result, &ledger, &options).unwrap();
    held(&[(source.clone(), claim.clone())], &result, true).unwrap();
    // All that hangs on the hips is where it was: a root that goes elsewhere is seen.
    let mut elsewhere = result.clone();
    let above = elsewhere.rigs[0].parent(rig().1[0]).unwrap();
    let tracks = &mut elsewhere.takes[0].layers[0].tracks;
    let root = tracks
        .iter_mut()
        .find(|track| (track.target.node, track.target.property.as_str()) == (above, TRANSLATION))
        .unwrap();
    root.controller = bumped(&root.controller, 24).unwrap();
    assert!(held(&[(source.clone(), claim)], &elsewhere, true).is_err(), "lift");
    for height in [false, true] {
        let options = RootOptions { height, ..options.clone() };
        let (result, _) = pin(&source, &options).unwrap();
        let claim = pinned(&source, &result, &options).unwrap();
        is_watched(
            &format!("pin, height {height}"),
            &[(source.clone(), claim)],
            &result,
            &[12, 30],
            &["hips"],
        );
    }
    for throughout in [false, true] {
        let (result, _) = centre(&source, "hips", throughout).unwrap();
        let claim = centred(&source, &result, "hips", throughout).unwrap();
        is_watched(&format!("centre, {throughout}"), &[(source.clone(), claim)], &result, &[12, 30], &[]);
    }
}
