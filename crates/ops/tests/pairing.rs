//! Proposed maps: rigs renamed in five styles, with joints missing and added, are recognised, and nothing wrong is sure.

use std::collections::{HashMap, HashSet};

use glam::DVec3;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::FrameRate;
use nimble_curve_ops::pairing::{Confidence, Proposed, propose};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::space::Space;
use nimble_curve_testing::dice::Dice;

/// A joint: what it is, on which side, which number of its kind; its parent, and where it is beside it.
#[derive(Clone, Debug, PartialEq)]
struct Joint {
    part: &'static str,
    side: Option<char>,
    number: Option<u32>,
    parent: Option<usize>,
    at: DVec3,
}

/// A body with five fingers a hand: 62 joints.
fn body() -> Vec<Joint> {
    let mut joints: Vec<Joint> = Vec::new();
    let mut add = |part, side, number, parent: Option<usize>, at: [f64; 3]| {
        joints.push(Joint { part, side, number, parent, at: DVec3::from(at) });
        joints.len() - 1
    };
    let root = add("root", None, None, None, [0.0; 3]);
    let hips = add("hips", None, None, Some(root), [0.0, 0.95, 0.0]);
    let spine = add("spine", None, Some(1), Some(hips), [0.0, 0.1, 0.0]);
    let spine = add("spine", None, Some(2), Some(spine), [0.0, 0.11, 0.01]);
    let chest = add("chest", None, None, Some(spine), [0.0, 0.12, 0.0]);
    let neck = add("neck", None, None, Some(chest), [0.0, 0.2, 0.0]);
    let head = add("head", None, None, Some(neck), [0.0, 0.1, 0.02]);
    add("jaw", None, None, Some(head), [0.0, -0.02, 0.08]);
    for (side, x) in [('l', 1.0), ('r', -1.0)] {
        let shoulder = add("shoulder", Some(side), None, Some(chest), [0.04 * x, 0.15, 0.0]);
        let arm = add("arm", Some(side), None, Some(shoulder), [0.12 * x, 0.0, 0.0]);
        let forearm = add("forearm", Some(side), None, Some(arm), [0.27 * x, 0.0, 0.0]);
        let hand = add("hand", Some(side), None, Some(forearm), [0.25 * x, 0.0, 0.0]);
        for (finger, z) in
            [("thumb", 0.04), ("index", 0.025), ("middle", 0.0), ("ring", -0.02), ("pinky", -0.04)]
        {
            let mut last = hand;
            for number in 1..=3 {
                let out = if number == 1 { 0.09 } else { 0.03 };
                last = add(
                    finger,
                    Some(side),
                    Some(number),
                    Some(last),
                    [out * x, 0.0, if number == 1 { z } else { 0.0 }],
                );
            }
        }
        let thigh = add("thigh", Some(side), None, Some(hips), [0.1 * x, -0.05, 0.0]);
        let shin = add("shin", Some(side), None, Some(thigh), [0.0, -0.42, 0.0]);
        let foot = add("foot", Some(side), None, Some(shin), [0.0, -0.4, 0.0]);
        add("toe", Some(side), None, Some(foot), [0.0, -0.06, 0.12]);
    }
    let mut tail = hips;
    for number in 1..=4 {
        tail = add("tail", None, Some(number), Some(tail), [0.0, 0.0, -0.12]);
    }
    joints
}

fn plain(joint: &Joint) -> String {
    let number = joint.number.map_or(String::new(), |number| format!("_{number:02}"));
    let side = joint.side.map_or(String::new(), |side| format!("_{side}"));
    format!("{}{number}{side}", joint.part)
}

fn capital(word: &str) -> String {
    word[..1].to_uppercase() + &word[1..]
}

