//! Placing on a take that is there: what lies elsewhere stays, what is placed is there, and seams do not pop.

use std::collections::HashMap;
use std::path::Path;

use glam::DQuat;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::scene::Scene;
use tempfile::{TempDir, tempdir};

use crate::common::{degrees_between, fail, run, sample, scene, succeed, world};

fn text(name: &str) -> String {
    sample(name).to_str().unwrap().to_owned()
}

/// A folder with stilt greeting, 97 frames, and the map.
fn greeting() -> TempDir {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["map", &text("bramble.ncurve"), &text("stilt.ncurve"), "-o", "map.toml"]);
    succeed(
        at,
        &[
            "carry",
            &text("bramble.ncurve"),
            "--target",
            &text("stilt.ncurve"),
            "--map",
            "map.toml",
            "--flatten",
            "-o",
            "base.ncurve",
        ],
    );
    folder
}

/// Carries frames 61 to 85 of the greeting again, onto the stork that greets already.
fn placed(at: &Path, more: &[&str]) -> (Scene, String) {
    let bramble = text("bramble.ncurve");
    let mut arguments = vec![
        "carry",
        &bramble,
        "--target",
        "base.ncurve",
        "--map",
        "map.toml",
        "--flatten",
        "--frames",
        "61:85",
        "-o",
        "out.ncurve",
    ];
    arguments.extend(more);
    let said = succeed(at, &arguments);
    (scene(&at.join("out.ncurve")), said)
}

fn at_frames(scene: &Scene, take: usize, frames: impl Iterator<Item = f64>) -> HashMap<String, Vec<DQuat>> {
    world(scene, Some(take), &frames.collect::<Vec<_>>())
}

fn quarters(first: i64, last: i64) -> impl Iterator<Item = f64> {
    (first * 4..=last * 4).map(|quarter| quarter as f64 / 4.0)
}

/// The largest difference of world rotations, in degrees.
fn apart(a: &HashMap<String, Vec<DQuat>>, b: &HashMap<String, Vec<DQuat>>) -> f64 {
    let mut worst = 0.0;
    for (name, all) in a {
        for (index, (p, q)) in all.iter().zip(&b[name]).enumerate() {
            let off = degrees_between(*p, *q);
            if off > worst {
                worst = off;
                println!("{name} {index}: {off}");
            }
        }
    }
    worst
}

/// The fastest turn of any joint from one sixteenth of a frame to the next, in degrees.
fn jolt(scene: &Scene, first: i64, last: i64) -> f64 {
    let frames = (first * 16..=last * 16).map(|part| part as f64 / 16.0);
    let all = at_frames(scene, 0, frames);
    let steps = all.values().flat_map(|turns| turns.windows(2).map(|pair| degrees_between(pair[0], pair[1])));
    steps.fold(0.0, f64::max)
}

#[test]
fn overwriting_replaces_its_range_and_nothing_else() {
    let folder = greeting();
    let at = folder.path();
    let base = scene(&at.join("base.ncurve"));
    for ease in [1, 6] {
        let (out, _) = placed(at, &["--place", "overwrite", "--at", "21", "--blend", &ease.to_string()]);
        assert_eq!(out.takes.len(), 1);
        let ranges = [(1, 21 - ease, 0), (45 + ease, 97, 0)];
        for (first, last, by) in ranges {
            let (old, new) = (
                at_frames(&base, 0, quarters(first, last)),
                at_frames(&out, 0, quarters(first + by, last + by)),
            );
            assert!(apart(&old, &new) < 0.05, "{first} to {last}: {}", apart(&old, &new));
        }
        let (source, new) = (at_frames(&base, 0, quarters(61, 85)), at_frames(&out, 0, quarters(21, 45)));
        assert!(apart(&source, &new) < 0.3, "{}", apart(&source, &new));
        // What it comes from is up to 150 degrees away: in one frame that is a fast turn, but no jump.
        assert!(jolt(&out, 17, 49) < if ease == 1 { 25.0 } else { 8.0 }, "{}", jolt(&out, 17, 49));
        for (_, track) in out.takes[0].tracks().filter(|(_, track)| track.target.property == "rotation") {
            for curve in track.controller.curves() {
                assert!(
                    curve
                        .keys()
                        .iter()
                        .all(|key| key.value_before.is_none_or(|v| (v - key.value).abs() < 1.0))
                );
            }
        }
    }
}

