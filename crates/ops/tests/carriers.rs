//! Root motion in numbers that are known beforehand: which node carries the body, and what goes from it to the root.

use std::f64::consts::TAU;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::root::{RootError, RootOptions, centre, lift, pin};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_scene::evaluate::{Evaluator, Pose, PropertySampler};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, ROTATION, Rig, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_scene::space::{Handedness, Space, UpAxis};
use nimble_curve_testing::RATE;

/// The first and the last frame of all takes: what is counted from the start must not be counted from 0.
pub(crate) const ENDS: (i64, i64) = (10, 34);

pub(crate) fn range() -> TimeRange {
    TimeRange::new(RATE.ticks(ENDS.0), RATE.ticks(ENDS.1))
}

pub(crate) fn joint(name: &str, at: DVec3, order: RotationOrder) -> Node {
    Node::new(name, NodeKind::Joint, at, order)
}

pub(crate) fn lines(keys: &[(i64, f64)]) -> Curve {
    let key = |&(frame, value): &(i64, f64)| {
        Key::new(RATE.ticks(frame), value).with_interpolation(Interpolation::Linear)
    };
    Curve::new(keys.iter().map(key).collect()).unwrap()
}

pub(crate) fn places(curves: [Curve; 3]) -> Controller {
    Controller::Components(curves.to_vec())
}

pub(crate) fn track(node: NodeId, property: &str, controller: Controller) -> Track {
    Track { target: Target::new(0, node, property), controller }
}

pub(crate) fn take(layers: Vec<Layer>) -> Take {
    Take::new("take", range(), layers)
}

pub(crate) fn scene(rig: Rig, up: UpAxis, tracks: Vec<Track>) -> Scene {
    let space = Space { metres_per_unit: 1.0, up, handedness: Handedness::Right };
    Scene::new(RATE, space).with_rig(rig).with_take(take(vec![Layer::base(tracks)]))
}

pub(crate) fn options() -> RootOptions {
    RootOptions { tolerance: Tolerance { angle: 1e-4, length: 1e-4, number: 1e-4 }, ..RootOptions::default() }
}

fn value(scene: &Scene, node: NodeId, property: &str, frame: i64) -> Value {
    let target = Target::new(0, node, property);
    let mut sampler = PropertySampler::new(scene, &scene.takes[0], &target).unwrap();
    sampler.value_at(RATE.ticks(frame).as_f64())
}

fn place(scene: &Scene, node: NodeId, frame: i64) -> DVec3 {
    let Value::Vector(place) = value(scene, node, TRANSLATION, frame) else { panic!("a place") };
    place
}

/// The place and the turn of a node in the world.
fn stands(scene: &Scene, node: NodeId, frame: i64) -> (DVec3, DQuat) {
    let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
    let mut pose = Pose::default();
    evaluator.pose_at(RATE.ticks(frame).as_f64(), &mut pose);
    let at = scene.rigs[0].position(node).unwrap();
    (pose.world[at].translation, pose.world_rotation[at])
}

/// A way in space: ahead, sideways by a bow, and up and down, along three axes.
fn way(frame: i64) -> DVec3 {
    let u = (frame - ENDS.0) as f64 / (ENDS.1 - ENDS.0) as f64;
    DVec3::new(0.3 + 2.0 * u, 0.8 + 0.4 * u * (1.0 - u), -0.5 + u * u)
}

/// That way as keys on every frame, or as samples.
pub(crate) fn going(is_sampled: bool) -> Controller {
    let frames = ENDS.0..=ENDS.1;
    if is_sampled {
        let values = frames.flat_map(|frame| way(frame).to_array()).collect();
        let samples = Samples { start: RATE.ticks(ENDS.0), rate: RATE, kind: SampleKind::Vector, values };
        return Controller::Samples(samples);
    }
    let curve =
        |axis: usize| lines(&frames.clone().map(|frame| (frame, way(frame)[axis])).collect::<Vec<_>>());
    places([curve(0), curve(1), curve(2)])
}

