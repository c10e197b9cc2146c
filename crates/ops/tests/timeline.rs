//! Clips, loops and travel on motions whose every number is known beforehand.

use std::f64::consts::TAU;

use glam::DVec3;
use nimble_curve_curves::curve::{Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::clips::{JoinOptions, cut, find, join, summaries};
use nimble_curve_ops::cycle::{self, CycleOptions, extend};
use nimble_curve_ops::place::{PlaceOptions, Placement, place};
use nimble_curve_ops::travel::travel;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, Weight};
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Clip, Layer, LayerMode, Marker, Scene, Take, Target, Track};
use nimble_curve_scene::space::Space;
use nimble_curve_testing::RATE;

/// Hips one metre high with an arm.
fn rig() -> (Rig, [NodeId; 2]) {
    let mut rig = Rig::new("figure");
    let hips = rig.add(None, Node::new("hips", NodeKind::Joint, DVec3::Y, RotationOrder::Yxz)).unwrap();
    let arm = rig.add(Some(hips), Node::new("arm", NodeKind::Joint, DVec3::X, RotationOrder::Xyz)).unwrap();
    (rig, [hips, arm])
}

pub(crate) fn scene(tracks: Vec<(usize, &str, Controller)>, last: i64) -> Scene {
    let (rig, ids) = rig();
    let track = |(node, property, controller): (usize, &str, Controller)| Track {
        target: Target::new(0, ids[node], property),
        controller,
    };
    let tracks = tracks.into_iter().map(track).collect();
    let take = Take::new("take", range(0, last), vec![Layer::base(tracks)]);
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(take)
}

pub(crate) fn range(first: i64, last: i64) -> TimeRange {
    TimeRange::new(RATE.ticks(first), RATE.ticks(last))
}

/// Straight lines through frames and values.
pub(crate) fn lines(keys: &[(i64, f64)]) -> Curve {
    let key = |&(frame, value): &(i64, f64)| {
        Key::new(RATE.ticks(frame), value).with_interpolation(Interpolation::Linear)
    };
    Curve::new(keys.iter().map(key).collect()).unwrap()
}

pub(crate) fn turns(order: RotationOrder, keys: [&[(i64, f64)]; 3]) -> Controller {
    Controller::Euler(EulerCurves { order, curves: keys.map(lines) })
}

fn arm(keys: &[(i64, f64)]) -> Controller {
    turns(RotationOrder::Xyz, [keys, &[(0, 0.0)], &[(0, 0.0)]])
}

fn frames(range: TimeRange) -> (f64, f64) {
    (RATE.frame(range.first), RATE.frame(range.last))
}

#[test]
fn clips_are_found_between_holds_and_at_jumps() {
    // Swings from 0 to 10, holds to 20, swings to 30, jumps to another pose and swings from there to 42.
    let keys = [(0, 0.0), (10, 0.6), (20, 0.6), (30, -0.4), (31, 1.4), (42, 0.3)];
    let scene = scene(vec![(1, ROTATION, arm(&keys))], 42);
    let found = find(&scene, &scene.takes[0]).unwrap();
    let seen: Vec<_> = found.iter().map(|found| (frames(found.range), found.why)).collect();
    assert_eq!(
        seen,
        [
            ((0.0, 10.0), "the pose is held"),
            ((20.0, 30.0), "the pose jumps"),
            ((31.0, 42.0), "the take ends")
        ]
    );
    // A hold of three frames, an eighth of a second, ends no clip.
    let short = scene_of_arm(&[(0, 0.0), (10, 0.6), (13, 0.6), (30, -0.4)], 30);
    let found = find(&short, &short.takes[0]).unwrap();
    assert_eq!(found.iter().map(|found| frames(found.range)).collect::<Vec<_>>(), [(0.0, 30.0)]);
}

fn scene_of_arm(keys: &[(i64, f64)], last: i64) -> Scene {
    scene(vec![(1, ROTATION, arm(keys))], last)
}

