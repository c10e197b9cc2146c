//! Claims: what a result should be, in terms of what it was made of.

use std::collections::HashMap;
use std::num::NonZeroU32;

use glam::DAffine3;
use nimble_curve_curves::time::{Ticks, TimeRange};

use super::means::{Amount, Edit, Hold, Shift, Standing, Turn};
use crate::address::{Addresses, NodeRef, without_namespace};
use crate::ledger::Ledger;
use crate::scene::{Scene, Target, take_partners};
use crate::space::AxisMap;

/// What a result should be. It is made from what was asked for, never from the curves that came of it.
#[derive(Clone, Debug)]
pub struct Claim {
    /// Which stretch of the source each stretch of the result plays.
    pub spans: Vec<Span>,
    /// Which node of the result is which of the source, in order of the result's nodes: its local transform and its
    /// attributes are the same.
    pub nodes: Vec<(NodeRef, NodeRef)>,
    /// Nodes that turn as the source does, from poses that correspond.
    pub turns: Vec<Turn>,
    /// Nodes that move as the source does, from poses that correspond.
    pub shifts: Vec<Shift>,
    /// Nodes that others hold.
    pub holds: Vec<Hold>,
    /// Numbers that are functions of numbers of the source.
    pub amounts: Vec<Amount>,
    /// Nodes of the source that are the same but for a stated change.
    pub edits: Vec<Edit>,
    /// What stands in the world as it did; the places of all nodes that are the same, where nothing is said.
    pub world: Option<Vec<Standing>>,
    /// How numbers of the source are said in the space of the result.
    pub space: AxisMap,
    /// What the result does not hold, and why.
    pub excuses: Vec<Excuse>,
    /// What of a pair of nodes is the same.
    pub by: By,
    /// What counts as samples.
    pub sampling: Sampling,
    /// Whether takes of the source that no stretch plays were left out on purpose.
    pub takes_chosen: bool,
}

/// What of a claim's scenes counts as samples, between which nobody knows the motion.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Sampling {
    /// Baked data, and curves with straight lines at every step. A sampled source is looked at where its samples are.
    #[default]
    Plain,
    /// Curves of the source with a key at every step as well, whatever lies between: they are to be fitted.
    KeysOfSource,
    /// A sampled result is looked at where its own samples are, or its keys where it is a curve, whatever the source is: it
    /// was asked for.
    Result,
    /// The source is looked at at whole frames: at these it was sampled to be fitted anew.
    Frames,
    /// The source is looked at at its keys: what lies between them was to change.
    Keys,
    /// The result is looked at on every so many frames from the first of a stretch, and on its last: keys there were asked for,
    /// whatever lies between.
    EachNth(NonZeroU32),
}

/// What is compared of two nodes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum By {
    /// What all steps of their transforms come to, whichever these are.
    #[default]
    Transforms,
    /// Each property that is animated, as a table without rigs holds them.
    Properties,
}

/// A stretch of a take of the result.
#[derive(Clone, Debug, PartialEq)]
pub struct Span {
    /// Which take of the source.
    pub source: usize,
    /// Which take of the result.
    pub result: usize,
    /// When, in the result's time, both ends included.
    pub range: TimeRange,
    /// What the source's time is then.
    pub clock: Clock,
}

/// The time of the source as a function of that of the result.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Clock {
    /// An instant of the result.
    pub result: Ticks,
    /// The same instant in the source.
    pub source: Ticks,
    /// How many ticks of the source go by in a tick of the result.
    pub speed: f64,
}

impl Clock {
    /// The same time in both.
    pub const SAME: Clock = Clock { result: Ticks::ZERO, source: Ticks::ZERO, speed: 1.0 };

    /// A result that plays earlier or later: what the source has at `source` it has at `result`.
    pub fn shifted(source: Ticks, result: Ticks) -> Clock {
        Clock { result, source, speed: 1.0 }
    }

