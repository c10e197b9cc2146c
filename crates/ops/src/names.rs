//! What names of nodes say: sides, body parts, numbers, in the spellings that are common.

use nimble_curve_scene::rig::{NodeId, Rig};

/// The side that a name speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum BodySide {
    Left,
    Right,
}

impl BodySide {
    fn other(self) -> BodySide {
        match self {
            BodySide::Left => BodySide::Right,
            BodySide::Right => BodySide::Left,
        }
    }
}

/// A name taken apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Name {
    pub side: Option<BodySide>,
    /// Its words in lower case, one word for all names of a body part; sides and numbers left out.
    pub words: Vec<String>,
    /// The last number in it.
    pub number: Option<u32>,
}

/// Spellings of sides.
const SIDES: [(&str, BodySide); 8] = [
    ("left", BodySide::Left),
    ("lft", BodySide::Left),
    ("lf", BodySide::Left),
    ("l", BodySide::Left),
    ("right", BodySide::Right),
    ("rgt", BodySide::Right),
    ("rt", BodySide::Right),
    ("r", BodySide::Right),
];

/// Words that say what kind of node it is and nothing about which one.
const FILLERS: [&str; 16] = [
    "jnt", "joint", "bone", "ctrl", "ctl", "control", "con", "skin", "bind", "def", "rig", "fk", "anim",
    "node", "b", "j",
];

/// Body parts with their spellings; the first stands for all. What a *shoulder*, an *arm*, a *leg* or a hip with a side is, the
/// other names of the rig tell: see [`in_context`].
const PARTS: [&[&str]; 25] = [
    &["root", "world", "global", "main", "master", "trajectory", "motion"],
    &["hips", "hip", "pelvis", "pelvic"],
    &["spine", "back", "torso", "waist", "abdomen", "lowerback", "upperback", "belly", "stomach"],
    &["chest", "ribs", "ribcage", "thorax", "breast"],
    &["neck", "throat"],
    &["head", "skull"],
    &["jaw", "mandible", "chin"],
    &["collar", "clavicle", "clav", "scapula", "collarbone"],
    &["shoulder", "shldr", "shoulders"],
    &["upperarm", "uparm", "bicep", "humerus"],
    &["arm", "wing"],
    &["forearm", "lowerarm", "lowarm", "elbow", "radius", "ulna"],
    &["hand", "wrist", "palm", "pinion"],
    &["haunch", "buttock", "hipjoint"],
    &["thigh", "upperleg", "upleg", "femur"],
    &["leg"],
    &["shin", "lowerleg", "lowleg", "knee", "calf", "tibia"],
    &["foot", "ankle", "hock"],
    &["toe", "toes", "ball", "toebase", "claws"],
    &["thumb"],
    &["finger", "index", "pointer"],
    &["middle"],
    &["ring"],
    &["pinky", "little", "pinkie"],
    &["tail", "stub"],
];

/// The pieces of a name: words, numbers, and what stands between them.
fn pieces(name: &str) -> Vec<&str> {
    let kind = |c: char| match c {
        c if c.is_ascii_digit() => 0,
        c if c.is_alphabetic() => 1,
        _ => 2,
    };
    let chars: Vec<(usize, char)> = name.char_indices().collect();
    let mut cuts = vec![0];
    for index in 1..chars.len() {
        let (before, (at, here)) = (chars[index - 1].1, chars[index]);
        let after = chars.get(index + 1).map(|next| next.1);
        let is_new_word = here.is_uppercase()
            && (before.is_lowercase() || before.is_uppercase() && after.is_some_and(char::is_lowercase));
        if kind(before) != kind(here) || is_new_word {
            cuts.push(at);
        }
    }
    cuts.push(name.len());
    cuts.dedup();
    cuts.windows(2).map(|pair| &name[pair[0]..pair[1]]).collect()
}