#[test]
fn a_pose_that_comes_again_is_said() {
    // There and back twice: frame 20 is the first pose again.
    let scene = scene_of_arm(&[(0, 0.0), (10, 0.6), (20, 0.0), (30, 0.6), (40, 0.0)], 40);
    let found = find(&scene, &scene.takes[0]).unwrap();
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].returns, [20.0]);
}

#[test]
fn what_carries_the_body_moves_a_clip_too() {
    // Only the hips travel, and stand from 10 to 20.
    let z = lines(&[(0, 0.0), (10, 1.0), (20, 1.0), (30, 2.0)]);
    let still = |value: f64| lines(&[(0, value)]);
    let hips = Controller::Components(vec![still(0.0), still(1.0), z]);
    let scene = scene(vec![(0, TRANSLATION, hips)], 30);
    let found = find(&scene, &scene.takes[0]).unwrap();
    assert_eq!(
        found.iter().map(|found| frames(found.range)).collect::<Vec<_>>(),
        [(0.0, 10.0), (20.0, 30.0)]
    );
}

#[test]
fn summaries_count_keys_and_what_moves() {
    let mut scene = scene(
        vec![
            (1, ROTATION, arm(&[(0, 0.0), (10, 0.6), (20, 0.6)])),
            (0, ROTATION, turns(RotationOrder::Yxz, [&[(0, 0.2)], &[(0, 0.0), (20, 0.0)], &[(0, 0.0)]])),
            (0, TRANSLATION, Controller::Constant(Value::Vector(DVec3::Y))),
        ],
        20,
    );
    let clip = |name: &str, first, last, note: Option<&str>| Clip {
        name: name.into(),
        range: range(first, last),
        note: note.map(str::to_owned),
    };
    scene.takes[0].clips = vec![clip("swing", 0, 10, Some("for the gate")), clip("rest", 11, 20, None)];
    let all = summaries(&scene, &scene.takes[0]).unwrap();
    // Keys of each curve: the arm's x at 0 and 10, its other two at 0; the hips' three at 0.
    assert_eq!(
        all.iter().map(|one| (one.name.as_str(), one.keys, one.moving)).collect::<Vec<_>>(),
        [("swing", 7, 1), ("rest", 2, 0)]
    );
    assert_eq!(all[0].note.as_deref(), Some("for the gate"));
    // A turn by the least that counts moves, and one of a billionth of it does not.
    for (turn, moving) in [(1e-6, 1), (1e-12, 0)] {
        let scene = scene_of_arm(&[(0, 0.5), (20, 0.5 + turn)], 20);
        assert_eq!(summaries(&scene, &scene.takes[0]).unwrap()[0].moving, moving, "{turn}");
    }
}

#[test]
fn a_clip_that_is_cut_out_keeps_its_own_note_and_no_other() {
    let mut scene = scene_of_arm(&[(0, 0.0), (20, 0.6)], 20);
    let clip = |name: &str, first, last, note: Option<&str>| Clip {
        name: name.into(),
        range: range(first, last),
        note: note.map(str::to_owned),
    };
    scene.takes[0].clips = vec![
        clip("a", 0, 10, Some("mine")),
        clip("b", 2, 8, Some("another's")),
        clip("c", 0, 10, Some("of another name")),
    ];
    let part = |index: usize| {
        cut(&scene, &scene.takes[0], &scene.takes[0].clips[index], None, Tolerance::default()).unwrap().0
    };
    let notes =
        |scene: &Scene| scene.takes[0].clips.iter().filter_map(|clip| clip.note.clone()).collect::<Vec<_>>();
    assert_eq!(notes(&part(0)), ["mine"]);
    assert_eq!(notes(&part(1)), ["another's"]);
    // One without a note is nothing but its take.
    let mut plain = scene.clone();
    plain.takes[0].clips = vec![clip("a", 0, 10, None)];
    assert!(
        cut(&plain, &plain.takes[0], &plain.takes[0].clips[0], None, Tolerance::default()).unwrap().0.takes
            [0]
        .clips
        .is_empty()
    );
}