    /// The source's time at a time of the result, in ticks.
    pub fn source_at(&self, result: f64) -> f64 {
        (result - self.result.as_f64()) * self.speed + self.source.as_f64()
    }

    /// The result's time at a time of the source, in ticks.
    pub fn result_at(&self, source: f64) -> f64 {
        (source - self.source.as_f64()) / self.speed + self.result.as_f64()
    }

    /// Whether both have the same time.
    pub fn is_same(&self) -> bool {
        self.result == self.source && self.speed == 1.0
    }

    /// This clock, and then one from its result to another.
    pub fn then(&self, next: &Clock) -> Clock {
        let middle = next.source.as_f64();
        Clock {
            result: next.result,
            source: Ticks(self.source_at(middle).round() as i64),
            speed: self.speed * next.speed,
        }
    }
}

/// A property of the source that the result does not hold, for a stated reason.
#[derive(Clone, Debug, PartialEq)]
pub struct Excuse {
    /// Which take of the source.
    pub take: usize,
    /// The property.
    pub target: Target,
    /// Why.
    pub why: String,
    /// The layer that is muted, or of weight 0, and of whose part in it alone that is said; none where the property itself is meant.
    pub layer: Option<String>,
}

impl Excuse {
    /// An excuse for a property.
    pub fn new(take: usize, target: Target, why: impl Into<String>) -> Excuse {
        Excuse { take, target, why: why.into(), layer: None }
    }

    /// An excuse for what is not in the result; none where all tracks of the property are muted: it rests then, and has to
    /// rest in the result.
    pub fn of(source: &Scene, take: usize, target: &Target, why: String) -> Option<Excuse> {
        let of = source.takes.get(take)?;
        let is_muted = of.tracks().any(|(_, track)| track.target == *target)
            && !of.active_tracks().any(|(_, track)| track.target == *target);
        (!is_muted).then(|| Excuse::new(take, target.clone(), why))
    }
}

impl Claim {
    /// That a result is the same motion: nodes keep their places in rigs, takes their names or, where they were renamed,
    /// their order; all of it is claimed over the result's ranges. The two may be in different spaces.
    pub fn same(source: &Scene, result: &Scene) -> Claim {
        let mut nodes = Vec::new();
        for (rig, of) in result.rigs.iter().enumerate() {
            let Some(from) = source.rigs.get(rig) else { continue };
            let both = of.nodes().filter(|(id, _)| from.node(*id).is_some());
            nodes.extend(both.map(|(id, _)| ((rig, id), (rig, id))));
        }
        let mut spans = Vec::new();
        let partners = take_partners(&source.takes, &result.takes);
        for ((index, take), from) in result.takes.iter().enumerate().zip(partners) {
            let Some(from) = from else { continue };
            spans.push(Span { source: from, result: index, range: take.range, clock: Clock::SAME });
        }
        let space = AxisMap::between(&source.space, &result.space);
        Claim { spans, nodes, space, ..Claim::nothing() }
    }

    /// A claim that says nothing yet.
    pub fn nothing() -> Claim {
        Claim {
            spans: Vec::new(),
            nodes: Vec::new(),
            turns: Vec::new(),
            shifts: Vec::new(),
            holds: Vec::new(),
            amounts: Vec::new(),
            edits: Vec::new(),
            world: None,
            space: AxisMap::IDENTITY,
            excuses: Vec::new(),
            by: By::Transforms,
            sampling: Sampling::Plain,
            takes_chosen: false,
        }
    }

    /// Whether it says of nodes that they are the same and nothing else, so that it can follow any other claim.
    pub fn is_plain(&self) -> bool {
        let follows = self.turns.is_empty() && self.shifts.is_empty() && self.amounts.is_empty();
        follows && self.holds.is_empty() && self.edits.is_empty() && self.world.is_none()
    }