#[test]
fn a_ripple_makes_room() {
    let folder = greeting();
    let at = folder.path();
    let base = scene(&at.join("base.ncurve"));
    let (out, said) = placed(at, &["--place", "ripple", "--at", "21"]);
    assert!(said.contains("25 frames"), "{said}");
    assert_eq!(out.rate.frame(out.takes[0].range.last), 97.0 + 25.0);
    let (before, there) = (at_frames(&base, 0, quarters(1, 20)), at_frames(&out, 0, quarters(1, 20)));
    assert!(apart(&before, &there) < 0.05, "{}", apart(&before, &there));
    let (source, new) = (at_frames(&base, 0, quarters(61, 85)), at_frames(&out, 0, quarters(21, 45)));
    assert!(apart(&source, &new) < 0.3, "{}", apart(&source, &new));
    let (later, moved) = (at_frames(&base, 0, quarters(22, 97)), at_frames(&out, 0, quarters(47, 122)));
    assert!(apart(&later, &moved) < 0.05, "{}", apart(&later, &moved));
    // Clips and markers move, too.
    let letter = |scene: &Scene| {
        scene.takes[0].markers.iter().map(|m| (m.name.clone(), scene.rate.frame(m.time))).collect::<Vec<_>>()
    };
    assert!(
        letter(&base).contains(&("letter".into(), 81.0)) && letter(&out).contains(&("letter".into(), 106.0)),
        "{:?}",
        letter(&out)
    );
}

/// Rotation curves of all nodes by name: at each key that all three share, the turn.
fn poses(scene: &Scene) -> HashMap<String, HashMap<i64, DQuat>> {
    use nimble_curve_second::turn::of_angles;
    let mut poses = HashMap::new();
    for (_, track) in scene.takes[0].tracks().filter(|(_, track)| track.target.property == "rotation") {
        let Controller::Euler(euler) = &track.controller else { continue };
        let mut own = HashMap::new();
        for key in euler.curves[0].keys() {
            let same = |axis: usize| euler.curves[axis].keys().iter().find(|own| own.time == key.time);
            let angles: Option<Vec<f64>> = (0..3).map(|axis| same(axis).map(|key| key.value)).collect();
            let Some(angles) = angles else { continue };
            let turn = of_angles(euler.order.name(), [0, 1, 2].map(|axis| angles[axis].to_degrees()));
            own.insert(scene.rate.frame(key.time).round() as i64, turn);
        }
        let name = &scene.rigs[track.target.rig].node(track.target.node).unwrap().name;
        poses.insert(name.clone(), own);
    }
    poses
}

#[test]
fn merging_keeps_keys_of_both() {
    let folder = greeting();
    let at = folder.path();
    succeed(at, &["unbake", &text("bramble.ncurve"), "-o", "keyed.ncurve"]);
    let line = ["carry", "keyed.ncurve", "--target", &text("stilt.ncurve"), "--map", "map.toml", "--flatten"];
    succeed(at, &[&line[..], &["-o", "base.ncurve", "--replace"]].concat());
    let again = [
        "carry",
        "keyed.ncurve",
        "--target",
        "base.ncurve",
        "--map",
        "map.toml",
        "--flatten",
        "--frames",
        "61:85",
    ];
    let placed = |more: &[&str]| {
        let said = succeed(at, &[&again[..], &["-o", "out.ncurve", "--replace"], more].concat());
        (scene(&at.join("out.ncurve")), said)
    };
    let base = poses(&scene(&at.join("base.ncurve")));
    let alone = poses(&placed(&["--without-target-takes"]).0);
    let (out, said) = placed(&["--place", "merge", "--at", "21"]);
    let merged = poses(&out);
    let (mut fresh, mut stayed) = (0, 0);
    for (name, own) in merged.iter().filter(|(name, _)| base.contains_key(*name)) {
        for (frame, turn) in own {
            let (new, old) = (alone.get(name).and_then(|own| own.get(&(frame + 40))), base[name].get(frame));
            let new = new.filter(|_| (21..=45).contains(frame));
            let Some(expected) = new.or(old) else { continue };
            assert!(
                degrees_between(*turn, *expected) < 0.1,
                "{name} {frame}: {}",
                degrees_between(*turn, *expected)
            );
            fresh += usize::from(new.is_some());
            stayed += usize::from(new.is_none() && (21..=45).contains(frame));
        }
        for frame in base[name].keys() {
            assert!(own.contains_key(frame), "{name}: the key at {frame} is gone");
        }
    }
    assert!(fresh > 20 && stayed > 10, "{fresh} {stayed}");
    assert!(said.contains("stay") && !said.contains("between samples"), "{said}");
    // Samples have no keys that could stay.
    succeed(at, &["bake", "base.ncurve", "-o", "baked.ncurve"]);
    std::fs::rename(at.join("baked.ncurve"), at.join("base.ncurve")).unwrap();
    let why = fail(at, &[&again[..], &["--place", "merge", "--at", "21", "-o", "not.ncurve"]].concat());
    assert!(why.contains("unbake") && !at.join("not.ncurve").exists(), "{why}");
}