fn sampled(first: i64, rows: &[f64]) -> Scene {
    let values = rows.iter().flat_map(|x| [*x, 0.0, 0.0]).collect();
    let kind = SampleKind::Euler(RotationOrder::Xyz);
    let samples = Samples { start: RATE.ticks(first), rate: RATE, kind, values };
    let mut scene = scene(vec![(1, ROTATION, Controller::Samples(samples))], first + rows.len() as i64 - 1);
    scene.takes[0].range = range(first, first + rows.len() as i64 - 1);
    scene
}

#[test]
fn samples_are_joined_row_by_row_with_the_last_held_between() {
    let rows = |scene: &Scene| {
        let Controller::Samples(samples) = &scene.takes[0].layers[0].tracks[0].controller else {
            panic!("samples stay samples")
        };
        (RATE.frame(samples.start), samples.values.iter().copied().step_by(3).collect::<Vec<_>>())
    };
    let options = |gap| JoinOptions {
        name: "all".into(),
        gap,
        start: Some(1.0),
        go_on: false,
        tolerance: Tolerance::default(),
    };
    let (a, b) = (sampled(0, &[0.1, 0.2, 0.3]), sampled(5, &[0.5, 0.6]));
    let (joined, _) = join(&[a.clone(), b.clone()], &options(0)).unwrap();
    assert_eq!(rows(&joined), (1.0, vec![0.1, 0.2, 0.3, 0.5, 0.6]));
    let (apart, _) = join(&[a.clone(), b], &options(2)).unwrap();
    assert_eq!(rows(&apart), (1.0, vec![0.1, 0.2, 0.3, 0.3, 0.3, 0.5, 0.6]));
    // Angles stay as they are where they are near, and come by whole turns where they are not.
    let (turned, _) = join(&[a, sampled(0, &[0.4 + TAU, 0.5 + TAU])], &options(0)).unwrap();
    let (_, rows) = rows(&turned);
    assert!((rows[3] - 0.4).abs() < 1e-9 && (rows[4] - 0.5).abs() < 1e-9, "{rows:?}");
}

#[test]
fn travel_is_the_distance_the_path_the_height_and_the_turn() {
    // Three metres ahead and back by one, a fifth of a metre up, three quarters of a turn to the left.
    let hips = Controller::Components(vec![
        lines(&[(0, 0.0)]),
        lines(&[(0, 1.0), (40, 1.2)]),
        lines(&[(0, 0.0), (30, 3.0), (40, 2.0)]),
    ]);
    let heading = turns(RotationOrder::Yxz, [&[(0, 0.0)], &[(0, 0.0), (40, 0.75 * TAU)], &[(0, 0.0)]]);
    let scene = scene(vec![(0, TRANSLATION, hips), (0, ROTATION, heading)], 40);
    let found = travel(&scene, &scene.takes[0], range(0, 40)).unwrap();
    for (what, found, wanted) in [
        ("distance", found.distance, 2.0),
        ("path", found.path_length, 4.0),
        ("height", found.height_change, 0.2),
        ("turn", found.turn, 0.75 * TAU),
    ] {
        assert!((found - wanted).abs() < 1e-6, "{what}: {found}, not {wanted}");
    }
}

#[test]
fn a_loop_is_found_where_it_begins_and_ends() {
    // One swing of a second from frame 10 on, again and again, after a start of another kind.
    let mut keys = vec![(0, 1.3), (10, 0.0)];
    for round in 0..4 {
        keys.extend([(10 + 24 * round + 6, 0.5), (10 + 24 * round + 18, -0.5), (10 + 24 * round + 24, 0.0)]);
    }
    let scene = scene_of_arm(&keys, 10 + 96);
    let found = cycle::find(&scene, 3).unwrap();
    let best = found.first().unwrap();
    let (first, last) = frames(best.range);
    assert!(best.name.is_none() && (last - first) % 24.0 == 0.0 && first >= 10.0, "{best:?}");
    assert!(best.jump() < 0.5, "{}", best.jump());
}