/// What goes is on the root, what stays on the hips, and both together are what was; whatever is up, with any of the options.
#[test]
fn the_root_has_what_goes_and_the_hips_what_stays() {
    let (rest_of_root, rest_of_hips) = (DVec3::new(0.2, -0.1, 0.4), DVec3::new(0.5, 0.9, -0.3));
    let mut looked_at = 0;
    for up in [UpAxis::X, UpAxis::Y, UpAxis::Z] {
        for options in 0..8 {
            let (is_sampled, height, steady) = (options & 1 > 0, options & 2 > 0, options & 4 > 0);
            let mut rig = Rig::new("figure");
            let root = rig.add(None, joint("root", rest_of_root, RotationOrder::Xyz)).unwrap();
            let hips = rig.add(Some(root), joint("hips", rest_of_hips, RotationOrder::Xyz)).unwrap();
            let source = scene(rig, up, vec![track(hips, TRANSLATION, going(is_sampled))]);
            let options = RootOptions { turn: false, height, steady, ..self::options() };
            let (lifted, _) = lift(&source, &options).unwrap();
            let kinds = lifted.takes[0].tracks().map(|(_, track)| track.controller.samples().is_some());
            assert_eq!(
                kinds.collect::<Vec<_>>(),
                [is_sampled; 2],
                "what was sampled stays so, and nothing else is"
            );
            let goes = |axis: usize| axis != up.index() || height;
            let (first, last) = (way(ENDS.0), way(ENDS.1));
            for frame in ENDS.0..=ENDS.1 {
                let u = (frame - ENDS.0) as f64 / (ENDS.1 - ENDS.0) as f64;
                let even = if steady { first + (last - first) * u } else { way(frame) };
                let (root_at, hips_at) = (place(&lifted, root, frame), place(&lifted, hips, frame));
                for axis in 0..3 {
                    // The hips stay where they rest beside the root, and what they do beside an even way stays with them.
                    let (wanted_root, wanted_hips) = match goes(axis) {
                        true => (
                            even[axis] + rest_of_root[axis] - rest_of_hips[axis],
                            way(frame)[axis] - even[axis] + rest_of_hips[axis],
                        ),
                        false => (rest_of_root[axis], way(frame)[axis]),
                    };
                    let what = format!(
                        "{up:?} sampled {is_sampled} height {height} steady {steady} {axis} at {frame}"
                    );
                    assert!((root_at[axis] - wanted_root).abs() < 1e-9, "root {what}: {root_at}");
                    assert!((hips_at[axis] - wanted_hips).abs() < 1e-9, "hips {what}: {hips_at}");
                    looked_at += 1;
                }
            }
        }
    }
    assert_eq!(looked_at, 3 * 8 * 25 * 3);
}

