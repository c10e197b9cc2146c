//! Carrying between rigs that are not alike, through the program, on the sample scenario.

use std::collections::{BTreeSet, HashMap};
use std::path::Path;

use glam::{DQuat, DVec3};
use nimble_curve_core::address::{Addresses, without_namespace};
use nimble_curve_core::controller::{Controller, Weight};
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::evaluate::{Evaluator, Pose};
use nimble_curve_core::ops::carry::NameMap;
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::{NodeId, OpValue, TransformOp};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Space, UpAxis};
use nimble_curve_core::value::Value;
use nimble_curve_formats::name_map::read_name_map;
use nimble_curve_formats::{Saving, write};
use serde_json::Value as Json;
use tempfile::{TempDir, tempdir};

use crate::common::{degrees_between, fail, relative, run, sample, scene, succeed, values, world_places};

fn text(path: &Path) -> String {
    path.to_str().unwrap().to_owned()
}

fn bramble() -> String {
    text(&sample("bramble.ncurve"))
}

fn stilt() -> String {
    text(&sample("stilt.ncurve"))
}

fn save(scene: &Scene, path: &Path) {
    write(scene, path, &Saving::default()).unwrap();
}

/// A folder with the map that the program proposes.
fn with_map(target: &str) -> TempDir {
    let folder = tempdir().unwrap();
    succeed(folder.path(), &["map", &bramble(), target, "-o", "map.toml"]);
    folder
}

/// Carries with more arguments, and returns the result and what was printed as JSON.
fn carried(at: &Path, source: &str, onto: &str, more: &[&str]) -> (Scene, Json) {
    let mut arguments = vec!["carry", source, "--target", onto, "-o", "out.ncurve", "--json"];
    arguments.extend(more);
    let printed = succeed(at, &arguments);
    (scene(&at.join("out.ncurve")), serde_json::from_str(&printed).unwrap())
}

fn entries<'a>(json: &'a Json, fate: &str) -> Vec<&'a Json> {
    json["entries"].as_array().unwrap().iter().filter(|entry| entry["fate"] == fate).collect()
}

const HALVES: std::ops::RangeInclusive<i64> = 2..=194;

/// The largest difference of pairs' world rotations relative to rest, in degrees, at every half frame.
fn worst(before: &Scene, after: &Scene, map: &NameMap) -> (f64, String) {
    let frames: Vec<f64> = HALVES.map(|half| half as f64 / 2.0).collect();
    worst_at(before, after, map, &frames)
}

/// The same at some frames of the source.
fn worst_at(before: &Scene, after: &Scene, map: &NameMap, frames: &[f64]) -> (f64, String) {
    let factor = after.rate.fps() / before.rate.fps();
    let there: Vec<f64> = frames.iter().map(|frame| frame * factor).collect();
    // Compared along the same axes.
    let (before, _) = in_space(before, &after.space);
    let (a, b) = (relative(&before, 0, frames), relative(after, after.takes.len() - 1, &there));
    let ends = map.chains.iter().map(|chain| (chain.source.last().unwrap(), chain.target.last().unwrap()));
    let pairs = map.nodes.iter().map(|pair| (&pair.source, &pair.target)).chain(ends);
    let mut worst = (0.0, String::new());
    for (from, onto) in pairs {
        for (p, q) in a[without_namespace(from)].iter().zip(&b[without_namespace(onto)]) {
            let off = degrees_between(*p, *q);
            if off > worst.0 {
                worst = (off, format!("{from} → {onto}"));
            }
        }
    }
    worst
}

/// All instants at which a node's rotation has keys, on any layer.
/// The key times by which each node turns: of its rotations, and of the weights of layers that fade.
fn key_times(scene: &Scene, take: usize) -> HashMap<String, BTreeSet<Ticks>> {
    let mut times: HashMap<String, BTreeSet<Ticks>> = HashMap::new();
    let take = &scene.takes[take];
    for (layer, track) in take.tracks().filter(|(_, track)| track.target.property == "rotation") {
        let name = &scene.rigs[0].node(track.target.node).unwrap().name;
        let own = times.entry(without_namespace(name).to_owned()).or_default();
        own.extend(track.controller.key_times(take.range));
        if let Weight::Curve(weight) = &take.layers[layer].weight {
            own.extend(weight.keys().iter().map(|key| key.time));
        }
    }
    times
}

#[test]
fn the_authored_take_carries_with_the_map_as_it_is_proposed() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let map = read_name_map(&at.join("map.toml")).unwrap();
    let (after, json) = carried(at, &bramble(), &stilt(), &["--map", "map.toml"]);
    let before = scene(&sample("bramble.ncurve"));
    // The tail's samples are compared at the samples, whole frames; all else at halves, too.
    let but_tail = NameMap {
        chains: map.chains.iter().filter(|chain| chain.target != ["Stub"]).cloned().collect(),
        ..map.clone()
    };
    let (off, place) = worst(&before, &after, &but_tail);
    assert!(off <= 0.1, "{place} is off by {off}");
    assert!(json["world_error"]["largest"].as_f64().unwrap() <= 0.1);
    // Layers stay layers.
    let layers = |scene: &Scene| -> Vec<String> {
        scene.takes[0]
            .layers
            .iter()
            .map(|layer| format!("{} {:?} {:?} {}", layer.name, layer.mode, layer.weight, layer.muted))
            .collect()
    };
    assert_eq!(layers(&before), layers(&after));
    // Nothing is lost in silence: all that did not come over is named with its reason.
    let left: BTreeSet<&str> =
        entries(&json, "left-out").iter().map(|e| e["channel"].as_str().unwrap()).collect();
    let expected =
        ["chest:scale", "face:gaze", "face:line", "face:whiskers"].map(|name| format!("courier:{name}"));
    assert_eq!(left, expected.iter().map(String::as_str).collect());
    assert_eq!(
        json["entries"].as_array().unwrap().iter().filter(|e| e["before"].as_u64() > Some(0)).count() + 1,
        before.takes[0].tracks().count(),
        "one entry a track; forearm_r is a constant without keys"
    );
    // The face comes over in the ranges of the other.
    let smile = |scene: &Scene, node: &str, name: &str| {
        values(scene, node, name, [12.0 * scene.rate.fps() / 24.0].into_iter()).remove(0)
    };
    let (Value::Number(a), Value::Number(b)) =
        (smile(&before, "courier:face", "smile"), smile(&after, "Mask", "Smile"))
    else {
        panic!()
    };
    assert!((b - 100.0 * a).abs() < 1e-9 && a > 0.5, "{a} {b}");
    // The travel of the root, which has no partner, goes into the hips.
    let place = |scene: &Scene, node: &str, frame: f64| {
        let Value::Vector(v) = values(scene, node, "translation", std::iter::once(frame)).remove(0) else {
            panic!()
        };
        v * scene.space.metres_per_unit
    };
    let (root, hips) = (place(&before, "courier:root", 97.0), place(&before, "courier:hips", 97.0));
    let pelvis = place(&after, "Pelvis", 97.0 * after.rate.fps() / 24.0);
    // By the legs, from the hips to the lowest joint.
    let scale = (0.92 - 0.01) / (0.34 - 0.005);
    assert!((pelvis.z + (root.y + hips.y) * scale).abs() < 1e-9, "{pelvis} {root} {hips}");
}