#[test]
fn filling_leaves_what_has_keys() {
    let folder = greeting();
    let at = folder.path();
    let base = scene(&at.join("base.ncurve"));
    let (same, said) = placed(at, &["--place", "unkeyed", "--at", "21"]);
    assert_eq!(same.takes[0].layers, base.takes[0].layers);
    assert!(said.contains("stay as they are"), "{said}");
    // Without the head's keys the head is filled, and stays at rest elsewhere.
    succeed(at, &["convert", "base.ncurve", "headless.ncurve", "--only", "*Wing*", "Pelvis*"]);
    std::fs::rename(at.join("headless.ncurve"), at.join("base.ncurve")).unwrap();
    let (out, _) = placed(at, &["--place", "unkeyed", "--at", "21", "--only", "head", "R_Wing"]);
    let skull = |frames: &[f64]| -> Vec<DQuat> {
        let world = world(&out, Some(0), frames);
        world["Throat3"].iter().zip(&world["Skull"]).map(|(neck, head)| neck.conjugate() * *head).collect()
    };
    let rest = skull(&[10.0])[0];
    assert!(degrees_between(skull(&[24.0])[0], rest) > 5.0, "it nods inside");
    assert!(degrees_between(skull(&[90.0])[0], rest) < 1e-6, "and rests outside");
    let base = scene(&at.join("base.ncurve"));
    let wing = |scene: &Scene| world(scene, Some(0), &[22.0, 30.0, 44.0])["R_Wing"].clone();
    for (a, b) in wing(&base).iter().zip(wing(&out)) {
        assert!(degrees_between(*a, b) < 1e-6);
    }
}

#[test]
fn a_new_layer_counts_in_its_range_only() {
    let folder = greeting();
    let at = folder.path();
    let base = scene(&at.join("base.ncurve"));
    let (out, _) = placed(at, &["--place", "layer:again", "--at", "21", "--blend", "4"]);
    assert_eq!(
        out.takes[0].layers.iter().map(|layer| layer.name.as_str()).collect::<Vec<_>>().last(),
        Some(&"again")
    );
    assert_eq!(out.takes[0].layers[0], base.takes[0].layers[0], "what was there is untouched");
    for (first, last) in [(1, 17), (49, 97)] {
        let (old, new) =
            (at_frames(&base, 0, quarters(first, last)), at_frames(&out, 0, quarters(first, last)));
        assert!(apart(&old, &new) < 1e-6);
    }
    let (source, new) = (at_frames(&base, 0, quarters(61, 85)), at_frames(&out, 0, quarters(21, 45)));
    assert!(apart(&source, &new) < 0.3, "{}", apart(&source, &new));
    let taken = fail(
        at,
        &[
            "carry",
            &text("bramble.ncurve"),
            "--target",
            "out.ncurve",
            "--map",
            "map.toml",
            "--place",
            "layer:again",
            "-o",
            "x.ncurve",
        ],
    );
    assert!(taken.contains("another name"), "{taken}");
}

#[test]
fn takes_stretch_and_shift_as_a_whole() {
    let folder = greeting();
    let at = folder.path();
    let base = scene(&at.join("base.ncurve"));
    let (out, said) = placed(at, &["--to-frames", "49", "--at", "-10"]);
    assert!(said.contains("49 frames"), "{said}");
    assert_eq!(out.takes.len(), 2, "a take of its own where nothing else is said");
    assert_eq!([&*out.takes[0].name, &*out.takes[1].name], ["greet 2", "greet"]);
    let range = out.takes[0].range;
    assert_eq!((out.rate.frame(range.first), out.rate.frame(range.last)), (-10.0, 38.0));
    let (source, new) = (
        at_frames(&base, 0, quarters(61, 85)),
        at_frames(&out, 0, (0..=96).map(|half| f64::from(half) / 2.0 - 10.0)),
    );
    assert!(apart(&source, &new) < 0.3, "{}", apart(&source, &new));
    let samples = out.takes[0].tracks().find_map(|(_, track)| match &track.controller {
        Controller::Samples(samples) => Some(samples),
        _ => None,
    });
    assert_eq!(
        samples.map(|samples| samples.rate.fps()),
        Some(12.0),
        "samples keep their values, at half the rate"
    );
}

#[test]
fn formats_of_one_take_get_the_carried_one_and_the_targets_own_stay_behind_where_asked() {
    let folder = greeting();
    let at = folder.path();
    let carry = |output: &str, more: &[&str]| {
        let bramble = text("bramble.ncurve");
        let words =
            ["carry", &bramble, "--target", "base.ncurve", "--map", "map.toml", "--at", "101", "-o", output];
        succeed(at, &[&words, more].concat());
        scene(&at.join(output))
    };
    // The carried take is the one that lasts from frame 101.
    let out = carry("out.bvh", &[]);
    let whole = carry("whole.ncurve", &[]);
    assert_eq!(out.takes[0].range.frames(out.rate), whole.takes[0].range.frames(whole.rate));
    assert_eq!(whole.rate.frame(whole.takes[0].range.first), 101.0);
    assert_ne!(whole.takes[1].range, whole.takes[0].range);
    let alone = carry("alone.ncurve", &["--without-target-takes"]);
    assert_eq!(alone.takes, whole.takes[..1]);
}