#[test]
fn rounds_of_a_walk_go_on_and_keep_their_markers() {
    let hips =
        Controller::Components(vec![lines(&[(0, 0.0)]), lines(&[(0, 1.0)]), lines(&[(0, 0.0), (24, 1.4)])]);
    let mut scene =
        scene(vec![(0, TRANSLATION, hips), (1, ROTATION, arm(&[(0, 0.0), (12, 0.5), (24, 0.0)]))], 24);
    scene.takes[0].markers = vec![Marker { time: RATE.ticks(6), name: "step".into() }];
    let options = CycleOptions { take: None, range: None, tolerance: Tolerance::default() };
    let (long, _) = extend(&scene, 3, &options).unwrap();
    let take = &long.takes[0];
    assert_eq!(frames(take.range), (0.0, 72.0));
    let markers: Vec<f64> = take.markers.iter().map(|marker| RATE.frame(marker.time)).collect();
    assert_eq!(markers, [6.0, 30.0, 54.0]);
    let found = travel(&long, take, take.range).unwrap();
    assert!((found.distance - 4.2).abs() < 1e-6, "{found:?}");
    let Controller::Euler(euler) = &take.layers[0].tracks[1].controller else { panic!() };
    for round in 0..3 {
        let at = |frame: i64| euler.curves[0].value_at(RATE.ticks(24 * round + frame).as_f64()).unwrap();
        assert!(
            (at(12) - 0.5).abs() < 1e-9 && at(0).abs() < 1e-9 && (at(6) - 0.25).abs() < 1e-9,
            "round {round}"
        );
    }
}

/// A joint with a switch, and a take of it that other takes can be placed onto.
fn gate(tracks: Vec<(&str, Controller)>, first: i64, last: i64) -> Scene {
    let mut rig = Rig::new("figure");
    let mut node = Node::new("arm", NodeKind::Joint, DVec3::Y, RotationOrder::Xyz);
    node.attributes.push(Attribute { name: "gate".into(), kind: AttributeKind::Switch { default: false } });
    let arm = rig.add(None, node).unwrap();
    let track = |(property, controller): (&str, Controller)| Track {
        target: Target::new(0, arm, property),
        controller,
    };
    let layers = vec![Layer::base(tracks.into_iter().map(track).collect())];
    Scene::new(RATE, Space::METRES_Y_UP).with_rig(rig).with_take(Take::new(
        "take",
        range(first, last),
        layers,
    ))
}

fn row(first: i64, values: &[f64]) -> Controller {
    let kind = SampleKind::Vector;
    let values = values.iter().flat_map(|x| [*x, 0.0, 0.0]).collect();
    Controller::Samples(Samples { start: RATE.ticks(first), rate: RATE, kind, values })
}

fn switches(keys: &[(i64, bool)]) -> Controller {
    let keys = keys.iter().map(|&(frame, on)| (RATE.ticks(frame), Discrete::Switch(on))).collect();
    Controller::Discrete(DiscreteCurve::new(keys).unwrap())
}

fn put(scene: &Scene, new: &Scene, placement: Placement, ease: i64) -> Take {
    let options =
        PlaceOptions { placement, onto: None, ease: RATE.ticks(ease), tolerance: Tolerance::default() };
    place(scene, &new.takes[0], &options).unwrap().0.takes.remove(0)
}

#[test]
fn samples_placed_into_samples_go_straight_over_at_the_seams() {
    let old = gate(
        vec![(TRANSLATION, row(0, &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0, 11.0, 12.0]))],
        0,
        12,
    );
    let new = gate(vec![(TRANSLATION, row(5, &[50.0, 60.0, 70.0]))], 5, 7);
    let rows = |take: &Take| {
        let Controller::Samples(samples) = &take.layers[0].tracks[0].controller else {
            panic!("samples stay samples")
        };
        samples.values.iter().copied().step_by(3).collect::<Vec<_>>()
    };
    // Two frames of seam on both sides, one of them between: from 3 to 50, from 70 to 9.
    let placed = rows(&put(&old, &new, Placement::Overwrite, 2));
    assert_eq!(placed, [0.0, 1.0, 2.0, 3.0, 26.5, 50.0, 60.0, 70.0, 39.5, 9.0, 10.0, 11.0, 12.0]);
    // A seam of four frames has three between.
    let wide = rows(&put(&old, &new, Placement::Overwrite, 4));
    assert_eq!(wide[..5], [0.0, 1.0, 13.25, 25.5, 37.75]);
    // With room made the old rows come later, behind one frame more.
    let ripple = put(&old, &new, Placement::Ripple, 1);
    let made = rows(&ripple);
    assert_eq!(made[..8], [0.0, 1.0, 2.0, 3.0, 4.0, 50.0, 60.0, 70.0]);
    assert_eq!(
        (frames(ripple.range), made[8..].to_vec()),
        ((0.0, 15.0), vec![5.0, 6.0, 7.0, 8.0, 9.0, 10.0, 11.0, 12.0])
    );
}

