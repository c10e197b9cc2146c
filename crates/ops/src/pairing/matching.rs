//! Nodes of two bodies paired, from the surest on.

use std::collections::{BTreeMap, HashMap, HashSet};

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::address::{Addresses, without_namespace};
use nimble_curve_scene::parts::decomposed;

use super::named::Named;
use super::numbers::numbers;
use super::proposal::{Confidence, Proposal, Proposed};
use crate::anatomy::{Anatomy, Body, Part, decorates, differ};
use crate::names::{BodySide, Name, spoken};

/// A pair by positions.
#[derive(Clone, Debug)]
pub(super) struct Found {
    pub(super) from: usize,
    pub(super) onto: usize,
    pub(super) sureness: Confidence,
    pub(super) why: String,
    pub(super) doubted: bool,
}

pub(super) struct Matching<'a> {
    pub(super) from: &'a Body<'a>,
    pub(super) onto: &'a Body<'a>,
    /// What the shapes of the two say.
    pub(super) shapes: [&'a Anatomy; 2],
    pub(super) pairs: Vec<Found>,
    pub(super) chains: Vec<(Vec<usize>, Vec<usize>, Confidence, String)>,
}

/// How near two places have to be, in heights, to be held for the same.
pub(super) const NEAR: f64 = 0.05;

