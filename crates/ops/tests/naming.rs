//! Proposed maps between rigs that two studios might have made: other styles of names, other numbers of joints, ends and twist joints,
//! four legs instead of two, facing another way.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::FrameRate;
use nimble_curve_ops::pairing::{Confidence, Proposal, propose};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::space::{Handedness, Space};
use nimble_curve_testing::dice::Dice;

/// A joint of a made rig: what it is, on which side (`l`, `r`, or none), which of how many.
#[derive(Clone, Debug, PartialEq)]
struct Joint {
    part: &'static str,
    side: Option<char>,
    rank: usize,
    count: usize,
    parent: Option<usize>,
    at: DVec3,
}

#[derive(Clone, Copy)]
struct Build {
    legs: usize,
    spine: usize,
    neck: usize,
    collar: bool,
    fingers: usize,
    tail: usize,
    toe: bool,
    root: bool,
    /// A joint between the hips and each thigh.
    hip_joint: bool,
    /// Twist joints beside the bones, and ends.
    extras: bool,
    /// How much longer arms and legs are.
    limbs: f64,
    size: f64,
    /// Whether the arms hang down by half instead of going out level.
    hanging: bool,
}

impl Build {
    fn drawn(dice: &mut Dice) -> Build {
        Build {
            legs: if dice.below(4) == 0 { 4 } else { 2 },
            spine: 2 + dice.below(3) as usize,
            neck: 1 + dice.below(2) as usize,
            collar: dice.below(4) > 0,
            fingers: [0, 3, 5][dice.below(3) as usize],
            tail: [0, 0, 3][dice.below(3) as usize],
            toe: dice.below(3) > 0,
            root: dice.below(2) == 0,
            hip_joint: false,
            extras: dice.below(2) == 0,
            limbs: dice.between(0.85, 1.2),
            size: dice.between(0.3, 120.0),
            hanging: dice.below(2) == 0,
        }
    }

    fn joints(&self, dice: &mut Dice) -> Vec<Joint> {
        let mut joints: Vec<Joint> = Vec::new();
        let size = self.size;
        let mut add = |part, side, (rank, count), parent, at: [f64; 3]| {
            let jitter = DVec3::new(0.0, dice.between(-0.004, 0.004), dice.between(-0.004, 0.004));
            joints.push(Joint { part, side, rank, count, parent, at: (DVec3::from(at) + jitter) * size });
            joints.len() - 1
        };
        let one = (0, 1);
        let root = self.root.then(|| add("root", None, one, None, [0.0; 3]));
        let on_four = self.legs == 4;
        let height = if on_four { 0.7 } else { 0.95 };
        let hips = add("hips", None, one, root, [0.0, height, if on_four { -0.45 } else { 0.0 }]);
        let along = if on_four { [0.0, 0.02, 0.8] } else { [0.0, 0.42, 0.0] };
        let part_of = |whole: [f64; 3], count: usize| whole.map(|x| x / count as f64);
        let mut last = hips;
        for rank in 0..self.spine {
            last = add("spine", None, (rank, self.spine), Some(last), part_of(along, self.spine));
        }
        let chest = last;
        let up = if on_four { [0.0, 0.25, 0.25] } else { [0.0, 0.24, 0.02] };
        for rank in 0..self.neck {
            last = add("neck", None, (rank, self.neck), Some(last), part_of(up, self.neck + 1));
        }
        let head = add("head", None, one, Some(last), part_of(up, self.neck + 1));
        if self.extras {
            add("end", None, one, Some(head), [0.0, 0.18, 0.0]);
        }
        for (side, x) in [('l', 1.0), ('r', -1.0)] {
            let long = self.limbs;
            let mut top = chest;
            if self.collar {
                top = add("collar", Some(side), one, Some(top), [0.03 * x, 0.12, 0.0]);
            }
            let (out, down) = if on_four {
                (0.0, -1.0)
            } else if self.hanging {
                (0.7, -0.7)
            } else {
                (1.0, 0.0)
            };
            let way = |length: f64| [length * long * out * x, length * long * down, 0.0];
            let shoulder = if self.collar { [0.12 * x, 0.0, 0.0] } else { [0.15 * x, 0.12, 0.0] };
            let arm = add("arm", Some(side), one, Some(top), shoulder);
            let forearm = add("forearm", Some(side), one, Some(arm), way(0.27));
            let hand = add("hand", Some(side), one, Some(forearm), way(0.25));
            if self.extras {
                add("twist", Some(side), one, Some(arm), way(0.13));
            }
            let names = ["thumb", "index", "middle", "ring", "pinky"];
            for (place, finger) in names.into_iter().take(self.fingers).enumerate() {
                let mut last = hand;
                for rank in 0..3 {
                    let mut at = way(if rank == 0 { 0.09 } else { 0.03 });
                    at[2] = if rank == 0 { 0.04 - 0.02 * place as f64 } else { 0.0 };
                    last = add(finger, Some(side), (rank, 3), Some(last), at);
                }
            }
            let mut top = hips;
            if self.hip_joint {
                top = add("hipjoint", Some(side), one, Some(top), [0.03 * x, -0.02, 0.0]);
            }
            let thigh = add("thigh", Some(side), one, Some(top), [0.1 * x, -0.05, 0.0]);
            let leg = (height - 0.13) / 2.0;
            let shin = add("shin", Some(side), one, Some(thigh), [0.0, -leg, 0.01]);
            let foot = add("foot", Some(side), one, Some(shin), [0.0, -leg, -0.01]);
            if self.toe {
                add("toe", Some(side), one, Some(foot), [0.0, -0.06, 0.13]);
            }
        }
        let mut last = hips;
        for rank in 0..self.tail {
            last = add("tail", None, (rank, self.tail), Some(last), [0.0, 0.0, -0.12]);
        }
        joints
    }
}