#[test]
fn switches_are_those_of_the_new_take_inside_and_the_old_ones_outside() {
    let old = gate(vec![("gate", switches(&[(0, false), (6, true), (12, false)]))], 0, 16);
    let new = gate(vec![("gate", switches(&[(4, true), (8, false)]))], 4, 9);
    let at = |take: &Take| {
        let Controller::Discrete(curve) = &take.layers[0].tracks[0].controller else { panic!() };
        (0..=16)
            .map(|frame| curve.value_at(RATE.ticks(frame).as_f64()) == Some(&Discrete::Switch(true)))
            .collect::<Vec<_>>()
    };
    let on = |frames: &[i64]| (0..=16).map(|frame| frames.contains(&frame)).collect::<Vec<_>>();
    assert_eq!(at(&put(&old, &new, Placement::Overwrite, 1)), on(&[4, 5, 6, 7, 10, 11]));
    // Six frames of room: what was at 6 and 12 is at 12 and 18.
    let ripple = put(&old, &new, Placement::Ripple, 1);
    assert_eq!(at(&ripple)[..12], on(&[4, 5, 6, 7])[..12]);
    let Controller::Discrete(curve) = &ripple.layers[0].tracks[0].controller else { panic!() };
    let last = curve.keys().last().unwrap();
    assert_eq!((RATE.frame(last.0), &last.1), (18.0, &Discrete::Switch(false)));
}

#[test]
fn a_channel_that_had_no_keys_rests_outside_what_is_placed() {
    let old = gate(vec![("gate", switches(&[(0, false)]))], 0, 20);
    let still = |value: f64| lines(&[(6, value), (10, value)]);
    let moved = Controller::Components(vec![still(2.0), still(3.0), still(0.0)]);
    let new = gate(vec![(TRANSLATION, moved)], 6, 10);
    let placed = put(&old, &new, Placement::Overwrite, 2);
    let track =
        placed.tracks().map(|(_, track)| track).find(|track| track.target.property == TRANSLATION).unwrap();
    let Controller::Components(curves) = &track.controller else { panic!() };
    let at = |axis: usize, frame: i64| curves[axis].value_at(RATE.ticks(frame).as_f64()).unwrap();
    for frame in [0, 3, 4, 12, 15, 20] {
        assert_eq!((at(0, frame), at(1, frame), at(2, frame)), (0.0, 1.0, 0.0), "frame {frame}");
    }
    for frame in [6, 8, 10] {
        assert_eq!((at(0, frame), at(1, frame), at(2, frame)), (2.0, 3.0, 0.0), "frame {frame}");
    }
    assert!(at(0, 5) > 0.0 && at(0, 5) < 2.0);
}

#[test]
fn room_is_made_where_it_is_wanted_and_not_where_channels_end_before_it() {
    let early = |keys: &[(i64, f64)]| {
        Controller::Components(vec![lines(keys), lines(&[(0, 1.0)]), lines(&[(0, 0.0)])])
    };
    let new = gate(vec![(ROTATION, arm(&[(10, 0.0), (14, 0.4)]))], 10, 14);
    for (keys, wanted) in [
        (vec![(0, 0.0), (6, 1.0)], vec![0.0, 6.0]),
        (vec![(16, 0.0), (20, 1.0)], vec![21.0, 25.0]),
        (vec![(0, 0.0), (20, 1.0)], vec![0.0, 10.0, 15.0, 25.0]),
    ] {
        let old = gate(vec![(TRANSLATION, early(&keys))], 0, 20);
        let placed = put(&old, &new, Placement::Ripple, 1);
        let track = placed
            .tracks()
            .map(|(_, track)| track)
            .find(|track| track.target.property == TRANSLATION)
            .unwrap();
        let Controller::Components(curves) = &track.controller else { panic!() };
        let found: Vec<f64> = curves[0].keys().iter().map(|key| RATE.frame(key.time)).collect();
        assert_eq!(found, wanted, "{keys:?}");
        assert_eq!(frames(placed.range), (0.0, 25.0));
    }
}

