//! The ledger: what became of every channel that an operation touched.

use std::collections::{HashMap, HashSet};

pub use nimble_curve_curves::error::MeasuredError;
use serde::Serialize;

use crate::scene::{Take, Target};
use nimble_curve_curves::value::Quantity;

/// What became of a channel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// The same keys, tangents and controller.
    Kept,
    /// Changed exactly: other names, axes, signs, units, times.
    Exact,
    /// Other keys, within a measured error.
    Refitted,
    /// Turned into samples.
    Sampled,
    /// Not carried over.
    LeftOut,
    /// Stays behind because that was asked for.
    NotSelected,
}

impl Fate {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Fate::Kept => "kept",
            Fate::Exact => "exact",
            Fate::Refitted => "refitted",
            Fate::Sampled => "sampled",
            Fate::LeftOut => "left out",
            Fate::NotSelected => "not selected",
        }
    }

    /// Whether the result has nothing of it.
    pub fn is_gone(self) -> bool {
        matches!(self, Fate::LeftOut | Fate::NotSelected)
    }
}

/// What became of one property of one node.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// The take.
    pub take: String,
    /// The layer.
    pub layer: String,
    /// The channel's address in the source; that of the target where the source has none.
    pub channel: String,
    /// The channel's address in the result, where it is another one.
    pub to: Option<String>,
    /// The property, as the source has it; none where the source has no such property.
    pub target: Option<Target>,
    /// Its fate.
    pub fate: Fate,
    /// The measured error, where there can be one.
    pub error: Option<MeasuredError>,
    /// Keys or sampled numbers before.
    pub before: usize,
    /// Keys or sampled numbers after.
    pub after: usize,
    /// How it was changed, or why it was left out.
    pub note: String,
}

/// What became of everything.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Ledger {
    /// One entry a property and layer.
    pub entries: Vec<Entry>,
    /// What holds for the whole.
    pub notes: Vec<String>,
}

impl Ledger {
    /// How many entries have a fate.
    pub fn count(&self, fate: Fate) -> usize {
        self.entries.iter().filter(|entry| entry.fate == fate).count()
    }

    /// What is wholly left out or not selected, by take and property, with the entry that says why. A property of which a layer is left out
    /// and another one is not is not among it. The position of each entry's take is given, see [`Ledger::takes`].
    pub fn wholly_left_out(&self, takes: &[Option<usize>]) -> Vec<(Option<usize>, &Target, &Entry)> {
        let all = || self.entries.iter().zip(takes);
        let of = |(entry, take): (&'_ Entry, &Option<usize>)| {
            Some((*take, take.is_none().then(|| entry.take.clone()), entry.target.clone()?))
        };
        let mut told: HashSet<_> = all().filter(|(entry, _)| !entry.fate.is_gone()).filter_map(of).collect();
        all()
            .filter(|(entry, _)| entry.fate.is_gone())
            .filter(|one| of(*one).is_some_and(|property| told.insert(property)))
            .filter_map(|(entry, take)| Some((*take, entry.target.as_ref()?, entry)))
            .collect()
    }

    /// The position of each entry's take. Takes in several folders may have one name: what is said of one of its channels and layers for
    /// the second time is about the second of these that has it.
    pub fn takes(&self, takes: &[Take]) -> Vec<Option<usize>> {
        let mut named: HashMap<&str, Vec<usize>> = HashMap::new();
        for (index, take) in takes.iter().enumerate() {
            named.entry(&take.name).or_default().push(index);
        }
        let mut having: HashMap<(&str, &str, &Target), Vec<usize>> = HashMap::new();
        for index in named.values().filter(|all| all.len() > 1).flatten() {
            let take = &takes[*index];
            for (layer, track) in take.tracks() {
                let layer = take.layers[layer].name.as_str();
                having.entry((&take.name, layer, &track.target)).or_default().push(*index);
            }
        }
        let mut told = Told::default();
        let of = |entry: &Entry| match named.get(entry.take.as_str())?.as_slice() {
            [only] => Some(*only),
            several => {
                let nth = told.nth(entry);
                let target = entry.target.as_ref();
                let having = target.and_then(|target| having.get(&(&*entry.take, &*entry.layer, target)));
                having.and_then(|all| all.get(nth)).or(several.get(nth)).or(several.last()).copied()
            }
        };
        self.entries.iter().map(of).collect()
    }

