//! Verdicts: what the judge found, joined to ledgers by property and never by name.

use std::collections::HashMap;
use std::fmt;

use nimble_curve_curves::value::Quantity;

use crate::ledger::{Ledger, MeasuredError};
use crate::rig::{NodeId, OpValue};
use crate::rig::{ROTATION, SCALE, TRANSLATION};
use crate::scene::{Layer, Scene, Target};

/// How far a result may be from its source; infinite where there is no limit.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Limits {
    /// For rotations, in radians.
    pub angle: f64,
    /// For places, in units of the result.
    pub length: f64,
    /// For numbers, scale factors and shear.
    pub number: f64,
    /// For places in the world, in units of the result.
    pub world: f64,
    /// For rotations in the world, in radians.
    pub world_turn: f64,
    /// What the limits are times this between samples: how far a sampled result may be off halfway between its samples, and
    /// how far a result may be out of what a sampled source lets expect between its own, which is said and not held to.
    /// Infinite where that is not asked.
    pub between: f64,
}

impl Limits {
    /// None at all: errors are measured, and everything passes.
    pub const NONE: Limits = Limits {
        angle: f64::INFINITY,
        length: f64::INFINITY,
        number: f64::INFINITY,
        world: f64::INFINITY,
        world_turn: f64::INFINITY,
        between: f64::INFINITY,
    };

    /// The limit for a quantity.
    pub fn of(&self, quantity: Quantity) -> f64 {
        match quantity {
            Quantity::Angle => self.angle,
            Quantity::Length => self.length,
            Quantity::Number => self.number,
        }
    }
}

/// What of a node was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Part {
    /// Its local rotation: the angle.
    Rotation,
    /// Its place beside its parent: the distance.
    Place,
    /// What its local transform makes of the unit axes beside turning them: scale and shear.
    Size,
    /// An attribute.
    Attribute(String),
}

impl Part {
    /// The part of a node's transform, or the attribute, that a property changes.
    pub fn name(&self) -> &str {
        match self {
            Part::Rotation => ROTATION,
            Part::Place => TRANSLATION,
            Part::Size => SCALE,
            Part::Attribute(name) => name,
        }
    }
}

/// What was switched off, and is switched on to see what it would come to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asleep {
    /// A layer, by its name.
    Layer(String),
    /// An entry of a property's stack: the layer that the property is on there, and the entry's name.
    Entry(String, String),
}

impl fmt::Display for Asleep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Asleep::Layer(layer) => write!(f, "the layer '{layer}'"),
            Asleep::Entry(layer, entry) => write!(f, "'{entry}' in the stack of the layer '{layer}'"),
        }
    }
}

/// How far one part of one node is from its source.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// Which of several sources it is about, in the order of their claims.
    pub of: usize,
    /// Which take of the source.
    pub source_take: usize,
    /// Which take of the result.
    pub take: usize,
    /// What it is called in the source.
    pub channel: String,
    /// What was switched on to look at what it would come to; none where it is as it plays.
    pub woken: Option<Asleep>,
    /// Whether it belongs to the node's transform; else it is a number beside that.
    pub of_transform: bool,
    /// The node, as the property of the source that comes nearest to what was looked at.
    pub source: Target,
    /// The same in the result.
    pub result: Target,
    /// What was looked at.
    pub part: Part,
    /// The largest difference, its instant as a fractional frame of the result's rate.
    pub error: MeasuredError,
    /// The largest difference between samples, where that is told apart.
    pub between: Option<MeasuredError>,
    /// Whether that is from what the source's samples let expect, see [`nimble_curve_curves::fit::Readings`]; else from the
    /// source's own curves, or from straight lines between the samples.
    pub by_readings: bool,
}

/// What the judge found.
#[derive(Clone, Debug, PartialEq)]
pub struct Verdict {
    /// What it was held to.
    pub limits: Limits,
    /// What was looked at, and is not the same to the bit without looking.
    pub judged: Vec<Judged>,
    /// How far something was moved on purpose: measured, and held to nothing.
    pub told: Vec<Judged>,
    /// What would be off if something that sleeps were switched on: measured on the nodes where it makes a difference, and said
    /// where it is beyond the limits. It does not play, so that nothing is refused for it.
    pub asleep: Vec<Judged>,
    /// How many parts of nodes are the same to the bit.
    pub same: usize,
    /// The distance of places in the world, with the address of the node that is farthest, as the result has it.
    pub world: Option<(MeasuredError, String)>,
    /// The angle between rotations in the world, where these were claimed, with the node that is farthest.
    pub world_turn: Option<(MeasuredError, String)>,
    /// What was not looked at, and why.
    pub unjudged: Vec<(String, String)>,
    /// What is in the source and not in the result, or the other way round, and should not be.
    pub missing: Vec<String>,
    /// Whether it was looked at keys alone: what lies between them was to change.
    pub at_keys: bool,
}