/// Curves that a fit made are fitted anew on the other rig, where rotations in the world are held to the tolerance, as errors
/// along chains of joints add up: uniformly closer fits of the carried samples that reach that need far more keys.
#[test]
fn fitted_keys_are_fitted_anew_on_another_rig() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let wade = text(&sample("bramble_wade.bvh"));
    std::fs::copy(sample("bramble_to_stilt.toml"), at.join("map.toml")).unwrap();
    let keys = |scene: &Scene| -> usize {
        scene.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum()
    };
    succeed(at, &["unbake", &wade, "--unit", "cm", "-o", "keyed.ncurve", "--no-other-tolerances"]);
    let keyed = scene(&at.join("keyed.ncurve"));
    let (after, _) = carried(at, "keyed.ncurve", &stilt(), &["--map", "map.toml", "--tolerance", "0.1deg"]);
    let map = read_name_map(&at.join("map.toml")).unwrap();
    let frames: Vec<f64> = (0..=960 * 2).map(|half| f64::from(half) / 2.0).collect();
    let (off, who) = worst_at(&keyed, &after, &map, &frames);
    let carried_keys = keys(&after);
    println!("{} keys became {carried_keys}; off by {off:.4} deg in the world ({who})", keys(&keyed));
    assert!(off <= 0.1 * (1.0 + 1e-6), "{who}: {off}");
    assert!(carried_keys as f64 <= 1.3 * keys(&keyed) as f64, "{carried_keys}");
    // The samples carried, and fitted as close as a third of that all over: more keys, and farther off.
    carried(at, &wade, &stilt(), &["--map", "map.toml", "--unit", "cm"]);
    succeed(
        at,
        &["unbake", "out.ncurve", "-o", "close.ncurve", "--tolerance", "0.02deg", "--no-other-tolerances"],
    );
    let close = scene(&at.join("close.ncurve"));
    let (farther, _) = worst_at(&keyed, &close, &map, &frames);
    assert!(keys(&close) > carried_keys && farther > off, "{} keys, {farther}", keys(&close));
}

/// A capture that was lost for a while, held, and goes on elsewhere from one frame to the next: but for that frame all is fitted anew.
#[test]
fn what_leaps_is_fitted_anew_on_both_sides() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let file = std::fs::read_to_string(sample("bramble_wade.bvh")).unwrap();
    let mut lines: Vec<&str> = file.lines().collect();
    let first = lines.iter().position(|line| line.starts_with("Frame Time")).unwrap() + 1;
    for frame in 300..360 {
        lines[first + frame] = lines[first + 299];
    }
    std::fs::write(at.join("held.bvh"), lines.join("\n") + "\n").unwrap();
    std::fs::copy(sample("bramble_to_stilt.toml"), at.join("map.toml")).unwrap();
    let keys = |scene: &Scene| -> usize {
        scene.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum()
    };
    succeed(at, &["unbake", "held.bvh", "--unit", "cm", "-o", "keyed.ncurve", "--no-other-tolerances"]);
    let keyed = scene(&at.join("keyed.ncurve"));
    let (after, _) = carried(at, "keyed.ncurve", &stilt(), &["--map", "map.toml", "--tolerance", "0.1deg"]);
    let map = read_name_map(&at.join("map.toml")).unwrap();
    let frames: Vec<f64> = (0..=960 * 8).map(|eighth| f64::from(eighth) / 8.0).collect();
    let (off, who) = worst_at(&keyed, &after, &map, &frames);
    println!("{} keys became {}; off by {off:.4} deg in the world ({who})", keys(&keyed), keys(&after));
    assert!(off <= 0.1 * (1.0 + 1e-6), "{who}: {off}");
    // With keys of all axes wherever one had some it would be a third more.
    assert!(keys(&after) as f64 <= 1.25 * keys(&keyed) as f64, "{}", keys(&after));
}

#[test]
fn keys_grow_little_where_orders_and_axes_change() {
    let folder = with_map(&stilt());
    let plain = ["--map", "map.toml", "--tolerance", "0.1deg", "--tangents", "plain"];
    let (after, _) = carried(folder.path(), &bramble(), &stilt(), &plain);
    let before = scene(&sample("bramble.ncurve"));
    let map = read_name_map(&folder.path().join("map.toml")).unwrap();
    let (own, made) = (key_times(&before, 0), key_times(&after, 0));
    let (mut all_before, mut all_after) = (0, 0);
    for pair in &map.nodes {
        let (Some(a), Some(b)) = (own.get(&pair.source), made.get(&pair.target)) else { continue };
        assert!(a.is_subset(b), "{}: its own key times stay", pair.source);
        (all_before, all_after) = (all_before + a.len(), all_after + b.len());
        println!("{}: {} → {}", pair.source, a.len(), b.len());
    }
    assert!(all_after as f64 <= 1.5 * all_before as f64, "{all_before} key times became {all_after}");
}

