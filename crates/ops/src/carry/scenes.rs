//! What several rigs in one scene come to together: one take, one ledger.

use std::collections::{HashMap, HashSet};

use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{Layer, Scene, Take};

use super::job::Job;
use super::{CarryOptions, TravelBy};
use crate::channel::count;

/// A take with its layers and nothing on them.
pub(super) fn empty_layers(take: &Take) -> Take {
    let empty = |layer: &Layer| Layer {
        name: layer.name.clone(),
        weight: layer.weight.clone(),
        tracks: Vec::new(),
        ..*layer
    };
    Take { layers: take.layers.iter().map(empty).collect(), ..take.clone() }
}

/// Puts entries in the order in which a take of the source has their channels.
pub(super) fn in_order_of(take: &Take, addresses: &Addresses, entries: &mut [Entry]) {
    let rank: HashMap<(&str, String), usize> = (take.tracks().enumerate())
        .map(|(index, (layer, track))| {
            ((take.layers[layer].name.as_str(), addresses.property(&track.target)), index)
        })
        .collect();
    entries.sort_by_key(|entry| {
        rank.get(&(entry.layer.as_str(), entry.channel.clone())).copied().unwrap_or(usize::MAX)
    });
}

/// Jobs with their travel: by a factor, else by their own legs; what has none goes by those of the first that has some, so that a prop
/// stays with who uses it, and by its height where nobody walks.
pub(super) fn scaled(jobs: Vec<(Job<'_>, bool)>, factor: Option<f64>) -> Vec<Job<'_>> {
    let legs = jobs.iter().find(|(_, walks)| *walks).map(|(job, _)| job.leg_ratio(true));
    let scale = |job: &Job<'_>, walks: bool| match (factor, walks, legs) {
        (Some(factor), ..) => (factor, TravelBy::Factor),
        (None, false, Some((legs, _))) => (legs, TravelBy::Walker),
        (None, walks, _) => job.leg_ratio(walks),
    };
    let scaled = |(job, walks)| {
        let (scale, by) = scale(&job, walks);
        Job { scale, by, ..job }
    };
    jobs.into_iter().map(scaled).collect()
}

/// Entries of tracks on rigs that have no partner, or were not `chosen`.
pub(super) fn without_pair(jobs: &[Job<'_>], take: &Take, chosen: impl Fn(&str) -> bool) -> Vec<Entry> {
    let carries: HashSet<usize> = jobs.iter().map(|job| job.from.index).collect();
    let left = take.tracks().filter(|(_, track)| !carries.contains(&track.target.rig));
    let entry = |(layer, track): (usize, &nimble_curve_scene::scene::Track)| {
        let first = jobs.first()?;
        let (fate, note) = match chosen(&first.source.rigs[track.target.rig].name) {
            true if first.same_rigs => (Fate::NotSelected, "its node goes"),
            true => (Fate::LeftOut, "no rig of the target goes with its own"),
            false => (Fate::NotSelected, "its rig stays behind"),
        };
        Some(first.bare(take, layer, &track.target, count(track), fate, note.to_owned()))
    };
    left.filter_map(entry).collect()
}

/// Names rigs that were chosen and have no partner on the other side.
pub(super) fn list_alone(
    jobs: &[Job<'_>],
    source: &Scene,
    target: &Scene,
    options: &CarryOptions,
    ledger: &mut Ledger,
) {
    let alone = |scene: &Scene, is_left: &dyn Fn(usize, &str) -> bool| -> String {
        let names = scene.rigs.iter().enumerate().filter(|(index, rig)| is_left(*index, &rig.name));
        names.map(|(_, rig)| format!("'{}'", rig.name)).collect::<Vec<_>>().join(", ")
    };
    let from =
        alone(source, &|rig, name| options.takes_rig(name) && !jobs.iter().any(|job| job.from.index == rig));
    let onto = alone(target, &|rig, name| {
        options.takes_target_rig(name) && !jobs.iter().any(|job| job.onto.index == rig)
    });
    if options.same_rigs {
        return;
    }
    for (names, what) in [
        (from, "rigs of the source without a partner"),
        (onto, "rigs of the target that nothing carries onto"),
    ] {
        if !names.is_empty() {
            ledger.notes.push(format!("{what}: {names}"));
        }
    }
}

/// Gives takes other names where the first `own` of them have these already; the names and what they are called now.
pub(super) fn rename_twins(takes: &mut [Take], own: usize) -> Vec<(String, String)> {
    let (kept, fresh) = takes.split_at_mut(own);
    let taken: HashSet<&str> = kept.iter().map(|take| take.name.as_str()).collect();
    let mut renamed = Vec::new();
    for take in fresh.iter_mut().filter(|take| taken.contains(take.name.as_str())) {
        let name = (2..).map(|n| format!("{} {n}", take.name)).find(|name| !taken.contains(name.as_str()));
        let name = name.expect("of endlessly many names one is free");
        renamed.push((std::mem::replace(&mut take.name, name.clone()), name));
    }
    renamed
}