/// How a studio names joints: words of parts that are its own, and how a word, a side and a number come together.
struct Style {
    words: &'static [(&'static str, &'static str)],
    name: fn(word: &str, side: Option<char>, number: Option<usize>) -> String,
}

fn capital(word: &str) -> String {
    word.split('_').map(|word| word[..1].to_uppercase() + &word[1..]).collect()
}

fn long(side: Option<char>) -> &'static str {
    match side {
        Some('l') => "Left",
        Some(_) => "Right",
        None => "",
    }
}

fn number(number: Option<usize>, first: usize, width: usize) -> String {
    number.map_or(String::new(), |number| format!("{:0width$}", number + first))
}

const DEVELOPED: [Style; 8] = [
    Style {
        words: &[],
        name: |word, side, n| {
            format!("{word}{}{}", number(n, 1, 2), side.map_or(String::new(), |side| format!("_{side}")))
        },
    },
    Style {
        words: &[("arm", "upper_arm"), ("shin", "calf"), ("collar", "clavicle")],
        name: |word, side, n| {
            format!(
                "hero_{}{word}{}_jnt",
                side.map_or(String::new(), |side| format!("{side}_")),
                number(n, 1, 2)
            )
        },
    },
    Style {
        words: &[
            ("arm", "arm"),
            ("forearm", "fore_arm"),
            ("collar", "shoulder"),
            ("thigh", "up_leg"),
            ("shin", "leg"),
            ("toe", "toe_base"),
            ("thumb", "hand_thumb"),
            ("index", "hand_index"),
            ("middle", "hand_middle"),
            ("ring", "hand_ring"),
            ("pinky", "hand_pinky"),
        ],
        name: |word, side, n| {
            format!(
                "{}{}{}",
                long(side),
                capital(word),
                number(n.filter(|n| *n > 0 || !["spine", "neck"].contains(&word)), 1, 1)
            )
        },
    },
    Style {
        words: &[
            ("arm", "shoulder"),
            ("forearm", "elbow"),
            ("hand", "wrist"),
            ("thigh", "hip"),
            ("shin", "knee"),
            ("foot", "ankle"),
            ("spine", "chest"),
        ],
        name: |word, side, n| {
            format!("{}{}{}", long(side), capital(word), number(n.filter(|n| *n > 0), 1, 1))
        },
    },
    Style {
        words: &[("arm", "shldr"), ("forearm", "fore_arm"), ("hips", "hip"), ("spine", "abdomen")],
        name: |word, side, n| {
            format!(
                "{}{}{}",
                side.map_or(String::new(), String::from),
                if side.is_some() { capital(word) } else { word.to_owned() },
                number(n.filter(|n| *n > 0), 1, 1)
            )
        },
    },
    Style {
        words: &[
            ("hips", "pelvis"),
            ("spine", "back"),
            ("head", "skull"),
            ("collar", "clavicle"),
            ("arm", "humerus"),
            ("forearm", "ulna"),
            ("hand", "wrist"),
            ("thigh", "femur"),
            ("shin", "tibia"),
            ("foot", "ankle"),
            ("toe", "ball"),
        ],
        name: |word, side, n| {
            format!(
                "{}{word}{}",
                side.map_or("", |side| if side == 'l' { "lft_" } else { "rgt_" }),
                n.map_or(String::new(), |n| format!("_{}", (b'a' + n as u8) as char))
            )
        },
    },
    Style {
        words: &[
            ("spine", "torso"),
            ("thigh", "upper_leg"),
            ("shin", "lower_leg"),
            ("arm", "upper_arm"),
            ("forearm", "lower_arm"),
        ],
        name: |word, side, n| {
            format!(
                "Char01:{}{}{}",
                capital(word),
                number(n, 0, 3),
                side.map_or(String::new(), |side| format!("_{}", side.to_uppercase()))
            )
        },
    },
    Style {
        words: &[
            ("arm", "uparm"),
            ("thigh", "upleg"),
            ("shin", "lowleg"),
            ("forearm", "lowarm"),
            ("collar", "clav"),
        ],
        name: |word, side, n| {
            format!(
                "b_{word}{}{}_sk",
                number(n, 1, 1),
                side.map_or(String::new(), |side| format!("_{}", side.to_uppercase()))
            )
        },
    },
];