/// What goes on outside its keys goes on behind the room that is made, and choices end with what is placed at the end.
#[test]
fn what_goes_round_and_what_ends_are_placed_as_they_were() {
    let round = |behaviour| {
        let curve = lines(&[(0, 0.0), (3, 1.0), (6, 0.0)]).with_behaviours(Behaviour::Held, behaviour);
        Controller::Components(vec![curve, lines(&[(0, 1.0)]), lines(&[(0, 0.0)])])
    };
    let new = gate(vec![(ROTATION, arm(&[(10, 0.0), (14, 0.4)]))], 10, 14);
    for behaviour in [Behaviour::Loop, Behaviour::LoopOffset, Behaviour::LoopOscillate, Behaviour::Held] {
        let old = gate(vec![(TRANSLATION, round(behaviour))], 0, 30);
        let placed = put(&old, &new, Placement::Ripple, 1);
        let curve = |take: &Take| {
            let track =
                take.tracks().map(|(_, track)| track).find(|track| track.target.property == TRANSLATION);
            track.unwrap().controller.curves()[0].clone()
        };
        let (was, is) = (curve(&old.takes[0]), curve(&placed));
        for quarter in 0..30 * 4 {
            let time = (f64::from(quarter) / 4.0 + 0.1) * RATE.ticks_per_frame();
            let by = if time < RATE.ticks(10).as_f64() { 0.0 } else { RATE.ticks(5).as_f64() };
            let (was, is) = (was.value_at(time).unwrap(), is.value_at(time + by).unwrap());
            assert!((was - is).abs() < 1e-9, "{behaviour:?} at {}: {is} for {was}", f64::from(quarter) / 4.0);
        }
    }
    // One that begins behind the room and goes round before it.
    let curve = lines(&[(16, 0.0), (19, 1.0), (22, 0.0)]).with_behaviours(Behaviour::Loop, Behaviour::Held);
    let late = Controller::Components(vec![curve.clone(), lines(&[(0, 1.0)]), lines(&[(0, 0.0)])]);
    let placed = put(&gate(vec![(TRANSLATION, late)], 0, 30), &new, Placement::Ripple, 1);
    let track = placed.tracks().map(|(_, track)| track).find(|track| track.target.property == TRANSLATION);
    let made = track.unwrap().controller.curves()[0].clone();
    for quarter in 0..30 * 4 {
        let time = (f64::from(quarter) / 4.0 + 0.1) * RATE.ticks_per_frame();
        let by = if time < RATE.ticks(10).as_f64() { 0.0 } else { RATE.ticks(5).as_f64() };
        let (was, is) = (curve.value_at(time).unwrap(), made.value_at(time + by).unwrap());
        assert!((was - is).abs() < 1e-9, "before it, at {}: {is} for {was}", f64::from(quarter) / 4.0);
    }
    let old = gate(vec![("gate", switches(&[(0, false), (6, true)]))], 0, 16);
    let new = gate(vec![("gate", switches(&[(12, true), (14, false)]))], 12, 16);
    let placed = put(&old, &new, Placement::Overwrite, 1);
    let Controller::Discrete(curve) = &placed.layers[0].tracks[0].controller else { panic!() };
    let keys: Vec<f64> = curve.keys().iter().map(|(time, _)| RATE.frame(*time)).collect();
    assert_eq!(keys, [0.0, 6.0, 12.0, 14.0], "nothing comes behind the end");
    // Samples that reach beyond the take they are of come with it no farther than it goes.
    let old = gate(vec![(TRANSLATION, row(-3, &[9.0, 9.0, 9.0, 0.0, 1.0, 2.0, 3.0, 4.0, 5.0]))], 0, 5);
    let new = gate(vec![(TRANSLATION, row(0, &[50.0, 60.0, 70.0]))], 0, 2);
    let placed = put(&old, &new, Placement::Overwrite, 1);
    let Controller::Samples(samples) = &placed.layers[0].tracks[0].controller else { panic!() };
    let rows: Vec<f64> = samples.values.iter().copied().step_by(3).collect();
    assert_eq!((RATE.frame(samples.start), rows), (0.0, vec![50.0, 60.0, 70.0, 3.0, 4.0, 5.0]));
}

