//! Random scenes through whole operations: what has to stay the same stays the same.

use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_ops::bake::{BakeOptions, bake};
use nimble_curve_ops::carry::{CarryOptions, NameMap, carry};
use nimble_curve_ops::controllers::{ConvertOptions, convert_controllers};
use nimble_curve_ops::conversion::ControllerType;
use nimble_curve_ops::layers::{FlattenOptions, SplitOptions, flatten, split};
use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
use nimble_curve_ops::retime::{shifted, stretched};
use nimble_curve_ops::select::{Selection, select};
use nimble_curve_ops::space::in_space;
use nimble_curve_ops::unbake::{KeySets, UnbakeOptions, unbake};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{Evaluator, Pose};
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{NodeId, ROTATION};
use nimble_curve_scene::scene::{Scene, Track};
use nimble_curve_scene::space::{AxisMap, Handedness, Space, UpAxis};
use nimble_curve_testing::RATE;
use nimble_curve_testing::motion::{Within, alike, between, cases, frames};
use nimble_curve_testing::scenes::{Contents, any_order, any_scene};
use proptest::prelude::*;
use proptest::sample::select as one_of;

use crate::THOUSANDTH;

fn any_handles() -> impl Strategy<Value = Option<Handles>> {
    one_of(vec![None, Some(Handles::Plain), Some(Handles::Weighted)])
}

/// Layers of curves, without what is sampled.
const LAYERED: Contents = Contents { layers: 3, outside: true, ..Contents::SIMPLE };

/// Everything, but layers that count in part.
const WHOLE: Contents = Contents { weights: false, ..Contents::ALL };

/// A scene without stacks in which a part of a rotation counts.
fn without_parts_of_turns(mut scene: Scene) -> Scene {
    let is_part = |track: &Track| match &track.controller {
        Controller::Stack(entries) if track.target.property == ROTATION => {
            entries.iter().any(|entry| entry.weight.constant() != Some(1.0))
        }
        _ => false,
    };
    for layer in scene.takes.iter_mut().flat_map(|take| &mut take.layers) {
        layer.tracks.retain(|track| !is_part(track));
    }
    scene
}

proptest! {
    #![proptest_config(cases(40))]

    #[test]
    fn another_space_shows_the_same_motion_and_the_way_back_is_the_same(
        scene in any_scene(Contents::ALL), unit in one_of(vec![1.0, 0.01, 0.3048]),
        up in one_of(vec![UpAxis::X, UpAxis::Y, UpAxis::Z]), left in prop::bool::ANY,
    ) {
        let handedness = if left { Handedness::Left } else { Handedness::Right };
        let space = Space { metres_per_unit: unit, up, handedness };
        let (there, _) = in_space(&scene, &space);
        prop_assert_eq!(there.space, space);
        let map = AxisMap::between(&scene.space, &space);
        let times = between(-3, 45);
        for (take, moved) in scene.takes.iter().zip(&there.takes) {
            for rig in 0..scene.rigs.len() {
                let mut here = Evaluator::new(&scene, Some(take), rig).unwrap();
                let mut over_there = Evaluator::new(&there, Some(moved), rig).unwrap();
                let (mut a, mut b) = (Pose::default(), Pose::default());
                for &time in &times {
                    here.pose_at(time, &mut a);
                    over_there.pose_at(time, &mut b);
                    for (a, b) in a.world.iter().zip(&b.world) {
                        prop_assert!(map.affine(*a).abs_diff_eq(*b, 1e-6 * (1.0 + b.translation.length())), "{a} {b}");
                    }
                }
            }
        }
        // What shears has no rotation of its own that all spaces agree on.
        let (back, _) = in_space(&there, &scene.space);
        let within = Within { angle: f64::INFINITY, ..Within::ROUNDING };
        for (take, again) in scene.takes.iter().zip(&back.takes) {
            alike((&scene, take, &times), (&back, again, &times), within)?;
        }
    }

    #[test]
    fn a_shift_moves_everything_by_the_same_time_and_comes_back_exactly(
        scene in any_scene(Contents::ALL), by in -50..50_i64,
    ) {
        let times = between(-3, 45);
        let later: Vec<f64> = times.iter().map(|time| time + RATE.ticks(by).as_f64()).collect();
        for take in &scene.takes {
            let moved = shifted(take, RATE.ticks(by));
            alike((&scene, take, &times), (&scene, &moved, &later), Within::ROUNDING)?;
            prop_assert_eq!(moved.range.first, take.range.first + RATE.ticks(by));
            prop_assert!(moved.markers.iter().zip(&take.markers).all(|(a, b)| a.time == b.time + RATE.ticks(by)));
            prop_assert!(shifted(&moved, RATE.ticks(-by)) == *take);
        }
    }

    #[test]
    fn a_stretch_slows_everything_by_the_same_factor(
        scene in any_scene(WHOLE), frames in one_of(vec![21, 81, 121]),
    ) {
        let factor = (frames - 1) as f64 / 40.0;
        let times = between(-3, 45);
        let slower: Vec<f64> = times.iter().map(|time| time * factor).collect();
        // How far round a part of a turn is, is followed in steps of time: where it leaps, another pace may read it otherwise.
        let scene = without_parts_of_turns(scene);
        for take in &scene.takes {
            let Ok(slow) = stretched(take, frames, RATE) else { continue };
            prop_assert_eq!((slow.range.first, slow.range.last), (RATE.ticks(0), RATE.ticks(frames - 1)));
            alike((&scene, take, &times), (&scene, &slow, &slower), Within::ROUNDING)?;
        }
    }

    #[test]
    fn a_bake_is_what_the_controllers_came_to_on_every_frame(scene in any_scene(LAYERED)) {
        let (baked, _) = bake(&scene, &BakeOptions::default());
        let times = frames(0, 40);
        for (take, samples) in scene.takes.iter().zip(&baked.takes) {
            alike((&scene, take, &times), (&baked, samples, &times), Within::ROUNDING)?;
        }
    }
}