#[test]
fn handles_of_their_own_length_save_the_keys_that_plain_ones_need_between() {
    let folder = with_map(&stilt());
    let at = folder.path();
    // By themselves, where plain ones would need more than half as many keys again.
    let (after, json) = carried(at, &bramble(), &stilt(), &["--map", "map.toml"]);
    let before = scene(&sample("bramble.ncurve"));
    let map = read_name_map(&at.join("map.toml")).unwrap();
    let (own, made) = (key_times(&before, 0), key_times(&after, 0));
    let mut added = 0;
    for pair in &map.nodes {
        let (Some(a), Some(b)) = (own.get(&pair.source), made.get(&pair.target)) else { continue };
        assert!(a.is_subset(b), "{}: its own key times stay", pair.source);
        assert!(2 * b.len() <= 3 * a.len(), "{}: {} became {}", pair.source, a.len(), b.len());
        added += b.len() - a.len();
    }
    let (plain, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--tangents", "plain"]);
    let made = key_times(&plain, 0);
    let plainly: usize = map
        .nodes
        .iter()
        .filter_map(|pair| Some(made.get(&pair.target)?.len() - own.get(&pair.source)?.len()))
        .sum();
    assert!(2 * added <= plainly, "{added} key times added, {plainly} with plain handles");
    assert!(json["world_error"]["largest"].as_f64().unwrap() <= 0.1);
    let but_tail = NameMap {
        chains: map.chains.iter().filter(|chain| chain.target != ["Stub"]).cloned().collect(),
        ..map
    };
    let (off, place) = worst(&before, &after, &but_tail);
    assert!(off <= 0.1, "{place} is off by {off}");
}

/// Stilt with its arms lowered at rest, and the axes of all joints turned along the bones or anyhow.
fn turned_stilt() -> Scene {
    let mut stilt = scene(&sample("stilt.ncurve"));
    let ids: Vec<NodeId> = stilt.rigs[0].nodes().map(|(id, _)| id).collect();
    for (index, id) in ids.into_iter().enumerate() {
        let node = stilt.rigs[0].node_mut(id).unwrap();
        let lowered = match node.name.as_str() {
            "L_Wing" => DQuat::from_rotation_z(-0.8),
            "R_Wing" => DQuat::from_rotation_z(0.8),
            _ => DQuat::from_rotation_x(0.21 * index as f64) * DQuat::from_rotation_y(0.4),
        };
        let step = |name: &str, q: DQuat| TransformOp {
            name: name.into(),
            value: OpValue::Orient(q),
            inverse: false,
        };
        node.transform.insert(1, step("before", lowered));
        node.transform.insert(3, step("after", DQuat::from_rotation_z(0.3)));
    }
    stilt
}

#[test]
fn other_rest_poses_and_joint_orientations_turn_alike_relative_to_rest() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    save(&turned_stilt(), &at.join("turned.ncurve"));
    succeed(at, &["map", &bramble(), "turned.ncurve", "-o", "map.toml"]);
    let map = read_name_map(&at.join("map.toml")).unwrap();
    assert!(map.nodes.len() + map.chains.len() >= 20, "{map:?}");
    let (after, json) =
        carried(at, &bramble(), "turned.ncurve", &["--map", "map.toml", "--match-poses", "off"]);
    let before = scene(&sample("bramble.ncurve"));
    let but_tail = NameMap {
        chains: map.chains.iter().filter(|chain| chain.target != ["Stub"]).cloned().collect(),
        ..map
    };
    let (off, place) = worst(&before, &after, &but_tail);
    assert!(off <= 0.1, "{place} is off by {off}");
    assert!(json["world_error"]["largest"].as_f64().unwrap() <= 0.1);
    let (own, made) = (key_times(&before, 0), key_times(&after, 0));
    for pair in &but_tail.nodes {
        let (Some(a), Some(b)) = (own.get(&pair.source), made.get(&pair.target)) else { continue };
        // The left arm's is a layer that fades, whose angles hang on its weight: among these axes a little more.
        let most = if pair.source == "arm_l" { 1.75 } else { 1.5 };
        assert!(b.len() as f64 <= most * a.len() as f64, "{}: {} became {}", pair.source, a.len(), b.len());
    }
    // Said, too: the arms do not correspond.
    let off = [
        "carry",
        &bramble(),
        "--target",
        "turned.ncurve",
        "--map",
        "map.toml",
        "--match-poses",
        "off",
        "--dry-run",
    ];
    let said = succeed(at, &off);
    assert!(said.contains("elsewhere in the two reference poses"), "{said}");
    // Where they are made to, limbs point as they do in the source, those that do not move, too.
    let (matched, _) = carried(at, &bramble(), "turned.ncurve", &["--map", "map.toml", "--replace"]);
    let frames: Vec<f64> = (1..97).map(f64::from).collect();
    let others: Vec<f64> =
        frames.iter().map(|frame| frame * matched.rate.fps() / before.rate.fps()).collect();
    let (from, onto) = (world_places(&before, 0, &frames), world_places(&matched, 0, &others));
    for (own, other) in [
        (["courier:thigh_l", "courier:shin_l"], ["L_Hip", "L_Knee"]),
        (["courier:shin_l", "courier:foot_l"], ["L_Knee", "L_Hock"]),
        (["courier:shin_r", "courier:foot_r"], ["R_Knee", "R_Hock"]),
        (["courier:forearm_r", "courier:hand_r"], ["R_Elbow", "R_Pinion"]),
    ] {
        for at in 0..frames.len() {
            let (a, b) = (from[own[1]][at] - from[own[0]][at], onto[other[1]][at] - onto[other[0]][at]);
            // What is up along z here is up along y there.
            let angle = a.angle_between(DVec3::new(b.x, -b.z, b.y)).to_degrees();
            assert!(angle <= 0.15, "{own:?} points {angle} deg elsewhere at {}", frames[at]);
        }
    }
}

/// Bramble in another space, with other names, without takes.
fn twin(space: Space) -> Scene {
    let (mut twin, _) = in_space(&scene(&sample("bramble.ncurve")), &space);
    twin.takes.clear();
    let ids: Vec<NodeId> = twin.rigs[0].nodes().map(|(id, _)| id).collect();
    for id in ids {
        let node = twin.rigs[0].node_mut(id).unwrap();
        node.name = format!("Otter_{}", without_namespace(&node.name).to_uppercase());
        node.locked.clear();
    }
    twin
}