/// What layers do to the channels of a new take comes to nothing in its range, each by what it is: the lowest by its tracks, one that has
/// nothing else there as a whole, one that counts for nothing not at all.
#[test]
fn layers_are_silent_where_something_else_is_placed() {
    let old = |weight: f64| {
        let mut scene = scene(vec![(1, ROTATION, arm(&[(0, 0.2), (30, 0.8)]))], 30);
        let node = scene.rigs[0].nodes().nth(1).unwrap().0;
        let track = Track { target: Target::new(0, node, ROTATION), controller: arm(&[(0, 0.5), (30, 0.5)]) };
        let layer = Layer {
            name: "sway".into(),
            mode: LayerMode::Additive,
            weight: Weight::Constant(weight),
            ..Layer::base(vec![track])
        };
        let idle =
            Layer { name: "idle".into(), ..Layer { mode: LayerMode::Additive, ..Layer::base(Vec::new()) } };
        scene.takes[0].layers.extend([layer, idle]);
        scene
    };
    let base_only = scene(vec![(1, ROTATION, arm(&[(10, 0.0), (20, 0.1)]))], 30);
    let mut above = base_only.clone();
    let track = above.takes[0].layers[0].tracks.remove(0);
    above.takes[0].layers.push(Layer {
        name: "new".into(),
        mode: LayerMode::Additive,
        ..Layer::base(vec![track])
    });
    let cases = [
        (1.0, &base_only, vec!["come to nothing there, for the new take: all of 'sway'"]),
        (0.0, &base_only, vec![]),
        (
            1.0,
            &above,
            vec!["come to nothing there, for the new take: figure/arm:rotation on 'base', all of 'sway'"],
        ),
    ];
    for (index, (weight, new, wanted)) in cases.into_iter().enumerate() {
        let old = old(weight);
        let mut new = new.takes[0].clone();
        new.range = range(10, 20);
        let options = PlaceOptions {
            placement: Placement::Overwrite,
            onto: None,
            ease: RATE.ticks(2),
            tolerance: Tolerance::default(),
        };
        let (result, ledger) = place(&old, &new, &options).unwrap();
        let said: Vec<&String> =
            ledger.notes.iter().filter(|note| note.contains("come to nothing")).collect();
        let said: Vec<String> =
            said.into_iter().map(|note| note.replace("figure/", "").replace("arm", "figure/arm")).collect();
        assert_eq!(said, wanted, "case {index}");
        let take = &result.takes[0];
        assert_eq!(take.layers[0].weight, Weight::FULL, "the lowest layer counts throughout");
        assert_eq!(take.layers[2].weight, Weight::FULL, "one that is empty is left alone");
        // Inside it is the new take, outside the old one.
        let turned = |take: &Take, scene: &Scene, frame: i64| {
            let node = scene.rigs[0].nodes().nth(1).unwrap().0;
            let target = Target::new(0, node, ROTATION);
            let value =
                PropertySampler::new(scene, take, &target).unwrap().value_at(RATE.ticks(frame).as_f64());
            value.rotation().unwrap()
        };
        for frame in [2, 6, 12, 15, 19, 25, 28] {
            let is_inside = (10..=20).contains(&frame);
            let wanted =
                if is_inside { turned(&new, &old, frame) } else { turned(&old.takes[0], &old, frame) };
            let off = turned(take, &result, frame).angle_between(wanted);
            assert!(off < 1e-6, "case {index}: {off} at {frame}");
        }
    }
}
