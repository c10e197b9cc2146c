//! What speaks for a pair, and what against it.

use std::collections::{HashMap, HashSet};

use nimble_curve_scene::address::without_namespace;

use super::matching::{Found, Matching, NEAR};
use super::proposal::Confidence;
use crate::anatomy::Body;
use crate::anatomy::{Slot, differ};

/// The pairs as a whole, against which each is held.
pub(super) struct Witnesses<'a> {
    matching: &'a Matching<'a>,
    partner: HashMap<usize, usize>,
    onto_known: HashSet<usize>,
    /// Whether most nodes of one rig are called as some of the other.
    named_alike: bool,
}

/// The part of the smaller rig's names that has to stand in the other for both to be named in one way.
const ALIKE: f64 = 0.6;

impl<'a> Witnesses<'a> {
    pub fn of(matching: &'a Matching<'a>) -> Witnesses<'a> {
        let partner = matching.ends();
        let onto_known = partner.values().copied().collect();
        let plain = |body: &'a Body<'a>| -> HashSet<&'a str> {
            (0..body.len()).map(|at| without_namespace(body.name(at))).collect()
        };
        let (from, onto) = (plain(matching.from), plain(matching.onto));
        let common = from.intersection(&onto).count() as f64;
        let named_alike = common >= ALIKE * from.len().min(onto.len()) as f64 && common >= 3.0;
        Witnesses { matching, partner, onto_known, named_alike }
    }

    /// How sure a pair is, and what speaks against it, to be put behind the reason.
    pub fn heard(&self, from: usize, onto: usize) -> (Confidence, String) {
        let (a, b) = (self.matching.from, self.matching.onto);
        if a.told[from].is_some() && a.told[from] == b.told[onto] {
            return (Confidence::Sure, String::new());
        }
        let same_name = without_namespace(a.name(from)) == without_namespace(b.name(onto));
        let name = same_name
            || a.bare[from].eq_ignore_ascii_case(&b.bare[onto])
            || !a.names[from].words.is_empty() && a.names[from].words == b.names[onto].words;
        let slots = (self.matching.shapes[0].slots[from], self.matching.shapes[1].slots[onto]);
        let shape = slots.0.is_some() && slots.0 == slots.1;
        let place = self.near(from, onto);
        let (around, is_elsewhere) = self.around(from, onto);
        let mut against: Vec<String> = Vec::new();
        if let (Some(x), Some(y)) = slots
            && differ(x, y)
        {
            let part = |slot: Slot| slot.0.name();
            against.push(match x.0 == y.0 {
                true => "on the other side by shape".to_owned(),
                false => format!("by shape one is the {}, the other the {}", part(x), part(y)),
            });
        }
        // Where the trunk ends is a matter of taste: a spine against a chest is none.
        let is_trunk = shape && slots.0.is_some_and(|(_, side)| side.is_none());
        if !name && !is_trunk && self.matching.are_other_parts(from, onto) {
            against.push("names of other parts".to_owned());
        }
        if let (Some(x), Some(y)) = (a.names[from].side, b.names[onto].side)
            && x != y
        {
            against.push("names of other sides".to_owned());
        }
        if a.side(from) * b.side(onto) < 0.0 {
            against.push("on the other side at rest".to_owned());
        }
        if self.matching.differ_by_rank(from, onto) {
            against.push("at other places in their chains".to_owned());
        }
        if is_elsewhere && !same_name {
            against.push("below other pairs".to_owned());
        }
        let alike = same_name && self.named_alike;
        let count = [name, shape, place, around, alike].iter().filter(|speaks| **speaks).count();
        let sureness = match (against.is_empty(), name || shape) {
            (true, true) if name && count >= 2 || shape && place && around => Confidence::Sure,
            (true, true) => Confidence::Likely,
            (true, false) if place && around => Confidence::Likely,
            (false, true) if count >= 2 => Confidence::Likely,
            _ => Confidence::Guess,
        };
        let doubts =
            if against.is_empty() { String::new() } else { format!(", but {}", against.join(" and ")) };
        (sureness, doubts)
    }

    /// How sure two chains of other lengths are.
    pub fn chain(&self, from: &[usize], onto: &[usize]) -> Confidence {
        let shapes = self.matching.shapes;
        let slot = shapes[0].slots[from[0]];
        let shape = slot.is_some()
            && from.iter().all(|&at| shapes[0].slots[at] == slot)
            && onto.iter().all(|&at| shapes[1].slots[at] == slot);
        let words = &self.matching.from.names[from[0]].words;
        let is_back = |words: &[String]| matches!(words, [only] if only == "spine" || only == "chest");
        let is_alike = |own: &[String]| own == words || is_back(own) && is_back(words);
        let alike =
            |body: &Body<'_>, nodes: &[usize]| nodes.iter().all(|&at| is_alike(&body.names[at].words));
        let name = !words.is_empty() && alike(self.matching.from, from) && alike(self.matching.onto, onto);
        match (name, shape) {
            (true, true) => Confidence::Sure,
            (false, false) => Confidence::Guess,
            _ => Confidence::Likely,
        }
    }

    /// Whether the two stand at about the same place, in the body or beside the pair above them.
    fn near(&self, from: usize, onto: usize) -> bool {
        let (a, b) = (self.matching.from, self.matching.onto);
        let apart = (a.places[from] - b.places[onto]).length();
        let above = a.upwards(from).find_map(|at| Some((at, *self.partner.get(&at)?)));
        let beside =
            above.map(|(x, y)| ((a.places[from] - a.places[x]) - (b.places[onto] - b.places[y])).length());
        apart < NEAR || beside.is_some_and(|beside| beside < NEAR)
    }

    /// Whether the pairs next above and below are the same on both sides; and whether the one above is another.
    fn around(&self, from: usize, onto: usize) -> (bool, bool) {
        let (a, b) = (self.matching.from, self.matching.onto);
        let above_from = a.upwards(from).find_map(|at| self.partner.get(&at).copied());
        let above_onto = b.upwards(onto).find(|at| self.onto_known.contains(at));
        let below: Vec<usize> = (0..a.len())
            .filter(|&at| self.partner.contains_key(&at))
            .filter(|&at| a.upwards(at).find(|up| self.partner.contains_key(up)) == Some(from))
            .collect();
        let follows =
            |at: &usize| b.upwards(self.partner[at]).find(|up| self.onto_known.contains(up)) == Some(onto);
        let has_below = (0..b.len()).any(|at| self.onto_known.contains(&at) && b.is_above(onto, at));
        let agree = if below.is_empty() { !has_below } else { below.iter().any(follows) };
        (above_from == above_onto && agree, above_from != above_onto)
    }
}

