//! The sample rigs through every pair of formats and back; and the table of docs/formats.md, which is made here.

use std::path::Path;

use glam::{DQuat, DVec4};
use nimble_curve_core::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
    Weight,
};
use nimble_curve_core::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key, Tangent, Ticks,
};
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::rig::{Attribute, AttributeKind};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, LayerMode, Scene, Target, Track};
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::{Assume, Format, Saving, encode, read_bytes};

use crate::common::{apart_by, scene};

/// All formats, with the word for each in the table.
const FORMATS: [(Format, &str); 9] = [
    (Format::Ncurve, "ncurve"),
    (Format::Glb, "glb"),
    (Format::Gltf, "gltf"),
    (Format::Collada, "dae"),
    (Format::Usda, "usda"),
    (Format::Usdc, "usdc"),
    (Format::Usdz, "usdz"),
    (Format::Bvh, "bvh"),
    (Format::Csv, "csv"),
];

fn has_extra(format: Format) -> bool {
    !matches!(format, Format::Bvh | Format::Csv)
}

fn pass(scene: &Scene, format: Format, without_extra: bool) -> (Scene, Ledger) {
    let saving = Saving { without_extra, keep_start: true, ..Saving::default() };
    let (bytes, ledger) = encode(scene, format, Path::new("x"), &saving).unwrap();
    // Where a file states its unit and its up axis, these would be taken instead; BVH is in those that a reader assumes.
    let unstated = format == Format::Csv;
    let assume = Assume {
        metres_per_unit: unstated.then_some(scene.space.metres_per_unit),
        up: unstated.then_some(scene.space.up),
        rate: Some(scene.rate),
        ..Assume::default()
    };
    let name = format!("{}.csv", scene.takes.first().map_or("x", |take| take.name.as_str()));
    let path = if format == Format::Csv { name.as_str() } else { "x" };
    (read_bytes(&bytes, Path::new(path), assume).unwrap().scene, ledger)
}

#[test]
fn the_authored_rig_goes_through_every_pair_of_formats_and_back() {
    for name in ["bramble.ncurve", "cart.ncurve"] {
        let scene = scene(name);
        let take = scene.takes[0].name.clone();
        for (first, a) in FORMATS {
            let (through, ledger) = pass(&scene, first, false);
            check(&ledger, &scene, first);
            for (second, b) in FORMATS {
                let (back, _) = pass(&through, second, false);
                if has_extra(first) && has_extra(second) {
                    assert!(back == scene, "{name} through {a} and {b}");
                    continue;
                }
                // A table has no hierarchy, in which world positions would mean anything.
                if first == Format::Csv || second == Format::Csv {
                    assert!(!back.takes[0].layers[0].tracks.is_empty(), "{name} through {a} and {b}");
                    continue;
                }
                // Without extra data one layer of one frame a row is left, and what it shows is the motion.
                let mut back = back;
                back.takes[0].name.clone_from(&take);
                let (distance, angle) = apart_in_common(&scene, back, &take);
                assert!(
                    distance < 0.004 && angle.to_degrees() < 0.35,
                    "{name} {a} {b}: {distance} m {angle}"
                );
            }
        }
    }
}

/// The distance of two motions at whole frames, which is where BVH has rows; scale, which it has none of, is taken out.
fn apart_in_common(scene: &Scene, back: Scene, take: &str) -> (f64, f64) {
    let mut bare = scene.clone();
    for layer in &mut bare.takes[0].layers {
        layer.tracks.retain(|track| track.target.property != "scale");
    }
    let shift = bare.takes[0].range.first;
    let mut back = back;
    // Rows count from zero: they are moved to where the take was.
    if back.takes[0].range.first == Ticks::ZERO && shift != Ticks::ZERO {
        for track in &mut back.takes[0].layers[0].tracks {
            if let Controller::Samples(samples) = &mut track.controller {
                samples.start = samples.start + shift;
            } else if let Controller::Quaternion(curve) = &mut track.controller {
                curve.keys.iter_mut().for_each(|key| key.time = key.time + shift);
            } else if let Controller::Euler(euler) = &mut track.controller {
                euler.curves.iter_mut().for_each(|curve| *curve = curve.shifted(shift));
            } else if let Controller::Components(curves) = &mut track.controller {
                curves.iter_mut().for_each(|curve| *curve = curve.shifted(shift));
            }
        }
    }
    let names: Vec<String> = back.rigs[0].nodes().map(|(_, node)| node.name.clone()).collect();
    let all =
        scene.rigs[0].nodes().all(|(_, node)| names.contains(&node.name) || node.name.ends_with("_end"));
    assert!(all, "a joint is missing: {names:?}");
    // End sites are named after their joints: what has another name does not count.
    for scene in [&mut bare, &mut back] {
        let ids: Vec<_> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
        for id in ids {
            let node = scene.rigs[0].node_mut(id).unwrap();
            if node.name.ends_with("_end") {
                node.name = "end".into();
                node.transform[0].value = nimble_curve_core::rig::OpValue::Translate(glam::DVec3::ZERO);
            }
        }
    }
    let (bare, back) = (without_ends(&bare), without_ends(&back));
    // Halves of frames lie between rows; whole ones are compared.
    apart_by(&bare, &back, take, 1.0)
}