fn side_of(piece: &str) -> Option<BodySide> {
    let lower = piece.to_lowercase();
    SIDES.iter().find(|(spelling, _)| *spelling == lower).map(|(_, side)| *side)
}

/// A side written into one word with what follows or precedes it: `leftarm`, `armleft`.
fn joined_side(word: &str) -> Option<(BodySide, &str)> {
    [("left", BodySide::Left), ("right", BodySide::Right)].into_iter().find_map(|(spelling, side)| {
        let rest = word.strip_prefix(spelling).or_else(|| word.strip_suffix(spelling))?;
        (rest.len() > 1).then_some((side, rest))
    })
}

/// The words of a name in lower case, its side taken out of them; namespaces and numbers left out.
pub(super) fn split_words(name: &str) -> (Vec<String>, Option<BodySide>) {
    let (mut words, mut side) = (Vec::new(), None);
    let is_word = |piece: &&&str| piece.starts_with(char::is_alphabetic);
    for piece in pieces(nimble_curve_scene::address::without_namespace(name)).iter().filter(is_word) {
        let mut word = piece.to_lowercase();
        if side.is_none() {
            side = side_of(piece);
            if side.is_some() {
                continue;
            }
            if let Some((own, rest)) = joined_side(&word) {
                (side, word) = (Some(own), rest.to_owned());
            }
        }
        words.push(word);
    }
    (words, side)
}

impl Name {
    /// Takes a name apart, its namespaces left out.
    pub fn of(name: &str) -> Name {
        let mut found = Name::default();
        let pieces = pieces(nimble_curve_scene::address::without_namespace(name));
        for (index, &piece) in pieces.iter().enumerate() {
            // A letter at the end counts like a number.
            let letter = piece.to_ascii_lowercase().bytes().next().unwrap_or(b' ');
            let is_last = index + 1 == pieces.len() && index > 0;
            if is_last && piece.len() == 1 && (b'a'..=b'i').contains(&letter) && found.number.is_none() {
                found.number = Some(u32::from(letter - b'a') + 1);
                continue;
            }
            if let Ok(number) = piece.parse::<u32>() {
                found.number = Some(number);
                continue;
            }
            if !piece.starts_with(char::is_alphabetic) {
                continue;
            }
            if let (Some(side), None) = (side_of(piece), found.side) {
                found.side = Some(side);
                continue;
            }
            let mut lower = piece.to_lowercase();
            if let (Some((side, rest)), None) = (joined_side(&lower), found.side) {
                found.side = Some(side);
                lower = rest.to_owned();
            }
            if FILLERS.contains(&lower.as_str()) {
                continue;
            }
            found.words.push(lower);
        }
        found.join_words();
        found
    }

    /// Words that are one body part together, such as *upper arm*, and one word for all its spellings.
    fn join_words(&mut self) {
        let mut index = 0;
        while index + 1 < self.words.len() {
            let (one, other) = (&self.words[index], &self.words[index + 1]);
            // *upper arm*, and *arm upper*.
            let both = [format!("{one}{other}"), format!("{other}{one}")];
            let is_part = |both: &&String| PARTS.iter().any(|part| part.contains(&both.as_str()));
            if let Some(both) = both.iter().find(is_part) {
                self.words[index].clone_from(both);
                self.words.remove(index + 1);
            }
            index += 1;
        }
        for word in &mut self.words {
            // A hip with a side is where a leg begins.
            if word == "hip" && self.side.is_some() {
                "haunch".clone_into(word);
            }
            let one = PARTS.iter().find(|part| part.contains(&word.as_str()));
            if let Some(part) = one {
                part[0].clone_into(word);
            }
        }
        // A finger of a hand is a finger, and an index finger one, too.
        const FINGERS: [&str; 5] = ["thumb", "finger", "middle", "ring", "pinky"];
        if self.words.iter().any(|word| FINGERS.contains(&word.as_str())) {
            self.words.retain(|word| word != "hand");
            if self.words.iter().any(|word| word != "finger" && FINGERS.contains(&word.as_str())) {
                self.words.retain(|word| word != "finger");
            }
        }
        self.words.dedup();
    }