impl Verdict {
    /// Nothing looked at yet.
    pub fn new(limits: Limits) -> Verdict {
        Verdict {
            limits,
            judged: Vec::new(),
            told: Vec::new(),
            asleep: Vec::new(),
            same: 0,
            world: None,
            world_turn: None,
            unjudged: Vec::new(),
            missing: Vec::new(),
            at_keys: false,
        }
    }

    /// Whether everything is the same without looking.
    pub fn is_unlooked(&self) -> bool {
        self.judged.is_empty()
    }

    /// How many parts of nodes were judged, those that are the same to the bit included.
    pub fn count(&self) -> usize {
        self.judged.len() + self.same
    }

    /// The verdict as one about another of several sources.
    pub fn about(mut self, of: usize) -> Verdict {
        self.judged.iter_mut().chain(&mut self.asleep).for_each(|judged| judged.of = of);
        self
    }

    /// Takes in another verdict.
    pub fn take_in(&mut self, other: Verdict) {
        self.judged.extend(other.judged);
        self.told.extend(other.told);
        self.asleep.extend(other.asleep);
        self.same += other.same;
        self.at_keys |= other.at_keys;
        self.unjudged.extend(other.unjudged);
        self.missing.extend(other.missing);
        let size = |world: &Option<(MeasuredError, String)>| world.as_ref().map_or(-1.0, |w| w.0.largest);
        if size(&other.world) > size(&self.world) {
            self.world = other.world;
        }
        if size(&other.world_turn) > size(&self.world_turn) {
            self.world_turn = other.world_turn;
        }
    }

    /// The worst of what measures a quantity, between samples only where `between`.
    pub fn worst(&self, quantity: Quantity, between: bool) -> Option<(&Judged, MeasuredError)> {
        let of = |judged: &Judged| if between { judged.between } else { Some(judged.error) };
        (self.judged.iter())
            .filter_map(|judged| Some((judged, of(judged)?)))
            .filter(|(_, error)| error.quantity == quantity && error.count > 0)
            .max_by(|a, b| a.1.largest.total_cmp(&b.1.largest))
    }

    /// Puts the errors that were found into a ledger in place of those that it has: entries are found by take, node and
    /// part. What was not looked at has no error, and neither has what is the same to the bit.
    pub fn settle(&self, ledger: &mut Ledger, source: &Scene) {
        self.settled(ledger, source, |judged| (judged.source_take, &judged.source));
    }

    /// The same for a ledger whose entries name properties of the result, where the source is another scene.
    pub fn settle_by_result(&self, ledger: &mut Ledger, result: &Scene) {
        self.settled(ledger, result, |judged| (judged.take, &judged.result));
    }

    fn settled(&self, ledger: &mut Ledger, source: &Scene, of: impl Fn(&Judged) -> (usize, &Target)) {
        let mut found: HashMap<(usize, usize, NodeId, &str, Option<&str>), MeasuredError> = HashMap::new();
        let own = self.judged.iter().chain(&self.asleep).filter(|judged| judged.of == 0);
        for judged in own.chain(&self.told) {
            let (take, &Target { rig, node, .. }) = of(judged);
            let layer = match &judged.woken {
                None => None,
                Some(Asleep::Layer(layer)) => Some(layer.as_str()),
                // The entry of a ledger is about its stack as it plays.
                Some(Asleep::Entry(..)) => continue,
            };
            let whole = found.entry((take, rig, node, judged.part.name(), layer)).or_insert(judged.error);
            if judged.error.largest > whole.largest {
                *whole = judged.error;
            }
        }
        let takes = ledger.takes(&source.takes);
        for (entry, take) in ledger.entries.iter_mut().zip(takes) {
            let (Some(target), Some(take)) = (&entry.target, take) else { continue };
            let node = source.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            let step = node.and_then(|node| node.op(&target.property)).map(|step| step.value);
            let part = match step {
                Some(value) if value.turns() => Part::Rotation.name().to_owned(),
                Some(OpValue::Translate(_)) => Part::Place.name().to_owned(),
                Some(_) => Part::Size.name().to_owned(),
                None => target.property.clone(),
            };
            let sleeps = |layer: &&Layer| layer.name == entry.layer && !layer.is_active();
            let layer = source.takes[take].layers.iter().find(sleeps).map(|layer| layer.name.as_str());
            entry.error = found.get(&(take, target.rig, target.node, part.as_str(), layer)).copied();
            // What sleeps does not play: errors are those of what does, and this is said beside them.
            let is_beyond = |error: &MeasuredError| error.largest > self.limits.of(error.quantity);
            if let Some(error) = entry.error.filter(|error| layer.is_some() && is_beyond(error)) {
                entry.error = None;
                let often = error.largest / self.limits.of(error.quantity);
                let why = format!("switched on it would be {often:.1} times as far off as is allowed");
                let notes = [entry.note.as_str(), &why];
                entry.note = notes.into_iter().filter(|note| !note.is_empty()).collect::<Vec<_>>().join("; ");
            }
        }
    }