#[test]
fn a_twin_in_another_space_gets_every_key_exactly_and_gives_it_back() {
    for (up, metres) in [(UpAxis::Y, 1.0), (UpAxis::X, 0.01), (UpAxis::Z, 0.0254)] {
        let folder = tempdir().unwrap();
        let at = folder.path();
        let space = Space { up, metres_per_unit: metres, ..Space::METRES_Y_UP };
        save(&twin(space), &at.join("twin.ncurve"));
        let pairs = scene(&sample("bramble.ncurve")).rigs[0]
            .nodes()
            .map(|(_, node)| {
                let bare = without_namespace(&node.name);
                format!("\"{}\" = \"Otter_{}\"\n", node.name, bare.to_uppercase())
            })
            .collect::<String>();
        std::fs::write(at.join("map.toml"), format!("[nodes]\n{pairs}")).unwrap();
        let mut bare = scene(&sample("bramble.ncurve"));
        bare.takes.clear();
        for id in bare.rigs[0].nodes().map(|(id, _)| id).collect::<Vec<_>>() {
            bare.rigs[0].node_mut(id).unwrap().locked.clear();
        }
        save(&bare, &at.join("bare.ncurve"));
        let (there, json) = carried(at, &bramble(), "twin.ncurve", &["--map", "map.toml"]);
        for fate in ["refitted", "sampled", "left-out"] {
            assert_eq!(entries(&json, fate).len(), 0, "{up} {metres}: {:?}", entries(&json, fate));
        }
        // What the exact change of space gives, to the last bits.
        let (expected, _) = in_space(&scene(&sample("bramble.ncurve")), &space);
        assert_same(&expected, &there, 4.0);
        let back: String = pairs
            .lines()
            .map(|line| {
                let (a, b) = line.split_once(" = ").unwrap();
                format!("{b} = {a}\n")
            })
            .collect();
        std::fs::write(at.join("back.toml"), format!("[nodes]\n{back}")).unwrap();
        save(&there, &at.join("there.ncurve"));
        let (again, json) = carried(at, "there.ncurve", "bare.ncurve", &["--map", "back.toml"]);
        assert_eq!(entries(&json, "refitted").len(), 0);
        assert_same(&scene(&sample("bramble.ncurve")), &again, 8.0);
    }
}

/// The same tracks in the same order; numbers agree within so many units in the last place of the largest beside them.
fn assert_same(expected: &Scene, found: &Scene, ulps: f64) {
    let numbers = |controller: &Controller| -> Vec<f64> {
        let text = format!("{controller:?}");
        let split = text.split(|c: char| !(c.is_ascii_digit() || ".-+e".contains(c)));
        // Whole numbers are ticks.
        split.filter(|word| word.contains('.')).filter_map(|word| word.parse::<f64>().ok()).collect()
    };
    let (a, b) = (expected.takes[0].tracks(), found.takes[0].tracks());
    for ((layer, x), (other, y)) in a.zip(b) {
        assert_eq!((layer, &x.target.property), (other, &y.target.property));
        assert_eq!(x.controller.type_name(), y.controller.type_name());
        assert_eq!(x.controller.key_count(), y.controller.key_count(), "{x:?} {y:?}");
        let (x, y) = (numbers(&x.controller), numbers(&y.controller));
        assert_eq!(x.len(), y.len());
        let size = x.iter().fold(1e-3_f64, |size, number| size.max(number.abs()));
        for (p, q) in x.iter().zip(&y) {
            assert!((p - q).abs() <= ulps * f64::EPSILON * size, "{p} {q}");
        }
    }
    assert_eq!(expected.takes[0].tracks().count(), found.takes[0].tracks().count());
}

#[test]
fn a_mirror_changes_sides_and_twice_is_nothing() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut bare = scene(&sample("bramble.ncurve"));
    bare.takes.clear();
    save(&bare, &at.join("bare.ncurve"));
    std::fs::write(at.join("mirror.toml"), "mirror = \"x\"\n").unwrap();
    let (mirrored, _) = carried(at, &bramble(), "bare.ncurve", &["--map", "mirror.toml"]);
    let before = scene(&sample("bramble.ncurve"));
    let frames: Vec<f64> = HALVES.map(|half| half as f64 / 2.0).collect();
    let (own, seen) = (relative(&before, 0, &frames), relative(&mirrored, 0, &frames));
    let reflected = |q: DQuat| DQuat::from_xyzw(q.x, -q.y, -q.z, q.w);
    let mut moved = 0.0_f64;
    for (name, other) in
        [("arm_r", "arm_l"), ("arm_l", "arm_r"), ("hand_l", "hand_r"), ("head", "head"), ("toes_r", "toes_l")]
    {
        for (p, q) in own[name].iter().zip(&seen[other]) {
            assert!(degrees_between(reflected(*p), *q) < 0.1, "{name}");
            moved = moved.max(degrees_between(*p, DQuat::IDENTITY));
        }
    }
    assert!(moved > 60.0, "the arms do move");
    save(&mirrored, &at.join("mirrored.ncurve"));
    let (again, _) = carried(at, "mirrored.ncurve", "bare.ncurve", &["--map", "mirror.toml"]);
    let twice = relative(&again, 0, &frames);
    for (name, all) in &own {
        for (p, q) in all.iter().zip(&twice[name]) {
            assert!(degrees_between(*p, *q) < 0.1, "{name}");
        }
    }
}

#[test]
fn turns_of_nodes_without_partner_go_into_those_below() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // The upper arm and the middle of the back are not mapped, though both move.
    let map = "[nodes]\nhips = \"Pelvis\"\nchest = \"Back5\"\nforearm_r = \"R_Elbow\"\nhead = \"Skull\"\n";
    std::fs::write(at.join("map.toml"), map).unwrap();
    let (after, json) = carried(at, &bramble(), &stilt(), &["--map", "map.toml"]);
    let before = scene(&sample("bramble.ncurve"));
    let map = read_name_map(&at.join("map.toml")).unwrap();
    let (off, place) = worst(&before, &after, &map);
    assert!(off <= 0.1, "{place} is off by {off}");
    let folded = |channel: &str| {
        let all = json["entries"].as_array().unwrap();
        all.iter().find(|e| e["channel"] == channel).unwrap()["to"].as_str().unwrap_or("nowhere").to_owned()
    };
    assert_eq!(folded("courier:arm_r:rotation"), "R_Elbow:rotation");
    assert_eq!(folded("courier:spine_02:rotation"), "Back5:rotation");
}