/// Five ways to name the same joints.
fn styled(style: usize, joint: &Joint) -> String {
    let left = joint.side == Some('l');
    let number = joint.number;
    match style {
        0 => format!("other:{}", plain(joint)),
        1 => {
            let side = joint.side.map_or("", |_| if left { "L_" } else { "R_" });
            format!("{side}{}{}", capital(joint.part), number.map_or(String::new(), |n| n.to_string()))
        }
        2 => {
            let side = joint.side.map_or("", |_| if left { "Left" } else { "Right" });
            let same = capital(joint.part);
            let part = match joint.part {
                "arm" => "UpperArm",
                "forearm" => "ForeArm",
                "thigh" => "UpLeg",
                "shin" => "Leg",
                "toe" => "ToeBase",
                "index" => "HandIndex",
                "thumb" => "HandThumb",
                "middle" => "HandMiddle",
                "ring" => "HandRing",
                "pinky" => "HandPinky",
                _ => &same,
            };
            // The first has no number here.
            let number = match (joint.part, number) {
                ("spine" | "tail", Some(1)) | (_, None) => String::new(),
                ("spine" | "tail", Some(n)) => (n - 1).to_string(),
                (_, Some(n)) => n.to_string(),
            };
            format!("{side}{part}{number}")
        }
        3 => {
            let number = number.map_or(String::new(), |n| format!("_{:03}", n - 1));
            let side = joint.side.map_or(String::new(), |side| format!("_{}", side.to_uppercase()));
            format!("jnt_{}{number}{side}", joint.part)
        }
        _ => {
            let part = match joint.part {
                "root" => "world",
                "hips" => "pelvis",
                "spine" => "back",
                "chest" => "ribcage",
                "head" => "skull",
                "jaw" => "mandible",
                "shoulder" => "clavicle",
                "arm" => "humerus",
                "forearm" => "ulna",
                "hand" => "wrist",
                "thigh" => "femur",
                "shin" => "tibia",
                "foot" => "ankle",
                "toe" => "ball",
                other => other,
            };
            let side = joint.side.map_or("", |_| if left { "lft_" } else { "rgt_" });
            format!(
                "{side}{part}{}",
                number.map_or(String::new(), |n| format!("_{}", (b'a' + n as u8 - 1) as char))
            )
        }
    }
}

fn scene(joints: &[(String, Option<usize>, DVec3)]) -> Scene {
    let mut rig = Rig::new("rig");
    let mut ids: Vec<NodeId> = Vec::new();
    for (name, parent, at) in joints {
        let node = Node::new(name.clone(), NodeKind::Joint, *at, RotationOrder::Xyz);
        ids.push(rig.add(parent.map(|parent| ids[parent]), node).unwrap());
    }
    Scene {
        rate: FrameRate::FPS_24,
        space: Space::METRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: Vec::new(),
    }
}

/// The body under other names, a tenth of its joints gone, as many put in between or beside, and other proportions. Also
/// which new name is which joint.
fn variant(style: usize, dice: &mut Dice) -> (Scene, HashMap<String, String>) {
    let body = body();
    let gone: HashSet<usize> = (2..body.len()).filter(|_| dice.part() < 0.1).collect();
    let size = 0.7 + dice.part();
    let mut made: Vec<(String, Option<usize>, DVec3)> = Vec::new();
    let mut truth = HashMap::new();
    // Where each joint went, and what is to be added to the places of those below where it is gone.
    let mut places: Vec<(Option<usize>, DVec3)> = Vec::new();
    for (index, joint) in body.iter().enumerate() {
        let (parent, beside) = joint.parent.map_or((None, DVec3::ZERO), |parent| places[parent]);
        let at = beside + joint.at * size * (0.94 + 0.12 * dice.part());
        if gone.contains(&index) {
            places.push((parent, at));
            continue;
        }
        let mut parent = parent;
        let mut at = at;
        if index > 1 && dice.part() < 0.1 {
            // One more joint, between or beside.
            let name = ["twist", "helper", "volume"][(dice.bits() % 3) as usize];
            made.push((format!("{name}_{}{index}", joint.part), parent, 0.5 * at));
            if dice.bits().is_multiple_of(2) {
                parent = Some(made.len() - 1);
                at *= 0.5;
            }
        }
        let name = styled(style, joint);
        truth.insert(name.clone(), plain(joint));
        made.push((name, parent, at));
        places.push((Some(made.len() - 1), DVec3::ZERO));
    }
    (scene(&made), truth)
}

#[test]
fn rigs_in_five_styles_are_recognised_and_nothing_wrong_is_sure() {
    let body = body();
    let joints: Vec<_> = body.iter().map(|joint| (plain(joint), joint.parent, joint.at)).collect();
    let source = scene(&joints);
    let mut dice = Dice(26_112_026);
    let (mut pairs, mut found, mut single, mut wrong) = (0, 0, 0, 0);
    for round in 0..40 {
        let style = round % 5;
        let (target, truth) = variant(style, &mut dice);
        let proposal = propose(&source, &target);
        let bare = |name: &str| name.rsplit(':').next().unwrap().to_owned();
        let truth: HashMap<String, String> = truth.iter().map(|(a, b)| (bare(a), b.clone())).collect();
        let mut right: HashSet<&str> = HashSet::new();
        for pair in &proposal.pairs {
            if let ([a], [b]) = (pair.source.as_slice(), pair.target.as_slice()) {
                if truth.get(&bare(b)) == Some(a) {
                    right.insert(a);
                    single += 1;
                } else {
                    wrong += 1;
                    println!("style {style}: {a} is not {b}: {} {}", pair.sureness.name(), pair.why);
                    assert_ne!(
                        pair.sureness,
                        Confidence::Sure,
                        "style {style}: {a} is not {b}: {}",
                        pair.why
                    );
                }
            } else {
                // A chain holds its true pairs where each of its ends is in it.
                let there: HashSet<String> =
                    pair.target.iter().filter_map(|b| truth.get(&bare(b)).cloned()).collect();
                right.extend(pair.source.iter().filter(|a| there.contains(*a)).map(String::as_str));
            }
        }
        let missing: Vec<&String> = truth.values().filter(|a| !right.contains(a.as_str())).collect();
        if !missing.is_empty() {
            println!("style {style}: missing {missing:?}");
        }
        pairs += truth.len();
        found += truth.values().filter(|a| right.contains(a.as_str())).count();
    }
    println!("{found} of {pairs} pairs found, {single} of them one by one, {wrong} wrong ones");
    assert!(single * 100 >= pairs * 95, "{single} of {pairs} one by one");
    assert!(found * 100 >= pairs * 97, "{found} of {pairs}");
}