    /// What is farthest beyond its limit, relative to that, with the limit; `None` where everything is within.
    pub fn beyond(&self) -> Option<(&Judged, MeasuredError, f64)> {
        let quantities = [Quantity::Angle, Quantity::Length, Quantity::Number];
        let sides = [(false, 1.0), (true, self.limits.between)];
        let excess = |(_, error, factor): &(&Judged, MeasuredError, f64)| {
            error.largest / (factor * self.limits.of(error.quantity)).max(f64::MIN_POSITIVE)
        };
        let (judged, error, factor) = quantities
            .iter()
            .flat_map(|&quantity| {
                // What samples let expect is nobody's knowledge.
                let worst = move |(between, factor)| {
                    let found = self.worst(quantity, between).filter(|(of, _)| !(between && of.by_readings));
                    found.map(|(judged, error)| (judged, error, factor))
                };
                sides.into_iter().filter_map(worst)
            })
            .filter(|(_, error, factor)| error.largest > factor * self.limits.of(error.quantity))
            .max_by(|a, b| excess(a).total_cmp(&excess(b)))?;
        Some((judged, error, factor * self.limits.of(error.quantity)))
    }

    /// What would be beyond its limit if what is named with it were switched on: the farthest of each.
    pub fn asleep_beyond(&self) -> Vec<(&Asleep, &Judged)> {
        let excess = |judged: &Judged| judged.error.largest / self.limits.of(judged.error.quantity);
        let mut worst: Vec<(&Asleep, &Judged)> = Vec::new();
        for judged in self.asleep.iter().filter(|judged| excess(judged) > 1.0) {
            let Some(woken) = &judged.woken else { continue };
            match worst.iter_mut().find(|(own, _)| *own == woken) {
                Some((_, own)) if excess(own) < excess(judged) => *own = judged,
                Some(_) => {}
                None => worst.push((woken, judged)),
            }
        }
        worst
    }

    /// The verdict with lengths in another unit: errors of places and their limits are multiplied by `factor`.
    pub fn with_lengths_scaled(mut self, factor: f64) -> Verdict {
        let scaled = |error: &mut MeasuredError| {
            if error.quantity == Quantity::Length {
                error.largest *= factor;
                error.sum_of_squares *= factor * factor;
            }
        };
        for judged in self.judged.iter_mut().chain(&mut self.told).chain(&mut self.asleep) {
            scaled(&mut judged.error);
            judged.between.iter_mut().for_each(scaled);
        }
        self.world.iter_mut().for_each(|(error, _)| scaled(error));
        self.limits.length *= factor;
        self.limits.world *= factor;
        self
    }

    /// The verdict with instants said otherwise: the frame that `at` makes of a take of the result and a frame of its rate.
    pub fn with_frames(mut self, at: impl Fn(usize, f64) -> f64) -> Verdict {
        for judged in self.judged.iter_mut().chain(&mut self.told).chain(&mut self.asleep) {
            let take = judged.take;
            let errors = std::iter::once(&mut judged.error).chain(&mut judged.between);
            errors.for_each(|error| error.frame = at(take, error.frame));
        }
        for (error, _) in self.world.iter_mut().chain(&mut self.world_turn) {
            error.frame = at(0, error.frame);
        }
        self
    }

    /// How many times its limit the largest error is, 0 where nothing is off.
    pub fn excess(&self) -> f64 {
        let local = self.beyond().map_or(0.0, |(_, error, limit)| error.largest / limit);
        let limit = |error: &MeasuredError| match error.quantity {
            Quantity::Angle => self.limits.world_turn,
            _ => self.limits.world,
        };
        self.world_beyond().map_or(local, |(error, _)| local.max(error.largest / limit(error)))
    }

    /// What is beyond its limit in the world, places first.
    pub fn world_beyond(&self) -> Option<&(MeasuredError, String)> {
        let place = self.world.as_ref().filter(|(error, _)| error.largest > self.limits.world);
        place.or_else(|| self.world_turn.as_ref().filter(|(error, _)| error.largest > self.limits.world_turn))
    }
}
