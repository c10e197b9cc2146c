//! The controllers of a scene turned into another type, each for itself.

use nimble_curve_scene::address::{Addresses, matches};
use nimble_curve_scene::ledger::{Entry, Ledger};
use nimble_curve_scene::scene::{Scene, Track};

use super::channel::{Tolerance, count, each_track, keys_added, property};
use super::conversion::{ControllerType, ConversionContext, convert_controller};
use super::mixing::{share, stays_mixed};

/// How to turn the controllers of a scene into another form.
#[derive(Clone, Debug)]
pub struct ConvertOptions {
    /// What to turn them into.
    pub form: ControllerType,
    /// Patterns of the channels to turn, by address; all where there are none.
    pub only: Vec<String>,
    /// How far the result may be from its source.
    pub tolerance: Tolerance,
}

/// Turns the controllers of all takes into another form; what has no such form stays as it is, and the ledger says why.
pub fn convert_controllers(scene: &Scene, options: &ConvertOptions) -> (Scene, Ledger) {
    let addresses = Addresses::new(scene);
    each_track(scene, &addresses, |books, layer, track| {
        let kept = |note: String| (Some(track.clone()), Some(Entry { note, ..books.kept(layer, track) }));
        let channel = addresses.property(&track.target);
        let chosen = options.only.is_empty() || options.only.iter().any(|only| matches(only, &channel));
        let Some((kind, rest)) = property(scene, books.take, layer, track).filter(|_| chosen) else {
            return kept(String::new());
        };
        let tolerance =
            options.tolerance.of(kind.quantity(), &scene.space) * share(books.take, &track.target, kind);
        let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range: books.take.range };
        match convert_controller(&track.controller, options.form, &setting) {
            Err(why) => kept(format!("stays {}: {why}", track.controller.type_name())),
            Ok(changed)
                if !stays_mixed(
                    books.take,
                    layer,
                    &track.target,
                    kind,
                    &track.controller,
                    &changed.controller,
                ) =>
            {
                kept("layers mix its angles one by one: flatten them first".into())
            }
            Ok(changed) => {
                let new = Track { target: track.target.clone(), controller: changed.controller };
                let error = changed.error.map(|error| error.in_frames(scene.rate));
                let note = keys_added(count(&new).saturating_sub(count(track)));
                let entry = books.changed(layer, track, changed.fate, count(&new), error, note);
                (Some(new), Some(entry))
            }
        }
    })
}