#[test]
fn what_cannot_be_placed_is_said() {
    let folder = greeting();
    let at = folder.path();
    let onto = |target: &str, more: &[&str]| {
        let bramble = text("bramble.ncurve");
        let mut arguments =
            vec!["carry", &bramble, "--target", target, "--map", "map.toml", "-o", "x.ncurve"];
        arguments.extend(more);
        fail(at, &arguments)
    };
    assert!(onto(&text("stilt.ncurve"), &["--place", "overwrite"]).contains("no take to place onto"));
    assert!(
        onto("base.ncurve", &["--place", "overwrite", "--target-take", "great"])
            .contains("did you mean 'greet'")
    );
    placed(at, &[]);
    assert!(onto("out.ncurve", &["--place", "ripple"]).contains("greet 2, greet"));
    assert!(!at.join("x.ncurve").exists());
}

#[test]
fn what_goes_on_begins_where_the_body_stands_and_faces_and_is_a_clip_of_its_name() {
    use nimble_curve_second::scene::Scene as Second;
    use nimble_curve_second::turn::apart;

    let folder = tempdir().unwrap();
    let rounds = text("rounds.ncurve");
    let place = |out: &str, frame: &str, more: &[&str]| {
        let own = [
            "carry",
            &rounds,
            "--target",
            &rounds,
            "--frames",
            "59:83",
            "--place",
            "overwrite",
            "--at",
            frame,
        ];
        succeed(folder.path(), &[&own[..], &["-o", out], more].concat());
        Second::read(&std::fs::read_to_string(folder.path().join(out)).unwrap())
    };
    let before = Second::read(&std::fs::read_to_string(sample("rounds.ncurve")).unwrap());
    let (on, off) = (place("on.ncurve", "150", &["--go-on"]), place("off.ncurve", "150", &[]));
    let hips = before.nodes.iter().position(|node| node.name.ends_with("hips")).unwrap();
    let at = |scene: &Second, frame: f64| {
        let (world, turn) = scene.world(0, hips, frame);
        (world.translation * scene.unit, turn)
    };
    // The turn before it left the body 90 degrees round: it walks on that way.
    let (stands, begins, unmoved) = (at(&before, 150.0), at(&on, 150.0), at(&off, 150.0));
    let ground = |place: glam::DVec3| glam::DVec3::new(place.x, 0.0, place.z);
    assert!(ground(begins.0 - stands.0).length() < 1e-6, "{begins:?} {stands:?}");
    let heading = |turn: DQuat| {
        let ahead = turn * glam::DVec3::Z;
        ahead.x.atan2(ahead.z).to_degrees()
    };
    assert!(
        (heading(begins.1) - heading(stands.1)).abs() < 1e-3,
        "{} {}",
        heading(begins.1),
        heading(stands.1)
    );
    assert!((heading(unmoved.1) - heading(stands.1)).abs() > 80.0);
    // The walk itself is the walk, turned and moved as a whole.
    let turned = begins.1 * at(&before, 59.0).1.conjugate();
    for frame in 0..=24 {
        let (own, other) = (at(&before, 59.0 + f64::from(frame)), at(&on, 150.0 + f64::from(frame)));
        let way = |place: glam::DVec3, from: glam::DVec3| ground(place - from).length();
        assert!((way(own.0, at(&before, 59.0).0) - way(other.0, begins.0)).abs() < 1e-6, "frame {frame}");
        assert!(apart(turned * own.1, other.1) < 1e-3, "frame {frame}");
    }
    let clips = succeed(folder.path(), &["clips", "on.ncurve"]);
    assert!(clips.contains("walk"), "{clips}");
    let made = scene(&folder.path().join("on.ncurve"));
    assert!(made.takes[0].clips.iter().any(|clip| made.rate.frame(clip.range.first) == 150.0), "{clips}");
    // A jump that is left is found.
    place("off.ncurve", "105", &[]);
    let found = |file: &str| {
        let said = run(folder.path(), &["check", file, "--json"]);
        String::from_utf8(said.stdout).unwrap().matches("\"jump\"").count()
    };
    assert!(found("off.ncurve") > 0);
    let alone = run(folder.path(), &["carry", &rounds, "--target", &rounds, "--go-on", "-o", "x.ncurve"]);
    assert!(String::from_utf8(alone.stderr).unwrap().contains("--place"));
}