/// The same scene with a rig that has no end sites.
fn without_ends(scene: &Scene) -> Scene {
    let old = &scene.rigs[0];
    let mut rig = nimble_curve_core::rig::Rig::new(&old.name);
    let mut ids = std::collections::HashMap::new();
    for (id, node) in old.nodes().filter(|(_, node)| node.name != "end") {
        let parent = old.parent(id).map(|parent| ids[&parent]);
        ids.insert(id, rig.add(parent, node.clone()).unwrap());
    }
    let mut made = scene.clone();
    for track in made.takes.iter_mut().flat_map(|take| &mut take.layers).flat_map(|layer| &mut layer.tracks) {
        track.target.node = ids[&track.target.node];
    }
    made.rigs[0] = rig;
    made
}

/// Every track is in the ledger, and what is left out is what the format has no place for.
fn check(ledger: &Ledger, scene: &Scene, format: Format) {
    let addresses = nimble_curve_core::address::Addresses::new(scene);
    for (_, track) in scene.takes.iter().flat_map(|take| take.tracks()) {
        let channel = addresses.property(&track.target);
        assert!(
            ledger.entries.iter().any(|entry| entry.channel == channel),
            "{format:?}: {channel} is not said"
        );
    }
    for entry in ledger.entries.iter().filter(|entry| entry.fate == Fate::LeftOut) {
        let is_attribute = entry.channel.contains("face:");
        let expected = match format {
            Format::Bvh => is_attribute || entry.channel.ends_with("scale"),
            Format::Csv => entry.note.contains("muted"),
            _ => false,
        };
        assert!(expected, "{format:?}: {} {}", entry.channel, entry.note);
    }
}

/// A rig with one thing on it.
fn with(property: &str, controller: Controller) -> Scene {
    let mut scene = scene("cart.ncurve");
    let (vane, _) = scene.rigs[0].nodes().find(|(_, node)| node.name == "vane").unwrap();
    let node = scene.rigs[0].node_mut(vane).unwrap();
    let attribute = |name: &str, kind| Attribute { name: name.to_owned(), kind };
    node.attributes = vec![
        attribute(
            "gilt",
            AttributeKind::Number { default: 0.0, min: None, max: None, quantity: Quantity::Number },
        ),
        attribute("lit", AttributeKind::Switch { default: false }),
        attribute("sign", AttributeKind::Text { default: "open".into() }),
    ];
    let target = Target { rig: 0, node: vane, property: property.to_owned() };
    let take = &mut scene.takes[0];
    take.layers.truncate(1);
    take.layers[0].tracks = vec![Track { target, controller }];
    take.clips.clear();
    take.markers.clear();
    scene
}

fn at(frame: i64) -> Ticks {
    FrameRate::FPS_24.ticks(frame)
}

fn curve(interpolation: Interpolation) -> Curve {
    let key =
        |frame, value: f64| Key::new(at(frame), value).with_interpolation(interpolation).with_slope(0.0);
    Curve::new(vec![key(1, 0.0), key(25, 0.75), key(49, -0.5)]).unwrap()
}

fn vector(curve: Curve) -> Controller {
    Controller::Components(vec![curve.clone(), curve.clone(), curve])
}

fn euler(curve: Curve) -> Controller {
    Controller::Euler(EulerCurves {
        order: RotationOrder::Zxy,
        curves: [curve.clone(), curve.clone(), curve],
    })
}

fn quaternions(interpolation: QuaternionInterpolation) -> Controller {
    let key = |frame, angle: f64| QuaternionKey {
        time: at(frame),
        value: DQuat::from_rotation_x(angle),
        interpolation,
        tangent_in: DVec4::ZERO,
        tangent_out: DVec4::ZERO,
    };
    let keys = vec![key(1, 0.0), key(25, 1.0), key(49, -0.5)];
    Controller::Quaternion(QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held })
}

fn samples(kind: SampleKind) -> Controller {
    let rows = (0..96).flat_map(|row| (0..kind.width()).map(move |_| (f64::from(row) * 0.2).sin() * 0.25));
    Controller::Samples(Samples { start: at(1), rate: FrameRate::FPS_24, kind, values: rows.collect() })
}

