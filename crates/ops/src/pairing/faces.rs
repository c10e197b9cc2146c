//! What attributes of a face are called: the same expression in either order of its words, and in the words that are common for it.

use std::collections::BTreeSet;

use crate::names::{BodySide, split_words};

/// An expression: what moves and how, and on which side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Expression {
    words: BTreeSet<String>,
    side: Option<BodySide>,
}

/// Words that say that it is an expression, and nothing about which.
const FILLERS: [&str; 16] = [
    "face",
    "facial",
    "fcl",
    "exp",
    "expr",
    "expression",
    "shape",
    "bs",
    "blend",
    "morph",
    "weight",
    "ctrl",
    "ctl",
    "corner",
    "all",
    "both",
];

/// What a word means.
const MEANINGS: &[(&str, &[&str])] = &[
    ("jaw", &["mouth"]),
    ("mandible", &["mouth"]),
    ("lips", &["mouth"]),
    ("mth", &["mouth"]),
    ("opened", &["open"]),
    ("drop", &["open"]),
    ("closed", &["close"]),
    ("shut", &["close"]),
    ("blink", &["eye", "close"]),
    ("blinks", &["eye", "close"]),
    ("wink", &["eye", "close"]),
    ("eyes", &["eye"]),
    ("lid", &["eye"]),
    ("lids", &["eye"]),
    ("eyelid", &["eye"]),
    ("eyelids", &["eye"]),
    ("squint", &["eye", "squint"]),
    ("brows", &["brow"]),
    ("eyebrow", &["brow"]),
    ("eyebrows", &["brow"]),
    ("raise", &["up"]),
    ("raised", &["up"]),
    ("raiser", &["up"]),
    ("lift", &["up"]),
    ("lower", &["down"]),
    ("lowered", &["down"]),
    ("lowerer", &["down"]),
    ("smile", &["mouth", "smile"]),
    ("smiling", &["mouth", "smile"]),
    ("frown", &["mouth", "frown"]),
    ("pucker", &["mouth", "pucker"]),
    ("kiss", &["mouth", "pucker"]),
    ("funnel", &["mouth", "funnel"]),
    ("cheeks", &["cheek"]),
    ("puff", &["cheek", "puff"]),
    ("puffed", &["cheek", "puff"]),
    ("sneer", &["nose", "sneer"]),
    ("gaze", &["look"]),
    ("happy", &["joy"]),
    ("sadness", &["sad"]),
    ("sorrow", &["sad"]),
    ("anger", &["angry"]),
    ("surprised", &["surprise"]),
    ("relaxed", &["relax"]),
    // Vowels, as the open standard of humanoids calls them.
    ("aa", &["vowel a"]),
    ("ih", &["vowel i"]),
    ("ou", &["vowel u"]),
    ("ee", &["vowel e"]),
    ("oh", &["vowel o"]),
    ("a", &["vowel a"]),
    ("i", &["vowel i"]),
    ("u", &["vowel u"]),
    ("e", &["vowel e"]),
    ("o", &["vowel o"]),
];

impl Expression {
    /// What an attribute's name says; `None` where it says nothing.
    pub fn of(name: &str) -> Option<Expression> {
        let (pieces, side) = split_words(name);
        let mut words: BTreeSet<String> = BTreeSet::new();
        let is_jaw = pieces.iter().any(|piece| piece == "jaw");
        for piece in pieces.iter().filter(|piece| !FILLERS.contains(&piece.as_str())) {
            match MEANINGS.iter().find(|(word, _)| word == piece) {
                Some((_, means)) => words.extend(means.iter().map(|word| (*word).to_owned())),
                None => _ = words.insert(piece.clone()),
            }
        }
        if words.iter().any(|word| word.starts_with("vowel")) {
            words.remove("mouth");
        }
        // A jaw that is said to do nothing opens.
        if is_jaw && words.len() == 1 {
            words.insert("open".to_owned());
        }
        (!words.is_empty()).then_some(Expression { words, side })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_expressions_are_told_in_other_words_and_others_are_not() {
        for (one, other, same) in [
            ("jaw_open", "mouthOpen", true),
            ("openMouth", "Jaw", true),
            ("blink", "eye_closed", true),
            ("blinkLeft", "eyeClose_L", true),
            ("blink_l", "eyeClose_R", false),
            ("Fcl_EYE_Close_L", "l_blink", true),
            ("smile", "mouthSmile", true),
            ("smile", "frown", false),
            ("browRaise", "eyebrows_up", true),
            ("brow_up", "brow_down", false),
            ("browInnerUp", "brow_up", false),
            ("cheekPuff", "puff", true),
            ("aa", "MTH_A", true),
            ("aa", "oh", false),
            ("aa", "mouth_open", false),
            ("happy", "Joy", true),
            ("lookUp", "gaze_up", true),
            ("tongueOut", "out_tongue", true),
        ] {
            let (a, b) = (Expression::of(one), Expression::of(other));
            assert!(a.is_some() && b.is_some());
            assert_eq!(a == b, same, "{one} {other}: {a:?} {b:?}");
        }
        assert_eq!(Expression::of("face_ctrl"), None);
    }
}