#[test]
fn nothing_in_common_gives_nothing_sure() {
    let body = body();
    let joints: Vec<_> = body.iter().map(|joint| (plain(joint), joint.parent, joint.at)).collect();
    let cart: Vec<_> = ["cart", "axle", "wheel_front", "wheel_back", "vane"]
        .iter()
        .enumerate()
        .map(|(index, name)| {
            ((*name).to_owned(), (index > 0).then_some(0), DVec3::new(index as f64 * 0.3, 0.2, 0.0))
        })
        .collect();
    let proposal = propose(&scene(&joints), &scene(&cart));
    assert!(proposal.pairs.iter().all(|pair| pair.sureness == Confidence::Guess), "{:?}", proposal.pairs);
}

#[test]
fn what_is_opaque_is_told_by_place() {
    let body = body();
    let joints: Vec<_> = body.iter().map(|joint| (plain(joint), joint.parent, joint.at)).collect();
    let opaque: Vec<_> = joints
        .iter()
        .enumerate()
        .map(|(index, (_, parent, at))| (format!("node{index:03}"), *parent, *at))
        .collect();
    let proposal = propose(&scene(&joints), &scene(&opaque));
    let right = proposal.pairs.iter().filter(|pair| {
        let index: usize = pair.target[0][4..].parse().unwrap();
        pair.source[0] == joints[index].0
    });
    let right = right.count();
    assert!(right * 10 >= joints.len() * 9, "{right} of {}", joints.len());
    let is_wrong = |pair: &Proposed| {
        pair.target[0][4..].parse().ok().is_none_or(|at: usize| pair.source[0] != joints[at].0)
    };
    let wrong: Vec<_> =
        proposal.pairs.iter().filter(|pair| is_wrong(pair) && pair.sureness == Confidence::Sure).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
}

/// Files of humanoids tell which bone is which: then names may be anything, and every pair is sure.
#[test]
fn what_both_files_tell_is_sure_whatever_nodes_are_called() {
    use nimble_curve_scene::rig::{Attribute, AttributeKind, HUMAN_BONE};
    let told = ["hips", "spine", "leftUpperLeg", "rightUpperLeg", "leftLowerLeg", "head"];
    let rig = |name: &str, called: &dyn Fn(usize) -> String, order: &[usize]| {
        let mut rig = Rig::new(name);
        let mut last = None;
        for &at in order {
            let mut node =
                Node::new(called(at), NodeKind::Joint, DVec3::new(0.0, 0.1, 0.0), RotationOrder::Xyz);
            let kind = AttributeKind::Text { default: told[at].to_owned() };
            node.attributes.push(Attribute { name: HUMAN_BONE.to_owned(), kind });
            last = Some(rig.add(last, node).unwrap());
        }
        Scene {
            rate: FrameRate::FPS_24,
            space: Space::METRES_Y_UP,
            rigs: vec![rig],
            sets: Vec::new(),
            constraints: Vec::new(),
            takes: Vec::new(),
        }
    };
    // One chain, so that shape says nothing; names that say the wrong thing on one side.
    let source = rig("a", &|at| format!("bone.{at:03}"), &[0, 1, 2, 3, 4, 5]);
    let target = rig(
        "b",
        &|at| ["head", "J_1", "right_thigh", "left_thigh", "J_4", "hips"][at].to_owned(),
        &[0, 1, 2, 3, 4, 5],
    );
    let found = propose(&source, &target);
    assert_eq!(found.pairs.len(), told.len(), "{:?}", found.pairs);
    for (at, pair) in found.pairs.iter().enumerate() {
        assert_eq!(pair.sureness, Confidence::Sure, "{pair:?}");
        assert_eq!(pair.source, [format!("bone.{at:03}")]);
        assert!(pair.why.contains(told[at]), "{pair:?}");
    }
}