    /// The error over all entries that measure one quantity.
    pub fn error(&self, quantity: Quantity) -> Option<MeasuredError> {
        let mut total: Option<MeasuredError> = None;
        for error in self.entries.iter().filter_map(|entry| entry.error.as_ref()) {
            if error.quantity == quantity && error.count > 0 {
                total.get_or_insert(MeasuredError::none(quantity)).merge(error);
            }
        }
        total
    }

    /// The entry with the largest error of one quantity.
    pub fn worst(&self, quantity: Quantity) -> Option<&Entry> {
        let size = |entry: &Entry| {
            entry.error.filter(|e| e.quantity == quantity && e.count > 0).map(|error| error.largest)
        };
        self.entries
            .iter()
            .filter_map(|entry| Some((size(entry)?, entry)))
            .max_by(|a, b| a.0.total_cmp(&b.0))
            .map(|(_, entry)| entry)
    }

    /// The ledger with lengths in another unit: errors of positions are multiplied by `factor`.
    pub fn with_lengths_scaled(mut self, factor: f64) -> Ledger {
        let errors = self.entries.iter_mut().filter_map(|entry| entry.error.as_mut());
        for error in errors.filter(|error| error.quantity == Quantity::Length) {
            error.largest *= factor;
            error.sum_of_squares *= factor * factor;
        }
        self
    }

    /// The ledger of one operation after another, by take and the channel that the first one left: of two fates the worse
    /// one counts, errors add up at worst, and what was left out stays so. What only one of the two touched is in it, too.
    pub fn followed_by(self, then: Ledger) -> Ledger {
        let mut told = Told::default();
        let mut by_layer: HashMap<(String, String, String, usize), usize> = HashMap::new();
        let mut by_channel: HashMap<(String, String, usize), usize> = HashMap::new();
        for (index, entry) in then.entries.iter().enumerate() {
            let nth = told.nth(entry);
            by_layer.insert((entry.take.clone(), entry.layer.clone(), entry.channel.clone(), nth), index);
            by_channel.insert((entry.take.clone(), entry.channel.clone(), nth), index);
        }
        let mut told = Told::default();
        let mut is_met = vec![false; then.entries.len()];
        let mut join = |first: Entry| {
            let channel = first.to.as_ref().unwrap_or(&first.channel);
            let nth = told.nth(&first);
            let found = by_layer
                .get(&(first.take.clone(), first.layer.clone(), channel.clone(), nth))
                .or_else(|| by_channel.get(&(first.take.clone(), channel.clone(), nth)));
            let Some(&index) = found else { return first };
            is_met[index] = true;
            if first.fate.is_gone() {
                return first;
            }
            let then = &then.entries[index];
            let error = match (first.error, then.error) {
                (Some(a), Some(b)) => Some(MeasuredError { largest: a.largest + b.largest, ..b }),
                (a, b) => a.or(b),
            };
            let notes = [first.note.as_str(), then.note.as_str()];
            let note = match then.fate {
                // How it was changed before says nothing of why.
                fate if fate.is_gone() => then.note.clone(),
                _ => notes.into_iter().filter(|note| !note.is_empty()).collect::<Vec<_>>().join("; "),
            };
            let to = then.to.clone().or(first.to);
            // What went into another track counts there.
            let after = if first.after == 0 && first.before > 0 { 0 } else { then.after };
            Entry { fate: first.fate.max(then.fate), error, after, note, to, ..first }
        };
        let notes = self.notes.into_iter().chain(then.notes.iter().cloned()).collect();
        let mut entries: Vec<Entry> = self.entries.into_iter().map(&mut join).collect();
        let met = is_met.into_iter();
        entries.extend(then.entries.into_iter().zip(met).filter(|(_, met)| !met).map(|(entry, _)| entry));
        Ledger { entries, notes }
    }

    /// Takes in another ledger.
    pub fn extend(&mut self, other: Ledger) {
        self.entries.extend(other.entries);
        self.notes.extend(other.notes);
    }
}

/// How often the same was said: of takes of one name in several folders.
#[derive(Default)]
struct Told(HashMap<(String, String, String, Option<String>), usize>);