    /// This claim and what another one, of the same stretches, says of other nodes.
    pub fn with_nodes_of(mut self, other: Claim) -> Claim {
        self.nodes.extend(other.nodes);
        self.turns.extend(other.turns);
        self.shifts.extend(other.shifts);
        self.holds.extend(other.holds);
        self.amounts.extend(other.amounts);
        self.edits.extend(other.edits);
        self.excuses.extend(other.excuses);
        self.world = match (self.world, other.world) {
            (Some(own), Some(more)) => Some(own.into_iter().chain(more).collect()),
            (one, other) => one.or(other),
        };
        self
    }

    /// That a result is the same motion as another scene, in which nodes go by the same addresses, or by the same ones
    /// without namespaces; takes by their names, or the only ones.
    pub fn same_by_address(source: &Scene, result: &Scene) -> Claim {
        let (from, onto) = (Addresses::new(source), Addresses::new(result));
        let mut bare: HashMap<&str, Option<NodeRef>> = HashMap::new();
        for node in onto.nodes() {
            let name = without_namespace(onto.node(*node));
            bare.entry(name).and_modify(|found| *found = None).or_insert(Some(*node));
        }
        let partner = |node: &NodeRef| {
            let text = from.node(*node);
            let same = || bare.get(without_namespace(text)).copied().flatten();
            Some((*node, onto.find(text).ok().or_else(same)?))
        };
        let mut nodes: Vec<(NodeRef, NodeRef)> = from.nodes().iter().filter_map(partner).collect();
        nodes.sort_by_key(|(_, own)| *own);
        nodes.dedup_by_key(|(_, own)| *own);
        Claim { nodes, ..Claim::same(source, result) }
    }

    /// That a result is the same motion as [`Claim::same`] has it, by another clock for each take; the clocks are in order of
    /// the result's takes.
    pub fn with_clocks(mut self, clocks: &[Clock]) -> Claim {
        for span in &mut self.spans {
            span.clock = clocks.get(span.result).copied().unwrap_or(Clock::SAME);
        }
        self
    }

    /// That the only take of a result is a stretch of a take of the source, which begins at `from` there.
    pub fn part(source: &Scene, take: usize, result: &Scene, from: Ticks) -> Claim {
        let mut claim = Claim { takes_chosen: true, ..Claim::same(source, result) };
        claim.spans.clear();
        if let Some(made) = result.takes.first() {
            let clock = Clock::shifted(from, made.range.first);
            claim.spans.push(Span { source: take, result: 0, range: made.range, clock });
        }
        claim
    }

    /// The claim, with what a ledger says was left out: that is as it is, for a reason that was given.
    pub fn excusing(self, source: &Scene, ledger: &Ledger) -> Claim {
        self.excusing_by(source, ledger, &ledger.takes(&source.takes))
    }

    /// The same of a ledger that is about one take of the source, however it calls that.
    pub fn excusing_take(self, source: &Scene, take: usize, ledger: &Ledger) -> Claim {
        self.excusing_by(source, ledger, &vec![Some(take); ledger.entries.len()])
    }

    fn excusing_by(mut self, source: &Scene, ledger: &Ledger, takes: &[Option<usize>]) -> Claim {
        let found = ledger
            .wholly_left_out(takes)
            .into_iter()
            .filter_map(|(take, target, entry)| Excuse::of(source, take?, target, entry.note.clone()));
        self.excuses.extend(found);
        // What is left out of a layer that sleeps is missed where the layer is switched on.
        let gone = ledger.entries.iter().zip(takes).filter(|(entry, _)| entry.fate.is_gone());
        let of_layers = gone.filter_map(|(entry, take)| {
            let take = (*take)?;
            let layer = source.takes[take].layers.iter().find(|layer| layer.name == entry.layer)?;
            let target = entry.target.clone().filter(|_| !layer.is_active())?;
            Some(Excuse { layer: Some(layer.name.clone()), ..Excuse::new(take, target, entry.note.clone()) })
        });
        self.excuses.extend(of_layers);
        self
    }