    /// Whether the words name a body part that is known.
    pub fn is_known(&self) -> bool {
        self.words.iter().any(|word| PARTS.iter().any(|part| part[0] == word))
    }
}

/// The word of a body part for people.
pub(super) fn spoken(word: &str) -> &str {
    match word {
        "upperarm" => "upper arm",
        "collar" => "collar bone",
        "haunch" => "hip joint",
        other => other,
    }
}

/// What the names of one rig mean beside each other: a shoulder below a collar bone is an upper arm, and so is one above an elbow where
/// nothing else is; a leg below a thigh is a shin, above a knee it is the thigh.
pub(super) fn in_context(names: &mut [Name]) {
    let has = |word: &str| names.iter().any(|name| name.words.iter().any(|own| own == word));
    let [collar, shoulder, upperarm, arm, forearm] =
        ["collar", "shoulder", "upperarm", "arm", "forearm"].map(has);
    let [haunch, thigh, leg, shin] = ["haunch", "thigh", "leg", "shin"].map(has);
    let shoulder_is_arm = shoulder && !upperarm && (collar || !arm);
    let mut meant: Vec<(&str, &str)> = Vec::new();
    meant.push(("shoulder", if shoulder_is_arm { "upperarm" } else { "collar" }));
    // Where another one is the upper arm, what is called an arm lies below it.
    let arm_is_lower = (upperarm || shoulder_is_arm) && !forearm;
    meant.push(("arm", if arm_is_lower { "forearm" } else { "upperarm" }));
    let leg_is_thigh = leg && !thigh && (shin || !haunch);
    meant.push(("leg", if leg_is_thigh { "thigh" } else { "shin" }));
    if haunch && !thigh && !leg_is_thigh {
        meant.push(("haunch", "thigh"));
    }
    for word in names.iter_mut().flat_map(|name| &mut name.words) {
        if let Some((_, means)) = meant.iter().find(|(own, _)| own == word) {
            (*means).clone_into(word);
        }
    }
}

/// How a rig is named as a whole: what most of its names begin and end with, such as `hero_` or `_jnt`, says nothing about which node
/// one is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Naming {
    before: Vec<String>,
    after: Vec<String>,
    /// Characters that nearly all names begin with, where no separator or capital follows them.
    glued: String,
}

/// The part of a rig's names that has to begin or end alike, and how many there have to be.
const COMMON: (f64, usize) = (0.6, 4);

impl Naming {
    /// Learns it from the names of a rig, their namespaces left out.
    pub fn of<'n>(names: impl Iterator<Item = &'n str>) -> Naming {
        let forwards: Vec<Vec<String>> = names.map(|name| lower(name).collect()).collect();
        let backwards: Vec<Vec<String>> =
            forwards.iter().map(|name| name.iter().rev().cloned().collect()).collect();
        let before = common_start(&forwards);
        let glued = if before.is_empty() { glued_start(&forwards) } else { String::new() };
        Naming { before, after: common_start(&backwards), glued }
    }

    /// A name without what it shares with most others.
    pub fn bare<'n>(&self, name: &'n str) -> &'n str {
        let name = nimble_curve_scene::address::without_namespace(name);
        let own = pieces(name);
        let begins =
            own.iter().zip(&self.before).take_while(|(own, before)| own.to_lowercase() == **before).count();
        let ends = own
            .iter()
            .rev()
            .zip(&self.after)
            .take_while(|(own, after)| own.to_lowercase() == **after)
            .count();
        let start = if begins == self.before.len() { begins } else { 0 };
        let end = if ends == self.after.len() { own.len() - ends } else { own.len() };
        let length = |pieces: &[&str]| pieces.iter().map(|piece| piece.len()).sum::<usize>();
        // A name that is nothing else stays.
        if start >= end || !own[start..end].iter().any(|piece| piece.starts_with(char::is_alphanumeric)) {
            return name;
        }
        let bare = &name[length(&own[..start])..length(&own[..end])];
        let has_glued = bare.get(..self.glued.len()).is_some_and(|begin| begin.to_lowercase() == self.glued);
        if has_glued && bare.len() > self.glued.len() { &bare[self.glued.len()..] } else { bare }
    }
}

