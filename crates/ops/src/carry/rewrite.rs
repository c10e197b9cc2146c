//! Curves that are written in place of those that were carried.

use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Entry, Fate, MeasuredError};
use nimble_curve_scene::scene::{Take, Target, Track};

use super::Job;
use crate::channel::count;

/// A property written anew, with what is said of it and of the layers that it was on beside the base.
pub(super) struct Rewritten {
    pub target: Target,
    pub controller: Controller,
    pub error: MeasuredError,
    pub said: &'static str,
    pub beside: &'static str,
}

impl Job<'_> {
    /// Writes a property of a carried take on its layer `base`, and nowhere else.
    pub(super) fn rewrite(&self, made: &mut Take, entries: &mut Vec<Entry>, base: usize, new: Rewritten) {
        let Rewritten { target, controller, error, said, beside } = new;
        for layer in &mut made.layers {
            layer.tracks.retain(|track| track.target != target);
        }
        let track = Track { target, controller };
        let after = count(&track);
        let address = self.target_addresses.property(&track.target);
        made.layers[base].tracks.push(track);
        let error = Some(error.in_frames(self.source.rate));
        let mut own = entries.iter_mut().filter(|entry| entry.to.as_ref() == Some(&address));
        match own.next() {
            Some(entry) => {
                entry.fate = entry.fate.max(Fate::Refitted);
                (entry.error, entry.after) = (error, after);
                entry.note =
                    if entry.note.is_empty() { said.into() } else { format!("{}; {said}", entry.note) };
                for more in own {
                    more.after = 0;
                    more.note = beside.into();
                }
            }
            None => entries.push(Entry {
                take: made.name.clone(),
                layer: made.layers[base].name.clone(),
                channel: address.clone(),
                to: Some(address),
                target: None,
                fate: Fate::Refitted,
                error,
                before: 0,
                after,
                note: said.into(),
            }),
        }
    }
}