/// What moves already gets the rest on top, and what the hips are then turned by goes to the root as well.
#[test]
fn a_root_that_moves_keeps_its_way() {
    let mut rig = Rig::new("figure");
    let root = rig.add(None, joint("root", DVec3::X, RotationOrder::Xzy)).unwrap();
    let hips = rig.add(Some(root), joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
    let still = |value: f64| lines(&[(ENDS.0, value)]);
    let turn = lines(&[(ENDS.0, 0.2), (ENDS.1, 0.2 + 0.3 * TAU)]);
    let tracks = vec![
        track(root, TRANSLATION, places([still(1.0), still(0.0), lines(&[(ENDS.0, 0.0), (ENDS.1, 3.0)])])),
        track(hips, TRANSLATION, places([lines(&[(ENDS.0, 0.0), (ENDS.1, 1.0)]), still(1.0), still(0.0)])),
        track(
            hips,
            ROTATION,
            Controller::Euler(EulerCurves {
                order: RotationOrder::Xzy,
                curves: [still(0.1), turn, still(0.0)],
            }),
        ),
    ];
    let source = scene(rig, UpAxis::Y, tracks);
    let (lifted, _) = lift(&source, &options()).unwrap();
    for frame in [ENDS.0, 16, 25, ENDS.1] {
        let u = (frame - ENDS.0) as f64 / 24.0;
        assert!(place(&lifted, root, frame).abs_diff_eq(DVec3::new(1.0 + u, 0.0, 3.0 * u), 1e-9));
        let (was, is) = (stands(&source, hips, frame), stands(&lifted, hips, frame));
        assert!(was.0.abs_diff_eq(is.0, 1e-9) && was.1.dot(is.1).abs() > 1.0 - 1e-12, "frame {frame}");
        let Value::Euler { angles, .. } = value(&lifted, root, ROTATION, frame) else { panic!("angles") };
        assert!((angles.y - (0.2 + 0.3 * TAU * u)).abs() < 1e-9, "{angles}");
    }
}

/// Which node carries, by name, by what moves, and by what is above it.
#[test]
fn the_carrier_is_who_it_is_named_or_who_moves() {
    let figure = |name: &str| {
        let mut rig = Rig::new("figure");
        let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
        let hips = rig.add(Some(root), joint(name, DVec3::Y, RotationOrder::Xzy)).unwrap();
        let head = rig.add(Some(hips), joint("head", DVec3::Y, RotationOrder::Xzy)).unwrap();
        (rig, [root, hips, head])
    };
    let moves = |node: NodeId| track(node, TRANSLATION, going(false));
    let turns = |node: NodeId| {
        let curves = [lines(&[(ENDS.0, 0.0)]), lines(&[(ENDS.0, 0.2)]), lines(&[(ENDS.0, 0.0)])];
        track(node, ROTATION, Controller::Euler(EulerCurves { order: RotationOrder::Xzy, curves }))
    };
    // What is in place afterwards: the node whose place does not change any more.
    let pinned = |name: &str, moving: &[usize], node: Option<&str>| {
        let (rig, ids) = figure(name);
        let tracks = moving.iter().flat_map(|&at| [moves(ids[at]), turns(ids[at])]).collect();
        let source = scene(rig, UpAxis::Y, tracks);
        let options = RootOptions { node: node.map(str::to_owned), ..options() };
        let (result, _) = pin(&source, &options)?;
        let is_still = |id: &NodeId| {
            let (from, to) = (place(&result, *id, ENDS.0), place(&result, *id, ENDS.1));
            from.x == to.x && from.z == to.z
        };
        let still: Vec<usize> = moving.iter().copied().filter(|&at| is_still(&ids[at])).collect();
        Ok::<_, RootError>(still)
    };
    for (what, name, moving, node, wanted) in [
        ("hips by their name", "hips", vec![1, 2], None, vec![1]),
        ("a root that moves carries the hips", "hips", vec![0, 1], None, vec![0]),
        ("no name: who is topmost of what moves", "body", vec![1, 2], None, vec![1]),
        ("who is named", "hips", vec![1, 2], Some("head"), vec![2]),
        ("who is named in another namespace", "a:hips", vec![1, 2], Some("hips"), vec![1]),
    ] {
        assert_eq!(pinned(name, &moving, node).unwrap(), wanted, "{what}");
    }
    let unknown = pinned("hips", &[1], Some("hipz")).unwrap_err();
    assert_eq!(unknown, RootError::NoNode("hipz".into(), Some("hips".into())));
    assert_eq!(pinned("body", &[], None).unwrap_err(), RootError::NoCarrier);
    // A prop that stands first and moves once carries nobody.
    let mut cart = Rig::new("cart");
    let body = cart.add(None, joint("hips", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
    let (rig, ids) = figure("hips");
    let of_figure = [1, 2].into_iter().flat_map(|at| [moves(ids[at]), turns(ids[at])]).map(|mut track| {
        track.target.rig = 1;
        track
    });
    let tracks = [moves(body)].into_iter().chain(of_figure).collect();
    let mut both = scene(cart, UpAxis::Y, tracks);
    both.rigs.push(rig);
    let (result, _) = pin(&both, &options()).unwrap();
    let is_as_it_was = |at: usize| result.takes[0].layers[0].tracks[at] == both.takes[0].layers[0].tracks[at];
    assert!(is_as_it_was(0) && !is_as_it_was(1), "the cart goes on");
}

/// Hips that rest as a quaternion and are keyed so turn about the up axis as anything else does.
#[test]
fn turns_as_wholes_go_to_the_root() {
    for up in [UpAxis::X, UpAxis::Y, UpAxis::Z] {
        let axis = DVec3::AXES[up.index()];
        let tilt = DQuat::from_axis_angle(DVec3::AXES[(up.index() + 1) % 3], 0.2);
        let mut rig = Rig::new("figure");
        let mut node = joint("hips", DVec3::ZERO, RotationOrder::Xyz);
        node.transform[1].value = OpValue::Orient(tilt);
        let hips = rig.add(None, node).unwrap();
        let key = |frame: i64, angle: f64| QuaternionKey {
            time: RATE.ticks(frame),
            value: DQuat::from_axis_angle(axis, angle) * tilt,
            interpolation: QuaternionInterpolation::Slerp,
            tangent_in: glam::DVec4::ZERO,
            tangent_out: glam::DVec4::ZERO,
        };
        let keys = vec![key(ENDS.0, 0.0), key(20, 0.7), key(ENDS.1, 1.8)];
        let turning = Controller::Quaternion(QuaternionCurve { keys, ..QuaternionCurve::default() });
        let source =
            scene(rig, up, vec![track(hips, ROTATION, turning), track(hips, TRANSLATION, going(false))]);
        let (lifted, _) = lift(&source, &options()).unwrap();
        let root = lifted.rigs[0].parent(hips).unwrap();
        for frame in ENDS.0..=ENDS.1 {
            let (was, is) = (stands(&source, hips, frame), stands(&lifted, hips, frame));
            assert!(was.0.abs_diff_eq(is.0, 1e-4) && was.1.angle_between(is.1) < 2e-4, "{up:?} at {frame}");
            let heading = stands(&lifted, root, frame).1;
            let wanted = was.1 * stands(&source, hips, ENDS.0).1.inverse();
            let begins = stands(&lifted, root, ENDS.0).1;
            assert!(
                (heading * begins.inverse()).angle_between(wanted) < 2e-4,
                "{up:?}: the root turns at {frame}"
            );
        }
    }
}

/// Turns that are samples go as samples, less what the hips are turned by at rest.
#[test]
fn sampled_turns_go_to_the_root() {
    let rest = DVec3::new(0.1, 0.6, 0.0);
    let mut rig = Rig::new("figure");
    let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Zyx)).unwrap();
    let mut node = joint("hips", DVec3::Y, RotationOrder::Xzy);
    node.transform[1].value = OpValue::Rotate { order: RotationOrder::Xzy, angles: rest };
    let hips = rig.add(Some(root), node).unwrap();
    let row = |frame: i64| [0.02 * frame as f64, 0.3 + 0.05 * frame as f64, -0.1];
    let values = (ENDS.0..=ENDS.1).flat_map(row).collect();
    let kind = SampleKind::Euler(RotationOrder::Xzy);
    let turning = Controller::Samples(Samples { start: RATE.ticks(ENDS.0), rate: RATE, kind, values });
    let source =
        scene(rig, UpAxis::Y, vec![track(hips, ROTATION, turning), track(hips, TRANSLATION, going(true))]);
    let (lifted, _) = lift(&source, &options()).unwrap();
    for frame in ENDS.0..=ENDS.1 {
        let (Value::Euler { angles: of_root, order }, Value::Euler { angles: of_hips, .. }) =
            (value(&lifted, root, ROTATION, frame), value(&lifted, hips, ROTATION, frame))
        else {
            panic!("angles")
        };
        let [x, y, z] = row(frame);
        assert!(
            of_root.abs_diff_eq(DVec3::new(0.0, y - rest.y, 0.0), 1e-12) && order == RotationOrder::Zyx,
            "{of_root}"
        );
        assert!(of_hips.abs_diff_eq(DVec3::new(x, rest.y, z), 1e-12), "{of_hips}");
        let (was, is) = (stands(&source, hips, frame), stands(&lifted, hips, frame));
        assert!(was.0.abs_diff_eq(is.0, 1e-9) && was.1.angle_between(is.1) < 1e-6, "frame {frame}");
    }
}

/// One entry a channel, with the larger fate of what was done to it and all that was.
#[test]
fn what_was_reordered_and_lifted_is_said_once() {
    let mut rig = Rig::new("figure");
    let hips = rig.add(None, joint("hips", DVec3::Y, RotationOrder::Zyx)).unwrap();
    let swing = |size: f64| lines(&[(ENDS.0, 0.0), (20, size), (ENDS.1, -size)]);
    let curves = [swing(0.3), swing(0.9), swing(0.4)];
    let turning = Controller::Euler(EulerCurves { order: RotationOrder::Zyx, curves });
    let tracks = vec![track(hips, ROTATION, turning), track(hips, TRANSLATION, going(false))];
    let source = scene(rig, UpAxis::Y, tracks);
    for (lifts, note) in [(true, "travel moved to"), (false, "in place; the travel is kept beside it")] {
        let (_, ledger) = if lifts { lift(&source, &options()) } else { pin(&source, &options()) }.unwrap();
        let of = |property: &str| -> Vec<_> {
            ledger.entries.iter().filter(|entry| entry.channel.ends_with(property)).collect()
        };
        let (turns, places) = (of(":rotation"), of(":translation"));
        assert_eq!((turns.len(), places.len()), (1, 1), "{:?}", ledger.entries);
        assert_eq!((turns[0].fate, places[0].fate), (Fate::Refitted, Fate::Exact));
        assert!(turns[0].note.contains("added") && turns[0].note.contains(note), "{}", turns[0].note);
        assert!(turns[0].error.is_some() && places[0].error.is_none());
    }
}

/// A root that has to be made has a name of its own, in the namespace of the rig; what else stands on one is named.
#[test]
fn a_root_is_named_and_so_is_what_goes_along() {
    let named = |names: &[&str], wanted: &str| {
        let mut rig = Rig::new("figure");
        let hips = rig.add(None, joint(names[0], DVec3::Y, RotationOrder::Xzy)).unwrap();
        for name in &names[1..] {
            rig.add(Some(hips), joint(name, DVec3::Y, RotationOrder::Xzy)).unwrap();
        }
        let source = scene(rig, UpAxis::Y, vec![track(hips, TRANSLATION, going(false))]);
        let (lifted, ledger) = lift(&source, &RootOptions { name: wanted.into(), ..options() }).unwrap();
        assert!(ledger.notes.is_empty(), "{:?}", ledger.notes);
        let root = lifted.rigs[0].parent(hips).unwrap();
        lifted.rigs[0].node(root).unwrap().name.clone()
    };
    assert_eq!(named(&["hips"], "root"), "root");
    assert_eq!(named(&["hips", "root"], "root"), "root_2");
    assert_eq!(named(&["hips", "root", "root_2"], "root"), "root_3");
    assert_eq!(named(&["ann:hips"], "root"), "ann:root");
    assert_eq!(named(&["ann:hips", "root"], "root"), "ann:root");
    assert_eq!(named(&["ann:hips", "ann:root"], "root"), "ann:root_2");
    assert_eq!(named(&["ann:hips"], "bob:root"), "bob:root");
    let beside = |names: &[&str]| {
        let mut rig = Rig::new("figure");
        let root = rig.add(None, joint("root", DVec3::ZERO, RotationOrder::Xzy)).unwrap();
        let hips = rig.add(Some(root), joint("hips", DVec3::Y, RotationOrder::Xzy)).unwrap();
        for name in names {
            rig.add(Some(root), joint(name, DVec3::Y, RotationOrder::Xzy)).unwrap();
        }
        let source = scene(rig, UpAxis::Y, vec![track(hips, TRANSLATION, going(false))]);
        lift(&source, &options()).unwrap().1.notes
    };
    assert_eq!(beside(&["lamp"]), ["root takes along what else stands on it: lamp"]);
    assert_eq!(beside(&["a", "b", "c"]), ["root takes along what else stands on it: a, b, c"]);
    assert_eq!(
        beside(&["a", "b", "c", "d"]),
        ["root takes along what else stands on it: a, b, c and 1 more"]
    );
}

/// A figure made for another up axis and stood up by the node above its hips, at rest or by a track that does not move: it is in place,
/// or over the origin, on the ground of the world.
#[test]
fn a_figure_that_was_stood_up_is_in_place_on_the_ground() {
    let turning = |order, curves| Controller::Euler(EulerCurves { order, curves });
    let still = |value: f64| lines(&[(ENDS.0, value)]);
    for (turned, is_at_rest) in [(-0.25, true), (0.25, true), (-0.25, false), (0.25, false)] {
        let mut rig = Rig::new("figure");
        let mut stand = joint("armature", DVec3::ZERO, RotationOrder::Xyz);
        if let OpValue::Rotate { angles, .. } = &mut stand.transform[1].value
            && is_at_rest
        {
            angles.x = turned * TAU;
        }
        let stand = rig.add(None, stand).unwrap();
        // Its own z is upright, so its turn about that acts last.
        let hips =
            rig.add(Some(stand), joint("hips", DVec3::new(0.1, 0.2, 0.9), RotationOrder::Xyz)).unwrap();
        let heading = lines(&[(ENDS.0, 0.0), (ENDS.1, 0.4)]);
        let mut tracks = vec![
            track(hips, TRANSLATION, going(false)),
            track(
                hips,
                ROTATION,
                turning(RotationOrder::Xyz, [lines(&[(ENDS.0, 0.0), (20, 0.3)]), still(0.1), heading]),
            ),
        ];
        if !is_at_rest {
            let curves = [still(turned * TAU), still(0.0), still(0.0)];
            tracks.push(track(stand, ROTATION, turning(RotationOrder::Xyz, curves)));
        }
        let source = scene(rig, UpAxis::Y, tracks);
        let what = format!("{turned}, at rest {is_at_rest}");
        let (pinned, _) = pin(&source, &options()).unwrap();
        let (centred, _) = centre(&source, "hips", false).unwrap();
        let rests = {
            let turn = DQuat::from_rotation_x(turned * TAU);
            turn * DVec3::new(0.1, 0.2, 0.9)
        };
        let start = stands(&source, hips, ENDS.0).0;
        for frame in ENDS.0..=ENDS.1 {
            let was = stands(&source, hips, frame);
            let (is, over) = (stands(&pinned, hips, frame), stands(&centred, hips, frame));
            let wanted = DVec3::new(rests.x, was.0.y, rests.z);
            assert!(is.0.abs_diff_eq(wanted, 1e-9), "{what}: {} for {wanted} at {frame}", is.0);
            let wanted = DVec3::new(was.0.x - start.x, was.0.y, was.0.z - start.z);
            assert!(over.0.abs_diff_eq(wanted, 1e-9), "{what}: {} for {wanted} at {frame}", over.0);
            // What was taken off is a turn about the world's up axis, back to where it rests.
            let off = is.1 * was.1.inverse();
            let sign = -turned.signum();
            let by = -0.4 * (frame - ENDS.0) as f64 / 24.0 * sign;
            assert!(off.angle_between(DQuat::from_rotation_y(by)) < 1e-6, "{what}: {off} at {frame}");
        }
        assert!(matches!(lift(&source, &options()), Err(RootError::RestsTurned(_))), "{what}");
    }
}
