//! Scenes on their way through the steps of a job: one a source at first, one a clip or take where they are split.

use std::path::Path;
use std::sync::Arc;

use clap::Parser as _;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::clips::keys_of;
use nimble_curve_core::scene::{Scene, Take, take_partners};

use crate::args::{Cli, ClipsAction, ClipsSplit, Command};
use crate::commands::clips::pieces;
use crate::failure::Failure;
use crate::gate::Promise;
use crate::step::StepOutput;

/// A scene on its way.
#[derive(Clone)]
pub struct Item {
    pub take: Option<String>,
    pub clip: Option<String>,
    /// Keys and samples in the source.
    pub before: usize,
    pub worked: StepOutput,
    /// What the last steps that promise something began with.
    pub origin: Option<Arc<Scene>>,
    /// What became of everything in steps before these, judged already.
    pub done: Ledger,
}

impl Item {
    /// The item after one more step. What is promised is judged from the first step on, once it is written; a step that
    /// promises more than that all is the same begins anew, and what came before it is judged now.
    pub fn followed_by(mut self, mut more: StepOutput) -> Result<Item, Failure> {
        let promise = more.promise.take();
        let so_far = self.origin.take().zip(self.worked.promise.take());
        let (origin, promise) = match (so_far, promise) {
            (Some((origin, first)), Some(next)) if next.can_follow() && more.origin.is_none() => {
                more.joins = self.worked.joins;
                (Some(origin), Some(first.then(&next)))
            }
            (so_far, next) => {
                if let Some((origin, first)) = so_far {
                    self.worked.close(&origin, &first, false)?;
                }
                let ledger = std::mem::take(&mut self.worked.ledger);
                self.done = joined(self.done, ledger);
                let began = more.origin.take();
                let began = || began.unwrap_or_else(|| self.worked.scene.clone());
                let origin = next.is_some().then(|| Arc::new(began()));
                // Errors of positions are in units of the scene.
                let factor = self.worked.scene.space.metres_per_unit / more.scene.space.metres_per_unit;
                self.done = self.done.with_lengths_scaled(factor);
                (origin, next)
            }
        };
        let worked = StepOutput { promise, ..followed(self.worked, more) };
        Ok(Item { take: self.take, clip: self.clip, before: self.before, worked, origin, done: self.done })
    }
}

/// One ledger after another, either of which may be empty.
pub fn joined(first: Ledger, then: Ledger) -> Ledger {
    if first.entries.is_empty() && first.notes.is_empty() { then } else { first.followed_by(then) }
}

/// What came of two steps, one after the other.
fn followed(first: StepOutput, mut then: StepOutput) -> StepOutput {
    // Errors of positions are in units of the scene.
    let factor = first.scene.space.metres_per_unit / then.scene.space.metres_per_unit;
    then.ledger = first.ledger.with_lengths_scaled(factor).followed_by(then.ledger);
    then.warnings.splice(0..0, first.warnings);
    then.closing.splice(0..0, first.closing);
    then.pictures.splice(0..0, first.pictures);
    then
}

/// The split that an output with `{clip}` in its name means where no step says one.
pub fn plain_split() -> Result<ClipsSplit, Failure> {
    let cli = Cli::try_parse_from(["nimble-curve", "clips", "split", "--output=-", "--", "-"]);
    match cli.map_err(|error| Failure::new(error.to_string()))?.command {
        Some(Command::Clips(clips)) => match clips.action {
            Some(ClipsAction::Split(args)) => Ok(args),
            _ => Err(Failure::new("clips split is no split")),
        },
        _ => Err(Failure::new("clips split is no command of clips")),
    }
}

/// A scene a clip.
pub fn split(
    items: Vec<Item>,
    args: &ClipsSplit,
    source: &[Take],
    path: &Path,
) -> Result<Vec<Item>, Failure> {
    let mut all = Vec::new();
    for item in items {
        let whole = Arc::new(item.worked.scene.clone());
        let partners = take_partners(source, &whole.takes);
        let said = [&item.worked.ledger, &item.done].map(|ledger| by_takes(ledger, &whole.takes));
        for piece in pieces(args, &item.worked.scene, path)? {
            let [ledger, done] = said.each_ref().map(|of| {
                let mut ledger = of[piece.of].clone();
                ledger.entries.iter_mut().for_each(|entry| entry.take.clone_from(&piece.clip.name));
                ledger
            });
            let (from, promise) = match (&item.origin, &item.worked.promise) {
                (Some(origin), Some(first)) => (Arc::clone(origin), first.then(&piece.promise)),
                _ => (Arc::clone(&whole), piece.promise),
            };
            let worked = StepOutput {
                warnings: item.worked.warnings.clone(),
                promise: Some(promise),
                ..StepOutput::new(piece.scene, ledger.followed_by(piece.ledger))
            };
            // Where the source has this take, its keys in the clip are those that there were.
            let partner = partners[piece.of].map(|own| &source[own]);
            let own = partner.filter(|take| take.name == piece.take);
            let before = own.map_or_else(
                || worked.scene.takes.iter().map(Take::value_count).sum(),
                |take| keys_of(take, piece.clip.range),
            );
            all.push(Item {
                take: Some(piece.take),
                clip: Some(piece.clip.name),
                before,
                worked,
                origin: Some(from),
                done,
            });
        }
        if let Some(first) = all.last_mut() {
            first.worked.pictures.splice(0..0, item.worked.pictures);
        }
    }
    Ok(all)
}

/// A scene a take.
pub fn by_take(item: Item, source: &[Take]) -> Vec<Item> {
    if item.take.is_some() {
        return vec![item];
    }
    let mut pictures = item.worked.pictures;
    let scene = item.worked.scene;
    let partners = take_partners(source, &scene.takes);
    let said = [&item.worked.ledger, &item.done].map(|ledger| by_takes(ledger, &scene.takes));
    let alone = |(index, take): (usize, &Take)| {
        let own = partners[index].map(|own| &source[own]).filter(|own| own.name == take.name);
        let alone = scene.with_only(vec![take.clone()]);
        let promise = item.worked.promise.as_ref().map(|promise| {
            let mut one = Promise::timed(&scene, &alone, &[]);
            // The only take counts as one of another name where a scene has one, too.
            one.claim.spans.retain(|span| scene.takes[span.source].name == take.name);
            one.claim.takes_chosen = true;
            promise.then(&one)
        });
        let worked = StepOutput {
            warnings: item.worked.warnings.clone(),
            pictures: std::mem::take(&mut pictures),
            closing: item.worked.closing.clone(),
            promise,
            ..StepOutput::new(alone, said[0][index].clone())
        };
        let before = own.map_or(item.before, |own| own.value_count());
        Item {
            take: Some(take.name.clone()),
            clip: None,
            before,
            worked,
            origin: item.origin.clone(),
            done: said[1][index].clone(),
        }
    };
    scene.takes.iter().enumerate().map(alone).collect()
}

/// What a ledger says of each take.
fn by_takes(ledger: &Ledger, takes: &[Take]) -> Vec<Ledger> {
    let mut all: Vec<Ledger> =
        takes.iter().map(|_| Ledger { entries: Vec::new(), notes: ledger.notes.clone() }).collect();
    for (entry, take) in ledger.entries.iter().zip(ledger.takes(takes)) {
        if let Some(take) = take {
            all[take].entries.push(entry.clone());
        }
    }
    all
}