impl Told {
    /// How often something was said before of what an entry is about: a channel of a layer, and what it went to.
    fn nth(&mut self, entry: &Entry) -> usize {
        let key = (entry.take.clone(), entry.layer.clone(), entry.channel.clone(), entry.to.clone());
        let count = self.0.entry(key).or_insert(0);
        *count += 1;
        *count - 1
    }
}

#[cfg(test)]
mod tests {
    use nimble_curve_curves::time::{Ticks, TimeRange};

    use super::*;

    fn entry(channel: &str, fate: Fate, error: Option<(Quantity, f64)>, note: &str) -> Entry {
        let error = error.map(|(quantity, largest)| MeasuredError {
            largest,
            count: 1,
            ..MeasuredError::none(quantity)
        });
        Entry {
            take: "take".into(),
            layer: "base".into(),
            channel: channel.into(),
            to: None,
            target: None,
            fate,
            error,
            before: 3,
            after: 2,
            note: note.into(),
        }
    }

    fn ledger(entries: Vec<Entry>) -> Ledger {
        Ledger { entries, notes: Vec::new() }
    }

    #[test]
    fn what_several_channels_went_into_is_said_of_each() {
        let into = |channel: &str| Entry { to: Some("c".into()), ..entry(channel, Fate::Exact, None, "") };
        let then = ledger(vec![entry("c", Fate::Refitted, None, "")]);
        let both = ledger(vec![into("a"), into("b")]).followed_by(then);
        let fates: Vec<_> = both.entries.iter().map(|own| (own.channel.as_str(), own.fate)).collect();
        assert_eq!(fates, [("a", Fate::Refitted), ("b", Fate::Refitted)]);
    }

    #[test]
    fn of_takes_of_one_name_each_has_its_own() {
        let fates = |fates: [Fate; 2]| ledger(fates.map(|fate| entry("a", fate, None, "")).to_vec());
        let both = fates([Fate::Exact, Fate::Kept]).followed_by(fates([Fate::Kept, Fate::LeftOut]));
        let found: Vec<Fate> = both.entries.iter().map(|own| own.fate).collect();
        assert_eq!(found, [Fate::Exact, Fate::LeftOut]);
        let range = TimeRange::new(Ticks(0), Ticks(1));
        let takes = ["take", "other", "take"].map(|name| Take::new(name, range, Vec::new()));
        assert_eq!(both.takes(&takes), [Some(0), Some(2)]);
    }

    #[test]
    fn one_operation_after_another_keeps_what_either_touched() {
        let angle = |size| Some((Quantity::Angle, size));
        let first = ledger(vec![
            entry("a", Fate::Refitted, angle(0.1), "fitted"),
            entry("b", Fate::LeftOut, None, "locked"),
            entry("c", Fate::Kept, None, ""),
            entry("d", Fate::Refitted, angle(0.2), "fitted"),
        ]);
        let then = ledger(vec![
            entry("a", Fate::Exact, angle(0.3), "renamed"),
            entry("b", Fate::Kept, None, ""),
            entry("d", Fate::LeftOut, None, "no partner"),
            entry("e", Fate::Sampled, None, "new"),
        ]);
        let both = first.followed_by(then).entries;
        let said: Vec<(&str, Fate, &str)> =
            both.iter().map(|entry| (entry.channel.as_str(), entry.fate, entry.note.as_str())).collect();
        assert_eq!(
            said,
            [
                ("a", Fate::Refitted, "fitted; renamed"),
                ("b", Fate::LeftOut, "locked"),
                ("c", Fate::Kept, ""),
                // How it was changed before is no reason.
                ("d", Fate::LeftOut, "no partner"),
                ("e", Fate::Sampled, "new"),
            ]
        );
        assert!((both[0].error.unwrap().largest - 0.4).abs() < 1e-12, "errors add up at worst");
    }

    #[test]
    fn another_unit_changes_lengths_alone() {
        let both = ledger(vec![
            entry("a", Fate::Refitted, Some((Quantity::Angle, 0.1)), ""),
            entry("b", Fate::Refitted, Some((Quantity::Length, 0.1)), ""),
        ]);
        let scaled = both.with_lengths_scaled(100.0);
        assert_eq!(scaled.error(Quantity::Angle).unwrap().largest, 0.1);
        assert_eq!(scaled.error(Quantity::Length).unwrap().largest, 10.0);
    }
}