fn lower(name: &str) -> impl Iterator<Item = String> + '_ {
    pieces(nimble_curve_scene::address::without_namespace(name)).into_iter().map(str::to_lowercase)
}

/// The pieces with which most names begin, as long as they name no side and no body part.
fn common_start(names: &[Vec<String>]) -> Vec<String> {
    let mut common: Vec<String> = Vec::new();
    let mut these: Vec<&Vec<String>> = names.iter().collect();
    loop {
        let at = common.len();
        let mut counts: std::collections::BTreeMap<&str, usize> = std::collections::BTreeMap::new();
        for name in these.iter().filter(|name| name.len() > at + 1) {
            *counts.entry(&name[at]).or_default() += 1;
        }
        let Some((piece, count)) = counts.into_iter().max_by_key(|(_, count)| *count) else { break };
        let says_something = side_of(piece).is_some() || PARTS.iter().any(|part| part.contains(&piece));
        // What follows the first piece belongs to it only where it always does.
        let enough = if at == 0 { COMMON.0 * names.len() as f64 } else { 0.95 * these.len() as f64 };
        if says_something || (count as f64) < enough || count < COMMON.1 {
            break;
        }
        let piece = piece.to_owned();
        these.retain(|name| name.get(at) == Some(&piece));
        common.push(piece);
    }
    common
}

/// The characters with which nearly all names of a rig begin; none where that may be a word of theirs.
fn glued_start(names: &[Vec<String>]) -> String {
    let names: Vec<String> = names.iter().map(|pieces| pieces.concat()).collect();
    let mut best = String::new();
    for first in names.iter().take(3) {
        let alike =
            |length: usize| names.iter().filter(|name| name.get(..length) == first.get(..length)).count();
        let shared = (2..first.len())
            .filter(|&length| {
                first.is_char_boundary(length) && first[..length].chars().all(char::is_alphabetic)
            })
            .take_while(|&length| names.len() >= 2 * COMMON.1 && alike(length) * 10 >= names.len() * 9)
            .last();
        if let Some(length) = shared.filter(|&length| length > best.len()) {
            best = first[..length].to_owned();
        }
    }
    best
}

/// The part of a body that a node belongs to, for people: *left arm*, *spine*, *tail*. Nodes whose own names say nothing
/// belong with the node above them.
pub fn body_part(rig: &Rig, id: NodeId) -> String {
    let of_name = |id: NodeId| -> Option<String> {
        let name = Name::of(&rig.node(id)?.name);
        let limb = name.words.iter().find_map(|word| {
            Some(match word.as_str() {
                "collar" | "shoulder" | "upperarm" | "arm" | "forearm" | "hand" | "thumb" | "finger"
                | "middle" | "ring" | "pinky" => "arm",
                "haunch" | "thigh" | "leg" | "shin" | "foot" | "toe" => "leg",
                "root" | "hips" => "root and hips",
                "spine" | "chest" => "spine",
                "neck" | "head" | "jaw" | "face" | "eye" | "brow" | "mouth" | "beak" => "head",
                "tail" => "tail",
                _ => return None,
            })
        })?;
        Some(match name.side {
            Some(BodySide::Left) => format!("left {limb}"),
            Some(BodySide::Right) => format!("right {limb}"),
            None => limb.to_owned(),
        })
    };
    std::iter::successors(Some(id), |&id| rig.parent(id)).find_map(of_name).unwrap_or_else(|| "other".into())
}