/// Kept apart while the matcher was made. One fault that they showed was mended since: chains that count from 0 and from 1.
const HELD_OUT: [Style; 4] = [
    Style {
        words: &[
            ("arm", "arm_upper"),
            ("forearm", "arm_lower"),
            ("thigh", "leg_upper"),
            ("shin", "leg_lower"),
            ("collar", "clavicle"),
            ("hips", "pelvis"),
        ],
        name: |word, side, n| {
            format!(
                "Vx_{word}{}{}",
                number(n, 1, 2),
                side.map_or(String::new(), |side| format!("_{}", side.to_uppercase()))
            )
        },
    },
    Style {
        words: &[
            ("arm", "upperarm"),
            ("forearm", "lowerarm"),
            ("shin", "calf"),
            ("toe", "ball"),
            ("collar", "clavicle"),
            ("hips", "pelvis"),
        ],
        name: |word, side, n| {
            format!(
                "H-{}{word}{}-bnd",
                side.map_or(String::new(), |side| format!("{}-", side.to_uppercase())),
                n.map_or(String::new(), |n| format!("-{:02}", n + 1))
            )
        },
    },
    Style {
        words: &[
            ("forearm", "elbow"),
            ("hand", "palm"),
            ("shin", "knee"),
            ("foot", "ankle"),
            ("collar", "scapula"),
            ("spine", "waist"),
            ("thigh", "upleg"),
        ],
        name: |word, side, n| format!("{}{word}{}", long(side).to_lowercase(), number(n, 0, 1)),
    },
    Style {
        words: &[
            ("arm", "shoulder"),
            ("forearm", "elbow"),
            ("hand", "wrist"),
            ("collar", "collar"),
            ("thigh", "leg"),
            ("shin", "knee"),
            ("foot", "foot"),
            ("toe", "toes"),
            ("spine", "back"),
        ],
        name: |word, side, n| {
            format!("{}{}Skel", capital(word), number(n, 1, 1)).replace(
                "Skel",
                &format!("{}_Skel", side.map_or(String::new(), |side| side.to_uppercase().to_string())),
            )
        },
    },
];

fn styled(style: &Style, joint: &Joint) -> String {
    let word = style.words.iter().find(|(part, _)| *part == joint.part).map_or(joint.part, |(_, word)| word);
    let n = (joint.count > 1).then_some(joint.rank);
    (style.name)(word, joint.side, n)
}

/// A rig of such joints that faces another way, by so many quarter turns.
/// A rig, turned by so many quarters; from four on in a left-handed space, where the same body is written as in a mirror.
fn scene(joints: &[Joint], names: &[String], quarters: u32) -> Scene {
    let facing = DQuat::from_rotation_y(std::f64::consts::FRAC_PI_2 * f64::from(quarters % 4));
    let is_mirrored = quarters >= 4;
    let mirror = DVec3::new(if is_mirrored { -1.0 } else { 1.0 }, 1.0, 1.0);
    let mut rig = Rig::new("rig");
    let mut ids: Vec<NodeId> = Vec::new();
    for (joint, name) in joints.iter().zip(names) {
        let at = facing * joint.at * mirror;
        let kind = if joint.part == "end" { NodeKind::End } else { NodeKind::Joint };
        let node = Node::new(name.clone(), kind, at, RotationOrder::Xyz);
        ids.push(rig.add(joint.parent.map(|parent| ids[parent]), node).unwrap());
    }
    let handedness = if is_mirrored { Handedness::Left } else { Handedness::Right };
    let space = Space { handedness, ..Space::METRES_Y_UP };
    Scene::new(FrameRate::FPS_24, space).with_rig(rig)
}