impl Matching<'_> {
    /// How sure each pair is: what speaks for it and what against; where two contradict each other the less sure one goes.
    pub(super) fn settle(&mut self) {
        let witnesses = Witnesses::of(self);
        let heard: Vec<_> = self.pairs.iter().map(|pair| witnesses.heard(pair.from, pair.onto)).collect();
        let chains: Vec<_> = self.chains.iter().map(|(from, onto, ..)| witnesses.chain(from, onto)).collect();
        for (pair, (sureness, doubts)) in self.pairs.iter_mut().zip(heard) {
            pair.sureness = sureness;
            pair.doubted = !doubts.is_empty();
            pair.why.push_str(&doubts);
        }
        for (chain, sureness) in self.chains.iter_mut().zip(chains) {
            chain.2 = sureness;
        }
        let mut order: Vec<usize> = (0..self.pairs.len()).collect();
        order.sort_by_key(|&index| self.pairs[index].sureness);
        let mut kept: Vec<Found> = Vec::new();
        for index in order {
            let pair = self.pairs[index].clone();
            let contradicts = kept.iter().any(|other| {
                self.from.is_above(other.from, pair.from) && self.onto.is_above(pair.onto, other.onto)
                    || self.from.is_above(pair.from, other.from) && self.onto.is_above(other.onto, pair.onto)
            });
            if !contradicts {
                kept.push(pair);
            }
        }
        self.pairs = kept;
    }
}
