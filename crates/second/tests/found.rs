//! What drives what, found in exports that do not say it: on random control rigs, beside what drives them in truth.

use std::collections::BTreeMap;

use glam::DVec3;
use nimble_curve_core::address::Addresses;
use nimble_curve_core::constraint::{Aim, Constraint, ConstraintKind, Setting, Towards};
use nimble_curve_core::ops::control_rig::{FindOptions, Finding, find};
use nimble_curve_core::scene::Scene;
use nimble_curve_second::posed::{Keyed, Posed, text as posed};
use nimble_curve_second::random::Chance;
use nimble_curve_second::scene::{Scene as Second, Value};
use nimble_curve_second::shown::{LAST, shown};
use serde_json::json;

/// Random rigs; more of them where the environment says so.
fn cases() -> u64 {
    std::env::var("NIMBLE_CURVE_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(10)
}

fn read(text: &str) -> Scene {
    nimble_curve_formats::ncurve::read(text).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
}

fn alike(one: DVec3, other: DVec3) -> bool {
    one.normalize().angle_between(other.normalize()) < 2e-3
}

/// Whether something leans to the same.
fn leans(one: Option<&Towards>, other: Option<&Towards>) -> bool {
    match (one, other) {
        (None, None) => true,
        (Some(Towards::Node(one)), Some(Towards::Node(other))) => one == other,
        (Some(Towards::Direction(one, in_one)), Some(Towards::Direction(other, in_other))) => {
            in_one == in_other && alike(*one, *other)
        }
        _ => false,
    }
}

/// The up axis counts across the one that aims.
fn leaning(aim: &Aim) -> Option<DVec3> {
    let (up, _) = aim.up.as_ref()?;
    let axis = aim.axis.normalize();
    (*up - axis * axis.dot(*up)).try_normalize()
}

/// Whether what was found is what is true: the same kind, by the same nodes, in the same way.
fn is_right(found: &Constraint, truth: &Constraint, slackens: impl Fn(&Constraint) -> bool) -> bool {
    let whole = truth;
    if found.node != truth.node {
        return false;
    }
    match (&found.kind, &truth.kind) {
        (ConstraintKind::Follow(found), ConstraintKind::Follow(truth)) => {
            let nodes = |follow: &nimble_curve_core::constraint::Follow| {
                let mut nodes: Vec<_> = follow.sources.iter().map(|source| source.node).collect();
                nodes.sort();
                nodes
            };
            let within = |found: [bool; 3], truth: [bool; 3]| (0..3).all(|axis| !found[axis] || truth[axis]);
            nodes(found) == nodes(truth)
                && within(found.rotation, truth.rotation)
                && within(found.translation, truth.translation)
        }
        (ConstraintKind::Limb(found), ConstraintKind::Limb(truth)) => {
            (found.lower, found.end, found.goal.node) == (truth.lower, truth.end, truth.goal.node)
                && found.end_turn == truth.end_turn
                && ((found.slack - truth.slack).abs() < 2e-3 || found.slack == 0.0 && !slackens(whole))
                && leans(found.pole.as_ref(), truth.pole.as_ref())
                && found.twist.constant().is_some_and(|twist| twist.abs() < 1e-3)
        }
        (ConstraintKind::Aim(found), ConstraintKind::Aim(truth)) => {
            found.at == truth.at
                && alike(found.axis, truth.axis)
                && match (&found.up, &truth.up) {
                    (None, None) => true,
                    (Some((_, one)), Some((_, other))) => {
                        // Both axes and both directions may point the other way.
                        let turned = match other {
                            Towards::Direction(direction, node) => Towards::Direction(-*direction, *node),
                            node => node.clone(),
                        };
                        let (one_axis, other_axis) = (leaning(found).unwrap(), leaning(truth).unwrap());
                        (leans(Some(one), Some(other)) && alike(one_axis, other_axis))
                            || (leans(Some(one), Some(&turned)) && alike(one_axis, -other_axis))
                    }
                    _ => false,
                }
        }
        (ConstraintKind::Roll(found), ConstraintKind::Roll(truth)) => {
            let fraction = |setting: &Setting| setting.constant().unwrap();
            let (mine, theirs) = (fraction(&found.fraction), fraction(&truth.fraction));
            let (one, other) = (found.axes.unwrap(), truth.axes.unwrap());
            let [axis, source_axis] =
                [(one.node, other.node), (one.source, other.source)].map(|(one, other)| {
                    if alike(one, other) {
                        1.0
                    } else if alike(one, -other) {
                        -1.0
                    } else {
                        0.0
                    }
                });
            found.source == truth.source && (mine * axis * source_axis - theirs).abs() < 2e-3
        }
        _ => false,
    }
}

fn said(addresses: &Addresses, found: &Finding) -> String {
    format!(
        "{} {} {:?} {:.4} units {:.4} deg sure {} rivals {:?}",
        found.constraint.kind.name(),
        addresses.node(found.constraint.node),
        found.constraint.kind,
        found.residual.place,
        found.residual.angle.to_degrees(),
        found.is_sure,
        found.rivals,
    )
}

/// A rig whose joints and controls have keys of their own at the same few frames: nothing drives anything.
fn undriven(seed: u64, frames: &[i64]) -> String {
    let of = Posed { keyed: Keyed::Whole, angles: 30.0, straight: false };
    let mut file: serde_json::Value = serde_json::from_str(&posed(seed, &of)).unwrap();
    file.as_object_mut().unwrap().remove("constraints");
    let mut chance = Chance::new(seed ^ 0xF1);
    let nodes = file["rigs"][0]["nodes"].as_array().unwrap().clone();
    let mut tracks = Vec::new();
    for node in &nodes {
        let mut curve = |low: f64, high: f64| {
            let key = |frame: &i64| json!({ "frame": frame, "value": chance.between(low, high) });
            json!({ "keys": frames.iter().map(key).collect::<Vec<_>>() })
        };
        let name = node["name"].as_str().unwrap();
        let mut angles = json!({ "order": node["rotation"]["rotate"]["order"], "x": curve(-40.0, 40.0) });
        // Elbows and fingers turn about one axis.
        if !name.starts_with("lower") && !name.starts_with("chest") {
            angles["y"] = curve(-40.0, 40.0);
            angles["z"] = curve(-40.0, 40.0);
        }
        tracks.push(json!({ "channel": format!("{name}:rotation"), "controller": { "angles": angles } }));
    }
    file["takes"][0]["layers"][0]["tracks"] = json!(tracks);
    file.to_string()
}

#[test]
fn nothing_is_sure_where_nothing_drives_anything() {
    let mut looked = 0;
    for seed in 0..4 * cases() {
        let frames: &[i64] = [
            &[1, 97][..],
            &[1, 40, 97],
            &[1, 30, 60, 97],
            &[1, 20, 40, 60, 80, 97],
            &[1, 12, 24, 36, 48, 60, 72, 84, 97],
        ][seed as usize % 5];
        let scene = read(&undriven(seed, frames));
        let found = find(&scene, &FindOptions::default()).unwrap();
        let addresses = Addresses::new(&scene);
        let sure: Vec<String> =
            found.findings.iter().filter(|own| own.is_sure).map(|own| said(&addresses, own)).collect();
        assert!(sure.is_empty(), "seed {seed}, {} poses: {sure:?}", frames.len());
        looked += 1;
    }
    assert_eq!(looked, 4 * cases());
}

#[test]
fn what_drives_what_is_found_and_never_wrong_where_it_is_sure() {
    let (mut all, mut right, mut unsure, mut wrong) = (0, 0, 0, Vec::new());
    let mut by_kind: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    for seed in 0..cases() {
        let shown = shown(seed);
        let (truth, scene) = (read(&shown.rig.to_string()), read(&shown.file.to_string()));
        let found = find(&scene, &FindOptions::default()).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
        let addresses = Addresses::new(&scene);
        let second = Second::read(&shown.file.to_string());
        let with_switches = Second::read(&shown.rig.to_string());
        // Whether a limb ever comes to where its slack begins: else nothing shows it.
        let slackens = |own: &Constraint| {
            let ConstraintKind::Limb(limb) = &own.kind else { return false };
            let [upper, lower, end] =
                [own.node, limb.lower, limb.end].map(|node| second.find(addresses.node(node)));
            let counts = |frame: i64| match &own.weight {
                Setting::Attribute(target) => {
                    let node = with_switches.find(addresses.node((target.rig, target.node)));
                    let value = with_switches.value(0, node, &target.property, frame as f64);
                    matches!(value, Value::Word(on) if on == serde_json::json!(true))
                }
                _ => true,
            };
            (1..=LAST).filter(|frame| counts(*frame)).any(|frame| {
                let [root, middle, tip] =
                    [upper, lower, end].map(|node| second.world(0, node, frame as f64).0.translation);
                let length = (middle - root).length() + (tip - middle).length();
                (tip - root).length() > (1.0 - limb.slack) * length
            })
        };
        for own in &truth.constraints {
            all += 1;
            let kind = by_kind.entry(own.kind.name().to_owned()).or_default();
            kind.0 += 1;
            let of = found.findings.iter().find(|found| is_right(&found.constraint, own, slackens));
            match of {
                Some(of) if of.is_sure => {
                    right += 1;
                    kind.1 += 1;
                }
                Some(of) => {
                    unsure += 1;
                    println!("seed {seed} unsure: {}", said(&addresses, of));
                }
                None => {
                    println!("seed {seed} not found: {} {own:?}", addresses.node(own.node));
                    for of in found.findings.iter().filter(|of| of.constraint.node == own.node) {
                        println!("   instead: {}", said(&addresses, of));
                    }
                }
            }
        }
        for of in found.findings.iter().filter(|of| of.is_sure) {
            if !truth.constraints.iter().any(|own| is_right(&of.constraint, own, slackens)) {
                wrong.push(format!("seed {seed} wrong: {}", said(&addresses, of)));
            }
        }
    }
    let found = right + unsure;
    println!("{found} of {all} found, {right} of them sure, {} sure and wrong", wrong.len());
    println!("{by_kind:?}");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(found * 100 >= all * 95 && right * 2 > all, "{found} of {all}, {right} of them sure");
}