#[test]
fn a_twist_shared_by_several_joints_keeps_its_keys() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let source = scene(&sample("cart.ncurve"));
    let wheel = (source.rigs[0].nodes().map(|(_, node)| node.name.clone()))
        .find(|name| name.contains("wheel"))
        .unwrap();
    // Three joints on one axle for one.
    let mut target = source.clone();
    target.takes.clear();
    let (id, node) =
        target.rigs[0].nodes().find(|(_, node)| node.name == wheel).map(|(id, n)| (id, n.clone())).unwrap();
    let mut last = id;
    for part in ["second", "third"] {
        last = target.rigs[0]
            .add(Some(last), nimble_curve_core::rig::Node { name: part.into(), ..node.clone() })
            .unwrap();
    }
    save(&target, &at.join("axle.ncurve"));
    std::fs::write(at.join("map.toml"), format!("[nodes]\n{wheel} = [\"{wheel}\", \"second\", \"third\"]\n"))
        .unwrap();
    let (after, json) = carried(at, &text(&sample("cart.ncurve")), "axle.ncurve", &["--map", "map.toml"]);
    let frames: Vec<f64> = (0..200).map(|half| f64::from(half) / 2.0).collect();
    let (own, made) = (relative(&source, 0, &frames), relative(&after, 0, &frames));
    for (p, q) in own[&wheel].iter().zip(&made["third"]) {
        assert!(degrees_between(*p, *q) < 1e-6);
    }
    let times = key_times(&after, 0);
    for part in [&wheel, "second", "third"] {
        assert_eq!(times[part], key_times(&source, 0)[&wheel], "{part}");
    }
    assert_eq!(entries(&json, "refitted").len(), 0, "parts of a turn about one axis are exact");
}

#[test]
fn selections_and_sets_take_what_they_name() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let moved = |more: &[&str]| -> BTreeSet<String> {
        let mut all = vec!["--map", "map.toml"];
        all.extend(more);
        let (after, _) = carried(at, &bramble(), &stilt(), &all);
        let addresses = Addresses::new(&after);
        after.takes[0].tracks().map(|(_, track)| addresses.property(&track.target)).collect()
    };
    assert_eq!(
        moved(&["--only", "@arms"]),
        ["L_Elbow:rotation", "L_Wing:rotation", "R_Elbow:rotation", "R_Wing:rotation"]
            .map(str::to_owned)
            .into()
    );
    assert_eq!(
        moved(&["--only", "@wings", "--except", "R_*"]),
        ["L_Elbow:rotation", "L_Wing:rotation"].map(str::to_owned).into()
    );
    assert_eq!(moved(&["--only", "face:smile"]), ["Mask:Smile".to_owned()].into());
    let wrong = fail(
        at,
        &["carry", &bramble(), "--target", &stilt(), "--map", "map.toml", "--only", "@arm", "-o", "x.ncurve"],
    );
    assert!(wrong.contains("did you mean '@arms'"), "{wrong}");
    let wrong = fail(
        at,
        &["carry", &bramble(), "--target", &stilt(), "--map", "map.toml", "--only", "hed", "-o", "x.ncurve"],
    );
    assert!(wrong.contains("matches 'hed'") && wrong.contains("head"), "{wrong}");
    assert!(!at.join("x.ncurve").exists());
}

#[test]
fn locked_channels_are_respected_and_named() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let mut locked = scene(&sample("stilt.ncurve"));
    for id in locked.rigs[0].nodes().map(|(id, _)| id).collect::<Vec<_>>() {
        let node = locked.rigs[0].node_mut(id).unwrap();
        match node.name.as_str() {
            "R_Wing" => node.locked.push("rotation".into()),
            "Pelvis" => node.locked.push("translation.z".into()),
            _ => {}
        }
    }
    save(&locked, &at.join("locked.ncurve"));
    let (after, json) = carried(at, &bramble(), "locked.ncurve", &["--map", "map.toml"]);
    let notes: Vec<String> = json["entries"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|entry| entry["note"].as_str().is_some_and(|note| note.contains("locked")))
        .map(|entry| entry["channel"].as_str().unwrap().to_owned())
        .collect();
    assert!(
        notes.contains(&"courier:arm_r:rotation".to_owned())
            && notes.contains(&"courier:hips:translation".to_owned()),
        "{notes:?}"
    );
    let addresses = Addresses::new(&after);
    for (_, track) in after.takes[0].tracks() {
        match addresses.property(&track.target).as_str() {
            "R_Wing:rotation" => panic!("it is locked"),
            "Pelvis:translation" => assert!(!track.controller.drives(2)),
            _ => {}
        }
    }
    let strict = run(
        at,
        &[
            "carry",
            &bramble(),
            "--target",
            "locked.ncurve",
            "--map",
            "map.toml",
            "-o",
            "strict.ncurve",
            "--strict",
        ],
    );
    assert_eq!(strict.status.code(), Some(1));
    assert!(!at.join("strict.ncurve").exists(), "--strict writes nothing");
}

#[test]
fn numbers_follow_gains_and_curves_of_values() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let map = "[nodes]\nhead = \"Skull\"\n[numbers]\n\"face:smile\" = { to = \"Mask:Smile\", gain = 50.0, offset = 10.0 }\n\
        \"face:blink\" = { to = \"Mask:Blink\", points = [[0.0, 0.0], [0.5, 20.0], [1.0, 100.0]] }\n";
    std::fs::write(at.join("map.toml"), map).unwrap();
    let (after, _) =
        carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--tolerance", "0.1deg,0.1mm,0.01"]);
    let before = scene(&sample("bramble.ncurve"));
    let numbers = |scene: &Scene, node: &str, name: &str| -> Vec<f64> {
        let factor = scene.rate.fps() / 24.0;
        let frames = (4..388).map(|quarter| f64::from(quarter) / 4.0 * factor);
        values(scene, node, name, frames)
            .into_iter()
            .map(|v| if let Value::Number(v) = v { v } else { panic!() })
            .collect()
    };
    for (a, b) in numbers(&before, "courier:face", "smile").iter().zip(numbers(&after, "Mask", "Smile")) {
        assert!((50.0 * a + 10.0 - b).abs() < 1e-9);
    }
    let bent = |v: f64| if v < 0.5 { 40.0 * v } else { 20.0 + 160.0 * (v - 0.5) };
    for (a, b) in numbers(&before, "courier:face", "blink").iter().zip(numbers(&after, "Mask", "Blink")) {
        assert!((bent(*a) - b).abs() < 0.011, "{a} {b}");
    }
}