proptest! {
    #![proptest_config(cases(16))]

    #[test]
    fn what_was_split_off_moves_a_take_as_the_other_one(scene in any_scene(LAYERED), scaled in prop::bool::ANY) {
        let mut ours = scene.clone();
        let mut theirs = scene;
        if let (true, [one, other]) = (theirs.takes.len() == 2, theirs.takes.as_mut_slice()) {
            other.name.clone_from(&one.name);
            theirs.takes.remove(0);
            ours.takes.truncate(1);
        } else {
            // The same take without its base.
            theirs.takes[0].layers[0].tracks.clear();
        }
        // Where a factor is zero no other one makes up for it.
        if !scaled {
            for layer in [&mut ours, &mut theirs].into_iter().flat_map(|scene| &mut scene.takes[0].layers) {
                layer.tracks.retain(|track| track.target.property != "scale");
            }
        }
        let options = SplitOptions { name: "difference".into(), only: Vec::new(), tolerance: THOUSANDTH };
        let (result, ledger) = split(&ours, &theirs, &options).unwrap();
        let is_lost = ledger.entries.iter().any(|entry| entry.fate == Fate::LeftOut);
        let times = between(0, 40);
        if !is_lost {
            let (first, second) = ((&theirs, &theirs.takes[0]), (&result, &result.takes[0]));
            alike((first.0, first.1, &times), (second.0, second.1, &times), Within::thousandths(1.01))?;
        }
        // Without it everything is as it was.
        let mut muted = result.clone();
        muted.takes[0].layers.last_mut().unwrap().muted = true;
        alike((&ours, &ours.takes[0], &times), (&muted, &muted.takes[0], &times), Within::ROUNDING)?;
    }

    #[test]
    fn flattened_layers_that_count_in_part_move_as_all_of_them_did(
        scene in any_scene(Contents { weights: true, ..LAYERED }),
    ) {
        let (flat, ledger) = flatten(&scene, &FlattenOptions { tolerance: THOUSANDTH, ..FlattenOptions::default() }).unwrap();
        prop_assert!(ledger.entries.iter().all(|entry| entry.fate != Fate::Sampled), "nothing was sampled before");
        let times = between(0, 40);
        for (take, flat_take) in scene.takes.iter().zip(&flat.takes) {
            alike((&scene, take, &times), (&flat, flat_take, &times), Within::thousandths(1.01))?;
        }
    }

    #[test]
    fn flattened_layers_move_as_all_of_them_did(scene in any_scene(LAYERED)) {
        let (flat, ledger) = flatten(&scene, &FlattenOptions { tolerance: THOUSANDTH, ..FlattenOptions::default() }).unwrap();
        prop_assert!(flat.takes.iter().all(|take| take.layers.len() == 1));
        prop_assert!(ledger.entries.iter().all(|entry| entry.fate != Fate::Sampled), "nothing was sampled before");
        let times = between(0, 40);
        for (take, flat_take) in scene.takes.iter().zip(&flat.takes) {
            alike((&scene, take, &times), (&flat, flat_take, &times), Within::thousandths(1.01))?;
        }
    }

    #[test]
    fn another_order_turns_everything_as_before(scene in any_scene(Contents::SIMPLE), order in any_order(), handles in any_handles()) {
        let options = ReorderOptions { to: NewOrder::To(order), only: Vec::new(), tolerance: THOUSANDTH.angle, handles };
        let (turned, ledger) = reorder(&scene, &options).unwrap();
        prop_assert!(!ledger.entries.iter().any(|entry| entry.note.starts_with("stays")));
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&turned.takes) {
            let within = Within { distance: 0.0, ..Within::thousandths(1.01) };
            alike((&scene, take, &times), (&turned, new, &times), within)?;
        }
    }

    #[test]
    fn another_order_of_any_controller_turns_as_before(
        scene in any_scene(Contents { all_controllers: true, ..Contents::SIMPLE }), order in any_order(),
    ) {
        let to = NewOrder::To(order);
        let options = ReorderOptions { to, only: Vec::new(), tolerance: THOUSANDTH.angle, handles: None };
        let (turned, _) = reorder(&scene, &options).unwrap();
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&turned.takes) {
            // What was sampled is held to its samples, not to the lines between them.
            let is_sampled = |name: &str| name == "samples" || name == "procedural";
            if !take.tracks().any(|(_, track)| is_sampled(track.controller.type_name())) {
                let within = Within { distance: 0.0, ..Within::thousandths(2.0) };
                alike((&scene, take, &times), (&turned, new, &times), within)?;
            }
        }
    }

    #[test]
    fn another_form_of_controllers_moves_as_before(
        scene in any_scene(Contents { all_controllers: true, ..Contents::SIMPLE }),
        form in one_of(vec![ControllerType::Curves, ControllerType::Quaternion]),
    ) {
        let (changed, _) = convert_controllers(&scene, &ConvertOptions { form, only: Vec::new(), tolerance: THOUSANDTH });
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&changed.takes) {
            // What was sampled is held to its samples, not to the lines between them.
            let is_sampled = |name: &str| name == "samples" || name == "procedural";
            if !take.tracks().any(|(_, track)| is_sampled(track.controller.type_name())) {
                alike((&scene, take, &times), (&changed, new, &times), Within::thousandths(2.0))?;
            }
        }
    }

    #[test]
    fn a_range_moves_as_it_did_in_the_whole(scene in any_scene(LAYERED), first in 0..15_i64, length in 2..20_i64) {
        let range = TimeRange::new(RATE.ticks(first), RATE.ticks(first + length));
        let selection = Selection { range: Some(range), tolerance: THOUSANDTH, ..Selection::default() };
        let (part, _) = select(&scene, &selection).unwrap();
        let times = between(first, first + length);
        for (take, cut) in scene.takes.iter().zip(&part.takes) {
            alike((&scene, take, &times), (&part, cut, &times), Within::thousandths(1.01))?;
            for (_, track) in cut.tracks() {
                if let Some(keys) = track.controller.range() {
                    prop_assert!(range.first <= keys.first && keys.last <= range.last, "{:?}", track.target);
                }
            }
        }
    }

    #[test]
    fn unbaked_curves_stay_within_their_bounds(
        scene in any_scene(Contents::SIMPLE), keys in one_of(vec![KeySets::Free, KeySets::Node, KeySets::Pose]),
        thousandths in one_of(vec![0.1, 2.0, 50.0]),
    ) {
        let (baked, _) = bake(&scene, &BakeOptions::default());
        let options = UnbakeOptions { tolerance: THOUSANDTH.times(thousandths), keys, ..UnbakeOptions::default() };
        let unbaked = unbake(&baked, &options).unwrap();
        let times = frames(0, 40);
        for (take, new) in baked.takes.iter().zip(&unbaked.scene.takes) {
            let within = Within::thousandths(1.0001 * thousandths);
            alike((&baked, take, &times), (&unbaked.scene, new, &times), within)?;
        }
    }

    #[test]
    fn a_bound_in_world_space_holds_wherever_joints_are(
        scene in any_scene(Contents::SIMPLE), millimetres in one_of(vec![1.0, 10.0]),
    ) {
        let (baked, _) = bake(&scene, &BakeOptions::default());
        let options = UnbakeOptions {
            world: Some(1e-3 * millimetres),
            tolerance: THOUSANDTH.times(50.0),
            ..UnbakeOptions::default()
        };
        let unbaked = unbake(&baked, &options).unwrap();
        let mut worst = 0.0_f64;
        for (take, new) in baked.takes.iter().zip(&unbaked.scene.takes) {
            for rig in 0..scene.rigs.len() {
                let mut before = Evaluator::new(&baked, Some(take), rig).unwrap();
                let mut after = Evaluator::new(&unbaked.scene, Some(new), rig).unwrap();
                let (mut a, mut b) = (Pose::default(), Pose::default());
                for time in frames(0, 40) {
                    before.pose_at(time, &mut a);
                    after.pose_at(time, &mut b);
                    for (a, b) in a.world.iter().zip(&b.world) {
                        worst = worst.max(a.translation.distance(b.translation) * scene.space.metres_per_unit);
                    }
                }
            }
        }
        prop_assert!(worst <= 1.0001e-3 * millimetres, "{worst} m");
    }

    #[test]
    fn onto_a_twin_with_other_names_units_and_axes_everything_is_exact(
        scene in any_scene(Contents { layers: 2, ..Contents::SIMPLE }), up in one_of(vec![UpAxis::X, UpAxis::Y, UpAxis::Z]),
    ) {
        let mut scene = scene;
        scene.rigs.truncate(1);
        for take in &mut scene.takes {
            take.layers.iter_mut().for_each(|layer| layer.tracks.retain(|track| track.target.rig == 0));
        }
        let ids: Vec<NodeId> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
        // Curves in the order of their nodes: others would have to be refitted.
        for track in scene.takes.iter_mut().flat_map(|take| &mut take.layers).flat_map(|layer| &mut layer.tracks) {
            if let (Controller::Euler(euler), Some(Value::Euler { order, .. })) =
                (&mut track.controller, scene.rigs[0].rest_value(track.target.node, "rotation"))
            {
                euler.order = order;
            }
        }
        let called = |scene: &mut Scene, prefix: &str| {
            for (index, &id) in ids.iter().enumerate() {
                let node = scene.rigs[0].node_mut(id).unwrap();
                node.name = format!("{prefix}{index}");
                node.locked.clear();
            }
        };
        called(&mut scene, "a");
        let space = Space { metres_per_unit: 0.3048, up, ..scene.space };
        let mut twin = in_space(&scene, &space).0;
        called(&mut twin, "b");
        let expected = twin.clone();
        twin.takes.clear();
        let mut map = NameMap::of_nodes((0..ids.len()).map(|index| (format!("a{index}"), format!("b{index}"))));
        map.numbers = Vec::new();
        let options = CarryOptions { tolerance: THOUSANDTH, scale: Some(1.0), ..CarryOptions::default() };
        let carried = carry(&scene, &twin, &map, &options).unwrap();
        let refitted = carried.ledger.entries.iter().find(|entry| entry.fate == Fate::Refitted);
        prop_assert!(refitted.is_none(), "{refitted:?}");
        let times = between(-3, 45);
        for (take, new) in expected.takes.iter().zip(&carried.scene.takes) {
            alike((&expected, take, &times), (&carried.scene, new, &times), Within::ROUNDING)?;
        }
    }
}