    /// This claim, and then another about what was made of its result, which says that nodes are the same and nothing else.
    pub fn then(&self, next: &Claim) -> Claim {
        debug_assert!(next.is_plain(), "what is more than the same is judged by itself");
        let mut back: HashMap<NodeRef, NodeRef> = self.nodes.iter().map(|(from, to)| (*to, *from)).collect();
        let nodes: Vec<(NodeRef, NodeRef)> =
            next.nodes.iter().filter_map(|(middle, to)| Some((*back.get(middle)?, *to))).collect();
        let mut spans = Vec::new();
        for after in &next.spans {
            for before in self.spans.iter().filter(|before| before.result == after.source) {
                let edge = |time: Ticks| Ticks(after.clock.result_at(time.as_f64()).round() as i64);
                let first = after.range.first.max(edge(before.range.first));
                let last = after.range.last.min(edge(before.range.last));
                if first > last {
                    continue;
                }
                spans.push(Span {
                    source: before.source,
                    result: after.result,
                    range: TimeRange::new(first, last),
                    clock: before.clock.then(&after.clock),
                });
            }
        }
        let mut excuses = self.excuses.clone();
        for turn in &self.turns {
            back.entry(turn.result).or_insert(turn.source);
        }
        for excuse in &next.excuses {
            let amount = self.amounts.iter().find(|amount| amount.result == excuse.target);
            let target = match (amount, back.get(&(excuse.target.rig, excuse.target.node))) {
                (Some(amount), _) => amount.source.clone(),
                (None, Some(&(rig, node))) => Target { rig, node, property: excuse.target.property.clone() },
                (None, None) => continue,
            };
            for span in self.spans.iter().filter(|span| span.result == excuse.take) {
                excuses.push(Excuse { take: span.source, target: target.clone(), ..excuse.clone() });
            }
        }
        let onward: HashMap<NodeRef, NodeRef> = next.nodes.iter().copied().collect();
        let turn = |turn: &Turn| {
            let beside = match turn.beside {
                Some(node) => Some(*onward.get(&node)?),
                None => None,
            };
            let (before, after) = (next.space.rotation(turn.before), next.space.rotation(turn.after));
            Some(Turn { result: *onward.get(&turn.result)?, beside, before, after, ..turn.clone() })
        };
        let shift = |shift: &Shift| {
            let before = next.space.affine(DAffine3::from_mat3(shift.before)).matrix3;
            let reference = next.space.length(shift.reference);
            Some(Shift { result: *onward.get(&shift.result)?, before, reference, ..shift.clone() })
        };
        let hold = |hold: &Hold| {
            let result = (*onward.get(&hold.result.0)?, *onward.get(&hold.result.1)?);
            let references = (hold.references.0, next.space.rotation(hold.references.1));
            Some(Hold { result, references, base: shift(&hold.base)?, ..hold.clone() })
        };
        let amount = |amount: &Amount| {
            let (rig, node) = *onward.get(&(amount.result.rig, amount.result.node))?;
            let result = Target { rig, node, property: amount.result.property.clone() };
            Some(Amount { result, out: amount.out.then(&next.space), ..amount.clone() })
        };
        let standing = |standing: &Standing| {
            let references = standing.references.map(|(from, own)| (from, next.space.rotation(own)));
            Some(Standing { result: *onward.get(&standing.result)?, references, ..standing.clone() })
        };
        Claim {
            spans,
            nodes,
            turns: self.turns.iter().filter_map(turn).collect(),
            shifts: self.shifts.iter().filter_map(shift).collect(),
            holds: self.holds.iter().filter_map(hold).collect(),
            amounts: self.amounts.iter().filter_map(amount).collect(),
            edits: self.edits.clone(),
            world: self.world.as_ref().map(|world| world.iter().filter_map(standing).collect()),
            space: self.space.then(&next.space),
            excuses,
            by: self.by.max(next.by),
            sampling: self.sampling,
            takes_chosen: self.takes_chosen || next.takes_chosen,
        }
    }
}