impl Matching<'_> {
    pub(super) fn used(&self) -> (HashSet<usize>, HashSet<usize>) {
        let mut from: HashSet<usize> = self.pairs.iter().map(|pair| pair.from).collect();
        let mut onto: HashSet<usize> = self.pairs.iter().map(|pair| pair.onto).collect();
        for (a, b, ..) in &self.chains {
            from.extend(a);
            onto.extend(b);
        }
        (from, onto)
    }

    pub(super) fn push(&mut self, from: usize, onto: usize, why: &str) {
        self.pairs.push(Found {
            from,
            onto,
            sureness: Confidence::Guess,
            why: why.to_owned(),
            doubted: false,
        });
    }

    /// Whether the two are different parts of the body by shape.
    pub(super) fn differ_by_shape(&self, from: usize, onto: usize) -> bool {
        matches!((self.shapes[0].slots[from], self.shapes[1].slots[onto]), (Some(a), Some(b)) if differ(a, b))
    }

    /// Whether both stand in a chain of as many nodes of their name, at another place of it: one rig counts from 0, the other from 1.
    pub(super) fn differ_by_rank(&self, from: usize, onto: usize) -> bool {
        let ((rank, count), (other, as_many)) = (self.from.ranks[from], self.onto.ranks[onto]);
        let same_words = self.from.names[from].words == self.onto.names[onto].words;
        same_words && count == as_many && rank != other
    }

    /// Whether names that are known say that the two are different parts of the body.
    pub(super) fn are_other_parts(&self, from: usize, onto: usize) -> bool {
        let (a, b) = (&self.from.names[from], &self.onto.names[onto]);
        a.is_known() && b.is_known() && a.words != b.words
    }

    /// Nodes that both files tell to be the same bone of a human body.
    pub(super) fn by_told(&mut self) {
        for from in 0..self.from.len() {
            let Some(bone) = self.from.told[from] else { continue };
            if let Some(onto) = self.onto.told.iter().position(|other| *other == Some(bone)) {
                self.push(from, onto, &format!("both files tell it to be {bone}"));
            }
        }
    }

    /// Names that are the same, each of them unique; then the same without namespaces, whatever their case, and without what all
    /// names of a rig share. Those that the shapes of the rigs speak against are left for later, `in_any_shape`.
    pub(super) fn by_name(&mut self, in_any_shape: bool) {
        type Plain = fn(&Body<'_>, usize) -> String;
        let ways: [(Plain, &str); 4] = [
            (|body, at| body.name(at).to_owned(), "same name"),
            (|body, at| without_namespace(body.name(at)).to_owned(), "same name without namespace"),
            (|body, at| without_namespace(body.name(at)).to_lowercase(), "same name but for case"),
            (|body, at| body.bare[at].to_lowercase(), "same name but for what all names of the rig share"),
        ];
        for (plain, why) in ways {
            let (from_used, onto_used) = self.used();
            let unique = |body: &Body<'_>, used: &HashSet<usize>| {
                let mut found: HashMap<String, Option<usize>> = HashMap::new();
                for at in (0..body.len()).filter(|at| !used.contains(at)) {
                    found.entry(plain(body, at)).and_modify(|at| *at = None).or_insert(Some(at));
                }
                found
            };
            let sources = unique(self.from, &from_used);
            let targets = unique(self.onto, &onto_used);
            let mut same: Vec<(usize, usize)> =
                sources.iter().filter_map(|(name, from)| Some(((*from)?, (*targets.get(name)?)?))).collect();
            same.sort_unstable();
            for (from, onto) in same {
                if in_any_shape || !self.differ_by_shape(from, onto) && !self.differ_by_rank(from, onto) {
                    self.push(from, onto, why);
                }
            }
        }
    }

    /// Names of the same body part and side: by rank where there are equally many, as chains where there are not.
    pub(super) fn by_part(&mut self, in_any_shape: bool) {
        type Key = (Option<bool>, Vec<String>);
        let (from_used, onto_used) = self.used();
        let groups = |body: &Body<'_>, used: &HashSet<usize>| {
            let mut groups: BTreeMap<Key, Vec<usize>> = BTreeMap::new();
            for at in (0..body.len()).filter(|at| !used.contains(at)) {
                let name = &body.names[at];
                if name.words.is_empty() || body.kind(at).is_support() {
                    continue;
                }
                let side = name.side.map(|side| side == BodySide::Left);
                groups.entry((side, name.words.clone())).or_default().push(at);
            }
            groups
        };
        let mut sources = groups(self.from, &from_used);
        let mut targets = groups(self.onto, &onto_used);
        // A back without a chest of its own has it as its last joint.
        let (spine, chest) = ((None, vec!["spine".to_owned()]), (None, vec!["chest".to_owned()]));
        let join = |groups: &mut BTreeMap<Key, Vec<usize>>| {
            if let Some(more) = groups.remove(&chest) {
                groups.entry(spine.clone()).or_default().extend(more);
            }
        };
        match (sources.contains_key(&chest), targets.contains_key(&chest)) {
            (true, false) if targets.contains_key(&spine) => join(&mut sources),
            (false, true) if sources.contains_key(&spine) => join(&mut targets),
            _ => {}
        }
        // Those that are plain first: how they are numbered tells how others are.
        let mut both: Vec<(Key, Vec<usize>, Vec<usize>)> = Vec::new();
        for (key, from) in sources {
            if let Some(onto) = targets.remove(&key) {
                both.push((key, from, onto));
            }
        }
        both.sort_by_key(|(_, from, onto)| from.len() != onto.len());
        for (key, mut from, mut onto) in both {
            let part = key.1.iter().map(|word| spoken(word)).collect::<Vec<_>>().join(" ");
            from.sort_by_key(|&at| self.from.depths[at]);
            onto.sort_by_key(|&at| self.onto.depths[at]);
            let chains = self.from.is_chain(&from) && self.onto.is_chain(&onto);
            if from.len() == 1 && onto.len() == 1 {
                if !in_any_shape && self.differ_by_shape(from[0], onto[0]) {
                    continue;
                }
                let side = match key.0 {
                    Some(true) => "left ",
                    Some(false) => "right ",
                    None => "",
                };
                self.push(from[0], onto[0], &format!("both are the {side}{part}"));
            } else if chains {
                self.chain(&from, &onto, &part);
            } else {
                self.by_number(&from, &onto, &part);
            }
        }
    }

    /// Nodes of one name one below the other.
    pub(super) fn chain(&mut self, from: &[usize], onto: &[usize], part: &str) {
        if from.len() == onto.len() {
            let count = from.len();
            for (rank, (&a, &b)) in from.iter().zip(onto).enumerate() {
                self.push(
                    a,
                    b,
                    &if count == 1 { part.to_owned() } else { format!("{part}, {} of {count}", rank + 1) },
                );
            }
            return;
        }
        // Two whole necks are one neck, in other numbers of joints.
        let slot = self.shapes[0].slots[from[0]];
        let is_whole = |shape: &Anatomy, nodes: &[usize]| {
            slot.is_some_and(|slot| shape.parts.get(&slot).is_some_and(|all| all == nodes))
        };
        // Numbers with a hole in them say which joints one of them lacks.
        let is_counted = |body: &Body<'_>, nodes: &[usize]| {
            let mut numbers: Vec<u32> = nodes.iter().map(|&at| body.names[at].number.unwrap_or(0)).collect();
            // One without a number is the first, before a first or before a second.
            if numbers.get(1) == Some(&2) {
                numbers[0] = numbers[0].max(1);
            }
            numbers[0] <= 1 && numbers.windows(2).all(|pair| pair[1] == pair[0] + 1)
        };
        let are_counted = is_counted(self.from, from) && is_counted(self.onto, onto);
        let are_whole = are_counted && is_whole(self.shapes[0], from) && is_whole(self.shapes[1], onto);
        if let Some(aligned) = self.numbered(from, onto).filter(|_| !are_whole) {
            for (a, b) in aligned {
                self.push(a, b, &format!("{part}, by number"));
            }
            return;
        }
        let why = format!("{part}: {} against {}", from.len(), onto.len());
        self.chains.push((from.to_vec(), onto.to_vec(), Confidence::Likely, why));
    }

    /// Pairs of two chains of which the shorter lacks some: by their numbers, counted from where the other pairs of the rigs
    /// say, unless the chains go the same way in another number of steps.
    pub(super) fn numbered(&self, from: &[usize], onto: &[usize]) -> Option<Vec<(usize, usize)>> {
        let numbers = |body: &Body<'_>, nodes: &[usize]| -> Option<Vec<i64>> {
            let numbers: Vec<i64> =
                nodes.iter().map(|&at| body.names[at].number.map_or(0, i64::from)).collect();
            let rises = numbers.windows(2).all(|pair| pair[0] < pair[1]);
            (rises && (nodes.len() > 1 || body.names[nodes[0]].number.is_some())).then_some(numbers)
        };
        let (a, b) = (numbers(self.from, from)?, numbers(self.onto, onto)?);
        // What is added to the source's numbers to get the target's.
        let aligned = |shift: i64| -> Option<Vec<(usize, usize)>> {
            let pairs: Vec<(usize, usize)> = (a.iter().enumerate())
                .filter_map(|(index, number)| {
                    let partner = b.iter().position(|other| *other == number + shift)?;
                    Some((from[index], onto[partner]))
                })
                .collect();
            (pairs.len() == from.len().min(onto.len())).then_some(pairs)
        };
        let votes = |shift: i64| -> usize {
            let vote = |pair: &Found| {
                let (x, y) = (&self.from.names[pair.from], &self.onto.names[pair.onto]);
                let same = x.number.is_some() || y.number.is_some();
                let number = |name: &Name| name.number.map_or(0, i64::from);
                if !same || number(y) - number(x) != shift {
                    return 0;
                }
                if x.words == self.from.names[from[0]].words { 10 } else { 1 }
            };
            self.pairs.iter().map(vote).sum()
        };
        let apart = |a: usize, b: usize| (self.from.places[a] - self.onto.places[b]).length();
        let cost = |pairs: &[(usize, usize)]| {
            pairs.iter().map(|&(a, b)| apart(a, b)).sum::<f64>() / pairs.len() as f64
        };
        let best = (-3..=3)
            .filter_map(|shift| Some((shift, aligned(shift)?)))
            .max_by(|(s, x), (t, y)| votes(*s).cmp(&votes(*t)).then(cost(y).total_cmp(&cost(x))))?;
        let ends = [(from[0], onto[0]), (from[from.len() - 1], onto[onto.len() - 1])];
        let goes_the_same_way = from.len().min(onto.len()) > 1 && cost(&ends) + 0.01 < cost(&best.1);
        (!goes_the_same_way).then_some(best.1)
    }

    /// Several nodes of one name that are no chain, such as fingers: by number and place.
    pub(super) fn by_number(&mut self, from: &[usize], onto: &[usize], part: &str) {
        let mut candidates: Vec<(f64, usize, usize)> = Vec::new();
        for &a in from {
            for &b in onto {
                let apart = (self.from.places[a] - self.onto.places[b]).length();
                let same = self.from.names[a].number == self.onto.names[b].number;
                let depth = self.from.depths[a].abs_diff(self.onto.depths[b]) as f64;
                candidates.push((apart + if same { 0.0 } else { 0.1 } + 0.02 * depth, a, b));
            }
        }
        candidates.sort_by(|a, b| a.0.total_cmp(&b.0).then((a.1, a.2).cmp(&(b.1, b.2))));
        let (mut used_from, mut used_onto) = (HashSet::new(), HashSet::new());
        for (cost, a, b) in candidates {
            if cost < 0.25 && !used_from.contains(&a) && !used_onto.contains(&b) {
                used_from.insert(a);
                used_onto.insert(b);
                self.push(a, b, &format!("{part}, by number and place"));
            }
        }
    }

    /// What names leave open: the nearest place below a known pair, similar names preferred.
    /// The only top nodes of two rigs that have nothing else in common: of a prop and another one.
    pub(super) fn by_top(&mut self) {
        let top = |body: &Body<'_>| {
            let mut tops = (0..body.len()).filter(|at| body.parents[*at].is_none());
            tops.next().filter(|_| tops.next().is_none())
        };
        if self.shapes.iter().all(|shape| shape.parts.is_empty())
            && self.pairs.is_empty()
            && self.chains.is_empty()
            && let (Some(a), Some(b)) = (top(self.from), top(self.onto))
        {
            self.push(a, b, "both are the top of their rigs");
        }
    }

    pub(super) fn by_place(&mut self) {
        loop {
            let (from_used, onto_used) = self.used();
            let partner: HashMap<usize, usize> = self.ends();
            let mut candidates: Vec<(f64, usize, usize)> = Vec::new();
            let above = |body: &Body<'_>, at: usize, known: &dyn Fn(usize) -> bool| {
                body.upwards(at).find(|&at| known(at))
            };
            let onto_known: HashSet<usize> = partner.values().copied().collect();
            for a in (0..self.from.len()).filter(|a| !from_used.contains(a)) {
                if self.from.kind(a).is_support() {
                    continue;
                }
                let top_a = above(self.from, a, &|at| partner.contains_key(&at)).map(|at| partner[&at]);
                for b in (0..self.onto.len()).filter(|b| !onto_used.contains(b)) {
                    // What lies within a bone is no joint of the body.
                    let decorated = (decorates(self.from, a), decorates(self.onto, b));
                    if self.onto.kind(b).is_support()
                        || decorated.0 != decorated.1
                        || above(self.onto, b, &|at| onto_known.contains(&at)) != top_a
                    {
                        continue;
                    }
                    let cost = self.cost(a, b, top_a);
                    if cost < 0.12 {
                        candidates.push((cost, a, b));
                    }
                }
            }
            candidates.sort_by(|a, b| a.0.total_cmp(&b.0).then((a.1, a.2).cmp(&(b.1, b.2))));
            // Only who is the best for each other, from the top down: lower ones depend on what is above them.
            let mut taken = (HashSet::new(), HashSet::new());
            let mut added = Vec::new();
            for &(_, a, b) in &candidates {
                let fresh = taken.0.insert(a) & taken.1.insert(b);
                let over = |list: &Vec<(f64, usize, usize)>| {
                    list.iter().any(|&(_, above, _)| self.from.is_above(above, a))
                };
                if fresh && !over(&candidates) {
                    added.push((a, b));
                }
            }
            if added.is_empty() {
                break;
            }
            for (a, b) in added {
                self.push(a, b, "at the same place below the same pair");
            }
        }
    }

    /// Partners of single pairs and of the last nodes of chains.
    pub(super) fn ends(&self) -> HashMap<usize, usize> {
        let mut partner: HashMap<usize, usize> =
            self.pairs.iter().map(|pair| (pair.from, pair.onto)).collect();
        for (from, onto, ..) in &self.chains {
            if let (Some(&a), Some(&b)) = (from.last(), onto.last()) {
                partner.insert(a, b);
            }
        }
        partner
    }

    /// How badly two nodes fit each other, by place beside the pair above them, name, children and kind.
    pub(super) fn cost(&self, a: usize, b: usize, top_onto: Option<usize>) -> f64 {
        let (here, there) = (self.from.places[a], self.onto.places[b]);
        let top_from = top_onto
            .and_then(|top| self.ends().iter().find(|(_, onto)| **onto == top).map(|(from, _)| *from));
        let apart = match (top_from, top_onto) {
            (Some(top_from), Some(top_onto)) => {
                let beside = (here - self.from.places[top_from]) - (there - self.onto.places[top_onto]);
                beside.length().min((here - there).length())
            }
            _ => (here - there).length(),
        };
        let words = |name: &Name| name.words.join(" ");
        let likeness =
            strsim::normalized_levenshtein(&words(&self.from.names[a]), &words(&self.onto.names[b]));
        let sides = match (self.from.names[a].side, self.onto.names[b].side) {
            (Some(a), Some(b)) if a != b => 1.0,
            _ => 0.0,
        };
        let known = |body: &Body<'_>, at: usize| body.names[at].is_known();
        let other_part = known(self.from, a) && known(self.onto, b);
        let children = self.from.children[a].abs_diff(self.onto.children[b]) as f64;
        apart - 0.03 * likeness
            + 0.03
            + sides
            + 0.005 * children.min(4.0)
            + if other_part { 0.05 } else { 0.0 }
    }

    /// What no name has settled, by shape: the same part of the body on the same side.
    pub(super) fn by_shape(&mut self) {
        let (from_used, onto_used) = self.used();
        let mut slots: Vec<_> =
            self.shapes[0].parts.keys().filter(|slot| self.shapes[1].parts.contains_key(slot)).collect();
        slots.sort_unstable_by_key(|(part, side)| (*part, *side == Some(BodySide::Right)));
        for slot in slots {
            let free = |shape: &Anatomy, used: &HashSet<usize>| -> Vec<usize> {
                shape.parts[slot].iter().copied().filter(|at| !used.contains(at)).collect()
            };
            let (from, onto) = (free(self.shapes[0], &from_used), free(self.shapes[1], &onto_used));
            let all = |shape: &Anatomy| shape.parts[slot].len();
            let is_whole = from.len() == all(self.shapes[0]) && onto.len() == all(self.shapes[1]);
            if from.is_empty() || onto.is_empty() || !(is_whole || from.len() == onto.len()) {
                continue;
            }
            // Plain names of limbs are believed before their shape, which other joints between may have changed.
            let is_limb = slot.1.is_some() || slot.0 == Part::Head;
            if is_limb && from.iter().zip(&onto).any(|(&a, &b)| self.are_other_parts(a, b)) {
                continue;
            }
            self.chain(&from, &onto, &format!("by shape the {}", slot.0.name()));
        }
    }

    /// What was found, by addresses.
    pub(super) fn proposal(
        mut self,
        (from, from_addresses): (&Named<'_>, &Addresses),
        (onto, onto_addresses): (&Named<'_>, &Addresses),
    ) -> Proposal {
        self.pairs.sort_by_key(|pair| pair.from);
        let names = |body: &Body<'_>, named: &Named<'_>, addresses: &Addresses| -> Vec<String> {
            body.ids.iter().map(|&id| named.node(addresses, id)).collect()
        };
        let sources = names(self.from, from, from_addresses);
        let targets = names(self.onto, onto, onto_addresses);
        let source = |at: usize| sources[at].clone();
        let target = |at: usize| targets[at].clone();
        let ends = self.ends();
        let measured = |a: usize, b: usize| {
            let rotation = |body: &Body<'_>, at: usize| decomposed(&body.world[at]).1.normalize();
            let orientation = angle_between(rotation(self.from, a), rotation(self.onto, b));
            // To the nearest pair below both.
            let below = ends
                .iter()
                .filter(|(from, onto)| self.from.is_above(a, **from) && self.onto.is_above(b, **onto))
                .min_by_key(|(from, _)| (self.from.depths[**from], **from));
            let direction = below.and_then(|(&from, &onto)| {
                let point = |body: &Body<'_>, a: usize, b: usize| {
                    (body.world[b].translation - body.world[a].translation).try_normalize()
                };
                let (p, q) = (point(self.from, a, from)?, point(self.onto, b, onto)?);
                Some(p.dot(q).clamp(-1.0, 1.0).acos())
            });
            (orientation, direction)
        };
        let mut listed: Vec<(usize, Proposed)> = Vec::new();
        for pair in &self.pairs {
            let (orientation, direction) = measured(pair.from, pair.onto);
            let proposed = Proposed {
                source: vec![source(pair.from)],
                target: vec![target(pair.onto)],
                sureness: pair.sureness,
                why: pair.why.clone(),
                doubted: pair.doubted,
                orientation,
                direction,
            };
            listed.push((pair.from, proposed));
        }
        for (from, onto, sureness, why) in &self.chains {
            let (Some(&a), Some(&b)) = (from.last(), onto.last()) else { continue };
            let (orientation, direction) = measured(a, b);
            let proposed = Proposed {
                source: from.iter().map(|&at| source(at)).collect(),
                target: onto.iter().map(|&at| target(at)).collect(),
                sureness: *sureness,
                why: why.clone(),
                doubted: false,
                orientation,
                direction,
            };
            listed.push((from[0], proposed));
        }
        listed.sort_by_key(|(at, _)| *at);
        let (from_used, onto_used) = self.used();
        let left = |body: &Body<'_>, used: &HashSet<usize>, name: &dyn Fn(usize) -> String| {
            let all = (0..body.len()).filter(|at| !used.contains(at) && !body.kind(*at).is_support());
            all.map(name).collect()
        };
        let numbers = numbers((from, from_addresses), (onto, onto_addresses));
        Proposal {
            source_left: left(self.from, &from_used, &source),
            target_left: left(self.onto, &onto_used, &target),
            pairs: listed.into_iter().map(|(_, proposed)| proposed).collect(),
            numbers: numbers.pairs,
            numbers_left: numbers.source_left,
            target_numbers_left: numbers.target_left,
            rigs: Vec::new(),
        }
    }
}