#[derive(Default, Debug)]
struct Score {
    pairs: usize,
    found: usize,
    wrong: usize,
    wrong_and_sure: Vec<String>,
    sure: usize,
}

impl Score {
    /// Holds a proposal against the truth: joints of one part, side and rank are partners; those of a back, a neck or a tail in
    /// other numbers are so as a chain.
    fn take(&mut self, proposal: &Proposal, from: (&[Joint], &[String]), onto: (&[Joint], &[String])) {
        let find = |(joints, names): (&[Joint], &[String]), name: &str| -> Joint {
            let bare = |name: &str| name.rsplit(':').next().unwrap().to_owned();
            joints[names.iter().position(|own| bare(own) == bare(name)).unwrap_or_else(|| panic!("{name}"))]
                .clone()
        };
        let is_partner = |a: &Joint, b: &Joint| {
            a.part == b.part && a.side == b.side && (a.count != b.count || a.rank == b.rank)
        };
        let wanted = |joint: &Joint| joint.part != "end" && joint.part != "twist";
        let has_partner =
            |joint: &&Joint| wanted(joint) && onto.0.iter().any(|other| is_partner(joint, other));
        self.pairs += from.0.iter().filter(has_partner).count();
        for pair in &proposal.pairs {
            let right = pair.source.iter().filter(|a| {
                let a = find(from, a);
                pair.target.iter().any(|b| is_partner(&a, &find(onto, b)))
            });
            let right = right.filter(|a| wanted(&find(from, a))).count();
            self.found += right;
            self.sure += if pair.sureness == Confidence::Sure { right } else { 0 };
            // A pair of ends or of twist joints is nobody's loss.
            let is_nothing = pair.source.iter().all(|a| !wanted(&find(from, a)));
            if right == 0 && !is_nothing {
                self.wrong += 1;
                if pair.sureness == Confidence::Sure {
                    self.wrong_and_sure
                        .push(format!("{:?} is not {:?}: {}", pair.source, pair.target, pair.why));
                }
            }
        }
    }

    fn part(&self) -> f64 {
        self.found as f64 / self.pairs as f64
    }
}

/// Rigs of two studios, each drawn by itself.
fn met(styles: impl Fn(&mut Dice) -> (usize, usize), all: &[Style], seed: u64, rounds: usize) -> Score {
    let mut dice = Dice(seed);
    let mut score = Score::default();
    for _ in 0..rounds {
        let (one, other) = styles(&mut dice);
        let first = Build::drawn(&mut dice);
        let mut second = Build::drawn(&mut dice);
        second.legs = first.legs;
        let (from, onto) = (first.joints(&mut dice), second.joints(&mut dice));
        let names = |joints: &[Joint], style: usize| -> Vec<String> {
            joints.iter().map(|joint| styled(&all[style], joint)).collect()
        };
        let (from_names, onto_names) = (names(&from, one), names(&onto, other));
        let quarters = dice.below(8) as u32;
        let proposal = propose(&scene(&from, &from_names, 0), &scene(&onto, &onto_names, quarters));
        score.take(&proposal, (&from, &from_names), (&onto, &onto_names));
    }
    println!(
        "{:.1} % of {} found, {} of them sure, {} wrong",
        100.0 * score.part(),
        score.pairs,
        score.sure,
        score.wrong
    );
    score
}

#[test]
fn rigs_of_two_studios_are_recognised_and_nothing_wrong_is_sure() {
    let score = met(|dice| (dice.below(8) as usize, dice.below(8) as usize), &DEVELOPED, 28_112_026, 300);
    assert_eq!(score.wrong_and_sure, Vec::<String>::new());
    assert!(score.part() >= 0.95, "{score:?}");
}

#[test]
fn rigs_in_styles_that_were_kept_apart_are_recognised_and_nothing_wrong_is_sure() {
    let mut all = Vec::from(HELD_OUT);
    all.extend(DEVELOPED);
    let score = met(
        |dice| {
            let (new, any) = (dice.below(4) as usize, dice.below(12) as usize);
            if dice.below(2) == 0 { (new, any) } else { (any, new) }
        },
        &all,
        29_112_026,
        300,
    );
    assert_eq!(score.wrong_and_sure, Vec::<String>::new());
    assert!(score.part() >= 0.95, "{score:?}");
}