/// What the table has a row for.
fn features() -> Vec<(&'static str, Scene)> {
    let weighted = {
        let mut keys = curve(Interpolation::Cubic).into_keys();
        keys[0].tangent_out = Tangent::handle(at(3).as_f64(), 0.4);
        Curve::new(keys).unwrap()
    };
    let jump = {
        let mut keys = curve(Interpolation::Cubic).into_keys();
        keys[1].value_before = Some(0.25);
        Curve::new(keys).unwrap()
    };
    let looping = curve(Interpolation::Cubic).with_behaviours(Behaviour::Held, Behaviour::LoopOffset);
    let layered = {
        let mut scene = with("translation", vector(curve(Interpolation::Cubic)));
        let mut layer = Layer::base(scene.takes[0].layers[0].tracks.clone());
        (layer.name, layer.mode, layer.weight) = ("more".into(), LayerMode::Additive, Weight::Constant(0.5));
        scene.takes[0].layers.push(layer);
        scene
    };
    let switch =
        DiscreteCurve::new(vec![(at(1), Discrete::Switch(false)), (at(20), Discrete::Switch(true))]).unwrap();
    let text = DiscreteCurve::new(vec![(at(1), Discrete::Text("shut".into()))]).unwrap();
    let takes = {
        let mut scene = with("translation", vector(curve(Interpolation::Cubic)));
        let mut second = scene.takes[0].clone();
        second.name = "again".into();
        scene.takes.push(second);
        scene
    };
    vec![
        ("cubics with plain slopes", with("translation", vector(curve(Interpolation::Cubic)))),
        ("straight lines", with("translation", vector(curve(Interpolation::Linear)))),
        ("holds", with("translation", vector(curve(Interpolation::Hold)))),
        ("jumps", with("translation", vector(jump))),
        ("weighted handles", with("translation", vector(weighted))),
        ("loops outside the keys", with("translation", vector(looping))),
        ("curves of three angles", with("rotation", euler(curve(Interpolation::Cubic)))),
        ("quaternion cubics", with("rotation", quaternions(QuaternionInterpolation::Cubic))),
        ("great arcs", with("rotation", quaternions(QuaternionInterpolation::Slerp))),
        ("squads", with("rotation", quaternions(QuaternionInterpolation::Squad))),
        ("samples of positions", with("translation", samples(SampleKind::Vector))),
        ("samples of angles", with("rotation", samples(SampleKind::Euler(RotationOrder::Zxy)))),
        ("scale", with("scale", vector(curve(Interpolation::Cubic)))),
        ("numbers of a node", with("gilt", Controller::Components(vec![curve(Interpolation::Cubic)]))),
        ("switches", with("lit", Controller::Discrete(switch))),
        ("texts", with("sign", Controller::Discrete(text))),
        ("layers", layered),
        ("a second take", takes),
    ]
}

/// The worst fate of any track but a handful that all formats share.
fn worst(ledger: &Ledger) -> &'static str {
    ledger.entries.iter().map(|entry| entry.fate).max().unwrap_or(Fate::LeftOut).name()
}

#[test]
fn docs_formats_has_the_table_of_what_each_format_holds() {
    let mut table = String::from("|  |");
    FORMATS.iter().for_each(|(_, name)| table += &format!(" {name} |"));
    table += "\n|---|";
    FORMATS.iter().for_each(|_| table += "---|");
    table.push('\n');
    for (feature, scene) in features() {
        table += &format!("| {feature} |");
        for (format, name) in FORMATS {
            let (plain, ledger) = pass(&scene, format, true);
            let fate = worst(&ledger);
            table += &format!(" {fate} |");
            if has_extra(format) {
                // Samples are not in the extra data: they are as exact as the format's numbers.
                let back = pass(&scene, format, false).0;
                let is_held = feature.starts_with("samples");
                assert!(back == scene || is_held, "{feature} through {name} with extra data");
            }
            honest(&scene, plain, fate, feature, format);
        }
        table.push('\n');
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats.md");
    let document = std::fs::read_to_string(&path).unwrap();
    let (start, end) = ("<!-- table -->\n", "<!-- end of table -->");
    let (head, rest) = document.split_once(start).unwrap();
    let (old, tail) = rest.split_once(end).unwrap();
    if std::env::var_os("NIMBLE_CURVE_WRITE_DOCS").is_some() {
        std::fs::write(&path, format!("{head}{start}{table}{end}{tail}")).unwrap();
    } else {
        assert_eq!(old, table, "docs/formats.md is old: NIMBLE_CURVE_WRITE_DOCS=1 cargo test writes it anew");
    }
}

/// That a fate is true: what was kept or exact moves as it did, what was refitted or sampled within the tolerance.
fn honest(scene: &Scene, plain: Scene, fate: &str, feature: &str, format: Format) {
    if matches!(format, Format::Csv) || fate == "left out" || feature == "scale" {
        return;
    }
    let take = scene.takes[0].name.clone();
    let mut plain = plain;
    plain.takes[0].name.clone_from(&take);
    let allowed = match fate {
        "kept" | "exact" => 2e-6,
        // A row a frame says nothing of what lies between two of them.
        "sampled" => return,
        _ => 0.004,
    };
    let (distance, angle) = apart_in_common(scene, plain, &take);
    assert!(
        distance <= allowed && angle <= allowed,
        "{feature} in {format:?} is {fate}: {distance} m, {angle} rad"
    );
}