#[test]
fn a_reference_pose_stands_in_for_the_rest_pose() {
    let folder = with_map(&stilt());
    let at = folder.path();
    // At frame 25 the otter stands as the stork does at rest: then nothing is turned there.
    let (after, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--source-pose", "25"]);
    let rest = crate::common::world(&after, None, &[0.0]);
    let there = crate::common::world(&after, Some(0), &[25.0 * after.rate.fps() / 24.0]);
    for (name, all) in &there {
        assert!(degrees_between(all[0], rest[name][0]) < 0.1, "{name}");
    }
    // The same by name of the take, and from a file.
    let (named, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--source-pose", "greet@25"]);
    assert_eq!(named.takes, after.takes);
    succeed(at, &["convert", &bramble(), "pose.ncurve", "--frames", "25:25"]);
    let (filed, _) =
        carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--source-pose", "pose.ncurve"]);
    let there = crate::common::world(&filed, Some(0), &[25.0 * after.rate.fps() / 24.0]);
    for (name, all) in &there {
        assert!(degrees_between(all[0], rest[name][0]) < 0.1, "{name}");
    }
    let wrong = fail(
        at,
        &[
            "carry",
            &bramble(),
            "--target",
            &stilt(),
            "--map",
            "map.toml",
            "--source-pose",
            "great@25",
            "-o",
            "x.ncurve",
        ],
    );
    assert!(wrong.contains("did you mean 'greet'"), "{wrong}");
}

#[test]
fn one_pose_goes_over_as_one_key_each() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let (after, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--pose", "25", "--at", "10"]);
    let before = scene(&sample("bramble.ncurve"));
    let take = &after.takes[0];
    assert_eq!(take.range.first, take.range.last);
    assert_eq!(after.rate.frame(take.range.first), 10.0);
    let (before, _) = in_space(&before, &after.space);
    let (a, b) = (relative(&before, 0, &[25.0]), relative(&after, 0, &[10.0]));
    for (from, onto) in [("arm_r", "R_Wing"), ("head", "Skull"), ("chest", "Back5")] {
        assert!(degrees_between(a[from][0], b[onto][0]) < 0.01, "{from}");
    }
    for (_, track) in take.tracks() {
        assert!(track.controller.key_count() <= 3, "{:?}", track.controller.type_name());
    }
}

#[test]
fn flattened_layers_become_one_and_dry_runs_write_nothing() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let (flat, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--flatten"]);
    assert_eq!(flat.takes[0].layers.len(), 1);
    let (layered, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml"]);
    let frames: Vec<f64> = HALVES.map(|half| half as f64 / 2.0).collect();
    let (a, b) = (relative(&flat, 0, &frames), relative(&layered, 0, &frames));
    for (name, all) in &a {
        for (p, q) in all.iter().zip(&b[name]) {
            assert!(degrees_between(*p, *q) < 0.3, "{name}: {}", degrees_between(*p, *q));
        }
    }
    let names = crate::common::names(at);
    let said = succeed(at, &["carry", &bramble(), "--target", &stilt(), "--map", "map.toml", "--dry-run"]);
    assert!(said.contains("left arm") && said.contains("locked in the target"), "{said}");
    assert_eq!(crate::common::names(at), names, "a dry run writes nothing");
}

#[test]
fn curves_go_through_standard_input_and_output() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let (expected, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml"]);
    let piped = assert_cmd::Command::cargo_bin("nimble-curve")
        .unwrap()
        .current_dir(at)
        .args(["carry", "-", "--target", &stilt(), "--map", "map.toml", "-o", "-"])
        .write_stdin(std::fs::read(sample("bramble.ncurve")).unwrap())
        .output()
        .unwrap();
    assert!(piped.status.success(), "{}", String::from_utf8_lossy(&piped.stderr));
    std::fs::write(at.join("piped.ncurve"), &piped.stdout).unwrap();
    assert_eq!(scene(&at.join("piped.ncurve")).takes, expected.takes);
    assert!(
        String::from_utf8_lossy(&piped.stderr).contains("in the world: rotations"),
        "the report goes beside it"
    );
}

#[test]
fn a_left_arm_that_does_not_come_over_is_seen_at_a_glance() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let map = std::fs::read_to_string(at.join("map.toml")).unwrap();
    let without: String = map
        .lines()
        .filter(|line| {
            !line.contains("L_Wing")
                && !line.contains("L_Elbow")
                && !line.contains("L_Collar")
                && !line.contains("L_Pinion")
        })
        .map(|line| format!("{line}\n"))
        .collect();
    std::fs::write(at.join("map.toml"), without).unwrap();
    let said = succeed(at, &["carry", &bramble(), "--target", &stilt(), "--map", "map.toml", "--dry-run"]);
    let line = said.lines().find(|line| line.trim_start().starts_with("left arm")).unwrap();
    assert!(line.contains("did not come over") && line.contains("0 of 4"), "{said}");
}

#[test]
fn mistakes_in_a_map_are_one_line_each() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    for (map, said) in [
        ("[nodes]\nhipz = \"Pelvis\"\n", "did you mean"),
        ("[nodes]\nhips = \"Pelvis\"\nhead = \"Pelvis\"\n", "twice"),
        ("leave_out = [\"hips\"]\n[nodes]\nhips = \"Pelvis\"\n", "leaves it out"),
        ("[[chains]]\nfrom = [\"chest\", \"spine_01\"]\nto = [\"Back1\"]\n", "does not stand below"),
        ("[[chains]]\nfrom = []\nto = [\"Back1\"]\n", "needs nodes on both sides"),
        ("[nodes]\nneck = { to = [\"Throat1\", \"Throat2\"], parts = [1.0] }\n", "needs 2 parts"),
        ("[nodes]\nhips = \"Pelvis\"\n[numbers]\n\"face:grin\" = \"Mask:Smile\"\n", "no 'grin'"),
    ] {
        std::fs::write(at.join("map.toml"), map).unwrap();
        let line =
            fail(at, &["carry", &bramble(), "--target", &stilt(), "--map", "map.toml", "-o", "x.ncurve"]);
        assert!(line.contains(said), "{map}: {line}");
    }
}

#[test]
fn profiles_adapt_what_is_carried_and_converted() {
    let folder = with_map(&stilt());
    let at = folder.path();
    let (plain, _) = carried(at, &bramble(), &stilt(), &["--map", "map.toml", "--profile", "plain-curves"]);
    assert_eq!((plain.space.up, plain.space.metres_per_unit, plain.rate.fps()), (UpAxis::Z, 1.0, 24.0));
    assert_eq!(plain.takes[0].layers.len(), 1);
    for (_, node) in plain.rigs[0].nodes() {
        if let Some(OpValue::Rotate { order, .. }) = node.op("rotation").map(|op| op.value) {
            assert_eq!(order.name(), "xyz", "{}", node.name);
        }
    }
    let engine = "name = \"tiny\"\nlayers = false\ncurves = false\nrate = 30\n[names]\nnamespaces = false\ncharacters = \"\"\ncase = \"upper\"\nlength = 6\nunique = true\n";
    std::fs::write(at.join("tiny.toml"), engine).unwrap();
    succeed(at, &["convert", &bramble(), "tiny.ncurve", "--profile", "tiny.toml"]);
    let tiny = scene(&at.join("tiny.ncurve"));
    let names: BTreeSet<&str> = tiny.rigs[0].nodes().map(|(_, node)| node.name.as_str()).collect();
    assert_eq!(names.len(), tiny.rigs[0].len(), "names stay unique: {names:?}");
    let is_allowed = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_';
    assert!(names.iter().all(|name| name.len() <= 6 && name.chars().all(is_allowed)), "{names:?}");
    for (_, track) in tiny.takes[0].tracks() {
        assert!(
            matches!(
                track.controller,
                Controller::Samples(_) | Controller::Constant(_) | Controller::Discrete(_)
            ),
            "{}",
            track.controller.type_name()
        );
    }
    let wrong = fail(at, &["convert", &bramble(), "x.ncurve", "--profile", "no-such"]);
    assert!(wrong.contains("no-such"), "{wrong}");
}

#[test]
fn planted_feet_stay_where_they_were_planted() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let capture = text(&sample("bramble_wade.bvh"));
    let map = text(&sample("bramble_to_stilt.toml"));
    succeed(at, &["unbake", &capture, "-o", "wade.ncurve", "--no-other-tolerances"]);
    let (turned, _) = carried(at, "wade.ncurve", &stilt(), &["--map", &map]);
    let (held, json) = carried(at, "wade.ncurve", &stilt(), &["--map", &map, "--feet", "hold"]);
    assert!(
        json["notes"].as_array().unwrap().iter().any(|note| note.as_str().unwrap().contains("feet held"))
    );
    let feet = |scene: &Scene, names: [&str; 2]| -> Vec<[DVec3; 2]> {
        let at = names.map(|name| scene.rigs[0].nodes().position(|(_, node)| node.name == name).unwrap());
        let mut evaluator = Evaluator::new(scene, Some(&scene.takes[0]), 0).unwrap();
        let mut pose = Pose::default();
        (0..=960)
            .map(|frame| {
                evaluator.pose_at(scene.rate.ticks(frame).as_f64(), &mut pose);
                at.map(|at| pose.world[at].translation * scene.space.metres_per_unit)
            })
            .collect()
    };
    let source = feet(&scene(&at.join("wade.ncurve")), ["foot_l", "foot_r"]);
    let [turned, held] = [&turned, &held].map(|scene| feet(scene, ["L_Hock", "R_Hock"]));
    // The longest time in which a foot of the otter hardly moves: so does that of the stork.
    for side in 0..2 {
        let is_still =
            |frame: &usize| (source[frame + 1][side] - source[frame - 1][side]).length() * 60.0 < 0.01;
        let (mut best, mut run) = (Vec::new(), Vec::new());
        for frame in 1..960 {
            if is_still(&frame) {
                run.push(frame)
            } else {
                run.clear()
            }
            if run.len() > best.len() {
                best.clone_from(&run);
            }
        }
        assert!(best.len() > 20, "{} frames", best.len());
        let drift = |feet: &[[DVec3; 2]]| {
            let places = || best.iter().map(|frame| feet[*frame][side]);
            (places().fold(DVec3::NEG_INFINITY, DVec3::max) - places().fold(DVec3::INFINITY, DVec3::min))
                .length()
        };
        assert!(drift(&held) < 0.001, "{} mm", drift(&held) * 1000.0);
        assert!(drift(&turned) > drift(&held), "{} {}", drift(&turned), drift(&held));
    }
}