#[test]
fn scrambled_names_are_told_by_shape_and_nothing_wrong_is_sure() {
    let mut dice = Dice(30_112_026);
    let mut score = Score::default();
    for _ in 0..200 {
        let first = Build::drawn(&mut dice);
        let mut second = Build::drawn(&mut dice);
        second.legs = first.legs;
        let (from, onto) = (first.joints(&mut dice), second.joints(&mut dice));
        let from_names: Vec<String> = from.iter().map(|joint| styled(&DEVELOPED[0], joint)).collect();
        let syllable = |dice: &mut Dice| {
            ["ba", "ko", "mi", "tu", "re", "lo", "sa", "ni", "vu", "zo"][dice.below(10) as usize]
        };
        let mut scrambled = Vec::new();
        for (index, joint) in onto.iter().enumerate() {
            let word: String = (0..3).map(|_| syllable(&mut dice)).collect();
            scrambled.push(format!(
                "{word}{index:03}{}",
                joint.side.map_or(String::new(), |side| format!("_{side}"))
            ));
        }
        let quarters = dice.below(8) as u32;
        let proposal = propose(&scene(&from, &from_names, 0), &scene(&onto, &scrambled, quarters));
        score.take(&proposal, (&from, &from_names), (&onto, &scrambled));
    }
    println!(
        "{:.1} % of {} found, {} sure, {} wrong",
        100.0 * score.part(),
        score.pairs,
        score.sure,
        score.wrong
    );
    assert_eq!(score.wrong_and_sure, Vec::<String>::new());
    assert!(score.part() >= 0.85, "{score:?}");
}

#[test]
fn what_one_rig_calls_a_shoulder_is_an_arm_where_it_hangs_below_a_collar() {
    let build = Build {
        legs: 2,
        spine: 3,
        neck: 1,
        collar: true,
        fingers: 0,
        tail: 0,
        toe: true,
        root: false,
        hip_joint: false,
        extras: false,
        limbs: 1.0,
        size: 1.0,
        hanging: false,
    };
    let mut dice = Dice(1);
    // Collar, shoulder, elbow, wrist against shoulder, arm, forearm, hand.
    let (from, onto) =
        (build.joints(&mut dice), Build { hanging: true, size: 90.0, ..build }.joints(&mut dice));
    let names = |joints: &[Joint], style: usize| -> Vec<String> {
        joints.iter().map(|joint| styled(&DEVELOPED[style], joint)).collect()
    };
    let (from_names, onto_names) = (names(&from, 3), names(&onto, 2));
    let proposal = propose(&scene(&from, &from_names, 0), &scene(&onto, &onto_names, 1));
    let partner = |name: &str| {
        let pair = proposal
            .pairs
            .iter()
            .find(|pair| pair.source == [name])
            .unwrap_or_else(|| panic!("{name}: {proposal:?}"));
        (pair.target[0].clone(), pair.sureness)
    };
    for (source, target) in [
        ("LeftCollar", "LeftShoulder"),
        ("LeftShoulder", "LeftArm"),
        ("LeftElbow", "LeftForeArm"),
        ("LeftWrist", "LeftHand"),
        ("RightHip", "RightUpLeg"),
        ("RightKnee", "RightLeg"),
        ("RightAnkle", "RightFoot"),
        ("Hips", "Hips"),
        ("Head", "Head"),
    ] {
        assert_eq!(partner(source), (target.to_owned(), Confidence::Sure), "{source}");
    }
}

#[test]
fn a_prefix_that_all_names_share_says_nothing() {
    let build = Build { fingers: 5, ..Build::drawn(&mut Dice(5)) };
    let joints = build.joints(&mut Dice(5));
    let names: Vec<String> = joints.iter().map(|joint| styled(&DEVELOPED[0], joint)).collect();
    for rename in [|name: &String| format!("hero_{name}_jnt"), |name: &String| format!("Vx{name}")] {
        let renamed: Vec<String> = names.iter().map(rename).collect();
        let proposal = propose(&scene(&joints, &names, 0), &scene(&joints, &renamed, 0));
        let mut score = Score::default();
        score.take(&proposal, (&joints, &names), (&joints, &renamed));
        let sure = proposal.pairs.iter().filter(|pair| pair.sureness == Confidence::Sure).count();
        assert_eq!(
            (score.found, score.wrong, sure),
            (score.pairs, 0, proposal.pairs.len()),
            "{:?}",
            proposal.pairs
        );
    }
}