/// Whether a node is a hand or a foot by its own name.
pub fn is_hand_or_foot(name: &str) -> bool {
    Name::of(name).words.iter().any(|word| word == "hand" || word == "foot")
}

/// The order in which parts of a body are listed.
pub fn body_part_rank(part: &str) -> usize {
    const ORDER: [&str; 9] =
        ["root and hips", "spine", "head", "left arm", "right arm", "left leg", "right leg", "tail", "other"];
    ORDER.iter().position(|own| *own == part).unwrap_or(ORDER.len() - 1)
}

/// The name of the same part on the other side; `None` where a name has no side.
pub(super) fn other_side(name: &str) -> Option<String> {
    let start = name.rfind(':').map_or(0, |colon| colon + 1);
    let mut swapped = name[..start].to_owned();
    let mut done = false;
    for piece in pieces(&name[start..]) {
        match side_of(piece).filter(|_| !done) {
            Some(side) => {
                done = true;
                swapped.push_str(&spelled_like(piece, side));
            }
            None => {
                let joined = joined_side(&piece.to_lowercase()).filter(|_| !done).map(|(side, _)| side);
                let Some(side) = joined else {
                    swapped.push_str(piece);
                    continue;
                };
                done = true;
                let word = if side == BodySide::Left { "left" } else { "right" };
                let at = piece.to_lowercase().find(word).unwrap_or(0);
                swapped.push_str(&piece[..at]);
                swapped.push_str(&spelled_like(&piece[at..at + word.len()], side));
                swapped.push_str(&piece[at + word.len()..]);
            }
        }
    }
    done.then_some(swapped)
}

/// The other side in the same spelling: `LEFT` gives `RIGHT`, `l` gives `r`.
fn spelled_like(piece: &str, side: BodySide) -> String {
    let place = SIDES.iter().position(|(spelling, _)| *spelling == piece.to_lowercase()).unwrap_or(0);
    let other = SIDES[(place + 4) % 8].0;
    debug_assert_eq!(SIDES[(place + 4) % 8].1, side.other());
    if piece.chars().all(char::is_uppercase) {
        other.to_uppercase()
    } else if piece.starts_with(char::is_uppercase) {
        other[..1].to_uppercase() + &other[1..]
    } else {
        other.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_one_joint_are_one_name() {
        let names =
            ["upperarm_l", "LeftUpperArm", "L_UpArm", "courier:arm_l", "jnt_L_humerus", "leftarm", "ArmLeft"];
        for name in names {
            let mut found = Name::of(name);
            in_context(std::slice::from_mut(&mut found));
            assert_eq!(
                (found.side, found.words.as_slice()),
                (Some(BodySide::Left), &["upperarm".to_owned()][..]),
                "{name}"
            );
        }
        for (name, words, number) in [
            ("spine_01", "spine", Some(1)),
            ("Back3", "spine", Some(3)),
            ("b_spine2_jnt", "spine", Some(2)),
            ("spine_c", "spine", Some(3)),
            ("HandIndexFinger2", "finger", Some(2)),
            ("Pelvis", "hips", None),
        ] {
            let found = Name::of(name);
            assert_eq!(
                (found.words.join(" ").as_str(), found.number, found.side),
                (words, number, None),
                "{name}"
            );
            assert!(found.is_known());
        }
        assert!(!Name::of("lantern").is_known());
    }

    #[test]
    fn the_other_side_is_spelled_alike() {
        for (name, other) in [
            ("arm_l", Some("arm_r")),
            ("L_Wing", Some("R_Wing")),
            ("LeftHand", Some("RightHand")),
            ("a:leftarm", Some("a:rightarm")),
            ("HAND_RGT", Some("HAND_LFT")),
            ("tail_01", None),
            ("courier:collar", None),
        ] {
            assert_eq!(other_side(name).as_deref(), other, "{name}");
            if let Some(other) = other {
                assert_eq!(other_side(other).as_deref(), Some(name));
            }
        }
    }
}