#[test]
fn parent_space_turns_beside_the_parent() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    save(&turned_stilt(), &at.join("turned.ncurve"));
    std::fs::write(at.join("map.toml"), "[nodes]\nhead = { to = \"Skull\", space = \"parent\" }\n").unwrap();
    let (after, _) = carried(at, &bramble(), "turned.ncurve", &["--map", "map.toml"]);
    let before = scene(&sample("bramble.ncurve"));
    // Beside the parent, in its axes, the head leaves its rest by the same turn.
    let local = |scene: &Scene, node: &str, parent: &str, take: Option<usize>, frame: f64| {
        let world = crate::common::world(scene, take, &[frame]);
        world[parent][0].conjugate() * world[node][0]
    };
    for frame in [5.0, 13.0, 30.5, 61.0] {
        let own = |take| local(&before, "courier:head", "courier:neck", take, frame);
        let made = |take| local(&after, "Skull", "Throat3", take, frame);
        // The change of up axis renames the source's axes: z up becomes y.
        let delta = own(Some(0)) * own(None).conjugate();
        let turned = DQuat::from_xyzw(delta.x, delta.z, -delta.y, delta.w);
        let found = made(Some(0)) * made(None).conjugate();
        assert!(degrees_between(turned, found) < 0.1, "{frame}");
    }
}

#[test]
fn guesses_are_pairs_where_that_is_asked_and_comments_otherwise() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    // Names that say nothing, below one that does: places are all there is.
    let rig = |word: &str, x: f64| {
        let node = |name: &str, parent: &str, y: f64| {
            format!(r#"{{"name": "{name}", "parent": "{parent}", "translation": [{x}, {y}, 0]}}"#)
        };
        format!(
            r#"{{"ncurve": 1, "rate": "24", "space": {{"metres_per_unit": 1, "up": "y", "handedness": "right"}},
                "rigs": [{{"name": "prop", "nodes": [{{"name": "prop", "translation": [0, 1, 0]}}, {}, {}]}}],
                "takes": []}}"#,
            node(&format!("{word}a"), "prop", 0.4),
            node(&format!("{word}b"), "prop", -0.5)
        )
    };
    std::fs::write(at.join("one.ncurve"), rig("kib", 0.3)).unwrap();
    std::fs::write(at.join("other.ncurve"), rig("zul", 0.42)).unwrap();
    let pairs = |more: &[&str]| {
        let mut arguments = vec!["map", "one.ncurve", "other.ncurve", "-o", "map.toml", "--replace"];
        arguments.extend(more);
        let printed = succeed(at, &arguments);
        (read_name_map(&at.join("map.toml")).unwrap().nodes.len(), printed)
    };
    let (few, said) = pairs(&[]);
    let (all, _) = pairs(&["--take-guesses"]);
    assert!(said.contains("guess"), "{said}");
    assert!(few < all && all == 3, "{few} {all}: {said}");
}

