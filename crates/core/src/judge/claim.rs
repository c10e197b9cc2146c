//! Claims: what a result should be, in terms of what it was made of.

use std::collections::{HashMap, HashSet};

use crate::address::NodeRef;
use crate::ledger::{Fate, Ledger};
use crate::scene::{Scene, Target};
use crate::space::AxisMap;
use crate::time::{Ticks, TimeRange};

/// What a result should be. It is made from what was asked for, never from the curves that came of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Claim {
    /// Which stretch of the source each stretch of the result plays.
    pub spans: Vec<Span>,
    /// Which node of the result is which of the source, in order of the result's nodes: its local transform and its
    /// attributes are the same.
    pub nodes: Vec<(NodeRef, NodeRef)>,
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
        let by_order = source.takes.len() == result.takes.len();
        let mut spans = Vec::new();
        for (index, take) in result.takes.iter().enumerate() {
            let named = source.takes.iter().position(|other| other.name == take.name);
            let Some(from) = named.or_else(|| by_order.then_some(index)) else { continue };
            spans.push(Span { source: from, result: index, range: take.range, clock: Clock::SAME });
        }
        let space = AxisMap::between(&source.space, &result.space);
        Claim {
            spans,
            nodes,
            space,
            excuses: Vec::new(),
            by: By::Transforms,
            sampling: Sampling::Plain,
            takes_chosen: false,
        }
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
    pub fn excusing(mut self, source: &Scene, ledger: &Ledger) -> Claim {
        let mut excused: HashSet<(usize, Target)> = HashSet::new();
        let mut kept: HashSet<(usize, &Target)> = HashSet::new();
        let take_of = |name: &str| source.takes.iter().position(|take| take.name == name);
        for entry in &ledger.entries {
            let (Some(target), Some(take)) = (&entry.target, take_of(&entry.take)) else { continue };
            match entry.fate {
                Fate::LeftOut => {
                    if excused.insert((take, target.clone())) {
                        self.excuses.push(Excuse { take, target: target.clone(), why: entry.note.clone() });
                    }
                }
                _ => {
                    kept.insert((take, target));
                }
            }
        }
        // A channel of which a layer is left out and another is not is judged all the same.
        self.excuses.retain(|excuse| !kept.contains(&(excuse.take, &excuse.target)));
        self
    }

    /// This claim, and then another about what was made of its result.
    pub fn then(&self, next: &Claim) -> Claim {
        let back: HashMap<NodeRef, NodeRef> = self.nodes.iter().map(|(from, to)| (*to, *from)).collect();
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
        for excuse in &next.excuses {
            let (rig, node) = (excuse.target.rig, excuse.target.node);
            let Some(&(rig, node)) = back.get(&(rig, node)) else { continue };
            let target = Target { rig, node, property: excuse.target.property.clone() };
            for span in self.spans.iter().filter(|span| span.result == excuse.take) {
                excuses.push(Excuse { take: span.source, target: target.clone(), why: excuse.why.clone() });
            }
        }
        Claim {
            spans,
            nodes,
            space: self.space.then(&next.space),
            excuses,
            by: self.by.max(next.by),
            sampling: self.sampling,
            takes_chosen: self.takes_chosen || next.takes_chosen,
        }
    }
}