#[test]
fn a_rule_of_the_map_pairs_what_it_names_and_one_that_pairs_nothing_is_refused() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let mut other = twin(Space::METRES_Y_UP);
    let ids: Vec<NodeId> = other.rigs[0].nodes().map(|(id, _)| id).collect();
    for id in ids {
        let node = other.rigs[0].node_mut(id).unwrap();
        let bare = node.name.trim_start_matches("Otter_").to_lowercase();
        node.name = format!("vil.{bare}_bnd");
    }
    save(&other, &at.join("villain.ncurve"));
    let with = |text: &str| std::fs::write(at.join("map.toml"), text).unwrap();
    with("rename = [[\"*\", \"vil.*_bnd\"]]\nleave_out = [\"tail_*\"]\n");
    let (_, json) = carried(at, &bramble(), "villain.ncurve", &["--map", "map.toml"]);
    let source = scene(&sample("bramble.ncurve"));
    let kept = source.rigs[0].nodes().filter(|(_, node)| !without_namespace(&node.name).starts_with("tail_"));
    let count = kept.count() as u64;
    assert_eq!(json["pairs"].as_u64(), Some(count), "all but the tail");
    // The same rule holds for comparing.
    let compared = run(at, &["compare", &bramble(), "out.ncurve", "--map", "map.toml", "--json"]);
    let compared: Json = serde_json::from_slice(&compared.stdout).unwrap();
    assert_eq!(compared["pairs"].as_u64(), Some(count), "{compared}");
    with("rename = [[\"hero_*\", \"vil.*_bnd\"]]\n");
    let line = fail(
        at,
        &["carry", &bramble(), "--target", "villain.ncurve", "--map", "map.toml", "-o", "no.ncurve"],
    );
    assert!(line.contains("'hero_*'") && line.contains("pairs no node"), "{line}");
    with("rename = [[\"hero_*\", \"vil\"]]\n");
    let line = fail(
        at,
        &["carry", &bramble(), "--target", "villain.ncurve", "--map", "map.toml", "-o", "no.ncurve"],
    );
    assert!(line.contains("map.toml: rename: 'hero_*' and 'vil' do not have as many *"), "{line}");
}

/// A body whose legs lie on the ground says nothing of how long they are, and one at no height says nothing at all: what travel grows by is
/// said to be read from what it is read from.
#[test]
fn what_travel_grows_by_is_said_as_it_is() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let rig = |name: &str, hips: [f64; 3], foot: [f64; 3]| {
        let node = |name: &str, parent: Option<&str>, at: [f64; 3]| serde_json::json!({ "name": name, "parent": parent, "translation": at });
        serde_json::json!({
            "ncurve": 1, "rate": "24",
            "space": { "metres_per_unit": 1.0, "up": "y", "handedness": "right" },
            "rigs": [{ "name": "figure", "nodes": [
                node("hips", None, hips), node("thigh_l", Some("hips"), [0.1, 0.0, 0.0]), node("foot_l", Some("thigh_l"), foot),
                node("thigh_r", Some("hips"), [-0.1, 0.0, 0.0]), node("foot_r", Some("thigh_r"), foot),
            ] }],
            "takes": [{ "name": name, "range": [0, 24], "layers": [{ "name": "base", "tracks": [
                { "channel": "hips:translation", "controller": { "components": [
                    { "keys": [{ "frame": 0, "value": 0.0 }, { "frame": 24, "value": 2.0 }] }, { "keys": [] }, { "keys": [] },
                ] } },
            ] }] }],
        })
        .to_string()
    };
    let carried = |source: ([f64; 3], [f64; 3]), target: ([f64; 3], [f64; 3])| {
        std::fs::write(at.join("a.ncurve"), rig("a", source.0, source.1)).unwrap();
        std::fs::write(at.join("b.ncurve"), rig("b", target.0, target.1)).unwrap();
        succeed(at, &["map", "a.ncurve", "b.ncurve", "-o", "map.toml", "--replace"]);
        succeed(at, &["carry", "a.ncurve", "--target", "b.ncurve", "--map", "map.toml", "-o", "c.ncurve"])
    };
    let (stands, lies) = ([0.0, -1.0, 0.0], [0.0, 0.0, 1.0]);
    let said = carried(([0.0, 1.0, 0.0], stands), ([0.0, 2.0, 0.0], [0.0, -2.0, 0.0]));
    assert!(said.contains("travel is scaled by 2.000 (ratio of leg lengths)"), "{said}");
    let said = carried(([0.0, 1.0, 0.0], lies), ([0.0, 3.0, 0.0], lies));
    assert!(said.contains("travel is scaled by 3.000 (ratio of heights)"), "{said}");
    let said = carried(([0.0, 0.0, 0.0], lies), ([0.0, 3.0, 0.0], stands));
    assert!(
        said.contains(
            "travel is scaled by 1.000 (neither legs nor heights to compare: --scale says otherwise)"
        ),
        "{said}"
    );
}

/// Where names alone pair little, the first thing to do is said.
#[test]
fn what_a_map_would_bring_over_is_said() {
    let folder = tempfile::tempdir().unwrap();
    let (wade, otter) = (sample("bramble_wade.bvh"), sample("stilt.ncurve"));
    let (wade, otter) = (wade.to_str().unwrap(), otter.to_str().unwrap());
    std::fs::write(folder.path().join("hips.toml"), "[nodes]\nhips = \"Pelvis\"\n").unwrap();
    let said = succeed(
        folder.path(),
        &["carry", wade, "--target", otter, "--map", "hips.toml", "-o", "some.ncurve"],
    );
    assert!(!said.contains("likely partner"), "a map was given: {said}");
    let text = std::fs::read_to_string(wade).unwrap().replacen("ROOT hips", "ROOT Pelvis", 1);
    std::fs::write(folder.path().join("named.bvh"), text).unwrap();
    let said = succeed(folder.path(), &["carry", "named.bvh", "--target", otter, "-o", "some.ncurve"]);
    let line = said
        .lines()
        .find(|line| line.contains("of another name: nimble-curve map named.bvh"))
        .unwrap_or(&said);
    let count: usize = line.split_whitespace().next().unwrap().parse().unwrap();
    assert!((15..=25).contains(&count), "{said}");
    assert!(said.contains("not in the source"), "{said}");
}
